package base

import (
	"sort"
	"time"
)

// Registration is what a service keeps of one registration.
type Registration struct {
	ID, Account, Reference string
	Revision               int
	Answers                map[string]string
	Features               map[string]bool
	Values                 map[string]string
	Identities             []*Identity
	Redirects              []string
	Keys                   []*Key
	Berths                 map[string]*Berth
	Items                  map[string]*Item
	Fields                 map[string]string
	FieldsAt               time.Time
	Builds                 []*Build
	Open                   []OpenAccess
	Papers                 map[string]string // what apps left: records, device tokens
	Sightings              []Sighting
	Made                   time.Time
}

// OpenAccess is something that anybody may do without leave, for as long as the app is only tried.
type OpenAccess struct {
	What  string     `json:"what"`
	Until *time.Time `json:"until,omitempty"`
}

// Identity is one identity with what was issued for it.
type Identity struct {
	Platform, Identifier, DisplayName string
	Answers, Values                   map[string]string
	Digests                           []string
}

// Key is one key that can be exchanged.
type Key struct {
	ID         string     `json:"id"`
	Name       string     `json:"name"`
	Platform   string     `json:"platform,omitempty"`
	Identifier string     `json:"identifier,omitempty"`
	Label      string     `json:"label"`
	Value      string     `json:"value"`
	Created    time.Time  `json:"created"`
	Ends       *time.Time `json:"ends,omitempty"`
	Revoked    *time.Time `json:"revoked,omitempty"`
}

// Live reports whether a key is taken now.
func (k *Key) Live() bool { return k.Revoked == nil && (k.Ends == nil || time.Now().Before(*k.Ends)) }

// Berth is a free-named place for releases.
type Berth struct {
	Name    string `json:"name"`
	Release string `json:"release,omitempty"`
}

// Item is something sold in the app.
type Item struct {
	Product string `json:"product"`
	Kind    string `json:"kind"`
	Title   string `json:"title"`
	Group   string `json:"group,omitempty"`
	Price   string `json:"price,omitempty"` // "2.50 EUR"
	Active  bool   `json:"active"`
}

// Build is one build of a hosted builder.
type Build struct {
	ID         string            `json:"id"`
	At         time.Time         `json:"at"`
	Platform   string            `json:"platform"`
	Identifier string            `json:"identifier"`
	Fields     map[string]string `json:"fields"`
	Digest     string            `json:"digest"` // of the certificate it was signed with, SHA-256 hex
}

// Sighting is what the service saw of an app.
type Sighting struct {
	ID         string            `json:"id"`
	At         time.Time         `json:"at"`
	Platform   string            `json:"platform"`
	Identifier string            `json:"identifier"`
	Kind       string            `json:"kind"`
	Facts      map[string]string `json:"facts"`
}

// Find gives an identity, or nil.
func (r *Registration) Find(platform, identifier string) *Identity {
	for _, i := range r.Identities {
		if i.Platform == platform && i.Identifier == identifier {
			return i
		}
	}
	return nil
}

// Seen adds a sighting.
func (r *Registration) Seen(i *Identity, kind string, facts map[string]string) {
	s := Sighting{ID: Hex(8), At: time.Now().UTC(), Kind: kind, Facts: facts}
	if i != nil {
		s.Platform, s.Identifier = i.Platform, i.Identifier
	}
	r.Sightings = append(r.Sightings, s)
	if len(r.Sightings) > 1000 {
		r.Sightings = r.Sightings[len(r.Sightings)-1000:]
	}
}

// View is the registration as the protocol shows it.
func (r *Registration) View() map[string]any {
	ids := []any{}
	for _, i := range r.Identities {
		ids = append(ids, map[string]any{"platform": i.Platform, "identifier": i.Identifier, "display_name": i.DisplayName, "values": orEmpty(i.Values), "digests": append([]string{}, i.Digests...), "received": digests(i.Answers)})
	}
	features := []string{}
	for f, on := range r.Features {
		if on {
			features = append(features, f)
		}
	}
	sort.Strings(features)
	berths := []*Berth{}
	for _, b := range r.Berths {
		berths = append(berths, b)
	}
	sort.Slice(berths, func(i, j int) bool { return berths[i].Name < berths[j].Name })
	return map[string]any{"id": r.ID, "reference": r.Reference, "revision": r.Revision, "features": features, "values": orEmpty(r.Values), "identities": ids,
		"redirects": append([]string{}, r.Redirects...), "received": digests(r.Answers), "keys": append([]*Key{}, r.Keys...), "berths": berths, "fields": orEmpty(r.Fields), "open": append([]OpenAccess{}, r.Open...)}
}

func orEmpty(m map[string]string) map[string]string {
	if m == nil {
		return map[string]string{}
	}
	return m
}

func digests(answers map[string]string) map[string]string {
	out := map[string]string{}
	for k, v := range answers {
		out[k] = Digest(v)
	}
	return out
}

// Copy gives a registration that can be changed without touching the one that is kept.
func (r *Registration) Copy() *Registration {
	c := *r
	c.Answers, c.Values, c.Fields, c.Papers = copied(r.Answers), copied(r.Values), copied(r.Fields), copied(r.Papers)
	c.Features = copied(r.Features)
	c.Identities = nil
	for _, i := range r.Identities {
		x := *i
		x.Answers, x.Values = copied(i.Answers), copied(i.Values)
		x.Digests = append([]string{}, i.Digests...)
		c.Identities = append(c.Identities, &x)
	}
	c.Redirects, c.Sightings = append([]string{}, r.Redirects...), append([]Sighting{}, r.Sightings...)
	c.Open = append([]OpenAccess{}, r.Open...)
	c.Keys, c.Builds = nil, append([]*Build{}, r.Builds...)
	for _, k := range r.Keys {
		x := *k
		c.Keys = append(c.Keys, &x)
	}
	c.Berths, c.Items = map[string]*Berth{}, map[string]*Item{}
	for k, v := range r.Berths {
		x := *v
		c.Berths[k] = &x
	}
	for k, v := range r.Items {
		x := *v
		c.Items[k] = &x
	}
	return &c
}

func copied[V any](m map[string]V) map[string]V {
	out := map[string]V{}
	for k, v := range m {
		out[k] = v
	}
	return out
}
