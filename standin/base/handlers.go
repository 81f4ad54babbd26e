package base

import (
	"net/http"
	"slices"
	"time"
)

func (s *Service) addIdentity(q *Request, r *Registration) any {
	var in wantedIdentity
	if err := Read(q.Request, &in); err != nil {
		return Stop(400, "unreadable", "%v", err)
	}
	if r.Find(in.Platform, in.Identifier) != nil {
		return nil
	}
	if s.OneOnly {
		return Stop(422, "one-only", "%s registers one app at a time.", s.Name)
	}
	if n := s.join(r, in); n != nil {
		return n
	}
	if s.After != nil {
		if n := s.After(q.Data, r); n != nil {
			return n
		}
	}
	return true
}

func (s *Service) dropIdentity(q *Request, r *Registration) any {
	for k, i := range r.Identities {
		if i.Platform == q.PathValue("platform") && i.Identifier == q.PathValue("identifier") {
			r.Identities = slices.Delete(r.Identities, k, k+1)
			return true
		}
	}
	return nil
}

func (s *Service) addDigest(q *Request, r *Registration) any {
	var in struct{ Platform, Identifier, Digest string }
	if err := Read(q.Request, &in); err != nil {
		return Stop(400, "unreadable", "%v", err)
	}
	i := r.Find(in.Platform, in.Identifier)
	if i == nil {
		return Stop(404, s.Missing, "%s is not part of this registration.", in.Identifier)
	}
	if slices.Contains(i.Digests, in.Digest) {
		return nil
	}
	if n := s.Digest(i, in.Digest); n != nil {
		return n
	}
	i.Digests = append(i.Digests, in.Digest)
	return true
}

func (s *Service) answer(q *Request, r *Registration) any {
	var in struct{ Value, Platform, Identifier string }
	if err := Read(q.Request, &in); err != nil {
		return Stop(400, "unreadable", "%v", err)
	}
	name, to := q.PathValue("name"), r.Answers
	if in.Platform != "" {
		i := r.Find(in.Platform, in.Identifier)
		if i == nil {
			return Stop(404, s.Missing, "%s is not part of this registration.", in.Identifier)
		}
		to = i.Answers
	}
	if to[name] == in.Value {
		return nil
	}
	if slices.Contains(s.Fixed, name) {
		return Stop(409, "answer-fixed", "%s cannot be changed once %s knows it.", name, s.Name)
	}
	to[name] = in.Value
	if n := s.Check(r); n != nil {
		return n
	}
	return true
}

func (s *Service) feature(q *Request, r *Registration) any {
	var in struct{ Enabled bool }
	if err := Read(q.Request, &in); err != nil {
		return Stop(400, "unreadable", "%v", err)
	}
	name := q.PathValue("name")
	was := r.Features[name]
	if n := s.set(r, name, in.Enabled); n != nil {
		return n
	}
	if was == in.Enabled {
		return nil
	}
	return true
}

func (s *Service) redirects(q *Request, r *Registration) any {
	var in struct{ Redirects []string }
	if err := Read(q.Request, &in); err != nil {
		return Stop(400, "unreadable", "%v", err)
	}
	if slices.Equal(in.Redirects, r.Redirects) {
		return nil
	}
	if n := s.setRedirects(r, in.Redirects); n != nil {
		return n
	}
	return true
}

func (s *Service) newKey(q *Request, r *Registration) any {
	var in struct {
		Name, Platform, Identifier, Label string
		Ends                              *time.Time
	}
	if err := Read(q.Request, &in); err != nil {
		return Stop(400, "unreadable", "%v", err)
	}
	i := r.Find(in.Platform, in.Identifier)
	if in.Platform != "" && i == nil {
		return Stop(404, s.Missing, "%s is not part of this registration.", in.Identifier)
	}
	v := s.Key(r, i, in.Name)
	if v == "" {
		return Stop(404, "key-unknown", "%s has no key called %q.", s.Name, in.Name)
	}
	if in.Ends != nil && in.Ends.Before(time.Now()) {
		return Stop(422, "key-ended", "A key cannot end before it begins.")
	}
	r.Keys = append(r.Keys, &Key{ID: s.Prefix + "k-" + Hex(4), Name: in.Name, Platform: in.Platform, Identifier: in.Identifier, Label: in.Label, Value: v, Created: time.Now().UTC(), Ends: in.Ends})
	if in.Label == "" { // the key, not one beside it
		if i != nil {
			i.Values[in.Name] = v
		} else {
			r.Values[in.Name] = v
		}
	}
	return true
}

// FirstKey keeps a value that was just minted as a key that can be exchanged.
func (r *Registration) FirstKey(prefix, name, value string, i *Identity) {
	k := &Key{ID: prefix + "k-" + Hex(4), Name: name, Value: value, Created: time.Now().UTC()}
	if i != nil {
		k.Platform, k.Identifier = i.Platform, i.Identifier
	}
	r.Keys = append(r.Keys, k)
}

func (s *Service) keyOf(q *Request, r *Registration) (int, *No) {
	for i, k := range r.Keys {
		if k.ID == q.PathValue("key") {
			return i, nil
		}
	}
	return 0, Stop(404, s.Missing, "%s has no such key.", s.Name)
}

func (s *Service) revokeKey(q *Request, r *Registration) any {
	k, n := s.keyOf(q, r)
	if n != nil {
		return n
	}
	if r.Keys[k].Revoked != nil {
		return nil
	}
	now := time.Now().UTC()
	r.Keys[k].Revoked = &now
	return true
}

func (s *Service) dropKey(q *Request, r *Registration) any {
	k, n := s.keyOf(q, r)
	if n != nil {
		return n
	}
	if r.Keys[k].Live() && r.Keys[k].Label == "" {
		return Stop(409, "key-live", "%s deletes a key only after it was revoked.", s.Name)
	}
	r.Keys = slices.Delete(r.Keys, k, k+1)
	return true
}

func (s *Service) addBerth(q *Request, r *Registration) any {
	name := q.PathValue("name")
	if r.Berths[name] != nil {
		return nil
	}
	if n := s.Berth(name); n != nil {
		return n
	}
	r.Berths[name] = &Berth{Name: name}
	return "no new revision"
}

func (s *Service) dropBerth(q *Request, r *Registration) any {
	delete(r.Berths, q.PathValue("name"))
	return "no new revision"
}

func (s *Service) catalogue(q *Request) Reply {
	r := s.Mine(q)
	if r == nil {
		return s.gone()
	}
	list := []*Item{}
	for _, i := range r.Items {
		list = append(list, i)
	}
	slices.SortFunc(list, func(a, b *Item) int { return compare(a.Product, b.Product) })
	return Reply{200, map[string]any{"items": list}}
}

func compare(a, b string) int {
	switch {
	case a < b:
		return -1
	case a > b:
		return 1
	}
	return 0
}

func (s *Service) saveItem(q *Request, r *Registration) any {
	var in Item
	if err := Read(q.Request, &in); err != nil {
		return Stop(400, "unreadable", "%v", err)
	}
	in.Product = q.PathValue("product")
	if had := r.Items[in.Product]; had != nil {
		in.Active = had.Active
		if had.Kind != in.Kind {
			return Stop(409, "item-kind", "%s is a %s and stays one.", in.Product, had.Kind)
		}
	} else {
		in.Active = false
	}
	if n := s.Item(r, &in); n != nil {
		return n
	}
	r.Items[in.Product] = &in
	return "no new revision"
}

func (s *Service) activate(q *Request, r *Registration) any {
	var in struct{ Active bool }
	if err := Read(q.Request, &in); err != nil {
		return Stop(400, "unreadable", "%v", err)
	}
	item := r.Items[q.PathValue("product")]
	if item == nil {
		return Stop(404, "item-unknown", "There is no item %q.", q.PathValue("product"))
	}
	item.Active = in.Active
	if n := s.Item(r, item); n != nil {
		return n
	}
	return "no new revision"
}

func (s *Service) field(q *Request, r *Registration) any {
	var in struct{ Value string }
	if err := Read(q.Request, &in); err != nil {
		return Stop(400, "unreadable", "%v", err)
	}
	name := q.PathValue("name")
	if r.Fields[name] == in.Value {
		return nil
	}
	if n := s.Field(name, in.Value); n != nil {
		return n
	}
	r.Fields[name], r.FieldsAt = in.Value, time.Now().UTC()
	return true
}

func (s *Service) builds(q *Request) Reply {
	r := s.Mine(q)
	if r == nil {
		return s.gone()
	}
	return Reply{200, map[string]any{"builds": append([]*Build{}, r.Builds...), "fields_changed": r.FieldsAt}}
}

func (s *Service) build(q *Request, r *Registration) any {
	var in struct{ Platform, Identifier string }
	if err := Read(q.Request, &in); err != nil {
		return Stop(400, "unreadable", "%v", err)
	}
	if r.Find(in.Platform, in.Identifier) == nil {
		return Stop(404, s.Missing, "%s is not part of this registration.", in.Identifier)
	}
	r.Builds = append(r.Builds, &Build{ID: s.Prefix + "b-" + Hex(4), At: time.Now().UTC(), Platform: in.Platform, Identifier: in.Identifier, Fields: copied(r.Fields), Digest: r.Papers["certificate"]})
	return "no new revision"
}

func (s *Service) file(q *Request) Reply {
	r := s.Mine(q)
	if r == nil {
		return s.gone()
	}
	i := r.Find(q.PathValue("platform"), q.PathValue("identifier"))
	if i == nil || s.File == nil {
		return s.gone()
	}
	f, n := s.File(r, i, q.URL.Query().Get("file"))
	if n != nil {
		return s.Refuse(n)
	}
	return Reply{200, f}
}

func (s *Service) sightings(q *Request) Reply {
	r := s.Mine(q)
	if r == nil {
		return s.gone()
	}
	until := time.Now().Add(-s.Faults.Late())
	after, list := q.URL.Query().Get("after"), []Sighting{}
	for i := len(r.Sightings) - 1; i >= 0 && r.Sightings[i].ID != after; i-- {
		if !r.Sightings[i].At.After(until) {
			list = append(list, r.Sightings[i])
		}
	}
	slices.Reverse(list)
	return Reply{200, map[string]any{"sightings": list}}
}

// App answers an app's request: f looks for the registration it belongs to, and may leave sightings on a copy of it,
// which is kept when it gives one.
func (s *Service) App(w http.ResponseWriter, f func(d *Data) (keep *Registration, status int, body any)) {
	status, body := 500, any(nil)
	err := s.Journal.Do(func(d *Data, c *Change) {
		var keep *Registration
		if keep, status, body = f(d); keep != nil {
			c.Save(keep)
		}
	})
	if err != nil {
		status, body = 500, map[string]string{"error": err.Error()}
	}
	if n, ok := body.(*No); ok {
		status, body = n.Status, s.Refusal(n)
	}
	Write(w, status, body)
}
