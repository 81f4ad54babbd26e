// Package store is the records in PostgreSQL: connecting, migrating, and the few helpers every query uses.
package store

import (
	"context"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/jackc/pgx/v5/stdlib"
	"github.com/pressly/goose/v3"
	"github.com/pressly/goose/v3/lock"
)

//go:embed migrations/*.sql
var migrations embed.FS

// Open connects to a database. The pool connects by itself again when the server was away.
func Open(ctx context.Context, url string) (*pgxpool.Pool, error) {
	cfg, err := pgxpool.ParseConfig(url)
	if err != nil {
		return nil, fmt.Errorf("database address: %w", err)
	}
	pool, err := pgxpool.NewWithConfig(ctx, cfg)
	if err != nil {
		return nil, err
	}
	if err := pool.Ping(ctx); err != nil {
		pool.Close()
		return nil, fmt.Errorf("connecting to PostgreSQL: %w", err)
	}
	return pool, nil
}

// Migrate brings the schema up to date; several servers may do it at once.
func Migrate(ctx context.Context, pool *pgxpool.Pool, log *slog.Logger) error {
	db := stdlib.OpenDBFromPool(pool)
	locker, err := lock.NewPostgresSessionLocker()
	if err != nil {
		return errors.Join(err, db.Close())
	}
	sub, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return errors.Join(err, db.Close())
	}
	p, err := goose.NewProvider(goose.DialectPostgres, db, sub, goose.WithSessionLocker(locker))
	if err != nil {
		return errors.Join(err, db.Close())
	}
	done, err := p.Up(ctx)
	for _, r := range done {
		log.Info("migrated", "file", r.Source.Path, "took", r.Duration)
	}
	return errors.Join(err, db.Close())
}

// Away reports whether an error means that the database cannot be reached now, so that the caller should try later.
func Away(err error) bool {
	var pg *pgconn.PgError
	if errors.As(err, &pg) {
		switch pg.Code[:2] {
		case "57", "53", "08": // shut down, out of resources, connection
			return true
		}
		return false
	}
	var connect *pgconn.ConnectError
	var network net.Error
	return errors.As(err, &connect) || errors.As(err, &network) || pgconn.SafeToRetry(err) ||
		errors.Is(err, net.ErrClosed) || isClosed(err)
}

func isClosed(err error) bool {
	return err != nil && (err.Error() == "conn closed" || err.Error() == "unexpected EOF" || err.Error() == "closed pool")
}

// Taken reports whether an error is a uniqueness conflict.
func Taken(err error) bool {
	var pg *pgconn.PgError
	return errors.As(err, &pg) && pg.Code == "23505"
}

// None reports whether a query found no row.
func None(err error) bool { return errors.Is(err, pgx.ErrNoRows) }
