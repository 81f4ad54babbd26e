// Package house holds the test that keeps the parts of Ligare apart: who may import whom.
package house

import (
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path"
	"strconv"
	"strings"
	"testing"
)

// rule says what a folder's packages may import: prefixes of this module, and of other modules. The first rule that
// fits a package counts. Standard packages are allowed unless they are banned.
type rule struct {
	in     string
	own    []string
	others []string
	banned []string // standard packages
}

var (
	inside = []string{"net", "net/http", "database", "os", "syscall", "log", "plugin"} // core does no input or output of its own
	yaml   = "go.yaml.in/yaml"
)

var rules = []rule{
	{in: "core/syntax/yaml", own: []string{"core/syntax/lex"}, others: []string{yaml}, banned: inside},
	{in: "core/syntax/message", own: []string{"core/syntax/chunk"}, others: []string{"google.golang.org/protobuf/encoding/protowire"}, banned: inside},
	{in: "core/syntax", own: []string{"core/syntax"}, banned: inside},
	{in: "core/ident", banned: inside},
	{in: "core/tree", banned: inside},
	{in: "core/cert", own: []string{"core/ident"}, banned: inside},
	{in: "core/survey/fact", banned: inside},
	{in: "core/survey/script", own: []string{"core/survey/fact", "core/syntax", "core/tree"}, banned: inside},
	{in: "core/survey", own: []string{"core/ident", "core/syntax", "core/tree", "core/survey"}, banned: inside},
	{in: "core/sheet", own: []string{"core/syntax", "core/ident"}, others: []string{yaml}, banned: inside},
	{in: "core/binding", own: []string{"core/survey", "core/ident"}, others: []string{yaml}, banned: inside},
	{in: "core/wiring", own: []string{"core/syntax", "core/tree", "core/survey", "core/sheet", "core/binding", "core/ident"}, others: []string{yaml}, banned: inside},
	{in: "core/check", own: []string{"core/built", "core/comb", "core/signature", "core/syntax", "core/cert", "core/survey", "core/sheet", "core/binding", "core/ident", "core/wiring"}, others: []string{yaml}, banned: inside},
	{in: "core/rename", own: []string{"core/survey", "core/syntax", "core/tree", "core/binding", "core/ident", "core/wiring"}, banned: inside},
	{in: "core/report", own: []string{"core/check"}, banned: inside},
	{in: "core/built/builttest", banned: inside},
	{in: "core", own: []string{"core"}, banned: inside},
	{in: "sheets"},
	{in: "edit", banned: []string{"net", "database", "os/exec"}},
	{in: "client/shape", banned: inside},
	{in: "client/held", own: []string{"client/shape", "core"}, banned: inside},
	{in: "client", own: []string{"client"}, others: []string{"github.com/google/uuid"}},
	{in: "job", own: []string{"client", "core", "edit", "sheets", "vcs", "job"}, others: []string{"github.com/aymanbagabas/go-udiff"}},
	{in: "vcs", banned: []string{"net", "database"}},
	{in: "service/keyring", others: []string{"github.com/tink-crypto/tink-go"}},
	{in: "service/registrar", own: []string{"core/sheet", "core/syntax"}},
	{in: "service/web"},
	{in: "service", own: []string{"service", "core", "client/shape", "client/held", "sheets"}, others: []string{"github.com/jackc/pgx", "github.com/pressly/goose", "github.com/go-chi/chi", "github.com/google/uuid"}},
	{in: "standin", own: []string{"standin"}, banned: []string{"database"}},
	{in: "demo", others: []string{yaml}},
	{in: "cmd/standin", own: []string{"standin"}},
	{in: "cmd/ligare", own: []string{"client", "core", "job", "sheets"}, others: []string{"github.com/urfave/cli", "github.com/aymanbagabas/go-udiff", "golang.org/x/term"}, banned: []string{"net/http", "database"}},
	{in: "cmd/ligared", own: []string{"client", "core", "service", "demo"}, others: []string{"github.com/urfave/cli"}},
}

func under(p, prefix string) bool { return p == prefix || strings.HasPrefix(p, prefix+"/") }

func anyOf(p string, prefixes []string) bool {
	for _, x := range prefixes {
		if under(p, x) {
			return true
		}
	}
	return false
}

func (r rule) allows(imported string) bool {
	if own, ok := strings.CutPrefix(imported, "ligare/"); ok {
		return under(own, r.in) || anyOf(own, r.own)
	}
	if first, _, _ := strings.Cut(imported, "/"); strings.Contains(first, ".") {
		return anyOf(imported, r.others)
	}
	return !anyOf(imported, r.banned)
}

func ruleOf(dir string) (rule, bool) {
	for _, r := range rules {
		if under(dir, r.in) {
			return r, true
		}
	}
	return rule{}, false
}

func TestDependenciesPointInward(t *testing.T) {
	root := os.DirFS("..")
	files := 0
	err := fs.WalkDir(root, ".", func(name string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if d.IsDir() && (d.Name() == "node_modules" || d.Name() == "e2e" || d.Name() == "house" || strings.HasPrefix(d.Name(), ".") && name != ".") {
			return fs.SkipDir
		}
		if path.Ext(name) != ".go" || strings.HasSuffix(name, "_test.go") {
			return nil
		}
		src, err := fs.ReadFile(root, name)
		if err != nil {
			return err
		}
		if strings.HasPrefix(string(src), "//go:build ignore\n") { // writes code, and is no part of it
			return nil
		}
		f, err := parser.ParseFile(token.NewFileSet(), name, src, parser.ImportsOnly)
		if err != nil {
			return err
		}
		files++
		r, ok := ruleOf(path.Dir(name))
		if !ok {
			t.Errorf("%s: no rule says what this folder may import; add one", name)
			return nil
		}
		for _, i := range f.Imports {
			imported, err := strconv.Unquote(i.Path.Value)
			if err != nil {
				return err
			}
			if !r.allows(imported) {
				t.Errorf("%s imports %s, which %s may not", name, imported, r.in)
			}
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	if files < 50 {
		t.Errorf("only %d files were looked at", files)
	}
}

func TestRulesRefuse(t *testing.T) {
	for _, c := range []struct{ in, imported string }{
		{"standin/thornmill", "ligare/core/sheet"}, {"core/syntax/xml", "ligare/core/survey"}, {"core/survey", "ligare/core/sheet"},
		{"core/wiring", "net/http"}, {"core/tree", "os"}, {"job", "ligare/service/records"}, {"service/api", "ligare/job"}, {"core/check", "github.com/jackc/pgx/v5"},
	} {
		if r, ok := ruleOf(c.in); !ok || r.allows(c.imported) {
			t.Errorf("%s may import %s", c.in, c.imported)
		}
	}
}
