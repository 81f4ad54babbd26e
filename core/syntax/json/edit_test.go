package json

import (
	"testing"

	"ligare/core/syntax/lex"
)

func TestAddingAMember(t *testing.T) {
	for _, c := range []struct{ src, want string }{
		{"{\n  \"dependencies\": {\n    \"a\": \"1\"\n  }\n}\n", "{\n  \"dependencies\": {\n    \"a\": \"1\",\n    \"@k/v\": \"2\"\n  }\n}\n"},
		{"{\"dependencies\": {\"a\": \"1\"}}", "{\"dependencies\": {\"a\": \"1\", \"@k/v\": \"2\"}}"},
		{"{\r\n\t\"dependencies\": {}\r\n}", "{\r\n\t\"dependencies\": {\r\n\t\t\"@k/v\": \"2\"\r\n\t}\r\n}"},
		{"{\"dependencies\": {\n  \"a\": 1, // why\n}}", "{\"dependencies\": {\n  \"a\": 1,\n  \"@k/v\": \"2\" // why\n}}"},
	} {
		f, err := Parse([]byte(c.src))
		if err != nil {
			t.Fatal(err)
		}
		in := f.Add(f.Root.Get("dependencies"), "@k/v", Quote("2"))
		out, err := lex.Apply([]byte(c.src), in.Change())
		if err != nil || string(out) != c.want {
			t.Errorf("%q became\n%s", c.src, out)
		}
		g, err := Parse(out)
		if err != nil {
			t.Fatal(err)
		}
		start, end, ok := g.Find("/dependencies" + Step("@k/v"))
		if at := in.Offset + len(in.Before); !ok || start != at || end != at+len(in.Text) {
			t.Errorf("%q: found at %d-%d, put at %d", c.src, start, end, at)
		}
	}
}

func TestCuttingAMemberLeavesJSON(t *testing.T) {
	src := "{\"d\": {\"a\": 1, \"b\": 2, \"c\": 3}}"
	for address, want := range map[string]string{"/d/a": `{"d": {"b": 2, "c": 3}}`, "/d/b": `{"d": {"a": 1, "c": 3}}`, "/d/c": `{"d": {"a": 1, "b": 2}}`, "/d": `{}`} {
		f, err := Parse([]byte(src))
		if err != nil {
			t.Fatal(err)
		}
		start, end, ok := f.Cut(address)
		if got := src[:start] + src[end:]; !ok || got != want {
			t.Errorf("%s: %s", address, got)
		}
	}
}

func FuzzAdd(f *testing.F) {
	for _, s := range []string{`{}`, `{"a":1}`, "{\n \"a\": [1,2],\n}", `{"a":{"b":1}/*x*/}`} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		d, err := Parse([]byte(s))
		if err != nil || d.Root.Kind != Object || d.Root.Get("ligare-k") != nil {
			return
		}
		in := d.Add(d.Root, "ligare-k", "1")
		out, err := lex.Apply([]byte(s), in.Change())
		if err != nil {
			t.Fatal(err)
		}
		g, err := Parse(out)
		if err != nil {
			t.Fatalf("%q became %q: %v", s, out, err)
		}
		start, end, ok := g.Find("/ligare-k")
		if at := in.Offset + len(in.Before); !ok || start != at || end != at+len(in.Text) {
			t.Fatalf("%q: found at %d-%d, put at %d", out, start, end, at)
		}
		if len(g.Root.Members) != len(d.Root.Members)+1 {
			t.Fatalf("%q became %q", s, out)
		}
	})
}
