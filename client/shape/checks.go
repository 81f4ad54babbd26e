package shape

import (
	"encoding/json"
	"time"
)

// What checking compares a tree with, and what it sends up.

// Comparison is everything that a tree of an app is compared with: all at once, so that checking asks once.
type Comparison struct {
	App           App            `json:"app"`
	Signers       []Signer       `json:"signers"`
	Registrations []Registration `json:"registrations"`
	Placings      []Placing      `json:"placings"`    // of those that are registered
	Connections   []Connection   `json:"connections"` // what they want from each other
	Others        []OwnedValue   `json:"others"`      // values that may ship of the team's other apps
}

// OwnedValue says whose a value is that may ship, by its digest.
type OwnedValue struct {
	Digest string `json:"digest"` // SHA-256, hexadecimal
	Say    string `json:"say"`
}

// Handout is what is needed to recognise the team's secrets in a tree, and nothing that gives them away: for each the
// low 24 bits of a rolling digest over a window, and HMAC-SHA-256 over the whole under a key that is new every time.
type Handout struct {
	Table    []byte     `json:"table"` // seed of the rolling digest's table
	Key      []byte     `json:"key"`
	Needles  []Needle   `json:"needles"`
	Unsought []Unsought `json:"unsought"`
}

// Needle is one secret as it is handed out.
type Needle struct {
	ID      string `json:"id"`
	Kind    string `json:"kind"` // server secret, test key
	Say     string `json:"say"`
	Offset  int    `json:"offset"` // of the window, in bytes
	Length  int    `json:"length"`
	Rolling uint32 `json:"rolling"`
	Digest  []byte `json:"digest"`
}

// Unsought is a secret that is not looked for, and why.
type Unsought struct {
	ID  string `json:"id"`
	Say string `json:"say"`
	Why string `json:"why"`
}

// Report is what a check sends up: identifiers, digests, findings with place. No source.
type Report struct {
	Findings   []Finding       `json:"findings"`
	Placements []Placement     `json:"placements"`
	LineUp     json.RawMessage `json:"lineUp"`
	Looked     int             `json:"looked"`
	Blind      int             `json:"notLooked"`
	Waived     int             `json:"waived"`
	Standing   int             `json:"standing"`
	Commit     string          `json:"commit,omitempty"`
	Branch     string          `json:"branch,omitempty"`
	At         time.Time       `json:"at"`
}

// Findings is how an app's findings stand on a branch.
type Findings struct {
	Branches []CheckedBranch `json:"branches"`
	Branch   string          `json:"branch"`
	Commit   string          `json:"commit,omitempty"`
	At       time.Time       `json:"at"`               // of its newest check
	Passed   *CheckRun       `json:"passed,omitempty"` // the last check without errors
	Checks   []CheckRun      `json:"checks"`           // newest first
	Items    []FindingState  `json:"items"`            // those that are there first
}

// CheckedBranch is the newest check of a branch.
type CheckedBranch struct {
	Branch   string    `json:"branch"`
	Commit   string    `json:"commit,omitempty"`
	At       time.Time `json:"at"`
	Errors   int       `json:"errors"`
	Warnings int       `json:"warnings"`
	Notes    int       `json:"notes"`
	Blind    int       `json:"notLooked"`
}

// CheckRun is one check in short.
type CheckRun struct {
	At       time.Time `json:"at"`
	Commit   string    `json:"commit,omitempty"`
	Errors   int       `json:"errors"`
	Warnings int       `json:"warnings"`
	Notes    int       `json:"notes"`
}

// FindingState is a finding with how it stood over time.
type FindingState struct {
	Finding     Finding    `json:"finding"`
	Title       string     `json:"title"` // of its rule
	Why         string     `json:"why"`
	First       time.Time  `json:"first"`
	FirstCommit string     `json:"firstCommit,omitempty"`
	Last        time.Time  `json:"last"`
	Gone        *time.Time `json:"gone,omitempty"`
	GoneCommit  string     `json:"goneCommit,omitempty"`
	Times       int        `json:"times"` // how often it came
	New         bool       `json:"new"`   // since the branch last passed, or with the newest check
}

// Placement is how one placement stands at one site of the tree.
type Placement struct {
	Service     string   `json:"service"`
	Environment string   `json:"environment,omitempty"`
	Placement   string   `json:"placement"` // its name in the sheet
	Title       string   `json:"title"`
	Why         string   `json:"why"`
	Platform    string   `json:"platform,omitempty"`
	Identity    string   `json:"identity,omitempty"`
	Site        string   `json:"site"`
	Variants    []string `json:"variants"`
	State       string   `json:"state"`
	Good        bool     `json:"good"`
	File        string   `json:"file,omitempty"`
	Line        int      `json:"line,omitempty"`
	Column      int      `json:"column,omitempty"`
	Detail      string   `json:"detail,omitempty"`
}

// Finding is the part of a finding that is sent up.
type Finding struct {
	Rule        string `json:"rule"`
	Severity    string `json:"severity"`
	Message     string `json:"message"`
	Variant     string `json:"variant"`
	File        string `json:"file"`
	Line        int    `json:"line"`
	Column      int    `json:"column"`
	Fix         string `json:"fix,omitempty"`
	Fixable     bool   `json:"fixable,omitempty"`
	Fingerprint string `json:"fingerprint"`
}

// LineUp is the table with the server's columns added.
type LineUp struct {
	Columns []string        `json:"columns"`
	Rows    json.RawMessage `json:"rows"`
	At      *time.Time      `json:"at,omitempty"` // when the tree was last checked
}
