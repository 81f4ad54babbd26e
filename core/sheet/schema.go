package sheet

import (
	"encoding/json"
	"fmt"
	"reflect"
	"strings"
)

// Schema gives the JSON Schema (2020-12) of the language, made from the same tags as the reader.
func Schema() ([]byte, error) {
	defs := map[string]any{}
	top := object(reflect.TypeOf(Sheet{}), defs)
	top["$schema"] = "https://json-schema.org/draft/2020-12/schema"
	top["title"] = "Ligare service sheet, version 1"
	top["$defs"] = defs
	if p, ok := top["properties"].(map[string]any); ok {
		p["sheet"] = map[string]any{"const": Format, "description": "Version of the language: 1."}
	}
	b, err := json.MarshalIndent(top, "", "  ")
	return append(b, '\n'), err
}

func object(t reflect.Type, defs map[string]any) map[string]any {
	props, need := map[string]any{}, []string{}
	for i := range t.NumField() {
		f := t.Field(i)
		name := f.Tag.Get("yaml")
		if name == "" || name == "-" {
			continue
		}
		p := property(f.Type, f.Tag, defs)
		if d := f.Tag.Get("doc"); d != "" {
			p["description"] = d
		}
		props[name] = p
		if f.Tag.Get("need") == "yes" {
			need = append(need, name)
		}
	}
	out := map[string]any{"type": "object", "properties": props, "additionalProperties": false}
	if len(need) > 0 {
		out["required"] = need
	}
	return out
}

func property(t reflect.Type, tag reflect.StructTag, defs map[string]any) map[string]any {
	switch t.Kind() {
	case reflect.Pointer:
		return property(t.Elem(), tag, defs)
	case reflect.Slice:
		return map[string]any{"type": "array", "items": property(t.Elem(), tag, defs)}
	case reflect.Map:
		return map[string]any{"type": "object", "additionalProperties": property(t.Elem(), tag, defs)}
	case reflect.Struct:
		if defs[t.Name()] == nil {
			defs[t.Name()] = true // under way
			defs[t.Name()] = object(t, defs)
		}
		return map[string]any{"$ref": "#/$defs/" + t.Name()}
	case reflect.Bool:
		return map[string]any{"type": "boolean"}
	case reflect.Int:
		return map[string]any{"type": "integer", "minimum": 0}
	}
	out := map[string]any{"type": []string{"string", "number", "boolean"}} // a text that YAML takes for a number is a text here
	if words := tag.Get("oneof"); words != "" {
		out = map[string]any{"enum": strings.Fields(words)}
	}
	switch tag.Get("form") {
	case "id":
		out = map[string]any{"type": "string", "pattern": "^[a-z][a-z0-9_-]{0,49}$"}
	case "env":
		out = map[string]any{"type": "string", "pattern": "^[A-Z][A-Z0-9_]{0,79}$"}
	}
	return out
}

// Reference gives the reference of the language as Markdown: every element with what it takes and an example, and an
// example of each group of elements; example is asked for both, with the group alone or with the element too, and takes them from a
// whole sheet so that they are known to be right.
func Reference(example func(kind, element string) string) string {
	var b strings.Builder
	done := map[string]bool{}
	var write func(t reflect.Type, title string)
	write = func(t reflect.Type, title string) {
		if done[t.Name()] {
			return
		}
		done[t.Name()] = true
		fmt.Fprintf(&b, "\n## %s\n\n| element | takes | | for example |\n|---|---|---|---|\n", title)
		type below struct {
			t     reflect.Type
			title string
		}
		var next []below
		for i := range t.NumField() {
			f := t.Field(i)
			name := f.Tag.Get("yaml")
			if name == "" || name == "-" {
				continue
			}
			takes, inner := takes(f.Type, f.Tag)
			if f.Tag.Get("need") == "yes" {
				name = "**" + name + "**"
			} else {
				name = "`" + name + "`"
			}
			say := ""
			if inner == nil { // a group's example stands with the group
				say = "`" + strings.ReplaceAll(example(t.Name(), f.Tag.Get("yaml")), "|", `\|`) + "`"
			}
			fmt.Fprintf(&b, "| %s | %s | %s | %s |\n", name, takes, strings.ReplaceAll(f.Tag.Get("doc"), "|", `\|`), say)
			if inner != nil {
				next = append(next, below{inner, f.Tag.Get("yaml")})
			}
		}
		if x := example(t.Name(), ""); x != "" {
			fmt.Fprintf(&b, "\n```yaml\n%s```\n", x)
		}
		for _, n := range next {
			write(n.t, n.title)
		}
	}
	write(reflect.TypeOf(Sheet{}), "A sheet")
	b.WriteString("\n## The generic ensures\n\nThe first layer: what the core can see to. Settings in bold are needed, from the named placement or from the sheet's `with`.\n\n| ensure | | settings |\n|---|---|---|\n")
	for _, e := range Ensures {
		var set []string
		for _, s := range e.Settings {
			name := "`" + s.Name + "`"
			if s.Need {
				name = "**" + s.Name + "**"
			}
			set = append(set, name+" "+s.Doc)
		}
		fmt.Fprintf(&b, "| `%s` | %s | %s |\n", e.Name, e.Doc, strings.Join(set, "<br>"))
	}
	return b.String()
}

func takes(t reflect.Type, tag reflect.StructTag) (string, reflect.Type) {
	switch t.Kind() {
	case reflect.Pointer:
		return takes(t.Elem(), tag)
	case reflect.Slice:
		say, inner := takes(t.Elem(), tag)
		return "list of " + say, inner
	case reflect.Map:
		say, inner := takes(t.Elem(), tag)
		return "names with " + say, inner
	case reflect.Struct:
		return "[elements](#" + tag.Get("yaml") + ")", t
	case reflect.Bool:
		return "true, false", nil
	case reflect.Int:
		return "number", nil
	}
	if w := tag.Get("oneof"); w != "" {
		return strings.ReplaceAll(w, " ", ", "), nil
	}
	if f := tag.Get("form"); f != "" {
		return map[string]string{"id": "name", "env": "variable name", "pattern": "pattern"}[f], nil
	}
	return "text", nil
}
