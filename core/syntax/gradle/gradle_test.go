package gradle

import (
	"strings"
	"testing"

	"ligare/core/syntax/lex"
)

const groovy = `// applicationId "commented.out"
buildscript {
    ext { minSdk = 24; other = "$x applicationId 'no'" }
    dependencies { classpath 'a:b:1' }
}
apply plugin: 'com.android.application'
apply from: "variables.gradle"
def flag = true
android {
    /* applicationId "no" */
    namespace 'example.ns'
    defaultConfig {
        applicationId "example.app"
        minSdkVersion rootProject.ext.minSdk
        manifestPlaceholders = [a: "b", c: "d"]
    }
    buildTypes {
        debug { applicationIdSuffix ".debug" }
        release {
            minifyEnabled flag
        }
    }
}
android.defaultConfig.versionName = "1"
if (flag) {
    dependencies { implementation 'c:d:2' }
} else {
    dependencies {
        implementation project(':lib')
    }
}
dependencies {
    implementation "e:f:$ver"
    api group: 'g', name: 'h', version: '3'
    debugImplementation(platform("i:j:4"))
}
`

const kotlin = `plugins {
    id("com.android.application") version "8" apply false
    alias(libs.plugins.kotlin.android)
    kotlin("kapt")
}
val min by extra(24)
val name: String = "x"
android {
    defaultConfig {
        setApplicationId("example.app")
        minSdk = libs.versions.min.sdk.get().toInt()
        versionName.set("2")
    }
    buildTypes {
        create("staging") { applicationIdSuffix = ".staging" }
        getByName("release") { }
        named<Thing>("debug") { applicationIdSuffix = ".d" }
    }
}
extra["y"] = "z"
dependencies {
    implementation(libs.androidx.core)
    "customImplementation"("k:l:5")
}
repositories { maven { url = uri("https://a.example/b") } ; maven("https://c.example") }
`

func paths(f *File) string {
	var out []string
	for _, s := range f.Settings() {
		out = append(out, strings.Join(s.Path, "/")+"="+f.Text(s.Arg()))
	}
	return strings.Join(out, "\n")
}

func TestOneSettingManySpellings(t *testing.T) {
	g := paths(Parse("build.gradle", []byte(groovy)))
	for _, want := range []string{`android/defaultConfig/applicationId="example.app"`, "android/defaultConfig/minSdkVersion=rootProject.ext.minSdk",
		`android/buildTypes/debug/applicationIdSuffix=".debug"`, `android/defaultConfig/versionName="1"`, "buildscript/ext/minSdk=24", "flag=true"} {
		if !strings.Contains(g, want) {
			t.Errorf("missing %s in\n%s", want, g)
		}
	}
	if strings.Contains(g, "commented") || strings.Contains(g, `"no"`) {
		t.Errorf("a lookalike was read:\n%s", g)
	}
	k := paths(Parse("build.gradle.kts", []byte(kotlin)))
	for _, want := range []string{`android/defaultConfig/applicationId="example.app"`, `android/buildTypes/staging/applicationIdSuffix=".staging"`,
		`android/buildTypes/debug/applicationIdSuffix=".d"`, `android/defaultConfig/versionName="2"`, "min=extra(24)", `name="x"`, `extra/y="z"`,
		"android/defaultConfig/minSdk=libs.versions.min.sdk.get().toInt()"} {
		if !strings.Contains(k, want) {
			t.Errorf("missing %s in\n%s", want, k)
		}
	}
}

func TestConditionsAreKept(t *testing.T) {
	f := Parse("build.gradle", []byte(groovy))
	var got []string
	for _, d := range f.Dependencies("dependencies") {
		got = append(got, d.Cond+"|"+d.Config+"|"+d.Group+"|"+d.Name+"|"+d.Literal+"|"+d.Project)
	}
	want := "flag|implementation|c|d|2|\nnot (flag)|implementation||||:lib\n|implementation|e|f||\n|api|g|h|3|\n|debugImplementation|i|j|4|"
	if strings.Join(got, "\n") != want {
		t.Errorf("got\n%s", strings.Join(got, "\n"))
	}
}

func TestPluginsAndRepositories(t *testing.T) {
	var got []string
	for _, src := range []struct{ name, text string }{{"a.gradle", groovy}, {"a.gradle.kts", kotlin}} {
		f := Parse(src.name, []byte(src.text))
		for _, p := range f.Plugins() {
			got = append(got, p.ID)
			if (p.ID == "com.android.application") != (src.name == "a.gradle" && p.Applied || src.name != "a.gradle" && !p.Applied) {
				t.Errorf("%s: %s applied: %v", src.name, p.ID, p.Applied)
			}
		}
		if b := f.Block("repositories"); b != nil {
			for _, s := range b.Stmts {
				got = append(got, f.URL(s))
			}
		}
	}
	if s := strings.Join(got, " "); s != "com.android.application com.android.application kotlin.android org.jetbrains.kotlin.kapt https://a.example/b https://c.example" {
		t.Errorf("got %s", s)
	}
}

func TestIntoAndFind(t *testing.T) {
	for _, c := range []struct{ name, src, block, text, address, want string }{
		{"b.gradle", "dependencies {\n    a 'x'\n}\n", "dependencies", "b 'y:z'", "dependencies/b(y:z)", "dependencies {\n    a 'x'\n    b 'y:z'\n}\n"},
		{"b.gradle", "dependencies { a 'x' }\n", "dependencies", "b 'y'", "dependencies/b(y)", "dependencies { a 'x'; b 'y' }\n"},
		{"b.gradle.kts", "r {\n\tr2 {\n\t\ta()\n\t}\n}", "r/r2", "maven {\n    url = uri(\"https://q\")\n}", "r/r2/maven(https:\\/\\/q)", "r {\n\tr2 {\n\t\ta()\n\t\tmaven {\n\t\t    url = uri(\"https://q\")\n\t\t}\n\t}\n}"},
		{"b.gradle", "d {\r\n}\r\n", "d", "b 'y'", "d/b(y)", "d {\r\n    b 'y'\r\n}\r\n"},
	} {
		f := Parse(c.name, []byte(c.src))
		b := f.Block(strings.Split(c.block, "/")...)
		if b == nil {
			t.Fatalf("%q: no block", c.src)
		}
		out, err := lex.Apply(f.Src, f.Into(b, c.text).Change())
		if err != nil {
			t.Fatal(err)
		}
		if got := string(out); got != c.want && strings.ReplaceAll(got, "\n }", "\n}") != strings.ReplaceAll(c.want, "\n }", "\n}") {
			t.Errorf("%q: got %q", c.src, out)
		}
		s, e, ok := Parse(c.name, out).Find(c.address)
		if !ok || !strings.Contains(string(out[s:e]), strings.Fields(c.text)[0]) {
			t.Errorf("%q: address %s not found", out, c.address)
		}
	}
}

func FuzzParse(f *testing.F) {
	f.Add(false, []byte(groovy))
	f.Add(true, []byte(kotlin))
	f.Add(true, []byte("if("))
	f.Add(true, []byte("if (a) b else c\n@X(\"y\") val z = 1\nval q by lazy { 1 }"))
	f.Fuzz(func(t *testing.T, kts bool, src []byte) {
		name := "build.gradle"
		if kts {
			name += ".kts"
		}
		g := Parse(name, src)
		if err := lex.Verify(src, g.Tree.Root); err != nil {
			t.Fatal(err)
		}
		g.Plugins()
		for _, s := range g.Settings() {
			if s.Start < 0 || s.End > len(src) || s.Start > s.End {
				t.Fatalf("statement %v spans %d-%d", s.Path, s.Start, s.End)
			}
		}
		b := g.Block("dependencies")
		if b == nil || g.Err() != nil {
			return
		}
		out, err := lex.Apply(src, g.Into(b, "ligareTest(\"x\")").Change())
		if err != nil {
			t.Fatal(err)
		}
		if h := Parse(name, out); h.Err() != nil {
			t.Fatalf("%q -> %q: %v", src, out, h.Err())
		}
	})
}
