package main

import (
	"context"
	"fmt"
	"io"
	"os"

	"github.com/urfave/cli/v3"

	"ligare/job"
)

func environmentFlag() cli.Flag {
	return &cli.StringFlag{Name: "environment", Aliases: []string{"e"}, Usage: "only this environment"}
}

func placeCommand() *cli.Command {
	return command(&cli.Command{
		Name: "place", Usage: "put into the tree what a service's registrations need; shows the diff first", ArgsUsage: "SERVICE",
		Flags: append(writeFlags(), environmentFlag(),
			&cli.BoolFlag{Name: "replace", Usage: "exchange values that conflict"},
			&cli.BoolFlag{Name: "agree-sheet", Usage: "agree to a sheet that changed"},
			&cli.BoolFlag{Name: "guide", Usage: "print the same as steps, and write nothing"}),
		Action: func(ctx context.Context, c *cli.Command) error { return placing(ctx, c, (*job.Work).Place) },
	})
}

func refreshCommand() *cli.Command {
	return command(&cli.Command{
		Name: "refresh", Usage: "fetch a service's registrations again and bring the tree's config files up to date", ArgsUsage: "SERVICE",
		Flags:  append(writeFlags(), environmentFlag(), &cli.BoolFlag{Name: "agree-sheet", Usage: "agree to a sheet that changed"}),
		Action: func(ctx context.Context, c *cli.Command) error { return placing(ctx, c, (*job.Work).Refresh) },
	})
}

func placing(ctx context.Context, c *cli.Command, plan func(*job.Work, context.Context, clientType, job.PlaceOptions) (*job.Planned, error)) error {
	name, err := argument(c, "SERVICE")
	if err != nil {
		return err
	}
	w, s, err := both(c)
	if err != nil {
		return err
	}
	p, err := plan(w, ctx, s, job.PlaceOptions{Service: name, Environment: c.String("environment"), Replace: c.Bool("replace"), Agree: c.Bool("agree-sheet")})
	if err != nil {
		return err
	}
	if c.Bool("guide") {
		return output(c, p.Steps, func(out io.Writer) { fmt.Fprint(out, job.Guide(p)) })
	}
	written, err := finish(c, w, p.Changes, fmt.Sprintf("Write %s?", count(len(p.Changes), "file")))
	if err != nil {
		return err
	}
	if jsonWanted(c) {
		if err := output(c, map[string]any{"changes": p.Changes, "steps": p.Steps, "kept": p.Kept, "next": p.Next, "written": written}, nil); err != nil {
			return err
		}
	} else {
		afterPlacing(os.Stdout, p, written)
	}
	if len(p.Kept) > 0 {
		return errFound
	}
	return nil
}

func afterPlacing(w io.Writer, p *job.Planned, written bool) {
	switch {
	case len(p.Changes) == 0:
		fmt.Fprintln(w, "Everything is in place already; nothing to write.")
	case written:
		fmt.Fprintf(w, "Wrote %s.\n", count(len(p.Changes), "file"))
	default:
		fmt.Fprintln(w, "Nothing was written.")
	}
	for _, a := range p.Kept {
		fmt.Fprintf(w, "left alone  %s  %s: %s: %s\n", a.Here, a.Title, a.State, a.Detail)
		if a.Expected != "" || a.Actual != "" {
			fmt.Fprintf(w, "            should be %s, is %s\n", a.Expected, a.Actual)
		}
	}
	if len(p.Kept) > 0 {
		fmt.Fprintln(w, "  next: look at each; --replace exchanges values that conflict.")
	}
	for _, n := range p.Next {
		fmt.Fprintln(w, "  next:", n)
	}
}

func count(n int, word string) string {
	if n == 1 {
		return "1 " + word
	}
	return fmt.Sprintf("%d %ss", n, word)
}

func unplaceCommand() *cli.Command {
	return command(&cli.Command{
		Name: "unplace", Usage: "take out what was placed for a service; needs no server", ArgsUsage: "SERVICE",
		Flags: append(writeFlags(), environmentFlag(), &cli.BoolFlag{Name: "force", Usage: "also take out what was changed since it was placed"}),
		Action: func(_ context.Context, c *cli.Command) error {
			name, err := argument(c, "SERVICE")
			if err != nil {
				return err
			}
			w, err := open(c)
			if err != nil {
				return err
			}
			t, err := w.Unplace(name, c.String("environment"), c.Bool("force"))
			if err != nil {
				return err
			}
			written, err := finish(c, w, t.Changes, fmt.Sprintf("Write %s?", count(len(t.Changes), "file")))
			if err != nil {
				return err
			}
			if jsonWanted(c) {
				err = output(c, map[string]any{"changes": t.Changes, "left": t.Left, "written": written}, nil)
			} else {
				if written {
					fmt.Printf("Took %s's placements out of %s.\n", name, count(len(t.Changes), "file"))
				} else {
					fmt.Println("Nothing was written.")
				}
				for _, l := range t.Left {
					fmt.Printf("left alone  %s  %s: %s\n", l.Place, l.What, l.Reason)
				}
				if len(t.Left) > 0 {
					fmt.Println("  next: --force takes these out too.")
				}
			}
			if err == nil && len(t.Left) > 0 {
				return errFound
			}
			return err
		},
	})
}

func fetchCommand() *cli.Command {
	return command(&cli.Command{
		Name: "fetch", Usage: "write only the config files into their places, for build servers", ArgsUsage: "[SERVICE]",
		Flags: append(writeFlags(), environmentFlag()),
		Action: func(ctx context.Context, c *cli.Command) error {
			w, s, err := both(c)
			if err != nil {
				return err
			}
			p, err := w.Fetch(ctx, s, c.Args().First(), c.String("environment"))
			if err != nil {
				return err
			}
			if !c.Bool("dry-run") {
				if err := w.Write(); err != nil {
					return err
				}
			}
			return output(c, p.Changes, func(out io.Writer) {
				for _, x := range p.Changes {
					fmt.Fprintln(out, x.File)
				}
				if len(p.Changes) == 0 {
					fmt.Fprintln(out, "Every config file is up to date.")
				}
			})
		},
	})
}
