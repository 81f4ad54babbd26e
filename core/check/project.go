package check

import (
	"fmt"
	"path"
	"slices"
	"sort"
	"strconv"
	"strings"

	"ligare/core/sheet"
	"ligare/core/survey"
	"ligare/core/syntax/lex"
	"ligare/core/syntax/plist"
	"ligare/core/syntax/properties"
	"ligare/core/syntax/xml"
	"ligare/core/wiring"
)

// plists looks at what property lists say by themselves: keys that stand twice, and reasons that give none.
func (r *runner) plists() {
	seen := map[string]bool{}
	for _, b := range r.builds() {
		if b.config == nil {
			continue
		}
		for _, f := range []survey.Fact{b.config.InfoPlist, b.config.Entitlements, b.config.PrivacyManifest} {
			if name := f.String(); f.Known() && name != "" && !seen[name] {
				seen[name] = true
				r.plist(b, name)
			}
		}
		for _, e := range b.config.PlistKeys {
			if e.Known() && strings.HasSuffix(e.Name, "UsageDescription") {
				r.reason(b, e)
			}
			if e.Known() && sheet.Placeholder(e.String()) {
				r.placeholder(b, e)
			}
		}
	}
}

func (r *runner) plist(b build, name string) {
	if slices.ContainsFunc(r.in.Answers, func(a wiring.Answer) bool { return a.Code == "key-twice" && a.Here.File == name }) {
		return // said already
	}
	src, err := r.in.Tree.Read(name)
	if err != nil {
		return
	}
	f, err := plist.Parse(src)
	if err != nil {
		return // what cannot be read is said by source-unreadable
	}
	var walk func(v *plist.Value, at string)
	walk = func(v *plist.Value, at string) {
		first := map[string]*xml.Element{}
		for i := range v.Entries {
			e := &v.Entries[i]
			if had, ok := first[e.Key]; ok && e.At != nil {
				line, column := f.Position(e.Value)
				x := Finding{Rule: "value-twice", Variant: b.name, File: name, Line: line, Column: column, Actual: e.Key, cause: name + at + "/" + e.Key,
					Message: fmt.Sprintf("The key %s stands twice in one dictionary; only one of the two is read", e.Key)}
				if had != nil {
					x.Also = append(x.Also, placeOf(name, src, had.Node.Start))
				}
				r.add(x, map[string]string{"service": ""}, at, e.Key)
			}
			first[e.Key] = e.At
			walk(e.Value, at+"/"+e.Key)
		}
		for i, x := range v.Items {
			walk(x, at+"/"+strconv.Itoa(i))
		}
	}
	walk(f.Root, "")
}

// reason judges the words with which an app asks for something private.
func (r *runner) reason(b build, e survey.Entry) {
	text := strings.TrimSpace(e.String())
	f := b.finding("usage-reason-poor", e.Fact)
	f.cause = e.Place()
	letters := strings.Map(func(c rune) rune {
		if c == ' ' || c == '.' || c == '-' {
			return -1
		}
		return c
	}, text)
	switch {
	case text == "":
		f.Message = fmt.Sprintf("%s is empty", e.Name)
	case sheet.Placeholder(text) || strings.EqualFold(text, e.Name) || len(letters) < 6 || !strings.Contains(text, " ") && len([]rune(text)) < 16 && text[0] < 0x80:
		f.Message = fmt.Sprintf("%s says %q, which is no reason", e.Name, text)
	default:
		return
	}
	r.add(f, nil, e.Name, e.File)
}

// placeholder reports a value that was left for the reader to fill in, where nothing registered wants another.
func (r *runner) placeholder(b build, e survey.Entry) {
	for _, a := range r.in.Answers {
		if a.Here.File == e.File && a.Here.Line == e.Line {
			return // the evaluator's answer says more
		}
	}
	f := b.finding("placeholder-left", e.Fact)
	f.Severity, f.cause = Note, e.Place()
	f.Message = fmt.Sprintf("%s is %q, which is a placeholder", e.Name, e.String())
	r.add(f, map[string]string{"service": ""}, e.Name, e.File)
}

// manifests looks at what Android manifests say by themselves.
func (r *runner) manifests() {
	seen := map[string]bool{}
	for _, b := range r.builds() {
		if b.variant == nil {
			continue
		}
		for _, e := range slices.Concat(b.variant.Strings, b.variant.Metadata) {
			if e.Known() && sheet.Placeholder(e.String()) {
				r.placeholder(b, e)
			}
		}
		type filtered struct {
			at    survey.Fact
			said  bool
			gates bool
		}
		classes := map[string]*filtered{}
		for _, name := range b.variant.Manifests {
			src, err := r.in.Tree.Read(name)
			if err != nil {
				continue
			}
			doc := xml.Parse(src)
			if doc.Top == nil || doc.Err() != nil {
				continue
			}
			for _, e := range doc.Top.Children {
				if insideApplication[e.Name] && !seen[name+strconv.Itoa(e.Node.Start)] {
					seen[name+strconv.Itoa(e.Node.Start)] = true
					r.outside(b, name, doc, e)
				}
			}
			app := doc.Top.Child("application")
			if app == nil {
				continue
			}
			for _, e := range app.Children {
				n := e.AttrNS(androidNS, "name")
				if n == nil || e.Name != "activity" && e.Name != "activity-alias" && e.Name != "service" && e.Name != "receiver" {
					continue
				}
				key := e.Name + " " + strings.TrimPrefix(n.Value, b.variant.Namespace.String())
				c := classes[key]
				if c == nil {
					c = &filtered{}
					classes[key] = c
				}
				if line, column := doc.At(n.ValueStart); c.at.File == "" || e.Child("intent-filter") != nil {
					c.at = survey.Fact{File: name, Line: line, Column: column}
				}
				c.said = c.said || e.AttrNS(androidNS, "exported") != nil
				c.gates = c.gates || e.Child("intent-filter") != nil
			}
		}
		if target, err := strconv.Atoi(b.variant.TargetSDK.String()); err != nil || target < 31 {
			continue
		}
		keys := make([]string, 0, len(classes))
		for k := range classes {
			keys = append(keys, k)
		}
		sort.Strings(keys)
		for _, k := range keys {
			if c := classes[k]; c.gates && !c.said {
				f := b.finding("export-unsaid", c.at)
				kind, class, _ := strings.Cut(k, " ")
				f.Expected, f.Actual, f.cause = `android:exported="true" or "false"`, "not said", f.Place()
				f.Message = fmt.Sprintf("The %s %s has an intent filter and does not say whether other apps may start it; with target SDK %s it must", kind, class, b.variant.TargetSDK)
				r.add(f, nil, k)
			}
		}
	}
}

// insideApplication are the elements that the platform reads inside the application element only.
var insideApplication = map[string]bool{"meta-data": true, "activity": true, "activity-alias": true, "service": true, "receiver": true, "provider": true}

func (r *runner) outside(b build, name string, doc *xml.Doc, e *xml.Element) {
	for _, a := range r.in.Answers {
		if a.Code == "entry-misplaced" && a.Here.File == name {
			return
		}
	}
	line, column := doc.At(e.Node.Start)
	what := e.Name
	if n := e.AttrNS(androidNS, "name"); n != nil {
		what += " " + n.Value
	}
	r.add(Finding{Rule: "manifest-entry-misplaced", Variant: b.name, File: name, Line: line, Column: column, Expected: "inside the application element", Actual: "outside it",
		Message: fmt.Sprintf("%s stands outside the application element, where nothing reads it", what)}, map[string]string{"service": ""}, what)
}

func placeOf(name string, src []byte, offset int) wiring.Place {
	line, column := lex.Position(src, offset)
	return wiring.Place{File: name, Line: line, Column: column}
}

// options looks for one option that is set twice to two values in a property file of the build.
func (r *runner) options() {
	files := map[string]bool{}
	for _, m := range r.in.Survey.Android.Modules {
		for _, dir := range []string{m.Root, m.Dir} {
			for _, n := range []string{"gradle.properties", "local.properties"} {
				files[path.Join(dir, n)] = true
			}
		}
	}
	names := make([]string, 0, len(files))
	for n := range files {
		names = append(names, n)
	}
	sort.Strings(names)
	for _, name := range names {
		src, err := r.in.Tree.Read(name)
		if err != nil {
			continue
		}
		had := map[string]properties.Entry{}
		for _, e := range properties.Parse(src) {
			if was, ok := had[e.Key]; ok && was.Value != e.Value {
				r.add(Finding{Rule: "option-twice", File: name, Line: e.Line, Column: e.Column, Expected: was.Value, Actual: e.Value,
					Message: fmt.Sprintf("%s is set to %q in line %d and to %q here, which wins", e.Key, was.Value, was.Line, e.Value)}, nil, e.Key)
			}
			had[e.Key] = e
		}
	}
}
