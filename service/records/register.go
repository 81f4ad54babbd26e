package records

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"ligare/client/shape"
	"ligare/core/asking"
	"ligare/core/ident"
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
	fields                                                        map[string]string
	berths                                                        map[string]string
	access                                                        []byte
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

// opened gives a connector the credential of a registration, where the protocol has one.
func (r *Records) opened(c Caller, reg *row, remote *registrar.Remote) error {
	if len(reg.access) == 0 {
		return nil
	}
	var err error
	remote.Access, err = r.Keys.Open(reg.access, c.Team.String(), reg.id.String(), "access")
	return err
}

// wanted is the whole request as the records have it now.
func (r *Records) wanted(ctx context.Context, c Caller, w *wish) (registrar.New, error) {
	out := registrar.New{Reference: w.reg.id.String(), Answers: map[string]string{}, Identities: []registrar.NewIdentity{}, Features: append([]string{}, w.in.Features...)}
	for k, v := range w.reg.answers {
		out.Answers[k] = v
	}
	rows, err := r.DB.Query(ctx, `SELECT name, sealed FROM sealed_answers WHERE team = $1 AND registration = $2`, c.Team, w.reg.id)
	if err != nil {
		return out, err
	}
	for rows.Next() {
		var name string
		var sealed []byte
		if err := rows.Scan(&name, &sealed); err != nil {
			rows.Close()
			return out, err
		}
		if out.Answers[name], err = r.Keys.Open(sealed, c.Team.String(), w.reg.id.String(), "answer", name); err != nil {
			rows.Close()
			return out, err
		}
	}
	if err := rows.Err(); err != nil {
		return out, err
	}
	for _, l := range w.plan.Redirects {
		out.Redirects = append(out.Redirects, l.Value)
	}
	if rows, err = r.DB.Query(ctx, `SELECT i.platform, i.identifier, i.display_name, ri.answers FROM registration_identities ri JOIN identities i ON i.team = ri.team AND i.id = ri.identity
		WHERE ri.team = $1 AND ri.registration = $2 ORDER BY i.platform, i.identifier`, c.Team, w.reg.id); err != nil {
		return out, err
	}
	defer rows.Close()
	for rows.Next() {
		i := registrar.NewIdentity{}
		if err := rows.Scan(&i.Platform, &i.Identifier, &i.DisplayName, &i.Answers); err != nil {
			return out, err
		}
		if i.DisplayName == "" {
			i.DisplayName = w.app.Title
		}
		out.Identities = append(out.Identities, i)
	}
	return out, rows.Err()
}

// converge does what is missing at the service and gives its view.
func (r *Records) converge(ctx context.Context, c Caller, w *wish, remote *registrar.Remote) (*registrar.Registration, error) {
	var want registrar.New
	var err error
	if w.first != nil && w.reg.remote == "" { // it was just recorded whole
		want = w.first.want
	} else if want, err = r.wanted(ctx, c, w); err != nil {
		return nil, err
	}
	var now *registrar.Registration
	if w.reg.remote == "" {
		now, err = r.create(ctx, c, w, remote, want)
	} else {
		now, err = registrar.To(remote).Get(ctx, w.reg.remote)
	}
	if err != nil {
		return nil, err
	}
	if now.Access != "" {
		remote.Access = now.Access
	}
	steps := []func(context.Context, *wish, registrar.Service, *registrar.Registration, registrar.New) (*registrar.Registration, error){addIdentities, addDigests, giveAnswers, saveRedirects, setFeatures, addBerths}
	for _, step := range steps {
		if now, err = step(ctx, w, registrar.To(remote), now, want); err != nil {
			return nil, err
		}
	}
	return now, nil
}

func has(now *registrar.Registration, i registrar.NewIdentity) *registrar.Identity {
	for k := range now.Identities {
		if x := &now.Identities[k]; x.Platform == i.Platform && x.Identifier == i.Identifier {
			return x
		}
	}
	return nil
}

func addIdentities(ctx context.Context, w *wish, s registrar.Service, now *registrar.Registration, want registrar.New) (_ *registrar.Registration, err error) {
	for _, i := range want.Identities {
		if has(now, i) == nil {
			key := uuid.NewSHA1(w.reg.id, []byte("identity "+i.Platform+" "+i.Identifier)).String()
			if now, err = s.AddIdentity(ctx, now.ID, key, i); err != nil {
				return nil, err
			}
		}
	}
	return now, nil
}

func addDigests(ctx context.Context, w *wish, s registrar.Service, now *registrar.Registration, want registrar.New) (_ *registrar.Registration, err error) {
	for _, i := range want.Identities {
		for _, a := range w.sheet.Asks {
			d := i.Answers[a.ID]
			x := has(now, i)
			if a.DigestForm() == "" || d == "" || !a.For(ident.Platform(i.Platform)) || x == nil || slices.Contains(x.Digests, d) {
				continue
			}
			key := uuid.NewSHA1(w.reg.id, []byte("digest "+i.Identifier+" "+d)).String()
			if now, err = s.AddDigest(ctx, now.ID, key, i.Platform, i.Identifier, d); err != nil {
				return nil, err
			}
		}
	}
	return now, nil
}

// giveAnswers changes the answers that the service has otherwise. One it says nothing of is not sent again.
func giveAnswers(ctx context.Context, w *wish, s registrar.Service, now *registrar.Registration, want registrar.New) (_ *registrar.Registration, err error) {
	for _, a := range w.sheet.Asks {
		if v := want.Answers[a.ID]; a.Per == "" && v != "" && now.Received[a.ID] != registrar.Digest(v) && (now.Received != nil || w.in.Answers[a.ID] != "" && w.sent[a.ID] != v && w.answers[a.ID] != v) {
			if now, err = s.SetAnswer(ctx, now.ID, a.ID, v, "", ""); err != nil {
				return nil, err
			}
		}
		for _, i := range want.Identities {
			x := has(now, i)
			v := i.Answers[a.ID]
			if !a.For(ident.Platform(i.Platform)) || a.DigestForm() != "" || v == "" || x == nil || x.Received == nil || x.Received[a.ID] == registrar.Digest(v) {
				continue
			}
			if now, err = s.SetAnswer(ctx, now.ID, a.ID, v, i.Platform, i.Identifier); err != nil {
				return nil, err
			}
		}
	}
	return now, nil
}

func saveRedirects(ctx context.Context, w *wish, s registrar.Service, now *registrar.Registration, want registrar.New) (*registrar.Registration, error) {
	if w.sheet.Redirects == nil {
		return now, nil
	}
	list := want.Redirects
	for _, u := range now.Redirects { // one that somebody saved there by hand stays
		if !slices.Contains(list, u) && !slices.Contains(w.in.NoRedirects, u) {
			list = append(list, u)
		}
	}
	if same(list, now.Redirects) {
		return now, nil
	}
	after, err := s.SetRedirects(ctx, now.ID, list)
	if err == nil && !same(list, after.Redirects) { // typed is not saved
		return nil, fail(Upstream, "Look at the service, and run the command again.", "%s took the redirect URIs and does not show them all afterwards", w.sheet.Title)
	}
	return after, err
}

func same(a, b []string) bool {
	x, y := slices.Clone(a), slices.Clone(b)
	slices.Sort(x)
	slices.Sort(y)
	return slices.Equal(x, y)
}

func setFeatures(ctx context.Context, w *wish, s registrar.Service, now *registrar.Registration, _ registrar.New) (_ *registrar.Registration, err error) {
	for _, on := range []bool{true, false} {
		list := w.in.Features
		if !on {
			list = w.in.FeaturesOff
		}
		for _, f := range list {
			if slices.Contains(now.Features, f) != on {
				if now, err = s.SetFeature(ctx, now.ID, f, on); err != nil {
					return nil, err
				}
			}
		}
	}
	return now, nil
}

func addBerths(ctx context.Context, w *wish, s registrar.Service, now *registrar.Registration, _ registrar.New) (_ *registrar.Registration, err error) {
	for _, b := range w.in.Berths {
		if !slices.ContainsFunc(now.Berths, func(x registrar.Berth) bool { return x.Name == b.Name }) {
			if now, err = s.SetBerth(ctx, now.ID, b.Name); err != nil {
				return nil, err
			}
		}
	}
	return now, nil
}

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
