package script

import (
	"strings"
	"testing"

	"ligare/core/survey/fact"
)

// What one setting of a module comes to, read the way Gradle meets its statements. The setting is android.id unless
// the case names another; "?" means unresolved, "-" that the scripts say nothing.
func TestSettings(t *testing.T) {
	for _, c := range []struct {
		name, want string
		path       string
		files      map[string]string
	}{
		{name: "the last one counts", want: "b", files: map[string]string{"app/build.gradle": "android { id 'a' }\nandroid { id 'b' }"}},
		{name: "an assignment and a call are one setting", want: "b", files: map[string]string{"app/build.gradle": "android { id 'a'; id = 'b' }"}},
		{name: "a dotted path is the block's", want: "a", files: map[string]string{"app/build.gradle": "android.id = 'a'"}},
		{name: "a setter is the setting", want: "a", files: map[string]string{"app/build.gradle.kts": "android { id.set(\"a\") }"}},
		{name: "nothing said", want: "-", files: map[string]string{"app/build.gradle": "android { }\n// android { id 'a' }"}},
		{name: "a setting in a string is none", want: "-", files: map[string]string{"app/build.gradle": "def s = \"android { id 'a' }\""}},
		{name: "the root speaks first", want: "app", files: map[string]string{"build.gradle": "subprojects { android { id 'root' } }", "app/build.gradle": "android { id 'app' }"}},
		{name: "the root speaks for another module", want: "-", files: map[string]string{"build.gradle": "project(':lib') { android { id 'root' } }", "app/build.gradle": ""}},
		{name: "a condition that holds", want: "b", files: map[string]string{"app/build.gradle": "def x = 1\nandroid { id 'a'; if (x == 1) { id 'b' } }"}},
		{name: "a condition that does not hold", want: "a", files: map[string]string{"app/build.gradle": "def x = 2\nandroid { id 'a'; if (x == 1) { id 'b' } }"}},
		{name: "a condition nobody can decide", want: "b when x(), or a when not (x())", files: map[string]string{"app/build.gradle": "android { id 'a'; if (x()) { id 'b' } }"}},
		{name: "a condition overruled later", want: "c", files: map[string]string{"app/build.gradle": "android { if (x()) { id 'b' }; id 'c' }"}},
		{name: "both branches say the same", want: "b", files: map[string]string{"app/build.gradle": "android { if (x()) { id 'b' } else { id 'b' } }"}},
		{name: "two branches", want: "b when x(), or c when not (x())", files: map[string]string{"app/build.gradle": "android { if (x()) { id 'b' } else { id 'c' } }"}},
		{name: "a branch that cannot be resolved", want: "?y()", files: map[string]string{"app/build.gradle": "android { if (x()) { id 'b' } else { id y() } }"}},
		{name: "an exception is caught", want: "b", files: map[string]string{"app/build.gradle": "android { try { id 'b' } catch (Exception e) { logger.warn('x') } }"}},
		{name: "a name said twice", want: "b", files: map[string]string{"app/build.gradle": "def x = 'a'\nx = 'b'\nandroid { id x }"}},
		{name: "a name changed afterwards", want: "a", files: map[string]string{"app/build.gradle": "def x = 'a'\nandroid { id x }\nx = 'b'"}},
		{name: "a name in another block", want: "outer", files: map[string]string{"app/build.gradle": "def x = 'outer'\nother { def x = 'inner' }\nandroid { id x }"}},
		{name: "a name in an inner block", want: "inner", files: map[string]string{"app/build.gradle": "android { def x = 'inner'; id x }"}},
		{name: "a list's items", want: "c", files: map[string]string{"app/build.gradle": "['a', 'b', 'c'].each { android { id it } }"}},
		{name: "a loop with a name", want: "x.c", files: map[string]string{"app/build.gradle.kts": "for (n in listOf(\"a\", \"c\")) { android { id = \"x.$n\" } }"}},
		{name: "a map's entries", want: "k2=v2", files: map[string]string{"app/build.gradle": "[k1: 'v1', k2: 'v2'].each { k, v -> android { id \"$k=$v\" } }"}},
		{name: "a name computed in a loop", want: "v2", path: "android kinds k2 id", files: map[string]string{"app/build.gradle": "[k1: 'v1', k2: 'v2'].each { k, v -> android { kinds { \"$k\" { id v } } } }"}},
		{name: "create by a name", want: "v", path: "android kinds pro id", files: map[string]string{"app/build.gradle.kts": "val n = \"pro\"\nandroid { kinds { create(n) { id = \"v\" } } }"}},
		{name: "getByName of what exists", want: "v", path: "android kinds pro id", files: map[string]string{"app/build.gradle.kts": "android { kinds { getByName(\"pro\") { id = \"v\" } } }"}},
		{name: "by creating", want: "v", path: "android kinds pro id", files: map[string]string{"app/build.gradle.kts": "android { kinds { val pro by creating { id = \"v\" } } }"}},
		{name: "by creating in a named container", want: "v", path: "android kinds pro id", files: map[string]string{"app/build.gradle.kts": "android { val pro by kinds.creating { id = \"v\" } }"}},
		{name: "by getting", want: "v", path: "android kinds pro id", files: map[string]string{"app/build.gradle.kts": "android { kinds { val pro by getting { id = \"v\" } } }"}},
		{name: "extensions by name", want: "v", files: map[string]string{"app/build.gradle.kts": "extensions.configure<Any>(\"android\") { id = \"v\" }"}},
		{name: "configure by type in a plugin", want: "v", files: map[string]string{"app/build.gradle.kts": "plugins { id(\"own\") }", "buildSrc/src/main/kotlin/own.gradle.kts": "android { id = \"v\" }"}},
		{name: "after the module is evaluated", want: "late", files: map[string]string{"app/build.gradle": "android { id 'early' }\nafterEvaluate { android { id 'late' } }"}},
		{name: "a helper with an argument", want: "x.pro", files: map[string]string{"app/build.gradle": "def name(String s) { return \"x.\" + s }\nandroid { id name('pro') }"}},
		{name: "a helper that calls itself", want: "?", files: map[string]string{"app/build.gradle": "def name(String s) { return name(s) }\nandroid { id name('pro') }"}},
		{name: "names that mean each other", want: "?", files: map[string]string{"app/build.gradle": "ext.a = ext.b\next.b = ext.a\nandroid { id ext.a }"}},
		{name: "a Properties file under apply from", want: "v", files: map[string]string{"app/build.gradle": "apply from: rootProject.file('k.gradle')\nandroid { id p['k'] }", "k.gradle": "ext.p = new Properties()\np.load(new FileInputStream(rootProject.file('k.properties')))", "k.properties": "k : v"}},
	} {
		b, script := build(t, c.files, Roots{})
		path := strings.Fields("android id")
		if c.path != "" {
			path = strings.Fields(c.path)
		}
		got := b.Model(script, "app").Setting(path...)
		why, open := strings.CutPrefix(c.want, "?")
		switch {
		case c.want == "-" && got.Set(), open && (got.Unresolved == "" || !strings.Contains(got.Unresolved, why)), !open && c.want != "-" && got.Say() != c.want:
			t.Errorf("%s: %s, want %s", c.name, got.Say(), c.want)
		}
	}
}

func TestQuestionsToAModel(t *testing.T) {
	b, script := build(t, map[string]string{
		"app/build.gradle": `apply plugin: 'own.class'
apply from: '../shared/more.gradle'
apply from: "$away/elsewhere.gradle"
def abis = ['a', 'b']
android {
    first 'x'
    names abis
    fields role: 'map', scheme: "s-${abis[0]}"
    key file('k.jks')
    homeKey new File(System.getProperty('user.home'), '.keys/k.jks')
    diskKey file('/k.jks')
    noKey unknown
    unknown().each { item it }
}`,
		"shared/more.gradle":              "android { second 'y' }",
		"buildSrc/src/main/java/Own.java": "public class Own implements Plugin<Project> {\n  public void apply(Project p) { Magic.run(p); }\n}\n",
		"buildSrc/src/main/resources/META-INF/gradle-plugins/own.class.properties": "implementation-class=Own\n",
		"gradle/libs.versions.toml": `[versions]
one = "1.0"
rich = { strictly = "[2,3[", prefer = "2.5" }
[libraries]
short = "g:short:3"
bare = "g:bare"
module = { module = "g:module", version.ref = "one" }
pair = { group = "g", name = "pair", version = "4" }
rich-lib = { module = "g:rich", version.ref = "rich" }
[plugins]
short = "p.short:5"
long = { id = "p.long", version.ref = "one" }
`,
	}, Roots{})
	m := b.Model(script, "app")
	one := func(name string) Stmt {
		t.Helper()
		at := m.At("android", name)
		if len(at) != 1 {
			t.Fatalf("%s: %d statements", name, len(at))
		}
		return at[0]
	}
	say := func(facts []fact.Fact) string {
		var out []string
		for _, f := range facts {
			out = append(out, f.Say())
		}
		return strings.Join(out, " ")
	}
	if got := m.First([]string{"android", "none"}, []string{"android", "second"}, []string{"android", "first"}); got.String() != "y" || got.Place() != "shared/more.gradle:1:18" {
		t.Errorf("first: %s at %s", got.Say(), got.Place())
	}
	if got := m.First([]string{"android", "none"}); got.Set() {
		t.Errorf("nothing: %s", got.Say())
	}
	if got := say(one("names").List(one("names").Arg())); got != "a b" {
		t.Errorf("list: %s", got)
	}
	if got := say(one("first").List(one("first").Arg())); got != "x" {
		t.Errorf("list of one: %s", got)
	}
	for name, want := range map[string]string{"key": "tree app/k.jks", "homeKey": "home ~/.keys/k.jks", "diskKey": "disk /k.jks"} {
		st := one(name)
		where, f := st.Where(st.Arg())
		if got := where + " " + f.Say(); got != want {
			t.Errorf("%s: %s, want %s", name, got, want)
		}
	}
	if where, f := one("noKey").Where(one("noKey").Arg()); where != "" || f.Unresolved == "" || f.Line == 0 {
		t.Errorf("noKey: %s %+v", where, f)
	}
	if _, _, ok := one("first").Map(one("first").Arg()); ok {
		t.Error("a text is not a map")
	}
	if m.Reads("shared/more.gradle") || !m.Reads("elsewhere.gradle\"") || m.Reads("never.gradle") {
		t.Error("scripts that are applied")
	}
	if own := m.Opaque(); len(own) != 1 || own[0].ID != "own.class" || own[0].Line != 1 {
		t.Errorf("opaque: %+v", own)
	}
	if got := len(m.Under("android")); got < 8 {
		t.Errorf("%d statements under android", got)
	}
	loops := 0
	for _, st := range m.Under("android") {
		if st.Loop() {
			loops++
			if f := st.Stuck("it is not known"); !strings.Contains(f.Unresolved, "it is not known") || f.Line != 13 {
				t.Errorf("%+v", f)
			}
		}
	}
	if loops != 1 {
		t.Errorf("%d loops over what is not known", loops)
	}

	for alias, want := range map[string]string{"short": "g:short 3", "bare": "g:bare ", "module": "g:module 1.0", "pair": "g:pair 4", "rich.lib": "g:rich [2,3["} {
		if module, version, ok := b.Library(alias); !ok || module+" "+version != want {
			t.Errorf("library %s: %s %s", alias, module, version)
		}
	}
	if _, _, ok := b.Library("none"); ok {
		t.Error("a library nobody declares")
	}
	for alias, want := range map[string]string{"short": "p.short 5", "long": "p.long 1.0", "none": " "} {
		if id, version := b.plugin("libs", alias); id+" "+version.String() != want {
			t.Errorf("plugin %s: %s %s", alias, id, version.Say())
		}
	}
}

// A block that is run once for each variant sees the variant's own names.
func TestBoundNames(t *testing.T) {
	b, script := build(t, map[string]string{"app/build.gradle": "android { id \"${variant.name}-${variant.flavor}\"; same variant.name == 'proRelease'; has variant.parts.contains('pro') }"}, Roots{})
	m := b.Model(script, "app")
	names := map[string]any{"variant.name": "proRelease", "variant.flavor": "pro", "variant.parts": []string{"pro", "release"}}
	at := func(name string) Stmt { return m.At("android", name)[0].Bind(names) }
	if got := at("id").Value().Say(); got != "proRelease-pro" {
		t.Errorf("%s", got)
	}
	for _, name := range []string{"same", "has"} {
		if got := at(name).Truth(at(name).Arg()); got != "true" {
			t.Errorf("%s: %q", name, got)
		}
	}
	if free := m.At("android", "id")[0].Value(); free.Unresolved == "" {
		t.Errorf("bound where it should not be: %s", free.Say())
	}
}
