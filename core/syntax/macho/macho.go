// Package macho reads what the code signature of an executable says: identifier, team, entitlements, who signed. It reads
// executables for one architecture and universal ones, from front to back, without keeping more than the signature.
//
// Sources: the platform's loader.h and fat.h for the container, cs_blobs.h for the signature; all of a signature's numbers
// are big-endian.
package macho

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
)

// Slice is one architecture of an executable.
type Slice struct {
	Architecture string
	Signed       bool
	Identifier   string
	Team         string
	Adhoc        bool
	Entitlements []byte // a property list in XML, nil for none
	DER          []byte // the entitlements in their binary form, which Entitlements reads; nil for none
	CMS          []byte // the signed message that holds the certificates; empty when nobody signed
}

// Bounds of what is read, in bytes.
const (
	maxCommands  = 4 << 20
	maxSignature = 32 << 20
	maxSlices    = 32
	maxParts     = 64 // of a signature; real ones have up to ten
	maxPart      = 4 << 20
)

// reader reads a stream from front to back.
type reader struct {
	r  io.Reader
	at int64
}

func (r *reader) take(n int64) ([]byte, error) {
	b := make([]byte, n)
	k, err := io.ReadFull(r.r, b)
	r.at += int64(k)
	if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
		return nil, errors.New("the executable is cut off")
	}
	return b, err
}

func (r *reader) to(at int64) error {
	if at < r.at {
		return errors.New("the parts of the executable lie over each other")
	}
	n, err := io.CopyN(io.Discard, r.r, at-r.at)
	r.at += n
	if errors.Is(err, io.EOF) {
		return errors.New("the executable is cut off")
	}
	return err
}

// part is where a slice lies in a universal executable.
type part struct {
	at, size int64
	cpu, sub uint32
}

// Read reads an executable.
func Read(src io.Reader) ([]Slice, error) {
	r := &reader{r: src}
	head, err := r.take(8)
	if err != nil {
		return nil, err
	}
	magic := binary.BigEndian.Uint32(head)
	if magic != 0xcafebabe && magic != 0xcafebabf {
		s, err := r.slice(head, 0)
		if err != nil {
			return nil, err
		}
		return []Slice{*s}, nil
	}
	n := binary.BigEndian.Uint32(head[4:])
	if n > maxSlices {
		return nil, fmt.Errorf("a universal executable says that it has %d architectures", n)
	}
	var parts []part
	for range n {
		if magic == 0xcafebabf {
			b, err := r.take(32)
			if err != nil {
				return nil, err
			}
			parts = append(parts, part{int64(binary.BigEndian.Uint64(b[8:])), int64(binary.BigEndian.Uint64(b[16:])), binary.BigEndian.Uint32(b), binary.BigEndian.Uint32(b[4:])})
			continue
		}
		b, err := r.take(20)
		if err != nil {
			return nil, err
		}
		parts = append(parts, part{int64(binary.BigEndian.Uint32(b[8:])), int64(binary.BigEndian.Uint32(b[12:])), binary.BigEndian.Uint32(b), binary.BigEndian.Uint32(b[4:])})
	}
	slices.SortFunc(parts, func(a, b part) int { return int(max(min(a.at-b.at, 1), -1)) })
	var out []Slice
	for _, p := range parts {
		if err := r.to(p.at); err != nil {
			return out, err
		}
		head, err := r.take(8)
		if err != nil {
			return out, err
		}
		s, err := r.slice(head, p.at)
		if err != nil {
			return out, fmt.Errorf("%s: %w", architecture(p.cpu, p.sub), err)
		}
		out = append(out, *s)
	}
	return out, nil
}

const codeSignature = 0x1d

// slice reads one architecture, whose first eight bytes are read already.
func (r *reader) slice(head []byte, base int64) (*Slice, error) {
	var order binary.ByteOrder = binary.LittleEndian
	long := int64(0)
	switch binary.LittleEndian.Uint32(head) {
	case 0xfeedface:
	case 0xfeedfacf:
		long = 4
	default:
		switch binary.BigEndian.Uint32(head) {
		case 0xfeedface:
			order = binary.BigEndian
		case 0xfeedfacf:
			order, long = binary.BigEndian, 4
		default:
			return nil, errors.New("it is no executable of the platform")
		}
	}
	rest, err := r.take(20 + long)
	if err != nil {
		return nil, err
	}
	s := &Slice{Architecture: architecture(order.Uint32(head[4:]), order.Uint32(rest))}
	count, size := order.Uint32(rest[8:]), order.Uint32(rest[12:])
	if size > maxCommands {
		return nil, fmt.Errorf("its load commands say that they have %d bytes", size)
	}
	commands, err := r.take(int64(size))
	if err != nil {
		return nil, err
	}
	for i := uint32(0); i < count; i++ {
		if len(commands) < 8 {
			return nil, errors.New("its load commands are cut off")
		}
		kind, n := order.Uint32(commands), order.Uint32(commands[4:])
		if n < 8 || int64(n) > int64(len(commands)) {
			return nil, fmt.Errorf("load command %d says that it has %d bytes", i+1, n)
		}
		if kind == codeSignature && n >= 16 {
			at, length := int64(order.Uint32(commands[8:])), int64(order.Uint32(commands[12:]))
			if length > maxSignature {
				return nil, fmt.Errorf("its code signature says that it has %d bytes", length)
			}
			if err := r.to(base + at); err != nil {
				return nil, err
			}
			b, err := r.take(length)
			if err != nil {
				return nil, err
			}
			return s, s.signature(b)
		}
		commands = commands[n:]
	}
	return s, nil
}

func architecture(cpu, sub uint32) string {
	sub &= 0xFFFFFF
	switch cpu {
	case 0x0100000c:
		if sub == 2 {
			return "arm64e"
		}
		return "arm64"
	case 12:
		return map[uint32]string{6: "armv6", 9: "armv7", 11: "armv7s", 12: "armv7k"}[sub]
	case 7:
		return "i386"
	case 0x01000007:
		return "x86_64"
	case 0x0200000c:
		return "arm64_32"
	}
	return fmt.Sprintf("cpu %d", cpu)
}

// Magic numbers of a signature's parts.
const (
	magicSuper        = 0xfade0cc0
	magicDirectory    = 0xfade0c02
	magicEntitlements = 0xfade7171
	magicDER          = 0xfade7172
	magicMessage      = 0xfade0b01
)

// signature reads the parts of a code signature.
func (s *Slice) signature(b []byte) error {
	s.Signed = true
	if len(b) < 12 || binary.BigEndian.Uint32(b) != magicSuper {
		return errors.New("its code signature is of a kind that is not known here")
	}
	n := int64(binary.BigEndian.Uint32(b[8:]))
	if n*8 > int64(len(b)-12) || n > maxParts {
		return fmt.Errorf("its code signature says that it has %d parts", n)
	}
	for i := range int(n) {
		kind, at := binary.BigEndian.Uint32(b[12+i*8:]), int64(binary.BigEndian.Uint32(b[16+i*8:]))
		if at+8 > int64(len(b)) {
			return errors.New("a part of its code signature lies behind its end")
		}
		p := b[at:]
		length := int64(binary.BigEndian.Uint32(p[4:]))
		if length < 8 || length > int64(len(p)) {
			return errors.New("a part of its code signature is cut off")
		}
		if p = p[:length]; length > maxPart {
			return fmt.Errorf("a part of its code signature says that it has %d bytes", length)
		}
		switch magic := binary.BigEndian.Uint32(p); {
		case magic == magicDirectory && (kind == 0 || s.Identifier == ""):
			if err := s.directory(p); err != nil {
				return err
			}
		case magic == magicEntitlements:
			s.Entitlements = bytes.Clone(p[8:])
		case magic == magicDER:
			s.DER = bytes.Clone(p[8:])
		case magic == magicMessage:
			s.CMS = bytes.Clone(p[8:])
		}
	}
	return nil
}

// directory reads identifier, team and flags.
func (s *Slice) directory(p []byte) error {
	if len(p) < 44 {
		return errors.New("its code directory is cut off")
	}
	text := func(at uint32) string {
		if at == 0 || int64(at) >= int64(len(p)) {
			return ""
		}
		t, _, _ := bytes.Cut(p[at:], []byte{0})
		return strings.ToValidUTF8(string(t), "\uFFFD")
	}
	version := binary.BigEndian.Uint32(p[8:])
	s.Adhoc = binary.BigEndian.Uint32(p[12:])&2 != 0
	s.Identifier = text(binary.BigEndian.Uint32(p[20:]))
	if version >= 0x20200 && len(p) >= 52 {
		s.Team = text(binary.BigEndian.Uint32(p[48:]))
	}
	return nil
}
