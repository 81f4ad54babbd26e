package check

import (
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"ligare/core/binding"
	"ligare/core/cert"
	"ligare/core/ident"
	"ligare/core/sheet"
	"ligare/core/survey"
	"ligare/core/wiring"
)

// soon is how long before its end a certificate or a key is worth a word.
const soon = 60 * 24 * time.Hour

// wellKnown is the password of the debug keystores that the platform's tools make.
const wellKnown = "android"

// signedBy gives where it is said what a variant signs with.
func (b build) signedBy() survey.Fact {
	for _, f := range []survey.Fact{b.variant.SigningConfig, b.variant.KeyStore} {
		if f.File != "" {
			return f
		}
	}
	return survey.Fact{File: b.module.BuildFile, Line: 1, Column: 1}
}

// debugSigned reports whether a variant signs with a debug certificate, and how that is known.
func (b build) debugSigned() (why string, ok bool) {
	v := b.variant
	switch {
	case v.SigningConfig.String() == "debug":
		return "the debug signing configuration", true
	case v.Certificate != nil && strings.Contains(v.Certificate.Subject, "CN=Android Debug"):
		return "a certificate for " + v.Certificate.Subject, true
	case v.KeyStore.Known() && strings.HasSuffix(v.KeyStore.String(), "debug.keystore"):
		return v.KeyStore.String(), true
	}
	return "", false
}

// signing looks at what every Android variant signs with: which certificate, how long it holds, and what lies open.
func (r *runner) signing() {
	for _, b := range r.builds() {
		v := b.variant
		if v == nil {
			continue
		}
		r.debugOnRelease(b)
		at := b.signedBy()
		if c := v.Certificate; c != nil {
			if c.Problem == survey.NoAlias {
				f := b.finding("signing-alias-missing", v.KeyAlias)
				if f.File == "" {
					f.File, f.Line, f.Column = at.File, at.Line, at.Column
				}
				f.Message, f.cause = capital(c.Unresolved), f.Place()
				r.add(f, nil, b.site, v.KeyAlias.String())
			}
			if ends, err := time.Parse(time.RFC3339, c.NotAfter); err == nil {
				r.ending(b, at, ends)
			}
		}
		for _, p := range []survey.Fact{v.StorePassword(), v.KeyPassword()} {
			r.openPassword(b, p)
		}
		if k := v.KeyStore; k.Known() {
			state := r.in.Tracked[k.String()]
			f := b.finding("keystore-tracked", at)
			f.File, f.Line, f.Column, f.Actual, f.cause = k.String(), 0, 0, "", k.String()
			_, debug := b.debugSigned()
			switch {
			case state.Tracked && b.production() && !debug:
				f.Message = fmt.Sprintf("%s, which signs %s, is in version control", k.String(), b.name)
			case state.Tracked:
				f.Severity, f.Message = Note, fmt.Sprintf("%s, which signs %s, is in version control", k.String(), b.name)
			case state.Ever && b.production() && !debug:
				f.Message = fmt.Sprintf("%s, which signs %s, was in version control once, and is in its history", k.String(), b.name)
			default:
				continue
			}
			r.add(f, nil, k.String())
		}
	}
	r.keyFiles()
	for _, s := range r.recordedSigners() {
		if s.Role == "debug" {
			continue
		}
		r.ending(build{name: s.Name}, survey.Fact{}, s.NotAfter)
	}
}

// keyFiles reports private keys in version control that no variant names.
func (r *runner) keyFiles() {
	named := map[string]bool{}
	for _, b := range r.builds() {
		if b.variant != nil {
			named[b.variant.KeyStore.String()] = true
		}
	}
	for _, file := range r.in.Survey.Files {
		if named[file.File] || !r.in.Tracked[file.File].Tracked {
			continue
		}
		f := Finding{Rule: "keystore-tracked", File: file.File, cause: file.File}
		switch ext := path.Ext(file.File); {
		case ext == ".p8":
			f.Message = file.File + ", a private key for the platform's push service, is in version control"
		case ext == ".jks" || ext == ".keystore" || ext == ".p12" || ext == ".pfx":
			f.Severity, f.Message = Note, file.File+" is in version control; no variant signs with it"
		default:
			continue
		}
		r.add(f, nil, file.File)
	}
}

// recordedSigners gives the records' signers that no variant of the tree signs with here.
func (r *runner) recordedSigners() []Signer {
	if r.in.Records == nil {
		return nil
	}
	here := map[string]bool{}
	for _, b := range r.builds() {
		if b.variant != nil && b.variant.Certificate != nil {
			here[plain(b.variant.Certificate.SHA256)] = true
		}
	}
	return slices.DeleteFunc(slices.Clone(r.in.Records.Signers), func(s Signer) bool { return here[s.SHA256] })
}

// plain gives a digest in lower-case hexadecimal without colons.
func plain(digest string) string { return strings.ToLower(strings.ReplaceAll(digest, ":", "")) }

func (r *runner) debugOnRelease(b build) {
	why, ok := b.debugSigned()
	if !ok || strings.HasPrefix(b.variant.BuildType, "debug") || b.variant.BuildType == "profile" || slices.ContainsFunc(r.in.Answers, func(a wiring.Answer) bool {
		return a.Code == "signing-debug" && slices.Contains(a.Variants, b.name)
	}) {
		return
	}
	f := b.finding("signer-of-debug", b.signedBy())
	f.Severity, f.cause = Note, f.Place()
	if b.production() {
		f.Severity = Error
	}
	f.Message = fmt.Sprintf("%s signs with %s", b.say(), why)
	r.add(f, nil, b.site)
}

// ending reports a certificate that has ended or soon will.
func (r *runner) ending(b build, at survey.Fact, ends time.Time) {
	left := ends.Sub(r.in.Now)
	if ends.IsZero() || left > soon {
		return
	}
	f := b.finding("certificate-ends", at)
	f.Actual, f.cause = ends.UTC().Format(time.DateOnly), at.Place()+b.site
	what := "The certificate that signs " + b.name
	if b.variant == nil {
		f.Variant, f.cause = "", b.name
		what = "The signer " + b.name + " of the records"
	}
	if left < 0 {
		f.Message = fmt.Sprintf("%s ended on %s", what, f.Actual)
	} else {
		f.Severity = Warning
		f.Message = fmt.Sprintf("%s ends on %s, in %d days", what, f.Actual, int(left/(24*time.Hour)))
	}
	r.add(f, nil, b.site, b.name)
}

// openPassword reports a signing password that stands in a file that version control holds, or will.
func (r *runner) openPassword(b build, p survey.Fact) {
	if !p.Known() || p.File == "" || p.String() == "" {
		return
	}
	if strings.HasSuffix(p.File, ".properties") && !r.in.Tracked[p.File].Tracked {
		return // kept out, or nobody knows
	}
	f := b.finding("signing-password-open", p)
	f.Actual, f.cause = ident.Mask(p.String()), p.Place()
	_, debug := b.debugSigned()
	switch {
	case p.String() == wellKnown && (debug || !b.production()):
		f.Severity, f.Actual, f.cause = Note, wellKnown, p.File
		f.Message = fmt.Sprintf("The well-known password of debug keystores stands in %s; it protects nothing, and signs %s", p.File, b.name)
	case !b.production():
		f.Severity = Note
		f.Message = fmt.Sprintf("The password of the keystore that signs %s stands in %s", b.name, p.File)
	default:
		f.Message = fmt.Sprintf("The password of the keystore that signs %s stands in %s", b.name, p.File)
	}
	r.add(f, nil, p.File, b.site)
}

// digests compares the digests that services were told with those of the certificates the variants sign with.
func (r *runner) digests() {
	for _, b := range r.builds() {
		if b.variant == nil || !b.attached {
			continue
		}
		for _, reg := range r.in.Registrations {
			known := r.in.Records.registration(reg.Key())
			if known == nil || reg.Environment != "" && reg.Environment != b.bound.Environment {
				continue
			}
			told := known.of(b.platform, b.bound.Identity)
			if told == nil {
				continue
			}
			for i := range reg.Sheet.Asks {
				if a := &reg.Sheet.Asks[i]; a.DigestForm() != "" && a.For(b.platform) {
					r.digest(b, reg, a, told)
					r.colleagues(b, reg, a, told)
				}
			}
		}
	}
}

func (r *runner) digest(b build, reg *wiring.Registration, a *sheet.Ask, told *RegisteredIdentity) {
	form, _, _ := strings.Cut(a.DigestForm(), "-")
	vars := map[string]string{"service": reg.Service, "ask": a.ID}
	listed := told.Digests
	if v := told.Answers[a.ID]; v != "" && !slices.Contains(listed, v) {
		listed = append(slices.Clone(listed), v)
	}
	if len(listed) == 0 && !slices.Contains(reg.Features, a.When) && (a.When != "" || a.Optional) {
		return // nothing asks for it
	}
	at := b.signedBy()
	f := b.finding("digest-misread", at)
	var has []string // what is registered, in hexadecimal
	for _, d := range listed {
		p := cert.Explain(d, a.DigestForm(), r.in.Certificates)
		if wrong := misread(p, a.DigestForm(), d); wrong != "" {
			f.Actual, f.Expected, f.cause = d, "", reg.Key()+told.ID+d
			f.Message = fmt.Sprintf("%s was told %s for %s: %s", reg.Sheet.Title, d, told.ID, wrong)
			r.add(f, vars, reg.Key(), told.ID, d)
		}
		has = append(has, p.Hex)
	}
	c := b.variant.Certificate
	if c == nil || c.SHA256 == "" {
		why := "what " + b.name + " signs with is not known: " + b.variant.KeyStore.Say()
		if c != nil {
			why = "the certificate that signs " + b.name + " could not be read: " + c.Unresolved
		}
		r.blind("digest-not-registered", why, false)
		return
	}
	own := plain(c.SHA256)
	if form == "sha1" {
		own = plain(c.SHA1)
	}
	f = b.finding("digest-not-registered", at)
	if slices.Contains(has, own) {
		r.resigned(b, reg, a, told, has)
		return
	}
	f.Expected, f.cause = cert.FormOf(own, a.DigestForm()), reg.Key()+told.ID+own
	f.Message = fmt.Sprintf("%s does not know the certificate that signs %s (%s)", reg.Sheet.Title, b.name, c.File)
	if len(listed) == 0 {
		f.Actual = "no digest"
	} else {
		f.Actual = strings.Join(listed, ", ")
		if whose := r.whose(has); whose != "" {
			f.Message += "; what is registered is " + whose
		}
	}
	r.add(f, vars, reg.Key(), told.ID, b.site, own)
}

// colleagues looks whether every certificate that the records link to an identity is registered. Those of the store, and
// the one that signs here, have rules of their own.
func (r *runner) colleagues(b build, reg *wiring.Registration, a *sheet.Ask, told *RegisteredIdentity) {
	if !strings.HasPrefix(a.DigestForm(), "sha256") || len(told.Digests) == 0 || len(told.Digests) == 1 && a.When == "" && !a.Optional && told.Answers[a.ID] != "" {
		return // it takes one digest, or the records hold no other form
	}
	var has []string
	for _, d := range append(slices.Clone(told.Digests), told.Answers[a.ID]) {
		has = append(has, cert.Explain(d, a.DigestForm(), nil).Hex)
	}
	for _, s := range r.in.Records.Signers {
		own := b.variant.Certificate != nil && plain(b.variant.Certificate.SHA256) == s.SHA256
		if s.Role == "store" || own || s.SHA256 == "" || slices.Contains(has, s.SHA256) || !slices.ContainsFunc(s.Identities, func(i Identity) bool { return i.Platform == b.platform && i.ID == told.ID }) {
			continue
		}
		if !s.NotAfter.IsZero() && s.NotAfter.Before(r.in.Now) {
			continue
		}
		f := Finding{Rule: "digest-of-colleague-missing", Variant: b.name, File: binding.File, Expected: cert.FormOf(s.SHA256, a.DigestForm()), Actual: "not registered", From: "the records, signer " + s.Name, cause: reg.Key() + told.ID + s.SHA256}
		f.Message = fmt.Sprintf("%s (%s) signs %s, and %s does not know that certificate", s.Name, s.Role, told.ID, reg.Sheet.Title)
		vars := map[string]string{"service": reg.Service, "environment": "", "signer": s.Name}
		if reg.Environment != "" {
			vars["environment"] = " --environment " + reg.Environment
		}
		r.add(f, vars, reg.Key(), told.ID, s.SHA256)
	}
}

// misread says what went wrong when a registered digest was made, "" when it is a digest of the kind that is asked for.
// Colons and capitals are taken for spelling.
func misread(p cert.Pasted, want, text string) string {
	_, encoding, _ := strings.Cut(want, "-")
	wantsHex := encoding == "hex" || encoding == "colons"
	for _, w := range p.Wrong {
		if strings.HasPrefix(w, "it belongs to none") {
			continue
		}
		_, is, form := strings.Cut(w, " is asked for, and this is ")
		if form && (wantsHex && strings.Contains(is, "hexadecimal") || text == cert.FormOf(p.Hex, want)) { // many texts are of two forms
			continue
		}
		return w
	}
	return ""
}

// whose says which known certificates some digests belong to.
func (r *runner) whose(has []string) string {
	var out []string
	for _, k := range r.in.Certificates {
		forms := cert.Forms(k.DER)
		if slices.Contains(has, forms["sha256-hex"]) || slices.Contains(has, forms["sha1-hex"]) {
			out = append(out, k.Label)
		}
	}
	if r.in.Records != nil {
		for _, s := range r.in.Records.Signers {
			if slices.Contains(has, s.SHA256) {
				out = append(out, fmt.Sprintf("the signer %s of the records (%s)", s.Name, s.Role))
			}
		}
	}
	slices.Sort(out)
	return strings.Join(slices.Compact(out), " and ")
}

// resigned looks whether a published app's store certificate is registered too: the store signs again with its own.
func (r *runner) resigned(b build, reg *wiring.Registration, a *sheet.Ask, told *RegisteredIdentity, has []string) {
	known := r.in.Records.identity(b.platform, told.ID)
	if known == nil || !b.production() {
		return
	}
	f := b.finding("digest-of-store-missing", b.signedBy())
	f.Actual, f.cause = strings.Join(has, ", "), reg.Key()+told.ID
	vars := map[string]string{"service": reg.Service, "ask": a.ID}
	var stores, uploads []Signer
	for _, s := range r.in.Records.Signers {
		if !slices.ContainsFunc(s.Identities, func(i Identity) bool { return i.Platform == b.platform && i.ID == told.ID }) {
			continue
		}
		switch s.Role {
		case "store":
			stores = append(stores, s)
		case "upload":
			uploads = append(uploads, s)
		}
	}
	for _, s := range stores {
		if strings.HasPrefix(a.DigestForm(), "sha256") && !slices.Contains(has, s.SHA256) {
			f.Expected = cert.FormOf(s.SHA256, a.DigestForm())
			f.Message = fmt.Sprintf("The store signs %s again as %s, and %s does not know that certificate", told.ID, s.Name, reg.Sheet.Title)
			r.add(f, vars, reg.Key(), told.ID)
			return
		}
	}
	own := plain(b.variant.Certificate.SHA256)
	if len(stores) == 0 && slices.ContainsFunc(uploads, func(s Signer) bool { return s.SHA256 == own }) {
		f.Severity = Warning
		f.Message = fmt.Sprintf("%s is signed with an upload certificate; the store signs again with one of its own, and %s knows only the first", told.ID, reg.Sheet.Title)
		r.add(f, vars, reg.Key(), told.ID)
	}
}

// teams compares who signs an app with who signs its extensions.
func (r *runner) teams() {
	for _, p := range r.in.Survey.IOS.Projects {
		apps := map[string]survey.Fact{}
		for _, t := range p.Targets {
			for _, c := range t.Configurations {
				if t.App() && c.SigningTeam.Known() && c.SigningTeam.String() != "" {
					apps[c.Name] = c.SigningTeam
				}
			}
		}
		for _, t := range p.Targets {
			if !t.App() && !t.Extension() {
				continue
			}
			for _, c := range t.Configurations {
				team, own := apps[c.Name], c.SigningTeam
				switch {
				case t.Extension() && team.Known() && own.Known() && own.String() != "" && own.String() != team.String():
					r.add(Finding{Rule: "signing-team-differs", Variant: c.Name, File: own.File, Line: own.Line, Column: own.Column, Expected: team.String(), Actual: own.String(), cause: own.Place(),
						Message: fmt.Sprintf("The extension %s is signed by team %s, its app by %s", t.Name, own.String(), team.String())}, nil, t.Name, own.String())
				case t.App() && own.Unresolved == "" && own.String() == "" && c.Profile.String() == "":
					r.add(Finding{Rule: "signing-team-missing", Variant: c.Name, File: p.Path + "/project.pbxproj", cause: p.Path + t.Name,
						Message: fmt.Sprintf("Target %s names no team and no profile", t.Name)}, nil, p.Path, t.Name)
				}
			}
		}
	}
}
