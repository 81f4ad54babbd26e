package registrar

import (
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"net/url"
	"slices"
	"sort"
	"strings"
	"time"
)

// OAuth speaks OAuth 2.0 dynamic client registration (RFC 7591) and its management protocol (RFC 7592). Answers are
// client metadata of the same name; our reference is the software_id; app identities travel in the extension "apps",
// which servers that do not know it ignore (RFC 7591 section 2).
//
// A lost answer: a server that names an initial_token_endpoint in its metadata (RFC 8414) gives a token for one attempt,
// and takes a request that is repeated under it for the same client. Any other server is given the account's credential
// as initial access token.
type OAuth struct{ *Remote }

type metadata struct {
	Registration string `json:"registration_endpoint"`
	Initial      string `json:"initial_token_endpoint"`
}

type oauthApp struct {
	Platform   string   `json:"platform"`
	Identifier string   `json:"identifier"`
	Digests    []string `json:"digests,omitempty"`
}

// Tokener gives the initial access token of one attempt, to be recorded before the attempt is made.
type Tokener interface {
	InitialToken(ctx context.Context) (string, error)
}

func (o *OAuth) metadata(ctx context.Context) (*metadata, error) {
	m := &metadata{}
	err := o.call(ctx, "GET", "/.well-known/oauth-authorization-server", "", nil, m)
	if err != nil {
		return nil, err
	}
	if m.Registration == "" {
		return nil, &Missing{"registering clients (its metadata names no registration_endpoint)"}
	}
	return m, nil
}

// InitialToken gives a token for one attempt to register.
func (o *OAuth) InitialToken(ctx context.Context) (string, error) {
	m, err := o.metadata(ctx)
	if err != nil || m.Initial == "" {
		return o.Credential, err
	}
	var out struct {
		Token string `json:"initial_access_token"`
	}
	err = o.call(ctx, "POST", m.Initial, "", struct{}{}, &out)
	if err == nil && out.Token == "" {
		err = &Lost{errors.New("the answer holds no initial access token")}
	}
	return out.Token, err
}

// as gives the service spoken to with another credential.
func (o *OAuth) as(credential string) *Remote {
	r := *o.Remote
	r.Credential = credential
	return &r
}

// Create registers a client. Repeated under the same initial token and reference, it is the same client.
func (o *OAuth) Create(ctx context.Context, key string, n New) (*Registration, error) {
	m, err := o.metadata(ctx)
	if err != nil {
		return nil, err
	}
	body := map[string]any{"software_id": n.Reference, "redirect_uris": n.Redirects, "application_type": "native", "token_endpoint_auth_method": "none", "grant_types": []string{"authorization_code"}, "response_types": []string{"code"}}
	for k, v := range n.Answers {
		body[k] = v
	}
	var apps []oauthApp
	for _, i := range n.Identities {
		apps = append(apps, appOf(i))
	}
	body["apps"] = apps
	token := o.Attempt
	if token == "" {
		token = o.Credential
	}
	var out json.RawMessage
	if err := o.as(token).call(ctx, "POST", m.Registration, key, body, &out); err != nil {
		return nil, err
	}
	return client(out)
}

func appOf(i NewIdentity) oauthApp {
	a := oauthApp{Platform: i.Platform, Identifier: i.Identifier}
	if d := i.Answers["digest"]; d != "" {
		a.Digests = []string{d}
	}
	return a
}

// client reads a client information response (RFC 7591 section 3.2.1).
func client(body json.RawMessage) (*Registration, error) {
	var in struct {
		ID       string     `json:"client_id"`
		Secret   string     `json:"client_secret"`
		Software string     `json:"software_id"`
		Access   string     `json:"registration_access_token"`
		URI      string     `json:"registration_client_uri"`
		Revision int        `json:"client_revision"`
		Redirect []string   `json:"redirect_uris"`
		Apps     []oauthApp `json:"apps"`
	}
	all := map[string]any{}
	if err := errors.Join(json.Unmarshal(body, &in), json.Unmarshal(body, &all)); err != nil {
		return nil, &Lost{errors.New("the answer is not client information: " + err.Error())}
	}
	if in.ID == "" {
		return nil, &Lost{errors.New("the answer is not client information: client_id is missing")}
	}
	out := &Registration{ID: in.URI, Reference: in.Software, Revision: max(in.Revision, 1), Values: map[string]string{"client-id": in.ID}, Redirects: in.Redirect, Access: in.Access, Received: map[string]string{}}
	if out.ID == "" {
		out.ID = in.ID
	}
	if in.Secret != "" {
		out.Values["client-secret"] = in.Secret
	}
	for k, v := range all {
		if s, ok := v.(string); ok && !slices.Contains([]string{"client_id", "client_secret", "registration_access_token", "registration_client_uri"}, k) {
			out.Received[k] = Digest(s)
		}
	}
	for _, a := range in.Apps {
		out.Identities = append(out.Identities, Identity{Platform: a.Platform, Identifier: a.Identifier, Values: map[string]string{}, Digests: a.Digests})
	}
	return out, out.whole()
}

// ByReference is not part of the protocol: the request is repeated instead.
func (o *OAuth) ByReference(context.Context, string) (*Registration, error) { return nil, nil }

// managed checks that a client can be managed: its address is one of this service's.
func (o *OAuth) managed(id string) error {
	u, err := url.Parse(id)
	base, e := url.Parse(o.Address)
	if err != nil || e != nil || u.Host != base.Host || u.Scheme != base.Scheme || o.Access == "" {
		return &Missing{"managing a client (the service gave no address and token for it, RFC 7592)"}
	}
	return nil
}

func (o *OAuth) read(ctx context.Context, id string) (json.RawMessage, error) {
	if err := o.managed(id); err != nil {
		return nil, err
	}
	var out json.RawMessage
	return out, o.as(o.Access).call(ctx, "GET", id, "", nil, &out)
}

// Get reads the client (RFC 7592 section 2.1).
func (o *OAuth) Get(ctx context.Context, id string) (*Registration, error) {
	b, err := o.read(ctx, id)
	if err != nil {
		return nil, err
	}
	return client(b)
}

// Remove takes the client away (RFC 7592 section 2.3).
func (o *OAuth) Remove(ctx context.Context, id string) error {
	if err := o.managed(id); err != nil {
		return err
	}
	return o.as(o.Access).call(ctx, "DELETE", id, "", nil, nil)
}

// update reads the client, changes its metadata and writes all of it back (RFC 7592 section 2.2: a member that is left
// out is taken away).
func (o *OAuth) update(ctx context.Context, id string, change func(m map[string]any)) (*Registration, error) {
	b, err := o.read(ctx, id)
	if err != nil {
		return nil, err
	}
	m := map[string]any{}
	if err := json.Unmarshal(b, &m); err != nil {
		return nil, &Lost{err}
	}
	for _, k := range []string{"registration_access_token", "registration_client_uri", "client_secret_expires_at", "client_id_issued_at"} {
		delete(m, k) // must not be sent
	}
	change(m)
	var out json.RawMessage
	if err := o.as(o.Access).call(ctx, http.MethodPut, id, "", m, &out); err != nil {
		return nil, err
	}
	return client(out)
}

func apps(m map[string]any) []oauthApp {
	b, err := json.Marshal(m["apps"])
	var out []oauthApp
	if err != nil || json.Unmarshal(b, &out) != nil {
		return nil
	}
	return out
}

// AddIdentity adds an app to the client.
func (o *OAuth) AddIdentity(ctx context.Context, id, _ string, n NewIdentity) (*Registration, error) {
	return o.update(ctx, id, func(m map[string]any) { m["apps"] = append(apps(m), appOf(n)) })
}

// AddDigest adds a digest to an app of the client.
func (o *OAuth) AddDigest(ctx context.Context, id, _, platform, identifier, digest string) (*Registration, error) {
	return o.update(ctx, id, func(m map[string]any) {
		list := apps(m)
		for i := range list {
			if list[i].Platform == platform && list[i].Identifier == identifier && !slices.Contains(list[i].Digests, digest) {
				list[i].Digests = append(list[i].Digests, digest)
			}
		}
		m["apps"] = list
	})
}

// SetAnswer changes a member of the metadata.
func (o *OAuth) SetAnswer(ctx context.Context, id, name, value, platform, _ string) (*Registration, error) {
	if platform != "" {
		return nil, &Missing{"an answer for one identity"}
	}
	return o.update(ctx, id, func(m map[string]any) { m[name] = value })
}

// SetRedirects exchanges the redirect URIs.
func (o *OAuth) SetRedirects(ctx context.Context, id string, list []string) (*Registration, error) {
	return o.update(ctx, id, func(m map[string]any) { m["redirect_uris"] = list })
}

// Sightings asks beside the client's address, where the service has such a list.
func (o *OAuth) Sightings(ctx context.Context, id, after string) ([]Sighting, error) {
	if err := o.managed(id); err != nil {
		return nil, err
	}
	var out struct{ Sightings []Sighting }
	err := o.as(o.Access).call(ctx, "GET", strings.TrimSuffix(id, "/")+"/sightings?after="+url.QueryEscape(after), "", nil, &out)
	sort.SliceStable(out.Sightings, func(i, j int) bool { return out.Sightings[i].At.Before(out.Sightings[j].At) })
	return out.Sightings, err
}

// The rest is not part of the protocol.

func (o *OAuth) SetFeature(context.Context, string, string, bool) (*Registration, error) {
	return nil, &Missing{"switching features"}
}
func (o *OAuth) NewKey(context.Context, string, string, NewKey) (*Registration, error) {
	return nil, &Missing{"exchanging keys"}
}
func (o *OAuth) RevokeKey(context.Context, string, string) (*Registration, error) {
	return nil, &Missing{"revoking keys"}
}
func (o *OAuth) DeleteKey(context.Context, string, string) (*Registration, error) {
	return nil, &Missing{"deleting keys"}
}
func (o *OAuth) SetBerth(context.Context, string, string) (*Registration, error) {
	return nil, &Missing{"a berth"}
}
func (o *OAuth) File(context.Context, string, string, string, string) ([]byte, error) {
	return nil, &Missing{"a config file"}
}
func (o *OAuth) Catalogue(context.Context, string) ([]Item, error) {
	return nil, &Missing{"a catalogue"}
}
func (o *OAuth) SaveItem(context.Context, string, Item) error { return &Missing{"a catalogue"} }
func (o *OAuth) Activate(context.Context, string, string, bool) error {
	return &Missing{"a catalogue"}
}
func (o *OAuth) SetField(context.Context, string, string, string) (*Registration, error) {
	return nil, &Missing{"settings fields"}
}
func (o *OAuth) Builds(context.Context, string) ([]Build, time.Time, error) {
	return nil, time.Time{}, &Missing{"builds"}
}
