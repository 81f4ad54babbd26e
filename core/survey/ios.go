package survey

import (
	"fmt"
	"path"
	"strings"

	"ligare/core/syntax/lex"
	"ligare/core/syntax/pbxproj"
	"ligare/core/syntax/plist"
	"ligare/core/syntax/xcconfig"
	"ligare/core/tree"
)

// readProject reads one Xcode project.
func readProject(t *tree.Tree, name string, r *Report) *Project {
	src, err := t.Read(name)
	if err != nil {
		r.broken("project "+name, err.Error(), name, 0)
		return nil
	}
	px, err := pbxproj.Parse(src)
	if err != nil {
		line := 0
		if pe, ok := err.(*pbxproj.Error); ok {
			line = pe.Line
		}
		r.broken("project "+name, err.Error(), name, line)
		return nil
	}
	p := &Project{Path: path.Dir(name), Dir: path.Dir(path.Dir(name)), Version: px.Version}
	for dir := p.Dir; ; dir = path.Dir(dir) {
		if t.Has(path.Join(dir, "Podfile")) {
			p.Podfile = path.Join(dir, "Podfile")
			break
		}
		if dir == "." {
			break
		}
	}
	for _, tg := range px.Targets() {
		if tg.Test() {
			continue
		}
		out := &Target{Name: tg.Name, ProductType: tg.ProductType}
		for _, c := range tg.Configs {
			s := newSettings(t, p, px, tg, c, name)
			out.Configurations = append(out.Configurations, s.configuration())
		}
		p.Targets = append(p.Targets, out)
	}
	return p
}

// layer is one place a build setting may come from, with how to say where.
type layer struct {
	file string
	get  func(key string) (value string, line, column int, ok bool)
	keys func() []string
	gone bool // the file is not there: what it sets is not known
}

// settings are the layers of one target and configuration, strongest first (Xcode Help: configuration settings file reference).
type settings struct {
	t      *tree.Tree
	p      *Project
	target *pbxproj.Target
	config *pbxproj.Object
	layers []layer
}

func newSettings(t *tree.Tree, p *Project, px *pbxproj.Project, tg *pbxproj.Target, c *pbxproj.Object, name string) *settings {
	s := &settings{t: t, p: p, target: tg, config: c}
	add := func(o *pbxproj.Object) {
		if o == nil {
			return
		}
		s.layers = append(s.layers, layer{file: name, get: func(key string) (string, int, int, bool) {
			bs := o.Dict.Get("buildSettings")
			if bs == nil || bs.Dict == nil || bs.Dict.Get(key) == nil {
				return "", 0, 0, false
			}
			v := bs.Dict.Get(key)
			l, col := lex.Position(px.Src, v.Start)
			if v.List != nil {
				return strings.Join(bs.Dict.Texts(key), " "), l, col, true
			}
			return v.Text, l, col, true
		}, keys: func() []string {
			var out []string
			if bs := o.Dict.Get("buildSettings"); bs != nil && bs.Dict != nil {
				for _, e := range bs.Dict.Entries {
					out = append(out, e.Key)
				}
			}
			return out
		}})
		if ref := o.Dict.Text("baseConfigurationReference"); ref != "" {
			if where, ok := px.Path(ref); ok {
				s.xcconfig(path.Join(p.Dir, where), 0, false)
			}
		}
	}
	add(c)
	for _, pc := range px.ProjectConfigs() {
		if pc.Dict.Text("name") == c.Dict.Text("name") {
			add(pc)
		}
	}
	return s
}

func (s *settings) xcconfig(name string, depth int, optional bool) {
	src, err := s.t.Read(name)
	if err != nil || depth > 10 {
		if !optional {
			none := func(string) (string, int, int, bool) { return "", 0, 0, false }
			s.layers = append(s.layers, layer{file: name, get: none, keys: func() []string { return nil }, gone: true})
		}
		return
	}
	f := xcconfig.Parse(src)
	s.layers = append(s.layers, layer{file: name, get: func(key string) (string, int, int, bool) {
		for i := len(f.Settings) - 1; i >= 0; i-- {
			if x := f.Settings[i]; x.Key == key {
				return x.Value, x.Line, x.Column, true
			}
		}
		return "", 0, 0, false
	}, keys: func() []string {
		var out []string
		for _, x := range f.Settings {
			out = append(out, x.Key)
		}
		return out
	}})
	for i := len(f.Includes) - 1; i >= 0; i-- {
		s.xcconfig(path.Join(path.Dir(name), f.Includes[i].Path), depth+1, f.Includes[i].Optional)
	}
}

// get resolves a build setting with the others it names; conditional settings make it one of several.
func (s *settings) get(key string) Fact {
	plain := s.from(key, 0, 0)
	for i, l := range s.layers {
		for _, k := range l.keys() {
			if !strings.HasPrefix(k, key+"[") {
				continue
			}
			v, line, column, _ := l.get(k)
			text, _, why := s.expand(v, key, i, 0)
			if why != "" {
				continue // the plain value's own trouble is reported
			}
			if len(plain.Possible) == 0 {
				plain.File, plain.Line, plain.Column = l.file, line, column
			}
			plain.Possible = append(plain.Possible, Possible{Value: text, When: strings.TrimPrefix(k, key)})
		}
		if _, _, _, ok := l.get(key); ok {
			break // what weaker layers say does not matter
		}
	}
	if len(plain.Possible) > 0 && plain.Known() {
		if *plain.Value != "" {
			plain.Possible = append(plain.Possible, Possible{Value: *plain.Value, When: "otherwise"})
		}
		plain.Value = nil
	}
	return plain
}

// builtIn are settings that the build system itself gives.
var builtIn = map[string]bool{"TARGET_NAME": true, "CONFIGURATION": true, "SRCROOT": true, "PROJECT_DIR": true}

func (s *settings) from(key string, first, depth int) Fact {
	if depth > 20 {
		return unresolved(fmt.Sprintf("$(%s) refers to itself", key), "", 0, 0)
	}
	for i := first; i < len(s.layers); i++ {
		if s.layers[i].gone && !builtIn[key] {
			return unresolved(fmt.Sprintf("%s is not there, and may set %s", s.layers[i].file, key), s.p.File(), 0, 0)
		}
		v, l, c, ok := s.layers[i].get(key)
		if !ok {
			continue
		}
		if v == "" {
			return known("", s.layers[i].file, l, c)
		}
		text, via, why := s.expand(v, key, i, depth)
		if why != "" {
			return unresolved(fmt.Sprintf("`%s`: %s", v, why), s.layers[i].file, l, c)
		}
		f := known(text, s.layers[i].file, l, c, via...)
		return f
	}
	switch key { // the build system's defaults
	case "PRODUCT_NAME":
		return s.from("TARGET_NAME", 0, depth+1).through("the default of PRODUCT_NAME")
	case "TARGET_NAME":
		return known(s.target.Name, s.p.File(), 0, 0)
	case "CONFIGURATION":
		return known(s.config.Dict.Text("name"), s.p.File(), 0, 0)
	case "SRCROOT", "PROJECT_DIR":
		return known(".", s.p.File(), 0, 0)
	case "PRODUCT_MODULE_NAME":
		return s.from("PRODUCT_NAME", 0, depth+1).with(identifierOf)
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

// expand replaces $(NAME), ${NAME} and their modifiers. An unset setting is an empty string.
func (s *settings) expand(v, key string, at, depth int) (out string, via []string, why string) {
	var b strings.Builder
	for i := 0; i < len(v); i++ {
		if v[i] != '$' || i+1 >= len(v) || v[i+1] != '(' && v[i+1] != '{' {
			b.WriteByte(v[i])
			continue
		}
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
			return "", nil, "a bracket is missing"
		}
		name, mods, _ := strings.Cut(v[i+2:end], ":")
		if strings.Contains(name, "$") {
			inner, _, why := s.expand(name, key, at, depth+1)
			if why != "" {
				return "", nil, why
			}
			name = inner
		}
		var f Fact
		if name == "inherited" || name == key {
			f = s.from(key, at+1, depth+1)
		} else {
			f = s.from(name, 0, depth+1)
		}
		if f.Unresolved != "" {
			return "", nil, f.Unresolved
		}
		text := f.String()
		if f.File != "" && f.Line > 0 {
			via = append(via, fmt.Sprintf("$(%s) = %s at %s", name, text, f.Place()))
		} else {
			via = append(via, fmt.Sprintf("$(%s) = %s", name, text))
		}
		via = append(via, f.Via...)
		for _, m := range strings.Split(mods, ":") {
			text = modify(text, m)
		}
		b.WriteString(text)
		i = end
	}
	return b.String(), via, ""
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
	case "default":
		if s == "" {
			return arg
		}
	}
	return s
}

func (s *settings) configuration() *Configuration {
	c := &Configuration{Name: s.config.Dict.Text("name")}
	c.BundleID = s.get("PRODUCT_BUNDLE_IDENTIFIER")
	c.DeploymentTarget = s.get("IPHONEOS_DEPLOYMENT_TARGET")
	c.Entitlements = s.inTree(s.get("CODE_SIGN_ENTITLEMENTS"))
	c.SigningTeam = s.get("DEVELOPMENT_TEAM")
	c.InfoPlist = s.inTree(s.get("INFOPLIST_FILE"))
	generated := s.get("GENERATE_INFOPLIST_FILE").String() == "YES"
	if generated {
		c.DisplayName = s.get("INFOPLIST_KEY_CFBundleDisplayName")
	}
	if c.InfoPlist.Known() {
		s.plist(c)
	} else if c.InfoPlist.Unresolved == "" && generated {
		v := "generated"
		c.InfoPlist = Fact{Value: &v, Via: []string{"GENERATE_INFOPLIST_FILE = YES"}}
	}
	return c
}

// inTree makes a path of a build setting relative to the tree.
func (s *settings) inTree(f Fact) Fact {
	return f.with(func(p string) string {
		if p == "" {
			return ""
		}
		return path.Join(s.p.Dir, p)
	})
}

// plist fills in what the property list says; a bundle ID written there directly wins over the setting.
func (s *settings) plist(c *Configuration) {
	name := c.InfoPlist.String()
	src, err := s.t.Read(name)
	if err != nil {
		c.InfoPlist = unresolved(fmt.Sprintf("INFOPLIST_FILE names %s: %v", name, err), c.InfoPlist.File, c.InfoPlist.Line, c.InfoPlist.Column)
		return
	}
	f, err := plist.Parse(src)
	if err != nil {
		c.InfoPlist = unresolved(fmt.Sprintf("%s:%v", name, err), name, 0, 0)
		return
	}
	read := func(key string) Fact {
		v := f.Path(key)
		if v == nil || v.Kind != plist.String {
			return Fact{}
		}
		l, col := f.Doc.At(v.Element.OpenEnd)
		text, via, why := s.expand(v.Text, "", 0, 0)
		if why != "" {
			return unresolved(why, name, l, col)
		}
		return known(text, name, l, col, via...)
	}
	if d := read("CFBundleDisplayName"); d.Known() || d.Unresolved != "" {
		c.DisplayName = d
	} else if !c.DisplayName.Known() {
		c.DisplayName = read("CFBundleName")
	}
	if v := f.Path("CFBundleIdentifier"); v != nil && v.Text != "" && !strings.Contains(v.Text, "PRODUCT_BUNDLE_IDENTIFIER") {
		c.BundleID = read("CFBundleIdentifier")
	}
}
