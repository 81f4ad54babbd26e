package toml

import (
	"strings"

	"ligare/core/syntax/lex"
)

// line is one assignment of a table, or a table's heading, as it stands.
type line struct {
	table, key string // key "" for a heading
	start, end int
}

// lines gives the headings and assignments of a file in order.
func lines(src []byte) []line {
	p := &reader{src: src}
	var out []line
	var cur []*lex.Node
	table := ""
	flush := func() {
		if len(cur) == 0 {
			return
		}
		l := line{start: cur[0].Start, end: cur[len(cur)-1].End}
		if len(cur) == 1 && cur[0].Bracket(src) == '[' {
			table = p.key(p.headKey(cur[0]))
		} else {
			for i, n := range cur {
				if n.Is(src, lex.Punct, "=") {
					l.key = p.key(cur[:i])
					break
				}
			}
		}
		l.table, cur = table, nil
		out = append(out, l)
	}
	for _, n := range lex.Parse(lex.TOML, src).Root.Kids {
		switch {
		case n.Kind == lex.Newline:
			flush()
		case !n.Trivia():
			cur = append(cur, n)
		}
	}
	flush()
	return out
}

// Find resolves an address to the bytes it means: /TABLE is a table's heading, /TABLE/KEY one assignment.
func Find(src []byte, address string) (start, end int, ok bool) {
	table, key, _ := strings.Cut(strings.TrimPrefix(address, "/"), "/")
	for _, l := range lines(src) {
		if l.table == table && l.key == key {
			return l.start, l.end, true
		}
	}
	return 0, 0, false
}

// Add inserts an assignment as the last one of a table; ok is false when the file has no such table.
func Add(src []byte, table, key, value string) (in lex.Insertion, ok bool) {
	last := -1
	for _, l := range lines(src) {
		if l.table == table {
			last = l.end
		}
	}
	if last < 0 {
		return in, false
	}
	return lex.OnLinesAfter(src, last, lex.Indent(src, last), key+" = "+value), true
}

// AddTable inserts a heading at the end of a file.
func AddTable(src []byte, table string) lex.Insertion {
	in := lex.OnLinesAfter(src, len(src), "", "["+table+"]")
	if len(strings.TrimSpace(string(src))) > 0 {
		in.Before = lex.LineEnd(src) + in.Before
	}
	return in
}
