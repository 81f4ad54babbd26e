package survey

import (
	"sort"
	"strings"
	"testing"
)

const appPlugins = "apply plugin: 'com.android.application'\n"

// The traps of build files: where a value can hide, and what must not be taken for one.
func TestWhereAnIDCanHide(t *testing.T) {
	for _, c := range []struct {
		name  string
		files map[string]string
		want  string // value, "?reason" for unresolved, or the sentence of possible values
		at    string
	}{
		{name: "a property file loaded the classic way", files: map[string]string{"app/build.gradle": appPlugins + `
def p = new Properties()
def f = rootProject.file("ids.properties")
p.load(new FileInputStream(f))
android { defaultConfig { applicationId p['app.id'] } }`, "ids.properties": "# x\napp.id=a.b\n"}, want: "a.b", at: "ids.properties:2"},
		{name: "loaded with a stream block", files: map[string]string{"app/build.gradle": appPlugins + `
Properties p = new Properties()
file('ids.properties').withInputStream { p.load(it) }
android { defaultConfig { applicationId p.getProperty('app.id') } }`, "app/ids.properties": "app.id=a.b\n"}, want: "a.b", at: "app/ids.properties:1"},
		{name: "loaded by apply in Kotlin", files: map[string]string{"app/build.gradle.kts": `
import java.util.Properties
plugins { id("com.android.application") }
val p = Properties().apply { load(rootProject.file("ids.properties").inputStream()) }
android { defaultConfig { applicationId = p["app.id"] as String } }`, "ids.properties": "app.id=a.b\n"}, want: "a.b"},
		{name: "loaded by use in Kotlin", files: map[string]string{"app/build.gradle.kts": `
plugins { id("com.android.application") }
val p = java.util.Properties()
rootProject.file("ids.properties").inputStream().use { p.load(it) }
android { defaultConfig { applicationId = p.getProperty("app.id") } }`, "ids.properties": "app.id=a.b\n"}, want: "a.b"},
		{name: "a property file that is kept out of the tree", files: map[string]string{"app/build.gradle": appPlugins + `
def p = new Properties()
def f = rootProject.file("ids.properties")
if (f.exists()) { p.load(new FileInputStream(f)) }
android { defaultConfig { applicationId p['app.id'] } }`}, want: "?ids.properties is not in the tree"},
		{name: "a constant of buildSrc", files: map[string]string{"app/build.gradle.kts": `plugins { id("com.android.application") }
android { defaultConfig { applicationId = Ids.APP } }`, "buildSrc/src/main/kotlin/Ids.kt": "object Ids {\n    private const val BASE = \"a\"\n    const val APP = \"$BASE.b\"\n}\n"}, want: "a.b", at: "buildSrc/src/main/kotlin/Ids.kt:3"},
		{name: "a Java constant of buildSrc", files: map[string]string{"app/build.gradle": appPlugins + `android { defaultConfig { applicationId Ids.APP } }`,
			"buildSrc/src/main/java/Ids.java": "public final class Ids {\n    public static final String APP = \"a.b\";\n}\n"}, want: "a.b"},
		{name: "a script plugin of build-logic", files: map[string]string{"settings.gradle.kts": `pluginManagement { includeBuild("build-logic") }`,
			"app/build.gradle.kts": `plugins { id("larkfield.app") }`,
			"build-logic/convention/src/main/kotlin/larkfield.app.gradle.kts": "plugins { id(\"com.android.application\") }\nandroid { defaultConfig { applicationId = \"a.b\" } }"}, want: "a.b", at: "build-logic/convention/src/main/kotlin/larkfield.app.gradle.kts:2"},
		{name: "a plugin class of build-logic with a helper", files: map[string]string{"settings.gradle.kts": `pluginManagement { includeBuild("build-logic") }`,
			"app/build.gradle.kts":                    "plugins { id(\"larkfield.app\") }\nandroid { namespace = \"n.s\" }",
			"build-logic/convention/build.gradle.kts": `gradlePlugin { plugins { register("app") { id = "larkfield.app"; implementationClass = "AppPlugin" } } }`,
			"build-logic/convention/src/main/kotlin/AppPlugin.kt": `class AppPlugin : Plugin<Project> {
    override fun apply(target: Project) {
        with(target) {
            with(pluginManager) { apply("com.android.application") }
            extensions.configure<ApplicationExtension> {
                configureIt(this)
                defaultConfig.targetSdk = 34
            }
        }
    }
}
`, "build-logic/convention/src/main/kotlin/Helper.kt": "internal fun Project.configureIt(ext: CommonExtension<*, *>) {\n    ext.apply {\n        defaultConfig { applicationId = \"a.b\" }\n    }\n}\n"}, want: "a.b", at: "build-logic/convention/src/main/kotlin/Helper.kt:3"},
		{name: "a plugin class that sets nothing we see", files: map[string]string{"settings.gradle.kts": `pluginManagement { includeBuild("build-logic") }`,
			"app/build.gradle.kts":             "plugins { id(\"larkfield.app\") }\nandroid { namespace = \"n.s\" }",
			"build-logic/build.gradle.kts":     `gradlePlugin { plugins { register("app") { id = "larkfield.app"; implementationClass = "x.AppPlugin" } } }`,
			"build-logic/src/main/kotlin/A.kt": "package x\nclass AppPlugin : Plugin<Project> { override fun apply(target: Project) { target.pluginManager.apply(\"com.android.application\"); Magic.run(target) } }\n"}, want: "?may"},
		{name: "subprojects of the root", files: map[string]string{"build.gradle": "subprojects { afterEvaluate { if (plugins.hasPlugin('com.android.application')) { } } }\nsubprojects { plugins.withId('com.android.application') { android { defaultConfig { applicationId 'a.b' } } } }",
			"app/build.gradle": appPlugins + "android { }"}, want: "a.b", at: "build.gradle:2"},
		{name: "an applied script", files: map[string]string{"app/build.gradle": "apply plugin: 'com.android.application'\napply from: '../common.gradle'\n", "common.gradle": "android { defaultConfig { applicationId 'a.b' } }"}, want: "a.b", at: "common.gradle:1"},
		{name: "an applied script of the root folder", files: map[string]string{"app/build.gradle": "apply plugin: 'com.android.application'\napply from: \"$rootDir/common.gradle\"\n", "common.gradle": "android { defaultConfig { applicationId 'a.b' } }"}, want: "a.b"},
		{name: "a flag that is known", files: map[string]string{"app/build.gradle": appPlugins + "def lite = false\nandroid { defaultConfig { applicationId lite ? 'a.lite' : 'a.b' } }"}, want: "a.b"},
		{name: "a property that is set decides", files: map[string]string{"gradle.properties": "kind=x", "app/build.gradle": appPlugins + "android { defaultConfig { applicationId project.hasProperty('kind') ? 'a.b' : 'a.c' } }"}, want: "a.b"},
		{name: "when by a known subject", files: map[string]string{"gradle.properties": "kind=pro", "app/build.gradle.kts": "plugins { id(\"com.android.application\") }\nval kind: String by project\nandroid { defaultConfig { applicationId = when (kind) {\n \"lite\" -> \"a.lite\"\n \"pro\" -> \"a.pro\"\n else -> \"a.b\"\n } } }"}, want: "a.pro"},
		{name: "when by an unknown one", files: map[string]string{"app/build.gradle.kts": "plugins { id(\"com.android.application\") }\nandroid { defaultConfig { applicationId = when (kind()) {\n \"lite\" -> \"a.lite\"\n else -> \"a.b\"\n } } }"}, want: "a.lite when kind() is \"lite\", or a.b when otherwise"},
		{name: "a chain of conditions", files: map[string]string{"app/build.gradle": appPlugins + "android { defaultConfig {\n if (project.hasProperty('ci')) { applicationId 'a.ci' } else if (project.hasProperty('qa')) { applicationId 'a.qa' } else { applicationId 'a.dev' } } }"},
			want: "a.ci when project.hasProperty('ci'), or a.qa when not (project.hasProperty('ci')) and project.hasProperty('qa'), or a.dev when not (project.hasProperty('ci')) and not (project.hasProperty('qa'))"},
		{name: "the root's file through the project", files: map[string]string{"app/build.gradle": appPlugins + "def p = new Properties()\np.load(project.rootProject.file('ids.properties').newDataInputStream())\nandroid { defaultConfig { applicationId p.getProperty('id', 'x.y') } }", "ids.properties": "id=a.b"}, want: "a.b"},
		{name: "a map of extra properties", files: map[string]string{"build.gradle": "ext.ids = [app: 'a.b', other: 'x']", "app/build.gradle": appPlugins + "android { defaultConfig { applicationId rootProject.ext.ids.app } }"}, want: "a.b"},
		{name: "extra by a name with set", files: map[string]string{"build.gradle.kts": "extra[\"id\"] = \"a.b\"", "app/build.gradle.kts": "plugins { id(\"com.android.application\") }\nandroid { defaultConfig { applicationId = rootProject.extra[\"id\"] as String } }"}, want: "a.b"},
		{name: "by extra", files: map[string]string{"build.gradle.kts": "val id by extra(\"a.b\")", "app/build.gradle.kts": "plugins { id(\"com.android.application\") }\nval id: String by rootProject.extra\nandroid { defaultConfig { applicationId = id } }"}, want: "a.b"},
		{name: "a catalog of another name", files: map[string]string{"settings.gradle.kts": "dependencyResolutionManagement { versionCatalogs { create(\"deps\") { from(files(\"gradle/deps.toml\")) } } }", "gradle/deps.toml": "[versions]\napp-id = \"a.b\"\n",
			"app/build.gradle.kts": "plugins { id(\"com.android.application\") }\nandroid { defaultConfig { applicationId = deps.versions.app.id.get() } }"}, want: "a.b", at: "gradle/deps.toml:2"},
		{name: "a version of the settings script", files: map[string]string{"settings.gradle": "dependencyResolutionManagement { versionCatalogs { libs { version('id', 'a.b') } } }", "app/build.gradle": appPlugins + "android { defaultConfig { applicationId libs.versions.id.get() } }"}, want: "a.b", at: "settings.gradle:1"},
		{name: "a function of one expression", files: map[string]string{"app/build.gradle": appPlugins + "def appId() { return 'a.b' }\nandroid { defaultConfig { applicationId appId() } }"}, want: "a.b"},
		{name: "a function of more", files: map[string]string{"app/build.gradle": appPlugins + "def appId() {\n def x = 'git rev-parse'.execute().text\n return \"a.$x\"\n}\nandroid { defaultConfig { applicationId appId() } }"}, want: "?appId()"},
		{name: "the environment with a fallback", files: map[string]string{"app/build.gradle": appPlugins + "android { defaultConfig { applicationId System.getenv('ID') ?: 'a.b' } }"}, want: "?environment variable ID"},
		{name: "nested comments in Kotlin", files: map[string]string{"app/build.gradle.kts": "plugins { id(\"com.android.application\") }\nandroid { defaultConfig { /* /* */ applicationId = \"x.y\" */ applicationId = \"a.b\" } }"}, want: "a.b"},
		{name: "slashy and dollar-slashy strings", files: map[string]string{"app/build.gradle": appPlugins + "def re = /applicationId 'x'/\ndef d = $/a.$b $$ /$\nandroid { defaultConfig { applicationId 'a.b' } }"}, want: "a.b"},
		{name: "onVariants changes it", files: map[string]string{"app/build.gradle.kts": "plugins { id(\"com.android.application\") }\nandroid { defaultConfig { applicationId = \"x.y\" } }\nandroidComponents { onVariants(selector().withBuildType(\"release\")) { variant -> variant.applicationId.set(\"a.b\") } }"}, want: "a.b"},
		{name: "onVariants of another type", files: map[string]string{"app/build.gradle.kts": "plugins { id(\"com.android.application\") }\nandroid { defaultConfig { applicationId = \"a.b\" } }\nandroidComponents { onVariants(selector().withBuildType(\"debug\")) { it.applicationId.set(\"x.y\") } }"}, want: "a.b"},
		{name: "all build types", files: map[string]string{"app/build.gradle": appPlugins + "android { defaultConfig { applicationId 'a.b' }\n buildTypes { all { applicationIdSuffix '.all' } } }"}, want: "a.b.all"},
		{name: "a block reached through getByName", files: map[string]string{"app/build.gradle.kts": "plugins { id(\"com.android.application\") }\nandroid { defaultConfig { applicationId = \"a\" + \".b\" } }\nandroid.buildTypes.getByName(\"release\").applicationIdSuffix = \".r\""}, want: "a.b.r"},
		{name: "with", files: map[string]string{"app/build.gradle.kts": "plugins { id(\"com.android.application\") }\nandroid { with(defaultConfig) { applicationId = \"a.b\" } }"}, want: "a.b"},
		{name: "configure by type", files: map[string]string{"app/build.gradle.kts": "plugins { id(\"com.android.application\") }\nconfigure<com.android.build.api.dsl.ApplicationExtension> { defaultConfig { applicationId = \"a.b\" } }"}, want: "a.b"},
	} {
		if c.files["settings.gradle"] == "" && c.files["settings.gradle.kts"] == "" {
			c.files["settings.gradle"] = "include ':app'"
		}
		r := Survey(in(c.files))
		if len(r.Android.Modules) != 1 {
			t.Errorf("%s: %d modules, %+v", c.name, len(r.Android.Modules), r.Unresolved)
			continue
		}
		var got Fact
		for _, v := range r.Android.Modules[0].Variants {
			if v.Name == "release" {
				got = v.ApplicationID
			}
		}
		why, open := strings.CutPrefix(c.want, "?")
		switch {
		case open && (got.Unresolved == "" || !strings.Contains(got.Unresolved, why) || got.File == ""):
			t.Errorf("%s: %s at %s", c.name, got.Say(), got.Place())
		case !open && got.Say() != c.want:
			t.Errorf("%s: %s via %v", c.name, got.Say(), got.Via)
		case c.at != "" && !strings.HasPrefix(got.Place(), c.at):
			t.Errorf("%s: at %s", c.name, got.Place())
		}
	}
}

func TestFlavorsByComputedNames(t *testing.T) {
	for _, build := range []string{
		"val envs = listOf(\"dev\", \"prod\")\nandroid { flavorDimensions += \"e\"\n productFlavors { envs.forEach { name -> create(name) { dimension = \"e\"\n applicationIdSuffix = \".$name\" } } } }",
		"android { flavorDimensions += \"e\"\n productFlavors { for1() }\n listOf(\"dev\", \"prod\").forEach { productFlavors.create(it) { applicationIdSuffix = it } } }",
		"android { flavorDimensions += \"e\"\n productFlavors { for (n in listOf(\"dev\", \"prod\")) { create(n) { applicationIdSuffix = n } } } }",
		"android { flavorDimensions += \"e\"\n mapOf(\"dev\" to \".dev\", \"prod\" to \".prod\").forEach { (n, s) -> productFlavors { create(n) { applicationIdSuffix = s } } } }",
		"android { flavorDimensions += \"e\"\n productFlavors { val dev by creating { applicationIdSuffix = \"dev\" }\n val prod by registering { applicationIdSuffix = \"prod\" } } }",
		"android { flavorDimensions += \"e\"\n val first = \"dev\"\n productFlavors { create(first) { applicationIdSuffix = first }\n create(\"prod\") { applicationIdSuffix = \"prod\" } } }",
		"groovy:android { flavorDimensions 'e'\n productFlavors { [dev: '.dev', prod: '.prod'].each { n, s -> \"$n\" { applicationIdSuffix s } } } }",
		"groovy:android { flavorDimensions 'e'\n productFlavors { for (String n : ['dev', 'prod']) { create(n) { applicationIdSuffix n } } } }",
		"groovy:android { flavorDimensions 'e'\n productFlavors { ['dev', 'prod'].each { n -> \"$n\" { dimension 'e'\n applicationIdSuffix n } } } }",
	} {
		name, head := "app/build.gradle.kts", "plugins { id(\"com.android.application\") }\nandroid { defaultConfig { applicationId = \"a.b\" } }\n"
		if rest, ok := strings.CutPrefix(build, "groovy:"); ok {
			name, head, build = "app/build.gradle", appPlugins+"android { defaultConfig { applicationId 'a.b' } }\n", rest
		}
		r := Survey(in(map[string]string{"settings.gradle": "", name: head + build}))
		var got []string
		for _, v := range r.Android.Modules[0].Variants {
			got = append(got, v.Name+"="+v.ApplicationID.Say())
		}
		sort.Strings(got)
		if s := strings.Join(got, " "); s != "devDebug=a.b.dev devRelease=a.b.dev prodDebug=a.b.prod prodRelease=a.b.prod" {
			t.Errorf("%s\n %s\n %+v", build, s, r.Unresolved)
		}
	}
	r := Survey(in(map[string]string{"settings.gradle": "", "app/build.gradle": appPlugins + "android { defaultConfig { applicationId 'a.b' }\n productFlavors { brands().each { n -> create(n) { } } } }"}))
	said := false
	for _, q := range r.Unresolved {
		said = said || strings.Contains(q.Why, "the name is computed")
	}
	if !said {
		t.Errorf("flavors that cannot be known: %+v", r.Unresolved)
	}
	for _, v := range r.Android.Modules[0].Variants {
		if v.ApplicationID.Known() {
			t.Errorf("%s is said to build %s, and its flavor may change that", v.Name, v.ApplicationID.Say())
		}
	}
}

// What is said for every element of a container, what is said for a variant last, and the order of suffixes.
func TestSettingsForManyVariants(t *testing.T) {
	for _, c := range []struct{ build, want string }{
		{"def of = [dev: '.d', prod: '.p']\nandroid { flavorDimensions 'e'\n productFlavors { dev { }\n prod { }\n configureEach { applicationIdSuffix of[name] } } }",
			"devDebug=a.b.d devRelease=a.b.d prodDebug=a.b.p prodRelease=a.b.p"},
		{"android { buildTypes { all { t -> applicationIdSuffix \"x${t.name}\" } } }", "debug=a.b.xdebug release=a.b.xrelease"},
		{"android { buildTypes { configureEach { if (it.name == 'debug') { applicationIdSuffix '.d' } } } }", "debug=a.b.d release=a.b"},
		{"android { defaultConfig { applicationIdSuffix '.base' }\n flavorDimensions 'e'\n productFlavors { dev { applicationIdSuffix '.dev' } }\n buildTypes { debug { applicationIdSuffix '.d' } } }",
			"devDebug=a.b.base.dev.d devRelease=a.b.base.dev"},
		{"android { buildTypes { debug { applicationIdSuffix '.d' } } }\nandroidComponents { onVariants(selector().withName('debug')) { it.applicationId.set('c.d') } }", "debug=c.d release=a.b"},
	} {
		r := Survey(in(map[string]string{"settings.gradle": "", "app/build.gradle": appPlugins + "android { defaultConfig { applicationId 'a.b' } }\n" + c.build}))
		var got []string
		for _, v := range r.Android.Modules[0].Variants {
			got = append(got, v.Name+"="+v.ApplicationID.Say())
			if v.Identifiers[0].Name != counts || v.Identifiers[0].Say() != v.ApplicationID.Say() {
				t.Errorf("%s\n%s is told as %s, and %s is said to count", c.build, v.Name, v.ApplicationID.Say(), v.Identifiers[0].Say())
			}
		}
		sort.Strings(got)
		if s := strings.Join(got, " "); s != c.want {
			t.Errorf("%s\n got %s, want %s", c.build, s, c.want)
		}
	}
}

func TestVariantsThatAreFilteredAway(t *testing.T) {
	const flavors = "android { defaultConfig { applicationId 'a.b' }\n flavorDimensions 'tier'\n productFlavors { lite { dimension 'tier' }\n full { dimension 'tier' } }\n"
	for _, c := range []struct{ build, want string }{
		{flavors + "variantFilter { variant ->\n def names = variant.flavors*.name\n if (names.contains('lite') && variant.buildType.name == 'release') { setIgnore(true) } } }", "fullDebug fullRelease liteDebug"},
		{flavors + "variantFilter { if (it.name == 'fullDebug') { it.ignore = true } } }", "fullRelease liteDebug liteRelease"},
		{flavors + "}\nandroidComponents { beforeVariants(selector().withFlavor('tier', 'lite')) { it.enable = false } }", "fullDebug fullRelease"},
		{flavors + "}\nandroidComponents { beforeVariants { v -> v.enable = v.buildType != 'debug' } }", "fullRelease liteRelease"},
		{flavors + "variantFilter { if (somewhere()) { setIgnore(true) } } }", "fullDebug fullRelease liteDebug liteRelease ?4"},
	} {
		c.build = strings.ReplaceAll(c.build, "withFlavor('tier', 'lite')", "withFlavor(\"tier\" to \"lite\")")
		r := Survey(in(map[string]string{"settings.gradle": "", "app/build.gradle": appPlugins + c.build}))
		var got []string
		for _, v := range r.Android.Modules[0].Variants {
			got = append(got, v.Name)
		}
		sort.Strings(got)
		open := 0
		for _, q := range r.Unresolved {
			if strings.Contains(q.Why, "filter") {
				open++
			}
		}
		text := strings.Join(got, " ")
		if open > 0 {
			text += " ?" + string(rune('0'+open))
		}
		if text != c.want {
			t.Errorf("%s\n got %s, want %s", c.build, text, c.want)
		}
	}
}
