package main

import (
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"ligare/core/cert"
)

// BenchmarkDigest runs whole processes: ligare's digest beside the platform's own tool, on the same keystore.
func BenchmarkDigest(b *testing.B) {
	dir := b.TempDir()
	bin, store := filepath.Join(dir, "ligare"), filepath.Join(dir, "k.p12")
	if out, err := exec.Command("go", "build", "-o", bin, ".").CombinedOutput(); err != nil {
		b.Fatalf("%v %s", err, out)
	}
	file, _, err := cert.Create(cert.Debug, time.Now())
	if err != nil {
		b.Fatal(err)
	}
	if err := os.WriteFile(store, file, 0o600); err != nil {
		b.Fatal(err)
	}
	b.Setenv("P", cert.Debug.Password)
	for name, args := range map[string][]string{
		"ligare":  {bin, "digest", store, "--password-env", "P"},
		"keytool": {"keytool", "-list", "-v", "-keystore", store, "-storepass:env", "P"},
	} {
		b.Run(name, func(b *testing.B) {
			for b.Loop() {
				if out, err := exec.Command(args[0], args[1:]...).CombinedOutput(); err != nil {
					b.Fatalf("%v %s", err, out)
				}
			}
		})
	}
}
