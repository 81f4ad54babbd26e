// Package pbxproj reads and edits Xcode project files: old-style property lists of objects that name each other by ID.
// There is no published specification; what stands here was observed on files written by the IDE, object versions 46 to 77.
//
// Start reading at Project. Edits come back as insertions with addresses (see Find), so that they can be taken out again.
package pbxproj

import (
	"bytes"
	"fmt"
	"sort"
	"strconv"
	"strings"
	"unicode/utf8"

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
	Src      []byte
	Top      *Dict
	Version  int // objectVersion
	Objects  map[string]*Object
	Order    []*Object // as they stand in the file
	Root     *Object   // the PBXProject
	up       map[string]*Object
	lines    lex.Lines
	sections map[string][2]int // found when they are first asked for
}

// Position gives the line and column of an offset.
func (p *Project) Position(offset int) (line, column int) { return p.lines.Position(p.Src, offset) }

// Error is a file that cannot be read as a project, with its place.
type Error struct {
	Line, Column int
	Message      string
}

func (e *Error) Error() string { return fmt.Sprintf("%d:%d: %s", e.Line, e.Column, e.Message) }

// parser reads straight from the bytes: project files are long, and are read again after every edit.
type parser struct {
	src       []byte
	at, depth int
}

func (p *parser) fail(at int, format string, args ...any) error {
	l, c := lex.Position(p.src, at)
	return &Error{Line: l, Column: c, Message: fmt.Sprintf(format, args...)}
}

// Parse reads a project file.
func Parse(src []byte) (*Project, error) {
	p := &parser{src: src}
	top, err := p.top()
	if err != nil {
		return nil, err
	}
	objects := top.Get("objects")
	if objects == nil || objects.Dict == nil {
		return nil, p.fail(top.Open, "not a project file: no objects")
	}
	n := len(objects.Dict.Entries)
	pr := &Project{Src: src, Top: top, Objects: make(map[string]*Object, n), Order: make([]*Object, 0, n)}
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

func (p *parser) top() (*Dict, error) {
	if at := invalid(p.src); at >= 0 {
		return nil, p.fail(at, "byte 0x%02x is not UTF-8", p.src[at])
	}
	p.at = len(p.src) - len(bytes.TrimPrefix(p.src, []byte("\xEF\xBB\xBF")))
	if err := p.skip(); err != nil {
		return nil, err
	}
	if p.peek() != '{' {
		return nil, p.fail(0, "not an old-style property list: one { } is expected")
	}
	v, err := p.value()
	if err != nil {
		return nil, err
	}
	if err := p.skip(); err != nil {
		return nil, err
	}
	if p.at < len(p.src) {
		return nil, p.fail(p.at, "%q stands after the list: one { } is expected", p.token())
	}
	return v.Dict, nil
}

// invalid gives the offset of the first byte that is not UTF-8, -1 for none.
func invalid(src []byte) int {
	if utf8.Valid(src) {
		return -1
	}
	for i := 0; i < len(src); {
		r, n := utf8.DecodeRune(src[i:])
		if r == utf8.RuneError && n == 1 {
			return i
		}
		i += n
	}
	return -1
}

// peek gives the byte that comes next, 0 at the end.
func (p *parser) peek() byte {
	if p.at < len(p.src) {
		return p.src[p.at]
	}
	return 0
}

// skip passes over blanks and comments.
func (p *parser) skip() error {
	for p.at < len(p.src) {
		switch c := p.src[p.at]; {
		case c == ' ' || c == '\t' || c == '\n' || c == '\r':
			p.at++
		case c == '/' && p.at+1 < len(p.src) && p.src[p.at+1] == '/':
			p.at = lex.NextLine(p.src, p.at)
		case c == '/' && p.at+1 < len(p.src) && p.src[p.at+1] == '*':
			end := bytes.Index(p.src[p.at+2:], []byte("*/"))
			if end < 0 {
				return p.fail(p.at, "comment is not closed: \"*/\" is missing")
			}
			p.at += end + 4
		default:
			return nil
		}
	}
	return nil
}

// bare are the bytes that may stand in a text without quotes, those of letters outside ASCII among them.
var bare = func() (out [256]bool) {
	for c := range out {
		out[c] = c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c >= 0x80 || strings.IndexByte("_$/:.-+", byte(c)) >= 0
	}
	return out
}()

// word gives the end of the text without quotes that begins here; a comment ends it.
func (p *parser) word() int {
	i := p.at
	for i < len(p.src) && bare[p.src[i]] && !(p.src[i] == '/' && i+1 < len(p.src) && (p.src[i+1] == '/' || p.src[i+1] == '*')) {
		i++
	}
	return i
}

// token gives what comes next, for messages.
func (p *parser) token() string {
	if end := p.word(); end > p.at {
		return string(p.src[p.at:end])
	}
	if p.at == len(p.src) {
		return "the end"
	}
	_, n := utf8.DecodeRune(p.src[p.at:])
	return string(p.src[p.at : p.at+n])
}

// maxDepth bounds how deep lists and dictionaries may be nested.
const maxDepth = 200

func (p *parser) value() (*Value, error) {
	v := &Value{Start: p.at}
	var err error
	switch c := p.peek(); {
	case c == '{' || c == '(':
		if p.depth++; p.depth > maxDepth {
			return nil, p.fail(p.at, "brackets nest deeper than %d", maxDepth)
		}
		if c == '{' {
			v.Dict, err = p.dict()
		} else {
			v.List, err = p.list()
		}
		p.depth--
	case c == '"' || c == '\'':
		v.Text, err = p.str(c)
	case c == '<': // data: <0fbd 77>
		end := bytes.IndexByte(p.src[p.at:], '>')
		if end < 0 {
			return nil, p.fail(p.at, "data is not closed: > is missing")
		}
		v.Text = strings.Join(strings.Fields(string(p.src[p.at:p.at+end+1])), "")
		p.at += end + 1
	default:
		end := p.word()
		if end == p.at {
			return nil, p.fail(p.at, "%q stands where a value is expected", p.token())
		}
		v.Text, p.at = string(p.src[p.at:end]), end
	}
	v.End = p.at
	return v, err
}

// str reads a text in quotes.
func (p *parser) str(quote byte) (string, error) {
	start := p.at
	escaped := false
	for p.at++; p.at < len(p.src); p.at++ {
		switch p.src[p.at] {
		case '\\':
			escaped = true
			p.at++
		case quote:
			p.at++
			if !escaped {
				return string(p.src[start+1 : p.at-1]), nil
			}
			return p.unquote(start, p.src[start+1:p.at-1])
		}
	}
	p.at = len(p.src)
	return "", p.fail(start, "string is not closed: %c is missing", quote)
}

// follows says that something stands where a separator or a bracket is expected.
func (p *parser) follows() error {
	return p.fail(p.at, "%q stands after a value; is a separator missing?", p.token())
}

func (p *parser) dict() (*Dict, error) {
	start := p.at
	p.at++
	d := &Dict{Open: p.at}
	for {
		if err := p.skip(); err != nil {
			return nil, err
		}
		c := p.peek()
		if p.at == len(p.src) {
			return nil, p.fail(start, "'{' is not closed: '}' is missing")
		}
		if c == '}' {
			d.Close = p.at
			p.at++
			return d, nil
		}
		e := &Entry{Start: p.at}
		if c != '"' && c != '\'' && p.word() == p.at {
			return nil, p.fail(e.Start, "`key = value;` is expected")
		}
		key, err := p.value()
		if err != nil {
			return nil, err
		}
		if err := p.skip(); err != nil {
			return nil, err
		}
		if p.peek() != '=' {
			return nil, p.fail(e.Start, "`key = value;` is expected")
		}
		p.at++
		if err := p.skip(); err != nil {
			return nil, err
		}
		if p.peek() == ';' {
			return nil, p.fail(p.at, "a value is missing")
		}
		if e.Value, err = p.value(); err != nil {
			return nil, err
		}
		if err := p.skip(); err != nil {
			return nil, err
		}
		switch c := p.peek(); {
		case c == '}' || p.at == len(p.src):
			return nil, p.fail(e.Value.End, "a semicolon is missing")
		case c != ';':
			return nil, p.follows()
		}
		p.at++
		e.Key, e.End = key.Text, p.at
		d.Entries = append(d.Entries, e)
	}
}

func (p *parser) list() (*List, error) {
	start := p.at
	p.at++
	l := &List{Open: p.at}
	for {
		if err := p.skip(); err != nil {
			return nil, err
		}
		switch c := p.peek(); {
		case p.at == len(p.src):
			return nil, p.fail(start, "'(' is not closed: ')' is missing")
		case c == ')':
			l.Close = p.at
			p.at++
			return l, nil
		case c == ',':
			return nil, p.fail(p.at, "a value is expected before the comma")
		}
		v, err := p.value()
		if err != nil {
			return nil, err
		}
		it := &Item{Value: v, Start: v.Start, End: v.End}
		if err := p.skip(); err != nil {
			return nil, err
		}
		switch c := p.peek(); {
		case c == ',':
			p.at++
			it.End = p.at
		case c != ')' && p.at < len(p.src):
			return nil, p.follows()
		}
		l.Items = append(l.Items, it)
	}
}

// unquote decodes C-like escapes: \n, \t, \", \\, octal \123 and \U0041.
func (p *parser) unquote(at int, raw []byte) (string, error) {
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
				return "", p.fail(at, "\\U needs four hexadecimal digits")
			}
			b.WriteRune(rune(v))
			i += 4
		case c >= '0' && c <= '7' && i+2 < len(raw):
			v, err := strconv.ParseUint(string(raw[i:i+3]), 8, 16)
			if err != nil {
				return "", p.fail(at, "an octal escape needs three digits")
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
	if e.Value.Dict != nil { // a build setting
		if x := e.Value.Dict.Entry(item); x != nil {
			return x.Start, x.End, true
		}
		return 0, 0, false
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
	if p.sections == nil {
		p.sections = sections(p.Src)
	}
	at, ok := p.sections[isa]
	return at[0], at[1], ok
}

// sections finds the pairs of comments that begin and end the objects of each class: from the first byte of the one to
// the last of the other.
func sections(src []byte) map[string][2]int {
	begun, out := map[string]int{}, map[string][2]int{}
	for i := 0; i < len(src); i++ {
		switch c := src[i]; {
		case c == '"' || c == '\'':
			for i++; i < len(src) && src[i] != c; i++ {
				if src[i] == '\\' {
					i++
				}
			}
		case c == '/' && i+1 < len(src) && src[i+1] == '*':
			n := bytes.Index(src[i:], []byte("*/"))
			if n < 0 {
				return out
			}
			words := bytes.Fields(src[i : i+n+2])
			if len(words) == 5 && string(words[0]) == "/*" && string(words[3]) == "section" && string(words[4]) == "*/" {
				switch isa := string(words[2]); string(words[1]) {
				case "Begin":
					begun[isa] = i
				case "End":
					if start, ok := begun[isa]; ok {
						out[isa] = [2]int{start, i + n + 2}
					}
				}
			}
			i += n + 1
		}
	}
	return out
}

// OldStyle reads any old-style property list whose root is a dictionary: the language of project files.
func OldStyle(src []byte) (*Value, error) {
	p := &parser{src: src}
	top, err := p.top()
	if err != nil {
		return nil, err
	}
	return &Value{Dict: top, Start: top.Open - 1, End: top.Close + 1}, nil
}
