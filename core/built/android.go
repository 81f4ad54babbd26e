package built

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"ligare/core/syntax/chunk"
)

// table is a resource table, binary or in messages.
type table interface {
	Get(id uint32) ([]chunk.Configured, error)
	Resolve(v chunk.Value) ([]chunk.Configured, error)
	Name(id uint32) string
	List(kind string) ([]chunk.Resource, error)
}

// none is the table of a package without one.
type noTable struct{}

func (noTable) Get(uint32) ([]chunk.Configured, error) { return nil, nil }
func (noTable) Resolve(v chunk.Value) ([]chunk.Configured, error) {
	return []chunk.Configured{{Value: v}}, nil
}
func (noTable) Name(uint32) string                         { return "" }
func (noTable) List(kind string) ([]chunk.Resource, error) { return nil, nil }

// android reads what a manifest says, following its references.
type android struct {
	a    *Archive
	t    table
	top  *chunk.Element
	out  *Android
	pkg  string
	said int // bytes of texts so far
}

// Bounds of what is said: string resources, and bytes of texts in all configurations.
const (
	mostStrings = 100_000
	mostSaid    = 24 << 20
)

func (a *Archive) androidFacts(top *chunk.Element, t table, list bool) (*Android, error) {
	if top.Name != "manifest" {
		return nil, problem("AndroidManifest.xml", "its top element is <%s>", top.Name)
	}
	x := &android{a: a, t: t, top: top, out: &Android{Permissions: []Permission{}, Metadata: []Metadata{}, Components: []Component{}}}
	if p := top.Plain("package"); p != nil {
		x.pkg = p.Value.String()
	}
	o, asked := x.out, map[string]bool{}
	o.ApplicationID = x.pkg
	if s := top.Plain("split"); s != nil {
		o.Split = s.Value.String()
	}
	o.VersionCode, o.VersionName, o.SharedUserID = x.text(top, "versionCode"), x.text(top, "versionName"), x.text(top, "sharedUserId")
	if major := x.text(top, "versionCodeMajor"); major != "" && major != "0" {
		hi, err1 := strconv.ParseUint(major, 10, 32)
		lo, err2 := strconv.ParseUint(o.VersionCode, 10, 32)
		if err1 == nil && err2 == nil {
			o.VersionCode = strconv.FormatUint(hi<<32|lo, 10)
		}
	}
	if o.CompileSDK = x.text(top, "compileSdkVersion"); o.CompileSDK == "" {
		if p := top.Plain("platformBuildVersionCode"); p != nil {
			o.CompileSDK = p.Value.String()
		}
	}
	for _, e := range top.Children {
		switch e.Name {
		case "uses-sdk":
			o.MinSDK, o.TargetSDK, o.MaxSDK = x.text(e, "minSdkVersion"), x.text(e, "targetSdkVersion"), x.text(e, "maxSdkVersion")
		case "uses-permission", "uses-permission-sdk-23":
			if n := x.text(e, "name"); n != "" && !asked[n] {
				asked[n] = true
				o.Permissions = append(o.Permissions, Permission{n, x.text(e, "maxSdkVersion")})
			}
		case "uses-feature":
			if n := x.text(e, "name"); n != "" {
				o.Features = append(o.Features, Feature{n, x.text(e, "required") != "false"})
			}
		case "queries":
			x.queries(e)
		case "application":
			x.application(e)
		}
	}
	if o.MinSDK == "" {
		o.MinSDK = "1" // without one, the platform takes its first version
	}
	if o.TargetSDK == "" {
		o.TargetSDK = o.MinSDK
	}
	if list {
		if err := x.strings(); err != nil {
			return nil, err
		}
	}
	for _, name := range a.names() {
		if rest, ok := strings.CutPrefix(name, "lib/"); ok {
			if abi, _, ok := strings.Cut(rest, "/"); ok && len(o.NativeABIs) < 16 && !slices.Contains(o.NativeABIs, abi) {
				o.NativeABIs = append(o.NativeABIs, abi)
			}
		}
	}
	return o, nil
}

// text gives an attribute as the app reads it: of a resource, its value in the default configuration.
func (x *android) text(e *chunk.Element, name string) string {
	a := e.Attr(name)
	if a == nil {
		return ""
	}
	list := x.values(a.Value, "attribute "+name+" of <"+e.Name+">")
	if len(list) == 0 {
		return a.Value.String()
	}
	return list[0].Value
}

// values follows a reference to its values in every configuration.
func (x *android) values(v chunk.Value, what string) []Text {
	list, err := x.t.Resolve(v)
	if err != nil {
		x.a.note("%s: %v", what, err)
		return nil
	}
	var out []Text
	for _, c := range list {
		if c.Bag != nil {
			continue
		}
		t := Text{c.Config, x.say(c.Value)}
		if x.said += len(t.Value) + len(t.Config) + 32; x.said > mostSaid {
			x.a.note("its texts come to more than %d MB; the rest is left out", mostSaid>>20)
			break
		}
		out = append(out, t)
	}
	return out
}

// say writes a value; a reference that cannot be followed by its name, where the table has one.
func (x *android) say(v chunk.Value) string {
	if v.IsReference() {
		if n := x.t.Name(v.Data); n != "" {
			return "@" + n
		}
	}
	return v.String()
}

// class resolves a class name against the package.
func (x *android) class(name string) string {
	switch {
	case strings.HasPrefix(name, "."):
		return x.pkg + name
	case name != "" && !strings.Contains(name, "."):
		return x.pkg + "." + name
	}
	return name
}

func (x *android) application(e *chunk.Element) {
	o := x.out
	if l := e.Attr("label"); l != nil {
		o.Label = x.values(l.Value, "the label")
	}
	o.Debuggable, o.TestOnly = x.text(e, "debuggable") == "true", x.text(e, "testOnly") == "true"
	o.ApplicationClass = x.class(x.text(e, "name"))
	for _, c := range e.Children {
		switch c.Name {
		case "meta-data":
			if m, ok := x.metadata(c); ok {
				o.Metadata = append(o.Metadata, m)
			}
		case "activity", "activity-alias", "service", "receiver", "provider":
			k := x.component(c)
			o.Components = append(o.Components, k)
			x.starts(&k)
		}
	}
	slices.Sort(o.URLSchemes)
	slices.Sort(o.AppLinks)
	o.URLSchemes, o.AppLinks = slices.Compact(o.URLSchemes), slices.Compact(o.AppLinks)
}

func (x *android) component(e *chunk.Element) Component {
	c := Component{Kind: e.Name, Name: x.class(x.text(e, "name")), Enabled: x.text(e, "enabled") != "false", Permission: x.text(e, "permission"), Authorities: x.text(e, "authorities")}
	if e.Name == "activity-alias" {
		c.Target = x.class(x.text(e, "targetActivity"))
	}
	if a := e.Attr("exported"); a != nil {
		yes := x.text(e, "exported") == "true"
		c.Exported = &yes
	}
	for _, f := range e.Children {
		switch f.Name {
		case "intent-filter":
			c.Filters = append(c.Filters, x.filter(f))
		case "meta-data":
			if m, ok := x.metadata(f); ok {
				c.Metadata = append(c.Metadata, m)
			}
		}
	}
	return c
}

func (x *android) filter(e *chunk.Element) Filter {
	f := Filter{AutoVerify: x.text(e, "autoVerify") == "true"}
	for _, k := range e.Children {
		switch k.Name {
		case "action":
			f.Actions = append(f.Actions, x.text(k, "name"))
		case "category":
			f.Categories = append(f.Categories, x.text(k, "name"))
		case "data":
			f.Data = append(f.Data, Data{x.text(k, "scheme"), x.text(k, "host"), x.text(k, "port"), x.text(k, "path"), x.text(k, "pathPrefix"), x.text(k, "pathPattern"), x.text(k, "mimeType")})
		}
	}
	return f
}

// starts takes from a component what leads into the app: the launcher, schemes, links.
func (x *android) starts(c *Component) {
	o := x.out
	if c.Kind != "activity" && c.Kind != "activity-alias" {
		return
	}
	for _, f := range c.Filters {
		home := slices.Contains(f.Categories, "android.intent.category.LAUNCHER") || slices.Contains(f.Categories, "android.intent.category.LEANBACK_LAUNCHER")
		if slices.Contains(f.Actions, "android.intent.action.MAIN") && home && c.Enabled && o.LauncherActivity == "" {
			if o.LauncherActivity = c.Name; c.Target != "" {
				o.LauncherActivity = c.Target
			}
		}
		if !slices.Contains(f.Actions, "android.intent.action.VIEW") {
			continue
		}
		web := false
		for _, d := range f.Data {
			if d.Scheme == "https" || d.Scheme == "http" {
				web = true
			} else if d.Scheme != "" {
				o.URLSchemes = append(o.URLSchemes, d.Scheme)
			}
		}
		for _, d := range f.Data {
			if web && d.Host != "" {
				o.AppLinks = append(o.AppLinks, d.Host)
			}
		}
	}
}

func (x *android) queries(e *chunk.Element) {
	q := &x.out.Queries
	for _, c := range e.Children {
		switch c.Name {
		case "package":
			q.Packages = append(q.Packages, x.text(c, "name"))
		case "provider":
			q.Providers = append(q.Providers, x.text(c, "authorities"))
		case "intent":
			q.Intents = append(q.Intents, x.filter(c))
		}
	}
}

// metadata reads one entry as the platform hands it to the app: a number that was written inline is an int or a float, and
// a float holds 24 bits.
func (x *android) metadata(e *chunk.Element) (Metadata, bool) {
	m := Metadata{Name: x.text(e, "name")}
	a := e.Attr("value")
	if a == nil {
		a = e.Attr("resource")
		if a == nil || m.Name == "" {
			return m, m.Name != ""
		}
		m.Resource, m.Type, m.Value = strings.TrimPrefix(x.t.Name(a.Value.Data), "@"), "reference", x.say(a.Value)
		return m, true
	}
	v := a.Value
	if v.IsReference() {
		m.Resource = x.t.Name(v.Data)
		m.Values = x.values(v, "the metadata "+m.Name)
		if list, err := x.t.Resolve(v); err == nil && len(list) > 0 {
			v = list[0].Value
		}
	}
	m.Value = x.say(v)
	switch v.Type {
	case chunk.String:
		m.Type = "string"
	case chunk.Decimal, chunk.Hex:
		m.Type = "int"
	case chunk.Float:
		m.Type = "float"
		m.Lost = lost(v)
		if a.Value.Raw != "" && a.Value.Raw != m.Value {
			m.Written = a.Value.Raw
		}
	case chunk.Boolean:
		m.Type = "boolean"
	case chunk.Reference, chunk.DynamicRef:
		m.Type = "reference"
	case chunk.Dimension:
		m.Type = "dimension"
	case chunk.Fraction:
		m.Type = "fraction"
	case chunk.Attribute, chunk.DynamicAtt:
		m.Type = "attribute"
	default:
		m.Type = fmt.Sprintf("type 0x%02x", byte(v.Type))
		if v.Type >= 0x1c && v.Type <= 0x1f {
			m.Type = "color"
		} else if v.Type == chunk.Null {
			m.Type = "null"
		}
	}
	return m, true
}

// strings lists the string resources, references followed.
func (x *android) strings() error {
	list, err := x.t.List("string")
	if err != nil {
		return problem("resources.arsc", "%w", err)
	}
	for i, r := range list {
		if i >= mostStrings {
			x.a.note("the package has %d string resources; %d are listed", len(list), mostStrings)
			break
		}
		texts := x.values(chunk.Value{Type: chunk.Reference, Data: r.ID}, "the string "+r.Name)
		x.out.Strings = append(x.out.Strings, Resource{r.Name, texts})
	}
	return nil
}

// apk reads the manifest and the resource table of an APK.
func (a *Archive) apk() (*chunk.Element, table, error) {
	src, err := a.read("AndroidManifest.xml", maxManifest)
	if err != nil {
		return nil, nil, err
	}
	top, err := chunk.XML(src)
	if err != nil {
		return nil, nil, &Problem{"AndroidManifest.xml", err}
	}
	if a.files["resources.arsc"] == nil {
		return top, noTable{}, nil
	}
	b, err := a.read("resources.arsc", maxTable)
	if err != nil {
		return nil, nil, err
	}
	t, err := chunk.Read(b)
	if err != nil {
		return nil, nil, &Problem{"resources.arsc", err}
	}
	return top, t, nil
}
