package report

import (
	"bytes"
	"os"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"

	"ligare/core/check"
)

// What SARIF writes is valid by the schema that OASIS published with version 2.1.0 (errata 01).
func TestSARIFIsValidByItsSchema(t *testing.T) {
	f, err := os.Open("testdata/sarif-schema-2.1.0.json")
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	doc, err := jsonschema.UnmarshalJSON(f)
	if err != nil {
		t.Fatal(err)
	}
	c := jsonschema.NewCompiler()
	const id = "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json"
	if err := c.AddResource(id, doc); err != nil {
		t.Fatal(err)
	}
	schema, err := c.Compile(id)
	if err != nil {
		t.Fatal(err)
	}
	finding := check.Finding{Rule: "resource-padded", Severity: check.Error, Message: "m", File: "a b/ü.xml", Line: 3, Column: 7, Expected: "x", Actual: " x", Fingerprint: "0123456789abcdef"}
	whole := check.Finding{Rule: "duty-open", Severity: check.Note, Message: "m", File: "ligare.yaml", Fingerprint: "1123456789abcdef"}
	for name, r := range map[string]*check.Result{
		"empty": {},
		"everything": {Findings: []check.Finding{finding, whole}, Standing: []check.Finding{finding}, Gone: []string{"x"}, Looked: []string{"resource-padded"}, NotLooked: []check.NotLooked{{Rule: "secret-in-tree", Reason: "no server", Required: true}},
			Waived: []check.Waived{{Finding: finding, Waiver: check.Waiver{Rule: "resource-padded", Reason: "r", Who: "w", Until: "2026-12-31"}}}},
	} {
		var b bytes.Buffer
		if err := SARIF(&b, r, "1.2.3"); err != nil {
			t.Fatal(err)
		}
		v, err := jsonschema.UnmarshalJSON(bytes.NewReader(b.Bytes()))
		if err != nil {
			t.Fatal(err)
		}
		if err := schema.Validate(v); err != nil {
			t.Errorf("%s: %v", name, err)
		}
	}
	if bad, err := jsonschema.UnmarshalJSON(bytes.NewReader([]byte(`{"version": "2.1.0", "runs": [{"results": []}]}`))); err != nil || schema.Validate(bad) == nil {
		t.Error("the schema takes anything")
	}
}
