package comb

import (
	"bytes"
	"crypto/sha1"
	"errors"
	"path"
	"strings"
	"unicode/utf16"

	"ligare/core/cert"
)

// guesses are the passwords that everybody tries first on a keystore.
var guesses = []string{"", "android", "changeit", "password", "changeme", "123456", "12345678", "123456789", "secret", "keystore", "release", "debug", "test", "qwerty", "password1", "admin", "key", "app", "000000", "111111"}

// Guess tries to open a keystore with the passwords that everybody tries, and with its own name. ok is false when none
// opens it or it is no keystore; debug says that it holds debug certificates only.
func Guess(name string, data []byte) (password string, debug, ok bool) {
	base := strings.TrimSuffix(path.Base(name), path.Ext(name))
	for _, p := range append(append([]string{}, guesses...), base, strings.ToLower(base), base+"123", base+"1234") {
		if bytes.HasPrefix(data, jks) && !sealedBy(data, p) {
			continue
		}
		_, entries, err := cert.Read(data, p)
		if errors.Is(err, cert.ErrPassword) {
			continue
		}
		if err != nil {
			return "", false, false
		}
		keys := 0
		debug = true
		for _, e := range entries {
			if e.Key {
				keys++
				debug = debug && strings.Contains(e.Cert.Subject.String(), "CN=Android Debug")
			}
		}
		return p, debug, keys > 0
	}
	return "", false, false
}

var jks = []byte("\xFE\xED\xFE\xED")

// sealedBy reports whether a JKS keystore's own digest was made with a password: SHA-1 over the password in UTF-16, a
// fixed text, and everything before the digest (the JDK's JavaKeyStore, engineStore).
func sealedBy(data []byte, password string) bool {
	if len(data) < sha1.Size {
		return false
	}
	h := sha1.New()
	for _, u := range utf16.Encode([]rune(password)) {
		h.Write([]byte{byte(u >> 8), byte(u)})
	}
	h.Write([]byte("Mighty Aphrodite"))
	h.Write(data[:len(data)-sha1.Size])
	return bytes.Equal(h.Sum(nil), data[len(data)-sha1.Size:])
}

// KeyStore reports whether a file begins like a keystore: JKS, JCEKS, or PKCS#12 by its name.
func KeyStore(name string, head []byte) bool {
	if len(head) < 4 {
		return false
	}
	switch string(head[:4]) {
	case "\xFE\xED\xFE\xED", "\xCE\xCE\xCE\xCE":
		return true
	}
	switch strings.ToLower(path.Ext(name)) {
	case ".jks", ".keystore", ".p12", ".pfx", ".bks", ".ks":
		return head[0] == 0x30
	}
	return false
}
