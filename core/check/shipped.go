package check

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"ligare/core/binding"
	"ligare/core/built"
	"ligare/core/ident"
	"ligare/core/survey"
	"ligare/core/wiring"
)

// Shipped is a built package that is looked at in the place of a tree.
type Shipped struct {
	Name   string // of the file
	Facts  *built.Facts
	Source *survey.Report // of the tree it was built from; nil when that is not at hand
	Site   string         // the module or target of the tree that builds it, "" when not known
	Build  string         // its variant
	Fields *Fields        // of a hosted builder; nil without one
}

// Fields says when a hosted builder's fields were changed, and when it built.
type Fields struct {
	Service string
	Changed time.Time // zero for never
	Built   time.Time // the newest build of this identifier; zero for none
}

// shipped looks at what only a built package shows.
func (r *runner) shipped() {
	s := r.in.Shipped
	if s == nil {
		return
	}
	r.signature(s)
	r.numbers(s)
	r.floors()
	for _, a := range s.Facts.IOS {
		r.profile(s, a)
	}
	r.outdatedPackage(s)
	if a := s.Facts.Android; a != nil && a.Debuggable {
		r.debugBuild(s, a.ApplicationID, "android:debuggable")
	}
	for _, a := range s.Facts.IOS {
		if a.Signature != nil && a.Signature.Entitlements["get-task-allow"] == true {
			r.debugBuild(s, a.BundleID, "the entitlement get-task-allow")
		}
	}
}

func (r *runner) debugBuild(s *Shipped, id, by string) {
	for _, b := range r.builds() {
		if b.id.String() == id && b.production() {
			r.add(Finding{Rule: "release-debuggable", Variant: b.name, File: s.Name, Expected: "false", Actual: "true", cause: id, Message: fmt.Sprintf("A debugger can be attached to %s: %s is on", id, by)}, nil, id)
		}
	}
}

func (r *runner) signature(s *Shipped) {
	if s.Facts.Signing == nil {
		return
	}
	f := Finding{Rule: "package-signature-broken", File: s.Name}
	if len(s.Facts.Signing.Signers) == 0 {
		f.Message, f.Actual = s.Name+" is not signed", "not signed"
		r.add(f, nil, "unsigned")
		return
	}
	for _, x := range s.Facts.Signing.Signers {
		if x.Problem == "" {
			continue
		}
		f.Message, f.Actual, f.cause = fmt.Sprintf("The signature by scheme %s does not hold: %s", x.Scheme, x.Problem), x.Problem, x.Problem
		r.add(f, nil, x.Scheme, x.Problem)
	}
}

func (r *runner) numbers(s *Shipped) {
	if a := s.Facts.Android; a != nil {
		for _, m := range a.Metadata {
			if !m.Lost {
				continue
			}
			f := Finding{Rule: "package-number-lost", File: "AndroidManifest.xml", Actual: m.Value, Expected: m.Written, cause: m.Name}
			for _, e := range r.in.Survey.Android.Modules[0].Variants[0].Metadata {
				if e.Name == m.Name {
					f.Line, f.Column = e.Line, e.Column
				}
			}
			f.Message = fmt.Sprintf("The metadata %s is a long number that the build made a float of: the app reads %s", m.Name, m.Value)
			r.add(f, nil, m.Name)
		}
	}
	for _, x := range s.Facts.Files {
		if len(x.Lost) > 0 {
			r.add(Finding{Rule: "package-number-lost", Severity: Note, File: x.Path, Actual: strings.Join(x.Lost, ", "), cause: x.Path,
				Message: fmt.Sprintf("In %s the build made a float of a long number: %s", x.Path, strings.Join(x.Lost, ", "))}, nil, x.Path)
		}
	}
}

// floors holds the package's least platform version against what the services' libraries need.
func (r *runner) floors() {
	for _, b := range r.builds() {
		for _, reg := range r.in.Registrations {
			for _, c := range reg.Sheet.Constrain {
				f := survey.Fact{}
				switch {
				case c.Minimum == "" || c.Platform != b.platform:
					continue
				case c.Of == "minSdk" && b.variant != nil:
					f = b.variant.MinSDK
				case c.Of == "deploymentTarget" && b.config != nil:
					f = b.config.DeploymentTarget
				default:
					continue
				}
				if low, ok := wiring.Under(f.String(), c.Minimum); ok && low {
					x := b.finding("minimum-too-low", f)
					x.Expected, x.cause = c.Minimum, reg.Service+c.Of
					x.Message = fmt.Sprintf("The package is for %s and later; %s needs %s: %s", f.String(), reg.Sheet.Title, c.Minimum, c.Why)
					r.add(x, map[string]string{"service": reg.Service}, reg.Service, c.Of)
				}
			}
		}
	}
}

// profile holds an embedded provisioning profile against the app it is in.
func (r *runner) profile(s *Shipped, a *built.App) {
	p := a.Profile
	if p == nil {
		return
	}
	f := Finding{Rule: "package-profile-wrong", File: a.Path + "/embedded.mobileprovision", Actual: a.BundleID}
	say := func(severity Severity, what, format string, args ...any) {
		x := f
		x.Severity, x.Message, x.cause = severity, fmt.Sprintf(format, args...), a.Path+what
		r.add(x, nil, a.BundleID, what)
	}
	if p.Ends != nil {
		switch left := p.Ends.Sub(r.in.Now); {
		case left < 0:
			say(Error, "ends", "The profile %s of %s ended on %s", p.Name, a.BundleID, p.Ends.Format(time.DateOnly))
		case left < soon:
			say(Warning, "ends", "The profile %s of %s ends on %s", p.Name, a.BundleID, p.Ends.Format(time.DateOnly))
		}
	}
	for _, b := range r.builds() {
		if b.production() && len(p.Devices) > 0 && !p.AllDevices && b.platform == ident.IOS && b.id.String() == a.BundleID {
			say(Warning, "devices", "The profile %s is for %d named devices, and this is what users get", p.Name, len(p.Devices))
		}
	}
	if id, ok := p.Entitlements["application-identifier"].(string); ok {
		_, of, _ := strings.Cut(id, ".")
		if of != a.BundleID && of != "*" && !(strings.HasSuffix(of, ".*") && strings.HasPrefix(a.BundleID, strings.TrimSuffix(of, "*"))) {
			say(Error, "identifier", "The profile %s is for %s, and the app is %s", p.Name, of, a.BundleID)
		}
	}
	if sig := a.Signature; sig != nil {
		if sig.Team != "" && len(p.Team) > 0 && !slices.Contains(p.Team, sig.Team) {
			say(Error, "team", "The app is signed by team %s, and the profile %s is of team %s", sig.Team, p.Name, strings.Join(p.Team, ", "))
		}
		var without []string
		for _, k := range sortedEntitlements(sig.Entitlements) {
			if _, ok := p.Entitlements[k]; !ok {
				without = append(without, k)
			}
		}
		if len(without) > 0 {
			say(Error, "entitlements", "The app is signed with %s, which the profile %s does not grant", strings.Join(without, " and "), p.Name)
		}
		if sig.Identifier != "" && sig.Identifier != a.BundleID {
			say(Error, "code", "The code signature is that of %s, and Info.plist says %s: Info.plist was changed after signing", sig.Identifier, a.BundleID)
		}
	}
}

func sortedEntitlements(m map[string]any) []string {
	out := make([]string, 0, len(m))
	for k := range m {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}

// outdatedPackage looks whether something was changed after the package was built.
func (r *runner) outdatedPackage(s *Shipped) {
	if x := s.Fields; x != nil && x.Changed.After(x.Built) && !x.Built.IsZero() {
		r.add(Finding{Rule: "package-outdated", File: s.Name, Actual: x.Built.UTC().Format(time.DateTime), Expected: "after " + x.Changed.UTC().Format(time.DateTime), cause: x.Service,
			Message: fmt.Sprintf("%s built it on %s, and its fields were changed on %s", serviceTitle(r, x.Service), x.Built.UTC().Format(time.DateTime), x.Changed.UTC().Format(time.DateTime))}, map[string]string{"service": x.Service}, x.Service)
	}
	for _, pair := range r.versions(s) {
		if !pair.tree.Known() || pair.tree.String() == "" || pair.tree.String() == pair.has {
			continue
		}
		r.add(Finding{Rule: "package-outdated", Severity: Warning, File: s.Name, Actual: pair.has, Expected: pair.tree.String(), From: pair.tree.Place(), cause: "version",
			Message: fmt.Sprintf("The package says %s %s, and %s of the tree says %s", pair.what, pair.has, s.Build, pair.tree.String())}, nil, pair.what)
	}
}

// stamped is one thing that a package and the tree it was built from both say.
type stamped struct {
	what, has string
	tree      survey.Fact
}

func (r *runner) versions(s *Shipped) []stamped {
	if s.Source == nil {
		return nil
	}
	if a := s.Facts.Android; a != nil {
		for _, m := range s.Source.Android.Modules {
			for _, v := range m.Variants {
				if m.Dir == s.Site && v.Name == s.Build {
					return []stamped{{"version code", a.VersionCode, v.VersionCode}, {"version", a.VersionName, v.VersionName}}
				}
			}
		}
	}
	for _, p := range s.Source.IOS.Projects {
		for _, t := range p.Targets {
			for _, c := range t.Configurations {
				if binding.TargetKey(p, t) == s.Site && c.Name == s.Build {
					return []stamped{{"build number", s.Facts.IOS[0].Build, c.BuildNumber}, {"version", s.Facts.IOS[0].Version, c.Version}}
				}
			}
		}
	}
	return nil
}
