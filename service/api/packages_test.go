package api_test

import (
	"bytes"
	"context"
	"encoding/json"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"ligare/client/shape"
	"ligare/core/built/builttest"
	"ligare/core/check"
	"ligare/service/api"
)

// packed gives a package that the platform's tools made, with more in it.
func packed(t *testing.T, name string, more ...string) string {
	t.Helper()
	if more == nil {
		return string(builttest.Load(t, name))
	}
	return string(builttest.With(t, builttest.Load(t, name), more...))
}

// hand hands a package in and gives the status and what was found.
func (w *world) hand(token, query, body string) (int, *shape.Package) {
	w.t.Helper()
	res, b := w.raw("POST", "/v1/packages?"+query, token, "", body)
	p := &shape.Package{}
	if err := json.Unmarshal(b, p); err != nil {
		w.t.Fatalf("%s: %v", b, err)
	}
	return res.StatusCode, p
}

func rulesOf(p *shape.Package) (out []string) {
	for _, f := range p.Findings {
		out = append(out, f.Rule)
	}
	return out
}

func left(t *testing.T) int {
	t.Helper()
	list, err := filepath.Glob(filepath.Join(os.TempDir(), "ligare-package-*"))
	if err != nil {
		t.Fatal(err)
	}
	return len(list)
}

func TestHandingInAPackage(t *testing.T) {
	w := open(t, shared)
	ctx := context.Background()
	before := left(t)
	apk := packed(t, "v123.apk")
	// Nobody knows its identifier yet: what it holds is said, and kept.
	code, p := w.hand(w.owner.Token, "name=app.apk&environment=production", apk)
	if code != 201 || p.App != "" || p.Identifier != "example.larkfield.hivelog" || p.Platform != "android" || p.Version != "2.3 (14)" || p.ID == "" || p.Kept != shape.KeepFacts || p.LineUp != nil || len(p.SHA256) != 64 || p.Size != int64(len(apk)) {
		t.Fatalf("%d %+v", code, p)
	}
	if !slices.Equal(rulesOf(p), []string{"package-number-lost", "package-number-lost"}) || !slices.ContainsFunc(p.NotLooked, func(why string) bool { return strings.Contains(why, "nothing to compare it with") }) {
		t.Errorf("a package of nobody's is held against itself: %v %v", rulesOf(p), p.NotLooked)
	}
	g, err := w.owner.Register(ctx, w.ready())
	if err != nil {
		t.Fatal(err)
	}
	code, p = w.hand(w.owner.Token, "name=..%2F..%2Fapp.apk&environment=production&keep=everything", apk)
	if code != 201 || p.App != "hivelog" || p.Name != "app.apk" || *p.Errors == 0 || !slices.Contains(rulesOf(p), "value-differs") && !slices.Contains(rulesOf(p), "resource-missing") || !slices.Contains(rulesOf(p), "package-number-lost") {
		t.Fatalf("%d %s %+v", code, p.Name, rulesOf(p))
	}
	var rows []check.Row
	if err := json.Unmarshal(p.LineUp.Rows, &rows); err != nil || !slices.ContainsFunc(rows, func(r check.Row) bool {
		return r.What == "application ID" && r.Cells["built package"].Value == "example.larkfield.hivelog" && r.Cells["service"].Value == "example.larkfield.hivelog"
	}) {
		t.Errorf("%s %v", p.LineUp.Rows, err)
	}
	// What was kept of it comes back; its column stands in the app's line-up.
	_, b := w.raw("GET", "/v1/packages/"+p.ID, w.owner.Token, "", "")
	again := &shape.Package{}
	if err := json.Unmarshal(b, again); err != nil || !slices.Equal(rulesOf(again), rulesOf(p)) || !bytes.Contains(again.Facts, []byte(`"launcherActivity"`)) {
		t.Errorf("%s %v", b, err)
	}
	l, err := w.owner.LineUp(ctx, "hivelog")
	if err != nil || !slices.Contains(l.Columns, "built package") {
		t.Errorf("%v %v", l, err)
	}
	// The list holds both, in short; facts alone when that was asked for.
	var page shape.Page[shape.Package]
	_, b = w.raw("GET", "/v1/packages?limit=1", w.owner.Token, "", "")
	if err := json.Unmarshal(b, &page); err != nil || len(page.Items) != 1 || page.Items[0].ID != p.ID || page.Next == "" || page.Items[0].Facts != nil {
		t.Fatalf("%s %v", b, err)
	}
	_, b = w.raw("GET", "/v1/packages?after="+page.Next, w.owner.Token, "", "")
	page = shape.Page[shape.Package]{}
	if err := json.Unmarshal(b, &page); err != nil || len(page.Items) != 1 || page.Items[0].Errors != nil || page.Next != "" {
		t.Fatalf("%s %v", b, err)
	}
	// Nothing of it is in the database in the clear, and nothing on the disk.
	if w.dumped("InspectionActivity") {
		t.Error("facts stand in the database in the clear")
	}
	for _, v := range g.Values {
		if v.Value != "" && w.dumped(v.Value) {
			t.Errorf("%s stands in the database in the clear", v.Name)
		}
	}
	if n := left(t); n != before {
		t.Errorf("%d packages are left on the disk", n-before)
	}
	if res, b := w.raw("DELETE", "/v1/packages/"+p.ID, w.owner.Token, "", ""); res.StatusCode != 204 {
		t.Errorf("%d %s", res.StatusCode, b)
	}
	if res, _ := w.raw("GET", "/v1/packages/"+p.ID, w.owner.Token, "", ""); res.StatusCode != 404 {
		t.Error("it is still there")
	}
	other := w.person("another team "+t.Name(), "owner", time.Hour)
	if res, _ := w.raw("GET", "/v1/packages/"+page.Items[0].ID, other.Token, "", ""); res.StatusCode != 404 {
		t.Error("another team sees it")
	}
}

// A server secret that ships is found in what is packed, whoever packed it.
func TestAPackageWithASecret(t *testing.T) {
	w := open(t, shared)
	ctx := context.Background()
	g, err := w.owner.Register(ctx, w.ready())
	if err != nil {
		t.Fatal(err)
	}
	secrets, err := w.owner.ServerSecrets(ctx, g.ID, shape.Reason{Reason: "trying it"})
	if err != nil || len(secrets) == 0 {
		t.Fatalf("%v %v", secrets, err)
	}
	secret := ""
	for _, s := range secrets {
		if len(s.Value) > len(secret) {
			secret = s.Value
		}
	}
	code, p := w.hand(w.owner.Token, "environment=production&keep=nothing", packed(t, "v123.apk", "assets/config.js", strings.Repeat("// nothing\n", 100)+"const key = '"+secret+"'"))
	i := slices.Index(rulesOf(p), "secret-in-tree")
	if code != 200 || i != 0 || p.Findings[i].File != "assets/config.js" || p.Findings[i].Line != 101 || p.ID != "" {
		t.Fatalf("%d %+v", code, p.Findings)
	}
	if b, err := json.Marshal(p); err != nil || bytes.Contains(b, []byte(secret)) {
		t.Errorf("the secret is in the answer, %v", err)
	}
	var page shape.Page[shape.Package]
	_, b := w.raw("GET", "/v1/packages", w.owner.Token, "", "")
	if err := json.Unmarshal(b, &page); err != nil || len(page.Items) != 0 {
		t.Errorf("something was kept: %s %v", b, err)
	}
}

func TestPackagesThatAreRefused(t *testing.T) {
	w := open(t, shared)
	before := left(t)
	reader := w.person(t.Name(), "reader", time.Hour)
	apk := packed(t, "v123.apk")
	for name, c := range map[string]struct {
		token, query, body string
		status             int
		say                string
	}{
		"a reader who keeps":   {reader.Token, "", apk, 403, "role"},
		"something else":       {w.owner.Token, "name=notes.txt", "just a text", 422, "notes.txt: it is no ZIP archive"},
		"nothing":              {w.owner.Token, "", "", 422, "no ZIP archive"},
		"a package cut off":    {w.owner.Token, "name=a.apk", apk[:len(apk)/2], 422, "its end is cut off"},
		"an unknown app":       {w.owner.Token, "app=nowhere", apk, 404, "nowhere"},
		"another way to keep":  {w.owner.Token, "keep=forever", apk, 400, "forever"},
		"an archive of others": {w.owner.Token, "", packed(t, "v123.apk", "AndroidManifest.xml", "x"), 422, "two entries have this name"},
	} {
		res, b := w.raw("POST", "/v1/packages?"+c.query, c.token, "", c.body)
		var p shape.Problem
		if err := json.Unmarshal(b, &p); err != nil || res.StatusCode != c.status || !strings.Contains(p.Detail, c.say) || p.Remedy == "" {
			t.Errorf("%s: %d %s", name, res.StatusCode, b)
		}
	}
	if code, p := w.hand(reader.Token, "keep=nothing", apk); code != 200 || p.Identifier == "" {
		t.Errorf("a reader who keeps nothing: %d", code)
	}
	small := httptest.NewServer((&api.API{Records: w.records, Log: slog.New(slog.DiscardHandler), Largest: 1000}).Handler(context.Background()))
	defer small.Close()
	for _, chunked := range []bool{false, true} { // whether it says how large it is or not
		var body io.Reader = strings.NewReader(apk)
		if chunked {
			body = struct{ io.Reader }{body}
		}
		req, err := http.NewRequest("POST", small.URL+"/v1/packages", body)
		if err != nil {
			t.Fatal(err)
		}
		req.Header.Set("Authorization", "Bearer "+w.owner.Token)
		res, err := http.DefaultClient.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		if err := res.Body.Close(); err != nil {
			t.Fatal(err)
		}
		if res.StatusCode != 413 {
			t.Errorf("one that is too large: %d", res.StatusCode)
		}
	}
	if n := left(t); n != before {
		t.Errorf("%d packages are left on the disk", n-before)
	}
}
