package survey

import (
	"bytes"
	"encoding/json"
	"os"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"

	"ligare/core/tree"
)

const published = "../../docs/reference/survey.schema.json"

// The published schema is the one the types make, and what a survey says of every tree is valid by it.
func TestThePublishedSchema(t *testing.T) {
	var made bytes.Buffer
	e := json.NewEncoder(&made)
	e.SetEscapeHTML(false)
	e.SetIndent("", "  ")
	if err := e.Encode(Schema()); err != nil {
		t.Fatal(err)
	}
	if os.Getenv("LIGARE_UPDATE") != "" {
		if err := os.WriteFile(published, made.Bytes(), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	on, err := os.ReadFile(published)
	if err != nil || !bytes.Equal(on, made.Bytes()) {
		t.Fatalf("%s is not what the types make (%v): run LIGARE_UPDATE=1 go test ./core/survey -run Schema", published, err)
	}
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader(on))
	if err != nil {
		t.Fatal(err)
	}
	c := jsonschema.NewCompiler()
	if err := c.AddResource("survey.json", doc); err != nil {
		t.Fatal(err)
	}
	s, err := c.Compile("survey.json")
	if err != nil {
		t.Fatal(err)
	}
	valid := func(raw []byte) error {
		v, err := jsonschema.UnmarshalJSON(bytes.NewReader(raw))
		if err != nil {
			return err
		}
		return s.Validate(v)
	}
	for _, dir := range append(trees(), "../../demo/studio/marrow-radio") {
		raw, err := json.Marshal(With(tree.New(os.DirFS(dir)), Options{Bridges: []string{"@shellwright/bridge"}}))
		if err != nil {
			t.Fatal(err)
		}
		if err := valid(raw); err != nil {
			t.Errorf("%s: %v", dir, err)
		}
	}
	for name, spoil := range map[string]func(*AndroidVariant){
		"two answers at once":       func(v *AndroidVariant) { v.MinSDK.Unresolved = "why" },
		"a value and possible ones": func(v *AndroidVariant) { v.MinSDK.Possible = []Possible{{Value: "1", When: "x"}} },
		"a line that is none":       func(v *AndroidVariant) { v.MinSDK.Line = -1 },
	} {
		r := Survey(tree.New(os.DirFS("../../demo/studio/hivelog")))
		spoil(r.Android.Modules[0].Variants[0])
		raw, err := json.Marshal(r)
		if err != nil {
			t.Fatal(err)
		}
		if valid(raw) == nil {
			t.Errorf("%s: the schema takes it", name)
		}
	}
}
