package records

import (
	"context"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"ligare/client/shape"
	"ligare/core/ident"
	"ligare/core/sheet"
	"ligare/service/store"
)

// saveValues encrypts issued values with the exposure the sheet gives them; one the sheet does not know is kept as a
// server value, which is the safe side.
func (r *Records) saveValues(ctx context.Context, tx pgx.Tx, c Caller, s *sheet.Sheet, reg *row, identity *uuid.UUID, values map[string]string) error {
	for name, v := range values {
		exposure := sheet.Server
		if d := s.Value(name); d != nil {
			exposure = d.Exposure
			if !sheet.Match(d.Pattern, v) {
				return fail(Upstream, "Report it to the service, or correct the sheet.", "%s issued a %s that has not the form its sheet gives", s.Title, d.Title)
			}
		}
		sealed, err := r.Keys.Seal(v, c.Team.String(), reg.id.String(), place(identity), name)
		if err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, `INSERT INTO issued_values (team, registration, identity, name, exposure, sealed) VALUES ($1, $2, $3, $4, $5, $6)
			ON CONFLICT (team, registration, identity, name) DO UPDATE SET exposure = excluded.exposure, sealed = excluded.sealed`,
			c.Team, reg.id, identity, name, exposure, sealed); err != nil {
			return err
		}
	}
	return nil
}

func place(identity *uuid.UUID) string {
	if identity == nil {
		return "registration"
	}
	return identity.String()
}

func (r *Records) row(ctx context.Context, c Caller, id string) (*row, error) {
	parsed, err := uuid.Parse(id)
	if err != nil {
		return nil, fail(Missing, "List them with: ligare registrations", "there is no registration %q", id)
	}
	g := &row{id: parsed}
	err = r.DB.QueryRow(ctx, `SELECT g.app, a.name, g.service, g.environment, g.state, g.remote, g.problem, g.remedy, g.revision, g.features FROM registrations g JOIN apps a ON a.team = g.team AND a.id = g.app
		WHERE g.team = $1 AND g.id = $2`, c.Team, parsed).Scan(&g.app, &g.appName, &g.service, &g.environment, &g.state, &g.remote, &g.problem, &g.remedy, &g.revision, &g.features)
	if store.None(err) {
		return nil, fail(Missing, "List them with: ligare registrations", "there is no registration %q", id)
	}
	return g, err
}

// Registrations gives an app's registrations.
func (r *Records) Registrations(ctx context.Context, c Caller, app string) ([]shape.Registration, error) {
	a, err := r.App(ctx, c, app)
	if err != nil {
		return nil, err
	}
	rows, err := r.DB.Query(ctx, `SELECT id FROM registrations WHERE team = $1 AND app = $2 AND state <> 'removed' ORDER BY service, environment`, c.Team, a.ID)
	if err != nil {
		return nil, err
	}
	ids, err := pgx.CollectRows(rows, pgx.RowTo[uuid.UUID])
	if err != nil {
		return nil, err
	}
	out := []shape.Registration{}
	for _, id := range ids {
		g, err := r.Registration(ctx, c, id.String())
		if err != nil {
			return nil, err
		}
		out = append(out, *g)
	}
	return out, nil
}

// Registration gives one registration; server values come without their value.
func (r *Records) Registration(ctx context.Context, c Caller, id string) (*shape.Registration, error) {
	g, err := r.row(ctx, c, id)
	if err != nil {
		return nil, err
	}
	s, err := r.sheetOf(g.service)
	if err != nil {
		return nil, err
	}
	out := &shape.Registration{ID: g.id.String(), App: g.appName, Service: g.service, Environment: g.environment, State: g.state, Reference: g.id.String(), RemoteID: g.remote,
		Revision: g.revision, Features: g.features, Problem: g.problem, Remedy: g.remedy, Identities: []shape.Registered{}, Values: []shape.IssuedValue{}}
	err = r.issued(ctx, c, g, func(i *identityRow, name string, exposure sheet.Exposure, value string) {
		v := shape.IssuedValue{Name: name, Title: name, Exposure: string(exposure)}
		if d := s.Value(name); d != nil {
			v.Title = d.Title
		}
		if exposure == sheet.Client {
			v.Value = value
		}
		if i == nil {
			out.Values = append(out.Values, v)
			return
		}
		for k := range out.Identities {
			if out.Identities[k].Platform == i.platform && out.Identities[k].Identifier == i.identifier {
				out.Identities[k].Values = append(out.Identities[k].Values, v)
			}
		}
	}, func(i *identityRow) {
		x := shape.Registered{Platform: i.platform, Identifier: i.identifier, Values: []shape.IssuedValue{}, Digests: i.digests}
		if f := s.FileFor(ident.Platform(i.platform)); f != nil {
			x.File = f.Name
		}
		out.Identities = append(out.Identities, x)
	})
	return out, err
}

type identityRow struct {
	id                   uuid.UUID
	platform, identifier string
	digests              []string
}

// issued visits the identities of a registration, then its values with their identity (nil for the registration's own).
func (r *Records) issued(ctx context.Context, c Caller, g *row, value func(*identityRow, string, sheet.Exposure, string), identity func(*identityRow)) error {
	rows, err := r.DB.Query(ctx, `SELECT i.id, i.platform, i.identifier, ri.digests FROM registration_identities ri JOIN identities i ON i.team = ri.team AND i.id = ri.identity
		WHERE ri.team = $1 AND ri.registration = $2 ORDER BY i.platform, i.identifier`, c.Team, g.id)
	if err != nil {
		return err
	}
	defer rows.Close()
	by := map[uuid.UUID]*identityRow{}
	for rows.Next() {
		i := &identityRow{}
		if err := rows.Scan(&i.id, &i.platform, &i.identifier, &i.digests); err != nil {
			return err
		}
		by[i.id] = i
		identity(i)
	}
	if err := rows.Err(); err != nil {
		return err
	}
	vals, err := r.DB.Query(ctx, `SELECT identity, name, exposure, sealed FROM issued_values WHERE team = $1 AND registration = $2 AND revoked IS NULL ORDER BY name`, c.Team, g.id)
	if err != nil {
		return err
	}
	defer vals.Close()
	for vals.Next() {
		var id *uuid.UUID
		var name string
		var exposure sheet.Exposure
		var sealed []byte
		if err := vals.Scan(&id, &name, &exposure, &sealed); err != nil {
			return err
		}
		v := ""
		if exposure == sheet.Client { // a server value is not even decrypted here
			if v, err = r.Keys.Open(sealed, c.Team.String(), g.id.String(), place(id), name); err != nil {
				return err
			}
		}
		if id == nil {
			value(nil, name, exposure, v)
		} else if by[*id] != nil {
			value(by[*id], name, exposure, v)
		}
	}
	return vals.Err()
}

// Placing gives all that placing needs, client values only.
func (r *Records) Placing(ctx context.Context, c Caller, id string) (*shape.Placing, error) {
	g, err := r.row(ctx, c, id)
	if err != nil {
		return nil, err
	}
	s, err := r.sheetOf(g.service)
	if err != nil {
		return nil, err
	}
	out := &shape.Placing{Registration: id, Service: g.service, Environment: g.environment, Revision: g.revision, Sheet: string(s.Source), Values: map[string]string{}, Identities: []shape.PlacingIdentity{}}
	var order []*identityRow
	err = r.issued(ctx, c, g, func(i *identityRow, name string, exposure sheet.Exposure, value string) {
		if exposure != sheet.Client {
			return
		}
		if i == nil {
			out.Values[name] = value
			return
		}
		for k, x := range order {
			if x == i {
				out.Identities[k].Values[name] = value
			}
		}
	}, func(i *identityRow) {
		order = append(order, i)
		out.Identities = append(out.Identities, shape.PlacingIdentity{Platform: i.platform, Identifier: i.identifier, Values: map[string]string{}})
	})
	if err != nil {
		return nil, err
	}
	for k, i := range order {
		var file string
		var sealed []byte
		err := r.DB.QueryRow(ctx, `SELECT file, sealed FROM config_files WHERE team = $1 AND registration = $2 AND identity = $3`, c.Team, g.id, i.id).Scan(&file, &sealed)
		if store.None(err) {
			continue
		}
		if err != nil {
			return nil, err
		}
		text, err := r.Keys.Open(sealed, c.Team.String(), g.id.String(), i.id.String(), "file", file)
		if err != nil {
			return nil, err
		}
		out.Identities[k].File = []byte(text)
	}
	return out, nil
}
