package lex

import "testing"

func TestLinesGiveTheSamePlaces(t *testing.T) {
	for _, text := range []string{"", "a", "a\nb", "a\r\nb\rc\n\nd", "\xEF\xBB\xBFa\nb", "ä\nöü\n", "a\n\xEF\xBB\xBFb c"} {
		src := []byte(text)
		var l Lines
		for at := 0; at <= len(src)+2; at++ {
			line, column := l.Position(src, at)
			if x, y := Position(src, at); line != x || column != y {
				t.Errorf("%q at %d: %d:%d, want %d:%d", text, at, line, column, x, y)
			}
		}
	}
}
