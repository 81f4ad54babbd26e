package survey

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"ligare/core/survey/fact"
	"ligare/core/syntax/xml"
	"ligare/core/tree"
)

const (
	androidNS = "http://schemas.android.com/apk/res/android"
	toolsNS   = "http://schemas.android.com/tools"
)

// manifest is one of those that merge into a variant, highest priority first, with the namespace its relative class
// names resolve against (Android developer documentation, "Merge multiple manifest files").
type manifest struct {
	name string
	doc  *xml.Doc
	ns   Fact
}

// manifests gives the module's own manifests for a variant, highest priority first.
func (s *moduleReader) manifests(v *AndroidVariant) []manifest {
	var out []manifest
	for _, set := range v.SourceSets {
		if d, ok := s.openManifest(s.m.ManifestOf(set)); ok {
			out = append(out, d)
		}
	}
	return out
}

func (s *moduleReader) openManifest(name string) (manifest, bool) {
	d, ok := readXML(s.t, name, "manifest", s.r)
	return manifest{name: name, doc: d}, ok
}

// readXML reads an XML file; one that is there and cannot be read is listed as broken.
func readXML(t *tree.Tree, name, what string, r *Report) (*xml.Doc, bool) {
	src, err := t.Read(name)
	if err != nil {
		if !missing(err) {
			r.broken(what+" "+name, err.Error(), name, 0)
		}
		return nil, false
	}
	d := xml.Parse(src)
	if err := d.Err(); err != nil {
		line := 0
		if place, ok := err.(*xml.Error); ok {
			line = place.Line
		}
		r.broken(what+" "+name, err.Error(), name, line)
	}
	return d, d.Top != nil
}

// libraries gives the manifests of the tree's own library modules that the module depends on; they merge last.
func (s *moduleReader) libraries(v *AndroidVariant) []manifest {
	var out []manifest
	seen := map[string]bool{s.m.Dir: true}
	var visit func(dirs []string, depth int)
	visit = func(dirs []string, depth int) {
		for _, dir := range dirs {
			if seen[dir] || depth > 10 || len(seen) > 200 {
				continue
			}
			seen[dir] = true
			file := s.buildFileIn(dir)
			if file == "" {
				continue
			}
			model := s.m.build.Model(file, dir)
			lib := &moduleReader{t: s.t, m: &Module{Dir: dir, BuildFile: file, Root: s.m.Root, build: s.m.build, model: model}, model: model, r: s.r}
			lib.readSourceSets()
			ns := model.Setting("android", "namespace")
			for _, set := range []string{v.BuildType, "main"} {
				d, ok := lib.openManifest(lib.m.ManifestOf(set))
				if !ok {
					continue
				}
				if a := d.doc.Top.Attr("package"); a != nil && !ns.Set() {
					l, c := d.doc.At(a.ValueStart)
					ns = fact.Of(a.Value, d.name, l, c)
				}
				d.ns = ns
				out = append(out, d)
			}
			visit(lib.moduleDirs(), depth+1)
		}
	}
	visit(s.moduleDirs(), 0)
	return out
}

func (s *moduleReader) buildFileIn(dir string) string {
	for _, n := range []string{"build.gradle.kts", "build.gradle"} {
		if s.t.Has(path.Join(dir, n)) {
			return path.Join(dir, n)
		}
	}
	return ""
}

// manifestSDK reads the minimum or target that old manifests carry.
func manifestSDK(ms []manifest, name string) Fact {
	for _, d := range ms {
		for _, e := range d.doc.Top.Children {
			if e.Name != "uses-sdk" {
				continue
			}
			if a := e.AttrNS(androidNS, name); a != nil {
				l, c := d.doc.At(a.ValueStart)
				return fact.Of(a.Value, d.name, l, c)
			}
		}
	}
	return Fact{}
}

// merged is what several manifests come to for one variant.
type merged struct {
	s    *moduleReader
	v    *AndroidVariant
	list []manifest
}

func (s *moduleReader) readManifests(v *AndroidVariant, list []manifest) {
	for i := range list {
		if !list[i].ns.Set() {
			list[i].ns = v.Namespace
		}
		v.Manifests = append(v.Manifests, list[i].name)
	}
	g := &merged{s: s, v: v, list: list}
	v.Strings = g.strings()
	v.ApplicationClass = g.applicationClass()
	v.LauncherActivity = g.launcher()
	v.DisplayName = g.label()
	v.Permissions = g.permissions()
	v.Metadata = g.metadata()
	v.Activities, v.URLSchemes, v.AppLinks = g.activities()
	v.Queries = g.queries()
}

// attr resolves an attribute: placeholders are replaced.
func (g *merged) attr(d manifest, a *xml.Attribute) Fact {
	l, c := d.doc.At(a.ValueStart)
	parts := []Fact{fact.Of("", d.name, l, c)}
	text := a.Value
	for {
		open := strings.Index(text, "${")
		end := -1
		if open >= 0 {
			end = strings.IndexByte(text[open:], '}')
		}
		if end < 0 {
			break
		}
		name := text[open+2 : open+end]
		got := g.placeholder(name)
		switch {
		case got.Unresolved != "":
			return fact.Open(fmt.Sprintf("`%s`: %s", a.Value, got.Unresolved), d.name, l, c)
		case !got.Set():
			return fact.Open(fmt.Sprintf("`%s`: no placeholder %s is set in the files", a.Value, name), d.name, l, c)
		}
		got.Via = []string{fmt.Sprintf("${%s} = %s at %s", name, got.Say(), got.Place())}
		parts = append(parts, fact.Of(text[:open], d.name, l, c), got)
		text = text[open+end+1:]
	}
	return fact.Join(append(parts, fact.Of(text, d.name, l, c))...)
}

func (g *merged) placeholder(name string) Fact {
	for _, p := range g.v.Placeholders {
		if p.Name == name {
			return p.Fact
		}
	}
	if name == "applicationId" {
		return g.v.ApplicationID
	}
	return Fact{}
}

// node gives what an element says to the merger about itself.
func node(e *xml.Element) string {
	if a := e.AttrNS(toolsNS, "node"); a != nil {
		return a.Value
	}
	return ""
}

// removes reports whether a higher manifest takes an attribute away from an element.
func removes(e *xml.Element, attr string) bool {
	a := e.AttrNS(toolsNS, "remove")
	if a == nil {
		return false
	}
	for _, n := range strings.Split(a.Value, ",") {
		if _, local, _ := strings.Cut(strings.TrimSpace(n), ":"); local == attr {
			return true
		}
	}
	return false
}

// each visits the elements of a kind below a parent, highest manifest first, without those that a higher one removes.
// key identifies an element across manifests.
func (g *merged) each(parent func(manifest) *xml.Element, names []string, key func(manifest, *xml.Element) string, visit func(manifest, *xml.Element)) {
	removed := map[string]bool{}
	all := false
	for _, d := range g.list {
		p := parent(d)
		if p == nil || all {
			continue
		}
		for _, e := range p.Children {
			if !slices.Contains(names, e.Name) {
				continue
			}
			k := key(d, e)
			if removed[k] {
				continue
			}
			switch node(e) {
			case "remove":
				removed[k] = true
				continue
			case "removeAll":
				all = true
				continue
			case "replace":
				visit(d, e)
				removed[k] = true
				continue
			}
			visit(d, e)
		}
	}
}

func top(d manifest) *xml.Element         { return d.doc.Top }
func application(d manifest) *xml.Element { return d.doc.Top.Child("application") }

func (g *merged) byName(d manifest, e *xml.Element) string {
	if a := e.AttrNS(androidNS, "name"); a != nil {
		return e.Name + " " + g.attr(d, a).String()
	}
	return e.Name
}

// class identifies a component by its full class name.
func (g *merged) class(d manifest, e *xml.Element) string {
	if a := e.AttrNS(androidNS, "name"); a != nil {
		return g.classFact(d, a).String()
	}
	return ""
}

// classFact resolves a class name against the manifest's namespace, never against the application ID.
func (g *merged) classFact(d manifest, a *xml.Attribute) Fact {
	f := g.attr(d, a)
	name := f.String()
	if !f.Known() || strings.Contains(name, ".") && !strings.HasPrefix(name, ".") {
		return f
	}
	ns := d.ns
	if !ns.Known() {
		why := "is not known"
		if ns.Unresolved != "" {
			why += ": " + ns.Unresolved
		}
		return fact.Open(fmt.Sprintf("`%s` is relative to a namespace that %s", name, why), f.File, f.Line, f.Column)
	}
	full := ns.String() + "." + strings.TrimPrefix(name, ".")
	return fact.Of(full, f.File, f.Line, f.Column, append(f.Via, fmt.Sprintf("`%s`, relative to the namespace at %s", name, ns.Place()))...)
}

// applicationAttr gives an attribute of the application element from the highest manifest that has it.
func (g *merged) applicationAttr(name string) (manifest, *xml.Attribute) {
	for _, d := range g.list {
		app := application(d)
		if app == nil {
			continue
		}
		if a := app.AttrNS(androidNS, name); a != nil {
			return d, a
		}
		if removes(app, name) {
			break
		}
	}
	return manifest{}, nil
}

func (g *merged) applicationClass() Fact {
	if d, a := g.applicationAttr("name"); a != nil {
		return g.classFact(d, a)
	}
	return Fact{}
}

// launcher finds the activity that the home screen starts. An alias leads to the activity it stands for.
func (g *merged) launcher() Fact {
	var found []Fact
	g.each(application, []string{"activity", "activity-alias"}, g.class, func(d manifest, e *xml.Element) {
		if !launches(e) {
			return
		}
		if a := e.AttrNS(androidNS, "enabled"); a != nil && a.Value == "false" {
			return
		}
		a := e.AttrNS(androidNS, "name")
		via := ""
		if e.Name == "activity-alias" {
			if a != nil {
				via = "the alias " + g.classFact(d, a).Say()
			}
			a = e.AttrNS(androidNS, "targetActivity")
		}
		if a == nil {
			return
		}
		f := g.classFact(d, a)
		if via != "" {
			f = f.Through(via)
		}
		if !slices.ContainsFunc(found, func(x Fact) bool { return x.String() == f.String() }) {
			found = append(found, f)
		}
	})
	if len(found) == 0 {
		return Fact{}
	}
	out := found[0]
	for _, f := range found[1:] {
		out.Via = append(out.Via, fmt.Sprintf("another launcher entry: %s at %s", f.Say(), f.Place()))
	}
	return out
}

func launches(act *xml.Element) bool {
	for _, f := range act.Children {
		if f.Name != "intent-filter" || node(f) == "remove" {
			continue
		}
		main, home := false, false
		for _, c := range f.Children {
			if a := c.AttrNS(androidNS, "name"); a != nil {
				main = main || c.Name == "action" && a.Value == "android.intent.action.MAIN"
				home = home || c.Name == "category" && (a.Value == "android.intent.category.LAUNCHER" || a.Value == "android.intent.category.LEANBACK_LAUNCHER")
			}
		}
		if main && home {
			return true
		}
	}
	return false
}

// label gives the app's name as users see it, following string resources.
func (g *merged) label() Fact {
	d, a := g.applicationAttr("label")
	if a == nil {
		return Fact{}
	}
	return g.resolved(g.attr(d, a))
}

// resolved follows a text that refers to a string resource.
func (g *merged) resolved(f Fact) Fact {
	for range 6 {
		name, ok := strings.CutPrefix(f.String(), "@string/")
		if !ok {
			return f
		}
		i := slices.IndexFunc(g.v.Strings, func(e Entry) bool { return e.Name == name })
		if i < 0 {
			return fact.Open(fmt.Sprintf("`%s` is not among the string resources of the tree", f.String()), f.File, f.Line, f.Column)
		}
		next := g.v.Strings[i].Fact
		next.Via = append([]string{fmt.Sprintf("`%s` at %s", f.String(), f.Place())}, next.Via...)
		f = next
	}
	return f
}

func (g *merged) permissions() []Fact {
	var out []Fact
	g.each(top, []string{"uses-permission", "uses-permission-sdk-23"}, g.byName, func(d manifest, e *xml.Element) {
		a := e.AttrNS(androidNS, "name")
		if a == nil {
			return
		}
		f := g.attr(d, a)
		if slices.ContainsFunc(out, func(x Fact) bool { return x.String() == f.String() }) {
			return
		}
		if m := e.AttrNS(androidNS, "maxSdkVersion"); m != nil {
			f.Via = append(f.Via, "up to SDK "+m.Value)
		}
		out = append(out, f)
	})
	return out
}

func (g *merged) metadata() []Entry {
	var out []Entry
	g.each(application, []string{"meta-data"}, g.byName, func(d manifest, e *xml.Element) {
		n := e.AttrNS(androidNS, "name")
		if n == nil {
			return
		}
		name := g.attr(d, n).String()
		if slices.ContainsFunc(out, func(x Entry) bool { return x.Name == name }) {
			return
		}
		var f Fact
		if a := e.AttrNS(androidNS, "value"); a != nil {
			f = g.resolved(g.attr(d, a))
			if !strings.HasPrefix(a.Value, "@") && longNumber(a.Value) {
				f.Via = append(f.Via, "written inline: the platform reads it as a number and may lose digits")
			}
		} else if a := e.AttrNS(androidNS, "resource"); a != nil {
			f = g.attr(d, a)
			f.Via = append(f.Via, "android:resource gives the resource's ID, not its text")
		}
		out = append(out, Entry{name, f})
	})
	return out
}

func longNumber(s string) bool {
	if len(s) < 8 {
		return false
	}
	return strings.Trim(s, "0123456789") == ""
}

func (g *merged) activities() (out []Activity, schemes, links []Fact) {
	add := func(list []Fact, f Fact) []Fact {
		if slices.ContainsFunc(list, func(x Fact) bool { return x.Say() == f.Say() }) {
			return list
		}
		return append(list, f)
	}
	g.each(application, []string{"activity"}, g.class, func(d manifest, e *xml.Element) {
		a := e.AttrNS(androidNS, "name")
		if a == nil {
			return
		}
		act := Activity{Class: g.classFact(d, a)}
		at := slices.IndexFunc(out, func(x Activity) bool { return x.Class.String() == act.Class.String() })
		if at >= 0 {
			act = out[at]
		}
		if x := e.AttrNS(androidNS, "exported"); x != nil && !act.Exported.Set() {
			act.Exported = g.attr(d, x)
		}
		for _, f := range e.Children {
			if f.Name != "intent-filter" || node(f) == "remove" {
				continue
			}
			var here, hosts []Fact
			for _, c := range f.Children {
				if c.Name != "data" {
					continue
				}
				if x := c.AttrNS(androidNS, "scheme"); x != nil {
					here = append(here, g.resolved(g.attr(d, x)))
				}
				if x := c.AttrNS(androidNS, "host"); x != nil {
					hosts = append(hosts, g.resolved(g.attr(d, x)))
				}
			}
			for _, x := range here {
				if x.String() == "https" || x.String() == "http" {
					for _, h := range hosts {
						links = add(links, h)
					}
					continue
				}
				schemes, act.URLSchemes = add(schemes, x), add(act.URLSchemes, x)
			}
		}
		if at >= 0 {
			out[at] = act
		} else {
			out = append(out, act)
		}
	})
	return out, schemes, links
}

func (g *merged) queries() []Fact {
	var out []Fact
	g.each(top, []string{"queries"}, func(d manifest, e *xml.Element) string { return fmt.Sprint(d.name, e.Node.Start) }, func(d manifest, e *xml.Element) {
		for _, q := range e.Children {
			switch q.Name {
			case "package":
				if a := q.AttrNS(androidNS, "name"); a != nil {
					out = append(out, g.attr(d, a))
				}
			case "provider":
				if a := q.AttrNS(androidNS, "authorities"); a != nil {
					out = append(out, g.attr(d, a))
				}
			case "intent":
				for _, c := range q.Children {
					for _, n := range []string{"name", "scheme"} {
						if a := c.AttrNS(androidNS, n); a != nil && c.Name != "category" {
							out = append(out, g.attr(d, a))
						}
					}
				}
			}
		}
	})
	return out
}

// strings collects the string resources in force: generated ones, then by source set, highest first.
func (g *merged) strings() []Entry {
	var out []Entry
	add := func(name string, f Fact) {
		if !slices.ContainsFunc(out, func(e Entry) bool { return e.Name == name }) {
			out = append(out, Entry{name, f})
		}
	}
	owners := g.s.owners(g.v)
	for i := len(owners) - 1; i >= 0; i-- {
		for _, st := range g.s.model.At(append(append([]string(nil), owners[i]...), "resValue")...) {
			if len(st.Args) != 3 || st.Holds() == "false" {
				continue
			}
			if kind, name := st.Resolve(st.Args[0]), st.Resolve(st.Args[1]); kind.String() == "string" && name.Known() {
				add(name.String(), st.Resolve(st.Args[2]))
			}
		}
	}
	for _, set := range g.v.SourceSets {
		for _, res := range g.s.m.ResDirs(set) {
			for _, n := range g.s.t.Dir(path.Join(res, "values")) {
				if path.Ext(n) == ".xml" { // one that cannot be read is said; Strings passes it over
					readXML(g.s.t, path.Join(res, "values", n), "resources", g.s.r)
				}
			}
		}
		for _, x := range g.s.m.Strings(g.s.t, set) {
			add(x.Name, fact.Of(Unescape(x.Text), x.File, x.Line, x.Column))
		}
	}
	return out
}

// StringResource is one string of a source set's resources.
type StringResource struct {
	Name, Text   string // the text as written, white space and escapes included
	File         string
	Line, Column int // of the text
	Start        int // offset of the element
}

// Strings gives the string resources of a source set's default locale, in file order.
func (m *Module) Strings(t *tree.Tree, set string) []StringResource {
	var out []StringResource
	for _, res := range m.ResDirs(set) {
		dir := path.Join(res, "values")
		for _, n := range t.Dir(dir) {
			if path.Ext(n) != ".xml" {
				continue
			}
			name := path.Join(dir, n)
			src, err := t.Read(name)
			if err != nil {
				continue
			}
			d := xml.Parse(src)
			if d.Top == nil || d.Top.Name != "resources" {
				continue
			}
			for _, e := range d.Top.Children {
				a := e.Attr("name")
				if a == nil || e.Name != "string" && (e.Name != "item" || e.Attr("type") == nil || e.Attr("type").Value != "string") {
					continue
				}
				l, c := d.At(e.OpenEnd)
				out = append(out, StringResource{Name: a.Value, Text: d.Text(e), File: name, Line: l, Column: c, Start: e.Node.Start})
			}
		}
	}
	return out
}

// Unescape gives the text of a string resource as the app sees it: white space collapses, quotes keep it, backslash
// escapes are decoded (Android developer documentation, "String resources: Formatting and styling").
func Unescape(s string) string {
	var b strings.Builder
	quoted, blank := false, false
	r := []rune(strings.TrimSpace(s))
	for i := 0; i < len(r); i++ {
		switch c := r[i]; {
		case c == '\\' && i+1 < len(r):
			i++
			if blank && b.Len() > 0 {
				b.WriteByte(' ')
			}
			blank = false
			switch r[i] {
			case 'n':
				b.WriteByte('\n')
			case 't':
				b.WriteByte('\t')
			case 'u':
				n := 0
				if i+4 < len(r) {
					if _, err := fmt.Sscanf(string(r[i+1:i+5]), "%04x", &n); err == nil {
						b.WriteRune(rune(n))
						i += 4
						continue
					}
				}
				b.WriteRune('u')
			default:
				b.WriteRune(r[i])
			}
		case c == '"':
			quoted = !quoted
		case !quoted && (c == ' ' || c == '\n' || c == '\r' || c == '\t'):
			blank = true
		default:
			if blank && b.Len() > 0 {
				b.WriteByte(' ')
			}
			blank = false
			b.WriteRune(c)
		}
	}
	return b.String()
}
