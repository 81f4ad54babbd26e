package job

import (
	"crypto/x509/pkix"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"ligare/core/cert"
	"ligare/edit"
)

// MakeOptions says what keystore to make.
type MakeOptions struct {
	File     string
	Role     string // debug, release or upload
	Alias    string // "" for the usual one of the role
	Holder   string // who signs, in the certificate
	Years    int
	Password func() (string, error)
}

// MakeKeyStore makes a keystore where none is. A debug keystore has the password that all debug keystores have; any
// other asks for one.
func MakeKeyStore(o MakeOptions) (*Certificates, error) {
	if _, err := os.Lstat(o.File); err == nil {
		return nil, stop("Name another file. A keystore that signs published builds can never be made again.", "%s is there already; it was left alone", o.File)
	} else if !errors.Is(err, fs.ErrNotExist) {
		return nil, &Problem{What: o.File, Hint: "Name a file in a folder that can be written to.", Err: unwrapPath(err)}
	}
	n := cert.Debug
	switch o.Role {
	case "debug":
		if o.Alias != "" {
			n.Alias = o.Alias
		}
	case "release", "upload":
		n = cert.New{Alias: o.Alias, Name: pkix.Name{CommonName: o.Holder}, Years: o.Years}
		if n.Alias == "" {
			n.Alias = o.Role
		}
		if o.Holder == "" {
			return nil, stop("Say who signs: --holder \"Larkfield Cooperative\".", "a %s certificate names who signs", o.Role)
		}
		p, err := o.Password()
		if err != nil {
			return nil, err
		}
		n.Password = p
	default:
		return nil, stop("Use debug, upload or release; a store makes its own.", "there is no keystore of the role %q to make", o.Role)
	}
	data, _, err := cert.Create(n, time.Now())
	if err != nil {
		return nil, &Problem{What: "the keystore was not made", Hint: "Correct what is named, and run the command again.", Err: err}
	}
	dir := filepath.Dir(o.File)
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, &Problem{What: dir, Hint: "Name a file in a folder that can be written to.", Err: unwrapPath(err)}
	}
	if err := edit.Private(o.File, data); err != nil {
		return nil, &Problem{What: o.File, Hint: "Name a file in a folder that can be written to.", Err: unwrapPath(err)}
	}
	return ReadCertificates(o.File, func() (string, error) { return n.Password, nil })
}
