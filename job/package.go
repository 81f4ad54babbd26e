package job

import (
	"context"
	"slices"
	"strings"
	"time"

	"ligare/client"
	"ligare/client/shape"
	"ligare/core/binding"
	"ligare/core/built"
	"ligare/core/cert"
	"ligare/core/check"
	"ligare/core/ident"
	"ligare/core/sheet"
	"ligare/core/survey"
	"ligare/core/tree"
	"ligare/core/wiring"
	"ligare/sheets"
)

// WithoutTree gives work on an app that has no tree at hand: its packages can be checked.
func WithoutTree(app, server string) (*Work, error) {
	lib, err := sheet.LoadLibrary(sheets.FS)
	if err != nil {
		return nil, err
	}
	none := tree.New(built.Nothing{})
	return &Work{Survey: survey.Survey(none), Tree: none, Binding: &binding.Binding{Format: 1, App: app, Server: server}, Library: lib}, nil
}

// home is where in the source tree a package comes from, and what it is there.
type home struct {
	binding.Bound
	site, variant string
}

// homeOf finds what builds an identifier: in the tree's binding, else among the registrations. One that is not known is
// held against the identity that the environment has.
func (w *Work) homeOf(p ident.Platform, id, environment string, regs []*wiring.Registration) (home, error) {
	var exact, near []home
	all := w.Binding.Android
	if p == ident.IOS {
		all = w.Binding.IOS
	}
	for site, variants := range all {
		for v, b := range variants {
			h := home{b, site, v}
			switch {
			case environment != "" && b.Environment != environment:
			case b.Identity == id:
				exact = append(exact, h)
			default:
				near = append(near, h)
			}
		}
	}
	if len(all) == 0 {
		for _, reg := range regs {
			for _, i := range reg.Identities {
				if i.Platform != p || environment != "" && reg.Environment != "" && reg.Environment != environment {
					continue
				}
				env := reg.Environment
				if env == "" {
					env = environment
				}
				if h := (home{Bound: binding.Bound{Identity: i.ID, Environment: env}}); i.ID == id {
					exact = append(exact, h)
				} else {
					near = append(near, h)
				}
			}
		}
	}
	list := exact
	if len(list) == 0 {
		list = slices.DeleteFunc(near, func(h home) bool { return environment == "" && h.Environment != "production" && h.Environment != "" })
	}
	if len(list) == 0 {
		return home{Bound: binding.Bound{Identity: id, Environment: environment}}, nil
	}
	slices.SortFunc(list, func(a, b home) int { // what is named first, the rest in order
		if c := strings.Compare(b.Environment, a.Environment); c != 0 {
			return c
		}
		return strings.Compare(a.site+a.variant, b.site+b.variant)
	})
	first := list[0]
	for _, h := range list[1:] {
		if first.Environment == "" {
			first.Environment = h.Environment
		}
		if h.Environment != "" && h.Environment != first.Environment {
			return home{}, stop("Say which it was built for: --environment "+first.Environment+".", "%s is built for %s and for %s", id, first.Environment, h.Environment)
		}
	}
	return first, nil
}

// CheckPackage holds a built package against the registrations, as Check does a tree. Nothing is sent.
func (w *Work) CheckPackage(ctx context.Context, c *client.Client, why string, offline bool, p *Package, environment string) (*Checked, error) {
	if w.Binding == nil {
		return nil, stop("Name it with --app, or run the command in its tree.", "nothing says which app %s belongs to", p.Name)
	}
	in := check.Input{Missing: map[check.Need]string{check.History: "a package has no version control"}, Now: time.Now()}
	regs, unfinished, err := w.known(ctx, c, why, offline, &in)
	if err != nil {
		return nil, err
	}
	if in.Waivers, _, err = w.accepted(); err != nil {
		return nil, err
	}
	list := p.Sheets
	for _, r := range regs {
		list = append(slices.DeleteFunc(slices.Clone(list), func(s *sheet.Sheet) bool { return s.Service == r.Service }), r.Sheet)
	}
	p.Expect(numbers(regs))
	in.Shipped = &check.Shipped{Name: p.Name, Facts: p.Facts, Source: w.Survey}
	b := *w.Binding
	b.Android, b.IOS = map[string]map[string]binding.Bound{}, map[string]map[string]binding.Bound{}
	in.Input = wiring.Input{Binding: &b, Registrations: regs, Library: w.Library}
	if in.Tree, in.Survey, err = p.Tree(p.Facts, list); err != nil {
		return nil, &Problem{What: p.Name, Err: err}
	}
	bind := func(platform ident.Platform, id, site string, into map[string]map[string]binding.Bound) error {
		h, err := w.homeOf(platform, id, environment, regs)
		if err != nil {
			return err
		}
		into[site] = map[string]binding.Bound{survey.Shipped: h.Bound}
		if h.Identity == id {
			in.Shipped.Site, in.Shipped.Build = h.site, h.variant
		}
		return nil
	}
	if a := p.Facts.Android; a != nil {
		if err := bind(ident.Android, a.ApplicationID, ".", b.Android); err != nil {
			return nil, err
		}
		if k := p.Facts.Signing.Newest(); k != nil {
			in.Certificates = append(in.Certificates, cert.Known{Label: "the certificate the package is signed with", DER: k.DER})
		}
	}
	for _, pr := range in.Survey.IOS.Projects {
		for _, t := range pr.Targets {
			if t.App() && t.Configurations[0].BundleID.Known() {
				if err := bind(ident.IOS, t.Configurations[0].BundleID.String(), binding.TargetKey(pr, t), b.IOS); err != nil {
					return nil, err
				}
			}
		}
	}
	if in.Shipped.Fields, err = w.fields(ctx, c, offline, p.Facts); err != nil {
		return nil, err
	}
	if in.Answers, err = wiring.Evaluate(in.Input); err != nil {
		return nil, err
	}
	out := &Checked{Result: check.Run(in)}
	for _, why := range unfinished {
		out.NotLooked = append(out.NotLooked, check.NotLooked{Rule: "identifier-not-registered", Reason: why, Required: true})
	}
	out.LineUp = check.OfPackage(check.LineUp(in.Input, in.Answers, in.Records))
	return out, nil
}

// LineUpPackage gives the table with a column for a built package: beside the tree's where there is one.
func (w *Work) LineUpPackage(ctx context.Context, c *client.Client, p *Package, environment string) ([]check.Row, error) {
	r, err := w.CheckPackage(ctx, c, "", false, p, environment)
	if err != nil {
		return nil, err
	}
	var rows []check.Row
	if w.Root != "" {
		if rows, err = w.LineUp(ctx, c); err != nil {
			return nil, err
		}
	}
	return check.WithPackage(rows, r.LineUp), nil
}

// numbers lists the long numbers among the values that an app may hold.
func numbers(regs []*wiring.Registration) []string {
	var out []string
	add := func(values map[string]string) {
		for _, v := range values {
			if len(v) > 7 && strings.Trim(v, "0123456789") == "" && !slices.Contains(out, v) {
				out = append(out, v)
			}
		}
	}
	for _, r := range regs {
		add(r.Values)
		for i := range r.Identities {
			add(r.Identities[i].Values)
		}
	}
	return out
}

// fields asks a hosted builder when its fields were changed, and when it built.
func (w *Work) fields(ctx context.Context, c *client.Client, offline bool, f *built.Facts) (*check.Fields, error) {
	if c == nil || offline {
		return nil, nil
	}
	list, err := c.Registrations(ctx, w.Binding.App)
	if err != nil {
		return nil, err
	}
	known, err := shipped()
	if err != nil {
		return nil, err
	}
	for _, g := range list {
		if s := known[g.Service]; s == nil || s.Builder == nil || g.State != "registered" {
			continue
		}
		x, err := c.Builder(ctx, g.ID)
		if err != nil {
			return nil, err
		}
		return fieldsOf(g.Service, x, f), nil
	}
	return nil, nil
}

func fieldsOf(service string, x *shape.Builder, f *built.Facts) *check.Fields {
	out := &check.Fields{Service: service}
	if x.Changed != nil {
		out.Changed = *x.Changed
	}
	for _, b := range x.Builds {
		mine := f.Android != nil && b.Platform == "android" && b.Identifier == f.Android.ApplicationID
		for _, a := range f.IOS {
			mine = mine || b.Platform == "ios" && b.Identifier == a.BundleID
		}
		if mine && b.At.After(out.Built) {
			out.Built = b.At
		}
	}
	return out
}
