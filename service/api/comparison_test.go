package api_test

import (
	"context"
	"encoding/json"
	"slices"
	"strings"
	"testing"

	"ligare/client/shape"
	"ligare/core/wiring"
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
