package source

import (
	"strings"

	"ligare/core/syntax/lex"
)

// ended reports whether statements of the language end with a semicolon.
func (f *File) ended() bool {
	switch f.Lang {
	case lex.Java, lex.CSharp, lex.Dart, lex.ObjC:
		return true
	}
	return false
}

// level gives the nodes among which an offset stands, white space and comments left out, and the index of the one that
// begins there; the index is -1 when none does.
func (f *File) level(offset int) ([]*lex.Node, int) {
	at := f.Tree.Root
	for {
		var in *lex.Node
		for _, k := range at.Kids {
			if !k.Leaf() && k.Start < offset && offset < k.End {
				in = k
			}
		}
		if in == nil {
			break
		}
		at = in
	}
	list := lex.Solid(at.Kids)
	for i, k := range list {
		if k.Start == offset {
			return list, i
		}
	}
	return list, -1
}

// Statement gives the statement that holds an offset at which a word begins: from its first word to its semicolon, or to
// the end of its line in languages that need none.
func (f *File) Statement(offset int) (start, end int) {
	list, i := f.level(offset)
	if i < 0 {
		return offset, offset
	}
	apart := func(a, b *lex.Node) bool {
		return !f.ended() && strings.ContainsAny(string(f.Src[a.End:b.Start]), "\r\n")
	}
	bound := func(n *lex.Node) bool {
		return n.Is(f.Src, lex.Punct, ";") || n.Kind == lex.Directive || n.Kind == lex.Open || n.Bracket(f.Src) == '{'
	}
	first := i
	for first > 0 && !bound(list[first-1]) && !apart(list[first-1], list[first]) {
		first--
	}
	last := i
	for last+1 < len(list) && !list[last].Is(f.Src, lex.Punct, ";") && list[last+1].Kind != lex.Close && list[last+1].Kind != lex.Directive &&
		(!apart(list[last], list[last+1]) || list[last+1].Is(f.Src, lex.Punct, ".")) {
		last++
	}
	return list[first].Start, list[last].End
}

// Sent gives the calls of a file, and in Objective-C the messages: [Receiver name:…] is Receiver.name:.
func (f *File) Sent(in *lex.Node) []Call {
	if f.Lang == lex.ObjC {
		return append(f.Messages(in), f.Calls(in)...)
	}
	return f.Calls(in)
}

// Call gives the first call of a name in a file; ok is false for none.
func (f *File) Call(name string) (Call, bool) {
	for _, c := range f.Sent(f.Tree.Root) {
		if c.Name == name {
			return c, true
		}
	}
	return Call{}, false
}

// guarded gives the preprocessor branch around a statement: from #if to #endif.
func (f *File) guarded(offset int) (start, end int, ok bool) {
	list, i := f.level(offset)
	if i < 0 {
		return 0, 0, false
	}
	for start = -1; i >= 0 && start < 0; i-- {
		if t := f.directive(list[i]); strings.HasPrefix(t, "if") {
			start = i
		} else if t == "endif" {
			return 0, 0, false
		}
	}
	for j := max(start, 0); start >= 0 && j < len(list); j++ {
		if f.directive(list[j]) == "endif" {
			return list[start].Start, list[start].Start + len(strings.TrimRight(string(f.Src[list[start].Start:list[j].End]), " \t\r\n")), true
		}
	}
	return 0, 0, false
}

func (f *File) directive(n *lex.Node) string {
	if n.Kind != lex.Directive {
		return ""
	}
	return strings.TrimSpace(strings.TrimPrefix(strings.TrimSpace(n.Of(f.Src)), "#"))
}

// Arrow is a function whose body is one expression: main() => runApp(App());
type Arrow struct {
	Name       string
	Start, End int // with its type and its semicolon
	Body       string
}

// Arrow gives an arrow function of the file's own level by name, or nil.
func (f *File) Arrow(name string) *Arrow {
	n := f.Tree.Root.Solid()
	for i := 0; i+3 < len(n); i++ {
		if !n[i].Is(f.Src, lex.Word, name) || n[i+1].Bracket(f.Src) != '(' {
			continue
		}
		j := i + 2
		if n[j].Is(f.Src, lex.Word, "async") {
			j++
		}
		if !n[j].Is(f.Src, lex.Punct, "=>") {
			continue
		}
		start, end := f.Statement(n[i].Start)
		body := strings.TrimSpace(string(f.Src[n[j].End:end]))
		return &Arrow{name, start, end, strings.TrimSpace(strings.TrimSuffix(body, ";"))}
	}
	return nil
}

// Bare finds a Kotlin class that is declared without a body, and gives where its declaration begins and ends.
func (f *File) Bare(name string) (start, end int, ok bool) {
	if f.Lang != lex.Kotlin {
		return 0, 0, false
	}
	n := lex.Solid(f.Tree.Root.Kids)
	for i := 0; i+1 < len(n); i++ {
		if !n[i].Is(f.Src, lex.Word, "class") || !n[i+1].Is(f.Src, lex.Word, name) || f.afterDot(n, i) {
			continue
		}
		last := i + 1
		for j := i + 2; j < len(n); j++ {
			k, before := n[j], n[j-1]
			joins := func(x *lex.Node) bool {
				return x.Kind == lex.Punct && strings.Contains(":,.<>?", x.Of(f.Src)) || x.Is(f.Src, lex.Word, "by") || x.Is(f.Src, lex.Word, "where")
			}
			switch {
			case k.Bracket(f.Src) == '{':
				return 0, 0, false
			case k.Is(f.Src, lex.Punct, ";"):
				return n[f.first(n, 0, i)].Start, n[last].End, true
			case strings.Contains(string(f.Src[before.End:k.Start]), "\n") && !joins(before) && !joins(k) && k.Bracket(f.Src) != '(':
				return n[f.first(n, 0, i)].Start, n[last].End, true
			}
			last = j
		}
		return n[f.first(n, 0, i)].Start, n[last].End, true
	}
	return 0, 0, false
}

// Makes reports whether a call of a name is made somewhere below a node.
func (f *File) Makes(at *lex.Node, name string) bool {
	for _, c := range f.Calls(at) {
		if c.Name == name {
			return true
		}
	}
	return false
}

// Short gives the text of a method whose body is one expression, as Kotlin and C# allow: fun f() = g().
func (f *File) Short(c *Class, name string) (text string, ok bool) {
	n := lex.Solid(c.Body.Inner())
	for i := 0; i+2 < len(n); i++ {
		if !n[i].Is(f.Src, lex.Word, name) || n[i+1].Bracket(f.Src) != '(' || i == 0 || n[i-1].Kind != lex.Word {
			continue
		}
		j := i + 2
		for j < len(n) && (n[j].Kind == lex.Word || n[j].Is(f.Src, lex.Punct, ":") || n[j].Is(f.Src, lex.Punct, "?") || n[j].Is(f.Src, lex.Punct, ".")) {
			j++
		}
		if j < len(n) && (n[j].Is(f.Src, lex.Punct, "=") || n[j].Is(f.Src, lex.Punct, "=>")) {
			return string(f.Src[n[i].Start:n[j].End]), true
		}
	}
	return "", false
}

// Head gives the declaration of a function in front of its body, blanks behind it left out.
func (f *File) Head(fn *Func) string {
	return strings.TrimRight(string(f.Src[fn.Start:fn.Body.Start]), " \t\r\n")
}

// Function gives a function outside classes by name, or nil.
func (f *File) Function(name string) *Func {
	for _, fn := range f.Funcs {
		if fn.Name == name {
			return fn
		}
	}
	return nil
}

// Named is what one import line of JavaScript takes from a module.
type Named struct {
	Module     string
	Names      []string // as they are called in this file
	Start, End int
	Required   bool // const x = require('m')
}

// Modules gives the imports of a JavaScript or TypeScript file.
func (f *File) Modules() []Named {
	var out []Named
	n := f.Tree.Root.Solid()
	for i := 0; i < len(n); i++ {
		switch {
		case n[i].Is(f.Src, lex.Word, "import") && i+1 < len(n) && n[i+1].Bracket(f.Src) != '(':
			m := Named{Start: n[i].Start}
			for j := i + 1; j < len(n) && j < i+40; j++ {
				if text, ok := lex.Literal(f.Src, n[j]); ok {
					m.Module, m.End = text, n[j].End
					if j+1 < len(n) && n[j+1].Is(f.Src, lex.Punct, ";") {
						m.End = n[j+1].End
					}
					break
				}
				m.Names = append(m.Names, f.names(n[j])...)
			}
			if m.End > 0 {
				out = append(out, m)
			}
		case n[i].Is(f.Src, lex.Word, "require") && i+1 < len(n) && n[i+1].Bracket(f.Src) == '(':
			inner := lex.Solid(n[i+1].Inner())
			if len(inner) != 1 {
				continue
			}
			text, ok := lex.Literal(f.Src, inner[0])
			if !ok {
				continue
			}
			m := Named{Module: text, Required: true}
			m.Start, m.End = f.Statement(n[i].Start)
			for j := i - 1; j >= 0 && n[j].Start >= m.Start; j-- {
				m.Names = append(m.Names, f.names(n[j])...)
			}
			out = append(out, m)
		}
	}
	return out
}

func (f *File) names(n *lex.Node) []string {
	if n.Kind == lex.Word {
		switch t := n.Of(f.Src); t {
		case "from", "as", "type", "const", "let", "var", "typeof":
			return nil
		default:
			return []string{t}
		}
	}
	var out []string
	if n.Bracket(f.Src) == '{' {
		for _, k := range n.Inner() {
			out = append(out, f.names(k)...)
		}
	}
	return out
}

// Lines that bring in what is named by a text: Dart's imports and C#'s usings.
func (f *File) brought() []Import {
	var out []Import
	n := f.Tree.Root.Solid()
	for i := 0; i+1 < len(n); i++ {
		start, end := n[i].Start, 0
		if i > 0 && !n[i-1].Is(f.Src, lex.Punct, ";") && n[i-1].Kind != lex.Directive {
			continue
		}
		switch {
		case f.Lang == lex.Dart && n[i].Is(f.Src, lex.Word, "import"):
			text, ok := lex.Literal(f.Src, n[i+1])
			if _, end = f.Statement(start); ok {
				out = append(out, Import{Name: text, Start: start, End: end})
			}
		case f.Lang == lex.CSharp && n[i].Is(f.Src, lex.Word, "using") && n[i+1].Kind == lex.Word:
			_, end = f.Statement(start)
			name := strings.TrimSuffix(strings.TrimSpace(strings.TrimPrefix(string(f.Src[start:end]), "using")), ";")
			out = append(out, Import{Name: strings.TrimSpace(name), Start: start, End: end})
		}
	}
	return out
}

// Takes reports whether a file brings in what a call needs: a module and the call's first name from it, in JavaScript.
func (f *File) Takes(name, call string) bool {
	switch f.Lang {
	case lex.JavaScript:
		first, _, _ := strings.Cut(call, ".")
		for _, m := range f.Modules() {
			if m.Module != name {
				continue
			}
			for _, n := range m.Names {
				if n == first {
					return true
				}
			}
		}
		return false
	case lex.Dart, lex.CSharp:
		for _, i := range f.brought() {
			if i.Name == name {
				return true
			}
		}
		return false
	case lex.ObjC:
		for _, i := range f.Imports {
			if i.Name == name || i.Name == name+"/"+name+".h" {
				return true
			}
		}
		return false
	}
	return f.Imported(name)
}

// Take inserts the line that brings in what a call needs, below the last of its kind.
func (f *File) Take(name, call string) (lex.Insertion, string) {
	below := func(end int, text, address string) (lex.Insertion, string) {
		if end > 0 {
			return lex.OnLinesAfter(f.Src, end, "", text), address
		}
		nl := lex.LineEnd(f.Src)
		return lex.Insertion{Offset: f.top(), Text: text, After: nl + nl}, address
	}
	last := 0
	switch f.Lang {
	case lex.JavaScript:
		first, _, _ := strings.Cut(call, ".")
		required := false
		for _, m := range f.Modules() {
			last, required = m.End, m.Required
		}
		text := "import {" + first + "} from " + f.quoted(name)
		if required {
			text = "const {" + first + "} = require(" + f.quoted(name) + ")"
		}
		return below(last, text+f.Semicolon(), "import("+first+" from "+name+")")
	case lex.Dart, lex.CSharp:
		for _, i := range f.brought() {
			last = i.End
		}
		text := "using " + name + ";"
		if f.Lang == lex.Dart {
			text = "import " + f.quoted(name) + ";"
		}
		return below(last, text, "import("+name+")")
	case lex.ObjC:
		for _, i := range f.Imports {
			last = i.Start + 1 // the line's own end belongs to some of them
		}
		header := name + "/" + name + ".h"
		return below(last, "#import <"+header+">", "import("+header+")")
	}
	return f.AddImport(name)
}

// top gives the offset behind a byte-order mark and the comments a file begins with.
func (f *File) top() int {
	at := 0
	for _, k := range f.Tree.Root.Kids {
		if k.Kind == lex.Space && strings.HasPrefix(k.Of(f.Src), "\xEF\xBB\xBF") {
			at = k.End
			continue
		}
		break
	}
	return at
}

// quoted writes a text in the quotes that the file uses first.
func (f *File) quoted(text string) string {
	quote := byte('\'')
	found := false
	f.Tree.Root.Walk(func(n *lex.Node) bool {
		if c := f.Src[min(n.Start, len(f.Src)-1)]; n.Kind == lex.String && !found && (c == '"' || c == '\'') {
			quote, found = c, true
		}
		return !found
	})
	return lex.Quoted(text, quote, false)
}

// Semicolon gives what ends a statement in a JavaScript file: ";" if it uses them at all.
func (f *File) Semicolon() string {
	out := ""
	f.Tree.Root.Walk(func(n *lex.Node) bool {
		if n.Is(f.Src, lex.Punct, ";") {
			out = ";"
		}
		return out == ""
	})
	if len(f.Src) == 0 {
		return ";"
	}
	return out
}

// Params gives the names by which a function's body knows its parameters, in order, with the labels callers use
// (application, open, options in Swift and Objective-C; the names themselves elsewhere).
func (f *File) Params(fn *Func) (labels, names []string) {
	if f.Lang == lex.ObjC {
		list, i := f.level(fn.Start)
		for j := max(i, 0); j < len(list) && list[j] != fn.Body; j++ {
			if list[j].Kind == lex.Word && j+3 < len(list) && list[j+1].Is(f.Src, lex.Punct, ":") && list[j+2].Bracket(f.Src) == '(' && list[j+3].Kind == lex.Word {
				labels, names = append(labels, list[j].Of(f.Src)), append(names, list[j+3].Of(f.Src))
			}
		}
		return labels, names
	}
	list, i := f.level(fn.Body.Start)
	for i--; i >= 0 && list[i].Bracket(f.Src) != '('; i-- {
	}
	if i < 0 {
		return nil, nil
	}
	var words []string
	typed := false
	flush := func() {
		if f.Lang == lex.Java && len(words) > 0 {
			words = words[len(words)-1:]
		}
		if n := len(words); n > 0 {
			labels, names = append(labels, words[0]), append(names, words[n-1])
		}
		words, typed = nil, false
	}
	for _, k := range lex.Solid(list[i].Inner()) {
		switch {
		case k.Is(f.Src, lex.Punct, ","):
			flush()
		case k.Is(f.Src, lex.Punct, ":") || k.Is(f.Src, lex.Punct, "="):
			typed = true
		case k.Kind == lex.Word && !typed:
			words = append(words, k.Of(f.Src))
		}
	}
	flush()
	return labels, names
}

// InsertAfter puts a statement on lines of its own below the statement that holds an offset; InsertBefore above it.
func (f *File) InsertAfter(offset int, text string) lex.Insertion {
	start, end := f.Statement(offset)
	return lex.OnLinesAfter(f.Src, end, lex.Indent(f.Src, start), text)
}

// InsertBefore puts a statement on lines of its own above the statement that holds an offset.
func (f *File) InsertBefore(offset int, text string) lex.Insertion {
	start, _ := f.Statement(offset)
	return lex.OnLinesBefore(f.Src, start, lex.Indent(f.Src, start), text)
}

// findStatement resolves the addresses of this file: statement(CALL) is the statement that makes a call, guarded(CALL)
// the preprocessor branch around it, call(CALL) the call alone, head(FUNCTION) a declaration in front of its body,
// function(NAME) a function outside classes, import(NAME) and import(NAME from MODULE) a line that brings something in,
// body(CLASS) what stands in a class's braces, with them, member(CLASS.NAME) a property of a class, modifier(NAME CALL) a chained call whose closure makes a call.
func (f *File) findStatement(word, name string) (start, end int, ok bool) {
	switch word {
	case "statement", "guarded", "call":
		c, found := f.Call(name)
		if !found {
			return 0, 0, false
		}
		if word == "call" {
			return c.Start, c.End, true
		}
		if start, end = f.Statement(c.Start); word == "statement" {
			return start, end, true
		}
		return f.guarded(start)
	case "head":
		if fn := f.Function(name); fn != nil {
			return fn.Start, fn.Start + len(f.Head(fn)), true
		}
	case "function":
		if fn := f.Function(name); fn != nil {
			return fn.Start, fn.End, true
		}
		if a := f.Arrow(name); a != nil {
			return a.Start, a.End, true
		}
	case "body":
		if c := f.Class(name); c != nil {
			return c.Body.Start, c.Body.End, true
		}
	case "member":
		class, name, _ := strings.Cut(name, ".")
		if c := f.Class(class); c != nil {
			return f.member(c, name)
		}
	case "modifier":
		name, call, _ := strings.Cut(name, " ")
		return f.modifier(name, call)
	}
	return 0, 0, false
}

// member gives the line of a Swift property, its attribute included.
func (f *File) member(c *Class, name string) (start, end int, ok bool) {
	n := lex.Solid(c.Body.Inner())
	for i := 1; i < len(n); i++ {
		if n[i].Is(f.Src, lex.Word, name) && n[i-1].Is(f.Src, lex.Word, "var") {
			start, end = f.Statement(n[i].Start)
			return start, end, true
		}
	}
	return 0, 0, false
}

// modifier gives a chained call with its closure: .onOpenURL { … }.
func (f *File) modifier(name, call string) (start, end int, ok bool) {
	var visit func(*lex.Node)
	visit = func(at *lex.Node) {
		n := lex.Solid(at.Kids)
		for i := 1; i+1 < len(n); i++ {
			if !ok && n[i].Is(f.Src, lex.Word, name) && n[i-1].Is(f.Src, lex.Punct, ".") {
				j := i
				for j+1 < len(n) && n[j+1].Kind == lex.Group {
					j++
				}
				for _, c := range f.Calls(n[j]) {
					ok = ok || c.Name == call
				}
				start, end = n[i-1].Start, n[j].End
			}
		}
		for _, k := range n {
			if !k.Leaf() && !ok {
				visit(k)
			}
		}
	}
	visit(f.Tree.Root)
	if !ok {
		return 0, 0, false
	}
	return start, end, ok
}

// Window gives the expression that a declarative app shows first: what stands alone in its WindowGroup. ok is false when
// there is none, or more than one.
func (f *File) Window(c *Class) (start, end int, ok bool) {
	c.Body.Walk(func(at *lex.Node) bool {
		if at.Leaf() || ok {
			return false
		}
		n := lex.Solid(at.Kids)
		for i := 0; i+1 < len(n); i++ {
			if !n[i].Is(f.Src, lex.Word, "WindowGroup") {
				continue
			}
			j := i + 1
			if n[j].Bracket(f.Src) == '(' && j+1 < len(n) {
				j++
			}
			if n[j].Bracket(f.Src) != '{' {
				continue
			}
			inner := lex.Solid(n[j].Inner())
			if len(inner) == 0 {
				continue
			}
			if s, e := f.Statement(inner[0].Start); s == inner[0].Start && e == inner[len(inner)-1].End {
				start, end, ok = s, e, true
			}
		}
		return true
	})
	return start, end, ok
}

// loop gives the loop of a function whose body makes a call: for … in … { … }.
func (f *File) loop(fn *Func, call string) (start, end int, ok bool) {
	n := lex.Solid(fn.Body.Inner())
	for i, k := range n {
		if !k.Is(f.Src, lex.Word, "for") {
			continue
		}
		for _, b := range n[i:] {
			if b.Bracket(f.Src) != '{' {
				continue
			}
			for _, c := range f.Calls(b) {
				if c.Name == call {
					return k.Start, b.End, true
				}
			}
			break
		}
	}
	return 0, 0, false
}

// Async reports whether the innermost function body around an offset belongs to an asynchronous function (Dart).
func (f *File) Async(offset int) bool {
	out := false
	var visit func(at *lex.Node)
	visit = func(at *lex.Node) {
		n := lex.Solid(at.Kids)
		for i, k := range n {
			if k.Leaf() || offset < k.Start || offset >= k.End {
				continue
			}
			if k.Bracket(f.Src) == '{' && i > 0 {
				switch prev := n[i-1]; {
				case prev.Is(f.Src, lex.Word, "async"):
					out = true
				case prev.Bracket(f.Src) == '(' && (i < 2 || !control[n[i-2].Of(f.Src)]): // a function without the word
					out = false
				}
			}
			visit(k)
		}
	}
	visit(f.Tree.Root)
	return out
}
