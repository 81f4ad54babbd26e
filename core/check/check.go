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
	"time"
	"unicode/utf8"

	"go.yaml.in/yaml/v3"

	"ligare/core/binding"
	"ligare/core/cert"
	"ligare/core/ident"
	"ligare/core/sheet"
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

// Rule is one check: data, and for those that are no view of the evaluator's answers one of the functions in looks.
type Rule struct {
	ID       string   `yaml:"id" json:"id"`
	Title    string   `yaml:"title" json:"title"`
	Severity Severity `yaml:"severity" json:"severity"`
	Graded   string   `yaml:"graded" json:"graded,omitempty"` // when it is less, or more
	Needs    []Need   `yaml:"needs" json:"needs,omitempty"`
	By       string   `yaml:"by" json:"by,omitempty"`           // another command that looks: comb
	Package  string   `yaml:"package" json:"package,omitempty"` // true: of built packages too; only: of nothing else
	Mends    bool     `yaml:"mends" json:"-"`                   // placing mends it
	Quiet    bool     `yaml:"quiet" json:"-"`                   // the line it finds is not shown: it holds a secret
	Codes    []string `yaml:"codes" json:"-"`
	Compares string   `yaml:"compares" json:"compares"`
	Why      string   `yaml:"why" json:"why"`
	Fix      string   `yaml:"fix" json:"fix"`
}

// Need is something besides the tree that a rule cannot look without.
type Need string

// What rules need. Views of the evaluator need registrations without saying so.
const (
	Attached      Need = "attached"      // the tree says which app it is
	Registrations Need = "registrations" // what was issued: from the server, or from the tree's own records
	TeamRecords   Need = "records"       // the server's records
	Services      Need = "services"      // what the services say themselves
	History       Need = "history"       // version control
)

// required are the needs without which a check must not pass by default: what it is there to compare is missing.
var required = map[Need]bool{Attached: false, Registrations: true, TeamRecords: false, Services: false, History: false}

// Input is everything a check looks at. What is not at hand is named in Missing with the reason.
type Input struct {
	wiring.Input
	Answers      []wiring.Answer
	Missing      map[Need]string
	Shipped      *Shipped              // what is looked at is a built package; nil for a tree
	Away         []string              // services that were asked and did not answer, and why
	Records      *Records              // nil when missing
	Tracked      map[string]Tracked    // what version control says of the survey's files; nil when missing
	Certificates []cert.Known          // of the keystores at hand, every entry
	Recognised   map[string]Recognised // what the server says of values found, by wiring.Digest
	Waivers      []*Waiver
	Standing     *Standing // nil when everything counts
	Now          time.Time
}

// Recognised is whose a value is that was found where it does not belong.
type Recognised struct {
	Say    string // this is Seedswap's test key
	Server bool   // it must never ship
}

// Tracked is what version control says of one file.
type Tracked struct {
	Tracked, Ignored, Ever bool   // in the index now; fits an ignore rule; was in any commit
	Rule                   string // that ignores it: file:line: pattern
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
	Rule         string         `json:"rule"`
	Severity     Severity       `json:"severity"`
	Message      string         `json:"message"`
	Variant      string         `json:"variant"`
	File         string         `json:"file"`
	Line         int            `json:"line"`
	Column       int            `json:"column"`
	Expected     string         `json:"expected"`
	Actual       string         `json:"actual"`
	Why          string         `json:"why"`
	Fix          string         `json:"fix"`
	Fixable      bool           `json:"fixable"`
	Fingerprint  string         `json:"fingerprint"`
	From         string         `json:"from,omitempty"`    // where what should be comes from
	Excerpt      string         `json:"excerpt,omitempty"` // the line of the place, unless it holds a secret; never sent to the server
	Also         []wiring.Place `json:"also,omitempty"`
	Consequences []string       `json:"consequences,omitempty"` // what else is wrong because of it, and will not be once it is mended

	cause string // findings of one rule with one cause are one
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
	Asked    bool   `json:"-"` // it was asked to look there, so it is said in any case
}

// Result is what a check found, and how far it could look.
type Result struct {
	Findings  []Finding   `json:"findings"`
	Waived    []Waived    `json:"waived,omitempty"`   // accepted, with reason and end
	Standing  []Finding   `json:"standing,omitempty"` // that stood when checking began here
	Gone      []string    `json:"gone,omitempty"`     // stood then, and stand no longer
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

// Require makes rules required that were asked for by name, or by what they need. It is an error to name none.
func (r *Result) Require(names []string) error {
	for _, name := range names {
		known := RuleByID(name) != nil
		for i := range r.NotLooked {
			n := &r.NotLooked[i]
			rule := RuleByID(n.Rule)
			if n.Rule == name || rule != nil && slices.Contains(rule.Needs, Need(name)) {
				n.Required = true
			}
		}
		if _, need := required[Need(name)]; !known && !need {
			return fmt.Errorf("there is no rule %q", name)
		}
	}
	return nil
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
	in     Input
	out    *Result
	looked map[string]bool
	seen   map[string]int
}

// looks are the functions of the rules that are no view of the evaluator's answers; one may serve several rules.
var looks = []struct {
	rules string
	look  func(*runner)
}{
	{"source-unreadable", (*runner).sources},
	{"identifier-grammar identifier-of-template", (*runner).grammar},
	{"identifier-letter-case identifier-differs identifier-is-namespace identifier-not-registered identifier-changed variant-unbound", (*runner).identifiers},
	{"extension-identifier", (*runner).extensions},
	{"launcher-differs display-name-differs", (*runner).launchers},
	{"variant-gone", (*runner).gone},
	{"signer-of-debug certificate-ends signing-alias-missing signing-password-open keystore-tracked", (*runner).signing},
	{"digest-not-registered digest-misread digest-of-store-missing digest-of-colleague-missing", (*runner).digests},
	{"value-twice usage-reason-poor placeholder-left", (*runner).plists},
	{"export-unsaid manifest-entry-misplaced placeholder-left", (*runner).manifests},
	{"option-twice", (*runner).options},
	{"library-look-alike library-version", (*runner).lookAlikes},
	{"dependency-configuration-retired", (*runner).configurations},
	{"tool-too-old", (*runner).tools},
	{"linked-twice not-linked", (*runner).linking},
	{"path-of-a-person", (*runner).personal},
	{"pod-target-unknown", (*runner).pods},
	{"config-file-policy", (*runner).policies},
	{"config-file-copy", (*runner).copies},
	{"licence-ends", (*runner).licences},
	{"registration-unfinished answer-differs-there access-open silent key-of-test-kept duty-open supplied-value-missing supplied-value-old", (*runner).standing},
	{"lock-file-ignored lock-file-old packages-tracked", (*runner).locks},
	{"digest-printed test-code-left value-hard-coded", (*runner).leftovers},
	{"redirect-missing", (*runner).redirects},
	{"feature-off catalogue-differs", (*runner).features},
	{"signing-team-missing signing-team-differs", (*runner).teams},
	{"package-signature-broken package-number-lost package-profile-wrong package-outdated minimum-too-low release-debuggable", (*runner).shipped},
	{"library-of-another-framework library-of-another-ide", (*runner).told},
	{"scope-not-granted trial-value-published", (*runner).sourceTexts},
	{"identifier-apart", (*runner).apart},
	{"local-path-missing", (*runner).localPaths},
	{"release-debuggable", (*runner).debuggable},
	{"icon-unfit", (*runner).icons},
	{"template-code-outdated", (*runner).outdated},
}

// Run checks a tree. A rule whose needs are not met says that it did not look.
func Run(in Input) *Result {
	r := &runner{in: in, out: &Result{Findings: []Finding{}, Looked: []string{}, NotLooked: []NotLooked{}}, looked: map[string]bool{}, seen: map[string]int{}}
	for _, rule := range rules {
		if rule.By != "" || in.Shipped != nil && rule.Package == "" || in.Shipped == nil && rule.Package == "only" {
			continue
		}
		r.looked[rule.ID] = true
		needs := rule.Needs
		if len(rule.Codes) > 0 {
			needs = append([]Need{Registrations}, needs...)
		}
		for _, n := range needs {
			if why := in.Missing[n]; why != "" {
				r.blind(rule.ID, why, required[n])
				delete(r.looked, rule.ID)
				break
			}
		}
	}
	for _, l := range looks {
		if slices.ContainsFunc(strings.Fields(l.rules), r.can) {
			l.look(r)
		}
	}
	for _, a := range r.unplaced() {
		r.answer(a)
	}
	r.unanswered()
	r.setAside(in.Waivers, in.Standing)
	r.finish()
	r.excerpts()
	return r.out
}

// unanswered names, for every rule that looks at what services say, those that did not answer: it looked at the others.
func (r *runner) unanswered() {
	for _, rule := range rules {
		if !r.looked[rule.ID] || !slices.Contains(rule.Needs, Services) {
			continue
		}
		for _, why := range r.in.Away {
			r.out.NotLooked = append(r.out.NotLooked, NotLooked{Rule: rule.ID, Reason: why, Asked: true})
			delete(r.looked, rule.ID)
		}
	}
}

// widestExcerpt is how many characters of a line are shown.
const widestExcerpt = 160

// excerpts gives every finding the line it is at.
func (r *runner) excerpts() {
	lines := map[string][]string{}
	for i := range r.out.Findings {
		f := &r.out.Findings[i]
		if rule := RuleByID(f.Rule); f.Line < 1 || rule != nil && rule.Quiet {
			continue
		}
		text, ok := lines[f.File]
		if !ok {
			if src, err := r.in.Tree.Read(f.File); err == nil && utf8.Valid(src) {
				text = strings.Split(string(src), "\n")
			}
			lines[f.File] = text
		}
		if f.Line <= len(text) {
			line := []rune(strings.TrimRight(text[f.Line-1], "\r"))
			f.Excerpt = string(line[:min(len(line), widestExcerpt)])
		}
	}
}

// finish puts a result in order: the worst first.
func (r *runner) finish() {
	for id := range r.looked {
		r.out.Looked = append(r.out.Looked, id)
	}
	sort.Strings(r.out.Looked)
	for _, list := range [][]Finding{r.out.Findings, r.out.Standing} {
		sort.SliceStable(list, func(i, j int) bool {
			a, b := list[i], list[j]
			if rank[a.Severity] != rank[b.Severity] {
				return rank[a.Severity] > rank[b.Severity]
			}
			if a.File != b.File {
				return a.File < b.File
			}
			return a.Line < b.Line
		})
	}
	if r.out.Findings == nil {
		r.out.Findings = []Finding{}
	}
}

func sortBy[T any](list []T, key func(T) string) {
	sort.SliceStable(list, func(i, j int) bool { return key(list[i]) < key(list[j]) })
}

// unplaced folds the answers for a service of which nothing stands on a platform into one finding, and gives the others.
func (r *runner) unplaced() (left []wiring.Answer) {
	type group struct {
		registration string
		platform     ident.Platform
	}
	of := func(a wiring.Answer) group { return group{a.Registration, a.Platform} }
	absent, all := map[group]int{}, map[group]int{}
	for _, a := range r.in.Answers {
		if a.Floor() || a.Platform == "" {
			continue
		}
		all[of(a)]++
		if a.State == wiring.Absent {
			absent[of(a)]++
		}
	}
	for _, a := range r.in.Answers {
		g := of(a)
		if absent[g] < 3 || absent[g] < all[g] || a.Good() {
			left = append(left, a)
			continue
		}
		reg := r.registration(a.Registration)
		if a.Floor() || reg == nil {
			left = append(left, a)
			continue
		}
		f := Finding{Rule: "service-not-placed", File: binding.File, Variant: strings.Join(a.Variants, ", "), Expected: "placed", Actual: "nothing of it", Fixable: a.Fixable, cause: a.Service + string(a.Platform)}
		f.Message = fmt.Sprintf("%s is registered for this app, and nothing of it stands in the %s project", reg.Sheet.Title, platformTitle(a.Platform))
		f.Consequences = []string{capital(a.Detail)}
		r.add(f, map[string]string{"service": a.Service}, a.Service, string(a.Platform))
	}
	return left
}

// Gather makes a result of findings that another command made, giving each its rule's words.
func Gather(by string, findings []Finding, notLooked []NotLooked, waivers []*Waiver, now time.Time) *Result {
	r := &runner{in: Input{Now: now, Missing: map[Need]string{}}, out: &Result{Findings: []Finding{}, Looked: []string{}, NotLooked: notLooked}, looked: map[string]bool{}, seen: map[string]int{}}
	if notLooked == nil {
		r.out.NotLooked = []NotLooked{}
	}
	for _, rule := range rules {
		if rule.By == by {
			r.looked[rule.ID] = true
		}
	}
	for _, f := range findings {
		r.add(f, nil, f.Expected, f.Message)
	}
	for _, n := range notLooked {
		if n.Required {
			delete(r.looked, n.Rule)
		}
	}
	r.setAside(slices.DeleteFunc(slices.Clone(waivers), func(w *Waiver) bool { return RuleByID(w.Rule).By != by }), nil)
	r.finish()
	return r.out
}

// can reports whether a rule has what it needs.
func (r *runner) can(rule string) bool { return r.looked[rule] }

func (r *runner) blind(rule, reason string, required bool) {
	for _, n := range r.out.NotLooked {
		if n.Rule == rule && n.Reason == reason {
			return
		}
	}
	r.out.NotLooked = append(r.out.NotLooked, NotLooked{Rule: rule, Reason: reason, Required: required})
}

// add files a finding; one that has the same cause as an earlier one only adds its variant.
func (r *runner) add(f Finding, vars map[string]string, identity ...string) {
	rule := RuleByID(f.Rule)
	if !r.can(f.Rule) && len(rule.Codes) == 0 {
		return
	}
	if f.Why = rule.Why; f.Severity == "" {
		f.Severity = rule.Severity
	}
	fix, err := sheet.Fill(rule.Fix, func(k string) (string, bool) {
		switch k {
		case "expected":
			return f.Expected, true
		case "actual":
			return f.Actual, true
		}
		v, ok := vars[k]
		return v, ok
	})
	if err != nil {
		fix = rule.Fix
	}
	f.Fix = fix
	sum := sha256.Sum256([]byte(strings.Join(append([]string{f.Rule, f.File}, identity...), "\x00")))
	f.Fingerprint = hex.EncodeToString(sum[:8])
	key := f.Fingerprint
	if f.cause != "" {
		key = f.Rule + " " + f.cause
	}
	if at, ok := r.seen[key]; ok {
		had := &r.out.Findings[at]
		if rank[f.Severity] > rank[had.Severity] {
			had.Severity = f.Severity
		}
		if at := (wiring.Place{File: f.File, Line: f.Line, Column: f.Column}); f.cause != "" && f.Line > 0 && f.Place() != had.Place() && !slices.Contains(had.Also, at) {
			had.Also = append(had.Also, at)
		}
		for _, c := range f.Consequences {
			if !slices.Contains(had.Consequences, c) {
				had.Consequences = append(had.Consequences, c)
			}
		}
		for _, v := range strings.Split(f.Variant, ", ") {
			if v != "" && !strings.Contains(", "+had.Variant+", ", ", "+v+", ") {
				had.Variant = strings.TrimPrefix(had.Variant+", "+v, ", ")
			}
		}
		return
	}
	r.seen[key] = len(r.out.Findings)
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
	for i := range r.out.Findings { // one cause: whoever may start the activity is not said
		if f := &r.out.Findings[i]; f.Rule == "export-unsaid" && f.File == a.Here.File && f.Line == a.Here.Line && strings.Contains(a.Detail, "android:exported") {
			f.Fixable = a.Fixable && r.in.Shipped == nil
			return
		}
	}
	f := Finding{Rule: rule.ID, Message: capital(a.Detail), Variant: strings.Join(a.Variants, ", "), File: a.Here.File, Line: a.Here.Line, Column: a.Here.Column,
		Expected: a.Expected, Actual: a.Actual, Fixable: a.Fixable && r.in.Shipped == nil, Also: a.Others}
	if f.Expected != "" {
		f.From = a.Source()
	}
	switch {
	case valued[a.Code]:
		r.diagnose(a, &f)
	case a.State == wiring.Absent:
		r.misspelt(a, &f)
	}
	if rule.ID == "extension-identifier" {
		if r.appsFault(a.Here) {
			return
		}
		f.cause = f.Place()
	}
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
	for _, q := range r.in.Survey.Unresolved {
		if q.Broken {
			line, why := q.Line, q.Why
			r.add(Finding{Rule: "source-unreadable", Message: q.File + ": " + why, File: q.File, Line: max(line, 1), Column: 1}, nil, q.What)
		}
	}
}

// Fixes reports whether Ligare mends findings of this rule: those of the evaluator, through the placing engine.
func (r *Rule) Fixes() bool { return len(r.Codes) > 0 || r.Mends }

// NeedsSay lists what a rule cannot look without, in words.
func (r *Rule) NeedsSay() string {
	words := map[Need]string{Attached: "a tree that is attached to an app", Registrations: "what was registered", TeamRecords: "the server's records", Services: "what the services say", History: "version control"}
	needs := r.Needs
	if len(r.Codes) > 0 && !slices.Contains(needs, Registrations) {
		needs = append([]Need{Registrations}, needs...)
	}
	var out []string
	for _, n := range needs {
		out = append(out, words[n])
	}
	return strings.Join(out, ", ")
}
