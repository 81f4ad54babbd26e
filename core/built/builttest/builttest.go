// Package builttest holds the packages that tests of several parts try themselves on: made from testdata/source and
// testdata/apple by the platform's own tools (testdata/make.sh), which the tests do not need.
package builttest

import (
	"archive/zip"
	"bytes"
	"embed"
	"io"
	"testing"
)

//go:embed testdata/*.apk testdata/*.aab testdata/*.ipa testdata/certificates.txt
var files embed.FS

// Load gives a package, or certificates.txt: what the platform's tool said of their signers.
func Load(t testing.TB, name string) []byte {
	t.Helper()
	b, err := files.ReadFile("testdata/" + name)
	if err != nil {
		t.Fatal(err)
	}
	return b
}

// Entry takes one entry out of a package.
func Entry(t testing.TB, pkg, name string) []byte {
	t.Helper()
	f, err := open(t, Load(t, pkg)).Open(name)
	if err != nil {
		t.Fatal(err)
	}
	b, err := io.ReadAll(f)
	if err != nil {
		t.Fatal(err)
	}
	return b
}

// With gives a package with more entries, names and contents in turn. The entries it had stay as they are packed; a signing
// block is gone.
func With(t testing.TB, pkg []byte, more ...string) []byte {
	t.Helper()
	var out bytes.Buffer
	w := zip.NewWriter(&out)
	for _, f := range open(t, pkg).File {
		if err := w.Copy(f); err != nil {
			t.Fatal(err)
		}
	}
	for i := 0; i < len(more); i += 2 {
		e, err := w.Create(more[i])
		if err == nil {
			_, err = io.WriteString(e, more[i+1])
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	return out.Bytes()
}

func open(t testing.TB, b []byte) *zip.Reader {
	t.Helper()
	z, err := zip.NewReader(bytes.NewReader(b), int64(len(b)))
	if err != nil {
		t.Fatal(err)
	}
	return z
}
