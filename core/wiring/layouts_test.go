package wiring

import (
	"os"
	"strings"
	"testing"

	"ligare/core/binding"
)

// What is left to a person in other layouts is said with the reason and what has to be true; none is passed over in silence.
func TestOtherLayoutsSayWhatIsLeftToAPerson(t *testing.T) {
	for _, layout := range []string{"dotnet", "engine"} {
		in := everything(t, snapshot(t, "../survey/testdata/"+layout))
		answers, err := Evaluate(in)
		if err != nil {
			t.Fatal(err)
		}
		android, ios := 0, 0
		for _, a := range answers {
			if a.Code == "not-supported" && (a.State != Unknown || len(a.Detail) < 20 || strings.Contains(a.Detail, "()")) {
				t.Errorf("%s: %s %s is %s: %s", layout, a.Service, a.Want.Placement, a.State, a.Detail)
			}
			if a.Want.Platform == "ios" {
				ios++
			} else {
				android++
			}
		}
		if android == 0 || ios == 0 {
			t.Errorf("%s: %d Android and %d iOS placements", layout, android, ios)
		}
	}
}

func TestPlacingIntoOtherLayouts(t *testing.T) {
	dotnet := folderOf(t, "../survey/testdata/dotnet")
	dotnet["App/App.csproj"] = strings.Replace(dotnet["App/App.csproj"], "<ApplicationId>$(ApplicationId).debug</ApplicationId>", "", 1)
	stage(t, dotnet, []scene{
		{name: "manifest and resources of a .NET project", service: "treadmark", only: "android-number android-internet", values: map[string]string{"app-number": "123456789012345"},
			lines: map[string]string{"App/Platforms/Android/AndroidManifest.xml": "<meta-data android:name=\"example.treadmark.App\" android:value=\"@string/treadmark_app\" />", "App/Platforms/Android/Resources/values/strings.xml": "<string name=\"treadmark_app\">123456789012345</string>"}},
		{name: "property lists and files of a .NET project", service: "thornmill", only: "ios-config android-config",
			lines: map[string]string{"App/Platforms/iOS/Resources/Thornmill.json": "file ios-config", "App/Platforms/Android/Resources/xml/thornmill_config.xml": "file android-config"}},
		{name: "keys, schemes and entitlements of a .NET project", service: "gatepost", only: "ios-client ios-scheme ios-query ios-domain",
			lines: map[string]string{"App/Platforms/iOS/Info.plist": "<key>GatepostClient</key>\n<string>gatepost-keeper</string>", "App/Platforms/iOS/Entitlements.plist": "<string>applinks:sign-in.gatepost.example</string>"}},
	})
	stage(t, folderOf(t, "../survey/testdata/engine"), []scene{
		{name: "the manifest that an engine's tree has", service: "treadmark", only: "android-internet android-query",
			lines: map[string]string{"Assets/Plugins/Android/AndroidManifest.xml": "<package android:name=\"example.treadmark.companion\" />"}},
	})
}

// The reference holds the table of placements and layouts; it is written from the code.
func TestTheReferenceHoldsTheTable(t *testing.T) {
	_, lib := shipped(t)
	const name = "../../docs/reference/placements.md"
	want := Table(lib)
	got, err := os.ReadFile(name)
	if string(got) == want {
		return
	}
	if os.Getenv("LIGARE_UPDATE") == "" {
		t.Fatalf("%s is not what the code says (%v); write it anew with LIGARE_UPDATE=1", name, err)
	}
	if err := os.WriteFile(name, []byte(want), 0o644); err != nil {
		t.Fatal(err)
	}
}

// Native projects under a framework are placed into like any others.
func TestNativeProjectsUnderAFramework(t *testing.T) {
	for _, dir := range []string{"../survey/testdata/wrapper", "../../demo/studio/seedswap", "../../demo/studio/tern-crossing"} {
		base := snapshot(t, dir)
		in := load(t, base)
		answers, err := Evaluate(in)
		if err != nil {
			t.Fatal(err)
		}
		if len(answers) == 0 {
			t.Errorf("%s: nothing is to be placed", dir)
		}
		for _, a := range answers {
			if a.Code == "not-supported" {
				t.Errorf("%s: %s: %s", dir, a.Want.Placement, a.Detail)
			}
		}
		if len(binding.Propose("x", in.Survey).IOS) != 1 {
			t.Errorf("%s: test targets are bound as apps", dir)
		}
	}
}
