package check

import (
	"bytes"
	"slices"
	"strings"
	"testing"
	"testing/fstest"
)

const (
	all          = "thornmill treadmark burrcatch gatepost patchquay bellhanger tallywick"
	hiveApp      = "android/app/src/main/java/example/larkfield/hivelog/HivelogApplication.kt"
	hiveScreen   = "android/app/src/main/java/example/larkfield/hivelog/InspectionActivity.kt"
	hiveSettings = "android/settings.gradle.kts"
	hiveCatalog  = "android/gradle/libs.versions.toml"
	hiveDelegate = "ios/Hivelog/AppDelegate.swift"
	hiveRights   = "ios/Hivelog/Hivelog.entitlements"
	hiveConfig   = "android/app/src/release/res/xml/thornmill_config.xml"
	hiveJSON     = "ios/Hivelog/Thornmill.json"
)

// moved gives a file another name.
func moved(from, to string) func(*testing.T, *studio) {
	return func(_ *testing.T, s *studio) {
		s.files[to] = s.files[from]
		delete(s.files, from)
	}
}

func copied(from, to string) func(*testing.T, *studio) {
	return func(_ *testing.T, s *studio) { s.files[to] = s.files[from] }
}

func gone(name string) func(*testing.T, *studio) {
	return func(_ *testing.T, s *studio) { delete(s.files, name) }
}

// Everything is placed, and then one thing is not as it should be.
func TestMistakesInWhatWasPlaced(t *testing.T) { plant(t, placedMistakes()) }

// Two mistakes are two findings, whichever they are.
func TestMistakesInPairs(t *testing.T) {
	list := placedMistakes()
	pairs := 0
	for i := range list {
		for _, d := range []int{7, 19} {
			a, b := list[i], list[(i+d)%len(list)]
			if a.services != "" || b.services != "" || strings.HasPrefix(a.at, hiveJSON) && strings.HasPrefix(b.at, hiveJSON) {
				continue
			}
			s := wire(t, "hivelog", strings.Fields(all)...)
			before := map[string]bool{}
			for _, f := range s.check(t).Findings {
				before[f.Fingerprint+string(f.Severity)] = true
			}
			if !s.make(t, a) || !s.make(t, b) {
				continue // they change the same lines
			}
			pairs++
			var got []string
			for _, f := range s.check(t).Findings {
				if !before[f.Fingerprint+string(f.Severity)] {
					got = append(got, f.Rule+" "+f.File)
				}
			}
			place := func(m mistake) string {
				file, _, _ := strings.Cut(m.at, ":")
				return m.rule + " " + file
			}
			slices.Sort(got)
			want := []string{place(a), place(b)}
			slices.Sort(want)
			if !slices.Equal(got, want) {
				t.Errorf("%s and %s:\n  got  %q\n  want %q", a.name, b.name, got, want)
			}
		}
	}
	if pairs < 80 {
		t.Errorf("only %d pairs", pairs)
	}
}

// make makes a mistake if its text is still there.
func (s *studio) make(t *testing.T, m mistake) bool {
	if m.file != "" && m.from != "" && (s.files[m.file] == nil || bytes.Count(s.files[m.file].Data, []byte(m.from)) != 1) {
		return false
	}
	if m.needs != "" && s.files[m.needs] == nil {
		return false
	}
	if m.file != "" {
		s.change(t, m.file, m.from, m.to)
	}
	if m.more != nil {
		m.more(t, s)
	}
	return true
}

func placedMistakes() []mistake {
	number := issued("treadmark", "app-number", "")
	return []mistake{
		// config files
		{name: "config file missing", needs: hiveConfig, more: gone(hiveConfig), rule: "config-file-missing", at: hiveConfig},
		{name: "config file in the module's root", needs: hiveConfig, more: moved(hiveConfig, "android/app/thornmill_config.xml"), rule: "config-file-misplaced", at: "android/app/thornmill_config.xml"},
		{name: "config file of a second download", needs: hiveConfig, more: moved(hiveConfig, "android/app/src/release/res/xml/thornmill_config (1).xml"), rule: "config-file-renamed", at: "android/app/src/release/res/xml/thornmill_config (1).xml"},
		{name: "a second download beside the config file", needs: hiveConfig, more: copied(hiveConfig, "android/app/src/release/res/xml/thornmill_config (1).xml"), rule: "config-file-copy", at: "android/app/src/release/res/xml/thornmill_config (1).xml", severity: Error, say: "none that the resource compiler takes"},
		{name: "a copy beside the config file", needs: hiveJSON, more: copied(hiveJSON, "ios/Hivelog/Thornmill copy.json"), rule: "config-file-copy", at: "ios/Hivelog/Thornmill copy.json", severity: Note, say: "what counts is ios/Hivelog/Thornmill.json"},
		{name: "the app's bundle ID changed, its extension's not", more: func(t *testing.T, s *studio) {
			b := s.files[hiveProject].Data
			changed := bytes.ReplaceAll(b, []byte("PRODUCT_BUNDLE_IDENTIFIER = example.larkfield.hivelog;"), []byte("PRODUCT_BUNDLE_IDENTIFIER = example.larkfield.hivelgo;"))
			if bytes.Equal(b, changed) {
				t.Fatal("no bundle ID was found")
			}
			s.files[hiveProject] = &fstest.MapFile{Data: changed}
		}, rule: "identifier-differs", at: hiveProject, say: "two characters are exchanged"},
		{name: "config file in capitals", needs: hiveConfig, more: moved(hiveConfig, "android/app/src/release/res/xml/Thornmill_Config.xml"), rule: "config-file-renamed", at: "android/app/src/release/res/xml/Thornmill_Config.xml"},
		{name: "config file of the other identity", needs: hiveConfig, more: func(_ *testing.T, s *studio) {
			s.files[hiveConfig] = s.files["android/app/src/debug/res/xml/thornmill_config.xml"]
		}, rule: "config-file-of-another", at: hiveConfig},
		{name: "an old config file", file: hiveJSON, from: `"revision": 3`, to: `"revision": 2`, rule: "config-file-outdated", at: hiveJSON},
		{name: "half a config file", file: hiveJSON, from: `"records": {"address": "https://records.thornmill.example"}}`, to: `"rec`, rule: "config-file-unreadable", at: hiveJSON},
		{name: "an error page for a config file", more: func(_ *testing.T, s *studio) {
			s.files[hiveJSON] = &fstest.MapFile{Data: []byte("<!DOCTYPE html><html><body>Sign in to go on</body></html>")}
		}, rule: "config-file-unreadable", at: hiveJSON},
		{name: "on the disk and not in the project", more: func(t *testing.T, s *studio) {
			b := string(s.files[hiveProject].Data)
			var out []string
			for _, l := range strings.Split(b, "\n") {
				if !strings.Contains(l, "Thornmill.json in Resources") {
					out = append(out, l)
				}
			}
			s.files[hiveProject] = &fstest.MapFile{Data: []byte(strings.Join(out, "\n"))}
		}, services: "thornmill", rule: "config-file-not-in-target", at: hiveProject},
		// resources and manifests
		{name: "a string resource gone", file: hiveStrings, from: "    <string name=\"treadmark_app\">" + number + "</string>\n", to: "", rule: "resource-missing", at: hiveStrings},
		{name: "a string resource twice", file: hiveStrings, from: "<string name=\"treadmark_app\">" + number + "</string>", to: "<string name=\"treadmark_app\">" + number + "</string>\n    <string name=\"treadmark_app\">" + number + "</string>", rule: "resource-twice", at: hiveStrings},
		{name: "white space around a resource", file: hiveStrings, from: ">" + number + "<", to: "> " + number + " <", rule: "resource-padded", at: hiveStrings},
		{name: "another number", file: hiveStrings, from: ">" + number + "<", to: ">999999999999999<", rule: "resource-differs", at: hiveStrings + ":treadmark_app"},
		{name: "a long number inline", file: hiveManifest, from: `"@string/treadmark_app"`, to: `"` + number + `"`, rule: "manifest-value-typed", at: hiveManifest + ":treadmark.App"},
		{name: "metadata gone", file: hiveManifest, from: "        <meta-data android:name=\"example.treadmark.Key\" android:value=\"@string/treadmark_key\" />\n", to: "", rule: "manifest-entry-missing", at: hiveManifest},
		{name: "metadata outside the application", file: hiveManifest, from: "        <meta-data android:name=\"example.treadmark.Key\" android:value=\"@string/treadmark_key\" />\n", to: "", more: func(t *testing.T, s *studio) {
			s.change(t, hiveManifest, "    <application\n", "    <meta-data android:name=\"example.treadmark.Key\" android:value=\"@string/treadmark_key\" />\n    <application\n")
		}, rule: "manifest-entry-misplaced", at: hiveManifest + ":example.treadmark.Key"},
		{name: "a permission gone", file: hiveManifest, from: "    <uses-permission android:name=\"android.permission.POST_NOTIFICATIONS\" />\n", to: "", rule: "manifest-entry-missing", at: hiveManifest},
		{name: "a query gone", file: hiveManifest, from: "        <package android:name=\"example.treadmark.companion\" />\n", to: "", rule: "manifest-entry-missing", at: hiveManifest},
		{name: "an activity not exported", file: "android/app/src/release/AndroidManifest.xml", from: `android:exported="true"`, to: `android:exported="false"`, rule: "manifest-entry-differs", at: "android/app/src/release/AndroidManifest.xml:ReturnActivity"},
		{name: "debugging in production", file: hiveManifest, from: `"example.burrcatch.DEBUG" android:value="false"`, to: `"example.burrcatch.DEBUG" android:value="true"`, rule: "manifest-entry-differs", at: hiveManifest + ":DEBUG"},
		{name: "every event in production", file: hiveManifest, from: `android:value="0.2"`, to: `android:value="1.0"`, rule: "manifest-entry-differs", at: hiveManifest + ":SAMPLE_RATE"},
		// property lists
		{name: "a key gone", file: hivePlist, from: "\t<key>PatchquayKey</key>\n\t<string>" + issued("patchquay", "app-key", "") + "</string>\n", to: "", rule: "value-missing", at: hivePlist},
		{name: "a key in other capitals", file: hivePlist, from: "<key>PatchquayKey</key>", to: "<key>patchquayKey</key>", rule: "value-misplaced", at: hivePlist + ":patchquayKey"},
		{name: "a text as a number", file: hivePlist, from: "<string>" + number + "</string>", to: "<integer>" + number + "</integer>", rule: "value-differs", at: hivePlist + ":<integer>"},
		{name: "outside the root dictionary", file: hivePlist, from: "\t<key>PatchquayKey</key>\n\t<string>" + issued("patchquay", "app-key", "") + "</string>\n", to: "", more: func(t *testing.T, s *studio) {
			s.change(t, hivePlist, "</dict>\n</plist>", "</dict>\n<key>PatchquayKey</key>\n<string>"+issued("patchquay", "app-key", "")+"</string>\n</plist>")
		}, rule: "value-misplaced", at: hivePlist + ":PatchquayKey"},
		{name: "no reason for tracking", file: hivePlist, from: "\t<key>NSUserTrackingUsageDescription</key>\n\t<string>Shows us which of our announcements brought you here. Nothing is passed on.</string>\n", to: "", rule: "value-missing", at: hivePlist},
		{name: "a query scheme gone", file: hivePlist, from: "\t\t<string>treadmark-companion</string>\n", to: "", rule: "value-missing", at: hivePlist},
		{name: "no background mode", file: hivePlist, from: "\t\t<string>remote-notification</string>\n", to: "", rule: "value-missing", at: hivePlist},
		{name: "no entitlement", file: hiveRights, from: "\t<key>aps-environment</key>\n\t<string>production</string>\n", to: "", rule: "value-missing", at: hiveRights},
		{name: "an associated domain gone", file: hiveRights, from: "\t\t<string>applinks:sign-in.gatepost.example</string>\n", to: "", rule: "value-missing", at: hiveRights},
		{name: "an associated domain mistyped", file: hiveRights, from: "applinks:sign-in.gatepost.example", to: "applinks:signin.gatepost.example", rule: "name-misspelt", at: hiveRights + ":signin.gatepost"},
		// build files
		{name: "no repository", file: hiveSettings, from: "        maven {\n            url = uri(\"https://maven.thornmill.example/releases\")\n        }\n", to: "", rule: "repository-missing", at: hiveSettings},
		{name: "a repository for plugins only", file: hiveSettings, from: "        maven {\n            url = uri(\"https://maven.thornmill.example/releases\")\n        }\n", to: "", more: func(t *testing.T, s *studio) {
			s.change(t, hiveSettings, "        gradlePluginPortal()\n", "        gradlePluginPortal()\n        maven { url = uri(\"https://maven.thornmill.example/releases\") }\n")
		}, rule: "repository-misplaced", at: hiveSettings + ":maven.thornmill"},
		{name: "no plugin in the module", file: hiveBuild, from: "    alias(libs.plugins.burrcatch)\n", to: "", rule: "plugin-missing", at: hiveBuild},
		{name: "a plugin in the root only", file: hiveBuild, from: "    alias(libs.plugins.burrcatch)\n", to: "", more: func(t *testing.T, s *studio) {
			s.change(t, "android/build.gradle.kts", "alias(libs.plugins.burrcatch) apply false", "alias(libs.plugins.burrcatch)")
		}, rule: "plugin-missing", at: "android/build.gradle.kts:burrcatch"},
		{name: "a plugin before the one it depends on", file: hiveBuild, from: "    alias(libs.plugins.android.application)\n    alias(libs.plugins.kotlin.android)\n    alias(libs.plugins.burrcatch)\n", to: "    alias(libs.plugins.burrcatch)\n    alias(libs.plugins.android.application)\n    alias(libs.plugins.kotlin.android)\n", rule: "plugin-order", at: hiveBuild + ":burrcatch"},
		{name: "a library gone", file: hiveBuild, from: "    implementation(libs.treadmark.marks)\n", to: "", rule: "library-missing", at: hiveBuild},
		{name: "a library twice", file: hiveBuild, from: "    implementation(libs.treadmark.marks)\n", to: "    implementation(libs.treadmark.marks)\n    implementation(\"example.treadmark:marks:2.8.1\")\n", rule: "library-twice", at: hiveBuild + ":treadmark"},
		{name: "parts that do not go together", file: hiveCatalog, from: `module = "example.thornmill:records", version = "3.2.0"`, to: `module = "example.thornmill:records", version = "2.9.0"`, rule: "library-version", at: hiveCatalog + ":2.9.0"},
		{name: "a minimum under the service's", file: hiveCatalog, from: `min-sdk = "26"`, to: `min-sdk = "21"`, rule: "minimum-too-low", at: hiveCatalog + ":21"},
		// source
		{name: "never started on Android", file: hiveApp, from: "        Thornmill.start(this)\n", to: "", rule: "start-missing", at: hiveApp},
		{name: "never started on iOS", file: hiveDelegate, from: "        Burrcatch.watch()\n", to: "", rule: "start-missing", at: hiveDelegate},
		{name: "started twice", file: hiveApp, from: "        Thornmill.start(this)\n", to: "        Thornmill.start(this)\n        Thornmill.start(this)\n", rule: "start-twice", at: hiveApp + ":Thornmill.start"},
		{name: "started after the first screen", file: hiveDelegate, from: "        Thornmill.start()\n", to: "", more: func(t *testing.T, s *studio) {
			s.change(t, hiveDelegate, "        window?.makeKeyAndVisible()\n", "        window?.makeKeyAndVisible()\n        Thornmill.start()\n")
		}, rule: "start-late", at: hiveDelegate + ":Thornmill.start"},
		{name: "no import", file: hiveDelegate, from: "import Treadmark\n", to: "", rule: "import-missing", at: hiveDelegate},
		{name: "no handler on Android", file: hiveScreen, from: "        Gatepost.finish(requestCode, resultCode, data)\n", to: "", rule: "handler-missing", at: hiveScreen},
		{name: "no handler on iOS", file: hiveDelegate, from: "        Gatepost.finish(url)\n", to: "", rule: "handler-missing", at: hiveDelegate},
		{name: "an unissued number in the call", file: hiveApp, from: `"bell-05623-17334"`, to: `"bell-00000-00001"`, rule: "start-differs", at: hiveApp + ":bell-00000"},
		{name: "a letter too few in the call", file: hiveApp, from: `"bell-05623-17334"`, to: `"bell-05623-1733"`, rule: "value-mangled", at: hiveApp + ":bell-05623", say: "the last 1 characters"},
		{name: "no keep rule", file: "android/app/proguard-rules.pro", from: "-keepattributes SourceFile,LineNumberTable\n", to: "", rule: "keep-rule-missing", at: "android/app/proguard-rules.pro"},
	}
}

func TestMistakesAcrossFrameworks(t *testing.T) {
	plant(t, []mistake{
		{name: "the binding is not initialised first", tree: "tern-crossing", services: "bellhanger", file: "lib/main.dart", from: "  WidgetsFlutterBinding.ensureInitialized();\n", to: "", rule: "start-unbound", at: "lib/main.dart"},
		{name: "the start is not awaited", tree: "tern-crossing", services: "bellhanger", file: "lib/main.dart", from: "  await Bellhanger.hang(", to: "  Bellhanger.hang(", rule: "start-unbound", at: "lib/main.dart:Bellhanger.hang"},
		{name: "the package is not in the list", tree: "tern-crossing", services: "bellhanger", more: func(t *testing.T, s *studio) { s.without(t, "pubspec.yaml", "bellhanger_flutter") }, rule: "package-entry-missing", at: "pubspec.yaml"},
		{name: "the root component is not wrapped", tree: "seedswap", services: "patchquay", more: func(t *testing.T, s *studio) {
			s.without(t, "index.js", "AppRegistry.registerComponent")
			s.append("index.js", "AppRegistry.registerComponent(appName, () => App);\n")
		}, rule: "root-unwrapped", at: "index.js"},
		{name: "no update check", tree: "seedswap", services: "patchquay", more: func(t *testing.T, s *studio) { s.without(t, "index.js", "patchquay.look") }, rule: "start-missing", at: "index.js"},
		{name: "the package for development only", tree: "seedswap", services: "patchquay", more: func(t *testing.T, s *studio) {
			s.without(t, "package.json", "@patchquay/react")
			s.change(t, "package.json", "  \"dependencies\": {", "  \"devDependencies\": {\n    \"@patchquay/react\": \"3.2.0\"\n  },\n  \"dependencies\": {")
		}, rule: "package-entry-missing", at: "package.json"},
	})
}

// without takes the one line out that holds a text.
func (s *studio) without(t *testing.T, file, text string) {
	t.Helper()
	lines := strings.SplitAfter(string(s.files[file].Data), "\n")
	i := slices.IndexFunc(lines, func(l string) bool { return strings.Contains(l, text) })
	if i < 0 {
		t.Fatalf("%s has no %q:\n%s", file, text, s.files[file].Data)
	}
	s.files[file] = &fstest.MapFile{Data: []byte(strings.Join(slices.Delete(lines, i, i+1), ""))}
}

func (s *studio) append(file, text string) {
	s.files[file] = &fstest.MapFile{Data: append(bytes.Clone(s.files[file].Data), text...)}
}
