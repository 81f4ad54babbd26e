package script

import (
	"fmt"
	"strings"

	"ligare/core/survey/fact"
	"ligare/core/syntax/gradle"
	"ligare/core/syntax/lex"
)

// Stmt is one statement that counts for a module, with where it stands. Its path is that of the module's own script:
// what a plugin of the project or a block for all projects says is brought into the same form.
type Stmt struct {
	Path []string
	gradle.Setting
	in scope
}

// File gives the script the statement stands in.
func (s Stmt) File() string { return s.in.file }

// Script gives the file read.
func (s Stmt) Script() *gradle.File { return s.in.f }

// Place gives file, line and column.
func (s Stmt) Place() (string, int, int) { return s.in.place(s.Start) }

// Value resolves the statement's value or first argument.
func (s Stmt) Value() fact.Fact { return s.in.scalar(s.Arg()) }

// Resolve resolves any expression of the statement.
func (s Stmt) Resolve(e gradle.Expr) fact.Fact { return s.in.scalar(e) }

// Where resolves an expression to a path: relative to the tree's root, absolute, or below the home folder (~/...).
func (s Stmt) Where(e gradle.Expr) (where string, f fact.Fact) {
	v := s.in.eval(e)
	if !v.known() {
		f = v.fact.With(unmark)
		if v.kind == null {
			f = s.in.stuck(e, "it is not set").fact
		}
		return "", f
	}
	switch text := v.text(); {
	case strings.HasPrefix(text, inTree):
		return "tree", v.fact.With(unmark)
	case strings.HasPrefix(text, inHome):
		return "home", v.fact.With(unmark)
	default:
		return "disk", v.fact
	}
}

// List resolves an expression to texts: the items of a list, the entries of a map as key=value, or one text.
func (s Stmt) List(e gradle.Expr) []fact.Fact {
	v := s.in.eval(e)
	switch v.kind {
	case list:
		var out []fact.Fact
		for _, x := range v.items {
			out = append(out, x.fact.With(unmark))
		}
		return out
	case null:
		return nil
	}
	return []fact.Fact{v.fact.With(unmark)}
}

// Map resolves an expression to the entries of a map, in order; ok is false when it is something else.
func (s Stmt) Map(e gradle.Expr) (keys []string, values []fact.Fact, ok bool) {
	v := s.in.eval(e)
	if v.kind != dict {
		return nil, nil, false
	}
	for i, k := range v.keys {
		keys, values = append(keys, k), append(values, v.items[i].fact.With(unmark))
	}
	return keys, values, true
}

// Stuck makes a fact that says the statement cannot be followed.
func (s Stmt) Stuck(why string) fact.Fact {
	e := s.Nodes
	if s.Block != nil {
		for i, n := range e {
			if n == s.Block && i > 0 {
				e = e[:i]
				break
			}
		}
	}
	return s.in.stuck(e, why).fact
}

// Bind gives the statement with names bound, for blocks that are run once per variant. The names are dotted.
func (s Stmt) Bind(names map[string]any) Stmt {
	bind := map[string]value{}
	for k, v := range s.in.bind {
		bind[k] = v
	}
	for k, x := range names {
		switch x := x.(type) {
		case string:
			bind[k] = value{fact: fact.Of(x, "", 0, 0)}
		case []string:
			l := value{kind: list}
			for _, t := range x {
				l.items = append(l.items, value{fact: fact.Of(t, "", 0, 0)})
			}
			bind[k] = l
		case map[string]string: // pairs
			l := value{kind: list}
			for key, t := range x {
				l.items = append(l.items, value{kind: dict, keys: []string{key}, items: []value{{fact: fact.Of(t, "", 0, 0)}}})
			}
			bind[k] = l
		}
	}
	s.in.bind = bind
	return s
}

// Holds decides the conditions the statement stands under: "true", "false", or "" when they cannot be decided.
func (s Stmt) Holds() string { return s.in.holds(s.Tests) }

// Truth decides an expression.
func (s Stmt) Truth(e gradle.Expr) string { return truth(s.in.eval(e)) }

// Plugin is a plugin a module applies.
type Plugin struct {
	ID      string
	Version fact.Fact
	File    string // where it is applied
	Line    int
	Column  int
	Own     string // the file of the project that defines it, "" for a plugin from elsewhere
	Cond    string
}

// Model is what the scripts say about one module, in the order in which Gradle meets it: the root's blocks for all
// projects, then the module's script, with its own plugins and applied scripts unfolded where they are applied.
type Model struct {
	Build   *Build
	Dir     string
	Plugins []Plugin
	Stmts   []Stmt
	byPath  map[string][]Stmt
	seen    map[string]bool
}

// Model reads a module by its build file.
func (b *Build) Model(buildFile, dir string) *Model {
	m := &Model{Build: b, Dir: dir, byPath: map[string][]Stmt{}, seen: map[string]bool{}}
	if b.RootFile != buildFile {
		if f := b.File(b.RootFile); f != nil {
			m.run(scope{b: b, file: b.RootFile, f: f, dir: dir}, m.forAll(f), nil)
		}
	}
	if f := b.File(buildFile); f != nil {
		m.run(scope{b: b, file: buildFile, f: f, dir: dir}, forItself(f), nil)
	}
	return m
}

// forItself gives the statements of a script that are for its own project.
func forItself(f *gradle.File) []gradle.Setting {
	var out []gradle.Setting
	for _, d := range f.Settings() {
		if len(d.Path) > 1 && (d.Path[0] == "subprojects" || d.Path[0] == "configure" && len(d.Up) > 0 && d.Up[0].Type == "" || d.Path[0] == "project" && strings.HasPrefix(d.Path[1], ":")) {
			continue
		}
		out = append(out, d)
	}
	return out
}

// forAll gives the statements of the root's script that are for this module.
func (m *Model) forAll(f *gradle.File) []gradle.Setting {
	rel := ":" + strings.ReplaceAll(strings.TrimPrefix(strings.TrimPrefix(m.Dir, m.Build.Root), "/"), "/", ":")
	var out []gradle.Setting
	for _, d := range f.Settings() {
		switch {
		case len(d.Path) > 1 && (d.Path[0] == "allprojects" || d.Path[0] == "subprojects") && m.Dir != m.Build.Root || len(d.Path) > 1 && d.Path[0] == "allprojects":
			d.Path = d.Path[1:]
			out = append(out, d)
		case len(d.Path) > 2 && d.Path[0] == "project" && d.Path[1] == rel:
			d.Path = d.Path[2:]
			out = append(out, d)
		}
	}
	return out
}

// extensions are the types by which plugin code reaches what scripts call android { } and androidComponents { }.
var extensions = map[string]string{"ApplicationExtension": "android", "BaseAppModuleExtension": "android", "AppExtension": "android", "CommonExtension": "android",
	"BaseExtension": "android", "LibraryExtension": "android", "TestedExtension": "android", "ApplicationAndroidComponentsExtension": "androidComponents", "AndroidComponentsExtension": "androidComponents"}

// transparent steps open a block without naming anything.
var transparent = map[string]bool{"apply": true, "run": true, "also": true, "let": true, "with": true, "afterEvaluate": true, "withPlugin": true, "withId": true, "target": true,
	"project": true, "extensions": true, "plugins.withId": true, "pluginManager": true, "configure": true, "getByType": true, "findByType": true, "the": true, "configureIfExists": true}

// place brings a statement's path into the form of a module's script: what only opens a block drops out, a typed
// extension becomes its name. aliases are local names of extensions.
func place(f *gradle.File, d gradle.Setting, aliases map[string][]string, text func(gradle.Expr) string) []string {
	var out []string
	steps := append(append([]*gradle.Stmt(nil), d.Up...), d.Stmt)
	for i, s := range steps {
		last := i == len(steps)-1
		control := len(s.Head) == 1 && (s.Head[0] == "if" || s.Head[0] == "try") && s.Block == nil && len(s.Stmts) > 0
		if control || !last && len(s.Head) == 1 && s.Head[0] == "for" {
			continue
		}
		names := f.Settle(s)
		if text != nil {
			names = computed(f, s, names, text)
		}
		if name, ok := extensions[s.Type]; ok && s.Block != nil || ok && !last || ok && len(names) > 1 && transparent[names[0]] {
			out = append(out, name)
			for len(names) > 0 && transparent[names[0]] {
				names = names[1:]
			}
		} else if len(names) == 1 && names[0] == "with" && len(s.Args) > 0 && s.Block != nil {
			names = strings.Split(f.Dotted(s.Args[0]), ".")
		} else if len(names) == 2 && names[0] == "extensions" && names[1] == "configure" && len(s.Args) > 0 {
			if text, ok := f.Literal(s.Args[0]); ok { // extensions.configure("android") { }
				names = []string{text}
			} else if len(s.Args[0]) > 0 {
				if name, ok := extensions[s.Args[0][0].Of(f.Src)]; ok { // project.extensions.configure(AppExtension) { }
					names = []string{name}
				}
			}
		}
		if len(names) > 0 {
			if to, ok := aliases[names[0]]; ok {
				out, names = append([]string(nil), to...), names[1:]
			}
		}
		for len(names) > 1 && (names[0] == "project" || names[0] == "target") {
			names = names[1:]
		}
		if len(names) == 2 && s.Block != nil && (names[1] == "withId" || names[1] == "withPlugin" || names[1] == "withType") {
			names = nil
		}
		if s.Block != nil || !last {
			var kept []string
			for _, n := range names {
				if !transparent[n] {
					kept = append(kept, n)
				}
			}
			names = kept
		}
		out = append(out, names...)
	}
	return out
}

// run takes a script's statements in. base is the path that the script's own paths hang under, for functions.
func (m *Model) run(s scope, settings []gradle.Setting, aliases map[string][]string) {
	key := fmt.Sprint(s.file, aliases, s.turn)
	if m.seen[key] || len(m.seen) > 400 {
		return
	}
	m.seen[key] = true
	var loops []*gradle.Stmt // that were unfolded
	known := map[string][]string{}
	for k, v := range aliases {
		known[k] = v
	}
	kotlinDefault := aliases != nil || strings.Contains(s.file, "/src/main/")
	for _, d := range settings {
		at := s
		at.at = d.Start
		if d.Decl != "" && len(d.Value) > 0 && len(d.Head) == 1 && s.f.Delegate(d.Stmt) == nil { // val android = extensions.getByType<AppExtension>()
			for _, n := range d.Value {
				if n.Kind == lex.Word {
					if name, ok := extensions[n.Of(s.f.Src)]; ok {
						known[d.Head[0]] = []string{name}
					}
				}
				if n.Kind == lex.Group && strings.Contains(s.f.Text(d.Value), "getByType") {
					for _, k := range lex.Solid(n.Inner()) {
						if name, ok := extensions[k.Of(s.f.Src)]; ok {
							known[d.Head[0]] = []string{name}
						}
					}
				}
			}
			continue
		}
		path := d.Path
		if kotlinDefault || len(d.Up) > 0 || len(d.Head) > 1 {
			if d.Block != nil && len(d.Params) == 1 && len(d.Path) > 0 { // configure<AppExtension> { ext -> ext.x }
				if name, ok := extensions[d.Type]; ok {
					known[d.Params[0]] = []string{name}
				}
			}
			text := func(e gradle.Expr) string { return at.scalar(e).String() }
			path = m.relative(s.f, d, known, text)
		}
		if loop, ok := m.loop(at, d); ok {
			for _, in := range loop {
				m.run(in.scope, in.settings, known)
			}
			loops = append(loops, d.Stmt)
			continue
		}
		if insideAny(d.Up, loops) {
			continue
		}
		st := Stmt{Path: path, Setting: d, in: at}
		if m.applies(st) || len(path) == 0 {
			continue
		}
		if m.called(st, known) {
			continue
		}
		m.Stmts = append(m.Stmts, st)
		joined := strings.Join(path, "\x00")
		m.byPath[joined] = append(m.byPath[joined], st)
	}
}

// relative is place for a statement whose path may have lost leading blocks: allprojects, the class of a plugin.
func (m *Model) relative(f *gradle.File, d gradle.Setting, aliases map[string][]string, text func(gradle.Expr) string) []string {
	full := place(f, d, aliases, text)
	for len(full) > 0 && (full[0] == "allprojects" || full[0] == "subprojects") {
		full = full[1:]
	}
	if len(full) > 0 && strings.HasPrefix(full[0], ":") { // project(":app") { }
		full = full[1:]
	}
	return full
}

// applies unfolds plugin applications and applied scripts; it reports whether the statement was one.
func (m *Model) applies(st Stmt) bool {
	f, s := st.in.f, st.in
	n := len(st.Path)
	if n == 0 {
		return false
	}
	add := func(id string, version fact.Fact) {
		if id == "" || st.Holds() == "false" {
			return
		}
		file, l, c := st.Place()
		p := Plugin{ID: id, Version: version, File: file, Line: l, Column: c, Cond: st.Cond}
		o, mine := m.Build.plugins[id]
		if mine {
			p.Own = o.file
		}
		m.Plugins = append(m.Plugins, p)
		if !mine {
			return
		}
		own := m.Build.File(o.file)
		in := scope{b: m.Build, file: o.file, f: own, dir: m.Dir, bind: s.bind}
		settings := own.Settings()
		if o.class != "" {
			settings = bodyOf(own, o.class)
		}
		m.run(in, settings, map[string][]string{"\x00": {id}})
	}
	last := st.Path[n-1]
	switch {
	case n == 2 && st.Path[0] == "plugins" && len(st.Args) > 0 && (last == "id" || last == "kotlin" || last == "alias"):
		if says(f, st.Setting, "false") {
			return true
		}
		switch arg := st.Args[0]; last {
		case "alias":
			head, rest, _ := strings.Cut(f.Dotted(arg), ".plugins.")
			id, v := m.Build.plugin(head, rest)
			add(id, v)
		default:
			text, ok := lex.Literal(f.Src, arg[0])
			if !ok {
				text = s.pluginID(arg)
			}
			if last == "kotlin" {
				text = "org.jetbrains.kotlin." + text
			}
			add(text, m.pluginVersion(st, text))
		}
		return true
	case n == 2 && st.Path[0] == "plugins" && len(st.Head) == 1 && len(st.Args) == 0 && st.Block == nil: // plugins { `my-plugin` }
		add(strings.Trim(last, "`"), fact.Fact{})
		return true
	case last == "apply" && len(st.Args) > 0:
		for _, a := range st.Args {
			switch key, val := f.Entry(a); key {
			case "plugin":
				if v := s.scalar(val); v.Known() {
					add(v.String(), m.pluginVersion(st, v.String()))
				}
				return true
			case "from":
				if own := m.Build.File(s.from(st.Setting)); own != nil {
					m.run(scope{b: m.Build, file: s.from(st.Setting), f: own, dir: m.Dir, bind: s.bind}, own.Settings(), nil)
					return true
				}
				return false
			}
		}
		if text, ok := f.Literal(st.Args[0]); ok && (n == 1 || st.Path[n-2] == "plugins" || st.Path[n-2] == "pluginManager") { // pluginManager.apply("x")
			add(text, fact.Fact{})
			return true
		}
		if id := s.pluginID(st.Args[0]); id != "" {
			add(id, fact.Fact{})
			return true
		}
	}
	return false
}

func says(f *gradle.File, d gradle.Setting, word string) bool {
	for _, e := range append([]gradle.Expr{d.Tail}, d.Args...) {
		for i, n := range e {
			if n.Is(f.Src, lex.Word, word) && i > 0 && e[i-1].Is(f.Src, lex.Word, "apply") || n.Is(f.Src, lex.Word, "apply") && i+1 < len(e) && e[i+1].Kind == lex.Group && strings.Contains(e[i+1].Of(f.Src), word) {
				return true
			}
		}
	}
	return false
}

// pluginVersion finds a plugin's version: beside it, at the root, or in the settings script.
func (m *Model) pluginVersion(st Stmt, id string) fact.Fact {
	beside := func(s scope, d gradle.Setting) fact.Fact {
		for _, e := range append([]gradle.Expr{d.Tail}, d.Args...) {
			for i, n := range e {
				if n.Is(s.f.Src, lex.Word, "version") && i+1 < len(e) {
					return s.scalar(e[i+1 : i+2])
				}
			}
		}
		return fact.Fact{}
	}
	if f := beside(st.in, st.Setting); f.Set() {
		return f
	}
	for _, name := range []string{m.Build.RootFile, m.Build.Settings} {
		f := m.Build.File(name)
		if f == nil {
			continue
		}
		for _, d := range f.Settings() {
			n := len(d.Path)
			if n < 2 || d.Path[n-2] != "plugins" || d.Path[n-1] != "id" || len(d.Args) == 0 || len(d.Args[0]) == 0 {
				continue
			}
			if text, ok := lex.Literal(f.Src, d.Args[0][0]); ok && text == id {
				return beside(scope{b: m.Build, file: name, f: f, dir: m.Build.Root, at: d.Start}, d)
			}
		}
	}
	return fact.Fact{}
}

// bodyOf gives the statements of a plugin class's apply method.
func bodyOf(f *gradle.File, class string) []gradle.Setting {
	return inside(f, func(up []*gradle.Stmt) int {
		for i, s := range up {
			if s.Decl != "" && s.Head[len(s.Head)-1] == "apply" && i > 0 && within(f, up[:i], class) {
				return i
			}
		}
		return -1
	})
}

func within(f *gradle.File, up []*gradle.Stmt, class string) bool {
	for _, s := range up {
		if n := f.Names(s); len(n) == 1 && n[0] == class {
			return true
		}
	}
	return false
}

// inside gives the statements below the one that at picks among the statements around them.
func inside(f *gradle.File, at func(up []*gradle.Stmt) int) []gradle.Setting {
	var out []gradle.Setting
	for _, d := range f.Settings() {
		if i := at(d.Up); i >= 0 {
			d.Up = d.Up[i+1:]
			out = append(out, d)
		}
	}
	return out
}

// called unfolds a call of a function that the project's build code defines: configureAndroid(this).
func (m *Model) called(st Stmt, aliases map[string][]string) bool {
	n := len(st.Head)
	if n == 0 || st.Block != nil || len(st.Args) == 0 && len(st.Nodes) < 2 {
		return false
	}
	name := st.Head[n-1]
	for _, file := range m.Build.logic {
		f := m.Build.File(file)
		if f == nil {
			continue
		}
		for _, d := range f.Settings() {
			if d.Decl != "fun" || d.Head[len(d.Head)-1] != name || d.Block == nil {
				continue
			}
			inner := map[string][]string{"\x00": {name}}
			for i, param := range d.Args {
				if i >= len(st.Args) || len(param) == 0 {
					break
				}
				arg := st.in.f.Dotted(st.Args[i])
				word := param[0].Of(f.Src)
				switch to, ok := aliases[arg]; {
				case ok:
					inner[word] = to
				case arg == "this":
					inner[word] = st.Path[:len(st.Path)-n]
				}
			}
			body := inside(f, func(up []*gradle.Stmt) int {
				for i, s := range up {
					if s == d.Stmt {
						return i
					}
				}
				return -1
			})
			m.run(scope{b: m.Build, file: file, f: f, dir: m.Dir}, body, inner)
			return true
		}
	}
	return false
}

// At gives the statements whose path is exactly this, in order.
func (m *Model) At(path ...string) []Stmt { return m.byPath[strings.Join(path, "\x00")] }

// Under gives the statements whose path begins with this.
func (m *Model) Under(path ...string) []Stmt {
	var out []Stmt
	for _, s := range m.Stmts {
		if len(s.Path) > len(path) && strings.Join(s.Path[:len(path)], "\x00") == strings.Join(path, "\x00") {
			out = append(out, s)
		}
	}
	return out
}

// Applies reports whether the module applies a plugin.
func (m *Model) Applies(id string) bool {
	for _, p := range m.Plugins {
		if p.ID == id {
			return true
		}
	}
	return false
}

// Setting gives the fact of the last statement at a path; statements under a condition that cannot be decided make it
// one of several.
func (m *Model) Setting(path ...string) fact.Fact { return Last(m.At(path...), Stmt.Value) }

// First gives the first setting that says anything.
func (m *Model) First(paths ...[]string) fact.Fact {
	for _, p := range paths {
		if f := m.Setting(p...); f.Set() {
			return f
		}
	}
	return fact.Fact{}
}

// Reads reports whether the module's scripts apply a script that is not in the tree and whose path ends so.
func (m *Model) Reads(suffix string) bool {
	for _, st := range m.Stmts {
		if st.Path[len(st.Path)-1] == "apply" && strings.Contains(st.in.f.Text(st.Nodes), suffix) {
			return true
		}
	}
	return false
}

// Opaque gives the project's own plugins that the module applies: where nothing that was read sets a value, they may.
func (m *Model) Opaque() []Plugin {
	var out []Plugin
	for _, p := range m.Plugins {
		if o, ok := m.Build.plugins[p.ID]; ok && o.class != "" {
			out = append(out, p)
		}
	}
	return out
}
