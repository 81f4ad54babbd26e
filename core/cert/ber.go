package cert

import "errors"

// tlv is one value of BER or DER (ITU-T X.690). Constructed strings and indefinite lengths, which older tools write, are
// read too.
type tlv struct {
	class, tag  int
	constructed bool
	body        []byte // of a primitive value
	kids        []tlv
	raw         []byte // header included
}

var (
	errBER  = errors.New("it is cut short or no valid ASN.1")
	errDeep = errors.New("ASN.1 values are nested too deeply")
)

const maxDepth = 40

// readBER reads one value and gives what follows it.
func readBER(b []byte, depth int) (v tlv, rest []byte, err error) {
	if depth > maxDepth {
		return v, nil, errDeep
	}
	if len(b) < 2 {
		return v, nil, errBER
	}
	v.class, v.constructed, v.tag = int(b[0]>>6), b[0]&0x20 != 0, int(b[0]&0x1F)
	if v.tag == 0x1F { // long tags do not occur in these formats
		return v, nil, errBER
	}
	n, at := int(b[1]), 2
	if n&0x80 != 0 {
		size := n & 0x7F
		if size == 0 {
			return readIndefinite(v, b, depth)
		}
		if size > 4 || len(b) < 2+size {
			return v, nil, errBER
		}
		n = 0
		for _, x := range b[2 : 2+size] {
			n = n<<8 | int(x)
		}
		at += size
	}
	if n < 0 || n > len(b)-at {
		return v, nil, errBER
	}
	v.raw = b[:at+n]
	v.body, rest = b[at:at+n], b[at+n:]
	if v.constructed {
		for in := v.body; len(in) > 0; {
			var k tlv
			if k, in, err = readBER(in, depth+1); err != nil {
				return v, nil, err
			}
			v.kids = append(v.kids, k)
		}
	}
	return v, rest, nil
}

func readIndefinite(v tlv, b []byte, depth int) (tlv, []byte, error) {
	if !v.constructed {
		return v, nil, errBER
	}
	in := b[2:]
	for {
		if len(in) < 2 {
			return v, nil, errBER
		}
		if in[0] == 0 && in[1] == 0 {
			v.raw = b[:len(b)-len(in)+2]
			v.body = b[2 : len(b)-len(in)]
			return v, in[2:], nil
		}
		k, rest, err := readBER(in, depth+1)
		if err != nil {
			return v, nil, err
		}
		v.kids, in = append(v.kids, k), rest
	}
}

// octets gives the content of an octet string, in pieces or not.
func (v tlv) octets() []byte {
	if !v.constructed {
		return v.body
	}
	var out []byte
	for _, k := range v.kids {
		out = append(out, k.octets()...)
	}
	return out
}

func (v tlv) is(class, tag int) bool { return v.class == class && v.tag == tag }

// at gives a kid by index, or an empty value.
func (v tlv) at(path ...int) tlv {
	for _, i := range path {
		if i >= len(v.kids) {
			return tlv{class: -1}
		}
		v = v.kids[i]
	}
	return v
}

// oid gives an object identifier in dotted form, "" for anything else.
func (v tlv) oid() string {
	if !v.is(0, 6) || len(v.body) == 0 {
		return ""
	}
	var out []byte
	n := 0
	first := true
	for _, b := range v.body {
		if n > 1<<24 {
			return ""
		}
		n = n<<7 | int(b&0x7F)
		if b&0x80 != 0 {
			continue
		}
		if first {
			a := min(n/40, 2)
			out = appendInt(append(appendInt(out, a), '.'), n-40*a)
			first = false
		} else {
			out = appendInt(append(out, '.'), n)
		}
		n = 0
	}
	return string(out)
}

func appendInt(b []byte, n int) []byte {
	if n >= 10 {
		b = appendInt(b, n/10)
	}
	return append(b, byte('0'+n%10))
}

// integer gives a small integer; -1 for one that is none.
func (v tlv) integer() int {
	if !v.is(0, 2) || len(v.body) == 0 || len(v.body) > 4 || v.body[0]&0x80 != 0 {
		return -1
	}
	n := 0
	for _, b := range v.body {
		n = n<<8 | int(b)
	}
	return n
}

// cons writes a value in DER.
func cons(tag byte, parts ...[]byte) []byte {
	n := 0
	for _, p := range parts {
		n += len(p)
	}
	out := []byte{tag}
	switch {
	case n < 0x80:
		out = append(out, byte(n))
	case n < 0x100:
		out = append(out, 0x81, byte(n))
	case n < 0x10000:
		out = append(out, 0x82, byte(n>>8), byte(n))
	default:
		out = append(out, 0x83, byte(n>>16), byte(n>>8), byte(n))
	}
	for _, p := range parts {
		out = append(out, p...)
	}
	return out
}
