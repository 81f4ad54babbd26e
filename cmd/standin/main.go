// Command standin runs the simulated services on loopback, each on a port of its own, with data of its own.
package main

import (
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/signal"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"ligare/standin/thornmill"
)

func main() {
	if err := run(); err != nil {
		fmt.Fprintln(os.Stderr, "standin:", err)
		os.Exit(1)
	}
}

func run() error {
	dir := flag.String("data", "", "folder for the services' data")
	port := flag.Int("port", 0, "port of the first service; 0 keeps the one used before, or takes a free one")
	flag.Parse()
	if *dir == "" {
		return errors.New("--data FOLDER is required")
	}
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	svc, err := thornmill.New(filepath.Join(*dir, "thornmill.json"))
	if err != nil {
		return err
	}
	// Config files hold the address, so it should be the same after a restart.
	list := filepath.Join(*dir, "addresses.json")
	l, err := listen(*port, list)
	if err != nil {
		return err
	}
	svc.Address = "http://" + l.Addr().String()
	b, err := json.Marshal(map[string]string{"thornmill": svc.Address})
	if err != nil {
		return err
	}
	if err := os.WriteFile(list, b, 0o600); err != nil {
		return err
	}
	fmt.Printf("thornmill %s\n", svc.Address)
	srv := &http.Server{Handler: svc.Handler(), ReadHeaderTimeout: 10 * time.Second}
	go func() {
		<-ctx.Done()
		wait, cancel := context.WithTimeout(context.Background(), 2*time.Second)
		defer cancel()
		_ = srv.Shutdown(wait) // the process ends either way
	}()
	if err := srv.Serve(l); !errors.Is(err, http.ErrServerClosed) {
		return err
	}
	return nil
}

func listen(port int, list string) (net.Listener, error) {
	if port == 0 {
		var had map[string]string
		if b, err := os.ReadFile(list); err == nil && json.Unmarshal(b, &had) == nil && had["thornmill"] != "" {
			if l, err := net.Listen("tcp", strings.TrimPrefix(had["thornmill"], "http://")); err == nil {
				return l, nil
			}
		}
	}
	return net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", port))
}
