package main

import (
	"context"
	"fmt"
	"io"

	"github.com/urfave/cli/v3"

	"ligare/core/ident"
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
			&cli.StringSliceFlag{Name: "only", Usage: "only these placements, by their names in the sheet or in the library"},
			&cli.StringSliceFlag{Name: "except", Usage: "not these placements"},
			&cli.BoolFlag{Name: "agree-sheet", Usage: "agree to a sheet that changed"},
			&cli.BoolFlag{Name: "guide", Usage: "print the same as steps, and write nothing"}),
		Action: func(ctx context.Context, c *cli.Command) error { return placing(ctx, c, (*job.Work).Place) },
	})
}

func refreshCommand() *cli.Command {
	return command(&cli.Command{
		Name: "refresh", Usage: "fetch a service's registrations again and exchange what it issued anew, wherever it stands as it was placed", ArgsUsage: "SERVICE",
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
	p, err := plan(w, ctx, s, job.PlaceOptions{Service: name, Environment: c.String("environment"), Replace: c.Bool("replace"), Agree: c.Bool("agree-sheet"),
		Only: c.StringSlice("only"), Except: c.StringSlice("except")})
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
		if err := output(c, map[string]any{"changes": p.Changes, "steps": p.Steps, "kept": p.Kept, "next": p.Next, "still": p.Still, "written": written}, nil); err != nil {
			return err
		}
	} else {
		afterPlacing(screen, p, written)
	}
	if len(p.Kept) > 0 || len(p.Still) > 0 {
		return errFound
	}
	return nil
}

func orNothing(s string) string {
	if s == "" {
		return "not there"
	}
	return s
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
		where := a.Here.String()
		if where == "" {
			where = a.Site()
		}
		fmt.Fprintf(w, "left alone  %s  %s: %s: %s\n", where, a.Title, a.State, a.Detail)
		if a.Expected != "" || a.Actual != "" {
			fmt.Fprintf(w, "            should be %s (%s), is %s\n", a.Expected, a.Source(), orNothing(a.Actual))
		}
	}
	if len(p.Kept) > 0 {
		fmt.Fprintln(w, "  next: look at each; --replace exchanges values that conflict.")
	}
	for _, s := range p.Still {
		fmt.Fprintf(w, "still there %s  a value that was exchanged elsewhere: %s\n", s.Place, ident.Mask(s.Value))
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

func adoptCommand() *cli.Command {
	return command(&cli.Command{
		Name: "adopt", Usage: "take in what already stands in a tree that was wired before; changes no file of the app", ArgsUsage: "SERVICE",
		Flags: append(writeFlags(), environmentFlag(), &cli.BoolFlag{Name: "agree-sheet", Usage: "agree to a sheet that changed"}),
		Action: func(ctx context.Context, c *cli.Command) error {
			name, err := argument(c, "SERVICE")
			if err != nil {
				return err
			}
			w, s, err := both(c)
			if err != nil {
				return err
			}
			a, err := w.Adopt(ctx, s, job.PlaceOptions{Service: name, Environment: c.String("environment"), Agree: c.Bool("agree-sheet")})
			if err != nil {
				return err
			}
			if !jsonWanted(c) {
				for _, x := range a.Found {
					fmt.Fprintf(screen, "found       %s  %s: %s\n", x.Here, x.Title, x.State)
				}
				for _, x := range a.Open {
					fmt.Fprintf(screen, "not so      %s  %s: %s: %s\n", x.Here, x.Title, x.State, x.Detail)
				}
			}
			written, err := finish(c, w, a.Changes, fmt.Sprintf("Write %s?", count(len(a.Changes), "record")))
			if err != nil {
				return err
			}
			if jsonWanted(c) {
				return output(c, map[string]any{"changes": a.Changes, "found": a.Found, "open": a.Open, "written": written}, nil)
			}
			switch {
			case len(a.Found) == 0:
				fmt.Fprintf(screen, "Nothing of %s stands in this tree.\n  next: ligare place %s\n", name, name)
			case written:
				fmt.Fprintf(screen, "Took in %s. No file of the app was changed.\n", count(len(a.Found), "placement"))
			default:
				fmt.Fprintln(screen, "Nothing was written.")
			}
			if len(a.Open) == 0 {
				return nil
			}
			if len(a.Found) > 0 {
				fmt.Fprintf(screen, "  next: ligare place %s shows what would make the rest right\n", name)
			}
			return errFound
		},
	})
}

func renameCommand() *cli.Command {
	return command(&cli.Command{
		Name: "rename-id", Usage: "change an application ID or bundle ID everywhere it stands, as long as it is not published", ArgsUsage: "OLD NEW",
		Flags: append(writeFlags(), &cli.StringFlag{Name: "platform", Usage: "android or ios, where both have the identifier"}),
		Action: func(ctx context.Context, c *cli.Command) error {
			old, to, err := two(c, "OLD", "NEW")
			if err != nil {
				return err
			}
			w, s, err := both(c)
			if err != nil {
				return err
			}
			r, err := w.Rename(ctx, s, old, to, c.String("platform"))
			if err != nil {
				return err
			}
			written, err := finish(c, w, r.Changes, fmt.Sprintf("Write %s?", count(len(r.Changes), "file")))
			if err != nil {
				return err
			}
			if written {
				if err := w.Follow(ctx, s); err != nil {
					return err
				}
			}
			if jsonWanted(c) {
				return output(c, map[string]any{"platform": r.Platform, "changes": r.Changes, "files": r.Files, "moved": r.Moved, "derived": r.Derived, "left": r.Left, "next": r.Next, "written": written}, nil)
			}
			for _, p := range r.Derived {
				fmt.Fprintf(screen, "%s: %s is now %s\n", r.Platform, p.Old, p.New)
			}
			if !written {
				fmt.Fprintln(screen, "Nothing was written.")
			}
			for _, l := range r.Left {
				fmt.Fprintf(screen, "look at     %s  it stands outside the %s project\n", l, r.Platform)
			}
			for _, n := range r.Next {
				fmt.Fprintln(screen, "  next:", n)
			}
			return nil
		},
	})
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
					fmt.Fprintf(screen, "Took %s's placements out of %s.\n", name, count(len(t.Changes), "file"))
				} else {
					fmt.Fprintln(screen, "Nothing was written.")
				}
				for _, l := range t.Left {
					fmt.Fprintf(screen, "left alone  %s  %s: %s\n", l.Place, l.What, l.Reason)
				}
				if len(t.Left) > 0 {
					fmt.Fprintln(screen, "  next: --force takes these out too.")
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
