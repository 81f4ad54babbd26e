package wiring

import (
	"fmt"
	"slices"
	"strings"

	"ligare/core/syntax/gradle"
	"ligare/core/syntax/lex"
	"ligare/core/syntax/podfile"
	"ligare/core/syntax/toml"
)

// buildEnsure sees to a call or entry inside a block of a given role in a build file.
type buildEnsure struct{}

func (e buildEnsure) look(in Input, w *Want) Answer {
	switch w.settings["role"] {
	case "repositories":
		return e.lookRepository(in, w)
	case "dependencies":
		return e.lookDependency(in, w)
	case "pods":
		return e.lookPod(in, w)
	case "plugins":
		return e.lookPlugin(in, w)
	case "default-config":
		return e.lookDefault(in, w)
	case "build-types":
		return e.lookSigning(in, w)
	case "modules":
		return e.lookModule(in, w)
	}
	return Answer{State: Unknown, Code: "role-unknown", Detail: "no build-file role " + w.settings["role"]}
}

func (e buildEnsure) make(in Input, w *Want, a Answer, p *Plan) error {
	switch w.settings["role"] {
	case "repositories":
		return e.makeRepository(in, w, p)
	case "dependencies":
		return e.makeDependency(in, w, a, p)
	case "pods":
		return e.makePod(in, w, a, p)
	case "plugins":
		return e.makePlugin(in, w, a, p)
	case "default-config":
		return e.makeDefault(in, w, a, p)
	case "build-types":
		return e.makeSigning(in, w, a, p)
	case "modules":
		return e.makeModule(in, w, p)
	}
	return nil
}

// central says whether the settings file manages the repositories of all projects.
func (in Input) central(w *Want) (file string, f *gradle.File) {
	file = w.site.module.Build().Settings
	if f = in.gradle(file); f != nil && f.Block("dependencyResolutionManagement", "repositories") != nil {
		return file, f
	}
	return "", nil
}

func (e buildEnsure) lookRepository(in Input, w *Want) Answer {
	b := w.site.module.Build()
	url := strings.TrimSuffix(w.Params["url"], "/")
	var serves, elsewhere []Place
	scan := func(name string, good func(path []string) bool) {
		f := in.gradle(name)
		if f == nil {
			return
		}
		for _, s := range f.Settings() {
			if u := f.URL(s.Stmt); u == "" || len(s.Path) == 0 || strings.TrimSuffix(u, "/") != url || s.Path[len(s.Path)-1] != "maven" {
				continue
			}
			if at := place(name, f.Src, s.Start); good(s.Path) {
				serves = append(serves, at)
			} else {
				elsewhere = append(elsewhere, at)
			}
		}
	}
	central, _ := in.central(w)
	scan(b.Settings, func(p []string) bool { return p[0] == "dependencyResolutionManagement" })
	if b.RootFile != w.site.module.BuildFile {
		scan(b.RootFile, func(p []string) bool { return p[0] == "allprojects" || p[0] == "subprojects" })
	}
	scan(w.site.module.BuildFile, func(p []string) bool { return p[0] == "repositories" })
	switch {
	case len(serves) > 1:
		return Answer{State: Twice, Code: "repository-twice", Here: serves[1], Others: serves[:1], Detail: "the repository " + url + " stands twice"}
	case len(serves) == 1 && central != "" && serves[0].File != central:
		return Answer{State: OtherForm, Here: serves[0], Detail: "it stands in a project, while the settings file manages repositories"}
	case len(serves) == 1:
		return Answer{State: Right, Here: serves[0]}
	case len(elsewhere) > 0:
		return Answer{State: WrongPlace, Code: "repository-misplaced", Here: elsewhere[0], Expected: url, Fixable: true,
			Detail: "the repository stands where only plugins are looked up, not libraries"}
	}
	at := b.RootFile
	if central != "" {
		at = central
	}
	return Answer{State: Absent, Code: "repository-missing", Here: Place{File: at}, Expected: url, Fixable: true, Detail: "no file of the build names the repository " + url}
}

func (e buildEnsure) makeRepository(in Input, w *Want, p *Plan) error {
	url := w.Params["url"]
	text := func(f *gradle.File) string {
		if f.Kotlin {
			return "maven {\n" + f.Unit() + "url = uri(" + f.Quote(url) + ")\n}"
		}
		return "maven {\n" + f.Unit() + "url = " + f.Quote(url) + "\n}"
	}
	into := func(name string, f *gradle.File, path ...string) error {
		address := strings.Join(path, "/") + "/" + gradle.Step("maven", url)
		return p.into(w, name, f, path, address, text(f))
	}
	if name, f := in.central(w); f != nil {
		return into(name, f, "dependencyResolutionManagement", "repositories")
	}
	name, path := w.site.module.Build().RootFile, []string{"allprojects", "repositories"}
	if in.gradle(name) == nil {
		name, path = w.site.module.BuildFile, []string{"repositories"}
	}
	if err := e.blocks(in, w, p, name, path); err != nil {
		return err
	}
	return into(name, in.gradle(name), path...)
}

// shipping configurations carry a library into the app.
var shipping = map[string]bool{"implementation": true, "api": true, "compile": true}

func (e buildEnsure) lookDependency(in Input, w *Want) Answer {
	name := w.site.module.BuildFile
	f := in.gradle(name)
	if f == nil {
		return Answer{State: Unknown, Code: "build-file-unreadable", Here: Place{File: name}, Detail: name + " cannot be read"}
	}
	module, version := w.Params["module"], w.Params["version"]
	var hits []Place
	var out Answer
	for _, d := range f.Dependencies("dependencies") {
		got, have := d.Group+":"+d.Name, d.Literal
		form := ""
		if d.Alias != "" {
			m, v, ok := in.libraryOf(w, d.Alias)
			if !ok {
				continue
			}
			got, have, form = m, v, "through the version catalog"
		}
		if got != module {
			continue
		}
		at := place(name, f.Src, d.Start)
		if !shipping[d.Config] {
			if len(hits) == 0 && out.State == "" {
				out = Answer{State: WrongPlace, Code: "dependency-misplaced", Here: at, Expected: w.settings["configuration"], Actual: d.Config, Fixable: true,
					Detail: fmt.Sprintf("%s stands under %s, which does not reach every build of the app", module, d.Config)}
			}
			continue
		}
		hits = append(hits, at)
		switch {
		case d.Version != nil:
			out = Answer{State: OtherForm, Here: at, Detail: "its version comes from " + f.Text(d.Version)}
		case have != "" && have != version:
			if d.Alias != "" {
				at = in.versionAt(w, d.Alias, at)
			}
			out = Answer{State: Conflicting, Code: "dependency-version", Here: at, Expected: version, Actual: have, Fixable: d.Alias == "" || in.versioned(w, d.Alias, have) != "",
				Detail: fmt.Sprintf("%s is at %s; %s is wanted", module, have, version)}
		case form != "" || d.Cond != "" || d.Config != w.settings["configuration"]:
			out = Answer{State: OtherForm, Here: at, Detail: strings.TrimSpace(form + " " + d.Cond)}
		default:
			out = Answer{State: Right, Here: at}
		}
	}
	if len(hits) > 1 {
		return Answer{State: Twice, Code: "dependency-twice", Here: hits[1], Others: hits[:1], Detail: module + " stands twice"}
	}
	if out.State == "" {
		return Answer{State: Absent, Code: "dependency-missing", Here: Place{File: name}, Expected: module + ":" + version, Fixable: true, Detail: name + " does not depend on " + module}
	}
	return out
}

func (e buildEnsure) makeDependency(in Input, w *Want, a Answer, p *Plan) error {
	name := w.site.module.BuildFile
	f := in.gradle(name)
	notation := w.Params["module"] + ":" + w.Params["version"]
	if a.State == Conflicting {
		for _, d := range f.Dependencies("dependencies") {
			if d.Alias != "" && shipping[d.Config] {
				module, have, _ := in.libraryOf(w, d.Alias)
				if address := in.versioned(w, d.Alias, have); module == w.Params["module"] && address != "" {
					catalog, _ := in.catalog(w)
					src, err := in.Tree.Read(catalog)
					if err != nil {
						return err
					}
					start, end, _ := toml.Find(src, address)
					return p.replace(w, catalog, address, strings.Replace(string(src[start:end]), have, w.Params["version"], 1))
				}
			}
			if d.Group+":"+d.Name == w.Params["module"] && shipping[d.Config] {
				old := gradle.Step(d.Config, f.Key(d.Stmt))
				text := strings.Replace(string(f.Src[d.Start:d.End]), d.Notation, notation, 1)
				if text == string(f.Src[d.Start:d.End]) {
					return nil // written in parts: left to a person
				}
				return p.replaceMoved(w, name, "dependencies/"+old, "dependencies/"+gradle.Step(d.Config, notation), text)
			}
		}
		return nil
	}
	if f.Block("dependencies") == nil {
		if err := p.insert(w, name, "dependencies", f.Append("dependencies {\n}")); err != nil {
			return err
		}
		f = in.gradle(name)
	}
	config := w.settings["configuration"]
	if catalog, _ := in.catalog(w); catalog != "" && cataloged(f) {
		alias := libraryAlias(w.Service, w.Params["module"])
		if err := e.intoCatalog(in, w, p, catalog, "libraries", alias, fmt.Sprintf("{ module = %q, version = %q }", w.Params["module"], w.Params["version"])); err != nil {
			return err
		}
		accessor := "libs." + strings.NewReplacer("-", ".", "_", ".").Replace(alias)
		text := config + "(" + accessor + ")"
		if !f.Kotlin && !parenthesised(f) {
			text = config + " " + accessor
		}
		f = in.gradle(name)
		return p.into(w, name, f, []string{"dependencies"}, "dependencies/"+gradle.Step(config, accessor), text)
	}
	text := config + "(" + f.Quote(notation) + ")"
	if !f.Kotlin && !parenthesised(f) {
		text = config + " " + f.Quote(notation)
	}
	return p.into(w, name, f, []string{"dependencies"}, "dependencies/"+gradle.Step(config, notation), text)
}

// noAccessor are the words that cannot be a part of a library's accessor: those that Kotlin keeps to itself, and those that
// Gradle does (Gradle user guide, "Using a catalog": aliases).
var noAccessor = strings.Fields("as break class continue do else false for fun if in interface is null object package return super this throw true try typealias typeof val var when while " +
	"extensions convention")

// libraryAlias makes the name of a library in a version catalog from its service and its artifact.
func libraryAlias(service, module string) string {
	artifact := strings.ToLower(module[strings.LastIndexByte(module, ':')+1:])
	parts := strings.FieldsFunc(artifact, func(r rune) bool { return r == '-' || r == '_' || r == '.' })
	if slices.ContainsFunc(parts, func(p string) bool { return contains(noAccessor, p) }) {
		for i, p := range parts[1:] {
			parts[i+1] = strings.ToUpper(p[:1]) + p[1:]
		}
		artifact = strings.Join(parts, "")
		if len(parts) == 1 {
			artifact += "Library"
		}
	}
	return service + "-" + artifact
}

// cataloged reports whether a file takes all of its libraries from the version catalog.
func cataloged(f *gradle.File) bool {
	any := false
	for _, d := range f.Dependencies("dependencies") {
		if d.Notation != "" {
			return false
		}
		any = any || d.Alias != ""
	}
	return any
}

// versioned gives the address of a library's line in the catalog, if that line itself says the version, once; "" where
// other libraries may share it.
func (in Input) versioned(w *Want, alias, version string) string {
	name, c := in.catalog(w)
	if c == nil || version == "" {
		return ""
	}
	for _, suffix := range []string{".version", ""} {
		if x, ok := c.Accessor("libraries", alias, suffix); ok {
			address := "/libraries/" + strings.TrimSuffix(strings.TrimPrefix(x.Path, "libraries."), suffix)
			src, err := in.Tree.Read(name)
			if err != nil {
				return ""
			}
			if start, end, ok := toml.Find(src, address); ok && strings.Count(string(src[start:end]), version) == 1 {
				return address
			}
		}
	}
	return ""
}

// versionAt gives where the version behind a library's accessor stands in the catalog.
func (in Input) versionAt(w *Want, alias string, otherwise Place) Place {
	name, c := in.catalog(w)
	if c == nil {
		return otherwise
	}
	if ref, ok := c.Accessor("libraries", alias, ".version.ref"); ok {
		for _, suffix := range []string{"", ".strictly", ".require", ".prefer"} {
			if e, found := c.Accessor("versions", ref.Value, suffix); found {
				return Place{File: name, Line: e.Line, Column: e.Column}
			}
		}
	}
	for _, suffix := range []string{".version", ""} {
		if e, ok := c.Accessor("libraries", alias, suffix); ok && e.Line > 0 {
			return Place{File: name, Line: e.Line, Column: e.Column}
		}
	}
	return otherwise
}

// libraryOf gives the coordinates and the version behind a library's accessor in the catalog, as it stands.
func (in Input) libraryOf(w *Want, alias string) (module, version string, ok bool) {
	_, c := in.catalog(w)
	if c == nil {
		return w.site.module.Build().Library(alias)
	}
	get := func(suffix string) string { e, _ := c.Accessor("libraries", alias, suffix); return e.Value }
	if whole := get(""); whole != "" {
		parts := strings.SplitN(whole+"::", ":", 4)
		return parts[0] + ":" + parts[1], parts[2], true
	}
	if module = get(".module"); module == "" && get(".name") != "" {
		module = get(".group") + ":" + get(".name")
	}
	if version = get(".version"); version == "" {
		if ref := get(".version.ref"); ref != "" {
			for _, suffix := range []string{"", ".strictly", ".require", ".prefer"} {
				if e, found := c.Accessor("versions", ref, suffix); found {
					version = e.Value
				}
			}
		}
	}
	return module, version, module != ""
}

// parenthesised reports whether a Groovy file writes its dependencies as calls with parentheses.
func parenthesised(f *gradle.File) bool {
	for _, d := range f.Dependencies("dependencies") {
		if end := d.Start + len(d.Config); end < len(f.Src) {
			return f.Src[end] == '('
		}
	}
	return false
}

// replaceMoved exchanges a span whose address changes with its text.
func (p *Plan) replaceMoved(w *Want, file, from, to, text string) error {
	if err := p.replace(w, file, from, text); err != nil {
		return err
	}
	p.Ops[len(p.Ops)-1].Address = to
	return nil
}

func (e buildEnsure) podfile(in Input, w *Want) (*podfile.File, *podfile.Block, Answer) {
	name := w.site.project.Podfile
	src, err := in.Tree.Read(name)
	if err != nil {
		return nil, nil, Answer{State: Unknown, Code: "podfile-unreadable", Here: Place{File: name}, Detail: err.Error()}
	}
	f, err := podfile.Parse(src)
	if err != nil {
		return nil, nil, Answer{State: Unknown, Code: "podfile-unreadable", Here: Place{File: name}, Detail: name + ":" + err.Error()}
	}
	t := f.Target(w.site.target.Name)
	if t == nil {
		return nil, nil, Answer{State: Unknown, Code: "pod-target-missing", Here: Place{File: name, Line: 1, Column: 1}, Expected: w.site.target.Name, Actual: strings.Join(f.Targets(), ", "),
			Detail: fmt.Sprintf("%s has no target %q", name, w.site.target.Name)}
	}
	return f, t, Answer{}
}

func (e buildEnsure) lookPod(in Input, w *Want) Answer {
	f, t, bad := e.podfile(in, w)
	if f == nil {
		return bad
	}
	name := w.site.project.Podfile
	var hits []*podfile.Call
	for _, c := range f.Pods(t) {
		if len(c.Args) > 0 && c.Args[0].Text == w.Params["pod"] {
			hits = append(hits, c)
		}
	}
	switch {
	case len(hits) == 0:
		return Answer{State: Absent, Code: "pod-missing", Here: place(name, f.Src, t.Start), Expected: w.Params["pod"], Fixable: true, Detail: fmt.Sprintf("target %s has no pod %s", t.Name, w.Params["pod"])}
	case len(hits) > 1:
		return Answer{State: Twice, Code: "pod-twice", Here: place(name, f.Src, hits[1].Start), Others: []Place{place(name, f.Src, hits[0].Start)}, Detail: "pod " + w.Params["pod"] + " stands twice"}
	}
	c := hits[0]
	at := place(name, f.Src, c.Start)
	if len(c.Args) > 1 && c.Args[1].Key == "" && c.Args[1].Literal {
		if c.Args[1].Text == w.Params["requirement"] {
			if c.Block == t {
				return Answer{State: Right, Here: at}
			}
			return Answer{State: OtherForm, Here: at, Detail: "declared for more targets than this one"}
		}
		return Answer{State: Conflicting, Code: "pod-version", Here: place(name, f.Src, c.Args[1].Start), Expected: w.Params["requirement"], Actual: c.Args[1].Text, Fixable: c.Block == t,
			Detail: fmt.Sprintf("pod %s asks for %s; %s is wanted", w.Params["pod"], c.Args[1].Text, w.Params["requirement"])}
	}
	return Answer{State: OtherForm, Here: at, Detail: "without a version of its own"}
}

func (e buildEnsure) makePod(in Input, w *Want, a Answer, p *Plan) error {
	f, t, bad := e.podfile(in, w)
	if f == nil {
		return fmt.Errorf("%s", bad.Detail)
	}
	ins, address := f.AddPod(t, w.Params["pod"], w.Params["requirement"])
	if a.State == Conflicting {
		return p.replace(w, w.site.project.Podfile, address, "pod "+lex.Quoted(w.Params["pod"], '\'', false)+", "+lex.Quoted(w.Params["requirement"], '\'', false))
	}
	p.Next = append(p.Next, "run `pod install` in "+folder(w.site.project.Podfile)+" and open the workspace, not the project")
	return p.insert(w, w.site.project.Podfile, address, ins)
}
