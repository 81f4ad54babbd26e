package sheet

import (
	"fmt"
	"slices"
	"sort"
	"strings"
	"unicode"
)

// Cleaned is a pasted value with what was taken off it.
type Cleaned struct {
	Value string
	Took  []string // in words: "2 blanks at the end", "curly quotes around it"
}

// Clean takes off what comes along when a value is copied: white space, quotes, invisible characters, line breaks inside,
// a comma or semicolon behind it. What was taken off is said; nothing else is changed. A text of several lines (a PEM
// block, a file) keeps its lines.
func Clean(raw string) Cleaned {
	c := Cleaned{Value: raw}
	for {
		before := c.Value
		c.invisible()
		c.blanks()
		c.quotes()
		if v := strings.TrimRight(c.Value, ",;"); v != c.Value && v != "" && !strings.ContainsAny(c.Value, "\n") {
			c.took("a %q behind it", c.Value[len(v):])
			c.Value = v
		}
		c.broken()
		if c.Value == before {
			return c
		}
	}
}

// broken joins a value that a terminal or a letter broke over two lines.
func (c *Cleaned) broken() {
	if !strings.Contains(c.Value, "\n") || strings.Contains(c.Value, "-----BEGIN ") || strings.Contains(strings.TrimSpace(c.Value), " ") {
		return
	}
	if v := strings.NewReplacer("\r", "", "\n", "").Replace(c.Value); len(c.Value)-len(v) <= 4 {
		c.took("a line break inside")
		c.Value = v
	}
}

func (c *Cleaned) took(format string, args ...any) {
	say := fmt.Sprintf(format, args...)
	for _, had := range c.Took {
		if had == say {
			return
		}
	}
	c.Took = append(c.Took, say)
}

// names of characters that are not seen.
var unseen = map[rune]string{0x200b: "zero-width space", 0x200c: "zero-width non-joiner", 0x200d: "zero-width joiner", 0x2060: "word joiner", 0xfeff: "byte-order mark", 0x00ad: "soft hyphen",
	0x200e: "left-to-right mark", 0x200f: "right-to-left mark", 0x202a: "left-to-right embedding", 0x202c: "end of embedding", 0x2066: "left-to-right isolate", 0x2069: "end of isolate"}

func (c *Cleaned) invisible() {
	var b strings.Builder
	for _, r := range c.Value {
		switch {
		case unseen[r] != "":
			c.took("an invisible character (%s, U+%04X)", unseen[r], r)
		case r == 0xa0 || r == 0x202f || r == 0x2007:
			c.took("a blank that does not break (U+%04X)", r)
			b.WriteByte(' ')
		case r == '\r' || r == '\n' || r == '\t' || !unicode.IsControl(r):
			b.WriteRune(r)
		default:
			c.took("a control character (U+%04X)", r)
		}
	}
	c.Value = b.String()
}

func (c *Cleaned) blanks() {
	v := strings.TrimSpace(c.Value)
	if strings.Contains(v, "-----BEGIN ") { // a block of lines ends with one
		c.Value = strings.ReplaceAll(v, "\r\n", "\n") + "\n"
		return
	}
	if v != c.Value {
		head := len(c.Value) - len(strings.TrimLeftFunc(c.Value, unicode.IsSpace))
		tail := len(c.Value) - len(strings.TrimRightFunc(c.Value, unicode.IsSpace))
		switch {
		case v == "" || head > 0 && tail > 0:
			c.took("white space around it")
		case head > 0:
			c.took("white space before it")
		case strings.TrimRight(c.Value, "\r\n") == v: // every file ends with a line break; it is not worth a word
		default:
			c.took("white space behind it")
		}
		c.Value = v
	}
}

func (c *Cleaned) quotes() {
	for _, q := range [][2]string{{`"`, `"`}, {"'", "'"}, {"`", "`"}, {"“", "”"}, {"„", "“"}, {"‘", "’"}, {"«", "»"}, {"<", ">"}} {
		if v, ok := strings.CutPrefix(c.Value, q[0]); ok {
			if v, ok = strings.CutSuffix(v, q[1]); ok && v != "" {
				c.took("quotes %s…%s around it", q[0], q[1])
				c.Value = v
				return
			}
		}
	}
	for _, q := range []string{"“", "”", "„", "‘", "’"} {
		if v, ok := strings.CutPrefix(c.Value, q); ok {
			c.took("a curly quote %s before it", q)
			c.Value = v
		}
		if v, ok := strings.CutSuffix(c.Value, q); ok {
			c.took("a curly quote %s behind it", q)
			c.Value = v
		}
	}
}

// Misfit says what is wrong with a value that was given for one of the sheet's values; "" when nothing is. others are
// sheets in which it is looked for when it does not fit here.
func (s *Sheet) Misfit(id, value string, others map[string]*Sheet) (say, remedy string) {
	v := s.Value(id)
	if v == nil {
		return fmt.Sprintf("%s issues no value %q", s.Title, id), didYouMean(id, ids(s.Issues.Values, func(v Value) string { return v.ID }))
	}
	switch {
	case value == "":
		return v.Title + " is empty", "Copy it again."
	case Placeholder(value) || strings.HasPrefix(value, "${"):
		return fmt.Sprintf("%s is a placeholder: %s", v.Title, value), "Copy the value itself."
	case Match(v.Pattern, value):
		if v.Pattern != "" {
			return "", ""
		}
		// Any text fits. One that fits another value's narrow pattern was most likely meant there.
	}
	if other := s.LookAlike(id, value); other != nil {
		say := fmt.Sprintf("what was given as %s has the form of %s", v.Title, other.Title)
		if other.Exposure == Server && v.Exposure == Client {
			say += ", which must not ship in an app"
		}
		return say, "Were the two exchanged? Give it as " + other.ID + "."
	}
	for _, o := range others {
		if o.Service == s.Service {
			continue
		}
		if x := o.LookAlike("", value); x != nil {
			return fmt.Sprintf("what was given as %s has the form of %s of %s", v.Title, x.Title, o.Title), "Copy the one of " + s.Title + "."
		}
	}
	if v.Pattern == "" {
		return "", ""
	}
	if n := shorter(v.Pattern, value); n {
		return fmt.Sprintf("%s has not its form: it begins rightly and is too short", v.Title), "It was cut off; copy it again, to its end."
	}
	return fmt.Sprintf("%s has not the form %s gives it (%s)", v.Title, s.Title, v.Pattern), "Compare it with what the service shows; a letter may be missing."
}

// LookAlike finds another value than the one named with a narrow pattern that a text fits, or nil.
func (s *Sheet) LookAlike(not, value string) *Value {
	for i := range s.Issues.Values {
		v := &s.Issues.Values[i]
		if v.ID != not && v.Pattern != "" && narrow(v.Pattern) && Match(v.Pattern, value) {
			return v
		}
	}
	return nil
}

// narrow reports whether a pattern tells a value apart: it begins with letters of its own.
func narrow(pattern string) bool {
	lit, _, _ := strings.Cut(pattern, "[")
	return len(lit) >= 2 && !strings.ContainsAny(lit, `(.*\|?+`) && !strings.HasPrefix(lit, "http")
}

// shorter reports whether a value begins like its pattern says and could be made whole by more characters.
func shorter(pattern, value string) bool {
	lit, _, _ := strings.Cut(pattern, "[")
	if len(value) < 4 || !narrow(pattern) || !strings.HasPrefix(value, strings.ReplaceAll(lit, `\`, "")) {
		return false
	}
	last := value[len(value)-1:]
	for n := 1; n < 80; n++ {
		if Match(pattern, value+strings.Repeat(last, n)) || Match(pattern, value+strings.Repeat("0", n)) || Match(pattern, value+strings.Repeat("a", n)) {
			return true
		}
	}
	return false
}

// Placeholder reports whether a whole value is a text that stands for a value: in brackets of any kind, or saying that
// it is the reader's to fill in.
func Placeholder(v string) bool {
	s := strings.TrimSpace(v)
	for _, pair := range [][2]string{{"[", "]"}, {"<", ">"}, {"{{", "}}"}, {"%", "%"}, {"__", "__"}} {
		if inner, ok := strings.CutPrefix(s, pair[0]); ok && len(s) > len(pair[0])+len(pair[1]) {
			if inner, ok = strings.CutSuffix(inner, pair[1]); ok && words(inner) {
				return true
			}
		}
	}
	up := strings.Map(func(r rune) rune {
		if r == '-' || r == ' ' || r == '.' {
			return '_'
		}
		return r
	}, strings.ToUpper(s))
	for _, p := range []string{"YOUR_", "MY_", "INSERT_", "ENTER_", "PASTE_", "REPLACE_", "PUT_", "ADD_YOUR_", "SOME_"} {
		if strings.HasPrefix(up, p) && words(up) && slices.ContainsFunc([]string{"KEY", "ID", "TOKEN", "SECRET", "HERE", "NUMBER", "VALUE", "URL", "ADDRESS", "NAME", "CODE", "ME", "THIS"}, func(w string) bool { return strings.HasSuffix(up, "_"+w) || strings.Contains(up, "_"+w+"_") }) {
			return true
		}
	}
	switch up {
	case "TODO", "FIXME", "CHANGEME", "CHANGE_ME", "REPLACEME", "REPLACE_ME", "PLACEHOLDER", "XXX", "XXXX", "XXXXX", "XXXXXX", "XXXXXXXX", "TBD", "DUMMY", "APP_ID_HERE", "KEY_HERE":
		return true
	}
	return len(s) >= 6 && (strings.Trim(up, "X") == "" || strings.Trim(s, "0") == "")
}

// words reports whether a text consists of words, not of markup or code.
func words(s string) bool {
	for _, r := range s {
		if !(r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || strings.ContainsRune("_- .", r)) {
			return false
		}
	}
	return strings.TrimSpace(s) != ""
}

// Holder is an identity that a registration covers.
type Holder struct{ Platform, ID string }

// String is " PLATFORM ID", and nothing for what belongs to the whole registration.
func (h Holder) String() string {
	if h == (Holder{}) {
		return ""
	}
	return " " + h.Platform + " " + h.ID
}

// Wanting lists the values and files that a registration made by hand still lacks: those that are neither optional nor of
// a feature that is off. have reports what is there; of are the identities it covers.
func (s *Sheet) Wanting(features []string, of []Holder, have func(id string, h Holder) bool) []string {
	on := map[string]bool{"": true}
	for _, f := range features {
		on[f] = true
	}
	each := map[string]int{}
	for _, h := range of {
		each[h.Platform]++
	}
	var out []string
	wants := func(name, id, platform string) {
		for _, h := range of {
			if (platform != "" && platform != h.Platform) || have(id, h) {
				continue
			}
			whose := h.Platform
			if each[h.Platform] > 1 {
				whose = h.ID
			}
			out = append(out, name+" ("+whose+")")
		}
	}
	for _, v := range s.Issues.Values {
		switch {
		case v.Optional || !on[v.When]:
		case v.Per != "":
			wants(v.ID, v.ID, string(v.Platform))
		case !have(v.ID, Holder{}):
			out = append(out, v.ID)
		}
	}
	for _, f := range s.Issues.Files {
		if on[f.When] {
			wants(f.Name, "file "+f.ID, string(f.Platform))
		}
	}
	sort.Strings(out)
	return out
}
