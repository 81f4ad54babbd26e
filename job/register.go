package job

import (
	"context"
	"encoding/base64"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"ligare/client"
	"ligare/client/shape"
	"ligare/core/binding"
	"ligare/core/ident"
	"ligare/core/sheet"
	"ligare/core/survey"
)

func join(list []string) string { return strings.Join(list, ", ") }

func equalFold(a, b string) bool { return strings.EqualFold(a, b) }

// RegisterOptions is what a person says when registering.
type RegisterOptions struct {
	Service     string
	App         string // without a tree
	Environment string
	Identities  []string // those meant; without, the sheet's scope decides
	Answers     map[string]string
	Secrets     map[string]string // answers that stand in files or were typed unseen
	Features    []string
	FeaturesOff []string
	Redirects   []string
	NoRedirects []string
	Berths      []shape.Berth
	From        map[string]string
	Signer      string                                                  // of the records, whose digest is registered beside those that are there
	Digests     bool                                                    // register signing digests even if no feature wants them yet
	Ask         func(question string, choices []string) (string, error) // nil when nobody can be asked
	Password    func() (string, error)
	Unread      func(error) // told what could not be read in the tree; nil to be told nothing
}

// maxAnswer bounds an answer that is read from a file, in bytes.
const maxAnswer = 4 << 20

// Registering gathers what a registration needs: one request for what the sheet says one spans. w is nil without a tree.
func Registering(ctx context.Context, w *Work, c *client.Client, o RegisterOptions) ([]shape.Register, *sheet.Sheet, error) {
	if o.Unread == nil {
		o.Unread = func(error) {}
	}
	svc, err := c.Service(ctx, o.Service)
	if err != nil {
		return nil, nil, err
	}
	s, err := sheet.Parse(o.Service, []byte(svc.Source))
	if err != nil {
		return nil, nil, err
	}
	app := o.App
	if w != nil {
		app = w.Binding.App
	}
	if s.Scope == sheet.ScopeEnvironment && o.Environment == "" {
		envs, err := environments(ctx, w, c, app)
		if err != nil {
			return nil, nil, err
		}
		if len(envs) != 1 {
			return nil, nil, stop("Name it with --environment, one of: "+join(envs)+".", "%s registers each environment by itself", s.Title)
		}
		o.Environment = envs[0]
	}
	ids, err := meant(ctx, w, c, app, s, o)
	if err != nil {
		return nil, nil, err
	}
	base := shape.Register{App: app, Service: o.Service, Environment: o.Environment, Answers: map[string]string{}, Features: o.Features, FeaturesOff: o.FeaturesOff, Redirects: o.Redirects, NoRedirects: o.NoRedirects, Berths: o.Berths, From: o.From}
	perIdentity := map[string]string{}
	for name, v := range o.Answers {
		a := s.Ask(name)
		if a != nil && (a.From == "image" || a.From == "file") {
			if v, err = fromFile(a, v); err != nil {
				return nil, nil, err
			}
		}
		if a != nil && a.Per == "identity" {
			perIdentity[name] = v
		} else {
			base.Answers[name] = v // one that the sheet does not ask is refused by the server, with what was meant
		}
	}
	for name, v := range o.Secrets {
		base.Answers[name] = v
	}
	needs, err := needsOf(ctx, c, app, o)
	if err != nil {
		return nil, nil, err
	}
	for _, id := range ids {
		x := shape.IdentityAnswers{Platform: id.Platform, Identifier: id.Identifier, Answers: map[string]string{}, Sources: map[string]string{}}
		if w != nil {
			w.found(s, ident.Platform(id.Platform), id.Identifier, o, &x)
		}
		for name, v := range perIdentity {
			if s.Ask(name).For(ident.Platform(id.Platform)) {
				x.Answers[name], x.Sources[name] = v, "given"
			}
		}
		for i := range s.Asks {
			a := &s.Asks[i]
			for _, n := range needs {
				if a.DigestForm() == n.Form && a.For(ident.Platform(id.Platform)) && n.Identifier == id.Identifier && n.Environment == o.Environment {
					put(&x, a.ID, n.Value, "the records, signer "+o.Signer)
				}
			}
		}
		base.Identities = append(base.Identities, x)
	}
	if s.Scope != sheet.ScopeIdentity {
		return []shape.Register{base}, s, nil
	}
	var out []shape.Register
	for _, id := range base.Identities {
		one := base
		one.Identities = []shape.IdentityAnswers{id}
		out = append(out, one)
	}
	return out, s, nil
}

// needsOf says what of the signer that was named the service wants.
func needsOf(ctx context.Context, c *client.Client, app string, o RegisterOptions) ([]shape.SignerNeed, error) {
	if o.Signer == "" {
		return nil, nil
	}
	list, err := c.Signers(ctx, app)
	if err != nil {
		return nil, err
	}
	var names []string
	for _, x := range list {
		names = append(names, x.Name)
		if x.Name != o.Signer {
			continue
		}
		needs := slices.DeleteFunc(slices.Clone(x.Needs), func(n shape.SignerNeed) bool { return n.Service != o.Service || n.App != app })
		if len(needs) == 0 {
			return nil, stop("`ligare signer list` says what each signs and who wants its digest.", "%s wants no digest of %s", o.Service, o.Signer)
		}
		return needs, nil
	}
	return nil, stop("There are: "+join(names)+".", "the records hold no signer %q of %s", o.Signer, app)
}

func environments(ctx context.Context, w *Work, c *client.Client, app string) ([]string, error) {
	if w != nil {
		return w.Binding.Environments(), nil
	}
	a, err := c.App(ctx, app)
	if err != nil {
		return nil, err
	}
	return a.Environments, nil
}

// meant gives the identities that a registration covers: those named, or those the sheet's scope covers.
func meant(ctx context.Context, w *Work, c *client.Client, app string, s *sheet.Sheet, o RegisterOptions) ([]shape.Identity, error) {
	var all []shape.Identity
	if w != nil {
		for _, id := range w.Binding.Identities(w.Survey) {
			x := shape.Identity{Platform: string(id.Platform), Identifier: id.ID}
			if (o.Environment == "" || id.Environment == o.Environment) && !slices.Contains(all, x) {
				all = append(all, x)
			}
		}
	} else {
		a, err := c.App(ctx, app)
		if err != nil {
			return nil, err
		}
		all = a.Identities
	}
	all = slices.DeleteFunc(all, func(i shape.Identity) bool { return !slices.Contains(s.Platforms, ident.Platform(i.Platform)) })
	var names []string
	for _, i := range all {
		if n := i.Identifier; !slices.Contains(names, n) {
			names = append(names, n)
		}
	}
	if len(o.Identities) == 0 {
		if len(all) == 0 {
			return nil, stop("Bind a variant to it in "+binding.File+", or name another environment.", "the app has no identity that %s serves%s", s.Title, inEnvironment(o.Environment))
		}
		if s.Scope == sheet.ScopeSeveral && o.Environment == "" && len(names) > 1 {
			return nil, stop("Name them with --identity, or an environment with --environment: "+join(names)+".", "%s registers the identities that are named", s.Title)
		}
		return all, nil
	}
	var out []shape.Identity
	for _, want := range o.Identities {
		n := len(out)
		for _, i := range all {
			if i.Identifier == want {
				out = append(out, i)
			}
		}
		if len(out) == n {
			hint := "There are: " + join(names) + "."
			if near := sheet.Nearest(want, names); near != "" {
				hint = "Did you mean " + near + "? " + hint
			}
			return nil, stop(hint, "%s is not an identity of the app that %s serves%s", want, s.Title, inEnvironment(o.Environment))
		}
	}
	return out, nil
}

// fromFile reads an answer that is a file: an image as Base64, anything else as text.
func fromFile(a *sheet.Ask, name string) (string, error) {
	info, err := os.Stat(name)
	if err != nil {
		return "", &Problem{What: a.Title, Hint: "Name a file: --answer " + a.ID + "=FILE.", Err: err}
	}
	if info.Size() > maxAnswer {
		return "", stop("Name the file that is asked for.", "%s: %s has %d bytes; at most %d are taken", a.Title, name, info.Size(), maxAnswer)
	}
	b, err := os.ReadFile(name)
	if err != nil {
		return "", &Problem{What: a.Title, Err: err}
	}
	if a.From == "image" {
		return base64.StdEncoding.EncodeToString(b), nil
	}
	return sheet.Clean(string(b)).Value, nil
}

// found fills in what the tree says of an identity: signing digests in the form the service wants, the launcher activity,
// the framework. What the tree does not say is left to the records, and at last to a person.
func (w *Work) found(s *sheet.Sheet, p ident.Platform, id string, o RegisterOptions, into *shape.IdentityAnswers) {
	for i := range s.Asks {
		a := &s.Asks[i]
		if !a.For(p) || o.Answers[a.ID] != "" {
			continue
		}
		if form := a.DigestForm(); form != "" {
			if !(o.Digests || a.When == "" || slices.Contains(o.Features, a.When)) {
				continue
			}
			v, from, err := w.digestOf(id, form, o)
			if err != nil { // the records may have it, from a signer that was added
				o.Unread(fmt.Errorf("%s: %w", a.Title, err))
				continue
			}
			put(into, a.ID, v, from)
			continue
		}
		v, from := w.factOf(p, id, a.From)
		put(into, a.ID, v, from)
	}
}

func put(a *shape.IdentityAnswers, name, value, from string) {
	if value != "" {
		a.Answers[name], a.Sources[name] = value, from
	}
}

// digestOf reads the digest of the certificate that signs an identity's builds.
func (w *Work) digestOf(id, form string, o RegisterOptions) (value, from string, err error) {
	v := w.variantOf(id)
	if v == nil {
		return "", "", nil
	}
	list, one, err := w.SignerOf(v, o.Password)
	if err != nil {
		return "", "", err
	}
	file := Where(w.Root, list.File)
	if file == "" { // outside the tree: its folder is nobody's business
		file = filepath.Base(list.File)
	}
	return one.Digests.Form(form), file + ", alias " + one.Alias, nil
}

// factOf gives what the tree says of an identity, for the sources a sheet can name.
func (w *Work) factOf(p ident.Platform, id, source string) (value, place string) {
	take := func(f survey.Fact) (string, string) {
		if !f.Known() {
			return "", ""
		}
		return f.String(), f.Place()
	}
	if p == ident.Android {
		for _, m := range w.Survey.Android.Modules {
			for _, v := range m.Variants {
				if w.Binding.Android[m.Dir][v.Name].Identity != id {
					continue
				}
				switch source {
				case "identity.launcher_activity":
					return take(v.LauncherActivity)
				case "identity.namespace":
					return take(v.Namespace)
				case "identity.display_name":
					return take(v.DisplayName)
				case "identity.framework":
					return framework(m.Framework), "the tree, " + m.Dir
				}
			}
		}
		return "", ""
	}
	for _, pr := range w.Survey.IOS.Projects {
		for _, t := range pr.Targets {
			for _, c := range t.Configurations {
				if w.Binding.IOS[binding.TargetKey(pr, t)][c.Name].Identity != id {
					continue
				}
				switch source {
				case "identity.team":
					return take(c.SigningTeam)
				case "identity.display_name":
					return take(c.DisplayName)
				case "identity.framework":
					return framework(pr.Framework), "the tree, " + pr.Path
				}
			}
		}
	}
	return "", ""
}

func framework(name string) string {
	if name == "" {
		return "native"
	}
	return name
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

// Complete asks a person for what a plan still lacks, and gives the plan as it is then.
func Complete(ctx context.Context, c *client.Client, in *shape.Register, ask func(question string, choices []string) (string, error)) (*shape.Plan, error) {
	for range 40 {
		p, err := c.Plan(ctx, *in)
		if err != nil {
			return nil, err
		}
		i := slices.IndexFunc(p.Lines, func(l shape.PlanLine) bool {
			return l.Problem != "" && !l.Given && (l.Kind == "text" || l.Kind == "choice")
		})
		if p.Ready || ask == nil || i < 0 {
			return p, nil
		}
		l := p.Lines[i]
		question := l.Title
		if l.Identifier != "" {
			question += " of " + l.Identifier
		}
		if l.Help != "" {
			question += " (" + l.Help + ")"
		}
		v, err := ask(question, l.Choices)
		if err != nil {
			return nil, err
		}
		if v == "" {
			return p, nil
		}
		if l.Identifier == "" {
			in.Answers[l.Ask] = v
			continue
		}
		for k := range in.Identities {
			if x := &in.Identities[k]; x.Platform == l.Platform && x.Identifier == l.Identifier {
				x.Answers[l.Ask] = v
			}
		}
	}
	return c.Plan(ctx, *in)
}

// Which names a registration of an app: its service, and as much more as tells it from others there.
type Which struct{ Service, Environment, Identity, Platform string }

// Find gives the app's registration that is meant.
func Find(ctx context.Context, c *client.Client, app string, w Which) (*shape.Registration, error) {
	service, environment := w.Service, w.Environment
	list, err := c.Registrations(ctx, app)
	if err != nil {
		return nil, err
	}
	var fit []shape.Registration
	var others []string
	for _, g := range list {
		if g.Service != service {
			others = append(others, g.Service)
			continue
		}
		covers := w.Identity == "" && w.Platform == "" || slices.ContainsFunc(g.Identities, func(i shape.Registered) bool {
			return (w.Identity == "" || i.Identifier == w.Identity) && (w.Platform == "" || i.Platform == w.Platform)
		})
		if covers && (environment == "" || g.Environment == "" || g.Environment == environment) {
			fit = append(fit, g)
		}
	}
	switch len(fit) {
	case 1:
		return &fit[0], nil
	case 0:
		hint := "Register first: ligare register " + service + "."
		if near := sheet.Nearest(service, others); near != "" {
			hint = "Did you mean " + near + "? " + hint
		}
		return nil, stop(hint, "%s has no registration at %s%s", app, service, inEnvironment(environment))
	}
	var which []string
	for _, g := range fit {
		say := "--environment " + g.Environment
		if g.Scope == sheet.ScopeIdentity && len(g.Identities) > 0 {
			say = "--platform " + g.Identities[0].Platform + " --identity " + g.Identities[0].Identifier
		}
		which = append(which, say)
	}
	return nil, stop("Say which: "+strings.Join(which, ", or ")+".", "%s has %d registrations at %s", app, len(fit), service)
}
