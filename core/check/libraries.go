package check

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"ligare/core/ident"
	"ligare/core/sheet"
	"ligare/core/survey"
	"ligare/core/syntax/gradle"
	"ligare/core/syntax/json"
	"ligare/core/syntax/lex"
	"ligare/core/syntax/pbxproj"
	"ligare/core/syntax/podfile"
	"ligare/core/wiring"
)

// used is a library that the tree names.
type used struct {
	in, name, version string
	config            string // Gradle's configuration
	at                survey.Fact
}

// libraries lists the libraries that the tree names, by the kind of registry they come from.
func (r *runner) libraries() []used {
	var out []used
	for _, m := range r.in.Survey.Android.Modules {
		for _, d := range m.Dependencies {
			if !strings.HasPrefix(d.Name, ":") {
				out = append(out, used{"maven", d.Name, d.Version.String(), d.Configuration, survey.Fact{File: d.File, Line: d.Line, Column: 1}})
			}
		}
	}
	for _, p := range r.in.Survey.IOS.Projects {
		for _, e := range p.Pods {
			out = append(out, used{in: "pod", name: e.Name, version: e.String(), at: e.Fact})
		}
		for _, e := range p.Packages {
			out = append(out, used{in: "swift", name: e.Name, version: e.String(), at: e.Fact})
		}
	}
	for _, f := range r.in.Survey.Frameworks {
		in := map[string]string{"flutter": "pub", "dotnet": "nuget"}[f.Name]
		if in == "" {
			in = "npm"
		}
		for _, p := range f.Packages {
			out = append(out, used{in: in, name: p.Name, version: p.Version.String(), at: p.Version})
		}
		if in == "npm" {
			out = append(out, r.manifestPackages(path.Join(f.Dir, "package.json"), out)...)
		}
	}
	return out
}

// manifestPackages lists the packages of a package manifest that are not listed yet: those without a native half.
func (r *runner) manifestPackages(name string, had []used) []used {
	src, err := r.in.Tree.Read(name)
	if err != nil {
		return nil
	}
	f, err := json.Parse(src)
	if err != nil {
		return nil
	}
	var out []used
	for _, list := range []string{"/dependencies", "/devDependencies"} {
		for _, o := range f.At(list) {
			for _, m := range o.Members {
				if slices.ContainsFunc(had, func(u used) bool { return u.in == "npm" && u.name == m.Name }) {
					continue
				}
				line, column := f.Position(m.Value)
				out = append(out, used{in: "npm", name: m.Name, version: m.Value.Text, at: survey.Fact{File: name, Line: line, Column: column}})
			}
		}
	}
	return out
}

// lookAlikes finds libraries that are taken for a service's own.
func (r *runner) lookAlikes() {
	list := r.libraries()
	for _, reg := range r.in.Registrations {
		for _, p := range reg.Sheet.Packages {
			for _, u := range list {
				if u.in != p.In || u.name == p.Name {
					continue
				}
				official := slices.ContainsFunc(reg.Sheet.Packages, func(o sheet.Package) bool { return o.In == u.in && o.Name == u.name })
				say := ""
				switch {
				case slices.Contains(p.LookAlikes, u.name):
					say = "is not " + reg.Sheet.Title + "'s library, though it is called alike"
				case !official && ident.Near(p.Name, u.name) && !r.placedModule(u.name):
					say = "is nearly " + p.Name + ": " + ident.Difference(p.Name, u.name)
				default:
					continue
				}
				r.add(Finding{Rule: "library-look-alike", File: u.at.File, Line: u.at.Line, Column: max(u.at.Column, 1), Expected: p.Name, Actual: u.name, cause: u.at.Place() + u.name,
					Message: fmt.Sprintf("%s %s", u.name, say)}, map[string]string{"service": reg.Service}, u.name)
			}
		}
		r.together(reg, list)
	}
}

// placedModule reports whether some placement wants a library of this name.
func (r *runner) placedModule(name string) bool {
	return slices.ContainsFunc(r.in.Answers, func(a wiring.Answer) bool {
		return a.Params["module"] == name || a.Params["name"] == name || a.Params["package"] == name || a.Params["pod"] == name
	})
}

// together holds the versions of libraries that belong together against each other.
func (r *runner) together(reg *wiring.Registration, list []used) {
	for _, c := range reg.Sheet.Constrain {
		if c.Of != "library" || len(c.Together) == 0 {
			continue
		}
		first := map[string]used{} // by file
		for _, u := range list {
			if !slices.Contains(c.Together, u.name) || u.version == "" {
				continue
			}
			had, ok := first[u.in]
			if !ok {
				first[u.in] = u
				continue
			}
			if had.version == u.version || slices.ContainsFunc(r.in.Answers, func(a wiring.Answer) bool {
				return a.Registration == reg.Key() && (a.Code == "dependency-version" || a.Code == "pod-version")
			}) {
				continue
			}
			r.add(Finding{Rule: "library-version", File: u.at.File, Line: u.at.Line, Column: max(u.at.Column, 1), Expected: had.version, Actual: u.version, cause: u.at.Place(),
				Message: fmt.Sprintf("%s is at %s and %s at %s; %s", had.name, had.version, u.name, u.version, c.Why)}, map[string]string{"service": reg.Service}, u.name)
		}
	}
}

// retired are the configurations that Gradle's Android plugin took away with version 7, with what came instead.
var retired = map[string]string{"compile": "implementation", "provided": "compileOnly", "apk": "runtimeOnly", "publish": "api"}

// configurations finds dependencies in configurations that are gone.
func (r *runner) configurations() {
	for _, u := range r.libraries() {
		for old, now := range retired {
			want := now
			if u.config != old {
				prefix, ok := strings.CutSuffix(u.config, strings.ToUpper(old[:1])+old[1:])
				if !ok || prefix == "" {
					continue
				}
				want = prefix + strings.ToUpper(now[:1]) + now[1:]
			}
			r.add(Finding{Rule: "dependency-configuration-retired", File: u.at.File, Line: u.at.Line, Column: max(u.at.Column, 1), Expected: want, Actual: u.config, cause: u.at.Place(),
				Message: fmt.Sprintf("%s is declared with %s, which the Android plugin took away with version 7", u.name, u.config)}, nil, u.name)
		}
	}
}

// tools holds the versions of the tools that a tree is built with against the sheets' bounds.
func (r *runner) tools() {
	for _, reg := range r.in.Registrations {
		for _, c := range reg.Sheet.Constrain {
			if c.Minimum == "" && c.Below == "" {
				continue
			}
			for _, f := range r.tool(c.Of) {
				if c.Platform == ident.IOS != (c.Of == "ide") && c.Platform != "" && c.Of != "framework" {
					continue
				}
				if !f.Known() {
					r.blind("tool-too-old", fmt.Sprintf("the version of %s is not known: %s", toolNames[c.Of], f.Say()), false)
					continue
				}
				low, ok := wiring.Under(f.String(), c.Minimum)
				high := false
				if c.Below != "" {
					var plain bool
					high, plain = wiring.Under(f.String(), c.Below)
					high, ok = !high, ok && plain
				}
				if c.Minimum == "" {
					low, ok = false, true
				}
				if !ok || !low && !high {
					continue
				}
				want := c.Minimum
				if high {
					want = "below " + c.Below
				}
				r.add(Finding{Rule: "tool-too-old", File: f.File, Line: f.Line, Column: f.Column, Expected: want, Actual: f.String(), cause: f.Place(),
					Message: fmt.Sprintf("%s is at %s; %s wants %s: %s", capital(toolNames[c.Of]), f.String(), reg.Sheet.Title, want, c.Why)}, map[string]string{"service": reg.Service}, c.Of)
			}
		}
	}
}

var toolNames = map[string]string{"buildPlugin": "the Android build plugin", "kotlin": "Kotlin's plugin", "framework": "the framework", "compileSdk": "the compile SDK", "targetSdk": "the target SDK", "ide": "Xcode"}

// tool gives the versions of a tool, wherever the tree says them.
func (r *runner) tool(of string) []survey.Fact {
	var out []survey.Fact
	switch of {
	case "buildPlugin":
		return r.pluginVersions("com.android.application", "com.android.tools.build:gradle")
	case "kotlin":
		return r.pluginVersions("org.jetbrains.kotlin.android", "org.jetbrains.kotlin:kotlin-gradle-plugin")
	case "framework":
		for _, f := range r.in.Survey.Frameworks {
			out = append(out, f.Version)
		}
	case "compileSdk", "targetSdk":
		for _, b := range r.builds() {
			if b.variant != nil && of == "compileSdk" {
				out = append(out, b.variant.CompileSDK)
			} else if b.variant != nil {
				out = append(out, b.variant.TargetSDK)
			}
		}
	}
	return out
}

// pluginVersions finds the version of a build plugin: in a plugins block or catalog, or on the build script's class path.
func (r *runner) pluginVersions(id, module string) []survey.Fact {
	var out []survey.Fact
	for _, m := range r.in.Survey.Android.Modules {
		found := survey.Fact{Unresolved: "no file of the build names it", File: m.BuildFile, Line: 1, Column: 1}
		for _, p := range m.Plugins {
			if p.Name == id && p.Known() {
				found = p.Fact
			}
		}
		for _, name := range []string{"build.gradle", "build.gradle.kts"} {
			file := path.Join(m.Root, name)
			src, err := r.in.Tree.Read(file)
			if err != nil || found.Known() {
				continue
			}
			g := gradle.Parse(name, src)
			for _, d := range g.Dependencies("buildscript", "dependencies") {
				if d.Group+":"+d.Name == module {
					line, column := g.Position(d.Start)
					if d.Literal != "" {
						found = survey.Fact{Value: &d.Literal, File: file, Line: line, Column: column}
					} else {
						found = survey.Fact{Unresolved: "its version is " + strings.TrimSpace(g.Text(d.Version)), File: file, Line: line, Column: column}
					}
				}
			}
		}
		out = append(out, found)
	}
	return out
}

// linking finds packages whose native half is linked twice, or not at all.
func (r *runner) linking() {
	for _, f := range r.in.Survey.Frameworks {
		for _, p := range f.Packages {
			for _, l := range []struct {
				platform ident.Platform
				survey.Link
			}{{ident.Android, p.Android}, {ident.IOS, p.IOS}} {
				at := survey.Fact{File: p.Version.File, Line: p.Version.Line, Column: p.Version.Column}
				switch {
				case l.How == "twice":
					x := Finding{Rule: "linked-twice", Actual: strings.Join(l.Places, ", "), Message: fmt.Sprintf("The native half of %s is linked by the framework and once more by hand, for %s", p.Name, platformTitle(l.platform))}
					x.File, x.Line, x.Column = splitPlace(l.Places, at)
					r.add(x, nil, p.Name, string(l.platform))
				case l.How == "unlinked" || l.How == "missing":
					x := Finding{Rule: "not-linked", Severity: Note, File: at.File, Line: at.Line, Column: at.Column, Message: fmt.Sprintf("The native half of %s is not linked for %s: %s", p.Name, platformTitle(l.platform), l.Why)}
					if r.placedModule(p.Name) {
						x.Severity = Error
					}
					r.add(x, nil, p.Name, string(l.platform))
				}
			}
		}
	}
}

func platformTitle(p ident.Platform) string {
	if p == ident.IOS {
		return "iOS"
	}
	return "Android"
}

// splitPlace reads the first of some places written file:line:column.
func splitPlace(places []string, otherwise survey.Fact) (file string, line, column int) {
	if len(places) == 0 {
		return otherwise.File, otherwise.Line, otherwise.Column
	}
	parts := strings.Split(places[0], ":")
	if len(parts) < 2 {
		return places[0], 1, 1
	}
	if _, err := fmt.Sscan(parts[1], &line); err != nil {
		return places[0], 1, 1
	}
	column = 1
	if len(parts) > 2 {
		if _, err := fmt.Sscan(parts[2], &column); err != nil {
			column = 1
		}
	}
	return parts[0], line, column
}

// personal finds paths that lead into one person's folders.
func (r *runner) personal() {
	for _, m := range r.in.Survey.Android.Modules {
		for _, file := range []string{m.BuildFile, path.Join(m.Root, "build.gradle"), path.Join(m.Root, "build.gradle.kts"), path.Join(m.Root, "settings.gradle"), path.Join(m.Root, "settings.gradle.kts")} {
			if src, err := r.in.Tree.Read(file); err == nil {
				g := gradle.Parse(path.Base(file), src)
				var visit func([]*lex.Node)
				visit = func(nodes []*lex.Node) {
					for _, n := range nodes {
						if n.Kind == lex.String {
							r.personalPath(file, src, n.Start, strings.Trim(n.Of(src), `"'`))
						}
						visit(n.Kids)
					}
				}
				visit(g.Tree.Root.Kids)
			}
		}
	}
	for _, p := range r.in.Survey.IOS.Projects {
		if src, err := r.in.Tree.Read(path.Join(p.Path, "project.pbxproj")); err == nil {
			if x, err := pbxproj.Parse(src); err == nil {
				for _, o := range x.Order {
					r.personalValues(path.Join(p.Path, "project.pbxproj"), src, o.Dict)
				}
			}
		}
		if p.Podfile == "" {
			continue
		}
		if src, err := r.in.Tree.Read(p.Podfile); err == nil {
			if f, err := podfile.Parse(src); err == nil {
				f.Root.Each(func(b *podfile.Block) {
					for _, c := range b.Calls {
						for _, a := range c.Args {
							r.personalPath(p.Podfile, src, a.Start, a.Text)
						}
					}
				})
			}
		}
	}
	for _, u := range r.libraries() {
		if u.in == "npm" || u.in == "pub" {
			r.personalAt(u.at.File, u.at.Line, u.at.Column, strings.TrimPrefix(strings.TrimPrefix(u.version, "file:"), "link:"))
		}
	}
}

func (r *runner) personalValues(file string, src []byte, d *pbxproj.Dict) {
	var value func(v *pbxproj.Value)
	value = func(v *pbxproj.Value) {
		switch {
		case v == nil:
		case v.Dict != nil:
			r.personalValues(file, src, v.Dict)
		case v.List != nil:
			for _, x := range v.List.Items {
				value(x.Value)
			}
		default:
			r.personalPath(file, src, v.Start, v.Text)
		}
	}
	for _, e := range d.Entries {
		value(e.Value)
	}
}

func (r *runner) personalPath(file string, src []byte, offset int, text string) {
	if personalRoot(text) != "" {
		line, column := lex.Position(src, offset)
		r.personalAt(file, line, column, text)
	}
}

func (r *runner) personalAt(file string, line, column int, text string) {
	if who := personalRoot(text); who != "" {
		r.add(Finding{Rule: "path-of-a-person", File: file, Line: line, Column: column, Actual: text, cause: fmt.Sprint(file, line, text),
			Message: fmt.Sprintf("%s leads into a folder of %s", text, who)}, nil, text)
	}
}

// personalRoot gives whose home folder a path leads into, "" for none.
func personalRoot(text string) string {
	text = strings.ReplaceAll(text, `\\`, `\`)
	for _, root := range []string{"/Users/", "/home/", `C:\Users\`, "C:/Users/"} {
		if rest, ok := strings.CutPrefix(text, root); ok {
			if i := strings.IndexAny(rest, `/\`); i > 0 && rest[:i] != "Shared" {
				return rest[:i]
			}
		}
	}
	return ""
}

// pods looks at the Podfile beside the project: its targets, and the lock file.
func (r *runner) pods() {
	for _, p := range r.in.Survey.IOS.Projects {
		if p.Podfile == "" {
			continue
		}
		src, err := r.in.Tree.Read(p.Podfile)
		if err != nil {
			continue
		}
		f, err := podfile.Parse(src)
		if err != nil {
			continue
		}
		f.Root.Each(func(b *podfile.Block) {
			if b.Word != "target" || b.Name == "" || slices.ContainsFunc(p.Targets, func(t *survey.Target) bool { return t.Name == b.Name }) {
				return
			}
			if r.podProjects(p.Podfile) > 1 {
				return // the target may be another project's
			}
			var have []string
			for _, t := range p.Targets {
				have = append(have, t.Name)
			}
			line, column := lex.Position(src, b.Start)
			r.add(Finding{Rule: "pod-target-unknown", File: p.Podfile, Line: line, Column: column, Expected: strings.Join(have, " or "), Actual: b.Name,
				Message: fmt.Sprintf("The Podfile has a target %q, and the project %s has none of that name", b.Name, p.Path)}, nil, b.Name)
		})
	}
}

func (r *runner) podProjects(file string) int {
	n := 0
	for _, p := range r.in.Survey.IOS.Projects {
		if p.Podfile == file {
			n++
		}
	}
	return n
}
