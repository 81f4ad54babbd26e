package example.larkfield.orchard.ui

import android.app.Activity

class Trees : Activity() {
    override fun onCreate(state: android.os.Bundle?) {
        super.onCreate(state)
        /* Old.start(this) */
        Branches.start(this, "Roots.start(this)")
        setContentView(R.layout.trees)
    }

    override fun onActivityResult(code: Int, result: Int, data: android.content.Intent?) {
        Branches.result(code, data)
    }
}
