package records

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"sort"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"ligare/client/shape"
	"ligare/core/sheet"
	"ligare/service/registrar"
	"ligare/service/store"
)

func noRegistration(id string) error {
	return fail(Missing, "List them with: ligare registrations", "there is no registration %q", id)
}

func (r *Records) row(ctx context.Context, c Caller, id string) (*row, error) {
	parsed, err := uuid.Parse(id)
	if err != nil {
		return nil, noRegistration(id)
	}
	g := &row{id: parsed}
	err = g.scan(r.DB.QueryRow(ctx, rowQuery, c.Team, parsed))
	if store.None(err) {
		return nil, noRegistration(id)
	}
	return g, err
}

const rowQuery = `SELECT g.app, a.name, g.service, g.environment, g.identity, g.state, g.remote, g.problem, g.remedy, g.revision, g.features, g.redirects, g.answers, g.received, g.fields, g.berths, g.access, g.changed, g.open_access,
			(SELECT st.key FROM registration_steps st WHERE st.team = g.team AND st.registration = g.id AND st.step = 'create')
		FROM registrations g JOIN apps a ON a.team = g.team AND a.id = g.app WHERE g.team = $1 AND g.id = $2`

func (g *row) scan(from pgx.Row) error {
	return from.Scan(&g.app, &g.appName, &g.service, &g.environment, &g.identity, &g.state, &g.remote, &g.problem, &g.remedy, &g.revision, &g.features, &g.redirects, &g.answers, &g.received, &g.fields, &g.berths, &g.access, &g.changed, &g.open, &g.step)
}

// Registrations gives an app's registrations.
func (r *Records) Registrations(ctx context.Context, c Caller, app string) ([]shape.Registration, error) {
	a, err := r.App(ctx, c, app)
	if err != nil {
		return nil, err
	}
	rows, err := r.DB.Query(ctx, `SELECT id FROM registrations WHERE team = $1 AND app = $2 AND state <> 'removed' ORDER BY service, environment, id`, c.Team, a.ID)
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

// whole is everything the records hold of a registration. Server values are not even decrypted.
type whole struct {
	*row
	sheet      *sheet.Sheet
	identities []*identityRow
	values     []valueRow
	created    time.Time
	looked     *time.Time
	duties     []shape.Duty
}

type identityRow struct {
	id                   uuid.UUID
	platform, identifier string
	published            *time.Time
	digests              []string
	answers, sources     map[string]string
	received             map[string]string // as of the last look
	files                []shape.IssuedFile
}

type valueRow struct {
	identity         *uuid.UUID
	name, key, label string
	exposure         sheet.Exposure
	value            string
	current          bool
	source           string
	issued           time.Time
	ends, revoked    *time.Time
}

// whole reads a registration in one round trip.
func (r *Records) whole(ctx context.Context, c Caller, id string, known *sheet.Sheet) (*whole, error) {
	parsed, err := uuid.Parse(id)
	if err != nil {
		return nil, noRegistration(id)
	}
	g := &row{id: parsed}
	w := &whole{row: g, sheet: known}
	b := &pgx.Batch{}
	if known == nil { // which sheet it is has to be known first
		if g, err = r.row(ctx, c, id); err != nil {
			return nil, err
		}
		w.row = g
		if w.sheet, err = r.sheetOf(ctx, c.Team, g.service); err != nil {
			return nil, err
		}
	} else {
		b.Queue(rowQuery, c.Team, parsed).QueryRow(g.scan)
	}
	b.Queue(`SELECT created, looked FROM registrations WHERE team = $1 AND id = $2`, c.Team, g.id).QueryRow(func(row pgx.Row) error { return row.Scan(&w.created, &w.looked) })
	b.Queue(`SELECT i.id, i.platform, i.identifier, i.published, ri.digests, ri.answers, ri.sources, ri.received FROM registration_identities ri JOIN identities i ON i.team = ri.team AND i.id = ri.identity
		WHERE ri.team = $1 AND ri.registration = $2 ORDER BY i.platform, i.identifier`, c.Team, g.id).Query(func(rows pgx.Rows) error {
		for rows.Next() {
			i := &identityRow{}
			if err := rows.Scan(&i.id, &i.platform, &i.identifier, &i.published, &i.digests, &i.answers, &i.sources, &i.received); err != nil {
				return err
			}
			w.identities = append(w.identities, i)
		}
		return rows.Err()
	})
	b.Queue(`SELECT identity, name, key, label, exposure, current, source, issued, ends, revoked, CASE exposure WHEN 'client' THEN sealed END FROM issued_values
		WHERE team = $1 AND registration = $2 ORDER BY name, issued, key`, c.Team, g.id).Query(func(rows pgx.Rows) error {
		for rows.Next() {
			var v valueRow
			var sealed []byte
			if err := rows.Scan(&v.identity, &v.name, &v.key, &v.label, &v.exposure, &v.current, &v.source, &v.issued, &v.ends, &v.revoked, &sealed); err != nil {
				return err
			}
			if v.exposure == sheet.Client {
				var err error
				if v.value, err = r.Keys.Open(sealed, c.Team.String(), g.id.String(), place(v.identity), v.name); err != nil {
					return err
				}
			}
			w.values = append(w.values, v)
		}
		return rows.Err()
	})
	b.Queue(`SELECT identity, file, name, revision, fetched, ends FROM config_files WHERE team = $1 AND registration = $2 ORDER BY file`, c.Team, g.id).Query(func(rows pgx.Rows) error {
		for rows.Next() {
			var identity uuid.UUID
			var f shape.IssuedFile
			if err := rows.Scan(&identity, &f.ID, &f.Name, &f.Revision, &f.Fetched, &f.Ends); err != nil {
				return err
			}
			f.Kind, f.Old = "config", f.Revision < g.revision
			if w.sheet.ByHand() { // its files count by themselves
				f.Old = f.Fetched.Before(g.changed)
			}
			if d := w.sheet.File(f.ID); d != nil && d.Kind != "" {
				f.Kind = d.Kind
			}
			for _, i := range w.identities {
				if i.id == identity {
					i.files = append(i.files, f)
				}
			}
		}
		return rows.Err()
	})
	b.Queue(`SELECT duty, done, done_by, note FROM duties WHERE team = $1 AND registration = $2`, c.Team, g.id).Query(func(rows pgx.Rows) error {
		for rows.Next() {
			d := shape.Duty{Registration: g.id.String(), App: g.appName, Service: g.service, Environment: g.environment}
			if err := rows.Scan(&d.ID, &d.Done, &d.By, &d.Note); err != nil {
				return err
			}
			said := w.sheet.Duty(d.ID)
			if said == nil || said.When != "" && !slices.Contains(g.features, said.When) {
				continue // not asked for (any more)
			}
			if d.Title, d.Before = said.Title, said.Before; d.Before == "" {
				d.Before = "release"
			}
			w.duties = append(w.duties, d)
		}
		return rows.Err()
	})
	err = r.DB.SendBatch(ctx, b).Close()
	if w.sheet.Scope == sheet.ScopeIdentity && len(w.identities) == 1 {
		for i := range w.duties {
			w.duties[i].Identity = w.identities[0].platform + " " + w.identities[0].identifier
		}
	}
	order := map[string]int{"registering": 0, "use": 1, "release": 2}
	sort.SliceStable(w.duties, func(i, j int) bool { return order[w.duties[i].Before] < order[w.duties[j].Before] })
	return w, err
}

// Registration gives one registration; server values come without their value.
func (r *Records) Registration(ctx context.Context, c Caller, id string) (*shape.Registration, error) {
	return r.registration(ctx, c, id, nil)
}

// registration is Registration where the sheet is known already.
func (r *Records) registration(ctx context.Context, c Caller, id string, known *sheet.Sheet) (*shape.Registration, error) {
	w, err := r.whole(ctx, c, id, known)
	if err != nil {
		return nil, err
	}
	g, s := w.row, w.sheet
	out := &shape.Registration{ID: g.id.String(), App: g.appName, Service: g.service, Title: s.Title, Scope: s.Scope, Environment: g.environment, State: g.state, ByHand: s.ByHand(), Reference: g.id.String(), RemoteID: g.remote,
		Revision: g.revision, Features: g.features, Answers: g.answers, Problem: g.problem, Remedy: g.remedy, Identities: []shape.Registered{}, Values: []shape.IssuedValue{}, Keys: []shape.Key{},
		Redirects: g.redirects, Berths: []shape.Berth{}, Fields: g.fields, Duties: append([]shape.Duty{}, w.duties...), Open: g.open, Looked: w.looked, Created: w.created}
	out.Differs = w.differs()
	for name, env := range g.berths {
		out.Berths = append(out.Berths, shape.Berth{Name: name, Environment: env})
	}
	sort.Slice(out.Berths, func(i, j int) bool { return out.Berths[i].Name < out.Berths[j].Name })
	for _, i := range w.identities {
		out.Identities = append(out.Identities, shape.Registered{Platform: i.platform, Identifier: i.identifier, Published: i.published != nil, Values: []shape.IssuedValue{}, Files: append([]shape.IssuedFile{}, i.files...), Digests: i.digests, Answers: i.answers, Sources: i.sources})
	}
	for _, v := range w.values {
		title := v.name
		if d := s.Value(v.name); d != nil {
			title = d.Title
		}
		at := w.at(v.identity)
		if v.key != "" {
			k := shape.Key{ID: v.key, Name: v.name, Title: title, Exposure: string(v.exposure), Label: v.label, Value: v.value, Current: v.current, Issued: v.issued, Ends: v.ends, Revoked: v.revoked}
			if at >= 0 {
				k.Platform, k.Identifier = out.Identities[at].Platform, out.Identities[at].Identifier
			}
			out.Keys = append(out.Keys, k)
		}
		if !v.current {
			continue
		}
		x := shape.IssuedValue{Name: v.name, Title: title, Exposure: string(v.exposure), Value: v.value}
		if d := s.Value(v.name); d != nil {
			x.Instead = d.Instead
		}
		if v.source == "person" {
			x.By = v.source
		}
		switch {
		case v.identity == nil:
			out.Values = append(out.Values, x)
		case at >= 0:
			out.Identities[at].Values = append(out.Identities[at].Values, x)
		}
	}
	if s.ByHand() {
		out.Wanting = wanting(s, out)
	}
	return out, nil
}

// differs lists the answers that the service was seen to have otherwise than they were given.
func (w *whole) differs() []shape.Differing {
	var out []shape.Differing
	compare := func(answers, received map[string]string, platform, identifier string) {
		for i := range w.sheet.Asks {
			a := &w.sheet.Asks[i]
			text := answers[a.ID]
			if (a.Per == "identity") != (identifier != "") || text == "" || len(received) == 0 || a.DigestForm() != "" || a.From == "identity.id" {
				continue
			}
			x := shape.Differing{Answer: a.ID, Title: a.Title, Platform: platform, Identifier: identifier}
			switch received[a.ID] {
			case registrar.Digest(text):
				continue
			case "":
				x.Nothing = true
			}
			out = append(out, x)
		}
	}
	compare(w.answers, w.received, "", "")
	for _, i := range w.identities {
		compare(i.answers, i.received, i.platform, i.identifier)
	}
	return out
}

// at finds the identity of a value; -1 for one of the whole registration.
func (w *whole) at(identity *uuid.UUID) int {
	if identity == nil {
		return -1
	}
	return slices.IndexFunc(w.identities, func(i *identityRow) bool { return i.id == *identity })
}

// Placing gives all that placing needs, client values only: a server value is never handed out for placing.
func (r *Records) Placing(ctx context.Context, c Caller, id string) (*shape.Placing, error) {
	w, err := r.whole(ctx, c, id, nil)
	if err != nil {
		return nil, err
	}
	out := &shape.Placing{Registration: id, Service: w.service, Environment: w.environment, Revision: w.revision, Sheet: string(w.sheet.Source), Features: w.features, Answers: w.answers,
		Berths: map[string]string{}, Values: map[string]string{}, Identities: []shape.PlacingIdentity{}}
	for name, env := range w.berths {
		if env != "" {
			out.Berths[env] = name
		}
	}
	for _, i := range w.identities {
		out.Identities = append(out.Identities, shape.PlacingIdentity{Platform: i.platform, Identifier: i.identifier, Values: map[string]string{}})
	}
	for _, v := range w.values {
		if v.exposure != sheet.Client || !v.current {
			continue
		}
		if at := w.at(v.identity); at >= 0 {
			out.Identities[at].Values[v.name] = v.value
		} else if v.identity == nil {
			out.Values[v.name] = v.value
		}
	}
	for k, i := range w.identities {
		for _, f := range i.files {
			b, err := r.content(ctx, c, w.id, i.id, f.ID)
			if err != nil {
				return nil, err
			}
			if out.Identities[k].Files == nil {
				out.Identities[k].Files = map[string][]byte{}
			}
			out.Identities[k].Files[f.ID] = b
		}
	}
	return out, nil
}

// Comparison gives everything that a tree of an app is compared with. Server values are not in it.
func (r *Records) Comparison(ctx context.Context, c Caller, app string) (*shape.Comparison, error) {
	a, err := r.App(ctx, c, app)
	if err != nil {
		return nil, err
	}
	out := &shape.Comparison{App: *a, Placings: []shape.Placing{}}
	if out.Signers, err = r.Signers(ctx, c, app); err != nil {
		return nil, err
	}
	if out.Registrations, err = r.Registrations(ctx, c, app); err != nil {
		return nil, err
	}
	if out.Connections, err = r.Connections(ctx, c, app); err != nil {
		return nil, err
	}
	if out.Others, err = r.others(ctx, c, a.ID); err != nil {
		return nil, err
	}
	for _, g := range out.Registrations {
		if g.State != "registered" {
			continue
		}
		p, err := r.Placing(ctx, c, g.ID)
		if err != nil {
			return nil, err
		}
		out.Placings = append(out.Placings, *p)
	}
	return out, nil
}

// mostOthers is how many values of other apps are given.
const mostOthers = 2000

// others lists whose the values are that the team's other apps may ship, so that one of them is recognised in this app's
// tree.
func (r *Records) others(ctx context.Context, c Caller, app string) ([]shape.OwnedValue, error) {
	all, err := r.all(ctx, c.Team)
	if err != nil {
		return nil, err
	}
	rows, err := r.DB.Query(ctx, `SELECT v.registration, v.identity, v.name, v.label, v.sealed, g.service, g.environment, a.title, a.name
		FROM issued_values v JOIN registrations g ON g.team = v.team AND g.id = v.registration JOIN apps a ON a.team = g.team AND a.id = g.app
		WHERE v.team = $1 AND g.app <> $2 AND v.exposure = 'client' ORDER BY a.name, g.service, g.environment, v.name, v.label LIMIT $3`, c.Team, app, mostOthers)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := []shape.OwnedValue{}
	for rows.Next() {
		var registration uuid.UUID
		var identity *uuid.UUID
		var name, label, service, environment, title, short string
		var sealed []byte
		if err := rows.Scan(&registration, &identity, &name, &label, &sealed, &service, &environment, &title, &short); err != nil {
			return nil, err
		}
		text, err := r.Keys.Open(sealed, c.Team.String(), registration.String(), place(identity), name)
		if err != nil {
			return nil, err
		}
		if len(text) < 6 { // too many things are called so
			continue
		}
		what, by := name, service
		if s := all[service]; s != nil {
			by = s.Title
			if v := s.Value(name); v != nil {
				what = v.Title
			}
		}
		if title == "" {
			title = short
		}
		x := shape.OwnedValue{Digest: sha256Hex(text), Say: fmt.Sprintf("%s's %s at %s", title, what, by)}
		if environment != "" {
			x.Say += " for " + environment
		}
		if label != "" {
			x.Say += fmt.Sprintf(", made for %q", label)
		}
		out = append(out, x)
	}
	return out, rows.Err()
}

func sha256Hex(text string) string {
	sum := sha256.Sum256([]byte(text))
	return hex.EncodeToString(sum[:])
}

func (r *Records) content(ctx context.Context, c Caller, reg, identity uuid.UUID, file string) ([]byte, error) {
	var sealed []byte
	if err := r.DB.QueryRow(ctx, `SELECT sealed FROM config_files WHERE team = $1 AND registration = $2 AND identity = $3 AND file = $4`, c.Team, reg, identity, file).Scan(&sealed); err != nil {
		return nil, err
	}
	text, err := r.Keys.Open(sealed, c.Team.String(), reg.String(), identity.String(), "file", file)
	return []byte(text), err
}

// File gives a config or licence file under the exact name it must have.
func (r *Records) File(ctx context.Context, c Caller, id, platform, identifier, file string) (name string, content []byte, err error) {
	w, err := r.whole(ctx, c, id, nil)
	if err != nil {
		return "", nil, err
	}
	for _, i := range w.identities {
		for _, f := range i.files {
			if i.platform == platform && i.identifier == identifier && f.ID == file {
				content, err = r.content(ctx, c, w.id, i.id, f.ID)
				return f.Name, content, err
			}
		}
	}
	return "", nil, fail(Missing, "Refresh the registration: ligare refresh "+w.service, "there is no file %q for %s in this registration", file, identifier)
}

// ServerSecrets gives the values that belong into a backend's environment. It needs a role and a reason, and is audited
// before anything is handed out.
func (r *Records) ServerSecrets(ctx context.Context, c Caller, id string, in shape.Reason) ([]shape.ServerSecret, error) {
	if err := c.Need("owner"); err != nil {
		return nil, err
	}
	if len([]rune(in.Reason)) < 8 {
		return nil, fail(BadInput, "Say in a few words what for: --reason TEXT. It is kept in the audit.", "server secrets are handed out with a reason")
	}
	g, err := r.row(ctx, c, id)
	if err != nil {
		return nil, err
	}
	s, err := r.sheetOf(ctx, c.Team, g.service)
	if err != nil {
		return nil, err
	}
	out := []shape.ServerSecret{}
	var names []string
	rows, err := r.DB.Query(ctx, `SELECT identity, name, sealed FROM issued_values WHERE team = $1 AND registration = $2 AND exposure = 'server' AND current AND revoked IS NULL ORDER BY name`, c.Team, g.id)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var identity *uuid.UUID
		var name string
		var sealed []byte
		if err := rows.Scan(&identity, &name, &sealed); err != nil {
			return nil, err
		}
		if len(in.Names) > 0 && !slices.Contains(in.Names, name) {
			continue
		}
		x := shape.ServerSecret{Name: name, Title: name, Env: envName(g.service + "_" + name)}
		if d := s.Value(name); d != nil {
			if x.Title = d.Title; d.Env != "" {
				x.Env = d.Env
			}
		}
		if x.Value, err = r.Keys.Open(sealed, c.Team.String(), g.id.String(), place(identity), name); err != nil {
			return nil, err
		}
		out, names = append(out, x), append(names, name)
	}
	if err := rows.Err(); err != nil {
		return nil, err
	}
	rows.Close()
	for _, n := range in.Names {
		if !slices.Contains(names, n) {
			return nil, fail(Missing, "Leave the name out to get all of them.", "%s has issued no server value %q here", s.Title, n)
		}
	}
	if len(out) == 0 {
		return nil, fail(Missing, "See what was issued with: ligare registrations", "%s has issued no server values here", s.Title)
	}
	return out, pgx.BeginFunc(ctx, r.DB, func(tx pgx.Tx) error {
		return r.audit(ctx, tx, c, "server secrets read", g.appName+" at "+g.service+" "+g.environment, map[string]any{"names": names, "reason": in.Reason})
	})
}

func envName(s string) string {
	b := []byte(s)
	for i, ch := range b {
		switch {
		case ch >= 'a' && ch <= 'z':
			b[i] = ch - 'a' + 'A'
		case ch >= 'A' && ch <= 'Z' || ch >= '0' && ch <= '9':
		default:
			b[i] = '_'
		}
	}
	return string(b)
}

// readFile reads a file by its sheet and checks that it belongs to this identity; identifier "" takes any.
func readFile(s *sheet.Sheet, f *sheet.File, content []byte, identifier string, _ int) (*gotten, error) {
	got, err := f.Contents(content)
	if err != nil {
		return nil, err
	}
	out := &gotten{file: f, content: content}
	if id, ok := sheet.One(got, "identity"); ok && identifier != "" && id.Value != identifier {
		return nil, errors.New("it belongs to " + id.Value)
	} else if _, asked := f.Read["identity"]; asked && !ok {
		return nil, errors.New("it does not say which app it belongs to (nothing at " + f.Read["identity"] + "); was it cut off?")
	}
	if e, ok := sheet.One(got, "ends"); ok {
		for _, layout := range []string{time.RFC3339, time.DateOnly} {
			if t, err := time.Parse(layout, e.Value); err == nil {
				out.ends = &t
			}
		}
	}
	for name := range f.Read {
		v := s.Value(name)
		if v == nil || v.Exposure == sheet.Server {
			continue
		}
		if x, ok := sheet.One(got, name); ok && !sheet.Match(v.Pattern, x.Value) {
			return nil, errors.New(v.Title + " in it has not the form the sheet gives it")
		}
	}
	return out, nil
}
