package survey

import (
	"fmt"
	"path"
	"strings"

	"ligare/core/survey/fact"
	"ligare/core/syntax/xml"
	"ligare/core/tree"
)

// msbuild evaluates the properties of a .NET project for one configuration and one target framework, in the order in
// which the build reads them (.NET documentation, "MSBuild conditions", "Property functions", "Customize your build").
// What it cannot decide stays open.
type msbuild struct {
	t      *tree.Tree
	r      *Report
	values map[string]Fact // by lower-case name
	items  []msItem
	seen   map[string]bool
}

// msItem is one item of the project that matters for an app: a package, a reference.
type msItem struct {
	kind, include string
	version       Fact
	file          string
	line          int
}

// global are properties that the build itself gives.
func newMSBuild(t *tree.Tree, r *Report, globals map[string]string) *msbuild {
	m := &msbuild{t: t, r: r, values: map[string]Fact{}, seen: map[string]bool{}}
	for k, v := range globals {
		m.values[strings.ToLower(k)] = fact.Of(v, "", 0, 0)
	}
	return m
}

// project reads a project with the shared files around it.
func (m *msbuild) project(name string) {
	for _, shared := range []string{"Directory.Build.props", "Directory.Packages.props"} {
		for dir := path.Dir(name); ; dir = path.Dir(dir) {
			if at := path.Join(dir, shared); m.t.Has(at) {
				m.file(at, 0)
				break
			}
			if dir == "." {
				break
			}
		}
	}
	m.file(name, 0)
}

func (m *msbuild) file(name string, depth int) {
	if m.seen[name] || depth > 20 {
		return
	}
	m.seen[name] = true
	d, ok := readXML(m.t, name, "project", m.r)
	if !ok {
		return
	}
	if d.Top.Name != "Project" {
		l, _ := d.At(d.Top.Node.Start)
		m.r.broken("project "+name, fmt.Sprintf("the document element is <%s>, not <Project>", d.Top.Name), name, l)
		return
	}
	m.group(d, d.Top, name, depth)
}

func (m *msbuild) group(d *xml.Doc, e *xml.Element, name string, depth int) {
	for _, c := range e.Children {
		holds, why := m.condition(d, c, name)
		switch c.Name {
		case "PropertyGroup":
			if holds == "false" {
				continue
			}
			for _, p := range c.Children {
				m.property(d, p, name, holds, why)
			}
		case "ItemGroup":
			if holds == "false" {
				continue
			}
			for _, i := range c.Children {
				if ok, _ := m.condition(d, i, name); ok != "false" {
					m.item(d, i, name)
				}
			}
		case "Choose":
			for _, w := range c.Children {
				ok, _ := m.condition(d, w, name)
				if ok == "false" {
					continue
				}
				m.group(d, w, name, depth)
				if ok == "true" {
					break
				}
			}
		case "Import":
			if a := c.Attr("Project"); a != nil && holds != "false" && c.Attr("Sdk") == nil {
				if f := m.expand(a.Value); f.Known() {
					at := path.Join(path.Dir(name), strings.ReplaceAll(f.String(), `\`, "/"))
					if m.t.Has(at) {
						m.file(at, depth+1)
					}
				}
			}
		case "ImportGroup":
			if holds != "false" {
				m.group(d, c, name, depth)
			}
		}
	}
}

func (m *msbuild) property(d *xml.Doc, p *xml.Element, name, holds, why string) {
	ok, whyOwn := m.condition(d, p, name)
	if ok == "false" {
		return
	}
	l, c := d.At(p.OpenEnd)
	f := m.expand(strings.TrimSpace(d.Text(p)))
	if f.Unresolved != "" {
		f = fact.Open(fmt.Sprintf("`%s`: %s", strings.TrimSpace(d.Text(p)), f.Unresolved), name, l, c)
	}
	f.File, f.Line, f.Column = name, l, c
	key := strings.ToLower(p.Name)
	if ok == "" || holds == "" {
		if why == "" {
			why = whyOwn
		}
		before := m.values[key]
		if !before.Set() {
			before = fact.Of("", "", 0, 0)
		}
		f = fact.Either(why, f, before)
		for i, x := range f.Possible {
			if x.Value == "" && len(f.Possible) == 2 {
				f.Possible = append(f.Possible[:i:i], f.Possible[i+1:]...)
				break
			}
		}
	}
	m.values[key] = f
}

func (m *msbuild) item(d *xml.Doc, e *xml.Element, name string) {
	a := e.Attr("Include")
	if a == nil {
		return
	}
	l, c := d.At(e.Node.Start)
	i := msItem{kind: e.Name, include: a.Value, file: name, line: l}
	if v := e.Attr("Version"); v != nil {
		i.version = m.expand(v.Value)
		i.version.File, i.version.Line, i.version.Column = name, l, c
	} else if v := e.Child("Version"); v != nil {
		i.version = m.expand(strings.TrimSpace(d.Text(v)))
		i.version.File, i.version.Line, i.version.Column = name, l, c
	}
	m.items = append(m.items, i)
}

// get gives a property.
func (m *msbuild) get(name string) Fact {
	f := m.values[strings.ToLower(name)]
	if f.Known() && f.String() == "" {
		return Fact{}
	}
	return f
}

// expand replaces $(Name) and the property functions it knows.
func (m *msbuild) expand(s string) Fact {
	parts := []Fact{fact.Of("", "", 0, 0)}
	for {
		open := strings.Index(s, "$(")
		if open < 0 {
			break
		}
		depth, end := 0, -1
		for i := open + 1; i < len(s); i++ {
			if s[i] == '(' {
				depth++
			} else if s[i] == ')' {
				if depth--; depth == 0 {
					end = i
					break
				}
			}
		}
		if end < 0 {
			return fact.Open("a bracket is missing", "", 0, 0)
		}
		parts = append(parts, fact.Of(s[:open], "", 0, 0), m.reference(s[open+2:end]))
		s = s[end+1:]
	}
	parts = append(parts, fact.Of(s, "", 0, 0))
	return fact.Join(parts...)
}

// reference evaluates what stands in $( ).
func (m *msbuild) reference(s string) Fact {
	if rest, ok := strings.CutPrefix(s, "[MSBuild]::"); ok {
		name, args, ok := strings.Cut(strings.TrimSuffix(rest, ")"), "(")
		if !ok {
			return fact.Open("$("+s+")", "", 0, 0)
		}
		arg := m.expand(strings.Trim(args, `'" `))
		switch {
		case arg.Known() && strings.EqualFold(name, "GetTargetPlatformIdentifier"):
			_, platform, _ := strings.Cut(arg.String(), "-")
			return fact.Of(strings.TrimRight(platform, "0123456789."), "", 0, 0)
		case arg.Known() && strings.EqualFold(name, "GetTargetFrameworkIdentifier"):
			return fact.Of(".NETCoreApp", "", 0, 0)
		}
		return fact.Open("$("+s+") is known at build", "", 0, 0)
	}
	name, call, isCall := strings.Cut(s, ".")
	f, ok := m.values[strings.ToLower(name)]
	if !ok {
		switch strings.ToLower(name) {
		case "msbuildthisfiledirectory", "msbuildprojectdirectory", "solutiondir", "nugetpackageroot", "home", "msbuildextensionspath":
			return fact.Open("$("+name+") is known at build", "", 0, 0)
		}
		f = fact.Of("", "", 0, 0)
	} else if f.File != "" && f.Line > 0 {
		f.Via = append([]string{fmt.Sprintf("$(%s) = %s at %s", name, f.Say(), f.Place())}, f.Via...)
	}
	if !isCall {
		return f
	}
	method, args, _ := strings.Cut(strings.TrimSuffix(call, ")"), "(")
	arg := strings.Trim(args, `'" `)
	if !f.Known() {
		return f
	}
	v := f.String()
	switch strings.ToLower(method) {
	case "contains":
		return boolFact(strings.Contains(v, arg))
	case "startswith":
		return boolFact(strings.HasPrefix(v, arg))
	case "endswith":
		return boolFact(strings.HasSuffix(v, arg))
	case "tolower", "tolowerinvariant":
		return fact.Of(strings.ToLower(v), "", 0, 0, f.Via...)
	case "toupper":
		return fact.Of(strings.ToUpper(v), "", 0, 0, f.Via...)
	case "trim":
		return fact.Of(strings.TrimSpace(v), "", 0, 0, f.Via...)
	}
	return fact.Open("$("+s+") is known at build", "", 0, 0)
}

func boolFact(b bool) Fact {
	if b {
		return fact.Of("True", "", 0, 0)
	}
	return fact.Of("False", "", 0, 0)
}

// condition decides an element's condition: "true", "false", or "" with the text that stopped it.
func (m *msbuild) condition(d *xml.Doc, e *xml.Element, name string) (holds, text string) {
	a := e.Attr("Condition")
	if a == nil || strings.TrimSpace(a.Value) == "" {
		return "true", ""
	}
	p := &msCondition{m: m, s: a.Value, dir: path.Dir(name)}
	out := p.or()
	p.blank()
	if p.i < len(p.s) {
		out = ""
	}
	return out, a.Value
}

// msCondition reads a condition: comparisons joined by and / or, in brackets, negated.
type msCondition struct {
	m   *msbuild
	s   string
	i   int
	dir string
}

func (p *msCondition) blank() {
	for p.i < len(p.s) && (p.s[p.i] == ' ' || p.s[p.i] == '\t' || p.s[p.i] == '\n' || p.s[p.i] == '\r') {
		p.i++
	}
}

func (p *msCondition) word(w string) bool {
	p.blank()
	if len(p.s)-p.i >= len(w) && strings.EqualFold(p.s[p.i:p.i+len(w)], w) {
		p.i += len(w)
		return true
	}
	return false
}

func (p *msCondition) or() string {
	out := p.and()
	for p.word("or ") || p.word("or(") {
		if p.s[p.i-1] == '(' {
			p.i--
		}
		b := p.and()
		switch {
		case out == "true" || b == "true":
			out = "true"
		case out == "" || b == "":
			out = ""
		default:
			out = "false"
		}
	}
	return out
}

func (p *msCondition) and() string {
	out := p.term()
	for p.word("and ") || p.word("and(") {
		if p.s[p.i-1] == '(' {
			p.i--
		}
		b := p.term()
		switch {
		case out == "false" || b == "false":
			out = "false"
		case out == "" || b == "":
			out = ""
		default:
			out = "true"
		}
	}
	return out
}

func (p *msCondition) term() string {
	p.blank()
	if p.word("!") {
		return map[string]string{"true": "false", "false": "true"}[p.term()]
	}
	if p.i < len(p.s) && p.s[p.i] == '(' {
		p.i++
		out := p.or()
		p.word(")")
		return out
	}
	if p.word("Exists(") {
		end := strings.IndexByte(p.s[p.i:], ')')
		for end >= 0 && strings.Count(p.s[p.i:p.i+end], "(") > strings.Count(p.s[p.i:p.i+end], ")") {
			next := strings.IndexByte(p.s[p.i+end+1:], ')')
			if next < 0 {
				return ""
			}
			end += next + 1
		}
		if end < 0 {
			return ""
		}
		f := p.m.expand(strings.Trim(p.s[p.i:p.i+end], "' "))
		p.i += end + 1
		if f.Known() && p.m.t.Has(path.Join(p.dir, strings.ReplaceAll(f.String(), `\`, "/"))) {
			return "true"
		}
		return ""
	}
	a := p.value()
	for _, op := range []string{"==", "!=", ">=", "<=", ">", "<"} {
		if !p.word(op) {
			continue
		}
		b := p.value()
		if !a.Known() || !b.Known() || op != "==" && op != "!=" {
			return ""
		}
		if strings.EqualFold(a.String(), b.String()) == (op == "==") {
			return "true"
		}
		return "false"
	}
	if a.Known() {
		return strings.ToLower(a.String())
	}
	return ""
}

// value reads 'quoted text', $(a property) or a bare word.
func (p *msCondition) value() Fact {
	p.blank()
	if p.i >= len(p.s) {
		return fact.Of("", "", 0, 0)
	}
	if p.s[p.i] == '\'' {
		depth := 0
		for j := p.i + 1; j < len(p.s); j++ {
			switch {
			case p.s[j] == '(':
				depth++
			case p.s[j] == ')':
				depth--
			case p.s[j] == '\'' && depth == 0:
				text := p.s[p.i+1 : j]
				p.i = j + 1
				return p.m.expand(text)
			}
		}
		p.i = len(p.s)
		return fact.Open("a quote is missing", "", 0, 0)
	}
	start, depth := p.i, 0
	for p.i < len(p.s) {
		c := p.s[p.i]
		if c == '(' {
			depth++
		} else if c == ')' {
			if depth == 0 {
				break
			}
			depth--
		}
		if depth == 0 && (c == ' ' || c == '=' || c == '!' || c == '<' || c == '>') {
			break
		}
		p.i++
	}
	return p.m.expand(p.s[start:p.i])
}
