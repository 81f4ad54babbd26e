package job

import (
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"ligare/client"
	"ligare/client/shape"
	"ligare/core/sheet"
	"ligare/core/survey"
	"ligare/demo"
	"ligare/sheets"
)

// fake is a server that knows one app with one registration, and remembers what it was sent.
type fake struct {
	registered bool
	state      string // "" for registered
	app        shape.NewApp
	register   shape.Register
	report     shape.Report
	survey     shape.Survey
	revision   int
	records    string // address that config files name
}

func (f *fake) handler(t *testing.T) http.Handler {
	source, err := sheets.FS.ReadFile("thornmill.yaml")
	if err != nil {
		t.Fatal(err)
	}
	answer := func(w http.ResponseWriter, v any) {
		if err := json.NewEncoder(w).Encode(v); err != nil {
			t.Error(err)
		}
	}
	take := func(r *http.Request, v any) {
		if err := json.NewDecoder(r.Body).Decode(v); err != nil {
			t.Error(err)
		}
	}
	m := http.NewServeMux()
	m.HandleFunc("POST /v1/apps", func(w http.ResponseWriter, r *http.Request) {
		take(r, &f.app)
		answer(w, shape.App{Name: f.app.Name, Title: f.app.Title})
	})
	m.HandleFunc("GET /v1/services/thornmill", func(w http.ResponseWriter, _ *http.Request) {
		answer(w, shape.Service{Service: "thornmill", Source: string(source)})
	})
	m.HandleFunc("POST /v1/registrations", func(w http.ResponseWriter, r *http.Request) {
		take(r, &f.register)
		f.registered = true
		answer(w, f.registration())
	})
	m.HandleFunc("POST /v1/registrations/plan", func(w http.ResponseWriter, r *http.Request) {
		var in shape.Register
		take(r, &in)
		p := shape.Plan{Ready: in.Answers["region"] != "", Lines: []shape.PlanLine{{Ask: "region", Title: "Region", Kind: "choice", Choices: []string{"north", "south"}}}}
		if !p.Ready {
			p.Lines[0].Problem = "it is asked"
		}
		answer(w, p)
	})
	m.HandleFunc("GET /v1/apps/hivelog/registrations", func(w http.ResponseWriter, _ *http.Request) {
		page := shape.Page[shape.Registration]{Items: []shape.Registration{}}
		if f.registered {
			page.Items = append(page.Items, f.registration())
		}
		answer(w, page)
	})
	m.HandleFunc("POST /v1/registrations/r1/refresh", func(w http.ResponseWriter, _ *http.Request) { answer(w, f.registration()) })
	m.HandleFunc("GET /v1/apps/hivelog/comparison", func(w http.ResponseWriter, _ *http.Request) {
		out := shape.Comparison{App: shape.App{Name: "hivelog"}}
		if f.registered {
			out.Registrations = append(out.Registrations, f.registration())
		}
		if f.registered && f.state == "" {
			rev := string(rune('0' + f.revision))
			out.Placings = append(out.Placings, shape.Placing{Registration: "r1", Service: "thornmill", Environment: "production", Revision: f.revision, Sheet: string(source), Identities: []shape.PlacingIdentity{
				{Platform: "android", Identifier: "example.larkfield.hivelog", Values: map[string]string{"number": "111111111111111", "public-key": "ka"},
					Files: map[string][]byte{"android-config": []byte(`<thornmill-config revision="` + rev + `"><app package="example.larkfield.hivelog" number="111111111111111" key="ka"/><records address="` + f.records + `"/></thornmill-config>`)}},
				{Platform: "ios", Identifier: "example.larkfield.hivelog", Values: map[string]string{"number": "222222222222222", "public-key": "ki"},
					Files: map[string][]byte{"ios-config": []byte(`{"revision": ` + rev + `, "app": {"bundle": "example.larkfield.hivelog", "number": "222222222222222", "key": "ki"}, "records": {"address": "` + f.records + `"}}`)}},
			}})
		}
		answer(w, out)
	})
	m.HandleFunc("PUT /v1/apps/hivelog/report", func(w http.ResponseWriter, r *http.Request) {
		take(r, &f.report)
		w.WriteHeader(http.StatusNoContent)
	})
	m.HandleFunc("PUT /v1/apps/hivelog/survey", func(w http.ResponseWriter, r *http.Request) {
		take(r, &f.survey)
		w.WriteHeader(http.StatusNoContent)
	})
	return m
}

// register does what the command does: gather, complete, send.
func register(ctx context.Context, w *Work, c *client.Client, o RegisterOptions) (*shape.Registration, error) {
	list, _, err := Registering(ctx, w, c, o)
	if err != nil {
		return nil, err
	}
	if _, err := Complete(ctx, c, &list[0], o.Ask); err != nil {
		return nil, err
	}
	return c.Register(ctx, list[0])
}

func (f *fake) registration() shape.Registration {
	g := shape.Registration{ID: "r1", App: "hivelog", Service: "thornmill", Environment: "production", State: "registered", Revision: f.revision, Features: []string{"records"}}
	if f.state != "" {
		g.State, g.Problem = f.state, "the answer was lost"
	}
	return g
}

// start gives a tree of the demo app and a client of a fake server.
func start(t *testing.T) (string, *fake, *client.Client) {
	t.Helper()
	t.Setenv("LIGARE_HOME", t.TempDir())
	dir := t.TempDir()
	if err := demo.Copy("hivelog", dir); err != nil {
		t.Fatal(err)
	}
	f := &fake{revision: 1, records: "http://127.0.0.1:9/records"}
	ts := httptest.NewServer(f.handler(t))
	t.Cleanup(ts.Close)
	return dir, f, &client.Client{Address: ts.URL, Token: "t"}
}

func open(t *testing.T, dir string) *Work {
	t.Helper()
	w, err := Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	return w
}

func hint(err error) string {
	var p *Problem
	if errors.As(err, &p) {
		return p.Hint
	}
	return ""
}

func TestFromSurveyToUnplace(t *testing.T) {
	dir, f, c := start(t)
	ctx := context.Background()
	if _, err := open(t, dir).Place(ctx, c, PlaceOptions{Service: "thornmill"}); err == nil || !strings.Contains(hint(err), "app attach") {
		t.Errorf("before attaching: %v", err)
	}
	a, err := open(t, dir).Attach(ctx, c, "hivelog", "", "", false)
	if err != nil || !a.Written || f.app.Title != "Hivelog" || len(f.app.Identities) != 3 || strings.Join(f.app.Environments, " ") != "development production" {
		t.Fatalf("%+v %+v %v", a, f.app, err)
	}
	if again, err := open(t, dir).Attach(ctx, c, "hivelog", "", "", false); err != nil || again.Written {
		t.Errorf("attaching again: %+v %v", again, err)
	}
	if _, err := open(t, dir).Attach(ctx, c, "other", "", "", false); err == nil || !strings.Contains(err.Error(), "hivelog already") {
		t.Errorf("attaching to another app: %v", err)
	}
	if _, err := open(t, dir).Place(ctx, c, PlaceOptions{Service: "thornmill"}); err == nil || !strings.Contains(hint(err), "ligare register") {
		t.Errorf("before registering: %v", err)
	}
	if _, err := register(ctx, open(t, dir), c, RegisterOptions{Service: "thornmill"}); err == nil || !strings.Contains(hint(err), "development, production") {
		t.Errorf("without an environment: %v", err)
	}
	asked := ""
	o := RegisterOptions{Service: "thornmill", Environment: "production", Ask: func(q string, choices []string) (string, error) {
		asked = q
		return choices[1], nil
	}}
	if _, err := register(ctx, open(t, dir), c, o); err != nil || asked == "" || f.register.Answers["region"] != "south" || len(f.register.Identities) != 2 {
		t.Fatalf("%q %+v %v", asked, f.register, err)
	}
	w := open(t, dir)
	p, err := w.Place(ctx, c, PlaceOptions{Service: "thornmill"})
	if err != nil {
		t.Fatal(err)
	}
	last := p.Changes[len(p.Changes)-1]
	if !last.Ours || p.Changes[0].Ours || len(p.Changes[0].Why) == 0 {
		t.Errorf("our own files come last, and every change has its reason: %+v", p.Changes)
	}
	for _, c := range p.Changes {
		if c.Ours {
			continue
		}
		for _, l := range strings.Split(c.Diff(), "\n") {
			if _, _, is := hunk(l); is && strings.HasSuffix(l, "@@") && !c.Created {
				t.Errorf("%s: a hunk without its reason: %s", c.File, l)
			}
		}
	}
	if g := Guide(p); !strings.Contains(g, "1. In ") || !strings.Contains(g, "Thornmill.start(this)") || !strings.Contains(g, "Nothing of Thornmill works before this call.") {
		t.Errorf("guide:\n%s", g)
	}
	if _, err := os.Stat(filepath.Join(dir, "ios/Hivelog/Thornmill.json")); err == nil {
		t.Error("planning wrote something")
	}
	if err := w.Write(); err != nil {
		t.Fatal(err)
	}
	checked, err := open(t, dir).Check(ctx, c, "", false, true)
	grave := slices.DeleteFunc(slices.Clone(f.report.Findings), func(x shape.Finding) bool { return x.Severity == "note" })
	if err != nil || !checked.Sent || len(grave) != 1 || grave[0].Rule != "identifier-not-registered" {
		t.Errorf("only development is missing: %+v %v", f.report.Findings, err)
	}
	if strings.Contains(string(f.report.LineUp), "import UIKit") {
		t.Error("source was sent")
	}
	if off, err := open(t, dir).Check(ctx, nil, "", true, true); err != nil || off.Sent || off.Blind() {
		t.Errorf("offline: %+v %v", off, err)
	}
	f.revision = 2
	w = open(t, dir)
	if p, err = w.Refresh(ctx, c, PlaceOptions{Service: "thornmill"}); err != nil || len(p.Steps) != 2 {
		t.Errorf("refresh: %+v %v", p, err)
	}
	if err := w.Write(); err != nil {
		t.Fatal(err)
	}
	if _, err := open(t, dir).Unplace("nothing", "", false); err == nil || !strings.Contains(hint(err), "thornmill-production") {
		t.Errorf("unplacing what is not there: %v", err)
	}
	w = open(t, dir)
	out, err := w.Unplace("thornmill", "", false)
	if err != nil || len(out.Left) != 0 {
		t.Fatalf("%+v %v", out, err)
	}
	if err := w.Write(); err != nil {
		t.Fatal(err)
	}
	fresh := t.TempDir()
	if err := demo.Copy("hivelog", fresh); err != nil {
		t.Fatal(err)
	}
	want, got := open(t, fresh), open(t, dir)
	want.Tree.Walk(func(name string) {
		a, _ := want.Tree.Read(name)
		if b, err := got.Tree.Read(name); err != nil || string(a) != string(b) {
			t.Errorf("%s is not what it was: %v", name, err)
		}
	})
}

func TestASheetThatChangedIsNotSlippedIn(t *testing.T) {
	dir, f, c := start(t)
	ctx := context.Background()
	if _, err := open(t, dir).Attach(ctx, c, "hivelog", "", "", false); err != nil {
		t.Fatal(err)
	}
	f.registered = true
	name := filepath.Join(dir, "ligare.yaml")
	b, err := os.ReadFile(name)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(name, append(b, "sheets:\n  thornmill: sha256:0000000000000000000000\n"...), 0o644); err != nil {
		t.Fatal(err)
	}
	if _, err := open(t, dir).Place(ctx, c, PlaceOptions{Service: "thornmill"}); err == nil || !strings.Contains(hint(err), "--agree-sheet") {
		t.Errorf("a changed sheet: %v", err)
	}
	w := open(t, dir)
	if _, err := w.Place(ctx, c, PlaceOptions{Service: "thornmill", Agree: true}); err != nil {
		t.Fatal(err)
	}
	src, err := w.Tree.Read("ligare.yaml")
	if err != nil || strings.Contains(string(src), "sha256:0000") || !strings.Contains(string(src), "thornmill: sha256:") {
		t.Errorf("%s %v", src, err)
	}
}

func TestTheProbeReadsTheTreeAlone(t *testing.T) {
	dir, f, c := start(t)
	ctx := context.Background()
	var seen []string
	records := map[string]string{}
	service := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		seen = append(seen, r.Method+" "+r.Header.Get("Thornmill-App")+" "+r.Header.Get("Thornmill-Identity"))
		if r.Header.Get("Thornmill-Identity") != "example.larkfield.hivelog" {
			w.WriteHeader(403)
			_, _ = w.Write([]byte(`{"stopped": {"ground": "other-app", "text": "No."}}`))
			return
		}
		if r.Method == "PUT" {
			var v map[string]string
			if err := json.NewDecoder(r.Body).Decode(&v); err != nil {
				t.Error(err)
			}
			records[r.URL.Path] = v["note"]
			w.WriteHeader(201)
			return
		}
		_, _ = w.Write([]byte(records[r.URL.Path]))
	}))
	defer service.Close()
	f.records, f.registered = service.URL+"/records", true
	if _, err := open(t, dir).Attach(ctx, c, "hivelog", "", "", false); err != nil {
		t.Fatal(err)
	}
	all, err := sheet.Load(sheets.FS)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := open(t, dir).Probe(ctx, all["thornmill"], ""); err == nil || !strings.Contains(err.Error(), "is not there") || hint(err) == "" {
		t.Errorf("before placing: %v", err)
	}
	w := open(t, dir)
	if _, err := w.Place(ctx, c, PlaceOptions{Service: "thornmill"}); err != nil {
		t.Fatal(err)
	}
	if err := w.Write(); err != nil {
		t.Fatal(err)
	}
	p, err := open(t, dir).Probe(ctx, all["thornmill"], "")
	if err != nil || !p.Works || p.Environment != "production" || strings.Join(seen, "; ") != "PUT 111111111111111 example.larkfield.hivelog; GET 222222222222222 example.larkfield.hivelog" {
		t.Errorf("%+v %v\n%v", p, err, seen)
	}
	project := filepath.Join(dir, "ios/Hivelog.xcodeproj/project.pbxproj")
	b, err := os.ReadFile(project)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(project, []byte(strings.ReplaceAll(string(b), "example.larkfield.hivelog", "example.larkfield.Hivelog")), 0o644); err != nil {
		t.Fatal(err)
	}
	if p, err = open(t, dir).Probe(ctx, all["thornmill"], ""); err != nil || p.Works || p.Steps[1].Remedy == "" || !strings.Contains(p.Steps[1].Say, "No. The app number belongs to another identifier") {
		t.Errorf("a build with another identifier: %+v %v", p, err)
	}
}

func TestWhatCannotBeOpened(t *testing.T) {
	t.Setenv("LIGARE_HOME", t.TempDir())
	file := filepath.Join(t.TempDir(), "f")
	if err := os.WriteFile(file, nil, 0o644); err != nil {
		t.Fatal(err)
	}
	for _, dir := range []string{filepath.Join(file, "x"), file, filepath.Dir(file) + "/none"} {
		if _, err := Open(dir); err == nil || hint(err) == "" {
			t.Errorf("%s: %v", dir, err)
		}
	}
	bad := t.TempDir()
	if err := os.WriteFile(filepath.Join(bad, "ligare.yaml"), []byte("ligare: 1\napp: x\ncolour: y\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	if _, err := Open(bad); err == nil || !strings.Contains(err.Error(), "line 3") || hint(err) == "" {
		t.Errorf("a broken ligare.yaml: %v", err)
	}
	if err := (&Work{Survey: &survey.Report{}}).NeedApp(); err == nil || !strings.Contains(hint(err), "--tree") {
		t.Errorf("no app: %v", err)
	}
}

func TestARegistrationThatWasNotCompletedIsSaid(t *testing.T) {
	dir, f, c := start(t)
	ctx := context.Background()
	if _, err := open(t, dir).Attach(ctx, c, "hivelog", "", "", false); err != nil {
		t.Fatal(err)
	}
	f.registered, f.state = true, "unknown"
	r, err := open(t, dir).Check(ctx, c, "", false, false)
	if err != nil || !r.Blind() || !strings.Contains(r.NotLooked[len(r.NotLooked)-1].Reason, "the answer was lost") {
		t.Errorf("check passes it by: %+v %v", r, err)
	}
	if _, err := open(t, dir).Place(ctx, c, PlaceOptions{Service: "thornmill"}); err == nil || !strings.Contains(err.Error(), "not completed") || !strings.Contains(hint(err), "ligare register") {
		t.Errorf("place: %v", err)
	}
}
