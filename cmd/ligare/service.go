package main

import (
	"context"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/urfave/cli/v3"

	"ligare/client/shape"
	"ligare/core/ident"
	"ligare/job"
)

func serviceCommand() *cli.Command {
	return command(&cli.Command{
		Name: "service", Usage: "the services that can be registered with",
		Commands: []*cli.Command{serviceList(), serviceShow(), serviceConnect()},
	})
}

func serviceList() *cli.Command {
	return command(&cli.Command{
		Name: "list", Usage: "list the services and whether the team has an account",
		Action: func(ctx context.Context, c *cli.Command) error {
			s, err := server(c, nil)
			if err != nil {
				return err
			}
			list, err := s.Services(ctx)
			if err != nil {
				return err
			}
			return output(c, list, func(out io.Writer) {
				rows := [][]string{{"SERVICE", "TITLE", "KIND", "ACCOUNT"}}
				for _, x := range list {
					account := "none"
					if x.Connected {
						account = x.Address
					}
					rows = append(rows, []string{x.Service, x.Title, x.Kind, account})
				}
				table(out, rows)
			})
		},
	})
}

func serviceShow() *cli.Command {
	return command(&cli.Command{
		Name: "show", Usage: "print a service's sheet", ArgsUsage: "SERVICE",
		Action: func(ctx context.Context, c *cli.Command) error {
			name, err := argument(c, "SERVICE")
			if err != nil {
				return err
			}
			s, err := server(c, nil)
			if err != nil {
				return err
			}
			x, err := s.Service(ctx, name)
			if err != nil {
				return err
			}
			return output(c, x, func(out io.Writer) { fmt.Fprintf(out, "# %s\n%s", x.Digest, x.Source) })
		},
	})
}

func serviceConnect() *cli.Command {
	return command(&cli.Command{
		Name: "connect", Usage: "open the team's account with a service", ArgsUsage: "SERVICE",
		Description: "Opens a new account, or takes the credential of one that exists from LIGARE_CREDENTIAL.",
		Flags:       []cli.Flag{&cli.StringFlag{Name: "address", Usage: "where the service is", Required: true}},
		Action: func(ctx context.Context, c *cli.Command) error {
			name, err := argument(c, "SERVICE")
			if err != nil {
				return err
			}
			s, err := server(c, nil)
			if err != nil {
				return err
			}
			if err := s.Connect(ctx, name, shape.Connect{Address: c.String("address"), Credential: os.Getenv("LIGARE_CREDENTIAL")}); err != nil {
				return err
			}
			return output(c, map[string]string{"service": name, "address": c.String("address")}, func(out io.Writer) {
				fmt.Fprintf(out, "The team has an account with %s at %s.\n", name, c.String("address"))
			})
		},
	})
}

func registerCommand() *cli.Command {
	return command(&cli.Command{
		Name: "register", Usage: "register the app with a service, or add identities, digests and features", ArgsUsage: "SERVICE",
		Description: "Identities and signing digests are filled in from the tree, in the form the service wants.\nRunning it again goes on where it stopped and registers nothing twice.",
		Flags: append(passwordFlags(),
			&cli.StringFlag{Name: "environment", Aliases: []string{"e"}, Usage: "environment to register"},
			&cli.StringSliceFlag{Name: "answer", Usage: "NAME=VALUE, an answer the service asks for"},
			&cli.StringSliceFlag{Name: "feature", Usage: "feature to switch on"},
			&cli.BoolFlag{Name: "digests", Usage: "register the signing digests even if no feature needs them yet"}),
		Action: func(ctx context.Context, c *cli.Command) error {
			name, err := argument(c, "SERVICE")
			if err != nil {
				return err
			}
			w, s, err := both(c)
			if err != nil {
				return err
			}
			o := job.RegisterOptions{Service: name, Environment: c.String("environment"), Answers: map[string]string{}, Features: c.StringSlice("feature"), Digests: c.Bool("digests"), Password: password(c)}
			for _, a := range c.StringSlice("answer") {
				k, v, ok := strings.Cut(a, "=")
				if !ok {
					return &job.Problem{What: fmt.Sprintf("--answer %s: NAME=VALUE is expected", a)}
				}
				o.Answers[k] = v
			}
			if asking() {
				o.Ask = choose
			}
			if !jsonWanted(c) {
				o.Filled = func(what, value, where string) { fmt.Fprintf(os.Stderr, "  %-9s %s  ← %s\n", what, value, where) }
			}
			g, err := w.Register(ctx, s, o)
			if err != nil {
				return err
			}
			return output(c, g, func(out io.Writer) { showRegistration(out, *g) })
		},
	})
}

func registrationsCommand() *cli.Command {
	return command(&cli.Command{
		Name: "registrations", Usage: "show the app's registrations and what was issued",
		Action: func(ctx context.Context, c *cli.Command) error {
			w, s, err := both(c)
			if err != nil {
				return err
			}
			if err := w.NeedBinding(); err != nil {
				return err
			}
			list, err := s.Registrations(ctx, w.Binding.App)
			if err != nil {
				return err
			}
			return output(c, list, func(out io.Writer) {
				for _, g := range list {
					showRegistration(out, g)
				}
				if len(list) == 0 {
					fmt.Fprintln(out, "None yet. Register with: ligare register SERVICE")
				}
			})
		},
	})
}

func showRegistration(w io.Writer, g shape.Registration) {
	fmt.Fprintf(w, "%s at %s, %s: %s, revision %d\n", g.App, g.Service, g.Environment, g.State, g.Revision)
	if g.Problem != "" {
		fmt.Fprintf(w, "  %s\n  next: %s\n", g.Problem, g.Remedy)
	}
	rows := [][]string{}
	if len(g.Features) > 0 {
		rows = append(rows, []string{"  features", strings.Join(g.Features, ", ")})
	}
	value := func(v shape.IssuedValue) string {
		if v.Exposure == "server" {
			return "kept on the server, must not ship"
		}
		return ident.Mask(v.Value) + "  may ship in the app"
	}
	for _, v := range g.Values {
		rows = append(rows, []string{"  " + v.Title, value(v)})
	}
	table(w, rows)
	for _, i := range g.Identities {
		fmt.Fprintf(w, "  %s %s\n", i.Platform, i.Identifier)
		rows := [][]string{}
		for _, v := range i.Values {
			rows = append(rows, []string{"    " + v.Title, value(v)})
		}
		if i.File != "" {
			rows = append(rows, []string{"    config file", i.File})
		}
		for _, d := range i.Digests {
			rows = append(rows, []string{"    digest", d})
		}
		table(w, rows)
	}
}
