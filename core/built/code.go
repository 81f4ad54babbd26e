package built

import (
	"bytes"
	"encoding/base64"
	"fmt"
	"io"
	"reflect"
	"slices"
	"strings"

	"ligare/core/cert"
	"ligare/core/syntax/macho"
	"ligare/core/syntax/plist"
	"ligare/core/syntax/xml"
)

// readProfile reads a provisioning profile: a property list in a signed message. An error with a profile is of a part of
// it.
func readProfile(src []byte) (*Profile, error) {
	m, err := cert.ReadMessage(src)
	if err != nil {
		return nil, err
	}
	f, err := plist.Parse(m.Content)
	if err != nil {
		return nil, err
	}
	text := func(key string) string {
		if v := f.Path(key); v != nil {
			return v.Text
		}
		return ""
	}
	p := &Profile{SignedBy: signedWith(m), Name: text("Name"), UUID: text("UUID"), Team: list(f.Path("TeamIdentifier")), TeamName: text("TeamName"), AppIDName: text("AppIDName"), Created: moment(f.Path("CreationDate")), Ends: moment(f.Path("ExpirationDate")),
		Devices: list(f.Path("ProvisionedDevices")), Platforms: list(f.Path("Platform")), Entitlements: dict(f.Path("Entitlements"))}
	if v := f.Path("ProvisionsAllDevices"); v != nil {
		p.AllDevices = v.Kind == plist.True
	}
	debuggable, _ := p.Entitlements["get-task-allow"].(bool)
	switch {
	case p.AllDevices:
		p.Kind = "enterprise"
	case len(p.Devices) > 0 && debuggable:
		p.Kind = "development"
	case len(p.Devices) > 0:
		p.Kind = "ad hoc"
	default:
		p.Kind = "store"
	}
	if v := f.Path("DeveloperCertificates"); v != nil {
		for _, c := range v.Items {
			der, err := base64.StdEncoding.DecodeString(strings.Join(strings.Fields(c.Text), ""))
			if err != nil {
				return p, fmt.Errorf("a certificate in it is no Base64: %w", err)
			}
			p.Certificates = append(p.Certificates, certificate(der))
		}
	}
	return p, nil
}

// signedWith gives the certificates of a message, that of who signed first.
func signedWith(m *cert.Message) []Certificate {
	var out []Certificate
	for _, c := range m.Signers() {
		out = append(out, certificate(c.Raw))
	}
	for _, der := range m.Raw {
		if !slices.ContainsFunc(out, func(c Certificate) bool { return bytes.Equal(c.DER, der) }) {
			out = append(out, certificate(der))
		}
	}
	return out
}

// readExecutable reads what an executable's signature says. entitlements are a property list; problems say what cannot be
// read.
func readExecutable(r io.Reader, name string) (s *CodeSignature, entitlements []byte, problems []string) {
	bad := func(format string, args ...any) { problems = append(problems, fmt.Sprintf(format, args...)) }
	parts, err := macho.Read(r)
	if err != nil {
		bad("%s: %v", name, err)
	}
	if len(parts) == 0 {
		return nil, nil, problems
	}
	first := parts[0]
	s = &CodeSignature{Identifier: first.Identifier, Team: first.Team, Adhoc: first.Adhoc}
	for _, p := range parts {
		s.Slices = append(s.Slices, Slice{p.Architecture, p.Signed, p.Identifier})
		for what, same := range map[string]bool{"identifier": p.Identifier == first.Identifier, "team": p.Team == first.Team, "entitlements": bytes.Equal(p.Entitlements, first.Entitlements) && bytes.Equal(p.DER, first.DER)} {
			if !same && !slices.Contains(s.Differs, what) {
				s.Differs = append(s.Differs, what)
			}
		}
	}
	slices.Sort(s.Differs)
	if text := bytes.TrimRight(first.Entitlements, "\x00"); text != nil {
		if f, err := plist.Parse(text); err != nil {
			bad("the entitlements of %s: %v", name, err)
		} else {
			s.Entitlements, entitlements = dict(f.Root), text
		}
	}
	if first.DER != nil { // the form that phones believe since iOS 15
		got, err := macho.Entitlements(first.DER)
		switch {
		case err != nil:
			bad("the entitlements of %s in their binary form: %v", name, err)
		case s.Entitlements == nil:
			s.Entitlements, entitlements = got, propertyList(got)
		case !reflect.DeepEqual(got, s.Entitlements):
			bad("the two forms of the entitlements of %s differ; iOS 15 and later take the binary one", name)
			s.Entitlements, entitlements = got, propertyList(got)
		}
	}
	if len(first.CMS) > 0 {
		if m, err := cert.ReadMessage(first.CMS); err != nil {
			bad("who signed %s: %v", name, err)
		} else {
			s.Certificates = signedWith(m)
		}
	}
	return s, entitlements, problems
}

// propertyList writes values as a property list.
func propertyList(v map[string]any) []byte {
	var b strings.Builder
	b.WriteString(`<?xml version="1.0" encoding="UTF-8"?>` + "\n" + `<plist version="1.0">` + "\n")
	var write func(v any)
	write = func(v any) {
		switch v := v.(type) {
		case map[string]any:
			b.WriteString("<dict>\n")
			for _, k := range sorted(v) {
				b.WriteString("<key>" + xml.Encode(k) + "</key>")
				write(v[k])
			}
			b.WriteString("</dict>\n")
		case []any:
			b.WriteString("<array>\n")
			for _, i := range v {
				write(i)
			}
			b.WriteString("</array>\n")
		case bool:
			fmt.Fprintf(&b, "<%t/>\n", v)
		default:
			b.WriteString(plist.StringElement(fmt.Sprint(v)) + "\n")
		}
	}
	write(v)
	b.WriteString("</plist>\n")
	return []byte(b.String())
}
