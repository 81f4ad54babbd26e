package records

import (
	"context"
	"encoding/json"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"ligare/client/shape"
	"ligare/core/check"
	"ligare/service/registrar"
	"ligare/service/store"
)

// Look asks the service what it has seen since last time and keeps it; it gives the number of new sightings.
func (r *Records) Look(ctx context.Context, c Caller, id string) (int, error) {
	g, err := r.row(ctx, c, id)
	if err != nil {
		return 0, err
	}
	s, err := r.sheetOf(ctx, c.Team, g.service)
	if err != nil {
		return 0, err
	}
	if s.ByHand() || g.remote == "" {
		return 0, nil
	}
	remote, _, err := r.remote(ctx, c.Team, s)
	if err == nil {
		err = r.opened(c, g, remote)
	}
	if err != nil {
		return 0, err
	}
	var after string
	if err := r.DB.QueryRow(ctx, `SELECT seen_after FROM registrations WHERE team = $1 AND id = $2`, c.Team, g.id).Scan(&after); err != nil {
		return 0, err
	}
	seen, err := registrar.To(remote).Sightings(ctx, g.remote, after)
	if err != nil || len(seen) == 0 {
		return 0, explain(s, err)
	}
	n := 0
	err = pgx.BeginFunc(ctx, r.DB, func(tx pgx.Tx) error {
		n = 0
		for _, x := range seen {
			tag, err := tx.Exec(ctx, `INSERT INTO sightings_seen (team, registration, id) VALUES ($1, $2, $3) ON CONFLICT DO NOTHING`, c.Team, g.id, x.ID)
			if err != nil {
				return err
			}
			if tag.RowsAffected() == 0 {
				continue
			}
			facts, err := r.sealFacts(c, g.id, x.Facts)
			if err != nil {
				return err
			}
			if _, err := tx.Exec(ctx, `INSERT INTO sightings (team, registration, at, id, platform, identifier, kind, facts) VALUES ($1, $2, $3, $4, $5, $6, $7, $8)`,
				c.Team, g.id, x.At, x.ID, x.Platform, x.Identifier, x.Kind, facts); err != nil {
				return err
			}
			n++
			if err := r.emit(ctx, tx, c.Team, "sighting", shape.Sighting{ID: x.ID, App: g.appName, Service: g.service, Environment: g.environment, At: x.At, Platform: x.Platform, Identifier: x.Identifier, Kind: x.Kind}); err != nil {
				return err
			}
		}
		_, err := tx.Exec(ctx, `UPDATE registrations SET seen_after = $3 WHERE team = $1 AND id = $2`, c.Team, g.id, seen[len(seen)-1].ID)
		return err
	})
	return n, err
}

func (r *Records) sealFacts(c Caller, registration uuid.UUID, facts map[string]string) ([]byte, error) {
	b, err := json.Marshal(facts)
	if err != nil {
		return nil, err
	}
	return r.Keys.Seal(string(b), c.Team.String(), registration.String(), "sighting")
}

func (r *Records) openFacts(c Caller, registration uuid.UUID, sealed []byte) (map[string]string, error) {
	text, err := r.Keys.Open(sealed, c.Team.String(), registration.String(), "sighting")
	if err != nil {
		return nil, err
	}
	var out map[string]string
	return out, json.Unmarshal([]byte(text), &out)
}

// Sightings gives what was seen of an app, newest first, before a time.
func (r *Records) Sightings(ctx context.Context, c Caller, app string, before time.Time, limit int) (shape.Page[shape.Sighting], error) {
	page := shape.Page[shape.Sighting]{Items: []shape.Sighting{}}
	a, err := r.App(ctx, c, app)
	if err != nil {
		return page, err
	}
	rows, err := r.DB.Query(ctx, `SELECT s.id, s.registration, g.service, g.environment, s.at, s.platform, s.identifier, s.kind, s.facts FROM sightings s JOIN registrations g ON g.team = s.team AND g.id = s.registration
		WHERE s.team = $1 AND g.app = $2 AND s.at < $3 ORDER BY s.at DESC, s.id LIMIT $4`, c.Team, a.ID, before, limit+1)
	if err != nil {
		return page, err
	}
	defer rows.Close()
	for rows.Next() {
		x := shape.Sighting{App: app}
		var facts []byte
		var registration uuid.UUID
		if err := rows.Scan(&x.ID, &registration, &x.Service, &x.Environment, &x.At, &x.Platform, &x.Identifier, &x.Kind, &facts); err != nil {
			return page, err
		}
		if x.Facts, err = r.openFacts(c, registration, facts); err != nil {
			return page, err
		}
		page.Items = append(page.Items, x)
	}
	if len(page.Items) > limit {
		page.Items = page.Items[:limit]
		page.Next = page.Items[limit-1].At.Format(time.RFC3339Nano)
	}
	return page, rows.Err()
}

// LineUp gives the table of an app: the columns of its last report, with what the services have now and what they saw last.
func (r *Records) LineUp(ctx context.Context, c Caller, app string) (*shape.LineUp, error) {
	rep, err := r.Report(ctx, c, app)
	if err != nil {
		return nil, err
	}
	out := &shape.LineUp{}
	rows := []check.Row{}
	if rep != nil {
		out.At = &rep.At
		if err := json.Unmarshal(rep.LineUp, &rows); err != nil {
			return nil, err
		}
	}
	regs, err := r.Registrations(ctx, c, app)
	if err != nil {
		return nil, err
	}
	rows = merge(rows, regs)
	feeds, err := r.feeds(ctx, c, app, regs)
	if err != nil {
		return nil, err
	}
	rows = check.Supplied(rows, feeds)
	if rows, err = r.packageRows(ctx, c, app, rows); err != nil {
		return nil, err
	}
	for i := range rows {
		if err := r.lastSeen(ctx, c, app, &rows[i]); err != nil {
			return nil, err
		}
	}
	check.Judge(rows)
	out.Columns = check.Held(rows)
	out.Rows, err = json.Marshal(rows)
	return out, err
}

// feeds says, of every value that one of the app's registrations supplies, what the one that takes it has.
func (r *Records) feeds(ctx context.Context, c Caller, app string, regs []shape.Registration) ([]check.Feed, error) {
	list, err := r.Connections(ctx, c, app)
	if err != nil {
		return nil, err
	}
	var out []check.Feed
	for _, x := range list {
		from := slices.IndexFunc(regs, func(g shape.Registration) bool { return g.ID == x.Supplier })
		to := slices.IndexFunc(regs, func(g shape.Registration) bool { return g.ID == x.Registration })
		if from < 0 || to < 0 {
			continue
		}
		f := check.Feed{Service: x.From, Environment: x.FromWhere, Title: x.Value, Column: "second service"}
		for _, v := range regs[from].Values {
			if v.Name == x.Value {
				f.Title = v.Title
				if v.Exposure == "client" {
					f.Value = v.Value
				}
			}
		}
		f.Has.Where = regs[to].Title + ": " + x.Title
		switch field, is := strings.CutPrefix(x.Slot, "field "); {
		case is:
			f.Column = "hosted builder"
			if f.Has.Value = regs[to].Fields[field]; f.Has.Value == "" {
				f.Has.Note = "empty"
			}
		case x.State == "saved" && f.Value != "":
			f.Has.Value = f.Value
		case x.State == "saved":
			f.Has.Value = check.Kept
		default:
			f.Has.Note = x.Say
		}
		out = append(out, f)
	}
	return out, nil
}

// merge adds rows for registered identities that no report knows, and puts in what the service has now.
func merge(rows []check.Row, regs []shape.Registration) []check.Row {
	for _, g := range regs {
		for _, i := range g.Identities {
			known := false
			for k := range rows {
				x := &rows[k]
				if x.Service != g.Service || x.Environment != g.Environment || string(x.Platform) != i.Platform || x.Identity != i.Identifier {
					continue
				}
				known = true
				for _, v := range i.Values {
					if v.Title == x.What {
						x.Cells["service"] = check.Cell{Value: v.Value}
					}
				}
				if x.What == "revision" && !g.ByHand { // files that were recorded by hand count by themselves
					x.Cells["service"] = check.Cell{Value: strconv.Itoa(g.Revision)}
				}
			}
			if known {
				continue
			}
			add := func(what, value string) {
				rows = append(rows, check.Row{Service: g.Service, Environment: g.Environment, Platform: platform(i.Platform), Identity: i.Identifier, What: what, Cells: map[string]check.Cell{"service": {Value: value}}})
			}
			add(idTitle(i.Platform), i.Identifier)
			for _, v := range i.Values {
				if v.Exposure == "client" {
					add(v.Title, v.Value)
				}
			}
		}
	}
	return rows
}

// lastSeen fills the last column from the newest sighting of the row's identity.
func (r *Records) lastSeen(ctx context.Context, c Caller, app string, row *check.Row) error {
	var facts []byte
	var at time.Time
	var registration uuid.UUID
	err := r.DB.QueryRow(ctx, `SELECT s.registration, s.facts, s.at FROM sightings s JOIN registrations g ON g.team = s.team AND g.id = s.registration JOIN apps a ON a.team = g.team AND a.id = g.app
		WHERE s.team = $1 AND a.name = $2 AND g.service = $3 AND g.environment = $4 AND s.platform = $5 AND s.identifier = $6 ORDER BY s.at DESC LIMIT 1`,
		c.Team, app, row.Service, row.Environment, row.Platform, row.Identity).Scan(&registration, &facts, &at)
	if store.None(err) {
		return nil
	}
	if err != nil {
		return err
	}
	values, err := r.openFacts(c, registration, facts)
	if err != nil {
		return err
	}
	name := row.What
	if name == idTitle(string(row.Platform)) {
		name = "identity"
	} else if s, err := r.sheetOf(ctx, c.Team, row.Service); err == nil { // a report may name a service that is gone
		for _, v := range s.Issues.Values {
			if v.Title == row.What {
				name = v.ID
			}
		}
	}
	if v, ok := values[name]; ok {
		row.Cells["last sighting"] = check.Cell{Value: v, Where: at.UTC().Format("2006-01-02 15:04:05 UTC")}
	}
	return nil
}

// Events gives a team's live events after one; the newest ID when there are none.
func (r *Records) Events(ctx context.Context, c Caller, after int64, limit int) ([]shape.Event, error) {
	rows, err := r.DB.Query(ctx, `SELECT id, topic, body FROM outbox WHERE team = $1 AND id > $2 ORDER BY id LIMIT $3`, c.Team, after, limit)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, func(row pgx.CollectableRow) (shape.Event, error) {
		var e shape.Event
		err := row.Scan(&e.ID, &e.Topic, &e.Body)
		return e, err
	})
}

// LastEvent gives the newest event's ID.
func (r *Records) LastEvent(ctx context.Context, c Caller) (id int64, err error) {
	err = r.DB.QueryRow(ctx, `SELECT coalesce(max(id), 0) FROM outbox WHERE team = $1`, c.Team).Scan(&id)
	return id, err
}

// Job is work that is due.
type Job struct {
	ID      int64
	Team    uuid.UUID
	Kind    string
	Subject string
	Tries   int
}

// Take takes one job that is due and hides it for a while, so that no other server takes it too.
func (r *Records) Take(ctx context.Context, hide time.Duration) (*Job, error) {
	j := &Job{}
	err := r.DB.QueryRow(ctx, `UPDATE jobs SET due = now() + $1, tries = tries + 1 WHERE id = (SELECT id FROM jobs WHERE due <= now() ORDER BY due LIMIT 1 FOR UPDATE SKIP LOCKED)
		RETURNING id, team, kind, subject, tries`, hide).Scan(&j.ID, &j.Team, &j.Kind, &j.Subject, &j.Tries)
	if store.None(err) {
		return nil, nil
	}
	return j, err
}

// Again puts a standing job back, to be done after a while.
func (r *Records) Again(ctx context.Context, j *Job, after time.Duration, problem string) error {
	_, err := r.DB.Exec(ctx, `UPDATE jobs SET due = now() + $2, problem = $3, tries = CASE WHEN $3 = '' THEN 0 ELSE tries END WHERE id = $1`, j.ID, after, problem)
	return err
}

// Drop ends a job.
func (r *Records) Drop(ctx context.Context, j *Job) error {
	_, err := r.DB.Exec(ctx, `DELETE FROM jobs WHERE id = $1`, j.ID)
	return err
}
