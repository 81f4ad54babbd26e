// Package tollbarrow simulates Tollbarrow, which sells things in Android apps: a catalogue, and a config file that is
// complete only after the certificate's digest is there and the billing interface is switched on.
package tollbarrow

import (
	"encoding/base64"
	"fmt"
	"net/http"
	"regexp"
	"sort"
	"strings"

	"ligare/standin/base"
)

var (
	product = regexp.MustCompile(`^[a-z][a-z0-9_.]{2,59}$`)
	price   = regexp.MustCompile(`^[0-9]{1,5}\.[0-9]{2} [A-Z]{3}$`)
)

// New opens the service on a data file.
func New(file string) (*base.Service, error) {
	var s *base.Service
	s, err := base.Open(base.Rules{
		Name: "Tollbarrow", Prefix: "tb-", Platforms: []string{"android"}, OneOnly: true, Missing: "no-barrow",
		Refusal: func(n *base.No) any {
			return map[string]any{"toll": map[string]string{"gate": n.Code, "notice": n.Text}}
		},
		Check: func(*base.Registration) *base.No { return nil },
		Join: func(r *base.Registration, i *base.Identity) *base.No {
			if !strings.Contains(i.Identifier, ".") {
				return base.Stop(422, "package-form", "%q is not an application ID.", i.Identifier)
			}
			r.Values["barrow-number"] = base.Digits(10)
			return nil
		},
		After: func(d *base.Data, r *base.Registration) *base.No {
			for _, other := range d.Registrations {
				for _, x := range other.Identities {
					if other.ID != r.ID && r.Find(x.Platform, x.Identifier) != nil {
						return base.Stop(409, "package-taken", "%s is sold by somebody already.", x.Identifier)
					}
				}
			}
			return nil
		},
		Digest: func(_ *base.Identity, v string) *base.No {
			if b, err := base64.RawURLEncoding.DecodeString(v); err != nil || len(b) != 32 {
				hint := ""
				if strings.ContainsAny(v, "+/=") {
					hint = " This is Base64 with another alphabet or padding."
				}
				return base.Stop(422, "digest-form", "%q is not the Base64url text of a SHA-256 digest, without padding.%s", v, hint)
			}
			return nil
		},
		Features: map[string]func(*base.Registration) *base.No{"billing-interface": func(r *base.Registration) *base.No {
			if len(r.Identities[0].Digests) == 0 {
				return base.Stop(409, "digest-first", "The billing interface is switched on only for an app whose certificate is known.")
			}
			return nil
		}},
		Item: item,
		File: func(r *base.Registration, i *base.Identity, _ string) (*base.File, *base.No) {
			var b strings.Builder
			fmt.Fprintf(&b, "# Tollbarrow, for %s\nedition: %d\npackage: %s\nbarrow: %q\n", i.Identifier, r.Revision, i.Identifier, r.Values["barrow-number"])
			if r.Features["billing-interface"] {
				b.WriteString("interface:\n  address: " + s.Address + "\n  certificates:\n")
				for _, d := range i.Digests {
					fmt.Fprintf(&b, "    - %s\n", d)
				}
			}
			return &base.File{Name: "tollbarrow.yaml", MIME: "application/yaml", Content: []byte(b.String())}, nil
		},
		Serve: serve,
	}, file)
	return s, err
}

func item(r *base.Registration, i *base.Item) *base.No {
	switch {
	case !product.MatchString(i.Product):
		return base.Stop(422, "item-form", "%q cannot be a product: small letters, digits, dots and underscores, 3 to 60.", i.Product)
	case i.Kind != "consumable" && i.Kind != "non-consumable" && i.Kind != "subscription":
		return base.Stop(422, "item-kind-unknown", "Tollbarrow sells no %q.", i.Kind)
	case i.Price != "" && !price.MatchString(i.Price):
		return base.Stop(422, "price-form", "%q is not a price; write it as 2.50 EUR.", i.Price)
	case i.Kind == "subscription" && i.Group == "":
		return base.Stop(422, "group-missing", "The subscription %s belongs to no group.", i.Product)
	case i.Active && i.Price == "":
		return base.Stop(409, "price-missing", "%s cannot be sold without a price.", i.Product)
	case i.Active && !r.Features["billing-interface"]:
		return base.Stop(409, "interface-off", "Nothing is sold before the billing interface is switched on.")
	}
	return nil
}

func serve(m *http.ServeMux, s *base.Service) {
	m.HandleFunc("GET /sold/{barrow}", func(w http.ResponseWriter, q *http.Request) {
		s.App(w, func(d *base.Data) (*base.Registration, int, any) {
			for _, had := range d.Registrations {
				if had.Values["barrow-number"] != q.PathValue("barrow") {
					continue
				}
				i := had.Identities[0]
				switch {
				case i.Identifier != q.Header.Get("Tollbarrow-Package"):
					return nil, 0, base.Stop(403, "other-package", "Barrow %s belongs to another app.", q.PathValue("barrow"))
				case !had.Features["billing-interface"]:
					return nil, 0, base.Stop(409, "interface-off", "The billing interface is not switched on.")
				}
				r := had.Copy()
				var list []*base.Item
				for _, x := range r.Items {
					if x.Active {
						list = append(list, x)
					}
				}
				sort.Slice(list, func(a, b int) bool { return list[a].Product < list[b].Product })
				r.Seen(i, "catalogue listed", map[string]string{"identity": i.Identifier, "items": fmt.Sprint(len(list))})
				return r, 200, map[string]any{"items": append([]*base.Item{}, list...)}
			}
			return nil, 0, base.Stop(404, "no-barrow", "There is no barrow %s.", q.PathValue("barrow"))
		})
	})
	m.HandleFunc("POST /sold/{barrow}/trial", func(w http.ResponseWriter, q *http.Request) {
		var in struct{ Product string }
		err := base.Read(q, &in)
		s.App(w, func(d *base.Data) (*base.Registration, int, any) {
			for _, had := range d.Registrations {
				if had.Values["barrow-number"] != q.PathValue("barrow") || err != nil {
					continue
				}
				r := had.Copy()
				x := r.Items[in.Product]
				if x == nil || !x.Active {
					return nil, 0, base.Stop(409, "not-sold", "%q is not sold here.", in.Product)
				}
				r.Seen(r.Identities[0], "trial purchase", map[string]string{"product": in.Product})
				return r, 201, map[string]string{"receipt": "tbr-" + base.Hex(8)}
			}
			return nil, 0, base.Stop(404, "no-barrow", "There is no barrow %s.", q.PathValue("barrow"))
		})
	})
}
