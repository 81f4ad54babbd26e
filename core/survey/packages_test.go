package survey

import (
	"sort"
	"strings"
	"testing"
)

func TestDependenciesPluginsAndRepositories(t *testing.T) {
	r := Survey(in(map[string]string{
		"settings.gradle":           "pluginManagement { repositories { gradlePluginPortal() } }\ndependencyResolutionManagement { repositories { google(); maven { url 'https://p.example/m' } } }\ninclude ':app', ':lib:ui'",
		"build.gradle":              "buildscript { ext.ver = '3.1'\n repositories { mavenCentral() }\n dependencies { classpath 'x.y:plug:1' } }\nplugins { id 'z.late' version '9' apply false }\nallprojects { repositories { maven { url = uri('https://p.example/all') } } }",
		"gradle/libs.versions.toml": "[versions]\nnet = \"4.0\"\n[libraries]\nnet-core = { module = \"n.e:core\", version.ref = \"net\" }\nui = \"u.i:kit:2.2\"\nbare = { module = \"b.a:re\" }\n[bundles]\nall = [\"net-core\"]\n",
		"app/build.gradle":          appPlugins + "plugins { id 'z.late' }\napply plugin: 'x.plug'\nandroid { namespace 'n.s' }\nrepositories { mavenLocal() }\ndependencies {\n implementation \"a.b:c:$ver\"\n api group: 'd.e', name: 'f', version: '7'\n implementation libs.net.core\n implementation libs.ui\n implementation libs.bare\n implementation libs.nowhere\n implementation libs.bundles.all\n implementation project(':lib:ui')\n testImplementation('t:t:1') { exclude group: 'x' }\n debugImplementation platform('p.q:bom:5')\n implementation 'no.version:here'\n implementation 'with.kind:aar:1.2@aar'\n // implementation 'co:mment:1'\n}",
		"lib/ui/build.gradle":       "apply plugin: 'com.android.library'",
	}))
	m := r.Android.Modules[0]
	var got []string
	for _, d := range m.Dependencies {
		got = append(got, d.Configuration+" "+d.Name+" "+d.Version.Say())
	}
	sort.Strings(got)
	want := []string{"api d.e:f 7", "debugImplementation p.q:bom 5", "implementation :lib:ui not set", "implementation a.b:c 3.1", "implementation b.a:re not set", "implementation libs.bundles.all not set",
		"implementation libs.nowhere unresolved: the catalog libs has no such library", "implementation n.e:core 4.0", "implementation no.version:here not set", "implementation u.i:kit 2.2", "implementation with.kind:aar 1.2@aar", "testImplementation t:t 1"}
	if a, b := strings.Join(got, "\n"), strings.Join(want, "\n"); a != b {
		t.Errorf("dependencies:\n%s\nwant\n%s", a, b)
	}
	var plugins []string
	for _, p := range m.Plugins {
		plugins = append(plugins, p.Name+" "+p.String())
	}
	if s := strings.Join(plugins, ", "); s != "com.android.application , z.late 9, x.plug " {
		t.Errorf("plugins: %s", s)
	}
	var repositories []string
	for _, x := range m.Repositories {
		repositories = append(repositories, x.Where+" "+x.String())
	}
	if s := strings.Join(repositories, ", "); s != "plugins gradlePluginPortal(), dependency management google(), dependency management https://p.example/m, build script mavenCentral(), all projects https://p.example/all, this module mavenLocal()" {
		t.Errorf("repositories: %s", s)
	}
}

func TestCodeOfAnAndroidApp(t *testing.T) {
	vs, _ := one(t, map[string]string{
		"settings.gradle": "", "app/build.gradle": appPlugins + "android { namespace 'n.s'\n sourceSets { main.java.srcDirs += 'src/shared' } }",
		"app/src/main/AndroidManifest.xml": manifestMain,
		"app/src/shared/n/s/App.java":      "package n.s;\npublic class App extends Application {\n  @Override public void onCreate() {\n    super.onCreate();\n    Bees.start(this); // Wasps.start(this);\n  }\n}\n",
		"app/src/main/kotlin/Main.kt":      "package n.s\nclass Main : Activity() {\n  override fun onCreate(b: Bundle?) { super.onCreate(b); setContentView(1) }\n  override fun onNewIntent(i: Intent) { Bees.take(i) }\n  override fun onActivityResult(a: Int, b: Int, c: Intent?) {}\n}\n",
		"app/src/debug/java/n/s/Main.kt":   "package n.s\nclass Main : Activity() { override fun onCreate(b: Bundle?) { Debug.only() } }\n",
	})
	text := func(v *AndroidVariant) string {
		var out []string
		for _, e := range v.Entry {
			var calls, handlers []string
			for _, c := range e.Calls {
				calls = append(calls, c.Name)
			}
			for _, h := range e.Handlers {
				handlers = append(handlers, h.Name)
			}
			out = append(out, e.Kind+" "+e.File+" ["+strings.Join(calls, " ")+"] ["+strings.Join(handlers, " ")+"]")
		}
		return strings.Join(out, "; ")
	}
	if s := text(vs["release"]); s != "application app/src/shared/n/s/App.java [super.onCreate Bees.start] []; launcher app/src/main/kotlin/Main.kt [super.onCreate setContentView] [onNewIntent onActivityResult]" {
		t.Errorf("release: %s", s)
	}
	if s := text(vs["debug"]); !strings.Contains(s, "launcher app/src/debug/java/n/s/Main.kt [Debug.only]") {
		t.Errorf("debug: %s", s)
	}
}

func TestEngineSettings(t *testing.T) {
	asset := func(body string) map[string]string {
		return map[string]string{"game/ProjectSettings/ProjectSettings.asset": "%YAML 1.1\n%TAG !u! tag:x,2011:\n--- !u!129 &1\nPlayerSettings:\n  productName: Game\n" + body, "game/Library/ProjectSettings/ProjectSettings.asset": "broken: ["}
	}
	look := func(body string) (*AndroidVariant, *Configuration) {
		r := Survey(in(asset(body)))
		if len(r.Android.Modules) != 1 || len(r.IOS.Projects) != 1 {
			t.Fatalf("%+v", r.Unresolved)
		}
		return r.Android.Modules[0].Variants[1], r.IOS.Projects[0].Targets[0].Configurations[1]
	}
	a, i := look("  bundleIdentifier: old.id\n  AndroidMinSdkVersion: 19\n  AndroidTargetSdkVersion: 30\n")
	if a.ApplicationID.String() != "old.id" || i.BundleID.String() != "old.id" || a.MinSDK.String() != "19" || a.TargetSDK.String() != "30" || a.KeyStore.Known() {
		t.Errorf("an older engine: %s %s", a.ApplicationID.Say(), i.BundleID.Say())
	}
	a, i = look("  applicationIdentifier:\n    Android: new.android\n    iPhone: new.ios\n  AndroidKeystoreName: 'keys/x.keystore'\n  androidUseCustomKeystore: 0\n")
	if a.ApplicationID.String() != "new.android" || i.BundleID.String() != "new.ios" || a.KeyStore.Known() || a.LauncherActivity.Unresolved == "" {
		t.Errorf("a newer one: %s %s %s", a.ApplicationID.Say(), i.BundleID.Say(), a.KeyStore.Say())
	}
	a, i = look("  applicationIdentifier: {}\n")
	if a.ApplicationID.Unresolved == "" || i.BundleID.Unresolved == "" {
		t.Errorf("no identifier: %s %s", a.ApplicationID.Say(), i.BundleID.Say())
	}
}
