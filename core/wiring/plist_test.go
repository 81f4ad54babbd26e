package wiring

import (
	"strings"
	"testing"
	"testing/fstest"
	"unicode/utf16"

	"ligare/core/survey"
	"ligare/core/syntax/plist"
	"ligare/core/tree"
)

// leastIOS is a project with an explicit property list and two configurations of one identity.
func leastIOS(t testing.TB) map[string]string {
	out := map[string]string{}
	for n, f := range snapshot(t, "../../demo/studio/hivelog/ios") {
		out[n] = string(f.Data)
	}
	return out
}

const (
	hiveProject = "Hivelog.xcodeproj/project.pbxproj"
	hiveList    = "Hivelog/Info.plist"
	aList       = "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<!DOCTYPE plist PUBLIC \"-//Apple//DTD PLIST 1.0//EN\" \"http://www.apple.com/DTDs/PropertyList-1.0.dtd\">\n<plist version=\"1.0\">\n"
)

// project gives the least project with its text changed, old and new in turn.
func project(t testing.TB, pairs ...string) string {
	return strings.NewReplacer(pairs...).Replace(leastIOS(t)[hiveProject])
}

func TestPropertyLists(t *testing.T) {
	twoIDs := strings.Replace(leastIOS(t)[hiveProject], "PRODUCT_BUNDLE_IDENTIFIER = example.larkfield.hivelog;", "PRODUCT_BUNDLE_IDENTIFIER = example.larkfield.hivelog.beta;", 1)
	stage(t, leastIOS(t), []scene{
		{
			name: "keys, a query scheme in a list of its own, a reason", service: "treadmark",
			values: map[string]string{"app-number": "123456789012345", "client-key": "tdc_a&b"},
			only:   "ios-number ios-key ios-query ios-consent",
			files:  map[string]string{hiveList: aList + "<dict>\n  <!-- <key>TreadmarkApp</key> -->\n  <key>CFBundleName</key>\n  <string>x</string>\n</dict>\n</plist>\n"},
			want: map[string]string{hiveList: aList + "<dict>\n  <!-- <key>TreadmarkApp</key> -->\n  <key>CFBundleName</key>\n  <string>x</string>\n" +
				"  <key>TreadmarkApp</key>\n  <string>123456789012345</string>\n  <key>TreadmarkKey</key>\n  <string>tdc_a&amp;b</string>\n" +
				"  <key>LSApplicationQueriesSchemes</key>\n  <array>\n    <string>treadmark-companion</string>\n  </array>\n" +
				"  <key>NSUserTrackingUsageDescription</key>\n  <string>Shows us which of our announcements brought you here. Nothing is passed on.</string>\n</dict>\n</plist>\n"},
		},
		{
			name: "one URL-types key with several entries, an empty list opened up, Windows line ends", service: "gatepost",
			only:  "ios-scheme ios-query",
			files: map[string]string{hiveList: strings.ReplaceAll(aList+"<dict>\n\t<key>CFBundleURLTypes</key>\n\t<array>\n\t\t<dict>\n\t\t\t<key>CFBundleURLSchemes</key>\n\t\t\t<array>\n\t\t\t\t<string>other</string>\n\t\t\t</array>\n\t\t</dict>\n\t</array>\n\t<key>LSApplicationQueriesSchemes</key>\n\t<array/>\n</dict>\n</plist>", "\n", "\r\n")},
			want: map[string]string{hiveList: strings.ReplaceAll(aList+"<dict>\n\t<key>CFBundleURLTypes</key>\n\t<array>\n\t\t<dict>\n\t\t\t<key>CFBundleURLSchemes</key>\n\t\t\t<array>\n\t\t\t\t<string>other</string>\n\t\t\t</array>\n\t\t</dict>\n"+
				"\t\t<dict>\n\t\t\t<key>CFBundleURLSchemes</key>\n\t\t\t<array>\n\t\t\t\t<string>example.larkfield.hivelog</string>\n\t\t\t</array>\n\t\t</dict>\n\t</array>\n\t<key>LSApplicationQueriesSchemes</key>\n\t<array>\n\t\t<string>gatepost-keeper</string>\n\t</array>\n</dict>\n</plist>", "\n", "\r\n")},
		},
		{
			name: "a scheme made of the bundle ID, a reason in the app's own words and a value through a setting are left", service: "treadmark",
			only:   "ios-consent ios-number",
			values: map[string]string{"app-number": "n-1"},
			files: map[string]string{
				hiveList:    aList + "<dict><key>NSUserTrackingUsageDescription</key><string>Ours.</string><key>TreadmarkApp</key><string>n-$(NUMBER)</string></dict></plist>",
				hiveProject: project(t, "MARKETING_VERSION = 2.3;", "MARKETING_VERSION = 2.3;\n\t\t\t\tNUMBER = 1;"),
			},
			want: map[string]string{hiveList: aList + "<dict><key>NSUserTrackingUsageDescription</key><string>Ours.</string><key>TreadmarkApp</key><string>n-$(NUMBER)</string></dict></plist>"},
		},
		{
			name: "a generated list: a setting in every configuration for a reason, a file for everything else", service: "treadmark",
			only:   "ios-number ios-consent",
			values: map[string]string{"app-number": "1"},
			files:  map[string]string{hiveProject: project(t, "INFOPLIST_FILE = Hivelog/Info.plist;", "GENERATE_INFOPLIST_FILE = YES;"), hiveList: ""},
			want:   map[string]string{"Hivelog-Info.plist": aList + "<dict>\n\t<key>TreadmarkApp</key>\n\t<string>1</string>\n</dict>\n</plist>\n"},
		},
		{
			name: "an entitlements file for every configuration, referenced, with both entitlements in it", service: "gatepost",
			only: "ios-domain",
			want: map[string]string{"Hivelog/Hivelog.entitlements": aList + "<dict>\n\t<key>com.apple.developer.associated-domains</key>\n\t<array>\n\t\t<string>applinks:sign-in.gatepost.example</string>\n\t</array>\n</dict>\n</plist>\n"},
		},
		{
			name: "an entitlements file that only Release has serves Debug too; the other value of an environment will do", service: "bellhanger",
			only: "ios-entitlement ios-background",
			files: map[string]string{
				"Hivelog/App.entitlements": aList + "<dict>\n\t<key>aps-environment</key>\n\t<string>development</string>\n</dict>\n</plist>\n",
				hiveProject:                strings.Replace(leastIOS(t)[hiveProject], "CODE_SIGN_STYLE", "CODE_SIGN_ENTITLEMENTS = Hivelog/App.entitlements;\n\t\t\t\tCODE_SIGN_STYLE", 1),
			},
			lines: map[string]string{hiveList: "<key>UIBackgroundModes</key>\n<string>remote-notification</string>", "Hivelog/App.entitlements": "<string>development</string>"},
		},
		{
			name: "two identities in one target: one key, a setting with a value for each configuration", service: "patchquay",
			only:  "ios-berth",
			files: map[string]string{hiveProject: twoIDs},
			lines: map[string]string{hiveList: "<string>$(PATCHQUAY_BERTH)</string>", hiveProject: "PATCHQUAY_BERTH = \"berth-development\";\nPATCHQUAY_BERTH = \"berth-production\";"},
		},
	})
}

// What the platform's build reads afterwards, by the survey.
func TestEveryConfigurationHasItsOwnFile(t *testing.T) {
	files := fstest.MapFS{}
	for n, s := range leastIOS(t) {
		files[n] = &fstest.MapFile{Data: []byte(s)}
	}
	files[hiveProject].Data = []byte(project(t, "INFOPLIST_FILE = Hivelog/Info.plist;", "GENERATE_INFOPLIST_FILE = YES;"))
	delete(files, hiveList)
	in := with(t, files, "treadmark", map[string]string{"app-number": "1"})
	placeOnly(t, in, "ios-")
	more := in
	more.Registrations = with(t, files, "bellhanger", nil).Registrations
	placeOnly(t, more, "ios-entitlement")
	r := survey.Survey(tree.New(after(files, in.Tree)))
	for _, c := range r.IOS.Projects[0].Targets[0].Configurations {
		if c.PlistKey("TreadmarkApp").String() != "1" || !strings.Contains(c.PlistKey("NSUserTrackingUsageDescription").String(), "announcements") {
			t.Errorf("%s: %+v", c.Name, c.PlistKeys)
		}
		if len(c.EntitlementKeys) != 1 || c.EntitlementKeys[0].Name != "aps-environment" {
			t.Errorf("%s: %+v", c.Name, c.EntitlementKeys)
		}
	}
}

func TestMistakesInPropertyLists(t *testing.T) {
	for _, c := range []struct{ name, service, placement, list, code, at string }{
		{"missing", "gatepost", "ios-client", "<dict>\n</dict>", "key-missing", ""},
		{"another value", "gatepost", "ios-client", "<dict>\n<key>GatepostClient</key>\n<string>other</string>\n</dict>", "key-differs", "6:9"},
		{"another type", "gatepost", "ios-client", "<dict>\n<key>GatepostClient</key>\n<integer>12</integer>\n</dict>", "key-typed", "6:10"},
		{"other capitals", "gatepost", "ios-client", "<dict>\n<key>gatepostclient</key>\n<string>c</string>\n</dict>", "key-misspelt", "5:6"},
		{"behind the root", "gatepost", "ios-client", "<dict>\n</dict>\n<key>GatepostClient</key>\n<string>c</string>\n", "key-outside", "6:1"},
		{"the key twice, one hiding the other", "gatepost", "ios-scheme", "<dict>\n<key>CFBundleURLTypes</key>\n<array/>\n<key>CFBundleURLTypes</key>\n<array/>\n</dict>", "key-twice", "8:1"},
		{"a scheme in other case", "gatepost", "ios-scheme", "<dict>\n<key>CFBundleURLTypes</key>\n<array><dict><key>CFBundleURLSchemes</key><array>\n<string>Example.Larkfield.Hivelog</string></array></dict></array>\n</dict>", "key-differs", "7:9"},
		{"a reason that is empty", "etchwork", "ios-camera", "<dict>\n<key>NSCameraUsageDescription</key>\n<string> </string>\n</dict>", "key-differs", "6:9"},
	} {
		files := fstest.MapFS{}
		for n, s := range leastIOS(t) {
			files[n] = &fstest.MapFile{Data: []byte(s)}
		}
		files[hiveList].Data = []byte(aList + c.list + "</plist>\n")
		in := with(t, files, c.service, map[string]string{"client-id": "c"})
		answers, err := Evaluate(in)
		if err != nil {
			t.Fatal(err)
		}
		found := of(answers, c.placement)
		if len(found) != 1 || found[0].Code != c.code {
			t.Fatalf("%s: %+v", c.name, found)
		}
		if at := (Place{Line: found[0].Here.Line, Column: found[0].Here.Column}).String(); c.at != "" && at != ":"+c.at {
			t.Errorf("%s: at %s", c.name, found[0].Here)
		}
		p, err := Make(in, found, Always)
		if err != nil {
			t.Fatalf("%s: %v", c.name, err)
		}
		if now := in.look(found[0].Want); !now.Good() && now.State != Twice {
			t.Errorf("%s: after exchanging it is %s: %s", c.name, now.State, now.Detail)
		}
		if len(p.Ops) == 0 {
			continue
		}
		if err := p.Commit(in, found); err != nil {
			t.Fatal(err)
		}
		if left, err := Unplace(in.Tree, in.Registrations[0].Key(), false); err != nil || len(left) > 0 {
			t.Errorf("%s: %v %+v", c.name, err, left)
		}
		same(t, c.name, files, after(files, in.Tree))
	}
}

// Binary lists and lists in UTF-16 stay what they are, and come back byte for byte.
func TestPropertyListsInOtherForms(t *testing.T) {
	f, err := plist.Parse([]byte(leastIOS(t)[hiveList]))
	if err != nil {
		t.Fatal(err)
	}
	binary, err := f.Binary()
	if err != nil {
		t.Fatal(err)
	}
	wide := []byte{0xFE, 0xFF}
	for _, u := range utf16.Encode([]rune(leastIOS(t)[hiveList])) {
		wide = append(wide, byte(u>>8), byte(u))
	}
	for name, src := range map[string][]byte{"binary": binary, "UTF-16BE": wide} {
		files := fstest.MapFS{}
		for n, s := range leastIOS(t) {
			files[n] = &fstest.MapFile{Data: []byte(s)}
		}
		files[hiveList].Data = src
		in := with(t, files, "gatepost", nil)
		p, answers := placeOnly(t, in, "ios-client ios-scheme ios-query")
		if len(p.Kept) > 0 {
			t.Errorf("%s: %+v", name, p.Kept)
		}
		got, err := in.Tree.Read(hiveList)
		if err != nil {
			t.Fatal(err)
		}
		was, _ := plist.Parse(src)
		now, err := plist.Parse(got)
		if err != nil || now.Form != was.Form || now.Encoding != was.Encoding || now.Path("GatepostClient") == nil {
			t.Errorf("%s: %v, now %s %s", name, err, now.Form, now.Encoding)
		}
		if err := p.Commit(in, answers); err != nil {
			t.Fatal(err)
		}
		if left, err := Unplace(in.Tree, in.Registrations[0].Key(), false); err != nil || len(left) > 0 {
			t.Errorf("%s: %v %+v", name, err, left)
		}
		same(t, name, files, after(files, in.Tree))
	}
}
