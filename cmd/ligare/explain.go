package main

import (
	"context"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/urfave/cli/v3"

	"ligare/core/check"
	"ligare/core/report"
	"ligare/job"
)

// longest is how many bytes of a pasted message are read.
const longest = 4 << 20

func explainCommand() *cli.Command {
	return command(&cli.Command{
		Name: "explain", Usage: "explain a rule, or find the cause of a message that a build or a running app printed", ArgsUsage: "[RULE | MESSAGE | -]",
		Description: "Without an argument it lists the rules. A message is given in quotation marks, or with - from standard input;\nthe tree is checked to see whether the cause holds here. The message stays on this machine.",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "offline", Usage: "use the tree's own records of what was placed, no server"},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			text := strings.Join(c.Args().Slice(), " ")
			switch {
			case text == "":
				return output(c, check.Rules(), listRules)
			case text == "-":
				b, err := io.ReadAll(io.LimitReader(os.Stdin, longest))
				if err != nil {
					return err
				}
				text = string(b)
			default:
				if r := check.RuleByID(text); r != nil {
					return output(c, r, func(w io.Writer) { showRule(w, r) })
				}
			}
			if !strings.ContainsAny(strings.TrimSpace(text), " _:/") {
				return &job.Problem{What: fmt.Sprintf("there is no rule %q, and it is too short for a message", text), Hint: "`ligare explain` lists the rules; give a message in quotation marks, or with - from standard input."}
			}
			return explainMessage(ctx, c, text)
		},
	})
}

func listRules(w io.Writer) {
	var rows [][]string
	for _, r := range check.Rules() {
		rows = append(rows, []string{r.ID, string(r.Severity), r.Title})
	}
	table(w, rows)
}

func showRule(w io.Writer, r *check.Rule) {
	fmt.Fprintf(w, "%s: %s\n", r.ID, r.Title)
	severity := string(r.Severity)
	if r.Graded != "" {
		severity += "; " + r.Graded
	}
	rows := [][]string{{"  severity", severity}, {"  compares", r.Compares}, {"  why", r.Why}, {"  mend", plainFix(r.Fix)}}
	if len(r.Needs) > 0 || len(r.Codes) > 0 {
		rows = append(rows, []string{"  needs", r.NeedsSay()})
	}
	table(w, rows)
}

// plainFix shows what is filled in from a finding as words.
func plainFix(fix string) string {
	for _, name := range []string{"service", "expected", "actual", "which", "ask", "slot", "duty"} {
		fix = strings.ReplaceAll(fix, "${"+name+"}", strings.ToUpper(name))
	}
	return fix
}

func explainMessage(ctx context.Context, c *cli.Command, text string) error {
	w, err := open(c)
	if err != nil {
		return err
	}
	s, why := reach(c, w)
	list, err := w.Explain(ctx, s, why, c.Bool("offline"), text)
	if err != nil {
		return err
	}
	if err := output(c, list, func(out io.Writer) { showExplanations(out, list) }); err != nil {
		return err
	}
	for _, x := range list {
		if x.Applies == check.Holds {
			return errFound
		}
	}
	return nil
}

func showExplanations(w io.Writer, list []check.Explanation) {
	if len(list) == 0 {
		fmt.Fprintln(w, "No message in this text is known. `ligare check` looks at the whole tree.")
	}
	for _, x := range list {
		whose := ""
		if x.Service != "" {
			whose = " (" + x.Service + ")"
		}
		fmt.Fprintf(w, "%q%s\n  %s\n  %s\n", x.Found, whose, report.Wrap(x.Cause, width(), 2), report.Wrap(x.Remedy, width(), 2))
		switch x.Applies {
		case check.Holds:
			fmt.Fprintln(w, "  It holds here:")
			for _, f := range x.Findings {
				fmt.Fprintf(w, "    %s  [%s]\n      %s\n      mend: %s\n", f.Place(), f.Rule, report.Wrap(f.Message, width(), 6), report.Wrap(f.Fix, width(), 12))
			}
		case check.Excluded:
			fmt.Fprintln(w, "  "+report.Wrap(fmt.Sprintf("Not here: the tree is right in this (%s). Build again after a clean, or look at the next cause.", strings.Join(x.Rules, ", ")), width(), 2))
		default:
			fmt.Fprintf(w, "  Whether it holds here could not be looked at: %s\n", x.Why)
		}
		fmt.Fprintln(w)
	}
}
