package main

import (
	"context"
	"fmt"
	"io"
	"time"

	"github.com/urfave/cli/v3"

	"ligare/client"
	"ligare/client/shape"
)

func dutyCommand() *cli.Command {
	return command(&cli.Command{
		Name: "duty", Usage: "what only a person can do or confirm",
		Flags: []cli.Flag{&cli.StringFlag{Name: "app", Usage: "app in the records, where there is no tree"}, &cli.BoolFlag{Name: "open", Usage: "only those that are not confirmed"}},
		Commands: []*cli.Command{command(&cli.Command{
			Name: "confirm", Usage: "confirm a duty, with your name and the time", ArgsUsage: "SERVICE DUTY",
			Flags: whichFlags(&cli.StringFlag{Name: "note", Usage: "what was done, in a few words"}, &cli.BoolFlag{Name: "undo", Usage: "take the confirmation back"}),
			Action: onPart("DUTY", func(ctx context.Context, c *cli.Command, s *client.Client, g *shape.Registration, duty string) error {
				g, err := s.SetDuty(ctx, g.ID, duty, shape.DutyDone{Done: !c.Bool("undo"), Note: c.String("note")})
				if err != nil {
					return err
				}
				return output(c, g.Duties, func(out io.Writer) { showDuties(out, g.Duties) })
			}),
		})},
		Action: func(ctx context.Context, c *cli.Command) error {
			_, s, app, err := about(c)
			if err != nil {
				return err
			}
			all, err := s.Duties(ctx, app)
			if err != nil {
				return err
			}
			list := []shape.Duty{}
			for _, d := range all {
				if d.Done == nil || !c.Bool("open") {
					list = append(list, d)
				}
			}
			return output(c, list, func(out io.Writer) { showDuties(out, list) })
		},
	})
}

func showDuties(out io.Writer, list []shape.Duty) {
	if len(list) == 0 {
		fmt.Fprintln(out, "None.")
		return
	}
	rows := [][]string{{"SERVICE", "DUTY", "BEFORE", "CONFIRMED", ""}}
	for _, d := range list {
		service, done := d.Service, "-"
		if d.Environment != "" {
			service += "/" + d.Environment
		}
		if d.Identity != "" {
			service += ", " + d.Identity
		}
		if d.Done != nil {
			done = d.By + ", " + d.Done.Format(time.DateOnly)
			if d.Note != "" {
				done += ": " + d.Note
			}
		}
		rows = append(rows, []string{service, d.ID, d.Before, done, d.Title})
	}
	table(out, rows)
}
