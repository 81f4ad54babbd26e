plugins {
    `java-library`
}

// android { defaultConfig { applicationId = "no.app" } }
