// Package sheets holds the sheets that ship with Ligare and the library of named placements, as data.
package sheets

import "embed"

// FS holds one YAML file per service and the library folder; layouts/ says what else makes
// a tree an app.
//
//go:embed *.yaml library/*.yaml layouts/*.yaml
var FS embed.FS
