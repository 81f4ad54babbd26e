package built

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"

	"ligare/core/signature"
	"ligare/core/syntax/chunk"
	"ligare/core/syntax/message"
	"ligare/core/syntax/plist"
)

// Parts of packages that are read by themselves.
const (
	Manifest     Kind = "manifest"
	Resources    Kind = "resource table"
	Provisioning Kind = "provisioning profile"
	Binary       Kind = "executable"
	Properties   Kind = "property list"
)

// maxPart bounds a part that is read into memory, in bytes.
const maxPart = maxTable

// ErrNoPart is given for a file that is neither a package nor a part of one.
var ErrNoPart = errors.New("it is neither an APK, AAB or IPA nor a part of one: manifest, resource table, provisioning profile, executable, Info.plist")

// Part reads a part of a package that was taken out of it: what it is follows from its content.
func Part(r io.ReaderAt, size int64) (*Facts, error) {
	head := make([]byte, 4)
	if n, err := r.ReadAt(head, 0); n < 4 {
		if err == nil || errors.Is(err, io.EOF) {
			err = ErrNoPart
		}
		return nil, err
	}
	out := &Facts{Size: size, Files: []File{}}
	if macho := binary.BigEndian.Uint32(head); macho == 0xcafebabe || macho == 0xcafebabf || macho == 0xcefaedfe || macho == 0xcffaedfe || macho == 0xfeedface || macho == 0xfeedfacf {
		out.Kind = Binary
		s, _, problems := readExecutable(io.NewSectionReader(r, 0, size), "the executable")
		if s == nil {
			return nil, errors.New(problems[0])
		}
		out.Executable, out.Notes = s, problems
		return out, nil
	}
	if size > maxPart {
		return nil, problem("", "it has %d bytes; of a part at most %d are read", size, maxPart)
	}
	src := make([]byte, size)
	if _, err := io.ReadFull(io.NewSectionReader(r, 0, size), src); err != nil {
		return nil, err
	}
	switch {
	case head[0] == 3 && head[1] == 0:
		top, err := chunk.XML(src)
		if err != nil {
			return nil, err
		}
		return out.ofManifest(top)
	case head[0] == 2 && head[1] == 0:
		t, err := chunk.Read(src)
		if err != nil {
			return nil, err
		}
		return out.ofTable(t)
	case head[0] == 0x30:
		p, err := readProfile(src)
		if p == nil {
			return nil, fmt.Errorf("%w (its property list: %w)", ErrNoPart, err)
		}
		if out.Kind, out.Profile = Provisioning, p; err != nil {
			out.Notes = append(out.Notes, err.Error())
		}
		return out, nil
	case bytes.HasPrefix(src, []byte("bplist")) || bytes.Contains(src[:min(len(src), 1024)], []byte("<plist")):
		f, err := plist.Parse(src)
		if err != nil {
			return nil, err
		}
		x := ofPropertyList(f)
		out.Kind, out.IOS = Properties, []*App{x}
		return out, nil
	}
	if top, err := message.XML(src); err == nil && top.Name == "manifest" {
		return out.ofManifest(top)
	}
	if t, err := message.Read(src); err == nil && t.Len() > 0 {
		return out.ofTable(t)
	}
	return nil, ErrNoPart
}

func (f *Facts) ofManifest(top *chunk.Element) (*Facts, error) {
	a := &Archive{Kind: Manifest, Block: &signature.Block{}, table: noTable{}}
	var err error
	if f.Android, err = a.androidFacts(top, noTable{}, false); err != nil {
		return nil, err
	}
	f.Kind = Manifest
	f.Notes = append(a.notes, "what refers to a resource is not followed: the resource table is not here")
	return f, nil
}

func (f *Facts) ofTable(t table) (*Facts, error) {
	x := &android{a: &Archive{table: t}, t: t, out: &Android{Permissions: []Permission{}, Metadata: []Metadata{}, Components: []Component{}}}
	if err := x.strings(); err != nil {
		return nil, err
	}
	f.Kind, f.Android, f.Notes = Resources, x.out, x.a.notes
	return f, nil
}
