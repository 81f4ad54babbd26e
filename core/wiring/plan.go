package wiring

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"path"
	"strings"

	"ligare/core/syntax/gradle"
	"ligare/core/syntax/lex"
	"ligare/core/syntax/lines"
	"ligare/core/syntax/pbxproj"
	"ligare/core/syntax/podfile"
	"ligare/core/syntax/source"
	"ligare/core/syntax/xml"
	"ligare/core/tree"
)

// Op is one edit of a plan: text inserted at an address, a value replaced, a file created.
type Op struct {
	Do      string // insert, replace, create
	Want    *Want
	File    string
	Address string // of what was inserted or replaced, in the file's own language
	Before  string // glue in front of the text
	After   string // glue behind it
	Text    string
	Old     string // what a replacement took away
	Folder  string // the topmost folder made for a created file
}

// Plan is edits folded over a tree: each is applied in memory to the current text, and the file is read again, before
// the next is worked out. Nothing is written here.
type Plan struct {
	Tree *tree.Tree
	Ops  []Op
	Kept []Answer // wants that were left alone although they are not right
	Next []string // what a person has to do afterwards
}

// Never leaves every value that conflicts.
func Never(Answer) bool { return false }

// Always exchanges every value that conflicts.
func Always(Answer) bool { return true }

// OldFiles exchanges config files that the service has issued anew, and nothing else.
func OldFiles(a Answer) bool { return a.Code == "file-outdated" }

// Make plans what brings every answer that is not right to right; replace says which conflicting values may be exchanged.
func Make(in Input, answers []Answer, replace func(Answer) bool) (*Plan, error) {
	p := &Plan{Tree: in.Tree}
	for _, a := range answers {
		if a.Good() {
			continue
		}
		now := in.look(a.Want) // an edit made for another answer may have settled this one
		if now.Good() {
			continue
		}
		if now.State == Unknown || now.State == Twice || now.State == Conflicting && !replace(now) {
			p.Kept = append(p.Kept, now)
			continue
		}
		before := len(p.Ops)
		if err := ensures[a.ensure].make(in, a.Want, now, p); err != nil {
			return nil, fmt.Errorf("%s (%s): %w", a.Placement, a.Site(), err)
		}
		if len(p.Ops) == before {
			p.Kept = append(p.Kept, now)
			continue
		}
		if after := in.look(a.Want); !after.Good() {
			return nil, fmt.Errorf("%s (%s): after the edit it is still %s: %s", a.Placement, a.Site(), after.State, after.Detail)
		}
	}
	return p, nil
}

// insert applies an insertion and checks that the address finds exactly what was inserted.
func (p *Plan) insert(w *Want, file, address string, in lex.Insertion) error {
	src, err := p.Tree.Read(file)
	if err != nil {
		return err
	}
	out, err := lex.Apply(src, in.Change())
	if err != nil {
		return err
	}
	start, end, ok := Locate(file, out, address)
	at := in.Offset + len(in.Before)
	if !ok || start != at || end != at+len(in.Text) {
		return fmt.Errorf("%s: %s was inserted at %d-%d and is read back at %d-%d", file, address, at, at+len(in.Text), start, end)
	}
	p.Tree.Put(file, out)
	p.Ops = append(p.Ops, Op{Do: "insert", Want: w, File: file, Address: address, Before: in.Before, Text: in.Text, After: in.After})
	return nil
}

// replace exchanges the span an address finds.
func (p *Plan) replace(w *Want, file, address, text string) error {
	src, err := p.Tree.Read(file)
	if err != nil {
		return err
	}
	start, end, ok := Locate(file, src, address)
	if !ok {
		return fmt.Errorf("%s: %s is not there", file, address)
	}
	out, err := lex.Apply(src, lex.Change{Start: start, End: end, New: text})
	if err != nil {
		return err
	}
	p.Tree.Put(file, out)
	p.Ops = append(p.Ops, Op{Do: "replace", Want: w, File: file, Address: address, Text: text, Old: string(src[start:end])})
	return nil
}

// create makes a new file, or exchanges a whole one.
func (p *Plan) create(w *Want, file string, content []byte) {
	op := Op{Do: "create", Want: w, File: file, Text: string(content)}
	if old, err := p.Tree.Read(file); err == nil {
		op.Do, op.Old = "replace", string(old)
	} else {
		for dir := path.Dir(file); dir != "." && len(p.Tree.Dir(dir)) == 0; dir = path.Dir(dir) {
			op.Folder = dir
		}
	}
	p.Tree.Put(file, content)
	p.Ops = append(p.Ops, op)
}

// Locate resolves an address in a file of any language that edits are made in. An empty address is the whole file.
func Locate(file string, src []byte, address string) (start, end int, ok bool) {
	if address == "" {
		return 0, len(src), true
	}
	if text, found := strings.CutPrefix(address, "line("); found {
		return lines.Find(src, strings.TrimSuffix(text, ")"))
	}
	base := path.Base(file)
	switch {
	case base == "project.pbxproj":
		if p, err := pbxproj.Parse(src); err == nil {
			return p.Find(address)
		}
	case base == "Podfile":
		if f, err := podfile.Parse(src); err == nil {
			return f.Find(address)
		}
	case strings.HasSuffix(base, ".gradle") || strings.HasSuffix(base, ".gradle.kts"):
		return gradle.Parse(file, src).Find(address)
	case path.Ext(base) == ".xml":
		d := xml.Parse(src)
		if e, found := d.Find(address); found {
			return e.Node.Start, e.Node.End, true
		}
	default:
		if f, known := source.Parse(file, src); known {
			return f.Find(address)
		}
	}
	return 0, 0, false
}

// Digest is the digest by which a record remembers what was placed.
func Digest(text string) string {
	sum := sha256.Sum256([]byte(text))
	return hex.EncodeToString(sum[:])
}

func place(file string, src []byte, offset int) Place {
	l, c := lex.Position(src, offset)
	return Place{File: file, Line: l, Column: c}
}
