package check

import (
	"slices"
	"strings"

	"ligare/core/binding"
	"ligare/core/cert"
	"ligare/core/ident"
	"ligare/core/sheet"
	"ligare/core/survey"
	"ligare/core/wiring"
)

// Columns of the line-up, in the order they are shown.
var Columns = []string{"service", "second service", "config file", "tree", "hosted builder", "backend's environment", "built package", "last sighting"}

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

// unbuilt is what stands for an identity that no variant builds.
const unbuilt = "no variant builds it"

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

// LineUp lays what the service has beside the config file and the tree, for each registered identity. records says what
// services were told besides; nil where it is not at hand.
func LineUp(in wiring.Input, answers []wiring.Answer, records *Records) []Row {
	rows := []Row{}
	builds := (&runner{in: Input{Input: in}}).builds()
	for _, reg := range in.Registrations {
		for i := range reg.Identities {
			one := lineUpOne(in, answers, reg, &reg.Identities[i])
			rows = append(append(rows, one...), toldRows(builds, records.registration(reg.Key()), reg, one[0])...)
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
		tree = Cell{Note: unbuilt}
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
	values := held(reg, id)
	for _, k := range sortedKeys(values) {
		cells := map[string]Cell{"service": {Value: values[k]}}
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

// toldRows lays what a service was told of an identity beside what the tree says now: the class that starts the app, its
// name, the certificate it is signed with, redirects, and the least version the service's library needs. like is a row of
// the same identity.
func toldRows(builds []build, known *Registration, reg *wiring.Registration, like Row) []Row {
	var out []Row
	var mine []build
	for _, b := range builds {
		if b.platform == like.Platform && b.bound.Identity == like.Identity && (reg.Environment == "" || reg.Environment == b.bound.Environment) {
			mine = append(mine, b)
		}
	}
	row := func(what string, service, tree Cell) {
		r := like
		r.What, r.Cells, r.Odd = what, map[string]Cell{"service": service, "tree": tree}, nil
		out = append(out, r)
	}
	cell := func(f survey.Fact) Cell {
		if !f.Known() {
			return Cell{Note: f.Say(), Where: f.Place()}
		}
		return Cell{Value: f.String(), Where: f.Place()}
	}
	var told *RegisteredIdentity
	if known != nil {
		told = known.of(like.Platform, like.Identity)
	}
	if told != nil && len(mine) > 0 {
		b := mine[0]
		for i := range reg.Sheet.Asks {
			a := &reg.Sheet.Asks[i]
			answer := told.Answers[a.ID]
			if answer == "" {
				answer = known.Answers[a.ID]
			}
			switch {
			case a.From == "identity.launcher_activity" && b.variant != nil && answer != "":
				row("launcher activity", Cell{Value: answer}, cell(b.variant.LauncherActivity))
			case a.From == "identity.display_name" && answer != "":
				row("display name", Cell{Value: answer}, cell(b.displayName()))
			case a.DigestForm() != "" && a.For(like.Platform) && b.variant != nil && (len(told.Digests) > 0 || answer != ""):
				digestRows(row, mine, a, append(slices.Clone(told.Digests), answer))
			}
		}
		if reg.Sheet.Redirects != nil {
			for _, uri := range proposed(reg, like) {
				has := Cell{Note: "not kept"}
				if slices.Contains(known.Redirects, uri) {
					has = Cell{Value: uri}
				} else if len(known.Redirects) > 0 {
					has = Cell{Value: known.Redirects[0]}
				}
				row("redirect", has, Cell{Value: uri})
			}
		}
	}
	for _, c := range reg.Sheet.Constrain {
		if c.Minimum == "" || c.Platform != like.Platform || len(mine) == 0 {
			continue
		}
		f := survey.Fact{}
		switch {
		case c.Of == "minSdk" && mine[0].variant != nil:
			f = mine[0].variant.MinSDK
		case c.Of == "deploymentTarget" && mine[0].config != nil:
			f = mine[0].config.DeploymentTarget
		default:
			continue
		}
		least := Cell{Value: "at least " + c.Minimum}
		if low, ok := wiring.Under(f.String(), c.Minimum); ok && !low { // any version above it agrees
			least = Cell{Value: f.String(), Note: least.Value}
		}
		row("minimum", least, cell(f))
	}
	return out
}

// digestRows lays the registered digest beside those of the certificates that the variants sign with.
func digestRows(row func(what string, service, tree Cell), builds []build, a *sheet.Ask, told []string) {
	for _, b := range builds {
		c := b.variant.Certificate
		if c == nil || c.SHA256 == "" {
			row("certificate of "+b.name, Cell{Value: told[0]}, Cell{Note: "not at hand", Where: b.variant.KeyStore.Say()})
			continue
		}
		own := c.SHA256
		if strings.HasPrefix(a.DigestForm(), "sha1") {
			own = c.SHA1
		}
		own = cert.FormOf(own, a.DigestForm())
		has := told[0]
		if slices.Contains(told, own) {
			has = own
		}
		row("certificate of "+b.name, Cell{Value: has}, Cell{Value: own, Where: c.File})
	}
}

// proposed gives the redirect URIs that follow from an identity.
func proposed(reg *wiring.Registration, of Row) []string {
	var out []string
	for _, p := range reg.Sheet.Redirects.Propose {
		if p.Platform != of.Platform {
			continue
		}
		uri, err := sheet.Fill(p.URI, func(k string) (string, bool) {
			if k == "identity.id" {
				return of.Identity, true
			}
			v, ok := reg.Answers[strings.TrimPrefix(k, "answer.")]
			return v, ok
		})
		if err == nil {
			out = append(out, uri)
		}
	}
	return out
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
				return Cell{Value: held(reg, id)[value], Where: a.Here.String()}, true
			case a.State == wiring.Conflicting:
				return Cell{Value: a.Actual, Where: a.Here.String()}, true
			}
			return Cell{Note: string(a.State), Where: a.Here.String()}, true
		}
	}
	return Cell{}, false
}
