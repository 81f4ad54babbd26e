package survey

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"ligare/core/survey/fact"
	"ligare/core/syntax/lex"
	"ligare/core/syntax/plist"
	"ligare/core/syntax/source"
	"ligare/core/syntax/xml"
	"ligare/core/tree"
)

// readDotnet reads a .NET project that builds for Android or iOS. Each target framework is built by itself, in Debug
// and Release; the platforms' usual names stand for these two.
func readDotnet(t *tree.Tree, name string, f *found, r *Report) {
	first := newMSBuild(t, r, map[string]string{"Configuration": "Release", "MSBuildProjectName": strings.TrimSuffix(path.Base(name), ".csproj")})
	first.project(name)
	frameworks := dotnetTargets(first)
	exe := strings.EqualFold(first.get("OutputType").String(), "Exe") || strings.EqualFold(first.get("OutputType").String(), "WinExe")
	classic := strings.EqualFold(first.get("AndroidApplication").String(), "true")
	var android, ios string
	for _, tf := range frameworks {
		switch platform := strings.TrimRight(after(tf, "-"), "0123456789."); platform {
		case "android":
			android = tf
		case "ios":
			ios = tf
		}
	}
	if android == "" && ios == "" && !classic || !exe && !classic && !dotnetConditional(t, name, frameworks, r) {
		return
	}
	dir := path.Dir(name)
	project := strings.TrimSuffix(path.Base(name), ".csproj")
	x := &Framework{Name: "dotnet", Dir: dir, Linking: "by the framework: packages carry their native parts", Version: first.get("TargetFrameworks")}
	if !x.Version.Set() {
		x.Version = first.get("TargetFramework")
	}
	for _, k := range []string{"ApplicationTitle", "ApplicationId", "ApplicationDisplayVersion", "ApplicationVersion"} {
		if v := first.get(k); v.Set() {
			x.Facts = append(x.Facts, Entry{k, v})
		}
	}
	central := map[string]Fact{}
	for _, i := range first.items {
		if i.kind == "PackageVersion" {
			central[strings.ToLower(i.include)] = i.version
		}
	}
	for _, i := range first.items {
		if i.kind == "PackageReference" {
			l := Linked{Name: i.include, Version: i.version, Android: Link{How: "framework"}, IOS: Link{How: "framework"}}
			if !l.Version.Set() {
				l.Version = central[strings.ToLower(i.include)]
			}
			x.Packages = append(x.Packages, l)
		}
	}
	d := &dotnet{t: t, r: r, f: f, name: name, dir: dir, project: project}
	if android != "" || classic {
		m := &Module{Layout: "dotnet", Framework: "dotnet", Dir: dir, BuildFile: name, Root: dir}
		base := path.Join(dir, "Platforms/Android")
		if len(t.Dir(base)) == 0 {
			base = dir
		}
		set := sourceSet{root: base, manifest: path.Join(base, "AndroidManifest.xml"), res: []string{path.Join(base, "Resources")}, assets: []string{path.Join(base, "Assets")}}
		if at := d.file("Platforms/Android/AndroidManifest.xml", "Properties/AndroidManifest.xml", "AndroidManifest.xml"); at != "" {
			set.manifest = at
		}
		m.sets = map[string]sourceSet{"main": set}
		for _, c := range []string{"Debug", "Release"} {
			m.Variants = append(m.Variants, d.android(c, android))
		}
		for _, l := range x.Packages {
			m.Dependencies = append(m.Dependencies, Dependency{Configuration: "PackageReference", Name: l.Name, Version: l.Version, File: l.Version.File, Line: l.Version.Line})
		}
		r.Android.Modules = append(r.Android.Modules, m)
	}
	if ios != "" {
		p := &Project{Layout: "dotnet", Framework: "dotnet", Path: name, Dir: dir}
		tg := &Target{Name: project, ProductType: appProduct, Platform: "iphoneos"}
		for _, c := range []string{"Debug", "Release"} {
			tg.Configurations = append(tg.Configurations, d.ios(c, ios))
		}
		p.Targets = []*Target{tg}
		r.IOS.Projects = append(r.IOS.Projects, p)
	}
	for _, n := range f.all {
		if path.Base(n) == "MauiProgram.cs" && strings.HasPrefix(n, dirPrefix(dir)) {
			x.Entry = append(x.Entry, builderEntry(t, n)...)
		}
	}
	r.Frameworks = append(r.Frameworks, x)
}

func dirPrefix(dir string) string {
	if dir == "." {
		return ""
	}
	return dir + "/"
}

func after(s, sep string) string {
	_, rest, _ := strings.Cut(s, sep)
	return rest
}

// dotnetTargets lists the target frameworks, those under an undecided condition included.
func dotnetTargets(m *msbuild) []string {
	var out []string
	for _, k := range []string{"TargetFrameworks", "TargetFramework"} {
		f := m.get(k)
		all := f.String()
		for _, p := range f.Possible {
			all += ";" + p.Value
		}
		for _, tf := range strings.Split(all, ";") {
			if tf = strings.TrimSpace(tf); tf != "" && !slices.Contains(out, tf) {
				out = append(out, tf)
			}
		}
	}
	return out
}

// dotnetConditional reports whether the project is a program on one of its target frameworks only.
func dotnetConditional(t *tree.Tree, name string, frameworks []string, r *Report) bool {
	for _, tf := range frameworks {
		m := newMSBuild(t, r, map[string]string{"Configuration": "Release", "TargetFramework": tf})
		m.project(name)
		if strings.EqualFold(m.get("OutputType").String(), "Exe") {
			return true
		}
	}
	return false
}

// dotnet reads one project for its platforms.
type dotnet struct {
	t            *tree.Tree
	r            *Report
	f            *found
	name         string
	dir, project string
}

func (d *dotnet) build(configuration, tf string) *msbuild {
	globals := map[string]string{"Configuration": configuration, "Platform": "AnyCPU", "MSBuildProjectName": d.project, "TargetPlatformIdentifier": strings.TrimRight(after(tf, "-"), "0123456789.")}
	if tf != "" {
		globals["TargetFramework"] = tf
	}
	m := newMSBuild(d.t, d.r, globals)
	m.project(d.name)
	if tf != "" {
		m.values["targetframework"] = fact.Of(tf, "", 0, 0)
	}
	return m
}

// first gives the first of some files that stands in the project.
func (d *dotnet) file(names ...string) string {
	for _, n := range names {
		if n == "" {
			continue
		}
		if at := path.Join(d.dir, strings.ReplaceAll(n, `\`, "/")); d.t.Has(at) {
			return at
		}
	}
	return ""
}

func trimZero(s string) string { return strings.TrimSuffix(s, ".0") }

func (d *dotnet) android(configuration, tf string) *AndroidVariant {
	m := d.build(configuration, tf)
	v := &AndroidVariant{Name: strings.ToLower(configuration), BuildType: strings.ToLower(configuration), SourceSets: []string{}}
	v.ApplicationID = m.get("ApplicationId")
	v.VersionName, v.VersionCode = m.get("ApplicationDisplayVersion"), m.get("ApplicationVersion")
	v.DisplayName = m.get("ApplicationTitle")
	v.MinSDK = m.get("SupportedOSPlatformVersion").With(trimZero)
	if api := strings.TrimLeft(after(tf, "-"), "abcdefghijklmnopqrstuvwxyz"); api != "" {
		at := m.get("TargetFrameworks")
		v.TargetSDK = fact.Of(trimZero(api), at.File, at.Line, at.Column, "the target framework "+tf)
	} else if tf != "" {
		v.TargetSDK = fact.Open("the installed workload decides it: "+tf+" names no version", d.name, 0, 0)
	}
	v.Identifiers = append(v.Identifiers, Entry{"ApplicationId of the project", v.ApplicationID})
	name := d.file(m.get("AndroidManifest").String(), "Platforms/Android/AndroidManifest.xml", "Properties/AndroidManifest.xml", "AndroidManifest.xml")
	if name != "" {
		if doc, ok := readXML(d.t, name, "manifest", d.r); ok {
			d.manifest(v, name, doc)
		}
	}
	v.Identifiers = append([]Entry{{counts, v.ApplicationID}}, v.Identifiers...)
	if !v.ApplicationID.Set() {
		v.ApplicationID = fact.Open("neither the project nor the manifest names it", d.name, 0, 0)
	}
	if !v.MinSDK.Set() {
		v.MinSDK = fact.Open("the framework decides it: SupportedOSPlatformVersion is not set", d.name, 0, 0)
	}
	v.LauncherActivity = d.launcher(v)
	d.keyStore(m, v)
	return v
}

func (d *dotnet) manifest(v *AndroidVariant, name string, doc *xml.Doc) {
	g := &merged{s: &moduleReader{t: d.t, m: &Module{Dir: d.dir}, r: d.r}, v: v, list: []manifest{{name: name, doc: doc}}}
	v.Manifests = []string{name}
	if a := doc.Top.Attr("package"); a != nil && a.Value != "" {
		pkg := g.attr(g.list[0], a)
		v.Identifiers = append(v.Identifiers, Entry{"package of the manifest", pkg})
		if v.ApplicationID.Set() && v.ApplicationID.Say() != pkg.Say() {
			pkg = pkg.Through(fmt.Sprintf("the manifest's package is taken before ApplicationId (%s at %s)", v.ApplicationID.Say(), v.ApplicationID.Place()))
		}
		v.ApplicationID = pkg
	}
	if f := manifestSDK(g.list, "minSdkVersion"); f.Set() {
		v.MinSDK = f
	}
	if f := manifestSDK(g.list, "targetSdkVersion"); f.Set() {
		v.TargetSDK = f
	}
	v.Permissions, v.Metadata, v.Queries = g.permissions(), g.metadata(), g.queries()
	if l := g.label(); l.Known() {
		v.DisplayName = l
	}
	v.Activities, v.URLSchemes, v.AppLinks = g.activities()
	v.LauncherActivity = g.launcher()
}

// launcher finds the activity marked MainLauncher in the source. Without a name of its own, the build derives one.
func (d *dotnet) launcher(v *AndroidVariant) Fact {
	if v.LauncherActivity.Set() {
		return v.LauncherActivity
	}
	for _, n := range d.f.all {
		if path.Ext(n) != ".cs" || !strings.HasPrefix(n, dirPrefix(d.dir)) {
			continue
		}
		src, err := d.t.Read(n)
		if err != nil || !strings.Contains(string(src), "MainLauncher") {
			continue
		}
		var out Fact
		lex.Parse(lex.CSharp, src).Root.Walk(func(k *lex.Node) bool {
			if k.Bracket(src) != '[' || out.Set() {
				return true
			}
			in := lex.Solid(k.Inner())
			if len(in) < 2 || in[0].Of(src) != "Activity" && in[0].Of(src) != "ActivityAttribute" || in[1].Bracket(src) != '(' {
				return true
			}
			args := lex.Solid(in[1].Inner())
			launches, named := false, (*lex.Node)(nil)
			for i := 0; i+2 < len(args); i++ {
				if args[i+1].Is(src, lex.Punct, "=") {
					launches = launches || args[i].Is(src, lex.Word, "MainLauncher") && args[i+2].Is(src, lex.Word, "true")
					if args[i].Is(src, lex.Word, "Name") {
						named = args[i+2]
					}
				}
			}
			if !launches {
				return true
			}
			l, c := lex.Position(src, k.Start)
			out = fact.Open("the build names the class after a hash of its namespace and assembly, as [Activity] sets no Name", n, l, c)
			if named != nil {
				l, c = lex.Position(src, named.Start)
				if text, ok := lex.Literal(src, named); ok {
					out = fact.Of(text, n, l, c)
				} else {
					out = fact.Open("`"+named.Of(src)+"`", n, l, c)
				}
			}
			return true
		})
		if out.Set() {
			return out
		}
	}
	return Fact{}
}

func (d *dotnet) keyStore(m *msbuild, v *AndroidVariant) {
	if strings.EqualFold(m.get("AndroidKeyStore").String(), "true") {
		f := m.get("AndroidSigningKeyStore")
		v.SigningConfig = fact.Of("AndroidSigningKeyStore", f.File, f.Line, f.Column)
		v.KeyStore = f.With(func(p string) string {
			p = strings.ReplaceAll(p, `\`, "/")
			if path.IsAbs(p) {
				return p
			}
			return path.Join(d.dir, p)
		})
		v.KeyAlias, v.storePassword = m.get("AndroidSigningKeyAlias"), m.get("AndroidSigningStorePass")
		return
	}
	v.SigningConfig = fact.Of("debug", "", 0, 0, "the platform's default where no keystore is set")
	v.KeyStore = fact.Open("the .NET debug keystore, outside the tree: below the user's application data folder", "", 0, 0)
}

func (d *dotnet) ios(configuration, tf string) *Configuration {
	m := d.build(configuration, tf)
	c := &Configuration{Name: configuration}
	c.BundleID = m.get("ApplicationId")
	c.DeploymentTarget = m.get("SupportedOSPlatformVersion")
	c.Version, c.BuildNumber = m.get("ApplicationDisplayVersion"), m.get("ApplicationVersion")
	c.DisplayName = m.get("ApplicationTitle")
	c.ProductName = m.get("AssemblyName")
	c.SigningIdentity, c.Profile = m.get("CodesignKey"), m.get("CodesignProvision")
	read := func(name string, to *[]Entry) (*plist.File, bool) {
		src, err := d.t.Read(name)
		if err != nil {
			return nil, false
		}
		f, err := plist.Parse(src)
		if err != nil {
			d.r.broken("property list "+name, err.Error(), name, 0)
			return nil, false
		}
		plain := &settings{t: d.t, p: &Project{Path: d.name, Dir: d.dir}}
		for _, e := range f.Root.Entries {
			plain.flatten(f, name, e.Key, e.Value, to)
		}
		return f, true
	}
	if name := d.file("Platforms/iOS/Info.plist", "Info.plist"); name != "" {
		c.InfoPlist = fact.Of(name, d.name, 0, 0, "the place where the build looks for it")
		if _, ok := read(name, &c.PlistKeys); ok {
			if id := c.PlistKey("CFBundleIdentifier"); id.Known() && id.String() != "" {
				c.BundleID = id.Through("the property list is taken before ApplicationId")
			}
			if n := c.PlistKey("CFBundleDisplayName"); n.Known() && n.String() != "" {
				c.DisplayName = n
			}
			if v := c.PlistKey("MinimumOSVersion"); v.Set() && !c.DeploymentTarget.Set() {
				c.DeploymentTarget = v
			}
			c.URLSchemes = under(c.PlistKeys, "CFBundleURLTypes/", "/CFBundleURLSchemes/")
			c.QuerySchemes = under(c.PlistKeys, "LSApplicationQueriesSchemes/", "")
			c.BackgroundModes = under(c.PlistKeys, "UIBackgroundModes/", "")
		}
	}
	if name := d.file(m.get("CodesignEntitlements").String(), "Platforms/iOS/Entitlements.plist", "Entitlements.plist"); name != "" {
		c.Entitlements = fact.Of(name, d.name, 0, 0)
		if at := m.get("CodesignEntitlements"); at.Set() {
			c.Entitlements = fact.Of(name, at.File, at.Line, at.Column)
		}
		read(name, &c.EntitlementKeys)
		c.AssociatedDomains = under(c.EntitlementKeys, "com.apple.developer.associated-domains/", "")
	}
	if name := d.file("Platforms/iOS/Resources/PrivacyInfo.xcprivacy", "Platforms/iOS/PrivacyInfo.xcprivacy", "Resources/PrivacyInfo.xcprivacy"); name != "" {
		c.PrivacyManifest = fact.Of(name, d.name, 0, 0)
		read(name, &c.PrivacyKeys)
	}
	if !c.BundleID.Set() {
		c.BundleID = fact.Open("neither the project nor the property list names it", d.name, 0, 0)
	}
	if !c.DeploymentTarget.Set() {
		c.DeploymentTarget = fact.Open("the framework decides it: SupportedOSPlatformVersion is not set", d.name, 0, 0)
	}
	return c
}

// builderEntry reads the start-up code's builder chain.
func builderEntry(t *tree.Tree, name string) []EntryPoint {
	src, err := t.Read(name)
	if err != nil {
		return nil
	}
	f, ok := source.Parse(name, src)
	if !ok {
		return nil
	}
	e := EntryPoint{Kind: "main", File: name, Line: 1}
	f.Each(func(c *source.Class) {
		for _, fn := range c.Funcs {
			if fn.Name == "CreateMauiApp" {
				e.Class = c.Name
				e.Line, _ = lex.Position(src, fn.Start)
				e.Calls = calls(f, name, fn.Body)
			}
		}
	})
	return []EntryPoint{e}
}
