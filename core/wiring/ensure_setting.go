package wiring

import (
	"fmt"
	"path"
	"slices"
	"strconv"
	"strings"

	"ligare/core/syntax/pbxproj"
	"ligare/core/syntax/plist"
	"ligare/core/syntax/podfile"
	"ligare/core/syntax/xcconfig"
)

// settingEnsure sees to a build setting of every covered configuration: a file that each of them includes, or a least
// version in all the places that say one.
type settingEnsure struct{}

// low is a place that says a version under the least one.
type low struct {
	at      Place
	address string
	value   string
	text    string // to put in the value's place, where that is not the version alone
	why     string // that is not known
}

// Under reports whether a version of numbers and dots is lower than another; ok is false where one is no such version.
func Under(a, b string) (bool, bool) {
	x, y := strings.Split(a, "."), strings.Split(b, ".")
	for i := range max(len(x), len(y)) {
		var m, n int
		var err error
		if i < len(x) {
			if m, err = strconv.Atoi(x[i]); err != nil {
				return false, false
			}
		}
		if i < len(y) {
			if n, err = strconv.Atoi(y[i]); err != nil {
				return false, false
			}
		}
		if m != n {
			return m < n, true
		}
	}
	return false, true
}

// low gives every place of the tree that sets the version for the target too low: the configurations of target and
// project, their settings files, the Podfile, and the framework's own list.
func (e settingEnsure) low(in Input, w *Want, px *pbxproj.Project, t *pbxproj.Target) []low {
	key, least := w.settings["name"], w.settings["value"]
	var out []low
	add := func(at Place, address, value string) {
		isLow, ok := Under(value, least)
		switch {
		case !ok:
			out = append(out, low{at: at, why: fmt.Sprintf("%s at %s is %q, which is not a plain version; make sure that it is %s at least", key, at, value, least)})
		case isLow:
			out = append(out, low{at: at, address: address, value: value})
		}
	}
	seen := map[string]bool{}
	file := w.site.project.File()
	for _, c := range append(px.ProjectConfigs(), t.Configs...) {
		if s := c.Dict.Get("buildSettings"); s != nil && s.Dict != nil {
			for _, x := range s.Dict.Entries {
				if sets(x.Key, key) && !strings.Contains(x.Value.Text, "$(") {
					add(place(file, px.Src, x.Value.Start), "object("+c.ID+")/buildSettings/"+x.Key, x.Value.Text)
				}
			}
		}
		if base := px.Base(c); base != "" && !seen[base] {
			seen[base] = true
			name := path.Join(w.site.project.Dir, base)
			src, err := in.Tree.Read(name)
			if err != nil {
				continue
			}
			for _, s := range xcconfig.Parse(src).Settings {
				if sets(s.Key, key) && !strings.Contains(s.Value, "$(") {
					add(Place{name, s.Line, s.Column}, "setting("+s.Key+")", s.Value)
				}
			}
		}
	}
	if name := w.site.project.Podfile; name != "" {
		if src, err := in.Tree.Read(name); err == nil {
			if f, err := podfile.Parse(src); err == nil {
				if pt := f.Target(t.Name); pt != nil {
					if c := f.Platform(pt); c != nil && len(c.Args) > 1 {
						at, raw := place(name, src, c.Args[1].Start), c.Args[1].Raw
						number, above := largest(raw)
						switch {
						case c.Args[1].Literal:
							add(at, "platform()", c.Args[1].Text)
						case above:
							add(at, "platform()", number)
						case raw == frameworkMinimum && in.frameworkAllows(w, least):
						case raw == frameworkMinimum:
							out = append(out, low{at: at, address: "platform()", value: raw, text: "[" + raw + ", '" + least + "'].max"})
						default:
							out = append(out, low{at: at, why: "the Podfile takes its platform from " + raw + "; make sure that it is " + least + " at least"})
						}
					}
				}
			}
		}
	}
	if name := w.site.project.Podfile; name != "" {
		if src, err := in.Tree.Read(name); err == nil {
			if f, err := podfile.Parse(src); err == nil {
				for i, a := range f.Assigned(key) { // in a hook, for the pods
					if a.Literal {
						add(place(name, src, a.Start), fmt.Sprintf("assigned(%s,%d)", key, i), a.Text)
					}
				}
			}
		}
	}
	name := path.Join(w.site.project.Dir, "Flutter/AppFrameworkInfo.plist")
	if src, err := in.Tree.Read(name); err == nil {
		if f, err := plist.Parse(src); err == nil && f.Form == plist.XML {
			if v := f.Path("MinimumOSVersion"); v != nil {
				l, c := f.Position(v)
				add(Place{name, l, c}, "/MinimumOSVersion", v.Text)
			}
		}
	}
	return out
}

// sets reports whether a key is a setting, under whatever condition that holds for phones: KEY[sdk=iphoneos*].
func sets(key, setting string) bool {
	name, condition, _ := strings.Cut(key, "[")
	if name != setting {
		return false
	}
	_, sdk, conditional := strings.Cut(condition, "sdk=")
	return !conditional || strings.HasPrefix(sdk, "iphone") || strings.HasPrefix(sdk, "*")
}

// takers lists the other targets that take the setting from the project.
func takers(px *pbxproj.Project, t *pbxproj.Target, key string) []string {
	var out []string
	for _, other := range px.Targets() {
		own := other.Name == t.Name
		for _, c := range other.Configs {
			if s := c.Dict.Get("buildSettings"); s != nil && s.Dict != nil {
				own = own || s.Dict.Entry(key) != nil
			}
		}
		if !own {
			out = append(out, other.Name)
		}
	}
	return out
}

// includes reports whether a settings file includes another, directly or through others.
func (e settingEnsure) includes(in Input, w *Want, name, want string, depth int) bool {
	if name == want {
		return true
	}
	src, err := in.Tree.Read(name)
	if err != nil || depth > 10 {
		return false
	}
	for _, i := range xcconfig.Parse(src).Includes {
		for _, base := range []string{path.Dir(name), w.site.project.Dir} {
			if e.includes(in, w, path.Join(base, i.Path), want, depth+1) {
				return true
			}
		}
	}
	return false
}

func (e settingEnsure) lookInclude(in Input, w *Want, px *pbxproj.Project, t *pbxproj.Target) Answer {
	want := path.Join(w.site.project.Dir, w.Params["include"])
	file := w.site.project.File()
	var missing []string
	for _, c := range t.Configs {
		base := px.Base(c)
		if base == "" || !e.includes(in, w, path.Join(w.site.project.Dir, base), want, 0) {
			missing = append(missing, c.Dict.Text("name"))
		}
	}
	if len(missing) > 0 {
		return Answer{State: Absent, Code: "include-missing", Here: Place{File: file}, Expected: "#include \"" + w.Params["include"] + "\"", Fixable: true,
			Detail: fmt.Sprintf("configuration %s does not include %s", strings.Join(missing, ", "), want)}
	}
	return Answer{State: Right, Here: Place{File: want}}
}

// include makes every configuration include the file: through its own settings file, or as its settings file.
func (e settingEnsure) include(in Input, w *Want, p *Plan) error {
	want := path.Join(w.site.project.Dir, w.Params["include"])
	if !in.Tree.Has(want) {
		return fmt.Errorf("%s is not there yet, and a settings file that includes it would stop the build", want)
	}
	px, err := in.project(w)
	if err != nil {
		return err
	}
	for _, c := range pbxTarget(px, w.site.target.Name).Configs {
		base, config := px.Base(c), c.Dict.Text("name")
		if base == "" {
			if err := in.edited(w, p, func(ed *pbxproj.Editor) error {
				return ed.SetBase(w.site.target.Name, config, w.Params["include"])
			}); err != nil {
				return err
			}
			continue
		}
		name := path.Join(w.site.project.Dir, base)
		if e.includes(in, w, name, want, 0) {
			continue
		}
		if strings.Contains("/"+base, "/Pods/") {
			if err := e.rebase(in, w, p, c.ID, config, name, want); err != nil {
				return err
			}
			continue
		}
		p.share(w, w.site.project.File(), "object("+c.ID+")/baseConfigurationReference")
		src, err := in.Tree.Read(name)
		if err != nil {
			return fmt.Errorf("%s, which configuration %s is based on, is not there", name, config)
		}
		rel := relative(path.Dir(name), want)
		if err := p.insert(w, name, "include("+rel+")", xcconfig.AddInclude(src, rel)); err != nil {
			return err
		}
	}
	return nil
}

// rebase puts a settings file in front of one that a package manager writes anew: it includes that one, if it is there,
// and what is wanted, and is the configuration's base from now on.
func (e settingEnsure) rebase(in Input, w *Want, p *Plan, id, config, old, want string) error {
	name := path.Join(w.site.project.Dir, "ConfigFiles", config, w.site.target.Name+".xcconfig")
	if in.Tree.Has(name) {
		return fmt.Errorf("%s is there already, and is not what configuration %s is based on", name, config)
	}
	rel := func(to string) string { return relative(path.Dir(name), to) }
	p.create(w, name, []byte("#include? \""+rel(old)+"\"\n#include \""+rel(want)+"\"\n"))
	var ref string
	if err := in.edited(w, p, func(ed *pbxproj.Editor) (err error) {
		ref, err = ed.AddReference(pbxTarget(ed.Project, w.site.target.Name), inProject(w, name))
		return err
	}); err != nil {
		return err
	}
	return p.replace(w, w.site.project.File(), "object("+id+")/baseConfigurationReference", fmt.Sprintf("baseConfigurationReference = %s /* %s */;", ref, path.Base(name)))
}

// relative writes a path as seen from a folder.
func relative(from, to string) string {
	if from == "." {
		return to
	}
	a, b := strings.Split(from, "/"), strings.Split(to, "/")
	for len(a) > 0 && len(b) > 1 && a[0] == b[0] {
		a, b = a[1:], b[1:]
	}
	return strings.Repeat("../", len(a)) + strings.Join(b, "/")
}

func (e settingEnsure) look(in Input, w *Want) Answer {
	if w.site.foreign() != "" {
		return e.lookForeign(in, w)
	}
	px, err := in.project(w)
	if err != nil {
		return unreadableProject(w, err)
	}
	t := pbxTarget(px, w.site.target.Name)
	if w.settings["name"] == "#include" {
		return e.lookInclude(in, w, px, t)
	}
	out := Answer{State: Right, Here: Place{File: w.site.project.File()}}
	for _, l := range e.low(in, w, px, t) {
		switch {
		case l.text != "":
			if out.State == Right {
				out = Answer{State: Unknown, Fixable: true, Code: "setting-unknown", Here: l.at, Expected: w.settings["value"], Detail: "the Podfile takes its platform from " + l.value + ", which may be under " + w.settings["value"]}
			}
			continue
		case l.why == "":
			return Answer{State: Absent, Code: "target-low", Here: l.at, Expected: w.settings["value"], Actual: l.value, Fixable: true,
				Detail: fmt.Sprintf("the deployment target is %s here; %s is needed. %s", l.value, w.settings["value"], w.Why)}
		}
		out = Answer{State: Unknown, Code: "setting-unknown", Here: l.at, Expected: w.settings["value"], Detail: l.why}
	}
	return out
}

func (e settingEnsure) make(in Input, w *Want, a Answer, p *Plan) error {
	if w.settings["name"] == "#include" {
		return e.include(in, w, p)
	}
	if w.site.foreign() != "" {
		return e.makeForeign(in, w, p)
	}
	px, err := in.project(w)
	if err != nil {
		return err
	}
	t := pbxTarget(px, w.site.target.Name)
	also := ""
	for _, l := range e.low(in, w, px, t) {
		if l.why != "" {
			continue
		}
		if others := takers(px, t, w.settings["name"]); l.at.File == w.site.project.File() && len(others) > 0 && slices.ContainsFunc(px.ProjectConfigs(), func(c *pbxproj.Object) bool { return strings.HasPrefix(l.address, "object("+c.ID+")") }) {
			also = " and for " + strings.Join(others, ", ") + ", which takes it from the project"
		}
		src, err := in.Tree.Read(l.at.File)
		if err != nil {
			return err
		}
		start, end, ok := Locate(l.at.File, src, l.address)
		if !ok || strings.Count(string(src[start:end]), l.value) != 1 {
			return fmt.Errorf("%s: %s is not a plain version there; write %s", l.at, l.value, w.settings["value"])
		}
		text, from := w.settings["value"], l.value
		if l.text != "" {
			text, from = l.text, ""
		}
		if err := p.replace(w, l.at.File, l.address, strings.Replace(string(src[start:end]), l.value, text, 1)); err != nil {
			return err
		}
		p.raised(from, w.settings["value"])
	}
	p.Next = append(p.Next, fmt.Sprintf("know that the deployment target rises to %s for target %s%s: older systems are left out", w.settings["value"], t.Name, also))
	return nil
}
