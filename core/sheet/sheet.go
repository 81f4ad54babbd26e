// Package sheet is the model of a service sheet: what a service asks for, issues, needs placed, and how it is proved.
// Nothing here or anywhere in Go knows a service by name; a service is what its sheet says.
package sheet

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"regexp"
	"sort"
	"strings"

	"go.yaml.in/yaml/v3"

	"ligare/core/ident"
)

// Exposure says whether a value may ship inside an app. It comes from the sheet, never from a value's name.
type Exposure string

// The two exposures.
const (
	Client Exposure = "client"
	Server Exposure = "server"
)

// Sheet describes one service.
type Sheet struct {
	Format     int              `yaml:"sheet" json:"sheet"`
	Service    string           `yaml:"service" json:"service"`
	Title      string           `yaml:"title" json:"title"`
	Kind       string           `yaml:"kind" json:"kind"`
	Version    string           `yaml:"version" json:"version"`
	Platforms  []ident.Platform `yaml:"platforms" json:"platforms"`
	Scope      string           `yaml:"scope" json:"scope"` // identity, app, environment
	Asks       []Ask            `yaml:"asks" json:"asks"`
	Features   []Feature        `yaml:"features" json:"features"`
	Issues     Issues           `yaml:"issues" json:"issues"`
	Placements []Placement      `yaml:"placements" json:"placements"`
	Constrain  []Constraint     `yaml:"constraints" json:"constraints"`
	Proof      Proof            `yaml:"proof" json:"proof"`
	Duties     []Duty           `yaml:"duties" json:"duties"`
	Connector  Connector        `yaml:"connector" json:"connector"`
	Messages   []Message        `yaml:"messages" json:"messages"`

	Digest string `yaml:"-" json:"digest"` // sha256:... of the bytes read
	Source []byte `yaml:"-" json:"-"`
}

// Ask is one input the service wants.
type Ask struct {
	ID       string         `yaml:"id" json:"id"`
	Title    string         `yaml:"title" json:"title"`
	From     string         `yaml:"from" json:"from"` // app.name, identity.id, identity.display_name, signer.<form>, choice, text
	Per      string         `yaml:"per" json:"per,omitempty"`
	Platform ident.Platform `yaml:"platform" json:"platform,omitempty"`
	When     string         `yaml:"when" json:"when,omitempty"` // a feature that makes it required; "" for always
	Choices  []string       `yaml:"choices" json:"choices,omitempty"`
	Grammar  string         `yaml:"grammar" json:"grammar,omitempty"` // whole-string regular expression
}

// Feature is a switch at the service.
type Feature struct {
	ID       string   `yaml:"id" json:"id"`
	Title    string   `yaml:"title" json:"title"`
	Default  bool     `yaml:"default" json:"default"`
	Requires []string `yaml:"requires" json:"requires,omitempty"`
	Changes  []string `yaml:"changes" json:"changes,omitempty"`
}

// Issues is what the service gives.
type Issues struct {
	Values []Value `yaml:"values" json:"values"`
	Files  []File  `yaml:"files" json:"files"`
}

// Value is one issued value.
type Value struct {
	ID       string   `yaml:"id" json:"id"`
	Title    string   `yaml:"title" json:"title"`
	Exposure Exposure `yaml:"exposure" json:"exposure"`
	Per      string   `yaml:"per" json:"per,omitempty"` // identity, or "" for the registration
	Pattern  string   `yaml:"pattern" json:"pattern,omitempty"`
}

// File is one config file, with where inside it each fact stands (JSON Pointer, or element path with @attribute).
type File struct {
	ID       string            `yaml:"id" json:"id"`
	Platform ident.Platform    `yaml:"platform" json:"platform"`
	Name     string            `yaml:"name" json:"name"`
	Format   string            `yaml:"format" json:"format"` // xml, json
	Read     map[string]string `yaml:"read" json:"read"`
}

// Placement is one thing that must be true in a tree.
type Placement struct {
	ID       string            `yaml:"id" json:"id"`
	Platform ident.Platform    `yaml:"platform" json:"platform"`
	Place    string            `yaml:"place" json:"place"` // a named placement of the library
	With     map[string]string `yaml:"with" json:"with"`
	Why      string            `yaml:"why" json:"why"`
}

// Constraint is a floor under one of the tree's own settings.
type Constraint struct {
	Platform ident.Platform `yaml:"platform" json:"platform"`
	Minimum  string         `yaml:"minimum" json:"minimum"`
	Of       string         `yaml:"of" json:"of"` // minSdk, deploymentTarget
	Why      string         `yaml:"why" json:"why"`
}

// Proof is the exchange that shows an app is connected.
type Proof struct {
	Title string `yaml:"title" json:"title"`
	Late  string `yaml:"late" json:"late"` // how late it usually shows at the service
	Steps []Step `yaml:"steps" json:"steps"`
}

// Step is one request of a proof, sent as the app of a platform would.
type Step struct {
	As     ident.Platform `yaml:"as" json:"as"`
	Title  string         `yaml:"title" json:"title"`
	Send   Request        `yaml:"send" json:"send"`
	Expect Expect         `yaml:"expect" json:"expect"`
}

// Request is an HTTP request with ${config.*}, ${app.id}, ${probe.*} to be filled in.
type Request struct {
	Method  string            `yaml:"method" json:"method"`
	Address string            `yaml:"address" json:"address"`
	Headers map[string]string `yaml:"headers" json:"headers,omitempty"`
	Body    string            `yaml:"body" json:"body,omitempty"`
}

// Expect is what counts as success.
type Expect struct {
	Status int    `yaml:"status" json:"status"`
	Holds  string `yaml:"holds" json:"holds,omitempty"`
}

// Duty is what only a person can do.
type Duty struct {
	ID    string `yaml:"id" json:"id"`
	Title string `yaml:"title" json:"title"`
}

// Connector says how to register.
type Connector struct {
	Protocol   string `yaml:"protocol" json:"protocol"`
	LostAnswer string `yaml:"lost-answer" json:"lostAnswer"`
	Code       string `yaml:"refusal-code" json:"refusalCode"` // JSON Pointer to the code in a refusal
	Text       string `yaml:"refusal-text" json:"refusalText"` // JSON Pointer to its words
}

// Message is a text or code people meet, the cause it points to, and what to do.
type Message struct {
	Code   string `yaml:"code" json:"code"`
	Cause  string `yaml:"cause" json:"cause"`
	Remedy string `yaml:"remedy" json:"remedy"`
}

// Message gives what a refusal's code means, or nil.
func (s *Sheet) Message(code string) *Message {
	for i := range s.Messages {
		if s.Messages[i].Code == code {
			return &s.Messages[i]
		}
	}
	return nil
}

// Parse reads and validates a sheet. The name stands in errors.
func Parse(name string, src []byte) (*Sheet, error) {
	s := &Sheet{}
	d := yaml.NewDecoder(bytes.NewReader(src))
	d.KnownFields(true)
	if err := d.Decode(s); err != nil {
		return nil, fmt.Errorf("sheet %s: %s", name, strings.TrimPrefix(err.Error(), "yaml: "))
	}
	sum := sha256.Sum256(src)
	s.Digest, s.Source = "sha256:"+hex.EncodeToString(sum[:]), src
	if err := s.validate(); err != nil {
		return nil, fmt.Errorf("sheet %s: %w", name, err)
	}
	return s, nil
}

func (s *Sheet) validate() error {
	if s.Format != 1 {
		return fmt.Errorf("sheet: %d is not a format this version reads (1)", s.Format)
	}
	if s.Service == "" || s.Title == "" {
		return errors.New("service and title are required")
	}
	switch s.Scope {
	case "identity", "app", "environment":
	default:
		return fmt.Errorf("scope: %q is none of identity, app, environment", s.Scope)
	}
	for _, v := range s.Issues.Values {
		if v.Exposure != Client && v.Exposure != Server {
			return fmt.Errorf("value %s: exposure must be client or server", v.ID)
		}
		if _, err := whole(v.Pattern); err != nil {
			return fmt.Errorf("value %s: pattern: %w", v.ID, err)
		}
	}
	for _, a := range s.Asks {
		if _, err := whole(a.Grammar); err != nil {
			return fmt.Errorf("ask %s: grammar: %w", a.ID, err)
		}
		if a.When != "" && s.Feature(a.When) == nil {
			return fmt.Errorf("ask %s: there is no feature %q", a.ID, a.When)
		}
	}
	ids := map[string]bool{}
	for _, p := range s.Placements {
		if ids[p.ID] {
			return fmt.Errorf("placement %s stands twice", p.ID)
		}
		ids[p.ID] = true
		if f := p.With["file"]; f != "" && s.File(f) == nil {
			return fmt.Errorf("placement %s: there is no file %q", p.ID, f)
		}
		for k, v := range p.With {
			for _, ref := range References(v) {
				id, ok := strings.CutPrefix(ref, "value.")
				if !ok {
					continue
				}
				val := s.Value(id)
				if val == nil {
					return fmt.Errorf("placement %s, %s: there is no value %q", p.ID, k, id)
				}
				if val.Exposure == Server {
					return fmt.Errorf("placement %s, %s: %q is a server value and must not be placed in an app", p.ID, k, id)
				}
			}
		}
	}
	return nil
}

// whole compiles a pattern that must match a whole value.
func whole(p string) (*regexp.Regexp, error) {
	if p == "" {
		return nil, nil
	}
	return regexp.Compile(`\A(?:` + p + `)\z`)
}

// Match reports whether a value has the form its pattern asks for; an empty pattern takes anything.
func Match(pattern, value string) bool {
	re, err := whole(pattern)
	return err == nil && (re == nil || re.MatchString(value))
}

// Value gives an issued value's description, or nil.
func (s *Sheet) Value(id string) *Value {
	for i := range s.Issues.Values {
		if s.Issues.Values[i].ID == id {
			return &s.Issues.Values[i]
		}
	}
	return nil
}

// File gives a config file's description, or nil.
func (s *Sheet) File(id string) *File {
	for i := range s.Issues.Files {
		if s.Issues.Files[i].ID == id {
			return &s.Issues.Files[i]
		}
	}
	return nil
}

// FileFor gives the config file of a platform, or nil.
func (s *Sheet) FileFor(p ident.Platform) *File {
	for i := range s.Issues.Files {
		if s.Issues.Files[i].Platform == p {
			return &s.Issues.Files[i]
		}
	}
	return nil
}

// Feature gives a feature, or nil.
func (s *Sheet) Feature(id string) *Feature {
	for i := range s.Features {
		if s.Features[i].ID == id {
			return &s.Features[i]
		}
	}
	return nil
}

// References gives the names in ${...} of a text, in order.
func References(text string) []string {
	var out []string
	for {
		_, rest, ok := strings.Cut(text, "${")
		if !ok {
			return out
		}
		name, after, ok := strings.Cut(rest, "}")
		if !ok {
			return out
		}
		out = append(out, name)
		text = after
	}
}

// Fill replaces ${name}; a name without a value is an error.
func Fill(text string, get func(string) (string, bool)) (string, error) {
	var b strings.Builder
	for {
		before, rest, ok := strings.Cut(text, "${")
		b.WriteString(before)
		if !ok {
			return b.String(), nil
		}
		name, after, ok := strings.Cut(rest, "}")
		if !ok {
			return "", fmt.Errorf("${ is not closed in %q", text)
		}
		v, ok := get(name)
		if !ok {
			return "", fmt.Errorf("${%s} has no value here", name)
		}
		b.WriteString(v)
		text = after
	}
}

// Load reads every sheet of a folder, by service name.
func Load(from fs.FS) (map[string]*Sheet, error) {
	names, err := fs.Glob(from, "*.yaml")
	if err != nil {
		return nil, err
	}
	sort.Strings(names)
	out := map[string]*Sheet{}
	for _, n := range names {
		src, err := fs.ReadFile(from, n)
		if err != nil {
			return nil, err
		}
		s, err := Parse(n, src)
		if err != nil {
			return nil, err
		}
		out[s.Service] = s
	}
	return out, nil
}
