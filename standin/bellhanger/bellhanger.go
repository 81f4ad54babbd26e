// Package bellhanger simulates Bellhanger, which sends pushes: it wants a backend's messaging credentials for Android and
// the platform vendor's push key for iOS, and gives one app number for all identities.
package bellhanger

import (
	"crypto/x509"
	"encoding/pem"
	"net/http"
	"regexp"
	"strings"

	"ligare/standin/base"
)

var (
	account = regexp.MustCompile(`^[0-9]{9}$`)
	short   = regexp.MustCompile(`^[A-Z0-9]{10}$`)
)

// New opens the service on a data file.
func New(file string) (*base.Service, error) {
	return base.Open(base.Rules{
		Name: "Bellhanger", Prefix: "bh-", Platforms: []string{"android", "ios"}, Missing: "no-bell",
		Refusal: func(n *base.No) any {
			return map[string]any{"bell": "muted", "cause": []string{n.Code}, "text": n.Text}
		},
		Check: check,
		Mint: func(r *base.Registration) {
			r.Values["app-number"], r.Values["sending-key"] = "bell-"+base.Digits(5)+"-"+base.Digits(5), "bhs."+base.Hex(20)
			r.FirstKey("bh-", "sending-key", r.Values["sending-key"], nil)
		},
		Join: func(*base.Registration, *base.Identity) *base.No { return nil },
		Features: map[string]func(*base.Registration) *base.No{"android-pushes": func(r *base.Registration) *base.No {
			if r.Answers["messaging-account"] == "" || r.Answers["messaging-key"] == "" {
				return base.Stop(409, "upstream-missing", "Pushes to Android need the backend's messaging account and key.")
			}
			return nil
		}, "ios-pushes": func(r *base.Registration) *base.No {
			if r.Answers["push-key"] == "" || r.Answers["push-key-id"] == "" || r.Answers["push-team"] == "" {
				return base.Stop(409, "vendor-key-missing", "Pushes to iOS need the push key with its key ID and team.")
			}
			return nil
		}},
		Key: func(_ *base.Registration, _ *base.Identity, name string) string {
			if name == "sending-key" {
				return "bhs." + base.Hex(20)
			}
			return ""
		},
		Serve: serve,
	}, file)
}

func check(r *base.Registration) *base.No {
	a := r.Answers
	switch {
	case a["messaging-account"] != "" && !account.MatchString(a["messaging-account"]):
		return base.Stop(422, "upstream-form", "The messaging account is a number of 9 digits.")
	case a["messaging-key"] != "" && account.MatchString(a["messaging-key"]):
		return base.Stop(422, "upstream-swapped", "The messaging key looks like an account number; were the two exchanged?")
	case a["push-key-id"] != "" && !short.MatchString(a["push-key-id"]), a["push-team"] != "" && !short.MatchString(a["push-team"]):
		return base.Stop(422, "vendor-key-form", "Key ID and team have ten capitals and digits each.")
	}
	if text := a["push-key"]; text != "" {
		b, _ := pem.Decode([]byte(text))
		if b == nil || b.Type != "PRIVATE KEY" {
			return base.Stop(422, "vendor-key-form", "The push key is the text of a .p8 file, from BEGIN to END.")
		}
		if _, err := x509.ParsePKCS8PrivateKey(b.Bytes); err != nil {
			return base.Stop(422, "vendor-key-form", "The push key cannot be read: %v.", err)
		}
	}
	return nil
}

func serve(m *http.ServeMux, s *base.Service) {
	m.HandleFunc("POST /devices", func(w http.ResponseWriter, q *http.Request) {
		var in struct{ Number, Identity, Platform, Token string }
		err := base.Read(q, &in)
		s.App(w, func(d *base.Data) (*base.Registration, int, any) {
			for _, had := range d.Registrations {
				if had.Values["app-number"] != in.Number || err != nil {
					continue
				}
				r := had.Copy()
				i := r.Find(in.Platform, in.Identity)
				switch {
				case i == nil:
					return nil, 0, base.Stop(403, "other-app", "App %s has no %s app %q.", in.Number, in.Platform, in.Identity)
				case !r.Features[in.Platform+"-pushes"]:
					return nil, 0, base.Stop(409, "pushes-off", "Pushes to %s are not switched on.", in.Platform)
				}
				id := "dev-" + base.Hex(6)
				r.Papers["device "+id] = in.Token
				r.Seen(i, "device registered", map[string]string{"identity": in.Identity, "app-number": in.Number})
				return r, 201, map[string]string{"device": id}
			}
			return nil, 0, base.Stop(403, "number-unknown", "There is no app %q.", in.Number)
		})
	})
	m.HandleFunc("POST /pushes", func(w http.ResponseWriter, q *http.Request) {
		var in struct{ Device, Text string }
		err := base.Read(q, &in)
		s.App(w, func(d *base.Data) (*base.Registration, int, any) {
			for _, had := range d.Registrations {
				if _, ok := had.Papers["device "+in.Device]; !ok || err != nil {
					continue
				}
				for _, k := range had.Keys {
					if k.Name == "sending-key" && k.Value == base.Bearer(q) && k.Live() {
						r := had.Copy()
						r.Papers["waiting "+in.Device] += in.Text + "\n"
						r.Seen(nil, "push sent", map[string]string{"app-number": r.Values["app-number"]})
						return r, 202, map[string]string{"push": "on its way"}
					}
				}
				return nil, 0, base.Stop(403, "key-refused", "This key does not send for the app of this device.")
			}
			return nil, 0, base.Stop(404, "device-unknown", "There is no device %q.", in.Device)
		})
	})
	m.HandleFunc("GET /devices/{device}/waiting", func(w http.ResponseWriter, q *http.Request) {
		s.App(w, func(d *base.Data) (*base.Registration, int, any) {
			for _, had := range d.Registrations {
				if text := had.Papers["waiting "+q.PathValue("device")]; text != "" {
					r := had.Copy()
					delete(r.Papers, "waiting "+q.PathValue("device"))
					r.Seen(nil, "push received", map[string]string{"app-number": r.Values["app-number"]})
					return r, 200, map[string]any{"pushes": strings.Split(strings.TrimSpace(text), "\n")}
				}
			}
			return nil, 200, map[string]any{"pushes": []string{}}
		})
	})
}
