// Package lines reads and edits files that are lists of lines: ignore files, attribute files.
package lines

import (
	"strings"

	"ligare/core/syntax/lex"
)

// Find gives the span of the first line equal to text (blanks around it aside), without its line end.
func Find(src []byte, text string) (start, end int, ok bool) {
	for at := 0; at < len(src); {
		next := lex.NextLine(src, at)
		line := strings.TrimRight(string(src[at:next]), "\r\n")
		if strings.TrimSpace(line) == text {
			return at, at + len(line), true
		}
		at = next
	}
	return 0, 0, false
}

// Append inserts a line at the end of the file.
func Append(src []byte, text string) lex.Insertion {
	nl := lex.LineEnd(src)
	if n := len(src); n > 0 && src[n-1] != '\n' && src[n-1] != '\r' {
		return lex.Insertion{Offset: n, Before: nl, Text: text}
	}
	return lex.Insertion{Offset: len(src), Text: text, After: nl}
}
