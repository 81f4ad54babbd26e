package json

import (
	"encoding/json"
	"strings"

	"ligare/core/syntax/lex"
)

// Step writes one step of a pointer (RFC 6901, section 3).
func Step(name string) string {
	return "/" + strings.ReplaceAll(strings.ReplaceAll(name, "~", "~0"), "/", "~1")
}

// Quote writes a text as a JSON string.
func Quote(text string) string {
	var b strings.Builder
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	if err := e.Encode(text); err != nil { // a text can always be encoded
		return `""`
	}
	return strings.TrimSuffix(b.String(), "\n")
}

// Find resolves a pointer to the bytes of a member, from its name to the end of its value; of an element of an array,
// the value's.
func (f *File) Find(pointer string) (start, end int, ok bool) {
	at := strings.LastIndexByte(pointer, '/')
	if at < 0 {
		return 0, 0, false
	}
	up := f.At(pointer[:at])
	if len(up) != 1 {
		return 0, 0, false
	}
	name := strings.ReplaceAll(strings.ReplaceAll(pointer[at+1:], "~1", "/"), "~0", "~")
	for _, m := range up[0].Members {
		if m.Name == name {
			start, end, ok = m.Start, m.Value.End, true
		}
	}
	if v := f.At(pointer); !ok && len(v) == 1 {
		return v[0].Start, v[0].End, true
	}
	return start, end, ok
}

// Add inserts a member as the last of an object, on a line of its own where the others have one. The value is given as JSON.
func (f *File) Add(object *Value, name, raw string) lex.Insertion {
	src := f.Tree.Src
	text := Quote(name) + ": " + raw
	n := len(object.Members)
	if n == 0 {
		return lex.IntoGroup(src, object.Start+1, object.End-1, lex.Indent(src, object.Start), lex.UnitOr(src, "  "), text)
	}
	last := object.Members[n-1]
	glue, indent := ", ", lex.Indent(src, last.Start)
	if lex.LineStart(src, last.Start)+len(indent) == last.Start {
		nl := lex.LineEnd(src)
		glue, text = ","+nl+indent, lex.Reindent(text, indent, nl)
	}
	end := last.Value.End
	if after := f.comma(end, object.End); after > 0 { // a comma after the last value, as some tools write it
		return lex.Insertion{Offset: after, Before: strings.TrimPrefix(glue, ","), Text: text}
	}
	return lex.Insertion{Offset: end, Before: glue, Text: text}
}

// comma gives the offset behind a comma that stands between two offsets, blanks and comments aside; 0 for none.
func (f *File) comma(from, to int) int {
	out := 0
	f.Tree.Root.Walk(func(n *lex.Node) bool {
		if n.Start >= from && n.End <= to && n.Is(f.Tree.Src, lex.Punct, ",") && out == 0 {
			out = n.End
		}
		return n.End > from && n.Start < to
	})
	return out
}

// Cut gives the span to take out with a member so that what is left is JSON: the comma before it, or the one behind it.
func (f *File) Cut(pointer string) (start, end int, ok bool) {
	start, end, ok = f.Find(pointer)
	if !ok {
		return 0, 0, false
	}
	up := f.At(pointer[:strings.LastIndexByte(pointer, '/')])[0]
	before, next := 0, 0
	for _, m := range up.Members {
		if m.Start < start {
			before = m.Value.End
		} else if m.Start > start && next == 0 {
			next = m.Start
		}
	}
	switch {
	case before > 0:
		return before, end, true
	case next > 0:
		return start, next, true
	}
	return start, end, true
}
