package wiring

import (
	"bytes"
	"fmt"
	"path"
	"sort"
	"strings"

	"go.yaml.in/yaml/v3"

	"ligare/core/syntax/lex"
	"ligare/core/syntax/pbxproj"
	"ligare/core/tree"
)

// Folder holds one record for each registration, committed with the tree.
const Folder = ".ligare/placed"

// Record is what was placed for one registration: enough to take it out again in any clone, and to check the tree
// without a server. It holds digests of values, never values.
type Record struct {
	Format       int               `yaml:"placed"`
	Registration string            `yaml:"registration"`
	Service      string            `yaml:"service"`
	Environment  string            `yaml:"environment,omitempty"`
	Sheet        string            `yaml:"sheet"`
	Revision     int               `yaml:"revision"`
	Values       map[string]string `yaml:"values,omitempty"` // identity/value -> digest
	Entries      []Entry           `yaml:"entries"`
}

// Entry is one edit, with what is needed to undo it.
type Entry struct {
	Placement string `yaml:"placement"`
	Subject   string `yaml:"subject"`
	Do        string `yaml:"do"` // insert, replace, create
	File      string `yaml:"file"`
	At        string `yaml:"at,omitempty"`
	Before    quoted `yaml:"before,omitempty"`
	After     quoted `yaml:"after,omitempty"`
	Old       quoted `yaml:"old,omitempty"`
	Folder    string `yaml:"folder,omitempty"`
	SHA256    string `yaml:"sha256"`
}

// quoted is a text written in double quotes on one line, so that blanks and line ends in it can be seen and survive merges.
type quoted string

// MarshalYAML writes the text.
func (q quoted) MarshalYAML() (any, error) {
	return &yaml.Node{Kind: yaml.ScalarNode, Tag: "!!str", Style: yaml.DoubleQuotedStyle, Value: string(q)}, nil
}

// RecordPath gives where a registration's record stands.
func RecordPath(registration string) string { return path.Join(Folder, registration+".yaml") }

// Records reads all records of a tree, sorted by registration.
func Records(t *tree.Tree) ([]*Record, error) {
	var out []*Record
	for _, n := range t.Dir(Folder) {
		if path.Ext(n) != ".yaml" {
			continue
		}
		name := path.Join(Folder, n)
		src, err := t.Read(name)
		if err != nil {
			return nil, err
		}
		r := &Record{}
		d := yaml.NewDecoder(bytes.NewReader(src))
		d.KnownFields(true)
		if err := d.Decode(r); err != nil {
			return nil, fmt.Errorf("%s: %s; restore it from version control", name, strings.TrimPrefix(err.Error(), "yaml: "))
		}
		if r.Format != 1 {
			return nil, fmt.Errorf("%s: format %d is not read by this version; it reads 1", name, r.Format)
		}
		out = append(out, r)
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Registration < out[j].Registration })
	return out, nil
}

// Write gives the record's text.
func (r *Record) Write() ([]byte, error) {
	var out bytes.Buffer
	out.WriteString("# What Ligare placed for this registration. Commit it: `ligare unplace` and `ligare check --offline` need it.\n")
	e := yaml.NewEncoder(&out)
	e.SetIndent(2)
	if err := e.Encode(r); err != nil {
		return nil, err
	}
	return out.Bytes(), e.Close()
}

// Commit puts the plan's records into its tree: each registration's edits into its own file, and for placements that
// another registration had already seen to, a copy of that entry, so that the last owner to leave takes it out.
func (p *Plan) Commit(in Input, answers []Answer) error {
	records, err := Records(in.Tree)
	if err != nil {
		return err
	}
	by := map[string]*Record{}
	for _, r := range records {
		by[r.Registration] = r
	}
	var touched []string
	for _, reg := range in.Registrations {
		r := by[reg.Key()]
		if r == nil {
			r = &Record{Format: 1, Registration: reg.Key(), Service: reg.Service, Environment: reg.Environment}
			by[reg.Key()] = r
		}
		r.Sheet, r.Revision, r.Values = reg.Sheet.Digest, reg.Revision, digests(reg)
		touched = append(touched, reg.Key())
	}
	for _, op := range p.Ops {
		by[op.Want.Registration].add(op)
	}
	for _, a := range answers {
		r := by[a.Registration]
		if r.has(a.Subject()) {
			continue
		}
		for _, key := range sorted(by) {
			if other := by[key]; other != r && other.has(a.Subject()) {
				for _, e := range other.Entries {
					if e.Subject == a.Subject() {
						r.Entries = append(r.Entries, e)
					}
				}
				break
			}
		}
	}
	for _, key := range touched {
		if len(by[key].Entries) == 0 {
			continue
		}
		text, err := by[key].Write()
		if err != nil {
			return err
		}
		in.Tree.Put(RecordPath(key), text)
	}
	return nil
}

func digests(reg *Registration) map[string]string {
	out := map[string]string{}
	for k, v := range reg.Values {
		out[k] = "sha256:" + Digest(v)
	}
	for _, id := range reg.Identities {
		for k, v := range id.Values {
			out[string(id.Platform)+" "+id.ID+" "+k] = "sha256:" + Digest(v)
		}
		for file, content := range id.Files {
			out[string(id.Platform)+" "+id.ID+" file "+file] = "sha256:" + Digest(string(content))
		}
	}
	return out
}

func (r *Record) has(subject string) bool {
	for _, e := range r.Entries {
		if e.Subject == subject {
			return true
		}
	}
	return false
}

// add records an edit. One that replaces what this record placed itself keeps the way back to before.
func (r *Record) add(op Op) {
	e := Entry{Placement: op.Want.Placement, Subject: op.Want.Subject(), Do: op.Do, File: op.File, At: op.Address,
		Before: quoted(op.Before), After: quoted(op.After), Old: quoted(op.Old), Folder: op.Folder, SHA256: Digest(op.Text)}
	if op.Do == "replace" {
		for i := range r.Entries {
			had := &r.Entries[i]
			if had.File == e.File && had.Subject == e.Subject && (had.At == e.At || had.SHA256 == Digest(op.Old)) {
				had.At, had.SHA256 = e.At, e.SHA256
				return
			}
		}
	}
	r.Entries = append(r.Entries, e)
}

// Left is something unplace did not take out, and why.
type Left struct {
	Place  Place  `json:"place"`
	What   string `json:"what"`
	Reason string `json:"reason"`
}

// Unplace takes out what a registration's record lists, last edit first, in the plan's tree. What another record still
// owns stays. What was changed since it was placed stays too and is reported, unless force is set. Bytes that are as
// they were placed come out together with their glue, so that the file is what it was before.
func Unplace(t *tree.Tree, registration string, force bool) (left []Left, err error) {
	records, err := Records(t)
	if err != nil {
		return nil, err
	}
	var mine *Record
	var others []*Record
	for _, r := range records {
		if r.Registration == registration {
			mine = r
		} else {
			others = append(others, r)
		}
	}
	if mine == nil {
		var have []string
		for _, r := range records {
			have = append(have, r.Registration)
		}
		return nil, fmt.Errorf("nothing is recorded as placed for %s (placed here: %s)", registration, strings.Join(have, ", "))
	}
	var kept []Entry
	for i := len(mine.Entries) - 1; i >= 0; i-- {
		e := mine.Entries[i]
		owned := false
		for _, o := range others {
			for _, x := range o.Entries {
				owned = owned || x.File == e.File && x.At == e.At && x.Do == e.Do
			}
		}
		if owned {
			continue
		}
		if l := takeOut(t, e, others, force); l != nil {
			left = append(left, *l)
			kept = append([]Entry{e}, kept...)
		}
	}
	if mine.Entries = kept; len(kept) > 0 {
		text, err := mine.Write()
		if err != nil {
			return nil, err
		}
		t.Put(RecordPath(registration), text)
		return left, nil
	}
	t.Remove(RecordPath(registration))
	return left, nil
}

// takeOut undoes one entry, or says why not.
func takeOut(t *tree.Tree, e Entry, others []*Record, force bool) *Left {
	src, err := t.Read(e.File)
	if err != nil {
		return nil // the file is gone: nothing is left to take out
	}
	start, end, ok := Locate(e.File, src, e.At)
	if !ok {
		if err := readable(e.File, src); err != nil {
			return &Left{Place{File: e.File}, e.Placement, "the file cannot be read: " + err.Error()}
		}
		return nil // taken out by hand already
	}
	same := Digest(string(src[start:end])) == e.SHA256
	if !same && !force {
		// A container that others have filled since (a list, a block, a file) stays for them and is theirs from now on.
		for _, o := range others {
			for _, x := range o.Entries {
				if x.File == e.File && strings.HasPrefix(x.At, e.At) {
					o.Entries = append([]Entry{e}, o.Entries...)
					text, err := o.Write()
					if err != nil {
						return &Left{Place{File: RecordPath(o.Registration)}, e.Placement, "its new owner's record cannot be written: " + err.Error()}
					}
					t.Put(RecordPath(o.Registration), text)
					return nil
				}
			}
		}
		return &Left{place(e.File, src, start), e.Placement, "it was changed since it was placed"}
	}
	switch e.Do {
	case "create":
		t.Remove(e.File)
		return nil
	case "replace":
		t.Put(e.File, splice(src, start, end, string(e.Old)))
		return nil
	}
	before, after := len(e.Before), len(e.After)
	if start >= before && end+after <= len(src) && string(src[start-before:start]) == string(e.Before) && string(src[end:end+after]) == string(e.After) {
		start, end = start-before, end+after
	} else if lex.AloneOnLine(src, start, end) { // its surroundings changed: take out its lines
		start, end = lex.LineStart(src, start), lex.NextLine(src, end)
	}
	t.Put(e.File, splice(src, start, end, ""))
	return nil
}

func splice(src []byte, start, end int, text string) []byte {
	out := append([]byte{}, src[:start]...)
	out = append(out, text...)
	return append(out, src[end:]...)
}

// readable says why a file's language cannot be read, if so.
func readable(file string, src []byte) error {
	if path.Base(file) == "project.pbxproj" {
		_, err := pbxproj.Parse(src)
		return err
	}
	return nil
}
