package job

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"time"

	"ligare/core/cert"
	"ligare/core/survey"
)

// Certificate is one certificate with its digests, as it is shown.
type Certificate struct {
	Alias     string       `json:"alias,omitempty"`
	HasKey    bool         `json:"hasKey"`
	Chain     bool         `json:"chain,omitempty"` // it vouches for the certificate before it; nothing is signed with it
	Subject   string       `json:"subject"`
	Issuer    string       `json:"issuer"`
	Serial    string       `json:"serialNumber"` // hexadecimal
	Key       string       `json:"keyAlgorithm"`
	Bits      int          `json:"keySize"`
	NotBefore time.Time    `json:"notBefore"`
	NotAfter  time.Time    `json:"notAfter"`
	Algorithm string       `json:"signatureAlgorithm"`
	Digests   cert.Digests `json:"digests"`
	Warnings  []string     `json:"warnings,omitempty"`
	DER       []byte       `json:"-"`
}

// Certificates is what a file holds.
type Certificates struct {
	File string        `json:"file"`
	Kind string        `json:"kind"`
	List []Certificate `json:"certificates"`
}

// ReadCertificates reads a keystore or certificate file. password is asked for only when one is needed.
func ReadCertificates(file string, password func() (string, error)) (*Certificates, error) {
	data, err := os.ReadFile(file)
	if err != nil {
		return nil, &Problem{What: file + " cannot be read", Hint: "Check the path; a project's debug keystore is made by its first build.", Err: unwrapPath(err)}
	}
	kind, list, err := cert.Read(data, "")
	if errors.Is(err, cert.ErrPassword) { // every debug keystore has the same password: nobody is asked for it
		kind, list, err = cert.Read(data, cert.Debug.Password)
	}
	if errors.Is(err, cert.ErrPassword) {
		p, asked := password()
		if asked != nil {
			return nil, asked
		}
		kind, list, err = cert.Read(data, p)
	}
	if errors.Is(err, cert.ErrPassword) {
		return nil, &Problem{What: "the password of " + file + " is wrong", Hint: "Give the store's password (not the key's) at the prompt, with --password-env NAME or with --password-file FILE."}
	}
	if err != nil {
		return nil, &Problem{What: file, Hint: "Name a keystore (JKS, PKCS#12) or a certificate (PEM, DER, PKCS#7).", Err: err}
	}
	out := &Certificates{File: file, Kind: kind}
	key := slices.ContainsFunc(list, func(e cert.Entry) bool { return e.Key })
	for _, e := range list {
		kind, bits := cert.Key(e.Cert)
		out.List = append(out.List, Certificate{Alias: e.Alias, HasKey: e.Key, Chain: key && !e.Key && e.Alias == "", Subject: e.Cert.Subject.String(),
			Issuer: e.Cert.Issuer.String(), Serial: e.Cert.SerialNumber.Text(16), Key: kind, Bits: bits, NotBefore: e.Cert.NotBefore, NotAfter: e.Cert.NotAfter,
			Algorithm: e.Cert.SignatureAlgorithm.String(), Digests: cert.Of(e.Cert), Warnings: cert.Warnings(e.Cert, time.Now()), DER: e.Cert.Raw})
	}
	return out, nil
}

// WhatIs says what a pasted digest is, compared with the keystores that the tree's variants sign with, and with files
// named besides. A keystore that cannot be read is left out and said so.
func (w *Work) WhatIs(text, form string, files []string, ask func() (string, error)) (cert.Pasted, []string, error) {
	var known []cert.Known
	var left []string
	add := func(list *Certificates, err error) {
		if err != nil {
			left = append(left, err.Error())
			return
		}
		for _, x := range list.List {
			label := list.File
			if x.Alias != "" {
				label += ", alias " + x.Alias
			}
			known = append(known, cert.Known{Label: label, DER: x.DER})
		}
	}
	if w != nil {
		seen := map[string]bool{}
		for _, m := range w.Survey.Android.Modules {
			for _, v := range m.Variants {
				list, one, err := w.SignerOf(v, func() (string, error) { return "", errSilent })
				if err == nil {
					list.List = []Certificate{*one}
				}
				if key := v.KeyStore.Say() + v.KeyAlias.Say(); !seen[key] {
					seen[key] = true
					add(list, err)
				}
			}
		}
	}
	for _, f := range files {
		list, err := ReadCertificates(f, ask)
		if err != nil {
			return cert.Pasted{}, nil, err
		}
		add(list, nil)
	}
	return cert.Explain(text, form, known), left, nil
}

// Variant gives an Android variant by name.
func (w *Work) Variant(name string) (*survey.AndroidVariant, error) {
	var have []string
	for _, m := range w.Survey.Android.Modules {
		for _, v := range m.Variants {
			if v.Name == name {
				return v, nil
			}
			have = append(have, v.Name)
		}
	}
	return nil, stop("Use one of: "+join(have)+".", "there is no Android variant %q", name)
}

// SignerOf reads the certificate a variant signs with. The password comes from the build file where it stands there,
// else it is asked for.
func (w *Work) SignerOf(v *survey.AndroidVariant, ask func() (string, error)) (*Certificates, *Certificate, error) {
	var file string
	var err error
	switch {
	case v.KeyStore.Known():
		if file, err = w.onDisk(v.KeyStore.String()); err != nil {
			return nil, nil, err
		}
	case v.KeyStore.Unresolved == survey.DebugKeyStore:
		if file, err = DebugKeyStore(); err != nil {
			return nil, nil, err
		}
	case v.KeyStore.Unresolved != "" || len(v.KeyStore.Possible) > 0:
		return nil, nil, stop("Name the keystore itself: ligare digest FILE", "the keystore of variant %s is not known: %s", v.Name, v.KeyStore.Say())
	default:
		return nil, nil, stop("Name a signing configuration in the build file, or give the keystore: ligare digest FILE", "variant %s is not signed", v.Name)
	}
	password := ask
	if p := v.StorePassword(); p.Known() {
		password = func() (string, error) { return p.String(), nil }
	} else if v.BuildType == "debug" {
		password = func() (string, error) { return "android", nil }
	}
	list, err := ReadCertificates(file, password)
	if err != nil {
		return nil, nil, err
	}
	one, err := list.Signing(v.KeyAlias.String())
	if err != nil {
		return list, nil, &Problem{What: file, Hint: "Correct keyAlias in the build file.", Err: err}
	}
	return list, one, nil
}

var errNoAlias = errors.New("there is no alias")

// Signing gives the certificate that builds are signed with: under the alias, or, without one, the only one with a key.
func (c *Certificates) Signing(alias string) (*Certificate, error) {
	var keys, all []string
	var only *Certificate
	for i := range c.List {
		x := &c.List[i]
		if alias != "" && equalFold(x.Alias, alias) {
			return x, nil
		}
		all = append(all, x.Alias)
		if x.HasKey {
			keys, only = append(keys, x.Alias), x
		}
	}
	switch {
	case alias != "":
		return nil, fmt.Errorf("%w %q among %s", errNoAlias, alias, join(all))
	case len(keys) == 1:
		return only, nil
	case len(keys) > 1:
		return nil, fmt.Errorf("it holds several keys, and no alias is named: %s", join(keys))
	}
	return &c.List[0], nil
}

// DebugKeyStore gives where the platform keeps the keystore of debug builds on this machine.
func DebugKeyStore() (string, error) {
	dir := os.Getenv("ANDROID_USER_HOME")
	if dir == "" {
		home, err := os.UserHomeDir()
		if err != nil {
			return "", err
		}
		dir = filepath.Join(home, ".android")
	}
	return filepath.Join(dir, "debug.keystore"), nil
}
