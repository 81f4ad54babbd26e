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
}

func (d Disk) journal() string {
	sum := sha256.Sum256([]byte(d.Root))
	return filepath.Join(d.State, "journal-"+hex.EncodeToString(sum[:8])+".json")
}

// ErrChanged is returned when a file is not as it was read.
var ErrChanged = errors.New("was changed since it was read; nothing was written, run the command again")

// Apply writes the files. Everything is checked first; then the journal; then the files, one rename each.
func (d Disk) Apply(files []File) error {
	if len(files) == 0 {
		return nil
	}
	root, err := os.OpenRoot(d.Root)
	if err != nil {
		return fmt.Errorf("opening %s: %w", d.Root, err)
	}
	defer root.Close()
	for _, f := range files {
		if err := d.ready(root, f); err != nil {
			return err
		}
	}
	if err := d.begin(files); err != nil {
		return err
	}
	for _, f := range files {
		if err := write(root, f); err != nil {
			if back := d.back(root, files); back != nil {
				return fmt.Errorf("%s: %w; undoing also failed: %w; run any ligare command to finish", f.Name, err, back)
			}
			return fmt.Errorf("%s: %w; nothing was changed", f.Name, err)
		}
	}
	return os.Remove(d.journal())
}

// ready checks that a file can be written and is as it was read.
func (d Disk) ready(root *os.Root, f File) error {
	if !fs.ValidPath(f.Name) {
		return fmt.Errorf("%s lies outside the tree", f.Name)
	}
	for p := f.Name; p != "."; p = path.Dir(p) {
		info, err := root.Lstat(filepath.FromSlash(p))
		if err == nil && info.Mode()&fs.ModeSymlink != 0 {
			return fmt.Errorf("%s is a link; Ligare does not write through links, change the file it points to by hand", p)
		}
	}
	now, err := root.ReadFile(filepath.FromSlash(f.Name))
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
	for {
		if info, err := root.Stat(filepath.FromSlash(dir)); err == nil {
			if !info.IsDir() {
				return fmt.Errorf("%s is not a folder", dir)
			}
			break
		}
		dir = path.Dir(dir)
	}
	probe, err := os.CreateTemp(filepath.Join(d.Root, filepath.FromSlash(dir)), ".ligare-*")
	if err != nil {
		return fmt.Errorf("no permission to write in %s: %w; nothing was written", filepath.Join(d.Root, dir), errors.Unwrap(err))
	}
	return errors.Join(probe.Close(), os.Remove(probe.Name()))
}

// begin writes the journal: complete or not at all, because it is renamed into place.
func (d Disk) begin(files []File) error {
	text, err := json.Marshal(journal{Root: d.Root, Files: files})
	if err != nil {
		return err
	}
	if err := os.MkdirAll(d.State, 0o700); err != nil {
		return err
	}
	tmp := d.journal() + ".new"
	if err := synced(tmp, text, 0o600); err != nil {
		return err
	}
	return os.Rename(tmp, d.journal())
}

func synced(name string, content []byte, mode fs.FileMode) error {
	f, err := os.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, mode)
	if err != nil {
		return err
	}
	_, err = f.Write(content)
	return errors.Join(err, f.Sync(), f.Close())
}

// write makes one file what it should be, keeping its mode.
func write(root *os.Root, f File) error {
	name := filepath.FromSlash(f.Name)
	if f.New == nil {
		if err := root.Remove(name); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		for dir := path.Dir(f.Name); dir != "."; dir = path.Dir(dir) { // folders that are empty now
			if root.Remove(filepath.FromSlash(dir)) != nil {
				break
			}
		}
		return nil
	}
	mode := fs.FileMode(0o644)
	if info, err := root.Stat(name); err == nil {
		mode = info.Mode().Perm()
	}
	if dir := path.Dir(f.Name); dir != "." {
		if err := root.MkdirAll(filepath.FromSlash(dir), 0o755); err != nil {
			return err
		}
	}
	tmp := filepath.FromSlash(path.Join(path.Dir(f.Name), ".ligare-"+path.Base(f.Name)))
	out, err := root.OpenFile(tmp, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, mode)
	if err != nil {
		return err
	}
	_, err = out.Write(f.New)
	if err = errors.Join(err, out.Chmod(mode), out.Sync(), out.Close()); err != nil {
		return errors.Join(err, root.Remove(tmp))
	}
	return root.Rename(tmp, name)
}

// back restores every file that was already written.
func (d Disk) back(root *os.Root, files []File) error {
	var errs []error
	for _, f := range files {
		now, err := root.ReadFile(filepath.FromSlash(f.Name))
		there := err == nil
		if there == (f.Was != nil) && bytes.Equal(now, f.Was) {
			continue
		}
		errs = append(errs, write(root, File{Name: f.Name, New: f.Was}))
	}
	if err := errors.Join(errs...); err != nil {
		return err
	}
	return os.Remove(d.journal())
}

// Recover finishes a run that was killed: files not yet written are written, unless somebody changed one of them since,
// in which case everything that was written is taken back. It reports what it did, "" for nothing to do.
func (d Disk) Recover() (string, error) {
	text, err := os.ReadFile(d.journal())
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
	root, err := os.OpenRoot(d.Root)
	if err != nil {
		return "", err
	}
	defer root.Close()
	var touched []string
	for _, f := range j.Files {
		now, err := root.ReadFile(filepath.FromSlash(f.Name))
		there := err == nil
		isNew := there == (f.New != nil) && bytes.Equal(now, f.New)
		isOld := there == (f.Was != nil) && bytes.Equal(now, f.Was)
		if !isNew && !isOld {
			touched = append(touched, f.Name)
		}
	}
	if len(touched) > 0 {
		return "", fmt.Errorf("an earlier run was stopped half-way and %s changed since; restore these files with version control and delete %s", strings.Join(touched, ", "), d.journal())
	}
	for _, f := range j.Files {
		if err := write(root, f); err != nil {
			return "", err
		}
	}
	return fmt.Sprintf("finished an earlier run that was stopped: %d files", len(j.Files)), os.Remove(d.journal())
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
