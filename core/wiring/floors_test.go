package wiring

import (
	"fmt"
	"strings"
	"testing"
	"testing/fstest"

	"ligare/core/tree"
)

func TestVersionsAreCompared(t *testing.T) {
	for _, c := range []struct {
		a, b   string
		is, ok bool
	}{{"21", "23", true, true}, {"23", "23", false, true}, {"14.0", "14", false, true}, {"9.3", "14.0", true, true}, {"15.1", "15.0", false, true}, {"14.0.1", "14.0.2", true, true}, {"", "14", false, false}, {"$(X)", "14", false, false}} {
		if is, ok := Under(c.a, c.b); is != c.is || ok != c.ok {
			t.Errorf("%s under %s: %v %v", c.a, c.b, is, ok)
		}
	}
}

func TestMinimumsAreRaisedWhereTheyAreDefined(t *testing.T) {
	kts := func(minimum string) string {
		return "plugins { id(\"com.android.application\") }\nandroid {\n    namespace = \"example.gold\"\n    defaultConfig {\n        " + minimum + "\n    }\n}\n"
	}
	groovy := func(minimum string) string {
		return "apply plugin: 'com.android.application'\nandroid {\n    namespace 'example.gold'\n    defaultConfig {\n        " + minimum + "\n    }\n}\n"
	}
	low := strings.Replace(golden, "    <uses-sdk android:minSdkVersion=\"24\" />\n", "", 1)
	const manifest, app = "app/src/main/AndroidManifest.xml", "app/build.gradle.kts"
	stage(t, leastAndroid, []scene{
		{name: "a literal", service: "thornmill", only: "android-minimum",
			files: map[string]string{manifest: low, app: kts("minSdk = 21 // phones of 2014")}, want: map[string]string{app: kts("minSdk = 23 // phones of 2014")}},
		{name: "high enough", service: "thornmill", only: "android-minimum",
			files: map[string]string{manifest: low, app: kts("minSdk = 26")}, want: map[string]string{app: kts("minSdk = 26")}},
		{name: "nothing says one", service: "thornmill", only: "android-minimum",
			files: map[string]string{manifest: low, app: kts("targetSdk = 35")}, want: map[string]string{app: kts("targetSdk = 35\n        minSdk = 23")}},
		{name: "in the catalog", service: "thornmill", only: "android-minimum",
			files: map[string]string{manifest: low, app: kts("minSdk = libs.versions.least.get().toInt()"), "gradle/libs.versions.toml": "[versions]\nleast = \"21\"\n"},
			want:  map[string]string{app: kts("minSdk = libs.versions.least.get().toInt()"), "gradle/libs.versions.toml": "[versions]\nleast = \"23\"\n"}},
		{name: "in the root's own properties", service: "thornmill", only: "android-minimum",
			files: map[string]string{manifest: low, app: "", "app/build.gradle": groovy("minSdkVersion rootProject.ext.least"), "build.gradle": "ext {\n  least = 19\n}\n"},
			want:  map[string]string{"app/build.gradle": groovy("minSdkVersion rootProject.ext.least"), "build.gradle": "ext {\n  least = 23\n}\n"}},
		{name: "in the manifest", service: "thornmill", only: "android-minimum",
			files: map[string]string{manifest: strings.Replace(golden, "24", "16", 1)}, want: map[string]string{manifest: strings.Replace(golden, "24", "23", 1)}},
		{name: "the framework's own", service: "thornmill", only: "android-minimum",
			files: map[string]string{manifest: low, app: kts("minSdk = flutter.minSdkVersion")}, want: map[string]string{app: kts("minSdk = maxOf(flutter.minSdkVersion, 23)")}},
		{name: "the framework's own, in Groovy", service: "thornmill", only: "android-minimum",
			files: map[string]string{manifest: low, app: "", "app/build.gradle": groovy("minSdkVersion flutter.minSdkVersion")}, want: map[string]string{"app/build.gradle": groovy("minSdkVersion Math.max(flutter.minSdkVersion, 23)")}},
		{name: "the framework's own, kept above another number", service: "thornmill", only: "android-minimum",
			files: map[string]string{manifest: low, app: kts("minSdk = maxOf(21, flutter.minSdkVersion)")}, want: map[string]string{app: kts("minSdk = maxOf(23, flutter.minSdkVersion)")}},
		{name: "what is computed is left to a person", service: "thornmill", only: "android-minimum", kept: "android-minimum",
			files: map[string]string{manifest: low, app: kts("minSdk = least(project)")}, want: map[string]string{app: kts("minSdk = least(project)")}},
	})
}

func TestMinimumsOfOtherLayouts(t *testing.T) {
	for _, c := range []struct{ dir, file, has, low, raised string }{
		{"engine", "ProjectSettings/ProjectSettings.asset", "  AndroidMinSdkVersion: 24\n", "  AndroidMinSdkVersion: 19\n", "  AndroidMinSdkVersion: 23\n"},
		{"engine", "ProjectSettings/ProjectSettings.asset", "  iOSTargetOSVersionString: 13.0\n", "  iOSTargetOSVersionString: 12.0\n", "  iOSTargetOSVersionString: 14.0\n"},
		{"dotnet", "App/App.csproj", "'android'\">23.0</Supp", "'android'\">21.0</Supp", "'android'\">23.0</Supp"},
		{"dotnet", "App/App.csproj", "'ios'\">14.2</Supp", "'ios'\">13.0</Supp", "'ios'\">14.0</Supp"},
	} {
		base := clone(snapshot(t, "../survey/testdata/"+c.dir))
		was := strings.Replace(string(base[c.file].Data), c.has, c.low, 1)
		if !strings.Contains(was, c.low) {
			t.Fatalf("%s does not say %s", c.file, c.has)
		}
		base[c.file] = &fstest.MapFile{Data: []byte(was)}
		in := registered(t, surveyed(t, base), "thornmill", nil)
		p, answers := placeOnly(t, in, "android-minimum ios-minimum")
		for _, k := range p.Kept {
			t.Errorf("%s: %s: %s", c.dir, k.Placement, k.Detail)
		}
		if got, _ := in.Tree.Read(c.file); !strings.Contains(string(got), c.raised) {
			t.Errorf("%s: %s", c.dir, got)
		}
		if err := p.Commit(in, answers); err != nil {
			t.Fatal(err)
		}
		out := tree.New(after(base, in.Tree))
		for _, r := range in.Registrations {
			if left, err := Unplace(out, r.Key(), false); err != nil || len(left) > 0 {
				t.Errorf("%s: %v %+v", c.dir, err, left)
			}
		}
		same(t, c.dir, base, after(after(base, in.Tree), out))
	}
}

// Three services need different minimums: whichever stay, the tree says what the highest of them needs.
func TestAMinimumGoesDownToWhatTheOthersNeed(t *testing.T) {
	const app = "app/build.gradle.kts"
	base := fstest.MapFS{}
	for n, s := range leastAndroid {
		base[n] = &fstest.MapFile{Data: []byte(strings.Replace(s, "    <uses-sdk android:minSdkVersion=\"24\" />\n", "", 1))}
	}
	needs := map[string]string{"tallywick": "21", "thornmill": "23", "tollbarrow": "24"}
	for _, line := range []string{"minSdk = 19", "minSdk = flutter.minSdkVersion", "targetSdk = 35"} {
		base[app] = &fstest.MapFile{Data: []byte("plugins { id(\"com.android.application\") }\nandroid {\n    namespace = \"example.gold\"\n    defaultConfig {\n        " + line + "\n    }\n}\n")}
		for _, order := range [][]string{{"tallywick", "thornmill", "tollbarrow"}, {"tollbarrow", "thornmill", "tallywick"}, {"thornmill", "tollbarrow", "tallywick"}, {"thornmill", "tallywick", "tollbarrow"}} {
			now := base
			for _, service := range order {
				in := registered(t, surveyed(t, now), service, map[string]string{"number": "123456789012345"})
				p, answers := placeOnly(t, in, "android-minimum")
				if err := p.Commit(in, answers); err != nil {
					t.Fatal(err)
				}
				now = after(now, in.Tree)
			}
			for _, leaving := range [][]string{{"tollbarrow", "thornmill", "tallywick"}, {"tallywick", "thornmill", "tollbarrow"}, {"thornmill", "tollbarrow", "tallywick"}} {
				out := tree.New(now)
				for i, service := range leaving {
					records, err := Records(out)
					if err != nil {
						t.Fatal(err)
					}
					for _, r := range records {
						if r.Service == service {
							if left, err := Unplace(out, r.Registration, false); err != nil || len(left) > 0 {
								t.Errorf("%v %+v", err, left)
							}
						}
					}
					want := ""
					for _, other := range leaving[i+1:] {
						want = max(want, needs[other])
					}
					got, _ := out.Read(app)
					if want != "" && !strings.Contains(string(got), want+")") && !strings.Contains(string(got), "minSdk = "+want+"\n") {
						t.Errorf("%s: %v placed, %v gone: it should be %s:\n%s", line, order, leaving[:i+1], want, got)
					}
				}
				same(t, fmt.Sprint(line, order, leaving), base, after(now, out))
			}
		}
	}
}

func TestADeploymentTargetUnderAConditionIsRaisedToo(t *testing.T) {
	for _, c := range []struct {
		key string
		is  bool
	}{{"IPHONEOS_DEPLOYMENT_TARGET", true}, {"IPHONEOS_DEPLOYMENT_TARGET[sdk=iphoneos*]", true}, {"IPHONEOS_DEPLOYMENT_TARGET[config=Debug][sdk=iphone*]", true}, {"IPHONEOS_DEPLOYMENT_TARGET[config=Debug]", true}, {"IPHONEOS_DEPLOYMENT_TARGET[sdk=macosx*]", false}, {"MACOSX_DEPLOYMENT_TARGET", false}} {
		if sets(c.key, "IPHONEOS_DEPLOYMENT_TARGET") != c.is {
			t.Errorf("%s: %v", c.key, !c.is)
		}
	}
}

func TestAPodfileThatTakesTheFrameworksOwn(t *testing.T) {
	podfile := func(platform string) string {
		return "platform :ios, " + platform + "\ntarget 'Seedswap' do\nend\n"
	}
	for _, c := range []struct{ version, platform, want, service string }{
		{"0.76.3", "min_ios_version_supported", "min_ios_version_supported", "thornmill"},
		{"^0.72.0", "min_ios_version_supported", "[min_ios_version_supported, '14.0'].max", "thornmill"},
		{"next", "min_ios_version_supported", "[min_ios_version_supported, '14.0'].max", "thornmill"},
		{"0.72.0", "[min_ios_version_supported, '13.0'].max", "[min_ios_version_supported, '14.0'].max", "thornmill"},
		{"0.72.0", "[min_ios_version_supported, '15.0'].max", "[min_ios_version_supported, '15.0'].max", "thornmill"},
	} {
		base := clone(snapshot(t, "../../demo/studio/seedswap"))
		for n := range base {
			switch {
			case strings.HasSuffix(n, "Podfile"):
				base[n] = &fstest.MapFile{Data: []byte(podfile(c.platform))}
			case n == "package.json":
				base[n] = &fstest.MapFile{Data: []byte("{\n  \"name\": \"seedswap\",\n  \"dependencies\": {\n    \"react-native\": \"" + c.version + "\"\n  }\n}\n")}
			}
		}
		in := registered(t, surveyed(t, base), c.service, nil)
		p, answers := placeOnly(t, in, "ios-minimum")
		for _, k := range p.Kept {
			t.Errorf("%s: %s", c.version, k.Detail)
		}
		if got, err := in.Tree.Read("ios/Podfile"); err != nil || string(got) != podfile(c.want) {
			t.Errorf("%s %s: %s %v", c.version, c.platform, got, err)
		}
		if err := p.Commit(in, answers); err != nil {
			t.Fatal(err)
		}
		out := tree.New(after(base, in.Tree))
		if len(p.Ops) > 0 {
			if left, err := Unplace(out, c.service, false); err != nil || len(left) > 0 {
				t.Errorf("%v %+v", err, left)
			}
		}
		same(t, c.platform, base, after(after(base, in.Tree), out))
	}
}
