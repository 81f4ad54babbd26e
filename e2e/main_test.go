// Package e2e tests what people run: the built programs, against a running server with its private PostgreSQL and the
// simulated services, and the console in headless Chromium.
package e2e

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"ligare/client"
	"ligare/demo"
)

var (
	bin  string // folder of the built programs
	home string // of the server all tests share
	end  client.Endpoint
)

func TestMain(m *testing.M) {
	code, err := around(m)
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		code = 2
	}
	os.Exit(code)
}

func around(m *testing.M) (code int, err error) {
	dir, err := os.MkdirTemp("", "ligare-e2e-")
	if err != nil {
		return 2, err
	}
	defer func() { err = errors.Join(err, os.RemoveAll(dir)) }()
	if err := os.Chmod(dir, 0o755); err != nil {
		return 2, err
	}
	bin, home = filepath.Join(dir, "bin"), filepath.Join(dir, "home")
	if out, err := exec.Command("go", "build", "-o", bin+"/", "ligare/cmd/...").CombinedOutput(); err != nil {
		return 2, fmt.Errorf("building: %w\n%s", err, out)
	}
	server := exec.Command(filepath.Join(bin, "ligared"), "local", "--simulated")
	server.Env = append(os.Environ(), "LIGARE_HOME="+home)
	server.Stderr = os.Stderr
	out, err := server.StdoutPipe()
	if err != nil {
		return 2, err
	}
	if err := server.Start(); err != nil {
		return 2, err
	}
	buf := make([]byte, 4096)
	if _, err := out.Read(buf); err != nil {
		return 2, fmt.Errorf("the server did not start: %w", err)
	}
	if end, err = client.LoadEndpoint(home); err != nil {
		return 2, err
	}
	code = m.Run()
	if err := server.Process.Signal(syscall.SIGTERM); err != nil {
		return 2, err
	}
	if err := server.Wait(); err != nil {
		return 2, fmt.Errorf("the server did not stop well: %w", err)
	}
	if left := processes(dir); len(left) > 0 {
		return 2, fmt.Errorf("left running: %v", left)
	}
	return code, nil
}

// processes lists the command lines of running processes that name a folder.
func processes(dir string) []string {
	var out []string
	list, _ := filepath.Glob("/proc/[0-9]*/cmdline")
	for _, p := range list {
		b, err := os.ReadFile(p)
		if err == nil && bytes.Contains(b, []byte(dir)) && !strings.Contains(p, fmt.Sprintf("/%d/", os.Getpid())) {
			out = append(out, strings.ReplaceAll(string(b), "\x00", " "))
		}
	}
	return out
}

// result is how a command ended.
type result struct {
	out, err string
	status   int
}

// run runs ligare in a folder with the shared server.
func run(t *testing.T, dir string, args ...string) result {
	t.Helper()
	return runWith(t, dir, []string{"LIGARE_HOME=" + home}, args...)
}

func runWith(t *testing.T, dir string, env []string, args ...string) result {
	t.Helper()
	cmd := exec.Command(filepath.Join(bin, "ligare"), args...)
	cmd.Dir = dir
	cmd.Env = append(append(os.Environ(), "LIGARE_SERVER=", "LIGARE_TOKEN=", "KEYSTORE_PASSWORD=secret-enough"), env...)
	var out, errs bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errs
	err := cmd.Run()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		t.Fatal(err)
	}
	return result{out.String(), errs.String(), cmd.ProcessState.ExitCode()}
}

// must runs a command that has to end with a status.
func must(t *testing.T, status int, dir string, args ...string) result {
	t.Helper()
	r := run(t, dir, args...)
	if r.status != status {
		t.Fatalf("ligare %s: status %d, expected %d\n%s%s", strings.Join(args, " "), r.status, status, r.out, r.err)
	}
	return r
}

func decode(t *testing.T, text string, into any) {
	t.Helper()
	if err := json.Unmarshal([]byte(text), into); err != nil {
		t.Fatalf("%v\n%s", err, text)
	}
}

func git(t *testing.T, dir string, args ...string) string {
	t.Helper()
	cmd := exec.Command("git", append([]string{"-C", dir, "-c", "user.name=T", "-c", "user.email=t@larkfield.example", "-c", "commit.gpgsign=false"}, args...)...)
	out, err := cmd.CombinedOutput()
	if err != nil {
		t.Fatalf("git %v: %v\n%s", args, err, out)
	}
	return string(out)
}

// hivelog copies the demo app, with a debug keystore and a history, under identifiers of its own, so that tests do not
// meet in the shared records.
func hivelog(t *testing.T, name string) string {
	t.Helper()
	dir := filepath.Join(t.TempDir(), "tree")
	if err := demo.Copy("hivelog", dir); err != nil {
		t.Fatal(err)
	}
	for _, f := range []string{"android/app/build.gradle.kts", "ios/Hivelog.xcodeproj/project.pbxproj"} {
		change(t, filepath.Join(dir, f), "example.larkfield.hivelog", "example.larkfield."+name, -1)
	}
	change(t, filepath.Join(dir, "android/app/build.gradle.kts"), `namespace = "example.larkfield.`+name, `namespace = "example.larkfield.hivelog`, 1)
	keys := filepath.Join(dir, "android/keystores")
	if err := os.MkdirAll(keys, 0o755); err != nil {
		t.Fatal(err)
	}
	for file, password := range map[string]string{"debug.keystore": "android", "release.keystore": "secret-enough"} {
		alias := map[string]string{"debug.keystore": "androiddebugkey", "release.keystore": "hivelog"}[file]
		cmd := exec.Command("keytool", "-genkeypair", "-keystore", filepath.Join(keys, file), "-storetype", "PKCS12", "-storepass:env", "P", "-alias", alias, "-dname", "CN=Android Debug", "-keyalg", "EC")
		cmd.Env = append(os.Environ(), "P="+password)
		if out, err := cmd.CombinedOutput(); err != nil {
			t.Fatalf("keytool: %v\n%s", err, out)
		}
	}
	git(t, dir, "init", "--quiet", "--initial-branch=main")
	git(t, dir, "add", "--all")
	git(t, dir, "commit", "--quiet", "-m", "as it was")
	return dir
}

func change(t *testing.T, file, from, to string, n int) {
	t.Helper()
	b, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	out := bytes.Replace(b, []byte(from), []byte(to), n)
	if bytes.Equal(out, b) {
		t.Fatalf("%s has no %q", file, from)
	}
	if err := os.WriteFile(file, out, 0o644); err != nil {
		t.Fatal(err)
	}
}

// connected attaches, registers and places.
func connected(t *testing.T, name string) string {
	t.Helper()
	dir := hivelog(t, name)
	must(t, 0, dir, "app", "attach", name)
	must(t, 0, dir, "register", "thornmill", "-e", "development", "--answer", "region=north", "--feature", "sign-in")
	must(t, 0, dir, "register", "thornmill", "-e", "production", "--answer", "region=south")
	git(t, dir, "add", "--all")
	git(t, dir, "commit", "--quiet", "-m", "attached")
	must(t, 0, dir, "place", "thornmill", "--yes")
	return dir
}

func TestTheDemoRunsAndLeavesNothing(t *testing.T) {
	dir, err := os.MkdirTemp("", "ligare-e2e-demo-")
	if err != nil {
		t.Fatal(err)
	}
	defer os.RemoveAll(dir)
	if err := os.Chmod(dir, 0o711); err != nil {
		t.Fatal(err)
	}
	for range 2 { // a second run on the same folder, too
		out, err := exec.Command(filepath.Join(bin, "ligared"), "demo", "--once", "--folder", filepath.Join(dir, "made", "here")).CombinedOutput()
		if err != nil {
			t.Fatalf("%v\n%s", err, out[max(0, len(out)-3000):])
		}
		for _, say := range []string{"[identifier-letter-case]", "[config-file-misplaced]", "[config-file-renamed]", "[config-file-not-in-target]", "[resource-padded]", "It works.", "before placing: nothing"} {
			if !bytes.Contains(out, []byte(say)) {
				t.Errorf("the walk-through does not say %q", say)
			}
		}
	}
	if left := processes(dir); len(left) > 0 {
		t.Errorf("left running: %v", left)
	}
}

func TestAKilledServerTakesItsDatabaseAlong(t *testing.T) {
	dir, err := os.MkdirTemp("", "ligare-e2e-kill-")
	if err != nil {
		t.Fatal(err)
	}
	defer os.RemoveAll(dir)
	if err := os.Chmod(dir, 0o711); err != nil {
		t.Fatal(err)
	}
	cmd := exec.Command(filepath.Join(bin, "ligared"), "local")
	cmd.Env = append(os.Environ(), "LIGARE_HOME="+filepath.Join(dir, "home"))
	out, err := cmd.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	if _, err := out.Read(make([]byte, 1024)); err != nil {
		t.Fatal(err)
	}
	second := exec.Command(filepath.Join(bin, "ligared"), "local")
	second.Env = cmd.Env
	if b, err := second.CombinedOutput(); err == nil || !bytes.Contains(b, []byte("runs on")) {
		t.Errorf("a second server on the same folder: %v\n%s", err, b)
	}
	if err := cmd.Process.Kill(); err != nil {
		t.Fatal(err)
	}
	_ = cmd.Wait() // it was killed
	for until := time.Now().Add(10 * time.Second); len(processes(dir)) > 0; time.Sleep(100 * time.Millisecond) {
		if time.Now().After(until) {
			t.Fatalf("left running: %v", processes(dir))
		}
	}
}
