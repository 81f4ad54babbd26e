// Package chunk reads the binary forms in which Android ships XML and resource tables: a tree of chunks, each with a type,
// a header and a size. It never trusts a size, a count or an offset: what does not fit is an error with its place.
//
// There is no specification but the platform's own header; the structures are named in this package as there
// (frameworks/base/libs/androidfw/include/androidfw/ResourceTypes.h).
package chunk

import (
	"encoding/binary"
	"fmt"
	"math"
	"strconv"
	"strings"
	"unicode/utf16"
	"unicode/utf8"
)

// Chunk types.
const (
	typePool      = 0x0001
	typeTable     = 0x0002
	typeXML       = 0x0003
	typeNamespace = 0x0100
	typeEnd       = 0x0101
	typeElement   = 0x0102
	typeClose     = 0x0103
	typeText      = 0x0104
	typeMap       = 0x0180
	typePackage   = 0x0200
	typeType      = 0x0201
	typeSpec      = 0x0202
)

// Error is something in the bytes that cannot be.
type Error struct {
	Offset int // in bytes
	Why    string
}

func (e *Error) Error() string { return fmt.Sprintf("at byte %d: %s", e.Offset, e.Why) }

func bad(offset int, format string, args ...any) error {
	return &Error{offset, fmt.Sprintf(format, args...)}
}

// header is the beginning of every chunk.
type header struct {
	kind       uint16
	head, size int // of the header, of the whole
	at         int
}

func readHeader(src []byte, at, end int) (header, error) {
	if at < 0 || end > len(src) || end-at < 8 {
		return header{}, bad(at, "a chunk is cut off")
	}
	h := header{kind: binary.LittleEndian.Uint16(src[at:]), head: int(binary.LittleEndian.Uint16(src[at+2:])), at: at}
	size := binary.LittleEndian.Uint32(src[at+4:])
	if int64(size) > int64(end-at) {
		return header{}, bad(at, "a chunk of %d bytes stands where %d are left", size, end-at)
	}
	h.size = int(size)
	if h.head < 8 || h.head > h.size {
		return header{}, bad(at, "a chunk of %d bytes says that its header has %d", h.size, h.head)
	}
	return h, nil
}

func u16(src []byte, at int) int { return int(binary.LittleEndian.Uint16(src[at:])) }
func u32(src []byte, at int) uint32 {
	return binary.LittleEndian.Uint32(src[at:])
}

// pool is a string pool: its strings are decoded when they are asked for.
type pool struct {
	src     []byte // of the chunk
	at      int    // of the chunk in the file
	count   int
	strings int // where they begin in src
	offsets int
	utf8    bool
	known   map[uint32]string // decoded already
	left    int               // bytes that may still be given out; see mostText
}

// mostText bounds, in bytes, what the strings of a document come to when every place that names one is counted: a long
// string named from everywhere would fill any memory.
const (
	mostText      = 16 << 20
	mostTableText = 64 << 20 // of a table's pool
)

func readPool(src []byte, h header) (*pool, error) {
	b := src[h.at : h.at+h.size]
	if h.head < 28 || len(b) < 28 {
		return nil, bad(h.at, "the header of a string pool is cut off")
	}
	p := &pool{src: b, at: h.at, offsets: h.head, utf8: u32(b, 16)&0x100 != 0, left: mostText}
	count, start := u32(b, 8), u32(b, 20)
	if int64(count)*4 > int64(len(b)-h.head) {
		return nil, bad(h.at, "a string pool of %d bytes says that it has %d strings", len(b), count)
	}
	if count > 0 && int64(start) > int64(len(b)) {
		return nil, bad(h.at, "the strings of a pool begin behind its end")
	}
	p.count, p.strings = int(count), int(start)
	return p, nil
}

// none is the index for no string.
const none = 0xFFFFFFFF

// get decodes one string. An index of none is the empty string.
func (p *pool) get(i uint32) (string, error) {
	if i == none {
		return "", nil
	}
	if p == nil || int64(i) >= int64(p.count) {
		return "", bad(0, "string %d of a pool that does not have it", i)
	}
	s, ok := p.known[i]
	if !ok {
		at := int64(p.strings) + int64(u32(p.src, p.offsets+int(i)*4))
		if at >= int64(len(p.src)) {
			return "", bad(p.at, "string %d lies behind its pool", i)
		}
		var err error
		if p.utf8 {
			s, err = p.utf8At(p.src[at:], i)
		} else {
			s, err = p.utf16At(p.src[at:], i)
		}
		if err != nil {
			return "", err
		}
		if p.known == nil {
			p.known = map[uint32]string{}
		}
		p.known[i] = s
	}
	if p.left -= len(s); p.left < 0 {
		return "", bad(p.at, "its strings come to more than any app has")
	}
	return s, nil
}

// utf8At decodes a string of two lengths: characters of UTF-16, then bytes of UTF-8, each of one or two bytes.
func (p *pool) utf8At(b []byte, i uint32) (string, error) {
	length := func() (int, bool) {
		if len(b) < 1 {
			return 0, false
		}
		n := int(b[0])
		if n&0x80 == 0 {
			b = b[1:]
			return n, true
		}
		if len(b) < 2 {
			return 0, false
		}
		n = n&0x7F<<8 | int(b[1])
		b = b[2:]
		return n, true
	}
	if _, ok := length(); !ok {
		return "", bad(p.at, "string %d is cut off", i)
	}
	n, ok := length()
	if !ok || n > len(b) {
		return "", bad(p.at, "string %d is cut off", i)
	}
	return modified(b[:n]), nil
}

// modified reads UTF-8 in which characters beyond the basic plane may stand as two surrogates.
func modified(b []byte) string {
	if utf8.Valid(b) {
		return string(b)
	}
	var out []uint16
	for len(b) > 0 {
		if len(b) >= 3 && b[0] == 0xED && b[1] >= 0xA0 {
			out = append(out, uint16(b[0]&0x0F)<<12|uint16(b[1]&0x3F)<<6|uint16(b[2]&0x3F))
			b = b[3:]
			continue
		}
		r, n := utf8.DecodeRune(b)
		out = utf16.AppendRune(out, r)
		b = b[n:]
	}
	return string(utf16.Decode(out))
}

func (p *pool) utf16At(b []byte, i uint32) (string, error) {
	if len(b) < 2 {
		return "", bad(p.at, "string %d is cut off", i)
	}
	n := u16(b, 0)
	b = b[2:]
	if n&0x8000 != 0 {
		if len(b) < 2 {
			return "", bad(p.at, "string %d is cut off", i)
		}
		n = n&0x7FFF<<16 | u16(b, 0)
		b = b[2:]
	}
	if n > len(b)/2 {
		return "", bad(p.at, "string %d is cut off", i)
	}
	units := make([]uint16, n)
	for k := range units {
		units[k] = uint16(u16(b, k*2))
	}
	return string(utf16.Decode(units)), nil
}

// Type of a value.
type Type byte

// Types of values.
const (
	Null       Type = 0x00
	Reference  Type = 0x01
	Attribute  Type = 0x02
	String     Type = 0x03
	Float      Type = 0x04
	Dimension  Type = 0x05
	Fraction   Type = 0x06
	DynamicRef Type = 0x07
	DynamicAtt Type = 0x08
	Decimal    Type = 0x10
	Hex        Type = 0x11
	Boolean    Type = 0x12
	firstColor Type = 0x1c
	lastColor  Type = 0x1f
)

// Value is one typed value.
type Value struct {
	Type Type
	Data uint32
	Text string // of a string
	Raw  string // how it was written, where the builder kept it
}

// IsReference reports whether the value is that of another resource.
func (v Value) IsReference() bool {
	return (v.Type == Reference || v.Type == DynamicRef) && v.Data != 0
}

// Int gives a whole number.
func (v Value) Int() (int64, bool) {
	if v.Type == Decimal || v.Type == Hex {
		return int64(int32(v.Data)), true
	}
	return 0, false
}

// String writes a value as the platform's tools do in text: numbers in the base they were written in, references as
// @0x7f010001.
func (v Value) String() string {
	switch v.Type {
	case String:
		return v.Text
	case Null:
		if v.Data == 1 {
			return "@empty"
		}
		return "@null"
	case Reference, DynamicRef:
		if v.Data == 0 {
			return "@null"
		}
		return fmt.Sprintf("@0x%08x", v.Data)
	case Attribute, DynamicAtt:
		return fmt.Sprintf("?0x%08x", v.Data)
	case Float:
		return strings.Replace(strconv.FormatFloat(float64(math.Float32frombits(v.Data)), 'G', -1, 32), "E+", "E", 1)
	case Decimal:
		return strconv.Itoa(int(int32(v.Data)))
	case Hex:
		return fmt.Sprintf("0x%x", v.Data)
	case Boolean:
		return strconv.FormatBool(v.Data != 0)
	case Dimension:
		return complexText(v.Data) + unit([]string{"px", "dp", "sp", "pt", "in", "mm"}, v.Data)
	case Fraction:
		return complexText(v.Data) + unit([]string{"%", "%p"}, v.Data)
	}
	if v.Type >= firstColor && v.Type <= lastColor {
		return fmt.Sprintf("#%08x", v.Data)
	}
	return fmt.Sprintf("(type 0x%02x) 0x%x", byte(v.Type), v.Data)
}

func unit(names []string, data uint32) string {
	if i := int(data & 0xF); i < len(names) {
		return names[i]
	}
	return ""
}

// complexText reads a number of 24 bits with its point at one of four places (Res_value, COMPLEX_RADIX).
func complexText(data uint32) string {
	f := float64(int32(data&0xFFFFFF00)) * []float64{1.0 / (1 << 8), 1.0 / (1 << 15), 1.0 / (1 << 23), 1.0 / (1 << 31)}[data>>4&3]
	return strconv.FormatFloat(f, 'g', 7, 64)
}

// readValue reads a Res_value of eight bytes.
func readValue(src []byte, at int, p *pool) (Value, error) {
	if at < 0 || at+8 > len(src) {
		return Value{}, bad(at, "a value is cut off")
	}
	v := Value{Type: Type(src[at+3]), Data: u32(src, at+4)}
	if v.Type == String {
		var err error
		if v.Text, err = p.get(v.Data); err != nil {
			return v, bad(at, "a value: %v", err)
		}
	}
	return v, nil
}
