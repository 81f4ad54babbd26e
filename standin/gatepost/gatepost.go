// Package gatepost simulates Gatepost, which signs people in: clients are registered with OAuth 2.0 dynamic client
// registration (RFC 7591) and managed with RFC 7592; apps use the authorization code with PKCE (RFC 7636).
//
// Beyond the RFCs, and said in its metadata: POST /initial-tokens gives an initial access token for one attempt to
// register. A client with the same software_id under the same token is the same client: repeating a request whose answer
// was lost registers nothing twice. Client metadata may hold "apps": what may come back to a redirect, by platform,
// identifier and SHA-256 digest of the certificate (hex with colons).
package gatepost

import (
	"crypto/sha256"
	"encoding/base64"
	"net/http"
	"net/url"
	"regexp"
	"slices"
	"strings"

	"ligare/standin/base"
)

type app struct {
	Platform   string   `json:"platform"`
	Identifier string   `json:"identifier"`
	Digests    []string `json:"digests,omitempty"`
}

type metadata struct {
	ClientName   string   `json:"client_name"`
	RedirectURIs []string `json:"redirect_uris"`
	Scope        string   `json:"scope"`
	SoftwareID   string   `json:"software_id"`
	AppType      string   `json:"application_type,omitempty"`
	ClientURI    string   `json:"client_uri,omitempty"`
	Grants       []string `json:"grant_types,omitempty"`
	Apps         []app    `json:"apps,omitempty"`
}

var (
	colons = regexp.MustCompile(`^[0-9A-F]{2}(:[0-9A-F]{2}){31}$`)
	scopes = []string{"openid", "name", "mail", "membership"}
)

// New opens the service on a data file.
func New(file string) (*base.Service, error) {
	return base.Open(base.Rules{
		Name: "Gatepost", Prefix: "gp-", Platforms: []string{"android", "ios", "web"}, Missing: "invalid_client_id",
		Refusal: func(n *base.No) any { return map[string]string{"error": n.Code, "error_description": n.Text} },
		Check: func(*base.Registration) *base.No {
			return base.Stop(404, "invalid_request", "Gatepost registers clients at /clients.")
		},
		Join:  func(*base.Registration, *base.Identity) *base.No { return nil },
		Serve: serve,
	}, file)
}

func serve(m *http.ServeMux, s *base.Service) {
	m.HandleFunc("GET /.well-known/oauth-authorization-server", func(w http.ResponseWriter, _ *http.Request) {
		base.Write(w, 200, map[string]any{"issuer": s.Address, "authorization_endpoint": s.Address + "/authorize", "token_endpoint": s.Address + "/token", "registration_endpoint": s.Address + "/clients",
			"initial_token_endpoint": s.Address + "/initial-tokens", "scopes_supported": scopes, "response_types_supported": []string{"code"}, "grant_types_supported": []string{"authorization_code"},
			"code_challenge_methods_supported": []string{"S256"}, "token_endpoint_auth_methods_supported": []string{"none", "client_secret_basic"}})
	})
	m.HandleFunc("POST /initial-tokens", s.Signed(func(q *base.Request) base.Reply {
		t := "gpi-" + base.Hex(16)
		q.Change.Paper("initial "+t, q.Account.ID)
		return base.Reply{Status: 201, Body: map[string]string{"initial_access_token": t}}
	}))
	m.HandleFunc("POST /clients", func(w http.ResponseWriter, q *http.Request) { register(s, w, q) })
	m.HandleFunc("/clients/{id}", func(w http.ResponseWriter, q *http.Request) { manage(s, w, q) })
	m.HandleFunc("GET /clients/{id}/sightings", func(w http.ResponseWriter, q *http.Request) {
		s.App(w, func(d *base.Data) (*base.Registration, int, any) {
			r := d.Registrations[q.PathValue("id")]
			if r == nil || r.Papers["access"] != base.Bearer(q) {
				return nil, 0, base.Stop(401, "invalid_token", "This token does not belong to the client.")
			}
			after, list := q.URL.Query().Get("after"), []base.Sighting{}
			for i := len(r.Sightings) - 1; i >= 0 && r.Sightings[i].ID != after; i-- {
				list = append(list, r.Sightings[i])
			}
			slices.Reverse(list)
			return nil, 200, map[string]any{"sightings": list}
		})
	})
	m.HandleFunc("GET /authorize", func(w http.ResponseWriter, q *http.Request) { authorize(s, w, q) })
	m.HandleFunc("POST /token", func(w http.ResponseWriter, q *http.Request) { token(s, w, q) })
}

// judge checks client metadata (RFC 7591 section 2 and 3.2.2).
func judge(in metadata) *base.No {
	if strings.TrimSpace(in.ClientName) == "" {
		return base.Stop(400, "invalid_client_metadata", "client_name is what people read when they sign in; it is missing.")
	}
	for _, sc := range strings.Fields(in.Scope) {
		if !slices.Contains(scopes, sc) {
			return base.Stop(400, "invalid_client_metadata", "scope: Gatepost grants no %q.", sc)
		}
	}
	if len(in.RedirectURIs) == 0 {
		return base.Stop(400, "invalid_redirect_uri", "A client needs at least one redirect URI.")
	}
	for _, r := range in.RedirectURIs {
		u, err := url.Parse(r)
		switch {
		case err != nil || u.Scheme == "" || u.Fragment != "":
			return base.Stop(400, "invalid_redirect_uri", "%q is not a redirect URI.", r)
		case u.Scheme == "http":
			return base.Stop(400, "invalid_redirect_uri", "%q is not https.", r)
		case u.Scheme != "https" && !strings.Contains(u.Scheme, "."):
			return base.Stop(400, "invalid_redirect_uri", "The scheme of %q belongs to nobody; turn a domain of yours round, as in example.studio.app:/back.", r)
		case strings.Contains(r, "*"):
			return base.Stop(400, "invalid_redirect_uri", "%q has a wildcard; Gatepost compares letter by letter.", r)
		}
	}
	for _, a := range in.Apps {
		for _, d := range a.Digests {
			if !colons.MatchString(d) {
				return base.Stop(400, "invalid_client_metadata", "apps: %q is not a SHA-256 digest in capitals with colons.", d)
			}
		}
		if a.Platform == "android" && len(a.Digests) == 0 {
			return base.Stop(400, "invalid_client_metadata", "apps: %s has no digest; without it the installed app is not believed.", a.Identifier)
		}
	}
	return nil
}

func take(r *base.Registration, in metadata) {
	r.Answers["client_name"], r.Answers["scope"], r.Answers["client_uri"] = in.ClientName, in.Scope, in.ClientURI
	r.Redirects, r.Identities = in.RedirectURIs, nil
	for _, a := range in.Apps {
		r.Identities = append(r.Identities, &base.Identity{Platform: a.Platform, Identifier: a.Identifier, Digests: a.Digests})
	}
	r.Revision++
}

func view(s *base.Service, r *base.Registration) map[string]any {
	apps := []app{}
	for _, i := range r.Identities {
		apps = append(apps, app{i.Platform, i.Identifier, i.Digests})
	}
	return map[string]any{"client_id": r.Values["client-id"], "client_secret": r.Values["client-secret"], "client_secret_expires_at": 0, "client_id_issued_at": r.Made.Unix(),
		"registration_access_token": r.Papers["access"], "registration_client_uri": s.Address + "/clients/" + r.ID, "client_name": r.Answers["client_name"], "scope": r.Answers["scope"],
		"client_uri": r.Answers["client_uri"], "redirect_uris": r.Redirects, "software_id": r.Reference, "apps": apps, "client_revision": r.Revision,
		"application_type": "native", "grant_types": []string{"authorization_code"}, "response_types": []string{"code"}, "token_endpoint_auth_method": "none"}
}

func register(s *base.Service, w http.ResponseWriter, q *http.Request) {
	var in metadata
	err := base.Read(q, &in)
	s.App(w, func(d *base.Data) (*base.Registration, int, any) {
		account := d.Papers["initial "+base.Bearer(q)]
		if account == "" {
			return nil, 0, base.Stop(401, "invalid_token", "This initial access token is not known.")
		}
		if err != nil {
			return nil, 0, base.Stop(400, "invalid_client_metadata", "%v", err)
		}
		for _, had := range d.Registrations { // the same software under the same token is the same client
			if had.Papers["initial"] == base.Bearer(q) && had.Reference == in.SoftwareID && in.SoftwareID != "" {
				return nil, 201, view(s, had)
			}
		}
		if n := judge(in); n != nil {
			return nil, 0, n
		}
		r := &base.Registration{ID: "gp-" + base.Hex(6), Account: account, Reference: in.SoftwareID, Answers: map[string]string{}, Values: map[string]string{}, Papers: map[string]string{}}
		r.Values["client-id"], r.Values["client-secret"] = "gpc."+base.Digits(10)+".client", "gps~"+base.Of("abcdefghijklmnopqrstuvwxyz0123456789", 36)
		r.Papers["access"], r.Papers["initial"] = "gpr-"+base.Hex(20), base.Bearer(q)
		take(r, in)
		return r, 201, view(s, r)
	})
}

// manage reads, exchanges and removes a client (RFC 7592 section 2).
func manage(s *base.Service, w http.ResponseWriter, q *http.Request) {
	var in metadata
	var err error
	if q.Method == http.MethodPut {
		err = base.Read(q, &in)
	}
	if q.Method == http.MethodDelete {
		gone := false
		e := s.Journal.Do(func(d *base.Data, c *base.Change) {
			if r := d.Registrations[q.PathValue("id")]; r != nil && r.Papers["access"] == base.Bearer(q) {
				c.Remove(r.ID)
				gone = true
			}
		})
		if e == nil && gone {
			w.WriteHeader(http.StatusNoContent)
			return
		}
	}
	s.App(w, func(d *base.Data) (*base.Registration, int, any) {
		had := d.Registrations[q.PathValue("id")]
		switch {
		case had == nil || had.Papers["access"] != base.Bearer(q):
			return nil, 0, base.Stop(401, "invalid_token", "This token does not belong to the client.")
		case q.Method == http.MethodGet:
			return nil, 200, view(s, had)
		case q.Method != http.MethodPut:
			return nil, 0, base.Stop(405, "invalid_request", "A client is read, exchanged or removed.")
		case err != nil:
			return nil, 0, base.Stop(400, "invalid_client_metadata", "%v", err)
		}
		if n := judge(in); n != nil {
			return nil, 0, n
		}
		r := had.Copy()
		take(r, in)
		return r, 200, view(s, r)
	})
}

// authorize lets the one person Gatepost knows in, at once, and sends the app back with a code.
func authorize(s *base.Service, w http.ResponseWriter, q *http.Request) {
	v := q.URL.Query()
	back := ""
	var no *base.No
	err := s.Journal.Do(func(d *base.Data, c *base.Change) {
		for _, had := range d.Registrations {
			if had.Values["client-id"] != v.Get("client_id") {
				continue
			}
			switch {
			case !slices.Contains(had.Redirects, v.Get("redirect_uri")):
				no = base.Stop(400, "redirect_uri_mismatch", "%s is not a redirect URI of this client; it has: %s.", v.Get("redirect_uri"), strings.Join(had.Redirects, ", "))
			case v.Get("code_challenge_method") != "S256" || v.Get("code_challenge") == "":
				no = base.Stop(400, "invalid_request", "Gatepost wants a code challenge with S256.")
			default:
				code := "gpx-" + base.Hex(12)
				for _, sc := range strings.Fields(v.Get("scope")) {
					if !slices.Contains(strings.Fields(had.Answers["scope"]), sc) {
						no = base.Stop(400, "invalid_scope", "The client was not granted %q.", sc)
						return
					}
				}
				c.Paper("code "+code, had.ID+" "+v.Get("code_challenge"))
				u, e := url.Parse(v.Get("redirect_uri"))
				if e != nil {
					no = base.Stop(400, "invalid_request", "%v", e)
					return
				}
				u.RawQuery = url.Values{"code": {code}, "state": {v.Get("state")}}.Encode()
				back = u.String()
			}
			return
		}
		no = base.Stop(400, "invalid_client", "Gatepost knows no client %q.", v.Get("client_id"))
	})
	switch {
	case err != nil:
		base.Write(w, 500, map[string]string{"error": "server_error"})
	case no != nil:
		base.Write(w, no.Status, s.Refusal(no))
	default:
		w.Header().Set("Location", back)
		w.WriteHeader(http.StatusFound)
	}
}

// token exchanges a code (RFC 6749 section 4.1.3, RFC 7636 section 4.6).
func token(s *base.Service, w http.ResponseWriter, q *http.Request) {
	if err := q.ParseForm(); err != nil {
		base.Write(w, 400, map[string]string{"error": "invalid_request"})
		return
	}
	s.App(w, func(d *base.Data) (*base.Registration, int, any) {
		id, challenge, _ := strings.Cut(d.Papers["code "+q.PostForm.Get("code")], " ")
		had := d.Registrations[id]
		sum := sha256.Sum256([]byte(q.PostForm.Get("code_verifier")))
		if had == nil || base64.RawURLEncoding.EncodeToString(sum[:]) != challenge {
			return nil, 0, base.Stop(400, "invalid_grant", "The code is not known, or the verifier does not belong to it.")
		}
		r := had.Copy()
		var i *base.Identity
		if len(r.Identities) > 0 {
			i = r.Identities[0]
		}
		r.Seen(i, "signed in", map[string]string{"client-id": r.Values["client-id"]})
		return r, 200, map[string]any{"access_token": "gpt-" + base.Hex(16), "token_type": "Bearer", "expires_in": 900, "scope": r.Answers["scope"]}
	})
}
