package sheet

import (
	"strings"
	"testing"
	"testing/fstest"

	"ligare/core/ident"
	"ligare/sheets"
)

const minimal = `sheet: 1
service: s
title: S
scope: app
platforms: [android]
issues:
  values:
    - {id: key, title: Key, exposure: client, pattern: "[a-z]+"}
    - {id: secret, title: Secret, exposure: server}
  files:
    - {id: conf, platform: android, name: c.xml, format: xml, read: {identity: /c/@id, digests: /c/d}}
placements:
  - {id: one, platform: android, place: string-resource, with: {name: n, value: "${value.key}"}}
`

func TestShippedSheets(t *testing.T) {
	all, err := Load(sheets.FS)
	if err != nil {
		t.Fatal(err)
	}
	lib, err := LoadLibrary(sheets.FS)
	if err != nil {
		t.Fatal(err)
	}
	for name, s := range all {
		if err := lib.Check(s); err != nil {
			t.Error(err)
		}
		if name != s.Service || !strings.HasPrefix(s.Digest, "sha256:") || len(s.Duties) == 0 || len(s.Proof.Steps) == 0 {
			t.Errorf("%s is not whole", name)
		}
	}
}

func TestMistakesInSheets(t *testing.T) {
	for _, c := range []struct{ name, from, to, say string }{
		{"unknown element", "scope: app", "scope: app\ncolour: red", "line 5: field colour not found"},
		{"another format", "sheet: 1", "sheet: 2", "format"},
		{"no title", "title: S", "title: ''", "title"},
		{"scope", "scope: app", "scope: world", "none of identity, app, environment"},
		{"exposure", "exposure: client", "exposure: public", "client or server"},
		{"pattern", "[a-z]+", "[a-z", "pattern"},
		{"placing a server value", "${value.key}", "${value.secret}", "must not be placed in an app"},
		{"placing an unknown value", "${value.key}", "${value.other}", `no value "other"`},
		{"twice", "placements:\n", "placements:\n  - {id: one, platform: android, place: x}\n", "stands twice"},
		{"no such file", "with: {name: n,", "with: {file: none, name: n,", `no file "none"`},
		{"not YAML", "sheet: 1", "sheet: [", "line"},
	} {
		src := strings.Replace(minimal, c.from, c.to, 1)
		if src == minimal {
			t.Fatalf("%s changes nothing", c.name)
		}
		if _, err := Parse("s.yaml", []byte(src)); err == nil || !strings.Contains(err.Error(), c.say) || !strings.Contains(err.Error(), "s.yaml") {
			t.Errorf("%s: %v", c.name, err)
		}
	}
	if _, err := Parse("s.yaml", []byte(minimal)); err != nil {
		t.Error(err)
	}
}

func TestLibrary(t *testing.T) {
	lib, err := LoadLibrary(sheets.FS)
	if err != nil {
		t.Fatal(err)
	}
	s, err := Parse("s", []byte(minimal))
	if err != nil {
		t.Fatal(err)
	}
	s.Placements[0].Place = "nothing"
	if err := lib.Check(s); err == nil || !strings.Contains(err.Error(), `"nothing"`) {
		t.Errorf("%v", err)
	}
	s.Placements[0].Place, s.Placements[0].With = "repository", map[string]string{}
	if err := lib.Check(s); err == nil || !strings.Contains(err.Error(), `needs "url"`) {
		t.Errorf("%v", err)
	}
	s.Placements[0].Platform = ident.IOS
	if err := lib.Check(s); err == nil || !strings.Contains(err.Error(), "is for android") {
		t.Errorf("%v", err)
	}
	for name, text := range map[string]string{"twice": "library: 1\nplacements: {a: {ensure: file}}", "either": "library: 1\nplacements: {b: {either: [zz]}}", "field": "library: 1\nplacements: {c: {colour: x}}"} {
		fs := fstest.MapFS{"library/a.yaml": {Data: []byte("library: 1\nplacements: {a: {ensure: file}}")}, "library/b.yaml": {Data: []byte(text)}}
		if _, err := LoadLibrary(fs); err == nil {
			t.Errorf("%s was accepted", name)
		}
	}
}

func TestFill(t *testing.T) {
	get := func(k string) (string, bool) { v, ok := map[string]string{"a": "1", "b.c": "$2"}[k]; return v, ok }
	for in, want := range map[string]string{"": "", "x": "x", "${a}": "1", "<${a}${b.c}>": "<1$2>", "$a": "$a"} {
		if got, err := Fill(in, get); err != nil || got != want {
			t.Errorf("%q: %q %v", in, got, err)
		}
	}
	for _, in := range []string{"${none}", "${a"} {
		if _, err := Fill(in, get); err == nil {
			t.Errorf("%q was filled", in)
		}
	}
	if got := strings.Join(References("${a} ${b.c} ${"), " "); got != "a b.c" {
		t.Errorf("references: %s", got)
	}
}

func TestMatchIsWhole(t *testing.T) {
	if !Match("[0-9]{3}", "123") || Match("[0-9]{3}", "1234") || Match("[0-9]{3}", "123\n") || Match("a|b", "ab") || !Match("", "anything") {
		t.Error("a pattern must match the whole value")
	}
}

func TestContents(t *testing.T) {
	x := &File{Name: "c.xml", Format: "xml", Read: map[string]string{"identity": "/c/a/@id", "digests": "/c/d", "text": "/c/*/@none"}}
	got, err := x.Contents([]byte("<c>\n <a id='x&amp;y'/>\n <d> 1 </d><d>2</d></c>"))
	if err != nil {
		t.Fatal(err)
	}
	if r, ok := One(got, "identity"); !ok || r.Value != "x&y" || r.Line != 2 || r.Column != 9 || len(got["digests"]) != 2 || got["digests"][0].Value != "1" {
		t.Errorf("%+v", got)
	}
	if _, ok := One(got, "text"); ok {
		t.Error("something was read where nothing is")
	}
	j := &File{Name: "c.json", Format: "json", Read: map[string]string{"identity": "/a/*/id"}}
	if got, err := j.Contents([]byte(`{"a": [{"id": "x"}, {"id": "y"}]}`)); err != nil || len(got["identity"]) != 2 {
		t.Errorf("%+v %v", got, err)
	}
	for src, say := range map[string]string{"": "empty", " \n": "empty", "<!DOCTYPE HTML><html>": "web page", "<html lang=en>": "web page", "{\"a\":1}": "other platform", "<c><d></c>": "not readable as XML: 1:4"} {
		if _, err := x.Contents([]byte(src)); err == nil || !strings.Contains(err.Error(), say) {
			t.Errorf("%q: %v", src, err)
		}
	}
	if _, err := j.Contents([]byte("{\"a\": ")); err == nil || !strings.Contains(err.Error(), "JSON") {
		t.Errorf("truncated: %v", err)
	}
}

func FuzzContents(f *testing.F) {
	f.Add([]byte("<c a='1'><d/></c>"), true)
	f.Add([]byte(`{"a":{"b":1}}`), false)
	f.Fuzz(func(t *testing.T, src []byte, isXML bool) {
		file := &File{Name: "c", Format: "json", Read: map[string]string{"x": "/*/b", "y": ""}}
		if isXML {
			file = &File{Name: "c", Format: "xml", Read: map[string]string{"x": "/*/*/@a", "y": "/c"}}
		}
		got, err := file.Contents(src)
		for _, rs := range got {
			for _, r := range rs {
				if err != nil || r.Line < 1 {
					t.Fatalf("%q: %+v %v", src, r, err)
				}
			}
		}
	})
}
