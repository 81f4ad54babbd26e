package script

import (
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"

	"ligare/core/survey/fact"
	"ligare/core/syntax/gradle"
	"ligare/core/syntax/lex"
	"ligare/core/syntax/properties"
)

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
	if method == "get" && len(args) == 1 && (strings.HasSuffix(receiver, "extra") || strings.HasSuffix(receiver, "ext") || strings.HasSuffix(receiver, "properties")) {
		if key := arg(0); key.known() {
			if got, ok := p.extra(key.text(), true); ok {
				return got
			}
			return p.stuck(whole, "no file sets "+key.text())
		}
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
			dir, name := p.fileValue(arg(0), p.b.Root), arg(1)
			if !dir.known() || !name.known() {
				return p.stuck(whole, "")
			}
			name.kind = file
			name.fact = name.fact.With(func(t string) string { return clean(dir.text() + "/" + t) })
			return name
		}
		return p.fileValue(arg(0), p.b.Root)
	case "file", "dir":
		dir := p.dir
		receiver = strings.TrimPrefix(receiver, "project.")
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
			if p.peek(lex.Punct, "?:") || p.peek(lex.Punct, ".") && p.i+1 < len(p.e) && (p.e[p.i+1].Is(p.f.Src, lex.Word, "getOrElse") || p.e[p.i+1].Is(p.f.Src, lex.Word, "orElse") || p.e[p.i+1].Is(p.f.Src, lex.Word, "orNull") || p.e[p.i+1].Is(p.f.Src, lex.Word, "getOrNull")) ||
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
		if p.e[p.i-1].Is(p.f.Src, lex.Word, "orNull") {
			return value{kind: null}
		}
		if p.e[p.i-1].Is(p.f.Src, lex.Word, "getOrNull") {
			p.i++
			return value{kind: null}
		}
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
