// Package tree is a source tree in memory: what stands on the disk, read through io/fs, under what edits have made of
// it so far. Nothing here writes to a disk; package edit does.
package tree

import (
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"path"
	"sort"
	"strings"
)

// Tree reads files and folds edits over them. Paths are slash-separated and relative to the root.
type Tree struct {
	base  fs.FS
	over  map[string][]byte // nil value: removed
	edits int               // made so far

	walked []string // the files that Walk visits; nil when that is to be found out
	read   map[string][]byte
	shut   map[string]string // folders that cannot be read, with the reason
}

// Blocked is a folder that could not be read.
type Blocked struct{ Name, Why string }

// Blocked gives the folders that were asked for and could not be read, sorted.
func (t *Tree) Blocked() []Blocked {
	var out []Blocked
	for name, why := range t.shut {
		out = append(out, Blocked{name, why})
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Name < out[j].Name })
	return out
}

// MaxFile bounds the files that are read as text; larger ones are not app settings. Project files of many thousand
// sources grow larger than any other.
const (
	MaxFile    = 4 << 20
	MaxProject = 24 << 20
)

// limit gives the bound for a file.
func limit(name string) int64 {
	if path.Base(name) == "project.pbxproj" {
		return MaxProject
	}
	return MaxFile
}

// New reads from a file system.
func New(base fs.FS) *Tree {
	return &Tree{base: base, over: map[string][]byte{}, read: map[string][]byte{}, shut: map[string]string{}}
}

// Read gives a file as the edits left it.
func (t *Tree) Read(name string) ([]byte, error) {
	name = path.Clean(name)
	if b, ok := t.over[name]; ok {
		if b == nil {
			return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrNotExist}
		}
		return b, nil
	}
	return t.Original(name)
}

// Original gives a file as it was on the disk.
func (t *Tree) Original(name string) ([]byte, error) {
	name = path.Clean(name)
	if b, ok := t.read[name]; ok {
		return b, nil
	}
	if !fs.ValidPath(name) {
		return nil, &fs.PathError{Op: "open", Path: name, Err: errors.New("lies outside the tree")}
	}
	info, err := fs.Stat(t.base, name)
	if err != nil {
		return nil, err
	}
	if info.IsDir() {
		return nil, &fs.PathError{Op: "open", Path: name, Err: errors.New("is a folder")}
	}
	if most := limit(name); info.Size() > most {
		return nil, &fs.PathError{Op: "open", Path: name, Err: fmt.Errorf("is larger than %d MB", most>>20)}
	}
	b, err := fs.ReadFile(t.base, name)
	if err == nil {
		t.read[name] = b
	}
	return b, err
}

// Has reports whether a file stands in the tree.
func (t *Tree) Has(name string) bool {
	name = path.Clean(name)
	if b, ok := t.over[name]; ok {
		return b != nil
	}
	if !fs.ValidPath(name) {
		return false
	}
	info, err := fs.Stat(t.base, name)
	return err == nil && !info.IsDir()
}

// IsDir reports whether a folder stands on the disk.
func (t *Tree) IsDir(name string) bool {
	name = path.Clean(name)
	if !fs.ValidPath(name) {
		return false
	}
	info, err := fs.Stat(t.base, name)
	return err == nil && info.IsDir()
}

// Small reports whether a file stands in the tree and is no larger than a number of bytes.
func (t *Tree) Small(name string, limit int64) bool {
	name = path.Clean(name)
	if b, ok := t.over[name]; ok {
		return b != nil && int64(len(b)) <= limit
	}
	if !fs.ValidPath(name) {
		return false
	}
	info, err := fs.Stat(t.base, name)
	return err == nil && !info.IsDir() && info.Size() <= limit
}

// Put sets a file's content.
func (t *Tree) Put(name string, content []byte) {
	if content == nil {
		content = []byte{}
	}
	if !t.Has(name) {
		t.walked = nil
	}
	t.over[path.Clean(name)] = content
	t.edits++
}

// Keep remembers the edits made so far; calling what it gives back takes everything since away.
func (t *Tree) Keep() (restore func()) {
	kept := maps.Clone(t.over)
	return func() {
		t.over = kept
		t.edits++
		t.walked = nil
	}
}

// Fresh gives the tree without its edits; what was read of the disk is kept.
func (t *Tree) Fresh() *Tree {
	return &Tree{base: t.base, over: map[string][]byte{}, read: t.read, shut: t.shut}
}

// Edits counts the edits made so far: as long as it stays, so does everything that was read.
func (t *Tree) Edits() int { return t.edits }

// Remove takes a file away.
func (t *Tree) Remove(name string) {
	t.over[path.Clean(name)] = nil
	t.edits++
	t.walked = nil
}

// Changed gives the names of files that differ from the disk, sorted.
func (t *Tree) Changed() []string {
	var out []string
	for name, now := range t.over {
		was, err := t.Original(name)
		switch {
		case now == nil && err == nil, now != nil && err != nil, now != nil && string(was) != string(now):
			out = append(out, name)
		}
	}
	sort.Strings(out)
	return out
}

// Dir gives the names in a folder (folders with a trailing slash), sorted; a folder that is not there has none.
func (t *Tree) Dir(dir string) []string {
	dir = path.Clean(dir)
	names := map[string]bool{}
	if fs.ValidPath(dir) {
		entries, err := fs.ReadDir(t.base, dir)
		if err != nil {
			if info, stat := fs.Stat(t.base, dir); stat == nil && info.IsDir() {
				t.shut[dir] = err.Error()
			}
		} else {
			for _, e := range entries {
				if e.IsDir() {
					names[e.Name()+"/"] = true
				} else if b, ok := t.over[path.Join(dir, e.Name())]; !ok || b != nil {
					names[e.Name()] = true
				}
			}
		}
	}
	for name, b := range t.over {
		if b == nil {
			continue
		}
		rel := name
		if dir != "." {
			var ok bool
			if rel, ok = strings.CutPrefix(name, dir+"/"); !ok {
				continue
			}
		}
		if first, _, deeper := strings.Cut(rel, "/"); deeper {
			names[first+"/"] = true
		} else {
			names[rel] = true
		}
	}
	out := make([]string, 0, len(names))
	for n := range names {
		out = append(out, n)
	}
	sort.Strings(out)
	return out
}

// foreign folders hold what tools brought or built: they are not the app's source. The second kind has names that
// source packages also bear, and counts only outside a src folder.
var (
	foreign = map[string]bool{"node_modules": true, "Pods": true, "DerivedData": true, "Carthage": true, "bower_components": true}
	output  = map[string]bool{"build": true, "vendor": true, "dist": true, "target": true, "obj": true}
)

var cache = map[string]bool{"Library": true, "Temp": true, "Logs": true, "Builds": true}

func contains(sorted []string, name string) bool {
	i := sort.SearchStrings(sorted, name)
	return i < len(sorted) && sorted[i] == name
}

// Walk visits the files of the app's own source: not hidden folders, not folders of dependencies or builds.
// What it visits is found out once, as long as no file comes or goes.
func (t *Tree) Walk(visit func(name string)) {
	if t.walked == nil {
		t.walked = []string{}
		t.walk(func(name string) { t.walked = append(t.walked, name) })
	}
	for _, name := range t.walked {
		visit(name)
	}
}

func (t *Tree) walk(visit func(name string)) {
	var walk func(dir string, depth int, src bool)
	walk = func(dir string, depth int, src bool) {
		names := t.Dir(dir)
		engine := contains(names, "ProjectSettings/")
		for _, n := range names {
			sub, folder := strings.CutSuffix(n, "/")
			full := path.Join(dir, sub)
			if !folder {
				visit(full)
			} else if engine && cache[sub] { // what an engine imports and builds beside the project
				continue
			} else if depth < 40 && !foreign[sub] && (src || !output[sub]) && !strings.HasPrefix(sub, ".") {
				walk(full, depth+1, src || sub == "src")
			}
		}
	}
	walk(".", 0, false)
}
