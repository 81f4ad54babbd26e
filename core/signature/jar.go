package signature

import (
	"archive/zip"
	"bytes"
	"cmp"
	"context"
	"crypto"
	"crypto/x509"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"path"
	"slices"
	"strings"
	"sync"

	"ligare/core/cert"
)

// Archive is the signature of a Java archive (scheme 1), which stands among its entries.
type Archive struct {
	Signers []ArchiveSigner
}

// ArchiveSigner is one signature file with its certificates.
type ArchiveSigner struct {
	File         string // META-INF/CERT.SF
	Certificates [][]byte
	Err          error // why the block of the signature cannot be read, or does not hold
	Stripped     []string
	message      *cert.Message
}

// Bounds of what is read of a signature: file lists of large apps have some megabytes, and the platform takes ten signers.
const (
	biggest     = 24 << 20
	mostFields  = 1 << 20
	mostSigners = 10
)

var errBig = errors.New("it is larger than a file list can be")

func entry(files map[string]*zip.File, name string, limit int64) ([]byte, error) {
	f := files[name]
	if f == nil {
		return nil, fmt.Errorf("%s is missing", name)
	}
	if f.UncompressedSize64 > uint64(limit) {
		return nil, fmt.Errorf("%s: %w", name, errBig)
	}
	rc, err := f.Open()
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	defer rc.Close()
	b, err := io.ReadAll(io.LimitReader(rc, limit+1))
	if err != nil {
		return nil, fmt.Errorf("%s: %w", name, err)
	}
	if int64(len(b)) > limit {
		return nil, fmt.Errorf("%s: %w", name, errBig)
	}
	return b, nil
}

// ReadArchive reads who signed a Java archive, without looking at what was signed: Verify does. One without signatures has
// no signers.
func ReadArchive(z *zip.Reader) *Archive {
	files := byName(z)
	out := &Archive{}
	for _, f := range z.File {
		dir, base := path.Split(f.Name)
		if !strings.EqualFold(dir, "META-INF/") || !strings.EqualFold(path.Ext(base), ".SF") {
			continue
		}
		s := ArchiveSigner{File: f.Name}
		if len(out.Signers) == mostSigners {
			s.Err = fmt.Errorf("it is signed by more than %d; the platform takes no more", mostSigners)
			out.Signers = append(out.Signers, s)
			break
		}
		stem := strings.TrimSuffix(f.Name, path.Ext(f.Name))
		block := ""
		for _, ext := range []string{".RSA", ".DSA", ".EC", ".rsa", ".dsa", ".ec"} {
			if files[stem+ext] != nil {
				block = stem + ext
			}
		}
		if block == "" {
			s.Err = fmt.Errorf("%s has no signature beside it", f.Name)
			out.Signers = append(out.Signers, s)
			continue
		}
		var src []byte
		if src, s.Err = entry(files, block, 1<<20); s.Err == nil {
			s.Err = s.read(src)
		}
		out.Signers = append(out.Signers, s)
	}
	return out
}

func byName(z *zip.Reader) map[string]*zip.File {
	out := make(map[string]*zip.File, len(z.File))
	for _, f := range z.File {
		if out[f.Name] == nil {
			out[f.Name] = f
		}
	}
	return out
}

// read finds the certificate of who says to have signed, first, and those above it.
func (s *ArchiveSigner) read(src []byte) error {
	m, err := cert.ReadMessage(src)
	if err != nil {
		return fmt.Errorf("the signature of %s: %w", s.File, err)
	}
	s.message, s.Certificates = m, m.Raw
	if signers := m.Signers(); len(signers) > 0 {
		s.Certificates = chain(signers[0], m.Raw)
	}
	return nil
}

// signed verifies the signature over the signature file, and gives the file.
func (s *ArchiveSigner) signed(files map[string]*zip.File) ([]byte, error) {
	src, err := entry(files, s.File, biggest)
	if err != nil {
		return nil, err
	}
	signers, err := s.message.Verify(src)
	if err != nil {
		return nil, fmt.Errorf("the signature of %s: %w", s.File, err)
	}
	s.Certificates = chain(signers[0], s.message.Raw)
	if head, _ := sections(src); head != nil {
		for _, x := range strings.Split(head.get("X-Android-APK-Signed"), ",") {
			if x = strings.TrimSpace(x); x != "" {
				s.Stripped = append(s.Stripped, x)
			}
		}
	}
	return src, nil
}

func chain(first *x509.Certificate, all [][]byte) [][]byte {
	out := [][]byte{first.Raw}
	for _, c := range all {
		if !bytes.Equal(c, first.Raw) {
			out = append(out, c)
		}
	}
	return out
}

// section is one block of a manifest: names with values.
type section struct {
	raw    []byte
	fields [][2]string
}

func (s *section) get(name string) string {
	for _, f := range s.fields {
		if strings.EqualFold(f[0], name) {
			return f[1]
		}
	}
	return ""
}

// sections reads a manifest or a signature file: the main section, and one for each entry. Long lines go on in the next,
// after a blank.
func sections(src []byte) (head *section, entries []*section) {
	var cur *section
	start, fields := 0, 0
	finish := func(end int) {
		if cur != nil {
			cur.raw = src[start:end]
			if head == nil {
				head = cur
			} else {
				entries = append(entries, cur)
			}
			cur = nil
		}
	}
	for at := 0; at < len(src); {
		end := bytes.IndexAny(src[at:], "\r\n")
		next := len(src)
		if end < 0 {
			end = len(src)
		} else {
			end += at
			if next = end + 1; src[end] == '\r' && next < len(src) && src[next] == '\n' {
				next++
			}
		}
		line := src[at:end]
		switch {
		case len(line) == 0:
			finish(next)
			start = next
		case line[0] == ' ' && cur != nil && len(cur.fields) > 0:
			cur.fields[len(cur.fields)-1][1] += string(line[1:])
		default:
			if cur == nil {
				cur, start = &section{}, at
			}
			if fields++; fields > mostFields {
				finish(at)
				return head, entries
			}
			k, v, _ := strings.Cut(string(line), ":")
			cur.fields = append(cur.fields, [2]string{k, strings.TrimPrefix(v, " ")})
		}
		at = next
	}
	finish(len(src))
	return head, entries
}

var manifestHashes = []struct {
	name string
	hash crypto.Hash
}{{"SHA-512", crypto.SHA512}, {"SHA-384", crypto.SHA384}, {"SHA-256", crypto.SHA256}, {"SHA1", crypto.SHA1}, {"SHA-1", crypto.SHA1}, {"MD5", crypto.MD5}}

// digestOf gives the strongest digest that a section holds under a suffix.
func digestOf(s *section, suffix string) (crypto.Hash, []byte) {
	for _, h := range manifestHashes {
		if v := s.get(h.name + "-Digest" + suffix); v != "" && h.hash.Available() {
			if b, err := base64.StdEncoding.DecodeString(v); err == nil {
				return h.hash, b
			}
		}
	}
	return 0, nil
}

const manifest = "META-INF/MANIFEST.MF"

// Verify verifies every signature and the digest of every entry. The error is one of reading the archive; whether a
// signer's signature holds is said with the signer.
func (a *Archive) Verify(ctx context.Context, z *zip.Reader) error {
	files := byName(z)
	src, err := entry(files, manifest, biggest)
	if err != nil {
		for i := range a.Signers {
			if a.Signers[i].Err == nil {
				a.Signers[i].Err = err
			}
		}
		return nil
	}
	head, list := sections(src)
	named := map[string]*section{}
	for _, s := range list {
		named[s.get("Name")] = s
	}
	content, err := verifyEntries(ctx, z, named)
	if err != nil {
		return err
	}
	for i := range a.Signers {
		s := &a.Signers[i]
		var sf []byte
		if s.Err == nil {
			sf, s.Err = s.signed(files)
		}
		if s.Err == nil {
			s.Err = s.over(sf, src, head, named)
		}
		if s.Err == nil {
			s.Err = content
		}
	}
	return nil
}

// over verifies that a signature file is over this manifest: by the digest of the whole, or section by section.
func (s *ArchiveSigner) over(sf, src []byte, head *section, named map[string]*section) error {
	top, list := sections(sf)
	if top == nil {
		return fmt.Errorf("%s is empty", s.File)
	}
	if h, want := digestOf(top, "-Manifest"); h != 0 && bytes.Equal(sum(h, src), want) {
		return nil
	}
	if h, want := digestOf(top, "-Manifest-Main-Attributes"); h != 0 && (head == nil || !bytes.Equal(sum(h, head.raw), want)) {
		return fmt.Errorf("%s was changed after it was signed", manifest)
	}
	signed := map[string]bool{}
	for _, x := range list {
		name := x.get("Name")
		h, want := digestOf(x, "")
		m := named[name]
		if h == 0 || m == nil || !bytes.Equal(sum(h, m.raw), want) {
			return fmt.Errorf("%s was changed after it was signed, at %s", manifest, name)
		}
		signed[name] = true
	}
	for name := range named {
		if !signed[name] {
			return fmt.Errorf("%s is listed and was not signed", name)
		}
	}
	return nil
}

// listed is an entry with the digest that the manifest holds of it.
type listed struct {
	file *zip.File
	hash crypto.Hash
	want []byte
}

// verifyEntries compares every entry with its digest in the manifest. The first error says what does not agree. What
// unpacks to far more than any app does is not gone through.
func verifyEntries(ctx context.Context, z *zip.Reader, named map[string]*section) (wrong, unread error) {
	seen := map[string]bool{}
	var packed, unpacked uint64
	for _, f := range z.File {
		packed += f.CompressedSize64
	}
	var list []listed
	for _, f := range z.File {
		if unpacked += f.UncompressedSize64; unpacked > packed*64+256<<20 {
			return errors.New("its entries unpack to more than any app has; what they hold was not compared"), nil
		}
		if strings.HasSuffix(f.Name, "/") || ofSignature(f.Name) {
			continue
		}
		if seen[f.Name] {
			return fmt.Errorf("two entries are named %s", f.Name), nil
		}
		seen[f.Name] = true
		s := named[f.Name]
		if s == nil {
			return fmt.Errorf("%s was added after it was signed", f.Name), nil
		}
		h, want := digestOf(s, "")
		if h == 0 {
			return fmt.Errorf("%s has no digest that is known here", f.Name), nil
		}
		list = append(list, listed{f, h, want})
	}
	for name := range named {
		if !seen[name] && !ofSignature(name) {
			return fmt.Errorf("%s was taken out after it was signed", name), nil
		}
	}
	return compare(ctx, list)
}

// compare unpacks and hashes entries by all processors, the largest first.
func compare(ctx context.Context, list []listed) (wrong, unread error) {
	slices.SortStableFunc(list, func(a, b listed) int {
		return cmp.Or(cmp.Compare(a.hash, b.hash), -cmp.Compare(a.file.UncompressedSize64, b.file.UncompressedSize64))
	})
	var mu sync.Mutex
	first := 0 // the one that is told, however the work was shared
	for len(list) > 0 {
		n := 1
		for n < len(list) && list[n].hash == list[0].hash {
			n++
		}
		group := list[:n]
		list = list[n:]
		open := func(i int) io.Reader {
			return &sized{f: group[i].file, left: int64(min(group[i].file.UncompressedSize64, most))}
		}
		unread = parallel(ctx, n, group[0].hash, open, func(i int, sum []byte, err error) error {
			if err != nil {
				err = fmt.Errorf("%s: %w", group[i].file.Name, err)
			} else if !bytes.Equal(sum, group[i].want) {
				err = fmt.Errorf("%s was changed after it was signed", group[i].file.Name)
			}
			mu.Lock()
			defer mu.Unlock()
			if err != nil && (wrong == nil || i < first) {
				wrong, first = err, i
			}
			return nil
		})
		if wrong != nil || unread != nil {
			return wrong, unread
		}
	}
	return nil, nil
}

// sized reads an entry that must not be larger than it says. It is opened when reading begins.
type sized struct {
	f    *zip.File
	r    io.ReadCloser
	left int64
	err  error
}

func (s *sized) Read(p []byte) (int, error) {
	if s.r == nil && s.err == nil {
		s.r, s.err = s.f.Open()
	}
	if s.err != nil {
		return 0, s.err
	}
	n, err := s.r.Read(p)
	if s.left -= int64(n); s.left < 0 {
		err = errors.New("it is larger than it says")
	}
	if err != nil {
		s.err = err
		if closed := s.r.Close(); closed != nil && errors.Is(err, io.EOF) {
			s.err = closed
		}
	}
	return n, s.err
}

// most bounds what is unpacked of one entry: anything larger is no part of an app.
const most = 4 << 30

// ofSignature reports whether an entry belongs to the signature itself.
func ofSignature(name string) bool {
	dir, base := path.Split(strings.ToUpper(name))
	return dir == "META-INF/" && (base == "MANIFEST.MF" || slices.Contains([]string{".SF", ".RSA", ".DSA", ".EC"}, path.Ext(base)) || strings.HasPrefix(base, "SIG-"))
}
