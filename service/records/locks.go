package records

import (
	"context"
	"hash/fnv"
	"sync"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5/pgxpool"
)

// locks keeps two servers, or two requests, from working on one registration at the same time. The locks belong to one
// session of the database: when a server is killed they are gone with it, and whoever comes next goes on at once.
type locks struct {
	mu   sync.Mutex
	conn *pgxpool.Conn
	held map[int64]bool
}

// hold takes the lock of a registration; ok is false when somebody else has it.
func (l *locks) hold(ctx context.Context, pool *pgxpool.Pool, id uuid.UUID) (release func(), ok bool, err error) {
	h := fnv.New64a()
	h.Write(id[:])
	key := int64(h.Sum64())
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.held[key] {
		return nil, false, nil
	}
	if l.conn != nil && l.conn.Conn().IsClosed() {
		l.conn.Release()
		l.conn, l.held = nil, nil
	}
	if l.conn == nil {
		if l.conn, err = pool.Acquire(context.WithoutCancel(ctx)); err != nil {
			l.conn = nil
			return nil, false, err
		}
		l.held = map[int64]bool{}
	}
	// Not under the request's context: one that is cancelled in the middle would close the session and all locks with it.
	if err := l.conn.QueryRow(context.WithoutCancel(ctx), `SELECT pg_try_advisory_lock($1)`, key).Scan(&ok); err != nil || !ok {
		return nil, false, err
	}
	l.held[key] = true
	return func() { l.release(key) }, true, nil
}

func (l *locks) release(key int64) {
	l.mu.Lock()
	defer l.mu.Unlock()
	delete(l.held, key)
	if l.conn != nil && !l.conn.Conn().IsClosed() {
		_, _ = l.conn.Exec(context.Background(), `SELECT pg_advisory_unlock($1)`, key) // a session that broke holds no locks
	}
}

// Close gives the session back.
func (l *locks) close() {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.conn != nil {
		_ = l.conn.Conn().Close(context.Background()) // it ends either way
		l.conn.Release()
		l.conn = nil
	}
}
