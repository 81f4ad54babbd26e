package sheet

import (
	"errors"
	"fmt"
	"io/fs"
	"reflect"
	"slices"
	"sort"
	"strings"

	"go.yaml.in/yaml/v3"
)

// Library is the named placements by name.
type Library map[string]*Named

// libraryFile is a file of named placements.
type libraryFile struct {
	Library    int              `yaml:"library" need:"yes" doc:"Version of the language: 1."`
	Placements map[string]Named `yaml:"placements" need:"yes" doc:"Named placements by name."`
}

// LoadLibrary reads library/*.yaml; a later file may add names but not redefine one.
func LoadLibrary(from fs.FS) (Library, error) {
	names, err := fs.Glob(from, "library/*.yaml")
	if err != nil {
		return nil, err
	}
	sort.Strings(names)
	lib := Library{}
	for _, n := range names {
		src, err := fs.ReadFile(from, n)
		if err != nil {
			return nil, err
		}
		if err := lib.Read(n, src); err != nil {
			return nil, err
		}
	}
	return lib, nil
}

// Read adds the named placements of a file to the library; none may be there already.
func (l Library) Read(name string, src []byte) error {
	f, r := &libraryFile{}, &reader{file: name, at: map[string]*yaml.Node{}}
	if top := r.document(src); top != nil {
		r.fill(top, reflect.ValueOf(f).Elem(), "", "")
	}
	if err := r.err(); err != nil {
		return err
	}
	return l.add(r, "placements", f.Placements)
}

// add takes named placements in, with what is wrong with them.
func (l Library) add(r *reader, where string, list map[string]Named) error {
	for name := range list {
		if l[name] != nil {
			r.say(r.at[where+"."+name], where+"."+name, "give it another name", "%q is defined already", name)
		}
	}
	for name, n := range list {
		n.Name = name
		l[name] = &n
	}
	for name := range list {
		l.named(r, where+"."+name, l[name])
	}
	return r.err()
}

func (l Library) named(r *reader, where string, n *Named) {
	say := func(at, hint, format string, args ...any) { r.say(r.at[at], at, hint, format, args...) }
	if (n.Ensure == "") == (len(n.Either) == 0) {
		say(where, "one of the two", "a named placement has an ensure or either")
		return
	}
	for i, e := range n.Either {
		if l[e] == nil {
			say(fmt.Sprintf("%s.either.%d", where, i+1), didYouMean(e, l.names()), "there is no placement %q", e)
		}
	}
	if n.Ensure == "" {
		return
	}
	kind := Ensure(n.Ensure)
	if kind == nil {
		say(where+".ensure", didYouMean(n.Ensure, ids(Ensures, func(e EnsureKind) string { return e.Name })), "there is no ensure %q", n.Ensure)
		return
	}
	for k, text := range n.Settings {
		if !slices.ContainsFunc(kind.Settings, func(s Setting) bool { return s.Name == k }) {
			say(where+".settings."+k, didYouMean(k, ids(kind.Settings, func(s Setting) string { return s.Name })), "the ensure %s has no setting %q", n.Ensure, k)
		}
		for _, ref := range References(text) {
			if !slices.Contains(n.Needs, ref) && !slices.Contains(n.Takes, ref) {
				say(where+".settings."+k, "add it to needs or takes", "${%s} is not a parameter of %s", ref, n.Name)
			}
		}
	}
	for _, s := range kind.Settings {
		if s.Need && n.Settings[s.Name] == "" && !slices.Contains(n.Needs, s.Name) {
			say(where+".settings", s.Doc, "the ensure %s needs %q, as a setting or as a parameter", n.Ensure, s.Name)
		}
	}
}

func didYouMean(word string, words []string) string {
	if near := Nearest(word, words); near != "" {
		return "did you mean " + near + "?"
	}
	sort.Strings(words)
	return "there are: " + strings.Join(words, ", ")
}

func (l Library) names() []string {
	var out []string
	for n := range l {
		out = append(out, n)
	}
	sort.Strings(out)
	return out
}

// With gives the library with a sheet's own named placements added.
func (l Library) With(s *Sheet) (Library, error) {
	if len(s.Library) == 0 {
		return l, nil
	}
	out := Library{}
	for k, v := range l {
		out[k] = v
	}
	r := &reader{file: s.file, at: map[string]*yaml.Node{}}
	for where, at := range s.places {
		r.at[where] = &yaml.Node{Line: at[0], Column: at[1]}
	}
	return out, out.add(r, "library", s.Library)
}

// Check says whether a sheet uses the library rightly: names that exist, parameters that are given and taken.
func (l Library) Check(s *Sheet) error {
	l, err := l.With(s)
	if err != nil {
		return err
	}
	r := &reader{file: s.file}
	say := func(where, hint, format string, args ...any) {
		at := s.places[where]
		r.say(&yaml.Node{Line: at[0], Column: at[1]}, where, hint, format, args...)
	}
	for _, p := range s.Placements {
		where := "placements." + p.ID
		n := l[p.Place]
		if n == nil {
			say(where+".place", didYouMean(p.Place, l.names()), "there is no named placement %q", p.Place)
			continue
		}
		if n.Platform != "" && n.Platform != p.Platform {
			say(where+".place", "", "%s is for %s", p.Place, n.Platform)
		}
		for _, need := range n.Needs {
			if p.With[need] == "" {
				say(where, "", "%s needs %q", p.Place, need)
			}
		}
		takes := slices.Concat(n.Needs, n.Takes)
		if len(n.Either) > 0 {
			for _, e := range n.Either {
				takes = slices.Concat(takes, l[e].Needs, l[e].Takes)
			}
		} else if kind := Ensure(n.Ensure); kind != nil {
			takes = slices.Concat(takes, ids(kind.Settings, func(s Setting) string { return s.Name }))
		}
		for k := range p.With {
			if !slices.Contains(takes, k) {
				say(where+".with."+k, didYouMean(k, takes), "%s takes no %q", p.Place, k)
			}
		}
	}
	return r.err()
}

// LoadBridges reads layouts/bridges.yaml: the packages by which a web tree speaks with the app that a hosted builder
// makes of it.
func LoadBridges(from fs.FS) ([]string, error) {
	src, err := fs.ReadFile(from, "layouts/bridges.yaml")
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	} else if err != nil {
		return nil, err
	}
	var f struct {
		Bridges []struct {
			Package string `yaml:"package" need:"yes"`
			Builder string `yaml:"builder" need:"yes"`
		} `yaml:"bridges" need:"yes"`
	}
	r := &reader{file: "layouts/bridges.yaml", at: map[string]*yaml.Node{}}
	if top := r.document(src); top != nil {
		r.fill(top, reflect.ValueOf(&f).Elem(), "", "")
	}
	var out []string
	for _, b := range f.Bridges {
		out = append(out, b.Package)
	}
	return out, r.err()
}
