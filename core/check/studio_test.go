package check

import (
	"bytes"
	"crypto/sha256"
	"encoding/base64"
	"fmt"
	"io/fs"
	"os"
	"slices"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"ligare/core/binding"
	"ligare/core/cert"
	"ligare/core/sheet"
	"ligare/core/survey"
	"ligare/core/tree"
	"ligare/core/wiring"
	"ligare/sheets"
)

var today = time.Date(2026, 11, 1, 12, 0, 0, 0, time.UTC)

// issued makes up what a service would issue: digits where its pattern wants digits, otherwise a text of the pattern's
// beginning with hexadecimal digits behind it, different for every owner.
func issued(service, id, owner string) string {
	sum := fmt.Sprintf("%x", sumOf(service+" "+id+" "+owner))
	digits := strings.Map(func(r rune) rune {
		if r > '9' {
			return r - 'a' + '1'
		}
		return r
	}, sum)
	switch service + " " + id {
	case "thornmill number", "treadmark app-number":
		return "5" + digits[:14]
	case "thornmill public-key":
		return "tmk-" + sum[:32]
	case "bellhanger app-number":
		return "bell-" + digits[:5] + "-" + digits[5:10]
	case "burrcatch intake":
		return "https://intake.burrcatch.example/" + digits[:6]
	case "thornmill return-address":
		return "https://sign-in.thornmill.example/" + sum[:8] + "/back"
	}
	return service[:3] + "_" + sum[:28]
}

// contents are the config and licence files that services issue, filled with the identity, its number and key.
var contents = map[string]string{
	"thornmill android-config": "<thornmill-config revision=\"3\"><app package=\"ID\" number=\"NUMBER\" key=\"KEY\"/><records address=\"https://records.thornmill.example\"/></thornmill-config>\n",
	"thornmill ios-config":     "{\"revision\": 3, \"app\": {\"bundle\": \"ID\", \"number\": \"NUMBER\", \"key\": \"KEY\"}, \"records\": {\"address\": \"https://records.thornmill.example\"}}\n",
	"tollbarrow config":        "package: ID\nbarrow: NUMBER\nedition: 3\ninterface:\n  address: https://tollbarrow.example\n  certificates: []\n",
}

// studio is one of the demo studio's trees with everything of some services placed.
type studio struct {
	files   fstest.MapFS
	binding *binding.Binding
	regs    []*wiring.Registration
	records *Records
	tracked map[string]Tracked
	missing map[Need]string
	signers map[string]*survey.Signer // keystore -> certificate it signs with

	certificates []cert.Known
	recognised   map[string]Recognised
	waivers      []*Waiver
	standing     *Standing
	now          time.Time // zero for today
}

var shipped = func() map[string]*sheet.Sheet {
	all, err := sheet.Load(sheets.FS)
	if err != nil {
		panic(err)
	}
	return all
}()

var library = func() sheet.Library {
	lib, err := sheet.LoadLibrary(sheets.FS)
	if err != nil {
		panic(err)
	}
	return lib
}()

func load(t testing.TB, name string) fstest.MapFS {
	t.Helper()
	return loadFrom(t, os.DirFS("../../demo/studio/"+name))
}

func loadFrom(t testing.TB, root fs.FS) fstest.MapFS {
	t.Helper()
	out := fstest.MapFS{}
	err := fs.WalkDir(root, ".", func(p string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		b, err := fs.ReadFile(root, p)
		out[p] = &fstest.MapFile{Data: b}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	return out
}

// planted are lines of the studio's own trees that are mistakes.
var planted = map[string]map[string][]string{"seedswap": {
	"android/settings.gradle":  {"':seed-scanner', ", "project(':seed-scanner').projectDir = new File(rootProject.projectDir, '../node_modules/seed-scanner/android')\n"},
	"android/app/build.gradle": {"    implementation project(':seed-scanner')\n"},
	"ios/Podfile":              {"  pod 'SeedScanner', :path => '../node_modules/seed-scanner'\n"},
}}

// wire binds a tree of the studio, registers it with services and places everything.
func wire(t testing.TB, name string, services ...string) *studio {
	t.Helper()
	s := &studio{files: load(t, name), records: &Records{}, tracked: map[string]Tracked{}, missing: map[Need]string{}}
	for file, lines := range planted[name] { // the studio has its mistakes, too
		for _, l := range lines {
			s.change(t, file, l, "")
		}
	}
	r := survey.Survey(tree.New(s.files))
	s.binding = binding.Propose(name, r)
	for _, i := range s.binding.Identities(r) {
		s.records.Identities = append(s.records.Identities, Identity{Platform: i.Platform, ID: i.ID})
	}
	for _, service := range services {
		s.register(t, service)
	}
	key := name + " " + strings.Join(services, " ")
	if wired[key] == nil {
		s.place(t)
		wired[key] = s.files
	}
	s.files = fstest.MapFS{}
	for n, f := range wired[key] {
		s.files[n] = &fstest.MapFile{Data: f.Data}
	}
	return s
}

// wired are the files of the studios that were wired before.
var wired = map[string]fstest.MapFS{}

// place places everything that is registered.
func (s *studio) place(t testing.TB) {
	t.Helper()
	in := s.input()
	answers, err := wiring.Evaluate(in)
	if err != nil {
		t.Fatal(err)
	}
	p, err := wiring.Make(in, answers, wiring.Never)
	if err != nil {
		t.Fatal(err)
	}
	for _, k := range p.Kept {
		t.Fatalf("%s %s: %s %s %s", k.Registration, k.Placement, k.State, k.Code, k.Detail)
	}
	for _, f := range in.Tree.Changed() {
		b, err := in.Tree.Read(f)
		if err != nil {
			t.Fatal(err)
		}
		s.files[f] = &fstest.MapFile{Data: b}
	}
}

func (s *studio) register(t testing.TB, service string) {
	t.Helper()
	sh := shipped[service]
	environments := []string{""}
	if sh.Scope == sheet.ScopeEnvironment {
		environments = s.binding.Environments()
	}
	r := survey.Survey(tree.New(s.files))
	for _, env := range environments {
		reg := &wiring.Registration{Service: service, Environment: env, Revision: 3, Sheet: sh, Values: map[string]string{}, Answers: map[string]string{}, Berths: map[string]string{}}
		for _, f := range sh.Features {
			reg.Features = append(reg.Features, f.ID)
		}
		for _, e := range s.binding.Environments() {
			reg.Berths[e] = "berth-" + e
		}
		for _, v := range sh.Issues.Values {
			if v.Exposure == sheet.Client && v.Per != "identity" {
				reg.Values[v.ID] = issued(service, v.ID, env)
			}
		}
		for _, id := range s.binding.Identities(r) {
			if !slices.Contains(sh.Platforms, id.Platform) || env != "" && !s.builds(id.ID, env) {
				continue
			}
			x := wiring.Registered{Platform: id.Platform, ID: id.ID, Values: map[string]string{}, Files: map[string][]byte{}}
			for _, v := range sh.Issues.Values {
				if v.Exposure == sheet.Client && v.Per == "identity" {
					x.Values[v.ID] = issued(service, v.ID, env+id.ID)
				}
			}
			for _, f := range sh.FilesFor(id.Platform) {
				text := strings.NewReplacer("ID", id.ID, "NUMBER", x.Values["number"], "KEY", x.Values["public-key"]).Replace(contents[service+" "+f.ID])
				if f.Format == "jws" {
					part := func(s string) string { return base64.RawURLEncoding.EncodeToString([]byte(s)) }
					text = part(`{"alg":"ES256"}`) + "." + part(`{"app":"`+id.ID+`","number":7,"edition":3,"ends":"2027-06-01T00:00:00Z"}`) + "." + part("signature")
				}
				x.Files[f.ID] = []byte(text)
			}
			reg.Identities = append(reg.Identities, x)
		}
		if sh.Scope != sheet.ScopeIdentity {
			s.regs = append(s.regs, reg)
			s.recorded(reg)
			continue
		}
		for i := range reg.Identities {
			one := *reg
			one.Identities, one.Values = reg.Identities[i:i+1], map[string]string{}
			for id := range reg.Values {
				one.Values[id] = issued(service, id, reg.Identities[i].ID)
			}
			s.regs = append(s.regs, &one)
			s.recorded(&one)
		}
	}
}

// recorded files a registration with the records.
func (s *studio) recorded(reg *wiring.Registration) {
	k := Registration{Key: reg.Key(), Service: reg.Service, Environment: reg.Environment, State: "registered", Features: reg.Features, Answers: map[string]string{}}
	for _, i := range reg.Identities {
		k.Identities = append(k.Identities, RegisteredIdentity{Identity: Identity{Platform: i.Platform, ID: i.ID}, Answers: map[string]string{}})
	}
	if reg.Sheet.Redirects != nil {
		for _, i := range reg.Identities {
			k.Redirects = append(k.Redirects, i.ID+":/gatepost")
		}
	}
	s.records.Registrations = append(s.records.Registrations, k)
}

func (s *studio) builds(id, env string) bool {
	for _, all := range []map[string]map[string]binding.Bound{s.binding.Android, s.binding.IOS} {
		for _, variants := range all {
			for _, b := range variants {
				if b.Identity == id && b.Environment == env {
					return true
				}
			}
		}
	}
	return false
}

func (s *studio) input() wiring.Input {
	tr := tree.New(s.files)
	return wiring.Input{Tree: tr, Survey: survey.Survey(tr), Binding: s.binding, Registrations: s.regs, Library: library}
}

func (s *studio) check(t testing.TB) *Result {
	t.Helper()
	in := Input{Input: s.input(), Missing: s.missing, Records: s.records, Tracked: s.tracked, Certificates: s.certificates, Recognised: s.recognised, Waivers: s.waivers, Standing: s.standing, Now: today}
	if !s.now.IsZero() {
		in.Now = s.now
	}
	for _, m := range in.Survey.Android.Modules {
		for _, v := range m.Variants {
			v.Certificate = s.signers[v.KeyStore.String()]
		}
	}
	var err error
	if in.Answers, err = wiring.Evaluate(in.Input); err != nil {
		t.Fatal(err)
	}
	return Run(in)
}

// change puts a text in the place of another that stands once in a file.
func (s *studio) change(t testing.TB, file, from, to string) {
	t.Helper()
	f := s.files[file]
	if f == nil {
		t.Fatalf("there is no %s", file)
	}
	if n := bytes.Count(f.Data, []byte(from)); n != 1 {
		t.Fatalf("%s has %q %d times:\n%s", file, from, n, f.Data)
	}
	s.files[file] = &fstest.MapFile{Data: bytes.Replace(f.Data, []byte(from), []byte(to), 1)}
}

func (s *studio) put(file string, text []byte) { s.files[file] = &fstest.MapFile{Data: text} }

// last puts a text in the place of the last of several.
func (s *studio) last(t testing.TB, file, from, to string) {
	t.Helper()
	i := bytes.LastIndex(s.files[file].Data, []byte(from))
	if i < 0 {
		t.Fatalf("%s has no %q", file, from)
	}
	b := append(slices.Clone(s.files[file].Data[:i]), to...)
	s.files[file] = &fstest.MapFile{Data: append(b, s.files[file].Data[i+len(from):]...)}
}

// registration gives one of the registrations by its key.
func (s *studio) registration(t testing.TB, key string) (*wiring.Registration, *Registration) {
	t.Helper()
	for _, r := range s.regs {
		if r.Key() == key {
			return r, s.records.registration(key)
		}
	}
	t.Fatalf("there is no registration %s", key)
	return nil, nil
}

// mistake is one thing made wrong in a tree where everything else is right, and the one finding it must give.
type mistake struct {
	name     string
	tree     string
	services string
	file     string // the file that is changed, or created when from is ""
	from, to string
	right    func(t *testing.T, s *studio) // made before, and right
	more     func(t *testing.T, s *studio)
	needs    string // a file that more changes, and that must still be there
	rule     string
	at       string // file, or file:text that stands in the line named
	say      string // part of the message
	severity Severity
}

// plant makes each mistake in turn and holds what is found against the one finding it must give.
func plant(t *testing.T, mistakes []mistake) {
	t.Helper()
	for _, m := range mistakes {
		t.Run(m.name, func(t *testing.T) {
			if m.tree == "" {
				m.tree = "hivelog"
			}
			if m.services == "" && strings.HasPrefix(t.Name(), "TestMistakesInWhatWasPlaced") {
				m.services = all
			}
			s := wire(t, m.tree, strings.Fields(m.services)...)
			if m.right != nil {
				m.right(t, s)
			}
			sound := s.check(t)
			if sound.Worst().AtLeast(Warning) {
				t.Fatalf("before anything was wrong: %+v", sound.Findings)
			}
			before := map[string]bool{}
			for _, f := range sound.Findings {
				before[f.Fingerprint+string(f.Severity)] = true
			}
			switch {
			case m.file != "" && m.from == "":
				s.files[m.file] = &fstest.MapFile{Data: []byte(m.to)}
			case m.file != "":
				s.change(t, m.file, m.from, m.to)
			}
			if m.more != nil {
				m.more(t, s)
			}
			r := s.check(t)
			fresh := slices.DeleteFunc(slices.Clone(r.Findings), func(f Finding) bool { return before[f.Fingerprint+string(f.Severity)] })
			var got *Finding
			for i := range fresh {
				if fresh[i].Rule == m.rule {
					got = &fresh[i]
				}
			}
			if got == nil || len(fresh) != 1 {
				t.Errorf("%s was wanted, and found was:", m.rule)
				for _, f := range fresh {
					t.Errorf("  %s %s %s [%s]: %s", f.Severity, f.Place(), f.Variant, f.Rule, f.Message)
				}
				for _, n := range r.NotLooked {
					t.Logf("  not looked: %s: %s", n.Rule, n.Reason)
				}
				return
			}
			file, text, _ := strings.Cut(m.at, ":")
			if got.File != file {
				t.Errorf("it is in %s, and the finding names %s", file, got.Place())
			} else if text != "" {
				lines := strings.Split(string(s.files[file].Data), "\n")
				if got.Line < 1 || got.Line > len(lines) || !strings.Contains(lines[got.Line-1], text) {
					t.Errorf("%s does not hold %q", got.Place(), text)
				}
			}
			if !strings.Contains(got.Message, m.say) {
				t.Errorf("%q does not say %q", got.Message, m.say)
			}
			if m.severity != "" && got.Severity != m.severity {
				t.Errorf("it is %s, and must be %s", got.Severity, m.severity)
			}
			if got.Why == "" || got.Fix == "" || strings.Contains(got.Fix, "${") || len(got.Fingerprint) != 16 {
				t.Errorf("%+v", got)
			}
		})
	}
}

func sumOf(s string) [32]byte { return sha256.Sum256([]byte(s)) }
