package survey

import (
	"fmt"
	"path"
	"strings"

	"ligare/core/survey/fact"
	"ligare/core/syntax/pbxproj"
	"ligare/core/syntax/xcconfig"
	"ligare/core/tree"
)

// assignment is one setting of a layer; conds are what stands in brackets behind its name.
type assignment struct {
	key, value   string
	conds        []string
	file         string
	line, column int
}

// layer is one place a build setting may come from: a configuration's own settings, or its xcconfig with what that includes.
type layer struct {
	list []assignment // in the order in which they are read: later ones win
	gone string       // a file that is not there: what it sets is not known
}

// settings are the layers of one target and configuration, strongest first (Xcode Help, "Configuration settings file
// (xcconfig) format" and "Build settings reference"): target, target's xcconfig, project, project's xcconfig.
type settings struct {
	t      *tree.Tree
	p      *Project
	px     *pbxproj.Project
	target *pbxproj.Target
	config string
	ios    bool // the target builds for iOS only
	device string
	layers []layer
}

func newSettings(t *tree.Tree, p *Project, px *pbxproj.Project, tg *pbxproj.Target, c *pbxproj.Object, r *Report) *settings {
	s := &settings{t: t, p: p, px: px, target: tg, config: c.Dict.Text("name")}
	add := func(o *pbxproj.Object) {
		var own layer
		if bs := o.Dict.Get("buildSettings"); bs != nil && bs.Dict != nil {
			for _, e := range bs.Dict.Entries {
				l, col := px.Position(e.Value.Start)
				v := e.Value.Text
				if e.Value.List != nil {
					v = strings.Join(bs.Dict.Texts(e.Key), " ")
				}
				key, conds := conditions(e.Key)
				own.list = append(own.list, assignment{key, v, conds, p.File(), l, col})
			}
		}
		s.layers = append(s.layers, own)
		base := ""
		if ref := o.Dict.Text("baseConfigurationReference"); ref != "" {
			if where, ok := px.Path(ref); ok {
				base = path.Join(p.Dir, where)
			} else if f := px.Objects[ref]; f != nil {
				base = path.Join(p.Dir, f.Dict.Text("path"))
			}
		} else if anchor := o.Dict.Text("baseConfigurationReferenceAnchor"); anchor != "" { // a file of a synchronised folder
			if where, ok := px.Path(anchor); ok {
				base = path.Join(p.Dir, where, o.Dict.Text("baseConfigurationReferenceRelativePath"))
			}
		}
		if base != "" {
			var x layer
			s.include(&x, base, map[string]bool{}, false, r)
			s.layers = append(s.layers, x)
		}
	}
	add(c)
	for _, pc := range px.ProjectConfigs() {
		if pc.Dict.Text("name") == s.config {
			add(pc)
		}
	}
	return s
}

// conditions splits KEY[sdk=iphoneos*][config=Debug].
func conditions(key string) (name string, conds []string) {
	name, rest, ok := strings.Cut(key, "[")
	if !ok {
		return key, nil
	}
	for _, part := range strings.Split(rest, "[") {
		for _, c := range strings.Split(strings.TrimSuffix(strings.TrimSpace(part), "]"), ",") {
			conds = append(conds, strings.TrimSpace(c))
		}
	}
	return strings.TrimSpace(name), conds
}

// include reads an xcconfig into a layer, at the place where it is included.
func (s *settings) include(x *layer, name string, on map[string]bool, optional bool, r *Report) {
	if on[name] {
		r.broken("build settings file "+name, "it includes itself", name, 0)
		return
	}
	src, err := s.t.Read(name)
	if err != nil || len(on) > 20 {
		if !optional && x.gone == "" {
			x.gone = name
		}
		if err != nil && !missing(err) {
			r.broken("build settings file "+name, err.Error(), name, 0)
		}
		return
	}
	on[name] = true
	defer delete(on, name)
	f := xcconfig.Parse(src)
	next := 0
	includes := func(before int) {
		for ; next < len(f.Includes) && f.Includes[next].After <= before; next++ {
			i := f.Includes[next]
			at := path.Join(path.Dir(name), i.Path)
			if !s.t.Has(at) && s.t.Has(path.Join(s.p.Dir, i.Path)) { // relative to the project
				at = path.Join(s.p.Dir, i.Path)
			}
			s.include(x, at, on, i.Optional, r)
		}
	}
	for i, a := range f.Settings {
		includes(i)
		key, conds := conditions(a.Key)
		x.list = append(x.list, assignment{key, a.Value, conds, name, a.Line, a.Column})
	}
	includes(len(f.Settings))
}

// generated files of package managers and frameworks set search paths, flags and their own names, and nothing else.
var generatedPrefixes = []string{"PODS_", "FRAMEWORK_SEARCH", "HEADER_SEARCH", "LIBRARY_SEARCH", "OTHER_", "GCC_PREPROCESSOR", "LD_RUNPATH", "USE_RECURSIVE",
	"USER_HEADER", "SWIFT_", "CLANG_", "EMBEDDED_", "ALWAYS_EMBED", "FLUTTER_", "DART_", "TRACK_WIDGET", "TREE_SHAKE", "PACKAGE_CONFIG", "EXCLUDED_ARCHS", "COCOAPODS_", "VALID_ARCHS", "EXTRA_"}

// may reports whether a file that is not there may set a key.
func may(file, key string) bool {
	base := path.Base(file)
	if !strings.Contains(file, "Pods/") && !strings.HasPrefix(base, "Pods-") && base != "Generated.xcconfig" {
		return true
	}
	for _, p := range generatedPrefixes {
		if strings.HasPrefix(key, p) {
			return true
		}
	}
	return false
}

// decide tells whether a setting's conditions hold: "true", "false", or "" for those that differ from build to build.
func (s *settings) decide(conds []string) string {
	out := "true"
	for _, c := range conds {
		name, pattern, _ := strings.Cut(c, "=")
		is := ""
		switch {
		case pattern == "*":
			is = "true"
		case name == "config":
			is = "false"
			if match(pattern, s.config) {
				is = "true"
			}
		case name == "sdk" && pattern == "iphone*":
			is = "true"
		case name == "sdk" && !strings.HasPrefix(pattern, "iphone") && s.ios:
			is = "false"
		case name == "variant" && pattern == "normal":
			is = "true"
		}
		if is == "false" {
			return is
		}
		if is == "" {
			out = ""
		}
	}
	return out
}

func match(pattern, text string) bool {
	ok, err := path.Match(pattern, text)
	return err == nil && ok
}

// get resolves a build setting with the others it names.
func (s *settings) get(key string) Fact { return s.from(key, 0, -1, 0) }

// builtIn are settings that the build system itself gives.
var builtIn = map[string]bool{"TARGET_NAME": true, "CONFIGURATION": true, "SRCROOT": true, "PROJECT_DIR": true, "PROJECT_NAME": true, "SOURCE_ROOT": true}

// from looks a setting up from a layer on; below limits the assignments of that layer, -1 for all.
func (s *settings) from(key string, first, below, depth int) Fact {
	if depth > 20 {
		return fact.Open(fmt.Sprintf("$(%s) refers to itself", key), s.p.File(), 0, 0)
	}
	var open []assignment // under conditions that differ from build to build, strongest first
	var at [][2]int
	finish := func(plain Fact) Fact {
		out := plain
		for i := len(open) - 1; i >= 0; i-- {
			a := open[i]
			got := s.expand(a.value, key, at[i][0], at[i][1], depth)
			if got.Unresolved != "" {
				return got
			}
			got.File, got.Line, got.Column = a.file, a.line, a.column
			when := "[" + strings.Join(a.conds, "][") + "]"
			if !out.Set() || out.String() == "" && out.Known() {
				if got.Known() {
					got.Possible, got.Value = []Possible{{Value: *got.Value, When: when}}, nil
				}
				out = got
				continue
			}
			if got.Known() && out.Known() && *got.Value == *out.Value {
				continue
			}
			both := got
			both.Value, both.Possible = nil, nil
			if got.Known() {
				both.Possible = append(both.Possible, Possible{Value: *got.Value, When: when})
			}
			both.Possible = append(both.Possible, got.Possible...)
			if out.Known() {
				both.Possible = append(both.Possible, Possible{Value: *out.Value, When: "otherwise"})
			}
			both.Possible = append(both.Possible, out.Possible...)
			out = both
		}
		return out
	}
	for i := first; i < len(s.layers); i++ {
		x := s.layers[i]
		var plain *assignment
		pos := 0
		n := len(x.list)
		if i == first && below >= 0 {
			n = below
		}
		for j := n - 1; j >= 0; j-- {
			a := x.list[j]
			if a.key != key {
				continue
			}
			switch s.decide(a.conds) {
			case "":
				open, at = append(open, a), append(at, [2]int{i, j})
			case "true":
				if plain == nil || len(plain.conds) == 0 && len(a.conds) > 0 {
					plain, pos = &x.list[j], j
				}
			}
		}
		if plain != nil {
			if plain.value == "" {
				return finish(fact.Of("", plain.file, plain.line, plain.column))
			}
			f := s.expand(plain.value, key, i, pos, depth)
			if f.Unresolved != "" {
				return fact.Open(fmt.Sprintf("`%s`: %s", plain.value, f.Unresolved), plain.file, plain.line, plain.column)
			}
			f.File, f.Line, f.Column = plain.file, plain.line, plain.column
			return finish(f)
		}
		if x.gone != "" && !builtIn[key] && may(x.gone, key) {
			return fact.Open(fmt.Sprintf("%s is not there, and may set %s", x.gone, key), s.p.File(), 0, 0)
		}
	}
	return finish(s.usual(key, depth))
}

// usual gives the build system's own values and defaults.
func (s *settings) usual(key string, depth int) Fact {
	switch key {
	case "PRODUCT_NAME":
		f := s.from("TARGET_NAME", 0, -1, depth+1)
		return f.Through("the default of PRODUCT_NAME")
	case "TARGET_NAME", "TARGETNAME":
		return fact.Of(s.target.Name, s.p.File(), 0, 0)
	case "PROJECT_NAME":
		return fact.Of(strings.TrimSuffix(path.Base(s.p.Path), ".xcodeproj"), s.p.File(), 0, 0)
	case "CONFIGURATION":
		return fact.Of(s.config, s.p.File(), 0, 0)
	case "SRCROOT", "PROJECT_DIR", "SOURCE_ROOT":
		return fact.Of(".", s.p.File(), 0, 0)
	case "PRODUCT_MODULE_NAME":
		return s.from("PRODUCT_NAME", 0, -1, depth+1).With(identifierOf)
	case "EXECUTABLE_NAME", "FULL_PRODUCT_NAME", "WRAPPER_NAME":
		f := s.from("PRODUCT_NAME", 0, -1, depth+1)
		if key != "EXECUTABLE_NAME" {
			f = f.With(func(t string) string { return t + ".app" })
		}
		return f
	case "DEVELOPMENT_LANGUAGE":
		return fact.Of(s.px.Root.Dict.Text("developmentRegion"), s.p.File(), 0, 0)
	}
	return Fact{}
}

func identifierOf(s string) string {
	var b strings.Builder
	for i, r := range s {
		ok := r == '_' || r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || i > 0 && r >= '0' && r <= '9'
		if ok {
			b.WriteRune(r)
		} else {
			b.WriteByte('_')
		}
	}
	return b.String()
}

// expand replaces $(NAME), ${NAME} and their modifiers. An unset setting is an empty string. key, at and pos say which
// assignment is expanded, for $(inherited).
func (s *settings) expand(v, key string, at, pos, depth int) Fact {
	parts := []Fact{fact.Of("", "", 0, 0)}
	text := func(t string) { parts = append(parts, fact.Of(t, "", 0, 0)) }
	start := 0
	for i := 0; i < len(v); i++ {
		if v[i] != '$' || i+1 >= len(v) || v[i+1] != '(' && v[i+1] != '{' {
			continue
		}
		text(v[start:i])
		closer := byte(')')
		if v[i+1] == '{' {
			closer = '}'
		}
		end, nest := i+2, 1
		for end < len(v) {
			if v[end] == v[i+1] {
				nest++
			} else if v[end] == closer {
				if nest--; nest == 0 {
					break
				}
			}
			end++
		}
		if end >= len(v) {
			return fact.Open("a bracket is missing", "", 0, 0)
		}
		name, mods, _ := strings.Cut(v[i+2:end], ":")
		if strings.Contains(name, "$") {
			inner := s.expand(name, key, at, pos, depth+1)
			if !inner.Known() {
				return fact.Open("`"+name+"` is not one name", "", 0, 0)
			}
			name = inner.String()
		}
		f := s.named(name, key, at, pos, depth)
		if f.Unresolved != "" {
			return f
		}
		if mods != "" {
			f = f.With(func(t string) string {
				for _, m := range strings.Split(mods, ":") {
					t = modify(t, m)
				}
				return t
			})
			if !f.Set() {
				f = fact.Of(modify("", mods), "", 0, 0)
			}
		}
		if name != "" {
			parts = append(parts, f)
		}
		i, start = end, end+1
	}
	text(v[start:])
	for i := range parts {
		if !parts[i].Set() {
			via := parts[i].Via
			parts[i] = fact.Of("", "", 0, 0, via...)
		}
	}
	return fact.Join(parts...)
}

// named gives a setting that an expression names, with the step for the chain.
func (s *settings) named(name, key string, at, pos, depth int) Fact {
	if name == "" { // $() is nothing: the way to write // in an xcconfig
		return fact.Of("", "", 0, 0)
	}
	var f Fact
	switch {
	case name == "inherited" || name == key:
		f = s.from(key, at, pos, depth+1)
	case name == "AppIdentifierPrefix" || name == "TeamIdentifierPrefix":
		if f = filled(s.from("DEVELOPMENT_TEAM", 0, -1, depth+1)); !f.Set() {
			f = s.attribute("DevelopmentTeam")
		}
		if !f.Known() || f.String() == "" {
			return fact.Open("$("+name+") comes from the signing team, which the project does not name", "", 0, 0)
		}
		f = f.With(func(t string) string { return t + "." })
	case name == "CFBundleIdentifier":
		f = s.from("PRODUCT_BUNDLE_IDENTIFIER", 0, -1, depth+1)
	default:
		f = s.from(name, 0, -1, depth+1)
	}
	if f.Unresolved != "" {
		return f
	}
	step := fmt.Sprintf("$(%s) = %s", name, f.Say())
	if !f.Set() {
		step = fmt.Sprintf("$(%s) is not set", name)
	} else if f.File != "" && f.Line > 0 {
		step += " at " + f.Place()
	}
	f.Via = append([]string{step}, f.Via...)
	return f
}

func modify(s, m string) string {
	name, arg, _ := strings.Cut(m, "=")
	switch name {
	case "rfc1034identifier":
		return strings.Map(func(r rune) rune {
			if r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || r == '.' || r == '-' {
				return r
			}
			return '-'
		}, s)
	case "c99extidentifier", "identifier":
		return identifierOf(s)
	case "lower":
		return strings.ToLower(s)
	case "upper":
		return strings.ToUpper(s)
	case "base":
		return strings.TrimSuffix(path.Base(s), path.Ext(s))
	case "file":
		return path.Base(s)
	case "dir":
		return path.Dir(s) + "/"
	case "suffix":
		return path.Ext(s)
	case "default":
		if s == "" {
			return arg
		}
	}
	return s
}

// Settings resolves the build settings of one target's configuration in a tree as it stands now, after edits.
type Settings struct{ s *settings }

// SettingsOf reads the layers of a configuration; px is the project's file as it stands. ok is false for a target or a
// configuration that is not there.
func SettingsOf(t *tree.Tree, p *Project, px *pbxproj.Project, target, config string) (out Settings, ok bool) {
	for _, tg := range px.Targets() {
		for _, c := range tg.Configs {
			if tg.Name == target && c.Dict.Text("name") == config {
				return Settings{newSettings(t, p, px, tg, c, &Report{})}, true
			}
		}
	}
	return out, false
}

// Get resolves a setting.
func (s Settings) Get(key string) Fact { return s.s.get(key) }

// Own reports whether one of the layers sets a key at all, to something or to nothing.
func (s Settings) Own(key string) bool {
	for _, l := range s.s.layers {
		for _, a := range l.list {
			if a.key == key {
				return true
			}
		}
	}
	return false
}

// Expand resolves the settings that a text of a property list names.
func (s Settings) Expand(text string) Fact { return s.s.expand(text, "", 0, -1, 0) }
