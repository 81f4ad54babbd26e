// Package etchwork simulates Etchwork, whose library scans pages for apps that carry a licence: a signed token (JWS,
// RFC 7515) bound to exact identifiers, with an end.
package etchwork

import (
	"crypto/ed25519"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"net/http"
	"regexp"
	"strings"
	"time"

	"ligare/standin/base"
)

var identifier = regexp.MustCompile(`^[A-Za-z][A-Za-z0-9_-]*(\.[A-Za-z0-9_-]+)+$`)

// signer is Etchwork's key, made from a fixed text: a stand-in's licences are worth nothing elsewhere.
var signer = func() ed25519.PrivateKey {
	seed := sha256.Sum256([]byte("etchwork stand-in"))
	return ed25519.NewKeyFromSeed(seed[:])
}()

// New opens the service on a data file.
func New(file string) (*base.Service, error) {
	return base.Open(base.Rules{
		Name: "Etchwork", Prefix: "ew-", Platforms: []string{"android", "ios"}, Missing: "licence-unknown",
		Refusal: func(n *base.No) any {
			return map[string]any{"etch": []any{map[string]string{"fault": n.Code, "line": n.Text}}}
		},
		Check: func(r *base.Registration) *base.No {
			if d := r.Answers["until"]; d != "" {
				if at, err := time.Parse(time.DateOnly, d); err != nil || at.Before(time.Now()) || at.After(time.Now().AddDate(2, 0, 0)) {
					return base.Stop(422, "until-form", "A licence ends on a day within two years, written as 2027-12-31; not %q.", d)
				}
			}
			return nil
		},
		Mint: func(r *base.Registration) { r.Values["licence-number"] = "EW" + base.Digits(8) },
		Join: func(_ *base.Registration, i *base.Identity) *base.No {
			if !identifier.MatchString(i.Identifier) {
				return base.Stop(422, "id-form", "%q is not an identifier; it is needed exactly, without stars.", i.Identifier)
			}
			return nil
		},
		File: func(r *base.Registration, i *base.Identity, _ string) (*base.File, *base.No) {
			b, err := licence(r, i)
			if err != nil {
				return nil, base.Stop(500, "fault", "%v", err)
			}
			return &base.File{Name: "etchwork.licence", MIME: "application/jose", Content: b}, nil
		},
		Serve: func(m *http.ServeMux, s *base.Service) {
			m.HandleFunc("POST /unlock", func(w http.ResponseWriter, q *http.Request) { unlock(s, w, q) })
		},
	}, file)
}

type claims struct {
	Number     string `json:"number"`
	Platform   string `json:"platform"`
	Identifier string `json:"app"`
	Edition    int    `json:"edition"`
	Ends       string `json:"ends"`
}

func ends(r *base.Registration) string {
	if d := r.Answers["until"]; d != "" {
		return d
	}
	return r.Made.AddDate(1, 0, 0).Format(time.DateOnly)
}

func licence(r *base.Registration, i *base.Identity) ([]byte, error) {
	body, err := json.Marshal(claims{r.Values["licence-number"], i.Platform, i.Identifier, r.Revision, ends(r)})
	if err != nil {
		return nil, err
	}
	enc := base64.RawURLEncoding.EncodeToString
	text := enc([]byte(`{"alg":"EdDSA","typ":"etchwork-licence"}`)) + "." + enc(body)
	return []byte(text + "." + enc(ed25519.Sign(signer, []byte(text))) + "\n"), nil
}

// unlock is what the library asks: the licence it carries, and the app it finds itself in.
func unlock(s *base.Service, w http.ResponseWriter, q *http.Request) {
	var in struct{ Licence, Identity string }
	err := base.Read(q, &in)
	s.App(w, func(d *base.Data) (*base.Registration, int, any) {
		parts := strings.Split(strings.TrimSpace(in.Licence), ".")
		if err != nil || len(parts) != 3 {
			return nil, 0, base.Stop(422, "licence-form", "This is not a licence.")
		}
		sig, e1 := base64.RawURLEncoding.DecodeString(parts[2])
		body, e2 := base64.RawURLEncoding.DecodeString(parts[1])
		var c claims
		if e1 != nil || e2 != nil || json.Unmarshal(body, &c) != nil || !ed25519.Verify(signer.Public().(ed25519.PublicKey), []byte(parts[0]+"."+parts[1]), sig) {
			return nil, 0, base.Stop(403, "licence-forged", "The licence was changed after it was signed.")
		}
		if c.Identifier != in.Identity {
			return nil, 0, base.Stop(403, "other-app", "The licence is for %s, not for %s.", c.Identifier, in.Identity)
		}
		if at, err := time.Parse(time.DateOnly, c.Ends); err != nil || time.Now().After(at.AddDate(0, 0, 1)) {
			return nil, 0, base.Stop(403, "licence-ended", "The licence ended on %s.", c.Ends)
		}
		for _, had := range d.Registrations {
			if had.Values["licence-number"] == c.Number {
				r := had.Copy()
				r.Seen(r.Find(c.Platform, c.Identifier), "unlocked", map[string]string{"identity": in.Identity, "licence-number": c.Number})
				return r, 200, map[string]string{"unlocked": in.Identity, "until": c.Ends}
			}
		}
		return nil, 0, base.Stop(403, "licence-withdrawn", "The licence was withdrawn.")
	})
}
