package records

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"ligare/client/shape"
	"ligare/core/ident"
	"ligare/core/sheet"
	"ligare/service/registrar"
	"ligare/service/store"
)

// row is a registration as it is stored.
type row struct {
	id                                                            uuid.UUID
	app                                                           uuid.UUID
	appName, service, environment, state, remote, problem, remedy string
	revision                                                      int
	features                                                      []string
}

// Register makes a registration, or brings one that exists to what is asked: identities, digests, features. It is a
// sequence of recorded steps: run again after any failure it goes on where it stopped, and nothing is made twice.
func (r *Records) Register(ctx context.Context, c Caller, in shape.Register) (*shape.Registration, error) {
	if err := c.Need("developer"); err != nil {
		return nil, err
	}
	s, err := r.sheetOf(in.Service)
	if err != nil {
		return nil, err
	}
	app, err := r.App(ctx, c, in.App)
	if err != nil {
		return nil, err
	}
	remote, account, err := r.remote(ctx, c.Team, s)
	if err != nil {
		return nil, err
	}
	if s.Scope != "environment" {
		in.Environment = ""
	} else if !slices.Contains(app.Environments, in.Environment) {
		return nil, fail(BadInput, "Use one of: "+strings.Join(app.Environments, ", ")+".", "the app %s has no environment %q", app.Name, in.Environment)
	}
	reg, err := r.begin(ctx, c, s, app, account, in)
	if err != nil {
		return nil, err
	}
	now, err := r.converge(ctx, c, s, app, remote, reg, in)
	if err != nil {
		return nil, r.stopped(ctx, c, s, reg, err)
	}
	if err := r.absorb(ctx, c, s, remote, reg, now, "registered"); err != nil {
		return nil, r.stopped(ctx, c, s, reg, err)
	}
	return r.Registration(ctx, c, reg.id.String())
}

// begin records what is asked, before anything is sent.
func (r *Records) begin(ctx context.Context, c Caller, s *sheet.Sheet, app *shape.App, account uuid.UUID, in shape.Register) (*row, error) {
	reg := &row{id: uuid.Must(uuid.NewV7()), appName: app.Name, service: s.Service, environment: in.Environment}
	err := pgx.BeginFunc(ctx, r.DB, func(tx pgx.Tx) error {
		answers := map[string]string{}
		var had []byte
		if _, err := tx.Exec(ctx, `INSERT INTO registrations (team, id, app, service, environment, account, sheet, state) VALUES ($1, $2, $3, $4, $5, $6, $7, 'started')
			ON CONFLICT (team, app, service, environment, identity) DO NOTHING`, c.Team, reg.id, app.ID, s.Service, in.Environment, account, s.Digest); err != nil {
			return err
		}
		var busy bool
		err := tx.QueryRow(ctx, `SELECT id, state, remote, revision, answers, coalesce(busy > now(), false) FROM registrations WHERE team = $1 AND app = $2 AND service = $3 AND environment = $4 FOR UPDATE`,
			c.Team, app.ID, s.Service, in.Environment).Scan(&reg.id, &reg.state, &reg.remote, &reg.revision, &had, &busy)
		if err != nil {
			return err
		}
		if busy {
			return fail(Clash, "Wait until it is done, then run the command again.", "somebody is registering %s at %s right now", app.Name, s.Title)
		}
		if err := json.Unmarshal(had, &answers); err != nil {
			return err
		}
		for _, a := range s.Asks { // what the sheet takes from the app's name has a default
			if a.From == "app.name" && answers[a.ID] == "" {
				answers[a.ID] = strings.Trim(app.Name+"-"+in.Environment, "-")
			}
		}
		fixed := reg.remote != ""
		for k, v := range in.Answers {
			if v == "" {
				continue
			}
			if fixed && answers[k] != "" && v != answers[k] {
				return fail(Clash, "Leave it out, or register another environment.", "%s was given as %q when this was registered; it cannot be changed to %q here", k, answers[k], v)
			}
			answers[k] = v
		}
		if err := validate(s, answers, in.Identities); err != nil {
			return err
		}
		body, err := json.Marshal(answers)
		if err != nil {
			return err
		}
		if _, err = tx.Exec(ctx, `UPDATE registrations SET answers = $3, sheet = $4, account = $5, busy = now() + interval '2 minutes' WHERE team = $1 AND id = $2`, c.Team, reg.id, body, s.Digest, account); err != nil {
			return err
		}
		for _, i := range in.Identities {
			if err := joinIdentity(ctx, tx, c, app, reg, i); err != nil {
				return err
			}
		}
		return r.audit(ctx, tx, c, "registration asked for", app.Name+" at "+s.Service+" "+in.Environment, in)
	})
	return reg, err
}

func joinIdentity(ctx context.Context, tx pgx.Tx, c Caller, app *shape.App, reg *row, i shape.IdentityAnswers) error {
	for _, known := range app.Identities {
		if known.Platform != i.Platform || known.Identifier != i.Identifier {
			continue
		}
		if i.Answers == nil {
			i.Answers = map[string]string{} // null would not merge as an object
		}
		body, err := json.Marshal(i.Answers)
		if err != nil {
			return err
		}
		_, err = tx.Exec(ctx, `INSERT INTO registration_identities (team, registration, identity, answers) VALUES ($1, $2, $3, $4)
			ON CONFLICT (team, registration, identity) DO UPDATE SET answers = registration_identities.answers || excluded.answers`, c.Team, reg.id, known.ID, body)
		return err
	}
	return fail(BadInput, "Attach the tree again, so that its identities are known: ligare app attach "+app.Name, "%s is not an identity of %s", i.Identifier, app.Name)
}

// validate checks answers against the sheet's grammar before anything is sent.
func validate(s *sheet.Sheet, answers map[string]string, ids []shape.IdentityAnswers) error {
	for _, a := range s.Asks {
		if a.Per == "identity" || a.When != "" {
			continue
		}
		v := answers[a.ID]
		switch {
		case v == "" && a.From == "choice":
			return fail(BadInput, fmt.Sprintf("Answer with --answer %s=VALUE, one of: %s.", a.ID, strings.Join(a.Choices, ", ")), "%s asks: %s", s.Title, a.Title)
		case v == "":
			return fail(BadInput, fmt.Sprintf("Answer with --answer %s=VALUE.", a.ID), "%s asks: %s", s.Title, a.Title)
		case len(a.Choices) > 0 && !slices.Contains(a.Choices, v):
			return fail(BadInput, "Choose one of: "+strings.Join(a.Choices, ", ")+".", "%s: %q is not offered", a.Title, v)
		case !sheet.Match(a.Grammar, v):
			return fail(BadInput, "It must match "+a.Grammar+".", "%s: %q has not the form %s wants", a.Title, v, s.Title)
		}
	}
	for _, i := range ids {
		if !slices.Contains(s.Platforms, ident.Platform(i.Platform)) {
			return fail(BadInput, "Leave it out.", "%s does not serve the platform %s", s.Title, i.Platform)
		}
		for _, a := range s.Asks {
			if v := i.Answers[a.ID]; v != "" && !sheet.Match(a.Grammar, v) {
				return fail(BadInput, "It must match "+a.Grammar+"; `ligare digest` prints every form of a digest.", "%s of %s: %q has not the form %s wants", a.Title, i.Identifier, v, s.Title)
			}
		}
	}
	return nil
}

// converge does what is missing at the service and gives its view.
func (r *Records) converge(ctx context.Context, c Caller, s *sheet.Sheet, app *shape.App, remote *registrar.Remote, reg *row, in shape.Register) (*registrar.Registration, error) {
	want, digests, err := r.wanted(ctx, c, s, app, reg)
	if err != nil {
		return nil, err
	}
	for _, f := range in.Features {
		if s.Feature(f) == nil {
			return nil, fail(BadInput, "Its sheet names the features; see: ligare service show "+s.Service, "%s has no feature %q", s.Title, f)
		}
	}
	want.Features = in.Features
	var now *registrar.Registration
	if reg.remote == "" {
		now, err = r.create(ctx, c, remote, reg, want)
	} else {
		now, err = remote.Get(ctx, reg.remote)
	}
	if err != nil {
		return nil, err
	}
	for _, i := range want.Identities {
		if !slices.ContainsFunc(now.Identities, func(x registrar.Identity) bool { return x.Platform == i.Platform && x.Identifier == i.Identifier }) {
			key := uuid.NewSHA1(reg.id, []byte("identity "+i.Platform+" "+i.Identifier)).String()
			if now, err = remote.AddIdentity(ctx, now.ID, key, i); err != nil {
				return nil, err
			}
		}
	}
	for _, d := range digests {
		for _, x := range now.Identities {
			if x.Platform == d.platform && x.Identifier == d.identifier && !slices.Contains(x.Digests, d.digest) {
				key := uuid.NewSHA1(reg.id, []byte("digest "+d.identifier+" "+d.digest)).String()
				if now, err = remote.AddDigest(ctx, now.ID, key, d.platform, d.identifier, d.digest); err != nil {
					return nil, err
				}
				break
			}
		}
	}
	for _, f := range in.Features {
		if !slices.Contains(now.Features, f) {
			if now, err = remote.SetFeature(ctx, now.ID, f, true); err != nil {
				return nil, err
			}
		}
	}
	return now, nil
}

type digestOf struct{ platform, identifier, digest string }

// wanted gathers the request from the records.
func (r *Records) wanted(ctx context.Context, c Caller, s *sheet.Sheet, app *shape.App, reg *row) (registrar.New, []digestOf, error) {
	out := registrar.New{Reference: reg.id.String(), Answers: map[string]string{}, Features: []string{}}
	var answers []byte
	if err := r.DB.QueryRow(ctx, `SELECT answers FROM registrations WHERE team = $1 AND id = $2`, c.Team, reg.id).Scan(&answers); err != nil {
		return out, nil, err
	}
	if err := json.Unmarshal(answers, &out.Answers); err != nil {
		return out, nil, err
	}
	rows, err := r.DB.Query(ctx, `SELECT i.platform, i.identifier, i.display_name, ri.answers FROM registration_identities ri JOIN identities i ON i.team = ri.team AND i.id = ri.identity
		WHERE ri.team = $1 AND ri.registration = $2 ORDER BY i.platform, i.identifier`, c.Team, reg.id)
	if err != nil {
		return out, nil, err
	}
	defer rows.Close()
	var digests []digestOf
	for rows.Next() {
		var i registrar.NewIdentity
		var body []byte
		if err := rows.Scan(&i.Platform, &i.Identifier, &i.DisplayName, &body); err != nil {
			return out, nil, err
		}
		if err := json.Unmarshal(body, &i.Answers); err != nil {
			return out, nil, err
		}
		if i.DisplayName == "" {
			i.DisplayName = app.Title
		}
		for _, a := range s.Asks {
			if v := i.Answers[a.ID]; v != "" && strings.HasPrefix(a.From, "signer.") {
				digests = append(digests, digestOf{i.Platform, i.Identifier, v})
			}
		}
		out.Identities = append(out.Identities, i)
	}
	return out, digests, rows.Err()
}

// create makes the registration at the service: the step and its key are recorded first, and a lost answer is looked up
// by our reference before anything is tried again.
func (r *Records) create(ctx context.Context, c Caller, remote *registrar.Remote, reg *row, want registrar.New) (*registrar.Registration, error) {
	body, err := json.Marshal(want)
	if err != nil {
		return nil, err
	}
	key := uuid.New()
	if err := r.DB.QueryRow(ctx, `INSERT INTO registration_steps (team, registration, step, key, request, state) VALUES ($1, $2, 'create', $3, $4, 'tried')
		ON CONFLICT (team, registration, step) DO UPDATE SET tried = now() RETURNING key`, c.Team, reg.id, key, body).Scan(&key); err != nil {
		return nil, err
	}
	now, err := remote.Create(ctx, key.String(), want)
	var lost *registrar.Lost
	if errors.As(err, &lost) {
		found, look := remote.ByReference(ctx, want.Reference)
		if look == nil && found != nil {
			now, err = found, nil
		}
	}
	var refused *registrar.Refused
	state, detail := "done", ""
	switch {
	case errors.As(err, &refused):
		state, detail = "refused", refused.Text
	case err != nil:
		state, detail = "unknown", err.Error()
	}
	if state == "refused" { // the next attempt is another request and needs another key
		_, e := r.DB.Exec(ctx, `DELETE FROM registration_steps WHERE team = $1 AND registration = $2 AND step = 'create'`, c.Team, reg.id)
		return nil, errors.Join(err, e)
	}
	_, e := r.DB.Exec(ctx, `UPDATE registration_steps SET state = $3, detail = $4 WHERE team = $1 AND registration = $2 AND step = 'create'`, c.Team, reg.id, state, detail)
	return now, errors.Join(err, e)
}

// stopped records why registering stopped.
func (r *Records) stopped(ctx context.Context, c Caller, s *sheet.Sheet, reg *row, cause error) error {
	out := explain(s, cause)
	state, remedy := "failed", ""
	var lost *registrar.Lost
	if errors.As(cause, &lost) {
		state = "unknown"
	}
	if e, ok := As(out); ok {
		remedy = e.Remedy
	}
	if reg.remote != "" {
		state = "registered" // it stands; only the addition failed
	}
	var refused *registrar.Refused
	if errors.As(cause, &refused) { // what was refused is forgotten, so that it does not stand in the way of a corrected request
		if err := r.forget(context.WithoutCancel(ctx), c, reg); err != nil {
			return errors.Join(out, err)
		}
	}
	_, err := r.DB.Exec(context.WithoutCancel(ctx), `UPDATE registrations SET state = $3, problem = $4, remedy = $5, busy = NULL WHERE team = $1 AND id = $2`, c.Team, reg.id, state, out.Error(), remedy)
	return errors.Join(out, err)
}

// forget drops identities that nothing was issued for, and answers that the service does not have.
func (r *Records) forget(ctx context.Context, c Caller, reg *row) error {
	_, err := r.DB.Exec(ctx, `DELETE FROM registration_identities ri WHERE ri.team = $1 AND ri.registration = $2
		AND NOT EXISTS (SELECT 1 FROM issued_values v WHERE v.team = ri.team AND v.registration = ri.registration AND v.identity = ri.identity)`, c.Team, reg.id)
	if err != nil {
		return err
	}
	_, err = r.DB.Exec(ctx, `UPDATE registration_identities SET answers = '{}' WHERE team = $1 AND registration = $2`, c.Team, reg.id)
	return err
}

// absorb takes over what the service has: values, features, revision, config files.
func (r *Records) absorb(ctx context.Context, c Caller, s *sheet.Sheet, remote *registrar.Remote, reg *row, now *registrar.Registration, action string) error {
	files := map[string][]byte{}
	for _, i := range now.Identities {
		f := s.FileFor(ident.Platform(i.Platform))
		if f == nil {
			continue
		}
		b, err := remote.File(ctx, now.ID, i.Platform, i.Identifier)
		if err != nil {
			return err
		}
		if _, err := f.Contents(b); err != nil {
			return fail(Upstream, "Fetch it again with: ligare refresh "+s.Service, "the config file %s issued for %s: %v", f.Name, i.Identifier, err)
		}
		files[i.Platform+" "+i.Identifier] = b
	}
	return pgx.BeginFunc(ctx, r.DB, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `UPDATE registrations SET state = 'registered', remote = $3, revision = $4, features = $5, problem = '', remedy = '', busy = NULL, version = version + 1 WHERE team = $1 AND id = $2`,
			c.Team, reg.id, now.ID, now.Revision, now.Features); err != nil {
			return err
		}
		if err := r.saveValues(ctx, tx, c, s, reg, nil, now.Values); err != nil {
			return err
		}
		for _, i := range now.Identities {
			var id uuid.UUID
			err := tx.QueryRow(ctx, `SELECT id FROM identities WHERE team = $1 AND platform = $2 AND identifier = $3`, c.Team, i.Platform, i.Identifier).Scan(&id)
			if store.None(err) {
				continue // somebody else's: registered there by hand
			}
			if err != nil {
				return err
			}
			if _, err := tx.Exec(ctx, `INSERT INTO registration_identities (team, registration, identity, digests) VALUES ($1, $2, $3, $4)
				ON CONFLICT (team, registration, identity) DO UPDATE SET digests = excluded.digests`, c.Team, reg.id, id, i.Digests); err != nil {
				return err
			}
			if err := r.saveValues(ctx, tx, c, s, reg, &id, i.Values); err != nil {
				return err
			}
			b := files[i.Platform+" "+i.Identifier]
			if b == nil {
				continue
			}
			f := s.FileFor(ident.Platform(i.Platform))
			sealed, err := r.Keys.Seal(string(b), c.Team.String(), reg.id.String(), id.String(), "file", f.ID)
			if err != nil {
				return err
			}
			if _, err := tx.Exec(ctx, `INSERT INTO config_files (team, registration, identity, file, name, revision, sealed) VALUES ($1, $2, $3, $4, $5, $6, $7)
				ON CONFLICT (team, registration, identity, file) DO UPDATE SET name = excluded.name, revision = excluded.revision, sealed = excluded.sealed, fetched = now()`,
				c.Team, reg.id, id, f.ID, f.Name, now.Revision, sealed); err != nil {
				return err
			}
		}
		for _, d := range s.Duties {
			if _, err := tx.Exec(ctx, `INSERT INTO duties (team, registration, duty) VALUES ($1, $2, $3) ON CONFLICT DO NOTHING`, c.Team, reg.id, d.ID); err != nil {
				return err
			}
		}
		if _, err := tx.Exec(ctx, `INSERT INTO jobs (team, kind, subject, due) VALUES ($1, 'look', $2, now()) ON CONFLICT DO NOTHING`, c.Team, reg.id.String()); err != nil {
			return err
		}
		if err := r.audit(ctx, tx, c, action, reg.appName+" at "+s.Service+" "+reg.environment, map[string]any{"revision": now.Revision}); err != nil {
			return err
		}
		return r.emit(ctx, tx, c.Team, "registration", map[string]string{"app": reg.appName, "service": s.Service})
	})
}

// Refresh fetches a registration's values and files again.
func (r *Records) Refresh(ctx context.Context, c Caller, id string) (*shape.Registration, error) {
	if err := c.Need("developer"); err != nil {
		return nil, err
	}
	reg, err := r.row(ctx, c, id)
	if err != nil {
		return nil, err
	}
	s, err := r.sheetOf(reg.service)
	if err != nil {
		return nil, err
	}
	remote, _, err := r.remote(ctx, c.Team, s)
	if err != nil {
		return nil, err
	}
	if reg.remote == "" {
		return nil, fail(Clash, "Run the registration again: ligare register "+reg.service, "it was never completed: %s", reg.problem)
	}
	now, err := remote.Get(ctx, reg.remote)
	if err != nil {
		return nil, explain(s, err)
	}
	if err := r.absorb(ctx, c, s, remote, reg, now, "refreshed"); err != nil {
		return nil, explain(s, err)
	}
	return r.Registration(ctx, c, id)
}
