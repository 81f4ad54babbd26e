package survey

import "testing"

// How native halves come in: by the framework from a version on, by hand, twice, not at all.
func TestHowNativePartsAreLinked(t *testing.T) {
	files := func(version, settings, pods string) map[string]string {
		return map[string]string{
			"package.json":                   `{"dependencies": {"react-native": "` + version + `", "both": "1.0.0", "droid": "^2.0.0", "pure": "3.0.0", "@scope/apple": "4.0.0", "off": "1.0.0", "gone": "1.0.0"}}`,
			"react-native.config.js":         "module.exports = { dependencies: { off: { platforms: { android: null, ios: null } } } }",
			"node_modules/both/package.json": "{}", "node_modules/both/android/build.gradle": "", "node_modules/both/Both.podspec": "",
			"node_modules/droid/package.json": "{}", "node_modules/droid/android/build.gradle.kts": "",
			"node_modules/pure/package.json": "{}", "node_modules/pure/index.js": "",
			"node_modules/@scope/apple/package.json": "{}", "node_modules/@scope/apple/Apple.podspec": "",
			"node_modules/off/package.json": "{}", "node_modules/off/android/build.gradle": "", "node_modules/off/Off.podspec": "",
			"android/settings.gradle": "include ':app'\n" + settings, "android/app/build.gradle": appPlugins + "android { namespace 'n.s' }",
			"ios/Podfile": "target 'App' do\n" + pods + "end\n", "ios/App.xcodeproj/project.pbxproj": project("SDKROOT = iphoneos;", "PRODUCT_BUNDLE_IDENTIFIER = a.b;", ""),
		}
	}
	const settings = "include ':both'\nproject(':both').projectDir = new File(rootProject.projectDir, '../node_modules/both/android')\n"
	for _, c := range []struct {
		name, version, settings, pods string
		want                          map[string]string
	}{
		{"by the framework", "0.72.3", "", "", map[string]string{"both": "framework framework", "droid": "framework none", "pure": "none none", "@scope/apple": "none framework", "off": "missing missing", "gone": "unknown unknown"}},
		{"before it did that", "0.59.10", "", "", map[string]string{"both": "missing missing", "droid": "missing none", "pure": "none none"}},
		{"by hand, as it had to be", "0.59.10", settings, "  pod 'Both', :path => '../node_modules/both'\n", map[string]string{"both": "hand hand"}},
		{"twice", "^0.60.0", settings, "  pod 'Both', :path => '../node_modules/both'\n", map[string]string{"both": "twice twice", "droid": "framework none"}},
		{"by hand where it is switched off", "0.72.0", "include ':off'\nproject(':off').projectDir = file('../node_modules/off/android')\n", "  pod 'Off', :path => '../node_modules/off'\n", map[string]string{"off": "hand hand"}},
		{"a version that is no number", "nightly", "", "", map[string]string{"both": "unknown unknown", "pure": "none none"}},
	} {
		r := Survey(in(files(c.version, c.settings, c.pods)))
		if len(r.Frameworks) != 1 {
			t.Errorf("%s: %+v", c.name, r.Unresolved)
			continue
		}
		got := map[string]string{}
		for _, p := range r.Frameworks[0].Packages {
			got[p.Name] = p.Android.How + " " + p.IOS.How
			if p.Android.How == "hand" && len(p.Android.Places) == 0 || p.Android.How == "unknown" && p.Android.Why == "" {
				t.Errorf("%s: %s says neither where nor why: %+v", c.name, p.Name, p.Android)
			}
		}
		for name, want := range c.want {
			if got[name] != want {
				t.Errorf("%s: %s is linked %q, want %q", c.name, name, got[name], want)
			}
		}
	}
}

func TestFlutterPackages(t *testing.T) {
	files := map[string]string{
		"pubspec.yaml":                  "name: app\ndependencies:\n  flutter:\n    sdk: flutter\n  camera: ^1.0.0\n  pure: any\n  local:\n    path: ../local\n",
		".flutter-plugins-dependencies": `{"plugins": {"android": [{"name": "camera"}], "ios": [{"name": "camera"}, {"name": "local"}]}}`,
		"android/settings.gradle":       "", "ios/x": "",
		"packages/plugin/pubspec.yaml": "name: plugin\ndependencies:\n  flutter:\n    sdk: flutter\nflutter:\n  plugin:\n    platforms: {}\n", "packages/plugin/android/x": "",
		"packages/dart/pubspec.yaml": "name: dart\n",
	}
	r := Survey(in(files))
	if len(r.Frameworks) != 1 || r.Frameworks[0].Dir != "." {
		t.Fatalf("%+v", r.Frameworks)
	}
	got := map[string]string{}
	for _, p := range r.Frameworks[0].Packages {
		got[p.Name] = p.Android.How + " " + p.IOS.How + " " + p.Version.Say()
	}
	for name, want := range map[string]string{"camera": "framework framework ^1.0.0", "pure": "none none any", "local": "none framework from path"} {
		if got[name] != want {
			t.Errorf("%s: %q", name, got[name])
		}
	}
	delete(files, ".flutter-plugins-dependencies")
	if p := Survey(in(files)).Frameworks[0].Packages[0]; p.Android.How != "unknown" {
		t.Errorf("without the list: %+v", p)
	}
}
