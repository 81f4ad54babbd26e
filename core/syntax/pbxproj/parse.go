// Package pbxproj reads and edits Xcode project files: old-style property lists of objects that name each other by ID.
// There is no published specification; what stands here was observed on files written by the IDE, object versions 46 to 77.
//
// Start reading at Project. Edits come back as insertions with addresses (see Find), so that they can be taken out again.
package pbxproj

import (
	"fmt"
	"sort"
	"strconv"
	"strings"

	"ligare/core/syntax/lex"
)

// Newest is the newest object version this package writes; newer files are read only.
const Newest = 77

// Value is a text, a dictionary or a list; exactly one of Dict and List is set for the latter two.
type Value struct {
	Text       string
	Dict       *Dict
	List       *List
	Start, End int
}

// Dict is a dictionary in the order of the file; Open and Close are the offsets inside its braces.
type Dict struct {
	Entries     []*Entry
	Open, Close int
}

// Entry is `key = value;` from the key to the semicolon.
type Entry struct {
	Key        string
	Value      *Value
	Start, End int
}

// List is a list in the order of the file.
type List struct {
	Items       []*Item
	Open, Close int
}

// Item is one value of a list with its comma, if it has one.
type Item struct {
	Value      *Value
	Start, End int
}

// Object is one entry of the objects dictionary.
type Object struct {
	ID, ISA string
	Entry   *Entry
	Dict    *Dict
}

// Project is a project file read.
type Project struct {
	Src     []byte
	Tree    *lex.Tree
	Top     *Dict
	Version int // objectVersion
	Objects map[string]*Object
	Order   []*Object // as they stand in the file
	Root    *Object   // the PBXProject
	up      map[string]*Object
	lines   lex.Lines
}

// Position gives the line and column of an offset.
func (p *Project) Position(offset int) (line, column int) { return p.lines.Position(p.Src, offset) }

// Error is a file that cannot be read as a project, with its place.
type Error struct {
	Line, Column int
	Message      string
}

func (e *Error) Error() string { return fmt.Sprintf("%d:%d: %s", e.Line, e.Column, e.Message) }

type parser struct{ src []byte }

func (p *parser) fail(at int, format string, args ...any) error {
	l, c := lex.Position(p.src, at)
	return &Error{Line: l, Column: c, Message: fmt.Sprintf(format, args...)}
}

// Parse reads a project file.
func Parse(src []byte) (*Project, error) {
	p := &parser{src: src}
	t, top, err := p.top()
	if err != nil {
		return nil, err
	}
	pr := &Project{Src: src, Tree: t, Top: top, Objects: map[string]*Object{}}
	objects := top.Get("objects")
	if objects == nil || objects.Dict == nil {
		return nil, p.fail(top.Open, "not a project file: no objects")
	}
	if v := top.Get("objectVersion"); v != nil {
		pr.Version, _ = strconv.Atoi(v.Text)
	}
	for _, e := range objects.Dict.Entries {
		if e.Value.Dict == nil {
			return nil, p.fail(e.Start, "object %s is not a dictionary", e.Key)
		}
		o := &Object{ID: e.Key, Entry: e, Dict: e.Value.Dict, ISA: e.Value.Dict.Text("isa")}
		if had := pr.Objects[o.ID]; had != nil {
			l, _ := lex.Position(src, had.Entry.Start)
			return nil, p.fail(e.Start, "object %s stands twice (first on line %d)", o.ID, l)
		}
		pr.Objects[o.ID] = o
		pr.Order = append(pr.Order, o)
	}
	pr.Root = pr.Objects[top.Text("rootObject")]
	if pr.Root == nil {
		return nil, p.fail(len(src), "rootObject %q is not among the objects", top.Text("rootObject"))
	}
	return pr, nil
}

func (p *parser) top() (*lex.Tree, *Dict, error) {
	t := lex.Parse(lex.OldStyle, p.src)
	if len(t.Problems) > 0 {
		return nil, nil, p.fail(t.Problems[0].Offset, "%s", t.Problems[0].Message)
	}
	solid := t.Root.Solid()
	if len(solid) != 1 || solid[0].Bracket(p.src) != '{' {
		return nil, nil, p.fail(0, "not an old-style property list: one { } is expected")
	}
	v, err := p.value(solid[:1])
	if err != nil {
		return nil, nil, err
	}
	return t, v.Dict, nil
}

func (p *parser) value(nodes []*lex.Node) (*Value, error) {
	n := nodes[0]
	v := &Value{Start: n.Start, End: nodes[len(nodes)-1].End}
	if n.Kind == lex.Punct && n.Is(p.src, lex.Punct, "<") { // data: <0fbd 77>
		for _, k := range nodes {
			v.Text += k.Of(p.src)
		}
		return v, nil
	}
	if len(nodes) > 1 {
		return nil, p.fail(nodes[1].Start, "%q stands after a value; is a separator missing?", nodes[1].Of(p.src))
	}
	switch n.Kind {
	case lex.Word:
		v.Text = n.Of(p.src)
	case lex.String:
		s, err := p.unquote(n)
		if err != nil {
			return nil, err
		}
		v.Text = s
	case lex.Group:
		var err error
		if n.Bracket(p.src) == '{' {
			v.Dict, err = p.dict(n)
		} else {
			v.List, err = p.list(n)
		}
		return v, err
	default:
		return nil, p.fail(n.Start, "%q stands where a value is expected", n.Of(p.src))
	}
	return v, nil
}

func (p *parser) dict(n *lex.Node) (*Dict, error) {
	d := &Dict{Open: n.Kids[0].End, Close: n.End - 1}
	rest := lex.Solid(n.Inner())
	for len(rest) > 0 {
		if len(rest) < 3 || !rest[1].Is(p.src, lex.Punct, "=") || rest[0].Kind != lex.Word && rest[0].Kind != lex.String {
			return nil, p.fail(rest[0].Start, "`key = value;` is expected")
		}
		end := 2
		for end < len(rest) && !rest[end].Is(p.src, lex.Punct, ";") {
			end++
		}
		if end == len(rest) {
			return nil, p.fail(rest[len(rest)-1].End, "a semicolon is missing")
		}
		if end == 2 {
			return nil, p.fail(rest[2].Start, "a value is missing")
		}
		key, err := p.value(rest[:1])
		if err != nil {
			return nil, err
		}
		v, err := p.value(rest[2:end])
		if err != nil {
			return nil, err
		}
		d.Entries = append(d.Entries, &Entry{Key: key.Text, Value: v, Start: rest[0].Start, End: rest[end].End})
		rest = rest[end+1:]
	}
	return d, nil
}

func (p *parser) list(n *lex.Node) (*List, error) {
	l := &List{Open: n.Kids[0].End, Close: n.End - 1}
	rest := lex.Solid(n.Inner())
	for len(rest) > 0 {
		end := 0
		for end < len(rest) && !rest[end].Is(p.src, lex.Punct, ",") {
			end++
		}
		if end == 0 {
			return nil, p.fail(rest[0].Start, "a value is expected before the comma")
		}
		v, err := p.value(rest[:end])
		if err != nil {
			return nil, err
		}
		it := &Item{Value: v, Start: v.Start, End: v.End}
		if end < len(rest) {
			it.End = rest[end].End
			end++
		}
		l.Items = append(l.Items, it)
		rest = rest[end:]
	}
	return l, nil
}

// unquote decodes C-like escapes: \n, \t, \", \\, octal \123 and \U0041.
func (p *parser) unquote(n *lex.Node) (string, error) {
	raw := p.src[n.Kids[0].End : n.End-1]
	var b strings.Builder
	for i := 0; i < len(raw); i++ {
		if raw[i] != '\\' || i+1 == len(raw) {
			b.WriteByte(raw[i])
			continue
		}
		i++
		switch c := raw[i]; {
		case c == 'n':
			b.WriteByte('\n')
		case c == 't':
			b.WriteByte('\t')
		case c == 'r':
			b.WriteByte('\r')
		case c == 'a':
			b.WriteByte(7)
		case c == 'U' && i+4 < len(raw):
			v, err := strconv.ParseUint(string(raw[i+1:i+5]), 16, 32)
			if err != nil {
				return "", p.fail(n.Start, "\\U needs four hexadecimal digits")
			}
			b.WriteRune(rune(v))
			i += 4
		case c >= '0' && c <= '7' && i+2 < len(raw):
			v, err := strconv.ParseUint(string(raw[i:i+3]), 8, 16)
			if err != nil {
				return "", p.fail(n.Start, "an octal escape needs three digits")
			}
			b.WriteRune(rune(v))
			i += 2
		default:
			b.WriteByte(c)
		}
	}
	return b.String(), nil
}

// Get gives a value by key, or nil.
func (d *Dict) Get(key string) *Value {
	if e := d.Entry(key); e != nil {
		return e.Value
	}
	return nil
}

// Entry gives an entry by key, or nil.
func (d *Dict) Entry(key string) *Entry {
	if d == nil {
		return nil
	}
	for _, e := range d.Entries {
		if e.Key == key {
			return e
		}
	}
	return nil
}

// Text gives a text value by key, or "".
func (d *Dict) Text(key string) string {
	if v := d.Get(key); v != nil {
		return v.Text
	}
	return ""
}

// Texts gives the texts of a list by key.
func (d *Dict) Texts(key string) []string {
	v := d.Get(key)
	if v == nil || v.List == nil {
		return nil
	}
	var out []string
	for _, it := range v.List.Items {
		out = append(out, it.Value.Text)
	}
	return out
}

// Quote writes a text as the IDE would: bare when it may be, else quoted and escaped.
func Quote(s string) string {
	bare := s != "" && !strings.Contains(s, "//") && !strings.Contains(s, "___")
	for _, r := range s {
		if !(r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || strings.ContainsRune("_$/:.", r)) {
			bare = false
		}
	}
	if bare {
		return s
	}
	return lex.Quoted(s, '"', false)
}

// ByISA gives the objects of a class, in ID order.
func (p *Project) ByISA(isa string) []*Object {
	var out []*Object
	for _, o := range p.Order {
		if o.ISA == isa {
			out = append(out, o)
		}
	}
	sort.SliceStable(out, func(i, j int) bool { return out[i].ID < out[j].ID })
	return out
}

// Find resolves an address to the bytes it spans. Addresses: object(ID); object(ID)/key for an entry; object(ID)/key/(text)
// for an item of a list; section(ISA) for the pair of section comments and what is between them.
func (p *Project) Find(address string) (start, end int, ok bool) {
	if isa, found := strings.CutPrefix(address, "section("); found {
		return p.section(strings.TrimSuffix(isa, ")"))
	}
	head, rest, _ := strings.Cut(address, "/")
	o := p.Objects[strings.TrimSuffix(strings.TrimPrefix(head, "object("), ")")]
	if o == nil {
		return 0, 0, false
	}
	if rest == "" {
		return o.Entry.Start, o.Entry.End, true
	}
	key, item, _ := strings.Cut(rest, "/")
	e := o.Dict.Entry(key)
	if e == nil {
		return 0, 0, false
	}
	if item == "" {
		return e.Start, e.End, true
	}
	if e.Value.List == nil {
		return 0, 0, false
	}
	want := strings.TrimSuffix(strings.TrimPrefix(item, "("), ")")
	for _, it := range e.Value.List.Items {
		if it.Value.Text == want {
			return it.Start, it.End, true
		}
	}
	return 0, 0, false
}

// section finds the comments that frame the objects of a class.
func (p *Project) section(isa string) (start, end int, ok bool) {
	p.Tree.Root.Walk(func(n *lex.Node) bool {
		if n.Kind == lex.Comment {
			switch strings.Join(strings.Fields(n.Of(p.Src)), " ") {
			case "/* Begin " + isa + " section */":
				start = n.Start
			case "/* End " + isa + " section */":
				end, ok = n.End, start > 0
			}
		}
		return true
	})
	return start, end, ok
}

// OldStyle reads any old-style property list whose root is a dictionary: the language of project files.
func OldStyle(src []byte) (*Value, error) {
	p := &parser{src: src}
	_, top, err := p.top()
	if err != nil {
		return nil, err
	}
	return &Value{Dict: top, Start: top.Open - 1, End: top.Close + 1}, nil
}
