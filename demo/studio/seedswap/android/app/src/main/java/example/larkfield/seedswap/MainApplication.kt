package example.larkfield.seedswap

import android.app.Application
class MainApplication : Application() {
  override fun onCreate() {
    super.onCreate()
    loadReactNative(this)
  }
}
