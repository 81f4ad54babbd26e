// Package job is the use cases of the command line: each takes a tree and perhaps a server, does one thing a person
// asks for, and gives back what happened. Printing and asking is left to the commands.
package job

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"sort"
	"strings"
	"time"

	"ligare/client"
	"ligare/client/held"
	"ligare/client/shape"
	"ligare/core/binding"
	"ligare/core/cert"
	"ligare/core/sheet"
	"ligare/core/survey"
	"ligare/core/tree"
	"ligare/core/wiring"
	"ligare/edit"
	"ligare/sheets"
)

// Problem is an error with what to do next.
type Problem struct {
	What string
	Hint string
	Err  error
}

func (p *Problem) Error() string {
	if p.Err != nil {
		return p.What + ": " + p.Err.Error()
	}
	return p.What
}
func (p *Problem) Unwrap() error { return p.Err }

func stop(hint, format string, args ...any) error {
	return &Problem{What: fmt.Sprintf(format, args...), Hint: hint}
}

// Work is a tree that is being worked on.
type Work struct {
	Root       string
	Tree       *tree.Tree
	Survey     *survey.Report
	Binding    *binding.Binding // nil when the tree is not attached
	Library    sheet.Library
	Note       string        // what recovery did, "" for nothing
	Backend    string        // file with a backend's environment, for the line-up
	AtServices bool          // checking asks the services themselves
	Patience   time.Duration // how long each of them may take; Patience when zero
	Branch     string        // that reports are kept under; "" for the one version control names
	disk       edit.Disk
	root       *os.Root

	certificates []cert.Known // read on the way, every entry of the keystores
}

// Open reads a tree, and nothing besides. An earlier run that was stopped half-way is finished first.
func Open(dir string) (*Work, error) { return OpenWith(dir, Look{}) }

// OpenWith is Open with more to read.
func OpenWith(dir string, look Look) (*Work, error) {
	abs, err := filepath.Abs(dir)
	if err != nil {
		return nil, err
	}
	if abs, err = filepath.EvalSymlinks(abs); err != nil {
		return nil, &Problem{What: dir + " is not there", Hint: "Run the command in the project's folder, or name it with --tree.", Err: unwrapPath(err)}
	}
	info, err := os.Stat(abs)
	if err != nil || !info.IsDir() {
		return nil, stop("Name the folder that holds the project with --tree.", "%s is not a folder", dir)
	}
	home, err := client.Home()
	if err != nil {
		return nil, err
	}
	w := &Work{Root: abs, disk: edit.Disk{Root: abs, State: filepath.Join(home, "journals")}}
	if w.Note, err = w.disk.Recover(); err != nil {
		return nil, &Problem{What: "an earlier run was not finished", Hint: "Look at the tree with version control, then run the command again.", Err: err}
	}
	if w.root, err = os.OpenRoot(abs); err != nil {
		return nil, err
	}
	w.Tree = tree.New(w.root.FS())
	if w.Library, err = sheet.LoadLibrary(sheets.FS); err != nil {
		return nil, err
	}
	if src, err := w.Tree.Read(binding.File); err == nil {
		if w.Binding, err = binding.Parse(src); err != nil {
			return nil, &Problem{What: "the tree's " + binding.File + " cannot be read", Hint: "Mend the line named, or restore the file from version control.", Err: err}
		}
	} else if !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	o, err := look.options()
	if err != nil {
		return nil, err
	}
	w.Survey = survey.With(w.Tree, o)
	return w, nil
}

func unwrapPath(err error) error {
	var p *fs.PathError
	if errors.As(err, &p) {
		return p.Err
	}
	return err
}

// NeedApp refuses a folder that holds no app.
func (w *Work) NeedApp() error {
	if !w.Survey.Empty() {
		return nil
	}
	if err := w.NeedReadable(); err != nil {
		return err
	}
	return stop("Run the command in the folder that holds android/ or ios/, or name it with --tree.", "no app was found in %s: no Gradle module that builds an app, no Xcode project, no .NET or engine project for a phone", w.Root)
}

// web reports whether a tree is that of a web app, which a hosted builder may wrap.
func (w *Work) web() bool { return w.Tree.Has("package.json") && w.Tree.Has("index.html") }

// NeedReadable refuses a tree in which a project or build file cannot be read: what is not seen would be taken for absent.
func (w *Work) NeedReadable() error {
	for _, q := range w.Survey.Unresolved {
		if q.Broken {
			return &Problem{What: "a file of the project cannot be read; nothing was done", Hint: "Mend the place named, or restore the file from version control.", Err: fmt.Errorf("%s: %s", q.File, q.Why)}
		}
	}
	return nil
}

// NeedBinding refuses a tree that is not attached to an app.
func (w *Work) NeedBinding() error {
	if err := w.NeedApp(); err != nil && (w.Binding == nil || !w.web()) {
		return err
	}
	if err := w.NeedReadable(); err != nil {
		return err
	}
	if w.Binding == nil {
		return stop("Attach it first: ligare app attach NAME", "the tree is not attached to an app: there is no %s in %s", binding.File, w.Root)
	}
	return nil
}

// Server finds the server for this tree.
func (w *Work) Server(address, token string) (*client.Client, error) {
	named := ""
	if w != nil && w.Binding != nil {
		named = w.Binding.Server
	}
	return client.Find(address, token, named)
}

// Input gives what the evaluator looks at.
func (w *Work) Input(regs []*wiring.Registration) wiring.Input {
	return wiring.Input{Tree: w.Tree, Survey: w.Survey, Binding: w.Binding, Registrations: regs, Library: w.Library}
}

// Change is one file a job wants to write.
type Change struct {
	File    string          `json:"file"`
	Why     []string        `json:"why,omitempty"`
	Was     []byte          `json:"-"`
	New     []byte          `json:"-"`
	Created bool            `json:"created,omitempty"`
	Removed bool            `json:"removed,omitempty"`
	Ours    bool            `json:"ours,omitempty"`    // a record of Ligare's own, not a file of the app
	Reasons []wiring.Reason `json:"reasons,omitempty"` // what its lines are for
}

func ours(name string) bool {
	return name == binding.File || strings.HasPrefix(name, ".ligare/")
}

// Changes lists what the tree's edits would write: the app's files first, our own records last.
func (w *Work) Changes(why map[string][]string) []Change {
	out := []Change{}
	names := w.Tree.Changed()
	sort.SliceStable(names, func(i, j int) bool { return !ours(names[i]) && ours(names[j]) })
	for _, name := range names {
		c := Change{File: name, Why: why[name], Ours: ours(name)}
		was, err := w.Tree.Original(name)
		if c.Was = was; err != nil {
			c.Created = true
		}
		if now, err := w.Tree.Read(name); err == nil {
			c.New = now
		} else {
			c.Removed = true
		}
		out = append(out, c)
	}
	return out
}

// Write writes the tree's edits to the disk, all or nothing.
func (w *Work) Write() error {
	var files []edit.File
	for _, c := range w.Changes(nil) {
		f := edit.File{Name: c.File, Was: c.Was, New: c.New}
		if c.Created {
			f.Was = nil
		} else if f.Was == nil {
			f.Was = []byte{}
		}
		if c.Removed {
			f.New = nil
		} else if f.New == nil {
			f.New = []byte{}
		}
		files = append(files, f)
	}
	if err := w.disk.Apply(files); err != nil {
		return &Problem{What: "nothing was written", Hint: "Make the tree writable, or run the command again if a file changed meanwhile.", Err: err}
	}
	return nil
}

// Registrations gives the app's registrations at a service (or all, for ""), and in one environment (or all, for "").
// Those that were never completed have nothing to place or compare; open says which they are and why.
func (w *Work) Registrations(ctx context.Context, c *client.Client, service, environment string) (out []*wiring.Registration, open []string, err error) {
	got, err := c.Comparison(ctx, w.Binding.App)
	if err != nil {
		return nil, nil, err
	}
	return registrations(got, service, environment)
}

// registrations gives what the server's answer holds, with the sheets that ship read once.
func registrations(got *shape.Comparison, service, environment string) (out []*wiring.Registration, open []string, err error) {
	known, err := shipped()
	if err != nil {
		return nil, nil, err
	}
	return held.Registrations(got, service, environment, known)
}

// Offline gives registrations as the tree's own records remember them: digests instead of values.
func (w *Work) Offline() ([]*wiring.Registration, error) {
	records, err := wiring.Records(w.Tree)
	if err != nil {
		return nil, err
	}
	if len(records) == 0 {
		return nil, stop("Place something first, or check with a server.", "the tree holds no records of placements in %s", wiring.Folder)
	}
	known, err := shipped()
	if err != nil {
		return nil, err
	}
	var out []*wiring.Registration
	for _, r := range records {
		s := known[r.Service]
		if src, err := w.Tree.Read(sheetPath(r.Service)); err == nil { // one that does not ship lies in the tree
			if s, err = sheet.Parse(sheetPath(r.Service), src); err != nil {
				return nil, &Problem{What: "a sheet in the tree cannot be read", Hint: "Restore it from version control.", Err: err}
			}
		}
		if s == nil || s.Digest != r.Sheet {
			return nil, stop("Check with the server, or with the version of ligare that placed it.", "the sheet of %s that this tree was placed with (%.19s…) is not at hand without a server", r.Service, r.Sheet)
		}
		out = append(out, fromRecord(r, s))
	}
	return out, nil
}
