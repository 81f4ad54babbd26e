// Package yaml reads YAML as far as app trees go: package lists, tagged settings assets, with the place of every value.
// Text is taken apart by the standard YAML package; nothing is written.
package yaml

import (
	"bytes"
	"fmt"

	"go.yaml.in/yaml/v3"
)

// Value is one node of a document. Line and column are counted from 1.
type Value struct {
	Tag          string // of the document's own tags: !u!129
	Text         string // of a scalar
	Scalar       bool
	Keys         []string
	Items        []*Value // of a mapping, beside Keys; or of a sequence
	Line, Column int
}

// MaxDepth bounds how deep values may be nested.
const MaxDepth = 200

// Parse gives the documents of a file. Directives at its beginning hold for all of them, as engines write their assets;
// aliases are not followed. Errors carry the line.
func Parse(src []byte) ([]*Value, error) {
	var out []*Value
	for _, part := range documents(bytes.TrimPrefix(src, []byte("\xEF\xBB\xBF"))) {
		var n yaml.Node
		if err := yaml.Unmarshal(part.text, &n); err != nil {
			return out, fmt.Errorf("the document on line %d: %w", part.line, err)
		}
		if len(n.Content) == 0 {
			continue
		}
		if len(out) == maxDocuments {
			return out, fmt.Errorf("more than %d documents", maxDocuments)
		}
		v, err := convert(n.Content[0], part.line-part.header-1, 0)
		if err != nil {
			return out, err
		}
		out = append(out, v)
	}
	return out, nil
}

const maxDocuments = 10000

// document is one of a file's, with the directives in front of it.
type document struct {
	text   []byte
	line   int // on which it begins
	header int // lines of directives in front
}

// documents separates a file at its markers. What some engines write behind a marker's anchor is left out.
func documents(src []byte) []document {
	var header, cur []byte
	var out []document
	line, start, headers := 0, 1, 0
	flush := func() {
		if len(bytes.TrimSpace(cur)) > 0 {
			out = append(out, document{append(append([]byte(nil), header...), cur...), start, headers})
		}
		cur = nil
	}
	for _, l := range bytes.SplitAfter(src, []byte("\n")) {
		line++
		marker := bytes.HasPrefix(l, []byte("---")) && (len(l) == 3 || l[3] == ' ' || l[3] == '\t' || l[3] == '\r' || l[3] == '\n')
		switch {
		case len(out) == 0 && len(cur) == 0 && bytes.HasPrefix(l, []byte("%")):
			header = append(header, l...)
			headers++
			start = line + 1
			continue
		case marker:
			flush()
			start = line
			if rest, ok := bytes.CutSuffix(bytes.TrimRight(l, " \r\n"), []byte(" stripped")); ok {
				l = append(append([]byte(nil), rest...), '\n')
			}
		}
		cur = append(cur, l...)
	}
	flush()
	return out
}

func convert(n *yaml.Node, above, depth int) (*Value, error) {
	if depth > MaxDepth {
		return nil, fmt.Errorf("line %d: values are nested more than %d deep", n.Line+above, MaxDepth)
	}
	v := &Value{Line: n.Line + above, Column: n.Column, Tag: n.Tag}
	switch n.Kind {
	case yaml.ScalarNode:
		v.Scalar, v.Text = true, n.Value
	case yaml.MappingNode:
		for i := 0; i+1 < len(n.Content); i += 2 {
			x, err := convert(n.Content[i+1], above, depth+1)
			if err != nil {
				return nil, err
			}
			v.Keys, v.Items = append(v.Keys, n.Content[i].Value), append(v.Items, x)
		}
	case yaml.SequenceNode:
		for _, c := range n.Content {
			x, err := convert(c, above, depth+1)
			if err != nil {
				return nil, err
			}
			v.Items = append(v.Items, x)
		}
	}
	return v, nil
}

// Get follows keys; nil when one is not there.
func (v *Value) Get(keys ...string) *Value {
	for _, k := range keys {
		if v == nil {
			return nil
		}
		next := (*Value)(nil)
		for i, have := range v.Keys {
			if have == k {
				next = v.Items[i]
			}
		}
		v = next
	}
	return v
}
