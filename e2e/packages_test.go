package e2e

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"ligare/core/built"
	"ligare/core/built/builttest"
	"ligare/core/check"
)

// apk writes the package of the tests with more entries.
func apk(t *testing.T, more ...string) string {
	t.Helper()
	file := filepath.Join(t.TempDir(), "app.apk")
	if err := os.WriteFile(file, builttest.With(t, builttest.Load(t, "v123.apk"), more...), 0o644); err != nil {
		t.Fatal(err)
	}
	return file
}

// A package takes the place of a tree: what it holds, what is wrong with it, side by side with the tree, looked through.
func TestAPackageOnTheCommandLine(t *testing.T) {
	dir := connected(t, "packaged")
	signed, err := filepath.Abs("../core/built/builttest/testdata/v123.apk")
	if err != nil {
		t.Fatal(err)
	}
	var f built.Facts
	if err := json.Unmarshal([]byte(must(t, 0, dir, "inspect", signed, "--verify", "--format", "json").out), &f); err != nil || f.Kind != built.APK || f.Android.ApplicationID != "example.larkfield.hivelog" || len(f.Signing.Signers) != 3 || !*f.Signing.Verified {
		t.Errorf("%+v %v", f, err)
	}
	if r := must(t, 0, dir, "inspect", signed); !strings.Contains(r.out, "96:0B:44:F0") || !strings.Contains(r.out, "a float: the last digits") {
		t.Errorf("%s", r.out)
	}
	changed := apk(t) // repacked, so that the block is gone and the file list stays
	if r := runWith(t, dir, nil, "inspect", changed, "--verify"); r.status != 1 || !strings.Contains(r.out, "does not hold: scheme") {
		t.Errorf("%d %s%s", r.status, r.out, r.err)
	}
	var c check.Result
	r := must(t, 1, dir, "check", signed, "-e", "production", "--format", "json")
	if err := json.Unmarshal([]byte(r.out), &c); err != nil {
		t.Fatal(err)
	}
	rules := map[string]bool{}
	for _, x := range c.Findings {
		rules[x.Rule] = true
	}
	if !rules["identifier-differs"] || !rules["package-number-lost"] || rules["package-signature-broken"] {
		t.Errorf("%v", rules)
	}
	if r := must(t, 1, dir, "lineup", signed, "-e", "production"); !strings.Contains(r.out, "built package") || !strings.Contains(r.out, "≠ example.larkfield.hivelog") {
		t.Errorf("%s", r.out)
	}
	empty := t.TempDir()
	if r := must(t, 1, empty, "check", signed, "--app", "packaged", "-e", "production"); !strings.Contains(r.out, "[identifier-differs]") {
		t.Errorf("%s", r.out)
	}
	secrets := filepath.Join(t.TempDir(), "secrets")
	must(t, 0, dir, "server-secrets", "thornmill", "-e", "production", "--reason", "trying it", "--to", secrets)
	src, err := os.ReadFile(secrets)
	if err != nil {
		t.Fatal(err)
	}
	secret := ""
	for _, line := range strings.Split(string(src), "\n") {
		if _, v, ok := strings.Cut(line, "="); ok && len(v) > len(secret) {
			secret = strings.Trim(v, `"'`)
		}
	}
	r = must(t, 1, dir, "comb", apk(t, "assets/www/config.js", "x = 1;\nkey = '"+secret+"';\n"))
	if !strings.Contains(r.out, "app.apk!assets/www/config.js:2:") || strings.Contains(r.out, secret) {
		t.Errorf("%s", r.out)
	}
	for _, bad := range [][]string{{"inspect", filepath.Join(dir, "README.md")}, {"check", filepath.Join(dir, "README.md")}, {"inspect", dir}, {"inspect", "nowhere.apk"}, {"check", signed, "-e", "nowhere"}} {
		if r := runWith(t, dir, nil, bad...); r.status != 2 || !strings.Contains(r.err, "ligare: ") || !strings.Contains(r.err, "next: ") {
			t.Errorf("%v: %d %s%s", bad, r.status, r.out, r.err)
		}
	}
}
