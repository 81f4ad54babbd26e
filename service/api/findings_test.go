package api_test

import (
	"context"
	"encoding/json"
	"testing"

	"ligare/client/shape"
)

// What is new, what went away, and since when, branch by branch; a branch that passed is the measure of what is new.
func TestFindingsOverTime(t *testing.T) {
	w := open(t, shared)
	w.ready()
	ctx := context.Background()
	const app = "hivelog"
	finding := func(print, rule, severity string) shape.Finding {
		return shape.Finding{Rule: rule, Severity: severity, Message: "m", File: "f", Line: 1, Column: 1, Fingerprint: print}
	}
	send := func(branch, commit string, list ...shape.Finding) *shape.Findings {
		t.Helper()
		if list == nil {
			list = []shape.Finding{}
		}
		if err := w.owner.SendReport(ctx, app, shape.Report{Findings: list, Placements: []shape.Placement{}, LineUp: json.RawMessage("[]"), Branch: branch, Commit: commit}); err != nil {
			t.Fatal(err)
		}
		got, err := w.owner.Findings(ctx, app, branch)
		if err != nil {
			t.Fatal(err)
		}
		return got
	}
	if _, err := w.owner.Findings(ctx, app, ""); status(err) != 404 || remedy(err) == "" {
		t.Errorf("before any check: %v", err)
	}
	a, b := finding("aaaa", "config-file-missing", "error"), finding("bbbb", "value-mangled", "error")
	n := finding("cccc", "duty-open", "note")
	got := send("main", "c1", a, n)
	if len(got.Items) != 2 || !got.Items[0].New || got.Items[0].FirstCommit != "c1" || got.Passed != nil || got.Items[0].Title == "" || got.Items[0].Why == "" {
		t.Errorf("%+v", got)
	}
	if got = send("main", "c2", n); got.Passed == nil || got.Passed.Commit != "c2" || len(got.Items) != 2 || got.Items[1].GoneCommit != "c2" || got.Items[0].New {
		t.Errorf("one went away, and it passed: %+v", got)
	}
	send("main", "c3", n, b)
	if got = send("main", "c4", n, b, a); got.Passed.Commit != "c2" || len(got.Checks) != 4 || got.Checks[0].Errors != 2 {
		t.Errorf("%+v", got)
	}
	for _, f := range got.Items {
		switch f.Finding.Fingerprint {
		case "aaaa":
			if !f.New || f.Gone != nil || f.FirstCommit != "c4" || f.Times != 2 {
				t.Errorf("it came back: %+v", f)
			}
		case "bbbb":
			if !f.New || f.FirstCommit != "c3" || f.Times != 1 {
				t.Errorf("it is new since the last check that passed: %+v", f)
			}
		case "cccc":
			if f.New || f.FirstCommit != "c1" {
				t.Errorf("it was there all the time: %+v", f)
			}
		}
	}
	if other := send("side", "d1", a); len(other.Items) != 1 || len(other.Branches) != 2 || other.Branches[0].Branch != "main" || other.Branches[0].Errors != 2 {
		t.Errorf("another branch has its own: %+v", other)
	}
	last, err := w.owner.Findings(ctx, app, "")
	if err != nil || last.Branch != "side" {
		t.Errorf("%+v %v", last, err)
	}
	r := &shape.Report{}
	if err := w.owner.Do(ctx, "GET", "/v1/apps/"+app+"/report", nil, r); err != nil || r.Branch != "side" {
		t.Errorf("the overview shows the newest: %+v %v", r, err)
	}
	if _, err := w.owner.Findings(ctx, app, "nowhere"); status(err) != 404 {
		t.Errorf("%v", err)
	}
	if _, err := w.person(t.Name()+" other", "reader", 0).Findings(ctx, app, ""); status(err) != 404 {
		t.Errorf("another team: %v", err)
	}
}
