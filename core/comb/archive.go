package comb

import (
	"archive/zip"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"path"
	"strings"
)

// Bounds of what is unpacked of one archive in bytes, and how deep archives in archives are followed.
const (
	mostUnpacked = 2 << 30
	mostInner    = 64 << 20
	deepArchives = 3
)

// Archive looks through what is packed in a ZIP archive: a built package, a library, a copy that somebody made. Entries that
// are stored as they are show with the file itself, and are passed over. found gets the entry; skipped says what was not
// looked through to its end. Something that only begins like an archive holds nothing.
func (c *Comber) Archive(ctx context.Context, r io.ReaderAt, size int64, b *Buffers, found func(entry string, h Hit)) (skipped []string, err error) {
	a := &archive{c: c, b: b, found: found, left: mostUnpacked}
	err = a.entries(ctx, "", r, size, 1)
	return a.skipped, err
}

type archive struct {
	c       *Comber
	b       *Buffers
	found   func(entry string, h Hit)
	left    int64
	skipped []string
}

func (a *archive) skip(format string, args ...any) {
	if len(a.skipped) < 100 {
		a.skipped = append(a.skipped, fmt.Sprintf(format, args...))
	}
}

func (a *archive) entries(ctx context.Context, in string, r io.ReaderAt, size int64, depth int) error {
	z, err := zip.NewReader(r, size)
	if err != nil && !errors.Is(err, zip.ErrInsecurePath) {
		return nil
	}
	for _, e := range z.File {
		if err := ctx.Err(); err != nil {
			return err
		}
		if strings.HasSuffix(e.Name, "/") || e.Method == zip.Store && depth == 1 && !packed(e.Name) {
			continue
		}
		if err := a.entry(ctx, in+e.Name, e, depth); err != nil {
			return err
		}
		if a.left <= 0 {
			a.skip("it unpacks to more than %d MB and was not looked through to its end", mostUnpacked>>20)
			return nil
		}
	}
	return nil
}

// packed reports whether an entry is an archive itself.
func packed(name string) bool {
	switch path.Ext(name) {
	case ".jar", ".aar", ".zip", ".apk", ".apks", ".aab", ".ipa":
		return true
	}
	return false
}

func (a *archive) entry(ctx context.Context, name string, e *zip.File, depth int) error {
	rc, err := e.Open()
	if err != nil {
		a.skip("%s: %v", name, err)
		return nil
	}
	defer rc.Close()
	var src io.Reader = io.LimitReader(rc, a.left+1)
	switch {
	case !packed(e.Name):
	case depth >= deepArchives:
		a.skip("%s: archives in it are not followed so deep", name)
	case e.UncompressedSize64 > mostInner:
		a.skip("%s has more than %d MB, and what is packed in it was not looked through", name, mostInner>>20)
	default:
		inner, err := io.ReadAll(io.LimitReader(rc, mostInner))
		if err != nil {
			a.skip("%s cannot be unpacked to its end: %v", name, err)
		}
		a.left -= int64(len(inner))
		if err := a.entries(ctx, name+"!", bytes.NewReader(inner), int64(len(inner)), depth+1); err != nil {
			return err
		}
		src = bytes.NewReader(inner)
	}
	counted := &Counted{From: src}
	err = a.c.Scan(ctx, counted, a.b, func(h Hit) { a.found(name, h) })
	a.left -= counted.Bytes
	if err != nil && ctx.Err() == nil {
		a.skip("%s cannot be unpacked to its end: %v", name, err)
		return nil
	}
	return err
}

// Counted reads, and counts the bytes.
type Counted struct {
	From  io.Reader
	Bytes int64
}

// Read reads from what is counted.
func (c *Counted) Read(p []byte) (int, error) {
	n, err := c.From.Read(p)
	c.Bytes += int64(n)
	return n, err
}
