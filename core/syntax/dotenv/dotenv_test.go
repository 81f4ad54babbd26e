package dotenv

import (
	"os/exec"
	"strings"
	"testing"
)

// A shell that reads the file has the value, whatever stands in it.
func TestAShellReadsWhatIsWritten(t *testing.T) {
	for _, v := range []string{"plain", "a b", "a'b", `a"b`, "$HOME", "`id`", `back\slash`, "#x", "", "gps~abc", "a'b$c\\d", "ü"} {
		out, err := exec.Command("sh", "-c", Line(Pair{"X", v})+"\nprintf %s \"$X\"").Output()
		if err != nil || string(out) != v {
			t.Errorf("%q: %q %v", v, out, err)
		}
	}
	if got := Line(Pair{"X", "two\nlines"}); got != `X="two\nlines"` {
		t.Errorf("%s", got)
	}
}

func TestSet(t *testing.T) {
	pairs := []Pair{{"A", "1"}, {"B", "x y"}}
	for src, want := range map[string]string{
		"":                         "A=1\nB='x y'\n",
		"# note\nA=0 \nC=3":        "# note\nA=1\nC=3\nB='x y'\n",
		"export A=0\r\n":           "export A=1\r\nB='x y'\r\n",
		"  B = 'old'\nAA=2\nA=\n":  "  B='x y'\nAA=2\nA=1\n",
		"X=\"a\nA=not\"\nA=0\nB=0": "",
	} {
		got, err := Set(src, pairs)
		if want == "" {
			if err == nil {
				t.Errorf("%q: %q", src, got)
			}
			continue
		}
		if err != nil || got != want {
			t.Errorf("%q: %q %v", src, got, err)
		}
		if again, err := Set(got, pairs); err != nil || again != got {
			t.Errorf("%q twice: %q %v", src, again, err)
		}
	}
	for _, src := range []string{"A=1\nA=2\n", "A=\"open\n"} {
		if _, err := Set(src, pairs); err == nil || !strings.Contains(err.Error(), "line") {
			t.Errorf("%q: %v", src, err)
		}
	}
}

func FuzzSet(f *testing.F) {
	f.Add("A=1\n# x\n", "v")
	f.Fuzz(func(t *testing.T, src, v string) {
		if strings.ContainsAny(v, "\x00") {
			return
		}
		once, err := Set(src, []Pair{{"LIGARE", v}})
		if err != nil {
			return
		}
		if again, err := Set(once, []Pair{{"LIGARE", v}}); err != nil || again != once {
			t.Fatalf("%q: %q then %q %v", src, once, again, err)
		}
	})
}

// What is written is read again, and what a shell reads is what Parse reads.
func TestParse(t *testing.T) {
	src := "\ufeff# note\nexport A=1\n  B = 'x # y'\nC=\"two\\nlines \\\"q\\\"\" # behind\nD=bare # behind\nE=\n"
	got, err := Parse(src)
	want := []Pair{{"A", "1"}, {"B", "x # y"}, {"C", "two\nlines \"q\""}, {"D", "bare"}, {"E", ""}}
	if err != nil || len(got) != len(want) {
		t.Fatalf("%q %v", got, err)
	}
	for i := range want {
		if got[i] != want[i] {
			t.Errorf("%q, and should be %q", got[i], want[i])
		}
	}
	for _, v := range []string{"plain", "a b", "a'b", `a"b`, "$HOME", "`id`", `back\slash`, "#x", "", "a'b$c\\d", "ü", "two\nlines\r"} {
		if got, err := Parse(Line(Pair{"X", v})); err != nil || len(got) != 1 || got[0].Value != v {
			t.Errorf("%q: %q %v", v, got, err)
		}
	}
	for _, bad := range []string{"A", "=1", "A=\"open\nB=1", "two words=1"} {
		if got, err := Parse(bad); err == nil {
			t.Errorf("%q: %q", bad, got)
		}
	}
}
