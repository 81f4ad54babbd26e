package pbxproj

import (
	"path"
	"sort"
	"strings"
)

// Target is one native target with what it builds.
type Target struct {
	*Object
	Name        string
	ProductType string // com.apple.product-type.application, ...
	Configs     []*Object
}

// Test reports whether the target builds tests.
func (t *Target) Test() bool { return strings.Contains(t.ProductType, "bundle.u") }

// Targets gives the native targets in the project's order.
func (p *Project) Targets() []*Target {
	var out []*Target
	for _, id := range p.Root.Dict.Texts("targets") {
		o := p.Objects[id]
		if o == nil || o.ISA != "PBXNativeTarget" {
			continue
		}
		out = append(out, &Target{Object: o, Name: o.Dict.Text("name"), ProductType: o.Dict.Text("productType"),
			Configs: p.Configs(o.Dict.Text("buildConfigurationList"))})
	}
	return out
}

// Configs gives the build configurations of a configuration list.
func (p *Project) Configs(list string) []*Object {
	var out []*Object
	if l := p.Objects[list]; l != nil {
		for _, id := range l.Dict.Texts("buildConfigurations") {
			if c := p.Objects[id]; c != nil {
				out = append(out, c)
			}
		}
	}
	return out
}

// ProjectConfigs gives the project's own build configurations.
func (p *Project) ProjectConfigs() []*Object {
	return p.Configs(p.Root.Dict.Text("buildConfigurationList"))
}

// Phase gives a target's first build phase of a class, or nil.
func (p *Project) Phase(t *Target, isa string) *Object {
	for _, id := range t.Dict.Texts("buildPhases") {
		if o := p.Objects[id]; o != nil && o.ISA == isa {
			return o
		}
	}
	return nil
}

// InPhase reports whether a file reference (or a variant group holding it) is built by a phase.
func (p *Project) InPhase(phase *Object, ref string) bool {
	if phase == nil {
		return false
	}
	for _, id := range phase.Dict.Texts("files") {
		if b := p.Objects[id]; b != nil && b.Dict.Text("fileRef") == ref {
			return true
		}
	}
	return false
}

// parents maps each object that is a child of a group to that group; it is worked out once.
func (p *Project) parents() map[string]*Object {
	if p.up != nil {
		return p.up
	}
	out := map[string]*Object{}
	p.up = out
	for _, o := range p.Order {
		for _, c := range o.Dict.Texts("children") {
			if out[c] == nil {
				out[c] = o
			}
		}
	}
	return out
}

// Path gives where a file reference or group lies, relative to the folder that holds the project. ok is false when
// the chain of groups leads outside the source (a build product, the SDK, an absolute path).
func (p *Project) Path(id string) (where string, ok bool) {
	parents := p.parents()
	root := p.Root.Dict.Text("projectDirPath")
	where = ""
	for range len(p.Order) + 1 { // a cycle of groups ends the walk
		o := p.Objects[id]
		if o == nil {
			return "", false
		}
		where = path.Join(o.Dict.Text("path"), where)
		switch o.Dict.Text("sourceTree") {
		case "SOURCE_ROOT":
			return path.Join(root, where), true
		case "<group>":
		default:
			return where, false
		}
		up := parents[id]
		if up == nil {
			if id == p.Root.Dict.Text("mainGroup") {
				return path.Join(root, where), true
			}
			return where, false
		}
		id = up.ID
	}
	return "", false
}

// Reference is a file the project knows.
type Reference struct {
	*Object
	Path    string   // relative to the project's folder
	Targets []string // targets whose resources hold it
}

// References gives the file references that lie in the source, in path order.
func (p *Project) References() []Reference {
	built := map[string][]string{} // reference -> targets whose resources hold it
	for _, t := range p.Targets() {
		if phase := p.Phase(t, "PBXResourcesBuildPhase"); phase != nil {
			for _, id := range phase.Dict.Texts("files") {
				if b := p.Objects[id]; b != nil {
					ref := b.Dict.Text("fileRef")
					if n := len(built[ref]); n == 0 || built[ref][n-1] != t.Name {
						built[ref] = append(built[ref], t.Name)
					}
				}
			}
		}
	}
	var out []Reference
	for _, o := range p.ByISA("PBXFileReference") {
		where, ok := p.Path(o.ID)
		if !ok {
			continue
		}
		out = append(out, Reference{Object: o, Path: where, Targets: built[o.ID]})
	}
	sort.SliceStable(out, func(i, j int) bool { return out[i].Path < out[j].Path })
	return out
}

// SyncFolder is a folder whose files belong to targets by lying in it (object version 77).
type SyncFolder struct {
	Path    string
	Targets []string
	Except  map[string][]string // target name -> paths inside the folder that do not belong to it
}

// SyncFolders gives the file-system-synchronised folders.
func (p *Project) SyncFolders() []SyncFolder {
	var out []SyncFolder
	for _, o := range p.ByISA("PBXFileSystemSynchronizedRootGroup") {
		where, ok := p.Path(o.ID)
		if !ok {
			continue
		}
		f := SyncFolder{Path: where, Except: map[string][]string{}}
		for _, t := range p.Targets() {
			for _, id := range t.Dict.Texts("fileSystemSynchronizedGroups") {
				if id == o.ID {
					f.Targets = append(f.Targets, t.Name)
				}
			}
		}
		for _, id := range o.Dict.Texts("exceptions") {
			x := p.Objects[id]
			if x == nil {
				continue
			}
			if t := p.Objects[x.Dict.Text("target")]; t != nil {
				name := t.Dict.Text("name")
				f.Except[name] = append(f.Except[name], x.Dict.Texts("membershipExceptions")...)
			}
		}
		out = append(out, f)
	}
	return out
}

// GroupFor gives the group whose folder a target's sources lie in: the one that holds the first file of its sources
// phase, else the main group.
func (p *Project) GroupFor(t *Target) *Object {
	parents := p.parents()
	if phase := p.Phase(t, "PBXSourcesBuildPhase"); phase != nil {
		for _, id := range phase.Dict.Texts("files") {
			if b := p.Objects[id]; b != nil {
				if g := parents[b.Dict.Text("fileRef")]; g != nil && g.ISA == "PBXGroup" {
					return g
				}
			}
		}
	}
	return p.Objects[p.Root.Dict.Text("mainGroup")]
}

// SourceDir gives the folder, relative to the project's, in which the first of a target's own sources lies.
func (p *Project) SourceDir(t *Target) string {
	if phase := p.Phase(t, "PBXSourcesBuildPhase"); phase != nil {
		for _, id := range phase.Dict.Texts("files") {
			if b := p.Objects[id]; b != nil {
				if where, ok := p.Path(b.Dict.Text("fileRef")); ok {
					return path.Dir(where)
				}
			}
		}
	}
	return "."
}

// Package is a Swift package the project uses.
type Package struct {
	*Object
	URL      string // of a remote package, or the path of a local one
	Products []string
}

// Packages gives the Swift packages a target links, and those the project only references (with no products).
func (p *Project) Packages(t *Target) []Package {
	var out []Package
	for _, id := range p.Root.Dict.Texts("packageReferences") {
		o := p.Objects[id]
		if o == nil {
			continue
		}
		pk := Package{Object: o, URL: o.Dict.Text("repositoryURL")}
		if pk.URL == "" {
			pk.URL = o.Dict.Text("relativePath")
		}
		for _, dep := range t.Dict.Texts("packageProductDependencies") {
			d := p.Objects[dep]
			if d != nil && d.Dict.Text("package") == id && p.linked(t, dep) {
				pk.Products = append(pk.Products, d.Dict.Text("productName"))
			}
		}
		out = append(out, pk)
	}
	return out
}

func (p *Project) linked(t *Target, product string) bool {
	phase := p.Phase(t, "PBXFrameworksBuildPhase")
	if phase == nil {
		return false
	}
	for _, id := range phase.Dict.Texts("files") {
		if b := p.Objects[id]; b != nil && b.Dict.Text("productRef") == product {
			return true
		}
	}
	return false
}
