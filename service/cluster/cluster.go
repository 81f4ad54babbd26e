// Package cluster runs a private PostgreSQL server from the system's packages: its own data folder, loopback only, a
// password of its own. As root the server itself runs as an unprivileged user, as PostgreSQL demands.
package cluster

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"net/url"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"runtime"
	"sort"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"
)

// Cluster is a running server.
type Cluster struct {
	URL  string
	cmd  *exec.Cmd
	done chan error
}

// Install says what to install when PostgreSQL is missing.
const Install = "install PostgreSQL: apt-get install postgresql"

// bin finds the newest PostgreSQL programs.
func bin() (string, error) {
	dirs, err := filepath.Glob("/usr/lib/postgresql/*/bin")
	if err != nil {
		return "", err
	}
	sort.Slice(dirs, func(i, j int) bool { return version(dirs[i]) > version(dirs[j]) })
	for _, d := range dirs {
		if _, err := os.Stat(filepath.Join(d, "initdb")); err == nil {
			return d, nil
		}
	}
	if p, err := exec.LookPath("initdb"); err == nil {
		return filepath.Dir(p), nil
	}
	return "", fmt.Errorf("no PostgreSQL server was found; %s", Install)
}

func version(dir string) int {
	v, _ := strconv.Atoi(filepath.Base(filepath.Dir(dir)))
	return v
}

// server gives the credential the server runs under: nil for our own.
func server() (*syscall.Credential, error) {
	if os.Geteuid() != 0 {
		return nil, nil
	}
	for _, name := range []string{"postgres", "nobody"} {
		u, err := user.Lookup(name)
		if err != nil {
			continue
		}
		uid, errU := strconv.ParseUint(u.Uid, 10, 32)
		gid, errG := strconv.ParseUint(u.Gid, 10, 32)
		if errU == nil && errG == nil {
			return &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}, nil
		}
	}
	return nil, errors.New("running as root, and there is neither a user postgres nor nobody to run the database as")
}

// Start starts the server on a data folder, making it first when it is new. It ends with Stop, and with this process.
func Start(ctx context.Context, dir string) (*Cluster, error) { return StartOn(ctx, dir, "") }

// StartOn is Start on an address of its own, host:port on loopback; "" takes a free port.
func StartOn(ctx context.Context, dir, address string) (*Cluster, error) {
	programs, err := bin()
	if err != nil {
		return nil, err
	}
	cred, err := server()
	if err != nil {
		return nil, err
	}
	data := filepath.Join(dir, "data")
	if err := prepare(dir, data, cred); err != nil {
		return nil, err
	}
	if err := sameMajor(programs, data); err != nil {
		return nil, err
	}
	password, err := initialise(ctx, programs, dir, data, cred)
	if err != nil {
		return nil, err
	}
	port, err := portOf(address)
	if err != nil {
		return nil, err
	}
	log, err := os.OpenFile(filepath.Join(dir, "postgres.log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return nil, err
	}
	cmd := exec.Command(filepath.Join(programs, "postgres"), "-D", data, "-p", strconv.Itoa(port), "-c", "listen_addresses=127.0.0.1", "-c", "unix_socket_directories=", "-c", "timezone=UTC")
	cmd.Dir = "/"
	cmd.Stdout, cmd.Stderr = log, log
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: cred, Pdeathsig: syscall.SIGQUIT, Setpgid: true}
	c := &Cluster{cmd: cmd, done: make(chan error, 1)}
	started := make(chan error, 1)
	go func() { // the death signal follows this thread, so it must live as long as the server
		runtime.LockOSThread()
		err := cmd.Start()
		started <- err
		if err == nil {
			c.done <- cmd.Wait()
			_ = log.Close() // nothing is written to it any more
		}
	}()
	if err := <-started; err != nil {
		return nil, fmt.Errorf("starting PostgreSQL: %w", err)
	}
	u := url.URL{Scheme: "postgres", User: url.UserPassword("ligare", password), Host: fmt.Sprintf("127.0.0.1:%d", port), Path: "/ligare", RawQuery: "sslmode=disable"}
	c.URL = u.String()
	if err := c.ready(ctx, u); err != nil {
		c.Stop()
		return nil, fmt.Errorf("%w\n%s", err, tail(filepath.Join(dir, "postgres.log")))
	}
	return c, nil
}

// prepare makes the folder and gives it to the user the server runs as.
func prepare(dir, data string, cred *syscall.Credential) error {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	if cred == nil {
		return nil
	}
	if err := os.Chmod(dir, 0o711); err != nil { // the server passes through, and lists nothing
		return err
	}
	for up := filepath.Dir(dir); up != "/"; up = filepath.Dir(up) {
		if info, err := os.Stat(up); err == nil && info.Mode().Perm()&0o001 == 0 {
			return fmt.Errorf("%s cannot be entered by the database's user; set LIGARE_HOME to a folder elsewhere, such as /var/lib/ligare", up)
		}
	}
	if _, err := os.Stat(data); errors.Is(err, os.ErrNotExist) {
		if err := os.Mkdir(data, 0o700); err != nil {
			return err
		}
		return os.Chown(data, int(cred.Uid), int(cred.Gid))
	}
	return nil
}

// sameMajor refuses a data folder of another major version, with the way out.
func sameMajor(programs, data string) error {
	b, err := os.ReadFile(filepath.Join(data, "PG_VERSION"))
	if err != nil {
		return nil // new
	}
	had, now := strings.TrimSpace(string(b)), version(programs)
	if now != 0 && had != strconv.Itoa(now) {
		return fmt.Errorf("the records in %s were written by PostgreSQL %s and the installed server is %d; install postgresql-%s beside it, or dump them there and restore them into a new folder", data, had, now, had)
	}
	return nil
}

// initialise makes the data folder, once; the password stands in a file beside it.
func initialise(ctx context.Context, programs, dir, data string, cred *syscall.Credential) (string, error) {
	file := filepath.Join(dir, "password")
	if b, err := os.ReadFile(file); err == nil {
		if _, err := os.Stat(filepath.Join(data, "PG_VERSION")); err == nil {
			return strings.TrimSpace(string(b)), nil
		}
	}
	raw := make([]byte, 16)
	if _, err := rand.Read(raw); err != nil {
		return "", err
	}
	password := hex.EncodeToString(raw)
	if err := os.WriteFile(file, []byte(password+"\n"), 0o600); err != nil {
		return "", err
	}
	r, w, err := os.Pipe() // initdb takes the password from a file: this one is never on a disk it can leak from
	if err != nil {
		return "", err
	}
	go func() {
		_, _ = w.WriteString(password + "\n") // initdb says so if it does not arrive
		_ = w.Close()
	}()
	cmd := exec.CommandContext(ctx, filepath.Join(programs, "initdb"), "-D", data, "-U", "ligare", "--auth=scram-sha-256", "--pwfile=/proc/self/fd/3", "--encoding=UTF8", "--locale=C.UTF-8")
	cmd.Dir = "/"
	cmd.ExtraFiles = []*os.File{r}
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: cred}
	var out bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &out
	if cred != nil { // the pipe was made by root: hand over its reading end
		if err := r.Chown(int(cred.Uid), int(cred.Gid)); err != nil {
			return "", err
		}
	}
	err = cmd.Run()
	if e := r.Close(); err == nil {
		err = e
	}
	if err != nil {
		return "", fmt.Errorf("making the database folder %s: %w\n%s", data, err, out.String())
	}
	return password, nil
}

func portOf(address string) (int, error) {
	if address != "" {
		_, p, err := net.SplitHostPort(address)
		if err != nil {
			return 0, err
		}
		return strconv.Atoi(p)
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	return l.Addr().(*net.TCPAddr).Port, l.Close()
}

// ready waits until the server answers, and makes the database the first time.
func (c *Cluster) ready(ctx context.Context, u url.URL) error {
	u.Path = "/postgres"
	for deadline := time.Now().Add(60 * time.Second); ; {
		conn, err := pgx.Connect(ctx, u.String())
		if err == nil {
			var there bool
			err = conn.QueryRow(ctx, "SELECT exists (SELECT 1 FROM pg_database WHERE datname = 'ligare')").Scan(&there)
			if err == nil && !there {
				_, err = conn.Exec(ctx, "CREATE DATABASE ligare")
			}
			return errors.Join(err, conn.Close(ctx))
		}
		select {
		case e := <-c.done:
			c.done <- e
			return fmt.Errorf("PostgreSQL ended at once: %v", e)
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(100 * time.Millisecond):
		}
		if time.Now().After(deadline) {
			return fmt.Errorf("PostgreSQL does not answer: %w", err)
		}
	}
}

func tail(file string) string {
	b, err := os.ReadFile(file)
	if err != nil {
		return ""
	}
	lines := strings.Split(strings.TrimSpace(string(b)), "\n")
	return strings.Join(lines[max(0, len(lines)-5):], "\n")
}

// Stop ends the server, closing connections, and waits for it.
func (c *Cluster) Stop() {
	if c == nil || c.cmd.Process == nil {
		return
	}
	_ = c.cmd.Process.Signal(syscall.SIGINT) // it may be gone already
	select {
	case <-c.done:
	case <-time.After(10 * time.Second):
		_ = c.cmd.Process.Kill() // as above
		<-c.done
	}
}
