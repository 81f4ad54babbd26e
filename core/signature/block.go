// Package signature reads and verifies how Android packages are signed: the signing block with schemes 2, 3 and 3.1 and
// the lineage of rotated keys, and the older signature of a Java archive (scheme 1), which bundles carry too.
//
// Sources: Android Open Source Project, "APK signature scheme v2", "v3" and "v3.1"; JAR file specification, "Signed JAR
// file".
package signature

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math"
)

// Scheme is one way a package is signed.
type Scheme string

// Schemes.
const (
	V1  Scheme = "1"
	V2  Scheme = "2"
	V3  Scheme = "3"
	V31 Scheme = "3.1"
)

var blockIDs = map[uint32]Scheme{0x7109871a: V2, 0xf05368c0: V3, 0x1b93ad61: V31}

// Signed is one signer of one scheme.
type Signed struct {
	Scheme       Scheme
	Certificates [][]byte // DER, that of the signer first
	MinSDK       int      // versions of the platform it counts for; 0 for any
	MaxSDK       int
	Lineage      []Ancestor // oldest first; empty when the key was never rotated
	Stripped     []Scheme   // schemes that were there when it was signed: one that is missing was taken away

	digests, signatures map[uint32][]byte
	key, data           []byte // the signer's public key; what its signatures are over
}

// Ancestor is one certificate of a lineage, with what its holder may still do.
type Ancestor struct {
	Certificate   []byte
	Flags         uint32
	algorithm     uint32 // with which it signed the next
	signedData    []byte
	signature     []byte
	signedWithOne uint32
}

// What an ancestor may still do.
var abilities = []struct {
	flag uint32
	name string
}{{1, "installed data"}, {2, "shared user ID"}, {4, "permissions"}, {8, "rollback"}, {16, "accounts"}}

// Abilities names what an ancestor may still do.
func (a Ancestor) Abilities() []string {
	var out []string
	for _, x := range abilities {
		if a.Flags&x.flag != 0 {
			out = append(out, x.name)
		}
	}
	return out
}

// Block is where a package's parts lie, and what its signing block holds.
type Block struct {
	Signers        []Signed
	Others         []uint32 // IDs of what else the block holds
	start          int64    // of the signing block; of the directory when there is none
	directory, end int64    // the central directory, and the record at its end
	size           int64
	endRecord      []byte
	HasBlock       bool
}

// largest bounds a signing block, in bytes.
const largest = 32 << 20

// ErrNoZIP is given for a file that is no ZIP archive.
var ErrNoZIP = errors.New("it is no ZIP archive, or its end is cut off")

// Find finds the parts of a package and reads its signing block. A package without a block has no signers of schemes 2
// and later; that is no error.
func Find(r io.ReaderAt, size int64) (*Block, error) {
	b := &Block{size: size}
	if err := b.findEnd(r); err != nil {
		return nil, err
	}
	b.start = b.directory
	if b.directory < 32 {
		return b, nil
	}
	foot := make([]byte, 24)
	if _, err := r.ReadAt(foot, b.directory-24); err != nil {
		return nil, err
	}
	if string(foot[8:]) != "APK Sig Block 42" {
		return b, nil
	}
	n := binary.LittleEndian.Uint64(foot)
	if n < 24 || n > largest || int64(n)+8 > b.directory {
		return nil, fmt.Errorf("the signing block says that it has %d bytes", n)
	}
	b.start = b.directory - int64(n) - 8
	whole := make([]byte, n+8)
	if _, err := r.ReadAt(whole, b.start); err != nil {
		return nil, err
	}
	if binary.LittleEndian.Uint64(whole) != n {
		return nil, errors.New("the signing block gives two sizes")
	}
	b.HasBlock = true
	return b, b.read(whole[8 : len(whole)-24])
}

// findEnd finds the record at the end of the central directory (ZIP application note, section 4.3.16).
func (b *Block) findEnd(r io.ReaderAt) error {
	for _, tail := range []int64{1 << 10, 22 + 1<<16} {
		tail = min(tail, b.size)
		buf := make([]byte, tail)
		if _, err := r.ReadAt(buf, b.size-tail); err != nil && !errors.Is(err, io.EOF) {
			return err
		}
		for i := len(buf) - 22; i >= 0; i-- {
			if binary.LittleEndian.Uint32(buf[i:]) != 0x06054b50 || int(binary.LittleEndian.Uint16(buf[i+20:])) != len(buf)-i-22 {
				continue
			}
			b.end, b.endRecord = b.size-tail+int64(i), buf[i:]
			b.directory = int64(binary.LittleEndian.Uint32(buf[i+16:]))
			if b.directory == math.MaxUint32 {
				if err := b.findLarge(r); err != nil {
					return err
				}
			}
			if b.directory > b.end {
				return errors.New("the archive's directory lies behind its end")
			}
			return nil
		}
	}
	return ErrNoZIP
}

// findLarge finds the directory of an archive that is too large for the record at the end (section 4.3.14).
func (b *Block) findLarge(r io.ReaderAt) error {
	wrong := errors.New("the record that says where the archive's directory lies is cut off")
	locator := make([]byte, 20)
	if b.end < 20 {
		return wrong
	}
	if _, err := r.ReadAt(locator, b.end-20); err != nil {
		return err
	}
	at := binary.LittleEndian.Uint64(locator[8:])
	if binary.LittleEndian.Uint32(locator) != 0x07064b50 || at > uint64(b.end-20) {
		return wrong
	}
	record := make([]byte, 56)
	if _, err := r.ReadAt(record, int64(at)); err != nil {
		return err
	}
	directory := binary.LittleEndian.Uint64(record[48:])
	if binary.LittleEndian.Uint32(record) != 0x06064b50 || directory > at {
		return wrong
	}
	b.directory = int64(directory)
	return nil
}

// Count counts the entries of the archive's directory, up to a bound, and gives the directory's size in bytes: what the
// archive says of both may be wrong.
func (b *Block) Count(r io.ReaderAt, most int) (count int, size int64, err error) {
	size = b.end - b.directory
	src := bufio.NewReaderSize(io.NewSectionReader(r, b.directory, size), 64<<10)
	head := make([]byte, 46)
	for count < most {
		if _, err := io.ReadFull(src, head); errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) || err == nil && binary.LittleEndian.Uint32(head) != 0x02014b50 {
			return count, size, nil
		} else if err != nil {
			return count, size, err
		}
		rest := int(binary.LittleEndian.Uint16(head[28:])) + int(binary.LittleEndian.Uint16(head[30:])) + int(binary.LittleEndian.Uint16(head[32:]))
		if _, err := src.Discard(rest); err != nil && !errors.Is(err, io.EOF) {
			return count, size, err
		}
		count++
	}
	return count, size, nil
}

func (b *Block) read(pairs []byte) error {
	for len(pairs) > 0 {
		if len(pairs) < 12 {
			return errors.New("the signing block is cut off")
		}
		n := binary.LittleEndian.Uint64(pairs)
		if n < 4 || n > uint64(len(pairs)-8) {
			return fmt.Errorf("a part of the signing block says that it has %d bytes", n)
		}
		id, value := binary.LittleEndian.Uint32(pairs[8:]), pairs[12:8+n]
		pairs = pairs[8+n:]
		scheme, known := blockIDs[id]
		if !known {
			b.Others = append(b.Others, id)
			continue
		}
		for _, s := range b.Signers {
			if s.Scheme == scheme {
				return fmt.Errorf("the signing block holds scheme %s twice", scheme)
			}
		}
		list, err := parts(value)
		if err != nil || len(list) != 1 {
			return fmt.Errorf("scheme %s: the list of signers is cut off", scheme)
		}
		signers, err := parts(list[0])
		if err != nil {
			return fmt.Errorf("scheme %s: %w", scheme, err)
		}
		if len(signers) > 10 {
			return fmt.Errorf("scheme %s has %d signers; the platform takes at most 10", scheme, len(signers))
		}
		for i, s := range signers {
			x, err := readSigner(scheme, s)
			if err != nil {
				return fmt.Errorf("scheme %s, signer %d: %w", scheme, i+1, err)
			}
			b.Signers = append(b.Signers, *x)
		}
	}
	return nil
}

var errCut = errors.New("it is cut off")

// part takes one length-prefixed part from the beginning.
func part(b []byte) (value, rest []byte, err error) {
	if len(b) < 4 {
		return nil, nil, errCut
	}
	n := binary.LittleEndian.Uint32(b)
	if int64(n) > int64(len(b)-4) {
		return nil, nil, errCut
	}
	return b[4 : 4+n], b[4+n:], nil
}

// parts takes length-prefixed parts to the end.
func parts(b []byte) (out [][]byte, err error) {
	for len(b) > 0 {
		var p []byte
		if p, b, err = part(b); err != nil {
			return nil, err
		}
		out = append(out, p)
	}
	return out, nil
}

func number(b []byte) (uint32, []byte, error) {
	if len(b) < 4 {
		return 0, nil, errCut
	}
	return binary.LittleEndian.Uint32(b), b[4:], nil
}

func readSigner(scheme Scheme, b []byte) (*Signed, error) {
	s := &Signed{Scheme: scheme}
	var err error
	if s.data, b, err = part(b); err != nil {
		return nil, err
	}
	if scheme != V2 {
		if s.MinSDK, s.MaxSDK, b, err = versions(b); err != nil {
			return nil, err
		}
	}
	list, b, err := part(b)
	if err != nil {
		return nil, err
	}
	if s.signatures, err = numbered(list); err != nil {
		return nil, fmt.Errorf("signatures: %w", err)
	}
	if s.key, _, err = part(b); err != nil {
		return nil, err
	}
	data := s.data
	if list, data, err = part(data); err != nil {
		return nil, err
	}
	if s.digests, err = numbered(list); err != nil {
		return nil, fmt.Errorf("digests: %w", err)
	}
	if list, data, err = part(data); err != nil {
		return nil, err
	}
	if s.Certificates, err = parts(list); err != nil {
		return nil, fmt.Errorf("certificates: %w", err)
	}
	if len(s.Certificates) == 0 {
		return nil, errors.New("it has no certificate")
	}
	if scheme != V2 {
		least, most, rest, err := versions(data)
		if err != nil {
			return nil, err
		}
		if least != s.MinSDK || most != s.MaxSDK {
			return nil, errors.New("the platform versions that are signed are others than those that are not")
		}
		data = rest
	}
	if list, _, err = part(data); err != nil {
		return nil, err
	}
	return s, s.attributes(list)
}

func versions(b []byte) (least, most int, rest []byte, err error) {
	x, b, err := number(b)
	if err != nil {
		return 0, 0, nil, err
	}
	y, b, err := number(b)
	return int(x), int(min(y, 1<<31-1)), b, err
}

// numbered reads parts that each begin with a number and hold one part.
func numbered(b []byte) (map[uint32][]byte, error) {
	list, err := parts(b)
	if err != nil {
		return nil, err
	}
	out := map[uint32][]byte{}
	for _, p := range list {
		id, rest, err := number(p)
		if err != nil {
			return nil, err
		}
		if out[id], _, err = part(rest); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// Attributes of a signer.
const (
	attributeStripped = 0xbeeff00d
	attributeLineage  = 0x3ba06f8c
	attributeRotation = 0x559f8b02 // of scheme 3: a signer of scheme 3.1 takes over from this platform version on
)

func (s *Signed) attributes(b []byte) error {
	list, err := parts(b)
	if err != nil {
		return fmt.Errorf("attributes: %w", err)
	}
	for _, p := range list {
		id, value, err := number(p)
		if err != nil {
			return fmt.Errorf("attributes: %w", err)
		}
		switch id {
		case attributeStripped:
			if n, _, err := number(value); err == nil && n == 3 {
				s.Stripped = append(s.Stripped, V3)
			}
		case attributeRotation:
			s.Stripped = append(s.Stripped, V31)
		case attributeLineage:
			if s.Lineage, err = readLineage(value); err != nil {
				return fmt.Errorf("lineage: %w", err)
			}
		}
	}
	return nil
}

// readLineage reads a proof of rotation: each certificate signed by the one before it.
func readLineage(b []byte) ([]Ancestor, error) {
	version, b, err := number(b)
	if err != nil {
		return nil, err
	}
	if version != 1 {
		return nil, fmt.Errorf("version %d is not known", version)
	}
	nodes, err := parts(b)
	if err != nil {
		return nil, err
	}
	var out []Ancestor
	for _, n := range nodes {
		var a Ancestor
		if a.signedData, n, err = part(n); err != nil {
			return nil, err
		}
		if a.Flags, n, err = number(n); err != nil {
			return nil, err
		}
		if a.algorithm, n, err = number(n); err != nil {
			return nil, err
		}
		if a.signature, _, err = part(n); err != nil {
			return nil, err
		}
		rest := a.signedData
		if a.Certificate, rest, err = part(rest); err != nil {
			return nil, err
		}
		if a.signedWithOne, _, err = number(rest); err != nil {
			return nil, err
		}
		for _, had := range out {
			if bytes.Equal(had.Certificate, a.Certificate) {
				return nil, errors.New("one certificate stands in it twice")
			}
		}
		out = append(out, a)
	}
	return out, nil
}
