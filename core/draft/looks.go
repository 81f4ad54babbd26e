package draft

import (
	"fmt"
	"strings"
	"time"
	"unicode"

	"ligare/core/sheet"
)

// identifier reports whether a text looks like an application ID or bundle ID.
func identifier(s string) bool {
	parts := strings.Split(s, ".")
	if len(parts) < 2 || len(s) > 155 {
		return false
	}
	for _, p := range parts {
		if p == "" || !unicode.IsLetter(rune(p[0])) || strings.ContainsFunc(p, func(r rune) bool {
			return !(r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || r == '_' || r == '-')
		}) {
			return false
		}
	}
	return len(parts) >= 3 || len(parts[0]) <= 4
}

func number(s string) bool {
	return s != "" && !strings.ContainsFunc(s, func(r rune) bool { return r < '0' || r > '9' })
}

func date(s string) bool {
	for _, layout := range []string{time.DateOnly, time.RFC3339} {
		if _, err := time.Parse(layout, s); err == nil {
			return true
		}
	}
	return false
}

// issued reports whether a text looks like one that a service issued: a long number, a key, an address.
func issued(s string) bool {
	switch {
	case strings.HasPrefix(s, "https://") || strings.HasPrefix(s, "http://"):
		return true
	case strings.ContainsAny(s, " \n\t@/") || sheet.Placeholder(s) || identifier(s) || date(s):
		return false
	case number(s):
		return len(s) >= 7
	}
	digits := 0
	for _, r := range s {
		if r >= '0' && r <= '9' {
			digits++
		}
	}
	return len(s) >= 10 && digits >= 2
}

// Pattern makes a pattern from one value: its beginning of letters as it is, the rest by its alphabet and length.
func Pattern(s string) string {
	if i := strings.Index(s, "://"); i > 0 {
		return `https?://[^\s]+`
	}
	head := ""
	for i, r := range s {
		if i > 8 {
			break
		}
		if strings.ContainsRune("-_.:~", r) && i > 0 {
			head = s[:i+1]
			break
		}
		if r < 'A' || r > 'z' || r > 'Z' && r < 'a' {
			break
		}
	}
	var b strings.Builder
	for _, r := range head {
		if strings.ContainsRune(`.\+*?()|[]{}^$`, r) {
			b.WriteString("[" + string(r) + "]")
		} else {
			b.WriteRune(r)
		}
	}
	rest := s[len(head):]
	if rest == "" {
		return b.String()
	}
	class := "."
	for _, c := range []struct{ class, letters string }{
		{"[0-9]", "0123456789"}, {"[0-9a-f]", "0123456789abcdef"}, {"[0-9A-F]", "0123456789ABCDEF"}, {"[a-z0-9]", "abcdefghijklmnopqrstuvwxyz0123456789"}, {"[A-Z0-9]", "ABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789"},
		{"[A-Za-z0-9]", "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789"}, {"[A-Za-z0-9_.~-]", "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789_.~-"},
		{"[A-Za-z0-9+/=_.~-]", "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789+/=_.~-"},
	} {
		if strings.Trim(rest, c.letters) == "" {
			class = c.class
			break
		}
	}
	return b.String() + fmt.Sprintf("%s{%d}", class, len([]rune(rest)))
}

// id makes a name of the language from any text.
func id(s string) string {
	var b strings.Builder
	last := '-'
	for i, r := range s {
		switch {
		case r >= 'A' && r <= 'Z':
			if i > 0 && last != '-' && !(last >= 'A' && last <= 'Z') {
				b.WriteByte('-')
			}
			b.WriteRune(r - 'A' + 'a')
		case r >= 'a' && r <= 'z' || r >= '0' && r <= '9':
			b.WriteRune(r)
		default:
			if last != '-' {
				b.WriteByte('-')
			}
			r = '-'
		}
		last = r
	}
	out := strings.Trim(b.String(), "-")
	if out == "" || out[0] < 'a' {
		out = "value-" + out
	}
	return strings.Trim(out[:min(len(out), 50)], "-")
}

func sentence(id string) string {
	s := strings.ReplaceAll(id, "-", " ")
	return strings.ToUpper(s[:1]) + s[1:]
}

// first gives the first word.
func first(s string) string {
	word, _, _ := strings.Cut(s, " ")
	return word
}

// seen gives a text without what cannot be seen: it stands in a comment, or in a title.
func seen(s string) string {
	return strings.TrimSpace(strings.Map(func(r rune) rune {
		if r == unicode.ReplacementChar || !unicode.IsPrint(r) {
			return -1
		}
		return r
	}, strings.ToValidUTF8(s, "")))
}
