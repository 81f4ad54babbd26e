package job

import (
	"context"
	"errors"
	"maps"
	"os"
	"slices"
	"strings"

	"ligare/core/built"
	"ligare/core/sheet"
	"ligare/core/signature"
)

// Package is a built package that was opened. Close it.
type Package struct {
	*built.Archive
	Name   string
	Facts  *built.Facts
	Sheets []*sheet.Sheet

	file *os.File
}

// Close closes the file.
func (p *Package) Close() error { return p.file.Close() }

// InspectOptions say what is read of a package.
type InspectOptions struct {
	Verify  bool
	Strings bool
	Bare    bool // identifiers and signers only: no service's files are looked for
}

// Inspect opens a built package and reads its facts.
func Inspect(ctx context.Context, name string, o InspectOptions) (*Package, error) {
	f, err := os.Open(name)
	if err != nil {
		return nil, &Problem{What: "cannot read " + name, Hint: "Name an APK, AAB or IPA that is there.", Err: unwrapPath(err)}
	}
	p := &Package{Name: name, file: f}
	if err := p.read(ctx, o); err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return p, nil
}

func (p *Package) read(ctx context.Context, o InspectOptions) error {
	info, err := p.file.Stat()
	if err != nil {
		return &Problem{What: "cannot read " + p.Name, Err: unwrapPath(err)}
	}
	if info.IsDir() {
		return stop("Name an APK, AAB or IPA. An .app folder becomes one: mkdir Payload && cp -R Name.app Payload && zip -qr Name.ipa Payload", "%s is a folder", p.Name)
	}
	hint := "Name an APK, AAB or IPA as it was built, unpacked and changed by nobody."
	if p.Archive, err = built.Open(p.file, info.Size()); errors.Is(err, signature.ErrNoZIP) {
		if p.Facts, err = built.Part(p.file, info.Size()); errors.Is(err, built.ErrNoPart) && (p.begins("PK") || IsPackage(p.Name)) {
			err = signature.ErrNoZIP
		} else if errors.Is(err, built.ErrNoPart) {
			hint = "Name a package, or what was taken out of one; `ligare digest FILE` reads keystores and certificates."
		}
	}
	if err != nil {
		return &Problem{What: p.Name, Hint: hint, Err: err}
	}
	if p.Archive == nil {
		return nil
	}
	if !o.Bare {
		known, err := shipped()
		if err != nil {
			return err
		}
		for _, s := range slices.Sorted(maps.Keys(known)) {
			p.Sheets = append(p.Sheets, known[s])
		}
	}
	if p.Facts, err = p.Read(ctx, built.Options{Verify: o.Verify, Strings: o.Strings, Sheets: p.Sheets}); err != nil {
		return &Problem{What: p.Name, Hint: hint, Err: err}
	}
	return nil
}

func (p *Package) begins(with string) bool {
	b := make([]byte, len(with))
	_, err := p.file.ReadAt(b, 0)
	return err == nil && string(b) == with
}

// IsPackage reports whether a file's name is that of a built package.
func IsPackage(name string) bool {
	info, err := os.Stat(name)
	if err != nil || info.IsDir() {
		return false
	}
	for _, ext := range []string{".apk", ".aab", ".ipa"} {
		if strings.HasSuffix(strings.ToLower(name), ext) {
			return true
		}
	}
	return false
}
