// Package json reads JSON (RFC 8259) with places, and accepts the comments and trailing commas some tools write,
// reporting them. Values are reached by JSON Pointer (RFC 6901), with * for every member or element.
package json

import (
	"encoding/json"
	"fmt"
	"strconv"
	"strings"

	"ligare/core/syntax/lex"
)

// Kind is a JSON type.
type Kind string

// The types of RFC 8259, section 3.
const (
	Object Kind = "object"
	Array  Kind = "array"
	String Kind = "string"
	Number Kind = "number"
	Bool   Kind = "boolean"
	Null   Kind = "null"
)

// Value is one value with its place.
type Value struct {
	Kind       Kind
	Text       string // of a scalar, decoded; numbers as written
	Members    []Member
	Items      []*Value
	Start, End int
}

// Member is one name and value of an object.
type Member struct {
	Name  string
	Start int
	Value *Value
}

// File is a document read; Problems holds what strict readers refuse.
type File struct {
	Tree     *lex.Tree
	Root     *Value
	Problems []lex.Problem
	lines    lex.Lines
}

// Error is a document that is not JSON, with its place.
type Error struct {
	Line, Column int
	Message      string
}

func (e *Error) Error() string { return fmt.Sprintf("%d:%d: %s", e.Line, e.Column, e.Message) }

type parser struct {
	f   *File
	src []byte
}

// Parse reads a document.
func Parse(src []byte) (*File, error) {
	t := lex.Parse(lex.JSON, src)
	p := &parser{f: &File{Tree: t}, src: src}
	if len(t.Problems) > 0 {
		return nil, p.fail(t.Problems[0].Offset, "%s", t.Problems[0].Message)
	}
	t.Root.Walk(func(n *lex.Node) bool {
		if n.Kind == lex.Comment {
			p.note(n.Start, "a comment: not JSON, and strict readers refuse it")
		}
		if text := n.Of(src); n.Kind == lex.Space && strings.Trim(text, " \t\ufeff") != "" {
			p.note(n.Start, "a blank that is none in JSON (RFC 8259, section 2), and strict readers refuse it")
		}
		return true
	})
	solid := t.Root.Solid()
	if len(solid) == 0 {
		return nil, p.fail(len(src), "the file is empty")
	}
	v, err := p.value(solid[0])
	if err != nil {
		return nil, err
	}
	if len(solid) > 1 {
		return nil, p.fail(solid[1].Start, "%q stands after the document", solid[1].Of(src))
	}
	p.f.Root = v
	return p.f, nil
}

func (p *parser) fail(at int, format string, args ...any) error {
	l, c := lex.Position(p.src, at)
	return &Error{Line: l, Column: c, Message: fmt.Sprintf(format, args...)}
}

func (p *parser) note(at int, message string) {
	p.f.Problems = append(p.f.Problems, lex.Problem{Offset: at, Message: message})
}

func (p *parser) value(n *lex.Node) (*Value, error) {
	v := &Value{Start: n.Start, End: n.End}
	switch n.Kind {
	case lex.String:
		s, err := p.str(n)
		v.Kind, v.Text = String, s
		return v, err
	case lex.Word:
		v.Text = n.Of(p.src)
		switch {
		case v.Text == "true" || v.Text == "false":
			v.Kind = Bool
		case v.Text == "null":
			v.Kind = Null
		case json.Valid([]byte(v.Text)):
			v.Kind = Number
		default:
			return nil, p.fail(n.Start, "%q is not a JSON value", v.Text)
		}
		return v, nil
	case lex.Group:
		if n.Bracket(p.src) == '[' {
			return v, p.array(v, n)
		}
		return v, p.object(v, n)
	}
	return nil, p.fail(n.Start, "%q stands where a value is expected", n.Of(p.src))
}

func (p *parser) str(n *lex.Node) (string, error) {
	var s string
	if err := json.Unmarshal(p.src[n.Start:n.End], &s); err != nil {
		return "", p.fail(n.Start, "string: %v", err)
	}
	return s, nil
}

func (p *parser) array(v *Value, n *lex.Node) error {
	v.Kind = Array
	return p.list(n, func(item []*lex.Node) error {
		if len(item) != 1 {
			return p.fail(item[1].Start, "a comma is missing")
		}
		x, err := p.value(item[0])
		v.Items = append(v.Items, x)
		return err
	})
}

func (p *parser) object(v *Value, n *lex.Node) error {
	v.Kind = Object
	seen := map[string]bool{}
	return p.list(n, func(item []*lex.Node) error {
		if item[0].Kind != lex.String {
			return p.fail(item[0].Start, "a name in quotes is expected")
		}
		if len(item) < 3 || !item[1].Is(p.src, lex.Punct, ":") {
			return p.fail(item[0].Start, "a colon and a value are expected after the name")
		}
		if len(item) > 3 {
			return p.fail(item[3].Start, "a comma is missing")
		}
		name, err := p.str(item[0])
		if err != nil {
			return err
		}
		if seen[name] {
			p.note(item[0].Start, fmt.Sprintf("name %q stands twice in one object", name))
		}
		seen[name] = true
		x, err := p.value(item[2])
		v.Members = append(v.Members, Member{Name: name, Start: item[0].Start, Value: x})
		return err
	})
}

// list splits the inside of a group at its commas.
func (p *parser) list(n *lex.Node, each func([]*lex.Node) error) error {
	var item []*lex.Node
	inner := lex.Solid(n.Inner())
	for i, k := range inner {
		if !k.Is(p.src, lex.Punct, ",") {
			item = append(item, k)
			continue
		}
		if len(item) == 0 {
			return p.fail(k.Start, "a value is expected before the comma")
		}
		if err := each(item); err != nil {
			return err
		}
		if item = nil; i == len(inner)-1 {
			p.note(k.Start, "a comma after the last value: strict readers refuse it")
		}
	}
	if len(item) > 0 {
		return each(item)
	}
	return nil
}

// Get gives a member of an object (the last of that name, as most readers do), or nil.
func (v *Value) Get(name string) *Value {
	var got *Value
	if v != nil {
		for _, m := range v.Members {
			if m.Name == name {
				got = m.Value
			}
		}
	}
	return got
}

// At gives every value a pointer leads to; * stands for every member or element (our addition to RFC 6901).
func (f *File) At(pointer string) []*Value {
	here := []*Value{f.Root}
	if pointer == "" {
		return here
	}
	for _, step := range strings.Split(strings.TrimPrefix(pointer, "/"), "/") {
		step = strings.ReplaceAll(strings.ReplaceAll(step, "~1", "/"), "~0", "~")
		var next []*Value
		for _, v := range here {
			if step == "*" {
				next = append(next, v.Items...)
				for _, m := range v.Members {
					next = append(next, m.Value)
				}
			} else if m := v.Get(step); m != nil {
				next = append(next, m)
			} else if i, err := strconv.Atoi(step); err == nil && i >= 0 && i < len(v.Items) {
				next = append(next, v.Items[i])
			}
		}
		here = next
	}
	return here
}

// Position gives a value's line and column.
func (f *File) Position(v *Value) (line, column int) { return f.lines.Position(f.Tree.Src, v.Start) }

// Set replaces a value by another, given as JSON.
func (f *File) Set(v *Value, raw string) lex.Change {
	return lex.Change{Start: v.Start, End: v.End, New: raw}
}
