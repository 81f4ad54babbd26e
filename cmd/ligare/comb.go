package main

import (
	"context"
	"fmt"
	"io"
	"os"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"ligare/core/check"
	"ligare/job"
)

func combCommand() *cli.Command {
	return command(&cli.Command{
		Name: "comb", Usage: "look through every file for the team's server secrets, private keys and keystores with passwords everybody tries", ArgsUsage: "[PACKAGE]",
		Description: "Every file is read, those that version control ignores too, plain and in Base64, URL-encoded and UTF-16.\n" +
			"What is packed in archives is unpacked for it; PACKAGE looks through one built package alone.\n" +
			"The server hands out digests to look for, no secret; what is found stays on this machine and is never printed.\nFormats: text, json, sarif, junit.",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "history", Usage: "look through everything that any commit holds, too"},
			&cli.StringFlag{Name: "fail-on", Value: "error", Usage: "lowest severity that makes the exit status 1: error, warning or note"},
			appFlag(),
			&cli.BoolFlag{Name: "offline", Usage: "look for what needs no server: private keys and keystores"},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			failOn, err := severity(c)
			if err != nil {
				return err
			}
			w, file, err := packageOr(c)
			if err != nil {
				return err
			}
			s, why := reach(c, w)
			if c.Bool("offline") {
				why = "it was combed offline, without the server's digests"
			}
			r, err := w.Comb(ctx, s, why, job.CombOptions{Package: file, History: c.Bool("history"), Progress: progress()})
			if term.IsTerminal(int(os.Stderr.Fd())) {
				fmt.Fprint(os.Stderr, "\r\x1b[K") // the progress is over
			}
			if err != nil {
				return err
			}
			if c.Bool("offline") { // that was asked for
				for i := range r.NotLooked {
					r.NotLooked[i].Required = false
				}
			}
			if c.String("format") == "json" {
				if err := output(c, r, nil); err != nil {
					return err
				}
			} else if err := showCheck(c, w, r.Result); err != nil {
				return err
			}
			if c.String("format") == "text" {
				showCombed(screen, r)
			}
			switch worst := r.Worst(); {
			case worst != "" && worst.AtLeast(failOn):
				return errFound
			case r.Blind():
				return &job.Problem{What: "not everything could be looked for", Hint: blindHint(r.Result)}
			}
			return nil
		},
	})
}

func showCombed(w io.Writer, r *job.Combed) {
	fmt.Fprintf(w, "%s, %s, for %s", count(r.Files, "file"), size(r.Bytes), count(r.Sought, "secret"))
	if r.Objects > 0 {
		fmt.Fprintf(w, "; %s of the history", count(r.Objects, "object"))
	}
	fmt.Fprintln(w)
	var reasons []string
	unsought := map[string][]string{}
	for _, u := range r.Unsought {
		if unsought[u.Why] == nil {
			reasons = append(reasons, u.Why)
		}
		unsought[u.Why] = append(unsought[u.Why], u.Say)
	}
	for _, why := range reasons {
		fmt.Fprintf(w, "Not looked for, as %s:\n", why)
		for _, say := range unsought[why] {
			fmt.Fprintln(w, "  "+say)
		}
	}
}

func size(n int64) string {
	switch {
	case n < 10_000:
		return fmt.Sprintf("%d bytes", n)
	case n < 10_000_000:
		return fmt.Sprintf("%d KB", n/1000)
	}
	return fmt.Sprintf("%d MB", n/1_000_000)
}

// progress prints how far a long scan is, on a terminal.
func progress() func(what string, done, of int64) {
	if !term.IsTerminal(int(os.Stderr.Fd())) {
		return nil
	}
	return func(what string, done, _ int64) {
		if what == "files" {
			fmt.Fprintf(os.Stderr, "\r%s looked through …\x1b[K", size(done))
		} else {
			fmt.Fprintf(os.Stderr, "\r%d objects of the history …\x1b[K", done)
		}
	}
}

// severity reads --fail-on.
func severity(c *cli.Command) (check.Severity, error) {
	s := check.Severity(c.String("fail-on"))
	if s != check.Error && s != check.Warning && s != check.Note {
		return s, &job.Problem{What: fmt.Sprintf("--fail-on: there is no severity %q", s), Hint: "Use error, warning or note."}
	}
	return s, nil
}
