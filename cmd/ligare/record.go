package main

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"github.com/urfave/cli/v3"

	"ligare/client"
	"ligare/client/shape"
	"ligare/job"
)

func recordCommand() *cli.Command {
	return command(&cli.Command{
		Name: "record", Usage: "enter values and files that a service issued elsewhere", ArgsUsage: "SERVICE",
		Description: "What comes along when a value is copied (blanks, quotes, invisible characters) is taken off and said. Each value is\nheld against the sheet's pattern, so that key and secret are not exchanged; identifiers, keys and revision are read out\nof a file by the sheet's pointers.",
		Flags: whichFlags(
			&cli.StringSliceFlag{Name: "value", Usage: "NAME=VALUE, or NAME to read it from standard input or be asked"},
			&cli.StringSliceFlag{Name: "file", Usage: "config or licence file as it was downloaded"},
			&cli.StringFlag{Name: "for", Usage: "application ID or bundle ID that the values are for"},
			&cli.BoolFlag{Name: "anyway", Usage: "keep a value that has not the sheet's form"}),
		Action: onRegistration(func(ctx context.Context, c *cli.Command, s *client.Client, g *shape.Registration) error {
			in := shape.Recorded{Values: []shape.RecordedValue{}, Files: []shape.RecordedFile{}, Force: c.Bool("anyway")}
			for _, v := range c.StringSlice("value") {
				k, text, given := strings.Cut(v, "=")
				if !given {
					if asking() {
						fmt.Fprintf(os.Stderr, "%s: ", k)
					}
					b, err := readInput("-")
					if err != nil {
						return err
					}
					text = string(b)
				}
				in.Values = append(in.Values, shape.RecordedValue{Name: k, Identifier: c.String("for"), Value: text})
			}
			for _, f := range c.StringSlice("file") {
				b, err := readInput(f)
				if err != nil {
					return err
				}
				in.Files = append(in.Files, shape.RecordedFile{Name: filepath.Base(f), Content: b})
			}
			g, err := s.Record(ctx, g.ID, in)
			return showing(c, g, err)
		}),
	})
}

func serverSecretsCommand() *cli.Command {
	return command(&cli.Command{
		Name: "server-secrets", Usage: "server values for a backend's environment", ArgsUsage: "SERVICE",
		Description: "Prints NAME=VALUE lines, or sets them in a file that only you may read (--to). Needs the role owner and a reason;\neach reading is audited. Nothing is ever written into a tree: server values must not ship in an app.",
		Flags: whichFlags(
			&cli.StringFlag{Name: "reason", Usage: "what for, in a few words", Required: true},
			&cli.StringSliceFlag{Name: "only", Usage: "value to give out; all, if none is named"},
			&cli.StringFlag{Name: "to", Usage: "file outside any tree to set them in"}),
		Action: onRegistration(func(ctx context.Context, c *cli.Command, s *client.Client, g *shape.Registration) error {
			to := c.String("to")
			if to != "" {
				if err := job.OutsideTrees(to); err != nil {
					return err
				}
			}
			list, err := s.ServerSecrets(ctx, g.ID, shape.Reason{Reason: c.String("reason"), Names: c.StringSlice("only")})
			if err != nil {
				return err
			}
			if to == "" {
				return output(c, list, func(out io.Writer) {
					for _, x := range list {
						fmt.Fprintln(out, job.SecretLine(x))
					}
				})
			}
			return setSecrets(c, to, list)
		}),
	})
}

func setSecrets(c *cli.Command, to string, list []shape.ServerSecret) error {
	names, err := job.SetSecrets(to, list)
	if err != nil {
		return err
	}
	return output(c, map[string]any{"file": to, "set": names}, func(out io.Writer) {
		fmt.Fprintf(out, "%s: %s set; only you may read it.\n", to, strings.Join(names, ", "))
	})
}
