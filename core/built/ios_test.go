package built

import (
	"archive/zip"
	"bytes"
	"io"
	"reflect"
	"slices"
	"strings"
	"testing"

	"ligare/core/built/builttest"
	"ligare/core/survey"
)

// repack writes a package anew. change gives an entry's new content, nil to leave it out.
func repack(t testing.TB, b []byte, change func(name string, b []byte) []byte, more ...string) []byte {
	t.Helper()
	z, err := zip.NewReader(bytes.NewReader(b), int64(len(b)))
	if err != nil {
		t.Fatal(err)
	}
	var out bytes.Buffer
	w := zip.NewWriter(&out)
	put := func(name string, b []byte) {
		e, err := w.Create(name)
		if err == nil {
			_, err = e.Write(b)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	for _, f := range z.File {
		if strings.HasSuffix(f.Name, "/") {
			continue
		}
		rc, err := f.Open()
		if err != nil {
			t.Fatal(err)
		}
		b, err := io.ReadAll(rc)
		if err != nil {
			t.Fatal(err)
		}
		if err := rc.Close(); err != nil {
			t.Fatal(err)
		}
		if b = change(f.Name, b); b != nil {
			put(f.Name, b)
		}
	}
	for i := 0; i < len(more); i += 2 {
		put(more[i], []byte(more[i+1]))
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	return out.Bytes()
}

const distribution = "F0:CC:11:59:84:75:E0:A8:2B:49:E0:6F:22:82:AC:5A:C9:CB:5D:7A:9D:04:DD:F6:9E:B6:96:DA:45:CE:0C:4F" // as openssl prints it

// What apple/ says is what the package made of it says; executables were signed by a code signer that is not ours.
func TestFactsOfAnIOSPackage(t *testing.T) {
	_, f := facts(t, builttest.Load(t, "app.ipa"), Options{Sheets: known})
	if f.Kind != IPA || len(f.IOS) != 2 {
		t.Fatalf("%+v", f)
	}
	a, e := f.IOS[0], f.IOS[1]
	got := []any{a.Kind, a.BundleID, a.DisplayName, a.DisplayNames, a.Version, a.Build, a.MinimumOS, a.SDK, a.URLSchemes, a.QuerySchemes, a.BackgroundModes, a.UsageDescriptions, a.Encoding, a.Problems}
	want := []any{"app", "example.larkfield.hivelog", "Hive Log ü🐝", []Text{{"de", "Stockbuch"}}, "2.3", "14", "14.0", "iphoneos17.2", []string{"hivelog", "example.larkfield.hivelog", "second"}, []string{"gatepost"},
		[]string{"remote-notification"}, map[string]string{"NSCameraUsageDescription": "To photograph a frame."}, "binary", []string(nil)}
	if !reflect.DeepEqual(got, want) {
		t.Errorf("%v\nand should be\n%v", got, want)
	}
	if e.Kind != "extension" || e.BundleID != "example.larkfield.hivelog.share" || e.ExtensionPoint != "com.apple.share-services" || e.MinimumOS != "15.0" || e.Profile != nil || len(e.Signature.Slices) != 1 {
		t.Errorf("%+v", e)
	}
	s := a.Signature
	entitlements := map[string]any{"application-identifier": "TEAM123456.example.larkfield.hivelog", "aps-environment": "production", "com.apple.developer.team-identifier": "TEAM123456",
		"com.apple.developer.associated-domains": []any{"applinks:hivelog.larkfield.example"}, "get-task-allow": false}
	if s.Identifier != "example.larkfield.hivelog" || s.Team != "TEAM123456" || s.Adhoc || len(s.Differs) > 0 || !reflect.DeepEqual(s.Entitlements, entitlements) ||
		!reflect.DeepEqual(s.Slices, []Slice{{"x86_64", true, "example.larkfield.hivelog"}, {"arm64", true, "example.larkfield.hivelog"}}) {
		t.Errorf("%+v", s)
	}
	if len(s.Certificates) != 2 || s.Certificates[0].Digests.SHA256Colons != distribution {
		t.Errorf("who signed comes first: %+v", s.Certificates)
	}
	p := a.Profile
	if p.Kind != "ad hoc" || p.Name != "Hivelog ad hoc" || !slices.Equal(p.Team, []string{"TEAM123456"}) || p.Ends.Format("2006-01-02T15:04:05") != "2046-01-02T03:04:05" || len(p.Devices) != 2 ||
		p.Entitlements["aps-environment"] != "production" || len(p.Certificates) != 1 || p.Certificates[0].Digests.SHA256Colons != distribution || p.SignedBy[0].Subject != "CN=Larkfield test authority" {
		t.Errorf("%+v", p)
	}
	if len(a.Privacy) != 2 || a.Privacy[0].Tracking || !a.Privacy[1].Tracking || !reflect.DeepEqual(a.Privacy[1].Uses, []PrivacyUse{{"NSPrivacyAccessedAPICategoryUserDefaults", []string{"CA92.1"}}}) ||
		!slices.Equal(a.Privacy[1].Collects, []string{"NSPrivacyCollectedDataTypeCrashData"}) || !slices.Equal(a.Privacy[1].TrackingDomains, []string{"treadmark.example"}) {
		t.Errorf("%+v", a.Privacy)
	}
	if len(f.Files) != 1 || f.Files[0].Path != "Payload/Hivelog.app/Thornmill.json" {
		t.Errorf("%+v", f.Files)
	}
}

func TestAnIOSPackageAsATree(t *testing.T) {
	a, f := facts(t, builttest.Load(t, "app.ipa"), Options{Sheets: known})
	_, r, err := a.Tree(f, known)
	if err != nil {
		t.Fatal(err)
	}
	c := r.IOS.Projects[0].Targets[0].Configurations[0]
	if c.Name != survey.Shipped || c.BundleID.String() != "example.larkfield.hivelog" || c.DeploymentTarget.String() != "14.0" || len(c.URLSchemes) != 3 || len(c.EntitlementKeys) == 0 || len(c.AssociatedDomains) != 1 || c.PlistKey("TreadmarkNumber").String() != "512345678901234" {
		t.Errorf("%+v", c)
	}
	if r.IOS.Projects[1].Targets[0].App() {
		t.Error("an extension is taken for an app")
	}
}

// What is broken in one part is said there, and the rest is read.
func TestBrokenPartsOfAnIOSPackage(t *testing.T) {
	whole := builttest.Load(t, "app.ipa")
	const app = "Payload/Hivelog.app/"
	for name, c := range map[string]struct {
		of   string
		to   func([]byte) []byte
		say  string
		open bool // the package cannot be read at all
	}{
		"no executable":             {app + "Hivelog", func([]byte) []byte { return nil }, "the executable that Info.plist names is not there: Hivelog", false},
		"an executable cut off":     {app + "Hivelog", func(b []byte) []byte { return b[:5000] }, "cut off", false},
		"a text as executable":      {app + "Hivelog", func([]byte) []byte { return []byte("#!/bin/sh\necho") }, "no executable of the platform", false},
		"a profile cut off":         {app + "embedded.mobileprovision", func(b []byte) []byte { return b[:400] }, "embedded.mobileprovision", false},
		"a web page as profile":     {app + "embedded.mobileprovision", func([]byte) []byte { return []byte("<html>sign in</html>") }, "embedded.mobileprovision", false},
		"names that cannot be read": {app + "de.lproj/InfoPlist.strings", func([]byte) []byte { return []byte(`"a" = `) }, "InfoPlist.strings", false},
		"an empty Info.plist":       {app + "Info.plist", func([]byte) []byte { return []byte{} }, "Info.plist", true},
		"a hostile Info.plist":      {app + "Info.plist", func(b []byte) []byte { return b[:len(b)-8] }, "Info.plist", true},
	} {
		b := repack(t, whole, func(n string, b []byte) []byte {
			if n == c.of {
				return c.to(b)
			}
			return b
		})
		a, err := Open(bytes.NewReader(b), int64(len(b)))
		if err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		f, err := a.Read(t.Context(), Options{})
		switch {
		case c.open:
			if err == nil || !strings.Contains(err.Error(), c.say) {
				t.Errorf("%s: %v", name, err)
			}
		case err != nil:
			t.Errorf("%s: %v", name, err)
		case !strings.Contains(strings.Join(f.IOS[0].Problems, "\n"), c.say) || f.IOS[0].BundleID != "example.larkfield.hivelog":
			t.Errorf("%s: %+v", name, f.IOS[0].Problems)
		}
	}
}

// An app whose two forms of entitlements differ is told so, and the one that phones believe counts.
func TestTwoFormsOfEntitlements(t *testing.T) {
	b := repack(t, builttest.Load(t, "app.ipa"), func(n string, b []byte) []byte {
		if n == "Payload/Hivelog.app/Hivelog" {
			return bytes.ReplaceAll(b, []byte("<key>aps-environment</key><string>production</string>"), []byte("<key>aps-environment</key><string>developmen</string>"))
		}
		return b
	})
	_, f := facts(t, b, Options{})
	a := f.IOS[0]
	if !strings.Contains(strings.Join(a.Problems, "\n"), "the two forms of the entitlements of Hivelog differ") || a.Signature.Entitlements["aps-environment"] != "production" {
		t.Errorf("%v %v", a.Problems, a.Signature.Entitlements)
	}
	if !bytes.Contains(a.entitlements, []byte("<key>aps-environment</key><string>production</string>")) || !bytes.Contains(a.entitlements, []byte("<false/>")) {
		t.Errorf("%s", a.entitlements)
	}
}
