// Package demo is the demo studio's data: the source trees, the mistakes that are planted, and the walk-through's words.
package demo

import (
	"bytes"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"go.yaml.in/yaml/v3"
)

//go:embed all:studio walk.yaml
var files embed.FS

// Walk is the walk-through as data.
type Walk struct {
	Apps      []App      `yaml:"apps"`
	Trees     []string   `yaml:"trees"`     // of the studio's other apps, copied beside Hivelog's
	KeyStores [][]string `yaml:"keystores"` // arguments of ligare signer make
	Steps     []Step     `yaml:"steps"`
	Mistakes  []Mistake  `yaml:"mistakes"`
	After     []Step     `yaml:"after"`
	Others    []Step     `yaml:"others"` // the studio's other apps, and services of other kinds
}

// App is an app that stands in the records without a tree.
type App struct {
	Name         string              `yaml:"name"`
	Title        string              `yaml:"title"`
	Environments []string            `yaml:"environments"`
	Identities   []map[string]string `yaml:"identities"`
}

// Step is one command with what it shows.
type Step struct {
	Say  string   `yaml:"say"`
	Run  []string `yaml:"run"`  // arguments of ligare
	Exit int      `yaml:"exit"` // the status it ends with
	Git  string   `yaml:"git"`  // a commit made afterwards
}

// Mistake is one that people make: how it is planted, and what must be said of it.
type Mistake struct {
	Say  string `yaml:"say"`
	Rule string `yaml:"rule"`
	File string `yaml:"file"` // where the finding points
	Line bool   `yaml:"line"` // whether it points at a line

	Plant `yaml:",inline"`
}

// Plant is one change of a file.
type Plant struct {
	In   string `yaml:"in"`
	From string `yaml:"from"` // text that is replaced
	To   string `yaml:"to"`
	Drop string `yaml:"drop"` // lines holding this are dropped
	Move string `yaml:"move"` // the file is moved here
}

// Load reads the walk-through.
func Load() (*Walk, error) {
	src, err := files.ReadFile("walk.yaml")
	if err != nil {
		return nil, err
	}
	w := &Walk{}
	d := yaml.NewDecoder(bytes.NewReader(src))
	d.KnownFields(true)
	return w, d.Decode(w)
}

// Copy writes an app's tree into a folder.
func Copy(app, to string) error {
	sub, err := fs.Sub(files, "studio/"+app)
	if err != nil {
		return err
	}
	return os.CopyFS(to, sub)
}

// Do plants a change in a tree and gives what takes it back.
func (p Plant) Do(root string) (undo func() error, err error) {
	name := filepath.Join(root, filepath.FromSlash(p.In))
	was, err := os.ReadFile(name)
	if err != nil {
		return nil, err
	}
	if p.Move != "" {
		to := filepath.Join(root, filepath.FromSlash(p.Move))
		if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
			return nil, err
		}
		return func() error { return os.Rename(to, name) }, os.Rename(name, to)
	}
	now := bytes.Replace(was, []byte(p.From), []byte(p.To), 1)
	if p.Drop != "" {
		now = nil
		for _, l := range bytes.SplitAfter(was, []byte("\n")) {
			if !bytes.Contains(l, []byte(p.Drop)) {
				now = append(now, l...)
			}
		}
	}
	if bytes.Equal(now, was) {
		return nil, errors.New(fmt.Sprint("nothing to plant in ", p.In))
	}
	return func() error { return os.WriteFile(name, was, 0o644) }, os.WriteFile(name, now, 0o644)
}
