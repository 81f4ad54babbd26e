package survey

import (
	"strings"
	"testing"
)

// modern is a project of object version 77: folders whose files belong to targets by lying in them.
const modern = `// !$*UTF8*$!
{ objectVersion = 77; objects = {
 P = {isa = PBXProject; mainGroup = G; buildConfigurationList = PL; targets = (T, E, ); packageReferences = (R, L, ); };
 G = {isa = PBXGroup; children = (S, SE, ); sourceTree = "<group>"; };
 S = {isa = PBXFileSystemSynchronizedRootGroup; path = Hive; exceptions = (X, ); sourceTree = "<group>"; };
 SE = {isa = PBXFileSystemSynchronizedRootGroup; path = Share; sourceTree = "<group>"; };
 X = {isa = PBXFileSystemSynchronizedBuildFileExceptionSet; membershipExceptions = (Info.plist, Left/Out.swift, ); target = T; };
 T = {isa = PBXNativeTarget; name = Hive; productType = "com.apple.product-type.application"; buildConfigurationList = TL; buildPhases = (F, ); fileSystemSynchronizedGroups = (S, ); packageProductDependencies = (D, ); };
 E = {isa = PBXNativeTarget; name = Share; productType = "com.apple.product-type.app-extension"; buildConfigurationList = EL; buildPhases = (); fileSystemSynchronizedGroups = (SE, ); };
 F = {isa = PBXFrameworksBuildPhase; files = (B, ); };
 B = {isa = PBXBuildFile; productRef = D; };
 D = {isa = XCSwiftPackageProductDependency; package = R; productName = Honey; };
 R = {isa = XCRemoteSwiftPackageReference; repositoryURL = "https://packages.example/honey"; requirement = {kind = upToNextMajorVersion; minimumVersion = 2.1.0; }; };
 L = {isa = XCLocalSwiftPackageReference; relativePath = ../Local; };
 PL = {isa = XCConfigurationList; buildConfigurations = (PD, ); };
 PD = {isa = XCBuildConfiguration; name = Debug; buildSettings = { SDKROOT = iphoneos; IPHONEOS_DEPLOYMENT_TARGET = 17.0; DEVELOPMENT_TEAM = HIVETEAM01; }; };
 TL = {isa = XCConfigurationList; buildConfigurations = (TD, ); };
 TD = {isa = XCBuildConfiguration; name = Debug; buildSettings = { PRODUCT_BUNDLE_IDENTIFIER = example.hive; GENERATE_INFOPLIST_FILE = YES; INFOPLIST_FILE = Hive/Info.plist; INFOPLIST_KEY_CFBundleDisplayName = Hive; CODE_SIGN_ENTITLEMENTS = Hive/Hive.entitlements; "CODE_SIGN_IDENTITY[sdk=iphoneos*]" = "Apple Development"; PROVISIONING_PROFILE_SPECIFIER = "Hive dev"; }; };
 EL = {isa = XCConfigurationList; buildConfigurations = (ED, ); };
 ED = {isa = XCBuildConfiguration; name = Debug; buildSettings = { PRODUCT_BUNDLE_IDENTIFIER = "example.hive.share"; GENERATE_INFOPLIST_FILE = YES; }; };
}; rootObject = P; }`

func TestAProjectOfToday(t *testing.T) {
	r := Survey(in(map[string]string{
		"Hive.xcodeproj/project.pbxproj": modern,
		"Hive/Info.plist":                "<plist><dict><key>CFBundleURLTypes</key><array><dict><key>CFBundleURLSchemes</key><array><string>hive</string></array></dict></array></dict></plist>",
		"Hive/Hive.entitlements":         "<plist><dict><key>keychain-access-groups</key><array><string>$(AppIdentifierPrefix)example.hive</string></array><key>aps-environment</key><string>development</string></dict></plist>",
		"Hive/PrivacyInfo.xcprivacy":     "<plist><dict><key>NSPrivacyTracking</key><true/><key>NSPrivacyTrackingDomains</key><array><string>t.example</string></array></dict></plist>",
		"Hive/Views/HiveApp.swift":       "import SwiftUI\n@main\nstruct HiveApp: App {\n  init() { Bees.start() }\n  var body: some Scene { WindowGroup { Text(\"x\") }.onOpenURL { Bees.open($0) } }\n}\n",
		"Hive/Left/Out.swift":            "@main class Other: NSObject, UIApplicationDelegate { func application(_ a: UIApplication, didFinishLaunchingWithOptions o: Any?) -> Bool { Wrong.start(); return true } }",
		"Podfile":                        "target 'Hive' do\n  pod 'Wax', '~> 1.2'\n  pod 'Comb', :git => 'https://packages.example/comb.git'\n  # pod 'Not'\nend\n",
	}))
	if len(r.IOS.Projects) != 1 {
		t.Fatalf("%+v", r.Unresolved)
	}
	p := r.IOS.Projects[0]
	c := p.Targets[0].Configurations[0]
	for name, x := range map[string]struct{ got, want string }{
		"bundle ID": {c.BundleID.Say(), "example.hive"}, "deployment target": {c.DeploymentTarget.Say(), "17.0"}, "display name": {c.DisplayName.Say(), "Hive"}, "team": {c.SigningTeam.Say(), "HIVETEAM01"},
		"identity": {c.SigningIdentity.Say(), "Apple Development when [sdk=iphoneos*]"}, "profile": {c.Profile.Say(), "Hive dev"}, "prefix": {c.IdentifierPrefix.Say(), "HIVETEAM01"},
		"schemes": {c.URLSchemes[0].Say(), "hive"}, "privacy": {c.PrivacyManifest.Say(), "Hive/PrivacyInfo.xcprivacy"}, "info": {c.InfoPlist.Say(), "Hive/Info.plist"},
		"extension": {p.Targets[1].Configurations[0].BundleID.Say(), "example.hive.share"}, "extension's plist": {p.Targets[1].Configurations[0].InfoPlist.Say(), "generated"},
		"linked": {strings.Join(p.Targets[0].Frameworks, " "), "Honey"},
	} {
		if x.got != x.want {
			t.Errorf("%s: %s, want %s", name, x.got, x.want)
		}
	}
	entries := map[string]string{}
	for _, list := range [][]Entry{c.EntitlementKeys, c.PrivacyKeys, p.Packages, p.Pods} {
		for _, e := range list {
			entries[e.Name] = e.Say()
		}
	}
	for name, want := range map[string]string{"keychain-access-groups/0": "HIVETEAM01.example.hive", "aps-environment": "development", "NSPrivacyTracking": "true", "NSPrivacyTrackingDomains/0": "t.example",
		"https://packages.example/honey": "2.1.0 up to the next major version", "../Local": "local", "Wax": "~> 1.2", "Comb": "git https://packages.example/comb.git"} {
		if entries[name] != want {
			t.Errorf("%s: %q", name, entries[name])
		}
	}
	if _, ok := entries["Not"]; ok {
		t.Error("a pod in a comment")
	}
	if len(c.Entry) != 1 || c.Entry[0].Kind != "app-struct" || c.Entry[0].Calls[0].Name != "Bees.start" || len(c.Entry[0].Handlers) != 1 || c.Entry[0].File != "Hive/Views/HiveApp.swift" {
		t.Errorf("%+v", c.Entry)
	}
	if !p.Targets[0].App() || p.Targets[1].App() {
		t.Error("which target is the app")
	}
}

func TestFilesAProjectNamesAndThatAreNotRight(t *testing.T) {
	for name, c := range map[string]struct {
		file, text string
		look       func(*Configuration) Fact
		want       string
	}{
		"no plist":               {"x", "", func(c *Configuration) Fact { return c.InfoPlist }, "INFOPLIST_FILE names Hive/Info.plist, which is not there"},
		"an error page as plist": {"Hive/Info.plist", "<html></html>", func(c *Configuration) Fact { return c.InfoPlist }, "not <plist>"},
		"no entitlements":        {"x", "", func(c *Configuration) Fact { return c.Entitlements }, "CODE_SIGN_ENTITLEMENTS names Hive/Hive.entitlements, which is not there"},
		"broken entitlements":    {"Hive/Hive.entitlements", "<plist><dict><key>a</key></dict></plist>", func(c *Configuration) Fact { return c.Entitlements }, `key "a" has no value`},
		"a broken privacy list":  {"Hive/PrivacyInfo.xcprivacy", "bplist00", func(c *Configuration) Fact { return c.PrivacyManifest }, "cut short"},
	} {
		r := Survey(in(map[string]string{"Hive.xcodeproj/project.pbxproj": modern, c.file: c.text}))
		if got := c.look(r.IOS.Projects[0].Targets[0].Configurations[0]); !strings.Contains(got.Unresolved, c.want) {
			t.Errorf("%s: %s", name, got.Say())
		}
		if len(r.Unresolved) == 0 {
			t.Errorf("%s: nothing is open", name)
		}
	}
	r := Survey(in(map[string]string{"Hive.xcodeproj/project.pbxproj": modern, "Hive/Info.plist": "<plist><dict><key>A</key><string>1</string><key>A</key><string>2</string></dict><string>lost</string></plist>"}))
	said := 0
	for _, q := range r.Unresolved {
		if strings.Contains(q.Why, "stands twice") || strings.Contains(q.Why, "is lost") {
			said++
		}
	}
	if said != 2 {
		t.Errorf("a doubled key and a lost value: %+v", r.Unresolved)
	}
}
