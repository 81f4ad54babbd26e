package job

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"net/http"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"ligare/client"
	"ligare/client/held"
	"ligare/client/shape"
	"ligare/core/binding"
	"ligare/core/check"
	"ligare/core/comb"
	"ligare/core/sheet"
	"ligare/core/syntax/dotenv"
	"ligare/core/wiring"
	"ligare/vcs"
)

// Checked is a check's result with what else was learned on the way.
type Checked struct {
	*check.Result
	LineUp []check.Row
	Sent   bool
	Unsent string // why the report was not kept
}

// Check compares the tree with its registrations. c may be nil: then why says why there is no server.
func (w *Work) Check(ctx context.Context, c *client.Client, why string, offline, send bool) (*Checked, error) {
	if err := w.NeedApp(); err != nil && len(w.Survey.Unresolved) == 0 {
		return nil, err
	}
	in := check.Input{Missing: map[check.Need]string{}, Now: time.Now()}
	var regs []*wiring.Registration
	var unfinished []string
	local := check.Input{Missing: map[check.Need]string{}}
	if err := together(
		func() (err error) { regs, unfinished, err = w.known(ctx, c, why, offline, &in); return err },
		func() error { return w.history(ctx, &local) }, // certificates and version control, meanwhile
	); err != nil {
		return nil, err
	}
	in.Certificates, in.Tracked = local.Certificates, local.Tracked
	maps.Copy(in.Missing, local.Missing)
	var err error
	if in.Waivers, in.Standing, err = w.accepted(); err != nil {
		return nil, err
	}
	in.Input = w.Input(regs)
	if in.Answers, err = wiring.Evaluate(in.Input); err != nil {
		return nil, err
	}
	out := &Checked{Result: check.Run(in)}
	for _, why := range unfinished {
		out.NotLooked = append(out.NotLooked, check.NotLooked{Rule: "identifier-not-registered", Reason: why, Required: true})
	}
	if w.Binding == nil {
		return out, nil
	}
	out.LineUp = check.LineUp(in.Input, in.Answers, in.Records)
	if c == nil || offline || !send {
		return out, nil
	}
	rows, err := json.Marshal(out.LineUp)
	if err != nil {
		return nil, err
	}
	rep := shape.Report{Findings: []shape.Finding{}, LineUp: rows, Looked: len(out.Looked), Blind: len(out.NotLooked), Waived: len(out.Waived), Standing: len(out.Standing)}
	rep.Commit, rep.Branch = w.head(ctx)
	for _, f := range out.Findings {
		rep.Findings = append(rep.Findings, shape.Finding{Rule: f.Rule, Severity: string(f.Severity), Message: f.Message, Variant: f.Variant, File: f.File, Line: f.Line, Column: f.Column, Fix: f.Fix, Fixable: f.Fixable, Fingerprint: f.Fingerprint})
	}
	rep.Placements = placements(in.Answers)
	if err := together(func() error { return c.SendReport(ctx, w.Binding.App, rep) }, func() error { return w.SendSurvey(ctx, c) }); err != nil {
		var p *shape.Problem
		if errors.As(err, &p) && p.Status == http.StatusForbidden { // a token that may only read is enough for checking
			out.Unsent = "the token may only read"
			return out, nil
		}
		return nil, err
	}
	out.Sent = true
	return out, nil
}

// together does two things at once and gives the first one's error before the second's.
func together(a, b func() error) error {
	done := make(chan error, 1)
	go func() { done <- b() }()
	err := a()
	return cmp.Or(err, <-done)
}

// Explain finds the causes that a pasted message can have, and whether they hold for the tree. Nothing is sent.
func (w *Work) Explain(ctx context.Context, c *client.Client, why string, offline bool, text string) ([]check.Explanation, error) {
	known, err := shipped()
	if err != nil {
		return nil, err
	}
	all := maps.Clone(known)
	in := check.Input{Missing: map[check.Need]string{}, Now: time.Now()}
	regs, _, err := w.known(ctx, c, why, offline, &in)
	if err != nil {
		return nil, err
	}
	for _, r := range regs { // a team's own, and the version that holds here
		all[r.Service] = r.Sheet
	}
	var services []*sheet.Sheet
	for _, s := range all {
		services = append(services, s)
	}
	slices.SortFunc(services, func(a, b *sheet.Sheet) int { return strings.Compare(a.Service, b.Service) })
	if w.Survey.Empty() {
		return check.Explain(text, services, nil), nil
	}
	r, err := w.Check(ctx, c, why, offline, false)
	if err != nil {
		return nil, err
	}
	return check.Explain(text, services, r.Result), nil
}

// accepted reads which findings the tree accepts.
func (w *Work) accepted() (waivers []*check.Waiver, standing *check.Standing, err error) {
	mend := "Mend the line named, or restore the file from version control; nothing is accepted from a file that cannot be read."
	if src, err := w.Tree.Read(check.WaiverFile); err == nil {
		if waivers, err = check.ParseWaivers(src); err != nil {
			return nil, nil, &Problem{What: "the tree's waivers cannot be read", Hint: mend, Err: err}
		}
	} else if !errors.Is(err, fs.ErrNotExist) {
		return nil, nil, err
	}
	src, err := w.Tree.Read(check.StandingFile)
	if errors.Is(err, fs.ErrNotExist) {
		return waivers, nil, nil
	} else if err != nil {
		return nil, nil, err
	}
	if standing, err = check.ParseStanding(src); err != nil {
		return nil, nil, &Problem{What: "what stood before cannot be read", Hint: mend, Err: err}
	}
	return waivers, standing, nil
}

// Waive plans one more waiver.
func (w *Work) Waive(x check.Waiver) ([]Change, error) {
	src, err := w.Tree.Read(check.WaiverFile)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	out, err := check.AddWaiver(src, x)
	if err != nil {
		return nil, &Problem{What: "nothing was accepted", Hint: "Name a rule, --reason and --until YYYY-MM-DD; `ligare explain` lists the rules.", Err: err}
	}
	w.Tree.Put(check.WaiverFile, out)
	return w.Changes(map[string][]string{check.WaiverFile: {"an accepted finding; commit it"}}), nil
}

// AcceptStanding plans the file of what is found now, so that only what is new fails.
func (w *Work) AcceptStanding(r *check.Result) ([]Change, error) {
	out, err := check.Accept(r, time.Now())
	if err != nil {
		return nil, err
	}
	w.Tree.Put(check.StandingFile, out)
	return w.Changes(map[string][]string{check.StandingFile: {"what stood before; commit it"}}), nil
}

// Mend plans what Ligare can mend of what check finds: everything that is missing is placed, and what conflicts exchanged.
func (w *Work) Mend(ctx context.Context, c *client.Client) (*Planned, error) {
	return w.mend(ctx, c, func(a wiring.Answer) bool { return !a.Good() && a.Fixable })
}

// known gives the app's registrations, from the server or from the tree's own records, and notes what is not at hand.
func (w *Work) known(ctx context.Context, c *client.Client, why string, offline bool, in *check.Input) (regs []*wiring.Registration, unfinished []string, err error) {
	without := func(reason string, needs ...check.Need) {
		for _, n := range needs {
			in.Missing[n] = reason
		}
	}
	switch {
	case w.Binding == nil:
		without("the tree is not attached to an app: there is no "+binding.File, check.Attached, check.Registrations, check.TeamRecords, check.Services)
		return nil, nil, nil
	case offline:
		without("it was checked offline, with what the tree's own records hold", check.TeamRecords, check.Services)
		regs, err = w.Offline()
		return regs, nil, err
	case c == nil:
		without(why, check.Registrations, check.TeamRecords, check.Services)
		return nil, nil, nil
	}
	asked, err := w.ask(ctx, c)
	if err != nil {
		return nil, nil, err
	}
	got, err := c.Comparison(ctx, w.Binding.App)
	if err != nil {
		return nil, nil, err
	}
	if regs, unfinished, err = registrations(got, "", ""); err != nil {
		return nil, nil, err
	}
	if len(regs) == 0 && len(unfinished) == 0 {
		without(w.Binding.App+" is not registered with any service yet", check.Registrations, check.Services)
	}
	in.Records = held.Records(got, regs)
	in.Recognised = held.Recognised(got)
	if why := asked.missing; why != "" {
		without(why, check.Services)
	}
	in.Away = asked.away
	for i := range in.Records.Registrations {
		g := got.Registrations[i]
		in.Records.Registrations[i].Catalogue = asked.catalogues[g.ID]
		in.Records.Registrations[i].Silent = w.AtServices && !asked.seen[g.Service]
	}
	return regs, unfinished, nil
}

// answers are what the services themselves said.
type answers struct {
	missing    string              // why none was asked; "" when they were
	away       []string            // those that did not answer, and why
	catalogues map[string][]string // registration -> how what is sold differs
	seen       map[string]bool     // service that saw the app
}

// Patience is how long one service may take before the check goes on without it.
const Patience = 20 * time.Second

// ask lets the server look at every service now, so that what is compared is what they have at this moment. A service
// that is slow or away is gone on without, and named.
func (w *Work) ask(ctx context.Context, c *client.Client) (answers, error) {
	out := answers{catalogues: map[string][]string{}, seen: map[string]bool{}}
	if !w.AtServices {
		out.missing = "the services were not asked; --at-services asks them now"
		return out, nil
	}
	list, err := c.Registrations(ctx, w.Binding.App)
	if err != nil {
		return out, err
	}
	known, err := shipped()
	if err != nil {
		return out, err
	}
	patience := cmp.Or(w.Patience, Patience)
	said := make([]error, len(list))
	sold := make([][]string, len(list))
	var all sync.WaitGroup
	for i, g := range list {
		if g.State != "registered" || g.ByHand {
			continue
		}
		all.Go(func() {
			limited, stop := context.WithTimeout(ctx, patience)
			defer stop()
			sold[i], said[i] = askOne(limited, c, g.ID, known[g.Service])
		})
	}
	all.Wait()
	if ctx.Err() != nil {
		return out, ctx.Err()
	}
	for i, g := range list {
		out.catalogues[g.ID] = sold[i]
		switch {
		case errors.Is(said[i], context.DeadlineExceeded):
			out.away = append(out.away, fmt.Sprintf("%s did not answer within %s", where(g), patience))
		case said[i] != nil:
			out.away = append(out.away, where(g)+": "+said[i].Error())
		}
	}
	overview, err := c.Overview(ctx)
	if err != nil {
		return out, err
	}
	for _, a := range overview.Apps {
		for _, cell := range a.Cells {
			out.seen[cell.Service] = out.seen[cell.Service] || a.Name == w.Binding.App && cell.LastSighting != nil
		}
	}
	return out, nil
}

// askOne asks one service again, and holds what it sells against what shall be sold.
func askOne(ctx context.Context, c *client.Client, id string, s *sheet.Sheet) (sold []string, err error) {
	if _, err = c.Refresh(ctx, id); err != nil || s == nil || s.Catalogue == nil {
		return nil, err
	}
	x, err := c.Catalogue(ctx, id)
	if err != nil {
		return nil, err
	}
	sold = x.Problems
	for _, line := range x.Items {
		if line.Say != "agrees" {
			sold = append(sold, line.Product+" "+line.Say)
		}
	}
	return sold, nil
}

func where(g shape.Registration) string {
	if g.Environment == "" {
		return g.Title
	}
	return g.Title + " for " + g.Environment
}

// head gives the commit and branch that are checked; build servers, which check out a commit, name the branch themselves.
func (w *Work) head(ctx context.Context) (commit, branch string) {
	repo, err := vcs.Open(ctx, w.Root)
	if err == nil {
		if commit, branch, err = repo.Head(ctx); err != nil {
			return "", w.Branch
		}
	}
	if w.Branch != "" {
		branch = w.Branch
	}
	return commit, branch
}

// history reads the certificates that variants sign with, and asks version control about the files that matter.
func (w *Work) history(ctx context.Context, in *check.Input) error {
	d, err := w.Describe(ctx)
	if err != nil {
		return err
	}
	in.Certificates = w.certificates
	if !d.VersionControl.Known {
		in.Missing[check.History] = d.VersionControl.Why
		return nil
	}
	in.Tracked = map[string]check.Tracked{}
	for _, f := range d.VersionControl.Files {
		in.Tracked[f.File] = check.Tracked{Tracked: f.Tracked, Ignored: f.Ignored, Ever: f.Committed, Rule: f.IgnoredBy}
	}
	return nil
}

// placements says how each placement stands, for the records.
func placements(answers []wiring.Answer) []shape.Placement {
	out := []shape.Placement{}
	for _, a := range answers {
		out = append(out, shape.Placement{Service: a.Service, Environment: a.Environment, Placement: a.Placement, Title: a.Title, Why: a.Why, Platform: string(a.Platform), Identity: a.Identity(), Site: a.Site(),
			Variants: a.Variants, State: string(a.State), Good: a.Good(), File: a.Here.File, Line: a.Here.Line, Column: a.Here.Column, Detail: a.Detail})
	}
	return out
}

// LineUp sends a fresh report and gives the table with the server's columns.
func (w *Work) LineUp(ctx context.Context, c *client.Client) ([]check.Row, error) {
	if err := w.NeedBinding(); err != nil {
		return nil, err
	}
	if _, err := w.Check(ctx, c, "", false, true); err != nil {
		return nil, err
	}
	l, err := c.LineUp(ctx, w.Binding.App)
	if err != nil {
		return nil, err
	}
	var rows []check.Row
	if err := json.Unmarshal(l.Rows, &rows); err != nil || w.Backend == "" {
		return rows, err
	}
	values, err := w.backend(ctx, c)
	if err != nil {
		return nil, err
	}
	return check.Backend(rows, values), nil
}

// backend reads a backend's environment and compares it with what was issued for it. Server values are recognised as comb
// recognises them; they do not leave the server.
func (w *Work) backend(ctx context.Context, c *client.Client) ([]check.BackendValue, error) {
	src, err := os.ReadFile(w.Backend)
	if err != nil {
		return nil, &Problem{What: "cannot read " + w.Backend, Err: unwrapPath(err)}
	}
	pairs, err := dotenv.Parse(string(src))
	if err != nil {
		return nil, &Problem{What: w.Backend, Hint: "Correct the line named.", Err: err}
	}
	got, err := c.Comb(ctx, w.Binding.App)
	if err != nil {
		return nil, err
	}
	regs, err := c.Registrations(ctx, w.Binding.App)
	if err != nil {
		return nil, err
	}
	known, err := shipped()
	if err != nil {
		return nil, err
	}
	recognise := comb.New(handoutOf(got))
	var out []check.BackendValue
	for _, g := range regs {
		s := known[g.Service]
		if s == nil {
			continue
		}
		for _, v := range s.Issues.Values {
			if v.Env == "" || !slices.ContainsFunc(g.Values, func(x shape.IssuedValue) bool { return x.Name == v.ID }) {
				continue
			}
			x := check.BackendValue{Service: g.Service, Environment: g.Environment, Title: v.Title, Name: v.Env, Cell: check.Cell{Note: v.Env + " is not set"}}
			for _, p := range pairs {
				if p.Name != v.Env {
					continue
				}
				x.Cell, err = backendCell(ctx, recognise, got, g.ID+"/"+v.ID, p)
				if err != nil {
					return nil, err
				}
				x.Cell.Where = w.Backend + ": " + v.Env
			}
			out = append(out, x)
		}
	}
	return out, nil
}

// backendCell says whether a variable holds a value of the server's.
func backendCell(ctx context.Context, recognise *comb.Comber, got *shape.Handout, id string, p dotenv.Pair) (check.Cell, error) {
	for _, u := range got.Unsought {
		if u.ID == id {
			return check.Cell{Value: check.Kept, Note: "set; too short to be compared from here"}, nil
		}
	}
	var whose []string
	same := false
	err := recognise.Scan(ctx, strings.NewReader(p.Value), &comb.Buffers{}, func(h comb.Hit) {
		if h.Needle != nil {
			whose = append(whose, h.Needle.Say)
			same = same || h.Needle.ID == id && h.Needle.Length == len(p.Value)
		}
	})
	switch {
	case err != nil:
		return check.Cell{}, err
	case same:
		return check.Cell{Value: check.Kept}, nil
	case len(whose) > 0:
		return check.Cell{Value: "another value", Note: strings.Join(whose, ", ")}, nil
	}
	return check.Cell{Value: "another value"}, nil
}
