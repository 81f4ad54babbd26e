package check

import (
	"slices"
	"strings"

	"ligare/core/wiring"
)

// Feed is a value that one registration supplies, and what the registration that takes it has in its place.
type Feed struct {
	Service, Environment string // that issued it
	Title                string // of the value
	Value                string // as it was issued; "" for one that must not be shown
	Column               string // "second service", or "hosted builder"
	Has                  Cell
}

// Kept stands for a value that is not shown.
const Kept = "as issued, not shown"

// Supplied lays what was carried to a second service or into a hosted builder's fields beside the rows of where it came
// from. A value that no row shows, because it must not ship, gets a row of its own.
func Supplied(rows []Row, feeds []Feed) []Row {
	for _, f := range feeds {
		met := false
		for i := range rows {
			if r := &rows[i]; r.Service == f.Service && r.Environment == f.Environment && r.What == f.Title {
				r.Cells[f.Column], met = f.Has, true
			}
		}
		if met {
			continue
		}
		value := f.Value
		if value == "" {
			value = Kept
		}
		rows = append(rows, Row{Service: f.Service, Environment: f.Environment, What: f.Title, Cells: map[string]Cell{"service": {Value: value}, f.Column: f.Has}})
	}
	return rows
}

// BackendValue is a value that a service expects in a backend's environment, and what is set there.
type BackendValue struct {
	Service, Environment string
	Title, Name          string // of the value, of the variable
	Cell                 Cell
}

// Backend lays what a backend's environment holds beside the rows of the services that issued it.
func Backend(rows []Row, values []BackendValue) []Row {
	for _, v := range values {
		met := false
		for i := range rows {
			if r := &rows[i]; r.Service == v.Service && r.Environment == v.Environment && r.What == v.Title {
				r.Cells["backend's environment"], met = v.Cell, true
			}
		}
		if !met {
			rows = append(rows, Row{Service: v.Service, Environment: v.Environment, What: v.Title, Cells: map[string]Cell{"service": {Value: Kept}, "backend's environment": v.Cell}})
		}
	}
	Judge(rows)
	return rows
}

// Held gives, of the line-up's columns, those that hold something in some row.
func Held(rows []Row) []string {
	return slices.DeleteFunc(slices.Clone(Columns), func(c string) bool {
		return !slices.ContainsFunc(rows, func(r Row) bool { _, ok := r.Cells[c]; return ok })
	})
}

// Subject names what a row is about.
func (r Row) Subject() string {
	if r.Identity == "" {
		return "every identity"
	}
	return strings.TrimSpace(string(r.Platform) + " " + r.Identity)
}

// held gives the client values that an identity holds, those of the whole registration among them.
func held(reg *wiring.Registration, id *wiring.Registered) map[string]string {
	out := map[string]string{}
	for name, text := range reg.Values {
		if v := reg.Sheet.Value(name); v != nil && (v.Platform == "" || v.Platform == id.Platform) {
			out[name] = text
		}
	}
	for name, text := range id.Values {
		out[name] = text
	}
	return out
}

// OfPackage turns the line-up of a package's own tree into one of its column: what stands in the package, wherever in it.
// Rows of identities that are others than the package's are left out.
func OfPackage(rows []Row) []Row {
	group := func(r Row) string {
		return r.Service + " " + r.Environment + " " + string(r.Platform) + " " + r.Identity
	}
	others := map[string]bool{}
	for _, r := range rows {
		if c, ok := r.Cells["tree"]; ok && noBuild(c) {
			others[group(r)] = true
		}
	}
	rows = slices.DeleteFunc(rows, func(r Row) bool { return others[group(r)] })
	for i := range rows {
		cells := map[string]Cell{}
		for name, c := range rows[i].Cells {
			switch name {
			case "tree":
				cells["built package"] = c
			case "config file":
				if _, own := rows[i].Cells["tree"]; !own {
					cells["built package"] = c
				}
			default:
				cells[name] = c
			}
		}
		rows[i].Cells = cells
	}
	Judge(rows)
	return rows
}

// WithPackage lays a package's column beside the rows of a tree. Rows that the tree's line-up lacks are added.
func WithPackage(rows, built []Row) []Row {
	for _, b := range built {
		cell, says := b.Cells["built package"]
		i := slices.IndexFunc(rows, func(r Row) bool {
			return r.Service == b.Service && r.Environment == b.Environment && r.Platform == b.Platform && r.Identity == b.Identity && r.What == b.What
		})
		switch {
		case !says:
		case i >= 0:
			rows[i].Cells["built package"] = cell
		default:
			rows = append(rows, b)
		}
	}
	Judge(rows)
	return rows
}

// noBuild reports whether a cell says only that the package is that of another identity.
func noBuild(c Cell) bool { return c.Value == "" && c.Note == unbuilt }
