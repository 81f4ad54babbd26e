package main

import (
	"context"
	"fmt"
	"io"
	"strings"

	"github.com/urfave/cli/v3"

	"ligare/client"
	"ligare/client/shape"
	"ligare/job"
)

// ofApp finds the identity of an app that is meant; the platform need not be named where only one has the identifier.
func ofApp(ctx context.Context, c *cli.Command, s *client.Client) (app, platform, identifier string, err error) {
	app, identifier, err = two(c, "NAME", "ID")
	if err != nil {
		return "", "", "", err
	}
	a, err := s.App(ctx, app)
	if err != nil {
		return "", "", "", err
	}
	var fit, all []string
	for _, i := range a.Identities {
		all = append(all, i.Identifier)
		if i.Identifier == identifier && (c.String("platform") == "" || i.Platform == c.String("platform")) {
			fit = append(fit, i.Platform)
		}
	}
	switch len(fit) {
	case 1:
		return app, fit[0], identifier, nil
	case 0:
		return "", "", "", &job.Problem{What: fmt.Sprintf("%s is not an identity of %s", identifier, app), Hint: "It has: " + strings.Join(all, ", ") + "."}
	}
	return "", "", "", &job.Problem{What: identifier + " is an identity on " + strings.Join(fit, " and "), Hint: "Say which with --platform."}
}

func appPublish() *cli.Command {
	return command(&cli.Command{
		Name: "publish", Usage: "mark an identity as published: its identifier is frozen from then on", ArgsUsage: "NAME ID",
		Flags: []cli.Flag{&cli.StringFlag{Name: "platform", Usage: "android or ios, where both have the identifier"}, &cli.StringFlag{Name: "store-id", Usage: "its number or name in the store"}, &cli.BoolFlag{Name: "yes", Usage: "do not ask"}},
		Action: func(ctx context.Context, c *cli.Command) error {
			s, err := server(c, nil)
			if err != nil {
				return err
			}
			app, platform, identifier, err := ofApp(ctx, c, s)
			if err != nil {
				return err
			}
			if ok, err := confirm(c, fmt.Sprintf("Mark %s (%s) as published? It cannot be taken back.", identifier, platform)); err != nil || !ok {
				return err
			}
			a, err := s.Publish(ctx, app, shape.Published{Platform: platform, Identifier: identifier, StoreID: c.String("store-id")})
			if err != nil {
				return err
			}
			return output(c, a, func(out io.Writer) { showApp(out, *a) })
		},
	})
}

func appDrop() *cli.Command {
	return command(&cli.Command{
		Name: "drop", Usage: "take an identity out of an app; one that is published or registered stays", ArgsUsage: "NAME ID",
		Flags: []cli.Flag{&cli.StringFlag{Name: "platform", Usage: "android or ios, where both have the identifier"}},
		Action: func(ctx context.Context, c *cli.Command) error {
			s, err := server(c, nil)
			if err != nil {
				return err
			}
			app, platform, identifier, err := ofApp(ctx, c, s)
			if err != nil {
				return err
			}
			if err := s.DropIdentity(ctx, app, platform, identifier); err != nil {
				return err
			}
			return output(c, map[string]string{"dropped": identifier}, func(out io.Writer) { fmt.Fprintf(out, "%s is no longer an identity of %s.\n", identifier, app) })
		},
	})
}
