package pbxproj

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"path"
	"slices"
	"strings"

	"ligare/core/syntax/lex"
)

// Step is one insertion of an edit, with the address by which it is found again. Steps are made one after the other,
// each on the file as the one before left it.
type Step struct {
	lex.Insertion
	Address string
}

// ID derives an object's ID from what the object is for, so that two people making the same edit make the same file.
func ID(parts ...string) string {
	sum := sha256.Sum256([]byte(strings.Join(parts, "\x00")))
	return strings.ToUpper(hex.EncodeToString(sum[:12]))
}

// Editor folds edits over a project: every step is applied and the file read again before the next.
type Editor struct {
	*Project
	Steps  []Step
	Shared []string // addresses of what was there already and is needed by this edit as well
}

// Edit starts an edit; a file newer than this package knows is refused.
func (p *Project) Edit() (*Editor, error) {
	if p.Version > Newest {
		return nil, fmt.Errorf("object version %d is newer than %d, the newest that is written safely", p.Version, Newest)
	}
	return &Editor{Project: p}, nil
}

func (e *Editor) do(address string, in lex.Insertion) error {
	out, err := lex.Apply(e.Src, in.Change())
	if err != nil {
		return err
	}
	p, err := Parse(out)
	if err != nil {
		return fmt.Errorf("after inserting %s: %w", address, err)
	}
	at := in.Offset + len(in.Before)
	if start, end, ok := p.Find(address); !ok || start != at || end != at+len(in.Text) {
		return fmt.Errorf("%s was inserted at %d-%d and is read back at %d-%d", address, at, at+len(in.Text), start, end)
	}
	e.Project = p
	e.Steps = append(e.Steps, Step{Insertion: in, Address: address})
	return nil
}

// object inserts an object in ID order among those of its class, making the section if it is the first.
func (e *Editor) object(isa, id, text string) error {
	if e.Objects[id] != nil {
		return nil
	}
	address := "object(" + id + ")"
	same := e.ByISA(isa)
	if len(same) == 0 {
		if err := e.newSection(isa); err != nil {
			return err
		}
		if start, _, ok := e.section(isa); ok {
			return e.do(address, lex.OnLinesAfter(e.Src, start, e.objectIndent(), text))
		}
		objects := e.Top.Get("objects").Dict
		return e.do(address, lex.IntoGroup(e.Src, objects.Open, objects.Close, lex.Indent(e.Src, objects.Open), "\t", text))
	}
	indent := lex.Indent(e.Src, same[0].Entry.Start)
	for _, o := range same {
		if o.ID > id {
			return e.do(address, lex.OnLinesBefore(e.Src, o.Entry.Start, indent, text))
		}
	}
	return e.do(address, lex.OnLinesAfter(e.Src, same[len(same)-1].Entry.End, indent, text))
}

func (e *Editor) objectIndent() string {
	if len(e.Order) > 0 {
		return lex.Indent(e.Src, e.Order[0].Entry.Start)
	}
	return "\t\t"
}

// newSection puts an empty section before the first section of a later class, in a file that has sections at all.
func (e *Editor) newSection(isa string) error {
	var next, last string
	seen := map[string]bool{}
	for _, o := range e.Order {
		if seen[o.ISA] {
			continue
		}
		seen[o.ISA] = true
		if _, _, ok := e.section(o.ISA); !ok {
			continue
		}
		if o.ISA > isa && next == "" {
			next = o.ISA
		}
		last = o.ISA
	}
	text := "/* Begin " + isa + " section */\n/* End " + isa + " section */"
	nl := lex.LineEnd(e.Src)
	text = strings.ReplaceAll(text, "\n", nl)
	switch {
	case next != "":
		start, _, _ := e.section(next)
		return e.do("section("+isa+")", lex.Insertion{Offset: lex.LineStart(e.Src, start), Text: text, After: nl + nl})
	case last != "":
		_, end, _ := e.section(last)
		return e.do("section("+isa+")", lex.Insertion{Offset: end, Before: nl + nl, Text: text})
	}
	return nil
}

// item appends to a list of an object, making the list in key order if there is none.
func (e *Editor) item(owner, key, id, comment string) error {
	o := e.Objects[owner]
	if o == nil {
		return fmt.Errorf("object %s is gone", owner)
	}
	if o.Dict.Get(key) == nil {
		if err := e.entry(o, key, key+" = (\n);"); err != nil {
			return err
		}
		o = e.Objects[owner]
	}
	l := o.Dict.Get(key).List
	if l == nil {
		return fmt.Errorf("%s of object %s is not a list", key, owner)
	}
	for _, it := range l.Items {
		if it.Value.Text == id {
			e.Shared = append(e.Shared, fmt.Sprintf("object(%s)/%s/(%s)", owner, key, id))
			return nil
		}
	}
	address := fmt.Sprintf("object(%s)/%s/(%s)", owner, key, id)
	text := id + " /* " + comment + " */,"
	if n := len(l.Items); n > 0 {
		last := l.Items[n-1]
		if e.Src[last.End-1] != ',' {
			return fmt.Errorf("%s of object %s: the last item has no comma", key, owner)
		}
		if lex.LineStart(e.Src, last.Start) > l.Open {
			return e.do(address, lex.OnLinesAfter(e.Src, last.End, lex.Indent(e.Src, last.Start), text))
		}
		return e.do(address, lex.Insertion{Offset: last.End, Before: " ", Text: text})
	}
	return e.do(address, lex.IntoGroup(e.Src, l.Open, l.Close, lex.Indent(e.Src, l.Open), "\t", text))
}

// entry inserts a key in alphabetical order, isa staying first.
func (e *Editor) entry(o *Object, key, text string) error {
	address := "object(" + o.ID + ")/" + key
	var after *Entry
	for _, x := range o.Dict.Entries {
		if x.Key != "isa" && x.Key > key {
			break
		}
		after = x
	}
	if after == nil {
		return fmt.Errorf("object %s has no isa", o.ID)
	}
	if lex.NextLine(e.Src, after.End) > o.Dict.Close { // all on one line
		return e.do(address, lex.Insertion{Offset: after.End, Before: " ", Text: strings.ReplaceAll(text, "\n", "")})
	}
	return e.do(address, lex.OnLinesAfter(e.Src, after.End, lex.Indent(e.Src, o.Dict.Entries[len(o.Dict.Entries)-1].Start), text))
}

// fileType gives the IDE's name for a kind of file.
func fileType(name string) string {
	switch strings.ToLower(path.Ext(name)) {
	case ".json":
		return "text.json"
	case ".plist", ".xcprivacy":
		return "text.plist.xml"
	case ".entitlements":
		return "text.plist.entitlements"
	case ".xcconfig":
		return "text.xcconfig"
	case ".framework":
		return "wrapper.framework"
	case ".xcframework":
		return "wrapper.xcframework"
	case ".bundle":
		return "\"wrapper.plug-in\""
	case ".xml":
		return "text.xml"
	case ".yaml", ".yml":
		return "text.yaml"
	case ".swift":
		return "sourcecode.swift"
	}
	return "text"
}

// encoding gives the attribute that the IDE writes for texts.
func encoding(name string) string {
	if strings.Contains(fileType(name), "wrapper") {
		return ""
	}
	return "fileEncoding = 4; "
}

// AddResource makes a file part of a target's resources: reference, group, build file, phase. A reference that is
// there already is used. dir is the file's folder relative to the project's folder.
func (e *Editor) AddResource(target, dir, name string) error {
	t := e.target(target)
	if t == nil {
		return fmt.Errorf("no target %q", target)
	}
	full := path.Join(dir, name)
	ref, err := e.AddReference(t, full)
	if err != nil {
		return err
	}
	phase, err := e.phase(e.target(target), "PBXResourcesBuildPhase", "Resources")
	if err != nil {
		return err
	}
	if e.InPhase(phase, ref) {
		return nil
	}
	build := ID("build file", target, full)
	text := fmt.Sprintf("%s /* %s in Resources */ = {isa = PBXBuildFile; fileRef = %s /* %s */; };", build, name, ref, name)
	if err := e.object("PBXBuildFile", build, text); err != nil {
		return err
	}
	return e.item(phase.ID, "files", build, name+" in Resources")
}

// phase gives a build phase of a target, making it if there is none.
func (e *Editor) phase(t *Target, isa, name string) (*Object, error) {
	had := e.Phase(t, isa)
	if had != nil {
		e.Shared = append(e.Shared, "object("+had.ID+")", fmt.Sprintf("object(%s)/buildPhases/(%s)", t.ID, had.ID))
		return had, nil
	}
	id := ID("phase", t.Name, isa)
	text := fmt.Sprintf("%s /* %s */ = {\n\tisa = %s;\n\tbuildActionMask = 2147483647;\n\tfiles = (\n\t);\n\trunOnlyForDeploymentPostprocessing = 0;\n};", id, name, isa)
	if err := e.object(isa, id, text); err != nil {
		return nil, err
	}
	if err := e.item(t.ID, "buildPhases", id, name); err != nil {
		return nil, err
	}
	return e.Objects[id], nil
}

// AddReference makes a file known to the project, in the group of a target's sources, and gives the reference's ID. One
// that is there already is used. full is the file's path relative to the project's folder.
func (e *Editor) AddReference(t *Target, full string) (ref string, err error) {
	for _, r := range e.References() {
		if r.Path == full {
			return r.ID, nil
		}
	}
	group := e.GroupFor(t)
	if group == nil {
		return "", fmt.Errorf("the project has no main group")
	}
	name := path.Base(full)
	ref = ID("reference", full)
	rel, attrs := full, ""
	if base, ok := e.Path(group.ID); ok && (base == "" || strings.HasPrefix(full, base+"/")) {
		rel = strings.TrimPrefix(strings.TrimPrefix(full, base), "/")
	} else if group = e.Objects[e.Root.Dict.Text("mainGroup")]; group == nil {
		return "", fmt.Errorf("the project has no main group")
	}
	if rel != name {
		attrs = "name = " + Quote(name) + "; "
	}
	text := fmt.Sprintf("%s /* %s */ = {isa = PBXFileReference; %slastKnownFileType = %s; %spath = %s; sourceTree = \"<group>\"; };",
		ref, name, encoding(name), fileType(name), attrs, Quote(rel))
	if err := e.object("PBXFileReference", ref, text); err != nil {
		return "", err
	}
	return ref, e.item(group.ID, "children", ref, name)
}

// SetSetting gives a configuration a build setting of its own that it does not have yet, in key order. It returns an
// error for a configuration without settings, which the IDE does not write.
func (e *Editor) SetSetting(config *Object, key, value string) error {
	settings := config.Dict.Get("buildSettings")
	if settings == nil || settings.Dict == nil {
		return fmt.Errorf("configuration %s has no build settings", config.Dict.Text("name"))
	}
	address := "object(" + config.ID + ")/buildSettings/" + key
	text := Quote(key) + " = " + Quote(value) + ";"
	d := settings.Dict
	for _, x := range d.Entries {
		if x.Key > key {
			if lex.LineStart(e.Src, x.Start) <= d.Open {
				break
			}
			return e.do(address, lex.OnLinesBefore(e.Src, x.Start, lex.Indent(e.Src, x.Start), text))
		}
	}
	return e.do(address, lex.IntoGroup(e.Src, d.Open, d.Close, lex.Indent(e.Src, d.Open), "\t", text))
}

// AddPackage makes a target link a product of a remote Swift package from a version on: all five parts.
func (e *Editor) AddPackage(target, url, version, product string) error {
	t := e.target(target)
	if t == nil {
		return fmt.Errorf("no target %q", target)
	}
	name := strings.TrimSuffix(path.Base(url), ".git")
	phase, err := e.phase(t, "PBXFrameworksBuildPhase", "Frameworks")
	if err != nil {
		return err
	}
	t = e.target(target)
	pkg := ""
	for _, p := range e.Packages(t) {
		if SamePackage(p.URL, url) {
			pkg = p.ID
			if slices.Contains(p.Products, product) {
				return nil
			}
			e.Shared = append(e.Shared, "object("+pkg+")", fmt.Sprintf("object(%s)/packageReferences/(%s)", e.Root.ID, pkg))
		}
	}
	label := fmt.Sprintf("XCRemoteSwiftPackageReference %q", name)
	if pkg == "" {
		pkg = ID("package", url)
		text := fmt.Sprintf("%s /* %s */ = {\n\tisa = XCRemoteSwiftPackageReference;\n\trepositoryURL = %s;\n\trequirement = {\n\t\tkind = upToNextMajorVersion;\n\t\tminimumVersion = %s;\n\t};\n};",
			pkg, label, Quote(url), Quote(version))
		if err := e.object("XCRemoteSwiftPackageReference", pkg, text); err != nil {
			return err
		}
		if err := e.item(e.Root.ID, "packageReferences", pkg, label); err != nil {
			return err
		}
	}
	dep := ID("product", target, url, product)
	text := fmt.Sprintf("%s /* %s */ = {\n\tisa = XCSwiftPackageProductDependency;\n\tpackage = %s /* %s */;\n\tproductName = %s;\n};",
		dep, product, pkg, label, Quote(product))
	if err := e.object("XCSwiftPackageProductDependency", dep, text); err != nil {
		return err
	}
	if err := e.item(t.ID, "packageProductDependencies", dep, product); err != nil {
		return err
	}
	build := ID("linked", target, url, product)
	text = fmt.Sprintf("%s /* %s in Frameworks */ = {isa = PBXBuildFile; productRef = %s /* %s */; };", build, product, dep, product)
	if err := e.object("PBXBuildFile", build, text); err != nil {
		return err
	}
	return e.item(phase.ID, "files", build, product+" in Frameworks")
}

// SamePackage compares package addresses as the IDE does: without the .git ending, host in any case.
func SamePackage(a, b string) bool {
	norm := func(s string) string { return strings.ToLower(strings.TrimSuffix(strings.TrimSuffix(s, "/"), ".git")) }
	return norm(a) == norm(b)
}

func (e *Editor) target(name string) *Target {
	for _, t := range e.Targets() {
		if t.Name == name {
			return t
		}
	}
	return nil
}
