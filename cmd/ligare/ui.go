package main

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"ligare/core/check"
	"ligare/core/report"
	"ligare/job"
)

// The rules of the terminal: results go to standard output, everything said beside them to standard error; questions
// are asked only when both ends are a terminal; colour only on a terminal that wants it; nothing is told by colour alone.

func terminal(f *os.File) bool { return term.IsTerminal(int(f.Fd())) }

func colour() bool { return terminal(os.Stdout) && os.Getenv("NO_COLOR") == "" }

func asking() bool { return terminal(os.Stdin) && terminal(os.Stderr) }

func jsonWanted(c *cli.Command) bool { return c.String("format") == "json" }

// output writes JSON when it is wanted, else calls text.
func output(c *cli.Command, v any, text func(w io.Writer)) error {
	switch f := c.String("format"); f {
	case "json":
		return report.JSON(os.Stdout, v)
	case "text":
		text(screen)
		return nil
	default:
		return &job.Problem{What: fmt.Sprintf("there is no format %q here", f), Hint: "Use text or json."}
	}
}

func paint(s check.Severity, text string) string {
	if !colour() {
		return text
	}
	code := map[check.Severity]string{check.Error: "31", check.Warning: "33", check.Note: "36"}[s]
	return "\x1b[1;" + code + "m" + text + "\x1b[0m"
}

// width gives how wide text may be: COLUMNS, else the terminal's width; 0 for no limit.
func width() int {
	if n, err := strconv.Atoi(os.Getenv("COLUMNS")); err == nil && n > 20 {
		return n
	}
	if terminal(os.Stdout) {
		if n, _, err := term.GetSize(int(os.Stdout.Fd())); err == nil {
			return n
		}
	}
	return 0
}

// line reads one answer.
func line(question string) (string, error) {
	fmt.Fprint(os.Stderr, question)
	s, err := bufio.NewReader(os.Stdin).ReadString('\n')
	if err != nil && !errors.Is(err, io.EOF) {
		return "", err
	}
	return strings.TrimSpace(s), nil
}

// confirm asks whether to go on; without a terminal it says how to.
func confirm(c *cli.Command, question string) (bool, error) {
	if c.Bool("yes") {
		return true, nil
	}
	if !asking() {
		return false, &job.Problem{What: "nothing was written: there is no terminal to ask on", Hint: "Add --yes to write, or --dry-run to look only."}
	}
	a, err := line(question + " [y/N] ")
	return strings.EqualFold(a, "y") || strings.EqualFold(a, "yes"), err
}

// choose asks for one of several answers.
func choose(question string, choices []string) (string, error) {
	for {
		a, err := line(fmt.Sprintf("%s (%s): ", question, strings.Join(choices, ", ")))
		if err != nil {
			return "", err
		}
		for _, x := range choices {
			if x == a {
				return a, nil
			}
		}
		if a == "" {
			return "", &job.Problem{What: "no answer was given to: " + question}
		}
	}
}

// password gives the keystore's password from the environment, a file or a prompt; never from an argument.
func password(c *cli.Command) func() (string, error) {
	return func() (string, error) {
		if name := c.String("password-env"); name != "" {
			if v, ok := os.LookupEnv(name); ok {
				return v, nil
			}
			return "", &job.Problem{What: "the environment has no " + name, Hint: "Set it, or leave --password-env out to be asked."}
		}
		if file := c.String("password-file"); file != "" {
			b, err := os.ReadFile(file)
			return strings.TrimRight(string(b), "\r\n"), err
		}
		if !asking() {
			return "", &job.Problem{What: "the keystore needs its password and there is no terminal to ask on", Hint: "Give it with --password-env NAME or --password-file FILE."}
		}
		fmt.Fprint(os.Stderr, "Password of the keystore: ")
		b, err := term.ReadPassword(int(os.Stdin.Fd()))
		fmt.Fprintln(os.Stderr)
		return string(b), err
	}
}

// twice asks for a new password and for the same again; from the environment or a file it is taken as it is.
func twice(c *cli.Command) func() (string, error) {
	ask := password(c)
	return func() (string, error) {
		first, err := ask()
		if err != nil || c.IsSet("password-env") || c.IsSet("password-file") {
			return first, err
		}
		fmt.Fprint(os.Stderr, "The same again: ")
		b, err := term.ReadPassword(int(os.Stdin.Fd()))
		fmt.Fprintln(os.Stderr)
		if err == nil && string(b) != first {
			err = &job.Problem{What: "the two passwords differ", Hint: "Run the command again."}
		}
		return first, err
	}
}

func passwordFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "password-env", Usage: "environment variable that holds the keystore's password"},
		&cli.StringFlag{Name: "password-file", Usage: "file that holds the keystore's password"},
	}
}

func writeFlags() []cli.Flag {
	return []cli.Flag{
		&cli.BoolFlag{Name: "yes", Aliases: []string{"y"}, Usage: "write without asking"},
		&cli.BoolFlag{Name: "dry-run", Usage: "show what would be written, and write nothing"},
	}
}

// showChanges prints a unified diff of every change: its reasons above it, and at each hunk which of them it is for.
func showChanges(w io.Writer, list []job.Change) {
	for _, c := range list {
		if c.Ours { // not worth reading line by line
			fmt.Fprintf(w, "# %s: %s\n", c.File, strings.Join(c.Why, "; "))
			continue
		}
		for _, why := range c.Why {
			fmt.Fprintln(w, "#", why)
		}
		for _, l := range strings.SplitAfter(c.Diff(), "\n") {
			fmt.Fprint(w, diffColour(l))
		}
		fmt.Fprintln(w)
	}
}

func diffColour(l string) string {
	if !colour() || l == "" {
		return l
	}
	code := ""
	switch {
	case strings.HasPrefix(l, "+++"), strings.HasPrefix(l, "---"):
		code = "1"
	case l[0] == '+':
		code = "32"
	case l[0] == '-':
		code = "31"
	case l[0] == '@':
		code = "36"
	}
	if code == "" {
		return l
	}
	return "\x1b[" + code + "m" + strings.TrimSuffix(l, "\n") + "\x1b[0m\n"
}

// finish shows changes and writes them when that is wanted.
func finish(c *cli.Command, w *job.Work, list []job.Change, question string) (written bool, err error) {
	if len(list) == 0 {
		return false, nil
	}
	if !jsonWanted(c) {
		showChanges(screen, list)
	}
	if c.Bool("dry-run") {
		return false, nil
	}
	ok, err := confirm(c, question)
	if err != nil || !ok {
		return false, err
	}
	return true, w.Write()
}

// table prints rows in columns as wide as their content.
func table(w io.Writer, rows [][]string) {
	width := columnWidths(rows)
	for _, r := range rows {
		var b strings.Builder
		for i, cell := range r {
			b.WriteString(cell)
			if i < len(r)-1 {
				b.WriteString(strings.Repeat(" ", width[i]-len([]rune(cell))+2))
			}
		}
		fmt.Fprintln(w, strings.TrimRight(b.String(), " "))
	}
}

// columnWidths gives how wide each column is, in characters.
func columnWidths(rows [][]string) (width []int) {
	for _, r := range rows {
		for i, cell := range r[:max(0, len(r)-1)] { // the last cell of a row has nothing to its right
			if i == len(width) {
				width = append(width, 0)
			}
			width[i] = max(width[i], len([]rune(cell)))
		}
	}
	return width
}

// tableWidth gives how wide the widest row of a table is, of those that have all of its columns.
func tableWidth(rows [][]string) (most int) {
	width := columnWidths(rows)
	for _, r := range rows {
		if len(r) < len(rows[0]) {
			continue
		}
		n := 0
		for i, cell := range r {
			if i == len(r)-1 {
				n += len([]rune(cell))
			} else {
				n += width[i] + 2
			}
		}
		most = max(most, n)
	}
	return most
}
