package records

import (
	"context"
	"slices"

	"github.com/google/uuid"

	"ligare/core/ident"
	"ligare/service/registrar"
)

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
