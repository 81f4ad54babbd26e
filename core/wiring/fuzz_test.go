package wiring

import (
	"strings"
	"testing"
	"testing/fstest"
)

// FuzzPlacing places into trees nobody would write, and takes everything out again: whatever was placed must be found
// right, placing again must change nothing, and the tree must come back byte for byte.
func FuzzPlacing(f *testing.F) {
	f.Add("plugins { id(\"com.android.application\") }\nandroid { namespace = \"example.gold\" }\ndependencies {\n}\n", "dependencyResolutionManagement { repositories { google() } }",
		"<resources>\n</resources>\n", "package example.gold\nimport a.b\nclass App : Application() {\n override fun onCreate() { super.onCreate() }\n}\n", "x\n")
	f.Add("plugins { id(\"com.android.application\") }\r\nandroid { namespace = \"example.gold\" }", "include(\":app\")", "<resources/>", "package example.gold\nclass App : Application() {}", "")
	f.Add("plugins { id(\"com.android.application\") }\nandroid { namespace = \"example.gold\" }\ndependencies { implementation(\"a:b:1\") ; api(\"c:d:2\") }", "", "<resources><string name=\"a\">b</string></resources>", "package example.gold\n\nclass App : Application() { val x = 1 }", "a")
	f.Fuzz(func(t *testing.T, build, settings, strs, code, ignore string) {
		base := fstest.MapFS{
			"settings.gradle.kts":                 {Data: []byte(settings)},
			"app/build.gradle.kts":                {Data: []byte(build)},
			"app/src/main/AndroidManifest.xml":    {Data: []byte(golden)},
			"app/src/main/res/values/strings.xml": {Data: []byte(strs)},
			"app/src/main/java/App.kt":            {Data: []byte(code)},
			".gitignore":                          {Data: []byte(ignore)},
		}
		in := load(t, base)
		if len(in.Registrations) == 0 || len(in.Survey.Unresolved) > 2 {
			return
		}
		in.Binding.ConfigFiles = "fetched"
		answers, err := Evaluate(in)
		if err != nil {
			return
		}
		p, err := Make(in, answers, Never)
		if err != nil {
			return // refused whole: nothing is written
		}
		if err := p.Commit(in, answers); err != nil {
			t.Fatal(err)
		}
		placed := after(base, in.Tree)
		again := load(t, placed)
		again.Binding.ConfigFiles = "fetched"
		if second, err := Evaluate(again); err == nil {
			q, err := Make(again, second, Never)
			if err == nil && len(q.Ops) > 0 {
				t.Fatalf("placing again made %d edits, first %s in %s", len(q.Ops), q.Ops[0].Address, q.Ops[0].File)
			}
		}
		if len(p.Ops) == 0 {
			return
		}
		tr := again.Tree
		left, err := Unplace(tr, in.Registrations[0].Key(), false)
		if err != nil {
			t.Fatal(err)
		}
		for _, l := range left {
			t.Fatalf("left: %+v", l)
		}
		for n, f := range base {
			got, err := tr.Read(n)
			if err != nil || string(got) != string(f.Data) {
				t.Fatalf("%s came back as %q, was %q (%v)", n, got, f.Data, err)
			}
		}
		for _, n := range tr.Changed() {
			if base[n] == nil && tr.Has(n) && !strings.HasPrefix(n, ".ligare") {
				t.Fatalf("%s is left behind", n)
			}
		}
	})
}
