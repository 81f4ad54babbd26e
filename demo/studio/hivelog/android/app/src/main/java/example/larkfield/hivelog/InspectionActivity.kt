package example.larkfield.hivelog

import android.os.Bundle
import androidx.activity.ComponentActivity

class InspectionActivity : ComponentActivity() {

    override fun onCreate(savedInstanceState: Bundle?) {
        super.onCreate(savedInstanceState)
        setContentView(R.layout.inspections)
    }
}
