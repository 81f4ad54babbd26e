package survey

import (
	"path"
	"strings"

	"ligare/core/survey/fact"
	"ligare/core/syntax/json"
	"ligare/core/syntax/yaml"
	"ligare/core/tree"
)

// readEngine reads an engine project by its settings asset: tagged YAML with maps from platform to value. The asset has
// one set of values for all builds, which stands under the platforms' usual two.
func readEngine(t *tree.Tree, name string, r *Report) {
	var s *yaml.Value
	for _, d := range readYAML(t, name, "settings asset", r) {
		if p := d.Get("PlayerSettings"); p != nil {
			s = p
		}
	}
	if s == nil {
		return
	}
	dir := path.Dir(path.Dir(name))
	get := func(keys ...string) Fact { return ofYAML(s.Get(keys...), name) }
	platform := func(key string, platforms ...string) Fact {
		for _, p := range platforms {
			if f := get(key, p); f.Set() {
				return f
			}
		}
		return Fact{}
	}
	x := &Framework{Name: "engine", Dir: dir, Linking: "by the engine: native plug-ins lie in the assets, packages carry theirs"}
	for _, v := range optionalYAML(t, path.Join(dir, "ProjectSettings/ProjectVersion.txt"), r) {
		if f := ofYAML(v.Get("m_EditorVersion"), path.Join(dir, "ProjectSettings/ProjectVersion.txt")); f.Set() {
			x.Version = f
		}
	}
	for _, k := range []string{"productName", "companyName", "bundleVersion"} {
		if f := get(k); f.Set() {
			x.Facts = append(x.Facts, Entry{k, f})
		}
	}
	x.Packages = enginePackages(t, dir, r)
	r.Frameworks = append(r.Frameworks, x)

	id := platform("applicationIdentifier", "Android")
	old := get("bundleIdentifier")
	if !id.Set() {
		id = old
	}
	m := &Module{Layout: "engine", Framework: "engine", Dir: dir, BuildFile: name, Root: dir}
	base := path.Join(dir, "Assets/Plugins/Android")
	m.sets = map[string]sourceSet{"main": {root: base, manifest: path.Join(base, "AndroidManifest.xml")}}
	for _, n := range []string{"debug", "release"} {
		v := &AndroidVariant{Name: n, BuildType: n, SourceSets: []string{}}
		v.ApplicationID, v.DisplayName, v.VersionName, v.VersionCode = id, get("productName"), get("bundleVersion"), get("AndroidBundleVersionCode")
		if !id.Set() {
			v.ApplicationID = fact.Open("the settings asset names none for Android; the engine makes one of company and product name", name, s.Line, s.Column)
		}
		v.Identifiers = []Entry{{counts, v.ApplicationID}}
		if old.Set() && old.Place() != id.Place() {
			v.Identifiers = append(v.Identifiers, Entry{"bundleIdentifier of older engine versions", old})
		}
		for _, p := range []string{"Standalone", "iPhone", "tvOS"} {
			if f := get("applicationIdentifier", p); f.Set() {
				v.Identifiers = append(v.Identifiers, Entry{"applicationIdentifier of " + p, f})
			}
		}
		v.MinSDK, v.TargetSDK = get("AndroidMinSdkVersion"), get("AndroidTargetSdkVersion")
		if v.TargetSDK.String() == "0" {
			v.TargetSDK = fact.Open("automatic: the newest SDK that the building machine has", name, v.TargetSDK.Line, v.TargetSDK.Column)
		}
		at := path.Join(dir, "Assets/Plugins/Android/AndroidManifest.xml")
		if doc, ok := readXML(t, at, "manifest", r); ok {
			g := &merged{s: &moduleReader{t: t, m: &Module{Dir: dir}, r: r}, v: v, list: []manifest{{name: at, doc: doc}}}
			if a := doc.Top.Attr("package"); a != nil {
				v.Identifiers = append(v.Identifiers, Entry{"package of the manifest", g.attr(g.list[0], a)})
				g.list[0].ns = g.attr(g.list[0], a)
			}
			v.Manifests = []string{at}
			v.LauncherActivity, v.Permissions, v.Metadata, v.Queries = g.launcher(), g.permissions(), g.metadata(), g.queries()
			v.Activities, v.URLSchemes, v.AppLinks = g.activities()
		}
		if !v.LauncherActivity.Set() {
			v.LauncherActivity = fact.Open("the engine's own activity, which differs by its version; no manifest in Assets/Plugins/Android names one", name, s.Line, s.Column)
		}
		engineKeyStore(v, get, dir)
		m.Variants = append(m.Variants, v)
	}
	r.Android.Modules = append(r.Android.Modules, m)

	p := &Project{Layout: "engine", Framework: "engine", Path: name, Dir: dir}
	tg := &Target{Name: get("productName").String(), ProductType: appProduct, Platform: "iphoneos"}
	for _, n := range []string{"Debug", "Release"} {
		c := &Configuration{Name: n, DisplayName: get("productName"), ProductName: get("productName"), Version: get("bundleVersion")}
		if c.BundleID = platform("applicationIdentifier", "iPhone", "iOS"); !c.BundleID.Set() {
			c.BundleID = old
		}
		if !c.BundleID.Set() {
			c.BundleID = fact.Open("the settings asset names none for iOS; the engine makes one of company and product name", name, s.Line, s.Column)
		}
		c.DeploymentTarget = get("iOSTargetOSVersionString")
		c.BuildNumber = platform("buildNumber", "iPhone", "iOS")
		c.SigningTeam = get("appleDeveloperTeamID")
		if get("appleEnableAutomaticSigning").String() == "1" {
			c.SigningStyle = get("appleEnableAutomaticSigning").With(func(string) string { return "Automatic" })
		}
		c.Profile = get("iOSManualSigningProvisioningProfileID")
		if u := s.Get("iOSURLSchemes"); u != nil {
			for _, i := range u.Items {
				c.URLSchemes = append(c.URLSchemes, ofYAML(i, name))
			}
		}
		for _, k := range []string{"cameraUsageDescription", "locationUsageDescription", "microphoneUsageDescription", "bluetoothUsageDescription"} {
			if f := get(k); f.Set() {
				c.PlistKeys = append(c.PlistKeys, Entry{k, f})
			}
		}
		tg.Configurations = append(tg.Configurations, c)
	}
	p.Targets = []*Target{tg}
	r.IOS.Projects = append(r.IOS.Projects, p)
}

// optionalYAML is readYAML for a file that may be absent.
func optionalYAML(t *tree.Tree, name string, r *Report) []*yaml.Value {
	if !t.Has(name) {
		return nil
	}
	return readYAML(t, name, "version", r)
}

func engineKeyStore(v *AndroidVariant, get func(...string) Fact, dir string) {
	store := get("AndroidKeystoreName")
	custom := get("androidUseCustomKeystore")
	if !store.Set() || custom.Set() && custom.String() == "0" {
		v.SigningConfig = fact.Of("debug", "", 0, 0, "the engine signs with the platform's debug keystore where no other is set")
		v.KeyStore = fact.Open(DebugKeyStore, "", 0, 0)
		return
	}
	v.SigningConfig = fact.Of("AndroidKeystoreName", store.File, store.Line, store.Column)
	text := strings.TrimSpace(store.String())
	if rest, ok := strings.CutPrefix(text, "{inproject}:"); ok {
		v.KeyStore = store.With(func(string) string { return path.Join(dir, strings.TrimSpace(rest)) })
	} else if path.IsAbs(text) {
		v.KeyStore = store
	} else {
		v.KeyStore = store.With(func(t string) string { return path.Join(dir, t) })
	}
	v.KeyAlias = get("AndroidKeyaliasName")
}

// enginePackages lists what the engine's package list asks for.
func enginePackages(t *tree.Tree, dir string, r *Report) []Linked {
	name := path.Join(dir, "Packages/manifest.json")
	src, err := t.Read(name)
	if err != nil {
		return nil
	}
	f, err := json.Parse(src)
	if err != nil {
		r.broken("package list "+name, err.Error(), name, 0)
		return nil
	}
	var out []Linked
	for _, d := range f.At("/dependencies") {
		for _, m := range d.Members {
			l, c := f.Position(m.Value)
			out = append(out, Linked{Name: m.Name, Version: fact.Of(m.Value.Text, name, l, c), Android: Link{How: "framework"}, IOS: Link{How: "framework"}})
		}
	}
	return out
}
