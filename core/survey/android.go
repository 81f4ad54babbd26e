package survey

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"ligare/core/survey/fact"
	"ligare/core/survey/script"
	"ligare/core/syntax/gradle"
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
	t       *tree.Tree
	m       *Module
	model   *script.Model
	r       *Report
	o       Options
	unknown Fact // flavors whose names are computed
	hidden  bool // a plugin from outside the tree builds the app, and may set anything
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
		if x := s.m.sets[set]; x.root == "" && x.manifest == "" && !s.t.Has(s.m.ManifestOf(set)) && len(s.t.Dir(root)) > 0 {
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
	for _, m := range more {
		if !slices.Contains(have, m) { // scripts name the usual one again
			have = append(have, m)
		}
	}
	return have
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

// ManifestOf gives where the manifest of a source set stands.
func (m *Module) ManifestOf(set string) string {
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

// Folder gives the folder of a source set for files of a kind: res/xml, assets.
func (m *Module) Folder(set, kind string) string {
	x := m.sets[set]
	if sub, ok := strings.CutPrefix(kind+"/", "res/"); ok {
		if dirs := m.ResDirs(set); len(dirs) > 0 {
			return path.Join(dirs[0], sub)
		}
	}
	if sub, ok := strings.CutPrefix(kind+"/", "assets/"); ok && len(x.assets) > 0 {
		return path.Join(x.assets[0], sub)
	}
	if x.root != "" {
		return path.Join(x.root, kind)
	}
	return path.Join(m.Dir, "src", set, kind)
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
	id = suffixed(id, s.model.Setting("android", "defaultConfig", "applicationIdSuffix"))
	for _, f := range v.Flavors {
		id = suffixed(id, s.setting("productFlavors", f, "applicationIdSuffix"))
	}
	id = suffixed(id, s.setting("buildTypes", v.BuildType, "applicationIdSuffix"))
	if s.unknown.Unresolved != "" {
		id = s.unknown
		id.Unresolved = "the flavors are not known: " + id.Unresolved
	}
	v.ApplicationID = id
	add(counts, id)
	for _, b := range bases {
		add(b.Name, b.Fact)
	}
	add("namespace", ns)
	add("package of the manifest", pkg)
}

// counts names the place of an ID that the build goes by.
const counts = "application ID of this variant, which counts"

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
	name = joinSuffix(name, s.model.Setting("android", "defaultConfig", "versionNameSuffix"))
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
