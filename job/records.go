package job

import (
	"strings"

	"ligare/client/shape"
	"ligare/core/check"
	"ligare/core/wiring"
)

// recordsOf gives what the server knows of the app besides what is placed, in the form that rules read.
func recordsOf(got *shape.Comparison, regs []*wiring.Registration) *check.Records {
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
