package cert

import (
	"bytes"
	"crypto/aes"
	"crypto/cipher"
	"crypto/des"
	"crypto/hmac"
	"crypto/pbkdf2"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"crypto/x509"
	"errors"
	"fmt"
	"hash"
	"unicode/utf16"
)

// Object identifiers of PKCS#7, PKCS#9, PKCS#12 and PKCS#5 (RFC 2315, 2985, 7292, 8018).
const (
	oidData           = "1.2.840.113549.1.7.1"
	oidSignedData     = "1.2.840.113549.1.7.2"
	oidEncryptedData  = "1.2.840.113549.1.7.6"
	oidFriendlyName   = "1.2.840.113549.1.9.20"
	oidLocalKeyID     = "1.2.840.113549.1.9.21"
	oidX509           = "1.2.840.113549.1.9.22.1"
	oidKeyBag         = "1.2.840.113549.1.12.10.1.1"
	oidShroudedKeyBag = "1.2.840.113549.1.12.10.1.2"
	oidCertBag        = "1.2.840.113549.1.12.10.1.3"
	oidSafeContents   = "1.2.840.113549.1.12.10.1.6"
	oidPBES2          = "1.2.840.113549.1.5.13"
	oidPBKDF2         = "1.2.840.113549.1.5.12"
	oidPBE            = "1.2.840.113549.1.12.1."
)

// maxIterations bounds how long a hostile file can keep a machine busy; tools write up to some hundred thousand.
const maxIterations = 5_000_000

// store is what a PKCS#12 file holds.
type store struct {
	password string
	certs    []bag
	keys     []bag
	locked   bool // something was encrypted and the password did not open it
}

type bag struct {
	der      []byte
	name, id string
}

// readPKCS12 reads the certificates of a PKCS#12 file (RFC 7292). What is not encrypted is read without a password; a
// key's own encryption is never opened.
func readPKCS12(data []byte, password string) ([]Entry, error) {
	top, _, err := readBER(data, 0)
	if err != nil {
		return nil, fmt.Errorf("reading as PKCS#12: %w", err)
	}
	if top.at(0).integer() != 3 || top.at(1, 0).oid() != oidData {
		return nil, errors.New("reading as PKCS#12: not a file of version 3 with password integrity")
	}
	content := top.at(1, 1, 0).octets()
	s := &store{password: password}
	if len(top.kids) > 2 {
		switch ok, err := s.verify(top.at(2), content); {
		case err != nil:
			return nil, err
		case !ok && s.hasEncrypted(content):
			return nil, ErrPassword
		}
	}
	if err := s.safes(content); err != nil {
		return nil, err
	}
	if s.locked && len(s.certs) == 0 {
		return nil, ErrPassword
	}
	return s.entries()
}

// entries pairs certificates with keys: by the identifier both carry. A chain's further certificates have none.
func (s *store) entries() ([]Entry, error) {
	var out []Entry
	for _, c := range s.certs {
		x, err := x509.ParseCertificate(c.der)
		if err != nil {
			return nil, fmt.Errorf("certificate %d: %w", len(out)+1, err)
		}
		e := Entry{Alias: c.name, Cert: x}
		for _, k := range s.keys {
			if k.id != "" && k.id == c.id || k.id == "" && k.name != "" && k.name == c.name {
				e.Key = true
				if e.Alias == "" {
					e.Alias = k.name
				}
			}
		}
		out = append(out, e)
	}
	if len(out) == 0 {
		return nil, errors.New("the keystore holds no certificate")
	}
	return out, nil
}

// hasEncrypted reports whether any part that may hold certificates is encrypted.
func (s *store) hasEncrypted(content []byte) bool {
	safes, _, err := readBER(content, 0)
	if err != nil {
		return true
	}
	for _, c := range safes.kids {
		if c.at(0).oid() == oidEncryptedData {
			return true
		}
	}
	return false
}

func (s *store) safes(content []byte) error {
	safes, _, err := readBER(content, 0)
	if err != nil {
		return fmt.Errorf("reading as PKCS#12: %w", err)
	}
	for _, c := range safes.kids {
		var inner []byte
		switch c.at(0).oid() {
		case oidData:
			inner = c.at(1, 0).octets()
		case oidEncryptedData:
			info := c.at(1, 0, 1)
			cipherText := info.at(2).octets()
			inner, err = decrypt(info.at(1), cipherText, s.password)
			if err != nil {
				if errors.Is(err, ErrPassword) {
					s.locked = true
					continue
				}
				return err
			}
		default:
			continue
		}
		bags, _, err := readBER(inner, 0)
		if err != nil {
			s.locked = true
			continue
		}
		s.bags(bags, 0)
	}
	return nil
}

func (s *store) bags(list tlv, depth int) {
	for _, b := range list.kids {
		out := bag{}
		for _, a := range b.at(2).kids {
			switch a.at(0).oid() {
			case oidFriendlyName:
				out.name = bmp(a.at(1, 0).body)
			case oidLocalKeyID:
				out.id = string(a.at(1, 0).body)
			}
		}
		switch b.at(0).oid() {
		case oidCertBag:
			if in := b.at(1, 0); in.at(0).oid() == oidX509 {
				out.der = in.at(1, 0).octets()
				s.certs = append(s.certs, out)
			}
		case oidKeyBag, oidShroudedKeyBag:
			s.keys = append(s.keys, out)
		case oidSafeContents:
			if depth < 5 {
				s.bags(b.at(1, 0), depth+1)
			}
		}
	}
}

func bmp(b []byte) string {
	var units []uint16
	for i := 0; i+1 < len(b); i += 2 {
		units = append(units, uint16(b[i])<<8|uint16(b[i+1]))
	}
	return string(utf16.Decode(units))
}

// passwords gives the forms in which tools have put a password into the older schemes: two bytes a character with a
// closing zero (RFC 7292, appendix B.1); without any bytes for an empty one.
func passwords(p string) [][]byte {
	out := []byte{}
	for _, u := range utf16.Encode([]rune(p)) {
		out = append(out, byte(u>>8), byte(u))
	}
	out = append(out, 0, 0)
	if p == "" {
		return [][]byte{out, nil}
	}
	return [][]byte{out}
}

func digestOf(oid string) func() hash.Hash {
	switch oid {
	case "1.3.14.3.2.26", "1.2.840.113549.2.7":
		return sha1.New
	case "2.16.840.1.101.3.4.2.4", "1.2.840.113549.2.8":
		return sha256.New224
	case "2.16.840.1.101.3.4.2.1", "1.2.840.113549.2.9":
		return sha256.New
	case "2.16.840.1.101.3.4.2.2", "1.2.840.113549.2.10":
		return sha512.New384
	case "2.16.840.1.101.3.4.2.3", "1.2.840.113549.2.11":
		return sha512.New
	}
	return nil
}

// verify checks the file's MAC.
func (s *store) verify(mac tlv, content []byte) (bool, error) {
	h := digestOf(mac.at(0, 0, 0).oid())
	if h == nil {
		return true, nil // a MAC of another kind (RFC 9579): decryption tells whether the password is right
	}
	want, salt, n := mac.at(0, 1).octets(), mac.at(1).octets(), 1
	if len(mac.kids) > 2 {
		n = mac.at(2).integer()
	}
	if n < 1 || n > maxIterations {
		return false, fmt.Errorf("the keystore asks for %d rounds of key derivation; at most %d are done", n, maxIterations)
	}
	for _, p := range passwords(s.password) {
		m := hmac.New(h, derive(h, p, salt, 3, n, h().Size()))
		m.Write(content)
		if hmac.Equal(m.Sum(nil), want) {
			return true, nil
		}
	}
	return false, nil
}

// derive is the key derivation of PKCS#12 (RFC 7292, appendix B.2); id says what for: 1 key, 2 IV, 3 MAC.
func derive(h func() hash.Hash, password, salt []byte, id byte, rounds, size int) []byte {
	v := h().BlockSize()
	fill := func(b []byte) []byte {
		if len(b) == 0 {
			return nil
		}
		out := make([]byte, v*((len(b)+v-1)/v))
		for i := range out {
			out[i] = b[i%len(b)]
		}
		return out
	}
	i := append(fill(salt), fill(password)...)
	d := bytes.Repeat([]byte{id}, v)
	var out []byte
	for len(out) < size {
		x := h()
		x.Write(d)
		x.Write(i)
		a := x.Sum(nil)
		for range rounds - 1 {
			x.Reset()
			x.Write(a)
			a = x.Sum(a[:0])
		}
		out = append(out, a...)
		b := make([]byte, v)
		for j := range b {
			b[j] = a[j%len(a)]
		}
		for j := 0; j < len(i); j += v { // each block of I becomes I + B + 1
			carry := 1
			for k := v - 1; k >= 0; k-- {
				n := int(i[j+k]) + int(b[k]) + carry
				i[j+k], carry = byte(n), n>>8
			}
		}
	}
	return out[:size]
}

// decrypt opens a part of the file with the scheme it names.
func decrypt(algorithm tlv, data []byte, password string) ([]byte, error) {
	scheme := algorithm.at(0).oid()
	if scheme == oidPBES2 {
		return decryptPBES2(algorithm.at(1), data, password)
	}
	salt, rounds := algorithm.at(1, 0).octets(), algorithm.at(1, 1).integer()
	if rounds < 1 || rounds > maxIterations {
		return nil, fmt.Errorf("the keystore asks for %d rounds of key derivation; at most %d are done", rounds, maxIterations)
	}
	var size int
	var block func(key []byte) (cipher.Block, error)
	switch scheme {
	case oidPBE + "3":
		size, block = 24, des.NewTripleDESCipher
	case oidPBE + "4":
		size, block = 16, func(k []byte) (cipher.Block, error) {
			return des.NewTripleDESCipher(append(append([]byte(nil), k...), k[:8]...))
		}
	case oidPBE + "5":
		size, block = 16, func(k []byte) (cipher.Block, error) { return newRC2(k), nil }
	case oidPBE + "6":
		size, block = 5, func(k []byte) (cipher.Block, error) { return newRC2(k), nil }
	default:
		return nil, fmt.Errorf("the keystore is encrypted with %s, which is not read", scheme)
	}
	for _, p := range passwords(password) {
		c, err := block(derive(sha1.New, p, salt, 1, rounds, size))
		if err != nil {
			return nil, err
		}
		if out, ok := unpad(c, derive(sha1.New, p, salt, 2, rounds, 8), data); ok {
			return out, nil
		}
	}
	return nil, ErrPassword
}

// decryptPBES2 opens what newer tools write: PBKDF2 and AES or triple DES in CBC (RFC 8018).
func decryptPBES2(params tlv, data []byte, password string) ([]byte, error) {
	kdf, enc := params.at(0), params.at(1)
	if kdf.at(0).oid() != oidPBKDF2 {
		return nil, fmt.Errorf("the keystore derives its key with %s, which is not read", kdf.at(0).oid())
	}
	salt, rounds := kdf.at(1, 0).octets(), kdf.at(1, 1).integer()
	if rounds < 1 || rounds > maxIterations {
		return nil, fmt.Errorf("the keystore asks for %d rounds of key derivation; at most %d are done", rounds, maxIterations)
	}
	h := sha1.New
	for _, k := range kdf.at(1).kids {
		if d := digestOf(k.at(0).oid()); d != nil {
			h = d
		}
	}
	var size int
	block := aes.NewCipher
	switch enc.at(0).oid() {
	case "2.16.840.1.101.3.4.1.2":
		size = 16
	case "2.16.840.1.101.3.4.1.22":
		size = 24
	case "2.16.840.1.101.3.4.1.42":
		size = 32
	case "1.2.840.113549.3.7":
		size, block = 24, des.NewTripleDESCipher
	default:
		return nil, fmt.Errorf("the keystore is encrypted with %s, which is not read", enc.at(0).oid())
	}
	iv := enc.at(1).octets()
	tries := [][]byte{[]byte(password)}
	if latin := latin1(password); latin != nil { // some tools take a character for a byte
		tries = append(tries, latin)
	}
	tries = append(tries, passwords(password)...)
	for _, p := range tries {
		key, err := pbkdf2.Key(h, string(p), salt, rounds, size)
		if err != nil {
			return nil, err
		}
		c, err := block(key)
		if err != nil {
			return nil, err
		}
		if out, ok := unpad(c, iv, data); ok {
			return out, nil
		}
	}
	return nil, ErrPassword
}

// latin1 gives a password of accented letters with one byte a character, nil when that is not possible or the same.
func latin1(s string) []byte {
	var out []byte
	other := false
	for _, r := range s {
		if r > 0xFF {
			return nil
		}
		other = other || r > 0x7F
		out = append(out, byte(r))
	}
	if !other {
		return nil
	}
	return out
}

// unpad decrypts in CBC and takes the padding off; ok is false when what comes out cannot be a list of bags.
func unpad(c cipher.Block, iv, data []byte) ([]byte, bool) {
	n := c.BlockSize()
	if len(data) == 0 || len(data)%n != 0 || len(iv) != n {
		return nil, false
	}
	out := make([]byte, len(data))
	cipher.NewCBCDecrypter(c, iv).CryptBlocks(out, data)
	pad := int(out[len(out)-1])
	if pad < 1 || pad > n || pad > len(out) {
		return nil, false
	}
	for _, b := range out[len(out)-pad:] {
		if int(b) != pad {
			return nil, false
		}
	}
	out = out[:len(out)-pad]
	_, rest, err := readBER(out, 0)
	return out, err == nil && len(rest) == 0
}

// readPKCS7 reads the certificates of a signed-data message, which carries a chain (RFC 2315, section 9; RFC 5652).
func readPKCS7(data []byte) ([]Entry, error) {
	top, _, err := readBER(data, 0)
	if err != nil {
		return nil, err
	}
	var out []Entry
	for _, k := range top.at(1, 0).kids {
		if !k.is(2, 0) {
			continue
		}
		for _, c := range k.kids {
			x, err := x509.ParseCertificate(c.raw)
			if err != nil {
				return nil, fmt.Errorf("certificate %d: %w", len(out)+1, err)
			}
			out = append(out, Entry{Cert: x})
		}
	}
	if len(out) == 0 {
		return nil, errors.New("the PKCS#7 message holds no certificate")
	}
	return out, nil
}
