package sheet

import "strings"

// Intake is a place at a service where a value belongs that another service supplies.
type Intake struct {
	Slot  string // answer NAME, redirect NAME, field NAME
	Kind  string // answer, redirect, field
	Name  string // of the ask or field; of the supplied value for a redirect
	Takes string // the name under which it is supplied
	Title string
	When  string // a feature that makes it needed
}

// Intakes lists them, in the order of the sheet.
func (s *Sheet) Intakes() []Intake {
	var out []Intake
	for _, a := range s.Asks {
		if name := a.Supplied(); name != "" {
			out = append(out, Intake{"answer " + a.ID, "answer", a.ID, name, a.Title, a.When})
		}
	}
	if s.Redirects != nil {
		for _, name := range s.Redirects.From {
			out = append(out, Intake{"redirect " + name, "redirect", name, name, "Redirect URI", ""})
		}
	}
	if s.Builder != nil {
		for _, f := range s.Builder.Fields {
			if f.Takes != "" {
				out = append(out, Intake{"field " + f.ID, "field", f.ID, f.Takes, strings.TrimSpace(f.Group + ": " + f.Title), ""})
			}
		}
	}
	return out
}

// Supplier gives the value that a sheet supplies under a name, or nil.
func (s *Sheet) Supplier(name string) *Value {
	return find(s.Issues.Values, func(v *Value) bool { return v.Supplies == name })
}
