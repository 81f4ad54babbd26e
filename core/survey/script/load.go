package script

import (
	"io/fs"
	"path"
	"strings"

	"ligare/core/syntax/gradle"
	"ligare/core/syntax/lex"
	"ligare/core/syntax/properties"
)

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
			return mark + strings.TrimLeft(path.Clean(rest), "/")
		}
	}
	return text
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
