package survey

import (
	"reflect"
	"strings"

	"ligare/core/survey/fact"
)

// Schema gives the JSON Schema (draft 2020-12) of a report, made from the types themselves. It fixes the three forms of
// a fact: one value, several possible ones, none that could be resolved.
func Schema() map[string]any {
	s := &schema{defs: map[string]any{}}
	root := s.of(reflect.TypeFor[Report]())
	s.defs["versionControl"] = map[string]any{"type": "object", "required": []string{"known", "files"}, "properties": map[string]any{
		"known": typed("boolean"), "why": typed("string"), "shallow": typed("boolean"),
		"files": map[string]any{"type": "array", "items": map[string]any{"type": "object", "required": []string{"file", "what", "there", "tracked", "ignored", "everCommitted"}, "properties": map[string]any{
			"file": typed("string"), "what": typed("string"), "there": typed("boolean"), "tracked": typed("boolean"), "ignored": typed("boolean"), "ignoredBy": typed("string"), "everCommitted": typed("boolean")}}}}}
	out := map[string]any{"$schema": "https://json-schema.org/draft/2020-12/schema", "title": "What `ligare survey --format json` prints", "$defs": s.defs}
	for k, v := range root {
		out[k] = v
	}
	props := map[string]any{"versionControl": map[string]any{"$ref": "#/$defs/versionControl"}}
	report := s.defs["Report"].(map[string]any)
	for k, v := range report["properties"].(map[string]any) {
		props[k] = v
	}
	report["properties"] = props
	return out
}

type schema struct{ defs map[string]any }

func typed(name string) map[string]any { return map[string]any{"type": name} }

func (s *schema) of(t reflect.Type) map[string]any {
	switch t.Kind() {
	case reflect.Pointer:
		return s.of(t.Elem())
	case reflect.Slice:
		return map[string]any{"type": "array", "items": s.of(t.Elem())}
	case reflect.String:
		return typed("string")
	case reflect.Int:
		return typed("integer")
	case reflect.Bool:
		return typed("boolean")
	case reflect.Struct:
		name := t.Name()
		if s.defs[name] == nil {
			s.defs[name] = true // a type may hold itself
			s.defs[name] = s.object(t)
		}
		return map[string]any{"$ref": "#/$defs/" + name}
	}
	return map[string]any{}
}

func (s *schema) object(t reflect.Type) map[string]any {
	if t == reflect.TypeFor[fact.Fact]() {
		return s.fact()
	}
	props := map[string]any{}
	required := []string{}
	var all []any
	for i := range t.NumField() {
		f := t.Field(i)
		if f.Anonymous { // an embedded fact lends its forms
			all = append(all, s.of(f.Type))
			continue
		}
		tag := f.Tag.Get("json")
		if !f.IsExported() || tag == "-" {
			continue
		}
		name, rest, _ := strings.Cut(tag, ",")
		props[name] = s.of(f.Type)
		if !strings.Contains(rest, "omitempty") {
			required = append(required, name)
		}
	}
	out := map[string]any{"type": "object", "properties": props, "required": required}
	if len(all) > 0 {
		out["allOf"] = all
	}
	return out
}

// fact gives the forms of an answer.
func (s *schema) fact() map[string]any {
	one := func(required []string, value any) map[string]any {
		return map[string]any{"required": required, "properties": map[string]any{"value": value}}
	}
	without := func(m map[string]any, names ...string) map[string]any {
		var no []any
		for _, n := range names {
			no = append(no, map[string]any{"required": []string{n}})
		}
		m["not"] = map[string]any{"anyOf": no}
		return m
	}
	null := typed("null")
	return map[string]any{
		"description": "One answer: a value with its place and the chain by which it was found; several possible values with their conditions; or why there is none. All absent: the tree says nothing.",
		"type":        "object", "required": []string{"value"},
		"properties": map[string]any{
			"value": map[string]any{"type": []string{"string", "null"}},
			"file":  typed("string"), "line": map[string]any{"type": "integer", "minimum": 1}, "column": map[string]any{"type": "integer", "minimum": 1},
			"via":        map[string]any{"type": "array", "items": typed("string")},
			"unresolved": map[string]any{"type": "string", "minLength": 1},
			"possible":   map[string]any{"type": "array", "minItems": 1, "items": s.of(reflect.TypeFor[fact.Possible]())},
		},
		"oneOf": []any{
			without(one([]string{"value"}, typed("string")), "unresolved", "possible"),
			without(one([]string{"value", "possible"}, null), "unresolved"),
			without(one([]string{"value", "unresolved"}, null), "possible"),
			without(one([]string{"value"}, null), "unresolved", "possible"),
		},
	}
}
