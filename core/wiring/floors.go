package wiring

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"ligare/core/ident"
	"ligare/core/sheet"
	"ligare/core/survey"
	"ligare/core/syntax/gradle"
	"ligare/core/syntax/xml"
	"ligare/core/syntax/yaml"
)

// floors gives the placements that a sheet's bounds ask for: the least SDK of an Android app and the least deployment
// target of an iOS app are raised where they are defined. A bound that the sheet places itself is left to it.
func floors(s *sheet.Sheet) []sheet.Placement {
	var out []sheet.Placement
	for _, c := range s.Constrain {
		p := sheet.Placement{Platform: c.Platform, With: map[string]string{"version": c.Minimum}, Why: sentence(c.Why)}
		switch {
		case c.Minimum == "":
			continue
		case c.Platform == ident.Android && c.Of == "minSdk":
			p.ID, p.Place = "android-minimum", "minimum-sdk"
		case c.Platform == ident.IOS && c.Of == "deploymentTarget":
			p.ID, p.Place = "ios-minimum", "deployment-target"
		default:
			continue
		}
		if !slices.ContainsFunc(s.Placements, func(x sheet.Placement) bool { return x.Place == p.Place }) {
			out = append(out, p)
		}
	}
	return out
}

// Floor reports whether a bound is wanted, which whatever stands at it or above it meets.
func (w *Want) Floor() bool { return w.Place == "minimum-sdk" || w.Place == "deployment-target" }

func sentence(s string) string {
	if s == "" {
		return s
	}
	return strings.ToUpper(s[:1]) + strings.TrimSuffix(s[1:], ".") + "."
}

// targets gives the covered configurations of a target as the tree stands now, for layouts without an Xcode project.
func (in Input) targets(w *Want) []*survey.Configuration {
	var out []*survey.Configuration
	for _, p := range in.again().IOS.Projects {
		if p.Path != w.site.project.Path {
			continue
		}
		for _, t := range p.Targets {
			if t.Name != w.site.target.Name {
				continue
			}
			for _, c := range t.Configurations {
				if contains(w.Variants, c.Name) {
					out = append(out, c)
				}
			}
		}
	}
	return out
}

// lookForeign answers for the deployment target of a layout whose Xcode project is made by its framework.
func (e settingEnsure) lookForeign(in Input, w *Want) Answer {
	least := w.settings["value"]
	out := Answer{State: Right, Here: Place{File: w.site.project.Path}}
	for _, c := range in.targets(w) {
		f := c.DeploymentTarget
		at := Place{File: f.File, Line: f.Line, Column: f.Column}
		isLow, plain := Under(f.String(), least)
		switch {
		case !f.Known() || !plain:
			if at.File == "" {
				at.File = w.site.project.Path
			}
			return Answer{State: Unknown, Code: "setting-unknown", Here: at, Expected: least, Detail: "the deployment target of " + c.Name + " is not known: " + f.Say() + "; make sure that it is " + least + " at least"}
		case isLow:
			return Answer{State: Absent, Code: "target-low", Here: at, Expected: least, Actual: f.String(), Fixable: true,
				Detail: fmt.Sprintf("the deployment target is %s here; %s is needed. %s", f, least, w.Why)}
		}
		out.Here = at
	}
	return out
}

func (e settingEnsure) makeForeign(in Input, w *Want, p *Plan) error {
	for range 10 {
		a := e.lookForeign(in, w)
		if a.Code != "target-low" {
			return nil
		}
		if err := (buildEnsure{}).setNumber(in, w, p, a.Here, a.Actual, a.Expected); err != nil {
			return err
		}
	}
	return nil
}

// larger is a minimum that the build takes from somewhere else, with what is known of it: maxOf(ELSEWHERE, 24).
type larger struct {
	file    *gradle.File
	setting gradle.Setting
	number  string // the literal it is kept above, "" for none
	wrap    bool   // it is a number of the framework's own, which a literal can be set beside
}

// larger looks at a minimum whose value is not known where the survey stopped.
func (in Input) larger(at Place) (l larger, ok bool) {
	if !strings.HasSuffix(at.File, ".gradle") && !strings.HasSuffix(at.File, ".kts") {
		return l, false
	}
	if l.file = in.gradle(at.File); l.file == nil {
		return l, false
	}
	s := settingAround(l.file, at)
	if s == nil {
		return l, false
	}
	l.setting = *s
	for _, x := range l.file.Larger(s.Arg()) {
		if _, err := strconv.Atoi(l.file.Text(x)); err == nil {
			l.number = l.file.Text(x)
		}
	}
	l.wrap = strings.HasPrefix(l.file.Dotted(s.Arg()), "flutter.")
	return l, l.number != "" || l.wrap
}

// settingAround gives the setting that a place of a build file lies in, the innermost.
func settingAround(f *gradle.File, at Place) *gradle.Setting {
	var inner *gradle.Setting
	for _, s := range f.Settings() {
		from, to := place(at.File, f.Src, s.Start), place(at.File, f.Src, s.End)
		if s.Block == nil && (from.Line < at.Line || from.Line == at.Line && from.Column <= at.Column) && (to.Line > at.Line || to.Line == at.Line && to.Column >= at.Column) {
			inner = &s
		}
	}
	return inner
}

// keepAbove sets a literal beside a minimum of the framework's own, so that the larger of the two counts.
func (e buildEnsure) keepAbove(w *Want, p *Plan, file string, l larger) error {
	arg := l.setting.Arg()
	old, version := l.file.Text(arg), w.Params["version"]
	text := "Math.max(" + old + ", " + version + ")"
	if l.file.Kotlin {
		text = "maxOf(" + old + ", " + version + ")"
	}
	if l.number != "" {
		text = strings.Replace(old, l.number, version, 1)
	}
	p.Next = append(p.Next, fmt.Sprintf("know that the minimum SDK is now %s at least, whatever the framework's own is: older phones are left out", version))
	s := l.setting
	whole := string(l.file.Src[s.Start:s.End])
	from, to := arg[0].Start-s.Start, arg[len(arg)-1].End-s.Start
	if err := p.replace(w, file, addressOf(l.file, s), whole[:from]+text+whole[to:]); err != nil {
		return err
	}
	p.raised(l.number, version)
	return nil
}

// elementAt gives the address of the innermost element that a place of an XML file lies in, by its number among those of
// its name.
func elementAt(src []byte, at Place) string {
	d := xml.Parse(src)
	if d.Top == nil {
		return ""
	}
	count, address := map[string]int{}, ""
	d.Top.Each(func(e *xml.Element) {
		count[e.Name]++
		from, to := place(at.File, src, e.Node.Start), place(at.File, src, e.Node.End)
		if (from.Line < at.Line || from.Line == at.Line && from.Column <= at.Column) && (to.Line > at.Line || to.Line == at.Line && to.Column >= at.Column) {
			address = fmt.Sprintf("/%s//%s[%d]", d.Top.Name, e.Name, count[e.Name])
		}
	})
	return address
}

// settingAt gives the address of the entry on a line of an engine's settings asset.
func settingAt(src []byte, at Place) string {
	list, err := yaml.Parse(src)
	if err != nil {
		return ""
	}
	for _, doc := range list {
		for i, top := range doc.Keys {
			for j, key := range doc.Items[i].Keys {
				if doc.Items[i].Items[j].Line == at.Line {
					return yaml.Step(top) + yaml.Step(key)
				}
			}
		}
	}
	return ""
}

// frameworkMinimum is what a React Native Podfile calls the framework's own least iOS version.
const frameworkMinimum = "min_ios_version_supported"

// frameworkAllows reports whether the framework's own least iOS version is known and not under a version. React Native
// defines it in its Podfile helpers: 11.0 from 0.64 on, 12.4 from 0.70 on, 13.4 from 0.73 on, 15.1 from 0.76 on.
func (in Input) frameworkAllows(w *Want, least string) bool {
	x := in.framework(w)
	if x == nil || x.Name != "react-native" {
		return false
	}
	version := strings.TrimLeft(x.Version.String(), "^~>=v ")
	for _, own := range [][2]string{{"0.76", "15.1"}, {"0.73", "13.4"}, {"0.70", "12.4"}, {"0.64", "11.0"}} {
		if older, ok := Under(version, own[0]); ok && !older {
			isLow, ok := Under(own[1], least)
			return ok && !isLow
		}
	}
	return false
}

// largest gives the version in a Ruby list of which the largest counts: [other, '15.0'].max.
func largest(raw string) (version string, ok bool) {
	inside, found := strings.CutSuffix(strings.TrimPrefix(raw, "["), "].max")
	if !found || !strings.HasPrefix(raw, "[") {
		return "", false
	}
	for _, part := range strings.Split(inside, ",") {
		if part = strings.TrimSpace(part); len(part) > 2 && (part[0] == '\'' || part[0] == '"') && part[len(part)-1] == part[0] {
			version, ok = part[1:len(part)-1], true
		}
	}
	return version, ok
}
