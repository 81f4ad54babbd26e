package wiring

import (
	"strings"
	"testing"
	"testing/fstest"
)

// A key is changed at the service: it is exchanged wherever it stands as it was placed, in every variant and form; what
// somebody wrote elsewhere is found, and what somebody changed is left.
func TestARotatedKey(t *testing.T) {
	files := fstest.MapFS{}
	for n, s := range leastAndroid {
		files[n] = &fstest.MapFile{Data: []byte(s)}
	}
	for n, s := range leastIOS(t) {
		files["ios/"+n] = &fstest.MapFile{Data: []byte(s)}
	}
	files["notes/README.md"] = &fstest.MapFile{Data: []byte("# Keys\n\nThe key is old-key-1234, do not lose it.\n")}
	old := map[string]string{"tally-secret": "old-key-1234"}
	in := with(t, files, "tallywick", old)
	p, answers := placeOnly(t, in, "")
	if err := p.Commit(in, answers); err != nil || len(p.Kept) > 0 {
		t.Fatalf("%v %+v", err, p.Kept)
	}
	placed := after(files, in.Tree)

	now := with(t, placed, "tallywick", map[string]string{"tally-secret": "new-key-5678"})
	answers, err := Evaluate(now)
	if err != nil {
		t.Fatal(err)
	}
	as, err := AsPlaced(now.Tree)
	if err != nil {
		t.Fatal(err)
	}
	gone := Exchanged(answers, as)
	q, err := Make(now, answers, as)
	if err != nil || len(q.Kept) > 0 || len(q.Ops) != 2 {
		t.Errorf("%v, %d edits, kept %+v", err, len(q.Ops), q.Kept)
	}
	if err := q.Commit(now, answers); err != nil {
		t.Fatal(err)
	}
	for n, f := range after(placed, now.Tree) {
		if strings.Contains(string(f.Data), "old-key-1234") && n != "notes/README.md" {
			t.Errorf("%s still holds the old key:\n%s", n, f.Data)
		}
	}
	if still := Standing(now.Tree, gone); len(still) != 1 || still[0].String() != "notes/README.md:3:12" {
		t.Errorf("%v %+v", gone, still)
	}
	if left, err := Unplace(now.Tree, "tallywick", false); err != nil || len(left) > 0 {
		t.Errorf("%v %+v", err, left)
	}
	same(t, "rotated", files, after(placed, now.Tree))

	// Somebody wrote a key of their own: it is shown and left.
	mine := clone(placed)
	mine["app/src/main/java/App.kt"].Data = []byte(strings.Replace(string(mine["app/src/main/java/App.kt"].Data), "old-key-1234", "my-own-key-99", 1))
	again := with(t, mine, "tallywick", map[string]string{"tally-secret": "new-key-5678"})
	answers, err = Evaluate(again)
	if err != nil {
		t.Fatal(err)
	}
	if as, err = AsPlaced(again.Tree); err != nil {
		t.Fatal(err)
	}
	q, err = Make(again, answers, as)
	if err != nil || len(q.Kept) != 1 || q.Kept[0].Actual != "my-own-key-99" || q.Kept[0].Expected != "new-key-5678" || q.Kept[0].Source() != "tallywick, revision 1" {
		t.Errorf("%v %+v", err, q.Kept)
	}
}

func TestOnlyAndExcept(t *testing.T) {
	files := fstest.MapFS{}
	for n, s := range leastAndroid {
		files[n] = &fstest.MapFile{Data: []byte(s)}
	}
	answers, err := Evaluate(with(t, files, "treadmark", nil))
	if err != nil {
		t.Fatal(err)
	}
	names := func(list []Answer) string {
		var out []string
		for _, a := range list {
			out = append(out, a.Placement)
		}
		return strings.Join(out, " ")
	}
	some, err := Select(answers, []string{"string-resource", "android-query"}, []string{"android-key"})
	if err != nil || names(some) != "android-number android-query" {
		t.Errorf("%v %s", err, names(some))
	}
	if _, err := Select(answers, nil, []string{"android-keys"}); err == nil || !strings.Contains(err.Error(), `no placement "android-keys" here; there are: android-internet`) {
		t.Error(err)
	}
}

// A file in which a merge is not resolved is left, with its place; everything else is placed.
func TestAMergeThatIsNotResolved(t *testing.T) {
	files := fstest.MapFS{}
	for n, s := range leastAndroid {
		files[n] = &fstest.MapFile{Data: []byte(s)}
	}
	files["app/src/main/res/values/strings.xml"] = &fstest.MapFile{Data: []byte("<resources>\n<<<<<<< HEAD\n    <string name=\"a\">1</string>\n=======\n    <string name=\"a\">2</string>\n>>>>>>> theirs\n</resources>\n")}
	in := with(t, files, "treadmark", nil)
	p, _ := placeOnly(t, in, "android-number android-internet")
	if len(p.Kept) == 0 || len(p.Ops) == 0 {
		t.Fatalf("%d edits, kept %+v", len(p.Ops), p.Kept)
	}
	for _, k := range p.Kept {
		if !strings.Contains(k.Detail, "strings.xml:2: a merge is not resolved here") && !strings.Contains(k.Detail, "strings.xml:2") {
			t.Errorf("%s: %s", k.Placement, k.Detail)
		}
	}
	if got, _ := in.Tree.Read("app/src/main/res/values/strings.xml"); string(got) != string(files["app/src/main/res/values/strings.xml"].Data) {
		t.Errorf("%s", got)
	}
}
