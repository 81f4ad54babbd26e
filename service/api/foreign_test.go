package api_test

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"

	"ligare/client/shape"
	"ligare/standin/base"
)

const fernSheet = `sheet: 1
service: fernhatch
title: Fernhatch
kind: feature trials
version: "1"
platforms: [android]
scope: environment
asks:
  - {id: plot, title: Plot, from: text, grammar: "[a-z]{3,20}"}
  - {id: identifier, title: Application ID, from: identity.id, per: identity}
issues:
  values:
    - {id: seed, title: Seed, exposure: client, per: identity, pattern: "fs-[0-9]{6}"}
    - {id: spade, title: Spade, exposure: server, pattern: "spade_[a-z]{10}"}
  files:
    - {id: plan, platform: android, name: fern.properties, format: properties, read: {identity: app, seed: seed, revision: rev}}
placements:
  - {id: plan, platform: android, place: config-file, with: {file: plan, folder: assets}, why: The library reads it.}
messages:
  - {code: "7", cause: The plot is planted already., remedy: "Choose another: --answer plot=NAME."}
connector: {protocol: ligare-registration-1, lost-answer: look-up, refusal-code: /fern/0, refusal-text: /fern/1}
`

// fernhatch is a service written from the published protocol alone: it shows no digests of answers, knows no keys, and
// answers with no more than it has to.
type fernhatch struct {
	mu     sync.Mutex
	plots  map[string]map[string]any // by reference
	broken string
}

func (f *fernhatch) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	f.mu.Lock()
	defer f.mu.Unlock()
	say := func(status int, v any) {
		w.WriteHeader(status)
		if err := json.NewEncoder(w).Encode(v); err != nil {
			panic(err) // the test's connection is whole
		}
	}
	if f.broken != "" && r.Method == "POST" && r.URL.Path == "/registrations" {
		if _, err := w.Write([]byte(f.broken)); err != nil {
			panic(err)
		}
		return
	}
	switch {
	case r.Header.Get("Authorization") != "Bearer fern":
		say(401, map[string]any{"fern": []string{"1", "who are you?"}})
	case r.Method == "POST" && r.URL.Path == "/registrations":
		var in struct {
			Reference  string
			Answers    map[string]string
			Identities []struct{ Platform, Identifier string }
		}
		if err := json.NewDecoder(r.Body).Decode(&in); err != nil {
			say(400, map[string]any{"fern": []string{"2", err.Error()}})
			return
		}
		for _, p := range f.plots {
			if p["plot"] == in.Answers["plot"] {
				say(409, map[string]any{"fern": []string{"7", "that plot is taken"}})
				return
			}
		}
		p := map[string]any{"id": "plot " + in.Reference, "reference": in.Reference, "revision": 1, "plot": in.Answers["plot"], "values": map[string]string{"spade": "spade_abcdefghij"},
			"identities": []any{map[string]any{"platform": in.Identities[0].Platform, "identifier": in.Identities[0].Identifier, "values": map[string]string{"seed": "fs-123456"}}}}
		f.plots[in.Reference] = p
		say(201, p)
	case r.Method == "GET" && r.URL.Path == "/registrations":
		list := []any{}
		if p := f.plots[r.URL.Query().Get("reference")]; p != nil {
			list = append(list, p)
		}
		say(200, map[string]any{"registrations": list})
	case strings.Contains(r.URL.Path, "/files/"):
		parts := strings.Split(r.URL.Path, "/")
		fmt.Fprintf(w, "app=%s\nseed=fs-123456\nrev=1\n", parts[len(parts)-1])
	case strings.HasSuffix(r.URL.Path, "/sightings"):
		say(200, map[string]any{"sightings": []any{}})
	default:
		p := f.plots[strings.TrimPrefix(r.URL.Path, "/registrations/plot ")]
		if p == nil {
			say(404, map[string]any{"fern": []string{"4", "nothing grows here"}})
			return
		}
		say(200, p)
	}
}

// A service and its sheet written by somebody else, to the published protocol, work with nothing changed here.
func TestSomebodyElsesService(t *testing.T) {
	w := open(t, shared)
	w.app()
	ctx := context.Background()
	fern := &fernhatch{plots: map[string]map[string]any{}}
	ts := httptest.NewServer(fern)
	defer ts.Close()
	if _, err := w.owner.SaveSheet(ctx, "fernhatch", []byte(fernSheet)); err != nil {
		t.Fatal(err)
	}
	if err := w.owner.Connect(ctx, "fernhatch", shape.Connect{Address: ts.URL, Credential: "fern"}); err != nil {
		t.Fatal(err)
	}
	in := shape.Register{App: "hivelog", Service: "fernhatch", Environment: "production", Answers: map[string]string{"plot": "meadow"}, Identities: android}
	// Answers that are not the protocol's: a clear error, and nothing kept half-way.
	for name, body := range map[string]string{"a web page": "<html>hello", "another protocol": `{"ok": true}`, "a list": `[1]`, "half": `{"id": "x", "reference`, "a control character": `{"id": "a\u0000b"}`, "somebody else's": `{"id": "x", "reference": "other", "revision": 1}`, "large": strings.Repeat(" ", 9<<20)} {
		fern.broken = body
		if _, err := w.owner.Register(ctx, in); status(err) != 502 || !strings.Contains(err.Error(), "answer") || remedy(err) == "" {
			t.Errorf("%s: %d %v", name, status(err), err)
		}
		if g := w.find("fernhatch"); g.State != "unknown" || g.RemoteID != "" || len(g.Values) != 0 {
			t.Errorf("%s: %+v", name, g)
		}
	}
	fern.broken = ""
	g, err := w.owner.Register(ctx, in)
	if err != nil || g.State != "registered" || g.Identities[0].Values[0].Value != "fs-123456" || g.Identities[0].Files[0].Name != "fern.properties" {
		t.Fatalf("%+v %v", g, err)
	}
	if again, err := w.owner.Register(ctx, in); err != nil || again.ID != g.ID || len(fern.plots) != 1 {
		t.Errorf("again: %v, %d plots", err, len(fern.plots))
	}
	if err := w.owner.Look(ctx, g.ID); err != nil {
		t.Error(err)
	}
	p, err := w.owner.Placing(ctx, g.ID)
	if err != nil || len(p.Identities[0].Files["plan"]) == 0 || p.Values["spade"] != "" {
		t.Errorf("%+v %v", p, err)
	}
	in.Environment, in.Identities = "development", []shape.IdentityAnswers{{Platform: "android", Identifier: androidID + ".debug"}}
	if _, err := w.owner.Register(ctx, in); status(err) != 422 || !strings.Contains(err.Error(), "planted already") || !strings.Contains(remedy(err), "Choose another") {
		t.Errorf("%v / %s", err, remedy(err))
	}
}

// A file that a service issues and that is not what its sheet says stops everything; nothing of the rest is kept.
func TestFilesThatAreNotWhatTheySay(t *testing.T) {
	w := open(t, shared)
	in := w.ready()
	ctx := context.Background()
	w.thorn.Faults.Add(base.Fault{Kind: "garbage", Path: "/files/", Times: 1})
	if _, err := w.owner.Register(ctx, in); status(err) != 502 || !strings.Contains(err.Error(), "web page") || !strings.Contains(remedy(err), "ligare refresh") {
		t.Errorf("%v / %s", err, remedy(err))
	}
	if g := w.find("thornmill"); len(g.Values) != 0 || len(g.Identities[0].Values) != 0 {
		t.Errorf("half of it was kept: %+v", g)
	}
	if g, err := w.owner.Register(ctx, in); err != nil || g.State != "registered" {
		t.Errorf("%+v %v", g, err)
	}
}
