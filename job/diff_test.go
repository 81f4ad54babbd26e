package job

import (
	"strings"
	"testing"

	"ligare/core/wiring"
)

func TestDiffHeadsEachHunkWithItsReason(t *testing.T) {
	var was, now strings.Builder
	for i := range 30 {
		l := strings.Repeat("x", i+1) + "\n"
		was.WriteString(l)
		now.WriteString(l)
		switch i {
		case 2:
			now.WriteString("first\n")
		case 25:
			now.WriteString("second\nthird\n")
		}
	}
	c := &Change{File: "f", Was: []byte(was.String()), New: []byte(now.String()), Reasons: []wiring.Reason{
		{Title: "one", From: 4, To: 4}, {Title: "two", From: 28, To: 28}, {Title: "three", From: 28, To: 29}, {Title: "all of it"}}}
	var heads []string
	for _, l := range strings.Split(c.Diff(), "\n") {
		if strings.HasPrefix(l, "@@") {
			heads = append(heads, l)
		}
	}
	if len(heads) != 2 || !strings.HasSuffix(heads[0], "@@ one") || !strings.HasSuffix(heads[1], "@@ two, three") {
		t.Errorf("%q", heads)
	}
}

func TestDiffOfWhatIsNotText(t *testing.T) {
	c := &Change{File: "a.aar", New: []byte("PK\x00\x01"), Created: true}
	if d := c.Diff(); d != "Binary files /dev/null (0 bytes) and b/a.aar (4 bytes) differ\n" {
		t.Errorf("%q", d)
	}
}

func TestHunkHeader(t *testing.T) {
	for _, x := range []struct {
		line     string
		from, to int
		ok       bool
	}{{"@@ -1,3 +5,4 @@", 5, 8, true}, {"@@ -1 +7 @@", 7, 7, true}, {"@@ -0,0 +1,2 @@", 1, 2, true}, {"+@@ -1 +7 @@", 0, 0, false}, {"@@ nothing", 0, 0, false}} {
		if from, to, ok := hunk(x.line); from != x.from || to != x.to || ok != x.ok {
			t.Errorf("%s: %d %d %t", x.line, from, to, ok)
		}
	}
}
