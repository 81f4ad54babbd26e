// Package patchquay simulates Patchquay, which brings updates over the air: one key for an app, berths where releases lie.
package patchquay

import (
	"net/http"
	"regexp"

	"ligare/standin/base"
)

var (
	berthName = regexp.MustCompile(`^[a-z][a-z0-9 ._-]{0,39}$`)
	quayName  = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9 ._-]{1,49}$`)
)

// New opens the service on a data file.
func New(file string) (*base.Service, error) {
	return base.Open(base.Rules{
		Name: "Patchquay", Prefix: "pq-", Platforms: []string{"android", "ios"}, Missing: "/problems/not-here",
		Refusal: func(n *base.No) any {
			return map[string]any{"type": n.Code, "title": "Patchquay cannot do this", "status": n.Status, "detail": n.Text}
		},
		Name1: "name", Fixed: []string{"name"},
		Check: func(r *base.Registration) *base.No {
			if !quayName.MatchString(r.Answers["name"]) {
				return base.Stop(422, "/problems/name-form", "%q cannot name a quay.", r.Answers["name"])
			}
			return nil
		},
		Mint: func(r *base.Registration) {
			r.Values["app-key"], r.Values["publishing-token"] = "pqa_"+base.Hex(18), "pqp_"+base.Hex(24)
			r.FirstKey("pq-", "app-key", r.Values["app-key"], nil)
			r.FirstKey("pq-", "publishing-token", r.Values["publishing-token"], nil)
			r.Berths["production"], r.Berths["staging"] = &base.Berth{Name: "production"}, &base.Berth{Name: "staging"}
		},
		Join: func(*base.Registration, *base.Identity) *base.No { return nil },
		Key: func(_ *base.Registration, _ *base.Identity, name string) string {
			switch name {
			case "app-key":
				return "pqa_" + base.Hex(18)
			case "publishing-token":
				return "pqp_" + base.Hex(24)
			}
			return ""
		},
		Berth: func(name string) *base.No {
			if !berthName.MatchString(name) {
				return base.Stop(422, "/problems/berth-form", "%q cannot name a berth: small letters, digits, blanks, dots and hyphens, at most 40.", name)
			}
			return nil
		},
		Serve: serve,
	}, file)
}

func opens(r *base.Registration, name, value string) bool {
	for _, k := range r.Keys {
		if k.Name == name && k.Value == value && value != "" && k.Live() {
			return true
		}
	}
	return false
}

func serve(m *http.ServeMux, s *base.Service) {
	m.HandleFunc("POST /releases/{berth}", func(w http.ResponseWriter, q *http.Request) {
		var in struct{ Label string }
		err := base.Read(q, &in)
		s.App(w, func(d *base.Data) (*base.Registration, int, any) {
			for _, had := range d.Registrations {
				if !opens(had, "publishing-token", base.Bearer(q)) || err != nil {
					continue
				}
				r := had.Copy()
				b := r.Berths[q.PathValue("berth")]
				if b == nil {
					return nil, 0, base.Stop(404, "/problems/berth-unknown", "There is no berth %q.", q.PathValue("berth"))
				}
				b.Release = in.Label
				return r, 201, b
			}
			return nil, 0, base.Stop(403, "/problems/token-refused", "This token publishes nothing here.")
		})
	})
	m.HandleFunc("GET /patches", func(w http.ResponseWriter, q *http.Request) {
		v := q.URL.Query()
		s.App(w, func(d *base.Data) (*base.Registration, int, any) {
			for _, had := range d.Registrations {
				if !opens(had, "app-key", v.Get("key")) {
					continue
				}
				r := had.Copy()
				i := r.Find(v.Get("platform"), v.Get("identity"))
				b := r.Berths[v.Get("berth")]
				switch {
				case i == nil:
					return nil, 0, base.Stop(403, "/problems/other-app", "The key is not for %q.", v.Get("identity"))
				case b == nil:
					return nil, 0, base.Stop(404, "/problems/berth-unknown", "There is no berth %q.", v.Get("berth"))
				}
				r.Seen(i, "asked for an update", map[string]string{"identity": i.Identifier, "app-key": v.Get("key"), "berth": b.Name, "release": b.Release})
				return r, 200, map[string]string{"berth": b.Name, "release": b.Release}
			}
			return nil, 0, base.Stop(403, "/problems/key-refused", "This key opens no quay.")
		})
	})
}
