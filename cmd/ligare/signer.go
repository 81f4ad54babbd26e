package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"ligare/client/shape"
	"ligare/job"
)

func signerCommand() *cli.Command {
	return command(&cli.Command{
		Name: "signer", Usage: "the certificates that sign builds",
		Commands: []*cli.Command{signerAdd(), signerList(), signerMake()},
	})
}

func signerAdd() *cli.Command {
	return command(&cli.Command{
		Name: "add", Usage: "add a signer's certificate to the records (never its key), and say which services need its digest", ArgsUsage: "[FILE]",
		Description: "FILE is a keystore or a certificate. Without one, the debug keystore of this machine is taken:\na colleague runs `ligare signer add --app NAME` once, and the services that must know the digest are listed.",
		Flags: append(passwordFlags(),
			&cli.StringFlag{Name: "name", Usage: "what to call it; by default owner, machine and role"},
			&cli.StringFlag{Name: "role", Value: "debug", Usage: "debug, upload, release or store"},
			&cli.StringFlag{Name: "owner", Usage: "whose it is; by default you"},
			&cli.StringFlag{Name: "machine", Usage: "on which machine it is; by default this one"},
			&cli.StringFlag{Name: "alias", Usage: "which one, if the file holds several"},
			&cli.StringFlag{Name: "app", Usage: "whose builds it signs; by default the tree's app, if it is attached"},
			&cli.BoolFlag{Name: "replace", Usage: "it takes the place of the one of this name, as a debug certificate does in any case"},
			&cli.StringSliceFlag{Name: "identity", Usage: "the application ID it signs (can be given again; by default all of the app's)"}),
		Action: func(ctx context.Context, c *cli.Command) error {
			file, err := signerFile(c)
			if err != nil {
				return err
			}
			list, err := job.ReadCertificates(file, password(c))
			if err != nil {
				return err
			}
			one, err := list.Signing(c.String("alias"))
			if err != nil {
				return &job.Problem{What: file, Hint: "Name it with --alias; `ligare digest " + file + "` lists them.", Err: err}
			}
			n := shape.NewSigner{Name: c.String("name"), Role: c.String("role"), Owner: c.String("owner"), Machine: c.String("machine"), App: c.String("app"), Identities: c.StringSlice("identity"), Certificate: one.DER, Replace: c.Bool("replace")}
			if n.App == "" {
				if w, err := job.Open(c.String("tree")); err == nil && w.Binding != nil {
					n.App = w.Binding.App
				}
			}
			named(&n)
			s, err := server(c, nil)
			if err != nil {
				return err
			}
			got, err := s.SaveSigner(ctx, n)
			if err != nil {
				return err
			}
			return output(c, got, func(out io.Writer) { showSigner(out, *got) })
		},
	})
}

// signerFile gives the file named, or the debug keystore of this machine.
func signerFile(c *cli.Command) (string, error) {
	if c.Args().Len() > 0 || c.String("role") != "debug" {
		return argument(c, "FILE")
	}
	file, err := job.DebugKeyStore()
	if err != nil {
		return "", err
	}
	if _, err := os.Stat(file); errors.Is(err, os.ErrNotExist) {
		return "", &job.Problem{What: "this machine has no debug keystore: " + file + " is not there", Hint: "Name the keystore, build the app once, or make one: ligare signer make " + file}
	}
	return file, nil
}

// named fills in what was not said.
func named(n *shape.NewSigner) {
	if n.Owner == "" {
		for _, k := range []string{"USER", "LOGNAME", "USERNAME"} {
			if n.Owner == "" {
				n.Owner = os.Getenv(k)
			}
		}
	}
	if n.Machine == "" {
		if host, err := os.Hostname(); err == nil {
			n.Machine = host
		}
	}
	if n.Name == "" {
		n.Name = strings.TrimSpace(strings.Join([]string{n.Owner, n.Machine, n.Role}, " "))
	}
}

func signerList() *cli.Command {
	return command(&cli.Command{
		Name: "list", Usage: "list the signers, what they sign, and which services need their digests",
		Flags: []cli.Flag{&cli.StringFlag{Name: "app", Usage: "those of one app only"}},
		Action: func(ctx context.Context, c *cli.Command) error {
			s, err := server(c, nil)
			if err != nil {
				return err
			}
			list, err := s.Signers(ctx, c.String("app"))
			if err != nil {
				return err
			}
			return output(c, list, func(out io.Writer) {
				if len(list) == 0 {
					fmt.Fprintln(out, "No signers yet. Add one: ligare signer add")
				}
				for _, x := range list {
					showSigner(out, x)
					fmt.Fprintln(out)
				}
			})
		},
	})
}

func showSigner(w io.Writer, s shape.Signer) {
	fmt.Fprintf(w, "%s (%s)\n", s.Name, s.Role)
	digests, _ := s.Digests.(map[string]any)
	rows := [][]string{{"  subject", s.Subject}, {"  valid until", s.NotAfter.Format(time.DateOnly)}, {"  SHA-1", fmt.Sprint(digests["sha1Colons"])}, {"  SHA-256", fmt.Sprint(digests["sha256Colons"])}}
	for _, i := range s.Identities {
		rows = append(rows, []string{"  signs", i.Identifier + " of " + i.App})
	}
	for _, x := range s.Warnings {
		rows = append(rows, []string{"  note", x})
	}
	table(w, rows)
	if len(s.Identities) == 0 {
		fmt.Fprintln(w, "  It is not tied to an app: name one with --app.")
		return
	}
	if len(s.Needs) == 0 {
		fmt.Fprintln(w, "  No service it is registered with asks for its digest.")
		return
	}
	fmt.Fprintln(w, "  Services that need its digest:")
	rows = nil
	for _, n := range s.Needs {
		state := fmt.Sprintf("MISSING there: ligare register %s --signer '%s'", n.Service, s.Name)
		if n.Environment != "" {
			state += " --environment " + n.Environment
		}
		switch {
		case n.Registered:
			state = "has it"
		case n.Feature != "":
			state = "once " + n.Feature + " is switched on"
		}
		rows = append(rows, []string{"    " + strings.TrimSpace(n.Title+" "+n.Environment), n.Identifier, n.Form, n.Value, state})
	}
	table(w, rows)
}

func signerMake() *cli.Command {
	return command(&cli.Command{
		Name: "make", Usage: "make a keystore where there is none (PKCS#12, RSA 3072, SHA-256)", ArgsUsage: "FILE",
		Description: "A debug keystore gets the password that every debug keystore has. For release and upload you are asked\nfor one; it is never printed. Keep the file and its password: nobody can make them again.",
		Flags: append(passwordFlags(),
			&cli.StringFlag{Name: "role", Value: "debug", Usage: "debug, upload or release"},
			&cli.StringFlag{Name: "alias", Usage: "the key's alias"},
			&cli.StringFlag{Name: "holder", Usage: "who signs, as the certificate will say"},
			&cli.IntFlag{Name: "years", Value: 30, Usage: "how long the certificate is valid"}),
		Action: func(_ context.Context, c *cli.Command) error {
			file, err := argument(c, "FILE")
			if err != nil {
				return err
			}
			list, err := job.MakeKeyStore(job.MakeOptions{File: file, Role: c.String("role"), Alias: c.String("alias"), Holder: c.String("holder"), Years: c.Int("years"), Password: twice(c)})
			if err != nil {
				return err
			}
			return output(c, list, func(w io.Writer) { showCertificates(w, list) })
		},
	})
}
