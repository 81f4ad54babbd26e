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
	case strings.HasPrefix(want, got):
		return fmt.Sprintf("the last %d characters are missing", len(want)-len(got))
	}
	w, g := []rune(want), []rune(got)
	for i := 0; i < len(w) && i < len(g); i++ {
		if w[i] != g[i] {
			if string(w[i+1:]) == string(g[i+1:]) {
				return fmt.Sprintf("one character differs: %q where %q is expected, at character %d", g[i], w[i], i+1)
			}
			break
		}
	}
	return "it is another value"
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
