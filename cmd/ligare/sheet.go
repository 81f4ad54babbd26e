package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"github.com/aymanbagabas/go-udiff"
	"github.com/urfave/cli/v3"

	"ligare/core/sheet"
	"ligare/job"
)

func sheetCommand() *cli.Command {
	return command(&cli.Command{
		Name: "sheet", Usage: "write, check and agree to the sheets that describe services",
		Commands: []*cli.Command{sheetCheck(), sheetDraft(), sheetAdd(), sheetDrop(), sheetAgree()},
	})
}

func sheetCheck() *cli.Command {
	return command(&cli.Command{
		Name: "check", Usage: "say what is wrong with a sheet, with line and column; needs no server", ArgsUsage: "FILE",
		Action: func(_ context.Context, c *cli.Command) error {
			name, err := argument(c, "FILE")
			if err != nil {
				return err
			}
			src, err := readInput(name)
			if err != nil {
				return err
			}
			s, err := job.CheckSheet(name, src)
			problems := sheet.Problems(err)
			if err != nil && len(problems) == 0 {
				return err
			}
			if problems == nil {
				problems = []*sheet.Problem{}
			}
			if err := output(c, problems, func(out io.Writer) {
				for _, p := range problems {
					fmt.Fprintln(out, p)
				}
				if len(problems) == 0 {
					fmt.Fprintf(out, "%s: the sheet of %s is right: %d asks, %d values, %d files, %d placements\n", name, s.Title, len(s.Asks), len(s.Issues.Values), len(s.Issues.Files), len(s.Placements))
				}
			}); err != nil || len(problems) == 0 {
				return err
			}
			return errFound
		},
	})
}

func sheetDraft() *cli.Command {
	return command(&cli.Command{
		Name: "draft", Usage: "begin a sheet from a config file, or from a commit that once wired the service", ArgsUsage: "TITLE",
		Description: "The draft is a valid sheet for registering by hand; read it and complete what is marked. It needs no server.",
		Flags: []cli.Flag{&cli.StringFlag{Name: "file", Usage: "config file that the service issued"}, &cli.StringFlag{Name: "commit", Usage: "commit that wired the service"},
			&cli.StringFlag{Name: "to", Usage: "new file to write; standard output, if not said"}},
		Action: func(ctx context.Context, c *cli.Command) error {
			title, err := argument(c, "TITLE")
			if err != nil {
				return err
			}
			var text []byte
			switch file, commit := c.String("file"), c.String("commit"); {
			case (file == "") == (commit == ""):
				return &job.Problem{What: "a sheet is drafted from a file or from a commit", Hint: "Give one of --file and --commit."}
			case file != "":
				src, err := readInput(file)
				if err != nil {
					return err
				}
				if text, err = job.DraftFromFile(title, filepath.Base(file), job.Where(c.String("tree"), file), src); err != nil {
					return err
				}
			default:
				if text, err = job.DraftFromCommit(ctx, c.String("tree"), title, commit); err != nil {
					return err
				}
			}
			if to := c.String("to"); to != "" {
				f, err := os.OpenFile(to, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o644)
				if err != nil {
					return &job.Problem{What: "nothing was written", Hint: "Name a file that is not there yet.", Err: err}
				}
				_, err = f.Write(text)
				if err = errors.Join(err, f.Close()); err != nil {
					return err
				}
				return output(c, map[string]string{"file": to}, func(out io.Writer) {
					fmt.Fprintf(out, "%s was written. Complete it, then: ligare sheet check %s, ligare sheet add %s\n", to, to, to)
				})
			}
			_, err = os.Stdout.Write(text)
			return err
		},
	})
}

func sheetAdd() *cli.Command {
	return command(&cli.Command{
		Name: "add", Usage: "give the server a sheet of the team's own, or a new version of one", ArgsUsage: "FILE",
		Action: func(ctx context.Context, c *cli.Command) error {
			name, err := argument(c, "FILE")
			if err != nil {
				return err
			}
			src, err := readInput(name)
			if err != nil {
				return err
			}
			s, err := job.CheckSheet(name, src)
			if err != nil {
				for _, p := range sheet.Problems(err) {
					fmt.Fprintln(os.Stderr, p)
				}
				return job.SheetProblems(err)
			}
			api, err := server(c, nil)
			if err != nil {
				return err
			}
			v, err := api.SaveSheet(ctx, s.Service, src)
			if err != nil {
				return err
			}
			return output(c, v, func(out io.Writer) {
				fmt.Fprintf(out, "The server has the sheet of %s, version %s (%.19s…).\n", s.Title, s.Version, v.Digest)
			})
		},
	})
}

func sheetDrop() *cli.Command {
	return command(&cli.Command{
		Name: "drop", Usage: "take a sheet of the team's own away", ArgsUsage: "SERVICE",
		Action: func(ctx context.Context, c *cli.Command) error {
			name, err := argument(c, "SERVICE")
			if err != nil {
				return err
			}
			api, err := server(c, nil)
			if err != nil {
				return err
			}
			if err := api.DropSheet(ctx, name); err != nil {
				return err
			}
			return output(c, map[string]string{"dropped": name}, func(out io.Writer) { fmt.Fprintf(out, "The team's own sheet of %s is gone.\n", name) })
		},
	})
}

func sheetAgree() *cli.Command {
	return command(&cli.Command{
		Name: "agree", Usage: "show how a sheet changed since this tree agreed to it, and agree", ArgsUsage: "SERVICE",
		Description: "A sheet can put code and scripts into a tree. Its digest is pinned in ligare.yaml; --yes agrees to the digest it\nis shown with, and only to that.",
		Flags:       []cli.Flag{&cli.BoolFlag{Name: "yes", Usage: "do not ask"}, &cli.BoolFlag{Name: "dry-run", Usage: "show the change, and agree to nothing"}},
		Action: func(ctx context.Context, c *cli.Command) error {
			name, err := argument(c, "SERVICE")
			if err != nil {
				return err
			}
			w, s, err := both(c)
			if err != nil {
				return err
			}
			change, err := w.ChangedSheet(ctx, s, name)
			if err != nil {
				return err
			}
			if change == nil {
				return output(c, map[string]bool{"changed": false}, func(out io.Writer) { fmt.Fprintf(out, "The sheet of %s is the one this tree agreed to.\n", name) })
			}
			if !jsonWanted(c) {
				showSheetChange(screen, change)
			}
			if c.Bool("dry-run") {
				return output(c, change, func(io.Writer) {})
			}
			if ok, err := confirm(c, "Agree to this sheet?"); err != nil || !ok {
				return err
			}
			if err := w.AgreeSheet(change); err != nil {
				return err
			}
			return output(c, change, func(out io.Writer) {
				fmt.Fprintf(out, "This tree agrees to the sheet of %s as it is now (%.19s…). Commit ligare.yaml.\n", name, change.Now)
			})
		},
	})
}

func showSheetChange(out io.Writer, ch *job.SheetChange) {
	switch {
	case ch.Was == nil:
		fmt.Fprintf(out, "The sheet this tree agreed to (%.19s…) is not at hand any more; this is the whole new one:\n\n%s\n", ch.Pinned, ch.New)
	case ch.Pinned == "":
		fmt.Fprintf(out, "This tree has not agreed to a sheet of %s yet; this is it:\n\n%s\n", ch.Service, ch.New)
	default:
		for _, l := range strings.Split(strings.TrimRight(udiff.Unified(ch.Service+" agreed to", ch.Service+" now", string(ch.Was), string(ch.New)), "\n"), "\n") {
			fmt.Fprintln(out, diffColour(l))
		}
	}
}
