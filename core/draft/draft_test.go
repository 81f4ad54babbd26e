package draft

import (
	"bytes"
	"cmp"
	"io/fs"
	"maps"
	"os"
	"strings"
	"testing"
	"testing/fstest"

	"ligare/core/sheet"
	"ligare/core/survey"
	"ligare/core/tree"
	"ligare/sheets"
)

// read parses a draft: whatever was found, it is a sheet as it is.
func read(t *testing.T, text []byte) *sheet.Sheet {
	t.Helper()
	s, err := sheet.Parse("draft.yaml", text)
	if err != nil {
		t.Fatalf("%v\n%s", err, text)
	}
	lib, err := sheet.LoadLibrary(sheets.FS)
	if err != nil {
		t.Fatal(err)
	}
	if err := lib.Check(s); err != nil {
		t.Fatalf("%v\n%s", err, text)
	}
	return s
}

func TestFromAConfigFile(t *testing.T) {
	for name, src := range map[string]string{
		"moss.json":       `{"issue": 3, "app": {"id": "example.larkfield.hivelog", "key": "mld_abcdefghij0123456789", "ledger": "12345678"}, "name": "Hive log"}`,
		"moss.xml":        "<moss issue='3'><app id='example.larkfield.hivelog' key='mld_abcdefghij0123456789' ledger='12345678' name='Hive log'/></moss>",
		"moss.plist":      `<plist version="1.0"><dict><key>issue</key><integer>3</integer><key>app</key><dict><key>id</key><string>example.larkfield.hivelog</string><key>key</key><string>mld_abcdefghij0123456789</string><key>ledger</key><string>12345678</string></dict></dict></plist>`,
		"moss.yaml":       "issue: 3\napp:\n  id: example.larkfield.hivelog\n  key: mld_abcdefghij0123456789\n  ledger: '12345678'\n",
		"moss.toml":       "issue = 3\n[app]\nid = 'example.larkfield.hivelog'\nkey = 'mld_abcdefghij0123456789'\nledger = '12345678'\n",
		"moss.properties": "issue=3\nid=example.larkfield.hivelog\nkey=mld_abcdefghij0123456789\nledger=12345678\n",
	} {
		d := New("Moss Ledger")
		if err := d.File(name, "android/app/src/main/assets/"+name, []byte(src)); err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		s := read(t, d.Write())
		if s.Service != "moss-ledger" || len(s.Issues.Files) != 1 || s.Issues.Files[0].Name != name || s.Placements[0].With["folder"] != "assets" {
			t.Errorf("%s: %+v", name, s)
		}
		got, err := s.Issues.Files[0].Contents([]byte(src)) // the drafted pointers read the file they came from
		if err != nil {
			t.Fatal(err)
		}
		for fact, want := range map[string]string{"identity": "example.larkfield.hivelog", "revision": "3", "key": "mld_abcdefghij0123456789", "ledger": "12345678"} {
			if r, ok := sheet.One(got, fact); !ok || r.Value != want {
				t.Errorf("%s: %s is %+v", name, fact, r)
			}
		}
		if v := s.Value("key"); v == nil || v.Pattern != "mld_[a-z0-9]{20}" {
			t.Errorf("%s: %+v", name, v)
		}
	}
	if err := New("x").File("picture.png", "", []byte("\x89PNG\r\n")); err == nil {
		t.Error("a picture was taken for a config file")
	}
}

const build = `plugins { id("com.android.application") }
android { namespace = "a.b"; defaultConfig { applicationId = "example.larkfield.hivelog" } }
dependencies {
    implementation("androidx.core:core:1.0.0")
%s}
`

func TestFromAChange(t *testing.T) {
	at := func(dep, meta, extra string) *survey.Report {
		return survey.Survey(tree.New(fstest.MapFS{
			"settings.gradle.kts":                   {Data: []byte(`include(":app")`)},
			"app/build.gradle.kts":                  {Data: []byte(strings.Replace(build, "%s", dep, 1))},
			"app/src/main/AndroidManifest.xml":      {Data: []byte(`<manifest xmlns:android="http://schemas.android.com/apk/res/android"><application android:name=".App">` + meta + `</application></manifest>`)},
			"app/src/main/java/a/b/App.kt":          {Data: []byte("package a.b\n\nclass App : Application() {\n    override fun onCreate() {\n        super.onCreate()\n" + extra + "    }\n}\n")},
			"app/src/main/res/values/strings.xml":   {Data: []byte("<resources><string name='app'>Hive</string></resources>")},
			"app/src/main/assets/other/readme.json": {Data: []byte(`{"note": "nothing"}`)},
		}))
	}
	before := at("", "", "")
	after := at("    implementation(\"example.moss:ledger:2.0.0\")\n", `<meta-data android:name="example.moss.KEY" android:value="mld_abcdefghij0123456789"/>`, "        Moss.open(this)\n")
	added := map[string][]byte{"app/src/main/assets/moss.json": []byte(`{"app": "example.larkfield.hivelog", "key": "mld_abcdefghij0123456789"}`), "app/src/main/assets/other/readme.json": []byte(`{"note": "nothing"}`), ".ligare/placed/x.yaml": []byte("sha256: abcdef0123456789")}
	d := New("Moss")
	d.Change(before, after, added)
	s := read(t, d.Write())
	found := map[string]string{}
	for _, p := range s.Placements {
		found[p.Place] = p.With["module"] + p.With["value"] + p.With["call"] + p.With["file"]
	}
	for place, want := range map[string]string{"dependency": "example.moss:ledger", "manifest-metadata": "${value.key}", "init-call": "Moss.open", "config-file": "moss"} {
		if found[place] != want {
			t.Errorf("%s: %q", place, found[place])
		}
	}
	if len(s.Issues.Files) != 1 || len(s.Issues.Values) != 1 {
		t.Errorf("%+v", s.Issues)
	}
	same := New("Moss")
	same.Change(before, before, nil)
	if !same.Empty() {
		t.Errorf("a change that changes nothing: %s", same.Write())
	}
}

// What a commit did to an Xcode project, its property lists and its start becomes placements, in the same order every time.
func TestFromAChangeOfAnAppleApp(t *testing.T) {
	base := fstest.MapFS{}
	from := os.DirFS("../../demo/studio/hivelog")
	err := fs.WalkDir(from, "ios", func(name string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return err
		}
		b, err := fs.ReadFile(from, name)
		base[name] = &fstest.MapFile{Data: b}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	wired := maps.Clone(base)
	change := func(name, old, new string) {
		t.Helper()
		text := string(wired[name].Data)
		if !strings.Contains(text, old) {
			t.Fatalf("%s has no %q", name, old)
		}
		wired[name] = &fstest.MapFile{Data: []byte(strings.ReplaceAll(text, old, new))}
	}
	change("ios/Hivelog/Info.plist", "<key>LSRequiresIPhoneOS</key>", `<key>MossKey</key><string>mld_abcdefghij0123456789</string>
	<key>NSLocationWhenInUseUsageDescription</key><string>To find the hive.</string>
	<key>CFBundleURLTypes</key><array><dict><key>CFBundleURLSchemes</key><array><string>moss-hivelog</string></array></dict></array>
	<key>LSApplicationQueriesSchemes</key><array><string>mossapp</string></array>
	<key>UIBackgroundModes</key><array><string>fetch</string></array>
	<key>LSRequiresIPhoneOS</key>`)
	change("ios/Hivelog.xcodeproj/project.pbxproj", "INFOPLIST_FILE = Hivelog/Info.plist;", "INFOPLIST_FILE = Hivelog/Info.plist;\n\t\t\t\tCODE_SIGN_ENTITLEMENTS = Hivelog/Hivelog.entitlements;")
	change("ios/Hivelog/AppDelegate.swift", "        return true", `        Moss.open("mld_abcdefghij0123456789")`+"\n        return true")
	wired["ios/Hivelog/Hivelog.entitlements"] = &fstest.MapFile{Data: []byte(`<plist version="1.0"><dict><key>aps-environment</key><string>production</string>
		<key>com.apple.developer.associated-domains</key><array><string>applinks:moss.example</string></array></dict></plist>`)}
	wired["ios/Podfile"] = &fstest.MapFile{Data: []byte("target 'Hivelog' do\n  pod 'MossLedger', '~> 2.0'\nend\n")}
	want := "background-mode fetch, url-scheme moss-hivelog, query-scheme mossapp, associated-domain moss.example, plist-key ${value.key}, usage-description To find the hive., init-call Moss.open, entitlement production, pod MossLedger"
	var first []byte
	for range 8 {
		d := New("Moss")
		d.Change(survey.Survey(tree.New(base)), survey.Survey(tree.New(wired)), nil)
		text := d.Write()
		s := read(t, text)
		if first == nil {
			first = text
		}
		if !bytes.Equal(text, first) {
			t.Fatalf("two drafts of one change:\n%s\n%s", first, text)
		}
		got := map[string]bool{}
		for _, p := range s.Placements {
			got[p.Place+" "+cmp.Or(p.With["value"], p.With["reason"], p.With["call"], p.With["pod"], p.With["scheme"], p.With["mode"], p.With["domain"])] = true
		}
		for _, w := range strings.Split(want, ", ") {
			if !got[w] {
				t.Errorf("no %s in %v", w, got)
			}
			delete(got, w)
		}
		if len(got) > 0 {
			t.Errorf("too much: %v", got)
		}
	}
}

func TestPatterns(t *testing.T) {
	for in, want := range map[string]string{"123456789": "[0-9]{9}", "tmk-00ff": "tmk-[0-9a-f]{4}", "gpc.1234": "gpc[.][0-9]{4}", "ABC123XYZ456": "[A-Z0-9]{12}", "https://a.example/x": `https?://[^\s]+`, "Zz9_": "[A-Za-z0-9_.~-]{4}"} {
		if got := Pattern(in); got != want || !sheet.Match(got, in) {
			t.Errorf("%s: %s", in, got)
		}
	}
}

func FuzzDraft(f *testing.F) {
	f.Add("moss.json", []byte(`{"a": "mld_abcdefghij0123456789"}`))
	f.Add("1.xml", []byte("<a b='12345678'/>"))
	f.Fuzz(func(t *testing.T, name string, src []byte) {
		d := New(name)
		if strings.ContainsAny(name, "/\\") || d.File(name, "", src) != nil {
			return
		}
		if _, err := sheet.Parse("draft", d.Write()); err != nil && !strings.Contains(err.Error(), "control character") && !strings.Contains(err.Error(), "is not a file name") {
			t.Fatalf("%q %q: %v\n%s", name, src, err, d.Write())
		}
	})
}
