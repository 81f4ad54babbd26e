package cert

import (
	"bytes"
	"crypto/md5"
	"crypto/sha1"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"strings"
	"unicode"

	"ligare/core/ident"
)

// Known is a certificate a pasted digest may belong to.
type Known struct {
	Label string // whose it is: a keystore and alias, a signer of the records
	DER   []byte
}

// Pasted is what a pasted digest turned out to be.
type Pasted struct {
	Algorithm string   `json:"algorithm,omitempty"` // SHA-1, SHA-256 or MD5, by length; "" when it is no digest
	Form      string   `json:"form,omitempty"`      // how it is written
	Hex       string   `json:"hex,omitempty"`       // its bytes
	Belongs   []string `json:"belongs,omitempty"`   // the known certificates it is a digest of
	Cleaned   []string `json:"cleaned,omitempty"`   // what was taken off before it could be read
	Wrong     []string `json:"wrong,omitempty"`     // what went wrong when it was made
}

// algorithms by the number of bytes in their digests.
var algorithms = map[int]struct {
	name string
	sum  func([]byte) []byte
}{
	md5.Size:    {"MD5", func(b []byte) []byte { s := md5.Sum(b); return s[:] }},
	sha1.Size:   {"SHA-1", func(b []byte) []byte { s := sha1.Sum(b); return s[:] }},
	sha256.Size: {"SHA-256", func(b []byte) []byte { s := sha256.Sum256(b); return s[:] }},
}

// failures are texts that commands print instead of a certificate, and that a pipe then hashes. Texts of the JDK's keytool.
var failures = []string{
	"keytool error: java.io.IOException: Keystore was tampered with, or password was incorrect",
	"keytool error: java.io.IOException: keystore password was incorrect",
	"keytool error: java.lang.Exception: Keystore file does not exist: ",
	"keytool error: java.lang.Exception: Alias <androiddebugkey> does not exist",
	"keytool error: java.lang.Exception: Keystore file exists, but is empty: ",
	"Illegal option:  -exportcert",
}

// Explain says what a pasted digest is: its algorithm and form, which known certificate it belongs to, or what went
// wrong when it was made. want names the form that is asked for (sha1-base64, ...), "" for any.
func Explain(text, want string, known []Known) Pasted {
	p := Pasted{}
	clean := p.clean(text)
	raw := p.read(clean)
	if raw == nil {
		if p.Wrong == nil {
			p.Wrong = append(p.Wrong, fmt.Sprintf("it is not a digest in a form we know: %d characters that are neither 16, 20 or 32 bytes in hexadecimal nor in Base64", len([]rune(clean))))
		}
		return p
	}
	alg := algorithms[len(raw)]
	p.Algorithm, p.Hex = alg.name, hex.EncodeToString(raw)
	for _, k := range known {
		if bytes.Equal(alg.sum(k.DER), raw) {
			p.Belongs = append(p.Belongs, k.Label)
		}
	}
	if len(p.Belongs) == 0 {
		p.origin(raw, alg.sum, known)
	}
	if want != "" {
		p.compare(want)
	}
	return p
}

// clean takes off what copying adds.
func (p *Pasted) clean(text string) string {
	out := strings.Map(func(r rune) rune {
		if ident.Invisible(r) || r == 0xA0 {
			return -1
		}
		return r
	}, text)
	if out != text {
		p.Cleaned = append(p.Cleaned, "invisible characters")
	}
	trimmed := strings.TrimSpace(out)
	if trimmed != out {
		p.Cleaned = append(p.Cleaned, "white space around it")
	}
	bare := strings.Trim(trimmed, "\"'“”‘’„`")
	if bare != trimmed {
		p.Cleaned = append(p.Cleaned, "quotation marks")
	}
	for _, label := range []string{"SHA1:", "SHA-1:", "SHA256:", "SHA-256:", "MD5:", "SHA1=", "SHA256="} {
		if len(bare) > len(label) && strings.EqualFold(bare[:len(label)], label) {
			p.Cleaned = append(p.Cleaned, "the label "+bare[:len(label)])
			bare = strings.TrimSpace(bare[len(label):])
		}
	}
	return bare
}

// read gives the digest's bytes, nil when it is none.
func (p *Pasted) read(s string) []byte {
	if raw, form := readHex(s); raw != nil {
		p.Form = form
		return raw
	}
	for _, e := range []struct {
		enc  *base64.Encoding
		form string
	}{{base64.StdEncoding, "Base64"}, {base64.RawStdEncoding, "Base64 without padding"}, {base64.URLEncoding, "Base64url with padding"}, {base64.RawURLEncoding, "Base64url"}} {
		b, err := e.enc.DecodeString(s)
		if err != nil {
			continue
		}
		if _, ok := algorithms[len(b)]; ok {
			p.Form = e.form
			return b
		}
		if raw, form := readHex(strings.TrimRight(string(b), "\r\n")); raw != nil { // the text was encoded, not the bytes
			p.Form = e.form + " of the text in " + form
			p.Wrong = append(p.Wrong, fmt.Sprintf("it is Base64 of the %d characters of the hexadecimal text; services want Base64 of the %d bytes: %s", len(b), len(raw), base64.StdEncoding.EncodeToString(raw)))
			return raw
		}
		if printable(b) {
			p.Wrong = append(p.Wrong, fmt.Sprintf("it is Base64 of a text, not of a digest: %q", clip(string(b), 120)))
		}
		return nil
	}
	return nil
}

func printable(b []byte) bool {
	for _, r := range string(b) {
		if r == unicode.ReplacementChar || !unicode.IsPrint(r) && !unicode.IsSpace(r) {
			return false
		}
	}
	return len(b) > 0
}

func clip(s string, n int) string {
	if r := []rune(s); len(r) > n {
		return string(r[:n]) + "…"
	}
	return s
}

// readHex reads hexadecimal with colons, blanks, hyphens or nothing between the bytes.
func readHex(s string) ([]byte, string) {
	form := "plain hexadecimal"
	switch {
	case strings.Contains(s, ":"):
		form = "hexadecimal with colons"
	case strings.Contains(s, " "):
		form = "hexadecimal with blanks"
	case strings.Contains(s, "-"):
		form = "hexadecimal with hyphens"
	}
	b, err := hex.DecodeString(strings.NewReplacer(":", "", " ", "", "-", "").Replace(s))
	if _, ok := algorithms[len(b)]; err != nil || !ok {
		return nil, ""
	}
	if s != strings.ToLower(s) && s != strings.ToUpper(s) {
		form += ", in mixed case"
	}
	return b, form
}

// origin looks for what a digest was made from when it belongs to no certificate.
func (p *Pasted) origin(raw []byte, sum func([]byte) []byte, known []Known) {
	is := func(input string) bool { return bytes.Equal(sum([]byte(input)), raw) }
	ends := []string{"", "\n", "\r\n"}
	for _, e := range ends {
		if is(e) {
			p.Wrong = append(p.Wrong, "it is the digest of nothing: the command before the pipe gave no output")
			return
		}
		for _, f := range failures {
			if is(f + e) {
				p.Wrong = append(p.Wrong, fmt.Sprintf("it is the digest of an error message, not of a certificate: %q", strings.TrimSpace(f)))
				return
			}
		}
	}
	for _, k := range known {
		for _, alg := range algorithms {
			d := alg.sum(k.DER)
			for name, text := range map[string]string{"the hexadecimal text": hex.EncodeToString(d), "the hexadecimal text in capitals": strings.ToUpper(hex.EncodeToString(d)),
				"the hexadecimal text with colons": colons(d), "the Base64 text": base64.StdEncoding.EncodeToString(d)} {
				for _, e := range ends {
					if is(text + e) {
						p.Wrong = append(p.Wrong, fmt.Sprintf("it is the digest of %s of the %s digest of %s: it was hashed twice", name, alg.name, k.Label))
						return
					}
				}
			}
		}
	}
	p.Wrong = append(p.Wrong, "it belongs to none of the certificates known here: another keystore, another alias, or another machine's debug certificate")
}

// compare says how the digest differs from the form that is asked for.
func (p *Pasted) compare(want string) {
	algorithm, form, _ := strings.Cut(want, "-")
	asked := map[string]string{"sha1": "SHA-1", "sha256": "SHA-256", "md5": "MD5"}[algorithm]
	if asked != "" && asked != p.Algorithm {
		p.Wrong = append(p.Wrong, fmt.Sprintf("%s is asked for, and this is %s", asked, p.Algorithm))
	}
	written := map[string]string{"hex": "plain hexadecimal", "colons": "hexadecimal with colons", "base64": "Base64", "base64url": "Base64url"}[form]
	if written != "" && p.Form != written {
		p.Wrong = append(p.Wrong, fmt.Sprintf("%s is asked for, and this is %s", written, p.Form))
	}
}
