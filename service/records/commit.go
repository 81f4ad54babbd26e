package records

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
)

// noted is a change with what is said of it: an entry of the audit, and a live event.
type noted struct {
	action, target string
	detail         any
	topic          string // of the event, "" for none
	event          any
}

// commit does what a batch says in one transaction, with its entry in the team's audit and its live event, in two trips to
// the database: the first ends with the audit's head, which stays locked until the second has appended to it.
func (r *Records) commit(ctx context.Context, c Caller, b *pgx.Batch, n noted) (err error) {
	conn, err := r.DB.Acquire(ctx)
	if err != nil {
		return err
	}
	defer conn.Release()
	defer func() {
		if err != nil && conn.Conn().PgConn().TxStatus() != 'I' {
			_, e := conn.Exec(context.WithoutCancel(ctx), `ROLLBACK`)
			err = errors.Join(err, e)
		}
	}()
	first := &pgx.Batch{}
	first.Queue(`BEGIN`)
	first.QueuedQueries = append(first.QueuedQueries, b.QueuedQueries...)
	var seq int64
	var before []byte
	first.Queue(`SELECT seq, hash FROM audit_heads WHERE team = $1 FOR UPDATE`, c.Team).QueryRow(func(row pgx.Row) error { return row.Scan(&seq, &before) })
	if err := conn.SendBatch(ctx, first).Close(); err != nil {
		return err
	}
	body, err := json.Marshal(n.detail)
	if err != nil {
		return fmt.Errorf("audit: %w", err)
	}
	at := time.Now().UTC().Truncate(time.Microsecond)
	hash := auditHash(before, seq+1, at, c.Name, n.action, n.target, body)
	last := &pgx.Batch{}
	last.Queue(`INSERT INTO audit (team, seq, at, actor, action, target, detail, before, hash) VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9)`, c.Team, seq+1, at, c.Name, n.action, n.target, body, before, hash)
	last.Queue(`UPDATE audit_heads SET seq = $2, hash = $3 WHERE team = $1`, c.Team, seq+1, hash)
	if n.topic != "" {
		if err := queueEvent(last, c.Team, n.topic, n.event); err != nil {
			return err
		}
	}
	last.Queue(`COMMIT`)
	return conn.SendBatch(ctx, last).Close()
}
