package main

import (
	"context"
	"fmt"
	"io"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"ligare/core/built"
	"ligare/core/check"
	"ligare/job"
)

func inspectCommand() *cli.Command {
	return command(&cli.Command{
		Name: "inspect", Usage: "say what a built package holds: identifiers, signers, what it asks for, config files", ArgsUsage: "FILE",
		Description: "FILE is an APK, AAB or IPA. Nothing is unpacked onto the disk, and no server is asked.",
		Flags: []cli.Flag{
			&cli.BoolFlag{Name: "verify", Usage: "verify every signature, over the whole file"},
			&cli.BoolFlag{Name: "strings", Usage: "list the string resources in every configuration"},
			&cli.BoolFlag{Name: "bare", Usage: "identifiers and signers, without looking for services' files"},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			name, err := argument(c, "FILE")
			if err != nil {
				return err
			}
			p, err := job.Inspect(ctx, name, job.InspectOptions{Verify: c.Bool("verify"), Strings: c.Bool("strings"), Bare: c.Bool("bare")})
			if err != nil {
				return err
			}
			defer p.Close()
			if err := output(c, p.Facts, func(w io.Writer) { showFacts(w, p.Facts) }); err != nil {
				return err
			}
			if s := p.Facts.Signing; s != nil && s.Verified != nil && !*s.Verified {
				return errFound
			}
			return nil
		},
	})
}

func showFacts(w io.Writer, f *built.Facts) {
	if f.Inside != "" {
		fmt.Fprintf(w, "%s, out of an archive of packages\n\n", f.Inside)
	}
	if f.Android != nil {
		showAndroid(w, f)
	}
	if f.Executable != nil {
		fmt.Fprintln(w, "an executable")
		var r rows
		codeRows(&r, f.Executable)
		table(w, r)
	}
	if f.Profile != nil {
		fmt.Fprintln(w, "a provisioning profile")
		var r rows
		profileRows(&r, f.Profile)
		table(w, r)
	}
	for i, a := range f.IOS {
		if i > 0 {
			fmt.Fprintln(w)
		}
		showBundle(w, a)
	}
	if f.Signing != nil {
		showSigning(w, f.Signing)
	}
	for _, x := range f.Files {
		fmt.Fprintf(w, "\n%s  (%s)\n", x.Path, x.Service)
		var rows [][]string
		for _, r := range x.Reads {
			rows = append(rows, []string{"  " + r.Name, short(r.Value)})
		}
		table(w, rows)
		if x.Problem != "" {
			fmt.Fprintf(w, "  %s  %s\n", paint(check.Error, "problem"), x.Problem)
		}
	}
	for _, n := range f.Notes {
		fmt.Fprintf(w, "\n%s  %s\n", paint(check.Note, "note"), n)
	}
}

// rows collects what is not empty.
type rows [][]string

func (r *rows) add(name, value string) {
	if value != "" {
		*r = append(*r, []string{"  " + name, oneLine(value)})
	}
}

func (r *rows) list(name string, list []string) {
	for i, x := range list {
		if i > 0 {
			name = ""
		}
		*r = append(*r, []string{"  " + name, oneLine(x)})
	}
}

// oneLine writes line ends of a value as they are written in source.
func oneLine(s string) string {
	return strings.NewReplacer("\n", `\n`, "\r", `\r`, "\t", `\t`).Replace(s)
}

func texts(list []built.Text) string {
	var out []string
	for _, t := range list {
		if t.Config != "" {
			t.Value += " (" + t.Config + ")"
		}
		out = append(out, t.Value)
	}
	return strings.Join(out, ", ")
}

func showAndroid(w io.Writer, f *built.Facts) {
	a := f.Android
	kind := string(f.Kind)
	if len(kind) == 3 {
		kind = strings.ToUpper(kind)
	}
	var r rows
	if f.Kind == built.Resources {
		fmt.Fprintf(w, "a %s, %s\n", kind, size(f.Size))
		for _, s := range a.Strings {
			r.add("string "+s.Name, texts(s.Values))
		}
		table(w, r)
		return
	}
	fmt.Fprintf(w, "%s  (%s, %s)\n", a.ApplicationID, kind, size(f.Size))
	r.add("version", strings.TrimSpace(a.VersionName+" ("+a.VersionCode+")"))
	r.add("SDK", fmt.Sprintf("minimum %s, target %s%s", a.MinSDK, a.TargetSDK, prefixed(", built with ", a.CompileSDK)))
	r.add("name", texts(a.Label))
	r.add("launcher", a.LauncherActivity)
	r.add("application", a.ApplicationClass)
	r.add("part", a.Split)
	r.list("modules", a.Modules)
	if a.Debuggable {
		r.add("debuggable", "yes: a debugger can be attached")
	}
	if a.TestOnly {
		r.add("test only", "yes: no store takes it")
	}
	r.add("native code", strings.Join(a.NativeABIs, ", "))
	var perms []string
	for _, p := range a.Permissions {
		perms = append(perms, p.Name+prefixed(" up to SDK ", p.MaxSDK))
	}
	r.list("permissions", perms)
	var meta []string
	for _, m := range a.Metadata {
		say := m.Name + " = " + m.Value
		switch {
		case m.Lost:
			say += "  (a float: the last digits of the number are lost; place it as a string resource)"
		case m.Resource != "":
			say += "  (" + m.Resource + ")"
		case m.Type != "string":
			say += "  (" + m.Type + ")"
		}
		meta = append(meta, say)
	}
	r.list("metadata", meta)
	r.list("URL schemes", a.URLSchemes)
	r.list("claimed hosts", a.AppLinks)
	r.list("sees", slices.Concat(a.Queries.Packages, a.Queries.Providers))
	var parts []string
	for _, k := range a.Components {
		say := k.Kind + " " + k.Name
		if k.Exported != nil && *k.Exported {
			say += ", exported"
		}
		if n := len(k.Filters); n > 0 {
			say += ", answers to " + strconv.Itoa(n) + " kind" + plural(n)
		}
		parts = append(parts, say)
	}
	r.list("components", parts)
	for _, s := range a.Strings {
		r.add("string "+s.Name, texts(s.Values))
	}
	table(w, r)
}

func plural(n int) string {
	if n == 1 {
		return ""
	}
	return "s"
}

func prefixed(prefix, s string) string {
	if s == "" {
		return ""
	}
	return prefix + s
}

func showSigning(w io.Writer, s *built.Signing) {
	fmt.Fprintln(w)
	shown := map[string]string{} // certificate -> scheme it was shown with
	for _, x := range s.Signers {
		head := "signed by scheme " + x.Scheme + prefixed(", ", x.File)
		if x.MinSDK > 0 {
			head += fmt.Sprintf(", from SDK %d", x.MinSDK)
		}
		if x.MaxSDK > 0 {
			head += fmt.Sprintf(" to %d", x.MaxSDK)
		}
		switch {
		case x.Verified != nil && *x.Verified:
			head += ": holds"
		case x.Problem != "":
			head += ": " + paint(check.Error, "does not hold") + ": " + x.Problem
		}
		fmt.Fprintln(w, head)
		var r rows
		for i, c := range x.Certificates {
			if at, had := shown[c.Digests.SHA256Hex]; had && i == 0 {
				r.add("subject", c.Subject+", the certificate of scheme "+at)
			} else if i == 0 {
				shown[c.Digests.SHA256Hex] = x.Scheme
				certificateRows(&r, &c)
			} else {
				r.add("above it", c.Subject)
			}
		}
		for _, l := range x.Lineage[:max(0, len(x.Lineage)-1)] {
			r.add("came from", l.Subject+", SHA-256 "+l.Digests.SHA256Colons)
		}
		table(w, r)
	}
	if s.Note != "" {
		fmt.Fprintln(w, s.Note)
	}
}

func certificateRows(r *rows, c *built.Certificate) {
	r.add("subject", c.Subject)
	if c.NotAfter != nil {
		r.add("valid until", c.NotAfter.Format(time.DateOnly))
	}
	if c.Key != "" {
		r.add("key", fmt.Sprintf("%s, %d bits", c.Key, c.Bits))
	}
	r.add("SHA-256", c.Digests.SHA256Colons)
	r.add("", c.Digests.SHA256Base64)
	r.add("SHA-1", c.Digests.SHA1Colons)
	r.add("", c.Digests.SHA1Base64)
	r.add("problem", c.Problem)
}

func showBundle(w io.Writer, a *built.App) {
	fmt.Fprintf(w, "%s  (%s%s)\n", a.BundleID, a.Kind, prefixed(", ", a.Path))
	var r rows
	r.add("name", texts(append([]built.Text{{Value: a.DisplayName}}, a.DisplayNames...)))
	r.add("version", strings.TrimSpace(a.Version+" ("+a.Build+")"))
	r.add("needs", prefixed("iOS ", a.MinimumOS))
	r.add("extends", a.ExtensionPoint)
	r.add("Info.plist", a.Encoding)
	r.list("URL schemes", a.URLSchemes)
	r.list("query schemes", a.QuerySchemes)
	r.list("background", a.BackgroundModes)
	for _, k := range slices.Sorted(maps.Keys(a.UsageDescriptions)) {
		r.add(strings.TrimSuffix(strings.TrimPrefix(k, "NS"), "UsageDescription"), a.UsageDescriptions[k])
	}
	if a.Signature != nil {
		codeRows(&r, a.Signature)
	}
	if a.Profile != nil {
		profileRows(&r, a.Profile)
	}
	for i, p := range a.Privacy {
		name := "privacy"
		if i > 0 {
			name = ""
		}
		say := p.Path
		if p.Tracking {
			say += ", tracks" + prefixed(" through ", strings.Join(p.TrackingDomains, ", "))
		}
		r.add(name, say)
	}
	r.list("problem", a.Problems)
	table(w, r)
}

func codeRows(r *rows, s *built.CodeSignature) {
	var kinds []string
	for _, x := range s.Slices {
		if kinds = append(kinds, x.Architecture); !x.Signed {
			kinds[len(kinds)-1] += " (not signed)"
		}
	}
	r.add("code signature", s.Identifier+prefixed(", team ", s.Team)+", "+strings.Join(kinds, " and "))
	if s.Adhoc {
		r.add("", "signed by nobody")
	}
	for i, c := range s.Certificates {
		if i == 0 {
			certificateRows(r, &c)
		} else {
			r.add("above it", c.Subject)
		}
	}
	for _, k := range slices.Sorted(maps.Keys(s.Entitlements)) {
		r.add("entitlement", fmt.Sprintf("%s = %v", k, s.Entitlements[k]))
	}
	if len(s.Differs) > 0 {
		r.add("problem", "the architectures do not agree on "+strings.Join(s.Differs, ", "))
	}
}

func profileRows(r *rows, p *built.Profile) {
	r.add("profile", p.Name+" ("+p.Kind+") of team "+strings.Join(p.Team, ", ")+prefixed(" ", p.TeamName))
	if id, ok := p.Entitlements["application-identifier"].(string); ok {
		r.add("", "for "+id)
	}
	if p.Ends != nil {
		r.add("", "until "+p.Ends.Format(time.DateOnly))
	}
	switch {
	case p.AllDevices:
		r.add("", "for every device")
	case len(p.Devices) > 0:
		r.add("", fmt.Sprintf("for %d device%s", len(p.Devices), plural(len(p.Devices))))
	}
	for _, c := range p.Certificates {
		r.add("may sign", c.Subject+prefixed(", until ", day(c.NotAfter)))
	}
}

func day(t *time.Time) string {
	if t == nil {
		return ""
	}
	return t.Format(time.DateOnly)
}
