package api_test

import (
	"bytes"
	"context"
	"crypto/x509/pkix"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/go-chi/chi/v5"

	"ligare/client"
	"ligare/client/shape"
	"ligare/core/cert"
	"ligare/service/api"
	"ligare/service/cluster"
	"ligare/service/records"
	"ligare/service/server"
	"ligare/standin/base"
	"ligare/standin/thornmill"
)

// world is a real PostgreSQL, the server and the simulated service, all on loopback.
type world struct {
	t         *testing.T
	cluster   *cluster.Cluster
	records   *records.Records
	address   string
	owner     *client.Client
	thorn     *base.Service
	thornURL  string
	thornFile string
	log       *bytes.Buffer
}

var shared *cluster.Cluster

func TestMain(m *testing.M) {
	if os.Getenv("LIGARE_SOAK_LISTEN") != "" {
		os.Exit(serveSoak())
	}
	dir, err := os.MkdirTemp("", "ligare-api-")
	if err == nil {
		err = os.Chmod(dir, 0o711)
	}
	if err == nil {
		shared, err = cluster.Start(context.Background(), filepath.Join(dir, "postgres"))
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(2)
	}
	code := m.Run()
	shared.Stop()
	if err := os.RemoveAll(dir); err != nil {
		fmt.Fprintln(os.Stderr, err)
	}
	os.Exit(code)
}

func open(t *testing.T, c *cluster.Cluster) *world {
	t.Helper()
	w := &world{t: t, cluster: c, log: &bytes.Buffer{}}
	ctx, cancel := context.WithCancel(context.Background())
	s, err := server.Open(ctx, server.Config{Database: c.URL, Keyring: filepath.Join(t.TempDir(), "keyring.json"), Every: 100 * time.Millisecond, Log: slog.New(slog.NewTextHandler(w.log, nil))})
	if err != nil {
		t.Fatal(err)
	}
	w.records = s.Records
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	w.address = "http://" + l.Addr().String()
	done := make(chan error, 1)
	go func() { done <- s.Serve(ctx, l) }()
	t.Cleanup(func() {
		cancel()
		if err := <-done; err != nil {
			t.Error(err)
		}
	})
	w.owner = w.person(t.Name(), "owner", 0)
	w.thornFile = filepath.Join(t.TempDir(), "thornmill.json")
	if w.thorn, err = thornmill.New(w.thornFile); err != nil {
		t.Fatal(err)
	}
	ts := httptest.NewServer(w.thorn.Handler())
	t.Cleanup(ts.Close)
	w.thorn.Address, w.thornURL = ts.URL, ts.URL
	return w
}

func (w *world) person(team, role string, lasting time.Duration) *client.Client {
	w.t.Helper()
	token, err := w.records.Team(context.Background(), team, "a "+role, role, lasting)
	if err != nil {
		w.t.Fatal(err)
	}
	return &client.Client{Address: w.address, Token: token}
}

// raw sends a request as it is and gives the answer.
func (w *world) raw(method, path, token, key, body string) (*http.Response, []byte) {
	w.t.Helper()
	req, err := http.NewRequest(method, w.address+path, strings.NewReader(body))
	if err != nil {
		w.t.Fatal(err)
	}
	if token != "" {
		req.Header.Set("Authorization", "Bearer "+token)
	}
	if key != "" {
		req.Header.Set("Idempotency-Key", key)
	}
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		w.t.Fatal(err)
	}
	defer res.Body.Close()
	b, err := io.ReadAll(res.Body)
	if err != nil {
		w.t.Fatal(err)
	}
	return res, b
}

var hivelog = shape.NewApp{Name: "hivelog", Title: "Hivelog", Environments: []string{"development", "production"}, Identities: []shape.NewIdentity{
	{Platform: "android", Identifier: "example.larkfield.hivelog", DisplayName: "Hivelog"}, {Platform: "ios", Identifier: "example.larkfield.hivelog"}, {Platform: "android", Identifier: "example.larkfield.hivelog.debug"}}}

func (w *world) ready() shape.Register {
	w.t.Helper()
	ctx := context.Background()
	if _, err := w.owner.SaveApp(ctx, hivelog); err != nil {
		w.t.Fatal(err)
	}
	if err := w.owner.Connect(ctx, "thornmill", shape.Connect{Address: w.thornURL}); err != nil {
		w.t.Fatal(err)
	}
	return shape.Register{App: "hivelog", Service: "thornmill", Environment: "production", Answers: map[string]string{"region": "north"}, Identities: []shape.IdentityAnswers{
		{Platform: "android", Identifier: "example.larkfield.hivelog"}, {Platform: "ios", Identifier: "example.larkfield.hivelog"}}}
}

func TestAccess(t *testing.T) {
	w := open(t, shared)
	ctx := context.Background()
	me, err := w.owner.Me(ctx)
	if err != nil || me.Role != "owner" || me.Kind != "person" {
		t.Fatalf("%+v %v", me, err)
	}
	reader := w.person(t.Name(), "reader", time.Hour)
	if _, err := reader.SaveApp(ctx, hivelog); status(err) != 403 || remedy(err) == "" {
		t.Errorf("a reader writes: %v", err)
	}
	expired := w.person(t.Name(), "owner", -time.Minute)
	if _, err := expired.Me(ctx); status(err) != 401 || !strings.Contains(err.Error(), "expired") || remedy(err) == "" {
		t.Errorf("an expired token: %v", err)
	}
	if _, err := (&client.Client{Address: w.address, Token: "ligare-person-wrong"}).Me(ctx); status(err) != 401 {
		t.Errorf("an unknown token: %v", err)
	}
	var made struct{ Token string }
	if err := w.owner.Do(ctx, "POST", "/v1/tokens", map[string]any{"name": "build", "role": "developer", "days": 1}, &made); err != nil {
		t.Fatal(err)
	}
	machine := &client.Client{Address: w.address, Token: made.Token}
	if me, err := machine.Me(ctx); err != nil || me.Kind != "machine" || me.Expires == nil {
		t.Errorf("a machine: %+v %v", me, err)
	}
	if err := machine.Do(ctx, "POST", "/v1/tokens", map[string]any{"name": "x", "role": "reader"}, nil); status(err) != 403 {
		t.Errorf("a machine makes tokens: %v", err)
	}
	other := w.person("another team", "owner", 0)
	if _, err := w.owner.SaveApp(ctx, hivelog); err != nil {
		t.Fatal(err)
	}
	if _, err := other.App(ctx, "hivelog"); status(err) != 404 {
		t.Errorf("another team sees the app: %v", err)
	}
	if strings.Contains(w.log.String(), w.owner.Token) || strings.Contains(w.log.String(), made.Token) {
		t.Error("a token stands in the log")
	}
}

func status(err error) int {
	var p *shape.Problem
	if errors.As(err, &p) {
		return p.Status
	}
	return 0
}

func remedy(err error) string {
	var p *shape.Problem
	if errors.As(err, &p) {
		return p.Remedy
	}
	return ""
}

func TestProblemsAndSession(t *testing.T) {
	w := open(t, shared)
	for _, c := range []struct {
		method, path, token, body string
		want                      int
	}{
		{"GET", "/v1/me", "", "", 401}, {"GET", "/v1/nothing", w.owner.Token, "", 404}, {"POST", "/v1/apps", w.owner.Token, "{", 400},
		{"POST", "/v1/apps", w.owner.Token, `{"name":"ok-name","colour":1}`, 400}, {"POST", "/v1/apps", w.owner.Token, `{"name":"Bad Name"}`, 400},
		{"GET", "/v1/registrations/no-such", w.owner.Token, "", 404},
		{"POST", "/v1/apps", w.owner.Token, `{"name":"bad-id","identities":[{"platform":"android","identifier":"example.a-b"}]}`, 400},
	} {
		res, b := w.raw(c.method, c.path, c.token, "", c.body)
		var p shape.Problem
		if res.StatusCode != c.want || res.Header.Get("Content-Type") != "application/problem+json" || json.Unmarshal(b, &p) != nil || p.Status != c.want || p.Remedy == "" {
			t.Errorf("%s %s: %d %s", c.method, c.path, res.StatusCode, b)
		}
	}
	res, _ := w.raw("POST", "/v1/session", "", "", `{"token":"`+w.owner.Token+`"}`)
	cookies := res.Cookies()
	if res.StatusCode != 200 || len(cookies) != 1 || !cookies[0].HttpOnly || cookies[0].SameSite != http.SameSiteStrictMode {
		t.Fatalf("signing in: %d %v", res.StatusCode, cookies)
	}
	ask := func(origin string) int {
		req, _ := http.NewRequest("POST", w.address+"/v1/apps", strings.NewReader(`{"name":"by-cookie"}`))
		req.AddCookie(cookies[0])
		req.Header.Set("Origin", origin)
		res, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		defer res.Body.Close()
		return res.StatusCode
	}
	if got := ask("https://elsewhere.example"); got != 403 {
		t.Errorf("a cookie from another site: %d", got)
	}
	if got := ask(w.address); got != 201 {
		t.Errorf("a cookie from the console: %d", got)
	}
}

func TestIdempotentCreates(t *testing.T) {
	w := open(t, shared)
	body := `{"name":"hivelog","title":"Hivelog"}`
	res, first := w.raw("POST", "/v1/apps", w.owner.Token, "key-1", body)
	if res.StatusCode != 201 {
		t.Fatalf("%d %s", res.StatusCode, first)
	}
	if res, again := w.raw("POST", "/v1/apps", w.owner.Token, "key-1", body); res.StatusCode != 201 || string(canon(again)) != string(canon(first)) {
		t.Errorf("the same key again: %d\n%s\n%s", res.StatusCode, first, again)
	}
	if res, b := w.raw("POST", "/v1/apps", w.owner.Token, "key-1", `{"name":"other"}`); res.StatusCode != 422 {
		t.Errorf("the same key with another body: %d %s", res.StatusCode, b)
	}
	if _, b := w.raw("POST", "/v1/apps", w.owner.Token, "key-2", body); string(canon(b)) == string(canon(first)) {
		t.Error("another key gave the remembered answer")
	}
}

func canon(b []byte) []byte {
	var v any
	if json.Unmarshal(b, &v) != nil {
		return b
	}
	out, _ := json.Marshal(v)
	return out
}

func TestRegisteringAndWhatIsKept(t *testing.T) {
	w := open(t, shared)
	ctx := context.Background()
	in := w.ready()
	g, err := w.owner.Register(ctx, in)
	if err != nil {
		t.Fatal(err)
	}
	if g.State != "registered" || g.Revision != 1 || len(g.Identities) != 2 {
		t.Fatalf("%+v", g)
	}
	for _, v := range g.Values {
		if v.Name == "return-address" {
			continue
		}
		if v.Exposure != "server" || v.Value != "" {
			t.Errorf("a server value is shown: %+v", v)
		}
	}
	p, err := w.owner.Placing(ctx, g.ID)
	if err != nil {
		t.Fatal(err)
	}
	values := *p
	values.Sheet = ""
	whole, _ := json.Marshal(values)
	if strings.Contains(string(whole), "tmx-") || len(p.Identities[0].Files["android-config"]) == 0 || len(p.Identities[0].Values["number"]) != 15 {
		t.Errorf("placing: %s", whole)
	}
	again, err := w.owner.Register(ctx, in)
	if err != nil || again.ID != g.ID || again.Revision != 1 {
		t.Errorf("registering again: %+v %v", again, err)
	}
	in.Features = []string{"sign-in"}
	if _, err := w.owner.Register(ctx, in); status(err) != 400 || !strings.Contains(err.Error(), "asks: SHA-256 digest") || !strings.Contains(remedy(err), "digest") {
		t.Errorf("a feature before its digest: %v / %s", err, remedy(err))
	}
	in.Identities[0].Answers = map[string]string{"digest": strings.Repeat("ab", 32)}
	later, err := w.owner.Register(ctx, in)
	if err != nil || later.Revision != 3 || strings.Join(later.Features, " ") != "records sign-in" {
		t.Errorf("digest and feature: %+v %v", later, err)
	}
	if p, _ := w.owner.Placing(ctx, g.ID); !strings.Contains(string(p.Identities[0].Files["android-config"]), strings.Repeat("ab", 32)) {
		t.Error("the config file was not fetched again")
	}
	secrets := []string{p.Identities[0].Values["number"], p.Identities[0].Values["public-key"]}
	if err := w.owner.SendReport(ctx, "hivelog", shape.Report{LineUp: json.RawMessage(`[{"cells":{"tree":{"value":"` + secrets[0] + `"}}}]`)}); err != nil {
		t.Fatal(err)
	}
	seen, _ := http.NewRequest("PUT", w.thornURL+"/records/kept", strings.NewReader(`1`))
	seen.Header.Set("Thornmill-App", secrets[0])
	seen.Header.Set("Thornmill-Key", secrets[1])
	seen.Header.Set("Thornmill-Identity", p.Identities[0].Identifier)
	if res, err := http.DefaultClient.Do(seen); err != nil || res.StatusCode != 201 {
		t.Fatalf("%v %v", res, err)
	} else if err := res.Body.Close(); err != nil {
		t.Fatal(err)
	}
	if err := w.owner.Look(ctx, g.ID); err != nil {
		t.Fatal(err)
	}
	var tables []string
	if err := w.records.DB.QueryRow(ctx, "SELECT array_agg(tablename::text) FROM pg_tables WHERE schemaname = 'public'").Scan(&tables); err != nil || len(tables) < 25 {
		t.Fatalf("%v %v", tables, err)
	}
	for _, table := range tables { // every one of them, but the sheets, which say what values look like
		if table == "sheets" {
			continue
		}
		var dump string
		if err := w.records.DB.QueryRow(ctx, "SELECT coalesce(string_agg(t::text, ' '), '') FROM "+table+" t").Scan(&dump); err != nil {
			t.Fatal(err)
		}
		for _, s := range append(secrets, "tmx-", "tma-") {
			if strings.Contains(dump, s) || strings.Contains(dump, hex.EncodeToString([]byte(s))) { // bytea is dumped as hexadecimal
				t.Errorf("%s holds a value in the clear", table)
			}
		}
	}
	caller, err := w.records.Authenticate(ctx, w.owner.Token)
	if err != nil {
		t.Fatal(err)
	}
	if n, err := w.records.VerifyAudit(ctx, caller); err != nil || n < 5 {
		t.Errorf("audit: %d %v", n, err)
	}
	if _, err := w.records.DB.Exec(ctx, "UPDATE audit SET actor = 'nobody' WHERE team = $1 AND seq = 2", caller.Team); err != nil {
		t.Fatal(err)
	}
	if n, err := w.records.VerifyAudit(ctx, caller); err == nil || n != 2 {
		t.Errorf("a changed audit entry was not noticed: %d %v", n, err)
	}
}

func TestRefusalsHaveARemedy(t *testing.T) {
	w := open(t, shared)
	ctx := context.Background()
	in := w.ready()
	for _, c := range []struct {
		name   string
		change func(*shape.Register)
		status int
		say    string
	}{
		{"no region", func(r *shape.Register) { r.Answers = nil }, 400, "Region"},
		{"wrong region", func(r *shape.Register) { r.Answers = map[string]string{"region": "east"} }, 400, "not offered"},
		{"wrong name", func(r *shape.Register) { r.Answers = map[string]string{"region": "north", "name": "No"} }, 400, "has not the form"},
		{"no environment", func(r *shape.Register) { r.Environment = "staging" }, 400, "no environment"},
		{"not an identity", func(r *shape.Register) {
			r.Identities = []shape.IdentityAnswers{{Platform: "ios", Identifier: "example.other"}}
		}, 400, "not an identity"},
		{"no such feature", func(r *shape.Register) { r.Features = []string{"billing"} }, 400, "no feature"},
		{"digest in colons", func(r *shape.Register) {
			r.Identities = []shape.IdentityAnswers{{Platform: "android", Identifier: "example.larkfield.hivelog", Answers: map[string]string{"digest": "AB:CD"}}}
		}, 400, "has not the form"},
	} {
		r := in
		c.change(&r)
		if _, err := w.owner.Register(ctx, r); status(err) != c.status || !strings.Contains(err.Error(), c.say) || remedy(err) == "" {
			t.Errorf("%s: %d %v / %s", c.name, status(err), err, remedy(err))
		}
	}
	elsewhere := shape.Register{App: "hivelog", Service: "thornmill", Environment: "development", Answers: map[string]string{"region": "north", "name": "taken-name"}, Identities: []shape.IdentityAnswers{{Platform: "android", Identifier: "example.larkfield.hivelog.debug"}}}
	if _, err := w.owner.Register(ctx, elsewhere); err != nil {
		t.Fatal(err)
	}
	in.Answers = map[string]string{"region": "north", "name": "taken-name"}
	in.Identities = in.Identities[:1]
	in.Identities[0].Answers = nil
	if _, err := w.owner.Register(ctx, in); status(err) != 422 || !strings.Contains(remedy(err), "another name") {
		t.Errorf("a name taken: %v / %s", err, remedy(err))
	}
	in.Answers["name"] = "free-name"
	in.Identities = append(in.Identities, elsewhere.Identities[0])
	if _, err := w.owner.Register(ctx, in); status(err) != 422 || !strings.Contains(err.Error(), "another workspace") {
		t.Errorf("an identifier of another workspace: %v", err)
	}
	in.Identities = in.Identities[:1]
	if g, err := w.owner.Register(ctx, in); err != nil || g.State != "registered" {
		t.Errorf("after another name: %+v %v", g, err)
	}
}

func TestFaultsOfAService(t *testing.T) {
	for _, c := range []struct {
		kind  string
		times int
		fails bool
	}{
		{"lost", 1, false}, {"half", 1, false}, {"broken", 2, false}, {"busy", 1, false}, {"broken", 9, true},
	} {
		t.Run(fmt.Sprintf("%s %d", c.kind, c.times), func(t *testing.T) {
			w := open(t, shared)
			in := w.ready()
			w.thorn.Faults.Add(base.Fault{Kind: c.kind, Path: "/registrations", Times: c.times})
			g, err := w.owner.Register(context.Background(), in)
			if c.fails {
				if status(err) != 502 || !strings.Contains(remedy(err), "again") {
					t.Errorf("%v / %s", err, remedy(err))
				}
				for range 4 { // the rest of the faults wears off
					if g, err = w.owner.Register(context.Background(), in); err == nil {
						break
					}
				}
			}
			if err != nil || g.State != "registered" {
				t.Fatalf("%+v %v", g, err)
			}
			if n := len(w.thorn.Journal.Data.Registrations); n != 1 {
				t.Errorf("the service holds %d workspaces", n)
			}
			if _, err := w.owner.Register(context.Background(), in); err != nil {
				t.Errorf("once more: %v", err)
			}
		})
	}
}

func TestServiceAway(t *testing.T) {
	w := open(t, shared)
	in := w.ready()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	away := "http://" + l.Addr().String()
	if err := l.Close(); err != nil {
		t.Fatal(err)
	}
	if err := w.owner.Connect(context.Background(), "thornmill", shape.Connect{Address: away, Credential: "x"}); err != nil {
		t.Fatal(err)
	}
	if _, err := w.owner.Register(context.Background(), in); status(err) != 502 || !strings.Contains(err.Error(), "cannot be reached") || remedy(err) == "" {
		t.Errorf("%v / %s", err, remedy(err))
	}
}

func TestSightingsArriveByThemselves(t *testing.T) {
	w := open(t, shared)
	ctx := context.Background()
	g, err := w.owner.Register(ctx, w.ready())
	if err != nil {
		t.Fatal(err)
	}
	events, stop := context.WithTimeout(ctx, 20*time.Second)
	defer stop()
	req, _ := http.NewRequestWithContext(events, "GET", w.address+"/v1/events", nil)
	req.Header.Set("Authorization", "Bearer "+w.owner.Token)
	stream, err := http.DefaultClient.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	defer stream.Body.Close()
	android := g.Identities[0]
	values := map[string]string{}
	for _, v := range android.Values {
		values[v.Name] = v.Value
	}
	app := func(id, key string) int {
		req, _ := http.NewRequest("PUT", w.thornURL+"/records/r1", strings.NewReader(`{"note":1}`))
		req.Header.Set("Thornmill-App", values["number"])
		req.Header.Set("Thornmill-Key", key)
		req.Header.Set("Thornmill-Identity", id)
		res, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		defer res.Body.Close()
		return res.StatusCode
	}
	if got := app("example.larkfield.Hivelog", values["public-key"]); got != 403 {
		t.Errorf("an app under another identifier: %d", got)
	}
	if got := app(android.Identifier, "wrong"); got != 403 {
		t.Errorf("an app with a wrong key: %d", got)
	}
	if got := app(android.Identifier, values["public-key"]); got != 201 {
		t.Fatalf("the app: %d", got)
	}
	buf, seen := make([]byte, 4096), ""
	for !strings.Contains(seen, "event: sighting") {
		n, err := stream.Body.Read(buf)
		seen += string(buf[:n])
		if err != nil {
			t.Fatalf("no live event: %v\n%s", err, seen)
		}
	}
	list, err := w.owner.Sightings(ctx, "hivelog")
	if err != nil || len(list) != 1 || list[0].Identifier != android.Identifier {
		t.Errorf("%+v %v", list, err)
	}
	if err := w.owner.Look(ctx, g.ID); err != nil {
		t.Fatal(err)
	}
	if list, _ := w.owner.Sightings(ctx, "hivelog"); len(list) != 1 {
		t.Errorf("a sighting was counted twice: %+v", list)
	}
	l, err := w.owner.LineUp(ctx, "hivelog")
	if err != nil || !strings.Contains(string(l.Rows), `"last sighting":{"value":"`+values["number"]) {
		t.Errorf("line-up: %s %v", l.Rows, err)
	}
}

func TestDatabaseAway(t *testing.T) {
	dir, err := os.MkdirTemp("", "ligare-away-")
	if err != nil {
		t.Fatal(err)
	}
	defer os.RemoveAll(dir)
	if err := os.Chmod(dir, 0o711); err != nil {
		t.Fatal(err)
	}
	c, err := cluster.Start(context.Background(), filepath.Join(dir, "postgres"))
	if err != nil {
		t.Fatal(err)
	}
	defer func() { c.Stop() }()
	w := open(t, c)
	if res, _ := w.raw("GET", "/readyz", "", "", ""); res.StatusCode != 200 {
		t.Fatal("not ready at first")
	}
	port := strings.Split(strings.SplitN(c.URL, "@", 2)[1], "/")[0]
	c.Stop()
	res, b := w.raw("GET", "/v1/me", w.owner.Token, "", "")
	if res.StatusCode != 503 || res.Header.Get("Retry-After") == "" || !bytes.Contains(b, []byte("remedy")) {
		t.Errorf("without a database: %d %s", res.StatusCode, b)
	}
	if res, _ := w.raw("GET", "/readyz", "", "", ""); res.StatusCode != 503 {
		t.Errorf("ready without a database: %d", res.StatusCode)
	}
	if res, _ := w.raw("GET", "/healthz", "", "", ""); res.StatusCode != 200 {
		t.Errorf("not alive without a database: %d", res.StatusCode)
	}
	if c, err = cluster.StartOn(context.Background(), filepath.Join(dir, "postgres"), port); err != nil {
		t.Fatal(err)
	}
	for end := time.Now().Add(15 * time.Second); ; time.Sleep(200 * time.Millisecond) {
		if _, err := w.owner.Me(context.Background()); err == nil {
			break
		} else if time.Now().After(end) {
			t.Fatalf("it did not recover: %v", err)
		}
	}
}

func TestTheDocumentNamesEveryRoute(t *testing.T) {
	w := open(t, shared)
	_, b := w.raw("GET", "/openapi.json", "", "", "")
	var doc struct {
		OpenAPI string
		Paths   map[string]map[string]any
	}
	if err := json.Unmarshal(b, &doc); err != nil || doc.OpenAPI != "3.1.0" {
		t.Fatalf("%v %s", err, doc.OpenAPI)
	}
	routes, ok := (&api.API{Records: w.records, Log: slog.New(slog.DiscardHandler)}).Handler(context.Background()).(chi.Routes)
	if !ok {
		t.Fatal("the handler has no routes")
	}
	seen := map[string]bool{}
	err := chi.Walk(routes, func(method, route string, _ http.Handler, _ ...func(http.Handler) http.Handler) error {
		key := strings.ToLower(method) + " " + route
		seen[key] = true
		if doc.Paths[route][strings.ToLower(method)] == nil {
			t.Errorf("%s is served and not in the document", key)
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	for path, methods := range doc.Paths {
		for m := range methods {
			if !seen[m+" "+path] {
				t.Errorf("%s %s is in the document and not served", m, path)
			}
		}
	}
	var whole any
	if err := json.Unmarshal(b, &whole); err != nil {
		t.Fatal(err)
	}
	references(whole, func(ref string) {
		at := whole
		for _, step := range strings.Split(strings.TrimPrefix(ref, "#/"), "/") {
			m, _ := at.(map[string]any)
			at = m[step]
		}
		if at == nil {
			t.Errorf("%s leads nowhere", ref)
		}
	})
}

func references(v any, visit func(string)) {
	switch x := v.(type) {
	case map[string]any:
		for k, in := range x {
			if ref, ok := in.(string); ok && k == "$ref" {
				visit(ref)
			}
			references(in, visit)
		}
	case []any:
		for _, in := range x {
			references(in, visit)
		}
	}
}

// The shapes sent must be the shapes described: every field of an answer stands in the document.
func TestAnswersAreAsDescribed(t *testing.T) {
	w := open(t, shared)
	ctx := context.Background()
	g, err := w.owner.Register(ctx, w.ready())
	if err != nil {
		t.Fatal(err)
	}
	if err := w.owner.SendReport(ctx, "hivelog", shape.Report{Findings: []shape.Finding{{Rule: "r", Severity: "error", Fingerprint: "f"}}, LineUp: json.RawMessage("[]")}); err != nil {
		t.Fatal(err)
	}
	_, b := w.raw("GET", "/openapi.json", "", "", "")
	var doc struct {
		Components struct {
			Schemas map[string]struct{ Properties map[string]any }
		}
	}
	if err := json.Unmarshal(b, &doc); err != nil {
		t.Fatal(err)
	}
	for path, schema := range map[string]string{"/v1/me": "Me", "/v1/apps/hivelog": "App", "/v1/registrations/" + g.ID: "Registration", "/v1/registrations/" + g.ID + "/placing": "Placing",
		"/v1/services/thornmill": "Service", "/v1/apps/hivelog/report": "Report", "/v1/apps/hivelog/lineup": "LineUp", "/v1/apps/hivelog/survey": "Survey", "/v1/overview": "Overview"} {
		res, body := w.raw("GET", path, w.owner.Token, "", "")
		var got map[string]any
		if err := json.Unmarshal(body, &got); err != nil || res.StatusCode != 200 {
			t.Errorf("%s: %d %s", path, res.StatusCode, body)
			continue
		}
		for field := range got {
			if doc.Components.Schemas[schema].Properties[field] == nil {
				t.Errorf("%s answers %q, which %s does not have", path, field, schema)
			}
		}
	}
	res, _ := w.raw("GET", "/v1/apps/hivelog", w.owner.Token, "", "")
	if res.Header.Get("ETag") == "" || res.Header.Get("Cache-Control") != "no-store" || res.Header.Get("X-Content-Type-Options") != "nosniff" {
		t.Errorf("headers: %v", res.Header)
	}
}

// A signer is tied to the builds it signs, and the services that want its digest are named; what a survey said is kept
// by site, with nothing that is not a fact.
func TestSignersAndSurveys(t *testing.T) {
	w := open(t, shared)
	ctx := context.Background()
	name := fmt.Sprintf("app-%d", time.Now().UnixNano())
	id := "example.larkfield." + strings.ReplaceAll(name, "-", "")
	if _, err := w.owner.SaveApp(ctx, shape.NewApp{Name: name, Environments: []string{"production"}, Identities: []shape.NewIdentity{{Platform: "android", Identifier: id}, {Platform: "ios", Identifier: id}}}); err != nil {
		t.Fatal(err)
	}
	_, c, err := cert.Create(cert.New{Alias: "a", Password: "honey-pass", Name: pkix.Name{CommonName: name}, Years: 30}, time.Now())
	if err != nil {
		t.Fatal(err)
	}
	n := shape.NewSigner{Name: "Wren's laptop", Role: "debug", Owner: "Wren", Machine: "laptop", App: name, Certificate: c.Raw}
	got, err := w.owner.SaveSigner(ctx, n)
	if err != nil || len(got.Identities) != 1 || got.Identities[0].Identifier != id || len(got.Needs) != 0 || got.Bits != 3072 || got.Owner != "Wren" {
		t.Fatalf("%+v %v", got, err)
	}
	if again, err := w.owner.SaveSigner(ctx, n); err != nil || again.ID != got.ID {
		t.Errorf("the same certificate is another signer: %v %v", again, err)
	}
	for _, bad := range []shape.NewSigner{{Name: "x", Role: "debug", Certificate: []byte("x")}, {Name: "x", Role: "boss", Certificate: c.Raw}, {Name: "x", Role: "debug", Certificate: c.Raw, App: name, Identities: []string{"not.his"}}} {
		var p *shape.Problem
		if _, err := w.owner.SaveSigner(ctx, bad); !errors.As(err, &p) || p.Remedy == "" {
			t.Errorf("%+v: %v", bad, err)
		}
	}
	_, anew, err := cert.Create(cert.New{Alias: "a", Password: "honey-pass", Name: pkix.Name{CommonName: name}, Years: 30}, time.Now())
	if err != nil {
		t.Fatal(err)
	}
	second := n
	second.Certificate, second.App = anew.Raw, ""
	if got, err := w.owner.SaveSigner(ctx, second); err != nil || len(got.Identities) != 1 {
		t.Errorf("a debug keystore that was made anew signs what the old one signed: %+v %v", got, err)
	}
	list, err := w.owner.Signers(ctx, name)
	if err != nil || len(list) != 1 || !list[0].NotBefore.Equal(anew.NotBefore) {
		t.Fatalf("%d signers of the app, %v", len(list), err)
	}
	second.Role, second.Certificate = "release", c.Raw
	var clash *shape.Problem
	if _, err := w.owner.SaveSigner(ctx, second); !errors.As(err, &clash) || clash.Status != 409 || !strings.Contains(clash.Remedy, "--replace") {
		t.Errorf("another release certificate of the same name: %v", err)
	}
	second.Replace = true
	if got, err := w.owner.SaveSigner(ctx, second); err != nil || got.Role != "release" {
		t.Errorf("%+v %v", got, err)
	}
	send := func(site, value string) {
		t.Helper()
		err := w.owner.SendSurvey(ctx, name, shape.Survey{Variants: []shape.SurveyedVariant{{Platform: "android", Site: site, Variant: "release", Layout: "android-gradle", Identity: id, Environment: "production",
			Facts: []shape.SurveyedFact{{Name: "application ID", Value: value, Place: "app/build.gradle:3:9", Via: []string{"x"}}}}}})
		if err != nil {
			t.Fatal(err)
		}
	}
	send("app", "old")
	send("wear", id)
	send("app", id)
	_, b := w.raw("GET", "/v1/apps/"+name+"/survey", w.owner.Token, "", "")
	var kept shape.Survey
	if err := json.Unmarshal(b, &kept); err != nil || len(kept.Variants) != 2 || kept.Variants[0].Facts[0].Value != id || kept.Variants[0].Identity != id || kept.Variants[0].Environment != "production" || kept.At == nil {
		t.Errorf("%s %v", b, err)
	}
	var p *shape.Problem
	if err := w.owner.SendSurvey(ctx, name, shape.Survey{Variants: []shape.SurveyedVariant{{Platform: "toaster", Site: "x", Variant: "y"}}}); !errors.As(err, &p) || p.Remedy == "" {
		t.Errorf("a survey of a toaster: %v", err)
	}
}

func TestPages(t *testing.T) {
	w := open(t, shared)
	ctx := context.Background()
	for i := range 7 {
		if _, err := w.owner.SaveApp(ctx, shape.NewApp{Name: fmt.Sprintf("app-%d", i)}); err != nil {
			t.Fatal(err)
		}
	}
	var names []string
	path := "/v1/apps?limit=3"
	for path != "" {
		res, b := w.raw("GET", path, w.owner.Token, "", "")
		var p shape.Page[shape.App]
		if err := json.Unmarshal(b, &p); err != nil {
			t.Fatal(err)
		}
		for _, a := range p.Items {
			names = append(names, a.Name)
		}
		path, _, _ = strings.Cut(strings.TrimPrefix(res.Header.Get("Link"), "<"), ">")
	}
	if strings.Join(names, " ") != "app-0 app-1 app-2 app-3 app-4 app-5 app-6" {
		t.Errorf("%v", names)
	}
}

func TestManyAtOnce(t *testing.T) {
	w := open(t, shared)
	in := w.ready()
	type outcome struct {
		status int
		body   string
	}
	results := make(chan outcome, 8)
	for range 8 { // the same create under one key
		go func() {
			req, _ := http.NewRequest("POST", w.address+"/v1/apps", strings.NewReader(`{"name":"once","title":"Once"}`))
			req.Header.Set("Authorization", "Bearer "+w.owner.Token)
			req.Header.Set("Idempotency-Key", "one-key")
			res, err := http.DefaultClient.Do(req)
			if err != nil {
				results <- outcome{0, err.Error()}
				return
			}
			defer res.Body.Close()
			b, _ := io.ReadAll(res.Body)
			results <- outcome{res.StatusCode, string(canon(b))}
		}()
	}
	first := <-results
	for range 7 {
		if r := <-results; r != first || r.status != 201 {
			t.Errorf("%+v and %+v", first, r)
		}
	}
	errs := make(chan error, 4)
	for range 4 { // the same registration from several machines
		go func() {
			_, err := w.owner.Register(context.Background(), in)
			errs <- err
		}()
	}
	for range 4 {
		if err := <-errs; err != nil && (status(err) != 409 || !strings.Contains(err.Error(), "right now")) {
			t.Errorf("%d %v", status(err), err)
		}
	}
	g, err := w.owner.Register(context.Background(), in)
	if err != nil || g.State != "registered" {
		t.Fatalf("%+v %v", g, err)
	}
	list, err := w.owner.Registrations(context.Background(), "hivelog")
	if err != nil || len(list) != 1 {
		t.Errorf("%d registrations, %v", len(list), err)
	}
	caller, err := w.records.Authenticate(context.Background(), w.owner.Token)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := w.records.VerifyAudit(context.Background(), caller); err != nil {
		t.Error(err)
	}
}

func TestTheWatchWaitsForAServiceThatIsAway(t *testing.T) {
	w := open(t, shared)
	ctx := context.Background()
	g, err := w.owner.Register(ctx, w.ready())
	if err != nil {
		t.Fatal(err)
	}
	w.thorn.Faults.Add(base.Fault{Kind: "broken", Path: "/sightings", Times: 4})
	values := map[string]string{}
	for _, v := range g.Identities[0].Values {
		values[v.Name] = v.Value
	}
	req, _ := http.NewRequest("PUT", w.thornURL+"/records/x", strings.NewReader(`1`))
	req.Header.Set("Thornmill-App", values["number"])
	req.Header.Set("Thornmill-Key", values["public-key"])
	req.Header.Set("Thornmill-Identity", g.Identities[0].Identifier)
	res, err := http.DefaultClient.Do(req)
	if err != nil || res.StatusCode != 201 {
		t.Fatalf("%v %v", res, err)
	}
	res.Body.Close()
	for until := time.Now().Add(20 * time.Second); ; time.Sleep(100 * time.Millisecond) {
		list, err := w.owner.Sightings(ctx, "hivelog")
		if err != nil {
			t.Fatal(err)
		}
		if len(list) == 1 {
			return
		}
		if time.Now().After(until) {
			t.Fatalf("nothing arrived: %+v", list)
		}
	}
}
