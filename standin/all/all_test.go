package all

import (
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"path/filepath"
	"strings"
	"testing"

	"ligare/standin/base"
)

// app is what an app, a backend or a build machine does at a service once it is registered.
type app struct {
	t *testing.T
	s *base.Service
	r *base.Registration
}

func (a *app) send(method, path, auth string, headers map[string]string, body string) (int, string) {
	a.t.Helper()
	address := path
	if !strings.HasPrefix(path, "http") {
		address = a.s.Address + path
	}
	req, err := http.NewRequest(method, address, strings.NewReader(body))
	if err != nil {
		a.t.Fatal(err)
	}
	if auth != "" {
		req.Header.Set("Authorization", "Bearer "+auth)
	}
	for k, v := range headers {
		req.Header.Set(k, v)
	}
	res, err := (&http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}).Do(req)
	if err != nil {
		a.t.Fatal(err)
	}
	defer res.Body.Close()
	b, err := io.ReadAll(res.Body)
	if err != nil {
		a.t.Fatal(err)
	}
	return res.StatusCode, string(b) + res.Header.Get("Location")
}

// expect sends and compares status and a part of the answer.
func (a *app) expect(status int, say, method, path, auth string, headers map[string]string, body string) string {
	a.t.Helper()
	got, text := a.send(method, path, auth, headers, body)
	if got != status || !strings.Contains(text, say) {
		a.t.Errorf("%s %s: %d %s", method, path, got, text)
	}
	return text
}

// seen reports whether the service saw something of a kind.
func (a *app) seen(kind string) {
	a.t.Helper()
	for _, s := range a.s.Journal.Data.Registrations[a.r.ID].Sightings {
		if strings.HasPrefix(s.Kind, kind) {
			return
		}
	}
	a.t.Errorf("%q was not seen", kind)
}

// registered opens a service with one registration.
func registered(t *testing.T, name, answers, platform, identityAnswers string, features string) *app {
	t.Helper()
	s, err := Services[name](filepath.Join(t.TempDir(), name))
	if err != nil {
		t.Fatal(err)
	}
	ts := httptest.NewServer(s.Handler())
	t.Cleanup(ts.Close)
	s.SetAddress(ts.URL)
	a := &app{t: t, s: s}
	_, body := a.send("POST", "/accounts", "", nil, `{"name": "studio"}`)
	var account struct{ Credential string }
	if err := json.Unmarshal([]byte(body), &account); err != nil {
		t.Fatal(err)
	}
	status, body := a.send("POST", "/registrations", account.Credential, nil, `{"reference": "r", "answers": `+answers+`, "identities": [{"platform": "`+platform+`", "identifier": "example.hive", "answers": `+identityAnswers+`}], "features": `+features+`}`)
	var made struct{ ID string }
	if err := json.Unmarshal([]byte(body), &made); err != nil || status != 201 {
		t.Fatalf("%d %s", status, body)
	}
	a.r = s.Journal.Data.Registrations[made.ID]
	return a
}

func otlp(text, id string) string {
	return `{"resourceLogs":[{"resource":{"attributes":[{"key":"app.id","value":{"stringValue":"` + id + `"}}]},"scopeLogs":[{"logRecords":[{"body":{"stringValue":"` + text + `"},"attributes":[{"key":"error.handled","value":{"stringValue":"true"}}]}]}]}]}`
}

func TestCounting(t *testing.T) {
	a := registered(t, "tallywick", `{"name": "Hive"}`, "android", `{"framework": "native"}`, `[]`)
	key := map[string]string{"Tallywick-App": a.r.Identities[0].Values["tally-secret"]}
	a.expect(200, `"counted":1`, "POST", "/v1/logs", "", key, otlp("opened", "example.hive"))
	a.expect(200, `"passed_over":1`, "POST", "/v1/logs", "", key, otlp("", "example.hive"))
	a.expect(403, "TW-31", "POST", "/v1/logs", "", nil, otlp("opened", "x"))
	a.expect(400, "TW-10", "POST", "/v1/logs", "", key, "<html>")
	a.seen("event opened")
}

func TestMeasuringNeedsConsent(t *testing.T) {
	a := registered(t, "treadmark", `{"payer": "20417733"}`, "ios", `{}`, `[]`)
	mark := func(id, key, consent string) string {
		return `{"app": "` + a.r.Values["app-number"] + `", "key": "` + key + `", "identity": "` + id + `", "event": "bought", "consent": ` + consent + `}`
	}
	a.expect(202, "taken", "POST", "/marks", "", nil, mark("example.hive", a.r.Values["client-key"], "false"))
	if n := len(a.s.Journal.Data.Registrations[a.r.ID].Sightings); n != 0 {
		t.Errorf("%d marks kept without consent", n)
	}
	a.expect(202, "taken", "POST", "/marks", "", nil, mark("example.hive", a.r.Values["client-key"], "true"))
	a.expect(403, "other-app", "POST", "/marks", "", nil, mark("example.other", a.r.Values["client-key"], "true"))
	a.expect(403, "key-not-taken", "POST", "/marks", "", nil, mark("example.hive", "tdc_x", "true"))
	a.seen("mark bought")
}

func TestRecordingScreens(t *testing.T) {
	a := registered(t, "fieldhide", `{"name": "Hive", "ide": "16.2"}`, "ios", `{}`, `[]`)
	at := "/hides/" + a.r.Values["hide-number"] + "/recordings"
	a.expect(201, "start", "POST", at, "", nil, `{"bundle": "example.hive", "screen": "start"}`)
	a.expect(403, `"31"`, "POST", at, "", nil, `{"bundle": "example.other", "screen": "start"}`)
	a.expect(404, `"44"`, "POST", "/hides/H1/recordings", "", nil, `{"bundle": "example.hive"}`)
	a.seen("screen start")
}

func TestCrashesAndSymbols(t *testing.T) {
	a := registered(t, "burrcatch", `{"name": "Hive"}`, "android", `{}`, `[]`)
	writer := map[string]string{"Burrcatch-Writer": a.r.Values["writer-key"]}
	a.expect(200, `"caught":1`, "POST", a.r.Values["intake"], "", writer, otlp("oops", "example.hive"))
	a.expect(403, "writer-unknown", "POST", a.r.Values["intake"], "", nil, otlp("oops", "x"))
	a.expect(201, "b1", "PUT", "/symbols/"+a.r.ID+"/b1", a.r.Values["upload-token"], nil, "")
	a.expect(403, "upload-refused", "PUT", "/symbols/"+a.r.ID+"/b1", a.r.Values["writer-key"], nil, "")
	a.seen("handled error")
}

func TestPushes(t *testing.T) {
	a := registered(t, "bellhanger", `{"messaging-account": "123456789", "messaging-key": "k"}`, "android", `{}`, `["android-pushes"]`)
	device := func(number, platform string) string {
		return `{"number": "` + number + `", "identity": "example.hive", "platform": "` + platform + `", "token": "t"}`
	}
	text := a.expect(201, "dev-", "POST", "/devices", "", nil, device(a.r.Values["app-number"], "android"))
	var d struct{ Device string }
	if err := json.Unmarshal([]byte(text), &d); err != nil {
		t.Fatal(err)
	}
	a.expect(403, "number-unknown", "POST", "/devices", "", nil, device("x", "android"))
	a.expect(403, "other-app", "POST", "/devices", "", nil, device(a.r.Values["app-number"], "ios"))
	a.expect(202, "on its way", "POST", "/pushes", a.r.Values["sending-key"], nil, `{"device": "`+d.Device+`", "text": "swarm"}`)
	a.expect(403, "key-refused", "POST", "/pushes", "x", nil, `{"device": "`+d.Device+`"}`)
	a.expect(200, "swarm", "GET", "/devices/"+d.Device+"/waiting", "", nil, "")
	a.expect(200, "[]", "GET", "/devices/"+d.Device+"/waiting", "", nil, "")
	a.seen("push received")
}

func TestUpdates(t *testing.T) {
	a := registered(t, "patchquay", `{"name": "Hive"}`, "ios", `{}`, `[]`)
	ask := func(key, berth string) string {
		return "/patches?" + url.Values{"key": {key}, "berth": {berth}, "platform": {"ios"}, "identity": {"example.hive"}}.Encode()
	}
	a.expect(201, "v2", "POST", "/releases/production", a.r.Values["publishing-token"], nil, `{"label": "v2"}`)
	a.expect(403, "token-refused", "POST", "/releases/production", a.r.Values["app-key"], nil, `{"label": "v3"}`)
	a.expect(200, "v2", "GET", ask(a.r.Values["app-key"], "production"), "", nil, "")
	a.expect(404, "berth-unknown", "GET", ask(a.r.Values["app-key"], "barn"), "", nil, "")
	a.expect(403, "key-refused", "GET", ask("x", "production"), "", nil, "")
	a.seen("asked for an update")
}

func TestSelling(t *testing.T) {
	digest := base64.RawURLEncoding.EncodeToString(make([]byte, 32))
	a := registered(t, "tollbarrow", `{}`, "android", `{"digest": "`+digest+`"}`, `["billing-interface"]`)
	at := "/sold/" + a.r.Values["barrow-number"]
	own := map[string]string{"Tollbarrow-Package": "example.hive"}
	a.expect(200, "[]", "GET", at, "", own, "")
	a.expect(403, "other-package", "GET", at, "", nil, "")
	a.expect(409, "not-sold", "POST", at+"/trial", "", nil, `{"product": "jar"}`)
	a.r = a.s.Journal.Data.Registrations[a.r.ID]
	a.r.Items["jar"] = &base.Item{Product: "jar", Active: true}
	a.expect(200, "jar", "GET", at, "", own, "")
	a.expect(201, "tbr-", "POST", at+"/trial", "", nil, `{"product": "jar"}`)
	a.seen("trial purchase")
}

func TestLicences(t *testing.T) {
	a := registered(t, "etchwork", `{}`, "ios", `{}`, `[]`)
	f, no := a.s.File(a.r, a.r.Identities[0], "licence")
	if no != nil {
		t.Fatal(no)
	}
	licence := strings.TrimSpace(string(f.Content))
	unlock := func(text, id string) string {
		b, err := json.Marshal(map[string]string{"licence": text, "identity": id})
		if err != nil {
			t.Fatal(err)
		}
		return string(b)
	}
	a.expect(200, "example.hive", "POST", "/unlock", "", nil, unlock(licence, "example.hive"))
	a.expect(403, "other-app", "POST", "/unlock", "", nil, unlock(licence, "example.other"))
	a.expect(422, "licence-form", "POST", "/unlock", "", nil, unlock("x", "example.hive"))
	parts := strings.Split(licence, ".")
	forged := base64.RawURLEncoding.EncodeToString([]byte(`{"app":"example.other"}`))
	a.expect(403, "licence-forged", "POST", "/unlock", "", nil, unlock(parts[0]+"."+forged+"."+parts[2], "example.other"))
	a.seen("unlocked")
}

func TestSigningIn(t *testing.T) {
	s, err := Services["gatepost"](filepath.Join(t.TempDir(), "g"))
	if err != nil {
		t.Fatal(err)
	}
	ts := httptest.NewServer(s.Handler())
	defer ts.Close()
	s.SetAddress(ts.URL)
	a := &app{t: t, s: s}
	_, body := a.send("POST", "/accounts", "", nil, `{"name": "studio"}`)
	var got struct {
		Credential string
		Initial    string `json:"initial_access_token"`
		ID         string `json:"client_id"`
		Access     string `json:"registration_access_token"`
		URI        string `json:"registration_client_uri"`
	}
	read := func(text string) {
		t.Helper()
		if err := json.Unmarshal([]byte(text), &got); err != nil {
			t.Fatalf("%v %s", err, text)
		}
	}
	read(body)
	read(a.expect(201, "gpi-", "POST", "/initial-tokens", got.Credential, nil, ""))
	client := `{"client_name": "Hive", "redirect_uris": ["example.hive:/back"], "scope": "openid", "software_id": "s1"}`
	read(a.expect(201, "client_id", "POST", "/clients", got.Initial, nil, client))
	first := got.ID
	read(a.expect(201, "client_id", "POST", "/clients", got.Initial, nil, client))
	if got.ID != first || len(s.Journal.Data.Registrations) != 1 {
		t.Error("a repeated request made another client")
	}
	for _, r := range s.Journal.Data.Registrations {
		a.r = r
	}
	a.expect(400, "invalid_redirect_uri", "POST", "/clients", got.Initial, nil, `{"client_name": "Hive", "redirect_uris": ["http://x"], "software_id": "s2"}`)
	a.expect(401, "invalid_token", "POST", "/clients", "x", nil, client)
	a.expect(401, "invalid_token", "GET", got.URI, "x", nil, "")
	sum := sha256.Sum256([]byte("verifier"))
	ask := url.Values{"client_id": {got.ID}, "redirect_uri": {"example.hive:/back"}, "scope": {"openid"}, "state": {"s"}, "code_challenge_method": {"S256"}, "code_challenge": {base64.RawURLEncoding.EncodeToString(sum[:])}}
	back := a.expect(302, "example.hive:/back?code=", "GET", "/authorize?"+ask.Encode(), "", nil, "")
	u, err := url.Parse(strings.TrimSpace(back))
	if err != nil {
		t.Fatal(err)
	}
	form := map[string]string{"Content-Type": "application/x-www-form-urlencoded"}
	a.expect(400, "invalid_grant", "POST", "/token", "", form, url.Values{"code": {u.Query().Get("code")}, "code_verifier": {"other"}}.Encode())
	a.expect(200, "access_token", "POST", "/token", "", form, url.Values{"code": {u.Query().Get("code")}, "code_verifier": {"verifier"}}.Encode())
	ask.Set("redirect_uri", "example.hive:/elsewhere")
	a.expect(400, "redirect_uri_mismatch", "GET", "/authorize?"+ask.Encode(), "", nil, "")
	ask.Set("redirect_uri", "example.hive:/back")
	ask.Set("scope", "membership")
	a.expect(400, "invalid_scope", "GET", "/authorize?"+ask.Encode(), "", nil, "")
	a.expect(200, "signed in", "GET", got.URI+"/sightings", got.Access, nil, "")
	a.expect(204, "", "DELETE", got.URI, got.Access, nil, "")
	a.expect(401, "", "GET", got.URI, got.Access, nil, "")
}
