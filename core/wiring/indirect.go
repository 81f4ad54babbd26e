package wiring

import (
	"strings"

	"ligare/core/ident"
	"ligare/core/sheet"
)

// carried is a value that stands in a resource of each variant, because the source that uses it is the same for all.
type carried struct{ name, value string }

// indirect gives the parameters of a placement. One call in source serves every variant of a module or target: where
// those build several identities, a value that differs between them is taken from a place that each variant has for itself,
// a string resource or a key of the property list, and only that place differs. So a test key cannot come into a production
// build.
func (in Input) indirect(w *Want, p *sheet.Placement, s covered) (map[string]string, []carried) {
	if w.ensure != "source-call" || !w.varies || w.site.framework != nil || !in.rivals(p.Platform, s) {
		return p.With, nil
	}
	out := map[string]string{}
	var list []carried
	for k, text := range p.With {
		for _, ref := range sheet.References(text) {
			id, ok := strings.CutPrefix(ref, "value.")
			if !ok {
				continue
			}
			whole := "${" + ref + "}"
			name := w.Service + "_" + strings.ReplaceAll(id, "-", "_")
			if p.Platform == ident.IOS {
				name = camel(w.Service + "_" + id)
			}
			before := text
			text = strings.ReplaceAll(text, "@\""+whole+"\"", "[NSBundle.mainBundle objectForInfoDictionaryKey:@\""+name+"\"]")
			text = strings.ReplaceAll(text, "\""+whole+"\"", in.expression(w, s, name))
			if text != before {
				list = append(list, carried{name, whole})
			}
		}
		out[k] = text
	}
	return out, list
}

// expression writes how source gets a text that each variant has for itself.
func (in Input) expression(w *Want, s covered, name string) string {
	if s.target != nil {
		return "Bundle.main.object(forInfoDictionaryKey: \"" + name + "\") as? String ?? \"\""
	}
	for _, v := range s.module.Variants {
		if v.Namespace.Known() && contains(s.variants, v.Name) {
			return "getString(" + v.Namespace.String() + ".R.string." + name + ")"
		}
	}
	return "getString(R.string." + name + ")"
}

// rivals reports whether a site's module or target builds identities besides those of the site's variants.
func (in Input) rivals(p ident.Platform, s covered) bool {
	all := covered{site: s.site}
	if s.module != nil {
		for _, v := range s.module.Variants {
			all.variants = append(all.variants, v.Name)
		}
	} else if s.target != nil {
		for _, c := range s.target.Configurations {
			all.variants = append(all.variants, c.Name)
		}
	}
	mine := in.bound(p, s)
	for _, id := range in.bound(p, all) {
		if id != "" && !contains(mine, id) {
			return true
		}
	}
	return false
}

// carrier is the want for the place that holds a value for one identity.
func (in Input) carrier(of *Want, c carried, value string) *Want {
	place, key := "string-resource", "name"
	if of.Platform == ident.IOS {
		place, key = "plist-key", "key"
	}
	named := in.Library[place]
	if named == nil {
		return nil
	}
	w := *of
	w.Placement, w.Place, w.Title, w.ensure = of.Placement+"-value", place, named.Title, named.Ensure
	w.Why = "The call in the source is the same for every variant; each has its own value here."
	w.Params = map[string]string{key: c.name, "value": value}
	w.subject = c.name + " for " + of.subject
	w.settings = map[string]string{}
	for _, k := range sorted(named.Settings) {
		text, err := sheet.Fill(named.Settings[k], func(name string) (string, bool) { v, ok := w.Params[name]; return v, ok })
		if err != nil {
			return nil // the library's own placements name only what they need
		}
		w.settings[k] = text
	}
	return &w
}

// camel writes a name as property lists have theirs.
func camel(s string) string {
	var b strings.Builder
	up := true
	for _, r := range s {
		switch {
		case r == '_' || r == '-':
			up = true
		case up:
			b.WriteString(strings.ToUpper(string(r)))
			up = false
		default:
			b.WriteRune(r)
		}
	}
	return b.String()
}
