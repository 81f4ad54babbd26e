package sheet

import (
	"bytes"
	"errors"
	"fmt"
	"strings"

	"ligare/core/syntax/json"
	"ligare/core/syntax/xml"
)

// Reading is one fact read out of a config file, with its place.
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
	out := map[string][]Reading{}
	switch f.Format {
	case "json":
		d, err := json.Parse(src)
		if err != nil {
			return nil, fmt.Errorf("not readable as JSON: %w", err)
		}
		for name, pointer := range f.Read {
			for _, v := range d.At(pointer) {
				l, c := d.Position(v)
				out[name] = append(out[name], Reading{v.Text, l, c})
			}
		}
	case "xml":
		d := xml.Parse(src)
		if err := d.Err(); err != nil {
			return nil, fmt.Errorf("not readable as XML: %w", err)
		}
		for name, pointer := range f.Read {
			out[name] = append(out[name], readXML(d, pointer)...)
		}
	default:
		return nil, fmt.Errorf("format %q cannot be read", f.Format)
	}
	return out, nil
}

// plausible recognises what people save under a config file's name by accident.
func plausible(f *File, src []byte) error {
	text := bytes.TrimSpace(bytes.TrimPrefix(src, []byte("\xEF\xBB\xBF")))
	head := strings.ToLower(string(text[:min(len(text), 256)]))
	switch {
	case len(text) == 0:
		return errors.New("the file is empty")
	case strings.HasPrefix(head, "<!doctype html") || strings.HasPrefix(head, "<html"):
		return fmt.Errorf("this is a web page saved as %s (an error or sign-in page, most likely), not the config file", f.Name)
	case f.Format == "json" && strings.HasPrefix(head, "<"), f.Format == "xml" && strings.HasPrefix(head, "{"):
		return fmt.Errorf("this is not %s; is it the file of the other platform?", strings.ToUpper(f.Format))
	}
	return nil
}

// readXML follows /a/b/@c or /a/b (text); every match counts.
func readXML(d *xml.Doc, pointer string) []Reading {
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
			l, c := d.At(d.ValueStart(e))
			out = append(out, Reading{strings.TrimSpace(d.Text(e)), l, c})
		} else if a := e.Attr(attr); a != nil {
			l, c := d.At(a.ValueStart)
			out = append(out, Reading{a.Value, l, c})
		}
	}
	return out
}

// One gives the single reading of a fact; ok is false when there is none.
func One(contents map[string][]Reading, name string) (Reading, bool) {
	if r := contents[name]; len(r) > 0 {
		return r[0], true
	}
	return Reading{}, false
}
