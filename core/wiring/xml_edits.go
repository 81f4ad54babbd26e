package wiring

import (
	"fmt"
	"strings"

	"ligare/core/survey"
	"ligare/core/syntax/lex"
	"ligare/core/syntax/xml"
)

func (e xmlEnsure) make(in Input, w *Want, a Answer, p *Plan) error {
	if a.Code == "entry-removed" {
		return nil // somebody took it out on purpose: a person decides
	}
	if w.site.foreign() == "engine" && !in.Tree.Has(e.file(w, w.site.set)) {
		return nil // a manifest of the tree's own changes what the engine makes: a person decides
	}
	if a.State == Conflicting {
		return e.exchange(in, w, p)
	}
	if a.State == WrongPlace {
		p.Next = append(p.Next, fmt.Sprintf("delete %s at %s: it stands outside <%s> and does nothing", e.what(w), a.Here, w.settings["parent"]))
	}
	return e.add(in, w, p)
}

// add writes the element into the want's own source set.
func (e xmlEnsure) add(in Input, w *Want, p *Plan) error {
	file := e.file(w, w.site.set)
	if !in.Tree.Has(file) {
		p.create(w, file, []byte(e.empty(w)))
	}
	address := "/" + w.settings["root"]
	var steps []string
	if w.settings["parent"] != "" {
		steps = strings.Split(w.settings["parent"], "/")
	}
	for i := 0; ; i++ { // containers first, each with an entry of its own, so that it can stay for others
		d, at, err := e.open(in, w, p, file, address)
		if err != nil {
			return err
		}
		if i == len(steps) {
			text, err := e.text(in, w, p, at)
			if err != nil {
				return err
			}
			if d, at, err = e.open(in, w, p, file, address); err != nil { // a resource may stand in the same file
				return err
			}
			into, err := d.Into(at, text)
			if err != nil {
				return err
			}
			return p.insert(w, file, address+xml.Step(w.settings["element"], named(at, w.settings["key"]), w.settings["key-value"]), into)
		}
		address += "/" + steps[i]
		if at.Child(steps[i]) == nil {
			into, err := d.Into(at, "<"+steps[i]+">\n</"+steps[i]+">")
			if err != nil {
				return err
			}
			if err := p.insert(w, file, address, into); err != nil {
				return err
			}
		}
	}
}

// empty writes a file without the element.
func (e xmlEnsure) empty(w *Want) string {
	space := ""
	if strings.HasPrefix(w.settings["key"], "android:") {
		space = ` xmlns:android="` + androidNS + `"`
	}
	return fmt.Sprintf("<?xml version=\"1.0\" encoding=\"utf-8\"?>\n<%s%s>\n</%s>\n", w.settings["root"], space, w.settings["root"])
}

// open finds the element that others are put into; one that is written <a/> is opened up.
func (e xmlEnsure) open(in Input, w *Want, p *Plan, file, address string) (*xml.Doc, *xml.Element, error) {
	for range 2 {
		src, err := in.Tree.Read(file)
		if err != nil {
			return nil, nil, err
		}
		d := in.xml(file, src)
		if err := d.Err(); err != nil {
			return nil, nil, fmt.Errorf("%s:%w", file, err)
		}
		if d.Top.Name != w.settings["root"] {
			return nil, nil, fmt.Errorf("%s: the document element is <%s>, not <%s>", file, d.Top.Name, w.settings["root"])
		}
		at, ok := d.Find(address)
		if !ok {
			return nil, nil, fmt.Errorf("%s: %s is not there", file, address)
		}
		if !at.Empty {
			return d, at, nil
		}
		open := strings.TrimRight(strings.TrimSuffix(string(src[at.Node.Start:at.Node.End]), "/>"), " \t\r\n")
		nl := lex.LineEnd(src)
		if err := p.replace(w, file, address, open+">"+nl+lex.Indent(src, at.Node.Start)+"</"+at.Name+">"); err != nil {
			return nil, nil, err
		}
	}
	return nil, nil, fmt.Errorf("%s: %s cannot be opened up", file, address)
}

// text writes the element. A value that must stay text and would be read as something else goes into a string resource.
func (e xmlEnsure) text(in Input, w *Want, p *Plan, into *xml.Element) (string, error) {
	var b strings.Builder
	fmt.Fprintf(&b, "<%s %s=\"%s\"", w.settings["element"], named(into, w.settings["key"]), xml.EncodeAttr(w.settings["key-value"]))
	for _, a := range e.attributes(w) {
		value, err := e.value(in, w, p, a)
		if err != nil {
			return "", err
		}
		fmt.Fprintf(&b, " %s=\"%s\"", named(into, a[0]), xml.EncodeAttr(value))
	}
	text, children := w.settings["text"], strings.TrimSpace(w.settings["children"])
	switch {
	case children != "":
		unit := e.unit(in, w)
		b.WriteString(">\n")
		for _, c := range inner(w).Top.Children {
			b.WriteString(unit + strings.ReplaceAll(spread(c, into, unit), "\n", "\n"+unit) + "\n")
		}
		fmt.Fprintf(&b, "</%s>", w.settings["element"])
	case text != "":
		fmt.Fprintf(&b, ">%s</%s>", escapeText(w.settings["escape"], text), w.settings["element"])
	case w.settings["folder"] != "":
		fmt.Fprintf(&b, "></%s>", w.settings["element"])
	default:
		b.WriteString(" />")
	}
	return b.String(), nil
}

// unit gives the step of indentation of the file that is written.
func (e xmlEnsure) unit(in Input, w *Want) string {
	src, err := in.Tree.Read(e.file(w, w.site.set))
	if err != nil {
		return "    "
	}
	return lex.Unit(src)
}

// spread writes an element of the sheet as a file writes it at a place: each of those inside it on a line of its own, and
// the platform's attributes under the file's prefix.
func spread(e, into *xml.Element, unit string) string {
	var b strings.Builder
	b.WriteString("<" + e.Name)
	for _, a := range e.Attrs {
		fmt.Fprintf(&b, " %s=\"%s\"", named(into, a.Name), xml.EncodeAttr(a.Value))
	}
	if len(e.Children) == 0 {
		return b.String() + " />"
	}
	b.WriteString(">")
	for _, c := range e.Children {
		b.WriteString("\n" + unit + strings.ReplaceAll(spread(c, into, unit), "\n", "\n"+unit))
	}
	return b.String() + "\n</" + e.Name + ">"
}

// value gives an attribute's value as it is written, and sees to the resource it may need.
func (e xmlEnsure) value(in Input, w *Want, p *Plan, a [2]string) (string, error) {
	if !strings.Contains(w.settings["as-text"], a[0]) || !typed(a[1]) {
		return a[1], nil
	}
	s := e.stringWant(w, e.resource(w), a[1])
	if now := e.look(in, s); !now.Good() {
		if now.State != Absent {
			return "", fmt.Errorf("string resource %q, which has to hold the value of %s, is there already: %s", e.resource(w), e.what(w), now.Detail)
		}
		if err := e.make(in, s, now, p); err != nil {
			return "", err
		}
	}
	return "@string/" + e.resource(w), nil
}

// stringWant is a want for a string resource, in the name of another want.
func (xmlEnsure) stringWant(w *Want, name, text string) *Want {
	s := *w
	s.settings = map[string]string{"folder": "res/values", "file": "strings.xml", "root": "resources", "element": "string", "key": "name", "key-value": name, "text": text, "escape": "android-string"}
	return &s
}

// shared reports whether variants that the want is not for build from a source set.
func (w *Want) shared(set string) bool {
	for _, v := range w.site.module.Variants {
		if contains(v.SourceSets, set) && !contains(w.Variants, v.Name) {
			return true
		}
	}
	return false
}

// apart gives an attribute that several identities share a value of its own for this one: it becomes a reference to a
// string resource, which keeps the value there was for the others and is overridden in the want's own source set.
func (e xmlEnsure) apart(in Input, w *Want, h found, a *xml.Attribute, address, value string, p *Plan) error {
	name, ok := strings.CutPrefix(a.Value, "@string/")
	if !ok {
		name = e.resource(w)
		rest := e.stringWant(w, name, a.Value)
		rest.site.set = h.set
		if here, _ := e.in(in, rest, h.set); len(here) == 0 {
			if err := e.add(in, rest, p); err != nil {
				return err
			}
		}
		if err := p.replace(w, h.file, address+"/@"+a.Name, a.Name+"=\"@string/"+name+"\""); err != nil {
			return err
		}
	}
	if ok { // made for another identity before, and needed by this one too
		p.share(w, h.file, address+"/@"+a.Name)
		for _, x := range e.files(in, e.stringWant(w, name, ""), h.set) {
			p.share(w, x, "/resources"+xml.Step("string", "name", name))
		}
	}
	own := e.stringWant(w, name, value)
	here, _ := e.in(in, own, w.site.set)
	if len(here) == 0 {
		return e.add(in, own, p)
	}
	text, err := e.text(in, own, p, here[0].el)
	if err != nil {
		return err
	}
	return p.replace(w, here[0].file, "/resources"+xml.Step("string", "name", name), text)
}

// exchange puts what is wanted in the place of what is there, one thing after the other: the text, attributes, elements.
func (e xmlEnsure) exchange(in Input, w *Want, p *Plan) error {
	for range 20 {
		v, h := e.wrong(in, w)
		if v == nil {
			break
		}
		if err := e.mend(in, w, v, h, p); err != nil {
			return err
		}
	}
	return nil
}

// wrong gives a variant and the element in force there that is not what is wanted.
func (e xmlEnsure) wrong(in Input, w *Want) (*survey.AndroidVariant, found) {
	for _, v := range w.covered() {
		for _, set := range w.sets(v) {
			if hits, _ := e.in(in, w, set); len(hits) > 0 {
				if !e.compare(in, w, v, hits[0]).Good() {
					return v, hits[0]
				}
				break
			}
		}
	}
	return nil, found{}
}

func (e xmlEnsure) mend(in Input, w *Want, v *survey.AndroidVariant, h found, p *Plan) error {
	address := "/" + w.settings["root"]
	for at := h.el.Parent; at != nil && at.Parent != nil; at = at.Parent {
		address = "/" + w.settings["root"] + "/" + at.Name + strings.TrimPrefix(address, "/"+w.settings["root"])
	}
	key := named(h.el, w.settings["key"])
	address += xml.Step(w.settings["element"], key, h.el.Attr(key).Value)
	if w.settings["text"] != "" {
		if h.set != w.site.set && w.shared(h.set) {
			return e.add(in, w, p) // an override of its own
		}
		text, err := e.text(in, w, p, h.el)
		if err != nil {
			return err
		}
		return p.replace(w, h.file, address, text)
	}
	for _, want := range e.attributes(w) {
		a := attr(h.el, want[0])
		if a == nil {
			return p.insert(w, h.file, address+"/@"+named(h.el, want[0]), h.doc.AddAttr(h.el, named(h.el, want[0]), want[1]))
		}
		got, via := e.resolved(in, w, v, a.Value)
		if a.Value == want[1] && strings.HasPrefix(want[1], "@") || Equal(want[1], got) && !(a.Value == got && strings.Contains(w.settings["as-text"], want[0]) && typed(got)) {
			continue
		}
		if h.set != w.site.set && w.shared(h.set) {
			return e.apart(in, w, h, a, address, want[1], p)
		}
		if via.File != "" { // the text behind the reference
			name := strings.TrimPrefix(a.Value, "@string/")
			return p.replace(w, via.File, "/resources"+xml.Step("string", "name", name), fmt.Sprintf("<string name=\"%s\">%s</string>", xml.EncodeAttr(name), escapeText("android-string", want[1])))
		}
		value, err := e.value(in, w, p, want)
		if err != nil {
			return err
		}
		return p.replace(w, h.file, address+"/@"+a.Name, a.Name+"=\""+xml.EncodeAttr(value)+"\"")
	}
	if c := e.missing(w, h); c != nil {
		d, at, err := e.open(in, w, p, h.file, address)
		if err != nil {
			return err
		}
		n := 1
		for _, x := range at.Children {
			if x.Name == c.Name {
				n++
			}
		}
		into, err := d.Into(at, spread(c, at, lex.Unit(d.Src)))
		if err != nil {
			return err
		}
		return p.insert(w, h.file, fmt.Sprintf("%s/%s[%d]", address, c.Name, n), into)
	}
	return nil
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
