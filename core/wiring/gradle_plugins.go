package wiring

import (
	"fmt"
	"strings"

	"ligare/core/syntax/gradle"
	"ligare/core/syntax/lex"
)

// pluginOf gives the ID and version behind a plugin's accessor in the catalog.
func (in Input) pluginOf(w *Want, alias string) (id, version string) {
	_, c := in.catalog(w)
	if c == nil {
		return "", ""
	}
	if e, ok := c.Accessor("plugins", alias, ".id"); ok {
		id = e.Value
		if v, ok := c.Accessor("plugins", alias, ".version"); ok {
			version = v.Value
		} else if v, ok := c.Accessor("plugins", alias, ".version.ref"); ok {
			if v, ok := c.Accessor("versions", v.Value, ""); ok {
				version = v.Value
			}
		}
	} else if e, ok := c.Accessor("plugins", alias, ""); ok {
		id, version, _ = strings.Cut(e.Value, ":")
	}
	return id, version
}

// declared is where the version of a plugin is said.
type declared struct {
	how     string // catalog, root, settings, classpath, module
	version string
	at      Place
}

// used is one plugin as a build file applies or declares it, catalog accessors resolved.
type used struct {
	gradle.Plugin
	id, version string
}

func (in Input) plugins(w *Want, name string) []used {
	f := in.gradle(name)
	if f == nil {
		return nil
	}
	var out []used
	for _, p := range f.Plugins() {
		u := used{Plugin: p, id: p.ID, version: pluginVersion(f, p.Stmt)}
		if p.Alias {
			u.id, u.version = in.pluginOf(w, p.ID)
		}
		out = append(out, u)
	}
	return out
}

// pluginVersion reads the version behind a plugin: id "x" version "1", id("x") version "1".
func pluginVersion(f *gradle.File, s *gradle.Stmt) string {
	nodes := s.Nodes
	for i := 0; i+1 < len(nodes); i++ {
		if nodes[i].Is(f.Src, lex.Word, "version") {
			text, _ := lex.Literal(f.Src, nodes[i+1])
			if inner := nodes[i+1].Inner(); nodes[i+1].Bracket(f.Src) == '(' && len(inner) == 1 {
				text, _ = lex.Literal(f.Src, inner[0])
			}
			return text
		}
	}
	return ""
}

// places finds where the version of a plugin is said, for a plugin ID and its classpath coordinate.
func (e buildEnsure) places(in Input, w *Want, id, module string) []declared {
	b := w.site.module.Build()
	var out []declared
	at := func(name string, f *gradle.File, s *gradle.Stmt) Place { return place(name, f.Src, s.Start) }
	scan := func(how, name string) {
		f := in.gradle(name)
		for _, p := range in.plugins(w, name) {
			if p.id == id && (p.version != "" || p.Alias) {
				if p.Alias {
					how = "catalog"
				}
				out = append(out, declared{how, p.version, at(name, f, p.Stmt)})
			}
		}
	}
	if b.RootFile != w.site.module.BuildFile {
		scan("root", b.RootFile)
	}
	if f := in.gradle(b.Settings); f != nil {
		for _, p := range f.At("pluginManagement", "plugins", "id") {
			if f.Key(p.Stmt) == id {
				out = append(out, declared{"settings", pluginVersion(f, p.Stmt), at(b.Settings, f, p.Stmt)})
			}
		}
		scan("settings", b.Settings)
	}
	for _, name := range []string{b.RootFile, w.site.module.BuildFile} {
		if f := in.gradle(name); f != nil && module != "" {
			for _, d := range f.Dependencies("buildscript", "dependencies") {
				if d.Config == "classpath" && d.Group+":"+d.Name == module {
					out = append(out, declared{"classpath", d.Literal, at(name, f, d.Stmt)})
				}
			}
		}
		if b.RootFile == w.site.module.BuildFile {
			break
		}
	}
	if len(out) == 0 {
		scan("module", w.site.module.BuildFile)
	}
	return out
}

func (e buildEnsure) lookPlugin(in Input, w *Want) Answer {
	name, id := w.site.module.BuildFile, w.Params["id"]
	f := in.gradle(name)
	if f == nil {
		return Answer{State: Unknown, Code: "build-file-unreadable", Here: Place{File: name}, Detail: name + " cannot be read"}
	}
	if in.survey("plugin", w) { // applied by a convention plugin or a script of the build's own
		return Answer{State: OtherForm, Here: Place{File: name}, Detail: "the build applies it by logic of its own"}
	}
	where := e.places(in, w, id, w.Params["module"])
	mine, after := -1, -1
	var hits []Place
	list := in.plugins(w, name)
	for i, p := range list {
		switch {
		case p.id == id && p.Applied:
			mine = i
			hits = append(hits, place(name, f.Src, p.Start))
		case p.id == w.Params["after"] && p.Applied:
			after = i
		}
	}
	switch {
	case len(hits) > 1:
		return Answer{State: Twice, Code: "plugin-twice", Here: hits[1], Others: hits[:1], Detail: "plugin " + id + " is applied twice"}
	case mine < 0:
		for _, p := range in.plugins(w, w.site.module.Build().RootFile) {
			if p.id == id && p.Applied && w.site.module.Build().RootFile != name {
				root := in.gradle(w.site.module.Build().RootFile)
				return Answer{State: WrongPlace, Code: "plugin-misplaced", Here: place(w.site.module.Build().RootFile, root.Src, p.Start), Expected: name, Actual: w.site.module.Build().RootFile, Fixable: true,
					Detail: fmt.Sprintf("plugin %s is applied in %s, the build file of the whole build; the app's own is %s", id, w.site.module.Build().RootFile, name)}
			}
		}
		return Answer{State: Absent, Code: "plugin-missing", Here: Place{File: name}, Expected: id + " " + w.Params["version"], Fixable: true, Detail: name + " does not apply the plugin " + id}
	case after > mine:
		return Answer{State: WrongPlace, Code: "plugin-order", Here: hits[0], Expected: "after " + w.Params["after"], Actual: "before it",
			Detail: fmt.Sprintf("plugin %s is applied before %s, which it builds on", id, w.Params["after"])}
	case len(where) == 0:
		return Answer{State: Absent, Code: "plugin-undeclared", Here: hits[0], Expected: w.Params["module"] + ":" + w.Params["version"], Fixable: true,
			Detail: "plugin " + id + " is applied, but no file of the build says at which version, or where from"}
	}
	for _, d := range where {
		if d.version != "" && d.version != w.Params["version"] {
			return Answer{State: Conflicting, Code: "plugin-version", Here: d.at, Expected: w.Params["version"], Actual: d.version, Fixable: d.how != "catalog",
				Detail: fmt.Sprintf("plugin %s is at %s; %s is wanted", id, d.version, w.Params["version"])}
		}
	}
	return Answer{State: Right, Here: hits[0]}
}

// survey reports whether the survey found a plugin applied where no build file of the module says so.
func (in Input) survey(kind string, w *Want) bool {
	for _, p := range w.site.module.Plugins {
		if p.Name == w.Params["id"] && p.File != w.site.module.BuildFile && p.File != w.site.module.Build().RootFile && !strings.HasSuffix(p.File, ".toml") && p.File != w.site.module.Build().Settings {
			return true
		}
	}
	return false
}

func (e buildEnsure) makePlugin(in Input, w *Want, a Answer, p *Plan) error {
	b, id, version := w.site.module.Build(), w.Params["id"], w.Params["version"]
	if a.Code == "plugin-order" {
		return nil // moving it may move what depends on it: a person decides
	}
	if a.State == Conflicting {
		return e.raisePlugin(in, w, p)
	}
	if a.Code == "plugin-misplaced" {
		p.Next = append(p.Next, fmt.Sprintf("take the plugin %s out of %s: it belongs into the app's own build file", id, a.Here))
	}
	name := w.site.module.BuildFile
	how := "module"
	if list := e.places(in, w, id, w.Params["module"]); len(list) > 0 {
		how = list[0].how // declared already: only applied nowhere
	} else {
		if list := e.places(in, w, w.Params["after"], ""); w.Params["after"] != "" && len(list) > 0 {
			how = list[0].how
		} else if f, app := in.gradle(b.RootFile), in.gradle(name); app.Block("plugins") == nil || f != nil && len(f.Dependencies("buildscript", "dependencies")) > 0 {
			how = "classpath"
		}
		if err := e.declarePlugin(in, w, p, how); err != nil {
			return err
		}
	}
	f := in.gradle(name)
	block := f.Block("plugins")
	if a.Code == "plugin-undeclared" {
		address := "plugins/" + gradle.Step("id", id)
		if start, end, ok := f.Find(address); ok && how == "module" {
			return p.replace(w, name, address, string(f.Src[start:end])+versionText(f, version))
		}
		return nil
	}
	if block == nil {
		var last *gradle.Stmt
		for _, u := range in.plugins(w, name) {
			if u.Applied && len(u.Head) == 1 && u.Head[0] == "apply" && u.Cond == "" {
				last = u.Stmt
			}
		}
		text := "apply plugin: " + f.Quote(id)
		if f.Kotlin {
			text = "apply(plugin = " + f.Quote(id) + ")"
		}
		if last == nil {
			return p.insert(w, name, gradle.Step("apply", id), f.Append(text))
		}
		return p.insert(w, name, gradle.Step("apply", id), lex.OnLinesAfter(f.Src, last.End, lex.Indent(f.Src, last.Start), text))
	}
	text, key := idText(f, id), id
	switch how {
	case "catalog":
		alias := e.alias(in, w, id)
		key = "libs.plugins." + alias
		if text = "alias(" + key + ")"; !f.Kotlin && !callsInPlugins(f, block) {
			text = "alias " + key
		}
		return p.insert(w, name, "plugins/"+gradle.Step("alias", key), f.Into(block, text))
	case "module":
		text += versionText(f, version)
	}
	return p.insert(w, name, "plugins/"+gradle.Step("id", key), f.Into(block, text))
}

// callsInPlugins reports whether a Groovy plugins block writes its entries with parentheses.
func callsInPlugins(f *gradle.File, block *gradle.Stmt) bool {
	for _, s := range block.Stmts {
		if end := s.Start + len(s.Head[0]); end < len(f.Src) {
			return f.Src[end] == '('
		}
	}
	return true
}

// idText writes id("x") as the file's plugins block writes it.
func idText(f *gradle.File, id string) string {
	if f.Kotlin {
		return "id(" + f.Quote(id) + ")"
	}
	if b := f.Block("plugins"); b != nil && len(b.Stmts) > 0 && callsInPlugins(f, b) {
		return "id(" + f.Quote(id) + ")"
	}
	return "id " + f.Quote(id)
}

func versionText(f *gradle.File, version string) string { return " version " + f.Quote(version) }

// alias gives the accessor of a plugin in the catalog, "" when it is not there.
func (e buildEnsure) alias(in Input, w *Want, id string) string {
	_, c := in.catalog(w)
	if c == nil {
		return ""
	}
	for _, x := range c.Entries {
		rest, ok := strings.CutPrefix(x.Path, "plugins.")
		if !ok {
			continue
		}
		name, isID := strings.CutSuffix(rest, ".id")
		if isID && x.Value == id || strings.HasPrefix(x.Value, id+":") {
			if !isID {
				name = rest
			}
			return strings.NewReplacer("-", ".", "_", ".").Replace(name)
		}
	}
	return ""
}

// declarePlugin says the version where the tree says that of the plugin it builds on.
func (e buildEnsure) declarePlugin(in Input, w *Want, p *Plan, how string) error {
	b, id, version := w.site.module.Build(), w.Params["id"], w.Params["version"]
	switch how {
	case "catalog":
		name, _ := in.catalog(w)
		key := w.Service
		if err := e.intoCatalog(in, w, p, name, "plugins", key, fmt.Sprintf("{ id = %q, version = %q }", id, version)); err != nil {
			return err
		}
		f := in.gradle(b.RootFile)
		if f == nil || f.Block("plugins") == nil || b.RootFile == w.site.module.BuildFile {
			return nil
		}
		text := "alias(libs.plugins." + key + ") apply false"
		return p.into(w, b.RootFile, f, []string{"plugins"}, "plugins/"+gradle.Step("alias", "libs.plugins."+key), text)
	case "root", "settings":
		name, block, address := b.RootFile, []string{"plugins"}, "plugins/"
		if how == "settings" {
			name = b.Settings
			if f := in.gradle(name); f != nil && f.Block("plugins") == nil {
				block, address = []string{"pluginManagement", "plugins"}, "pluginManagement/plugins/"
			}
		}
		f := in.gradle(name)
		text := idText(f, id) + versionText(f, version)
		if len(block) == 1 {
			text += " apply false"
		}
		return p.into(w, name, f, block, address+gradle.Step("id", id), text)
	case "classpath":
		name := b.RootFile
		if f, app := in.gradle(name), in.gradle(w.site.module.BuildFile); f == nil || f.Block("buildscript", "dependencies") == nil && app.Block("buildscript", "dependencies") != nil {
			name = w.site.module.BuildFile
		}
		if err := e.blocks(in, w, p, name, []string{"buildscript", "dependencies"}); err != nil {
			return err
		}
		f := in.gradle(name)
		notation := w.Params["module"] + ":" + version
		text := "classpath " + f.Quote(notation)
		for _, d := range f.Dependencies("buildscript", "dependencies") {
			if end := d.Start + len(d.Config); end < len(f.Src) && f.Src[end] == '(' {
				text = "classpath(" + f.Quote(notation) + ")"
			}
		}
		if f.Kotlin {
			text = "classpath(" + f.Quote(notation) + ")"
		}
		return p.into(w, name, f, []string{"buildscript", "dependencies"}, "buildscript/dependencies/"+gradle.Step("classpath", notation), text)
	}
	return nil
}

// raisePlugin exchanges the version where it is said.
func (e buildEnsure) raisePlugin(in Input, w *Want, p *Plan) error {
	for _, d := range e.places(in, w, w.Params["id"], w.Params["module"]) {
		if d.how == "catalog" || d.version == w.Params["version"] || d.version == "" {
			continue
		}
		f := in.gradle(d.at.File)
		for _, s := range f.Settings() {
			if place(d.at.File, f.Src, s.Start) != d.at {
				continue
			}
			old := string(f.Src[s.Start:s.End])
			text := strings.Replace(old, d.version, w.Params["version"], 1)
			address := addressOf(f, s)
			to := address
			if d.how == "classpath" {
				to = strings.Replace(address, d.version, w.Params["version"], 1)
			}
			if err := p.replaceMoved(w, d.at.File, address, to, text); err != nil {
				return err
			}
		}
	}
	return nil
}
