package example.larkfield.seedswap

class MainActivity : ReactActivity() {
  override fun getMainComponentName(): String = "Seedswap"
}
