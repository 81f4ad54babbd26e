package keyring

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

func TestSealing(t *testing.T) {
	file := filepath.Join(t.TempDir(), "k", "keyring.json")
	k, err := Open(file)
	if err != nil {
		t.Fatal(err)
	}
	sealed, err := k.Seal("secret-value", "team", "registration", "field")
	if err != nil || strings.Contains(string(sealed), "secret") {
		t.Fatalf("%q %v", sealed, err)
	}
	if _, err := k.Open(sealed, "team", "registration", "other"); err == nil {
		t.Error("a value was opened in another field")
	}
	if _, err := Rotate(file); err != nil {
		t.Fatal(err)
	}
	again, err := Open(file)
	if err != nil {
		t.Fatal(err)
	}
	if v, err := again.Open(sealed, "team", "registration", "field"); err != nil || v != "secret-value" {
		t.Errorf("after rotation: %q %v", v, err)
	}
	fresh, _ := again.Seal("x", "a")
	if _, err := k.Open(fresh, "a"); err == nil {
		t.Error("rotation did not change the key that seals")
	}
	if err := os.Chmod(file, 0o644); err != nil {
		t.Fatal(err)
	}
	if _, err := Open(file); err == nil || !strings.Contains(err.Error(), "chmod 600") {
		t.Errorf("a keyring that others may read: %v", err)
	}
}
