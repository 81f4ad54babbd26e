package wiring

import (
	"strings"
	"testing"
	"testing/fstest"
)

// A tree that was wired by hand is taken in without changing any of its files; placing then adds what is missing, and
// taking out takes out what Ligare placed and nothing else.
func TestTakingInAWiredTree(t *testing.T) {
	files := fstest.MapFS{}
	for n, s := range leastAndroid {
		files[n] = &fstest.MapFile{Data: []byte(s)}
	}
	files["app/src/main/AndroidManifest.xml"] = &fstest.MapFile{Data: []byte("<manifest xmlns:android='http://schemas.android.com/apk/res/android'>\n<uses-permission android:name='android.permission.INTERNET'/>\n<application android:name='.App'/>\n</manifest>\n")}
	files["app/src/main/res/values/keys.xml"] = &fstest.MapFile{Data: []byte("<resources>\n<string name='treadmark_app'>123456789012345</string>\n<string name='treadmark_key'>another</string>\n</resources>\n")}
	values := map[string]string{"app-number": "123456789012345", "client-key": "tdc_x"}
	in := with(t, files, "treadmark", values)
	answers, err := Evaluate(in)
	if err != nil {
		t.Fatal(err)
	}
	p := &Plan{Tree: in.Tree}
	taken, err := p.Adopt(in, answers)
	if err != nil || len(taken) != 2 || taken[0].Placement != "android-number" || taken[1].Placement != "android-internet" {
		t.Fatalf("%v %+v", err, taken)
	}
	if changed := in.Tree.Changed(); len(changed) != 1 || changed[0] != RecordPath("treadmark") {
		t.Errorf("%v", changed)
	}
	adopted := after(files, in.Tree)
	again := with(t, adopted, "treadmark", values)
	if answers, err = Evaluate(again); err != nil {
		t.Fatal(err)
	}
	if more, err := (&Plan{Tree: again.Tree}).Adopt(again, answers); err != nil || len(more) > 0 {
		t.Errorf("a second time: %v %+v", err, more)
	}
	q, err := Make(again, answers, Never)
	if err != nil || len(q.Kept) != 1 || q.Kept[0].Placement != "android-key" {
		t.Fatalf("%v %+v", err, q.Kept)
	}
	if err := q.Commit(again, answers); err != nil {
		t.Fatal(err)
	}
	left, err := Unplace(again.Tree, "treadmark", false)
	if err != nil || len(left) != 2 || !strings.Contains(left[0].Reason, "stood here before") {
		t.Errorf("%v %+v", err, left)
	}
	same(t, "adopted", files, after(adopted, again.Tree))
}

// A minimum that is high enough by itself is not something that was placed: nothing of the service stands there.
func TestAMinimumIsNotTakenIn(t *testing.T) {
	files := fstest.MapFS{}
	for n, s := range leastAndroid {
		files[n] = &fstest.MapFile{Data: []byte(s)}
	}
	in := with(t, files, "thornmill", map[string]string{"app-number": "123456789012345", "public-key": "tmp_x"})
	answers, err := Evaluate(in)
	if err != nil {
		t.Fatal(err)
	}
	met := false
	for _, a := range answers {
		met = met || a.Floor() && a.Good()
	}
	p := &Plan{Tree: in.Tree}
	taken, err := p.Adopt(in, answers)
	if err != nil || !met || len(taken) > 0 || len(in.Tree.Changed()) > 0 {
		t.Fatalf("%v met %v, taken %+v, changed %v", err, met, taken, in.Tree.Changed())
	}
}
