package job

import (
	"fmt"
	"strings"

	"github.com/aymanbagabas/go-udiff"

	"ligare/core/wiring"
)

// Diff gives a change as a unified diff in which each hunk is headed by what its lines are for. A property list is
// shown as its XML text, whatever its form; a file that is not text by its length alone.
func (c *Change) Diff() string {
	old, now := "a/"+c.File, "b/"+c.File
	if c.Created {
		old = "/dev/null"
	}
	if c.Removed {
		now = "/dev/null"
	}
	was, text := wiring.Readable(c.File, c.Was)
	is, alsoText := wiring.Readable(c.File, c.New)
	if !text || !alsoText {
		return fmt.Sprintf("Binary files %s (%d bytes) and %s (%d bytes) differ\n", old, len(c.Was), now, len(c.New))
	}
	lines := strings.SplitAfter(udiff.Unified(old, now, string(was), string(is)), "\n")
	for i, l := range lines {
		if from, to, ok := hunk(l); ok {
			if what := c.titles(from, to); what != "" {
				lines[i] = strings.TrimSuffix(l, "\n") + " " + what + "\n"
			}
		}
	}
	return strings.Join(lines, "")
}

// hunk gives the lines of the new file that a hunk's header names.
func hunk(l string) (from, to int, ok bool) {
	if !strings.HasPrefix(l, "@@ ") {
		return 0, 0, false
	}
	_, after, _ := strings.Cut(l, "+")
	n := 1
	if _, err := fmt.Sscanf(after, "%d,%d @@", &from, &n); err != nil {
		if _, err := fmt.Sscanf(after, "%d @@", &from); err != nil {
			return 0, 0, false
		}
	}
	return from, from + n - 1, true
}

func (c *Change) titles(from, to int) string {
	var list []string
	for _, r := range c.Reasons {
		if r.From > 0 && r.From <= to && r.To >= from && !contains(list, r.Title) {
			list = append(list, r.Title)
		}
	}
	return strings.Join(list, ", ")
}
