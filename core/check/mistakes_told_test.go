package check

import (
	"bytes"
	"image"
	"image/color"
	"image/png"
	"testing"

	"ligare/core/binding"
)

func drawn(t *testing.T, side int, ground color.Color) []byte {
	t.Helper()
	img := image.NewNRGBA(image.Rect(0, 0, side, side))
	for i := 0; i < side*side; i++ {
		img.Set(i%side, i/side, ground)
	}
	var b bytes.Buffer
	if err := png.Encode(&b, img); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

// What services were told of the tree, and what the source asks of them.
func TestMistakesAgainstWhatWasTold(t *testing.T) {
	const icons = "ios/Hivelog/Assets.xcassets/AppIcon.appiconset/"
	named := func(name string) func(t *testing.T, s *studio) {
		return func(t *testing.T, s *studio) {
			s.put(icons+"Contents.json", []byte("{\"images\": [\n{\"filename\": \""+name+"\", \"idiom\": \"universal\", \"platform\": \"ios\", \"size\": \"1024x1024\"}\n]}\n"))
			s.put(icons+"hive.png", drawn(t, 1024, color.Gray{200}))
		}
	}
	granted := func(t *testing.T, s *studio) {
		for i := range s.records.Registrations {
			if g := &s.records.Registrations[i]; g.Service == "gatepost" {
				g.Answers["scope"] = "openid mail"
			}
		}
		s.put("ios/Hivelog/SignIn.swift", []byte("import Gatepost\n\nfunc signIn() {\n    Gatepost.signIn(scopes: [\"openid\", \"mail\"])\n}\n"))
	}
	plant(t, []mistake{
		{name: "a scope that was not granted", services: "gatepost", right: granted, file: "ios/Hivelog/SignIn.swift", from: `"mail"`, to: `"mail", "membership"`,
			rule: "scope-not-granted", at: "ios/Hivelog/SignIn.swift:membership", say: "did not grant"},
		{name: "a scope in capitals", services: "gatepost", right: granted, file: "ios/Hivelog/SignIn.swift", from: `"mail"`, to: `"Mail"`,
			rule: "scope-not-granted", at: "ios/Hivelog/SignIn.swift:Mail", say: "mail is granted"},
		{name: "scopes in one text", services: "gatepost", right: granted, file: "android/app/src/main/java/SignIn.kt", to: "fun signIn() {\n    Gatepost.signIn(activity, \"openid name\")\n}\n",
			rule: "scope-not-granted", at: "android/app/src/main/java/SignIn.kt:name", say: `"name"`},
		{name: "the kind of another framework", tree: "tern-crossing", services: "bellhanger", right: func(t *testing.T, s *studio) {
			s.records.Registrations[0].Answers["library"] = "flutter"
		}, more: func(t *testing.T, s *studio) {
			s.records.Registrations[0].Answers["library"] = "native"
		}, rule: "library-of-another-framework", at: "pubspec.yaml", say: `was told "native"`},
		{name: "another framework than the tree's", services: "tallywick", more: func(t *testing.T, s *studio) {
			g := &s.records.Registrations[0]
			for i := range g.Identities {
				g.Identities[i].Answers["framework"] = "react-native"
			}
		}, rule: "library-of-another-framework", at: hiveBuild, say: "react-native"},
		{name: "an older IDE's library", services: "gatepost", right: func(t *testing.T, s *studio) {
			_, k := s.registration(t, "gatepost-production")
			k.Answers["ide"] = "16.0"
			withIDE(s)
		}, more: func(t *testing.T, s *studio) {
			_, k := s.registration(t, "gatepost-production")
			k.Answers["ide"] = "15.4"
		}, rule: "library-of-another-ide", at: hiveProject + ":LastUpgradeCheck", say: "16.0"},
		{name: "the trial's address in the app", services: "gatepost", right: withTrial, file: hiveDelegate, from: "        window?.make", to: "        open(\"https://preview.gatepost.example/S1/start\")\n        window?.make",
			rule: "trial-value-published", at: hiveDelegate + ":preview.gatepost", say: "trial"},
		{name: "the trial's address at a service", services: "gatepost", right: withTrial, more: func(t *testing.T, s *studio) {
			s.records.Registrations[0].Answers["client_uri"] = "https://preview.gatepost.example/S1"
		}, rule: "trial-value-published", at: "ligare.yaml", say: "was told https://preview"},
		{name: "a module without its folder", file: "android/settings.gradle.kts", from: `include(":app")`, to: `include(":app", ":scales")`,
			rule: "local-path-missing", at: "android/settings.gradle.kts:scales", say: "android/scales", severity: Warning},
		{name: "a module in another folder", right: func(t *testing.T, s *studio) {
			s.put("android/libs/scales/build.gradle.kts", []byte("plugins { id(\"com.android.library\") }\n"))
			s.change(t, "android/settings.gradle.kts", `include(":app")`, "include(\":app\", \":scales\")\nproject(\":scales\").projectDir = file(\"libs/scales\")")
			s.change(t, hiveBuild, "dependencies {", "dependencies {\n    implementation(project(\":scales\"))")
		}, file: "android/settings.gradle.kts", from: `"libs/scales"`, to: `"lib/scales"`, rule: "local-path-missing", at: "android/settings.gradle.kts:include", say: "android/lib/scales", severity: Error},
		{name: "a module that is not included", file: hiveBuild, from: "dependencies {", to: "dependencies {\n    implementation(project(\":scales\"))",
			rule: "local-path-missing", at: hiveBuild + ":scales", say: "does not include it"},
		{name: "a pod's folder that is not there", tree: "seedswap", more: func(t *testing.T, s *studio) {
			s.last(t, "ios/Podfile", "  use_", "  pod 'Scale', :path => '../scale'\n  use_")
		}, rule: "local-path-missing", at: "ios/Podfile:Scale", say: "The pod Scale"},
		{name: "a package's folder that is not there", tree: "seedswap", file: "package.json", from: `"dependencies": {`, to: "\"dependencies\": {\n    \"scale\": \"file:./scale\",",
			rule: "local-path-missing", at: "package.json:scale", say: "read from scale"},
		{name: "a package's folder of another name", tree: "tern-crossing", more: func(t *testing.T, s *studio) {
			s.change(t, "pubspec.yaml", "\ndependencies:", "\ndependencies:\n  scale:\n    path: ./packages/scale")
		}, rule: "local-path-missing", at: "pubspec.yaml:path", say: "packages/scale"},
		{name: "an icon that is not there", right: named("hive.png"), file: icons + "Contents.json", from: "hive.png", to: "Hive.png", rule: "icon-unfit", at: icons + "Contents.json:Hive.png", say: "is not there"},
		{name: "a small icon", right: named("hive.png"), more: func(t *testing.T, s *studio) { s.put(icons+"hive.png", drawn(t, 512, color.Gray{200})) },
			rule: "icon-unfit", at: icons + "Contents.json:hive.png", say: "512 x 512"},
		{name: "an icon one can see through", right: named("hive.png"), more: func(t *testing.T, s *studio) {
			s.put(icons+"hive.png", drawn(t, 1024, color.NRGBA{200, 200, 0, 90}))
		}, rule: "icon-unfit", at: icons + "Contents.json:hive.png", say: "alpha channel"},
		{name: "a release that can be debugged", services: "thornmill", file: hiveBuild, from: "            isMinifyEnabled = true", to: "            isDebuggable = true\n            isMinifyEnabled = true",
			rule: "release-debuggable", at: hiveBuild + ":isDebuggable"},
		{name: "a debug flag in the manifest", file: hiveManifest, from: "<application\n", to: "<application android:debuggable=\"true\"\n", rule: "release-debuggable", at: hiveManifest + ":debuggable"},
		{name: "configurations in two spellings", right: func(t *testing.T, s *studio) { s.binding, s.missing[Attached] = &binding.Binding{}, "not attached" }, more: func(t *testing.T, s *studio) {
			s.last(t, hiveProject, "PRODUCT_BUNDLE_IDENTIFIER = example.larkfield.hivelog;", "PRODUCT_BUNDLE_IDENTIFIER = example.larkfield.Hivelog;")
		}, rule: "identifier-apart", at: hiveProject + ":PRODUCT_BUNDLE", severity: Warning, say: "letter case"},
		{name: "an older template's constants", right: func(t *testing.T, s *studio) {
			s.change(t, hiveBuild, "    defaultConfig {", "    buildFeatures { buildConfig = true }\n    defaultConfig {\n        buildConfigField(\"boolean\", \"TRIAL\", \"false\")")
		}, file: hiveBuild, from: "    buildFeatures { buildConfig = true }\n", to: "", rule: "template-code-outdated", at: hiveBuild + ":buildConfigField", say: "switched on"},
		{name: "the namespace of an older template", more: func(t *testing.T, s *studio) {
			s.change(t, hiveBuild, "    namespace = \"example.larkfield.hivelog\"\n", "")
			s.change(t, hiveManifest, "<manifest ", "<manifest package=\"example.larkfield.hivelog\" ")
		}, rule: "template-code-outdated", at: hiveManifest + ":package", say: "version 8"},
		{name: "an older template's way to start", more: func(t *testing.T, s *studio) {
			s.put(hiveProject, bytes.ReplaceAll(s.files[hiveProject].Data, []byte("SWIFT_VERSION = 5.0"), []byte("SWIFT_VERSION = 6.0")))
			s.change(t, hiveDelegate, "@main", "@UIApplicationMain")
		}, rule: "template-code-outdated", at: hiveDelegate + ":@UIApplicationMain", say: "version 6"},
	})
}

// withIDE has the service ask for the version of the IDE, as one does that issues a library for each.
func withIDE(s *studio) {
	for _, r := range s.regs {
		changed := *r.Sheet
		changed.Asks = append(changed.Asks[:len(changed.Asks):len(changed.Asks)], changed.Asks[0])
		a := &changed.Asks[len(changed.Asks)-1]
		a.ID, a.From, a.Tree = "ide", "text", "ide"
		r.Sheet = &changed
	}
}

// withTrial has the service issue an address for looking at a trial.
func withTrial(t *testing.T, s *studio) {
	for _, r := range s.regs {
		changed := *r.Sheet
		changed.Issues.Values = append(changed.Issues.Values[:len(changed.Issues.Values):len(changed.Issues.Values)], changed.Issues.Values[0])
		v := &changed.Issues.Values[len(changed.Issues.Values)-1]
		v.ID, v.Title, v.Trial = "preview", "Preview address", true
		r.Sheet, r.Values["preview"] = &changed, "https://preview.gatepost.example/S1"
	}
}
