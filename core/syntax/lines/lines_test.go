package lines

import (
	"testing"

	"ligare/core/syntax/lex"
)

func TestAppendAndFind(t *testing.T) {
	for src, want := range map[string]string{"": "new\n", "a\n": "a\nnew\n", "a": "a\nnew", "a\r\nb\r\n": "a\r\nb\r\nnew\r\n"} {
		out, err := lex.Apply([]byte(src), Append([]byte(src), "new").Change())
		if err != nil || string(out) != want {
			t.Errorf("%q: %q %v", src, out, err)
		}
		if s, e, ok := Find(out, "new"); !ok || string(out[s:e]) != "new" {
			t.Errorf("%q: not found again", out)
		}
	}
	if _, _, ok := Find([]byte("anew\n# new\n"), "new"); ok {
		t.Error("a part of a line was found")
	}
	if s, _, ok := Find([]byte("x\n  new  \n"), "new"); !ok || s != 2 {
		t.Error("blanks around a line")
	}
}
