package wiring

import (
	"fmt"
	"path"
	"strings"

	"ligare/core/survey"
	"ligare/core/syntax/json"
	"ligare/core/syntax/lex"
	"ligare/core/syntax/xml"
	"ligare/core/syntax/yaml"
)

// manifestEnsure sees to an entry of a framework's package manifest: package.json, pubspec.yaml, the engine's
// manifest.json, or the package references of a .NET project.
type manifestEnsure struct{}

// framework gives the framework that a want's site lies under.
func (in Input) framework(w *Want) *survey.Framework {
	if w.site.framework != nil {
		return w.site.framework
	}
	name, dir := "", ""
	if w.site.module != nil {
		name, dir = w.site.module.Framework, w.site.module.Dir
	} else {
		name, dir = w.site.project.Framework, w.site.project.Dir
	}
	var out *survey.Framework
	for _, f := range in.Survey.Frameworks {
		if f.Name == name && (f.Dir == "." || strings.HasPrefix(dir+"/", f.Dir+"/")) && (out == nil || len(f.Dir) > len(out.Dir)) {
			out = f
		}
	}
	return out
}

// file gives the manifest; "" where the layout has none.
func (manifestEnsure) file(in Input, w *Want) string {
	f := in.framework(w)
	if f == nil {
		return ""
	}
	if named := w.settings["file"]; named != "package-manifest" {
		return path.Join(f.Dir, named)
	}
	switch f.Name {
	case "flutter":
		return path.Join(f.Dir, "pubspec.yaml")
	case "engine":
		return path.Join(f.Dir, "Packages/manifest.json")
	case "dotnet":
		for _, m := range in.Survey.Android.Modules {
			if m.Layout == "dotnet" && m.Dir == f.Dir {
				return m.BuildFile
			}
		}
		for _, p := range in.Survey.IOS.Projects {
			if p.Layout == "dotnet" && p.Dir == f.Dir {
				return p.Path
			}
		}
		return ""
	}
	return path.Join(f.Dir, "package.json")
}

// listed is a package as a manifest lists it.
type listed struct {
	group   string // the list: dependencies, devDependencies
	version string
	at      Place
}

// lists are those in which a package manifest may name a package, the one that ships first.
var manifestLists = []string{"dependencies", "devDependencies", "dev_dependencies", "peerDependencies", "optionalDependencies"}

func (e manifestEnsure) find(in Input, w *Want, file string) ([]listed, error) {
	src, err := in.Tree.Read(file)
	if err != nil {
		return nil, fmt.Errorf("%s is not there", file)
	}
	name := w.Params["name"]
	var out []listed
	switch path.Ext(file) {
	case ".yaml":
		docs, err := yaml.Parse(src)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", file, err)
		}
		for _, l := range manifestLists {
			if len(docs) > 0 && docs[0].Get(l, name) != nil {
				v := docs[0].Get(l, name)
				out = append(out, listed{l, v.Text, Place{file, v.Line, v.Column}})
			}
		}
	case ".json":
		f, err := json.Parse(src)
		if err != nil {
			return nil, fmt.Errorf("%s:%w", file, err)
		}
		for _, l := range manifestLists {
			if v := f.Root.Get(l).Get(name); v != nil {
				out = append(out, listed{l, v.Text, place(file, src, v.Start)})
			}
		}
	default:
		d := xml.Parse(src)
		if err := d.Err(); err != nil {
			return nil, fmt.Errorf("%s:%w", file, err)
		}
		d.Top.Each(func(x *xml.Element) {
			if a := x.Attr("Include"); x.Name == "PackageReference" && a != nil && strings.EqualFold(a.Value, name) {
				l := listed{group: "dependencies", at: place(file, src, x.Node.Start)}
				if v := x.Attr("Version"); v != nil {
					l.version = v.Value
				} else if v := x.Child("Version"); v != nil {
					l.version = strings.TrimSpace(d.Text(v))
				} else {
					l.version = e.central(in, file, name)
				}
				out = append(out, l)
			}
		})
	}
	return out, nil
}

// centralFile gives the file that manages the versions of all projects, "" for none (Directory.Packages.props).
func (manifestEnsure) centralFile(in Input, file string) string {
	for dir := path.Dir(file); ; dir = path.Dir(dir) {
		if at := path.Join(dir, "Directory.Packages.props"); in.Tree.Has(at) {
			return at
		}
		if dir == "." {
			return ""
		}
	}
}

func (e manifestEnsure) central(in Input, file, name string) string {
	src, err := in.Tree.Read(e.centralFile(in, file))
	if err != nil {
		return ""
	}
	out := ""
	if d := xml.Parse(src); d.Err() == nil {
		d.Top.Each(func(x *xml.Element) {
			if a, v := x.Attr("Include"), x.Attr("Version"); x.Name == "PackageVersion" && a != nil && v != nil && strings.EqualFold(a.Value, name) {
				out = v.Value
			}
		})
	}
	return out
}

func (e manifestEnsure) look(in Input, w *Want) Answer {
	file, name, version := e.file(in, w), w.Params["name"], w.Params["version"]
	if file == "" {
		return Answer{State: Unknown, Code: "manifest-unknown", Detail: "no package manifest was found for " + w.site.String()}
	}
	found, err := e.find(in, w, file)
	if err != nil {
		return Answer{State: Unknown, Code: "manifest-unreadable", Here: Place{File: file}, Detail: err.Error()}
	}
	switch {
	case len(found) == 0:
		return Answer{State: Absent, Code: "package-entry-missing", Here: Place{File: file}, Expected: name + " " + version, Fixable: true, Detail: file + " does not name " + name}
	case len(found) > 1:
		return Answer{State: Twice, Code: "package-entry-twice", Here: found[1].at, Others: []Place{found[0].at}, Detail: fmt.Sprintf("%s names %s twice: under %s and under %s", file, name, found[0].group, found[1].group)}
	case found[0].group != "dependencies":
		return Answer{State: WrongPlace, Code: "package-entry-misplaced", Here: found[0].at, Expected: "under dependencies", Actual: "under " + found[0].group,
			Detail: fmt.Sprintf("%s stands under %s and does not come into the app", name, found[0].group)}
	case found[0].version == version:
		return Answer{State: Right, Here: found[0].at}
	case found[0].version == "": // a path, a repository, a workspace
		return Answer{State: OtherForm, Here: found[0].at, Detail: "it comes from another place than a registry"}
	}
	return Answer{State: Conflicting, Code: "package-entry-version", Here: found[0].at, Expected: version, Actual: found[0].version, Fixable: true,
		Detail: fmt.Sprintf("%s is at %s; %s is wanted", name, found[0].version, version)}
}

func (e manifestEnsure) make(in Input, w *Want, a Answer, p *Plan) error {
	file, name, version := e.file(in, w), w.Params["name"], w.Params["version"]
	if a.State == WrongPlace {
		return nil
	}
	p.Next = append(p.Next, "install the packages of "+folder(file)+" again, so that the lock file follows")
	src, err := in.Tree.Read(file)
	if err != nil {
		return err
	}
	switch path.Ext(file) {
	case ".yaml":
		address := yaml.Step("dependencies") + yaml.Step(name)
		if a.State == Conflicting {
			return p.replace(w, file, address, name+": "+yaml.Scalar(version))
		}
		if _, _, ok := yaml.Find(src, "/dependencies"); !ok {
			into, err := yaml.Add(src, "", "dependencies", "")
			if err != nil {
				return fmt.Errorf("%s: %w", file, err)
			}
			if err := p.insert(w, file, "/dependencies", into); err != nil {
				return err
			}
			if src, err = in.Tree.Read(file); err != nil {
				return err
			}
		}
		into, err := yaml.Add(src, "/dependencies", name, yaml.Scalar(version))
		if err != nil {
			return fmt.Errorf("%s: %w", file, err)
		}
		return p.insert(w, file, address, into)
	case ".json":
		f, err := json.Parse(src)
		if err != nil {
			return fmt.Errorf("%s:%w", file, err)
		}
		address := "/dependencies" + json.Step(name)
		if a.State == Conflicting {
			return p.replace(w, file, address, json.Quote(name)+": "+json.Quote(version))
		}
		if f.Root.Get("dependencies") == nil {
			nl := "\n"
			if err := p.insert(w, file, "/dependencies", f.Add(f.Root, "dependencies", "{"+nl+"}")); err != nil {
				return err
			}
			if src, err = in.Tree.Read(file); err != nil {
				return err
			}
			if f, err = json.Parse(src); err != nil {
				return fmt.Errorf("%s:%w", file, err)
			}
		}
		list := f.Root.Get("dependencies")
		if list.Kind != json.Object {
			return fmt.Errorf("%s: dependencies is not an object", place(file, src, list.Start))
		}
		return p.insert(w, file, address, f.Add(list, name, json.Quote(version)))
	}
	return e.reference(in, w, a, p, file)
}

// reference writes a package reference of a .NET project: in an item group that has some and holds for every target,
// else in one of its own; the version goes where the tree keeps versions.
func (e manifestEnsure) reference(in Input, w *Want, a Answer, p *Plan, file string) error {
	name, version := w.Params["name"], w.Params["version"]
	central := e.centralFile(in, file)
	if a.State == Conflicting {
		at, word := file, "PackageReference"
		if central != "" && e.central(in, file, name) != "" {
			at, word = central, "PackageVersion"
		}
		src, err := in.Tree.Read(at)
		if err != nil {
			return err
		}
		d := xml.Parse(src)
		address := "/Project//" + strings.TrimPrefix(xml.Step(word, "Include", name), "/")
		x, ok := d.Find(address)
		if !ok || x.Attr("Version") == nil {
			return nil // written as an element of its own: left to a person
		}
		return p.replace(w, at, address+"/@Version", "Version=\""+xml.EncodeAttr(version)+"\"")
	}
	text := fmt.Sprintf("<PackageReference Include=\"%s\" Version=\"%s\" />", xml.EncodeAttr(name), xml.EncodeAttr(version))
	if central != "" {
		text = fmt.Sprintf("<PackageReference Include=\"%s\" />", xml.EncodeAttr(name))
		if e.central(in, file, name) == "" {
			if err := e.item(in, w, p, central, "PackageVersion", fmt.Sprintf("<PackageVersion Include=\"%s\" Version=\"%s\" />", xml.EncodeAttr(name), xml.EncodeAttr(version))); err != nil {
				return err
			}
		}
	}
	return e.item(in, w, p, file, "PackageReference", text)
}

// item inserts an item into the first item group without a condition that holds items of its kind.
func (manifestEnsure) item(in Input, w *Want, p *Plan, file, word, text string) error {
	src, err := in.Tree.Read(file)
	if err != nil {
		return err
	}
	d := xml.Parse(src)
	if err := d.Err(); err != nil {
		return fmt.Errorf("%s:%w", file, err)
	}
	address := "/Project//" + strings.TrimPrefix(xml.Step(word, "Include", w.Params["name"]), "/")
	for _, g := range d.Top.Children {
		if g.Name == "ItemGroup" && g.Attr("Condition") == nil && g.Child(word) != nil && !g.Empty {
			into, err := d.Into(g, text)
			if err != nil {
				return fmt.Errorf("%s:%w", file, err)
			}
			return p.insert(w, file, address, into)
		}
	}
	unit := lex.Unit(src)
	into, err := d.Into(d.Top, "<ItemGroup>\n"+unit+text+"\n</ItemGroup>")
	if err != nil {
		return fmt.Errorf("%s:%w", file, err)
	}
	n := 1
	for _, g := range d.Top.Children {
		if g.Name == "ItemGroup" {
			n++
		}
	}
	return p.insert(w, file, fmt.Sprintf("/Project/ItemGroup[%d]", n), into)
}
