package job

import (
	"context"
	"encoding/json"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"ligare/core/survey"
	"ligare/demo"
)

func makeKeyStore(t *testing.T, file, role, password string) *Certificates {
	t.Helper()
	list, err := MakeKeyStore(MakeOptions{File: file, Role: role, Alias: map[string]string{"release": "hivelog"}[role], Holder: "Larkfield Cooperative", Years: 30, Password: func() (string, error) { return password, nil }})
	if err != nil {
		t.Fatal(err)
	}
	return list
}

func TestKeyStoresAreMadeOnlyWhereNoneIs(t *testing.T) {
	file := filepath.Join(t.TempDir(), "keys", "release.p12")
	list := makeKeyStore(t, file, "release", "honey-pass")
	if len(list.List) != 1 || list.List[0].Alias != "hivelog" || list.List[0].Key != "RSA" || list.List[0].Bits != 3072 {
		t.Errorf("%+v", list)
	}
	info, err := os.Stat(file)
	if err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("%v %v", info.Mode(), err)
	}
	was, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	for _, o := range []MakeOptions{
		{File: file, Role: "debug"},
		{File: file + "2", Role: "store"},
		{File: file + "2", Role: "release"},
		{File: file + "2", Role: "release", Holder: "x", Years: 30, Password: func() (string, error) { return "short", nil }},
		{File: file + "2", Role: "release", Holder: "x", Years: 30, Password: func() (string, error) { return "", errors.New("no terminal") }},
	} {
		if _, err := MakeKeyStore(o); err == nil {
			t.Errorf("%+v was made", o)
		}
	}
	if now, err := os.ReadFile(file); err != nil || string(now) != string(was) {
		t.Error("a keystore that was there was touched")
	}
	left, err := os.ReadDir(filepath.Dir(file))
	if err != nil || len(left) != 1 {
		t.Errorf("left behind: %v %v", left, err)
	}
}

// A survey says which certificate each variant signs with and what git knows; what is sent up holds no password.
func TestDescribeAndSend(t *testing.T) {
	dir, f, c := start(t)
	makeKeyStore(t, filepath.Join(dir, "android/keystores/debug2.keystore"), "debug", "")
	for _, k := range []string{"debug", "release"} {
		if err := os.RemoveAll(filepath.Join(dir, "android/keystores", k+".keystore")); err != nil {
			t.Fatal(err)
		}
	}
	debug := makeKeyStore(t, filepath.Join(dir, "android/keystores/debug.keystore"), "debug", "")
	makeKeyStore(t, filepath.Join(dir, "android/keystores/release.keystore"), "release", "never-sent-anywhere")
	for _, args := range [][]string{{"init", "-q"}, {"add", "-A"}, {"-c", "user.name=W", "-c", "user.email=w@larkfield.example", "commit", "-q", "-m", "x"}} {
		if out, err := exec.Command("git", append([]string{"-C", dir}, args...)...).CombinedOutput(); err != nil {
			t.Fatalf("%v %s", err, out)
		}
	}
	w, err := Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	d, err := w.Describe(context.Background())
	if err != nil {
		t.Fatal(err)
	}
	for _, v := range d.Android.Modules[0].Variants {
		switch {
		case v.Name == "debug" && (v.Certificate == nil || v.Certificate.SHA256 != debug.List[0].Digests.SHA256Colons):
			t.Errorf("debug: %+v", v.Certificate)
		case v.Name == "release" && (v.Certificate == nil || !strings.Contains(v.Certificate.Unresolved, "password is not in the build files")):
			t.Errorf("release: %+v", v.Certificate)
		}
	}
	states := map[string]FileState{}
	for _, x := range d.VersionControl.Files {
		states[x.File] = x
	}
	if !d.VersionControl.Known || !states["android/keystores/debug.keystore"].Tracked || !states["android/keystores/release.keystore"].Ignored || states["android/keystores/release.keystore"].Tracked {
		t.Errorf("%+v", d.VersionControl)
	}
	if _, err := w.Attach(context.Background(), c, "hivelog", "", "", false); err != nil {
		t.Fatal(err)
	}
	sent, err := json.Marshal(f.survey)
	if err != nil {
		t.Fatal(err)
	}
	text := string(sent)
	for _, want := range []string{`"application ID","value":"example.larkfield.hivelog.debug"`, "android/app/build.gradle.kts:", debug.List[0].Digests.SHA256Colons, `"site":"ios/Hivelog:Hivelog"`, "does not count: namespace"} {
		if !strings.Contains(text, want) {
			t.Errorf("%s was not sent in %s", want, text)
		}
	}
	for _, never := range []string{"never-sent-anywhere", "storePassword", `"android"}`, dir} {
		if strings.Contains(text, never) {
			t.Errorf("%s was sent", never)
		}
	}
	if err := w.Only("nothing"); err == nil {
		t.Error("a variant that is not there")
	}
	if err := w.Only("release"); err != nil || len(w.Survey.Android.Modules[0].Variants) != 1 || len(w.Survey.IOS.Projects) != 0 {
		t.Errorf("%v", err)
	}
}

// What lies outside the tree is read when it is given, and only then.
func TestOnlyGivenRootsAreRead(t *testing.T) {
	t.Setenv("LIGARE_HOME", t.TempDir())
	home := t.TempDir()
	t.Setenv("HOME", home)
	t.Setenv("ANDROID_USER_HOME", "")
	t.Setenv("ORCHARD_ID", "example.from.environment")
	makeKeyStore(t, filepath.Join(home, ".android/debug.keystore"), "debug", "")
	for name, text := range map[string]string{filepath.Join(home, ".gradle/gradle.properties"): "suffix=.home\n"} {
		if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(name, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	dir := t.TempDir()
	if err := os.WriteFile(filepath.Join(dir, "settings.gradle"), nil, 0o644); err != nil {
		t.Fatal(err)
	}
	build := "apply plugin: 'com.android.application'\nandroid { namespace 'n.s'\n defaultConfig { applicationId System.getenv('ORCHARD_ID'); versionName project.property('suffix') } }"
	if err := os.WriteFile(filepath.Join(dir, "build.gradle"), []byte(build), 0o644); err != nil {
		t.Fatal(err)
	}
	look := func(l Look) *survey.AndroidVariant {
		t.Helper()
		w, err := OpenWith(dir, l)
		if err != nil {
			t.Fatal(err)
		}
		d, err := w.Describe(context.Background())
		if err != nil {
			t.Fatal(err)
		}
		return d.Android.Modules[0].Variants[0]
	}
	if v := look(Look{}); v.ApplicationID.Known() || v.VersionName.Known() || v.KeyStore.Known() || v.Certificate != nil {
		t.Errorf("without being told: %s %s %s", v.ApplicationID.Say(), v.VersionName.Say(), v.KeyStore.Say())
	}
	v := look(Look{Home: true, Environment: true})
	if v.ApplicationID.String() != "example.from.environment" || v.VersionName.String() != ".home" || v.KeyStore.String() != "~/.android/debug.keystore" || v.Certificate == nil || v.Certificate.SHA1 == "" {
		t.Errorf("given: %s %s %s %+v", v.ApplicationID.Say(), v.VersionName.Say(), v.KeyStore.Say(), v.Certificate)
	}
}

func TestAHostedTreeIsAnAppAndAWebAppIsNot(t *testing.T) {
	t.Setenv("LIGARE_HOME", t.TempDir())
	dir := t.TempDir()
	if err := demo.Copy("marrow-radio", dir); err != nil {
		t.Fatal(err)
	}
	w, err := Open(dir)
	if err != nil || w.NeedApp() != nil || w.Survey.Layouts[0] != "hosted-web" {
		t.Fatalf("%v %v", err, w.Survey.Layouts)
	}
	if err := os.WriteFile(filepath.Join(dir, "package.json"), []byte(`{"dependencies": {"react": "19.0.0"}}`), 0o644); err != nil {
		t.Fatal(err)
	}
	if w, err = Open(dir); err != nil || w.NeedApp() == nil {
		t.Errorf("a web app passed for a mobile one: %v", err)
	}
}
