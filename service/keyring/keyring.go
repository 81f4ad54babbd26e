// Package keyring encrypts issued values and credentials at rest: AES-256-GCM through a keyset that can be rotated, with
// team, registration and field bound to each ciphertext as associated data (NIST SP 800-38D). The keyset is a file beside
// the server's data; docs/reference/keyring.md says how it is kept and backed up.
package keyring

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"github.com/tink-crypto/tink-go/v2/aead"
	"github.com/tink-crypto/tink-go/v2/insecurecleartextkeyset"
	"github.com/tink-crypto/tink-go/v2/keyset"
	"github.com/tink-crypto/tink-go/v2/tink"
)

// Keyring seals and opens values.
type Keyring struct{ aead tink.AEAD }

// Open reads the keyset, making one with a first key when there is none.
func Open(file string) (*Keyring, error) {
	h, err := load(file)
	if errors.Is(err, fs.ErrNotExist) {
		if h, err = keyset.NewHandle(aead.AES256GCMKeyTemplate()); err == nil {
			err = save(file, h)
		}
	}
	if err != nil {
		return nil, fmt.Errorf("keyring %s: %w", file, err)
	}
	return from(h)
}

func from(h *keyset.Handle) (*Keyring, error) {
	a, err := aead.New(h)
	return &Keyring{a}, err
}

func load(file string) (*keyset.Handle, error) {
	b, err := os.ReadFile(file)
	if err != nil {
		return nil, err
	}
	if info, err := os.Stat(file); err == nil && info.Mode().Perm()&0o077 != 0 {
		return nil, fmt.Errorf("others on this machine may read it (mode %v); run: chmod 600 %s", info.Mode().Perm(), file)
	}
	return insecurecleartextkeyset.Read(keyset.NewJSONReader(bytes.NewReader(b)))
}

func save(file string, h *keyset.Handle) error {
	var b bytes.Buffer
	if err := insecurecleartextkeyset.Write(h, keyset.NewJSONWriter(&b)); err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return err
	}
	if err := os.WriteFile(file+".new", b.Bytes(), 0o600); err != nil {
		return err
	}
	return os.Rename(file+".new", file)
}

// Rotate adds a key and makes it the one that seals; older keys still open what they sealed.
func Rotate(file string) (*Keyring, error) {
	h, err := load(file)
	if err != nil {
		return nil, err
	}
	m := keyset.NewManagerFromHandle(h)
	id, err := m.Add(aead.AES256GCMKeyTemplate())
	if err == nil {
		err = m.SetPrimary(id)
	}
	if err == nil {
		h, err = m.Handle()
	}
	if err == nil {
		err = save(file, h)
	}
	if err != nil {
		return nil, err
	}
	return from(h)
}

// Seal encrypts a value for one place: the parts name team, record and field.
func (k *Keyring) Seal(value string, place ...string) ([]byte, error) {
	return k.aead.Encrypt([]byte(value), []byte(strings.Join(place, "\x00")))
}

// Open decrypts a value sealed for the same place.
func (k *Keyring) Open(sealed []byte, place ...string) (string, error) {
	b, err := k.aead.Decrypt(sealed, []byte(strings.Join(place, "\x00")))
	if err != nil {
		return "", fmt.Errorf("a stored value cannot be decrypted (another keyring, or it was moved): %w", err)
	}
	return string(b), nil
}
