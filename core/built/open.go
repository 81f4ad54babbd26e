// Package built reads what ships: APK, AAB and IPA files. It gives the facts they hold, with where each stands, and a tree
// and a survey of them, so that what is asked of a source tree can be asked of a package.
//
// Nothing is unpacked onto a disk, and no size that a package gives is believed: what is read of an entry is bounded.
package built

import (
	"archive/zip"
	"bytes"
	"cmp"
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
	maxText      = 1 << 20
	maxConfig    = 512 << 10
	maxDirectory = 64 << 20
	maxEntries   = 250_000
	maxUnpacked  = 768 << 20 // of all entries that are read for their facts, together
)

// Archive is a package that was opened.
type Archive struct {
	Kind  Kind
	Size  int64
	Block *signature.Block

	Inside string // the entry of an archive that holds the package; "" for a file of its own

	Expected map[uint32]string // bits of a float -> the number it was, see Expect

	r     io.ReaderAt
	zip   *zip.Reader
	files map[string]*zip.File
	left  int64 // bytes that may still be unpacked
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

// Open opens a package. Only its directory and its signing block are read. Of an archive of packages, such as one for each
// kind of phone, the one is opened that stands for the app.
func Open(r io.ReaderAt, size int64) (*Archive, error) { return open(r, size, "") }

func open(r io.ReaderAt, size int64, inside string) (*Archive, error) {
	b, err := signature.Find(r, size)
	if err != nil {
		return nil, &Problem{"", err}
	}
	n, length, err := b.Count(r, maxEntries+1)
	if err != nil {
		return nil, &Problem{"", err}
	}
	if n > maxEntries || length > maxDirectory {
		return nil, problem("", "its directory has %d entries or more in %d bytes, more than any app has", n, length)
	}
	z, err := zip.NewReader(r, size)
	if err != nil && !errors.Is(err, zip.ErrInsecurePath) {
		return nil, problem("", "its directory cannot be read: %w", err)
	}
	a := &Archive{Size: size, Inside: inside, Block: b, left: maxUnpacked, r: r, zip: z, files: make(map[string]*zip.File, len(z.File))}
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
		return a.inside()
	}
	return nil
}

// mostInside bounds a package inside an archive that has to be unpacked into memory, in bytes.
const mostInside = 64 << 20

// inside opens the package that an archive of packages holds: the whole app, else the part that every phone gets.
func (a *Archive) inside() error {
	var list []string
	for name := range a.files {
		if ext := path.Ext(name); ext == ".apk" || ext == ".aab" || ext == ".ipa" {
			list = append(list, name)
		}
	}
	if len(list) == 0 || a.Inside != "" {
		return problem("", "it is a ZIP archive, and neither APK, AAB nor IPA: it has no AndroidManifest.xml, base/manifest/AndroidManifest.xml or Payload/*.app/Info.plist")
	}
	slices.SortFunc(list, func(x, y string) int { return cmp.Or(base(x)-base(y), strings.Compare(x, y)) })
	name := list[0]
	f := a.files[name]
	var r io.ReaderAt
	size := int64(f.UncompressedSize64)
	if f.Method == zip.Store {
		at, err := f.DataOffset()
		if err != nil {
			return &Problem{name, err}
		}
		r = io.NewSectionReader(a.r, at, size)
	} else {
		b, err := a.read(name, mostInside)
		if err != nil {
			return problem(name, "take it out of the archive and name it: %w", err)
		}
		r = bytes.NewReader(b)
	}
	in, err := open(r, size, name)
	if err != nil {
		return &Problem{name, err}
	}
	if len(list) > 1 {
		in.note("the archive holds %d packages; this is %s", len(list), name)
	}
	*a = *in
	return nil
}

// base orders packages in an archive: the whole app, the base of an app in parts, any other, a part for some phones.
func base(name string) int {
	switch n := path.Base(name); {
	case n == "universal.apk":
		return 0
	case n == "base-master.apk" || n == "base.apk":
		return 1
	case strings.HasPrefix(n, "config.") || strings.HasPrefix(n, "split_") || strings.HasPrefix(n, "base-"):
		return 3
	}
	return 2
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
	rc, _, err := a.Entry(name)
	if err != nil {
		return nil, err
	}
	defer rc.Close()
	b := make([]byte, 0, f.UncompressedSize64+512)
	for {
		n, err := rc.Read(b[len(b):cap(b)])
		b = b[:len(b)+n]
		switch {
		case int64(len(b)) > limit:
			return nil, problem(name, "it unpacks to more than %d bytes", limit)
		case errors.Is(err, io.EOF):
			return b, nil
		case err != nil:
			return nil, &Problem{name, err}
		case len(b) == cap(b):
			b = append(b, 0)[:len(b)]
		}
	}
}

// bounded reads an entry, and stops when the package unpacks to more than any app does.
type bounded struct {
	io.ReadCloser
	a *Archive
}

func (b bounded) Read(p []byte) (int, error) {
	n, err := b.ReadCloser.Read(p)
	if b.a.left -= int64(n); b.a.left < 0 {
		return n, fmt.Errorf("the package unpacks to more than %d MB of what is read of it", maxUnpacked>>20)
	}
	return n, err
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
	return bounded{rc, a}, int64(f.UncompressedSize64), nil
}
