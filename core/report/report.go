// Package report writes a check's result for people and for machines: text, JSON, SARIF 2.1.0 and JUnit XML.
package report

import (
	"encoding/json"
	"encoding/xml"
	"fmt"
	"io"
	"strings"

	"ligare/core/check"
)

// JSON writes any value, indented, without escaping < and >.
func JSON(w io.Writer, v any) error {
	e := json.NewEncoder(w)
	e.SetEscapeHTML(false)
	e.SetIndent("", "  ")
	return e.Encode(v)
}

// Paint colours a word by severity; the plain one leaves it alone.
type Paint func(severity check.Severity, text string) string

// Plain paints nothing.
func Plain(_ check.Severity, text string) string { return text }

// Wrap breaks a text at blanks so that no line is longer than width; later lines are indented. A width of 0 breaks nothing.
func Wrap(text string, width, indent int) string {
	var b strings.Builder
	at := indent
	for i, word := range strings.Split(text, " ") {
		n := len([]rune(word))
		switch {
		case i > 0 && width > 0 && at+1+n > width:
			b.WriteString("\n" + strings.Repeat(" ", indent))
			at = indent
		case i > 0:
			b.WriteByte(' ')
			at++
		}
		b.WriteString(word)
		at += n
	}
	return b.String()
}

// Text writes findings as a colleague would say them, in lines of at most width characters (0 for any length). excerpt,
// when given, yields the source line of a place.
func Text(w io.Writer, r *check.Result, width int, paint Paint, excerpt func(file string, line int) string) {
	for _, f := range r.Findings {
		if f.Severity == check.Note { // in short, and last
			continue
		}
		fmt.Fprintf(w, "%s  %s  [%s]\n", paint(f.Severity, string(f.Severity)), f.Place(), f.Rule)
		fmt.Fprintf(w, "    %s\n", Wrap(f.Message, width, 4))
		if rule := check.RuleByID(f.Rule); excerpt != nil && f.Line > 0 && !(rule != nil && rule.Quiet) {
			if line := excerpt(f.File, f.Line); strings.TrimSpace(line) != "" {
				text := strings.TrimLeft(line, " \t")
				cut := len([]rune(line)) - len([]rune(text))
				fmt.Fprintf(w, "      %4d | %s\n", f.Line, clip(text, excerptWidth(width)))
				if at := f.Column - 1 - cut; at >= 0 && at < excerptWidth(width) {
					fmt.Fprintf(w, "           | %s^\n", strings.Repeat(" ", at))
				}
			}
		}
		if f.Expected != "" {
			from := ""
			if f.From != "" {
				from = "  (" + f.From + ")"
			}
			fmt.Fprintf(w, "    should be  %s%s\n", f.Expected, from)
		}
		if f.Actual != "" {
			fmt.Fprintf(w, "    is         %s\n", f.Actual)
		}
		for i, c := range f.Consequences {
			if i == 5 && len(f.Consequences) > 6 {
				fmt.Fprintf(w, "    with it    and %d more\n", len(f.Consequences)-i)
				break
			}
			fmt.Fprintf(w, "    with it    %s\n", Wrap(c, width, 15))
		}
		for _, p := range f.Also {
			fmt.Fprintf(w, "    also       %s\n", p)
		}
		if f.Variant != "" {
			fmt.Fprintf(w, "    builds     %s\n", f.Variant)
		}
		fmt.Fprintf(w, "    why        %s\n", Wrap(f.Why, width, 15))
		fix := f.Fix
		if f.Fixable {
			fix += " (Ligare can)"
		}
		fmt.Fprintf(w, "    mend       %s\n\n", Wrap(fix, width, 15))
	}
	notes := 0
	for _, f := range r.Findings {
		if f.Severity != check.Note {
			continue
		}
		notes++
		fmt.Fprintf(w, "%s  %s  [%s]\n    %s\n", paint(f.Severity, string(f.Severity)), f.Place(), f.Rule, Wrap(f.Message, width, 4))
	}
	if notes > 0 {
		fmt.Fprintln(w)
	}
	var reasons []string // each once, with the rules it held back
	held := map[string][]string{}
	for _, n := range r.NotLooked {
		if n.Required || n.Asked {
			if held[n.Reason] == nil {
				reasons = append(reasons, n.Reason)
			}
			held[n.Reason] = append(held[n.Reason], n.Rule)
		}
	}
	for _, reason := range reasons {
		fmt.Fprintf(w, "%s  %s\n", paint(check.Error, "could not look"), Wrap(reason, width, 16))
		rules := strings.Join(held[reason], ", ")
		if n := len(held[reason]); n > 8 {
			rules = fmt.Sprintf("%s and %d more", strings.Join(held[reason][:6], ", "), n-6)
		}
		fmt.Fprintf(w, "                %s\n\n", Wrap("held back: "+rules, width, 16))
	}
	for _, g := range r.Gone {
		fmt.Fprintf(w, "gone  %s  stood before and does no longer; --accept-standing forgets it\n", g)
	}
	fmt.Fprintln(w, Summary(r))
}

func excerptWidth(width int) int {
	if width == 0 || width > 113 {
		return 100
	}
	return max(width-13, 20)
}

func clip(s string, n int) string {
	if r := []rune(s); len(r) > n {
		return string(r[:n]) + "…"
	}
	return s
}

// Summary says in one line what was found and how far the check looked.
func Summary(r *check.Result) string {
	n := map[check.Severity]int{}
	for _, f := range r.Findings {
		n[f.Severity]++
	}
	var parts []string
	for _, s := range []check.Severity{check.Error, check.Warning, check.Note} {
		if n[s] > 0 {
			parts = append(parts, plural(n[s], string(s)))
		}
	}
	what := "nothing wrong"
	if r.Blind() {
		what = "nothing found where it could look"
	}
	switch {
	case len(parts) > 0 && r.Worst() == check.Note:
		what += ", " + parts[0]
	case len(parts) > 0:
		what = strings.Join(parts, ", ")
	}
	blind := map[string]bool{}
	for _, x := range r.NotLooked {
		blind[x.Rule] = true
	}
	if n := len(r.Standing); n > 0 {
		what += fmt.Sprintf(", %d that stood before", n)
	}
	if n := len(r.Waived); n > 0 {
		what += fmt.Sprintf(", %d accepted", n)
	}
	say := fmt.Sprintf("%s; %s looked", what, plural(len(r.Looked), "rule"))
	if len(blind) > 0 {
		say += fmt.Sprintf(", %d could not look everywhere", len(blind))
	}
	return say
}

func plural(n int, word string) string {
	if n == 1 {
		return "1 " + word
	}
	return fmt.Sprintf("%d %ss", n, word)
}

// SARIF writes the Static Analysis Results Interchange Format, version 2.1.0 (OASIS).
func SARIF(w io.Writer, r *check.Result, version string) error {
	type m = map[string]any
	var rules, results []m
	index := map[string]int{}
	for _, rule := range check.Rules() {
		index[rule.ID] = len(rules)
		rules = append(rules, m{"id": rule.ID, "shortDescription": m{"text": rule.Title}, "fullDescription": m{"text": rule.Why}, "help": m{"text": rule.Fix},
			"defaultConfiguration": m{"level": string(rule.Severity)}})
	}
	for i, f := range append(append([]check.Finding{}, r.Findings...), r.Standing...) {
		location := place(f)
		text := f.Message
		if f.Expected != "" {
			text += " Should be: " + f.Expected + "."
		}
		one := m{"ruleId": f.Rule, "ruleIndex": index[f.Rule], "level": string(f.Severity), "message": m{"text": text},
			"locations": []m{{"physicalLocation": location}}, "partialFingerprints": m{"ligare/v1": f.Fingerprint}}
		if i >= len(r.Findings) {
			one["baselineState"] = "unchanged"
		}
		results = append(results, one)
	}
	for _, x := range r.Waived {
		results = append(results, m{"ruleId": x.Rule, "ruleIndex": index[x.Rule], "level": string(x.Severity), "message": m{"text": x.Message}, "locations": []m{{"physicalLocation": place(x.Finding)}},
			"partialFingerprints": m{"ligare/v1": x.Fingerprint}, "suppressions": []m{{"kind": "external", "status": "accepted", "justification": x.Waiver.Reason + " (" + x.Waiver.Who + ", until " + x.Waiver.Until + ")"}}})
	}
	if results == nil {
		results = []m{}
	}
	var notes []m
	for _, n := range r.NotLooked {
		notes = append(notes, m{"descriptor": m{"id": n.Rule}, "level": "warning", "message": m{"text": n.Reason}})
	}
	run := m{"tool": m{"driver": m{"name": "ligare", "version": version, "rules": rules}}, "results": results, "columnKind": "unicodeCodePoints",
		"invocations": []m{{"executionSuccessful": !r.Blind(), "toolExecutionNotifications": append([]m{}, notes...)}}}
	return JSON(w, m{"$schema": "https://json.schemastore.org/sarif-2.1.0.json", "version": "2.1.0", "runs": []m{run}})
}

// place gives a finding's place as a physical location.
func place(f check.Finding) map[string]any {
	location := map[string]any{"artifactLocation": map[string]any{"uri": (&uriPath{f.File}).String(), "uriBaseId": "TREE"}}
	if f.Line > 0 {
		location["region"] = map[string]any{"startLine": f.Line, "startColumn": max(f.Column, 1)}
	}
	return location
}

type uriPath struct{ path string }

// String percent-encodes what may not stand in a URI's path (RFC 3986, section 3.3).
func (u *uriPath) String() string {
	var b strings.Builder
	for i := 0; i < len(u.path); i++ {
		c := u.path[i]
		if c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || strings.IndexByte("-._~/!$&'()*+,;=@", c) >= 0 {
			b.WriteByte(c)
		} else {
			fmt.Fprintf(&b, "%%%02X", c)
		}
	}
	return b.String()
}

type junitSuite struct {
	XMLName  xml.Name    `xml:"testsuite"`
	Name     string      `xml:"name,attr"`
	Tests    int         `xml:"tests,attr"`
	Failures int         `xml:"failures,attr"`
	Errors   int         `xml:"errors,attr"`
	Skipped  int         `xml:"skipped,attr"`
	Cases    []junitCase `xml:"testcase"`
}

type junitCase struct {
	Name    string         `xml:"name,attr"`
	Class   string         `xml:"classname,attr"`
	Failure []junitMessage `xml:"failure,omitempty"`
	Error   *junitMessage  `xml:"error,omitempty"`
	Skipped *junitMessage  `xml:"skipped,omitempty"`
	Output  string         `xml:"system-out,omitempty"` // notes
}

type junitMessage struct {
	Message string `xml:"message,attr"`
	Text    string `xml:",chardata"`
}

// JUnit writes one test case a rule: failed with its findings, an error when it was required and could not look, skipped
// when it could not and was not.
func JUnit(w io.Writer, r *check.Result) error {
	s := junitSuite{Name: "ligare check"}
	looked := map[string]bool{}
	for _, id := range r.Looked {
		looked[id] = true
	}
	for _, rule := range check.Rules() {
		c := junitCase{Name: rule.ID, Class: "ligare"}
		for _, f := range r.Findings {
			if f.Rule == rule.ID && f.Severity == check.Note {
				c.Output += f.Place() + ": " + f.Message + "\n"
			} else if f.Rule == rule.ID {
				c.Failure = append(c.Failure, junitMessage{Message: f.Place() + ": " + f.Message, Text: f.Fix})
			}
		}
		for _, n := range r.NotLooked {
			if n.Rule == rule.ID && n.Required {
				c.Error = &junitMessage{Message: n.Reason}
			} else if n.Rule == rule.ID && !looked[rule.ID] {
				c.Skipped = &junitMessage{Message: n.Reason}
			}
		}
		if len(c.Failure) == 0 && c.Error == nil && c.Skipped == nil && !looked[rule.ID] {
			continue
		}
		s.Tests++
		switch {
		case len(c.Failure) > 0:
			s.Failures++
		case c.Error != nil:
			s.Errors++
		case c.Skipped != nil:
			s.Skipped++
		}
		s.Cases = append(s.Cases, c)
	}
	if _, err := io.WriteString(w, xml.Header); err != nil {
		return err
	}
	e := xml.NewEncoder(w)
	e.Indent("", "  ")
	if err := e.Encode(s); err != nil {
		return err
	}
	_, err := io.WriteString(w, "\n")
	return err
}
