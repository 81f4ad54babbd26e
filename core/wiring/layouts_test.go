package wiring

import (
	"strings"
	"testing"

	"ligare/core/binding"
)

// Layouts that nothing is placed into yet: every placement says so, none is passed over in silence, and nothing is written.
func TestOtherLayoutsAreLeftToAPerson(t *testing.T) {
	for _, layout := range []string{"dotnet", "engine"} {
		in := load(t, snapshot(t, "../survey/testdata/"+layout))
		answers, err := Evaluate(in)
		if err != nil {
			t.Fatal(err)
		}
		android, ios := 0, 0
		for _, a := range answers {
			if a.State != Unknown || a.Code != "not-supported" || !strings.Contains(a.Detail, "layout "+layout) || !strings.Contains(a.Detail, "by hand") {
				t.Errorf("%s: %s is %s: %s", layout, a.Want.Placement, a.State, a.Detail)
			}
			if len(a.Want.Variants) == 0 {
				t.Errorf("%s: %s is for no variant", layout, a.Want.Placement)
			}
			if a.Want.Platform == "ios" {
				ios++
			} else {
				android++
			}
		}
		if android == 0 || ios == 0 {
			t.Errorf("%s: %d Android and %d iOS placements", layout, android, ios)
		}
		if changed := in.Tree.Changed(); len(changed) > 0 {
			t.Errorf("%s: %v", layout, changed)
		}
	}
}

// Native projects under a framework are placed into like any others.
func TestNativeProjectsUnderAFramework(t *testing.T) {
	for _, dir := range []string{"../survey/testdata/wrapper", "../../demo/studio/seedswap", "../../demo/studio/tern-crossing"} {
		base := snapshot(t, dir)
		in := load(t, base)
		answers, err := Evaluate(in)
		if err != nil {
			t.Fatal(err)
		}
		if len(answers) == 0 {
			t.Errorf("%s: nothing is to be placed", dir)
		}
		for _, a := range answers {
			if a.Code == "not-supported" {
				t.Errorf("%s: %s: %s", dir, a.Want.Placement, a.Detail)
			}
		}
		if len(binding.Propose("x", in.Survey).IOS) != 1 {
			t.Errorf("%s: test targets are bound as apps", dir)
		}
	}
}
