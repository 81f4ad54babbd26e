package tree

import (
	"errors"
	"io/fs"
	"strings"
	"testing"
	"testing/fstest"
)

func TestEditsFoldOverTheDisk(t *testing.T) {
	tr := New(fstest.MapFS{"a/x": {Data: []byte("1")}, "a/y": {Data: []byte("2")}, "b": {Data: []byte("3")}})
	tr.Put("a/x", []byte("one"))
	tr.Put("n/e/w", []byte("new"))
	tr.Put("b", []byte("3"))
	tr.Remove("a/y")
	if b, err := tr.Read("a/x"); err != nil || string(b) != "one" {
		t.Errorf("%q %v", b, err)
	}
	if b, err := tr.Original("a/x"); err != nil || string(b) != "1" {
		t.Errorf("%q %v", b, err)
	}
	if _, err := tr.Read("a/y"); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("a removed file: %v", err)
	}
	if tr.Has("a/y") || !tr.Has("n/e/w") || tr.Has("a") {
		t.Error("Has")
	}
	if got := strings.Join(tr.Changed(), " "); got != "a/x a/y n/e/w" {
		t.Errorf("changed: %s", got)
	}
	if got := strings.Join(tr.Dir("."), " "); got != "a/ b n/" {
		t.Errorf("root: %s", got)
	}
	if got := strings.Join(tr.Dir("a"), " "); got != "x" {
		t.Errorf("a: %s", got)
	}
	if got := strings.Join(tr.Dir("n"), " "); got != "e/" {
		t.Errorf("n: %s", got)
	}
}

func TestNothingOutsideIsRead(t *testing.T) {
	tr := New(fstest.MapFS{"a/x": {Data: []byte("1")}})
	for _, name := range []string{"../x", "/etc/hostname", "a/../../x", "a"} {
		if _, err := tr.Read(name); err == nil {
			t.Errorf("%s was read", name)
		}
	}
}

func TestWalkLeavesForeignFoldersOut(t *testing.T) {
	tr := New(fstest.MapFS{"a/x": {}, "node_modules/y": {}, "ios/Pods/z": {}, ".git/config": {}, "app/build/w": {}, ".hidden/v": {}, "src/main/u": {}, "app/src/java/build/t": {}, "target/s": {}})
	var got []string
	tr.Walk(func(n string) { got = append(got, n) })
	if s := strings.Join(got, " "); s != "a/x app/src/java/build/t src/main/u" {
		t.Errorf("walked %s", s)
	}
}
