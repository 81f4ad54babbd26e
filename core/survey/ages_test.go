package survey

import (
	"strings"
	"testing"
)

// Project templates of several ages: what was usual when they were made must be read as well as what is usual now.
func TestTemplatesOfSeveralAges(t *testing.T) {
	for name, c := range map[string]struct {
		files map[string]string
		want  string // variant or configuration and facts, joined by blanks
	}{
		"Android before namespaces": {map[string]string{
			"settings.gradle":                     "include ':app'",
			"build.gradle":                        "buildscript {\n repositories { jcenter() }\n dependencies { classpath 'com.android.tools.build:gradle:2.3.3' }\n}\nallprojects { repositories { jcenter() } }",
			"app/build.gradle":                    "apply plugin: 'com.android.application'\nandroid {\n compileSdkVersion 25\n buildToolsVersion \"25.0.3\"\n defaultConfig {\n applicationId \"example.old.app\"\n minSdkVersion 15\n targetSdkVersion 25\n }\n buildTypes { release { minifyEnabled false\n proguardFiles getDefaultProguardFile('proguard-android.txt'), 'proguard-rules.pro' } }\n}\ndependencies { compile fileTree(dir: 'libs', include: ['*.jar'])\n androidTestCompile('com.android.support.test.espresso:espresso-core:2.2.2', { exclude group: 'com.android.support' }) }",
			"app/src/main/AndroidManifest.xml":    `<manifest package="example.old.code" xmlns:android="http://schemas.android.com/apk/res/android"><application android:label="@string/n"><activity android:name=".Main"><intent-filter><action android:name="android.intent.action.MAIN"/><category android:name="android.intent.category.LAUNCHER"/></intent-filter></activity></application></manifest>`,
			"app/src/main/res/values/strings.xml": "<resources><string name='n'>Old</string></resources>",
		}, "debug example.old.app ns=example.old.code min=15 launcher=example.old.code.Main name=Old | release example.old.app ns=example.old.code min=15 launcher=example.old.code.Main name=Old"},
		"Eclipse's layout": {map[string]string{
			"build.gradle":        "apply plugin: 'android'\nandroid {\n compileSdkVersion 19\n sourceSets { main {\n manifest.srcFile 'AndroidManifest.xml'\n java.srcDirs = ['src']\n res.srcDirs = ['res']\n } } }",
			"AndroidManifest.xml": `<manifest package="example.older" xmlns:android="http://schemas.android.com/apk/res/android"><uses-sdk android:minSdkVersion="9" android:targetSdkVersion="19"/><application android:label="@string/n"><activity android:name="Main"><intent-filter><action android:name="android.intent.action.MAIN"/><category android:name="android.intent.category.LAUNCHER"/></intent-filter></activity></application></manifest>`,
			"res/values/s.xml":    "<resources><string name='n'>Older</string></resources>",
		}, "debug example.older ns=example.older min=9 launcher=example.older.Main name=Older | release example.older ns=example.older min=9 launcher=example.older.Main name=Older"},
		"Flutter with the script plugin": {map[string]string{
			"pubspec.yaml":                             "name: app\ndependencies:\n  flutter:\n    sdk: flutter\n",
			"android/settings.gradle":                  "include ':app'\ndef flutterProjectRoot = rootProject.projectDir.parentFile.toPath()\ndef plugins = new Properties()\n",
			"android/build.gradle":                     "buildscript { ext.kotlin_version = '1.3.50' }\nsubprojects { project.buildDir = \"${rootProject.buildDir}/${project.name}\" }",
			"android/app/build.gradle":                 "def localProperties = new Properties()\ndef localPropertiesFile = rootProject.file('local.properties')\nif (localPropertiesFile.exists()) {\n localPropertiesFile.withReader('UTF-8') { reader -> localProperties.load(reader) }\n}\ndef flutterRoot = localProperties.getProperty('flutter.sdk')\nif (flutterRoot == null) {\n throw new GradleException(\"Flutter SDK not found.\")\n}\napply plugin: 'com.android.application'\napply plugin: 'kotlin-android'\napply from: \"$flutterRoot/packages/flutter_tools/gradle/flutter.gradle\"\nandroid {\n compileSdkVersion 28\n sourceSets { main.java.srcDirs += 'src/main/kotlin' }\n lintOptions { disable 'InvalidPackage' }\n defaultConfig {\n // TODO: Specify your own unique Application ID\n applicationId \"example.flu\"\n minSdkVersion 16\n targetSdkVersion 28\n }\n buildTypes { release { signingConfig signingConfigs.debug } }\n}",
			"android/app/src/main/AndroidManifest.xml": `<manifest package="example.flu" xmlns:android="http://schemas.android.com/apk/res/android"><application android:name="io.flutter.app.FlutterApplication" android:label="flu"><activity android:name=".MainActivity"><intent-filter><action android:name="android.intent.action.MAIN"/><category android:name="android.intent.category.LAUNCHER"/></intent-filter></activity></application></manifest>`,
		}, "debug example.flu ns=example.flu min=16 launcher=example.flu.MainActivity name=flu | release example.flu ns=example.flu min=16 launcher=example.flu.MainActivity name=flu | profile example.flu ns=example.flu min=16 launcher=example.flu.MainActivity name=flu"},
		"Flutter of today in Kotlin": {map[string]string{
			"pubspec.yaml":                 "name: app\ndependencies:\n  flutter:\n    sdk: flutter\n",
			"android/settings.gradle.kts":  "pluginManagement {\n val flutterSdkPath = run {\n val properties = java.util.Properties()\n file(\"local.properties\").inputStream().use { properties.load(it) }\n val flutterSdkPath = properties.getProperty(\"flutter.sdk\")\n require(flutterSdkPath != null) { \"flutter.sdk not set in local.properties\" }\n flutterSdkPath\n }\n includeBuild(\"$flutterSdkPath/packages/flutter_tools/gradle\")\n}\nplugins { id(\"dev.flutter.flutter-plugin-loader\") version \"1.0.0\"\n id(\"com.android.application\") version \"8.7.0\" apply false }\ninclude(\":app\")",
			"android/build.gradle.kts":     "val newBuildDir: Directory = rootProject.layout.buildDirectory.dir(\"../../build\").get()\nrootProject.layout.buildDirectory.value(newBuildDir)\nsubprojects { project.evaluationDependsOn(\":app\") }",
			"android/app/build.gradle.kts": "plugins {\n id(\"com.android.application\")\n id(\"kotlin-android\")\n id(\"dev.flutter.flutter-gradle-plugin\")\n}\nandroid {\n namespace = \"example.flu\"\n compileSdk = flutter.compileSdkVersion\n defaultConfig {\n applicationId = \"example.flu.id\"\n minSdk = flutter.minSdkVersion\n versionName = flutter.versionName\n }\n buildTypes { release { signingConfig = signingConfigs.getByName(\"debug\") } }\n}\nflutter { source = \"../..\" }",
		}, "debug example.flu.id ns=example.flu min=? launcher= name= | release example.flu.id ns=example.flu min=? launcher= name= | profile example.flu.id ns=example.flu min=? launcher= name="},
		"a JavaScript framework of 2019": {map[string]string{
			"package.json":                             `{"dependencies": {"react": "16.8.3", "react-native": "0.59.9", "hand-made": "1.0.0"}}`,
			"android/settings.gradle":                  "rootProject.name = 'App'\ninclude ':hand-made'\nproject(':hand-made').projectDir = new File(rootProject.projectDir, '../node_modules/hand-made/android')\ninclude ':app'",
			"android/build.gradle":                     "buildscript {\n ext {\n buildToolsVersion = \"28.0.3\"\n minSdkVersion = 16\n compileSdkVersion = 28\n targetSdkVersion = 28\n }\n}",
			"android/app/build.gradle":                 "apply plugin: \"com.android.application\"\nimport com.android.build.OutputFile\nproject.ext.react = [\n entryFile: \"index.js\"\n]\napply from: \"../../node_modules/react-native/react.gradle\"\ndef enableSeparateBuildPerCPUArchitecture = false\nandroid {\n compileSdkVersion rootProject.ext.compileSdkVersion\n defaultConfig {\n applicationId \"example.rn\"\n minSdkVersion rootProject.ext.minSdkVersion\n ndk { abiFilters 'armeabi-v7a' }\n }\n splits { abi { reset()\n enable enableSeparateBuildPerCPUArchitecture\n include \"armeabi-v7a\", \"x86\" } }\n applicationVariants.all { variant ->\n variant.outputs.each { output ->\n def versionCodes = [\"armeabi-v7a\":1, \"x86\":2]\n def abi = output.getFilter(OutputFile.ABI)\n if (abi != null) { output.versionCodeOverride = versionCodes.get(abi) * 1048576 + defaultConfig.versionCode }\n }\n }\n}\ndependencies { implementation project(':hand-made')\n implementation fileTree(dir: \"libs\", include: [\"*.jar\"])\n implementation \"com.frame.react:react-native:+\" }\ntask copyDownloadableDepsToLibs(type: Copy) {\n from configurations.compile\n into 'libs'\n}",
			"android/app/src/main/AndroidManifest.xml": `<manifest xmlns:android="http://schemas.android.com/apk/res/android" package="example.rn"><application android:name=".MainApplication"><activity android:name=".MainActivity"><intent-filter><action android:name="android.intent.action.MAIN"/><category android:name="android.intent.category.LAUNCHER"/></intent-filter></activity><activity android:name="com.frame.react.devsupport.DevSettingsActivity"/></application></manifest>`,
		}, "debug example.rn ns=example.rn min=16 launcher=example.rn.MainActivity name= | release example.rn ns=example.rn min=16 launcher=example.rn.MainActivity name= | hand-made hand unknown"},
		"Kotlin Multiplatform": {map[string]string{
			"settings.gradle.kts":                               "include(\":composeApp\")",
			"gradle/libs.versions.toml":                         "[versions]\nandroid-minSdk = \"24\"\n[plugins]\nkotlinMultiplatform = { id = \"org.jetbrains.kotlin.multiplatform\", version = \"2.1.0\" }\nandroidApplication = { id = \"com.android.application\", version = \"8.5.2\" }\n",
			"composeApp/build.gradle.kts":                       "plugins {\n alias(libs.plugins.kotlinMultiplatform)\n alias(libs.plugins.androidApplication)\n}\nkotlin {\n androidTarget { compilerOptions { jvmTarget.set(JvmTarget.JVM_11) } }\n listOf(iosX64(), iosArm64()).forEach { it.binaries.framework { baseName = \"ComposeApp\" } }\n sourceSets { androidMain.dependencies { implementation(compose.preview) } }\n}\nandroid {\n namespace = \"example.kmp\"\n compileSdk = 35\n defaultConfig {\n applicationId = \"example.kmp\"\n minSdk = libs.versions.android.minSdk.get().toInt()\n }\n}",
			"composeApp/src/androidMain/AndroidManifest.xml":    `<manifest xmlns:android="http://schemas.android.com/apk/res/android"><application android:label="@string/app_name"><activity android:name=".MainActivity"><intent-filter><action android:name="android.intent.action.MAIN"/><category android:name="android.intent.category.LAUNCHER"/></intent-filter></activity></application></manifest>`,
			"composeApp/src/androidMain/res/values/strings.xml": "<resources><string name=\"app_name\">Kmp</string></resources>",
		}, "debug example.kmp ns=example.kmp min=24 launcher=example.kmp.MainActivity name=Kmp | release example.kmp ns=example.kmp min=24 launcher=example.kmp.MainActivity name=Kmp"},
		"iOS with a written identifier": {map[string]string{
			"App.xcodeproj/project.pbxproj": project("IPHONEOS_DEPLOYMENT_TARGET = 8.0; SDKROOT = iphoneos;", "INFOPLIST_FILE = App/Info.plist; PRODUCT_NAME = \"$(TARGET_NAME)\";", ""),
			"App/Info.plist":                "<plist><dict><key>CFBundleIdentifier</key><string>org.example.${PRODUCT_NAME:rfc1034identifier}</string><key>CFBundleName</key><string>${PRODUCT_NAME}</string></dict></plist>",
		}, "Debug org.example.My-App min=8.0 name=My App"},
		"iOS of today, generated": {map[string]string{
			"App.xcodeproj/project.pbxproj": project("IPHONEOS_DEPLOYMENT_TARGET = 18.2; SDKROOT = iphoneos;", "GENERATE_INFOPLIST_FILE = YES; PRODUCT_BUNDLE_IDENTIFIER = example.new; PRODUCT_NAME = \"$(TARGET_NAME)\";", ""),
		}, "Debug example.new min=18.2 name=My App"},
	} {
		r := Survey(in(c.files))
		var got []string
		show := func(f Fact) string {
			if f.Unresolved != "" {
				return "?"
			}
			return f.String()
		}
		for _, m := range r.Android.Modules {
			for _, v := range m.Variants {
				got = append(got, v.Name+" "+show(v.ApplicationID)+" ns="+show(v.Namespace)+" min="+show(v.MinSDK)+" launcher="+show(v.LauncherActivity)+" name="+show(v.DisplayName))
			}
		}
		for _, p := range r.IOS.Projects {
			for _, x := range p.Targets[0].Configurations {
				got = append(got, x.Name+" "+show(x.BundleID)+" min="+show(x.DeploymentTarget)+" name="+show(x.DisplayName))
			}
		}
		for _, f := range r.Frameworks {
			for _, p := range f.Packages {
				got = append(got, p.Name+" "+p.Android.How+" "+p.IOS.How)
			}
		}
		if text := strings.Join(got, " | "); text != c.want {
			t.Errorf("%s:\n got  %s\n want %s\n open %+v", name, text, c.want, r.Unresolved)
		}
	}
}
