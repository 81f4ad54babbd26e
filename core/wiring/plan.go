package wiring

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"path"
	"slices"
	"strings"

	"ligare/core/syntax/gradle"
	"ligare/core/syntax/json"
	"ligare/core/syntax/lex"
	"ligare/core/syntax/lines"
	"ligare/core/syntax/pbxproj"
	"ligare/core/syntax/plist"
	"ligare/core/syntax/podfile"
	"ligare/core/syntax/properties"
	"ligare/core/syntax/source"
	"ligare/core/syntax/toml"
	"ligare/core/syntax/xcconfig"
	"ligare/core/syntax/xml"
	"ligare/core/syntax/yaml"
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
	Least   string // of a version that was raised: what is needed
	From    string // what it was, "" when nothing said it
}

// Plan is edits folded over a tree: each is applied in memory to the current text, and the file is read again, before
// the next is worked out. Nothing is written here.
type Plan struct {
	Tree *tree.Tree
	Ops  []Op
	Kept []Answer // wants that were left alone although they are not right
	Next []string // what a person has to do afterwards

	shares []share
}

// share is something that one want needs and another's edit made: it stays until both have left.
type share struct {
	want          *Want
	file, address string
}

func (p *Plan) share(w *Want, file, address string) {
	p.shares = append(p.shares, share{w, file, address})
}

// Never leaves every value that conflicts.
func Never(Answer) bool { return false }

// Always exchanges every value that conflicts.
func Always(Answer) bool { return true }

// OldFiles exchanges config files that the service has issued anew, and nothing else.
func OldFiles(a Answer) bool { return a.Code == "file-outdated" }

// Select keeps the answers that a person asked for: by the placement's name in its sheet, or by the named placement.
// A name that fits nothing is an error that lists those there are.
func Select(answers []Answer, only, except []string) ([]Answer, error) {
	names := map[string]bool{}
	for _, a := range answers {
		names[a.Placement], names[a.Place] = true, true
	}
	for _, n := range slices.Concat(only, except) {
		if !names[n] {
			return nil, fmt.Errorf("there is no placement %q here; there are: %s", n, strings.Join(sorted(names), ", "))
		}
	}
	var out []Answer
	for _, a := range answers {
		is := func(list []string) bool { return contains(list, a.Placement) || contains(list, a.Place) }
		if (len(only) == 0 || is(only)) && !is(except) {
			out = append(out, a)
		}
	}
	return out, nil
}

// Source says where what a want asks for comes from.
func (w *Want) Source() string {
	out := w.Service
	if w.Environment != "" {
		out += ", " + w.Environment
	}
	if w.revision > 0 {
		out += fmt.Sprintf(", revision %d", w.revision)
	}
	return out
}

// Make plans what brings every answer that is not right to right; replace says which conflicting values may be exchanged.
func Make(in Input, answers []Answer, replace func(Answer) bool) (*Plan, error) {
	in = in.remember()
	p := &Plan{Tree: in.Tree}
	for _, a := range answers {
		if a.Good() {
			continue
		}
		now := in.look(a.Want) // an edit made for another answer may have settled this one
		if now.Good() {
			continue
		}
		if now.State == Unknown && !now.Fixable || now.State == Twice || now.State == Conflicting && !replace(now) {
			p.Kept = append(p.Kept, now)
			continue
		}
		ops, next, shares, restore := len(p.Ops), len(p.Next), len(p.shares), in.Tree.Keep()
		err := ensures[a.ensure].make(in, a.Want, now, p)
		after := in.look(a.Want)
		switch {
		case err != nil || len(p.Ops) == ops || after.Good():
		case after.State == Unknown: // what could be done is done, and the rest is said
			p.Kept = append(p.Kept, after)
		default:
			err = fmt.Errorf("after the edit it is still %s: %s", after.State, after.Detail)
		}
		if err != nil { // a placement is made whole or not at all, and does not keep others from being made
			restore()
			p.Ops, p.Next, p.shares = p.Ops[:ops], p.Next[:next], p.shares[:shares]
			now.Detail += "; placing it here is left to a person: " + err.Error()
			now.Fixable = false
		}
		if len(p.Ops) == ops {
			p.Kept = append(p.Kept, now)
		}
	}
	return p, nil
}

// raised notes that the last edit raised a version, so that it can be lowered to what others need.
func (p *Plan) raised(from, least string) {
	p.Ops[len(p.Ops)-1].From, p.Ops[len(p.Ops)-1].Least = from, least
}

// text reads a file as the text that is edited, and gives the way back. A file with a merge that is not resolved is
// refused: what stands there twice is not for a program to choose from.
func (p *Plan) text(file string) (text []byte, back func([]byte) ([]byte, error), err error) {
	src, err := p.Tree.Read(file)
	if err != nil {
		return nil, nil, err
	}
	if line := merging(src); line > 0 {
		return nil, nil, fmt.Errorf("%s:%d: a merge is not resolved here; resolve it first", file, line)
	}
	if text, back, err = view(file, src); err != nil {
		return nil, nil, fmt.Errorf("%s: %w", file, err)
	}
	return text, back, nil
}

// merging gives the line of the first mark that version control leaves where a merge is not resolved, 0 for none.
func merging(src []byte) int {
	if !bytes.Contains(src, []byte("<<<<<<< ")) {
		return 0
	}
	first := 0
	for i, l := range bytes.Split(src, []byte("\n")) {
		switch {
		case bytes.HasPrefix(l, []byte("<<<<<<< ")) && first == 0:
			first = i + 1
		case bytes.HasPrefix(l, []byte(">>>>>>> ")) && first > 0:
			return first
		}
	}
	return 0
}

// insert applies an insertion and checks that the address finds exactly what was inserted.
func (p *Plan) insert(w *Want, file, address string, in lex.Insertion) error {
	src, back, err := p.text(file)
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
	if out, err = back(out); err != nil {
		return fmt.Errorf("%s: %w", file, err)
	}
	p.Tree.Put(file, out)
	p.Ops = append(p.Ops, Op{Do: "insert", Want: w, File: file, Address: address, Before: in.Before, Text: in.Text, After: in.After})
	return nil
}

// replace exchanges the span an address finds.
func (p *Plan) replace(w *Want, file, address, text string) error {
	src, back, err := p.text(file)
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
	if out, err = back(out); err != nil {
		return fmt.Errorf("%s: %w", file, err)
	}
	p.Tree.Put(file, out)
	p.Ops = append(p.Ops, Op{Do: "replace", Want: w, File: file, Address: address, Text: text, Old: string(src[start:end])})
	return nil
}

// exchange puts a text in the place of a span, and checks that the address finds it there.
func (p *Plan) exchange(w *Want, file, address string, from, to int, text string) error {
	src, back, err := p.text(file)
	if err != nil {
		return err
	}
	out, err := lex.Apply(src, lex.Change{Start: from, End: to, New: text})
	if err != nil {
		return err
	}
	if start, end, ok := Locate(file, out, address); !ok || start != from || end != from+len(text) {
		return fmt.Errorf("%s: %s was put at %d-%d and is read back at %d-%d", file, address, from, from+len(text), start, end)
	}
	if out, err = back(out); err != nil {
		return fmt.Errorf("%s: %w", file, err)
	}
	p.Tree.Put(file, out)
	p.Ops = append(p.Ops, Op{Do: "replace", Want: w, File: file, Address: address, Text: text, Old: string(src[from:to])})
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

// view gives a file as the text that edits are made on, and the way back to the file's own form and encoding.
func view(file string, src []byte) (text []byte, back func([]byte) ([]byte, error), err error) {
	if !propertyList(file) {
		return src, func(t []byte) ([]byte, error) { return t, nil }, nil
	}
	return plist.Text(src)
}

func propertyList(file string) bool {
	switch path.Ext(file) {
	case ".plist", ".entitlements", ".xcprivacy":
		return true
	}
	return false
}

// Finder resolves addresses in one file, which is read once.
type Finder func(address string) (start, end int, ok bool)

// Locate resolves an address in a file of any language that edits are made in. An empty address is the whole file.
func Locate(file string, src []byte, address string) (start, end int, ok bool) {
	return Locator(file, src)(address)
}

// Locator gives the finder for a file; one that cannot be read finds nothing but itself as a whole.
func Locator(file string, src []byte) Finder {
	var inner Finder
	return func(address string) (start, end int, ok bool) {
		if address == "" {
			return 0, len(src), true
		}
		if text, found := strings.CutPrefix(address, "line("); found {
			return lines.Find(src, strings.TrimSuffix(text, ")"))
		}
		if inner == nil {
			inner = language(file, src)
		}
		return inner(address)
	}
}

// language gives the finder of a file's language.
func language(file string, src []byte) Finder {
	base := path.Base(file)
	in := func(find func(src []byte, address string) (int, int, bool)) Finder {
		return func(address string) (int, int, bool) { return find(src, address) }
	}
	switch {
	case base == "project.pbxproj":
		if p, err := pbxproj.Parse(src); err == nil {
			return p.Find
		}
	case base == "Podfile":
		if f, err := podfile.Parse(src); err == nil {
			return f.Find
		}
	case strings.HasSuffix(base, ".gradle") || strings.HasSuffix(base, ".gradle.kts"):
		return gradle.Parse(file, src).Find
	case propertyList(base):
		if f, err := plist.Parse(src); err == nil {
			return f.Find
		}
	case path.Ext(base) == ".xcconfig":
		return in(xcconfig.Find)
	case path.Ext(base) == ".toml":
		return in(toml.Find)
	case path.Ext(base) == ".properties":
		return func(address string) (int, int, bool) {
			return properties.Find(src, strings.TrimSuffix(strings.TrimPrefix(address, "key("), ")"))
		}
	case path.Ext(base) == ".json":
		if f, err := json.Parse(src); err == nil {
			return f.Find
		}
	case path.Ext(base) == ".yaml" || path.Ext(base) == ".yml" || path.Ext(base) == ".asset":
		return in(yaml.Find)
	case path.Ext(base) == ".xml" || path.Ext(base) == ".csproj" || path.Ext(base) == ".props":
		return xml.Parse(src).Span
	default:
		if f, known := source.Parse(file, src); known {
			return f.Find
		}
	}
	return func(string) (int, int, bool) { return 0, 0, false }
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
