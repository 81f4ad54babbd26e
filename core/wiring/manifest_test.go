package wiring

import (
	"testing"
	"testing/fstest"
)

// folderOf reads a folder as text.
func folderOf(t testing.TB, dir string) map[string]string {
	out := map[string]string{}
	for n, f := range snapshot(t, dir) {
		out[n] = string(f.Data)
	}
	return out
}

func TestPackageManifests(t *testing.T) {
	stage(t, folderOf(t, "../../demo/studio/seedswap"), []scene{
		{name: "package.json with tabs", service: "patchquay", only: "package",
			files: map[string]string{"package.json": "{\n\t\"name\": \"a\",\n\t\"dependencies\": {\n\t\t\"react-native\": \"0.76.0\"\n\t},\n\t\"devDependencies\": {}\n}\n"},
			want:  map[string]string{"package.json": "{\n\t\"name\": \"a\",\n\t\"dependencies\": {\n\t\t\"react-native\": \"0.76.0\",\n\t\t\"@patchquay/react\": \"^3.4.0\"\n\t},\n\t\"devDependencies\": {}\n}\n"}},
		{name: "there already", service: "patchquay", only: "package",
			files: map[string]string{"package.json": "{\"dependencies\": {\"@patchquay/react\": \"^3.4.0\", \"react-native\": \"0.76.0\"}}"},
			want:  map[string]string{"package.json": "{\"dependencies\": {\"@patchquay/react\": \"^3.4.0\", \"react-native\": \"0.76.0\"}}"}},
	})
	stage(t, folderOf(t, "../../demo/studio/tern-crossing"), []scene{
		{name: "pubspec.yaml with comments and a list of its own at the end", service: "tallywick", only: "flutter-package",
			files: map[string]string{"pubspec.yaml": "name: tern # ours\ndependencies:\n  flutter:\n    sdk: flutter\n\n  # last\ndev_dependencies:\n  a: 1\n"},
			want:  map[string]string{"pubspec.yaml": "name: tern # ours\ndependencies:\n  flutter:\n    sdk: flutter\n  tallywick_flutter: ^5.1.0\n\n  # last\ndev_dependencies:\n  a: 1\n"}},
	})
	stage(t, folderOf(t, "../survey/testdata/engine"), []scene{
		{name: "the engine's package list", service: "tallywick", only: "engine-package",
			lines: map[string]string{"Packages/manifest.json": "\"example.tallywick.count\": \"5.1.0\""}},
	})
	const central = "<Project>\n  <PropertyGroup>\n    <ManagePackageVersionsCentrally>true</ManagePackageVersionsCentrally>\n  </PropertyGroup>\n  <ItemGroup>\n    <PackageVersion Include=\"Other\" Version=\"1.0.0\" />\n  </ItemGroup>\n</Project>\n"
	stage(t, folderOf(t, "../survey/testdata/dotnet"), []scene{
		{name: "a package reference, its version in the project", service: "tallywick", only: "dotnet-package", files: map[string]string{"Directory.Packages.props": ""},
			lines: map[string]string{"App/App.csproj": "<PackageReference Include=\"Tallywick.Mobile\" Version=\"5.1.0\" />"}},
		{name: "versions managed centrally", service: "tallywick", only: "dotnet-package", files: map[string]string{"Directory.Packages.props": central},
			lines: map[string]string{"App/App.csproj": "<PackageReference Include=\"Tallywick.Mobile\" />", "Directory.Packages.props": "<PackageVersion Include=\"Tallywick.Mobile\" Version=\"5.1.0\" />"}},
	})
}

func TestMistakesInPackageManifests(t *testing.T) {
	for _, c := range []struct{ name, text, code, at string }{
		{"missing", `{"dependencies": {"react-native": "0.76.0"}}`, "package-entry-missing", ""},
		{"for development only", "{\"dependencies\": {\"react-native\": \"0.76.0\"},\n\"devDependencies\": {\"@patchquay/react\": \"^3.4.0\"}}", "package-entry-misplaced", "2:41"},
		{"twice", "{\"dependencies\": {\"react-native\": \"0.76.0\", \"@patchquay/react\": \"^3.4.0\"},\n\"devDependencies\": {\"@patchquay/react\": \"^3.4.0\"}}", "package-entry-twice", "2:41"},
		{"another version", "{\"dependencies\": {\"react-native\": \"0.76.0\",\n\"@patchquay/react\": \"^2.0.0\"}}", "package-entry-version", "2:21"},
	} {
		files := fstest.MapFS{}
		for n, s := range folderOf(t, "../../demo/studio/seedswap") {
			files[n] = &fstest.MapFile{Data: []byte(s)}
		}
		files["package.json"].Data = []byte(c.text)
		in := with(t, files, "patchquay", nil)
		answers, err := Evaluate(in)
		if err != nil {
			t.Fatal(err)
		}
		found := of(answers, "package")
		if len(found) != 1 || found[0].Code != c.code {
			t.Fatalf("%s: %+v", c.name, found)
		}
		if at := (Place{Line: found[0].Here.Line, Column: found[0].Here.Column}).String(); c.at != "" && at != ":"+c.at {
			t.Errorf("%s: at %s", c.name, found[0].Here)
		}
		if _, err := Make(in, found, Always); err != nil {
			t.Errorf("%s: %v", c.name, err)
		}
		if now := in.look(found[0].Want); !now.Good() && now.State != Twice && now.State != WrongPlace {
			t.Errorf("%s: then %s: %s", c.name, now.State, now.Detail)
		}
	}
}
