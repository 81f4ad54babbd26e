package signature

import (
	"bytes"
	"context"
	"crypto"
	"crypto/sha256"
	"crypto/x509"
	"encoding/binary"
	"errors"
	"fmt"
	"hash"
	"io"
	"runtime"
	"slices"
	"sync"
	"sync/atomic"

	"ligare/core/cert"
	"ligare/core/signature/lanes"
)

// algorithm is how a signer signs, and how the content's digest is made.
type algorithm struct {
	hash   crypto.Hash
	pss    bool
	tree   bool // the digest is the root of a hash tree, for files that are verified while they are read
	better int
}

var algorithms = map[uint32]algorithm{
	0x0101: {crypto.SHA256, true, false, 1}, 0x0102: {crypto.SHA512, true, false, 2},
	0x0103: {crypto.SHA256, false, false, 1}, 0x0104: {crypto.SHA512, false, false, 2},
	0x0201: {crypto.SHA256, false, false, 1}, 0x0202: {crypto.SHA512, false, false, 2}, 0x0301: {crypto.SHA256, false, false, 1},
	0x0421: {crypto.SHA256, false, true, 0}, 0x0423: {crypto.SHA256, false, true, 0}, 0x0425: {crypto.SHA256, false, true, 0},
}

// Verdict is whether one signer's signature holds.
type Verdict struct {
	Scheme Scheme
	Signer int
	Err    error // nil when it holds
}

// Verify verifies every signer of schemes 2 and later over the whole file. Contents are read once for each kind of digest,
// by all processors.
func (b *Block) Verify(ctx context.Context, r io.ReaderAt) ([]Verdict, error) {
	made := map[algorithm][]byte{} // digests of the content, by how they are made
	var out []Verdict
	for i := range b.Signers {
		s := &b.Signers[i]
		v := Verdict{Scheme: s.Scheme, Signer: i}
		if v.Err = s.signed(); v.Err == nil {
			v.Err = s.descended()
		}
		if v.Err == nil {
			var readable error
			v.Err, readable = b.content(ctx, r, s, made)
			if readable != nil {
				return nil, readable
			}
		}
		if v.Err == nil {
			for _, want := range s.Stripped {
				if !b.has(want) {
					v.Err = fmt.Errorf("scheme %s was there when it was signed, and was taken away", want)
				}
			}
		}
		out = append(out, v)
	}
	return out, nil
}

func (b *Block) has(s Scheme) bool {
	return slices.ContainsFunc(b.Signers, func(x Signed) bool { return x.Scheme == s })
}

// signed verifies the signatures over the signer's data.
func (s *Signed) signed() error {
	key, err := x509.ParsePKIXPublicKey(s.key)
	if err != nil {
		return fmt.Errorf("its public key cannot be read: %w", err)
	}
	var ids []uint32
	for id := range s.signatures {
		if _, known := algorithms[id]; known {
			ids = append(ids, id)
		}
	}
	if len(ids) == 0 {
		return errors.New("it is signed with no algorithm that is known here")
	}
	slices.Sort(ids)
	for _, id := range ids {
		a := algorithms[id]
		if err := cert.VerifyDigest(key, a.hash, a.pss, sum(a.hash, s.data), s.signatures[id]); err != nil {
			return err
		}
	}
	for id := range s.signatures {
		if s.digests[id] == nil {
			return errors.New("its signatures and its digests are made with different algorithms")
		}
	}
	if len(s.signatures) != len(s.digests) {
		return errors.New("its signatures and its digests are made with different algorithms")
	}
	c, err := x509.ParseCertificate(s.Certificates[0])
	if err != nil {
		return fmt.Errorf("its certificate cannot be read: %w", err)
	}
	if !bytes.Equal(c.RawSubjectPublicKeyInfo, s.key) {
		return errors.New("its key is not that of its certificate")
	}
	return nil
}

// descended verifies that each certificate of a lineage was signed by the one before it, and that the last is the signer's.
func (s *Signed) descended() error {
	for i, a := range s.Lineage {
		if i == 0 {
			continue
		}
		before := s.Lineage[i-1]
		c, err := x509.ParseCertificate(before.Certificate)
		if err != nil {
			return fmt.Errorf("a certificate of its lineage cannot be read: %w", err)
		}
		how, known := algorithms[before.algorithm]
		if !known || before.algorithm != a.signedWithOne {
			return errors.New("its lineage is signed with an algorithm that does not fit")
		}
		if err := cert.VerifyDigest(c.PublicKey, how.hash, how.pss, sum(how.hash, a.signedData), a.signature); err != nil {
			return fmt.Errorf("its lineage breaks between certificate %d and %d: %w", i, i+1, err)
		}
	}
	if n := len(s.Lineage); n > 0 && !bytes.Equal(s.Lineage[n-1].Certificate, s.Certificates[0]) {
		return errors.New("its lineage ends with another certificate than its own")
	}
	return nil
}

func sum(h crypto.Hash, b []byte) []byte {
	x := h.New()
	x.Write(b)
	return x.Sum(nil)
}

// content compares the digests of the content with the file. The second error is one of reading the file.
func (b *Block) content(ctx context.Context, r io.ReaderAt, s *Signed, made map[algorithm][]byte) (wrong, unread error) {
	looked := false
	for id, want := range s.digests {
		a, known := algorithms[id]
		if !known {
			continue
		}
		looked = true
		kind := algorithm{hash: a.hash, tree: a.tree}
		got := made[kind]
		if got == nil {
			var err error
			if a.tree {
				got, err = b.treeDigest(r)
			} else {
				got, err = b.chunkDigest(ctx, r, a.hash)
			}
			if err != nil {
				return nil, err
			}
			made[kind] = got
		}
		if !bytes.Equal(got, want) {
			return errors.New("the file was changed after it was signed: its content has another digest"), nil
		}
	}
	if !looked {
		return errors.New("it has no digest that is known here"), nil
	}
	return nil, nil
}

// sections gives what is signed: everything but the block, with the record at the end as if the directory began where the
// block does.
func (b *Block) sections(r io.ReaderAt) []*io.SectionReader {
	end := slices.Clone(b.endRecord)
	binary.LittleEndian.PutUint32(end[16:], uint32(b.start))
	return []*io.SectionReader{
		io.NewSectionReader(r, 0, b.start),
		io.NewSectionReader(r, b.directory, b.end-b.directory),
		io.NewSectionReader(bytes.NewReader(end), 0, int64(len(end))),
	}
}

const piece = 1 << 20

// chunkDigest makes the digest of pieces of a megabyte ("Integrity-protected contents").
func (b *Block) chunkDigest(ctx context.Context, r io.ReaderAt, h crypto.Hash) ([]byte, error) {
	var jobs []piecePlace
	for _, s := range b.sections(r) {
		for at := int64(0); at < s.Size(); at += piece {
			jobs = append(jobs, piecePlace{s, at, min(piece, s.Size()-at)})
		}
	}
	size := h.Size()
	digests := make([]byte, len(jobs)*size)
	err := parallel(ctx, len(jobs), h, func(i int) io.Reader { return jobs[i].message() }, func(i int, sum []byte, err error) error {
		copy(digests[i*size:], sum)
		return err
	})
	if err != nil {
		return nil, err
	}
	top := h.New()
	head := []byte{0x5a, 0, 0, 0, 0}
	binary.LittleEndian.PutUint32(head[1:], uint32(len(jobs)))
	top.Write(head)
	top.Write(digests)
	return top.Sum(nil), nil
}

// piecePlace is one piece of what is signed.
type piecePlace struct {
	of    *io.SectionReader
	at, n int64
}

// message gives a piece as it is hashed: a mark and its length before it.
func (p piecePlace) message() io.Reader {
	head := binary.LittleEndian.AppendUint32([]byte{0xa5}, uint32(p.n))
	return io.MultiReader(bytes.NewReader(head), io.NewSectionReader(p.of, p.at, p.n))
}

// parallel hashes n messages by all processors. open gives one, done takes its digest; an error of done ends it.
func parallel(ctx context.Context, n int, h crypto.Hash, open func(int) io.Reader, done func(i int, sum []byte, err error) error) error {
	var next atomic.Int64
	workers := max(min(runtime.GOMAXPROCS(0), n, 16), 1)
	failed := make([]error, workers)
	var all sync.WaitGroup
	for w := range workers {
		take := func() *lanes.Message {
			i := int(next.Add(1)) - 1
			if i >= n || failed[w] != nil || ctx.Err() != nil {
				return nil
			}
			return &lanes.Message{From: open(i), Done: func(d lanes.Digest) {
				if err := done(i, d.Sum[:], d.Err); err != nil && failed[w] == nil {
					failed[w] = err
				}
			}}
		}
		all.Go(func() {
			if h == crypto.SHA256 {
				lanes.Hash(take)
				return
			}
			buf := make([]byte, 256<<10)
			for i := int(next.Add(1)) - 1; i < n && failed[w] == nil && ctx.Err() == nil; i = int(next.Add(1)) - 1 {
				x := h.New()
				_, err := io.CopyBuffer(x, struct{ io.Reader }{open(i)}, buf)
				failed[w] = done(i, x.Sum(nil), err)
			}
		})
	}
	all.Wait()
	if err := errors.Join(failed...); err != nil {
		return err
	}
	return ctx.Err()
}

const page = 4096

// treeDigest makes the root of a hash tree over pages, with eight zero bytes before each, and the length behind it.
func (b *Block) treeDigest(r io.ReaderAt) ([]byte, error) {
	var level []byte
	var total int64
	buf := make([]byte, page)
	fill := 0
	flush := func() {
		level = append(level, salted(sha256.New(), buf)...)
		clear(buf)
		fill = 0
	}
	for _, s := range b.sections(r) {
		total += s.Size()
		for {
			n, err := s.Read(buf[fill:])
			if fill += n; fill == page {
				flush()
			}
			if errors.Is(err, io.EOF) {
				break
			}
			if err != nil {
				return nil, err
			}
		}
	}
	if fill > 0 {
		flush()
	}
	for len(level) > page {
		var up []byte
		for at := 0; at < len(level); at += page {
			clear(buf)
			copy(buf, level[at:])
			up = append(up, salted(sha256.New(), buf)...)
		}
		level = up
	}
	clear(buf)
	copy(buf, level)
	return binary.LittleEndian.AppendUint64(salted(sha256.New(), buf), uint64(total)), nil
}

func salted(h hash.Hash, b []byte) []byte {
	h.Write(make([]byte, 8))
	h.Write(b)
	return h.Sum(nil)
}
