package wiring

import (
	"strings"
	"testing"
	"testing/fstest"
)

const golden = `<manifest xmlns:android="http://schemas.android.com/apk/res/android">
    <uses-sdk android:minSdkVersion="24" />
    <application android:name="example.gold.App" />
</manifest>
`

// after placing, each file must be exactly this: written by hand, in the form the file already uses.
func TestPlacedTextInEveryShape(t *testing.T) {
	for _, c := range []struct {
		name  string
		files map[string]string // besides the least a module needs
		want  map[string]string // files as they must be afterwards
	}{
		{
			name: "Kotlin DSL: central repositories, calls with parentheses",
			files: map[string]string{
				"settings.gradle.kts": `dependencyResolutionManagement {
    repositoriesMode.set(RepositoriesMode.FAIL_ON_PROJECT_REPOS)
    repositories {
        google() // first
        // maven { url = uri("https://maven.thornmill.example/releases") }
    }
}
include(":app")
`,
				"app/build.gradle.kts": `plugins { id("com.android.application") }
android {
    namespace = "example.gold"
}

dependencies {
    implementation(platform("example.bom:bom:1"))

    // testing
    testImplementation("junit:junit:4")
}
`,
			},
			want: map[string]string{
				"settings.gradle.kts": `dependencyResolutionManagement {
    repositoriesMode.set(RepositoriesMode.FAIL_ON_PROJECT_REPOS)
    repositories {
        google() // first
        // maven { url = uri("https://maven.thornmill.example/releases") }
        maven {
            url = uri("https://maven.thornmill.example/releases")
        }
    }
}
include(":app")
`,
				"app/build.gradle.kts": `plugins { id("com.android.application") }
android {
    namespace = "example.gold"
}

dependencies {
    implementation(platform("example.bom:bom:1"))

    // testing
    testImplementation("junit:junit:4")
    implementation("example.thornmill:core:3.2.0")
    implementation("example.thornmill:records:3.2.0")
}
`,
			},
		},
		{
			name: "Groovy with double quotes and tabs, repositories for all projects",
			files: map[string]string{
				"settings.gradle":  "include ':app'\n",
				"build.gradle":     "buildscript {\n\trepositories {\n\t\tgoogle()\n\t}\n}\nallprojects {\n\trepositories {\n\t\tgoogle()\n\t\tmavenCentral()\n\t}\n}\n",
				"app/build.gradle": "apply plugin: \"com.android.application\"\n\nandroid {\n\tnamespace \"example.gold\"\n}\n\ndependencies {\n\timplementation \"a:b:$version\"\n\timplementation \"c:d:1\"\n}\n",
			},
			want: map[string]string{
				"build.gradle":     "buildscript {\n\trepositories {\n\t\tgoogle()\n\t}\n}\nallprojects {\n\trepositories {\n\t\tgoogle()\n\t\tmavenCentral()\n\t\tmaven {\n\t\t\turl = 'https://maven.thornmill.example/releases'\n\t\t}\n\t}\n}\n",
				"app/build.gradle": "apply plugin: \"com.android.application\"\n\nandroid {\n\tnamespace \"example.gold\"\n}\n\ndependencies {\n\timplementation \"a:b:$version\"\n\timplementation \"c:d:1\"\n\timplementation \"example.thornmill:core:3.2.0\"\n\timplementation \"example.thornmill:records:3.2.0\"\n}\n",
			},
		},
		{
			name: "everything on one line, no final line end",
			files: map[string]string{
				"settings.gradle":  "include ':app'",
				"build.gradle":     "allprojects { repositories { google() } }",
				"app/build.gradle": "apply plugin: 'com.android.application'\nandroid { namespace 'example.gold' }\ndependencies { implementation 'a:b:1' }",
			},
			want: map[string]string{
				"build.gradle":     "allprojects { repositories { google()\n    maven {\n        url = 'https://maven.thornmill.example/releases'\n    }\n } }",
				"app/build.gradle": "apply plugin: 'com.android.application'\nandroid { namespace 'example.gold' }\ndependencies { implementation 'a:b:1'; implementation 'example.thornmill:core:3.2.0'; implementation 'example.thornmill:records:3.2.0' }",
			},
		},
		{
			name: "an application class with imports, comments and a body of one line",
			files: map[string]string{
				"app/src/main/java/App.kt": "package example.gold\n\nimport android.app.Application // base\nimport z.Last\n\n/** The app. Thornmill.start(this) is said here only. */\nclass App : Application() {\n    override fun onCreate() { super.onCreate() }\n}\n",
			},
			want: map[string]string{
				"app/src/main/java/App.kt": "package example.gold\n\nimport android.app.Application // base\nimport z.Last\nimport example.thornmill.Thornmill\n\n/** The app. Thornmill.start(this) is said here only. */\nclass App : Application() {\n    override fun onCreate() { super.onCreate(); Thornmill.start(this) }\n}\n",
			},
		},
		{
			name: "an application class without the method",
			files: map[string]string{
				"app/src/main/java/App.kt": "package example.gold\n\nclass App : Application() {\n\n    val answer = 42\n}\n",
			},
			want: map[string]string{
				"app/src/main/java/App.kt": "package example.gold\n\nimport example.thornmill.Thornmill\n\nclass App : Application() {\n\n    val answer = 42\n\n    override fun onCreate() {\n        super.onCreate()\n        Thornmill.start(this)\n    }\n}\n",
			},
		},
		{
			name: "Java, the super call first",
			files: map[string]string{
				"app/src/main/java/App.kt":   "",
				"app/src/main/java/App.java": "package example.gold;\n\nimport android.app.Application;\n\npublic class App extends Application {\n  @Override\n  public void onCreate() {\n    super.onCreate();\n    other();\n  }\n}\n",
			},
			want: map[string]string{
				"app/src/main/java/App.java": "package example.gold;\n\nimport android.app.Application;\nimport example.thornmill.Thornmill;\n\npublic class App extends Application {\n  @Override\n  public void onCreate() {\n    super.onCreate();\n    Thornmill.start(this);\n    other();\n  }\n}\n",
			},
		},
		{
			name: "string resources with a comment at the end and their own indentation",
			files: map[string]string{
				"app/src/main/res/values/strings.xml": "<?xml version='1.0' encoding='utf-8'?>\n<resources xmlns:tools=\"http://schemas.android.com/tools\">\n  <string name=\"a\">b</string>\n  <!-- <string name=\"thornmill_number\">0</string> -->\n</resources>\n",
			},
			want: map[string]string{
				"app/src/main/res/values/strings.xml": "<?xml version='1.0' encoding='utf-8'?>\n<resources xmlns:tools=\"http://schemas.android.com/tools\">\n  <string name=\"a\">b</string>\n  <!-- <string name=\"thornmill_number\">0</string> -->\n  <string name=\"thornmill_number\">123456789012341</string>\n</resources>\n",
			},
		},
		{
			name: "empty string resources are opened up",
			files: map[string]string{
				"app/src/main/res/values/strings.xml": "<resources xmlns:tools=\"t\" />",
			},
			want: map[string]string{
				"app/src/main/res/values/strings.xml": "<resources xmlns:tools=\"t\">\n    <string name=\"thornmill_number\">123456789012341</string>\n</resources>",
			},
		},
		{
			name:  "no resources yet",
			files: map[string]string{},
			want: map[string]string{
				"app/src/main/res/values/strings.xml": "<?xml version=\"1.0\" encoding=\"utf-8\"?>\n<resources>\n    <string name=\"thornmill_number\">123456789012341</string>\n</resources>\n",
			},
		},
		{
			name: "the number is there already, in another file",
			files: map[string]string{
				"app/src/main/res/values/keys.xml": "<resources>\n<item type=\"string\" name=\"other\">x</item>\n<string name=\"thornmill_number\" translatable=\"false\">123456789012341</string>\n</resources>\n",
			},
			want: map[string]string{
				"app/src/main/res/values/keys.xml":    "<resources>\n<item type=\"string\" name=\"other\">x</item>\n<string name=\"thornmill_number\" translatable=\"false\">123456789012341</string>\n</resources>\n",
				"app/src/main/res/values/strings.xml": "",
			},
		},
		{
			name: "the library is there already, through the catalog",
			files: map[string]string{
				"settings.gradle.kts":       "dependencyResolutionManagement {\n    repositories {\n        maven(\"https://maven.thornmill.example/releases/\")\n    }\n}\n",
				"gradle/libs.versions.toml": "[versions]\ntm = \"3.2.0\"\n[libraries]\ntm-core = { module = \"example.thornmill:core\", version.ref = \"tm\" }\ntm-records = \"example.thornmill:records:3.2.0\"\n",
				"app/build.gradle.kts":      "plugins { id(\"com.android.application\") }\nandroid { namespace = \"example.gold\" }\ndependencies {\n    implementation(libs.tm.core)\n    api(libs.tm.records)\n}\n",
			},
			want: map[string]string{
				"app/build.gradle.kts": "plugins { id(\"com.android.application\") }\nandroid { namespace = \"example.gold\" }\ndependencies {\n    implementation(libs.tm.core)\n    api(libs.tm.records)\n}\n",
			},
		},
	} {
		files := map[string]string{
			"settings.gradle.kts":              "include(\":app\")\n",
			"app/build.gradle.kts":             "plugins { id(\"com.android.application\") }\nandroid { namespace = \"example.gold\" }\n",
			"app/src/main/AndroidManifest.xml": golden,
			"app/src/main/java/App.kt":         "package example.gold\n\nclass App : Application() {\n}\n",
		}
		if c.files["app/build.gradle"] != "" {
			delete(files, "app/build.gradle.kts")
		}
		if c.files["settings.gradle"] != "" {
			delete(files, "settings.gradle.kts")
		}
		for n, s := range c.files {
			if files[n] = s; s == "" {
				delete(files, n)
			}
		}
		base := fstest.MapFS{}
		for n, s := range files {
			base[n] = &fstest.MapFile{Data: []byte(s)}
		}
		in := load(t, base)
		p := placeAll(t, in)
		for _, k := range p.Kept {
			t.Errorf("%s: %s was left: %s %s", c.name, k.Placement, k.State, k.Detail)
		}
		for n, want := range c.want {
			got, err := in.Tree.Read(n)
			if want == "" {
				if err == nil {
					t.Errorf("%s: %s was made:\n%s", c.name, n, got)
				}
				continue
			}
			if err != nil || string(got) != want {
				t.Errorf("%s: %s (%v) is\n%s\nand must be\n%s", c.name, n, err, got, want)
			}
		}
		tr := in.Tree
		if _, err := Unplace(tr, in.Registrations[0].Key(), false); err != nil {
			t.Errorf("%s: %v", c.name, err)
		}
		for n, s := range files {
			if got, err := tr.Read(n); err != nil || string(got) != s {
				t.Errorf("%s: after taking out, %s (%v) is\n%s", c.name, n, err, got)
			}
		}
	}
}

// originals remain: outside what was inserted, every token of the file stands as it stood, in order.
func TestOriginalTokensRemainInOrder(t *testing.T) {
	for name, base := range trees(t) {
		in := load(t, base)
		placeAll(t, in)
		for n, f := range base {
			got, err := in.Tree.Read(n)
			if err != nil {
				t.Errorf("%s: %s is gone", name, n)
				continue
			}
			rest := string(got)
			for _, token := range strings.Fields(string(f.Data)) {
				if token == "<resources/>" || token == "{}" {
					continue // opened up: the declared replacement
				}
				_, after, ok := strings.Cut(rest, token)
				if !ok {
					t.Errorf("%s: %s lost %q or its order", name, n, token)
					break
				}
				rest = after
			}
		}
	}
}
