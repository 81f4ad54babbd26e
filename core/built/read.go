package built

import (
	"context"
	"iter"
	"path"
	"slices"
	"strings"

	"ligare/core/sheet"
	"ligare/core/syntax/chunk"
	"ligare/core/syntax/message"
)

// Options say what is read of a package.
type Options struct {
	Verify  bool           // every signature, over the whole file
	Strings bool           // list the string resources
	Sheets  []*sheet.Sheet // whose config and licence files are looked for
}

// Read gives a package's facts. It can be asked several times.
func (a *Archive) Read(ctx context.Context, o Options) (*Facts, error) {
	out := &Facts{Kind: a.Kind, Inside: a.Inside, Size: a.Size, Files: []File{}}
	var err error
	switch a.Kind {
	case IPA:
		if out.IOS, err = a.apps(); err != nil {
			return nil, err
		}
	default:
		top, t, err := a.manifest()
		if err != nil {
			return nil, err
		}
		if out.Android, err = a.androidFacts(top, t, o.Strings); err != nil {
			return nil, err
		}
		if a.Kind == AAB {
			out.Android.Modules = a.modules()
		}
		if out.Signing, err = a.signing(ctx, o.Verify); err != nil {
			return nil, err
		}
	}
	for _, s := range o.Sheets {
		out.Files = append(out.Files, a.known(s)...)
	}
	out.Notes = slices.Clone(a.notes)
	return out, nil
}

// manifest reads the manifest and the resource table, in the form the package has them.
func (a *Archive) manifest() (*chunk.Element, table, error) {
	if a.top != nil {
		return a.top, a.table, nil
	}
	var err error
	if a.Kind == APK {
		a.top, a.table, err = a.apk()
	} else {
		a.top, a.table, err = a.bundle()
	}
	return a.top, a.table, err
}

// bundle reads the manifest and the resource table of an AAB's base module.
func (a *Archive) bundle() (*chunk.Element, table, error) {
	const name = "base/manifest/AndroidManifest.xml"
	src, err := a.read(name, maxManifest)
	if err != nil {
		return nil, nil, err
	}
	top, err := message.XML(src)
	if err != nil {
		return nil, nil, &Problem{name, err}
	}
	if a.files["base/resources.pb"] == nil {
		return top, noTable{}, nil
	}
	b, err := a.read("base/resources.pb", maxTable/2)
	if err != nil {
		return nil, nil, err
	}
	t, err := message.Read(b)
	if err != nil {
		return nil, nil, &Problem{"base/resources.pb", err}
	}
	return top, t, nil
}

// modules lists a bundle's modules.
func (a *Archive) modules() []string {
	var out []string
	for name := range a.files {
		if m, ok := strings.CutSuffix(name, "/manifest/AndroidManifest.xml"); ok && !strings.Contains(m, "/") {
			out = append(out, m)
		}
	}
	slices.Sort(out)
	return out
}

// known finds a service's config and licence files and reads them by the sheet's pointers.
func (a *Archive) known(s *sheet.Sheet) []File {
	var out []File
	for i := range s.Issues.Files {
		f := &s.Issues.Files[i]
		if f.Kind == "archive" {
			continue
		}
		for name, source := range a.named(f.Name) {
			x := File{Path: name, Service: s.Service, File: f.ID, Source: source}
			src, err := a.text(name, f.Format)
			if x.Lost = a.losses(name); len(x.Lost) > 0 {
				x.Problem = "the build made a float of a long number, whose last digits are lost: " + strings.Join(x.Lost, ", ")
			}
			if err == nil {
				var got map[string][]sheet.Reading
				if got, err = f.Contents(src); err == nil {
					for _, k := range sorted(got) {
						for _, r := range got[k] {
							x.Reads = append(x.Reads, Read{k, r.Value})
						}
					}
				}
			}
			if err != nil {
				x.Problem = err.Error()
			}
			if path.Base(name) != f.Name && source == "" {
				x.Problem = strings.TrimPrefix(x.Problem+"; it is named in other letters than "+f.Name, "; ")
			}
			out = append(out, x)
		}
	}
	return out
}

// Reread reads a sheet's files in the place of those that another version of the sheet read.
func (a *Archive) Reread(f *Facts, s *sheet.Sheet) {
	f.Files = append(slices.DeleteFunc(f.Files, func(x File) bool { return x.Service == s.Service }), a.known(s)...)
}

// mostNamed bounds the entries of one name that are read.
const mostNamed = 20

// named finds the entries that are a file of a name: by their own, in any letters, or as a resource of that name. The value
// is where a resource would stand in a source tree, "" for an entry of its own name.
func (a *Archive) named(name string) iter.Seq2[string, string] {
	return func(yield func(string, string) bool) {
		met := 0
		for _, n := range a.names() {
			if strings.EqualFold(path.Base(n), name) {
				if met++; met > mostNamed {
					a.note("more than %d entries are named %s", mostNamed, name)
					return
				}
				if !yield(n, "") {
					return
				}
			}
		}
		if met > 0 || a.table == nil {
			return
		}
		stem := strings.TrimSuffix(name, path.Ext(name))
		for _, kind := range []string{"xml", "raw"} {
			if n := a.resource(a.table, kind, stem); n != "" && a.files[n] != nil {
				if !yield(n, "res/"+kind+"/"+name) {
					return
				}
			}
		}
	}
}

func sorted[V any](m map[string]V) []string {
	out := make([]string, 0, len(m))
	for k := range m {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}

// losses names the attributes of a binary document that hold a number whose last digits are lost.
func (a *Archive) losses(name string) []string {
	src, err := a.read(name, maxConfig)
	if err != nil {
		return nil
	}
	top, err := chunk.XML(src)
	if err != nil {
		return nil
	}
	var out []string
	var walk func(e *chunk.Element)
	walk = func(e *chunk.Element) {
		for _, at := range e.Attrs {
			if lost(at.Value) && at.Value.Raw == "" {
				out = append(out, e.Name+" "+at.Name)
			}
		}
		for _, c := range e.Children {
			walk(c)
		}
	}
	walk(top)
	return out
}

// text gives an entry as text: binary XML is written out.
func (a *Archive) text(name, format string) ([]byte, error) {
	src, err := a.read(name, maxConfig)
	if err != nil || format != "xml" {
		return src, err
	}
	switch {
	case len(src) > 2 && src[0] == 3 && src[1] == 0:
		top, err := chunk.XML(src)
		if err != nil {
			return nil, err
		}
		return a.written(top), nil
	case a.Kind == AAB && strings.Contains(name, "/res/"):
		if top, err := message.XML(src); err == nil { // raw resources stay text
			return a.written(top), nil
		}
	}
	return src, nil
}
