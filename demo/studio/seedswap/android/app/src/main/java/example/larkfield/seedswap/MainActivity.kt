package example.larkfield.seedswap

import com.facebook.react.ReactActivity

class MainActivity : ReactActivity() {
  override fun getMainComponentName(): String = "Seedswap"
}
