// Package rename changes an application ID or bundle ID everywhere it stands in a tree: build files, manifests, source
// packages and their folders, configurations, extension targets, schemes and groups that begin with it, and Ligare's own
// records of what was placed.
package rename

import (
	"bytes"
	"fmt"
	"path"
	"sort"
	"strings"
	"unicode/utf8"

	"ligare/core/binding"
	"ligare/core/ident"
	"ligare/core/survey"
	"ligare/core/syntax/lex"
	"ligare/core/syntax/pbxproj"
	"ligare/core/tree"
	"ligare/core/wiring"
)

// Options says what is renamed.
type Options struct {
	Platform ident.Platform
	Old, New string
	Fetched  []string // files that a service issued: they are fetched anew and not edited
}

// Result is what was done, in the tree's edits, and what is left.
type Result struct {
	Files   []string       `json:"files"`   // whose text changed, by their new names
	Moved   []Move         `json:"moved"`   // files that lie in folders named after the identifier
	Derived []Pair         `json:"derived"` // identifiers of variants and extensions that change with it
	Left    []wiring.Place `json:"left"`    // places outside the platform's own folders, for a person to look at
}

// Move is a file that changes its folder.
type Move struct{ From, To string }

// Pair is an identifier before and after.
type Pair struct{ Old, New string }

// Plan makes the edits in the tree. Nothing is edited when it returns an error.
func Plan(t *tree.Tree, r *survey.Report, b *binding.Binding, o Options) (*Result, error) {
	if o.Old == o.New {
		return nil, fmt.Errorf("%s is its name already", o.New)
	}
	if err := ident.Check(o.Platform, o.New); err != nil {
		return nil, err
	}
	own, others := scopes(r, o.Platform)
	out := &Result{Files: []string{}, Moved: []Move{}, Derived: []Pair{}, Left: []wiring.Place{}}
	found := false
	for _, id := range identifiers(r) {
		if id.platform == o.Platform && id.id == o.Old {
			found = true
		}
		if id.platform == o.Platform && id.id == o.New {
			return nil, fmt.Errorf("%s builds with %s already (%s)", id.what, o.New, id.at)
		}
	}
	if !found {
		return nil, fmt.Errorf("no variant for %s builds with %s", o.Platform, o.Old)
	}
	records, err := placed(t)
	if err != nil {
		return nil, err
	}
	keep := map[string]bool{binding.File: true}
	for _, n := range o.Fetched {
		keep[n] = true
	}
	var names []string
	t.Walk(func(name string) { names = append(names, name) })
	for _, name := range names {
		if keep[name] || strings.HasPrefix(name, ".ligare/") {
			continue
		}
		src, err := t.Read(name)
		if err != nil || !utf8.Valid(src) || bytes.IndexByte(src, 0) >= 0 {
			continue
		}
		if inside(name, others, own) {
			continue // the other platform's identifier is its own
		}
		if !inside(name, own, others) {
			for _, at := range occurrences(src, o.Old) {
				line, column := lex.Position(src, at)
				out.Left = append(out.Left, wiring.Place{File: name, Line: line, Column: column})
			}
			continue
		}
		text, err := o.renamed(name, src)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
		to := o.moved(name)
		if to != name {
			if t.Has(to) {
				return nil, fmt.Errorf("%s would move to %s, which is there already", name, to)
			}
			out.Moved = append(out.Moved, Move{name, to})
			t.Remove(name)
			t.Put(to, text)
		} else if !bytes.Equal(text, src) {
			t.Put(name, text)
		}
		if !bytes.Equal(text, src) {
			out.Files = append(out.Files, to)
		}
	}
	if err := o.binding(t); err != nil {
		return nil, err
	}
	if err := o.records(t, records); err != nil {
		return nil, err
	}
	out.Derived = o.derived(r)
	sort.Strings(out.Files)
	return out, nil
}

type identifier struct {
	platform ident.Platform
	id, what string
	at       string
}

// identifiers lists what the variants and targets of a tree build with.
func identifiers(r *survey.Report) []identifier {
	var out []identifier
	for _, m := range r.Android.Modules {
		for _, v := range m.Variants {
			if v.ApplicationID.Known() {
				out = append(out, identifier{ident.Android, v.ApplicationID.String(), m.Dir + " " + v.Name, v.ApplicationID.Place()})
			}
		}
	}
	for _, p := range r.IOS.Projects {
		for _, t := range p.Targets {
			for _, c := range t.Configurations {
				if c.BundleID.Known() && !t.Test() {
					out = append(out, identifier{ident.IOS, c.BundleID.String(), t.Name + " " + c.Name, c.BundleID.Place()})
				}
			}
		}
	}
	return out
}

// scopes gives the folders of a platform's projects, and those of the other.
func scopes(r *survey.Report, p ident.Platform) (own, others []string) {
	var android, ios []string
	for _, m := range r.Android.Modules {
		android = append(android, m.Root)
		if m.Layout == "engine" || m.Layout == "dotnet" {
			ios = append(ios, m.Root)
		}
	}
	for _, x := range r.IOS.Projects {
		ios = append(ios, x.Dir)
	}
	if p == ident.Android {
		return android, ios
	}
	return ios, android
}

// inside reports whether a file belongs to a platform: the innermost folder that holds it is one of its own.
func inside(name string, own, others []string) bool {
	deep := func(list []string) int {
		best := -1
		for _, d := range list {
			if d == "." {
				best = max(best, 0)
			} else if strings.HasPrefix(name, d+"/") {
				best = max(best, len(d))
			}
		}
		return best
	}
	mine := deep(own)
	return mine >= 0 && mine >= deep(others)
}

func letter(c byte) bool {
	return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c == '_' || c == '-'
}

// occurrences gives where an identifier stands as a whole, or as the beginning of a longer one: a.b in a.b.c and in
// group.a.b, not in a.bc nor in x.a.b.
func occurrences(src []byte, id string) []int {
	var out []int
	for at := 0; ; {
		i := bytes.Index(src[at:], []byte(id))
		if i < 0 {
			return out
		}
		start, end := at+i, at+i+len(id)
		at = end
		if end < len(src) && (letter(src[end]) || src[end] >= 0x80) {
			continue
		}
		if start > 0 {
			before := string(src[max(0, start-9):start])
			if c := src[start-1]; letter(c) || c >= 0x80 || c == '.' && !strings.HasSuffix(before, "group.") && !strings.HasSuffix(before, "iCloud.") {
				continue
			}
		}
		out = append(out, start)
	}
}

// swap exchanges the identifier in a text, and its spelling in small letters, as schemes have it.
func (o Options) swap(text string) string {
	pairs := [][2]string{{o.Old, o.New}}
	if low := strings.ToLower(o.Old); low != o.Old {
		pairs = append(pairs, [2]string{low, strings.ToLower(o.New)})
	}
	for _, p := range pairs {
		at := occurrences([]byte(text), p[0])
		for i := len(at) - 1; i >= 0; i-- {
			text = text[:at[i]] + p[1] + text[at[i]+len(p[0]):]
		}
	}
	return text
}

// renamed gives a file's text with the identifier exchanged. In a project file values are written anew, quoted as the
// new one needs it.
func (o Options) renamed(name string, src []byte) ([]byte, error) {
	if path.Base(name) != "project.pbxproj" {
		return []byte(o.swap(string(src))), nil
	}
	px, err := pbxproj.Parse(src)
	if err != nil {
		return nil, err
	}
	var changes []lex.Change
	var visit func(v *pbxproj.Value)
	visit = func(v *pbxproj.Value) {
		switch {
		case v.Dict != nil:
			for _, e := range v.Dict.Entries {
				visit(e.Value)
			}
		case v.List != nil:
			for _, i := range v.List.Items {
				visit(i.Value)
			}
		default:
			if to := o.swap(v.Text); to != v.Text {
				changes = append(changes, lex.Change{Start: v.Start, End: v.End, New: pbxproj.Quote(to)})
			}
		}
	}
	for _, e := range px.Top.Entries {
		visit(e.Value)
	}
	return lex.Apply(src, changes...)
}

// moved gives the new place of a source file in a folder named after the package.
func (o Options) moved(name string) string {
	if o.Platform != ident.Android {
		return name
	}
	from, to := strings.ReplaceAll(o.Old, ".", "/"), strings.ReplaceAll(o.New, ".", "/")
	for _, kind := range []string{"/java/", "/kotlin/", "/aidl/"} {
		head, rest, ok := strings.Cut(name, kind)
		if ok && (rest == from || strings.HasPrefix(rest, from+"/")) {
			return head + kind + to + strings.TrimPrefix(rest, from)
		}
	}
	return name
}

// derived lists the identifiers that change with it.
func (o Options) derived(r *survey.Report) []Pair {
	out := []Pair{}
	seen := map[string]bool{}
	for _, id := range identifiers(r) {
		if id.platform == o.Platform && !seen[id.id] && (id.id == o.Old || strings.HasPrefix(id.id, o.Old+".")) {
			seen[id.id] = true
			out = append(out, Pair{id.id, o.swap(id.id)})
		}
	}
	return out
}

// binding exchanges the identifier in ligare.yaml, below the platform's own key.
func (o Options) binding(t *tree.Tree) error {
	src, err := t.Read(binding.File)
	if err != nil {
		return nil // the tree is not attached
	}
	section := ""
	lines := strings.SplitAfter(string(src), "\n")
	for i, l := range lines {
		if key, _, ok := strings.Cut(l, ":"); ok && l[0] != ' ' && l[0] != '#' && l[0] != '\t' {
			section = key
		}
		if section == string(o.Platform) {
			lines[i] = o.swap(l)
		}
	}
	out := []byte(strings.Join(lines, ""))
	if _, err := binding.Parse(out); err != nil {
		return err
	}
	t.Put(binding.File, out)
	return nil
}

// entry is one of a record, with whether what it placed stands there untouched.
type entry struct {
	record *wiring.Record
	index  int
	same   bool
}

// placed reads the records, and which of their entries stand as they were placed, before anything is edited.
func placed(t *tree.Tree) ([]entry, error) {
	records, err := wiring.Records(t)
	if err != nil {
		return nil, err
	}
	var out []entry
	for _, r := range records {
		for i, e := range r.Entries {
			text, ok := wiring.Placed(t, e)
			out = append(out, entry{r, i, ok && wiring.Digest(text) == e.SHA256})
		}
	}
	return out, nil
}

// records brings the records up to date: names, addresses, and the digests of what was untouched.
func (o Options) records(t *tree.Tree, list []entry) error {
	done := map[*wiring.Record]bool{}
	for _, x := range list {
		e := &x.record.Entries[x.index]
		e.File = o.moved(e.File)
		was := *e
		if now := o.swap(e.At); now != e.At {
			e.At = now
		}
		text, ok := wiring.Placed(t, *e)
		if !ok {
			e.At = was.At
			text, ok = wiring.Placed(t, *e)
		}
		if ok && x.same {
			e.SHA256 = wiring.Digest(text)
		}
		e.Rename(o.swap)
		done[x.record] = true
	}
	for r := range done {
		old := r.Registration
		values := map[string]string{}
		for k, v := range r.Values {
			if platform, rest, ok := strings.Cut(k, " "); ok && platform == string(o.Platform) {
				k = platform + " " + o.swap(rest)
			}
			values[k] = v
		}
		r.Values = values
		if strings.HasPrefix(strings.TrimPrefix(old, r.Service), "-"+string(o.Platform)+"-") {
			r.Registration = r.Service + "-" + string(o.Platform) + "-" + o.swap(strings.TrimPrefix(old, r.Service+"-"+string(o.Platform)+"-"))
			t.Remove(wiring.RecordPath(old))
		}
		text, err := r.Write()
		if err != nil {
			return err
		}
		t.Put(wiring.RecordPath(r.Registration), text)
	}
	return nil
}
