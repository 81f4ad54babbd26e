package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"ligare/client/shape"
)

// What a person meets when the app is registered with services of every kind.
func TestRegisteringAsPeopleMeetIt(t *testing.T) {
	dir := connected(t, "kinds")
	id := "example.larkfield.kinds"
	dry := must(t, 0, dir, "register", "treadmark", "--identity", id+".debug", "--answer", "payer=20417733", "--dry-run")
	for _, say := range []string{"To Treadmark for kinds", "example.larkfield.hivelog.InspectionActivity", "← android/app/src/main/AndroidManifest.xml:", "← android/keystores/debug.keystore, alias", "before: Confirm that the paying account"} {
		if !strings.Contains(dry.err, say) {
			t.Errorf("the plan does not say %q:\n%s", say, dry.err)
		}
	}
	if strings.Contains(dry.err, dir) {
		t.Errorf("a machine's path stands in the plan:\n%s", dry.err)
	}
	if bad := must(t, 1, dir, "register", "treadmark", "--identity", id+".debug", "--dry-run"); !strings.Contains(bad.err, "✕ Treadmark asks: Number of the paying account") {
		t.Errorf("a plan that is not ready:\n%s", bad.err)
	}
	if bad := must(t, 2, dir, "register", "treadmark", "--identity", id+".debug", "--answer", "payre=1"); !strings.Contains(bad.err, "Did you mean payer?") {
		t.Errorf("a mistyped answer: %s", bad.err)
	}
	must(t, 0, dir, "register", "treadmark", "--identity", id+".debug", "--answer", "payer=20417733")
	must(t, 0, dir, "register", "tallywick", "--answer", "name=Kinds of "+filepath.Base(dir))
	must(t, 0, dir, "register", "bellhanger")
	if got := must(t, 0, dir, "feeds").out; !strings.Contains(got, "several suppliers (not needed now)") {
		t.Errorf("feeds: %s", got)
	}
	if got := must(t, 0, dir, "feeds", "carry", "bellhanger", "--from", "thornmill/production").out; strings.Count(got, "seen at Bellhanger") != 2 {
		t.Errorf("carrying: %s", got)
	}
	must(t, 0, dir, "register", "bellhanger", "--feature", "android-pushes")
	must(t, 0, dir, "register", "patchquay", "--answer", "name=Kinds", "--berth", "barn=development")
	made := must(t, 0, dir, "key", "test", "patchquay", "app-key", "--label", "fair").out
	if !strings.Contains(made, "fair") || !strings.Contains(made, "ends ") {
		t.Errorf("a test key: %s", made)
	}
	var keys []shape.Key
	decode(t, must(t, 0, dir, "--format", "json", "key", "list", "patchquay").out, &keys)
	for _, k := range keys {
		if k.Label == "fair" {
			must(t, 0, dir, "key", "revoke", "patchquay", k.ID, "--yes")
			must(t, 0, dir, "key", "delete", "patchquay", k.ID, "--yes")
		}
	}
	must(t, 0, dir, "key", "exchange", "patchquay", "app-key")
	must(t, 0, dir, "register", "tollbarrow", "--identity", id+".debug", "--feature", "billing-interface")
	if got := must(t, 1, dir, "catalogue", "tollbarrow", "--item", "product=hive.jar; kind=consumable; price=2.50 EUR; title=A jar"); !strings.Contains(got.out, "missing at the service") {
		t.Errorf("the catalogue: %s", got.out)
	}
	must(t, 0, dir, "catalogue", "tollbarrow", "--send")
	must(t, 0, dir, "duty", "confirm", "treadmark", "bill", "--note", "paid")
	if got := must(t, 0, dir, "duty", "--open").out; strings.Contains(got, "the paying account") || !strings.Contains(got, "tax-papers") {
		t.Errorf("duties: %s", got)
	}
	secret := must(t, 0, dir, "server-secrets", "thornmill", "-e", "production", "--reason", "the backend of spring").out
	if !strings.HasPrefix(secret, "THORNMILL_MESSAGING_ACCOUNT=") || strings.Count(secret, "\n") != 2 {
		t.Errorf("server secrets: %d lines", strings.Count(secret, "\n"))
	}
	if got := must(t, 2, dir, "server-secrets", "thornmill", "-e", "production", "--reason", "the backend of spring", "--to", "backend.env"); !strings.Contains(got.err, "server values never enter one") {
		t.Errorf("secrets into the tree: %s", got.err)
	}
	file := filepath.Join(t.TempDir(), "backend.env")
	if err := os.WriteFile(file, []byte("# ours\nPORT=80\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	must(t, 0, dir, "server-secrets", "thornmill", "-e", "production", "--reason", "the backend of spring", "--to", file)
	b, err := os.ReadFile(file)
	if err != nil || string(b) != "# ours\nPORT=80\n"+secret {
		t.Errorf("the file of secrets: %v", err)
	}
	if info, err := os.Stat(file); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("%v %v", info.Mode(), err)
	}
	if got := must(t, 0, dir, "registrations").out; strings.Contains(got, strings.Split(secret, "=")[2]) {
		t.Error("a server secret is shown")
	}
	if got := must(t, 0, dir, "app", "publish", "kinds", id, "--platform", "ios", "--yes").out; !strings.Contains(got, "frozen") {
		t.Errorf("publishing: %s", got)
	}
	if got := must(t, 2, dir, "app", "drop", "kinds", id, "--platform", "ios"); !strings.Contains(got.err, "is frozen") {
		t.Errorf("dropping: %s", got.err)
	}
	must(t, 0, dir, "deregister", "patchquay", "--yes")
	if got := must(t, 2, dir, "deregister", "patchquay", "--yes"); !strings.Contains(got.err, "no registration at patchquay") {
		t.Errorf("%s", got.err)
	}
}

// The guide's sheet, as a newcomer goes through it: drafted, checked, added, registered by hand, placed, checked, changed.
func TestASheetOfYourOwn(t *testing.T) {
	dir := connected(t, "moss")
	guide, err := filepath.Abs("../docs/guide")
	if err != nil {
		t.Fatal(err)
	}
	text, err := os.ReadFile(filepath.Join(guide, "mossledger.yaml"))
	if err != nil {
		t.Fatal(err)
	}
	own := t.TempDir()
	put := func(name, content string) string {
		t.Helper()
		file := filepath.Join(own, name)
		if err := os.WriteFile(file, []byte(content), 0o644); err != nil {
			t.Fatal(err)
		}
		return file
	}
	if got := must(t, 0, dir, "sheet", "draft", "Mossledger", "--file", filepath.Join(guide, "mossledger.toml"), "--to", filepath.Join(own, "draft.yaml")).out; !strings.Contains(got, "was written") {
		t.Errorf("%s", got)
	}
	must(t, 0, dir, "sheet", "check", filepath.Join(own, "draft.yaml"))
	if got := must(t, 1, dir, "sheet", "check", put("bad.yaml", strings.Replace(string(text), "exposure: client", "exposure: clint", 1))).out; !strings.Contains(got, "bad.yaml:28:17: issues.values.door-key.exposure") {
		t.Errorf("%s", got)
	}
	sheet := put("moss.yaml", string(text))
	if got := must(t, 0, dir, "sheet", "check", sheet).out; !strings.Contains(got, "3 asks, 2 values, 2 files, 5 placements") {
		t.Errorf("%s", got)
	}
	must(t, 0, dir, "sheet", "add", sheet)
	if got := must(t, 0, dir, "register", "mossledger", "-e", "development").out; !strings.Contains(got, "still to be recorded: door-key, mossledger.toml (android), steward") {
		t.Errorf("%s", got)
	}
	toml, err := os.ReadFile(filepath.Join(guide, "mossledger.toml"))
	if err != nil {
		t.Fatal(err)
	}
	if got := must(t, 2, dir, "record", "mossledger", "--file", filepath.Join(guide, "mossledger.toml")); !strings.Contains(got.err, "belongs to example.larkfield.hivelog, which is not part of this registration") {
		t.Errorf("%s", got.err)
	}
	ours := put("mossledger (2).toml", strings.ReplaceAll(string(toml), "example.larkfield.hivelog", "example.larkfield.moss.debug"))
	if got := must(t, 2, dir, "record", "mossledger", "--file", ours, "--value", "door-key=mls_k2f0r7xw3n9q5b1z8c4v"); !strings.Contains(got.err, "has the form of Steward's word, which must not ship") {
		t.Errorf("%s", got.err)
	}
	got := must(t, 0, dir, "record", "mossledger", "--file", ours, "--value", "steward= “mls_k2f0r7xw3n9q5b1z8c4v” ").out
	if !strings.Contains(got, "registered, revision 1") || !strings.Contains(got, "has to be mossledger.toml") || !strings.Contains(got, "was cleaned") {
		t.Errorf("%s", got)
	}
	must(t, 0, dir, "place", "mossledger", "--yes")
	for _, how := range [][]string{{"check"}, {"check", "--offline"}} {
		if r := run(t, dir, how...); strings.Contains(r.out, "library-missing") || strings.Contains(r.out, "config-file") || strings.Contains(r.out, "resource") {
			t.Errorf("%v: %s%s", how, r.out, r.err)
		}
	}
	change(t, filepath.Join(dir, "android/app/src/debug/assets/mossledger.toml"), "mld_k2f0", "mld_k2f1", 1)
	if r := must(t, 1, dir, "check"); !strings.Contains(r.out, "android/app/src/debug/assets/mossledger.toml:6:") {
		t.Errorf("a changed key in the file: %s", r.out)
	}
	must(t, 0, dir, "place", "mossledger", "--replace", "--yes")
	must(t, 0, dir, "sheet", "add", put("moss2.yaml", strings.NewReplacer(`version: "1"`, `version: "2"`, "1.4.0", "1.5.0").Replace(string(text))))
	if got := must(t, 2, dir, "place", "mossledger", "--yes"); !strings.Contains(got.err, "ligare sheet agree mossledger") {
		t.Errorf("%s", got.err)
	}
	if got := must(t, 0, dir, "sheet", "agree", "mossledger", "--yes").out; !strings.Contains(got, `-version: "1"`) || !strings.Contains(got, `+version: "2"`) {
		t.Errorf("%s", got)
	}
	must(t, 0, dir, "unplace", "mossledger", "--yes")
	if _, err := os.Stat(filepath.Join(dir, ".ligare/sheets")); err == nil {
		t.Error("the sheet's copy stays behind")
	}
}
