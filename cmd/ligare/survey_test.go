package main

import (
	"bytes"
	"os"
	"strings"
	"testing"

	"ligare/core/survey"
	"ligare/core/survey/fact"
	"ligare/core/tree"
	"ligare/job"
)

func said(t *testing.T, all bool, d *job.Described) string {
	t.Helper()
	var b bytes.Buffer
	(&surveyText{w: &b, all: all}).show(d)
	return b.String()
}

func described(dir string) *job.Described {
	return &job.Described{Report: survey.Survey(tree.New(os.DirFS(dir)))}
}

// What counts comes first; a value that all variants share is said once, without their names; what differs is told apart.
func TestTextOfASurvey(t *testing.T) {
	d := described("../../core/survey/testdata/orchard")
	text := said(t, false, d)
	for _, line := range []string{
		"Android  app  (android-gradle)  variants: appleMarketDebug, appleMarketRelease, appleMarketBeta, appleDirectDebug, appleDirectRelease, appleDirectBeta, pearMarketDebug, pearMarketRelease, pearDirectDebug, pearDirectRelease",
		"example.larkfield.pears.market.dev",
		"only the first counts",
		"also: 2 permissions, 4 metadata entries, 1 URL scheme, 2 plugins, 4 dependencies (--details shows them)",
		"keystore (4 times)",
	} {
		if !strings.Contains(text, line) {
			t.Errorf("the text lacks %q:\n%s", line, text)
		}
	}
	rows := 0
	for _, l := range strings.Split(text, "\n") {
		if strings.HasPrefix(l, "  namespace ") {
			rows++
			if strings.Contains(l, "appleMarketDebug") {
				t.Errorf("a value that all share names them: %s", l)
			}
		}
		if strings.HasPrefix(l, "  minimum SDK") && !strings.Contains(l, "appleMarketDebug, appleMarketRelease") {
			t.Errorf("a value that some have does not name them: %s", l)
		}
	}
	if rows != 1 {
		t.Errorf("the namespace stands %d times", rows)
	}
	for _, hidden := range []string{"android.permission.VIBRATE", "packages.larkfield.example"} {
		if strings.Contains(text, hidden) {
			t.Errorf("%s is a detail", hidden)
		}
		if !strings.Contains(said(t, true, d), hidden) {
			t.Errorf("%s is missing from the details", hidden)
		}
	}
}

func TestTextOfWhatIsOpenOrOdd(t *testing.T) {
	r := survey.Survey(tree.New(os.DirFS("../../demo/studio/marrow-radio")))
	d := &job.Described{Report: r, VersionControl: job.VersionControl{Known: true, Files: []job.FileState{
		{File: "a.json", What: "config file", There: true}, {File: "b.p12", What: "keystore"}}}}
	d.VersionControl.Files[0].Tracked, d.VersionControl.Files[0].Ignored = true, true
	d.VersionControl.Files[1].Committed = true
	text := said(t, false, d)
	for _, line := range []string{"tracked, although an ignore rule fits it", "not there, neither tracked nor ignored, was committed once", "Everything was resolved from the files."} {
		if !strings.Contains(text, line) {
			t.Errorf("the text lacks %q:\n%s", line, text)
		}
	}
	d.VersionControl = job.VersionControl{Why: "no git here", Files: d.VersionControl.Files}
	r.Unresolved = []survey.OpenQuestion{{What: "minimum SDK of Android variant a", Why: "`x()`", File: "b.gradle", Line: 3}, {What: "minimum SDK of Android variant b", Why: "`x()`", File: "b.gradle", Line: 3}, {What: "project y", Why: "cut short", File: "y", Broken: true}}
	r.Notes = []survey.OpenQuestion{{What: "URL scheme of z", Why: "a capital"}}
	text = said(t, false, d)
	for _, line := range []string{"(not known: no git here)", "minimum SDK (2 times)  `x()`", "at b.gradle:3", "Worth a look:", "URL scheme", "project y", "at y:1"} {
		if !strings.Contains(text, line) {
			t.Errorf("the text lacks %q:\n%s", line, text)
		}
	}
}

func TestTextOfCertificatesAndLinks(t *testing.T) {
	id := fact.Of("a.b", "app/build.gradle", 1, 1)
	v := func(name string, k *survey.Signer) *survey.AndroidVariant {
		return &survey.AndroidVariant{Name: name, ApplicationID: id, MinSDK: fact.Either("x", fact.Of("1", "f", 1, 1), fact.Of("2", "f", 2, 1)), Certificate: k}
	}
	shop := &survey.Signer{File: "shop.p12", Alias: "shop", SHA1: "AA:BB", SHA256: "CC:DD", Warnings: []string{"expires in 3 days"}}
	d := &job.Described{Report: &survey.Report{Android: survey.Android{Modules: []*survey.Module{{Layout: "android-gradle", Framework: "flutter", Dir: "app",
		Variants: []*survey.AndroidVariant{v("one", shop), v("two", shop), v("three", &survey.Signer{File: "x.jks", Unresolved: "the keystore is not there"})}}}},
		Frameworks: []*survey.Framework{{Name: "flutter", Dir: ".", Linking: "by itself", Packages: []survey.Linked{
			{Name: "usual", Android: survey.Link{How: "framework"}, IOS: survey.Link{How: "none"}}, {Name: "odd", Android: survey.Link{How: "twice", Places: []string{"s:1"}}, IOS: survey.Link{How: "missing"}}}}}}}
	text := said(t, false, d)
	for _, line := range []string{"under flutter", "certificate of one, two\n", "SHA-256  CC:DD", "expires in 3 days", "certificate of three\n    not known: the keystore is not there", "1 when x, or 2 when not x", "Android: twice (s:1)", "iOS: not linked", "1 more packages as usual"} {
		if !strings.Contains(text, line) {
			t.Errorf("the text lacks %q:\n%s", line, text)
		}
	}
	if strings.Contains(text, "usual  ") {
		t.Errorf("what is as usual is a detail:\n%s", text)
	}
}
