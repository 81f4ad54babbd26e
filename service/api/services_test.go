package api_test

import (
	"bytes"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"ligare/client/shape"
	"ligare/standin/all"
	"ligare/standin/base"
)

// service starts a simulated service and opens the team's account with it.
func (w *world) service(name string) *base.Service {
	w.t.Helper()
	s, err := all.Services[name](filepath.Join(w.t.TempDir(), name+".journal"))
	if err != nil {
		w.t.Fatal(err)
	}
	ts := httptest.NewServer(s.Handler())
	w.t.Cleanup(ts.Close)
	s.SetAddress(ts.URL)
	if err := w.owner.Connect(context.Background(), name, shape.Connect{Address: ts.URL}); err != nil {
		w.t.Fatal(err)
	}
	return s
}

func (w *world) app() {
	w.t.Helper()
	if _, err := w.owner.SaveApp(context.Background(), hivelog); err != nil {
		w.t.Fatal(err)
	}
}

func icon(size int, alpha bool) string {
	img := image.NewNRGBA(image.Rect(0, 0, size, size))
	for i := range img.Pix {
		img.Pix[i] = 0xff
	}
	if alpha {
		img.Set(0, 0, color.NRGBA{0, 0, 0, 10})
	}
	var b bytes.Buffer
	if err := png.Encode(&b, img); err != nil {
		panic(err) // a buffer takes everything
	}
	return base64.StdEncoding.EncodeToString(b.Bytes())
}

func pushKey(t *testing.T) string {
	t.Helper()
	k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	der, err := x509.MarshalPKCS8PrivateKey(k)
	if err != nil {
		t.Fatal(err)
	}
	return string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der}))
}

const (
	androidID = "example.larkfield.hivelog"
	sha256a   = "abababababababababababababababababababababababababababababababab"
)

var (
	both    = []shape.IdentityAnswers{{Platform: "android", Identifier: androidID}, {Platform: "ios", Identifier: androidID}}
	android = both[:1]
	ios     = both[1:]
	colons  = strings.TrimSuffix(strings.Repeat("AB:", 32), ":")
	b64url  = base64.RawURLEncoding.EncodeToString(bytes.Repeat([]byte{0xab}, 32))
	sha1b64 = base64.StdEncoding.EncodeToString(bytes.Repeat([]byte{0xab}, 20))
)

func answered(i shape.IdentityAnswers, answers map[string]string) shape.IdentityAnswers {
	i.Answers = answers
	return i
}

// wants is how each service is asked; each is registered with, and again, by the same code and its sheet alone.
func wants() map[string]shape.Register {
	return map[string]shape.Register{
		"thornmill":   {Environment: "production", Answers: map[string]string{"region": "south", "name": "hivelog-all"}, Identities: both},
		"tallywick":   {Identities: []shape.IdentityAnswers{answered(both[0], map[string]string{"framework": "native"}), answered(both[1], map[string]string{"framework": "native"})}},
		"treadmark":   {Answers: map[string]string{"payer": "20417733"}, Identities: []shape.IdentityAnswers{answered(both[0], map[string]string{"launcher": "example.larkfield.hivelog.InspectionActivity", "digest": sha1b64}), both[1]}},
		"fieldhide":   {Answers: map[string]string{"ide": "16.2"}, Identities: ios},
		"burrcatch":   {Identities: android},
		"gatepost":    {Environment: "production", Identities: []shape.IdentityAnswers{answered(both[0], map[string]string{"digest": colons}), both[1]}},
		"bellhanger":  {Identities: both},
		"patchquay":   {Identities: both, Berths: []shape.Berth{{Name: "production", Environment: "production"}, {Name: "barn", Environment: "development"}}},
		"tollbarrow":  {Identities: []shape.IdentityAnswers{answered(both[0], map[string]string{"digest": b64url})}, Features: []string{"billing-interface"}},
		"etchwork":    {Environment: "production", Answers: map[string]string{"until": time.Now().AddDate(1, 0, 0).Format(time.DateOnly)}, Identities: both},
		"shellwright": {Answers: map[string]string{"icon": icon(1024, false), "address": "https://hivelog.larkfield.example"}, Identities: both},
	}
}

func TestElevenServices(t *testing.T) {
	w := open(t, shared)
	w.app()
	ctx := context.Background()
	secrets := []string{}
	for name, in := range wants() {
		t.Run(name, func(t *testing.T) {
			s := w.service(name)
			in.App, in.Service = "hivelog", name
			p, err := w.owner.Plan(ctx, in)
			if err != nil || !p.Ready || len(p.Lines) == 0 {
				t.Fatalf("%+v %v", p, err)
			}
			if len(s.Journal.Data.Registrations) != 0 {
				t.Fatal("planning registered something")
			}
			g, err := w.owner.Register(ctx, in)
			if err != nil || g.State != "registered" || g.Revision < 1 || len(g.Identities) != len(in.Identities) {
				t.Fatalf("%+v %v", g, err)
			}
			again, err := w.owner.Register(ctx, in)
			if err != nil || again.ID != g.ID || again.Revision != g.Revision || len(s.Journal.Data.Registrations) != 1 {
				t.Errorf("again: %+v %v", again, err)
			}
			for _, r := range s.Journal.Data.Registrations {
				for k, v := range r.Values {
					if strings.Contains(k, "key") || strings.Contains(k, "secret") || strings.Contains(k, "token") {
						secrets = append(secrets, v)
					}
				}
			}
			svc, err := w.owner.Service(ctx, name)
			if err != nil {
				t.Fatal(err)
			}
			var sh struct {
				Issues struct {
					Values []struct{ ID, Exposure, Per string }
					Files  []struct{ ID, Platform string }
				}
			}
			if err := json.Unmarshal(svc.Sheet, &sh); err != nil {
				t.Fatal(err)
			}
			placing, err := w.owner.Placing(ctx, g.ID)
			if err != nil {
				t.Fatal(err)
			}
			for _, v := range sh.Issues.Values { // every value the sheet names was issued, and only client values are handed out
				got, has := placing.Values[v.ID]
				if v.Per == "identity" {
					got, has = placing.Identities[0].Values[v.ID]
				}
				if has != (v.Exposure == "client") || has && got == "" {
					t.Errorf("%s (%s): %q %v", v.ID, v.Exposure, got, has)
				}
			}
			for _, i := range placing.Identities {
				for _, f := range sh.Issues.Files {
					if (f.Platform == "" || f.Platform == i.Platform) && len(i.Files[f.ID]) == 0 {
						t.Errorf("%s has no file %s", i.Identifier, f.ID)
					}
				}
			}
			if err := w.owner.Look(ctx, g.ID); err != nil {
				t.Errorf("looking: %v", err)
			}
			if n, err := w.owner.Refresh(ctx, g.ID); err != nil || n.Revision != g.Revision {
				t.Errorf("refreshing: %+v %v", n, err)
			}
		})
	}
	if len(secrets) < 8 {
		t.Errorf("only %d secrets were looked at", len(secrets))
	}
	for _, s := range secrets {
		if strings.Contains(w.log.String(), s) {
			t.Error("a value stands in the log")
		}
	}
	if err := w.owner.Deregister(ctx, w.find("patchquay").ID); err != nil {
		t.Error(err)
	}
	if _, err := w.owner.Registration(ctx, "x"); status(err) != 404 {
		t.Errorf("%v", err)
	}
}

func (w *world) find(service string) *shape.Registration {
	w.t.Helper()
	list, err := w.owner.Registrations(context.Background(), "hivelog")
	if err != nil {
		w.t.Fatal(err)
	}
	for _, g := range list {
		if g.Service == service {
			return &g
		}
	}
	w.t.Fatalf("no registration at %s", service)
	return nil
}

// Each refusal arrives with its cause and what to do; ours come before anything is sent, the service's in its own words.
func TestRefusals(t *testing.T) {
	w := open(t, shared)
	w.app()
	ctx := context.Background()
	for _, c := range []struct {
		name, service string
		change        func(in *shape.Register)
		say, mends    string
		sent          bool
	}{
		{"a digest in another encoding", "treadmark", func(in *shape.Register) {
			in.Identities = []shape.IdentityAnswers{answered(both[0], map[string]string{"launcher": "a.B", "digest": strings.TrimSuffix(strings.Repeat("AB:", 20), ":")})}
		}, "has not the form Treadmark wants", "every form of a digest", false},
		{"a relative launcher", "treadmark", func(in *shape.Register) {
			in.Identities = []shape.IdentityAnswers{answered(both[0], map[string]string{"launcher": ".Main", "digest": sha1b64})}
		}, "Launcher activity", "match", false},
		{"no payer", "treadmark", func(in *shape.Register) { in.Answers = nil }, "asks: Number of the paying account", "Eight digits", false},
		{"an answer nobody asked for", "treadmark", func(in *shape.Register) { in.Answers["player"] = "1" }, `asks nothing called "player"`, "Did you mean payer?", false},
		{"a small icon", "shellwright", func(in *shape.Register) { in.Answers["icon"] = icon(512, false) }, "512 by 512 pixels; 1024 by 1024", "size", false},
		{"a transparent icon", "shellwright", func(in *shape.Register) { in.Answers["icon"] = icon(1024, true) }, "transparent", "alpha", false},
		{"a control character", "shellwright", func(in *shape.Register) { in.Answers["name"] = "Hive\x07log" }, "control character", "Type it again", false},
		{"a placeholder", "shellwright", func(in *shape.Register) { in.Answers["address"] = "<YOUR ADDRESS>" }, "placeholder", "itself", false},
		{"a redirect that is not https", "gatepost", func(in *shape.Register) { in.Redirects = []string{"http://larkfield.example/back"} }, "it is not https", "https://HOST", false},
		{"a redirect with a wildcard", "gatepost", func(in *shape.Register) { in.Redirects = []string{"https://*.larkfield.example/"} }, "wildcard", "https://HOST", false},
		{"a redirect of nobody's scheme", "gatepost", func(in *shape.Register) { in.Redirects = []string{"hivelog:/back"} }, "not a domain turned round", "example.studio.app", false},
		{"a scope that is not offered", "gatepost", func(in *shape.Register) { in.Answers = map[string]string{"scope": "openid everything"} }, "has not the form", "match", false},
		{"no digest for a switch", "tollbarrow", func(in *shape.Register) { in.Identities = android }, "asks: SHA-256 digest", "signer add", false},
		{"nobody supplies it", "bellhanger", func(in *shape.Register) { in.Features = []string{"android-pushes"} }, "no registration of the app supplies it", "messaging.key", false},
		{"an unknown feature", "bellhanger", func(in *shape.Register) { in.Features = []string{"pigeons"} }, `no feature "pigeons"`, "android-pushes", false},
		{"two identities at once", "burrcatch", func(in *shape.Register) { in.Identities = both }, "each identity by itself", "one identity", false},
		{"a platform that is not served", "tollbarrow", func(in *shape.Register) { in.Identities, in.Features = ios, nil }, "does not serve", "Leave it out", false},
		{"a berth's form", "patchquay", func(in *shape.Register) { in.Berths = []shape.Berth{{Name: "Barn!"}} }, "cannot be called", "match", false},
		{"the service's own word", "shellwright", func(in *shape.Register) { in.Answers["address"] = "https://" + strings.Repeat("x", 3) + "%zz" }, "not that of a published site", "https", true},
	} {
		t.Run(c.name, func(t *testing.T) {
			s := w.service(c.service)
			in := wants()[c.service]
			in.App, in.Service = "hivelog", c.service
			answers := map[string]string{}
			for k, v := range in.Answers {
				answers[k] = v
			}
			in.Answers = answers
			c.change(&in)
			_, err := w.owner.Register(ctx, in)
			if err == nil || !strings.Contains(err.Error(), c.say) || !strings.Contains(remedy(err), c.mends) || (status(err) == 422) != c.sent {
				t.Errorf("%d %v / %s", status(err), err, remedy(err))
			}
			if len(s.Journal.Data.Registrations) != 0 {
				t.Error("something was registered")
			}
		})
	}
}

// A name that is taken is refused by the service; with another the same registration goes on.
func TestTakenName(t *testing.T) {
	w := open(t, shared)
	w.app()
	w.service("tallywick")
	ctx := context.Background()
	other := w.person("another studio "+t.Name(), "owner", 0)
	if _, err := other.SaveApp(ctx, shape.NewApp{Name: "hive", Title: "Hivelog", Identities: []shape.NewIdentity{{Platform: "android", Identifier: "example.other.hive"}}}); err != nil {
		t.Fatal(err)
	}
	in := wants()["tallywick"]
	in.App, in.Service = "hivelog", "tallywick"
	if _, err := w.owner.Register(ctx, in); err != nil {
		t.Fatal(err)
	}
	svc, err := w.owner.Service(ctx, "tallywick")
	if err != nil {
		t.Fatal(err)
	}
	if err := other.Connect(ctx, "tallywick", shape.Connect{Address: svc.Address}); err != nil {
		t.Fatal(err)
	}
	mine := shape.Register{App: "hive", Service: "tallywick", Identities: []shape.IdentityAnswers{{Platform: "android", Identifier: "example.other.hive", Answers: map[string]string{"framework": "flutter"}}}}
	if _, err := other.Register(ctx, mine); status(err) != 422 || !strings.Contains(err.Error(), "exists already") || !strings.Contains(remedy(err), "another name") {
		t.Errorf("%v / %s", err, remedy(err))
	}
	mine.Answers = map[string]string{"name": "Hivelog of others"}
	if g, err := other.Register(ctx, mine); err != nil || g.State != "registered" {
		t.Errorf("%+v %v", g, err)
	}
}

// The messaging credentials flow from the backend to the push service, the client secret from the sign-in service to the
// backend, the backend's redirect back, numbers into the builder's fields; each is seen where it belongs afterwards.
func TestServicesFeedEachOther(t *testing.T) {
	w := open(t, shared)
	w.app()
	ctx := context.Background()
	stand := map[string]*base.Service{}
	register := func(name string, change func(*shape.Register)) *shape.Registration {
		t.Helper()
		if stand[name] == nil {
			stand[name] = w.service(name)
		}
		in := wants()[name]
		in.App, in.Service = "hivelog", name
		if change != nil {
			change(&in)
		}
		g, err := w.owner.Register(ctx, in)
		if err != nil {
			t.Fatalf("%s: %v / %s", name, err, remedy(err))
		}
		return g
	}
	at := func(service, slot string) shape.Connection {
		t.Helper()
		list, err := w.owner.Connections(ctx, "hivelog")
		if err != nil {
			t.Fatal(err)
		}
		for _, x := range list {
			if x.Service == service && x.Slot == slot {
				return x
			}
		}
		t.Fatalf("no %s of %s in %+v", slot, service, list)
		return shape.Connection{}
	}
	bell := register("bellhanger", nil)
	if x := at("bellhanger", "answer messaging-key"); x.State != "no supplier" || !strings.Contains(x.Remedy, "Thornmill") {
		t.Errorf("%+v", x)
	}
	mill := register("thornmill", nil)
	if x := at("bellhanger", "answer messaging-key"); x.State != "open" || x.From != "thornmill" || x.Exposure != "server" {
		t.Errorf("%+v", x)
	}
	for _, slot := range []string{"answer messaging-account", "messaging-key"} {
		if _, err := w.owner.Carry(ctx, bell.ID, shape.Carry{Slot: slot}); err != nil {
			t.Fatal(err)
		}
	}
	if x := at("bellhanger", "answer messaging-key"); x.State != "saved" {
		t.Errorf("%+v", x)
	}
	if got := one(stand["bellhanger"]).Answers["messaging-key"]; got == "" || got != one(stand["thornmill"]).Values["messaging-key"] {
		t.Error("the key was not carried")
	}
	if g := register("bellhanger", func(in *shape.Register) { in.Features = []string{"android-pushes"} }); !slices.Contains(g.Features, "android-pushes") {
		t.Errorf("%v", g.Features)
	}
	gate := register("gatepost", nil) // the redirect that the backend supplies is kept from the start
	if x := at("gatepost", "redirect redirect.sign-in"); x.State != "saved" || !slices.Contains(gate.Redirects, one(stand["thornmill"]).Values["return-address"]) {
		t.Errorf("%+v %v", x, gate.Redirects)
	}
	if g := register("thornmill", func(in *shape.Register) { in.Features = []string{"partner-sign-in"} }); !slices.Contains(g.Features, "partner-sign-in") || g.Revision <= mill.Revision {
		t.Errorf("%+v", g)
	}
	if x := at("thornmill", "answer partner-secret"); x.State != "saved" || one(stand["thornmill"]).Answers["partner-secret"] != one(stand["gatepost"]).Values["client-secret"] {
		t.Errorf("%+v", x)
	}
	shell := register("shellwright", nil)
	if x := at("shellwright", "field push-number"); x.State != "open" {
		t.Errorf("%+v", x)
	}
	if _, err := w.owner.Carry(ctx, shell.ID, shape.Carry{Slot: "push-number"}); err != nil {
		t.Fatal(err)
	}
	b, err := w.owner.Builder(ctx, shell.ID)
	if err != nil || b.Fields[0].Say != "agrees" || b.Fields[0].Value != one(stand["bellhanger"]).Values["app-number"] || !b.Stale {
		t.Errorf("%+v %v", b, err)
	}
	// A key that is exchanged upstream is old downstream until it is carried again.
	if _, err := w.owner.NewKey(ctx, mill.ID, shape.NewKey{Name: "messaging-key"}); err != nil {
		t.Fatal(err)
	}
	if x := at("bellhanger", "answer messaging-key"); x.State != "old" || x.Remedy == "" {
		t.Errorf("%+v", x)
	}
	if _, err := w.owner.Carry(ctx, bell.ID, shape.Carry{Slot: "messaging-key"}); err != nil {
		t.Fatal(err)
	}
	if x := at("bellhanger", "answer messaging-key"); x.State != "saved" {
		t.Errorf("%+v", x)
	}
	// With a second workspace there are two suppliers, and it is asked which.
	register("thornmill", func(in *shape.Register) {
		in.Environment, in.Answers = "development", map[string]string{"region": "north", "name": "hivelog-dev-all"}
		in.Identities = []shape.IdentityAnswers{{Platform: "android", Identifier: androidID + ".debug"}}
	})
	if _, err := w.owner.Carry(ctx, bell.ID, shape.Carry{Slot: "messaging-key"}); status(err) != 400 || !strings.Contains(remedy(err), "thornmill/development") {
		t.Errorf("%v / %s", err, remedy(err))
	}
	if _, err := w.owner.Carry(ctx, bell.ID, shape.Carry{Slot: "messaging-key", From: "thornmill/development"}); err != nil {
		t.Errorf("%v", err)
	}
	for _, secret := range []string{one(stand["gatepost"]).Values["client-secret"], one(stand["bellhanger"]).Answers["messaging-key"]} {
		if strings.Contains(w.log.String(), secret) || w.dumped(secret) {
			t.Error("a carried secret stands in the clear")
		}
	}
}

func one(s *base.Service) *base.Registration {
	for _, r := range s.Journal.Data.Registrations {
		return r
	}
	return &base.Registration{}
}

// dumped reports whether a text stands anywhere in the database in the clear.
func (w *world) dumped(text string) bool {
	w.t.Helper()
	var tables []string
	if err := w.records.DB.QueryRow(context.Background(), "SELECT array_agg(tablename::text) FROM pg_tables WHERE schemaname = 'public'").Scan(&tables); err != nil {
		w.t.Fatal(err)
	}
	for _, table := range tables {
		var n int
		if err := w.records.DB.QueryRow(context.Background(), "SELECT count(*) FROM "+table+" t WHERE position($1 in t::text) > 0 OR position($2 in t::text) > 0", text, fmt.Sprintf("%x", text)).Scan(&n); err != nil {
			w.t.Fatal(err)
		}
		if n > 0 {
			w.t.Logf("in %s", table)
			return true
		}
	}
	return false
}

func TestKeys(t *testing.T) {
	w := open(t, shared)
	w.app()
	s := w.service("patchquay")
	ctx := context.Background()
	in := wants()["patchquay"]
	in.App, in.Service = "hivelog", "patchquay"
	g, err := w.owner.Register(ctx, in)
	if err != nil {
		t.Fatal(err)
	}
	first := value(g, "app-key")
	if g, err = w.owner.NewKey(ctx, g.ID, shape.NewKey{Name: "app-key"}); err != nil || value(g, "app-key") == first || len(g.Notes) == 0 {
		t.Fatalf("exchanging: %+v %v", g, err)
	}
	var old string
	for _, k := range g.Keys {
		if k.Name == "app-key" && !k.Current {
			old = k.ID
			if k.Value != first || k.Revoked != nil {
				t.Errorf("the former key: %+v", k)
			}
		}
		if k.Exposure == "server" && k.Value != "" {
			t.Errorf("a server key is shown: %+v", k)
		}
	}
	if _, err := w.owner.DeleteKey(ctx, g.ID, old); status(err) != 422 {
		t.Errorf("a live key is deleted: %v", err)
	}
	if g, err = w.owner.RevokeKey(ctx, g.ID, old); err != nil {
		t.Fatal(err)
	}
	if g, err = w.owner.DeleteKey(ctx, g.ID, old); err != nil || slices.ContainsFunc(g.Keys, func(k shape.Key) bool { return k.ID == old }) {
		t.Errorf("deleting: %+v %v", g, err)
	}
	ends := time.Now().AddDate(0, 0, 7).UTC().Truncate(time.Second)
	if g, err = w.owner.NewKey(ctx, g.ID, shape.NewKey{Name: "app-key", Label: "demonstration", Ends: &ends}); err != nil {
		t.Fatal(err)
	}
	i := slices.IndexFunc(g.Keys, func(k shape.Key) bool { return k.Label == "demonstration" })
	if i < 0 || g.Keys[i].Ends == nil || !g.Keys[i].Ends.Equal(ends) || g.Keys[i].Current || value(g, "app-key") == g.Keys[i].Value {
		t.Errorf("a test key: %+v", g.Keys)
	}
	past := time.Now().AddDate(0, 0, -1)
	for name, bad := range map[string]shape.NewKey{"no such": {Name: "door-key"}, "passed": {Name: "app-key", Label: "x", Ends: &past}, "one at a time": {Name: "publishing-token", Label: "x"}, "an end without a label": {Name: "app-key", Ends: &ends}} {
		if _, err := w.owner.NewKey(ctx, g.ID, bad); status(err) != 400 || remedy(err) == "" {
			t.Errorf("%s: %v", name, err)
		}
	}
	// The answer is lost after the key was made: it is found, and none is made twice.
	before := len(one(s).Keys)
	s.Faults.Add(base.Fault{Kind: "lost", Path: "/keys", Method: "POST", Times: 1})
	if _, err := w.owner.NewKey(ctx, g.ID, shape.NewKey{Name: "app-key", Label: "lost"}); err != nil || len(one(s).Keys) != before+1 {
		t.Errorf("%d keys, %v", len(one(s).Keys)-before, err)
	}
}

// A key that the platform's vendor gave out is passed on to the service that needs it, and is never read back.
func TestVendorKey(t *testing.T) {
	w := open(t, shared)
	w.app()
	s := w.service("bellhanger")
	ctx, key := context.Background(), pushKey(t)
	secret := strings.Split(key, "\n")[1]
	in := shape.Register{App: "hivelog", Service: "bellhanger", Identities: ios, Features: []string{"ios-pushes"}}
	for name, c := range map[string]struct {
		answers map[string]string
		say     string
	}{
		"nothing given":  {nil, "push-key"},
		"no key ID":      {map[string]string{"push-key": key, "push-team": "LRKF13LD00"}, "Key ID"},
		"a public key":   {map[string]string{"push-key": strings.ReplaceAll(key, "PRIVATE", "PUBLIC"), "push-key-id": "HV5T2C8QKD", "push-team": "LRKF13LD00"}, "form"},
		"a short key ID": {map[string]string{"push-key": key, "push-key-id": "HV5T", "push-team": "LRKF13LD00"}, "form"},
	} {
		in.Answers = c.answers
		_, err := w.owner.Register(ctx, in)
		if status(err) != 400 || !strings.Contains(err.Error()+remedy(err), c.say) || strings.Contains(err.Error()+remedy(err), secret) {
			t.Errorf("%s: %v / %s", name, err, remedy(err))
		}
	}
	in.Answers = map[string]string{"push-key": key, "push-key-id": "HV5T2C8QKD", "push-team": "LRKF13LD00"}
	g, err := w.owner.Register(ctx, in)
	if err != nil || !slices.Contains(g.Features, "ios-pushes") {
		t.Fatalf("%+v %v", g, err)
	}
	if got := one(s).Answers["push-key"]; strings.TrimSpace(got) != strings.TrimSpace(key) {
		t.Errorf("the service has %q", got)
	}
	for _, read := range []func() (any, error){
		func() (any, error) { return w.owner.Registration(ctx, g.ID) },
		func() (any, error) { return w.owner.Placing(ctx, g.ID) },
		func() (any, error) { return w.owner.Plan(ctx, in) },
	} {
		out, err := read()
		if err != nil {
			t.Fatal(err)
		}
		if b, err := json.Marshal(out); err != nil || strings.Contains(string(b), secret) {
			t.Errorf("read back: %s %v", b, err)
		}
	}
}

func value(g *shape.Registration, name string) string {
	for _, v := range g.Values {
		if v.Name == name {
			return v.Value
		}
	}
	return ""
}

// What is added later raises the revision, and files fetched before are old.
func TestRevisions(t *testing.T) {
	w := open(t, shared)
	w.app()
	w.service("tollbarrow")
	ctx := context.Background()
	in := shape.Register{App: "hivelog", Service: "tollbarrow", Identities: android}
	g, err := w.owner.Register(ctx, in)
	if err != nil {
		t.Fatal(err)
	}
	p, err := w.owner.Placing(ctx, g.ID)
	if err != nil || strings.Contains(string(p.Identities[0].Files["config"]), "certificates") {
		t.Fatalf("the file is complete before its switch: %v", err)
	}
	in.Identities, in.Features = []shape.IdentityAnswers{answered(both[0], map[string]string{"digest": b64url})}, []string{"billing-interface"}
	later, err := w.owner.Register(ctx, in)
	if err != nil || later.Revision <= g.Revision || later.Identities[0].Files[0].Revision != later.Revision || later.Identities[0].Files[0].Old {
		t.Fatalf("%+v %v", later, err)
	}
	if p, err = w.owner.Placing(ctx, g.ID); err != nil || !strings.Contains(string(p.Identities[0].Files["config"]), b64url) {
		t.Errorf("the file is not complete: %v", err)
	}
	if _, err := w.records.DB.Exec(ctx, `UPDATE registrations SET revision = revision + 1 WHERE id = $1`, g.ID); err != nil {
		t.Fatal(err)
	}
	if now, err := w.owner.Registration(ctx, g.ID); err != nil || !now.Identities[0].Files[0].Old {
		t.Errorf("a file of an earlier revision is not old: %+v %v", now, err)
	}
	in.FeaturesOff, in.Features = []string{"billing-interface"}, nil
	if off, err := w.owner.Register(ctx, in); err != nil || slices.Contains(off.Features, "billing-interface") {
		t.Errorf("switching off: %+v %v", off, err)
	}
}

// Where a lost answer cannot be recovered the outcome is unknown: nothing is sent again until a person has looked.
func TestUnknownOutcome(t *testing.T) {
	w := open(t, shared)
	w.app()
	s := w.service("fieldhide")
	ctx := context.Background()
	in := wants()["fieldhide"]
	in.App, in.Service = "hivelog", "fieldhide"
	s.Faults.Add(base.Fault{Kind: "lost", Path: "/registrations", Method: "POST", Times: 1})
	for range 3 { // asking again sends nothing
		if _, err := w.owner.Register(ctx, in); status(err) != 502 || !strings.Contains(err.Error(), "the outcome is unknown") || !strings.Contains(remedy(err), "list of hides") {
			t.Fatalf("%v / %s", err, remedy(err))
		}
	}
	g := w.find("fieldhide")
	if g.State != "unknown" || !strings.Contains(g.Remedy, "ligare resolve") || len(s.Journal.Data.Registrations) != 1 {
		t.Fatalf("%+v, %d there", g, len(s.Journal.Data.Registrations))
	}
	if err := w.owner.Deregister(ctx, g.ID); status(err) != 409 {
		t.Errorf("an unknown one is removed: %v", err)
	}
	for _, bad := range []shape.Resolve{{}, {Found: "x", Absent: true}, {Found: "fh-none"}} {
		if _, err := w.owner.Resolve(ctx, g.ID, bad); err == nil || remedy(err) == "" {
			t.Errorf("%+v: %v", bad, err)
		}
	}
	if g, err := w.owner.Resolve(ctx, g.ID, shape.Resolve{Found: one(s).ID}); err != nil || g.State != "registered" || value(g, "hide-number") == "" {
		t.Errorf("%+v %v", g, err)
	}
	if _, err := w.owner.Register(ctx, in); err != nil || len(s.Journal.Data.Registrations) != 1 {
		t.Errorf("afterwards: %v, %d there", err, len(s.Journal.Data.Registrations))
	}
	// The other way round: the request never arrived, and nothing is there.
	if err := w.owner.Deregister(ctx, g.ID); err != nil {
		t.Fatal(err)
	}
	s.Faults.Add(base.Fault{Kind: "broken", Path: "/registrations", Method: "POST", Times: 1})
	if _, err := w.owner.Register(ctx, in); status(err) != 502 {
		t.Fatal(err)
	}
	if g, err := w.owner.Resolve(ctx, w.find("fieldhide").ID, shape.Resolve{Absent: true}); err != nil || g.State != "failed" {
		t.Fatalf("%+v %v", g, err)
	}
	if g, err := w.owner.Register(ctx, in); err != nil || g.State != "registered" || len(s.Journal.Data.Registrations) != 1 {
		t.Errorf("%+v %v", g, err)
	}
}

const byHand = `sheet: 1
service: mossledger
title: Mossledger
kind: membership
version: "1"
platforms: [android, ios]
scope: environment
asks:
  - {id: identifier, title: Application ID or bundle ID, from: identity.id, per: identity}
issues:
  values:
    - {id: ledger, title: Ledger number, exposure: client, per: identity, pattern: "ML[0-9]{8}"}
    - {id: door-key, title: Door key, exposure: client, pattern: "mld_[a-z0-9]{20}"}
    - {id: steward, title: Steward secret, exposure: server, pattern: "mls_[a-z0-9]{20}", env: MOSSLEDGER_STEWARD}
  files:
    - id: ledger
      platform: android
      name: mossledger.toml
      format: toml
      read: {identity: /app/id, ledger: /app/ledger, revision: /issue}
placements:
  - {id: file, platform: android, place: config-file, with: {file: ledger, folder: assets}, why: The library reads it.}
  - {id: key, platform: android, place: string-resource, with: {name: moss_key, value: "${value.door-key}"}, why: The library asks with it.}
duties:
  - {id: dues, title: Confirm that the dues are paid., before: registering}
connector: {protocol: by-hand, page: https://mossledger.example/apps}
`

func TestRecordingByHand(t *testing.T) {
	w := open(t, shared)
	w.app()
	ctx := context.Background()
	if _, err := w.owner.SaveSheet(ctx, "mossledger", []byte(strings.Replace(byHand, "exposure: client", "exposure: clint", 1))); status(err) != 400 || !strings.Contains(err.Error(), "did you mean client?") {
		t.Errorf("%v", err)
	}
	if _, err := w.person(t.Name(), "developer", 0).SaveSheet(ctx, "mossledger", []byte(byHand)); status(err) != 403 {
		t.Errorf("a developer adds a sheet: %v", err)
	}
	v, err := w.owner.SaveSheet(ctx, "mossledger", []byte(byHand))
	if err != nil {
		t.Fatal(err)
	}
	in := shape.Register{App: "hivelog", Service: "mossledger", Environment: "production", Identities: both}
	p, err := w.owner.Plan(ctx, in)
	if err != nil || !strings.Contains(p.ByHand, "mossledger.example") || len(p.Duties) != 1 {
		t.Fatalf("%+v %v", p, err)
	}
	g, err := w.owner.Register(ctx, in)
	if err != nil || g.State != "started" || strings.Join(g.Wanting, " / ") != "door-key / ledger (android) / ledger (ios) / mossledger.toml (android) / steward" {
		t.Fatalf("%+v %v", g, err)
	}
	file := func(id string) shape.Recorded {
		return shape.Recorded{Files: []shape.RecordedFile{{Name: "mossledger (1).toml", Content: []byte("issue = 4\n[app]\nid = '" + id + "'\nledger = 'ML00000001'\n")}}}
	}
	paste := func(name, value string) shape.Recorded {
		return shape.Recorded{Values: []shape.RecordedValue{{Name: name, Value: value}}}
	}
	for name, c := range map[string]struct {
		in  shape.Recorded
		say string
	}{
		"swapped":        {paste("door-key", "mls_abcdefghij0123456789"), "has the form of Steward secret, which must not ship"},
		"cut off":        {paste("door-key", "mld_abcdefg"), "too short"},
		"another's":      {paste("door-key", "tmk-0123456789abcdef0123456789abcdef"), "of Thornmill"},
		"no such value":  {paste("key", "x"), "issues no value"},
		"of which":       {paste("ledger", "ML12345678"), "could be for 2 identities"},
		"nothing":        {shape.Recorded{}, "nothing to record"},
		"another app's":  {file("example.other"), "belongs to example.other"},
		"another case":   {file("example.larkfield.Hivelog"), "this registration holds example.larkfield.hivelog"},
		"a web page":     {shape.Recorded{Files: []shape.RecordedFile{{Name: "mossledger.toml", Content: []byte("<!doctype html><p>Sign in")}}}, "web page"},
		"truncated":      {shape.Recorded{Files: []shape.RecordedFile{{Name: "mossledger.toml", Content: []byte("issue = 4\n[app]\nid = 'exam")}}}, "TOML"},
		"without its ID": {shape.Recorded{Files: []shape.RecordedFile{{Name: "mossledger.toml", Content: []byte("issue = 4\n")}}}, "does not say which app"},
	} {
		if _, err := w.owner.Record(ctx, g.ID, c.in); status(err) != 400 || !strings.Contains(err.Error(), c.say) || remedy(err) == "" {
			t.Errorf("%s: %v / %s", name, err, remedy(err))
		}
	}
	// Nothing is kept of a recording of which one part is wrong.
	mixed := file(androidID)
	mixed.Values = paste("door-key", "wrong").Values
	if _, err := w.owner.Record(ctx, g.ID, mixed); err == nil {
		t.Error("half a recording was taken")
	}
	if now := w.find("mossledger"); len(now.Identities[0].Files) != 0 {
		t.Error("half a recording was kept")
	}
	if g, err = w.owner.Record(ctx, g.ID, file(androidID)); err != nil || g.Revision != 1 || g.Identities[0].Files[0].Revision != 4 || !strings.Contains(strings.Join(g.Notes, "\n"), "called mossledger (1).toml and has to be mossledger.toml") {
		t.Fatalf("%+v %v", g, err)
	}
	if g, err = w.owner.Record(ctx, g.ID, shape.Recorded{Values: []shape.RecordedValue{{Name: "door-key", Value: " “mld_abcdefghij0123456789”\u200b\n"}, {Name: "steward", Value: "mls_abcdefghij0123456789"}, {Name: "ledger", Platform: "ios", Value: "ML12345678"}}}); err != nil {
		t.Fatal(err)
	}
	if g.State != "registered" || value(g, "door-key") != "mld_abcdefghij0123456789" || value(g, "steward") != "" || !strings.Contains(strings.Join(g.Notes, "\n"), "invisible character") {
		t.Errorf("%+v", g)
	}
	pl, err := w.owner.Placing(ctx, g.ID)
	if err != nil || pl.Identities[0].Values["ledger"] != "ML00000001" || pl.Values["steward"] != "" || !strings.Contains(string(pl.Identities[0].Files["ledger"]), androidID) {
		t.Errorf("%+v %v", pl, err)
	}
	if err := w.owner.Connect(ctx, "mossledger", shape.Connect{Address: "http://127.0.0.1:1"}); status(err) != 400 {
		t.Errorf("an account with a service by hand: %v", err)
	}
	// A new version: the old one stays at hand, so that the change can be shown.
	v2, err := w.owner.SaveSheet(ctx, "mossledger", []byte(strings.Replace(byHand, `version: "1"`, `version: "2"`, 1)))
	if err != nil || v2.Digest == v.Digest {
		t.Fatal(err)
	}
	if old, err := w.owner.SheetVersion(ctx, "mossledger", v.Digest); err != nil || !strings.Contains(old.Source, `version: "1"`) {
		t.Errorf("%v", err)
	}
	if err := w.owner.DropSheet(ctx, "mossledger"); status(err) != 409 {
		t.Errorf("a sheet in use is dropped: %v", err)
	}
}

// Where a person registers, each identity lacks what is its own, each file counts by itself, and what was downloaded before
// something was told to the service is old.
func TestWhatIsByHandCountsByItself(t *testing.T) {
	w := open(t, shared)
	w.app()
	ctx := context.Background()
	src := strings.Replace(byHand, "issues:", "features:\n  - {id: hall, title: A hall}\nissues:", 1)
	if _, err := w.owner.SaveSheet(ctx, "mossledger", []byte(src)); err != nil {
		t.Fatal(err)
	}
	beta := shape.IdentityAnswers{Platform: "android", Identifier: androidID + ".beta"}
	if _, err := w.owner.SaveApp(ctx, shape.NewApp{Name: "hivelog", Identities: []shape.NewIdentity{{Platform: "android", Identifier: beta.Identifier}}}); err != nil {
		t.Fatal(err)
	}
	in := shape.Register{App: "hivelog", Service: "mossledger", Environment: "production", Identities: []shape.IdentityAnswers{android[0], beta}}
	g, err := w.owner.Register(ctx, in)
	if err != nil {
		t.Fatal(err)
	}
	file := func(id string, issue int) *shape.Registration {
		t.Helper()
		content := fmt.Sprintf("issue = %d\n[app]\nid = '%s'\nledger = 'ML00000001'\n", issue, id)
		g, err := w.owner.Record(ctx, g.ID, shape.Recorded{Files: []shape.RecordedFile{{Name: "mossledger.toml", Content: []byte(content)}}})
		if err != nil {
			t.Fatal(err)
		}
		return g
	}
	if g := file(androidID, 7); strings.Join(g.Wanting, " / ") != "door-key / ledger ("+beta.Identifier+") / mossledger.toml ("+beta.Identifier+") / steward" {
		t.Errorf("%q", g.Wanting)
	}
	if g := file(beta.Identifier, 2); strings.Contains(strings.Join(g.Notes, " "), "old download") || g.Revision != 1 {
		t.Errorf("another identity's file: %+v", g)
	}
	if g := file(androidID, 6); !strings.Contains(strings.Join(g.Notes, " "), "is revision 6; 7 was known") {
		t.Errorf("an older download: %q", g.Notes)
	}
	for _, c := range []struct {
		what     string
		change   func()
		revision int
		old      bool
	}{
		{"nothing new", func() {}, 1, false},
		{"a feature on", func() { in.Features = []string{"hall"} }, 2, true},
		{"the same again", func() {}, 2, true},
		{"the feature off", func() { in.Features, in.FeaturesOff = nil, []string{"hall"} }, 3, true},
	} {
		c.change()
		g, err := w.owner.Register(ctx, in)
		if err != nil || g.Revision != c.revision || g.Identities[0].Files[0].Old != c.old || !g.ByHand {
			t.Errorf("%s: %+v %v", c.what, g, err)
		}
		if on := len(g.Features) == 1; on != (c.revision == 2) {
			t.Errorf("%s: %q", c.what, g.Features)
		}
	}
	if g := file(androidID, 8); g.Identities[0].Files[0].Old || !g.Identities[1].Files[0].Old {
		t.Errorf("one downloaded again: %+v", g.Identities)
	}
}

func TestServerSecrets(t *testing.T) {
	w := open(t, shared)
	in := w.ready()
	ctx := context.Background()
	g, err := w.owner.Register(ctx, in)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := w.person(t.Name(), "developer", 0).ServerSecrets(ctx, g.ID, shape.Reason{Reason: "backend of spring"}); status(err) != 403 {
		t.Errorf("a developer reads server secrets: %v", err)
	}
	if _, err := w.owner.ServerSecrets(ctx, g.ID, shape.Reason{}); status(err) != 400 || remedy(err) == "" {
		t.Errorf("without a reason: %v", err)
	}
	list, err := w.owner.ServerSecrets(ctx, g.ID, shape.Reason{Reason: "backend of spring"})
	if err != nil || len(list) != 2 || list[1].Env != "THORNMILL_MESSAGING_KEY" || !strings.HasPrefix(list[1].Value, "tmx-") {
		t.Fatalf("%+v %v", list, err)
	}
	var detail string
	if err := w.records.DB.QueryRow(ctx, `SELECT detail::text FROM audit WHERE action = 'server secrets read' AND team = (SELECT team FROM registrations WHERE id = $1)`, g.ID).Scan(&detail); err != nil || !strings.Contains(detail, "backend of spring") || strings.Contains(detail, "tmx-") {
		t.Errorf("%s %v", detail, err)
	}
	if list, err := w.owner.ServerSecrets(ctx, g.ID, shape.Reason{Reason: "only one of them", Names: []string{"messaging-account"}}); err != nil || len(list) != 1 {
		t.Errorf("%+v %v", list, err)
	}
	if _, err := w.owner.ServerSecrets(ctx, g.ID, shape.Reason{Reason: "a client value", Names: []string{"return-address"}}); status(err) != 404 {
		t.Errorf("a client value among the secrets: %v", err)
	}
}

func TestCatalogue(t *testing.T) {
	w := open(t, shared)
	w.app()
	s := w.service("tollbarrow")
	ctx := context.Background()
	in := wants()["tollbarrow"]
	in.App, in.Service = "hivelog", "tollbarrow"
	g, err := w.owner.Register(ctx, in)
	if err != nil {
		t.Fatal(err)
	}
	items := []shape.Item{{Product: "hive.jar", Kind: "consumable", Title: "A jar", Price: "2.50 EUR", Active: true}, {Product: "hive.year", Kind: "subscription", Title: "A year", Group: "hive", Price: "12.00 EUR", Active: true}}
	for name, bad := range map[string]shape.Item{"kind": {Product: "a.b", Kind: "subscribtion", Active: true}, "group": {Product: "a.b", Kind: "subscription", Price: "1.00 EUR", Active: true}, "price": {Product: "a.b", Kind: "consumable", Active: true}, "form": {Product: "A B", Kind: "consumable"}, "twice": items[0]} {
		if _, err := w.owner.SaveCatalogue(ctx, g.ID, shape.NewCatalogue{Items: append(items[:1:1], bad)}); status(err) != 400 {
			t.Errorf("%s: %v", name, err)
		}
	}
	k, err := w.owner.SaveCatalogue(ctx, g.ID, shape.NewCatalogue{Items: items})
	if err != nil || k.Agrees || k.Items[0].Say != "missing at the service" {
		t.Fatalf("%+v %v", k, err)
	}
	for range 2 { // sending again changes nothing
		if k, err = w.owner.SaveCatalogue(ctx, g.ID, shape.NewCatalogue{Items: items, Send: true}); err != nil || !k.Agrees {
			t.Fatalf("%+v %v", k, err)
		}
	}
	if x := one(s).Items["hive.year"]; x == nil || !x.Active || x.Group != "hive" {
		t.Errorf("%+v", x)
	}
	items[0].Price = "3.00 EUR"
	if k, err = w.owner.SaveCatalogue(ctx, g.ID, shape.NewCatalogue{Items: items}); err != nil || k.Agrees || !strings.Contains(k.Items[0].Say, `price "3.00 EUR" here, "2.50 EUR" there`) {
		t.Errorf("%+v %v", k, err)
	}
	w.service("burrcatch")
	other := wants()["burrcatch"]
	other.App, other.Service = "hivelog", "burrcatch"
	b, err := w.owner.Register(ctx, other)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := w.owner.Catalogue(ctx, b.ID); status(err) != 400 {
		t.Errorf("a catalogue of a service without one: %v", err)
	}
}

func TestDutiesAndPublishing(t *testing.T) {
	w := open(t, shared)
	in := w.ready()
	ctx := context.Background()
	g, err := w.owner.Register(ctx, in)
	if err != nil {
		t.Fatal(err)
	}
	if g, err = w.owner.SetDuty(ctx, g.ID, "access-rules", shape.DutyDone{Done: true, Note: "rules of 3 May"}); err != nil {
		t.Fatal(err)
	}
	list, err := w.owner.Duties(ctx, "hivelog")
	if err != nil || len(list) != 2 || list[0].Done == nil && list[1].Done == nil {
		t.Fatalf("%+v %v", list, err)
	}
	var p *shape.Problem
	if _, err := w.owner.SetDuty(ctx, g.ID, "dishes", shape.DutyDone{Done: true}); !errors.As(err, &p) || p.Status != 404 {
		t.Errorf("%v", err)
	}
	debug := androidID + ".debug"
	if a, err := w.owner.Publish(ctx, "hivelog", shape.Published{Platform: "android", Identifier: debug, StoreID: "s1"}); err != nil || !slices.ContainsFunc(a.Identities, func(i shape.Identity) bool { return i.Identifier == debug && i.Published != nil && i.StoreID == "s1" }) {
		t.Errorf("%+v %v", a, err)
	}
	if err := w.owner.DropIdentity(ctx, "hivelog", "android", debug); status(err) != 409 || !strings.Contains(err.Error(), "frozen") {
		t.Errorf("a published identity is dropped: %v", err)
	}
	if err := w.owner.DropIdentity(ctx, "hivelog", "android", androidID); status(err) != 409 || !strings.Contains(err.Error(), "thornmill") {
		t.Errorf("a registered identity is dropped: %v", err)
	}
	if _, err := w.owner.SaveApp(ctx, shape.NewApp{Name: "hivelog", Identities: []shape.NewIdentity{{Platform: "android", Identifier: "example.larkfield.spare"}}}); err != nil {
		t.Fatal(err)
	}
	if err := w.owner.DropIdentity(ctx, "hivelog", "android", "example.larkfield.spare"); err != nil {
		t.Error(err)
	}
	if _, err := os.Stat(w.thornFile); err != nil {
		t.Error(err)
	}
}

// What a survey said and a signer was added for answers a service that is registered with from the console.
func TestAnswersFromTheRecords(t *testing.T) {
	w := open(t, shared)
	w.app()
	w.service("treadmark")
	ctx := context.Background()
	if err := w.owner.SendSurvey(ctx, "hivelog", shape.Survey{Variants: []shape.SurveyedVariant{{Platform: "android", Site: "android/app", Variant: "release", Layout: "android-gradle", Identity: androidID, Environment: "production",
		Facts: []shape.SurveyedFact{{Name: "launcher activity", Value: "example.larkfield.hivelog.InspectionActivity", Place: "android/app/src/main/AndroidManifest.xml:9:19"}, {Name: "certificate SHA-1", Value: strings.TrimSuffix(strings.Repeat("AB:", 20), ":"), Place: "android/keystores/release.keystore"}}}}}); err != nil {
		t.Fatal(err)
	}
	p, err := w.owner.Plan(ctx, shape.Register{App: "hivelog", Service: "treadmark", Answers: map[string]string{"payer": "20417733"}, Identities: android})
	if err != nil || !p.Ready {
		t.Fatalf("%+v %v", p, err)
	}
	from := map[string]string{}
	for _, l := range p.Lines {
		from[l.Ask] = l.Value + " " + l.From
	}
	if from["launcher"] != "example.larkfield.hivelog.InspectionActivity the tree, android/app/src/main/AndroidManifest.xml:9:19" || from["digest"] != sha1b64+" the tree, android/keystores/release.keystore" {
		t.Errorf("%v", from)
	}
}
