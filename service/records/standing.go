package records

import (
	"context"
	"errors"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"ligare/client/shape"
	"ligare/core/asking"
	"ligare/core/sheet"
	"ligare/service/registrar"
)

// opened gives a connector the credential of a registration, where the protocol has one.
func (r *Records) opened(c Caller, reg *row, remote *registrar.Remote) error {
	if len(reg.access) == 0 {
		return nil
	}
	var err error
	remote.Access, err = r.Keys.Open(reg.access, c.Team.String(), reg.id.String(), "access")
	return err
}

// working gives a registration under its lock, with its service spoken to.
func (r *Records) working(ctx context.Context, c Caller, id string) (*row, *sheet.Sheet, *registrar.Remote, func(), error) {
	if err := c.Need("developer"); err != nil {
		return nil, nil, nil, nil, err
	}
	g, err := r.row(ctx, c, id)
	if err != nil {
		return nil, nil, nil, nil, err
	}
	s, err := r.sheetOf(ctx, c.Team, g.service)
	if err != nil {
		return nil, nil, nil, nil, err
	}
	var remote *registrar.Remote
	if !s.ByHand() {
		if remote, _, err = r.remote(ctx, c.Team, s); err != nil {
			return nil, nil, nil, nil, err
		}
	}
	release, ok, err := r.locks.hold(ctx, r.DB, g.id)
	if err != nil {
		return nil, nil, nil, nil, err
	}
	if !ok {
		return nil, nil, nil, nil, fail(Clash, "Wait until it is done, then run the command again.", "somebody is working on %s at %s right now", g.appName, s.Title)
	}
	if g, err = r.row(ctx, c, id); err == nil && remote != nil {
		err = r.opened(c, g, remote)
	}
	if err != nil {
		release()
		return nil, nil, nil, nil, err
	}
	return g, s, remote, release, nil
}

// registered is working for a registration that stands at its service.
func (r *Records) registered(ctx context.Context, c Caller, id string) (*row, *sheet.Sheet, *registrar.Remote, func(), error) {
	g, s, remote, release, err := r.working(ctx, c, id)
	if err != nil {
		return nil, nil, nil, nil, err
	}
	if !s.ByHand() && g.remote == "" {
		release()
		return nil, nil, nil, nil, fail(Clash, "Run the registration again: ligare register "+g.service, "it was never completed: %s", g.problem)
	}
	return g, s, remote, release, nil
}

// Refresh fetches a registration's values and files again.
func (r *Records) Refresh(ctx context.Context, c Caller, id string) (*shape.Registration, error) {
	g, s, remote, release, err := r.registered(ctx, c, id)
	if err != nil {
		return nil, err
	}
	defer release()
	if s.ByHand() {
		return r.Registration(ctx, c, id)
	}
	now, err := registrar.To(remote).Get(ctx, g.remote)
	if err != nil {
		return nil, explain(s, err)
	}
	if err := r.absorb(ctx, c, s, remote, g, now, "refreshed"); err != nil {
		return nil, explain(s, err)
	}
	return r.Registration(ctx, c, id)
}

// Deregister takes a registration away, at the service too. What was placed in trees stays until it is taken out there.
func (r *Records) Deregister(ctx context.Context, c Caller, id string) error {
	if err := c.Need("owner"); err != nil {
		return err
	}
	g, s, remote, release, err := r.working(ctx, c, id)
	if err != nil {
		return err
	}
	defer release()
	if !s.ByHand() && g.remote == "" && g.state == "unknown" {
		return fail(Clash, "Say what is there first: ligare resolve "+g.service+" --found ID, or --absent.", "it is not known whether %s registered it", s.Title)
	}
	if !s.ByHand() && g.remote != "" {
		err := registrar.To(remote).Remove(ctx, g.remote)
		var refused *registrar.Refused
		if err != nil && (!errors.As(err, &refused) || refused.Status != 404) { // gone already is gone
			return explain(s, err)
		}
	}
	return pgx.BeginFunc(ctx, r.DB, func(tx pgx.Tx) error {
		if err := r.audit(ctx, tx, c, "registration removed", g.appName+" at "+s.Service+" "+g.environment, map[string]string{"remote": g.remote}); err != nil {
			return err
		}
		for _, q := range []string{`DELETE FROM sightings WHERE team = $1 AND registration = $2`, `DELETE FROM sightings_seen WHERE team = $1 AND registration = $2`, `DELETE FROM jobs WHERE team = $1 AND subject = $2::text`} {
			if _, err := tx.Exec(ctx, q, c.Team, g.id); err != nil {
				return err
			}
		}
		if _, err := tx.Exec(ctx, `DELETE FROM registrations WHERE team = $1 AND id = $2`, c.Team, g.id); err != nil {
			return err
		}
		return r.emit(ctx, tx, c.Team, "registration", map[string]string{"app": g.appName, "service": s.Service})
	})
}

// supplies finds what the app's other registrations supply, for a registration in an environment.
func (r *Records) supplies(ctx context.Context, c Caller, w *wish, k *asking.Work) error {
	if len(w.sheet.Intakes()) == 0 {
		return nil
	}
	list, err := r.suppliers(ctx, c, uuid.MustParse(w.app.ID))
	if err != nil {
		return err
	}
	for _, s := range list {
		if s.environment != "" && w.in.Environment != "" && s.environment != w.in.Environment || w.reg != nil && s.registration == w.reg.id {
			continue
		}
		k.Supplies[s.value.Supplies] = append(k.Supplies[s.value.Supplies], asking.Supply{Registration: s.registration.String(), From: s.from(), Value: s.text, Secret: s.value.Exposure == sheet.Server})
	}
	for slot, chosen := range k.Chosen { // named by service/environment as well as by ID
		for _, s := range list {
			if chosen == s.service || chosen == s.service+"/"+s.environment {
				k.Chosen[slot] = s.registration.String()
			}
		}
	}
	return nil
}
