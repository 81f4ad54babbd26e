// Package xcconfig reads build-settings files: KEY = value, // comments that cut anything after them, #include.
package xcconfig

import (
	"strings"

	"ligare/core/syntax/lex"
)

// Setting is one assignment; Key may carry conditions: KEY[sdk=iphoneos*].
type Setting struct {
	Key, Value   string
	Line, Column int    // of the value
	Cut          string // what stood after // on the line and is lost; "" for nothing
}

// Include is an #include line; Optional for #include?.
type Include struct {
	Path     string
	Optional bool
	Line     int
	After    int // settings read before it: later ones win over it
}

// File is a build-settings file read.
type File struct {
	Settings []Setting
	Includes []Include
}

// Parse reads a file. Lines that are neither are passed over, as the build system does with a warning.
func Parse(src []byte) *File {
	f := &File{}
	line := 0
	for at := 0; at < len(src); {
		next := lex.NextLine(src, at)
		raw := strings.TrimRight(string(src[at:next]), "\r\n")
		line++
		offset := at
		at = next
		text, cut, commented := strings.Cut(raw, "//")
		trimmed := strings.TrimSpace(strings.TrimPrefix(text, "\xEF\xBB\xBF"))
		if rest, ok := strings.CutPrefix(trimmed, "#include"); ok {
			optional := strings.HasPrefix(rest, "?")
			_, all, _ := strings.Cut(raw, "#include") // a path may hold //
			if a := strings.IndexByte(all, '"'); a >= 0 {
				if b := strings.IndexByte(all[a+1:], '"'); b >= 0 {
					f.Includes = append(f.Includes, Include{Path: all[a+1 : a+1+b], Optional: optional, Line: line, After: len(f.Settings)})
				}
			}
			continue
		}
		eq := assignment(text)
		if eq < 0 {
			continue
		}
		s := Setting{Key: strings.TrimSpace(strings.TrimPrefix(text[:eq], "\xEF\xBB\xBF"))}
		value := text[eq+1:]
		s.Value = strings.TrimSpace(strings.TrimSuffix(strings.TrimSpace(value), ";"))
		lead := len(value) - len(strings.TrimLeft(value, " \t"))
		s.Line, s.Column = lex.Position(src, offset+eq+1+lead)
		if commented && s.Value != "" && strings.HasSuffix(strings.TrimRight(text, " "), ":") {
			s.Cut = "//" + cut
		}
		f.Settings = append(f.Settings, s)
	}
	return f
}

// assignment finds the = outside [conditions].
func assignment(text string) int {
	depth := 0
	for i := 0; i < len(text); i++ {
		switch text[i] {
		case '[':
			depth++
		case ']':
			depth--
		case '=':
			if depth == 0 {
				return i
			}
		}
	}
	return -1
}
