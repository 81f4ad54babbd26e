plugins {
    alias(libs.plugins.android.application)
    alias(libs.plugins.kotlin.android)
}

android {
    namespace = "example.larkfield.hivelog"
    compileSdk = libs.versions.target.sdk.get().toInt()

    defaultConfig {
        applicationId = "example.larkfield.hivelog"
        minSdk = libs.versions.min.sdk.get().toInt()
        targetSdk = libs.versions.target.sdk.get().toInt()
        versionCode = 14
        versionName = "2.3"
    }

    signingConfigs {
        getByName("debug") {
            storeFile = rootProject.file("keystores/debug.keystore")
            storePassword = "android"
            keyAlias = "androiddebugkey"
            keyPassword = "android"
        }
        create("release") {
            storeFile = rootProject.file("keystores/release.keystore")
            storePassword = providers.environmentVariable("HIVELOG_STORE_PASSWORD").orNull
            keyAlias = "hivelog"
            keyPassword = providers.environmentVariable("HIVELOG_STORE_PASSWORD").orNull
        }
    }

    buildTypes {
        debug {
            // Installs beside the shop's version.
            applicationIdSuffix = ".debug"
            versionNameSuffix = "-debug"
        }
        release {
            isMinifyEnabled = true
            signingConfig = signingConfigs.getByName("release")
            proguardFiles(getDefaultProguardFile("proguard-android-optimize.txt"), "proguard-rules.pro")
        }
    }

    compileOptions {
        sourceCompatibility = JavaVersion.VERSION_17
        targetCompatibility = JavaVersion.VERSION_17
    }
}

kotlin {
    jvmToolchain(17)
}

dependencies {
    implementation(libs.androidx.core.ktx)
    implementation(libs.androidx.activity)
}
