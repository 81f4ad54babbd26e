package wiring

import (
	"bytes"
	"cmp"
	"slices"
)

// Reason is why lines of a file change.
type Reason struct {
	Title string `json:"title"`
	Why   string `json:"why"`
	From  int    `json:"from,omitempty"` // first line of what was put there, counted from 1 in the new text; 0 when it is not a place of its own
	To    int    `json:"to,omitempty"`   // last line
}

// Reasons gives what the plan's edits put into a file and why, in the order of its lines. The lines are those of
// Readable: of the text behind a property list, whatever its form.
func (p *Plan) Reasons(file string) []Reason {
	var text []byte
	var find Finder
	if src, err := p.Tree.Read(file); err == nil {
		if text, _, err = view(file, src); err == nil {
			find = Locator(file, text)
		}
	}
	var out []Reason
	for _, op := range p.Ops {
		if op.File != file {
			continue
		}
		r := Reason{Title: op.Want.Title, Why: op.Want.Why}
		if find != nil && op.Address != "" {
			if start, end, ok := find(op.Address); ok {
				r.From = bytes.Count(text[:start], []byte{'\n'}) + 1
				r.To = r.From + bytes.Count(bytes.TrimRight(text[start:end], "\r\n"), []byte{'\n'})
			}
		}
		if !slices.Contains(out, r) {
			out = append(out, r)
		}
	}
	slices.SortStableFunc(out, func(a, b Reason) int { return cmp.Compare(a.From, b.From) })
	return out
}

// Readable gives a file as a person reads it: the XML text of a property list, the bytes themselves of anything else.
// ok is false for what is not text.
func Readable(file string, src []byte) (text []byte, ok bool) {
	text, _, err := view(file, src)
	if err != nil {
		text = src
	}
	return text, !bytes.ContainsRune(text, 0)
}
