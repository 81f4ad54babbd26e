package survey

import (
	"fmt"
	"os"
	"path/filepath"
	"sort"
	"strings"
	"testing"
	"time"

	"ligare/core/tree"
)

// healthy is a tree with one file of every kind; a broken file among them must not take the rest away.
func healthy() map[string]string {
	return map[string]string{
		"settings.gradle":                            "include ':app'",
		"gradle/libs.versions.toml":                  "[versions]\nmin = \"24\"\n",
		"app/build.gradle":                           appPlugins + "android { namespace 'n.s'\n defaultConfig { applicationId 'a.b'; minSdk libs.versions.min.get().toInteger() } }",
		"app/src/main/AndroidManifest.xml":           manifestMain,
		"app/src/main/res/values/names.xml":          "<resources><string name='name'>Plain</string></resources>",
		"ios/App.xcodeproj/project.pbxproj":          project("", `PRODUCT_BUNDLE_IDENTIFIER = c.d; INFOPLIST_FILE = App/Info.plist; CODE_SIGN_ENTITLEMENTS = App/App.entitlements; SDKROOT = iphoneos;`, "baseConfigurationReference = X;"),
		"ios/Config/base.xcconfig":                   "X = 1\n",
		"ios/App/Info.plist":                         "<plist><dict><key>CFBundleName</key><string>n</string></dict></plist>",
		"ios/App/App.entitlements":                   "<plist><dict/></plist>",
		"ios/Podfile":                                "target 'App' do\nend\n",
		"flutter/pubspec.yaml":                       "name: x\ndependencies:\n  flutter:\n    sdk: flutter\n",
		"flutter/android/x":                          "",
		"web/package.json":                           `{"dependencies": {"react-native": "0.70.0"}}`,
		"web/ios/x":                                  "",
		"net/A.csproj":                               "<Project><PropertyGroup><TargetFramework>net8.0-android</TargetFramework><OutputType>Exe</OutputType><ApplicationId>e.f</ApplicationId></PropertyGroup></Project>",
		"game/ProjectSettings/ProjectSettings.asset": "PlayerSettings:\n  productName: G\n  applicationIdentifier:\n    Android: g.h\n    iPhone: g.h\n",
	}
}

var spoilt = map[string]string{
	"empty":         "",
	"truncated":     "\x00",
	"binary":        "\x00\x01\x02\xff\xfe\xfd bplist00 PK\x03\x04",
	"bad plist":     "bplist00\xd1\x00\x00\x08\x00\x00\x00\x00\x00\x00\x01\x01\x00\x00\x00\x00\x00\x00\x00\x01\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x0b",
	"wrong UTF-8":   "\xc3\x28 = \"\xa0\xa1\"",
	"UTF-16":        "\xff\xfea\x00b\x00",
	"error page":    "<!DOCTYPE html><html><body>404</body></html>",
	"unclosed":      "{ ( [ \" <a ",
	"deeply nested": strings.Repeat("{", 20000) + strings.Repeat("[", 20000),
	"deep elements": strings.Repeat("<a>", 20000),
	"long line":     strings.Repeat("a.b(", 30000),
}

// Each kind of file is spoilt in each way; the survey ends, does not fall over, and still answers for the rest.
func TestSpoiltFilesCostOnlyThemselves(t *testing.T) {
	base := Survey(in(healthy()))
	if len(base.Android.Modules) != 3 || len(base.IOS.Projects) != 2 {
		t.Fatalf("the healthy tree: %d modules, %d projects, %+v", len(base.Android.Modules), len(base.IOS.Projects), base.Unresolved)
	}
	for name := range healthy() {
		for kind, text := range spoilt {
			files := healthy()
			files[name] = text
			start := time.Now()
			r := Survey(in(files))
			if took := time.Since(start); took > 20*time.Second {
				t.Errorf("%s %s: %s", name, kind, took)
			}
			lost := len(base.Android.Modules) - len(r.Android.Modules) + len(base.IOS.Projects) - len(r.IOS.Projects)
			if lost > 2 || lost > 1 && !strings.HasPrefix(name, "game/") {
				t.Errorf("%s %s: %d apps are lost", name, kind, lost)
			}
			if lost > 0 && kind != "empty" && !strings.HasSuffix(name, "build.gradle") {
				found := false
				for _, q := range r.Unresolved {
					found = found || q.File == name
				}
				if !found && !strings.HasSuffix(name, ".asset") {
					t.Errorf("%s %s: nothing is said of the file: %+v", name, kind, r.Unresolved)
				}
			}
		}
	}
}

func TestCyclesEnd(t *testing.T) {
	files := healthy()
	files["ios/Config/base.xcconfig"] = "#include \"other.xcconfig\"\nA = $(B)\nB = $(A)\nPRODUCT_NAME = $(A)\n"
	files["ios/Config/other.xcconfig"] = "#include \"base.xcconfig\"\n"
	files["app/build.gradle"] += "\napply from: 'a.gradle'\n"
	files["app/a.gradle"] = "apply from: 'b.gradle'\next.x = y\n"
	files["app/b.gradle"] = "apply from: 'a.gradle'\next.y = x\nandroid { defaultConfig { versionName x } }\n"
	files["net/A.csproj"] = strings.Replace(files["net/A.csproj"], "<Project>", `<Project><Import Project="A.csproj"/><PropertyGroup><Q>$(R)</Q><R>$(Q)</R></PropertyGroup>`, 1)
	files["settings.gradle"] = "include ':app', ':lib'"
	files["app/build.gradle"] += "dependencies { implementation project(':lib') }\n"
	files["lib/build.gradle"] = "apply plugin: 'com.android.library'\ndependencies { implementation project(':app'); implementation project(':lib') }\n"
	r := Survey(in(files))
	said := false
	for _, q := range r.Unresolved {
		said = said || strings.Contains(q.Why, "includes itself")
	}
	if !said {
		t.Errorf("%+v", r.Unresolved)
	}
	if v := r.Android.Modules[0].Variants[0]; v.VersionName.Unresolved == "" {
		t.Errorf("version name: %s", v.VersionName.Say())
	}
}

// On a disk: links that leave the tree or lead in circles, folders that cannot be entered, files too large to be settings.
func TestOddDisks(t *testing.T) {
	dir, outside := t.TempDir(), t.TempDir()
	put := func(base, name, text string) {
		t.Helper()
		at := filepath.Join(base, name)
		if err := os.MkdirAll(filepath.Dir(at), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(at, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	for name, text := range healthy() {
		put(dir, name, text)
	}
	put(outside, "build.gradle", appPlugins+"android { defaultConfig { applicationId 'out.side' } }")
	put(outside, "Info.plist", "<plist><dict><key>CFBundleIdentifier</key><string>out.side</string></dict></plist>")
	link := func(to, at string) {
		t.Helper()
		if err := os.Symlink(to, filepath.Join(dir, at)); err != nil {
			t.Fatal(err)
		}
	}
	link(outside, "escape")
	link("..", "app/loop")
	if err := os.Remove(filepath.Join(dir, "ios/App/Info.plist")); err != nil {
		t.Fatal(err)
	}
	link(filepath.Join(outside, "Info.plist"), "ios/App/Info.plist")
	put(dir, "app/src/main/res/values/huge.xml", "<resources>"+strings.Repeat(" ", tree.MaxFile)+"</resources>")
	root, err := os.OpenRoot(dir)
	if err != nil {
		t.Fatal(err)
	}
	r := Survey(tree.New(root.FS()))
	for _, m := range r.Android.Modules {
		for _, v := range m.Variants {
			if v.ApplicationID.String() == "out.side" {
				t.Error("a folder outside the tree was read")
			}
		}
	}
	c := r.IOS.Projects[0].Targets[0].Configurations[0]
	if c.BundleID.String() != "c.d" || c.InfoPlist.Known() {
		t.Errorf("a link out of the tree was followed: %s %s", c.BundleID.Say(), c.InfoPlist.Say())
	}
	if s := fmt.Sprint(r.Unresolved); !strings.Contains(s, "huge.xml") || !strings.Contains(s, "larger than 4 MB") {
		t.Errorf("a huge file is not said: %s", s)
	}
	if os.Getuid() == 0 {
		return // root may enter every folder
	}
	if err := os.Chmod(filepath.Join(dir, "flutter"), 0); err != nil {
		t.Fatal(err)
	}
	defer func() {
		if err := os.Chmod(filepath.Join(dir, "flutter"), 0o755); err != nil {
			t.Fatal(err)
		}
	}()
	r = Survey(tree.New(root.FS()))
	if s := fmt.Sprint(r.Unresolved); !strings.Contains(s, "folder flutter") {
		t.Errorf("a closed folder is not said: %s", s)
	}
}

func FuzzSurvey(f *testing.F) {
	names := []string{}
	for n, text := range healthy() {
		names = append(names, n)
		_ = text
	}
	sort.Strings(names)
	for i, n := range names {
		f.Add(i, healthy()[n])
	}
	for _, s := range []string{"android { buildTypes { all { } } }", "def x() { x() }\nandroid { defaultConfig { applicationId x() } }", "<a Condition=\"'$(A' == (\"/>", "k: &a [*a]", "%TAG ! x\n--- !x!y &1\n"} {
		for i := range names {
			f.Add(i, s)
		}
	}
	f.Fuzz(func(t *testing.T, which int, text string) {
		files := healthy()
		files[names[((which%len(names))+len(names))%len(names)]] = text
		r := Survey(in(files))
		for _, m := range r.Android.Modules {
			for _, v := range m.Variants {
				v.Each(func(name string, x Fact) {
					if x.Known() && (x.Unresolved != "" || len(x.Possible) > 0) {
						t.Errorf("%s has two answers: %+v", name, x)
					}
				})
			}
		}
	})
}
