package wiring

import (
	"fmt"
	"path"
	"strings"

	"ligare/core/binding"
	"ligare/core/syntax/lex"
	"ligare/core/syntax/pbxproj"
	"ligare/core/syntax/plist"
	"ligare/core/syntax/xml"
)

// element writes a value of a type.
func element(kind, text string) string {
	switch kind {
	case "integer":
		return "<integer>" + xml.Encode(text) + "</integer>"
	case "boolean":
		if text == "true" || text == "yes" {
			return "<true/>"
		}
		return "<false/>"
	case "strings":
		var b strings.Builder
		b.WriteString("<array>")
		for _, s := range strings.Fields(text) {
			b.WriteString("\n\t" + plist.StringElement(s))
		}
		return b.String() + "\n</array>"
	case "dictionary":
		return "<dict>\n</dict>"
	}
	return plist.StringElement(text)
}

// rivals gives the configurations of the target that use the same file and are bound to an identity or environment that
// this want is not for.
func (e plistEnsure) rivals(in Input, w *Want, file string) []string {
	var out []string
	if w.site.project.Version == 0 {
		return nil
	}
	for _, c := range w.site.target.Configurations {
		if contains(w.Variants, c.Name) {
			continue
		}
		if _, bound := in.Binding.IOS[binding.TargetKey(w.site.project, w.site.target)][c.Name]; !bound {
			continue
		}
		if other, _ := e.file(in, w, c.Name); other == file {
			out = append(out, c.Name)
		}
	}
	return out
}

// settingName gives the build setting through which configurations get values of their own.
func settingName(w *Want) string {
	id := strings.TrimPrefix(w.Placement, string(w.Platform)+"-")
	return strings.Map(func(r rune) rune {
		switch {
		case r >= 'a' && r <= 'z':
			return r - 'a' + 'A'
		case r >= 'A' && r <= 'Z' || r >= '0' && r <= '9':
			return r
		}
		return '_'
	}, w.Service+"_"+id)
}

func (e plistEnsure) make(in Input, w *Want, a Answer, p *Plan) error {
	if strings.HasPrefix(e.wanted(w), ByDigest) {
		return nil
	}
	switch a.Code {
	case "key-misspelt":
		p.Next = append(p.Next, fmt.Sprintf("delete the key %q at %s: the right one is %q", a.Actual, a.Here, a.Expected))
	case "key-outside":
		p.Next = append(p.Next, fmt.Sprintf("delete the key at %s: it stands outside the root dictionary and does nothing", a.Here))
	}
	for _, config := range w.Variants {
		now := e.one(in, w, config)
		if now.Good() || now.State == Unknown || now.State == Twice {
			continue
		}
		if err := e.place(in, w, config, now, p); err != nil {
			return err
		}
	}
	return nil
}

// place sees to the value for one configuration.
func (e plistEnsure) place(in Input, w *Want, config string, now Answer, p *Plan) error {
	file, _ := e.file(in, w, config)
	if now.State == Conflicting {
		return e.exchange(in, w, config, file, now, p)
	}
	steps := e.steps(w)
	if s, ok := e.settings(in, w, config); ok && w.settings["file"] == infoPlist && len(steps) == 1 && settable(steps[0]) && s.Get("GENERATE_INFOPLIST_FILE").String() == "YES" {
		return e.set(in, w, config, "INFOPLIST_KEY_"+steps[0], e.wanted(w), p)
	}
	if file == "" {
		var err error
		if file, err = e.newFile(in, w, config, p); err != nil {
			return err
		}
		if e.one(in, w, config).Good() { // the file of another configuration, which has it
			return nil
		}
	}
	text := e.wanted(w)
	if w.varies && len(e.rivals(in, w, file)) > 0 && e.kind(w) == "string" {
		text = "$(" + settingName(w) + ")"
	}
	if f, _ := e.open(in, file); f != nil { // a setting that other configurations already give their own value
		for _, v := range walk(f.Root, steps) {
			if name, ok := variable(v.Text); ok && (!e.listed(w) || w.varies && name == settingName(w)) {
				return e.set(in, w, config, name, e.wanted(w), p)
			}
		}
	}
	if err := e.insert(in, w, file, text, p); err != nil {
		return err
	}
	if name, ok := variable(text); ok {
		return e.set(in, w, config, name, e.wanted(w), p)
	}
	return nil
}

// settable reports whether a build setting can give a generated property list this key (Xcode build settings reference,
// "Info.plist values"): the reasons for using what is private, and a few others.
func settable(key string) bool {
	switch key {
	case "CFBundleDisplayName", "LSApplicationCategoryType", "LSSupportsOpeningDocumentsInPlace", "NSHumanReadableCopyright", "UIFileSharingEnabled", "ITSAppUsesNonExemptEncryption":
		return true
	}
	return strings.HasPrefix(key, "NS") && strings.HasSuffix(key, "UsageDescription")
}

// set gives a configuration a build setting, or exchanges the one it has.
func (e plistEnsure) set(in Input, w *Want, config, name, value string, p *Plan) error {
	px, err := in.project(w)
	if err != nil {
		return err
	}
	c := configOf(px, w.site.target.Name, config)
	if c == nil {
		return fmt.Errorf("%s: target %s has no configuration %s", w.site.project.File(), w.site.target.Name, config)
	}
	own := w
	if w.varies {
		own = w.apart(config)
	}
	if s := c.Dict.Get("buildSettings"); s != nil && s.Dict != nil {
		if had := s.Dict.Entry(name); had != nil {
			text := string(px.Src[had.Start:had.Value.Start]) + pbxproj.Quote(value) + string(px.Src[had.Value.End:had.End])
			if text == string(px.Src[had.Start:had.End]) {
				return nil
			}
			return p.replace(own, w.site.project.File(), "object("+c.ID+")/buildSettings/"+name, text)
		}
	}
	return in.edited(own, p, func(ed *pbxproj.Editor) error { return ed.SetSetting(c, name, value) })
}

// apart is the want for one variant alone: what is recorded under it is not shared with registrations of others.
func (w *Want) apart(variant string) *Want {
	own := *w
	own.subject += " [" + variant + "]"
	return &own
}

func configOf(px *pbxproj.Project, target, config string) *pbxproj.Object {
	if t := pbxTarget(px, target); t != nil {
		for _, c := range t.Configs {
			if c.Dict.Text("name") == config {
				return c
			}
		}
	}
	return nil
}

// newFile makes the file of the want's role and names it in every configuration of the target that has none: a target
// whose Debug build has an entitlement and whose Release build does not is the mistake that is found last.
func (e plistEnsure) newFile(in Input, w *Want, config string, p *Plan) (string, error) {
	if w.site.project.Version == 0 {
		return "", fmt.Errorf("%s has no %s; make one in the project first", w.site.project.Path, roleName[w.settings["file"]])
	}
	px, err := in.project(w)
	if err != nil {
		return "", err
	}
	t := pbxTarget(px, w.site.target.Name)
	role := w.settings["file"]
	for _, c := range t.Configs { // another configuration may have one already
		if file, _ := e.file(in, w, c.Dict.Text("name")); file != "" && role != infoPlist {
			return file, e.name(in, w, config, file, p)
		}
	}
	dir, synced := sourceFolder(px, t)
	name := map[string]string{infoPlist: t.Name + "-Info.plist", entitlements: t.Name + ".entitlements", privacyManifest: "PrivacyInfo.xcprivacy"}[role]
	rel := path.Join(dir, name)
	if role == infoPlist {
		rel = name // beside the project: in a synchronised folder it would be copied into the app as well
	}
	file := path.Join(w.site.project.Dir, rel)
	if in.Tree.Has(file) {
		if f, bad := e.open(in, file); f == nil {
			return "", fmt.Errorf("%s", bad)
		}
	} else {
		p.create(w, file, []byte(plist.Empty))
	}
	inside := synced && path.Dir(rel) == dir
	if role == privacyManifest {
		if inside {
			return file, nil
		}
		return file, in.edited(w, p, func(ed *pbxproj.Editor) error { return ed.AddResource(t.Name, dir, name) })
	}
	if !inside {
		if err := in.edited(w, p, func(ed *pbxproj.Editor) error {
			_, err := ed.AddReference(t, rel)
			return err
		}); err != nil {
			return "", err
		}
	}
	for _, c := range t.Configs {
		if had, why := e.file(in, w, c.Dict.Text("name")); had == "" && why == "" {
			if err := e.name(in, w, c.Dict.Text("name"), file, p); err != nil {
				return "", err
			}
		}
	}
	return file, nil
}

// name makes a configuration build with a file. The edit is part of what registrations share.
func (e plistEnsure) name(in Input, w *Want, config, file string, p *Plan) error {
	if w.settings["file"] == privacyManifest {
		return nil
	}
	rel := file
	if d := w.site.project.Dir; d != "." {
		rel = strings.TrimPrefix(file, d+"/")
	}
	px, err := in.project(w)
	if err != nil {
		return err
	}
	c := configOf(px, w.site.target.Name, config)
	if s := c.Dict.Get("buildSettings"); s != nil && s.Dict != nil && s.Dict.Entry(settingOf[w.settings["file"]]) != nil { // set to nothing
		return fmt.Errorf("%s: configuration %s sets %s to nothing; name a file there or take the setting out", w.site.project.File(), config, settingOf[w.settings["file"]])
	}
	return in.edited(w, p, func(ed *pbxproj.Editor) error { return ed.SetSetting(c, settingOf[w.settings["file"]], rel) })
}

// sourceFolder gives the folder of a target's own sources, relative to the project's, and whether it is synchronised.
func sourceFolder(px *pbxproj.Project, t *pbxproj.Target) (dir string, synced bool) {
	for _, f := range px.SyncFolders() {
		if contains(f.Targets, t.Name) {
			return f.Path, true
		}
	}
	return px.SourceDir(t), false
}

// insert writes the value at its path, with the lists and dictionaries on the way, each as an entry of its own so that
// it can stay for others.
func (e plistEnsure) insert(in Input, w *Want, file, text string, p *Plan) error {
	steps := e.steps(w)
	address := ""
	for i, step := range steps {
		f, at, err := e.opened(in, w, file, address, p)
		if err != nil {
			return err
		}
		last := i == len(steps)-1
		add := func(in lex.Insertion, err error, at string) error {
			if err != nil {
				return fmt.Errorf("%s:%w", file, err)
			}
			return p.insert(w, file, at, in)
		}
		switch {
		case step == "[]" && last:
			into, err := f.Into(at, plist.StringElement(text))
			return add(into, err, address+plist.ItemStep("", text))
		case step == "[]": // a dictionary of its own, holding what is left of the path
			into, err := f.Into(at, nested(steps[i+1:], text))
			return add(into, err, address+plist.ItemStep(steps[i+1], text))
		case strings.HasPrefix(step, "["):
			key, value := itemOf(step)
			address += plist.ItemStep(key, value)
			if at.Item(key, value) == nil {
				into, err := f.Into(at, "<dict>\n\t<key>"+xml.Encode(key)+"</key>\n\t"+plist.StringElement(value)+"\n</dict>")
				if err := add(into, err, address); err != nil {
					return err
				}
			}
		case last:
			into, err := f.Add(at, step, element(e.kind(w), text))
			return add(into, err, address+plist.Step(step))
		default:
			address += plist.Step(step)
			if at.Get(step) == nil {
				container := "<dict>\n</dict>"
				if strings.HasPrefix(steps[i+1], "[") {
					container = "<array>\n</array>"
				}
				into, err := f.Add(at, step, container)
				if err := add(into, err, address); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// nested writes a dictionary that holds the rest of a key path.
func nested(steps []string, text string) string {
	inner := plist.StringElement(text)
	for i := len(steps) - 1; i >= 0; i-- {
		if steps[i] == "[]" {
			inner = "<array>\n\t" + strings.ReplaceAll(inner, "\n", "\n\t") + "\n</array>"
		} else {
			inner = "<dict>\n\t<key>" + xml.Encode(steps[i]) + "</key>\n\t" + strings.ReplaceAll(inner, "\n", "\n\t") + "\n</dict>"
		}
	}
	return inner
}

// opened gives the container at an address; one that is written <array/> is opened up first.
func (e plistEnsure) opened(in Input, w *Want, file, address string, p *Plan) (*plist.File, *plist.Value, error) {
	for range 2 {
		src, err := in.Tree.Read(file)
		if err != nil {
			return nil, nil, err
		}
		text, _, err := plist.Text(src)
		if err != nil {
			return nil, nil, fmt.Errorf("%s: %w", file, err)
		}
		f, err := plist.Parse(text)
		if err != nil {
			return nil, nil, fmt.Errorf("%s:%w", file, err)
		}
		at := f.At(address)
		if at == nil {
			return nil, nil, fmt.Errorf("%s: %s is not there", file, address)
		}
		if at.Kind != plist.Dict && at.Kind != plist.Array {
			l, c := f.Position(at)
			return nil, nil, fmt.Errorf("%s:%d:%d: <%s> stands where a list or a dictionary is expected", file, l, c, at.Kind)
		}
		if !at.Element.Empty {
			return f, at, nil
		}
		where := address
		if where == "" {
			where = "/"
		}
		start, end, _ := f.Find(where)
		nl := lex.LineEnd(text)
		open := string(text[start:at.Element.Node.Start]) + "<" + string(at.Kind) + ">" + nl + lex.Indent(text, at.Element.Node.Start) + "</" + string(at.Kind) + ">" + string(text[at.Element.Node.End:end])
		if err := p.replace(w, file, where, open); err != nil {
			return nil, nil, err
		}
	}
	return nil, nil, fmt.Errorf("%s: %s cannot be opened up", file, address)
}

// exchange puts the value that is wanted in the place of another. What other configurations share becomes a build
// setting, which keeps the value there was for them.
func (e plistEnsure) exchange(in Input, w *Want, config, file string, now Answer, p *Plan) error {
	steps := e.steps(w)
	if now.Here.File == w.site.project.File() && len(steps) == 1 {
		if s, ok := e.settings(in, w, config); ok && s.Own("INFOPLIST_KEY_"+steps[0]) {
			return e.set(in, w, config, "INFOPLIST_KEY_"+steps[0], e.wanted(w), p)
		}
	}
	src, err := in.Tree.Read(file)
	if err != nil {
		return err
	}
	text, _, err := plist.Text(src)
	if err != nil {
		return fmt.Errorf("%s: %w", file, err)
	}
	f, err := plist.Parse(text)
	if err != nil {
		return fmt.Errorf("%s:%w", file, err)
	}
	address := e.address(w, now.Actual)
	old := f.At(address)
	if old == nil {
		return fmt.Errorf("%s: the value that is to be exchanged is not there", file)
	}
	if name, ok := variable(old.Text); ok {
		return e.set(in, w, config, name, e.wanted(w), p)
	}
	write := func(kind, value, after string) error {
		start, end, ok := f.Find(address)
		if !ok {
			return fmt.Errorf("%s: %s is not there", file, address)
		}
		el := strings.ReplaceAll(element(kind, value), "\n", lex.LineEnd(text)+lex.Indent(text, old.Element.Node.Start))
		return p.replaceMoved(w, file, address, after, string(text[start:old.Element.Node.Start])+el+string(text[old.Element.Node.End:end]))
	}
	value := e.wanted(w)
	rivals := e.rivals(in, w, file)
	if !w.varies || len(rivals) == 0 || e.kind(w) != "string" {
		return write(e.kind(w), value, e.address(w, value))
	}
	name := settingName(w)
	if err := write("string", "$("+name+")", e.address(w, "$("+name+")")); err != nil {
		return err
	}
	for _, c := range rivals {
		if s, ok := e.settings(in, w, c); ok && !s.Own(name) && !strings.Contains(old.Text, "$") {
			if err := e.set(in, w, c, name, old.Text, p); err != nil {
				return err
			}
		}
	}
	return e.set(in, w, config, name, value, p)
}

// address gives the address of a value at the want's path; text tells items of lists apart.
func (e plistEnsure) address(w *Want, text string) string {
	address := ""
	steps := e.steps(w)
	for i, step := range steps {
		switch {
		case step == "[]" && i == len(steps)-1:
			address += plist.ItemStep("", text)
		case step == "[]":
			address += plist.ItemStep(steps[i+1], text)
		case strings.HasPrefix(step, "["):
			address += plist.ItemStep(itemOf(step))
		default:
			address += plist.Step(step)
		}
	}
	return address
}
