package survey

import (
	"fmt"
	"path"
	"sort"
	"strings"

	"ligare/core/syntax/gradle"
	"ligare/core/syntax/lex"
	"ligare/core/syntax/xml"
	"ligare/core/tree"
)

const androidNS = "http://schemas.android.com/apk/res/android"

// readModules finds the modules that build an app and reads their variants.
func readModules(t *tree.Tree, files []string, r *Report) []*Module {
	builds := map[string]*Build{}
	var out []*Module
	for _, name := range files {
		root := buildRoot(t, path.Dir(name))
		b := builds[root]
		if b == nil {
			b = openBuild(t, root, r)
			builds[root] = b
		}
		f := b.file(name)
		if f == nil || !b.app(f) {
			continue
		}
		if err := f.Err(); err != nil {
			line, _ := f.Position(f.Problems[0].Offset)
			r.broken("build file "+name, err.Error(), name, line)
		}
		m := &Module{Dir: path.Dir(name), BuildFile: name, Root: root, build: b}
		s := scope{b: b, file: name, f: f}
		m.Variants = s.variants(m, r)
		out = append(out, m)
	}
	return out
}

// buildRoot gives the nearest folder above that holds a settings file, else the folder itself.
func buildRoot(t *tree.Tree, dir string) string {
	for at := dir; ; at = path.Dir(at) {
		if t.Has(path.Join(at, "settings.gradle.kts")) || t.Has(path.Join(at, "settings.gradle")) {
			return at
		}
		if at == "." || at == "/" {
			return dir
		}
	}
}

// app reports whether a build file builds an app: it applies the platform's application plugin, or, where a plugin of
// the project's own does that, it sets the ID that only apps have.
func (b *Build) app(f *gradle.File) bool {
	if len(f.At("android", "defaultConfig", "applicationId")) > 0 {
		return true
	}
	for _, p := range f.Plugins() {
		id := p.ID
		if p.Alias && b.catalog != nil {
			if e, ok := b.catalog.Accessor("plugins", p.ID, ".id"); ok {
				id = e.Value
			} else if e, ok := b.catalog.Accessor("plugins", p.ID, ""); ok {
				id, _, _ = strings.Cut(e.Value, ":")
			}
		}
		if p.Applied && id == "com.android.application" {
			return true
		}
	}
	return false
}

// setting gives a fact for the last statement at a path; statements under a condition make it one of several.
func (s scope) setting(path ...string) Fact {
	var out Fact
	for _, at := range s.f.At(path...) {
		if len(at.Arg()) == 0 {
			continue
		}
		got := s.resolve(at.Arg())
		if at.Cond == "" {
			out = got
			continue
		}
		if got.Known() {
			before := out
			out = got
			out.Value = nil
			out.Possible = []Possible{{Value: *got.Value, When: at.Cond}}
			if before.Known() {
				out.Possible = append(out.Possible, Possible{Value: *before.Value, When: "not " + at.Cond})
			}
			out.Possible = append(out.Possible, before.Possible...)
		}
	}
	return out
}

func (s scope) first(paths ...[]string) Fact {
	for _, p := range paths {
		if f := s.setting(p...); f.Known() || f.Unresolved != "" || len(f.Possible) > 0 {
			return f
		}
	}
	return Fact{}
}

// named gives the names of the blocks inside android.<container>.
func (s scope) named(container string, known ...string) []string {
	out := append([]string(nil), known...)
	for _, at := range s.f.Settings() {
		if len(at.Path) == 3 && at.Path[0] == "android" && at.Path[1] == container && at.Block != nil {
			name := at.Path[2]
			if name == "all" || name == "configureEach" {
				continue
			}
			found := false
			for _, had := range out {
				found = found || had == name
			}
			if !found {
				out = append(out, name)
			}
		}
	}
	return out
}

// flavors gives the combinations of product flavors, one of each dimension, in dimension order.
func (s scope) flavors() [][]string {
	names := s.named("productFlavors")
	if len(names) == 0 {
		return [][]string{nil}
	}
	var order []string
	for _, p := range []string{"flavorDimensions"} {
		for _, at := range s.f.At("android", p) {
			for _, arg := range append(append([]gradle.Expr{}, at.Args...), at.Value) {
				for _, n := range arg {
					n.Walk(func(k *lex.Node) bool {
						if text, ok := lex.Literal(s.f.Src, k); ok {
							order = append(order, text)
						}
						return true
					})
				}
			}
		}
	}
	by := map[string][]string{}
	for _, n := range names {
		d := s.setting("android", "productFlavors", n, "dimension").String()
		if d == "" && len(order) > 0 {
			d = order[0]
		}
		by[d] = append(by[d], n)
	}
	if len(order) == 0 {
		for d := range by {
			order = append(order, d)
		}
		sort.Strings(order)
	}
	combos := [][]string{nil}
	for _, d := range order {
		var next [][]string
		for _, c := range combos {
			for _, n := range by[d] {
				next = append(next, append(append([]string(nil), c...), n))
			}
		}
		if len(next) > 0 {
			combos = next
		}
	}
	return combos
}

func (s scope) variants(m *Module, r *Report) []*AndroidVariant {
	var out []*AndroidVariant
	for _, fl := range s.flavors() {
		for _, bt := range s.named("buildTypes", "debug", "release") {
			v := &AndroidVariant{BuildType: bt, Flavors: fl, Name: variantName(fl, bt)}
			v.SourceSets = sourceSets(fl, bt, v.Name)
			s.fill(m, v, r)
			out = append(out, v)
		}
	}
	return out
}

func variantName(flavors []string, buildType string) string {
	name := ""
	for _, p := range append(append([]string(nil), flavors...), buildType) {
		if name == "" {
			name = p
		} else {
			name += strings.ToUpper(p[:1]) + p[1:]
		}
	}
	return name
}

// sourceSets lists a variant's source sets, highest priority first: variant, build type, flavor combination, flavors, main.
func sourceSets(flavors []string, buildType, variant string) []string {
	var out []string
	if len(flavors) > 0 {
		out = append(out, variant)
	}
	out = append(out, buildType)
	if len(flavors) > 1 {
		out = append(out, variantName(flavors[:len(flavors)-1], flavors[len(flavors)-1]))
	}
	return append(append(out, flavors...), "main")
}

func (s scope) fill(m *Module, v *AndroidVariant, r *Report) {
	ns := s.first([]string{"android", "namespace"})
	manifests := m.manifests(s.b.tree, v, r)
	if !ns.Known() && ns.Unresolved == "" {
		for _, d := range manifests {
			if a := d.doc.Top.Attr("package"); a != nil {
				l, c := d.doc.At(a.ValueStart)
				ns = known(a.Value, d.name, l, c, "manifest package")
			}
		}
	}
	v.Namespace = ns
	var at [][]string
	for _, f := range v.Flavors {
		at = append(at, []string{"android", "productFlavors", f, "applicationId"})
	}
	id := s.first(append(at, []string{"android", "defaultConfig", "applicationId"})...)
	if !id.Known() && id.Unresolved == "" && len(id.Possible) == 0 {
		id = ns.through("no applicationId is set: the namespace is the ID")
	}
	for _, f := range v.Flavors {
		id = s.suffix(id, "android", "productFlavors", f, "applicationIdSuffix")
	}
	v.ApplicationID = s.suffix(id, s.inherit(v.BuildType, "applicationIdSuffix")...)
	two := func(a, b string) Fact {
		var paths [][]string
		for _, f := range v.Flavors {
			paths = append(paths, []string{"android", "productFlavors", f, a}, []string{"android", "productFlavors", f, b})
		}
		return s.first(append(paths, []string{"android", "defaultConfig", a}, []string{"android", "defaultConfig", b})...)
	}
	v.MinSDK, v.TargetSDK = two("minSdk", "minSdkVersion"), two("targetSdk", "targetSdkVersion")
	v.LauncherActivity, v.ApplicationClass = launcher(manifests, ns), application(manifests, ns)
	v.DisplayName = m.label(s.b.tree, manifests, v)
	s.signing(m, v)
}

// inherit gives the path of a build type's setting, or that of the type it was made from by initWith.
func (s scope) inherit(buildType, key string) []string {
	for range 5 {
		p := []string{"android", "buildTypes", buildType, key}
		if f := s.setting(p...); f.Known() || f.Unresolved != "" {
			return p
		}
		with := s.f.At("android", "buildTypes", buildType, "initWith")
		if len(with) == 0 || len(with[0].Args) == 0 {
			return p
		}
		if name := reference(s.f, with[0].Args[0]); name != "" {
			buildType = name
		} else {
			return p
		}
	}
	return nil
}

// reference reads buildTypes.release, getByName("release"), signingConfigs["x"] or signingConfigs.getByName("x").
func reference(f *gradle.File, e gradle.Expr) string {
	if len(e) == 0 {
		return ""
	}
	if last := e[len(e)-1]; last.Kind == lex.Group {
		if in := lex.Solid(last.Inner()); len(in) == 1 {
			text, _ := lex.Literal(f.Src, in[0])
			return text
		}
		return ""
	}
	d := f.Dotted(e)
	return d[strings.LastIndexByte(d, '.')+1:]
}

func (s scope) suffix(id Fact, at ...string) Fact {
	if len(at) == 0 {
		return id
	}
	x := s.setting(at...)
	switch {
	case x.Unresolved != "":
		x.Unresolved = "the suffix " + x.Unresolved
		return x
	case !x.Known() || *x.Value == "":
		return id
	}
	add := *x.Value
	if !strings.HasPrefix(add, ".") {
		add = "." + add
	}
	out := id.with(func(v string) string { return v + add })
	out.Via = append(append([]string(nil), id.Via...), fmt.Sprintf("suffix %q at %s", add, x.Place()))
	return out
}

type manifest struct {
	name string
	doc  *xml.Doc
}

// manifests gives the manifests that merge into a variant, highest priority first.
func (m *Module) manifests(t *tree.Tree, v *AndroidVariant, r *Report) []manifest {
	var out []manifest
	for _, set := range v.SourceSets {
		name := path.Join(m.Dir, "src", set, "AndroidManifest.xml")
		src, err := t.Read(name)
		if err != nil {
			continue
		}
		d := xml.Parse(src)
		if err := d.Err(); err != nil {
			line := 0
			if place, ok := err.(*xml.Error); ok {
				line = place.Line
			}
			r.broken("manifest "+name, err.Error(), name, line)
		}
		if d.Top != nil {
			out = append(out, manifest{name, d})
		}
	}
	return out
}

// className resolves a class name against the namespace.
func className(name string, ns Fact) (string, string) {
	switch {
	case strings.HasPrefix(name, "."):
		return ns.String() + name, "relative to the namespace"
	case !strings.Contains(name, "."):
		return ns.String() + "." + name, "relative to the namespace"
	}
	return name, ""
}

func classFact(d manifest, a *xml.Attribute, ns Fact) Fact {
	l, c := d.doc.At(a.ValueStart)
	full, via := className(a.Value, ns)
	if via == "" {
		return known(full, d.name, l, c)
	}
	if !ns.Known() {
		return unresolved(fmt.Sprintf("`%s` is relative to a namespace that is not known", a.Value), d.name, l, c)
	}
	return known(full, d.name, l, c, fmt.Sprintf("`%s`, relative to the namespace at %s", a.Value, ns.Place()))
}

func launcher(ms []manifest, ns Fact) Fact {
	for _, d := range ms {
		app := d.doc.Top.Child("application")
		if app == nil {
			continue
		}
		for _, act := range app.Children {
			if act.Name != "activity" && act.Name != "activity-alias" || !launches(act) {
				continue
			}
			key := "name"
			if act.Name == "activity-alias" {
				key = "targetActivity"
			}
			if a := act.AttrNS(androidNS, key); a != nil {
				return classFact(d, a, ns)
			}
		}
	}
	return Fact{}
}

func launches(act *xml.Element) bool {
	for _, f := range act.Children {
		if f.Name != "intent-filter" {
			continue
		}
		main, home := false, false
		for _, c := range f.Children {
			if a := c.AttrNS(androidNS, "name"); a != nil {
				main = main || c.Name == "action" && a.Value == "android.intent.action.MAIN"
				home = home || c.Name == "category" && a.Value == "android.intent.category.LAUNCHER"
			}
		}
		if main && home {
			return true
		}
	}
	return false
}

func application(ms []manifest, ns Fact) Fact {
	for _, d := range ms {
		if app := d.doc.Top.Child("application"); app != nil {
			if a := app.AttrNS(androidNS, "name"); a != nil {
				return classFact(d, a, ns)
			}
		}
	}
	return Fact{}
}

// label gives the app's name as users see it, following a string resource.
func (m *Module) label(t *tree.Tree, ms []manifest, v *AndroidVariant) Fact {
	for _, d := range ms {
		app := d.doc.Top.Child("application")
		if app == nil {
			continue
		}
		a := app.AttrNS(androidNS, "label")
		if a == nil {
			continue
		}
		l, c := d.doc.At(a.ValueStart)
		name, ok := strings.CutPrefix(a.Value, "@string/")
		if !ok {
			return known(a.Value, d.name, l, c)
		}
		for _, set := range v.SourceSets {
			for _, s := range m.Strings(t, set) {
				if s.Name == name {
					return known(strings.TrimSpace(s.Text), s.File, s.Line, s.Column, fmt.Sprintf("`%s` at %s:%d:%d", a.Value, d.name, l, c))
				}
			}
		}
		return unresolved(fmt.Sprintf("`%s` is not among the string resources", a.Value), d.name, l, c)
	}
	return Fact{}
}

// StringResource is one string of a source set's resources.
type StringResource struct {
	Name, Text   string // the text as written, white space included
	File         string
	Line, Column int // of the text
	Start        int // offset of the element
}

// Strings gives the string resources of a source set's default locale, in file order.
func (m *Module) Strings(t *tree.Tree, set string) []StringResource {
	dir := path.Join(m.Dir, "src", set, "res/values")
	var out []StringResource
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
	return out
}

// signing finds the keystore a variant signs with.
func (s scope) signing(m *Module, v *AndroidVariant) {
	name := ""
	for _, at := range s.f.At("android", "buildTypes", v.BuildType, "signingConfig") {
		name = reference(s.f, at.Arg())
	}
	if name == "" && v.BuildType != "debug" {
		for _, fl := range v.Flavors {
			for _, at := range s.f.At("android", "productFlavors", fl, "signingConfig") {
				name = reference(s.f, at.Arg())
			}
		}
	}
	if name == "" && v.BuildType == "debug" {
		name = "debug"
	}
	if name == "" {
		return // unsigned
	}
	at := s.f.At("android", "signingConfigs", name, "storeFile")
	if len(at) == 0 {
		if name == "debug" {
			v.KeyStore = unresolved("the platform's debug keystore, outside the tree: $ANDROID_USER_HOME/debug.keystore, else $HOME/.android/debug.keystore", "", 0, 0)
			return
		}
		v.KeyStore = unresolved(fmt.Sprintf("signing configuration %q names no storeFile", name), s.file, 0, 0)
		return
	}
	e := at[len(at)-1].Arg()
	got := s.resolve(e)
	base := m.Dir
	if strings.HasPrefix(s.f.Dotted(e), "rootProject.") {
		base = s.b.Root
	}
	v.KeyStore = got.with(func(p string) string {
		if path.IsAbs(p) || strings.HasPrefix(p, "~") {
			return p
		}
		return path.Join(base, p)
	})
	v.KeyAlias = s.setting("android", "signingConfigs", name, "keyAlias")
	v.storePassword = s.setting("android", "signingConfigs", name, "storePassword")
}
