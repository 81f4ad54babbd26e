package yaml

import (
	"testing"

	"ligare/core/syntax/lex"
)

func TestAddingAnEntry(t *testing.T) {
	for _, c := range []struct{ src, mapping, want string }{
		{"name: a\ndependencies:\n  x: 1 # why\n  # last\n\ndev: 1\n", "/dependencies", "name: a\ndependencies:\n  x: 1 # why\n  k: ^1.0.0\n  # last\n\ndev: 1\n"},
		{"dependencies:\r\n    flutter:\r\n        sdk: flutter\r\n    list:\r\n    - a\r\n    - b\r\nz: 1", "/dependencies", "dependencies:\r\n    flutter:\r\n        sdk: flutter\r\n    list:\r\n    - a\r\n    - b\r\n    k: ^1.0.0\r\nz: 1"},
		{"a: 1\ndependencies:\nz: 1\n", "/dependencies", "a: 1\ndependencies:\n  k: ^1.0.0\nz: 1\n"},
		{"a: |\n  text\n  # no comment", "", "a: |\n  text\n  # no comment\nk: ^1.0.0"},
		{"dependencies:\n  text: >\n    one\n\n    two\n  q: \"a # b\" # c", "/dependencies", "dependencies:\n  text: >\n    one\n\n    two\n  q: \"a # b\" # c\n  k: ^1.0.0"},
	} {
		in, err := Add([]byte(c.src), c.mapping, "k", "^1.0.0")
		if err != nil {
			t.Errorf("%q: %v", c.src, err)
			continue
		}
		out, err := lex.Apply([]byte(c.src), in.Change())
		if err != nil || string(out) != c.want {
			t.Errorf("%q\nbecame %q\nand must be %q (%v)", c.src, out, c.want, err)
		}
		start, end, ok := Find(out, c.mapping+Step("k"))
		if at := in.Offset + len(in.Before); !ok || start != at || end != at+len(in.Text) {
			t.Errorf("%q: found at %d-%d, put at %d-%d", out, start, end, at, at+len(in.Text))
		}
	}
	for _, src := range []string{"dependencies: {a: 1}\n", "dependencies: text\n", "dependencies:\n\t- a\n", "other: 1\n"} {
		if in, err := Add([]byte(src), "/dependencies", "k", "1"); err == nil {
			t.Errorf("%q: %+v", src, in)
		}
	}
	for text, want := range map[string]string{"^1.2.0": "^1.2.0", "1.2": `"1.2"`, "a: b": `"a: b"`, "": `""`, "true": `"true"`, ">=1 <2": `">=1 <2"`} {
		if got := Scalar(text); got != want {
			t.Errorf("%s is written %s", text, got)
		}
	}
}

// Wherever an entry can be put, it is found again and comes out byte for byte.
func FuzzAdd(f *testing.F) {
	for _, s := range []string{"a:\n  b: 1\n", "a:\n", "a:\n  - x\nb: 1", "\xEF\xBB\xBFa:\n  b: |\n    x\n", "a: &x\n  b: *x", "? a\n: b: 1", "a:\r  b: 1\r"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		src := []byte(s)
		in, err := Add(src, "/a", "ligare-k", "v")
		if err != nil {
			return
		}
		out, err := lex.Apply(src, in.Change())
		if err != nil {
			t.Fatal(err)
		}
		start, end, ok := Find(out, "/a/ligare-k")
		at := in.Offset + len(in.Before)
		if !ok || start != at || end != at+len(in.Text) {
			t.Skip() // the plan refuses such an edit
		}
		if back := string(out[:start-len(in.Before)]) + string(out[end+len(in.After):]); back != s {
			t.Fatalf("%q came back as %q", s, back)
		}
	})
}
