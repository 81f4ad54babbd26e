package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"ligare/demo"
)

func studio(t *testing.T, app string) string {
	t.Helper()
	dir := filepath.Join(t.TempDir(), app)
	if err := demo.Copy(app, dir); err != nil {
		t.Fatal(err)
	}
	return dir
}

func secretFile(t *testing.T, text string) string {
	t.Helper()
	name := filepath.Join(t.TempDir(), "password")
	if err := os.WriteFile(name, []byte(text+"\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	return name
}

// What a person reads of every app of the studio: the shape of the text, one variant, the details, the schema.
func TestSurveyAsPeopleMeetIt(t *testing.T) {
	tern := studio(t, "tern-crossing")
	text := must(t, 0, tern, "survey").out
	for _, say := range []string{"under flutter", "northDebug", "example.larkfield.terncrossing.north", "`flutter.targetSdkVersion`: the Flutter SDK sets it", "only the first counts"} {
		if !strings.Contains(text, say) {
			t.Errorf("the survey does not say %q:\n%s", say, text)
		}
	}
	if one := must(t, 0, tern, "survey", "--variant", "southRelease").out; strings.Contains(one, "northDebug") || !strings.Contains(one, "key.properties is not in the tree") {
		t.Errorf("one variant:\n%s", one)
	}
	if all := must(t, 0, tern, "survey", "--details").out; !strings.Contains(all, "android.permission.CAMERA") || !strings.Contains(all, "tern.larkfield.example") || !strings.Contains(all, "NSCameraUsageDescription") || !strings.Contains(all, "calls runApp") {
		t.Errorf("the details:\n%s", all)
	}
	seed := studio(t, "seedswap")
	if text := must(t, 0, seed, "survey").out; !strings.Contains(text, "twice (android/settings.gradle") {
		t.Errorf("a native half linked twice is not said:\n%s", text)
	}
	var schema, said map[string]any
	decode(t, must(t, 0, seed, "survey", "--schema").out, &schema)
	decode(t, must(t, 0, seed, "--format", "json", "survey").out, &said)
	defs, ok := schema["$defs"].(map[string]any)["Report"].(map[string]any)["properties"].(map[string]any)
	for field := range said {
		if !ok || defs[field] == nil {
			t.Errorf("%q is printed and not in the schema", field)
		}
	}
	if text := must(t, 0, studio(t, "marrow-radio"), "survey").out; !strings.Contains(text, "hosted-web") {
		t.Errorf("the hosted app:\n%s", text)
	}
	web := t.TempDir()
	if err := os.WriteFile(filepath.Join(web, "package.json"), []byte(`{"dependencies": {"react": "19.0.0"}}`), 0o644); err != nil {
		t.Fatal(err)
	}
	for _, bad := range []struct {
		dir  string
		args []string
		say  string
	}{
		{tern, []string{"survey", "--variant", "eastDebug"}, "northDebug"}, {web, []string{"survey"}, "no app was found"}, {tern, []string{"survey", "north"}, "takes no argument"},
		{tern, []string{"survey", "--send"}, "not attached"},
	} {
		if r := must(t, 2, bad.dir, bad.args...); !strings.Contains(r.err, bad.say) || !strings.Contains(r.err, "next:") {
			t.Errorf("%v: %s", bad.args, r.err)
		}
	}
}

// A colleague's debug certificate takes one command, and the services that must know it are named.
func TestSignersAsPeopleMeetThem(t *testing.T) {
	dir := connected(t, "signed")
	t.Setenv("HOME", t.TempDir())
	t.Setenv("ANDROID_USER_HOME", "")
	if r := must(t, 2, dir, "signer", "add"); !strings.Contains(r.err, "no debug keystore") || !strings.Contains(r.err, "signer make") {
		t.Errorf("no keystore: %s", r.err)
	}
	store := filepath.Join(os.Getenv("HOME"), ".android/debug.keystore")
	must(t, 0, dir, "signer", "make", store)
	if r := must(t, 2, dir, "signer", "make", store); !strings.Contains(r.err, "is there already") {
		t.Errorf("made again: %s", r.err)
	}
	r := must(t, 0, dir, "signer", "add", "--owner", "Sedge", "--machine", "barn")
	if !strings.Contains(r.out, "Sedge barn debug") || !strings.Contains(r.out, "signs") || !strings.Contains(r.out, "Thornmill development") || !strings.Contains(r.out, "MISSING there") {
		t.Errorf("a colleague's certificate:\n%s", r.out)
	}
	own := filepath.Join(dir, "android/keystores/debug.keystore")
	if r := must(t, 0, dir, "signer", "add", own, "--identity", "example.larkfield.signed.debug", "--name", "own"); !strings.Contains(r.out, "has it") {
		t.Errorf("the registered one:\n%s", r.out)
	}
	if r := must(t, 0, dir, "signer", "list", "--app", "signed"); !strings.Contains(r.out, "own (debug)") || !strings.Contains(r.out, "Sedge") {
		t.Errorf("the list:\n%s", r.out)
	}
	release := filepath.Join(t.TempDir(), "deep", "release.p12")
	r = must(t, 0, dir, "signer", "make", release, "--role", "upload", "--holder", "Larkfield Cooperative", "--password-file", secretFile(t, "quite-secret-indeed"))
	if strings.Contains(r.out+r.err, "quite-secret-indeed") || !strings.Contains(r.out, "CN=Larkfield Cooperative") || !strings.Contains(r.out, "RSA, 3072 bits") {
		t.Errorf("an upload keystore:\n%s%s", r.out, r.err)
	}
	for _, bad := range []struct {
		args []string
		say  string
	}{
		{[]string{"signer", "add", release, "--role", "upload", "--password-file", secretFile(t, "wrong-one")}, "is wrong"},
		{[]string{"signer", "add", own, "--role", "boss"}, "cannot have the role"},
		{[]string{"signer", "add", own, "--identity", "not.there"}, "no Android identity"},
		{[]string{"signer", "add", own, "--alias", "nobody"}, "no alias"},
		{[]string{"signer", "make", release + "2", "--role", "release"}, "names who signs"},
		{[]string{"signer", "make", release + "2", "--role", "release", "--holder", "x", "--password-file", secretFile(t, "short")}, "at least six"},
		{[]string{"digest", release, "--password-env", "NOT_SET_ANYWHERE"}, "the environment has no"},
	} {
		if r := must(t, 2, dir, bad.args...); !strings.Contains(r.err, bad.say) || !strings.Contains(r.err, "next:") {
			t.Errorf("%v: %s", bad.args, r.err)
		}
	}
	if _, err := os.Stat(release + "2"); err == nil {
		t.Error("a refused keystore was written")
	}
}
