package job

import (
	"context"
	"encoding/json"

	"ligare/client"
	"ligare/client/shape"
	"ligare/core/check"
	"ligare/core/wiring"
)

// Checked is a check's result with what else was learned on the way.
type Checked struct {
	*check.Result
	LineUp []check.Row
	Sent   bool
}

// Check compares the tree with its registrations. c may be nil: then why says why there is no server.
func (w *Work) Check(ctx context.Context, c *client.Client, why string, offline, send bool) (*Checked, error) {
	if err := w.NeedApp(); err != nil && len(w.Survey.Unresolved) == 0 {
		return nil, err
	}
	var regs []*wiring.Registration
	var err error
	noRecords := ""
	var unfinished []string
	switch {
	case w.Binding == nil:
		noRecords = "the tree is not attached to an app"
	case offline:
		if regs, err = w.Offline(); err != nil {
			return nil, err
		}
	case c == nil:
		noRecords = why
	default:
		if regs, unfinished, err = w.Registrations(ctx, c, "", ""); err != nil {
			return nil, err
		}
		if len(regs) == 0 && len(unfinished) == 0 {
			noRecords = w.Binding.App + " is not registered with any service yet"
		}
	}
	in := w.Input(regs)
	answers, err := wiring.Evaluate(in)
	if err != nil {
		return nil, err
	}
	out := &Checked{Result: check.Run(in, answers, noRecords)}
	for _, why := range unfinished {
		out.NotLooked = append(out.NotLooked, check.NotLooked{Rule: "identifier-not-registered", Reason: why, Required: true})
	}
	if w.Binding == nil {
		return out, nil
	}
	out.LineUp = check.LineUp(in, answers)
	if c == nil || offline || !send {
		return out, nil
	}
	rows, err := json.Marshal(out.LineUp)
	if err != nil {
		return nil, err
	}
	rep := shape.Report{Findings: []shape.Finding{}, LineUp: rows, Looked: len(out.Looked), Blind: len(out.NotLooked)}
	for _, f := range out.Findings {
		rep.Findings = append(rep.Findings, shape.Finding{Rule: f.Rule, Severity: string(f.Severity), Message: f.Message, Variant: f.Variant, File: f.File, Line: f.Line, Column: f.Column, Fingerprint: f.Fingerprint})
	}
	rep.Placements = placements(answers)
	if err := c.SendReport(ctx, w.Binding.App, rep); err != nil {
		return nil, err
	}
	if err := w.SendSurvey(ctx, c); err != nil {
		return nil, err
	}
	out.Sent = true
	return out, nil
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
	return rows, json.Unmarshal(l.Rows, &rows)
}
