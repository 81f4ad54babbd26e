package check

import (
	"fmt"
	"slices"
	"strings"

	"ligare/core/ident"
	"ligare/core/sheet"
	"ligare/core/survey"
	"ligare/core/syntax/xml"
	"ligare/core/wiring"
)

const androidNS = "http://schemas.android.com/apk/res/android"

// valued are the answers that hold a value that was found where another was wanted.
var valued = map[string]bool{"text-differs": true, "entry-differs": true, "key-differs": true, "start-differs": true, "placeholder-differs": true, "file-of-another": true, "entry-typed": false}

// owner is whose a value is.
type owner struct {
	reg      *wiring.Registration
	identity string // "" for a value of the whole registration
	name     string // of the value in the sheet
	title    string
}

// owners lists whose a client value is, among the app's registrations.
func (r *runner) owners(value string) []owner {
	var out []owner
	add := func(reg *wiring.Registration, identity string, values map[string]string) {
		for name, v := range values {
			if wiring.Equal(v, value) {
				o := owner{reg: reg, identity: identity, name: name, title: name}
				if x := reg.Sheet.Value(name); x != nil {
					o.title = x.Title
				}
				out = append(out, o)
			}
		}
	}
	for _, reg := range r.in.Registrations {
		add(reg, "", reg.Values)
		for i := range reg.Identities {
			add(reg, reg.Identities[i].ID, reg.Identities[i].Values)
		}
	}
	slices.SortFunc(out, func(a, b owner) int {
		return strings.Compare(a.reg.Key()+a.identity+a.name, b.reg.Key()+b.identity+b.name)
	})
	return out
}

// say tells whose it is in a few words: Thornmill's App number of example.app, for production.
func (o owner) say() string {
	s := o.reg.Sheet.Title + "'s " + o.title
	if o.identity != "" {
		s += " of " + o.identity
	}
	if o.reg.Environment != "" {
		s += ", for " + o.reg.Environment
	}
	return s
}

// diagnose looks what the value found really is, where another was wanted, and gives the finding the rule that says so.
func (r *runner) diagnose(a wiring.Answer, f *Finding) {
	switch a.Place {
	case "url-scheme":
		f.Rule = "scheme-misspelt"
		return
	case "query-scheme", "background-mode", "associated-domain":
		f.Rule = "name-misspelt"
		return
	}
	got, want := a.Actual, a.Expected
	if v := a.Params["value"]; v != "" {
		want = v
	}
	if got == "" {
		return
	}
	reg := r.registration(a.Registration)
	var wanted owner
	for _, o := range r.owners(want) {
		if reg != nil && o.reg == reg && (wanted.reg == nil || o.identity == a.Identity()) {
			wanted = o
		}
	}
	whose := r.owners(got)
	if reg != nil && wanted.reg != nil {
		for _, o := range whose {
			if o.reg == reg && o.identity == wanted.identity && o.name == wanted.name {
				return // it is the same; something else differs
			}
		}
	}
	tell := func(rule, format string, args ...any) {
		f.Rule, f.Message = rule, capital(f.Message)+"; "+fmt.Sprintf(format, args...)
	}
	switch {
	case sheet.Placeholder(got):
		f.Rule = "placeholder-left"
		f.Message = fmt.Sprintf("%s is a placeholder; %s belongs here", got, title(wanted, "a value that was issued"))
		return
	case r.key(a, f, got):
		return
	}
	if strings.HasPrefix(a.Expected, "@string/") && len(whose) > 0 && whose[0].reg == reg { // the value itself, where a resource is wanted
		if long(got) {
			f.Rule = "manifest-value-typed"
			f.Message = fmt.Sprintf("The %s stands here as a literal, and a number this long is read as one that loses its last digits", whose[0].title)
		}
		return
	}
	for _, o := range whose {
		switch {
		case wanted.reg != nil && o.reg.Service == wanted.reg.Service && o.name == wanted.name && o.reg.Environment != wanted.reg.Environment:
			tell("value-of-another-environment", "this is %s", o.say())
			return
		case wanted.reg != nil && o.reg == wanted.reg && o.name != wanted.name:
			tell("value-swapped", "this is %s, where the %s belongs", o.say(), wanted.title)
			return
		}
	}
	if len(whose) > 0 {
		tell("value-of-another", "this is %s", whose[0].say())
		return
	}
	if o, ok := r.in.Recognised[wiring.Digest(got)]; ok {
		if o.Server {
			f.Actual = ident.Mask(got)
			f.Message = fmt.Sprintf("%s stands here, where %s belongs", o.Say, title(wanted, "a value that may ship"))
			f.Rule = "secret-placed"
			return
		}
		tell("value-of-another", "this is %s", o.Say)
		return
	}
	if reg != nil {
		if v := reg.Sheet.LookAlike(wanted.name, got); v != nil && v.Exposure == sheet.Server {
			f.Actual = ident.Mask(got)
			f.Rule = "secret-placed"
			f.Message = fmt.Sprintf("This has the form of %s's %s, where %s belongs", reg.Sheet.Title, v.Title, title(wanted, "a value that may ship"))
			return
		}
	}
	if !strings.HasPrefix(want, wiring.ByDigest) && wanted.reg != nil && ident.Near(want, got) {
		f.Rule = "value-mangled"
		f.Message = fmt.Sprintf("The %s here is not quite the one issued: %s", wanted.title, ident.Difference(want, got))
	}
}

// long reports whether a text is a number that the platform does not read back exactly: one of more than nine digits.
func long(s string) bool {
	return len(s) > 9 && strings.Trim(s, "0123456789") == ""
}

func title(o owner, otherwise string) string {
	if o.reg == nil {
		return otherwise
	}
	return "the " + o.title + " of " + o.reg.Sheet.Title
}

func (r *runner) registration(key string) *wiring.Registration {
	for _, reg := range r.in.Registrations {
		if reg.Key() == key {
			return reg
		}
	}
	return nil
}

// key looks whether a value is a key that was revoked or exchanged, or one that was made for a test.
func (r *runner) key(a wiring.Answer, f *Finding, got string) bool {
	if r.in.Records == nil {
		return false
	}
	for _, reg := range r.in.Records.Registrations {
		for _, k := range reg.Keys {
			if k.Value == "" || k.Value != got || k.Current && k.Label == "" {
				continue
			}
			what := fmt.Sprintf("%s's %s", serviceTitle(r, reg.Service), k.Title)
			switch {
			case !k.Revoked.IsZero():
				f.Rule, f.Message = "key-revoked", fmt.Sprintf("This is %s that was revoked on %s", what, k.Revoked.UTC().Format("2006-01-02"))
			case k.Label != "":
				f.Rule, f.Message = "key-of-test", fmt.Sprintf("This is %s made for %q", what, k.Label)
				if !k.Ends.IsZero() {
					f.Message += ", which ends on " + k.Ends.UTC().Format("2006-01-02")
					if k.Ends.Before(r.in.Now) {
						f.Message = strings.Replace(f.Message, "which ends", "which ended", 1)
					}
				}
			default:
				f.Rule, f.Message = "key-revoked", fmt.Sprintf("This is %s as it was before it was exchanged", what)
			}
			if !a.Good() {
				return true
			}
		}
	}
	return f.Rule == "key-revoked" || f.Rule == "key-of-test"
}

func serviceTitle(r *runner, service string) string {
	for _, reg := range r.in.Registrations {
		if reg.Service == service {
			return reg.Sheet.Title
		}
	}
	return service
}

// misspelt looks, for something that is wanted by name and is not there, for a name that was meant to be it.
func (r *runner) misspelt(a wiring.Answer, f *Finding) {
	want := a.Params["name"]
	for _, k := range []string{"key", "scheme", "mode", "domain"} {
		if want == "" {
			want = a.Params[k]
		}
	}
	if want == "" || f.Rule == "value-misplaced" {
		return
	}
	for _, b := range r.builds() {
		if !slices.Contains(a.Variants, b.name) || b.platform != a.Platform {
			continue
		}
		for _, at := range b.named(a.Place) {
			if !r.meant(want, at.Name, a.Place) || r.wantedToo(a, at.Name) {
				continue
			}
			f.Rule, f.Expected, f.Actual = "name-misspelt", want, at.Name
			f.File, f.Line, f.Column = at.File, at.Line, at.Column
			if a.Place == "manifest-metadata" { // its value may stand in a resource
				f.File, f.Line, f.Column = r.metadata(b, at.Name)
			}
			f.cause = f.Place() + want
			f.Message = fmt.Sprintf("%s is here, where %s %s is wanted: %s", at.Name, a.Title, want, difference(want, at.Name))
			if a.Place == "url-scheme" {
				f.Rule = "scheme-misspelt"
			}
			return
		}
	}
}

// metadata finds where a variant's manifests name a metadata entry.
func (r *runner) metadata(b build, name string) (file string, line, column int) {
	for _, m := range b.variant.Manifests {
		src, err := r.in.Tree.Read(m)
		if err != nil {
			continue
		}
		doc := xml.Parse(src)
		if doc.Top == nil {
			continue
		}
		doc.Top.Each(func(e *xml.Element) {
			if a := e.AttrNS(androidNS, "name"); a != nil && e.Name == "meta-data" && a.Value == name && file == "" {
				file = m
				line, column = doc.At(a.ValueStart)
			}
		})
		if file != "" {
			return file, line, column
		}
	}
	return b.module.ManifestOf("main"), 1, 1
}

func difference(want, got string) string {
	switch {
	case strings.HasSuffix(want, got):
		return fmt.Sprintf("%q is missing in front", want[:len(want)-len(got)])
	case strings.ReplaceAll(got, " ", "") == want:
		return "there are blanks in it"
	}
	return ident.Difference(want, got)
}

func (r *runner) meant(want, got, place string) bool {
	if place == "url-scheme" && (len(got) > 3 && strings.HasSuffix(want, got) || strings.ReplaceAll(got, " ", "") == want) {
		return got != want
	}
	return ident.Near(want, got)
}

// wantedToo reports whether something else wants a name, so that it is not a slip for the one that is missing.
func (r *runner) wantedToo(a wiring.Answer, name string) bool {
	return slices.ContainsFunc(r.in.Answers, func(o wiring.Answer) bool {
		return o.Place == a.Place && (o.Params["name"] == name || o.Params["key"] == name || o.Params["scheme"] == name || o.Params["mode"] == name || o.Params["domain"] == name)
	})
}

// named gives what a build has of the kind that a placement puts there, by name.
func (b build) named(place string) []survey.Entry {
	list := func(facts []survey.Fact) []survey.Entry {
		var out []survey.Entry
		for _, f := range facts {
			if f.Known() {
				out = append(out, survey.Entry{Name: f.String(), Fact: f})
			}
		}
		return out
	}
	if v := b.variant; v != nil {
		switch place {
		case "string-resource":
			return v.Strings
		case "manifest-metadata":
			return v.Metadata
		case "manifest-permission":
			return list(v.Permissions)
		case "manifest-query":
			return list(v.Queries)
		case "manifest-placeholder":
			return v.Placeholders
		case "manifest-activity":
			var out []survey.Entry
			for _, x := range v.Activities {
				out = append(out, list([]survey.Fact{x.Class})...)
			}
			return out
		}
		return nil
	}
	c := b.config
	switch place {
	case "url-scheme":
		return list(c.URLSchemes)
	case "query-scheme":
		return list(c.QuerySchemes)
	case "background-mode":
		return list(c.BackgroundModes)
	case "plist-key", "usage-description":
		return c.PlistKeys
	case "entitlement":
		return c.EntitlementKeys
	case "associated-domain":
		out := list(c.AssociatedDomains)
		for i := range out {
			out[i].Name = strings.TrimPrefix(out[i].Name, "applinks:")
		}
		return out
	}
	return nil
}
