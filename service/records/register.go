package records

import (
	"cmp"
	"context"
	"slices"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"ligare/client/shape"
	"ligare/core/sheet"
	"ligare/service/registrar"
	"ligare/service/store"
)

// row is a registration as it is stored.
type row struct {
	id, app                                                       uuid.UUID
	appName, service, environment, state, remote, problem, remedy string
	identity                                                      *uuid.UUID
	revision                                                      int
	features, redirects                                           []string
	answers                                                       map[string]string
	received                                                      map[string]string
	open                                                          []shape.OpenAccess
	fields                                                        map[string]string
	berths                                                        map[string]string
	access                                                        []byte
	changed                                                       time.Time            // when the revision was raised last
	step                                                          *uuid.UUID           // key of the recorded create, nil for none
	known                                                         map[string]uuid.UUID // the app's identities, where they were read already
}

// Register makes a registration, or brings one that exists to what is asked: identities, answers, digests, redirects,
// features, berths. It is a sequence of recorded steps: run again after any failure it goes on where it stopped, and
// nothing is made twice. Where a lost answer cannot be recovered the outcome is unknown until a person has looked (Resolve).
func (r *Records) Register(ctx context.Context, c Caller, in shape.Register) (*shape.Registration, error) {
	if err := c.Need("developer"); err != nil {
		return nil, err
	}
	w, err := r.wish(ctx, c, in)
	if err != nil {
		return nil, err
	}
	if err := refuse(w.plan); err != nil {
		return nil, err
	}
	if err := w.fixed(); err != nil {
		return nil, err
	}
	if err := w.prerequisites(); err != nil {
		return nil, err
	}
	var remote *registrar.Remote
	var account *uuid.UUID
	if !w.sheet.ByHand() {
		if w.account == nil {
			return nil, noAccount(w.sheet)
		}
		if remote, err = r.spoken(c.Team, w.sheet, w.account); err != nil {
			return nil, err
		}
		account = &w.account.id
	}
	release, err := r.begin(ctx, c, w, account)
	if err != nil {
		return nil, err
	}
	defer release()
	if w.sheet.ByHand() {
		return r.byHand(ctx, c, w)
	}
	if err := r.opened(c, w.reg, remote); err != nil {
		return nil, err
	}
	now, err := r.converge(ctx, c, w, remote)
	if err == nil {
		err = r.absorb(ctx, c, w.sheet, remote, w.reg, now, "registered")
	}
	if err != nil {
		return nil, r.stopped(ctx, c, w, err)
	}
	return r.registration(ctx, c, w.reg.id.String(), w.sheet)
}

// fixed refuses to change an answer that the service keeps for good.
func (w *wish) fixed() error {
	for _, a := range w.sheet.Asks {
		had, now := w.answers[a.ID], w.in.Answers[a.ID]
		if a.Fixed && w.reg != nil && w.reg.remote != "" && had != "" && now != "" && now != had {
			return fail(Clash, "Leave it out, or register another environment.", "%s was given as %q when this was registered; it cannot be changed to %q here", a.ID, had, now)
		}
	}
	return nil
}

// prerequisites refuses a feature whose own conditions are not met, before the service would.
func (w *wish) prerequisites() error {
	for _, id := range w.in.Features {
		f := w.sheet.Feature(id)
		for _, before := range f.After {
			if !slices.Contains(w.work.Features, before) {
				return fail(BadInput, "Switch it on as well: --feature "+before+".", "%s needs %s to be on", f.Title, w.sheet.Feature(before).Title)
			}
		}
	}
	return nil
}

// begin records what is asked, before anything is sent, and gives the lock under which it is done. A new registration is
// locked before it can be seen by anybody else.
func (r *Records) begin(ctx context.Context, c Caller, w *wish, account *uuid.UUID) (_ func(), err error) {
	w.id = uuid.Must(uuid.NewV7())
	if w.reg != nil {
		w.id = w.reg.id
	}
	release, ok, err := r.locks.hold(ctx, r.DB, w.id)
	if err != nil {
		return nil, err
	}
	if !ok {
		return nil, busy(w)
	}
	defer func() {
		if err != nil {
			release()
		}
	}()
	b, answers, err := r.asked(c, w, account)
	if err != nil {
		return nil, err
	}
	said := w.in // what is audited: no answer that is kept sealed
	said.Answers = answers
	err = r.commit(ctx, c, b, noted{action: "registration asked for", target: w.app.Name + " at " + w.sheet.Service + " " + w.in.Environment, detail: said})
	if store.Taken(err) && w.reg == nil {
		return nil, busy(w)
	}
	if err != nil {
		return nil, err
	}
	if w.first != nil { // nobody else knows of it yet
		w.reg = &row{id: w.id, app: uuid.MustParse(w.app.ID), appName: w.app.Name, service: w.sheet.Service, environment: w.in.Environment, state: "started", answers: answers, step: &w.first.key, berths: map[string]string{}}
		for _, x := range w.in.Berths {
			w.reg.berths[x.Name] = x.Environment
		}
	} else if w.reg, err = r.row(ctx, c, w.id.String()); err != nil {
		return nil, err
	}
	w.reg.known = map[string]uuid.UUID{}
	for _, i := range w.app.Identities {
		w.reg.known[i.Platform+" "+i.Identifier] = uuid.MustParse(i.ID)
	}
	return release, nil
}

func busy(w *wish) error {
	return fail(Clash, "Wait until it is done, then run the command again.", "somebody is registering %s at %s right now", w.app.Name, w.sheet.Title)
}

// asked is the batch that records a request: the registration, its answers, its identities, and the create that follows.
func (r *Records) asked(c Caller, w *wish, account *uuid.UUID) (b *pgx.Batch, answers map[string]string, err error) {
	b, answers = &pgx.Batch{}, map[string]string{}
	if w.reg == nil {
		b.Queue(`INSERT INTO registrations (team, id, app, service, environment, identity, account, sheet, state) VALUES ($1, $2, $3, $4, $5, $6, $7, $8, 'started')`,
			c.Team, w.id, w.app.ID, w.sheet.Service, w.in.Environment, w.identityID(), account, w.sheet.Digest)
		if w.sheet.Connector.Protocol == sheet.ByProtocol {
			w.first = &attempt{uuid.New(), w.request(w.id)}
			if err := r.queueStep(b, c, w.id, *w.first, nil); err != nil {
				return nil, nil, err
			}
		}
	}
	for _, l := range w.plan.Lines {
		switch {
		case l.ID != "" || l.Value == "":
		case secret(l.Ask):
			sealed, err := r.Keys.Seal(l.Value, c.Team.String(), w.id.String(), "answer", l.Ask.ID)
			if err != nil {
				return nil, nil, err
			}
			b.Queue(`INSERT INTO sealed_answers (team, registration, name, sealed) VALUES ($1, $2, $3, $4) ON CONFLICT (team, registration, name) DO UPDATE SET sealed = excluded.sealed, given = now()`, c.Team, w.id, l.Ask.ID, sealed)
		default:
			answers[l.Ask.ID] = l.Value
		}
	}
	b.Queue(`UPDATE registrations SET answers = answers || $3, sheet = $4, account = $5 WHERE team = $1 AND id = $2`, c.Team, w.id, answers, w.sheet.Digest, account)
	for _, i := range w.in.Identities {
		r.join(b, c, w, w.id, i)
	}
	for _, x := range w.in.Berths {
		b.Queue(`UPDATE registrations SET berths = berths || $3 WHERE team = $1 AND id = $2`, c.Team, w.id, map[string]string{x.Name: x.Environment})
	}
	if w.reg == nil {
		r.rememberSheet(b, c, w.sheet)
	}
	return b, answers, nil
}

// request is the whole of a first request, which needs nothing but the plan.
func (w *wish) request(id uuid.UUID) registrar.New {
	out := registrar.New{Reference: id.String(), Answers: map[string]string{}, Identities: []registrar.NewIdentity{}, Features: append([]string{}, w.in.Features...)}
	for _, l := range w.plan.Redirects {
		out.Redirects = append(out.Redirects, l.Value)
	}
	for _, i := range w.in.Identities {
		x := registrar.NewIdentity{Platform: i.Platform, Identifier: i.Identifier, DisplayName: w.app.Title, Answers: map[string]string{}}
		for _, k := range w.app.Identities {
			if k.Platform == i.Platform && k.Identifier == i.Identifier && k.DisplayName != "" {
				x.DisplayName = k.DisplayName
			}
		}
		out.Identities = append(out.Identities, x)
	}
	for _, l := range w.plan.Lines {
		if l.Value == "" {
			continue
		}
		if l.ID == "" {
			out.Answers[l.Ask.ID] = l.Value
			continue
		}
		for k := range out.Identities {
			if x := &out.Identities[k]; x.Platform == string(l.Platform) && x.Identifier == l.ID && !secret(l.Ask) {
				x.Answers[l.Ask.ID] = l.Value
			}
		}
	}
	slices.SortFunc(out.Identities, func(a, b registrar.NewIdentity) int {
		return cmp.Or(cmp.Compare(a.Platform, b.Platform), cmp.Compare(a.Identifier, b.Identifier))
	})
	return out
}

// join adds an identity to a registration with its answers and where they were found.
func (r *Records) join(b *pgx.Batch, c Caller, w *wish, reg uuid.UUID, i shape.IdentityAnswers) {
	answers, sources := map[string]string{}, map[string]string{}
	for _, l := range w.plan.Lines {
		if l.ID == i.Identifier && string(l.Platform) == i.Platform && l.Value != "" && !secret(l.Ask) {
			answers[l.Ask.ID], sources[l.Ask.ID] = l.Value, l.From
		}
	}
	for _, k := range w.app.Identities {
		if k.Platform == i.Platform && k.Identifier == i.Identifier {
			b.Queue(`INSERT INTO registration_identities (team, registration, identity, answers, sources) VALUES ($1, $2, $3, $4, $5)
				ON CONFLICT (team, registration, identity) DO UPDATE SET answers = registration_identities.answers || excluded.answers, sources = registration_identities.sources || excluded.sources`, c.Team, reg, k.ID, answers, sources)
		}
	}
}
