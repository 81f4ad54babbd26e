package check

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"ligare/core/binding"
	"ligare/core/ident"
	"ligare/core/sheet"
	"ligare/core/survey"
	"ligare/core/tree"
	"ligare/core/wiring"
	"ligare/sheets"
)

const buildFile = `plugins { id("com.android.application") }
android {
    namespace = "example.app"
    defaultConfig {
        applicationId = "example.app"
        minSdk = 26
    }
}
`

const manifest = `<manifest xmlns:android="http://schemas.android.com/apk/res/android"><application android:name=".App"/></manifest>`

// input makes a module with one registration that covers its identity; change adapts it before it is read.
func input(t *testing.T, change func(files fstest.MapFS, b *binding.Binding, reg *wiring.Registration)) wiring.Input {
	t.Helper()
	all, err := sheet.Load(sheets.FS)
	if err != nil {
		t.Fatal(err)
	}
	lib, err := sheet.LoadLibrary(sheets.FS)
	if err != nil {
		t.Fatal(err)
	}
	files := fstest.MapFS{
		"settings.gradle.kts":              {Data: []byte("include(\":app\")")},
		"app/build.gradle.kts":             {Data: []byte(buildFile)},
		"app/src/main/AndroidManifest.xml": {Data: []byte(manifest)},
		"app/src/main/java/App.kt":         {Data: []byte("package example.app\n\nclass App : Application() {\n}\n")},
	}
	b := &binding.Binding{Format: 1, App: "app", ConfigFiles: binding.Committed, Android: map[string]map[string]binding.Bound{"app": {
		"debug": {Identity: "example.app", Environment: "production"}, "release": {Identity: "example.app", Environment: "production"}}}}
	reg := &wiring.Registration{Service: "thornmill", Environment: "production", Revision: 2, Sheet: all["thornmill"], Values: map[string]string{}, Identities: []wiring.Registered{{
		Platform: ident.Android, ID: "example.app", Values: map[string]string{"number": "123456789012345", "public-key": "k"},
		Files: map[string][]byte{"android-config": []byte("<thornmill-config revision=\"2\"><app package=\"example.app\" number=\"123456789012345\" key=\"k\"/><records address=\"http://x\"/></thornmill-config>")},
	}}}
	if change != nil {
		change(files, b, reg)
	}
	tr := tree.New(files)
	in := wiring.Input{Tree: tr, Survey: survey.Survey(tr), Binding: b, Library: lib}
	if reg.Sheet != nil {
		in.Registrations = []*wiring.Registration{reg}
	}
	return in
}

// placed gives the input with everything placed.
func placed(t *testing.T, in wiring.Input) wiring.Input {
	t.Helper()
	answers, err := wiring.Evaluate(in)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := wiring.Make(in, answers, wiring.Never); err != nil {
		t.Fatal(err)
	}
	return in
}

func run(t *testing.T, in wiring.Input) *Result {
	t.Helper()
	answers, err := wiring.Evaluate(in)
	if err != nil {
		t.Fatal(err)
	}
	return Run(Input{Input: in, Answers: answers, Now: time.Date(2026, 11, 1, 0, 0, 0, 0, time.UTC)})
}

func TestACorrectAppGetsSilence(t *testing.T) {
	r := run(t, placed(t, input(t, nil)))
	if len(r.Findings) > 0 || len(r.NotLooked) > 0 {
		t.Errorf("%+v %+v", r.Findings, r.NotLooked)
	}
	others := 0
	for _, x := range Rules() {
		if x.By != "" || x.Package == "only" {
			others++
		}
	}
	if len(r.Looked) != len(Rules())-others {
		t.Errorf("%d of %d rules looked", len(r.Looked), len(Rules()))
	}
}

func TestEachRuleSpeaks(t *testing.T) {
	set := func(name, from, to string) func(fstest.MapFS, *binding.Binding, *wiring.Registration) {
		return func(f fstest.MapFS, _ *binding.Binding, _ *wiring.Registration) {
			if !strings.Contains(string(f[name].Data), from) {
				t.Fatalf("%s has no %q", name, from)
			}
			f[name] = &fstest.MapFile{Data: []byte(strings.Replace(string(f[name].Data), from, to, 1))}
		}
	}
	const build = "app/build.gradle.kts"
	for _, c := range []struct {
		rule   string
		change func(fstest.MapFS, *binding.Binding, *wiring.Registration)
		line   int
		say    string
	}{
		{"identifier-letter-case", set(build, `applicationId = "example.app"`, `applicationId = "example.App"`), 5, "only letter case differs: 'A' where 'a'"},
		{"identifier-differs", set(build, `applicationId = "example.app"`, `applicationId = "example.other"`), 5, "another value"},
		{"identifier-grammar", set(build, `applicationId = "example.app"`, `applicationId = "example.a-p"`), 5, "a hyphen"},
		{"identifier-not-registered", func(_ fstest.MapFS, _ *binding.Binding, r *wiring.Registration) { r.Identities[0].ID = "example.App" }, 5, "example.App is (only letter case differs)"},
		{"identifier-not-registered", func(_ fstest.MapFS, b *binding.Binding, _ *wiring.Registration) {
			b.Android["app"]["debug"] = binding.Bound{Identity: "example.app", Environment: "development"}
		}, 5, "Thornmill is registered for production only"},
		{"variant-unbound", func(_ fstest.MapFS, b *binding.Binding, _ *wiring.Registration) { delete(b.Android["app"], "debug") }, 5, "Variant debug"},
		{"variant-gone", func(_ fstest.MapFS, b *binding.Binding, _ *wiring.Registration) {
			b.Android["app"]["beta"] = binding.Bound{Identity: "x.y"}
		}, 1, "has no such variant"},
		{"minimum-too-low", set(build, "minSdk = 26", "minSdk = 21"), 6, "is 21; 23 is needed. Thornmill's library does not install below it."},
		{"source-unreadable", func(f fstest.MapFS, _ *binding.Binding, _ *wiring.Registration) {
			f["app/src/main/AndroidManifest.xml"] = &fstest.MapFile{Data: []byte("<manifest>\n<application></manifest>")}
		}, 2, "<application> is not closed"},
	} {
		r := run(t, input(t, c.change))
		var got *Finding
		for i := range r.Findings {
			if r.Findings[i].Rule == c.rule {
				got = &r.Findings[i]
			}
		}
		if got == nil {
			t.Errorf("%s is silent: %+v", c.rule, r.Findings)
			continue
		}
		if got.Line != c.line || !strings.Contains(got.Message, c.say) || got.Why == "" || got.Fix == "" || strings.Contains(got.Fix, "${") || got.Fingerprint == "" {
			t.Errorf("%s: %+v", c.rule, got)
		}
	}
}

func TestOneCauseOneFinding(t *testing.T) {
	r := run(t, placed(t, input(t, func(f fstest.MapFS, _ *binding.Binding, _ *wiring.Registration) {
		f["app/build.gradle.kts"] = &fstest.MapFile{Data: []byte(strings.Replace(buildFile, `applicationId = "example.app"`, `applicationId = "example.App"`, 1))}
	})))
	if len(r.Findings) != 1 || r.Findings[0].Variant != "debug, release" {
		t.Errorf("%+v", r.Findings)
	}
}

func TestFingerprintsStayWhenLinesMove(t *testing.T) {
	wrong := strings.Replace(buildFile, "minSdk = 26", "minSdk = 21", 1)
	print := func(text string) string {
		r := run(t, input(t, func(f fstest.MapFS, b *binding.Binding, _ *wiring.Registration) {
			f["app/build.gradle.kts"] = &fstest.MapFile{Data: []byte(text)}
			delete(b.Android["app"], "debug")
		}))
		for _, x := range r.Findings {
			if x.Rule == "variant-unbound" {
				return x.Fingerprint
			}
		}
		return ""
	}
	if a, b := print(wrong), print("// a comment\n\n"+wrong); a == "" || a != b {
		t.Errorf("%q and %q", a, b)
	}
}

func TestItNeverPassesBecauseItCouldNotLook(t *testing.T) {
	in := input(t, nil)
	in.Registrations = nil
	r := Run(Input{Input: in, Missing: map[Need]string{Registrations: "the server is away"}})
	if !r.Blind() || len(r.NotLooked) < 10 {
		t.Errorf("%+v", r.NotLooked)
	}
	in = input(t, func(f fstest.MapFS, _ *binding.Binding, _ *wiring.Registration) {
		f["app/build.gradle.kts"] = &fstest.MapFile{Data: []byte(strings.Replace(buildFile, `"example.app"`+"\n        minSdk", "computeId()\n        minSdk", 1))}
		delete(f, "app/src/main/java/App.kt")
	})
	r = run(t, in)
	var reasons []string
	for _, n := range r.NotLooked {
		reasons = append(reasons, n.Reason)
	}
	if all := strings.Join(reasons, "\n"); !r.Blind() || !strings.Contains(all, "computeId()") || !strings.Contains(all, "was not found") {
		t.Errorf("%s", all)
	}
}

func TestEveryRuleIsWhole(t *testing.T) {
	codes := map[string]string{}
	for _, r := range Rules() {
		if r.ID == "" || r.Title == "" || r.Compares == "" || r.Why == "" || r.Fix == "" || rank[r.Severity] == 0 {
			t.Errorf("%+v", r)
		}
		for _, c := range r.Codes {
			if codes[c] != "" {
				t.Errorf("%s belongs to %s and %s", c, codes[c], r.ID)
			}
			codes[c] = r.ID
		}
	}
}

func TestLineUp(t *testing.T) {
	in := placed(t, input(t, nil))
	answers, err := wiring.Evaluate(in)
	if err != nil {
		t.Fatal(err)
	}
	show := func(rows []Row) string {
		var b strings.Builder
		for _, r := range rows {
			fmt.Fprintf(&b, "%s:", r.What)
			for _, c := range []string{"service", "config file", "tree", "last sighting"} {
				fmt.Fprintf(&b, " %s", r.Cells[c].Value+r.Cells[c].Note)
			}
			fmt.Fprintf(&b, " %v %v\n", r.Agrees, r.Odd)
		}
		return b.String()
	}
	want := "application ID: example.app example.app example.app  true []\nApp number: 123456789012345 123456789012345 123456789012345  true []\nPublic key: k k   true []\nrevision: 2 2   true []\nminimum: 26at least 23  26  true []\n"
	if got := show(LineUp(in, answers, nil)); got != want {
		t.Errorf("got\n%swant\n%s", got, want)
	}
	in.Tree.Put("app/src/main/res/xml/thornmill_config.xml", []byte(strings.Replace(string(in.Registrations[0].Identities[0].Files["android-config"]), `revision="2"`, `revision="1"`, 1)))
	in.Tree.Put("app/src/main/res/values/strings.xml", []byte("<resources><string name=\"thornmill_number\">9</string></resources>"))
	if answers, err = wiring.Evaluate(in); err != nil {
		t.Fatal(err)
	}
	got := show(LineUp(in, answers, nil))
	for _, line := range []string{"App number: 123456789012345 123456789012345 9  false [tree]", "revision: 2 1   false [config file]"} {
		if !strings.Contains(got, line) {
			t.Errorf("missing %q in\n%s", line, got)
		}
	}
	in.Tree.Remove("app/src/main/res/xml/thornmill_config.xml")
	if answers, err = wiring.Evaluate(in); err != nil {
		t.Fatal(err)
	}
	if got := show(LineUp(in, answers, nil)); !strings.Contains(got, "application ID: example.app missing example.app  false [config file]") {
		t.Errorf("without its file:\n%s", got)
	}
}

// Every answer of the evaluator that is not right has a rule, and no two rules claim one.
func TestEveryAnswerHasARule(t *testing.T) {
	claimed := map[string]string{}
	for _, r := range Rules() {
		for _, c := range r.Codes {
			if claimed[c] != "" {
				t.Errorf("%s and %s both claim %s", claimed[c], r.ID, c)
			}
			claimed[c] = r.ID
		}
	}
	for place, rule := range blindRule {
		found := false
		for _, r := range Rules() {
			found = found || r.ID == rule
		}
		if !found {
			t.Errorf("%s is for a rule %s that is not there", place, rule)
		}
	}
	dir := "../wiring"
	names, err := os.ReadDir(dir)
	if err != nil {
		t.Fatal(err)
	}
	for _, n := range names {
		if strings.HasSuffix(n.Name(), "_test.go") || !strings.HasSuffix(n.Name(), ".go") {
			continue
		}
		src, err := os.ReadFile(filepath.Join(dir, n.Name()))
		if err != nil {
			t.Fatal(err)
		}
		for _, part := range strings.Split(string(src), "State: ")[1:] {
			state, rest, _ := strings.Cut(part, ",")
			if state == "Unknown" || state == "Right" || state == "OtherForm" {
				continue
			}
			_, code, ok := strings.Cut(rest, `Code: "`)
			if line, _, _ := strings.Cut(rest, "\n"); !ok || !strings.Contains(line, `Code: "`) {
				continue
			}
			if code, _, _ = strings.Cut(code, `"`); claimed[code] == "" {
				t.Errorf("%s: no rule for %s", n.Name(), code)
			}
		}
	}
}
