package wiring

import (
	"strings"
	"testing"
	"testing/fstest"
)

func TestBuildFiles(t *testing.T) {
	stage(t, leastAndroid, []scene{
		{name: "a plugin through the version catalog", service: "burrcatch", only: "android-plugin",
			files: map[string]string{
				"gradle/libs.versions.toml": "[versions]\nagp = \"8.6.0\"\n\n[plugins]\nandroid-app = { id = \"com.android.application\", version.ref = \"agp\" }\n",
				"build.gradle.kts":          "plugins {\n    alias(libs.plugins.android.app) apply false\n}\n",
				"app/build.gradle.kts":      "plugins {\n    alias(libs.plugins.android.app)\n}\nandroid { namespace = \"example.gold\" }\n",
			},
			want: map[string]string{
				"gradle/libs.versions.toml": "[versions]\nagp = \"8.6.0\"\n\n[plugins]\nandroid-app = { id = \"com.android.application\", version.ref = \"agp\" }\nburrcatch = { id = \"example.burrcatch\", version = \"4.0.2\" }\n",
				"build.gradle.kts":          "plugins {\n    alias(libs.plugins.android.app) apply false\n    alias(libs.plugins.burrcatch) apply false\n}\n",
				"app/build.gradle.kts":      "plugins {\n    alias(libs.plugins.android.app)\n    alias(libs.plugins.burrcatch)\n}\nandroid { namespace = \"example.gold\" }\n",
			}},
		{name: "a plugin by ID, its version at the root", service: "burrcatch", only: "android-plugin",
			files: map[string]string{"settings.gradle.kts": "", "build.gradle.kts": "", "app/build.gradle.kts": "",
				"settings.gradle":  "include ':app'\n",
				"build.gradle":     "plugins {\n  id 'com.android.application' version '8.6.0' apply false\n}\n",
				"app/build.gradle": "plugins {\n  id 'com.android.application'\n}\nandroid { namespace 'example.gold' }\n",
			},
			want: map[string]string{
				"build.gradle":     "plugins {\n  id 'com.android.application' version '8.6.0' apply false\n  id 'example.burrcatch' version '4.0.2' apply false\n}\n",
				"app/build.gradle": "plugins {\n  id 'com.android.application'\n  id 'example.burrcatch'\n}\nandroid { namespace 'example.gold' }\n",
			}},
		{name: "a plugin whose version stands in the settings", service: "burrcatch", only: "android-plugin",
			files: map[string]string{
				"settings.gradle.kts":  "pluginManagement {\n    repositories { google() }\n}\nplugins {\n    id(\"com.android.application\") version \"8.6.0\" apply false\n}\ninclude(\":app\")\n",
				"app/build.gradle.kts": "plugins {\n    id(\"com.android.application\")\n}\nandroid { namespace = \"example.gold\" }\n",
			},
			lines: map[string]string{"settings.gradle.kts": "    id(\"example.burrcatch\") version \"4.0.2\" apply false\n", "app/build.gradle.kts": "    id(\"example.burrcatch\")\n"}},
		{name: "the classpath of the build script, and apply plugin", service: "burrcatch", only: "android-plugin",
			files: map[string]string{"settings.gradle.kts": "", "app/build.gradle.kts": "",
				"settings.gradle":  "include ':app'\n",
				"build.gradle":     "buildscript {\n    dependencies {\n        classpath \"com.android.tools.build:gradle:8.6.0\"\n    }\n}\n",
				"app/build.gradle": "apply plugin: \"com.android.application\"\napply plugin: \"org.jetbrains.kotlin.android\" // last\n\nandroid { namespace \"example.gold\" }\n",
			},
			want: map[string]string{
				"build.gradle":     "buildscript {\n    dependencies {\n        classpath \"com.android.tools.build:gradle:8.6.0\"\n        classpath \"example.burrcatch:symbols-plugin:4.0.2\"\n    }\n}\n",
				"app/build.gradle": "apply plugin: \"com.android.application\"\napply plugin: \"org.jetbrains.kotlin.android\" // last\napply plugin: \"example.burrcatch\"\n\nandroid { namespace \"example.gold\" }\n",
			}},
		{name: "a library through the catalog that everything else comes through", service: "burrcatch", only: "android-library",
			files: map[string]string{
				"gradle/libs.versions.toml": "[libraries]\ncore = \"a.b:core:1\"\n",
				"app/build.gradle.kts":      "plugins { id(\"com.android.application\") }\nandroid { namespace = \"example.gold\" }\ndependencies {\n    implementation(libs.core)\n}\n",
			},
			want: map[string]string{
				"gradle/libs.versions.toml": "[libraries]\ncore = \"a.b:core:1\"\nburrcatch-catch = { module = \"example.burrcatch:catch\", version = \"4.0.2\" }\n",
				"app/build.gradle.kts":      "plugins { id(\"com.android.application\") }\nandroid { namespace = \"example.gold\" }\ndependencies {\n    implementation(libs.core)\n    implementation(libs.burrcatch.catch)\n}\n",
			}},
		{name: "the switch for many methods where the minimum is low", service: "etchwork", only: "android-methods",
			files: map[string]string{"app/build.gradle.kts": "plugins { id(\"com.android.application\") }\nandroid {\n    namespace = \"example.gold\"\n    defaultConfig {\n        minSdk = 19\n    }\n}\n"},
			want:  map[string]string{"app/build.gradle.kts": "plugins { id(\"com.android.application\") }\nandroid {\n    namespace = \"example.gold\"\n    defaultConfig {\n        minSdk = 19\n        multiDexEnabled = true\n    }\n}\n"}},
		{name: "no switch where the platform does it", service: "etchwork", only: "android-methods",
			files: map[string]string{"app/build.gradle.kts": "plugins { id(\"com.android.application\") }\nandroid {\n    namespace = \"example.gold\"\n    defaultConfig { minSdk = 24 }\n}\n"},
			want:  map[string]string{"app/build.gradle.kts": "plugins { id(\"com.android.application\") }\nandroid {\n    namespace = \"example.gold\"\n    defaultConfig { minSdk = 24 }\n}\n"}},
		{name: "a signing configuration without a password in the file", service: "tollbarrow", only: "signing",
			want: map[string]string{"app/build.gradle.kts": "plugins { id(\"com.android.application\") }\nandroid { namespace = \"example.gold\"\n    signingConfigs {\n        create(\"release\") {\n            System.getenv(\"RELEASE_STORE_FILE\")?.let { storeFile = rootProject.file(it) }\n            storePassword = System.getenv(\"RELEASE_STORE_PASSWORD\")\n            keyAlias = System.getenv(\"RELEASE_KEY_ALIAS\")\n            keyPassword = System.getenv(\"RELEASE_STORE_PASSWORD\")\n        }\n    }\n    buildTypes {\n        getByName(\"release\") {\n            signingConfig = signingConfigs.getByName(\"release\")\n        }\n    }\n }\n"}},
		{name: "a signing configuration that is there and not used, in Groovy", service: "tollbarrow", only: "signing",
			files: map[string]string{"app/build.gradle.kts": "", "app/build.gradle": "apply plugin: 'com.android.application'\nandroid {\n  namespace 'example.gold'\n  signingConfigs {\n    release {\n      storeFile file('r.jks')\n    }\n  }\n  buildTypes {\n    release {\n      minifyEnabled true\n    }\n  }\n}\n"},
			want:  map[string]string{"app/build.gradle": "apply plugin: 'com.android.application'\nandroid {\n  namespace 'example.gold'\n  signingConfigs {\n    release {\n      storeFile file('r.jks')\n    }\n  }\n  buildTypes {\n    release {\n      minifyEnabled true\n      signingConfig signingConfigs.release\n    }\n  }\n}\n"}},
		{name: "a module of the build", service: "tollbarrow", only: "module",
			want: map[string]string{
				"settings.gradle.kts":  "include(\":app\")\ninclude(\":tollbarrow-bridge\")\n",
				"app/build.gradle.kts": "plugins { id(\"com.android.application\") }\nandroid { namespace = \"example.gold\" }\n\ndependencies {\n    implementation(project(\":tollbarrow-bridge\"))\n}\n",
			}},
		{name: "no keep rule where nothing is shrunk", service: "burrcatch", only: "android-keep",
			files: map[string]string{"app/build.gradle.kts": "plugins { id(\"com.android.application\") }\nandroid {\n    namespace = \"example.gold\"\n    buildTypes { release { isMinifyEnabled = false } }\n}\n"},
			want:  map[string]string{"app/proguard-rules.pro": ""}},
		{name: "a keep rule where no file of rules is named yet", service: "burrcatch", only: "android-keep",
			files: map[string]string{"app/build.gradle.kts": "plugins { id(\"com.android.application\") }\nandroid {\n    namespace = \"example.gold\"\n    buildTypes { release { isMinifyEnabled = true } }\n}\n"},
			want: map[string]string{"app/proguard-rules.pro": "-keepattributes SourceFile,LineNumberTable\n",
				"app/build.gradle.kts": "plugins { id(\"com.android.application\") }\nandroid {\n    namespace = \"example.gold\"\n    buildTypes { release { isMinifyEnabled = true; proguardFile(\"proguard-rules.pro\") } }\n}\n"}},
		{name: "a signing configuration is written ahead of the build type that refers to it", service: "tollbarrow", only: "signing",
			files: map[string]string{"app/build.gradle.kts": "", "app/build.gradle": "apply plugin: 'com.android.application'\nandroid {\n  namespace 'example.gold'\n  buildTypes {\n    release { minifyEnabled true }\n  }\n}\n"},
			want:  map[string]string{"app/build.gradle": "apply plugin: 'com.android.application'\nandroid {\n  namespace 'example.gold'\n  signingConfigs {\n    release {\n      if (System.getenv('RELEASE_STORE_FILE') != null) {\n        storeFile rootProject.file(System.getenv('RELEASE_STORE_FILE'))\n        storePassword System.getenv('RELEASE_STORE_PASSWORD')\n        keyAlias System.getenv('RELEASE_KEY_ALIAS')\n        keyPassword System.getenv('RELEASE_STORE_PASSWORD')\n      }\n    }\n  }\n  buildTypes {\n    release { minifyEnabled true; signingConfig signingConfigs.release }\n  }\n}\n"}},
		{name: "a library whose name Kotlin keeps to itself", service: "gatepost", only: "android-library",
			files: map[string]string{"gradle/libs.versions.toml": "[libraries]\na = \"b:c:1\"\n", "app/build.gradle.kts": "plugins { id(\"com.android.application\") }\nandroid { namespace = \"example.gold\" }\ndependencies {\n    implementation(libs.a)\n}\n"},
			want: map[string]string{"gradle/libs.versions.toml": "[libraries]\na = \"b:c:1\"\ngatepost-signIn = { module = \"example.gatepost:sign-in\", version = \"1.9.0\" }\n",
				"app/build.gradle.kts": "plugins { id(\"com.android.application\") }\nandroid { namespace = \"example.gold\" }\ndependencies {\n    implementation(libs.a)\n    implementation(libs.gatepost.signIn)\n}\n"}},
		{name: "a class without a body gets one", service: "thornmill", only: "android-start",
			files: map[string]string{"app/src/main/java/App.kt": "package example.gold\n\nclass App : Application()\n\nval other = 1\n"},
			want:  map[string]string{"app/src/main/java/App.kt": "package example.gold\n\nimport example.thornmill.Thornmill\n\nclass App : Application() {\n    override fun onCreate() {\n        super.onCreate()\n        Thornmill.start(this)\n    }\n}\n\nval other = 1\n"}},
		{name: "a method that is one expression is left to a person", service: "thornmill", only: "android-start", kept: "android-start",
			files: map[string]string{"app/src/main/java/App.kt": "package example.gold\n\nclass App : Application() {\n    override fun onCreate(): Unit = super.onCreate()\n}\n"},
			want:  map[string]string{"app/src/main/java/App.kt": "package example.gold\n\nclass App : Application() {\n    override fun onCreate(): Unit = super.onCreate()\n}\n"}},
		{name: "a keep rule in the file that the build names", service: "burrcatch", only: "android-keep",
			files: map[string]string{
				"app/build.gradle.kts": "plugins { id(\"com.android.application\") }\nandroid {\n    namespace = \"example.gold\"\n    buildTypes { release { proguardFiles(getDefaultProguardFile(\"x.txt\"), \"rules/keep.pro\") } }\n}\n",
				"app/rules/keep.pro":   "-dontwarn a\n",
			},
			want: map[string]string{"app/rules/keep.pro": "-dontwarn a\n-keepattributes SourceFile,LineNumberTable\n"}},
	})
}

// A minimum is raised where it is defined, and it is said who else that touches.
func TestAMinimumIsRaisedWhereItIsDefined(t *testing.T) {
	for _, c := range []struct{ name, file, text, after, module string }{
		{"a number of the module", "app/build.gradle.kts", "", "", "    defaultConfig { minSdk = 19 }\n"},
		{"the root's extra properties", "build.gradle.kts", "val lowest by extra(19) // all\n", "val lowest by extra(26) // all\n", "    defaultConfig { minSdk = rootProject.extra[\"lowest\"] as Int }\n"},
		{"a version of the catalog", "gradle/libs.versions.toml", "[versions]\nmin-sdk = \"19\"\n", "[versions]\nmin-sdk = \"26\"\n", "    defaultConfig { minSdk = libs.versions.min.sdk.get().toInt() }\n"},
		{"a property", "gradle.properties", "a=1\nlowest = 19\n", "a=1\nlowest = 26\n", "    defaultConfig { minSdk = (project.property(\"lowest\") as String).toInt() }\n"},
	} {
		files := fstest.MapFS{}
		for n, s := range leastAndroid {
			files[n] = &fstest.MapFile{Data: []byte(s)}
		}
		files["app/build.gradle.kts"] = &fstest.MapFile{Data: []byte("plugins { id(\"com.android.application\") }\nandroid {\n    namespace = \"example.gold\"\n" + c.module + "}\n")}
		if c.text != "" {
			files[c.file] = &fstest.MapFile{Data: []byte(c.text)}
		}
		in := with(t, files, "etchwork", nil)
		answers, err := Evaluate(in)
		if err != nil {
			t.Fatal(err)
		}
		w := *of(answers, "android-methods")[0].Want
		w.settings, w.Params, w.Placement = map[string]string{"role": "default-config", "name": "minSdk"}, map[string]string{"version": "26"}, "least"
		a := in.look(&w)
		if a.Code != "minimum-low" {
			t.Errorf("%s: %+v", c.name, a)
			continue
		}
		p, err := Make(in, []Answer{a}, Never)
		if err != nil {
			t.Errorf("%s: %v", c.name, err)
			continue
		}
		if got, _ := in.Tree.Read(c.file); c.after != "" && string(got) != c.after {
			t.Errorf("%s: %s is\n%s", c.name, c.file, got)
		}
		if len(p.Next) == 0 || !strings.Contains(p.Next[0], "from 19 to 26") {
			t.Errorf("%s: %v", c.name, p.Next)
		}
		if err := p.Commit(in, []Answer{a}); err != nil {
			t.Fatal(err)
		}
		if left, err := Unplace(in.Tree, in.Registrations[0].Key(), false); err != nil || len(left) > 0 {
			t.Errorf("%s: %v %+v", c.name, err, left)
		}
		same(t, c.name, files, after(files, in.Tree))
	}
}

func TestPlaceholdersByIdentity(t *testing.T) {
	files := fstest.MapFS{}
	for n, s := range leastAndroid {
		files[n] = &fstest.MapFile{Data: []byte(s)}
	}
	files["app/build.gradle.kts"] = &fstest.MapFile{Data: []byte("plugins { id(\"com.android.application\") }\nandroid {\n    namespace = \"example.gold\"\n    buildTypes {\n        debug { applicationIdSuffix = \".debug\" }\n    }\n}\n")}
	in := with(t, files, "burrcatch", nil)
	all, err := Evaluate(in)
	if err != nil {
		t.Fatal(err)
	}
	answers := of(all, "android-writer")
	for i := range answers {
		w := answers[i].Want
		w.ensure, w.settings = "build-entry", map[string]string{"role": "default-config"}
		w.Params = map[string]string{"name": "writer", "value": "w-" + w.identity.ID}
		answers[i] = in.look(w)
	}
	p, err := Make(in, answers, Never)
	if err != nil || len(p.Kept) > 0 {
		t.Fatalf("%v %+v", err, p)
	}
	want := "plugins { id(\"com.android.application\") }\nandroid {\n    namespace = \"example.gold\"\n    buildTypes {\n        debug { applicationIdSuffix = \".debug\"; manifestPlaceholders[\"writer\"] = \"w-example.gold.debug\" }\n        getByName(\"release\") {\n            manifestPlaceholders[\"writer\"] = \"w-example.gold\"\n        }\n    }\n}\n"
	if got, _ := in.Tree.Read("app/build.gradle.kts"); string(got) != want {
		t.Errorf("%s", got)
	}
}

func TestMistakesInBuildFiles(t *testing.T) {
	for _, c := range []struct{ name, service, placement, file, text, code, at string }{
		{"a plugin in the wrong one of two files", "burrcatch", "android-plugin", "build.gradle.kts", "plugins {\n    id(\"example.burrcatch\") version \"4.0.2\"\n}\n", "plugin-misplaced", "build.gradle.kts:2:5"},
		{"a plugin before the one it builds on", "burrcatch", "android-plugin", "app/build.gradle.kts", "plugins {\n    id(\"example.burrcatch\") version \"4.0.2\"\n    id(\"com.android.application\")\n}\nandroid { namespace = \"example.gold\" }\n", "plugin-order", "app/build.gradle.kts:2:5"},
		{"a plugin at another version", "burrcatch", "android-plugin", "app/build.gradle.kts", "plugins {\n    id(\"com.android.application\")\n    id(\"example.burrcatch\") version \"3.0.0\"\n}\nandroid { namespace = \"example.gold\" }\n", "plugin-version", "app/build.gradle.kts:3:5"},
		{"a plugin that no file says the version of", "burrcatch", "android-plugin", "app/build.gradle.kts", "plugins {\n    id(\"com.android.application\")\n    id(\"example.burrcatch\")\n}\nandroid { namespace = \"example.gold\" }\n", "plugin-undeclared", "app/build.gradle.kts:3:5"},
		{"release signed with the debug certificate", "tollbarrow", "signing", "app/build.gradle.kts", "plugins {\n    id(\"com.android.application\")\n}\nandroid {\n    namespace = \"example.gold\"\n    buildTypes {\n        release { signingConfig = signingConfigs.getByName(\"debug\") }\n    }\n}\n", "signing-debug", "app/build.gradle.kts:7:"},
		{"a library at another version of the catalog", "burrcatch", "android-library", "gradle/libs.versions.toml", "[libraries]\nbc = { module = \"example.burrcatch:catch\", version = \"3.0.0\" }\n", "dependency-version", "gradle/libs.versions.toml:2:54"},
		{"a module that is included and not used", "tollbarrow", "module", "settings.gradle.kts", "include(\":app\", \":tollbarrow-bridge\")\n", "module-unused", "app/build.gradle.kts"},
	} {
		files := fstest.MapFS{}
		for n, s := range leastAndroid {
			files[n] = &fstest.MapFile{Data: []byte(s)}
		}
		files[c.file] = &fstest.MapFile{Data: []byte(c.text)}
		if strings.HasSuffix(c.file, ".toml") {
			files["app/build.gradle.kts"] = &fstest.MapFile{Data: []byte("plugins { id(\"com.android.application\") }\nandroid { namespace = \"example.gold\" }\ndependencies {\n    implementation(libs.bc)\n}\n")}
		}
		in := with(t, files, c.service, nil)
		answers, err := Evaluate(in)
		if err != nil {
			t.Fatal(err)
		}
		found := of(answers, c.placement)
		if len(found) == 0 || found[0].Code != c.code || !strings.HasPrefix(found[0].Here.String(), c.at) {
			t.Errorf("%s: %+v", c.name, found)
			continue
		}
		if _, err := Make(in, found[:1], Always); err != nil {
			t.Errorf("%s: %v", c.name, err)
		}
		if now := in.look(found[0].Want); found[0].Fixable && !now.Good() {
			t.Errorf("%s: after exchanging it is %s: %s", c.name, now.State, now.Detail)
		}
	}
}
