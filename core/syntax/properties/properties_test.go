package properties

import "testing"

func TestParse(t *testing.T) {
	entries := Parse([]byte("# comment = no\n! also = no\na=1\nb : 2\nc 3\nd = x\\\n    y\ne\\ e=4\nf=\\u0041\\n\ng\n\n  h  =  8  \na=9\r\nlast=end"))
	for key, want := range map[string]string{"a": "9", "b": "2", "c": "3", "d": "xy", "e e": "4", "f": "A\n", "g": "", "h": "8  ", "last": "end"} {
		if got, ok := Get(entries, key); !ok || got.Value != want {
			t.Errorf("%s: %q %v, want %q", key, got.Value, ok, want)
		}
	}
	if _, ok := Get(entries, "# comment"); ok {
		t.Error("a comment was read")
	}
	if got, _ := Get(entries, "b"); got.Line != 4 || got.Column != 1 {
		t.Errorf("b is at %d:%d", got.Line, got.Column)
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte("a=b\\\nc\n\\u00"))
	f.Fuzz(func(t *testing.T, src []byte) {
		for _, e := range Parse(src) {
			if e.Line < 1 || e.Column < 1 {
				t.Fatalf("%q: %+v", src, e)
			}
		}
	})
}
