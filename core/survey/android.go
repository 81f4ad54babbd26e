package survey

import (
	"fmt"
	"io/fs"
	"path"
	"slices"
	"sort"
	"strings"

	"ligare/core/survey/fact"
	"ligare/core/survey/script"
	"ligare/core/syntax/gradle"
	"ligare/core/syntax/lex"
	"ligare/core/tree"
)

const appPlugin = "com.android.application"

// readModules finds the modules that build an app and reads their variants.
func readModules(t *tree.Tree, files []string, all []string, o Options, r *Report) []*Module {
	builds := map[string]*Build{}
	var out []*Module
	for _, name := range files {
		dir := path.Dir(name)
		root := buildRoot(t, dir)
		b := builds[root]
		if b == nil {
			var troubles []script.Trouble
			b, troubles = script.Open(t, root, all, script.Roots{Home: o.Home, Env: o.Env})
			for _, x := range troubles {
				r.broken(x.What, x.Why, x.File, 0)
			}
			builds[root] = b
		}
		f := b.File(name)
		if f == nil {
			if _, err := t.Read(name); err != nil && !missing(err) {
				r.broken("build file "+name, err.Error(), name, 0)
			}
		}
		if f == nil || strings.HasPrefix(dir, path.Join(root, "buildSrc")) {
			continue
		}
		model := b.Model(name, dir)
		hidden := !model.Applies(appPlugin) && !model.Applies("android") // the second is its first name
		if hidden && !appID(model) {
			continue
		}
		if err := f.Err(); err != nil {
			line, _ := f.Position(f.Problems[0].Offset)
			r.broken("build file "+name, err.Error(), name, line)
		}
		m := &Module{Layout: "android-gradle", Dir: dir, BuildFile: name, Root: root, build: b, model: model}
		s := &moduleReader{t: t, m: m, model: model, r: r, o: o, hidden: hidden}
		s.readSourceSets()
		s.multiplatform()
		m.Variants = s.variants()
		m.Plugins, m.Repositories, m.Dependencies = s.plugins(), s.repositories(), s.dependencies()
		out = append(out, m)
	}
	return out
}

// appID reports whether the scripts set the ID that only apps have, where a plugin that is not in the tree applies the
// platform's.
func appID(m *script.Model) bool {
	if m.Applies("com.android.library") || m.Applies("com.android.dynamic-feature") {
		return false
	}
	return len(m.At("android", "defaultConfig", "applicationId")) > 0
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

// moduleReader reads one module.
type moduleReader struct {
	t      *tree.Tree
	m      *Module
	model  *script.Model
	r      *Report
	o      Options
	hidden bool // a plugin from outside the tree builds the app, and may set anything
}

// sourceSet is where a source set keeps its files; the empty parts are the usual ones.
type sourceSet struct {
	root     string
	manifest string
	res      []string
	assets   []string
	code     []string
}

// readSourceSets follows android.sourceSets, which move manifests and resources.
func (s *moduleReader) readSourceSets() {
	s.m.sets = map[string]sourceSet{}
	for _, st := range s.model.Under("android", "sourceSets") {
		if len(st.Path) < 4 || len(st.Arg()) == 0 && len(st.Args) == 0 || st.Holds() == "false" {
			continue
		}
		name := st.Path[2]
		set := s.m.sets[name]
		paths := func() []string {
			var out []string
			for _, e := range append(append([]gradle.Expr{}, st.Args...), st.Setting.Value) {
				if len(e) == 0 {
					continue
				}
				for _, f := range st.List(e) {
					if f.Known() {
						out = append(out, s.inModule(f.String()))
					} else {
						s.r.ask("source set "+name, f.Unresolved, f.File, f.Line)
					}
				}
			}
			return out
		}
		tail := strings.Join(st.Path[3:], ".")
		switch tail {
		case "root":
			set.root = first(paths())
		case "manifest.srcFile":
			set.manifest = first(paths())
		case "res.srcDirs", "res.srcDir":
			set.res = s.added(st, set.res, path.Join(s.m.Dir, "src", name, "res"), tail == "res.srcDir", paths())
		case "assets.srcDirs", "assets.srcDir":
			set.assets = s.added(st, set.assets, path.Join(s.m.Dir, "src", name, "assets"), tail == "assets.srcDir", paths())
		case "java.srcDirs", "java.srcDir", "kotlin.srcDirs", "kotlin.srcDir":
			set.code = append(set.code, paths()...)
		}
		s.m.sets[name] = set
	}
}

// multiplatform says where a Kotlin Multiplatform module keeps its Android source sets: androidMain, androidDebug (Kotlin
// documentation, "Android source set layout", version 2).
func (s *moduleReader) multiplatform() {
	if !s.model.Applies("org.jetbrains.kotlin.multiplatform") {
		return
	}
	for _, set := range append([]string{"main"}, s.buildTypes()...) {
		root := path.Join(s.m.Dir, "src", "android"+strings.ToUpper(set[:1])+set[1:])
		if x := s.m.sets[set]; x.root == "" && x.manifest == "" && !s.t.Has(s.m.manifestOf(set)) && len(s.t.Dir(root)) > 0 {
			x.root = root
			s.m.sets[set] = x
		}
	}
}

// added puts folders beside the usual one, unless the script assigns the list.
func (s *moduleReader) added(st script.Stmt, have []string, usual string, single bool, more []string) []string {
	if st.Assign == "=" && !single {
		return more
	}
	if have == nil {
		have = []string{usual}
	}
	return append(have, more...)
}

func first(list []string) string {
	if len(list) == 0 {
		return ""
	}
	return list[0]
}

// inModule makes a path relative to the tree, unless it already is.
func (s *moduleReader) inModule(p string) string {
	if s.m.Dir != "." && strings.HasPrefix(p, s.m.Dir+"/") || path.IsAbs(p) {
		return path.Clean(p)
	}
	return path.Join(s.m.Dir, p)
}

func (m *Module) manifestOf(set string) string {
	x := m.sets[set]
	switch {
	case x.manifest != "":
		return x.manifest
	case x.root != "":
		return path.Join(x.root, "AndroidManifest.xml")
	}
	return path.Join(m.Dir, "src", set, "AndroidManifest.xml")
}

// ResDirs gives the resource folders of a source set.
func (m *Module) ResDirs(set string) []string {
	x := m.sets[set]
	switch {
	case x.res != nil:
		return x.res
	case x.root != "":
		return []string{path.Join(x.root, "res")}
	}
	return []string{path.Join(m.Dir, "src", set, "res")}
}

// CodeDirs gives the source folders of a source set.
func (m *Module) CodeDirs(set string) []string {
	x := m.sets[set]
	root := path.Join(m.Dir, "src", set)
	if x.root != "" {
		root = x.root
	}
	return append([]string{path.Join(root, "java"), path.Join(root, "kotlin")}, x.code...)
}

// unnamed are blocks of a container that stand for all of its elements, or name none.
var unnamed = map[string]bool{"all": true, "configureEach": true, "each": true, "forEach": true, "whenObjectAdded": true, "create": true, "register": true, "maybeCreate": true, "named": true, "getByName": true, "matching": true}

// named gives the names of the blocks inside android.<container>, in order.
func (s *moduleReader) named(container string, known ...string) []string {
	out := append([]string(nil), known...)
	for _, st := range s.model.Under("android", container) {
		if len(st.Path) < 3 || st.Holds() == "false" {
			continue
		}
		name := st.Path[2]
		creates := len(st.Path) == 3 && (st.Block != nil || st.Assign == "" && len(st.Args) == 1 && len(st.Head) == 1 && st.Head[0] != name)
		switch {
		case unnamed[name]:
			if creates && len(st.Args) > 0 && (name == "create" || name == "register" || name == "maybeCreate") {
				f := st.Stuck("the name is computed")
				s.r.ask(container+" of "+s.m.Dir, f.Unresolved, f.File, f.Line)
			}
			continue
		case !creates || slices.Contains(out, name):
			continue
		}
		out = append(out, name)
	}
	return out
}

// setting gives a block's setting: what the block itself says, else what all blocks of the container are told, else that
// of the block it was made from.
func (s *moduleReader) setting(container, name, key string) Fact {
	for range 6 {
		if f := s.model.Setting("android", container, name, key); f.Set() {
			return f
		}
		for _, every := range []string{"all", "configureEach", "each"} {
			if f := s.model.Setting("android", container, every, key); f.Set() {
				return f
			}
		}
		with := s.model.At("android", container, name, "initWith")
		if len(with) == 0 || len(with[0].Args) == 0 {
			return Fact{}
		}
		st := with[len(with)-1]
		if name = reference(st.Script(), st.Args[0]); name == "" {
			return st.Stuck("")
		}
	}
	return Fact{}
}

// reference reads buildTypes.release, getByName("release"), signingConfigs["x"] or signingConfigs.getByName("x").
func reference(f *gradle.File, e gradle.Expr) string {
	if len(e) == 0 {
		return ""
	}
	for i := len(e) - 1; i >= 0; i-- {
		if e[i].Kind == lex.Group && f.Src[e[i].Start] != '{' {
			if in := lex.Solid(e[i].Inner()); len(in) == 1 {
				if text, ok := lex.Literal(f.Src, in[0]); ok {
					return text
				}
			}
			return ""
		}
		if e[i].Kind == lex.Word {
			return e[i].Of(f.Src)
		}
		if text, ok := lex.Literal(f.Src, e[i]); ok {
			return text
		}
	}
	return ""
}

// dimensions gives the flavor dimensions in order.
func (s *moduleReader) dimensions() []string {
	var out []string
	add := func(st script.Stmt) {
		for _, e := range append(append([]gradle.Expr{}, st.Args...), st.Setting.Value) {
			if len(e) == 0 {
				continue
			}
			for _, f := range st.List(e) {
				if f.Known() && !slices.Contains(out, f.String()) {
					out = append(out, f.String())
				} else if f.Unresolved != "" {
					s.r.ask("flavor dimensions of "+s.m.Dir, f.Unresolved, f.File, f.Line)
				}
			}
		}
	}
	for _, st := range s.model.Under("android") {
		if len(st.Path) < 2 || st.Path[1] != "flavorDimensions" || st.Holds() == "false" {
			continue
		}
		if len(st.Path) == 2 || st.Path[2] == "add" || st.Path[2] == "addAll" {
			if st.Assign == "=" {
				out = nil
			}
			add(st)
		}
	}
	return out
}

// flavors gives the combinations of product flavors, one of each dimension, in dimension order, and each flavor's dimension.
func (s *moduleReader) flavors() (combos [][]string, of map[string]string) {
	names := s.named("productFlavors")
	of = map[string]string{}
	if len(names) == 0 {
		return [][]string{nil}, of
	}
	order := s.dimensions()
	by := map[string][]string{}
	for _, n := range names {
		d := ""
		for _, key := range []string{"dimension", "flavorDimension"} {
			if f := s.setting("productFlavors", n, key); f.Set() {
				d = f.String()
				if !f.Known() {
					s.r.ask("dimension of flavor "+n, f.Unresolved, f.File, f.Line)
				}
			}
		}
		if d == "" && len(order) > 0 {
			d = order[0]
		}
		of[n] = d
		by[d] = append(by[d], n)
	}
	if len(order) == 0 {
		for d := range by {
			order = append(order, d)
		}
		sort.Strings(order)
	}
	combos = [][]string{nil}
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
	return combos, of
}

// buildTypes gives the build types: the platform's two, the framework's, the module's.
func (s *moduleReader) buildTypes() []string {
	types := s.named("buildTypes", "debug", "release")
	if (s.model.Applies("dev.flutter.flutter-gradle-plugin") || s.model.Reads("flutter_tools/gradle/flutter.gradle")) && !slices.Contains(types, "profile") {
		types = append(types, "profile")
	}
	return types
}

func (s *moduleReader) variants() []*AndroidVariant {
	var out []*AndroidVariant
	combos, dims := s.flavors()
	for _, fl := range combos {
		for _, bt := range s.buildTypes() {
			v := &AndroidVariant{BuildType: bt, Flavors: fl, Name: variantName(fl, bt)}
			v.SourceSets = sourceSets(fl, bt, v.Name)
			if s.filtered(v, dims) {
				continue
			}
			s.fill(v)
			s.late(v, dims)
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

// bound binds what a block that runs for each variant may ask of it.
func bound(st script.Stmt, v *AndroidVariant, dims map[string]string) script.Stmt {
	names := map[string]any{}
	pairs := map[string]string{}
	for _, f := range v.Flavors {
		pairs[dims[f]] = f
	}
	flavorName := ""
	if len(v.Flavors) > 0 {
		flavorName = variantName(v.Flavors[:len(v.Flavors)-1], v.Flavors[len(v.Flavors)-1])
	}
	prefixes := []string{"", "it.", "variant.", "variantBuilder."}
	for _, up := range st.Up {
		for _, p := range up.Params {
			prefixes = append(prefixes, p+".")
		}
	}
	for _, p := range prefixes {
		names[p+"buildType.name"], names[p+"flavorName"] = v.BuildType, flavorName
		names[p+"flavors"], names[p+"productFlavors"] = v.Flavors, pairs
		if p != "" {
			names[p+"name"], names[p+"buildType"] = v.Name, v.BuildType
		}
	}
	return st.Bind(names)
}

// selects reports whether a selector picks a variant: selector().withBuildType("release"); "" when that is not decided.
func selects(st script.Stmt, v *AndroidVariant, dims map[string]string) string {
	var call *gradle.Stmt
	for _, up := range st.Up {
		if n := len(up.Head); n > 0 && (up.Head[n-1] == "beforeVariants" || up.Head[n-1] == "onVariants") {
			call = up
		}
	}
	if call == nil || len(call.Args) == 0 {
		return "true"
	}
	f, e := st.Script(), call.Args[0]
	for i := 0; i+1 < len(e); i++ {
		if e[i].Kind != lex.Word || e[i+1].Kind != lex.Group {
			continue
		}
		in := lex.Solid(e[i+1].Inner())
		text := ""
		if len(in) > 0 {
			text, _ = lex.Literal(f.Src, in[0])
		}
		switch e[i].Of(f.Src) {
		case "selector", "all":
		case "withBuildType":
			if text != v.BuildType {
				return "false"
			}
		case "withName":
			if text == "" {
				return ""
			}
			if text != v.Name {
				return "false"
			}
		case "withFlavor":
			flavor := ""
			if len(in) == 3 {
				flavor, _ = lex.Literal(f.Src, in[2])
			}
			if flavor == "" {
				return ""
			}
			if !slices.Contains(v.Flavors, flavor) || dims[flavor] != text {
				return "false"
			}
		default:
			return ""
		}
	}
	return "true"
}

// filtered reports whether the scripts remove a variant; where that cannot be decided, the variant stays and the
// question is listed.
func (s *moduleReader) filtered(v *AndroidVariant, dims map[string]string) bool {
	for _, st := range s.model.Stmts {
		n := len(st.Path)
		last := st.Path[n-1]
		filter := n > 2 && st.Path[0] == "android" && st.Path[1] == "variantFilter" && last == "ignore"
		before := n > 2 && st.Path[0] == "androidComponents" && st.Path[1] == "beforeVariants" && (last == "enable" || last == "enabled")
		if !filter && !before || len(st.Arg()) == 0 {
			continue
		}
		at := bound(st, v, dims)
		picked, holds, value := selects(at, v, dims), at.Holds(), at.Truth(at.Arg())
		if picked == "false" || holds == "false" || value == "true" && before || value == "false" && filter {
			continue
		}
		if picked == "true" && holds == "true" && value != "" {
			return true
		}
		file, line, _ := st.Place()
		s.r.ask("Android variant "+v.Name+" in "+s.m.Dir, "a filter may remove it: it cannot be decided from the files", file, line)
	}
	return false
}

// late applies what scripts change variant by variant after all else.
func (s *moduleReader) late(v *AndroidVariant, dims map[string]string) {
	for _, st := range s.model.Stmts {
		n := len(st.Path)
		on := n > 2 && (st.Path[0] == "androidComponents" && st.Path[1] == "onVariants" || st.Path[0] == "android" && st.Path[1] == "applicationVariants")
		if !on || len(st.Arg()) == 0 || st.Path[n-1] != "applicationId" {
			continue
		}
		at := bound(st, v, dims)
		switch picked, holds := selects(at, v, dims), at.Holds(); {
		case picked == "false" || holds == "false":
		case picked == "true" && holds == "true":
			v.ApplicationID = at.Value().Through("set for each variant")
		default:
			v.ApplicationID = at.Stuck("it may change the ID of this variant")
		}
	}
}

func (s *moduleReader) fill(v *AndroidVariant) {
	ns := s.absent(s.model.Setting("android", "namespace"))
	var pkg Fact
	own := s.manifests(v)
	for _, d := range own {
		if a := d.doc.Top.Attr("package"); a != nil {
			l, c := d.doc.At(a.ValueStart)
			pkg = fact.Of(a.Value, d.name, l, c)
		}
	}
	if !ns.Set() && pkg.Known() {
		ns = pkg
		ns.Via = []string{"manifest package"}
	}
	v.Namespace = ns
	s.identify(v, ns, pkg)
	two := func(names ...string) Fact {
		var paths [][]string
		for _, f := range v.Flavors {
			for _, n := range names {
				paths = append(paths, []string{"android", "productFlavors", f, n})
			}
		}
		for _, n := range names {
			paths = append(paths, []string{"android", "defaultConfig", n})
		}
		return s.absent(s.model.First(paths...))
	}
	v.MinSDK, v.TargetSDK = two("minSdk", "minSdkVersion", "minSdkPreview"), two("targetSdk", "targetSdkVersion", "targetSdkPreview")
	v.CompileSDK = s.absent(s.model.First([]string{"android", "compileSdk"}, []string{"android", "compileSdkVersion"}, []string{"android", "compileSdkPreview"}))
	v.VersionCode = two("versionCode")
	v.VersionName = s.versionName(v, two("versionName"))
	for _, f := range []struct {
		to   *Fact
		name string
	}{{&v.MinSDK, "minSdkVersion"}, {&v.TargetSDK, "targetSdkVersion"}} {
		if !f.to.Set() {
			*f.to = manifestSDK(own, f.name)
		}
	}
	s.placeholders(v)
	s.constants(v)
	s.readManifests(v, append(own, s.libraries(v)...))
	s.signing(v)
	v.Entry = s.codeEntries(v)
}

// absent says of a fact that nothing sets, and that a plugin may set unseen, that it is not known.
func (s *moduleReader) absent(f Fact) Fact {
	if f.Set() {
		return f
	}
	if own := s.model.Opaque(); len(own) > 0 {
		p := own[len(own)-1]
		return fact.Open(fmt.Sprintf("nothing Ligare can read sets it; the project's plugin %s (%s) may", p.ID, p.Own), p.File, p.Line, p.Column)
	}
	if s.hidden && len(s.model.Plugins) > 0 {
		p := s.model.Plugins[0]
		return fact.Open(fmt.Sprintf("nothing in the tree sets it; plugin %s, which is not in the tree, may", p.ID), p.File, p.Line, p.Column)
	}
	return f
}

// identify finds the application ID, and every other place where people read one.
func (s *moduleReader) identify(v *AndroidVariant, ns, pkg Fact) {
	add := func(name string, f Fact) {
		if f.Set() {
			v.Identifiers = append(v.Identifiers, Entry{Name: name, Fact: f})
		}
	}
	var id Fact
	var bases []Entry
	for _, f := range v.Flavors {
		if x := s.setting("productFlavors", f, "applicationId"); x.Set() {
			bases = append(bases, Entry{"applicationId of flavor " + f, x})
		}
	}
	if x := s.model.Setting("android", "defaultConfig", "applicationId"); x.Set() {
		bases = append(bases, Entry{"applicationId of defaultConfig", x})
	}
	if len(bases) > 0 {
		id = bases[0].Fact
	} else if id = s.absent(Fact{}); !id.Set() && ns.Set() {
		id = ns.Through("no applicationId is set: the namespace is the ID")
	}
	for _, f := range v.Flavors {
		id = suffixed(id, s.setting("productFlavors", f, "applicationIdSuffix"))
	}
	if len(v.Flavors) == 0 || true {
		id = suffixed(id, s.model.Setting("android", "defaultConfig", "applicationIdSuffix"))
	}
	id = suffixed(id, s.setting("buildTypes", v.BuildType, "applicationIdSuffix"))
	v.ApplicationID = id
	add("application ID of this variant, which counts", id)
	for _, b := range bases {
		add(b.Name, b.Fact)
	}
	add("namespace", ns)
	add("package of the manifest", pkg)
}

func suffixed(id, x Fact) Fact {
	switch {
	case !id.Set() || x.Known() && x.String() == "" || !x.Set():
		return id
	case x.Unresolved != "":
		x.Unresolved = "the suffix " + x.Unresolved
		return x
	case id.Unresolved != "":
		return id
	}
	dotted := x.With(func(t string) string {
		if t != "" && !strings.HasPrefix(t, ".") {
			t = "." + t
		}
		return t
	})
	out := fact.Join(id, dotted)
	out.Via = append(append([]string(nil), id.Via...), fmt.Sprintf("suffix %q at %s", x.Say(), x.Place()))
	return out
}

func (s *moduleReader) versionName(v *AndroidVariant, name Fact) Fact {
	for _, f := range v.Flavors {
		name = joinSuffix(name, s.setting("productFlavors", f, "versionNameSuffix"))
	}
	return joinSuffix(name, s.setting("buildTypes", v.BuildType, "versionNameSuffix"))
}

func joinSuffix(name, suffix Fact) Fact {
	if !name.Set() || !suffix.Set() {
		return name
	}
	return fact.Join(name, suffix)
}

// texts gives the entries that a map-like setting collects for a variant, weakest first: defaultConfig, flavors, build type.
func (s *moduleReader) owners(v *AndroidVariant) [][]string {
	out := [][]string{{"android", "defaultConfig"}}
	for i := len(v.Flavors) - 1; i >= 0; i-- {
		out = append(out, []string{"android", "productFlavors", v.Flavors[i]})
	}
	chain := []string{v.BuildType}
	for range 5 {
		with := s.model.At("android", "buildTypes", chain[0], "initWith")
		if len(with) == 0 || len(with[0].Args) == 0 {
			break
		}
		from := reference(with[0].Script(), with[0].Args[0])
		if from == "" {
			break
		}
		chain = append([]string{from}, chain...)
	}
	for _, b := range chain {
		out = append(out, []string{"android", "buildTypes", b})
	}
	return out
}

func put(list []Entry, name string, f Fact) []Entry {
	for i := range list {
		if list[i].Name == name {
			list[i].Fact = f
			return list
		}
	}
	return append(list, Entry{name, f})
}

// placeholders reads manifestPlaceholders in all of its spellings.
func (s *moduleReader) placeholders(v *AndroidVariant) {
	for _, owner := range s.owners(v) {
		for _, st := range s.model.Under(owner...) {
			rest := st.Path[len(owner):]
			if rest[0] != "manifestPlaceholders" && rest[0] != "addManifestPlaceholders" || st.Holds() == "false" {
				continue
			}
			if len(rest) == 2 && rest[1] == "put" && len(st.Args) == 2 {
				if key := st.Resolve(st.Args[0]); key.Known() {
					v.Placeholders = put(v.Placeholders, key.String(), st.Resolve(st.Args[1]))
				}
				continue
			}
			if len(rest) == 2 && rest[1] != "putAll" && len(st.Arg()) > 0 {
				v.Placeholders = put(v.Placeholders, rest[1], st.Value())
				continue
			}
			for _, e := range append(append([]gradle.Expr{}, st.Args...), st.Setting.Value) {
				if len(e) == 0 {
					continue
				}
				if key, val := st.Script().Entry(e); key != "" && rest[0] == "manifestPlaceholders" && st.Assign == "" { // manifestPlaceholders a: "b"
					v.Placeholders = put(v.Placeholders, key, st.Resolve(val))
					continue
				}
				if keys, values, ok := st.Map(e); ok {
					for i, k := range keys {
						v.Placeholders = put(v.Placeholders, k, values[i])
					}
				}
			}
		}
	}
}

// constants reads buildConfigField; resValue is read with the resources.
func (s *moduleReader) constants(v *AndroidVariant) {
	for _, owner := range s.owners(v) {
		for _, st := range s.model.At(append(append([]string(nil), owner...), "buildConfigField")...) {
			if len(st.Args) != 3 || st.Holds() == "false" {
				continue
			}
			if name := st.Resolve(st.Args[1]); name.Known() {
				v.Constants = put(v.Constants, name.String(), st.Resolve(st.Args[2]).With(unquote))
			}
		}
	}
}

// unquote gives the text of a Java string literal; anything else stays as it is.
func unquote(s string) string {
	if len(s) >= 2 && s[0] == '"' && s[len(s)-1] == '"' {
		return strings.NewReplacer(`\"`, `"`, `\\`, `\`).Replace(s[1 : len(s)-1])
	}
	return s
}

// signing finds the keystore a variant signs with. A build type's configuration beats a flavor's, so that debug, which
// always has one, ignores the flavor's.
func (s *moduleReader) signing(v *AndroidVariant) {
	config := func(path ...string) (name string, f Fact) {
		for _, st := range s.model.At(append(path, "signingConfig")...) {
			holds := st.Holds()
			if holds == "false" || len(st.Arg()) == 0 {
				continue
			}
			file, l, c := st.Place()
			got := reference(st.Script(), st.Arg())
			if holds == "" && name != "" && name != got {
				f = fact.Either(st.Cond, fact.Of(got, file, l, c), f)
				continue
			}
			if got == "null" {
				got = ""
			}
			name, f = got, fact.Of(got, file, l, c)
			if holds == "" {
				f = fact.Fact{File: file, Line: l, Column: c, Possible: []Possible{{Value: got, When: st.Cond}}}
			}
		}
		return name, f
	}
	name, f := config("android", "buildTypes", v.BuildType)
	for from, i := v.BuildType, 0; !f.Set() && i < 5; i++ {
		with := s.model.At("android", "buildTypes", from, "initWith")
		if len(with) == 0 || len(with[0].Args) == 0 {
			break
		}
		if from = reference(with[0].Script(), with[0].Args[0]); from == "" {
			break
		}
		if from == "debug" { // copied with debug's own configuration
			name, f = "debug", fact.Of("debug", "", 0, 0, "copied from build type debug")
		}
		if n, got := config("android", "buildTypes", from); got.Set() {
			name, f = n, got
		}
	}
	if !f.Set() && v.BuildType != "debug" && (v.BuildType != "profile" || slices.Contains(s.named("buildTypes"), "profile")) {
		for _, fl := range v.Flavors {
			if n, got := config("android", "productFlavors", fl); got.Set() && !f.Set() {
				name, f = n, got
			}
		}
		if !f.Set() {
			name, f = config("android", "defaultConfig")
		}
	}
	if !f.Set() && (v.BuildType == "debug" || v.BuildType == "profile") {
		name, f = "debug", fact.Of("debug", "", 0, 0, "the platform's default for debug builds")
	}
	v.SigningConfig = f
	if name == "" {
		if len(f.Possible) > 0 || f.Unresolved != "" {
			v.KeyStore = fact.Open("the signing configuration depends on "+f.Say(), f.File, f.Line, f.Column)
		}
		return // unsigned
	}
	if len(f.Possible) > 1 {
		var all Fact
		for i, p := range f.Possible {
			got := s.keyStore(p.Value, nil)
			got = got.With(func(t string) string { return t })
			if got.Known() {
				all.Possible = append(all.Possible, Possible{Value: got.String(), When: p.When})
				if i == 0 {
					all.File, all.Line, all.Column = got.File, got.Line, got.Column
				}
			}
		}
		if len(all.Possible) == len(f.Possible) {
			v.KeyStore = all
		} else {
			v.KeyStore = fact.Open("the signing configuration is "+f.Say(), f.File, f.Line, f.Column)
		}
		return
	}
	v.KeyStore = s.keyStore(name, v)
	if len(f.Possible) == 1 && v.KeyStore.Known() {
		v.KeyStore.Possible, v.KeyStore.Value = []Possible{{Value: v.KeyStore.String(), When: f.Possible[0].When}}, nil
	}
}

// DebugKeyStore says where the platform keeps the keystore that debug builds sign with.
const DebugKeyStore = "the platform's debug keystore, outside the tree: $ANDROID_USER_HOME/debug.keystore, else $HOME/.android/debug.keystore"

// keyStore resolves a signing configuration's storeFile, alias and password, also through initWith.
func (s *moduleReader) keyStore(name string, v *AndroidVariant) Fact {
	var out Fact
	for i, from := 0, name; i < 5; i++ {
		for _, st := range s.model.At("android", "signingConfigs", from, "storeFile") {
			if len(st.Arg()) == 0 || out.Known() && i > 0 {
				continue
			}
			holds := st.Holds()
			if holds == "false" {
				continue
			}
			in, f := st.Where(st.Arg())
			if in == "home" {
				f.Via = append(f.Via, "below the user's home folder")
			}
			if holds == "" && f.Known() {
				f = fact.Open(fmt.Sprintf("%s, when %s", f.String(), st.Cond), f.File, f.Line, f.Column)
			}
			out = f
		}
		if v != nil {
			if !v.KeyAlias.Set() {
				v.KeyAlias = s.model.Setting("android", "signingConfigs", from, "keyAlias")
			}
			if !v.storePassword.Set() {
				v.storePassword = s.model.Setting("android", "signingConfigs", from, "storePassword")
			}
		}
		if out.Set() {
			return out
		}
		with := s.model.At("android", "signingConfigs", from, "initWith")
		if len(with) == 0 || len(with[0].Args) == 0 {
			break
		}
		from = reference(with[0].Script(), with[0].Args[0])
		name = from
	}
	if name == "debug" {
		return s.debugKeyStore()
	}
	if at := s.model.At("android", "signingConfigs", name); len(at) > 0 {
		file, l, c := at[0].Place()
		return fact.Open(fmt.Sprintf("signing configuration %q names no storeFile", name), file, l, c)
	}
	return s.orUnknown(name)
}

func (s *moduleReader) orUnknown(name string) Fact {
	return fact.Open(fmt.Sprintf("there is no signing configuration %q in the files", name), s.m.BuildFile, 0, 0)
}

// debugKeyStore finds the platform's own keystore where the home folder was given.
func (s *moduleReader) debugKeyStore() Fact {
	if dir := s.o.Env["ANDROID_USER_HOME"]; dir != "" {
		return fact.Of(path.Join(dir, "debug.keystore"), "", 0, 0, "the platform's debug keystore, in $ANDROID_USER_HOME")
	}
	if s.o.Home == nil {
		return fact.Open(DebugKeyStore, "", 0, 0)
	}
	if _, err := fs.Stat(s.o.Home, ".android/debug.keystore"); err != nil {
		return fact.Open("the platform's debug keystore, ~/.android/debug.keystore, is not there yet: the first debug build makes it", "", 0, 0)
	}
	return fact.Of("~/.android/debug.keystore", "", 0, 0, "the platform's debug keystore")
}
