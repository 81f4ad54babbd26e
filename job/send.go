package job

import (
	"context"

	"ligare/client"
	"ligare/client/shape"
	"ligare/core/binding"
	"ligare/core/survey"
)

// SendSurvey sends the facts that count of every variant the tree is bound by: identifiers, minimums, names, digests and
// their places. Passwords and file contents stay here.
func (w *Work) SendSurvey(ctx context.Context, c *client.Client) error {
	if err := w.NeedBinding(); err != nil {
		return err
	}
	return c.SendSurvey(ctx, w.Binding.App, w.surveyed())
}

func (w *Work) surveyed() shape.Survey {
	out := shape.Survey{Variants: []shape.SurveyedVariant{}}
	for _, m := range w.Survey.Android.Modules {
		for _, v := range m.Variants {
			b := w.Binding.Android[m.Dir][v.Name]
			x := shape.SurveyedVariant{Platform: "android", Site: m.Dir, Variant: v.Name, Layout: layout(m.Layout, m.Framework), Identity: b.Identity, Environment: b.Environment, Facts: []shape.SurveyedFact{}}
			v.Each(func(name string, f survey.Fact) { x.Facts = addFact(x.Facts, name, f) })
			if k := w.certificateOf(v); k != nil && k.SHA256 != "" {
				x.Facts = append(x.Facts, shape.SurveyedFact{Name: "certificate SHA-1", Value: k.SHA1, Place: k.File}, shape.SurveyedFact{Name: "certificate SHA-256", Value: k.SHA256, Place: k.File})
			}
			for _, e := range v.Identifiers {
				if e.Say() != v.ApplicationID.Say() {
					x.Facts = addFact(x.Facts, "does not count: "+e.Name, e.Fact)
				}
			}
			out.Variants = append(out.Variants, x)
		}
	}
	for _, p := range w.Survey.IOS.Projects {
		for _, t := range p.Targets {
			if t.Test() {
				continue
			}
			key := binding.TargetKey(p, t)
			for _, c := range t.Configurations {
				b := w.Binding.IOS[key][c.Name]
				x := shape.SurveyedVariant{Platform: "ios", Site: key, Variant: c.Name, Layout: layout(p.Layout, p.Framework), Identity: b.Identity, Environment: b.Environment, Facts: []shape.SurveyedFact{}}
				c.Each(func(name string, f survey.Fact) { x.Facts = addFact(x.Facts, name, f) })
				out.Variants = append(out.Variants, x)
			}
		}
	}
	return out
}

func layout(own, framework string) string {
	if framework == "" || framework == own {
		return own
	}
	return own + " under " + framework
}

func addFact(list []shape.SurveyedFact, name string, f survey.Fact) []shape.SurveyedFact {
	if !f.Set() {
		return list
	}
	x := shape.SurveyedFact{Name: name, Value: f.String(), Unresolved: f.Unresolved, Place: f.Place(), Via: f.Via}
	for _, p := range f.Possible {
		x.Possible = append(x.Possible, p.Value+" when "+p.When)
	}
	return append(list, x)
}
