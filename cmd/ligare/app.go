package main

import (
	"context"
	"fmt"
	"io"
	"strings"

	"github.com/urfave/cli/v3"

	"ligare/client/shape"
	"ligare/core/binding"
	"ligare/job"
)

func appCommand() *cli.Command {
	return command(&cli.Command{
		Name: "app", Usage: "the apps in the records, and which of them a tree builds",
		Commands: []*cli.Command{appAttach(), appList(), appShow()},
	})
}

func appAttach() *cli.Command {
	return command(&cli.Command{
		Name: "attach", Usage: "say which app this tree builds; records its identities and environments", ArgsUsage: "NAME",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "title", Usage: "the app's name as users know it"},
			&cli.StringFlag{Name: "config-files", Usage: "what happens to config files: " + binding.Committed + " or " + binding.Fetched},
			&cli.BoolFlag{Name: "remember-server", Usage: "write the server's address into " + binding.File + ", for a team"},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			name, err := argument(c, "NAME")
			if err != nil {
				return err
			}
			w, s, err := both(c)
			if err != nil {
				return err
			}
			got, err := w.Attach(ctx, s, name, c.String("title"), c.String("config-files"), c.Bool("remember-server"))
			if err != nil {
				return err
			}
			return output(c, got, func(out io.Writer) {
				showApp(out, *got.App)
				if got.Written {
					fmt.Fprintf(out, "\n%s was written. Look at it: it says which identity and environment each variant is. Commit it.\n", got.File)
				}
			})
		},
	})
}

func appList() *cli.Command {
	return command(&cli.Command{
		Name: "list", Usage: "list the apps",
		Action: func(ctx context.Context, c *cli.Command) error {
			s, err := server(c, nil)
			if err != nil {
				return err
			}
			apps, err := s.Apps(ctx)
			if err != nil {
				return err
			}
			return output(c, apps, func(out io.Writer) {
				rows := [][]string{{"NAME", "TITLE", "IDENTITIES", "ENVIRONMENTS"}}
				for _, a := range apps {
					rows = append(rows, []string{a.Name, a.Title, fmt.Sprint(len(a.Identities)), strings.Join(a.Environments, ", ")})
				}
				table(out, rows)
			})
		},
	})
}

func appShow() *cli.Command {
	return command(&cli.Command{
		Name: "show", Usage: "show one app", ArgsUsage: "NAME",
		Action: func(ctx context.Context, c *cli.Command) error {
			name, err := argument(c, "NAME")
			if err != nil {
				return err
			}
			s, err := server(c, nil)
			if err != nil {
				return err
			}
			a, err := s.App(ctx, name)
			if err != nil {
				return err
			}
			return output(c, a, func(out io.Writer) { showApp(out, *a) })
		},
	})
}

func showApp(w io.Writer, a shape.App) {
	fmt.Fprintf(w, "%s (%s)\n", a.Title, a.Name)
	rows := [][]string{}
	for _, i := range a.Identities {
		rows = append(rows, []string{"  " + i.Platform, i.Identifier, i.DisplayName})
	}
	table(w, rows)
	fmt.Fprintf(w, "  environments  %s\n", strings.Join(a.Environments, ", "))
}

func signerCommand() *cli.Command {
	return command(&cli.Command{
		Name: "signer", Usage: "the certificates that sign builds",
		Commands: []*cli.Command{command(&cli.Command{
			Name: "add", Usage: "add a signer's certificate to the records (never its key)", ArgsUsage: "FILE",
			Flags: append(passwordFlags(),
				&cli.StringFlag{Name: "name", Usage: "what to call it", Required: true},
				&cli.StringFlag{Name: "role", Value: "debug", Usage: "debug, upload, release or store"},
				&cli.StringFlag{Name: "owner", Usage: "whose it is"},
				&cli.StringFlag{Name: "machine", Usage: "on which machine it is"},
				&cli.StringFlag{Name: "alias", Usage: "which one, if the file holds several"}),
			Action: func(ctx context.Context, c *cli.Command) error {
				file, err := argument(c, "FILE")
				if err != nil {
					return err
				}
				list, err := job.ReadCertificates(file, password(c))
				if err != nil {
					return err
				}
				s, err := server(c, nil)
				if err != nil {
					return err
				}
				for _, x := range list.List {
					if a := c.String("alias"); a != "" && !strings.EqualFold(a, x.Alias) {
						continue
					}
					got, err := s.SaveSigner(ctx, shape.NewSigner{Name: c.String("name"), Role: c.String("role"), Owner: c.String("owner"), Machine: c.String("machine"), Certificate: x.DER})
					if err != nil {
						return err
					}
					return output(c, got, func(out io.Writer) { fmt.Fprintf(out, "%s (%s): %s\n", got.Name, got.Role, x.Digests.SHA256Colons) })
				}
				return &job.Problem{What: fmt.Sprintf("%s has no alias %q", file, c.String("alias")), Hint: "`ligare digest " + file + "` lists them."}
			},
		})},
	})
}
