package script

import (
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strconv"
	"strings"

	"ligare/core/survey/fact"
	"ligare/core/syntax/gradle"
	"ligare/core/syntax/lex"
	"ligare/core/syntax/properties"
)

const groupKind = lex.Group

// inTree marks the text of a path below the tree's root, so that it is told apart from one relative to a project.
const inTree = "\x00tree/"

// inHome marks the text of a path below the user's home folder.
const inHome = "\x00home/"

type kind uint8

const (
	scalar kind = iota
	list
	dict
	file  // text is a path with a mark
	props // text is the file's path with a mark, "" when it is not known
	null
	object // a dotted name that means nothing yet
)

// value is what an expression is worth.
type value struct {
	kind  kind
	fact  fact.Fact
	items []value
	keys  []string
	path  string
	lines []properties.Entry
}

func (v value) known() bool  { return v.fact.Known() }
func (v value) text() string { return v.fact.String() }

// scope is where an expression stands: values it names are looked up from there outward.
type scope struct {
	b    *Build
	file string
	f    *gradle.File
	dir  string // of the project the script runs for
	at   int    // offset of the statement
	deep int
	bind map[string]value // names bound by what runs the script: a variant's properties
}

func (s scope) place(at int) (string, int, int) {
	l, c := s.f.Position(at)
	return s.file, l, c
}

func (s scope) stuck(e gradle.Expr, why string) value {
	if len(e) == 0 {
		return value{fact: fact.Open("an empty expression", s.file, 0, 0)}
	}
	file, l, c := s.place(e[0].Start)
	text := strings.Join(strings.Fields(s.f.Text(e)), " ")
	if r := []rune(text); len(r) > 80 {
		text = string(r[:79]) + "…"
	}
	if why != "" {
		why = ": " + why
	}
	return value{fact: fact.Open(fmt.Sprintf("`%s`%s", text, why), file, l, c)}
}

func (s scope) of(text string, at int) value {
	file, l, c := s.place(at)
	return value{fact: fact.Of(text, file, l, c)}
}

// scalar gives what an expression is worth as one text; a path loses its mark.
func (s scope) scalar(e gradle.Expr) fact.Fact {
	v := s.eval(e)
	switch v.kind {
	case null:
		return fact.Fact{}
	case list, dict, props:
		return s.stuck(e, "it is not a single value").fact
	}
	return v.fact.With(unmark)
}

func unmark(text string) string {
	text = strings.ReplaceAll(text, inTree, "")
	return strings.ReplaceAll(text, inHome, "~/")
}

// eval works out what an expression is worth.
func (s scope) eval(e gradle.Expr) value {
	if len(e) == 0 {
		return value{}
	}
	if s.deep++; s.deep > 25 {
		return s.stuck(e, "it refers to itself")
	}
	e = gradle.Expr(lex.Solid(e))
	p := &parser{scope: s, e: e}
	v := p.ternary()
	if v.kind == object {
		v = p.finish(v, e)
	}
	if p.i < len(e) && v.fact.Unresolved == "" && !e[p.i].Is(s.f.Src, lex.Word, "as") {
		return s.stuck(e, "")
	}
	return v
}

// parser reads one expression by precedence (Groovy's and Kotlin's agree as far as settings go).
type parser struct {
	scope
	e gradle.Expr
	i int
}

func (p *parser) peek(kind lex.Kind, text string) bool {
	return p.i < len(p.e) && p.e[p.i].Is(p.f.Src, kind, text)
}

func (p *parser) take(kind lex.Kind, texts ...string) string {
	for _, t := range texts {
		if p.peek(kind, t) {
			p.i++
			return t
		}
	}
	return ""
}

func (p *parser) ternary() value {
	start := p.i
	c := p.elvis()
	if p.take(lex.Punct, "?") == "" {
		return c
	}
	cond := p.e[start : p.i-1]
	yes := p.settled(p.ternary)
	p.take(lex.Punct, ":")
	no := p.settled(p.ternary)
	return p.choose(cond, c, yes, no)
}

// settled evaluates a part to the end: a name becomes its value.
func (p *parser) settled(part func() value) value {
	start := p.i
	v := part()
	if v.kind == object {
		v = p.finish(v, p.e[start:p.i])
	}
	return v
}

// choose picks an outcome of a conditional, or keeps both.
func (p *parser) choose(cond gradle.Expr, c, yes, no value) value {
	if c.kind == object {
		c = p.finish(c, cond)
	}
	switch truth(c) {
	case "true":
		return yes
	case "false":
		return no
	}
	if len(cond) == 1 && cond[0].Bracket(p.f.Src) == '(' {
		cond = gradle.Expr(lex.Solid(cond[0].Inner()))
	}
	text := strings.Join(strings.Fields(p.f.Text(cond)), " ")
	if yes.kind == null && no.kind == null {
		return yes
	}
	return value{fact: fact.Either(text, yes.fact, no.fact)}
}

// truth decides a condition by Groovy's rules as far as the value is known.
func truth(v value) string {
	switch {
	case v.kind == null:
		return "false"
	case v.kind == list || v.kind == dict:
		return strconv.FormatBool(len(v.items) > 0)
	case !v.known():
		return ""
	case v.text() == "true" || v.text() == "false":
		return v.text()
	}
	return strconv.FormatBool(v.text() != "")
}

func (p *parser) elvis() value {
	start := p.i
	v := p.settledIf("?:", p.or)
	for p.peek(lex.Punct, "?:") {
		left := p.e[start:p.i]
		p.i++
		other := p.settled(p.or)
		switch {
		case v.kind == null:
			v = other
			v.fact = v.fact.Through("`" + strings.Join(strings.Fields(p.f.Text(left)), " ") + "` is not set in the files")
		case v.fact.Unresolved != "" && other.known():
			v.fact.Unresolved += fmt.Sprintf("; %q without it", unmark(other.text()))
		}
	}
	return v
}

// settledIf evaluates a part, settling a name when this operator follows it.
func (p *parser) settledIf(op string, part func() value) value {
	start := p.i
	v := part()
	if v.kind == object && p.peek(lex.Punct, op) {
		v = p.finish(v, p.e[start:p.i])
	}
	return v
}

func boolean(b bool) value { return value{fact: fact.Of(strconv.FormatBool(b), "", 0, 0)} }

func (p *parser) or() value {
	v := p.settledIf("||", p.and)
	for p.take(lex.Punct, "||") != "" {
		w := p.settled(p.and)
		a, b := truth(v), truth(w)
		switch {
		case a == "true" || b == "true":
			v = boolean(true)
		case a == "false" && b == "false":
			v = boolean(false)
		case v.fact.Unresolved == "":
			v = w
		}
	}
	return v
}

func (p *parser) and() value {
	v := p.settledIf("&&", p.compare)
	for p.take(lex.Punct, "&&") != "" {
		w := p.settled(p.compare)
		a, b := truth(v), truth(w)
		switch {
		case a == "false" || b == "false":
			v = boolean(false)
		case a == "true" && b == "true":
			v = boolean(true)
		case v.fact.Unresolved == "":
			v = w
		}
	}
	return v
}

func (p *parser) compare() value {
	start := p.i
	v := p.add()
	for {
		op := p.take(lex.Punct, "==", "!=", "<=", ">=", "<", ">")
		if op == "" {
			if op = p.take(lex.Word, "in", "to"); op == "" {
				return v
			}
		}
		if v.kind == object {
			v = p.finish(v, p.e[start:p.i-1])
		}
		w := p.settled(p.add)
		if op == "to" { // a pair, as maps are made of
			v = value{kind: dict, keys: []string{v.text()}, items: []value{w}}
			continue
		}
		v = p.compared(op, v, w, p.e[start:p.i])
	}
}

func (p *parser) compared(op string, v, w value, e gradle.Expr) value {
	switch {
	case v.kind == null || w.kind == null:
		same := v.kind == w.kind
		if v.fact.Unresolved != "" || w.fact.Unresolved != "" {
			break
		}
		if op == "==" || op == "!=" {
			return boolean(same == (op == "=="))
		}
	case op == "in" && w.kind == list && v.known():
		return boolean(slices.ContainsFunc(w.items, func(x value) bool { return x.text() == v.text() }))
	case v.kind == list && w.kind == list:
		return boolean(slices.EqualFunc(v.items, w.items, func(a, b value) bool { return a.text() == b.text() }) == (op == "=="))
	case v.known() && w.known():
		if op == "==" || op == "!=" {
			return boolean((v.text() == w.text()) == (op == "=="))
		}
		a, err1 := strconv.ParseFloat(v.text(), 64)
		b, err2 := strconv.ParseFloat(w.text(), 64)
		if err1 == nil && err2 == nil {
			return boolean(op == "<" && a < b || op == ">" && a > b || op == "<=" && a <= b || op == ">=" && a >= b)
		}
	}
	return p.stuck(e, "")
}

func (p *parser) add() value {
	start := p.i
	v := p.multiply()
	for p.peek(lex.Punct, "+") || p.peek(lex.Punct, "-") {
		if v.kind == object {
			v = p.finish(v, p.e[start:p.i])
		}
		op := p.take(lex.Punct, "+", "-")
		w := p.settled(p.multiply)
		v = p.sum(op, v, w, p.e[start:p.i])
	}
	return v
}

func (p *parser) multiply() value {
	start := p.i
	v := p.unary()
	for p.peek(lex.Punct, "*") {
		if v.kind == object {
			v = p.finish(v, p.e[start:p.i])
		}
		p.i++
		w := p.settled(p.unary)
		a, err1 := strconv.Atoi(v.text())
		b, err2 := strconv.Atoi(w.text())
		if err1 != nil || err2 != nil {
			if v.fact.Unresolved == "" {
				v = p.stuck(p.e[start:p.i], "")
			}
			continue
		}
		n := strconv.Itoa(a * b)
		v.fact.Value = &n
	}
	return v
}

func (p *parser) sum(op string, v, w value, e gradle.Expr) value {
	if v.kind == list && w.kind == list && op == "+" {
		v.items = append(append([]value(nil), v.items...), w.items...)
		return v
	}
	a, err1 := strconv.Atoi(v.text())
	b, err2 := strconv.Atoi(w.text())
	quoted := e[0].Kind == lex.String || e[len(e)-1].Kind == lex.String
	switch {
	case v.fact.Unresolved != "":
		return v
	case w.fact.Unresolved != "":
		return w
	case err1 == nil && err2 == nil && !quoted:
		n := a + b
		if op == "-" {
			n = a - b
		}
		out := strconv.Itoa(n)
		v.fact.Value = &out
		return v
	case op == "+" && v.kind != null && w.kind != null:
		out := fact.Join(v.fact, w.fact)
		out.File, out.Line, out.Column = p.place(e[0].Start)
		return value{fact: out}
	}
	return p.stuck(e, "")
}

func (p *parser) unary() value {
	start := p.i
	switch p.take(lex.Punct, "!", "-", "+") {
	case "!":
		v := p.settled(p.unary)
		switch truth(v) {
		case "true":
			return boolean(false)
		case "false":
			return boolean(true)
		}
		return p.stuck(p.e[start:p.i], strings.TrimPrefix(v.fact.Unresolved, "`"+p.f.Text(p.e[start+1:p.i])+"`: "))
	case "-":
		v := p.settled(p.unary)
		v.fact = v.fact.With(func(x string) string { return "-" + x })
		return v
	}
	return p.postfix()
}

func (p *parser) postfix() value {
	start := p.i
	v := p.primary()
	for p.i < len(p.e) {
		n := p.e[p.i]
		switch {
		case n.Is(p.f.Src, lex.Word, "as") || n.Is(p.f.Src, lex.Word, "as?"):
			p.i++
			for p.i < len(p.e) && (p.e[p.i].Kind == lex.Word || p.peek(lex.Punct, "?") && p.i+1 == len(p.e) || p.peek(lex.Punct, ".")) {
				p.i++
			}
			if p.peek(lex.Punct, "?") && (p.i+1 >= len(p.e) || p.e[p.i+1].Is(p.f.Src, lex.Punct, "?:")) {
				p.i++ // as String?
			}
		case n.Is(p.f.Src, lex.Punct, ".") || n.Is(p.f.Src, lex.Punct, "?.") || n.Is(p.f.Src, lex.Punct, "*."):
			if p.i+1 >= len(p.e) {
				return p.stuck(p.e[start:], "")
			}
			name := p.e[p.i+1].Of(p.f.Src)
			if text, ok := lex.Literal(p.f.Src, p.e[p.i+1]); ok {
				name = text
			}
			p.i += 2
			v = p.member(v, name, start)
		case n.Is(p.f.Src, lex.Punct, "!"): // Kotlin's !!
			p.i++
		case n.Is(p.f.Src, lex.Punct, "<") && v.kind == object: // a type argument
			end := p.i + 1
			for end < len(p.e) && end < p.i+6 && !p.e[end].Is(p.f.Src, lex.Punct, ">") {
				end++
			}
			if end+1 >= len(p.e) || p.e[end+1].Bracket(p.f.Src) != '(' {
				return v
			}
			p.i = end + 1
		case n.Bracket(p.f.Src) == '(':
			p.i++
			v = p.call(v, p.items(n), start)
		case n.Bracket(p.f.Src) == '[' && p.i > start:
			p.i++
			v = p.index(v, n, start)
		case n.Bracket(p.f.Src) == '{':
			p.i++
			v = p.closure(v, n, start)
		default:
			return v
		}
	}
	return v
}

// items separates what stands in brackets at its commas.
func (s scope) items(g *lex.Node) []gradle.Expr {
	var out []gradle.Expr
	var cur gradle.Expr
	for _, n := range lex.Solid(g.Inner()) {
		if n.Is(s.f.Src, lex.Punct, ",") {
			out, cur = append(out, cur), nil
			continue
		}
		cur = append(cur, n)
	}
	if len(cur) > 0 {
		out = append(out, cur)
	}
	return out
}

func (p *parser) primary() value {
	if p.i >= len(p.e) {
		return value{fact: fact.Open("an expression ends early", p.file, 0, 0)}
	}
	n := p.e[p.i]
	p.i++
	switch {
	case n.Kind == lex.Number:
		return p.of(strings.TrimRight(strings.ReplaceAll(n.Of(p.f.Src), "_", ""), "LlfF"), n.Start)
	case n.Kind == lex.String:
		return p.string(n)
	case n.Bracket(p.f.Src) == '(':
		inner := gradle.Expr(lex.Solid(n.Inner()))
		if len(inner) == 0 {
			return value{kind: null}
		}
		return p.eval(inner)
	case n.Bracket(p.f.Src) == '[':
		return p.collection(p.items(n))
	case n.Bracket(p.f.Src) == '{': // { value } of an if
		return p.eval(gradle.Expr(lex.Solid(n.Inner())))
	case n.Kind == lex.Word:
		switch w := n.Of(p.f.Src); w {
		case "true", "false":
			return p.of(w, n.Start)
		case "null":
			return value{kind: null}
		case "new":
			return p.primary()
		case "if":
			return p.branches()
		case "when":
			return p.when()
		default:
			return value{kind: object, path: w}
		}
	}
	return p.stuck(gradle.Expr{n}, "")
}

// branches reads if (c) a else b.
func (p *parser) branches() value {
	if p.i+1 >= len(p.e) || p.e[p.i].Bracket(p.f.Src) != '(' {
		return p.stuck(p.e, "")
	}
	cond := gradle.Expr(lex.Solid(p.e[p.i].Inner()))
	p.i++
	yes := p.settled(p.ternary)
	if p.take(lex.Word, "else") == "" {
		return p.stuck(p.e, "")
	}
	no := p.settled(p.ternary)
	return p.choose(cond, p.eval(cond), yes, no)
}

// when reads Kotlin's when: with or without a subject, arms of constants, else.
func (p *parser) when() value {
	start := p.i - 1
	var subject value
	of := ""
	if p.i < len(p.e) && p.e[p.i].Bracket(p.f.Src) == '(' {
		inner := gradle.Expr(lex.Solid(p.e[p.i].Inner()))
		subject, of = p.eval(inner), strings.Join(strings.Fields(p.f.Text(inner)), " ")
		p.i++
	}
	if p.i >= len(p.e) || p.e[p.i].Bracket(p.f.Src) != '{' {
		return p.stuck(p.e[start:], "")
	}
	body := p.e[p.i]
	p.i++
	var out []fact.Possible
	var last fact.Fact
	var line []*lex.Node
	var hit *value
	arm := func() {
		for i, n := range line {
			if !n.Is(p.f.Src, lex.Punct, "->") || hit != nil {
				continue
			}
			v := p.eval(line[i+1:])
			if line[0].Is(p.f.Src, lex.Word, "else") {
				if len(out) == 0 {
					hit = &v
				}
				out, last = append(out, fact.Possible{Value: v.text(), When: "otherwise"}), v.fact
				break
			}
			test := p.eval(line[:i])
			when := strings.Join(strings.Fields(p.f.Text(line[:i])), " ")
			if of != "" {
				when = of + " is " + when
				switch {
				case subject.known() && test.known() && subject.text() == test.text():
					hit = &v
				case subject.known() && test.known():
					return
				}
			} else if t := truth(test); t == "true" {
				hit = &v
			} else if t == "false" {
				return
			}
			out, last = append(out, fact.Possible{Value: v.text(), When: when}), v.fact
			break
		}
	}
	for _, n := range body.Inner() {
		if n.Kind == lex.Newline {
			arm()
			line = nil
		} else if !n.Trivia() {
			line = append(line, n)
		}
	}
	arm()
	if hit != nil && len(out) <= 1 {
		return *hit
	}
	if last.Unresolved != "" || len(out) == 0 {
		return p.stuck(p.e[start:p.i], "")
	}
	f, l, c := p.place(p.e[start].Start)
	return value{fact: fact.Fact{File: f, Line: l, Column: c, Possible: out}}
}

// collection reads [a, b] and [k: v].
func (p *parser) collection(items []gradle.Expr) value {
	v := value{kind: list}
	for _, e := range items {
		if len(e) == 1 && e[0].Is(p.f.Src, lex.Punct, ":") { // [:]
			v.kind = dict
			continue
		}
		if len(e) > 2 && e[1].Is(p.f.Src, lex.Punct, ":") {
			v.kind = dict
			key := e[0].Of(p.f.Src)
			if text, ok := lex.Literal(p.f.Src, e[0]); ok {
				key = text
			} else if e[0].Bracket(p.f.Src) == '(' || e[0].Kind == lex.String {
				key = p.eval(e[:1]).text()
			}
			v.keys = append(v.keys, key)
			v.items = append(v.items, p.eval(e[2:]))
			continue
		}
		v.items = append(v.items, p.eval(e))
	}
	return v
}

// string resolves a string with what is embedded in it.
func (p *parser) string(n *lex.Node) value {
	file, l, c := p.place(n.Start)
	parts := []fact.Fact{fact.Of("", file, l, c)}
	for _, k := range n.Inner() {
		switch k.Kind {
		case lex.Text:
			parts = append(parts, fact.Of(k.Of(p.f.Src), file, l, c))
		case lex.Escape:
			parts = append(parts, fact.Of(lex.Escaped(k.Of(p.f.Src)), file, l, c))
		case lex.Interp:
			inner := gradle.Expr(lex.Solid(k.Kids))[1:]
			if len(inner) > 0 && inner[len(inner)-1].Kind == lex.Mark {
				inner = inner[:len(inner)-1]
			}
			if len(inner) == 0 {
				continue
			}
			v := p.eval(inner)
			switch {
			case v.kind == null:
				parts = append(parts, fact.Of("null", file, l, c))
			case v.kind == list || v.kind == dict:
				parts = append(parts, p.stuck(inner, "").fact)
			default:
				parts = append(parts, v.fact)
			}
		}
	}
	return value{fact: fact.Join(parts...)}
}

// marked makes a path: text from file(...) relative to a folder of the tree, or what it already is.
func marked(text, dir string) string {
	switch {
	case strings.HasPrefix(text, inTree) || strings.HasPrefix(text, inHome):
		return text
	case path.IsAbs(text) || len(text) > 2 && text[1] == ':' && (text[2] == '/' || text[2] == '\\'):
		return text
	}
	return inTree + path.Join(dir, text)
}

func (p *parser) fileValue(v value, dir string) value {
	if v.kind == object || !v.known() {
		return v
	}
	v.kind = file
	v.fact = v.fact.With(func(t string) string { return clean(marked(t, dir)) })
	return v
}

func clean(text string) string {
	for _, mark := range []string{inTree, inHome} {
		if rest, ok := strings.CutPrefix(text, mark); ok {
			return mark + path.Clean(rest)
		}
	}
	return text
}

// conversions change how a value is seen and not what it says.
var conversions = map[string]bool{"toInteger": true, "toInt": true, "toString": true, "get": true, "asInteger": true, "toBoolean": true, "trim": true,
	"toBigDecimal": true, "toLong": true, "orNull": true, "asFile": true, "absolutePath": true, "path": true, "canonicalPath": true, "absoluteFile": true,
	"inputStream": true, "newInputStream": true, "newDataInputStream": true, "reader": true, "newReader": true, "bufferedReader": true, "buffered": true,
	"toPath": true, "toFile": true, "getAbsolutePath": true, "getPath": true, "toIntOrNull": true, "name": false, "intern": true, "orEmpty": true}

// member follows .name: methods are decided when their arguments come.
func (p *parser) member(v value, name string, start int) value {
	switch v.kind {
	case object:
		v.path += "." + name
		return v
	case dict:
		for i, k := range v.keys {
			if k == name {
				return v.items[i]
			}
		}
		return p.stuck(p.e[start:p.i], "")
	case null:
		return v
	}
	if v.kind == props && p.i < len(p.e) && p.e[p.i].Bracket(p.f.Src) == '{' { // Properties().apply { load(...) }
		p.i++
		return p.load(v, gradle.Expr(lex.Solid(p.e[p.i-1].Inner())), nil)
	}
	called := p.i < len(p.e) && p.e[p.i].Bracket(p.f.Src) == '('
	if conversions[name] {
		if called {
			p.i++
		}
		return v
	}
	var args []gradle.Expr
	if called {
		args = p.items(p.e[p.i])
		p.i++
	}
	return p.method(v, name, args, start)
}

// method calls a method on a value.
func (p *parser) method(v value, name string, args []gradle.Expr, start int) value {
	if v.fact.Unresolved != "" {
		if name == "orElse" || name == "getOrElse" || name == "getOrNull" {
			return v
		}
		return v
	}
	arg := func(i int) value {
		if i < len(args) {
			return p.eval(args[i])
		}
		return value{kind: null}
	}
	each := func(change func(string) string) value { v.fact = v.fact.With(change); return v }
	if a := arg(0); v.known() && a.known() && len(args) > 0 {
		switch name {
		case "concat", "plus":
			return value{fact: fact.Join(v.fact, a.fact)}
		case "removePrefix", "minus":
			return each(func(t string) string { return strings.TrimPrefix(t, a.text()) })
		case "removeSuffix":
			return each(func(t string) string { return strings.TrimSuffix(t, a.text()) })
		case "equals", "startsWith", "endsWith", "contains", "equalsIgnoreCase":
			is := map[string]bool{"equals": v.text() == a.text(), "startsWith": strings.HasPrefix(v.text(), a.text()), "endsWith": strings.HasSuffix(v.text(), a.text()),
				"contains": strings.Contains(v.text(), a.text()), "equalsIgnoreCase": strings.EqualFold(v.text(), a.text())}
			return boolean(is[name])
		case "replace":
			if b := arg(1); b.known() {
				return each(func(t string) string { return strings.ReplaceAll(t, a.text(), b.text()) })
			}
		}
	}
	switch name {
	case "toLowerCase", "lowercase":
		return each(strings.ToLower)
	case "toUpperCase", "uppercase":
		return each(strings.ToUpper)
	case "isEmpty":
		return boolean(len(v.items) == 0 && v.text() == "")
	case "isNotEmpty":
		return boolean(len(v.items) > 0 || v.text() != "")
	case "orElse", "getOrElse":
		return v
	case "contains", "containsAll", "any":
		if v.kind == list && len(args) > 0 {
			want := arg(0)
			var all []value
			if want.kind == list {
				all = want.items
			} else {
				all = []value{want}
			}
			for _, w := range all {
				if !slices.ContainsFunc(v.items, func(x value) bool { return same(x, w) }) {
					return boolean(false)
				}
			}
			return boolean(true)
		}
	case "get", "getAt":
		if v.kind == list {
			if i, err := strconv.Atoi(arg(0).text()); err == nil && i >= 0 && i < len(v.items) {
				return v.items[i]
			}
		}
		if v.kind == props {
			return p.property(v, arg(0).text(), args, start)
		}
	case "exists", "isFile", "canRead":
		if v.kind == file {
			return p.exists(v)
		}
	case "getProperty", "getOrDefault":
		if v.kind == props {
			return p.property(v, arg(0).text(), args, start)
		}
	case "containsKey", "hasProperty":
		if v.kind == props && v.path != "" && v.lines != nil {
			_, ok := properties.Get(v.lines, arg(0).text())
			return boolean(ok)
		}
	case "file", "dir":
		if v.kind == file {
			return p.fileValue(arg(0), strings.TrimPrefix(v.text(), inTree))
		}
	case "parentFile", "parent":
		if v.kind == file {
			return each(path.Dir)
		}
	case "name":
		if v.kind == list { // flavors*.name
			return v
		}
		if v.kind == file {
			return each(path.Base)
		}
	}
	return p.stuck(p.e[start:p.i], "")
}

func same(a, b value) bool {
	if a.kind == dict && b.kind == dict && len(a.keys) == 1 && len(b.keys) == 1 {
		return a.keys[0] == b.keys[0] && a.items[0].text() == b.items[0].text()
	}
	return a.known() && b.known() && a.text() == b.text()
}

// exists answers for a file in the tree. One that is not there may be kept out of version control on purpose, so its
// absence decides nothing.
func (p *parser) exists(v value) value {
	name, ok := strings.CutPrefix(v.text(), inTree)
	if ok && p.b.tree.Has(name) {
		return boolean(true)
	}
	return value{fact: fact.Open(fmt.Sprintf("%s is not in the tree", unmark(v.text())), v.fact.File, v.fact.Line, v.fact.Column)}
}

// index follows x["key"].
func (p *parser) index(v value, g *lex.Node, start int) value {
	inner := gradle.Expr(lex.Solid(g.Inner()))
	if len(inner) == 0 {
		return p.stuck(p.e[start:p.i], "")
	}
	key := p.eval(inner)
	if v.kind == object {
		if got, ok := p.loaded(v.path); ok {
			v = got
		} else if last := v.path[strings.LastIndexByte(v.path, '.')+1:]; key.known() {
			if last == "extra" || last == "ext" || last == "properties" {
				v.path += "." + key.text()
				return v
			}
			v = p.finish(v, p.e[start:p.i-1])
		}
	}
	switch {
	case v.kind == props:
		return p.property(v, key.text(), nil, start)
	case v.kind == dict && key.known():
		return p.member(v, key.text(), start)
	case v.kind == list:
		if i, err := strconv.Atoi(key.text()); err == nil && i >= 0 && i < len(v.items) {
			return v.items[i]
		}
	case v.fact.Unresolved != "":
		return v
	}
	return p.stuck(p.e[start:p.i], "")
}

// property gives a key of a loaded property file.
func (p *parser) property(v value, key string, args []gradle.Expr, start int) value {
	name := unmark(v.path)
	if v.lines == nil {
		why := "the file it is loaded from is not known"
		if v.path != "" {
			why = name + " is not in the tree"
		}
		return p.stuck(p.e[start:p.i], why)
	}
	if e, ok := properties.Get(v.lines, key); ok {
		return value{fact: fact.Of(e.Value, name, e.Line, e.Column, "`"+key+"` in "+name)}
	}
	if len(args) > 1 {
		out := p.eval(args[1])
		out.fact = out.fact.Through(fmt.Sprintf("%s does not set %s", name, key))
		return out
	}
	return value{kind: null}
}

// closure follows x { ... }: Properties().apply { load(...) }, provider { value }, file.let { ... }.
func (p *parser) closure(v value, g *lex.Node, start int) value {
	if v.kind == object {
		last := v.path[strings.LastIndexByte(v.path, '.')+1:]
		switch last {
		case "provider":
			return p.eval(gradle.Expr(lex.Solid(g.Inner())))
		case "getOrElse", "orElse":
			return p.stuck(p.e[start:p.i], "")
		}
	}
	if v.kind == props {
		return p.load(v, gradle.Expr(lex.Solid(g.Inner())), nil)
	}
	return p.stuck(p.e[start:p.i], "")
}

// call follows a dotted name with arguments.
func (p *parser) call(v value, args []gradle.Expr, start int) value {
	if v.kind != object {
		return p.stuck(p.e[start:p.i], "")
	}
	whole := p.e[start:p.i]
	dotted := v.path
	method := dotted[strings.LastIndexByte(dotted, '.')+1:]
	receiver := strings.TrimSuffix(strings.TrimSuffix(dotted, method), ".")
	arg := func(i int) value {
		if i >= len(args) {
			return value{kind: null}
		}
		_, e := p.f.Entry(args[i])
		return p.eval(e)
	}
	if conversions[method] && receiver != "" {
		if strings.HasSuffix(receiver, "layout.projectDirectory") {
			return p.stuck(whole, "")
		}
		return p.finish(value{kind: object, path: receiver}, whole)
	}
	switch method {
	case "Properties":
		return value{kind: props}
	case "FileInputStream", "InputStreamReader", "FileReader", "BufferedReader", "String", "uri", "provider":
		return arg(0)
	case "File":
		if len(args) == 2 {
			if dir := arg(0); dir.kind == file {
				return p.fileValue(arg(1), strings.TrimPrefix(dir.text(), inTree))
			}
		}
		return p.fileValue(arg(0), p.b.Root)
	case "file", "dir":
		dir := p.dir
		if strings.HasPrefix(receiver, "rootProject") || strings.HasPrefix(receiver, "settings") || strings.Contains(receiver, "rootDirectory") {
			dir = p.b.Root
		} else if got, ok := p.folder(receiver); ok {
			dir = got
		}
		return p.fileValue(arg(0), dir)
	case "listOf", "setOf", "mutableListOf", "arrayOf", "mutableSetOf":
		out := value{kind: list}
		for i := range args {
			out.items = append(out.items, arg(i))
		}
		return out
	case "mapOf", "mutableMapOf", "hashMapOf":
		out := value{kind: dict}
		for i := range args {
			if pair := arg(i); pair.kind == dict && len(pair.keys) == 1 {
				out.keys, out.items = append(out.keys, pair.keys[0]), append(out.items, pair.items[0])
			}
		}
		return out
	case "getenv", "environmentVariable":
		return p.env(arg(0).text(), whole)
	case "getProperty", "systemProperty":
		if receiver == "System" || strings.HasSuffix(receiver, "providers") {
			if arg(0).text() == "user.home" {
				return value{kind: file, fact: p.of(inHome, whole[0].Start).fact}
			}
			return p.stuck(whole, "a system property, which no file sets")
		}
	case "hasProperty", "has":
		if key := arg(0); key.known() {
			if _, ok := p.extra(key.text(), receiver == "project" || receiver == "" || receiver == "rootProject"); ok {
				return boolean(true)
			}
			if method == "has" || strings.Contains(receiver, "ext") {
				return boolean(false)
			}
			return p.stuck(whole, "no file sets it; the command line can")
		}
	case "property", "findProperty", "gradleProperty", "safeExtGet", "getExtOrDefault", "getExtOrIntegerDefault":
		key := arg(0)
		if !key.known() {
			return p.stuck(whole, "")
		}
		if got, ok := p.extra(key.text(), true); ok {
			return got
		}
		switch {
		case method == "safeExtGet" && len(args) > 1:
			out := arg(1)
			out.fact = out.fact.Through(key.text() + " is not set for the root project")
			return out
		case method == "findProperty" || method == "gradleProperty":
			if p.peek(lex.Punct, "?:") || p.peek(lex.Punct, ".") && p.i+1 < len(p.e) && (p.e[p.i+1].Is(p.f.Src, lex.Word, "getOrElse") || p.e[p.i+1].Is(p.f.Src, lex.Word, "orElse")) ||
				p.peek(lex.Word, "as") || p.peek(lex.Punct, "?.") || p.peek(lex.Punct, "!=") || p.peek(lex.Punct, "==") {
				return p.fallback(key.text(), whole)
			}
		}
		return p.stuck(whole, "no file sets "+key.text())
	case "requireNotNull", "checkNotNull", "parseInt", "valueOf":
		return arg(0)
	}
	if at := strings.LastIndexByte(dotted, '.'); at > 0 {
		if got, ok := p.loaded(dotted[:at]); ok {
			return p.method(got, method, args, start)
		}
	}
	if receiver != "" { // a method of a value: name.toLowerCase()
		if got := p.finish(value{kind: object, path: receiver}, whole); got.fact.Unresolved == "" && got.kind != object {
			return p.method(got, method, args, start)
		} else if strings.HasPrefix(got.fact.Unresolved, "`"+receiver+"`") || p.b.catalogOf(receiver) {
			return p.stuck(whole, "")
		} else if got.fact.Unresolved != "" && !strings.Contains(got.fact.Unresolved, "`"+strings.Join(strings.Fields(p.f.Text(whole)), " ")+"`") {
			return got
		}
	}
	if got, ok := p.function(dotted, args); ok {
		return got
	}
	if prop, ok := strings.CutPrefix(method, "get"); ok && prop != "" && len(args) == 0 && receiver != "" { // getName() is name
		return value{kind: object, path: receiver + "." + strings.ToLower(prop[:1]) + prop[1:]}
	}
	return p.stuck(whole, "")
}

func (b *Build) catalogOf(dotted string) bool {
	head, _, _ := strings.Cut(dotted, ".")
	return b.catalogs[head] != nil
}

// fallback evaluates a property that no file sets, where the expression goes on with what to take instead.
func (p *parser) fallback(key string, whole gradle.Expr) value {
	if p.peek(lex.Punct, ".") {
		p.i += 2
		if p.i < len(p.e) && p.e[p.i].Bracket(p.f.Src) == '(' {
			args := p.items(p.e[p.i])
			p.i++
			if len(args) > 0 {
				out := p.eval(args[0])
				out.fact = out.fact.Through("`" + key + "` is not set in the files")
				return out
			}
		}
		return p.stuck(whole, "")
	}
	return value{kind: null}
}

// folder gives the folder that projectDir, rootDir and their kin name.
func (p *parser) folder(dotted string) (string, bool) {
	switch dotted {
	case "projectDir", "project.projectDir", "layout.projectDirectory", "project.layout.projectDirectory", "project.layout.projectDirectory.asFile", "layout.projectDirectory.asFile":
		return p.dir, true
	case "rootDir", "project.rootDir", "rootProject.projectDir", "rootProject.rootDir", "settingsDir", "rootProject.layout.projectDirectory", "layout.settingsDirectory", "isolated.rootProject.projectDirectory":
		return p.b.Root, true
	}
	return "", false
}

func (p *parser) env(name string, whole gradle.Expr) value {
	if p.b.roots.Env != nil {
		if v, ok := p.b.roots.Env[name]; ok {
			return value{fact: fact.Of(v, "", 0, 0, "the environment variable "+name)}
		}
		return value{kind: null}
	}
	if name == "HOME" {
		return value{kind: file, fact: p.of(inHome, whole[0].Start).fact}
	}
	return p.stuck(whole, "the environment variable "+name)
}

// load reads the property file that a load call inside nodes names.
func (p *parser) load(v value, nodes gradle.Expr, outer func() value) value {
	for i, n := range nodes {
		if !n.Is(p.f.Src, lex.Word, "load") || i+1 >= len(nodes) || nodes[i+1].Bracket(p.f.Src) != '(' {
			if n.Bracket(p.f.Src) == '{' || n.Bracket(p.f.Src) == '(' {
				before := nodes[:i]
				if got := p.load(v, gradle.Expr(lex.Solid(n.Inner())), func() value { return p.receiver(before) }); got.path != "" {
					return got
				}
			}
			continue
		}
		args := p.items(nodes[i+1])
		if len(args) == 0 {
			continue
		}
		src := p.eval(args[0])
		if src.kind != file && outer != nil {
			src = outer()
		}
		if src.kind == file {
			return p.loadFile(v, src)
		}
	}
	return v
}

// receiver evaluates what a block is called on: file.withInputStream { }, file.inputStream().use { }.
func (p *parser) receiver(e gradle.Expr) value {
	for i := len(e) - 1; i > 0; i-- {
		if e[i].Is(p.f.Src, lex.Punct, ".") || e[i].Is(p.f.Src, lex.Punct, "?.") {
			return p.eval(e[:i])
		}
	}
	return value{}
}

func (p *parser) loadFile(v, src value) value {
	v.path = src.text()
	var err error
	if name, ok := strings.CutPrefix(v.path, inTree); ok {
		v.lines, err = p.b.properties(name)
	} else if name, ok := strings.CutPrefix(v.path, inHome); ok && p.b.roots.Home != nil {
		var b []byte
		if b, err = fs.ReadFile(p.b.roots.Home, name); err == nil {
			v.lines = properties.Parse(b)
		}
	}
	if err == nil && v.lines == nil && strings.HasPrefix(v.path, inTree) {
		v.lines = []properties.Entry{}
	}
	return v
}
