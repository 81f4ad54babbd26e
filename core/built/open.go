// Package built reads what ships: APK, AAB and IPA files. It gives the facts they hold, with where each stands, and a tree
// and a survey of them, so that what is asked of a source tree can be asked of a package.
//
// Nothing is unpacked onto a disk, and no size that a package gives is believed: what is read of an entry is bounded.
package built

import (
	"archive/zip"
	"errors"
	"fmt"
	"io"
	"path"
	"slices"
	"strings"

	"ligare/core/signature"
	"ligare/core/syntax/chunk"
)

// Kind of a package.
type Kind string

// Kinds of packages.
const (
	APK Kind = "apk"
	AAB Kind = "aab"
	IPA Kind = "ipa"
)

// Bounds of what is read, in bytes. They are far above what real packages have.
const (
	maxManifest  = 8 << 20
	maxTable     = 96 << 20
	maxText      = 4 << 20
	maxDirectory = 64 << 20
	maxEntries   = 500_000
)

// Archive is a package that was opened.
type Archive struct {
	Kind  Kind
	Size  int64
	Block *signature.Block

	Expected map[uint32]string // bits of a float -> the number it was, see Expect

	r     io.ReaderAt
	zip   *zip.Reader
	files map[string]*zip.File
	notes []string
	top   *chunk.Element // of the manifest, once it was read
	table table

	sorted []string
}

// Problem is why a package, or a part of it, cannot be read.
type Problem struct {
	Entry string // "" for the whole
	Err   error
}

func (p *Problem) Error() string {
	if p.Entry == "" {
		return p.Err.Error()
	}
	return p.Entry + ": " + p.Err.Error()
}

func (p *Problem) Unwrap() error { return p.Err }

func problem(entry, format string, args ...any) error {
	return &Problem{entry, fmt.Errorf(format, args...)}
}

// Open opens a package. Only its directory and its signing block are read.
func Open(r io.ReaderAt, size int64) (*Archive, error) {
	b, err := signature.Find(r, size)
	if err != nil {
		return nil, &Problem{"", err}
	}
	if n, length := b.Entries(); n > maxEntries || length > maxDirectory {
		return nil, problem("", "its directory has %d entries in %d bytes, more than any app has", n, length)
	}
	z, err := zip.NewReader(r, size)
	if err != nil && !errors.Is(err, zip.ErrInsecurePath) {
		return nil, problem("", "its directory cannot be read: %w", err)
	}
	if len(z.File) > maxEntries {
		return nil, problem("", "its directory has %d entries, more than any app has", len(z.File))
	}
	a := &Archive{Size: size, Block: b, r: r, zip: z, files: make(map[string]*zip.File, len(z.File))}
	for _, f := range z.File {
		name := f.Name
		switch {
		case strings.Contains(name, `\`) || path.IsAbs(name) || slices.Contains(strings.Split(name, "/"), ".."):
			a.note("an entry's name leads out of the package: %q", name)
			continue
		case a.files[name] != nil:
			a.note("two entries are named %s; which one is read depends on who reads", name)
			if important(name) {
				return nil, problem(name, "two entries have this name")
			}
			continue
		}
		a.files[name] = f
	}
	return a, a.recognise()
}

func important(name string) bool {
	return name == "AndroidManifest.xml" || name == "resources.arsc" || strings.HasSuffix(name, "/AndroidManifest.xml") || strings.HasSuffix(name, ".app/Info.plist") || strings.HasSuffix(name, ".mobileprovision")
}

// mostNotes bounds the notes on a hostile package.
const mostNotes = 50

func (a *Archive) note(format string, args ...any) {
	if say := fmt.Sprintf(format, args...); len(a.notes) < mostNotes && !slices.Contains(a.notes, say) {
		a.notes = append(a.notes, say)
	}
}

// recognise says what kind of package it is, by what it holds and not by its name.
func (a *Archive) recognise() error {
	switch {
	case a.files["base/manifest/AndroidManifest.xml"] != nil:
		a.Kind = AAB
	case a.files["AndroidManifest.xml"] != nil:
		a.Kind = APK
	default:
		for name := range a.files {
			if app := appOf(name); app != "" {
				a.Kind = IPA
				return nil
			}
		}
		var inside []string
		for name := range a.files {
			if ext := path.Ext(name); ext == ".apk" || ext == ".aab" || ext == ".ipa" {
				inside = append(inside, name)
			}
		}
		if len(inside) > 0 {
			slices.Sort(inside)
			return problem("", "it is neither APK, AAB nor IPA, but holds %s: take that out and name it", inside[0])
		}
		return problem("", "it is a ZIP archive, and neither APK, AAB nor IPA: it has no AndroidManifest.xml, base/manifest/AndroidManifest.xml or Payload/*.app/Info.plist")
	}
	return nil
}

// appOf gives the folder of the app that an entry of an IPA lies in, "" for none.
func appOf(name string) string {
	rest, ok := strings.CutPrefix(name, "Payload/")
	if !ok {
		return ""
	}
	app, in, ok := strings.Cut(rest, "/")
	if !ok || !strings.HasSuffix(app, ".app") || in != "Info.plist" {
		return ""
	}
	return "Payload/" + app
}

// read gives an entry, bounded.
func (a *Archive) read(name string, limit int64) ([]byte, error) {
	f := a.files[name]
	if f == nil {
		return nil, problem(name, "there is no such entry")
	}
	if f.UncompressedSize64 > uint64(limit) {
		return nil, problem(name, "it says that it has %d bytes; at most %d are read", f.UncompressedSize64, limit)
	}
	rc, err := f.Open()
	if err != nil {
		return nil, &Problem{name, err}
	}
	defer rc.Close()
	b, err := io.ReadAll(io.LimitReader(rc, limit+1))
	if err != nil {
		return nil, &Problem{name, err}
	}
	if int64(len(b)) > limit {
		return nil, problem(name, "it unpacks to more than %d bytes", limit)
	}
	return b, nil
}

// Names gives the entries' names, sorted.
func (a *Archive) Names() []string { return slices.Clone(a.names()) }

func (a *Archive) names() []string {
	if a.sorted != nil {
		return a.sorted
	}
	out := make([]string, 0, len(a.files))
	for name := range a.files {
		if !strings.HasSuffix(name, "/") {
			out = append(out, name)
		}
	}
	slices.Sort(out)
	a.sorted = out
	return out
}

// Entry opens an entry for reading through it, with its unpacked size as the directory gives it.
func (a *Archive) Entry(name string) (io.ReadCloser, int64, error) {
	f := a.files[name]
	if f == nil {
		return nil, 0, problem(name, "there is no such entry")
	}
	rc, err := f.Open()
	if err != nil {
		return nil, 0, &Problem{name, err}
	}
	return rc, int64(f.UncompressedSize64), nil
}
