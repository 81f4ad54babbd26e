package records

import (
	"context"
	"slices"
	"sort"

	"ligare/client/shape"
	"ligare/core/sheet"
	"ligare/service/registrar"
)

// Builder gives a hosted builder's fields with what belongs there, and its builds with what changed since each.
func (r *Records) Builder(ctx context.Context, c Caller, id string) (*shape.Builder, error) {
	g, err := r.row(ctx, c, id)
	if err != nil {
		return nil, err
	}
	s, err := r.sheetOf(ctx, c.Team, g.service)
	if err != nil {
		return nil, err
	}
	if s.Builder == nil {
		return nil, fail(BadInput, "Its sheet would name the fields.", "%s is no hosted builder", s.Title)
	}
	remote, _, err := r.remote(ctx, c.Team, s)
	if err != nil {
		return nil, err
	}
	now, err := registrar.To(remote).Get(ctx, g.remote)
	if err != nil {
		return nil, explain(s, err)
	}
	builds, changed, err := registrar.To(remote).Builds(ctx, g.remote)
	if err != nil {
		return nil, explain(s, err)
	}
	out := &shape.Builder{Fields: []shape.BuilderField{}, Builds: []shape.Build{}}
	if !changed.IsZero() && changed.Year() > 1 {
		out.Changed = &changed
	}
	connections, err := r.Connections(ctx, c, g.appName)
	if err != nil {
		return nil, err
	}
	list, err := r.suppliers(ctx, c, g.app)
	if err != nil {
		return nil, err
	}
	rebuild := map[string]bool{}
	for _, f := range s.Builder.Fields {
		rebuild[f.ID] = f.Rebuild
		x := shape.BuilderField{ID: f.ID, Title: f.Title, Group: f.Group, Value: now.Fields[f.ID], Rebuild: f.Rebuild}
		for _, k := range connections {
			if k.Registration == id && k.Slot == "field "+f.ID {
				belongs(&x, k, list, now.Fields[f.ID])
			}
		}
		out.Fields = append(out.Fields, x)
	}
	for _, b := range builds {
		x := shape.Build{ID: b.ID, At: b.At, Platform: b.Platform, Identifier: b.Identifier, Digest: b.Digest, Fields: b.Fields}
		for f, v := range now.Fields {
			if rebuild[f] && b.Fields[f] != v {
				x.Old = append(x.Old, f)
			}
		}
		sort.Strings(x.Old)
		out.Builds = append(out.Builds, x)
	}
	slices.SortFunc(out.Builds, func(a, b shape.Build) int { return b.At.Compare(a.At) })
	out.Stale = out.Changed != nil && (len(out.Builds) == 0 || len(out.Builds[0].Old) > 0)
	return out, nil
}

// belongs says what should stand in a field, if it may be shown.
func belongs(x *shape.BuilderField, k shape.Connection, list []*supplier, has string) {
	for _, s := range list {
		if s.registration.String() == k.Supplier && s.value.ID == k.Value && s.value.Exposure == sheet.Client {
			x.Belongs, x.From = s.text, s.from()
		}
	}
	switch {
	case x.Belongs == "":
		x.Say = k.Say
	case x.Belongs == has:
		x.Say = "agrees"
	case has == "":
		x.Say = "not typed yet"
	default:
		x.Say = "another value than is supplied"
	}
}

// SetField types a field of a hosted builder's settings.
func (r *Records) SetField(ctx context.Context, c Caller, id, field string, in shape.SetField) (*shape.Builder, error) {
	g, s, remote, release, err := r.registered(ctx, c, id)
	if err != nil {
		return nil, err
	}
	defer release()
	if s.Builder == nil {
		return nil, fail(BadInput, "Its sheet would name the fields.", "%s is no hosted builder", s.Title)
	}
	i := slices.IndexFunc(s.Builder.Fields, func(f sheet.BuilderField) bool { return f.ID == field })
	if i < 0 {
		var names []string
		for _, f := range s.Builder.Fields {
			names = append(names, f.ID)
		}
		return nil, fail(Missing, "It has: "+join(names)+".", "%s has no field %q", s.Title, field)
	}
	clean := sheet.Clean(in.Value)
	if f := s.Builder.Fields[i]; clean.Value != "" && !sheet.Match(f.Grammar, clean.Value) {
		return nil, fail(BadInput, "It must match "+f.Grammar+".", "%s: %q has not the form %s wants", f.Title, clean.Value, s.Title)
	}
	now, err := registrar.To(remote).SetField(ctx, g.remote, field, clean.Value)
	if err != nil {
		return nil, explain(s, err)
	}
	if err := r.absorb(ctx, c, s, remote, g, now, "field "+field+" typed"); err != nil {
		return nil, explain(s, err)
	}
	return r.Builder(ctx, c, id)
}
