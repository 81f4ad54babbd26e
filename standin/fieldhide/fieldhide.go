// Package fieldhide simulates Fieldhide, which records how screens are used. Its library is an archive made for one
// version of the IDE, put into the tree by hand. It knows no idempotency keys and cannot look anything up by reference.
package fieldhide

import (
	"archive/zip"
	"bytes"
	"encoding/json"
	"fmt"
	"net/http"
	"regexp"
	"strings"

	"ligare/standin/base"
)

var version = regexp.MustCompile(`^(1[5-9]|2[0-9])\.[0-9]$`)

// New opens the service on a data file.
func New(file string) (*base.Service, error) {
	return base.Open(base.Rules{
		Name: "Fieldhide", Prefix: "fh-", Platforms: []string{"ios"}, Keyless: true, Blind: true, OneOnly: true, Missing: "44",
		Refusal: func(n *base.No) any {
			return map[string]any{"hide": map[string]string{"number": n.Code, "why": n.Text}}
		},
		Check: func(r *base.Registration) *base.No {
			if len(strings.TrimSpace(r.Answers["name"])) < 2 {
				return base.Stop(422, "11", "A hide needs a name.")
			}
			if !version.MatchString(r.Answers["ide"]) {
				return base.Stop(422, "12", "There is no library for the IDE version %q; give it as 16.2.", r.Answers["ide"])
			}
			return nil
		},
		Join: func(r *base.Registration, i *base.Identity) *base.No {
			r.Values["hide-number"] = "H" + base.Digits(7)
			return nil
		},
		File: files,
		Serve: func(m *http.ServeMux, s *base.Service) {
			m.HandleFunc("POST /hides/{number}/recordings", func(w http.ResponseWriter, q *http.Request) { recording(s, w, q) })
		},
	}, file)
}

func files(r *base.Registration, i *base.Identity, id string) (*base.File, *base.No) {
	switch id {
	case "settings":
		b, err := json.MarshalIndent(map[string]any{"hide": r.Values["hide-number"], "bundle": i.Identifier, "ide": r.Answers["ide"], "edition": r.Revision, "mask": []string{"password", "card"}}, "", "  ")
		if err != nil {
			return nil, base.Stop(500, "50", "%v", err)
		}
		return &base.File{Name: "fieldhide-settings.json", MIME: "application/json", Content: append(b, '\n')}, nil
	case "archive":
		b, err := archive(r)
		if err != nil {
			return nil, base.Stop(500, "50", "%v", err)
		}
		return &base.File{Name: "Fieldhide.zip", MIME: "application/zip", Content: b}, nil
	}
	return nil, base.Stop(404, "44", "Fieldhide has no file %q.", id)
}

// archive makes the library for the IDE version that was asked for. Its content is a stand-in: texts where a real one
// has machine code.
func archive(r *base.Registration) ([]byte, error) {
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for _, f := range [][2]string{
		{"Fieldhide/Fieldhide.xcconfig", "// Fieldhide for IDE " + r.Answers["ide"] + "\nFIELDHIDE_ROOT = $(SRCROOT)/Fieldhide\nFRAMEWORK_SEARCH_PATHS = $(inherited) $(FIELDHIDE_ROOT)\nOTHER_LDFLAGS = $(inherited) -ObjC\n"},
		{"Fieldhide/Fieldhide.framework/Info.plist", fmt.Sprintf("<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<plist version=\"1.0\"><dict><key>CFBundleIdentifier</key><string>example.fieldhide.library</string><key>FieldhideIDE</key><string>%s</string></dict></plist>\n", r.Answers["ide"])},
		{"Fieldhide/Fieldhide.framework/Fieldhide", "stand-in for machine code\n"},
		{"Fieldhide/FieldhideLooks.bundle/lens.txt", "stand-in for a picture\n"},
	} {
		w, err := z.Create(f[0])
		if err != nil {
			return nil, err
		}
		if _, err := w.Write([]byte(f[1])); err != nil {
			return nil, err
		}
	}
	err := z.Close()
	return b.Bytes(), err
}

func recording(s *base.Service, w http.ResponseWriter, q *http.Request) {
	var in struct{ Bundle, Screen string }
	err := base.Read(q, &in)
	s.App(w, func(d *base.Data) (*base.Registration, int, any) {
		if err != nil {
			return nil, 0, base.Stop(400, "10", "%v", err)
		}
		for _, had := range d.Registrations {
			if had.Values["hide-number"] != q.PathValue("number") {
				continue
			}
			r := had.Copy()
			i := r.Find("ios", in.Bundle)
			if i == nil {
				return nil, 0, base.Stop(403, "31", "Hide %s belongs to another app than %s.", q.PathValue("number"), in.Bundle)
			}
			r.Seen(i, "screen "+in.Screen, map[string]string{"identity": in.Bundle, "hide-number": r.Values["hide-number"]})
			return r, 201, map[string]string{"recorded": in.Screen}
		}
		return nil, 0, base.Stop(404, "44", "There is no hide %s.", q.PathValue("number"))
	})
}
