package records

import (
	"context"
	"encoding/json"
	"errors"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"ligare/client/shape"
	"ligare/core/sheet"
	"ligare/service/registrar"
	"ligare/service/store"
)

// Services lists the sheets with the team's standing; whole also gives a sheet's content.
func (r *Records) Services(ctx context.Context, c Caller, only string, whole bool) ([]shape.Service, error) {
	out := []shape.Service{}
	all, err := r.sheets(ctx, c.Team)
	if err != nil {
		return nil, err
	}
	for _, s := range all {
		if only != "" && s.Service != only {
			continue
		}
		v := shape.Service{Service: s.Service, Title: s.Title, Kind: s.Kind, Digest: s.Digest, Protocol: s.Connector.Protocol, Own: r.Sheets.Shipped[s.Service] == nil || r.Sheets.Shipped[s.Service].Digest != s.Digest}
		err := r.DB.QueryRow(ctx, `SELECT address FROM accounts WHERE team = $1 AND service = $2`, c.Team, s.Service).Scan(&v.Address)
		if err != nil && !store.None(err) {
			return nil, err
		}
		v.Connected = err == nil
		if whole {
			b, err := json.Marshal(s)
			if err != nil {
				return nil, err
			}
			v.Sheet, v.Source = b, string(s.Source)
		}
		out = append(out, v)
	}
	if only != "" && len(out) == 0 {
		_, err := r.sheetOf(ctx, c.Team, only)
		return nil, err
	}
	return out, nil
}

// Connect opens the team's account with a service, or takes a credential that was made there.
func (r *Records) Connect(ctx context.Context, c Caller, service string, in shape.Connect) error {
	if err := c.Need("owner"); err != nil {
		return err
	}
	s, err := r.sheetOf(ctx, c.Team, service)
	if err != nil {
		return err
	}
	if s.ByHand() {
		return fail(BadInput, "Register there"+at(s.Connector.Page)+" and enter what it issues: ligare record "+service+".", "%s is registered with by hand; there is no account to open", s.Title)
	}
	if in.Address == "" {
		return fail(BadInput, "Give the service's address with --address.", "the address of %s is missing", s.Title)
	}
	account, credential := "", in.Credential
	if credential == "" {
		remote := &registrar.Remote{Sheet: s, Address: in.Address}
		if account, credential, err = registrar.To(remote).OpenAccount(ctx, c.TeamName); err != nil {
			return explain(s, err)
		}
	}
	id := uuid.Must(uuid.NewV7())
	return pgx.BeginFunc(ctx, r.DB, func(tx pgx.Tx) error {
		err := tx.QueryRow(ctx, `SELECT id FROM accounts WHERE team = $1 AND service = $2`, c.Team, service).Scan(&id)
		if err != nil && !store.None(err) {
			return err
		}
		sealed, err := r.Keys.Seal(credential, c.Team.String(), id.String(), "credential")
		if err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, `INSERT INTO accounts (team, id, service, address, remote, credential) VALUES ($1, $2, $3, $4, $5, $6)
			ON CONFLICT (team, service) DO UPDATE SET address = excluded.address, remote = excluded.remote, credential = excluded.credential`,
			c.Team, id, service, in.Address, account, sealed); err != nil {
			return err
		}
		return r.audit(ctx, tx, c, "account connected", service, map[string]string{"address": in.Address})
	})
}

// account is the team's standing with a service.
type account struct {
	id      uuid.UUID
	address string
	sealed  []byte
}

func noAccount(s *sheet.Sheet) error {
	return fail(Clash, "Open one with: ligare service connect "+s.Service+" --address URL", "the team has no account with %s yet", s.Title)
}

// remote gives a service spoken to in the team's name.
func (r *Records) remote(ctx context.Context, team uuid.UUID, s *sheet.Sheet) (*registrar.Remote, uuid.UUID, error) {
	a := &account{}
	err := r.DB.QueryRow(ctx, `SELECT id, address, credential FROM accounts WHERE team = $1 AND service = $2`, team, s.Service).Scan(&a.id, &a.address, &a.sealed)
	if store.None(err) {
		return nil, a.id, noAccount(s)
	}
	if err != nil {
		return nil, a.id, err
	}
	remote, err := r.spoken(team, s, a)
	return remote, a.id, err
}

// spoken opens an account's credential.
func (r *Records) spoken(team uuid.UUID, s *sheet.Sheet, a *account) (*registrar.Remote, error) {
	credential, err := r.Keys.Open(a.sealed, team.String(), a.id.String(), "credential")
	if err != nil {
		return nil, err
	}
	return &registrar.Remote{Sheet: s, Address: a.address, Credential: credential}, nil
}

// explain turns what a service answered into an error with its remedy.
func explain(s *sheet.Sheet, err error) error {
	var refused *registrar.Refused
	var away *registrar.Unreachable
	var lost *registrar.Lost
	var missing *registrar.Missing
	var unknown *Unknown
	switch {
	case errors.As(err, &unknown):
		return fail(Upstream, "Look there by hand. "+s.Connector.LookFor+" Then say what you found: ligare resolve "+s.Service+" --found ID, or --absent.", "%v", unknown)
	case errors.As(err, &missing):
		return fail(Refusal, "Do it at the service by hand.", "%s cannot do this through Ligare: %v", s.Title, missing)
	case errors.As(err, &refused):
		remedy := refused.Mends
		if remedy == "" {
			remedy = "Change what it names and try again."
		}
		return fail(Refusal, remedy, "%s refuses: %v", s.Title, refused)
	case errors.As(err, &away):
		return fail(Upstream, "Check that the service runs and that its address is right, then run the command again.", "%s: %v", s.Title, away)
	case errors.As(err, &lost):
		return fail(Upstream, "Run the command again: it goes on where it stopped and nothing is registered twice.", "%s: %v", s.Title, lost)
	}
	return err
}
