package lex

import (
	"bytes"
	"fmt"
	"sort"
	"strings"
)

// Change replaces the bytes from Start up to End by New; Start == End inserts.
type Change struct {
	Start, End int
	New        string
}

// Apply makes changes over src and leaves everything else as it was. Changes may come in any order; two that
// overlap are refused, two insertions at one place keep the order given.
func Apply(src []byte, changes ...Change) ([]byte, error) {
	list := append([]Change(nil), changes...)
	sort.SliceStable(list, func(i, j int) bool { return list[i].Start < list[j].Start })
	var out []byte
	at := 0
	for _, c := range list {
		if c.Start < at || c.End < c.Start || c.End > len(src) {
			return nil, fmt.Errorf("change at %d-%d does not fit (%d bytes, last change ended at %d)", c.Start, c.End, len(src), at)
		}
		out = append(out, src[at:c.Start]...)
		out = append(out, c.New...)
		at = c.End
	}
	return append(out, src[at:]...), nil
}

// LineEnd gives the line ending a file uses: the first one that stands in it, or \n.
func LineEnd(src []byte) string {
	i := bytes.IndexAny(src, "\r\n")
	switch {
	case i < 0, src[i] == '\n':
		return "\n"
	case i+1 < len(src) && src[i+1] == '\n':
		return "\r\n"
	}
	return "\r"
}

// LineStart gives the offset at which the line holding offset begins.
func LineStart(src []byte, offset int) int {
	for offset > 0 && src[offset-1] != '\n' && src[offset-1] != '\r' {
		offset--
	}
	return offset
}

// NextLine gives the offset just after the line end that follows offset, or the file's length.
func NextLine(src []byte, offset int) int {
	for offset < len(src) {
		switch src[offset] {
		case '\n':
			return offset + 1
		case '\r':
			if offset+1 < len(src) && src[offset+1] == '\n' {
				return offset + 2
			}
			return offset + 1
		}
		offset++
	}
	return offset
}

// Indent gives the blanks at the beginning of the line that holds offset.
func Indent(src []byte, offset int) string {
	start := LineStart(src, offset)
	end := start
	for end < len(src) && (src[end] == ' ' || src[end] == '\t') {
		end++
	}
	return string(src[start:end])
}

// AloneOnLine reports whether nothing but blanks shares the lines of the span.
func AloneOnLine(src []byte, start, end int) bool {
	for i := start; i > 0 && src[i-1] != '\n' && src[i-1] != '\r'; i-- {
		if src[i-1] != ' ' && src[i-1] != '\t' {
			return false
		}
	}
	for i := end; i < len(src) && src[i] != '\n' && src[i] != '\r'; i++ {
		if src[i] != ' ' && src[i] != '\t' {
			return false
		}
	}
	return true
}

// Unit guesses one step of indentation from a file: a tab, or the smallest run of two or more leading spaces; four spaces otherwise.
func Unit(src []byte) string { return UnitOr(src, "    ") }

// UnitOr is Unit with another answer for a file that has no indentation; "" is four spaces.
func UnitOr(src []byte, none string) string {
	best := 0
	for _, line := range strings.Split(string(src), "\n") {
		if strings.HasPrefix(line, "\t") {
			return "\t"
		}
		n := len(line) - len(strings.TrimLeft(line, " "))
		rest := strings.TrimSpace(line)
		if n >= 2 && rest != "" && rest[0] != '*' && (best == 0 || n < best) {
			best = n
		}
	}
	if best == 0 && none != "" {
		return none
	}
	if best == 0 || best > 8 {
		best = 4
	}
	return strings.Repeat(" ", best)
}

// Insertion is a piece of text put between two glues, the blanks and line ends that belong to its place. Taking it
// out again together with its glues gives back the bytes that were there.
type Insertion struct {
	Offset              int
	Before, Text, After string
}

// Change gives the insertion as a change.
func (i Insertion) Change() Change {
	return Change{Start: i.Offset, End: i.Offset, New: i.Before + i.Text + i.After}
}

// OnLinesBefore inserts text on lines of its own above the line that holds offset.
func OnLinesBefore(src []byte, offset int, indent, text string) Insertion {
	return Insertion{Offset: LineStart(src, offset), Before: indent, Text: Reindent(text, indent, LineEnd(src)), After: LineEnd(src)}
}

// OnLinesAfter inserts text on lines of its own below the line that holds offset; a missing final line end stays missing.
func OnLinesAfter(src []byte, offset int, indent, text string) Insertion {
	nl := LineEnd(src)
	at := NextLine(src, offset)
	text = Reindent(text, indent, nl)
	if at == len(src) && (at == 0 || (src[at-1] != '\n' && src[at-1] != '\r')) {
		before := nl + indent
		if at == 0 {
			before = indent
		}
		return Insertion{Offset: at, Before: before, Text: text}
	}
	return Insertion{Offset: at, Before: indent, Text: text, After: nl}
}

// IntoGroup inserts text as the last thing inside a bracketed span whose opening bracket ends at open and whose
// closing bracket starts at close. A bracket pair on one line is opened up; the glues remember how it was.
func IntoGroup(src []byte, open, close int, indent, unit, text string) Insertion {
	nl := LineEnd(src)
	inner := indent + unit
	last := close
	for last > open && (src[last-1] == ' ' || src[last-1] == '\t') {
		last--
	}
	if last > open && (src[last-1] == '\n' || src[last-1] == '\r') {
		return Insertion{Offset: last, Before: inner, Text: Reindent(text, inner, nl), After: nl}
	}
	return Insertion{Offset: last, Before: nl + inner, Text: Reindent(text, inner, nl), After: nl + indent}
}

// Reindent joins the lines of text (written with \n and no outer indentation) with a file's line end and an
// indentation before every line but the first, which the place itself indents.
func Reindent(text, indent, nl string) string {
	lines := strings.Split(text, "\n")
	for i := 1; i < len(lines); i++ {
		if lines[i] != "" {
			lines[i] = indent + lines[i]
		}
	}
	return strings.Join(lines, nl)
}
