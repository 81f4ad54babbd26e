package example.larkfield.hivelog

import android.app.Application
import android.util.Log

class HivelogApplication : Application() {

    override fun onCreate() {
        super.onCreate()
        Log.i("Hivelog", "started")
    }
}
