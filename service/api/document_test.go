package api_test

import (
	"encoding/json"
	"os"
	"reflect"
	"strings"
	"testing"
	"time"

	"ligare/client/shape"
)

// shapes are the types whose schemas the document holds.
var shapes = []any{shape.Problem{}, shape.Me{}, shape.SignIn{}, shape.App{}, shape.Identity{}, shape.NewApp{}, shape.NewIdentity{}, shape.Signer{}, shape.SignedIdentity{}, shape.SignerNeed{}, shape.NewSigner{}, shape.Survey{},
	shape.SurveyedVariant{}, shape.SurveyedFact{}, shape.Service{}, shape.NewSheet{}, shape.SheetVersion{}, shape.Connect{}, shape.Registration{}, shape.Registered{}, shape.IssuedFile{}, shape.IssuedValue{}, shape.Key{}, shape.NewKey{},
	shape.Berth{}, shape.Duty{}, shape.DutyDone{}, shape.Register{}, shape.IdentityAnswers{}, shape.Plan{}, shape.PlanPart{}, shape.PlanFeature{}, shape.PlanLine{}, shape.Resolve{}, shape.Recorded{}, shape.RecordedValue{}, shape.RecordedFile{},
	shape.Connection{}, shape.Carry{}, shape.Reason{}, shape.ServerSecret{}, shape.Published{}, shape.Item{}, shape.Catalogue{}, shape.CatalogueLine{}, shape.NewCatalogue{}, shape.Builder{}, shape.BuilderField{}, shape.SetField{}, shape.Build{},
	shape.Placing{}, shape.Comparison{}, shape.OwnedValue{}, shape.OpenAccess{}, shape.Differing{}, shape.Findings{}, shape.CheckedBranch{}, shape.CheckRun{}, shape.FindingState{}, shape.Handout{}, shape.Needle{}, shape.Unsought{}, shape.PlacingIdentity{}, shape.Sighting{}, shape.Report{}, shape.Finding{}, shape.Placement{}, shape.LineUp{}, shape.Package{}, shape.PackageFinding{}, shape.Overview{}, shape.OverviewService{}, shape.OverviewApp{}, shape.OverviewCell{}, shape.Event{}}

func schemaOf(t reflect.Type) map[string]any {
	switch t {
	case reflect.TypeOf(time.Time{}):
		return map[string]any{"type": "string", "format": "date-time"}
	case reflect.TypeOf([]byte{}):
		return map[string]any{"type": "string", "contentEncoding": "base64"}
	case reflect.TypeOf(json.RawMessage{}):
		return map[string]any{}
	}
	switch t.Kind() {
	case reflect.Pointer:
		return schemaOf(t.Elem())
	case reflect.Slice:
		return map[string]any{"type": "array", "items": schemaOf(t.Elem())}
	case reflect.Map:
		return map[string]any{"type": "object", "additionalProperties": schemaOf(t.Elem())}
	case reflect.Struct:
		return map[string]any{"$ref": "#/components/schemas/" + t.Name()}
	case reflect.Bool:
		return map[string]any{"type": "boolean"}
	case reflect.Int, reflect.Int64, reflect.Uint32:
		return map[string]any{"type": "integer"}
	case reflect.String:
		return map[string]any{"type": "string"}
	}
	return map[string]any{}
}

// The schemas are those of the shapes that are really sent; LIGARE_UPDATE=1 writes them anew.
func TestTheDocumentsSchemas(t *testing.T) {
	const file = "openapi.json"
	src, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	var doc map[string]any
	if err := json.Unmarshal(src, &doc); err != nil {
		t.Fatal(err)
	}
	components, ok := doc["components"].(map[string]any)
	if !ok {
		t.Fatal("the document has no components")
	}
	had, ok := components["schemas"].(map[string]any)
	if !ok {
		t.Fatal("the document has no schemas")
	}
	want := map[string]any{}
	for name, s := range had { // pages of lists are the document's own
		if strings.HasPrefix(name, "Page") || strings.HasSuffix(name, "Page") {
			want[name] = s
		}
	}
	for _, x := range shapes {
		ty := reflect.TypeOf(x)
		props, need := map[string]any{}, []any{}
		for i := range ty.NumField() {
			name, options, _ := strings.Cut(ty.Field(i).Tag.Get("json"), ",")
			props[name] = schemaOf(ty.Field(i).Type)
			if options == "" {
				need = append(need, name)
			}
		}
		s := map[string]any{"type": "object", "properties": props}
		if len(need) > 0 && !strings.HasPrefix(ty.Name(), "New") && ty.Name() != "Register" {
			s["required"] = need
		}
		want[ty.Name()] = s
	}
	a, err := json.Marshal(had)
	if err != nil {
		t.Fatal(err)
	}
	b, err := json.Marshal(want)
	if err != nil {
		t.Fatal(err)
	}
	if string(a) == string(b) {
		return
	}
	if os.Getenv("LIGARE_UPDATE") == "" {
		t.Fatal("the document's schemas are not those of the shapes; write them anew with LIGARE_UPDATE=1")
	}
	components["schemas"] = want
	out, err := json.MarshalIndent(doc, "", " ")
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(file, append(out, '\n'), 0o644); err != nil {
		t.Fatal(err)
	}
}
