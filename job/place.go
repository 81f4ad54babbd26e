package job

import (
	"bytes"
	"context"
	"fmt"
	"slices"
	"sort"
	"strings"

	"ligare/client"
	"ligare/core/binding"
	"ligare/core/sheet"
	"ligare/core/wiring"
)

// PlaceOptions is what a person says when placing.
type PlaceOptions struct {
	Service     string
	Environment string
	Replace     bool // conflicting values are exchanged
	Agree       bool // a changed sheet is agreed to
	Only        []string
	Except      []string // placements, by their names in the sheet or in the library
	refresh     bool     // what the service issued anew is exchanged where it stands as it was placed
}

// Planned is a plan with the files it would write.
type Planned struct {
	Changes []Change        `json:"changes"`
	Steps   []Step          `json:"steps"`
	Kept    []wiring.Answer `json:"kept"`
	Next    []string        `json:"next"`
	Still   []wiring.Still  `json:"still"` // where a value that was exchanged still stands
}

// Step is one edit of a plan as people read it.
type Step struct {
	Placement string `json:"placement"`
	Title     string `json:"title"`
	Why       string `json:"why"`
	Do        string `json:"do"`
	File      string `json:"file"`
	Text      string `json:"text"`
}

// Place plans what the registrations of a service need; Work.Write makes it so.
func (w *Work) Place(ctx context.Context, c *client.Client, o PlaceOptions) (*Planned, error) {
	in, answers, err := w.evaluated(ctx, c, o)
	if err != nil {
		return nil, err
	}
	if answers, err = wiring.Select(answers, o.Only, o.Except); err != nil {
		return nil, &Problem{What: "--only and --except", Hint: "Name placements as `ligare sheet show " + o.Service + "` does.", Err: err}
	}
	replace := wiring.Never
	switch {
	case o.Replace:
		replace = wiring.Always
	case o.refresh:
		if replace, err = wiring.AsPlaced(w.Tree); err != nil {
			return nil, err
		}
	}
	gone := wiring.Exchanged(answers, replace)
	out, err := w.carryOut(in, answers, replace)
	if err != nil {
		return nil, err
	}
	out.Still = append(out.Still, wiring.Standing(w.Tree, gone)...)
	return out, nil
}

// carryOut makes the edits that answers ask for, in memory, with their records.
func (w *Work) carryOut(in wiring.Input, answers []wiring.Answer, replace func(wiring.Answer) bool) (*Planned, error) {
	plan, err := wiring.Make(in, answers, replace)
	if err != nil {
		return nil, &Problem{What: "the placement cannot be worked out", Hint: "`ligare check` names what is in the way; nothing was written.", Err: err}
	}
	if err := plan.Commit(in, answers); err != nil {
		return nil, err
	}
	return w.planned(plan), nil
}

// mend plans those placements of all registrations that are chosen, exchanging what conflicts.
func (w *Work) mend(ctx context.Context, c *client.Client, chosen func(wiring.Answer) bool) (*Planned, error) {
	in, all, err := w.evaluated(ctx, c, PlaceOptions{})
	if err != nil {
		return nil, err
	}
	answers := slices.DeleteFunc(slices.Clone(all), func(a wiring.Answer) bool { return !chosen(a) })
	if len(answers) == 0 {
		return &Planned{Changes: []Change{}, Steps: []Step{}, Kept: []wiring.Answer{}, Next: []string{}, Still: []wiring.Still{}}, nil
	}
	return w.carryOut(in, answers, wiring.Always)
}

func inEnvironment(e string) string {
	if e == "" {
		return ""
	}
	return " for " + e
}

// agree pins each sheet's digest in the tree; one that changed since is refused unless it is agreed to.
func (w *Work) agree(regs []*wiring.Registration, agreed bool) error {
	for _, reg := range regs {
		if err := w.keepSheet(reg.Sheet); err != nil {
			return err
		}
		pinned := w.Binding.Sheets[reg.Service]
		if pinned == reg.Sheet.Digest {
			continue
		}
		if pinned != "" && !agreed {
			return stop("Look at what changed, and agree: ligare sheet agree "+reg.Service+". (--agree-sheet agrees unseen.)", "the sheet of %s changed since this tree agreed to it (%.19s…, now %.19s…); a sheet can put code into the tree", reg.Sheet.Title, pinned, reg.Sheet.Digest)
		}
		src, err := w.Tree.Read(binding.File)
		if err != nil {
			return err
		}
		out, err := binding.Agree(src, reg.Service, reg.Sheet.Digest)
		if err != nil {
			return err
		}
		if w.Binding, err = binding.Parse(out); err != nil {
			return err
		}
		w.Tree.Put(binding.File, out)
	}
	return nil
}

// sheetPath is where a sheet that does not ship is kept in the tree, so that a build server can check without a server.
func sheetPath(service string) string { return ".ligare/sheets/" + service + ".yaml" }

func (w *Work) keepSheet(s *sheet.Sheet) error {
	all, err := shipped()
	if err != nil {
		return err
	}
	if x := all[s.Service]; x != nil && x.Digest == s.Digest {
		return nil
	}
	if had, err := w.Tree.Read(sheetPath(s.Service)); err != nil || !bytes.Equal(had, s.Source) {
		w.Tree.Put(sheetPath(s.Service), s.Source)
	}
	return nil
}

// dropSheet takes a kept sheet out with the last record of its service.
func (w *Work) dropSheet(service string) error {
	records, err := wiring.Records(w.Tree)
	if err != nil {
		return err
	}
	if !slices.ContainsFunc(records, func(r *wiring.Record) bool { return r.Service == service }) {
		if _, err := w.Tree.Read(sheetPath(service)); err == nil {
			w.Tree.Remove(sheetPath(service))
		}
	}
	return nil
}

func (w *Work) planned(plan *wiring.Plan) *Planned {
	out := &Planned{Kept: plan.Kept, Next: unique(plan.Next), Steps: []Step{}, Still: []wiring.Still{}}
	if out.Kept == nil {
		out.Kept = []wiring.Answer{}
	}
	why := map[string][]string{}
	for _, op := range plan.Ops {
		reason := op.Want.Title + ": " + op.Want.Why
		if !contains(why[op.File], reason) {
			why[op.File] = append(why[op.File], reason)
		}
		out.Steps = append(out.Steps, Step{Placement: op.Want.Placement, Title: op.Want.Title, Why: op.Want.Why, Do: op.Do, File: op.File, Text: op.Text})
	}
	for _, n := range w.Tree.Changed() {
		switch {
		case strings.HasPrefix(n, wiring.Folder+"/"):
			why[n] = []string{"what was placed, so that it can be taken out again in any clone; commit it"}
		case strings.HasPrefix(n, ".ligare/sheets/"):
			why[n] = []string{"the sheet that was placed by, so that the tree can be checked without a server; commit it"}
		case n == binding.File:
			why[n] = []string{"the sheet this tree agreed to"}
		}
	}
	out.Changes = w.Changes(why)
	for i, c := range out.Changes {
		out.Changes[i].Reasons = plan.Reasons(c.File)
	}
	return out
}

func unique(list []string) []string {
	out := []string{}
	for _, s := range list {
		if !contains(out, s) {
			out = append(out, s)
		}
	}
	return out
}

func contains(list []string, s string) bool {
	for _, x := range list {
		if x == s {
			return true
		}
	}
	return false
}

// Refresh fetches a service's registrations again and brings the tree up to date: config files, and every value that
// stands as it was placed. What somebody changed since is shown and left.
func (w *Work) Refresh(ctx context.Context, c *client.Client, o PlaceOptions) (*Planned, error) {
	if err := w.NeedBinding(); err != nil {
		return nil, err
	}
	list, err := c.Registrations(ctx, w.Binding.App)
	if err != nil {
		return nil, err
	}
	for _, g := range list {
		if g.Service == o.Service && (o.Environment == "" || g.Environment == o.Environment) && g.State == "registered" {
			if _, err := c.Refresh(ctx, g.ID); err != nil {
				return nil, err
			}
		}
	}
	o.refresh = true
	return w.Place(ctx, c, o)
}

// Fetch plans only the config files, for build servers: no records change.
func (w *Work) Fetch(ctx context.Context, c *client.Client, service, environment string) (*Planned, error) {
	if err := w.NeedBinding(); err != nil {
		return nil, err
	}
	regs, _, err := w.Registrations(ctx, c, service, environment)
	if err != nil {
		return nil, err
	}
	out := &Planned{Kept: []wiring.Answer{}, Next: []string{}, Steps: []Step{}}
	for _, reg := range regs {
		files, err := wiring.ConfigFiles(w.Input(regs), reg)
		if err != nil {
			return nil, err
		}
		for _, f := range files {
			for _, id := range reg.Identities {
				if id.Platform == f.Platform && id.ID == f.Identity && id.Files[f.File.ID] != nil {
					if had, err := w.Tree.Read(f.Path); err != nil || !bytes.Equal(had, id.Files[f.File.ID]) {
						w.Tree.Put(f.Path, id.Files[f.File.ID])
					}
				}
			}
		}
	}
	out.Changes = w.Changes(nil)
	return out, nil
}

// Adopted is what was taken in.
type Adopted struct {
	Changes []Change        `json:"changes"`
	Found   []wiring.Answer `json:"found"` // that was not in the records before
	Open    []wiring.Answer `json:"open"`  // that is wanted and not right
}

// Adopt plans taking in what already stands in a tree: only records are written.
func (w *Work) Adopt(ctx context.Context, c *client.Client, o PlaceOptions) (*Adopted, error) {
	in, answers, err := w.evaluated(ctx, c, o)
	if err != nil {
		return nil, err
	}
	out := &Adopted{Found: []wiring.Answer{}, Open: []wiring.Answer{}}
	for _, a := range answers {
		if !a.Good() {
			out.Open = append(out.Open, a)
		}
	}
	plan := &wiring.Plan{Tree: w.Tree}
	taken, err := plan.Adopt(in, answers)
	if err != nil {
		return nil, err
	}
	if out.Found = append(out.Found, taken...); len(taken) == 0 {
		out.Changes = []Change{}
		return out, nil
	}
	out.Changes = w.planned(plan).Changes
	return out, nil
}

// evaluated gives how everything stands that a person wants placed, with what was looked at.
func (w *Work) evaluated(ctx context.Context, c *client.Client, o PlaceOptions) (wiring.Input, []wiring.Answer, error) {
	regs, err := w.registered(ctx, c, o)
	if err != nil {
		return wiring.Input{}, nil, err
	}
	in := w.Input(regs)
	answers, err := wiring.Evaluate(in)
	return in, answers, err
}

// registered gives the registrations that are placed, their sheets agreed to.
func (w *Work) registered(ctx context.Context, c *client.Client, o PlaceOptions) ([]*wiring.Registration, error) {
	if err := w.NeedBinding(); err != nil {
		return nil, err
	}
	regs, unfinished, err := w.Registrations(ctx, c, o.Service, o.Environment)
	if err != nil {
		return nil, err
	}
	if len(regs) == 0 && len(unfinished) > 0 {
		return nil, stop("Run it again, it goes on where it stopped: ligare register "+o.Service, "%s", strings.Join(unfinished, "; "))
	}
	if len(regs) == 0 {
		return nil, stop("Register it first: ligare register "+o.Service+". Values it issued elsewhere are entered with: ligare record "+o.Service, "%s is not registered with %s%s", w.Binding.App, o.Service, inEnvironment(o.Environment))
	}
	return regs, w.agree(regs, o.Agree)
}

// TakenOut is a plan to take a registration's placements out.
type TakenOut struct {
	Changes []Change      `json:"changes"`
	Left    []wiring.Left `json:"left"`
}

// Unplace plans taking out what was placed for a service. It needs no server.
func (w *Work) Unplace(service, environment string, force bool) (*TakenOut, error) {
	records, err := wiring.Records(w.Tree)
	if err != nil {
		return nil, err
	}
	out := &TakenOut{Left: []wiring.Left{}}
	found := false
	var have []string
	for _, r := range records {
		have = append(have, r.Registration)
		if r.Service != service || environment != "" && r.Environment != environment {
			continue
		}
		found = true
		left, err := wiring.Unplace(w.Tree, r.Registration, force)
		if err != nil {
			return nil, err
		}
		out.Left = append(out.Left, left...)
	}
	if err := w.dropSheet(service); err != nil {
		return nil, err
	}
	if !found {
		sort.Strings(have)
		hint := "Nothing was placed by Ligare in this tree."
		if len(have) > 0 {
			hint = "Placed here: " + join(have) + "."
		}
		return nil, stop(hint, "nothing is recorded as placed for %s%s", service, inEnvironment(environment))
	}
	why := map[string][]string{}
	for _, n := range w.Tree.Changed() {
		if ours(n) {
			why[n] = []string{"the record of what was placed goes with it"}
		}
	}
	out.Changes = w.Changes(why)
	return out, nil
}

// Guide writes a plan as steps for a person or a coding assistant.
func Guide(p *Planned) string {
	var b strings.Builder
	n := 0
	for _, s := range p.Steps {
		n++
		verb := map[string]string{"insert": "add", "replace": "replace with", "create": "create the file with"}[s.Do]
		fmt.Fprintf(&b, "%d. In %s, %s:\n\n", n, s.File, verb)
		for _, l := range strings.Split(strings.TrimRight(s.Text, "\n"), "\n") {
			fmt.Fprintf(&b, "       %s\n", strings.TrimRight(l, "\r"))
		}
		fmt.Fprintf(&b, "\n   %s: %s\n\n", s.Title, s.Why)
	}
	for _, k := range p.Kept {
		n++
		fmt.Fprintf(&b, "%d. By hand: %s", n, k.Title)
		if k.Here.File != "" {
			fmt.Fprintf(&b, " (%s)", k.Here)
		}
		fmt.Fprintf(&b, ".\n\n       %s\n", k.Detail)
		if k.Expected != "" {
			fmt.Fprintf(&b, "       should be: %s\n", k.Expected)
		}
		fmt.Fprintf(&b, "\n   %s\n\n", k.Why)
	}
	for _, x := range p.Next {
		n++
		fmt.Fprintf(&b, "%d. Then %s.\n", n, x)
	}
	return b.String()
}
