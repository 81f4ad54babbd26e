package sheet

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"sort"

	"go.yaml.in/yaml/v3"

	"ligare/core/ident"
)

// Named is a named placement: data above one of the core's generic ensures.
type Named struct {
	Name     string            `yaml:"-" json:"name"`
	Title    string            `yaml:"title" json:"title"`
	Platform ident.Platform    `yaml:"platform" json:"platform,omitempty"`
	Ensure   string            `yaml:"ensure" json:"ensure,omitempty"`
	Either   []string          `yaml:"either" json:"either,omitempty"` // the first that fits the tree
	Needs    []string          `yaml:"needs" json:"needs"`
	Settings map[string]string `yaml:"settings" json:"settings,omitempty"`
}

// Library is the named placements by name.
type Library map[string]*Named

// LoadLibrary reads library/*.yaml; a later file may add names but not redefine one.
func LoadLibrary(from fs.FS) (Library, error) {
	names, err := fs.Glob(from, "library/*.yaml")
	if err != nil {
		return nil, err
	}
	sort.Strings(names)
	lib := Library{}
	for _, n := range names {
		src, err := fs.ReadFile(from, n)
		if err != nil {
			return nil, err
		}
		var f struct {
			Library    int               `yaml:"library"`
			Placements map[string]*Named `yaml:"placements"`
		}
		d := yaml.NewDecoder(bytes.NewReader(src))
		d.KnownFields(true)
		if err := d.Decode(&f); err != nil {
			return nil, fmt.Errorf("library %s: %w", n, err)
		}
		for name, p := range f.Placements {
			if lib[name] != nil {
				return nil, fmt.Errorf("library %s: %s is defined twice", n, name)
			}
			p.Name = name
			lib[name] = p
		}
	}
	for name, p := range lib {
		for _, e := range p.Either {
			if lib[e] == nil {
				return nil, fmt.Errorf("library: %s: there is no placement %q", name, e)
			}
		}
	}
	return lib, nil
}

// LoadBridges reads layouts/bridges.yaml: the packages by which a web tree speaks with the app that a hosted builder
// makes of it.
func LoadBridges(from fs.FS) ([]string, error) {
	src, err := fs.ReadFile(from, "layouts/bridges.yaml")
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	} else if err != nil {
		return nil, err
	}
	var f struct {
		Bridges []struct {
			Package string `yaml:"package"`
			Builder string `yaml:"builder"`
		} `yaml:"bridges"`
	}
	d := yaml.NewDecoder(bytes.NewReader(src))
	d.KnownFields(true)
	if err := d.Decode(&f); err != nil {
		return nil, fmt.Errorf("layouts/bridges.yaml: %w", err)
	}
	var out []string
	for _, b := range f.Bridges {
		out = append(out, b.Package)
	}
	return out, nil
}

// Check says whether a sheet uses the library rightly: names that exist, parameters that are given.
func (l Library) Check(s *Sheet) error {
	for _, p := range s.Placements {
		n := l[p.Place]
		if n == nil {
			return fmt.Errorf("sheet %s: placement %s: there is no named placement %q", s.Service, p.ID, p.Place)
		}
		if n.Platform != "" && n.Platform != p.Platform {
			return fmt.Errorf("sheet %s: placement %s: %s is for %s", s.Service, p.ID, p.Place, n.Platform)
		}
		for _, need := range n.Needs {
			if p.With[need] == "" {
				return fmt.Errorf("sheet %s: placement %s: %s needs %q", s.Service, p.ID, p.Place, need)
			}
		}
	}
	return nil
}
