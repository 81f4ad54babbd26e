// Package thornmill simulates Thornmill, a backend suite: workspaces that hold identities, revisions that rise with every
// feature and digest, config files made from its own data, and records that apps write and read.
package thornmill

import (
	"encoding/json"
	"encoding/xml"
	"fmt"
	"net/http"
	"regexp"
	"sort"
	"strings"
	"time"

	"ligare/standin/base"
)

type account struct{ ID, Name, Credential string }

type identity struct {
	Platform, Identifier, DisplayName, Number, Key string
	Digests                                        []string
}

type workspace struct {
	ID, Account, Reference, Name, Region string
	Revision                             int
	Features                             map[string]bool
	Identities                           []*identity
	MessagingAccount, MessagingKey       string
	Records                              map[string]string
	Sightings                            []sighting
}

type sighting struct {
	ID         string            `json:"id"`
	At         time.Time         `json:"at"`
	Platform   string            `json:"platform"`
	Identifier string            `json:"identifier"`
	Kind       string            `json:"kind"`
	Facts      map[string]string `json:"facts"`
}

type answer struct {
	Status int
	Body   json.RawMessage
}

type data struct {
	Accounts   map[string]*account   // by credential
	Workspaces map[string]*workspace // by ID
	Answers    map[string]answer     // by account and idempotency key
}

// Service is the running service.
type Service struct {
	store   *base.Store[data]
	Faults  *base.Faults
	Address string // where apps reach it; set once listening
}

// New opens the service on a data file.
func New(file string) (*Service, error) {
	st, err := base.Open(file, data{Accounts: map[string]*account{}, Workspaces: map[string]*workspace{}, Answers: map[string]answer{}})
	return &Service{store: st, Faults: &base.Faults{}}, err
}

// Handler serves the registration protocol under /, records for apps under /records and /faults for tests.
func (s *Service) Handler() http.Handler {
	m := http.NewServeMux()
	m.HandleFunc("POST /accounts", s.openAccount)
	m.HandleFunc("POST /registrations", s.signedIn(s.create))
	m.HandleFunc("GET /registrations", s.signedIn(s.find))
	m.HandleFunc("GET /registrations/{id}", s.signedIn(s.get))
	m.HandleFunc("DELETE /registrations/{id}", s.signedIn(s.remove))
	m.HandleFunc("POST /registrations/{id}/identities", s.signedIn(s.addIdentity))
	m.HandleFunc("POST /registrations/{id}/digests", s.signedIn(s.addDigest))
	m.HandleFunc("PUT /registrations/{id}/features/{feature}", s.signedIn(s.feature))
	m.HandleFunc("GET /registrations/{id}/files/{platform}/{identifier}", s.signedIn(s.file))
	m.HandleFunc("GET /registrations/{id}/sightings", s.signedIn(s.sightings))
	m.HandleFunc("/records/{key}", s.record)
	faulty := s.Faults.Wrap(m)
	top := http.NewServeMux()
	top.HandleFunc("POST /faults", func(w http.ResponseWriter, r *http.Request) {
		var f base.Fault
		if base.Read(r, &f) != nil {
			w.WriteHeader(http.StatusBadRequest)
			return
		}
		s.Faults.Add(f)
		w.WriteHeader(http.StatusNoContent)
	})
	top.Handle("/", faulty)
	return top
}

// refuse answers in Thornmill's own words.
func refuse(status int, code, text string) (int, any) {
	return status, map[string]any{"stopped": map[string]string{"ground": code, "text": text}}
}

func (s *Service) openAccount(w http.ResponseWriter, r *http.Request) {
	var in struct{ Name string }
	if base.Read(r, &in) != nil || in.Name == "" {
		status, body := refuse(400, "account-needs-name", "An account needs a name.")
		base.Write(w, status, body)
		return
	}
	a := &account{ID: "acc-" + base.Hex(5), Name: in.Name, Credential: "tma-" + base.Hex(20)}
	if err := s.store.Do(func(d *data) bool { d.Accounts[a.Credential] = a; return true }); err != nil {
		base.Write(w, 500, map[string]string{"error": err.Error()})
		return
	}
	base.Write(w, 201, map[string]string{"account": a.ID, "credential": a.Credential})
}

type handler func(d *data, a *account, r *http.Request) (status int, body any, changed bool)

// signedIn finds the account, repeats the answer of a repeated key, and runs the handler alone on the data.
func (s *Service) signedIn(h handler) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		status, body := 500, any(map[string]string{"error": "no answer"})
		err := s.store.Do(func(d *data) bool {
			a := d.Accounts[base.Bearer(r)]
			if a == nil {
				status, body = refuse(401, "credential-unknown", "This credential is not known to Thornmill.")
				return false
			}
			key := r.Header.Get("Idempotency-Key")
			if had, ok := d.Answers[a.ID+" "+key]; key != "" && ok {
				status, body = had.Status, had.Body
				return false
			}
			var changed bool
			if status, body, changed = h(d, a, r); changed && key != "" && status < 300 {
				b, err := json.Marshal(body)
				if err == nil {
					d.Answers[a.ID+" "+key] = answer{status, b}
				}
			}
			return changed
		})
		if err != nil {
			status, body = 500, map[string]string{"error": err.Error()}
		}
		if f, ok := body.(configFile); ok {
			w.Header().Set("Content-Type", f.mime)
			w.Header().Set("Content-Disposition", fmt.Sprintf("attachment; filename=%q", f.name))
			_, _ = w.Write(f.content)
			return
		}
		base.Write(w, status, body)
	}
}

type wanted struct {
	Reference  string
	Answers    map[string]string
	Identities []wantedIdentity
	Features   []string
}

type wantedIdentity struct {
	Platform    string            `json:"platform"`
	Identifier  string            `json:"identifier"`
	DisplayName string            `json:"display_name"`
	Answers     map[string]string `json:"answers"`
}

var (
	workspaceName = regexp.MustCompile(`^[a-z][a-z0-9-]{2,39}$`)
	sha256Hex     = regexp.MustCompile(`^[0-9a-f]{64}$`)
)

func (s *Service) create(d *data, a *account, r *http.Request) (int, any, bool) {
	var in wanted
	if err := base.Read(r, &in); err != nil {
		return no(refuse(400, "unreadable", "The request is not readable: "+err.Error()))
	}
	name, region := in.Answers["name"], in.Answers["region"]
	if !workspaceName.MatchString(name) {
		return no(refuse(422, "name-form", fmt.Sprintf("%q cannot name a workspace: 3 to 40 small letters, digits and hyphens, a letter first.", name)))
	}
	if region != "north" && region != "south" {
		return no(refuse(422, "region-unknown", fmt.Sprintf("There is no region %q; choose north or south.", region)))
	}
	for _, w := range d.Workspaces {
		if w.Name == name {
			return no(refuse(409, "name-in-use", fmt.Sprintf("A workspace called %q exists already.", name)))
		}
	}
	ws := &workspace{ID: "ws-" + base.Hex(6), Account: a.ID, Reference: in.Reference, Name: name, Region: region, Revision: 1, Features: map[string]bool{"records": true},
		MessagingAccount: base.Digits(9), MessagingKey: "tmx-" + base.Hex(24), Records: map[string]string{}}
	for _, id := range in.Identities {
		if status, body := ws.add(d, id); status != 0 {
			return status, body, false
		}
	}
	for _, f := range in.Features {
		if status, body := ws.set(f, true); status != 0 {
			return status, body, false
		}
	}
	ws.Revision = 1
	d.Workspaces[ws.ID] = ws
	return 201, ws.view(), true
}

func no(status int, body any) (int, any, bool) { return status, body, false }

func (w *workspace) add(d *data, in wantedIdentity) (int, any) {
	switch in.Platform {
	case "android", "ios", "web":
	default:
		return refuse(422, "platform-unknown", fmt.Sprintf("Thornmill does not know the platform %q.", in.Platform))
	}
	if in.Identifier == "" || strings.ContainsAny(in.Identifier, " \t\n") {
		return refuse(422, "identifier-form", fmt.Sprintf("%q is not an identifier.", in.Identifier))
	}
	for _, other := range d.Workspaces {
		for _, x := range other.Identities {
			if other.Account == w.Account && other.ID != w.ID && x.Platform == in.Platform && x.Identifier == in.Identifier {
				return refuse(409, "identifier-in-use", fmt.Sprintf("%s belongs to workspace %q already.", in.Identifier, other.Name))
			}
		}
	}
	for _, x := range w.Identities {
		if x.Platform == in.Platform && x.Identifier == in.Identifier {
			return 0, nil
		}
	}
	id := &identity{Platform: in.Platform, Identifier: in.Identifier, DisplayName: in.DisplayName, Number: base.Digits(15), Key: "tmk-" + base.Hex(16)}
	if dg := in.Answers["digest"]; dg != "" {
		if status, body := id.digest(dg); status != 0 {
			return status, body
		}
	}
	w.Identities = append(w.Identities, id)
	w.Revision++
	return 0, nil
}

func (i *identity) digest(v string) (int, any) {
	if !sha256Hex.MatchString(v) {
		hint := "it has to be 64 small hexadecimal digits, the SHA-256 digest of the signing certificate"
		switch {
		case strings.Contains(v, ":"):
			hint += "; leave the colons out"
		case len(v) == 40:
			hint += "; this looks like SHA-1"
		}
		return refuse(422, "digest-form", fmt.Sprintf("Thornmill cannot use the digest %q: %s.", v, hint))
	}
	for _, had := range i.Digests {
		if had == v {
			return 0, nil
		}
	}
	i.Digests = append(i.Digests, v)
	return 0, nil
}

func (w *workspace) set(feature string, on bool) (int, any) {
	switch feature {
	case "records", "sign-in":
	default:
		return refuse(404, "feature-unknown", fmt.Sprintf("Thornmill has no feature %q.", feature))
	}
	if feature == "sign-in" && on {
		for _, i := range w.Identities {
			if i.Platform == "android" && len(i.Digests) == 0 {
				return refuse(409, "digest-first", fmt.Sprintf("Sign-in needs a certificate digest for %s first.", i.Identifier))
			}
		}
	}
	if w.Features[feature] != on {
		w.Features[feature] = on
		w.Revision++
	}
	return 0, nil
}

// mine finds a workspace of the account.
func mine(d *data, a *account, r *http.Request) *workspace {
	if w := d.Workspaces[r.PathValue("id")]; w != nil && w.Account == a.ID {
		return w
	}
	return nil
}

func gone() (int, any, bool) {
	return no(refuse(404, "workspace-unknown", "There is no such workspace in this account."))
}

func (w *workspace) view() map[string]any {
	var ids []any
	for _, i := range w.Identities {
		ids = append(ids, map[string]any{"platform": i.Platform, "identifier": i.Identifier, "display_name": i.DisplayName,
			"values": map[string]string{"number": i.Number, "public-key": i.Key}, "digests": append([]string{}, i.Digests...)})
	}
	var features []string
	for f, on := range w.Features {
		if on {
			features = append(features, f)
		}
	}
	sort.Strings(features)
	return map[string]any{"id": w.ID, "reference": w.Reference, "name": w.Name, "revision": w.Revision, "features": features, "identities": ids,
		"values": map[string]string{"messaging-account": w.MessagingAccount, "messaging-key": w.MessagingKey}}
}

func (s *Service) find(d *data, a *account, r *http.Request) (int, any, bool) {
	list := []any{}
	for _, w := range d.Workspaces {
		if w.Account == a.ID && w.Reference == r.URL.Query().Get("reference") {
			list = append(list, w.view())
		}
	}
	return 200, map[string]any{"registrations": list}, false
}

func (s *Service) get(d *data, a *account, r *http.Request) (int, any, bool) {
	w := mine(d, a, r)
	if w == nil {
		return gone()
	}
	return 200, w.view(), false
}

func (s *Service) remove(d *data, a *account, r *http.Request) (int, any, bool) {
	w := mine(d, a, r)
	if w == nil {
		return gone()
	}
	delete(d.Workspaces, w.ID)
	return 200, map[string]any{"removed": w.ID}, true
}

func (s *Service) addIdentity(d *data, a *account, r *http.Request) (int, any, bool) {
	w := mine(d, a, r)
	if w == nil {
		return gone()
	}
	var in wantedIdentity
	if err := base.Read(r, &in); err != nil {
		return no(refuse(400, "unreadable", err.Error()))
	}
	if status, body := w.add(d, in); status != 0 {
		return status, body, false
	}
	return 200, w.view(), true
}

func (s *Service) addDigest(d *data, a *account, r *http.Request) (int, any, bool) {
	w := mine(d, a, r)
	if w == nil {
		return gone()
	}
	var in struct{ Platform, Identifier, Digest string }
	if err := base.Read(r, &in); err != nil {
		return no(refuse(400, "unreadable", err.Error()))
	}
	for _, i := range w.Identities {
		if i.Platform == in.Platform && i.Identifier == in.Identifier {
			n := len(i.Digests)
			if status, body := i.digest(in.Digest); status != 0 {
				return status, body, false
			}
			if len(i.Digests) > n {
				w.Revision++
			}
			return 200, w.view(), true
		}
	}
	return no(refuse(404, "identifier-unknown", fmt.Sprintf("%s is not in this workspace.", in.Identifier)))
}

func (s *Service) feature(d *data, a *account, r *http.Request) (int, any, bool) {
	w := mine(d, a, r)
	if w == nil {
		return gone()
	}
	var in struct{ Enabled bool }
	if err := base.Read(r, &in); err != nil {
		return no(refuse(400, "unreadable", err.Error()))
	}
	if status, body := w.set(r.PathValue("feature"), in.Enabled); status != 0 {
		return status, body, false
	}
	return 200, w.view(), true
}

type configFile struct {
	name, mime string
	content    []byte
}

func (s *Service) file(d *data, a *account, r *http.Request) (int, any, bool) {
	w := mine(d, a, r)
	if w == nil {
		return gone()
	}
	for _, i := range w.Identities {
		if i.Platform != r.PathValue("platform") || i.Identifier != r.PathValue("identifier") {
			continue
		}
		switch i.Platform {
		case "android":
			return 200, configFile{"thornmill_config.xml", "application/xml", s.xml(w, i)}, false
		case "ios":
			return 200, configFile{"Thornmill.json", "application/json", s.json(w, i)}, false
		}
		return no(refuse(404, "no-file", "Thornmill issues no config file for this platform."))
	}
	return no(refuse(404, "identifier-unknown", "This identifier is not in the workspace."))
}

func (s *Service) xml(w *workspace, i *identity) []byte {
	esc := func(v string) string {
		var b strings.Builder
		_ = xml.EscapeText(&b, []byte(v)) // a Builder does not fail
		return b.String()
	}
	var b strings.Builder
	fmt.Fprintf(&b, "<?xml version=\"1.0\" encoding=\"utf-8\"?>\n<thornmill-config revision=\"%d\">\n", w.Revision)
	fmt.Fprintf(&b, "    <workspace name=\"%s\" region=\"%s\" />\n", esc(w.Name), w.Region)
	fmt.Fprintf(&b, "    <app package=\"%s\" number=\"%s\" key=\"%s\" />\n", esc(i.Identifier), i.Number, i.Key)
	fmt.Fprintf(&b, "    <records address=\"%s/records\" />\n", esc(s.Address))
	for _, d := range i.Digests {
		fmt.Fprintf(&b, "    <digest>%s</digest>\n", d)
	}
	b.WriteString("</thornmill-config>\n")
	return []byte(b.String())
}

func (s *Service) json(w *workspace, i *identity) []byte {
	b, err := json.MarshalIndent(map[string]any{"revision": w.Revision, "workspace": map[string]string{"name": w.Name, "region": w.Region},
		"app": map[string]string{"bundle": i.Identifier, "number": i.Number, "key": i.Key}, "records": map[string]string{"address": s.Address + "/records"}}, "", "  ")
	if err != nil {
		return nil
	}
	return append(b, '\n')
}

func (s *Service) sightings(d *data, a *account, r *http.Request) (int, any, bool) {
	w := mine(d, a, r)
	if w == nil {
		return gone()
	}
	after, list := r.URL.Query().Get("after"), []sighting{}
	for i := len(w.Sightings) - 1; i >= 0 && w.Sightings[i].ID != after; i-- {
		list = append([]sighting{w.Sightings[i]}, list...)
	}
	return 200, map[string]any{"sightings": list}, false
}

// record serves apps: they say who they are by number, key and identifier, and all three must belong together.
func (s *Service) record(w http.ResponseWriter, r *http.Request) {
	status, body := 500, any(nil)
	err := s.store.Do(func(d *data) bool {
		number, key, claimed := r.Header.Get("Thornmill-App"), r.Header.Get("Thornmill-Key"), r.Header.Get("Thornmill-Identity")
		for _, ws := range d.Workspaces {
			for _, i := range ws.Identities {
				if i.Number != number {
					continue
				}
				switch {
				case i.Key != key:
					status, body = refuse(403, "key-unknown", fmt.Sprintf("The key sent for app %s is not its key.", number))
					return false
				case i.Identifier != claimed:
					status, body = refuse(403, "other-app", fmt.Sprintf("App %s is %s; the caller says it is %s.", number, i.Identifier, claimed))
					return false
				case !ws.Features["records"]:
					status, body = refuse(409, "records-off", "Records are not switched on in this workspace.")
					return false
				}
				return s.serve(ws, i, r, &status, &body)
			}
		}
		status, body = refuse(403, "app-unknown", fmt.Sprintf("Thornmill knows no app with the number %q.", number))
		return false
	})
	if err != nil {
		status, body = 500, map[string]string{"error": err.Error()}
	}
	base.Write(w, status, body)
}

func (s *Service) serve(ws *workspace, i *identity, r *http.Request, status *int, body *any) bool {
	key := r.PathValue("key")
	seen := sighting{ID: base.Hex(8), At: time.Now().UTC(), Platform: i.Platform, Identifier: i.Identifier, Facts: map[string]string{"identity": i.Identifier, "number": i.Number, "public-key": i.Key}}
	switch r.Method {
	case http.MethodPut:
		var v json.RawMessage
		if err := base.Read(r, &v); err != nil {
			*status, *body = refuse(400, "record-unreadable", "A record is JSON: "+err.Error())
			return false
		}
		ws.Records[key] = string(v)
		*status, *body, seen.Kind = 201, map[string]string{"written": key}, "record written"
	case http.MethodGet:
		v, ok := ws.Records[key]
		if !ok {
			*status, *body = refuse(404, "record-unknown", fmt.Sprintf("There is no record %q in this workspace.", key))
			return false
		}
		*status, *body, seen.Kind = 200, json.RawMessage(v), "record read"
	default:
		*status, *body = refuse(405, "method", "Records are read with GET and written with PUT.")
		return false
	}
	ws.Sightings = append(ws.Sightings, seen)
	if len(ws.Sightings) > 1000 {
		ws.Sightings = ws.Sightings[len(ws.Sightings)-1000:]
	}
	return true
}
