package wiring

import (
	"fmt"
	"path"
	"strings"

	"ligare/core/ident"
	"ligare/core/syntax/xml"
)

// xmlEnsure sees to an element with a text, told from its siblings by an attribute, in one of the files of a source
// set's folder: string resources and their like.
type xmlEnsure struct{}

type found struct {
	file string
	doc  *xml.Doc
	el   *xml.Element
}

// in gives the elements of a source set that bear the key.
func (xmlEnsure) in(in Input, w *Want, set string) []found {
	dir := path.Join(w.site.module.Dir, "src", set, w.settings["folder"])
	var out []found
	for _, n := range in.Tree.Dir(dir) {
		if path.Ext(n) != ".xml" {
			continue
		}
		name := path.Join(dir, n)
		src, err := in.Tree.Read(name)
		if err != nil {
			continue
		}
		d := xml.Parse(src)
		if d.Top == nil || d.Top.Name != w.settings["root"] {
			continue
		}
		for _, c := range d.Top.Children {
			if a := c.Attr(w.settings["key"]); c.Name == w.settings["element"] && a != nil && a.Value == w.settings["key-value"] {
				out = append(out, found{name, d, c})
			}
		}
	}
	return out
}

func (e xmlEnsure) look(in Input, w *Want) Answer {
	what := fmt.Sprintf("%s %q", w.settings["element"], w.settings["key-value"])
	for _, v := range w.site.module.Variants {
		if !contains(w.Variants, v.Name) {
			continue
		}
		for _, set := range v.SourceSets { // the first that has it is in force
			hits := e.in(in, w, set)
			if len(hits) == 0 {
				continue
			}
			h := hits[0]
			here := place(h.file, h.doc.Src, h.doc.ValueStart(h.el))
			if len(hits) > 1 {
				second := hits[1]
				a := Answer{State: Twice, Code: "element-twice", Here: place(second.file, second.doc.Src, second.el.Node.Start),
					Others: []Place{place(h.file, h.doc.Src, h.el.Node.Start)}, Detail: fmt.Sprintf("%s stands twice in source set %s", what, set)}
				return a
			}
			want, got := w.settings["text"], h.doc.Text(h.el)
			switch {
			case equal(want, got) || equal(want, unescapeString(got)) && strings.TrimSpace(got) == got:
			case equal(want, strings.TrimSpace(got)) || equal(want, strings.Trim(strings.TrimSpace(got), `"`)):
				want = strings.Trim(strings.TrimSpace(got), `"`)
				return Answer{State: Conflicting, Code: "text-padded", Here: place(h.file, h.doc.Src, h.el.OpenEnd), Expected: want, Actual: fmt.Sprintf("%q", got), Fixable: true,
					Detail: what + ": " + ident.Difference(want, got)}
			default:
				return Answer{State: Conflicting, Code: "text-differs", Here: here, Expected: shown(want), Actual: got, Fixable: true,
					Detail: fmt.Sprintf("%s is not the value issued for %s: %s", what, identityOf(w), difference(want, got))}
			}
			if set != w.site.set {
				return Answer{State: OtherForm, Here: here, Detail: "it stands in source set " + set}
			}
			return Answer{State: Right, Here: here}
		}
	}
	file := e.file(in, w)
	return Answer{State: Absent, Code: "element-missing", Here: Place{File: file}, Expected: shown(w.settings["text"]), Fixable: true, Detail: fmt.Sprintf("%s is in none of the source sets of %s", what, strings.Join(w.Variants, ", "))}
}

func difference(want, got string) string {
	if strings.HasPrefix(want, ByDigest) {
		return "it is not the one that was placed"
	}
	return ident.Difference(want, got)
}

func (xmlEnsure) file(in Input, w *Want) string {
	return path.Join(w.site.module.Dir, "src", w.site.set, w.settings["folder"], w.settings["file"])
}

func (e xmlEnsure) make(in Input, w *Want, a Answer, p *Plan) error {
	text := escapeText(w.settings["escape"], w.settings["text"])
	el := fmt.Sprintf("<%s %s=\"%s\">%s</%s>", w.settings["element"], w.settings["key"], xml.EncodeAttr(w.settings["key-value"]), text, w.settings["element"])
	address := "/" + w.settings["root"] + xml.Step(w.settings["element"], w.settings["key"], w.settings["key-value"])
	if a.State == Conflicting {
		return p.replace(w, a.Here.File, address, el)
	}
	file := e.file(in, w)
	if !in.Tree.Has(file) {
		p.create(w, file, []byte(fmt.Sprintf("<?xml version=\"1.0\" encoding=\"utf-8\"?>\n<%s>\n</%s>\n", w.settings["root"], w.settings["root"])))
	}
	src, err := in.Tree.Read(file)
	if err != nil {
		return err
	}
	d := xml.Parse(src)
	if err := d.Err(); err != nil {
		return fmt.Errorf("%s:%w", file, err)
	}
	if d.Top.Name != w.settings["root"] {
		return fmt.Errorf("%s: the document element is <%s>, not <%s>", file, d.Top.Name, w.settings["root"])
	}
	if d.Top.Empty {
		name := w.settings["root"]
		open := strings.TrimSpace(strings.TrimSuffix(string(src[d.Top.Node.Start:d.Top.OpenEnd]), "/>")) + ">"
		return p.replace(w, file, "/"+name, open+"\n    "+el+"\n</"+name+">")
	}
	into, err := d.Into(d.Top, el)
	if err != nil {
		return err
	}
	return p.insert(w, file, address, into)
}

// escapeText writes a text for its target: Android string resources escape quotes, backslashes, and a leading @ or ?
// (Android developer documentation, String resources, Formatting and styling).
func escapeText(kind, s string) string {
	if kind == "android-string" {
		s = strings.NewReplacer(`\`, `\\`, `'`, `\'`, `"`, `\"`, "\n", `\n`).Replace(s)
		if strings.HasPrefix(s, "@") || strings.HasPrefix(s, "?") {
			s = `\` + s
		}
		if strings.TrimSpace(s) != s {
			s = `"` + s + `"`
		}
	}
	return xml.Encode(s)
}

// unescapeString undoes what escapeText does for strings.
func unescapeString(s string) string {
	if len(s) > 1 && s[0] == '"' && s[len(s)-1] == '"' {
		s = s[1 : len(s)-1]
	}
	return strings.NewReplacer(`\\`, `\`, `\'`, `'`, `\"`, `"`, `\n`, "\n", `\@`, "@", `\?`, "?").Replace(s)
}
