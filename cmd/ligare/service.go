package main

import (
	"context"
	"fmt"
	"io"
	"os"

	"github.com/urfave/cli/v3"

	"ligare/client/shape"
	"ligare/core/sheet"
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
					switch {
					case x.Protocol == sheet.ByHand:
						account = "registered with by hand"
					case x.Connected:
						account = x.Address
					}
					title := x.Title
					if x.Own {
						title += " (own sheet)"
					}
					rows = append(rows, []string{x.Service, title, x.Kind, account})
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
