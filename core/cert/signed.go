package cert

import (
	"bytes"
	"crypto"
	"crypto/dsa" //lint:ignore SA1019 old packages are signed with it, and have to be read
	"crypto/ecdsa"
	"crypto/rsa"
	_ "crypto/sha1" // hash functions that messages name
	_ "crypto/sha256"
	_ "crypto/sha512"
	"crypto/x509"
	"encoding/asn1"
	"errors"
	"fmt"
	"math/big"
)

// Message is a signed message: PKCS#7 SignedData (RFC 2315, section 9) or CMS (RFC 5652, section 5).
type Message struct {
	Content      []byte // nil for one that stands elsewhere
	Certificates []*x509.Certificate
	Raw          [][]byte // of every certificate, those too that cannot be parsed
	signers      []messageSigner
}

type messageSigner struct {
	issuer, serial []byte // as they stand in the certificate
	keyID          []byte
	hash           crypto.Hash
	algorithm      string // OID of the signature
	attributes     []byte // as a SET, nil for none
	digest         []byte // the one they hold
	signature      []byte
}

var hashes = map[string]crypto.Hash{
	"1.2.840.113549.2.5": crypto.MD5, "1.3.14.3.2.26": crypto.SHA1, "2.16.840.1.101.3.4.2.1": crypto.SHA256, "2.16.840.1.101.3.4.2.2": crypto.SHA384,
	"2.16.840.1.101.3.4.2.3": crypto.SHA512, "2.16.840.1.101.3.4.2.4": crypto.SHA224,
}

const (
	oidMessageDigest = "1.2.840.113549.1.9.4"
	oidPSS           = "1.2.840.113549.1.1.10"
)

// ReadMessage reads a signed message in DER or BER. It verifies nothing; Verify does.
func ReadMessage(data []byte) (*Message, error) {
	top, _, err := readBER(data, 0)
	if err != nil {
		return nil, err
	}
	if top.at(0).oid() != oidSignedData {
		return nil, errors.New("it is no signed message")
	}
	m := &Message{}
	body := top.at(1, 0)
	if inner := body.at(2, 1, 0); inner.is(0, 4) {
		m.Content = inner.octets()
	}
	for i, k := range body.kids {
		switch {
		case k.is(2, 0):
			for _, c := range k.kids {
				if !c.is(0, 16) {
					continue // another kind of certificate
				}
				m.Raw = append(m.Raw, c.raw)
				if x, err := x509.ParseCertificate(c.raw); err == nil {
					m.Certificates = append(m.Certificates, x)
				}
			}
		case k.is(0, 17) && i > 2:
			for _, s := range k.kids {
				m.signers = append(m.signers, readSigner(s))
			}
		}
	}
	return m, nil
}

func readSigner(v tlv) messageSigner {
	var s messageSigner
	if id := v.at(1); id.is(2, 0) {
		s.keyID = id.octets()
	} else {
		s.issuer, s.serial = id.at(0).raw, id.at(1).body
	}
	s.hash = hashes[v.at(2, 0).oid()]
	at := 3
	if a := v.at(3); a.is(2, 0) {
		at++
		s.attributes = append([]byte{0x31}, a.raw[1:]...) // signed as a SET (RFC 5652, section 5.4)
		for _, x := range a.kids {
			if x.at(0).oid() == oidMessageDigest {
				s.digest = x.at(1, 0).octets()
			}
		}
	}
	s.algorithm = v.at(at, 0).oid()
	s.signature = v.at(at + 1).octets()
	return s
}

// Verify gives the certificates whose keys signed the content, which stands in the message or is handed in. Chains are
// not followed: whom to trust is the caller's business.
func (m *Message) Verify(content []byte) ([]*x509.Certificate, error) {
	if content == nil {
		content = m.Content
	}
	if len(m.signers) == 0 {
		return nil, errors.New("nobody signed it")
	}
	var out []*x509.Certificate
	for i := range m.signers {
		s := &m.signers[i]
		c := m.of(s)
		if c == nil {
			return nil, errors.New("the certificate of who signed it is not there")
		}
		if err := s.verify(c, content); err != nil {
			return nil, err
		}
		out = append(out, c)
	}
	return out, nil
}

// Signers gives the certificates that those who signed name as theirs, as far as they are there. Nothing is verified.
func (m *Message) Signers() []*x509.Certificate {
	var out []*x509.Certificate
	for i := range m.signers {
		if c := m.of(&m.signers[i]); c != nil {
			out = append(out, c)
		}
	}
	return out
}

func (m *Message) of(s *messageSigner) *x509.Certificate {
	for _, c := range m.Certificates {
		if len(s.keyID) > 0 && bytes.Equal(c.SubjectKeyId, s.keyID) {
			return c
		}
		if len(s.serial) > 0 && bytes.Equal(c.RawIssuer, s.issuer) && new(big.Int).SetBytes(s.serial).Cmp(c.SerialNumber) == 0 {
			return c
		}
	}
	return nil
}

func (s *messageSigner) verify(c *x509.Certificate, content []byte) error {
	if s.hash == 0 || !s.hash.Available() {
		return errors.New("it is signed with a hash function that is not known here")
	}
	sum := func(b []byte) []byte {
		h := s.hash.New()
		h.Write(b)
		return h.Sum(nil)
	}
	digest := sum(content)
	if s.attributes != nil {
		if !bytes.Equal(digest, s.digest) {
			return errors.New("the digest of the content is another than the one that was signed")
		}
		digest = sum(s.attributes)
	}
	return VerifyDigest(c.PublicKey, s.hash, s.algorithm == oidPSS, digest, s.signature)
}

// VerifyDigest verifies a signature over a digest: RSA (PKCS #1, RFC 8017: version 1.5, or PSS with a salt as long as the
// hash), ECDSA or DSA with signatures in ASN.1.
func VerifyDigest(key any, hash crypto.Hash, pss bool, digest, signature []byte) error {
	wrong := errors.New("the signature is not that of this key over this content")
	switch k := key.(type) {
	case *rsa.PublicKey:
		var err error
		if pss {
			err = rsa.VerifyPSS(k, hash, digest, signature, &rsa.PSSOptions{SaltLength: rsa.PSSSaltLengthAuto})
		} else {
			err = rsa.VerifyPKCS1v15(k, hash, digest, signature)
		}
		if err != nil {
			return wrong
		}
	case *ecdsa.PublicKey:
		if !ecdsa.VerifyASN1(k, digest, signature) {
			return wrong
		}
	case *dsa.PublicKey:
		var rs struct{ R, S *big.Int }
		if rest, err := asn1.Unmarshal(signature, &rs); err != nil || len(rest) > 0 {
			return wrong
		}
		if n := (k.Q.BitLen() + 7) / 8; len(digest) > n { // FIPS 186-4, section 4.6
			digest = digest[:n]
		}
		if !dsa.Verify(k, digest, rs.R, rs.S) {
			return wrong
		}
	default:
		return fmt.Errorf("signatures of a %T are not known here", key)
	}
	return nil
}
