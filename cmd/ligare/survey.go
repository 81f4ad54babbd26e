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

func showSurvey(w io.Writer, r *survey.Report) {
	show := func(rows [][]string, name string, f survey.Fact) [][]string {
		if f.Say() == "not set" {
			return rows
		}
		rows = append(rows, []string{"  " + name, f.Say(), f.Place()})
		for _, via := range f.Via {
			rows = append(rows, []string{"", "  ← " + via})
		}
		return rows
	}
	for _, m := range r.Android.Modules {
		for _, v := range m.Variants {
			fmt.Fprintf(w, "Android  %s  variant %s\n", m.Dir, v.Name)
			var rows [][]string
			rows = show(rows, "application ID", v.ApplicationID)
			rows = show(rows, "namespace", v.Namespace)
			rows = show(rows, "minimum SDK", v.MinSDK)
			rows = show(rows, "target SDK", v.TargetSDK)
			rows = show(rows, "launcher activity", v.LauncherActivity)
			rows = show(rows, "application class", v.ApplicationClass)
			rows = show(rows, "display name", v.DisplayName)
			rows = show(rows, "keystore", v.KeyStore)
			rows = show(rows, "key alias", v.KeyAlias)
			table(w, rows)
			fmt.Fprintln(w)
		}
	}
	for _, p := range r.IOS.Projects {
		for _, t := range p.Targets {
			for _, conf := range t.Configurations {
				fmt.Fprintf(w, "iOS  %s  target %s, configuration %s\n", p.Path, t.Name, conf.Name)
				var rows [][]string
				rows = show(rows, "bundle ID", conf.BundleID)
				rows = show(rows, "deployment target", conf.DeploymentTarget)
				rows = show(rows, "Info.plist", conf.InfoPlist)
				rows = show(rows, "display name", conf.DisplayName)
				rows = show(rows, "entitlements", conf.Entitlements)
				rows = show(rows, "signing team", conf.SigningTeam)
				table(w, rows)
				fmt.Fprintln(w)
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
