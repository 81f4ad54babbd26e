package lanes

import (
	"bytes"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"testing"
	"testing/iotest"
)

func check(t *testing.T, messages [][]byte) {
	t.Helper()
	var readers []io.Reader
	for i, m := range messages {
		var r io.Reader = bytes.NewReader(m)
		if i%3 == 1 {
			r = iotest.HalfReader(r)
		}
		readers = append(readers, r)
	}
	for i, d := range Sum(readers) {
		if d.Err != nil || d.Sum != sha256.Sum256(messages[i]) {
			t.Errorf("message %d of %d with %d bytes: %x %v", i, len(messages), len(messages[i]), d.Sum, d.Err)
		}
	}
}

// The digests are those of the standard library, for messages of any lengths, also on a processor where it is faster.
func TestDigestsAreThoseOfTheStandardLibrary(t *testing.T) {
	was := Fast
	defer func() { Fast = was }()
	if Fast = able(); !Fast {
		t.Log("this processor works on one message after the other")
	}
	r := rand.New(rand.NewPCG(1, 2))
	var near [][]byte
	for _, n := range []int{0, 1, 55, 56, 63, 64, 65, 119, 120, 127, 128, buffered - 1, buffered, buffered + 1, 3 * buffered, 3*buffered + 64} {
		m := make([]byte, n)
		for i := range m {
			m[i] = byte(r.Uint32())
		}
		near = append(near, m)
		same := [][]byte{}
		for i := range Width {
			x := bytes.Clone(m)
			if n > 0 {
				x[n/2] ^= byte(i)
			}
			same = append(same, x)
		}
		check(t, same)
	}
	check(t, near)
	for range 40 {
		var list [][]byte
		for range r.IntN(30) {
			list = append(list, near[r.IntN(len(near))][:])
		}
		check(t, list)
	}
}

func TestAMessageThatCannotBeRead(t *testing.T) {
	was := Fast
	defer func() { Fast = was }()
	for _, Fast = range []bool{false, able()} {
		var readers []io.Reader
		for i := range Width {
			readers = append(readers, bytes.NewReader(bytes.Repeat([]byte{byte(i)}, 200_000)))
		}
		broken := errors.New("broken")
		readers[2] = io.MultiReader(bytes.NewReader(make([]byte, 70_000)), iotest.ErrReader(broken))
		for i, d := range Sum(readers) {
			if i == 2 {
				if !errors.Is(d.Err, broken) {
					t.Errorf("%v", d.Err)
				}
			} else if d.Sum != sha256.Sum256(bytes.Repeat([]byte{byte(i)}, 200_000)) {
				t.Errorf("message %d", i)
			}
		}
	}
}

// Sum beside the standard library: go test ./core/signature/lanes -bench .
func BenchmarkSum(b *testing.B) {
	was := Fast
	defer func() { Fast = was }()
	for _, Fast = range []bool{false, able()} {
		b.Run(fmt.Sprintf("sideBySide=%t", Fast), func(b *testing.B) {
			data := make([]byte, 1<<20)
			b.SetBytes(Width << 20)
			for b.Loop() {
				var readers []io.Reader
				for range Width {
					readers = append(readers, bytes.NewReader(data))
				}
				Sum(readers)
			}
		})
	}
}
