package base

import (
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"time"
)

// No is a refusal in a service's own terms.
type No struct {
	Status     int
	Code, Text string
}

// Stop makes a refusal.
func Stop(status int, code, format string, args ...any) *No {
	return &No{status, code, fmt.Sprintf(format, args...)}
}

// Rules is what makes a service this one. What is nil, the service does not have.
type Rules struct {
	Name      string
	Prefix    string // of IDs and credentials
	Platforms []string
	Refusal   func(n *No) any // its own form of error answers
	Keyless   bool            // it does not know idempotency keys: a request that is repeated is done again
	Blind     bool            // registrations cannot be looked up by reference
	OneOnly   bool            // a registration holds exactly one identity

	Name1    string                                                     // the answer that has to be unique across all accounts
	Check    func(r *Registration) *No                                  // the answers, when registering and after a change
	Mint     func(r *Registration)                                      // values of the registration
	Join     func(r *Registration, i *Identity) *No                     // checks an identity and mints its values
	Digest   func(i *Identity, digest string) *No                       // nil: it takes no digests
	Features map[string]func(r *Registration) *No                       // whether one may be switched on
	On       []string                                                   // features that are on from the start
	Fixed    []string                                                   // answers that cannot be changed
	Redirect func(uri string) *No                                       // nil: it keeps no redirects
	Key      func(r *Registration, i *Identity, name string) string     // a new key's value; "" for a name that is no key
	Berth    func(name string) *No                                      // nil: no berths
	Item     func(r *Registration, i *Item) *No                         // nil: no catalogue
	Field    func(name, value string) *No                               // nil: no builder
	File     func(r *Registration, i *Identity, id string) (*File, *No) // config and licence files
	Missing  string                                                     // code for what is not there
	Serve    func(m *http.ServeMux, s *Service)                         // what apps use
	After    func(d *Data, r *Registration) *No                         // a last look, with everybody's data
}

// File is a file a service issues.
type File struct {
	Name, MIME string
	Content    []byte
}

// Service is a running simulated service.
type Service struct {
	Rules
	Journal *Journal
	Faults  *Faults
	Address string // where apps reach it; set once listening
}

// Open opens a service on its journal.
func Open(r Rules, file string) (*Service, error) {
	j, err := OpenJournal(file)
	if r.Missing == "" {
		r.Missing = "unknown"
	}
	return &Service{Rules: r, Journal: j, Faults: &Faults{}}, err
}

// SetAddress says where apps reach the service.
func (s *Service) SetAddress(a string) { s.Address = a }

// Handler serves the registration protocol, what apps use, and /faults for tests.
func (s *Service) Handler() http.Handler {
	m := http.NewServeMux()
	m.HandleFunc("POST /accounts", s.openAccount)
	m.HandleFunc("POST /registrations", s.Signed(s.create))
	m.HandleFunc("GET /registrations", s.Signed(s.find))
	m.HandleFunc("GET /registrations/{id}", s.Signed(s.one(func(q *Request, r *Registration) any { return nil })))
	m.HandleFunc("DELETE /registrations/{id}", s.Signed(s.remove))
	m.HandleFunc("POST /registrations/{id}/identities", s.Signed(s.one(s.addIdentity)))
	m.HandleFunc("DELETE /registrations/{id}/identities/{platform}/{identifier}", s.Signed(s.one(s.dropIdentity)))
	m.HandleFunc("PUT /registrations/{id}/answers/{name}", s.Signed(s.one(s.answer)))
	m.HandleFunc("PUT /registrations/{id}/features/{name}", s.Signed(s.one(s.feature)))
	m.HandleFunc("GET /registrations/{id}/files/{platform}/{identifier}", s.Signed(s.file))
	m.HandleFunc("GET /registrations/{id}/sightings", s.Signed(s.sightings))
	if s.Digest != nil {
		m.HandleFunc("POST /registrations/{id}/digests", s.Signed(s.one(s.addDigest)))
	}
	if s.Redirect != nil {
		m.HandleFunc("PUT /registrations/{id}/redirects", s.Signed(s.one(s.redirects)))
	}
	if s.Key != nil {
		m.HandleFunc("POST /registrations/{id}/keys", s.Signed(s.one(s.newKey)))
		m.HandleFunc("PUT /registrations/{id}/keys/{key}", s.Signed(s.one(s.revokeKey)))
		m.HandleFunc("DELETE /registrations/{id}/keys/{key}", s.Signed(s.one(s.dropKey)))
	}
	if s.Berth != nil {
		m.HandleFunc("PUT /registrations/{id}/berths/{name}", s.Signed(s.one(s.addBerth)))
		m.HandleFunc("DELETE /registrations/{id}/berths/{name}", s.Signed(s.one(s.dropBerth)))
	}
	if s.Item != nil {
		m.HandleFunc("GET /registrations/{id}/catalogue", s.Signed(s.catalogue))
		m.HandleFunc("PUT /registrations/{id}/catalogue/{product}", s.Signed(s.one(s.saveItem)))
		m.HandleFunc("PUT /registrations/{id}/catalogue/{product}/active", s.Signed(s.one(s.activate)))
	}
	if s.Field != nil {
		m.HandleFunc("PUT /registrations/{id}/fields/{name}", s.Signed(s.one(s.field)))
		m.HandleFunc("GET /registrations/{id}/builds", s.Signed(s.builds))
		m.HandleFunc("POST /registrations/{id}/builds", s.Signed(s.one(s.build)))
	}
	if s.Serve != nil {
		s.Serve(m, s)
	}
	top := http.NewServeMux()
	top.HandleFunc("POST /faults", func(w http.ResponseWriter, r *http.Request) {
		var f Fault
		if Read(r, &f) != nil {
			w.WriteHeader(http.StatusBadRequest)
			return
		}
		s.Faults.Add(f)
		w.WriteHeader(http.StatusNoContent)
	})
	// The service's own store, counted: what is really there, whatever anybody believes.
	top.HandleFunc("GET /count", func(w http.ResponseWriter, r *http.Request) {
		refs := map[string]int{}
		_ = s.Journal.Do(func(d *Data, _ *Change) { // nothing is written
			for _, x := range d.Registrations {
				refs[x.Reference]++
			}
		})
		Write(w, 200, map[string]any{"references": refs})
	})
	top.Handle("/", s.Faults.Wrap(m))
	return top
}

// Request is a signed-in request.
type Request struct {
	*http.Request
	Data    *Data
	Change  *Change
	Account *Account
}

// Reply is a status and a body; a *File is sent as it is.
type Reply struct {
	Status int
	Body   any
}

// Refuse makes a reply of a refusal.
func (s *Service) Refuse(n *No) Reply { return Reply{n.Status, s.Refusal(n)} }

func (s *Service) openAccount(w http.ResponseWriter, r *http.Request) {
	var in struct{ Name string }
	if Read(r, &in) != nil || in.Name == "" {
		n := s.Refuse(Stop(400, "account-name", "An account needs a name."))
		Write(w, n.Status, n.Body)
		return
	}
	a := &Account{ID: s.Prefix + "acc-" + Hex(5), Name: in.Name, Credential: s.Prefix + "cred-" + Hex(20)}
	if err := s.Journal.Do(func(d *Data, c *Change) { c.entries = append(c.entries, entry{Account: a}) }); err != nil {
		Write(w, 500, map[string]string{"error": err.Error()})
		return
	}
	Write(w, 201, map[string]string{"account": a.ID, "credential": a.Credential})
}

// Signed finds the account, repeats the answer of a repeated key, and runs the handler alone on the data.
func (s *Service) Signed(h func(q *Request) Reply) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		out := Reply{500, map[string]string{"error": "no answer"}}
		err := s.Journal.Do(func(d *Data, c *Change) {
			a := d.Accounts[Bearer(r)]
			if a == nil {
				out = s.Refuse(Stop(401, "credential-unknown", "This credential is not known to %s.", s.Name))
				return
			}
			key := r.Header.Get("Idempotency-Key")
			if had, ok := d.Answers[a.ID+" "+key]; key != "" && ok && !s.Keyless {
				out = Reply{had.Status, had.Body}
				return
			}
			out = h(&Request{r, d, c, a})
			if len(c.entries) > 0 && key != "" && out.Status < 300 && !s.Keyless {
				if b, err := json.Marshal(out.Body); err == nil {
					c.entries = append(c.entries, entry{Key: a.ID + " " + key, Kept: &Kept{out.Status, b}})
				}
			}
		})
		if err != nil {
			out = Reply{500, map[string]string{"error": err.Error()}}
		}
		if f, ok := out.Body.(*File); ok {
			w.Header().Set("Content-Type", f.MIME)
			w.Header().Set("Content-Disposition", fmt.Sprintf("attachment; filename=%q", f.Name))
			_, _ = w.Write(f.Content) // the caller is gone when this fails
			return
		}
		Write(w, out.Status, out.Body)
	}
}

// one runs f on a copy of the caller's registration, and keeps the copy when f refused nothing and changed something. f
// gives nil for no change, true for one, or a *No.
func (s *Service) one(f func(q *Request, r *Registration) any) func(q *Request) Reply {
	return func(q *Request) Reply {
		had := s.Mine(q)
		if had == nil {
			return s.gone()
		}
		r := had.Copy()
		switch v := f(q, r).(type) {
		case *No:
			return s.Refuse(v)
		case bool:
			r.Revision++
			q.Change.Save(r)
		case string: // changed, without a new revision
			q.Change.Save(r)
		}
		return Reply{200, r.View()}
	}
}

// Mine finds a registration of the account.
func (s *Service) Mine(q *Request) *Registration {
	if r := q.Data.Registrations[q.PathValue("id")]; r != nil && r.Account == q.Account.ID {
		return r
	}
	return nil
}

func (s *Service) gone() Reply {
	return s.Refuse(Stop(404, s.Missing, "%s has nothing of that name in this account.", s.Name))
}

type wanted struct {
	Reference  string
	Answers    map[string]string
	Identities []wantedIdentity
	Features   []string
	Redirects  []string
}

type wantedIdentity struct {
	Platform    string            `json:"platform"`
	Identifier  string            `json:"identifier"`
	DisplayName string            `json:"display_name"`
	Answers     map[string]string `json:"answers"`
}

func (s *Service) create(q *Request) Reply {
	var in wanted
	if err := Read(q.Request, &in); err != nil {
		return s.Refuse(Stop(400, "unreadable", "%s cannot read the request: %v", s.Name, err))
	}
	r, n := s.New(q.Data, q.Account, in.Reference, in.Answers)
	if n == nil && s.OneOnly && len(in.Identities) != 1 {
		n = Stop(422, "one-only", "%s registers one app at a time.", s.Name)
	}
	for _, id := range in.Identities {
		if n == nil {
			n = s.join(r, id)
		}
	}
	for _, f := range in.Features {
		if n == nil {
			n = s.set(r, f, true)
		}
	}
	if n == nil && len(in.Redirects) > 0 {
		n = s.setRedirects(r, in.Redirects)
	}
	if n == nil && s.After != nil {
		n = s.After(q.Data, r)
	}
	if n != nil {
		return s.Refuse(n)
	}
	r.Revision = 1
	q.Change.Save(r)
	return Reply{201, r.View()}
}

// New checks the answers and makes a registration that is not kept yet.
func (s *Service) New(d *Data, a *Account, reference string, answers map[string]string) (*Registration, *No) {
	r := &Registration{ID: s.Prefix + Hex(6), Account: a.ID, Reference: reference, Answers: copied(answers), Features: map[string]bool{}, Values: map[string]string{},
		Berths: map[string]*Berth{}, Items: map[string]*Item{}, Fields: map[string]string{}, Papers: map[string]string{}, Made: time.Now().UTC()}
	for _, f := range s.On {
		r.Features[f] = true
	}
	if n := s.Check(r); n != nil {
		return nil, n
	}
	if s.Name1 != "" {
		for _, x := range d.Registrations {
			if x.Answers[s.Name1] == r.Answers[s.Name1] {
				return nil, Stop(409, "name-in-use", "%q is taken at %s already.", r.Answers[s.Name1], s.Name)
			}
		}
	}
	if s.Mint != nil {
		s.Mint(r)
	}
	return r, nil
}

func (s *Service) join(r *Registration, in wantedIdentity) *No {
	if !slices.Contains(s.Platforms, in.Platform) {
		return Stop(422, "platform-unknown", "%s does not serve the platform %q.", s.Name, in.Platform)
	}
	if r.Find(in.Platform, in.Identifier) != nil {
		return nil
	}
	i := &Identity{Platform: in.Platform, Identifier: in.Identifier, DisplayName: in.DisplayName, Answers: copied(in.Answers), Values: map[string]string{}}
	if n := s.Join(r, i); n != nil {
		return n
	}
	if d := i.Answers["digest"]; d != "" && s.Digest != nil {
		if n := s.Digest(i, d); n != nil {
			return n
		}
		i.Digests = append(i.Digests, d)
	}
	r.Identities = append(r.Identities, i)
	return nil
}

func (s *Service) set(r *Registration, feature string, on bool) *No {
	may, ok := s.Features[feature]
	if !ok {
		return Stop(404, "feature-unknown", "%s has no feature %q.", s.Name, feature)
	}
	if on && may != nil {
		if n := may(r); n != nil {
			return n
		}
	}
	r.Features[feature] = on
	return nil
}

func (s *Service) setRedirects(r *Registration, list []string) *No {
	if s.Redirect == nil {
		return Stop(404, s.Missing, "%s keeps no redirects.", s.Name)
	}
	for _, u := range list {
		if n := s.Redirect(u); n != nil {
			return n
		}
	}
	r.Redirects = append([]string{}, list...)
	return nil
}

func (s *Service) find(q *Request) Reply {
	list := []any{}
	for _, r := range q.Data.Registrations {
		if !s.Blind && r.Account == q.Account.ID && r.Reference == q.URL.Query().Get("reference") {
			list = append(list, r.View())
		}
	}
	return Reply{200, map[string]any{"registrations": list}}
}

func (s *Service) remove(q *Request) Reply {
	r := s.Mine(q)
	if r == nil {
		return s.gone()
	}
	q.Change.Remove(r.ID)
	return Reply{200, map[string]any{"removed": r.ID}}
}
