package check

import (
	"strings"
	"testing"

	"ligare/core/sheet"
)

func TestFromAMessageToTheCause(t *testing.T) {
	s := wire(t, "hivelog", "thornmill", "gatepost")
	s.change(t, hiveManifest, "\n            android:exported=\"true\">", ">")
	r := s.check(t)
	for _, c := range []struct {
		text, found string
		applies     Applies
		file        string
	}{
		{"> Task :app:processDebugMainManifest FAILED\nManifest merger failed : android:exported needs to be\n  explicitly specified for element <activity#x>.", "android:exported needs to be explicitly specified", Holds, hiveManifest},
		{"error: Unable to find a target named `Seedswop` in project", "Unable to find a target named", Excluded, ""},
		{"* What went wrong:\nCould not find example.thornmill:core:3.2.0.\nSearched in the following locations: x\nRequired by:\n    project :app", "Could not find", Excluded, ""},
		{"invalid_scope: not granted", "invalid_scope", NotSeen, ""},
	} {
		got := Explain(c.text, []*sheet.Sheet{shipped["gatepost"]}, r)
		if len(got) == 0 || !strings.HasPrefix(got[0].Found, c.found) || got[0].Applies != c.applies || got[0].Cause == "" || got[0].Remedy == "" {
			t.Errorf("%q: %+v", c.text, got)
			continue
		}
		if c.file != "" && got[0].Findings[0].File != c.file {
			t.Errorf("%q: %+v", c.text, got[0].Findings)
		}
	}
	if got := Explain("BUILD SUCCESSFUL in 3s; invalid_scopes", []*sheet.Sheet{shipped["gatepost"]}, r); len(got) > 0 {
		t.Errorf("%+v", got)
	}
	if got := Explain("plugin with id 'x' not found", nil, nil); len(got) != 1 || got[0].Applies != NotSeen {
		t.Errorf("without a tree: %+v", got)
	}
}

func TestEveryMessagePointsSomewhere(t *testing.T) {
	texts := map[string]bool{}
	for _, m := range Messages() {
		if m.Text == "" || m.Cause == "" || m.Remedy == "" || len(m.Rules) == 0 || texts[strings.ToLower(m.Text)] {
			t.Errorf("%+v", m)
		}
		texts[strings.ToLower(m.Text)] = true
		for _, r := range m.Rules {
			if RuleByID(r) == nil {
				t.Errorf("%q points to %s, which is no rule", m.Text, r)
			}
		}
		if match(strings.ReplaceAll(m.Text, "…", "anything at all"), m.Text) == "" {
			t.Errorf("%q does not match itself", m.Text)
		}
	}
	for name, s := range shipped {
		for _, m := range s.Messages {
			for _, r := range m.Rules {
				if RuleByID(r) == nil {
					t.Errorf("%s: %q points to %s, which is no rule", name, m.Text+m.Code, r)
				}
			}
		}
	}
}

func FuzzExplain(f *testing.F) {
	f.Add("duplicate class x found in modules a and b")
	f.Fuzz(func(t *testing.T, text string) {
		for _, x := range Explain(text, nil, nil) {
			if x.Found == "" {
				t.Error("found nothing, and explains it")
			}
		}
	})
}
