package script

import (
	"strings"
	"testing"
	"testing/fstest"

	"ligare/core/tree"
)

// build opens a build of files; the script under test is app/build.gradle or app/build.gradle.kts.
func build(t *testing.T, files map[string]string, roots Roots) (*Build, string) {
	t.Helper()
	m := fstest.MapFS{"settings.gradle": {Data: []byte("")}}
	var names []string
	script := ""
	for n, c := range files {
		m[n] = &fstest.MapFile{Data: []byte(c)}
		names = append(names, n)
		if strings.HasPrefix(n, "app/build.gradle") {
			script = n
		}
	}
	b, troubles := Open(tree.New(m), ".", names, roots)
	if len(troubles) > 0 {
		t.Fatal(troubles)
	}
	return b, script
}

// What one expression is worth, in both dialects. "?" means unresolved, with the words that must be said.
func TestExpressions(t *testing.T) {
	others := map[string]string{
		"gradle.properties": "flag=true\nname=hive\nnumber=4\na.b=dotted\n", "app/gradle.properties": "own=mine\nname=not this\n",
		"build.gradle":    "ext { one = 'root'; list = ['x', 'y']; nested = [a: [b: 'deep']] }\next.two = one + '2'\nproject.ext.set('three', 'set')\next['four'] = 'index'",
		"data.properties": "k=v\nempty=\n", "gradle/libs.versions.toml": "[versions]\nmin-sdk = \"24\"\n", "here.txt": "x",
	}
	for _, c := range []struct{ dialect, expr, want string }{
		{"both", `"plain"`, "plain"}, {"both", `"a" + "b" + 1`, "ab1"}, {"both", `1 + 2`, "3"}, {"both", `10 - 3`, "7"}, {"both", `3 * 4`, "12"}, {"both", `(1 + 2) * 3`, "9"}, {"both", `1_000`, "1000"},
		{"both", `"${name}.x"`, "hive.x"}, {"both", `"$name-${number}"`, "hive-4"}, {"both", `name.toUpperCase()`, "HIVE"}, {"both", `"Hive".toLowerCase()`, "hive"},
		{"both", `" x ".trim()`, " x "}, {"both", `"a-b".replace("-", ".")`, "a.b"}, {"both", `own`, "mine"}, {"both", `one`, "root"}, {"both", `two`, "root2"},
		{"both", `rootProject.ext.three`, "set"}, {"both", `four`, "index"}, {"both", `nested.a.b`, "deep"}, {"both", `libs.versions.min.sdk.get()`, "24"},
		{"both", `libs.versions.max.get()`, "?no such version"}, {"both", `project.property("name")`, "hive"}, {"both", `findProperty("a.b")`, "dotted"}, {"both", `findProperty("nope") ?: "d"`, "d"},
		{"both", `providers.gradleProperty("nope").getOrElse("d")`, "d"}, {"both", `providers.gradleProperty("nope").orNull ?: "d"`, "d"}, {"both", `providers.gradleProperty("name").get()`, "hive"},
		{"both", `System.getenv("HERE")`, "?environment variable HERE"}, {"both", `System.getProperty("os.name")`, "?system property"}, {"both", `unknown`, "?`unknown`"}, {"both", `call(1)`, "?`call(1)`"},
		{"both", `!flag.toBoolean()`, "false"}, {"both", `flag.toBoolean() && number == "4"`, "true"}, {"both", `false || 1 < 2`, "true"}, {"both", `3 >= 4`, "false"}, {"both", `"a" != "b"`, "true"},
		{"both", `rootProject.file("here.txt").exists()`, "true"}, {"both", `rootProject.file("away.txt").exists()`, "?away.txt is not in the tree"}, {"both", `file("../x/./y.jks")`, "x/y.jks"},
		{"both", `rootProject.file("k.jks")`, "k.jks"}, {"both", `"$rootDir/k.jks"`, "k.jks"}, {"both", `"${project.projectDir}/k.jks"`, "app/k.jks"}, {"both", `file("/abs/k.jks")`, "/abs/k.jks"}, {"both", `file("~/k.jks")`, "app/~/k.jks"}, {"both", `file("../../k.jks")`, "../k.jks"},
		{"both", `false && unknown()`, "false"}, {"both", `true || unknown()`, "true"}, {"both", `-5`, "-5"}, {"both", `Integer.parseInt("7")`, "7"}, {"both", `"a".equals("a")`, "true"}, {"both", `"abc".startsWith("ab")`, "true"},
		{"groovy", `flag ? 'y' : 'n'`, "y"}, {"groovy", `unknown() ? 'y' : 'n'`, "y when unknown(), or n when not unknown()"}, {"groovy", `list[1]`, "y"}, {"groovy", `[a: 'm'].a`, "m"}, {"groovy", `'''t'''`, "t"},
		{"groovy", `list.contains('x')`, "true"}, {"groovy", `'a' in list`, "false"}, {"groovy", `safeExtGet('one', 'd')`, "root"}, {"groovy", `safeExtGet('none', 'd')`, "d"}, {"groovy", `rootProject.hasProperty('one') ? 1 : 2`, "1"},
		{"groovy", `project.hasProperty('none') ? 'y' : 'n'`, "y when project.hasProperty('none'), or n when not project.hasProperty('none')"}, {"groovy", `rootProject.ext.has('none') ? 'y' : 'n'`, "n"},
		{"groovy", `(name == 'hive') ? 'y' : 'n'`, "y"}, {"groovy", `null ?: 'd'`, "d"}, {"groovy", `'a'.concat('b')`, "ab"}, {"groovy", `name as String`, "hive"}, {"groovy", `list[9]`, "?list[9]"},
		{"kotlin", `if (flag.toBoolean()) "y" else "n"`, "y"}, {"kotlin", `if (unknown()) "y" else "n"`, "y when unknown(), or n when not unknown()"}, {"kotlin", `(findProperty("name") as String?) ?: "d"`, "hive"},
		{"kotlin", `findProperty("nope") as String? ?: "d"`, "d"}, {"kotlin", `listOf("a", "b")[1]`, "b"}, {"kotlin", `mapOf("k" to "v")["k"]`, "v"}, {"kotlin", `rootProject.extra["three"] as String`, "set"},
		{"kotlin", `extra.get("one").toString()`, "root"}, {"kotlin", `"""raw $name"""`, "raw hive"}, {"kotlin", `name!!`, "hive"}, {"kotlin", `name?.uppercase()`, "HIVE"}, {"kotlin", `requireNotNull(name)`, "hive"},
		{"kotlin", `when { flag == "true" -> "y"; else -> "n" }`, "?"}, {"kotlin", "when (name) {\n \"hive\" -> \"bee\"\n else -> \"n\"\n }", "bee"}, {"kotlin", "when {\n number == \"9\" -> \"n\"\n else -> \"y\"\n }", "y"},
	} {
		for _, dialect := range []string{"groovy", "kotlin"} {
			if c.dialect != "both" && c.dialect != dialect {
				continue
			}
			files := map[string]string{}
			for n, s := range others {
				files[n] = s
			}
			if dialect == "groovy" {
				files["app/build.gradle"] = "def answer = " + c.expr
			} else {
				files["app/build.gradle.kts"] = "val answer = " + c.expr
			}
			b, script := build(t, files, Roots{})
			f := b.File(script)
			s := scope{b: b, file: script, f: f, dir: "app"}
			v, ok := s.local("answer")
			got := v.fact.With(unmark)
			if v.kind == object {
				got = (&parser{scope: s}).finish(v, f.Settings()[0].Value).fact
			}
			why, open := strings.CutPrefix(c.want, "?")
			switch {
			case !ok:
				t.Errorf("%s %s: no answer", dialect, c.expr)
			case open && (got.Unresolved == "" || !strings.Contains(got.Unresolved, why)):
				t.Errorf("%s %s: %s", dialect, c.expr, got.Say())
			case !open && got.Say() != c.want:
				t.Errorf("%s %s: %s, want %s", dialect, c.expr, got.Say(), c.want)
			}
		}
	}
}

func TestGivenRoots(t *testing.T) {
	home := fstest.MapFS{".gradle/gradle.properties": {Data: []byte("name=home\nonly=here\n")}, "keys.properties": {Data: []byte("k=kept\n")}}
	env := map[string]string{"HERE": "value", "ORG_GRADLE_PROJECT_fromEnv": "e"}
	files := map[string]string{"gradle.properties": "name=tree\n", "app/build.gradle": `def a = name
def b = only
def c = System.getenv('HERE')
def d = System.getenv('NOT') ?: 'default'
def e = fromEnv
def p = new Properties()
p.load(new FileInputStream(new File("${System.getProperty('user.home')}/keys.properties")))
def f = p['k']
def g = new File("${System.getProperty('user.home')}/x.jks")
`}
	for _, c := range []struct {
		roots Roots
		want  map[string]string
	}{
		{Roots{}, map[string]string{"a": "tree", "b": "?", "c": "?", "d": "?", "e": "?", "f": "?", "g": "~/x.jks"}},
		{Roots{Home: home, Env: env}, map[string]string{"a": "home", "b": "here", "c": "value", "d": "default", "e": "e", "f": "kept", "g": "~/x.jks"}},
	} {
		b, script := build(t, files, c.roots)
		s := scope{b: b, file: script, f: b.File(script), dir: "app"}
		for name, want := range c.want {
			v, _ := s.local(name)
			if got := v.fact.With(unmark); want == "?" && got.Unresolved == "" || want != "?" && got.String() != want {
				t.Errorf("%s: %s, want %s", name, got.Say(), want)
			}
		}
	}
}

// The order in which statements count: the root's blocks, then the module's script with its plugins and scripts unfolded
// where they are applied.
func TestStatementsInOrder(t *testing.T) {
	b, script := build(t, map[string]string{
		"build.gradle":                        "allprojects { ext.seen = 'root' }\nsubprojects { android { step 'one' } }\nproject(':app') { android { step 'two' } }\nproject(':other') { android { step 'never' } }",
		"app/build.gradle":                    "android { step 'three' }\napply from: 'more.gradle'\napply plugin: 'own'\nandroid.step('six')\nsubprojects { android { step 'never' } }",
		"app/more.gradle":                     "android { step 'four' }\napply from: 'more.gradle'",
		"buildSrc/src/main/groovy/own.gradle": "android { step 'five' }",
	}, Roots{})
	var got []string
	m := b.Model(script, "app")
	for _, st := range m.At("android", "step") {
		got = append(got, st.Value().String())
	}
	if s := strings.Join(got, " "); s != "one two three four five six" {
		t.Errorf("%s", s)
	}
	if !m.Applies("own") || m.Applies("other") || m.Plugins[0].Own == "" {
		t.Errorf("%+v", m.Plugins)
	}
}
