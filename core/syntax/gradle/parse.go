// Package gradle reads and edits Gradle build files in both dialects, Groovy and Kotlin, as statements and blocks over
// the token tree of package lex. It runs nothing: what a value is worth is for the reader of the tree to work out.
//
// Sources: Groovy and Kotlin language documentation for the grammar, the Gradle user guide for the two DSLs.
package gradle

import (
	"fmt"
	"path"
	"strings"

	"ligare/core/syntax/lex"
)

// File is a build file read.
type File struct {
	Kotlin   bool
	Src      []byte
	Tree     *lex.Tree
	Stmts    []*Stmt
	Problems []lex.Problem
	settings []Setting // made on first use
	lines    lex.Lines
}

// Expr is the nodes of one expression, trivia left out.
type Expr []*lex.Node

// Stmt is one statement. A call, an assignment and a block share one shape: a dotted head, arguments or a value, and
// perhaps a block.
type Stmt struct {
	Head       []string // dotted: android.defaultConfig.applicationId
	Decl       string   // def, val, var: the statement declares Head
	Assign     string   // =, += or by, when there is a Value
	Value      Expr
	Args       []Expr
	Tail       Expr // what follows the arguments: version "1" apply false
	Block      *lex.Node
	Stmts      []*Stmt  // inside the block
	Cond       string   // the condition under which the statement stands, "" for none
	Tests      []Test   // the same, part by part
	Type       string   // the first type argument of a call in the head: configure<AppExtension>
	Params     []string // names before the arrow of the block
	Nodes      Expr     // the whole statement
	Start, End int
}

// Test is one condition a statement stands under. An expression is absent where no file can say: in a catch.
type Test struct {
	Expr Expr
	Not  bool
}

// Parse reads src; the name decides the dialect (.kts is Kotlin).
func Parse(name string, src []byte) *File {
	f := &File{Kotlin: path.Ext(name) == ".kts", Src: src}
	l := lex.Groovy
	if f.Kotlin {
		l = lex.Kotlin
	}
	f.Tree = lex.Parse(l, src)
	f.Problems = f.Tree.Problems
	f.Stmts = f.stmts(f.Tree.Root.Kids, nil)
	return f
}

// Err gives the first problem with its place, or nil.
func (f *File) Err() error {
	if len(f.Problems) == 0 {
		return nil
	}
	l, c := lex.Position(f.Src, f.Problems[0].Offset)
	return fmt.Errorf("%d:%d: %s", l, c, f.Problems[0].Message)
}

func (f *File) stmts(nodes []*lex.Node, tests []Test) []*Stmt {
	var out []*Stmt
	var cur []*lex.Node
	flush := func() {
		if len(cur) > 0 {
			out = append(out, f.stmt(cur, tests)...)
			cur = nil
		}
	}
	for i, n := range nodes {
		switch {
		case n.Kind == lex.Newline:
			if !f.continues(cur, nodes[i+1:]) {
				flush()
			}
		case n.Trivia():
		case n.Is(f.Src, lex.Punct, ";"):
			flush()
		default:
			cur = append(cur, n)
		}
	}
	flush()
	return out
}

func (f *File) continues(cur, rest []*lex.Node) bool {
	if len(cur) == 0 {
		return false
	}
	if last := cur[len(cur)-1]; last.Kind == lex.Punct && !last.Is(f.Src, lex.Punct, ">") || last.Is(f.Src, lex.Word, "else") {
		return true
	}
	for _, n := range rest {
		if n.Trivia() {
			continue
		}
		switch t := n.Of(f.Src); {
		case n.Kind == lex.Punct:
			return t == "." || t == "?." || t == "?:" || t == "?" || t == ":" || t == "&&" || t == "||"
		case n.Kind == lex.Word:
			first := cur[0].Of(f.Src)
			return t == "else" && first == "if" || (t == "catch" || t == "finally") && first == "try"
		}
		return false
	}
	return false
}

// declares are the words before a declared name: keywords, modifiers, and the types that scripts write out.
var declares = map[string]bool{"def": true, "val": true, "var": true, "fun": true, "final": true, "String": true, "int": true, "Integer": true,
	"boolean": true, "Boolean": true, "long": true, "File": true, "Properties": true, "void": true, "const": true, "static": true, "public": true,
	"private": true, "protected": true, "internal": true, "override": true, "lateinit": true, "inline": true, "open": true, "abstract": true}

func (f *File) stmt(n []*lex.Node, tests []Test) []*Stmt {
	src := f.Src
	switch first := n[0].Of(src); {
	case n[0].Kind == lex.Word && (first == "if" || first == "try") && len(n) > 1:
		return f.control(n, tests)
	case n[0].Is(src, lex.Punct, "@"): // an annotation: @Suppress("x")
		for i := 1; i < len(n); i++ {
			if n[i].Kind == lex.Word && i+1 < len(n) && n[i+1].Kind != lex.Punct && n[i+1].Kind != lex.Group {
				return f.stmt(n[i+1:], tests)
			}
		}
	}
	s := &Stmt{Start: n[0].Start, End: n[len(n)-1].End, Cond: f.conditions(tests), Tests: tests, Nodes: n}
	i := 0
	for i+1 < len(n) && n[i].Kind == lex.Word && declares[n[i].Of(src)] && (n[i+1].Kind == lex.Word || s.Decl == "fun" && n[i+1].Is(src, lex.Punct, "<")) {
		s.Decl = n[i].Of(src)
		if i++; n[i].Is(src, lex.Punct, "<") { // fun <T> name
			for i++; i < len(n) && !n[i-1].Is(src, lex.Punct, ">"); i++ {
			}
		}
	}
	i = f.head(s, n, i)
	f.rest(s, n[i:], tests)
	return []*Stmt{s}
}

// head reads a dotted path: words, quoted names, ["index"] and type arguments.
func (f *File) head(s *Stmt, n []*lex.Node, i int) int {
	src := f.Src
	for i < len(n) {
		if n[i].Kind == lex.Word {
			s.Head = append(s.Head, n[i].Of(src))
		} else if text, ok := lex.Literal(src, n[i]); ok && (len(s.Head) == 0 || i > 0 && n[i-1].Is(src, lex.Punct, ".")) {
			s.Head = append(s.Head, text)
		} else {
			break
		}
		i++
		if i < len(n) && n[i].Bracket(src) == '[' && n[i].Start == n[i-1].End { // ext["x"]
			if inner := lex.Solid(n[i].Inner()); len(inner) == 1 {
				if text, ok := lex.Literal(src, inner[0]); ok {
					s.Head = append(s.Head, text)
					i++
				}
			}
		}
		if i+1 < len(n) && n[i].Is(src, lex.Punct, "<") { // named<T>("x")
			for j := i + 1; j < len(n) && j < i+24; j++ {
				if n[j].Is(src, lex.Punct, ">") {
					if s.Type == "" {
						s.Type = f.simple(n[i+1 : j])
					}
					i = j + 1
					break
				}
			}
		}
		i = f.fold(s, n, i)
		if i+1 < len(n) && (n[i].Is(src, lex.Punct, ".") || n[i].Is(src, lex.Punct, "?.")) {
			i++
			continue
		}
		break
	}
	return i
}

// simple gives a type's name without its package and arguments.
func (f *File) simple(n []*lex.Node) string {
	name := ""
	for _, k := range n {
		if k.Kind == lex.Word {
			name = k.Of(f.Src)
		} else if !k.Is(f.Src, lex.Punct, ".") {
			break
		}
	}
	return name
}

// fold goes on through a call in the middle of a head: getByName("x").signingConfig, project(":app").ext.
func (f *File) fold(s *Stmt, n []*lex.Node, i int) int {
	src := f.Src
	if i == 0 || i+1 >= len(n) || n[i].Bracket(src) != '(' || n[i-1].Kind != lex.Word && n[i-1].Kind != lex.Punct || !n[i+1].Is(src, lex.Punct, ".") && !n[i+1].Is(src, lex.Punct, "?.") {
		return i
	}
	args := f.split(n[i].Inner())
	switch last := s.Head[len(s.Head)-1]; {
	case named(last) && len(args) > 0:
		if text, ok := f.Literal(args[0]); ok {
			s.Head[len(s.Head)-1] = text
			return i + 1
		}
	case last == "project" && len(args) > 0:
		if text, ok := f.Literal(args[0]); ok {
			s.Head = append(s.Head, text)
			return i + 1
		}
	case last == "getByType" || last == "findByType" || last == "the":
		if s.Type == "" && len(args) > 0 && len(args[0]) > 0 { // getByType(AppExtension::class.java)
			s.Type = f.simple(args[0])
		}
		return i + 1
	}
	return i
}

func (f *File) rest(s *Stmt, n []*lex.Node, tests []Test) {
	src := f.Src
	if s.Decl != "" && len(n) > 1 && n[0].Is(src, lex.Punct, ":") { // val x: String = ...
		for j, k := range n {
			if k.Is(src, lex.Punct, "=") || k.Is(src, lex.Word, "by") {
				n = n[j:]
				break
			}
		}
	}
	if len(n) == 0 {
		return
	}
	switch t := n[0].Of(src); {
	case n[0].Kind == lex.Punct && (t == "=" || t == "+="), n[0].Kind == lex.Word && t == "by" && s.Decl != "":
		s.Assign, s.Value = t, Expr(n[1:])
		if last := n[len(n)-1]; last.Bracket(src) == '{' && f.Delegate(s) != nil { // val pro by creating { }
			f.block(s, last, tests)
		}
		return
	case n[0].Bracket(src) == '(':
		s.Args = f.split(n[0].Inner())
		n = n[1:]
		if len(n) > 0 && n[0].Bracket(src) == '{' {
			f.block(s, n[0], tests)
			n = n[1:]
		}
		s.Tail = Expr(n)
		if j := len(n) - 1; s.Block == nil && j >= 0 && n[j].Bracket(src) == '{' { // create("x").apply { }
			f.block(s, n[j], tests)
		}
		return
	case n[0].Bracket(src) == '{':
		f.block(s, n[0], tests)
		s.Tail = Expr(n[1:])
		return
	}
	last := n[len(n)-1]
	if last.Bracket(src) == '{' && len(n) > 1 { // Groovy: name 'x' { }
		f.block(s, last, tests)
		n = n[:len(n)-1]
	}
	s.Args = f.split(n)
}

func (f *File) block(s *Stmt, g *lex.Node, tests []Test) {
	s.Block = g
	inner := g.Inner()
	for i, k := range inner { // { ex -> ... }
		if k.Kind == lex.Newline && len(lex.Solid(inner[:i])) > 0 {
			break
		}
		if k.Is(f.Src, lex.Punct, "->") {
			s.Params = f.Params(inner[:i])
			inner = inner[i+1:]
			break
		}
	}
	s.Stmts = f.stmts(inner, tests)
}

// Params gives the names that a block or loop binds: a, b; a: Type; Type a; (a, b), which takes a pair apart.
func (f *File) Params(nodes []*lex.Node) []string {
	var out []string
	name, typed := "", false
	for _, n := range lex.Solid(nodes) {
		switch {
		case n.Bracket(f.Src) == '(':
			out = append(out, f.Params(n.Inner())...)
		case n.Kind == lex.Word && !typed:
			name = n.Of(f.Src)
		case n.Is(f.Src, lex.Punct, ":"):
			typed = true
		case n.Is(f.Src, lex.Punct, ",") && name != "":
			out = append(out, name)
			name, typed = "", false
		}
	}
	if name != "" {
		out = append(out, name)
	}
	return out
}

// conditions writes conditions as a person reads them.
func (f *File) conditions(tests []Test) string {
	var parts []string
	for _, t := range tests {
		text := strings.Join(strings.Fields(f.Text(t.Expr)), " ")
		switch {
		case t.Expr == nil:
			text = "an exception is caught"
		case t.Not:
			text = "not (" + text + ")"
		}
		parts = append(parts, text)
	}
	return strings.Join(parts, " and ")
}

// control reads if / else if / else and try / catch; the statements inside stand under conditions.
func (f *File) control(n []*lex.Node, tests []Test) []*Stmt {
	s := &Stmt{Head: []string{n[0].Of(f.Src)}, Start: n[0].Start, End: n[len(n)-1].End, Cond: f.conditions(tests), Tests: tests, Nodes: n}
	var before []Test // the conditions of earlier branches, which did not hold
	var test *Test
	under := func() []Test {
		out := append(append([]Test(nil), tests...), before...)
		if test != nil {
			out = append(out, *test)
		}
		return out
	}
	trying := n[0].Is(f.Src, lex.Word, "try")
	for i := 0; i < len(n); i++ {
		k := n[i]
		switch t := k.Of(f.Src); {
		case k.Kind == lex.Word && (t == "try" || t == "finally"):
			test = nil
		case k.Kind == lex.Word && t == "catch":
			test = &Test{}
		case k.Kind == lex.Word && t == "if":
		case k.Kind == lex.Word && t == "else":
			if test != nil {
				before = append(before, Test{Expr: test.Expr, Not: true})
			}
			test = nil
		case k.Bracket(f.Src) == '(' && (trying || i > 0 && n[i-1].Is(f.Src, lex.Word, "if")):
			if !trying {
				test = &Test{Expr: Expr(lex.Solid(k.Inner()))}
			}
		case k.Bracket(f.Src) == '{':
			s.Stmts = append(s.Stmts, f.stmts(k.Inner(), under())...)
		default: // a branch without braces: the rest of the line
			end := i
			for end < len(n) && !n[end].Is(f.Src, lex.Word, "else") {
				end++
			}
			s.Stmts = append(s.Stmts, f.stmt(n[i:end], under())...)
			i = end - 1
		}
	}
	return []*Stmt{s}
}

// split separates arguments at their commas.
func (f *File) split(nodes []*lex.Node) []Expr {
	var out []Expr
	var cur Expr
	for _, n := range nodes {
		if n.Is(f.Src, lex.Punct, ",") {
			out = append(out, cur)
			cur = nil
		} else if !n.Trivia() {
			cur = append(cur, n)
		}
	}
	if len(cur) > 0 {
		out = append(out, cur)
	}
	return out
}

// Text gives an expression as written, blanks included.
func (f *File) Text(e Expr) string {
	if len(e) == 0 {
		return ""
	}
	return string(f.Src[e[0].Start:e[len(e)-1].End])
}

// Literal gives the value of an expression that is one plain string.
func (f *File) Literal(e Expr) (string, bool) {
	if len(e) != 1 {
		return "", false
	}
	return lex.Literal(f.Src, e[0])
}

// Position gives a line and column.
func (f *File) Position(offset int) (line, column int) {
	return f.lines.Position(f.Src, offset)
}
