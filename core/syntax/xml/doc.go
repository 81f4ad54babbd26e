package xml

import (
	"fmt"
	"strings"

	"ligare/core/syntax/lex"
)

// Attr gives an attribute by its full name, or nil.
func (e *Element) Attr(name string) *Attribute {
	for _, a := range e.Attrs {
		if a.Name == name {
			return a
		}
	}
	return nil
}

// Space gives the namespace a prefix is bound to at this element ("" when it is not).
func (e *Element) Space(prefix string) string {
	want := "xmlns"
	if prefix != "" {
		want = "xmlns:" + prefix
	}
	for at := e; at != nil; at = at.Parent {
		if a := at.Attr(want); a != nil {
			return a.Value
		}
	}
	return ""
}

// AttrNS gives an attribute by namespace and local name, whatever prefix the file chose.
func (e *Element) AttrNS(space, local string) *Attribute {
	for _, a := range e.Attrs {
		if prefix, name, ok := strings.Cut(a.Name, ":"); ok && name == local && prefix != "xmlns" && e.Space(prefix) == space {
			return a
		}
	}
	return nil
}

// Prefix gives the prefix bound to a namespace at this element; ok is false when none is.
func (e *Element) Prefix(space string) (prefix string, ok bool) {
	for at := e; at != nil; at = at.Parent {
		for _, a := range at.Attrs {
			if p := strings.TrimPrefix(a.Name, "xmlns:"); p != a.Name && a.Value == space {
				return p, true
			}
		}
	}
	return "", false
}

// Child gives the first child of this name.
func (e *Element) Child(name string) *Element {
	for _, c := range e.Children {
		if c.Name == name {
			return c
		}
	}
	return nil
}

// Each visits the element and all below it.
func (e *Element) Each(f func(*Element)) {
	f(e)
	for _, c := range e.Children {
		c.Each(f)
	}
}

// Text gives the element's own character data, decoded, white space as written; comments leave no trace.
func (d *Doc) Text(e *Element) string {
	var b strings.Builder
	for _, n := range e.Node.Kids {
		switch n.Kind {
		case lex.Text, lex.Space, lex.Newline:
			t := n.Of(d.Src)
			if in := strings.TrimPrefix(t, "<![CDATA["); in != t {
				b.WriteString(strings.TrimSuffix(in, "]]>"))
			} else {
				b.WriteString(Decode(t))
			}
		}
	}
	return b.String()
}

// At gives the position of an offset.
func (d *Doc) At(offset int) (line, column int) { return d.lines.Position(d.Src, offset) }

// ValueStart gives the offset at which an element's text begins, white space skipped.
func (d *Doc) ValueStart(e *Element) int {
	for _, n := range e.Node.Kids {
		if n.Kind == lex.Text {
			return n.Start
		}
	}
	return e.OpenEnd
}

// Find resolves an address made by Address: /resources/string[@name='x']/item[2]. Positions count from 1 among
// elements of the same name; without one the first is meant. //name is an element at any depth, in the document's order.
func (d *Doc) Find(address string) (*Element, bool) {
	steps, ok := split(address)
	if !ok || d.Top == nil || len(steps) == 0 || !steps[0].matches(d.Top) {
		return nil, false
	}
	at := d.Top
	for _, s := range steps[1:] {
		var next *Element
		n := 0
		among := at.Children
		if s.deep {
			among = nil
			at.Each(func(c *Element) { among = append(among, c) })
		}
		for _, c := range among {
			if s.matches(c) {
				if n++; n == s.index {
					next = c
					break
				}
			}
		}
		if next == nil {
			return nil, false
		}
		at = next
	}
	return at, true
}

// Span resolves an address to the bytes it means: an element, or with /@NAME at its end one of its attributes.
func (d *Doc) Span(address string) (start, end int, ok bool) {
	at := strings.LastIndex(address, "/@")
	if at < 0 || strings.ContainsAny(address[at:], "'[]") {
		e, ok := d.Find(address)
		if !ok {
			return 0, 0, false
		}
		return e.Node.Start, e.Node.End, true
	}
	e, ok := d.Find(address[:at])
	if !ok {
		return 0, 0, false
	}
	a := e.Attr(address[at+2:])
	if a == nil {
		return 0, 0, false
	}
	return a.Start, a.End, true
}

// AddAttr inserts an attribute behind the last one, on a line of its own where those have one.
func (d *Doc) AddAttr(e *Element, name, value string) lex.Insertion {
	at, before := e.Node.Start+1+len(e.Name), " "
	if n := len(e.Attrs); n > 0 {
		last := e.Attrs[n-1]
		at = last.End
		if start := lex.LineStart(d.Src, last.Start); start > e.Node.Start && strings.TrimSpace(string(d.Src[start:last.Start])) == "" {
			before = lex.LineEnd(d.Src) + string(d.Src[start:last.Start])
		}
	}
	return lex.Insertion{Offset: at, Before: before, Text: name + "=\"" + EncodeAttr(value) + "\""}
}

type step struct {
	name, attr, value string
	index             int
	deep              bool // at any depth
}

func (s step) matches(e *Element) bool {
	if e.Name != s.name {
		return false
	}
	if s.attr == "" {
		return true
	}
	a := e.Attr(s.attr)
	return a != nil && a.Value == s.value
}

func split(address string) ([]step, bool) {
	var out []step
	for address != "" {
		if address[0] != '/' {
			return nil, false
		}
		address = address[1:]
		deep := strings.HasPrefix(address, "/")
		if deep {
			address = address[1:]
		}
		end := strings.IndexAny(address, "/[")
		if end < 0 {
			end = len(address)
		}
		s := step{name: address[:end], index: 1, deep: deep}
		address = address[end:]
		for strings.HasPrefix(address, "[") {
			if rest, ok := strings.CutPrefix(address, "[@"); ok {
				name, rest, ok := strings.Cut(rest, "='")
				close := strings.Index(rest, "']")
				if !ok || close < 0 {
					return nil, false
				}
				s.attr, s.value = name, Decode(rest[:close])
				address = rest[close+2:]
				continue
			}
			close := strings.IndexByte(address, ']')
			if close < 0 {
				return nil, false
			}
			if _, err := fmt.Sscanf(address[1:close], "%d", &s.index); err != nil || s.index < 1 {
				return nil, false
			}
			address = address[close+1:]
		}
		out = append(out, s)
	}
	return out, true
}

// Step writes one step of an address, telling the element by an attribute.
func Step(name, attr, value string) string {
	if attr == "" {
		return "/" + name
	}
	return fmt.Sprintf("/%s[@%s='%s']", name, attr, strings.NewReplacer("&", "&amp;", "'", "&apos;").Replace(value))
}

// stepped writes elements that are indented by tabs with a file's own step.
func stepped(text, unit string) string {
	lines := strings.Split(text, "\n")
	for i, l := range lines {
		if rest := strings.TrimLeft(l, "\t"); strings.HasPrefix(rest, "<") {
			lines[i] = strings.Repeat(unit, len(l)-len(rest)) + rest
		}
	}
	return strings.Join(lines, "\n")
}

// Into inserts text as the last child of an element, on lines of its own, indented like its siblings. An element
// written <a/> is opened up: then two changes come back and no insertion stands alone.
func (d *Doc) Into(e *Element, text string) (lex.Insertion, error) {
	if e.Empty {
		return lex.Insertion{}, fmt.Errorf("<%s/> is written as an empty element", e.Name)
	}
	src := d.Src
	unit := lex.UnitOr(src, d.Step)
	indent := lex.Indent(src, e.Node.Start)
	text = stepped(text, unit)
	if n := len(e.Children); n > 0 {
		last := e.Children[n-1]
		if lex.LineStart(src, last.Node.Start)+len(lex.Indent(src, last.Node.Start)) == last.Node.Start {
			indent := lex.Indent(src, last.Node.Start)
			nl := lex.LineEnd(src)
			close := e.CloseAt
			for close > last.Node.End && (src[close-1] == ' ' || src[close-1] == '\t') {
				close--
			}
			if close > last.Node.End && (src[close-1] == '\n' || src[close-1] == '\r') {
				return lex.Insertion{Offset: close, Before: indent, Text: lex.Reindent(text, indent, nl), After: nl}, nil
			}
			return lex.Insertion{Offset: e.CloseAt, Before: nl + indent, Text: lex.Reindent(text, indent, nl), After: nl + lex.Indent(src, e.Node.Start)}, nil
		}
	}
	return lex.IntoGroup(src, e.OpenEnd, e.CloseAt, indent, unit, text), nil
}

// SetAttr replaces the value of an attribute.
func (d *Doc) SetAttr(a *Attribute, value string) lex.Change {
	v := EncodeAttr(value)
	if a.ValueStart > 0 && d.Src[a.ValueStart-1] == '\'' {
		v = strings.ReplaceAll(v, "'", "&apos;")
	}
	return lex.Change{Start: a.ValueStart, End: a.ValueEnd, New: v}
}
