plugins {
    id("com.android.library")
}

android {
    namespace = "example.larkfield.orchard.share"
}
