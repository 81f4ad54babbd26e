package job

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"ligare/client"
	"ligare/client/shape"
	"ligare/core/ident"
	"ligare/core/sheet"
	"ligare/core/survey"
)

func join(list []string) string { return strings.Join(list, ", ") }

func equalFold(a, b string) bool { return strings.EqualFold(a, b) }

// RegisterOptions is what a person says when registering.
type RegisterOptions struct {
	Service     string
	Environment string
	Answers     map[string]string
	Features    []string
	Digests     bool                                                    // register signing digests even if no feature wants them yet
	Ask         func(question string, choices []string) (string, error) // nil when nobody can be asked
	Password    func() (string, error)
	Filled      func(what, value, where string) // told what was filled in from the tree
}

// Register registers the identities the tree is bound to in an environment.
func (w *Work) Register(ctx context.Context, c *client.Client, o RegisterOptions) (*shape.Registration, error) {
	if err := w.NeedBinding(); err != nil {
		return nil, err
	}
	svc, err := c.Service(ctx, o.Service)
	if err != nil {
		return nil, err
	}
	s, err := sheet.Parse(o.Service, []byte(svc.Source))
	if err != nil {
		return nil, err
	}
	if s.Scope == "environment" && o.Environment == "" {
		envs := w.Binding.Environments()
		if len(envs) != 1 {
			return nil, stop("Name it with --environment, one of: "+join(envs)+".", "%s registers each environment by itself", s.Title)
		}
		o.Environment = envs[0]
	}
	in := shape.Register{App: w.Binding.App, Service: o.Service, Environment: o.Environment, Answers: map[string]string{}, Features: o.Features}
	for k, v := range o.Answers {
		in.Answers[k] = v
	}
	had, err := c.Registrations(ctx, w.Binding.App)
	if err != nil {
		return nil, err
	}
	standing := slices.ContainsFunc(had, func(g shape.Registration) bool {
		return g.Service == o.Service && (s.Scope != "environment" || g.Environment == o.Environment) && g.State == "registered"
	})
	for _, a := range s.Asks {
		if a.From == "choice" && in.Answers[a.ID] == "" && o.Ask != nil && !standing {
			if in.Answers[a.ID], err = o.Ask(a.Title, a.Choices); err != nil {
				return nil, err
			}
		}
	}
	for _, id := range w.Binding.Identities(w.Survey) {
		if s.Scope == "environment" && id.Environment != o.Environment || !slices.Contains(s.Platforms, id.Platform) {
			continue
		}
		x := shape.IdentityAnswers{Platform: string(id.Platform), Identifier: id.ID, Answers: map[string]string{}}
		if o.Filled != nil {
			o.Filled("identity", id.ID, "the tree's "+string(id.Platform)+" variants")
		}
		if err := w.digestAnswers(s, id.Platform, id.ID, o, x.Answers); err != nil {
			return nil, err
		}
		in.Identities = append(in.Identities, x)
	}
	if len(in.Identities) == 0 {
		return nil, stop("Bind a variant to it in ligare.yaml, or name another environment: "+join(w.Binding.Environments())+".", "no variant of the tree is bound to the environment %q", o.Environment)
	}
	return c.Register(ctx, in)
}

// digestAnswers fills in the signing digests the sheet asks for, in its encoding.
func (w *Work) digestAnswers(s *sheet.Sheet, p ident.Platform, id string, o RegisterOptions, into map[string]string) error {
	for _, a := range s.Asks {
		form, ok := strings.CutPrefix(a.From, "signer.")
		if !ok || a.Platform != "" && a.Platform != p || !(o.Digests || a.When == "" || slices.Contains(o.Features, a.When)) {
			continue
		}
		v := w.variantOf(id)
		if v == nil {
			continue
		}
		list, one, err := w.SignerOf(v, o.Password)
		if err != nil {
			return fmt.Errorf("%s: %w", a.Title, err)
		}
		d := one.Digests.Form(form)
		if d == "" {
			return stop("Correct the sheet: see the forms that `ligare digest` prints.", "the sheet of %s asks for a digest in the unknown form %q", s.Title, form)
		}
		into[a.ID] = d
		if o.Filled != nil {
			o.Filled("digest", d, list.File+", alias "+one.Alias)
		}
	}
	return nil
}

// variantOf gives a variant that builds an identity.
func (w *Work) variantOf(id string) *survey.AndroidVariant {
	for _, m := range w.Survey.Android.Modules {
		for _, v := range m.Variants {
			if w.Binding.Android[m.Dir][v.Name].Identity == id {
				return v
			}
		}
	}
	return nil
}
