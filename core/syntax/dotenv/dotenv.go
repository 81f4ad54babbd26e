// Package dotenv writes and exchanges variables in the files by which backends are given their environment: NAME=VALUE, one
// a line, # for comments. There is no specification; what is written here is what shells and the common readers agree on.
package dotenv

import (
	"fmt"
	"strings"
)

// Pair is one variable.
type Pair struct{ Name, Value string }

// Line writes a variable. A value of harmless characters stands as it is; any other in single quotes, which nothing is
// expanded in; one with a single quote or a line break in double quotes with escapes.
func Line(p Pair) string {
	harmless := p.Value != "" && !strings.ContainsFunc(p.Value, func(r rune) bool {
		return !(r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || strings.ContainsRune("_-./:@%+,=~", r))
	})
	switch {
	case harmless:
		return p.Name + "=" + p.Value
	case !strings.ContainsAny(p.Value, "'\r\n"):
		return p.Name + "='" + p.Value + "'"
	}
	return p.Name + `="` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, "$", `\$`, "`", "\\`", "\n", `\n`, "\r", `\r`).Replace(p.Value) + `"`
}

// Set gives a file's text with variables exchanged where they stand, and added at its end where they do not. Everything
// else stays byte for byte. A variable that stands twice is an error: it is not said which one counts.
func Set(src string, pairs []Pair) (string, error) {
	nl := "\n"
	if strings.Contains(src, "\r\n") {
		nl = "\r\n"
	}
	lines := strings.SplitAfter(src, "\n")
	for _, p := range pairs {
		at := -1
		for i, l := range lines {
			name, _, ok := strings.Cut(strings.TrimPrefix(strings.TrimLeft(l, " \t"), "export "), "=")
			if !ok || strings.TrimSpace(name) != p.Name {
				continue
			}
			if at >= 0 {
				return "", fmt.Errorf("line %d and line %d both set %s", at+1, i+1, p.Name)
			}
			at = i
		}
		if at < 0 {
			if last := len(lines) - 1; lines[last] != "" && !strings.HasSuffix(lines[last], "\n") {
				lines[last] += nl
			}
			lines = append(lines, Line(p)+nl)
			continue
		}
		had := lines[at]
		head := had[:len(had)-len(strings.TrimLeft(had, " \t"))]
		if strings.HasPrefix(strings.TrimLeft(had, " \t"), "export ") {
			head += "export "
		}
		if open(had) {
			return "", fmt.Errorf("line %d: the value of %s goes on over several lines; exchange it by hand", at+1, p.Name)
		}
		tail := had[len(strings.TrimRight(had, "\r\n")):]
		lines[at] = head + Line(p) + tail
	}
	return strings.Join(lines, ""), nil
}

// Parse reads the variables of a file in their order: bare, in single quotes as they stand, in double quotes with escapes.
// A comment behind a bare value is left out. A value over several lines, or a line that is none of these, is an error.
func Parse(src string) ([]Pair, error) {
	var out []Pair
	for i, l := range strings.Split(src, "\n") {
		l = strings.TrimPrefix(strings.TrimSpace(strings.TrimPrefix(l, "\ufeff")), "export ")
		if l == "" || l[0] == '#' {
			continue
		}
		name, v, ok := strings.Cut(l, "=")
		name, v = strings.TrimSpace(name), strings.TrimSpace(v)
		if !ok || name == "" || strings.ContainsAny(name, " \t'\"") {
			return nil, fmt.Errorf("line %d is not NAME=value", i+1)
		}
		if open(l) {
			return nil, fmt.Errorf("line %d: the value of %s goes on over several lines", i+1, name)
		}
		out = append(out, Pair{name, unquote(v)})
	}
	return out, nil
}

func unquote(v string) string {
	if v == "" || v[0] != '"' && v[0] != '\'' {
		if i := strings.Index(v, " #"); i >= 0 {
			v = strings.TrimSpace(v[:i])
		}
		return v
	}
	var b strings.Builder
	for i := 1; i < len(v) && v[i] != v[0]; i++ {
		c := v[i]
		if c == '\\' && v[0] == '"' && i+1 < len(v) {
			i++
			switch c = v[i]; c {
			case 'n':
				c = '\n'
			case 'r':
				c = '\r'
			}
		}
		b.WriteByte(c)
	}
	return b.String()
}

// open reports whether a quote that a line opens is not closed in it.
func open(line string) bool {
	_, v, _ := strings.Cut(line, "=")
	v = strings.TrimSpace(v)
	if v == "" || v[0] != '"' && v[0] != '\'' {
		return false
	}
	escaped := false
	for i := 1; i < len(v); i++ {
		switch {
		case escaped:
			escaped = false
		case v[i] == '\\' && v[0] == '"':
			escaped = true
		case v[i] == v[0]:
			return false
		}
	}
	return true
}
