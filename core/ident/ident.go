// Package ident knows the grammars of the identifiers apps are known by, and says how two that should agree differ.
package ident

import (
	"fmt"
	"strings"
	"unicode"
)

// Platform is where an app runs.
type Platform string

// The platforms an identity can belong to.
const (
	Android Platform = "android"
	IOS     Platform = "ios"
	Web     Platform = "web"
)

// Check says what is wrong with an identifier of a platform, or nil. Android: Java package syntax, at least two
// segments, each beginning with a letter (Android developer documentation, Configure the app module). iOS: letters,
// digits, hyphen and period (Information Property List, CFBundleIdentifier).
func Check(p Platform, id string) error {
	if id == "" {
		return fmt.Errorf("the identifier is empty")
	}
	for i, r := range id {
		ascii := r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || r == '.'
		switch {
		case ascii, r == '_' && p == Android, r == '-' && p == IOS:
		case r == '-' && p == Android:
			return fmt.Errorf("%q: a hyphen (character %d) is not allowed in an application ID; use an underscore", id, i+1)
		case r == '_' && p == IOS:
			return fmt.Errorf("%q: an underscore (character %d) is not allowed in a bundle ID; use a hyphen", id, i+1)
		default:
			return fmt.Errorf("%q: %s (character %d) is not allowed", id, name(r), len([]rune(id[:i]))+1)
		}
	}
	parts := strings.Split(id, ".")
	for _, s := range parts {
		if s == "" {
			return fmt.Errorf("%q has an empty segment: two periods in a row, or one at an end", id)
		}
		if p == Android && !unicode.IsLetter(rune(s[0])) {
			return fmt.Errorf("%q: segment %q must begin with a letter", id, s)
		}
	}
	if p == Android && len(parts) < 2 {
		return fmt.Errorf("%q needs at least two segments, such as example.%s", id, id)
	}
	return nil
}

// CheckScheme says what is wrong with a custom URL scheme, or nil: a letter, then letters, digits, plus, hyphen and
// period (RFC 3986, section 3.1). Both platforms compare schemes as they are written, so capitals are refused too.
func CheckScheme(s string) error {
	if s == "" {
		return fmt.Errorf("the URL scheme is empty")
	}
	for i, r := range s {
		switch {
		case r >= 'a' && r <= 'z', i > 0 && (r >= '0' && r <= '9' || r == '+' || r == '-' || r == '.'):
		case r >= 'A' && r <= 'Z':
			return fmt.Errorf("%q: a capital (character %d) in a URL scheme; browsers hand schemes over in small letters", s, i+1)
		case strings.HasPrefix(s[i:], "://") || r == ':':
			return fmt.Errorf("%q: a scheme is written without the colon and what follows it", s)
		case i == 0:
			return fmt.Errorf("%q must begin with a letter", s)
		default:
			return fmt.Errorf("%q: %s (character %d) is not allowed in a URL scheme", s, name(r), len([]rune(s[:i]))+1)
		}
	}
	return nil
}

// reserved words cannot name a package or class (Java Language Specification, section 3.9).
var reserved = map[string]bool{"abstract": true, "assert": true, "boolean": true, "break": true, "byte": true, "case": true, "catch": true, "char": true, "class": true,
	"const": true, "continue": true, "default": true, "do": true, "double": true, "else": true, "enum": true, "extends": true, "final": true, "finally": true, "float": true,
	"for": true, "goto": true, "if": true, "implements": true, "import": true, "instanceof": true, "int": true, "interface": true, "long": true, "native": true, "new": true,
	"package": true, "private": true, "protected": true, "public": true, "return": true, "short": true, "static": true, "strictfp": true, "super": true, "switch": true,
	"synchronized": true, "this": true, "throw": true, "throws": true, "transient": true, "try": true, "void": true, "volatile": true, "while": true, "true": true, "false": true, "null": true, "_": true}

// CheckClass says what is wrong with a full Java class name, or nil: identifiers joined by periods, inner classes by $,
// a package in front (Java Language Specification, sections 3.8 and 6.7).
func CheckClass(s string) error {
	if strings.HasPrefix(s, ".") {
		return fmt.Errorf("%q is relative: write it in full, the namespace in front", s)
	}
	parts := strings.Split(s, ".")
	if len(parts) < 2 {
		return fmt.Errorf("%q names no package: write the class in full", s)
	}
	for _, p := range parts {
		if p == "" {
			return fmt.Errorf("%q has an empty segment: two periods in a row, or one at an end", s)
		}
		if reserved[p] {
			return fmt.Errorf("%q: %q is a word of the language and cannot be a name", s, p)
		}
		for i, r := range p {
			if r == '_' || r == '$' || unicode.IsLetter(r) || i > 0 && unicode.IsDigit(r) {
				continue
			}
			return fmt.Errorf("%q: %s is not allowed in the name %q", s, name(r), p)
		}
	}
	return nil
}

// templates are the IDs that project templates begin with; a segment's end or the string's must follow.
var templates = []string{"com.example", "com.companyname", "com.yourcompany", "com.mycompany", "com.company", "com.mydomain", "com.defaultcompany", "org.reactjs.native.example",
	"com.getcapacitor", "io.ionic.starter", "com.helloworld", "com.rndiffapp", "com.awesomeproject", "com.domain", "com.placeholder", "your.package", "com.your"}

// Template reports whether an identifier is one that a project template left behind.
func Template(id string) bool {
	id = strings.ToLower(id)
	for _, t := range templates {
		if id == t || strings.HasPrefix(id, t+".") {
			return true
		}
	}
	return false
}

func name(r rune) string {
	switch {
	case r == ' ':
		return "a space"
	case r == 0xA0:
		return "a no-break space (U+00A0)"
	case Invisible(r):
		return fmt.Sprintf("an invisible character (U+%04X)", r)
	case r > 0x7F:
		return fmt.Sprintf("%q (U+%04X)", r, r)
	}
	return fmt.Sprintf("%q", r)
}

// Invisible reports whether a character takes no ink: format characters, joiners, marks of direction.
func Invisible(r rune) bool {
	return unicode.Is(unicode.Cf, r) || unicode.Is(unicode.Zl, r) || unicode.Is(unicode.Zp, r) || r == 0x115F || r == 0x3164
}

const other = "it is another value"

// Difference says in a few words how two strings that should be equal differ, most telling first; "" when equal.
func Difference(want, got string) string {
	if want == got {
		return ""
	}
	clean := strings.Map(func(r rune) rune {
		if Invisible(r) || r == 0xA0 {
			return -1
		}
		return r
	}, got)
	switch {
	case got == "":
		return "nothing is here"
	case clean == want:
		for i, r := range []rune(got) {
			if Invisible(r) || r == 0xA0 {
				return fmt.Sprintf("%s stands at character %d", name(r), i+1)
			}
		}
	case strings.TrimSpace(got) == want:
		return "white space stands around it"
	case strings.Trim(got, `"'“”‘’„`) == want:
		return "quotation marks stand around it"
	case strings.EqualFold(want, got):
		w, g := []rune(want), []rune(got)
		for i := range g {
			if i < len(w) && w[i] != g[i] {
				return fmt.Sprintf("only letter case differs: %q where %q is expected, at character %d", g[i], w[i], i+1)
			}
		}
	case strings.ReplaceAll(want, "-", "_") == strings.ReplaceAll(got, "-", "_"):
		return "hyphen and underscore are exchanged"
	case strings.HasPrefix(got, want+"."):
		return fmt.Sprintf("the suffix %q is added", got[len(want):])
	case strings.HasPrefix(want, got+"."):
		return fmt.Sprintf("the suffix %q is missing", want[len(got):])
	case lookalike(got) == lookalike(want):
		for i, r := range []rune(got) {
			if r > 0x7F {
				return fmt.Sprintf("%s at character %d only looks like the letter expected", name(r), i+1)
			}
		}
	case Template(got) && !Template(want):
		return "a project template's identifier was left in place"
	case strings.HasPrefix(want, got):
		return fmt.Sprintf("the last %d characters are missing", len(want)-len(got))
	}
	w, g := []rune(want), []rune(got)
	for i := 0; i < len(w) && i < len(g); i++ {
		if w[i] != g[i] {
			switch rest := g[i:]; {
			case string(w[i+1:]) == string(rest):
				return fmt.Sprintf("one character is missing: %q, at character %d", w[i], i+1)
			case string(w[i:]) == string(rest[1:]):
				return fmt.Sprintf("one character too many: %q, at character %d", g[i], i+1)
			case len(rest) > 1 && i+1 < len(w) && g[i] == w[i+1] && g[i+1] == w[i] && string(w[i+2:]) == string(rest[2:]):
				return fmt.Sprintf("two characters are exchanged: %q where %q is expected, at character %d", string(g[i:i+2]), string(w[i:i+2]), i+1)
			}
			if string(w[i+1:]) == string(g[i+1:]) {
				if alike(w[i], g[i]) {
					return fmt.Sprintf("%q stands where %q is expected, at character %d; the two look alike", g[i], w[i], i+1)
				}
				return fmt.Sprintf("one character differs: %q where %q is expected, at character %d", g[i], w[i], i+1)
			}
			break
		}
	}
	if len(g) == len(w)+1 && string(g[:len(w)]) == string(w) {
		return fmt.Sprintf("one character too many: %q at the end", g[len(w)])
	}
	return other
}

// alike reports whether two characters of the same script are drawn alike.
func alike(a, b rune) bool {
	for _, group := range []string{"lI1|", "O0o", "S5", "B8", "Z2"} {
		if strings.ContainsRune(group, a) && strings.ContainsRune(group, b) {
			return true
		}
	}
	return false
}

// lookalike folds letters of other scripts onto the Latin letter they are drawn like (Unicode TR39, the common ones).
func lookalike(s string) string {
	return strings.NewReplacer("а", "a", "е", "e", "о", "o", "р", "p", "с", "c", "х", "x", "у", "y", "і", "i", "ј", "j", "ѕ", "s",
		"ԁ", "d", "ɡ", "g", "ո", "n", "ο", "o", "ν", "v", "ι", "i", "–", "-", "‐", "-", "‑", "-", "．", ".").Replace(s)
}

// Mask shows the ends of a value only, so that two can be told apart and none can be used.
func Mask(v string) string {
	r := []rune(v)
	switch {
	case len(r) == 0:
		return ""
	case len(r) < 12:
		return strings.Repeat("•", len(r))
	}
	return string(r[:3]) + "•••" + string(r[len(r)-2:])
}

// Near reports whether two different texts are so alike that one was meant for the other: they differ in a way that
// Difference names, or by two slips of the hand at most (a character left out, added, exchanged, or two swapped).
func Near(want, got string) bool {
	if want == got || want == "" || got == "" {
		return false
	}
	if Difference(want, got) != other {
		return true
	}
	w, g := []rune(want), []rune(got)
	return len(w) >= 6 && max(len(w)-len(g), len(g)-len(w)) <= 2 && slips(w, g) <= 2
}

// slips counts the fewest insertions, deletions, exchanges and swaps of neighbours that make one text the other (optimal
// string alignment).
func slips(a, b []rune) int {
	before, last, now := make([]int, len(b)+1), make([]int, len(b)+1), make([]int, len(b)+1)
	for j := range last {
		last[j] = j
	}
	for i := 1; i <= len(a); i++ {
		now[0] = i
		for j := 1; j <= len(b); j++ {
			cost := 1
			if a[i-1] == b[j-1] {
				cost = 0
			}
			now[j] = min(last[j]+1, now[j-1]+1, last[j-1]+cost)
			if i > 1 && j > 1 && a[i-1] == b[j-2] && a[i-2] == b[j-1] {
				now[j] = min(now[j], before[j-2]+1)
			}
		}
		before, last, now = last, now, before
	}
	return last[len(b)]
}
