package demo

import (
	"os"
	"path/filepath"
	"testing"

	"ligare/core/check"
)

func TestTheWalkIsWhole(t *testing.T) {
	w, err := Load()
	if err != nil {
		t.Fatal(err)
	}
	if len(w.Mistakes) != 5 || len(w.Steps) < 8 || len(w.Apps)+len(w.Trees) != 4 || len(w.KeyStores) == 0 {
		t.Errorf("%d mistakes, %d steps, %d apps", len(w.Mistakes), len(w.Steps), len(w.Apps))
	}
	for _, m := range w.Mistakes {
		if check.RuleByID(m.Rule) == nil || m.Say == "" || m.File == "" {
			t.Errorf("%+v", m)
		}
	}
}

func TestEveryTreeIsThere(t *testing.T) {
	w, err := Load()
	if err != nil {
		t.Fatal(err)
	}
	for _, app := range append([]string{"hivelog"}, w.Trees...) {
		dir := filepath.Join(t.TempDir(), app)
		if err := Copy(app, dir); err != nil {
			t.Error(err)
		}
		if _, err := os.Stat(filepath.Join(dir, ".gitignore")); err != nil {
			t.Errorf("%s: %v", app, err)
		}
	}
}

func TestPlanting(t *testing.T) {
	dir := t.TempDir()
	if err := Copy("hivelog", dir); err != nil {
		t.Fatal(err)
	}
	name := filepath.Join(dir, "ios/Hivelog/AppDelegate.swift")
	was, err := os.ReadFile(name)
	if err != nil {
		t.Fatal(err)
	}
	const in = "ios/Hivelog/AppDelegate.swift"
	for _, p := range []Plant{{In: in, From: "import UIKit", To: "import Other"}, {In: in, Drop: "import UIKit"}, {In: in, Move: "elsewhere/x.swift"}} {
		undo, err := p.Do(dir)
		if err != nil {
			t.Fatal(err)
		}
		if now, err := os.ReadFile(name); err == nil && string(now) == string(was) {
			t.Errorf("%+v planted nothing", p)
		}
		if err := undo(); err != nil {
			t.Fatal(err)
		}
		if now, err := os.ReadFile(name); err != nil || string(now) != string(was) {
			t.Errorf("%+v was not taken back", p)
		}
	}
	if _, err := (Plant{In: in, From: "nowhere", To: "x"}).Do(dir); err == nil {
		t.Error("a plant that changes nothing")
	}
}
