package e2e

import (
	"encoding/base64"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"ligare/core/check"
)

func write(t *testing.T, file, text string) {
	t.Helper()
	if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(file, []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
}

// A server secret is found wherever it stands: in an ignored file, in a binary in Base64, in what a commit held. It is
// printed nowhere.
func TestSecretsAreCombedOut(t *testing.T) {
	dir := hivelog(t, "combed")
	must(t, 0, dir, "app", "attach", "combed")
	must(t, 0, dir, "register", "thornmill", "-e", "production", "--answer", "region=south")
	out := must(t, 0, dir, "server-secrets", "thornmill", "-e", "production", "--reason", "what is looked for").out
	_, rest, _ := strings.Cut(out, "tmx-")
	secret := "tmx-" + rest[:48]
	if got := must(t, 0, dir, "comb").out; !strings.Contains(got, "nothing wrong") || !strings.Contains(got, "Messaging account number of Thornmill") {
		t.Error(got)
	}
	write(t, filepath.Join(dir, "backend/settings.py"), "KEY = '"+secret+"'\n")
	git(t, dir, "add", "--all")
	git(t, dir, "commit", "--quiet", "-m", "the backend")
	git(t, dir, "rm", "--quiet", "backend/settings.py")
	git(t, dir, "commit", "--quiet", "-m", "not here")
	write(t, filepath.Join(dir, ".gitignore"), ".env\n")
	write(t, filepath.Join(dir, ".env"), "\n\nTHORNMILL="+secret+"\n")
	write(t, filepath.Join(dir, "android/app/libs/thing.bin"), "\x00\x01\xff"+base64.StdEncoding.EncodeToString([]byte("Basic x:"+secret))+"\x00\xfe")
	got := must(t, 1, dir, "comb", "--history")
	for _, want := range []string{".env:3:11  [secret-in-tree]", "android/app/libs/thing.bin:1:4  [secret-in-tree]", "stands here, in Base64", "backend/settings.py  [secret-in-history]", "line 1 of backend/settings.py, since commit "} {
		if !strings.Contains(got.out, want) {
			t.Errorf("%q is not said in\n%s", want, got.out)
		}
	}
	if strings.Contains(got.out+got.err, secret[8:30]) {
		t.Errorf("the secret is printed:\n%s", got.out)
	}
	var r check.Result
	decode(t, must(t, 1, dir, "--format", "json", "comb").out, &r)
	if len(r.Findings) != 3 || r.Findings[2].Severity != check.Note || r.Findings[0].Rule != "secret-in-tree" {
		t.Errorf("%+v", r.Findings)
	}
	if got := must(t, 1, dir, "--format", "sarif", "comb").out; !strings.Contains(got, `"secret-in-tree"`) || strings.Contains(got, secret[8:30]) {
		t.Error(got)
	}
	must(t, 0, dir, "waive", "secret-in-tree", ".env", "--reason", "a developer's own file", "--until", "2099-01-01", "--who", "Wren", "--yes")
	if got := must(t, 1, dir, "comb").out; strings.Contains(got, ".env:3") || !strings.Contains(got, "1 accepted") {
		t.Error(got)
	}
	if got := must(t, 0, dir, "comb", "--offline").out; !strings.Contains(got, "for 0 secrets") {
		t.Error(got)
	}
}

// From the first check of an old tree to one that is right: what stood is accepted, what is new fails, Ligare mends it,
// and a pasted message leads to what is wrong here.
func TestMendingAndAccepting(t *testing.T) {
	dir := hivelog(t, "mended")
	must(t, 0, dir, "app", "attach", "mended")
	must(t, 0, dir, "register", "burrcatch")
	if got := must(t, 1, dir, "check").out; strings.Count(got, "[service-not-placed]") != 2 {
		t.Error(got)
	}
	if got := must(t, 1, dir, "check", "--fix", "--dry-run").out; !strings.Contains(got, "+++ b/android/app/src/main/AndroidManifest.xml") {
		t.Error(got)
	}
	must(t, 0, dir, "check", "--fix", "--yes")
	if got := must(t, 0, dir, "check", "--fix", "--yes"); !strings.Contains(got.err, "Nothing is wrong that Ligare can mend") {
		t.Error(got.err)
	}
	manifest := filepath.Join(dir, "android/app/src/main/AndroidManifest.xml")
	change(t, filepath.Join(dir, "android/app/src/release/AndroidManifest.xml"), "example.burrcatch.WRITER", "example.burrcatch.WRITR", 1)
	if got := must(t, 1, dir, "check").out; !strings.Contains(got, "[name-misspelt]") {
		t.Error(got)
	}
	must(t, 0, dir, "check", "--accept-standing", "--yes")
	if got := must(t, 0, dir, "check").out; !strings.Contains(got, "1 that stood before") {
		t.Error(got)
	}
	change(t, manifest, "\n            android:exported=\"true\">", ">", 1)
	if got := must(t, 1, dir, "check").out; !strings.Contains(got, "[export-unsaid]") || strings.Contains(got, "[name-misspelt]") {
		t.Error(got)
	}
	if got := must(t, 1, dir, "explain", "Manifest merger failed : android:exported needs to be explicitly specified for element").out; !strings.Contains(got, "It holds here:") || !strings.Contains(got, "AndroidManifest.xml:") {
		t.Error(got)
	}
	if got := must(t, 0, dir, "explain", "export-unsaid").out; !strings.Contains(got, "target SDK 31") {
		t.Error(got)
	}
	if got := must(t, 2, dir, "explain", "nonsense").err; !strings.Contains(got, "there is no rule") {
		t.Error(got)
	}
	write(t, filepath.Join(dir, ".ligare/waivers.yaml"), "format: 1\nwaivers:\n  - rule: nothing\n")
	if got := must(t, 2, dir, "check").err; !strings.Contains(got, `.ligare/waivers.yaml:3: there is no rule "nothing"`) {
		t.Error(got)
	}
}
