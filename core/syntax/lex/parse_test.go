package lex

import (
	"bytes"
	"strings"
	"testing"
)

var all = []*Language{Groovy, Kotlin, Java, Swift, Ruby, JSON, TOML}

var samples = []string{
	"", "\n", "\r\n\r", "\xEF\xBB\xBFa b", "a { b(c[1]) } // x\n/* y */", "a /* /* nested */ */ b", `"x ${a("}") + "${b}"} y" c`,
	`'it\'s' "a\"b" """raw "quoted" ${x}"""`, "def a = /re[ex]\\/p/ ; 4 / 2 / 1", "$/dollar $$ slashy/$", "x = <<~EOS\n  text } {\n EOS\ny",
	"%w[a [b] c] %q(x)", "#if DEBUG\n f()\n#endif", `#"raw \ \#(x)"# ##"a"#b"##`, "\"unclosed\nnext", "((((", "}}})", "/* open", "a\x00b\xffc", "{\n\t// !$*UTF8*$!\n\ta = \"b\\\"c\"; /* n */\n}",
	`{"a": [1, -2.5e3, true], "b": {"c": null}}`, "[x]\na-b = 'c' # d\n", "=begin\nend {\n=end\npod 'x'\n__END__\n}}}", "\u00a0x\u200by",
}

func TestEveryByteBelongsToOneLeaf(t *testing.T) {
	for _, l := range all {
		for _, s := range samples {
			check(t, l, []byte(s))
		}
	}
}

func check(t *testing.T, l *Language, src []byte) {
	t.Helper()
	tree := Parse(l, src)
	if err := Verify(src, tree.Root); err != nil {
		t.Fatalf("%s %q: %v", l.Name, src, err)
	}
	tree.Root.Walk(func(n *Node) bool {
		in := append(append(append([]byte{}, src[:n.Start]...), n.Render(src)...), src[n.End:]...)
		if !bytes.Equal(in, src) {
			t.Fatalf("%s %q: rendering %s at %d in place gives %q", l.Name, src, n.Kind, n.Start, in)
		}
		return true
	})
}

func FuzzParse(f *testing.F) {
	for i := range all {
		for _, s := range samples {
			f.Add(byte(i), []byte(s))
		}
	}
	f.Fuzz(func(t *testing.T, which byte, src []byte) {
		check(t, all[int(which)%len(all)], src)
	})
}

func TestWhatIsNotCode(t *testing.T) {
	for _, c := range []struct {
		l    *Language
		src  string
		want string // the words that are code
	}{
		{Groovy, "a // b\n/* c /* d */ e 'f' \"g ${h} i\"", "a e h"},
		{Kotlin, "a /* b /* c */ d */ e \"\"\"f \"\" ${g} \\\"\"\" h", "a g h e"},
		{Groovy, "x = /a b/ ; y = c / d / e", "x y c d e"},
		{Ruby, "pod 'a' # b\nx <<~T\n c\nT\ny %w[d e]", "pod x y"},
		{Swift, "a(\"b \\(c(\"d\")) e\") #\"f \\(g)\"#", "a c"},
		{Java, "a '\"' b \"\\\"c\" d", "a b d"},
		{Ruby, "a\n=begin\nb\n=end\nc\n__END__\nd", "a c"},
	} {
		tree := Parse(c.l, []byte(c.src))
		got := map[string]bool{}
		tree.Root.Walk(func(n *Node) bool {
			if n.Kind == Word {
				got[n.Of(tree.Src)] = true
			}
			return true
		})
		want := map[string]bool{}
		for _, w := range strings.Fields(c.want) {
			want[w] = true
		}
		for w := range want {
			if !got[w] {
				t.Errorf("%s %q: %q is code and was not read as such", c.l.Name, c.src, w)
			}
		}
		for w := range got {
			if !want[w] {
				t.Errorf("%s %q: %q is not code", c.l.Name, c.src, w)
			}
		}
		if len(tree.Problems) > 0 {
			t.Errorf("%s %q: %v", c.l.Name, c.src, tree.Problems)
		}
	}
}

func TestProblemsSayWhere(t *testing.T) {
	for _, c := range []struct {
		src, want string
		at        int
	}{
		{"a {\n b", "'}' is missing", 2},
		{"x = \"abc\n", "string is not closed", 4},
		{"/* a", "comment is not closed", 0},
		{"a }", "without an opening bracket", 2},
		{"a\u200bb", "U+200B", 1},
	} {
		p := Parse(Kotlin, []byte(c.src)).Problems
		if len(p) != 1 || p[0].Offset != c.at || !strings.Contains(p[0].Message, c.want) {
			t.Errorf("%q: got %v, want %q at %d", c.src, p, c.want, c.at)
		}
	}
}

func TestInsertionsComeOutAgain(t *testing.T) {
	for _, src := range []string{"a {\n}\n", "a {\n    b\n}", "a { b }", "a {}", "a {\r\n\tb\r\n}\r\n", "a {\n    b\n    }\n", "a {\n\n}"} {
		b := []byte(src)
		open, close := strings.IndexByte(src, '{')+1, strings.LastIndexByte(src, '}')
		for _, in := range []Insertion{IntoGroup(b, open, close, "", "    ", "x {\n    y\n}"), OnLinesBefore(b, open, "", "x"), OnLinesAfter(b, close, "  ", "x\ny")} {
			out, err := Apply(b, in.Change())
			if err != nil {
				t.Fatal(err)
			}
			n := len(in.Before) + len(in.Text) + len(in.After)
			back, err := Apply(out, Change{Start: in.Offset, End: in.Offset + n})
			if err != nil || string(back) != src {
				t.Errorf("%q -> %q -> %q %v", src, out, back, err)
			}
			if strings.Contains(src, "\r\n") && strings.Count(string(out), "\n") != strings.Count(string(out), "\r\n") {
				t.Errorf("%q mixes line ends", out)
			}
		}
	}
}

func TestApplyRefusesOverlap(t *testing.T) {
	if _, err := Apply([]byte("abcd"), Change{0, 2, "x"}, Change{1, 3, "y"}); err == nil {
		t.Error("overlapping changes were accepted")
	}
	if _, err := Apply([]byte("abcd"), Change{3, 9, "x"}); err == nil {
		t.Error("a change past the end was accepted")
	}
	out, err := Apply([]byte("abcd"), Change{2, 2, "x"}, Change{2, 2, "y"}, Change{0, 1, ""})
	if err != nil || string(out) != "bxycd" {
		t.Errorf("got %q %v", out, err)
	}
}

func TestPosition(t *testing.T) {
	src := []byte("\xEF\xBB\xBFaé\r\nb\rc\nd")
	for _, c := range []struct{ at, line, col int }{{3, 1, 1}, {4, 1, 2}, {6, 1, 3}, {8, 2, 1}, {10, 3, 1}, {12, 4, 1}, {99, 4, 2}} {
		if l, k := Position(src, c.at); l != c.line || k != c.col {
			t.Errorf("offset %d: got %d:%d, want %d:%d", c.at, l, k, c.line, c.col)
		}
	}
}

func BenchmarkParse(b *testing.B) {
	src := bytes.Repeat([]byte("android {\n    defaultConfig { applicationId = \"example.app\" } // note\n}\n"), 2000)
	b.SetBytes(int64(len(src)))
	for b.Loop() {
		Parse(Kotlin, src)
	}
}
