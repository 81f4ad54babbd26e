// Package burrcatch simulates Burrcatch, which catches crashes: an intake address and a writer key for the app, a token
// for the machine that uploads symbols.
package burrcatch

import (
	"net/http"
	"strings"

	"ligare/standin/base"
)

const letters = "abcdefghijkmnpqrstuvwxyz23456789"

// New opens the service on a data file.
func New(file string) (*base.Service, error) {
	var s *base.Service
	s, err := base.Open(base.Rules{
		Name: "Burrcatch", Prefix: "bc-", Platforms: []string{"android", "ios"}, Keyless: true, OneOnly: true, Missing: "not-caught",
		Refusal: func(n *base.No) any { return map[string]string{"caught": n.Code, "words": n.Text} },
		Check: func(r *base.Registration) *base.No {
			if n := r.Answers["name"]; strings.TrimSpace(n) == "" || strings.ContainsAny(n, "/\n") {
				return base.Stop(422, "name-form", "A catch needs a name without slashes.")
			}
			return nil
		},
		Mint: func(r *base.Registration) {
			r.Values["intake"] = s.Address + "/intake/" + r.ID
			r.Values["writer-key"], r.Values["upload-token"] = "bw"+base.Of(letters, 30), "bu"+base.Of(letters, 38)
			r.FirstKey("bc-", "writer-key", r.Values["writer-key"], nil)
			r.FirstKey("bc-", "upload-token", r.Values["upload-token"], nil)
		},
		Join: func(*base.Registration, *base.Identity) *base.No { return nil },
		Key: func(_ *base.Registration, _ *base.Identity, name string) string {
			switch name {
			case "writer-key":
				return "bw" + base.Of(letters, 30)
			case "upload-token":
				return "bu" + base.Of(letters, 38)
			}
			return ""
		},
		Serve: func(m *http.ServeMux, s *base.Service) {
			m.HandleFunc("POST /intake/{id}", func(w http.ResponseWriter, q *http.Request) { intake(s, w, q) })
			m.HandleFunc("PUT /symbols/{id}/{build}", func(w http.ResponseWriter, q *http.Request) { symbols(s, w, q) })
		},
	}, file)
	return s, err
}

func opens(r *base.Registration, name, value string) bool {
	for _, k := range r.Keys {
		if k.Name == name && k.Value == value && k.Live() {
			return true
		}
	}
	return false
}

// intake takes errors as OTLP logs: attribute error.handled says whether the app lived on.
func intake(s *base.Service, w http.ResponseWriter, q *http.Request) {
	logs, err := base.Logs(q)
	s.App(w, func(d *base.Data) (*base.Registration, int, any) {
		had := d.Registrations[q.PathValue("id")]
		switch {
		case had == nil:
			return nil, 0, base.Stop(404, "not-caught", "There is no catch at this address.")
		case err != nil:
			return nil, 0, base.Stop(400, "unreadable", "These are not errors: %v", err)
		case !opens(had, "writer-key", q.Header.Get("Burrcatch-Writer")):
			return nil, 0, base.Stop(403, "writer-unknown", "The writer key does not write to this catch.")
		}
		r := had.Copy()
		for _, l := range logs {
			kind := "crash"
			if l.Attributes["error.handled"] == "true" {
				kind = "handled error"
			}
			readable := "no"
			if r.Papers["symbols "+l.Attributes["app.build"]] != "" {
				readable = "yes"
			}
			r.Seen(r.Identities[0], kind, map[string]string{"identity": l.Attributes["app.id"], "writer-key": q.Header.Get("Burrcatch-Writer"), "text": l.Body, "trace readable": readable})
		}
		return r, 200, map[string]int{"caught": len(logs)}
	})
}

func symbols(s *base.Service, w http.ResponseWriter, q *http.Request) {
	s.App(w, func(d *base.Data) (*base.Registration, int, any) {
		had := d.Registrations[q.PathValue("id")]
		if had == nil || !opens(had, "upload-token", base.Bearer(q)) {
			return nil, 0, base.Stop(403, "upload-refused", "Symbols are taken with the upload token only.")
		}
		r := had.Copy()
		r.Papers["symbols "+q.PathValue("build")] = "there"
		return r, 201, map[string]string{"symbols": q.PathValue("build")}
	})
}
