package sheet

import (
	"fmt"
	"regexp"
	"strings"
	"sync"
)

var compiled sync.Map // pattern -> *regexp.Regexp

// whole compiles a pattern that must match a whole value.
func whole(p string) (*regexp.Regexp, error) {
	if p == "" {
		return nil, nil
	}
	if re, ok := compiled.Load(p); ok {
		return re.(*regexp.Regexp), nil
	}
	if len(p) > 500 {
		return nil, fmt.Errorf("it is longer than 500 characters")
	}
	re, err := regexp.Compile(`\A(?:` + p + `)\z`)
	if err == nil {
		compiled.Store(p, re)
	}
	return re, err
}

// Match reports whether a value has the form its pattern asks for; an empty pattern takes anything.
func Match(pattern, value string) bool {
	re, err := whole(pattern)
	return err == nil && (re == nil || re.MatchString(value))
}

// References gives the names in ${...} of a text, in order.
func References(text string) []string {
	var out []string
	for {
		_, rest, ok := strings.Cut(text, "${")
		if !ok {
			return out
		}
		name, after, ok := strings.Cut(rest, "}")
		if !ok {
			return out
		}
		out = append(out, name)
		text = after
	}
}

// Fill replaces ${name}; a name without a value is an error.
func Fill(text string, get func(string) (string, bool)) (string, error) {
	var b strings.Builder
	for {
		before, rest, ok := strings.Cut(text, "${")
		b.WriteString(before)
		if !ok {
			return b.String(), nil
		}
		name, after, ok := strings.Cut(rest, "}")
		if !ok {
			return "", fmt.Errorf("${ is not closed in %q", text)
		}
		v, ok := get(name)
		if !ok {
			return "", fmt.Errorf("${%s} has no value here", name)
		}
		b.WriteString(v)
		text = after
	}
}
