package main

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"ligare/client"
	"ligare/client/shape"
	"ligare/core/check"
	"ligare/demo"
)

func demoCommand() *cli.Command {
	return &cli.Command{
		Name: "demo", Usage: "start everything on invented data, run the walk-through and leave the console open",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "folder", Usage: "where the demo lives; by default a new temporary folder, removed at the end"},
			&cli.StringFlag{Name: "listen", Usage: "address to listen on; by default a free port on loopback"},
			&cli.BoolFlag{Name: "once", Usage: "stop after the walk-through"},
			&cli.BoolFlag{Name: "leave-mistake", Usage: "leave the first mistake planted, so that the console has one to show"},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			dir := c.String("folder")
			if dir == "" {
				tmp, err := os.MkdirTemp("", "ligare-demo-")
				if err != nil {
					return err
				}
				if err := os.Chmod(tmp, 0o711); err != nil {
					return err
				}
				dir = tmp
				defer func() {
					if err := os.RemoveAll(tmp); err != nil {
						fmt.Fprintln(os.Stderr, "ligared:", err)
					}
				}()
			}
			dir, err := filepath.Abs(dir)
			if err != nil {
				return err
			}
			return runDemo(ctx, dir, c.String("listen"), c.Bool("once"), c.Bool("leave-mistake"))
		},
	}
}

func runDemo(ctx context.Context, dir, address string, once, leave bool) error {
	home := filepath.Join(dir, "home")
	o, err := startOwn(ctx, home, address, "Larkfield Cooperative", "Wren", true)
	if err != nil {
		return err
	}
	defer o.stop()
	walk, err := demo.Load()
	if err != nil {
		return err
	}
	d := &walker{ctx: ctx, own: o, home: home, tree: filepath.Join(dir, "hivelog")}
	if err := d.prepare(walk); err != nil {
		return err
	}
	if err := d.walk(walk, leave); err != nil {
		return err
	}
	fmt.Printf("\nConsole: %s\nThe tree: %s\n", o.console(), d.tree)
	fmt.Printf("To go on by hand: export LIGARE_HOME=%s; cd %s\n", home, d.tree)
	if once {
		return nil
	}
	fmt.Println("Stop with Ctrl-C; everything that was started is stopped, and a temporary folder is removed.")
	return o.wait(ctx)
}

// walker runs the walk-through the way a person would: through the ligare binary.
type walker struct {
	ctx  context.Context
	own  *own
	home string
	tree string
}

// prepare makes the tree with its keystores and history, unless an earlier run left it.
func (d *walker) prepare(w *demo.Walk) error {
	if _, err := os.Stat(d.tree); err == nil {
		if err := os.RemoveAll(d.tree); err != nil { // the walk-through begins with a tree that knows nothing of Ligare
			return err
		}
	}
	if err := demo.Copy("hivelog", d.tree); err != nil {
		return err
	}
	packages := filepath.Join(filepath.Dir(d.tree), "packages")
	if err := os.RemoveAll(packages); err != nil {
		return err
	}
	if err := demo.Copy("packages", packages); err != nil {
		return err
	}
	for _, app := range w.Trees { // the studio's other apps lie beside it
		at := filepath.Join(filepath.Dir(d.tree), app)
		if err := os.RemoveAll(at); err != nil {
			return err
		}
		if err := demo.Copy(app, at); err != nil {
			return err
		}
	}
	for _, k := range w.KeyStores {
		out, status, err := d.ligare(append([]string{"signer", "make", "--password-env", "HIVELOG_STORE_PASSWORD"}, k...)...)
		if err == nil && status != 0 {
			err = errors.New(out)
		}
		if err != nil {
			return fmt.Errorf("making a keystore: %w", err)
		}
	}
	for _, app := range append([]string{filepath.Base(d.tree)}, w.Trees...) {
		at := *d
		at.tree = filepath.Join(filepath.Dir(d.tree), app)
		if err := at.git("init", "--quiet", "--initial-branch=main"); err != nil {
			return err
		}
		if err := at.commit("The tree as it was"); err != nil {
			return err
		}
	}
	api := d.api()
	for _, a := range w.Apps {
		n := shape.NewApp{Name: a.Name, Title: a.Title, Environments: a.Environments}
		for _, i := range a.Identities {
			n.Identities = append(n.Identities, shape.NewIdentity{Platform: i["platform"], Identifier: i["identifier"], DisplayName: i["displayName"]})
		}
		if _, err := api.SaveApp(d.ctx, n); err != nil {
			return err
		}
	}
	return nil
}

func (d *walker) api() *client.Client {
	return &client.Client{Address: d.own.endpoint.Address, Token: d.own.endpoint.Token}
}

func (d *walker) git(args ...string) error {
	cmd := exec.CommandContext(d.ctx, "git", append([]string{"-C", d.tree, "-c", "user.name=Wren", "-c", "user.email=wren@larkfield.example", "-c", "commit.gpgsign=false"}, args...)...)
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("git %s: %w\n%s", args[0], err, out)
	}
	return nil
}

func (d *walker) commit(message string) error {
	if err := d.git("add", "--all"); err != nil {
		return err
	}
	return d.git("commit", "--quiet", "--allow-empty", "--message", message)
}

// ligare runs the command line in the tree and gives its output and status.
func (d *walker) ligare(args ...string) (string, int, error) {
	self, err := os.Executable()
	if err != nil {
		return "", 0, err
	}
	cmd := exec.CommandContext(d.ctx, filepath.Join(filepath.Dir(self), "ligare"), args...)
	cmd.Dir = d.tree
	cmd.Env = append(os.Environ(), "LIGARE_HOME="+d.home, "LIGARE_SERVER=", "LIGARE_TOKEN=", "HIVELOG_STORE_PASSWORD=walk-through-only")
	var out bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &out
	err = cmd.Run()
	var exit *exec.ExitError
	if errors.As(err, &exit) {
		return out.String(), exit.ExitCode(), nil
	}
	return out.String(), 0, err
}

func (d *walker) step(s demo.Step) error {
	fmt.Printf("\n— %s\n$ ligare %s\n", s.Say, strings.Join(s.Run, " "))
	out, status, err := d.ligare(s.Run...)
	if err != nil {
		return err
	}
	fmt.Print(indent(out))
	if status != s.Exit {
		return fmt.Errorf("`ligare %s` ended with status %d; the walk-through expects %d", strings.Join(s.Run, " "), status, s.Exit)
	}
	if s.Git != "" {
		return d.commit(s.Git)
	}
	return nil
}

func indent(s string) string {
	if s == "" {
		return ""
	}
	return "    " + strings.ReplaceAll(strings.TrimRight(s, "\n"), "\n", "\n    ") + "\n"
}

func (d *walker) walk(w *demo.Walk, leave bool) error {
	for _, s := range w.Steps {
		if err := d.step(s); err != nil {
			return err
		}
	}
	for _, m := range w.Mistakes {
		undo, err := d.mistake(m)
		if err == nil {
			err = undo()
		}
		if err != nil {
			return err
		}
	}
	for _, s := range w.After {
		if err := d.step(s); err != nil {
			return err
		}
	}
	if err := d.takeOut(); err != nil {
		return err
	}
	for _, s := range w.Others {
		if err := d.step(s); err != nil {
			return err
		}
	}
	if leave {
		undo, err := d.mistake(w.Mistakes[0])
		_ = undo // it stays planted, for the console to show
		return err
	}
	return d.step(demo.Step{Say: "One more check, so that the console shows how things stand.", Run: []string{"check"}})
}

// mistake plants a mistake and holds what check says against what it must say.
func (d *walker) mistake(m demo.Mistake) (undo func() error, err error) {
	fmt.Printf("\n— A mistake: %s\n$ ligare check\n", m.Say)
	if undo, err = m.Do(d.tree); err != nil {
		return nil, err
	}
	text, status, err := d.ligare("check", "--no-report")
	if err != nil {
		return nil, err
	}
	fmt.Print(indent(text))
	out, _, err := d.ligare("--format", "json", "check")
	if err != nil {
		return nil, err
	}
	var r check.Result
	if err := json.Unmarshal([]byte(out), &r); err != nil {
		return nil, fmt.Errorf("%w\n%s", err, out)
	}
	r.Findings = slices.DeleteFunc(r.Findings, func(f check.Finding) bool { return f.Severity == check.Note })
	if status != 1 || len(r.Findings) != 1 || r.Findings[0].Rule != m.Rule || r.Findings[0].File != m.File || m.Line && r.Findings[0].Line == 0 {
		return nil, fmt.Errorf("check was to find only %s in %s and ended with status %d and %+v", m.Rule, m.File, status, r.Findings)
	}
	return undo, nil
}

// takeOut shows that unplace gives the tree back as it was, and places again for the console.
func (d *walker) takeOut() error {
	if err := d.step(demo.Step{Say: "Take everything out again.", Run: []string{"unplace", "thornmill", "--yes"}}); err != nil {
		return err
	}
	cmd := exec.CommandContext(d.ctx, "git", "-C", d.tree, "diff", "--exit-code", "--stat", "HEAD~1", "--", ".", ":!ligare.yaml")
	out, err := cmd.CombinedOutput()
	if err != nil {
		return fmt.Errorf("the tree is not what it was before placing:\n%s", out)
	}
	fmt.Println("    git diff against the commit before placing: nothing")
	return d.git("checkout", "--quiet", "HEAD", "--", ".")
}
