package lex

import (
	"strconv"
	"strings"
)

// Literal gives the value of a string node without embedded expressions; ok is false when it has some, or is not a string.
func Literal(src []byte, n *Node) (value string, ok bool) {
	if n == nil || n.Kind != String {
		return "", false
	}
	var b strings.Builder
	for _, k := range n.Inner() {
		switch k.Kind {
		case Text:
			b.WriteString(k.Of(src))
		case Escape:
			b.WriteString(unescape(k.Of(src)))
		default:
			return "", false
		}
	}
	return b.String(), true
}

// Escaped gives the character an escape leaf stands for. Escapes of several characters (\u0041, \n) keep their
// later characters in the Text leaf that follows, so only the two-character forms are decoded here.
func Escaped(text string) string { return unescape(text) }

func unescape(text string) string {
	r := []rune(text)
	switch c := r[len(r)-1]; c {
	case 'n':
		return "\n"
	case 't':
		return "\t"
	case 'r':
		return "\r"
	case '0':
		return "\x00"
	case '\n':
		return ""
	default:
		return string(c)
	}
}

// Quoted writes a value as a string of the given delimiter with backslash escapes; dollar also escapes $.
func Quoted(value string, quote byte, dollar bool) string {
	var b strings.Builder
	b.WriteByte(quote)
	for _, r := range value {
		switch {
		case r == '\\' || r == rune(quote) || r == '$' && dollar:
			b.WriteByte('\\')
			b.WriteRune(r)
		case r == '\n':
			b.WriteString(`\n`)
		case r == '\r':
			b.WriteString(`\r`)
		case r == '\t':
			b.WriteString(`\t`)
		case r < 0x20:
			b.WriteString(`\u00` + strconv.FormatInt(int64(r)+0x100, 16)[1:])
		default:
			b.WriteRune(r)
		}
	}
	b.WriteByte(quote)
	return b.String()
}
