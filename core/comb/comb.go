// Package comb looks for secrets in files by digests of them: whoever looks is not told what to look for. The server makes
// a Handout; a Comber finds every place where one of its secrets stands, also in Base64, URL-encoded or in UTF-16, at any
// offset, while it reads a file once in pieces.
//
// For each secret a Handout holds two digests. The rolling one covers a window of a few characters inside the random part
// and is cut to 24 bits: it points to places worth a look, and gives away no more than those bits, however often it is
// asked for, as a team's table never changes. The other is HMAC-SHA-256 (RFC 2104) over the whole secret under a key that
// is new for every handout; it decides. A secret whose random part is so short that it could be found out by trying is
// never handed out.
package comb

import (
	"bytes"
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/binary"
	"fmt"
	"io"
	"math"
	"math/bits"
)

const (
	// Window is how many bytes the rolling digest covers.
	Window = 16
	// Longest is the length of a secret, in bytes, up to which it can be looked for.
	Longest = 8 << 10
	// least is how many bits a secret must have that nobody can guess, after the 24 of its rolling digest are told.
	least = 80

	rollingBits = 24
	piece       = 1 << 20 // bytes read at once
	keep        = 64 << 10
)

// Kind says what a needle is.
type Kind string

// What is looked for.
const (
	ServerSecret Kind = "server secret"
	TestKey      Kind = "test key"    // a client's, past its end
	PrivateKey   Kind = "private key" // found without a handout
)

// Secret is what the server makes a needle of.
type Secret struct {
	ID    string
	Kind  Kind
	Say   string // whose it is, in words
	Value string
	From  int // where its random part begins, in bytes
}

// Needle is one secret as it is handed out.
type Needle struct {
	ID      string `json:"id"`
	Kind    Kind   `json:"kind"`
	Say     string `json:"say"`
	Offset  int    `json:"offset"`  // of the window, in bytes
	Length  int    `json:"length"`  // of the whole, in bytes
	Rolling uint32 `json:"rolling"` // 24 bits
	Digest  []byte `json:"digest"`  // HMAC-SHA-256 of the whole under the handout's key
}

// Unsought is a secret that is not looked for.
type Unsought struct {
	ID  string `json:"id"`
	Say string `json:"say"`
	Why string `json:"why"`
}

// Handout is what is needed to recognise secrets.
type Handout struct {
	Table    []byte     `json:"table"` // seed of the rolling digest's table, 32 bytes, the same for a team always
	Key      []byte     `json:"key"`   // of the needles' digests, 32 bytes, new every time
	Needles  []Needle   `json:"needles"`
	Unsought []Unsought `json:"unsought"`
}

// Make makes a handout: on the server, where the secrets are.
func Make(table, key []byte, list []Secret) *Handout {
	h := &Handout{Table: table, Key: key, Needles: []Needle{}, Unsought: []Unsought{}}
	t := expand(table)
	for _, s := range list {
		at, why := window(s)
		if why != "" {
			h.Unsought = append(h.Unsought, Unsought{s.ID, s.Say, why})
			continue
		}
		h.Needles = append(h.Needles, Needle{ID: s.ID, Kind: s.Kind, Say: s.Say, Offset: at, Length: len(s.Value), Rolling: roll(t, s.Value[at:at+Window]), Digest: digest(key, []byte(s.Value))})
	}
	return h
}

// window chooses where a secret's window lies, and refuses secrets that it is not safe or not possible to look for.
func window(s Secret) (at int, why string) {
	if len(s.Value) > Longest {
		return 0, fmt.Sprintf("it is longer than %d bytes", Longest)
	}
	if b := Bits(s.Value[min(s.From, len(s.Value)):]); b-rollingBits < least {
		return 0, "it is so short that it could be found out from what is needed to recognise it"
	}
	best, length := -1, 0
	for i := min(s.From, len(s.Value)); i < len(s.Value); {
		j := i
		for j < len(s.Value) && token[s.Value[j]] {
			j++
		}
		if j-i > length {
			best, length = i, j-i
		}
		i = j + 1
	}
	if length < Window {
		return 0, fmt.Sprintf("it has no %d characters in a row of the kinds that secrets are made of", Window)
	}
	return best + (length-Window)/2, ""
}

// Bits estimates how many bits of a text nobody can guess: its length times what one character of its kinds can tell.
func Bits(s string) float64 {
	var digit, lower, upper, other, beyond bool
	distinct := map[byte]bool{}
	for i := range len(s) {
		c := s[i]
		distinct[c] = true
		switch {
		case c >= '0' && c <= '9':
			digit = true
		case c >= 'a' && c <= 'f':
			lower = true
		case c >= 'A' && c <= 'F':
			upper = true
		case c >= 'g' && c <= 'z' || c >= 'G' && c <= 'Z':
			beyond = true
		default:
			other = true
		}
	}
	n := 0
	switch {
	case beyond && (upper || lower):
		n = 36
	case beyond:
		n = 26
	case lower || upper:
		n = 6
	}
	if digit {
		n += 10
	}
	if beyond && digit {
		n -= 10
	}
	if other {
		n += 2
	}
	n = min(n, 2*len(distinct)) // few different characters tell little, however long
	if n < 2 {
		return 0
	}
	return float64(len(s)) * math.Log2(float64(n))
}

// token are the characters that the windows of secrets consist of: those of Base64 (RFC 4648, sections 4 and 5).
var token = func() (t [256]bool) {
	for _, c := range []byte("ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/-_") {
		t[c] = true
	}
	return t
}()

// expand makes the table of a rolling digest from its seed.
func expand(seed []byte) *[256]uint32 {
	var t [256]uint32
	for i := range 32 {
		sum := sha256.Sum256(append(bytes.Clone(seed), byte(i)))
		for j := range 8 {
			t[i*8+j] = binary.BigEndian.Uint32(sum[j*4:])
		}
	}
	return &t
}

// roll gives the rolling digest of one window: a cyclic polynomial (Cohen 1997), cut to its low 24 bits.
func roll(t *[256]uint32, window string) uint32 {
	var h uint32
	for i := range len(window) {
		h = bits.RotateLeft32(h, 1) ^ t[window[i]]
	}
	return h & (1<<rollingBits - 1)
}

func digest(key, text []byte) []byte {
	m := hmac.New(sha256.New, key)
	m.Write(text)
	return m.Sum(nil)
}

// Hit is a place where something was found.
type Hit struct {
	Needle   *Needle // nil for a private key
	Kind     Kind
	Offset   int64  // in bytes; of an encoded one, where its encoded form begins or shortly before
	Line     int    // counted from 1
	Column   int    // in bytes, counted from 1
	Encoding string // plain, Base64, URL-encoded, UTF-16
}

// Comber looks for the secrets of one handout. It may be used by several goroutines at once.
type Comber struct {
	h      *Handout
	table  *[256]uint32
	out    [256]uint32 // the table turned by the window's length: what leaves it
	filter [1 << 10]uint64
	by     map[uint32][]*Needle
}

// New makes a comber.
func New(h *Handout) *Comber {
	c := &Comber{h: h, table: expand(h.Table), by: map[uint32][]*Needle{}}
	for i := range c.out {
		c.out[i] = bits.RotateLeft32(c.table[i], Window)
	}
	for i := range h.Needles {
		n := &h.Needles[i]
		c.filter[n.Rolling&0xFFFF>>6] |= 1 << (n.Rolling & 63)
		c.by[n.Rolling] = append(c.by[n.Rolling], n)
	}
	return c
}

// state is the reading of one file.
type state struct {
	*Comber
	buf   []byte
	base  int64 // of the buffer in the file
	line  int   // line ends before the buffer
	last  int64 // where the line began in which the buffer begins
	end   bool  // the buffer reaches to the end
	seen  map[seen]bool
	found func(Hit)
	spare []byte
}

type seen struct {
	needle *Needle
	at     int64
}

// Buffers holds what reading takes, so that it can be used again for the next file.
type Buffers struct{ main, spare []byte }

// Scan reads a file to its end and reports what is found, each place once, in no order. Memory stays under 3 MB.
func (c *Comber) Scan(ctx context.Context, r io.Reader, b *Buffers, found func(Hit)) error {
	if b.main == nil {
		b.main = make([]byte, keep+piece)
	}
	s := &state{Comber: c, found: found, spare: b.spare}
	defer func() { b.spare = s.spare }()
	have := 0
	for !s.end {
		if err := ctx.Err(); err != nil {
			return err
		}
		n, err := io.ReadFull(r, b.main[have:])
		if err != nil && err != io.EOF && err != io.ErrUnexpectedEOF {
			return err
		}
		s.end = err != nil
		s.buf = b.main[:have+n]
		s.scan()
		if s.end {
			return nil
		}
		gone := len(s.buf) - keep
		s.line += bytes.Count(s.buf[:gone], []byte("\n"))
		if i := bytes.LastIndexByte(s.buf[:gone], '\n'); i >= 0 {
			s.last = s.base + int64(i) + 1
		}
		s.base += int64(gone)
		have = copy(b.main, s.buf[gone:])
	}
	return nil
}

// scan looks through the buffer.
func (s *state) scan() {
	s.keys()
	if len(s.by) == 0 {
		return
	}
	s.runs(s.buf, 0, "plain")
	s.escaped()
	s.wide()
}

// runs visits the runs of token characters that are long enough for a window; most bytes of a text are jumped over.
// at is where text stands in the buffer, -1-at when it was decoded from what begins there.
func (s *state) runs(text []byte, at int, how string) {
	low := 0
	for i := Window - 1; i < len(text); {
		if !token[text[i]] {
			i += Window
			continue
		}
		from := i
		for from > low && token[text[from-1]] {
			from--
		}
		to := i + 1
		for to < len(text) && token[text[to]] {
			to++
		}
		if to-from >= Window {
			s.plain(text, from, to, at, how)
			s.base64(text, from, to, at, how)
		}
		low = to
		i = to + Window
	}
}

// plain rolls through a run. The whole text is at hand, as a secret may reach beyond the run.
func (s *state) plain(text []byte, from, to, at int, how string) {
	var h uint32
	for i := from; i < from+Window; i++ {
		h = bits.RotateLeft32(h, 1) ^ s.table[text[i]]
	}
	for i := from + Window; ; i++ {
		if s.filter[h&0xFFFF>>6]&(1<<(h&63)) != 0 {
			s.candidate(text, i-Window, h, at, how)
		}
		if i >= to {
			return
		}
		h = bits.RotateLeft32(h, 1) ^ s.table[text[i]] ^ s.out[text[i-Window]]
	}
}

// candidate decides by the digest over the whole.
func (s *state) candidate(text []byte, window int, h uint32, at int, how string) {
	for _, n := range s.by[h&(1<<rollingBits-1)] {
		start := window - n.Offset
		if start < 0 || start+n.Length > len(text) || !hmac.Equal(digest(s.h.Key, text[start:start+n.Length]), n.Digest) {
			continue
		}
		where := at + start
		if at < 0 {
			where = -1 - at
		}
		s.report(Hit{Needle: n, Kind: n.Kind, Encoding: how}, where)
	}
}

func (s *state) report(h Hit, where int) {
	h.Offset = s.base + int64(where)
	key := seen{h.Needle, h.Offset}
	if s.seen[key] {
		return
	}
	if s.seen == nil {
		s.seen = map[seen]bool{}
	}
	s.seen[key] = true
	h.Line = s.line + bytes.Count(s.buf[:where], []byte("\n")) + 1
	start := s.last
	if i := bytes.LastIndexByte(s.buf[:where], '\n'); i >= 0 {
		start = s.base + int64(i) + 1
	}
	h.Column = int(h.Offset-start) + 1
	s.found(h)
}

// sextet gives the six bits of a Base64 character of either alphabet.
var sextet = func() (t [256]byte) {
	for i, c := range []byte("ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789") {
		t[c] = byte(i)
	}
	t['+'], t['-'], t['/'], t['_'] = 62, 62, 63, 63
	return t
}()

// encoded is how many characters of Base64 a window takes at least.
const encoded = (Window*8 + 5) / 6

// base64 decodes a run of Base64 characters at each of the four alignments a text inside can have. Lines that were
// wrapped are put together first, also where the line end is written as an escape.
func (s *state) base64(text []byte, from, to, at int, how string) {
	run := text[from:to]
	if to-from >= 40 { // a line that was wrapped may go on
		for end := to; ; {
			next := lineBreak(text, end)
			stop := next
			for stop < len(text) && token[text[stop]] {
				stop++
			}
			if next == end || stop == next {
				break
			}
			if end == to {
				run = append(s.spare[:0], run...)
			}
			run = append(run, text[next:stop]...)
			end, s.spare = stop, run
			if len(run) > keep {
				break
			}
		}
	}
	if len(run) < encoded {
		return
	}
	where := at + from
	if at < 0 {
		where = -1 - at
	}
	name := "Base64"
	if how != "plain" {
		name = how + ", Base64"
	}
	plain := make([]byte, 0, len(run)*3/4+3)
	for shift := range 4 {
		plain = plain[:0]
		i := shift
		for ; i+4 <= len(run); i += 4 {
			v := uint32(sextet[run[i]])<<18 | uint32(sextet[run[i+1]])<<12 | uint32(sextet[run[i+2]])<<6 | uint32(sextet[run[i+3]])
			plain = append(plain, byte(v>>16), byte(v>>8), byte(v))
		}
		switch len(run) - i {
		case 2:
			plain = append(plain, sextet[run[i]]<<2|sextet[run[i+1]]>>4)
		case 3:
			v := uint32(sextet[run[i]])<<12 | uint32(sextet[run[i+1]])<<6 | uint32(sextet[run[i+2]])
			plain = append(plain, byte(v>>10), byte(v>>2))
		}
		s.decoded(plain, where, name)
	}
}

// lineBreak steps over a line end, or one written \n, and the blanks that begin the next line. It gives where it was
// when there is none.
func lineBreak(text []byte, at int) int {
	i := at
	switch {
	case bytes.HasPrefix(text[i:], []byte("\r\n")):
		i += 2
	case i < len(text) && text[i] == '\n':
		i++
	case bytes.HasPrefix(text[i:], []byte(`\r\n`)):
		return i + 4
	case bytes.HasPrefix(text[i:], []byte(`\n`)):
		return i + 2
	default:
		return at
	}
	for i < len(text) && (text[i] == ' ' || text[i] == '\t') {
		i++
	}
	return i
}

// decoded looks through a text that was decoded from what begins at a place of the buffer.
func (s *state) decoded(text []byte, where int, how string) {
	if len(text) < Window {
		return
	}
	low := 0
	for i := Window - 1; i < len(text); {
		if !token[text[i]] {
			i += Window
			continue
		}
		from, to := i, i+1
		for from > low && token[text[from-1]] {
			from--
		}
		for to < len(text) && token[text[to]] {
			to++
		}
		if to-from >= Window {
			s.plain(text, from, to, -1-where, how)
		}
		low, i = to, to+Window
	}
}

// inAddress are the characters that an address or a form's body consists of, besides token characters.
func inAddress(c byte) bool { return token[c] || bytes.IndexByte([]byte("%.~=&:?@!$'()*,;"), c) >= 0 }

// escaped decodes texts with percent escapes (RFC 3986, section 2.1) and looks through them.
func (s *state) escaped() {
	for i := 0; ; {
		j := bytes.IndexByte(s.buf[i:], '%')
		if j < 0 {
			return
		}
		at := i + j
		if _, ok := unescape(s.buf, at); !ok {
			i = at + 1
			continue
		}
		from, to := at, at
		for from > 0 && at-from < Longest*3 && inAddress(s.buf[from-1]) {
			from--
		}
		for to < len(s.buf) && to-at < keep && inAddress(s.buf[to]) {
			to++
		}
		text := make([]byte, 0, to-from)
		for k := from; k < to; k++ {
			if c, ok := unescape(s.buf, k); ok {
				text = append(text, c)
				k += 2
			} else {
				text = append(text, s.buf[k])
			}
		}
		s.runs(text, -1-from, "URL-encoded")
		i = to
	}
}

func unescape(b []byte, at int) (byte, bool) {
	if at+2 >= len(b) || b[at] != '%' {
		return 0, false
	}
	hi, ok1 := nibble(b[at+1])
	lo, ok2 := nibble(b[at+2])
	return hi<<4 | lo, ok1 && ok2
}

func nibble(c byte) (byte, bool) {
	switch {
	case c >= '0' && c <= '9':
		return c - '0', true
	case c >= 'a' && c <= 'f':
		return c - 'a' + 10, true
	case c >= 'A' && c <= 'F':
		return c - 'A' + 10, true
	}
	return 0, false
}

// wide looks through texts of which every second byte is zero: UTF-16, of either byte order.
func (s *state) wide() {
	for i := 0; ; {
		j := bytes.IndexByte(s.buf[i:], 0)
		if j < 0 {
			return
		}
		at := i + j // a zero; the character stands before it or behind it
		i = at + 1
		if at == 0 || at+2 >= len(s.buf) || !token[s.buf[at-1]] || !token[s.buf[at+1]] || s.buf[at+2] != 0 {
			continue
		}
		from := at - 1
		text := s.spare[:0]
		k := from
		for k < len(s.buf) && s.buf[k] != 0 && s.buf[k] < 0x80 {
			text = append(text, s.buf[k])
			if k+1 < len(s.buf) && s.buf[k+1] != 0 { // the last one, of a text whose zeros stand before
				break
			}
			k += 2
		}
		s.spare = text
		if len(text) >= Window {
			s.decoded(text, from, "UTF-16")
		}
		i = max(i, k-1)
	}
}

var (
	keyMark = []byte("PRIVATE KEY-----")
	begin   = []byte("-----BEGIN ")
)

// keys finds private keys in PEM (RFC 7468, section 10), also where their line ends are written as escapes. A mark
// without a key behind it, as programs have it that read keys, is none.
func (s *state) keys() {
	for i := 0; ; {
		j := bytes.Index(s.buf[i:], keyMark)
		if j < 0 {
			return
		}
		at := i + j
		i = at + len(keyMark)
		from := bytes.LastIndex(s.buf[max(0, at-32):at], begin)
		if from < 0 {
			continue
		}
		from += max(0, at-32)
		n := 0
		for k := i; k < len(s.buf) && k-i < 400 && n < 64; {
			if next := lineBreak(s.buf, k); next != k {
				k = next
				continue
			}
			if !token[s.buf[k]] && s.buf[k] != '"' && s.buf[k] != ',' && s.buf[k] != '\'' {
				break
			}
			if token[s.buf[k]] {
				n++
			}
			k++
		}
		if n >= 64 {
			s.report(Hit{Kind: PrivateKey, Encoding: "plain"}, from)
		}
	}
}
