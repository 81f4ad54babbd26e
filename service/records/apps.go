package records

import (
	"context"
	"encoding/json"
	"fmt"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"ligare/client/shape"
	"ligare/core/ident"
	"ligare/core/sheet"
	"ligare/service/store"
)

// SaveApp makes an app, or extends one of the same name with identities and environments it does not have yet.
func (r *Records) SaveApp(ctx context.Context, tx pgx.Tx, c Caller, n shape.NewApp) (*shape.App, error) {
	if err := c.Need("developer"); err != nil {
		return nil, err
	}
	if !sheet.Match("[a-z][a-z0-9-]{1,39}", n.Name) {
		return nil, fail(BadInput, "Use 2 to 40 small letters, digits and hyphens, a letter first.", "%q cannot name an app", n.Name)
	}
	if n.Title == "" {
		n.Title = n.Name
	}
	app := uuid.Must(uuid.NewV7())
	err := tx.QueryRow(ctx, `INSERT INTO apps (team, id, name, title) VALUES ($1, $2, $3, $4)
		ON CONFLICT (team, name) DO UPDATE SET version = apps.version + 1 RETURNING id`, c.Team, app, n.Name, n.Title).Scan(&app)
	if err != nil {
		return nil, err
	}
	for _, e := range n.Environments {
		if !sheet.Match("[a-z][a-z0-9-]{1,39}", e) {
			return nil, fail(BadInput, "Use small letters, digits and hyphens.", "%q cannot name an environment", e)
		}
		if _, err := tx.Exec(ctx, `INSERT INTO environments (team, id, app, name) VALUES ($1, $2, $3, $4) ON CONFLICT DO NOTHING`, c.Team, uuid.Must(uuid.NewV7()), app, e); err != nil {
			return nil, err
		}
	}
	for _, i := range n.Identities {
		if err := r.addIdentity(ctx, tx, c, app, i); err != nil {
			return nil, err
		}
	}
	if err := r.audit(ctx, tx, c, "app saved", n.Name, n); err != nil {
		return nil, err
	}
	if err := r.emit(ctx, tx, c.Team, "app", map[string]string{"app": n.Name}); err != nil {
		return nil, err
	}
	return r.app(ctx, tx, c, n.Name)
}

func (r *Records) addIdentity(ctx context.Context, tx pgx.Tx, c Caller, app uuid.UUID, i shape.NewIdentity) error {
	if err := ident.Check(ident.Platform(i.Platform), i.Identifier); err != nil {
		return fail(BadInput, "Correct the identifier in the project first.", "%v", err)
	}
	var owner uuid.UUID
	var name string
	err := tx.QueryRow(ctx, `SELECT i.app, a.name FROM identities i JOIN apps a ON a.team = i.team AND a.id = i.app WHERE i.team = $1 AND i.platform = $2 AND i.identifier = $3`,
		c.Team, i.Platform, i.Identifier).Scan(&owner, &name)
	switch {
	case err == nil && owner != app:
		return fail(Clash, "Attach the tree to that app, or change the identifier.", "%s is an identity of the app %s already", i.Identifier, name)
	case err == nil:
		_, err = tx.Exec(ctx, `UPDATE identities SET display_name = $4 WHERE team = $1 AND platform = $2 AND identifier = $3 AND $4 <> ''`, c.Team, i.Platform, i.Identifier, i.DisplayName)
		return err
	case !store.None(err):
		return err
	}
	_, err = tx.Exec(ctx, `INSERT INTO identities (team, id, app, platform, identifier, display_name) VALUES ($1, $2, $3, $4, $5, $6)`,
		c.Team, uuid.Must(uuid.NewV7()), app, i.Platform, i.Identifier, i.DisplayName)
	return err
}

// querier is a pool or a transaction.
type querier interface {
	Query(ctx context.Context, sql string, args ...any) (pgx.Rows, error)
	QueryRow(ctx context.Context, sql string, args ...any) pgx.Row
}

func (r *Records) app(ctx context.Context, q querier, c Caller, name string) (*shape.App, error) {
	list, err := r.apps(ctx, q, c, name, "", 1)
	if err != nil {
		return nil, err
	}
	if len(list) == 0 {
		return nil, noApp(name)
	}
	return &list[0], nil
}

// App gives one app by name.
func (r *Records) App(ctx context.Context, c Caller, name string) (*shape.App, error) {
	return r.app(ctx, r.DB, c, name)
}

// Apps gives apps in the order of their names, after a name.
func (r *Records) Apps(ctx context.Context, c Caller, after string, limit int) (shape.Page[shape.App], error) {
	list, err := r.apps(ctx, r.DB, c, "", after, limit+1)
	page := shape.Page[shape.App]{Items: list}
	if len(list) > limit {
		page.Items = list[:limit]
		page.Next = list[limit-1].Name
	}
	return page, err
}

const appsQuery = `SELECT id, name, title, created, version,
	coalesce((SELECT array_agg(e.name ORDER BY e.name) FROM environments e WHERE e.team = a.team AND e.app = a.id), '{}'),
	coalesce((SELECT json_agg(json_build_object('id', i.id, 'platform', i.platform, 'identifier', i.identifier, 'displayName', i.display_name, 'storeId', i.store_id, 'published', i.published) ORDER BY i.platform, i.identifier)
		FROM identities i WHERE i.team = a.team AND i.app = a.id), '[]')
	FROM apps a WHERE team = $1 AND ($2 = '' OR name = $2) AND name > $3 ORDER BY name LIMIT $4`

func (r *Records) apps(ctx context.Context, q querier, c Caller, name, after string, limit int) ([]shape.App, error) {
	rows, err := q.Query(ctx, appsQuery, c.Team, name, after, limit)
	if err != nil {
		return nil, err
	}
	return scanApps(rows)
}

func scanApps(rows pgx.Rows) ([]shape.App, error) {
	defer rows.Close()
	out := []shape.App{}
	for rows.Next() {
		var a shape.App
		var ids []byte
		if err := rows.Scan(&a.ID, &a.Name, &a.Title, &a.Created, &a.Version, &a.Environments, &ids); err != nil {
			return nil, err
		}
		if err := json.Unmarshal(ids, &a.Identities); err != nil {
			return nil, err
		}
		out = append(out, a)
	}
	return out, rows.Err()
}

func noApp(name string) error {
	return fail(Missing, "List the apps with: ligare app list", "there is no app %q", name)
}

// Overview gives apps × services: each cell the worst thing known and how fresh it is.
func (r *Records) Overview(ctx context.Context, c Caller) (*shape.Overview, error) {
	apps, err := r.apps(ctx, r.DB, c, "", "", 500)
	if err != nil {
		return nil, err
	}
	out := &shape.Overview{Services: []shape.OverviewService{}, Apps: []shape.OverviewApp{}}
	all, err := r.sheets(ctx, c.Team)
	if err != nil {
		return nil, err
	}
	for _, s := range all {
		out.Services = append(out.Services, shape.OverviewService{Service: s.Service, Title: s.Title})
	}
	for _, a := range apps {
		row := shape.OverviewApp{Name: a.Name, Title: a.Title, Cells: []shape.OverviewCell{}}
		for _, s := range all {
			cell, err := r.cell(ctx, c, a, s)
			if err != nil {
				return nil, err
			}
			row.Cells = append(row.Cells, cell)
		}
		out.Apps = append(out.Apps, row)
	}
	return out, nil
}

func (r *Records) cell(ctx context.Context, c Caller, a shape.App, s *sheet.Sheet) (shape.OverviewCell, error) {
	cell := shape.OverviewCell{Service: s.Service, State: "none", Say: "not registered"}
	var states []string
	var registered int
	if err := r.DB.QueryRow(ctx, `SELECT count(*), coalesce(array_agg(state), '{}') FROM registrations WHERE team = $1 AND app = $2 AND service = $3 AND state <> 'removed'`, c.Team, a.ID, s.Service).Scan(&registered, &states); err != nil {
		return cell, err
	}
	if registered == 0 {
		return cell, nil
	}
	rep, err := r.lastReport(ctx, c, a.ID)
	if err != nil {
		return cell, err
	}
	if rep != nil {
		cell.Checked = &rep.At
	}
	if err := r.DB.QueryRow(ctx, `SELECT max(s.at) FROM sightings s JOIN registrations g ON g.team = s.team AND g.id = s.registration WHERE s.team = $1 AND g.app = $2 AND g.service = $3`, c.Team, a.ID, s.Service).Scan(&cell.LastSighting); err != nil {
		return cell, err
	}
	for _, st := range states {
		if st != "registered" {
			cell.State, cell.Say = "unknown", "a registration is "+st
			return cell, nil
		}
	}
	n := map[string]int{}
	if rep != nil {
		for _, f := range rep.Findings {
			n[f.Severity]++
		}
	}
	switch {
	case n["error"] > 0:
		cell.State, cell.Say = "error", count(n["error"], "error")+" in the tree"
	case n["warning"] > 0:
		cell.State, cell.Say = "warning", count(n["warning"], "warning")+" in the tree"
	case cell.Checked == nil:
		cell.State, cell.Say = "unknown", "registered; the tree was never checked"
	case cell.LastSighting == nil:
		cell.State, cell.Say = "silent", "registered; nothing seen yet"
	default:
		cell.State, cell.Say = "working", "seen by the service"
	}
	return cell, nil
}

func count(n int, word string) string {
	if n == 1 {
		return "1 " + word
	}
	return fmt.Sprintf("%d %ss", n, word)
}
