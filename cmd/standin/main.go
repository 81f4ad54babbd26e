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
	"sort"
	"strings"
	"syscall"
	"time"

	"ligare/standin/all"
)

func main() {
	if err := run(); err != nil {
		fmt.Fprintln(os.Stderr, "standin:", err)
		os.Exit(1)
	}
}

func run() error {
	dir := flag.String("data", "", "folder for the services' data")
	only := flag.String("only", "", "names of the services to run, with commas between; all, if not said")
	flag.Parse()
	if *dir == "" {
		return errors.New("--data FOLDER is required")
	}
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	names, err := wanted(*only)
	if err != nil {
		return err
	}
	// Config files hold the address, so it should be the same after a restart.
	list := filepath.Join(*dir, "addresses.json")
	had, addresses := map[string]string{}, map[string]string{}
	if b, err := os.ReadFile(list); err == nil {
		if err := json.Unmarshal(b, &had); err != nil {
			return fmt.Errorf("%s: %w", list, err)
		}
	}
	ended := make(chan error, len(names))
	var servers []*http.Server
	for _, name := range names {
		svc, err := all.Services[name](filepath.Join(*dir, name+".journal"))
		if err != nil {
			return err
		}
		l, err := listen(had[name])
		if err != nil {
			return err
		}
		addresses[name] = "http://" + l.Addr().String()
		svc.SetAddress(addresses[name])
		srv := &http.Server{Handler: svc.Handler(), ReadHeaderTimeout: 10 * time.Second}
		servers = append(servers, srv)
		go func() { ended <- srv.Serve(l) }()
	}
	b, err := json.Marshal(addresses)
	if err != nil {
		return err
	}
	if err := os.WriteFile(list, b, 0o600); err != nil {
		return err
	}
	for _, name := range names {
		fmt.Printf("%s %s\n", name, addresses[name])
	}
	select {
	case <-ctx.Done():
		wait, cancel := context.WithTimeout(context.Background(), 2*time.Second)
		defer cancel()
		for _, s := range servers {
			_ = s.Shutdown(wait) // the process ends either way
		}
		return nil
	case err := <-ended:
		return err
	}
}

func wanted(only string) ([]string, error) {
	var names []string
	for n := range all.Services {
		names = append(names, n)
	}
	sort.Strings(names)
	if only == "" {
		return names, nil
	}
	pick := strings.Split(only, ",")
	for _, n := range pick {
		if all.Services[n] == nil {
			return nil, fmt.Errorf("there is no simulated service %q; there are: %s", n, strings.Join(names, ", "))
		}
	}
	return pick, nil
}

// listen takes the address used before, or a free port.
func listen(before string) (net.Listener, error) {
	if before != "" {
		if l, err := net.Listen("tcp", strings.TrimPrefix(before, "http://")); err == nil {
			return l, nil
		}
	}
	return net.Listen("tcp", "127.0.0.1:0")
}
