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

// Equal compares a value found with one wanted, or with its digest.
func Equal(want, got string) bool {
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
	carried      bool   // a call that takes its value from a place of each variant's own
	several      bool   // the same for several identities, of which identity is the first
	varies       bool   // from identity to identity, or from environment to environment
	copied       bool   // a file of one configuration, which a script phase copies
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

// Input is everything an evaluation looks at.
type Input struct {
	Tree          *tree.Tree
	Survey        *survey.Report
	Binding       *binding.Binding
	Registrations []*Registration
	Library       sheet.Library
	memo          *memo
}

// Evaluate answers for every placement of every registration.
func Evaluate(in Input) ([]Answer, error) {
	in = in.remember()
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
	"file": fileEnsure{}, "xml-element": xmlEnsure{}, "key-value": valueEnsure{}, "build-entry": buildEnsure{},
	"project-package": packageEnsure{}, "source-call": sourceEnsure{}, "line": lineEnsure{}, "target-member": memberEnsure{}, "build-setting": settingEnsure{}, "folder": folderEnsure{},
}

// wants lists what must be true, one want for each placement and site.
func (in Input) wants() ([]*Want, error) {
	var out []*Want
	for _, reg := range in.Registrations {
		for _, p := range append(floors(reg.Sheet), reg.Sheet.Placements...) {
			if p.When != "" && !slices.Contains(reg.Features, p.When) {
				continue
			}
			ws, err := in.expand(reg, &p)
			if err != nil {
				return nil, fmt.Errorf("%s, placement %s: %w", reg.Key(), p.ID, err)
			}
			out = append(out, slices.DeleteFunc(ws, func(w *Want) bool { return w.site.layout() == survey.Shipped && !ships[p.Place] })...)
		}
	}
	return out, nil
}

// ships are the placements that a built package shows; of the others, only what they did to the app is left.
var ships = map[string]bool{"config-file": true, "licence-file": true, "string-resource": true, "manifest-metadata": true, "manifest-permission": true, "manifest-activity": true, "manifest-query": true,
	"plist-key": true, "url-scheme": true, "query-scheme": true, "usage-description": true, "background-mode": true, "entitlement": true, "associated-domain": true, "privacy-entry": true}

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

// filled gives what a registration knows under a name: of one identity, in one environment.
func (r *Registration) filled(identity *Registered, environment string) func(name string) (string, bool) {
	return func(name string) (string, bool) {
		if id, ok := strings.CutPrefix(name, "value."); ok {
			if identity != nil {
				if v, ok := identity.Values[id]; ok {
					return v, true
				}
			}
			v, ok := r.Values[id]
			return v, ok
		}
		if id, ok := strings.CutPrefix(name, "answer."); ok {
			v, ok := r.Answers[id]
			return v, ok
		}
		if identity == nil {
			return "", false
		}
		switch name {
		case "identity.id":
			return identity.ID, true
		case "berth.name":
			v, ok := r.Berths[environment]
			return v, ok
		}
		return "", false
	}
}

// issued reports whether a placement carries a value that the service issued, or an answer.
func issued(p *sheet.Placement) bool {
	for _, v := range p.With {
		for _, ref := range sheet.References(v) {
			if strings.HasPrefix(ref, "value.") || strings.HasPrefix(ref, "answer.") {
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
		if perIdentity(p) && s.identity != nil && s.identity.Values == nil && s.identity.Files == nil && s.identity.FileDigests == nil {
			continue // not registered: there is nothing to place, and the identifier's own check says so
		}
		named, err := in.choose(p.Place, s.site)
		if err != nil {
			return nil, err
		}
		w := &Want{Registration: reg.Key(), Service: reg.Service, Environment: reg.Environment, Placement: p.ID, Place: named.Name,
			Title: named.Title, Why: p.Why, Platform: p.Platform, Variants: s.variants, Params: map[string]string{}, ensure: named.Ensure,
			settings: map[string]string{}, site: s.site, identity: s.identity, revision: reg.Revision, varies: perIdentity(p), subject: subject(p, s.site)}
		if reg.Sheet.ByHand() {
			w.revision = 0
		}
		w.several = len(in.bound(p.Platform, s)) > 1
		known := reg.filled(s.identity, in.environmentOf(p.Platform, s))
		get := func(name string) (string, bool) {
			if v, ok := known(name); ok {
				return v, true
			}
			if v, ok := w.Params[name]; ok {
				return v, true
			}
			return "", slices.Contains(named.Takes, name)
		}
		given, carried := in.indirect(w, p, s)
		w.carried = len(carried) > 0
		for _, k := range sorted(given) {
			v, err := sheet.Fill(given[k], get)
			if err != nil { // a value that is not recorded yet, a berth that is not chosen
				w.blocked = err.Error() + "; complete the registration first"
				if slices.Contains(sheet.References(given[k]), "berth.name") {
					w.blocked = fmt.Sprintf("no berth is chosen for %s (berth.name): ligare register %s --berth NAME=%s", strings.Join(s.variants, ", "), reg.Service, in.environmentOf(p.Platform, s))
				}
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
		if !issued(p) { // a constant of the sheet's own is typed as the sheet means it
			delete(w.settings, "as-text")
		}
		if why := in.unsupported(w, named); why != "" {
			w.blocked = why
			out = append(out, w)
			continue
		}
		if id := p.With["file"]; id != "" {
			w.file = reg.Sheet.File(id)
		}
		for _, c := range carried {
			value, err := sheet.Fill(c.value, get)
			if err != nil {
				continue // said above
			}
			if x := in.carrier(w, c, value); x != nil {
				out = append(out, x)
			}
		}
		for _, w := range in.apart(w) {
			out = append(out, w)
			if w.file != nil && in.Binding.ConfigFiles == binding.Fetched {
				out = append(out, in.ignore(w))
			}
		}
	}
	return out, nil
}

// apart splits the want for a file of a target that builds several identities from one set of resources: each
// configuration has the file in a folder of its own, and a script phase copies the one that is built.
func (in Input) apart(w *Want) []*Want {
	if w.file == nil || w.file.Kind == "archive" || w.Platform != ident.IOS || w.site.project.Version == 0 || len(in.identitiesOf(w.site)) < 2 {
		return []*Want{w}
	}
	var out []*Want
	for _, v := range w.Variants {
		own := *w
		own.Variants, own.copied = []string{v}, true
		out = append(out, &own)
	}
	return out
}

// unsupported says why a want is not placed by itself in its layout, "" if it is.
func (in Input) unsupported(w *Want, n *sheet.Named) string {
	layout := w.site.layout()
	if layout == survey.Shipped {
		return ""
	}
	if s := SupportOf(in.Library, n, layout); s.How != Automatic {
		why := s.Why
		if s.How == ByGuide {
			why = "by hand in this layout: " + s.Why
		}
		return fmt.Sprintf("%s (%s)", why, w.instruction())
	}
	if w.site.foreign() != "" && n.Ensure == "source-call" {
		return fmt.Sprintf("the native call does not stand in this layout's source; the framework's own is a placement of its own (%s)", w.instruction())
	}
	if w.site.foreign() == "" || !w.varies {
		return ""
	}
	var others []string
	if w.site.module != nil {
		for v, b := range in.Binding.Android[w.site.module.Dir] {
			if w.identity != nil && b.Identity != w.identity.ID {
				others = append(others, v)
			}
		}
	} else {
		for v, b := range in.Binding.IOS[binding.TargetKey(w.site.project, w.site.target)] {
			if w.identity != nil && b.Identity != w.identity.ID {
				others = append(others, v)
			}
		}
	}
	if len(others) > 0 {
		sort.Strings(others)
		return fmt.Sprintf("by hand in this layout: %s builds another identity from the same file; keep one file for each, and name them under conditions (%s)", strings.Join(others, ", "), w.instruction())
	}
	return ""
}

// instruction says in words what has to be true, for placements that a person sees to.
func (w *Want) instruction() string {
	var list []string
	for _, k := range sorted(w.Params) {
		list = append(list, k+" "+w.Params[k])
	}
	return strings.TrimSpace(w.Title + ": " + strings.Join(list, ", "))
}

// content gives a file want's content, nil when there is none.
func (w *Want) content() []byte {
	if w.identity == nil || w.file == nil {
		return nil
	}
	return w.identity.Files[w.file.ID]
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
