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
	Published   *time.Time `json:"published,omitempty"`
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
	Certificate []byte   `json:"certificate"` // DER
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
	Connected bool            `json:"connected"`
	Address   string          `json:"address,omitempty"`
	Sheet     json.RawMessage `json:"sheet,omitempty"`
	Source    string          `json:"source,omitempty"`
}

// Connect opens the team's account with a service.
type Connect struct {
	Address    string `json:"address"`
	Credential string `json:"credential,omitempty"` // "" opens a new account
}

// Registration is app × service × environment.
type Registration struct {
	ID          string        `json:"id"`
	App         string        `json:"app"`
	Service     string        `json:"service"`
	Environment string        `json:"environment"`
	State       string        `json:"state"` // started, registered, unknown, failed
	Reference   string        `json:"reference"`
	RemoteID    string        `json:"remoteId,omitempty"`
	Revision    int           `json:"revision"`
	Features    []string      `json:"features"`
	Identities  []Registered  `json:"identities"`
	Values      []IssuedValue `json:"values"`
	Problem     string        `json:"problem,omitempty"`
	Remedy      string        `json:"remedy,omitempty"`
	Created     time.Time     `json:"created"`
}

// Registered is an identity a registration covers, with what was issued for it.
type Registered struct {
	Platform   string        `json:"platform"`
	Identifier string        `json:"identifier"`
	Values     []IssuedValue `json:"values"`
	File       string        `json:"file,omitempty"` // name of its config file
	Digests    []string      `json:"digests,omitempty"`
}

// IssuedValue is shown with its value when it may ship in the app, and without when it must not.
type IssuedValue struct {
	Name     string `json:"name"`
	Title    string `json:"title"`
	Exposure string `json:"exposure"`
	Value    string `json:"value,omitempty"`
}

// Register asks for a registration, or for identities, features and digests to be added to one that exists.
type Register struct {
	App         string            `json:"app"`
	Service     string            `json:"service"`
	Environment string            `json:"environment"`
	Answers     map[string]string `json:"answers"`
	Identities  []IdentityAnswers `json:"identities"`
	Features    []string          `json:"features"`
}

// IdentityAnswers is one identity with the answers the sheet asks for it.
type IdentityAnswers struct {
	Platform   string            `json:"platform"`
	Identifier string            `json:"identifier"`
	Answers    map[string]string `json:"answers,omitempty"`
}

// Placing is all that placing needs of a registration: the sheet, client values and config files. Server values never
// stand here.
type Placing struct {
	Registration string            `json:"registration"`
	Service      string            `json:"service"`
	Environment  string            `json:"environment"`
	Revision     int               `json:"revision"`
	Sheet        string            `json:"sheet"` // its YAML
	Values       map[string]string `json:"values"`
	Identities   []PlacingIdentity `json:"identities"`
}

// PlacingIdentity is what was issued for one identity.
type PlacingIdentity struct {
	Platform   string            `json:"platform"`
	Identifier string            `json:"identifier"`
	Values     map[string]string `json:"values"`
	File       []byte            `json:"file,omitempty"`
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

// Report is what a check sends up: identifiers, digests, findings with place. No source.
type Report struct {
	Findings []Finding       `json:"findings"`
	LineUp   json.RawMessage `json:"lineUp"`
	Looked   int             `json:"looked"`
	Blind    int             `json:"notLooked"`
	At       time.Time       `json:"at"`
}

// Finding is the part of a finding that is sent up.
type Finding struct {
	Rule        string `json:"rule"`
	Severity    string `json:"severity"`
	Message     string `json:"message"`
	Variant     string `json:"variant"`
	File        string `json:"file"`
	Line        int    `json:"line"`
	Column      int    `json:"column"`
	Fingerprint string `json:"fingerprint"`
}

// LineUp is the table with the server's columns added.
type LineUp struct {
	Columns []string        `json:"columns"`
	Rows    json.RawMessage `json:"rows"`
	At      *time.Time      `json:"at,omitempty"` // when the tree was last checked
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
