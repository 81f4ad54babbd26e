package api_test

import (
	"context"
	"encoding/json"
	"slices"
	"strings"
	"testing"

	"ligare/client/shape"
	"ligare/core/wiring"
	"ligare/standin/base"
)

// One answer holds all that a tree is compared with, knows the values of the team's other apps by digest, and no server
// value.
func TestWhatATreeIsComparedWith(t *testing.T) {
	w := open(t, shared)
	in := w.ready()
	ctx := context.Background()
	if _, err := w.owner.Register(ctx, in); err != nil {
		t.Fatal(err)
	}
	if _, err := w.owner.SaveApp(ctx, shape.NewApp{Name: "seedswap", Title: "Seedswap", Environments: []string{"production"}, Identities: []shape.NewIdentity{{Platform: "android", Identifier: "example.larkfield.seedswap"}}}); err != nil {
		t.Fatal(err)
	}
	other, err := w.owner.Register(ctx, shape.Register{App: "seedswap", Service: "thornmill", Environment: "production", Answers: map[string]string{"region": "north"}, Identities: []shape.IdentityAnswers{{Platform: "android", Identifier: "example.larkfield.seedswap"}}})
	if err != nil {
		t.Fatal(err)
	}
	number := ""
	for _, v := range other.Identities[0].Values {
		if v.Name == "number" {
			number = v.Value
		}
	}
	got, err := w.owner.Comparison(ctx, "hivelog")
	if err != nil {
		t.Fatal(err)
	}
	text, err := json.Marshal(got)
	if err != nil {
		t.Fatal(err)
	}
	if got.App.Name != "hivelog" || len(got.Registrations) != 1 || len(got.Placings) != 1 || got.Placings[0].Registration != got.Registrations[0].ID || strings.Contains(strings.ReplaceAll(string(text), "tmx-[0-9a-f]", ""), "tmx-") {
		t.Errorf("%.300s", text)
	}
	i := slices.IndexFunc(got.Others, func(o shape.OwnedValue) bool { return o.Digest == wiring.Digest(number) })
	if number == "" || i < 0 || got.Others[i].Say != "Seedswap's App number at Thornmill for production" {
		t.Errorf("%q is not recognised: %+v", number, got.Others)
	}
	if _, err := w.person(t.Name()+" other", "reader", 0).Comparison(ctx, "hivelog"); status(err) != 404 {
		t.Errorf("another team: %v", err)
	}
}

// What somebody changed on the service's own pages is seen at the next look: answers, and what is open to everybody.
func TestWhatIsOtherwiseAtAService(t *testing.T) {
	w := open(t, shared)
	in := w.ready()
	ctx := context.Background()
	reg, err := w.owner.Register(ctx, in)
	if err != nil {
		t.Fatal(err)
	}
	if len(reg.Open) != 1 || reg.Open[0].What != "records" || reg.Open[0].Until == nil || len(reg.Differs) != 0 {
		t.Fatalf("%+v %+v", reg.Open, reg.Differs)
	}
	err = w.thorn.Journal.Do(func(d *base.Data, c *base.Change) {
		for _, x := range d.Registrations {
			if x.ID == reg.RemoteID {
				x = x.Copy()
				x.Open, x.Answers["region"] = nil, "elsewhere"
				for _, i := range x.Identities {
					delete(i.Answers, "display_name")
				}
				c.Save(x)
			}
		}
	})
	if err != nil {
		t.Fatal(err)
	}
	if reg, err = w.owner.Refresh(ctx, reg.ID); err != nil {
		t.Fatal(err)
	}
	if len(reg.Open) != 0 {
		t.Errorf("rules were written: %+v", reg.Open)
	}
	if len(reg.Differs) == 0 || reg.Differs[0].Answer != "region" || reg.Differs[0].Nothing {
		t.Errorf("%+v", reg.Differs)
	}
	for _, d := range reg.Differs[1:] {
		if d.Answer != "display_name" || d.Identifier == "" {
			t.Errorf("%+v", d)
		}
	}
}
