package shape

import (
	"encoding/json"
	"time"
)

// What is kept of a package that was handed in. The package itself never is.
const (
	KeepNothing    = "nothing"
	KeepFacts      = "facts"
	KeepEverything = "everything" // findings and line-up too
)

// Package is a built package that was handed in, and what was found in it.
type Package struct {
	ID          string           `json:"id,omitempty"` // "" when nothing of it was kept
	Name        string           `json:"name"`         // of the file
	Size        int64            `json:"size"`         // bytes
	SHA256      string           `json:"sha256"`       // of the file, hexadecimal
	Kind        string           `json:"kind"`
	Platform    string           `json:"platform"`
	Identifier  string           `json:"identifier"`
	Version     string           `json:"version,omitempty"`
	App         string           `json:"app,omitempty"` // "" when its identifier is none that is known
	Environment string           `json:"environment,omitempty"`
	At          time.Time        `json:"at"`
	By          string           `json:"by,omitempty"`
	Kept        string           `json:"kept"`
	Errors      *int             `json:"errors,omitempty"`
	Warnings    *int             `json:"warnings,omitempty"`
	Notes       *int             `json:"notes,omitempty"`
	Facts       json.RawMessage  `json:"facts,omitempty"`
	Findings    []PackageFinding `json:"findings,omitempty"`
	NotLooked   []string         `json:"notLooked,omitempty"`
	LineUp      *LineUp          `json:"lineUp,omitempty"`
}

// PackageFinding is one thing that is wrong in a package.
type PackageFinding struct {
	Rule         string   `json:"rule"`
	Title        string   `json:"title"`
	Severity     string   `json:"severity"`
	Message      string   `json:"message"`
	File         string   `json:"file,omitempty"` // in the package
	Line         int      `json:"line,omitempty"`
	Expected     string   `json:"expected,omitempty"`
	Actual       string   `json:"actual,omitempty"`
	From         string   `json:"from,omitempty"` // where what should be comes from
	Why          string   `json:"why"`
	Fix          string   `json:"fix"`
	Consequences []string `json:"consequences,omitempty"`
}
