package built

import (
	"io/fs"
	"math"
	"path"
	"sort"
	"strconv"
	"strings"

	"ligare/core/sheet"
	"ligare/core/survey"
	"ligare/core/survey/fact"
	"ligare/core/syntax/chunk"
	"ligare/core/syntax/xml"
	"ligare/core/tree"
)

// written writes a document as text, with references by their names.
func (a *Archive) written(top *chunk.Element) []byte {
	var b strings.Builder
	b.WriteString("<?xml version=\"1.0\" encoding=\"utf-8\"?>\n")
	a.write(&b, top, "", true)
	return []byte(b.String())
}

// prefixes of the namespaces that documents of packages use.
var prefixes = map[string]string{chunk.Namespace: "android", "http://schemas.android.com/apk/res-auto": "app", "http://schemas.android.com/apk/distribution": "dist"}

func (a *Archive) write(b *strings.Builder, e *chunk.Element, indent string, top bool) {
	name := e.Name
	if p := prefixes[e.NS]; p != "" {
		name = p + ":" + name
	}
	b.WriteString(indent + "<" + name)
	if top {
		for _, ns := range sorted(prefixes) {
			b.WriteString(" xmlns:" + prefixes[ns] + `="` + ns + `"`)
		}
	}
	seen := map[string]bool{}
	for _, at := range e.Attrs {
		name := at.Name
		if p := prefixes[at.NS]; p != "" {
			name = p + ":" + name
		} else if at.NS != "" {
			continue // a namespace of tools, which no app reads
		}
		if name == "" || seen[name] {
			continue
		}
		seen[name] = true
		b.WriteString("\n" + indent + "    " + name + `="` + xml.EncodeAttr(a.attribute(at.Value)) + `"`)
	}
	if len(e.Children) == 0 && strings.TrimSpace(e.Text) == "" {
		b.WriteString(" />\n")
		return
	}
	b.WriteString(">")
	if len(e.Children) == 0 {
		b.WriteString(xml.Encode(e.Text) + "</" + name + ">\n")
		return
	}
	b.WriteString("\n")
	for _, c := range e.Children {
		a.write(b, c, indent+"    ", false)
	}
	b.WriteString(indent + "</" + name + ">\n")
}

// attribute gives an attribute of a document as a reader of it gets it: as it was written, where the builder kept that. A
// number that became a float is given back its digits when one that is expected becomes the same float.
func (a *Archive) attribute(v chunk.Value) string {
	switch {
	case v.Raw != "" && !v.IsReference():
		return v.Raw
	case lost(v) && a.Expected[v.Data] != "":
		return a.Expected[v.Data]
	}
	return a.say(v)
}

// lost reports whether a value is a whole number that a float cannot hold to its last digit.
func lost(v chunk.Value) bool {
	f := float64(math.Float32frombits(v.Data))
	return v.Type == chunk.Float && f == math.Trunc(f) && math.Abs(f) >= 1<<24
}

// Expect says which numbers are expected in the package, so that one that became a float is recognised.
func (a *Archive) Expect(numbers []string) {
	a.Expected = map[uint32]string{}
	for _, n := range numbers {
		if f, err := strconv.ParseFloat(n, 32); err == nil && strings.Trim(n, "0123456789") == "" {
			bits := math.Float32bits(float32(f))
			if _, twice := a.Expected[bits]; twice {
				n = "" // two become the same float: which one it was is not known
			}
			a.Expected[bits] = n
		}
	}
}

func (a *Archive) say(v chunk.Value) string {
	if v.IsReference() && a.table != nil {
		if n := a.table.Name(v.Data); n != "" {
			return "@" + n
		}
	}
	return v.String()
}

// Nothing is a file system without files: all that is in a package's tree is put over it.
type Nothing struct{}

// Open says that a file is not there.
func (Nothing) Open(name string) (fs.File, error) {
	return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrNotExist}
}

// shownStrings bounds the string resources that are written out.
const shownStrings = 20_000

// Tree gives the package as a tree and a survey of it, with what the sheets' files are named: the manifest as text, string
// resources, XML resources, config files. The package's name for its one variant is survey.Shipped.
func (a *Archive) Tree(f *Facts, sheets []*sheet.Sheet) (*tree.Tree, *survey.Report, error) {
	t := tree.New(Nothing{})
	if a.Kind == IPA {
		return t, a.iosTree(t, f, sheets), nil
	}
	top, tab, err := a.manifest()
	if err != nil {
		return nil, nil, err
	}
	t.Put("AndroidManifest.xml", a.written(top))
	if err := a.putStrings(t, tab); err != nil {
		return nil, nil, err
	}
	for _, x := range f.Files {
		if src, err := a.text(x.Path, a.format(x, sheets)); err == nil {
			t.Put(a.sourcePath(x.Path, x.Source), src)
		}
	}
	r, v := survey.ShippedAndroid(t)
	at := func(text string) survey.Fact { return fact.Of(text, "AndroidManifest.xml", 0, 0) }
	v.VersionCode, v.VersionName, v.CompileSDK = at(f.Android.VersionCode), at(f.Android.VersionName), at(f.Android.CompileSDK)
	if !v.MinSDK.Set() {
		v.MinSDK = at(f.Android.MinSDK)
	}
	if !v.TargetSDK.Set() {
		v.TargetSDK = at(f.Android.TargetSDK)
	}
	if c := f.Signing.Newest(); c != nil {
		ends := ""
		if c.NotAfter != nil {
			ends = c.NotAfter.Format("2006-01-02T15:04:05Z07:00")
		}
		v.SigningConfig, v.KeyStore = fact.Of("the package's signature", "", 0, 0), fact.Of("the package's signature", "", 0, 0)
		v.Certificate = &survey.Signer{File: "the package's signature", Subject: c.Subject, NotAfter: ends, SHA1: c.Digests.SHA1Colons, SHA256: c.Digests.SHA256Colons}
	}
	return t, r, nil
}

// Newest gives the certificate that a new phone holds the package to: that of the newest scheme. nil for none.
func (s *Signing) Newest() *Certificate {
	if s == nil || len(s.Signers) == 0 {
		return nil
	}
	best := 0
	for i, x := range s.Signers {
		if x.Scheme > s.Signers[best].Scheme {
			best = i
		}
	}
	if len(s.Signers[best].Certificates) == 0 {
		return nil
	}
	return &s.Signers[best].Certificates[0]
}

func (a *Archive) format(x File, sheets []*sheet.Sheet) string {
	for _, s := range sheets {
		if s.Service == x.Service {
			if f := s.File(x.File); f != nil {
				return f.Format
			}
		}
	}
	return ""
}

// sourcePath gives where an entry would stand in a source tree: a resource under its name, however its file is called.
func (a *Archive) sourcePath(name, source string) string {
	if source != "" {
		return source
	}
	if a.Kind == AAB {
		_, name, _ = strings.Cut(name, "/")
	}
	return name
}

// putStrings writes the string resources out as resource files, one for each configuration.
func (a *Archive) putStrings(t *tree.Tree, tab table) error {
	list, err := tab.List("string")
	if err != nil {
		return problem("resources", "%w", err)
	}
	files := map[string]*strings.Builder{}
	for i, r := range list {
		if i >= shownStrings {
			a.note("of %d string resources %d are compared", len(list), shownStrings)
			break
		}
		values, err := tab.Get(r.ID)
		if err != nil {
			return problem("resources", "%w", err)
		}
		for _, v := range values {
			if v.Bag != nil {
				continue
			}
			b := files[v.Config]
			if b == nil {
				b = &strings.Builder{}
				b.WriteString("<resources>\n")
				files[v.Config] = b
			}
			b.WriteString(`    <string name="` + xml.EncodeAttr(r.Name) + `">` + xml.Encode(escape(a.say(v.Value))) + "</string>\n")
		}
	}
	for config, b := range files {
		dir := "res/values"
		if config != "" {
			dir += "-" + config
		}
		t.Put(dir+"/strings.xml", []byte(b.String()+"</resources>\n"))
	}
	return nil
}

// escape writes a text so that a reader of resource files gets it back: as it is, where that is enough.
func escape(s string) string {
	if s != "" && !strings.ContainsAny(s, "\\\"'\n\t") && !strings.ContainsAny(s[:1], "@?") && strings.Join(strings.Fields(s), " ") == s {
		return s
	}
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, "\n", `\n`, "\t", `\t`).Replace(s) + `"`
}

func (a *Archive) iosTree(t *tree.Tree, f *Facts, sheets []*sheet.Sheet) *survey.Report {
	var apps []survey.ShippedApp
	put := func(name string) {
		if src, err := a.read(name, maxText); err == nil {
			t.Put(name, src)
		}
	}
	for _, x := range f.IOS {
		s := survey.ShippedApp{Dir: x.Path, Extension: x.Kind == "extension", InfoPlist: x.Path + "/Info.plist"}
		put(s.InfoPlist)
		if x.entitlements != nil {
			s.Entitlements = x.Path + "/" + x.Executable + "#entitlements"
			t.Put(s.Entitlements, x.entitlements)
		}
		for _, p := range x.Privacy {
			put(p.Path)
			if path.Dir(p.Path) == x.Path {
				s.Privacy = p.Path
			}
		}
		apps = append(apps, s)
	}
	sort.SliceStable(apps, func(i, j int) bool { return !apps[i].Extension && apps[j].Extension })
	for _, x := range f.Files {
		if src, err := a.text(x.Path, a.format(x, sheets)); err == nil {
			t.Put(x.Path, src)
		}
	}
	return survey.ShippedIOS(t, apps)
}

// resource finds the file of an XML or raw resource by its name, which shrinkers do not keep in the file's.
func (a *Archive) resource(tab table, kind, name string) string {
	list, err := tab.List(kind)
	if err != nil {
		return ""
	}
	for _, r := range list {
		if r.Name != name {
			continue
		}
		if values, err := tab.Get(r.ID); err == nil && len(values) > 0 && values[0].Type == chunk.String {
			if a.Kind == AAB {
				return "base/" + values[0].Text
			}
			return values[0].Text
		}
	}
	return ""
}
