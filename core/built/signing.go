package built

import (
	"context"
	"crypto/x509"
	"fmt"
	"math"

	"ligare/core/cert"
	"ligare/core/signature"
)

// certificate gives what is known of a certificate.
func certificate(der []byte) Certificate {
	c, err := x509.ParseCertificate(der)
	if err != nil {
		return Certificate{Digests: cert.Of(&x509.Certificate{Raw: der}), Problem: err.Error(), DER: der}
	}
	from, to := c.NotBefore.UTC(), c.NotAfter.UTC()
	out := Certificate{Subject: c.Subject.String(), Issuer: c.Issuer.String(), Serial: fmt.Sprintf("%x", c.SerialNumber), NotBefore: &from, NotAfter: &to, Digests: cert.Of(c), DER: der}
	out.Key, out.Bits = cert.Key(c)
	return out
}

func certificates(list [][]byte) []Certificate {
	out := []Certificate{}
	for _, der := range list {
		out = append(out, certificate(der))
	}
	return out
}

// signing gives how an Android package is signed. Verifying reads the whole file; without it only what is signed at all
// is said.
func (a *Archive) signing(ctx context.Context, verify bool) (*Signing, error) {
	s := &Signing{Signers: []Signer{}}
	var verdicts []signature.Verdict
	if verify {
		var err error
		if verdicts, err = a.Block.Verify(ctx, a.r); err != nil {
			return nil, err
		}
	}
	for i := range a.Block.Signers {
		b := &a.Block.Signers[i]
		x := Signer{Scheme: string(b.Scheme), MinSDK: b.MinSDK, MaxSDK: b.MaxSDK, Certificates: certificates(b.Certificates)}
		if x.MaxSDK == math.MaxInt32 {
			x.MaxSDK = 0
		}
		for _, l := range b.Lineage {
			x.Lineage = append(x.Lineage, Ancestor{certificate(l.Certificate), append([]string{}, l.Abilities()...)})
		}
		if verify {
			x.judge(verdicts[i].Err)
		}
		s.Signers = append(s.Signers, x)
	}
	jar := signature.ReadArchive(a.zip)
	if verify && len(jar.Signers) > 0 {
		if err := jar.Verify(ctx, a.zip); err != nil {
			return nil, err
		}
	}
	for i := range jar.Signers {
		j := &jar.Signers[i]
		x := Signer{Scheme: string(signature.V1), File: j.File, Certificates: certificates(j.Certificates)}
		for _, want := range j.Stripped {
			if verify && j.Err == nil && !a.signedBy(want) {
				j.Err = fmt.Errorf("scheme %s was there when it was signed, and was taken away", want)
			}
		}
		switch {
		case verify:
			x.judge(j.Err)
		case j.Err != nil:
			x.Problem = j.Err.Error()
		}
		s.Signers = append(s.Signers, x)
	}
	if verify {
		s.Verified = verified(s.Signers)
	}
	switch {
	case a.Kind == AAB:
		s.Note = "This is the certificate the bundle was uploaded with. The store signs what people get with one of its own, whose digest has to be registered too."
	case len(s.Signers) == 0:
		s.Note = "It is not signed: no phone installs it."
	}
	return s, nil
}

func (x *Signer) judge(err error) {
	yes := err == nil
	x.Verified = &yes
	if err != nil {
		x.Problem = err.Error()
	}
}

// verified says whether every signature holds; a package without one is not verified.
func verified(list []Signer) *bool {
	yes := len(list) > 0
	for _, s := range list {
		yes = yes && *s.Verified
	}
	return &yes
}

// signedBy reports whether the signing block holds a scheme, as signature files number them.
func (a *Archive) signedBy(scheme string) bool {
	for _, s := range a.Block.Signers {
		if string(s.Scheme) == scheme || scheme == "3" && s.Scheme == signature.V31 {
			return true
		}
	}
	return scheme != "2" && scheme != "3" // schemes that are not known here stand outside the file
}
