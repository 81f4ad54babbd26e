package wiring

import (
	"strings"
	"testing"
	"testing/fstest"

	"ligare/core/binding"
	"ligare/core/ident"
	"ligare/core/sheet"
	"ligare/core/survey"
	"ligare/core/tree"
)

// with surveys a tree and registers every identity it is bound to with one service; values say what the service issued,
// all others are made up from their names.
func with(t testing.TB, base fstest.MapFS, service string, values map[string]string) Input {
	t.Helper()
	return registered(t, surveyed(t, base), service, values)
}

// surveyed gives a tree without registrations.
func surveyed(t testing.TB, base fstest.MapFS) Input {
	_, lib := shipped(t)
	tr := tree.New(base)
	r := survey.Survey(tr)
	return Input{Tree: tr, Survey: r, Binding: binding.Propose("app", r), Library: lib}
}

// registered registers what a surveyed tree is bound to with a service.
func registered(t testing.TB, in Input, service string, values map[string]string) Input {
	all, _ := shipped(t)
	sh, r := all[service], in.Survey
	in.Registrations = nil
	value := func(id, of string) string {
		if v, ok := values[id]; ok {
			return v
		}
		return id + " of " + of
	}
	whole := Registration{Service: service, Revision: 1, Sheet: sh, Values: map[string]string{}, Answers: map[string]string{}, Berths: map[string]string{}}
	for _, f := range sh.Features {
		whole.Features = append(whole.Features, f.ID)
	}
	for _, e := range in.Binding.Environments() {
		whole.Berths[e] = "berth-" + e
	}
	for _, v := range sh.Issues.Values {
		if v.Exposure == sheet.Client && v.Per != "identity" {
			whole.Values[v.ID] = value(v.ID, "all")
		}
	}
	for _, id := range in.Binding.Identities(r) {
		if !has(sh.Platforms, id.Platform) {
			continue
		}
		x := Registered{Platform: id.Platform, ID: id.ID, Values: map[string]string{}, Files: map[string][]byte{}}
		for _, v := range sh.Issues.Values {
			if v.Exposure == sheet.Client && v.Per == "identity" {
				x.Values[v.ID] = value(v.ID, id.ID)
			}
		}
		for _, f := range sh.Issues.Files {
			x.Files[f.ID] = []byte("file " + f.ID + " of " + id.ID + "\n")
		}
		whole.Identities = append(whole.Identities, x)
	}
	if sh.Scope != sheet.ScopeIdentity {
		in.Registrations = []*Registration{&whole}
		return in
	}
	for i := range whole.Identities {
		one := whole
		one.Identities, one.Values = whole.Identities[i:i+1], map[string]string{}
		for id := range whole.Values {
			one.Values[id] = value(id, whole.Identities[i].ID)
		}
		in.Registrations = append(in.Registrations, &one)
	}
	return in
}

func has(list []ident.Platform, p ident.Platform) bool {
	for _, x := range list {
		if x == p {
			return true
		}
	}
	return false
}

// scene is a tree, a service, and what the files must be after its placements.
type scene struct {
	name    string
	service string
	values  map[string]string
	only    string            // placements whose ID begins so; "" for all
	files   map[string]string // besides the least a tree needs; "" leaves one out
	want    map[string]string // files as they must be afterwards; "" for one that must not be
	lines   map[string]string // lines that must stand in a file, once
	kept    string            // IDs of placements that are left to a person
}

// stage places each scene, holds the files against those wanted, places again, and takes everything out.
func stage(t *testing.T, least map[string]string, scenes []scene) {
	t.Helper()
	for _, c := range scenes {
		t.Run(c.name, func(t *testing.T) {
			files := map[string]string{}
			for n, s := range least {
				files[n] = s
			}
			for n, s := range c.files {
				if files[n] = s; s == "" {
					delete(files, n)
				}
			}
			base := fstest.MapFS{}
			for n, s := range files {
				base[n] = &fstest.MapFile{Data: []byte(s)}
			}
			in := with(t, base, c.service, c.values)
			p, answers := placeOnly(t, in, c.only)
			var kept []string
			for _, k := range p.Kept {
				if kept = append(kept, k.Placement); !strings.Contains(c.kept, k.Placement) {
					t.Errorf("%s was left: %s, %s: %s", k.Placement, k.State, k.Code, k.Detail)
				}
			}
			if c.kept != "" && len(kept) == 0 {
				t.Errorf("nothing was left to a person, %s should be", c.kept)
			}
			for n, want := range c.want {
				got, err := in.Tree.Read(n)
				if want == "" {
					if err == nil {
						t.Errorf("%s was made:\n%s", n, got)
					}
					continue
				}
				if err != nil || string(got) != want {
					t.Errorf("%s (%v) is\n%s\nand must be\n%s", n, err, got, want)
				}
			}
			for n, want := range c.lines {
				got, err := in.Tree.Read(n)
				if err != nil {
					t.Error(err)
				}
				for _, l := range strings.Split(strings.TrimSuffix(want, "\n"), "\n") {
					if strings.Count(string(got), l) != 1 {
						t.Errorf("%s must have %q once, and is\n%s", n, l, got)
					}
				}
			}
			again := with(t, after(base, in.Tree), c.service, c.values)
			if q, _ := placeOnly(t, again, c.only); len(q.Ops) > 0 {
				t.Errorf("placing again made %d edits, first %s %s in %s", len(q.Ops), q.Ops[0].Do, q.Ops[0].Address, q.Ops[0].File)
			}
			if len(p.Ops) == 0 {
				return
			}
			if err := p.Commit(in, answers); err != nil {
				t.Fatal(err)
			}
			for _, r := range in.Registrations {
				if left, err := Unplace(in.Tree, r.Key(), false); err != nil && !strings.Contains(err.Error(), "nothing is recorded") || len(left) > 0 {
					t.Errorf("taking out: %v %+v", err, left)
				}
			}
			same(t, c.name, base, after(base, in.Tree))
		})
	}
}

// placeOnly places what a scene is about.
func placeOnly(t testing.TB, in Input, only string) (*Plan, []Answer) {
	t.Helper()
	all, err := Evaluate(in)
	if err != nil {
		t.Fatal(err)
	}
	var answers []Answer
	for _, a := range all {
		for _, prefix := range strings.Split(only, " ") {
			if strings.HasPrefix(a.Placement, prefix) {
				answers = append(answers, a)
				break
			}
		}
	}
	p, err := Make(in, answers, Never)
	if err != nil {
		t.Fatal(err)
	}
	return p, answers
}

// leastAndroid is a module with two variants of one identity.
var leastAndroid = map[string]string{
	"settings.gradle.kts":              "include(\":app\")\n",
	"app/build.gradle.kts":             "plugins { id(\"com.android.application\") }\nandroid { namespace = \"example.gold\" }\n",
	"app/src/main/AndroidManifest.xml": golden,
	"app/src/main/java/App.kt":         "package example.gold\n\nclass App : Application() {\n}\n",
}

func TestManifestEntries(t *testing.T) {
	const space = "<manifest xmlns:android=\"http://schemas.android.com/apk/res/android\">\n"
	stage(t, leastAndroid, []scene{
		{
			name: "metadata through string resources, a permission and a query, into an application that was empty", service: "treadmark",
			values: map[string]string{"app-number": "123456789012345", "client-key": "tdc_a&b"},
			only:   "android-number android-key android-internet android-query",
			want: map[string]string{
				"app/src/main/AndroidManifest.xml": space + "    <uses-sdk android:minSdkVersion=\"24\" />\n    <application android:name=\"example.gold.App\">\n" +
					"        <meta-data android:name=\"example.treadmark.App\" android:value=\"@string/treadmark_app\" />\n" +
					"        <meta-data android:name=\"example.treadmark.Key\" android:value=\"@string/treadmark_key\" />\n    </application>\n" +
					"    <uses-permission android:name=\"android.permission.INTERNET\" />\n" +
					"    <queries>\n        <package android:name=\"example.treadmark.companion\" />\n    </queries>\n</manifest>\n",
				"app/src/main/res/values/strings.xml": "<?xml version=\"1.0\" encoding=\"utf-8\"?>\n<resources>\n    <string name=\"treadmark_app\">123456789012345</string>\n    <string name=\"treadmark_key\">tdc_a&amp;b</string>\n</resources>\n",
			},
		},
		{
			name: "an issued value that would be read as a number goes through a resource, a constant of the sheet does not", service: "burrcatch",
			values: map[string]string{"intake": "https://intake.burrcatch.example/9", "writer-key": "00123456789012345"},
			only:   "android-intake android-writer android-rate android-debug",
			lines: map[string]string{
				"app/src/main/AndroidManifest.xml":    "<meta-data android:name=\"example.burrcatch.INTAKE\" android:value=\"https://intake.burrcatch.example/9\" />\n<meta-data android:name=\"example.burrcatch.WRITER\" android:value=\"@string/example_burrcatch_writer\" />\n<meta-data android:name=\"example.burrcatch.SAMPLE_RATE\" android:value=\"0.2\" />\n<meta-data android:name=\"example.burrcatch.DEBUG\" android:value=\"false\" />",
				"app/src/main/res/values/strings.xml": "<string name=\"example_burrcatch_writer\">00123456789012345</string>",
			},
		},
		{
			name: "an activity with its filter, in a manifest with another prefix, two spaces and attributes on lines of their own", service: "gatepost",
			only:  "android-return",
			files: map[string]string{"app/src/main/AndroidManifest.xml": "<?xml version='1.0'?>\r\n<manifest\r\n  xmlns:a='http://schemas.android.com/apk/res/android'>\r\n  <application\r\n    a:name='.App'\r\n  >\r\n    <!-- <activity a:name='example.gatepost.ReturnActivity'/> -->\r\n  </application>\r\n</manifest>"},
			want: map[string]string{"app/src/main/AndroidManifest.xml": "<?xml version='1.0'?>\r\n<manifest\r\n  xmlns:a='http://schemas.android.com/apk/res/android'>\r\n  <application\r\n    a:name='.App'\r\n  >\r\n    <!-- <activity a:name='example.gatepost.ReturnActivity'/> -->\r\n" +
				"    <activity a:name=\"example.gatepost.ReturnActivity\" a:exported=\"true\">\r\n      <intent-filter>\r\n        <action a:name=\"android.intent.action.VIEW\" />\r\n        <category a:name=\"android.intent.category.DEFAULT\" />\r\n        <category a:name=\"android.intent.category.BROWSABLE\" />\r\n        <data a:scheme=\"example.gold\" a:path=\"/gatepost\" />\r\n      </intent-filter>\r\n    </activity>\r\n  </application>\r\n</manifest>"},
		},
		{
			name: "what stands there in another form is left: single quotes, another order, a manifest placeholder, the debug folder's own", service: "burrcatch",
			values: map[string]string{"intake": "https://intake.burrcatch.example/9", "writer-key": "w-1"},
			only:   "android-intake android-writer",
			files: map[string]string{
				"app/build.gradle.kts":             "plugins { id(\"com.android.application\") }\nandroid {\n    namespace = \"example.gold\"\n    defaultConfig { manifestPlaceholders[\"writer\"] = \"w-1\" }\n}\n",
				"app/src/main/AndroidManifest.xml": space + "    <application>\n        <meta-data android:value='https://intake.burrcatch.example/9' android:name='example.burrcatch.INTAKE'></meta-data>\n        <meta-data android:name=\"example.burrcatch.WRITER\" android:value=\"${writer}\"/>\n    </application>\n</manifest>\n",
			},
			want: map[string]string{"app/src/main/AndroidManifest.xml": space + "    <application>\n        <meta-data android:value='https://intake.burrcatch.example/9' android:name='example.burrcatch.INTAKE'></meta-data>\n        <meta-data android:name=\"example.burrcatch.WRITER\" android:value=\"${writer}\"/>\n    </application>\n</manifest>\n"},
		},
	})
}

// Each mistake in a manifest has its name and its place.
func TestMistakesInManifests(t *testing.T) {
	const space = "<manifest xmlns:android=\"http://schemas.android.com/apk/res/android\" xmlns:tools=\"http://schemas.android.com/tools\">\n"
	for _, c := range []struct{ name, service, placement, manifest, code, at string }{
		{"outside the application", "burrcatch", "android-intake", space + "<meta-data android:name=\"example.burrcatch.INTAKE\" android:value=\"i\"/>\n<application/>\n</manifest>", "entry-misplaced", "2:1"},
		{"another value", "burrcatch", "android-intake", space + "<application>\n<meta-data android:name=\"example.burrcatch.INTAKE\" android:value=\"j\"/>\n</application>\n</manifest>", "entry-differs", "3:67"},
		{"twice", "burrcatch", "android-intake", space + "<application>\n<meta-data android:name=\"example.burrcatch.INTAKE\" android:value=\"i\"/>\n<meta-data android:name=\"example.burrcatch.INTAKE\" android:value=\"i\"/>\n</application>\n</manifest>", "entry-twice", "4:1"},
		{"a long number inline", "burrcatch", "android-writer", space + "<application>\n<meta-data android:name=\"example.burrcatch.WRITER\" android:value=\"12345678901234567\"/>\n</application>\n</manifest>", "entry-typed", "3:67"},
		{"taken out by a marker", "treadmark", "android-internet", space + "<uses-permission android:name=\"android.permission.INTERNET\" tools:node=\"remove\"/>\n</manifest>", "entry-removed", "2:61"},
		{"an activity that does not say exported", "gatepost", "android-return", space + "<application>\n<activity android:name=\"example.gatepost.ReturnActivity\"/>\n</application>\n</manifest>", "entry-differs", "3:1"},
		{"no query", "treadmark", "android-query", space + "<application/>\n</manifest>", "entry-missing", "0:0"},
	} {
		files := fstest.MapFS{}
		for n, s := range leastAndroid {
			files[n] = &fstest.MapFile{Data: []byte(s)}
		}
		files["app/src/main/AndroidManifest.xml"] = &fstest.MapFile{Data: []byte(c.manifest)}
		in := with(t, files, c.service, map[string]string{"intake": "i", "writer-key": "12345678901234567"})
		answers, err := Evaluate(in)
		if err != nil {
			t.Fatal(err)
		}
		found := of(answers, c.placement)
		if len(found) != 1 {
			t.Fatalf("%s: %+v", c.name, found)
		}
		a := found[0]
		if at := (Place{Line: a.Here.Line, Column: a.Here.Column}); a.Code != c.code || at.String() != ":"+c.at && c.at != "0:0" {
			t.Errorf("%s: %s %s at %s: %s", c.name, a.State, a.Code, a.Here, a.Detail)
		}
		if a.State != Conflicting || a.Code == "entry-removed" {
			continue
		}
		if _, err := Make(in, found, Always); err != nil {
			t.Errorf("%s: %v", c.name, err)
		}
		if now := in.look(a.Want); !now.Good() {
			t.Errorf("%s: after exchanging it is %s: %s", c.name, now.State, now.Detail)
		}
	}
}

// One place holds what two identities share; each gets a value of its own, and the other keeps what it had.
func TestAValueForEachIdentity(t *testing.T) {
	files := fstest.MapFS{}
	for n, s := range leastAndroid {
		files[n] = &fstest.MapFile{Data: []byte(s)}
	}
	files["app/build.gradle.kts"] = &fstest.MapFile{Data: []byte("plugins { id(\"com.android.application\") }\nandroid {\n    namespace = \"example.gold\"\n    buildTypes {\n        debug { applicationIdSuffix = \".debug\" }\n    }\n}\n")}
	files["app/src/main/AndroidManifest.xml"] = &fstest.MapFile{Data: []byte("<manifest xmlns:android=\"http://schemas.android.com/apk/res/android\">\n    <application>\n        <meta-data android:name=\"example.burrcatch.WRITER\" android:value=\"old\" />\n    </application>\n</manifest>\n")}
	files["app/src/main/res/values/strings.xml"] = &fstest.MapFile{Data: []byte("<resources>\n    <string name=\"gatepost_client\">old</string>\n</resources>\n")}
	in := with(t, files, "burrcatch", nil)
	if len(in.Registrations) != 2 { // one for each identity
		t.Fatalf("%d registrations", len(in.Registrations))
	}
	all, err := Evaluate(in)
	if err != nil {
		t.Fatal(err)
	}
	answers := of(all, "android-writer")
	if len(answers) != 2 || answers[0].Code != "entry-differs" || answers[1].Code != "entry-differs" {
		t.Fatalf("%+v", answers)
	}
	p, err := Make(in, answers, Always)
	if err != nil {
		t.Fatal(err)
	}
	for _, a := range answers {
		if now := in.look(a.Want); !now.Good() {
			t.Errorf("%v: %s %s", a.Variants, now.State, now.Detail)
		}
	}
	if err := p.Commit(in, answers); err != nil {
		t.Fatal(err)
	}
	read := func(n string) string { b, _ := in.Tree.Read(n); return string(b) }
	if !strings.Contains(read("app/src/main/AndroidManifest.xml"), `android:value="@string/example_burrcatch_writer"`) ||
		!strings.Contains(read("app/src/main/res/values/strings.xml"), ">old</string>") ||
		!strings.Contains(read("app/src/debug/res/values/strings.xml"), "writer-key of example.gold.debug") ||
		!strings.Contains(read("app/src/release/res/values/strings.xml"), "writer-key of example.gold<") {
		t.Errorf("%v", in.Tree.Changed())
	}
	for i, r := range in.Registrations {
		if left, err := Unplace(in.Tree, r.Key(), false); err != nil || len(left) > 0 {
			t.Errorf("%v %+v", err, left)
		}
		if i == 0 && in.look(answers[1].Want).State != OtherForm {
			t.Errorf("the other identity lost its value with the first: %+v", in.look(answers[1].Want))
		}
	}
	same(t, "identities", files, after(files, in.Tree))
}
