package records

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"ligare/client/held"
	"ligare/client/shape"
	"ligare/core/binding"
	"ligare/core/built"
	"ligare/core/check"
	"ligare/core/comb"
	"ligare/core/sheet"
	"ligare/core/wiring"
	"ligare/service/store"
)

// Handed is a built package that somebody hands in. The file is the caller's, who takes it away afterwards.
type Handed struct {
	Name        string
	File        io.ReaderAt
	Size        int64
	SHA256      []byte
	App         string // it belongs to; "" to go by its identifier
	Environment string // it was built for; "" where that follows
	Keep        string
}

// Inspect reads a built package, holds it against the registrations of its app and looks through it for the team's server
// secrets. Nothing is kept; KeepPackage does that.
func (r *Records) Inspect(ctx context.Context, c Caller, in Handed) (*shape.Package, error) {
	all, err := r.all(ctx, c.Team)
	if err != nil {
		return nil, err
	}
	var sheets []*sheet.Sheet
	for _, name := range slices.Sorted(maps.Keys(all)) {
		sheets = append(sheets, all[name])
	}
	a, err := built.Open(in.File, in.Size)
	if err != nil {
		return nil, unreadable(in.Name, err)
	}
	f, err := a.Read(ctx, built.Options{Verify: true, Sheets: sheets})
	if err != nil {
		return nil, unreadable(in.Name, err)
	}
	out := &shape.Package{Name: in.Name, Size: in.Size, SHA256: hex.EncodeToString(in.SHA256), Kind: string(f.Kind), Environment: in.Environment, At: time.Now().UTC().Truncate(time.Microsecond), By: c.Name, Kept: shape.KeepNothing}
	switch {
	case f.Android != nil:
		out.Platform, out.Identifier, out.Version = "android", f.Android.ApplicationID, f.Android.VersionName+" ("+f.Android.VersionCode+")"
	case len(f.IOS) > 0:
		out.Platform, out.Identifier, out.Version = "ios", f.IOS[0].BundleID, f.IOS[0].Version+" ("+f.IOS[0].Build+")"
	}
	if out.App, err = r.appOf(ctx, c, in.App, out); err != nil {
		return nil, err
	}
	findings, blind, err := r.combPackage(ctx, c, in)
	if err != nil {
		return nil, err
	}
	more, err := r.judge(ctx, c, in, a, f, sheets, out)
	if err != nil {
		return nil, err
	}
	findings = append(findings, more.Findings...)
	for _, n := range more.NotLooked {
		if n.Required {
			blind = append(blind, n.Reason)
		}
	}
	if out.Facts, err = json.Marshal(f); err != nil {
		return nil, err
	}
	slices.Sort(blind)
	out.NotLooked = slices.Compact(blind)
	told(out, findings)
	return out, nil
}

func unreadable(name string, err error) error {
	if errors.Is(err, context.Canceled) {
		return err
	}
	return fail(Refusal, "Hand in an APK, AAB or IPA as it was built, unpacked and changed by nobody.", "%s: %v", name, err)
}

// appOf finds the app that a package belongs to: the one that is named, or the one with its identifier; "" for none.
func (r *Records) appOf(ctx context.Context, c Caller, named string, p *shape.Package) (string, error) {
	if named != "" {
		a, err := r.App(ctx, c, named)
		if err != nil {
			return "", err
		}
		return a.Name, nil
	}
	var name string
	err := r.DB.QueryRow(ctx, `SELECT a.name FROM identities i JOIN apps a ON a.team = i.team AND a.id = i.app WHERE i.team = $1 AND i.platform = $2 AND i.identifier = $3`, c.Team, p.Platform, p.Identifier).Scan(&name)
	if store.None(err) {
		return "", nil
	}
	return name, err
}

// judge holds a package against what is registered for its app; one of no app that is known only against itself.
func (r *Records) judge(ctx context.Context, c Caller, in Handed, a *built.Archive, f *built.Facts, sheets []*sheet.Sheet, out *shape.Package) (*check.Result, error) {
	got, err := &shape.Comparison{}, error(nil)
	if out.App != "" {
		if got, err = r.Comparison(ctx, c, out.App); err != nil {
			return nil, err
		}
	}
	known := held.Sheets{}
	for _, s := range sheets {
		known[s.Service] = s
	}
	regs, unfinished, err := held.Registrations(got, "", "", known)
	if err != nil {
		return nil, err
	}
	x := check.Input{Missing: map[check.Need]string{check.History: "a package has no version control", check.Services: "the services were not asked"}, Now: time.Now(), Records: held.Records(got, regs), Recognised: held.Recognised(got)}
	switch {
	case out.App == "":
		why := "no app in the records has the identifier " + out.Identifier + ": there is nothing to compare it with"
		x.Missing[check.Attached], x.Missing[check.Registrations], x.Missing[check.TeamRecords] = why, why, why
	case len(regs) == 0 && len(unfinished) == 0:
		x.Missing[check.Registrations] = out.App + " is not registered with any service yet"
	}
	want := check.Request{Name: in.Name, Environment: in.Environment, Sheets: sheets}
	for _, g := range got.Registrations {
		if s := known[g.Service]; s != nil && s.Builder != nil && g.State == "registered" {
			b, err := r.Builder(ctx, c, g.ID)
			if err != nil {
				return nil, err
			}
			want.Fields = held.Fields(g.Service, b, f)
			break
		}
	}
	x.Input = wiring.Input{Binding: &binding.Binding{Format: 1, App: out.App}, Registrations: regs, Library: r.Sheets.Library}
	var two *check.TwoEnvironments
	var none *check.NoEnvironment
	if err := x.Ship(a, f, want); errors.As(err, &two) {
		return nil, fail(Clash, "Say which environment it was built for: "+two.Environments[0]+" or "+two.Environments[1]+".", "%v", err)
	} else if errors.As(err, &none) {
		return nil, fail(BadInput, "There are: "+strings.Join(none.Known, ", ")+".", "%v", err)
	} else if err != nil {
		return nil, unreadable(in.Name, err)
	}
	if out.App != "" {
		if out.LineUp, err = r.packageLineUp(ctx, c, out.App, x); err != nil {
			return nil, err
		}
	}
	res := check.Run(x)
	for _, why := range unfinished {
		res.NotLooked = append(res.NotLooked, check.NotLooked{Rule: "identifier-not-registered", Reason: why, Required: true})
	}
	return res, nil
}

// packageLineUp lays a package beside what the services have, and what they saw last.
func (r *Records) packageLineUp(ctx context.Context, c Caller, app string, x check.Input) (*shape.LineUp, error) {
	rows := check.OfPackage(check.LineUp(x.Input, x.Answers, x.Records))
	for i := range rows {
		if err := r.lastSeen(ctx, c, app, &rows[i]); err != nil {
			return nil, err
		}
	}
	check.Judge(rows)
	text, err := json.Marshal(rows)
	return &shape.LineUp{Columns: check.Held(rows), Rows: text}, err
}

// combPackage looks for the team's server secrets and for private keys in every byte of a package, unpacked too.
func (r *Records) combPackage(ctx context.Context, c Caller, in Handed) (findings []check.Finding, blind []string, err error) {
	list, err := r.combed(ctx, c)
	if err != nil {
		return nil, nil, err
	}
	table, key := make([]byte, 32), make([]byte, 32) // handed out to nobody, so that both are new
	for _, b := range [][]byte{table, key} {
		if _, err := rand.Read(b); err != nil {
			return nil, nil, err
		}
	}
	h := comb.Make(table, key, list)
	for _, u := range h.Unsought {
		blind = append(blind, u.Say+" was not looked for: "+u.Why)
	}
	k, buffers := comb.New(h), &comb.Buffers{}
	add := func(file string, h comb.Hit) {
		x := check.OfHit(h)
		x.File, x.Line = file, h.Line
		findings = append(findings, x)
	}
	if err := k.Scan(ctx, io.NewSectionReader(in.File, 0, in.Size), buffers, func(h comb.Hit) { add("", h) }); err != nil {
		return nil, nil, err
	}
	skipped, err := k.Archive(ctx, in.File, in.Size, buffers, add)
	if err != nil {
		return nil, nil, err
	}
	return check.Gather("comb", findings, nil, nil, time.Now()).Findings, append(blind, skipped...), nil
}

// KeepPackage keeps the facts of a package, and what was found when that is asked for. It must be given what Inspect gave.
func (r *Records) KeepPackage(ctx context.Context, tx pgx.Tx, c Caller, p *shape.Package, keep string) (*shape.Package, error) {
	if err := c.Need("developer"); err != nil {
		return nil, err
	}
	id := uuid.Must(uuid.NewV7())
	p.ID, p.Kept = id.String(), keep
	kept := *p
	if keep != shape.KeepEverything {
		kept.Findings, kept.LineUp, kept.NotLooked, kept.Errors, kept.Warnings, kept.Notes = nil, nil, nil, nil, nil, nil
	}
	var app *uuid.UUID
	if p.App != "" {
		a, err := r.app(ctx, tx, c, p.App)
		if err != nil {
			return nil, err
		}
		x := uuid.MustParse(a.ID)
		app = &x
	}
	body, err := json.Marshal(kept)
	if err != nil {
		return nil, err
	}
	sealed, err := r.Keys.Seal(string(body), c.Team.String(), p.ID, "package")
	if err != nil {
		return nil, err
	}
	if _, err := tx.Exec(ctx, `INSERT INTO packages (team, id, app, at, who, name, sha256, errors, warnings, notes, body) VALUES ($1, $2, $3, $4, $5, $6, decode($7, 'hex'), $8, $9, $10, $11)`,
		c.Team, id, app, p.At, c.Name, p.Name, p.SHA256, kept.Errors, kept.Warnings, kept.Notes, sealed); err != nil {
		return nil, err
	}
	if err := r.audit(ctx, tx, c, "package handed in", p.Name, map[string]any{"sha256": p.SHA256, "identifier": p.Identifier, "kept": keep}); err != nil {
		return nil, err
	}
	return p, r.emit(ctx, tx, c.Team, "package", map[string]string{"app": p.App, "id": p.ID})
}

// Packages gives the packages that were kept, the newest first: those of an app, or with "" all.
func (r *Records) Packages(ctx context.Context, c Caller, app, after string, limit int) (shape.Page[shape.Package], error) {
	page := shape.Page[shape.Package]{Items: []shape.Package{}}
	var before *uuid.UUID
	if after != "" {
		id, err := uuid.Parse(after)
		if err != nil {
			return page, fail(BadInput, "Follow the Link of the page before.", "%q is no place in the list", after)
		}
		before = &id
	}
	rows, err := r.DB.Query(ctx, `SELECT p.id, p.body FROM packages p LEFT JOIN apps a ON a.team = p.team AND a.id = p.app
		WHERE p.team = $1 AND ($2 = '' OR a.name = $2) AND ($3::uuid IS NULL OR p.id < $3) ORDER BY p.id DESC LIMIT $4`, c.Team, app, before, limit+1)
	if err != nil {
		return page, err
	}
	page.Items, err = pgx.CollectRows(rows, func(row pgx.CollectableRow) (shape.Package, error) {
		p, err := r.openPackage(c, row)
		if err != nil {
			return shape.Package{}, err
		}
		p.Facts, p.Findings, p.LineUp, p.NotLooked = nil, nil, nil, nil
		return *p, nil
	})
	if err == nil && len(page.Items) > limit {
		page.Items = page.Items[:limit]
		page.Next = page.Items[limit-1].ID
	}
	return page, err
}

func (r *Records) openPackage(c Caller, row interface{ Scan(...any) error }) (*shape.Package, error) {
	var id uuid.UUID
	var sealed []byte
	if err := row.Scan(&id, &sealed); err != nil {
		return nil, err
	}
	text, err := r.Keys.Open(sealed, c.Team.String(), id.String(), "package")
	if err != nil {
		return nil, err
	}
	p := &shape.Package{}
	return p, json.Unmarshal([]byte(text), p)
}

// Package gives one package that was kept.
func (r *Records) Package(ctx context.Context, c Caller, id string) (*shape.Package, error) {
	u, err := uuid.Parse(id)
	if err != nil {
		return nil, noPackage(id)
	}
	p, err := r.openPackage(c, r.DB.QueryRow(ctx, `SELECT id, body FROM packages WHERE team = $1 AND id = $2`, c.Team, u))
	if store.None(err) {
		return nil, noPackage(id)
	}
	return p, err
}

func noPackage(id string) error {
	return fail(Missing, "GET /v1/packages lists those that were kept.", "there is no package %q", id)
}

// ForgetPackage takes away what was kept of a package.
func (r *Records) ForgetPackage(ctx context.Context, c Caller, id string) error {
	if err := c.Need("developer"); err != nil {
		return err
	}
	p, err := r.Package(ctx, c, id)
	if err != nil {
		return err
	}
	return pgx.BeginFunc(ctx, r.DB, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `DELETE FROM packages WHERE team = $1 AND id = $2`, c.Team, id); err != nil {
			return err
		}
		if err := r.audit(ctx, tx, c, "package forgotten", p.Name, map[string]string{"sha256": p.SHA256}); err != nil {
			return err
		}
		return r.emit(ctx, tx, c.Team, "package", map[string]string{"app": p.App, "id": id})
	})
}

// told gives findings in the shape that is sent, and counts them.
func told(p *shape.Package, list []check.Finding) {
	slices.SortStableFunc(list, func(a, b check.Finding) int {
		switch {
		case a.Severity == b.Severity:
			return 0
		case a.Severity.AtLeast(b.Severity):
			return -1
		}
		return 1
	})
	count := map[check.Severity]int{}
	p.Findings = []shape.PackageFinding{}
	for _, f := range list {
		count[f.Severity]++
		x := shape.PackageFinding{Rule: f.Rule, Severity: string(f.Severity), Message: f.Message, File: f.File, Line: f.Line, Expected: f.Expected, Actual: f.Actual, From: f.From, Why: f.Why, Fix: f.Fix, Consequences: f.Consequences}
		if rule := check.RuleByID(f.Rule); rule != nil {
			x.Title = rule.Title
		}
		p.Findings = append(p.Findings, x)
	}
	e, w, n := count[check.Error], count[check.Warning], count[check.Note]
	p.Errors, p.Warnings, p.Notes = &e, &w, &n
}

// packageRows gives what an app's line-up gains from the newest package of each identifier whose line-up was kept.
func (r *Records) packageRows(ctx context.Context, c Caller, app string, rows []check.Row) ([]check.Row, error) {
	list, err := r.DB.Query(ctx, `SELECT p.id, p.body FROM packages p JOIN apps a ON a.team = p.team AND a.id = p.app WHERE p.team = $1 AND a.name = $2 AND p.errors IS NOT NULL ORDER BY p.id DESC LIMIT 20`, c.Team, app)
	if err != nil {
		return nil, err
	}
	kept, err := pgx.CollectRows(list, func(row pgx.CollectableRow) (*shape.Package, error) { return r.openPackage(c, row) })
	if err != nil {
		return nil, err
	}
	met := map[string]bool{}
	for _, p := range kept {
		key := fmt.Sprint(p.Platform, p.Identifier, p.Environment)
		if met[key] || p.LineUp == nil {
			continue
		}
		met[key] = true
		var built []check.Row
		if err := json.Unmarshal(p.LineUp.Rows, &built); err != nil {
			return nil, err
		}
		rows = check.WithPackage(rows, built)
	}
	return rows, nil
}
