package wiring

import (
	"archive/zip"
	"bytes"
	"strings"
	"testing"
	"testing/fstest"

	"ligare/core/survey"
	"ligare/core/tree"
)

// packed makes an archive.
func packed(t testing.TB, files ...[2]string) []byte {
	t.Helper()
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for _, f := range files {
		w, err := z.Create(f[0])
		if err != nil {
			t.Fatal(err)
		}
		if _, err := w.Write([]byte(f[1])); err != nil {
			t.Fatal(err)
		}
	}
	if err := z.Close(); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

func fieldhide(t testing.TB) []byte {
	return packed(t, [2]string{"Fieldhide/Fieldhide.xcconfig", "FIELDHIDE_ROOT = $(SRCROOT)/Fieldhide\n"}, [2]string{"Fieldhide/Fieldhide.framework/Fieldhide", "code\x00\xFF"}, [2]string{"Fieldhide/FieldhideLooks.bundle/lens.txt", "x"})
}

// The archive, its settings in every configuration, a framework, a bundle and the call: what a vendored library needs.
func TestAVendoredLibrary(t *testing.T) {
	files := fstest.MapFS{}
	for n, s := range leastIOS(t) {
		files[n] = &fstest.MapFile{Data: []byte(s)}
	}
	files["Config/Debug.xcconfig"] = &fstest.MapFile{Data: []byte("// Debug\nA = 1\n")}
	text := string(files[hiveProject].Data)
	text = strings.Replace(text, "/* End PBXFileReference section */", "\t\tF00000000000000000000001 /* Debug.xcconfig */ = {isa = PBXFileReference; lastKnownFileType = text.xcconfig; name = Debug.xcconfig; path = Config/Debug.xcconfig; sourceTree = SOURCE_ROOT; };\n/* End PBXFileReference section */", 1)
	text = strings.Replace(text, "isa = XCBuildConfiguration;\n\t\t\tbuildSettings = {\n\t\t\t\tASSET", "isa = XCBuildConfiguration;\n\t\t\tbaseConfigurationReference = F00000000000000000000001 /* Debug.xcconfig */;\n\t\t\tbuildSettings = {\n\t\t\t\tASSET", 1)
	files[hiveProject].Data = []byte(text)
	in := with(t, files, "fieldhide", nil)
	for _, reg := range in.Registrations {
		reg.Identities[0].Files["archive"] = fieldhide(t)
	}
	p, answers := placeOnly(t, in, "")
	for _, k := range p.Kept {
		t.Errorf("%s was left: %s %s", k.Placement, k.State, k.Detail)
	}
	if got, _ := in.Tree.Read("Config/Debug.xcconfig"); string(got) != "// Debug\n#include \"../Fieldhide/Fieldhide.xcconfig\"\nA = 1\n" {
		t.Errorf("%s", got)
	}
	if got, _ := in.Tree.Read("Fieldhide/Fieldhide.framework/Fieldhide"); string(got) != "code\x00\xFF" {
		t.Errorf("%q", got)
	}
	r := survey.Survey(tree.New(after(files, in.Tree)))
	target := r.IOS.Projects[0].Targets[0]
	if !contains(target.Frameworks, "System/Library/Frameworks/CoreMotion.framework") || !contains(target.Frameworks, "Fieldhide/Fieldhide.framework") || !contains(target.Resources, "Fieldhide/FieldhideLooks.bundle") {
		t.Errorf("%v %v", target.Frameworks, target.Resources)
	}
	px, err := in.project(answers[0].Want)
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []string{"Debug", "Release"} {
		s, _ := survey.SettingsOf(in.Tree, in.Survey.IOS.Projects[0], px, "Hivelog", c)
		if got := s.Get("FIELDHIDE_ROOT"); got.String() != "./Fieldhide" {
			t.Errorf("%s: %s", c, got.Say())
		}
	}
	again := with(t, after(files, in.Tree), "fieldhide", nil)
	again.Registrations[0].Identities[0].Files["archive"] = fieldhide(t)
	if q, _ := placeOnly(t, again, ""); len(q.Ops) > 0 {
		t.Errorf("placing again made %d edits, first %s in %s", len(q.Ops), q.Ops[0].Address, q.Ops[0].File)
	}
	if err := p.Commit(in, answers); err != nil {
		t.Fatal(err)
	}
	if left, err := Unplace(in.Tree, in.Registrations[0].Key(), false); err != nil || len(left) > 0 {
		t.Errorf("%v %+v", err, left)
	}
	same(t, "vendored", files, after(files, in.Tree))
}

func TestHostileArchives(t *testing.T) {
	for name, content := range map[string][]byte{
		"a path outside": packed(t, [2]string{"../x", "1"}),
		"a path at root": packed(t, [2]string{"/etc/x", "1"}),
		"a name twice":   packed(t, [2]string{"F/x", "1"}, [2]string{"x", "2"}),
		"backslashes":    packed(t, [2]string{`..\x`, "1"}),
		"no archive":     []byte("PK\x03\x04"),
	} {
		if files, err := (folderEnsure{}).unpacked(content, "F"); err == nil {
			t.Errorf("%s: %v", name, files)
		}
	}
}

func TestTargets(t *testing.T) {
	stage(t, leastIOS(t), []scene{
		{name: "a script phase after compiling, with what it reads", service: "burrcatch", only: "ios-symbols",
			lines: map[string]string{hiveProject: "shellScript = \"\\\"$SRCROOT/Pods/Burrcatch/upload-symbols\\\"\\n\";\n\t\t\t\t\"$(DWARF_DSYM_FOLDER_PATH)/$(DWARF_DSYM_FILE_NAME)\",\n/* Begin PBXShellScriptBuildPhase section */"}},
		{name: "the deployment target in all of its places", service: "etchwork", only: "ios-minimum",
			files: map[string]string{hiveProject: project(t, "IPHONEOS_DEPLOYMENT_TARGET = 16.0;", "IPHONEOS_DEPLOYMENT_TARGET = 12.0;", "MARKETING_VERSION = 2.3;", "IPHONEOS_DEPLOYMENT_TARGET = 13.4;\n\t\t\t\tMARKETING_VERSION = 2.3;"), "Podfile": "platform :ios, '12.0'\ntarget 'Hivelog' do\nend\n"},
			want:  map[string]string{hiveProject: project(t, "IPHONEOS_DEPLOYMENT_TARGET = 16.0;", "IPHONEOS_DEPLOYMENT_TARGET = 15.0;", "MARKETING_VERSION = 2.3;", "IPHONEOS_DEPLOYMENT_TARGET = 15.0;\n\t\t\t\tMARKETING_VERSION = 2.3;"), "Podfile": "platform :ios, '15.0'\ntarget 'Hivelog' do\nend\n"}},
		{name: "the deployment target that a hook gives the pods", service: "etchwork", only: "ios-minimum",
			files: map[string]string{"Podfile": "platform :ios, '16.0'\ntarget 'Hivelog' do\nend\npost_install do |installer|\n  installer.pods_project.targets.each do |t|\n    t.build_configurations.each do |c|\n      c.build_settings['IPHONEOS_DEPLOYMENT_TARGET'] = \"11.0\" # old\n    end\n  end\nend\n"},
			want:  map[string]string{"Podfile": "platform :ios, '16.0'\ntarget 'Hivelog' do\nend\npost_install do |installer|\n  installer.pods_project.targets.each do |t|\n    t.build_configurations.each do |c|\n      c.build_settings['IPHONEOS_DEPLOYMENT_TARGET'] = \"15.0\" # old\n    end\n  end\nend\n"}},
		{name: "what cannot be known is said, and the rest is raised", service: "etchwork", only: "ios-minimum", kept: "ios-minimum",
			files: map[string]string{hiveProject: project(t, "IPHONEOS_DEPLOYMENT_TARGET = 16.0;", "IPHONEOS_DEPLOYMENT_TARGET = 12.0;"), "Podfile": "platform :ios, lowest\ntarget 'Hivelog' do\nend\n"},
			want:  map[string]string{hiveProject: project(t, "IPHONEOS_DEPLOYMENT_TARGET = 16.0;", "IPHONEOS_DEPLOYMENT_TARGET = 15.0;")}},
		{name: "a deployment target that is high enough stays", service: "etchwork", only: "ios-minimum",
			want: map[string]string{hiveProject: project(t)}},
	})
}

// An extension has a bundle ID that begins with the app's, in every configuration, and is built and embedded with it.
func TestAnAppExtension(t *testing.T) {
	files := fstest.MapFS{}
	for n, s := range leastIOS(t) {
		files[n] = &fstest.MapFile{Data: []byte(s)}
	}
	files[hiveProject].Data = []byte(strings.Replace(project(t), "PRODUCT_BUNDLE_IDENTIFIER = example.larkfield.hivelog;", "PRODUCT_BUNDLE_IDENTIFIER = example.larkfield.hivelog.beta;", 1))
	in := with(t, files, "bellhanger", nil)
	p, answers := placeOnly(t, in, "ios-extension")
	if len(p.Kept) > 0 {
		t.Fatalf("%+v", p.Kept)
	}
	r := survey.Survey(tree.New(after(files, in.Tree)))
	found := false
	for _, tg := range r.IOS.Projects[0].Targets {
		if tg.Name != "BellhangerService" {
			continue
		}
		found = true
		for i, want := range []string{"example.larkfield.hivelog.beta.bell", "example.larkfield.hivelog.bell"} {
			c := tg.Configurations[i]
			if c.BundleID.String() != want || c.PlistKey("NSExtension/NSExtensionPointIdentifier").String() != "com.apple.usernotifications.service" || c.DeploymentTarget.String() != "16.0" {
				t.Errorf("%s: %s %s %+v", c.Name, c.BundleID.Say(), c.DeploymentTarget.Say(), c.PlistKeys)
			}
		}
	}
	if !found {
		t.Error("the project has no such target")
	}
	again := with(t, after(files, in.Tree), "bellhanger", nil)
	if q, _ := placeOnly(t, again, "ios-extension"); len(q.Ops) > 0 {
		t.Errorf("placing again made %d edits", len(q.Ops))
	}
	if err := p.Commit(in, answers); err != nil {
		t.Fatal(err)
	}
	if left, err := Unplace(in.Tree, in.Registrations[0].Key(), false); err != nil || len(left) > 0 {
		t.Errorf("%v %+v", err, left)
	}
	same(t, "extension", files, after(files, in.Tree))
}

func TestMistakesInTargets(t *testing.T) {
	early := strings.NewReplacer("buildPhases = (\n", "buildPhases = (\n\t\t\t\tF00000000000000000000002 /* Upload symbols to Burrcatch */,\n",
		"/* Begin PBXSourcesBuildPhase section */", "/* Begin PBXShellScriptBuildPhase section */\n\t\tF00000000000000000000002 /* Upload symbols to Burrcatch */ = {\n\t\t\tisa = PBXShellScriptBuildPhase;\n\t\t\tname = \"Upload symbols to Burrcatch\";\n\t\t\tshellScript = \"SCRIPT\";\n\t\t};\n/* End PBXShellScriptBuildPhase section */\n\n/* Begin PBXSourcesBuildPhase section */").Replace(project(t))
	for _, c := range []struct{ name, service, placement, text, code string }{
		{"a script before compiling", "burrcatch", "ios-symbols", strings.Replace(early, "SCRIPT", `\"$SRCROOT/Pods/Burrcatch/upload-symbols\"\n`, 1), "script-early"},
		{"another script under the name", "burrcatch", "ios-symbols", strings.Replace(early, "SCRIPT", `echo`, 1), "script-differs"},
		{"a framework that is not linked", "fieldhide", "motion", project(t), "framework-unlinked"},
		{"a bundle that is not copied", "fieldhide", "looks", project(t), "bundle-missing"},
		{"settings that only Debug includes", "fieldhide", "settings-include", project(t), "include-missing"},
	} {
		files := fstest.MapFS{}
		for n, s := range leastIOS(t) {
			files[n] = &fstest.MapFile{Data: []byte(s)}
		}
		files[hiveProject].Data = []byte(c.text)
		answers, err := Evaluate(with(t, files, c.service, nil))
		if err != nil {
			t.Fatal(err)
		}
		if found := of(answers, c.placement); len(found) != 1 || found[0].Code != c.code {
			t.Errorf("%s: %+v", c.name, found)
		}
	}
}

// A phase that the target did not have is made for the first service, and stays for the second when the first leaves.
func TestAPhaseIsMadeAndShared(t *testing.T) {
	var kept []string
	skipping := false
	for _, l := range strings.Split(project(t), "\n") {
		if strings.Contains(l, "Begin PBXResourcesBuildPhase") {
			skipping = true
		}
		if !skipping && !strings.Contains(l, "/* Resources */,") {
			kept = append(kept, l)
		}
		if strings.Contains(l, "End PBXResourcesBuildPhase") {
			skipping = false
		}
	}
	base := fstest.MapFS{}
	for n, s := range leastIOS(t) {
		base[n] = &fstest.MapFile{Data: []byte(s)}
	}
	base[hiveProject] = &fstest.MapFile{Data: []byte(strings.Join(kept, "\n"))}
	for _, leaving := range [][]string{{"etchwork", "thornmill"}, {"thornmill", "etchwork"}} {
		now := base
		for _, service := range []string{"etchwork", "thornmill"} {
			in := registered(t, surveyed(t, now), service, nil)
			p, answers := placeOnly(t, in, "ios-licence ios-config")
			if len(p.Kept) > 0 {
				t.Fatalf("%+v", p.Kept[0])
			}
			if err := p.Commit(in, answers); err != nil {
				t.Fatal(err)
			}
			now = after(now, in.Tree)
		}
		for i, service := range leaving {
			out := tree.New(now)
			if left, err := Unplace(out, service, false); err != nil || len(left) > 0 {
				t.Fatalf("%v %+v", err, left)
			}
			now = after(now, out)
			if i > 0 {
				continue
			}
			in := registered(t, surveyed(t, now), leaving[1], nil)
			if p, _ := placeOnly(t, in, "ios-licence ios-config"); len(p.Ops) > 0 || len(p.Kept) > 0 {
				t.Errorf("%s is no longer right when %s has left: %+v", leaving[1], service, p)
			}
		}
		same(t, leaving[0]+" first", base, now)
	}
}
