package check

import (
	"fmt"
	"slices"
	"strings"

	"ligare/core/binding"
	"ligare/core/built"
	"ligare/core/cert"
	"ligare/core/ident"
	"ligare/core/sheet"
	"ligare/core/survey"
	"ligare/core/wiring"
)

// Request says what is known of a built package besides what it holds.
type Request struct {
	Name        string         // of the file
	Environment string         // it was built for; "" where that follows from its identifier
	Source      *survey.Report // of the tree it was built from; nil when that is not at hand
	Fields      *Fields        // of a hosted builder; nil without one
	Sheets      []*sheet.Sheet // those that its facts were read with
}

// TwoEnvironments is given when a package's identifier is that of several environments, and none was named.
type TwoEnvironments struct {
	ID           string
	Environments [2]string
}

func (e *TwoEnvironments) Error() string {
	return fmt.Sprintf("%s is built for %s and for %s", e.ID, e.Environments[0], e.Environments[1])
}

// NoEnvironment is given when nothing is known of the environment that was named.
type NoEnvironment struct {
	Name  string
	Known []string
}

func (e *NoEnvironment) Error() string {
	return fmt.Sprintf("nothing is registered or built for an environment %q", e.Name)
}

// known refuses an environment that neither the binding nor a registration names. Where no one names any, all are taken.
func (in *Input) known(environment string) error {
	var names []string
	add := func(name string) {
		if name != "" && !slices.Contains(names, name) {
			names = append(names, name)
		}
	}
	for _, sites := range []map[string]map[string]binding.Bound{in.Binding.Android, in.Binding.IOS} {
		for _, variants := range sites {
			for _, b := range variants {
				add(b.Environment)
			}
		}
	}
	for _, r := range in.Registrations {
		add(r.Environment)
	}
	if environment == "" || len(names) == 0 || slices.Contains(names, environment) {
		return nil
	}
	slices.Sort(names)
	return &NoEnvironment{environment, names}
}

// Ship puts a built package in the place of a tree and evaluates it. The input holds the registrations, and a binding: that
// of the tree the package was built from, or one that binds nothing. The facts gain the files of sheets that they were not
// read with.
func (in *Input) Ship(a *built.Archive, f *built.Facts, q Request) error {
	if err := in.known(q.Environment); err != nil {
		return err
	}
	sheets := slices.Clone(q.Sheets)
	for _, r := range in.Registrations { // the version of a sheet that holds here
		if slices.Contains(sheets, r.Sheet) {
			continue
		}
		sheets = append(slices.DeleteFunc(sheets, func(s *sheet.Sheet) bool { return s.Service == r.Service }), r.Sheet)
		a.Reread(f, r.Sheet)
	}
	a.Expect(longNumbers(in.Registrations))
	in.Shipped = &Shipped{Name: q.Name, Facts: f, Source: q.Source, Fields: q.Fields}
	var err error
	if in.Tree, in.Survey, err = a.Tree(f, sheets); err != nil {
		return err
	}
	b := *in.Binding
	b.Android, b.IOS = map[string]map[string]binding.Bound{}, map[string]map[string]binding.Bound{}
	bind := func(platform ident.Platform, id, site string, into map[string]map[string]binding.Bound) error {
		h, err := homeOf(in.Binding, in.Registrations, platform, id, q.Environment)
		if err != nil {
			return err
		}
		into[site] = map[string]binding.Bound{survey.Shipped: h.Bound}
		if h.Identity == id {
			in.Shipped.Site, in.Shipped.Build = h.site, h.variant
		}
		return nil
	}
	if x := f.Android; x != nil {
		if err := bind(ident.Android, x.ApplicationID, ".", b.Android); err != nil {
			return err
		}
		if k := f.Signing.Newest(); k != nil {
			in.Certificates = append(in.Certificates, cert.Known{Label: "the certificate the package is signed with", DER: k.DER})
		}
	}
	for _, pr := range in.Survey.IOS.Projects {
		for _, t := range pr.Targets {
			if t.App() && t.Configurations[0].BundleID.Known() {
				if err := bind(ident.IOS, t.Configurations[0].BundleID.String(), binding.TargetKey(pr, t), b.IOS); err != nil {
					return err
				}
			}
		}
	}
	in.Binding = &b
	in.Answers, err = wiring.Evaluate(in.Input)
	return err
}

// home is where in the source tree a package comes from, and what it is there.
type home struct {
	binding.Bound
	site, variant string
}

// homeOf finds what builds an identifier: in the tree's binding, else among the registrations. One that is not known is
// held against the identity that the environment has.
func homeOf(b *binding.Binding, regs []*wiring.Registration, p ident.Platform, id, environment string) (home, error) {
	var exact, near []home
	all := b.Android
	if p == ident.IOS {
		all = b.IOS
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
			return home{}, &TwoEnvironments{id, [2]string{first.Environment, h.Environment}}
		}
	}
	return first, nil
}

// longNumbers lists the long numbers among the values that an app may hold.
func longNumbers(regs []*wiring.Registration) []string {
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
