package check

import (
	"fmt"
	"slices"
	"sort"
	"strings"

	"ligare/core/binding"
	"ligare/core/ident"
	"ligare/core/sheet"
	"ligare/core/survey"
	"ligare/core/wiring"
)

// build is one variant with its identifier and what it is bound to.
type build struct {
	platform ident.Platform
	site     string // module folder, or project and target
	name     string
	id       survey.Fact
	bound    binding.Bound
	attached bool                   // it is bound
	variant  *survey.AndroidVariant // or
	config   *survey.Configuration
	target   *survey.Target
	module   *survey.Module
	project  *survey.Project
}

// say names the build in a sentence.
func (b build) say() string {
	if b.platform == ident.Android {
		return "Variant " + b.name
	}
	return "Configuration " + b.name
}

// production reports whether the build is what users get.
func (b build) production() bool { return b.attached && b.bound.Environment == "production" }

// finding begins a finding at a fact of the build.
func (b build) finding(rule string, at survey.Fact) Finding {
	return Finding{Rule: rule, Variant: b.name, File: at.File, Line: at.Line, Column: at.Column, Actual: at.String()}
}

// builds lists every variant of the tree's apps, those of production first.
func (r *runner) builds() []build {
	var out []build
	bound := func(all func(*binding.Binding) map[string]map[string]binding.Bound, site, name string) (binding.Bound, bool) {
		if r.in.Binding == nil {
			return binding.Bound{}, false
		}
		b, ok := all(r.in.Binding)[site][name]
		return b, ok
	}
	for _, m := range r.in.Survey.Android.Modules {
		for _, v := range m.Variants {
			x := build{platform: ident.Android, site: m.Dir, name: v.Name, id: v.ApplicationID, variant: v, module: m}
			x.bound, x.attached = bound(func(b *binding.Binding) map[string]map[string]binding.Bound { return b.Android }, m.Dir, v.Name)
			out = append(out, x)
		}
	}
	for _, p := range r.in.Survey.IOS.Projects {
		for _, t := range p.Targets {
			if !t.App() {
				continue
			}
			key := binding.TargetKey(p, t)
			for _, c := range t.Configurations {
				x := build{platform: ident.IOS, site: key, name: c.Name, id: c.BundleID, config: c, target: t, project: p}
				x.bound, x.attached = bound(func(b *binding.Binding) map[string]map[string]binding.Bound { return b.IOS }, key, c.Name)
				out = append(out, x)
			}
		}
	}
	sort.SliceStable(out, func(i, j int) bool { return out[i].production() && !out[j].production() })
	return out
}

// values gives every value a fact can have.
func values(f survey.Fact) []string {
	var out []string
	if v := f.String(); v != "" {
		out = append(out, v)
	}
	for _, x := range f.Possible {
		if x.Value != "" {
			out = append(out, x.Value)
		}
	}
	return out
}

// grammar holds every identifier against its platform's rules, and against those that templates leave behind.
func (r *runner) grammar() {
	for _, b := range r.builds() {
		for _, v := range values(b.id) {
			f := b.finding("identifier-grammar", b.id)
			if f.Actual = v; b.attached {
				f.Expected = b.bound.Identity
			}
			if err := ident.Check(b.platform, v); err != nil {
				f.Message = capital(err.Error())
				r.add(f, nil, b.site, v)
			}
			if ident.Template(v) {
				f.Rule, f.Severity, f.Expected = "identifier-of-template", Note, ""
				if b.production() && len(r.in.Registrations) > 0 {
					f.Severity = Warning
				}
				f.cause = b.site
				f.Message = fmt.Sprintf("%s builds %s, which is what a project template puts there", b.say(), v)
				r.add(f, nil, b.site, v)
			}
		}
	}
}

// identifiers compares what each variant builds with what it is bound to, and that with the registrations.
func (r *runner) identifiers() {
	for _, b := range r.builds() {
		base := b.finding("", b.id)
		base.Expected, base.From = b.bound.Identity, binding.File
		if !b.attached {
			base.Rule, base.Expected, base.From = "variant-unbound", "", ""
			base.Message = fmt.Sprintf("Variant %s of %s builds %s and is not in %s", b.name, b.site, b.id.Say(), binding.File)
			r.add(base, nil, b.site, b.name)
			continue
		}
		if !b.id.Known() && len(b.id.Possible) == 0 {
			r.blind("identifier-differs", fmt.Sprintf("variant %s of %s: %s", b.name, b.site, b.id.Say()), true)
			continue
		}
		for _, v := range values(b.id) {
			if v == b.bound.Identity {
				continue
			}
			base.Rule, base.Actual = "identifier-differs", v
			base.Message = fmt.Sprintf("%s builds %s; it is registered as %s: %s", b.say(), v, b.bound.Identity, ident.Difference(b.bound.Identity, v))
			known := r.in.Records.identity(b.platform, b.bound.Identity)
			switch {
			case known != nil && known.Published:
				base.Rule = "identifier-changed"
				base.Message = fmt.Sprintf("%s builds %s; %s was published, and is what its users have", b.say(), v, b.bound.Identity)
			case strings.EqualFold(v, b.bound.Identity):
				base.Rule = "identifier-letter-case"
			}
			if other := b.other(b.bound.Identity); other != nil {
				base.Message += fmt.Sprintf(" (%s is also the %s, %s, which does not count)", b.bound.Identity, other.Name, other.Place())
			}
			if base.cause = base.Place(); b.config != nil { // one value in several configurations is one mistake
				base.cause = b.site + v + b.bound.Identity
			}
			r.add(base, nil, b.site, v, b.bound.Identity)
		}
		r.uncovered(b, base)
		r.unregistered(b, base)
	}
}

// other gives what else in an Android variant reads like an identifier and has this text: the namespace, the manifest's
// package, the source's.
func (b build) other(text string) *survey.Entry {
	if b.variant == nil || text == "" {
		return nil
	}
	for i := range b.variant.Identifiers {
		e := &b.variant.Identifiers[i]
		if i > 0 && e.String() == text && text != b.id.String() {
			return e
		}
	}
	return nil
}

// unregistered reports a variant whose identity none of a service's registrations for its environment has, once for each
// service.
func (r *runner) unregistered(b build, f Finding) {
	p, bound := b.platform, b.bound
	has, first, alike := map[string]bool{}, map[string]*wiring.Registration{}, map[string]string{}
	other := map[string]*survey.Entry{}
	var services []string
	for _, reg := range r.in.Registrations {
		if reg.Environment != "" && reg.Environment != bound.Environment || !slices.Contains(reg.Sheet.Platforms, p) {
			continue
		}
		same, near := reg.Find(p, bound.Identity)
		has[reg.Service] = has[reg.Service] || same != nil
		if near != nil {
			alike[reg.Service] = near.ID
		}
		for _, i := range reg.Identities {
			if e := b.other(i.ID); e != nil && i.Platform == p {
				other[reg.Service] = e
			}
		}
		if first[reg.Service] == nil {
			first[reg.Service] = reg
			services = append(services, reg.Service)
		}
	}
	for _, s := range services {
		if has[s] {
			continue
		}
		reg, which := first[s], "--identity "+bound.Identity
		if reg.Environment != "" {
			which = "--environment " + reg.Environment
		}
		f.Rule, f.Expected, f.Actual = "identifier-not-registered", bound.Identity, "not registered"
		f.Message = fmt.Sprintf("%s is not part of a registration at %s for %s", bound.Identity, reg.Sheet.Title, bound.Environment)
		if alike[s] != "" {
			f.Message += fmt.Sprintf("; %s is (only letter case differs)", alike[s])
		} else if e := other[s]; e != nil {
			f.Rule, f.Actual = "identifier-is-namespace", e.String()
			f.Message = fmt.Sprintf("%s is registered at %s: that is the %s (%s); what is built is %s", e.String(), reg.Sheet.Title, e.Name, e.Place(), bound.Identity)
		}
		r.add(f, map[string]string{"service": s, "which": which}, s, reg.Environment, bound.Identity)
	}
}

// uncovered reports a variant whose environment is not registered with a service that the app uses in another one: the
// service's library is in every build, and has nothing to start with in this one.
func (r *runner) uncovered(b build, f Finding) {
	seen := map[string]bool{}
	for _, reg := range r.in.Registrations {
		if seen[reg.Service] || !slices.Contains(reg.Sheet.Platforms, b.platform) {
			continue
		}
		seen[reg.Service] = true
		var in []string
		covered := false
		for _, other := range r.in.Registrations {
			if other.Service == reg.Service {
				covered = covered || other.Environment == "" || other.Environment == b.bound.Environment
				in = append(in, other.Environment)
			}
		}
		if covered {
			continue
		}
		f.Rule, f.Expected, f.Actual = "identifier-not-registered", b.bound.Identity, "not registered"
		f.Message = fmt.Sprintf("%s is bound to %s; %s is registered for %s only", b.bound.Identity, b.bound.Environment, reg.Sheet.Title, strings.Join(in, ", "))
		r.add(f, map[string]string{"service": reg.Service, "which": "--environment " + b.bound.Environment}, reg.Service, b.bound.Environment, b.bound.Identity)
	}
}

// gone reports variants that are bound and that the tree does not have.
func (r *runner) gone() {
	have := map[string]bool{}
	for _, b := range r.builds() {
		have[string(b.platform)+" "+b.site+" "+b.name] = true
	}
	for p, groups := range map[ident.Platform]map[string]map[string]binding.Bound{ident.Android: r.in.Binding.Android, ident.IOS: r.in.Binding.IOS} {
		for site, variants := range groups {
			for v, b := range variants {
				if !have[string(p)+" "+site+" "+v] {
					r.add(Finding{Rule: "variant-gone", Message: fmt.Sprintf("%s binds variant %s of %s to %s, and the tree has no such variant", binding.File, v, site, b.Identity),
						Variant: v, File: binding.File, Line: 1, Column: 1, Expected: site + " " + v, Actual: "not in the tree"}, nil, string(p), site, v)
				}
			}
		}
	}
}

// extensions holds every app extension's bundle ID against those of the apps of its project, and the configurations of
// one target against each other.
func (r *runner) extensions() {
	for _, p := range r.in.Survey.IOS.Projects {
		apps := map[string][]string{} // configuration -> bundle IDs
		for _, t := range p.Targets {
			for _, c := range t.Configurations {
				if t.App() && c.BundleID.Known() {
					apps[c.Name] = append(apps[c.Name], c.BundleID.String())
				}
			}
		}
		for _, t := range p.Targets {
			if !t.Extension() {
				continue
			}
			for _, c := range t.Configurations {
				if !c.BundleID.Known() || len(apps[c.Name]) == 0 {
					continue
				}
				id := c.BundleID.String()
				if slices.ContainsFunc(apps[c.Name], func(app string) bool { return strings.HasPrefix(id, app+".") && len(id) > len(app)+1 }) {
					continue
				}
				if r.appRenamed(p, c.Name, id) { // the app's own identifier is the one that is wrong, and is told
					continue
				}
				app := apps[c.Name][0]
				last := id[strings.LastIndexByte(id, '.')+1:]
				r.add(Finding{Rule: "extension-identifier", Variant: c.Name, File: c.BundleID.File, Line: c.BundleID.Line, Column: c.BundleID.Column, Expected: app + "." + last, Actual: id, cause: c.BundleID.Place(),
					Message: fmt.Sprintf("The extension %s is %s for %s; the app it belongs to is %s", t.Name, id, c.Name, app)}, nil, p.Path, t.Name, id)
			}
		}
	}
}

// appRenamed reports whether an extension's identifier begins with the one that its app is registered with, and the app is
// called otherwise.
func (r *runner) appRenamed(p *survey.Project, configuration, id string) bool {
	if !r.can("identifier-differs") || !r.can("identifier-letter-case") {
		return false
	}
	return slices.ContainsFunc(r.builds(), func(b build) bool {
		return b.platform == ident.IOS && b.attached && b.name == configuration && b.project == p && b.id.Known() && b.id.String() != b.bound.Identity && strings.HasPrefix(id, b.bound.Identity+".")
	})
}

// appsFault reports whether the extension's identifier that stands at a place is right, and that of its app is not.
func (r *runner) appsFault(at wiring.Place) bool {
	for _, p := range r.in.Survey.IOS.Projects {
		for _, t := range p.Targets {
			for _, c := range t.Configurations {
				if c.BundleID.Known() && c.BundleID.File == at.File && c.BundleID.Line == at.Line && t.Extension() && r.appRenamed(p, c.Name, c.BundleID.String()) {
					return true
				}
			}
		}
	}
	return false
}

// launchers compares the activity that services were told the app starts with, and the name users see, with the tree.
func (r *runner) launchers() {
	for _, b := range r.builds() {
		for _, reg := range r.in.Registrations {
			known := r.in.Records.registration(reg.Key())
			if known == nil || !b.attached || reg.Environment != "" && reg.Environment != b.bound.Environment {
				continue
			}
			told := known.of(b.platform, b.bound.Identity)
			if told == nil {
				continue
			}
			for i := range reg.Sheet.Asks {
				a := &reg.Sheet.Asks[i]
				want := told.Answers[a.ID]
				if want == "" {
					want = known.Answers[a.ID]
				}
				if want == "" {
					continue
				}
				switch a.From {
				case "identity.launcher_activity":
					if b.variant != nil {
						r.launcher(b, reg, want)
					}
				case "identity.display_name":
					r.displayName(b, reg, a, want)
				}
			}
		}
	}
}

func (r *runner) launcher(b build, reg *wiring.Registration, want string) {
	at := b.variant.LauncherActivity
	if at.Known() && at.String() == want {
		return
	}
	if !at.Known() && at.Unresolved != "" {
		r.blind("launcher-differs", "variant "+b.name+": "+at.Say(), false)
		return
	}
	f := b.finding("launcher-differs", at)
	f.Expected = want
	switch full := b.variant.Namespace.String() + "." + strings.TrimPrefix(want, "."); {
	case !at.Known():
		if f.File = b.module.ManifestOf("main"); f.File == "" {
			f.File = b.module.BuildFile
		}
		f.Line, f.Column, f.Actual = 1, 1, "none"
		f.Message = fmt.Sprintf("%s has no activity that starts the app; %s was told %s", b.say(), reg.Sheet.Title, want)
	case at.String() == full:
		f.Message = fmt.Sprintf("%s was told the short form %s; what starts the app is called %s", reg.Sheet.Title, want, full)
	default:
		f.Message = fmt.Sprintf("%s starts with %s; %s was told %s: %s", b.say(), at.String(), reg.Sheet.Title, want, ident.Difference(want, at.String()))
	}
	r.add(f, map[string]string{"service": reg.Service}, reg.Service, b.site, want)
}

func (r *runner) displayName(b build, reg *wiring.Registration, a *sheet.Ask, want string) {
	at := b.displayName()
	if !at.Known() || at.String() == want {
		return
	}
	f := b.finding("display-name-differs", at)
	f.Expected = want
	f.Message = fmt.Sprintf("%s shows %q to users; %s was told %q: %s", b.say(), at.String(), reg.Sheet.Title, want, ident.Difference(want, at.String()))
	r.add(f, map[string]string{"service": reg.Service, "ask": a.ID}, reg.Service, b.site, want)
}

func (b build) displayName() survey.Fact {
	if b.variant != nil {
		return b.variant.DisplayName
	}
	return b.config.DisplayName
}
