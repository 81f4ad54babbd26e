package rename

import (
	"fmt"
	"os"
	"strings"
	"testing"
	"testing/fstest"

	"ligare/core/binding"
	"ligare/core/ident"
	"ligare/core/sheet"
	"ligare/core/survey"
	"ligare/core/tree"
	"ligare/core/wiring"
	"ligare/sheets"
)

func folder(t *testing.T, dir string) fstest.MapFS {
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

func left(base fstest.MapFS, t *tree.Tree) fstest.MapFS {
	out := fstest.MapFS{}
	for n, f := range base {
		out[n] = f
	}
	for _, n := range t.Changed() {
		if b, err := t.Read(n); err == nil {
			out[n] = &fstest.MapFile{Data: b}
		} else {
			delete(out, n)
		}
	}
	return out
}

const (
	old  = "example.larkfield.hivelog"
	next = "example.meadow.bee_book"
)

// On Android the identifier changes in build files, manifests and source, and the source moves; the Apple project, which
// bears the same one, stays.
func TestAndroid(t *testing.T) {
	base := folder(t, "../../demo/studio/hivelog")
	base["android/app/src/main/res/layout/custom.xml"] = &fstest.MapFile{Data: []byte("<example.larkfield.hivelog.HiveView/><x.example.larkfield.hivelog/><example.larkfield.hivelogger/>")}
	base["shared/notes.json"] = &fstest.MapFile{Data: []byte("{\n \"id\": \"example.larkfield.hivelog\"}")}
	tr := tree.New(base)
	r := survey.Survey(tr)
	res, err := Plan(tr, r, nil, Options{Platform: ident.Android, Old: old, New: next})
	if err != nil {
		t.Fatal(err)
	}
	now := left(base, tr)
	again := survey.Survey(tree.New(now))
	for _, v := range again.Android.Modules[0].Variants {
		want := map[string]string{"debug": next + ".debug", "release": next}[v.Name]
		if v.ApplicationID.String() != want || v.Namespace.String() != next || !strings.HasPrefix(v.LauncherActivity.String(), next+".") || len(v.Entry) == 0 {
			t.Errorf("%s: %s %s %s %+v", v.Name, v.ApplicationID.Say(), v.Namespace.Say(), v.LauncherActivity.Say(), v.Entry)
		}
	}
	if got := again.IOS.Projects[0].Targets[0].Configurations[0].BundleID.String(); got != old {
		t.Errorf("the Apple project became %s", got)
	}
	if got := string(now["android/app/src/main/res/layout/custom.xml"].Data); got != "<example.meadow.bee_book.HiveView/><x.example.larkfield.hivelog/><example.larkfield.hivelogger/>" {
		t.Error(got)
	}
	if now["android/app/src/main/java/example/meadow/bee_book/HivelogApplication.kt"] == nil || now["android/app/src/main/java/example/larkfield/hivelog/HivelogApplication.kt"] != nil || len(res.Moved) != 2 {
		t.Errorf("%+v", res.Moved)
	}
	if fmt.Sprint(res.Derived) != "[{example.larkfield.hivelog.debug example.meadow.bee_book.debug} {example.larkfield.hivelog example.meadow.bee_book}]" {
		t.Error(res.Derived)
	}
	found := false
	for _, l := range res.Left {
		found = found || l.String() == "shared/notes.json:2:9"
		if strings.HasPrefix(l.File, "android/") {
			t.Errorf("left: %s", l)
		}
	}
	if !found {
		t.Errorf("%+v", res.Left)
	}
}

// On iOS every configuration, extension, scheme and group changes, quoted where the new one needs it.
func TestApple(t *testing.T) {
	base := folder(t, "../../demo/studio/hivelog")
	const project = "ios/Hivelog.xcodeproj/project.pbxproj"
	base["ios/Hivelog/App.entitlements"] = &fstest.MapFile{Data: []byte("<plist><dict><key>g</key><array><string>group.example.larkfield.hivelog</string><string>$(AppIdentifierPrefix)example.larkfield.hivelog.keys</string></array></dict></plist>")}
	base[project].Data = []byte(strings.Replace(string(base[project].Data), "PRODUCT_BUNDLE_IDENTIFIER = "+old+";", "PRODUCT_BUNDLE_IDENTIFIER = "+old+".beta;", 1))
	tr := tree.New(base)
	res, err := Plan(tr, survey.Survey(tr), nil, Options{Platform: ident.IOS, Old: old, New: "example.meadow.bee-book"})
	if err != nil {
		t.Fatal(err)
	}
	now := left(base, tr)
	again := survey.Survey(tree.New(now))
	for i, want := range []string{"example.meadow.bee-book.beta", "example.meadow.bee-book"} {
		if got := again.IOS.Projects[0].Targets[0].Configurations[i].BundleID; got.String() != want {
			t.Error(got.Say())
		}
	}
	if got := string(now["ios/Hivelog/App.entitlements"].Data); !strings.Contains(got, "group.example.meadow.bee-book<") || !strings.Contains(got, ")example.meadow.bee-book.keys<") {
		t.Error(got)
	}
	if len(res.Moved) != 0 || len(res.Derived) != 2 {
		t.Errorf("%+v", res)
	}
}

func TestRefusals(t *testing.T) {
	base := folder(t, "../../demo/studio/hivelog")
	for _, c := range []struct {
		o    Options
		want string
	}{
		{Options{Platform: ident.Android, Old: old, New: old}, "already"},
		{Options{Platform: ident.Android, Old: old, New: "nodots"}, "nodots"},
		{Options{Platform: ident.Android, Old: old, New: "example.bee-book"}, "-"},
		{Options{Platform: ident.Android, Old: "example.nobody", New: next}, "no variant"},
		{Options{Platform: ident.Android, Old: old, New: old + ".debug"}, "builds with example.larkfield.hivelog.debug already"},
	} {
		tr := tree.New(base)
		_, err := Plan(tr, survey.Survey(tr), nil, c.o)
		if err == nil || !strings.Contains(err.Error(), c.want) || len(tr.Changed()) > 0 {
			t.Errorf("%+v: %v, changed %v", c.o, err, tr.Changed())
		}
	}
}

// What was placed before can be taken out afterwards, and leaves the tree as if it had been renamed without it.
func TestWhatWasPlacedCanBeTakenOut(t *testing.T) {
	base := folder(t, "../../demo/studio/hivelog")
	lib, err := sheet.LoadLibrary(sheets.FS)
	if err != nil {
		t.Fatal(err)
	}
	all, err := sheet.Load(sheets.FS)
	if err != nil {
		t.Fatal(err)
	}
	tr := tree.New(base)
	r := survey.Survey(tr)
	b := binding.Propose("hivelog", r)
	text, err := b.Write()
	if err != nil {
		t.Fatal(err)
	}
	tr.Put(binding.File, text)
	reg := &wiring.Registration{Service: "gatepost", Revision: 1, Sheet: all["gatepost"], Values: map[string]string{"client-id": "c1"}}
	own := &wiring.Registration{Service: "burrcatch", Revision: 1, Sheet: all["burrcatch"], Values: map[string]string{"intake": "i", "writer-key": "w"}}
	for _, id := range b.Identities(r) {
		x := wiring.Registered{Platform: id.Platform, ID: id.ID, Values: map[string]string{}}
		reg.Identities = append(reg.Identities, x)
		if id.Platform == ident.Android && id.ID == old {
			own.Identities = []wiring.Registered{x}
		}
	}
	in := wiring.Input{Tree: tr, Survey: r, Binding: b, Registrations: []*wiring.Registration{reg, own}, Library: lib}
	answers, err := wiring.Evaluate(in)
	if err != nil {
		t.Fatal(err)
	}
	p, err := wiring.Make(in, answers, wiring.Never)
	if err != nil {
		t.Fatal(err)
	}
	if err := p.Commit(in, answers); err != nil {
		t.Fatal(err)
	}
	placed := left(base, tr)
	o := Options{Platform: ident.Android, Old: old, New: next}
	with := tree.New(placed)
	if _, err := Plan(with, survey.Survey(with), b, o); err != nil {
		t.Fatal(err)
	}
	renamed := tree.New(left(placed, with))
	if bound, err := renamed.Read(binding.File); err != nil || !strings.Contains(string(bound), next+".debug") || !strings.Contains(string(bound), "identity: "+old) {
		t.Errorf("%v\n%s", err, bound)
	}
	for _, key := range []string{"gatepost", "burrcatch-android-" + next} {
		if l, err := wiring.Unplace(renamed, key, false); err != nil || len(l) > 0 {
			t.Errorf("%s: %v %+v", key, err, l)
		}
	}
	got := left(left(placed, with), renamed)
	without := tree.New(base)
	without.Put(binding.File, text)
	if _, err := Plan(without, survey.Survey(without), b, o); err != nil {
		t.Fatal(err)
	}
	want := left(base, without)
	for n, f := range want {
		if got[n] == nil || string(got[n].Data) != string(f.Data) {
			t.Errorf("%s differs", n)
		}
	}
	for n := range got {
		if want[n] == nil {
			t.Errorf("%s is left behind", n)
		}
	}
}
