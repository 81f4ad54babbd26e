// Package held gives what the server's records hold of an app in the shapes that the core compares trees and packages
// with. The command line does so with what it was sent, the server with its own.
package held

import (
	"bytes"
	"fmt"
	"strings"

	"ligare/client/shape"
	"ligare/core/built"
	"ligare/core/check"
	"ligare/core/ident"
	"ligare/core/sheet"
	"ligare/core/wiring"
)

func platform(p string) ident.Platform { return ident.Platform(p) }

// Sheets reads a registration's sheet; those that ship are not read again.
type Sheets map[string]*sheet.Sheet

func (known Sheets) parse(service string, source []byte) (*sheet.Sheet, error) {
	if s := known[service]; s != nil && bytes.Equal(s.Source, source) {
		return s, nil
	}
	return sheet.Parse(service, source)
}

// Registrations gives those of a service and an environment, "" for all, that were completed; open says why others were
// not.
func Registrations(got *shape.Comparison, service, environment string, known Sheets) (out []*wiring.Registration, open []string, err error) {
	placings := map[string]*shape.Placing{}
	for i := range got.Placings {
		placings[got.Placings[i].Registration] = &got.Placings[i]
	}
	for _, g := range got.Registrations {
		if service != "" && g.Service != service || environment != "" && g.Environment != "" && g.Environment != environment {
			continue
		}
		p := placings[g.ID]
		if p == nil {
			where := g.Service
			if g.Environment != "" {
				where += " for " + g.Environment
			}
			open = append(open, strings.TrimSpace(fmt.Sprintf("the registration at %s was not completed (%s) %s", where, g.State, g.Problem)))
			continue
		}
		s, err := known.parse(g.Service, []byte(p.Sheet))
		if err != nil {
			return nil, nil, err
		}
		reg := &wiring.Registration{Service: g.Service, Environment: g.Environment, Revision: p.Revision, Sheet: s, Values: p.Values, Features: p.Features, Answers: p.Answers, Berths: p.Berths}
		for _, i := range p.Identities {
			reg.Identities = append(reg.Identities, wiring.Registered{Platform: platform(i.Platform), ID: i.Identifier, Values: i.Values, Files: i.Files})
		}
		out = append(out, reg)
	}
	return out, open, nil
}

// Recognised gives whose values are that belong to the team's other apps.
func Recognised(got *shape.Comparison) map[string]check.Recognised {
	out := map[string]check.Recognised{}
	for _, o := range got.Others {
		out[o.Digest] = check.Recognised{Say: o.Say}
	}
	return out
}

// Fields gives when a hosted builder's fields were changed, and when it last built the app in a package.
func Fields(service string, x *shape.Builder, f *built.Facts) *check.Fields {
	out := &check.Fields{Service: service}
	if x.Changed != nil {
		out.Changed = *x.Changed
	}
	for _, b := range x.Builds {
		mine := f.Android != nil && b.Platform == "android" && b.Identifier == f.Android.ApplicationID
		for _, a := range f.IOS {
			mine = mine || b.Platform == "ios" && b.Identifier == a.BundleID
		}
		if mine && b.At.After(out.Built) {
			out.Built = b.At
		}
	}
	return out
}

// Records gives what the server knows of the app besides what is placed, in the form that rules read.
func Records(got *shape.Comparison, regs []*wiring.Registration) *check.Records {
	out := &check.Records{}
	for _, i := range got.App.Identities {
		out.Identities = append(out.Identities, check.Identity{Platform: platform(i.Platform), ID: i.Identifier, DisplayName: i.DisplayName, Published: i.Published != nil})
	}
	for _, s := range got.Signers {
		x := check.Signer{Name: s.Name, Role: s.Role, NotAfter: s.NotAfter, SHA256: digestOf(s)}
		for _, i := range s.Identities {
			x.Identities = append(x.Identities, check.Identity{Platform: platform(i.Platform), ID: i.Identifier})
		}
		out.Signers = append(out.Signers, x)
	}
	for i := range got.Registrations {
		out.Registrations = append(out.Registrations, registrationOf(&got.Registrations[i], regs))
	}
	for _, c := range got.Connections {
		out.Supplies = append(out.Supplies, check.Supply{Service: c.Service, Environment: c.Environment, Slot: c.Slot, Say: strings.TrimSuffix(c.Title+": "+c.Say, "."), Needed: c.Needed, There: c.DownstreamHas || c.State == "saved", Old: c.State == "old"})
	}
	return out
}

// digestOf gives a signer's SHA-256 digest as the records hold it, in hex without colons.
func digestOf(s shape.Signer) string {
	if m, ok := s.Digests.(map[string]any); ok {
		if hex, ok := m["sha256Hex"].(string); ok {
			return hex
		}
	}
	return ""
}

func registrationOf(g *shape.Registration, regs []*wiring.Registration) check.Registration {
	out := check.Registration{Service: g.Service, Environment: g.Environment, State: g.State, Problem: g.Problem, Features: g.Features, Answers: g.Answers, Redirects: g.Redirects}
	for _, i := range g.Identities {
		out.Identities = append(out.Identities, check.RegisteredIdentity{Identity: check.Identity{Platform: platform(i.Platform), ID: i.Identifier}, Answers: i.Answers, Digests: i.Digests})
	}
	if g.Looked != nil {
		out.Looked = *g.Looked
	}
	for _, o := range g.Open {
		x := check.OpenAccess{What: o.What}
		if o.Until != nil {
			x.Until = *o.Until
		}
		out.Open = append(out.Open, x)
	}
	for _, d := range g.Differs {
		out.Differs = append(out.Differs, check.Differing{Answer: d.Answer, Title: d.Title, Identity: d.Identifier, Nothing: d.Nothing})
	}
	for _, r := range regs {
		if r.Service == g.Service && r.Environment == g.Environment && (len(g.Identities) != 1 || len(r.Identities) == 1 && r.Identities[0].ID == g.Identities[0].Identifier && string(r.Identities[0].Platform) == g.Identities[0].Platform) {
			out.Key = r.Key()
		}
	}
	for _, k := range g.Keys {
		x := check.Key{Name: k.Name, Title: k.Title, Label: k.Label, Identity: k.Identifier, Value: k.Value, Current: k.Current}
		if k.Ends != nil {
			x.Ends = *k.Ends
		}
		if k.Revoked != nil {
			x.Revoked = *k.Revoked
		}
		out.Keys = append(out.Keys, x)
	}
	for _, d := range g.Duties {
		out.Duties = append(out.Duties, check.Duty{ID: d.ID, Title: d.Title, Before: d.Before, Done: d.Done != nil})
	}
	return out
}
