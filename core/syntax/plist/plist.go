// Package plist reads property lists in all forms: XML (Apple's PropertyList-1.0 DTD) in UTF-8 and UTF-16, binary, and
// old-style text. XML ones are edited in place, on the XML layer.
package plist

import (
	"bytes"
	"fmt"
	"strconv"
	"strings"

	"ligare/core/syntax/lex"
	"ligare/core/syntax/xml"
)

// Kind is a property list type.
type Kind string

// The types a property list knows.
const (
	Dict    Kind = "dict"
	Array   Kind = "array"
	String  Kind = "string"
	Integer Kind = "integer"
	Real    Kind = "real"
	True    Kind = "true"
	False   Kind = "false"
	Date    Kind = "date"
	Data    Kind = "data"
)

// Value is one value with its place.
type Value struct {
	Kind    Kind
	Text    string // of a scalar
	Entries []Entry
	Items   []*Value
	Element *xml.Element // in the XML form
	at      int          // offset in the old-style form
}

// Entry is one key of a dictionary with its value.
type Entry struct {
	Key   string
	At    *xml.Element // the key element
	Value *Value
}

// File is a property list read. Notes are things Xcode and the system pass over in silence, and that cost people hours.
type File struct {
	Form     Form
	Encoding string   // UTF-8, UTF-16LE or UTF-16BE; of the text forms
	Doc      *xml.Doc // of the XML form; offsets are those of the text in UTF-8
	Root     *Value
	Notes    []lex.Problem
	text     []byte // of the old-style form
	lines    lex.Lines
}

// Parse reads a property list in any form. Errors carry line and column where the form has them.
func Parse(src []byte) (*File, error) {
	if bytes.HasPrefix(src, []byte("bplist")) {
		root, err := readBinary(src)
		if err != nil {
			return nil, err
		}
		return &File{Form: Binary, Root: root}, nil
	}
	text, encoding, err := decode(src)
	if err != nil {
		return nil, err
	}
	if first := bytes.TrimLeft(bytes.TrimPrefix(text, []byte("\xEF\xBB\xBF")), " \t\r\n"); len(first) > 0 && first[0] != '<' {
		f := &File{Form: OldStyle, Encoding: encoding}
		return f, oldStyle(f, text)
	}
	d := xml.Parse(text)
	d.Step = "\t" // as the IDE writes
	if err := d.Err(); err != nil {
		return nil, err
	}
	f := &File{Form: XML, Encoding: encoding, Doc: d}
	if d.Top.Name != "plist" {
		return nil, f.at(d.Top, "the document element is <%s>, not <plist>", d.Top.Name)
	}
	if len(d.Top.Children) == 0 {
		return nil, f.at(d.Top, "<plist> holds no value")
	}
	root, err := f.value(d.Top.Children[0])
	if err != nil {
		return nil, err
	}
	f.Root = root
	for _, extra := range d.Top.Children[1:] {
		f.Notes = append(f.Notes, lex.Problem{Offset: extra.Node.Start,
			Message: fmt.Sprintf("<%s> stands after the root value and is lost when the file is read", extra.Name)})
	}
	return f, nil
}

func (f *File) at(e *xml.Element, format string, args ...any) error {
	l, c := f.Doc.At(e.Node.Start)
	return &xml.Error{Line: l, Column: c, Message: fmt.Sprintf(format, args...)}
}

func (f *File) value(e *xml.Element) (*Value, error) {
	v := &Value{Kind: Kind(e.Name), Element: e}
	switch v.Kind {
	case Dict:
		for i := 0; i < len(e.Children); i += 2 {
			k := e.Children[i]
			if k.Name != "key" {
				return nil, f.at(k, "<%s> stands where a <key> is expected", k.Name)
			}
			if i+1 >= len(e.Children) || e.Children[i+1].Name == "key" {
				return nil, f.at(k, "key %q has no value", f.Doc.Text(k))
			}
			val, err := f.value(e.Children[i+1])
			if err != nil {
				return nil, err
			}
			name := f.Doc.Text(k)
			if v.Get(name) != nil {
				f.Notes = append(f.Notes, lex.Problem{Offset: k.Node.Start, Message: fmt.Sprintf("key %q stands twice in one dictionary; readers keep only one of them", name)})
			}
			v.Entries = append(v.Entries, Entry{Key: name, At: k, Value: val})
		}
	case Array:
		for _, c := range e.Children {
			val, err := f.value(c)
			if err != nil {
				return nil, err
			}
			v.Items = append(v.Items, val)
		}
	case String, Integer, Real, Date, Data:
		v.Text = f.Doc.Text(e)
	case True, False:
		v.Text = e.Name
	default:
		return nil, f.at(e, "<%s> is not a property list type", e.Name)
	}
	return v, nil
}

// Get gives a dictionary's value by key (the first, if it stands twice), or nil.
func (v *Value) Get(key string) *Value {
	if v == nil {
		return nil
	}
	for _, e := range v.Entries {
		if e.Key == key {
			return e.Value
		}
	}
	return nil
}

// Path follows keys from the root.
func (f *File) Path(keys ...string) *Value {
	v := f.Root
	for _, k := range keys {
		v = v.Get(k)
	}
	return v
}

// Add inserts a key with a value into a dictionary, as its last entry. The value is given as elements, already encoded.
func (f *File) Add(dict *Value, key, value string) (lex.Insertion, error) {
	if f.Form != XML {
		return lex.Insertion{}, errNotText
	}
	if dict.Kind != Dict {
		return lex.Insertion{}, f.at(dict.Element, "<%s> is not a dictionary", dict.Kind)
	}
	return f.Doc.Into(dict.Element, "<key>"+xml.Encode(key)+"</key>\n"+value)
}

// StringElement writes a string value.
func StringElement(s string) string { return "<string>" + xml.Encode(s) + "</string>" }

// SetText replaces the text of a scalar that has some or is written with both tags.
func (f *File) SetText(v *Value, text string) (lex.Change, error) {
	if f.Form != XML {
		return lex.Change{}, errNotText
	}
	e := v.Element
	if e.Empty || v.Kind == Dict || v.Kind == Array || v.Kind == True || v.Kind == False {
		return lex.Change{}, f.at(e, "<%s> has no text to replace", e.Name)
	}
	return lex.Change{Start: e.OpenEnd, End: e.CloseAt, New: xml.Encode(text)}, nil
}

// At gives the value at an address, or nil.
func (f *File) At(address string) *Value {
	v := f.Root
	if address == "" || address == "/" {
		return v
	}
	for _, step := range strings.Split(strings.TrimPrefix(address, "/"), "/") {
		if v = v.step(strings.ReplaceAll(strings.ReplaceAll(step, "~1", "/"), "~0", "~")); v == nil {
			return nil
		}
	}
	return v
}

// step follows one step of an address: a key, an item by its number from 0, or by what it holds.
func (v *Value) step(step string) *Value {
	if x := v.Get(step); x != nil || v.Kind != Array {
		return x
	}
	if key, text, ok := strings.Cut(step, "="); ok && strings.HasPrefix(key, "[") {
		return v.Item(key[1:], strings.TrimSuffix(text, "]"))
	}
	if i, err := strconv.Atoi(step); err == nil && i >= 0 && i < len(v.Items) {
		return v.Items[i]
	}
	return nil
}

// Find resolves an address of keys (/CFBundleURLTypes/0/CFBundleURLSchemes, and ItemStep) to the bytes it spans: for a
// key, from the key's tag to the value's end. The address "" is the root.
func (f *File) Find(address string) (start, end int, ok bool) {
	if f.Form != XML {
		return 0, 0, false
	}
	v := f.Root
	start, end = v.Element.Node.Start, v.Element.Node.End
	if address == "" || address == "/" {
		return start, end, true
	}
	steps := strings.Split(strings.TrimPrefix(address, "/"), "/")
	for _, step := range steps {
		step = strings.ReplaceAll(strings.ReplaceAll(step, "~1", "/"), "~0", "~")
		next := v.step(step)
		if next == nil {
			return 0, 0, false
		}
		start, end = next.Element.Node.Start, next.Element.Node.End
		for _, e := range v.Entries {
			if e.Value == next {
				start = e.At.Node.Start
			}
		}
		v = next
	}
	return start, end, true
}
