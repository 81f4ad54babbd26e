package wiring

import (
	"bytes"
	"fmt"
	"path"
	"slices"
	"sort"
	"strings"

	"go.yaml.in/yaml/v3"

	"ligare/core/syntax/json"
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
	Order     int    `yaml:"order,omitempty"` // in which edits were made, over all registrations: the last is taken out first
	Placement string `yaml:"placement"`
	Subject   string `yaml:"subject"`
	Do        string `yaml:"do"` // insert, replace, create; found for what stood there before it was taken in
	File      string `yaml:"file"`
	At        string `yaml:"at,omitempty"`
	Before    quoted `yaml:"before,omitempty"`
	After     quoted `yaml:"after,omitempty"`
	Old       quoted `yaml:"old,omitempty"`
	Folder    string `yaml:"folder,omitempty"`
	SHA256    string `yaml:"sha256,omitempty"`
	Least     string `yaml:"least,omitempty"` // of a version that was raised: what this registration needs
	From      string `yaml:"from,omitempty"`  // what it was before anybody raised it
}

// stood marks an entry for something that stood in the tree before: it is not taken out.
const stood = "found"

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
	last := 0
	for _, r := range by {
		for _, e := range r.Entries {
			last = max(last, e.Order)
		}
	}
	for _, op := range p.Ops {
		last++
		touched = append(touched, by[op.Want.Registration].add(op, last, by)...)
	}
	join := func(r *Record, least string, needs func(Entry) bool) {
		for _, key := range sorted(by) {
			if other := by[key]; other != r {
				for _, e := range other.Entries {
					if e.Do == stood || !needs(e) || r.holds(e) {
						continue
					}
					if e.Least != "" {
						if enough, ok := Under(e.From, least); ok && !enough {
							continue // what stood there before is enough for this one
						}
						e.Least = least
					}
					r.Entries = append(r.Entries, e)
				}
			}
		}
	}
	for _, s := range p.shares {
		join(by[s.want.Registration], "", func(e Entry) bool { return e.File == s.file && e.At == s.address })
	}
	for _, a := range answers {
		join(by[a.Registration], a.Params["version"], func(e Entry) bool { return e.Subject == a.Subject() })
	}
	slices.Sort(touched)
	for _, key := range slices.Compact(touched) {
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

// Adopt takes what is right in the tree into the records, without changing any file of the app: nothing of it will be
// taken out later, and the tree can be checked without a server. A minimum that is high enough is nobody's placement.
func (p *Plan) Adopt(in Input, answers []Answer) (taken []Answer, err error) {
	var wants []Answer
	for _, a := range answers {
		if a.Good() && !a.Floor() {
			wants = append(wants, a)
		}
	}
	if len(wants) == 0 {
		return nil, nil
	}
	if err := p.Commit(in, nil); err != nil { // makes the records, for those that hold something
		return nil, err
	}
	records, err := Records(in.Tree)
	if err != nil {
		return nil, err
	}
	by := map[string]*Record{}
	for _, r := range records {
		by[r.Registration] = r
	}
	for _, a := range wants {
		r := by[a.Registration]
		if r == nil {
			reg := in.registration(a.Registration)
			r = &Record{Format: 1, Registration: reg.Key(), Service: reg.Service, Environment: reg.Environment, Sheet: reg.Sheet.Digest, Revision: reg.Revision, Values: digests(reg)}
			by[a.Registration] = r
		}
		if slices.ContainsFunc(r.Entries, func(e Entry) bool { return e.Subject == a.Subject() }) {
			continue
		}
		r.Entries = append(r.Entries, Entry{Placement: a.Placement, Subject: a.Subject(), Do: stood, File: a.Here.File})
		taken = append(taken, a)
		text, err := r.Write()
		if err != nil {
			return nil, err
		}
		in.Tree.Put(RecordPath(r.Registration), text)
	}
	return taken, nil
}

func (in Input) registration(key string) *Registration {
	for _, r := range in.Registrations {
		if r.Key() == key {
			return r
		}
	}
	return nil
}

// Placed gives what stands at an entry's place now; ok is false when that is gone or cannot be read.
func Placed(t *tree.Tree, e Entry) (text string, ok bool) {
	src, err := t.Read(e.File)
	if err != nil {
		return "", false
	}
	if e.At == "" {
		return string(src), true
	}
	if src, _, err = view(e.File, src); err != nil {
		return "", false
	}
	start, end, ok := Locate(e.File, src, e.At)
	if !ok {
		return "", false
	}
	return string(src[start:end]), true
}

// Rename exchanges an identifier in what an entry would put back.
func (e *Entry) Rename(swap func(string) string) { e.Old = quoted(swap(string(e.Old))) }

// holds reports whether a record has an entry for the same thing.
func (r *Record) holds(e Entry) bool {
	for _, x := range r.Entries {
		if x.File == e.File && x.At == e.At && x.Do == e.Do {
			return true
		}
	}
	return false
}

// add records an edit. One that replaces what this record placed itself keeps the way back to before. A version that
// others raised before is theirs as well: all of them know what stands there now, and how it was before the first. The
// keys of the other records that changed are given.
func (r *Record) add(op Op, order int, all map[string]*Record) (changed []string) {
	e := Entry{Order: order, Placement: op.Want.Placement, Subject: op.Want.Subject(), Do: op.Do, File: op.File, At: op.Address,
		Before: quoted(op.Before), After: quoted(op.After), Old: quoted(op.Old), Folder: op.Folder, SHA256: Digest(op.Text), From: op.From, Least: op.Least}
	if op.Least != "" {
		for _, key := range sorted(all) {
			for i := range all[key].Entries {
				had := &all[key].Entries[i]
				if had.File != e.File || had.At != e.At || had.Least == "" {
					continue
				}
				had.SHA256 = e.SHA256
				changed = append(changed, key)
				e.Do, e.Before, e.After, e.Old, e.From = had.Do, had.Before, had.After, had.Old, had.From
				if all[key] == r {
					had.Least = e.Least
				}
			}
		}
		if r.holds(e) {
			return changed
		}
	}
	if op.Do == "replace" {
		for i := range r.Entries {
			had := &r.Entries[i]
			if had.File == e.File && had.Subject == e.Subject && (had.At == e.At || had.SHA256 == Digest(op.Old)) {
				had.At, had.SHA256 = e.At, e.SHA256
				return changed
			}
		}
	}
	r.Entries = append(r.Entries, e)
	return changed
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
	slices.SortStableFunc(mine.Entries, func(a, b Entry) int { return a.Order - b.Order })
	var kept []Entry
	for i := len(mine.Entries) - 1; i >= 0; i-- {
		e := mine.Entries[i]
		if e.Do == stood {
			left = append(left, Left{Place{File: e.File}, e.Placement, "it stood here before it was taken in, and was not placed by Ligare: take it out by hand"})
			continue
		}
		owned, err := passOn(t, e, others)
		if err != nil {
			return nil, err
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

// passOn reports whether other records keep what an entry did: two that need the same keep it until the last one leaves.
// A version goes down to what the remaining ones need.
func passOn(t *tree.Tree, e Entry, others []*Record) (owned bool, err error) {
	var level string
	var with []*Record
	for _, o := range others {
		for _, x := range o.Entries {
			if x.File != e.File || x.At != e.At || x.Do != e.Do {
				continue
			}
			owned = true
			if lower, ok := Under(level, x.Least); x.Least != "" && (level == "" || ok && lower) {
				level = x.Least
			}
			with = append(with, o)
		}
	}
	if !owned || level == "" || e.Least == "" {
		return owned, nil
	}
	if lower, ok := Under(level, e.Least); !ok || !lower {
		return true, nil
	}
	src, err := t.Read(e.File)
	if err != nil {
		return true, nil // gone: there is nothing to lower
	}
	text, back, err := view(e.File, src)
	if err != nil {
		return true, nil // what cannot be read now is left to those who stay
	}
	start, end, ok := Locate(e.File, text, e.At)
	if !ok || Digest(string(text[start:end])) != e.SHA256 || strings.Count(string(text[start:end]), e.Least) != 1 {
		return true, nil // somebody has changed it since
	}
	now := strings.Replace(string(text[start:end]), e.Least, level, 1)
	if src, err = back(splice(text, start, end, now)); err != nil {
		return true, fmt.Errorf("%s: %w", e.File, err)
	}
	t.Put(e.File, src)
	for _, o := range with {
		for i := range o.Entries {
			if x := &o.Entries[i]; x.File == e.File && x.At == e.At && x.Do == e.Do {
				x.SHA256 = Digest(now)
			}
		}
		out, err := o.Write()
		if err != nil {
			return true, err
		}
		t.Put(RecordPath(o.Registration), out)
	}
	return true, nil
}

// takeOut undoes one entry, or says why not.
func takeOut(t *tree.Tree, e Entry, others []*Record, force bool) *Left {
	src, err := t.Read(e.File)
	if err != nil {
		return nil // the file is gone: nothing is left to take out
	}
	whole := src
	src, back, err := view(e.File, src)
	if err != nil {
		if e.Do == "create" && Digest(string(whole)) == e.SHA256 {
			t.Remove(e.File)
			return nil
		}
		return &Left{Place{File: e.File}, e.Placement, "the file cannot be read: " + err.Error()}
	}
	put := func(text []byte) *Left {
		out, err := back(text)
		if err != nil {
			return &Left{Place{File: e.File}, e.Placement, err.Error()}
		}
		t.Put(e.File, out)
		return nil
	}
	find := Locator(e.File, src)
	start, end, ok := find(e.At)
	if e.At == "" {
		src, end = whole, len(whole)
	}
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
				if x.File == e.File && within(find, x.At, start, end) {
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
		if e.At == "" {
			t.Put(e.File, []byte(e.Old))
			return nil
		}
		return put(splice(src, start, end, string(e.Old)))
	}
	before, after := len(e.Before), len(e.After)
	if next, at, rest := neighbour(e, find, src, end, others); next != nil && (next.Before != e.Before || rest != "") {
		// What follows was put behind this one, inside its glue: the glue passes on.
		if err := passGlue(t, others, *next, e.Before, rest); err != nil {
			return &Left{Place{File: e.File}, e.Placement, err.Error()}
		}
		return put(splice(src, start, at, ""))
	}
	if start >= before && end+after <= len(src) && string(src[start-before:start]) == string(e.Before) && string(src[end:end+after]) == string(e.After) {
		start, end = start-before, end+after
	} else if s, n, ok := cut(e.File, src, e.At); ok {
		start, end = s, n
	} else if lex.AloneOnLine(src, start, end) { // its surroundings changed: take out its lines
		start, end = lex.LineStart(src, start), lex.NextLine(src, end)
	}
	return put(splice(src, start, end, ""))
}

// neighbour finds the entry of another record that was inserted right behind an entry whose text ends at an offset, or
// into the glue behind that; at is where its text begins, rest what of the glue now stands behind it.
func neighbour(e Entry, find Finder, src []byte, end int, others []*Record) (next *Entry, at int, rest quoted) {
	for _, o := range others {
		for i := range o.Entries {
			x := &o.Entries[i]
			if x.File != e.File || x.Do != "insert" {
				continue
			}
			s, _, ok := find(x.At)
			offset := s - len(x.Before)
			if k := offset - end; ok && k >= 0 && k <= len(e.After) && string(src[end:offset]) == string(e.After[:k]) && string(src[offset:s]) == string(x.Before) {
				return x, s, e.After[k:]
			}
		}
	}
	return nil, 0, ""
}

// passGlue gives an entry, in every record that has it, the glue that now stands in front of it and behind it.
func passGlue(t *tree.Tree, others []*Record, of Entry, before, after quoted) error {
	for _, o := range others {
		changed := false
		for i := range o.Entries {
			if x := &o.Entries[i]; x.File == of.File && x.At == of.At && x.Do == of.Do {
				x.Before, x.After, changed = before, x.After+after, true
			}
		}
		if !changed {
			continue
		}
		text, err := o.Write()
		if err != nil {
			return err
		}
		t.Put(RecordPath(o.Registration), text)
	}
	return nil
}

// within reports whether what an address means lies inside a span.
func within(find Finder, address string, start, end int) bool {
	s, n, ok := find(address)
	return ok && address != "" && s >= start && n <= end
}

// cut gives the span to take out so that what is left can be read, in languages where a separator goes with an entry.
func cut(file string, src []byte, address string) (start, end int, ok bool) {
	if path.Ext(file) != ".json" || address == "" {
		return 0, 0, false
	}
	f, err := json.Parse(src)
	if err != nil {
		return 0, 0, false
	}
	return f.Cut(address)
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
