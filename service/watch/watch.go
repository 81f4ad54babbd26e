// Package watch does the server's standing work: it takes jobs from the queue in PostgreSQL, so that any number of
// servers share it, and asks each service what it has seen.
package watch

import (
	"context"
	"log/slog"
	"time"

	"ligare/service/records"
)

// Watch runs jobs until its context ends.
type Watch struct {
	Records *records.Records
	Log     *slog.Logger
	Every   time.Duration // how often a registration is looked at
}

// Run works until ctx ends. A database that is away is waited for.
func (w *Watch) Run(ctx context.Context) {
	forget := time.NewTicker(time.Hour)
	defer forget.Stop()
	for {
		worked, err := w.one(ctx)
		wait := 500 * time.Millisecond
		switch {
		case ctx.Err() != nil:
			return
		case err != nil:
			w.Log.Warn("watching", "error", err)
			wait = 3 * time.Second
		case worked:
			wait = 0
		}
		select {
		case <-ctx.Done():
			return
		case <-forget.C:
			if err := w.Records.ForgetKeys(ctx); err != nil {
				w.Log.Warn("forgetting keys", "error", err)
			}
		case <-time.After(wait):
		}
	}
}

// one takes and does one job; worked is false when none was due.
func (w *Watch) one(ctx context.Context) (worked bool, err error) {
	j, err := w.Records.Take(ctx, time.Minute)
	if err != nil || j == nil {
		return false, err
	}
	if j.Kind != "look" {
		return true, w.Records.Drop(ctx, j)
	}
	n, err := w.Records.Look(ctx, records.Caller{Team: j.Team, Name: "watch", Role: "developer"}, j.Subject)
	if err == nil {
		if n > 0 {
			w.Log.Info("seen", "registration", j.Subject, "new", n)
		}
		return true, w.Records.Again(ctx, j, w.Every, "")
	}
	if e, ok := records.As(err); ok && e.Kind == records.Missing {
		return true, w.Records.Drop(ctx, j)
	}
	later := w.Every << min(j.Tries, 6) // a service that is away is asked less and less often
	w.Log.Warn("looking failed", "registration", j.Subject, "error", err, "again in", later)
	return true, w.Records.Again(ctx, j, later, err.Error())
}
