package check

import (
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"ligare/core/binding"
	"ligare/core/sheet"
	"ligare/core/survey"
	"ligare/core/syntax/json"
	"ligare/core/syntax/yaml"
	"ligare/core/wiring"
)

// policies holds what version control does with config files against what the tree says it should.
func (r *runner) policies() {
	for _, reg := range r.in.Registrations {
		files, err := wiring.ConfigFiles(r.in.Input, reg)
		if err != nil {
			r.blind("config-file-policy", reg.Key()+": "+err.Error(), false)
			continue
		}
		for _, c := range files {
			state, ok := r.in.Tracked[c.Path]
			f := Finding{Rule: "config-file-policy", Variant: strings.Join(c.Variants, ", "), File: c.Path, Line: 1, Column: 1, cause: c.Path}
			switch {
			case !ok:
				continue
			case r.in.Binding.ConfigFiles == binding.Fetched && state.Tracked:
				f.Expected, f.Actual = "fetched by the build", "in version control"
				f.Message = fmt.Sprintf("%s is in version control, and %s says that config files are fetched", c.Path, binding.File)
			case r.in.Binding.ConfigFiles == binding.Fetched && state.Ever:
				f.Severity, f.Expected, f.Actual = Warning, "fetched by the build", "in the history"
				f.Message = fmt.Sprintf("%s was in version control once, and is in its history", c.Path)
			case r.in.Binding.ConfigFiles == binding.Committed && state.Ignored && !state.Tracked:
				f.Expected, f.Actual = "in version control", "ignored by "+state.Rule
				f.Message = fmt.Sprintf("%s is ignored (%s), and %s says that config files are committed: the build server will not have it", c.Path, state.Rule, binding.File)
			default:
				continue
			}
			r.add(f, map[string]string{"service": reg.Service}, c.Path)
		}
	}
}

// licences looks when the licence and config files in the tree end.
func (r *runner) licences() {
	for _, reg := range r.in.Registrations {
		files, err := wiring.ConfigFiles(r.in.Input, reg)
		if err != nil {
			r.blind("licence-ends", reg.Key()+": "+err.Error(), false)
			continue
		}
		for _, c := range files {
			if c.File.Read["ends"] == "" {
				continue
			}
			src, err := r.in.Tree.Read(c.Path)
			if err != nil {
				continue
			}
			got, err := c.File.Contents(src)
			if err != nil {
				continue
			}
			says, ok := sheet.One(got, "ends")
			if !ok {
				continue
			}
			ends, err := time.Parse(time.RFC3339, says.Value)
			if err != nil {
				if ends, err = time.Parse(time.DateOnly, says.Value); err != nil {
					r.blind("licence-ends", fmt.Sprintf("%s: its end %q is no date", c.Path, says.Value), false)
					continue
				}
			}
			left := ends.Sub(r.in.Now)
			if left > soon {
				continue
			}
			f := Finding{Rule: "licence-ends", Variant: strings.Join(c.Variants, ", "), File: c.Path, Line: max(says.Line, 1), Column: max(says.Column, 1), Actual: says.Value, cause: c.Path}
			if left < 0 {
				f.Message = fmt.Sprintf("%s's %s for %s ended on %s", reg.Sheet.Title, c.File.Name, c.Identity, ends.UTC().Format(time.DateOnly))
			} else {
				f.Severity = Warning
				f.Message = fmt.Sprintf("%s's %s for %s ends on %s, in %d days", reg.Sheet.Title, c.File.Name, c.Identity, ends.UTC().Format(time.DateOnly), int(left/(24*time.Hour)))
			}
			r.add(f, map[string]string{"service": reg.Service}, c.Path)
		}
	}
}

// standing reports what the records say is unfinished: registrations, test keys, what only a person can do.
func (r *runner) standing() {
	if r.in.Records == nil {
		return
	}
	at := func(rule string) Finding { return Finding{Rule: rule, File: binding.File} }
	for _, g := range r.in.Records.Registrations {
		name := serviceTitle(r, g.Service)
		where := name
		if g.Environment != "" {
			where += " for " + g.Environment
		}
		vars := map[string]string{"service": g.Service}
		if g.State != "registered" {
			f := at("registration-unfinished")
			f.Expected, f.Actual = "registered", g.State
			f.Message = fmt.Sprintf("The registration at %s was not completed (%s)", where, g.State)
			if g.Problem != "" {
				f.Message += ": " + g.Problem
			}
			r.add(f, vars, g.Service, g.Environment)
		}
		if g.Silent && g.State == "registered" {
			f := at("silent")
			f.Message, f.cause = fmt.Sprintf("%s has seen nothing of this app yet", where), g.Service+g.Environment
			r.add(f, vars, g.Service, g.Environment)
		}
		for _, k := range g.Keys {
			if k.Label == "" || k.Ends.IsZero() || k.Ends.After(r.in.Now) || !k.Revoked.IsZero() {
				continue
			}
			f := at("key-of-test-kept")
			f.Actual = k.Ends.UTC().Format(time.DateOnly)
			f.Message = fmt.Sprintf("The test key %q at %s ended on %s and still holds", k.Label, where, f.Actual)
			r.add(f, vars, g.Service, g.Environment, k.Name, k.Label)
		}
		for _, d := range g.Differs {
			f := at("answer-differs-there")
			f.Message = fmt.Sprintf("%s has something else than it was told: %s", where, d.Title)
			if d.Nothing {
				f.Message = fmt.Sprintf("%s was told, and has nothing: %s", where, d.Title)
			}
			if d.Identity != "" {
				f.Message += " for " + d.Identity
			}
			f.Message += seenOn(g)
			r.add(f, map[string]string{"service": g.Service, "answer": d.Answer}, g.Service, g.Environment, d.Answer, d.Identity)
		}
		for _, o := range g.Open {
			r.open(at("access-open"), g, o, where)
		}
		for _, d := range g.Duties {
			if d.Done {
				continue
			}
			f := at("duty-open")
			f.Message, f.cause = fmt.Sprintf("%s, before %s: %s", name, d.Before, d.Title), g.Service+d.ID
			r.add(f, map[string]string{"service": g.Service, "duty": d.ID}, g.Service, g.Environment, d.ID)
		}
	}
	for _, c := range r.in.Records.Supplies {
		f := at("supplied-value-missing")
		f.Message = fmt.Sprintf("%s: %s", serviceTitle(r, c.Service), c.Say)
		switch {
		case c.Old:
			f.Rule = "supplied-value-old"
		case !c.Needed || c.There:
			continue
		}
		r.add(f, map[string]string{"service": c.Service, "slot": c.Slot}, c.Service, c.Environment, c.Slot)
	}
}

// seenOn says when a service was asked last.
func seenOn(g Registration) string {
	if g.Looked.IsZero() {
		return ""
	}
	return " (seen on " + g.Looked.UTC().Format(time.DateOnly) + ")"
}

// warned is how long before its end open access is warned of.
const warned = 14 * 24 * time.Hour

func (r *runner) open(f Finding, g Registration, o OpenAccess, where string) {
	f.Message = fmt.Sprintf("%s lets anybody use %s%s", where, o.What, seenOn(g))
	if !o.Until.IsZero() {
		f.Actual = "open until " + o.Until.UTC().Format(time.DateOnly)
		switch left := o.Until.Sub(r.in.Now); {
		case left < 0:
			f.Severity = Error
			f.Message = fmt.Sprintf("%s let anybody use %s until %s, and refuses everybody since%s", where, o.What, o.Until.UTC().Format(time.DateOnly), seenOn(g))
		default:
			if left < warned {
				f.Severity = Warning
			}
			f.Message += fmt.Sprintf("; on %s it begins to refuse everybody", o.Until.UTC().Format(time.DateOnly))
		}
	}
	r.add(f, map[string]string{"service": g.Service}, g.Service, g.Environment, o.What)
}

// features looks for switches that are off and without which what was issued is not complete, and for catalogues that
// differ from what shall be sold.
func (r *runner) features() {
	for _, reg := range r.in.Registrations {
		known := r.in.Records.registration(reg.Key())
		if known == nil {
			continue
		}
		vars := map[string]string{"service": reg.Service}
		for i := range reg.Sheet.Features {
			x := &reg.Sheet.Features[i]
			if slices.Contains(known.Features, x.ID) {
				continue
			}
			vars["feature"] = x.ID
			f := Finding{Rule: "feature-off", File: binding.File, Expected: "on", Actual: "off", cause: reg.Service + x.ID}
			for j := range reg.Sheet.Issues.Files {
				if file := &reg.Sheet.Issues.Files[j]; file.When == x.ID {
					f.Message = fmt.Sprintf("%s is not switched on at %s, and %s is not complete without it", x.Title, reg.Sheet.Title, file.Name)
					if !r.has(reg, file) {
						f.Severity = Note // nothing counts on it yet
					}
				}
			}
			if f.Message == "" && x.Default {
				f.Severity, f.Message = Note, fmt.Sprintf("%s, which is on from the start, is switched off at %s", x.Title, reg.Sheet.Title)
			}
			if f.Message != "" {
				r.add(f, vars, reg.Key(), x.ID)
			}
		}
		for _, say := range known.Catalogue {
			r.add(Finding{Rule: "catalogue-differs", File: binding.File, Message: reg.Sheet.Title + ": " + say}, vars, reg.Key(), say)
		}
	}
}

// has reports whether a registration's file stands in the tree.
func (r *runner) has(reg *wiring.Registration, file *sheet.File) bool {
	files, err := wiring.ConfigFiles(r.in.Input, reg)
	return err == nil && slices.ContainsFunc(files, func(c wiring.ConfigFile) bool { return c.File.ID == file.ID && r.in.Tree.Has(c.Path) })
}

// Supply is a value that one service wants from another.
type Supply struct {
	Service, Environment, Slot string
	Say                        string // how it stands, in words
	Needed, There, Old         bool   // it is wanted; the service has some value; not the one that holds now
}

// locks holds what lock files pin against the versions that services want, and looks whether they are kept.
func (r *runner) locks() {
	for _, file := range r.in.Survey.Files {
		state := r.in.Tracked[file.File]
		f := Finding{File: file.File, Line: 1, Column: 1, cause: file.File}
		switch file.What {
		case survey.LockFile:
			if file.There && state.Ignored && !state.Tracked && r.in.Missing[History] == "" {
				f.Rule, f.Actual = "lock-file-ignored", "ignored by "+state.Rule
				f.Message = fmt.Sprintf("%s is ignored (%s)", file.File, state.Rule)
				r.add(f, nil, file.File)
			}
		case survey.InstalledPackages:
			if state.Tracked {
				f.Rule, f.Actual = "packages-tracked", "in version control"
				f.Message = fmt.Sprintf("%s is in version control: what a package manager put there", path.Dir(file.File))
				r.add(f, nil, file.File)
			}
		}
	}
	pinned := r.pinned()
	for _, a := range r.in.Answers {
		name, want := a.Params["pod"], a.Params["requirement"]
		if name == "" {
			name, want = a.Params["name"], a.Params["version"]
		}
		if !a.Good() || name == "" || want == "" || a.Place != "pod" && a.Place != "package-dependency" {
			continue
		}
		least := strings.TrimLeft(want, "~>^=< v")
		for _, p := range pinned {
			if p.name != name {
				continue
			}
			if low, ok := wiring.Under(p.version, least); ok && low {
				r.add(Finding{Rule: "lock-file-old", Variant: strings.Join(a.Variants, ", "), File: p.at.File, Line: p.at.Line, Column: p.at.Column, Expected: want, Actual: p.version, cause: p.at.Place(),
					Message: fmt.Sprintf("%s pins %s at %s; %s is asked for", p.at.File, name, p.version, want)}, map[string]string{"service": a.Service}, name)
			}
		}
	}
}

// pinned lists what the lock files pin, as far as their formats are read: CocoaPods, npm, pub.
func (r *runner) pinned() []used {
	var out []used
	for _, file := range r.in.Survey.Files {
		if file.What != survey.LockFile || !file.There {
			continue
		}
		src, err := r.in.Tree.Read(file.File)
		if err != nil {
			continue
		}
		add := func(name, version string, line, column int) {
			out = append(out, used{name: name, version: version, at: survey.Fact{File: file.File, Line: line, Column: column}})
		}
		switch path.Base(file.File) {
		case "Podfile.lock":
			docs, err := yaml.Parse(src)
			if err != nil || len(docs) == 0 {
				continue
			}
			if pods := docs[0].Get("PODS"); pods != nil {
				for _, p := range pods.Items {
					text := p.Text
					if len(p.Keys) == 1 {
						text = p.Keys[0]
					}
					name, version, ok := strings.Cut(text, " (")
					if ok {
						add(name, strings.TrimSuffix(version, ")"), p.Line, p.Column)
					}
				}
			}
		case "pubspec.lock":
			docs, err := yaml.Parse(src)
			if err != nil || len(docs) == 0 {
				continue
			}
			if all := docs[0].Get("packages"); all != nil {
				for i, k := range all.Keys {
					if v := all.Items[i].Get("version"); v != nil {
						add(k, v.Text, v.Line, v.Column)
					}
				}
			}
		case "package-lock.json":
			f, err := json.Parse(src)
			if err != nil {
				continue
			}
			for _, all := range f.At("/packages") {
				for _, m := range all.Members {
					name, ok := strings.CutPrefix(m.Name, "node_modules/")
					if !ok || strings.Contains(name, "node_modules/") {
						continue
					}
					if i := slices.IndexFunc(m.Value.Members, func(x json.Member) bool { return x.Name == "version" }); i >= 0 {
						line, column := f.Position(m.Value.Members[i].Value)
						add(name, m.Value.Members[i].Value.Text, line, column)
					}
				}
			}
		}
	}
	return out
}
