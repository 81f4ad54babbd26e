// Package vcs says what version control knows of files, by asking the real git. A folder without a repository, or a
// machine without git, is no error: the answer is then that nothing is known.
package vcs

import (
	"archive/zip"
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
)

// ErrNone is returned where there is no repository, or no git.
var ErrNone = errors.New("the tree is not in a git repository")

// State is what version control says of one file.
type State struct {
	Tracked   bool   `json:"tracked"`             // in the index now
	Ignored   bool   `json:"ignored"`             // an ignore rule fits it; a tracked file stays tracked all the same
	IgnoredBy string `json:"ignoredBy,omitempty"` // file:line: pattern
	Committed bool   `json:"everCommitted"`       // in any commit of any branch
}

// Repo is a repository seen from a folder inside it.
type Repo struct {
	dir     string
	Shallow bool // the history is cut short: what was committed before is not known
}

// Open finds the repository that holds a folder.
func Open(ctx context.Context, dir string) (*Repo, error) {
	if _, err := exec.LookPath("git"); err != nil {
		return nil, fmt.Errorf("%w: git is not installed", ErrNone)
	}
	r := &Repo{dir: dir}
	out, err := r.git(ctx, nil, "rev-parse", "--is-inside-work-tree", "--is-shallow-repository")
	if err != nil {
		var x *exec.ExitError
		if errors.As(err, &x) && !strings.Contains(err.Error(), "not a git repository") {
			return nil, err
		}
		return nil, ErrNone
	}
	lines := strings.Fields(string(out))
	if len(lines) < 2 || lines[0] != "true" {
		return nil, ErrNone
	}
	r.Shallow = lines[1] == "true"
	return r, nil
}

// command prepares one command. Nothing a repository's configuration names is started, and no lock is taken.
func (r *Repo) command(ctx context.Context, args ...string) *exec.Cmd {
	cmd := exec.CommandContext(ctx, "git", append([]string{"-C", r.dir, "-c", "core.fsmonitor=false", "-c", "core.quotePath=false"}, args...)...)
	for _, e := range os.Environ() {
		if name, _, _ := strings.Cut(e, "="); name != "GIT_DIR" && name != "GIT_WORK_TREE" && name != "GIT_INDEX_FILE" {
			cmd.Env = append(cmd.Env, e)
		}
	}
	cmd.Env = append(cmd.Env, "LC_ALL=C", "GIT_OPTIONAL_LOCKS=0", "GIT_TERMINAL_PROMPT=0")
	if args[0] != "check-ignore" { // which takes names only
		cmd.Env = append(cmd.Env, "GIT_LITERAL_PATHSPECS=1")
	}
	return cmd
}

// git runs one command.
func (r *Repo) git(ctx context.Context, stdin []byte, args ...string) ([]byte, error) {
	cmd := r.command(ctx, args...)
	cmd.Stdin = bytes.NewReader(stdin)
	var out, bad bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &bad
	if err := cmd.Run(); err != nil {
		return out.Bytes(), fmt.Errorf("git %s: %w: %s", args[0], err, strings.TrimSpace(bad.String()))
	}
	return out.Bytes(), nil
}

// At gives the folder as it was in a commit, and names the files that the commit added or changed.
func (r *Repo) At(ctx context.Context, commit string) (fs.FS, error) {
	if strings.HasPrefix(commit, "-") {
		return nil, fmt.Errorf("%q does not name a commit", commit)
	}
	out, err := r.git(ctx, nil, "archive", "--format=zip", commit, ".")
	if err != nil {
		return nil, err
	}
	z, err := zip.NewReader(bytes.NewReader(out), int64(len(out)))
	if err != nil { // an empty commit gives an empty archive
		return nil, fmt.Errorf("reading commit %s: %w", commit, err)
	}
	return z, nil
}

// Touched names the files below the folder that differ between two commits, as they are called in the later one.
func (r *Repo) Touched(ctx context.Context, from, to string) ([]string, error) {
	if strings.HasPrefix(from, "-") || strings.HasPrefix(to, "-") {
		return nil, fmt.Errorf("%q and %q do not name commits", from, to)
	}
	out, err := r.git(ctx, nil, "diff", "--name-only", "--no-renames", "--diff-filter=AM", "--relative", "-z", from, to)
	if err != nil {
		return nil, err
	}
	return strings.FieldsFunc(string(out), func(c rune) bool { return c == 0 }), nil
}

// States asks about files, named by slash-separated paths relative to the folder. They need not be there.
func (r *Repo) States(ctx context.Context, files []string) (map[string]State, error) {
	out := map[string]State{}
	for _, f := range files {
		out[f] = State{}
	}
	if len(files) == 0 {
		return out, nil
	}
	set := func(name string, change func(*State)) {
		name = filepath.ToSlash(name)
		if s, ok := out[name]; ok {
			change(&s)
			out[name] = s
		}
	}
	tracked, err := r.git(ctx, nil, append([]string{"ls-files", "-z", "--"}, files...)...)
	if err != nil {
		return nil, err
	}
	for _, name := range strings.Split(string(tracked), "\x00") {
		set(name, func(s *State) { s.Tracked = true })
	}
	rules, err := r.git(ctx, []byte(strings.Join(files, "\x00")+"\x00"), "check-ignore", "-z", "-v", "--no-index", "--stdin")
	var x *exec.ExitError
	if err != nil && !(errors.As(err, &x) && x.ExitCode() == 1) { // 1: none is ignored
		return nil, err
	}
	fields := strings.Split(string(rules), "\x00")
	for i := 0; i+3 < len(fields); i += 4 {
		pattern := fields[i+2]
		set(fields[i+3], func(s *State) {
			s.Ignored = !strings.HasPrefix(pattern, "!")
			s.IgnoredBy = fields[i] + ":" + fields[i+1] + ": " + pattern
		})
	}
	prefix, err := r.git(ctx, nil, "rev-parse", "--show-prefix")
	if err != nil {
		return nil, err
	}
	top := strings.TrimSpace(string(prefix))
	history, err := r.git(ctx, nil, append([]string{"log", "--all", "--format=", "--name-only", "-z", "--diff-filter=AM", "--"}, files...)...)
	if err != nil && !strings.Contains(err.Error(), "does not have any commits") {
		return nil, err
	}
	for _, name := range strings.Split(string(history), "\x00") {
		if rel, ok := strings.CutPrefix(strings.TrimLeft(name, "\n"), top); ok {
			set(rel, func(s *State) { s.Committed = true })
		}
	}
	return out, nil
}

// Object is one object of the history: a file's content, a commit or a tag with its message.
type Object struct {
	ID   string
	Kind string // blob, commit, tag
	Path string // that a blob was found under, the first of several
	Size int64
}

// History gives every object that any branch, tag or stash reaches, each once, with its content. It stops at the first
// error of visit, or when ctx ends. Content that is not read is passed over.
func (r *Repo) History(ctx context.Context, visit func(Object, io.Reader) error) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	list := r.command(ctx, "rev-list", "--objects", "--all", "--reflog")
	cat := r.command(ctx, "cat-file", "--batch=%(objectname) %(objecttype) %(objectsize) %(rest)", "--buffer")
	names, err := list.StdoutPipe()
	if err != nil {
		return err
	}
	cat.Stdin = names
	contents, err := cat.StdoutPipe()
	if err != nil {
		return err
	}
	var bad bytes.Buffer
	list.Stderr, cat.Stderr = &bad, &bad
	if err := list.Start(); err != nil {
		return err
	}
	if err := cat.Start(); err != nil {
		return err
	}
	visited := objects(bufio.NewReaderSize(contents, 1<<20), visit)
	if visited != nil {
		cancel()
	}
	err = errors.Join(cat.Wait(), list.Wait())
	switch {
	case visited != nil:
		return visited
	case err != nil:
		return fmt.Errorf("git: %w: %s", err, strings.TrimSpace(bad.String()))
	}
	return nil
}

// objects reads what git cat-file --batch prints.
func objects(in *bufio.Reader, visit func(Object, io.Reader) error) error {
	for {
		line, err := in.ReadString('\n')
		if err == io.EOF && line == "" {
			return nil
		} else if err != nil {
			return err
		}
		parts := strings.SplitN(strings.TrimSuffix(line, "\n"), " ", 4)
		if len(parts) == 2 && parts[1] == "missing" {
			continue
		}
		if len(parts) < 3 {
			return fmt.Errorf("git cat-file printed %q", line)
		}
		o := Object{ID: parts[0], Kind: parts[1]}
		if len(parts) == 4 {
			o.Path = parts[3]
		}
		if o.Size, err = strconv.ParseInt(parts[2], 10, 64); err != nil {
			return fmt.Errorf("git cat-file printed %q", line)
		}
		content := &io.LimitedReader{R: in, N: o.Size}
		if o.Kind != "tree" {
			if err := visit(o, content); err != nil {
				return err
			}
		}
		if _, err := io.CopyN(io.Discard, in, content.N+1); err != nil { // and the line end
			return err
		}
	}
}

// Commit is where something came into the history.
type Commit struct{ ID, Date, Author string }

// Brought gives the first commit that has an object.
func (r *Repo) Brought(ctx context.Context, o Object) (Commit, error) {
	args := []string{"log", "--all", "--reflog", "--format=%h%x00%ad%x00%an", "--date=short"}
	if o.Kind == "blob" {
		args = append(args, "--find-object="+o.ID)
	} else {
		args = []string{"show", "--no-patch", "--format=%h%x00%ad%x00%an", "--date=short", o.ID + "^{commit}"}
	}
	out, err := r.git(ctx, nil, args...)
	if err != nil {
		return Commit{}, err
	}
	lines := strings.Split(strings.TrimSpace(string(out)), "\n")
	parts := strings.Split(lines[len(lines)-1], "\x00")
	if len(parts) != 3 {
		return Commit{ID: o.ID}, nil
	}
	return Commit{parts[0], parts[1], parts[2]}, nil
}

// Head gives the commit that the tree stands on, with the branch's name; "" for none.
func (r *Repo) Head(ctx context.Context) (commit, branch string, err error) {
	out, err := r.git(ctx, nil, "rev-parse", "--verify", "--quiet", "HEAD")
	if err != nil {
		return "", "", nil // no commit yet
	}
	name, err := r.git(ctx, nil, "rev-parse", "--abbrev-ref", "HEAD")
	if err != nil {
		return "", "", err
	}
	if branch = strings.TrimSpace(string(name)); branch == "HEAD" {
		branch = ""
	}
	return strings.TrimSpace(string(out)), branch, nil
}
