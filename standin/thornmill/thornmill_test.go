package thornmill

import (
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"strings"
	"testing"
)

type caller struct {
	t          *testing.T
	url        string
	credential string
}

// ask sends a request and gives the status and the answer.
func (c caller) ask(method, path, key, body string, headers ...string) (int, string) {
	c.t.Helper()
	req, err := http.NewRequest(method, c.url+path, strings.NewReader(body))
	if err != nil {
		c.t.Fatal(err)
	}
	req.Header.Set("Authorization", "Bearer "+c.credential)
	if key != "" {
		req.Header.Set("Idempotency-Key", key)
	}
	for i := 0; i+1 < len(headers); i += 2 {
		req.Header.Set(headers[i], headers[i+1])
	}
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		c.t.Fatal(err)
	}
	defer res.Body.Close()
	b, err := io.ReadAll(res.Body)
	if err != nil {
		c.t.Fatal(err)
	}
	return res.StatusCode, string(b)
}

func open(t *testing.T, file string) (caller, func()) {
	t.Helper()
	s, err := New(file)
	if err != nil {
		t.Fatal(err)
	}
	ts := httptest.NewServer(s.Handler())
	s.Address = ts.URL
	c := caller{t: t, url: ts.URL}
	_, body := c.ask("POST", "/accounts", "", `{"name":"studio"}`)
	var a struct{ Credential string }
	if err := json.Unmarshal([]byte(body), &a); err != nil || a.Credential == "" {
		t.Fatalf("%v %s", err, body)
	}
	c.credential = a.Credential
	return c, ts.Close
}

const wanted1 = `{"reference":"r1","answers":{"name":"hive-one","region":"north"},"identities":[{"platform":"android","identifier":"example.a"}]}`

func TestItRefusesInItsOwnWords(t *testing.T) {
	c, stop := open(t, filepath.Join(t.TempDir(), "d.json"))
	defer stop()
	status, body := c.ask("POST", "/registrations", "k1", wanted1)
	if status != 201 {
		t.Fatalf("%d %s", status, body)
	}
	var ws struct {
		ID       string
		Revision int
	}
	if err := json.Unmarshal([]byte(body), &ws); err != nil || ws.Revision != 1 {
		t.Fatalf("%s", body)
	}
	if _, again := c.ask("POST", "/registrations", "k1", wanted1); strings.TrimSpace(again) != strings.TrimSpace(body) {
		t.Errorf("the same key again:\n%s\n%s", body, again)
	}
	at := "/registrations/" + ws.ID
	for _, x := range []struct {
		method, path, body string
		status             int
		ground             string
	}{
		{"POST", "/registrations", wanted1, 409, "name-in-use"},
		{"POST", "/registrations", strings.Replace(wanted1, "hive-one", "Bad Name", 1), 422, "name-form"},
		{"POST", "/registrations", strings.Replace(strings.Replace(wanted1, "hive-one", "hive-two", 1), "north", "moon", 1), 422, "region-unknown"},
		{"POST", "/registrations", strings.Replace(wanted1, "hive-one", "hive-two", 1), 409, "identifier-in-use"},
		{"POST", "/registrations", "{", 400, "unreadable"},
		{"GET", "/registrations/none", "", 404, "workspace-unknown"},
		{"PUT", at + "/features/sign-in", `{"enabled":true}`, 409, "digest-first"},
		{"PUT", at + "/features/other", `{"enabled":true}`, 404, "feature-unknown"},
		{"POST", at + "/digests", `{"platform":"android","identifier":"example.a","digest":"AA:BB"}`, 422, "digest-form"},
		{"POST", at + "/digests", `{"platform":"android","identifier":"example.b","digest":"x"}`, 404, "workspace-unknown"},
		{"POST", at + "/identities", `{"platform":"clock","identifier":"x"}`, 422, "platform-unknown"},
		{"POST", at + "/identities", `{"platform":"ios","identifier":"a b"}`, 422, "identifier-form"},
		{"GET", at + "/files/ios/example.a", "", 404, "workspace-unknown"},
	} {
		if status, body := c.ask(x.method, x.path, "", x.body); status != x.status || !strings.Contains(body, `"ground":"`+x.ground+`"`) {
			t.Errorf("%s %s: %d %s", x.method, x.path, status, body)
		}
	}
	other := caller{t: t, url: c.url, credential: "tma-none"}
	if status, body := other.ask("GET", at, "", ""); status != 401 || !strings.Contains(body, "credential-unknown") {
		t.Errorf("%d %s", status, body)
	}
}

func TestFeaturesAndDigestsRaiseTheRevision(t *testing.T) {
	file := filepath.Join(t.TempDir(), "d.json")
	c, stop := open(t, file)
	_, body := c.ask("POST", "/registrations", "", wanted1)
	var ws struct {
		ID         string
		Identities []struct{ Values map[string]string }
	}
	if err := json.Unmarshal([]byte(body), &ws); err != nil {
		t.Fatal(err)
	}
	at := "/registrations/" + ws.ID
	digest := strings.Repeat("0f", 32)
	revision := func() string {
		_, x := c.ask("GET", at+"/files/android/example.a", "", "")
		_, x, _ = strings.Cut(x, `revision="`)
		return x[:1]
	}
	if revision() != "1" {
		t.Errorf("at first: %s", revision())
	}
	for i, x := range []struct{ method, path, body, want string }{
		{"POST", "/digests", `{"platform":"android","identifier":"example.a","digest":"` + digest + `"}`, "2"},
		{"POST", "/digests", `{"platform":"android","identifier":"example.a","digest":"` + digest + `"}`, "2"},
		{"PUT", "/features/sign-in", `{"enabled":true}`, "3"},
		{"PUT", "/features/sign-in", `{"enabled":true}`, "3"},
		{"POST", "/identities", `{"platform":"ios","identifier":"example.a"}`, "4"},
	} {
		if status, body := c.ask(x.method, at+x.path, "", x.body); status != 200 {
			t.Fatalf("step %d: %d %s", i, status, body)
		}
		if got := revision(); got != x.want {
			t.Errorf("step %d: revision %s, want %s", i, got, x.want)
		}
	}
	if _, x := c.ask("GET", at+"/files/android/example.a", "", ""); !strings.Contains(x, digest) {
		t.Error("the digest is not in the config file")
	}
	number, key := ws.Identities[0].Values["number"], ws.Identities[0].Values["public-key"]
	app := func(method, number, key, id, body string) (int, string) {
		return c.ask(method, "/records/r", "", body, "Thornmill-App", number, "Thornmill-Key", key, "Thornmill-Identity", id)
	}
	for _, x := range []struct {
		method, number, key, id, body string
		status                        int
		say                           string
	}{
		{"GET", number, key, "example.a", "", 404, "record-unknown"}, {"PUT", "1", key, "example.a", "{}", 403, "app-unknown"}, {"PUT", number, "x", "example.a", "{}", 403, "key-unknown"},
		{"PUT", number, key, "example.A", "{}", 403, "other-app"}, {"PUT", number, key, "example.a", "{", 400, "record-unreadable"}, {"PUT", number, key, "example.a", `{"n":1}`, 201, "written"},
		{"GET", number, key, "example.a", "", 200, `"n":1`}, {"DELETE", number, key, "example.a", "", 405, "method"},
	} {
		if status, body := app(x.method, x.number, x.key, x.id, x.body); status != x.status || !strings.Contains(body, x.say) {
			t.Errorf("%s %s %s: %d %s", x.method, x.number, x.id, status, body)
		}
	}
	_, seen := c.ask("GET", at+"/sightings", "", "")
	if strings.Count(seen, `"kind"`) != 2 {
		t.Errorf("sightings: %s", seen)
	}
	stop()
	s, err := New(file) // what was kept survives a restart
	if err != nil || len(s.Journal.Data.Registrations) != 1 {
		t.Errorf("%v", err)
	}
}
