package toml

import (
	"strings"
	"testing"
)

const catalog = `# versions
[versions]
agp = "8.1" # note
min-sdk = "26"
"quoted.key" = 'x'
[libraries]
a-b_c = { module = "g:n", version.ref = "agp" }
short = "g:s:1"
parts = { group = "g", name = "p", version = "2" }
[[tables]]
n = 1
`

func TestParse(t *testing.T) {
	f, err := Parse([]byte(catalog))
	if err != nil {
		t.Fatal(err)
	}
	for path, want := range map[string]string{"versions.agp": "8.1", "versions.quoted.key": "x", "libraries.a-b_c.module": "g:n", "libraries.a-b_c.version.ref": "agp", "libraries.parts.name": "p", "tables.n": "1"} {
		if e, ok := f.Get(path); !ok || e.Value != want {
			t.Errorf("%s: %q %v", path, e.Value, ok)
		}
	}
	if e, ok := f.Accessor("versions", "min.sdk", ""); !ok || e.Value != "26" || e.Line != 4 || e.Column != 11 {
		t.Errorf("accessor: %+v %v", e, ok)
	}
	if e, ok := f.Accessor("libraries", "a.b.c", ".module"); !ok || e.Value != "g:n" {
		t.Errorf("accessor with - and _: %+v %v", e, ok)
	}
	if _, ok := f.Accessor("libraries", "a.b", ".module"); ok {
		t.Error("a part of an alias was taken for it")
	}
	for src, want := range map[string]string{"a": "1:1: `key = value`", "[x]\n= 1": "2:1:", "a = \"x": "is missing", "a = {b}": "`key = value`"} {
		if _, err := Parse([]byte(src)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v", src, err)
		}
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte(catalog))
	f.Fuzz(func(t *testing.T, src []byte) {
		if g, err := Parse(src); err == nil {
			g.Accessor("versions", "a.b", "")
		}
	})
}
