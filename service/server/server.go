// Package server puts the parts together: records, keyring, watch and API on one listener.
package server

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"time"

	"ligare/core/sheet"
	"ligare/service/api"
	"ligare/service/keyring"
	"ligare/service/records"
	"ligare/service/store"
	"ligare/service/watch"
	"ligare/service/web"
	"ligare/sheets"
)

// Config says where the parts are.
type Config struct {
	Database string // PostgreSQL address
	Keyring  string // file
	Every    time.Duration
	Largest  int64 // package that may be handed in, in bytes; 0 for the usual
	Log      *slog.Logger
}

// Server is ready to serve.
type Server struct {
	Records *records.Records
	cfg     Config
}

// Open connects, migrates and loads the sheets.
func Open(ctx context.Context, cfg Config) (*Server, error) {
	all, err := sheet.Load(sheets.FS)
	if err != nil {
		return nil, err
	}
	lib, err := sheet.LoadLibrary(sheets.FS)
	if err != nil {
		return nil, err
	}
	for _, s := range all {
		if err := lib.Check(s); err != nil {
			return nil, err
		}
	}
	keys, err := keyring.Open(cfg.Keyring)
	if err != nil {
		return nil, err
	}
	pool, err := store.Open(ctx, cfg.Database)
	if err != nil {
		return nil, err
	}
	if err := store.Migrate(ctx, pool, cfg.Log); err != nil {
		pool.Close()
		return nil, fmt.Errorf("migrating: %w", err)
	}
	return &Server{Records: &records.Records{DB: pool, Keys: keys, Sheets: &records.Sheets{Shipped: all, Library: lib}, Log: cfg.Log}, cfg: cfg}, nil
}

// Serve answers on a listener until ctx ends, then finishes what is under way.
func (s *Server) Serve(ctx context.Context, l net.Listener) error {
	defer s.Records.DB.Close()
	defer s.Records.Close()
	console, err := web.Handler()
	if err != nil {
		return err
	}
	a := &api.API{Records: s.Records, Log: s.cfg.Log, Console: console, Largest: s.cfg.Largest}
	srv := &http.Server{Handler: a.Handler(ctx), ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 2 * time.Minute}
	w := &watch.Watch{Records: s.Records, Log: s.cfg.Log, Every: s.cfg.Every}
	watching := make(chan struct{})
	go func() {
		defer close(watching)
		w.Run(ctx)
	}()
	go func() {
		<-ctx.Done()
		wait, cancel := context.WithTimeout(context.Background(), 5*time.Second)
		defer cancel()
		if err := srv.Shutdown(wait); err != nil {
			s.cfg.Log.Warn("stopping", "error", err)
		}
	}()
	err = srv.Serve(l)
	<-watching
	if errors.Is(err, http.ErrServerClosed) {
		return nil
	}
	return err
}
