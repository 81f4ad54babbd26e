// Package check turns the evaluator's answers and a survey's facts into findings that read like a colleague's words:
// what was compared, what is here, what should be, why it matters, how to mend it.
package check

import (
	"bytes"
	"crypto/sha256"
	_ "embed"
	"encoding/hex"
	"fmt"
	"slices"
	"sort"
	"strings"

	"go.yaml.in/yaml/v3"

	"ligare/core/binding"
	"ligare/core/ident"
	"ligare/core/sheet"
	"ligare/core/survey"
	"ligare/core/wiring"
)

// Severity of a finding.
type Severity string

// Severities, worst first.
const (
	Error   Severity = "error"
	Warning Severity = "warning"
	Note    Severity = "note"
)

// AtLeast reports whether a severity is as bad as another.
func (s Severity) AtLeast(o Severity) bool { return rank[s] >= rank[o] }

var rank = map[Severity]int{Note: 1, Warning: 2, Error: 3}

// Rule is one check: data, and for those without codes a function.
type Rule struct {
	ID       string   `yaml:"id" json:"id"`
	Title    string   `yaml:"title" json:"title"`
	Severity Severity `yaml:"severity" json:"severity"`
	Codes    []string `yaml:"codes" json:"-"`
	Compares string   `yaml:"compares" json:"compares"`
	Why      string   `yaml:"why" json:"why"`
	Fix      string   `yaml:"fix" json:"fix"`
}

//go:embed rules.yaml
var rulesFile []byte

var rules = func() []*Rule {
	var f struct {
		Rules []*Rule `yaml:"rules"`
	}
	d := yaml.NewDecoder(bytes.NewReader(rulesFile))
	d.KnownFields(true)
	if err := d.Decode(&f); err != nil {
		panic("rules.yaml: " + err.Error()) // shipped with the program and read in every test
	}
	return f.Rules
}()

// Rules gives all rules in the order of the file.
func Rules() []*Rule { return rules }

// RuleByID gives a rule, or nil.
func RuleByID(id string) *Rule {
	for _, r := range rules {
		if r.ID == id {
			return r
		}
	}
	return nil
}

func ruleFor(code string) *Rule {
	for _, r := range rules {
		for _, c := range r.Codes {
			if c == code {
				return r
			}
		}
	}
	return nil
}

// Finding is one thing that is wrong.
type Finding struct {
	Rule        string         `json:"rule"`
	Severity    Severity       `json:"severity"`
	Message     string         `json:"message"`
	Variant     string         `json:"variant"`
	File        string         `json:"file"`
	Line        int            `json:"line"`
	Column      int            `json:"column"`
	Expected    string         `json:"expected"`
	Actual      string         `json:"actual"`
	Why         string         `json:"why"`
	Fix         string         `json:"fix"`
	Fixable     bool           `json:"fixable"`
	Fingerprint string         `json:"fingerprint"`
	Also        []wiring.Place `json:"also,omitempty"`
}

// Place gives file:line:column, as far as known.
func (f Finding) Place() string {
	return wiring.Place{File: f.File, Line: f.Line, Column: f.Column}.String()
}

// NotLooked is a rule that could not look, and why.
type NotLooked struct {
	Rule     string `json:"rule"`
	Reason   string `json:"reason"`
	Required bool   `json:"required"`
}

// Result is what a check found, and how far it could look.
type Result struct {
	Findings  []Finding   `json:"findings"`
	Looked    []string    `json:"looked"`
	NotLooked []NotLooked `json:"notLooked"`
}

// Worst gives the worst severity found, "" for none.
func (r *Result) Worst() Severity {
	worst := Severity("")
	for _, f := range r.Findings {
		if rank[f.Severity] > rank[worst] {
			worst = f.Severity
		}
	}
	return worst
}

// Blind reports whether a required rule could not look.
func (r *Result) Blind() bool {
	for _, n := range r.NotLooked {
		if n.Required {
			return true
		}
	}
	return false
}

// runner collects findings.
type runner struct {
	in     wiring.Input
	out    *Result
	looked map[string]bool
	seen   map[string]int
}

// Run checks a tree. Without registrations (no server and no records) the rules that compare with them say that they
// did not look.
func Run(in wiring.Input, answers []wiring.Answer, noRecords string) *Result {
	r := &runner{in: in, out: &Result{Findings: []Finding{}, Looked: []string{}, NotLooked: []NotLooked{}}, looked: map[string]bool{}, seen: map[string]int{}}
	r.sources()
	if in.Binding != nil {
		r.identifiers()
	} else {
		for _, id := range []string{"identifier-letter-case", "identifier-differs", "identifier-not-registered", "variant-unbound"} {
			r.blind(id, "the tree is not attached to an app: there is no "+binding.File, false)
		}
	}
	for _, rule := range rules {
		if len(rule.Codes) == 0 {
			continue
		}
		if noRecords != "" {
			r.blind(rule.ID, noRecords, true)
			continue
		}
		r.looked[rule.ID] = true
	}
	if noRecords != "" {
		r.blind("identifier-not-registered", noRecords, true)
	}
	for _, a := range answers {
		r.answer(a)
	}
	for id := range r.looked {
		r.out.Looked = append(r.out.Looked, id)
	}
	sort.Strings(r.out.Looked)
	sort.SliceStable(r.out.Findings, func(i, j int) bool {
		a, b := r.out.Findings[i], r.out.Findings[j]
		if rank[a.Severity] != rank[b.Severity] {
			return rank[a.Severity] > rank[b.Severity]
		}
		if a.File != b.File {
			return a.File < b.File
		}
		return a.Line < b.Line
	})
	return r.out
}

func (r *runner) blind(rule, reason string, required bool) {
	for _, n := range r.out.NotLooked {
		if n.Rule == rule && n.Reason == reason {
			return
		}
	}
	r.out.NotLooked = append(r.out.NotLooked, NotLooked{rule, reason, required})
}

// add files a finding; one that has the same cause as an earlier one only adds its variant.
func (r *runner) add(f Finding, vars map[string]string, identity ...string) {
	rule := RuleByID(f.Rule)
	f.Severity, f.Why = rule.Severity, rule.Why
	vars["expected"] = f.Expected
	fix, err := sheet.Fill(rule.Fix, func(k string) (string, bool) { v, ok := vars[k]; return v, ok })
	if err != nil {
		fix = rule.Fix
	}
	f.Fix = fix
	sum := sha256.Sum256([]byte(strings.Join(append([]string{f.Rule, f.File}, identity...), "\x00")))
	f.Fingerprint = hex.EncodeToString(sum[:8])
	if at, ok := r.seen[f.Fingerprint]; ok {
		had := &r.out.Findings[at]
		for _, v := range strings.Split(f.Variant, ", ") {
			if !strings.Contains(", "+had.Variant+", ", ", "+v+", ") {
				had.Variant += ", " + v
			}
		}
		return
	}
	r.seen[f.Fingerprint] = len(r.out.Findings)
	r.out.Findings = append(r.out.Findings, f)
}

// blindRule is the rule that could not look when a placement of a kind could not be judged.
var blindRule = map[string]string{"config-file": "config-file-missing", "licence-file": "config-file-missing", "string-resource": "resource-missing", "manifest-metadata": "manifest-entry-missing", "manifest-permission": "manifest-entry-missing",
	"manifest-activity": "manifest-entry-missing", "manifest-query": "manifest-entry-missing", "repository": "repository-missing", "dependency": "library-missing", "pod": "library-missing", "swift-package": "library-missing",
	"plist-key": "value-missing", "url-scheme": "value-missing", "query-scheme": "value-missing", "usage-description": "value-missing", "background-mode": "value-missing", "entitlement": "value-missing", "associated-domain": "value-missing", "privacy-entry": "value-missing",
	"package-dependency": "package-entry-missing", "engine-package": "package-entry-missing", "init-call": "start-missing", "update-check": "start-missing", "root-component": "root-unwrapped",
	"plugin": "plugin-missing", "local-module": "build-value-missing", "method-count-switch": "build-value-missing", "manifest-placeholder": "build-value-missing", "signing-configuration": "release-unsigned", "keep-rule": "keep-rule-missing", "framework": "target-member-missing", "resource-bundle": "target-member-missing", "script-phase": "script-missing", "app-extension": "extension-missing", "settings-include": "settings-not-included", "deployment-target": "minimum-too-low", "vendored-archive": "folder-missing",
	"minimum-sdk":    "minimum-too-low",
	"result-handler": "handler-missing", "opened-address-handler": "handler-missing", "ignore-line": "ignore-line-missing"}

func (r *runner) answer(a wiring.Answer) {
	if a.Good() {
		return
	}
	rule := ruleFor(a.Code)
	if a.State == wiring.Unknown || rule == nil {
		id := blindRule[a.Place]
		if id == "" {
			id = "source-unreadable"
		}
		bound := id == "minimum-too-low" // what decides it may lie outside the tree, in a framework's own files
		r.blind(id, fmt.Sprintf("%s (%s, %s): %s", a.Placement, a.Registration, a.Site(), a.Detail), !bound)
		delete(r.looked, id)
		return
	}
	f := Finding{Rule: rule.ID, Message: capital(a.Detail), Variant: strings.Join(a.Variants, ", "), File: a.Here.File, Line: a.Here.Line, Column: a.Here.Column,
		Expected: a.Expected, Actual: a.Actual, Fixable: a.Fixable, Also: a.Others}
	r.add(f, map[string]string{"service": a.Service, "environment": a.Environment}, a.Subject())
}

func capital(s string) string {
	if s == "" {
		return s
	}
	for _, quiet := range []string{"/", ".", "_"} { // a path or a name of code keeps its letters
		if first, _, _ := strings.Cut(s, " "); strings.Contains(first, quiet) {
			return s
		}
	}
	return strings.ToUpper(s[:1]) + s[1:]
}

// sources reports files that could not be read.
func (r *runner) sources() {
	r.looked["source-unreadable"] = true
	for _, q := range r.in.Survey.Unresolved {
		if q.Broken {
			line, why := q.Line, q.Why
			r.add(Finding{Rule: "source-unreadable", Message: q.File + ": " + why, File: q.File, Line: max(line, 1), Column: 1}, map[string]string{}, q.What)
		}
	}
}

// builds visits every variant with its identifier and what it is bound to.
func (r *runner) builds(visit func(p ident.Platform, site, variant string, id survey.Fact, bound binding.Bound, ok bool)) {
	for _, m := range r.in.Survey.Android.Modules {
		for _, v := range m.Variants {
			b, ok := r.in.Binding.Android[m.Dir][v.Name]
			visit(ident.Android, m.Dir, v.Name, v.ApplicationID, b, ok)
		}
	}
	for _, p := range r.in.Survey.IOS.Projects {
		for _, t := range p.Targets {
			if !t.App() {
				continue
			}
			key := binding.TargetKey(p, t)
			for _, c := range t.Configurations {
				b, ok := r.in.Binding.IOS[key][c.Name]
				visit(ident.IOS, key, c.Name, c.BundleID, b, ok)
			}
		}
	}
}

func (r *runner) identifiers() {
	for _, id := range []string{"identifier-letter-case", "identifier-differs", "identifier-grammar", "identifier-not-registered", "variant-unbound", "variant-gone"} {
		r.looked[id] = true
	}
	r.gone()
	r.builds(func(p ident.Platform, site, variant string, id survey.Fact, bound binding.Bound, ok bool) {
		base := Finding{Variant: variant, File: id.File, Line: id.Line, Column: id.Column, Actual: id.String(), Expected: bound.Identity}
		none := map[string]string{}
		if !ok {
			base.Rule, base.Expected = "variant-unbound", ""
			base.Message = fmt.Sprintf("Variant %s of %s builds %s and is not in %s", variant, site, id.Say(), binding.File)
			r.add(base, none, site, variant)
			return
		}
		values := []string{id.String()}
		for _, x := range id.Possible {
			values = append(values, x.Value)
		}
		if !id.Known() && len(id.Possible) == 0 {
			r.blind("identifier-differs", fmt.Sprintf("variant %s of %s: %s", variant, site, id.Say()), true)
			return
		}
		for _, v := range values {
			if v == "" {
				continue
			}
			base.Actual = v
			if err := ident.Check(p, v); err != nil {
				base.Rule, base.Message = "identifier-grammar", capital(err.Error())
				r.add(base, none, site, v)
			}
			if v == bound.Identity {
				continue
			}
			base.Rule = "identifier-differs"
			if strings.EqualFold(v, bound.Identity) {
				base.Rule = "identifier-letter-case"
			}
			base.Message = fmt.Sprintf("%s builds %s; it is registered as %s: %s", buildName(p, variant), v, bound.Identity, ident.Difference(bound.Identity, v))
			r.add(base, none, site, v, bound.Identity)
		}
		r.uncovered(p, base, bound)
		r.unregistered(p, base, bound)
	})
}

// unregistered reports a variant whose identity none of a service's registrations for its environment has, once for each
// service.
func (r *runner) unregistered(p ident.Platform, f Finding, bound binding.Bound) {
	has, first, alike := map[string]bool{}, map[string]*wiring.Registration{}, map[string]string{}
	var services []string
	for _, reg := range r.in.Registrations {
		if reg.Environment != "" && reg.Environment != bound.Environment || !slices.Contains(reg.Sheet.Platforms, p) {
			continue
		}
		same, near := reg.Find(p, bound.Identity)
		has[reg.Service] = has[reg.Service] || same != nil
		if near != nil {
			alike[reg.Service] = near.ID
		}
		if first[reg.Service] == nil {
			first[reg.Service] = reg
			services = append(services, reg.Service)
		}
	}
	for _, s := range services {
		if has[s] {
			continue
		}
		reg, which := first[s], "--identity "+bound.Identity
		if reg.Environment != "" {
			which = "--environment " + reg.Environment
		}
		f.Rule, f.Expected, f.Actual = "identifier-not-registered", bound.Identity, "not registered"
		f.Message = fmt.Sprintf("%s is not part of a registration at %s for %s", bound.Identity, reg.Sheet.Title, bound.Environment)
		if alike[s] != "" {
			f.Message += fmt.Sprintf("; %s is (only letter case differs)", alike[s])
		}
		r.add(f, map[string]string{"service": s, "which": which}, s, reg.Environment, bound.Identity)
	}
}

// uncovered reports a variant whose environment is not registered with a service that the app uses in another one: the
// service's library is in every build, and has nothing to start with in this one.
func (r *runner) uncovered(p ident.Platform, f Finding, bound binding.Bound) {
	seen := map[string]bool{}
	for _, reg := range r.in.Registrations {
		if seen[reg.Service] || !slices.Contains(reg.Sheet.Platforms, p) {
			continue
		}
		seen[reg.Service] = true
		var in []string
		covered := false
		for _, other := range r.in.Registrations {
			if other.Service == reg.Service {
				covered = covered || other.Environment == "" || other.Environment == bound.Environment
				in = append(in, other.Environment)
			}
		}
		if covered {
			continue
		}
		f.Rule, f.Expected, f.Actual = "identifier-not-registered", bound.Identity, "not registered"
		f.Message = fmt.Sprintf("%s is bound to %s; %s is registered for %s only", bound.Identity, bound.Environment, reg.Sheet.Title, strings.Join(in, ", "))
		r.add(f, map[string]string{"service": reg.Service, "which": "--environment " + bound.Environment}, reg.Service, bound.Environment, bound.Identity)
	}
}

// gone reports variants that are bound and that the tree does not have.
func (r *runner) gone() {
	have := map[string]bool{}
	r.builds(func(p ident.Platform, site, variant string, _ survey.Fact, _ binding.Bound, _ bool) {
		have[string(p)+" "+site+" "+variant] = true
	})
	for p, groups := range map[ident.Platform]map[string]map[string]binding.Bound{ident.Android: r.in.Binding.Android, ident.IOS: r.in.Binding.IOS} {
		for site, variants := range groups {
			for v, b := range variants {
				if !have[string(p)+" "+site+" "+v] {
					r.add(Finding{Rule: "variant-gone", Message: fmt.Sprintf("%s binds variant %s of %s to %s, and the tree has no such variant", binding.File, v, site, b.Identity),
						Variant: v, File: binding.File, Line: 1, Column: 1, Expected: site + " " + v, Actual: "not in the tree"}, map[string]string{}, string(p), site, v)
				}
			}
		}
	}
}

func buildName(p ident.Platform, variant string) string {
	if p == ident.Android {
		return "Variant " + variant
	}
	return "Configuration " + variant
}
