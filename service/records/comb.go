package records

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"fmt"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"ligare/client/shape"
	"ligare/core/comb"
	"ligare/core/sheet"
)

// CombsAnHour is how many handouts one token gets in an hour.
const CombsAnHour = 60

// Comb hands out what is needed to recognise the team's server secrets, and its test keys past their end, in a tree: no
// secret, and nothing from which one could be found out. It is audited, and limited for each token.
func (r *Records) Comb(ctx context.Context, c Caller, app string) (*shape.Handout, error) {
	a, err := r.App(ctx, c, app)
	if err != nil {
		return nil, err
	}
	var lately int
	if err := r.DB.QueryRow(ctx, `SELECT count(*) FROM audit WHERE team = $1 AND at > $2 AND action = 'secrets made recognisable' AND detail->>'token' = $3`,
		c.Team, time.Now().Add(-time.Hour), c.Token.String()).Scan(&lately); err != nil {
		return nil, err
	}
	if lately >= CombsAnHour {
		return nil, fail(TooMany, "Wait; what one run found is still true.", "this token asked %d times in the last hour", lately)
	}
	list, err := r.combed(ctx, c)
	if err != nil {
		return nil, err
	}
	table := sha256.Sum256([]byte("what secrets are recognised by " + c.Team.String()))
	key := make([]byte, 32)
	if _, err := rand.Read(key); err != nil {
		return nil, err
	}
	h := comb.Make(table[:], key, list)
	out := &shape.Handout{Table: h.Table, Key: h.Key, Needles: []shape.Needle{}, Unsought: []shape.Unsought{}}
	for _, n := range h.Needles {
		out.Needles = append(out.Needles, shape.Needle{ID: n.ID, Kind: string(n.Kind), Say: n.Say, Offset: n.Offset, Length: n.Length, Rolling: n.Rolling, Digest: n.Digest})
	}
	for _, u := range h.Unsought {
		out.Unsought = append(out.Unsought, shape.Unsought{ID: u.ID, Say: u.Say, Why: u.Why})
	}
	return out, pgx.BeginFunc(ctx, r.DB, func(tx pgx.Tx) error {
		return r.audit(ctx, tx, c, "secrets made recognisable", a.Name, map[string]any{"token": c.Token, "sought": len(out.Needles), "not sought": len(out.Unsought)})
	})
}

// combed lists the team's server secrets that still hold, its accounts' credentials, and test keys past their end.
func (r *Records) combed(ctx context.Context, c Caller) ([]comb.Secret, error) {
	all, err := r.all(ctx, c.Team)
	if err != nil {
		return nil, err
	}
	var out []comb.Secret
	rows, err := r.DB.Query(ctx, `SELECT v.registration, v.identity, v.name, v.exposure, v.label, v.ends, v.sealed, g.service, g.environment, a.name
		FROM issued_values v JOIN registrations g ON g.team = v.team AND g.id = v.registration JOIN apps a ON a.team = g.team AND a.id = g.app
		WHERE v.team = $1 AND v.revoked IS NULL AND (v.exposure = 'server' OR v.label <> '' AND v.ends < now()) ORDER BY g.service, a.name, g.environment, v.name, v.label`, c.Team)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var registration uuid.UUID
		var identity *uuid.UUID
		var name, exposure, label, service, environment, app string
		var ends *time.Time
		var sealed []byte
		if err := rows.Scan(&registration, &identity, &name, &exposure, &label, &ends, &sealed, &service, &environment, &app); err != nil {
			return nil, err
		}
		title, s := service, all[service]
		what, pattern := name, ""
		if s != nil {
			title = s.Title
			if v := s.Value(name); v != nil {
				what, pattern = v.Title, v.Pattern
			}
		}
		x := comb.Secret{ID: registration.String() + "/" + name, Kind: comb.ServerSecret, Say: fmt.Sprintf("%s of %s for %s", what, title, app)}
		if environment != "" {
			x.Say += ", " + environment
		}
		if exposure != string(sheet.Server) {
			x.Kind = comb.TestKey
			x.Say += fmt.Sprintf(", made for %q until %s", label, ends.UTC().Format(time.DateOnly))
		}
		if x.Value, err = r.Keys.Open(sealed, c.Team.String(), registration.String(), place(identity), name); err != nil {
			return nil, err
		}
		x.From = fixed(pattern, x.Value)
		out = append(out, x)
	}
	if err := rows.Err(); err != nil {
		return nil, err
	}
	accounts, err := r.DB.Query(ctx, `SELECT id, service, credential FROM accounts WHERE team = $1 ORDER BY service`, c.Team)
	if err != nil {
		return nil, err
	}
	defer accounts.Close()
	for accounts.Next() {
		var id uuid.UUID
		var service string
		var sealed []byte
		if err := accounts.Scan(&id, &service, &sealed); err != nil {
			return nil, err
		}
		title := service
		if s := all[service]; s != nil {
			title = s.Title
		}
		x := comb.Secret{ID: id.String(), Kind: comb.ServerSecret, Say: "the team's credential at " + title}
		if x.Value, err = r.Keys.Open(sealed, c.Team.String(), id.String(), "credential"); err != nil {
			return nil, err
		}
		if x.Value != "" {
			out = append(out, x)
		}
	}
	return out, accounts.Err()
}

// fixed gives how many bytes at a value's beginning are the same for all, as its pattern says.
func fixed(pattern, value string) int {
	lit, _, _ := strings.Cut(pattern, "[")
	if lit == pattern || strings.ContainsAny(lit, `(.*\|?+`) || !strings.HasPrefix(value, lit) {
		return 0
	}
	return len(lit)
}
