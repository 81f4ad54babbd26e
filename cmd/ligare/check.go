package main

import (
	"context"
	"fmt"
	"io"
	"os"
	"os/user"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"ligare/client"
	"ligare/core/check"
	"ligare/core/report"
	"ligare/core/sheet"
	"ligare/job"
	"ligare/sheets"
)

type clientType = *client.Client

func checkCommand() *cli.Command {
	return command(&cli.Command{
		Name: "check", Usage: "compare the tree, or a built package, with what is registered and name every mistake", ArgsUsage: "[PACKAGE]",
		Description: "Formats: text, json, sarif, junit. Sends identifiers, digests and findings with their place to the\nserver, no source; --no-report keeps them here. Of a PACKAGE (APK, AAB or IPA) nothing is sent.",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "fail-on", Value: "error", Usage: "lowest severity that makes the exit status 1: error, warning or note"},
			&cli.BoolFlag{Name: "offline", Usage: "use the tree's own records of what was placed, no server"},
			&cli.BoolFlag{Name: "no-report", Usage: "send nothing to the server"},
			&cli.StringSliceFlag{Name: "require", Usage: "exit with 2 unless this could be looked at: a rule, or records, services, history"},
			&cli.BoolFlag{Name: "at-services", Usage: "ask the services themselves now, instead of what the records hold of them"},
			&cli.DurationFlag{Name: "patience", Value: job.Patience, Usage: "how long each service may take, with --at-services"},
			&cli.StringFlag{Name: "branch", Usage: "the branch the report is kept under, where a commit is checked out without one"},
			&cli.BoolFlag{Name: "fix", Usage: "mend what Ligare can; shows the diff first"},
			&cli.BoolFlag{Name: "accept-standing", Usage: "accept what is found now, so that only what is new fails; writes " + check.StandingFile},
			&cli.BoolFlag{Name: "yes", Usage: "write without asking"},
			&cli.BoolFlag{Name: "dry-run", Usage: "show the diff, write nothing"},
			appFlag(), packageEnvironment(),
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
			if file != "" {
				return checkPackage(ctx, c, w, file, failOn)
			}
			w.Branch, w.AtServices, w.Patience = c.String("branch"), c.Bool("at-services"), c.Duration("patience")
			s, why := reach(c, w)
			if c.Bool("fix") {
				if why != "" || s == nil {
					return &job.Problem{What: "--fix needs the server: " + orNothing(why), Hint: "Values are placed as they were issued; the tree's own records hold only their digests."}
				}
				if err := mend(ctx, c, w, s); err != nil {
					return err
				}
				if w, err = open(c); err != nil { // as it is now
					return err
				}
				w.Branch, w.AtServices, w.Patience = c.String("branch"), c.Bool("at-services"), c.Duration("patience")
			}
			r, err := w.Check(ctx, s, why, c.Bool("offline"), !c.Bool("no-report"))
			if err != nil {
				return err
			}
			if err := r.Require(c.StringSlice("require")); err != nil {
				return &job.Problem{What: "--require", Hint: "Name a rule (ligare explain lists them), or records, services, history.", Err: err}
			}
			if c.Bool("accept-standing") {
				changes, err := w.AcceptStanding(r.Result)
				if err != nil {
					return err
				}
				_, err = finish(c, w, changes, "Accept what is found now?")
				return err
			}
			if err := showCheck(c, w, r.Result); err != nil {
				return err
			}
			if r.Unsent != "" {
				fmt.Fprintln(os.Stderr, "ligare: the report was not kept:", r.Unsent)
			}
			return ended(r.Result, failOn)
		},
	})
}

// ended gives how a check ends: with what it found, or with what it could not look at.
func ended(r *check.Result, failOn check.Severity) error {
	switch worst := r.Worst(); {
	case worst != "" && worst.AtLeast(failOn):
		return errFound
	case r.Blind():
		return &job.Problem{What: "not everything could be looked at", Hint: blindHint(r)}
	}
	return nil
}

func appFlag() cli.Flag {
	return &cli.StringFlag{Name: "app", Usage: "app in the records a package belongs to, where there is no tree"}
}

func packageEnvironment() cli.Flag {
	return &cli.StringFlag{Name: "environment", Aliases: []string{"e"}, Usage: "environment a package was built for, where its identifier is that of several"}
}

// packageOr opens the tree, and gives the package that is named instead of it: "" for none. A package can be looked at
// without a tree when the app is named.
func packageOr(c *cli.Command) (w *job.Work, file string, err error) {
	if c.Args().Len() > 1 {
		_, err := argument(c, "PACKAGE")
		return nil, "", err
	}
	if file = c.Args().First(); file != "" && c.String("app") != "" {
		w, err = job.WithoutTree(c.String("app"), "")
		return w, file, err
	}
	w, err = open(c)
	return w, file, err
}

func checkPackage(ctx context.Context, c *cli.Command, w *job.Work, file string, failOn check.Severity) error {
	p, err := job.Inspect(ctx, file, job.InspectOptions{Verify: true})
	if err != nil {
		return err
	}
	defer p.Close()
	s, why := reach(c, w)
	r, err := w.CheckPackage(ctx, s, why, c.Bool("offline"), p, c.String("environment"))
	if err != nil {
		return err
	}
	if err := r.Require(c.StringSlice("require")); err != nil {
		return &job.Problem{What: "--require", Hint: "Name a rule (ligare explain lists them), or records, services, history.", Err: err}
	}
	if err := showCheck(c, w, r.Result); err != nil {
		return err
	}
	return ended(r.Result, failOn)
}

// reach finds the server for a tree that is attached, unless it is not wanted; why says that there is none.
func reach(c *cli.Command, w *job.Work) (s *client.Client, why string) {
	if c.Bool("offline") || w.Binding == nil {
		return nil, ""
	}
	s, err := server(c, w)
	if err != nil {
		return nil, err.Error()
	}
	return s, ""
}

// mend shows what Ligare can mend, asks, and writes.
func mend(ctx context.Context, c *cli.Command, w *job.Work, s *client.Client) error {
	p, err := w.Mend(ctx, s)
	if err != nil {
		return err
	}
	if len(p.Changes) == 0 {
		fmt.Fprintln(os.Stderr, "Nothing is wrong that Ligare can mend.")
		return nil
	}
	written, err := finish(c, w, p.Changes, fmt.Sprintf("Write %s?", count(len(p.Changes), "file")))
	if err != nil {
		return err
	}
	if !jsonWanted(c) && c.String("format") == "text" {
		afterPlacing(screen, p, written)
		fmt.Println()
	}
	return nil
}

func waiveCommand() *cli.Command {
	return command(&cli.Command{
		Name: "waive", Usage: "accept a finding, with reason and end; writes " + check.WaiverFile, ArgsUsage: "RULE [FILE]",
		Flags: append(writeFlags(),
			&cli.StringFlag{Name: "reason", Usage: "why it is accepted"},
			&cli.StringFlag{Name: "until", Usage: "the last day it holds, YYYY-MM-DD"},
			&cli.StringFlag{Name: "who", Usage: "who accepts it; without, the one signed in to the system"},
			&cli.StringFlag{Name: "variant", Usage: "only in this variant"}),
		Action: func(_ context.Context, c *cli.Command) error {
			if c.Args().Len() < 1 || c.Args().Len() > 2 {
				return &job.Problem{What: c.FullName() + " takes a rule and perhaps a file", Hint: "`" + c.FullName() + " --help` shows how it is used."}
			}
			w, err := open(c)
			if err != nil {
				return err
			}
			who := c.String("who")
			if who == "" {
				if u, err := user.Current(); err == nil {
					who = u.Username
				}
			}
			changes, err := w.Waive(check.Waiver{Rule: c.Args().Get(0), At: c.Args().Get(1), Variant: c.String("variant"), Reason: c.String("reason"), Who: who, Until: c.String("until")})
			if err != nil {
				return err
			}
			_, err = finish(c, w, changes, "Accept it?")
			return err
		},
	})
}

// blindHint says what would let the check look.
func blindHint(r *check.Result) string {
	for _, n := range r.NotLooked {
		if n.Required && n.Reason == client.ErrNoServer.Error() {
			return "Start your own server with `ligared local`, name one with LIGARE_SERVER and LIGARE_TOKEN, or use --offline on a tree in which something was placed."
		}
	}
	return "Each reason stands above."
}

func showCheck(c *cli.Command, w *job.Work, r *check.Result) error {
	switch f := c.String("format"); f {
	case "text":
		report.Text(screen, r, width(), paint, func(file string, line int) string {
			src, err := w.Tree.Read(file)
			if err != nil {
				return ""
			}
			lines := strings.Split(string(src), "\n")
			if line > len(lines) {
				return ""
			}
			return strings.TrimRight(lines[line-1], "\r")
		})
		return nil
	case "json":
		return report.JSON(os.Stdout, r)
	case "sarif":
		return report.SARIF(os.Stdout, r, version)
	case "junit":
		return report.JUnit(os.Stdout, r)
	default:
		return &job.Problem{What: fmt.Sprintf("there is no format %q", f), Hint: "Use text, json, sarif or junit."}
	}
}

func lineupCommand() *cli.Command {
	return command(&cli.Command{
		Name: "lineup", Usage: "show identifiers and keys side by side: services, config file, tree, hosted builder, backend, last sighting",
		ArgsUsage: "[PACKAGE]",
		Flags:     []cli.Flag{environmentFlag(), appFlag(), &cli.StringFlag{Name: "backend", Usage: "a file with a backend's environment, NAME=value in each line, to compare too"}},
		Action: func(ctx context.Context, c *cli.Command) error {
			w, file, err := packageOr(c)
			if err != nil {
				return err
			}
			s, err := server(c, w)
			if err != nil {
				return err
			}
			w.Backend = c.String("backend")
			rows, err := lineUp(ctx, c, w, s, file)
			if err != nil {
				return err
			}
			if env := c.String("environment"); env != "" {
				rows = slices.DeleteFunc(rows, func(r check.Row) bool { return r.Environment != "" && r.Environment != env })
			}
			if err := output(c, rows, func(out io.Writer) { showLineUp(out, rows) }); err != nil {
				return err
			}
			for _, r := range rows {
				if !r.Agrees {
					return errFound
				}
			}
			return nil
		},
	})
}

// lineUp gives the table, with the column of a package when one is named.
func lineUp(ctx context.Context, c *cli.Command, w *job.Work, s *client.Client, file string) ([]check.Row, error) {
	if file == "" {
		return w.LineUp(ctx, s)
	}
	p, err := job.Inspect(ctx, file, job.InspectOptions{})
	if err != nil {
		return nil, err
	}
	defer p.Close()
	return w.LineUpPackage(ctx, s, p, c.String("environment"))
}

// showLineUp prints one block an identity; a value that disagrees is marked with ≠ and a row that agrees with =.
func showLineUp(w io.Writer, rows []check.Row) {
	rows = slices.Clone(rows)
	odd := map[string]bool{} // identities with something that disagrees: they come first
	key := func(r check.Row) string {
		return r.Service + " " + r.Environment + " " + string(r.Platform) + " " + r.Identity
	}
	for _, r := range rows {
		odd[key(r)] = odd[key(r)] || !r.Agrees
	}
	slices.SortStableFunc(rows, func(a, b check.Row) int {
		switch x, y := odd[key(a)], odd[key(b)]; {
		case x && !y:
			return -1
		case y && !x:
			return 1
		}
		return 0
	})
	for i, from := 0, 0; i <= len(rows); i++ {
		if i < len(rows) && key(rows[i]) == key(rows[from]) {
			continue
		}
		if from > 0 {
			fmt.Fprintln(w)
		}
		block := rows[from:i]
		if len(block) == 0 {
			fmt.Fprintln(w, "Nothing is registered yet.")
			return
		}
		r := block[0]
		service := r.Service
		if r.Environment != "" {
			service += ", " + r.Environment
		}
		fmt.Fprintf(w, "%s  (%s)\n", r.Subject(), strings.TrimSuffix(service+"; "+strings.Join(r.Variants, ", "), "; "))
		lines := lineUpBlock(block, 40)
		for _, most := range []int{32, 26, 20, 16} { // what agrees is cut shorter until the table fits the screen
			if width() == 0 || tableWidth(lines) <= width() {
				break
			}
			lines = lineUpBlock(block, most)
		}
		table(w, lines)
		from = i
	}
}

// lineUpBlock lays out the rows of one identity. Values that agree, and names, are at most so many characters long; one that
// disagrees stands in full, as does what the service has then.
func lineUpBlock(rows []check.Row, most int) [][]string {
	columns := check.Held(rows)
	out := [][]string{append([]string{" ", ""}, columns...)}
	for _, r := range rows {
		mark := "="
		if !r.Agrees {
			mark = "≠"
		}
		line := []string{mark, cut(r.What, most)}
		for _, col := range columns {
			cell, ok := r.Cells[col]
			text := cell.Value
			if r.Agrees || col != "service" && !slices.Contains(r.Odd, col) {
				text = cut(text, most)
			}
			switch {
			case !ok:
				text = "·"
			case text == "" && cell.Note != "":
				text = "(" + cell.Note + ")"
			case cell.Note != "":
				text += " (" + cell.Note + ")"
			}
			if slices.Contains(r.Odd, col) {
				text = "≠ " + text
			}
			line = append(line, text)
		}
		out = append(out, line)
		for _, odd := range r.Odd {
			if cell := r.Cells[odd]; cell.Where != "" {
				out = append(out, []string{" ", "", "  " + odd + " at " + cell.Where})
			}
		}
	}
	return out
}

// short cuts the middle out of a long value that agrees everywhere; in full it stands in the JSON and in the console.
func short(s string) string { return cut(s, 40) }

// cut cuts the middle out of what is longer than so many characters.
func cut(s string, most int) string {
	if r := []rune(s); len(r) > most {
		return string(r[:most*3/5]) + "…" + string(r[len(r)-most*3/10:])
	}
	return s
}

func probeCommand() *cli.Command {
	return command(&cli.Command{
		Name: "probe", Usage: "prove the connection: test traffic sent as the app would, from what stands in the tree", ArgsUsage: "SERVICE",
		Flags: []cli.Flag{environmentFlag()},
		Action: func(ctx context.Context, c *cli.Command) error {
			name, err := argument(c, "SERVICE")
			if err != nil {
				return err
			}
			w, err := open(c)
			if err != nil {
				return err
			}
			if err := w.NeedBinding(); err != nil {
				return err
			}
			s, noServer := server(c, w)
			sh, err := probeSheet(ctx, s, noServer, name)
			if err != nil {
				return err
			}
			p, err := w.Probe(ctx, sh, c.String("environment"))
			if err != nil {
				return err
			}
			if s != nil && noServer == nil {
				lookNow(ctx, s, w, p)
			}
			if err := output(c, p, func(out io.Writer) { showProbe(out, p) }); err != nil {
				return err
			}
			if !p.Works {
				return errFound
			}
			return nil
		},
	})
}

// probeSheet takes the sheet from the server, or the one that ships.
func probeSheet(ctx context.Context, s *client.Client, noServer error, name string) (*sheet.Sheet, error) {
	if noServer == nil {
		x, err := s.Service(ctx, name)
		if err != nil {
			return nil, err
		}
		return sheet.Parse(name, []byte(x.Source))
	}
	all, err := sheet.Load(sheets.FS)
	if err != nil {
		return nil, err
	}
	if all[name] == nil {
		return nil, noServer
	}
	return all[name], nil
}

// lookNow asks the server to look at the service, so that the sighting shows at once. The probe's answer stands without it.
func lookNow(ctx context.Context, s *client.Client, w *job.Work, p *job.Probed) {
	list, err := s.Registrations(ctx, w.Binding.App)
	if err == nil {
		for _, g := range list {
			if g.Service == p.Service && (g.Environment == "" || g.Environment == p.Environment) {
				err = s.Look(ctx, g.ID)
			}
		}
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "ligare: the sighting was not fetched yet:", err)
	}
}

func showProbe(w io.Writer, p *job.Probed) {
	fmt.Fprintf(w, "%s, %s: %s\n", p.Service, p.Environment, p.Title)
	for _, s := range p.Steps {
		mark := "ok    "
		if !s.Works {
			mark = "FAILED"
		}
		fmt.Fprintf(w, "  %s  %s as %s app %s (%s)\n          %s  → %d\n          read from %s\n", mark, s.Title, s.As, s.App, s.Took, s.Request, s.Status, s.ReadFrom)
		if s.Say != "" {
			fmt.Fprintf(w, "          %s\n", s.Say)
		}
		if s.Remedy != "" {
			fmt.Fprintf(w, "          next: %s\n", s.Remedy)
		}
	}
	if p.Works {
		fmt.Fprintln(w, "It works.")
	}
}
