package example.larkfield.tern_crossing

import io.flutter.embedding.android.FlutterActivity

class MainActivity : FlutterActivity()
