// Package wiring decides, for each placement in each variant, how things stand: absent, right, right in another form,
// conflicting, in the wrong place, or there twice. One evaluator answers; placing acts on its answers and checking is a
// view of them. Edits are made in memory (see Plan) and are recorded so that they can be taken out again (see Record).
package wiring

import (
	"fmt"
	"slices"
	"strings"

	"ligare/core/binding"
	"ligare/core/ident"
	"ligare/core/sheet"
	"ligare/core/survey"
)

// site is where a want goes: a module and source set, or a project and target.
type site struct {
	module  *survey.Module
	set     string // source set
	project *survey.Project
	target  *survey.Target

	framework *survey.Framework // for what stands once under a framework, in its own package list and source
	start     string            // of several files that an app of the framework can start with, this one
}

// alike puts together the identities for which a placement says the same, so that it stands once and not in the folder of
// each; what is not known yet keeps them apart. The first identity's name stands for all.
func (r *Registration) alike(p *sheet.Placement, platform ident.Platform, groups map[string][]string, environment func(variant string) string) map[string][]string {
	if p.With["file"] != "" {
		return groups
	}
	said := map[string]string{} // what is placed -> the identity that stands for it
	out := map[string][]string{}
	for _, id := range sorted(groups) {
		env, mixed := "", false
		for _, v := range groups[id] {
			e := environment(v)
			mixed = mixed || env != "" && env != e
			env = e
		}
		key := ""
		if mixed {
			key = id
		}
		get := r.filled(r.identity(platform, id), env)
		for _, k := range sorted(p.With) {
			text, err := sheet.Fill(p.With[k], get)
			if err != nil || r.identity(platform, id).Values == nil {
				text = "\x00" + id
			}
			key += "\x00" + text
		}
		if said[key] == "" {
			said[key] = id
		}
		out[said[key]] = append(out[said[key]], groups[id]...)
	}
	return out
}

// suits reports whether a placement is for the layout of a site.
func (s site) suits(layouts []string, r *survey.Report) bool {
	if len(layouts) == 0 {
		return true
	}
	framework := ""
	switch {
	case s.framework != nil:
		framework = s.framework.Name
	case s.module != nil:
		framework = s.module.Framework
	case s.project != nil:
		framework = s.project.Framework
	}
	if framework == "" {
		framework = "native"
	}
	return slices.Contains(layouts, framework)
}

// bound lists the identities that a site's variants are bound to.
func (in Input) bound(p ident.Platform, s covered) []string {
	list := map[string]binding.Bound{}
	if p == ident.Android && s.module != nil {
		list = in.Binding.Android[s.module.Dir]
	} else if s.target != nil {
		list = in.Binding.IOS[binding.TargetKey(s.project, s.target)]
	}
	seen := map[string]bool{}
	for _, v := range s.variants {
		seen[list[v].Identity] = true
	}
	return sorted(seen)
}

// environmentOf gives the environment of a site's variants, "" when they have several.
func (in Input) environmentOf(p ident.Platform, s covered) string {
	bound := map[string]binding.Bound{}
	if p == ident.Android && s.module != nil {
		bound = in.Binding.Android[s.module.Dir]
	} else if s.target != nil {
		bound = in.Binding.IOS[binding.TargetKey(s.project, s.target)]
	}
	env := ""
	for _, v := range s.variants {
		if env != "" && bound[v].Environment != env {
			return ""
		}
		env = bound[v].Environment
	}
	return env
}

// foreign gives the layout of a site that is neither a Gradle module nor an Xcode target, "" for those.
func (s site) foreign() string {
	switch {
	case s.module != nil && s.module.Build() == nil:
		return s.module.Layout
	case s.project != nil && s.project.Version == 0:
		return s.project.Layout
	}
	return ""
}

// subject names what a placement is and where it goes, from the sheet's own words, so that no value stands in it.
func subject(p *sheet.Placement, s site) string {
	var b strings.Builder
	b.WriteString(p.Place)
	for _, k := range sorted(p.With) {
		if k == "version" && (p.Place == "minimum-sdk" || p.Place == "deployment-target") {
			continue // what is raised for one is there for all who need less
		}
		fmt.Fprintf(&b, " %s=%s", k, p.With[k])
	}
	return b.String() + " @ " + s.String()
}

func (s site) String() string {
	switch {
	case s.framework != nil:
		return strings.TrimSpace(strings.TrimPrefix(s.framework.Dir+" "+s.framework.Name, ". ") + " " + s.start)
	case s.module != nil:
		return s.module.Dir + " " + s.set
	}
	return s.project.Path + " " + s.target.Name
}

// Site says where a want goes, for people: a module and source set, or a project and target.
func (w *Want) Site() string { return w.site.String() }

// Identity gives the identifier that the want is for, "" for what is the same for all.
func (w *Want) Identity() string {
	if w.identity == nil || w.several {
		return ""
	}
	return w.identity.ID
}

// Subject names what is placed where, without values; equal for two registrations that need the same thing.
func (w *Want) Subject() string { return w.subject }

// identitiesOf lists the identities a target's configurations are bound to.
func (in Input) identitiesOf(s site) []string {
	if s.target == nil {
		return nil
	}
	seen := map[string]bool{}
	for _, b := range in.Binding.IOS[binding.TargetKey(s.project, s.target)] {
		seen[b.Identity] = true
	}
	return sorted(seen)
}

// covered is a site with the variants that share one identity there.
type covered struct {
	site
	variants []string
	identity *Registered
}

// sites finds where a placement of a registration goes. What differs by identity goes to the narrowest source set that
// holds exactly that identity's variants; everything else goes once to each module or target that the registration covers.
func (in Input) sites(reg *Registration, p *sheet.Placement) []covered {
	var out []covered
	if p.Platform == "" {
		for _, f := range in.Survey.Frameworks {
			entries := []string{""}
			if named := in.Library[p.Place]; f.Name == "flutter" && named != nil && named.Settings["role"] == "start" {
				if list := (sourceEnsure{}).entries(in, f); len(list) > 1 {
					entries = list
				}
			}
			for _, entry := range entries {
				out = append(out, covered{site: site{framework: f, start: entry}})
			}
		}
		if len(out) == 0 && len(in.Survey.Android.Modules)+len(in.Survey.IOS.Projects) == 0 && in.Tree.Has("package.json") {
			out = append(out, covered{site: site{framework: &survey.Framework{Name: "hosted-web", Dir: "."}}}) // a web tree, before the bridge is in it
		}
		return out
	}
	if p.Platform == ident.Android {
		for _, m := range in.Survey.Android.Modules {
			out = append(out, in.androidSites(reg, p, m)...)
		}
		return out
	}
	for _, pr := range in.Survey.IOS.Projects {
		for _, t := range pr.Targets {
			bound := in.Binding.IOS[binding.TargetKey(pr, t)]
			groups := map[string][]string{}
			for _, c := range t.Configurations {
				if b, ok := bound[c.Name]; ok && reg.covers(p.Platform, b) {
					groups[b.Identity] = append(groups[b.Identity], c.Name)
				}
			}
			if !perIdentity(p) {
				if all := slices.Concat(values(groups)...); len(all) > 0 {
					out = append(out, covered{site: site{project: pr, target: t}, variants: inOrder(t, all)})
				}
				continue
			}
			groups = reg.alike(p, p.Platform, groups, func(v string) string { return bound[v].Environment })
			for _, id := range sorted(groups) {
				out = append(out, covered{site: site{project: pr, target: t}, variants: inOrder(t, groups[id]), identity: reg.identity(p.Platform, id)})
			}
		}
	}
	return out
}

func values[V any](m map[string]V) []V {
	var out []V
	for _, k := range sorted(m) {
		out = append(out, m[k])
	}
	return out
}

// inOrder gives the configurations that are in a list, in the target's order.
func inOrder(t *survey.Target, list []string) []string {
	var out []string
	for _, c := range t.Configurations {
		if slices.Contains(list, c.Name) {
			out = append(out, c.Name)
		}
	}
	return out
}

func (in Input) androidSites(reg *Registration, p *sheet.Placement, m *survey.Module) []covered {
	bound := in.Binding.Android[m.Dir]
	groups := map[string][]*survey.AndroidVariant{}
	var all []string
	for _, v := range m.Variants {
		if b, ok := bound[v.Name]; ok && reg.covers(p.Platform, b) {
			groups[b.Identity] = append(groups[b.Identity], v)
			all = append(all, v.Name)
		}
	}
	if len(groups) == 0 {
		return nil
	}
	if !perIdentity(p) {
		return []covered{{site: site{module: m, set: "main"}, variants: all}}
	}
	names := map[string][]string{}
	for id, list := range groups {
		for _, v := range list {
			names[id] = append(names[id], v.Name)
		}
	}
	names = reg.alike(p, p.Platform, names, func(v string) string { return bound[v].Environment })
	groups = map[string][]*survey.AndroidVariant{}
	for id, list := range names {
		for _, v := range m.Variants {
			if slices.Contains(list, v.Name) {
				groups[id] = append(groups[id], v)
			}
		}
	}
	var out []covered
	if m.Build() == nil {
		for _, id := range sorted(groups) {
			c := covered{site: site{module: m, set: "main"}, identity: reg.identity(p.Platform, id)}
			for _, v := range groups[id] {
				c.variants = append(c.variants, v.Name)
			}
			out = append(out, c)
		}
		return out
	}
	for _, id := range sorted(groups) {
		for _, part := range sourceSetsFor(m, groups[id]) {
			part.identity = reg.identity(p.Platform, id)
			out = append(out, part)
		}
	}
	return out
}

// sourceSetsFor finds source sets that hold exactly these variants: main if they are all, else a build type or flavor
// whose variants are all among them, else each variant's own.
func sourceSetsFor(m *survey.Module, group []*survey.AndroidVariant) []covered {
	in := map[string]bool{}
	for _, v := range group {
		in[v.Name] = true
	}
	users := map[string][]string{}
	for _, v := range m.Variants {
		for _, s := range v.SourceSets {
			users[s] = append(users[s], v.Name)
		}
	}
	var out []covered
	for _, v := range group {
		if !in[v.Name] {
			continue
		}
		for i := len(v.SourceSets) - 1; i >= 0; i-- {
			set := v.SourceSets[i]
			fits := true
			for _, u := range users[set] {
				fits = fits && in[u]
			}
			if fits || i == 0 {
				own := users[set]
				if !fits {
					own = []string{v.Name}
				}
				for _, u := range own {
					delete(in, u)
				}
				out = append(out, covered{site: site{module: m, set: set}, variants: own})
				break
			}
		}
	}
	return out
}
