package script

import (
	"fmt"

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
	at := -1 // of the word each
	for i, k := range d.Nodes {
		if k == d.Block && i > 1 && (d.Nodes[i-1].Is(s.f.Src, lex.Word, "forEach") || d.Nodes[i-1].Is(s.f.Src, lex.Word, "each")) {
			at = i - 1
		}
	}
	if at < 2 {
		return nil, false
	}
	v := s.eval(d.Nodes[:at-1])
	if v.kind != list {
		return nil, false
	}
	name := "it"
	if len(d.Params) > 0 {
		name = d.Params[0]
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
		in.bind = with(s.bind, name, item)
		in.turn = fmt.Sprint(s.turn, d.Start, "#", i)
		out = append(out, turn{in, inner})
	}
	return out, true
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
	for i, k := range s.Nodes {
		if k == s.Block && i > 0 && (s.Nodes[i-1].Is(s.in.f.Src, lex.Word, "forEach") || s.Nodes[i-1].Is(s.in.f.Src, lex.Word, "each")) {
			return true
		}
	}
	return false
}
