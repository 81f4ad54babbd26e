package sheet

import (
	"errors"
	"fmt"
	"reflect"
	"slices"
	"sort"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v3"
)

// The reader below is made from the tags of the types in sheet.go: yaml names an element, need:"yes" makes it required,
// oneof lists the words it takes, form names a form checked in forms, doc says what it is. The JSON Schema (schema.go)
// and the reference page come from the same tags, so that the three cannot differ.

// Limits on what is read: a sheet is written by people.
const (
	maxBytes   = 1 << 20
	maxEntries = 20_000
)

// Problem is one thing wrong in a sheet, with its place. Lines and columns count from 1, columns in characters.
type Problem struct {
	File   string `json:"file"`
	Line   int    `json:"line"`
	Column int    `json:"column"`
	Where  string `json:"where,omitempty"` // the element: placements.android-number.with.name
	Say    string `json:"say"`
	Hint   string `json:"hint,omitempty"`
}

func (p *Problem) Error() string {
	var b strings.Builder
	b.WriteString(p.File)
	if p.Line > 0 {
		fmt.Fprintf(&b, ":%d:%d", p.Line, p.Column)
	}
	b.WriteString(": ")
	if p.Where != "" {
		b.WriteString(p.Where + ": ")
	}
	b.WriteString(p.Say)
	if p.Hint != "" {
		b.WriteString(" (" + p.Hint + ")")
	}
	return b.String()
}

// Problems gives the single problems of an error from Parse, in the order of the file.
func Problems(err error) []*Problem {
	var out []*Problem
	if list, ok := err.(interface{ Unwrap() []error }); ok {
		for _, e := range list.Unwrap() {
			out = append(out, Problems(e)...)
		}
		return out
	}
	var p *Problem
	if errors.As(err, &p) {
		return []*Problem{p}
	}
	return nil
}

// reader fills a value from YAML nodes and collects what is wrong.
type reader struct {
	file     string
	problems []*Problem
	at       map[string]*yaml.Node // element -> where it stands
	entries  int
}

func (r *reader) say(n *yaml.Node, where, hint, format string, args ...any) {
	p := &Problem{File: r.file, Where: where, Say: fmt.Sprintf(format, args...), Hint: hint}
	if n != nil {
		p.Line, p.Column = n.Line, n.Column
	}
	r.problems = append(r.problems, p)
}

func (r *reader) err() error {
	if len(r.problems) == 0 {
		return nil
	}
	sort.SliceStable(r.problems, func(i, j int) bool { return r.problems[i].Line < r.problems[j].Line })
	const most = 30
	var list []error
	for i, p := range r.problems {
		if i == most {
			list = append(list, &Problem{File: r.file, Line: p.Line, Column: p.Column, Say: fmt.Sprintf("%d more problems follow", len(r.problems)-most)})
			break
		}
		list = append(list, p)
	}
	return errors.Join(list...)
}

// document reads the one document of a text.
func (r *reader) document(src []byte) *yaml.Node {
	if len(src) > maxBytes {
		r.say(nil, "", "", "the file has %d bytes; a sheet has at most %d", len(src), maxBytes)
		return nil
	}
	d := yaml.NewDecoder(strings.NewReader(string(src)))
	var doc, second yaml.Node
	if err := d.Decode(&doc); err != nil {
		text := strings.TrimPrefix(err.Error(), "yaml: ")
		p := &Problem{File: r.file, Say: "not readable as YAML: " + text, Hint: "look at the line before, too: a bracket, a quote or a blank is missing there"}
		if rest, ok := strings.CutPrefix(text, "line "); ok {
			if n, say, ok := strings.Cut(rest, ": "); ok {
				if line, err := strconv.Atoi(n); err == nil {
					p.Line, p.Column, p.Say = line, 1, "not readable as YAML: "+say
				}
			}
		}
		if text == "EOF" {
			p.Say, p.Hint = "the file is empty", ""
		}
		r.problems = append(r.problems, p)
		return nil
	}
	if d.Decode(&second) == nil {
		r.say(&second, "", "keep one sheet in a file", "a second document begins here")
		return nil
	}
	if len(doc.Content) != 1 {
		r.say(&doc, "", "", "the file is empty")
		return nil
	}
	return doc.Content[0]
}

// fill reads a node into a value.
func (r *reader) fill(n *yaml.Node, v reflect.Value, where string, tag reflect.StructTag) {
	if r.entries++; r.entries == maxEntries {
		r.say(n, where, "", "more than %d entries; a sheet is smaller", maxEntries)
	}
	if r.entries >= maxEntries {
		return
	}
	if n.Kind == yaml.AliasNode || n.Anchor != "" {
		r.say(n, where, "write it out", "anchors and aliases are not part of the language")
		return
	}
	r.at[where] = n
	switch v.Kind() {
	case reflect.Pointer:
		v.Set(reflect.New(v.Type().Elem()))
		r.fill(n, v.Elem(), where, tag)
	case reflect.Struct:
		r.fields(n, v, where)
	case reflect.Slice:
		if n.Kind != yaml.SequenceNode {
			r.say(n, where, "write it as [a, b] or one entry a line, each with a hyphen", "a list belongs here, not %s", kind(n))
			return
		}
		for i, c := range n.Content {
			e := reflect.New(v.Type().Elem()).Elem()
			r.fill(c, e, where+"."+entry(c, i), tag)
			v.Set(reflect.Append(v, e))
		}
	case reflect.Map:
		r.entriesOf(n, v, where, tag)
	default:
		r.scalar(n, v, where, tag)
	}
}

// entry names an element of a list by its id, or by its number from 1.
func entry(n *yaml.Node, i int) string {
	if n.Kind == yaml.MappingNode {
		for k := 0; k+1 < len(n.Content); k += 2 {
			if n.Content[k].Value == "id" && n.Content[k+1].Value != "" {
				return n.Content[k+1].Value
			}
		}
	}
	return strconv.Itoa(i + 1)
}

func kind(n *yaml.Node) string {
	switch n.Kind {
	case yaml.MappingNode:
		return "elements with names"
	case yaml.SequenceNode:
		return "a list"
	case yaml.ScalarNode:
		if n.Tag == "!!null" {
			return "nothing"
		}
		return fmt.Sprintf("%q", n.Value)
	}
	return "this"
}

// pairs visits the members of a mapping, refusing names that stand twice.
func (r *reader) pairs(n *yaml.Node, where string, visit func(key, value *yaml.Node)) bool {
	if n.Kind != yaml.MappingNode {
		r.say(n, where, "write NAME: VALUE, one a line", "elements with names belong here, not %s", kind(n))
		return false
	}
	seen := map[string]int{}
	for i := 0; i+1 < len(n.Content); i += 2 {
		k := n.Content[i]
		switch {
		case k.Kind != yaml.ScalarNode:
			r.say(k, where, "", "a name belongs here, not %s", kind(k))
			continue
		case k.Tag == "!!merge":
			r.say(k, where, "write it out", "merging is not part of the language")
			continue
		case seen[k.Value] > 0:
			r.say(k, where, "keep one of them", "%q stands twice; the first is in line %d", k.Value, seen[k.Value])
			continue
		}
		seen[k.Value] = k.Line
		visit(k, n.Content[i+1])
	}
	return true
}

func (r *reader) fields(n *yaml.Node, v reflect.Value, where string) {
	known := map[string]int{}
	var names []string
	for i := range v.NumField() {
		if name := v.Type().Field(i).Tag.Get("yaml"); name != "-" && name != "" {
			known[name] = i
			names = append(names, name)
		}
	}
	given := map[string]bool{}
	whole := r.pairs(n, where, func(key, value *yaml.Node) {
		i, ok := known[key.Value]
		if !ok {
			hint := "there are: " + strings.Join(names, ", ")
			if near := Nearest(key.Value, names); near != "" {
				hint = "did you mean " + near + "?"
			}
			r.say(key, where, hint, "there is no element %q here", key.Value)
			return
		}
		given[key.Value] = true
		if value.Kind == yaml.ScalarNode && value.Tag == "!!null" { // nothing said
			given[key.Value] = false
			return
		}
		r.fill(value, v.Field(i), dot(where, key.Value), v.Type().Field(i).Tag)
	})
	if !whole {
		return
	}
	for i := range v.NumField() {
		tag := v.Type().Field(i).Tag
		if tag.Get("need") == "yes" && !given[tag.Get("yaml")] {
			r.say(n, where, tag.Get("doc"), "%s is missing", tag.Get("yaml"))
		}
	}
}

func (r *reader) entriesOf(n *yaml.Node, v reflect.Value, where string, tag reflect.StructTag) {
	v.Set(reflect.MakeMap(v.Type()))
	r.pairs(n, where, func(key, value *yaml.Node) {
		e := reflect.New(v.Type().Elem()).Elem()
		r.fill(value, e, dot(where, key.Value), tag)
		v.SetMapIndex(reflect.ValueOf(key.Value), e)
	})
}

func dot(where, name string) string {
	if where == "" {
		return name
	}
	return where + "." + name
}

func (r *reader) scalar(n *yaml.Node, v reflect.Value, where string, tag reflect.StructTag) {
	if n.Kind != yaml.ScalarNode {
		r.say(n, where, "", "one value belongs here, not %s", kind(n))
		return
	}
	switch v.Kind() {
	case reflect.Bool:
		if n.Value != "true" && n.Value != "false" {
			r.say(n, where, "", "true or false belongs here, not %q", n.Value)
			return
		}
		v.SetBool(n.Value == "true")
	case reflect.Int:
		i, err := strconv.Atoi(n.Value)
		if err != nil || i < 0 || i > 1_000_000_000 {
			r.say(n, where, "", "a whole number belongs here, not %q", n.Value)
			return
		}
		v.SetInt(int64(i))
	default:
		if bad := strings.IndexFunc(n.Value, func(c rune) bool { return c < ' ' && c != '\n' && c != '\t' || c == 0x7f || c == 0xfffd }); bad >= 0 {
			r.say(n, where, "", "a control character stands in %q", n.Value)
			return
		}
		if words := strings.Fields(tag.Get("oneof")); len(words) > 0 && !slices.Contains(words, n.Value) {
			hint := "one of: " + strings.Join(words, ", ")
			if near := Nearest(n.Value, words); near != "" {
				hint = "did you mean " + near + "?"
			}
			r.say(n, where, hint, "%q is not a word of the language here", n.Value)
			return
		}
		if say := formed(tag.Get("form"), n.Value); say != "" {
			r.say(n, where, "", "%s", say)
			return
		}
		v.SetString(n.Value)
	}
}

// formed says what is wrong with a value that has to have a form, "" when nothing is.
func formed(form, value string) string {
	switch form {
	case "id":
		if !Match("[a-z][a-z0-9_-]{0,49}", value) {
			return fmt.Sprintf("%q cannot be a name: small letters, digits, hyphens and underscores, a letter first, at most 50", value)
		}
	case "env":
		if !Match("[A-Z][A-Z0-9_]{0,79}", value) {
			return fmt.Sprintf("%q cannot be an environment variable: capitals, digits and underscores", value)
		}
	case "pattern":
		if _, err := whole(value); err != nil {
			return fmt.Sprintf("the pattern %q cannot be used: %v", value, err)
		}
	}
	return ""
}

// Nearest gives the word that a mistyped one most likely is, "" when none is near.
func Nearest(word string, words []string) string {
	best, least := "", len([]rune(word))/2+1
	for _, w := range words {
		if d := distance([]rune(strings.ToLower(word)), []rune(strings.ToLower(w))); d < least {
			best, least = w, d
		}
	}
	if best == "" { // a part of a longer name
		for _, w := range words {
			if len(word) > 3 && (strings.Contains(w, word) || len(w) > 3 && strings.Contains(word, w)) {
				return w
			}
		}
	}
	return best
}

// distance counts letters to add, drop, exchange or swap with a neighbour (optimal string alignment).
func distance(a, b []rune) int {
	if len(a) > 60 || len(b) > 60 {
		return 60
	}
	rows := make([][]int, len(a)+1)
	for i := range rows {
		rows[i] = make([]int, len(b)+1)
		rows[i][0] = i
	}
	for j := range rows[0] {
		rows[0][j] = j
	}
	for i := 1; i <= len(a); i++ {
		for j := 1; j <= len(b); j++ {
			cost := 1
			if a[i-1] == b[j-1] {
				cost = 0
			}
			rows[i][j] = min(rows[i-1][j]+1, rows[i][j-1]+1, rows[i-1][j-1]+cost)
			if i > 1 && j > 1 && a[i-1] == b[j-2] && a[i-2] == b[j-1] {
				rows[i][j] = min(rows[i][j], rows[i-2][j-2]+1)
			}
		}
	}
	return rows[len(a)][len(b)]
}
