package script

import (
	"fmt"
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
	bind map[string]value // names bound by what runs the script: a variant's properties, a loop's item
	turn string           // which rounds of which loops
}

// depth gives how many loops are around.
func (s scope) depth() int { return strings.Count(s.turn, "#") }

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
	text = clean(text)
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
