plugins {
    id("com.android.application")
}

android {
    compileSdk = 35
    defaultConfig {
        minSdk = 26
        targetSdk = 34
        manifestPlaceholders += mapOf("mapsKey" to "from-plugin", "scheme" to "orchard")
    }
    buildTypes {
        debug {
            applicationIdSuffix = ".dev"
        }
    }
}
