package message

import (
	"strings"
	"testing"

	"ligare/core/built/builttest"
	"ligare/core/syntax/chunk"
)

func TestABundlesManifest(t *testing.T) {
	top, err := XML(builttest.Entry(t, "app.aab", "base/manifest/AndroidManifest.xml"))
	if err != nil {
		t.Fatal(err)
	}
	app := top.Child("application")
	if top.Name != "manifest" || top.Plain("package").Value.String() != "example.larkfield.hivelog" || top.Attr("versionCode").Value.Type != chunk.Decimal || app == nil || !app.Attr("label").Value.IsReference() || app.Line == 0 {
		t.Errorf("%+v %+v", top, app)
	}
}

func TestABundlesTable(t *testing.T) {
	tab, err := Read(builttest.Entry(t, "app.aab", "base/resources.pb"))
	if err != nil || tab.Len() == 0 {
		t.Fatal(err)
	}
	list, err := tab.List("string")
	if err != nil || len(list) == 0 {
		t.Fatal(err)
	}
	for _, r := range list {
		if tab.Name(r.ID) != "string/"+r.Name {
			t.Errorf("%x is %s", r.ID, tab.Name(r.ID))
		}
		if got, err := tab.Resolve(chunk.Value{Type: chunk.Reference, Data: r.ID}); err != nil || len(got) == 0 || got[0].Type != chunk.String {
			t.Errorf("%s: %v %v", r.Name, got, err)
		}
	}
	if got, err := tab.Get(0x7fff0000); got != nil || err != nil || tab.Name(1) != "" {
		t.Errorf("%v %v", got, err)
	}
}

func TestEscapes(t *testing.T) {
	for in, want := range map[string]string{`plain`: "plain", `a\nb\tc`: "a\nb\tc", `\u00e4\u2713`: "ä✓", `\@x \?y \"q\" \\`: `@x ?y "q" \`, `cut \u00`: "cut 00", `end\`: `end\`} {
		if got := unescape(in); got != want {
			t.Errorf("%q is %q, and should be %q", in, got, want)
		}
	}
}

func TestBrokenMessages(t *testing.T) {
	for name, b := range map[string][]byte{"nothing": {}, "a text": []byte("<manifest/>"), "cut off": builttest.Entry(t, "app.aab", "base/manifest/AndroidManifest.xml")[:40], "a length behind the end": {0x0a, 0x7f, 1}} {
		if _, err := XML(b); err == nil || len(err.Error()) < 10 {
			t.Errorf("%s: %v", name, err)
		}
	}
	if _, err := Read([]byte{0x12, 0x7f, 1}); err == nil || !strings.Contains(err.Error(), "cut off") {
		t.Errorf("%v", err)
	}
}

func FuzzMessages(f *testing.F) {
	f.Add(builttest.Entry(f, "app.aab", "base/manifest/AndroidManifest.xml"))
	f.Add(builttest.Entry(f, "app.aab", "base/resources.pb"))
	f.Fuzz(func(t *testing.T, b []byte) {
		if top, err := XML(b); (top == nil) == (err == nil) {
			t.Fatal("neither a document nor an error, or both")
		}
		tab, err := Read(b)
		if err != nil {
			return
		}
		list, err := tab.List("string")
		if err != nil {
			return
		}
		for _, r := range list {
			if _, err := tab.Resolve(chunk.Value{Type: chunk.Reference, Data: r.ID}); err != nil {
				return
			}
		}
	})
}
