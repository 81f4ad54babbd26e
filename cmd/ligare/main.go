// Command ligare works where an app's source is: it surveys the tree, registers the app with services, places what they
// issue, checks that everything agrees, and proves it with a probe.
//
// Exit status: 0 nothing wrong, 1 findings, 2 could not do what was asked.
package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"syscall"

	"github.com/urfave/cli/v3"

	"ligare/client"
	"ligare/client/shape"
	"ligare/job"
)

// version is set when building.
var version = "dev"

// errFound ends a command with status 1: it did what was asked, and something is wrong.
var errFound = errors.New("found")

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	err := root().Run(ctx, os.Args)
	switch {
	case err == nil:
	case errors.Is(err, errFound):
		os.Exit(1)
	case ctx.Err() != nil:
		fmt.Fprintln(os.Stderr, "ligare: stopped; nothing was written")
		os.Exit(2)
	default:
		complain(err)
		os.Exit(2)
	}
}

// complain prints an error in one line and what to do next in another.
func complain(err error) {
	next := ""
	var p *job.Problem
	var remote *shape.Problem
	var away *client.Unreachable
	if errors.As(err, &p) {
		next = p.Hint
	}
	if errors.As(err, &remote) {
		next = remote.Remedy
	}
	if errors.Is(err, client.ErrNoServer) {
		next = "Start your own with `ligared local`, or set LIGARE_SERVER and LIGARE_TOKEN."
	}
	if errors.As(err, &away) {
		next = "Check that it runs: `ligared local` starts your own; LIGARE_SERVER names another."
	}
	fmt.Fprintln(visible{os.Stderr}, "ligare:", err)
	if next != "" {
		fmt.Fprintln(visible{os.Stderr}, "  next:", next)
	}
}

// Help that is asked for after an argument, as in `ligare record thornmill --help`, is that of the command, not of the argument.
func init() {
	usual := cli.ShowCommandHelp
	cli.ShowCommandHelp = func(ctx context.Context, c *cli.Command, name string) error {
		if c.Command(name) == nil && len(c.Lineage()) > 1 && c.Args().First() == name {
			return usual(ctx, c.Lineage()[1], c.Name)
		}
		return usual(ctx, c, name)
	}
}

func root() *cli.Command {
	return &cli.Command{
		Name: "ligare", Usage: "tie mobile apps to the services they use", Version: version,
		HideHelpCommand: true, EnableShellCompletion: true, DisableSliceFlagSeparator: true,
		Description: "Exit status: 0 nothing wrong, 1 findings, 2 could not do what was asked.\n" +
			"A token comes from LIGARE_TOKEN; without one, your own server (ligared local) is found by itself.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "tree", Value: ".", Usage: "folder of the project", Sources: cli.EnvVars("LIGARE_TREE")},
			&cli.StringFlag{Name: "server", Usage: "address of the server", Sources: cli.EnvVars("LIGARE_SERVER")},
			&cli.StringFlag{Name: "format", Value: "text", Usage: "text or json"},
		},
		Commands: []*cli.Command{surveyCommand(), digestCommand(), appCommand(), signerCommand(), serviceCommand(), sheetCommand(), registerCommand(), registrationsCommand(),
			resolveCommand(), deregisterCommand(), recordCommand(), keyCommand(), feedsCommand(), dutyCommand(), catalogueCommand(), builderCommand(), serverSecretsCommand(),
			placeCommand(), adoptCommand(), renameCommand(), unplaceCommand(), refreshCommand(), fetchCommand(), checkCommand(), combCommand(), inspectCommand(), explainCommand(), waiveCommand(), lineupCommand(), probeCommand()},
		OnUsageError:   usage,
		ExitErrHandler: func(context.Context, *cli.Command, error) {},
		CommandNotFound: func(_ context.Context, _ *cli.Command, name string) {
			complain(&job.Problem{What: fmt.Sprintf("there is no command %q", name), Hint: "`ligare --help` lists them."})
			os.Exit(2)
		},
	}
}

func usage(_ context.Context, c *cli.Command, err error, _ bool) error {
	return &job.Problem{What: err.Error(), Hint: "`" + c.FullName() + " --help` shows how it is used."}
}

// command fills in what all commands share.
func command(c *cli.Command) *cli.Command {
	c.OnUsageError = usage
	c.HideHelpCommand = true
	if act := c.Action; act != nil && c.ArgsUsage == "" {
		c.Action = func(ctx context.Context, c *cli.Command) error {
			if c.Args().Present() {
				return &job.Problem{What: fmt.Sprintf("%s takes no argument, and %q is one", c.FullName(), c.Args().First()), Hint: "`" + c.FullName() + " --help` shows how it is used."}
			}
			return act(ctx, c)
		}
	}
	return c
}

// open reads the tree and says what recovery did.
func open(c *cli.Command) (*job.Work, error) {
	w, err := job.OpenWith(c.String("tree"), job.Look{Home: c.Bool("home"), Environment: c.Bool("environment")})
	if err == nil && w.Note != "" {
		fmt.Fprintln(os.Stderr, "ligare:", w.Note)
	}
	return w, err
}

// server finds the server; w may be nil.
func server(c *cli.Command, w *job.Work) (*client.Client, error) {
	return w.Server(c.String("server"), os.Getenv("LIGARE_TOKEN"))
}

// both opens the tree and finds the server.
func both(c *cli.Command) (*job.Work, *client.Client, error) {
	w, err := open(c)
	if err != nil {
		return nil, nil, err
	}
	s, err := server(c, w)
	return w, s, err
}

// argument gives the one argument a command needs.
func argument(c *cli.Command, what string) (string, error) {
	if c.Args().Len() != 1 {
		return "", &job.Problem{What: fmt.Sprintf("%s takes exactly one %s", c.FullName(), what), Hint: "`" + c.FullName() + " --help` shows how it is used."}
	}
	return c.Args().First(), nil
}
