package check

import (
	"bytes"
	"encoding/base64"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"ligare/core/binding"
	"ligare/core/built"
	"ligare/core/built/builttest"
	"ligare/core/ident"
	"ligare/core/sheet"
	"ligare/core/survey"
	"ligare/core/tree"
	"ligare/core/wiring"
)

const hive = "example.larkfield.hivelog"

// handed is a built package with what it is held against.
type handed struct {
	in   Input
	req  Request
	body []byte
}

func packageOf(t *testing.T, name string, regs ...*wiring.Registration) *handed {
	t.Helper()
	h := &handed{body: bytes.Clone(builttest.Load(t, name)), req: Request{Name: name, Environment: "production"}}
	for _, s := range []string{"etchwork", "thornmill", "tollbarrow", "treadmark"} {
		h.req.Sheets = append(h.req.Sheets, shipped[s])
	}
	h.in = Input{Missing: map[Need]string{History: "a package has no version control", Services: "not asked"}, Now: today, Records: &Records{},
		Input: wiring.Input{Binding: &binding.Binding{Format: 1, App: "hivelog"}, Registrations: regs, Library: library}}
	for _, r := range regs {
		x := Registration{Key: r.Key(), Service: r.Service, Environment: r.Environment, State: "registered", Features: r.Features}
		for _, i := range r.Identities {
			x.Identities = append(x.Identities, RegisteredIdentity{Identity: Identity{Platform: i.Platform, ID: i.ID}})
		}
		h.in.Records.Registrations = append(h.in.Records.Registrations, x)
	}
	return h
}

// with puts one more entry into the package; the signature does not hold any more then.
func (h *handed) with(t *testing.T, name, text string) *handed {
	h.body = builttest.With(t, h.body, name, text)
	return h
}

func (h *handed) check(t *testing.T) (*Result, Input) {
	t.Helper()
	a, err := built.Open(bytes.NewReader(h.body), int64(len(h.body)))
	if err != nil {
		t.Fatal(err)
	}
	f, err := a.Read(t.Context(), built.Options{Verify: true, Sheets: h.req.Sheets})
	if err != nil {
		t.Fatal(err)
	}
	in := h.in
	if err := in.Ship(a, f, h.req); err != nil {
		t.Fatal(err)
	}
	return Run(in), in
}

func registered(service, environment string, features []string, values map[string]string, ids ...string) *wiring.Registration {
	r := &wiring.Registration{Service: service, Environment: environment, Revision: 3, Sheet: shipped[service], Features: features, Values: map[string]string{}}
	for _, id := range ids {
		platform, name, _ := strings.Cut(id, " ")
		r.Identities = append(r.Identities, wiring.Registered{Platform: ident.Platform(platform), ID: name, Values: values})
	}
	return r
}

func thorn(features ...string) *wiring.Registration {
	return registered("thornmill", "production", features, map[string]string{"number": "123456789012345", "public-key": "k"}, "android "+hive, "ios "+hive)
}

func licence(app, ends string) string {
	enc := func(s string) string { return base64.RawURLEncoding.EncodeToString([]byte(s)) }
	return enc(`{"alg":"ES256"}`) + "." + enc(fmt.Sprintf(`{"app":%q,"number":"EW12345678","edition":3,"ends":%q}`, app, ends)) + "." + enc("signature")
}

// What only shows in what ships is found there, as one finding of the rule that was fixed beforehand.
func TestMistakesInPackages(t *testing.T) {
	const wren = "aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa"
	etch := registered("etchwork", "production", nil, map[string]string{"licence-number": "EW12345678"}, "android "+hive)
	etch.Identities[0].Files = map[string][]byte{"licence": []byte(licence(hive, "2040-01-01"))}
	for _, c := range []struct {
		name string
		of   *handed
		more func(h *handed)
		rule string
		file string
		say  string
	}{
		{name: "a number that became a float", of: packageOf(t, "v123.apk", thorn()), rule: "package-number-lost", file: "AndroidManifest.xml", say: "example.lost.NUMBER"},
		{name: "not signed", of: packageOf(t, "plain.apk", thorn()), rule: "package-signature-broken", file: "plain.apk", say: "is not signed"},
		{name: "changed after signing", of: packageOf(t, "v123.apk", thorn()), more: func(h *handed) { h.body[bytes.LastIndex(h.body, []byte("PK\x01\x02"))+12] ^= 1 }, rule: "package-signature-broken", file: "v123.apk", say: "does not hold"},
		{name: "a debug certificate on what users get", of: packageOf(t, "debug.apk", thorn()), rule: "signer-of-debug", say: "CN=Android Debug"},
		{name: "a certificate that is not registered", of: packageOf(t, "v123.apk", thorn("sign-in")), more: func(h *handed) { h.in.Records.Registrations[0].Identities[0].Digests = []string{wren} }, rule: "digest-not-registered", say: "Thornmill"},
		{name: "the store signs again", of: packageOf(t, "app.aab", thorn("sign-in")), more: func(h *handed) {
			digest := "960b44f05be90551f840a1c164eb10b5478dfe1e193053680267a408dc79dc05"
			h.in.Records.Registrations[0].Identities[0].Digests = []string{digest}
			h.in.Records.Identities = []Identity{{Platform: ident.Android, ID: hive, Published: true}}
			h.in.Records.Signers = []Signer{{Name: "store", Role: "store", SHA256: wren, NotAfter: today.AddDate(9, 0, 0), Identities: []Identity{{Platform: ident.Android, ID: hive}}}}
		}, rule: "digest-of-store-missing", say: "store"},
		{name: "another identifier", of: packageOf(t, "v123.apk", registered("thornmill", "production", nil, map[string]string{"number": "123456789012345"}, "android example.larkfield.hivelug")), rule: "identifier-differs", file: "AndroidManifest.xml", say: hive},
		{name: "another letter's case", of: packageOf(t, "v123.apk", registered("thornmill", "production", nil, map[string]string{"number": "123456789012345"}, "android example.larkfield.Hivelog")), rule: "identifier-letter-case", file: "AndroidManifest.xml", say: "only letter case differs"},
		{name: "the staging key", of: packageOf(t, "v123.apk", registered("treadmark", "", nil, map[string]string{"app-number": "512345678900000", "client-key": "x"}, "android "+hive), registered("treadmark", "", nil, map[string]string{"app-number": "512345678901234", "client-key": "y"}, "android "+hive+".staging")),
			rule: "value-of-another", file: "res/values/strings.xml", say: hive + ".staging"},
		{name: "a licence for another app", of: packageOf(t, "plain.apk", etch).with(t, "assets/etchwork.licence", licence("example.larkfield.seedswap", "2040-01-01")), rule: "config-file-of-another", file: "assets/etchwork.licence", say: "Its identity is not the one issued"},
		{name: "a licence that ended", of: packageOf(t, "plain.apk", etch).with(t, "assets/etchwork.licence", licence(hive, "2026-10-01")), rule: "licence-ends", file: "assets/etchwork.licence", say: "ended on 2026-10-01"},
		{name: "fields changed since", of: packageOf(t, "v123.apk", thorn()), more: func(h *handed) {
			h.req.Fields = &Fields{Service: "thornmill", Changed: today.Add(-time.Hour), Built: today.Add(-2 * time.Hour)}
		}, rule: "package-outdated", say: "its fields were changed on"},
		{name: "a profile that does not grant", of: packageOf(t, "app.ipa", thorn()), rule: "package-profile-wrong", file: "Payload/Hivelog.app/embedded.mobileprovision", say: "associated-domains"},
		{name: "a profile for named devices", of: packageOf(t, "app.ipa", thorn()), rule: "package-profile-wrong", say: "for 2 named devices"},
		{name: "a minimum below the library's", of: packageOf(t, "v123.apk", thorn()), more: func(h *handed) {
			s := *shipped["thornmill"]
			s.Constrain = append(slices.Clone(s.Constrain), sheet.Constraint{Platform: ident.Android, Of: "minSdk", Minimum: "26", Why: "it says so"})
			h.in.Registrations[0].Sheet = &s
		}, rule: "minimum-too-low", file: "AndroidManifest.xml", say: "The package is for 23 and later; Thornmill needs 26"},
	} {
		if c.more != nil {
			c.more(c.of)
		}
		res, _ := c.of.check(t)
		found := 0
		for _, f := range res.Findings {
			if f.Rule == c.rule && (c.file == "" || f.File == c.file) && strings.Contains(f.Message, c.say) {
				found++
			}
		}
		if found != 1 {
			t.Errorf("%s: %d findings of %s in %s that say %q, of:", c.name, found, c.rule, c.file, c.say)
			for _, f := range res.Findings {
				t.Errorf("    %s %s %s %s", f.Severity, f.Rule, f.Place(), f.Message)
			}
		}
	}
}

// A package that was built right gets silence, but for the number that the fixture loses on purpose, and its minimum.
func TestARightPackageGetsSilence(t *testing.T) {
	b := packageOf(t, "v123.apk", registered("tollbarrow", "production", nil, nil, "android "+hive))
	b.in.Registrations[0].Identities[0].Files = nil
	res, in := b.check(t)
	for _, f := range res.Findings {
		if f.Severity != Note && f.Rule != "package-number-lost" && f.Rule != "minimum-too-low" {
			t.Errorf("%s %s %s: %s", f.Severity, f.Rule, f.Place(), f.Message)
		}
	}
	for _, r := range []string{"package-signature-broken", "package-number-lost", "identifier-differs"} {
		if !slices.Contains(res.Looked, r) {
			t.Errorf("%s did not look", r)
		}
	}
	if slices.Contains(res.Looked, "lock-file-old") {
		t.Error("a rule of trees looked at a package")
	}
	in.Registrations = append(in.Registrations, registered("tollbarrow", "staging", nil, nil, "android "+hive+".staging"))
	rows := OfPackage(LineUp(in.Input, in.Answers, in.Records))
	if slices.ContainsFunc(rows, func(r Row) bool { return r.Identity != hive }) {
		t.Errorf("rows of another identity: %+v", rows)
	}
	if !slices.ContainsFunc(rows, func(r Row) bool {
		return r.What == "application ID" && r.Cells["built package"].Value == hive && r.Agrees
	}) {
		t.Errorf("%+v", rows)
	}
}

// The package is held against the tree and the variant that built it.
func TestAPackageAndItsTree(t *testing.T) {
	h := packageOf(t, "v123.apk", thorn())
	s := load(t, "hivelog")
	const build = "android/app/build.gradle.kts"
	s[build].Data = bytes.Replace(s[build].Data, []byte("versionCode = 14"), []byte("versionCode = 15"), 1)
	src := tree.New(s)
	h.req.Source = survey.Survey(src)
	h.in.Binding = &binding.Binding{Format: 1, App: "hivelog", Android: map[string]map[string]binding.Bound{"android/app": {"release": {Identity: hive, Environment: "production"}}}}
	res, in := h.check(t)
	if in.Shipped.Build != "release" || in.Shipped.Site != "android/app" {
		t.Errorf("it was built from %q %q", in.Shipped.Site, in.Shipped.Build)
	}
	var say []string
	for _, f := range res.Findings {
		if f.Rule == "package-outdated" {
			say = append(say, f.Message)
		}
	}
	if len(say) != 1 || !strings.Contains(say[0], "says version code 14, and release of the tree says 15") {
		t.Errorf("%v", say)
	}
}

func TestAnIdentifierOfTwoEnvironments(t *testing.T) {
	h := packageOf(t, "v123.apk", thorn(), registered("thornmill", "staging", nil, nil, "android "+hive))
	h.req.Environment = ""
	a, err := built.Open(bytes.NewReader(h.body), int64(len(h.body)))
	if err != nil {
		t.Fatal(err)
	}
	f, err := a.Read(t.Context(), built.Options{})
	if err != nil {
		t.Fatal(err)
	}
	h.req.Environment = "nowhere"
	var none *NoEnvironment
	if err := h.in.Ship(a, f, h.req); !errors.As(err, &none) || !slices.Equal(none.Known, []string{"production", "staging"}) {
		t.Errorf("an environment that nobody knows: %v", err)
	}
	h.req.Environment = ""
	var two *TwoEnvironments
	if err := h.in.Ship(a, f, h.req); !errors.As(err, &two) || two.Environments != [2]string{"staging", "production"} || two.ID != hive {
		t.Errorf("%v", err)
	}
}
