package vcs

import (
	"context"
	"errors"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

func run(t *testing.T, dir string, args ...string) {
	t.Helper()
	cmd := exec.Command("git", append([]string{"-C", dir, "-c", "user.name=Wren", "-c", "user.email=wren@larkfield.example"}, args...)...)
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("git %v: %v %s", args, err, out)
	}
}

func put(t *testing.T, dir, name, text string) {
	t.Helper()
	at := filepath.Join(dir, name)
	if err := os.MkdirAll(filepath.Dir(at), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(at, []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
}

// The tree may be a folder inside the repository; ignoring does not untrack; what was once committed stays so.
func TestStates(t *testing.T) {
	top := t.TempDir()
	run(t, top, "init", "-q")
	put(t, top, ".gitignore", "*.secret\nkeys/*\n!keys/kept.p12\n")
	put(t, top, "app/tracked.json", "{}")
	put(t, top, "app/gone.json", "{}")
	put(t, top, "app/forced.secret", "x")
	put(t, top, "app/sp ace [1].json", "{}")
	run(t, top, "add", "-f", "app")
	run(t, top, "commit", "-q", "-m", "one")
	run(t, top, "rm", "-q", "app/gone.json")
	run(t, top, "commit", "-q", "-m", "two")
	put(t, top, "app/new.json", "{}")
	put(t, top, "app/.gitignore", "/here.json\n")
	r, err := Open(context.Background(), filepath.Join(top, "app"))
	if err != nil {
		t.Fatal(err)
	}
	files := []string{"tracked.json", "gone.json", "forced.secret", "sp ace [1].json", "new.json", "here.json", "other.secret", "nowhere.json"}
	got, err := r.States(context.Background(), files)
	if err != nil {
		t.Fatal(err)
	}
	for name, want := range map[string]State{
		"tracked.json":    {Tracked: true, Committed: true},
		"gone.json":       {Committed: true},
		"forced.secret":   {Tracked: true, Committed: true, Ignored: true, IgnoredBy: "*.secret"},
		"sp ace [1].json": {Tracked: true, Committed: true},
		"new.json":        {},
		"here.json":       {Ignored: true, IgnoredBy: "/here.json"},
		"other.secret":    {Ignored: true, IgnoredBy: "*.secret"},
		"nowhere.json":    {},
	} {
		have := got[name]
		if !strings.HasSuffix(have.IgnoredBy, want.IgnoredBy) {
			t.Errorf("%s: ignored by %q", name, have.IgnoredBy)
		}
		have.IgnoredBy = want.IgnoredBy
		if have != want {
			t.Errorf("%s: %+v, want %+v", name, have, want)
		}
	}
	rt, err := Open(context.Background(), top)
	if err != nil {
		t.Fatal(err)
	}
	if s, err := rt.States(context.Background(), []string{"keys/kept.p12", "keys/other.p12"}); err != nil || s["keys/kept.p12"].Ignored || !s["keys/other.p12"].Ignored {
		t.Errorf("negated patterns: %+v %v", s, err)
	}
}

func TestWithoutARepositoryOrCommits(t *testing.T) {
	dir := t.TempDir()
	if _, err := Open(context.Background(), dir); !errors.Is(err, ErrNone) {
		t.Errorf("no repository: %v", err)
	}
	run(t, dir, "init", "-q")
	put(t, dir, "a", "")
	r, err := Open(context.Background(), dir)
	if err != nil {
		t.Fatal(err)
	}
	if s, err := r.States(context.Background(), []string{"a"}); err != nil || s["a"] != (State{}) {
		t.Errorf("no commits: %+v %v", s, err)
	}
}

// A repository may carry settings that start programs; asking must not run them.
func TestNothingTheRepositoryNamesIsStarted(t *testing.T) {
	dir := t.TempDir()
	run(t, dir, "init", "-q")
	mark := filepath.Join(dir, "started")
	put(t, dir, "hook.sh", "#!/bin/sh\ntouch "+mark+"\n")
	if err := os.Chmod(filepath.Join(dir, "hook.sh"), 0o755); err != nil {
		t.Fatal(err)
	}
	run(t, dir, "config", "core.fsmonitor", filepath.Join(dir, "hook.sh"))
	r, err := Open(context.Background(), dir)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := r.States(context.Background(), []string{"hook.sh"}); err != nil {
		t.Fatal(err)
	}
	if _, err := os.Stat(mark); err == nil {
		t.Error("a program named by the repository was started")
	}
}

func TestTreesOfCommits(t *testing.T) {
	dir := t.TempDir()
	git := func(args ...string) {
		t.Helper()
		cmd := exec.Command("git", append([]string{"-C", dir, "-c", "user.name=W", "-c", "user.email=wren@larkfield.example", "-c", "commit.gpgsign=false"}, args...)...)
		if out, err := cmd.CombinedOutput(); err != nil {
			t.Fatalf("%v: %s", err, out)
		}
	}
	put := func(name, text string) {
		t.Helper()
		if err := os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	git("init", "--quiet")
	put("app/a.txt", "one")
	put("gone.txt", "x")
	git("add", "--all")
	git("commit", "--quiet", "-m", "first")
	put("app/a.txt", "two")
	put("app/ü b.txt", "new")
	git("rm", "--quiet", "gone.txt")
	git("add", "--all")
	git("commit", "--quiet", "-m", "second")
	put("app/a.txt", "not committed")
	r, err := Open(context.Background(), filepath.Join(dir, "app")) // seen from a folder inside
	if err != nil {
		t.Fatal(err)
	}
	for commit, want := range map[string]string{"HEAD": "two", "HEAD^": "one"} {
		at, err := r.At(context.Background(), commit)
		if err != nil {
			t.Fatal(err)
		}
		if b, err := fs.ReadFile(at, "a.txt"); err != nil || string(b) != want {
			t.Errorf("%s: %q %v", commit, b, err)
		}
	}
	names, err := r.Touched(context.Background(), "HEAD^", "HEAD")
	if err != nil || strings.Join(names, "|") != "a.txt|ü b.txt" {
		t.Errorf("%q %v", names, err)
	}
	for _, bad := range []string{"nowhere", "--output=x", "HEAD^^"} {
		if _, err := r.At(context.Background(), bad); err == nil {
			t.Errorf("%s was taken for a commit", bad)
		}
	}
	if _, err := r.Touched(context.Background(), "-x", "HEAD"); err == nil {
		t.Error("an option was taken for a commit")
	}
}

// Every object of any branch or stash is given once, with its path and content; so is what was taken out again.
func TestHistory(t *testing.T) {
	ctx := context.Background()
	dir := t.TempDir()
	run(t, dir, "init", "--quiet", "--initial-branch=main")
	put(t, dir, "a b.txt", "first\n")
	put(t, dir, "bin", "\x00\n\x00")
	run(t, dir, "add", "--all")
	run(t, dir, "commit", "--quiet", "-m", "a message with words")
	run(t, dir, "checkout", "--quiet", "-b", "side")
	put(t, dir, "deep/c.txt", "only on the side, and without an end")
	run(t, dir, "add", "--all")
	run(t, dir, "commit", "--quiet", "-m", "side")
	run(t, dir, "rm", "--quiet", "deep/c.txt")
	run(t, dir, "commit", "--quiet", "-m", "taken out")
	run(t, dir, "checkout", "--quiet", "main")
	repo, err := Open(ctx, dir)
	if err != nil {
		t.Fatal(err)
	}
	got := map[string]string{}
	commits := 0
	var side Object
	if err := repo.History(ctx, func(o Object, r io.Reader) error {
		if o.Kind == "commit" {
			commits++
			return nil // its content is passed over
		}
		b, err := io.ReadAll(r)
		if o.Path == "deep/c.txt" {
			side = o
		}
		got[o.Path] += string(b)
		return err
	}); err != nil {
		t.Fatal(err)
	}
	if commits != 3 || len(got) != 3 || got["a b.txt"] != "first\n" || got["bin"] != "\x00\n\x00" || got["deep/c.txt"] != "only on the side, and without an end" {
		t.Errorf("%d commits, %q", commits, got)
	}
	at, err := repo.Brought(ctx, side)
	if err != nil || len(at.ID) < 7 || at.Author != "Wren" || len(at.Date) != 10 {
		t.Errorf("%+v %v", at, err)
	}
	stop := errors.New("enough")
	if err := repo.History(ctx, func(Object, io.Reader) error { return stop }); !errors.Is(err, stop) {
		t.Errorf("%v", err)
	}
	ended, cancel := context.WithCancel(ctx)
	cancel()
	if err := repo.History(ended, func(Object, io.Reader) error { return nil }); err == nil {
		t.Error("it went on after it was told to stop")
	}
	if commit, branch, err := repo.Head(ctx); err != nil || len(commit) != 40 || branch != "main" {
		t.Errorf("%q %q %v", commit, branch, err)
	}
}
