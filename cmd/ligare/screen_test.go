package main

import (
	"bytes"
	"testing"
)

// A file's text cannot steer the terminal that shows it.
func TestControlCharactersAreShown(t *testing.T) {
	for in, want := range map[string]string{
		"plain ü 🐝\n":                    "plain ü 🐝\n",
		"a\tb\r\nc":                      "a\tb\r\nc",
		"\x1b[1;31merror\x1b[0m":         "\x1b[1;31merror\x1b[0m",
		"\x1b]0;title\x07":               `\x1b]0;title\x07`,
		"\x1b[2J\u009b31m":               `\x1b[2J\x9b31m`,
		"over\rwritten":                  `over\x0dwritten`,
		"turned \u202emoc.elpmaxe\u2066": `turned \u202emoc.elpmaxe\u2066`,
		"broken \xff\xfe":                "broken \xff\xfe",
	} {
		var b bytes.Buffer
		if n, err := (visible{&b}).Write([]byte(in)); err != nil || n != len(in) || b.String() != want {
			t.Errorf("%q: %q, and should be %q (%d, %v)", in, b.String(), want, n, err)
		}
	}
}
