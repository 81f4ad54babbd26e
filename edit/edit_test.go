package edit

import (
	"encoding/json"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

func disk(t *testing.T, files map[string]string) Disk {
	t.Helper()
	d := Disk{Root: t.TempDir(), State: t.TempDir()}
	for n, c := range files {
		p := filepath.Join(d.Root, n)
		if err := os.MkdirAll(filepath.Dir(p), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(p, []byte(c), 0o640); err != nil {
			t.Fatal(err)
		}
	}
	return d
}

func read(t *testing.T, d Disk, name string) string {
	t.Helper()
	b, err := os.ReadFile(filepath.Join(d.Root, name))
	if err != nil {
		return "(" + errors.Unwrap(err).Error() + ")"
	}
	return string(b)
}

func TestApply(t *testing.T) {
	d := disk(t, map[string]string{"a": "1", "x/gone": "2"})
	err := d.Apply([]File{{"a", []byte("1"), []byte("one")}, {"n/e/w", nil, []byte("new")}, {"x/gone", []byte("2"), nil}})
	if err != nil {
		t.Fatal(err)
	}
	if read(t, d, "a") != "one" || read(t, d, "n/e/w") != "new" {
		t.Error("files were not written")
	}
	if _, err := os.Stat(filepath.Join(d.Root, "x")); err == nil {
		t.Error("the empty folder stayed")
	}
	if info, _ := os.Stat(filepath.Join(d.Root, "a")); info.Mode().Perm() != 0o640 {
		t.Errorf("mode became %v", info.Mode())
	}
	if left, _ := filepath.Glob(filepath.Join(d.State, "*")); len(left) > 0 {
		t.Errorf("left behind: %v", left)
	}
}

func TestRefusals(t *testing.T) {
	d := disk(t, map[string]string{"a": "1", "b": "2"})
	if err := os.WriteFile(filepath.Join(d.Root, "locked"), []byte("3"), 0o444); err != nil {
		t.Fatal(err)
	}
	outside := filepath.Join(t.TempDir(), "secret")
	if err := os.WriteFile(outside, []byte("keep"), 0o600); err != nil {
		t.Fatal(err)
	}
	if err := os.Symlink(outside, filepath.Join(d.Root, "link")); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		f    File
		want string
	}{
		{File{"b", []byte("other"), []byte("x")}, "changed since"},
		{File{"b", nil, []byte("x")}, "changed since"},
		{File{"none", []byte("was"), []byte("x")}, "changed since"},
		{File{"link", []byte("keep"), []byte("x")}, "is a link"},
		{File{"../out", nil, []byte("x")}, "outside"},
		{File{"b/c", nil, []byte("x")}, "not a"},
		{File{"locked", []byte("3"), []byte("x")}, "may not be written to"},
	} {
		err := d.Apply([]File{{"a", []byte("1"), []byte("one")}, c.f})
		if err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v", c.f.Name, err)
		}
		if read(t, d, "a") != "1" || read(t, d, "b") != "2" {
			t.Errorf("%s: something was written", c.f.Name)
		}
	}
	if b, _ := os.ReadFile(outside); string(b) != "keep" {
		t.Error("a file outside the tree was written")
	}
}

func TestAKilledRunIsFinished(t *testing.T) {
	d := disk(t, map[string]string{"a": "1", "b": "2"})
	files := []File{{"a", []byte("1"), []byte("one")}, {"b", []byte("2"), []byte("two")}, {"c", nil, []byte("three")}}
	text, err := json.Marshal(journal{Root: d.Root, Files: files})
	if err != nil {
		t.Fatal(err)
	}
	for written := range 4 { // killed after the journal and `written` files
		for n, c := range map[string]string{"a": "1", "b": "2"} {
			if err := os.WriteFile(filepath.Join(d.Root, n), []byte(c), 0o644); err != nil {
				t.Fatal(err)
			}
		}
		_ = os.Remove(filepath.Join(d.Root, "c"))
		for _, f := range files[:written] {
			if err := os.WriteFile(filepath.Join(d.Root, f.Name), f.New, 0o644); err != nil {
				t.Fatal(err)
			}
		}
		if err := os.WriteFile(d.journal(), text, 0o600); err != nil {
			t.Fatal(err)
		}
		say, err := d.Recover()
		if err != nil || say == "" {
			t.Fatalf("after %d files: %q %v", written, say, err)
		}
		if read(t, d, "a")+read(t, d, "b")+read(t, d, "c") != "onetwothree" {
			t.Errorf("after %d files: not finished", written)
		}
		if say, err := d.Recover(); say != "" || err != nil {
			t.Errorf("a second recovery: %q %v", say, err)
		}
	}
	if err := os.WriteFile(filepath.Join(d.Root, "b"), []byte("mine"), 0o644); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(d.journal(), text, 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := d.Recover(); err == nil || !strings.Contains(err.Error(), "b changed since") || read(t, d, "b") != "mine" {
		t.Errorf("over a changed file: %v", err)
	}
}

func TestPrivateFilesAreWrittenOnce(t *testing.T) {
	dir := t.TempDir()
	name := filepath.Join(dir, "keys.p12")
	if err := Private(name, []byte("one")); err != nil {
		t.Fatal(err)
	}
	if info, err := os.Stat(name); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("%v %v", info, err)
	}
	if err := Private(name, []byte("two")); err == nil {
		t.Error("a file that is there was replaced")
	}
	if b, err := os.ReadFile(name); err != nil || string(b) != "one" {
		t.Errorf("%q %v", b, err)
	}
	if err := os.Symlink(name, filepath.Join(dir, "link")); err != nil {
		t.Fatal(err)
	}
	if err := Private(filepath.Join(dir, "link"), []byte("two")); err == nil {
		t.Error("a link was replaced")
	}
	if err := Private(filepath.Join(dir, "nowhere", "x"), nil); err == nil {
		t.Error("a folder that is not there")
	}
	left, err := os.ReadDir(dir)
	if err != nil || len(left) != 2 {
		t.Errorf("left behind: %v %v", left, err)
	}
}
