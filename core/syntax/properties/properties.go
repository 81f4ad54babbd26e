// Package properties reads Java property files (java.util.Properties.load): separators = : and blank, continued lines, escapes.
package properties

import (
	"strconv"
	"strings"

	"ligare/core/syntax/lex"
)

// Entry is one key with its value and the place of its line.
type Entry struct {
	Key, Value   string
	Line, Column int
}

// Parse gives the entries in order; a later one of the same key wins.
func Parse(src []byte) []Entry {
	var out []Entry
	for at := 0; at < len(src); {
		start := at
		var b strings.Builder
		for {
			next := lex.NextLine(src, at)
			line := strings.TrimRight(string(src[at:next]), "\r\n")
			if b.Len() > 0 {
				line = strings.TrimLeft(line, " \t\f")
			}
			at = next
			trimmed := strings.TrimLeft(line, " \t\f")
			comment := b.Len() == 0 && (trimmed == "" || trimmed[0] == '#' || trimmed[0] == '!')
			if !comment && oddBackslashes(line) && at < len(src) {
				b.WriteString(line[:len(line)-1])
				continue
			}
			if !comment {
				b.WriteString(line)
			}
			break
		}
		text := b.String()
		trimmed := strings.TrimLeft(text, " \t\f")
		if trimmed == "" {
			continue
		}
		key, value := split(trimmed)
		l, c := lex.Position(src, start+len(text)-len(trimmed))
		out = append(out, Entry{Key: key, Value: value, Line: l, Column: c})
	}
	return out
}

func oddBackslashes(s string) bool {
	n := len(s) - len(strings.TrimRight(s, `\`))
	return n%2 == 1
}

func split(s string) (key, value string) {
	i := 0
	for i < len(s) && !strings.ContainsRune("=: \t\f", rune(s[i])) {
		if s[i] == '\\' && i+1 < len(s) {
			i++
		}
		i++
	}
	rest := strings.TrimLeft(s[i:], " \t\f")
	if rest != "" && (rest[0] == '=' || rest[0] == ':') {
		rest = strings.TrimLeft(rest[1:], " \t\f")
	}
	return unescape(s[:i]), unescape(rest)
}

func unescape(s string) string {
	var b strings.Builder
	for i := 0; i < len(s); i++ {
		if s[i] != '\\' || i+1 == len(s) {
			b.WriteByte(s[i])
			continue
		}
		i++
		switch s[i] {
		case 'n':
			b.WriteByte('\n')
		case 't':
			b.WriteByte('\t')
		case 'r':
			b.WriteByte('\r')
		case 'f':
			b.WriteByte('\f')
		case 'u':
			if i+4 < len(s) {
				if v, err := strconv.ParseUint(s[i+1:i+5], 16, 32); err == nil {
					b.WriteRune(rune(v))
					i += 4
					continue
				}
			}
			b.WriteByte('u')
		default:
			b.WriteByte(s[i])
		}
	}
	return b.String()
}

// Get gives the value in force for a key.
func Get(entries []Entry, key string) (Entry, bool) {
	for i := len(entries) - 1; i >= 0; i-- {
		if entries[i].Key == key {
			return entries[i], true
		}
	}
	return Entry{}, false
}

// Find gives the span of the last assignment of a key, without its line end; one that goes on in the next line is not found.
func Find(src []byte, key string) (start, end int, ok bool) {
	for at := 0; at < len(src); {
		next := lex.NextLine(src, at)
		line := strings.TrimRight(string(src[at:next]), "\r\n")
		for _, e := range Parse([]byte(line)) {
			if e.Key == key && !oddBackslashes(line) {
				lead := len(line) - len(strings.TrimLeft(line, " \t\f"))
				start, end, ok = at+lead, at+len(strings.TrimRight(line, " \t")), true
			}
		}
		at = next
	}
	return start, end, ok
}
