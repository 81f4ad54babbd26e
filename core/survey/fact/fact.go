// Package fact is the form of every answer of a survey: a value with its place and the chain by which it was found, its
// possible values, or the reason why there is none.
package fact

import (
	"fmt"
	"strings"
)

// Fact is one answer. Exactly one of Value, Possible and Unresolved carries it; all empty means the tree says nothing.
type Fact struct {
	Value      *string    `json:"value"`
	File       string     `json:"file,omitempty"`
	Line       int        `json:"line,omitempty"`
	Column     int        `json:"column,omitempty"`
	Via        []string   `json:"via,omitempty"`
	Possible   []Possible `json:"possible,omitempty"`
	Unresolved string     `json:"unresolved,omitempty"`
}

// Possible is one outcome of a fact that depends on something outside the files.
type Possible struct {
	Value string `json:"value"`
	When  string `json:"when"`
}

// Of is one known value at a place; line and column are counted from 1, and 0 where the answer has none.
func Of(value, file string, line, column int, via ...string) Fact {
	return Fact{Value: &value, File: file, Line: line, Column: column, Via: via}
}

// Open is a fact that cannot be resolved, at the place that stopped it.
func Open(why, file string, line, column int) Fact {
	return Fact{Unresolved: why, File: file, Line: line, Column: column}
}

// Known reports whether there is one value.
func (f Fact) Known() bool { return f.Value != nil }

// Set reports whether the tree says anything at all.
func (f Fact) Set() bool { return f.Value != nil || len(f.Possible) > 0 || f.Unresolved != "" }

// String gives the value, or "".
func (f Fact) String() string {
	if f.Value == nil {
		return ""
	}
	return *f.Value
}

// Place gives file:line:column, as far as known.
func (f Fact) Place() string {
	if f.File == "" {
		return ""
	}
	if f.Line == 0 {
		return f.File
	}
	return fmt.Sprintf("%s:%d:%d", f.File, f.Line, f.Column)
}

// Say gives the value as a person reads it: the value, its outcomes, or why there is none.
func (f Fact) Say() string {
	switch {
	case f.Value != nil:
		return *f.Value
	case len(f.Possible) > 0:
		var parts []string
		for _, p := range f.Possible {
			parts = append(parts, p.Value+" when "+p.When)
		}
		return strings.Join(parts, ", or ")
	case f.Unresolved != "":
		return "unresolved: " + f.Unresolved
	}
	return "not set"
}

// With derives a fact from another: the value mapped, the place kept.
func (f Fact) With(change func(string) string) Fact {
	out := f
	if f.Value != nil {
		v := change(*f.Value)
		out.Value = &v
	}
	out.Possible = nil
	for _, p := range f.Possible {
		out.Possible = append(out.Possible, Possible{Value: change(p.Value), When: p.When})
	}
	return out
}

// Through adds a step in front of the chain by which a fact was resolved.
func (f Fact) Through(step string) Fact {
	if f.Unresolved != "" && len(f.Via) > 5 { // a circle says nothing new
		return f
	}
	f.Via = append([]string{step}, f.Via...)
	return f
}

// Either is a fact with two outcomes under a condition that cannot be decided. Outcomes that are not known make the
// whole unresolved; equal ones are one value.
func Either(cond string, yes, no Fact) Fact {
	switch {
	case yes.Unresolved != "":
		return yes
	case no.Unresolved != "":
		return no
	case yes.Known() && no.Known() && *yes.Value == *no.Value:
		return yes
	}
	out := yes
	out.Value, out.Possible = nil, nil
	join := func(a, b string) string {
		if b == "" {
			return a
		}
		return a + " and " + b
	}
	add := func(f Fact, when string) {
		if f.Known() {
			out.Possible = append(out.Possible, Possible{Value: *f.Value, When: when})
		}
		for _, p := range f.Possible {
			out.Possible = append(out.Possible, Possible{Value: p.Value, When: join(when, p.When)})
		}
	}
	add(yes, cond)
	add(no, "not "+cond)
	return out
}

// Join concatenates the texts of facts; the outcome is at the first one's place.
func Join(parts ...Fact) Fact {
	var out Fact
	for i, p := range parts {
		switch {
		case p.Unresolved != "":
			return p
		case i == 0:
			out = p
			continue
		case out.Known() && p.Known():
			v := *out.Value + *p.Value
			out.Value = &v
		default:
			var both []Possible
			for _, a := range out.outcomes() {
				for _, b := range p.outcomes() {
					when := a.When
					if b.When != "" {
						if when != "" {
							when += " and "
						}
						when += b.When
					}
					both = append(both, Possible{Value: a.Value + b.Value, When: when})
				}
			}
			out.Value, out.Possible = nil, both
		}
		out.Via = append(append([]string(nil), out.Via...), p.Via...)
	}
	return out
}

func (f Fact) outcomes() []Possible {
	if f.Known() {
		return []Possible{{Value: *f.Value}}
	}
	return f.Possible
}
