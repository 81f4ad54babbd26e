package survey

import (
	"path"
	"strings"

	"ligare/core/survey/fact"
	"ligare/core/syntax/plist"
	"ligare/core/tree"
)

// Shipped is the layout of a built package: what its files say, written out as text, is read like a source tree's, as one
// module or project with one variant of the same name.
const Shipped = "package"

// ShippedApp is one app of a built iOS package, or an extension in it.
type ShippedApp struct {
	Dir          string // Payload/Name.app
	Extension    bool
	InfoPlist    string
	Entitlements string // "" for none
	Privacy      string // "" for none
	Minimum      string
}

func newReport() *Report {
	return &Report{Layouts: []string{Shipped}, Android: Android{Modules: []*Module{}}, IOS: IOS{Projects: []*Project{}}, Frameworks: []*Framework{},
		ConfigFiles: []ConfigFile{}, Ignore: []string{}, Notes: []OpenQuestion{}, Unresolved: []OpenQuestion{}}
}

// ShippedAndroid surveys an Android package whose manifest stands as text in AndroidManifest.xml, its resources in res and
// its assets in assets. What no manifest says is set by the caller.
func ShippedAndroid(t *tree.Tree) (*Report, *AndroidVariant) {
	r := newReport()
	m := &Module{Layout: Shipped, Dir: ".", BuildFile: "AndroidManifest.xml", Root: ".", sets: map[string]sourceSet{"main": {manifest: "AndroidManifest.xml", res: []string{"res"}, assets: []string{"assets"}}}}
	v := &AndroidVariant{Name: Shipped, BuildType: "release", SourceSets: []string{"main"}}
	m.Variants = []*AndroidVariant{v}
	r.Android.Modules = append(r.Android.Modules, m)
	s := &moduleReader{t: t, m: m, r: r}
	d, ok := s.openManifest("AndroidManifest.xml")
	if !ok {
		return r, v
	}
	v.Manifests = []string{d.name}
	if a := d.doc.Top.Attr("package"); a != nil {
		l, c := d.doc.At(a.ValueStart)
		v.ApplicationID = fact.Of(a.Value, d.name, l, c)
		v.Namespace = v.ApplicationID
		v.Identifiers = []Entry{{counts, v.ApplicationID}}
		d.ns = v.Namespace
	}
	for _, x := range m.Strings(t, "main") {
		v.Strings = append(v.Strings, Entry{x.Name, fact.Of(Unescape(x.Text), x.File, x.Line, x.Column)})
	}
	g := &merged{s: s, v: v, list: []manifest{d}}
	v.MinSDK, v.TargetSDK = manifestSDK(g.list, "minSdkVersion"), manifestSDK(g.list, "targetSdkVersion")
	v.Permissions, v.Metadata, v.Queries = g.permissions(), g.metadata(), g.queries()
	v.Activities, v.URLSchemes, v.AppLinks = g.activities()
	v.LauncherActivity, v.ApplicationClass, v.DisplayName = g.launcher(), g.applicationClass(), g.label()
	return r, v
}

// ShippedIOS surveys the apps of an iOS package.
func ShippedIOS(t *tree.Tree, apps []ShippedApp) *Report {
	r := newReport()
	for _, a := range apps {
		name := strings.TrimSuffix(path.Base(a.Dir), path.Ext(a.Dir))
		c := &Configuration{Name: Shipped}
		p := &Project{Layout: Shipped, Path: a.Dir, Dir: a.Dir, Targets: []*Target{{Name: name, ProductType: appProduct, Platform: "iphoneos", Configurations: []*Configuration{c}}}}
		if a.Extension {
			p.Targets[0].ProductType = "com.apple.product-type.app-extension"
		}
		read := func(name string, to *[]Entry) {
			src, err := t.Read(name)
			if err != nil {
				return
			}
			f, err := plist.Parse(src)
			if err != nil {
				r.broken("property list "+name, err.Error(), name, 0)
				return
			}
			plain := &settings{t: t, p: p}
			for _, e := range f.Root.Entries {
				plain.flatten(f, name, e.Key, e.Value, to)
			}
		}
		c.InfoPlist = fact.Of(a.InfoPlist, a.InfoPlist, 0, 0)
		read(a.InfoPlist, &c.PlistKeys)
		c.BundleID, c.DisplayName = c.PlistKey("CFBundleIdentifier"), c.PlistKey("CFBundleDisplayName")
		if !c.DisplayName.Set() {
			c.DisplayName = c.PlistKey("CFBundleName")
		}
		c.Version, c.BuildNumber, c.DeploymentTarget = c.PlistKey("CFBundleShortVersionString"), c.PlistKey("CFBundleVersion"), c.PlistKey("MinimumOSVersion")
		c.URLSchemes = under(c.PlistKeys, "CFBundleURLTypes/", "/CFBundleURLSchemes/")
		c.QuerySchemes = under(c.PlistKeys, "LSApplicationQueriesSchemes/", "")
		c.BackgroundModes = under(c.PlistKeys, "UIBackgroundModes/", "")
		if a.Entitlements != "" {
			c.Entitlements = fact.Of(a.Entitlements, a.Entitlements, 0, 0)
			read(a.Entitlements, &c.EntitlementKeys)
			c.AssociatedDomains = under(c.EntitlementKeys, "com.apple.developer.associated-domains/", "")
		}
		if a.Privacy != "" {
			c.PrivacyManifest = fact.Of(a.Privacy, a.Privacy, 0, 0)
			read(a.Privacy, &c.PrivacyKeys)
		}
		r.IOS.Projects = append(r.IOS.Projects, p)
	}
	return r
}
