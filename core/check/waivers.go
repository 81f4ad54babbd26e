package check

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"path"
	"strings"
	"time"

	"go.yaml.in/yaml/v3"
)

// WaiverFile is where accepted findings are kept, from the root of a tree; StandingFile holds what stood in an old tree
// when checking began.
const (
	WaiverFile   = ".ligare/waivers.yaml"
	StandingFile = ".ligare/standing.yaml"
)

// Waiver is an accepted finding: which, why, by whom, and until when.
type Waiver struct {
	Rule        string `yaml:"rule" json:"rule"`
	At          string `yaml:"at,omitempty" json:"at,omitempty"` // file, or folder with a slash at its end; "" for anywhere
	Variant     string `yaml:"variant,omitempty" json:"variant,omitempty"`
	Fingerprint string `yaml:"fingerprint,omitempty" json:"fingerprint,omitempty"`
	Reason      string `yaml:"reason" json:"reason"`
	Who         string `yaml:"who" json:"who"`
	Until       string `yaml:"until" json:"until"` // YYYY-MM-DD, the last day it holds
	Line        int    `yaml:"-" json:"-"`
	end         time.Time
}

// Ended reports whether a waiver no longer holds.
func (w *Waiver) Ended(now time.Time) bool { return !now.Before(w.end.AddDate(0, 0, 1)) }

func (w *Waiver) covers(f *Finding) bool {
	if w.Rule != f.Rule || w.Fingerprint != "" && w.Fingerprint != f.Fingerprint {
		return false
	}
	if w.Variant != "" && !strings.Contains(", "+f.Variant+", ", ", "+w.Variant+", ") {
		return false
	}
	return w.At == "" || w.At == f.File || strings.HasSuffix(w.At, "/") && strings.HasPrefix(f.File, w.At)
}

// ParseWaivers reads a waiver file: format 1, a list of waivers, each with rule, reason, who and until. Errors name the
// line.
func ParseWaivers(src []byte) ([]*Waiver, error) {
	var f struct {
		Format  int         `yaml:"format"`
		Waivers []yaml.Node `yaml:"waivers"`
	}
	d := yaml.NewDecoder(bytes.NewReader(src))
	d.KnownFields(true)
	if err := d.Decode(&f); errors.Is(err, io.EOF) {
		return nil, nil
	} else if err != nil {
		return nil, fmt.Errorf("%s: %w", WaiverFile, err)
	}
	if f.Format != 1 {
		return nil, fmt.Errorf("%s:1: format is %d; this version reads 1", WaiverFile, f.Format)
	}
	var out []*Waiver
	for i := range f.Waivers {
		n := &f.Waivers[i]
		fail := func(format string, args ...any) error {
			return fmt.Errorf("%s:%d: %s", WaiverFile, n.Line, fmt.Sprintf(format, args...))
		}
		w := &Waiver{Line: n.Line}
		if n.Kind != yaml.MappingNode {
			return nil, fail("a waiver is a mapping with rule, reason, who and until")
		}
		for j := 0; j < len(n.Content); j += 2 {
			switch k := n.Content[j]; k.Value {
			case "rule", "at", "variant", "fingerprint", "reason", "who", "until":
			default:
				return nil, fmt.Errorf("%s:%d:%d: a waiver has no %q", WaiverFile, k.Line, k.Column, k.Value)
			}
		}
		if err := n.Decode(w); err != nil {
			return nil, fmt.Errorf("%s: %w", WaiverFile, err)
		}
		switch {
		case RuleByID(w.Rule) == nil:
			return nil, fail("there is no rule %q", w.Rule)
		case strings.TrimSpace(w.Reason) == "" || strings.TrimSpace(w.Who) == "":
			return nil, fail("the waiver of %s says no reason, or not who accepted it", w.Rule)
		case w.At != "" && (path.Clean(w.At) != strings.TrimSuffix(w.At, "/") || path.IsAbs(w.At) || strings.HasPrefix(w.At, "..")):
			return nil, fail("%q is no path from the tree's root", w.At)
		}
		var err error
		if w.end, err = time.Parse(time.DateOnly, w.Until); err != nil {
			return nil, fail("until is %q; write the last day it holds as YYYY-MM-DD", w.Until)
		}
		out = append(out, w)
	}
	return out, nil
}

// AddWaiver writes one more waiver at the end of a file, keeping the rest byte for byte.
func AddWaiver(src []byte, w Waiver) ([]byte, error) {
	if len(bytes.TrimSpace(src)) == 0 {
		src = []byte("# Findings that are accepted: why, by whom, and until when. Committed.\nformat: 1\nwaivers:\n")
	}
	had, err := ParseWaivers(src)
	if err != nil {
		return nil, err
	}
	var b strings.Builder
	for i, kv := range [][2]string{{"rule", w.Rule}, {"at", w.At}, {"variant", w.Variant}, {"fingerprint", w.Fingerprint}, {"reason", w.Reason}, {"who", w.Who}, {"until", w.Until}} {
		if kv[1] == "" {
			continue
		}
		text, err := yaml.Marshal(kv[1])
		if err != nil {
			return nil, err
		}
		lead := "    "
		if i == 0 {
			lead = "  - "
		}
		b.WriteString(lead + kv[0] + ": " + string(text))
	}
	out := bytes.Clone(src)
	if !bytes.HasSuffix(out, []byte("\n")) {
		out = append(out, '\n')
	}
	out = append(out, b.String()...)
	now, err := ParseWaivers(out)
	if err != nil {
		return nil, err
	}
	if len(now) != len(had)+1 {
		return nil, fmt.Errorf("%s: the list of waivers does not stand at its end; add the waiver by hand", WaiverFile)
	}
	return out, nil
}

// Standing is what was found when checking of an old tree began: it does not fail, and what goes away is said.
type Standing struct {
	Format   int             `yaml:"format"`
	Accepted string          `yaml:"accepted"` // YYYY-MM-DD
	Findings []StandingEntry `yaml:"findings"`
}

// StandingEntry is one of them.
type StandingEntry struct {
	Fingerprint string `yaml:"fingerprint"`
	Rule        string `yaml:"rule"`
	File        string `yaml:"file,omitempty"`
	Message     string `yaml:"message"`
}

// ParseStanding reads what stood.
func ParseStanding(src []byte) (*Standing, error) {
	s := &Standing{}
	d := yaml.NewDecoder(bytes.NewReader(src))
	d.KnownFields(true)
	if err := d.Decode(s); err != nil {
		return nil, fmt.Errorf("%s: %w", StandingFile, err)
	}
	if s.Format != 1 {
		return nil, fmt.Errorf("%s:1: format is %d; this version reads 1", StandingFile, s.Format)
	}
	return s, nil
}

// Accept writes what was found as what stands: errors and warnings, in the order of their fingerprints.
func Accept(r *Result, now time.Time) ([]byte, error) {
	s := Standing{Format: 1, Accepted: now.UTC().Format(time.DateOnly), Findings: []StandingEntry{}}
	for _, f := range append(append([]Finding{}, r.Findings...), r.Standing...) {
		if f.Severity != Note && f.Rule != "waiver-ended" && f.Rule != "waiver-unused" {
			s.Findings = append(s.Findings, StandingEntry{f.Fingerprint, f.Rule, f.File, f.Message})
		}
	}
	sortBy(s.Findings, func(e StandingEntry) string { return e.Fingerprint })
	out, err := yaml.Marshal(s)
	return append([]byte("# What ligare check found when it was first run here. These do not fail; what is new does. Committed.\n"), out...), err
}

// setAside takes waived findings and those that stood before out of a result, and reports waivers that are used up.
func (r *runner) setAside(waivers []*Waiver, standing *Standing) {
	used := map[*Waiver]bool{}
	ended := map[*Waiver]bool{}
	var left []Finding
	for _, f := range r.out.Findings {
		var by *Waiver
		for _, w := range waivers {
			if !w.covers(&f) {
				continue
			}
			if w.Ended(r.in.Now) {
				ended[w] = true
			} else {
				by = w
			}
			used[w] = true
		}
		if by != nil {
			r.out.Waived = append(r.out.Waived, Waived{f, *by})
			continue
		}
		left = append(left, f)
	}
	r.out.Findings = left
	for _, w := range waivers {
		f := Finding{Rule: "waiver-unused", File: WaiverFile, Line: w.Line, Column: 5, Actual: w.Rule}
		switch {
		case ended[w]:
			f.Rule, f.Actual = "waiver-ended", w.Until
			f.Message = fmt.Sprintf("The waiver of %s by %s ended on %s, and what it covered is still there", w.Rule, w.Who, w.Until)
		case used[w] || !r.can(w.Rule) || !r.can(f.Rule):
			continue
		default:
			f.Message = fmt.Sprintf("The waiver of %s by %s covers nothing any more", w.Rule, w.Who)
		}
		r.add(f, nil, w.Rule, w.At, w.Fingerprint, w.Variant)
	}
	if standing == nil {
		return
	}
	stood := map[string]bool{}
	for _, e := range standing.Findings {
		stood[e.Fingerprint] = true
	}
	left = nil
	for _, f := range r.out.Findings {
		if stood[f.Fingerprint] && f.Severity != Note {
			r.out.Standing = append(r.out.Standing, f)
			delete(stood, f.Fingerprint)
			continue
		}
		left = append(left, f)
	}
	r.out.Findings = left
	for _, e := range standing.Findings {
		if stood[e.Fingerprint] {
			r.out.Gone = append(r.out.Gone, e.Rule+" "+e.File)
		}
	}
}

// Waived is a finding that was accepted.
type Waived struct {
	Finding
	Waiver Waiver `json:"waiver"`
}
