package xcconfig

import (
	"strings"

	"ligare/core/syntax/lex"
)

// Find resolves an address to the bytes it means: include(PATH) is an #include line, setting(KEY) the last assignment of
// a key; blanks around and comments behind are left out.
func Find(src []byte, address string) (start, end int, ok bool) {
	word, name, _ := strings.Cut(strings.TrimSuffix(address, ")"), "(")
	for at := 0; at < len(src); {
		next := lex.NextLine(src, at)
		raw := strings.TrimRight(string(src[at:next]), "\r\n")
		f := Parse([]byte(raw))
		lead := len(raw) - len(strings.TrimLeft(strings.TrimPrefix(raw, "\xEF\xBB\xBF"), " \t"))
		switch {
		case word == "include" && len(f.Includes) == 1 && f.Includes[0].Path == name && !ok:
			quote := strings.LastIndexByte(raw, '"')
			start, end, ok = at+lead, at+quote+1, true
		case word == "setting" && len(f.Settings) == 1 && f.Settings[0].Key == name:
			text, _, _ := strings.Cut(raw, "//")
			start, end, ok = at+lead, at+len(strings.TrimRight(text, " \t")), true
		}
		at = next
	}
	return start, end, ok
}

// AddInclude inserts an #include line as the first line that says something, so that everything below wins over it.
func AddInclude(src []byte, path string) lex.Insertion {
	nl := lex.LineEnd(src)
	at := 0
	if strings.HasPrefix(string(src), "\xEF\xBB\xBF") {
		at = 3
	}
	for at < len(src) { // below the comments that a file begins with
		next := lex.NextLine(src, at)
		if !strings.HasPrefix(strings.TrimSpace(string(src[at:next])), "//") {
			break
		}
		at = next
	}
	if at > 0 && at == len(src) && src[at-1] != '\n' && src[at-1] != '\r' {
		return lex.Insertion{Offset: at, Before: nl, Text: "#include \"" + path + "\""}
	}
	return lex.Insertion{Offset: at, Text: "#include \"" + path + "\"", After: nl}
}
