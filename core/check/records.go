package check

import (
	"slices"
	"time"

	"ligare/core/ident"
)

// Records is what the server's records know of an app besides what is placed.
type Records struct {
	Identities    []Identity
	Signers       []Signer
	Registrations []Registration
	Supplies      []Supply // what the app's services want from each other
}

// Identity is one identifier of the app.
type Identity struct {
	Platform    ident.Platform
	ID          string
	DisplayName string
	Published   bool // since then the identifier cannot change
}

// Signer is a certificate the records know.
type Signer struct {
	Name, Role string // debug, upload, release, store
	SHA256     string // lower-case hex without colons
	NotAfter   time.Time
	Identities []Identity // it signs
}

// Registration is one of the app's registrations, as the records hold it.
type Registration struct {
	Key         string // of the wiring.Registration
	Service     string
	Environment string
	State       string // registered, started, unknown, failed
	Problem     string
	Features    []string
	Answers     map[string]string
	Redirects   []string
	Identities  []RegisteredIdentity
	Keys        []Key
	Duties      []Duty
	Open        []OpenAccess
	Differs     []Differing
	Looked      time.Time // when the service was asked last
	Silent      bool      // the service was asked and has seen nothing of the app
	Catalogue   []string  // how what is sold differs at the service, looked up there; nil where it was not asked
}

// OpenAccess is something that anybody may do at a service without leave, and until when; the zero time is for ever.
type OpenAccess struct {
	What  string
	Until time.Time
}

// Differing is an answer that the service has otherwise than it was given.
type Differing struct {
	Answer, Title, Identity string
	Nothing                 bool // it has none
}

// RegisteredIdentity is an identity with what the service was told of it.
type RegisteredIdentity struct {
	Identity
	Answers map[string]string
	Digests []string // as they were given to the service
}

// Key is one key that was issued: several may stand side by side, and old ones are remembered.
type Key struct {
	Name, Title, Label string // of the value, and what it was made for
	Identity           string // "" for one of the whole registration
	Value              string
	Current            bool
	Ends, Revoked      time.Time // zero for never
}

// Duty is something only a person can do.
type Duty struct {
	ID, Title, Before string // before registering, use, release
	Done              bool
}

// identity gives an identity of the app, or nil.
func (r *Records) identity(p ident.Platform, id string) *Identity {
	if r == nil {
		return nil
	}
	if i := slices.IndexFunc(r.Identities, func(x Identity) bool { return x.Platform == p && x.ID == id }); i >= 0 {
		return &r.Identities[i]
	}
	return nil
}

// registration gives what the records hold of a registration, or nil.
func (r *Records) registration(key string) *Registration {
	if r == nil {
		return nil
	}
	if i := slices.IndexFunc(r.Registrations, func(x Registration) bool { return x.Key == key }); i >= 0 {
		return &r.Registrations[i]
	}
	return nil
}

// of gives what the service was told of an identity, or nil.
func (r *Registration) of(p ident.Platform, id string) *RegisteredIdentity {
	if i := slices.IndexFunc(r.Identities, func(x RegisteredIdentity) bool { return x.Platform == p && x.ID == id }); i >= 0 {
		return &r.Identities[i]
	}
	return nil
}
