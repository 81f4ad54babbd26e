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

// Parse gives the documents of a file. A file may begin with directives and hold several documents; aliases are not
// followed. Errors carry the line.
func Parse(src []byte) ([]*Value, error) {
	d := yaml.NewDecoder(bytes.NewReader(bytes.TrimPrefix(src, []byte("\xEF\xBB\xBF"))))
	var out []*Value
	for len(out) < 10000 {
		var n yaml.Node
		err := d.Decode(&n)
		if err != nil && err.Error() == "EOF" {
			return out, nil
		}
		if err != nil {
			return out, err
		}
		if len(n.Content) == 0 {
			continue
		}
		v, err := convert(n.Content[0], 0)
		if err != nil {
			return out, err
		}
		out = append(out, v)
	}
	return out, fmt.Errorf("more than %d documents", len(out))
}

func convert(n *yaml.Node, depth int) (*Value, error) {
	if depth > MaxDepth {
		return nil, fmt.Errorf("line %d: values are nested more than %d deep", n.Line, MaxDepth)
	}
	v := &Value{Line: n.Line, Column: n.Column, Tag: n.Tag}
	switch n.Kind {
	case yaml.ScalarNode:
		v.Scalar, v.Text = true, n.Value
	case yaml.MappingNode:
		for i := 0; i+1 < len(n.Content); i += 2 {
			x, err := convert(n.Content[i+1], depth+1)
			if err != nil {
				return nil, err
			}
			v.Keys, v.Items = append(v.Keys, n.Content[i].Value), append(v.Items, x)
		}
	case yaml.SequenceNode:
		for _, c := range n.Content {
			x, err := convert(c, depth+1)
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
