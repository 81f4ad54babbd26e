package wiring

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"ligare/core/ident"
	"ligare/core/survey"
	"ligare/core/syntax/plist"
	"ligare/core/syntax/xml"
)

// valueEnsure sees to a value at a key path: in a property list of a target, or in a package manifest.
type valueEnsure struct{}

func (valueEnsure) of(w *Want) ensure {
	switch w.settings["file"] {
	case infoPlist, entitlements, privacyManifest:
		return plistEnsure{}
	}
	return manifestEnsure{}
}

func (e valueEnsure) look(in Input, w *Want) Answer { return e.of(w).look(in, w) }

func (e valueEnsure) make(in Input, w *Want, a Answer, p *Plan) error {
	return e.of(w).make(in, w, a, p)
}

// The roles of property lists.
const (
	infoPlist       = "info-plist"
	entitlements    = "entitlements"
	privacyManifest = "privacy-manifest"
)

// plistEnsure sees to a value in one of a target's property lists, for every configuration that is covered. Several
// configurations share a file more often than not: what differs between them goes through a build setting that each
// configuration sets (Xcode Help, "Property list expansion").
type plistEnsure struct{}

// settingOf is the build setting that names the file of a role.
var settingOf = map[string]string{infoPlist: "INFOPLIST_FILE", entitlements: "CODE_SIGN_ENTITLEMENTS"}

// view of a configuration: the build settings as they stand, or what the survey found in other layouts.
func (plistEnsure) settings(in Input, w *Want, config string) (survey.Settings, bool) {
	px, err := in.project(w)
	if err != nil {
		return survey.Settings{}, false
	}
	return in.settingsOf(w, px, w.site.target.Name, config)
}

// file gives the file of the want's role that a configuration builds with; "" for none. why is set when that is not known.
func (e plistEnsure) file(in Input, w *Want, config string) (file, why string) {
	role := w.settings["file"]
	if w.site.project.Version == 0 {
		for _, c := range w.site.target.Configurations {
			if c.Name == config {
				f := map[string]survey.Fact{infoPlist: c.InfoPlist, entitlements: c.Entitlements, privacyManifest: c.PrivacyManifest}[role]
				return f.String(), f.Unresolved
			}
		}
		return "", ""
	}
	if role == privacyManifest {
		return e.privacy(in, w), ""
	}
	s, ok := e.settings(in, w, config)
	if !ok {
		return "", w.site.project.File() + " cannot be read"
	}
	f := s.Get(settingOf[role])
	switch {
	case f.Known() && f.String() != "":
		return path.Join(w.site.project.Dir, f.String()), ""
	case f.Known() || !f.Set():
		return "", ""
	case f.Unresolved != "":
		return "", f.Unresolved
	}
	return "", settingOf[role] + " has several values: " + f.Say()
}

// privacy finds the privacy manifest among the target's resources.
func (plistEnsure) privacy(in Input, w *Want) string {
	const name = "PrivacyInfo.xcprivacy"
	px, err := in.project(w)
	if err != nil {
		return ""
	}
	t := pbxTarget(px, w.site.target.Name)
	for _, r := range px.References() {
		if path.Base(r.Path) == name && contains(r.Targets, t.Name) {
			return path.Join(w.site.project.Dir, r.Path)
		}
	}
	for _, f := range px.SyncFolders() {
		at := path.Join(w.site.project.Dir, f.Path, name)
		if contains(f.Targets, t.Name) && !contains(f.Except[t.Name], name) && in.Tree.Has(at) {
			return at
		}
	}
	return ""
}

// steps gives the key path that is wanted.
func (plistEnsure) steps(w *Want) []string {
	var out []string
	for _, s := range strings.Split(strings.TrimPrefix(w.settings["path"], "/"), "/") {
		out = append(out, strings.ReplaceAll(s, "~1", "/"))
	}
	return out
}

// wanted gives the value that is wanted, as text.
func (plistEnsure) wanted(w *Want) string {
	if v, ok := w.settings["value"]; ok {
		return v
	}
	return w.Params["value"]
}

func (plistEnsure) kind(w *Want) string {
	if t := w.settings["type"]; t != "" {
		return t
	}
	if t := w.Params["type"]; t != "" {
		return t
	}
	return "string"
}

// listed reports whether the want is for an item of a list.
func (e plistEnsure) listed(w *Want) bool {
	s := e.steps(w)
	return s[len(s)-1] == "[]"
}

// what names the value for people.
func (e plistEnsure) what(w *Want) string {
	if e.listed(w) {
		return fmt.Sprintf("%s %q", w.Title, e.wanted(w))
	}
	s := e.steps(w)
	return fmt.Sprintf("%s %q", w.Title, s[len(s)-1])
}

func (e plistEnsure) look(in Input, w *Want) Answer {
	out := Answer{}
	for _, config := range w.Variants {
		if a := e.one(in, w, config); out.State == "" || gravity[a.State] > gravity[out.State] {
			out = a
		}
	}
	return out
}

// one answers for one configuration.
func (e plistEnsure) one(in Input, w *Want, config string) Answer {
	file, why := e.file(in, w, config)
	if why != "" {
		return Answer{State: Unknown, Code: "key-file-unknown", Here: Place{File: w.site.project.File()}, Detail: "which file configuration " + config + " builds with is not known: " + why}
	}
	if a, ok := e.generated(in, w, config); ok {
		return a
	}
	if file == "" {
		return e.absent(w, Place{File: w.site.project.File()}, fmt.Sprintf("configuration %s has no %s", config, roleName[w.settings["file"]]))
	}
	f, bad := e.open(in, file)
	if f == nil {
		return Answer{State: Unknown, Code: "key-file-unreadable", Here: Place{File: file}, Detail: bad}
	}
	s, _ := e.settings(in, w, config)
	return e.compare(w, file, f, func(text string) survey.Fact {
		if w.site.project.Version == 0 {
			return literal(text)
		}
		return s.Expand(text)
	}, s.Own)
}

func literal(text string) survey.Fact { return survey.Fact{Value: &text} }

var roleName = map[string]string{infoPlist: "property list", entitlements: "entitlements file", privacyManifest: "privacy manifest"}

func (e plistEnsure) absent(w *Want, at Place, detail string) Answer {
	expected := shown(e.wanted(w))
	if !e.listed(w) && w.settings["own"] == "" {
		expected = e.steps(w)[len(e.steps(w))-1] + " = " + expected
	}
	return Answer{State: Absent, Code: "key-missing", Here: at, Expected: expected, Fixable: true, Detail: detail}
}

func (plistEnsure) open(in Input, file string) (*plist.File, string) {
	src, err := in.Tree.Read(file)
	if err != nil {
		return nil, file + ", which the project names, is not there"
	}
	f, err := read(in, "list", file, src, plist.Parse)
	if err != nil {
		return nil, file + ":" + err.Error()
	}
	if f.Root.Kind != plist.Dict {
		return nil, fmt.Sprintf("%s holds <%s> where a dictionary is expected", file, f.Root.Kind)
	}
	return f, ""
}

// generated answers for keys that build settings give to a generated property list.
func (e plistEnsure) generated(in Input, w *Want, config string) (Answer, bool) {
	steps := e.steps(w)
	if w.settings["file"] != infoPlist || len(steps) != 1 || w.site.project.Version == 0 {
		return Answer{}, false
	}
	s, ok := e.settings(in, w, config)
	if !ok || s.Get("GENERATE_INFOPLIST_FILE").String() != "YES" {
		return Answer{}, false
	}
	f := s.Get("INFOPLIST_KEY_" + steps[0])
	if !f.Set() {
		return Answer{}, false
	}
	at := Place{File: f.File, Line: f.Line, Column: f.Column}
	switch {
	case !f.Known():
		return Answer{State: Unknown, Code: "key-file-unknown", Here: at, Detail: "INFOPLIST_KEY_" + steps[0] + ": " + f.Say()}, true
	case w.settings["own"] != "" && strings.TrimSpace(f.String()) != "" || e.good(w, f.String()):
		return Answer{State: Right, Here: at}, true
	}
	return e.differs(w, at, f.String()), true
}

// good reports whether a text is what is wanted, or will do as well.
func (e plistEnsure) good(w *Want, got string) bool {
	return Equal(e.wanted(w), got) || slices.Contains(strings.Fields(w.settings["also"]+" "+w.Params["also"]), got)
}

func (e plistEnsure) differs(w *Want, at Place, got string) Answer {
	want := e.wanted(w)
	if strings.TrimSpace(got) == "" {
		return Answer{State: Conflicting, Code: "key-differs", Here: at, Expected: shown(want), Actual: "empty", Fixable: true, Detail: e.what(w) + " is empty"}
	}
	return Answer{State: Conflicting, Code: "key-differs", Here: at, Expected: shown(want), Actual: got, Fixable: true,
		Detail: fmt.Sprintf("%s holds another value than the one for %s: %s", e.what(w), identityOf(w), difference(want, got))}
}

// walk gives the values that a key path leads to.
func walk(v *plist.Value, steps []string) []*plist.Value {
	if len(steps) == 0 {
		return []*plist.Value{v}
	}
	step := steps[0]
	switch {
	case step == "[]":
		var out []*plist.Value
		for _, i := range v.Items {
			out = append(out, walk(i, steps[1:])...)
		}
		return out
	case strings.HasPrefix(step, "["):
		if i := v.Item(itemOf(step)); i != nil {
			return walk(i, steps[1:])
		}
	default:
		if x := v.Get(step); x != nil {
			return walk(x, steps[1:])
		}
	}
	return nil
}

// itemOf reads a step [KEY=VALUE].
func itemOf(step string) (key, value string) {
	key, value, _ = strings.Cut(strings.TrimSuffix(strings.TrimPrefix(step, "["), "]"), "=")
	return key, value
}

// variable gives the build setting that is all of a text: $(NAME).
func variable(text string) (string, bool) {
	name, ok := strings.CutPrefix(text, "$(")
	if !ok {
		name, ok = strings.CutPrefix(text, "${")
	}
	if !ok || len(name) < 2 || strings.ContainsAny(name[:len(name)-1], "$:(){}") {
		return "", false
	}
	return name[:len(name)-1], true
}

// compare holds a property list against what is wanted.
func (e plistEnsure) compare(w *Want, file string, f *plist.File, expand func(string) survey.Fact, own func(string) bool) Answer {
	steps, want := e.steps(w), e.wanted(w)
	at := func(v *plist.Value) Place {
		l, c := f.Position(v)
		return Place{File: file, Line: l, Column: c}
	}
	var first []*plist.Value
	for _, x := range f.Root.Entries {
		if x.Key == steps[0] {
			first = append(first, x.Value)
		}
	}
	if len(first) > 1 {
		return Answer{State: Twice, Code: "key-twice", Here: at(first[1]), Others: []Place{at(first[0])}, Detail: fmt.Sprintf("key %q stands twice in %s; only one of the two counts", steps[0], file)}
	}
	hits := walk(f.Root, steps)
	if e.listed(w) {
		return e.compareItems(w, file, f, hits, at, expand)
	}
	if len(hits) == 0 {
		if a, ok := e.near(w, file, f, at); ok {
			return a
		}
		return e.absent(w, Place{File: file}, fmt.Sprintf("%s has no key %q", file, steps[len(steps)-1]))
	}
	v := hits[0]
	if !kindFits(e.kind(w), v.Kind) {
		return Answer{State: Conflicting, Code: "key-typed", Here: at(v), Expected: e.kind(w), Actual: string(v.Kind), Fixable: true,
			Detail: fmt.Sprintf("%s is of type %s; %s is asked for", e.what(w), v.Kind, e.kind(w))}
	}
	if e.kind(w) == "dictionary" || e.kind(w) == "strings" {
		var got []string
		for _, i := range v.Items {
			got = append(got, i.Text)
		}
		for _, s := range strings.Fields(want) {
			if e.kind(w) == "strings" && !contains(got, s) {
				return e.differs(w, at(v), strings.Join(got, " "))
			}
		}
		return Answer{State: Right, Here: at(v)}
	}
	got := expand(v.Text)
	if name, ok := variable(v.Text); ok && !own(name) && got.String() == "" && got.Unresolved == "" {
		return e.absent(w, at(v), fmt.Sprintf("%s comes from the build setting %s, which %s does not set", e.what(w), name, strings.Join(w.Variants, ", ")))
	}
	switch {
	case !got.Known():
		return Answer{State: Unknown, Code: "key-file-unknown", Here: at(v), Detail: e.what(w) + ": " + got.Say()}
	case w.settings["own"] != "" && strings.TrimSpace(got.String()) != "":
		return Answer{State: Right, Here: at(v)}
	case e.good(w, got.String()) && got.String() == v.Text:
		return Answer{State: Right, Here: at(v)}
	case e.good(w, got.String()):
		return Answer{State: OtherForm, Here: at(v), Detail: "its value comes from " + v.Text}
	}
	return e.differs(w, at(v), got.String())
}

func kindFits(want string, got plist.Kind) bool {
	switch want {
	case "boolean":
		return got == plist.True || got == plist.False
	case "integer":
		return got == plist.Integer
	case "strings":
		return got == plist.Array
	case "dictionary":
		return got == plist.Dict
	}
	return got == plist.String
}

// compareItems looks for an item of a list.
func (e plistEnsure) compareItems(w *Want, file string, f *plist.File, hits []*plist.Value, at func(*plist.Value) Place, expand func(string) survey.Fact) Answer {
	want := e.wanted(w)
	var good []*plist.Value
	var near *plist.Value
	for _, h := range hits {
		got := expand(h.Text)
		switch {
		case got.Known() && e.good(w, got.String()):
			good = append(good, h)
		case strings.EqualFold(strings.TrimSpace(got.String()), want):
			near = h
		}
	}
	switch {
	case len(good) > 1:
		return Answer{State: Twice, Code: "key-twice", Here: at(good[1]), Others: []Place{at(good[0])}, Detail: fmt.Sprintf("%s stands twice in %s", e.what(w), file)}
	case len(good) == 1 && good[0].Text != want && !strings.HasPrefix(want, ByDigest):
		return Answer{State: OtherForm, Here: at(good[0]), Detail: "its value comes from " + good[0].Text}
	case len(good) == 1:
		return Answer{State: Right, Here: at(good[0])}
	case near != nil:
		return Answer{State: Conflicting, Code: "key-differs", Here: at(near), Expected: want, Actual: near.Text, Fixable: true,
			Detail: fmt.Sprintf("%s is written another way: %s", e.what(w), ident.Difference(want, near.Text))}
	}
	if a, ok := e.near(w, file, f, at); ok {
		return a
	}
	return e.absent(w, Place{File: file}, fmt.Sprintf("%s does not name %s", file, e.what(w)))
}

// near finds the key in other capitals, or outside the root dictionary.
func (e plistEnsure) near(w *Want, file string, f *plist.File, at func(*plist.Value) Place) (Answer, bool) {
	key := e.steps(w)[0]
	if f.Root.Get(key) != nil {
		return Answer{}, false
	}
	for _, x := range f.Root.Entries {
		if strings.EqualFold(x.Key, key) {
			here := at(x.Value)
			if f.Form == plist.XML && x.At != nil {
				here.Line, here.Column = f.Doc.At(x.At.OpenEnd)
			}
			return Answer{State: WrongPlace, Code: "key-misspelt", Here: here, Expected: key, Actual: x.Key, Fixable: true,
				Detail: fmt.Sprintf("the key is written %q: %s; capitals count", x.Key, ident.Difference(key, x.Key))}, true
		}
	}
	if f.Form != plist.XML {
		return Answer{}, false
	}
	var out Answer
	f.Doc.Top.Each(func(x *xml.Element) {
		if x.Name == "key" && f.Doc.Text(x) == key && x.Parent == f.Doc.Top {
			l, c := f.Doc.At(x.Node.Start)
			out = Answer{State: WrongPlace, Code: "key-outside", Here: Place{File: file, Line: l, Column: c}, Expected: "inside the root dictionary", Actual: "behind it", Fixable: true,
				Detail: fmt.Sprintf("the key %q stands behind the root dictionary's </dict> and is lost", key)}
		}
	})
	return out, out.State != ""
}
