package wiring

import (
	"fmt"
	"path"
	"strconv"
	"strings"

	"ligare/core/survey"
	"ligare/core/syntax/gradle"
	"ligare/core/syntax/lex"
	"ligare/core/syntax/properties"
	"ligare/core/syntax/toml"
)

// again surveys the tree as the edits left it; it is worked out once for each state of the tree.
func (in Input) again() *survey.Report {
	if in.memo == nil || in.memo.at != in.Tree.Edits() || in.memo.survey == nil {
		r := survey.Survey(in.Tree)
		if in.memo == nil {
			return r
		}
		in.memo.survey, in.memo.at = r, in.Tree.Edits()
	}
	return in.memo.survey
}

// catalog reads the tree's version catalog as it stands; "" when there is none.
func (in Input) catalog(w *Want) (string, *toml.File) {
	name := w.site.module.Build().CatalogFile("libs")
	if name == "" {
		return "", nil
	}
	src, err := in.Tree.Read(name)
	if err != nil {
		return "", nil
	}
	f, err := read(in, "catalog", name, src, toml.Parse)
	if err != nil {
		return "", nil
	}
	return name, f
}

// intoCatalog adds an entry to a table of the version catalog, with the table if need be.
func (e buildEnsure) intoCatalog(in Input, w *Want, p *Plan, name, table, key, value string) error {
	src, err := in.Tree.Read(name)
	if err != nil {
		return err
	}
	if _, _, taken := toml.Find(src, "/"+table+"/"+key); taken {
		return fmt.Errorf("%s: %s.%s is taken by something else; add %s under another name", name, table, key, value)
	}
	into, ok := toml.Add(src, table, key, value)
	if ok {
		p.share(w, name, "/"+table) // a heading that was made for another service stays as long as something stands below it
	} else {
		if err := p.insert(w, name, "/"+table, toml.AddTable(src, table)); err != nil {
			return err
		}
		if src, err = in.Tree.Read(name); err != nil {
			return err
		}
		if into, ok = toml.Add(src, table, key, value); !ok {
			return fmt.Errorf("%s: the table %s cannot be added", name, table)
		}
	}
	return p.insert(w, name, "/"+table+"/"+key, into)
}

// addressOf writes the address of a setting: the blocks around it, and itself.
func addressOf(f *gradle.File, s gradle.Setting) string {
	var steps []string
	for _, up := range append(append([]*gradle.Stmt(nil), s.Up...), s.Stmt) {
		name := strings.Join(f.Settle(up), ".")
		if up.Block != nil {
			steps = append(steps, name)
		} else if name != "" {
			steps = append(steps, gradle.Step(name, f.Key(up)))
		}
	}
	return strings.Join(steps, "/")
}

// blockOf gives the block of the module's build file that belongs to a source set: defaultConfig for main, a build type
// or a flavor for theirs; "" for a source set of a combination.
func blockOf(m *survey.Module, set string) []string {
	if set == "main" {
		return []string{"android", "defaultConfig"}
	}
	for _, v := range m.Variants {
		if v.BuildType == set {
			return []string{"android", "buildTypes", set}
		}
		if contains(v.Flavors, set) {
			return []string{"android", "productFlavors", set}
		}
	}
	return nil
}

func (e buildEnsure) lookDefault(in Input, w *Want) Answer {
	name := w.settings["name"]
	switch {
	case name == "minSdk":
		return e.lookMinimum(in, w)
	case name == "multiDexEnabled":
		return e.lookSwitch(in, w)
	}
	return e.lookPlaceholder(in, w)
}

// variants gives the covered variants as the tree stands now.
func (in Input) variants(w *Want) []*survey.AndroidVariant {
	var out []*survey.AndroidVariant
	for _, m := range in.again().Android.Modules {
		if m.Dir != w.site.module.Dir || m.BuildFile != w.site.module.BuildFile {
			continue
		}
		for _, v := range m.Variants {
			if contains(w.Variants, v.Name) {
				out = append(out, v)
			}
		}
	}
	return out
}

func (e buildEnsure) lookMinimum(in Input, w *Want) Answer {
	want, err := strconv.Atoi(w.Params["version"])
	if err != nil {
		return Answer{State: Unknown, Code: "minimum-unknown", Detail: fmt.Sprintf("the sheet's version %q is not a number", w.Params["version"])}
	}
	out := Answer{State: Right}
	for _, v := range in.variants(w) {
		f := v.MinSDK
		at := Place{File: f.File, Line: f.Line, Column: f.Column}
		have, err := strconv.Atoi(f.String())
		switch {
		case !f.Set():
			return Answer{State: Absent, Code: "minimum-low", Here: Place{File: w.site.module.BuildFile}, Expected: w.Params["version"], Fixable: true,
				Detail: fmt.Sprintf("nothing says the minimum SDK of %s, which makes it 1; %s is needed. %s", v.Name, w.Params["version"], w.Why)}
		case !f.Known() || err != nil:
			if at.File == "" {
				at.File = w.site.module.BuildFile
			}
			fixable := false
			if l, ok := in.larger(at); ok {
				if n, err := strconv.Atoi(l.number); err == nil && n >= want {
					out.Here = at
					continue
				}
				fixable = true
			}
			return Answer{State: Unknown, Fixable: fixable, Code: "minimum-unknown", Here: at, Expected: w.Params["version"], Detail: "the minimum of " + v.Name + " is not known: " + f.Say() + "; make sure that it is " + w.Params["version"] + " at least"}
		case have < want:
			return Answer{State: Absent, Code: "minimum-low", Here: at, Expected: w.Params["version"], Actual: f.String(), Fixable: true,
				Detail: fmt.Sprintf("the minimum SDK of %s is %d; %s is needed. %s", v.Name, have, w.Params["version"], w.Why)}
		}
		out.Here = at
	}
	return out
}

// makeMinimum raises the number where it is defined, and says who else that touches.
func (e buildEnsure) makeMinimum(in Input, w *Want, p *Plan) error {
	for range 10 {
		a := e.lookMinimum(in, w)
		if l, ok := in.larger(a.Here); ok && a.State == Unknown {
			if err := e.keepAbove(w, p, a.Here.File, l); err != nil {
				return err
			}
			continue
		}
		if a.Code != "minimum-low" {
			return nil
		}
		if a.Actual == "" {
			file, block := w.site.module.BuildFile, []string{"android", "defaultConfig"}
			if err := e.blocks(in, w, p, file, block); err != nil {
				return err
			}
			f := in.gradle(file)
			name, text := "minSdk", "minSdk = "+a.Expected
			if !f.Kotlin {
				name, text = "minSdkVersion", "minSdkVersion "+a.Expected
			}
			p.Next = append(p.Next, fmt.Sprintf("know that the minimum SDK is now %s: older phones are left out", a.Expected))
			if err := p.into(w, file, f, block, "android/defaultConfig/"+name, text); err != nil {
				return err
			}
			p.raised("", a.Expected)
			continue
		}
		var others []string
		for _, m := range in.again().Android.Modules {
			for _, v := range m.Variants {
				if f := v.MinSDK; f.File == a.Here.File && f.Line == a.Here.Line && f.Column == a.Here.Column && !(m.Dir == w.site.module.Dir && contains(w.Variants, v.Name)) {
					others = append(others, m.Dir+" "+v.Name)
				}
			}
		}
		also := ""
		if len(others) > 0 {
			also = "; it is the minimum of " + strings.Join(others, ", ") + " as well"
		}
		p.Next = append(p.Next, fmt.Sprintf("know that the minimum SDK rises from %s to %s at %s: older phones are left out%s", a.Actual, a.Expected, a.Here, also))
		if err := e.setNumber(in, w, p, a.Here, a.Actual, a.Expected); err != nil {
			return err
		}
	}
	return nil
}

// setNumber exchanges a literal at a place of a build file, a version catalog or a properties file.
func (e buildEnsure) setNumber(in Input, w *Want, p *Plan, at Place, old, text string) error {
	src, err := in.Tree.Read(at.File)
	if err != nil {
		return err
	}
	swap := func(address string) error {
		start, end, ok := Locate(at.File, src, address)
		if !ok || strings.Count(string(src[start:end]), old) != 1 {
			return fmt.Errorf("%s: %s is not a plain number there; write %s", at, old, text)
		}
		if err := p.replace(w, at.File, address, strings.Replace(string(src[start:end]), old, text, 1)); err != nil {
			return err
		}
		p.raised(old, text)
		return nil
	}
	switch {
	case strings.HasSuffix(at.File, ".toml"):
		f, err := toml.Parse(src)
		if err != nil {
			return fmt.Errorf("%s:%w", at.File, err)
		}
		for _, x := range f.Entries {
			if x.Line == at.Line && x.Column == at.Column {
				table, key, _ := strings.Cut(x.Path, ".")
				return swap("/" + table + "/" + key)
			}
		}
	case strings.HasSuffix(at.File, ".properties"):
		for _, x := range properties.Parse(src) {
			if x.Line == at.Line {
				return swap("key(" + x.Key + ")")
			}
		}
	case strings.HasSuffix(at.File, ".csproj"), strings.HasSuffix(at.File, ".props"), strings.HasSuffix(at.File, ".xml"):
		if address := elementAt(src, at); address != "" {
			return swap(address)
		}
	case strings.HasSuffix(at.File, ".asset"):
		if address := settingAt(src, at); address != "" {
			return swap(address)
		}
	default:
		if f := in.gradle(at.File); f != nil {
			if s := settingAround(f, at); s != nil {
				return swap(addressOf(f, *s))
			}
		}
	}
	return fmt.Errorf("%s: the number is written in a way that is not edited; write %s there", at, text)
}

func (e buildEnsure) lookSwitch(in Input, w *Want) Answer {
	for _, v := range in.variants(w) {
		if n, err := strconv.Atoi(v.MinSDK.String()); err == nil && n >= 21 {
			return Answer{State: Right, Here: Place{File: v.MinSDK.File, Line: v.MinSDK.Line, Column: v.MinSDK.Column}, Detail: "phones that old are left out already: the platform loads many methods by itself from SDK 21 on"}
		}
	}
	name := w.site.module.BuildFile
	f := in.gradle(name)
	if f == nil {
		return Answer{State: Unknown, Code: "build-file-unreadable", Here: Place{File: name}, Detail: name + " cannot be read"}
	}
	if all := f.At("android", "defaultConfig", w.settings["name"]); len(all) > 0 {
		s := all[len(all)-1] // the last one counts
		if f.Text(s.Arg()) == w.settings["value"] {
			return Answer{State: Right, Here: place(name, f.Src, s.Start)}
		}
		return Answer{State: Conflicting, Code: "switch-off", Here: place(name, f.Src, s.Start), Expected: w.settings["value"], Actual: f.Text(s.Arg()), Fixable: true, Detail: w.settings["name"] + " is " + f.Text(s.Arg())}
	}
	return Answer{State: Absent, Code: "switch-missing", Here: Place{File: name}, Expected: w.settings["name"] + " = " + w.settings["value"], Fixable: true, Detail: name + " does not say " + w.settings["name"]}
}

func (e buildEnsure) lookPlaceholder(in Input, w *Want) Answer {
	out := Answer{State: Right}
	for _, v := range in.variants(w) {
		found := false
		for _, x := range v.Placeholders {
			if x.Name != w.Params["name"] {
				continue
			}
			found = true
			at := Place{File: x.File, Line: x.Line, Column: x.Column}
			switch {
			case !x.Known():
				return Answer{State: Unknown, Code: "placeholder-unknown", Here: at, Detail: "placeholder " + x.Name + ": " + x.Say()}
			case !Equal(w.Params["value"], x.String()):
				return Answer{State: Conflicting, Code: "placeholder-differs", Here: at, Expected: shown(w.Params["value"]), Actual: x.String(), Fixable: true,
					Detail: fmt.Sprintf("placeholder %s is not the value for %s: %s", x.Name, identityOf(w), difference(w.Params["value"], x.String()))}
			}
			out.Here = at
		}
		if !found {
			return Answer{State: Absent, Code: "placeholder-missing", Here: Place{File: w.site.module.BuildFile}, Expected: w.Params["name"] + " = " + shown(w.Params["value"]), Fixable: true, Detail: "no build file defines the placeholder " + w.Params["name"] + " for " + v.Name}
		}
	}
	return out
}

func (e buildEnsure) makeDefault(in Input, w *Want, a Answer, p *Plan) error {
	file := w.site.module.BuildFile
	name := w.settings["name"]
	if name == "minSdk" {
		return e.makeMinimum(in, w, p)
	}
	blocks := blockOf(w.site.module, w.site.set)
	if blocks == nil {
		return fmt.Errorf("source set %s belongs to a combination, for which %s has no block", w.site.set, file)
	}
	f := in.gradle(file)
	text, step := name+" = "+w.settings["value"], name
	if !f.Kotlin {
		text = name + " " + w.settings["value"]
	}
	if name == "" {
		step = "manifestPlaceholders." + w.Params["name"]
		text = "manifestPlaceholders[" + f.Quote(w.Params["name"]) + "] = " + f.Quote(w.Params["value"])
	}
	if a.State == Conflicting {
		for _, s := range f.Settings() {
			if place(file, f.Src, s.Start).Line == a.Here.Line && a.Here.File == file && strings.Join(f.Settle(s.Stmt), ".") == step && s.Block == nil {
				return p.replace(w, file, addressOf(f, s), text)
			}
		}
		return nil // written in another form: left to a person
	}
	if err := e.blocks(in, w, p, file, blocks); err != nil {
		return err
	}
	f = in.gradle(file)
	return p.into(w, file, f, blocks, strings.Join(blocks, "/")+"/"+step, text)
}

// blocks opens the blocks on the way to a place, each with an entry of its own.
func (e buildEnsure) blocks(in Input, w *Want, p *Plan, file string, path []string) error {
	for i := range path {
		f := in.gradle(file)
		if f.Block(path[:i+1]...) != nil {
			continue
		}
		text := path[i] + " {\n}"
		if f.Kotlin && i == len(path)-1 && i == 2 {
			text = "getByName(" + f.Quote(path[i]) + ") {\n}"
		}
		var err error
		if address := strings.Join(path[:i+1], "/"); i == 0 {
			err = p.insert(w, file, address, f.Append(text))
		} else {
			err = p.into(w, file, f, path[:i], address, text)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

func (e buildEnsure) lookSigning(in Input, w *Want) Answer {
	kind := w.settings["name"]
	for _, v := range in.variants(w) {
		if v.BuildType != kind {
			continue
		}
		at := Place{File: v.SigningConfig.File, Line: v.SigningConfig.Line, Column: v.SigningConfig.Column}
		switch {
		case v.SigningConfig.Unresolved != "":
			return Answer{State: Unknown, Code: "signing-unknown", Here: at, Detail: "what " + v.Name + " signs with is not known: " + v.SigningConfig.Unresolved}
		case !v.SigningConfig.Set():
			return Answer{State: Absent, Code: "signing-missing", Here: Place{File: w.site.module.BuildFile}, Expected: "a signing configuration", Fixable: true, Detail: v.Name + " is not signed: nothing can be bought in it"}
		case v.SigningConfig.String() == "debug":
			return Answer{State: Conflicting, Code: "signing-debug", Here: at, Expected: "a configuration of its own", Actual: "debug", Detail: v.Name + " signs with the debug certificate"}
		}
		return Answer{State: Right, Here: at}
	}
	return Answer{State: Right, Detail: "no covered variant is of the build type " + kind}
}

// makeSigning refers the build type to the configuration of its name, and writes one that takes everything from the
// environment where there is none: no password stands in a build file.
func (e buildEnsure) makeSigning(in Input, w *Want, a Answer, p *Plan) error {
	kind, file := w.settings["name"], w.site.module.BuildFile
	if a.State == Conflicting {
		return nil
	}
	f := in.gradle(file)
	if len(f.At("android", "signingConfigs", kind)) == 0 {
		if types := f.Block("android", "buildTypes"); types != nil && f.Block("android", "signingConfigs") == nil {
			// What a build type refers to has to be there before it.
			if err := p.insert(w, file, "android/signingConfigs", f.Ahead(types, "signingConfigs {\n}")); err != nil {
				return err
			}
		}
		if err := e.blocks(in, w, p, file, []string{"android", "signingConfigs"}); err != nil {
			return err
		}
		f = in.gradle(file)
		upper := strings.ToUpper(kind)
		u := f.Unit()
		text := fmt.Sprintf("%[1]s {\n%[2]sif (System.getenv(%[3]s) != null) {\n%[2]s%[2]sstoreFile rootProject.file(System.getenv(%[3]s))\n%[2]s%[2]sstorePassword System.getenv(%[4]s)\n%[2]s%[2]skeyAlias System.getenv(%[5]s)\n%[2]s%[2]skeyPassword System.getenv(%[4]s)\n%[2]s}\n}",
			kind, u, f.Quote(upper+"_STORE_FILE"), f.Quote(upper+"_STORE_PASSWORD"), f.Quote(upper+"_KEY_ALIAS"))
		if f.Kotlin {
			text = fmt.Sprintf("create(%[1]s) {\n%[2]sSystem.getenv(%[3]s)?.let { storeFile = rootProject.file(it) }\n%[2]sstorePassword = System.getenv(%[4]s)\n%[2]skeyAlias = System.getenv(%[5]s)\n%[2]skeyPassword = System.getenv(%[4]s)\n}",
				f.Quote(kind), u, f.Quote(upper+"_STORE_FILE"), f.Quote(upper+"_STORE_PASSWORD"), f.Quote(upper+"_KEY_ALIAS"))
		}
		if err := p.into(w, file, f, []string{"android", "signingConfigs"}, "android/signingConfigs/"+kind, text); err != nil {
			return err
		}
		p.Next = append(p.Next, fmt.Sprintf("set %[1]s_STORE_FILE, %[1]s_STORE_PASSWORD and %[1]s_KEY_ALIAS in the environment of %[2]s builds", upper, kind))
	}
	if err := e.blocks(in, w, p, file, []string{"android", "buildTypes", kind}); err != nil {
		return err
	}
	f = in.gradle(file)
	text := "signingConfig signingConfigs." + kind
	if f.Kotlin {
		text = "signingConfig = signingConfigs.getByName(" + f.Quote(kind) + ")"
	}
	return p.into(w, file, f, []string{"android", "buildTypes", kind}, "android/buildTypes/"+kind+"/signingConfig", text)
}

// lookModule answers for a module of the build: included in the settings, there on the disk, and used by the app's module.
func (e buildEnsure) lookModule(in Input, w *Want) Answer {
	b, name := w.site.module.Build(), w.Params["name"]
	f := in.gradle(b.Settings)
	if f == nil {
		return Answer{State: Unknown, Code: "build-file-unreadable", Here: Place{File: b.Root}, Detail: "the build has no settings file, so it has no other modules"}
	}
	at, ok := included(f, name)
	if !ok {
		return Answer{State: Absent, Code: "module-missing", Here: Place{File: b.Settings}, Expected: "include(" + name + ")", Fixable: true, Detail: b.Settings + " does not include " + name}
	}
	here := place(b.Settings, f.Src, at.Start)
	app := in.gradle(w.site.module.BuildFile)
	used := false
	for _, d := range app.Dependencies("dependencies") {
		used = used || d.Project == name && shipping[d.Config]
	}
	if !used {
		return Answer{State: Absent, Code: "module-unused", Here: Place{File: w.site.module.BuildFile}, Expected: "implementation(project(" + name + "))", Fixable: true, Detail: w.site.module.BuildFile + " does not use the module " + name}
	}
	dir := path.Join(b.Root, w.settings["value"])
	if len(in.Tree.Dir(dir)) == 0 {
		return Answer{State: OtherForm, Here: here, Detail: fmt.Sprintf("%s is included, but the folder %s is not there yet: unpack the module into it", name, dir)}
	}
	return Answer{State: Right, Here: here}
}

// included finds the statement of a settings file that includes a module.
func included(f *gradle.File, name string) (*gradle.Stmt, bool) {
	for _, s := range f.At("include") {
		for _, a := range s.Args {
			if text, ok := f.Literal(a); ok && ":"+strings.TrimPrefix(text, ":") == name {
				return s.Stmt, true
			}
		}
	}
	return nil, false
}

func (e buildEnsure) makeModule(in Input, w *Want, p *Plan) error {
	b, name := w.site.module.Build(), w.Params["name"]
	f := in.gradle(b.Settings)
	if _, ok := included(f, name); !ok {
		text := "include " + f.Quote(name)
		if f.Kotlin {
			text = "include(" + f.Quote(name) + ")"
		}
		into := f.Append(text)
		if all := f.At("include"); len(all) > 0 {
			last := all[len(all)-1]
			if !f.Kotlin && f.Src[last.Start+len("include")] == '(' {
				text = "include(" + f.Quote(name) + ")"
			}
			into = lex.OnLinesAfter(f.Src, last.End, lex.Indent(f.Src, last.Start), text)
		}
		if err := p.insert(w, b.Settings, gradle.Step("include", name), into); err != nil {
			return err
		}
		f = in.gradle(b.Settings)
		if folder := w.settings["value"]; folder != strings.ReplaceAll(strings.TrimPrefix(name, ":"), ":", "/") {
			text := "project(" + f.Quote(name) + ").projectDir = file(" + f.Quote(folder) + ")"
			if err := p.insert(w, b.Settings, "project."+name+".projectDir", f.Append(text)); err != nil {
				return err
			}
		}
	}
	if dir := path.Join(b.Root, w.settings["value"]); len(in.Tree.Dir(dir)) == 0 {
		p.Next = append(p.Next, "unpack the module into "+dir+": it is included, and not there yet")
	}
	file := w.site.module.BuildFile
	for _, d := range in.gradle(file).Dependencies("dependencies") {
		if d.Project == name && shipping[d.Config] {
			return nil
		}
	}
	if err := e.blocks(in, w, p, file, []string{"dependencies"}); err != nil {
		return err
	}
	f = in.gradle(file)
	text := "implementation(project(" + f.Quote(name) + "))"
	if !f.Kotlin && !parenthesised(f) {
		text = "implementation project(" + f.Quote(name) + ")"
	}
	return p.into(w, file, f, []string{"dependencies"}, "dependencies/"+gradle.Step("implementation", "project("+name+")"), text)
}

// into inserts a statement as the last of a block of a build file. A block that is not there, stands under a condition or
// is not closed is an error.
func (p *Plan) into(w *Want, file string, f *gradle.File, block []string, address, text string) error {
	b := f.Block(block...)
	if b == nil {
		return fmt.Errorf("%s: there is no block %s that can be written into: its brackets do not match, or it stands under a condition", file, strings.Join(block, "."))
	}
	return p.insert(w, file, address, f.Into(b, text))
}
