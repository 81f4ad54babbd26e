package script

import (
	"fmt"
	"path"
	"strings"

	"ligare/core/survey/fact"
	"ligare/core/syntax/gradle"
	"ligare/core/syntax/lex"
)

// finish gives a dotted name its value.
func (p *parser) finish(v value, e gradle.Expr) value {
	dotted := v.path
	if dotted == "" {
		return p.stuck(e, "")
	}
	head, rest, _ := strings.Cut(dotted, ".")
	if got, ok := p.bind[dotted]; ok {
		return got
	}
	for i := strings.LastIndexByte(dotted, '.'); i > 0; i = strings.LastIndexByte(dotted[:i], '.') { // a member of a bound name
		if got, ok := p.bind[dotted[:i]]; ok {
			for _, m := range strings.Split(dotted[i+1:], ".") {
				got = p.member(got, m, max(0, p.i-1))
			}
			return got
		}
	}
	if dir, ok := p.folder(dotted); ok {
		return value{kind: file, fact: p.of(inTree+dir, e[0].Start).fact}
	}
	if c := p.b.catalogs[head]; c != nil || head == "libs" && strings.HasPrefix(rest, "versions.") {
		return p.catalogued(c, head, rest, e)
	}
	if head == "flutter" && rest != "" {
		return p.stuck(e, "the Flutter SDK sets it")
	}
	parts := strings.Split(dotted, ".")
	for len(parts) > 1 && (parts[0] == "rootProject" || parts[0] == "project" || parts[0] == "ext" || parts[0] == "extra" || parts[0] == "gradle" || parts[0] == "parent" || parts[0] == "properties" || parts[0] == "this" || parts[0] == "settings") {
		parts = parts[1:]
	}
	stripped := len(parts) < strings.Count(dotted, ".")+1
	var got value
	ok := false
	if stripped {
		got, ok = p.extra(parts[0], true)
		if !ok && len(parts) == 1 {
			got, ok = p.local(parts[0])
		}
	} else if got, ok = p.local(parts[0]); !ok {
		got, ok = p.extra(parts[0], true)
	}
	if ok {
		for _, m := range parts[1:] {
			if got.kind == props {
				got = p.property(got, m, nil, 0)
				continue
			}
			if conversions[m] {
				continue
			}
			got = p.member(got, m, 0)
		}
		return got
	}
	if f, ok := p.constant(dotted); ok {
		return value{fact: f}
	}
	if whole, ok := p.extra(strings.Join(parts, "."), true); ok { // a property whose name has dots
		return whole
	}
	if parts[0] == "android" && len(parts) == 3 && parts[1] == "defaultConfig" {
		if f := p.f.At(parts...); len(f) > 0 && len(f[0].Arg()) > 0 {
			return p.eval(f[len(f)-1].Arg())
		}
	}
	return p.stuck(e, "")
}

func (p *parser) catalogued(c *catalog, head, rest string, e gradle.Expr) value {
	name, ok := strings.CutPrefix(rest, "versions.")
	if !ok {
		return p.stuck(e, "")
	}
	if c == nil {
		return p.stuck(e, "there is no version catalog")
	}
	name = strings.TrimSuffix(strings.TrimSuffix(name, ".get"), ".orNull")
	f, ok := c.version(name)
	if !ok {
		return p.stuck(e, "the catalog has no such version")
	}
	file, l, col := p.place(e[0].Start)
	return value{fact: f.Through(fmt.Sprintf("`%s.versions.%s` at %s:%d:%d", head, name, file, l, col))}
}

// local finds a declaration in the file that reaches the statement, and what is assigned to it later.
func (s scope) local(w string) (value, bool) {
	var found *gradle.Setting
	settings := s.f.Settings()
	for i := range settings {
		d := &settings[i]
		if d.Decl == "" || d.Decl == "fun" || len(d.Head) != 1 || d.Head[0] != w || len(d.Value) == 0 {
			continue
		}
		reaches := len(d.Up) == 0 || s.at == 0 || s.at >= d.Up[len(d.Up)-1].Start && s.at < d.Up[len(d.Up)-1].End
		if reaches && (found == nil || len(d.Up) >= len(found.Up)) {
			found = d
		}
	}
	if found == nil {
		return value{}, false
	}
	in := s
	in.at = found.Start
	until := s.at
	if s.later(settings) {
		until = 0
	}
	v := in.declared(*found, w)
	if v.kind == props && v.path == "" {
		v = in.loadedInto(w, v)
	}
	v = in.assigned(w, v, settings, until)
	if v.kind == scalar {
		v.fact = v.fact.Through("`" + w + "`")
	}
	return v, true
}

// deferred blocks run after the script was read.
var deferred = map[string]bool{"afterEvaluate": true, "projectsEvaluated": true, "onVariants": true, "beforeVariants": true, "variantFilter": true, "all": true,
	"configureEach": true, "doFirst": true, "doLast": true}

// later reports whether the place in use runs after the script was read: in a deferred block, in a function.
func (s scope) later(settings []gradle.Setting) bool {
	for _, d := range settings {
		if s.at < d.Start || s.at >= d.End || d.Block == nil {
			continue
		}
		if d.Decl == "fun" || d.Decl == "def" || len(d.Head) > 0 && deferred[d.Head[len(d.Head)-1]] {
			return true
		}
	}
	return false
}

// declared evaluates a declaration's value.
func (s scope) declared(d gradle.Setting, w string) value {
	v := d.Value
	if d.Assign == "by" {
		switch {
		case v[0].Is(s.f.Src, lex.Word, "extra") && len(v) > 1: // by extra(24), by extra { 24 }
			return s.eval(gradle.Expr(lex.Solid(v[1].Inner())))
		case v[0].Is(s.f.Src, lex.Word, "project") || v[0].Is(s.f.Src, lex.Word, "settings") || v[0].Is(s.f.Src, lex.Word, "extra") || v[0].Is(s.f.Src, lex.Word, "rootProject"):
			if got, ok := s.extra(w, true); ok { // val x: String by project
				return got
			}
			return s.stuck(v, "no file sets "+w)
		}
	}
	return s.eval(v)
}

// assigned follows later assignments to a variable: x = v, under conditions or not. until is the offset where the
// variable is used, 0 for the end of the script.
func (s scope) assigned(w string, v value, settings []gradle.Setting, until int) value {
	for _, d := range settings {
		if d.Decl != "" || d.Assign != "=" || len(d.Head) != 1 || d.Head[0] != w || len(d.Path) != 1 || len(d.Value) == 0 || d.Start < s.at || until > 0 && d.Start >= until {
			continue
		}
		in := s
		in.at, in.bind = d.Start, with(s.bind, w, v)
		switch in.holds(d.Tests) {
		case "true":
			v = in.eval(d.Value)
		case "":
			if got := in.eval(d.Value); v.kind == null {
				v = value{fact: fact.Open(fmt.Sprintf("`%s`", d.Cond), s.file, 0, 0)}
				if len(d.Tests) > 0 && len(d.Tests[0].Expr) > 0 {
					v = s.stuck(d.Tests[0].Expr, "it decides what `"+w+"` is")
				}
			} else if v.kind == scalar {
				v = value{fact: fact.Either(d.Cond, got.fact, v.fact)}
			}
		}
	}
	return v
}

func with(m map[string]value, key string, v value) map[string]value {
	out := map[string]value{}
	for k, x := range m {
		out[k] = x
	}
	out[key] = v
	return out
}

// holds decides the conditions a statement stands under: "true", "false", or "" when they cannot be decided.
func (s scope) holds(tests []gradle.Test) string {
	out := "true"
	for _, t := range tests {
		is := ""
		if len(t.Expr) > 0 {
			is = truth(s.eval(t.Expr))
		}
		if t.Not && is != "" {
			is = map[string]string{"true": "false", "false": "true"}[is]
		}
		if is == "false" {
			return is
		}
		if is == "" {
			out = ""
		}
	}
	return out
}

// loaded gives a variable that holds a property file.
func (s scope) loaded(w string) (value, bool) {
	if strings.Contains(w, ".") {
		w = strings.TrimPrefix(strings.TrimPrefix(strings.TrimPrefix(w, "project."), "rootProject."), "ext.")
		if strings.Contains(w, ".") {
			return value{}, false
		}
	}
	if v, ok := s.local(w); ok {
		return v, v.kind == props
	}
	if v, ok := s.extra(w, false); ok {
		return v, v.kind == props
	}
	return value{}, false
}

// loadedInto finds the load call of a Properties variable: w.load(stream), also inside a block that opens the stream.
func (s scope) loadedInto(w string, v value) value {
	for _, d := range s.f.Settings() {
		n := len(d.Head)
		if n < 2 || d.Head[n-1] != "load" || d.Head[n-2] != w || len(d.Args) == 0 {
			continue
		}
		p := &parser{scope: s}
		p.at = d.Start
		src := p.eval(d.Args[0])
		if src.kind != file && len(d.Up) > 0 {
			up := d.Up[len(d.Up)-1]
			if nodes := up.Nodes; up.Block != nil {
				for i, k := range nodes {
					if k == up.Block {
						src = p.receiver(nodes[:i])
						break
					}
				}
			}
		}
		if src.kind == file {
			return p.loadFile(v, src)
		}
	}
	return v
}

// extra looks through extra properties of this file, the files it applies, the root build file, the settings file and,
// if asked, the project's properties.
func (s scope) extra(w string, properties bool) (value, bool) {
	seen := map[string]bool{}
	var look func(name string) (value, bool)
	look = func(name string) (value, bool) {
		f := s.b.File(name)
		if f == nil || seen[name] {
			return value{}, false
		}
		seen[name] = true
		in := scope{b: s.b, file: name, f: f, dir: s.dir, deep: s.deep, bind: s.bind}
		var out value
		found := false
		for _, d := range f.Settings() {
			v, ok := in.sets(d, w)
			if !ok {
				continue
			}
			inner := in
			inner.at = d.Start
			switch inner.holds(d.Tests) {
			case "true":
				out, found = v, true
			case "":
				if found {
					out = value{fact: fact.Either(d.Cond, v.fact, out.fact)}
				} else {
					out, found = v, true
					if v.known() {
						out.fact = fact.Open(fmt.Sprintf("`%s` is %s when %s", w, v.text(), d.Cond), v.fact.File, v.fact.Line, v.fact.Column)
					}
				}
			}
		}
		if found {
			if out.kind == scalar {
				out.fact = out.fact.Through(fmt.Sprintf("`%s` in %s", w, name))
			}
			return out, true
		}
		for _, from := range in.applied() {
			if got, ok := look(from); ok {
				return got, ok
			}
		}
		return value{}, false
	}
	for _, name := range []string{s.file, s.own(), s.b.RootFile, s.b.Settings} {
		if got, ok := look(name); ok {
			return got, true
		}
	}
	if !properties {
		return value{}, false
	}
	if f, ok := s.b.property(s.dir, w); ok {
		return value{fact: f}, true
	}
	return value{}, false
}

// own gives the build file of the project the script runs for.
func (s scope) own() string { return first(s.b.tree, s.dir, "build.gradle.kts", "build.gradle") }

// sets reads one statement as setting an extra property: ext.x = v, ext { x = v }, ext { set("x", v) }, extra["x"] = v,
// ext.set("x", v), val x by extra(v), project.ext { }.
func (s scope) sets(d gradle.Setting, w string) (value, bool) {
	s.at = d.Start
	n := len(d.Path)
	isExt := func(step string) bool { return step == "ext" || step == "extra" }
	switch {
	case n >= 2 && d.Path[n-1] == w && isExt(d.Path[n-2]) && len(d.Arg()) > 0 && d.Assign != "+=":
		return s.extraValue(d), true
	case n >= 2 && (d.Path[n-1] == "ext" || d.Path[n-1] == "extra") && len(d.Args) == 2: // ext.set("x", v): set is dropped from the path
		if key, ok := s.f.Literal(d.Args[0]); ok && key == w {
			return s.eval(d.Args[1]), true
		}
	case n == 1 && isExt(d.Path[0]) && len(d.Args) == 2:
		if key, ok := s.f.Literal(d.Args[0]); ok && key == w {
			return s.eval(d.Args[1]), true
		}
	case n >= 2 && isExt(d.Path[n-2]) && d.Path[n-1] == "set" && len(d.Args) == 2:
		if key, ok := s.f.Literal(d.Args[0]); ok && key == w {
			return s.eval(d.Args[1]), true
		}
	case n >= 3 && d.Path[n-1] == w && isExt(d.Path[n-3]) && len(d.Arg()) > 0 && d.Decl == "": // ext { versions { x = v } } is not a property of its own
		return value{}, false
	case d.Assign == "by" && n >= 1 && d.Path[n-1] == w && len(d.Value) > 1 && d.Value[0].Is(s.f.Src, lex.Word, "extra"):
		return s.declared(d, w), true
	case n == 1 && isExt(d.Path[0]) && d.Assign == "=": // ext = [x: v]
		if m := s.eval(d.Value); m.kind == dict {
			for i, k := range m.keys {
				if k == w {
					return m.items[i], true
				}
			}
		}
	}
	return value{}, false
}

// extraValue evaluates what an extra property is set to; a Properties object is loaded.
func (s scope) extraValue(d gradle.Setting) value {
	v := s.eval(d.Arg())
	if v.kind == props && v.path == "" {
		v = s.loadedInto(d.Path[len(d.Path)-1], v)
	}
	return v
}

// applied gives the scripts a file applies by apply from.
func (s scope) applied() []string {
	var out []string
	for _, d := range s.f.Settings() {
		if len(d.Path) == 0 || d.Path[len(d.Path)-1] != "apply" || len(d.Args) == 0 {
			continue
		}
		if name := s.from(d); name != "" {
			out = append(out, name)
		}
	}
	return out
}

// from gives the script that one apply statement names, "" when it names none or one outside the tree.
func (s scope) from(d gradle.Setting) string {
	for _, a := range d.Args {
		key, val := s.f.Entry(a)
		if key != "from" {
			continue
		}
		v := s.eval(val)
		if !v.known() {
			return ""
		}
		if name, ok := strings.CutPrefix(v.text(), inTree); ok {
			return path.Clean(name)
		}
		if name := path.Join(s.dir, v.text()); s.b.tree.Has(name) {
			return name
		}
		return path.Join(path.Dir(s.file), v.text())
	}
	return ""
}
