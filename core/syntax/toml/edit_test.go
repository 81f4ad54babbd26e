package toml

import (
	"testing"

	"ligare/core/syntax/lex"
)

func TestAddingToATable(t *testing.T) {
	src := []byte("# catalog\r\n[versions]\r\nagp = \"8\" # why\r\n\r\n[plugins]\r\na = { id = \"x\",\r\n  version = \"1\" }\r\n# [other]\r\n\r\n[libraries]\r\n")
	for table, want := range map[string]string{
		"versions":  "# catalog\r\n[versions]\r\nagp = \"8\" # why\r\nk = 1\r\n\r\n[plugins]\r\na = { id = \"x\",\r\n  version = \"1\" }\r\n# [other]\r\n\r\n[libraries]\r\n",
		"libraries": "# catalog\r\n[versions]\r\nagp = \"8\" # why\r\n\r\n[plugins]\r\na = { id = \"x\",\r\n  version = \"1\" }\r\n# [other]\r\n\r\n[libraries]\r\nk = 1\r\n",
	} {
		in, ok := Add(src, table, "k", "1")
		if !ok {
			t.Fatal(table)
		}
		out, err := lex.Apply(src, in.Change())
		if err != nil || string(out) != want {
			t.Errorf("%s: %q", table, out)
		}
		start, end, ok := Find(out, "/"+table+"/k")
		if at := in.Offset + len(in.Before); !ok || start != at || end != at+len(in.Text) {
			t.Errorf("%s: found at %d-%d, put at %d", table, start, end, at)
		}
	}
	if _, ok := Add(src, "other", "k", "1"); ok {
		t.Error("a table in a comment was taken for one")
	}
	for _, s := range []string{"", "[a]\nb = 1", "[a]\n"} {
		in := AddTable([]byte(s), "t")
		out, _ := lex.Apply([]byte(s), in.Change())
		start, end, ok := Find(out, "/t")
		if !ok || string(out[start:end]) != "[t]" {
			t.Errorf("%q: %q", s, out)
		}
	}
}

func FuzzAdd(f *testing.F) {
	f.Add("[a]\nb = 1\n[c]\n")
	f.Add("[a]\nb = [\n1,\n2]\n\"c.d\" = { e = 1 }")
	f.Fuzz(func(t *testing.T, s string) {
		if _, err := Parse([]byte(s)); err != nil {
			return
		}
		in, ok := Add([]byte(s), "a", "ligare-k", "1")
		if !ok {
			return
		}
		out, err := lex.Apply([]byte(s), in.Change())
		if err != nil {
			t.Fatal(err)
		}
		start, end, ok := Find(out, "/a/ligare-k")
		if at := in.Offset + len(in.Before); ok && start == at && end == at+len(in.Text) {
			if back := string(out[:start-len(in.Before)]) + string(out[end+len(in.After):]); back != s {
				t.Fatalf("%q came back as %q", s, back)
			}
		}
	})
}
