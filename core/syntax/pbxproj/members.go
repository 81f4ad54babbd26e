package pbxproj

import (
	"fmt"
	"path"
	"strings"
)

// AddFramework makes a target link a framework of the platform, by its name with the ending.
func (e *Editor) AddFramework(target, name string) error {
	t := e.target(target)
	if t == nil {
		return fmt.Errorf("no target %q", target)
	}
	where := "System/Library/Frameworks/" + name
	ref := ""
	for _, o := range e.ByISA("PBXFileReference") {
		if o.Dict.Text("path") == where {
			ref = o.ID
		}
	}
	if ref == "" {
		ref = ID("platform framework", name)
		text := fmt.Sprintf("%s /* %s */ = {isa = PBXFileReference; lastKnownFileType = wrapper.framework; name = %s; path = %s; sourceTree = SDKROOT; };", ref, name, Quote(name), Quote(where))
		if err := e.object("PBXFileReference", ref, text); err != nil {
			return err
		}
		group, err := e.frameworksGroup()
		if err != nil {
			return err
		}
		if err := e.item(group, "children", ref, name); err != nil {
			return err
		}
	}
	return e.link(t, ref, name, "Frameworks", "PBXFrameworksBuildPhase")
}

// LinkReference makes a target link a framework that lies in the source, by its path relative to the project's folder.
func (e *Editor) LinkReference(target, full string) error {
	t := e.target(target)
	if t == nil {
		return fmt.Errorf("no target %q", target)
	}
	ref, err := e.AddReference(t, full)
	if err != nil {
		return err
	}
	return e.link(e.target(target), ref, path.Base(full), "Frameworks", "PBXFrameworksBuildPhase")
}

// link puts a reference into a phase of a target.
func (e *Editor) link(t *Target, ref, name, phaseName, isa string) error {
	phase, err := e.phase(t, isa, phaseName)
	if err != nil {
		return err
	}
	if e.InPhase(phase, ref) {
		return nil
	}
	build := ID("build file", t.Name, phaseName, ref)
	text := fmt.Sprintf("%s /* %s in %s */ = {isa = PBXBuildFile; fileRef = %s /* %s */; };", build, name, phaseName, ref, name)
	if err := e.object("PBXBuildFile", build, text); err != nil {
		return err
	}
	return e.item(phase.ID, "files", build, name+" in "+phaseName)
}

// frameworksGroup gives the group in which the IDE lists frameworks, making it if there is none.
func (e *Editor) frameworksGroup() (string, error) {
	main := e.Objects[e.Root.Dict.Text("mainGroup")]
	if main == nil {
		return "", fmt.Errorf("the project has no main group")
	}
	for _, id := range main.Dict.Texts("children") {
		if g := e.Objects[id]; g != nil && g.ISA == "PBXGroup" && (g.Dict.Text("name") == "Frameworks" || g.Dict.Text("path") == "Frameworks") {
			e.Shared = append(e.Shared, "object("+id+")", fmt.Sprintf("object(%s)/children/(%s)", main.ID, id))
			return id, nil
		}
	}
	id := ID("group", "Frameworks")
	text := id + " /* Frameworks */ = {\n\tisa = PBXGroup;\n\tchildren = (\n\t);\n\tname = Frameworks;\n\tsourceTree = \"<group>\";\n};"
	if err := e.object("PBXGroup", id, text); err != nil {
		return "", err
	}
	return id, e.item(main.ID, "children", id, "Frameworks")
}

// Script is one script phase of a target.
type Script struct {
	*Object
	Name, Text string
	Index      int // among the target's phases
}

// Scripts gives a target's script phases in order.
func (p *Project) Scripts(t *Target) []Script {
	var out []Script
	for i, id := range t.Dict.Texts("buildPhases") {
		if o := p.Objects[id]; o != nil && o.ISA == "PBXShellScriptBuildPhase" {
			out = append(out, Script{o, o.Dict.Text("name"), o.Dict.Text("shellScript"), i})
		}
	}
	return out
}

// PhaseIndex gives the place of a phase of a class among a target's phases, -1 for none.
func (p *Project) PhaseIndex(t *Target, isa string) int {
	for i, id := range t.Dict.Texts("buildPhases") {
		if o := p.Objects[id]; o != nil && o.ISA == isa {
			return i
		}
	}
	return -1
}

// AddScript adds a script phase as a target's last one. inputs are the files it reads and outputs those it writes, which
// a sandboxed build has to know.
func (e *Editor) AddScript(target, name, script string, inputs, outputs []string) error {
	t := e.target(target)
	if t == nil {
		return fmt.Errorf("no target %q", target)
	}
	id := ID("script", target, name)
	list := func(paths []string) string {
		var b strings.Builder
		for _, p := range paths {
			b.WriteString("\n\t\t" + Quote(p) + ",")
		}
		return b.String()
	}
	text := fmt.Sprintf("%s /* %s */ = {\n\tisa = PBXShellScriptBuildPhase;\n\talwaysOutOfDate = 1;\n\tbuildActionMask = 2147483647;\n\tfiles = (\n\t);\n\tinputPaths = (%s\n\t);\n\tname = %s;\n\toutputPaths = (%s\n\t);\n\trunOnlyForDeploymentPostprocessing = 0;\n\tshellPath = /bin/sh;\n\tshellScript = %s;\n};",
		id, name, list(inputs), Quote(name), list(outputs), Quote(script))
	if err := e.object("PBXShellScriptBuildPhase", id, text); err != nil {
		return err
	}
	return e.item(t.ID, "buildPhases", id, name)
}

// SetBase makes a build-settings file the base of a configuration that has none; full is relative to the project's folder.
func (e *Editor) SetBase(target, config, full string) error {
	t := e.target(target)
	if t == nil {
		return fmt.Errorf("no target %q", target)
	}
	ref, err := e.AddReference(t, full)
	if err != nil {
		return err
	}
	for _, c := range e.target(target).Configs {
		if c.Dict.Text("name") != config {
			continue
		}
		return e.entry(c, "baseConfigurationReference", fmt.Sprintf("baseConfigurationReference = %s /* %s */;", ref, path.Base(full)))
	}
	return fmt.Errorf("target %q has no configuration %q", target, config)
}

// Base gives the path of a configuration's build-settings file, relative to the project's folder; "" for none.
func (p *Project) Base(config *Object) string {
	if ref := config.Dict.Text("baseConfigurationReference"); ref != "" {
		where, _ := p.Path(ref)
		return where
	}
	if anchor := config.Dict.Text("baseConfigurationReferenceAnchor"); anchor != "" {
		if where, ok := p.Path(anchor); ok {
			return path.Join(where, config.Dict.Text("baseConfigurationReferenceRelativePath"))
		}
	}
	return ""
}

// Extension is an app extension that is to be added to a project.
type Extension struct {
	Name     string            // of the target
	App      string            // target it is embedded in
	Source   string            // its source file, relative to the project's folder
	Plist    string            // its Info.plist
	IDs      map[string]string // configuration -> bundle ID
	Settings map[string]map[string]string
}

// AddExtension adds an app-extension target with one source file, and embeds it in an app: product, phases, a
// configuration for each of the app's, the dependency, and the phase that copies it into the app.
func (e *Editor) AddExtension(x Extension) error {
	app := e.target(x.App)
	if app == nil {
		return fmt.Errorf("no target %q", x.App)
	}
	id := func(what string) string { return ID("extension", x.Name, what) }
	product := x.Name + ".appex"
	phase := func(isa, name, files string) error {
		return e.object(isa, id(name), fmt.Sprintf("%s /* %s */ = {\n\tisa = %s;\n\tbuildActionMask = 2147483647;\n\tfiles = (%s\n\t);\n\trunOnlyForDeploymentPostprocessing = 0;\n};", id(name), name, isa, files))
	}
	source := path.Base(x.Source)
	group, err := e.extensionGroup(x)
	if err != nil {
		return err
	}
	steps := []func() error{
		func() error {
			return e.object("PBXFileReference", id("product"), fmt.Sprintf("%s /* %s */ = {isa = PBXFileReference; explicitFileType = \"wrapper.app-extension\"; includeInIndex = 0; path = %s; sourceTree = BUILT_PRODUCTS_DIR; };", id("product"), product, Quote(product)))
		},
		func() error {
			if products := e.Root.Dict.Text("productRefGroup"); e.Objects[products] != nil {
				return e.item(products, "children", id("product"), product)
			}
			return nil
		},
		func() error {
			return e.object("PBXFileReference", id("source"), fmt.Sprintf("%s /* %s */ = {isa = PBXFileReference; lastKnownFileType = sourcecode.swift; path = %s; sourceTree = \"<group>\"; };", id("source"), source, Quote(source)))
		},
		func() error {
			return e.object("PBXFileReference", id("plist"), fmt.Sprintf("%s /* Info.plist */ = {isa = PBXFileReference; lastKnownFileType = text.plist.xml; path = Info.plist; sourceTree = \"<group>\"; };", id("plist")))
		},
		func() error { return e.item(group, "children", id("source"), source) },
		func() error { return e.item(group, "children", id("plist"), "Info.plist") },
		func() error {
			return e.object("PBXBuildFile", id("compiled"), fmt.Sprintf("%s /* %s in Sources */ = {isa = PBXBuildFile; fileRef = %s /* %s */; };", id("compiled"), source, id("source"), source))
		},
		func() error {
			return phase("PBXSourcesBuildPhase", "Sources", fmt.Sprintf("\n\t\t%s /* %s in Sources */,", id("compiled"), source))
		},
		func() error { return phase("PBXFrameworksBuildPhase", "Frameworks", "") },
		func() error { return phase("PBXResourcesBuildPhase", "Resources", "") },
		func() error { return e.extensionConfigs(x, app, id) },
		func() error {
			return e.object("PBXNativeTarget", id("target"), fmt.Sprintf("%s /* %s */ = {\n\tisa = PBXNativeTarget;\n\tbuildConfigurationList = %s /* Build configuration list for PBXNativeTarget %q */;\n\tbuildPhases = (\n\t\t%s /* Sources */,\n\t\t%s /* Frameworks */,\n\t\t%s /* Resources */,\n\t);\n\tbuildRules = (\n\t);\n\tdependencies = (\n\t);\n\tname = %s;\n\tproductName = %s;\n\tproductReference = %s /* %s */;\n\tproductType = \"com.apple.product-type.app-extension\";\n};",
				id("target"), x.Name, id("configs"), x.Name, id("Sources"), id("Frameworks"), id("Resources"), Quote(x.Name), Quote(x.Name), id("product"), product))
		},
		func() error { return e.item(e.Root.ID, "targets", id("target"), x.Name) },
		func() error {
			return e.object("PBXContainerItemProxy", id("proxy"), fmt.Sprintf("%s /* PBXContainerItemProxy */ = {\n\tisa = PBXContainerItemProxy;\n\tcontainerPortal = %s /* Project object */;\n\tproxyType = 1;\n\tremoteGlobalIDString = %s;\n\tremoteInfo = %s;\n};", id("proxy"), e.Root.ID, id("target"), Quote(x.Name)))
		},
		func() error {
			return e.object("PBXTargetDependency", id("dependency"), fmt.Sprintf("%s /* PBXTargetDependency */ = {\n\tisa = PBXTargetDependency;\n\ttarget = %s /* %s */;\n\ttargetProxy = %s /* PBXContainerItemProxy */;\n};", id("dependency"), id("target"), x.Name, id("proxy")))
		},
		func() error { return e.item(app.ID, "dependencies", id("dependency"), "PBXTargetDependency") },
		func() error {
			return e.object("PBXBuildFile", id("embedded"), fmt.Sprintf("%s /* %s in Embed Foundation Extensions */ = {isa = PBXBuildFile; fileRef = %s /* %s */; settings = {ATTRIBUTES = (RemoveHeadersOnCopy, ); }; };", id("embedded"), product, id("product"), product))
		},
		func() error { return e.embed(app, id("embedded"), product) },
	}
	for _, s := range steps {
		if err := s(); err != nil {
			return err
		}
	}
	return nil
}

// extensionGroup makes the group of an extension's own folder.
func (e *Editor) extensionGroup(x Extension) (string, error) {
	group := ID("extension", x.Name, "group")
	dir := path.Dir(x.Source)
	text := fmt.Sprintf("%s /* %s */ = {\n\tisa = PBXGroup;\n\tchildren = (\n\t);\n\tpath = %s;\n\tsourceTree = \"<group>\";\n};", group, x.Name, Quote(dir))
	if err := e.object("PBXGroup", group, text); err != nil {
		return "", err
	}
	main := e.Root.Dict.Text("mainGroup")
	if e.Objects[main] == nil {
		return "", fmt.Errorf("the project has no main group")
	}
	return group, e.item(main, "children", group, x.Name)
}

func (e *Editor) extensionConfigs(x Extension, app *Target, id func(string) string) error {
	var list strings.Builder
	for _, c := range app.Configs {
		name := c.Dict.Text("name")
		var settings strings.Builder
		for _, k := range sortedKeys(x.Settings[name]) {
			settings.WriteString("\n\t\t" + Quote(k) + " = " + Quote(x.Settings[name][k]) + ";")
		}
		text := fmt.Sprintf("%s /* %s */ = {\n\tisa = XCBuildConfiguration;\n\tbuildSettings = {%s\n\t};\n\tname = %s;\n};", id("config "+name), name, settings.String(), Quote(name))
		if err := e.object("XCBuildConfiguration", id("config "+name), text); err != nil {
			return err
		}
		fmt.Fprintf(&list, "\n\t\t%s /* %s */,", id("config "+name), name)
	}
	last := "Release"
	if n := len(app.Configs); n > 0 {
		last = app.Configs[n-1].Dict.Text("name")
	}
	return e.object("XCConfigurationList", id("configs"), fmt.Sprintf("%s /* Build configuration list for PBXNativeTarget %q */ = {\n\tisa = XCConfigurationList;\n\tbuildConfigurations = (%s\n\t);\n\tdefaultConfigurationIsVisible = 0;\n\tdefaultConfigurationName = %s;\n};", id("configs"), x.Name, list.String(), Quote(last)))
}

// embed copies a product into the app's extensions, in the phase that does so already or in one of its own.
func (e *Editor) embed(app *Target, build, product string) error {
	const name = "Embed Foundation Extensions"
	for _, id := range app.Dict.Texts("buildPhases") {
		if o := e.Objects[id]; o != nil && o.ISA == "PBXCopyFilesBuildPhase" && o.Dict.Text("dstSubfolderSpec") == "13" {
			return e.item(id, "files", build, product+" in "+o.Dict.Text("name"))
		}
	}
	phase := ID("embed extensions", app.Name)
	text := fmt.Sprintf("%s /* %s */ = {\n\tisa = PBXCopyFilesBuildPhase;\n\tbuildActionMask = 2147483647;\n\tdstPath = \"\";\n\tdstSubfolderSpec = 13;\n\tfiles = (\n\t);\n\tname = %q;\n\trunOnlyForDeploymentPostprocessing = 0;\n};", phase, name, name)
	if err := e.object("PBXCopyFilesBuildPhase", phase, text); err != nil {
		return err
	}
	if err := e.item(app.ID, "buildPhases", phase, name); err != nil {
		return err
	}
	return e.item(phase, "files", build, product+" in "+name)
}

func sortedKeys(m map[string]string) []string {
	var out []string
	for k := range m {
		i := 0
		for i < len(out) && out[i] < k {
			i++
		}
		out = append(out[:i], append([]string{k}, out[i:]...)...)
	}
	return out
}
