package job

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"ligare/client/shape"
)

func TestItemsOfAFile(t *testing.T) {
	for _, src := range []string{"items:\n  - product: hive.jar\n    kind: consumable\n    price: 2.50 EUR\n    active: false\n  - {product: hive.year, kind: subscription, group: hive}\n",
		`{"items": [{"product": "hive.jar", "kind": "consumable", "price": "2.50 EUR", "active": false}, {"product": "hive.year", "kind": "subscription", "group": "hive"}]}`} {
		got, err := ReadItems("c", []byte(src))
		if err != nil || len(got) != 2 || got[0].Active || !got[1].Active || got[0].Price != "2.50 EUR" || got[1].Group != "hive" {
			t.Errorf("%+v %v", got, err)
		}
	}
	for src, say := range map[string]string{"": "no items", "items: [{produkt: x}]": `"produkt" is not understood`, "items: [": "", "items: [{active: perhaps}]": "not understood", "- x": "no items"} {
		if _, err := ReadItems("c", []byte(src)); err == nil || !strings.Contains(err.Error(), say) || hint(err) == "" {
			t.Errorf("%q: %v", src, err)
		}
	}
	list, err := AddItem([]shape.Item{{Product: "a", Kind: "consumable"}}, "product=a; kind=subscription; price=1.00 EUR; group=g; title=A; ")
	if err == nil {
		t.Errorf("an empty part was taken: %+v", list)
	}
	list, err = AddItem([]shape.Item{{Product: "a", Kind: "consumable"}, {Product: "b"}}, "product=a; kind=subscription; title=A = B")
	if err != nil || len(list) != 2 || list[1].Kind != "subscription" || list[1].Title != "A = B" {
		t.Errorf("%+v %v", list, err)
	}
}

func TestSecretsStayOutsideTrees(t *testing.T) {
	dir := t.TempDir()
	tree := filepath.Join(dir, "app")
	if err := os.MkdirAll(filepath.Join(tree, ".git"), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.MkdirAll(filepath.Join(tree, "deep", "er"), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.Symlink(filepath.Join(tree, "deep"), filepath.Join(dir, "link")); err != nil {
		t.Fatal(err)
	}
	for _, in := range []string{filepath.Join(tree, "x.env"), filepath.Join(tree, "deep", "er", "x.env"), filepath.Join(dir, "link", "x.env")} {
		if err := OutsideTrees(in); err == nil || hint(err) == "" {
			t.Errorf("%s: %v", in, err)
		}
	}
	out := filepath.Join(dir, "x.env")
	if err := OutsideTrees(out); err != nil {
		t.Fatal(err)
	}
	list := []shape.ServerSecret{{Env: "A_KEY", Value: "it's"}}
	for range 2 {
		if names, err := SetSecrets(out, list); err != nil || names[0] != "A_KEY" {
			t.Fatal(err)
		}
	}
	b, err := os.ReadFile(out)
	if err != nil || string(b) != "A_KEY=\"it's\"\n" {
		t.Errorf("%q %v", b, err)
	}
	if err := os.Symlink(out, filepath.Join(dir, "y.env")); err != nil {
		t.Fatal(err)
	}
	if _, err := SetSecrets(filepath.Join(dir, "y.env"), []shape.ServerSecret{{Env: "B", Value: "1"}}); err == nil || !strings.Contains(err.Error(), "nothing was written") {
		t.Errorf("through a link: %v", err)
	}
}
