package main

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"github.com/urfave/cli/v3"

	"ligare/client"
	"ligare/client/shape"
	"ligare/service/cluster"
	"ligare/service/server"
)

func listen(address string) (net.Listener, error) {
	l, err := net.Listen("tcp", address)
	if err != nil {
		return nil, fmt.Errorf("%w; name another address with --listen", err)
	}
	return l, nil
}

func localCommand() *cli.Command {
	return &cli.Command{
		Name: "local", Usage: "your own server: a private PostgreSQL under your data folder; the command line finds it by itself",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "listen", Usage: "address to listen on; by default the one used before, or a free port on loopback"},
			&cli.BoolFlag{Name: "simulated", Usage: "also start the simulated services, to try things on"},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			home, err := client.Home()
			if err != nil {
				return err
			}
			o, err := startOwn(ctx, home, c.String("listen"), "Own", "me", c.Bool("simulated"))
			if err != nil {
				return err
			}
			defer o.stop()
			fmt.Printf("Console: %s\nRecords: %s\nStop with Ctrl-C.\n", o.console(), home)
			return o.wait(ctx)
		},
	}
}

// own is a developer's own server with everything it runs on.
type own struct {
	endpoint client.Endpoint
	services map[string]string // simulated services and their addresses
	cluster  *cluster.Cluster
	standin  *exec.Cmd
	served   chan error
	cancel   context.CancelFunc
	lock     *os.File
}

// console gives the address that signs in by itself; the token stands behind # and is never sent in an address.
func (o *own) console() string { return o.endpoint.Address + "/sign-in#" + o.endpoint.Token }

// startOwn starts PostgreSQL, the server and, if wanted, the simulated services.
func startOwn(ctx context.Context, home, address, team, person string, simulated bool) (_ *own, err error) {
	mode := os.FileMode(0o700)
	if os.Geteuid() == 0 {
		mode = 0o711 // the database's user passes through, and lists nothing
	}
	if err := os.MkdirAll(home, mode); err != nil {
		return nil, err
	}
	if err := os.Chmod(home, mode); err != nil { // another command may have made it
		return nil, err
	}
	o := &own{served: make(chan error, 1)}
	defer func() {
		if err != nil {
			o.stop()
		}
	}()
	if o.lock, err = only(home); err != nil {
		return nil, err
	}
	if o.cluster, err = cluster.Start(ctx, filepath.Join(home, "postgres")); err != nil {
		return nil, err
	}
	s, err := server.Open(ctx, server.Config{Database: o.cluster.URL, Keyring: filepath.Join(home, "keyring.json"), Every: 2 * time.Second, Log: logger(true)})
	if err != nil {
		return nil, err
	}
	before, _ := client.LoadEndpoint(home) // the first time there is none
	l, err := again(address, before.Address)
	if err != nil {
		return nil, err
	}
	o.endpoint = client.Endpoint{Address: "http://" + l.Addr().String(), Token: before.Token, PID: os.Getpid()}
	if _, e := s.Records.Authenticate(ctx, before.Token); before.Token == "" || e != nil {
		if o.endpoint.Token, err = s.Records.Team(ctx, team, person, "owner", 0); err != nil {
			return nil, err
		}
	}
	if err := client.SaveEndpoint(home, o.endpoint); err != nil {
		return nil, err
	}
	var serve context.Context
	serve, o.cancel = context.WithCancel(context.Background())
	go func() { o.served <- s.Serve(serve, l) }()
	if simulated {
		if err := o.simulate(ctx, filepath.Join(home, "simulated")); err != nil {
			return nil, err
		}
	}
	return o, nil
}

// only makes sure that one server runs on a folder.
func only(home string) (*os.File, error) {
	f, err := os.OpenFile(filepath.Join(home, "running"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, err
	}
	if err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		e, _ := client.LoadEndpoint(home) // for the message only
		return nil, errors.Join(fmt.Errorf("a server runs on %s already, at %s (process %d)", home, e.Address, e.PID), f.Close())
	}
	return f, nil
}

// again listens where it was before, so that links keep working; a port that is taken gives way to a free one.
func again(address, before string) (net.Listener, error) {
	if address != "" {
		return listen(address)
	}
	if had := strings.TrimPrefix(before, "http://"); had != "" {
		if l, err := net.Listen("tcp", had); err == nil {
			return l, nil
		}
	}
	return listen("127.0.0.1:0")
}

// simulate starts the simulated services and opens an account with each.
func (o *own) simulate(ctx context.Context, dir string) error {
	self, err := os.Executable()
	if err != nil {
		return err
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	o.standin = exec.Command(filepath.Join(filepath.Dir(self), "standin"), "--data", dir)
	o.standin.Stderr = os.Stderr
	o.standin.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGTERM, Setpgid: true}
	out, err := o.standin.StdoutPipe()
	if err != nil {
		return err
	}
	if err := o.standin.Start(); err != nil {
		return fmt.Errorf("starting the simulated services: %w", err)
	}
	if _, err := bufio.NewReader(out).ReadString('\n'); err != nil {
		return fmt.Errorf("the simulated services did not start: %w", err)
	}
	b, err := os.ReadFile(filepath.Join(dir, "addresses.json"))
	if err != nil {
		return err
	}
	if err := json.Unmarshal(b, &o.services); err != nil {
		return err
	}
	api := &client.Client{Address: o.endpoint.Address, Token: o.endpoint.Token}
	list, err := api.Services(ctx)
	if err != nil {
		return err
	}
	for _, s := range list {
		if address := o.services[s.Service]; address != "" && (!s.Connected || s.Address != address) {
			if err := api.Connect(ctx, s.Service, shape.Connect{Address: address}); err != nil {
				return err
			}
		}
	}
	return nil
}

// wait returns when ctx ends or the server fails.
func (o *own) wait(ctx context.Context) error {
	select {
	case <-ctx.Done():
		return nil
	case err := <-o.served:
		o.served <- err
		return err
	}
}

// stop ends everything that was started, in order, and waits for it.
func (o *own) stop() {
	if o.cancel != nil {
		o.cancel()
		<-o.served
	}
	if o.standin != nil && o.standin.Process != nil {
		_ = o.standin.Process.Signal(syscall.SIGTERM) // it may be gone
		_ = o.standin.Wait()                          // as above
	}
	o.cluster.Stop()
	if o.lock != nil {
		_ = o.lock.Close() // the lock goes with the process at the latest
	}
}
