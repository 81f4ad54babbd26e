package script

import (
	"path"
	"strings"

	"ligare/core/survey/fact"
	"ligare/core/syntax/gradle"
	"ligare/core/syntax/lex"
	"ligare/core/syntax/properties"
)

// constant is a named constant of the project's own build code: object Versions { const val MIN_SDK = 24 }.
type constant struct {
	file string
	gradle.Setting
}

// own is a plugin of the project itself: a script, or a class.
type own struct {
	file  string
	class string // "" for a script plugin
}

// readLogic indexes what buildSrc and included builds define: script plugins, plugin classes and constants.
func (b *Build) readLogic() {
	b.constants, b.plugins = map[string]constant{}, map[string]own{}
	classes := map[string]string{} // class name to file
	type registered struct{ id, class, file string }
	var named []registered
	for _, name := range b.logic {
		base := path.Base(name)
		script := strings.HasSuffix(base, ".gradle.kts") || strings.HasSuffix(base, ".gradle")
		if script && strings.Contains(name, "/src/main/") {
			id := strings.TrimSuffix(strings.TrimSuffix(base, ".kts"), ".gradle")
			f := b.File(name)
			if f == nil {
				continue
			}
			for _, d := range f.Settings() { // package x.y: the plugin's ID begins with it
				if len(d.Head) == 1 && d.Head[0] == "package" && len(d.Args) > 0 {
					id = f.Dotted(d.Args[0]) + "." + id
				}
			}
			b.plugins[id] = own{file: name}
			continue
		}
		if script {
			f := b.File(name)
			if f == nil {
				continue
			}
			in := scope{b: b, file: name, f: f, dir: path.Dir(name)}
			for _, d := range f.Settings() {
				n := len(d.Path)
				if n == 4 && d.Path[0] == "gradlePlugin" && d.Path[1] == "plugins" && d.Path[3] == "implementationClass" && len(d.Arg()) > 0 {
					if class := in.scalar(d.Arg()); class.Known() {
						for _, at := range f.At("gradlePlugin", "plugins", d.Path[2], "id") {
							named = append(named, registered{in.pluginID(at.Arg()), class.String(), name})
						}
					}
				}
			}
			continue
		}
		if id, ok := strings.CutSuffix(base, ".properties"); ok && strings.HasSuffix(path.Dir(name), "/META-INF/gradle-plugins") {
			if src, err := b.tree.Read(name); err == nil {
				if class, ok := properties.Get(properties.Parse(src), "implementation-class"); ok {
					named = append(named, registered{id, class.Value, name})
				}
			}
			continue
		}
		switch path.Ext(base) {
		case ".kt", ".java", ".groovy":
		default:
			continue
		}
		f := b.File(name)
		if f == nil {
			continue
		}
		for _, d := range f.Settings() {
			if n := len(d.Head); n == 1 && (d.Head[0] == "class" || d.Head[0] == "object") && len(d.Path) > 0 {
				classes[d.Path[len(d.Path)-1]] = name
			}
			if d.Decl != "" && d.Decl != "fun" && len(d.Value) > 0 && len(d.Path) > 1 {
				b.constants[strings.Join(d.Path, ".")] = constant{name, d}
			}
		}
	}
	for _, r := range named {
		class := r.class[strings.LastIndexByte(r.class, '.')+1:]
		if file, ok := classes[class]; ok && r.id != "" {
			b.plugins[r.id] = own{file: file, class: class}
		}
	}
}

// pluginID reads a plugin's ID: a literal, or libs.plugins.x.get().pluginId.
func (s scope) pluginID(e gradle.Expr) string {
	if text, ok := s.f.Literal(e); ok {
		return text
	}
	dotted := s.f.Dotted(e)
	if head, rest, ok := strings.Cut(dotted, ".plugins."); ok {
		id, _ := s.b.plugin(head, strings.TrimSuffix(rest, ".get"))
		return id
	}
	return ""
}

// constant gives a named constant, also through the object it stands in being imported.
func (s scope) constant(dotted string) (fact.Fact, bool) {
	c, ok := s.b.constants[dotted]
	if !ok {
		var hits []constant
		for name, k := range s.b.constants {
			if strings.HasSuffix(name, "."+dotted) || strings.HasSuffix(strings.ReplaceAll(name, ".Companion.", "."), "."+dotted) {
				hits = append(hits, k)
			}
		}
		if len(hits) != 1 || !strings.Contains(dotted, ".") {
			return fact.Fact{}, false
		}
		c = hits[0]
	}
	f := s.b.File(c.file)
	in := scope{b: s.b, file: c.file, f: f, dir: s.dir, at: c.Start, deep: s.deep}
	return in.within(c.Path[:len(c.Path)-1]).scalar(c.Value).Through("`" + dotted + "`"), true
}

// within binds the other constants of the same object, so that they are found by their simple names.
func (s scope) within(object []string) scope {
	if s.deep > 20 {
		return s
	}
	prefix := strings.Join(object, ".") + "."
	for name, k := range s.b.constants {
		rest, ok := strings.CutPrefix(name, prefix)
		if !ok || strings.Contains(rest, ".") || k.file != s.file || k.Start == s.at {
			continue
		}
		in := s
		in.at, in.deep, in.bind = k.Start, s.deep+10, nil
		s.bind = with(s.bind, rest, in.eval(k.Value))
	}
	return s
}

// function calls a function of one expression that the script or the project's build code defines, when it takes nothing
// or its arguments are known: def appId() { 'x' }, fun appId() = "x".
func (p *parser) function(dotted string, args []gradle.Expr) (value, bool) {
	if strings.Contains(dotted, ".") {
		return value{}, false
	}
	for _, name := range append([]string{p.file, p.b.RootFile}, p.b.logic...) {
		f := p.b.File(name)
		if f == nil {
			continue
		}
		for _, d := range f.Settings() {
			if d.Decl == "" || d.Head[len(d.Head)-1] != dotted || len(d.Head) > 2 || len(d.Nodes) == 0 {
				continue
			}
			in := scope{b: p.b, file: name, f: f, dir: p.dir, at: d.Start, deep: p.deep + 1, bind: map[string]value{}}
			if d.Block != nil || d.Decl == "fun" {
				params := d.Args
				if len(params) != len(args) {
					continue
				}
				for i, e := range params {
					w := e[0]
					if !f.Kotlin && len(e) > 1 && e[1].Kind == lex.Word { // String name
						w = e[1]
					}
					in.bind[w.Of(f.Src)] = p.eval(args[i])
				}
				return in.body(d)
			}
		}
	}
	return value{}, false
}

// body evaluates a function that is one expression; anything longer is not followed.
func (s scope) body(d gradle.Setting) (value, bool) {
	if d.Block == nil {
		for i, n := range d.Tail { // fun x() = v, fun x(): String = v
			if n.Is(s.f.Src, lex.Punct, "=") {
				return s.eval(d.Tail[i+1:]), true
			}
		}
		return value{}, false
	}
	var lines []gradle.Expr
	var cur gradle.Expr
	for _, n := range d.Block.Inner() {
		if n.Kind == lex.Newline || n.Is(s.f.Src, lex.Punct, ";") {
			if len(cur) > 0 {
				lines, cur = append(lines, cur), nil
			}
		} else if !n.Trivia() {
			cur = append(cur, n)
		}
	}
	if len(cur) > 0 {
		lines = append(lines, cur)
	}
	if len(lines) != 1 {
		return value{}, false
	}
	e := lines[0]
	if e[0].Is(s.f.Src, lex.Word, "return") {
		e = e[1:]
	}
	return s.eval(e), true
}
