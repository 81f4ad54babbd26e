plugins {
    alias(libs.plugins.orchard.app)
}

android {
    namespace = "example.larkfield.orchard.ui"
    flavorDimensions += listOf("tree", "store")

    defaultConfig {
        applicationId = Orchard.Ids.APP
        minSdk = libs.versions.min.sdk.get().toInt()
        versionCode = 12
        versionName = "1.2"
        manifestPlaceholders["scheme"] = "orchard-${property("orchard.channel")}"
        buildConfigField("String", "CHANNEL", "\"field\"")
    }

    productFlavors {
        create("apple") {
            dimension = "tree"
        }
        create("pear") {
            dimension = "tree"
            applicationId = "example.larkfield.pears"
            minSdk = 28
            resValue("string", "app_name", "Pears")
        }
        create("market") {
            dimension = "store"
            applicationIdSuffix = ".market"
            versionNameSuffix = "-m"
        }
        create("direct") {
            dimension = "store"
        }
    }

    signingConfigs {
        create("release") {
            storeFile = rootProject.file(findProperty("signingFile") as String)
            storePassword = providers.environmentVariable("ORCHARD_PASSWORD").orNull
            keyAlias = "orchard"
        }
    }

    buildTypes {
        getByName("release") {
            signingConfig = signingConfigs.getByName("release")
        }
        create("beta") {
            initWith(getByName("release"))
            applicationIdSuffix = ".beta"
            manifestPlaceholders["mapsKey"] = if (hasProperty("betaMaps")) "beta-a" else "beta-b"
        }
    }

    sourceSets {
        getByName("main") {
            res.srcDirs("src/main/res", "branding/res")
        }
        getByName("debug").setRoot("kinds/debug")
        named("pear") {
            manifest.srcFile("pear/PearManifest.xml")
        }
    }
}

androidComponents {
    beforeVariants(selector().withFlavor("tree" to "pear")) {
        if (it.buildType == "beta") it.enable = false
    }
}

dependencies {
    implementation(libs.apple.core)
    implementation(libs.pear.net)
    implementation(projects.features.shareSheet)
    debugImplementation("example.orchard:leaks:2.0")
}
