package cert

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/hmac"
	"crypto/pbkdf2"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/x509"
	"crypto/x509/pkix"
	"errors"
	"math/big"
	"strings"
	"time"
	"unicode/utf16"
)

// New says what keystore to make.
type New struct {
	Alias    string
	Password string // of the store and of its key
	Name     pkix.Name
	Years    int
}

// Debug is what the platform's tools make for debug builds: known to everybody, worth nothing in a shop.
var Debug = New{Alias: "androiddebugkey", Password: "android", Name: pkix.Name{CommonName: "Android Debug", Organization: []string{"Android"}, Country: []string{"US"}}, Years: 30}

// rounds of key derivation for what is written; what current tools take.
const rounds = 10000

// Create makes a keystore: PKCS#12 with an RSA key of 3072 bits and a self-signed certificate (SHA-256), both encrypted
// with AES-256 under the password (PBES2, RFC 8018), and a SHA-256 MAC.
func Create(n New, now time.Time) (file []byte, c *x509.Certificate, err error) {
	switch {
	case n.Alias == "" || n.Alias != strings.ToLower(n.Alias):
		return nil, nil, errors.New("an alias is written in lower case: some readers fold it")
	case len(n.Password) < 6:
		return nil, nil, errors.New("the password of a keystore has at least six characters")
	case strings.ContainsFunc(n.Password, func(r rune) bool { return r > 126 || r < 32 }):
		return nil, nil, errors.New("the password holds characters that the platform's tools do not read; take letters, digits and signs of ASCII")
	case n.Years < 1 || n.Years > 100:
		return nil, nil, errors.New("a certificate is valid for 1 to 100 years")
	}
	key, err := rsa.GenerateKey(rand.Reader, 3072)
	if err != nil {
		return nil, nil, err
	}
	serial, err := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 63))
	if err != nil {
		return nil, nil, err
	}
	t := &x509.Certificate{SerialNumber: serial.Add(serial, big.NewInt(1)), Subject: n.Name, NotBefore: now.Add(-time.Minute).UTC(), NotAfter: now.AddDate(n.Years, 0, 0).UTC(), SignatureAlgorithm: x509.SHA256WithRSA}
	der, err := x509.CreateCertificate(rand.Reader, t, t, key.Public(), key)
	if err != nil {
		return nil, nil, err
	}
	if c, err = x509.ParseCertificate(der); err != nil {
		return nil, nil, err
	}
	private, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return nil, nil, err
	}
	id := sha1.Sum(der)
	attributes := cons(0x31,
		cons(0x30, oidBytes(oidFriendlyName), cons(0x31, cons(0x1E, bmpBytes(n.Alias)))),
		cons(0x30, oidBytes(oidLocalKeyID), cons(0x31, cons(0x04, id[:]))))
	algorithm, sealed, err := seal(private, n.Password)
	if err != nil {
		return nil, nil, err
	}
	keys := cons(0x30, cons(0x30, oidBytes(oidShroudedKeyBag), cons(0xA0, cons(0x30, algorithm, cons(0x04, sealed))), attributes))
	certs := cons(0x30, cons(0x30, oidBytes(oidCertBag), cons(0xA0, cons(0x30, oidBytes(oidX509), cons(0xA0, cons(0x04, der)))), attributes))
	algorithm, sealed, err = seal(certs, n.Password)
	if err != nil {
		return nil, nil, err
	}
	safes := cons(0x30,
		cons(0x30, oidBytes(oidData), cons(0xA0, cons(0x04, keys))),
		cons(0x30, oidBytes(oidEncryptedData), cons(0xA0, cons(0x30, cons(0x02, []byte{0}), cons(0x30, oidBytes(oidData), algorithm, cons(0x80, sealed))))))
	salt := make([]byte, 20)
	if _, err := rand.Read(salt); err != nil {
		return nil, nil, err
	}
	mac := hmac.New(sha256.New, derive(sha256.New, passwords(n.Password)[0], salt, 3, rounds, 32))
	mac.Write(safes)
	sha := cons(0x30, oidBytes("2.16.840.1.101.3.4.2.1"), []byte{5, 0})
	file = cons(0x30, cons(0x02, []byte{3}), cons(0x30, oidBytes(oidData), cons(0xA0, cons(0x04, safes))),
		cons(0x30, cons(0x30, sha, cons(0x04, mac.Sum(nil))), cons(0x04, salt), cons(0x02, intBytes(rounds))))
	return file, c, nil
}

// seal encrypts with PBES2: PBKDF2 over HMAC-SHA256, AES-256 in CBC.
func seal(plain []byte, password string) (algorithm, sealed []byte, err error) {
	salt, iv := make([]byte, 20), make([]byte, aes.BlockSize)
	if _, err := rand.Read(salt); err != nil {
		return nil, nil, err
	}
	if _, err := rand.Read(iv); err != nil {
		return nil, nil, err
	}
	key, err := pbkdf2.Key(sha256.New, password, salt, rounds, 32)
	if err != nil {
		return nil, nil, err
	}
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, nil, err
	}
	pad := aes.BlockSize - len(plain)%aes.BlockSize
	sealed = append([]byte(nil), plain...)
	for range pad {
		sealed = append(sealed, byte(pad))
	}
	cipher.NewCBCEncrypter(block, iv).CryptBlocks(sealed, sealed)
	kdf := cons(0x30, oidBytes(oidPBKDF2), cons(0x30, cons(0x04, salt), cons(0x02, intBytes(rounds)), cons(0x30, oidBytes("1.2.840.113549.2.9"), []byte{5, 0})))
	enc := cons(0x30, oidBytes("2.16.840.1.101.3.4.1.42"), cons(0x04, iv))
	return cons(0x30, oidBytes(oidPBES2), cons(0x30, kdf, enc)), sealed, nil
}

// oidBytes writes an object identifier in DER.
func oidBytes(dotted string) []byte {
	var nums []int
	n := 0
	for _, c := range dotted + "." {
		if c == '.' {
			nums, n = append(nums, n), 0
		} else {
			n = n*10 + int(c-'0')
		}
	}
	body := []byte{}
	for _, n := range append([]int{nums[0]*40 + nums[1]}, nums[2:]...) {
		part := []byte{byte(n & 0x7F)}
		for n >>= 7; n > 0; n >>= 7 {
			part = append([]byte{byte(n&0x7F | 0x80)}, part...)
		}
		body = append(body, part...)
	}
	return cons(0x06, body)
}

func bmpBytes(s string) []byte {
	var out []byte
	for _, u := range utf16.Encode([]rune(s)) {
		out = append(out, byte(u>>8), byte(u))
	}
	return out
}

func intBytes(n int) []byte {
	out := big.NewInt(int64(n)).Bytes()
	if len(out) == 0 || out[0]&0x80 != 0 {
		out = append([]byte{0}, out...)
	}
	return out
}
