package built

import (
	"bytes"
	"context"
	"encoding/json"
	"reflect"
	"strings"
	"testing"

	"ligare/core/built/builttest"
	"ligare/core/sheet"
	"ligare/core/survey"
	"ligare/sheets"
)

var known = func() []*sheet.Sheet {
	all, err := sheet.Load(sheets.FS)
	if err != nil {
		panic(err)
	}
	return []*sheet.Sheet{all["thornmill"], all["tollbarrow"]}
}()

func facts(t testing.TB, b []byte, o Options) (*Archive, *Facts) {
	t.Helper()
	a, err := Open(bytes.NewReader(b), int64(len(b)))
	if err != nil {
		t.Fatal(err)
	}
	f, err := a.Read(context.Background(), o)
	if err != nil {
		t.Fatal(err)
	}
	return a, f
}

// What the manifest and resources of testdata/source say is what the packages made of them say, whichever tool made them
// and in whichever form.
func TestFactsOfAndroidPackages(t *testing.T) {
	yes, no := true, false
	for name, kind := range map[string]Kind{"plain.apk": APK, "old.apk": APK, "sparse.apk": APK, "app.aab": AAB} {
		t.Run(name, func(t *testing.T) {
			_, f := facts(t, builttest.Load(t, name), Options{Strings: true, Sheets: known})
			a := f.Android
			if f.Kind != kind || a == nil {
				t.Fatalf("%+v", f)
			}
			least := "23"
			if name == "sparse.apk" {
				least = "26"
			}
			got := []any{a.ApplicationID, a.VersionCode, a.VersionName, a.MinSDK, a.TargetSDK, a.LauncherActivity, a.ApplicationClass, a.Debuggable, a.URLSchemes, a.AppLinks, a.Permissions, a.Features}
			want := []any{"example.larkfield.hivelog", "14", "2.3", least, "29", "example.larkfield.hivelog.InspectionActivity", "example.larkfield.hivelog.HiveApp", false, []string{"hivelog"}, []string{"hivelog.larkfield.example"},
				[]Permission{{"android.permission.INTERNET", ""}, {"android.permission.CAMERA", "28"}}, []Feature{{"android.hardware.camera", false}}}
			if !reflect.DeepEqual(got, want) {
				t.Errorf("%v\nand should be\n%v", got, want)
			}
			if a.Label[0] != (Text{"", "Hivelog"}) || len(a.Label) != 3 {
				t.Errorf("label %v", a.Label)
			}
			for _, m := range a.Metadata {
				switch m.Name {
				case "example.treadmark.APP":
					if m.Value != "512345678901234" || m.Type != "string" || m.Resource != "string/treadmark_app" || m.Lost {
						t.Errorf("%+v", m)
					}
				case "example.lost.NUMBER":
					if !m.Lost || m.Type != "float" || strings.Contains(m.Value, "345678") {
						t.Errorf("a long number: %+v", m)
					}
				case "example.small.NUMBER":
					if m.Value != "4711" || m.Type != "int" || m.Lost {
						t.Errorf("%+v", m)
					}
				case "example.flag":
					if m.Value != "true" || m.Type != "boolean" {
						t.Errorf("%+v", m)
					}
				case "example.res":
					if m.Resource != "xml/paths" || m.Type != "reference" {
						t.Errorf("%+v", m)
					}
				}
			}
			want = []any{"activity example.larkfield.hivelog.InspectionActivity", (*bool)(nil), "activity-alias example.larkfield.hivelog.Alias", &yes, "service example.larkfield.hivelog.BellService", &no, "provider example.larkfield.hivelog.Files", &no}
			got = nil
			for _, c := range a.Components {
				got = append(got, c.Kind+" "+c.Name, c.Exported)
			}
			if !reflect.DeepEqual(got, want) || len(a.Metadata) != 5 {
				t.Errorf("%v", got)
			}
			alias := a.Components[1]
			if alias.Target != "example.larkfield.hivelog.InspectionActivity" || !alias.Filters[0].AutoVerify || alias.Filters[0].Data[0] != (Data{Scheme: "https", Host: "hivelog.larkfield.example"}) {
				t.Errorf("%+v", alias)
			}
			texts := map[string][]Text{}
			for _, s := range a.Strings {
				texts[s.Name] = s.Values
			}
			if g := texts["greeting"]; len(g) != 1 || g[0].Value != "It's ü \"x\" ✓ 🐝" {
				t.Errorf("%v", g)
			}
			if g := texts["alias"]; len(g) != 3 || g[0].Value != "Hivelog" {
				t.Errorf("a string that refers to another: %v", g)
			}
			byConfig := map[string]string{}
			for _, x := range texts["app_name"] {
				byConfig[strings.TrimSuffix(x.Config, "-v8")] = x.Value // which one of the tools adds
			}
			if !reflect.DeepEqual(byConfig, map[string]string{"": "Hivelog", "de": "Stockbuch", "night": "Nightlog"}) {
				t.Errorf("%v", byConfig)
			}
			files := map[string]string{}
			for _, x := range f.Files {
				for _, r := range x.Reads {
					files[x.Service+" "+r.Name] = r.Value
				}
			}
			if files["thornmill identity"] != "example.larkfield.hivelog" || files["thornmill revision"] != "3" || files["tollbarrow identity"] != "example.larkfield.hivelog" {
				t.Errorf("%v", files)
			}
			if kind == AAB && (!strings.Contains(f.Signing.Note, "The store signs") || !reflect.DeepEqual(a.Modules, []string{"base"})) {
				t.Errorf("%+v %v", f.Signing, a.Modules)
			}
		})
	}
}

// The certificates are those that the platform's own tool printed when the packages were made, and every signature holds.
func TestSignersOfAndroidPackages(t *testing.T) {
	for _, line := range strings.Split(strings.TrimSpace(string(builttest.Load(t, "certificates.txt"))), "\n") {
		name, digests, _ := strings.Cut(line, ": ")
		_, f := facts(t, builttest.Load(t, name+".apk"), Options{Verify: true})
		if f.Signing.Verified == nil || !*f.Signing.Verified {
			t.Errorf("%s: %+v", name, f.Signing)
		}
		newest := f.Signing.Newest()
		if newest == nil || !strings.Contains(digests, newest.Digests.SHA256Hex) {
			t.Errorf("%s: %+v, and should be %s", name, newest, digests)
		}
		schemes := ""
		for _, s := range f.Signing.Signers {
			schemes += s.Scheme + " "
		}
		if want := map[string]string{"v1": "1 ", "v12": "2 1 ", "v123": "2 3 1 ", "tree": "2 3 1 ", "rotated": "2 3 1 ", "two": "2 2 1 1 "}[name]; schemes != want {
			t.Errorf("%s is signed by %s and should be by %s", name, schemes, want)
		}
		if name == "rotated" {
			s := f.Signing.Signers[1]
			if len(s.Lineage) != 2 || s.Lineage[0].Subject != "CN=Larkfield one" || s.Lineage[1].Digests.SHA256Hex != s.Certificates[0].Digests.SHA256Hex || len(s.Lineage[0].Abilities) != 4 {
				t.Errorf("%+v", s.Lineage)
			}
		}
	}
	_, f := facts(t, builttest.Load(t, "app.aab"), Options{Verify: true})
	if len(f.Signing.Signers) != 1 || !*f.Signing.Verified || f.Signing.Signers[0].Scheme != "1" || f.Signing.Signers[0].Certificates[0].Subject != "CN=Larkfield one" {
		t.Errorf("%+v", f.Signing)
	}
	_, f = facts(t, builttest.Load(t, "plain.apk"), Options{Verify: true})
	if *f.Signing.Verified || !strings.Contains(f.Signing.Note, "not signed") {
		t.Errorf("a package without a signature: %+v", f.Signing)
	}
}

// A package as a tree answers what a source tree answers.
func TestAPackageAsATree(t *testing.T) {
	for _, name := range []string{"v123.apk", "app.aab"} {
		a, f := facts(t, builttest.Load(t, name), Options{Sheets: known})
		a.Expect([]string{"123456789012345", "7"})
		tr, r, err := a.Tree(f, known)
		if err != nil {
			t.Fatal(err)
		}
		v := r.Android.Modules[0].Variants[0]
		if v.Name != survey.Shipped || v.ApplicationID.String() != "example.larkfield.hivelog" || v.LauncherActivity.String() != "example.larkfield.hivelog.InspectionActivity" || v.MinSDK.String() != "23" || v.DisplayName.String() != "Hivelog" ||
			v.Certificate == nil || v.Certificate.SHA256 != f.Signing.Newest().Digests.SHA256Colons {
			t.Errorf("%s: %+v", name, v)
		}
		for _, e := range v.Strings {
			if e.Name == "greeting" && e.String() != "It's ü \"x\" ✓ 🐝" {
				t.Errorf("%s: %q", name, e.String())
			}
		}
		src, err := tr.Read("res/xml/thornmill_config.xml")
		if err != nil || !strings.Contains(string(src), `number="123456789012345"`) {
			t.Errorf("%s: a number that is expected is recognised in its float: %s %v", name, src, err)
		}
	}
}

func TestTwoNumbersOfOneFloatAreNotTold(t *testing.T) {
	a, f := facts(t, builttest.Load(t, "v123.apk"), Options{Sheets: known})
	a.Expect([]string{"123456789012345", "123456789012346"})
	tr, _, err := a.Tree(f, known)
	if err != nil {
		t.Fatal(err)
	}
	if src, err := tr.Read("res/xml/thornmill_config.xml"); err != nil || !strings.Contains(string(src), `number="1.2345679E14"`) {
		t.Errorf("%s %v", src, err)
	}
}

// The facts are JSON with the names that the reference gives.
func TestFactsAsJSON(t *testing.T) {
	_, f := facts(t, builttest.Load(t, "v123.apk"), Options{})
	b, err := json.Marshal(f)
	if err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{`"kind":"apk"`, `"applicationId":"example.larkfield.hivelog"`, `"launcherActivity":`, `"sha256Colons":`, `"scheme":"3"`, `"lost":true`} {
		if !bytes.Contains(b, []byte(want)) {
			t.Errorf("%s is not in %s", want, b)
		}
	}
}
