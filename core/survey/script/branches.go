package script

import (
	"strings"

	"ligare/core/survey/fact"
	"ligare/core/syntax/gradle"
)

// branch is one outcome of statements that stand under conditions.
type branch struct {
	fact  fact.Fact
	tests []gradle.Test
	in    scope
}

// excludes reports whether two branches cannot both be taken: one stands where a condition holds, the other where it
// does not.
func (b branch) excludes(c branch) bool {
	for _, t := range b.tests {
		for _, u := range c.tests {
			if t.Not != u.Not && len(t.Expr) > 0 && b.in.file == c.in.file && b.in.f.Text(t.Expr) == c.in.f.Text(u.Expr) {
				return true
			}
		}
	}
	return false
}

// when writes a branch's conditions.
func (b branch) when() string {
	var parts []string
	for _, t := range b.tests {
		text := strings.Join(strings.Fields(b.in.f.Text(t.Expr)), " ")
		switch {
		case len(t.Expr) == 0:
			text = "an exception is caught"
		case t.Not:
			text = "not (" + text + ")"
		}
		parts = append(parts, text)
	}
	return strings.Join(parts, " and ")
}

// Last gives the fact of the last of some statements that stand at the same place, as value reads each. Where
// conditions cannot be decided, each branch that can be taken is one outcome.
func Last(stmts []Stmt, value func(Stmt) fact.Fact) fact.Fact {
	var outs []branch
	for _, st := range stmts {
		if len(st.Arg()) == 0 {
			continue
		}
		holds := st.Holds()
		if holds == "false" {
			continue
		}
		b := branch{fact: value(st), tests: st.Tests, in: st.in}
		if holds == "true" {
			b.tests = nil
			outs = []branch{b}
			continue
		}
		apart := len(outs) > 0
		for i := range outs {
			if !outs[i].excludes(b) {
				apart = false
				if len(b.tests) == 1 {
					not := b.tests[0]
					not.Not = !not.Not
					outs[i].tests, outs[i].in = append(append([]gradle.Test(nil), outs[i].tests...), not), b.in
				}
			}
		}
		if apart {
			outs = append(outs, b)
		} else {
			outs = append([]branch{b}, outs...)
		}
	}
	if len(outs) == 0 {
		return fact.Fact{}
	}
	if len(outs) == 1 && len(outs[0].tests) == 0 {
		return outs[0].fact
	}
	return either(outs)
}

// either makes one fact of several branches.
func either(outs []branch) fact.Fact {
	out := outs[0].fact
	out.Value, out.Possible = nil, nil
	same := len(outs) > 1
	for _, b := range outs {
		if b.fact.Unresolved != "" {
			return b.fact
		}
		when := b.when()
		if b.fact.Known() {
			out.Possible = append(out.Possible, fact.Possible{Value: b.fact.String(), When: when})
		}
		for _, p := range b.fact.Possible {
			if when != "" {
				p.When = when + " and " + p.When
			}
			out.Possible = append(out.Possible, p)
		}
		same = same && b.fact.Known() && b.fact.String() == outs[0].fact.String()
	}
	if same {
		return outs[0].fact
	}
	return out
}
