// Package cert reads certificates out of keystores and certificate files, and gives their digests in every form that
// services ask for. A key's own password is never needed and never asked for.
package cert

import (
	"bytes"
	"crypto/dsa" //lint:ignore SA1019 old keystores hold such keys, and their size is told
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/md5"
	"crypto/rsa"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/x509"
	"encoding/base64"
	"encoding/binary"
	"encoding/hex"
	"encoding/pem"
	"errors"
	"fmt"
	"strings"
	"time"
	"unicode/utf16"
)

// Entry is one certificate of a file, with the alias it stands under.
type Entry struct {
	Alias string            `json:"alias,omitempty"`
	Key   bool              `json:"hasKey"`
	Cert  *x509.Certificate `json:"-"`
}

// ErrPassword is returned when a keystore needs a password, or another one.
var ErrPassword = errors.New("the password is wrong")

// Read gives the certificates of a file: JKS, PKCS#12, PKCS#7, PEM or DER, told apart by content and never by name. A
// JKS file's certificates are read without a password; those of PKCS#12 usually need the store's. Other kinds of
// keystore are named when they are refused.
func Read(data []byte, password string) (kind string, entries []Entry, err error) {
	switch {
	case len(data) == 0:
		return "", nil, errors.New("the file is empty")
	case bytes.HasPrefix(data, []byte{0xFE, 0xED, 0xFE, 0xED}):
		entries, err = readJKS(data)
		return "JKS", entries, err
	case bytes.HasPrefix(data, []byte{0xCE, 0xCE, 0xCE, 0xCE}):
		return "JCEKS", nil, errors.New("a JCEKS keystore, which is not read; convert it with: keytool -importkeystore -srckeystore FILE -srcstoretype JCEKS -destkeystore NEW.p12 -deststoretype PKCS12")
	case len(data) > 12 && data[0] == 0 && data[1] == 0 && data[2] == 0 && (data[3] == 1 || data[3] == 2) && binary.BigEndian.Uint32(data[4:]) <= 64:
		return "BKS", nil, errors.New("a BKS keystore, which is not read; export the certificate from it (keytool -exportcert -storetype BKS, with the provider that made it) and name that file")
	case bytes.Contains(data, []byte("-----BEGIN ")):
		entries, err = readPEM(data)
		return "PEM", entries, err
	case data[0] == 0x30:
		if c, err := x509.ParseCertificate(data); err == nil {
			return "DER", []Entry{{Cert: c}}, nil
		}
		top, _, err := readBER(data, 0)
		switch {
		case err != nil:
			return "", nil, fmt.Errorf("a file that begins like a certificate or a PKCS#12 keystore: %w", err)
		case top.at(0).oid() == oidSignedData:
			entries, err = readPKCS7(data)
			return "PKCS#7", entries, err
		case top.at(0).integer() == 3:
			entries, err = readPKCS12(data, password)
			return "PKCS#12", entries, err
		}
		if _, err := x509.ParseCertificate(data); err != nil && top.at(0).is(0, 16) {
			return "DER", nil, fmt.Errorf("a certificate that cannot be read: %w", err)
		}
		return "", nil, errors.New("ASN.1 data, but neither a certificate nor a PKCS#12 or PKCS#7 file")
	}
	if raw, err := base64.StdEncoding.DecodeString(strings.Join(strings.Fields(string(data)), "")); err == nil && len(raw) > 16 {
		return "", nil, errors.New("Base64 text, as build servers keep keystores in; decode it first: base64 -d FILE > NEW")
	}
	return "", nil, errors.New("neither a keystore (JKS, PKCS#12) nor a certificate (PEM, DER, PKCS#7)")
}

func readPEM(data []byte) ([]Entry, error) {
	var out []Entry
	var other []string
	for {
		var b *pem.Block
		if b, data = pem.Decode(data); b == nil {
			break
		}
		switch b.Type {
		case "CERTIFICATE", "X509 CERTIFICATE", "TRUSTED CERTIFICATE":
			der := b.Bytes
			if v, _, err := readBER(der, 0); err == nil && b.Type == "TRUSTED CERTIFICATE" {
				der = v.raw // what follows it is trust settings
			}
			c, err := x509.ParseCertificate(der)
			if err != nil {
				return nil, fmt.Errorf("certificate %d: %w", len(out)+1, err)
			}
			out = append(out, Entry{Cert: c})
		case "PKCS7", "CMS", "PKCS #7 SIGNED DATA":
			more, err := readPKCS7(b.Bytes)
			if err != nil {
				return nil, err
			}
			out = append(out, more...)
		default:
			other = append(other, b.Type)
		}
	}
	if len(out) == 0 {
		if len(other) > 0 {
			return nil, fmt.Errorf("no certificate in the file, only %s", strings.ToLower(strings.Join(other, ", ")))
		}
		return nil, errors.New("no certificate in the file: a PEM block is damaged or cut short")
	}
	return out, nil
}

// readJKS reads the certificates of a Java keystore, version 1 or 2 (the format of sun.security.provider.JavaKeyStore).
// The store's checksum needs the password and is not verified.
func readJKS(data []byte) ([]Entry, error) {
	r := &reader{b: data[4:]}
	version, count := r.u32(), r.u32()
	if version != 1 && version != 2 || count > 10000 {
		return nil, fmt.Errorf("JKS version %d with %d entries is not read", version, count)
	}
	var out []Entry
	for range count {
		tag := r.u32()
		alias := r.utf()
		r.take(8) // date
		n := uint32(1)
		switch tag {
		case 1:
			r.take(int(r.u32())) // the encrypted key
			n = r.u32()
		case 2:
		default:
			return nil, fmt.Errorf("entry %q has the unknown type %d", alias, tag)
		}
		for i := range n {
			if version == 2 {
				r.utf() // "X.509"
			}
			der := r.take(int(r.u32()))
			if r.err != nil {
				return nil, r.err
			}
			if i > 0 { // the chain's issuers: the first certificate is the signer's
				continue
			}
			c, err := x509.ParseCertificate(der)
			if err != nil {
				return nil, fmt.Errorf("entry %q: %w", alias, err)
			}
			out = append(out, Entry{Alias: alias, Key: tag == 1, Cert: c})
		}
	}
	if r.err != nil {
		return nil, r.err
	}
	if len(out) == 0 {
		return nil, errors.New("the keystore holds no certificate")
	}
	return out, nil
}

type reader struct {
	b   []byte
	err error
}

func (r *reader) take(n int) []byte {
	if r.err != nil {
		return nil
	}
	if n < 0 || n > len(r.b) {
		r.err = errors.New("the keystore is truncated")
		return nil
	}
	out := r.b[:n]
	r.b = r.b[n:]
	return out
}

func (r *reader) u32() uint32 {
	if b := r.take(4); b != nil {
		return binary.BigEndian.Uint32(b)
	}
	return 0
}

// utf reads modified UTF-8 as DataInput.readUTF does.
func (r *reader) utf() string {
	n := r.take(2)
	if n == nil {
		return ""
	}
	b := r.take(int(binary.BigEndian.Uint16(n)))
	var units []uint16
	for i := 0; i < len(b); {
		switch c := b[i]; {
		case c < 0x80:
			units = append(units, uint16(c))
			i++
		case c>>5 == 6 && i+1 < len(b):
			units = append(units, uint16(c&0x1F)<<6|uint16(b[i+1]&0x3F))
			i += 2
		case c>>4 == 14 && i+2 < len(b):
			units = append(units, uint16(c&0x0F)<<12|uint16(b[i+1]&0x3F)<<6|uint16(b[i+2]&0x3F))
			i += 3
		default:
			units = append(units, 0xFFFD)
			i++
		}
	}
	return string(utf16.Decode(units))
}

// Digests is a certificate's digest in every form a service may ask for.
type Digests struct {
	SHA256Colons    string `json:"sha256Colons"`
	SHA256Hex       string `json:"sha256Hex"`
	SHA256Base64    string `json:"sha256Base64"`
	SHA256Base64URL string `json:"sha256Base64Url"`
	SHA1Colons      string `json:"sha1Colons"`
	SHA1Hex         string `json:"sha1Hex"`
	SHA1Base64      string `json:"sha1Base64"`
	SHA1Base64URL   string `json:"sha1Base64Url"`
	MD5Colons       string `json:"md5Colons"`
}

// Of computes the digests of a certificate's DER bytes. Base64 is that of the raw digest, padded (RFC 4648, section 4);
// the URL form is unpadded (section 5).
func Of(c *x509.Certificate) Digests {
	s256, s1, m5 := sha256.Sum256(c.Raw), sha1.Sum(c.Raw), md5.Sum(c.Raw)
	return Digests{
		SHA256Colons: colons(s256[:]), SHA256Hex: hex.EncodeToString(s256[:]),
		SHA256Base64: base64.StdEncoding.EncodeToString(s256[:]), SHA256Base64URL: base64.RawURLEncoding.EncodeToString(s256[:]),
		SHA1Colons: colons(s1[:]), SHA1Hex: hex.EncodeToString(s1[:]),
		SHA1Base64: base64.StdEncoding.EncodeToString(s1[:]), SHA1Base64URL: base64.RawURLEncoding.EncodeToString(s1[:]),
		MD5Colons: colons(m5[:]),
	}
}

// Form gives a digest by the name sheets use: sha256-hex, sha1-base64, ...; "" for an unknown one.
func (d Digests) Form(name string) string {
	switch name {
	case "sha256-colons":
		return d.SHA256Colons
	case "sha256-hex":
		return d.SHA256Hex
	case "sha256-base64":
		return d.SHA256Base64
	case "sha256-base64url":
		return d.SHA256Base64URL
	case "sha1-colons":
		return d.SHA1Colons
	case "sha1-hex":
		return d.SHA1Hex
	case "sha1-base64":
		return d.SHA1Base64
	case "sha1-base64url":
		return d.SHA1Base64URL
	case "md5-colons":
		return d.MD5Colons
	}
	return ""
}

func colons(b []byte) string {
	parts := make([]string, len(b))
	for i, x := range b {
		parts[i] = fmt.Sprintf("%02X", x)
	}
	return strings.Join(parts, ":")
}

// Key says what kind of key a certificate holds, and its size in bits; 0 for a kind whose size is not known.
func Key(c *x509.Certificate) (algorithm string, bits int) {
	switch k := c.PublicKey.(type) {
	case *rsa.PublicKey:
		return "RSA", k.N.BitLen()
	case *ecdsa.PublicKey:
		return "EC", k.Curve.Params().BitSize
	case *dsa.PublicKey:
		return "DSA", k.P.BitLen()
	case ed25519.PublicKey:
		return "Ed25519", 256
	}
	return c.PublicKeyAlgorithm.String(), 0
}

// Warnings says what is noteworthy about a certificate at a time.
func Warnings(c *x509.Certificate, now time.Time) []string {
	var out []string
	switch days := int(c.NotAfter.Sub(now).Hours() / 24); {
	case now.After(c.NotAfter):
		out = append(out, "expired on "+c.NotAfter.Format(time.DateOnly))
	case now.Before(c.NotBefore):
		out = append(out, "not valid before "+c.NotBefore.Format(time.DateOnly))
	case days < 90:
		out = append(out, fmt.Sprintf("expires in %d days, on %s", days, c.NotAfter.Format(time.DateOnly)))
	}
	if c.Subject.CommonName == "Android Debug" {
		out = append(out, "a debug certificate: every machine has its own")
	}
	if kind, bits := Key(c); (kind == "RSA" || kind == "DSA") && bits < 2048 {
		out = append(out, fmt.Sprintf("weak: a key of %d bits (%s); 2048 are the least that is taken for safe", bits, kind))
	}
	switch c.SignatureAlgorithm {
	case x509.MD2WithRSA, x509.MD5WithRSA:
		out = append(out, "weak: signed with MD5")
	case x509.SHA1WithRSA, x509.DSAWithSHA1, x509.ECDSAWithSHA1:
		out = append(out, "signed with SHA-1, which is no longer taken for safe; for a certificate that signs itself this changes nothing")
	}
	return out
}

// FormOf writes a digest that is known in hexadecimal, with or without colons, in the form a sheet names. It gives "" for
// a digest of another algorithm than the form's.
func FormOf(hexadecimal, form string) string {
	b, err := hex.DecodeString(strings.ReplaceAll(hexadecimal, ":", ""))
	if err != nil {
		return ""
	}
	algorithm, encoding, _ := strings.Cut(form, "-")
	if size := map[string]int{"sha256": 32, "sha1": 20, "md5": 16}[algorithm]; len(b) != size || size == 0 {
		return ""
	}
	switch encoding {
	case "colons":
		return colons(b)
	case "hex":
		return hex.EncodeToString(b)
	case "base64":
		return base64.StdEncoding.EncodeToString(b)
	case "base64url":
		return base64.RawURLEncoding.EncodeToString(b)
	}
	return ""
}

// Forms gives the digests of a certificate, by its DER bytes, in every form a sheet can name.
func Forms(der []byte) map[string]string {
	s256, s1, m5 := sha256.Sum256(der), sha1.Sum(der), md5.Sum(der)
	out := map[string]string{}
	for algorithm, sum := range map[string][]byte{"sha256": s256[:], "sha1": s1[:], "md5": m5[:]} {
		for _, encoding := range []string{"colons", "hex", "base64", "base64url"} {
			form := algorithm + "-" + encoding
			out[form] = FormOf(hex.EncodeToString(sum), form)
		}
	}
	return out
}
