// Package lanes makes SHA-256 digests (FIPS 180-4) of many messages at once, one in each lane of wide registers: where the
// processor has no instructions for SHA-256, several times faster than one message after the other. Digests are those of
// crypto/sha256, which takes over where that is the faster one.
package lanes

import (
	"crypto/sha256"
	"encoding"
	"encoding/binary"
	"errors"
	"hash"
	"io"
)

//go:generate go run gen.go

// Width is how many messages are worked on at once.
const Width = 8

// initial is the state before the first block (FIPS 180-4, section 5.3.3).
var initial = [8]uint32{0x6a09e667, 0xbb67ae85, 0x3c6ef372, 0xa54ff53a, 0x510e527f, 0x9b05688c, 0x1f83d9ab, 0x5be0cd19}

// buffered is how many bytes of each message are read ahead.
const buffered = 64 << 10

// Digest is the digest of a message, or why it could not be read.
type Digest struct {
	Sum [sha256.Size]byte
	Err error
}

// Message is a message that is to be hashed. Done gets its digest, once, from the goroutine that hashes.
type Message struct {
	From io.Reader
	Done func(Digest)
}

// Hash hashes messages until next gives nil. Several goroutines may share next when it may be called by several.
func Hash(next func() *Message) {
	if !Fast {
		buf := make([]byte, buffered)
		for m := next(); m != nil; m = next() {
			finish(m, sha256.New(), nil, buf)
		}
		return
	}
	h := &hasher{next: next}
	h.run()
}

// Sum hashes messages and gives their digests in the same order.
func Sum(messages []io.Reader) []Digest {
	out := make([]Digest, len(messages))
	at := -1
	Hash(func() *Message {
		if at++; at >= len(messages) {
			return nil
		}
		to := &out[at]
		return &Message{messages[at], func(d Digest) { *to = d }}
	})
	return out
}

// finish hashes what is left of one message.
func finish(m *Message, x hash.Hash, before, buf []byte) {
	var d Digest
	x.Write(before)
	if _, d.Err = io.CopyBuffer(x, struct{ io.Reader }{m.From}, buf); d.Err == nil {
		x.Sum(d.Sum[:0])
	}
	m.Done(d)
}

// lane is one message with what was read ahead of it.
type lane struct {
	m      *Message // nil for none
	buf    []byte
	at, to int
	ended  bool
	length uint64 // bytes that were hashed
}

type hasher struct {
	next  func() *Message
	state [8][Width]uint32
	lanes [Width]lane
	spare []byte // what lanes without a message work on
}

// fewest is with how many messages working side by side is faster than one after the other.
const fewest = 3

func (h *hasher) run() {
	h.spare = make([]byte, buffered)
	for {
		active, blocks := 0, buffered/sha256.BlockSize
		for i := range h.lanes {
			l := &h.lanes[i]
			for h.fill(i) && l.to-l.at < sha256.BlockSize {
				h.end(i) // it is over but for less than a block
			}
			if l.m != nil {
				active++
				blocks = min(blocks, (l.to-l.at)/sha256.BlockSize)
			}
		}
		if active < fewest { // there is no further message, or a lane would have it
			for i := range h.lanes {
				if h.lanes[i].m != nil {
					h.end(i)
				}
			}
			return
		}
		var data [Width]*byte
		for i := range h.lanes {
			if data[i] = &h.spare[0]; h.lanes[i].m != nil {
				data[i] = &h.lanes[i].buf[h.lanes[i].at]
			}
		}
		block8(&h.state, &data, blocks)
		for i := range h.lanes {
			h.lanes[i].at += blocks * sha256.BlockSize
			h.lanes[i].length += uint64(blocks * sha256.BlockSize)
		}
	}
}

// fill gives a lane a message when it has none, and reads ahead when less than a block is there. It reports whether the
// lane has a message.
func (h *hasher) fill(i int) bool {
	l := &h.lanes[i]
	if l.m == nil {
		if l.m = h.next(); l.m == nil {
			l.at = 0
			return false
		}
		if l.buf == nil {
			l.buf = make([]byte, buffered)
		}
		l.at, l.to, l.ended, l.length = 0, 0, false, 0
		for w, v := range initial {
			h.state[w][i] = v
		}
	}
	if l.ended || l.to-l.at >= sha256.BlockSize {
		return true
	}
	l.to, l.at = copy(l.buf, l.buf[l.at:l.to]), 0
	n, err := io.ReadFull(l.m.From, l.buf[l.to:])
	if l.to += n; err == nil {
		return true
	}
	if l.ended = true; !errors.Is(err, io.EOF) && !errors.Is(err, io.ErrUnexpectedEOF) {
		l.m.Done(Digest{Err: err})
		l.m = nil
		return h.fill(i)
	}
	return true
}

// end finishes a lane's message by itself.
func (h *hasher) end(i int) {
	l := &h.lanes[i]
	m, rest := l.m, append([]byte(nil), l.buf[l.at:l.to]...)
	l.m = nil
	x, err := h.resume(i, l.length)
	if err != nil {
		m.Done(Digest{Err: err})
		return
	}
	finish(m, x, rest, l.buf)
}

// resume gives the standard library's hash in the state of one lane, in the form that it writes its own state in.
func (h *hasher) resume(i int, length uint64) (hash.Hash, error) {
	b := append(make([]byte, 0, 108), "sha\x03"...)
	for w := range 8 {
		b = binary.BigEndian.AppendUint32(b, h.state[w][i])
	}
	b = append(b, make([]byte, sha256.BlockSize)...)
	b = binary.BigEndian.AppendUint64(b, length)
	x := sha256.New()
	return x, x.(encoding.BinaryUnmarshaler).UnmarshalBinary(b)
}
