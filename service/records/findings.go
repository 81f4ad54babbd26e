package records

import (
	"context"
	"encoding/json"
	"time"

	"github.com/jackc/pgx/v5"

	"ligare/client/shape"
	"ligare/core/check"
	"ligare/service/store"
)

// SaveReport keeps the newest report of a branch of an app's tree, and how each finding stood over time.
func (r *Records) SaveReport(ctx context.Context, tx pgx.Tx, c Caller, app string, rep shape.Report) error {
	if err := c.Need("developer"); err != nil {
		return err
	}
	a, err := r.app(ctx, tx, c, app)
	if err != nil {
		return err
	}
	rep.At = time.Now().UTC().Truncate(time.Microsecond)
	body, err := json.Marshal(rep)
	if err != nil {
		return err
	}
	sealed, err := r.Keys.Seal(string(body), c.Team.String(), a.ID, "report")
	if err != nil {
		return err
	}
	b := &pgx.Batch{}
	b.Queue(`INSERT INTO reports (team, app, branch, at, body) VALUES ($1, $2, $3, $4, $5) ON CONFLICT (team, app, branch) DO UPDATE SET at = excluded.at, body = excluded.body`, c.Team, a.ID, rep.Branch, rep.At, sealed)
	count := map[string]int{}
	prints := []string{}
	for _, f := range rep.Findings {
		count[f.Severity]++
		prints = append(prints, f.Fingerprint)
		text, err := json.Marshal(f)
		if err != nil {
			return err
		}
		b.Queue(`INSERT INTO findings (team, app, at, fingerprint, rule, severity, body) VALUES ($1, $2, $3, $4, $5, $6, $7) ON CONFLICT DO NOTHING`, c.Team, a.ID, rep.At, f.Fingerprint, f.Rule, f.Severity, text)
		b.Queue(`INSERT INTO finding_states (team, app, branch, fingerprint, first, first_commit, last, body) VALUES ($1, $2, $3, $4, $5, $6, $5, $7)
			ON CONFLICT (team, app, branch, fingerprint) DO UPDATE SET last = excluded.last, body = excluded.body,
			first = CASE WHEN finding_states.gone IS NULL THEN finding_states.first ELSE excluded.first END,
			first_commit = CASE WHEN finding_states.gone IS NULL THEN finding_states.first_commit ELSE excluded.first_commit END,
			times = finding_states.times + CASE WHEN finding_states.gone IS NULL THEN 0 ELSE 1 END, gone = NULL, gone_commit = ''`, c.Team, a.ID, rep.Branch, f.Fingerprint, rep.At, rep.Commit, text)
	}
	b.Queue(`UPDATE finding_states SET gone = $4, gone_commit = $5 WHERE team = $1 AND app = $2 AND branch = $3 AND gone IS NULL AND NOT fingerprint = ANY($6)`, c.Team, a.ID, rep.Branch, rep.At, rep.Commit, prints)
	b.Queue(`INSERT INTO checks (team, app, at, branch, commit, errors, warnings, notes, not_looked) VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9) ON CONFLICT DO NOTHING`,
		c.Team, a.ID, rep.At, rep.Branch, rep.Commit, count["error"], count["warning"], count["note"], rep.Blind)
	if err := tx.SendBatch(ctx, b).Close(); err != nil {
		return err
	}
	return r.emit(ctx, tx, c.Team, "report", map[string]string{"app": app})
}

// Report gives the last report of an app's tree; nil when there was none.
func (r *Records) Report(ctx context.Context, c Caller, app string) (*shape.Report, error) {
	a, err := r.App(ctx, c, app)
	if err != nil {
		return nil, err
	}
	return r.lastReport(ctx, c, a.ID)
}

func (r *Records) lastReport(ctx context.Context, c Caller, app string) (*shape.Report, error) {
	var sealed []byte
	err := r.DB.QueryRow(ctx, `SELECT body FROM reports WHERE team = $1 AND app = $2 ORDER BY at DESC LIMIT 1`, c.Team, app).Scan(&sealed)
	if store.None(err) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	text, err := r.Keys.Open(sealed, c.Team.String(), app, "report")
	if err != nil {
		return nil, err
	}
	rep := &shape.Report{}
	return rep, json.Unmarshal([]byte(text), rep)
}

// mostFindings is how many findings of a branch are given.
const mostFindings = 2000

// Findings gives how the findings of an app stand on a branch, the one that was checked last without a name: what is
// there, what went away, and since when.
func (r *Records) Findings(ctx context.Context, c Caller, app string, branch *string) (*shape.Findings, error) {
	a, err := r.App(ctx, c, app)
	if err != nil {
		return nil, err
	}
	out := &shape.Findings{Branches: []shape.CheckedBranch{}, Items: []shape.FindingState{}, Checks: []shape.CheckRun{}}
	rows, err := r.DB.Query(ctx, `SELECT DISTINCT ON (branch) branch, commit, at, errors, warnings, notes, not_looked FROM checks WHERE team = $1 AND app = $2 ORDER BY branch, at DESC`, c.Team, a.ID)
	if err != nil {
		return nil, err
	}
	if out.Branches, err = pgx.CollectRows(rows, func(row pgx.CollectableRow) (b shape.CheckedBranch, err error) {
		return b, row.Scan(&b.Branch, &b.Commit, &b.At, &b.Errors, &b.Warnings, &b.Notes, &b.Blind)
	}); err != nil {
		return nil, err
	}
	if len(out.Branches) == 0 {
		return nil, fail(Missing, "Run ligare check in it.", "the tree of this app was never checked")
	}
	var at *shape.CheckedBranch
	for i := range out.Branches {
		b := &out.Branches[i]
		if branch != nil && b.Branch == *branch || branch == nil && (at == nil || b.At.After(at.At)) {
			at = b
		}
	}
	if at == nil {
		return nil, fail(Missing, "Leave the branch out to see the one that was checked last.", "no check of a branch %q was reported", *branch)
	}
	out.Branch, out.At, out.Commit = at.Branch, at.At, at.Commit
	if rows, err = r.DB.Query(ctx, `SELECT at, commit, errors, warnings, notes FROM checks WHERE team = $1 AND app = $2 AND branch = $3 ORDER BY at DESC LIMIT 30`, c.Team, a.ID, at.Branch); err != nil {
		return nil, err
	}
	if out.Checks, err = pgx.CollectRows(rows, func(row pgx.CollectableRow) (x shape.CheckRun, err error) {
		return x, row.Scan(&x.At, &x.Commit, &x.Errors, &x.Warnings, &x.Notes)
	}); err != nil {
		return nil, err
	}
	passed := &shape.CheckRun{}
	err = r.DB.QueryRow(ctx, `SELECT at, commit, warnings, notes FROM checks WHERE team = $1 AND app = $2 AND branch = $3 AND errors = 0 ORDER BY at DESC LIMIT 1`, c.Team, a.ID, at.Branch).Scan(&passed.At, &passed.Commit, &passed.Warnings, &passed.Notes)
	if err == nil {
		out.Passed = passed
	} else if !store.None(err) {
		return nil, err
	}
	if rows, err = r.DB.Query(ctx, `SELECT body, first, first_commit, last, gone, gone_commit, times FROM finding_states WHERE team = $1 AND app = $2 AND branch = $3 ORDER BY gone IS NOT NULL, first DESC LIMIT $4`, c.Team, a.ID, at.Branch, mostFindings); err != nil {
		return nil, err
	}
	out.Items, err = pgx.CollectRows(rows, func(row pgx.CollectableRow) (f shape.FindingState, err error) {
		var body []byte
		if err := row.Scan(&body, &f.First, &f.FirstCommit, &f.Last, &f.Gone, &f.GoneCommit, &f.Times); err != nil {
			return f, err
		}
		f.New = f.Gone == nil && f.First.Equal(at.At) || f.Gone == nil && out.Passed != nil && f.First.After(out.Passed.At)
		if err := json.Unmarshal(body, &f.Finding); err != nil {
			return f, err
		}
		if rule := check.RuleByID(f.Finding.Rule); rule != nil {
			f.Title, f.Why = rule.Title, rule.Why
		}
		return f, nil
	})
	return out, err
}
