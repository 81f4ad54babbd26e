// Package xml reads and edits XML files (manifests, resources, property lists) without touching a byte it was not
// asked to change. It reads what Extensible Markup Language (XML) 1.0, Fifth Edition, defines, as far as app files use
// it: elements, attributes in either quote, comments, CDATA, processing instructions, document types, entities.
//
// It checks well-formedness of nesting and reports the rest leniently: a file with a Problem is still a whole tree.
package xml

import (
	"bytes"
	"fmt"
	"strconv"
	"strings"

	"ligare/core/syntax/lex"
)

// Doc is a file read.
type Doc struct {
	Step     string // of indentation, in a document that shows none; "" is four spaces
	Src      []byte
	Root     *lex.Node
	Top      *Element // the document element; nil when there is none
	Problems []lex.Problem
	lines    lex.Lines
}

// Element is one element with what was read of it; Node is where it stands.
type Element struct {
	Name     string // with its prefix
	Attrs    []*Attribute
	Children []*Element
	Parent   *Element
	Node     *lex.Node
	OpenEnd  int  // offset just after the start tag
	CloseAt  int  // offset of the end tag; OpenEnd for an empty-element tag
	Empty    bool // written <a/>
}

// Attribute is one attribute; Value is decoded, the offsets span the raw value between its quotes.
type Attribute struct {
	Name, Value          string
	Start, End           int
	ValueStart, ValueEnd int
}

// Error is a file that is not well-formed.
type Error struct {
	Line, Column int
	Message      string
}

func (e *Error) Error() string { return fmt.Sprintf("%d:%d: %s", e.Line, e.Column, e.Message) }

type parser struct {
	src      []byte
	at       int
	problems []lex.Problem
}

// Parse reads src. The tree always covers every byte; use Doc.Err to learn whether the file is well-formed.
func Parse(src []byte) *Doc {
	p := &parser{src: src}
	root := &lex.Node{Kind: lex.Root, End: len(src)}
	d := &Doc{Src: src, Root: root}
	if bytes.HasPrefix(src, []byte("\xEF\xBB\xBF")) {
		root.Kids = append(root.Kids, p.leaf(lex.Space, 3))
	}
	var open []*Element // innermost last
	add := func(n *lex.Node) {
		if len(open) > 0 {
			e := open[len(open)-1].Node
			e.Kids = append(e.Kids, n)
		} else {
			root.Kids = append(root.Kids, n)
		}
	}
	closeTop := func() {
		e := open[len(open)-1]
		e.Node.End = e.Node.Kids[len(e.Node.Kids)-1].End
		open = open[:len(open)-1]
	}
	for p.at < len(src) {
		if src[p.at] != '<' {
			end := bytes.IndexByte(src[p.at:], '<')
			if end < 0 {
				end = len(src) - p.at
			}
			start := p.at
			for _, n := range p.text(p.at + end) {
				if n.Kind == lex.Text && len(open) == 0 {
					p.problem(start, "text outside the document element")
				}
				add(n)
			}
			continue
		}
		if n := p.special(); n != nil {
			add(n)
			continue
		}
		if bytes.HasPrefix(src[p.at:], []byte("</")) {
			start := p.at
			name, tag := p.endTag()
			i := len(open) - 1
			for i >= 0 && open[i].Name != name {
				i--
			}
			if i < 0 {
				p.problem(start, "end tag </%s> without its start", name)
				tag.Kind = lex.Tag
				add(tag)
				continue
			}
			for len(open)-1 > i {
				inner := open[len(open)-1]
				p.problem(inner.Node.Start, "<%s> is not closed", inner.Name)
				inner.CloseAt = start
				closeTop()
			}
			open[i].CloseAt = start
			add(tag)
			closeTop()
			continue
		}
		e, tag := p.startTag()
		if e == nil {
			add(tag) // a lone <
			continue
		}
		e.Node = &lex.Node{Kind: lex.Element, Start: tag.Start, End: tag.End, Kids: []*lex.Node{tag}}
		e.OpenEnd, e.CloseAt = tag.End, tag.End
		add(e.Node)
		if len(open) > 0 {
			e.Parent = open[len(open)-1]
			e.Parent.Children = append(e.Parent.Children, e)
		} else if d.Top == nil {
			d.Top = e
		} else {
			p.problem(tag.Start, "second document element <%s>", e.Name)
		}
		if !e.Empty && len(open) < lex.MaxDepth {
			open = append(open, e)
		} else if !e.Empty {
			p.problem(tag.Start, "elements nest deeper than %d", lex.MaxDepth)
		}
	}
	for len(open) > 0 {
		e := open[len(open)-1]
		p.problem(e.Node.Start, "<%s> is not closed", e.Name)
		e.CloseAt = len(src)
		closeTop()
	}
	if d.Top == nil {
		p.problem(len(src), "no document element")
	}
	d.Problems = p.problems
	return d
}

// Err gives the first problem with its place, or nil for a well-formed file.
func (d *Doc) Err() error {
	if len(d.Problems) == 0 {
		return nil
	}
	first := d.Problems[0]
	for _, p := range d.Problems {
		if p.Offset < first.Offset {
			first = p
		}
	}
	l, c := lex.Position(d.Src, first.Offset)
	return &Error{Line: l, Column: c, Message: first.Message}
}

// mostProblems bounds the problems that are told of one file.
const mostProblems = 1000

func (p *parser) problem(at int, format string, args ...any) {
	if len(p.problems) >= mostProblems {
		if at >= p.problems[0].Offset { // the first one in the file is the one that is told
			return
		}
		p.problems[0] = lex.Problem{Offset: at, Message: fmt.Sprintf(format, args...)}
		return
	}
	p.problems = append(p.problems, lex.Problem{Offset: at, Message: fmt.Sprintf(format, args...)})
}

func (p *parser) leaf(k lex.Kind, end int) *lex.Node {
	n := &lex.Node{Kind: k, Start: p.at, End: end}
	p.at = end
	return n
}

// text splits character data into blanks, line ends and text, so that layout can be told from content.
func (p *parser) text(end int) []*lex.Node {
	var out []*lex.Node
	for p.at < end {
		c := p.src[p.at]
		i := p.at
		switch {
		case c == '\n':
			out = append(out, p.leaf(lex.Newline, i+1))
		case c == '\r':
			n := i + 1
			if n < end && p.src[n] == '\n' {
				n++
			}
			out = append(out, p.leaf(lex.Newline, n))
		case c == ' ' || c == '\t':
			for i < end && (p.src[i] == ' ' || p.src[i] == '\t') {
				i++
			}
			out = append(out, p.leaf(lex.Space, i))
		default:
			for i < end && p.src[i] != '\n' && p.src[i] != '\r' && p.src[i] != ' ' && p.src[i] != '\t' {
				i++
			}
			out = append(out, p.leaf(lex.Text, i))
		}
	}
	return out
}

// special reads comments, CDATA, processing instructions and declarations.
func (p *parser) special() *lex.Node {
	for _, s := range []struct {
		open, close string
		kind        lex.Kind
		what        string
	}{
		{"<!--", "-->", lex.Comment, "comment"},
		{"<![CDATA[", "]]>", lex.Text, "CDATA section"},
		{"<?", "?>", lex.Directive, "processing instruction"},
	} {
		if bytes.HasPrefix(p.src[p.at:], []byte(s.open)) {
			end := bytes.Index(p.src[p.at+len(s.open):], []byte(s.close))
			if end < 0 {
				p.problem(p.at, "%s is not closed: %q is missing", s.what, s.close)
				return p.leaf(s.kind, len(p.src))
			}
			return p.leaf(s.kind, p.at+len(s.open)+end+len(s.close))
		}
	}
	if !bytes.HasPrefix(p.src[p.at:], []byte("<!")) {
		return nil
	}
	depth, quote := 0, byte(0) // a document type may hold an internal subset in [ ] with quoted >
	for i := p.at + 2; i < len(p.src); i++ {
		switch c := p.src[i]; {
		case quote != 0:
			if c == quote {
				quote = 0
			}
		case c == '"' || c == '\'':
			quote = c
		case c == '[':
			depth++
		case c == ']':
			depth--
		case c == '>' && depth <= 0:
			return p.leaf(lex.Directive, i+1)
		}
	}
	p.problem(p.at, "declaration is not closed")
	return p.leaf(lex.Directive, len(p.src))
}

func nameByte(c byte) bool {
	return c == '_' || c == ':' || c == '-' || c == '.' || c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= 0x80
}

func (p *parser) nameEnd(at int) int {
	for at < len(p.src) && nameByte(p.src[at]) {
		at++
	}
	return at
}

func (p *parser) endTag() (string, *lex.Node) {
	t := &lex.Node{Kind: lex.Tag, Start: p.at}
	t.Kids = append(t.Kids, p.leaf(lex.Open, p.at+2))
	name := ""
	if end := p.nameEnd(p.at); end > p.at {
		name = string(p.src[p.at:end])
		t.Kids = append(t.Kids, p.leaf(lex.Name, end))
	}
	p.tagRest(t, nil)
	t.End = p.at
	return name, t
}

func (p *parser) startTag() (*Element, *lex.Node) {
	start := p.at
	end := p.nameEnd(p.at + 1)
	if end == p.at+1 {
		p.problem(start, "a lone < (write &lt;)")
		return nil, p.leaf(lex.Stray, start+1)
	}
	t := &lex.Node{Kind: lex.Tag, Start: start}
	t.Kids = append(t.Kids, p.leaf(lex.Open, p.at+1))
	e := &Element{Name: string(p.src[p.at:end])}
	t.Kids = append(t.Kids, p.leaf(lex.Name, end))
	p.tagRest(t, e)
	t.End = p.at
	return e, t
}

// tagRest reads attributes up to and including the end of the tag.
func (p *parser) tagRest(t *lex.Node, e *Element) {
	var seen map[string]bool // attributes
	for p.at < len(p.src) {
		c := p.src[p.at]
		switch {
		case c == ' ' || c == '\t' || c == '\n' || c == '\r':
			t.Kids = append(t.Kids, p.text(p.blankEnd(p.at))...)
		case c == '>':
			t.Kids = append(t.Kids, p.leaf(lex.Close, p.at+1))
			return
		case c == '/' && p.at+1 < len(p.src) && p.src[p.at+1] == '>':
			if e != nil {
				e.Empty = true
			}
			t.Kids = append(t.Kids, p.leaf(lex.Close, p.at+2))
			return
		case c == '<':
			p.problem(t.Start, "tag is not closed: > is missing")
			return
		case nameByte(c) && e != nil:
			a, n := p.attribute()
			if seen[a.Name] {
				p.problem(a.Start, "attribute %s stands twice", a.Name)
			} else if seen == nil {
				seen = map[string]bool{}
			}
			seen[a.Name] = true
			e.Attrs = append(e.Attrs, a)
			t.Kids = append(t.Kids, n)
		default:
			p.problem(p.at, "%q does not belong in a tag", c)
			t.Kids = append(t.Kids, p.leaf(lex.Stray, p.at+1))
		}
	}
	p.problem(t.Start, "tag is not closed: > is missing")
}

func (p *parser) blankEnd(at int) int {
	for at < len(p.src) && (p.src[at] == ' ' || p.src[at] == '\t' || p.src[at] == '\n' || p.src[at] == '\r') {
		at++
	}
	return at
}

func (p *parser) attribute() (*Attribute, *lex.Node) {
	n := &lex.Node{Kind: lex.Attr, Start: p.at}
	a := &Attribute{Start: p.at}
	end := p.nameEnd(p.at)
	a.Name = string(p.src[p.at:end])
	n.Kids = append(n.Kids, p.leaf(lex.Name, end))
	done := func() (*Attribute, *lex.Node) {
		n.End, a.End = p.at, p.at
		return a, n
	}
	eq := p.blankEnd(p.at)
	if eq >= len(p.src) || p.src[eq] != '=' {
		p.problem(a.Start, "attribute %s has no value", a.Name)
		return done()
	}
	n.Kids = append(n.Kids, p.text(eq)...)
	n.Kids = append(n.Kids, p.leaf(lex.Punct, eq+1))
	q := p.blankEnd(p.at)
	n.Kids = append(n.Kids, p.text(q)...)
	if q >= len(p.src) || (p.src[q] != '"' && p.src[q] != '\'') {
		p.problem(a.Start, "the value of attribute %s is not quoted", a.Name)
		return done()
	}
	quote := p.src[q]
	n.Kids = append(n.Kids, p.leaf(lex.Quote, q+1))
	close := bytes.IndexByte(p.src[p.at:], quote)
	if close < 0 {
		p.problem(a.Start, "the value of attribute %s is not closed", a.Name)
		close = len(p.src) - p.at
	}
	a.ValueStart, a.ValueEnd = p.at, p.at+close
	a.Value = Decode(string(p.src[a.ValueStart:a.ValueEnd]))
	if close > 0 {
		n.Kids = append(n.Kids, p.leaf(lex.Text, p.at+close))
	}
	if p.at < len(p.src) {
		n.Kids = append(n.Kids, p.leaf(lex.Quote, p.at+1))
	}
	return done()
}

// Decode resolves the five predefined entities and character references; others stay as written.
func Decode(s string) string {
	if !strings.Contains(s, "&") {
		return s
	}
	var b strings.Builder
	for len(s) > 0 {
		i := strings.IndexByte(s, '&')
		if i < 0 {
			break
		}
		b.WriteString(s[:i])
		s = s[i:]
		end := strings.IndexByte(s, ';')
		if end < 0 || end > 12 {
			b.WriteByte('&')
			s = s[1:]
			continue
		}
		if r, ok := entity(s[1:end]); ok {
			b.WriteString(r)
		} else {
			b.WriteString(s[:end+1])
		}
		s = s[end+1:]
	}
	b.WriteString(s)
	return b.String()
}

func entity(name string) (string, bool) {
	switch name {
	case "amp":
		return "&", true
	case "lt":
		return "<", true
	case "gt":
		return ">", true
	case "quot":
		return `"`, true
	case "apos":
		return "'", true
	}
	base, digits := 10, strings.TrimPrefix(name, "#")
	if digits == name {
		return "", false
	}
	if strings.HasPrefix(digits, "x") {
		base, digits = 16, digits[1:]
	}
	v, err := strconv.ParseInt(digits, base, 32)
	if err != nil || v <= 0 || v > 0x10FFFF {
		return "", false
	}
	return string(rune(v)), true
}

// Encode escapes text for element content.
func Encode(s string) string {
	return strings.NewReplacer("&", "&amp;", "<", "&lt;", ">", "&gt;").Replace(s)
}

// EncodeAttr escapes text for an attribute value in double quotes.
func EncodeAttr(s string) string {
	return strings.NewReplacer("&", "&amp;", "<", "&lt;", `"`, "&quot;", "\n", "&#10;", "\t", "&#9;").Replace(s)
}
