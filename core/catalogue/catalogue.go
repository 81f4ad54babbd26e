// Package catalogue compares what shall be sold in an app with what a billing service has. It computes only.
package catalogue

import (
	"fmt"
	"slices"
	"sort"
	"strings"

	"ligare/core/sheet"
)

// Item is something sold in the app.
type Item struct {
	Product, Kind, Title, Group, Price string
	Active                             bool
}

// Difference is one item on both sides; Say is "agrees" or what differs.
type Difference struct {
	Product       string
	Wanted, There *Item
	Say           string
}

// Agrees is what is said of an item that is the same on both sides.
const Agrees = "agrees"

// Judge says what is wrong with items by a sheet's rules, before anything is sent.
func Judge(rules *sheet.Catalogue, items []Item) []string {
	var out []string
	seen := map[string]bool{}
	loose := []string{}
	for _, i := range items {
		name := fmt.Sprintf("item %q", i.Product)
		switch {
		case i.Product == "":
			out = append(out, "an item has no product ID")
			continue
		case seen[i.Product]:
			out = append(out, name+" stands twice")
			continue
		case !sheet.Match(rules.Grammar, i.Product):
			out = append(out, name+" cannot be a product ID here; it must match "+rules.Grammar)
		case !slices.Contains(rules.Kinds, i.Kind):
			say := fmt.Sprintf("%s: kind %q is none of %s", name, i.Kind, strings.Join(rules.Kinds, ", "))
			if near := sheet.Nearest(i.Kind, rules.Kinds); near != "" {
				say += "; did you mean " + near + "?"
			}
			out = append(out, say)
		case rules.Prices && i.Active && i.Price == "":
			out = append(out, name+" is to be active and has no price")
		case i.Group != "" && i.Kind != "subscription":
			out = append(out, name+" is no subscription and has a group")
		}
		if strings.ContainsFunc(i.Title+i.Group+i.Price, func(r rune) bool { return r < ' ' || r == 0x7f }) {
			out = append(out, name+" holds a control character")
		}
		seen[i.Product] = true
		if rules.Groups && i.Kind == "subscription" && i.Active && i.Group == "" {
			loose = append(loose, i.Product)
		}
	}
	if len(loose) > 0 {
		out = append(out, "subscriptions without a group: "+strings.Join(loose, ", ")+"; a person could pay for two of them at once")
	}
	return out
}

// Compare gives every item of either side, in the order of their product IDs.
func Compare(wanted, there []Item) []Difference {
	by := map[string]*Difference{}
	at := func(product string) *Difference {
		if by[product] == nil {
			by[product] = &Difference{Product: product}
		}
		return by[product]
	}
	for i := range wanted {
		at(wanted[i].Product).Wanted = &wanted[i]
	}
	for i := range there {
		at(there[i].Product).There = &there[i]
	}
	var out []Difference
	for _, d := range by {
		d.Say = say(d.Wanted, d.There)
		out = append(out, *d)
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Product < out[j].Product })
	return out
}

func say(want, there *Item) string {
	switch {
	case there == nil:
		return "missing at the service"
	case want == nil && there.Active:
		return "sold by the service, and not in the list"
	case want == nil:
		return "at the service, not active, and not in the list"
	}
	var list []string
	differ := func(what, a, b string) {
		if a != b {
			list = append(list, fmt.Sprintf("%s %q here, %q there", what, a, b))
		}
	}
	differ("kind", want.Kind, there.Kind)
	differ("title", want.Title, there.Title)
	differ("group", want.Group, there.Group)
	differ("price", want.Price, there.Price)
	if want.Active != there.Active {
		list = append(list, map[bool]string{true: "not active at the service", false: "active at the service"}[want.Active])
	}
	if len(list) == 0 {
		return Agrees
	}
	return strings.Join(list, "; ")
}
