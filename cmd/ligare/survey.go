package main

import (
	"context"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"ligare/core/report"
	"ligare/core/survey"
	"ligare/job"
)

func lookFlags() []cli.Flag {
	return []cli.Flag{
		&cli.BoolFlag{Name: "home", Usage: "also read your home folder: Gradle's own properties, the debug keystore"},
		&cli.BoolFlag{Name: "environment", Usage: "also read environment variables that build files name"},
	}
}

func surveyCommand() *cli.Command {
	return command(&cli.Command{
		Name: "survey", Usage: "say what the tree is: identifiers, minimums, signing of every variant, and where each stands",
		Description: "What counts comes first; --details shows everything, with the chain by which each answer was found.\nOnly the tree is read, unless --home or --environment allow more.",
		Flags: append(lookFlags(),
			&cli.BoolFlag{Name: "details", Usage: "show everything that was found"},
			&cli.StringFlag{Name: "variant", Usage: "show this Android variant or iOS configuration only"},
			&cli.BoolFlag{Name: "send", Usage: "send what counts to the server, so that the console shows it"},
			&cli.BoolFlag{Name: "schema", Usage: "print the JSON Schema of the JSON output"}),
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.Bool("schema") {
				return report.JSON(os.Stdout, survey.Schema())
			}
			w, err := open(c)
			if err != nil {
				return err
			}
			if err := w.NeedApp(); err != nil {
				return err
			}
			if c.Bool("send") {
				s, err := server(c, w)
				if err != nil {
					return err
				}
				if err := w.SendSurvey(ctx, s); err != nil {
					return err
				}
			}
			if name := c.String("variant"); name != "" {
				if err := w.Only(name); err != nil {
					return err
				}
			}
			d, err := w.Describe(ctx)
			if err != nil {
				return err
			}
			return output(c, d, func(out io.Writer) { (&surveyText{w: out, all: c.Bool("details")}).show(d) })
		},
	})
}

// surveyText writes a survey for a person.
type surveyText struct {
	w   io.Writer
	all bool // with chains and everything that was found
}

// seen is one value of a fact with the variants that have it.
type seen struct {
	fact  survey.Fact
	where []string
}

// column is one fact over all variants.
type column struct {
	name   string
	values []seen
}

func (t *surveyText) show(d *job.Described) {
	for _, m := range d.Android.Modules {
		t.module(m)
	}
	for _, p := range d.IOS.Projects {
		for _, g := range p.Targets {
			if t.all || !g.Test() {
				t.target(p, g)
			}
		}
	}
	for _, f := range d.Frameworks {
		t.framework(f)
	}
	t.files(d)
	t.open(d)
}

// add puts a fact of a variant into the columns. Equal values at different places are told apart with --details only.
func (t *surveyText) add(cols []column, name, variant string, f survey.Fact) []column {
	if !f.Set() {
		return cols
	}
	i := slices.IndexFunc(cols, func(c column) bool { return c.name == name })
	if i < 0 {
		cols, i = append(cols, column{name: name}), len(cols)
	}
	c := &cols[i]
	for j := range c.values {
		if c.values[j].fact.Say() == f.Say() && (!t.all || c.values[j].fact.Place() == f.Place()) {
			c.values[j].where = append(c.values[j].where, variant)
			return cols
		}
	}
	c.values = append(c.values, seen{f, []string{variant}})
	return cols
}

// rows writes columns as a table: the name, the value, the variants unless all have it, the place. The chain of the
// first fact, the identifier, is always shown.
func (t *surveyText) rows(cols []column, variants int) {
	var rows [][]string
	split := slices.ContainsFunc(cols, func(c column) bool { return len(c.values) > 1 || len(c.values[0].where) < variants })
	for i, c := range cols {
		for j, v := range c.values {
			name := "  " + c.name
			if j > 0 {
				name = ""
			}
			where := strings.Join(v.where, ", ")
			if len(v.where) == variants {
				where = ""
			}
			value := v.fact.Say()
			if v.fact.Unresolved != "" && !t.all {
				value = "not resolved: see below"
			}
			row := []string{name, value, where, v.fact.Place()}
			if !split {
				row = []string{name, value, v.fact.Place()}
			}
			rows = append(rows, row)
			if t.all || i == 0 {
				for _, via := range v.fact.Via {
					rows = append(rows, []string{"", "  ← " + via})
				}
			}
		}
	}
	table(t.w, rows)
}

func (t *surveyText) module(m *survey.Module) {
	kind := m.Layout
	if m.Framework != "" && m.Framework != m.Layout {
		kind += ", under " + m.Framework
	}
	var names []string
	var cols []column
	for _, v := range m.Variants {
		names = append(names, v.Name)
		v.Each(func(name string, f survey.Fact) { cols = t.add(cols, name, v.Name, f) })
	}
	fmt.Fprintf(t.w, "Android  %s  (%s)  variants: %s\n", m.Dir, kind, strings.Join(names, ", "))
	t.rows(cols, len(m.Variants))
	t.certificates(m)
	t.sideBySide(m)
	if !t.all {
		var more []string
		count := func(n int, one, many string) {
			if n == 1 {
				more = append(more, "1 "+one)
			} else if n > 1 {
				more = append(more, fmt.Sprintf("%d %s", n, many))
			}
		}
		v := m.Variants[0]
		count(len(v.Permissions), "permission", "permissions")
		count(len(v.Metadata), "metadata entry", "metadata entries")
		count(len(v.URLSchemes), "URL scheme", "URL schemes")
		count(len(m.Plugins), "plugin", "plugins")
		count(len(m.Dependencies), "dependency", "dependencies")
		if len(more) > 0 {
			fmt.Fprintf(t.w, "  also: %s (--details shows them)\n", strings.Join(more, ", "))
		}
		fmt.Fprintln(t.w)
		return
	}
	t.named("plugins", m.Plugins)
	var rows [][]string
	for _, r := range m.Repositories {
		rows = append(rows, []string{"    " + r.Where, r.Say(), r.Place()})
	}
	t.block("repositories", rows)
	rows = nil
	for _, d := range m.Dependencies {
		rows = append(rows, []string{"    " + d.Configuration, d.Name, d.Version.Say(), fmt.Sprintf("%s:%d", d.File, d.Line)})
	}
	t.block("dependencies", rows)
	for _, v := range m.Variants {
		fmt.Fprintf(t.w, "  variant %s\n", v.Name)
		t.facts("permissions", v.Permissions)
		t.named("metadata", v.Metadata)
		t.facts("URL schemes", v.URLSchemes)
		t.facts("app links", v.AppLinks)
		t.facts("queries", v.Queries)
		t.named("string resources", v.Strings)
		t.named("build constants", v.Constants)
		t.named("manifest placeholders", v.Placeholders)
		t.entries(v.Entry)
	}
	fmt.Fprintln(t.w)
}

// certificates shows what each keystore signs with, once for the variants that share it.
func (t *surveyText) certificates(m *survey.Module) {
	var order []string
	of := map[string][]string{}
	say := map[string][]string{}
	for _, v := range m.Variants {
		k := v.Certificate
		if k == nil {
			continue
		}
		key := k.File + k.Alias
		if of[key] == nil {
			order = append(order, key)
			say[key] = []string{"SHA-1    " + k.SHA1, "SHA-256  " + k.SHA256}
			if k.Unresolved != "" {
				say[key] = []string{"not known: " + k.Unresolved}
			}
			say[key] = append(say[key], k.Warnings...)
		}
		of[key] = append(of[key], v.Name)
	}
	for _, key := range order {
		fmt.Fprintf(t.w, "  certificate of %s\n", strings.Join(of[key], ", "))
		for _, l := range say[key] {
			fmt.Fprintf(t.w, "    %s\n", l)
		}
	}
}

// sideBySide shows the places an ID can be read from, where they do not all say the same.
func (t *surveyText) sideBySide(m *survey.Module) {
	for _, v := range m.Variants {
		differ := false
		for _, e := range v.Identifiers {
			differ = differ || e.Say() != v.ApplicationID.Say()
		}
		if !differ {
			continue
		}
		fmt.Fprintf(t.w, "  places an ID can be read from, variant %s: only the first counts\n", v.Name)
		var rows [][]string
		for i, e := range v.Identifiers {
			mark := "    "
			if i == 0 {
				mark = "  → "
			}
			rows = append(rows, []string{mark + e.Name, e.Say(), e.Place()})
		}
		table(t.w, rows)
		if !t.all {
			return
		}
	}
}

func (t *surveyText) block(title string, rows [][]string) {
	if len(rows) > 0 {
		fmt.Fprintf(t.w, "  %s\n", title)
		table(t.w, rows)
	}
}

func (t *surveyText) named(title string, list []survey.Entry) {
	var rows [][]string
	for _, e := range list {
		rows = append(rows, []string{"    " + e.Name, e.Say(), e.Place()})
		for _, via := range e.Via {
			rows = append(rows, []string{"", "  ← " + via})
		}
	}
	t.block(title, rows)
}

func (t *surveyText) facts(title string, list []survey.Fact) {
	var rows [][]string
	for _, f := range list {
		rows = append(rows, []string{"    " + f.Say(), f.Place()})
	}
	t.block(title, rows)
}

func (t *surveyText) entries(list []survey.EntryPoint) {
	for _, e := range list {
		fmt.Fprintf(t.w, "  %s %s  %s:%d\n", e.Kind, e.Class, e.File, e.Line)
		var rows [][]string
		for _, c := range e.Calls {
			rows = append(rows, []string{"    calls " + c.Name, c.Place()})
		}
		for _, h := range e.Handlers {
			rows = append(rows, []string{"    handles " + h.Name, h.Place()})
		}
		table(t.w, rows)
	}
}

func (t *surveyText) target(p *survey.Project, g *survey.Target) {
	kind := p.Layout
	if p.Framework != "" && p.Framework != p.Layout {
		kind += ", under " + p.Framework
	}
	var names []string
	var cols []column
	for _, c := range g.Configurations {
		names = append(names, c.Name)
		c.Each(func(name string, f survey.Fact) { cols = t.add(cols, name, c.Name, f) })
	}
	device := ""
	if g.Platform != "iphoneos" {
		device = ", for " + g.Platform
	}
	fmt.Fprintf(t.w, "iOS  %s  target %s (%s%s)  configurations: %s\n", p.Path, g.Name, kind, device, strings.Join(names, ", "))
	t.rows(cols, len(g.Configurations))
	if !t.all || len(g.Configurations) == 0 {
		fmt.Fprintln(t.w)
		return
	}
	t.named("Swift packages", p.Packages)
	t.named("pods", p.Pods)
	for _, l := range [][2]any{{"resources", g.Resources}, {"frameworks", g.Frameworks}, {"script phases", g.ScriptPhases}} {
		var rows [][]string
		for _, x := range l[1].([]string) {
			rows = append(rows, []string{"    " + x})
		}
		t.block(l[0].(string), rows)
	}
	for _, c := range g.Configurations {
		fmt.Fprintf(t.w, "  configuration %s\n", c.Name)
		t.facts("URL schemes", c.URLSchemes)
		t.facts("query schemes", c.QuerySchemes)
		t.facts("background modes", c.BackgroundModes)
		t.facts("associated domains", c.AssociatedDomains)
		t.named("Info.plist", c.PlistKeys)
		t.named("entitlements", c.EntitlementKeys)
		t.named("privacy manifest", c.PrivacyKeys)
		t.entries(c.Entry)
	}
	fmt.Fprintln(t.w)
}

func (t *surveyText) framework(f *survey.Framework) {
	fmt.Fprintf(t.w, "%s  %s", f.Name, f.Dir)
	if f.Version.Set() {
		fmt.Fprintf(t.w, "  version %s (%s)", f.Version.Say(), f.Version.Place())
	}
	fmt.Fprintf(t.w, "\n  native parts are linked %s\n", f.Linking)
	var rows [][]string
	for _, p := range f.Packages {
		odd := false
		for _, l := range []survey.Link{p.Android, p.IOS} {
			odd = odd || l.How == "twice" || l.How == "hand" || l.How == "missing"
		}
		if !odd && !t.all {
			continue
		}
		rows = append(rows, []string{"    " + p.Name, p.Version.Say(), "Android: " + sayLink(p.Android), "iOS: " + sayLink(p.IOS)})
	}
	table(t.w, rows)
	if n := len(f.Packages) - len(rows); n > 0 {
		fmt.Fprintf(t.w, "    %d more packages as usual (--details shows them)\n", n)
	}
	if t.all {
		t.named("facts", f.Facts)
		t.entries(f.Entry)
	}
	fmt.Fprintln(t.w)
}

func sayLink(l survey.Link) string {
	text := map[string]string{"framework": "by the framework", "hand": "by hand", "twice": "twice", "missing": "not linked", "none": "no native half", "unknown": "not known"}[l.How]
	if len(l.Places) > 0 {
		text += " (" + strings.Join(l.Places, ", ") + ")"
	}
	return text
}

func (t *surveyText) files(d *job.Described) {
	if len(d.VersionControl.Files) == 0 {
		return
	}
	fmt.Fprint(t.w, "Files whose state in version control matters")
	if !d.VersionControl.Known {
		fmt.Fprintf(t.w, " (not known: %s)", d.VersionControl.Why)
	}
	fmt.Fprintln(t.w)
	var rows [][]string
	for _, f := range d.VersionControl.Files {
		var says []string
		if !f.There {
			says = append(says, "not there")
		}
		if d.VersionControl.Known {
			switch {
			case f.Tracked && f.Ignored:
				says = append(says, "tracked, although an ignore rule fits it")
			case f.Tracked:
				says = append(says, "tracked")
			case f.Ignored:
				says = append(says, "ignored")
			default:
				says = append(says, "neither tracked nor ignored")
			}
			if f.Committed && !f.Tracked {
				says = append(says, "was committed once")
			}
		}
		rows = append(rows, []string{"  " + f.What, f.File, strings.Join(says, ", ")})
	}
	table(t.w, rows)
	fmt.Fprintln(t.w)
}

// open lists what looks wrong by itself, and what could not be resolved.
func (t *surveyText) open(d *job.Described) {
	if len(d.Notes) > 0 {
		fmt.Fprintln(t.w, "Worth a look:")
		t.questions(d.Notes)
		fmt.Fprintln(t.w)
	}
	if len(d.Unresolved) == 0 {
		fmt.Fprintln(t.w, "Everything was resolved from the files.")
		return
	}
	fmt.Fprintln(t.w, "Not resolved:")
	t.questions(d.Unresolved)
}

// questions writes what is open, each question once.
func (t *surveyText) questions(all []survey.OpenQuestion) {
	type question struct{ what, why, at string }
	var list []question
	times := map[question]int{}
	for _, q := range all {
		what, _, _ := strings.Cut(q.What, " of ")
		at := ""
		if q.File != "" {
			at = fmt.Sprintf("%s:%d", q.File, max(q.Line, 1))
		}
		k := question{what, q.Why, at}
		if times[k] == 0 {
			list = append(list, k)
		}
		times[k]++
	}
	var rows [][]string
	for _, k := range list {
		what := k.what
		if times[k] > 1 {
			what = fmt.Sprintf("%s (%d times)", what, times[k])
		}
		rows = append(rows, []string{"  " + what, k.why})
		if k.at != "" {
			rows = append(rows, []string{"", "  at " + k.at})
		}
	}
	table(t.w, rows)
}
