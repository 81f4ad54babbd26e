package check

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"

	"ligare/core/ident"
	"ligare/core/survey"
	"ligare/core/syntax/gradle"
	"ligare/core/syntax/json"
	"ligare/core/syntax/lex"
	"ligare/core/syntax/pbxproj"
	"ligare/core/syntax/podfile"
	"ligare/core/syntax/source"
	"ligare/core/syntax/xml"
	"ligare/core/syntax/yaml"
	"ligare/core/wiring"
)

// apart finds bundle IDs of one target that its configurations write differently, in a tree that does not say yet which
// are meant.
func (r *runner) apart() {
	first := map[*survey.Target]build{}
	for _, b := range r.builds() {
		if b.target == nil || !b.id.Known() {
			continue
		}
		had, ok := first[b.target]
		if !ok {
			first[b.target] = b
			continue
		}
		one, other := had.id.String(), b.id.String()
		if one == other || b.attached && had.attached {
			continue
		}
		f := b.finding("identifier-apart", b.id)
		f.Expected, f.cause = one, b.site
		f.Also = []wiring.Place{{File: had.id.File, Line: had.id.Line, Column: had.id.Column}}
		switch {
		case strings.EqualFold(one, other):
			f.Message = fmt.Sprintf("%s builds %s and %s builds %s: %s", b.say(), other, strings.ToLower(had.say()[:1])+had.say()[1:], one, ident.Difference(one, other))
		case strings.HasPrefix(one, other+".") || strings.HasPrefix(other, one+"."):
			continue // a suffix says that it is meant
		default:
			f.Severity = Note
			f.Message = fmt.Sprintf("%s builds %s and %s builds %s", b.say(), other, strings.ToLower(had.say()[:1])+had.say()[1:], one)
		}
		r.add(f, nil, b.site, other)
	}
}

// brought are folders that a package manager or a framework fills; a tree that was just cloned does not have them yet.
var brought = []string{"node_modules", "Pods", ".symlinks", "ephemeral", "build", ".gradle", "generated", ".dart_tool", "vendor"}

// away reports whether a relative path leads to a folder that the tree should have and does not.
func (r *runner) away(from, to string) (string, bool) {
	to = strings.ReplaceAll(to, `\`, "/")
	if to == "" || path.IsAbs(to) || strings.ContainsAny(to, "$:*") || strings.HasPrefix(to, "~") {
		return "", false
	}
	dir := path.Join(from, to)
	if strings.HasPrefix(dir, "..") {
		return "", false // outside of what was read
	}
	for _, part := range strings.Split(dir, "/") {
		if slices.Contains(brought, part) {
			return "", false
		}
	}
	return dir, !r.in.Tree.IsDir(dir) && !r.in.Tree.Has(dir) && !r.generated(dir)
}

// generated reports whether an ignore file names a folder: something makes it before the build, and keeps it out of version
// control.
func (r *runner) generated(dir string) bool {
	for at := path.Dir(dir); ; at = path.Dir(at) {
		if src, err := r.in.Tree.Read(path.Join(at, ".gitignore")); err == nil {
			for _, line := range strings.Split(string(src), "\n") {
				line = strings.Trim(strings.TrimSpace(line), "/")
				if line != "" && (line == path.Base(dir) || path.Join(at, line) == dir) {
					return true
				}
			}
		}
		if at == "." {
			return false
		}
	}
}

// localPaths finds modules and packages that are read from folders that are not there.
func (r *runner) localPaths() {
	seen := map[string]bool{}
	for _, m := range r.in.Survey.Android.Modules {
		if b := m.Build(); b != nil && b.Settings != "" {
			r.moduleUsed(m, b.File(b.Settings))
			if !seen[b.Settings] {
				seen[b.Settings] = true
				r.modules(b)
			}
		}
	}
	for _, p := range r.in.Survey.IOS.Projects {
		if p.Podfile == "" || seen[p.Podfile] {
			continue
		}
		seen[p.Podfile] = true
		src, err := r.in.Tree.Read(p.Podfile)
		if err != nil {
			continue
		}
		f, err := podfile.Parse(src)
		if err != nil {
			continue
		}
		f.Root.Each(func(b *podfile.Block) {
			for _, c := range b.Calls {
				for _, a := range c.Args {
					if c.Word != "pod" || a.Key != "path" || !a.Literal || len(c.Args) == 0 {
						continue
					}
					if dir, gone := r.away(path.Dir(p.Podfile), a.Text); gone {
						line, column := lex.Position(src, a.Start)
						r.localPath(p.Podfile, line, column, "The pod "+c.Args[0].Text, dir, Error)
					}
				}
			}
		})
	}
	for _, f := range r.in.Survey.Frameworks {
		if f.Name == "flutter" {
			r.pubPaths(path.Join(f.Dir, "pubspec.yaml"))
		}
	}
	for _, u := range r.libraries() {
		to, ok := strings.CutPrefix(u.version, "file:")
		if !ok {
			to, ok = strings.CutPrefix(u.version, "link:")
		}
		if dir, gone := r.away(path.Dir(u.at.File), to); ok && gone {
			r.localPath(u.at.File, u.at.Line, max(u.at.Column, 1), "The package "+u.name, dir, Error)
		}
	}
}

// pubPaths looks for the folders that a Dart package manifest reads packages from.
func (r *runner) pubPaths(name string) {
	src, err := r.in.Tree.Read(name)
	if err != nil {
		return
	}
	docs, err := yaml.Parse(src)
	if err != nil || len(docs) == 0 {
		return // said by source-unreadable
	}
	for _, list := range []string{"dependencies", "dev_dependencies", "dependency_overrides"} {
		all := docs[0].Get(list)
		if all == nil {
			continue
		}
		for i, k := range all.Keys {
			if to := all.Items[i].Get("path"); to != nil {
				if dir, gone := r.away(path.Dir(name), to.Text); gone {
					r.localPath(name, to.Line, to.Column, "The package "+k, dir, Error)
				}
			}
		}
	}
}

func (r *runner) localPath(file string, line, column int, who, dir string, severity Severity) {
	r.add(Finding{Rule: "local-path-missing", Severity: severity, File: file, Line: line, Column: column, Actual: dir, Expected: "a folder", cause: file + dir,
		Message: fmt.Sprintf("%s is read from %s, and there is no such folder", who, dir)}, nil, dir)
}

// modules looks for the folders of the modules that a settings file includes.
func (r *runner) modules(b *survey.Build) {
	f := b.File(b.Settings)
	if f == nil {
		return
	}
	elsewhere := movedModules(f)
	for _, s := range f.At("include") {
		for _, a := range s.Args {
			name, ok := f.Literal(a)
			if !ok {
				continue
			}
			name = ":" + strings.TrimPrefix(name, ":")
			to, moved := elsewhere[name]
			if moved && to == "" {
				continue // computed
			}
			if !moved {
				to = strings.ReplaceAll(strings.TrimPrefix(name, ":"), ":", "/")
			}
			dir, gone := r.away(b.Root, to)
			if !gone {
				continue
			}
			severity := Warning // Gradle makes an empty project of it, before its version 9
			for _, m := range r.in.Survey.Android.Modules {
				if m.Build() == b && slices.ContainsFunc(m.Dependencies, func(d survey.Dependency) bool { return d.Name == name }) {
					severity = Error
				}
			}
			if slices.ContainsFunc(r.in.Answers, func(x wiring.Answer) bool { return x.Place == "local-module" && x.Params["name"] == name }) {
				severity = Note // placed, and still to be unpacked
			}
			line, column := f.Position(a[0].Start)
			r.localPath(b.Settings, line, column, "The module "+name, dir, severity)
		}
	}
}

// movedModules gives the folders that a settings file assigns to modules: "" for one that is computed.
func movedModules(f *gradle.File) map[string]string {
	out := map[string]string{}
	for _, s := range f.Settings() {
		n := len(s.Path)
		if n < 3 || s.Path[n-1] != "projectDir" || s.Path[n-3] != "project" {
			continue
		}
		to := ""
		var last func(nodes []*lex.Node)
		last = func(nodes []*lex.Node) { // file("x"), new File(settingsDir, "x")
			for _, k := range nodes {
				if k.Kind == lex.String {
					to = strings.Trim(k.Of(f.Src), `"'`)
				}
				last(k.Kids)
			}
		}
		last(s.Arg())
		out[":"+strings.TrimPrefix(s.Path[n-2], ":")] = to
	}
	return out
}

// moduleUsed finds modules that a build file uses and the settings file does not include.
func (r *runner) moduleUsed(m *survey.Module, settings *gradle.File) {
	g := m.Build().File(m.BuildFile)
	if g == nil || settings == nil || settings.Err() != nil {
		return
	}
	included := map[string]bool{}
	for _, s := range settings.At("include") {
		for _, a := range s.Args {
			name, ok := settings.Literal(a)
			if !ok {
				return // computed: anything may be included
			}
			included[":"+strings.TrimPrefix(name, ":")] = true
		}
	}
	for _, s := range settings.Settings() { // a framework's or another file's modules may come in here
		if last := s.Path[len(s.Path)-1]; last == "apply" || last == "includeBuild" || last == "each" || last == "forEach" || strings.Contains(last, "odules") {
			return
		}
	}
	for _, d := range g.Dependencies("dependencies") {
		if d.Project == "" || included[d.Project] || m.Framework != "" {
			continue
		}
		line, column := g.Position(d.Start)
		r.add(Finding{Rule: "local-path-missing", File: m.BuildFile, Line: line, Column: column, Expected: "include(" + d.Project + ")", Actual: d.Project, cause: m.BuildFile + d.Project,
			Message: fmt.Sprintf("The module %s is used, and %s does not include it", d.Project, m.Build().Settings)}, nil, d.Project)
	}
}

// debuggable finds builds for users that a debugger can be attached to.
func (r *runner) debuggable() {
	for _, b := range r.builds() {
		if b.variant == nil || !b.production() && (b.attached || b.variant.BuildType != "release") {
			continue
		}
		f := Finding{Rule: "release-debuggable", Variant: b.name, Expected: "false", Actual: "true", Message: fmt.Sprintf("%s is built so that a debugger can be attached", b.say())}
		for _, name := range b.variant.Manifests {
			src, err := r.in.Tree.Read(name)
			if err != nil {
				continue
			}
			doc := xml.Parse(src)
			if doc.Top == nil || doc.Err() != nil || doc.Top.Child("application") == nil {
				continue
			}
			if a := doc.Top.Child("application").AttrNS(androidNS, "debuggable"); a != nil && a.Value == "true" {
				f.File = name
				f.Line, f.Column = doc.At(a.ValueStart)
			}
		}
		if build := b.module.Build(); build != nil && f.File == "" {
			g := build.File(b.module.BuildFile)
			for _, s := range g.Settings() {
				last := s.Path[len(s.Path)-1]
				if v := s.Arg(); (last == "debuggable" || last == "isDebuggable") && slices.Contains(s.Path, "buildTypes") && slices.Contains(s.Path, b.variant.BuildType) && g.Text(v) == "true" {
					f.File = b.module.BuildFile
					f.Line, f.Column = g.Position(s.Start)
				}
			}
		}
		if f.File != "" {
			f.cause = f.Place()
			r.add(f, nil, b.site, f.File)
		}
	}
}

// icons looks at the pictures of the app's icon: whether they are there, of the size they are named for, and, the one that
// the store shows, without an alpha channel.
func (r *runner) icons() {
	r.in.Tree.Walk(func(name string) {
		if path.Base(name) != "Contents.json" || path.Ext(path.Dir(name)) != ".appiconset" {
			return
		}
		src, err := r.in.Tree.Read(name)
		if err != nil {
			return
		}
		f, err := json.Parse(src)
		if err != nil {
			return
		}
		for _, image := range f.At("/images/*") {
			said := map[string]*json.Value{}
			for _, m := range image.Members {
				said[m.Name] = m.Value
			}
			if file, size := said["filename"], said["size"]; file != nil && size != nil && file.Text != "" {
				line, column := f.Position(file)
				r.icon(Finding{Rule: "icon-unfit", File: name, Line: line, Column: column}, path.Join(path.Dir(name), file.Text), size.Text, said["scale"])
			}
		}
	})
}

func (r *runner) icon(f Finding, name, size string, scale *json.Value) {
	f.cause = name
	side, _, _ := strings.Cut(size, "x")
	points, err := strconv.ParseFloat(side, 64)
	if err != nil {
		return
	}
	times := 1
	if scale != nil {
		if n, err := strconv.Atoi(strings.TrimSuffix(scale.Text, "x")); err == nil {
			times = n
		}
	}
	want := int(points * float64(times))
	f.Expected = fmt.Sprintf("%d x %d", want, want)
	b, err := r.in.Tree.Read(name)
	if err != nil {
		f.Actual, f.Message = "not there", fmt.Sprintf("The icon %s is not there", name)
		r.add(f, nil, name)
		return
	}
	p, ok := readPNG(b)
	switch {
	case !ok:
		return // another format, or a vector
	case p.width != want || p.height != want:
		f.Actual = fmt.Sprintf("%d x %d", p.width, p.height)
		f.Message = fmt.Sprintf("The icon %s has %s pixels and stands for %s", name, f.Actual, f.Expected)
	case p.alpha && want == 1024:
		f.Expected, f.Actual = "no alpha channel", "an alpha channel"
		f.Message = fmt.Sprintf("The icon %s has an alpha channel, and is the one the store shows", name)
	default:
		return
	}
	r.add(f, nil, name)
}

type picture struct {
	width, height int
	alpha         bool
}

// readPNG reads the header of a PNG and whether it has transparency (PNG, sections 5.2, 11.2.2, 11.3.2.1).
func readPNG(b []byte) (picture, bool) {
	if len(b) < 33 || !bytes.HasPrefix(b, []byte("\x89PNG\r\n\x1a\n")) || string(b[12:16]) != "IHDR" {
		return picture{}, false
	}
	p := picture{width: int(binary.BigEndian.Uint32(b[16:])), height: int(binary.BigEndian.Uint32(b[20:])), alpha: b[25] == 4 || b[25] == 6}
	for at := 8; at+12 <= len(b); {
		n := int(binary.BigEndian.Uint32(b[at:]))
		switch string(b[at+4 : at+8]) {
		case "tRNS":
			p.alpha = true
			return p, true
		case "IDAT", "IEND":
			return p, true
		}
		if n < 0 || n > len(b)-at-12 {
			return p, true
		}
		at += 12 + n
	}
	return p, true
}

// outdated finds what older templates wrote and raised tools refuse.
func (r *runner) outdated() {
	plugins, kotlins := r.pluginVersions("com.android.application", "com.android.tools.build:gradle"), r.pluginVersions("org.jetbrains.kotlin.android", "org.jetbrains.kotlin:kotlin-gradle-plugin")
	least := func(list []survey.Fact, i int, version string) bool {
		low, ok := wiring.Under(list[i].String(), version)
		return list[i].Known() && ok && !low
	}
	for i, m := range r.in.Survey.Android.Modules {
		if m.Layout != "gradle" && m.Build() == nil {
			continue
		}
		if least(plugins, i, "8.0") {
			r.withoutNamespace(m, plugins[i])
			r.withoutBuildConfig(m, plugins[i])
		}
		for _, p := range m.Plugins {
			if (p.Name == "kotlin-android-extensions" || p.Name == "org.jetbrains.kotlin.android.extensions") && least(kotlins, i, "1.8") {
				r.tooOld(p.Fact, p.Name, "kotlin-parcelize, and view binding", fmt.Sprintf("%s was taken away with Kotlin 1.8, and %s says %s", p.Name, kotlins[i].Place(), kotlins[i].String()))
			}
		}
	}
	r.oldMain()
}

func (r *runner) tooOld(at survey.Fact, actual, expected, say string) {
	r.add(Finding{Rule: "template-code-outdated", File: at.File, Line: max(at.Line, 1), Column: max(at.Column, 1), Expected: expected, Actual: actual, cause: at.Place() + actual, Message: capital(say)}, nil, actual)
}

func (r *runner) withoutNamespace(m *survey.Module, plugin survey.Fact) {
	for _, v := range m.Variants {
		if n := v.Namespace; n.Known() && strings.HasSuffix(n.File, "AndroidManifest.xml") {
			r.tooOld(n, "package", "namespace in "+m.BuildFile, fmt.Sprintf("The namespace stands only in the manifest's package, which the Android plugin no longer reads since version 8; %s says %s", plugin.Place(), plugin.String()))
		}
	}
}

func (r *runner) withoutBuildConfig(m *survey.Module, plugin survey.Fact) {
	g := m.Build().File(m.BuildFile)
	if g == nil || m.Framework == "react-native" || m.Framework == "flutter" { // whose plugins may switch it on
		return
	}
	for _, s := range g.Settings() {
		switch s.Path[len(s.Path)-1] {
		case "buildConfig":
			return
		}
	}
	if src, err := r.in.Tree.Read(path.Join(m.Root, "gradle.properties")); err == nil && bytes.Contains(src, []byte("android.defaults.buildfeatures.buildconfig")) {
		return
	}
	for _, s := range g.Settings() {
		if s.Path[len(s.Path)-1] == "buildConfigField" {
			line, column := g.Position(s.Start)
			r.tooOld(survey.Fact{File: m.BuildFile, Line: line, Column: column}, "buildConfigField", "buildFeatures { buildConfig = true }",
				fmt.Sprintf("Fields of BuildConfig are declared, and since version 8 the Android plugin makes no BuildConfig unless it is switched on; %s says %s", plugin.Place(), plugin.String()))
			return
		}
	}
}

// oldMain finds the attribute that the language's version 6 refuses.
func (r *runner) oldMain() {
	for _, p := range r.in.Survey.IOS.Projects {
		if p.Version == 0 {
			continue
		}
		src, err := r.in.Tree.Read(p.File())
		if err != nil {
			continue
		}
		x, err := pbxproj.Parse(src)
		if err != nil {
			continue
		}
		for _, t := range p.Targets {
			if !t.App() || len(t.Configurations) == 0 {
				continue
			}
			s, ok := survey.SettingsOf(r.in.Tree, p, x, t.Name, t.Configurations[0].Name)
			if !ok {
				continue
			}
			version := s.Get("SWIFT_VERSION")
			if low, known := wiring.Under(version.String(), "6.0"); !version.Known() || !known || low {
				continue
			}
			for _, name := range survey.Sources(r.in.Tree, p, x, t.Name) {
				src, err := r.in.Tree.Read(name)
				if err != nil || path.Ext(name) != ".swift" || !bytes.Contains(src, []byte("@UIApplicationMain")) {
					continue
				}
				f, ok := source.Parse(name, src)
				if !ok {
					continue
				}
				if at := wordAt(f.Tree.Root, src, "UIApplicationMain"); at >= 0 {
					line, column := lex.Position(src, at)
					r.tooOld(survey.Fact{File: name, Line: line, Column: column}, "@UIApplicationMain", "@main", fmt.Sprintf("@UIApplicationMain is refused since version 6 of the language, and %s says %s", version.Place(), version.String()))
				}
			}
		}
	}
}

// wordAt gives the offset of the first identifier of a name, -1 for none.
func wordAt(n *lex.Node, src []byte, name string) int {
	for _, k := range n.Kids {
		if k.Kind == lex.Word && strings.TrimPrefix(k.Of(src), "@") == name {
			return k.Start
		}
		if at := wordAt(k, src, name); at >= 0 {
			return at
		}
	}
	return -1
}
