package cert

import (
	"crypto/sha1"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"strings"
	"testing"
)

func TestWhatAPastedStringIs(t *testing.T) {
	known := []Known{{"debug.keystore, alias a", []byte("certificate a")}, {"release.keystore, alias b", []byte("certificate b")}}
	s1 := sha1.Sum(known[0].DER)
	s256 := sha256.Sum256(known[1].DER)
	b64 := base64.StdEncoding.EncodeToString
	of := func(text string) string { s := sha1.Sum([]byte(text)); return b64(s[:]) }
	for _, c := range []struct {
		name, text, want        string
		algorithm, form, belong string
		cleaned, wrong          string
	}{
		{name: "colons", text: colons(s1[:]), algorithm: "SHA-1", form: "hexadecimal with colons", belong: "alias a"},
		{name: "plain hex", text: hex.EncodeToString(s1[:]), algorithm: "SHA-1", form: "plain hexadecimal", belong: "alias a"},
		{name: "blanks", text: strings.ReplaceAll(colons(s1[:]), ":", " "), algorithm: "SHA-1", form: "hexadecimal with blanks", belong: "alias a"},
		{name: "Base64", text: b64(s1[:]), algorithm: "SHA-1", form: "Base64", belong: "alias a"},
		{name: "Base64url", text: base64.RawURLEncoding.EncodeToString(s256[:]), algorithm: "SHA-256", belong: "alias b"},
		{name: "with a label", text: "SHA1: " + colons(s1[:]), belong: "alias a", cleaned: "label"},
		{name: "with quotes and blanks", text: " “" + b64(s1[:]) + "” \n", belong: "alias a", cleaned: "quotation marks"},
		{name: "with an invisible character", text: "\u200b" + b64(s1[:]), belong: "alias a", cleaned: "invisible"},
		{name: "SHA-256 where SHA-1 is asked", text: b64(s256[:]), want: "sha1-base64", belong: "alias b", wrong: "SHA-1 is asked for, and this is SHA-256"},
		{name: "hex where Base64 is asked", text: hex.EncodeToString(s1[:]), want: "sha1-base64", belong: "alias a", wrong: "Base64 is asked for, and this is plain hexadecimal"},
		{name: "as asked", text: b64(s1[:]), want: "sha1-base64", belong: "alias a"},
		{name: "Base64 of the text with colons", text: b64([]byte(colons(s1[:]))), algorithm: "SHA-1", belong: "alias a", wrong: "Base64 of the 59 characters"},
		{name: "Base64 of the hex text and a line end", text: b64([]byte(hex.EncodeToString(s1[:]) + "\n")), belong: "alias a", wrong: "want Base64 of the 20 bytes: " + b64(s1[:])},
		{name: "the digest of nothing", text: "2jmj7l5rSw0yVb/vlWAYkK/YBwk=", algorithm: "SHA-1", wrong: "the digest of nothing"},
		{name: "the digest of a line end", text: of("\n"), wrong: "the digest of nothing"},
		{name: "the digest of an error", text: of("keytool error: java.io.IOException: Keystore was tampered with, or password was incorrect\n"), wrong: "an error message"},
		{name: "hashed twice", text: of(colons(s256[:]) + "\n"), wrong: "the hexadecimal text with colons of the SHA-256 digest of release.keystore, alias b: it was hashed twice"},
		{name: "of another keystore", text: of("another certificate"), algorithm: "SHA-1", wrong: "none of the certificates known here"},
		{name: "Base64 of an error", text: b64([]byte("keytool error: no such file")), wrong: "Base64 of a text"},
		{name: "not a digest", text: "hello", wrong: "not a digest"},
		{name: "one character short", text: hex.EncodeToString(s1[:])[1:], wrong: "39 characters"},
		{name: "empty", text: "", wrong: "not a digest"},
	} {
		p := Explain(c.text, c.want, known)
		if c.algorithm != "" && p.Algorithm != c.algorithm || c.form != "" && p.Form != c.form {
			t.Errorf("%s: %s, %s", c.name, p.Algorithm, p.Form)
		}
		if got := strings.Join(p.Belongs, "; "); c.belong == "" && got != "" || !strings.Contains(got, c.belong) {
			t.Errorf("%s: belongs to %q", c.name, got)
		}
		if got := strings.Join(p.Cleaned, "; "); !strings.Contains(got, c.cleaned) || c.cleaned == "" && got != "" {
			t.Errorf("%s: cleaned %q", c.name, got)
		}
		if got := strings.Join(p.Wrong, "; "); !strings.Contains(got, c.wrong) || c.wrong == "" && got != "" {
			t.Errorf("%s: wrong %q", c.name, got)
		}
	}
}

func FuzzExplain(f *testing.F) {
	f.Add("AB:CD")
	f.Add("2jmj7l5rSw0yVb/vlWAYkK/YBwk=")
	f.Fuzz(func(t *testing.T, s string) {
		p := Explain(s, "sha1-base64", []Known{{"k", []byte(s)}})
		if p.Algorithm == "" && len(p.Wrong) == 0 {
			t.Errorf("%q: nothing was said", s)
		}
	})
}
