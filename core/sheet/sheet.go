// Package sheet is the language in which a service is described: what it asks for, issues, needs placed, and how it is
// proved. Nothing here or anywhere in Go knows a service by name; a service is what its sheet says. The types below are
// the language: the reader, the JSON Schema and the reference page are made from their tags (see language.go). Start
// with Sheet and Parse.
package sheet

import (
	"ligare/core/ident"
)

// Format is the version of the language this package reads.
const Format = 1

// Exposure says whether a value may ship inside an app. It comes from the sheet, never from a value's name.
type Exposure string

// The two exposures.
const (
	Client Exposure = "client"
	Server Exposure = "server"
)

// What one registration spans.
const (
	ScopeIdentity    = "identity"    // one application ID or bundle ID
	ScopeEnvironment = "environment" // all identities of an app in one environment
	ScopeApp         = "app"         // all identities of an app
	ScopeSeveral     = "several"     // the identities a person names
)

// How a registration is made.
const (
	ByProtocol = "ligare-registration-1"
	ByOAuth    = "oauth-dynamic-registration" // RFC 7591 and RFC 7592
	ByHand     = "by-hand"
)

// How a lost answer is recovered.
const (
	ByKey       = "idempotency-key"
	ByReference = "look-up"
	Never       = "none" // the outcome is unknown and a person decides
)

// Sheet describes one service.
type Sheet struct {
	Format     int              `yaml:"sheet" json:"sheet" need:"yes" doc:"Version of the language: 1."`
	Service    string           `yaml:"service" json:"service" need:"yes" form:"id" doc:"Name of the service in commands and files."`
	Title      string           `yaml:"title" json:"title" need:"yes" doc:"Name of the service for people."`
	Kind       string           `yaml:"kind" json:"kind" need:"yes" doc:"What kind of service it is, in a few words."`
	Version    string           `yaml:"version" json:"version" need:"yes" doc:"The sheet's own version, raised with every change."`
	About      string           `yaml:"about" json:"about,omitempty" doc:"What a developer should know before starting."`
	Platforms  []ident.Platform `yaml:"platforms" json:"platforms" need:"yes" oneof:"android ios web" doc:"Platforms the service serves."`
	Scope      string           `yaml:"scope" json:"scope" need:"yes" oneof:"identity environment app several" doc:"What one registration spans: one identity, an app's identities of one environment, all of the app's, or several that a person names."`
	Asks       []Ask            `yaml:"asks" json:"asks" doc:"What the service wants to know."`
	Features   []Feature        `yaml:"features" json:"features" doc:"Switches at the service."`
	Redirects  *Redirects       `yaml:"redirects" json:"redirects,omitempty" doc:"Redirect URIs that are kept at the service."`
	Issues     Issues           `yaml:"issues" json:"issues" need:"yes" doc:"What the service gives."`
	Berths     *Berths          `yaml:"berths" json:"berths,omitempty" doc:"Free-named places for releases, one for each environment or as many as wanted."`
	Catalogue  *Catalogue       `yaml:"catalogue" json:"catalogue,omitempty" doc:"Rules for what is sold in the app."`
	Builder    *Builder         `yaml:"builder" json:"builder,omitempty" doc:"Settings fields of a hosted builder."`
	Placements []Placement      `yaml:"placements" json:"placements" doc:"What must be true in a tree."`
	Library    map[string]Named `yaml:"library" json:"library,omitempty" doc:"Named placements of the sheet's own, above the core's ensures; names that start with the service's and a hyphen."`
	Constrain  []Constraint     `yaml:"constraints" json:"constraints" doc:"Floors, ceilings and combinations of versions."`
	Packages   []Package        `yaml:"packages" json:"packages,omitempty" doc:"Official coordinates of the service's libraries, and look-alikes."`
	Messages   []Message        `yaml:"messages" json:"messages" doc:"Texts people meet, and the cause each points to."`
	Proof      Proof            `yaml:"proof" json:"proof" doc:"How it is shown that an app is connected."`
	Duties     []Duty           `yaml:"duties" json:"duties" doc:"What only a person can do or confirm."`
	Connector  Connector        `yaml:"connector" json:"connector" need:"yes" doc:"How to register."`

	Digest string `yaml:"-" json:"digest"` // sha256:... of the bytes read
	Source []byte `yaml:"-" json:"-"`

	places map[string][2]int // element -> line and column
	file   string            // of the file it was read from
}

// Ask is one input the service wants.
type Ask struct {
	ID       string         `yaml:"id" json:"id" need:"yes" form:"id" doc:"Name of the answer."`
	Title    string         `yaml:"title" json:"title" need:"yes" doc:"What is asked, in words."`
	Help     string         `yaml:"help" json:"help,omitempty" doc:"Where a person finds it."`
	From     string         `yaml:"from" json:"from" need:"yes" doc:"Where it is taken from: app.name, app.title, identity.id, identity.display_name, identity.store_id, identity.launcher_activity, identity.framework, identity.platform, identity.team, identity.namespace, signer.FORM (a digest as ligare digest names its forms), supplied.NAME (a value that another registration of the app supplies), text, choice, secret (never shown again), file (the text of a file), image."`
	Per      string         `yaml:"per" json:"per,omitempty" oneof:"identity" doc:"identity, if each identity has an answer of its own."`
	Platform ident.Platform `yaml:"platform" json:"platform,omitempty" oneof:"android ios web" doc:"Asked for identities of this platform only."`
	When     string         `yaml:"when" json:"when,omitempty" doc:"A feature that makes it required; without, it is always asked."`
	Optional bool           `yaml:"optional" json:"optional,omitempty" doc:"May be left out."`
	Choices  []string       `yaml:"choices" json:"choices,omitempty" doc:"The answers that are offered, for from: choice."`
	Default  string         `yaml:"default" json:"default,omitempty" doc:"Taken when nothing is answered."`
	Grammar  string         `yaml:"grammar" json:"grammar,omitempty" form:"pattern" doc:"Pattern (RE2) that the whole answer has to match."`
	Example  string         `yaml:"example" json:"example,omitempty" doc:"An answer as it could be."`
	Fixed    bool           `yaml:"fixed" json:"fixed,omitempty" doc:"Cannot be changed once registered."`
	Image    *Image         `yaml:"image" json:"image,omitempty" doc:"Limits of an image, for from: image."`
	Tree     string         `yaml:"tree" json:"tree,omitempty" oneof:"framework ide" doc:"What of the tree the answer has to agree with: framework (one of the names that identity.framework takes) or ide (the version that last brought the project up to date)."`
	AskedBy  string         `yaml:"asked-by" json:"asked-by,omitempty" doc:"For an answer that lists words, such as scopes: the call in source whose texts ask for some of them."`
}

// Image is the limits of an image that is asked for.
type Image struct {
	Width  int  `yaml:"width" json:"width" need:"yes" doc:"Pixels."`
	Height int  `yaml:"height" json:"height" need:"yes" doc:"Pixels."`
	Alpha  bool `yaml:"alpha" json:"alpha" doc:"Whether transparency is allowed."`
	KB     int  `yaml:"kilobytes" json:"kilobytes,omitempty" doc:"Largest size of the file, in units of 1024 bytes; 512 if not said."`
}

// Feature is a switch at the service.
type Feature struct {
	ID       string   `yaml:"id" json:"id" need:"yes" form:"id" doc:"Name of the feature."`
	Title    string   `yaml:"title" json:"title" need:"yes" doc:"What it is, in words."`
	Default  bool     `yaml:"default" json:"default" doc:"On from the start."`
	Requires []string `yaml:"requires" json:"requires,omitempty" doc:"Asks that must be answered before it can be switched on."`
	After    []string `yaml:"after" json:"after,omitempty" doc:"Features that must be on before it."`
	Changes  []string `yaml:"changes" json:"changes,omitempty" doc:"What it changes, in words."`
}

// Redirects says which redirect URIs a service takes, and which are usual.
type Redirects struct {
	Most    int            `yaml:"most" json:"most,omitempty" doc:"How many it takes; 0 for any number."`
	Allow   []RedirectRule `yaml:"allow" json:"allow" need:"yes" doc:"The forms it takes."`
	Propose []Proposal     `yaml:"propose" json:"propose,omitempty" doc:"Redirect URIs that follow from an identity."`
	From    []string       `yaml:"from" json:"from,omitempty" doc:"Names of supplied values that are redirect URIs to be kept here, such as redirect.sign-in."`
}

// RedirectRule is one form of redirect URI that is taken.
type RedirectRule struct {
	Scheme string `yaml:"scheme" json:"scheme" need:"yes" oneof:"https reverse-domain loopback" doc:"https (a claimed address), reverse-domain (a private-use scheme of a domain turned round, RFC 8252 section 7.1) or loopback (RFC 8252 section 7.3)."`
	Why    string `yaml:"why" json:"why,omitempty" doc:"What it is for."`
}

// Proposal is a redirect URI made from an identity.
type Proposal struct {
	Platform ident.Platform `yaml:"platform" json:"platform" need:"yes" oneof:"android ios web" doc:"Of identities of this platform."`
	URI      string         `yaml:"uri" json:"uri" need:"yes" doc:"The URI, with ${identity.id} and ${answer.NAME}."`
}

// Issues is what the service gives.
type Issues struct {
	Values []Value `yaml:"values" json:"values" doc:"Numbers, keys, addresses, secrets."`
	Files  []File  `yaml:"files" json:"files" doc:"Config files, licences, archives."`
}

// Value is one issued value.
type Value struct {
	ID       string         `yaml:"id" json:"id" need:"yes" form:"id" doc:"Name of the value."`
	Title    string         `yaml:"title" json:"title" need:"yes" doc:"What the service calls it."`
	Exposure Exposure       `yaml:"exposure" json:"exposure" need:"yes" oneof:"client server" doc:"client: may ship in the app. server: must not, and is never handed out for placing."`
	Per      string         `yaml:"per" json:"per,omitempty" oneof:"identity" doc:"identity, if each identity has its own."`
	Platform ident.Platform `yaml:"platform" json:"platform,omitempty" oneof:"android ios web" doc:"Issued for identities of this platform only."`
	Pattern  string         `yaml:"pattern" json:"pattern,omitempty" form:"pattern" doc:"Pattern (RE2) that the whole value matches; the narrower, the better it is told apart."`
	When     string         `yaml:"when" json:"when,omitempty" doc:"A feature that must be on."`
	Optional bool           `yaml:"optional" json:"optional,omitempty" doc:"Not every registration has it."`
	Supplies string         `yaml:"supplies" json:"supplies,omitempty" doc:"The name under which other services ask for it (supplied.NAME)."`
	Trial    bool           `yaml:"trial" json:"trial,omitempty" doc:"For looking at a trial only: it does not belong into what is published."`
	Keys     string         `yaml:"keys" json:"keys,omitempty" oneof:"one several" doc:"A key that can be exchanged: one at a time, or several side by side, each with a label."`
	Env      string         `yaml:"env" json:"env,omitempty" form:"env" doc:"Name of the environment variable in which a backend expects it."`
	Instead  string         `yaml:"instead" json:"instead,omitempty" doc:"For a server value that the service's library wants in the app: what to do instead."`
}

// File is one config or licence file, with where inside it each fact stands.
type File struct {
	ID       string            `yaml:"id" json:"id" need:"yes" form:"id" doc:"Name of the file in this sheet."`
	Title    string            `yaml:"title" json:"title,omitempty" doc:"What the service calls it."`
	Kind     string            `yaml:"kind" json:"kind,omitempty" oneof:"config licence archive" doc:"config if not said."`
	Platform ident.Platform    `yaml:"platform" json:"platform,omitempty" oneof:"android ios web" doc:"Issued for identities of this platform; without, for every one."`
	Name     string            `yaml:"name" json:"name" need:"yes" doc:"The exact file name."`
	Format   string            `yaml:"format" json:"format" need:"yes" oneof:"json xml plist yaml toml properties jws text zip" doc:"How it is read. jws is a signed token whose header and payload are read, not verified."`
	When     string            `yaml:"when" json:"when,omitempty" doc:"A feature without which it is not complete."`
	Read     map[string]string `yaml:"read" json:"read,omitempty" doc:"Where each fact stands: a JSON Pointer (RFC 6901; * for every member) in json, yaml, toml, plist and jws (/header and /payload), an element path /a/b or /a/b/@attribute in xml, the key in properties. Names are values of this sheet, and identity, revision, digests, ends, features."`
}

// Berths is free-named places for releases.
type Berths struct {
	Title   string   `yaml:"title" json:"title" need:"yes" doc:"What the service calls one."`
	Grammar string   `yaml:"grammar" json:"grammar,omitempty" form:"pattern" doc:"Pattern (RE2) of a name."`
	Usual   []string `yaml:"usual" json:"usual,omitempty" doc:"Names that are usual."`
}

// Catalogue is the rules for what is sold.
type Catalogue struct {
	Kinds   []string `yaml:"kinds" json:"kinds" need:"yes" oneof:"consumable non-consumable subscription" doc:"Kinds of items."`
	Grammar string   `yaml:"grammar" json:"grammar,omitempty" form:"pattern" doc:"Pattern (RE2) of a product ID."`
	Groups  bool     `yaml:"groups" json:"groups,omitempty" doc:"Subscriptions belong to a group; two live ones outside one group are a mistake."`
	Prices  bool     `yaml:"prices" json:"prices,omitempty" doc:"An item needs a price before it can be active."`
}

// Builder is a hosted builder's settings.
type Builder struct {
	Fields []BuilderField `yaml:"fields" json:"fields" need:"yes" doc:"Fields that are typed in its settings."`
}

// BuilderField is one field of a builder's settings.
type BuilderField struct {
	ID      string `yaml:"id" json:"id" need:"yes" form:"id" doc:"Name of the field."`
	Title   string `yaml:"title" json:"title" need:"yes" doc:"What the builder calls it."`
	Group   string `yaml:"group" json:"group,omitempty" doc:"The page of its settings."`
	Takes   string `yaml:"takes" json:"takes,omitempty" doc:"Name of a supplied value that belongs here."`
	Grammar string `yaml:"grammar" json:"grammar,omitempty" form:"pattern" doc:"Pattern (RE2) of a value."`
	Rebuild bool   `yaml:"rebuild" json:"rebuild,omitempty" doc:"Has effect only after a new build."`
}

// Placement is one thing that must be true in a tree.
type Placement struct {
	ID       string            `yaml:"id" json:"id" need:"yes" form:"id" doc:"Name of the placement in this sheet."`
	Platform ident.Platform    `yaml:"platform" json:"platform,omitempty" oneof:"android ios web" doc:"In the platform's projects. Without: once in a tree, in the package list or the source of the frameworks named by in."`
	Place    string            `yaml:"place" json:"place" need:"yes" doc:"A named placement of the library."`
	With     map[string]string `yaml:"with" json:"with,omitempty" doc:"Its parameters; ${value.ID}, ${identity.id}, ${answer.ID} and ${berth.name} are filled in."`
	When     string            `yaml:"when" json:"when,omitempty" doc:"A feature that makes it needed."`
	In       []string          `yaml:"in" json:"in,omitempty" oneof:"native flutter react-native web-wrapper hosted-web dotnet engine" doc:"Layouts it is for; without, every one."`
	Why      string            `yaml:"why" json:"why" need:"yes" doc:"What does not work without it."`
}

// Constraint is a bound on one of the tree's own settings.
type Constraint struct {
	Platform ident.Platform `yaml:"platform" json:"platform,omitempty" oneof:"android ios web" doc:"On this platform."`
	Of       string         `yaml:"of" json:"of" need:"yes" oneof:"minSdk targetSdk compileSdk deploymentTarget buildPlugin kotlin ide framework deviceRuntime library" doc:"What is bounded."`
	Minimum  string         `yaml:"minimum" json:"minimum,omitempty" doc:"The least version."`
	Below    string         `yaml:"below" json:"below,omitempty" doc:"The first version that is too new."`
	Together []string       `yaml:"together" json:"together,omitempty" doc:"Coordinates that have to be at one version."`
	Why      string         `yaml:"why" json:"why" need:"yes" doc:"What happens otherwise."`
}

// Package is an official coordinate and what is taken for it.
type Package struct {
	In         string   `yaml:"in" json:"in" need:"yes" oneof:"maven pod swift pub npm nuget" doc:"The kind of registry."`
	Name       string   `yaml:"name" json:"name" need:"yes" doc:"The official coordinate."`
	LookAlikes []string `yaml:"look-alikes" json:"lookAlikes,omitempty" doc:"Coordinates of others, abandoned or alike."`
}

// Proof is the exchange that shows an app is connected.
type Proof struct {
	Title  string   `yaml:"title" json:"title" doc:"What is shown."`
	Late   string   `yaml:"late" json:"late" doc:"How late it usually shows at the service."`
	Log    string   `yaml:"log" json:"log,omitempty" doc:"The log line that shows it."`
	Silent []string `yaml:"silent" json:"silent,omitempty" doc:"What keeps it silent though everything is right."`
	Steps  []Step   `yaml:"steps" json:"steps" doc:"Requests, sent as the app would."`
}

// Step is one request of a proof, sent as the app of a platform would.
type Step struct {
	As     ident.Platform `yaml:"as" json:"as" need:"yes" oneof:"android ios web" doc:"The platform whose app sends it."`
	Title  string         `yaml:"title" json:"title" need:"yes" doc:"What it does."`
	Send   Request        `yaml:"send" json:"send" need:"yes" doc:"The request."`
	Expect Expect         `yaml:"expect" json:"expect" need:"yes" doc:"What counts as success."`
}

// Request is an HTTP request with ${config.*}, ${placed.*}, ${app.id}, ${probe.*} to be filled in.
type Request struct {
	Method  string            `yaml:"method" json:"method" need:"yes" oneof:"GET POST PUT PATCH DELETE" doc:"HTTP method."`
	Address string            `yaml:"address" json:"address" need:"yes" doc:"Where to; ${config.NAME} is read from the placed config file, ${placed.ID} is the value found at a placement, ${app.id} is what the variant builds with, ${probe.id} and ${probe.text} are new every time."`
	Headers map[string]string `yaml:"headers" json:"headers,omitempty" doc:"Header fields."`
	Body    string            `yaml:"body" json:"body,omitempty" doc:"The body."`
}

// Expect is what counts as success.
type Expect struct {
	Status int    `yaml:"status" json:"status" need:"yes" doc:"HTTP status."`
	Holds  string `yaml:"holds" json:"holds,omitempty" doc:"Text that the answer holds."`
}

// Duty is what only a person can do.
type Duty struct {
	ID     string `yaml:"id" json:"id" need:"yes" form:"id" doc:"Name of the duty."`
	Title  string `yaml:"title" json:"title" need:"yes" doc:"What is to be done or confirmed."`
	Before string `yaml:"before" json:"before,omitempty" oneof:"registering use release" doc:"When it has to be done; release if not said."`
	When   string `yaml:"when" json:"when,omitempty" doc:"A feature that makes it needed."`
}

// Connector says how to register.
type Connector struct {
	Protocol   string `yaml:"protocol" json:"protocol" need:"yes" oneof:"ligare-registration-1 oauth-dynamic-registration by-hand" doc:"Our open registration protocol, OAuth 2.0 dynamic client registration (RFC 7591 and 7592), or by hand."`
	LostAnswer string `yaml:"lost-answer" json:"lostAnswer,omitempty" oneof:"idempotency-key look-up none" doc:"How a lost answer is recovered: the request is repeated under its key, or the registration is looked up by our reference, or not at all: then the outcome is unknown and a person decides."`
	LookFor    string `yaml:"look-for" json:"lookFor,omitempty" doc:"For lost-answer none, and by hand: what to look for at the service, and where."`
	Code       string `yaml:"refusal-code" json:"refusalCode,omitempty" doc:"JSON Pointer to the code in a refusal."`
	Text       string `yaml:"refusal-text" json:"refusalText,omitempty" doc:"JSON Pointer to its words."`
	Page       string `yaml:"page" json:"page,omitempty" doc:"Where a person registers, for by-hand."`
}

// Message is a text or code people meet, the cause it points to, and what to do.
type Message struct {
	Code   string   `yaml:"code" json:"code,omitempty" doc:"The code in a refusal."`
	Text   string   `yaml:"text" json:"text,omitempty" doc:"Part of the text in a build or a log; … stands for anything in between."`
	Rules  []string `yaml:"rules" json:"rules,omitempty" form:"id" doc:"The rules of ligare check that find the cause in a tree."`
	Cause  string   `yaml:"cause" json:"cause" need:"yes" doc:"What it means."`
	Remedy string   `yaml:"remedy" json:"remedy" need:"yes" doc:"What to do."`
}

// Named is a named placement: data above one of the core's generic ensures.
type Named struct {
	Name     string            `yaml:"-" json:"name"`
	Title    string            `yaml:"title" json:"title" need:"yes" doc:"What people call it."`
	Platform ident.Platform    `yaml:"platform" json:"platform,omitempty" oneof:"android ios web" doc:"The platform it is for; without, every one."`
	Ensure   string            `yaml:"ensure" json:"ensure,omitempty" doc:"The generic ensure below it."`
	Either   []string          `yaml:"either" json:"either,omitempty" doc:"Instead of an ensure: named placements of which the first that fits the tree is taken."`
	Needs    []string          `yaml:"needs" json:"needs" doc:"Parameters it needs."`
	Takes    []string          `yaml:"takes" json:"takes,omitempty" doc:"Parameters it takes besides."`
	Settings map[string]string `yaml:"settings" json:"settings,omitempty" doc:"The ensure's settings, with ${PARAMETER} filled in."`
}

// Message gives what a refusal's code means, or nil.
func (s *Sheet) Message(code string) *Message {
	for i := range s.Messages {
		if code != "" && s.Messages[i].Code == code {
			return &s.Messages[i]
		}
	}
	return nil
}

// Ask gives an ask, or nil.
func (s *Sheet) Ask(id string) *Ask { return find(s.Asks, func(a *Ask) bool { return a.ID == id }) }

// Value gives an issued value's description, or nil.
func (s *Sheet) Value(id string) *Value {
	return find(s.Issues.Values, func(v *Value) bool { return v.ID == id })
}

// File gives a config file's description, or nil.
func (s *Sheet) File(id string) *File {
	return find(s.Issues.Files, func(f *File) bool { return f.ID == id })
}

// FileFor gives the first config file of a platform, or nil.
func (s *Sheet) FileFor(p ident.Platform) *File {
	return find(s.Issues.Files, func(f *File) bool { return f.Platform == p || f.Platform == "" })
}

// FilesFor gives all files that an identity of a platform is issued.
func (s *Sheet) FilesFor(p ident.Platform) []*File {
	var out []*File
	for i := range s.Issues.Files {
		if f := &s.Issues.Files[i]; f.Platform == p || f.Platform == "" {
			out = append(out, f)
		}
	}
	return out
}

// Feature gives a feature, or nil.
func (s *Sheet) Feature(id string) *Feature {
	return find(s.Features, func(f *Feature) bool { return f.ID == id })
}

// Duty gives a duty, or nil.
func (s *Sheet) Duty(id string) *Duty {
	return find(s.Duties, func(d *Duty) bool { return d.ID == id })
}

// Supplied gives the name under which another registration supplies an ask, "" for asks answered otherwise.
func (a *Ask) Supplied() string { return after(a.From, "supplied.") }

// DigestForm gives the form in which an ask wants a signer's digest, "" for other asks.
func (a *Ask) DigestForm() string { return after(a.From, "signer.") }

// Secret reports whether an answer must not be shown again.
func (a *Ask) Secret() bool { return a.From == "secret" }

// For reports whether an ask is put for identities of a platform.
func (a *Ask) For(p ident.Platform) bool {
	return a.Per == "identity" && (a.Platform == "" || a.Platform == p)
}

// ByHand reports whether nothing is sent to the service: its values are recorded by a person.
func (s *Sheet) ByHand() bool { return s.Connector.Protocol == ByHand }

func find[T any](list []T, is func(*T) bool) *T {
	for i := range list {
		if is(&list[i]) {
			return &list[i]
		}
	}
	return nil
}

func after(text, prefix string) string {
	if len(text) > len(prefix) && text[:len(prefix)] == prefix {
		return text[len(prefix):]
	}
	return ""
}
