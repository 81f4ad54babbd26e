package gradle

import (
	"bytes"
	"strings"

	"ligare/core/syntax/lex"
)

// Key tells a statement from others of its name: the address of a repository, a catalog's accessor, a module of the
// build, or its first literal argument.
func (f *File) Key(s *Stmt) string {
	if u := f.URL(s); u != "" {
		return u
	}
	if len(s.Args) == 0 {
		return ""
	}
	_, arg := f.entry(s.Args[0]) // apply plugin: 'x'
	if text, ok := f.Literal(arg); ok {
		return text
	}
	if len(s.Head) == 1 && s.Head[0] == "id" && len(arg) > 0 { // id 'x' version '1'
		text, _ := lex.Literal(f.Src, arg[0])
		return text
	}
	if d := f.DependencyOf(s, ""); d.Project != "" {
		return "project(" + d.Project + ")"
	}
	if text := f.dotted(arg); len(s.Head) == 1 && strings.HasPrefix(text, "libs.") {
		return text
	}
	return ""
}

// Step writes one step of an address: name, or name(key).
func Step(name, key string) string {
	if key == "" {
		return name
	}
	return name + "(" + strings.NewReplacer(`\`, `\\`, `)`, `\)`, `/`, `\/`).Replace(key) + ")"
}

// Find resolves an address (steps joined by /) to the statement it names.
func (f *File) Find(address string) (start, end int, ok bool) {
	steps := splitSteps(address)
	list := f.Stmts
	var found *Stmt
	for _, step := range steps {
		found = nil
		for _, s := range flat(list) {
			names := normal(f.Names(s))
			name := strings.Join(names, ".")
			if step == name && (s.Block != nil || len(s.Args) == 0) || step == Step(name, f.Key(s)) {
				found = s
				break
			}
		}
		if found == nil {
			return 0, 0, false
		}
		list = found.Stmts
	}
	if found == nil {
		return 0, 0, false
	}
	return found.Start, found.End, true
}

// flat opens conditionals: what stands under one counts after everything that does not.
func flat(list []*Stmt) []*Stmt {
	var out, under []*Stmt
	for _, s := range list {
		if s.Block == nil && len(s.Stmts) > 0 {
			under = append(under, flat(s.Stmts)...)
		} else {
			out = append(out, s)
		}
	}
	return append(out, under...)
}

func splitSteps(address string) []string {
	var out []string
	var b strings.Builder
	for i := 0; i < len(address); i++ {
		switch c := address[i]; {
		case c == '\\' && i+1 < len(address):
			b.WriteByte(c)
			i++
			b.WriteByte(address[i])
		case c == '/':
			out = append(out, b.String())
			b.Reset()
		default:
			b.WriteByte(c)
		}
	}
	return append(out, b.String())
}

// Into inserts a statement as the last of a block.
func (f *File) Into(block *Stmt, text string) lex.Insertion {
	g := block.Block
	if n := len(block.Stmts); n > 0 && !strings.Contains(text, "\n") && !bytes.ContainsAny(f.Src[g.Start:g.End], "\r\n") {
		return lex.Insertion{Offset: block.Stmts[n-1].End, Before: "; ", Text: text} // a block of one line stays one
	}
	indent := lex.Indent(f.Src, block.Start)
	unit := lex.Unit(f.Src)
	if n := len(block.Stmts); n > 0 { // as deep as the last statement, if that has a line of its own
		last := block.Stmts[n-1].Start
		own := lex.Indent(f.Src, last)
		if start := lex.LineStart(f.Src, last); start > g.Start && start+len(own) == last && strings.HasPrefix(own, indent) {
			unit = strings.TrimPrefix(own, indent)
		}
	}
	return lex.IntoGroup(f.Src, g.Kids[0].End, g.End-1, indent, unit, text)
}

// Ahead inserts a statement in front of another, on lines of its own.
func (f *File) Ahead(of *Stmt, text string) lex.Insertion {
	indent := lex.Indent(f.Src, of.Start)
	nl := lex.LineEnd(f.Src)
	return lex.Insertion{Offset: of.Start, Text: lex.Reindent(text, indent, nl), After: nl + indent}
}

// Append inserts a statement at the end of the file, after an empty line.
func (f *File) Append(text string) lex.Insertion {
	nl := lex.LineEnd(f.Src)
	text = lex.Reindent(text, "", nl)
	n := len(f.Src)
	if n == 0 {
		return lex.Insertion{Text: text, After: nl}
	}
	if f.Src[n-1] == '\n' || f.Src[n-1] == '\r' {
		return lex.Insertion{Offset: n, Before: nl, Text: text, After: nl}
	}
	return lex.Insertion{Offset: n, Before: nl + nl, Text: text}
}

// Quote writes a string in the file's dialect, in the quotes the file uses most.
func (f *File) Quote(s string) string {
	if f.Kotlin {
		return lex.Quoted(s, '"', true)
	}
	single, double := 0, 0
	f.Tree.Root.Walk(func(n *lex.Node) bool {
		if n.Kind == lex.String {
			if f.Src[n.Start] == '"' {
				double++
			} else {
				single++
			}
		}
		return true
	})
	if double > single {
		return lex.Quoted(s, '"', true)
	}
	return lex.Quoted(s, '\'', false)
}

// Unit gives the file's step of indentation.
func (f *File) Unit() string { return lex.Unit(f.Src) }
