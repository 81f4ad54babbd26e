package job

import (
	"context"
	"fmt"
	"strings"

	"ligare/client"
	"ligare/core/binding"
	"ligare/core/ident"
	"ligare/core/rename"
	"ligare/core/wiring"
)

// Renamed is a plan to change an identifier.
type Renamed struct {
	*rename.Result
	Platform string   `json:"platform"`
	Changes  []Change `json:"changes"`
	Next     []string `json:"next"`
}

// Rename plans changing an application ID or bundle ID everywhere it stands. One that was published is refused: users'
// phones would take the new one for another app.
func (w *Work) Rename(ctx context.Context, c *client.Client, old, to, platform string) (*Renamed, error) {
	if err := w.NeedBinding(); err != nil {
		return nil, err
	}
	var fit []ident.Platform
	for _, id := range w.Binding.Identities(w.Survey) {
		if id.ID == old && (platform == "" || string(id.Platform) == platform) && !strings.Contains(join(texts(fit)), string(id.Platform)) {
			fit = append(fit, id.Platform)
		}
	}
	switch {
	case len(fit) == 0:
		var have []string
		for _, id := range w.Binding.Identities(w.Survey) {
			have = append(have, string(id.Platform)+" "+id.ID)
		}
		return nil, stop("It has: "+join(unique(have))+".", "no variant of the tree is bound to %s", old)
	case len(fit) > 1:
		return nil, stop("Say which with --platform; the other stays what it is.", "%s is the identifier on %s", old, join(texts(fit)))
	}
	app, err := c.App(ctx, w.Binding.App)
	if err != nil {
		return nil, err
	}
	for _, i := range app.Identities {
		if i.Platform == string(fit[0]) && i.Published != nil && (i.Identifier == old || strings.HasPrefix(i.Identifier, old+".")) {
			return nil, stop("Make a new app for a new identifier: ligare app attach NAME, in a tree of its own.", "%s was published %s; an identifier that users have never changes", i.Identifier, i.Published.Format("2006-01-02"))
		}
	}
	regs, _, err := w.Registrations(ctx, c, "", "")
	if err != nil {
		return nil, err
	}
	o := rename.Options{Platform: fit[0], Old: old, New: to}
	in := w.Input(regs)
	out := &Renamed{Platform: string(fit[0]), Next: []string{}}
	for _, reg := range regs {
		files, err := wiring.ConfigFiles(in, reg)
		if err != nil {
			return nil, err
		}
		for _, f := range files {
			o.Fetched = append(o.Fetched, f.Path)
		}
	}
	if out.Result, err = rename.Plan(w.Tree, w.Survey, w.Binding, o); err != nil {
		return nil, &Problem{What: "it cannot be renamed", Hint: "Nothing was written.", Err: err}
	}
	for _, reg := range regs {
		follows := false
		for _, p := range out.Derived {
			for _, i := range reg.Identities {
				follows = follows || i.Platform == fit[0] && i.ID == p.Old
			}
		}
		if !follows {
			continue
		}
		env := ""
		if reg.Environment != "" {
			env = " --environment " + reg.Environment
		}
		out.Next = append(out.Next, fmt.Sprintf("register the new identifier: ligare register %s%s; then ligare refresh %s%s", reg.Service, env, reg.Service, env))
	}
	for _, p := range out.Derived {
		out.Next = append(out.Next, fmt.Sprintf("when no registration holds it any more: ligare app drop %s %s --platform %s", w.Binding.App, p.Old, fit[0]))
	}
	why := map[string][]string{}
	for _, n := range w.Tree.Changed() {
		if n == binding.File {
			why[n] = []string{"the variants build with another identifier now"}
		} else if strings.HasPrefix(n, wiring.Folder) {
			why[n] = []string{"the record of what was placed goes with it"}
		}
	}
	out.Changes = w.Changes(why)
	return out, nil
}

func texts(list []ident.Platform) []string {
	var out []string
	for _, p := range list {
		out = append(out, string(p))
	}
	return out
}

// Follow brings the records up to date with what a tree builds now.
func (w *Work) Follow(ctx context.Context, c *client.Client) error {
	now, err := Open(w.Root)
	if err != nil {
		return err
	}
	_, err = now.Attach(ctx, c, now.Binding.App, "", "", false)
	return err
}
