package records

import (
	"context"
	"fmt"
	"path"
	"strings"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"ligare/client/shape"
	"ligare/core/ident"
	"ligare/core/sheet"
	"ligare/service/registrar"
)

// wanting lists what a registration made by hand still lacks.
func wanting(s *sheet.Sheet, g *shape.Registration) []string {
	have := map[string]bool{}
	var of []sheet.Holder
	for _, v := range g.Values {
		have[v.Name] = true
	}
	for _, i := range g.Identities {
		h := sheet.Holder{Platform: i.Platform, ID: i.Identifier}
		of = append(of, h)
		for _, v := range i.Values {
			have[v.Name+h.String()] = true
		}
		for _, f := range i.Files {
			have["file "+f.ID+h.String()] = true
		}
	}
	return s.Wanting(g.Features, of, func(id string, h sheet.Holder) bool { return have[id+h.String()] })
}

// byHand makes a registration at a service that nothing is sent to: a person registers there and records what was issued.
func (r *Records) byHand(ctx context.Context, c Caller, w *wish) (*shape.Registration, error) {
	err := pgx.BeginFunc(ctx, r.DB, func(tx pgx.Tx) error {
		b := &pgx.Batch{}
		features := []string{}
		for _, f := range append(append([]string{}, w.reg.features...), w.work.Features...) {
			if !contains(features, f) && !contains(w.in.FeaturesOff, f) {
				features = append(features, f)
			}
		}
		redirects := []string{}
		for _, l := range w.plan.Redirects {
			redirects = append(redirects, l.Value)
		}
		raise := w.reg.revision == 0 || !same(features, w.reg.features) || !same(redirects, w.reg.redirects)
		for _, l := range w.plan.Lines {
			if l.ID != "" && l.Ask.DigestForm() != "" && l.Value != "" {
				done, err := tx.Exec(ctx, `UPDATE registration_identities ri SET digests = array_append(ri.digests, $5) FROM identities i WHERE ri.team = $1 AND ri.registration = $2 AND i.team = ri.team AND i.id = ri.identity
					AND i.platform = $3 AND i.identifier = $4 AND NOT $5 = ANY(ri.digests)`, c.Team, w.reg.id, l.Platform, l.ID, l.Value)
				if err != nil {
					return err
				}
				raise = raise || done.RowsAffected() > 0
			}
		}
		b.Queue(`UPDATE registrations SET features = $3, redirects = $4, version = version + 1, revision = revision + $5, changed = CASE WHEN $5 = 0 THEN changed ELSE now() END
			WHERE team = $1 AND id = $2`, c.Team, w.reg.id, features, redirects, map[bool]int{true: 1}[raise])
		for _, d := range w.sheet.Duties {
			b.Queue(`INSERT INTO duties (team, registration, duty) VALUES ($1, $2, $3) ON CONFLICT DO NOTHING`, c.Team, w.reg.id, d.ID)
		}
		return tx.SendBatch(ctx, b).Close()
	})
	if err != nil {
		return nil, err
	}
	return r.settleByHand(ctx, c, w.sheet, w.reg, nil)
}

// settleByHand says whether a registration made by hand is whole.
func (r *Records) settleByHand(ctx context.Context, c Caller, s *sheet.Sheet, g *row, notes []string) (*shape.Registration, error) {
	out, err := r.Registration(ctx, c, g.id.String())
	if err != nil {
		return nil, err
	}
	state, problem, remedy := "registered", "", ""
	if len(out.Wanting) > 0 {
		state, problem = "started", "still to be recorded: "+strings.Join(out.Wanting, ", ")
		remedy = "Register" + at(s.Connector.Page) + " with what is shown, then enter what it issues: ligare record " + g.service + "."
	}
	err = pgx.BeginFunc(ctx, r.DB, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, `UPDATE registrations SET state = $3, problem = $4, remedy = $5 WHERE team = $1 AND id = $2`, c.Team, g.id, state, problem, remedy); err != nil {
			return err
		}
		return r.emit(ctx, tx, c.Team, "registration", map[string]string{"app": g.appName, "service": s.Service})
	})
	out.State, out.Problem, out.Remedy, out.Notes = state, problem, remedy, notes
	return out, err
}

// Record takes values and files that were issued elsewhere, for any sheet: what comes along when a value is copied is taken
// off and said, each is held against the sheet's pattern, and files are read by its pointers. Nothing is kept when one of
// them is wrong.
func (r *Records) Record(ctx context.Context, c Caller, id string, in shape.Recorded) (*shape.Registration, error) {
	g, s, _, release, err := r.working(ctx, c, id)
	if err != nil {
		return nil, err
	}
	defer release()
	if len(in.Values)+len(in.Files) == 0 {
		return nil, fail(BadInput, "Name a value or a file.", "there is nothing to record")
	}
	all, err := r.all(ctx, c.Team)
	if err != nil {
		return nil, err
	}
	reg, err := r.Registration(ctx, c, id)
	if err != nil {
		return nil, err
	}
	k := &keeping{Records: r, c: c, g: g, s: s, all: all, reg: reg, batch: &pgx.Batch{}, force: in.Force}
	if k.ids, err = r.ownIDs(ctx, c, g.id); err != nil {
		return nil, err
	}
	for _, f := range in.Files {
		if err := k.file(f); err != nil {
			return nil, err
		}
	}
	for _, v := range in.Values {
		if err := k.value(v); err != nil {
			return nil, err
		}
	}
	if k.revision > g.revision && !s.ByHand() {
		k.batch.Queue(`UPDATE registrations SET revision = $3 WHERE team = $1 AND id = $2`, c.Team, g.id, k.revision)
	}
	err = pgx.BeginFunc(ctx, r.DB, func(tx pgx.Tx) error {
		if err := tx.SendBatch(ctx, k.batch).Close(); err != nil {
			return err
		}
		return r.audit(ctx, tx, c, "recorded by hand", g.appName+" at "+g.service+" "+g.environment, map[string]any{"what": k.names})
	})
	if err != nil {
		return nil, err
	}
	if s.ByHand() {
		return r.settleByHand(ctx, c, s, g, k.notes)
	}
	out, err := r.Registration(ctx, c, id)
	if err == nil {
		out.Notes = k.notes
	}
	return out, err
}

func (r *Records) ownIDs(ctx context.Context, c Caller, reg uuid.UUID) (map[string]uuid.UUID, error) {
	return r.ids(ctx, `SELECT i.platform || ' ' || i.identifier, i.id FROM registration_identities ri JOIN identities i ON i.team = ri.team AND i.id = ri.identity WHERE ri.team = $1 AND ri.registration = $2`, c.Team, reg)
}

// keeping is a recording under way.
type keeping struct {
	*Records
	c        Caller
	g        *row
	s        *sheet.Sheet
	all      map[string]*sheet.Sheet
	reg      *shape.Registration
	ids      map[string]uuid.UUID
	batch    *pgx.Batch
	names    []string
	notes    []string
	revision int
	force    bool
}

// identity finds the identity a value or file is for; where only one can be meant it need not be named.
func (k *keeping) identity(what, platform, identifier string, fits func(platform string) bool) (*uuid.UUID, string, string, error) {
	var found []shape.Registered
	for _, i := range k.reg.Identities {
		if (platform == "" || platform == i.Platform) && (identifier == "" || identifier == i.Identifier) && fits(i.Platform) {
			found = append(found, i)
		}
	}
	if len(found) == 1 {
		id := k.ids[found[0].Platform+" "+found[0].Identifier]
		return &id, found[0].Platform, found[0].Identifier, nil
	}
	var names []string
	for _, i := range k.reg.Identities {
		names = append(names, i.Identifier+" ("+i.Platform+")")
	}
	if len(found) == 0 {
		return nil, "", "", fail(BadInput, "This registration holds: "+join(names)+".", "%s is for no identity of this registration", what)
	}
	return nil, "", "", fail(BadInput, "Say which with --for ID: "+join(names)+".", "%s could be for %d identities", what, len(found))
}

func (k *keeping) value(in shape.RecordedValue) error {
	clean := sheet.Clean(in.Value)
	if say, remedy := k.s.Misfit(in.Name, clean.Value, k.all); say != "" && (!k.force || k.s.Value(in.Name) == nil || clean.Value == "") {
		return fail(BadInput, remedy, "%s", say)
	}
	v := k.s.Value(in.Name)
	var identity *uuid.UUID
	if v.Per == "identity" {
		var err error
		if identity, _, _, err = k.identity(v.Title, in.Platform, in.Identifier, func(p string) bool { return v.Platform == "" || string(v.Platform) == p }); err != nil {
			return err
		}
	}
	if len(clean.Took) > 0 {
		k.notes = append(k.notes, fmt.Sprintf("%s was cleaned: %s", v.Title, strings.Join(clean.Took, "; ")))
	}
	k.names = append(k.names, in.Name)
	return k.saveValue(k.batch, k.c, k.s, k.g.id, identity, registrarKey(in.Name, clean.Value), "person", true)
}

func (k *keeping) file(in shape.RecordedFile) error {
	f, err := k.which(in)
	if err != nil {
		return err
	}
	got, err := f.Contents(in.Content)
	if err != nil {
		return fail(BadInput, "Download it again, and look at it before you enter it.", "%s: %v", in.Name, err)
	}
	id, says := sheet.One(got, "identity")
	if _, asked := f.Read["identity"]; asked && !says {
		return fail(BadInput, "Download it again; if it is whole, correct the pointer in the sheet.", "%s does not say which app it belongs to: nothing stands at %s", in.Name, f.Read["identity"])
	}
	identity, platform, identifier, err := k.identity(f.Name, string(f.Platform), id.Value, func(p string) bool { return f.Platform == "" || string(f.Platform) == p })
	if err != nil {
		if says {
			return k.foreign(in.Name, id.Value)
		}
		return err
	}
	parsed, err := readFile(k.s, f, in.Content, identifier, 0)
	if err != nil {
		return fail(BadInput, "Download it again.", "%s: %v", in.Name, err)
	}
	if base := path.Base(strings.ReplaceAll(in.Name, `\`, "/")); base != f.Name {
		k.notes = append(k.notes, fmt.Sprintf("the file is called %s and has to be %s; it is kept under that name", base, f.Name))
	}
	revision := max(k.g.revision, 1)
	if rev, ok := sheet.One(got, "revision"); ok {
		n := 0
		if _, err := fmt.Sscanf(rev.Value, "%d", &n); err == nil && n > 0 {
			revision = n
			if had := k.before(f, platform, identifier); n < had {
				k.notes = append(k.notes, fmt.Sprintf("%s is revision %d; %d was known already: is it an old download?", f.Name, n, had))
			}
			k.revision = max(k.revision, n)
		}
	}
	for name := range f.Read { // values that stand in the file need not be entered
		v := k.s.Value(name)
		x, ok := sheet.One(got, name)
		if v == nil || !ok {
			continue
		}
		var of *uuid.UUID
		if v.Per == "identity" {
			of = identity
		}
		if err := k.saveValue(k.batch, k.c, k.s, k.g.id, of, registrarKey(name, x.Value), "person", true); err != nil {
			return err
		}
		whose := ""
		if of != nil {
			whose = " of " + identifier
		}
		k.notes = append(k.notes, fmt.Sprintf("%s%s was read from %s, line %d", v.Title, whose, f.Name, x.Line))
		k.names = append(k.names, name)
	}
	k.names = append(k.names, f.Name+" for "+platform+" "+identifier)
	return k.saveFile(k.batch, k.c, k.g.id, *identity, *parsed, revision, "person")
}

// before is the newest revision that is known: of the registration, or of the same file where a person registers and
// each file counts by itself.
func (k *keeping) before(f *sheet.File, platform, identifier string) int {
	if !k.s.ByHand() {
		return k.g.revision
	}
	for _, i := range k.reg.Identities {
		for _, x := range i.Files {
			if i.Platform == platform && i.Identifier == identifier && x.ID == f.ID {
				return x.Revision
			}
		}
	}
	return 0
}

// which finds the sheet's file that was meant: named, or by its name, or the only one that can be read.
func (k *keeping) which(in shape.RecordedFile) (*sheet.File, error) {
	if in.File != "" {
		if f := k.s.File(in.File); f != nil {
			return f, nil
		}
		return nil, fail(BadInput, "Leave it out, and it is told by its name.", "the sheet of %s has no file %q", k.s.Title, in.File)
	}
	base := plain(path.Base(strings.ReplaceAll(in.Name, `\`, "/")))
	var fits []*sheet.File
	for i := range k.s.Issues.Files {
		f := &k.s.Issues.Files[i]
		if plain(f.Name) == base {
			return f, nil
		}
		if got, err := f.Contents(in.Content); err == nil && len(got) > 0 {
			fits = append(fits, f)
		}
	}
	if len(fits) == 1 {
		return fits[0], nil
	}
	var names []string
	for _, f := range k.s.Issues.Files {
		names = append(names, f.Name)
		if len(k.s.Issues.Files) == 1 {
			return &k.s.Issues.Files[0], nil
		}
	}
	return nil, fail(BadInput, "It issues: "+join(names)+".", "%s is none of the files that %s issues", in.Name, k.s.Title)
}

// plain takes a copy's suffix and letter case off a file name: "Name (1).json" is a second download of name.json.
func plain(name string) string {
	ext := path.Ext(name)
	stem := strings.TrimSuffix(name, ext)
	if i := strings.LastIndex(stem, " ("); i > 0 && strings.HasSuffix(stem, ")") {
		stem = stem[:i]
	}
	return strings.ToLower(strings.TrimSuffix(stem, " copy") + ext)
}

// foreign says whose file it is.
func (k *keeping) foreign(name, id string) error {
	for _, i := range k.reg.Identities {
		if strings.EqualFold(i.Identifier, id) {
			return fail(BadInput, "Register the identifier as the build has it; "+ident.Difference(i.Identifier, id)+".", "%s belongs to %s; this registration holds %s", name, id, i.Identifier)
		}
	}
	var names []string
	for _, i := range k.reg.Identities {
		names = append(names, i.Identifier)
	}
	return fail(BadInput, "Download the one of: "+join(names)+".", "%s belongs to %s, which is not part of this registration", name, id)
}

func registrarKey(name, value string) registrar.Key { return registrar.Key{Name: name, Value: value} }

func contains(list []string, s string) bool {
	for _, x := range list {
		if x == s {
			return true
		}
	}
	return false
}
