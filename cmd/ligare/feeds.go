package main

import (
	"context"
	"fmt"
	"io"
	"strings"

	"github.com/urfave/cli/v3"

	"ligare/client/shape"
	"ligare/job"
)

func feedsCommand() *cli.Command {
	return command(&cli.Command{
		Name: "feeds", Usage: "what flows from one registration into another, and what is still open",
		Flags:    []cli.Flag{&cli.StringFlag{Name: "app", Usage: "app in the records, where there is no tree"}},
		Commands: []*cli.Command{feedsCarry()},
		Action: func(ctx context.Context, c *cli.Command) error {
			_, s, app, err := about(c)
			if err != nil {
				return err
			}
			list, err := s.Connections(ctx, app)
			if err != nil {
				return err
			}
			return output(c, list, func(out io.Writer) { showFeeds(out, list) })
		},
	})
}

func showFeeds(out io.Writer, list []shape.Connection) {
	if len(list) == 0 {
		fmt.Fprintln(out, "Nothing flows between this app's registrations.")
		return
	}
	rows := [][]string{{"TO", "TAKES", "FROM", "STATE"}}
	next := []string{}
	for _, x := range list {
		from := ""
		if x.From != "" {
			from = strings.TrimSuffix(x.From+"/"+x.FromWhere, "/") + " " + x.Value
		}
		state := x.State
		if !x.Needed && x.State != "saved" {
			state += " (not needed now)"
		} else if x.Remedy != "" {
			next = append(next, x.Service+", "+x.Slot+": "+x.Say+". "+x.Remedy)
		}
		rows = append(rows, []string{strings.TrimSuffix(x.Service+"/"+x.Environment, "/"), x.Slot, from, state})
	}
	table(out, rows)
	for _, n := range next {
		fmt.Fprintln(out, "  next:", n)
	}
}

func feedsCarry() *cli.Command {
	return command(&cli.Command{
		Name: "carry", Usage: "carry supplied values to where they belong, and verify that they are there", ArgsUsage: "SERVICE [SLOT]",
		Description: "The server carries them; a server value does not pass through here.",
		Flags:       whichFlags(&cli.StringFlag{Name: "from", Usage: "SERVICE/ENVIRONMENT that supplies, where several could"}),
		Action: func(ctx context.Context, c *cli.Command) error {
			if n := c.Args().Len(); n < 1 || n > 2 {
				return &job.Problem{What: c.FullName() + " takes a SERVICE, and perhaps a SLOT", Hint: "`ligare feeds` lists the slots."}
			}
			_, s, app, err := about(c)
			if err != nil {
				return err
			}
			g, err := which(ctx, c, s, app, c.Args().Get(0))
			if err != nil {
				return err
			}
			slots := []string{c.Args().Get(1)}
			if slots[0] == "" {
				list, err := s.Connections(ctx, app)
				if err != nil {
					return err
				}
				slots = nil
				for _, x := range list {
					if x.Registration == g.ID && (x.State == "open" || x.State == "old" || x.State == "several suppliers" && c.String("from") != "") {
						slots = append(slots, x.Slot)
					}
				}
				if len(slots) == 0 {
					return output(c, []string{}, func(out io.Writer) { fmt.Fprintln(out, "Nothing is open that could be carried.") })
				}
			}
			for _, slot := range slots {
				if g, err = s.Carry(ctx, g.ID, shape.Carry{Slot: slot, From: c.String("from")}); err != nil {
					return err
				}
				if !jsonWanted(c) {
					for _, n := range g.Notes {
						fmt.Fprintln(screen, n+".")
					}
				}
			}
			if jsonWanted(c) {
				return output(c, g, nil)
			}
			return nil
		},
	})
}
