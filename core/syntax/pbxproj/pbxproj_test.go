package pbxproj

import (
	"os"
	"strings"
	"testing"

	"ligare/core/syntax/lex"
)

func demoProject(t testing.TB) []byte {
	t.Helper()
	src, err := os.ReadFile("../../../demo/studio/hivelog/ios/Hivelog.xcodeproj/project.pbxproj")
	if err != nil {
		t.Fatal(err)
	}
	return src
}

const small = `// !$*UTF8*$!
{
	objectVersion = 77;
	objects = {
		P = {isa = PBXProject; mainGroup = G; targets = (T, ); };
		G = {isa = PBXGroup; children = (S, A, ); sourceTree = "<group>"; };
		A = {isa = PBXGroup; path = App; children = (F, ABS, ROOT, ); sourceTree = "<group>"; };
		F = {isa = PBXFileReference; path = "a b.json"; sourceTree = "<group>"; };
		ABS = {isa = PBXFileReference; path = /etc/x; sourceTree = "<absolute>"; };
		ROOT = {isa = PBXFileReference; path = top.json; sourceTree = SOURCE_ROOT; };
		LOST = {isa = PBXFileReference; path = lost.json; sourceTree = "<group>"; };
		V = {isa = PBXGroup; children = (V, ); sourceTree = "<group>"; };
		S = {isa = PBXFileSystemSynchronizedRootGroup; path = Synced; exceptions = (E, ); sourceTree = "<group>"; };
		E = {isa = PBXFileSystemSynchronizedBuildFileExceptionSet; target = T; membershipExceptions = (Info.plist, sub/x.json, ); };
		T = {isa = PBXNativeTarget; name = App; fileSystemSynchronizedGroups = (S, ); buildPhases = (R, ); };
		R = {isa = PBXResourcesBuildPhase; files = (B, ); };
		B = {isa = PBXBuildFile; fileRef = F; };
	};
	rootObject = P;
}
`

func TestReading(t *testing.T) {
	p, err := Parse([]byte(small))
	if err != nil {
		t.Fatal(err)
	}
	for id, want := range map[string]string{"F": "App/a b.json true", "ABS": "/etc/x false", "ROOT": "top.json true", "LOST": "lost.json false", "A": "App true", "V": " false"} {
		where, ok := p.Path(id)
		if got := where + " " + map[bool]string{true: "true", false: "false"}[ok]; got != want {
			t.Errorf("path of %s: %q, want %q", id, got, want)
		}
	}
	refs := p.References()
	if len(refs) != 2 || refs[0].Path != "App/a b.json" || strings.Join(refs[0].Targets, "") != "App" || len(refs[1].Targets) != 0 {
		t.Errorf("references: %+v", refs)
	}
	s := p.SyncFolders()
	if len(s) != 1 || s[0].Path != "Synced" || s[0].Targets[0] != "App" || strings.Join(s[0].Except["App"], " ") != "Info.plist sub/x.json" {
		t.Errorf("synchronised folders: %+v", s)
	}
}

func TestErrorsHavePlaces(t *testing.T) {
	for src, want := range map[string]string{
		"":                              "1:1: not an old-style property list",
		"{":                             "'}' is missing",
		"{ a = ; }":                     "a value is missing",
		"{ a = b }":                     "a semicolon is missing",
		"{ a b; }":                      "1:3: `key = value;` is expected",
		"{ a = b c; }":                  "1:9: \"c\" stands after a value",
		"{ a = (b c); }":                "\"c\" stands after a value",
		"{ a = (,); }":                  "a value is expected before the comma",
		"{ a = b; }":                    "no objects",
		"{ objects = { A = b; }; }":     "object A is not a dictionary",
		"{ objects = { A = {}; }; }":    "rootObject",
		"{ objects = {A={}; A={}; }; }": "object A stands twice (first on line 1)",
		"{ a = \"x; }":                  "string is not closed",
	} {
		if _, err := Parse([]byte(src)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v, want %s", src, err, want)
		}
	}
}

func TestQuoting(t *testing.T) {
	for s, want := range map[string]string{"": `""`, "abc.d/e_$1:": "abc.d/e_$1:", "a b": `"a b"`, "a-b": `"a-b"`, "http://x": `"http://x"`, "a___b": `"a___b"`, "q\"\\\n": `"q\"\\\n"`, "ü": `"ü"`} {
		got := Quote(s)
		if got != want {
			t.Errorf("%q: %s, want %s", s, got, want)
		}
		d, err := (&parser{src: []byte("{ k = " + got + "; }")}).top()
		if err != nil || d.Text("k") != s {
			t.Errorf("%q is read back as %q (%v)", s, d.Text("k"), err)
		}
	}
	d, err := (&parser{src: []byte(`{ a = "\U00e9\101\n"; b = <0fbd 77>; c = 'x y'; }`)}).top()
	if err != nil || d.Text("a") != "éA\n" || d.Text("b") != "<0fbd77>" || d.Text("c") != "x y" {
		t.Errorf("escapes: %q %q %q %v", d.Text("a"), d.Text("b"), d.Text("c"), err)
	}
}

func TestEditsAreLinesInTheirPlaces(t *testing.T) {
	src := demoProject(t)
	p, err := Parse(src)
	if err != nil {
		t.Fatal(err)
	}
	e, err := p.Edit()
	if err != nil {
		t.Fatal(err)
	}
	if err := e.AddResource("Hivelog", "Hivelog", "A File.json"); err != nil {
		t.Fatal(err)
	}
	if err := e.AddPackage("Hivelog", "https://git.example/lib.git", "1.2.3", "Lib"); err != nil {
		t.Fatal(err)
	}
	out := string(e.Src)
	if i := e.Project.Packages(e.target("Hivelog")); len(i) != 1 || strings.Join(i[0].Products, "") != "Lib" {
		t.Errorf("packages: %+v", i)
	}
	for _, section := range []string{"PBXBuildFile", "PBXFileReference", "XCRemoteSwiftPackageReference", "XCSwiftPackageProductDependency"} {
		var ids []string
		for _, l := range strings.Split(between(out, "/* Begin "+section+" section */", "/* End"), "\n") {
			if strings.HasPrefix(l, "\t\t") && !strings.HasPrefix(l, "\t\t\t") && !strings.HasPrefix(l, "\t\t}") {
				ids = append(ids, strings.Fields(l)[0])
			}
		}
		for i := 1; i < len(ids); i++ {
			if ids[i-1] >= ids[i] {
				t.Errorf("%s: %s stands before %s", section, ids[i-1], ids[i])
			}
		}
		if len(ids) == 0 {
			t.Errorf("%s is empty", section)
		}
	}
	var added []string
	was := map[string]int{}
	for _, l := range strings.Split(string(src), "\n") {
		was[l]++
	}
	for _, l := range strings.Split(out, "\n") {
		if was[l]--; was[l] < 0 {
			added = append(added, l)
		}
	}
	for l, n := range was {
		if n > 0 {
			t.Errorf("line %q is gone", l)
		}
	}
	if !strings.Contains(strings.Join(added, "\n"), `path = "A File.json"`) {
		t.Errorf("added:\n%s", strings.Join(added, "\n"))
	}
	steps := len(e.Steps)
	if err := e.AddResource("Hivelog", "Hivelog", "A File.json"); err != nil || len(e.Steps) != steps {
		t.Errorf("adding twice made %d steps (%v)", len(e.Steps)-steps, err)
	}
	if err := e.AddPackage("Hivelog", "https://git.example/LIB", "9", "Lib"); err != nil || len(e.Steps) != steps {
		t.Errorf("the same package under another spelling made %d steps (%v)", len(e.Steps)-steps, err)
	}
	back := e.Src
	for i := len(e.Steps) - 1; i >= 0; i-- {
		s := e.Steps[i]
		q, err := Parse(back)
		if err != nil {
			t.Fatal(err)
		}
		start, end, ok := q.Find(s.Address)
		if !ok || string(back[start:end]) != s.Text {
			t.Fatalf("%s finds %q", s.Address, back[start:end])
		}
		if back, err = lex.Apply(back, lex.Change{Start: start - len(s.Before), End: end + len(s.After)}); err != nil {
			t.Fatal(err)
		}
	}
	if string(back) != string(src) {
		t.Error("taking the steps back does not give the file")
	}
}

func between(s, from, to string) string {
	_, s, _ = strings.Cut(s, from)
	s, _, _ = strings.Cut(s, to)
	return s
}

func TestTwoPeopleMakeTheSameFile(t *testing.T) {
	var got [2]string
	for i := range got {
		p, err := Parse(demoProject(t))
		if err != nil {
			t.Fatal(err)
		}
		e, err := p.Edit()
		if err != nil {
			t.Fatal(err)
		}
		if err := e.AddResource("Hivelog", "Hivelog", "x.json"); err != nil {
			t.Fatal(err)
		}
		got[i] = string(e.Src)
	}
	if got[0] != got[1] {
		t.Error("two edits differ")
	}
}

func TestRefusals(t *testing.T) {
	p, err := Parse([]byte(strings.Replace(small, "objectVersion = 77", "objectVersion = 99", 1)))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := p.Edit(); err == nil || !strings.Contains(err.Error(), "99") {
		t.Errorf("a newer version: %v", err)
	}
	p, _ = Parse([]byte(small))
	e, err := p.Edit()
	if err != nil {
		t.Fatal(err)
	}
	if err := e.AddResource("Nowhere", "", "x"); err == nil {
		t.Error("a target that is not there")
	}
	if err := e.AddPackage("App", "u", "1", "P"); err != nil || e.Phase(e.Targets()[0], "PBXFrameworksBuildPhase") == nil || !strings.Contains(string(e.Src), "packageReferences = (") {
		t.Errorf("a target without a frameworks phase gets one, in objects of one line too: %v\n%s", err, e.Src)
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte(small))
	f.Add(demoProject(f))
	f.Fuzz(func(t *testing.T, src []byte) {
		p, err := Parse(src)
		if err != nil {
			return
		}
		for _, o := range p.Order {
			if at := o.Entry; src[at.End-1] != ';' || src[at.Value.Start] != '{' || src[at.Value.End-1] != '}' || src[o.Dict.Open-1] != '{' || src[o.Dict.Close] != '}' {
				t.Fatalf("object %s is not where it says", o.ID)
			}
		}
		p.References()
		p.SyncFolders()
		e, err := p.Edit()
		if err != nil {
			return
		}
		for _, target := range p.Targets() {
			if err := e.AddResource(target.Name, "", "ligare-x.json"); err != nil {
				return
			}
			if _, err := Parse(e.Src); err != nil {
				t.Fatalf("%q -> %q: %v", src, e.Src, err)
			}
		}
	})
}

func BenchmarkParse(b *testing.B) {
	src := demoProject(b)
	b.SetBytes(int64(len(src)))
	for b.Loop() {
		if _, err := Parse(src); err != nil {
			b.Fatal(err)
		}
	}
}
