package main

import (
	"context"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"ligare/client"
	"ligare/client/shape"
	"ligare/core/ident"
	"ligare/core/sheet"
	"ligare/job"
)

// about finds what a command is about: the app that --app names, or the one this tree builds. w is nil without a tree.
func about(c *cli.Command) (w *job.Work, s *client.Client, app string, err error) {
	if app = c.String("app"); app != "" {
		s, err = server(c, nil)
		return nil, s, app, err
	}
	if w, s, err = both(c); err != nil {
		return nil, nil, "", err
	}
	if err := w.NeedBinding(); err != nil {
		return nil, nil, "", err
	}
	return w, s, w.Binding.App, nil
}

// whichFlags name a registration beside its service.
func whichFlags(more ...cli.Flag) []cli.Flag {
	return append([]cli.Flag{
		&cli.StringFlag{Name: "app", Usage: "app in the records, where there is no tree"},
		&cli.StringFlag{Name: "environment", Aliases: []string{"e"}, Usage: "environment that is meant"},
		&cli.StringFlag{Name: "identity", Usage: "application ID or bundle ID that is meant"},
		&cli.StringFlag{Name: "platform", Usage: "platform that is meant: android, ios or web"},
	}, more...)
}

// which finds the registration a command is about.
func which(ctx context.Context, c *cli.Command, s *client.Client, app, service string) (*shape.Registration, error) {
	return job.Find(ctx, s, app, job.Which{Service: service, Environment: c.String("environment"), Identity: c.String("identity"), Platform: c.String("platform")})
}

// onRegistration is a command about one registration, named by its service and the flags of whichFlags.
func onRegistration(do func(ctx context.Context, c *cli.Command, s *client.Client, g *shape.Registration) error) cli.ActionFunc {
	return func(ctx context.Context, c *cli.Command) error {
		name, err := argument(c, "SERVICE")
		if err != nil {
			return err
		}
		_, s, app, err := about(c)
		if err != nil {
			return err
		}
		g, err := which(ctx, c, s, app, name)
		if err != nil {
			return err
		}
		return do(ctx, c, s, g)
	}
}

// onPart is a command about something of a registration: a key, a duty.
func onPart(what string, do func(ctx context.Context, c *cli.Command, s *client.Client, g *shape.Registration, part string) error) cli.ActionFunc {
	return func(ctx context.Context, c *cli.Command) error {
		service, part, err := two(c, "SERVICE", what)
		if err != nil {
			return err
		}
		_, s, app, err := about(c)
		if err != nil {
			return err
		}
		g, err := which(ctx, c, s, app, service)
		if err != nil {
			return err
		}
		return do(ctx, c, s, g, part)
	}
}

// showing prints a registration after a change.
func showing(c *cli.Command, g *shape.Registration, err error) error {
	if err != nil {
		return err
	}
	return output(c, g, func(out io.Writer) { showRegistration(out, *g) })
}

// pairs reads NAME=VALUE flags.
func pairs(c *cli.Command, flag string) (map[string]string, error) {
	out := map[string]string{}
	for _, a := range c.StringSlice(flag) {
		k, v, ok := strings.Cut(a, "=")
		if !ok || k == "" {
			return nil, &job.Problem{What: fmt.Sprintf("--%s %s: NAME=VALUE is expected", flag, a)}
		}
		out[k] = v
	}
	return out, nil
}

// secrets reads NAME=FILE flags; - is standard input. A secret never stands in an argument, where others could see it.
func secrets(c *cli.Command, flag string) (map[string]string, error) {
	names, err := pairs(c, flag)
	if err != nil {
		return nil, &job.Problem{What: err.Error(), Hint: "Name a file that holds it, or - for standard input: --" + flag + " NAME=FILE."}
	}
	out := map[string]string{}
	for name, file := range names {
		b, err := readInput(file)
		if err != nil {
			return nil, err
		}
		clean := sheet.Clean(string(b))
		for _, t := range clean.Took {
			fmt.Fprintf(os.Stderr, "  %s was cleaned: %s\n", name, t)
		}
		out[name] = clean.Value
	}
	return out, nil
}

// readInput reads a file of reasonable size, or standard input for -.
func readInput(file string) ([]byte, error) {
	const most = 16 << 20
	in := os.Stdin
	if file != "-" {
		f, err := os.Open(file)
		if err != nil {
			return nil, &job.Problem{What: "cannot read", Hint: "Name a file that is there, or - for standard input.", Err: err}
		}
		defer f.Close()
		in = f
	}
	b, err := io.ReadAll(io.LimitReader(in, most+1))
	if err == nil && len(b) > most {
		err = &job.Problem{What: fmt.Sprintf("%s has more than %d MB", file, most>>20), Hint: "Is it another file than was meant?"}
	}
	return b, err
}

func registerCommand() *cli.Command {
	return command(&cli.Command{
		Name: "register", Usage: "register the app with a service, or add to a registration", ArgsUsage: "SERVICE",
		Description: "Identities, signing digests, launcher activities and frameworks are filled in from the tree, in the form the service\nwants; what another registration supplies is carried over by the server. What would be sent is shown first, with where\neach value was found; --dry-run stops there.\nRunning it again goes on where it stopped and registers nothing twice.",
		Flags: append(passwordFlags(),
			&cli.StringFlag{Name: "app", Usage: "app in the records, where there is no tree"},
			&cli.StringFlag{Name: "environment", Aliases: []string{"e"}, Usage: "environment to register"},
			&cli.StringSliceFlag{Name: "identity", Usage: "application ID or bundle ID to register; may be repeated"},
			&cli.StringSliceFlag{Name: "answer", Usage: "NAME=VALUE, an answer the service asks for; NAME=FILE for an image or a file"},
			&cli.StringSliceFlag{Name: "secret", Usage: "NAME=FILE, an answer nobody may see; - reads standard input"},
			&cli.StringSliceFlag{Name: "feature", Usage: "feature to switch on"},
			&cli.StringSliceFlag{Name: "no-feature", Usage: "feature to switch off"},
			&cli.StringSliceFlag{Name: "redirect", Usage: "redirect URI to keep at the service"},
			&cli.StringSliceFlag{Name: "no-redirect", Usage: "redirect URI to take away"},
			&cli.StringSliceFlag{Name: "berth", Usage: "NAME or NAME=ENVIRONMENT, a place for releases"},
			&cli.StringSliceFlag{Name: "from", Usage: "NAME=SERVICE/ENVIRONMENT, which registration supplies an answer"},
			&cli.StringFlag{Name: "signer", Usage: "register the digest of this signer of the records, beside those that are registered"},
			&cli.BoolFlag{Name: "digests", Usage: "register the signing digests even if no feature needs them yet"},
			&cli.BoolFlag{Name: "dry-run", Usage: "show what would be sent, and send nothing"}),
		Action: func(ctx context.Context, c *cli.Command) error {
			name, err := argument(c, "SERVICE")
			if err != nil {
				return err
			}
			w, s, app, err := about(c)
			if err != nil {
				return err
			}
			o := job.RegisterOptions{Service: name, App: app, Environment: c.String("environment"), Identities: c.StringSlice("identity"), Features: c.StringSlice("feature"), FeaturesOff: c.StringSlice("no-feature"),
				Redirects: c.StringSlice("redirect"), NoRedirects: c.StringSlice("no-redirect"), Digests: c.Bool("digests"), Signer: c.String("signer"), Password: password(c)}
			if o.Answers, err = pairs(c, "answer"); err != nil {
				return err
			}
			if o.From, err = pairs(c, "from"); err != nil {
				return err
			}
			if o.Secrets, err = secrets(c, "secret"); err != nil {
				return err
			}
			for _, b := range c.StringSlice("berth") {
				n, env, _ := strings.Cut(b, "=")
				o.Berths = append(o.Berths, shape.Berth{Name: n, Environment: env})
			}
			if asking() {
				o.Ask = askOne
			}
			var unread []error
			o.Unread = func(err error) { unread = append(unread, err) }
			list, _, err := job.Registering(ctx, w, s, o)
			if err != nil {
				return err
			}
			return registerAll(ctx, c, s, list, o, unread)
		},
	})
}

// askOne asks for an answer, one of several where there are choices.
func askOne(question string, choices []string) (string, error) {
	if len(choices) > 0 {
		return choose(question, choices)
	}
	return line(question + ": ")
}

func registerAll(ctx context.Context, c *cli.Command, s *client.Client, list []shape.Register, o job.RegisterOptions, unread []error) error {
	plans, done := []*shape.Plan{}, []*shape.Registration{}
	for i := range list {
		p, err := job.Complete(ctx, s, &list[i], o.Ask)
		if err != nil {
			return err
		}
		plans = append(plans, p)
		if !jsonWanted(c) {
			showPlan(os.Stderr, p)
		}
	}
	ready := true
	for _, p := range plans {
		ready = ready && p.Ready
	}
	if !ready && len(unread) > 0 && !c.Bool("dry-run") {
		return unread[0]
	}
	if c.Bool("dry-run") {
		for _, err := range unread {
			fmt.Fprintln(os.Stderr, "  could not be read:", err)
		}
		if err := output(c, plans, func(out io.Writer) { fmt.Fprintln(out, "Nothing was sent.") }); err != nil || ready {
			return err
		}
		return errFound
	}
	for _, in := range list {
		g, err := s.Register(ctx, in)
		if err != nil {
			return err
		}
		done = append(done, g)
	}
	if len(done) == 1 {
		return output(c, done[0], func(out io.Writer) { showRegistration(out, *done[0]) })
	}
	return output(c, done, func(out io.Writer) {
		for _, g := range done {
			showRegistration(out, *g)
		}
	})
}

// showPlan prints what goes to a service, and where each value was found.
func showPlan(w io.Writer, p *shape.Plan) {
	where := ""
	if p.Environment != "" {
		where = ", " + p.Environment
	}
	fmt.Fprintf(w, "To %s for %s%s:\n", p.Title, p.App, where)
	if p.ByHand != "" {
		fmt.Fprintf(w, "  %s\n", p.ByHand)
	}
	rows, problems := [][]string{}, []string{}
	several := map[string]bool{} // platforms with more than one identity
	for i, a := range p.Identities {
		for _, b := range p.Identities[:i] {
			several[a.Platform] = several[a.Platform] || a.Platform == b.Platform
		}
	}
	for _, l := range append(append([]shape.PlanLine{}, p.Lines...), p.Redirects...) {
		if !l.Given && !l.Needed && l.Problem == "" {
			continue
		}
		v := l.Value
		if r := []rune(v); len(r) > 70 {
			v = string(r[:67]) + "..."
		}
		v = strings.ReplaceAll(v, "\n", "⏎")
		if l.Secret && l.Given {
			v = "(secret)"
		}
		name := l.Ask
		if l.Identifier != "" {
			name += " (" + l.Platform + ")"
			if several[l.Platform] {
				name += " " + l.Identifier
			}
		}
		mark := "  "
		if l.Problem != "" {
			mark = "✕ "
			problems = append(problems, l.Problem)
		}
		from := ""
		if l.From != "" {
			from = "← " + l.From
		}
		rows = append(rows, []string{mark + name, strings.TrimSpace(v), from})
	}
	table(w, rows)
	for _, x := range problems {
		fmt.Fprintln(w, "  ✕", x)
	}
	for _, d := range p.Duties {
		fmt.Fprintf(w, "  before: %s\n", d.Title)
	}
}

func registrationsCommand() *cli.Command {
	return command(&cli.Command{
		Name: "registrations", Usage: "show the app's registrations and what was issued",
		Flags: []cli.Flag{&cli.StringFlag{Name: "app", Usage: "app in the records, where there is no tree"}},
		Action: func(ctx context.Context, c *cli.Command) error {
			_, s, app, err := about(c)
			if err != nil {
				return err
			}
			list, err := s.Registrations(ctx, app)
			if err != nil {
				return err
			}
			return output(c, list, func(out io.Writer) {
				for i, g := range list {
					if i > 0 {
						fmt.Fprintln(out)
					}
					showRegistration(out, g)
				}
				if len(list) == 0 {
					fmt.Fprintln(out, "None yet. Register with: ligare register SERVICE")
				}
			})
		},
	})
}

func showRegistration(w io.Writer, g shape.Registration) {
	where := ""
	if g.Environment != "" {
		where = ", " + g.Environment
	}
	fmt.Fprintf(w, "%s at %s%s: %s, revision %d\n", g.App, g.Service, where, g.State, g.Revision)
	if g.Problem != "" {
		fmt.Fprintf(w, "  %s\n  next: %s\n", g.Problem, g.Remedy)
	}
	for _, n := range g.Notes {
		fmt.Fprintf(w, "  note: %s\n", n)
	}
	rows := [][]string{}
	if len(g.Features) > 0 {
		rows = append(rows, []string{"  features", strings.Join(g.Features, ", ")})
	}
	for _, b := range g.Berths {
		rows = append(rows, []string{"  berth", strings.TrimSpace(b.Name + "  " + b.Environment)})
	}
	for _, u := range g.Redirects {
		rows = append(rows, []string{"  redirect", u})
	}
	for _, v := range g.Values {
		rows = append(rows, []string{"  " + v.Title, shownValue(v)})
	}
	for _, k := range g.Keys {
		if !k.Current || k.Label != "" {
			rows = append(rows, []string{"  " + k.Title, shownKey(k)})
		}
	}
	table(w, rows)
	for _, i := range g.Identities {
		fmt.Fprintf(w, "  %s %s\n", i.Platform, i.Identifier)
		rows := [][]string{}
		for _, v := range i.Values {
			rows = append(rows, []string{"    " + v.Title, shownValue(v)})
		}
		for _, f := range i.Files {
			say := f.Name
			if g.ByHand {
				say += fmt.Sprintf("  revision %d", f.Revision)
			}
			if f.Old {
				say += "  (older than the registration: " + renew(g, f.Name) + ")"
			}
			if f.Ends != nil {
				say += "  ends " + f.Ends.Format(time.DateOnly)
			}
			rows = append(rows, []string{"    " + f.Kind + " file", say})
		}
		for _, d := range i.Digests {
			rows = append(rows, []string{"    digest", d})
		}
		table(w, rows)
	}
	open := 0
	for _, d := range g.Duties {
		if d.Done == nil {
			open++
		}
	}
	if open > 0 {
		fmt.Fprintf(w, "  duties open: %d  (ligare duty)\n", open)
	}
}

func shownValue(v shape.IssuedValue) string {
	say := ident.Mask(v.Value) + "  may ship in the app"
	if v.Exposure == "server" {
		say = "kept on the server, must not ship"
		if v.Instead != "" {
			say += ": " + strings.TrimSuffix(v.Instead, ".")
		}
	}
	if v.By != "" {
		say += ", recorded by hand"
	}
	return say
}

// renew says how a config file is brought up to date.
func renew(g shape.Registration, file string) string {
	if g.ByHand {
		return "download it again, then ligare record " + g.Service + " --file " + file
	}
	return "ligare refresh " + g.Service
}

func shownKey(k shape.Key) string {
	say := k.ID
	if k.Label != "" {
		say += "  " + k.Label
	}
	if k.Exposure == "client" {
		say += "  " + ident.Mask(k.Value)
	}
	switch {
	case k.Revoked != nil:
		say += "  revoked " + k.Revoked.Format(time.DateOnly)
	case k.Ends != nil:
		say += "  ends " + k.Ends.Format(time.DateOnly)
	case !k.Current && k.Label == "":
		say += "  exchanged, still valid"
	}
	return say
}

func deregisterCommand() *cli.Command {
	return command(&cli.Command{
		Name: "deregister", Usage: "take a registration away, at the service too", ArgsUsage: "SERVICE",
		Description: "What was placed in trees stays until it is taken out there: ligare unplace SERVICE.",
		Flags:       whichFlags(&cli.BoolFlag{Name: "yes", Usage: "do not ask"}),
		Action: onRegistration(func(ctx context.Context, c *cli.Command, s *client.Client, g *shape.Registration) error {
			if ok, err := confirm(c, fmt.Sprintf("Take the registration of %s at %s away, with everything it was issued?", g.App, g.Title)); err != nil || !ok {
				return err
			}
			if err := s.Deregister(ctx, g.ID); err != nil {
				return err
			}
			return output(c, map[string]string{"removed": g.ID}, func(out io.Writer) { fmt.Fprintf(out, "%s is no longer registered at %s.\n", g.App, g.Title) })
		}),
	})
}

func resolveCommand() *cli.Command {
	return command(&cli.Command{
		Name: "resolve", Usage: "say what was found at a service after its answer was lost", ArgsUsage: "SERVICE",
		Flags: whichFlags(&cli.StringFlag{Name: "found", Usage: "the service's name of the registration that is there"}, &cli.BoolFlag{Name: "absent", Usage: "nothing is there; it may be tried again"}),
		Action: onRegistration(func(ctx context.Context, c *cli.Command, s *client.Client, g *shape.Registration) error {
			g, err := s.Resolve(ctx, g.ID, shape.Resolve{Found: c.String("found"), Absent: c.Bool("absent")})
			return showing(c, g, err)
		}),
	})
}
