package e2e

import (
	"context"
	"encoding/xml"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"

	"ligare/client/shape"
	"ligare/core/check"
	"ligare/core/survey"
	"ligare/service/cluster"
)

func TestTheJobStepByStep(t *testing.T) {
	dir := hivelog(t, "steps")
	var r survey.Report
	decode(t, must(t, 0, dir, "--format", "json", "survey").out, &r)
	if v := r.Android.Modules[0].Variants[0]; v.ApplicationID.String() != "example.larkfield.steps.debug" || v.MinSDK.String() != "26" || v.MinSDK.File != "android/gradle/libs.versions.toml" {
		t.Errorf("survey: %+v", v)
	}
	var digests struct {
		Certificates []struct {
			Digests struct{ SHA256Hex string } `json:"digests"`
		}
	}
	decode(t, must(t, 0, dir, "--format", "json", "digest", "--variant", "debug").out, &digests)

	if got := must(t, 0, dir, "digest", "--text", " "+digests.Certificates[0].Digests.SHA256Hex, "--wanted", "sha256-hex").out; !strings.Contains(got, "alias androiddebugkey") || !strings.Contains(got, "white space") {
		t.Errorf("a pasted digest: %s", got)
	}
	if got := must(t, 1, dir, "digest", "--text", "2jmj7l5rSw0yVb/vlWAYkK/YBwk=").out; !strings.Contains(got, "the digest of nothing") {
		t.Errorf("the digest of nothing: %s", got)
	}
	if got := must(t, 2, dir, "check"); !strings.Contains(got.out, "not attached") {
		t.Errorf("check before attaching: %s", got.out)
	}
	must(t, 0, dir, "app", "attach", "steps", "--title", "Steps")
	var g shape.Registration
	decode(t, must(t, 0, dir, "--format", "json", "register", "thornmill", "-e", "development", "--answer", "region=north", "--feature", "sign-in").out, &g)
	if got := g.Identities[0].Digests; len(got) != 1 || got[0] != digests.Certificates[0].Digests.SHA256Hex {
		t.Errorf("the digest registered is not the one printed: %v", got)
	}
	must(t, 0, dir, "register", "thornmill", "-e", "production", "--answer", "region=south")
	git(t, dir, "add", "--all")
	git(t, dir, "commit", "--quiet", "-m", "attached")

	if got := must(t, 0, dir, "place", "thornmill", "--dry-run"); !strings.Contains(got.out, "+        Thornmill.start(this)") || !strings.Contains(got.out, "# start call: Nothing of Thornmill works before this call.") {
		t.Errorf("dry run: %s", got.out)
	}
	if got := must(t, 0, dir, "place", "thornmill", "--guide"); !strings.Contains(got.out, "1. In ") {
		t.Errorf("guide: %s", got.out)
	}
	if got := must(t, 2, dir, "place", "thornmill"); !strings.Contains(got.err, "--yes") {
		t.Errorf("without a terminal: %s", got.err)
	}
	if got := git(t, dir, "status", "--porcelain"); got != "" {
		t.Errorf("something was written: %s", got)
	}
	must(t, 0, dir, "place", "thornmill", "--yes")
	again := must(t, 0, dir, "place", "thornmill", "--yes")
	if !strings.Contains(again.out, "nothing to write") {
		t.Errorf("placing twice: %s", again.out)
	}
	var c check.Result
	decode(t, must(t, 0, dir, "--format", "json", "check").out, &c)
	if c.Worst().AtLeast(check.Warning) || len(c.NotLooked) != 2 || c.NotLooked[0].Rule != "silent" || c.NotLooked[1].Rule != "catalogue-differs" || len(c.Looked) < 100 {
		t.Errorf("check: %+v", c)
	}
	must(t, 0, dir, "check", "--offline")
	outside(t, dir)

	var p struct {
		Works bool
		Steps []struct{ App string }
	}
	decode(t, must(t, 0, dir, "--format", "json", "probe", "thornmill").out, &p)
	if !p.Works || len(p.Steps) != 2 || p.Steps[1].App != "example.larkfield.steps" {
		t.Errorf("probe: %+v", p)
	}
	git(t, dir, "add", "--all")
	git(t, dir, "commit", "--quiet", "-m", "placed")
	fresh := filepath.Join(t.TempDir(), "fresh")
	git(t, dir, "clone", "--quiet", dir, fresh)
	r2 := runWith(t, fresh, []string{"LIGARE_HOME=" + t.TempDir()}, "unplace", "thornmill", "--yes") // no server, no journal
	if r2.status != 0 {
		t.Fatalf("unplace in a fresh clone: %s%s", r2.out, r2.err)
	}
	if got := git(t, fresh, "diff", "HEAD~1", "--stat", "--", ".", ":!ligare.yaml"); got != "" {
		t.Errorf("unplace did not give the tree back:\n%s", got)
	}
	if got := git(t, fresh, "ls-files", "--others", "--exclude-standard"); got != "" {
		t.Errorf("left behind:\n%s", got)
	}
}

// outside reads placed values with tools that are not ours.
func outside(t *testing.T, dir string) {
	t.Helper()
	read := func(file, path string) string {
		cmd := exec.Command("xmllint", "--xpath", path, filepath.Join(dir, file))
		out, err := cmd.Output()
		if err != nil {
			t.Errorf("xmllint %s %s: %v", file, path, err)
		}
		return strings.TrimSpace(string(out))
	}
	set := "android/app/src/release/res/"
	number := read(set+"values/strings.xml", "string(/resources/string[@name='thornmill_number'])")
	if len(number) != 15 || number != read(set+"xml/thornmill_config.xml", "string(/thornmill-config/app/@number)") {
		t.Errorf("the number read by another tool: %q", number)
	}
}

func TestFormats(t *testing.T) {
	dir := connected(t, "formats")
	change(t, filepath.Join(dir, "android/app/src/release/res/values/strings.xml"), `_number">`, `_number"> `, 1)
	var sarif struct {
		Version string
		Runs    []struct {
			Results []struct {
				RuleID    string
				Level     string
				Locations []struct {
					PhysicalLocation struct {
						ArtifactLocation struct{ URI string }
						Region           struct{ StartLine int }
					}
				}
			}
		}
	}
	decode(t, must(t, 1, dir, "--format", "sarif", "check").out, &sarif)
	grave := 0
	for _, r := range sarif.Runs[0].Results {
		if r.Level != "note" {
			grave++
		}
	}
	if sarif.Version != "2.1.0" || grave != 1 || sarif.Runs[0].Results[0].RuleID != "resource-padded" || sarif.Runs[0].Results[0].Locations[0].PhysicalLocation.Region.StartLine != 3 {
		t.Errorf("sarif: %+v", sarif)
	}
	var junit struct {
		Failures int `xml:"failures,attr"`
		Tests    int `xml:"tests,attr"`
	}
	if err := xml.Unmarshal([]byte(must(t, 1, dir, "--format", "junit", "check").out), &junit); err != nil || junit.Failures != 1 || junit.Tests < 25 {
		t.Errorf("junit: %+v %v", junit, err)
	}
	if got := must(t, 1, dir, "check", "--offline").out; !strings.Contains(got, "[resource-padded]") {
		t.Errorf("offline: %s", got)
	}
	must(t, 1, dir, "lineup")
	must(t, 0, dir, "place", "thornmill", "--replace", "--yes")
	must(t, 0, dir, "check")
}

func TestAFeatureLaterMakesFilesOldAndRefreshMendsThem(t *testing.T) {
	dir := connected(t, "later")
	must(t, 0, dir, "register", "thornmill", "-e", "production", "--feature", "sign-in", "--password-env", "KEYSTORE_PASSWORD")
	got := must(t, 1, dir, "check").out
	if !strings.Contains(got, "[config-file-outdated]") || !strings.Contains(got, "ligare refresh thornmill") {
		t.Errorf("check: %s", got)
	}
	must(t, 0, dir, "refresh", "thornmill", "--yes")
	must(t, 0, dir, "check")
	must(t, 0, dir, "unplace", "thornmill", "--yes")
	if left := git(t, dir, "status", "--porcelain", "--", ".", ":!ligare.yaml"); left != "" {
		t.Errorf("after a refresh, unplace leaves %s", left)
	}
}

func TestConflictsAreShownAndLeft(t *testing.T) {
	dir := hivelog(t, "conflict")
	must(t, 0, dir, "app", "attach", "conflict")
	must(t, 0, dir, "register", "thornmill", "-e", "production", "--answer", "region=north")
	change(t, filepath.Join(dir, "android/app/build.gradle.kts"), "    implementation(libs.androidx.activity)\n", "    implementation(libs.androidx.activity)\n    implementation(\"example.thornmill:core:1.0.0\") // ours\n", 1)
	got := must(t, 1, dir, "place", "thornmill", "--yes")
	if !strings.Contains(got.out, "left alone") || !strings.Contains(got.out, "1.0.0") || !strings.Contains(got.out, "--replace") {
		t.Errorf("place: %s", got.out)
	}
	must(t, 0, dir, "place", "thornmill", "--yes", "--replace")
	b, err := os.ReadFile(filepath.Join(dir, "android/app/build.gradle.kts"))
	if err != nil || !strings.Contains(string(b), "implementation(\"example.thornmill:core:3.2.0\") // ours") {
		t.Errorf("replaced: %s %v", b, err)
	}
	must(t, 0, dir, "unplace", "thornmill", "--yes")
	if b, _ := os.ReadFile(filepath.Join(dir, "android/app/build.gradle.kts")); !strings.Contains(string(b), "core:1.0.0\") // ours") {
		t.Errorf("unplace did not bring back what was replaced: %s", b)
	}
}

func TestFetchedConfigFiles(t *testing.T) {
	dir := hivelog(t, "fetched")
	must(t, 0, dir, "app", "attach", "fetched", "--config-files", "fetched")
	must(t, 0, dir, "register", "thornmill", "-e", "development", "--answer", "region=north")
	must(t, 0, dir, "register", "thornmill", "-e", "production", "--answer", "region=north")
	must(t, 0, dir, "place", "thornmill", "--yes")
	if got := git(t, dir, "check-ignore", "ios/Hivelog/Thornmill.json"); got == "" {
		t.Error("the config file is not ignored")
	}
	git(t, dir, "add", "--all")
	git(t, dir, "commit", "--quiet", "-m", "placed")
	clone := filepath.Join(t.TempDir(), "build")
	git(t, dir, "clone", "--quiet", dir, clone)
	if got := must(t, 1, clone, "check").out; !strings.Contains(got, "[config-file-missing]") {
		t.Errorf("before fetching: %s", got)
	}
	must(t, 0, clone, "fetch", "thornmill")
	must(t, 0, clone, "check")
	if got := git(t, clone, "status", "--porcelain"); got != "" {
		t.Errorf("fetching changed tracked files: %s", got)
	}
}

func TestBadInput(t *testing.T) {
	dir := connected(t, "badinput")
	git(t, dir, "add", "--all")
	git(t, dir, "commit", "--quiet", "-m", "placed")
	cert := filepath.Join(dir, "android/keystores/release.keystore")
	project := filepath.Join(dir, "ios/Hivelog.xcodeproj/project.pbxproj")
	whole, err := os.ReadFile(project)
	if err != nil {
		t.Fatal(err)
	}
	empty := t.TempDir()
	for _, c := range []struct {
		name      string
		before    func()
		dir       string
		env       []string
		args      []string
		say, next string
	}{
		{name: "wrong folder", dir: empty, args: []string{"survey"}, say: "no app was found", next: "--tree"},
		{name: "no folder", dir: dir, args: []string{"--tree", "nowhere", "survey"}, say: "not there", next: "--tree"},
		{name: "wrong password", dir: dir, env: []string{"P=wrong"}, args: []string{"digest", cert, "--password-env", "P"}, say: "password", next: "--password-env"},
		{name: "no password", dir: dir, args: []string{"digest", cert}, say: "no terminal", next: "--password-file"},
		{name: "not a keystore", dir: dir, args: []string{"digest", "README.md"}, say: "neither a keystore", next: "keystore"},
		{name: "server away", dir: dir, env: []string{"LIGARE_SERVER=http://127.0.0.1:9", "LIGARE_TOKEN=x"}, args: []string{"place", "thornmill", "--yes"}, say: "cannot be reached", next: "ligared local"},
		{name: "no server", dir: dir, env: []string{"LIGARE_HOME=" + empty}, args: []string{"registrations"}, say: "no server is known", next: "ligared local"},
		{name: "an argument too many", dir: dir, args: []string{"place", "thornmill", "extra"}, say: "takes exactly one SERVICE", next: "--help"},
		{name: "token unknown", dir: dir, env: []string{"LIGARE_TOKEN=ligare-person-0"}, args: []string{"registrations"}, say: "not known", next: "LIGARE_TOKEN"},
		{name: "a word instead of a package", dir: dir, args: []string{"check", "extra"}, say: "extra", next: "APK"},
		{name: "no such service", dir: dir, args: []string{"register", "nowhere", "-e", "production"}, say: "no service", next: "service list"},
		{name: "no such command", dir: dir, args: []string{"plaice"}, say: "no command", next: "--help"},
		{name: "no such option", dir: dir, args: []string{"check", "--colour"}, say: "colour", next: "--help"},
		{name: "nothing placed", dir: dir, args: []string{"unplace", "other"}, say: "nothing is recorded", next: "thornmill-production"},
		{name: "web page for a config file", dir: dir, before: func() {
			if err := os.WriteFile(filepath.Join(dir, "ios/Hivelog/Thornmill.json"), []byte("<!DOCTYPE html><html>Sign in"), 0o644); err != nil {
				t.Fatal(err)
			}
		}, args: []string{"probe", "thornmill"}, say: "web page", next: "--replace"},
		{name: "truncated project", dir: dir, before: func() {
			if err := os.WriteFile(project, whole[:len(whole)/2], 0o644); err != nil {
				t.Fatal(err)
			}
		}, args: []string{"place", "thornmill", "--yes"}, say: "project.pbxproj", next: ""},
	} {
		git(t, dir, "checkout", "--quiet", "--", ".")
		if c.before != nil {
			c.before()
		}
		was := git(t, dir, "status", "--porcelain") + git(t, dir, "diff")
		r := runWith(t, c.dir, append([]string{"LIGARE_HOME=" + home}, c.env...), c.args...)
		if r.status != 2 || !strings.Contains(r.err, c.say) || !strings.Contains(r.err, c.next) || strings.Contains(r.err, "panic") {
			t.Errorf("%s: status %d\n%s%s", c.name, r.status, r.out, r.err)
		}
		if now := git(t, dir, "status", "--porcelain") + git(t, dir, "diff"); now != was {
			t.Errorf("%s: something was written:\n%s", c.name, now)
		}
	}
}

func TestNoPermission(t *testing.T) {
	dir := connected(t, "readonly")
	git(t, dir, "checkout", "--quiet", "--", ".")
	must(t, 0, dir, "unplace", "thornmill", "--yes")
	own := t.TempDir()
	cmd := exec.Command(filepath.Join(bin, "ligare"), "place", "thornmill", "--yes")
	cmd.Dir = dir
	cmd.Env = append(os.Environ(), "LIGARE_HOME="+own, "LIGARE_SERVER="+end.Address, "LIGARE_TOKEN="+end.Token)
	if os.Geteuid() == 0 { // root may write anywhere: run as somebody who may not
		u, err := user.Lookup("nobody")
		if err != nil {
			t.Skip("no user nobody to run as")
		}
		uid, _ := strconv.Atoi(u.Uid)
		gid, _ := strconv.Atoi(u.Gid)
		for _, p := range []string{own, filepath.Dir(own), filepath.Dir(dir), filepath.Dir(filepath.Dir(dir))} {
			if err := os.Chmod(p, 0o755); err != nil {
				t.Fatal(err)
			}
		}
		if err := os.Chown(own, uid, gid); err != nil {
			t.Fatal(err)
		}
		cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}}
	} else {
		if err := exec.Command("chmod", "-R", "a-w", dir).Run(); err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() {
			if err := exec.Command("chmod", "-R", "u+w", dir).Run(); err != nil {
				t.Error(err)
			}
		})
	}
	was := git(t, dir, "status", "--porcelain")
	out, err := cmd.CombinedOutput()
	if err == nil || cmd.ProcessState.ExitCode() != 2 || !strings.Contains(string(out), "permission") || !strings.Contains(string(out), "next:") {
		t.Errorf("%v\n%s", err, out[max(0, len(out)-800):])
	}
	if now := git(t, dir, "status", "--porcelain"); now != was {
		t.Errorf("something was written: %s", now)
	}
}

func TestATeamsServer(t *testing.T) {
	dir, err := os.MkdirTemp("", "ligare-e2e-team-")
	if err != nil {
		t.Fatal(err)
	}
	defer os.RemoveAll(dir)
	if err := os.Chmod(dir, 0o711); err != nil {
		t.Fatal(err)
	}
	c, err := cluster.Start(context.Background(), filepath.Join(dir, "postgres"))
	if err != nil {
		t.Fatal(err)
	}
	defer c.Stop()
	env := append(os.Environ(), "LIGARE_DATABASE="+c.URL, "LIGARE_KEYRING="+filepath.Join(dir, "keyring.json"))
	ligared := func(args ...string) string {
		t.Helper()
		cmd := exec.Command(filepath.Join(bin, "ligared"), args...)
		cmd.Env = env
		out, err := cmd.Output()
		if err != nil {
			t.Fatalf("ligared %v: %v\n%s", args, err, out)
		}
		return strings.TrimSpace(string(out))
	}
	ligared("migrate")
	owner := ligared("token", "--team", "Larkfield", "--person", "Wren", "--role", "owner")
	reader := ligared("token", "--team", "Larkfield", "--person", "Rook", "--role", "reader", "--lasting", "1h")
	late := ligared("token", "--team", "Larkfield", "--person", "Jay", "--lasting", "1ns")
	ligared("rotate-keys")
	cmd := exec.Command(filepath.Join(bin, "ligared"), "serve", "--listen", "127.0.0.1:0")
	cmd.Env = env
	out, err := cmd.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	buf := make([]byte, 256)
	n, err := out.Read(buf)
	if err != nil {
		t.Fatal(err)
	}
	address := strings.TrimSpace(strings.TrimPrefix(string(buf[:n]), "Serving on "))
	tree := hivelog(t, "team")
	as := func(token string, args ...string) result {
		return runWith(t, tree, []string{"LIGARE_HOME=" + t.TempDir(), "LIGARE_SERVER=" + address, "LIGARE_TOKEN=" + token}, args...)
	}
	if r := as(owner, "app", "attach", "team", "--remember-server"); r.status != 0 {
		t.Errorf("%s%s", r.out, r.err)
	}
	if b, err := os.ReadFile(filepath.Join(tree, "ligare.yaml")); err != nil || !strings.Contains(string(b), "server: "+address) {
		t.Errorf("the server is not remembered: %s %v", b, err)
	}
	if r := as(reader, "app", "list"); r.status != 0 || !strings.Contains(r.out, "team") {
		t.Errorf("a reader reads: %s%s", r.out, r.err)
	}
	if r := as(reader, "service", "connect", "thornmill", "--address", "http://127.0.0.1:9"); r.status != 2 || !strings.Contains(r.err, "role") {
		t.Errorf("a reader connects: %s%s", r.out, r.err)
	}
	if r := as(late, "app", "list"); r.status != 2 || !strings.Contains(r.err, "expired") || !strings.Contains(r.err, "next:") {
		t.Errorf("an expired token: %s%s", r.out, r.err)
	}
	if r := as(owner, "register", "thornmill", "-e", "production", "--answer", "region=north"); r.status != 2 || !strings.Contains(r.err, "service connect") {
		t.Errorf("without an account: %s%s", r.out, r.err)
	}
	if err := cmd.Process.Signal(syscall.SIGTERM); err != nil {
		t.Fatal(err)
	}
	if err := cmd.Wait(); err != nil {
		t.Errorf("stopping: %v", err)
	}
}
