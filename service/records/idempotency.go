package records

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"time"

	"github.com/jackc/pgx/v5"

	"ligare/core/ident"
	"ligare/service/store"
)

// KeepKeys is how long an idempotency key is remembered.
const KeepKeys = 7 * 24 * time.Hour

func platform(p string) ident.Platform { return ident.Platform(p) }

func idTitle(platform string) string {
	if platform == "ios" {
		return "bundle ID"
	}
	return "application ID"
}

// Once runs a create under its idempotency key: the key is committed with the write. The same key again gives the first
// answer; with another body it is refused. Without a key the create just runs.
func (r *Records) Once(ctx context.Context, c Caller, route, key string, body []byte, do func(tx pgx.Tx) (int, any, error)) (status int, answer json.RawMessage, err error) {
	digest := sha256.Sum256(body)
	err = pgx.BeginFunc(ctx, r.DB, func(tx pgx.Tx) error {
		if key != "" {
			if _, err := tx.Exec(ctx, `SELECT pg_advisory_xact_lock(hashtextextended($1, 0))`, c.Token.String()+route+key); err != nil {
				return err
			}
			found, err := r.remembered(ctx, tx, c, route, key, digest[:], &status, &answer)
			if err != nil || found {
				return err
			}
		}
		st, v, err := do(tx)
		if err != nil {
			return err
		}
		if answer, err = json.Marshal(v); err != nil {
			return err
		}
		status = st
		return r.keep(ctx, tx, c, route, key, digest[:], status, answer)
	})
	return status, answer, err
}

func (r *Records) keep(ctx context.Context, tx pgx.Tx, c Caller, route, key string, digest []byte, status int, answer []byte) error {
	if key == "" {
		return nil
	}
	sealed, err := r.Keys.Seal(string(answer), c.Team.String(), c.Token.String(), route, key)
	if err != nil {
		return err
	}
	_, err = tx.Exec(ctx, `INSERT INTO idempotency_keys (team, token, route, key, body, status, answer) VALUES ($1, $2, $3, $4, $5, $6, $7)`, c.Team, c.Token, route, key, digest, status, sealed)
	return err
}

// remembered looks a key up: found with its answer, or refused when it was used for another request.
func (r *Records) remembered(ctx context.Context, q querier, c Caller, route, key string, digest []byte, status *int, answer *json.RawMessage) (found bool, err error) {
	var had, sealed []byte
	err = q.QueryRow(ctx, `SELECT body, status, answer FROM idempotency_keys WHERE team = $1 AND token = $2 AND route = $3 AND key = $4`, c.Team, c.Token, route, key).Scan(&had, status, &sealed)
	switch {
	case store.None(err):
		return false, nil
	case err != nil:
		return false, err
	case string(had) != string(digest):
		return false, fail(Refusal, "Use a new key for a new request.", "this idempotency key was used for another request")
	}
	text, err := r.Keys.Open(sealed, c.Team.String(), c.Token.String(), route, key)
	*answer = json.RawMessage(text)
	return err == nil, err
}

// Steps runs a create that is several transactions and calls to a service, each resumable: a finished one is remembered
// under its key, an unfinished one is resumed by the same request.
func (r *Records) Steps(ctx context.Context, c Caller, route, key string, body []byte, do func() (int, any, error)) (int, json.RawMessage, error) {
	digest := sha256.Sum256(body)
	if key != "" {
		var status int
		var answer json.RawMessage
		if found, err := r.remembered(ctx, r.DB, c, route, key, digest[:], &status, &answer); err != nil || found {
			return status, answer, err
		}
	}
	status, v, err := do()
	if err != nil {
		return 0, nil, err
	}
	answer, err := json.Marshal(v)
	if err != nil {
		return 0, nil, err
	}
	if key == "" {
		return status, answer, nil
	}
	sealed, err := r.Keys.Seal(string(answer), c.Team.String(), c.Token.String(), route, key)
	if err != nil {
		return 0, nil, err
	}
	b := &pgx.Batch{} // one transaction; not waited for on the disk: a key that a crash takes away only means that the steps are gone through again
	b.Queue(`SELECT set_config('synchronous_commit', 'off', true)`)
	b.Queue(`INSERT INTO idempotency_keys (team, token, route, key, body, status, answer) VALUES ($1, $2, $3, $4, $5, $6, $7)`, c.Team, c.Token, route, key, digest[:], status, sealed)
	err = r.DB.SendBatch(ctx, b).Close()
	if store.Taken(err) { // the same request ran beside this one and finished first
		err = nil
	}
	return status, answer, err
}

// ForgetKeys drops keys that were kept long enough.
func (r *Records) ForgetKeys(ctx context.Context) error {
	_, err := r.DB.Exec(ctx, `DELETE FROM idempotency_keys WHERE at < now() - $1::interval`, KeepKeys)
	return err
}
