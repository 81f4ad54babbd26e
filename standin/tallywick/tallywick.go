// Package tallywick simulates Tallywick, which counts how an app is used: one key for each app, events as OTLP logs.
package tallywick

import (
	"net/http"
	"slices"
	"strings"

	"ligare/standin/base"
)

var frameworks = []string{"native", "flutter", "react-native", "web-wrapper", "dotnet", "engine"}

// New opens the service on a data file.
func New(file string) (*base.Service, error) {
	return base.Open(base.Rules{
		Name: "Tallywick", Prefix: "tw-", Platforms: []string{"android", "ios", "web"}, Keyless: true, Missing: "TW-40",
		Refusal: func(n *base.No) any { return map[string]string{"tally": "refused", "reason": n.Code, "say": n.Text} },
		Name1:   "name",
		Check: func(r *base.Registration) *base.No {
			if n := strings.TrimSpace(r.Answers["name"]); n == "" || len(n) > 60 {
				return base.Stop(422, "TW-21", "A tally needs a name of 1 to 60 characters.")
			}
			return nil
		},
		Join: func(_ *base.Registration, i *base.Identity) *base.No {
			if !slices.Contains(frameworks, i.Answers["framework"]) {
				return base.Stop(422, "TW-22", "Tallywick has no library for the framework %q.", i.Answers["framework"])
			}
			i.Values["tally-secret"] = base.Of("ABCDEFGHJKMNPQRSTVWXYZ23456789", 26)
			return nil
		},
		Features: map[string]func(*base.Registration) *base.No{"counts": nil, "paths": nil, "versions": nil},
		On:       []string{"counts"},
		Serve: func(m *http.ServeMux, s *base.Service) {
			m.HandleFunc("POST /v1/logs", func(w http.ResponseWriter, q *http.Request) { events(s, w, q) })
		},
	}, file)
}

// events takes what apps counted. An unknown key is refused; an event without a name is not counted.
func events(s *base.Service, w http.ResponseWriter, q *http.Request) {
	logs, err := base.Logs(q)
	key := q.Header.Get("Tallywick-App")
	s.App(w, func(d *base.Data) (*base.Registration, int, any) {
		if err != nil {
			return nil, 0, base.Stop(400, "TW-10", "These are not events: %v", err)
		}
		for _, had := range d.Registrations {
			for _, i := range had.Identities {
				if i.Values["tally-secret"] != key || key == "" {
					continue
				}
				r, counted := had.Copy(), 0
				for _, l := range logs {
					if l.Body == "" {
						continue
					}
					counted++
					r.Seen(i, "event "+l.Body, map[string]string{"identity": l.Attributes["app.id"], "tally-secret": key, "version": l.Attributes["app.version"], "device": l.Attributes["device.model"]})
				}
				return r, 200, map[string]any{"counted": counted, "passed_over": len(logs) - counted}
			}
		}
		return nil, 0, base.Stop(403, "TW-31", "No tally has this tally secret.")
	})
}
