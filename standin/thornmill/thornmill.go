// Package thornmill simulates Thornmill, a backend suite: workspaces that hold identities, revisions that rise with every
// feature and digest, config files made from its own data, sign-in through another provider, and records that apps write
// and read.
package thornmill

import (
	"encoding/json"
	"encoding/xml"
	"fmt"
	"net/http"
	"regexp"
	"strings"
	"time"

	"ligare/standin/base"
)

var (
	workspaceName = regexp.MustCompile(`^[a-z][a-z0-9-]{2,39}$`)
	sha256Hex     = regexp.MustCompile(`^[0-9a-f]{64}$`)
)

// New opens the service on a data file.
func New(file string) (*base.Service, error) {
	var s *base.Service
	s, err := base.Open(base.Rules{
		Name: "Thornmill", Prefix: "tm-", Platforms: []string{"android", "ios", "web"}, Missing: "workspace-unknown",
		Refusal: func(n *base.No) any {
			return map[string]any{"stopped": map[string]string{"ground": n.Code, "text": n.Text}}
		},
		Name1: "name", Fixed: []string{"name", "region"},
		Check: check, Join: join, Digest: digest, After: alone,
		Mint: func(r *base.Registration) {
			r.Values["messaging-account"], r.Values["messaging-key"] = base.Digits(9), "tmx-"+base.Hex(24)
			r.Values["return-address"] = "https://sign-in.thornmill.example/" + r.Answers["name"] + "/back"
			until := time.Now().UTC().Add(30 * 24 * time.Hour).Truncate(time.Second)
			r.Open = []base.OpenAccess{{What: "records", Until: &until}}
			r.FirstKey("tm-", "messaging-key", r.Values["messaging-key"], nil)
		},
		On:       []string{"records"},
		Features: map[string]func(*base.Registration) *base.No{"records": nil, "sign-in": signIn, "partner-sign-in": partner},
		Key: func(_ *base.Registration, _ *base.Identity, name string) string {
			if name == "messaging-key" {
				return "tmx-" + base.Hex(24)
			}
			return ""
		},
		File: func(r *base.Registration, i *base.Identity, _ string) (*base.File, *base.No) {
			switch i.Platform {
			case "android":
				return &base.File{Name: "thornmill_config.xml", MIME: "application/xml", Content: android(s.Address, r, i)}, nil
			case "ios":
				return &base.File{Name: "Thornmill.json", MIME: "application/json", Content: ios(s.Address, r, i)}, nil
			}
			return nil, base.Stop(404, "no-file", "Thornmill issues no config file for this platform.")
		},
		Serve: func(m *http.ServeMux, s *base.Service) {
			m.HandleFunc("PUT /registrations/{id}/rules", s.Signed(func(q *base.Request) base.Reply { return rules(s, q) }))
			m.HandleFunc("/records/{key}", func(w http.ResponseWriter, q *http.Request) { record(s, w, q) })
		},
	}, file)
	return s, err
}

func check(r *base.Registration) *base.No {
	name, region := r.Answers["name"], r.Answers["region"]
	if !workspaceName.MatchString(name) {
		return base.Stop(422, "name-form", "%q cannot name a workspace: 3 to 40 small letters, digits and hyphens, a letter first.", name)
	}
	if region != "north" && region != "south" {
		return base.Stop(422, "region-unknown", "There is no region %q; choose north or south.", region)
	}
	return nil
}

func join(_ *base.Registration, i *base.Identity) *base.No {
	if i.Identifier == "" || strings.ContainsAny(i.Identifier, " \t\n") {
		return base.Stop(422, "identifier-form", "%q is not an identifier.", i.Identifier)
	}
	i.Values["number"], i.Values["public-key"] = base.Digits(15), "tmk-"+base.Hex(16)
	return nil
}

// alone refuses an identifier that another workspace of the same account holds.
func alone(d *base.Data, r *base.Registration) *base.No {
	for _, other := range d.Registrations {
		for _, x := range other.Identities {
			if other.Account == r.Account && other.ID != r.ID && r.Find(x.Platform, x.Identifier) != nil {
				return base.Stop(409, "identifier-in-use", "%s belongs to workspace %q already.", x.Identifier, other.Answers["name"])
			}
		}
	}
	return nil
}

func digest(_ *base.Identity, v string) *base.No {
	if sha256Hex.MatchString(v) {
		return nil
	}
	hint := "it has to be 64 small hexadecimal digits, the SHA-256 digest of the signing certificate"
	switch {
	case strings.Contains(v, ":"):
		hint += "; leave the colons out"
	case len(v) == 40:
		hint += "; this looks like SHA-1"
	}
	return base.Stop(422, "digest-form", "Thornmill cannot use the digest %q: %s.", v, hint)
}

func signIn(r *base.Registration) *base.No {
	for _, i := range r.Identities {
		if i.Platform == "android" && len(i.Digests) == 0 {
			return base.Stop(409, "digest-first", "Sign-in needs a certificate digest for %s first.", i.Identifier)
		}
	}
	return nil
}

func partner(r *base.Registration) *base.No {
	if r.Answers["partner-client"] == "" || r.Answers["partner-secret"] == "" {
		return base.Stop(409, "partner-first", "Sign-in through a partner needs the partner's client ID and secret first.")
	}
	return nil
}

func android(address string, r *base.Registration, i *base.Identity) []byte {
	esc := func(v string) string {
		var b strings.Builder
		_ = xml.EscapeText(&b, []byte(v)) // a Builder does not fail
		return b.String()
	}
	var b strings.Builder
	fmt.Fprintf(&b, "<?xml version=\"1.0\" encoding=\"utf-8\"?>\n<thornmill-config revision=\"%d\">\n", r.Revision)
	fmt.Fprintf(&b, "    <workspace name=\"%s\" region=\"%s\" />\n", esc(r.Answers["name"]), r.Answers["region"])
	fmt.Fprintf(&b, "    <app package=\"%s\" number=\"%s\" key=\"%s\" />\n", esc(i.Identifier), i.Values["number"], i.Values["public-key"])
	fmt.Fprintf(&b, "    <records address=\"%s/records\" />\n", esc(address))
	for _, d := range i.Digests {
		fmt.Fprintf(&b, "    <digest>%s</digest>\n", d)
	}
	b.WriteString("</thornmill-config>\n")
	return []byte(b.String())
}

func ios(address string, r *base.Registration, i *base.Identity) []byte {
	b, err := json.MarshalIndent(map[string]any{"revision": r.Revision, "workspace": map[string]string{"name": r.Answers["name"], "region": r.Answers["region"]},
		"app": map[string]string{"bundle": i.Identifier, "number": i.Values["number"], "key": i.Values["public-key"]}, "records": map[string]string{"address": address + "/records"}}, "", "  ")
	if err != nil {
		return nil
	}
	return append(b, '\n')
}

// record serves apps: they say who they are by number, key and identifier, and all three must belong together.
func record(s *base.Service, w http.ResponseWriter, q *http.Request) {
	number, key, claimed := q.Header.Get("Thornmill-App"), q.Header.Get("Thornmill-Key"), q.Header.Get("Thornmill-Identity")
	s.App(w, func(d *base.Data) (*base.Registration, int, any) {
		for _, r := range d.Registrations {
			for _, i := range r.Identities {
				if i.Values["number"] != number {
					continue
				}
				switch {
				case i.Values["public-key"] != key:
					return nil, 0, base.Stop(403, "key-unknown", "The key sent for app %s is not its key.", number)
				case i.Identifier != claimed:
					return nil, 0, base.Stop(403, "other-app", "App %s is %s; the caller says it is %s.", number, i.Identifier, claimed)
				case !r.Features["records"]:
					return nil, 0, base.Stop(409, "records-off", "Records are not switched on in this workspace.")
				}
				if shut(r, time.Now()) {
					return nil, 0, base.Stop(403, "rules-missing", "The time for trying ended on %s, and this workspace has no access rules.", r.Open[0].Until.Format(time.DateOnly))
				}
				return serve(r.Copy(), i, q)
			}
		}
		return nil, 0, base.Stop(403, "app-unknown", "Thornmill knows no app with the number %q.", number)
	})
}

// rules writes the access rules, as a person does on Thornmill's own page: with them, the time for trying is over.
func rules(s *base.Service, q *base.Request) base.Reply {
	var in struct{ Readers string }
	r := s.Mine(q)
	switch {
	case r == nil:
		return s.Refuse(base.Stop(404, "workspace-unknown", "There is no such workspace in this account."))
	case base.Read(q.Request, &in) != nil || in.Readers != "members" && in.Readers != "owners":
		return s.Refuse(base.Stop(422, "rules-form", "Readers are members or owners."))
	}
	r = r.Copy()
	r.Open, r.Papers["readers"] = nil, in.Readers
	q.Change.Save(r)
	return base.Reply{Status: 200, Body: r.View()}
}

// shut reports whether the records are closed to everybody: the time for trying is over and no rules were written.
func shut(r *base.Registration, now time.Time) bool {
	return len(r.Open) > 0 && r.Open[0].Until != nil && now.After(*r.Open[0].Until)
}

func serve(r *base.Registration, i *base.Identity, q *http.Request) (*base.Registration, int, any) {
	key := q.PathValue("key")
	facts := map[string]string{"identity": i.Identifier, "number": i.Values["number"], "public-key": i.Values["public-key"]}
	switch q.Method {
	case http.MethodPut:
		var v json.RawMessage
		if err := base.Read(q, &v); err != nil {
			return nil, 0, base.Stop(400, "record-unreadable", "A record is JSON: %v", err)
		}
		r.Papers[key] = string(v)
		r.Seen(i, "record written", facts)
		return r, 201, map[string]string{"written": key}
	case http.MethodGet:
		v, ok := r.Papers[key]
		if !ok {
			return nil, 0, base.Stop(404, "record-unknown", "There is no record %q in this workspace.", key)
		}
		r.Seen(i, "record read", facts)
		return r, 200, json.RawMessage(v)
	}
	return nil, 0, base.Stop(405, "method", "Records are read with GET and written with PUT.")
}
