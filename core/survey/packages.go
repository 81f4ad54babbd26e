package survey

import (
	"path"
	"strings"

	"ligare/core/survey/fact"
	"ligare/core/survey/script"
	"ligare/core/syntax/gradle"
)

// plugins gives the Gradle plugins the module applies, in the order in which they are applied.
func (s *moduleReader) plugins() []Entry {
	var out []Entry
	for _, p := range s.model.Plugins {
		f := p.Version
		if !f.Set() {
			f = Fact{}
		}
		if f.File == "" {
			f.File, f.Line, f.Column = p.File, p.Line, p.Column
		}
		f.Via = append(f.Via, at("applied at", p.File, p.Line, p.Column))
		if p.Own != "" {
			f.Via = append(f.Via, "a plugin of the project: "+p.Own)
		}
		if p.Cond != "" {
			f.Via = append(f.Via, "when "+p.Cond)
		}
		out = append(out, Entry{p.ID, f})
	}
	return out
}

func at(word, file string, line, column int) string {
	return word + " " + fact.Of("", file, line, column).Place()
}

// dependencies gives what the module depends on, by configuration.
func (s *moduleReader) dependencies() []Dependency {
	var out []Dependency
	for _, st := range s.model.Stmts {
		if len(st.Path) != 2 || st.Path[0] != "dependencies" || len(st.Args) == 0 {
			continue
		}
		out = append(out, s.dependency(st))
	}
	return out
}

func (s *moduleReader) dependency(st script.Stmt) Dependency {
	f := st.Script()
	file, line, col := st.Place()
	d := Dependency{Configuration: st.Path[1], File: file, Line: line}
	read := f.DependencyOf(st.Setting.Stmt, d.Configuration)
	switch {
	case read.Project != "":
		d.Name = read.Project
	case read.Alias != "":
		head := read.Catalog
		module, version, ok := s.m.build.LibraryIn(head, read.Alias)
		if !ok {
			if strings.HasPrefix(read.Alias, "bundles.") {
				d.Name = head + "." + read.Alias
				return d
			}
			d.Name = head + "." + read.Alias
			d.Version = fact.Open("the catalog "+head+" has no such library", file, line, col)
			return d
		}
		d.Name, d.Version = module, version
	case read.Notation != "":
		d.Name = read.Group + ":" + read.Name
		if read.Name == "" {
			d.Name = read.Group
		}
		d.Name = strings.SplitN(d.Name, "@", 2)[0]
		if len(read.Version) > 0 {
			d.Version = st.Resolve(read.Version).With(func(t string) string {
				if parts := strings.SplitN(t, ":", 3); len(parts) == 3 {
					return parts[2]
				}
				return t
			})
		} else if read.Literal != "" {
			d.Version = fact.Of(read.Literal, file, line, col)
		}
	case strings.HasPrefix(f.Dotted(st.Args[0]), "projects."):
		dir := s.typed(strings.TrimPrefix(f.Dotted(st.Args[0]), "projects."))
		d.Name = ":" + strings.ReplaceAll(strings.TrimPrefix(strings.TrimPrefix(dir, s.m.Root), "/"), "/", ":")
	default:
		if head, alias, ok := strings.Cut(f.Dotted(st.Args[0]), "."); ok {
			if module, version, ok := s.m.build.LibraryIn(head, alias); ok {
				d.Name, d.Version = module, version
				return d
			}
		}
		d.Name = strings.Join(strings.Fields(f.Text(st.Args[0])), " ")
		if v := st.Resolve(st.Args[0]); v.Known() && strings.Count(v.String(), ":") >= 1 {
			parts := strings.SplitN(v.String(), ":", 3)
			d.Name = parts[0] + ":" + parts[1]
			if len(parts) == 3 {
				d.Version = fact.Of(parts[2], v.File, v.Line, v.Column, v.Via...)
			}
		}
	}
	return d
}

// moduleDirs gives the folders of the tree's modules that this one depends on.
func (s *moduleReader) moduleDirs() []string {
	var out []string
	for _, st := range s.model.Stmts {
		if len(st.Path) != 2 || st.Path[0] != "dependencies" || len(st.Args) == 0 || strings.Contains(strings.ToLower(st.Path[1]), "test") {
			continue
		}
		f := st.Script()
		read := f.DependencyOf(st.Setting.Stmt, st.Path[1])
		if read.Project != "" {
			out = append(out, path.Join(s.m.Root, strings.ReplaceAll(strings.TrimPrefix(read.Project, ":"), ":", "/")))
		} else if len(st.Args[0]) > 2 { // projects.feature.home
			if dotted := f.Dotted(st.Args[0]); strings.HasPrefix(dotted, "projects.") {
				if dir := s.typed(strings.TrimPrefix(dotted, "projects.")); dir != "" {
					out = append(out, dir)
				}
			}
		}
	}
	return out
}

// typed finds the folder of a type-safe project accessor, whose camel case stands for hyphens.
func (s *moduleReader) typed(dotted string) string {
	dir := s.m.Root
	for _, step := range strings.Split(dotted, ".") {
		found := ""
		for _, n := range s.t.Dir(dir) {
			name := strings.TrimSuffix(n, "/")
			if strings.EqualFold(strings.NewReplacer("-", "", "_", "").Replace(name), step) && name != n {
				found = path.Join(dir, name)
			}
		}
		if found == "" {
			return ""
		}
		dir = found
	}
	return dir
}

// repositories gives where packages are looked for, over all scripts that count for the module.
func (s *moduleReader) repositories() []Repository {
	var out []Repository
	b := s.m.build
	for _, name := range []string{b.Settings, b.RootFile, s.m.BuildFile} {
		f := b.File(name)
		if f == nil || name == s.m.BuildFile && name == b.RootFile && len(out) > 0 && out[len(out)-1].File == name {
			continue
		}
		for _, d := range f.Settings() {
			n := len(d.Path)
			if n < 2 || d.Path[n-2] != "repositories" {
				continue
			}
			where := "this module"
			switch outer := strings.Join(d.Path[:n-2], "."); {
			case outer == "pluginManagement":
				where = "plugins"
			case outer == "dependencyResolutionManagement":
				where = "dependency management"
			case outer == "buildscript":
				where = "build script"
			case outer == "allprojects":
				where = "all projects"
			case outer == "subprojects":
				where = "subprojects"
			case outer != "":
				where = outer
			}
			value := repositoryOf(f, d)
			if value == "" {
				continue
			}
			l, c := f.Position(d.Start)
			out = append(out, Repository{where, fact.Of(value, name, l, c)})
		}
	}
	return out
}

func repositoryOf(f *gradle.File, d gradle.Setting) string {
	if url := f.URL(d.Stmt); url != "" {
		return url
	}
	switch name := d.Path[len(d.Path)-1]; name {
	case "google", "mavenCentral", "mavenLocal", "gradlePluginPortal", "jcenter":
		return name + "()"
	case "maven", "flatDir", "ivy":
		return strings.Join(strings.Fields(f.Text(d.Nodes)), " ")
	}
	return ""
}
