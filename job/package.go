package job

import (
	"context"
	"errors"
	"time"

	"ligare/client"
	"ligare/client/held"
	"ligare/core/binding"
	"ligare/core/built"
	"ligare/core/check"
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

// CheckPackage holds a built package against the registrations, as Check does a tree. Nothing is sent.
func (w *Work) CheckPackage(ctx context.Context, c *client.Client, why string, offline bool, p *Package, environment string) (*Checked, error) {
	if p.Archive == nil {
		return nil, stop("Name an APK, AAB or IPA; `ligare inspect` reads parts.", "%s is a %s, which cannot be checked by itself", p.Name, p.Facts.Kind)
	}
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
	want := check.Request{Name: p.Name, Environment: environment, Source: w.Survey, Sheets: p.Sheets}
	if want.Fields, err = w.fields(ctx, c, offline, p.Facts); err != nil {
		return nil, err
	}
	in.Input = wiring.Input{Binding: w.Binding, Registrations: regs, Library: w.Library}
	var two *check.TwoEnvironments
	var none *check.NoEnvironment
	if err := in.Ship(p.Archive, p.Facts, want); errors.As(err, &two) {
		return nil, &Problem{What: p.Name, Hint: "Say which it was built for: --environment " + two.Environments[0] + ".", Err: err}
	} else if errors.As(err, &none) {
		return nil, &Problem{What: p.Name, Hint: "There are: " + join(none.Known) + ".", Err: err}
	} else if err != nil {
		return nil, &Problem{What: p.Name, Err: err}
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
		return held.Fields(g.Service, x, f), nil
	}
	return nil, nil
}
