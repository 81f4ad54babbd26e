package main

import (
	"context"
	"fmt"
	"io"
	"time"

	"github.com/urfave/cli/v3"

	"ligare/job"
)

func digestCommand() *cli.Command {
	return command(&cli.Command{
		Name: "digest", Usage: "print the digests of a keystore's or certificate's certificates, in every encoding", ArgsUsage: "[FILE]",
		Description: "FILE is a keystore (JKS, PKCS#12) or a certificate (PEM, DER, PKCS#7). With --variant, the keystore that this\nAndroid variant signs with is found in the build files. With --text, says what a pasted digest is: its\nalgorithm and form, which of the tree's certificates (and of FILE's) it belongs to, or what went wrong.",
		Flags: append(append(passwordFlags(), lookFlags()...), &cli.StringFlag{Name: "variant", Usage: "Android variant whose keystore is meant"},
			&cli.StringFlag{Name: "text", Usage: "a pasted digest to explain"},
			&cli.StringFlag{Name: "wanted", Usage: "with --text, the form that is asked for: sha1-base64, sha256-hex, sha256-colons, ..."}),
		Action: func(_ context.Context, c *cli.Command) error {
			if c.IsSet("text") {
				return whatIs(c)
			}
			list, err := certificates(c)
			if err != nil {
				return err
			}
			return output(c, list, func(w io.Writer) { showCertificates(w, list) })
		},
	})
}

// whatIs explains a pasted digest; one with something wrong ends with status 1.
func whatIs(c *cli.Command) error {
	w, err := open(c)
	if err != nil {
		return err
	}
	p, left, err := w.WhatIs(c.String("text"), c.String("wanted"), c.Args().Slice(), password(c))
	if err != nil {
		return err
	}
	err = output(c, p, func(out io.Writer) {
		rows := [][]string{}
		add := func(name string, values ...string) {
			for _, v := range values {
				if v != "" {
					rows = append(rows, []string{name, v})
				}
			}
		}
		add("algorithm", p.Algorithm)
		add("written as", p.Form)
		add("in hexadecimal", p.Hex)
		add("belongs to", p.Belongs...)
		add("taken off", p.Cleaned...)
		add("wrong", p.Wrong...)
		add("not compared", left...)
		table(out, rows)
	})
	if err == nil && len(p.Wrong) > 0 {
		return errFound
	}
	return err
}

func certificates(c *cli.Command) (*job.Certificates, error) {
	if name := c.String("variant"); name != "" {
		w, err := open(c)
		if err != nil {
			return nil, err
		}
		v, err := w.Variant(name)
		if err != nil {
			return nil, err
		}
		list, one, err := w.SignerOf(v, password(c))
		if err != nil {
			return nil, err
		}
		list.List = []job.Certificate{*one}
		return list, nil
	}
	file, err := argument(c, "FILE, or --variant NAME")
	if err != nil {
		return nil, err
	}
	return job.ReadCertificates(file, password(c))
}

func showCertificates(w io.Writer, list *job.Certificates) {
	fmt.Fprintf(w, "%s  (%s)\n", list.File, list.Kind)
	for _, x := range list.List {
		d := x.Digests
		fmt.Fprintln(w)
		rows := [][]string{}
		if x.Alias != "" {
			rows = append(rows, []string{"alias", x.Alias})
		}
		if x.Chain {
			rows = append(rows, []string{"chain", "vouches for the certificate above; nothing is signed with it"})
		}
		key := x.Key
		if x.Bits > 0 {
			key = fmt.Sprintf("%s, %d bits", x.Key, x.Bits)
		}
		rows = append(rows, []string{"subject", x.Subject}, []string{"valid", x.NotBefore.Format(time.DateOnly) + " to " + x.NotAfter.Format(time.DateOnly)}, []string{"key", key}, []string{"signed with", x.Algorithm},
			[]string{"SHA-1, hex with colons", d.SHA1Colons}, []string{"SHA-1, hex", d.SHA1Hex}, []string{"SHA-1, Base64", d.SHA1Base64}, []string{"SHA-1, Base64url", d.SHA1Base64URL},
			[]string{"SHA-256, hex with colons", d.SHA256Colons}, []string{"SHA-256, hex", d.SHA256Hex}, []string{"SHA-256, Base64", d.SHA256Base64}, []string{"SHA-256, Base64url", d.SHA256Base64URL},
			[]string{"MD5, hex with colons", d.MD5Colons})
		for _, warn := range x.Warnings {
			rows = append(rows, []string{"note", warn})
		}
		table(w, rows)
	}
}
