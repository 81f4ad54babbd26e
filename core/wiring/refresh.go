package wiring

import (
	"bytes"
	"sort"
	"strings"
	"unicode/utf8"

	"ligare/core/syntax/lex"
	"ligare/core/tree"
)

// AsPlaced allows exchanging what the service issued anew: config files, and values that are what the tree's records say
// was placed. A value that somebody changed since is not touched.
func AsPlaced(t *tree.Tree) (func(Answer) bool, error) {
	records, err := Records(t)
	if err != nil {
		return nil, err
	}
	placed := map[string]bool{}
	for _, r := range records {
		for _, d := range r.Values {
			placed[strings.TrimPrefix(d, "sha256:")] = true
		}
	}
	return func(a Answer) bool {
		return OldFiles(a) || a.Actual != "" && placed[Digest(a.Actual)]
	}, nil
}

// Exchanged lists the values that a plan takes out of the tree because the service issued others: long enough not to
// stand anywhere by chance.
func Exchanged(answers []Answer, replace func(Answer) bool) []string {
	var out []string
	for _, a := range answers {
		if a.State == Conflicting && replace(a) && len(a.Actual) >= 8 && !strings.ContainsAny(a.Actual, " \n") && !contains(out, a.Actual) && a.Actual != a.Expected {
			out = append(out, a.Actual)
		}
	}
	return out
}

// Still is a place where a value stands that was exchanged elsewhere.
type Still struct {
	Place
	Value string `json:"-"`
}

// Standing finds where values stand in the texts of a tree, as the edits left it.
func Standing(t *tree.Tree, values []string) []Still {
	if len(values) == 0 {
		return nil
	}
	var out []Still
	t.Walk(func(name string) {
		src, err := t.Read(name)
		if err != nil || !utf8.Valid(src) || strings.HasPrefix(name, Folder) {
			return
		}
		for _, v := range values {
			for at := 0; ; {
				i := bytes.Index(src[at:], []byte(v))
				if i < 0 {
					break
				}
				line, column := lex.Position(src, at+i)
				out = append(out, Still{Place{name, line, column}, v})
				at += i + len(v)
			}
		}
	})
	sort.SliceStable(out, func(i, j int) bool { return out[i].File < out[j].File })
	return out
}
