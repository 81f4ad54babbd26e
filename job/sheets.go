package job

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"sync"

	"ligare/client"
	"ligare/core/binding"
	"ligare/core/draft"
	"ligare/core/sheet"
	"ligare/core/survey"
	"ligare/core/tree"
	"ligare/sheets"
	"ligare/vcs"
)

// shipped reads the sheets that ship with the program, once.
var shipped = sync.OnceValues(func() (map[string]*sheet.Sheet, error) { return sheet.Load(sheets.FS) })

// CheckSheet reads a sheet's file and holds it against the language and the library.
func CheckSheet(name string, src []byte) (*sheet.Sheet, error) {
	s, err := sheet.Parse(name, src)
	if err != nil {
		return nil, err
	}
	lib, err := sheet.LoadLibrary(sheets.FS)
	if err != nil {
		return nil, err
	}
	return s, lib.Check(s)
}

// DraftFromFile drafts a sheet from a config file.
func DraftFromFile(title, name, where string, src []byte) ([]byte, error) {
	d := draft.New(title)
	if err := d.File(name, where, src); err != nil {
		return nil, &Problem{What: "no sheet can be drafted", Hint: "Name a config file that the service issued.", Err: err}
	}
	return d.Write(), nil
}

// DraftFromCommit drafts a sheet from a commit that once wired a service: what it changed, as the survey sees it.
func DraftFromCommit(ctx context.Context, dir, title, commit string) ([]byte, error) {
	r, err := vcs.Open(ctx, dir)
	if err != nil {
		return nil, &Problem{What: "no sheet can be drafted from a commit", Hint: "Run it in a clone that has the commit.", Err: err}
	}
	after, err := r.At(ctx, commit)
	if err != nil {
		return nil, &Problem{What: "the commit cannot be read", Hint: "Name one that `git log` shows.", Err: err}
	}
	before, err := r.At(ctx, commit+"^")
	if err != nil {
		return nil, &Problem{What: "the commit before it cannot be read", Hint: "The first commit of a repository, or of a shallow clone, has none before it.", Err: err}
	}
	names, err := r.Touched(ctx, commit+"^", commit)
	if err != nil {
		return nil, err
	}
	added := map[string][]byte{}
	for _, n := range names {
		if _, err := fs.Stat(before, n); err == nil {
			continue
		}
		b, err := fs.ReadFile(after, n)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return nil, err
		}
		if len(b) <= sheet.MaxFile {
			added[n] = b
		}
	}
	d := draft.New(title)
	d.Change(survey.Survey(tree.New(before)), survey.Survey(tree.New(after)), added)
	if d.Empty() {
		return nil, stop("Name the commit that wired the service; `git log -p` shows what each changed.", "the commit %s changed nothing that a sheet speaks of", commit)
	}
	return d.Write(), nil
}

// SheetChange is how a sheet differs from what a tree agreed to.
type SheetChange struct {
	Service string `json:"service"`
	Pinned  string `json:"pinned,omitempty"` // digest the tree agreed to; "" for none
	Now     string `json:"now"`
	Was     []byte `json:"-"` // its text, nil when it is not at hand
	New     []byte `json:"-"`
}

// ChangedSheet says how a service's sheet differs from the one this tree agreed to; nil when it does not.
func (w *Work) ChangedSheet(ctx context.Context, c *client.Client, service string) (*SheetChange, error) {
	if err := w.NeedBinding(); err != nil {
		return nil, err
	}
	svc, err := c.Service(ctx, service)
	if err != nil {
		return nil, err
	}
	out := &SheetChange{Service: service, Pinned: w.Binding.Sheets[service], Now: svc.Digest, New: []byte(svc.Source)}
	if out.Pinned == out.Now {
		return nil, nil
	}
	if out.Pinned == "" {
		out.Was = []byte{}
		return out, nil
	}
	old, err := c.SheetVersion(ctx, service, out.Pinned)
	if err == nil {
		out.Was = []byte(old.Source)
	}
	return out, nil // an old version that nobody has any more is said by Was being nil
}

// AgreeSheet pins a sheet's digest in the tree.
func (w *Work) AgreeSheet(change *SheetChange) error {
	src, err := w.Tree.Read(binding.File)
	if err != nil {
		return err
	}
	out, err := binding.Agree(src, change.Service, change.Now)
	if err != nil {
		return err
	}
	w.Tree.Put(binding.File, out)
	return w.Write()
}

// Where gives a path as a tree sees it: relative to its root, or "" outside.
func Where(root, name string) string {
	abs, err := filepath.Abs(name)
	if err != nil {
		return ""
	}
	base, err := filepath.Abs(root)
	if err != nil {
		return ""
	}
	rel, err := filepath.Rel(base, abs)
	if err != nil || rel == ".." || len(rel) > 2 && rel[:3] == ".."+string(os.PathSeparator) {
		return ""
	}
	return filepath.ToSlash(rel)
}

// SheetProblems says what is wrong with a sheet, one problem a line.
func SheetProblems(err error) error {
	n := len(sheet.Problems(err))
	if n == 0 {
		return err
	}
	return &Problem{What: fmt.Sprintf("the sheet has %s", count(n, "problem")), Hint: "docs/reference/sheets.md has every element, with an example."}
}

func count(n int, word string) string {
	if n == 1 {
		return "1 " + word
	}
	return fmt.Sprintf("%d %ss", n, word)
}
