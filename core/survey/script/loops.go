package script

import (
	"fmt"

	"ligare/core/survey/fact"
	"ligare/core/syntax/gradle"
	"ligare/core/syntax/lex"
)

// turn is one round of a loop: the statements inside it, with the loop's name bound.
type turn struct {
	scope    scope
	settings []gradle.Setting
}

// loop unfolds a block that runs for each item of a list that is known: listOf("a", "b").forEach { create(it) { } }.
func (m *Model) loop(s scope, d gradle.Setting) ([]turn, bool) {
	n := len(d.Head)
	if d.Block == nil || s.depth() > 3 {
		return nil, false
	}
	names, over := each(s.f, d)
	if len(over) == 0 {
		return nil, false
	}
	v := s.eval(over)
	if v.kind != list && v.kind != dict {
		return nil, false
	}
	inner := inside(s.f, func(up []*gradle.Stmt) int {
		for i, u := range up {
			if u == d.Stmt {
				return i
			}
		}
		return -1
	})
	for i := range inner {
		inner[i].Up = append(append([]*gradle.Stmt(nil), d.Up...), inner[i].Up...)
		inner[i].Path = append(append([]string(nil), d.Path[:max(0, len(d.Path)-n)]...), inner[i].Path[min(len(d.Path), len(inner[i].Path)):]...)
	}
	var out []turn
	for i, item := range v.items {
		if !item.known() {
			return nil, false
		}
		in := s
		var key value // of a map's entry
		if v.kind == dict {
			key.fact = fact.Of(v.keys[i], item.fact.File, item.fact.Line, item.fact.Column)
		}
		switch {
		case v.kind == list && len(names) == 1:
			in.bind = with(s.bind, names[0], item)
		case v.kind == dict && len(names) == 1:
			in.bind = with(with(s.bind, names[0]+".key", key), names[0]+".value", item)
		case v.kind == dict && len(names) == 2:
			in.bind = with(with(s.bind, names[0], key), names[1], item)
		default:
			return nil, false
		}
		in.turn = fmt.Sprint(s.turn, d.Start, "#", i)
		out = append(out, turn{in, inner})
	}
	return out, true
}

// each takes a loop apart: the names it binds and what it runs over. list.each { n -> }, forEach { (k, v) -> }, for (n in
// list), for (String n : list).
func each(f *gradle.File, d gradle.Setting) (names []string, over gradle.Expr) {
	if len(d.Head) == 1 && d.Head[0] == "for" && len(d.Nodes) > 1 && d.Nodes[1].Kind == lex.Group {
		head := lex.Solid(d.Nodes[1].Inner())
		for i, n := range head {
			if i > 0 && (n.Is(f.Src, lex.Word, "in") || n.Is(f.Src, lex.Punct, ":")) {
				return f.Params(head[:i]), gradle.Expr(head[i+1:])
			}
		}
		return nil, nil
	}
	for i, k := range d.Nodes {
		if k == d.Block && i > 2 && (d.Nodes[i-1].Is(f.Src, lex.Word, "forEach") || d.Nodes[i-1].Is(f.Src, lex.Word, "each")) {
			if names = d.Params; len(names) == 0 {
				names = []string{"it"}
			}
			return names, gradle.Expr(d.Nodes[:i-2])
		}
	}
	return nil, nil
}

// insideAny reports whether any of the statements around one is among others.
func insideAny(up, others []*gradle.Stmt) bool {
	for _, u := range up {
		for _, o := range others {
			if u == o {
				return true
			}
		}
	}
	return false
}

// computed gives a block's name where it is the loop's own: create(name) { }, "$name" { }.
func computed(f *gradle.File, s *gradle.Stmt, names []string, text func(gradle.Expr) string) []string {
	if n := len(names); n > 0 && len(s.Args) > 0 && (names[n-1] == "create" || names[n-1] == "register" || names[n-1] == "maybeCreate" || names[n-1] == "getByName" || names[n-1] == "named") {
		if name := text(s.Args[0]); name != "" {
			return append(append([]string(nil), names[:n-1]...), name)
		}
	}
	if len(names) == 0 && s.Block != nil && len(s.Nodes) > 0 && s.Nodes[0].Kind == lex.String {
		if name := text(s.Nodes[:1]); name != "" {
			return []string{name}
		}
	}
	return names
}

// Loop reports whether the statement runs a block for each item of something that is not known.
func (s Stmt) Loop() bool {
	if len(s.Head) == 1 && s.Head[0] == "for" && s.Block != nil {
		return true
	}
	for i, k := range s.Nodes {
		if k == s.Block && i > 0 && (s.Nodes[i-1].Is(s.in.f.Src, lex.Word, "forEach") || s.Nodes[i-1].Is(s.in.f.Src, lex.Word, "each")) {
			return true
		}
	}
	return false
}
