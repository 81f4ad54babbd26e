package main

import (
	"context"
	"fmt"
	"io"
	"time"

	"github.com/urfave/cli/v3"

	"ligare/client"
	"ligare/client/shape"
	"ligare/job"
)

func keyCommand() *cli.Command {
	return command(&cli.Command{
		Name: "key", Usage: "exchange, revoke and delete keys that a service issued",
		Commands: []*cli.Command{keyList(), keyExchange(), keyTest(), keyEnd("revoke", "end a key now; builds that hold it stop working", (*client.Client).RevokeKey), keyEnd("delete", "forget a key, at the service and here", (*client.Client).DeleteKey)},
	})
}

// two gives the two arguments of a command.
func two(c *cli.Command, first, second string) (string, string, error) {
	if c.Args().Len() != 2 {
		return "", "", &job.Problem{What: fmt.Sprintf("%s takes a %s and a %s", c.FullName(), first, second), Hint: "`" + c.FullName() + " --help` shows how it is used."}
	}
	return c.Args().Get(0), c.Args().Get(1), nil
}

func keyList() *cli.Command {
	return command(&cli.Command{
		Name: "list", Usage: "list the keys of a registration", ArgsUsage: "SERVICE", Flags: whichFlags(),
		Action: onRegistration(func(ctx context.Context, c *cli.Command, s *client.Client, g *shape.Registration) error {
			return output(c, g.Keys, func(out io.Writer) {
				rows := [][]string{{"KEY", "OF", "ISSUED", "STANDS"}}
				for _, k := range g.Keys {
					rows = append(rows, []string{k.ID, k.Name, k.Issued.Format(time.DateOnly), keyState(k)})
				}
				table(out, rows)
			})
		}),
	})
}

func keyState(k shape.Key) string {
	label := ""
	if k.Label != "" {
		label = k.Label + ", "
	}
	switch {
	case k.Revoked != nil:
		return label + "revoked " + k.Revoked.Format(time.DateOnly)
	case k.Ends != nil && k.Ends.Before(time.Now()):
		return label + "ended " + k.Ends.Format(time.DateOnly)
	case k.Ends != nil:
		return label + "ends " + k.Ends.Format(time.DateOnly)
	case k.Current:
		return label + "in use"
	case k.Label != "":
		return label + "valid"
	}
	return "exchanged, valid until it is revoked"
}

func keyExchange() *cli.Command {
	return command(&cli.Command{
		Name: "exchange", Usage: "get a new key in place of the one in use", ArgsUsage: "SERVICE NAME",
		Description: "The key in use stays valid until it is revoked, so that builds in people's hands go on working.",
		Flags:       whichFlags(),
		Action: onPart("NAME", func(ctx context.Context, c *cli.Command, s *client.Client, g *shape.Registration, name string) error {
			return newKey(ctx, c, s, g, shape.NewKey{Name: name})
		}),
	})
}

func keyTest() *cli.Command {
	return command(&cli.Command{
		Name: "test", Usage: "make a key for a test beside the one in use, with an end date", ArgsUsage: "SERVICE NAME",
		Flags: whichFlags(&cli.StringFlag{Name: "label", Usage: "what it is for", Required: true}, &cli.StringFlag{Name: "ends", Usage: "last day, as 2027-01-31; 14 days from now, if not said"}),
		Action: onPart("NAME", func(ctx context.Context, c *cli.Command, s *client.Client, g *shape.Registration, name string) error {
			ends := time.Now().AddDate(0, 0, 14)
			if d := c.String("ends"); d != "" {
				t, err := time.ParseInLocation(time.DateOnly, d, time.Local)
				if err != nil {
					return &job.Problem{What: fmt.Sprintf("--ends %s: a day is written as 2027-01-31", d)}
				}
				ends = t.Add(24*time.Hour - time.Second)
			}
			return newKey(ctx, c, s, g, shape.NewKey{Name: name, Label: c.String("label"), Ends: &ends})
		}),
	})
}

func newKey(ctx context.Context, c *cli.Command, s *client.Client, g *shape.Registration, k shape.NewKey) error {
	if p := c.String("platform"); p != "" {
		k.Platform, k.Identifier = p, c.String("identity")
	}
	g, err := s.NewKey(ctx, g.ID, k)
	return showing(c, g, err)
}

func keyEnd(verb, usage string, do func(*client.Client, context.Context, string, string) (*shape.Registration, error)) *cli.Command {
	return command(&cli.Command{
		Name: verb, Usage: usage, ArgsUsage: "SERVICE KEY", Flags: whichFlags(&cli.BoolFlag{Name: "yes", Usage: "do not ask"}),
		Action: onPart("KEY", func(ctx context.Context, c *cli.Command, s *client.Client, g *shape.Registration, key string) error {
			if ok, err := confirm(c, fmt.Sprintf("%s the key %s of %s at %s?", verb, key, g.App, g.Title)); err != nil || !ok {
				return err
			}
			g, err := do(s, ctx, g.ID, key)
			return showing(c, g, err)
		}),
	})
}
