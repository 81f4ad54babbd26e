package records

import (
	"context"
	"errors"
	"slices"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"ligare/client/shape"
	"ligare/core/sheet"
	"ligare/service/registrar"
)

// NewKey exchanges a key, or, with a label, makes one beside it. A key with a label that is made for a test carries an end.
// The key that was in use stays valid at the service until it is revoked, so that builds in people's hands go on working.
func (r *Records) NewKey(ctx context.Context, c Caller, id string, in shape.NewKey) (*shape.Registration, error) {
	g, s, remote, release, err := r.registered(ctx, c, id)
	if err != nil {
		return nil, err
	}
	defer release()
	v := s.Value(in.Name)
	switch {
	case v == nil || v.Keys == "":
		var names []string
		for _, x := range s.Issues.Values {
			if x.Keys != "" {
				names = append(names, x.ID)
			}
		}
		if len(names) == 0 {
			return nil, fail(BadInput, "Register anew, or ask the service.", "%s has no keys that can be exchanged", s.Title)
		}
		return nil, fail(BadInput, "It has: "+join(names)+".", "%s has no key %q that can be exchanged", s.Title, in.Name)
	case in.Label != "" && v.Keys != "several":
		return nil, fail(BadInput, "Leave the label out: the key is exchanged.", "%s has one %s at a time", s.Title, v.Title)
	case in.Ends != nil && in.Label == "":
		return nil, fail(BadInput, "Give the test key a label.", "only a key beside the one in use can have an end date")
	case in.Ends != nil && in.Ends.Before(time.Now()):
		return nil, fail(BadInput, "Give a day to come.", "the end date %s has passed", in.Ends.Format(time.DateOnly))
	case s.ByHand():
		return nil, fail(BadInput, "Exchange it there"+at(s.Connector.Page)+" and enter the new one: ligare record "+g.service+" --value "+in.Name+".", "%s is registered with by hand", s.Title)
	}
	if v.Per == "" {
		in.Platform, in.Identifier = "", ""
	}
	had, err := r.keyIDs(ctx, c, g.id)
	if err != nil {
		return nil, err
	}
	service := registrar.To(remote)
	now, err := service.NewKey(ctx, g.remote, uuid.NewString(), registrar.NewKey{Name: in.Name, Platform: in.Platform, Identifier: in.Identifier, Label: in.Label, Ends: in.Ends})
	var lost *registrar.Lost
	if errors.As(err, &lost) { // was it made after all? A key that is not known yet says so
		seen, e := service.Get(ctx, g.remote)
		if e == nil && slices.ContainsFunc(seen.Keys, func(k registrar.Key) bool {
			return k.Name == in.Name && k.Label == in.Label && !slices.Contains(had, k.ID)
		}) {
			now, err = seen, nil
		}
	}
	if err != nil {
		return nil, explain(s, err)
	}
	note := "The new key has to be placed: ligare refresh " + g.service + ". The former one works until it is revoked."
	if in.Label != "" {
		note = "The key in use stays. Revoke and delete this one when the test is over."
	}
	return r.afterKeys(ctx, c, s, remote, g, now, "key made", note)
}

// RevokeKey ends a key now. It stays in the records, so that it is recognised where it still stands.
func (r *Records) RevokeKey(ctx context.Context, c Caller, id, key string) (*shape.Registration, error) {
	g, s, remote, release, err := r.registered(ctx, c, id)
	if err != nil {
		return nil, err
	}
	defer release()
	now, err := registrar.To(remoteOr(remote, s)).RevokeKey(ctx, g.remote, key)
	if err != nil {
		return nil, explain(s, err)
	}
	return r.afterKeys(ctx, c, s, remote, g, now, "key revoked", "Builds that hold it stop working now; `ligare check` finds where it still stands.")
}

// DeleteKey forgets a key, at the service and here.
func (r *Records) DeleteKey(ctx context.Context, c Caller, id, key string) (*shape.Registration, error) {
	g, s, remote, release, err := r.registered(ctx, c, id)
	if err != nil {
		return nil, err
	}
	defer release()
	now, err := registrar.To(remoteOr(remote, s)).DeleteKey(ctx, g.remote, key)
	if err != nil {
		return nil, explain(s, err)
	}
	return r.afterKeys(ctx, c, s, remote, g, now, "key deleted", "")
}

// remoteOr gives a connector that says no for a service that is registered with by hand.
func remoteOr(remote *registrar.Remote, s *sheet.Sheet) *registrar.Remote {
	if remote != nil {
		return remote
	}
	return &registrar.Remote{Sheet: s, Address: "http://127.0.0.1:0"}
}

func (r *Records) afterKeys(ctx context.Context, c Caller, s *sheet.Sheet, remote *registrar.Remote, g *row, now *registrar.Registration, action, note string) (*shape.Registration, error) {
	if err := r.absorb(ctx, c, s, remote, g, now, action); err != nil {
		return nil, explain(s, err)
	}
	out, err := r.Registration(ctx, c, g.id.String())
	if err == nil && note != "" {
		out.Notes = append(out.Notes, note)
	}
	return out, err
}

func (r *Records) keyIDs(ctx context.Context, c Caller, reg uuid.UUID) ([]string, error) {
	rows, err := r.DB.Query(ctx, `SELECT key FROM issued_values WHERE team = $1 AND registration = $2 AND key <> ''`, c.Team, reg)
	if err != nil {
		return nil, err
	}
	return pgx.CollectRows(rows, pgx.RowTo[string])
}

func join(list []string) string {
	out := ""
	for i, s := range list {
		if i > 0 {
			out += ", "
		}
		out += s
	}
	return out
}
