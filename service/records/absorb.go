package records

import (
	"context"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"ligare/client/shape"
	"ligare/core/ident"
	"ligare/core/sheet"
	"ligare/service/registrar"
)

// gotten is a file that was fetched from a service.
type gotten struct {
	file    *sheet.File
	content []byte
	ends    *time.Time
}

// fetchFiles fetches every file of every identity and reads it by the sheet's pointers: one that is not what it should be
// stops everything, before anything is kept.
func (r *Records) fetchFiles(ctx context.Context, s *sheet.Sheet, remote *registrar.Remote, now *registrar.Registration) (map[string][]gotten, error) {
	out := map[string][]gotten{}
	for _, i := range now.Identities {
		for _, f := range s.FilesFor(ident.Platform(i.Platform)) {
			b, err := registrar.To(remote).File(ctx, now.ID, i.Platform, i.Identifier, f.ID)
			if err != nil {
				return nil, err
			}
			got, err := readFile(s, f, b, i.Identifier, now.Revision)
			if err != nil {
				return nil, fail(Upstream, "Fetch it again with: ligare refresh "+s.Service, "the file %s issued for %s: %v", f.Name, i.Identifier, err)
			}
			out[i.Platform+" "+i.Identifier] = append(out[i.Platform+" "+i.Identifier], *got)
		}
	}
	return out, nil
}

// absorb takes over what the service has: values, keys, features, redirects, revision, files. Nothing is kept when one of
// them is not what the sheet says.
func (r *Records) absorb(ctx context.Context, c Caller, s *sheet.Sheet, remote *registrar.Remote, reg *row, now *registrar.Registration, action string) error {
	files, err := r.fetchFiles(ctx, s, remote, now)
	if err != nil {
		return err
	}
	ids := reg.known
	if ids == nil {
		if ids, err = r.identityIDs(ctx, c, now); err != nil {
			return err
		}
	}
	b := &pgx.Batch{}
	berths := map[string]string{}
	for _, x := range now.Berths {
		berths[x.Name] = reg.berths[x.Name]
	}
	var access []byte
	if now.Access != "" {
		if access, err = r.Keys.Seal(now.Access, c.Team.String(), reg.id.String(), "access"); err != nil {
			return err
		}
	}
	if now.Features == nil {
		now.Features = []string{}
	}
	b.Queue(`UPDATE registrations SET state = 'registered', remote = $3, features = $5, problem = '', remedy = '', version = version + 1, redirects = $6, received = $7, fields = $8, berths = $9,
		access = coalesce($10, access), open_access = $11, looked = now(), changed = CASE WHEN revision = $4 THEN changed ELSE now() END, revision = $4 WHERE team = $1 AND id = $2`,
		c.Team, reg.id, now.ID, now.Revision, now.Features, orEmpty(now.Redirects), orNone(now.Received), orNone(now.Fields), berths, access, opened(now.Open))
	b.Queue(`UPDATE registration_steps SET state = 'done', detail = '' WHERE team = $1 AND registration = $2 AND step = 'create' AND state <> 'done'`, c.Team, reg.id)
	if err := r.saveValues(b, c, s, reg, nil, now.Values, now.Keys, "", ""); err != nil {
		return err
	}
	for _, i := range now.Identities {
		id, ok := ids[i.Platform+" "+i.Identifier]
		if !ok {
			continue // somebody else's: registered there by hand
		}
		b.Queue(`INSERT INTO registration_identities (team, registration, identity, digests, received) VALUES ($1, $2, $3, $4, $5)
			ON CONFLICT (team, registration, identity) DO UPDATE SET digests = excluded.digests, received = excluded.received`, c.Team, reg.id, id, orEmpty(i.Digests), orNone(i.Received))
		if err := r.saveValues(b, c, s, reg, &id, i.Values, now.Keys, i.Platform, i.Identifier); err != nil {
			return err
		}
		for _, f := range files[i.Platform+" "+i.Identifier] {
			if err := r.saveFile(b, c, reg.id, id, f, now.Revision, "service"); err != nil {
				return err
			}
		}
	}
	for _, d := range s.Duties {
		b.Queue(`INSERT INTO duties (team, registration, duty) VALUES ($1, $2, $3) ON CONFLICT DO NOTHING`, c.Team, reg.id, d.ID)
	}
	b.Queue(`INSERT INTO jobs (team, kind, subject, due) VALUES ($1, 'look', $2, now() + interval '3 seconds') ON CONFLICT DO NOTHING`, c.Team, reg.id.String())
	reg.remote, reg.revision = now.ID, now.Revision
	return r.commit(ctx, c, b, noted{action, reg.appName + " at " + s.Service + " " + reg.environment, map[string]any{"revision": now.Revision}, "registration", map[string]string{"app": reg.appName, "service": s.Service}})
}

func opened(list []registrar.Open) []shape.OpenAccess {
	out := []shape.OpenAccess{}
	for _, o := range list {
		out = append(out, shape.OpenAccess(o))
	}
	return out
}

func orEmpty(list []string) []string {
	if list == nil {
		return []string{}
	}
	return list
}

func orNone(m map[string]string) map[string]string {
	if m == nil {
		return map[string]string{}
	}
	return m
}

func (r *Records) identityIDs(ctx context.Context, c Caller, now *registrar.Registration) (map[string]uuid.UUID, error) {
	var names []string
	for _, i := range now.Identities {
		names = append(names, i.Platform+" "+i.Identifier)
	}
	return r.ids(ctx, `SELECT platform || ' ' || identifier, id FROM identities WHERE team = $1 AND platform || ' ' || identifier = ANY($2)`, c.Team, names)
}

// ids reads rows of a name and an ID.
func (r *Records) ids(ctx context.Context, query string, args ...any) (map[string]uuid.UUID, error) {
	rows, err := r.DB.Query(ctx, query, args...)
	if err != nil {
		return nil, err
	}
	out := map[string]uuid.UUID{}
	var name string
	var id uuid.UUID
	_, err = pgx.ForEachRow(rows, []any{&name, &id}, func() error {
		out[name] = id
		return nil
	})
	return out, err
}

// saveValues encrypts issued values with the exposure the sheet gives them; one the sheet does not know is kept as a
// server value, which is the safe side. A value that is exchanged stays as a former one.
func (r *Records) saveValues(b *pgx.Batch, c Caller, s *sheet.Sheet, reg *row, identity *uuid.UUID, values map[string]string, keys []registrar.Key, platform, identifier string) error {
	for name, v := range values {
		k := registrar.Key{Name: name, Value: v}
		for _, x := range keys {
			if x.Name == name && x.Platform == platform && x.Identifier == identifier && x.Value == v {
				k = x
			}
		}
		if err := r.saveValue(b, c, s, reg.id, identity, k, "service", true); err != nil {
			return err
		}
	}
	var known []string
	for _, k := range keys {
		if k.Platform == platform && k.Identifier == identifier {
			known = append(known, k.ID)
			if values[k.Name] != k.Value { // a former one, or one beside it
				if err := r.saveValue(b, c, s, reg.id, identity, k, "service", false); err != nil {
					return err
				}
			}
		}
	}
	if len(keys) > 0 { // keys that the service deleted
		b.Queue(`DELETE FROM issued_values WHERE team = $1 AND registration = $2 AND identity IS NOT DISTINCT FROM $3 AND key <> '' AND NOT key = ANY($4)`, c.Team, reg.id, identity, orEmpty(known))
	}
	return nil
}

func (r *Records) saveValue(b *pgx.Batch, c Caller, s *sheet.Sheet, reg uuid.UUID, identity *uuid.UUID, k registrar.Key, source string, current bool) error {
	exposure := sheet.Server
	if d := s.Value(k.Name); d != nil {
		exposure = d.Exposure
		if source == "service" && !sheet.Match(d.Pattern, k.Value) {
			return fail(Upstream, "Report it to the service, or correct the sheet.", "%s issued a %s that has not the form its sheet gives", s.Title, d.Title)
		}
	}
	sealed, err := r.Keys.Seal(k.Value, c.Team.String(), reg.String(), place(identity), k.Name)
	if err != nil {
		return err
	}
	if current {
		b.Queue(`UPDATE issued_values SET current = false WHERE team = $1 AND registration = $2 AND identity IS NOT DISTINCT FROM $3 AND name = $4 AND key <> $5`, c.Team, reg, identity, k.Name, k.ID)
	}
	var issued *time.Time
	if !k.Created.IsZero() {
		issued = &k.Created
	}
	b.Queue(`INSERT INTO issued_values (team, registration, identity, name, exposure, sealed, key, label, current, source, issued, ends, revoked) VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, coalesce($11, now()), $12, $13)
		ON CONFLICT (team, registration, identity, name, key) DO UPDATE SET exposure = excluded.exposure, sealed = excluded.sealed, label = excluded.label, current = excluded.current, source = excluded.source, ends = excluded.ends, revoked = excluded.revoked`,
		c.Team, reg, identity, k.Name, exposure, sealed, k.ID, k.Label, current, source, issued, k.Ends, k.Revoked)
	return nil
}

func (r *Records) saveFile(b *pgx.Batch, c Caller, reg, identity uuid.UUID, f gotten, revision int, source string) error {
	sealed, err := r.Keys.Seal(string(f.content), c.Team.String(), reg.String(), identity.String(), "file", f.file.ID)
	if err != nil {
		return err
	}
	b.Queue(`INSERT INTO config_files (team, registration, identity, file, name, revision, sealed, ends, source) VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9)
		ON CONFLICT (team, registration, identity, file) DO UPDATE SET name = excluded.name, revision = excluded.revision, sealed = excluded.sealed, ends = excluded.ends, source = excluded.source, fetched = now()`,
		c.Team, reg, identity, f.file.ID, f.file.Name, revision, sealed, f.ends, source)
	return nil
}

func place(identity *uuid.UUID) string {
	if identity == nil {
		return "registration"
	}
	return identity.String()
}
