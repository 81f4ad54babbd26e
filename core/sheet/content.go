package sheet

import (
	"bytes"
	"encoding/base64"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"unicode/utf8"

	"ligare/core/syntax/json"
	"ligare/core/syntax/plist"
	"ligare/core/syntax/properties"
	"ligare/core/syntax/toml"
	"ligare/core/syntax/xml"
	"ligare/core/syntax/yaml"
)

// MaxFile is how large a config or licence file may be that is read, in bytes.
const MaxFile = 4 << 20

// Reading is one fact read out of a config file, with its place; line and column are 0 where a format has none.
type Reading struct {
	Value        string
	Line, Column int
}

// Contents reads a config file by the sheet's pointers: name of the fact to what stands there (none, one or several).
// A file that is not what it should be gives an error that says what it is instead.
func (f *File) Contents(src []byte) (map[string][]Reading, error) {
	if err := plausible(f, src); err != nil {
		return nil, err
	}
	doc, err := Open(f.Format, src)
	if err != nil {
		return nil, err
	}
	out := map[string][]Reading{}
	for name, pointer := range f.Read {
		if got := doc.At(pointer); len(got) > 0 {
			out[name] = got
		}
	}
	return out, nil
}

// One gives the single reading of a fact; ok is false when there is none.
func One(contents map[string][]Reading, name string) (Reading, bool) {
	if r := contents[name]; len(r) > 0 {
		return r[0], true
	}
	return Reading{}, false
}

// plausible recognises what people save under a config file's name by accident.
func plausible(f *File, src []byte) error {
	if len(src) > MaxFile {
		return fmt.Errorf("the file has %d bytes; %s has at most %d: is it another file?", len(src), f.Name, MaxFile)
	}
	text := bytes.TrimSpace(bytes.TrimPrefix(src, []byte("\xEF\xBB\xBF")))
	head := strings.ToLower(string(text[:min(len(text), 256)]))
	switch {
	case len(text) == 0:
		return errors.New("the file is empty")
	case strings.HasPrefix(head, "<!doctype html") || strings.HasPrefix(head, "<html"):
		return fmt.Errorf("this is a web page saved as %s (an error or sign-in page, most likely), not the config file", f.Name)
	case f.Format == "zip" && !strings.HasPrefix(head, "pk"):
		return errors.New("this is not an archive")
	case f.Format == "json" && strings.HasPrefix(head, "<"), f.Format == "xml" && strings.HasPrefix(head, "{"):
		return fmt.Errorf("this is not %s; is it the file of the other platform?", strings.ToUpper(f.Format))
	case f.Format != "zip" && f.Format != "plist" && !utf8.Valid(src):
		return errors.New("this is not text in UTF-8; is it another file, or a compressed one?")
	}
	return nil
}

// Document is a config file of any format, with its values reached by pointers.
type Document interface {
	// At gives what a pointer leads to, in the order of the file.
	At(pointer string) []Reading
	// Leaves gives every value with its pointer, in the order of the file.
	Leaves() []Leaf
}

// Leaf is one value of a document.
type Leaf struct {
	Pointer string
	Reading
}

// Open reads a document of one of the formats of the language.
func Open(format string, src []byte) (Document, error) {
	switch format {
	case "json":
		d, err := json.Parse(src)
		if err != nil {
			return nil, fmt.Errorf("not readable as JSON: %w", err)
		}
		return tree{fromJSON(d, d.Root)}, nil
	case "xml":
		d := xml.Parse(src)
		if err := d.Err(); err != nil {
			return nil, fmt.Errorf("not readable as XML: %w", err)
		}
		if d.Top == nil || len(d.Top.Children) == 0 {
			return nil, errors.New("not readable as XML: there is no element in it")
		}
		return elements{d}, nil
	case "plist":
		d, err := plist.Parse(src)
		if err != nil {
			return nil, fmt.Errorf("not readable as a property list: %w", err)
		}
		return tree{fromPlist(d, d.Root)}, nil
	case "yaml":
		docs, err := yaml.Parse(src)
		if err != nil {
			return nil, fmt.Errorf("not readable as YAML: %w", err)
		}
		if len(docs) != 1 {
			return nil, fmt.Errorf("not readable as YAML: it holds %d documents; one was expected", len(docs))
		}
		return tree{fromYAML(docs[0])}, nil
	case "toml":
		d, err := toml.Parse(src)
		if err != nil {
			return nil, fmt.Errorf("not readable as TOML: %w", err)
		}
		var out flat
		for _, e := range d.Entries {
			out = append(out, Leaf{"/" + strings.ReplaceAll(e.Path, ".", "/"), Reading{e.Value, e.Line, e.Column}})
		}
		return out, nil
	case "properties":
		var out flat
		for _, e := range properties.Parse(src) {
			out = append(out, Leaf{e.Key, Reading{e.Value, e.Line, e.Column}})
		}
		return out, nil
	case "jws":
		return token(src)
	case "text", "zip":
		return flat(nil), nil
	}
	return nil, fmt.Errorf("format %q cannot be read", format)
}

// token takes a signed token apart (RFC 7515, compact serialisation). The signature is not verified: only the service's
// library holds the key for it.
func token(src []byte) (Document, error) {
	parts := strings.Split(string(bytes.TrimSpace(src)), ".")
	if len(parts) != 3 {
		return nil, fmt.Errorf("not a signed token: it has %d parts instead of 3; was it cut off?", len(parts))
	}
	top := &value{}
	for i, name := range []string{"header", "payload"} {
		b, err := base64.RawURLEncoding.DecodeString(parts[i])
		if err != nil {
			return nil, fmt.Errorf("not a signed token: its %s is not Base64url: %w", name, err)
		}
		d, err := json.Parse(b)
		if err != nil {
			return nil, fmt.Errorf("not a signed token: its %s is not JSON: %w", name, err)
		}
		v := fromJSON(nil, d.Root)
		top.keys, top.items = append(top.keys, name), append(top.items, v)
	}
	return tree{top}, nil
}

// value is one node of a document of keys, lists and scalars.
type value struct {
	scalar bool
	Reading
	keys  []string // of a mapping; none for a list
	items []*value
}

type tree struct{ root *value }

func fromJSON(d *json.File, v *json.Value) *value {
	out := &value{}
	if d != nil {
		out.Line, out.Column = d.Position(v)
	}
	switch v.Kind {
	case json.Object:
		for _, m := range v.Members {
			out.keys, out.items = append(out.keys, m.Name), append(out.items, fromJSON(d, m.Value))
		}
	case json.Array:
		for _, i := range v.Items {
			out.items = append(out.items, fromJSON(d, i))
		}
	default:
		out.scalar, out.Value = v.Kind != json.Null, v.Text
	}
	return out
}

func fromPlist(d *plist.File, v *plist.Value) *value {
	out := &value{}
	out.Line, out.Column = d.Position(v)
	switch v.Kind {
	case plist.Dict:
		for _, e := range v.Entries {
			out.keys, out.items = append(out.keys, e.Key), append(out.items, fromPlist(d, e.Value))
		}
	case plist.Array:
		for _, i := range v.Items {
			out.items = append(out.items, fromPlist(d, i))
		}
	case plist.True, plist.False:
		out.scalar, out.Value = true, string(v.Kind)
	default:
		out.scalar, out.Value = true, v.Text
	}
	return out
}

func fromYAML(v *yaml.Value) *value {
	out := &value{scalar: v.Scalar, Reading: Reading{v.Text, v.Line, v.Column}, keys: v.Keys}
	for _, i := range v.Items {
		out.items = append(out.items, fromYAML(i))
	}
	return out
}

var unescape = strings.NewReplacer("~1", "/", "~0", "~")
var escape = strings.NewReplacer("~", "~0", "/", "~1")

func (t tree) At(pointer string) []Reading {
	here := []*value{t.root}
	if pointer != "" {
		for _, step := range strings.Split(strings.TrimPrefix(pointer, "/"), "/") {
			var next []*value
			for _, v := range here {
				next = append(next, v.follow(step)...)
			}
			here = next
		}
	}
	var out []Reading
	for _, v := range here {
		if v.scalar {
			out = append(out, v.Reading)
		}
	}
	return out
}

func (v *value) follow(step string) []*value {
	if step == "*" {
		return v.items
	}
	if v.keys == nil {
		if i, err := strconv.Atoi(step); err == nil && i >= 0 && i < len(v.items) && (step == "0" || step[0] != '0') {
			return v.items[i : i+1]
		}
		return nil
	}
	name := unescape.Replace(step)
	for i := len(v.keys) - 1; i >= 0; i-- { // the last of a name counts, as most readers have it
		if v.keys[i] == name {
			return v.items[i : i+1]
		}
	}
	return nil
}

func (t tree) Leaves() []Leaf {
	var out []Leaf
	var walk func(v *value, at string)
	walk = func(v *value, at string) {
		if v.scalar {
			out = append(out, Leaf{at, v.Reading})
		}
		for i, c := range v.items {
			if v.keys != nil {
				walk(c, at+"/"+escape.Replace(v.keys[i]))
			} else {
				walk(c, at+"/*")
			}
		}
	}
	walk(t.root, "")
	return out
}

// flat is a document of keys without depth, or whose depth stands in the keys.
type flat []Leaf

func (f flat) Leaves() []Leaf { return f }

func (f flat) At(pointer string) []Reading {
	var out []Reading
	want := strings.Split(pointer, "/")
	for _, l := range f {
		have := strings.Split(l.Pointer, "/")
		same := len(have) == len(want)
		for i := range want {
			same = same && (want[i] == have[i] || want[i] == "*")
		}
		if same {
			out = append(out, l.Reading)
		}
	}
	return out
}

// elements is an XML document.
type elements struct{ *xml.Doc }

// At follows /a/b/@c or /a/b (text); * is every element; every match counts.
func (d elements) At(pointer string) []Reading {
	path, attr, _ := strings.Cut(pointer, "/@")
	here := []*xml.Element{d.Top}
	for i, step := range strings.Split(strings.TrimPrefix(path, "/"), "/") {
		var next []*xml.Element
		for _, e := range here {
			if i == 0 {
				if e.Name == step || step == "*" {
					next = append(next, e)
				}
				continue
			}
			for _, c := range e.Children {
				if c.Name == step || step == "*" {
					next = append(next, c)
				}
			}
		}
		here = next
	}
	var out []Reading
	for _, e := range here {
		if attr == "" {
			l, c := d.Doc.At(d.ValueStart(e))
			out = append(out, Reading{strings.TrimSpace(d.Text(e)), l, c})
		} else if a := e.Attr(attr); a != nil {
			l, c := d.Doc.At(a.ValueStart)
			out = append(out, Reading{a.Value, l, c})
		}
	}
	return out
}

func (d elements) Leaves() []Leaf {
	var out []Leaf
	var walk func(e *xml.Element, at string)
	walk = func(e *xml.Element, at string) {
		at += "/" + e.Name
		for _, a := range e.Attrs {
			l, c := d.Doc.At(a.ValueStart)
			out = append(out, Leaf{at + "/@" + a.Name, Reading{a.Value, l, c}})
		}
		if text := strings.TrimSpace(d.Text(e)); text != "" && len(e.Children) == 0 {
			l, c := d.Doc.At(d.ValueStart(e))
			out = append(out, Leaf{at, Reading{text, l, c}})
		}
		for _, c := range e.Children {
			walk(c, at)
		}
	}
	if d.Top != nil {
		walk(d.Top, "")
	}
	return out
}
