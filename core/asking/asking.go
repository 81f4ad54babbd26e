// Package asking works out what is sent to a service when an app is registered: each answer a sheet asks for, where it was
// found, whether it may be sent. It computes only; who has the facts hands them in. Start with Work.
package asking

import (
	"bytes"
	"encoding/base64"
	"fmt"
	"image"
	_ "image/jpeg" // so that a picture of another format is named
	_ "image/png"
	"slices"
	"strings"
	"unicode"

	"ligare/core/ident"
	"ligare/core/sheet"
)

// Found is an answer with where it was found.
type Found struct {
	Value string
	From  string
}

// Identity is one identity that is to be registered, with what is known of it.
type Identity struct {
	Platform   ident.Platform
	Identifier string
	Answers    map[string]Found // given by a person or found in a tree
	Facts      map[string]Found // identity.launcher_activity and the like, signer.sha256-hex and the like
}

// Supply is a value that another registration supplies.
type Supply struct {
	Registration string // its ID
	From         string // in words: Thornmill, production
	Value        string
	Secret       bool
}

// Work is everything that is known when a registration is planned.
type Work struct {
	Sheet       *sheet.Sheet
	Answers     map[string]Found // given, or kept from before
	Kept        map[string]bool  // answers the service has already: they need not be given again
	App         map[string]Found // app.name, app.title
	Identities  []Identity
	Features    []string            // asked for, and those that are on
	Supplies    map[string][]Supply // by the name they are supplied under
	Chosen      map[string]string   // slot -> registration, where several could supply
	Redirects   []Found             // asked for, and those that are kept at the service
	NoRedirects []string
	Everything  bool // answer what only a feature that is off would need, too
}

// Line is one answer as it would be sent.
type Line struct {
	Ask      *sheet.Ask
	Platform ident.Platform
	ID       string // identifier, "" for an answer of the whole registration
	Found
	Needed   bool
	Secret   bool
	Supplier string // registration that supplies it
	Problem  string
	Remedy   string
}

// Plan is all answers.
type Plan struct {
	Lines     []Line
	Redirects []Line
}

// Problems lists the lines that stand in the way.
func (p *Plan) Problems() []Line {
	var out []Line
	for _, l := range slices.Concat(p.Lines, p.Redirects) {
		if l.Problem != "" {
			out = append(out, l)
		}
	}
	return out
}

// Plan works it out.
func (w *Work) Plan() *Plan {
	p := &Plan{}
	for i := range w.Sheet.Asks {
		a := &w.Sheet.Asks[i]
		if a.Per != "identity" {
			p.Lines = append(p.Lines, w.line(a, nil))
			continue
		}
		for k := range w.Identities {
			if id := &w.Identities[k]; a.For(id.Platform) {
				p.Lines = append(p.Lines, w.line(a, id))
			}
		}
	}
	p.Redirects = w.redirects()
	return p
}

func (w *Work) line(a *sheet.Ask, id *Identity) Line {
	l := Line{Ask: a, Secret: a.Secret(), Needed: !a.Optional && (a.When == "" || slices.Contains(w.Features, a.When))}
	given := w.Answers
	if id != nil {
		l.Platform, l.ID, given = id.Platform, id.Identifier, id.Answers
	}
	kept := id == nil && w.Kept[a.ID]
	switch f, ok := given[a.ID]; {
	case ok && f.Value != "":
		l.Found = f
		if a.Supplied() != "" {
			l.Secret = true // whoever supplies it says whether it is one; given by hand it is taken for one
		}
	case a.Supplied() != "":
		w.supplied(a, &l, kept)
	case kept:
		l.From = "given before"
		return l
	case a.When == "" || l.Needed || w.Everything:
		l.Found = w.known(a, id)
	}
	if l.Value == "" && a.Default != "" {
		l.Found = Found{a.Default, "the sheet's default"}
	}
	w.judge(&l, kept)
	return l
}

// known looks an answer up where the sheet says it is taken from.
func (w *Work) known(a *sheet.Ask, id *Identity) Found {
	if strings.HasPrefix(a.From, "app.") {
		return w.App[a.From]
	}
	if id == nil {
		return Found{}
	}
	switch a.From {
	case "identity.id":
		return Found{id.Identifier, "the identity"}
	case "identity.platform":
		return Found{string(id.Platform), "the identity"}
	}
	if f := id.Facts[a.From]; f.Value != "" {
		return f
	}
	if a.From == "identity.display_name" {
		return w.App["app.title"]
	}
	return Found{}
}

// supplied finds the registration that supplies an answer.
func (w *Work) supplied(a *sheet.Ask, l *Line, kept bool) {
	l.Secret = true
	list := w.Supplies[a.Supplied()]
	if chosen := w.Chosen["answer "+a.ID]; chosen != "" {
		list = slices.DeleteFunc(slices.Clone(list), func(s Supply) bool { return s.Registration != chosen })
	}
	switch {
	case len(list) == 1:
		if l.Needed || w.Everything || kept {
			l.Found, l.Supplier, l.Secret = Found{list[0].Value, list[0].From}, list[0].Registration, list[0].Secret
		}
	case !l.Needed || kept:
	case len(list) == 0:
		l.Problem = fmt.Sprintf("%s asks for %s, and no registration of the app supplies it", w.Sheet.Title, lower(a.Title))
		l.Remedy = fmt.Sprintf("Register with a service that supplies %s first, or give it: --answer %s=VALUE.", a.Supplied(), a.ID)
	default:
		var who []string
		for _, s := range list {
			who = append(who, s.From)
		}
		l.Problem = fmt.Sprintf("several registrations supply %s: %s", lower(a.Title), strings.Join(who, "; "))
		l.Remedy = fmt.Sprintf("Say which: --from %s=SERVICE/ENVIRONMENT.", a.ID)
	}
}

// judge says what is wrong with an answer before anything is sent.
func (w *Work) judge(l *Line, kept bool) {
	a := l.Ask
	if l.Problem != "" {
		return
	}
	of := ""
	if l.ID != "" {
		of = " of " + l.ID
	}
	if l.Value == "" {
		if l.Needed && !kept {
			l.Problem, l.Remedy = fmt.Sprintf("%s asks: %s%s", w.Sheet.Title, a.Title, of), w.missing(a, l)
		}
		return
	}
	shown := fmt.Sprintf("%q ", l.Value)
	if l.Secret || a.From == "image" || a.From == "file" {
		shown = ""
	}
	switch {
	case strings.ContainsFunc(l.Value, func(c rune) bool { return unicode.IsControl(c) && c != '\n' && c != '\r' && c != '\t' }):
		l.Problem, l.Remedy = fmt.Sprintf("%s%s holds a control character", a.Title, of), "Type it again instead of pasting it."
	case sheet.Placeholder(l.Value):
		l.Problem, l.Remedy = fmt.Sprintf("%s%s: %sis a placeholder", a.Title, of, shown), "Give the value itself."
	case len(a.Choices) > 0 && !slices.Contains(a.Choices, l.Value):
		l.Problem, l.Remedy = fmt.Sprintf("%s: %q is not offered", a.Title, l.Value), "Choose one of: "+strings.Join(a.Choices, ", ")+"."
		if near := sheet.Nearest(l.Value, a.Choices); near != "" {
			l.Remedy = "Did you mean " + near + "? " + l.Remedy
		}
	case a.From == "image":
		l.Problem, l.Remedy = picture(a, l.Value)
	case !sheet.Match(a.Grammar, l.Value):
		l.Problem, l.Remedy = fmt.Sprintf("%s%s: %shas not the form %s wants", a.Title, of, shown, w.Sheet.Title), "It must match "+a.Grammar+"."
		if a.DigestForm() != "" {
			l.Remedy += " `ligare digest` prints every form of a digest."
		} else if a.Example != "" {
			l.Remedy += " For example: " + a.Example
		}
	}
	if l.Problem == "" && a.From == "identity.launcher_activity" {
		if err := ident.CheckClass(l.Value); err != nil {
			l.Problem, l.Remedy = fmt.Sprintf("%s%s: %v", a.Title, of, err), "Give it with its package: --answer "+a.ID+"=CLASS."
		}
	}
}

func (w *Work) missing(a *sheet.Ask, l *Line) string {
	switch {
	case a.From == "choice":
		return fmt.Sprintf("Answer with --answer %s=VALUE, one of: %s.", a.ID, strings.Join(a.Choices, ", "))
	case a.From == "secret":
		return fmt.Sprintf("Give it with --secret %s=FILE, or - for standard input.", a.ID)
	case a.From == "file" || a.From == "image":
		return fmt.Sprintf("Answer with --answer %s=FILE.", a.ID)
	case a.DigestForm() != "":
		return "Run it in the tree, so that the digest is read from the keystore that signs; or add the certificate with: ligare signer add."
	case a.From == "identity.launcher_activity":
		return fmt.Sprintf("No launcher activity was found for it; `ligare survey` says why. Or answer with --answer %s=CLASS.", a.ID)
	}
	say := fmt.Sprintf("Answer with --answer %s=VALUE.", a.ID)
	if a.Help != "" {
		say = a.Help + " " + say
	}
	return say
}

// picture checks an image, given as Base64 of its file.
func picture(a *sheet.Ask, value string) (problem, remedy string) {
	b, err := base64.StdEncoding.DecodeString(value)
	if err != nil {
		return a.Title + ": the image is not readable", "Give a file: --answer " + a.ID + "=FILE.png."
	}
	most := a.Image.KB
	if most == 0 {
		most = 512
	}
	if len(b) > most<<10 {
		return fmt.Sprintf("%s: the file has %d KB; %d are taken", a.Title, len(b)>>10, most), "Save it smaller."
	}
	c, format, err := image.DecodeConfig(bytes.NewReader(b))
	switch {
	case err != nil || format != "png":
		return fmt.Sprintf("%s: this is not a PNG", a.Title), "Save the image as PNG."
	case c.Width != a.Image.Width || c.Height != a.Image.Height:
		return fmt.Sprintf("%s: it has %d by %d pixels; %d by %d are wanted", a.Title, c.Width, c.Height, a.Image.Width, a.Image.Height), "Save it in that size."
	}
	if a.Image.Alpha {
		return "", ""
	}
	img, _, err := image.Decode(bytes.NewReader(b))
	if err != nil {
		return fmt.Sprintf("%s: the image is cut off or broken: %v", a.Title, err), "Save it again."
	}
	if o, ok := img.(interface{ Opaque() bool }); ok && !o.Opaque() {
		return a.Title + ": it is transparent in places", "Fill the ground and save it without an alpha channel."
	}
	return "", ""
}

// redirects gathers the redirect URIs: kept, asked for, proposed by the sheet, supplied.
func (w *Work) redirects() []Line {
	r := w.Sheet.Redirects
	if r == nil {
		return nil
	}
	var out []Line
	add := func(f Found, supplier string) {
		if f.Value == "" || slices.Contains(w.NoRedirects, f.Value) || slices.ContainsFunc(out, func(l Line) bool { return l.Value == f.Value }) {
			return
		}
		l := Line{Found: f, Needed: true, Supplier: supplier}
		if say := allowed(r, f.Value); say != "" {
			l.Problem, l.Remedy = fmt.Sprintf("the redirect URI %q is not one that %s takes: %s", f.Value, w.Sheet.Title, say), forms(r)
		}
		out = append(out, l)
	}
	for _, f := range w.Redirects {
		add(f, "")
	}
	for _, id := range w.Identities {
		for _, p := range r.Propose {
			if p.Platform != id.Platform {
				continue
			}
			uri, err := sheet.Fill(p.URI, func(name string) (string, bool) {
				if name == "identity.id" {
					return id.Identifier, true
				}
				a := strings.TrimPrefix(name, "answer.")
				if f, ok := id.Answers[a]; ok {
					return f.Value, true
				}
				f, ok := w.Answers[a]
				return f.Value, ok
			})
			if err == nil { // an answer it is made of may be missing; its own line says so
				add(Found{uri, "proposed for " + id.Identifier}, "")
			}
		}
	}
	for _, name := range r.From {
		list := w.Supplies[name]
		if chosen := w.Chosen["redirect "+name]; chosen != "" {
			list = slices.DeleteFunc(slices.Clone(list), func(s Supply) bool { return s.Registration != chosen })
		}
		for _, s := range list {
			add(Found{s.Value, s.From}, s.Registration)
		}
	}
	if r.Most > 0 && len(out) > r.Most {
		out[len(out)-1].Problem, out[len(out)-1].Remedy = fmt.Sprintf("%s takes %d redirect URIs; these are %d", w.Sheet.Title, r.Most, len(out)), "Leave some out: --no-redirect URI."
	}
	return out
}

// allowed says why a redirect URI is not taken, "" when it is.
func allowed(r *sheet.Redirects, uri string) string {
	if strings.ContainsFunc(uri, func(c rune) bool { return c <= ' ' || c == 0x7f || unicode.IsSpace(c) }) {
		return "a blank or control character stands in it"
	}
	u, ok := ident.SplitURI(uri)
	if !ok {
		return "it has no scheme"
	}
	if u.Fragment {
		return "a fragment is not allowed (RFC 6749 section 3.1.2)"
	}
	if strings.Contains(uri, "*") {
		return "it has a wildcard; redirects are compared letter by letter"
	}
	for _, rule := range r.Allow {
		switch {
		case rule.Scheme == "https" && u.Scheme == "https" && u.Host != "",
			rule.Scheme == "reverse-domain" && strings.Contains(u.Scheme, "."),
			rule.Scheme == "loopback" && u.Scheme == "http" && (u.Host == "127.0.0.1" || u.Host == "[::1]"):
			return ""
		}
	}
	switch {
	case u.Scheme == "http":
		return "it is not https"
	case !strings.Contains(u.Scheme, ".") && u.Scheme != "https":
		return "its scheme is not a domain turned round"
	}
	return "no rule takes it"
}

func forms(r *sheet.Redirects) string {
	var list []string
	for _, a := range r.Allow {
		list = append(list, map[string]string{"https": "https://HOST/...", "reverse-domain": "example.studio.app:/...", "loopback": "http://127.0.0.1:PORT/..."}[a.Scheme])
	}
	return "It takes: " + strings.Join(list, ", ") + "."
}

func lower(s string) string {
	if len(s) > 1 && s[1] >= 'a' && s[1] <= 'z' {
		return strings.ToLower(s[:1]) + s[1:]
	}
	return s
}
