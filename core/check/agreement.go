package check

import (
	"bytes"
	"fmt"
	"path"
	"slices"
	"strings"

	"ligare/core/binding"
	"ligare/core/ident"
	"ligare/core/sheet"
	"ligare/core/survey"
	"ligare/core/syntax/lex"
	"ligare/core/syntax/pbxproj"
	"ligare/core/syntax/source"
	"ligare/core/wiring"
)

// told holds what services were told of the tree - its framework, its IDE - against the tree as it is.
func (r *runner) told() {
	for _, reg := range r.in.Registrations {
		known := r.in.Records.registration(reg.Key())
		if known == nil {
			continue
		}
		for i := range reg.Sheet.Asks {
			a := &reg.Sheet.Asks[i]
			switch a.Tree {
			case "framework":
				r.framework(reg, known, a)
			case "ide":
				r.ide(reg, known, a)
			}
		}
	}
}

// frameworkOf names the framework that a build is written in, as sheets name it.
func frameworkOf(b build) (name string, at survey.Fact) {
	layout, over := "", ""
	if b.module != nil {
		layout, over, at = b.module.Layout, b.module.Framework, survey.Fact{File: b.module.BuildFile, Line: 1, Column: 1}
	} else if b.project != nil {
		layout, over, at = b.project.Layout, b.project.Framework, survey.Fact{File: b.project.File(), Line: 1, Column: 1}
	}
	switch {
	case over != "":
		return over, at
	case layout == "dotnet" || layout == "engine" || layout == "hosted-web":
		return layout, at
	}
	return "native", at
}

func (r *runner) framework(reg *wiring.Registration, known *Registration, a *sheet.Ask) {
	for _, b := range r.builds() {
		told := known.of(b.platform, b.bound.Identity)
		if !b.attached || told == nil || reg.Environment != "" && reg.Environment != b.bound.Environment {
			continue
		}
		said := told.Answers[a.ID]
		if a.Per == "" {
			said = known.Answers[a.ID]
		}
		is, at := frameworkOf(b)
		if said == "" || said == is || len(a.Choices) > 0 && !slices.Contains(a.Choices, is) && !slices.Contains(frameworks, said) {
			continue
		}
		for _, f := range r.in.Survey.Frameworks {
			if f.Name != is {
				continue
			}
			for _, name := range []string{"pubspec.yaml", "package.json"} {
				if file := path.Join(f.Dir, name); r.in.Tree.Has(file) {
					at = survey.Fact{File: file, Line: 1, Column: 1}
				}
			}
		}
		want := is
		if len(a.Choices) > 0 && !slices.Contains(a.Choices, is) {
			want = strings.Join(slices.DeleteFunc(slices.Clone(a.Choices), func(c string) bool { return slices.Contains(frameworks, c) }), " or ")
		}
		r.add(Finding{Rule: "library-of-another-framework", Variant: b.name, File: at.File, Line: at.Line, Column: at.Column, Expected: want, Actual: said, From: "the tree", cause: reg.Key() + a.ID,
			Message: fmt.Sprintf("%s was told %q (%s), and the app is %s", reg.Sheet.Title, said, a.Title, article(is))}, map[string]string{"service": reg.Service, "answer": a.ID, "right": want}, reg.Key(), a.ID)
	}
}

// frameworks are the names of layouts that a choice can be wrong about.
var frameworks = []string{"flutter", "react-native", "web-wrapper", "dotnet", "engine", "hosted-web"}

func article(framework string) string {
	if framework == "engine" {
		return "an engine's"
	}
	return "a " + framework + " one"
}

// ide compares the IDE version that was registered with the one that last brought each project up to date. An older
// project says nothing: an IDE opens it without a word.
func (r *runner) ide(reg *wiring.Registration, known *Registration, a *sheet.Ask) {
	said := known.Answers[a.ID]
	if said == "" {
		return
	}
	for _, p := range r.in.Survey.IOS.Projects {
		if p.Version == 0 || !slices.ContainsFunc(r.builds(), func(b build) bool { return b.project == p && known.of(ident.IOS, b.bound.Identity) != nil }) {
			continue
		}
		src, err := r.in.Tree.Read(p.File())
		if err != nil {
			continue
		}
		x, err := pbxproj.Parse(src)
		if err != nil {
			continue // said by source-unreadable
		}
		at := lastUpgrade(x)
		version, ok := upgradeVersion(at)
		older, known := wiring.Under(said, version)
		if !ok || !known || !older {
			continue
		}
		line, column := lex.Position(src, at.Start)
		r.add(Finding{Rule: "library-of-another-ide", File: p.File(), Line: line, Column: column, Expected: said, Actual: version, From: "what was registered", cause: p.Path,
			Message: fmt.Sprintf("%s issued its library for IDE version %s, and this project was last brought up to date with %s", reg.Sheet.Title, said, version)},
			map[string]string{"service": reg.Service, "answer": a.ID}, reg.Key(), p.Path)
	}
}

// lastUpgrade finds the entry of a project that tells the version of the IDE that last brought it up to date.
func lastUpgrade(f *pbxproj.Project) *pbxproj.Value {
	for _, o := range f.Order {
		if o.ISA != "PBXProject" {
			continue
		}
		if v := o.Dict.Get("attributes"); v != nil && v.Dict != nil {
			return v.Dict.Get("LastUpgradeCheck")
		}
	}
	return nil
}

// upgradeVersion reads 1540 as 15.4.
func upgradeVersion(v *pbxproj.Value) (string, bool) {
	if v == nil || len(v.Text) != 4 || strings.Trim(v.Text, "0123456789") != "" {
		return "", false
	}
	return strings.TrimPrefix(v.Text[:2], "0") + "." + v.Text[2:3], true
}

// scopes holds what the source asks for against what was granted, and trials the values of a trial against what is
// published: one walk through the source for both.
func (r *runner) sourceTexts() {
	type asked struct {
		reg     *wiring.Registration
		ask     *sheet.Ask
		granted []string
	}
	var asks []asked
	var trials []literal
	for _, reg := range r.in.Registrations {
		known := r.in.Records.registration(reg.Key())
		for i := range reg.Sheet.Asks {
			if a := &reg.Sheet.Asks[i]; a.AskedBy != "" && known != nil && known.Answers[a.ID] != "" {
				asks = append(asks, asked{reg, a, strings.Fields(known.Answers[a.ID])})
			}
		}
		trials = append(trials, trialsOf(reg)...)
	}
	r.trialsTold(trials)
	if len(asks) == 0 && len(trials) == 0 {
		return
	}
	r.in.Tree.Walk(func(name string) {
		if !sourceFiles[path.Ext(name)] || !r.in.Tree.Small(name, largest) {
			return
		}
		src, err := r.in.Tree.Read(name)
		if err != nil {
			return
		}
		held := slices.DeleteFunc(slices.Clone(trials), func(v literal) bool { return !bytes.Contains(src, []byte(v.text)) })
		wanted := slices.DeleteFunc(slices.Clone(asks), func(a asked) bool {
			return !bytes.Contains(src, []byte(a.ask.AskedBy[strings.LastIndexByte(a.ask.AskedBy, '.')+1:]))
		})
		if len(held) == 0 && len(wanted) == 0 {
			return
		}
		f, ok := source.Parse(name, src)
		if !ok {
			return
		}
		x := leftover{r: r, name: name, f: f}
		x.trial(f.Tree.Root, held)
		for _, c := range f.Calls(f.Tree.Root) {
			for _, a := range wanted {
				if c.Name == a.ask.AskedBy || strings.HasSuffix(c.Name, "."+a.ask.AskedBy) {
					x.scopes(c, a.reg, a.ask, a.granted)
				}
			}
		}
	})
}

func (x leftover) scopes(c source.Call, reg *wiring.Registration, a *sheet.Ask, granted []string) {
	var visit func(n *lex.Node)
	visit = func(n *lex.Node) {
		for _, k := range n.Kids {
			if k.Kind == lex.String {
				for _, word := range strings.Fields(strings.Trim(k.Of(x.f.Src), "@\"'`")) {
					if slices.Contains(granted, word) {
						continue
					}
					f := x.finding("scope-not-granted", k.Start)
					f.Actual, f.Expected, f.From, f.cause = word, strings.Join(granted, " "), "what was registered", f.Place()+word
					f.Message = fmt.Sprintf("%s asks for %q, which %s did not grant", c.Name, word, reg.Sheet.Title)
					for _, g := range granted {
						if ident.Near(g, word) {
							f.Message += "; " + g + " is granted: " + ident.Difference(g, word)
						}
					}
					x.r.add(f, map[string]string{"service": reg.Service, "answer": a.ID, "all": strings.Join(append(slices.Clone(granted), word), " ")}, reg.Service, word)
				}
			}
			visit(k)
		}
	}
	visit(c.Args)
}

// trialsOf lists a registration's values that are for a trial only.
func trialsOf(reg *wiring.Registration) []literal {
	var out []literal
	for _, v := range reg.Sheet.Issues.Values {
		if text := reg.Values[v.ID]; v.Trial && len(text) > 7 && !strings.HasPrefix(text, wiring.ByDigest) {
			out = append(out, literal{text, reg.Sheet.Title + "'s " + strings.ToLower(v.Title), reg.Service, reg.Key()})
		}
	}
	return out
}

// trialsTold looks for values of a trial in what services were told.
func (r *runner) trialsTold(trials []literal) {
	if r.in.Records == nil {
		return
	}
	for _, g := range r.in.Records.Registrations {
		for _, v := range trials {
			told := map[string]string{}
			for k, answer := range g.Answers {
				told[k] = answer
			}
			for _, uri := range g.Redirects {
				told["redirect"] = uri
			}
			for _, k := range sortedKeys(told) {
				if told[k] == v.text || strings.HasPrefix(told[k], strings.TrimSuffix(v.text, "/")+"/") {
					r.add(Finding{Rule: "trial-value-published", File: binding.File, Actual: told[k], cause: g.Key + k,
						Message: fmt.Sprintf("%s was told %s (%s), which is %s and not what is published", serviceTitle(r, g.Service), told[k], k, v.say)}, map[string]string{"service": g.Service}, g.Key, k)
				}
			}
		}
	}
}

func sortedKeys(m map[string]string) []string {
	out := make([]string, 0, len(m))
	for k := range m {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}

// trial finds values of a trial in source.
func (x leftover) trial(n *lex.Node, held []literal) {
	for _, k := range n.Kids {
		if k.Kind == lex.String {
			text := k.Of(x.f.Src)
			for _, v := range held {
				if i := strings.Index(text, v.text); i >= 0 {
					f := x.finding("trial-value-published", k.Start+i)
					f.Actual, f.cause = v.text, f.Place()
					f.Message = fmt.Sprintf("The app uses %s; a trial's address or key is not what is published", v.say)
					x.r.add(f, map[string]string{"service": v.service}, v.reg)
				}
			}
		}
		x.trial(k, held)
	}
}
