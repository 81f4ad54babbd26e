package job

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"runtime"
	"sync"
	"time"

	"ligare/client"
	"ligare/client/shape"
	"ligare/core/check"
	"ligare/core/comb"
	"ligare/vcs"
)

// CombOptions is what a person says when combing.
type CombOptions struct {
	Package  string                            // look through this file alone, and what is packed in it
	History  bool                              // every commit too
	Progress func(what string, done, of int64) // called now and then: bytes of files, objects of the history; of is 0 when not known
}

// Combed is what combing found, and over how much.
type Combed struct {
	*check.Result
	Files    int              `json:"files"`
	Bytes    int64            `json:"bytes"`
	Objects  int              `json:"objects,omitempty"` // of the history
	Sought   int              `json:"sought"`
	Unsought []shape.Unsought `json:"unsought,omitempty"` // too short, with the reason
}

// Comb looks through every file of the tree, those that version control ignores too, for the team's server secrets, for
// test keys past their end, for private keys and for keystores with passwords that everybody tries. c may be nil: then
// why says why there is no server, and only what needs none is looked for.
func (w *Work) Comb(ctx context.Context, c *client.Client, why string, o CombOptions) (*Combed, error) {
	var notLooked []check.NotLooked
	blind := func(reason string, required bool, rules ...string) {
		for _, r := range rules {
			notLooked = append(notLooked, check.NotLooked{Rule: r, Reason: reason, Required: required})
		}
	}
	out := &Combed{}
	h := &comb.Handout{}
	if w.Binding == nil && why == "" {
		why = "the tree is not attached to an app"
	}
	if c == nil || w.Binding == nil {
		blind(why, true, "secret-in-tree", "test-key-in-tree")
	} else {
		got, err := c.Comb(ctx, w.Binding.App)
		if err != nil {
			return nil, err
		}
		h = handoutOf(got)
		out.Sought, out.Unsought = len(h.Needles), got.Unsought
		for _, u := range got.Unsought {
			blind(u.Say+" was not looked for: "+u.Why, false, "secret-in-tree")
		}
	}
	var repo *vcs.Repo
	if o.Package == "" {
		var err error
		if repo, err = vcs.Open(ctx, w.Root); err != nil && !errors.Is(err, vcs.ErrNone) {
			return nil, err
		}
	}
	found := &findings{}
	k := &comber{w: w, c: comb.New(h), o: o, found: found}
	look := k.files
	if o.Package != "" {
		look = k.only
	}
	if err := look(ctx); err != nil {
		return nil, err
	}
	for _, why := range k.unread {
		blind(why, false, "secret-in-tree", "private-key-in-tree")
	}
	out.Files, out.Bytes = k.count, k.total
	switch {
	case o.Package != "":
	case !o.History:
		blind("the history was not looked through; --history does", false, "secret-in-history", "private-key-in-history")
	case repo == nil:
		blind("the tree is not in a git repository", true, "secret-in-history", "private-key-in-history")
	default:
		if c == nil || w.Binding == nil {
			blind(why, true, "secret-in-history")
		}
		if repo.Shallow {
			blind("the clone's history is cut short", true, "secret-in-history", "private-key-in-history")
		}
		if err := k.history(ctx, repo); err != nil {
			return nil, err
		}
		out.Objects = k.objects
	}
	if repo != nil {
		if err := found.ignored(ctx, repo); err != nil {
			return nil, err
		}
	}
	waivers, _, err := w.accepted()
	if err != nil {
		return nil, err
	}
	out.Result = check.Gather("comb", found.list, notLooked, waivers, time.Now())
	return out, nil
}

func handoutOf(got *shape.Handout) *comb.Handout {
	h := &comb.Handout{Table: got.Table, Key: got.Key}
	for _, n := range got.Needles {
		h.Needles = append(h.Needles, comb.Needle{ID: n.ID, Kind: comb.Kind(n.Kind), Say: n.Say, Offset: n.Offset, Length: n.Length, Rolling: n.Rolling, Digest: n.Digest})
	}
	return h
}

// findings collects from several goroutines.
type findings struct {
	sync.Mutex
	list []check.Finding
}

func (f *findings) add(x check.Finding) {
	f.Lock()
	f.list = append(f.list, x)
	f.Unlock()
}

// ignored makes findings of private keys in ignored files less grave.
func (f *findings) ignored(ctx context.Context, repo *vcs.Repo) error {
	var names []string
	for _, x := range f.list {
		if x.Rule == "private-key-in-tree" {
			names = append(names, x.File)
		}
	}
	states, err := repo.States(ctx, names)
	if err != nil {
		return err
	}
	for i := range f.list {
		if x := &f.list[i]; x.Rule == "private-key-in-tree" && states[x.File].Ignored && !states[x.File].Tracked {
			x.Severity = check.Warning
			x.Message += "; version control ignores the file"
		}
	}
	return nil
}

type comber struct {
	w       *Work
	c       *comb.Comber
	o       CombOptions
	found   *findings
	count   int
	total   int64
	objects int
	unread  []string // what was not looked through to its end, and why
}

// only looks through one file, wherever it stands.
func (k *comber) only(ctx context.Context) error {
	f, err := os.Open(k.o.Package)
	if err != nil {
		return &Problem{What: "cannot read " + k.o.Package, Err: unwrapPath(err)}
	}
	defer f.Close()
	k.count = 1
	k.total, err = k.open(ctx, filepath.ToSlash(k.o.Package), f, &comb.Buffers{})
	return err
}

// files looks through every regular file below the root. Links are not followed.
func (k *comber) files(ctx context.Context) error {
	ctx, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	names := make(chan string, 256)
	var done sync.WaitGroup
	var mu sync.Mutex
	last := time.Now()
	for range runtime.NumCPU() {
		done.Add(1)
		go func() {
			defer done.Done()
			buffers := &comb.Buffers{}
			for name := range names {
				if ctx.Err() != nil {
					continue
				}
				n, err := k.file(ctx, name, buffers)
				if err != nil {
					stop(err)
				}
				mu.Lock()
				k.count++
				k.total += n
				if k.o.Progress != nil && time.Since(last) > 200*time.Millisecond {
					last = time.Now()
					k.o.Progress("files", k.total, 0)
				}
				mu.Unlock()
			}
		}()
	}
	err := filepath.WalkDir(k.w.Root, func(full string, d fs.DirEntry, err error) error {
		switch {
		case err != nil:
			return err
		case ctx.Err() != nil:
			return ctx.Err()
		case d.IsDir() && d.Name() == ".git" && full != k.w.Root:
			return fs.SkipDir
		case !d.Type().IsRegular():
			return nil
		}
		name, err := filepath.Rel(k.w.Root, full)
		if err != nil {
			return err
		}
		names <- filepath.ToSlash(name)
		return nil
	})
	close(names)
	done.Wait()
	if cause := context.Cause(ctx); cause != nil && !errors.Is(cause, context.Canceled) {
		return cause
	}
	return err
}

// file looks through one file and gives its size.
func (k *comber) file(ctx context.Context, name string, b *comb.Buffers) (int64, error) {
	f, err := k.w.root.Open(filepath.FromSlash(name))
	if errors.Is(err, fs.ErrNotExist) { // gone meanwhile
		return 0, nil
	}
	if err != nil {
		return 0, &Problem{What: name + " cannot be read", Hint: "Make it readable, or comb a copy of the tree; what could not be read counts as not looked at.", Err: unwrapPath(err)}
	}
	defer f.Close()
	return k.open(ctx, name, f, b)
}

// open looks through an open file; what is packed in an archive is unpacked for it.
func (k *comber) open(ctx context.Context, name string, f *os.File, b *comb.Buffers) (int64, error) {
	head := make([]byte, 4)
	if n, _ := io.ReadFull(f, head); comb.KeyStore(name, head[:n]) {
		if err := k.keyStore(name, f); err != nil {
			return 0, err
		}
	}
	if _, err := f.Seek(0, io.SeekStart); err != nil {
		return 0, err
	}
	if string(head) == "PK\x03\x04" {
		if err := k.archive(ctx, name, f, b); err != nil {
			return 0, err
		}
		if _, err := f.Seek(0, io.SeekStart); err != nil {
			return 0, err
		}
	}
	counted := &comb.Counted{From: f}
	err := k.c.Scan(ctx, counted, b, func(h comb.Hit) {
		x := check.OfHit(h)
		x.File, x.Line, x.Column = name, h.Line, h.Column
		k.found.add(x)
	})
	return counted.Bytes, err
}

// archive looks through what is packed in a ZIP archive.
func (k *comber) archive(ctx context.Context, name string, f *os.File, b *comb.Buffers) error {
	info, err := f.Stat()
	if err != nil {
		return err
	}
	skipped, err := k.c.Archive(ctx, f, info.Size(), b, func(entry string, h comb.Hit) {
		x := check.OfHit(h)
		x.File, x.Line, x.Column = name+"!"+entry, h.Line, h.Column
		k.found.add(x)
	})
	k.found.Lock()
	defer k.found.Unlock()
	for _, why := range skipped {
		k.unread = append(k.unread, name+": "+why)
	}
	return err
}

// keyStore tries the passwords that everybody tries.
func (k *comber) keyStore(name string, f *os.File) error {
	info, err := f.Stat()
	if err != nil || info.Size() > 1<<20 {
		return err
	}
	data := make([]byte, info.Size())
	if _, err := f.ReadAt(data, 0); err != nil && err != io.EOF {
		return err
	}
	password, debug, ok := comb.Guess(name, data)
	if !ok {
		return nil
	}
	x := check.Finding{Rule: "keystore-password-guessed", File: name, Message: fmt.Sprintf("%s opens with the password %q", path.Base(name), password)}
	if password == "" {
		x.Message = path.Base(name) + " opens without a password"
	}
	if debug {
		x.Severity = check.Note
		x.Message += "; it holds debug certificates only"
	}
	k.found.add(x)
	return nil
}

// history looks through what every commit holds.
func (k *comber) history(ctx context.Context, repo *vcs.Repo) error {
	type place struct {
		object vcs.Object
		hit    comb.Hit
	}
	var places []place
	buffers := &comb.Buffers{}
	last := time.Now()
	err := repo.History(ctx, func(o vcs.Object, r io.Reader) error {
		k.objects++
		if k.o.Progress != nil && time.Since(last) > 200*time.Millisecond {
			last = time.Now()
			k.o.Progress("history", int64(k.objects), 0)
		}
		return k.c.Scan(ctx, r, buffers, func(h comb.Hit) { places = append(places, place{o, h}) })
	})
	if err != nil {
		return err
	}
	for _, p := range places {
		if p.hit.Kind == comb.TestKey {
			continue // it has ended; where it still stands, the tree's own files say it
		}
		at, err := repo.Brought(ctx, p.object)
		if err != nil {
			return err
		}
		x, what := check.Finding{Rule: "private-key-in-history", File: p.object.Path}, "A private key"
		if p.hit.Needle != nil {
			x.Rule, what = "secret-in-history", "The "+p.hit.Needle.Say
		}
		where := fmt.Sprintf("line %d of %s", p.hit.Line, p.object.Path)
		if p.object.Kind != "blob" {
			where = "the message of the " + p.object.Kind
		}
		x.Actual = at.ID
		x.Message = fmt.Sprintf("%s is in the history: %s, since commit %s of %s by %s", what, where, at.ID, at.Date, at.Author)
		k.found.add(x)
	}
	return nil
}
