package cert

import (
	"bytes"
	"crypto/sha1"
	"encoding/hex"
	"errors"
	"strings"
	"testing"
)

func unhex(t *testing.T, s string) []byte {
	t.Helper()
	b, err := hex.DecodeString(strings.ReplaceAll(s, " ", ""))
	if err != nil {
		t.Fatal(err)
	}
	return b
}

// RFC 2268, section 5: the test vectors whose effective key length is that of the key.
func TestRC2(t *testing.T) {
	for _, c := range []struct{ key, plain, sealed string }{
		{"ffffffffffffffff", "ffffffffffffffff", "278b27e42e2f0d49"},
		{"3000000000000000", "1000000000000001", "30649edf9be7d2c2"},
		{"88bca90e90875a7f0f79c384627bafb2", "0000000000000000", "2269552ab0f85ca6"},
	} {
		got := make([]byte, 8)
		newRC2(unhex(t, c.key)).Decrypt(got, unhex(t, c.sealed))
		if !bytes.Equal(got, unhex(t, c.plain)) {
			t.Errorf("key %s: %x", c.key, got)
		}
	}
}

// RFC 7292, appendix B: known answers for the password "smeg".
func TestKeyDerivation(t *testing.T) {
	p := passwords("smeg")[0]
	if got := derive(sha1.New, p, unhex(t, "0a58cf64530d823f"), 1, 1, 24); !bytes.Equal(got, unhex(t, "8aaae6297b6cb04642ab5b077851284eb7128f1a2a7fbca3")) {
		t.Errorf("key: %x", got)
	}
	if got := derive(sha1.New, p, unhex(t, "0a58cf64530d823f"), 2, 1, 8); !bytes.Equal(got, unhex(t, "79993dfe048d3b76")) {
		t.Errorf("IV: %x", got)
	}
	if got := derive(sha1.New, p, unhex(t, "3d83c0e4546ac140"), 3, 1, 20); !bytes.Equal(got, unhex(t, "8d967d88f6caa9d714800ab3d48051d63f73a312")) {
		t.Errorf("MAC: %x", got)
	}
}

func TestBER(t *testing.T) {
	for in, want := range map[string]string{
		"3003020105":                   "5",
		"30 80 020105 0000":            "5",
		"30 81 03 020105":              "5",
		"30 82 0003 020105":            "5",
		"30 84 00000003 020105":        "5",
		"30 80 30 80 020107 0000 0000": "-1",
	} {
		v, rest, err := readBER(unhex(t, in), 0)
		if err != nil || len(rest) != 0 || len(v.kids) != 1 {
			t.Errorf("%s: %v", in, err)
			continue
		}
		if got := v.at(0).integer(); (want == "5") != (got == 5) {
			t.Errorf("%s: %d", in, got)
		}
		if v.at(9, 9).oid() != "" {
			t.Error("a kid that is not there")
		}
	}
	for _, in := range []string{"", "30", "3005020105", "30 80 020105", "1f01", "30 85 0000000001", "04 80 0000"} {
		if _, _, err := readBER(unhex(t, in), 0); err == nil {
			t.Errorf("%s was read", in)
		}
	}
	deep := bytes.Repeat([]byte{0x30, 0x80}, 200)
	if _, _, err := readBER(deep, 0); !errors.Is(err, errDeep) {
		t.Errorf("deep: %v", err)
	}
	v, _, err := readBER(unhex(t, "24 80 0402 6162 0401 63 0000"), 0)
	if err != nil || string(v.octets()) != "abc" {
		t.Errorf("a string in pieces: %q %v", v.octets(), err)
	}
	for _, oid := range []string{oidData, oidShroudedKeyBag, "2.16.840.1.101.3.4.2.1"} {
		if v, _, err := readBER(oidBytes(oid), 0); err != nil || v.oid() != oid {
			t.Errorf("%s: %s %v", oid, v.oid(), err)
		}
	}
	long := cons(0x04, make([]byte, 70000))
	if v, rest, err := readBER(long, 0); err != nil || len(v.octets()) != 70000 || len(rest) != 0 {
		t.Errorf("a long value: %v", err)
	}
}

// A hostile file must not keep a machine busy.
func TestRoundsAreBounded(t *testing.T) {
	file := cons(0x30, cons(0x02, []byte{3}), cons(0x30, oidBytes(oidData), cons(0xA0, cons(0x04, cons(0x30)))),
		cons(0x30, cons(0x30, cons(0x30, oidBytes("1.3.14.3.2.26")), cons(0x04, make([]byte, 20))), cons(0x04, []byte{1}), cons(0x02, []byte{0x7F, 0xFF, 0xFF, 0xFF})))
	if _, _, err := Read(file, "x"); err == nil || !strings.Contains(err.Error(), "rounds") {
		t.Errorf("%v", err)
	}
}
