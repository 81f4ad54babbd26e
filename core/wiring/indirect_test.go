package wiring

import (
	"strings"
	"testing"
	"testing/fstest"
)

// One code base, two identities: the call is the same, and each variant has a key of its own.
func TestACallForSeveralIdentities(t *testing.T) {
	files := fstest.MapFS{}
	for n, s := range leastAndroid {
		files[n] = &fstest.MapFile{Data: []byte(s)}
	}
	files["app/build.gradle.kts"] = &fstest.MapFile{Data: []byte("plugins { id(\"com.android.application\") }\nandroid {\n    namespace = \"example.gold\"\n    buildTypes {\n        debug { applicationIdSuffix = \".debug\" }\n    }\n}\n")}
	for n, s := range leastIOS(t) {
		files["ios/"+n] = &fstest.MapFile{Data: []byte(s)}
	}
	files["ios/"+hiveProject].Data = []byte(strings.Replace(project(t), "PRODUCT_BUNDLE_IDENTIFIER = example.larkfield.hivelog;", "PRODUCT_BUNDLE_IDENTIFIER = example.larkfield.hivelog.beta;", 1))
	in := with(t, files, "tallywick", nil)
	p, answers := placeOnly(t, in, "android-start ios-start")
	if len(p.Kept) > 0 {
		t.Fatalf("%+v", p.Kept)
	}
	for file, want := range map[string]string{
		"app/src/main/java/App.kt":               "Tallywick.begin(this, getString(example.gold.R.string.tallywick_tally_secret), Counts)",
		"app/src/debug/res/values/strings.xml":   "<string name=\"tallywick_tally_secret\">tally-secret of example.gold.debug</string>",
		"app/src/release/res/values/strings.xml": "<string name=\"tallywick_tally_secret\">tally-secret of example.gold</string>",
		"ios/Hivelog/AppDelegate.swift":          "Tallywick.begin(Bundle.main.object(forInfoDictionaryKey: \"TallywickTallySecret\") as? String ?? \"\", [.counts])",
		"ios/Hivelog/Info.plist":                 "<key>TallywickTallySecret</key>\n\t<string>$(TALLYWICK_START_VALUE)</string>",
		"ios/" + hiveProject:                     "TALLYWICK_START_VALUE = \"tally-secret of example.larkfield.hivelog.beta\";",
	} {
		if got, err := in.Tree.Read(file); err != nil || strings.Count(string(got), want) != 1 {
			t.Errorf("%s has no %q (%v):\n%s", file, want, err, got)
		}
	}
	again := with(t, after(files, in.Tree), "tallywick", nil)
	if q, _ := placeOnly(t, again, "android-start ios-start"); len(q.Ops) > 0 {
		t.Errorf("placing again made %d edits, first %s in %s", len(q.Ops), q.Ops[0].Address, q.Ops[0].File)
	}
	if err := p.Commit(in, answers); err != nil {
		t.Fatal(err)
	}
	if left, err := Unplace(in.Tree, "tallywick", false); err != nil || len(left) > 0 {
		t.Errorf("%v %+v", err, left)
	}
	same(t, "several", files, after(files, in.Tree))

	// A key that somebody wrote into the call is the key of one of them only.
	files["app/src/main/java/App.kt"] = &fstest.MapFile{Data: []byte("package example.gold\n\nimport example.tallywick.Tallywick\n\nclass App : Application() {\n    override fun onCreate() {\n        super.onCreate()\n        Tallywick.begin(this, \"tally-secret of example.gold\", Counts)\n    }\n}\n")}
	in = with(t, files, "tallywick", nil)
	all, err := Evaluate(in)
	if err != nil {
		t.Fatal(err)
	}
	found := of(all, "android-start")
	if len(found) != 2 || found[0].Code != "start-differs" || found[0].Here.String() != "app/src/main/java/App.kt:8:31" {
		t.Fatalf("%+v", found)
	}
	if _, err := Make(in, found, Always); err != nil {
		t.Fatal(err)
	}
	if got, _ := in.Tree.Read("app/src/main/java/App.kt"); !strings.Contains(string(got), "Tallywick.begin(this, getString(example.gold.R.string.tallywick_tally_secret), Counts)\n") {
		t.Errorf("%s", got)
	}
}
