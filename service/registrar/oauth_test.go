package registrar

import (
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"testing"

	"ligare/core/sheet"
)

// authority is an authorization server that speaks RFC 7591 and 7592 and nothing of ours.
type authority struct {
	t       *testing.T
	url     string
	clients map[string]map[string]any
	initial bool   // it gives initial access tokens
	lose    string // the next answer to this method is lost after the work is done
	seen    []string
}

func (a *authority) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	a.seen = append(a.seen, r.Method+" "+r.URL.Path+" "+strings.TrimPrefix(r.Header.Get("Authorization"), "Bearer "))
	answer := func(status int, v any) {
		if a.lose == r.Method {
			a.lose = ""
			panic(http.ErrAbortHandler)
		}
		w.WriteHeader(status)
		if err := json.NewEncoder(w).Encode(v); err != nil {
			a.t.Error(err)
		}
	}
	var in map[string]any
	if r.Method == "POST" || r.Method == "PUT" {
		if err := json.NewDecoder(r.Body).Decode(&in); err != nil {
			a.t.Error(err)
		}
	}
	id := strings.TrimPrefix(r.URL.Path, "/c/")
	switch {
	case strings.HasPrefix(r.URL.Path, "/.well-known/"):
		m := map[string]string{"registration_endpoint": a.url + "/reg"}
		if a.initial {
			m["initial_token_endpoint"] = a.url + "/initial"
		}
		answer(200, m)
	case r.URL.Path == "/initial":
		answer(201, map[string]string{"initial_access_token": "once"})
	case r.URL.Path == "/reg":
		for id, c := range a.clients {
			if c["software_id"] == in["software_id"] {
				answer(201, a.clients[id])
				return
			}
		}
		in["client_id"], in["client_secret"], in["registration_access_token"], in["registration_client_uri"] = "c1", "secret", "rat", a.url+"/c/c1"
		in["client_secret_expires_at"], in["client_id_issued_at"] = 0, 1
		a.clients["c1"] = in
		answer(201, in)
	case r.Header.Get("Authorization") != "Bearer rat" || a.clients[id] == nil:
		answer(401, map[string]string{"error": "invalid_token", "error_description": "no"})
	case r.Method == "PUT":
		for _, k := range []string{"registration_access_token", "registration_client_uri", "client_secret_expires_at", "client_id_issued_at"} {
			if in[k] != nil {
				a.t.Errorf("%s was sent back (RFC 7592 section 2.2)", k)
			}
		}
		if in["client_name"] == nil {
			a.t.Error("metadata was left out, which takes it away")
		}
		in["registration_access_token"], in["registration_client_uri"] = "rat", a.url+"/c/c1"
		a.clients[id] = in
		answer(200, in)
	case r.Method == "DELETE":
		delete(a.clients, id)
		w.WriteHeader(204)
	default:
		answer(200, a.clients[id])
	}
}

func authorized(t *testing.T, initial bool) (*authority, *OAuth) {
	t.Helper()
	a := &authority{t: t, clients: map[string]map[string]any{}, initial: initial}
	ts := httptest.NewServer(a)
	t.Cleanup(ts.Close)
	a.url = ts.URL
	o, ok := To(&Remote{Sheet: &sheet.Sheet{Title: "Gate", Connector: sheet.Connector{Protocol: sheet.ByOAuth, LostAnswer: sheet.ByKey, Code: "/error", Text: "/error_description"}}, Address: ts.URL, Credential: "account"}).(*OAuth)
	if !ok {
		t.Fatal("another connector")
	}
	return a, o
}

var wish = New{Reference: "r1", Answers: map[string]string{"client_name": "Hive", "scope": "openid"}, Redirects: []string{"example.hive:/back"}, Identities: []NewIdentity{{Platform: "android", Identifier: "example.hive", Answers: map[string]string{"digest": "AB:CD"}}}}

func TestDynamicClientRegistration(t *testing.T) {
	a, o := authorized(t, false)
	ctx := context.Background()
	token, err := o.InitialToken(ctx)
	if err != nil || token != "account" {
		t.Fatalf("without an endpoint for them, the credential is the initial token: %q %v", token, err)
	}
	a.lose = "POST"
	g, err := o.Create(ctx, "k", wish)
	if err != nil || g.Values["client-id"] != "c1" || g.Values["client-secret"] != "secret" || g.Access != "rat" || g.Reference != "r1" || g.ID != a.url+"/c/c1" || len(a.clients) != 1 {
		t.Fatalf("%+v %v", g, err)
	}
	if g.Received["client_name"] != Digest("Hive") || g.Received["client_secret"] != "" {
		t.Errorf("%v", g.Received)
	}
	if g.Identities[0].Digests[0] != "AB:CD" || g.Redirects[0] != "example.hive:/back" {
		t.Errorf("%+v", g)
	}
	o.Access = g.Access
	if g, err = o.SetRedirects(ctx, g.ID, []string{"example.hive:/back", "https://a.example/x"}); err != nil || len(g.Redirects) != 2 {
		t.Errorf("%+v %v", g, err)
	}
	if g, err = o.SetAnswer(ctx, g.ID, "scope", "openid name", "", ""); err != nil || g.Received["scope"] != Digest("openid name") {
		t.Errorf("%+v %v", g, err)
	}
	if g, err = o.AddIdentity(ctx, g.ID, "", NewIdentity{Platform: "ios", Identifier: "example.hive"}); err != nil || len(g.Identities) != 2 {
		t.Errorf("%+v %v", g, err)
	}
	if g, err = o.AddDigest(ctx, g.ID, "", "android", "example.hive", "EF:01"); err != nil || !slices.Equal(g.Identities[0].Digests, []string{"AB:CD", "EF:01"}) {
		t.Errorf("%+v %v", g, err)
	}
	if g, err = o.Get(ctx, g.ID); err != nil || g.Values["client-id"] != "c1" {
		t.Errorf("%+v %v", g, err)
	}
	if err := o.Remove(ctx, g.ID); err != nil || len(a.clients) != 0 {
		t.Error(err)
	}
	var refused *Refused
	if _, err := o.Get(ctx, g.ID); !errors.As(err, &refused) || refused.Code != "invalid_token" {
		t.Errorf("%v", err)
	}
}

func TestInitialTokensOfOneAttempt(t *testing.T) {
	a, o := authorized(t, true)
	token, err := o.InitialToken(context.Background())
	if err != nil || token != "once" {
		t.Fatal(token, err)
	}
	o.Attempt = token
	if _, err := o.Create(context.Background(), "k", wish); err != nil || !slices.Contains(a.seen, "POST /reg once") || !slices.Contains(a.seen, "POST /initial account") {
		t.Errorf("%v %v", a.seen, err)
	}
}

// The token of a client is sent to the service that gave it, and nowhere else.
func TestClientsOfOtherServers(t *testing.T) {
	_, o := authorized(t, false)
	o.Access = "rat"
	var missing *Missing
	for _, id := range []string{"http://other.example/c/c1", "c1", "", "://"} {
		if _, err := o.Get(context.Background(), id); !errors.As(err, &missing) {
			t.Errorf("%q: %v", id, err)
		}
	}
	for name, err := range map[string]error{"features": second(o.SetFeature(context.Background(), "x", "f", true)), "keys": second(o.NewKey(context.Background(), "x", "", NewKey{})), "fields": second(o.SetField(context.Background(), "x", "f", "v"))} {
		if !errors.As(err, &missing) {
			t.Errorf("%s: %v", name, err)
		}
	}
}

func second[T any](_ T, err error) error { return err }

func TestClientInformationThatIsNone(t *testing.T) {
	for _, body := range []string{`{}`, `[]`, `{"client_id": ""}`, `{"client_id": "c", "client_secret": "a\u0000b"}`} {
		if _, err := client(json.RawMessage(body)); err == nil {
			t.Errorf("%s was taken", body)
		}
	}
}
