package report

import (
	"bytes"
	"encoding/json"
	"encoding/xml"
	"strings"
	"testing"

	"ligare/core/check"
)

var result = &check.Result{
	Findings: []check.Finding{
		{Rule: "resource-padded", Severity: check.Error, Message: "White space <stands> around it", Variant: "release", File: "app/a b.xml", Line: 3, Column: 7, Expected: "1", Actual: " 1", Why: "It matters.", Fix: "Delete it.", Fixable: true, Fingerprint: "f1"},
		{Rule: "library-twice", Severity: check.Warning, Message: "Twice", File: "b.gradle", Fingerprint: "f2", Why: "w", Fix: "f"},
	},
	Looked:    []string{"library-twice", "resource-padded", "start-late"},
	NotLooked: []check.NotLooked{{Rule: "start-missing", Reason: "no class was found", Required: true}, {Rule: "pod", Reason: "r"}},
}

func TestText(t *testing.T) {
	var b bytes.Buffer
	Text(&b, result, 0, Plain, func(_ string, line int) string { return map[int]string{3: "\t  <s> 1</s>"}[line] })
	want := `error  app/a b.xml:3:7  [resource-padded]
    White space <stands> around it
         3 | <s> 1</s>
           |    ^
    should be  1
    is          1
    builds     release
    why        It matters.
    mend       Delete it. (Ligare can)

warning  b.gradle  [library-twice]
    Twice
    why        w
    mend       f

could not look  no class was found
                held back: start-missing

1 error, 1 warning; 3 rules looked, 2 could not look everywhere
`
	if b.String() != want {
		t.Errorf("got\n%s\nwant\n%s", b.String(), want)
	}
}

func TestWrap(t *testing.T) {
	if got := Wrap("one two three four", 12, 4); got != "one two\n    three\n    four" {
		t.Errorf("%q", got)
	}
	if got := Wrap("one two", 0, 4); got != "one two" {
		t.Errorf("%q", got)
	}
	var b bytes.Buffer
	Text(&b, &check.Result{Findings: []check.Finding{{Rule: "x", Severity: check.Note, Message: strings.Repeat("word ", 40), Why: strings.Repeat("why ", 40), Fix: "f"}}}, 60, Plain, nil)
	for _, l := range strings.Split(b.String(), "\n") {
		if len(l) > 60 {
			t.Errorf("%d characters: %s", len(l), l)
		}
	}
}

func TestABlindCheckDoesNotSayThatNothingIsWrong(t *testing.T) {
	var b bytes.Buffer
	Text(&b, &check.Result{NotLooked: []check.NotLooked{{Rule: "a", Reason: "no server", Required: true}, {Rule: "b", Reason: "no server", Required: true}}}, 0, Plain, nil)
	if strings.Contains(b.String(), "nothing wrong") || strings.Count(b.String(), "no server") != 1 || !strings.Contains(b.String(), "held back: a, b") {
		t.Errorf("%s", b.String())
	}
}

func TestSARIF(t *testing.T) {
	var b bytes.Buffer
	if err := SARIF(&b, result, "1"); err != nil {
		t.Fatal(err)
	}
	var log struct {
		Version string
		Runs    []struct {
			Tool struct {
				Driver struct {
					Name  string
					Rules []struct{ ID string }
				}
			}
			Results []struct {
				RuleID    string
				RuleIndex int
				Level     string
				Message   struct{ Text string }
				Locations []struct {
					PhysicalLocation struct {
						ArtifactLocation struct{ URI string }
						Region           *struct{ StartLine, StartColumn int }
					}
				}
				PartialFingerprints map[string]string
			}
			Invocations []struct {
				ExecutionSuccessful        bool
				ToolExecutionNotifications []any
			}
		}
	}
	if err := json.Unmarshal(b.Bytes(), &log); err != nil {
		t.Fatal(err)
	}
	run := log.Runs[0]
	first := run.Results[0]
	if log.Version != "2.1.0" || run.Tool.Driver.Name != "ligare" || len(run.Results) != 2 || run.Tool.Driver.Rules[first.RuleIndex].ID != first.RuleID {
		t.Errorf("%+v", run)
	}
	if l := first.Locations[0].PhysicalLocation; l.ArtifactLocation.URI != "app/a%20b.xml" || l.Region.StartLine != 3 || l.Region.StartColumn != 7 {
		t.Errorf("%+v", l)
	}
	if run.Results[1].Locations[0].PhysicalLocation.Region != nil || first.PartialFingerprints["ligare/v1"] != "f1" {
		t.Errorf("%+v", run.Results[1])
	}
	if i := run.Invocations[0]; i.ExecutionSuccessful || len(i.ToolExecutionNotifications) != 2 {
		t.Errorf("a blind run counts as successful: %+v", i)
	}
	b.Reset()
	if err := SARIF(&b, &check.Result{}, "1"); err != nil || !strings.Contains(b.String(), `"results": []`) {
		t.Errorf("an empty result: %s", b.String())
	}
}

func TestJUnit(t *testing.T) {
	var b bytes.Buffer
	if err := JUnit(&b, result); err != nil {
		t.Fatal(err)
	}
	var s junitSuite
	if err := xml.Unmarshal(b.Bytes(), &s); err != nil {
		t.Fatal(err)
	}
	by := map[string]junitCase{}
	for _, c := range s.Cases {
		by[c.Name] = c
	}
	if s.Failures != 2 || s.Errors != 1 || len(by["start-late"].Failure) != 0 || by["start-missing"].Error == nil || !strings.Contains(by["resource-padded"].Failure[0].Message, "a b.xml:3:7") {
		t.Errorf("%s", b.String())
	}
}
