package wiring

import (
	"strings"
	"testing"
	"testing/fstest"

	"ligare/core/binding"
	"ligare/core/ident"
	"ligare/core/sheet"
	"ligare/core/survey"
	"ligare/core/tree"
)

// ofService gives the answers for one service in a small Android tree with two identities.
func ofService(t *testing.T, name string, change func(*Registration)) []Answer {
	t.Helper()
	all, lib := shipped(t)
	files := tree.New(fstest.MapFS{
		"settings.gradle.kts":              {Data: []byte(`include(":app")`)},
		"app/build.gradle.kts":             {Data: []byte("plugins { id(\"com.android.application\") }\nandroid {\n    namespace = \"a.b\"\n    defaultConfig { applicationId = \"example.hive\" }\n    buildTypes {\n        debug { applicationIdSuffix = \".debug\" }\n    }\n}\ndependencies {\n}\n")},
		"app/src/main/AndroidManifest.xml": {Data: []byte(`<manifest xmlns:android="http://schemas.android.com/apk/res/android"><application android:name=".App"/></manifest>`)},
		"app/src/main/java/a/b/App.kt":     {Data: []byte("package a.b\n\nclass App : Application() {\n    override fun onCreate() {\n        super.onCreate()\n    }\n}\n")},
	})
	b := &binding.Binding{Format: 1, App: "hive", ConfigFiles: binding.Committed, Android: map[string]map[string]binding.Bound{"app": {
		"debug": {Identity: "example.hive.debug", Environment: "development"}, "release": {Identity: "example.hive", Environment: "production"}}}}
	reg := &Registration{Service: name, Revision: 1, Sheet: all[name], Values: map[string]string{}}
	for _, id := range []string{"example.hive", "example.hive.debug"} {
		reg.Identities = append(reg.Identities, Registered{Platform: ident.Android, ID: id, Values: map[string]string{}})
	}
	change(reg)
	answers, err := Evaluate(Input{Tree: files, Survey: survey.Survey(files), Binding: b, Registrations: []*Registration{reg}, Library: lib})
	if err != nil {
		t.Fatal(err)
	}
	return answers
}

func of(answers []Answer, placement string) []Answer {
	var out []Answer
	for _, a := range answers {
		if a.Placement == placement {
			out = append(out, a)
		}
	}
	return out
}

func TestAFeatureThatIsOffNeedsNothing(t *testing.T) {
	values := func(on ...string) func(*Registration) {
		return func(r *Registration) {
			r.Features = on
			for i := range r.Identities {
				r.Identities[i].Values["tally-secret"] = "ABCDEFGHJKMNPQRSTVWXYZ2345"
			}
		}
	}
	if got := of(ofService(t, "tallywick", values("counts")), "android-paths"); len(got) != 0 {
		t.Errorf("%+v", got)
	}
	if got := of(ofService(t, "tallywick", values("counts", "paths")), "android-paths"); len(got) != 1 || got[0].State != Absent {
		t.Errorf("%+v", got)
	}
	if got := of(ofService(t, "tallywick", values("counts")), "flutter-package"); len(got) != 0 {
		t.Errorf("a placement for another layout: %+v", got)
	}
}

// A berth is the one of the environment that a variant builds for; where none was chosen nothing is guessed.
func TestBerthsByEnvironment(t *testing.T) {
	answers := ofService(t, "patchquay", func(r *Registration) {
		r.Values["app-key"] = "pqa_" + strings.Repeat("0", 36)
		r.Berths = map[string]string{"production": "shop"}
	})
	found := map[string]Answer{}
	for _, a := range of(answers, "android-berth") {
		found[strings.Join(a.Variants, " ")] = a
	}
	if a := found["release"]; a.State != Absent || a.Params["value"] != "shop" {
		t.Errorf("%+v", a)
	}
	if a := found["debug"]; a.State != Unknown || !strings.Contains(a.Detail, "berth.name") {
		t.Errorf("%+v", a)
	}
}

// A registration of one identity covers that one's variants alone, and is told apart in a tree.
func TestRegistrationsOfOneIdentity(t *testing.T) {
	var key string
	answers := ofService(t, "tollbarrow", func(r *Registration) {
		r.Identities = r.Identities[:1]
		r.Identities[0].Values = nil
		r.Identities[0].Files = map[string][]byte{"config": []byte("package: example.hive\nbarrow: \"1234567890\"\nedition: 1\n")}
		key = r.Key()
	})
	if key != "tollbarrow-android-example.hive" {
		t.Error(key)
	}
	for _, a := range answers {
		for _, v := range a.Variants {
			if v == "debug" {
				t.Errorf("%s is wanted in another identity's build", a.Placement)
			}
		}
	}
	if got := of(answers, "config"); len(got) != 1 || got[0].State != Absent || got[0].Variants[0] != "release" {
		t.Errorf("%+v", got)
	}
}

// A sheet's own named placement is placed like one of the library.
func TestASheetsOwnPlacement(t *testing.T) {
	own := strings.NewReplacer("service: tollbarrow", "service: own").Replace(`sheet: 1
service: own
title: Own
kind: k
version: "1"
platforms: [android]
scope: app
issues: {values: [{id: key, title: Key, exposure: client}]}
placements: [{id: one, platform: android, place: own-key, with: {value: "${value.key}"}, why: w}]
library:
  own-key:
    title: the key
    platform: android
    ensure: xml-element
    needs: [value]
    settings: {folder: res/values, file: strings.xml, root: resources, element: string, key: name, key-value: own_key, text: "${value}", escape: android-string}
connector: {protocol: by-hand}
`)
	s, err := sheet.Parse("own", []byte(own))
	if err != nil {
		t.Fatal(err)
	}
	answers := ofService(t, "tollbarrow", func(r *Registration) { r.Sheet, r.Service, r.Values = s, "own", map[string]string{"key": "k1"} })
	if len(answers) != 1 || answers[0].State != Absent || answers[0].Place != "own-key" || answers[0].Expected != "k1" {
		t.Errorf("%+v", answers)
	}
}
