import 'package:flutter/widgets.dart';

import 'timetable.dart';

// runApp(const Placeholder());
Future<void> main() async {
  WidgetsFlutterBinding.ensureInitialized();
  await Timetable.load();
  runApp(const TernCrossing());
}
