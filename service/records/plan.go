package records

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"ligare/client/shape"
	"ligare/core/asking"
	"ligare/core/cert"
	"ligare/core/ident"
	"ligare/core/sheet"
	"ligare/service/store"
)

// wish is a request to register with everything that is known about it.
type wish struct {
	in      shape.Register
	sheet   *sheet.Sheet
	app     *shape.App
	account *account // nil when the team has none
	reg     *row     // nil when nothing stands yet
	work    *asking.Work
	plan    *asking.Plan
	answers map[string]string // kept from before, those that may be shown
	id      uuid.UUID         // of the registration, once it is recorded
	sent    map[string]string // answers of the create that was sent just now
	first   *attempt          // the create, when it was recorded with the registration
}

// Plan says what would be sent to a service, in exactly its form, with where each answer was found. Nothing is sent or kept.
func (r *Records) Plan(ctx context.Context, c Caller, in shape.Register) (*shape.Plan, error) {
	w, err := r.wish(ctx, c, in)
	if err != nil {
		return nil, err
	}
	return r.shown(ctx, c, w)
}

// wish reads the records for a request, and works out its answers.
func (r *Records) wish(ctx context.Context, c Caller, in shape.Register) (*wish, error) {
	s, app, account, err := r.setting(ctx, c, in)
	if err != nil {
		return nil, err
	}
	if s.Scope != sheet.ScopeEnvironment {
		in.Environment = ""
	} else if !slices.Contains(app.Environments, in.Environment) {
		return nil, fail(BadInput, "Use one of: "+strings.Join(app.Environments, ", ")+".", "the app %s has no environment %q", app.Name, in.Environment)
	}
	for _, f := range slices.Concat(in.Features, in.FeaturesOff) {
		if s.Feature(f) == nil {
			var names []string
			for _, x := range s.Features {
				names = append(names, x.ID)
			}
			return nil, fail(BadInput, "Its features: "+strings.Join(names, ", ")+".", "%s has no feature %q", s.Title, f)
		}
	}
	for name := range in.Answers {
		if s.Ask(name) == nil {
			var names []string
			for _, a := range s.Asks {
				names = append(names, a.ID)
			}
			remedy := "It asks: " + strings.Join(names, ", ") + "."
			if near := sheet.Nearest(name, names); near != "" {
				remedy = "Did you mean " + near + "? " + remedy
			}
			return nil, fail(BadInput, remedy, "%s asks nothing called %q", s.Title, name)
		}
	}
	if len(in.Redirects) > 0 && s.Redirects == nil {
		return nil, fail(BadInput, "Leave them out.", "%s keeps no redirect URIs", s.Title)
	}
	if len(in.Berths) > 0 && s.Berths == nil {
		return nil, fail(BadInput, "Leave them out.", "%s has no berths", s.Title)
	}
	for _, b := range in.Berths {
		if !sheet.Match(s.Berths.Grammar, b.Name) || b.Name == "" {
			return nil, fail(BadInput, "It must match "+s.Berths.Grammar+".", "%s cannot be called %q at %s", s.Berths.Title, b.Name, s.Title)
		}
		if b.Environment != "" && !slices.Contains(app.Environments, b.Environment) {
			return nil, fail(BadInput, "Use one of: "+strings.Join(app.Environments, ", ")+".", "the app %s has no environment %q", app.Name, b.Environment)
		}
	}
	w := &wish{in: in, sheet: s, app: app, account: account, answers: map[string]string{}}
	if err := r.identitiesOf(w); err != nil {
		return nil, err
	}
	if w.reg, err = r.standing(ctx, c, w); err != nil {
		return nil, err
	}
	if w.work, err = r.known(ctx, c, w); err != nil {
		return nil, err
	}
	w.plan = w.work.Plan()
	return w, nil
}

// setting reads what every request needs, in one trip: the sheet, the app, the account.
func (r *Records) setting(ctx context.Context, c Caller, in shape.Register) (s *sheet.Sheet, app *shape.App, a *account, err error) {
	var digest, source string
	b := &pgx.Batch{}
	b.Queue(`SELECT digest, source FROM sheets WHERE team = $1 AND service = $2 AND current`, c.Team, in.Service).Query(func(rows pgx.Rows) error {
		for rows.Next() {
			if err := rows.Scan(&digest, &source); err != nil {
				return err
			}
		}
		return rows.Err()
	})
	b.Queue(appsQuery, c.Team, in.App, "", 1).Query(func(rows pgx.Rows) error {
		list, err := scanApps(rows)
		if len(list) > 0 {
			app = &list[0]
		}
		return err
	})
	b.Queue(`SELECT id, address, credential FROM accounts WHERE team = $1 AND service = $2`, c.Team, in.Service).Query(func(rows pgx.Rows) error {
		for rows.Next() {
			a = &account{}
			if err := rows.Scan(&a.id, &a.address, &a.sealed); err != nil {
				return err
			}
		}
		return rows.Err()
	})
	if err := r.DB.SendBatch(ctx, b).Close(); err != nil {
		return nil, nil, nil, err
	}
	switch {
	case digest != "":
		s, err = r.Sheets.parse(in.Service, digest, source)
	case r.Sheets.Shipped[in.Service] != nil:
		s = r.Sheets.Shipped[in.Service]
	default:
		s, err = r.sheetOf(ctx, c.Team, in.Service) // says which was meant
	}
	if err == nil && app == nil {
		err = noApp(in.App)
	}
	return s, app, a, err
}

// identitiesOf checks the identities named against the app and the sheet.
func (r *Records) identitiesOf(w *wish) error {
	if w.sheet.Scope == sheet.ScopeIdentity && len(w.in.Identities) != 1 {
		return fail(BadInput, "Name one identity; run it again for the next.", "%s registers each identity by itself, and %d are named", w.sheet.Title, len(w.in.Identities))
	}
	for _, i := range w.in.Identities {
		if !slices.Contains(w.sheet.Platforms, ident.Platform(i.Platform)) {
			return fail(BadInput, "Leave it out.", "%s does not serve the platform %s", w.sheet.Title, i.Platform)
		}
		if !slices.ContainsFunc(w.app.Identities, func(k shape.Identity) bool { return k.Platform == i.Platform && k.Identifier == i.Identifier }) {
			return fail(BadInput, "Attach the tree again, so that its identities are known: ligare app attach "+w.app.Name, "%s is not an identity of %s", i.Identifier, w.app.Name)
		}
		for name := range i.Answers {
			if a := w.sheet.Ask(name); a == nil || a.Per != "identity" {
				return fail(BadInput, "See: ligare service show "+w.sheet.Service, "%s asks nothing called %q for each identity", w.sheet.Title, name)
			}
		}
	}
	return nil
}

// standing finds the registration that a request would add to.
func (r *Records) standing(ctx context.Context, c Caller, w *wish) (*row, error) {
	var id uuid.UUID
	err := r.DB.QueryRow(ctx, `SELECT id FROM registrations WHERE team = $1 AND app = $2 AND service = $3 AND environment = $4 AND identity IS NOT DISTINCT FROM $5 AND state <> 'removed'`,
		c.Team, w.app.ID, w.sheet.Service, w.in.Environment, w.identityID()).Scan(&id)
	if store.None(err) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	return r.row(ctx, c, id.String())
}

// identityID gives the identity that a registration of one identity spans; nil for wider ones.
func (w *wish) identityID() *uuid.UUID {
	if w.sheet.Scope != sheet.ScopeIdentity {
		return nil
	}
	for _, k := range w.app.Identities {
		if k.Platform == w.in.Identities[0].Platform && k.Identifier == w.in.Identities[0].Identifier {
			if id, err := uuid.Parse(k.ID); err == nil {
				return &id
			}
		}
	}
	return nil
}

// known gathers what the records know: answers given before, facts of the last survey, signers, what others supply.
func (r *Records) known(ctx context.Context, c Caller, w *wish) (*asking.Work, error) {
	k := &asking.Work{Sheet: w.sheet, Answers: map[string]asking.Found{}, Kept: map[string]bool{}, Supplies: map[string][]asking.Supply{}, Chosen: map[string]string{}, NoRedirects: w.in.NoRedirects,
		App: map[string]asking.Found{"app.name": {Value: strings.Trim(w.app.Name+"-"+w.in.Environment, "-"), From: "the app's name"}, "app.title": {Value: w.app.Title, From: "the app's title"}}}
	for _, f := range w.sheet.Features {
		if f.Default {
			k.Features = append(k.Features, f.ID)
		}
	}
	for slot, reg := range w.in.From {
		k.Chosen[slot], k.Chosen["answer "+slot] = reg, reg
	}
	if w.reg != nil {
		if err := r.before(ctx, c, w, k); err != nil {
			return nil, err
		}
	}
	k.Features = append(k.Features, w.in.Features...)
	for name, v := range w.in.Answers {
		if v != "" {
			k.Answers[name] = asking.Found{Value: v, From: "given"}
		}
	}
	for _, u := range w.in.Redirects {
		k.Redirects = append(k.Redirects, asking.Found{Value: u, From: "given"})
	}
	for _, i := range w.in.Identities {
		id := asking.Identity{Platform: ident.Platform(i.Platform), Identifier: i.Identifier, Answers: map[string]asking.Found{}, Facts: map[string]asking.Found{}}
		if err := r.facts(ctx, c, w, &id); err != nil {
			return nil, err
		}
		for name, v := range i.Answers {
			from := i.Sources[name]
			if from == "" {
				from = "given"
			}
			id.Answers[name] = asking.Found{Value: v, From: from}
		}
		k.Identities = append(k.Identities, id)
	}
	return k, r.supplies(ctx, c, w, k)
}

// before reads what a standing registration was given.
func (r *Records) before(ctx context.Context, c Caller, w *wish, k *asking.Work) error {
	k.Features = slices.DeleteFunc(k.Features, func(f string) bool { return w.reg.remote != "" && !slices.Contains(w.reg.features, f) })
	for _, f := range w.reg.features {
		if !slices.Contains(k.Features, f) && !slices.Contains(w.in.FeaturesOff, f) {
			k.Features = append(k.Features, f)
		}
	}
	for name, v := range w.reg.answers {
		w.answers[name] = v
		k.Answers[name] = asking.Found{Value: v, From: "given before"}
	}
	for _, u := range w.reg.redirects {
		k.Redirects = append(k.Redirects, asking.Found{Value: u, From: "kept at the service"})
	}
	rows, err := r.DB.Query(ctx, `SELECT name FROM sealed_answers WHERE team = $1 AND registration = $2`, c.Team, w.reg.id)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var name string
		if err := rows.Scan(&name); err != nil {
			return err
		}
		k.Kept[name] = true
	}
	return rows.Err()
}

// facts gives what the last survey and the signers say of an identity.
func (r *Records) facts(ctx context.Context, c Caller, w *wish, id *asking.Identity) error {
	var identity string
	for _, k := range w.app.Identities {
		if k.Platform == string(id.Platform) && k.Identifier == id.Identifier {
			identity = k.ID
			if k.DisplayName != "" {
				id.Facts["identity.display_name"] = asking.Found{Value: k.DisplayName, From: "the records"}
			}
			if k.StoreID != "" {
				id.Facts["identity.store_id"] = asking.Found{Value: k.StoreID, From: "the records"}
			}
		}
	}
	b := &pgx.Batch{}
	b.Queue(`SELECT layout, facts FROM variants WHERE team = $1 AND identity = $2 ORDER BY site, variant`, c.Team, identity)
	b.Queue(`SELECT s.name, s.role, encode(s.sha256, 'hex'), s.certificate FROM identity_signers x JOIN signers s ON s.team = x.team AND s.id = x.signer WHERE x.team = $1 AND x.identity = $2 ORDER BY s.role, s.name`, c.Team, identity)
	res := r.DB.SendBatch(ctx, b)
	defer res.Close()
	rows, err := res.Query()
	if err != nil {
		return err
	}
	for rows.Next() {
		var layout string
		var raw []byte
		var list []shape.SurveyedFact
		if err := rows.Scan(&layout, &raw); err != nil {
			return err
		}
		if err := json.Unmarshal(raw, &list); err != nil {
			return err
		}
		surveyed(id, layout, list)
	}
	if err := rows.Err(); err != nil {
		return err
	}
	if rows, err = res.Query(); err != nil {
		return err
	}
	for rows.Next() {
		var name, role, digest string
		var der []byte
		if err := rows.Scan(&name, &role, &digest, &der); err != nil {
			return err
		}
		signed(id, name+" ("+role+" certificate)", der)
	}
	return rows.Err()
}

// surveyed takes the facts of one variant; the first variant that knows one counts.
func surveyed(id *asking.Identity, layout string, list []shape.SurveyedFact) {
	put := func(name, value, from string) {
		if _, had := id.Facts[name]; !had && value != "" {
			id.Facts[name] = asking.Found{Value: value, From: from}
		}
	}
	framework := "native"
	if _, over, ok := strings.Cut(layout, " under "); ok {
		framework = over
	} else if layout == "dotnet" || layout == "engine" || layout == "hosted-web" {
		framework = layout
	}
	put("identity.framework", framework, "the tree, "+layout)
	for _, f := range list {
		place := "the tree, " + f.Place
		switch f.Name {
		case "launcher activity":
			put("identity.launcher_activity", f.Value, place)
		case "namespace":
			put("identity.namespace", f.Value, place)
		case "signing team":
			put("identity.team", f.Value, place)
		case "display name":
			put("identity.display_name", f.Value, place)
		case "certificate SHA-1", "certificate SHA-256":
			for _, form := range sheet.DigestForms {
				put("signer."+form, cert.FormOf(f.Value, form), place)
			}
		}
	}
}

// signed takes the digests of a certificate that signs an identity.
func signed(id *asking.Identity, from string, der []byte) {
	for form, v := range cert.Forms(der) {
		if _, had := id.Facts["signer."+form]; !had {
			id.Facts["signer."+form] = asking.Found{Value: v, From: "signer " + from}
		}
	}
}

// secret reports whether an answer is kept sealed: secrets, what others supply, files and images.
func secret(a *sheet.Ask) bool {
	return a.Secret() || a.Supplied() != "" || a.From == "image" || a.From == "file"
}

// shown gives a plan as the API shows it: secrets without their value.
func (r *Records) shown(ctx context.Context, c Caller, w *wish) (*shape.Plan, error) {
	out := &shape.Plan{App: w.app.Name, Service: w.sheet.Service, Title: w.sheet.Title, Environment: w.in.Environment, Identities: []shape.PlanPart{}, Lines: []shape.PlanLine{}, Redirects: []shape.PlanLine{}, Features: []shape.PlanFeature{}, Duties: []shape.Duty{}}
	if w.sheet.ByHand() {
		out.ByHand = strings.TrimSpace("Register by hand" + at(w.sheet.Connector.Page) + ". " + w.sheet.Connector.LookFor)
	}
	var had []string
	if w.reg != nil {
		out.Standing = w.reg.id.String()
		g, err := r.Registration(ctx, c, w.reg.id.String())
		if err != nil {
			return nil, err
		}
		for _, i := range g.Identities {
			if len(i.Values) > 0 || g.RemoteID != "" {
				had = append(had, i.Platform+" "+i.Identifier)
			}
		}
	}
	for _, i := range w.in.Identities {
		out.Identities = append(out.Identities, shape.PlanPart{Platform: i.Platform, Identifier: i.Identifier, Standing: slices.Contains(had, i.Platform+" "+i.Identifier)})
	}
	for _, l := range w.plan.Lines {
		out.Lines = append(out.Lines, line(l))
	}
	for _, l := range w.plan.Redirects {
		out.Redirects = append(out.Redirects, line(l))
	}
	for _, f := range w.sheet.Features {
		out.Features = append(out.Features, shape.PlanFeature{ID: f.ID, Title: f.Title, On: w.reg != nil && slices.Contains(w.reg.features, f.ID) || w.reg == nil && f.Default, Asked: slices.Contains(w.in.Features, f.ID)})
	}
	for _, d := range w.sheet.Duties {
		if d.Before == "registering" {
			out.Duties = append(out.Duties, shape.Duty{App: w.app.Name, Service: w.sheet.Service, ID: d.ID, Title: d.Title, Before: d.Before})
		}
	}
	out.Ready = len(w.plan.Problems()) == 0
	return out, nil
}

func at(page string) string {
	if page == "" {
		return ""
	}
	return " at " + page
}

func line(l asking.Line) shape.PlanLine {
	x := shape.PlanLine{Platform: string(l.Platform), Identifier: l.ID, Value: l.Value, Given: l.Value != "", Secret: l.Secret, From: l.From, Needed: l.Needed, Kind: "text", Problem: l.Problem, Remedy: l.Remedy}
	if l.Ask == nil {
		x.Ask, x.Title, x.Kind = "redirect", "Redirect URI", "found"
		return x
	}
	x.Ask, x.Title, x.Help, x.Choices, x.Example = l.Ask.ID, l.Ask.Title, l.Ask.Help, l.Ask.Choices, l.Ask.Example
	switch l.Ask.From {
	case "choice", "secret", "file", "image":
		x.Kind = l.Ask.From
	case "identity.id", "identity.platform":
		x.Kind = "found"
	}
	if l.Ask.Supplied() != "" {
		if x.Kind = "found"; l.From == "" { // nobody supplies it: a person may
			x.Kind = "secret"
		}
	}
	if l.From == "given before" && l.Value == "" {
		x.Given = true
	}
	if l.Secret {
		x.Value = ""
	}
	if l.Ask.From == "image" || l.Ask.From == "file" {
		if l.Value != "" {
			x.Value = fmt.Sprintf("%d KB", (len(l.Value)*3/4+1023)/1024)
		}
	}
	return x
}

// refuse gives the first problem of a plan as an error, with the others after it.
func refuse(p *asking.Plan) error {
	list := p.Problems()
	if len(list) == 0 {
		return nil
	}
	what := list[0].Problem
	for _, l := range list[1:] {
		what += "; " + l.Problem
	}
	remedy := list[0].Remedy
	for _, l := range list[1:] {
		if l.Remedy != remedy {
			remedy += " " + l.Remedy
		}
	}
	return fail(BadInput, remedy, "%s", what)
}
