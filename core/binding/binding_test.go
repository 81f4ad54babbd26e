package binding

import (
	"os"
	"strings"
	"testing"

	"ligare/core/survey"
	"ligare/core/tree"
)

func TestProposeForTheDemoApp(t *testing.T) {
	r := survey.Survey(tree.New(os.DirFS("../../demo/studio/hivelog")))
	b := Propose("hivelog", r)
	if got := b.Android["android/app"]["debug"]; got != (Bound{"example.larkfield.hivelog.debug", "development"}) {
		t.Errorf("debug: %+v", got)
	}
	if got := b.IOS["ios/Hivelog:Hivelog"]["Debug"]; got != (Bound{"example.larkfield.hivelog", "production"}) {
		t.Errorf("iOS Debug, which shares the release's ID: %+v", got)
	}
	var ids []string
	for _, i := range b.Identities(r) {
		ids = append(ids, string(i.Platform)+" "+i.ID+" "+i.Environment+" "+i.DisplayName)
	}
	want := "android example.larkfield.hivelog production Hivelog\nandroid example.larkfield.hivelog.debug development Hivelog\nios example.larkfield.hivelog production Hivelog"
	if got := strings.Join(ids, "\n"); got != want {
		t.Errorf("identities:\n%s", got)
	}
	if got := strings.Join(b.Environments(), " "); got != "development production" {
		t.Errorf("environments: %s", got)
	}
	text, err := b.Write()
	if err != nil {
		t.Fatal(err)
	}
	again, err := Parse(text)
	if err != nil || again.Android["android/app"]["release"].Identity != "example.larkfield.hivelog" {
		t.Errorf("%v\n%s", err, text)
	}
}

func TestParseSaysWhatIsWrong(t *testing.T) {
	for src, say := range map[string]string{
		"ligare: 1\napp: x\ncolour: red\n":  "line 3: field colour",
		"ligare: 2\napp: x\n":               "format 2",
		"ligare: 1\n":                       "app is missing",
		"ligare: 1\napp: x\nconfigFiles: y": "neither committed nor fetched",
		"ligare: 1\napp: [\n":               "line",
	} {
		if _, err := Parse([]byte(src)); err == nil || !strings.Contains(err.Error(), say) || !strings.Contains(err.Error(), File) {
			t.Errorf("%q: %v", src, err)
		}
	}
	b, err := Parse([]byte("ligare: 1\napp: x\n"))
	if err != nil || b.ConfigFiles != Committed {
		t.Errorf("%+v %v", b, err)
	}
}

func TestAgreeTouchesOneLine(t *testing.T) {
	for _, c := range []struct{ src, want string }{
		{"# mine\nligare: 1\napp: x # note\n", "# mine\nligare: 1\napp: x # note\nsheets:\n  s: sha256:1\n"},
		{"ligare: 1\napp: x", "ligare: 1\napp: x\nsheets:\n  s: sha256:1\n"},
		{"ligare: 1\nsheets:\n    a: sha256:0 # old\n# then\napp: x\n", "ligare: 1\nsheets:\n    s: sha256:1\n    a: sha256:0 # old\n# then\napp: x\n"},
		{"ligare: 1\napp: x\nsheets:\n  s: sha256:0 # why\n", "ligare: 1\napp: x\nsheets:\n  s: sha256:1 # why\n"},
		{"ligare: 1\r\napp: x\r\n", "ligare: 1\r\napp: x\r\nsheets:\r\n  s: sha256:1\r\n"},
	} {
		out, err := Agree([]byte(c.src), "s", "sha256:1")
		if err != nil || string(out) != c.want {
			t.Errorf("%q: %q %v", c.src, out, err)
		}
		again, err := Agree(out, "s", "sha256:1")
		if err != nil || string(again) != string(out) {
			t.Errorf("agreeing twice: %q %v", again, err)
		}
	}
}
