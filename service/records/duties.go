package records

import (
	"context"
	"time"

	"github.com/jackc/pgx/v5"

	"ligare/client/shape"
	"ligare/service/store"
)

// Duties gives what only a person can do or confirm, for an app: open ones first within each registration's order.
func (r *Records) Duties(ctx context.Context, c Caller, app string) ([]shape.Duty, error) {
	regs, err := r.Registrations(ctx, c, app)
	if err != nil {
		return nil, err
	}
	out := []shape.Duty{}
	for _, g := range regs {
		out = append(out, g.Duties...)
	}
	return out, nil
}

// SetDuty confirms a duty, with who and when, or takes the confirmation back.
func (r *Records) SetDuty(ctx context.Context, c Caller, id, duty string, in shape.DutyDone) (*shape.Registration, error) {
	if err := c.Need("developer"); err != nil {
		return nil, err
	}
	if c.Kind == "machine" {
		return nil, fail(Forbidden, "Sign in as a person.", "a duty is confirmed by a person, not by a machine's token")
	}
	g, err := r.row(ctx, c, id)
	if err != nil {
		return nil, err
	}
	s, err := r.sheetOf(ctx, c.Team, g.service)
	if err != nil {
		return nil, err
	}
	if s.Duty(duty) == nil {
		var names []string
		for _, d := range s.Duties {
			names = append(names, d.ID)
		}
		return nil, fail(Missing, "Its duties: "+join(names)+".", "%s has no duty %q", s.Title, duty)
	}
	var done *time.Time
	who := ""
	if in.Done {
		now := time.Now()
		done, who = &now, c.Name
	}
	err = pgx.BeginFunc(ctx, r.DB, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `INSERT INTO duties (team, registration, duty, done, done_by, note) VALUES ($1, $2, $3, $4, $5, $6)
			ON CONFLICT (team, registration, duty) DO UPDATE SET done = excluded.done, done_by = excluded.done_by, note = excluded.note`, c.Team, g.id, duty, done, who, in.Note); err != nil {
			return err
		}
		if err := r.audit(ctx, tx, c, "duty confirmed", g.appName+" at "+g.service+": "+duty, in); err != nil {
			return err
		}
		return r.emit(ctx, tx, c.Team, "registration", map[string]string{"app": g.appName, "service": g.service})
	})
	if err != nil {
		return nil, err
	}
	return r.Registration(ctx, c, id)
}

// Publish marks an identity as published: from then on its identifier is frozen. It cannot be taken back, as a store does
// not take it back either.
func (r *Records) Publish(ctx context.Context, c Caller, app string, in shape.Published) (*shape.App, error) {
	if err := c.Need("developer"); err != nil {
		return nil, err
	}
	a, err := r.App(ctx, c, app)
	if err != nil {
		return nil, err
	}
	err = pgx.BeginFunc(ctx, r.DB, func(tx pgx.Tx) error {
		tag, err := tx.Exec(ctx, `UPDATE identities SET published = coalesce(published, now()), published_by = CASE WHEN published IS NULL THEN $5 ELSE published_by END,
			store_id = CASE WHEN $6 = '' THEN store_id ELSE $6 END WHERE team = $1 AND app = $2 AND platform = $3 AND identifier = $4`, c.Team, a.ID, in.Platform, in.Identifier, c.Name, in.StoreID)
		if err != nil {
			return err
		}
		if tag.RowsAffected() == 0 {
			return fail(Missing, "See its identities with: ligare app show "+app, "%s is not an %s identity of %s", in.Identifier, in.Platform, app)
		}
		if err := r.audit(ctx, tx, c, "identity published", in.Platform+" "+in.Identifier, in); err != nil {
			return err
		}
		return r.emit(ctx, tx, c.Team, "app", map[string]string{"app": app})
	})
	if err != nil {
		return nil, err
	}
	return r.App(ctx, c, app)
}

// DropIdentity takes an identity out of an app; one that is published or registered stays.
func (r *Records) DropIdentity(ctx context.Context, c Caller, app, platform, identifier string) error {
	if err := c.Need("developer"); err != nil {
		return err
	}
	a, err := r.App(ctx, c, app)
	if err != nil {
		return err
	}
	return pgx.BeginFunc(ctx, r.DB, func(tx pgx.Tx) error {
		var id string
		var published *time.Time
		err := tx.QueryRow(ctx, `SELECT id, published FROM identities WHERE team = $1 AND app = $2 AND platform = $3 AND identifier = $4 FOR UPDATE`, c.Team, a.ID, platform, identifier).Scan(&id, &published)
		switch {
		case store.None(err):
			return fail(Missing, "See its identities with: ligare app show "+app, "%s is not an %s identity of %s", identifier, platform, app)
		case err != nil:
			return err
		case published != nil:
			return fail(Clash, "A published identifier never changes; publish another app under another identifier.", "%s was published on %s and is frozen", identifier, published.Format(time.DateOnly))
		}
		var at []string
		if err := tx.QueryRow(ctx, `SELECT coalesce(array_agg(DISTINCT g.service), '{}') FROM registration_identities ri JOIN registrations g ON g.team = ri.team AND g.id = ri.registration WHERE ri.team = $1 AND ri.identity = $2`, c.Team, id).Scan(&at); err != nil {
			return err
		}
		if len(at) > 0 {
			return fail(Clash, "Remove those registrations first.", "%s is registered at %s", identifier, join(at))
		}
		if _, err := tx.Exec(ctx, `DELETE FROM identities WHERE team = $1 AND id = $2`, c.Team, id); err != nil {
			return err
		}
		if err := r.audit(ctx, tx, c, "identity dropped", platform+" "+identifier, map[string]string{}); err != nil {
			return err
		}
		return r.emit(ctx, tx, c.Team, "app", map[string]string{"app": app})
	})
}
