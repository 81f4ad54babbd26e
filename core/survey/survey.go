package survey

import (
	"io/fs"
	"path"
	"slices"
	"sort"
	"strings"

	"ligare/core/ident"
	"ligare/core/tree"
)

// Options says what a survey may read besides the tree, and what it is asked about.
type Options struct {
	Home        fs.FS             // the user's home folder; nil: not given
	Env         map[string]string // environment variables; nil: not given
	ConfigFiles []string          // names of config files to look for, as services issue them
	Bridges     []string          // npm packages by which a web tree speaks with the app a hosted builder makes of it
}

// Survey reads a tree. A file that cannot be read becomes an open question; the rest is answered all the same.
func Survey(t *tree.Tree) *Report { return With(t, Options{}) }

// With is Survey with more to read or to look for.
func With(t *tree.Tree, o Options) *Report {
	r := &Report{Layouts: []string{}, Android: Android{Modules: []*Module{}}, IOS: IOS{Projects: []*Project{}}, Frameworks: []*Framework{},
		ConfigFiles: []ConfigFile{}, Ignore: []string{}, Notes: []OpenQuestion{}, Unresolved: []OpenQuestion{}}
	f := find(t)
	for _, q := range f.blocked {
		r.broken("folder "+q.name, q.why, q.name, 0)
	}
	r.Ignore = append(r.Ignore, f.ignore...)
	r.Android.Modules = append(r.Android.Modules, readModules(t, f.gradle, f.all, o, r)...)
	for _, name := range f.projects {
		if p := readProject(t, name, r); p != nil {
			r.IOS.Projects = append(r.IOS.Projects, p)
		}
	}
	readFrameworks(t, f, o, r)
	readConfigFiles(t, f, o, r)
	r.readInterest(t, f)
	layouts := map[string]bool{}
	for _, m := range r.Android.Modules {
		layouts[m.Layout] = true
	}
	for _, p := range r.IOS.Projects {
		layouts[p.Layout] = true
	}
	for _, x := range r.Frameworks {
		layouts[x.Name] = true
	}
	for l := range layouts {
		r.Layouts = append(r.Layouts, l)
	}
	sort.Strings(r.Layouts)
	r.collect()
	return r
}

// found is the files of a tree that a survey begins with.
type found struct {
	all, gradle, projects, pubspecs, packages, csproj, engines, ignore []string
	blocked                                                            []blocked
}

type blocked struct{ name, why string }

func find(t *tree.Tree) *found {
	f := &found{}
	t.Walk(func(name string) {
		f.all = append(f.all, name)
		switch base := path.Base(name); {
		case base == "build.gradle" || base == "build.gradle.kts":
			f.gradle = append(f.gradle, name)
		case base == "project.pbxproj" && strings.HasSuffix(path.Dir(name), ".xcodeproj"):
			f.projects = append(f.projects, name)
		case base == "pubspec.yaml":
			f.pubspecs = append(f.pubspecs, name)
		case base == "package.json":
			f.packages = append(f.packages, name)
		case path.Ext(base) == ".csproj":
			f.csproj = append(f.csproj, name)
		case base == "ProjectSettings.asset":
			f.engines = append(f.engines, name)
		case base == ".gitignore":
			f.ignore = append(f.ignore, name)
		}
	})
	for _, b := range t.Blocked() {
		f.blocked = append(f.blocked, blocked{b.Name, b.Why})
	}
	return f
}

func (r *Report) ask(what, why, file string, line int) {
	q := OpenQuestion{What: what, Why: why, File: file, Line: line}
	if !slices.Contains(r.Unresolved, q) {
		r.Unresolved = append(r.Unresolved, q)
	}
}

// broken records a file that cannot be read.
func (r *Report) broken(what, why, file string, line int) {
	for _, q := range r.Unresolved {
		if q.What == what && q.Broken {
			return
		}
	}
	r.Unresolved = append(r.Unresolved, OpenQuestion{What: what, Why: why, File: file, Line: line, Broken: true})
}

// collect lists every fact that stayed unresolved.
func (r *Report) collect() {
	for _, m := range r.Android.Modules {
		for _, v := range m.Variants {
			of := " of Android variant " + v.Name + " in " + m.Dir
			v.Each(func(name string, f Fact) {
				if f.Unresolved != "" {
					r.ask(name+of, f.Unresolved, f.File, f.Line)
				}
			})
			r.entries("metadata", of, v.Metadata)
			r.entries("placeholder", of, v.Placeholders)
			r.facts("URL scheme", of, v.URLSchemes)
			r.facts("permission", of, v.Permissions)
			r.wellFormed("URL scheme", of, v.URLSchemes, ident.CheckScheme)
			r.wellFormed("launcher activity", of, []Fact{v.LauncherActivity}, ident.CheckClass)
			r.identifier("application ID"+of, v.ApplicationID)
		}
	}
	for _, p := range r.IOS.Projects {
		for _, t := range p.Targets {
			for _, c := range t.Configurations {
				of := " of iOS target " + t.Name + ", configuration " + c.Name
				c.Each(func(name string, f Fact) {
					if f.Unresolved != "" {
						r.ask(name+of, f.Unresolved, f.File, f.Line)
					}
				})
				r.entries("key", of, c.PlistKeys)
				r.wellFormed("URL scheme", of, c.URLSchemes, ident.CheckScheme)
				if !t.Test() {
					r.identifier("bundle ID"+of, c.BundleID)
				}
				r.entries("entitlement", of, c.EntitlementKeys)
			}
		}
	}
}

// wellFormed lists values that break their grammar: what is read is right, and what stands there is not.
func (r *Report) wellFormed(what, of string, list []Fact, check func(string) error) {
	for _, f := range list {
		if !f.Known() {
			continue
		}
		if err := check(f.String()); err != nil {
			r.note(what+of, err.Error(), f.File, f.Line)
		}
	}
}

// identifier notes an ID that a template left behind.
func (r *Report) identifier(what string, f Fact) {
	if f.Known() && ident.Template(f.String()) {
		r.note(what, f.String()+" is a project template's; change it while that is free, before the app is published", f.File, f.Line)
	}
}

func (r *Report) note(what, why, file string, line int) {
	q := OpenQuestion{What: what, Why: why, File: file, Line: line}
	if !slices.Contains(r.Notes, q) {
		r.Notes = append(r.Notes, q)
	}
}

// asked are the keys that are facts of their own.
var asked = map[string]bool{"CFBundleShortVersionString": true, "CFBundleVersion": true, "CFBundleIdentifier": true, "CFBundleDisplayName": true, "CFBundleName": true}

func (r *Report) entries(what, of string, list []Entry) {
	for _, e := range list {
		if e.Unresolved != "" && !asked[e.Name] {
			r.ask(what+" "+e.Name+of, e.Unresolved, e.File, e.Line)
		}
	}
}

func (r *Report) facts(what, of string, list []Fact) {
	for _, f := range list {
		if f.Unresolved != "" {
			r.ask(what+of, f.Unresolved, f.File, f.Line)
		}
	}
}

// Each visits the single facts of a variant under the names people know them by, what counts first.
func (v *AndroidVariant) Each(visit func(name string, f Fact)) {
	visit("application ID", v.ApplicationID)
	visit("namespace", v.Namespace)
	visit("minimum SDK", v.MinSDK)
	visit("target SDK", v.TargetSDK)
	visit("compile SDK", v.CompileSDK)
	visit("launcher activity", v.LauncherActivity)
	visit("application class", v.ApplicationClass)
	visit("display name", v.DisplayName)
	visit("version name", v.VersionName)
	visit("version code", v.VersionCode)
	visit("signing configuration", v.SigningConfig)
	visit("keystore", v.KeyStore)
	visit("key alias", v.KeyAlias)
}

// Each visits the single facts of a configuration under the names people know them by, what counts first.
func (c *Configuration) Each(visit func(name string, f Fact)) {
	visit("bundle ID", c.BundleID)
	visit("deployment target", c.DeploymentTarget)
	visit("Info.plist", c.InfoPlist)
	visit("display name", c.DisplayName)
	visit("product name", c.ProductName)
	visit("version", c.Version)
	visit("build number", c.BuildNumber)
	visit("entitlements", c.Entitlements)
	visit("privacy manifest", c.PrivacyManifest)
	visit("signing team", c.SigningTeam)
	visit("signing style", c.SigningStyle)
	visit("signing identity", c.SigningIdentity)
	visit("provisioning profile", c.Profile)
	visit("identifier prefix", c.IdentifierPrefix)
}

// Empty reports whether the tree holds no app at all.
func (r *Report) Empty() bool {
	return len(r.Android.Modules) == 0 && len(r.IOS.Projects) == 0 && !slices.ContainsFunc(r.Frameworks, func(f *Framework) bool { return f.Name == "hosted-web" })
}
