package api_test

import (
	"context"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"sync/atomic"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	"ligare/client"
	"ligare/client/shape"
	"ligare/service/server"
	"ligare/standin/all"
)

// BenchmarkRegistering is the registration API under load, with a service that answers at once, beside the same rows
// inserted with pgx alone: in the two transactions that it takes, and, as the least that is thinkable, in one batch. All by
// sixteen at once.
//
//	go test ./service/api -run XXX -bench Registering -benchtime 2000x
func BenchmarkRegistering(b *testing.B) {
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	s, err := server.Open(ctx, server.Config{Database: shared.URL + "&pool_max_conns=32", Keyring: filepath.Join(b.TempDir(), "keyring.json"), Every: time.Hour, Log: slog.New(slog.DiscardHandler)})
	if err != nil {
		b.Fatal(err)
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		b.Fatal(err)
	}
	done := make(chan error, 1)
	go func() { done <- s.Serve(ctx, l) }()
	defer func() {
		cancel()
		if err := <-done; err != nil {
			b.Error(err)
		}
	}()
	stand, err := all.Services["tallywick"](filepath.Join(b.TempDir(), "tallywick"))
	if err != nil {
		b.Fatal(err)
	}
	ts := httptest.NewServer(stand.Handler())
	defer ts.Close()
	stand.SetAddress(ts.URL)
	http.DefaultTransport.(*http.Transport).MaxIdleConnsPerHost = 64
	var clients []*client.Client
	for i := range 8 { // as many teams as would share a server
		token, err := s.Records.Team(ctx, fmt.Sprintf("bench %d %d", i, time.Now().UnixNano()), "bench", "owner", 0)
		if err != nil {
			b.Fatal(err)
		}
		c := &client.Client{Address: "http://" + l.Addr().String(), Token: token}
		if err := c.Connect(ctx, "tallywick", shape.Connect{Address: ts.URL}); err != nil {
			b.Fatal(err)
		}
		clients = append(clients, c)
	}
	var n atomic.Int64
	b.Run("api", func(b *testing.B) {
		var requests []shape.Register
		for i := range b.N {
			k := n.Add(1)
			c, id := clients[i%len(clients)], fmt.Sprintf("example.bench.app%d", k)
			app := shape.NewApp{Name: fmt.Sprintf("app-%d", k), Title: fmt.Sprintf("App %d %d", k, time.Now().UnixNano()), Environments: []string{"production"}, Identities: []shape.NewIdentity{{Platform: "ios", Identifier: id}}}
			if _, err := c.SaveApp(ctx, app); err != nil {
				b.Fatal(err)
			}
			requests = append(requests, shape.Register{App: app.Name, Service: "tallywick", Identities: []shape.IdentityAnswers{{Platform: "ios", Identifier: id, Answers: map[string]string{"framework": "native"}}}})
		}
		var next atomic.Int64
		b.SetParallelism(8)
		b.ResetTimer()
		b.RunParallel(func(pb *testing.PB) {
			for pb.Next() {
				i := int(next.Add(1) - 1)
				if _, err := clients[i%len(clients)].Register(ctx, requests[i]); err != nil {
					b.Error(err)
				}
			}
		})
	})
	for _, way := range []string{"pgx", "pgx-one-batch"} {
		b.Run(way, func(b *testing.B) { rawInserts(ctx, b, s.Records.DB, way == "pgx-one-batch") })
	}
}

// rawInserts does with pgx alone what the API leaves in the tables.
func rawInserts(ctx context.Context, b *testing.B, db *pgxpool.Pool, oneBatch bool) {
	var team, account, token uuid.UUID
	if err := db.QueryRow(ctx, `SELECT team, id FROM tokens ORDER BY created DESC LIMIT 1`).Scan(&team, &token); err != nil {
		b.Fatal(err)
	}
	if err := db.QueryRow(ctx, `SELECT id FROM accounts WHERE team = $1`, team).Scan(&account); err != nil {
		b.Fatal(err)
	}
	apps, ids := make([]uuid.UUID, b.N), make([]uuid.UUID, b.N)
	for i := range b.N {
		apps[i], ids[i] = uuid.New(), uuid.New()
		if _, err := db.Exec(ctx, `INSERT INTO apps (team, id, name, title) VALUES ($1, $2, $3, $3)`, team, apps[i], apps[i].String()); err != nil {
			b.Fatal(err)
		}
		if _, err := db.Exec(ctx, `INSERT INTO identities (team, id, app, platform, identifier) VALUES ($1, $2, $3, 'ios', $4)`, team, ids[i], apps[i], apps[i].String()); err != nil {
			b.Fatal(err)
		}
	}
	sealed, answer := make([]byte, 60), make([]byte, 1400)
	var next atomic.Int64
	b.SetParallelism(8)
	b.ResetTimer()
	b.RunParallel(func(pb *testing.PB) {
		for pb.Next() {
			i := int(next.Add(1) - 1)
			reg := uuid.New()
			audit := func(q *pgx.Batch) {
				q.Queue(`INSERT INTO audit (team, seq, at, actor, action, target, detail, before, hash) VALUES ($1, $2, now(), 'bench', 'registered', 'x', '{"revision": 1}', $3, $3)`, uuid.New(), i, sealed)
			}
			asked, issued := &pgx.Batch{}, &pgx.Batch{}
			asked.Queue(`INSERT INTO registrations (team, id, app, service, account, sheet, state, remote, revision, features, answers) VALUES ($1, $2, $3, 'tallywick', $4, 'x', 'registered', 'tw-1', 1, '{counts}', '{"name": "x"}')`, team, reg, apps[i], account)
			asked.Queue(`INSERT INTO registration_identities (team, registration, identity, answers, sources, received) VALUES ($1, $2, $3, '{"framework": "native", "identifier": "x"}', '{"framework": "given"}', '{"framework": "sha256:"}')`, team, reg, ids[i])
			asked.Queue(`INSERT INTO registration_steps (team, registration, step, key, request, state) VALUES ($1, $2, 'create', $3, $4, 'done')`, team, reg, uuid.New(), sealed)
			audit(asked)
			issued.Queue(`INSERT INTO issued_values (team, registration, identity, name, exposure, sealed) VALUES ($1, $2, $3, 'tally-secret', 'client', $4)`, team, reg, ids[i], sealed)
			issued.Queue(`INSERT INTO duties (team, registration, duty) VALUES ($1, $2, 'personal-data')`, team, reg)
			issued.Queue(`INSERT INTO jobs (team, kind, subject, due) VALUES ($1, 'look', $2, now() + interval '1 hour')`, team, reg.String())
			audit(issued)
			issued.Queue(`INSERT INTO outbox (team, topic, body) VALUES ($1, 'registration', '{"app": "x"}')`, team)
			issued.Queue(`INSERT INTO idempotency_keys (team, token, route, key, body, status, answer) VALUES ($1, $2, 'POST', $3, $4, 201, $5)`, team, token, reg.String(), sealed, answer)
			if err := insert(ctx, db, oneBatch, asked, issued); err != nil {
				b.Error(err)
			}
		}
	})
}

// insert runs what is asked and what was issued: each in a transaction of its own, statement by statement, since the first
// has to be on the disk before anything is sent to a service; or, faster than could be right, all in one.
func insert(ctx context.Context, db *pgxpool.Pool, oneBatch bool, parts ...*pgx.Batch) error {
	if oneBatch {
		all := &pgx.Batch{}
		for _, p := range parts {
			all.QueuedQueries = append(all.QueuedQueries, p.QueuedQueries...)
		}
		return pgx.BeginFunc(ctx, db, func(tx pgx.Tx) error { return tx.SendBatch(ctx, all).Close() })
	}
	for _, p := range parts {
		err := pgx.BeginFunc(ctx, db, func(tx pgx.Tx) error {
			for _, q := range p.QueuedQueries {
				if _, err := tx.Exec(ctx, q.SQL, q.Arguments...); err != nil {
					return err
				}
			}
			return nil
		})
		if err != nil {
			return err
		}
	}
	return nil
}
