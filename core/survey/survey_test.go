package survey

import (
	"fmt"
	"os"
	"path"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"

	"ligare/core/tree"
)

// in makes a tree of named files.
func in(files map[string]string) *tree.Tree {
	out := fstest.MapFS{}
	for n, c := range files {
		out[n] = &fstest.MapFile{Data: []byte(c)}
	}
	return tree.New(out)
}

const manifestMain = `<manifest xmlns:android="http://schemas.android.com/apk/res/android">
  <application android:name=".App" android:label="@string/name">
    <activity android:name=".Main"><intent-filter>
      <action android:name="android.intent.action.MAIN"/><category android:name="android.intent.category.LAUNCHER"/>
    </intent-filter></activity>
  </application>
</manifest>`

// one surveys a single module and gives its variants by name.
func one(t *testing.T, files map[string]string) (map[string]*AndroidVariant, *Report) {
	t.Helper()
	r := Survey(in(files))
	if len(r.Android.Modules) != 1 {
		t.Fatalf("%d modules: %+v", len(r.Android.Modules), r.Unresolved)
	}
	out := map[string]*AndroidVariant{}
	for _, v := range r.Android.Modules[0].Variants {
		out[v.Name] = v
	}
	return out, r
}

// Every spelling of the same identifier must give the same answer, and anything else must say that it is not known.
func TestOneApplicationIDManySpellings(t *testing.T) {
	for _, c := range []struct {
		name  string
		files map[string]string // besides the module's
		build string            // inside the module's build file
		want  string
		at    string // prefix of the place
		via   string // part of the chain
	}{
		{name: "command call", build: `android { defaultConfig { applicationId "a.b" } }`, want: "a.b", at: "app/build.gradle:2:"},
		{name: "single quotes", build: `android { defaultConfig { applicationId 'a.b' } }`, want: "a.b"},
		{name: "assignment", build: `android { defaultConfig { applicationId = "a.b" } }`, want: "a.b"},
		{name: "call", build: `android { defaultConfig { applicationId("a.b") } }`, want: "a.b"},
		{name: "setter", build: `android { defaultConfig { setApplicationId("a.b") } }`, want: "a.b"},
		{name: "property", build: `android { defaultConfig { applicationId.set("a.b") } }`, want: "a.b"},
		{name: "outside the block", build: `android.defaultConfig.applicationId = "a.b"`, want: "a.b"},
		{name: "half outside", build: "android { defaultConfig.applicationId = 'a.b' }", want: "a.b"},
		{name: "block opened twice", build: "android { defaultConfig { } }\nandroid { defaultConfig { applicationId 'a.b' } }", want: "a.b"},
		{name: "later wins", build: "android { defaultConfig { applicationId 'x.y' \n applicationId 'a.b' } }", want: "a.b"},
		{name: "commented out", build: "android { namespace 'n.s'\n defaultConfig { // applicationId 'x.y'\n /* applicationId 'z' */ } }", want: "n.s", via: "the namespace is the ID"},
		{name: "in a string", build: "android { namespace 'n.s'\n defaultConfig { versionName \"applicationId 'x.y'\" } }", want: "n.s"},
		{name: "local variable", build: "def id = 'a.b'\nandroid { defaultConfig { applicationId id } }", want: "a.b", at: "app/build.gradle:2:10", via: "`id`"},
		{name: "ext block", build: "ext { id = 'a.b' }\nandroid { defaultConfig { applicationId ext.id } }", want: "a.b"},
		{name: "ext property", build: "ext.id = 'a.b'\nandroid { defaultConfig { applicationId project.ext.id } }", want: "a.b"},
		{name: "root's ext", files: map[string]string{"build.gradle": "ext { id = 'a.b' }"}, build: "android { defaultConfig { applicationId rootProject.ext.id } }", want: "a.b", at: "build.gradle:1:"},
		{name: "root's build script ext", files: map[string]string{"build.gradle": "buildscript { ext { id = 'a.b' } }"}, build: "android { defaultConfig { applicationId rootProject.ext.id } }", want: "a.b"},
		{name: "applied file", files: map[string]string{"build.gradle": "apply from: 'vars.gradle'", "vars.gradle": "ext { id = 'a.b' }"}, build: "android { defaultConfig { applicationId rootProject.ext.id } }", want: "a.b", at: "vars.gradle"},
		{name: "gradle.properties", files: map[string]string{"gradle.properties": "app.id=x\nappId = a.b\n"}, build: "android { defaultConfig { applicationId project.property('appId') } }", want: "a.b", at: "gradle.properties:2:1"},
		{name: "property of the project", files: map[string]string{"gradle.properties": "appId=a.b"}, build: "android { defaultConfig { applicationId appId } }", want: "a.b"},
		{name: "provider", files: map[string]string{"gradle.properties": "appId=a.b"}, build: "android { defaultConfig { applicationId providers.gradleProperty('appId').get() } }", want: "a.b"},
		{name: "interpolated", build: "def base = 'a'\nandroid { defaultConfig { applicationId \"${base}.b\" } }", want: "a.b"},
		{name: "dollar name", build: "def base = 'a'\nandroid { defaultConfig { applicationId \"$base\" + '.b' } }", want: "a.b"},
		{name: "default taken", build: "android { defaultConfig { applicationId findProperty('nowhere') ?: 'a.b' } }", want: "a.b", via: "is not set in the files"},
		{name: "default not taken", files: map[string]string{"gradle.properties": "id=a.b"}, build: "android { defaultConfig { applicationId findProperty('id') ?: 'x.y' } }", want: "a.b"},
		{name: "both outcomes the same", build: "android { defaultConfig { applicationId foo() ? 'a.b' : 'a.b' } }", want: "a.b"},
	} {
		files := map[string]string{"settings.gradle": "include ':app'", "app/build.gradle": "apply plugin: 'com.android.application'\n" + c.build}
		for n, s := range c.files {
			files[n] = s
		}
		vs, _ := one(t, files)
		got := vs["release"].ApplicationID
		if got.String() != c.want || !strings.HasPrefix(got.Place(), c.at) || !strings.Contains(strings.Join(got.Via, "; "), c.via) {
			t.Errorf("%s: got %s at %s via %v", c.name, got.Say(), got.Place(), got.Via)
		}
	}
}

func TestNothingIsGuessed(t *testing.T) {
	for _, c := range []struct{ name, expr, why string }{
		{"a method", "computeId()", "computeId()"},
		{"an unknown name", "nowhere", "nowhere"},
		{"an environment variable", "System.getenv('ID')", "System.getenv"},
		{"a property nobody sets", "project.property('nowhere')", "no file sets nowhere"},
		{"interpolation of a method", "\"${computeId()}.b\"", "computeId()"},
		{"itself", "loop", "it refers to itself"},
		{"the framework", "flutter.applicationId", "the Flutter SDK sets it"},
		{"a catalog that is not there", "libs.versions.id.get()", "no version catalog"},
	} {
		vs, r := one(t, map[string]string{"settings.gradle": "", "app/build.gradle": "apply plugin: 'com.android.application'\ndef loop = loop\nandroid { namespace 'n.s'\n defaultConfig { applicationId " + c.expr + " } }"})
		got := vs["release"].ApplicationID
		if got.Known() || !strings.Contains(got.Unresolved, c.why) || got.Line == 0 {
			t.Errorf("%s: got %s at %s", c.name, got.Say(), got.Place())
		}
		if len(r.Unresolved) == 0 {
			t.Errorf("%s: it is not among the open questions", c.name)
		}
	}
}

func TestTwoOutcomesAreBothSaid(t *testing.T) {
	for _, build := range []string{
		"applicationId(project.hasProperty('x') ? 'a.one' : 'a.two')",
		"applicationId = if (project.hasProperty('x')) \"a.one\" else \"a.two\"",
		"applicationId 'a.two'\n if (project.hasProperty('x')) { applicationId 'a.one' }",
	} {
		name := "app/build.gradle"
		if strings.Contains(build, "= if") {
			name += ".kts"
		}
		vs, _ := one(t, map[string]string{"settings.gradle": "", name: "plugins { id(\"com.android.application\") }\nandroid { defaultConfig { " + build + " } }"})
		got := vs["release"].ApplicationID
		if got.Known() || len(got.Possible) != 2 || got.Possible[0].Value != "a.one" || got.Possible[1].Value != "a.two" || !strings.Contains(got.Possible[0].When, "hasProperty") {
			t.Errorf("%s: %s %+v", build, got.Say(), got.Possible)
		}
	}
}

func TestVariants(t *testing.T) {
	vs, _ := one(t, map[string]string{
		"settings.gradle.kts":       "include(\":app\")",
		"gradle/libs.versions.toml": "[versions]\nmin-sdk = \"26\"\n[plugins]\nandroid_app = { id = \"com.android.application\", version = \"8\" }\n",
		"app/build.gradle.kts": `plugins { alias(libs.plugins.android.app) }
android {
    namespace = "example.ns"
    flavorDimensions += listOf("tier", "store")
    defaultConfig { applicationId = "example.app"; minSdk = libs.versions.min.sdk.get().toInt() }
    productFlavors {
        create("lite") { dimension = "tier"; applicationIdSuffix = ".lite" }
        create("full") { dimension = "tier"; applicationId = "example.full"; minSdk = 28 }
        create("north") { dimension = "store" }
        register("south") { dimension = "store"; applicationIdSuffix = "south" }
    }
    buildTypes {
        debug { applicationIdSuffix = ".debug" }
        create("staging") { initWith(getByName("debug")) }
        getByName("release") { }
    }
}`,
	})
	for name, want := range map[string]string{
		"liteNorthDebug": "example.app.lite.debug", "liteSouthRelease": "example.app.lite.south", "fullNorthStaging": "example.full.debug", "fullSouthDebug": "example.full.south.debug",
	} {
		v := vs[name]
		if v == nil {
			t.Errorf("%s is missing among %d", name, len(vs))
			continue
		}
		if v.ApplicationID.String() != want {
			t.Errorf("%s: %s, want %s", name, v.ApplicationID.Say(), want)
		}
	}
	if len(vs) != 12 {
		t.Errorf("%d variants", len(vs))
	}
	if v := vs["fullNorthDebug"]; v.MinSDK.String() != "28" || strings.Join(v.SourceSets, " ") != "fullNorthDebug debug fullNorth full north main" {
		t.Errorf("%s %v", v.MinSDK.Say(), v.SourceSets)
	}
	if m := vs["liteNorthDebug"].MinSDK; m.String() != "26" || m.File != "gradle/libs.versions.toml" || m.Line != 2 {
		t.Errorf("minimum: %s at %s", m.Say(), m.Place())
	}
}

func TestManifestFacts(t *testing.T) {
	vs, _ := one(t, map[string]string{
		"settings.gradle":                     "",
		"app/build.gradle":                    "apply plugin: 'com.android.application'\nandroid { namespace 'example.ns'\n defaultConfig { applicationId 'example.other' } }",
		"app/src/main/AndroidManifest.xml":    manifestMain,
		"app/src/main/res/values/strings.xml": "<resources><string name='name'>Plain</string></resources>",
		"app/src/debug/res/values/more.xml":   "<resources><string name=\"name\">Debug &amp; co</string></resources>",
		"app/src/release/AndroidManifest.xml": `<manifest xmlns:a="http://schemas.android.com/apk/res/android"><application a:label="Literal"><activity-alias a:name=".Alias" a:targetActivity="other.pkg.Home"><intent-filter><action a:name="android.intent.action.MAIN"/><category a:name="android.intent.category.LAUNCHER"/></intent-filter></activity-alias></application></manifest>`,
	})
	d, r := vs["debug"], vs["release"]
	if d.LauncherActivity.String() != "example.ns.Main" || d.ApplicationClass.String() != "example.ns.App" {
		t.Errorf("classes are relative to the namespace: %s %s", d.LauncherActivity.Say(), d.ApplicationClass.Say())
	}
	if d.DisplayName.String() != "Debug & co" || d.DisplayName.File != "app/src/debug/res/values/more.xml" {
		t.Errorf("label: %s at %s", d.DisplayName.Say(), d.DisplayName.Place())
	}
	if r.DisplayName.String() != "Literal" || r.LauncherActivity.String() != "other.pkg.Home" {
		t.Errorf("a higher source set wins: %s %s", r.DisplayName.Say(), r.LauncherActivity.Say())
	}
}

func TestSigning(t *testing.T) {
	vs, _ := one(t, map[string]string{
		"settings.gradle": "",
		"app/build.gradle": `apply plugin: 'com.android.application'
android {
    signingConfigs {
        shop { storeFile file('../keys/shop.jks'); storePassword 'hunter2'; keyAlias 'shop' }
        other { storeFile rootProject.file("keys/other.jks") }
    }
    buildTypes {
        release { signingConfig signingConfigs.shop }
        beta { signingConfig signingConfigs.getByName("other") }
        plain { }
    }
}`,
	})
	if v := vs["release"]; v.KeyStore.String() != "keys/shop.jks" || v.KeyAlias.String() != "shop" || v.StorePassword().String() != "hunter2" {
		t.Errorf("release: %s %s", v.KeyStore.Say(), v.KeyAlias.Say())
	}
	if v := vs["beta"]; v.KeyStore.String() != "keys/other.jks" {
		t.Errorf("beta: %s", v.KeyStore.Say())
	}
	if v := vs["plain"]; v.KeyStore.Say() != "not set" {
		t.Errorf("an unsigned type: %s", v.KeyStore.Say())
	}
	if v := vs["debug"]; v.KeyStore.Known() || !strings.Contains(v.KeyStore.Unresolved, ".android/debug.keystore") {
		t.Errorf("debug: %s", v.KeyStore.Say())
	}
}

func TestWhatIsNotAnApp(t *testing.T) {
	r := Survey(in(map[string]string{
		"lib/build.gradle":                        "apply plugin: 'com.android.library'",
		"root/build.gradle.kts":                   "plugins { id(\"com.android.application\") apply false }",
		"node_modules/x/android/build.gradle":     "apply plugin: 'com.android.application'",
		"ios/Pods/Pods.xcodeproj/project.pbxproj": "{}",
		"build/generated/build.gradle":            "apply plugin: 'com.android.application'",
		"web/index.html":                          "<html>",
		"commented/build.gradle":                  "// apply plugin: 'com.android.application'",
	}))
	if !r.Empty() {
		t.Errorf("found %+v %+v", r.Android, r.IOS)
	}
}

// project writes a small project file with settings for its project and its target.
func project(projectSettings, targetSettings, more string) string {
	return `// !$*UTF8*$!
{ objectVersion = 56; objects = {
 P = {isa = PBXProject; mainGroup = G; buildConfigurationList = PL; targets = (T, TT, ); };
 G = {isa = PBXGroup; children = (X, ); sourceTree = "<group>"; };
 X = {isa = PBXFileReference; path = Config/base.xcconfig; sourceTree = "<group>"; };
 T = {isa = PBXNativeTarget; name = "My App"; productType = "com.apple.product-type.application"; buildConfigurationList = TL; buildPhases = (); };
 TT = {isa = PBXNativeTarget; name = Tests; productType = "com.apple.product-type.bundle.unit-test"; buildConfigurationList = TL; buildPhases = (); };
 PL = {isa = XCConfigurationList; buildConfigurations = (PD, ); };
 TL = {isa = XCConfigurationList; buildConfigurations = (TD, ); };
 PD = {isa = XCBuildConfiguration; name = Debug; buildSettings = { ` + projectSettings + ` }; };
 TD = {isa = XCBuildConfiguration; name = Debug; ` + more + ` buildSettings = { ` + targetSettings + ` }; };
}; rootObject = P; }`
}

func TestBuildSettings(t *testing.T) {
	const base = "baseConfigurationReference = X;"
	for _, c := range []struct {
		name, project, target, more string
		files                       map[string]string
		want, via                   string
	}{
		{name: "literal", target: "PRODUCT_BUNDLE_IDENTIFIER = a.b;", want: "a.b"},
		{name: "target over project", project: "PRODUCT_BUNDLE_IDENTIFIER = x.y;", target: "PRODUCT_BUNDLE_IDENTIFIER = a.b;", want: "a.b"},
		{name: "project", project: "PRODUCT_BUNDLE_IDENTIFIER = a.b;", want: "a.b"},
		{name: "another setting", project: "BASE = a;", target: `PRODUCT_BUNDLE_IDENTIFIER = "$(BASE).b";`, want: "a.b", via: "$(BASE) = a"},
		{name: "braces", project: "BASE = a;", target: `PRODUCT_BUNDLE_IDENTIFIER = "${BASE}.b";`, want: "a.b"},
		{name: "inherited", project: "PRODUCT_BUNDLE_IDENTIFIER = a;", target: `PRODUCT_BUNDLE_IDENTIFIER = "$(inherited).b";`, want: "a.b"},
		{name: "the default product name", target: `PRODUCT_BUNDLE_IDENTIFIER = "a.$(PRODUCT_NAME:rfc1034identifier)";`, want: "a.My-App"},
		{name: "c identifier", target: `PRODUCT_BUNDLE_IDENTIFIER = "a.$(TARGET_NAME:c99extidentifier)";`, want: "a.My_App"},
		{name: "lower case", target: `PRODUCT_BUNDLE_IDENTIFIER = "a.$(TARGET_NAME:c99extidentifier:lower)";`, want: "a.my_app"},
		{name: "a default", target: `PRODUCT_BUNDLE_IDENTIFIER = "a.$(NOWHERE:default=b)";`, want: "a.b"},
		{name: "an unset setting is empty", target: `PRODUCT_BUNDLE_IDENTIFIER = "a.b$(NOWHERE)";`, want: "a.b"},
		{name: "nested", project: "WHICH = DEV; ID_DEV = a.b;", target: `PRODUCT_BUNDLE_IDENTIFIER = "$(ID_$(WHICH))";`, want: "a.b"},
		{name: "xcconfig", more: base, files: map[string]string{"Config/base.xcconfig": "PRODUCT_BUNDLE_IDENTIFIER = a.b // note\n"}, want: "a.b"},
		{name: "xcconfig under the target's setting", more: base, target: "PRODUCT_BUNDLE_IDENTIFIER = a.b;", files: map[string]string{"Config/base.xcconfig": "PRODUCT_BUNDLE_IDENTIFIER = x.y\n"}, want: "a.b"},
		{name: "included xcconfig", more: base, files: map[string]string{"Config/base.xcconfig": "#include \"more.xcconfig\"\nBASE=a\n", "Config/more.xcconfig": "PRODUCT_BUNDLE_IDENTIFIER = $(BASE).b;\n"}, want: "a.b"},
		{name: "itself", target: `A = "$(B)"; B = "$(A)"; PRODUCT_BUNDLE_IDENTIFIER = "$(A)";`, want: ""},
	} {
		files := map[string]string{"App.xcodeproj/project.pbxproj": project(c.project, c.target, c.more)}
		for n, s := range c.files {
			files[n] = s
		}
		r := Survey(in(files))
		if len(r.IOS.Projects) != 1 || len(r.IOS.Projects[0].Targets) != 2 || !r.IOS.Projects[0].Targets[1].Test() {
			t.Fatalf("%s: %+v %+v", c.name, r.IOS.Projects, r.Unresolved)
		}
		got := r.IOS.Projects[0].Targets[0].Configurations[0].BundleID
		if got.String() != c.want || !strings.Contains(strings.Join(got.Via, " "), c.via) {
			t.Errorf("%s: %s via %v", c.name, got.Say(), got.Via)
		}
		if c.name == "itself" && got.Unresolved == "" {
			t.Errorf("%s: %s", c.name, got.Say())
		}
	}
}

func TestASettingsFileThatIsNotThereMayHoldTheAnswer(t *testing.T) {
	const base = "baseConfigurationReference = X;"
	id := func(project1, target string, files map[string]string) Fact {
		files["App.xcodeproj/project.pbxproj"] = project(project1, target, base)
		return Survey(in(files)).IOS.Projects[0].Targets[0].Configurations[0].BundleID
	}
	if got := id("PRODUCT_BUNDLE_IDENTIFIER = x.y;", "", map[string]string{}); got.Known() || !strings.Contains(got.Unresolved, "Config/base.xcconfig is not there") {
		t.Errorf("a weaker layer was taken: %s", got.Say())
	}
	if got := id("", `PRODUCT_BUNDLE_IDENTIFIER = "a.$(TARGET_NAME:c99extidentifier)";`, map[string]string{}); got.String() != "a.My_App" {
		t.Errorf("a stronger layer counts: %s", got.Say())
	}
	if got := id("PRODUCT_BUNDLE_IDENTIFIER = x.y;", "", map[string]string{"Config/base.xcconfig": "#include? \"none.xcconfig\"\n"}); got.String() != "x.y" {
		t.Errorf("an optional include may be missing: %s", got.Say())
	}
	if got := id("PRODUCT_BUNDLE_IDENTIFIER = x.y;", "", map[string]string{"Config/base.xcconfig": "#include \"none.xcconfig\"\n"}); got.Known() {
		t.Errorf("an include may not: %s", got.Say())
	}
}

func TestConditionalSettingsHaveSeveralValues(t *testing.T) {
	for _, c := range []struct{ project, target, want string }{
		{"", `PRODUCT_BUNDLE_IDENTIFIER = a.b; "PRODUCT_BUNDLE_IDENTIFIER[sdk=iphonesimulator*]" = a.sim;`, "a.sim when [sdk=iphonesimulator*], or a.b when otherwise"},
		{"", `"PRODUCT_BUNDLE_IDENTIFIER[sdk=iphoneos*]" = "a.$(TARGET_NAME:lower:rfc1034identifier)";`, "a.my-app when [sdk=iphoneos*]"},
		{`"PRODUCT_BUNDLE_IDENTIFIER[sdk=iphoneos*]" = x.y;`, `PRODUCT_BUNDLE_IDENTIFIER = a.b;`, "a.b"},
	} {
		r := Survey(in(map[string]string{"App.xcodeproj/project.pbxproj": project(c.project, c.target, "")}))
		if got := r.IOS.Projects[0].Targets[0].Configurations[0].BundleID; got.Say() != c.want {
			t.Errorf("%s: %s", c.target, got.Say())
		}
	}
}

func TestAnAppThroughAPluginOfTheProjectsOwn(t *testing.T) {
	vs, _ := one(t, map[string]string{"settings.gradle.kts": "", "app/build.gradle.kts": "plugins { id(\"our.android.app\") }\nandroid { defaultConfig { applicationId = \"a.b\" } }"})
	if vs["release"].ApplicationID.String() != "a.b" {
		t.Errorf("%+v", vs)
	}
}

func TestInfoPlist(t *testing.T) {
	plist := func(body string) string {
		return `<?xml version="1.0"?><plist version="1.0"><dict>` + body + `</dict></plist>`
	}
	files := map[string]string{
		"ios/App.xcodeproj/project.pbxproj": project("", `PRODUCT_BUNDLE_IDENTIFIER = a.b; INFOPLIST_FILE = App/Info.plist;`, ""),
		"ios/App/Info.plist":                plist(`<key>CFBundleDisplayName</key><string>$(TARGET_NAME)!</string><key>CFBundleIdentifier</key><string>$(PRODUCT_BUNDLE_IDENTIFIER)</string>`),
	}
	c := Survey(in(files)).IOS.Projects[0].Targets[0].Configurations[0]
	if c.DisplayName.String() != "My App!" || c.BundleID.String() != "a.b" || c.InfoPlist.String() != "ios/App/Info.plist" {
		t.Errorf("%s %s %s", c.DisplayName.Say(), c.BundleID.Say(), c.InfoPlist.Say())
	}
	files["ios/App/Info.plist"] = plist(`<key>CFBundleIdentifier</key><string>written.here</string>`)
	if c := Survey(in(files)).IOS.Projects[0].Targets[0].Configurations[0]; c.BundleID.String() != "written.here" || c.BundleID.File != "ios/App/Info.plist" {
		t.Errorf("an identifier written in the property list: %s at %s", c.BundleID.Say(), c.BundleID.Place())
	}
	delete(files, "ios/App/Info.plist")
	if c := Survey(in(files)).IOS.Projects[0].Targets[0].Configurations[0]; c.InfoPlist.Known() || !strings.Contains(c.InfoPlist.Unresolved, "INFOPLIST_FILE") {
		t.Errorf("a property list that is not there: %s", c.InfoPlist.Say())
	}
	files["ios/App.xcodeproj/project.pbxproj"] = project("", `GENERATE_INFOPLIST_FILE = YES; INFOPLIST_KEY_CFBundleDisplayName = Made;`, "")
	if c := Survey(in(files)).IOS.Projects[0].Targets[0].Configurations[0]; c.InfoPlist.String() != "generated" || c.DisplayName.String() != "Made" {
		t.Errorf("generated: %s %s", c.InfoPlist.Say(), c.DisplayName.Say())
	}
}

func TestBrokenFilesAreSaid(t *testing.T) {
	r := Survey(in(map[string]string{"App.xcodeproj/project.pbxproj": "// !$*UTF8*$!\n{ objects = {"}))
	if len(r.Unresolved) != 1 || !r.Unresolved[0].Broken || r.Unresolved[0].File == "" || r.Unresolved[0].Line != 2 {
		t.Errorf("%+v", r.Unresolved)
	}
	_, r = one(t, map[string]string{"app/build.gradle": "apply plugin: 'com.android.application'\nandroid {"})
	if len(r.Unresolved) == 0 || !r.Unresolved[0].Broken {
		t.Errorf("%+v", r.Unresolved)
	}
}

func TestTheDemoApp(t *testing.T) {
	r := Survey(tree.New(os.DirFS("../../demo/studio/hivelog")))
	if strings.Join(r.Layouts, " ") != "android-gradle ios-xcode" || len(r.Unresolved) != 0 {
		t.Errorf("%v %+v", r.Layouts, r.Unresolved)
	}
}

// BenchmarkSurvey reads the demo's apps, and the tree that LIGARE_BENCH_TREE names.
func BenchmarkSurvey(b *testing.B) {
	dirs := []string{"../../demo/studio/hivelog", "../../demo/studio/seedswap", "testdata/orchard"}
	if dir := os.Getenv("LIGARE_BENCH_TREE"); dir != "" {
		dirs = append(dirs, dir)
	}
	for _, dir := range dirs {
		b.Run(path.Base(dir), func(b *testing.B) {
			b.ReportAllocs()
			for b.Loop() {
				if Survey(tree.New(os.DirFS(dir))).Empty() {
					b.Fatal("nothing was found")
				}
			}
		})
	}
}

// BenchmarkMonorepo reads a tree of 60,000 files, most of them dependencies: eight apps, four hundred packages.
func BenchmarkMonorepo(b *testing.B) {
	dir := b.TempDir()
	for i := range 8 {
		if err := os.CopyFS(filepath.Join(dir, "apps", fmt.Sprint("app", i)), os.DirFS("../../demo/studio/seedswap")); err != nil {
			b.Fatal(err)
		}
	}
	for i := range 400 {
		at := filepath.Join(dir, "node_modules", fmt.Sprint("package", i), "lib")
		if err := os.MkdirAll(at, 0o755); err != nil {
			b.Fatal(err)
		}
		for j := range 148 {
			if err := os.WriteFile(filepath.Join(at, fmt.Sprint("file", j, ".js")), []byte("module.exports = 1\n"), 0o644); err != nil {
				b.Fatal(err)
			}
		}
	}
	for i := range 1000 {
		at := filepath.Join(dir, "libs", fmt.Sprint("lib", i%50))
		if err := os.MkdirAll(at, 0o755); err != nil {
			b.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(at, fmt.Sprint("source", i, ".ts")), []byte("export const x = 1\n"), 0o644); err != nil {
			b.Fatal(err)
		}
	}
	b.ReportAllocs()
	b.ResetTimer()
	for b.Loop() {
		if r := Survey(tree.New(os.DirFS(dir))); len(r.Android.Modules) != 8 {
			b.Fatalf("%d modules", len(r.Android.Modules))
		}
	}
}
