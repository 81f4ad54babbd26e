// Package shellwright simulates Shellwright, which builds an app around a web site: fields typed in its settings, builds
// that hold what the fields said when they were made.
package shellwright

import (
	"bytes"
	"encoding/base64"
	"image"
	_ "image/png" // icons are PNG
	"net/http"
	"net/url"
	"regexp"
	"slices"

	"ligare/standin/base"
)

var (
	identifier = regexp.MustCompile(`^[a-z][a-z0-9]*(\.[a-z][a-z0-9]*){1,5}$`)
	fields     = []string{"push-number", "measuring-number", "measuring-key", "splash-colour", "opens-outside"}
)

// New opens the service on a data file.
func New(file string) (*base.Service, error) {
	return base.Open(base.Rules{
		Name: "Shellwright", Prefix: "sw-", Platforms: []string{"android", "ios"}, Keyless: true, Missing: "shell-unknown",
		Refusal: func(n *base.No) any { return map[string]string{"result": "no", "key": n.Code, "because": n.Text} },
		Name1:   "name",
		Check:   check,
		Mint: func(r *base.Registration) {
			r.Values["shell-number"], r.Papers["certificate"] = "S"+base.Digits(6), base.Hex(32)
			r.Values["preview-address"] = "https://preview.shellwright.example/" + r.Values["shell-number"]
		},
		Join: func(_ *base.Registration, i *base.Identity) *base.No {
			if !identifier.MatchString(i.Identifier) {
				return base.Stop(422, "id-form", "%q cannot be built: small letters and digits in 2 to 6 parts.", i.Identifier)
			}
			return nil
		},
		Field: func(name, value string) *base.No {
			if !slices.Contains(fields, name) {
				return base.Stop(404, "field-unknown", "There is no field %q.", name)
			}
			if len(value) > 200 {
				return base.Stop(422, "field-long", "A field holds 200 characters.")
			}
			return nil
		},
		Serve: func(m *http.ServeMux, s *base.Service) {
			m.HandleFunc("POST /bridge/{shell}", func(w http.ResponseWriter, q *http.Request) { bridge(s, w, q) })
		},
	}, file)
}

func check(r *base.Registration) *base.No {
	if n := len(r.Answers["name"]); n < 2 || n > 30 {
		return base.Stop(422, "name-form", "The name stands below an icon: 2 to 30 characters.")
	}
	u, err := url.Parse(r.Answers["address"])
	if err != nil || u.Scheme != "https" || u.Host == "" {
		return base.Stop(422, "address-form", "%q is not the https address of a published site.", r.Answers["address"])
	}
	b, err := base64.StdEncoding.DecodeString(r.Answers["icon"])
	if err != nil {
		return base.Stop(422, "icon-form", "The icon is not readable.")
	}
	img, format, err := image.Decode(bytes.NewReader(b))
	switch {
	case err != nil || format != "png":
		return base.Stop(422, "icon-form", "The icon has to be a PNG.")
	case img.Bounds().Dx() != 1024 || img.Bounds().Dy() != 1024:
		return base.Stop(422, "icon-size", "The icon has %d by %d pixels; 1024 by 1024 are needed.", img.Bounds().Dx(), img.Bounds().Dy())
	}
	if o, ok := img.(interface{ Opaque() bool }); ok && !o.Opaque() {
		return base.Stop(422, "icon-alpha", "The icon is transparent in places; stores refuse that.")
	}
	return nil
}

// bridge is what the wrapped site asks through the bridge package: a value of the device.
func bridge(s *base.Service, w http.ResponseWriter, q *http.Request) {
	var in struct{ Identity, Platform, Asks string }
	err := base.Read(q, &in)
	s.App(w, func(d *base.Data) (*base.Registration, int, any) {
		for _, had := range d.Registrations {
			if had.Values["shell-number"] != q.PathValue("shell") || err != nil {
				continue
			}
			r := had.Copy()
			i := r.Find(in.Platform, in.Identity)
			if i == nil {
				return nil, 0, base.Stop(403, "other-app", "Shell %s holds no %q.", q.PathValue("shell"), in.Identity)
			}
			r.Seen(i, "bridge asked for "+in.Asks, map[string]string{"identity": in.Identity, "shell-number": r.Values["shell-number"]})
			return r, 200, map[string]string{"value": "stand-in device, " + in.Platform}
		}
		return nil, 0, base.Stop(404, "shell-unknown", "There is no shell %s.", q.PathValue("shell"))
	})
}
