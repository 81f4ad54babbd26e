// Package wiring decides, for each placement in each variant, how things stand: absent, right, right in another form,
// conflicting, in the wrong place, or there twice. One evaluator answers; placing acts on its answers and checking is a
// view of them. Edits are made in memory (see Plan) and are recorded so that they can be taken out again (see Record).
package wiring

import (
	"fmt"
	"slices"
	"sort"
	"strings"

	"ligare/core/binding"
	"ligare/core/ident"
	"ligare/core/sheet"
	"ligare/core/survey"
	"ligare/core/tree"
)

// State is the evaluator's answer.
type State string

// The states of a placement.
const (
	Absent      State = "absent"
	Right       State = "right"
	OtherForm   State = "right in another form"
	Conflicting State = "conflicting"
	WrongPlace  State = "wrong place"
	Twice       State = "twice"
	Unknown     State = "not looked" // could not be decided; never counts as right
)

// Registration is what the records know of one registration, as far as placing needs it: client values only.
type Registration struct {
	Service     string
	Environment string
	Revision    int
	Sheet       *sheet.Sheet
	Values      map[string]string // client values of the registration
	Identities  []Registered
	Features    []string          // those that are on
	Answers     map[string]string // answers that placements may name; none of them secret
	Berths      map[string]string // environment -> berth
}

// Key names a registration in a tree: service and what the registration spans.
func (r *Registration) Key() string {
	switch {
	case r.Sheet != nil && r.Sheet.Scope == sheet.ScopeIdentity && len(r.Identities) == 1:
		return r.Service + "-" + string(r.Identities[0].Platform) + "-" + r.Identities[0].ID
	case r.Environment == "":
		return r.Service
	}
	return r.Service + "-" + r.Environment
}

// covers reports whether a variant's builds belong to a registration.
func (r *Registration) covers(p ident.Platform, b binding.Bound) bool {
	if r.Sheet != nil && (r.Sheet.Scope == sheet.ScopeIdentity || r.Sheet.Scope == sheet.ScopeSeveral) {
		return slices.ContainsFunc(r.Identities, func(i Registered) bool { return i.Platform == p && i.ID == b.Identity })
	}
	return r.Environment == "" || r.Environment == b.Environment
}

// Registered is one identity a registration covers.
type Registered struct {
	Platform ident.Platform
	ID       string
	Values   map[string]string // client values of the identity
	Files    map[string][]byte // its config and licence files, by their names in the sheet

	FileDigests map[string]string // without a server: the digests of its files, from the tree's record
}

// ByDigest marks a value of which only the digest is known, as it is without a server.
const ByDigest = "\x00sha256:"

// equal compares a value found with one wanted, or with its digest.
func equal(want, got string) bool {
	if d, ok := strings.CutPrefix(want, ByDigest); ok {
		return Digest(got) == d
	}
	return want == got
}

// shown gives a wanted value as it may be shown.
func shown(want string) string {
	if strings.HasPrefix(want, ByDigest) {
		return "the value placed (only its digest is known without a server)"
	}
	return want
}

// ConfigFile is where one identity's config file belongs in the tree.
type ConfigFile struct {
	Registration string
	Platform     ident.Platform
	Identity     string
	Variants     []string
	Path         string
	File         *sheet.File
}

// ConfigFiles lists where the config files of a registration belong.
func ConfigFiles(in Input, reg *Registration) ([]ConfigFile, error) {
	var out []ConfigFile
	for i := range reg.Sheet.Placements {
		p := &reg.Sheet.Placements[i]
		if p.With["file"] == "" {
			continue
		}
		ws, err := in.expand(reg, p)
		if err != nil {
			return nil, err
		}
		for _, w := range ws {
			if w.file != nil && w.identity != nil {
				out = append(out, ConfigFile{reg.Key(), w.Platform, w.identity.ID, w.Variants, w.FilePath(in), w.file})
			}
		}
	}
	return out, nil
}

// Place is where something stands.
type Place struct {
	File   string `json:"file,omitempty"`
	Line   int    `json:"line,omitempty"`
	Column int    `json:"column,omitempty"`
}

func (p Place) String() string {
	if p.Line == 0 {
		return p.File
	}
	return fmt.Sprintf("%s:%d:%d", p.File, p.Line, p.Column)
}

// Want is one placement wanted at one site for one registration.
type Want struct {
	Registration string            `json:"registration"`
	Service      string            `json:"service"`
	Environment  string            `json:"environment,omitempty"`
	Placement    string            `json:"placement"`
	Place        string            `json:"place"` // the named placement
	Title        string            `json:"title"`
	Why          string            `json:"why"`
	Platform     ident.Platform    `json:"platform"`
	Variants     []string          `json:"variants"`
	Params       map[string]string `json:"-"`
	ensure       string
	settings     map[string]string
	site         site
	identity     *Registered
	file         *sheet.File
	revision     int    // of the registration; 0 where its files count by themselves
	blocked      string // why this cannot be placed by this version
	subject      string // what is placed where, without values: equal for two registrations that need the same thing
}

// Answer is how one want stands.
type Answer struct {
	*Want
	State    State   `json:"state"`
	Code     string  `json:"code,omitempty"` // which mistake it is; "" when right
	Here     Place   `json:"here"`
	Expected string  `json:"expected,omitempty"`
	Actual   string  `json:"actual,omitempty"`
	Detail   string  `json:"detail,omitempty"`
	Others   []Place `json:"others,omitempty"`
	Fixable  bool    `json:"fixable"`
}

// Good reports whether nothing needs doing.
func (a Answer) Good() bool { return a.State == Right || a.State == OtherForm }

// site is where a want goes: a module and source set, or a project and target.
type site struct {
	module  *survey.Module
	set     string // source set
	project *survey.Project
	target  *survey.Target
}

// Input is everything an evaluation looks at.
type Input struct {
	Tree          *tree.Tree
	Survey        *survey.Report
	Binding       *binding.Binding
	Registrations []*Registration
	Library       sheet.Library
}

// Evaluate answers for every placement of every registration.
func Evaluate(in Input) ([]Answer, error) {
	wants, err := in.wants()
	if err != nil {
		return nil, err
	}
	var out []Answer
	for _, w := range wants {
		out = append(out, in.look(w))
	}
	return out, nil
}

func (in Input) look(w *Want) Answer {
	if w.blocked != "" {
		return Answer{Want: w, State: Unknown, Code: "not-supported", Detail: w.blocked}
	}
	a := ensures[w.ensure].look(in, w)
	a.Want = w
	return a
}

// ensure is one generic thing the core can see to.
type ensure interface {
	look(in Input, w *Want) Answer
	make(in Input, w *Want, a Answer, p *Plan) error
}

var ensures = map[string]ensure{
	"file": fileEnsure{}, "xml-element": xmlEnsure{}, "build-entry": buildEnsure{},
	"project-package": packageEnsure{}, "source-call": sourceEnsure{}, "line": lineEnsure{},
}

// wants lists what must be true, one want for each placement and site.
func (in Input) wants() ([]*Want, error) {
	var out []*Want
	for _, reg := range in.Registrations {
		for i := range reg.Sheet.Placements {
			p := &reg.Sheet.Placements[i]
			if p.When != "" && !slices.Contains(reg.Features, p.When) {
				continue
			}
			ws, err := in.expand(reg, p)
			if err != nil {
				return nil, fmt.Errorf("%s, placement %s: %w", reg.Key(), p.ID, err)
			}
			out = append(out, ws...)
		}
	}
	return out, nil
}

// perIdentity reports whether a placement differs from identity to identity.
func perIdentity(p *sheet.Placement) bool {
	if p.With["file"] != "" {
		return true
	}
	for _, v := range p.With {
		for _, ref := range sheet.References(v) {
			if strings.HasPrefix(ref, "value.") || strings.HasPrefix(ref, "identity.") || strings.HasPrefix(ref, "berth.") {
				return true
			}
		}
	}
	return false
}

func (in Input) expand(reg *Registration, p *sheet.Placement) ([]*Want, error) {
	var err error
	if in.Library, err = in.Library.With(reg.Sheet); err != nil {
		return nil, err
	}
	sites := in.sites(reg, p)
	var out []*Want
	for _, s := range sites {
		if !s.suits(p.In, in.Survey) {
			continue
		}
		if perIdentity(p) && s.identity.Values == nil && s.identity.Files == nil && s.identity.FileDigests == nil {
			continue // not registered: there is nothing to place, and the identifier's own check says so
		}
		named, err := in.choose(p.Place, s.site)
		if err != nil {
			return nil, err
		}
		w := &Want{Registration: reg.Key(), Service: reg.Service, Environment: reg.Environment, Placement: p.ID, Place: named.Name,
			Title: named.Title, Why: p.Why, Platform: p.Platform, Variants: s.variants, Params: map[string]string{}, ensure: named.Ensure,
			settings: map[string]string{}, site: s.site, identity: s.identity, revision: reg.Revision, subject: subject(p, s.site)}
		if reg.Sheet.ByHand() {
			w.revision = 0
		}
		get := func(name string) (string, bool) {
			if id, ok := strings.CutPrefix(name, "value."); ok {
				if s.identity != nil {
					if v, ok := s.identity.Values[id]; ok {
						return v, true
					}
				}
				v, ok := reg.Values[id]
				return v, ok
			}
			if id, ok := strings.CutPrefix(name, "answer."); ok {
				v, ok := reg.Answers[id]
				return v, ok
			}
			if name == "identity.id" && s.identity != nil {
				return s.identity.ID, true
			}
			if name == "berth.name" && s.identity != nil {
				v, ok := reg.Berths[in.environmentOf(p.Platform, s)]
				return v, ok
			}
			if v, ok := w.Params[name]; ok {
				return v, true
			}
			return "", slices.Contains(named.Takes, name)
		}
		for _, k := range sorted(p.With) {
			v, err := sheet.Fill(p.With[k], get)
			if err != nil { // a value that is not recorded yet, a berth that is not chosen
				w.blocked = err.Error() + "; complete the registration first"
				break
			}
			w.Params[k] = v
		}
		if w.blocked != "" {
			out = append(out, w)
			continue
		}
		for _, k := range sorted(named.Settings) {
			v, err := sheet.Fill(named.Settings[k], get)
			if err != nil {
				return nil, err
			}
			w.settings[k] = v
		}
		if !placeable(named) {
			w.blocked = fmt.Sprintf("placing it is done by hand for now: %s", w.instruction())
			out = append(out, w)
			continue
		}
		if layout := s.foreign(); layout != "" {
			w.blocked = fmt.Sprintf("placing into a project of the layout %s is done by hand for now: %s", layout, named.Title)
			out = append(out, w)
			continue
		}
		if id := p.With["file"]; id != "" {
			w.file = reg.Sheet.File(id)
			if ids := in.identitiesOf(s.site); p.Platform == ident.IOS && len(ids) > 1 {
				w.blocked = fmt.Sprintf("target %s builds %s from one set of resources; a config file for each configuration is not placed by this version: use a target for each, or copy the file in a script phase", s.site.target.Name, strings.Join(ids, " and "))
			}
		}
		out = append(out, w)
		if w.file != nil && in.Binding.ConfigFiles == binding.Fetched {
			out = append(out, in.ignore(w))
		}
	}
	return out, nil
}

// placeable reports whether the core can see to a named placement itself.
func placeable(n *sheet.Named) bool {
	if ensures[n.Ensure] == nil {
		return false
	}
	switch n.Ensure {
	case "xml-element":
		return n.Settings["folder"] != "" && n.Settings["parent"] == ""
	case "build-entry":
		return slices.Contains([]string{"repositories", "dependencies", "pods"}, n.Settings["role"])
	case "source-call":
		return n.Settings["role"] == "start"
	}
	return true
}

// instruction says in words what has to be true, for placements that a person sees to.
func (w *Want) instruction() string {
	var list []string
	for _, k := range sorted(w.Params) {
		list = append(list, k+" "+w.Params[k])
	}
	return strings.TrimSpace(w.Title + ": " + strings.Join(list, ", "))
}

// suits reports whether a placement is for the layout of a site.
func (s site) suits(layouts []string, r *survey.Report) bool {
	if len(layouts) == 0 {
		return true
	}
	framework := ""
	if s.module != nil {
		framework = s.module.Framework
	} else if s.project != nil {
		framework = s.project.Framework
	}
	if framework == "" {
		framework = "native"
	}
	return slices.Contains(layouts, framework)
}

// environmentOf gives the environment of a site's variants, "" when they have several.
func (in Input) environmentOf(p ident.Platform, s covered) string {
	bound := map[string]binding.Bound{}
	if p == ident.Android && s.module != nil {
		bound = in.Binding.Android[s.module.Dir]
	} else if s.target != nil {
		bound = in.Binding.IOS[binding.TargetKey(s.project, s.target)]
	}
	env := ""
	for _, v := range s.variants {
		if env != "" && bound[v].Environment != env {
			return ""
		}
		env = bound[v].Environment
	}
	return env
}

// content gives a file want's content, nil when there is none.
func (w *Want) content() []byte {
	if w.identity == nil || w.file == nil {
		return nil
	}
	return w.identity.Files[w.file.ID]
}

// foreign gives the layout of a site that is neither a Gradle module nor an Xcode target, "" for those.
func (s site) foreign() string {
	switch {
	case s.module != nil && s.module.Build() == nil:
		return s.module.Layout
	case s.project != nil && s.project.Version == 0:
		return s.project.Layout
	}
	return ""
}

// subject names what a placement is and where it goes, from the sheet's own words, so that no value stands in it.
func subject(p *sheet.Placement, s site) string {
	var b strings.Builder
	b.WriteString(p.Place)
	for _, k := range sorted(p.With) {
		fmt.Fprintf(&b, " %s=%s", k, p.With[k])
	}
	return b.String() + " @ " + s.String()
}

func (s site) String() string {
	if s.module != nil {
		return s.module.Dir + " " + s.set
	}
	return s.project.Path + " " + s.target.Name
}

// Site says where a want goes, for people: a module and source set, or a project and target.
func (w *Want) Site() string { return w.site.String() }

// Subject names what is placed where, without values; equal for two registrations that need the same thing.
func (w *Want) Subject() string { return w.subject }

// identitiesOf lists the identities a target's configurations are bound to.
func (in Input) identitiesOf(s site) []string {
	if s.target == nil {
		return nil
	}
	seen := map[string]bool{}
	for _, b := range in.Binding.IOS[binding.TargetKey(s.project, s.target)] {
		seen[b.Identity] = true
	}
	return sorted(seen)
}

// ignore asks for the line that keeps a fetched config file out of version control.
func (in Input) ignore(of *Want) *Want {
	w := *of
	named := in.Library["ignore-line"]
	w.Placement, w.Place, w.Title, w.ensure = of.Placement+"-ignored", "ignore-line", named.Title, named.Ensure
	w.Why = "The tree's policy is that config files are fetched at build and not committed."
	w.file, w.settings, w.subject = nil, named.Settings, "ignored "+of.subject
	w.Params = map[string]string{"line": "/" + fileEnsure{}.target(in, of)}
	return &w
}

// choose follows `either` to the placement that fits the tree.
func (in Input) choose(name string, s site) (*sheet.Named, error) {
	n := in.Library[name]
	if n == nil {
		return nil, fmt.Errorf("there is no named placement %q", name)
	}
	if len(n.Either) == 0 {
		return n, nil
	}
	for _, option := range n.Either {
		if option == "pod" && (s.project == nil || s.project.Podfile == "") {
			continue
		}
		return in.choose(option, s)
	}
	return nil, fmt.Errorf("named placement %s: none of %s fits", name, strings.Join(n.Either, ", "))
}

func sorted[V any](m map[string]V) []string {
	out := make([]string, 0, len(m))
	for k := range m {
		out = append(out, k)
	}
	sort.Strings(out)
	return out
}

// covered is a site with the variants that share one identity there.
type covered struct {
	site
	variants []string
	identity *Registered
}

// sites finds where a placement of a registration goes. What differs by identity goes to the narrowest source set that
// holds exactly that identity's variants; everything else goes once to each module or target that the registration covers.
func (in Input) sites(reg *Registration, p *sheet.Placement) []covered {
	var out []covered
	if p.Platform == ident.Android {
		for _, m := range in.Survey.Android.Modules {
			out = append(out, in.androidSites(reg, p, m)...)
		}
		return out
	}
	for _, pr := range in.Survey.IOS.Projects {
		for _, t := range pr.Targets {
			bound := in.Binding.IOS[binding.TargetKey(pr, t)]
			groups := map[string][]string{}
			for _, c := range t.Configurations {
				if b, ok := bound[c.Name]; ok && reg.covers(p.Platform, b) {
					groups[b.Identity] = append(groups[b.Identity], c.Name)
				}
			}
			for _, id := range sorted(groups) {
				out = append(out, covered{site: site{project: pr, target: t}, variants: groups[id], identity: reg.identity(p.Platform, id)})
				if !perIdentity(p) {
					break
				}
			}
		}
	}
	return out
}

func (in Input) androidSites(reg *Registration, p *sheet.Placement, m *survey.Module) []covered {
	bound := in.Binding.Android[m.Dir]
	groups := map[string][]*survey.AndroidVariant{}
	var all []string
	for _, v := range m.Variants {
		if b, ok := bound[v.Name]; ok && reg.covers(p.Platform, b) {
			groups[b.Identity] = append(groups[b.Identity], v)
			all = append(all, v.Name)
		}
	}
	if len(groups) == 0 {
		return nil
	}
	if !perIdentity(p) {
		return []covered{{site: site{module: m, set: "main"}, variants: all}}
	}
	var out []covered
	if m.Build() == nil {
		for _, id := range sorted(groups) {
			c := covered{site: site{module: m}, identity: reg.identity(p.Platform, id)}
			for _, v := range groups[id] {
				c.variants = append(c.variants, v.Name)
			}
			out = append(out, c)
		}
		return out
	}
	for _, id := range sorted(groups) {
		for _, part := range sourceSetsFor(m, groups[id]) {
			part.identity = reg.identity(p.Platform, id)
			out = append(out, part)
		}
	}
	return out
}

// sourceSetsFor finds source sets that hold exactly these variants: main if they are all, else a build type or flavor
// whose variants are all among them, else each variant's own.
func sourceSetsFor(m *survey.Module, group []*survey.AndroidVariant) []covered {
	in := map[string]bool{}
	for _, v := range group {
		in[v.Name] = true
	}
	users := map[string][]string{}
	for _, v := range m.Variants {
		for _, s := range v.SourceSets {
			users[s] = append(users[s], v.Name)
		}
	}
	var out []covered
	for _, v := range group {
		if !in[v.Name] {
			continue
		}
		for i := len(v.SourceSets) - 1; i >= 0; i-- {
			set := v.SourceSets[i]
			fits := true
			for _, u := range users[set] {
				fits = fits && in[u]
			}
			if fits || i == 0 {
				own := users[set]
				if !fits {
					own = []string{v.Name}
				}
				for _, u := range own {
					delete(in, u)
				}
				out = append(out, covered{site: site{module: m, set: set}, variants: own})
				break
			}
		}
	}
	return out
}

func (r *Registration) identity(p ident.Platform, id string) *Registered {
	for i := range r.Identities {
		if r.Identities[i].Platform == p && r.Identities[i].ID == id {
			return &r.Identities[i]
		}
	}
	return &Registered{Platform: p, ID: id}
}

// Find gives the registered identity nearest to an identifier: the same, or one that differs in letter case only.
func (r *Registration) Find(p ident.Platform, id string) (same, near *Registered) {
	for i := range r.Identities {
		x := &r.Identities[i]
		if x.Platform != p {
			continue
		}
		if x.ID == id {
			same = x
		} else if strings.EqualFold(x.ID, id) {
			near = x
		}
	}
	return same, near
}

// For reports whether a want is for an identity.
func (w *Want) For(id *Registered) bool {
	return w.identity != nil && w.identity.Platform == id.Platform && w.identity.ID == id.ID
}

// FilePath gives where a config file belongs; "" for other placements.
func (w *Want) FilePath(in Input) string {
	if w.file == nil {
		return ""
	}
	return fileEnsure{}.target(in, w)
}
