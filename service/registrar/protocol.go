package registrar

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"net/url"
	"time"
)

// The calls of the open registration protocol beyond making and reading; docs/reference/registration-protocol.md.

func at(id string, more ...string) string {
	p := "/registrations/" + url.PathEscape(id)
	for _, m := range more {
		p += "/" + url.PathEscape(m)
	}
	return p
}

// Create registers. The key makes it repeatable, where the service knows keys.
func (r *Remote) Create(ctx context.Context, key string, n New) (*Registration, error) {
	out := &Registration{}
	return out, r.call(ctx, "POST", "/registrations", key, n, out)
}

// ByReference looks for a registration by our own reference; nil when there is none.
func (r *Remote) ByReference(ctx context.Context, reference string) (*Registration, error) {
	var out struct{ Registrations []*Registration }
	if err := r.call(ctx, "GET", "/registrations?reference="+url.QueryEscape(reference), "", nil, &out); err != nil || len(out.Registrations) == 0 {
		return nil, err
	}
	return out.Registrations[0], nil
}

// Get reads a registration.
func (r *Remote) Get(ctx context.Context, id string) (*Registration, error) {
	out := &Registration{}
	return out, r.call(ctx, "GET", at(id), "", nil, out)
}

// Remove takes a registration away at the service.
func (r *Remote) Remove(ctx context.Context, id string) error {
	return r.call(ctx, "DELETE", at(id), "", nil, nil)
}

// AddIdentity adds an identity.
func (r *Remote) AddIdentity(ctx context.Context, id, key string, n NewIdentity) (*Registration, error) {
	out := &Registration{}
	return out, r.call(ctx, "POST", at(id, "identities"), key, n, out)
}

// AddDigest registers a signing certificate's digest for an identity.
func (r *Remote) AddDigest(ctx context.Context, id, key, platform, identifier, digest string) (*Registration, error) {
	out := &Registration{}
	body := map[string]string{"platform": platform, "identifier": identifier, "digest": digest}
	return out, r.call(ctx, "POST", at(id, "digests"), key, body, out)
}

// SetFeature switches a feature.
func (r *Remote) SetFeature(ctx context.Context, id, feature string, on bool) (*Registration, error) {
	out := &Registration{}
	return out, r.call(ctx, "PUT", at(id, "features", feature), "", map[string]bool{"enabled": on}, out)
}

// SetAnswer gives or changes an answer; platform and identifier are empty for one of the whole registration.
func (r *Remote) SetAnswer(ctx context.Context, id, name, value, platform, identifier string) (*Registration, error) {
	out := &Registration{}
	body := map[string]string{"value": value}
	if platform != "" {
		body["platform"], body["identifier"] = platform, identifier
	}
	return out, r.call(ctx, "PUT", at(id, "answers", name), "", body, out)
}

// SetRedirects saves the list of redirect URIs.
func (r *Remote) SetRedirects(ctx context.Context, id string, list []string) (*Registration, error) {
	out := &Registration{}
	return out, r.call(ctx, "PUT", at(id, "redirects"), "", map[string][]string{"redirects": list}, out)
}

// NewKey makes a key for a value; a label makes one beside the first, ends limits it.
func (r *Remote) NewKey(ctx context.Context, id, key string, n NewKey) (*Registration, error) {
	out := &Registration{}
	return out, r.call(ctx, "POST", at(id, "keys"), key, n, out)
}

// RevokeKey ends a key now.
func (r *Remote) RevokeKey(ctx context.Context, id, key string) (*Registration, error) {
	out := &Registration{}
	return out, r.call(ctx, "PUT", at(id, "keys", key), "", map[string]bool{"revoked": true}, out)
}

// DeleteKey forgets a key.
func (r *Remote) DeleteKey(ctx context.Context, id, key string) (*Registration, error) {
	out := &Registration{}
	return out, r.call(ctx, "DELETE", at(id, "keys", key), "", nil, out)
}

// SetBerth makes a berth.
func (r *Remote) SetBerth(ctx context.Context, id, name string) (*Registration, error) {
	out := &Registration{}
	return out, r.call(ctx, "PUT", at(id, "berths", name), "", struct{}{}, out)
}

// File fetches a config file with its content.
func (r *Remote) File(ctx context.Context, id, platform, identifier, file string) ([]byte, error) {
	var out []byte
	return out, r.call(ctx, "GET", at(id, "files", platform, identifier)+"?file="+url.QueryEscape(file), "", nil, &out)
}

// Sightings gives what was seen after a sighting ("" for all kept).
func (r *Remote) Sightings(ctx context.Context, id, after string) ([]Sighting, error) {
	var out struct{ Sightings []Sighting }
	err := r.call(ctx, "GET", at(id, "sightings")+"?after="+url.QueryEscape(after), "", nil, &out)
	return out.Sightings, err
}

// Catalogue gives the items the service has.
func (r *Remote) Catalogue(ctx context.Context, id string) ([]Item, error) {
	var out struct{ Items []Item }
	err := r.call(ctx, "GET", at(id, "catalogue"), "", nil, &out)
	return out.Items, err
}

// SaveItem adds or changes an item; whether it is active stays.
func (r *Remote) SaveItem(ctx context.Context, id string, i Item) error {
	return r.call(ctx, "PUT", at(id, "catalogue", i.Product), "", i, nil)
}

// Activate makes an item active, or not.
func (r *Remote) Activate(ctx context.Context, id, product string, on bool) error {
	return r.call(ctx, "PUT", at(id, "catalogue", product, "active"), "", map[string]bool{"active": on}, nil)
}

// SetField types a field of a builder's settings.
func (r *Remote) SetField(ctx context.Context, id, name, value string) (*Registration, error) {
	out := &Registration{}
	return out, r.call(ctx, "PUT", at(id, "fields", name), "", map[string]string{"value": value}, out)
}

// Builds gives a builder's builds, and when its fields were changed last.
func (r *Remote) Builds(ctx context.Context, id string) (builds []Build, changed time.Time, err error) {
	var out struct {
		Builds  []Build
		Changed time.Time `json:"fields_changed"`
	}
	err = r.call(ctx, "GET", at(id, "builds"), "", nil, &out)
	return out.Builds, out.Changed, err
}

// Digest gives the digest by which a service shows what it has: sha256: and 64 hexadecimal digits.
func Digest(text string) string {
	sum := sha256.Sum256([]byte(text))
	return "sha256:" + hex.EncodeToString(sum[:])
}
