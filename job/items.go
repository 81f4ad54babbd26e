package job

import (
	"fmt"
	"strings"

	"ligare/client/shape"
	"ligare/core/syntax/yaml"
)

// ReadItems reads a list of what shall be sold: YAML, or JSON, with items.
func ReadItems(name string, src []byte) ([]shape.Item, error) {
	bad := func(err error) error {
		return &Problem{What: name, Hint: "It holds items: a list of product, kind, title, group, price, active.", Err: err}
	}
	docs, err := yaml.Parse(src)
	if err != nil {
		return nil, bad(err)
	}
	if len(docs) != 1 || docs[0].Get("items") == nil {
		return nil, bad(fmt.Errorf("there are no items in it"))
	}
	out := []shape.Item{}
	for _, v := range docs[0].Get("items").Items {
		i := shape.Item{Active: true}
		for k, key := range v.Keys {
			at := v.Items[k]
			to := itemField(&i, key)
			switch {
			case key == "active" && (at.Text == "true" || at.Text == "false"):
				i.Active = at.Text == "true"
			case to == nil || !at.Scalar:
				return nil, bad(fmt.Errorf("line %d: %q is not understood", at.Line, key))
			default:
				*to = at.Text
			}
		}
		out = append(out, i)
	}
	return out, nil
}

func itemField(i *shape.Item, name string) *string {
	return map[string]*string{"product": &i.Product, "kind": &i.Kind, "price": &i.Price, "group": &i.Group, "title": &i.Title}[name]
}

// AddItem adds a typed item to a list, in the place of one of the same product.
func AddItem(items []shape.Item, text string) ([]shape.Item, error) {
	i := shape.Item{Active: true}
	for _, part := range strings.Split(text, ";") {
		k, v, ok := strings.Cut(strings.TrimSpace(part), "=")
		to := itemField(&i, strings.TrimSpace(k))
		if !ok || to == nil {
			return nil, stop(`Write it as "product=hive.year; kind=subscription; price=12.00 EUR; group=hive; title=A year".`, "--item: %q is not understood", part)
		}
		*to = strings.TrimSpace(v)
	}
	var out []shape.Item
	for _, had := range items {
		if had.Product != i.Product {
			out = append(out, had)
		}
	}
	return append(out, i), nil
}
