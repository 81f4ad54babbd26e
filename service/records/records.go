// Package records is what the server does, one method for each thing the API offers: apps and identities, accounts with
// services, registrations and their steps, sightings, reports, audit. It decides who may; package api only decodes and encodes.
package records

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	"ligare/service/keyring"
	"ligare/service/store"
)

// Records is the server's state: nothing but connections and read-only data.
type Records struct {
	DB     *pgxpool.Pool
	Keys   *keyring.Keyring
	Sheets *Sheets
	Log    *slog.Logger
	locks  locks
}

// Close gives back what the records hold of the database.
func (r *Records) Close() { r.locks.close() }

// Kind tells errors apart that a caller can do something about.
type Kind int

// Kinds of errors, with the HTTP status they become.
const (
	BadInput  Kind = 400
	NoToken   Kind = 401
	Forbidden Kind = 403
	Missing   Kind = 404
	Clash     Kind = 409
	Refusal   Kind = 422
	TooMany   Kind = 429
	Upstream  Kind = 502
)

// Error is an error with what to do about it.
type Error struct {
	Kind   Kind
	What   string
	Remedy string
}

func (e *Error) Error() string { return e.What }

func fail(k Kind, remedy, format string, args ...any) error {
	return &Error{k, fmt.Sprintf(format, args...), remedy}
}

// Caller is who a request comes from.
type Caller struct {
	Team     uuid.UUID
	Token    uuid.UUID
	Name     string
	Kind     string
	Role     string
	Expires  *time.Time
	TeamName string
}

// roles in rising order.
var roles = map[string]int{"reader": 1, "developer": 2, "owner": 3}

// Need refuses a caller whose role is too low.
func (c Caller) Need(role string) error {
	if roles[c.Role] < roles[role] {
		return fail(Forbidden, "Ask an owner of the team for the role "+role+".", "this token has the role %s; %s is needed", c.Role, role)
	}
	return nil
}

// NewToken makes a token's text; only its digest is kept.
func NewToken(kind string) (text string, digest []byte) {
	b := make([]byte, 24)
	if _, err := rand.Read(b); err != nil {
		panic(err) // the system has no randomness
	}
	text = "ligare-" + kind + "-" + hex.EncodeToString(b)
	return text, tokenDigest(text)
}

func tokenDigest(text string) []byte {
	sum := sha256.Sum256([]byte(text))
	return sum[:]
}

// Authenticate finds the caller of a token.
func (r *Records) Authenticate(ctx context.Context, token string) (Caller, error) {
	var c Caller
	var revoked *time.Time
	err := r.DB.QueryRow(ctx, `SELECT t.team, t.id, t.name, t.kind, t.role, t.expires, t.revoked, teams.name FROM tokens t JOIN teams ON teams.id = t.team WHERE digest = $1`, tokenDigest(token)).
		Scan(&c.Team, &c.Token, &c.Name, &c.Kind, &c.Role, &c.Expires, &revoked, &c.TeamName)
	switch {
	case store.None(err):
		return c, fail(NoToken, "Sign in again, or set LIGARE_TOKEN to a valid token.", "the token is not known to this server")
	case err != nil:
		return c, err
	case revoked != nil:
		return c, fail(NoToken, "Ask an owner of the team for a new one.", "the token was revoked on %s", revoked.Format(time.DateOnly))
	case c.Expires != nil && time.Now().After(*c.Expires):
		return c, fail(NoToken, "Make a new one: ligared token, or ask an owner of the team.", "the token expired on %s", c.Expires.Format("2006-01-02 15:04 MST"))
	}
	return c, nil
}

// Team gives the team of this name with a token for a person, making both when they are new.
func (r *Records) Team(ctx context.Context, name, person, role string, lasting time.Duration) (token string, err error) {
	err = pgx.BeginFunc(ctx, r.DB, func(tx pgx.Tx) error {
		team := uuid.Must(uuid.NewV7())
		err := tx.QueryRow(ctx, `SELECT id FROM teams WHERE name = $1 LIMIT 1`, name).Scan(&team)
		if store.None(err) {
			if _, err = tx.Exec(ctx, `INSERT INTO teams (id, name) VALUES ($1, $2)`, team, name); err != nil {
				return err
			}
			_, err = tx.Exec(ctx, `INSERT INTO audit_heads (team, seq, hash) VALUES ($1, 0, '')`, team)
		}
		if err != nil {
			return err
		}
		id := uuid.Must(uuid.NewV7())
		if _, err := tx.Exec(ctx, `INSERT INTO people (team, id, name, role) VALUES ($1, $2, $3, $4)`, team, id, person, role); err != nil {
			return err
		}
		token, err = addToken(ctx, tx, team, &id, person, "person", role, lasting)
		return err
	})
	return token, err
}

// MachineToken makes a token for a build server.
func (r *Records) MachineToken(ctx context.Context, c Caller, name, role string, lasting time.Duration) (token string, err error) {
	if err := c.Need("owner"); err != nil {
		return "", err
	}
	if roles[role] == 0 || role == "owner" {
		return "", fail(BadInput, "Use reader or developer.", "a machine cannot have the role %q", role)
	}
	err = pgx.BeginFunc(ctx, r.DB, func(tx pgx.Tx) error {
		if token, err = addToken(ctx, tx, c.Team, nil, name, "machine", role, lasting); err != nil {
			return err
		}
		return r.audit(ctx, tx, c, "token made", name, map[string]any{"kind": "machine", "role": role})
	})
	return token, err
}

func addToken(ctx context.Context, tx pgx.Tx, team uuid.UUID, person *uuid.UUID, name, kind, role string, lasting time.Duration) (string, error) {
	text, digest := NewToken(kind)
	var expires *time.Time
	if lasting != 0 {
		at := time.Now().Add(lasting)
		expires = &at
	}
	_, err := tx.Exec(ctx, `INSERT INTO tokens (team, id, person, name, kind, role, digest, expires) VALUES ($1, $2, $3, $4, $5, $6, $7, $8)`,
		team, uuid.Must(uuid.NewV7()), person, name, kind, role, digest, expires)
	return text, err
}

// audit appends to the team's chain: each entry's hash covers the one before.
func (r *Records) audit(ctx context.Context, tx pgx.Tx, c Caller, action, target string, detail any) error {
	body, err := json.Marshal(detail)
	if err != nil {
		return err
	}
	var seq int64
	var before []byte
	if err := tx.QueryRow(ctx, `SELECT seq, hash FROM audit_heads WHERE team = $1 FOR UPDATE`, c.Team).Scan(&seq, &before); err != nil {
		return fmt.Errorf("audit: %w", err)
	}
	seq++
	at := time.Now().UTC().Truncate(time.Microsecond)
	hash := auditHash(before, seq, at, c.Name, action, target, body)
	b := &pgx.Batch{}
	b.Queue(`INSERT INTO audit (team, seq, at, actor, action, target, detail, before, hash) VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9)`, c.Team, seq, at, c.Name, action, target, body, before, hash)
	b.Queue(`UPDATE audit_heads SET seq = $2, hash = $3 WHERE team = $1`, c.Team, seq, hash)
	return tx.SendBatch(ctx, b).Close()
}

func auditHash(before []byte, seq int64, at time.Time, actor, action, target string, detail []byte) []byte {
	var canon any
	if err := json.Unmarshal(detail, &canon); err == nil {
		if b, err := json.Marshal(canon); err == nil { // the database does not keep the order of keys
			detail = b
		}
	}
	h := sha256.New()
	for _, part := range [][]byte{before, []byte(fmt.Sprint(seq)), []byte(at.Format(time.RFC3339Nano)), []byte(actor), []byte(action), []byte(target), detail} {
		fmt.Fprintf(h, "%d:", len(part))
		h.Write(part)
	}
	return h.Sum(nil)
}

// VerifyAudit recomputes a team's chain and says where it first breaks; entries is how many there are.
func (r *Records) VerifyAudit(ctx context.Context, c Caller) (entries int64, err error) {
	rows, err := r.DB.Query(ctx, `SELECT seq, at, actor, action, target, detail, before, hash FROM audit WHERE team = $1 ORDER BY seq`, c.Team)
	if err != nil {
		return 0, err
	}
	defer rows.Close()
	last := []byte{}
	for rows.Next() {
		var seq int64
		var at time.Time
		var actor, action, target string
		var detail, before, hash []byte
		if err := rows.Scan(&seq, &at, &actor, &action, &target, &detail, &before, &hash); err != nil {
			return entries, err
		}
		entries++
		if seq != entries || string(before) != string(last) || string(hash) != string(auditHash(before, seq, at.UTC(), actor, action, target, detail)) {
			return entries, fmt.Errorf("the audit chain breaks at entry %d", seq)
		}
		last = hash
	}
	return entries, rows.Err()
}

// emit puts a live event into the outbox and wakes the listeners when the transaction commits.
func (r *Records) emit(ctx context.Context, tx pgx.Tx, team uuid.UUID, topic string, body any) error {
	q := &pgx.Batch{}
	if err := queueEvent(q, team, topic, body); err != nil {
		return err
	}
	return tx.SendBatch(ctx, q).Close()
}

func queueEvent(q *pgx.Batch, team uuid.UUID, topic string, body any) error {
	b, err := json.Marshal(body)
	if err != nil {
		return err
	}
	// Numbers are given in the order of commits: a reader that has seen one will not be passed by an earlier one.
	q.Queue(`SELECT pg_advisory_xact_lock(hashtextextended($1, 1))`, team.String())
	q.Queue(`INSERT INTO outbox (team, topic, body) VALUES ($1, $2, $3)`, team, topic, b)
	q.Queue(`SELECT pg_notify('ligare_outbox', '')`)
	return nil
}

// As gives an error as ours, if it is.
func As(err error) (*Error, bool) {
	var e *Error
	ok := errors.As(err, &e)
	return e, ok
}
