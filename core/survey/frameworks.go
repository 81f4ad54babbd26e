package survey

import (
	"errors"
	"path"
	"slices"
	"sort"
	"strconv"
	"strings"

	"ligare/core/survey/fact"
	"ligare/core/syntax/json"
	"ligare/core/syntax/lex"
	"ligare/core/syntax/source"
	"ligare/core/syntax/yaml"
	"ligare/core/tree"
)

// readFrameworks finds the cross-platform frameworks that lie over the native projects, and the layouts that have none.
func readFrameworks(t *tree.Tree, f *found, o Options, r *Report) {
	for _, name := range f.pubspecs {
		if x := readFlutter(t, name, r); x != nil {
			r.Frameworks = append(r.Frameworks, x)
		}
	}
	for _, name := range f.packages {
		if x := readPackage(t, name, o, r); x != nil {
			r.Frameworks = append(r.Frameworks, x)
		}
	}
	for _, name := range f.csproj {
		readDotnet(t, name, f, r)
	}
	for _, name := range f.engines {
		readEngine(t, name, r)
	}
}

// readYAML opens a YAML file and gives its documents; one that cannot be read is listed.
func readYAML(t *tree.Tree, name, what string, r *Report) []*yaml.Value {
	src, err := t.Read(name)
	if err == nil {
		var docs []*yaml.Value
		if docs, err = yaml.Parse(src); err == nil {
			return docs
		}
	}
	r.broken(what+" "+name, err.Error(), name, 0)
	return nil
}

func ofYAML(v *yaml.Value, name string) Fact {
	if v == nil || !v.Scalar || v.Text == "" {
		return Fact{}
	}
	return fact.Of(v.Text, name, v.Line, v.Column)
}

// readFlutter reads a package list that makes an app; libraries and plugins have no platform folders of their own.
func readFlutter(t *tree.Tree, name string, r *Report) *Framework {
	docs := readYAML(t, name, "package list", r)
	if len(docs) == 0 {
		return nil
	}
	d, dir := docs[0], path.Dir(name)
	if sdk := d.Get("dependencies", "flutter", "sdk"); sdk == nil || d.Get("flutter", "plugin") != nil {
		return nil
	}
	if len(t.Dir(path.Join(dir, "android"))) == 0 && len(t.Dir(path.Join(dir, "ios"))) == 0 {
		return nil
	}
	x := &Framework{Name: "flutter", Dir: dir, Linking: "by the framework, from version 1.12 on: packages register themselves at build"}
	x.Version = ofYAML(d.Get("environment", "flutter"), name)
	for _, k := range []string{"name", "version", "description"} {
		if f := ofYAML(d.Get(k), name); f.Set() {
			x.Facts = append(x.Facts, Entry{k, f})
		}
	}
	native := flutterPlugins(t, dir, r)
	deps := d.Get("dependencies")
	for i, k := range deps.Keys {
		if k == "flutter" || k == "flutter_localizations" || k == "cupertino_icons" {
			continue
		}
		l := Linked{Name: k, Version: ofYAML(deps.Items[i], name)}
		if !l.Version.Set() && !deps.Items[i].Scalar {
			l.Version = fact.Of("from "+strings.Join(deps.Items[i].Keys, ", "), name, deps.Items[i].Line, deps.Items[i].Column)
		}
		l.Android, l.IOS = native.link(k, "android"), native.link(k, "ios")
		byHand(r, dir, k, func(string) bool { return true }, &l)
		x.Packages = append(x.Packages, l)
	}
	x.Entry = scriptEntry(t, path.Join(dir, "lib/main.dart"), "main", r)
	underFramework(r, x)
	return x
}

// plugins says which packages have native halves, as the framework itself listed them; nil: the list is not there.
type plugins map[string]map[string]bool

func flutterPlugins(t *tree.Tree, dir string, r *Report) plugins {
	at := path.Join(dir, ".flutter-plugins-dependencies")
	src, err := t.Read(at)
	if err != nil {
		return nil
	}
	f, err := json.Parse(src)
	if err != nil {
		r.broken("plugin list "+at, err.Error(), at, 0)
		return nil
	}
	out := plugins{}
	for _, platform := range []string{"android", "ios"} {
		for _, v := range f.At("/plugins/" + platform + "/*/name") {
			if out[v.Text] == nil {
				out[v.Text] = map[string]bool{}
			}
			out[v.Text][platform] = true
		}
	}
	return out
}

func (p plugins) link(name, platform string) Link {
	switch {
	case p == nil:
		return Link{How: "unknown", Why: "whether the package has a native half is known once packages are installed"}
	case p[name][platform]:
		return Link{How: "framework"}
	}
	return Link{How: "none", Why: "no native half for this platform"}
}

// readPackage reads a package.json: React Native, a web wrapper, or a web tree behind a hosted builder. A web app by
// itself is no mobile app.
func readPackage(t *tree.Tree, name string, o Options, r *Report) *Framework {
	src, err := t.Read(name)
	if err != nil {
		r.broken("package list "+name, err.Error(), name, 0)
		return nil
	}
	f, err := json.Parse(src)
	if err != nil {
		line := 0
		var at *json.Error
		if errors.As(err, &at) {
			line = at.Line
		}
		r.broken("package list "+name, err.Error(), name, line)
		return nil
	}
	p := &packageList{t: t, r: r, name: name, dir: path.Dir(name), f: f, modules: map[string]*bool{}}
	switch {
	case p.version("react-native").Set():
		return p.reactNative()
	case p.wrapperConfig() != "":
		return p.wrapper()
	}
	for _, b := range o.Bridges {
		if p.version(b).Set() {
			x := &Framework{Name: "hosted-web", Dir: p.dir, Version: p.version(b), Linking: "by the hosted builder: the tree has no native project"}
			x.Facts = append(x.Facts, Entry{"bridge package", fact.Of(b, name, x.Version.Line, x.Version.Column)})
			for _, k := range []string{"name", "version"} {
				x.Facts = append(x.Facts, p.entry(k)...)
			}
			return x
		}
	}
	return nil
}

type packageList struct {
	t    *tree.Tree
	r    *Report
	name string
	dir  string
	f    *json.File

	modules map[string]*bool // folders of installed packages, and whether they are there
}

func (p *packageList) of(v *json.Value) Fact {
	l, c := p.f.Position(v)
	return fact.Of(v.Text, p.name, l, c)
}

func (p *packageList) entry(key string) []Entry {
	for _, v := range p.f.At("/" + key) {
		if v.Text != "" {
			return []Entry{{key, p.of(v)}}
		}
	}
	return nil
}

// version gives what the list asks of a package.
func (p *packageList) version(pkg string) Fact {
	for _, in := range []string{"dependencies", "devDependencies"} {
		for _, v := range p.f.At("/" + in + "/" + strings.NewReplacer("~", "~0", "/", "~1").Replace(pkg)) {
			return p.of(v)
		}
	}
	return Fact{}
}

// dependencies lists the packages the app is built with.
func (p *packageList) dependencies() []Entry {
	var out []Entry
	for _, v := range p.f.At("/dependencies") {
		for _, m := range v.Members {
			out = append(out, Entry{m.Name, p.of(m.Value)})
		}
	}
	return out
}

// installed gives the folder of an installed package, also where a workspace keeps it further up.
func (p *packageList) installed(pkg string) (string, bool) {
	any := false
	for dir := p.dir; ; dir = path.Dir(dir) {
		at := path.Join(dir, "node_modules")
		if p.modules[at] == nil {
			is := p.t.IsDir(at)
			p.modules[at] = &is
		}
		if *p.modules[at] {
			any = true
			if p.t.Has(path.Join(at, pkg, "package.json")) {
				return path.Join(at, pkg), true
			}
		}
		if dir == "." {
			return "", any
		}
	}
}

// atLeast reports whether a requirement like ^0.72.3 is of this version or a later one; ok is false for one that is no number.
func atLeast(requirement string, major, minor int) (is, ok bool) {
	parts := strings.Split(strings.TrimLeft(requirement, "^~>=v "), ".")
	if len(parts) < 2 {
		return false, false
	}
	a, err1 := strconv.Atoi(parts[0])
	b, err2 := strconv.Atoi(parts[1])
	if err1 != nil || err2 != nil {
		return false, false
	}
	return a > major || a == major && b >= minor, true
}

func (p *packageList) reactNative() *Framework {
	if len(p.t.Dir(path.Join(p.dir, "android"))) == 0 && len(p.t.Dir(path.Join(p.dir, "ios"))) == 0 {
		return nil // a library
	}
	x := &Framework{Name: "react-native", Dir: p.dir, Version: p.version("react-native"), Linking: "by the framework, from version 0.60 on; by hand before"}
	auto, sure := atLeast(x.Version.String(), 0, 60)
	x.Facts = append(x.Facts, p.entry("name")...)
	app := path.Join(p.dir, "app.json")
	if src, err := p.t.Read(app); err == nil {
		if f, err := json.Parse(src); err != nil {
			p.r.broken("app list "+app, err.Error(), app, 0)
		} else {
			for _, k := range []string{"name", "displayName"} {
				for _, v := range f.At("/" + k) {
					l, c := f.Position(v)
					x.Facts = append(x.Facts, Entry{k + " of app.json", fact.Of(v.Text, app, l, c)})
				}
			}
		}
	}
	off := p.switchedOff()
	for _, d := range p.dependencies() {
		if d.Name == "react" || d.Name == "react-native" {
			continue
		}
		l := Linked{Name: d.Name, Version: d.Fact}
		for platform, to := range map[string]*Link{"android": &l.Android, "ios": &l.IOS} {
			*to = p.native(d.Name, platform)
			switch {
			case to.How != "framework":
			case !sure:
				*to = Link{How: "unknown", Why: "the framework's version " + x.Version.String() + " is no number"}
			case !auto:
				*to = Link{How: "unlinked", Why: "the framework links by itself only from version 0.60 on"}
			case off[d.Name+" "+platform]:
				*to = Link{How: "unlinked", Why: "react-native.config.js switches the framework's linking off for this platform"}
			}
		}
		byHand(p.r, p.dir, d.Name, func(platform string) bool { return sure && auto && !off[d.Name+" "+platform] }, &l)
		x.Packages = append(x.Packages, l)
	}
	for _, n := range []string{"index.js", "index.ts", "index.tsx", "App.tsx", "App.jsx", "App.js"} {
		x.Entry = append(x.Entry, scriptEntry(p.t, path.Join(p.dir, n), "", p.r)...)
	}
	if late, ok := atLeast(x.Version.String(), 0, 82); ok && late {
		addDebugOptimized(p.r, p.dir)
	}
	underFramework(p.r, x)
	return x
}

// native tells whether an installed package has a native half.
func (p *packageList) native(pkg, platform string) Link {
	at, installed := p.installed(pkg)
	if at == "" {
		if installed {
			return Link{How: "unknown", Why: "the package is not installed"}
		}
		return Link{How: "unknown", Why: "whether the package has a native half is known once packages are installed"}
	}
	if platform == "android" {
		if p.t.Has(path.Join(at, "android/build.gradle")) || p.t.Has(path.Join(at, "android/build.gradle.kts")) {
			return Link{How: "framework"}
		}
	} else {
		for _, n := range p.t.Dir(at) {
			if strings.HasSuffix(n, ".podspec") {
				return Link{How: "framework"}
			}
		}
	}
	return Link{How: "none", Why: "no native half for this platform"}
}

// switchedOff reads react-native.config.js: dependencies: { 'x': { platforms: { android: null } } }.
func (p *packageList) switchedOff() map[string]bool {
	out := map[string]bool{}
	name := path.Join(p.dir, "react-native.config.js")
	src, err := p.t.Read(name)
	if err != nil {
		if !missing(err) {
			p.r.broken("settings "+name, err.Error(), name, 0)
		}
		return out
	}
	var walk func(n *lex.Node, keys []string)
	walk = func(n *lex.Node, keys []string) {
		kids := lex.Solid(n.Kids)
		for i, k := range kids {
			if i >= 2 && kids[i-1].Is(src, lex.Punct, ":") {
				key := kids[i-2].Of(src)
				if text, ok := lex.Literal(src, kids[i-2]); ok {
					key = text
				}
				here := append(append([]string(nil), keys...), key)
				if n := len(here); k.Is(src, lex.Word, "null") && n >= 3 && here[n-2] == "platforms" {
					out[here[n-3]+" "+here[n-1]] = true
				}
				walk(k, here)
			} else if !k.Leaf() {
				walk(k, keys)
			}
		}
	}
	walk(lex.Parse(lex.JavaScript, src).Root, nil)
	return out
}

// addDebugOptimized adds the build type that the framework's Gradle plugin defines from version 0.82 on.
func addDebugOptimized(r *Report, dir string) {
	for _, m := range r.Android.Modules {
		if !strings.HasPrefix(m.Dir+"/", strings.TrimPrefix(path.Join(dir, "android"), "./")+"/") || m.model == nil {
			continue
		}
		var more []*AndroidVariant
		for _, v := range m.Variants {
			if v.BuildType != "debug" {
				continue
			}
			c := *v
			c.BuildType, c.Name = "debugOptimized", variantName(v.Flavors, "debugOptimized")
			c.SourceSets = sourceSets(v.Flavors, c.BuildType, c.Name)
			more = append(more, &c)
		}
		if !slices.ContainsFunc(m.Variants, func(v *AndroidVariant) bool { return v.BuildType == "debugOptimized" }) {
			m.Variants = append(m.Variants, more...)
		}
	}
}

// wrapperConfig gives the wrapper's settings file: one that names an app ID and the folder of the web app.
func (p *packageList) wrapperConfig() string {
	for _, n := range p.t.Dir(p.dir) {
		if strings.HasSuffix(n, ".config.json") || strings.HasSuffix(n, ".config.ts") || strings.HasSuffix(n, ".config.js") {
			if id, dir := p.wrapperValue(n, "appId"), p.wrapperValue(n, "webDir"); id.Set() && dir.Set() {
				return n
			}
		}
	}
	return ""
}

// wrapperValue reads a key of the settings file: JSON, or the object of a script.
func (p *packageList) wrapperValue(file, key string) Fact {
	name := path.Join(p.dir, file)
	src, err := p.t.Read(name)
	if err != nil {
		return Fact{}
	}
	if path.Ext(file) == ".json" {
		f, err := json.Parse(src)
		if err != nil {
			p.r.broken("settings "+name, err.Error(), name, 0)
			return Fact{}
		}
		for _, v := range f.At("/" + key) {
			l, c := f.Position(v)
			return fact.Of(v.Text, name, l, c)
		}
		return Fact{}
	}
	var out Fact
	lex.Parse(lex.JavaScript, src).Root.Walk(func(n *lex.Node) bool {
		kids := lex.Solid(n.Kids)
		for i := 0; i+2 < len(kids); i++ {
			text, quoted := lex.Literal(src, kids[i])
			if (kids[i].Is(src, lex.Word, key) || quoted && text == key) && kids[i+1].Is(src, lex.Punct, ":") && !out.Set() {
				l, c := lex.Position(src, kids[i+2].Start)
				if v, ok := lex.Literal(src, kids[i+2]); ok {
					out = fact.Of(v, name, l, c)
				} else {
					out = fact.Open("`"+kids[i+2].Of(src)+"`", name, l, c)
				}
			}
		}
		return true
	})
	return out
}

func (p *packageList) wrapper() *Framework {
	if len(p.t.Dir(path.Join(p.dir, "android"))) == 0 && len(p.t.Dir(path.Join(p.dir, "ios"))) == 0 {
		return nil
	}
	file := p.wrapperConfig()
	x := &Framework{Name: "web-wrapper", Dir: p.dir, Linking: "by the framework: its sync writes the native parts of installed packages into both projects"}
	for _, k := range []string{"appId", "appName", "webDir"} {
		if f := p.wrapperValue(file, k); f.Set() {
			x.Facts = append(x.Facts, Entry{k, f})
		}
	}
	for _, d := range p.dependencies() {
		l := Linked{Name: d.Name, Version: d.Fact, Android: p.native(d.Name, "android"), IOS: p.native(d.Name, "ios")}
		if l.Android.How == "none" && l.IOS.How == "none" {
			continue
		}
		x.Packages = append(x.Packages, l)
	}
	for _, m := range modulesIn(p.r, p.dir) {
		for _, v := range m.Variants {
			for _, e := range x.Facts {
				if e.Name == "appId" {
					v.Identifiers = append(v.Identifiers, Entry{"appId of the wrapper's settings, used when the platform was added", e.Fact})
				}
			}
		}
	}
	underFramework(p.r, x)
	return x
}

// modulesIn gives the Android modules below a folder.
func modulesIn(r *Report, dir string) []*Module {
	var out []*Module
	for _, m := range r.Android.Modules {
		if dir == "." || strings.HasPrefix(m.Dir+"/", dir+"/") {
			out = append(out, m)
		}
	}
	return out
}

// underFramework names the framework as the layout of the native projects that lie inside its folder. The innermost
// framework counts.
func underFramework(r *Report, x *Framework) {
	inside := func(dir string) bool { return x.Dir == "." || strings.HasPrefix(dir+"/", x.Dir+"/") }
	for _, m := range r.Android.Modules {
		if inside(m.Dir) && m.Framework == "" {
			m.Framework = x.Name
		}
	}
	for _, p := range r.IOS.Projects {
		if inside(p.Dir) && p.Framework == "" {
			p.Framework = x.Name
		}
	}
}

// scriptEntry reads where a framework's own language begins: the calls of a function, or of the whole file.
func scriptEntry(t *tree.Tree, name, function string, r *Report) []EntryPoint {
	src, err := t.Read(name)
	if err != nil {
		if !missing(err) {
			r.broken("source "+name, err.Error(), name, 0)
		}
		return nil
	}
	f, ok := source.Parse(name, src)
	if !ok {
		return nil
	}
	e := EntryPoint{Kind: "root", File: name, Line: 1}
	body := f.Tree.Root
	for _, fn := range f.Funcs {
		if fn.Name == function && function != "" {
			e.Kind = "main"
			e.Line, _ = lex.Position(src, fn.Start)
			body = fn.Body
		}
	}
	if function != "" {
		e.Kind = "main"
	}
	e.Calls = calls(f, name, body)
	return []EntryPoint{e}
}

// byHand finds where people link a package's native half themselves: a module included from the package's folder, a pod
// taken from there, a project referenced in there.
func byHand(r *Report, dir, pkg string, auto func(platform string) bool, l *Linked) {
	holds := func(p string) bool {
		p = "/" + strings.ReplaceAll(p, "\\", "/") + "/"
		return strings.Contains(p, "/node_modules/"+pkg+"/") || strings.Contains(p, "/.symlinks/plugins/"+pkg+"/")
	}
	var android, ios []string
	for _, m := range modulesIn(r, dir) {
		if m.build == nil {
			continue
		}
		f := m.build.File(m.build.Settings)
		if f == nil {
			continue
		}
		for _, s := range f.Settings() {
			if len(s.Path) > 0 && s.Path[len(s.Path)-1] == "projectDir" {
				for _, n := range s.Value {
					n.Walk(func(k *lex.Node) bool {
						if text, ok := lex.Literal(f.Src, k); ok && holds(text) {
							line, col := f.Position(s.Start)
							android = append(android, at("", m.build.Settings, line, col))
						}
						return true
					})
				}
			}
		}
	}
	for _, p := range r.IOS.Projects {
		if dir != "." && !strings.HasPrefix(p.Dir+"/", dir+"/") {
			continue
		}
		for _, pod := range p.Pods {
			if _, where, ok := strings.Cut(pod.String(), "path "); ok && holds(where) {
				ios = append(ios, pod.Place())
			}
		}
		for _, ref := range p.foreign {
			if holds(ref.Name) {
				ios = append(ios, ref.Place())
			}
		}
	}
	mark := func(platform string, to *Link, places []string) {
		if len(places) == 0 {
			return
		}
		sort.Strings(places)
		for i := range places {
			places[i] = strings.TrimSpace(places[i])
		}
		to.Places = slices.Compact(places)
		if to.How == "framework" || to.How == "unknown" && auto(platform) { // what is linked by hand has a native half
			to.How, to.Why = "twice", "the framework links it, and it is linked by hand"
		} else {
			to.How, to.Why = "hand", ""
		}
	}
	mark("android", &l.Android, android)
	mark("ios", &l.IOS, ios)
	for _, to := range []*Link{&l.Android, &l.IOS} {
		if to.How == "unlinked" {
			to.How = "missing"
		}
	}
}
