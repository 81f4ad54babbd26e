package records

import (
	"context"
	"slices"
	"strings"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"ligare/client/shape"
	"ligare/core/sheet"
	"ligare/service/registrar"
	"ligare/service/store"
)

// supplier is a value of a registration that others can ask for.
type supplier struct {
	registration         uuid.UUID
	service, environment string
	title                string
	value                *sheet.Value
	text                 string
}

func (s *supplier) from() string {
	where := s.title
	if s.environment != "" {
		where += ", " + s.environment
	}
	return where + ": " + s.value.Title
}

// suppliers gives the values that an app's registrations supply. They are decrypted here to be carried, and go nowhere else.
func (r *Records) suppliers(ctx context.Context, c Caller, app uuid.UUID) ([]*supplier, error) {
	all, err := r.all(ctx, c.Team)
	if err != nil {
		return nil, err
	}
	rows, err := r.DB.Query(ctx, `SELECT g.id, g.service, g.environment, v.name, v.sealed FROM registrations g JOIN issued_values v ON v.team = g.team AND v.registration = g.id
		WHERE g.team = $1 AND g.app = $2 AND g.state <> 'removed' AND v.current AND v.identity IS NULL AND v.revoked IS NULL ORDER BY g.service, g.environment, v.name`, c.Team, app)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []*supplier
	for rows.Next() {
		s := &supplier{}
		var name string
		var sealed []byte
		if err := rows.Scan(&s.registration, &s.service, &s.environment, &name, &sealed); err != nil {
			return nil, err
		}
		sh := all[s.service]
		if sh == nil || sh.Value(name) == nil || sh.Value(name).Supplies == "" {
			continue
		}
		s.title, s.value = sh.Title, sh.Value(name)
		if s.text, err = r.Keys.Open(sealed, c.Team.String(), s.registration.String(), "registration", name); err != nil {
			return nil, err
		}
		out = append(out, s)
	}
	return out, rows.Err()
}

// Connections gives, for an app, every place where one registration's value belongs into another: open, carried, saved.
func (r *Records) Connections(ctx context.Context, c Caller, app string) ([]shape.Connection, error) {
	a, err := r.App(ctx, c, app)
	if err != nil {
		return nil, err
	}
	list, err := r.suppliers(ctx, c, uuid.MustParse(a.ID))
	if err != nil {
		return nil, err
	}
	regs, err := r.Registrations(ctx, c, app)
	if err != nil {
		return nil, err
	}
	all, err := r.all(ctx, c.Team)
	if err != nil {
		return nil, err
	}
	out := []shape.Connection{}
	for i := range regs {
		g := &regs[i]
		for _, in := range all[g.Service].Intakes() {
			x, err := r.connection(ctx, c, g, in, list, all)
			if err != nil {
				return nil, err
			}
			out = append(out, *x)
		}
	}
	return out, nil
}

// connection says how one intake of a registration stands.
func (r *Records) connection(ctx context.Context, c Caller, g *shape.Registration, in sheet.Intake, list []*supplier, all map[string]*sheet.Sheet) (*shape.Connection, error) {
	x := &shape.Connection{App: g.App, Slot: in.Slot, Title: in.Title, Takes: in.Takes, Registration: g.ID, Service: g.Service, Environment: g.Environment, Needed: in.Kind != "answer" || in.When == "" || slices.Contains(g.Features, in.When)}
	row, err := r.row(ctx, c, g.ID)
	if err != nil {
		return nil, err
	}
	var chosen *uuid.UUID
	var digest string
	err = r.DB.QueryRow(ctx, `SELECT supplier, digest, at FROM carried WHERE team = $1 AND registration = $2 AND slot = $3`, c.Team, row.id, in.Slot).Scan(&chosen, &digest, &x.At)
	if err != nil && !store.None(err) {
		return nil, err
	}
	var fit []*supplier
	for _, s := range list {
		if s.value.Supplies == in.Takes && s.registration != row.id && (s.environment == "" || g.Environment == "" || s.environment == g.Environment) && (chosen == nil || *chosen == s.registration) {
			fit = append(fit, s)
		}
	}
	has := there(row, in)
	x.DownstreamHas = has != ""
	switch {
	case len(fit) == 0:
		x.State, x.Say = "no supplier", "no registration of the app supplies it"
		x.Remedy, x.Needed = "Register with "+who(all, in.Takes)+".", x.Needed && in.Kind == "answer" // a field may stay empty
		if x.DownstreamHas {
			x.State, x.Say = "given", "it was given by hand"
		}
		return x, nil
	case len(fit) > 1:
		x.State, x.Say = "several suppliers", "several registrations supply it"
		for _, s := range fit {
			x.Choices = append(x.Choices, s.service+"/"+s.environment)
		}
		x.Remedy = "Say which: ligare feeds carry " + g.Service + " '" + in.Slot + "' --from " + x.Choices[0]
		for _, s := range fit { // one of them may be there already
			if holds(in, has, s.text, row) {
				choose(x, s, "saved", "seen at the service")
			}
		}
		return x, nil
	}
	s := fit[0]
	switch {
	case holds(in, has, s.text, row):
		choose(x, s, "saved", "seen at the service")
	case has != "" || digest != "":
		choose(x, s, "old", "the service has another value than is supplied now")
		x.Remedy = "Carry it again: ligare feeds carry " + g.Service
	default:
		choose(x, s, "open", "supplied, and not at the service yet")
		x.Remedy = "Carry it: ligare feeds carry " + g.Service
	}
	if x.State == "old" && chosen != nil && digest == registrar.Digest(s.text) && has == "" {
		choose(x, s, "carried", "sent, and not seen at the service")
		x.Remedy = "Look whether it was saved: ligare refresh " + g.Service
	}
	return x, nil
}

func choose(x *shape.Connection, s *supplier, state, say string) {
	x.Supplier, x.From, x.FromTitle, x.FromWhere, x.Value, x.Exposure = s.registration.String(), s.service, s.title, s.environment, s.value.ID, string(s.value.Exposure)
	x.State, x.Say, x.Remedy, x.Choices = state, say, "", nil
}

// who names the services whose sheets supply a value.
func who(all map[string]*sheet.Sheet, takes string) string {
	var names []string
	for _, s := range all {
		if s.Supplier(takes) != nil {
			names = append(names, s.Title)
		}
	}
	slices.Sort(names)
	if len(names) == 0 {
		return "a service whose sheet supplies " + takes
	}
	return strings.Join(names, " or ")
}

// Carry brings a supplied value to where it belongs, and verifies that the service has it afterwards.
func (r *Records) Carry(ctx context.Context, c Caller, id string, want shape.Carry) (*shape.Registration, error) {
	g, s, remote, release, err := r.registered(ctx, c, id)
	if err != nil {
		return nil, err
	}
	defer release()
	i := slices.IndexFunc(s.Intakes(), func(in sheet.Intake) bool { return in.Slot == want.Slot || in.Name == want.Slot })
	if i < 0 {
		var names []string
		for _, in := range s.Intakes() {
			names = append(names, "'"+in.Slot+"'")
		}
		return nil, fail(BadInput, "It takes: "+join(names)+".", "%s takes nothing called %q from another service", s.Title, want.Slot)
	}
	in := s.Intakes()[i]
	from, err := r.chooseSupplier(ctx, c, g, s, in, want.From)
	if err != nil {
		return nil, err
	}
	if s.ByHand() {
		how := "Copy it there" + at(s.Connector.Page) + "."
		if from.value.Exposure == sheet.Server {
			how = "Read it with `ligare server-secrets " + from.service + "` and enter it there" + at(s.Connector.Page) + "."
		}
		return nil, fail(Clash, how, "%s is registered with by hand; Ligare cannot carry it there", s.Title)
	}
	now, err := r.put(ctx, registrar.To(remote), g, in, from)
	if err != nil {
		return nil, explain(s, err)
	}
	b := &pgx.Batch{}
	b.Queue(`INSERT INTO carried (team, registration, slot, supplier, value, digest) VALUES ($1, $2, $3, $4, $5, $6)
		ON CONFLICT (team, registration, slot) DO UPDATE SET supplier = excluded.supplier, value = excluded.value, digest = excluded.digest, at = now()`,
		c.Team, g.id, in.Slot, from.registration, from.value.ID, registrar.Digest(from.text))
	if in.Kind == "answer" {
		sealed, err := r.Keys.Seal(from.text, c.Team.String(), g.id.String(), "answer", in.Name)
		if err != nil {
			return nil, err
		}
		b.Queue(`INSERT INTO sealed_answers (team, registration, name, sealed) VALUES ($1, $2, $3, $4) ON CONFLICT (team, registration, name) DO UPDATE SET sealed = excluded.sealed, given = now()`, c.Team, g.id, in.Name, sealed)
	}
	if err := r.DB.SendBatch(ctx, b).Close(); err != nil {
		return nil, err
	}
	if err := r.absorb(ctx, c, s, remote, g, now, "carried "+in.Slot); err != nil {
		return nil, explain(s, err)
	}
	after, err := r.row(ctx, c, id)
	if err != nil {
		return nil, err
	}
	out, err := r.Registration(ctx, c, id)
	if err != nil {
		return nil, err
	}
	if !holds(in, there(after, in), from.text, after) {
		return nil, fail(Upstream, "Look at the service: it may not have been saved.", "%s took %s and does not show it afterwards", s.Title, in.Title)
	}
	out.Notes = append(out.Notes, in.Title+" was carried over from "+from.from()+" and seen at "+s.Title)
	return out, nil
}

func (r *Records) chooseSupplier(ctx context.Context, c Caller, g *row, s *sheet.Sheet, in sheet.Intake, from string) (*supplier, error) {
	list, err := r.suppliers(ctx, c, g.app)
	if err != nil {
		return nil, err
	}
	var fit []*supplier
	var names []string
	for _, x := range list {
		if x.value.Supplies != in.Takes || x.registration == g.id || x.environment != "" && g.environment != "" && x.environment != g.environment {
			continue
		}
		names = append(names, x.service+"/"+x.environment)
		if from == "" || from == x.service || from == x.service+"/"+x.environment || from == x.registration.String() {
			fit = append(fit, x)
		}
	}
	switch {
	case len(fit) == 1:
		return fit[0], nil
	case len(names) == 0:
		all, err := r.all(ctx, c.Team)
		if err != nil {
			return nil, err
		}
		return nil, fail(Clash, "Register with "+who(all, in.Takes)+" first.", "no registration of %s supplies %s", g.appName, in.Title)
	}
	return nil, fail(BadInput, "Say which with --from: "+join(names)+".", "%d registrations supply %s for %s", len(names), in.Title, s.Title)
}

// put sends a value to its place.
func (r *Records) put(ctx context.Context, s registrar.Service, g *row, in sheet.Intake, from *supplier) (*registrar.Registration, error) {
	switch in.Kind {
	case "redirect":
		now, err := s.Get(ctx, g.remote)
		if err != nil || slices.Contains(now.Redirects, from.text) {
			return now, err
		}
		return s.SetRedirects(ctx, g.remote, append(now.Redirects, from.text))
	case "field":
		return s.SetField(ctx, g.remote, in.Name, from.text)
	}
	return s.SetAnswer(ctx, g.remote, in.Name, from.text, "", "")
}

// there gives what a service was last seen to have at an intake: a digest for an answer, the text for a field, something
// for a list of redirects that holds any.
func there(g *row, in sheet.Intake) string {
	switch in.Kind {
	case "redirect":
		return ""
	case "field":
		return g.fields[in.Name]
	}
	return g.received[in.Name]
}

// holds reports whether the service has a value at an intake.
func holds(in sheet.Intake, has, text string, g *row) bool {
	switch in.Kind {
	case "redirect":
		return slices.Contains(g.redirects, text)
	case "field":
		return has == text
	}
	return has == registrar.Digest(text)
}
