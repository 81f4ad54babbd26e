// Package treadmark simulates Treadmark, which measures events for whoever pays for them, and keeps none without consent.
package treadmark

import (
	"encoding/base64"
	"net/http"
	"regexp"
	"strings"

	"ligare/standin/base"
)

var (
	payer    = regexp.MustCompile(`^[0-9]{8}$`)
	activity = regexp.MustCompile(`^[A-Za-z_$][\w$]*(\.[A-Za-z_$][\w$]*)+$`)
)

const letters = "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789"

// New opens the service on a data file.
func New(file string) (*base.Service, error) {
	return base.Open(base.Rules{
		Name: "Treadmark", Prefix: "td-", Platforms: []string{"android", "ios"}, Missing: "no-such-mark",
		Refusal: func(n *base.No) any {
			return map[string]any{"errors": []any{map[string]string{"mark": n.Code, "note": n.Text}}}
		},
		Check: func(r *base.Registration) *base.No {
			if !payer.MatchString(r.Answers["payer"]) {
				return base.Stop(422, "payer-form", "The paying account is a number of 8 digits, not %q.", r.Answers["payer"])
			}
			return nil
		},
		Fixed: []string{"payer"},
		Mint: func(r *base.Registration) {
			r.Values["app-number"], r.Values["client-key"] = base.Digits(12), "tdc_"+base.Of(letters, 22)
			r.FirstKey("td-", "client-key", r.Values["client-key"], nil)
		},
		Join: func(_ *base.Registration, i *base.Identity) *base.No {
			if i.Platform != "android" {
				return nil
			}
			if !activity.MatchString(i.Answers["launcher"]) {
				return base.Stop(422, "launcher-form", "%q is not a full class name; Treadmark wants the launcher activity with its package.", i.Answers["launcher"])
			}
			if i.Answers["digest"] == "" {
				return base.Stop(422, "digest-missing", "An Android app needs the SHA-1 digest of its certificate, as Base64.")
			}
			return nil
		},
		Digest: digest,
		Key: func(_ *base.Registration, _ *base.Identity, name string) string {
			if name == "client-key" {
				return "tdc_" + base.Of(letters, 22)
			}
			return ""
		},
		Serve: func(m *http.ServeMux, s *base.Service) {
			m.HandleFunc("POST /marks", func(w http.ResponseWriter, q *http.Request) { marks(s, w, q) })
		},
	}, file)
}

func digest(_ *base.Identity, v string) *base.No {
	b, err := base64.StdEncoding.DecodeString(v)
	switch {
	case strings.Contains(v, ":"):
		return base.Stop(422, "digest-form", "Treadmark wants Base64 of the digest's bytes; %q is hexadecimal.", v)
	case err != nil:
		return base.Stop(422, "digest-form", "%q is not Base64.", v)
	case len(b) != 20:
		return base.Stop(422, "digest-form", "%q holds %d bytes; a SHA-1 digest has 20. Was the text of the digest encoded instead of its bytes?", v, len(b))
	}
	return nil
}

// marks takes events. Without consent they are thrown away, silently, as the law has it.
func marks(s *base.Service, w http.ResponseWriter, q *http.Request) {
	var in struct {
		App, Key, Identity, Event string
		Consent                   bool
	}
	err := base.Read(q, &in)
	s.App(w, func(d *base.Data) (*base.Registration, int, any) {
		if err != nil {
			return nil, 0, base.Stop(400, "unreadable", "%v", err)
		}
		for _, had := range d.Registrations {
			if had.Values["app-number"] != in.App || in.App == "" {
				continue
			}
			r := had.Copy()
			live := false
			for _, k := range r.Keys {
				live = live || k.Value == in.Key && k.Live()
			}
			if !live {
				return nil, 0, base.Stop(403, "key-not-taken", "The key does not open app %s; it was exchanged or revoked.", in.App)
			}
			var i *base.Identity
			for _, x := range r.Identities {
				if x.Identifier == in.Identity {
					i = x
				}
			}
			if i == nil {
				return nil, 0, base.Stop(403, "other-app", "App %s does not hold %q.", in.App, in.Identity)
			}
			if in.Consent {
				r.Seen(i, "mark "+in.Event, map[string]string{"identity": in.Identity, "app-number": in.App, "client-key": in.Key, "payer": r.Answers["payer"]})
			}
			return r, 202, map[string]bool{"taken": true}
		}
		return nil, 0, base.Stop(403, "app-unknown", "There is no app %q.", in.App)
	})
}
