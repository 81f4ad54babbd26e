package check

import (
	"sort"

	"ligare/core/binding"
	"ligare/core/ident"
	"ligare/core/sheet"
	"ligare/core/survey"
	"ligare/core/wiring"
)

// Columns of the line-up that exist so far, in the order they are shown.
var Columns = []string{"service", "config file", "tree", "last sighting"}

// Cell is what one holder says: the value and where it was read. Absent cells say why.
type Cell struct {
	Value string `json:"value"`
	Where string `json:"where,omitempty"`
	Note  string `json:"note,omitempty"`
}

// Row is one thing that must agree everywhere, for one identity.
type Row struct {
	Service     string          `json:"service"`
	Environment string          `json:"environment"`
	Platform    ident.Platform  `json:"platform"`
	Identity    string          `json:"identity"`
	Variants    []string        `json:"variants,omitempty"`
	What        string          `json:"what"`
	Cells       map[string]Cell `json:"cells"`
	Agrees      bool            `json:"agrees"`
	Odd         []string        `json:"odd,omitempty"` // columns that disagree with the service
}

// Judge marks, in every row, the columns that disagree with what the service has (or, without it, with the first value).
func Judge(rows []Row) {
	for i := range rows {
		r := &rows[i]
		r.Odd, r.Agrees = nil, true
		want, has := "", false
		for _, c := range Columns {
			if cell, ok := r.Cells[c]; ok && cell.Value != "" {
				want, has = cell.Value, true
				break
			}
		}
		for _, c := range Columns {
			cell, ok := r.Cells[c]
			if ok && has && cell.Value != want && (cell.Value != "" || cell.Note != "") {
				r.Odd = append(r.Odd, c)
				r.Agrees = false
			}
		}
	}
}

// LineUp lays what the service has beside the config file and the tree, for each registered identity.
func LineUp(in wiring.Input, answers []wiring.Answer) []Row {
	rows := []Row{}
	for _, reg := range in.Registrations {
		for i := range reg.Identities {
			rows = append(rows, lineUpOne(in, answers, reg, &reg.Identities[i])...)
		}
	}
	Judge(rows)
	return rows
}

func lineUpOne(in wiring.Input, answers []wiring.Answer, reg *wiring.Registration, id *wiring.Registered) []Row {
	var variants []string
	var tree Cell
	visit := func(variant string, f survey.Fact, b binding.Bound) {
		if b.Identity != id.ID || reg.Environment != "" && b.Environment != reg.Environment {
			return
		}
		variants = append(variants, variant)
		c := Cell{Value: f.String(), Where: f.Place()}
		if !f.Known() {
			c.Note = f.Say()
		}
		if tree.Where == "" || tree.Value == id.ID { // one that disagrees is the one to show
			tree = c
		}
	}
	if id.Platform == ident.Android {
		for _, m := range in.Survey.Android.Modules {
			for _, v := range m.Variants {
				visit(v.Name, v.ApplicationID, in.Binding.Android[m.Dir][v.Name])
			}
		}
	} else {
		for _, p := range in.Survey.IOS.Projects {
			for _, t := range p.Targets {
				for _, c := range t.Configurations {
					visit(c.Name, c.BundleID, in.Binding.IOS[binding.TargetKey(p, t)][c.Name])
				}
			}
		}
	}
	if len(variants) == 0 {
		tree = Cell{Note: "no variant builds it"}
	}
	row := func(what string, cells map[string]Cell) Row {
		return Row{Service: reg.Service, Environment: reg.Environment, Platform: id.Platform, Identity: id.ID, Variants: variants, What: what, Cells: cells}
	}
	file, where := fileCells(in, answers, reg, id)
	first := map[string]Cell{"service": {Value: id.ID}, "tree": tree}
	if c, ok := file["identity"]; ok {
		first["config file"] = c
	} else if where.Note != "" {
		first["config file"] = where
	}
	name := "application ID"
	if id.Platform == ident.IOS {
		name = "bundle ID"
	}
	rows := []Row{row(name, first)}
	var names []string
	for k := range id.Values {
		names = append(names, k)
	}
	sort.Strings(names)
	for _, k := range names {
		cells := map[string]Cell{"service": {Value: id.Values[k]}}
		if c, ok := file[k]; ok {
			cells["config file"] = c
		}
		if c, ok := treeCell(answers, reg, id, k); ok {
			cells["tree"] = c
		}
		title := k
		if v := reg.Sheet.Value(k); v != nil {
			title = v.Title
		}
		rows = append(rows, row(title, cells))
	}
	if want, ok := issuedRevision(reg, id); ok {
		cells := map[string]Cell{"service": {Value: want}}
		if c, ok := file["revision"]; ok {
			cells["config file"] = c
		}
		rows = append(rows, row("revision", cells))
	}
	return rows
}

func issuedRevision(reg *wiring.Registration, id *wiring.Registered) (string, bool) {
	f := reg.Sheet.FileFor(id.Platform)
	if f == nil || id.Files[f.ID] == nil {
		return "", false
	}
	got, err := f.Contents(id.Files[f.ID])
	if err != nil {
		return "", false
	}
	r, ok := sheet.One(got, "revision")
	return r.Value, ok
}

// fileCells reads the config file that stands in the tree for an identity.
func fileCells(in wiring.Input, answers []wiring.Answer, reg *wiring.Registration, id *wiring.Registered) (map[string]Cell, Cell) {
	f := reg.Sheet.FileFor(id.Platform)
	if f == nil {
		return nil, Cell{}
	}
	for _, a := range answers {
		if a.Registration != reg.Key() || a.Place != "config-file" || !a.For(id) {
			continue
		}
		if a.State == wiring.Absent {
			return nil, Cell{Note: "missing", Where: a.Here.File}
		}
		src, err := in.Tree.Read(a.FilePath(in))
		if err != nil {
			return nil, Cell{Note: "not where it belongs", Where: a.Here.String()}
		}
		got, err := f.Contents(src)
		if err != nil {
			return nil, Cell{Note: "unreadable", Where: a.Here.String()}
		}
		out := map[string]Cell{}
		for k, rs := range got {
			if len(rs) > 0 {
				out[k] = Cell{Value: rs[0].Value, Where: wiring.Place{File: a.FilePath(in), Line: rs[0].Line, Column: rs[0].Column}.String()}
			}
		}
		return out, Cell{}
	}
	return nil, Cell{}
}

// treeCell finds an issued value where a placement of its own put it.
func treeCell(answers []wiring.Answer, reg *wiring.Registration, id *wiring.Registered, value string) (Cell, bool) {
	for _, p := range reg.Sheet.Placements {
		if p.Platform != id.Platform || p.With["value"] != "${value."+value+"}" {
			continue
		}
		for _, a := range answers {
			if a.Registration != reg.Key() || a.Placement != p.ID || !a.For(id) {
				continue
			}
			switch {
			case a.Good():
				return Cell{Value: id.Values[value], Where: a.Here.String()}, true
			case a.State == wiring.Conflicting:
				return Cell{Value: a.Actual, Where: a.Here.String()}, true
			}
			return Cell{Note: string(a.State), Where: a.Here.String()}, true
		}
	}
	return Cell{}, false
}
