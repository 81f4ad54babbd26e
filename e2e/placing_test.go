package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// wired is a tree with seven services placed, and the services' names.
func wired(t *testing.T, name string) (dir string, services []string) {
	t.Helper()
	dir = hivelog(t, name)
	must(t, 0, dir, "app", "attach", name)
	for _, r := range [][]string{
		{"thornmill", "-e", "development", "--answer", "region=north"}, {"thornmill", "-e", "production", "--answer", "region=south"},
		{"burrcatch"}, {"tallywick", "--answer", "name=" + name}, {"bellhanger", "--answer", "library=native"}, {"etchwork", "-e", "development"}, {"etchwork", "-e", "production"},
		{"tollbarrow", "--identity", "example.larkfield." + name + ".debug", "--feature", "billing-interface"},
		{"tollbarrow", "--identity", "example.larkfield." + name, "--feature", "billing-interface", "--answer", "digest=" + strings.Repeat("Ab1", 14) + "w"}, {"fieldhide", "--answer", "ide=16.2", "--answer", "name=" + name},
	} {
		must(t, 0, dir, append([]string{"register"}, r...)...)
	}
	git(t, dir, "add", "--all")
	git(t, dir, "commit", "--quiet", "-m", "attached")
	services = []string{"thornmill", "burrcatch", "tallywick", "bellhanger", "etchwork", "tollbarrow", "fieldhide"}
	for _, s := range services {
		must(t, 0, dir, "place", s, "--yes")
	}
	return dir, services
}

// Seven services go into an app of two platforms and two identities; nothing is wrong then, tools that are not ours read
// the values, and all of it leaves again in a fresh clone, in another order.
func TestManyServicesInOneTree(t *testing.T) {
	dir, services := wired(t, "many")
	if got := must(t, 0, dir, "check").out; !strings.Contains(got, "nothing wrong") {
		t.Error(got)
	}
	for _, s := range services {
		if got := must(t, 0, dir, "place", s, "--yes").out; !strings.Contains(got, "nothing to write") {
			t.Errorf("placing %s again: %s", s, got)
		}
	}
	xpath := func(file, query string) string {
		out, err := exec.Command("xmllint", "--nonet", "--noout", "--xpath", query, filepath.Join(dir, file)).CombinedOutput()
		if err != nil {
			t.Errorf("xmllint %s %s: %v %s", file, query, err, out)
		}
		return strings.TrimSpace(string(out))
	}
	if got := xpath("android/app/src/debug/AndroidManifest.xml", "string(//meta-data[@*='example.burrcatch.WRITER']/@*[local-name()='value'])"); !strings.HasPrefix(got, "bw") {
		t.Errorf("writer key of the debug build: %q", got)
	}
	if a, b := xpath("android/app/src/debug/res/values/strings.xml", "string(//string[@name='tallywick_tally_secret'])"), xpath("android/app/src/release/res/values/strings.xml", "string(//string[@name='tallywick_tally_secret'])"); len(a) < 10 || len(b) < 10 || a == b {
		t.Errorf("keys of two identities: %q and %q", a, b)
	}
	if got := xpath("ios/Hivelog/Info.plist", "string(//key[.='UIBackgroundModes']/following-sibling::array[1]/string)"); got != "remote-notification" {
		t.Errorf("background mode: %q", got)
	}
	git(t, dir, "add", "--all")
	git(t, dir, "commit", "--quiet", "-m", "placed")
	fresh := filepath.Join(t.TempDir(), "fresh")
	git(t, dir, "clone", "--quiet", dir, fresh)
	for i := range services {
		s := services[(i*3+2)%len(services)]
		if r := runWith(t, fresh, []string{"LIGARE_HOME=" + t.TempDir()}, "unplace", s, "--yes"); r.status != 0 {
			t.Fatalf("unplace %s in a fresh clone: %s%s", s, r.out, r.err)
		}
	}
	if got := git(t, fresh, "diff", "HEAD~1", "--stat", "--", ".", ":!ligare.yaml"); got != "" {
		t.Errorf("the tree is not what it was:\n%s", got)
	}
	if got := git(t, fresh, "ls-files", "--others", "--exclude-standard"); got != "" {
		t.Errorf("left behind:\n%s", got)
	}
}

func TestOnlySomePlacements(t *testing.T) {
	dir := hivelog(t, "some")
	must(t, 0, dir, "app", "attach", "some")
	must(t, 0, dir, "register", "bellhanger", "--answer", "library=native")
	must(t, 0, dir, "place", "bellhanger", "--only", "dependency", "--only", "entitlement", "--yes")
	git(t, dir, "add", "--all")
	if got := git(t, dir, "status", "--porcelain"); !strings.Contains(got, "Hivelog.entitlements") || strings.Contains(got, "AndroidManifest") || strings.Contains(got, "BellhangerService") {
		t.Error(got)
	}
	if got := must(t, 2, dir, "place", "bellhanger", "--except", "extension", "--dry-run").err; !strings.Contains(got, `no placement "extension" here; there are: android-library`) {
		t.Error(got)
	}
	if got := must(t, 0, dir, "place", "bellhanger", "--except", "ios-extension", "--dry-run").out; strings.Contains(got, "BellhangerService") || !strings.Contains(got, "POST_NOTIFICATIONS") {
		t.Error(got)
	}
	var guide []struct{ Placement, File, Text string }
	decode(t, must(t, 0, dir, "--format", "json", "place", "bellhanger", "--guide").out, &guide)
	if len(guide) < 10 {
		t.Errorf("%+v", guide)
	}
}

// A key is exchanged at the service; refresh puts the new one wherever the old one stands as placed, and says where a copy is.
func TestAKeyIsExchanged(t *testing.T) {
	dir := hivelog(t, "rotate")
	must(t, 0, dir, "app", "attach", "rotate")
	must(t, 0, dir, "register", "patchquay", "--answer", "name=Rotate", "--berth", "production=production", "--berth", "staging=development")
	must(t, 0, dir, "place", "patchquay", "--yes")
	strs := filepath.Join(dir, "android/app/src/main/res/values/strings.xml")
	b, err := os.ReadFile(strs)
	if err != nil {
		t.Fatal(err)
	}
	_, rest, _ := strings.Cut(string(b), `name="patchquay_key">`)
	old, _, _ := strings.Cut(rest, "<")
	if len(old) < 20 {
		t.Fatalf("%s", b)
	}
	if err := os.WriteFile(filepath.Join(dir, "NOTES.md"), []byte("The key: "+old+"\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	must(t, 0, dir, "key", "exchange", "patchquay", "app-key")
	if got := must(t, 1, dir, "check").out; !strings.Contains(got, "[resource-differs]") && !strings.Contains(got, "patchquay_key") {
		t.Error(got)
	}
	got := must(t, 1, dir, "refresh", "patchquay", "--yes").out
	if !strings.Contains(got, "still there NOTES.md:1:10") || strings.Contains(got[strings.Index(got, "still there"):], old) {
		t.Error(got)
	}
	if b, _ := os.ReadFile(strs); strings.Contains(string(b), old) {
		t.Error("the old key is still there")
	}
	must(t, 0, dir, "check")
	must(t, 0, dir, "unplace", "patchquay", "--yes")
	if left := git(t, dir, "status", "--porcelain", "--", ".", ":!ligare.yaml", ":!NOTES.md"); left != "" {
		t.Errorf("unplace leaves %s", left)
	}
}

// A tree that was wired elsewhere is taken in without a change to it.
func TestAWiredTreeIsTakenIn(t *testing.T) {
	dir, _ := wired(t, "adopted")
	if err := os.RemoveAll(filepath.Join(dir, ".ligare")); err != nil {
		t.Fatal(err)
	}
	git(t, dir, "add", "--all")
	git(t, dir, "commit", "--quiet", "-m", "wired by hand")
	got := must(t, 0, dir, "adopt", "bellhanger", "--yes").out
	if !strings.Contains(got, "No file of the app was changed") || !strings.Contains(got, "found       android/app/src/main/AndroidManifest.xml") {
		t.Error(got)
	}
	if got := git(t, dir, "status", "--porcelain", "-uall"); strings.TrimSpace(got) != "?? .ligare/placed/bellhanger.yaml" {
		t.Errorf("adopting changed %s", got)
	}
	if got := must(t, 0, dir, "place", "bellhanger", "--yes").out; !strings.Contains(got, "nothing to write") {
		t.Error(got)
	}
	if got := must(t, 1, dir, "unplace", "bellhanger", "--yes").out; !strings.Contains(got, "stood here before") {
		t.Error(got)
	}
	if got := git(t, dir, "status", "--porcelain"); got != "" {
		t.Errorf("taking out what was taken in changed %s", got)
	}
	if got := must(t, 1, hivelogAttached(t, "bare"), "adopt", "thornmill", "--dry-run").out; !strings.Contains(got, "Nothing of thornmill stands in this tree") {
		t.Error(got)
	}
}

func hivelogAttached(t *testing.T, name string) string {
	dir := hivelog(t, name)
	must(t, 0, dir, "app", "attach", name)
	must(t, 0, dir, "register", "thornmill", "-e", "development", "--answer", "region=north")
	return dir
}

// An identifier is changed everywhere before publishing, the records follow, and after publishing it is refused.
func TestAnIdentifierIsRenamed(t *testing.T) {
	dir, _ := wired(t, "before")
	git(t, dir, "add", "--all")
	git(t, dir, "commit", "--quiet", "-m", "placed")
	if got := must(t, 2, dir, "rename-id", "example.larkfield.before", "example.meadow.later", "--dry-run").err; !strings.Contains(got, "--platform") {
		t.Error(got)
	}
	if got := must(t, 2, dir, "rename-id", "example.larkfield.before", "example.meadow.la-ter", "--platform", "android", "--dry-run").err; !strings.Contains(got, "la-ter") {
		t.Error(got)
	}
	got := must(t, 0, dir, "rename-id", "example.larkfield.before", "example.meadow.later", "--platform", "ios", "--yes").out
	if !strings.Contains(got, "ios: example.larkfield.before is now example.meadow.later") || !strings.Contains(got, "next: register the new identifier: ligare register bellhanger") {
		t.Error(got)
	}
	if got := must(t, 0, dir, "app", "show", "before").out; !strings.Contains(got, "example.meadow.later") {
		t.Error(got)
	}
	b, err := os.ReadFile(filepath.Join(dir, "ios/Hivelog.xcodeproj/project.pbxproj"))
	if err != nil || strings.Contains(string(b), "larkfield.before") || strings.Count(string(b), "PRODUCT_BUNDLE_IDENTIFIER = example.meadow.later.bell;") != 2 {
		t.Errorf("%v\n%s", err, b)
	}
	if b, _ := os.ReadFile(filepath.Join(dir, "android/app/build.gradle.kts")); !strings.Contains(string(b), "example.larkfield.before") {
		t.Error("the Android identifier changed as well")
	}
	must(t, 0, dir, "unplace", "bellhanger", "--yes")
	must(t, 0, dir, "app", "publish", "before", "example.larkfield.before", "--platform", "android", "--yes")
	if got := must(t, 2, dir, "rename-id", "example.larkfield.before", "example.meadow.never", "--platform", "android", "--yes").err; !strings.Contains(got, "was published") {
		t.Error(got)
	}
}
