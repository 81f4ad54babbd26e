package wiring

import (
	"bytes"
	"fmt"
	"os"
	"strings"
	"sync"
	"testing"
	"testing/fstest"

	"ligare/core/binding"
	"ligare/core/ident"
	"ligare/core/sheet"
	"ligare/core/survey"
	"ligare/core/tree"
	"ligare/sheets"
)

func thornmill(t testing.TB) (*sheet.Sheet, sheet.Library) {
	t.Helper()
	all, lib := shipped(t)
	return all["thornmill"], lib
}

var (
	loadSheets  = sync.OnceValues(func() (map[string]*sheet.Sheet, error) { return sheet.Load(sheets.FS) })
	loadLibrary = sync.OnceValues(func() (sheet.Library, error) { return sheet.LoadLibrary(sheets.FS) })
)

// shipped gives every sheet that ships, and the library; they are read once.
func shipped(t testing.TB) (map[string]*sheet.Sheet, sheet.Library) {
	t.Helper()
	all, err := loadSheets()
	if err != nil {
		t.Fatal(err)
	}
	lib, err := loadLibrary()
	if err != nil {
		t.Fatal(err)
	}
	return all, lib
}

// snapshot copies a folder into memory.
func snapshot(t testing.TB, dir string) fstest.MapFS {
	t.Helper()
	out := fstest.MapFS{}
	tr := tree.New(os.DirFS(dir))
	tr.Walk(func(name string) {
		b, err := tr.Read(name)
		if err != nil {
			t.Fatal(err)
		}
		out[name] = &fstest.MapFile{Data: b}
	})
	return out
}

func clone(f fstest.MapFS) fstest.MapFS {
	out := fstest.MapFS{}
	for k, v := range f {
		out[k] = &fstest.MapFile{Data: append([]byte{}, v.Data...)}
	}
	return out
}

// after gives a file system as a tree's edits left it.
func after(base fstest.MapFS, t *tree.Tree) fstest.MapFS {
	out := clone(base)
	for _, n := range t.Changed() {
		if b, err := t.Read(n); err == nil {
			out[n] = &fstest.MapFile{Data: b}
		} else {
			delete(out, n)
		}
	}
	return out
}

func androidConfig(id, number string, revision int) []byte {
	return []byte(fmt.Sprintf("<?xml version=\"1.0\" encoding=\"utf-8\"?>\n<thornmill-config revision=\"%d\">\n  <app package=\"%s\" number=\"%s\" key=\"tmk-1\"/>\n  <records address=\"http://127.0.0.1:1/records\"/>\n</thornmill-config>\n", revision, id, number))
}

func iosConfig(id, number string, revision int) []byte {
	return []byte(fmt.Sprintf("{\"revision\": %d, \"app\": {\"bundle\": %q, \"number\": %q, \"key\": \"tmk-2\"}, \"records\": {\"address\": \"http://127.0.0.1:1/records\"}}\n", revision, id, number))
}

// load surveys a tree and registers every identity it is bound to, one registration an environment.
func load(t testing.TB, base fstest.MapFS) Input {
	t.Helper()
	sh, lib := thornmill(t)
	tr := tree.New(base)
	r := survey.Survey(tr)
	in := Input{Tree: tr, Survey: r, Binding: binding.Propose("app", r), Library: lib}
	n := 0
	for _, env := range in.Binding.Environments() {
		reg := &Registration{Service: "thornmill", Environment: env, Revision: 1, Sheet: sh}
		for _, id := range in.Binding.Identities(r) {
			if id.Environment != env {
				continue
			}
			n++
			number := fmt.Sprintf("%015d", 123456789012340+n)
			x := Registered{Platform: id.Platform, ID: id.ID, Values: map[string]string{"number": number, "public-key": "k"}}
			if x.Files = map[string][]byte{"android-config": androidConfig(id.ID, number, 1)}; id.Platform == ident.IOS {
				x.Files = map[string][]byte{"ios-config": iosConfig(id.ID, number, 1)}
			}
			reg.Identities = append(reg.Identities, x)
		}
		in.Registrations = append(in.Registrations, reg)
	}
	return in
}

func placeAll(t testing.TB, in Input) *Plan {
	t.Helper()
	answers, err := Evaluate(in)
	if err != nil {
		t.Fatal(err)
	}
	p, err := Make(in, answers, Never)
	if err != nil {
		t.Fatal(err)
	}
	if err := p.Commit(in, answers); err != nil {
		t.Fatal(err)
	}
	return p
}

// trees the round trip is tried on: the demo's and small ones in the shapes that templates have.
func trees(t testing.TB) map[string]fstest.MapFS {
	file := func(s string) *fstest.MapFile { return &fstest.MapFile{Data: []byte(s)} }
	manifest := `<manifest xmlns:android="http://schemas.android.com/apk/res/android"><application><activity android:name=".Main" android:exported="true"><intent-filter><action android:name="android.intent.action.MAIN"/><category android:name="android.intent.category.LAUNCHER"/></intent-filter></activity></application></manifest>`
	hive := snapshot(t, "../../demo/studio/hivelog")
	pods := clone(hive)
	pods["ios/Podfile"] = file("platform :ios, '16.0'\n\ntarget 'Hivelog' do\n  use_frameworks!\n\n  post_install do |installer|\n  end\nend\n")
	crlf := clone(hive)
	for n, f := range crlf {
		if strings.HasSuffix(n, ".kts") || strings.HasSuffix(n, ".swift") || strings.HasSuffix(n, ".kt") || strings.HasSuffix(n, "strings.xml") {
			f.Data = bytes.ReplaceAll(f.Data, []byte("\n"), []byte("\r\n"))
		}
	}
	return map[string]fstest.MapFS{
		"hivelog": hive, "hivelog with pods": pods, "hivelog with CRLF": crlf,
		"groovy, java, no application class": {
			"settings.gradle":                     file("include ':app'"),
			"build.gradle":                        file("buildscript {\n    repositories { google() }\n}\n\ntask clean(type: Delete) { delete 'x' }"),
			"app/build.gradle":                    file("apply plugin: 'com.android.application'\n\nandroid {\n    namespace 'example.small.ns'\n    defaultConfig { applicationId \"example.small\" }\n}\n\ndependencies {\n    implementation 'a:b:1'\n}"),
			"app/src/main/AndroidManifest.xml":    file(manifest),
			"app/src/main/java/x/Main.java":       file("package example.small.ns;\n\nimport a.Base;\n\npublic class Main extends Base {}\n"),
			"app/src/main/res/values/strings.xml": file("<resources/>\n"),
			".gitignore":                          file("*.apk"),
		},
		"flavors, no resources, no dependencies": {
			"settings.gradle.kts":                   file("include(\":app\")\n"),
			"app/build.gradle.kts":                  file("plugins { id(\"com.android.application\") }\nandroid {\n  namespace = \"example.f\"\n  flavorDimensions += listOf(\"tier\")\n  productFlavors {\n    create(\"lite\") { applicationId = \"example.f.lite\" }\n    create(\"full\") { applicationId = \"example.f.full\" }\n  }\n}\n"),
			"app/src/main/AndroidManifest.xml":      file(manifest),
			"app/src/main/kotlin/example/f/Main.kt": file("package example.f\n\nclass Main : Activity() {\n  val x = 1\n}\n"),
		},
		"declarative app": func() fstest.MapFS {
			d := clone(hive)
			for n := range d {
				if strings.HasPrefix(n, "android/") {
					delete(d, n)
				}
			}
			d["ios/Hivelog/AppDelegate.swift"] = file("import SwiftUI\n\n@main\nstruct HivelogApp: App {\n    var body: some Scene {\n        WindowGroup { Text(\"x\") }\n    }\n}\n")
			return d
		}(),
	}
}

func TestPlacingTwiceChangesNothingAndUnplacingGivesTheTreeBack(t *testing.T) {
	for name, base := range trees(t) {
		in := load(t, base)
		p := placeAll(t, in)
		for _, k := range p.Kept {
			t.Errorf("%s: %s was not placed: %s %s", name, k.Placement, k.State, k.Detail)
		}
		if len(p.Ops) == 0 {
			t.Fatalf("%s: nothing was placed", name)
		}
		placed := after(base, in.Tree)

		again := load(t, placed)
		answers, err := Evaluate(again)
		if err != nil {
			t.Fatal(err)
		}
		for _, a := range answers {
			if !a.Good() {
				t.Errorf("%s: after placing, %s (%s) is %s: %s", name, a.Placement, a.Site(), a.State, a.Detail)
			}
		}
		if q := placeAll(t, again); len(q.Ops) > 0 || len(again.Tree.Changed()) > 0 {
			t.Errorf("%s: placing twice made %d edits and changed %v", name, len(q.Ops), again.Tree.Changed())
		}

		fresh := tree.New(placed) // as in a new clone: no journal, only what is committed
		for _, reg := range again.Registrations {
			left, err := Unplace(fresh, reg.Key(), false)
			if err != nil || len(left) > 0 {
				t.Errorf("%s: unplace %s: %v %v", name, reg.Key(), left, err)
			}
		}
		same(t, name, base, after(placed, fresh))
	}
}

func same(t *testing.T, name string, want, got fstest.MapFS) {
	t.Helper()
	for n, f := range want {
		if g := got[n]; g == nil {
			t.Errorf("%s: %s is gone", name, n)
		} else if !bytes.Equal(f.Data, g.Data) {
			t.Errorf("%s: %s differs:\n%s", name, n, g.Data)
		}
	}
	for n := range got {
		if want[n] == nil {
			t.Errorf("%s: %s is left behind", name, n)
		}
	}
}

func TestOneRegistrationLeavesAnotherStays(t *testing.T) {
	base := trees(t)["hivelog"]
	in := load(t, base)
	placeAll(t, in)
	placed := after(base, in.Tree)
	for _, first := range []string{"thornmill-development", "thornmill-production"} {
		tr := tree.New(placed)
		if _, err := Unplace(tr, first, false); err != nil {
			t.Fatal(err)
		}
		left := load(t, after(placed, tr))
		answers, err := Evaluate(left)
		if err != nil {
			t.Fatal(err)
		}
		for _, a := range answers {
			if a.Registration != first && !a.Good() {
				t.Errorf("after %s left, %s of %s is %s: %s", first, a.Placement, a.Registration, a.State, a.Detail)
			}
		}
	}
}

func TestUnplaceKeepsWhatWasChangedSince(t *testing.T) {
	base := trees(t)["hivelog"]
	in := load(t, base)
	placeAll(t, in)
	placed := after(base, in.Tree)
	edit := func(name, from, to string) {
		f := placed[name]
		if !strings.Contains(string(f.Data), from) {
			t.Fatalf("%s has no %q", name, from)
		}
		f.Data = []byte(strings.Replace(string(f.Data), from, to, 1))
	}
	edit("android/app/src/main/java/example/larkfield/hivelog/HivelogApplication.kt", "Thornmill.start(this)", "Thornmill.start(this.applicationContext)")
	edit("android/app/build.gradle.kts", "implementation(libs.androidx.activity)", "implementation(libs.androidx.activity)\n    implementation(\"example.other:own:1\") // mine")
	tr := tree.New(placed)
	var left []Left
	for _, r := range []string{"thornmill-development", "thornmill-production"} {
		l, err := Unplace(tr, r, false)
		if err != nil {
			t.Fatal(err)
		}
		left = append(left, l...)
	}
	if len(left) != 1 || left[0].What != "android-start" || left[0].Place.Line == 0 {
		t.Errorf("left: %+v", left)
	}
	app, _ := tr.Read("android/app/src/main/java/example/larkfield/hivelog/HivelogApplication.kt")
	gradle, _ := tr.Read("android/app/build.gradle.kts")
	if !strings.Contains(string(app), "this.applicationContext") {
		t.Error("the changed call was taken out")
	}
	if !strings.Contains(string(gradle), "// mine") || strings.Contains(string(gradle), "thornmill") {
		t.Errorf("build file:\n%s", gradle)
	}
	if _, err := Unplace(tr, "thornmill-production", true); err != nil {
		t.Fatal(err)
	}
	if app, _ = tr.Read("android/app/src/main/java/example/larkfield/hivelog/HivelogApplication.kt"); strings.Contains(string(app), "Thornmill.start") {
		t.Error("force did not take the changed call out")
	}
}

// each mistake is planted in a placed tree and must be answered by its code, at its place.
func TestMistakes(t *testing.T) {
	const (
		app     = "android/app/"
		strs    = app + "src/release/res/values/strings.xml"
		cfg     = app + "src/release/res/xml/thornmill_config.xml"
		build   = app + "build.gradle.kts"
		project = "ios/Hivelog.xcodeproj/project.pbxproj"
		kt      = app + "src/main/java/example/larkfield/hivelog/HivelogApplication.kt"
		swift   = "ios/Hivelog/AppDelegate.swift"
	)
	base := literally(trees(t)["hivelog"])
	in := load(t, base)
	placeAll(t, in)
	placed := after(base, in.Tree)
	sub := func(name, from, to string) func(fstest.MapFS) {
		return func(f fstest.MapFS) {
			if !strings.Contains(string(f[name].Data), from) {
				t.Fatalf("%s has no %q:\n%s", name, from, f[name].Data)
			}
			f[name].Data = []byte(strings.Replace(string(f[name].Data), from, to, 1))
		}
	}
	move := func(from, to string) func(fstest.MapFS) {
		return func(f fstest.MapFS) {
			f[to] = f[from]
			delete(f, from)
		}
	}
	lineOf := func(name, text string) string {
		before, _, _ := strings.Cut(string(placed[name].Data), text)
		return fmt.Sprintf("%s:%d", name, strings.Count(before, "\n")+1)
	}
	for _, c := range []struct {
		name  string
		plant func(fstest.MapFS)
		state State
		code  string
		at    string // file, or file:line
	}{
		{"config file gone", func(f fstest.MapFS) { delete(f, cfg) }, Absent, "file-missing", cfg},
		{"config file in the module's root", move(cfg, app+"thornmill_config.xml"), WrongPlace, "file-misplaced", app + "thornmill_config.xml:1"},
		{"config file with a copy's name", move(cfg, app+"src/release/res/xml/thornmill_config (1).xml"), WrongPlace, "file-renamed", app + "src/release/res/xml/thornmill_config (1).xml:1"},
		{"config file in other case", move("ios/Hivelog/Thornmill.json", "ios/Hivelog/thornmill.json"), WrongPlace, "file-renamed", "ios/Hivelog/thornmill.json:1"},
		{"config file of another app", sub(cfg, "example.larkfield.hivelog", "example.larkfield.seedswap"), Conflicting, "file-of-another", cfg + ":3"},
		{"config file is a web page", func(f fstest.MapFS) { f[cfg].Data = []byte("<!DOCTYPE html><html>") }, Conflicting, "file-unreadable", cfg + ":1"},
		{"config file truncated", func(f fstest.MapFS) { f[cfg].Data = f[cfg].Data[:90] }, Conflicting, "file-unreadable", cfg + ":1"},
		{"config file older than the registration", sub(cfg, "revision=\"1\"", "revision=\"0\""), Conflicting, "file-outdated", cfg + ":2"},
		{"in the project, not in the target", sub(project, "Thornmill.json in Resources */,", "Thornmill.json in Resources */,"), Right, "", ""},
		{"string padded", sub(strs, ">1", "> 1"), Conflicting, "text-padded", strs + ":3"},
		{"string doubled", sub(strs, "</resources>", "<string name=\"thornmill_number\">1</string></resources>"), Twice, "element-twice", strs + ":4"},
		{"string of another app", sub(strs, ">1", ">9"), Conflicting, "text-differs", strs + ":3"},
		{"dependency at another version", sub(build, "core:3.2.0", "core:2.0.0"), Conflicting, "dependency-version", lineOf(build, "thornmill:core")},
		{"dependency twice", sub(build, "implementation(\"example.thornmill:core:3.2.0\")", "implementation(\"example.thornmill:core:3.2.0\")\n    api(\"example.thornmill:core:3.2.0\")"), Twice, "dependency-twice", build},
		{"dependency for tests only", sub(build, "implementation(\"example.thornmill:core:3.2.0\")", "testImplementation(\"example.thornmill:core:3.2.0\")"), WrongPlace, "dependency-misplaced", lineOf(build, "thornmill:core")},
		{"dependency commented out", sub(build, "implementation(\"example.thornmill:core:3.2.0\")", "// implementation(\"example.thornmill:core:3.2.0\")"), Absent, "dependency-missing", build},
		{"start call commented out", sub(kt, "Thornmill.start(this)", "// Thornmill.start(this)"), Absent, "start-missing", kt},
		{"start call twice", sub(kt, "Thornmill.start(this)", "Thornmill.start(this)\n        Thornmill.start(this)"), Twice, "start-twice", kt},
		{"import missing", sub(kt, "import example.thornmill.Thornmill\n", ""), Conflicting, "import-missing", kt},
		{"start after the first screen", func(f fstest.MapFS) {
			sub(swift, "        Thornmill.start()\n", "")(f)
			sub(swift, "        return true", "        Thornmill.start()\n        return true")(f)
		}, WrongPlace, "start-late", swift},
		{"repository only for plugins", func(f fstest.MapFS) {
			s := "android/settings.gradle.kts"
			text := string(f[s].Data)
			i, j := strings.Index(text, "        maven {"), strings.Index(text, "        }\n    }\n}")
			block := text[i : j+len("        }\n")]
			text = strings.Replace(text, block, "", 1)
			f[s].Data = []byte(strings.Replace(text, "        gradlePluginPortal()\n", "        gradlePluginPortal()\n"+block, 1))
		}, WrongPlace, "repository-misplaced", "android/settings.gradle.kts"},
	} {
		f := clone(placed)
		c.plant(f)
		in := load(t, f)
		answers, err := Evaluate(in)
		if err != nil {
			t.Fatalf("%s: %v", c.name, err)
		}
		codes := map[string]bool{}
		var bad []Answer
		for _, a := range answers {
			if !a.Good() {
				codes[a.Code] = true
				bad = append(bad, a)
			}
		}
		if c.state == Right {
			if len(bad) > 0 {
				t.Errorf("%s: %+v", c.name, bad)
			}
			continue
		}
		if len(codes) != 1 {
			t.Errorf("%s: got %v, want only %s", c.name, codes, c.code)
			continue
		}
		if a := bad[0]; a.Code != c.code || a.State != c.state || !strings.HasPrefix(a.Here.String(), c.at) || a.Detail == "" {
			t.Errorf("%s: got %s %s at %s (%s), want %s %s at %s", c.name, a.State, a.Code, a.Here, a.Detail, c.state, c.code, c.at)
		}
	}
}

func TestFileNotInTarget(t *testing.T) {
	base := trees(t)["hivelog"]
	in := load(t, base)
	placeAll(t, in)
	placed := after(base, in.Tree)
	name := "ios/Hivelog.xcodeproj/project.pbxproj"
	var out []string
	for _, l := range strings.SplitAfter(string(placed[name].Data), "\n") {
		if !strings.Contains(l, "Thornmill.json in Resources */,") {
			out = append(out, l)
		}
	}
	placed[name].Data = []byte(strings.Join(out, ""))
	answers, err := Evaluate(load(t, placed))
	if err != nil {
		t.Fatal(err)
	}
	for _, a := range answers {
		if a.Placement == "ios-config" && (a.Code != "file-not-in-target" || a.Here.File != name || a.Here.Line == 0) {
			t.Errorf("%+v", a)
		}
	}
	again := load(t, placed)
	placeAll(t, again)
	if got, _ := again.Tree.Read(name); strings.Count(string(got), "Thornmill.json in Resources */,") != 1 {
		t.Error("placing did not bring the file into the target")
	}
}

func TestServerValuesAreNeverWanted(t *testing.T) {
	sh, _ := thornmill(t)
	src := strings.Replace(string(sh.Source), "${value.number}", "${value.messaging-key}", 1)
	if _, err := sheet.Parse("x", []byte(src)); err == nil || !strings.Contains(err.Error(), "server value") {
		t.Errorf("a sheet that places a server value was accepted: %v", err)
	}
}

func TestFetchedConfigFilesAreIgnored(t *testing.T) {
	base := trees(t)["hivelog"]
	in := load(t, base)
	in.Binding.ConfigFiles = binding.Fetched
	placeAll(t, in)
	got, _ := in.Tree.Read(".gitignore")
	if !strings.Contains(string(got), "\n/android/app/src/debug/res/xml/thornmill_config.xml\n") {
		// .gitignore is hidden from the snapshot's walk: a new one is made
		if !strings.HasPrefix(string(got), "/android/app/src/debug/res/xml/thornmill_config.xml\n") {
			t.Errorf("ignore file:\n%s", got)
		}
	}
}

// A target that builds two identities has a config file for each configuration, and a script phase copies the right one.
func TestTwoIdentitiesInOneTarget(t *testing.T) {
	base := clone(trees(t)["hivelog"])
	name := "ios/Hivelog.xcodeproj/project.pbxproj"
	base[name].Data = []byte(strings.Replace(string(base[name].Data), "PRODUCT_BUNDLE_IDENTIFIER = example.larkfield.hivelog;", "PRODUCT_BUNDLE_IDENTIFIER = example.larkfield.hivelog.dev;", 1))
	in := load(t, base)
	if p := placeAll(t, in); len(p.Kept) > 0 {
		t.Errorf("%+v", p.Kept)
	}
	placed := after(base, in.Tree)
	for file, id := range map[string]string{"ios/ConfigFiles/Debug/Thornmill.json": "example.larkfield.hivelog.dev", "ios/ConfigFiles/Release/Thornmill.json": "example.larkfield.hivelog"} {
		if placed[file] == nil || !strings.Contains(string(placed[file].Data), "\""+id+"\"") {
			t.Errorf("%s is %v", file, placed[file])
		}
	}
	if n := strings.Count(string(placed[name].Data), "isa = PBXShellScriptBuildPhase"); n != 1 || !strings.Contains(string(placed[name].Data), `cp \"$SRCROOT/ConfigFiles/$CONFIGURATION/Thornmill.json\"`) {
		t.Errorf("%d script phases", n)
	}
	again := load(t, placed)
	if q := placeAll(t, again); len(q.Ops) > 0 {
		t.Errorf("placing again made %d edits", len(q.Ops))
	}
	for i, reg := range again.Registrations {
		if left, err := Unplace(again.Tree, reg.Key(), false); err != nil || len(left) > 0 {
			t.Errorf("%v %+v", err, left)
		}
		if now, _ := again.Tree.Read(name); i == 0 && !strings.Contains(string(now), "Copy Thornmill.json") {
			t.Error("the script phase left with the first of two registrations")
		}
	}
	same(t, "two identities", base, after(placed, again.Tree))
}

func TestAConditionalBlockIsNotTheBlock(t *testing.T) {
	base := clone(trees(t)["groovy, java, no application class"])
	base["app/build.gradle"].Data = []byte("apply plugin: 'com.android.application'\n\nandroid { namespace 'example.small.ns'\n defaultConfig { applicationId 'example.small'; minSdkVersion 24 } }\n\nif (x) {\n    dependencies {\n        implementation 'only:sometimes:1'\n    }\n}\n")
	in := load(t, base)
	placeAll(t, in)
	got, err := in.Tree.Read("app/build.gradle")
	if err != nil || !strings.HasSuffix(string(got), "}\n\ndependencies {\n    implementation 'example.thornmill:core:3.2.0'\n    implementation 'example.thornmill:records:3.2.0'\n}\n") {
		t.Errorf("%s %v", got, err)
	}
}

// literally gives a tree one of whose libraries does not come through the catalog, so that others are written so too.
func literally(base fstest.MapFS) fstest.MapFS {
	const build = "android/app/build.gradle.kts"
	out := clone(base)
	out[build].Data = bytes.Replace(out[build].Data, []byte("dependencies {\n"), []byte("dependencies {\n    implementation(\"a.b:c:1\")\n"), 1)
	return out
}

func TestOnlyOldFilesAreExchangedByARefresh(t *testing.T) {
	base := literally(trees(t)["hivelog"])
	in := load(t, base)
	placeAll(t, in)
	placed := after(base, in.Tree)
	build := "android/app/build.gradle.kts"
	placed[build].Data = []byte(strings.Replace(string(placed[build].Data), "core:3.2.0", "core:1.0.0", 1))
	again := load(t, placed)
	for _, reg := range again.Registrations {
		reg.Revision = 2
		for i := range reg.Identities {
			x := &reg.Identities[i]
			for file, content := range x.Files {
				x.Files[file] = []byte(strings.Replace(strings.Replace(string(content), `revision="1"`, `revision="2"`, 1), `"revision": 1`, `"revision": 2`, 1))
			}
		}
	}
	answers, err := Evaluate(again)
	if err != nil {
		t.Fatal(err)
	}
	p, err := Make(again, answers, OldFiles)
	if err != nil {
		t.Fatal(err)
	}
	if len(p.Ops) != 3 || len(p.Kept) != 2 || p.Kept[0].Code != "dependency-version" {
		t.Errorf("%d edits, kept %+v", len(p.Ops), p.Kept)
	}
}
