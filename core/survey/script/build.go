// Package script reads what Gradle scripts say without running them: which statements count for a module and in which
// order, and what their expressions are worth. Values come from the sources that scripts draw on: declarations, extra
// properties, gradle.properties, property files, version catalogs, applied scripts, the project's own plugins and their
// constants. Anything else is unresolved, with the expression and its place.
//
// Start reading at Open, then Model (which statements) and eval (what an expression is worth).
// Sources: Gradle user guide, "Writing Build Scripts", "Build Environment", "Version Catalogs", "Sharing Build Logic".
package script

import (
	"errors"
	"fmt"
	"io/fs"
	"path"
	"strings"

	"ligare/core/survey/fact"
	"ligare/core/syntax/gradle"
	"ligare/core/syntax/properties"
	"ligare/core/syntax/toml"
	"ligare/core/tree"
)

// Roots is what may be read besides the tree; a nil part was not given, and answers that lie there stay unresolved.
type Roots struct {
	Home fs.FS             // the user's home folder
	Env  map[string]string // environment variables
}

// Trouble is a file of the build that cannot be read.
type Trouble struct{ What, Why, File string }

// Build is one Gradle build: the folder with the settings file and everything values may come from.
type Build struct {
	Root     string // folder of the settings file
	Settings string // its path, "" when there is none
	RootFile string // the root project's build file, "" when there is none

	tree      *tree.Tree
	roots     Roots
	files     map[string]*gradle.File
	catalogs  map[string]*catalog // by accessor: libs
	included  []string            // folders of builds whose plugins the scripts use: buildSrc and what settings include
	logic     []string            // their source files
	constants map[string]constant
	plugins   map[string]own // the project's own plugins by ID
	props     map[string][]properties.Entry
}

// catalog is a version catalog: a TOML file, and what the settings script adds.
type catalog struct {
	path   string
	toml   *toml.File
	inline map[string]fact.Fact
}

// Open reads a build's settings, catalogs and own plugins. files are the names of the tree's files.
func Open(t *tree.Tree, dir string, files []string, roots Roots) (*Build, []Trouble) {
	b := &Build{Root: dir, tree: t, roots: roots, files: map[string]*gradle.File{}, catalogs: map[string]*catalog{}, props: map[string][]properties.Entry{}}
	b.Settings = first(t, dir, "settings.gradle.kts", "settings.gradle")
	b.RootFile = first(t, dir, "build.gradle.kts", "build.gradle")
	troubles := b.openCatalogs()
	b.included = []string{path.Join(dir, "buildSrc")}
	if s := b.File(b.Settings); s != nil {
		for _, at := range s.Settings() {
			if n := len(at.Path); n > 0 && at.Path[n-1] == "includeBuild" && len(at.Args) > 0 {
				if text, ok := s.Literal(at.Args[0]); ok && path.Join(dir, text) != dir {
					b.included = append(b.included, path.Join(dir, text))
				}
			}
		}
	}
	for _, name := range files {
		for _, in := range b.included {
			if strings.HasPrefix(name, in+"/") && (strings.Contains(name, "/src/main/") || strings.HasSuffix(name, ".gradle") || strings.HasSuffix(name, ".gradle.kts")) {
				b.logic = append(b.logic, name)
				break
			}
		}
	}
	b.readLogic()
	return b, troubles
}

func first(t *tree.Tree, dir string, names ...string) string {
	for _, n := range names {
		if at := path.Join(dir, n); t.Has(at) {
			return at
		}
	}
	return ""
}

// File reads one script of the build; nil when there is none.
func (b *Build) File(name string) *gradle.File {
	if f, ok := b.files[name]; ok {
		return f
	}
	if name == "" {
		return nil
	}
	src, err := b.tree.Read(name)
	if err != nil {
		return nil
	}
	f := gradle.Parse(dialect(name), src)
	b.files[name] = f
	return f
}

// dialect gives the name under which a source file is read: Kotlin sources as Kotlin scripts, Java's as Groovy ones.
func dialect(name string) string {
	switch path.Ext(name) {
	case ".kt":
		return name + ".kts"
	case ".java", ".groovy":
		return name + ".gradle"
	}
	return name
}

func (b *Build) openCatalogs() []Trouble {
	var out []Trouble
	open := func(accessor, at string) *catalog {
		src, err := b.tree.Read(at)
		if err != nil {
			return nil
		}
		c := &catalog{path: at, inline: map[string]fact.Fact{}}
		if c.toml, err = toml.Parse(src); err != nil {
			out = append(out, Trouble{"version catalog", err.Error(), at})
			return nil
		}
		b.catalogs[accessor] = c
		return c
	}
	open("libs", path.Join(b.Root, "gradle/libs.versions.toml"))
	s := b.File(b.Settings)
	if s == nil {
		return out
	}
	in := scope{b: b, file: b.Settings, f: s, dir: b.Root}
	for _, at := range s.Settings() {
		n := len(at.Path)
		if n < 3 || at.Path[0] != "dependencyResolutionManagement" || at.Path[1] != "versionCatalogs" {
			continue
		}
		name := at.Path[2]
		switch {
		case n == 4 && at.Path[3] == "from" && len(at.Args) > 0: // from(files("../x.toml"))
			for _, arg := range at.Args[0] {
				if arg.Kind == groupKind {
					for _, e := range in.items(arg) {
						if v := in.eval(e); v.known() {
							open(name, path.Join(b.Root, v.text()))
						}
					}
				}
			}
		case n == 4 && at.Path[3] == "version" && len(at.Args) == 2:
			c := b.catalogs[name]
			if c == nil {
				c = &catalog{path: b.Settings, toml: &toml.File{}, inline: map[string]fact.Fact{}}
				b.catalogs[name] = c
			}
			if key, ok := s.Literal(at.Args[0]); ok {
				c.inline[accessor(key)] = in.scalar(at.Args[1])
			}
		}
	}
	return out
}

func accessor(alias string) string { return strings.NewReplacer("-", ".", "_", ".").Replace(alias) }

// version gives a catalog's version by accessor.
func (c *catalog) version(name string) (fact.Fact, bool) {
	if f, ok := c.inline[accessor(name)]; ok {
		return f, true
	}
	for _, suffix := range []string{"", ".strictly", ".require", ".prefer"} {
		if e, ok := c.toml.Accessor("versions", name, suffix); ok {
			return fact.Of(e.Value, c.path, e.Line, e.Column), true
		}
	}
	return fact.Fact{}, false
}

// CatalogFile gives the file of a version catalog by the catalog's name, "" for none.
func (b *Build) CatalogFile(name string) string {
	if c := b.catalogs[name]; c != nil && strings.HasSuffix(c.path, ".toml") {
		return c.path
	}
	return ""
}

// Library gives the coordinates group:name and the version of a catalog accessor, for comparing with what is wanted.
func (b *Build) Library(alias string) (module, version string, ok bool) {
	m, v, ok := b.LibraryIn("libs", alias)
	return m, v.String(), ok
}

// LibraryIn is Library for a catalog by name, with the place of the version.
func (b *Build) LibraryIn(name, alias string) (module string, version fact.Fact, ok bool) {
	c := b.catalogs[name]
	if c == nil {
		return "", fact.Fact{}, false
	}
	at := func(suffix string) (toml.Entry, bool) { return c.toml.Accessor("libraries", alias, suffix) }
	if e, found := at(".module"); found {
		module, ok = e.Value, true
	} else if e, found := at(""); found {
		if parts := strings.SplitN(e.Value, ":", 3); len(parts) == 3 {
			return parts[0] + ":" + parts[1], fact.Of(parts[2], c.path, e.Line, e.Column), true
		}
		return e.Value, fact.Fact{}, true
	} else if g, found := at(".group"); found {
		n, _ := at(".name")
		module, ok = g.Value+":"+n.Value, true
	}
	if e, found := at(".version.ref"); found {
		version, _ = c.version(e.Value)
	} else if e, found := at(".version"); found {
		version = fact.Of(e.Value, c.path, e.Line, e.Column)
	}
	return module, version, ok
}

// plugin gives the ID and version behind a catalog's plugin accessor.
func (b *Build) plugin(name, alias string) (id string, version fact.Fact) {
	c := b.catalogs[name]
	if c == nil {
		return "", fact.Fact{}
	}
	if e, ok := c.toml.Accessor("plugins", alias, ".id"); ok {
		id = e.Value
		if v, ok := c.toml.Accessor("plugins", alias, ".version.ref"); ok {
			version, _ = c.version(v.Value)
		} else if v, ok := c.toml.Accessor("plugins", alias, ".version"); ok {
			version = fact.Of(v.Value, c.path, v.Line, v.Column)
		}
	} else if e, ok := c.toml.Accessor("plugins", alias, ""); ok {
		var v string
		if id, v, ok = strings.Cut(e.Value, ":"); ok {
			version = fact.Of(v, c.path, e.Line, e.Column)
		}
	}
	return id, version
}

// property looks a project property up: the environment and the user's Gradle folder where they were given, the
// module's gradle.properties, the root's (Gradle user guide, "Build Environment": command line and environment first,
// then the user's folder, then the root's; a subproject's own file fills in what these leave open).
func (b *Build) property(dir, key string) (fact.Fact, bool) {
	if v, ok := b.roots.Env["ORG_GRADLE_PROJECT_"+key]; ok {
		return fact.Of(v, "", 0, 0, "the environment variable ORG_GRADLE_PROJECT_"+key), true
	}
	if b.roots.Home != nil {
		if src, err := fs.ReadFile(b.roots.Home, ".gradle/gradle.properties"); err == nil {
			if p, ok := properties.Get(properties.Parse(src), key); ok {
				return fact.Of(p.Value, "~/.gradle/gradle.properties", p.Line, p.Column, "`"+key+"` in ~/.gradle/gradle.properties"), true
			}
		}
	}
	for _, d := range []string{b.Root, dir} {
		name := path.Join(d, "gradle.properties")
		list, err := b.properties(name)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		} else if err != nil {
			return fact.Open(fmt.Sprintf("%s cannot be read: %v", name, err), name, 0, 0), true
		}
		if p, ok := properties.Get(list, key); ok {
			return fact.Of(p.Value, name, p.Line, p.Column, "`"+key+"` in "+name), true
		}
	}
	return fact.Fact{}, false
}

func (b *Build) properties(name string) ([]properties.Entry, error) {
	if list, ok := b.props[name]; ok {
		return list, nil
	}
	src, err := b.tree.Read(name)
	if err != nil {
		return nil, err
	}
	list := properties.Parse(src)
	b.props[name] = list
	return list, nil
}
