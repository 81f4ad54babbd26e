package survey

import (
	"slices"
	"sort"
	"strings"

	"ligare/core/survey/script"
	"ligare/core/syntax/gradle"
	"ligare/core/syntax/lex"
)

// unnamed are blocks of a container that stand for all of its elements, or name none.
var unnamed = map[string]bool{"all": true, "configureEach": true, "each": true, "forEach": true, "whenObjectAdded": true, "create": true, "register": true, "maybeCreate": true, "named": true, "getByName": true, "matching": true}

// named gives the names of the blocks inside android.<container>, in order.
func (s *moduleReader) named(container string, known ...string) []string {
	out := append([]string(nil), known...)
	for _, st := range s.model.Under("android", container) {
		if len(st.Path) < 3 || st.Holds() == "false" {
			continue
		}
		name := st.Path[2]
		creates := len(st.Path) == 3 && (st.Block != nil || st.Script().Delegate(st.Stmt) != nil || st.Assign == "" && len(st.Args) == 1 && len(st.Head) == 1 && st.Head[0] != name)
		computed := func() {
			f := st.Stuck("the name is computed")
			s.r.ask(container+" of "+s.m.Dir, f.Unresolved, f.File, f.Line)
			if container == "productFlavors" {
				s.unknown = f // flavors nobody can name may change every variant
			}
		}
		switch {
		case len(st.Path) == 3 && st.Loop() && name != "all" && name != "configureEach":
			if st.Path[2] != "each" && st.Path[2] != "forEach" { // of the container itself
				computed()
			}
			continue
		case unnamed[name]:
			if creates && len(st.Args) > 0 && (name == "create" || name == "register" || name == "maybeCreate") {
				computed()
			}
			continue
		case !creates || slices.Contains(out, name):
			continue
		}
		out = append(out, name)
	}
	return out
}

// setting gives a block's setting: what the block itself says, else what all blocks of the container are told, else that
// of the block it was made from.
func (s *moduleReader) setting(container, name, key string) Fact {
	for range 6 {
		if f := s.model.Setting("android", container, name, key); f.Set() {
			return f
		}
		for _, every := range []string{"all", "configureEach", "each"} {
			var told []script.Stmt
			for _, st := range s.model.At("android", container, every, key) {
				names := map[string]any{"name": name}
				for _, p := range itself(st, "it.") {
					names[p+"name"] = name
				}
				told = append(told, st.Bind(names))
			}
			if f := script.Last(told, script.Stmt.Value); f.Set() {
				return f
			}
		}
		with := s.model.At("android", container, name, "initWith")
		if len(with) == 0 || len(with[0].Args) == 0 {
			return Fact{}
		}
		st := with[len(with)-1]
		if name = reference(st.Script(), st.Args[0]); name == "" {
			return st.Stuck("")
		}
	}
	return Fact{}
}

// dimensions gives the flavor dimensions in order.
func (s *moduleReader) dimensions() []string {
	var out []string
	add := func(st script.Stmt) {
		for _, e := range append(append([]gradle.Expr{}, st.Args...), st.Setting.Value) {
			if len(e) == 0 {
				continue
			}
			for _, f := range st.List(e) {
				if f.Known() && !slices.Contains(out, f.String()) {
					out = append(out, f.String())
				} else if f.Unresolved != "" {
					s.r.ask("flavor dimensions of "+s.m.Dir, f.Unresolved, f.File, f.Line)
				}
			}
		}
	}
	for _, st := range s.model.Under("android") {
		if len(st.Path) < 2 || st.Path[1] != "flavorDimensions" || st.Holds() == "false" {
			continue
		}
		if len(st.Path) == 2 || st.Path[2] == "add" || st.Path[2] == "addAll" {
			if st.Assign == "=" {
				out = nil
			}
			add(st)
		}
	}
	return out
}

// flavors gives the combinations of product flavors, one of each dimension, in dimension order, and each flavor's dimension.
func (s *moduleReader) flavors() (combos [][]string, of map[string]string) {
	names := s.named("productFlavors")
	of = map[string]string{}
	if len(names) == 0 {
		return [][]string{nil}, of
	}
	order := s.dimensions()
	by := map[string][]string{}
	for _, n := range names {
		d := ""
		for _, key := range []string{"dimension", "flavorDimension"} {
			if f := s.setting("productFlavors", n, key); f.Set() {
				d = f.String()
				if !f.Known() {
					s.r.ask("dimension of flavor "+n, f.Unresolved, f.File, f.Line)
				}
			}
		}
		if d == "" && len(order) > 0 {
			d = order[0]
		}
		of[n] = d
		by[d] = append(by[d], n)
	}
	if len(order) == 0 {
		for d := range by {
			order = append(order, d)
		}
		sort.Strings(order)
	}
	combos = [][]string{nil}
	for _, d := range order {
		var next [][]string
		for _, c := range combos {
			for _, n := range by[d] {
				next = append(next, append(append([]string(nil), c...), n))
			}
		}
		if len(next) > 0 {
			combos = next
		}
	}
	return combos, of
}

// buildTypes gives the build types: the platform's two, the framework's, the module's.
func (s *moduleReader) buildTypes() []string {
	types := s.named("buildTypes", "debug", "release")
	if (s.model.Applies("dev.flutter.flutter-gradle-plugin") || s.model.Reads("flutter_tools/gradle/flutter.gradle")) && !slices.Contains(types, "profile") {
		types = append(types, "profile")
	}
	return types
}

func (s *moduleReader) variants() []*AndroidVariant {
	var out []*AndroidVariant
	combos, dims := s.flavors()
	for _, fl := range combos {
		for _, bt := range s.buildTypes() {
			v := &AndroidVariant{BuildType: bt, Flavors: fl, Name: variantName(fl, bt)}
			v.SourceSets = sourceSets(fl, bt, v.Name)
			if s.filtered(v, dims) {
				continue
			}
			s.fill(v)
			s.late(v, dims)
			out = append(out, v)
		}
	}
	return out
}

func variantName(flavors []string, buildType string) string {
	name := ""
	for _, p := range append(append([]string(nil), flavors...), buildType) {
		if name == "" {
			name = p
		} else {
			name += strings.ToUpper(p[:1]) + p[1:]
		}
	}
	return name
}

// sourceSets lists a variant's source sets, highest priority first: variant, build type, flavor combination, flavors, main.
func sourceSets(flavors []string, buildType, variant string) []string {
	var out []string
	if len(flavors) > 0 {
		out = append(out, variant)
	}
	out = append(out, buildType)
	if len(flavors) > 1 {
		out = append(out, variantName(flavors[:len(flavors)-1], flavors[len(flavors)-1]))
	}
	return append(append(out, flavors...), "main")
}

// itself gives the ways in which a block can begin the names of what it runs for: those given, and its parameters.
func itself(st script.Stmt, out ...string) []string {
	for _, up := range st.Up {
		for _, p := range up.Params {
			out = append(out, p+".")
		}
	}
	return out
}

// bound binds what a block that runs for each variant may ask of it.
func bound(st script.Stmt, v *AndroidVariant, dims map[string]string) script.Stmt {
	names := map[string]any{}
	pairs := map[string]string{}
	for _, f := range v.Flavors {
		pairs[dims[f]] = f
	}
	flavorName := ""
	if len(v.Flavors) > 0 {
		flavorName = variantName(v.Flavors[:len(v.Flavors)-1], v.Flavors[len(v.Flavors)-1])
	}
	for _, p := range itself(st, "", "it.", "variant.", "variantBuilder.") {
		names[p+"buildType.name"], names[p+"flavorName"] = v.BuildType, flavorName
		names[p+"flavors"], names[p+"productFlavors"] = v.Flavors, pairs
		if p != "" {
			names[p+"name"], names[p+"buildType"] = v.Name, v.BuildType
		}
	}
	return st.Bind(names)
}

// selects reports whether a selector picks a variant: selector().withBuildType("release"); "" when that is not decided.
func selects(st script.Stmt, v *AndroidVariant, dims map[string]string) string {
	var call *gradle.Stmt
	for _, up := range st.Up {
		if n := len(up.Head); n > 0 && (up.Head[n-1] == "beforeVariants" || up.Head[n-1] == "onVariants") {
			call = up
		}
	}
	if call == nil || len(call.Args) == 0 {
		return "true"
	}
	f, e := st.Script(), call.Args[0]
	for i := 0; i+1 < len(e); i++ {
		if e[i].Kind != lex.Word || e[i+1].Kind != lex.Group {
			continue
		}
		in := lex.Solid(e[i+1].Inner())
		text := ""
		if len(in) > 0 {
			text, _ = lex.Literal(f.Src, in[0])
		}
		switch e[i].Of(f.Src) {
		case "selector", "all":
		case "withBuildType":
			if text != v.BuildType {
				return "false"
			}
		case "withName":
			if text == "" {
				return ""
			}
			if text != v.Name {
				return "false"
			}
		case "withFlavor":
			flavor := ""
			if len(in) == 3 {
				flavor, _ = lex.Literal(f.Src, in[2])
			}
			if flavor == "" {
				return ""
			}
			if !slices.Contains(v.Flavors, flavor) || dims[flavor] != text {
				return "false"
			}
		default:
			return ""
		}
	}
	return "true"
}

// filtered reports whether the scripts remove a variant; where that cannot be decided, the variant stays and the
// question is listed.
func (s *moduleReader) filtered(v *AndroidVariant, dims map[string]string) bool {
	for _, st := range s.model.Stmts {
		n := len(st.Path)
		last := st.Path[n-1]
		filter := n > 2 && st.Path[0] == "android" && st.Path[1] == "variantFilter" && last == "ignore"
		before := n > 2 && st.Path[0] == "androidComponents" && st.Path[1] == "beforeVariants" && (last == "enable" || last == "enabled")
		if !filter && !before || len(st.Arg()) == 0 {
			continue
		}
		at := bound(st, v, dims)
		picked, holds, value := selects(at, v, dims), at.Holds(), at.Truth(at.Arg())
		if picked == "false" || holds == "false" || value == "true" && before || value == "false" && filter {
			continue
		}
		if picked == "true" && holds == "true" && value != "" {
			return true
		}
		file, line, _ := st.Place()
		s.r.ask("Android variant "+v.Name+" in "+s.m.Dir, "a filter may remove it: it cannot be decided from the files", file, line)
	}
	return false
}

// late applies what scripts change variant by variant after all else.
func (s *moduleReader) late(v *AndroidVariant, dims map[string]string) {
	for _, st := range s.model.Stmts {
		n := len(st.Path)
		on := n > 2 && (st.Path[0] == "androidComponents" && st.Path[1] == "onVariants" || st.Path[0] == "android" && st.Path[1] == "applicationVariants")
		if !on || len(st.Arg()) == 0 || st.Path[n-1] != "applicationId" {
			continue
		}
		at := bound(st, v, dims)
		switch picked, holds := selects(at, v, dims), at.Holds(); {
		case picked == "false" || holds == "false":
		case picked == "true" && holds == "true":
			v.ApplicationID = at.Value().Through("set for each variant")
		default:
			v.ApplicationID = at.Stuck("it may change the ID of this variant")
		}
		for i := range v.Identifiers {
			if v.Identifiers[i].Name == counts {
				v.Identifiers[i].Fact = v.ApplicationID
			}
		}
	}
}
