package records

import (
	"context"
	"sort"
	"sync"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"ligare/client/shape"
	"ligare/core/sheet"
	"ligare/service/store"
)

// Sheets is the sheets that ship, the library they use, and those of teams that were read already.
type Sheets struct {
	Shipped map[string]*sheet.Sheet
	Library sheet.Library
	read    sync.Map // digest -> *sheet.Sheet
}

func (s *Sheets) parse(service, digest, source string) (*sheet.Sheet, error) {
	if had, ok := s.read.Load(digest); ok {
		return had.(*sheet.Sheet), nil
	}
	out, err := sheet.Parse(service, []byte(source))
	if err == nil {
		s.read.Store(digest, out)
	}
	return out, err
}

// sheetOf gives the sheet of a service as it stands for a team: its own, or the one that ships.
func (r *Records) sheetOf(ctx context.Context, team uuid.UUID, service string) (*sheet.Sheet, error) {
	var digest, source string
	err := r.DB.QueryRow(ctx, `SELECT digest, source FROM sheets WHERE team = $1 AND service = $2 AND current`, team, service).Scan(&digest, &source)
	switch {
	case err == nil:
		return r.Sheets.parse(service, digest, source)
	case !store.None(err):
		return nil, err
	}
	if s := r.Sheets.Shipped[service]; s != nil {
		return s, nil
	}
	all, err := r.sheets(ctx, team)
	if err != nil {
		return nil, err
	}
	var names []string
	for _, s := range all {
		names = append(names, s.Service)
	}
	remedy := "List the services with: ligare service list"
	if near := sheet.Nearest(service, names); near != "" {
		remedy = "Did you mean " + near + "? " + remedy
	}
	return nil, fail(Missing, remedy, "there is no service %q", service)
}

// sheets gives all sheets of a team, in the order of their names.
func (r *Records) sheets(ctx context.Context, team uuid.UUID) ([]*sheet.Sheet, error) {
	by := map[string]*sheet.Sheet{}
	for k, s := range r.Sheets.Shipped {
		by[k] = s
	}
	rows, err := r.DB.Query(ctx, `SELECT service, digest, source FROM sheets WHERE team = $1 AND current`, team)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var service, digest, source string
		if err := rows.Scan(&service, &digest, &source); err != nil {
			return nil, err
		}
		s, err := r.Sheets.parse(service, digest, source)
		if err != nil {
			return nil, err
		}
		by[service] = s
	}
	var out []*sheet.Sheet
	for _, s := range by {
		out = append(out, s)
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Service < out[j].Service })
	return out, rows.Err()
}

// all gives the sheets of a team by service.
func (r *Records) all(ctx context.Context, team uuid.UUID) (map[string]*sheet.Sheet, error) {
	list, err := r.sheets(ctx, team)
	out := map[string]*sheet.Sheet{}
	for _, s := range list {
		out[s.Service] = s
	}
	return out, err
}

// SaveSheet adds a team's own sheet, or a new version of it. Versions that were used are kept.
func (r *Records) SaveSheet(ctx context.Context, c Caller, in shape.NewSheet) (*shape.SheetVersion, error) {
	if err := c.Need("owner"); err != nil {
		return nil, err
	}
	s, err := sheet.Parse("sheet", []byte(in.Source))
	if err == nil {
		err = r.Sheets.Library.Check(s)
	}
	if err != nil {
		return nil, fail(BadInput, "Correct the places named; `ligare sheet check FILE` says the same without a server.", "the sheet is not right: %v", err)
	}
	return &shape.SheetVersion{Service: s.Service, Digest: s.Digest, Current: true, Who: c.Name}, pgx.BeginFunc(ctx, r.DB, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `UPDATE sheets SET current = false WHERE team = $1 AND service = $2 AND current`, c.Team, s.Service); err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, `INSERT INTO sheets (team, service, digest, source, current, who) VALUES ($1, $2, $3, $4, true, $5)
			ON CONFLICT (team, service, digest) DO UPDATE SET current = true, who = excluded.who`, c.Team, s.Service, s.Digest, in.Source, c.Name); err != nil {
			return err
		}
		if err := r.audit(ctx, tx, c, "sheet saved", s.Service, map[string]string{"digest": s.Digest, "version": s.Version}); err != nil {
			return err
		}
		return r.emit(ctx, tx, c.Team, "sheet", map[string]string{"service": s.Service})
	})
}

// DropSheet takes a team's own sheet away: the one that ships counts again, if there is one. A service that is registered
// with and has no other sheet keeps it.
func (r *Records) DropSheet(ctx context.Context, c Caller, service string) error {
	if err := c.Need("owner"); err != nil {
		return err
	}
	return pgx.BeginFunc(ctx, r.DB, func(tx pgx.Tx) error {
		var used int
		if err := tx.QueryRow(ctx, `SELECT count(*) FROM registrations WHERE team = $1 AND service = $2 AND state <> 'removed'`, c.Team, service).Scan(&used); err != nil {
			return err
		}
		if used > 0 && r.Sheets.Shipped[service] == nil {
			return fail(Clash, "Remove the registrations first.", "%s is registered with by this sheet", service)
		}
		tag, err := tx.Exec(ctx, `UPDATE sheets SET current = false WHERE team = $1 AND service = $2 AND current`, c.Team, service)
		if err != nil {
			return err
		}
		if tag.RowsAffected() == 0 {
			return fail(Missing, "List the services with: ligare service list", "the team has no sheet of its own for %q", service)
		}
		return r.audit(ctx, tx, c, "sheet dropped", service, map[string]string{})
	})
}

// SheetVersions lists the versions of a sheet that are known, the current one first.
func (r *Records) SheetVersions(ctx context.Context, c Caller, service string) ([]shape.SheetVersion, error) {
	now, err := r.sheetOf(ctx, c.Team, service)
	if err != nil {
		return nil, err
	}
	out := []shape.SheetVersion{{Service: service, Digest: now.Digest, Current: true}}
	rows, err := r.DB.Query(ctx, `SELECT digest, who, created FROM sheets WHERE team = $1 AND service = $2 ORDER BY created DESC`, c.Team, service)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		v := shape.SheetVersion{Service: service}
		var at time.Time
		if err := rows.Scan(&v.Digest, &v.Who, &at); err != nil {
			return nil, err
		}
		v.Created = &at
		if v.Digest == now.Digest {
			out[0].Who, out[0].Created = v.Who, v.Created
			continue
		}
		out = append(out, v)
	}
	return out, rows.Err()
}

// SheetVersion gives one version of a sheet by its digest, so that it can be held against the current one.
func (r *Records) SheetVersion(ctx context.Context, c Caller, service, digest string) (*shape.SheetVersion, error) {
	now, err := r.sheetOf(ctx, c.Team, service)
	if err != nil {
		return nil, err
	}
	if now.Digest == digest {
		return &shape.SheetVersion{Service: service, Digest: digest, Current: true, Source: string(now.Source)}, nil
	}
	if s := r.Sheets.Shipped[service]; s != nil && s.Digest == digest {
		return &shape.SheetVersion{Service: service, Digest: digest, Source: string(s.Source)}, nil
	}
	v := &shape.SheetVersion{Service: service, Digest: digest}
	var at time.Time
	err = r.DB.QueryRow(ctx, `SELECT source, who, created FROM sheets WHERE team = $1 AND service = $2 AND digest = $3`, c.Team, service, digest).Scan(&v.Source, &v.Who, &at)
	if store.None(err) {
		return nil, fail(Missing, "It was used elsewhere; read the current sheet as a whole: ligare service show "+service, "this server never had the sheet of %s with the digest %s", service, digest)
	}
	v.Created = &at
	return v, err
}

// rememberSheet keeps a version of a sheet that ships, once it is used.
func (r *Records) rememberSheet(b *pgx.Batch, c Caller, s *sheet.Sheet) {
	b.Queue(`INSERT INTO sheets (team, service, digest, source) VALUES ($1, $2, $3, $4) ON CONFLICT DO NOTHING`, c.Team, s.Service, s.Digest, string(s.Source))
}
