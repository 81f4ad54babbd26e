package sheet

import (
	"encoding/json"
	"fmt"
	"os"
	"reflect"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"go.yaml.in/yaml/v3"

	"ligare/core/ident"
	"ligare/sheets"
)

func whole1(t testing.TB) string {
	t.Helper()
	b, err := os.ReadFile("testdata/whole.yaml")
	if err != nil {
		t.Fatal(err)
	}
	return string(b)
}

func library(t testing.TB) Library {
	t.Helper()
	lib, err := LoadLibrary(sheets.FS)
	if err != nil {
		t.Fatal(err)
	}
	return lib
}

func TestShippedSheets(t *testing.T) {
	all, err := Load(sheets.FS)
	if err != nil {
		t.Fatal(err)
	}
	lib := library(t)
	if len(all) != 11 {
		t.Errorf("%d sheets", len(all))
	}
	for name, s := range all {
		if err := lib.Check(s); err != nil {
			t.Error(err)
		}
		if name != s.Service || !strings.HasPrefix(s.Digest, "sha256:") || len(s.Duties) == 0 || len(s.Proof.Steps) == 0 || len(s.Messages) == 0 {
			t.Errorf("%s is not whole", name)
		}
		for _, v := range s.Issues.Values {
			if v.Exposure == Server && v.Env == "" {
				t.Errorf("%s: the server value %s has no place in a backend's environment", name, v.ID)
			}
		}
	}
}

// What is supplied is asked for by somebody, and what is asked for is supplied.
func TestShippedSheetsFeedEachOther(t *testing.T) {
	all, err := Load(sheets.FS)
	if err != nil {
		t.Fatal(err)
	}
	supplied, wanted := map[string]string{}, map[string]string{}
	for name, s := range all {
		for _, v := range s.Issues.Values {
			if v.Supplies != "" {
				supplied[v.Supplies] = name
			}
		}
		for _, w := range s.Intakes() {
			wanted[w.Takes] = name
		}
	}
	for what, by := range wanted {
		if supplied[what] == "" {
			t.Errorf("%s wants %s, which nobody supplies", by, what)
		}
	}
	for what, by := range supplied {
		if wanted[what] == "" {
			t.Errorf("%s supplies %s, which nobody wants", by, what)
		}
	}
}

func TestEveryElementIsRead(t *testing.T) {
	s, err := Parse("whole.yaml", []byte(whole1(t)))
	if err != nil {
		t.Fatal(err)
	}
	if err := library(t).Check(s); err != nil {
		t.Fatal(err)
	}
	if s.Asks[3].Image.Width != 512 || !s.Asks[3].Image.Alpha || s.Redirects.Most != 5 || s.Issues.Values[2].Instead == "" || s.Berths.Usual[1] != "back" ||
		!s.Catalogue.Groups || !s.Builder.Fields[0].Rebuild || s.Library["nettlepost-key"].Ensure != "xml-element" || s.Proof.Steps[0].Expect.Status != 201 || s.Connector.LookFor == "" {
		t.Errorf("%+v", s)
	}
	if n := len(s.Intakes()); n != 3 {
		t.Errorf("%d intakes", n)
	}
}

func TestMistakesInSheets(t *testing.T) {
	base := whole1(t)
	for _, c := range []struct{ name, from, to, say string }{
		{"unknown element", "scope: environment", "scope: environment\nfeature: []", `whole.yaml:10:1: there is no element "feature" here (did you mean features?)`},
		{"another version", "sheet: 1", "sheet: 2", `:2:8: sheet: "2" is another version of the language`},
		{"no title", "title: Nettlepost\n", "", "title is missing"},
		{"nothing said", "title: Nettlepost\n", "title:\n", "title is missing"},
		{"scope", "scope: environment", "scope: enviroment", `:9:8: scope: "enviroment" is not a word of the language here (did you mean environment?)`},
		{"exposure", "exposure: server", "exposure: secret", `issues.values.postmaster.exposure: "secret" is not a word`},
		{"pattern", `"nps_[a-z]{20}"`, `"nps_[a-z"`, "cannot be used"},
		{"placing a server value", "${value.counter-key}", "${value.postmaster}", `"postmaster" is a server value and must not be placed in an app (Ask from your backend`},
		{"placing an unknown value", "${value.counter-key}", "${value.counterkey}", `there is no value "counterkey" (did you mean counter-key?)`},
		{"twice", "  - id: weight", "  - id: stamp", `"stamp" stands twice in asks`},
		{"an element twice", "kind: parcel tracking", "kind: a\nkind: b", `"kind" stands twice; the first is in line 5`},
		{"no such file", "{file: office-file,", "{file: office-fille,", `there is no file "office-fille" (did you mean office-file?)`},
		{"no such feature", "when: sealed\n  - id: weight", "when: seald\n  - id: weight", `asks.stamp.when: there is no feature "seald" (did you mean sealed?)`},
		{"features that wait for each other", "title: Tracked parcels,", "title: Tracked parcels, after: [sealed],", "wait for each other"},
		{"a source", "from: app.title", "from: app.tittle", "did you mean app.title?"},
		{"a digest's form", "signer.sha256-hex", "signer.sha265-hex", "did you mean sha256-hex?"},
		{"a digest of nobody", "    per: identity\n    platform: android\n    when", "    when", "a digest belongs to an identity"},
		{"a choice without choices", "    choices: [light, heavy]\n", "", "a choice needs choices"},
		{"a default that is not offered", "default: light", "default: medium", `the default "medium" is not an answer`},
		{"an example that does not match", "example: Hivelog", "example: H", "does not match"},
		{"a pointer", "identity: /office/app", "identity: office/app", "it begins with /"},
		{"a server value in a file", "office: /office/number", "postmaster: /x", "the file goes into the app"},
		{"a path in a file's name", "name: nettlepost.json", "name: ../nettlepost.json", "is not a file name"},
		{"a reference left open", "${berth.name}", "${berth.name", "not closed"},
		{"an unknown outcome without words", "  look-for: \"In the list of post offices: one of this name.\"\n", "", "needs look-for"},
		{"a platform that is not served", "platform: ios\n    place", "platform: web\n    place", "does not serve web"},
		{"a placement of the sheet's own", "  nettlepost-key:\n", "  office-key:\n", "call it nettlepost-office-key"},
		{"an anchor", "about: One", "about: &a One", "anchors and aliases"},
		{"a control character", "title: Nettlepost\n", "title: \"Nettle\\x00post\"\n", "control character"},
		{"a list", "platforms: [android, ios]", "platforms: android", "a list belongs here"},
		{"a number", "most: 5", "most: many", "a whole number belongs here"},
		{"yes", "default: true}", "default: yes}", `true or false belongs here, not "yes"`},
		{"not YAML", "sheet: 1", "sheet: [", "not readable as YAML"},
		{"two documents", "# Nettlepost", "---\nsheet: 1\n---\n# Nettlepost", "a second document"},
	} {
		src := strings.Replace(base, c.from, c.to, 1)
		if src == base {
			t.Fatalf("%s changes nothing", c.name)
		}
		_, err := Parse("whole.yaml", []byte(src))
		if err == nil || !strings.Contains(err.Error(), c.say) {
			t.Errorf("%s: %v", c.name, err)
			continue
		}
		for _, p := range Problems(err) {
			if p.Line < 1 || p.Column < 1 {
				t.Errorf("%s has no place: %v", c.name, p)
			}
		}
	}
}

func TestSheetsThatAreNone(t *testing.T) {
	many := "sheet: 1\nmessages:\n" + strings.Repeat("- {code: a, cause: b, remedy: c}\n", 30_000)
	for name, src := range map[string]string{
		"": "the file is empty", "   \n": "the file is empty", "[]": "elements with names belong here", "sheet: 1\n" + strings.Repeat("#\n", 1<<20): "at most", many: "more than 20000 entries",
		"sheet: 1\na: " + strings.Repeat("[", 20000): "YAML", "<html>": "elements with names", "\x00": "YAML",
		"sheet: 1\nx: &x [1]\ny: [*x, *x]": "there is no element",
	} {
		if _, err := Parse("x", []byte(name)); err == nil || !strings.Contains(err.Error(), src) {
			t.Errorf("%.30q: %.200v", name, err)
		}
	}
}

func TestEveryProblemIsSaidAtOnce(t *testing.T) {
	src := strings.NewReplacer("scope: environment", "scope: world", "exposure: server", "exposure: hidden", "from: choice", "form: choice").Replace(whole1(t))
	_, err := Parse("whole.yaml", []byte(src))
	if got := Problems(err); len(got) != 4 || got[0].Line > got[1].Line { // form is unknown and from is missing
		t.Errorf("%v", err)
	}
}

func TestLibrary(t *testing.T) {
	lib := library(t)
	for _, c := range []struct{ name, from, to, say string }{
		{"unknown placement", "place: plist-key", "place: plist-keys", `there is no named placement "plist-keys" (did you mean plist-key?)`},
		{"a parameter that is missing", "with: {key: NettlepostShelf, value", "with: {value", `plist-key needs "key"`},
		{"a parameter that is not taken", "with: {key: NettlepostShelf,", "with: {key: NettlepostShelf, colour: red,", `plist-key takes no "colour"`},
		{"another platform's", "place: plist-key", "place: string-resource", "string-resource is for android"},
		{"an ensure", "ensure: xml-element", "ensure: xml-elment", "did you mean xml-element?"},
		{"a setting", "root: resources", "rot: resources", "did you mean root?"},
		{"a setting that is needed", "root: resources, ", "", `the ensure xml-element needs "root"`},
		{"a parameter of nobody", `text: "${value}"`, `text: "${valu}"`, "${valu} is not a parameter"},
	} {
		src := strings.Replace(whole1(t), c.from, c.to, 1)
		s, err := Parse("whole.yaml", []byte(src))
		if err == nil {
			err = lib.Check(s)
		}
		if err == nil || !strings.Contains(err.Error(), c.say) || !strings.Contains(err.Error(), "whole.yaml:") {
			t.Errorf("%s: %v", c.name, err)
		}
	}
	for name, text := range map[string]string{"defined already": "library: 1\nplacements: {a: {title: x, ensure: file, needs: [file]}}", "no placement": "library: 1\nplacements: {b: {title: x, either: [zz], needs: []}}", "no element": "library: 1\nplacements: {c: {colour: x}}", "not readable": "library: ["} {
		fs := fstest.MapFS{"library/a.yaml": {Data: []byte("library: 1\nplacements: {a: {title: x, ensure: file, needs: [file]}}")}, "library/b.yaml": {Data: []byte(text)}}
		if _, err := LoadLibrary(fs); err == nil || !strings.Contains(err.Error(), name) {
			t.Errorf("%s: %v", name, err)
		}
	}
}

// The schema says the same as the reader about shipped sheets and about mistakes that a schema can see.
func TestSchemaAgreesWithReader(t *testing.T) {
	text, err := Schema()
	if err != nil {
		t.Fatal(err)
	}
	doc, err := jsonschema.UnmarshalJSON(strings.NewReader(string(text)))
	if err != nil {
		t.Fatal(err)
	}
	c := jsonschema.NewCompiler()
	if err := c.AddResource("sheet.json", doc); err != nil {
		t.Fatal(err)
	}
	schema, err := c.Compile("sheet.json")
	if err != nil {
		t.Fatal(err)
	}
	valid := func(src string) error {
		var v any
		if err := yaml.Unmarshal([]byte(src), &v); err != nil {
			return err
		}
		b, err := json.Marshal(v)
		if err != nil {
			return err
		}
		v, err = jsonschema.UnmarshalJSON(strings.NewReader(string(b)))
		if err != nil {
			return err
		}
		return schema.Validate(v)
	}
	names, err := sheets.FS.ReadDir(".")
	if err != nil {
		t.Fatal(err)
	}
	for _, n := range names {
		if n.IsDir() {
			continue
		}
		src, err := sheets.FS.ReadFile(n.Name())
		if err != nil {
			t.Fatal(err)
		}
		if err := valid(string(src)); err != nil {
			t.Errorf("%s: %v", n.Name(), err)
		}
	}
	if err := valid(whole1(t)); err != nil {
		t.Error(err)
	}
	for _, change := range [][2]string{{"scope: environment", "scope: world"}, {"kind: parcel tracking\n", ""}, {"exposure: server", "colour: red"}, {"most: 5", "most: some"}} {
		if err := valid(strings.Replace(whole1(t), change[0], change[1], 1)); err == nil {
			t.Errorf("the schema takes %q", change[1])
		}
	}
	held(t, "../../docs/reference/sheet.schema.json", string(text))
}

// held compares a file of the reference with what it has to be; LIGARE_UPDATE=1 writes it.
func held(t *testing.T, file, want string) {
	t.Helper()
	if os.Getenv("LIGARE_UPDATE") != "" {
		if err := os.WriteFile(file, []byte(want), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if got, err := os.ReadFile(file); err != nil || string(got) != want {
		t.Errorf("%s is not what the language is; write it anew with LIGARE_UPDATE=1 (%v)", file, err)
	}
}

// firstUses notes the first use of each element of a sheet, on one line.
func firstUses(t *testing.T, n *yaml.Node, of reflect.Type, out map[string]string) {
	switch of.Kind() {
	case reflect.Pointer:
		firstUses(t, n, of.Elem(), out)
	case reflect.Slice:
		for _, c := range n.Content {
			firstUses(t, c, of.Elem(), out)
		}
	case reflect.Map:
		for i := 1; i < len(n.Content); i += 2 {
			firstUses(t, n.Content[i], of.Elem(), out)
		}
	case reflect.Struct:
		for i := range of.NumField() {
			f := of.Field(i)
			name := f.Tag.Get("yaml")
			v := member(n, name)
			if name == "" || name == "-" || v == nil {
				continue
			}
			firstUses(t, v, f.Type, out)
			line := &yaml.Node{Kind: yaml.MappingNode, Style: yaml.FlowStyle, Content: []*yaml.Node{{Kind: yaml.ScalarNode, Value: name}, v}}
			b, err := yaml.Marshal(line)
			if err != nil {
				t.Fatal(err)
			}
			key := of.Name() + "." + name
			if text := strings.TrimSuffix(strings.TrimPrefix(strings.TrimSpace(string(b)), "{"), "}"); out[key] == "" && !strings.Contains(text, "\n") {
				out[key] = text
			}
		}
	}
}

func TestReference(t *testing.T) {
	var doc yaml.Node
	if err := yaml.Unmarshal([]byte(whole1(t)), &doc); err != nil {
		t.Fatal(err)
	}
	at := map[string][]string{"Ask": {"asks"}, "Image": {"asks", "3", "image"}, "Feature": {"features", "1"}, "Redirects": {"redirects"}, "RedirectRule": {"redirects", "allow"}, "Proposal": {"redirects", "propose"},
		"Value": {"issues", "values", "2"}, "File": {"issues", "files", "0"}, "Berths": {"berths"}, "Catalogue": {"catalogue"}, "Builder": {"builder"}, "BuilderField": {"builder", "fields"},
		"Placement": {"placements", "1"}, "Named": {"library"}, "Constraint": {"constraints"}, "Package": {"packages"}, "Message": {"messages"}, "Proof": {"proof"}, "Step": {"proof", "steps"}, "Request": {"proof", "steps", "0", "send"},
		"Expect": {"proof", "steps", "0", "expect"}, "Duty": {"duties"}, "Connector": {"connector"}, "Issues": {"issues"}, "Sheet": {"service"}}
	used := map[string]bool{}
	each := map[string]string{}
	firstUses(t, doc.Content[0], reflect.TypeOf(Sheet{}), each)
	text := Reference(func(kind, element string) string {
		if element != "" {
			if each[kind+"."+element] == "" {
				t.Errorf("whole.yaml does not use %s of %s", element, kind)
			}
			return each[kind+"."+element]
		}
		path, ok := at[kind]
		if !ok {
			t.Errorf("%s has no example", kind)
			return ""
		}
		used[kind] = true
		n, name := doc.Content[0], ""
		for depth, step := range path {
			if n.Kind == yaml.MappingNode {
				n, name = member(n, step), step
			} else {
				var i int
				if _, err := fmt.Sscan(step, &i); err != nil {
					t.Fatal(err)
				}
				n = &yaml.Node{Kind: yaml.SequenceNode, Content: n.Content[i : i+1]}
				if depth < len(path)-1 {
					n = n.Content[0]
				}
			}
		}
		out := &yaml.Node{Kind: yaml.MappingNode, Content: []*yaml.Node{{Kind: yaml.ScalarNode, Value: name}, n}}
		var b strings.Builder
		e := yaml.NewEncoder(&b)
		e.SetIndent(2)
		if err := e.Encode(out); err != nil {
			t.Fatal(err)
		}
		return b.String()
	})
	for kind := range at {
		if !used[kind] {
			t.Errorf("%s is not in the reference", kind)
		}
	}
	intro, err := os.ReadFile("testdata/reference-intro.md")
	if err != nil {
		t.Fatal(err)
	}
	var list strings.Builder
	lib := library(t)
	list.WriteString("\n## The library of named placements\n\nThe second layer: data above the ensures, in `sheets/library/`. A team adds its own in a sheet's `library`.\n\n| placement | | needs | takes | ensure |\n|---|---|---|---|---|\n")
	for _, n := range lib.names() {
		p := lib[n]
		ensure := p.Ensure
		if ensure == "" {
			ensure = "the first of " + strings.Join(p.Either, ", ") + " that fits"
		}
		platform := ""
		if p.Platform != "" {
			platform = " (" + string(p.Platform) + ")"
		}
		fmt.Fprintf(&list, "| `%s` | %s%s | %s | %s | %s |\n", n, p.Title, platform, strings.Join(p.Needs, ", "), strings.Join(p.Takes, ", "), ensure)
	}
	held(t, "../../docs/reference/sheets.md", string(intro)+text+list.String())
}

func TestFill(t *testing.T) {
	get := func(k string) (string, bool) { v, ok := map[string]string{"a": "1", "b.c": "$2"}[k]; return v, ok }
	for in, want := range map[string]string{"": "", "x": "x", "${a}": "1", "<${a}${b.c}>": "<1$2>", "$a": "$a"} {
		if got, err := Fill(in, get); err != nil || got != want {
			t.Errorf("%q: %q %v", in, got, err)
		}
	}
	for _, in := range []string{"${none}", "${a"} {
		if _, err := Fill(in, get); err == nil {
			t.Errorf("%q was filled", in)
		}
	}
	if got := strings.Join(References("${a} ${b.c} ${"), " "); got != "a b.c" {
		t.Errorf("references: %s", got)
	}
}

func TestMatchIsWhole(t *testing.T) {
	if !Match("[0-9]{3}", "123") || Match("[0-9]{3}", "1234") || Match("[0-9]{3}", "123\n") || Match("a|b", "ab") || !Match("", "anything") {
		t.Error("a pattern must match the whole value")
	}
}

func TestNearest(t *testing.T) {
	words := []string{"identity", "environment", "android", "ios"}
	for in, want := range map[string]string{"identty": "identity", "andriod": "android", "iOS": "ios", "zzzzzzzz": "", "env": "", "environments": "environment"} {
		if got := Nearest(in, words); got != want {
			t.Errorf("%s: %q", in, got)
		}
	}
}

func FuzzParse(f *testing.F) {
	b, err := os.ReadFile("testdata/whole.yaml")
	if err != nil {
		f.Fatal(err)
	}
	f.Add(b)
	f.Add([]byte("sheet: 1\nasks: [{id: a, from: signer.x}]"))
	lib := library(f)
	f.Fuzz(func(t *testing.T, src []byte) {
		s, err := Parse("x", src)
		if err == nil {
			_ = lib.Check(s) // may say anything, but must end
			return
		}
		if len(Problems(err)) == 0 {
			t.Fatalf("%q: an error without a problem: %v", src, err)
		}
	})
}

func TestExposureIsTheSheets(t *testing.T) {
	all, err := Load(sheets.FS)
	if err != nil {
		t.Fatal(err)
	}
	if all["tallywick"].Value("tally-secret").Exposure != Client || all["bellhanger"].Value("sending-key").Exposure != Server {
		t.Error("a value's name says nothing about its exposure")
	}
	if all["thornmill"].FileFor(ident.IOS).Name != "Thornmill.json" || all["thornmill"].FileFor(ident.Web) != nil {
		t.Error("files by platform")
	}
}
