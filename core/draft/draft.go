// Package draft writes the beginning of a sheet from what is there already: a config file of a service, or a change that
// once wired one. A draft is read and completed by a person; what could not be known is said in comments. It computes only.
package draft

import (
	"encoding/json"
	"fmt"
	"path"
	"slices"
	"sort"
	"strings"

	"ligare/core/ident"
	"ligare/core/sheet"
	"ligare/core/survey"
)

// Draft is a sheet under way.
type Draft struct {
	Service, Title string
	platforms      []ident.Platform
	values         []value
	files          []file
	placements     []placement
	notes          []string
}

type value struct {
	id, pattern string
	texts       []string // as it stood for each identity
	perIdentity bool
}

type file struct {
	id, name, format, folder string
	platform                 ident.Platform
	read                     [][2]string
}

type placement struct {
	platform ident.Platform
	place    string
	with     [][2]string
}

// New begins a draft. The service's name is made from its title.
func New(title string) *Draft {
	d := &Draft{Title: seen(title)}
	if d.Title == "" {
		d.Title = "Service"
	}
	for _, r := range strings.ToLower(title) {
		switch {
		case r >= 'a' && r <= 'z' || r >= '0' && r <= '9':
			d.Service += string(r)
		case d.Service != "" && !strings.HasSuffix(d.Service, "-"):
			d.Service += "-"
		}
	}
	if d.Service = strings.Trim(d.Service, "-"); d.Service == "" || d.Service[0] < 'a' {
		d.Service = "service-" + d.Service
	}
	d.Service = strings.TrimSuffix(d.Service, "-")
	return d
}

// formats by file extension.
var formats = map[string]string{".json": "json", ".xml": "xml", ".plist": "plist", ".yaml": "yaml", ".yml": "yaml", ".toml": "toml", ".properties": "properties"}

// FormatOf gives the format of a file by its name and content, "" when it is none that can be read.
func FormatOf(name string, src []byte) string {
	if f := formats[strings.ToLower(path.Ext(name))]; f != "" {
		if _, err := sheet.Open(f, src); err == nil {
			return f
		}
	}
	for _, f := range []string{"json", "jws", "plist", "xml"} {
		if doc, err := sheet.Open(f, src); err == nil && len(doc.Leaves()) > 0 {
			return f
		}
	}
	return ""
}

// File takes a config file: every value in it that looks like one a service issued becomes a value with its pointer, the
// identifier and the revision are found, and its place is said. where is its path in the tree, "" when it is not known.
func (d *Draft) File(name, where string, src []byte) error {
	name = seen(name)
	format := FormatOf(name, src)
	if format == "" {
		return fmt.Errorf("%s is none of JSON, XML, property list, YAML, TOML, properties or a signed token", name)
	}
	doc, err := sheet.Open(format, src)
	if err != nil {
		return err
	}
	known := d.known(name, where)
	f := file{id: id(strings.TrimSuffix(path.Base(name), path.Ext(name))), name: path.Base(name), format: format}
	f.platform, f.folder = place(where)
	seen := map[string]bool{}
	for _, l := range doc.Leaves() {
		last := strings.ToLower(strings.TrimPrefix(l.Pointer[strings.LastIndexAny(l.Pointer, "/.")+1:], "@"))
		switch {
		case seen[l.Pointer], l.Pointer == "": // a text of one value has no place to name
			continue
		case identifier(l.Value) && !has(f.read, "identity"):
			f.read = append(f.read, [2]string{"identity", l.Pointer})
		case number(l.Value) && len(l.Value) <= 6 && slices.Contains([]string{"revision", "version", "edition", "issue", "rev"}, last):
			f.read = append(f.read, [2]string{"revision", l.Pointer})
		case slices.Contains([]string{"digest", "digests", "fingerprint", "certificate", "certificates"}, last) && issued(l.Value):
			f.read = append(f.read, [2]string{"digests", l.Pointer})
		case date(l.Value) && !has(f.read, "ends"):
			f.read = append(f.read, [2]string{"ends", l.Pointer})
		case issued(l.Value):
			v := d.value(last, l.Value)
			v.perIdentity = true
			if !has(f.read, v.id) {
				f.read = append(f.read, [2]string{v.id, l.Pointer})
			}
		}
		seen[l.Pointer] = true
	}
	if known { // the same file of another identity: its values were only other texts of the same
		return nil
	}
	if !has(f.read, "identity") {
		d.note("%s: nothing in it looks like an application ID or bundle ID; add read.identity if it says whose it is", f.name)
	}
	d.files = append(d.files, f)
	platforms := []ident.Platform{f.platform}
	if f.platform == "" {
		d.note("%s: say whether it is issued for one platform only, and where it belongs", f.name)
		platforms = []ident.Platform{ident.Android, ident.IOS}
	}
	for _, p := range platforms {
		with := [][2]string{{"file", f.id}}
		if p == ident.Android {
			folder := f.folder
			if folder == "" {
				folder = "assets"
			}
			with = append(with, [2]string{"folder", folder})
		}
		d.add(p, "config-file", with...)
	}
	return nil
}

// known reports whether a file of this name and platform was taken already.
func (d *Draft) known(name, where string) bool {
	p, _ := place(where)
	return slices.ContainsFunc(d.files, func(f file) bool { return f.name == path.Base(name) && f.platform == p })
}

func has(list [][2]string, name string) bool {
	return slices.ContainsFunc(list, func(p [2]string) bool { return p[0] == name })
}

// place tells platform and folder from a path in a tree.
func place(where string) (ident.Platform, string) {
	switch {
	case strings.Contains(where, "/src/"):
		_, rest, _ := strings.Cut(where, "/src/")
		_, rest, _ = strings.Cut(rest, "/")
		folder := path.Dir(rest)
		if folder == "." {
			folder = ""
		}
		return ident.Android, folder
	case strings.HasPrefix(where, "ios/") || strings.Contains(where, "/ios/") || strings.HasSuffix(where, ".plist"):
		return ident.IOS, ""
	case strings.HasPrefix(where, "android/") || strings.Contains(where, "/android/"):
		return ident.Android, ""
	}
	return "", ""
}

// Change takes a change of a tree that wired a service: what the survey found after it and not before becomes placements,
// files that came with it become config files. added holds their content by path.
func (d *Draft) Change(before, after *survey.Report, added map[string][]byte) {
	for _, name := range sorted(added) {
		if strings.HasPrefix(name, ".ligare/") || name == "ligare.yaml" || strings.HasSuffix(name, "AndroidManifest.xml") || strings.Contains(name, "/res/values") || path.Base(name) == "Info.plist" || strings.HasSuffix(name, ".entitlements") || FormatOf(name, added[name]) == "" {
			continue
		}
		doc, err := sheet.Open(FormatOf(name, added[name]), added[name])
		if err != nil {
			continue
		}
		if slices.ContainsFunc(doc.Leaves(), func(l sheet.Leaf) bool { return identifier(l.Value) || issued(l.Value) }) {
			if err := d.File(path.Base(name), name, added[name]); err != nil {
				d.note("%s: %v", name, err)
			}
		}
	}
	for _, m := range after.Android.Modules {
		was := &survey.Module{}
		for _, x := range before.Android.Modules {
			if x.Dir == m.Dir {
				was = x
			}
		}
		d.module(was, m)
	}
	for _, p := range after.IOS.Projects {
		was := &survey.Project{}
		for _, x := range before.IOS.Projects {
			if x.Path == p.Path {
				was = x
			}
		}
		d.project(was, p)
	}
}

func (d *Draft) module(was, now *survey.Module) {
	for _, r := range now.Repositories {
		if r.Known() && strings.HasPrefix(r.String(), "http") && !slices.ContainsFunc(was.Repositories, func(x survey.Repository) bool { return x.String() == r.String() }) {
			d.add(ident.Android, "repository", [2]string{"url", r.String()})
		}
	}
	for _, x := range now.Dependencies {
		if strings.Contains(x.Name, ":") && !strings.HasPrefix(x.Name, ":") && !slices.ContainsFunc(was.Dependencies, func(y survey.Dependency) bool { return x.Name == y.Name }) {
			d.add(ident.Android, "dependency", [2]string{"module", x.Name}, [2]string{"version", x.Version.String()})
		}
	}
	for _, p := range now.Plugins {
		if !slices.ContainsFunc(was.Plugins, func(x survey.Entry) bool { return x.Name == p.Name }) {
			d.add(ident.Android, "plugin", [2]string{"id", p.Name}, [2]string{"module", "COORDINATE:OF-IT"}, [2]string{"version", p.String()})
			d.note("plugin %s: give the module that its class path names", p.Name)
		}
	}
	v, old := variants(was, now)
	for _, e := range fresh(old.Strings, v.Strings) {
		d.add(ident.Android, "string-resource", [2]string{"name", e.Name}, [2]string{"value", d.text(e.Name, e.String())})
	}
	for _, e := range fresh(old.Metadata, v.Metadata) {
		d.add(ident.Android, "manifest-metadata", [2]string{"name", e.Name}, [2]string{"value", d.text(e.Name, e.String())})
	}
	d.calls(ident.Android, old.Entry, v.Entry)
	for _, f := range freshFacts(old.Permissions, v.Permissions) {
		d.add(ident.Android, "manifest-permission", [2]string{"name", f})
	}
	for _, f := range freshFacts(old.Queries, v.Queries) {
		d.add(ident.Android, "manifest-query", [2]string{"package", f})
	}
	for _, e := range fresh(old.Placeholders, v.Placeholders) {
		d.add(ident.Android, "manifest-placeholder", [2]string{"name", e.Name}, [2]string{"value", d.text(e.Name, e.String())})
	}
	for _, a := range v.Activities {
		if !slices.ContainsFunc(old.Activities, func(x survey.Activity) bool { return x.Class.String() == a.Class.String() }) {
			exported := a.Exported.String()
			if exported == "" {
				exported = "false"
			}
			d.add(ident.Android, "manifest-activity", [2]string{"name", a.Class.String()}, [2]string{"exported", exported})
		}
	}
}

// calls takes the calls made at start that were not made before.
func (d *Draft) calls(p ident.Platform, was, now []survey.EntryPoint) {
	before := map[string]bool{}
	for _, e := range was {
		for _, c := range e.Calls {
			before[c.Name] = true
		}
	}
	for _, e := range now {
		for _, c := range e.Calls {
			if before[c.Name] || strings.HasPrefix(c.Name, "super.") || !strings.Contains(c.Name, ".") {
				continue
			}
			before[c.Name] = true
			owner, _, _ := strings.Cut(c.Name, ".")
			d.add(p, "init-call", [2]string{"call", c.Name}, [2]string{"import", owner})
			d.note("the call %s stands in %s, line %d: give its arguments, with ${value.NAME} where a value stands, and its import", c.Name, e.File, e.Line)
		}
	}
}

// variants gives the first variant of a module now and before; never nil.
func variants(was, now *survey.Module) (v, old *survey.AndroidVariant) {
	v, old = &survey.AndroidVariant{}, &survey.AndroidVariant{}
	if len(now.Variants) > 0 {
		v = now.Variants[0]
	}
	for _, x := range was.Variants {
		if x.Name == v.Name {
			old = x
		}
	}
	return v, old
}

func (d *Draft) project(was, now *survey.Project) {
	for _, e := range fresh(was.Pods, now.Pods) {
		d.add(ident.IOS, "pod", [2]string{"pod", e.Name}, [2]string{"requirement", e.String()})
	}
	for _, e := range fresh(was.Packages, now.Packages) {
		d.add(ident.IOS, "swift-package", [2]string{"url", e.Name}, [2]string{"version", first(strings.TrimLeft(e.String(), "^~>= "))}, [2]string{"product", strings.TrimSuffix(path.Base(e.Name), ".git")})
		d.note("Swift package %s: say which of its products is linked", e.Name)
	}
	for _, t := range now.Targets {
		if !t.App() || len(t.Configurations) == 0 {
			continue
		}
		old := &survey.Target{}
		for _, x := range was.Targets {
			if x.Name == t.Name {
				old = x
			}
		}
		d.target(old, t)
	}
}

func (d *Draft) target(was, now *survey.Target) {
	c, old := now.Configurations[len(now.Configurations)-1], &survey.Configuration{}
	for _, x := range was.Configurations {
		if x.Name == c.Name {
			old = x
		}
	}
	for _, e := range fresh(old.PlistKeys, c.PlistKeys) {
		switch {
		case strings.HasSuffix(e.Name, "UsageDescription"):
			d.add(ident.IOS, "usage-description", [2]string{"key", e.Name}, [2]string{"reason", e.String()})
		case strings.HasPrefix(e.Name, "CFBundleURLTypes") || strings.HasPrefix(e.Name, "LSApplicationQueriesSchemes") || strings.HasPrefix(e.Name, "UIBackgroundModes"):
		default:
			d.add(ident.IOS, "plist-key", [2]string{"key", e.Name}, [2]string{"value", d.text(e.Name, e.String())})
		}
	}
	for _, x := range []struct {
		place, param string
		was, now     []survey.Fact
	}{
		{"url-scheme", "scheme", old.URLSchemes, c.URLSchemes}, {"query-scheme", "scheme", old.QuerySchemes, c.QuerySchemes},
		{"background-mode", "mode", old.BackgroundModes, c.BackgroundModes}, {"associated-domain", "domain", old.AssociatedDomains, c.AssociatedDomains},
	} {
		for _, f := range freshFacts(x.was, x.now) {
			d.add(ident.IOS, x.place, [2]string{x.param, d.text(x.param, strings.TrimPrefix(f, "applinks:"))})
		}
	}
	d.calls(ident.IOS, old.Entry, c.Entry)
	for _, e := range fresh(old.EntitlementKeys, c.EntitlementKeys) {
		if !strings.HasPrefix(e.Name, "com.apple.developer.associated-domains") { // placed above, one by one
			d.add(ident.IOS, "entitlement", [2]string{"key", e.Name}, [2]string{"value", e.String()})
		}
	}
	for _, f := range now.Frameworks {
		if !slices.Contains(was.Frameworks, f) && strings.HasSuffix(f, ".framework") {
			d.add(ident.IOS, "framework", [2]string{"name", path.Base(f)})
		}
	}
	for _, f := range now.ScriptPhases {
		if !slices.Contains(was.ScriptPhases, f) {
			d.add(ident.IOS, "script-phase", [2]string{"name", f}, [2]string{"script", "WHAT-IT-RUNS"})
			d.note("script phase %s: give its script", f)
		}
	}
}

func fresh(was, now []survey.Entry) []survey.Entry {
	var out []survey.Entry
	for _, e := range now {
		if !slices.ContainsFunc(was, func(x survey.Entry) bool { return x.Name == e.Name && x.String() == e.String() }) {
			out = append(out, e)
		}
	}
	return out
}

func freshFacts(was, now []survey.Fact) []string {
	var out []string
	for _, f := range now {
		if f.Known() && !slices.ContainsFunc(was, func(x survey.Fact) bool { return x.String() == f.String() }) {
			out = append(out, f.String())
		}
	}
	return out
}

// text gives a placed text, with a value in its place if it looks like one that a service issued.
func (d *Draft) text(name, text string) string {
	if issued(text) {
		return "${value." + d.value(name, text).id + "}"
	}
	return text
}

// value gives the value of a text, made when it is new.
func (d *Draft) value(name, text string) *value {
	v := value{id: id(strings.TrimPrefix(id(name), d.Service+"-")), texts: []string{text}, pattern: Pattern(text)}
	for i := range d.values {
		if x := &d.values[i]; slices.Contains(x.texts, text) {
			return x
		} else if x.id == v.id && x.pattern == v.pattern { // another identity's
			x.texts, x.perIdentity = append(x.texts, text), true
			return x
		}
	}
	for base, n := v.id, 2; slices.ContainsFunc(d.values, func(x value) bool { return x.id == v.id }); n++ {
		v.id = fmt.Sprintf("%s-%d", base, n)
	}
	d.values = append(d.values, v)
	return &d.values[len(d.values)-1]
}

func (d *Draft) add(p ident.Platform, place string, with ...[2]string) {
	if p != "" && !slices.Contains(d.platforms, p) {
		d.platforms = append(d.platforms, p)
	}
	x := placement{p, place, with}
	if !slices.ContainsFunc(d.placements, func(y placement) bool { return y.platform == p && y.place == place && slices.Equal(y.with, with) }) {
		d.placements = append(d.placements, x)
	}
}

func (d *Draft) note(format string, args ...any) {
	d.notes = append(d.notes, seen(fmt.Sprintf(format, args...)))
}

// Empty reports whether nothing was found.
func (d *Draft) Empty() bool { return len(d.values)+len(d.files)+len(d.placements) == 0 }

// Write gives the sheet. It is valid as it is: registered with by hand, its values and files entered with ligare record.
func (d *Draft) Write() []byte {
	var b strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	line("# %s. Drafted from what was there; read it, and complete what is marked. `ligare sheet check FILE` says what is wrong.", d.Title)
	for _, n := range d.notes {
		line("# To do: %s.", n)
	}
	if len(d.platforms) == 0 {
		d.platforms = []ident.Platform{ident.Android, ident.IOS}
	}
	line("sheet: 1\nservice: %s\ntitle: %s\nkind: to be said # what kind of service it is", d.Service, quote(d.Title))
	line("version: \"1\"\nplatforms: [%s]\nscope: environment # what one registration spans: identity, environment, app or several", words(d.platforms))
	line("\nasks: # what the service wants to know; shown to whoever registers there\n  - id: identifier\n    title: Application ID or bundle ID\n    from: identity.id\n    per: identity")
	line("\nissues:\n  values:%s", empty(len(d.values)))
	for _, v := range d.values {
		line("    - id: %s\n      title: %s\n      exposure: client # it stood in the app; say server if it must not", v.id, quote(sentence(v.id)))
		if v.perIdentity {
			line("      per: identity")
		}
		line("      pattern: %s # from one value; widen it if others look otherwise", quote(v.pattern))
	}
	line("  files:%s", empty(len(d.files)))
	for _, f := range d.files {
		line("    - id: %s", f.id)
		if f.platform != "" {
			line("      platform: %s", f.platform)
		}
		line("      name: %s\n      format: %s", quote(f.name), f.format)
		if len(f.read) > 0 {
			line("      read:")
			for _, r := range f.read {
				line("        %s: %s", r[0], quote(r[1]))
			}
		}
	}
	line("\nplacements:%s", empty(len(d.placements)))
	used := map[string]int{}
	for _, p := range d.placements {
		name := string(p.platform) + "-" + p.place
		if used[name]++; used[name] > 1 {
			name = fmt.Sprintf("%s-%d", name, used[name])
		}
		line("  - id: %s\n    platform: %s\n    place: %s\n    with:", name, p.platform, p.place)
		for _, w := range p.with {
			line("      %s: %s", w[0], quote(w[1]))
		}
		line("    why: to be said # what does not work without it")
	}
	line("\nduties: []\n\nconnector:\n  protocol: by-hand\n  page: to be said # where a person registers")
	return []byte(b.String())
}

func empty(n int) string {
	if n == 0 {
		return " []"
	}
	return ""
}

func words(list []ident.Platform) string {
	var out []string
	for _, p := range list {
		out = append(out, string(p))
	}
	sort.Strings(out)
	return strings.Join(out, ", ")
}

func quote(s string) string {
	var b strings.Builder
	e := json.NewEncoder(&b) // what JSON writes in quotes is the same in YAML 1.2
	e.SetEscapeHTML(false)
	if err := e.Encode(s); err != nil {
		return `""`
	}
	return strings.TrimSpace(b.String())
}

func sorted[V any](m map[string]V) []string {
	var out []string
	for k := range m {
		out = append(out, k)
	}
	sort.Strings(out)
	return out
}
