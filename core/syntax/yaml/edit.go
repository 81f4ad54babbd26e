package yaml

import (
	"bytes"
	"fmt"
	"strings"

	"go.yaml.in/yaml/v3"

	"ligare/core/syntax/lex"
)

// Step writes one step of an address.
func Step(key string) string {
	return "/" + strings.ReplaceAll(strings.ReplaceAll(key, "~", "~0"), "/", "~1")
}

func keys(address string) []string {
	var out []string
	for _, s := range strings.Split(strings.TrimPrefix(address, "/"), "/") {
		out = append(out, strings.ReplaceAll(strings.ReplaceAll(s, "~1", "/"), "~0", "~"))
	}
	return out
}

// node gives the key and the value an address of keys leads to, in the first document.
func node(src []byte, address string) (key, value *yaml.Node, err error) {
	var doc yaml.Node
	if err := yaml.Unmarshal(src, &doc); err != nil {
		return nil, nil, err
	}
	if len(doc.Content) == 0 {
		return nil, nil, nil
	}
	at := doc.Content[0]
	for _, k := range keys(address) {
		var next *yaml.Node
		for i := 0; at.Kind == yaml.MappingNode && i+1 < len(at.Content); i += 2 {
			if at.Content[i].Value == k {
				key, next = at.Content[i], at.Content[i+1]
			}
		}
		if next == nil {
			return nil, nil, nil
		}
		at = next
	}
	return key, at, nil
}

// Find resolves an address of keys to the lines of an entry: from its key to the end of the last line of its value, the
// comment behind that left out. Entries of mappings in braces are not found.
func Find(src []byte, address string) (start, end int, ok bool) {
	key, _, err := node(src, address)
	if err != nil || key == nil {
		return 0, 0, false
	}
	start = offset(src, key.Line, key.Column)
	if lex.LineStart(src, start)+len(lex.Indent(src, start)) != start { // not the first on its line
		return 0, 0, false
	}
	return start, entryEnd(src, start), true
}

// offset turns a line and a column (in characters) into an offset.
func offset(src []byte, line, column int) int {
	at := 0
	for range line - 1 {
		at = lex.NextLine(src, at)
	}
	if at == 0 && bytes.HasPrefix(src, []byte("\xEF\xBB\xBF")) {
		at = 3
	}
	for i := range string(src[at:]) {
		if column--; column == 0 {
			return at + i
		}
	}
	return len(src)
}

// entryEnd gives the end of the last line that belongs to an entry: those that follow and are indented deeper, or are
// the items of a list at the key's own depth.
func entryEnd(src []byte, start int) int {
	depth := len(lex.Indent(src, start))
	last := start
	for at := lex.NextLine(src, start); at < len(src); at = lex.NextLine(src, at) {
		line := strings.TrimRight(string(src[at:lex.NextLine(src, at)]), "\r\n")
		text := strings.TrimLeft(line, " ")
		if strings.TrimSpace(text) == "" || strings.HasPrefix(text, "#") {
			continue
		}
		if in := len(line) - len(text); in < depth || in == depth && !strings.HasPrefix(text, "- ") && text != "-" {
			break
		}
		last = at
	}
	line := strings.TrimRight(string(src[lex.LineStart(src, last):lex.NextLine(src, last)]), "\r\n")
	return lex.LineStart(src, last) + len(strings.TrimRight(uncommented(line), " \t"))
}

// uncommented cuts the comment behind a line; a # inside quotes, or without a blank before it, is none (YAML 1.2, section 6.6).
func uncommented(line string) string {
	quote := byte(0)
	for i := 0; i < len(line); i++ {
		switch c := line[i]; {
		case quote != 0:
			if c == '\\' && quote == '"' {
				i++
			} else if c == quote {
				quote = 0
			}
		case (c == '"' || c == '\'') && (i == 0 || line[i-1] == ' ' || line[i-1] == ':' || line[i-1] == '['):
			quote = c
		case c == '#' && (i == 0 || line[i-1] == ' ' || line[i-1] == '\t'):
			return line[:i]
		}
	}
	return line
}

// Add inserts an entry as the last one of a block mapping ("" for the document's own). The value is given as YAML.
func Add(src []byte, mapping, key, value string) (lex.Insertion, error) {
	text := key + ": " + value
	if value == "" {
		text = key + ":"
	}
	if mapping == "" {
		return lex.OnLinesAfter(src, len(bytes.TrimRight(src, " \t\r\n")), "", text), nil
	}
	k, v, err := node(src, mapping)
	switch {
	case err != nil:
		return lex.Insertion{}, err
	case k == nil:
		return lex.Insertion{}, fmt.Errorf("%s is not there", mapping)
	case v.Kind == yaml.ScalarNode && v.Tag == "!!null":
		at := offset(src, k.Line, k.Column)
		return lex.OnLinesAfter(src, entryEnd(src, at), lex.Indent(src, at)+lex.UnitOr(src, "  "), text), nil
	case v.Kind != yaml.MappingNode:
		return lex.Insertion{}, fmt.Errorf("line %d: %s is not a mapping", v.Line, mapping)
	case v.Style&yaml.FlowStyle != 0:
		return lex.Insertion{}, fmt.Errorf("line %d: %s is written in braces; write one entry a line", v.Line, mapping)
	}
	last := v.Content[len(v.Content)-2]
	at := offset(src, last.Line, last.Column)
	return lex.OnLinesAfter(src, entryEnd(src, at), lex.Indent(src, at), text), nil
}

// Scalar writes a text so that it is read back as a text.
func Scalar(text string) string {
	var n yaml.Node
	if err := yaml.Unmarshal([]byte(text), &n); err == nil && len(n.Content) == 1 && n.Content[0].Kind == yaml.ScalarNode && n.Content[0].Tag == "!!str" && n.Content[0].Value == text {
		return text
	}
	return lex.Quoted(text, '"', false)
}
