package plist

import (
	"encoding/base64"
	"encoding/binary"
	"errors"
	"fmt"
	"math"
	"strconv"
	"time"
	"unicode/utf16"
)

// readBinary reads a binary property list (bplist00, as documented in Apple's CFBinaryPList.c). Offsets and references
// may be hostile: every one is checked, cycles are refused, and objects that many others refer to are counted each time
// they are read, so that memory stays within a small multiple of the input.
func readBinary(src []byte) (*Value, error) {
	if len(src) < 8+32 || string(src[:8]) != "bplist00" {
		return nil, errors.New("a binary property list of an unknown version, or cut short")
	}
	t := src[len(src)-32:]
	b := &binaryReader{src: src[:len(src)-32], offsetSize: int(t[6]), refSize: int(t[7]), budget: 8*len(src) + 64}
	count, top, table := binary.BigEndian.Uint64(t[8:]), binary.BigEndian.Uint64(t[16:]), binary.BigEndian.Uint64(t[24:])
	if b.offsetSize < 1 || b.offsetSize > 8 || b.refSize < 1 || b.refSize > 8 || table < 8 || table > uint64(len(b.src)) || count == 0 ||
		count > (uint64(len(b.src))-table)/uint64(b.offsetSize) || top >= count {
		return nil, errors.New("a binary property list whose trailer does not fit the file: it is cut short or damaged")
	}
	b.count, b.table = count, int(table)
	return b.object(top, map[uint64]bool{})
}

type binaryReader struct {
	src                 []byte
	offsetSize, refSize int
	count               uint64
	table               int
	budget              int // values that may still be made
}

func number(b []byte) uint64 {
	var n uint64
	for _, x := range b {
		n = n<<8 | uint64(x)
	}
	return n
}

func (b *binaryReader) slice(at, n uint64) ([]byte, error) {
	if at > uint64(len(b.src)) || n > uint64(len(b.src))-at {
		return nil, fmt.Errorf("offset %d: a value runs over the end of the file", at)
	}
	return b.src[at : at+n], nil
}

// length reads the count of a value: in the marker, or in an integer behind it.
func (b *binaryReader) length(at uint64, low byte) (n, next uint64, err error) {
	if low != 15 {
		return uint64(low), at + 1, nil
	}
	m, err := b.slice(at+1, 1)
	if err != nil {
		return 0, 0, err
	}
	if m[0]>>4 != 1 || m[0]&15 > 3 {
		return 0, 0, fmt.Errorf("offset %d: a length is expected", at+1)
	}
	size := uint64(1) << (m[0] & 15)
	raw, err := b.slice(at+2, size)
	if err != nil {
		return 0, 0, err
	}
	return number(raw), at + 2 + size, nil
}

func (b *binaryReader) object(ref uint64, on map[uint64]bool) (*Value, error) {
	if ref >= b.count {
		return nil, fmt.Errorf("a reference to object %d of %d", ref, b.count)
	}
	if on[ref] {
		return nil, fmt.Errorf("object %d contains itself", ref)
	}
	if len(on) > 512 {
		return nil, errors.New("values are nested too deeply")
	}
	if b.budget--; b.budget < 0 {
		return nil, errors.New("objects refer to each other so often that the values would outgrow the file many times over")
	}
	raw, err := b.slice(uint64(b.table)+ref*uint64(b.offsetSize), uint64(b.offsetSize))
	if err != nil {
		return nil, err
	}
	at := number(raw)
	marker, err := b.slice(at, 1)
	if err != nil {
		return nil, err
	}
	kind, low := marker[0]>>4, marker[0]&15
	switch {
	case marker[0] == 0x08:
		return &Value{Kind: False, Text: "false"}, nil
	case marker[0] == 0x09:
		return &Value{Kind: True, Text: "true"}, nil
	case kind == 1 && low <= 4:
		raw, err := b.slice(at+1, 1<<low)
		if err != nil {
			return nil, err
		}
		n := int64(number(raw[max(0, len(raw)-8):]))
		return &Value{Kind: Integer, Text: strconv.FormatInt(n, 10)}, nil
	case kind == 2 && (low == 2 || low == 3):
		raw, err := b.slice(at+1, 1<<low)
		if err != nil {
			return nil, err
		}
		x := math.Float64frombits(number(raw))
		if low == 2 {
			x = float64(math.Float32frombits(uint32(number(raw))))
		}
		return &Value{Kind: Real, Text: strconv.FormatFloat(x, 'g', -1, 64)}, nil
	case marker[0] == 0x33:
		raw, err := b.slice(at+1, 8)
		if err != nil {
			return nil, err
		}
		s := math.Float64frombits(number(raw))
		if math.IsNaN(s) || math.Abs(s) > 1e12 {
			return nil, fmt.Errorf("offset %d: a date out of range", at)
		}
		when := time.Date(2001, 1, 1, 0, 0, 0, 0, time.UTC).Add(time.Duration(s) * time.Second)
		return &Value{Kind: Date, Text: when.Format(time.RFC3339)}, nil
	}
	n, next, err := b.length(at, low)
	if err != nil {
		return nil, err
	}
	switch kind {
	case 4:
		raw, err := b.slice(next, n)
		return &Value{Kind: Data, Text: base64.StdEncoding.EncodeToString(raw)}, err
	case 5:
		raw, err := b.slice(next, n)
		return &Value{Kind: String, Text: string(raw)}, err
	case 6:
		if n > uint64(len(b.src)) {
			return nil, fmt.Errorf("offset %d: a value runs over the end of the file", at)
		}
		raw, err := b.slice(next, 2*n)
		if err != nil {
			return nil, err
		}
		units := make([]uint16, n)
		for i := range units {
			units[i] = binary.BigEndian.Uint16(raw[2*i:])
		}
		return &Value{Kind: String, Text: string(utf16.Decode(units))}, nil
	case 8:
		raw, err := b.slice(at+1, uint64(low)+1)
		return &Value{Kind: Integer, Text: strconv.FormatUint(number(raw), 10)}, err
	case 10, 12, 13:
		return b.container(ref, kind, n, next, on)
	}
	return nil, fmt.Errorf("offset %d: unknown kind %#x", at, marker[0])
}

func (b *binaryReader) container(ref uint64, kind byte, n, next uint64, on map[uint64]bool) (*Value, error) {
	refs := n
	if kind == 13 {
		refs *= 2
	}
	if n > uint64(len(b.src)) {
		return nil, errors.New("a container runs over the end of the file")
	}
	raw, err := b.slice(next, refs*uint64(b.refSize))
	if err != nil {
		return nil, err
	}
	at := func(i uint64) uint64 { return number(raw[i*uint64(b.refSize) : (i+1)*uint64(b.refSize)]) }
	on[ref] = true
	defer delete(on, ref)
	v := &Value{Kind: Array}
	if kind == 13 {
		v.Kind = Dict
		for i := range n {
			key, err := b.object(at(i), on)
			if err != nil {
				return nil, err
			}
			if key.Kind != String {
				return nil, errors.New("a dictionary's key is not a string")
			}
			val, err := b.object(at(n+i), on)
			if err != nil {
				return nil, err
			}
			v.Entries = append(v.Entries, Entry{Key: key.Text, Value: val})
		}
		return v, nil
	}
	for i := range n {
		val, err := b.object(at(i), on)
		if err != nil {
			return nil, err
		}
		v.Items = append(v.Items, val)
	}
	return v, nil
}
