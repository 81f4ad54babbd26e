// Package shape is the API's data as it crosses the wire, shared by the server and its typed client.
package shape

import (
	"encoding/json"
	"time"
)

// Problem is an error answer (RFC 9457). Remedy is our extension: what to do next.
type Problem struct {
	Type   string `json:"type"`
	Title  string `json:"title"`
	Status int    `json:"status"`
	Detail string `json:"detail,omitempty"`
	Remedy string `json:"remedy,omitempty"`
}

func (p *Problem) Error() string {
	if p.Detail != "" {
		return p.Detail
	}
	return p.Title
}

// Page is one page of a list.
type Page[T any] struct {
	Items []T    `json:"items"`
	Next  string `json:"next,omitempty"`
}

// Me is who a token belongs to.
type Me struct {
	Team    string     `json:"team"`
	Name    string     `json:"name"`
	Kind    string     `json:"kind"` // person, machine
	Role    string     `json:"role"` // reader, developer, owner
	Expires *time.Time `json:"expires,omitempty"`
}

// SignIn is a token given for a session.
type SignIn struct {
	Token string `json:"token"`
}

// App is what users know by one name.
type App struct {
	ID           string     `json:"id"`
	Name         string     `json:"name"`
	Title        string     `json:"title"`
	Environments []string   `json:"environments"`
	Identities   []Identity `json:"identities"`
	Created      time.Time  `json:"created"`
	Version      int        `json:"version"`
}

// Identity is one application ID or bundle ID.
type Identity struct {
	ID          string     `json:"id"`
	Platform    string     `json:"platform"`
	Identifier  string     `json:"identifier"`
	DisplayName string     `json:"displayName,omitempty"`
	StoreID     string     `json:"storeId,omitempty"`
	Published   *time.Time `json:"published,omitempty"` // since then the identifier is frozen
}

// NewApp creates an app with its first identities and environments; one that exists is extended.
type NewApp struct {
	Name         string        `json:"name"`
	Title        string        `json:"title"`
	Environments []string      `json:"environments"`
	Identities   []NewIdentity `json:"identities"`
}

// NewIdentity adds an identity.
type NewIdentity struct {
	Platform    string `json:"platform"`
	Identifier  string `json:"identifier"`
	DisplayName string `json:"displayName,omitempty"`
}

// Signer is a certificate that signs builds: public parts only.
type Signer struct {
	ID         string           `json:"id"`
	Name       string           `json:"name"`
	Role       string           `json:"role"` // debug, upload, release, store
	Owner      string           `json:"owner,omitempty"`
	Machine    string           `json:"machine,omitempty"`
	Subject    string           `json:"subject"`
	NotBefore  time.Time        `json:"notBefore"`
	NotAfter   time.Time        `json:"notAfter"`
	Key        string           `json:"keyAlgorithm"`
	Bits       int              `json:"keySize"`
	Algorithm  string           `json:"signatureAlgorithm"`
	Warnings   []string         `json:"warnings,omitempty"`
	Digests    any              `json:"digests"`
	Identities []SignedIdentity `json:"identities"`
	Needs      []SignerNeed     `json:"needs"`
}

// SignedIdentity is an identity whose builds a signer signs.
type SignedIdentity struct {
	ID         string `json:"id"`
	App        string `json:"app"`
	Platform   string `json:"platform"`
	Identifier string `json:"identifier"`
}

// SignerNeed is a registration whose service asks for a signer's digest, and whether it has this one.
type SignerNeed struct {
	Service     string `json:"service"`
	Title       string `json:"title"`
	Environment string `json:"environment,omitempty"`
	App         string `json:"app"`
	Identifier  string `json:"identifier"`
	Form        string `json:"form"`  // sha256-hex, sha1-base64, ...
	Value       string `json:"value"` // the digest in that form
	Registered  bool   `json:"registered"`
	Feature     string `json:"feature,omitempty"` // the digest is wanted once this is switched on
}

// NewSigner adds a signer by its certificate; App and Identities say which Android builds it signs (all of the app's,
// if none is named).
type NewSigner struct {
	Name        string   `json:"name"`
	Role        string   `json:"role"`
	Owner       string   `json:"owner,omitempty"`
	Machine     string   `json:"machine,omitempty"`
	App         string   `json:"app,omitempty"`
	Identities  []string `json:"identities,omitempty"`
	Certificate []byte   `json:"certificate"`       // DER
	Replace     bool     `json:"replace,omitempty"` // it takes the place of the one of this name, as one of the role debug does in any case
}

// Survey is what the last survey of an app's trees said of each variant.
type Survey struct {
	At       *time.Time        `json:"at,omitempty"`
	Variants []SurveyedVariant `json:"variants"`
}

// SurveyedVariant is one variant with its facts, what counts first.
type SurveyedVariant struct {
	Platform    string         `json:"platform"`
	Site        string         `json:"site"` // module folder, or project and target
	Variant     string         `json:"variant"`
	Layout      string         `json:"layout"`
	Identity    string         `json:"identity,omitempty"`
	Environment string         `json:"environment,omitempty"`
	Facts       []SurveyedFact `json:"facts"`
}

// SurveyedFact is one fact with its place; Value is empty where it has several outcomes or none.
type SurveyedFact struct {
	Name       string   `json:"name"`
	Value      string   `json:"value,omitempty"`
	Possible   []string `json:"possible,omitempty"` // value when condition
	Unresolved string   `json:"unresolved,omitempty"`
	Place      string   `json:"place,omitempty"` // file:line:column
	Via        []string `json:"via,omitempty"`
}

// Service is a sheet and how the team stands with the service.
type Service struct {
	Service   string          `json:"service"`
	Title     string          `json:"title"`
	Kind      string          `json:"kind"`
	Digest    string          `json:"digest"`
	Own       bool            `json:"own"`      // the team's own sheet, not one that ships
	Protocol  string          `json:"protocol"` // ligare-registration-1, oauth-dynamic-registration, by-hand
	Connected bool            `json:"connected"`
	Address   string          `json:"address,omitempty"`
	Sheet     json.RawMessage `json:"sheet,omitempty"`
	Source    string          `json:"source,omitempty"`
}

// NewSheet adds a team's own sheet, or a new version of it.
type NewSheet struct {
	Source string `json:"source"` // YAML
}

// SheetVersion is one version of a sheet that was used.
type SheetVersion struct {
	Service string     `json:"service"`
	Digest  string     `json:"digest"`
	Current bool       `json:"current"`
	Who     string     `json:"who,omitempty"`
	Created *time.Time `json:"created,omitempty"`
	Source  string     `json:"source,omitempty"`
}

// Connect opens the team's account with a service.
type Connect struct {
	Address    string `json:"address"`
	Credential string `json:"credential,omitempty"` // "" opens a new account
}

// Registration is app × service × environment, or what else the sheet says one spans.
type Registration struct {
	ID          string            `json:"id"`
	App         string            `json:"app"`
	Service     string            `json:"service"`
	Title       string            `json:"title"`
	Scope       string            `json:"scope"`
	Environment string            `json:"environment"`
	State       string            `json:"state"`            // started, registered, unknown, failed
	ByHand      bool              `json:"byHand,omitempty"` // a person registers there and records what was issued
	Reference   string            `json:"reference"`
	RemoteID    string            `json:"remoteId,omitempty"`
	Revision    int               `json:"revision"`
	Features    []string          `json:"features"`
	Answers     map[string]string `json:"answers"` // those that may be shown
	Identities  []Registered      `json:"identities"`
	Values      []IssuedValue     `json:"values"`
	Keys        []Key             `json:"keys"`
	Redirects   []string          `json:"redirects"`
	Berths      []Berth           `json:"berths"`
	Fields      map[string]string `json:"fields"`
	Duties      []Duty            `json:"duties"`
	Wanting     []string          `json:"wanting,omitempty"` // values and files that are still to be recorded by hand
	Problem     string            `json:"problem,omitempty"`
	Remedy      string            `json:"remedy,omitempty"`
	Notes       []string          `json:"notes,omitempty"`   // what was cleaned, what has to follow
	Open        []OpenAccess      `json:"open,omitempty"`    // what anybody may do there without leave
	Differs     []Differing       `json:"differs,omitempty"` // answers that the service has otherwise than they were given
	Looked      *time.Time        `json:"looked,omitempty"`
	Created     time.Time         `json:"created"`
}

// OpenAccess is something that anybody may do at a service without leave, for as long as the app is only tried.
type OpenAccess struct {
	What  string     `json:"what"`
	Until *time.Time `json:"until,omitempty"`
}

// Differing is an answer that a service was seen to have otherwise than it was given: changed there, or never saved.
type Differing struct {
	Answer     string `json:"answer"`
	Title      string `json:"title"`
	Platform   string `json:"platform,omitempty"`
	Identifier string `json:"identifier,omitempty"`
	Nothing    bool   `json:"nothing,omitempty"` // the service has none
}

// Registered is an identity a registration covers, with what was issued for it.
type Registered struct {
	Platform   string            `json:"platform"`
	Identifier string            `json:"identifier"`
	Published  bool              `json:"published,omitempty"`
	Values     []IssuedValue     `json:"values"`
	Files      []IssuedFile      `json:"files"`
	Digests    []string          `json:"digests,omitempty"`
	Answers    map[string]string `json:"answers,omitempty"`
	Sources    map[string]string `json:"sources,omitempty"` // answer -> where it was found
}

// IssuedFile is a config or licence file, without its content.
type IssuedFile struct {
	ID       string     `json:"id"`
	Name     string     `json:"name"`
	Kind     string     `json:"kind"`     // config, licence, archive
	Revision int        `json:"revision"` // of the registration when it was fetched; for one recorded by hand, what it says itself
	Old      bool       `json:"old"`      // the registration has changed since
	Fetched  time.Time  `json:"fetched"`
	Ends     *time.Time `json:"ends,omitempty"`
}

// IssuedValue is shown with its value when it may ship in the app, and without when it must not.
type IssuedValue struct {
	Name     string `json:"name"`
	Title    string `json:"title"`
	Exposure string `json:"exposure"`
	Value    string `json:"value,omitempty"`
	By       string `json:"by,omitempty"`      // person, for a value that was recorded by hand
	Instead  string `json:"instead,omitempty"` // for a server value that a library wants in the app: what to do instead
}

// Key is one key that can be exchanged. Its value is shown where it may ship.
type Key struct {
	ID         string     `json:"id"`
	Name       string     `json:"name"` // of the value
	Title      string     `json:"title"`
	Exposure   string     `json:"exposure"`
	Platform   string     `json:"platform,omitempty"`
	Identifier string     `json:"identifier,omitempty"`
	Label      string     `json:"label,omitempty"`
	Value      string     `json:"value,omitempty"`
	Current    bool       `json:"current"`
	Issued     time.Time  `json:"issued"`
	Ends       *time.Time `json:"ends,omitempty"`
	Revoked    *time.Time `json:"revoked,omitempty"`
}

// NewKey asks for a key: an exchange of the one in use, or, with a label, one beside it.
type NewKey struct {
	Name       string     `json:"name"`
	Platform   string     `json:"platform,omitempty"`
	Identifier string     `json:"identifier,omitempty"`
	Label      string     `json:"label,omitempty"`
	Ends       *time.Time `json:"ends,omitempty"`
}

// Berth is a free-named place for releases, and the environment whose builds take from it.
type Berth struct {
	Name        string `json:"name"`
	Environment string `json:"environment,omitempty"`
}

// Duty is what only a person can do or confirm.
type Duty struct {
	Registration string     `json:"registration"`
	App          string     `json:"app"`
	Service      string     `json:"service"`
	Environment  string     `json:"environment,omitempty"`
	Identity     string     `json:"identity,omitempty"` // where a registration is of one identity: its platform and identifier
	ID           string     `json:"id"`
	Title        string     `json:"title"`
	Before       string     `json:"before"` // registering, use, release
	Done         *time.Time `json:"done,omitempty"`
	By           string     `json:"by,omitempty"`
	Note         string     `json:"note,omitempty"`
}

// DutyDone confirms a duty, or takes the confirmation back.
type DutyDone struct {
	Done bool   `json:"done"`
	Note string `json:"note,omitempty"`
}

// Register asks for a registration, or for identities, features, digests, redirects and berths to be added to one that
// exists.
type Register struct {
	App         string            `json:"app"`
	Service     string            `json:"service"`
	Environment string            `json:"environment"`
	Answers     map[string]string `json:"answers"`
	Identities  []IdentityAnswers `json:"identities"`
	Features    []string          `json:"features"`
	FeaturesOff []string          `json:"featuresOff,omitempty"`
	Redirects   []string          `json:"redirects,omitempty"`
	NoRedirects []string          `json:"noRedirects,omitempty"` // to be taken away
	Berths      []Berth           `json:"berths,omitempty"`
	From        map[string]string `json:"from,omitempty"` // slot -> registration that supplies it, where several could
}

// IdentityAnswers is one identity with the answers the sheet asks for it, and where each was found.
type IdentityAnswers struct {
	Platform   string            `json:"platform"`
	Identifier string            `json:"identifier"`
	Answers    map[string]string `json:"answers,omitempty"`
	Sources    map[string]string `json:"sources,omitempty"`
}

// Plan is what would be sent to a service, and what stands in the way. Nothing was sent.
type Plan struct {
	App         string        `json:"app"`
	Service     string        `json:"service"`
	Title       string        `json:"title"`
	Environment string        `json:"environment,omitempty"`
	Standing    string        `json:"standing,omitempty"` // ID of the registration that would be added to
	Identities  []PlanPart    `json:"identities"`
	Lines       []PlanLine    `json:"lines"`
	Redirects   []PlanLine    `json:"redirects"`
	Features    []PlanFeature `json:"features"`
	Duties      []Duty        `json:"duties"` // to be done before registering
	ByHand      string        `json:"byHand,omitempty"`
	Ready       bool          `json:"ready"`
}

// PlanPart is an identity of a plan.
type PlanPart struct {
	Platform   string `json:"platform"`
	Identifier string `json:"identifier"`
	Standing   bool   `json:"standing"` // it is registered already
}

// PlanFeature is a feature of a plan.
type PlanFeature struct {
	ID    string `json:"id"`
	Title string `json:"title"`
	On    bool   `json:"on"`
	Asked bool   `json:"asked"`
}

// PlanLine is one answer of a plan, in exactly the form it would be sent.
type PlanLine struct {
	Ask        string   `json:"ask"`
	Title      string   `json:"title"`
	Help       string   `json:"help,omitempty"`
	Platform   string   `json:"platform,omitempty"`
	Identifier string   `json:"identifier,omitempty"`
	Value      string   `json:"value,omitempty"` // empty for a secret
	Given      bool     `json:"given"`
	Secret     bool     `json:"secret,omitempty"`
	From       string   `json:"from,omitempty"` // where it was found
	Needed     bool     `json:"needed"`
	Kind       string   `json:"kind"` // text, choice, secret, file, image, found
	Choices    []string `json:"choices,omitempty"`
	Example    string   `json:"example,omitempty"`
	Problem    string   `json:"problem,omitempty"`
	Remedy     string   `json:"remedy,omitempty"`
}

// Resolve says what a person found at the service after an answer was lost.
type Resolve struct {
	Found  string `json:"found,omitempty"`  // the service's name of the registration
	Absent bool   `json:"absent,omitempty"` // nothing is there: it may be tried again
}

// Recorded is values and files that were issued elsewhere and are entered by hand.
type Recorded struct {
	Values []RecordedValue `json:"values"`
	Files  []RecordedFile  `json:"files"`
	Force  bool            `json:"force,omitempty"` // keep a value that has not the sheet's form
}

// RecordedValue is one value as it was pasted.
type RecordedValue struct {
	Name       string `json:"name"`
	Platform   string `json:"platform,omitempty"`
	Identifier string `json:"identifier,omitempty"`
	Value      string `json:"value"`
}

// RecordedFile is one file as it was downloaded.
type RecordedFile struct {
	Name    string `json:"name"` // as it is called where it lies
	File    string `json:"file,omitempty"`
	Content []byte `json:"content"`
}

// Connection is one value that flows, or shall flow, from one registration into another.
type Connection struct {
	App           string     `json:"app"`
	Slot          string     `json:"slot"`
	Title         string     `json:"title"`
	Takes         string     `json:"takes"`
	Registration  string     `json:"registration"` // that receives
	Service       string     `json:"service"`
	Environment   string     `json:"environment,omitempty"`
	Supplier      string     `json:"supplier,omitempty"` // registration that supplies
	From          string     `json:"from,omitempty"`     // its service
	FromTitle     string     `json:"fromTitle,omitempty"`
	FromWhere     string     `json:"fromWhere,omitempty"` // its environment
	Value         string     `json:"value,omitempty"`     // name of its value
	Exposure      string     `json:"exposure,omitempty"`
	State         string     `json:"state"` // no supplier, several suppliers, open, carried, saved, old
	Say           string     `json:"say"`
	Remedy        string     `json:"remedy,omitempty"`
	Choices       []string   `json:"choices,omitempty"` // registrations that could supply it
	At            *time.Time `json:"at,omitempty"`
	Needed        bool       `json:"needed"`
	DownstreamHas bool       `json:"downstreamHas"` // the service has some value there
}

// Carry asks for a value to be carried into a registration.
type Carry struct {
	Slot string `json:"slot"`
	From string `json:"from,omitempty"` // registration that supplies, where several could
}

// Reason is why somebody needs server secrets.
type Reason struct {
	Reason string   `json:"reason"`
	Names  []string `json:"names,omitempty"` // all, if none is named
}

// ServerSecret is a value for a backend's environment.
type ServerSecret struct {
	Name  string `json:"name"`
	Title string `json:"title"`
	Env   string `json:"env"`
	Value string `json:"value"`
}

// Published marks an identity as published.
type Published struct {
	Platform   string `json:"platform"`
	Identifier string `json:"identifier"`
	StoreID    string `json:"storeId,omitempty"`
}

// Item is something sold in the app.
type Item struct {
	Product string `json:"product"`
	Kind    string `json:"kind"` // consumable, non-consumable, subscription
	Title   string `json:"title"`
	Group   string `json:"group,omitempty"`
	Price   string `json:"price,omitempty"` // 2.50 EUR
	Active  bool   `json:"active"`
}

// Catalogue is what shall be sold beside what the service has.
type Catalogue struct {
	Items    []CatalogueLine `json:"items"`
	Problems []string        `json:"problems,omitempty"`
	Agrees   bool            `json:"agrees"`
}

// CatalogueLine is one item on both sides.
type CatalogueLine struct {
	Product string `json:"product"`
	Wanted  *Item  `json:"wanted,omitempty"`
	There   *Item  `json:"there,omitempty"`
	Say     string `json:"say"` // agrees, missing there, only there, differs: ...
}

// NewCatalogue is the items that shall be sold.
type NewCatalogue struct {
	Items []Item `json:"items"`
	Send  bool   `json:"send"` // bring the service to it
}

// Builder is a hosted builder's fields and builds.
type Builder struct {
	Fields  []BuilderField `json:"fields"`
	Builds  []Build        `json:"builds"`
	Changed *time.Time     `json:"changed,omitempty"` // when a field was changed last
	Stale   bool           `json:"stale"`             // no build is newer than that
}

// BuilderField is one field with what the builder has and what belongs there.
type BuilderField struct {
	ID      string `json:"id"`
	Title   string `json:"title"`
	Group   string `json:"group,omitempty"`
	Value   string `json:"value"`
	Belongs string `json:"belongs,omitempty"` // the supplied value, if it is known
	From    string `json:"from,omitempty"`
	Rebuild bool   `json:"rebuild"`
	Say     string `json:"say,omitempty"`
}

// SetField types a field.
type SetField struct {
	Value string `json:"value"`
}

// Build is one build of a hosted builder.
type Build struct {
	ID         string            `json:"id"`
	At         time.Time         `json:"at"`
	Platform   string            `json:"platform"`
	Identifier string            `json:"identifier"`
	Digest     string            `json:"digest"`
	Fields     map[string]string `json:"fields"`
	Old        []string          `json:"old,omitempty"` // fields that changed since
}

// Placing is all that placing needs of a registration: the sheet, client values and config files. Server values never
// stand here.
type Placing struct {
	Registration string            `json:"registration"`
	Service      string            `json:"service"`
	Environment  string            `json:"environment"`
	Revision     int               `json:"revision"`
	Sheet        string            `json:"sheet"` // its YAML
	Features     []string          `json:"features"`
	Answers      map[string]string `json:"answers"` // those that may be shown
	Berths       map[string]string `json:"berths"`  // environment -> berth
	Values       map[string]string `json:"values"`
	Identities   []PlacingIdentity `json:"identities"`
}

// PlacingIdentity is what was issued for one identity.
type PlacingIdentity struct {
	Platform   string            `json:"platform"`
	Identifier string            `json:"identifier"`
	Values     map[string]string `json:"values"`
	Files      map[string][]byte `json:"files,omitempty"` // by their names in the sheet
}

// Sighting is what a service saw.
type Sighting struct {
	ID          string            `json:"id"`
	App         string            `json:"app"`
	Service     string            `json:"service"`
	Environment string            `json:"environment"`
	At          time.Time         `json:"at"`
	Platform    string            `json:"platform"`
	Identifier  string            `json:"identifier"`
	Kind        string            `json:"kind"`
	Facts       map[string]string `json:"facts"`
}

// Overview is apps × services.
type Overview struct {
	Services []OverviewService `json:"services"`
	Apps     []OverviewApp     `json:"apps"`
}

// OverviewService is one column.
type OverviewService struct {
	Service string `json:"service"`
	Title   string `json:"title"`
}

// OverviewApp is one row.
type OverviewApp struct {
	Name  string         `json:"name"`
	Title string         `json:"title"`
	Cells []OverviewCell `json:"cells"`
}

// OverviewCell is the worst thing known about an app at a service, and how fresh that is.
type OverviewCell struct {
	Service      string     `json:"service"`
	State        string     `json:"state"` // none, unknown, error, warning, silent, working
	Say          string     `json:"say"`
	Checked      *time.Time `json:"checked,omitempty"`
	LastSighting *time.Time `json:"lastSighting,omitempty"`
}

// Event is one live event.
type Event struct {
	ID    int64           `json:"id"`
	Topic string          `json:"topic"`
	Body  json.RawMessage `json:"body"`
}
