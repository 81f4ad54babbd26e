package main

import (
	"context"
	"fmt"
	"io"

	"github.com/urfave/cli/v3"

	"ligare/core/survey"
)

func surveyCommand() *cli.Command {
	return command(&cli.Command{
		Name: "survey", Usage: "say what the tree is: identifiers, minimums, signing of every variant, and where each stands",
		Action: func(_ context.Context, c *cli.Command) error {
			w, err := open(c)
			if err != nil {
				return err
			}
			if err := w.NeedApp(); err != nil {
				return err
			}
			return output(c, w.Survey, func(out io.Writer) { showSurvey(out, w.Survey) })
		},
	})
}

// named is a fact as it is shown.
type named struct {
	name string
	fact survey.Fact
}

func showFacts(w io.Writer, facts ...named) {
	var rows [][]string
	for _, f := range facts {
		if f.fact.Say() == "not set" {
			continue
		}
		rows = append(rows, []string{"  " + f.name, f.fact.Say(), f.fact.Place()})
		for _, via := range f.fact.Via {
			rows = append(rows, []string{"", "  ← " + via})
		}
	}
	table(w, rows)
	fmt.Fprintln(w)
}

func showSurvey(w io.Writer, r *survey.Report) {
	for _, m := range r.Android.Modules {
		for _, v := range m.Variants {
			fmt.Fprintf(w, "Android  %s  variant %s\n", m.Dir, v.Name)
			showFacts(w, named{"application ID", v.ApplicationID}, named{"namespace", v.Namespace}, named{"minimum SDK", v.MinSDK}, named{"target SDK", v.TargetSDK},
				named{"launcher activity", v.LauncherActivity}, named{"application class", v.ApplicationClass}, named{"display name", v.DisplayName},
				named{"keystore", v.KeyStore}, named{"key alias", v.KeyAlias})
		}
	}
	for _, p := range r.IOS.Projects {
		for _, t := range p.Targets {
			for _, c := range t.Configurations {
				fmt.Fprintf(w, "iOS  %s  target %s, configuration %s\n", p.Path, t.Name, c.Name)
				showFacts(w, named{"bundle ID", c.BundleID}, named{"deployment target", c.DeploymentTarget}, named{"Info.plist", c.InfoPlist},
					named{"display name", c.DisplayName}, named{"entitlements", c.Entitlements}, named{"signing team", c.SigningTeam})
			}
		}
	}
	if len(r.Unresolved) == 0 {
		fmt.Fprintln(w, "Everything was resolved from the files.")
		return
	}
	fmt.Fprintln(w, "Not resolved:")
	for _, q := range r.Unresolved {
		at := ""
		if q.File != "" {
			at = fmt.Sprintf(" (%s:%d)", q.File, max(q.Line, 1))
		}
		fmt.Fprintf(w, "  %s: %s%s\n", q.What, q.Why, at)
	}
}
