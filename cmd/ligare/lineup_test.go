package main

import (
	"bytes"
	"strings"
	"testing"

	"ligare/core/check"
)

// A line-up fits the screen when what agrees can be cut; what disagrees stands in full.
func TestLineUpFitsTheScreen(t *testing.T) {
	long := strings.Repeat("0123456789", 6)
	rows := []check.Row{
		{Service: "thornmill", Platform: "android", Identity: "example.app", What: "Address that a sign-in provider sends people back to", Agrees: true, Cells: map[string]check.Cell{"service": {Value: long}, "tree": {Value: long}, "last sighting": {Value: long}}},
		{Service: "thornmill", Platform: "android", Identity: "example.app", What: "Public key", Cells: map[string]check.Cell{"service": {Value: long}, "tree": {Value: long + "x", Where: "app/build.gradle:3:9"}}, Odd: []string{"tree"}},
		{Service: "treadmark", Platform: "android", Identity: "example.app", What: "Key", Agrees: true, Cells: map[string]check.Cell{"service": {Value: "k"}}},
	}
	t.Setenv("COLUMNS", "110")
	var b bytes.Buffer
	showLineUp(&b, rows[2:])
	showLineUp(&b, rows[:1])
	for _, line := range strings.Split(b.String(), "\n") {
		if n := len([]rune(line)); n > 110 {
			t.Errorf("%d characters: %s", n, line)
		}
	}
	b.Reset()
	showLineUp(&b, rows)
	if !strings.Contains(b.String(), "≠ "+long+"x") || !strings.Contains(b.String(), "tree at app/build.gradle:3:9") || strings.Count(b.String(), "android example.app") != 2 {
		t.Errorf("%s", b.String())
	}
	b.Reset()
	if showLineUp(&b, nil); !strings.Contains(b.String(), "Nothing is registered yet.") {
		t.Errorf("%s", b.String())
	}
}
