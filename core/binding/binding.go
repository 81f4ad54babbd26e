// Package binding is ligare.yaml, the committed file at a tree's root: which app the tree builds, which identity and
// environment each of its variants is, which sheets it agreed to, and what happens to config files.
package binding

import (
	"bytes"
	"fmt"
	"sort"
	"strings"

	"go.yaml.in/yaml/v3"

	"ligare/core/ident"
	"ligare/core/survey"
)

// File is the name of the file at the tree's root.
const File = "ligare.yaml"

// Policies for config files.
const (
	Committed = "committed"
	Fetched   = "fetched" // ignored by version control, fetched by the build
)

// Binding is the file's content.
type Binding struct {
	Format      int                         `yaml:"ligare"`
	Server      string                      `yaml:"server,omitempty"` // "" for the developer's own
	App         string                      `yaml:"app"`
	ConfigFiles string                      `yaml:"configFiles"`
	Android     map[string]map[string]Bound `yaml:"android,omitempty"` // module folder -> variant
	IOS         map[string]map[string]Bound `yaml:"ios,omitempty"`     // project/target -> configuration
	Sheets      map[string]string           `yaml:"sheets,omitempty"`  // service -> digest agreed to
}

// Bound is what one variant is.
type Bound struct {
	Identity    string `yaml:"identity" json:"identity"`
	Environment string `yaml:"environment" json:"environment"`
}

// Parse reads the file; errors carry the line.
func Parse(src []byte) (*Binding, error) {
	b := &Binding{}
	d := yaml.NewDecoder(bytes.NewReader(src))
	d.KnownFields(true)
	if err := d.Decode(b); err != nil {
		return nil, fmt.Errorf("%s: %s", File, strings.TrimPrefix(err.Error(), "yaml: "))
	}
	if b.Format != 1 {
		return nil, fmt.Errorf("%s: format %d is not read by this version; it reads 1", File, b.Format)
	}
	if b.App == "" {
		return nil, fmt.Errorf("%s: app is missing; attach the tree again with: ligare app attach NAME", File)
	}
	switch b.ConfigFiles {
	case "":
		b.ConfigFiles = Committed
	case Committed, Fetched:
	default:
		return nil, fmt.Errorf("%s: configFiles: %q is neither %s nor %s", File, b.ConfigFiles, Committed, Fetched)
	}
	return b, nil
}

// Write gives the file's text, with a note for people who find it.
func (b *Binding) Write() ([]byte, error) {
	var out bytes.Buffer
	out.WriteString("# Which app this tree builds, and what each variant is. Committed; holds no secrets.\n")
	e := yaml.NewEncoder(&out)
	e.SetIndent(2)
	if err := e.Encode(b); err != nil {
		return nil, err
	}
	return out.Bytes(), e.Close()
}

// Agree pins a sheet's digest, leaving everything else of the file as it is written.
func Agree(src []byte, service, digest string) ([]byte, error) {
	b, err := Parse(src)
	if err != nil {
		return nil, err
	}
	if b.Sheets[service] == digest {
		return src, nil
	}
	nl := "\n"
	if bytes.Contains(src, []byte("\r\n")) {
		nl = "\r\n"
	}
	text := string(src)
	if text != "" && !strings.HasSuffix(text, "\n") {
		text += nl
	}
	if old := b.Sheets[service]; old != "" {
		return []byte(strings.Replace(text, service+": "+old, service+": "+digest, 1)), nil
	}
	line := "  " + service + ": " + digest + nl
	if len(b.Sheets) == 0 {
		return []byte(text + "sheets:" + nl + line), nil
	}
	var doc yaml.Node
	if err := yaml.Unmarshal(src, &doc); err != nil {
		return nil, err
	}
	top := doc.Content[0]
	for i := 0; i+1 < len(top.Content); i += 2 {
		if top.Content[i].Value == "sheets" {
			first := top.Content[i+1].Content[0]
			lines := strings.SplitAfter(text, "\n")
			at := first.Line - 1
			indent := strings.Repeat(" ", first.Column-1)
			return []byte(strings.Join(lines[:at], "") + indent + strings.TrimLeft(line, " ") + strings.Join(lines[at:], "")), nil
		}
	}
	return nil, fmt.Errorf("%s: sheets cannot be extended as written; put one entry a line", File)
}

// Identity is one identity a tree's variants are bound to.
type Identity struct {
	Platform    ident.Platform
	ID          string
	Environment string
	DisplayName string
}

// Propose binds every variant of a survey to the identifier it builds with. Variants with the suffix of a debug build
// type and an ID of their own go to development; everything else to production.
func Propose(app string, r *survey.Report) *Binding {
	b := &Binding{Format: 1, App: app, ConfigFiles: Committed, Android: map[string]map[string]Bound{}, IOS: map[string]map[string]Bound{}}
	for _, m := range r.Android.Modules {
		b.Android[m.Dir] = map[string]Bound{}
		release := map[string]bool{}
		for _, v := range m.Variants {
			if v.BuildType != "debug" {
				release[v.ApplicationID.String()] = true
			}
		}
		for _, v := range m.Variants {
			if !v.ApplicationID.Known() {
				continue
			}
			env := "production"
			if v.BuildType == "debug" && !release[v.ApplicationID.String()] {
				env = "development"
			}
			b.Android[m.Dir][v.Name] = Bound{Identity: v.ApplicationID.String(), Environment: env}
		}
	}
	for _, p := range r.IOS.Projects {
		for _, t := range p.Targets {
			if !t.App() {
				continue
			}
			key := TargetKey(p, t)
			b.IOS[key] = map[string]Bound{}
			release := map[string]bool{}
			for _, c := range t.Configurations {
				if c.Name != "Debug" {
					release[c.BundleID.String()] = true
				}
			}
			for _, c := range t.Configurations {
				if !c.BundleID.Known() {
					continue
				}
				env := "production"
				if c.Name == "Debug" && !release[c.BundleID.String()] {
					env = "development"
				}
				b.IOS[key][c.Name] = Bound{Identity: c.BundleID.String(), Environment: env}
			}
		}
	}
	return b
}

// TargetKey names a target in the file: the project's path and the target.
func TargetKey(p *survey.Project, t *survey.Target) string {
	return strings.TrimSuffix(p.Path, ".xcodeproj") + ":" + t.Name
}

// Identities lists the identities the tree is bound to, with the display names a survey found.
func (b *Binding) Identities(r *survey.Report) []Identity {
	seen := map[Identity]bool{}
	var out []Identity
	add := func(p ident.Platform, bound Bound, name string) {
		id := Identity{Platform: p, ID: bound.Identity, Environment: bound.Environment}
		if bound.Identity == "" || seen[id] {
			return
		}
		seen[id] = true
		id.DisplayName = name
		out = append(out, id)
	}
	for _, m := range r.Android.Modules {
		for _, v := range m.Variants {
			if bound, ok := b.Android[m.Dir][v.Name]; ok {
				add(ident.Android, bound, v.DisplayName.String())
			}
		}
	}
	for _, p := range r.IOS.Projects {
		for _, t := range p.Targets {
			for _, c := range t.Configurations {
				if bound, ok := b.IOS[TargetKey(p, t)][c.Name]; ok {
					add(ident.IOS, bound, c.DisplayName.String())
				}
			}
		}
	}
	sort.SliceStable(out, func(i, j int) bool {
		if out[i].Platform != out[j].Platform {
			return out[i].Platform < out[j].Platform
		}
		return out[i].ID < out[j].ID
	})
	return out
}

// Environments lists the environments that occur, sorted.
func (b *Binding) Environments() []string {
	seen := map[string]bool{}
	for _, group := range []map[string]map[string]Bound{b.Android, b.IOS} {
		for _, vs := range group {
			for _, v := range vs {
				seen[v.Environment] = true
			}
		}
	}
	var out []string
	for e := range seen {
		out = append(out, e)
	}
	sort.Strings(out)
	return out
}
