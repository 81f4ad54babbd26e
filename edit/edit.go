// Package edit writes a plan's files to a disk: all or nothing, recoverable when killed at any moment, never through a
// link out of the tree, never over a file that changed since it was read.
package edit

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"runtime"
	"strings"
)

// File is one file to write or remove.
type File struct {
	Name string // slash-separated, relative to the root
	Was  []byte // what was read; nil when the file was not there
	New  []byte // nil removes the file
}

// journal is what a run is about to do, written before anything else is.
type journal struct {
	Root  string `json:"root"`
	Files []File `json:"files"`
}

// Disk is a tree's folder together with the place its journal is kept, outside the tree.
type Disk struct {
	Root  string // absolute
	State string // folder for journals

	folders func() (tree, state folder, err error) // nil: those of the disk
}

func (d Disk) journal() string { return filepath.Join(d.State, d.journalName()) }

func (d Disk) journalName() string {
	sum := sha256.Sum256([]byte(d.Root))
	return "journal-" + hex.EncodeToString(sum[:8]) + ".json"
}

// folder is what of a disk is used: every call is one thing that a run may be stopped after. Names are slash-separated.
type folder interface {
	Lstat(name string) (fs.FileInfo, error)
	ReadFile(name string) ([]byte, error)
	MkdirAll(name string) error
	Write(name string, content []byte, mode fs.FileMode) error // made or exchanged, and on the disk when it returns
	Rename(from, to string) error
	Remove(name string) error
	Sync(dir string) error // what was made, renamed and removed in a folder is on the disk when it returns
	Close() error
}

func (d Disk) open() (tree, state folder, err error) {
	if d.folders != nil {
		return d.folders()
	}
	root, err := os.OpenRoot(d.Root)
	if err != nil {
		return nil, nil, fmt.Errorf("opening %s: %w", d.Root, err)
	}
	if err := os.MkdirAll(d.State, 0o700); err != nil {
		return nil, nil, errors.Join(err, root.Close())
	}
	at, err := os.OpenRoot(d.State)
	if err != nil {
		return nil, nil, errors.Join(fmt.Errorf("opening %s: %w", d.State, err), root.Close())
	}
	return rooted{root}, rooted{at}, nil
}

// rooted is a folder of the disk; nothing outside it is reached, also not through links.
type rooted struct{ *os.Root }

func (r rooted) Lstat(name string) (fs.FileInfo, error) {
	return r.Root.Lstat(filepath.FromSlash(name))
}
func (r rooted) ReadFile(name string) ([]byte, error) {
	return r.Root.ReadFile(filepath.FromSlash(name))
}
func (r rooted) MkdirAll(name string) error { return r.Root.MkdirAll(filepath.FromSlash(name), 0o755) }
func (r rooted) Remove(name string) error   { return r.Root.Remove(filepath.FromSlash(name)) }
func (r rooted) Rename(from, to string) error {
	return r.Root.Rename(filepath.FromSlash(from), filepath.FromSlash(to))
}

func (r rooted) Write(name string, content []byte, mode fs.FileMode) error {
	f, err := r.OpenFile(filepath.FromSlash(name), os.O_WRONLY|os.O_CREATE|os.O_TRUNC, mode)
	if err != nil {
		return err
	}
	_, err = f.Write(content)
	if runtime.GOOS != "windows" {
		err = errors.Join(err, f.Chmod(mode))
	}
	return errors.Join(err, f.Sync(), f.Close())
}

func (r rooted) Sync(dir string) error {
	if runtime.GOOS == "windows" { // its file system does so by itself, and folders cannot be opened for it
		return nil
	}
	f, err := r.Open(filepath.FromSlash(dir))
	if err != nil {
		return err
	}
	return errors.Join(f.Sync(), f.Close())
}

// ErrChanged is returned when a file is not as it was read.
var ErrChanged = errors.New("was changed since it was read; nothing was written, run the command again")

// Apply writes the files. Everything is checked first; then the journal is written; then the new contents, beside the
// files they belong to; then each takes its file's place. Stopped at any moment, also by a power cut, the tree is made
// whole by Recover.
func (d Disk) Apply(files []File) (err error) {
	if len(files) == 0 {
		return nil
	}
	tree, state, err := d.open()
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, tree.Close(), state.Close()) }()
	for _, f := range files {
		if err := d.ready(tree, f); err != nil {
			return err
		}
	}
	if err := d.begin(state, files); err != nil {
		return err
	}
	if err := d.write(tree, files); err != nil {
		if back := d.back(tree, files); back != nil {
			return fmt.Errorf("%w; undoing also failed: %w; run any ligare command to finish", err, back)
		}
		return errors.Join(fmt.Errorf("%w; nothing was changed", err), d.end(state))
	}
	return d.end(state)
}

// ready checks that a file can be written and is as it was read.
func (d Disk) ready(tree folder, f File) error {
	if !fs.ValidPath(f.Name) {
		return fmt.Errorf("%s lies outside the tree", f.Name)
	}
	for p := f.Name; p != "."; p = path.Dir(p) {
		info, err := tree.Lstat(p)
		switch {
		case err != nil:
		case info.Mode()&fs.ModeSymlink != 0:
			return fmt.Errorf("%s is a link; Ligare does not write through links, change the file it points to by hand", p)
		case p != f.Name && !info.IsDir():
			return fmt.Errorf("%s is not a folder", p)
		case p == f.Name && info.Mode().IsRegular() && info.Mode().Perm()&0o200 == 0:
			return fmt.Errorf("%s may not be written to; make it writable or check it out for editing, then run the command again", p)
		}
	}
	now, err := tree.ReadFile(f.Name)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		if f.Was != nil {
			return fmt.Errorf("%s %w", f.Name, ErrChanged)
		}
	case err != nil:
		return err
	case f.Was == nil || !bytes.Equal(now, f.Was):
		return fmt.Errorf("%s %w", f.Name, ErrChanged)
	}
	dir := path.Dir(f.Name)
	for dir != "." {
		if _, err := tree.Lstat(dir); err == nil {
			break
		}
		dir = path.Dir(dir)
	}
	probe := path.Join(dir, ".ligare-probe")
	if err := tree.Write(probe, nil, 0o600); err != nil {
		return fmt.Errorf("no permission to write in %s: %w; nothing was written", filepath.Join(d.Root, dir), unwrapped(err))
	}
	return tree.Remove(probe)
}

func unwrapped(err error) error {
	var p *fs.PathError
	if errors.As(err, &p) {
		return p.Err
	}
	return err
}

// begin writes the journal: complete or not at all, and on the disk before anything of the tree is touched.
func (d Disk) begin(state folder, files []File) error {
	text, err := json.Marshal(journal{Root: d.Root, Files: files})
	if err != nil {
		return err
	}
	tmp := d.journalName() + ".new"
	if err := state.Write(tmp, text, 0o600); err != nil {
		return errors.Join(fmt.Errorf("the journal cannot be written: %w; nothing was changed", err), ignoreMissing(state.Remove(tmp)))
	}
	if err := state.Rename(tmp, d.journalName()); err != nil {
		return err
	}
	return state.Sync(".")
}

// end takes the journal away: the run is done.
func (d Disk) end(state folder) error {
	if err := ignoreMissing(state.Remove(d.journalName())); err != nil {
		return err
	}
	return state.Sync(".")
}

func ignoreMissing(err error) error {
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}

// beside is the name under which a file's new content waits.
func beside(name string) string { return path.Join(path.Dir(name), ".ligare-"+path.Base(name)) }

// write makes every file what it should be, keeping modes: the new contents first, so that a full disk is met before
// any file changes.
func (d Disk) write(tree folder, files []File) error {
	for _, f := range files {
		if f.New == nil {
			continue
		}
		mode := fs.FileMode(0o644)
		if info, err := tree.Lstat(f.Name); err == nil {
			mode = info.Mode().Perm()
		}
		if dir := path.Dir(f.Name); dir != "." {
			if err := tree.MkdirAll(dir); err != nil {
				return fmt.Errorf("%s: %w", f.Name, err)
			}
		}
		if err := tree.Write(beside(f.Name), f.New, mode); err != nil {
			return fmt.Errorf("%s: %w", f.Name, err)
		}
	}
	touched := map[string]bool{}
	for _, f := range files {
		if err := d.settle(tree, f, touched); err != nil {
			return fmt.Errorf("%s: %w", f.Name, err)
		}
	}
	for dir := range touched {
		if err := ignoreMissing(tree.Sync(dir)); err != nil {
			return fmt.Errorf("%s: %w", dir, err)
		}
	}
	return nil
}

// settle puts one file's new content into its place, or removes the file and the folders that are empty then.
func (d Disk) settle(tree folder, f File, touched map[string]bool) error {
	for dir := path.Dir(f.Name); ; dir = path.Dir(dir) { // a folder may be new: its name stands in the one above
		touched[dir] = true
		if dir == "." {
			break
		}
	}
	if f.New != nil {
		return tree.Rename(beside(f.Name), f.Name)
	}
	if err := ignoreMissing(tree.Remove(f.Name)); err != nil {
		return err
	}
	for dir := path.Dir(f.Name); dir != "."; dir = path.Dir(dir) {
		if tree.Remove(dir) != nil {
			break
		}
	}
	return nil
}

// back restores every file that was already written, and takes away what waits beside others.
func (d Disk) back(tree folder, files []File) error {
	var undo []File
	var errs []error
	for _, f := range files {
		errs = append(errs, ignoreMissing(tree.Remove(beside(f.Name))))
		now, err := tree.ReadFile(f.Name)
		there := err == nil
		if there == (f.Was != nil) && bytes.Equal(now, f.Was) {
			if f.Was == nil { // folders that were made for it
				for dir := path.Dir(f.Name); dir != "."; dir = path.Dir(dir) {
					if tree.Remove(dir) != nil {
						break
					}
				}
			}
			continue
		}
		undo = append(undo, File{Name: f.Name, New: f.Was})
	}
	return errors.Join(append(errs, d.write(tree, undo))...)
}

// Recover finishes a run that was stopped: files not yet written are written, unless somebody changed one of them since,
// in which case nothing is touched. It reports what it did, "" for nothing to do.
func (d Disk) Recover() (say string, err error) {
	if d.folders == nil {
		if _, err := os.Lstat(d.journal()); errors.Is(err, fs.ErrNotExist) {
			return "", nil
		}
	}
	tree, state, err := d.open()
	if err != nil {
		return "", err
	}
	defer func() { err = errors.Join(err, tree.Close(), state.Close()) }()
	text, err := state.ReadFile(d.journalName())
	if errors.Is(err, fs.ErrNotExist) {
		return "", nil
	}
	if err != nil {
		return "", err
	}
	var j journal
	if err := json.Unmarshal(text, &j); err != nil || j.Root != d.Root {
		return "", fmt.Errorf("the journal %s cannot be read (%v); look at the tree with version control, then delete the journal", d.journal(), err)
	}
	var touched []string
	var open []File
	for _, f := range j.Files {
		now, err := tree.ReadFile(f.Name)
		there := err == nil
		isNew := there == (f.New != nil) && bytes.Equal(now, f.New)
		isOld := there == (f.Was != nil) && bytes.Equal(now, f.Was)
		switch {
		case !isNew && !isOld:
			touched = append(touched, f.Name)
		case !isNew:
			open = append(open, f)
		}
	}
	if len(touched) > 0 {
		return "", fmt.Errorf("an earlier run was stopped half-way and %s changed since; restore these files with version control and delete %s", strings.Join(touched, ", "), d.journal())
	}
	for _, f := range j.Files { // what waited beside a file that is done
		if err := ignoreMissing(tree.Remove(beside(f.Name))); err != nil {
			return "", err
		}
	}
	if err := d.write(tree, open); err != nil {
		return "", err
	}
	return fmt.Sprintf("finished an earlier run that was stopped: %d files", len(j.Files)), d.end(state)
}

// Private writes a new file that only its owner may read: a keystore, a file of secrets. One that is there is never
// replaced, and a run that is killed leaves nothing half-written under the name.
func Private(name string, content []byte) error {
	f, err := os.CreateTemp(filepath.Dir(name), ".ligare-*")
	if err != nil {
		return err
	}
	temp := f.Name()
	_, err = f.Write(content)
	err = errors.Join(err, f.Chmod(0o600), f.Sync(), f.Close())
	if err == nil {
		err = os.Link(temp, name) // fails when the name is taken
	}
	return errors.Join(err, os.Remove(temp))
}

// Secret exchanges a file that only its owner may read, or makes it: all or nothing, and never through a link. was is what
// the caller read; a file that changed meanwhile is left alone.
func Secret(name string, was, content []byte) error {
	info, err := os.Lstat(name)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return Private(name, content)
	case err != nil:
		return err
	case !info.Mode().IsRegular():
		return fmt.Errorf("%s is not an ordinary file; nothing was written", name)
	}
	if now, err := os.ReadFile(name); err != nil || !bytes.Equal(now, was) {
		return errors.Join(err, fmt.Errorf("%s changed meanwhile; nothing was written", name))
	}
	f, err := os.CreateTemp(filepath.Dir(name), ".ligare-*")
	if err != nil {
		return err
	}
	_, err = f.Write(content)
	if err = errors.Join(err, f.Chmod(0o600), f.Sync(), f.Close()); err == nil {
		err = os.Rename(f.Name(), name)
	}
	if err != nil {
		return errors.Join(err, os.Remove(f.Name()))
	}
	return nil
}
