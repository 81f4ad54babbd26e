package main

import (
	"bytes"
	"fmt"
	"io"
	"os"
	"unicode/utf8"
)

// screen is standard output for people.
var screen io.Writer = visible{os.Stdout}

// visible writes control characters that came out of a file as what they are instead of handing them to a terminal, which
// would obey them. Line ends, tabs and the colours of this program pass.
type visible struct{ w io.Writer }

var ownColours = [][]byte{[]byte("\x1b[0m"), []byte("\x1b[1;31m"), []byte("\x1b[1;33m"), []byte("\x1b[1;36m")}

func (v visible) Write(p []byte) (int, error) {
	var out []byte
	for i := 0; i < len(p); {
		r, n := utf8.DecodeRune(p[i:])
		switch {
		case r == '\n' || r == '\t' || r == '\r' && i+1 < len(p) && p[i+1] == '\n':
			out = append(out, p[i])
		case r == 0x1b && ownColour(p[i:]) > 0:
			n = ownColour(p[i:])
			out = append(out, p[i:i+n]...)
		case r < 0x20 || r >= 0x7f && r < 0xa0:
			out = fmt.Appendf(out, `\x%02x`, r)
		case r >= 0x202a && r <= 0x202e || r >= 0x2066 && r <= 0x2069: // turns the direction of what follows
			out = fmt.Appendf(out, `\u%04x`, r)
		default:
			out = append(out, p[i:i+n]...)
		}
		i += n
	}
	if _, err := v.w.Write(out); err != nil {
		return 0, err
	}
	return len(p), nil
}

func ownColour(b []byte) int {
	for _, c := range ownColours {
		if bytes.HasPrefix(b, c) {
			return len(c)
		}
	}
	return 0
}
