package gradle

import (
	"strings"

	"ligare/core/syntax/lex"
)

// Named reports whether a block's name is its argument: create("staging") { }.
func named(method string) bool {
	switch method {
	case "create", "getByName", "named", "register", "maybeCreate":
		return true
	}
	return false
}

// scoping reports whether a method only opens a block on what it is called on.
func scoping(method string) bool { return method == "apply" || method == "run" || method == "also" }

// Delegate gives the path of a declaration that makes or takes an element of a container: val pro by creating { } is
// pro, val pro by kinds.creating { } is kinds, pro. It is nil for every other statement.
func (f *File) Delegate(s *Stmt) []string {
	if s.Decl == "" || s.Assign != "by" || len(s.Head) != 1 {
		return nil
	}
	names := []string{}
	for _, n := range s.Value {
		if n.Is(f.Src, lex.Punct, ".") {
			continue
		}
		if n.Kind != lex.Word {
			return nil
		}
		switch w := n.Of(f.Src); w {
		case "creating", "getting", "registering", "existing":
			return append(names, s.Head[0])
		default:
			names = append(names, w)
		}
	}
	return nil
}

// Names gives the names a statement adds to the path of blocks around it.
func (f *File) Names(s *Stmt) []string {
	h := s.Head
	if len(h) == 0 {
		return nil
	}
	if names := f.Delegate(s); names != nil {
		return names
	}
	if len(h) == 1 && len(s.Args) > 0 && len(s.Args[0]) > 0 && (h[0] == "object" || h[0] == "class" || h[0] == "interface") && s.Args[0][0].Kind == lex.Word {
		return []string{s.Args[0][0].Of(f.Src)}
	}
	for len(h) > 1 && s.Block != nil && scoping(h[len(h)-1]) { // create("x").apply { }
		h = h[:len(h)-1]
	}
	if last := h[len(h)-1]; named(last) && len(s.Args) > 0 {
		if text, ok := f.Literal(s.Args[0]); ok {
			return append(append([]string(nil), h[:len(h)-1]...), text)
		}
	}
	if h[len(h)-1] == "project" && s.Block != nil && len(s.Args) > 0 { // project(":app") { }
		_, e := f.entry(s.Args[0])
		if text, ok := f.Literal(e); ok {
			return append(append([]string(nil), h...), text)
		}
	}
	return h
}

// Setting is a statement with the names of the blocks around it, in one spelling: setX(v), x.set(v), x = v and x v
// are all the path ending in x with the argument v.
type Setting struct {
	Path []string
	Up   []*Stmt // the statements around it, outermost first
	*Stmt
}

// Arg gives the value of a setting: what is assigned, or the first argument.
func (s Setting) Arg() Expr {
	if s.Assign != "" {
		return s.Value
	}
	if len(s.Args) > 0 {
		return s.Args[0]
	}
	return nil
}

// Settings gives every statement of the file, outer before inner, with its path.
func (f *File) Settings() []Setting {
	if f.settings != nil {
		return f.settings
	}
	out := []Setting{}
	var walk func(list []*Stmt, path []string, up []*Stmt)
	walk = func(list []*Stmt, path []string, up []*Stmt) {
		for _, s := range list {
			here := path
			control := len(s.Head) == 1 && (s.Head[0] == "if" || s.Head[0] == "try") && s.Block == nil && len(s.Stmts) > 0
			if !control {
				names := normal(f.Names(s))
				here = append(append([]string(nil), path...), names...)
				out = append(out, Setting{Path: here, Up: up, Stmt: s})
			}
			walk(s.Stmts, here, append(up[:len(up):len(up)], s))
		}
	}
	walk(f.Stmts, nil, nil)
	f.settings = out
	return out
}

func normal(names []string) []string {
	if len(names) == 0 {
		return names
	}
	last := names[len(names)-1]
	if last == "set" && len(names) > 1 {
		return names[:len(names)-1]
	}
	if strings.HasPrefix(last, "set") && len(last) > 3 && last[3] >= 'A' && last[3] <= 'Z' {
		return append(append([]string(nil), names[:len(names)-1]...), strings.ToLower(last[3:4])+last[4:])
	}
	return names
}

// At gives the settings whose path is exactly this.
func (f *File) At(path ...string) []Setting {
	var out []Setting
	for _, s := range f.Settings() {
		if equal(s.Path, path) {
			out = append(out, s)
		}
	}
	return out
}

// Block gives the first block at a path that does not stand under a condition, or nil.
func (f *File) Block(path ...string) *Stmt {
	for _, s := range f.At(path...) {
		if s.Block != nil && s.Block.Closed() && s.Cond == "" {
			return s.Stmt
		}
	}
	return nil
}

func equal(a, b []string) bool {
	if len(a) != len(b) {
		return false
	}
	for i := range a {
		if a[i] != b[i] {
			return false
		}
	}
	return true
}

// Plugin is a plugin a file applies or declares.
type Plugin struct {
	ID      string // the plugin's ID, or the catalog accessor after libs.plugins.
	Alias   bool
	Applied bool
	*Stmt
}

// Plugins gives the plugins of `plugins { }` and `apply plugin:`.
func (f *File) Plugins() []Plugin {
	var out []Plugin
	for _, s := range f.Settings() {
		switch {
		case len(s.Path) == 2 && s.Path[0] == "plugins" && (s.Path[1] == "id" || s.Path[1] == "kotlin" || s.Path[1] == "alias"):
			if len(s.Args) == 0 {
				continue
			}
			p := Plugin{Stmt: s.Stmt, Applied: !f.says(s, "false")}
			arg := s.Args[0]
			if s.Path[1] == "alias" {
				p.Alias = true
				p.ID = strings.TrimPrefix(f.dotted(arg), "libs.plugins.")
			} else if len(arg) > 0 {
				p.ID, _ = lex.Literal(f.Src, arg[0])
				if s.Path[1] == "kotlin" {
					p.ID = "org.jetbrains.kotlin." + p.ID
				}
			}
			out = append(out, p)
		case len(s.Path) == 1 && s.Path[0] == "apply" && len(s.Args) > 0:
			if key, val := f.entry(s.Args[0]); key == "plugin" {
				id, _ := f.Literal(val)
				out = append(out, Plugin{ID: id, Applied: true, Stmt: s.Stmt})
			}
		}
	}
	return out
}

// says looks for `apply false` after a plugin.
func (f *File) says(s Setting, word string) bool {
	for _, e := range append([]Expr{s.Tail}, s.Args...) {
		for i, n := range e {
			if n.Is(f.Src, lex.Word, word) && i > 0 && e[i-1].Is(f.Src, lex.Word, "apply") {
				return true
			}
			if n.Is(f.Src, lex.Word, "apply") && i+1 < len(e) && e[i+1].Kind == lex.Group && strings.Contains(e[i+1].Of(f.Src), word) {
				return true
			}
		}
	}
	return false
}

// entry reads a map argument: plugin: 'x', from = "y".
func (f *File) entry(e Expr) (string, Expr) {
	if len(e) > 2 && e[0].Kind == lex.Word && (e[1].Is(f.Src, lex.Punct, ":") || e[1].Is(f.Src, lex.Punct, "=")) {
		return e[0].Of(f.Src), e[2:]
	}
	return "", e
}

// Entry reads a named argument (plugin: 'x', from = "y"); the name is "" for a plain one.
func (f *File) Entry(e Expr) (string, Expr) { return f.entry(e) }

// dotted joins words and dots: libs.a.b.
func (f *File) dotted(e Expr) string {
	var b strings.Builder
	for _, n := range e {
		if n.Kind == lex.Word || n.Is(f.Src, lex.Punct, ".") {
			b.WriteString(n.Of(f.Src))
			continue
		}
		break
	}
	return b.String()
}

// Larger gives the two sides of an expression that takes the larger one: maxOf(a, b), Math.max(a, b), max(a, b).
func (f *File) Larger(e Expr) []Expr {
	if len(e) < 2 || e[len(e)-1].Bracket(f.Src) != '(' {
		return nil
	}
	switch strings.Join(strings.Fields(f.Text(e[:len(e)-1])), "") {
	case "maxOf", "max", "Math.max", "kotlin.math.max", "java.lang.Math.max":
		return f.split(e[len(e)-1].Inner())
	}
	return nil
}

// Dotted gives the leading dotted name of an expression.
func (f *File) Dotted(e Expr) string { return f.dotted(e) }

// Dependency is one line of a dependencies block.
type Dependency struct {
	Config      string // implementation, classpath, ...
	Notation    string // group:name:version as written, version possibly with $variables; "" for a catalog alias
	Group, Name string
	Version     Expr   // nil when the notation holds a literal version or none
	Literal     string // the version when written in the notation
	Alias       string // catalog accessor after the catalog's name
	Catalog     string // libs
	Project     string // :module
	*Stmt
}

// Dependencies gives the dependencies declared at a path of blocks (usually just "dependencies").
func (f *File) Dependencies(path ...string) []Dependency {
	var out []Dependency
	for _, s := range f.Settings() {
		if len(s.Path) != len(path)+1 || !equal(s.Path[:len(path)], path) || len(s.Args) == 0 {
			continue
		}
		out = append(out, f.DependencyOf(s.Stmt, s.Path[len(path)]))
	}
	return out
}

// DependencyOf reads a statement as a dependency of a configuration.
func (f *File) DependencyOf(s *Stmt, config string) Dependency {
	d := Dependency{Config: config, Stmt: s}
	f.coordinates(&d, s.Args)
	return d
}

func (f *File) coordinates(d *Dependency, args []Expr) {
	arg := args[0]
	if len(arg) == 2 && arg[0].Kind == lex.Word && arg[1].Bracket(f.Src) == '(' { // platform("..."), project(":x")
		inner := f.split(arg[1].Inner())
		switch name := arg[0].Of(f.Src); {
		case len(inner) == 0:
			return
		case name == "project":
			_, e := f.entry(inner[0])
			d.Project, _ = f.Literal(e)
			return
		default:
			arg = inner[0]
		}
	}
	if key, _ := f.entry(arg); key != "" { // group: 'a', name: 'b', version: 'c'
		for _, a := range args {
			key, val := f.entry(a)
			text, _ := f.Literal(val)
			switch key {
			case "group":
				d.Group = text
			case "name":
				d.Name = text
			case "version":
				d.Literal, d.Version = text, val
			}
		}
		d.Notation = d.Group + ":" + d.Name
		return
	}
	if len(arg) == 1 && arg[0].Kind == lex.String {
		d.Notation = strings.Trim(arg[0].Of(f.Src), `"'`)
		parts := strings.SplitN(d.Notation, ":", 3)
		d.Group = parts[0]
		if len(parts) > 1 {
			d.Name = parts[1]
		}
		if len(parts) > 2 {
			if text, ok := f.Literal(arg); ok {
				d.Literal = strings.SplitN(text, ":", 3)[2]
			} else {
				d.Version = arg
			}
		}
		return
	}
	if catalog, alias, ok := strings.Cut(f.dotted(arg), "."); ok && catalog == "libs" {
		d.Catalog, d.Alias = catalog, strings.TrimSuffix(alias, ".get")
	}
}

// URL gives the address of a repository statement: maven { url "x" }, maven("x"), maven { url = uri("x") }.
func (f *File) URL(s *Stmt) string {
	if len(s.Args) > 0 {
		_, e := f.entry(s.Args[0])
		if text := f.uri(e); text != "" {
			return text
		}
	}
	for _, in := range s.Stmts {
		if names := normal(in.Head); len(names) == 1 && names[0] == "url" {
			return f.uri(Setting{Stmt: in}.Arg())
		}
	}
	return ""
}

func (f *File) uri(e Expr) string {
	if text, ok := f.Literal(e); ok {
		return text
	}
	if len(e) == 2 && e[0].Is(f.Src, lex.Word, "uri") && e[1].Bracket(f.Src) == '(' {
		if in := f.split(e[1].Inner()); len(in) == 1 {
			text, _ := f.Literal(in[0])
			return text
		}
	}
	return ""
}

// Settle gives a statement's names in one spelling: setX(v) and x.set(v) are x.
func (f *File) Settle(s *Stmt) []string { return normal(f.Names(s)) }
