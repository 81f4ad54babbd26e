package wiring

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"ligare/core/ident"
	"ligare/core/survey"
	"ligare/core/syntax/xml"
)

// androidNS is the namespace of the platform's attributes.
const androidNS = "http://schemas.android.com/apk/res/android"

// xmlEnsure sees to an element at a path in an XML file of a source set, told from its siblings by an attribute: string
// resources, and entries of the manifest. What a variant's manifests or resources say is what the first of its source sets
// says that speaks of it (Android developer documentation, "Merge multiple manifest files", and "Configure build variants").
type xmlEnsure struct{}

type found struct {
	set  string
	file string
	doc  *xml.Doc
	el   *xml.Element
}

func (f found) at(offset int) Place { return place(f.file, f.doc.Src, offset) }

// files gives the files of a source set in which the element may stand.
func (e xmlEnsure) files(in Input, w *Want, set string) []string {
	if w.settings["folder"] == "" {
		return []string{e.file(w, set)}
	}
	var out []string
	for _, dir := range e.folders(w, set) {
		for _, n := range in.Tree.Dir(dir) {
			if path.Ext(n) == ".xml" {
				out = append(out, path.Join(dir, n))
			}
		}
	}
	return out
}

// folders gives the folders of a source set that hold files of the kind.
func (xmlEnsure) folders(w *Want, set string) []string {
	m := w.site.module
	if sub, ok := strings.CutPrefix(w.settings["folder"]+"/", "res/"); ok {
		var out []string
		for _, res := range m.ResDirs(set) {
			out = append(out, path.Join(res, sub))
		}
		return out
	}
	return []string{m.Folder(set, w.settings["folder"])}
}

// file gives the file that is written when none holds the element.
func (e xmlEnsure) file(w *Want, set string) string {
	if w.settings["folder"] == "" && w.settings["file"] == "AndroidManifest.xml" {
		return w.site.module.ManifestOf(set)
	}
	if dirs := e.folders(w, set); len(dirs) > 0 {
		return path.Join(dirs[0], w.settings["file"])
	}
	return path.Join(w.site.module.Folder(set, w.settings["folder"]), w.settings["file"])
}

// in gives the elements of a source set that bear the key: those at their path, and those elsewhere in such a file.
func (e xmlEnsure) in(in Input, w *Want, set string) (here, elsewhere []found) {
	for _, name := range e.files(in, w, set) {
		src, err := in.Tree.Read(name)
		if err != nil {
			continue
		}
		d := in.xml(name, src)
		if d.Top == nil || d.Top.Name != w.settings["root"] {
			continue
		}
		d.Top.Each(func(c *xml.Element) {
			if c.Name != w.settings["element"] || !e.bears(w, c) {
				return
			}
			if x := (found{set, name, d, c}); above(c) == w.settings["parent"] {
				here = append(here, x)
			} else {
				elsewhere = append(elsewhere, x)
			}
		})
	}
	return here, elsewhere
}

// above gives the path of elements between the document element and an element.
func above(e *xml.Element) string {
	var steps []string
	for at := e.Parent; at != nil && at.Parent != nil; at = at.Parent {
		steps = append([]string{at.Name}, steps...)
	}
	return strings.Join(steps, "/")
}

// attr gives an attribute as a sheet names it: android:name means the platform's namespace, whatever prefix the file chose.
func attr(e *xml.Element, name string) *xml.Attribute {
	if local, ok := strings.CutPrefix(name, "android:"); ok {
		return e.AttrNS(androidNS, local)
	}
	return e.Attr(name)
}

// named gives the name an attribute has in a file.
func named(e *xml.Element, name string) string {
	if local, ok := strings.CutPrefix(name, "android:"); ok {
		if prefix, ok := e.Prefix(androidNS); ok {
			return prefix + ":" + local
		}
	}
	return name
}

func (xmlEnsure) bears(w *Want, e *xml.Element) bool {
	a := attr(e, w.settings["key"])
	if a == nil {
		return false
	}
	want, got := w.settings["key-value"], a.Value
	if w.settings["element"] == "activity" { // relative names resolve against the namespace
		got = w.fullName(got)
	}
	return got == want
}

// fullName resolves a class name of the manifest against the namespace of the want's variants.
func (w *Want) fullName(name string) string {
	if strings.HasPrefix(name, ".") || !strings.Contains(name, ".") {
		for _, v := range w.covered() {
			if v.Namespace.Known() {
				return v.Namespace.String() + "." + strings.TrimPrefix(name, ".")
			}
		}
	}
	return name
}

// sets gives the source sets of a variant, highest priority first; other layouts have one.
func (w *Want) sets(v *survey.AndroidVariant) []string {
	if w.site.module.Build() == nil {
		return []string{"main"}
	}
	return v.SourceSets
}

// covered gives the variants of the module that the want is for.
func (w *Want) covered() []*survey.AndroidVariant {
	var out []*survey.AndroidVariant
	for _, v := range w.site.module.Variants {
		if contains(w.Variants, v.Name) {
			out = append(out, v)
		}
	}
	return out
}

// gravity orders answers: the worst of several variants speaks for all.
var gravity = map[State]int{Right: 0, OtherForm: 1, Absent: 2, WrongPlace: 3, Conflicting: 4, Twice: 5, Unknown: 6}

func (e xmlEnsure) look(in Input, w *Want) Answer {
	out := Answer{State: ""}
	for _, v := range w.covered() {
		if a := e.variant(in, w, v); out.State == "" || gravity[a.State] > gravity[out.State] {
			out = a
		}
	}
	if out.State == "" {
		return e.absent(w)
	}
	return out
}

// what names the element for people.
func (xmlEnsure) what(w *Want) string {
	if w.settings["folder"] == "" {
		return fmt.Sprintf("%s %q", w.Title, w.settings["key-value"])
	}
	return fmt.Sprintf("%s %q", w.settings["element"], w.settings["key-value"])
}

func (e xmlEnsure) absent(w *Want) Answer {
	code, expected := "element-missing", w.settings["text"]
	if w.settings["folder"] == "" {
		code = "entry-missing"
		if expected = w.settings["key-value"]; len(e.attributes(w)) > 0 {
			expected = e.attributes(w)[0][1]
		}
	}
	return Answer{State: Absent, Code: code, Here: Place{File: e.file(w, w.site.set)}, Expected: shown(expected), Fixable: true,
		Detail: fmt.Sprintf("%s is in %s", e.what(w), nowhere(w.Variants))}
}

// nowhere says where something was looked for in vain.
func nowhere(variants []string) string {
	if slices.Equal(variants, []string{survey.Shipped}) {
		return "no file of the package"
	}
	return "none of the source sets of " + strings.Join(variants, ", ")
}

func (e xmlEnsure) variant(in Input, w *Want, v *survey.AndroidVariant) Answer {
	var stray []found
	for _, set := range w.sets(v) { // the first that has it is in force
		hits, elsewhere := e.in(in, w, set)
		stray = append(stray, elsewhere...)
		if len(hits) == 0 {
			continue
		}
		h := hits[0]
		if len(hits) > 1 {
			second, code := hits[1], "element-twice"
			if w.settings["folder"] == "" {
				code = "entry-twice"
			}
			return Answer{State: Twice, Code: code, Here: second.at(second.el.Node.Start), Others: []Place{h.at(h.el.Node.Start)}, Detail: fmt.Sprintf("%s stands twice in source set %s", e.what(w), set)}
		}
		a := e.compare(in, w, v, h)
		if a.State == Right && set != w.site.set {
			return Answer{State: OtherForm, Here: a.Here, Detail: "it stands in source set " + set}
		}
		return a
	}
	if len(stray) > 0 {
		s := stray[0]
		return Answer{State: WrongPlace, Code: "entry-misplaced", Here: s.at(s.el.Node.Start), Expected: "inside <" + w.settings["parent"] + ">", Actual: "inside <" + strings.TrimSuffix(s.el.Parent.Name+"/"+above(s.el), "/") + ">", Fixable: true,
			Detail: fmt.Sprintf("%s stands outside <%s>, where the platform does not look for it", e.what(w), w.settings["parent"])}
	}
	return e.absent(w)
}

// attributes gives the attributes that are wanted, in order; one without a value is not.
func (xmlEnsure) attributes(w *Want) [][2]string {
	var out [][2]string
	for _, line := range strings.Split(w.settings["attributes"], "\n") {
		if name, value, ok := strings.Cut(line, "="); ok && value != "" {
			out = append(out, [2]string{strings.TrimSpace(name), value})
		}
	}
	return out
}

// compare holds an element that stands in its place against the one wanted.
func (e xmlEnsure) compare(in Input, w *Want, v *survey.AndroidVariant, h found) Answer {
	what, here := e.what(w), h.at(h.el.Node.Start)
	state := Answer{State: Right, Here: here}
	if w.settings["text"] != "" {
		here = h.at(h.doc.ValueStart(h.el))
		want, got := w.settings["text"], h.doc.Text(h.el)
		state.Here = here
		switch {
		case Equal(want, got) || Equal(want, unescapeString(got)) && strings.TrimSpace(got) == got:
		case Equal(want, strings.TrimSpace(got)) || Equal(want, strings.Trim(strings.TrimSpace(got), `"`)):
			want = strings.Trim(strings.TrimSpace(got), `"`)
			return Answer{State: Conflicting, Code: "text-padded", Here: h.at(h.el.OpenEnd), Expected: want, Actual: fmt.Sprintf("%q", got), Fixable: true,
				Detail: what + ": " + ident.Difference(want, got)}
		default:
			return Answer{State: Conflicting, Code: "text-differs", Here: here, Expected: shown(want), Actual: got, Fixable: true,
				Detail: fmt.Sprintf("%s is not the value issued for %s: %s", what, identityOf(w), difference(want, got))}
		}
	}
	if a := h.el.AttrNS("http://schemas.android.com/tools", "node"); a != nil && strings.HasPrefix(a.Value, "remove") {
		return Answer{State: Conflicting, Code: "entry-removed", Here: h.at(a.Start), Expected: "in the app", Actual: "taken out", Detail: what + " is taken out when the manifests merge"}
	}
	for _, want := range e.attributes(w) {
		a := attr(h.el, want[0])
		if a == nil {
			return Answer{State: Conflicting, Code: "entry-differs", Here: here, Expected: want[0] + "=\"" + shown(want[1]) + "\"", Actual: "not said", Fixable: true,
				Detail: fmt.Sprintf("%s does not say %s", what, want[0])}
		}
		if a.Value == want[1] && strings.HasPrefix(want[1], "@") {
			continue // what is wanted is the reference itself; what it refers to is another placement
		}
		got, via := e.resolved(in, w, v, a.Value)
		at := h.at(a.ValueStart)
		if via.File != "" {
			at = via
		}
		switch {
		case !Equal(want[1], got):
			return Answer{State: Conflicting, Code: "entry-differs", Here: at, Expected: shown(want[1]), Actual: got, Fixable: true,
				Detail: fmt.Sprintf("%s holds another value than the one for %s: %s", what, identityOf(w), difference(want[1], got))}
		case a.Value == got && strings.Contains(w.settings["as-text"], want[0]) && typed(got):
			return Answer{State: Conflicting, Code: "entry-typed", Here: at, Expected: "@string/" + e.resource(w), Actual: got, Fixable: true,
				Detail: fmt.Sprintf("%s holds %s inline: the build reads it as a number or a truth value and not as text, and a long number loses digits", what, got)}
		case a.Value != got && !typed(got):
			state = Answer{State: OtherForm, Here: at, Detail: "its value comes from " + a.Value}
		}
	}
	if missing := e.missing(w, h); missing != nil {
		return Answer{State: Conflicting, Code: "entry-differs", Here: here, Expected: w.settings["children"], Actual: "not there", Fixable: true,
			Detail: fmt.Sprintf("%s lacks <%s>", what, missing.Name)}
	}
	return state
}

// resolved follows a reference to a string resource, and placeholders; via is the place of the resource.
func (xmlEnsure) resolved(in Input, w *Want, v *survey.AndroidVariant, value string) (text string, via Place) {
	if name, ok := strings.CutPrefix(value, "@string/"); ok {
		for _, set := range w.sets(v) {
			for _, s := range w.site.module.Strings(in.Tree, set) {
				if s.Name == name {
					return survey.Unescape(s.Text), Place{File: s.File, Line: s.Line, Column: s.Column}
				}
			}
		}
		return value, Place{}
	}
	for _, p := range v.Placeholders {
		if p.Known() {
			value = strings.ReplaceAll(value, "${"+p.Name+"}", p.String())
		}
	}
	if v.ApplicationID.Known() {
		value = strings.ReplaceAll(value, "${applicationId}", v.ApplicationID.String())
	}
	return value, Place{}
}

// typed reports whether the platform's resource compiler reads a literal as something else than text: a number, a truth
// value, a colour, a dimension (Android developer documentation, <meta-data>, android:value).
func typed(v string) bool {
	if v == "" {
		return false
	}
	if v == "true" || v == "false" || v[0] == '#' {
		return true
	}
	digits := strings.TrimLeft(v, "+-")
	return digits != "" && digits[0] >= '0' && digits[0] <= '9' && strings.Trim(digits, "0123456789.eExXabcdfABCDFpsitm%") == ""
}

// resource gives the name of the string resource that holds a value which must stay text.
func (xmlEnsure) resource(w *Want) string {
	return strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= '0' && r <= '9' {
			return r
		}
		return '_'
	}, strings.ToLower(w.settings["key-value"]))
}

// missing gives an element that is wanted inside and is not there; attributes and elements beside those wanted do not matter.
func (xmlEnsure) missing(w *Want, h found) *xml.Element {
	if d := inner(w); d != nil {
		for _, c := range d.Top.Children {
			if !holds(h.el, c) {
				return c
			}
		}
	}
	return nil
}

// inner reads the elements that are wanted inside.
func inner(w *Want) *xml.Doc {
	if strings.TrimSpace(w.settings["children"]) == "" {
		return nil
	}
	return xml.Parse([]byte(`<x xmlns:android="` + androidNS + `">` + w.settings["children"] + "</x>"))
}

func holds(e, want *xml.Element) bool {
	for _, c := range e.Children {
		if c.Name != want.Name {
			continue
		}
		ok := true
		for _, a := range want.Attrs {
			x := attr(c, a.Name)
			ok = ok && x != nil && x.Value == a.Value
		}
		for _, k := range want.Children {
			ok = ok && holds(c, k)
		}
		if ok {
			return true
		}
	}
	return false
}

func difference(want, got string) string {
	if strings.HasPrefix(want, ByDigest) {
		return "it is not the one that was placed"
	}
	return ident.Difference(want, got)
}

// unescapeString undoes what escapeText does for strings.
func unescapeString(s string) string {
	if len(s) > 1 && s[0] == '"' && s[len(s)-1] == '"' {
		s = s[1 : len(s)-1]
	}
	return strings.NewReplacer(`\\`, `\`, `\'`, `'`, `\"`, `"`, `\n`, "\n", `\@`, "@", `\?`, "?").Replace(s)
}
