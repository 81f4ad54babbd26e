package survey

import (
	"errors"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"

	"ligare/core/survey/fact"
	"ligare/core/syntax/lex"
	"ligare/core/syntax/pbxproj"
	"ligare/core/syntax/plist"
	"ligare/core/syntax/podfile"
	"ligare/core/tree"
)

func missing(err error) bool { return errors.Is(err, fs.ErrNotExist) }

// readProject reads one Xcode project.
func readProject(t *tree.Tree, name string, r *Report) *Project {
	src, err := t.Read(name)
	if err != nil {
		r.broken("project "+name, err.Error(), name, 0)
		return nil
	}
	px, err := pbxproj.Parse(src)
	if err != nil {
		line := 0
		if pe, ok := err.(*pbxproj.Error); ok {
			line = pe.Line
		}
		r.broken("project "+name, err.Error(), name, line)
		return nil
	}
	p := &Project{Layout: "ios-xcode", Path: path.Dir(name), Dir: path.Dir(path.Dir(name)), Version: px.Version}
	for dir := p.Dir; ; dir = path.Dir(dir) {
		if t.Has(path.Join(dir, "Podfile")) {
			p.Podfile = path.Join(dir, "Podfile")
			break
		}
		if dir == "." {
			break
		}
	}
	p.readPods(t, r)
	for _, o := range px.ByISA("PBXFileReference") {
		if where := o.Dict.Text("path"); strings.Contains(where, "node_modules/") || strings.Contains(where, ".symlinks/") {
			l, c := px.Position(o.Entry.Start)
			p.foreign = append(p.foreign, Entry{where, fact.Of(where, name, l, c)})
		}
	}
	any := false
	for _, tg := range px.Targets() {
		out := &Target{Name: tg.Name, ProductType: tg.ProductType}
		out.read(px, tg, p)
		for _, c := range tg.Configs {
			s := newSettings(t, p, px, tg, c, r)
			platform, ios := s.platform()
			if out.Platform == "" {
				out.Platform = platform
			}
			s.ios, s.device = ios, platform
			x := s.configuration(r)
			if !out.Test() {
				x.privacy(s, out, r)
				if out.App() {
					x.Entry = appleEntries(t, p, px, tg, r)
				}
			}
			out.Configurations = append(out.Configurations, x)
		}
		p.Targets = append(p.Targets, out)
		any = any || out.Platform == "iphoneos"
	}
	if !any && len(p.Targets) > 0 { // a project for other devices only
		return nil
	}
	for _, tg := range px.Targets() {
		for _, pk := range px.Packages(tg) {
			if !slices.ContainsFunc(p.Packages, func(e Entry) bool { return e.Name == pk.URL }) {
				l, c := px.Position(pk.Entry.Start)
				p.Packages = append(p.Packages, Entry{pk.URL, requirement(pk, name, l, c)})
			}
		}
	}
	return p
}

// requirement says which versions of a package are taken.
func requirement(pk pbxproj.Package, file string, line, column int) Fact {
	req := pk.Dict.Get("requirement")
	if req == nil || req.Dict == nil {
		return fact.Of("local", file, line, column)
	}
	d := req.Dict
	switch kind := d.Text("kind"); kind {
	case "versionRange":
		return fact.Of(d.Text("minimumVersion")+" up to "+d.Text("maximumVersion"), file, line, column)
	case "exactVersion":
		return fact.Of(d.Text("version"), file, line, column)
	case "branch", "revision":
		return fact.Of(kind+" "+d.Text(kind), file, line, column)
	case "upToNextMajorVersion", "upToNextMinorVersion":
		next := map[bool]string{true: "major", false: "minor"}[kind == "upToNextMajorVersion"]
		return fact.Of(d.Text("minimumVersion")+" up to the next "+next+" version", file, line, column)
	default:
		return fact.Of(strings.TrimSpace(kind+" "+d.Text("minimumVersion")), file, line, column)
	}
}

// platform tells which devices a target builds for; ios is set when it builds for phones and tablets only.
func (s *settings) platform() (name string, ios bool) {
	sdk := s.get("SDKROOT").String()
	supported := strings.Fields(s.get("SUPPORTED_PLATFORMS").String())
	switch {
	case slices.Contains(supported, "iphoneos"):
		for _, p := range supported {
			if !strings.HasPrefix(p, "iphone") {
				return "iphoneos", false
			}
		}
		return "iphoneos", true
	case sdk != "" && sdk != "auto":
		return strings.TrimSuffix(sdk, ".internal"), sdk == "iphoneos"
	case len(supported) > 0:
		return supported[0], false
	case s.get("IPHONEOS_DEPLOYMENT_TARGET").Set():
		return "iphoneos", sdk != "auto"
	case s.get("MACOSX_DEPLOYMENT_TARGET").Set():
		return "macosx", false
	}
	return "iphoneos", false
}

// read collects what a target builds.
func (t *Target) read(px *pbxproj.Project, tg *pbxproj.Target, p *Project) {
	list := func(isa string) []string {
		var out []string
		phase := px.Phase(tg, isa)
		if phase == nil {
			return nil
		}
		for _, id := range phase.Dict.Texts("files") {
			b := px.Objects[id]
			if b == nil {
				continue
			}
			if where, ok := px.Path(b.Dict.Text("fileRef")); ok {
				out = append(out, path.Join(p.Dir, where))
			} else if where != "" {
				out = append(out, where)
			} else if product := px.Objects[b.Dict.Text("productRef")]; product != nil {
				out = append(out, product.Dict.Text("productName"))
			}
		}
		return out
	}
	t.Resources, t.Frameworks = list("PBXResourcesBuildPhase"), list("PBXFrameworksBuildPhase")
	for _, id := range tg.Dict.Texts("buildPhases") {
		if o := px.Objects[id]; o != nil && o.ISA == "PBXShellScriptBuildPhase" {
			name := o.Dict.Text("name")
			if name == "" {
				name = "Run Script"
			}
			t.ScriptPhases = append(t.ScriptPhases, name)
		}
	}
}

func (s *settings) configuration(r *Report) *Configuration {
	c := &Configuration{Name: s.config}
	c.BundleID = filled(s.get("PRODUCT_BUNDLE_IDENTIFIER"))
	c.DeploymentTarget = s.get(minimumSetting(s.device))
	c.ProductName = s.get("PRODUCT_NAME")
	c.Version, c.BuildNumber = filled(s.get("MARKETING_VERSION")), filled(s.get("CURRENT_PROJECT_VERSION"))
	c.Entitlements = s.inTree(filled(s.get("CODE_SIGN_ENTITLEMENTS")))
	c.SigningTeam, c.SigningStyle = filled(s.get("DEVELOPMENT_TEAM")), filled(s.get("CODE_SIGN_STYLE"))
	if !c.SigningTeam.Set() {
		c.SigningTeam = s.attribute("DevelopmentTeam")
	}
	if !c.SigningStyle.Set() {
		c.SigningStyle = s.attribute("ProvisioningStyle")
	}
	c.SigningIdentity = filled(s.get("CODE_SIGN_IDENTITY"))
	if c.Profile = filled(s.get("PROVISIONING_PROFILE_SPECIFIER")); !c.Profile.Set() {
		c.Profile = filled(s.get("PROVISIONING_PROFILE"))
	}
	if c.SigningTeam.Known() {
		c.IdentifierPrefix = c.SigningTeam.Through("the signing team's ID; an old team may have another prefix")
	}
	c.InfoPlist = s.inTree(filled(s.get("INFOPLIST_FILE")))
	generated := s.get("GENERATE_INFOPLIST_FILE").String() == "YES"
	if c.InfoPlist.Known() {
		s.plist(c, r)
	} else if !c.InfoPlist.Set() && generated {
		v := "generated"
		at := s.get("GENERATE_INFOPLIST_FILE")
		c.InfoPlist = Fact{Value: &v, File: at.File, Line: at.Line, Column: at.Column, Via: []string{"GENERATE_INFOPLIST_FILE = YES"}}
	}
	if generated {
		s.generated(c)
	}
	if name := c.PlistKey("CFBundleDisplayName"); name.Set() && name.Say() != "" {
		c.DisplayName = name
	} else if name := c.PlistKey("CFBundleName"); name.Set() {
		c.DisplayName = name.Through("CFBundleName, as no CFBundleDisplayName is set")
	} else if generated {
		c.DisplayName = c.ProductName.Through("the product's name, as no display name is set")
	}
	s.entitlements(c, r)
	return c
}

// minimumSetting gives the setting that holds the minimum version of a kind of device.
func minimumSetting(platform string) string {
	switch {
	case strings.HasPrefix(platform, "watch"):
		return "WATCHOS_DEPLOYMENT_TARGET"
	case strings.HasPrefix(platform, "appletv"):
		return "TVOS_DEPLOYMENT_TARGET"
	case strings.HasPrefix(platform, "xr"):
		return "XROS_DEPLOYMENT_TARGET"
	case strings.HasPrefix(platform, "macos"):
		return "MACOSX_DEPLOYMENT_TARGET"
	}
	return "IPHONEOS_DEPLOYMENT_TARGET"
}

// PlistKey gives a key of the Info.plist.
func (c *Configuration) PlistKey(name string) Fact {
	for _, e := range c.PlistKeys {
		if e.Name == name {
			return e.Fact
		}
	}
	return Fact{}
}

// filled treats a setting that is set to nothing as not set.
func filled(f Fact) Fact {
	if f.Known() && f.String() == "" {
		return Fact{}
	}
	return f
}

// attribute reads what the project notes about a target beside its settings (TargetAttributes).
func (s *settings) attribute(key string) Fact {
	at := s.px.Root.Dict.Get("attributes")
	for _, k := range []string{"TargetAttributes", s.target.ID} {
		if at == nil || at.Dict == nil {
			return Fact{}
		}
		at = at.Dict.Get(k)
	}
	if at == nil || at.Dict == nil || at.Dict.Get(key) == nil {
		return Fact{}
	}
	v := at.Dict.Get(key)
	l, c := s.px.Position(v.Start)
	return filled(fact.Of(v.Text, s.p.File(), l, c, "TargetAttributes of the project"))
}

// inTree makes a path of a build setting relative to the tree.
func (s *settings) inTree(f Fact) Fact {
	return f.With(func(p string) string {
		if p == "" {
			return ""
		}
		return path.Join(s.p.Dir, p)
	})
}

// readPlist opens a property list of the tree; what it notes is listed.
func (s *settings) readPlist(name, what string, r *Report) (*plist.File, error) {
	src, err := s.t.Read(name)
	if err != nil {
		return nil, err
	}
	f, err := plist.Parse(src)
	if err != nil {
		return nil, err
	}
	for _, n := range f.Notes {
		l, _ := f.Doc.At(n.Offset)
		r.ask(what+" "+name, n.Message, name, l)
	}
	return f, nil
}

// opened reads the property list that a setting names; where it cannot be read, the fact becomes an open question.
func (s *settings) opened(of *Fact, setting, what string, r *Report) *plist.File {
	name, at := of.String(), *of
	f, err := s.readPlist(name, what, r)
	switch {
	case err == nil:
		return f
	case missing(err):
		*of = fact.Open(fmt.Sprintf("%s names %s, which is not there", setting, name), at.File, at.Line, at.Column)
	default:
		*of = fact.Open(fmt.Sprintf("%s: %v", name, err), name, 0, 0)
		r.broken(what+" "+name, err.Error(), name, 0)
	}
	return nil
}

// plist fills in what the property list says. A bundle ID written there directly is what the app is built with.
func (s *settings) plist(c *Configuration, r *Report) {
	name := c.InfoPlist.String()
	f := s.opened(&c.InfoPlist, "INFOPLIST_FILE", "property list", r)
	if f == nil {
		return
	}
	for _, e := range f.Root.Entries {
		s.flatten(f, name, e.Key, e.Value, &c.PlistKeys)
	}
	c.URLSchemes = under(c.PlistKeys, "CFBundleURLTypes/", "/CFBundleURLSchemes/")
	c.QuerySchemes = under(c.PlistKeys, "LSApplicationQueriesSchemes/", "")
	c.BackgroundModes = under(c.PlistKeys, "UIBackgroundModes/", "")
	if v := f.Path("CFBundleIdentifier"); v != nil && v.Text != "" && v.Text != "$(PRODUCT_BUNDLE_IDENTIFIER)" && v.Text != "${PRODUCT_BUNDLE_IDENTIFIER}" {
		written := c.PlistKey("CFBundleIdentifier")
		if c.BundleID.Set() && c.BundleID.Say() != written.Say() {
			written = written.Through(fmt.Sprintf("the build setting PRODUCT_BUNDLE_IDENTIFIER says %s at %s; the property list is what the app carries", c.BundleID.Say(), c.BundleID.Place()))
		}
		c.BundleID = written
	}
	if !c.Version.Set() {
		c.Version = c.PlistKey("CFBundleShortVersionString")
	}
	if !c.BuildNumber.Set() {
		c.BuildNumber = c.PlistKey("CFBundleVersion")
	}
}

// flatten lists the scalars of a property list by their key paths.
func (s *settings) flatten(f *plist.File, file, key string, v *plist.Value, out *[]Entry) {
	if len(*out) > 5000 {
		return
	}
	switch v.Kind {
	case plist.Dict:
		for _, e := range v.Entries {
			s.flatten(f, file, key+"/"+strings.ReplaceAll(e.Key, "/", "~1"), e.Value, out)
		}
	case plist.Array:
		for i, x := range v.Items {
			s.flatten(f, file, fmt.Sprintf("%s/%d", key, i), x, out)
		}
	default:
		l, c := f.Position(v)
		got := s.expand(v.Text, "", 0, -1, 0)
		if got.Unresolved != "" {
			got = fact.Open(fmt.Sprintf("`%s`: %s", v.Text, got.Unresolved), file, l, c)
		}
		got.File, got.Line, got.Column = file, l, c
		*out = append(*out, Entry{key, got})
	}
}

func under(list []Entry, prefix, inside string) []Fact {
	var out []Fact
	for _, e := range list {
		if strings.HasPrefix(e.Name, prefix) && strings.Contains(e.Name, inside) {
			out = append(out, e.Fact)
		}
	}
	return out
}

// generated fills in the keys that build settings give to a generated property list. Where an explicit file says
// otherwise, both are reported.
func (s *settings) generated(c *Configuration) {
	seen := map[string]bool{}
	for _, x := range s.layers {
		for _, a := range x.list {
			key, ok := strings.CutPrefix(a.key, "INFOPLIST_KEY_")
			if !ok || seen[a.key] {
				continue
			}
			seen[a.key] = true
			got := s.get(a.key)
			if !got.Set() {
				continue
			}
			had := c.PlistKey(key)
			switch {
			case !had.Set():
				c.PlistKeys = append(c.PlistKeys, Entry{key, got.Through(a.key)})
			case had.Say() != got.Say():
				both := had
				both.Value, both.Possible = nil, append(outcomes(had, "the property list's value is taken"), outcomes(got, fmt.Sprintf("%s at %s is taken", a.key, got.Place()))...)
				for i := range c.PlistKeys {
					if c.PlistKeys[i].Name == key {
						c.PlistKeys[i].Fact = both
					}
				}
			}
		}
	}
}

// outcomes gives the outcomes of a fact under one more condition.
func outcomes(f Fact, when string) []Possible {
	if f.Known() {
		return []Possible{{Value: f.String(), When: when}}
	}
	var out []Possible
	for _, p := range f.Possible {
		out = append(out, Possible{Value: p.Value, When: when + " and " + p.When})
	}
	return out
}

// entitlements reads the file that the configuration names.
func (s *settings) entitlements(c *Configuration, r *Report) {
	if !c.Entitlements.Known() {
		return
	}
	name := c.Entitlements.String()
	f := s.opened(&c.Entitlements, "CODE_SIGN_ENTITLEMENTS", "entitlements", r)
	if f == nil {
		return
	}
	for _, e := range f.Root.Entries {
		s.flatten(f, name, e.Key, e.Value, &c.EntitlementKeys)
	}
	c.AssociatedDomains = under(c.EntitlementKeys, "com.apple.developer.associated-domains/", "")
}

// privacy finds the privacy manifest among the target's resources and reads it.
func (c *Configuration) privacy(s *settings, t *Target, r *Report) {
	var name string
	for _, res := range t.Resources {
		if path.Base(res) == "PrivacyInfo.xcprivacy" {
			name = res
		}
	}
	if name == "" {
		for _, f := range s.px.SyncFolders() {
			if slices.Contains(f.Targets, t.Name) && !slices.Contains(f.Except[t.Name], "PrivacyInfo.xcprivacy") && s.t.Has(path.Join(s.p.Dir, f.Path, "PrivacyInfo.xcprivacy")) {
				name = path.Join(s.p.Dir, f.Path, "PrivacyInfo.xcprivacy")
			}
		}
	}
	if name == "" {
		return
	}
	f, err := s.readPlist(name, "privacy manifest", r)
	if err != nil {
		c.PrivacyManifest = fact.Open(fmt.Sprintf("%s: %v", name, err), name, 0, 0)
		return
	}
	c.PrivacyManifest = fact.Of(name, s.p.File(), 0, 0)
	for _, e := range f.Root.Entries {
		s.flatten(f, name, e.Key, e.Value, &c.PrivacyKeys)
	}
}

// readPods lists what the Podfile asks for.
func (p *Project) readPods(t *tree.Tree, r *Report) {
	if p.Podfile == "" {
		return
	}
	src, err := t.Read(p.Podfile)
	if err != nil {
		r.broken("Podfile", err.Error(), p.Podfile, 0)
		return
	}
	f, err := podfile.Parse(src)
	if err != nil {
		line := 0
		if pe, ok := err.(*podfile.Error); ok {
			line = pe.Line
		}
		r.broken("Podfile "+p.Podfile, err.Error(), p.Podfile, line)
		return
	}
	f.Root.Each(func(b *podfile.Block) {
		for _, c := range b.Calls {
			if c.Word != "pod" || len(c.Args) == 0 || !c.Args[0].Literal {
				continue
			}
			l, col := lex.Position(src, c.Start)
			v := "any version"
			for _, a := range c.Args[1:] {
				if a.Key != "" {
					v = a.Key + " " + a.Text
				} else if a.Literal {
					v = a.Text
				} else {
					v = a.Raw
				}
				break
			}
			in := b
			for in != nil && in.Word != "target" && in.Word != "abstract_target" {
				in = in.Parent
			}
			f := fact.Of(v, p.Podfile, l, col)
			if in != nil && in.Name != "" {
				f.Via = []string{"target " + in.Name}
			}
			p.Pods = append(p.Pods, Entry{c.Args[0].Text, f})
		}
	})
}
