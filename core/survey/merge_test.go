package survey

import (
	"strings"
	"testing"
)

const man = `<manifest xmlns:android="http://schemas.android.com/apk/res/android" xmlns:tools="http://schemas.android.com/tools">`

// Manifests of a variant merge: what a higher one says, replaces or removes holds.
func TestManifestsMerge(t *testing.T) {
	const home = `<intent-filter><action android:name="android.intent.action.MAIN"/><category android:name="android.intent.category.LAUNCHER"/></intent-filter>`
	for _, c := range []struct{ name, high, low, want string }{
		{"both add up", `<uses-permission android:name="a.A"/>`, `<uses-permission android:name="a.B"/>`, "permissions a.A a.B"},
		{"said twice", `<uses-permission android:name="a.A"/>`, `<uses-permission android:name="a.A"/>`, "permissions a.A"},
		{"removed", `<uses-permission android:name="a.B" tools:node="remove"/>`, `<uses-permission android:name="a.A"/><uses-permission android:name="a.B"/>`, "permissions a.A"},
		{"all removed", `<uses-permission tools:node="removeAll"/>`, `<uses-permission android:name="a.A"/>`, "permissions"},
		{"metadata of the higher one", `<application><meta-data android:name="k" android:value="high"/></application>`, `<application><meta-data android:name="k" android:value="low"/><meta-data android:name="m" android:value="x"/></application>`, "metadata k=high m=x"},
		{"metadata removed", `<application><meta-data android:name="k" tools:node="remove"/></application>`, `<application><meta-data android:name="k" android:value="low"/></application>`, "metadata"},
		{"the launcher is the lower one's", `<application/>`, `<application><activity android:name=".A">` + home + `</activity></application>`, "launcher n.s.A"},
		{"the launcher is removed and another takes over", `<application><activity android:name=".A" tools:node="remove"/><activity android:name=".B">` + home + `</activity></application>`, `<application><activity android:name=".A">` + home + `</activity></application>`, "launcher n.s.B"},
		{"the same activity, its filter below", `<application><activity android:name=".A" android:exported="true"/></application>`, `<application><activity android:name="n.s.A">` + home + `</activity></application>`, "launcher n.s.A"},
		{"a filter that is removed", `<application/>`, `<application><activity android:name=".A">` + strings.Replace(home, "<intent-filter>", `<intent-filter tools:node="remove">`, 1) + `</activity></application>`, "launcher "},
		{"a label above", `<application android:label="High"/>`, `<application android:label="Low"/>`, "label High"},
		{"a label taken away", `<application tools:remove="android:label"/>`, `<application android:label="Low"/>`, "label "},
		{"an application class below", `<application/>`, `<application android:name=".App"/>`, "class n.s.App"},
		{"schemes and links", `<application><activity android:name=".A"><intent-filter><data android:scheme="hive"/><data android:scheme="https" android:host="h.example"/></intent-filter></activity></application>`, `<application><activity android:name=".A"><intent-filter><data android:scheme="low"/></intent-filter></activity></application>`, "schemes hive low links h.example"},
		{"queries of both", `<queries><package android:name="p.one"/></queries>`, `<queries><intent><action android:name="a.two"/><data android:scheme="three"/></intent><provider android:authorities="p.four"/></queries>`, "queries p.one a.two three p.four"},
	} {
		vs, _ := one(t, map[string]string{"settings.gradle": "", "app/build.gradle": appPlugins + "android { namespace 'n.s' }",
			"app/src/debug/AndroidManifest.xml": man + c.high + "</manifest>", "app/src/main/AndroidManifest.xml": man + c.low + "</manifest>"})
		v := vs["debug"]
		list := func(l []Fact) string {
			var out []string
			for _, f := range l {
				out = append(out, f.Say())
			}
			return strings.Join(out, " ")
		}
		got := ""
		switch kind, _, _ := strings.Cut(c.want, " "); kind {
		case "permissions":
			got = strings.TrimSpace("permissions " + list(v.Permissions))
		case "metadata":
			got = "metadata"
			for _, e := range v.Metadata {
				got += " " + e.Name + "=" + e.Say()
			}
		case "launcher":
			got = "launcher " + v.LauncherActivity.String()
		case "label":
			got = "label " + v.DisplayName.String()
		case "class":
			got = "class " + v.ApplicationClass.String()
		case "schemes":
			got = "schemes " + list(v.URLSchemes) + " links " + list(v.AppLinks)
		case "queries":
			got = "queries " + list(v.Queries)
		}
		if got != c.want {
			t.Errorf("%s: %q, want %q", c.name, got, c.want)
		}
	}
}

func TestStringResourcesAsTheAppSeesThem(t *testing.T) {
	for in, want := range map[string]string{"plain": "plain", "  padded \n\t text ": "padded text", `It\'s`: "It's", `"  kept  "`: "  kept  ", `a\nb`: "a\nb", `\u0041\u00e4`: "Aä", `\@at \?ask`: "@at ?ask", `a\\b`: `a\b`, `"one" two`: "one two", "": "", `\u00`: "u00"} {
		if got := Unescape(in); got != want {
			t.Errorf("%q: %q, want %q", in, got, want)
		}
	}
}

func TestPlaceholdersInEverySpelling(t *testing.T) {
	for _, c := range []struct{ build, want string }{
		{"manifestPlaceholders = [k: 'v']", "v"}, {"manifestPlaceholders += [k: 'v']", "v"}, {"manifestPlaceholders.put('k', 'v')", "v"}, {"manifestPlaceholders.putAll([k: 'v'])", "v"}, {"manifestPlaceholders['k'] = 'v'", "v"},
		{"manifestPlaceholders.k = 'v'", "v"}, {"addManifestPlaceholders([k: 'v'])", "v"}, {"manifestPlaceholders k: 'v'", "v"}, {"manifestPlaceholders = [k: unknown()]", "?unknown()"}, {"manifestPlaceholders = [other: 'v']", "?no placeholder k"},
	} {
		vs, _ := one(t, map[string]string{"settings.gradle": "", "app/build.gradle": appPlugins + "android { namespace 'n.s'\n defaultConfig { " + c.build + " } }",
			"app/src/main/AndroidManifest.xml": man + `<application><meta-data android:name="m" android:value="${k}"/></application></manifest>`})
		got := vs["release"].Metadata[0].Fact
		why, open := strings.CutPrefix(c.want, "?")
		if open && !strings.Contains(got.Unresolved, why) || !open && got.String() != c.want {
			t.Errorf("%s: %s", c.build, got.Say())
		}
	}
}
