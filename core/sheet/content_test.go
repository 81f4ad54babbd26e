package sheet

import (
	"strings"
	"testing"
)

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
	for src, say := range map[string]string{"": "empty", " \n": "empty", "<!DOCTYPE HTML><html>": "web page", "<html lang=en>": "web page", "{\"a\":1}": "other platform", "<c><d></c>": "not readable as XML: 1:4",
		strings.Repeat("x", MaxFile+1): "another file", "\xff\xfe\x00": "not text"} {
		if _, err := x.Contents([]byte(src)); err == nil || !strings.Contains(err.Error(), say) {
			t.Errorf("%.40q: %v", src, err)
		}
	}
	if _, err := j.Contents([]byte("{\"a\": ")); err == nil || !strings.Contains(err.Error(), "JSON") {
		t.Errorf("truncated: %v", err)
	}
}

// One fact, at the same pointer wherever the format has pointers.
func TestEveryFormatIsRead(t *testing.T) {
	for format, c := range map[string]struct{ src, pointer, want string }{
		"json":       {`{"app": {"list": [{"key": "a~/b"}]}}`, "/app/list/0/key", "a~/b"},
		"yaml":       {"app:\n  list:\n    - key: a~/b\n", "/app/list/*/key", "a~/b"},
		"plist":      {"<?xml version=\"1.0\"?><plist version=\"1.0\"><dict><key>app</key><dict><key>list</key><array><dict><key>key</key><string>a~/b</string></dict></array></dict></dict></plist>", "/app/list/0/key", "a~/b"},
		"toml":       {"[app]\nkey = 'a~/b'\n", "/app/key", "a~/b"},
		"properties": {"app.key = a~/b\n", "app.key", "a~/b"},
		"xml":        {"<app><list><key v='a~/b'/></list></app>", "/app/list/key/@v", "a~/b"},
		"jws":        {"eyJhIjoxfQ.eyJhcHAiOnsia2V5IjoiYX4vYiJ9fQ.c2ln", "/payload/app/key", "a~/b"},
	} {
		f := &File{Name: "f", Format: format, Read: map[string]string{"x": c.pointer}}
		got, err := f.Contents([]byte(c.src))
		if r, ok := One(got, "x"); err != nil || !ok || r.Value != c.want {
			t.Errorf("%s: %+v %v", format, got, err)
		}
		doc, err := Open(format, []byte(c.src))
		if err != nil {
			t.Fatal(err)
		}
		leaves := 0
		for _, l := range doc.Leaves() { // every leaf is found again by its pointer
			leaves++
			if at := doc.At(l.Pointer); len(at) == 0 {
				t.Errorf("%s: nothing at %s", format, l.Pointer)
			}
		}
		if leaves == 0 {
			t.Errorf("%s has no leaves", format)
		}
	}
}

func TestPointersAreEscaped(t *testing.T) {
	j := &File{Name: "c", Format: "json", Read: map[string]string{"x": "/a~1b/c~0d"}}
	if got, err := j.Contents([]byte(`{"a/b": {"c~d": "v"}}`)); err != nil || got["x"][0].Value != "v" {
		t.Errorf("%v %v", got, err)
	}
}

func TestBrokenTokens(t *testing.T) {
	f := &File{Name: "l", Format: "jws", Read: map[string]string{"ends": "/payload/ends"}}
	for src, say := range map[string]string{"a.b": "2 parts", "!.b.c": "Base64url", "YQ.YQ.c": "not JSON"} {
		if _, err := f.Contents([]byte(src)); err == nil || !strings.Contains(err.Error(), say) {
			t.Errorf("%s: %v", src, err)
		}
	}
}

func FuzzContents(f *testing.F) {
	for _, s := range []string{"<c a='1'><d/></c>", `{"a":{"b":1}}`, "a:\n b: 1", "a = 1", "eyJhIjoxfQ.eyJhIjoxfQ.c", "bplist00"} {
		for i := range 7 {
			f.Add([]byte(s), i)
		}
	}
	formats := []string{"json", "xml", "plist", "yaml", "toml", "properties", "jws"}
	f.Fuzz(func(t *testing.T, src []byte, i int) {
		if i < 0 || i >= len(formats) {
			return
		}
		doc, err := Open(formats[i], src)
		if err != nil {
			return
		}
		for _, l := range doc.Leaves() {
			if formats[i] != "toml" && len(doc.At(l.Pointer)) == 0 && formats[i] != "properties" {
				t.Fatalf("%s %q: nothing at %q", formats[i], src, l.Pointer)
			}
		}
	})
}
