package survey

import (
	"errors"
	"fmt"
	"io/fs"
	"path"
	"strings"

	"ligare/core/syntax/gradle"
	"ligare/core/syntax/lex"
	"ligare/core/syntax/properties"
	"ligare/core/syntax/toml"
	"ligare/core/tree"
)

// Build is one Gradle build: the folder with the settings file and everything values may come from.
type Build struct {
	Root      string // folder of the settings file
	Settings  string // its path, "" when there is none
	RootFile  string // the root project's build file, "" when there is none
	tree      *tree.Tree
	files     map[string]*gradle.File
	catalog   *toml.File
	catalogAt string
}

// CatalogPath gives where the version catalog stands, "" when there is none.
func (b *Build) CatalogPath() string { return b.catalogAt }

// Library gives the coordinates group:name:version of a catalog accessor, for comparing with what is wanted.
func (b *Build) Library(alias string) (module, version string, ok bool) {
	if b.catalog == nil {
		return "", "", false
	}
	if e, found := b.catalog.Accessor("libraries", alias, ".module"); found {
		module, ok = e.Value, true
	} else if e, found := b.catalog.Accessor("libraries", alias, ""); found {
		parts := strings.SplitN(e.Value, ":", 3)
		if len(parts) == 3 {
			return parts[0] + ":" + parts[1], parts[2], true
		}
	} else if g, found := b.catalog.Accessor("libraries", alias, ".group"); found {
		n, _ := b.catalog.Accessor("libraries", alias, ".name")
		module, ok = g.Value+":"+n.Value, true
	}
	if e, found := b.catalog.Accessor("libraries", alias, ".version.ref"); found {
		if v, found := b.catalog.Get("versions." + e.Value); found {
			version = v.Value
		}
	} else if e, found := b.catalog.Accessor("libraries", alias, ".version"); found {
		version = e.Value
	}
	return module, version, ok
}

func openBuild(t *tree.Tree, dir string, r *Report) *Build {
	b := &Build{Root: dir, tree: t, files: map[string]*gradle.File{}}
	for _, n := range []string{"settings.gradle.kts", "settings.gradle"} {
		if t.Has(path.Join(dir, n)) {
			b.Settings = path.Join(dir, n)
			break
		}
	}
	for _, n := range []string{"build.gradle.kts", "build.gradle"} {
		if t.Has(path.Join(dir, n)) {
			b.RootFile = path.Join(dir, n)
			break
		}
	}
	at := path.Join(dir, "gradle/libs.versions.toml")
	if src, err := t.Read(at); err == nil {
		if b.catalog, err = toml.Parse(src); err != nil {
			r.broken("version catalog", err.Error(), at, 0)
		} else {
			b.catalogAt = at
		}
	}
	return b
}

func (b *Build) file(name string) *gradle.File {
	if f, ok := b.files[name]; ok {
		return f
	}
	src, err := b.tree.Read(name)
	if err != nil {
		return nil
	}
	f := gradle.Parse(name, src)
	b.files[name] = f
	return f
}

// scope is where an expression stands: values it names are looked up from there outward.
type scope struct {
	b    *Build
	file string
	f    *gradle.File
	deep int
}

func (s scope) place(at int) (string, int, int) {
	l, c := s.f.Position(at)
	return s.file, l, c
}

func (s scope) stuck(e gradle.Expr, why string) Fact {
	file, l, c := s.place(e[0].Start)
	text := strings.Join(strings.Fields(s.f.Text(e)), " ")
	if why != "" {
		why = ": " + why
	}
	return unresolved(fmt.Sprintf("`%s`%s", text, why), file, l, c)
}

// resolve works out what an expression is worth.
func (s scope) resolve(e gradle.Expr) Fact {
	if len(e) == 0 {
		return Fact{}
	}
	if s.deep++; s.deep > 20 {
		return s.stuck(e, "it refers to itself")
	}
	e = s.unwrap(e)
	file, l, c := s.place(e[0].Start)
	if f, ok := s.operators(e); ok {
		return f
	}
	if len(e) == 1 {
		n := e[0]
		switch n.Kind {
		case lex.Number:
			return known(strings.ReplaceAll(n.Of(s.f.Src), "_", ""), file, l, c)
		case lex.String:
			return s.text(n)
		case lex.Word:
			w := n.Of(s.f.Src)
			if w == "true" || w == "false" {
				return known(w, file, l, c)
			}
			if got, ok := s.name(w); ok {
				return got
			}
			return s.stuck(e, "")
		}
	}
	return s.path(e)
}

// unwrap drops what does not change a value: parentheses, casts, conversions at the end of a chain.
func (s scope) unwrap(e gradle.Expr) gradle.Expr {
	for {
		n := len(e)
		switch {
		case n == 1 && e[0].Bracket(s.f.Src) == '(':
			if inner := gradle.Expr(lex.Solid(e[0].Inner())); len(inner) > 0 {
				e = inner
				continue
			}
		case n > 2 && e[n-2].Is(s.f.Src, lex.Word, "as"):
			e = e[:n-2]
			continue
		case n > 3 && e[n-1].Bracket(s.f.Src) == '(' && len(lex.Solid(e[n-1].Inner())) == 0 && e[n-3].Is(s.f.Src, lex.Punct, "."):
			switch e[n-2].Of(s.f.Src) {
			case "toInteger", "toInt", "toString", "get", "asInteger", "toBoolean", "trim":
				e = e[:n-3]
				continue
			}
		}
		return e
	}
}

// operators handles conditionals, defaults and concatenation.
func (s scope) operators(e gradle.Expr) (Fact, bool) {
	if e[0].Is(s.f.Src, lex.Word, "if") && len(e) > 3 {
		for i, n := range e {
			if n.Is(s.f.Src, lex.Word, "else") && i > 2 {
				return s.either(s.f.Text(e[1:2]), s.branch(e[2:i]), s.branch(e[i+1:])), true
			}
		}
	}
	for i, n := range e {
		if i == 0 || i == len(e)-1 {
			continue
		}
		switch {
		case n.Is(s.f.Src, lex.Punct, "?"):
			for j := i + 1; j < len(e)-1; j++ {
				if e[j].Is(s.f.Src, lex.Punct, ":") {
					return s.either(s.f.Text(e[:i]), e[i+1:j], e[j+1:]), true
				}
			}
		case n.Is(s.f.Src, lex.Punct, "?:"):
			if got := s.resolve(e[:i]); got.Known() || len(got.Possible) > 0 {
				return got, true
			}
			return s.resolve(e[i+1:]).through("`" + s.f.Text(e[:i]) + "` is not set in the files"), true
		case n.Is(s.f.Src, lex.Punct, "+"):
			a, b := s.resolve(e[:i]), s.resolve(e[i+1:])
			if a.Known() && b.Known() {
				v := *a.Value + *b.Value
				a.Value = &v
				a.Via = append(a.Via, b.Via...)
				return a, true
			}
			return s.stuck(e, ""), true
		}
	}
	return Fact{}, false
}

// branch drops the braces of { value }.
func (s scope) branch(e gradle.Expr) gradle.Expr {
	if len(e) == 1 && e[0].Bracket(s.f.Src) == '{' {
		return gradle.Expr(lex.Solid(e[0].Inner()))
	}
	return e
}

func (s scope) either(cond string, yes, no gradle.Expr) Fact {
	a, b := s.resolve(yes), s.resolve(no)
	if !a.Known() || !b.Known() {
		if a.Known() {
			return b
		}
		return a
	}
	if *a.Value == *b.Value {
		return a
	}
	cond = strings.Trim(strings.TrimSpace(cond), "()")
	a.Possible = []Possible{{Value: *a.Value, When: cond}, {Value: *b.Value, When: "not " + cond}}
	a.Value = nil
	return a
}

// text resolves a string with what is embedded in it.
func (s scope) text(n *lex.Node) Fact {
	file, l, c := s.place(n.Start)
	out := known("", file, l, c)
	var b strings.Builder
	for _, k := range n.Inner() {
		switch k.Kind {
		case lex.Text:
			b.WriteString(k.Of(s.f.Src))
		case lex.Escape:
			b.WriteString(lex.Escaped(k.Of(s.f.Src)))
		case lex.Interp:
			inner := lex.Solid(k.Kids)
			inner = inner[1:]
			if len(inner) > 0 && inner[len(inner)-1].Kind == lex.Mark {
				inner = inner[:len(inner)-1]
			}
			if len(inner) == 0 {
				continue
			}
			got := s.resolve(inner)
			if !got.Known() {
				return got
			}
			b.WriteString(*got.Value)
			out.Via = append(out.Via, got.Via...)
		}
	}
	v := b.String()
	out.Value = &v
	return out
}

// path resolves dotted names and the calls that read properties.
func (s scope) path(e gradle.Expr) Fact {
	dotted := s.f.Dotted(e)
	rest := e[min(len(e), len(strings.Split(dotted, "."))*2-1):]
	if v, ok := strings.CutPrefix(dotted, "libs.versions."); ok {
		return s.version(e, strings.TrimSuffix(v, ".get"))
	}
	method := dotted[strings.LastIndexByte(dotted, '.')+1:]
	if len(rest) >= 1 && rest[0].Bracket(s.f.Src) == '(' {
		inner := lex.Solid(rest[0].Inner())
		switch method {
		case "property", "findProperty", "gradleProperty", "safeExtGet":
			if len(inner) > 0 {
				if key, ok := lex.Literal(s.f.Src, inner[0]); ok {
					if got, ok := s.name(key); ok {
						return got
					}
					if method == "safeExtGet" && len(inner) > 2 {
						return s.resolve(inner[2:])
					}
					return s.stuck(e, "no file sets "+key)
				}
			}
		case "file":
			if len(inner) > 0 {
				return s.resolve(inner[:1])
			}
		}
		return s.stuck(e, "")
	}
	if len(rest) >= 1 && rest[0].Bracket(s.f.Src) == '[' {
		if inner := lex.Solid(rest[0].Inner()); len(inner) == 1 {
			if key, ok := lex.Literal(s.f.Src, inner[0]); ok {
				if got, ok := s.extra(key, method != "extra" && method != "ext" && !strings.HasPrefix(dotted, "rootProject")); ok {
					return got
				}
			}
		}
		return s.stuck(e, "")
	}
	for _, prefix := range []string{"rootProject.ext.", "rootProject.extra.", "project.ext.", "ext.", "rootProject.", "project."} {
		if key, ok := strings.CutPrefix(dotted, prefix); ok && !strings.Contains(key, ".") && len(rest) == 0 {
			if got, ok := s.name(key); ok {
				return got
			}
		}
	}
	if strings.HasPrefix(dotted, "flutter.") {
		return s.stuck(e, "the Flutter SDK sets it")
	}
	return s.stuck(e, "")
}

func (s scope) version(e gradle.Expr, accessor string) Fact {
	if s.b.catalog == nil {
		return s.stuck(e, "there is no version catalog")
	}
	v, ok := s.b.catalog.Accessor("versions", accessor, "")
	if !ok {
		return s.stuck(e, "the catalog has no such version")
	}
	file, l, c := s.place(e[0].Start)
	return known(v.Value, s.b.catalogAt, v.Line, v.Column, fmt.Sprintf("`%s` at %s:%d:%d", s.f.Text(e), file, l, c))
}

// name looks a simple name up: declared in the file, extra properties from here outward, property files.
func (s scope) name(w string) (Fact, bool) {
	for _, d := range s.f.Settings() {
		if d.Decl != "" && len(d.Head) == 1 && d.Head[0] == w && len(d.Value) > 0 {
			return s.declared(d, w), true
		}
	}
	return s.extra(w, true)
}

func (s scope) declared(d gradle.Setting, w string) Fact {
	v := d.Value
	if d.Assign == "by" && v[0].Is(s.f.Src, lex.Word, "extra") && len(v) > 1 {
		inner := gradle.Expr(lex.Solid(v[1].Inner()))
		return s.resolve(inner).through("`" + w + "`")
	}
	return s.resolve(v).through("`" + w + "`")
}

// extra looks through ext of this file, the files it applies, the root build file and gradle.properties.
func (s scope) extra(w string, props bool) (Fact, bool) {
	seen := map[string]bool{}
	var look func(name string) (Fact, bool)
	look = func(name string) (Fact, bool) {
		f := s.b.file(name)
		if f == nil || seen[name] {
			return Fact{}, false
		}
		seen[name] = true
		in := scope{b: s.b, file: name, f: f, deep: s.deep}
		for _, d := range f.Settings() {
			n := len(d.Path)
			if n >= 2 && d.Path[n-1] == w && (d.Path[n-2] == "ext" || d.Path[n-2] == "extra") && len(d.Arg()) > 0 {
				return in.resolve(d.Arg()).through(fmt.Sprintf("`%s` in %s", w, name)), true
			}
			if d.Assign == "by" && n == 1 && d.Path[0] == w && len(d.Value) > 1 && d.Value[0].Is(f.Src, lex.Word, "extra") {
				return in.declared(d, w), true
			}
		}
		for _, d := range f.At("apply") {
			if len(d.Args) == 0 {
				continue
			}
			if key, val := f.Entry(d.Args[0]); key == "from" {
				if from := in.resolve(val); from.Known() {
					if got, ok := look(path.Join(path.Dir(name), *from.Value)); ok {
						return got, ok
					}
				}
			}
		}
		return Fact{}, false
	}
	for _, name := range []string{s.file, s.b.RootFile} {
		if got, ok := look(name); ok {
			return got, true
		}
	}
	if !props {
		return Fact{}, false
	}
	for _, dir := range []string{s.b.Root, path.Dir(s.file)} {
		name := path.Join(dir, "gradle.properties")
		if src, err := s.b.tree.Read(name); err == nil {
			if p, ok := properties.Get(properties.Parse(src), w); ok {
				return known(p.Value, name, p.Line, p.Column, "`"+w+"` in "+name), true
			}
		} else if !errors.Is(err, fs.ErrNotExist) {
			return unresolved(err.Error(), name, 0, 0), true
		}
	}
	return Fact{}, false
}
