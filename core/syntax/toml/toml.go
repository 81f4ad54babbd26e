// Package toml reads TOML v1.0.0 as far as version catalogs go: tables, dotted keys, strings, inline tables, with places.
package toml

import (
	"fmt"
	"strings"

	"ligare/core/syntax/lex"
)

// Entry is one key of a table. Inline tables are flattened: versions.agp, libraries.core.module, libraries.core.version.ref.
type Entry struct {
	Path         string
	Value        string // strings decoded, others as written
	Line, Column int    // of the value
}

// File is the entries in order.
type File struct{ Entries []Entry }

// Parse reads src; the error carries line and column.
func Parse(src []byte) (*File, error) {
	t := lex.Parse(lex.TOML, src)
	f := &File{}
	fail := func(at int, format string, args ...any) error {
		l, c := lex.Position(src, at)
		return fmt.Errorf("%d:%d: %s", l, c, fmt.Sprintf(format, args...))
	}
	if len(t.Problems) > 0 {
		return nil, fail(t.Problems[0].Offset, "%s", t.Problems[0].Message)
	}
	p := &reader{src: src, f: f}
	table := ""
	var line []*lex.Node
	flush := func() error {
		defer func() { line = nil }()
		if len(line) == 0 {
			return nil
		}
		if len(line) == 1 && line[0].Bracket(src) == '[' {
			table = p.key(p.headKey(line[0]))
			return nil
		}
		return p.assign(table, line, fail)
	}
	for _, n := range t.Root.Kids {
		switch {
		case n.Kind == lex.Newline:
			if err := flush(); err != nil {
				return nil, err
			}
		case !n.Trivia():
			line = append(line, n)
		}
	}
	if err := flush(); err != nil {
		return nil, err
	}
	return f, nil
}

type reader struct {
	src []byte
	f   *File
}

// headKey opens [table] and [[array of tables]].
func (p *reader) headKey(g *lex.Node) []*lex.Node {
	in := lex.Solid(g.Inner())
	if len(in) == 1 && in[0].Bracket(p.src) == '[' {
		in = lex.Solid(in[0].Inner())
	}
	return in
}

func (p *reader) key(nodes []*lex.Node) string {
	var b strings.Builder
	for _, n := range nodes {
		if text, ok := lex.Literal(p.src, n); ok {
			b.WriteString(text)
		} else {
			b.WriteString(n.Of(p.src))
		}
	}
	return b.String()
}

func (p *reader) assign(prefix string, nodes []*lex.Node, fail func(int, string, ...any) error) error {
	eq := -1
	for i, n := range nodes {
		if n.Is(p.src, lex.Punct, "=") {
			eq = i
			break
		}
	}
	if eq <= 0 || eq == len(nodes)-1 {
		return fail(nodes[0].Start, "`key = value` is expected")
	}
	path := p.key(nodes[:eq])
	if prefix != "" {
		path = prefix + "." + path
	}
	value := nodes[eq+1:]
	if len(value) == 1 && value[0].Bracket(p.src) == '{' {
		var part []*lex.Node
		for _, n := range append(lex.Solid(value[0].Inner()), nil) {
			if n == nil || n.Is(p.src, lex.Punct, ",") {
				if len(part) > 0 {
					if err := p.assign(path, part, fail); err != nil {
						return err
					}
				}
				part = nil
				continue
			}
			part = append(part, n)
		}
		return nil
	}
	text := string(p.src[value[0].Start:value[len(value)-1].End])
	if s, ok := lex.Literal(p.src, value[0]); ok && len(value) == 1 {
		text = s
	}
	l, c := lex.Position(p.src, value[0].Start)
	p.f.Entries = append(p.f.Entries, Entry{Path: path, Value: text, Line: l, Column: c})
	return nil
}

// Get gives an entry by path.
func (f *File) Get(path string) (Entry, bool) {
	for _, e := range f.Entries {
		if e.Path == path {
			return e, true
		}
	}
	return Entry{}, false
}

// Accessor finds an entry of a catalog section by its generated accessor: - and _ and . in an alias are all dots.
// suffix is what follows the alias in the path (".module", or "" for a plain value).
func (f *File) Accessor(section, accessor, suffix string) (Entry, bool) {
	norm := func(s string) string { return strings.NewReplacer("-", ".", "_", ".").Replace(s) }
	for _, e := range f.Entries {
		rest, ok := strings.CutPrefix(e.Path, section+".")
		if !ok || !strings.HasSuffix(rest, suffix) {
			continue
		}
		if norm(strings.TrimSuffix(rest, suffix)) == norm(accessor) {
			return e, true
		}
	}
	return Entry{}, false
}
