package catalogue

import (
	"strings"
	"testing"

	"ligare/core/sheet"
)

var rules = &sheet.Catalogue{Kinds: []string{"consumable", "non-consumable", "subscription"}, Grammar: "[a-z.]{3,20}", Groups: true, Prices: true}

func TestJudge(t *testing.T) {
	jar := Item{Product: "hive.jar", Kind: "consumable", Title: "Jar", Price: "1.00 EUR", Active: true}
	for name, c := range map[string]struct {
		items []Item
		say   string
	}{
		"right":      {[]Item{jar, {Product: "hive.year", Kind: "subscription", Group: "g", Price: "2.00 EUR", Active: true}}, ""},
		"twice":      {[]Item{jar, jar}, "stands twice"},
		"a form":     {[]Item{{Product: "Hive Jar", Kind: "consumable"}}, "cannot be a product ID"},
		"no ID":      {[]Item{{Kind: "consumable"}}, "no product ID"},
		"a kind":     {[]Item{{Product: "hive.jar", Kind: "consumeable"}}, "did you mean consumable?"},
		"no price":   {[]Item{{Product: "hive.jar", Kind: "consumable", Active: true}}, "no price"},
		"a group":    {[]Item{{Product: "hive.jar", Kind: "consumable", Group: "g"}}, "is no subscription"},
		"no group":   {[]Item{{Product: "hive.year", Kind: "subscription", Price: "1", Active: true}, {Product: "hive.month", Kind: "subscription", Price: "1", Active: true}}, "pay for two"},
		"a control":  {[]Item{{Product: "hive.jar", Kind: "consumable", Title: "J\x01"}}, "control character"},
		"not active": {[]Item{{Product: "hive.jar", Kind: "consumable"}}, ""},
	} {
		got := strings.Join(Judge(rules, c.items), "; ")
		if c.say == "" && got != "" || !strings.Contains(got, c.say) {
			t.Errorf("%s: %q", name, got)
		}
	}
}

func TestCompare(t *testing.T) {
	a := Item{Product: "a", Kind: "consumable", Title: "A", Price: "1.00 EUR", Active: true}
	changed := a
	changed.Price, changed.Active = "2.00 EUR", false
	other := a
	other.Product = "c"
	off := other
	off.Product, off.Active = "d", false
	b := a
	b.Product = "b"
	got := Compare([]Item{a, b}, []Item{changed, other, off})
	want := []string{`a: price "1.00 EUR" here, "2.00 EUR" there; not active at the service`, "b: missing at the service", "c: sold by the service, and not in the list", "d: at the service, not active, and not in the list"}
	for i, d := range got {
		if d.Product+": "+d.Say != want[i] {
			t.Errorf("%s: %s", d.Product, d.Say)
		}
	}
	if same := Compare([]Item{a}, []Item{a}); same[0].Say != Agrees {
		t.Errorf("%+v", same)
	}
}
