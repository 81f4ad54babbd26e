package base

import (
	"bytes"
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/santhosh-tekuri/jsonschema/v6"
)

// everything is a service that has all the protocol has.
func everything(t *testing.T, file string) *Service {
	t.Helper()
	s, err := Open(Rules{
		Name: "Everything", Prefix: "ev-", Platforms: []string{"android", "ios"}, Refusal: func(n *No) any { return map[string]string{"code": n.Code, "words": n.Text} },
		Check:    func(r *Registration) *No { return nil },
		Mint:     func(r *Registration) { r.Values["key"] = "k-" + Hex(4); r.FirstKey("ev-", "key", r.Values["key"], nil) },
		Join:     func(_ *Registration, i *Identity) *No { i.Values["number"] = Digits(5); return nil },
		Digest:   func(*Identity, string) *No { return nil },
		Features: map[string]func(*Registration) *No{"f": nil},
		Redirect: func(string) *No { return nil },
		Key:      func(_ *Registration, _ *Identity, name string) string { return name + "-" + Hex(4) },
		Berth:    func(string) *No { return nil },
		Item:     func(*Registration, *Item) *No { return nil },
		Field:    func(string, string) *No { return nil },
		File: func(r *Registration, i *Identity, id string) (*File, *No) {
			return &File{"f.txt", "text/plain", []byte(id + " of " + i.Identifier)}, nil
		},
	}, file)
	if err != nil {
		t.Fatal(err)
	}
	return s
}

type spoken struct {
	t    *testing.T
	url  string
	auth string
	seen map[string]bool
	doc  map[string]any
	comp *jsonschema.Compiler
}

// say sends a request of the protocol and holds the answer against the published document.
func (s *spoken) say(method, template string, fill map[string]string, key, body string) []byte {
	s.t.Helper()
	path := template
	for k, v := range fill {
		path = strings.ReplaceAll(path, "{"+k+"}", v)
	}
	s.seen[strings.ToLower(method)+" "+strings.SplitN(template, "?", 2)[0]] = true
	req, err := http.NewRequest(method, s.url+path, strings.NewReader(body))
	if err != nil {
		s.t.Fatal(err)
	}
	req.Header.Set("Authorization", "Bearer "+s.auth)
	if key != "" {
		req.Header.Set("Idempotency-Key", key)
	}
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		s.t.Fatal(err)
	}
	defer res.Body.Close()
	b, err := io.ReadAll(res.Body)
	if err != nil || res.StatusCode >= 300 {
		s.t.Fatalf("%s %s: %d %s %v", method, path, res.StatusCode, b, err)
	}
	op := dig(s.doc, "paths", strings.SplitN(template, "?", 2)[0], strings.ToLower(method), "responses")
	status := "200"
	if res.StatusCode == 201 {
		status = "201"
	}
	described := dig(op, status)
	if described == nil {
		s.t.Fatalf("%s %s answers %d, which is not described", method, template, res.StatusCode)
	}
	if dig(described, "content", "application/json") == nil {
		return b
	}
	pointer := "#/paths/" + strings.NewReplacer("~", "~0", "/", "~1", "{", "%7B", "}", "%7D").Replace(strings.SplitN(template, "?", 2)[0]) + "/" + strings.ToLower(method) + "/responses/" + status + "/content/application~1json/schema"
	schema, err := s.comp.Compile("protocol.json" + pointer)
	if err != nil {
		s.t.Fatal(err)
	}
	v, err := jsonschema.UnmarshalJSON(bytes.NewReader(b))
	if err != nil {
		s.t.Fatal(err)
	}
	if err := schema.Validate(v); err != nil {
		s.t.Errorf("%s %s: %v\n%s", method, template, err, b)
	}
	return b
}

func dig(v any, path ...string) any {
	for _, p := range path {
		m, ok := v.(map[string]any)
		if !ok {
			return nil
		}
		v = m[p]
	}
	return v
}

// Every operation of the published document is served, and answers as it is described.
func TestTheProtocolIsAsPublished(t *testing.T) {
	src, err := os.ReadFile("../../docs/reference/registration-protocol.openapi.json")
	if err != nil {
		t.Fatal(err)
	}
	s := &spoken{t: t, seen: map[string]bool{}, comp: jsonschema.NewCompiler()}
	if err := json.Unmarshal(src, &s.doc); err != nil {
		t.Fatal(err)
	}
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(src))
	if err != nil {
		t.Fatal(err)
	}
	if err := s.comp.AddResource("protocol.json", doc); err != nil {
		t.Fatal(err)
	}
	file := filepath.Join(t.TempDir(), "journal")
	ts := httptest.NewServer(everything(t, file).Handler())
	s.url = ts.URL
	var account struct{ Credential string }
	if err := json.Unmarshal(s.say("POST", "/accounts", nil, "", `{"name": "studio"}`), &account); err != nil {
		t.Fatal(err)
	}
	s.auth = account.Credential
	made := s.say("POST", "/registrations", nil, "k1", `{"reference": "r1", "answers": {"name": "n"}, "features": [], "identities": [{"platform": "android", "identifier": "a.b"}]}`)
	if again := s.say("POST", "/registrations", nil, "k1", `{}`); !bytes.Equal(bytes.TrimSpace(made), bytes.TrimSpace(again)) {
		t.Errorf("the same key:\n%s\n%s", made, again)
	}
	var r struct {
		ID   string
		Keys []Key
	}
	if err := json.Unmarshal(made, &r); err != nil {
		t.Fatal(err)
	}
	f := map[string]string{"id": r.ID, "platform": "ios", "identifier": "a.c", "name": "f", "product": "p", "key": r.Keys[0].ID}
	g := "/registrations/{id}"
	s.say("GET", "/registrations?reference=r1", f, "", "")
	s.say("GET", g, f, "", "")
	s.say("POST", g+"/identities", f, "k2", `{"platform": "ios", "identifier": "a.c", "answers": {}}`)
	s.say("POST", g+"/digests", f, "k3", `{"platform": "ios", "identifier": "a.c", "digest": "d"}`)
	s.say("PUT", g+"/answers/{name}", f, "", `{"value": "v"}`)
	s.say("PUT", g+"/features/{name}", f, "", `{"enabled": true}`)
	s.say("PUT", g+"/redirects", f, "", `{"redirects": ["https://a.example/x"]}`)
	s.say("POST", g+"/keys", f, "k4", `{"name": "key"}`)
	s.say("PUT", g+"/keys/{key}", f, "", `{"revoked": true}`)
	s.say("DELETE", g+"/keys/{key}", f, "", "")
	s.say("PUT", g+"/berths/{name}", f, "", `{}`)
	s.say("DELETE", g+"/berths/{name}", f, "", "")
	if b := s.say("GET", g+"/files/{platform}/{identifier}?file=x", f, "", ""); string(b) != "x of a.c" {
		t.Errorf("%s", b)
	}
	s.say("PUT", g+"/catalogue/{product}", f, "", `{"kind": "consumable", "title": "P", "price": "1.00 EUR"}`)
	s.say("PUT", g+"/catalogue/{product}/active", f, "", `{"active": true}`)
	s.say("GET", g+"/catalogue", f, "", "")
	s.say("PUT", g+"/fields/{name}", f, "", `{"value": "v"}`)
	s.say("GET", g+"/builds", f, "", "")
	s.say("GET", g+"/sightings?after=", f, "", "")
	s.say("DELETE", g+"/identities/{platform}/{identifier}", f, "", "")
	ts.Close()
	again := everything(t, file) // a restart keeps everything, whatever a crash left at the end of the journal
	if len(again.Journal.Data.Registrations) != 1 || again.Journal.Data.Registrations[r.ID].Fields["f"] != "v" || len(again.Journal.Data.Answers) == 0 {
		t.Errorf("%+v", again.Journal.Data)
	}
	j, err := os.OpenFile(file, os.O_APPEND|os.O_WRONLY, 0)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := j.WriteString(`{"Registration": {"ID": "cut`); err != nil {
		t.Fatal(err)
	}
	if err := j.Close(); err != nil {
		t.Fatal(err)
	}
	ts = httptest.NewServer(everything(t, file).Handler())
	defer ts.Close()
	s.url = ts.URL
	s.say("GET", g, f, "", "")
	s.say("DELETE", g, f, "", "")
	paths, ok := s.doc["paths"].(map[string]any)
	if !ok {
		t.Fatal("no paths")
	}
	for path, methods := range paths {
		for m := range methods.(map[string]any) {
			if !s.seen[m+" "+path] {
				t.Errorf("%s %s is published and was not spoken", m, path)
			}
		}
	}
}

func TestFaults(t *testing.T) {
	s := everything(t, filepath.Join(t.TempDir(), "j"))
	ts := httptest.NewServer(s.Handler())
	defer ts.Close()
	post := func(body string) (int, string) {
		res, err := http.Post(ts.URL+"/accounts", "application/json", strings.NewReader(body))
		if err != nil {
			return 0, err.Error()
		}
		defer res.Body.Close()
		b, err := io.ReadAll(res.Body)
		if err != nil {
			return res.StatusCode, err.Error()
		}
		return res.StatusCode, string(b)
	}
	for kind, want := range map[string]struct {
		status int
		done   bool
	}{"busy": {429, false}, "broken": {502, false}, "lost": {0, true}, "half": {200, false}, "torn": {200, true}, "garbage": {200, false}, "slow": {201, true}, "hang": {0, false}} {
		before := len(s.Journal.Data.Accounts)
		s.Faults.Add(Fault{Kind: kind, Path: "/accounts", Method: "POST", Times: 1, Millis: 50})
		status, body := post(`{"name": "a"}`)
		if status != want.status || len(s.Journal.Data.Accounts)-before == 1 != want.done {
			t.Errorf("%s: %d %s, %d accounts more", kind, status, body, len(s.Journal.Data.Accounts)-before)
		}
		if status, _ := post(`{"name": "a"}`); status != 201 {
			t.Errorf("after %s: %d", kind, status)
		}
	}
	s.Faults.Add(Fault{Kind: "late", Millis: 60_000})
	if s.Faults.Late() != time.Minute {
		t.Error("late")
	}
	s.Faults.Add(Fault{Kind: "clear"})
	if s.Faults.Late() != 0 {
		t.Error("clear")
	}
}
