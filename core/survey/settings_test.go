package survey

import (
	"strings"
	"testing"
)

// Layers, includes, conditions and modifiers of build settings, for the configuration Debug of a target named "My App".
func TestSettingsByLayer(t *testing.T) {
	for _, c := range []struct {
		name, project, target string
		files                 map[string]string
		want                  string
	}{
		{name: "a later line wins", files: map[string]string{"Config/base.xcconfig": "A = one\nA = two\n"}, want: "two"},
		{name: "an include at the end wins over what stands before it", files: map[string]string{"Config/base.xcconfig": "A = own\n#include \"more.xcconfig\"\n", "Config/more.xcconfig": "A = more\n"}, want: "more"},
		{name: "and loses to what stands after it", files: map[string]string{"Config/base.xcconfig": "#include \"more.xcconfig\"\nA = own\n", "Config/more.xcconfig": "A = more\n"}, want: "own"},
		{name: "inherited inside a file", files: map[string]string{"Config/base.xcconfig": "#include \"more.xcconfig\"\nA = $(inherited).own\n", "Config/more.xcconfig": "A = more\n"}, want: "more.own"},
		{name: "inherited through all layers", project: "A = p;", target: `A = "$(inherited).t";`, files: map[string]string{"Config/base.xcconfig": "A = $(inherited).x\n"}, want: "p.x.t"},
		{name: "relative to the project", files: map[string]string{"Config/base.xcconfig": "#include \"Shared/more.xcconfig\"\n", "Shared/more.xcconfig": "A = shared\n"}, want: "shared"},
		{name: "for this configuration", files: map[string]string{"Config/base.xcconfig": "A = all\nA[config=Debug] = mine\nA[config=Release] = other\n"}, want: "mine"},
		{name: "for configurations like this", files: map[string]string{"Config/base.xcconfig": "A = all\nA[config=Deb*] = mine\n"}, want: "mine"},
		{name: "for another device", files: map[string]string{"Config/base.xcconfig": "A = all\nA[sdk=macosx*] = mac\n"}, want: "all"},
		{name: "for all phones", files: map[string]string{"Config/base.xcconfig": "A = all\nA[sdk=iphone*] = phones\n"}, want: "phones"},
		{name: "for the simulator", files: map[string]string{"Config/base.xcconfig": "A = all\nA[sdk=iphonesimulator*] = sim\n"}, want: "sim when [sdk=iphonesimulator*], or all when otherwise"},
		{name: "two conditions, one known", files: map[string]string{"Config/base.xcconfig": "A = all\nA[config=Debug][arch=arm64] = both\nA[config=Release][arch=arm64] = never\n"}, want: "both when [config=Debug][arch=arm64], or all when otherwise"},
		{name: "an address is cut", files: map[string]string{"Config/base.xcconfig": "A = https://host\n"}, want: "https:"},
		{name: "unless written so", files: map[string]string{"Config/base.xcconfig": "A = https:/$()/host\n"}, want: "https://host"},
		{name: "a semicolon at the end", files: map[string]string{"Config/base.xcconfig": "A = one;\n"}, want: "one"},
		{name: "of another with outcomes", target: `A = "$(B).x";`, files: map[string]string{"Config/base.xcconfig": "B = all\nB[sdk=iphonesimulator*] = sim\n"}, want: "sim.x when [sdk=iphonesimulator*], or all.x when otherwise"},
		{name: "default of what is not set", target: `A = "$(NOWHERE:default=d)";`, want: "d"},
		{name: "upper, base, dir", target: `A = "$(TARGET_NAME:upper) $(P:base) $(P:dir) $(P:suffix)"; P = "x/y/z.txt";`, want: "MY APP z x/y/ .txt"},
		{name: "set to nothing", project: "A = p;", target: `A = "";`, want: ""},
		{name: "a list", target: `A = ("one", "$(inherited)", "two"); `, project: "A = p;", want: "one p two"},
		{name: "braces", target: `A = "${B}"; B = b;`, want: "b"},
		{name: "a bracket that is missing", target: `A = "$(B";`, want: "?bracket"},
		{name: "a file that is not there", files: map[string]string{"Config/base.xcconfig": "#include \"gone.xcconfig\"\n"}, project: "A = p;", want: "?gone.xcconfig is not there"},
		{name: "unless it may be missing", files: map[string]string{"Config/base.xcconfig": "#include? \"gone.xcconfig\"\n"}, project: "A = p;", want: "p"},
		{name: "or is made by a package manager", files: map[string]string{"Config/base.xcconfig": "#include \"Pods/Target Support Files/Pods-App/Pods-App.debug.xcconfig\"\n"}, project: "A = p;", want: "p"},
		{name: "a mark at the beginning", files: map[string]string{"Config/base.xcconfig": "\xEF\xBB\xBFA = one\n"}, want: "one"},
	} {
		more := ""
		if c.files != nil {
			more = "baseConfigurationReference = X;"
		}
		files := map[string]string{"App.xcodeproj/project.pbxproj": project(c.project+" SDKROOT = iphoneos;", c.target+` PRODUCT_BUNDLE_IDENTIFIER = "$(A)";`, more)}
		for n, s := range c.files {
			files[n] = s
		}
		r := Survey(in(files))
		got := r.IOS.Projects[0].Targets[0].Configurations[0].BundleID
		why, open := strings.CutPrefix(c.want, "?")
		switch {
		case open && !strings.Contains(got.Unresolved, why):
			t.Errorf("%s: %s", c.name, got.Say())
		case c.want == "" && got.Set():
			t.Errorf("%s: %s", c.name, got.Say())
		case !open && c.want != "" && got.Say() != c.want:
			t.Errorf("%s: %s, want %s", c.name, got.Say(), c.want)
		}
	}
}

func TestDevicesATargetIsFor(t *testing.T) {
	for settings, want := range map[string]string{"SDKROOT = iphoneos;": "iphoneos", "SDKROOT = appletvos;": "", "SDKROOT = macosx;": "", "SDKROOT = auto; SUPPORTED_PLATFORMS = \"iphoneos iphonesimulator macosx\";": "iphoneos",
		"SUPPORTED_PLATFORMS = \"watchos watchsimulator\";": "", "IPHONEOS_DEPLOYMENT_TARGET = 9.0;": "iphoneos", "MACOSX_DEPLOYMENT_TARGET = 10.9;": "", "": "iphoneos"} {
		r := Survey(in(map[string]string{"App.xcodeproj/project.pbxproj": project(settings, "PRODUCT_BUNDLE_IDENTIFIER = a.b;", "")}))
		got := ""
		if len(r.IOS.Projects) > 0 {
			got = r.IOS.Projects[0].Targets[0].Platform
		}
		if got != want {
			t.Errorf("%s: %q, want %q", settings, got, want)
		}
	}
}
