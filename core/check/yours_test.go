package check

import (
	"os"
	"slices"
	"testing"

	"ligare/core/binding"
	"ligare/core/survey"
	"ligare/core/tree"
	"ligare/core/wiring"
)

// A tree of your own, named by LIGARE_TREE, gets nothing but notes as it is; and with every service that ships placed,
// nothing more than what was there before.
func TestYourTreeIsPassedInSilence(t *testing.T) {
	dir := os.Getenv("LIGARE_TREE")
	if dir == "" {
		t.Skip("LIGARE_TREE names no folder")
	}
	s := &studio{files: loadFrom(t, os.DirFS(dir)), records: &Records{}, tracked: map[string]Tracked{}, missing: map[Need]string{}}
	r := survey.Survey(tree.New(s.files))
	bare := Run(Input{Input: wiring.Input{Tree: tree.New(s.files), Survey: r, Library: library}, Missing: map[Need]string{Attached: "bare", Registrations: "bare", TeamRecords: "bare", Services: "bare", History: "bare"}, Now: today})
	for _, f := range bare.Findings {
		if f.Severity.AtLeast(Warning) {
			t.Errorf("untouched: %s %s [%s] %s", f.Severity, f.Place(), f.Rule, f.Message)
		}
	}
	s.binding = binding.Propose("yours", r)
	for _, i := range s.binding.Identities(r) {
		s.records.Identities = append(s.records.Identities, Identity{Platform: i.Platform, ID: i.ID})
	}
	var services []string
	for name := range shipped {
		services = append(services, name)
	}
	slices.Sort(services)
	for _, name := range services {
		if name != "fieldhide" { // its archive is not made up here
			s.register(t, name)
		}
	}
	in := s.input()
	answers, err := wiring.Evaluate(in)
	if err != nil {
		t.Fatal(err)
	}
	p, err := wiring.Make(in, answers, wiring.Never)
	if err != nil {
		t.Fatal(err)
	}
	for _, k := range p.Kept {
		t.Logf("left to a person: %s %s: %s", k.Registration, k.Placement, k.Detail)
	}
	for _, f := range in.Tree.Changed() {
		b, err := in.Tree.Read(f)
		if err != nil {
			t.Fatal(err)
		}
		s.put(f, b)
	}
	for _, f := range s.check(t).Findings {
		if f.Severity.AtLeast(Warning) && f.Rule != "identifier-of-template" && f.Rule != "signer-of-debug" && f.Rule != "release-unsigned" {
			t.Errorf("placed: %s %s [%s] %s", f.Severity, f.Place(), f.Rule, f.Message)
		}
	}
}
