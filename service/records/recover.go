package records

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"ligare/client/shape"
	"ligare/core/sheet"
	"ligare/service/registrar"
	"ligare/service/store"
)

// Unknown is an outcome that only a person can find out.
type Unknown struct{ Sheet *sheet.Sheet }

func (e *Unknown) Error() string {
	return "the answer of " + e.Sheet.Title + " was lost, and it cannot be asked whether it registered: the outcome is unknown"
}

// create makes the registration at the service: the request and its key are recorded first. After a lost answer, the
// recorded request is recovered the way the sheet says: repeated under its key, looked up, or left to a person.
func (r *Records) create(ctx context.Context, c Caller, w *wish, remote *registrar.Remote, want registrar.New) (*registrar.Registration, error) {
	how := w.sheet.Connector.LostAnswer
	st, again, err := r.step(ctx, c, w, remote, "create", want)
	if err != nil {
		return nil, err
	}
	service := registrar.To(remote)
	if again { // an earlier attempt was sent, and nobody knows what became of it
		switch how {
		case sheet.Never:
			return nil, &Unknown{w.sheet}
		case sheet.ByReference:
			if found, err := service.ByReference(ctx, want.Reference); err != nil || found != nil {
				return r.settled(ctx, c, w, found, err)
			}
		}
	}
	w.sent = st.want.Answers
	now, err := service.Create(ctx, st.key.String(), st.want)
	var lost *registrar.Lost
	if errors.As(err, &lost) && how == sheet.ByReference {
		now, err = r.lookUp(ctx, service, want.Reference, err)
	}
	if err == nil && now.Reference != want.Reference {
		err = &registrar.Lost{Err: fmt.Errorf("the answer is not of its protocol: it is about %q, and %q was asked for", now.Reference, want.Reference)}
	}
	return r.settled(ctx, c, w, now, err)
}

// lookUp asks whether a request whose answer was lost was done after all; what was lost stays lost when it was not found.
func (r *Records) lookUp(ctx context.Context, s registrar.Service, reference string, lost error) (*registrar.Registration, error) {
	found, err := s.ByReference(ctx, reference)
	if err != nil || found == nil {
		return nil, lost
	}
	return found, nil
}

// attempt is a recorded step.
type attempt struct {
	key  uuid.UUID
	want registrar.New
}

// step records a request before it is sent. again is true when one was recorded before and its outcome is not known: the
// request of then counts, so that it can be repeated letter by letter.
func (r *Records) step(ctx context.Context, c Caller, w *wish, remote *registrar.Remote, name string, want registrar.New) (st attempt, again bool, err error) {
	place := []string{c.Team.String(), w.reg.id.String(), "step", name}
	var sealed, token []byte
	if w.first != nil && name == "create" && w.reg.step != nil && *w.reg.step == w.first.key { // recorded with the request, a moment ago
		return *w.first, false, nil
	}
	err = r.DB.QueryRow(ctx, `SELECT key, request, attempt FROM registration_steps WHERE team = $1 AND registration = $2 AND step = $3`, c.Team, w.reg.id, name).Scan(&st.key, &sealed, &token)
	if err == nil {
		text, err := r.Keys.Open(sealed, place...)
		if err != nil {
			return st, true, err
		}
		if len(token) > 0 {
			if remote.Attempt, err = r.Keys.Open(token, place...); err != nil {
				return st, true, err
			}
		}
		return st, true, json.Unmarshal([]byte(text), &st.want)
	}
	if !store.None(err) {
		return st, false, err
	}
	st = attempt{uuid.New(), want}
	if t, ok := registrar.To(remote).(registrar.Tokener); ok { // a token for this attempt, kept before it is used
		if remote.Attempt, err = t.InitialToken(ctx); err != nil {
			var lost *registrar.Lost
			if errors.As(err, &lost) { // nothing was registered: another token will do
				err = &registrar.Unreachable{Address: remote.Address, Err: lost.Err}
			}
			return st, false, err
		}
		if token, err = r.Keys.Seal(remote.Attempt, place...); err != nil {
			return st, false, err
		}
	}
	b := &pgx.Batch{}
	if err := r.queueStep(b, c, w.reg.id, st, token); err != nil {
		return st, false, err
	}
	return st, false, r.DB.SendBatch(ctx, b).Close()
}

// queueStep records a create with the key that makes it repeatable.
func (r *Records) queueStep(b *pgx.Batch, c Caller, reg uuid.UUID, st attempt, token []byte) error {
	body, err := json.Marshal(st.want)
	if err != nil {
		return err
	}
	sealed, err := r.Keys.Seal(string(body), c.Team.String(), reg.String(), "step", "create")
	if err != nil {
		return err
	}
	b.Queue(`INSERT INTO registration_steps (team, registration, step, key, request, attempt, state) VALUES ($1, $2, 'create', $3, $4, $5, 'tried')`, c.Team, reg, st.key, sealed, token)
	return nil
}

// settled records what became of a create. What was certainly not done is forgotten, so that the next attempt is a new one.
func (r *Records) settled(ctx context.Context, c Caller, w *wish, now *registrar.Registration, err error) (*registrar.Registration, error) {
	ctx = context.WithoutCancel(ctx)
	var refused *registrar.Refused
	var away *registrar.Unreachable
	switch {
	case err == nil: // absorb says so, with what came of it
		return now, nil
	case errors.As(err, &refused), errors.As(err, &away):
		_, e := r.DB.Exec(ctx, `DELETE FROM registration_steps WHERE team = $1 AND registration = $2 AND step = 'create'`, c.Team, w.reg.id)
		return nil, errors.Join(err, e)
	}
	_, e := r.DB.Exec(ctx, `UPDATE registration_steps SET state = 'unknown', detail = $3 WHERE team = $1 AND registration = $2 AND step = 'create'`, c.Team, w.reg.id, err.Error())
	var lost *registrar.Lost
	if errors.As(err, &lost) && w.sheet.Connector.LostAnswer == sheet.Never {
		err = &Unknown{w.sheet}
	}
	return nil, errors.Join(err, e)
}

// stopped records why registering stopped.
func (r *Records) stopped(ctx context.Context, c Caller, w *wish, cause error) error {
	ctx = context.WithoutCancel(ctx)
	out := explain(w.sheet, cause)
	state, remedy := "failed", ""
	var lost *registrar.Lost
	var unknown *Unknown
	if errors.As(cause, &lost) || errors.As(cause, &unknown) {
		state = "unknown"
	}
	if e, ok := As(out); ok {
		remedy = e.Remedy
	}
	if w.reg.remote != "" {
		state = "registered" // it stands; only the addition failed
	}
	var refused *registrar.Refused
	if errors.As(cause, &refused) { // what was refused is forgotten, so that it does not stand in the way of a corrected request
		if err := r.forget(ctx, c, w); err != nil {
			return errors.Join(out, err)
		}
	}
	_, err := r.DB.Exec(ctx, `UPDATE registrations SET state = $3, problem = $4, remedy = $5 WHERE team = $1 AND id = $2`, c.Team, w.reg.id, state, out.Error(), remedy)
	return errors.Join(out, err)
}

// forget drops identities that nothing was issued for, and answers that the service does not have.
func (r *Records) forget(ctx context.Context, c Caller, w *wish) error {
	b := &pgx.Batch{}
	if w.reg.remote == "" {
		b.Queue(`DELETE FROM registration_identities WHERE team = $1 AND registration = $2`, c.Team, w.reg.id)
		b.Queue(`DELETE FROM sealed_answers WHERE team = $1 AND registration = $2`, c.Team, w.reg.id)
		b.Queue(`UPDATE registrations SET answers = '{}', berths = '{}' WHERE team = $1 AND id = $2`, c.Team, w.reg.id)
	} else {
		for name := range w.in.Answers { // back to what the service has
			b.Queue(`UPDATE registrations SET answers = answers - $3::text WHERE team = $1 AND id = $2`, c.Team, w.reg.id, name)
			b.Queue(`DELETE FROM sealed_answers WHERE team = $1 AND registration = $2 AND name = $3`, c.Team, w.reg.id, name)
		}
		b.Queue(`UPDATE registrations SET answers = answers || $3 WHERE team = $1 AND id = $2`, c.Team, w.reg.id, w.answers)
		for _, i := range w.in.Identities {
			b.Queue(`DELETE FROM registration_identities ri USING identities i WHERE ri.team = $1 AND ri.registration = $2 AND i.team = ri.team AND i.id = ri.identity AND i.platform = $3 AND i.identifier = $4 AND ri.received = '{}' AND ri.digests = '{}'
				AND NOT EXISTS (SELECT 1 FROM issued_values v WHERE v.team = ri.team AND v.registration = ri.registration AND v.identity = ri.identity)`, c.Team, w.reg.id, i.Platform, i.Identifier)
			b.Queue(`UPDATE registration_identities ri SET answers = '{}' FROM identities i WHERE ri.team = $1 AND ri.registration = $2 AND i.team = ri.team AND i.id = ri.identity AND i.platform = $3 AND i.identifier = $4`, c.Team, w.reg.id, i.Platform, i.Identifier)
		}
		for _, x := range w.in.Berths {
			b.Queue(`UPDATE registrations SET berths = berths - $3::text WHERE team = $1 AND id = $2 AND NOT received ? ('berth ' || $3)`, c.Team, w.reg.id, x.Name)
		}
	}
	return r.DB.SendBatch(ctx, b).Close()
}

// Resolve takes what a person found at the service after an answer was lost for good: its name of the registration, or
// that there is none.
func (r *Records) Resolve(ctx context.Context, c Caller, id string, in shape.Resolve) (*shape.Registration, error) {
	if err := c.Need("developer"); err != nil {
		return nil, err
	}
	if (in.Found == "") == !in.Absent {
		return nil, fail(BadInput, "Say one of the two.", "either a registration was found there, or there is none")
	}
	g, s, remote, release, err := r.working(ctx, c, id)
	if err != nil {
		return nil, err
	}
	defer release()
	if g.remote != "" {
		return nil, fail(Clash, "There is nothing to resolve.", "the registration is known at %s as %s", s.Title, g.remote)
	}
	if in.Absent {
		b := &pgx.Batch{}
		b.Queue(`DELETE FROM registration_steps WHERE team = $1 AND registration = $2 AND step = 'create'`, c.Team, g.id)
		b.Queue(`UPDATE registrations SET state = 'failed', problem = 'Nothing was registered.', remedy = 'Run the registration again.' WHERE team = $1 AND id = $2`, c.Team, g.id)
		if err := r.DB.SendBatch(ctx, b).Close(); err != nil {
			return nil, err
		}
		return r.Registration(ctx, c, id)
	}
	now, err := registrar.To(remote).Get(ctx, in.Found)
	if err != nil {
		return nil, explain(s, err)
	}
	if now.Reference != "" && now.Reference != g.id.String() {
		return nil, fail(Clash, "Look for the one that was made at this time; its reference would be "+g.id.String()+".", "%s at %s belongs to another registration (reference %s)", in.Found, s.Title, now.Reference)
	}
	if err := r.absorb(ctx, c, s, remote, g, now, "resolved"); err != nil {
		return nil, explain(s, err)
	}
	return r.Registration(ctx, c, id)
}
