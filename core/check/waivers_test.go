package check

import (
	"strings"
	"testing"
)

const waiver = "format: 1\nwaivers:\n  - rule: value-mangled\n    at: ios/\n    reason: the number of last year's app, on purpose\n    who: Wren\n    until: 2026-11-15\n"

func TestWaiversAndWhatStood(t *testing.T) {
	s := wire(t, "hivelog", "treadmark")
	number := issued("treadmark", "app-number", "")
	s.change(t, hivePlist, "<string>"+number+"</string>", "<string>"+number[:14]+"</string>")
	at := func(text string, day int) *Result {
		list, err := ParseWaivers([]byte(text))
		if err != nil {
			t.Fatal(err)
		}
		s.waivers = list
		s.now = today.AddDate(0, 0, day)
		return s.check(t)
	}
	has := func(r *Result, rule string) bool {
		for _, f := range r.Findings {
			if f.Rule == rule {
				return true
			}
		}
		return false
	}
	if r := at(waiver, 14); has(r, "value-mangled") || len(r.Waived) != 1 || r.Waived[0].Waiver.Who != "Wren" || has(r, "waiver-ended") {
		t.Errorf("on its last day it holds: %+v", r.Findings)
	}
	if r := at(waiver, 15); !has(r, "value-mangled") || !has(r, "waiver-ended") || len(r.Waived) != 0 {
		t.Errorf("a day later it does not: %+v", r.Findings)
	}
	if r := at(strings.Replace(waiver, "at: ios/", "at: android/", 1), 0); !has(r, "value-mangled") || !has(r, "waiver-unused") {
		t.Errorf("elsewhere it covers nothing: %+v", r.Findings)
	}
	s.waivers = nil
	old := s.check(t)
	text, err := Accept(old, today)
	if err != nil {
		t.Fatal(err)
	}
	if s.standing, err = ParseStanding(text); err != nil {
		t.Fatal(err)
	}
	s.change(t, hiveStrings, ">"+number+"<", ">"+number[1:]+"<")
	r := s.check(t)
	if len(r.Standing) != 1 || r.Standing[0].File != hivePlist || !has(r, "value-mangled") && !has(r, "resource-differs") || len(r.Gone) != 0 {
		t.Errorf("only what is new counts: %+v", r.Findings)
	}
	s.change(t, hivePlist, "<string>"+number[:14]+"</string>", "<string>"+number+"</string>")
	if r := s.check(t); len(r.Standing) != 0 || len(r.Gone) != 1 {
		t.Errorf("what went away is said: %+v %v", r.Standing, r.Gone)
	}
}

func TestWaiverFilesThatAreWrong(t *testing.T) {
	for name, c := range map[string][2]string{
		"no YAML":         {"waivers: [", "waivers.yaml"},
		"another format":  {"format: 2\nwaivers: []\n", "format is 2"},
		"no such rule":    {strings.Replace(waiver, "value-mangled", "value-odd", 1), `waivers.yaml:3: there is no rule "value-odd"`},
		"no reason":       {strings.Replace(waiver, "    reason: the number of last year's app, on purpose\n", "", 1), "says no reason"},
		"no date":         {strings.Replace(waiver, "2026-11-15", "soon", 1), `until is "soon"`},
		"a word too many": {waiver + "    because: x\n", `waivers.yaml:8:5: a waiver has no "because"`},
		"out of the tree": {strings.Replace(waiver, "at: ios/", "at: ../x", 1), "is no path from the tree's root"},
	} {
		if _, err := ParseWaivers([]byte(c[0])); err == nil || !strings.Contains(err.Error(), c[1]) {
			t.Errorf("%s: %v", name, err)
		}
	}
	for _, src := range []string{"", waiver, waiver + "# the end"} {
		out, err := AddWaiver([]byte(src), Waiver{Rule: "signer-of-debug", At: "app/build.gradle", Reason: "a build: for the fair", Who: "Teasel", Until: "2027-01-31"})
		if err != nil {
			t.Fatal(err)
		}
		list, err := ParseWaivers(out)
		if err != nil || len(list) == 0 || list[len(list)-1].Reason != "a build: for the fair" || !strings.HasPrefix(string(out), src) {
			t.Errorf("%v\n%s", err, out)
		}
	}
	if _, err := AddWaiver([]byte("waivers:\n  - rule: x\nformat: 1\n"), Waiver{}); err == nil {
		t.Error("a list that does not stand at the end was added to")
	}
}

func FuzzWaivers(f *testing.F) {
	f.Add([]byte(waiver))
	f.Fuzz(func(t *testing.T, src []byte) {
		if _, err := ParseWaivers(src); err != nil {
			return
		}
		out, err := AddWaiver(src, Waiver{Rule: "signer-of-debug", Reason: "r", Who: "w", Until: "2027-01-31"})
		if err == nil && !strings.HasPrefix(string(out), string(src)) && len(strings.TrimSpace(string(src))) > 0 {
			t.Errorf("%q became %q", src, out)
		}
	})
}
