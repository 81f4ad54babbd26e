package lex

import (
	"strings"
	"testing"
)

func TestUnitOfIndentation(t *testing.T) {
	for _, c := range []struct{ name, src, want string }{
		{"nothing to go by", "a\nb\n", "    "},
		{"tabs", "a {\n\tb\n}\n", "\t"},
		{"two", "a {\n  b {\n    c\n  }\n}\n", "  "},
		{"four", "a {\n    b {\n        c\n", "    "},
		{"three", "a {\n   b\n", "   "},
		{"a comment's stars do not count", "/**\n * text\n */\nclass A {\n    b\n}\n", "    "},
		{"a lone blank does not count", "a\n b\n    c\n", "    "},
		{"too deep to be a step", "a(\n            b)\n", "    "},
		{"empty lines do not count", "a {\n  \n    b\n", "    "},
	} {
		if got := Unit([]byte(c.src)); got != c.want {
			t.Errorf("%s: %q, want %q", c.name, got, c.want)
		}
	}
}

func TestLines(t *testing.T) {
	src := []byte("one\r\n\ttwo  \nthree\rlast")
	for _, c := range []struct {
		at, start, next int
		indent          string
	}{
		{0, 0, 5, ""},
		{3, 0, 5, ""},
		{5, 5, 12, "\t"},
		{8, 5, 12, "\t"},
		{12, 12, 18, ""},
		{20, 18, 22, ""},
		{22, 18, 22, ""},
	} {
		if got := LineStart(src, c.at); got != c.start {
			t.Errorf("the line of %d starts at %d, want %d", c.at, got, c.start)
		}
		if got := NextLine(src, c.at); got != c.next {
			t.Errorf("the line after %d starts at %d, want %d", c.at, got, c.next)
		}
		if got := Indent(src, c.at); got != c.indent {
			t.Errorf("the line of %d is indented by %q, want %q", c.at, got, c.indent)
		}
	}
	for src, want := range map[string]string{
		"":         "\n",
		"a":        "\n",
		"a\nb\r\n": "\n",
		"a\r\nb\n": "\r\n",
		"a\rb":     "\r",
	} {
		if got := LineEnd([]byte(src)); got != want {
			t.Errorf("%q ends its lines with %q, want %q", src, got, want)
		}
	}
}

func TestAloneOnLine(t *testing.T) {
	for _, c := range []struct {
		src  string
		want bool
	}{
		{"x", true},
		{"  x\t", true},
		{"a\n  x  \nb", true},
		{"a x", false},
		{"x a", false},
		{"a\nx ;\nb", false},
	} {
		at := strings.IndexByte(c.src, 'x')
		if got := AloneOnLine([]byte(c.src), at, at+1); got != c.want {
			t.Errorf("%q: %v", c.src, got)
		}
	}
}

func TestInsertionsTakeTheFilesOwnForm(t *testing.T) {
	for _, c := range []struct {
		name string
		src  string
		make func(src []byte) Insertion
		want string
	}{
		{
			name: "above a line",
			src:  "a\n  b\n",
			make: func(s []byte) Insertion { return OnLinesBefore(s, 4, "  ", "x\ny") },
			want: "a\n  x\n  y\n  b\n",
		},
		{
			name: "below a line",
			src:  "a\n  b\nc\n",
			make: func(s []byte) Insertion { return OnLinesAfter(s, 4, "  ", "x") },
			want: "a\n  b\n  x\nc\n",
		},
		{
			name: "below the last line, which has no end",
			src:  "a\n  b",
			make: func(s []byte) Insertion { return OnLinesAfter(s, 4, "  ", "x\ny") },
			want: "a\n  b\n  x\n  y",
		},
		{
			name: "into an empty file",
			src:  "",
			make: func(s []byte) Insertion { return OnLinesAfter(s, 0, "", "x") },
			want: "x",
		},
		{
			name: "line ends of the file",
			src:  "a\r\nb\r\n",
			make: func(s []byte) Insertion { return OnLinesAfter(s, 0, "\t", "x\n  y") },
			want: "a\r\n\tx\r\n\t  y\r\nb\r\n",
		},
		{
			name: "into brackets on lines of their own",
			src:  "a {\n  b\n}\n",
			make: func(s []byte) Insertion { return IntoGroup(s, 3, 8, "", "  ", "x") },
			want: "a {\n  b\n  x\n}\n",
		},
		{
			name: "into brackets whose last line is a comment",
			src:  "a {\n  b\n  // c\n}\n",
			make: func(s []byte) Insertion { return IntoGroup(s, 3, 15, "", "  ", "x") },
			want: "a {\n  b\n  // c\n  x\n}\n",
		},
		{
			name: "into empty brackets",
			src:  "  a {}\n",
			make: func(s []byte) Insertion { return IntoGroup(s, 5, 5, "  ", "  ", "x\ny") },
			want: "  a {\n    x\n    y\n  }\n",
		},
	} {
		in := c.make([]byte(c.src))
		out, err := Apply([]byte(c.src), in.Change())
		if err != nil || string(out) != c.want {
			t.Errorf("%s: %q (%v), want %q", c.name, out, err, c.want)
		}
	}
}

func TestLiteralsAndQuoting(t *testing.T) {
	for _, c := range []struct {
		l     *Language
		src   string
		want  string
		plain bool
	}{
		{Groovy, `'a\'b'`, "a'b", true},
		{Groovy, `'''a 'b' c'''`, "a 'b' c", true},
		{Groovy, `"a\$b"`, "a$b", true},
		{Groovy, `"a${b}"`, "", false},
		{Groovy, `"a$b.c"`, "", false},
		{Groovy, `/a b/`, "a b", true},
		{Kotlin, `"a\\b\n"`, "a\\b\n", true},
		{Kotlin, `"""a "b" \n"""`, `a "b" \n`, true},
		{Kotlin, `"$a"`, "", false},
		{Kotlin, `"100$"`, "100$", true},
		{Swift, `"a\tb"`, "a\tb", true},
		{Swift, `#"a\nb"#`, `a\nb`, true},
		{Swift, `"\(a)"`, "", false},
		{Ruby, `'a\'b'`, "a'b", true},
		{Ruby, `"#{a}"`, "", false},
		{Ruby, `%q(a (b) c)`, "a (b) c", true},
		{Java, `"a\"b"`, `a"b`, true},
	} {
		tree := Parse(c.l, []byte(c.src))
		if len(tree.Root.Kids) != 1 {
			t.Errorf("%s %s: %d nodes", c.l.Name, c.src, len(tree.Root.Kids))
			continue
		}
		got, plain := Literal(tree.Src, tree.Root.Kids[0])
		if got != c.want || plain != c.plain {
			t.Errorf("%s %s: %q %v, want %q %v", c.l.Name, c.src, got, plain, c.want, c.plain)
		}
	}
	for _, s := range []string{"", "plain", `it's "quoted"`, "a\\b", "line\nend\ttab", "$dollar ${x}", "ünï"} {
		for _, l := range []*Language{Groovy, Kotlin} {
			text := Quoted(s, '"', true)
			got, ok := Literal([]byte(text), Parse(l, []byte(text)).Root.Kids[0])
			if !ok || got != s {
				t.Errorf("%s: %q is written %s and read back %q", l.Name, s, text, got)
			}
		}
	}
}
