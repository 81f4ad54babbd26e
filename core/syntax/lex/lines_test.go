package lex

import "testing"

func TestLinesGiveTheSamePlaces(t *testing.T) {
	for _, text := range []string{"", "a", "a\nb", "a\r\nb\rc\n\nd", "\xEF\xBB\xBFa\nb", "ä\nöü\n", "a\n\xEF\xBB\xBFb c", "xx\xEF\xBB\xBFyy ü\xEF\xBB\xBFz"} {
		src := []byte(text)
		var l Lines
		for at := 0; at <= len(src)+2; at++ {
			line, column := l.Position(src, at)
			if x, y := Position(src, at); line != x || column != y {
				t.Errorf("%q at %d: %d:%d, want %d:%d", text, at, line, column, x, y)
			}
		}
		for from := 0; from <= len(src); from++ { // whatever was asked before
			for to := range len(src) + 1 {
				l.Position(src, from)
				line, column := l.Position(src, to)
				if x, y := Position(src, to); line != x || column != y {
					t.Errorf("%q at %d after %d: %d:%d, want %d:%d", text, to, from, line, column, x, y)
				}
			}
		}
	}
}
