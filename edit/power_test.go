package edit

import (
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"math/rand/v2"
	"path"
	"slices"
	"strings"
	"testing"
	"time"
)

// errStopped is the end of a process.
var errStopped = errors.New("stopped")

// inode is a file's content, as programs see it and as it stands on the disk.
type inode struct {
	now, synced []byte
	mode        fs.FileMode
	folder      bool
}

// memory is a disk that remembers what is only in its cache: contents that were not synced, and names of folders that were
// not synced. It stops after a number of calls.
type memory struct {
	names, synced map[string]*inode
	calls, limit  int
}

func newMemory(files map[string]string) *memory {
	m := &memory{names: map[string]*inode{}, limit: -1}
	for n, c := range files {
		for dir := path.Dir(n); dir != "."; dir = path.Dir(dir) {
			m.names[dir] = &inode{folder: true}
		}
		m.names[n] = &inode{now: []byte(c), synced: []byte(c), mode: 0o640}
	}
	m.synced = maps.Clone(m.names)
	return m
}

func (m *memory) step() error {
	if m.limit >= 0 && m.calls >= m.limit {
		return errStopped
	}
	m.calls++
	return nil
}

type info struct {
	name string
	*inode
}

func (i info) Name() string       { return i.name }
func (i info) Size() int64        { return int64(len(i.now)) }
func (i info) ModTime() time.Time { return time.Time{} }
func (i info) IsDir() bool        { return i.folder }
func (i info) Sys() any           { return nil }
func (i info) Mode() fs.FileMode {
	if i.folder {
		return fs.ModeDir | 0o755
	}
	return i.mode
}

func gone(name string) error { return &fs.PathError{Op: "open", Path: name, Err: fs.ErrNotExist} }

// part is one folder of the memory, as the writer sees it.
type part struct {
	*memory
	under string
}

func (p part) at(name string) string { return path.Join(p.under, name) }

func (p part) Lstat(name string) (fs.FileInfo, error) {
	if i := p.names[p.at(name)]; i != nil {
		return info{path.Base(name), i}, nil
	}
	return nil, gone(name)
}

func (p part) ReadFile(name string) ([]byte, error) {
	if i := p.names[p.at(name)]; i != nil && !i.folder {
		return i.now, nil
	}
	return nil, gone(name)
}

func (p part) MkdirAll(name string) error {
	if err := p.step(); err != nil {
		return err
	}
	for dir := p.at(name); dir != "."; dir = path.Dir(dir) {
		if p.names[dir] == nil {
			p.names[dir] = &inode{folder: true}
		}
	}
	return nil
}

func (p part) Write(name string, content []byte, mode fs.FileMode) error {
	if err := p.step(); err != nil { // stopped in the middle: half of it is there, nothing of it on the disk
		p.names[p.at(name)] = &inode{now: content[:len(content)/2], mode: mode}
		return err
	}
	p.names[p.at(name)] = &inode{now: content, synced: content, mode: mode}
	return nil
}

func (p part) Rename(from, to string) error {
	if err := p.step(); err != nil {
		return err
	}
	i := p.names[p.at(from)]
	if i == nil {
		return gone(from)
	}
	p.names[p.at(to)] = i
	delete(p.names, p.at(from))
	return nil
}

func (p part) Remove(name string) error {
	if err := p.step(); err != nil {
		return err
	}
	if p.names[p.at(name)] == nil {
		return gone(name)
	}
	for n := range p.names {
		if strings.HasPrefix(n, p.at(name)+"/") {
			return errors.New("the folder is not empty")
		}
	}
	delete(p.names, p.at(name))
	return nil
}

func (p part) Sync(dir string) error {
	if err := p.step(); err != nil {
		return err
	}
	for _, list := range []map[string]*inode{p.synced, p.names} {
		for n := range list {
			if path.Dir(n) == path.Clean(p.at(dir)) {
				delete(p.synced, n)
				if p.names[n] != nil {
					p.synced[n] = p.names[n]
				}
			}
		}
	}
	return nil
}

func (p part) Close() error { return nil }

// cut is a power cut: names and contents that were not synced are lost, or, where keep says so, happen to have been written.
func (m *memory) cut(keep func() bool) {
	out := map[string]*inode{}
	all := slices.Sorted(maps.Keys(m.synced))
	for n := range m.names {
		if m.synced[n] == nil {
			all = append(all, n)
		}
	}
	slices.Sort(all)
	for _, n := range all {
		i := m.synced[n]
		if keep() {
			i = m.names[n]
		}
		if i != nil {
			c := *i
			c.now = c.synced
			out[n] = &c
		}
	}
	for n := range out { // a name whose folder was lost is lost
		for dir := path.Dir(n); dir != "."; dir = path.Dir(dir) {
			if out[dir] == nil {
				delete(out, n)
			}
		}
	}
	m.names, m.synced = out, maps.Clone(out)
}

func (m *memory) tree() string {
	var b strings.Builder
	for _, n := range slices.Sorted(maps.Keys(m.names)) {
		if i := m.names[n]; strings.HasPrefix(n, "tree/") && !i.folder {
			fmt.Fprintf(&b, "%s %v %q\n", n, i.mode, i.now)
		}
	}
	return b.String()
}

// Stopped after any call, and then perhaps by a power cut, the next command ends with the old tree or the new one.
func TestStoppedAtAnyMoment(t *testing.T) {
	before := map[string]string{"tree/a": "1", "tree/app/b": "22", "tree/x/y/gone": "3", "state/other": ""}
	files := []File{{"a", []byte("1"), []byte("one")}, {"app/b", []byte("22"), []byte("two two")}, {"n/e/w", nil, []byte("new")}, {"x/y/gone", []byte("3"), nil}}
	start := func(limit int) (*memory, Disk) {
		m := newMemory(before)
		m.limit = limit
		return m, Disk{Root: "/tree", State: "/state", folders: func() (folder, folder, error) { return part{m, "tree"}, part{m, "state"}, nil }}
	}
	m, d := start(-1)
	old := m.tree()
	if err := d.Apply(files); err != nil {
		t.Fatal(err)
	}
	calls, done := m.calls, m.tree()
	if calls < 20 || done == old || strings.Contains(done, ".ligare-") {
		t.Fatalf("%d calls\n%s", calls, done)
	}
	r := rand.New(rand.NewPCG(1, 2))
	lost, kept := func() bool { return false }, func() bool { return true }
	cuts := map[string]func() bool{"killed": nil, "power cut": lost, "power cut, all written": kept}
	for i := range 20 {
		cuts[fmt.Sprint("power cut, some written ", i)] = func() bool { return r.IntN(2) == 0 }
	}
	for limit := range calls + 1 {
		for name, keep := range cuts {
			m, d := start(limit)
			err := d.Apply(files)
			if (limit < calls) != errors.Is(err, errStopped) {
				t.Fatalf("stopped after %d: %v", limit, err)
			}
			if keep != nil {
				m.cut(keep)
			}
			for second := range 3 { // the recovery may be stopped as well
				m.calls, m.limit = 0, -1
				if second < 2 {
					m.limit = r.IntN(12)
				}
				if _, err := d.Recover(); err != nil && !errors.Is(err, errStopped) {
					t.Fatalf("%s after %d calls: %v\n%s", name, limit, err, m.tree())
				}
				if keep != nil && second < 2 {
					m.cut(keep)
				}
			}
			got := m.tree()
			if got != old && got != done {
				var rest []string
				for _, l := range strings.Split(got, "\n") {
					if !strings.Contains(l, ".ligare-") {
						rest = append(rest, l)
					}
				}
				if clean := strings.Join(rest, "\n"); clean != old && clean != done {
					t.Fatalf("%s after %d of %d calls: neither the old tree nor the new one:\n%s", name, limit, calls, got)
				}
			}
		}
	}
}

// A full disk is met before any file changes.
func TestAFullDisk(t *testing.T) {
	m := newMemory(map[string]string{"tree/a": "1", "tree/b": "2", "state/x": ""})
	old := m.tree()
	full := fullAfter{part{m, "tree"}, new(int)}
	d := Disk{Root: "/tree", State: "/state", folders: func() (folder, folder, error) { return full, part{m, "state"}, nil }}
	err := d.Apply([]File{{"a", []byte("1"), []byte("one")}, {"new/b", nil, []byte("two")}})
	if err == nil || !strings.Contains(err.Error(), "nothing was changed") || !errors.Is(err, errFull) || m.tree() != old {
		t.Errorf("%v\n%s", err, m.tree())
	}
	if m.names["tree/new"] != nil {
		t.Error("a folder stayed behind")
	}
	if say, err := d.Recover(); say != "" || err != nil {
		t.Errorf("%q %v", say, err)
	}
}

var errFull = errors.New("no space left on device")

// fullAfter has room for one file only.
type fullAfter struct {
	part
	written *int
}

func (f fullAfter) Write(name string, content []byte, mode fs.FileMode) error {
	if len(content) > 0 {
		if *f.written++; *f.written > 1 {
			return errFull
		}
	}
	return f.part.Write(name, content, mode)
}
