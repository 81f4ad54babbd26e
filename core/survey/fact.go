// Package survey reads a source tree and answers what every variant of it is: identifiers, minimums, launcher,
// signing. Each answer is a Fact that says where it stands and how it was resolved; what cannot be resolved from the
// files is said to be so, never guessed.
//
// It knows the platforms' build files and nothing of any service. Start reading at Survey.
package survey

import (
	"fmt"
	"strings"
)

// Fact is one answer. Exactly one of Value, Possible and Unresolved carries it; all empty means the tree says nothing.
type Fact struct {
	Value      *string    `json:"value"`
	File       string     `json:"file,omitempty"`
	Line       int        `json:"line,omitempty"`
	Column     int        `json:"column,omitempty"`
	Via        []string   `json:"via,omitempty"`
	Possible   []Possible `json:"possible,omitempty"`
	Unresolved string     `json:"unresolved,omitempty"`
}

// Possible is one outcome of a fact that depends on something outside the files.
type Possible struct {
	Value string `json:"value"`
	When  string `json:"when"`
}

// Known reports whether there is one value.
func (f Fact) Known() bool { return f.Value != nil }

// String gives the value, or "".
func (f Fact) String() string {
	if f.Value == nil {
		return ""
	}
	return *f.Value
}

// Place gives file:line:column, as far as known.
func (f Fact) Place() string {
	if f.File == "" {
		return ""
	}
	if f.Line == 0 {
		return f.File
	}
	return fmt.Sprintf("%s:%d:%d", f.File, f.Line, f.Column)
}

// Say gives the value as a person reads it: the value, its outcomes, or why there is none.
func (f Fact) Say() string {
	switch {
	case f.Value != nil:
		return *f.Value
	case len(f.Possible) > 0:
		var parts []string
		for _, p := range f.Possible {
			parts = append(parts, p.Value+" when "+p.When)
		}
		return strings.Join(parts, ", or ")
	case f.Unresolved != "":
		return "unresolved: " + f.Unresolved
	}
	return "not set"
}

func known(value, file string, line, column int, via ...string) Fact {
	return Fact{Value: &value, File: file, Line: line, Column: column, Via: via}
}

func unresolved(why, file string, line, column int) Fact {
	return Fact{Unresolved: why, File: file, Line: line, Column: column}
}

// with derives a fact from another: the value mapped, the place kept.
func (f Fact) with(change func(string) string) Fact {
	out := f
	if f.Value != nil {
		v := change(*f.Value)
		out.Value = &v
	}
	out.Possible = nil
	for _, p := range f.Possible {
		out.Possible = append(out.Possible, Possible{Value: change(p.Value), When: p.When})
	}
	return out
}

// through adds a step to the chain by which a fact was resolved.
func (f Fact) through(step string) Fact {
	f.Via = append([]string{step}, f.Via...)
	return f
}

// Report is what a survey answers.
type Report struct {
	Layouts    []string       `json:"layouts"`
	Android    Android        `json:"android"`
	IOS        IOS            `json:"ios"`
	Unresolved []OpenQuestion `json:"unresolved"`
}

// Android is the app modules of all Gradle builds in the tree.
type Android struct {
	Modules []*Module `json:"modules"`
}

// IOS is the Xcode projects of the tree.
type IOS struct {
	Projects []*Project `json:"projects"`
}

// OpenQuestion is a fact that could not be resolved, with what it belongs to.
type OpenQuestion struct {
	What string `json:"what"`
	Why  string `json:"why"`
	File string `json:"file,omitempty"`
	Line int    `json:"line,omitempty"`

	// Broken says that the file itself cannot be read, so that what it holds is missing from the survey.
	Broken bool `json:"broken,omitempty"`
}

// Module is one Gradle module that builds an app.
type Module struct {
	Dir       string            `json:"dir"`
	BuildFile string            `json:"buildFile"`
	Root      string            `json:"root"`
	Variants  []*AndroidVariant `json:"variants"`
	build     *Build
}

// Build gives the Gradle build the module belongs to.
func (m *Module) Build() *Build { return m.build }

// AndroidVariant is one way a module builds.
type AndroidVariant struct {
	Name             string   `json:"name"`
	BuildType        string   `json:"buildType"`
	Flavors          []string `json:"flavors,omitempty"`
	SourceSets       []string `json:"sourceSets"` // highest priority first
	ApplicationID    Fact     `json:"applicationId"`
	Namespace        Fact     `json:"namespace"`
	MinSDK           Fact     `json:"minSdk"`
	TargetSDK        Fact     `json:"targetSdk"`
	LauncherActivity Fact     `json:"launcherActivity"`
	ApplicationClass Fact     `json:"applicationClass"`
	DisplayName      Fact     `json:"displayName"`
	KeyStore         Fact     `json:"keyStore"`
	KeyAlias         Fact     `json:"keyAlias"`
	storePassword    Fact
}

// StorePassword gives the keystore's password where the build files hold it. It is never part of a report.
func (v *AndroidVariant) StorePassword() Fact { return v.storePassword }

// Project is one Xcode project.
type Project struct {
	Path    string    `json:"path"` // of the .xcodeproj
	Dir     string    `json:"dir"`
	Version int       `json:"objectVersion"`
	Podfile string    `json:"podfile,omitempty"`
	Targets []*Target `json:"targets"`
}

// File gives the project file's path.
func (p *Project) File() string { return p.Path + "/project.pbxproj" }

// Target is one native target.
type Target struct {
	Name           string           `json:"name"`
	ProductType    string           `json:"productType"`
	Configurations []*Configuration `json:"configurations"`
}

// App reports whether the target builds an app that users open.
func (t *Target) App() bool { return t.ProductType == "com.apple.product-type.application" }

// Configuration is one way a target builds.
type Configuration struct {
	Name             string `json:"name"`
	BundleID         Fact   `json:"bundleId"`
	DeploymentTarget Fact   `json:"deploymentTarget"`
	InfoPlist        Fact   `json:"infoPlist"`
	DisplayName      Fact   `json:"displayName"`
	Entitlements     Fact   `json:"entitlements"`
	SigningTeam      Fact   `json:"signingTeam"`
}
