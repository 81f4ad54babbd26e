package main

import (
	"context"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"ligare/client/shape"
	"ligare/core/binding"
)

func appCommand() *cli.Command {
	return command(&cli.Command{
		Name: "app", Usage: "the apps in the records, and which of them a tree builds",
		Commands: []*cli.Command{appAttach(), appList(), appShow(), appPublish(), appDrop()},
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
		frozen := ""
		if i.Published != nil {
			frozen = strings.TrimSpace("published " + i.Published.Format(time.DateOnly) + ", frozen  " + i.StoreID)
		}
		rows = append(rows, []string{"  " + i.Platform, i.Identifier, i.DisplayName, frozen})
	}
	table(w, rows)
	fmt.Fprintf(w, "  environments  %s\n", strings.Join(a.Environments, ", "))
}
