package job

import (
	"context"
	"strings"

	"ligare/client"
	"ligare/client/shape"
	"ligare/core/binding"
	"ligare/core/ident"
	"ligare/core/sheet"
	"ligare/core/wiring"
)

func platform(p string) ident.Platform { return ident.Platform(p) }

// fromRecord rebuilds a registration from a tree's record.
func fromRecord(r *wiring.Record, s *sheet.Sheet) *wiring.Registration {
	reg := &wiring.Registration{Service: r.Service, Environment: r.Environment, Revision: r.Revision, Sheet: s, Values: map[string]string{}}
	for key, digest := range r.Values {
		d := strings.TrimPrefix(digest, "sha256:")
		parts := strings.SplitN(key, " ", 3)
		if len(parts) < 3 {
			reg.Values[key] = wiring.ByDigest + d
			continue
		}
		var at *wiring.Registered
		for i := range reg.Identities {
			if string(reg.Identities[i].Platform) == parts[0] && reg.Identities[i].ID == parts[1] {
				at = &reg.Identities[i]
			}
		}
		if at == nil {
			reg.Identities = append(reg.Identities, wiring.Registered{Platform: platform(parts[0]), ID: parts[1], Values: map[string]string{}})
			at = &reg.Identities[len(reg.Identities)-1]
		}
		if file, ok := strings.CutPrefix(parts[2], "file "); ok {
			if at.FileDigests == nil {
				at.FileDigests = map[string]string{}
			}
			at.FileDigests[file] = d
		} else {
			at.Values[parts[2]] = wiring.ByDigest + d
		}
	}
	return reg
}

// Attached is what attaching did.
type Attached struct {
	App     *shape.App       `json:"app"`
	Binding *binding.Binding `json:"-"`
	File    string           `json:"file"`
	Written bool             `json:"written"`
}

// Attach binds a tree to an app: every variant to the identifier it builds with, identities and environments to the
// records. A tree that is attached already keeps its file; only the records are brought up to date.
func (w *Work) Attach(ctx context.Context, c *client.Client, name, title, policy string, remember bool) (*Attached, error) {
	if err := w.NeedApp(); err != nil && !w.web() {
		return nil, err
	}
	if err := w.NeedReadable(); err != nil {
		return nil, err
	}
	out := &Attached{File: binding.File, Binding: w.Binding}
	if w.Binding == nil {
		b := binding.Propose(name, w.Survey)
		if policy != "" {
			b.ConfigFiles = policy
		}
		if remember {
			b.Server = c.Address
		}
		text, err := b.Write()
		if err != nil {
			return nil, err
		}
		if _, err := binding.Parse(text); err != nil {
			return nil, err
		}
		out.Binding = b
		w.Binding = b
		w.Tree.Put(binding.File, text)
		out.Written = true
	} else if w.Binding.App != name {
		return nil, stop("Name that app, or delete "+binding.File+" first.", "the tree is attached to the app %s already", w.Binding.App)
	}
	n := shape.NewApp{Name: name, Title: title, Environments: w.Binding.Environments()}
	for _, id := range w.Binding.Identities(w.Survey) {
		n.Identities = append(n.Identities, shape.NewIdentity{Platform: string(id.Platform), Identifier: id.ID, DisplayName: id.DisplayName})
		if n.Title == "" {
			n.Title = id.DisplayName
		}
	}
	if len(n.Identities) == 0 && len(w.Survey.Android.Modules)+len(w.Survey.IOS.Projects) == 0 {
		var err error // a web tree: the builder's app has its identities at the server
		if out.App, err = c.App(ctx, name); err != nil {
			return nil, &Problem{What: "the tree names no identifier, so the app must be in the records already", Hint: "Name one of: ligare app list.", Err: err}
		}
		return out, w.Write()
	}
	if len(n.Identities) == 0 {
		return nil, stop("See `ligare survey` for what could not be resolved.", "no variant has an identifier that could be resolved")
	}
	var err error
	if out.App, err = c.SaveApp(ctx, n); err != nil {
		return nil, err
	}
	if err := w.Write(); err != nil {
		return nil, err
	}
	return out, w.SendSurvey(ctx, c)
}
