// Package source reads program text lightly: imports, classes, functions and calls, enough to see whether something is
// started, where, and in which order. Each language is a table of package lex; Kotlin, Java and Swift are edited too.
package source

import (
	"path"
	"strings"

	"ligare/core/syntax/lex"
)

// File is a source file read.
type File struct {
	Lang    *lex.Language
	Src     []byte
	Tree    *lex.Tree
	Package string
	Imports []Import
	Classes []*Class
	Funcs   []*Func // outside classes
	pkgEnd  int
}

// Import is one import line.
type Import struct {
	Name       string
	Start, End int
}

// Class is a class, struct, object or extension.
type Class struct {
	Word, Name string
	Attrs      []string // Swift attributes and annotations before it: main, UIApplicationMain
	Supers     []string // what it inherits or conforms to, type arguments left out
	Body       *lex.Node
	Start, End int
	Funcs      []*Func
	Classes    []*Class
}

// Func is a function or method with a body.
type Func struct {
	Name       string
	Params     string // as written
	Body       *lex.Node
	Start, End int
}

// Call is `a.b.c(...)`; in Java with the semicolon that ends its statement.
type Call struct {
	Name       string
	Args       *lex.Node
	Start, End int
}

// Language gives the table for a file name, or nil.
func Language(name string) *lex.Language {
	switch path.Ext(name) {
	case ".kt", ".kts":
		return lex.Kotlin
	case ".java":
		return lex.Java
	case ".swift":
		return lex.Swift
	case ".m", ".mm":
		return lex.ObjC
	case ".cs":
		return lex.CSharp
	case ".dart":
		return lex.Dart
	case ".js", ".jsx", ".ts", ".tsx", ".mjs", ".cjs":
		return lex.JavaScript
	}
	return nil
}

// Parse reads a file whose name tells its language; ok is false for one that has no table.
func Parse(name string, src []byte) (f *File, ok bool) {
	l := Language(name)
	if l == nil {
		return nil, false
	}
	f = &File{Lang: l, Src: src, Tree: lex.Parse(l, src)}
	if l == lex.ObjC {
		f.objc(lex.Solid(f.Tree.Root.Kids))
		return f, true
	}
	f.scan(lex.Solid(f.Tree.Root.Kids), &f.Classes, &f.Funcs)
	f.imports()
	return f, true
}

var classWords = map[string]bool{"class": true, "struct": true, "object": true, "extension": true, "enum": true, "interface": true, "protocol": true, "actor": true}

var modifiers = map[string]bool{"override": true, "public": true, "private": true, "protected": true, "internal": true, "open": true,
	"final": true, "abstract": true, "suspend": true, "inline": true, "operator": true, "infix": true, "external": true, "static": true,
	"mutating": true, "nonisolated": true, "required": true, "convenience": true, "fileprivate": true, "data": true, "sealed": true,
	"inner": true, "companion": true, "indirect": true, "dynamic": true, "tailrec": true, "expect": true, "actual": true, "package": true}

// control words stand before brackets and braces without declaring anything.
var control = map[string]bool{"if": true, "for": true, "while": true, "switch": true, "catch": true, "using": true, "lock": true, "foreach": true}

// typed reports whether functions are written as type name(...) { } or name(...) { }.
func (f *File) typed() bool {
	return f.Lang == lex.Java || f.Lang == lex.CSharp || f.Lang == lex.Dart || f.Lang == lex.JavaScript
}

// first gives where a declaration begins: its modifiers and attributes stand before its keyword. Java's types stand
// there too, so a Java declaration begins where the one before ended.
func (f *File) first(n []*lex.Node, start, i int) int {
	if f.typed() {
		return start
	}
	for j := i; j > start; {
		switch {
		case n[j-1].Kind == lex.Word && j-2 >= start && n[j-2].Is(f.Src, lex.Punct, "@"):
			j -= 2
		case n[j-1].Bracket(f.Src) == '(' && j-3 >= start && n[j-3].Is(f.Src, lex.Punct, "@"):
			j -= 3
		case n[j-1].Kind == lex.Word && modifiers[n[j-1].Of(f.Src)]:
			j--
		default:
			return j
		}
		i = j
	}
	return i
}

func (f *File) scan(n []*lex.Node, classes *[]*Class, funcs *[]*Func) {
	start := 0 // of the declaration that is being read
	for i := 0; i < len(n); i++ {
		k := n[i]
		switch t := k.Of(f.Src); {
		case k.Kind == lex.Punct && t == ";", k.Bracket(f.Src) == '{':
			start = i + 1
		case k.Kind == lex.Word && classWords[t] && i+1 < len(n) && n[i+1].Kind == lex.Word && !f.afterDot(n, i):
			if end := f.bodyAt(n, i+2); end > 0 {
				*classes = append(*classes, f.class(n, f.first(n, start, i), i, end))
				i, start = end, end+1
			}
		case k.Kind == lex.Word && (t == "fun" || t == "func") && !f.typed():
			if fn, end := f.function(n, f.first(n, start, i), i); fn != nil {
				*funcs = append(*funcs, fn)
				i, start = end, end+1
			}
		case f.Lang == lex.Swift && k.Kind == lex.Word && t == "init" && i+1 < len(n) && n[i+1].Bracket(f.Src) == '(' && !f.afterDot(n, i):
			if end := f.bodyAt(n, i+2); end > 0 {
				*funcs = append(*funcs, &Func{Name: "init", Params: n[i+1].Of(f.Src), Body: n[end], Start: n[f.first(n, start, i)].Start, End: n[end].End})
				i, start = end, end+1
			}
		case f.typed() && k.Bracket(f.Src) == '(' && i > 0 && n[i-1].Kind == lex.Word && !control[n[i-1].Of(f.Src)]:
			if end := f.bodyAt(n, i+1); end > 0 && (end == i+1 || n[i+1].Is(f.Src, lex.Word, "throws") || n[i+1].Is(f.Src, lex.Word, "async")) {
				*funcs = append(*funcs, &Func{Name: n[i-1].Of(f.Src), Params: k.Of(f.Src), Body: n[end], Start: n[start].Start, End: n[end].End})
				i, start = end, end+1
			}
		}
	}
}

func (f *File) afterDot(n []*lex.Node, i int) bool {
	return i > 0 && (n[i-1].Is(f.Src, lex.Punct, ".") || n[i-1].Is(f.Src, lex.Punct, "::"))
}

// bodyAt finds the { } that belongs to a declaration whose name ends before i; 0 when it has none.
func (f *File) bodyAt(n []*lex.Node, i int) int {
	for ; i < len(n); i++ {
		k := n[i]
		if k.Bracket(f.Src) == '{' {
			return i
		}
		if k.Kind == lex.Word {
			switch t := k.Of(f.Src); {
			case classWords[t] || t == "fun" || t == "func" || t == "val" || t == "var" || t == "import":
				return 0
			}
		}
		if k.Is(f.Src, lex.Punct, ";") || k.Is(f.Src, lex.Punct, "=") {
			return 0
		}
	}
	return 0
}

func (f *File) function(n []*lex.Node, start, i int) (*Func, int) {
	for j := i + 1; j < len(n); j++ {
		if n[j].Bracket(f.Src) == '(' {
			end := f.bodyAt(n, j+1)
			if end == 0 {
				return nil, 0
			}
			return &Func{Name: n[j-1].Of(f.Src), Params: n[j].Of(f.Src), Body: n[end], Start: n[start].Start, End: n[end].End}, end
		}
		if n[j].Kind == lex.Group && n[j].Bracket(f.Src) == '{' {
			return nil, 0
		}
	}
	return nil, 0
}

func (f *File) class(n []*lex.Node, start, i, body int) *Class {
	c := &Class{Word: n[i].Of(f.Src), Name: n[i+1].Of(f.Src), Body: n[body], Start: n[start].Start, End: n[body].End}
	for j := start; j < i; j++ {
		if n[j].Is(f.Src, lex.Punct, "@") && n[j+1].Kind == lex.Word {
			c.Attrs = append(c.Attrs, n[j+1].Of(f.Src))
		}
	}
	depth := 0
	for j := i + 2; j < body; j++ {
		switch t := n[j].Of(f.Src); {
		case n[j].Kind == lex.Punct && t == "<":
			depth++
		case n[j].Kind == lex.Punct && t == ">":
			depth--
		case n[j].Kind == lex.Word && depth == 0 && t != "extends" && t != "implements" && t != "where":
			if j > 0 && n[j-1].Is(f.Src, lex.Punct, ".") && len(c.Supers) > 0 {
				c.Supers[len(c.Supers)-1] += "." + t
			} else {
				c.Supers = append(c.Supers, t)
			}
		}
	}
	f.scan(lex.Solid(c.Body.Inner()), &c.Classes, &c.Funcs)
	return c
}

// imports reads the package line and the imports; they stand one a line.
func (f *File) imports() {
	kids := f.Tree.Root.Kids
	for i := 0; i < len(kids); i++ {
		word := kids[i].Of(f.Src)
		if kids[i].Kind != lex.Word || word != "import" && word != "package" {
			continue
		}
		im := Import{Start: kids[i].Start, End: kids[i].End}
		for j := i + 1; j < len(kids) && kids[j].Kind != lex.Newline && kids[j].Kind != lex.Comment; j++ {
			if kids[j].Kind != lex.Space {
				im.End = kids[j].End
			}
			if kids[j].Kind == lex.Word || kids[j].Is(f.Src, lex.Punct, ".") || kids[j].Is(f.Src, lex.Punct, "*") {
				im.Name += kids[j].Of(f.Src)
			}
			i = j
		}
		if word == "package" {
			f.Package, f.pkgEnd = im.Name, im.End
			continue
		}
		im.Name = strings.TrimPrefix(im.Name, "static")
		f.Imports = append(f.Imports, im)
	}
}

// Imported reports whether a name is imported, by itself or by a wildcard.
func (f *File) Imported(name string) bool {
	for _, i := range f.Imports {
		if i.Name == name || strings.HasSuffix(i.Name, ".*") && strings.TrimSuffix(i.Name, "*") == name[:strings.LastIndexByte(name, '.')+1] {
			return true
		}
	}
	return false
}

// Each visits all classes, outer first.
func (f *File) Each(visit func(*Class)) {
	var walk func([]*Class)
	walk = func(list []*Class) {
		for _, c := range list {
			visit(c)
			walk(c.Classes)
		}
	}
	walk(f.Classes)
}

// Class gives a class by name, or nil.
func (f *File) Class(name string) *Class {
	var out *Class
	f.Each(func(c *Class) {
		if c.Name == name && (out == nil || out.Word == "interface" && c.Word == "implementation") {
			out = c
		}
	})
	return out
}

// Func gives a method by name; params, when given, must stand in the parameter list.
func (c *Class) Func(name, params string) *Func {
	for _, fn := range c.Funcs {
		if fn.Name == name && strings.Contains(fn.Params, params) {
			return fn
		}
	}
	return nil
}

// Is reports whether the class names one of these as its parent or protocol, by simple name.
func (c *Class) Is(supers ...string) bool {
	for _, s := range c.Supers {
		for _, want := range supers {
			if s == want || strings.HasSuffix(s, "."+want) {
				return true
			}
		}
	}
	return false
}

// Calls gives the calls inside a node, outer before inner.
func (f *File) Calls(in *lex.Node) []Call {
	var out []Call
	var walk func(*lex.Node)
	walk = func(at *lex.Node) {
		n := lex.Solid(at.Kids)
		for i := 0; i < len(n); i++ {
			if n[i].Bracket(f.Src) == '(' && i > 0 && n[i-1].Kind == lex.Word {
				j, name := i-1, n[i-1].Of(f.Src)
				for j > 1 && n[j-1].Is(f.Src, lex.Punct, ".") && n[j-2].Kind == lex.Word {
					name = n[j-2].Of(f.Src) + "." + name
					j -= 2
				}
				c := Call{Name: name, Args: n[i], Start: n[j].Start, End: n[i].End}
				if f.Lang == lex.Java && i+1 < len(n) && n[i+1].Is(f.Src, lex.Punct, ";") { // elsewhere it separates
					c.End = n[i+1].End
				}
				out = append(out, c)
			}
			if !n[i].Leaf() {
				walk(n[i])
			}
		}
	}
	walk(in)
	return out
}

// AddImport inserts an import line below the last one; a file without any gets it below its package line.
func (f *File) AddImport(name string) (lex.Insertion, string) {
	text := "import " + name
	if f.Lang == lex.Java {
		text += ";"
	}
	address := "import(" + name + ")"
	if n := len(f.Imports); n > 0 {
		return lex.OnLinesAfter(f.Src, f.Imports[n-1].End, "", text), address
	}
	nl := lex.LineEnd(f.Src)
	if f.pkgEnd > 0 {
		in := lex.OnLinesAfter(f.Src, f.pkgEnd, "", text)
		in.Before = nl + in.Before
		return in, address
	}
	at := 0
	if k := f.Tree.Root.Kids; len(k) > 0 && k[0].Kind == lex.Space && strings.HasPrefix(k[0].Of(f.Src), "\xEF\xBB\xBF") {
		at = k[0].End
	}
	return lex.Insertion{Offset: at, Text: text, After: nl + nl}, address
}

// AddFirst inserts a statement that makes the named call at the beginning of a function, after the super call that opens it, if there is one.
func (f *File) AddFirst(class *Class, fn *Func, name, text string) (lex.Insertion, string) {
	address := "class(" + class.Name + ")/func(" + fn.Name + ")/call(" + name + ")"
	open := fn.Body.Kids[0].End
	inner := lex.Solid(fn.Body.Inner())
	indent := lex.Indent(f.Src, fn.Start)
	if len(inner) == 0 {
		return lex.IntoGroup(f.Src, open, fn.Body.End-1, indent, lex.Unit(f.Src), text), address
	}
	after := 0
	if inner[0].Is(f.Src, lex.Word, "super") {
		if calls := f.Calls(fn.Body); len(calls) > 0 {
			after = calls[0].End
		}
	}
	first := inner[0].Start
	own := lex.Indent(f.Src, first)
	if lex.LineStart(f.Src, first) <= open-1 { // the body begins on the line of its brace, and stays there
		glue := "; "
		if strings.HasSuffix(text, ";") {
			glue = " "
		}
		if after > 0 {
			return lex.Insertion{Offset: after, Before: glue, Text: text}, address
		}
		return lex.Insertion{Offset: first, Text: text, After: glue}, address
	}
	if after > 0 {
		return lex.OnLinesAfter(f.Src, after, own, text), address
	}
	return lex.OnLinesAfter(f.Src, open, own, text), address
}

// Implied reports whether a Swift function returns the value of its only expression without saying so; a statement
// added to it would take that away.
func (f *File) Implied(fn *Func) bool {
	if f.Lang != lex.Swift || !strings.Contains(string(f.Src[fn.Start:fn.Body.Start]), "->") {
		return false
	}
	says := false
	fn.Body.Walk(func(n *lex.Node) bool {
		says = says || n.Is(f.Src, lex.Word, "return")
		return true
	})
	return !says
}

// AddMethod inserts a method as the last member of a class. A label of its parameters tells it from others of its name.
func (f *File) AddMethod(c *Class, name, label, text string) (lex.Insertion, string) {
	if f.Lang == lex.ObjC {
		nl := lex.LineEnd(f.Src)
		end := c.End - len("@end")
		return lex.Insertion{Offset: end, Text: lex.Reindent(text, "", nl), After: nl + nl}, "class(" + c.Name + ")/func(" + name + ")"
	}
	in := lex.IntoGroup(f.Src, c.Body.Kids[0].End, c.Body.End-1, lex.Indent(f.Src, c.Start), lex.Unit(f.Src), text)
	if len(lex.Solid(c.Body.Inner())) > 0 {
		in.Before = lex.LineEnd(f.Src) + in.Before
	}
	if label != "" {
		name += "," + label
	}
	return in, "class(" + c.Name + ")/func(" + name + ")"
}

// Find resolves an address made by the edits of this package.
func (f *File) Find(address string) (start, end int, ok bool) {
	if name, found := strings.CutPrefix(address, "import("); found {
		name = strings.TrimSuffix(name, ")")
		if first, module, ok := strings.Cut(name, " from "); ok {
			for _, m := range f.Modules() {
				if m.Module == module && len(m.Names) == 1 && m.Names[0] == first {
					return m.Start, m.End, true
				}
			}
			return 0, 0, false
		}
		for _, i := range append(f.Imports, f.brought()...) {
			if i.Name == name {
				return i.Start, i.End, true
			}
		}
		return 0, 0, false
	}
	if word, name, _ := strings.Cut(strings.TrimSuffix(address, ")"), "("); word != "class" {
		return f.findStatement(word, name)
	}
	var class *Class
	var fn *Func
	for _, step := range strings.Split(address, "/") {
		word, name, _ := strings.Cut(strings.TrimSuffix(step, ")"), "(")
		switch {
		case word == "class":
			if class = f.Class(name); class == nil {
				return 0, 0, false
			}
			start, end, ok = class.Start, class.End, true
		case word == "func" && class != nil:
			name, label, _ := strings.Cut(name, ",")
			if fn = class.Func(name, label); fn == nil {
				return 0, 0, false
			}
			start, end = fn.Start, fn.End
		case word == "loop" && fn != nil:
			return f.loop(fn, name)
		case word == "call" && class != nil:
			ok = false
			for _, cand := range class.Funcs {
				if fn == nil || cand.Name != fn.Name {
					continue
				}
				for _, c := range f.Sent(cand.Body) {
					if c.Name == name && !ok {
						start, end, ok = c.Start, c.End, true
						if f.Lang == lex.ObjC {
							start, end = f.Statement(c.Start)
						}
					}
				}
			}
			if !ok {
				return 0, 0, false
			}
		default:
			return 0, 0, false
		}
	}
	return start, end, ok
}
