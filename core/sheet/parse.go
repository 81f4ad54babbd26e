package sheet

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io/fs"
	"reflect"
	"slices"
	"sort"
	"strings"

	"go.yaml.in/yaml/v3"
)

// Parse reads a sheet and says everything that is wrong with it, each with line and column (see Problems). The name
// stands in errors.
func Parse(name string, src []byte) (*Sheet, error) {
	s, r := &Sheet{}, &reader{file: name, at: map[string]*yaml.Node{}}
	top := r.document(src)
	if top == nil {
		return nil, r.err()
	}
	if n := member(top, "sheet"); n != nil && n.Value != fmt.Sprint(Format) {
		r.say(n, "sheet", fmt.Sprintf("this version reads %d", Format), "%q is another version of the language", n.Value)
		return nil, r.err()
	}
	r.fill(top, reflect.ValueOf(s).Elem(), "", "")
	if len(r.problems) == 0 {
		(&meaning{reader: r, Sheet: s}).check()
	}
	if err := r.err(); err != nil {
		return nil, err
	}
	for id, n := range s.Library {
		n.Name = id
		s.Library[id] = n
	}
	s.file, s.places = name, map[string][2]int{}
	for where, n := range r.at {
		s.places[where] = [2]int{n.Line, n.Column}
	}
	sum := sha256.Sum256(src)
	s.Digest, s.Source = "sha256:"+hex.EncodeToString(sum[:]), src
	return s, nil
}

func member(n *yaml.Node, name string) *yaml.Node {
	for i := 0; n.Kind == yaml.MappingNode && i+1 < len(n.Content); i += 2 {
		if n.Content[i].Value == name {
			return n.Content[i+1]
		}
	}
	return nil
}

// Load reads every sheet of a folder, by service name.
func Load(from fs.FS) (map[string]*Sheet, error) {
	names, err := fs.Glob(from, "*.yaml")
	if err != nil {
		return nil, err
	}
	sort.Strings(names)
	out := map[string]*Sheet{}
	for _, n := range names {
		src, err := fs.ReadFile(from, n)
		if err != nil {
			return nil, err
		}
		s, err := Parse(n, src)
		if err != nil {
			return nil, err
		}
		out[s.Service] = s
	}
	return out, nil
}

// meaning checks what the types cannot say: names that have to exist, values that must not meet.
type meaning struct {
	*reader
	*Sheet
}

func (m *meaning) no(where, hint, format string, args ...any) {
	n := m.at[where]
	for at := where; n == nil && at != ""; { // an element that was left out: its parent
		at = at[:max(0, strings.LastIndexByte(at, '.'))]
		n = m.at[at]
	}
	m.say(n, where, hint, format, args...)
}

// known says that a name does not exist, with the nearest that does.
func (m *meaning) known(where, what, name string, names []string) bool {
	if slices.Contains(names, name) {
		return true
	}
	hint := "there is none"
	if len(names) > 0 {
		hint = "there are: " + strings.Join(names, ", ")
	}
	if near := Nearest(name, names); near != "" {
		hint = "did you mean " + near + "?"
	}
	m.no(where, hint, "there is no %s %q", what, name)
	return false
}

func ids[T any](list []T, id func(T) string) []string {
	var out []string
	for _, x := range list {
		out = append(out, id(x))
	}
	return out
}

func (m *meaning) unique(list string, names []string) {
	seen := map[string]bool{}
	for _, n := range names {
		if seen[n] {
			m.no(list+"."+n, "give each its own name", "%q stands twice in %s", n, list)
		}
		seen[n] = true
	}
}

// Sources of answers that are not made of two parts.
var sources = []string{"app.name", "app.title", "identity.id", "identity.display_name", "identity.store_id", "identity.launcher_activity", "identity.framework",
	"identity.platform", "identity.team", "identity.namespace", "text", "choice", "secret", "file", "image"}

// DigestForms are the forms of a signing certificate's digest that an ask can want.
var DigestForms = []string{"sha1-colons", "sha1-hex", "sha1-base64", "sha1-base64url", "sha256-colons", "sha256-hex", "sha256-base64", "sha256-base64url", "md5-colons"}

// Facts are the names that a file's read pointers may have besides the values of the sheet.
var Facts = []string{"identity", "revision", "digests", "ends", "features", "display_name", "environment", "address"}

func (m *meaning) check() {
	asks := ids(m.Asks, func(a Ask) string { return a.ID })
	features := ids(m.Features, func(f Feature) string { return f.ID })
	values := ids(m.Issues.Values, func(v Value) string { return v.ID })
	files := ids(m.Issues.Files, func(f File) string { return f.ID })
	duties := ids(m.Duties, func(d Duty) string { return d.ID })
	m.unique("asks", asks)
	m.unique("features", features)
	m.unique("issues.values", values)
	m.unique("issues.files", files)
	m.unique("placements", ids(m.Placements, func(p Placement) string { return p.ID }))
	m.unique("duties", duties)
	if len(m.Platforms) == 0 {
		m.no("platforms", "android, ios, web", "a service serves at least one platform")
	}
	when := func(where, feature string) {
		if feature != "" {
			m.known(where+".when", "feature", feature, features)
		}
	}
	for i := range m.Asks {
		m.ask(&m.Asks[i])
		when("asks."+m.Asks[i].ID, m.Asks[i].When)
	}
	for _, f := range m.Features {
		for i, a := range f.Requires {
			m.known(fmt.Sprintf("features.%s.requires.%d", f.ID, i+1), "ask", a, asks)
		}
		for i, a := range f.After {
			m.known(fmt.Sprintf("features.%s.after.%d", f.ID, i+1), "feature", a, features)
		}
	}
	m.cycle()
	for _, v := range m.Issues.Values {
		when("issues.values."+v.ID, v.When)
		if v.Instead != "" && v.Exposure != Server {
			m.no("issues.values."+v.ID+".instead", "leave it out", "only a server value needs something instead")
		}
		if v.Supplies != "" && v.Per != "" {
			m.no("issues.values."+v.ID+".supplies", "supply a value of the whole registration", "a value of each identity cannot be supplied: it is not said which")
		}
		if v.Platform != "" && v.Per == "" {
			m.no("issues.values."+v.ID+".platform", "add per: identity", "a value of one platform belongs to identities")
		}
	}
	for _, f := range m.Issues.Files {
		when("issues.files."+f.ID, f.When)
		m.file(f)
	}
	for _, d := range m.Duties {
		when("duties."+d.ID, d.When)
	}
	for _, p := range m.Placements {
		when("placements."+p.ID, p.When)
		m.placement(p, values, files, asks)
	}
	for name := range m.Library {
		if !strings.HasPrefix(name, m.Service+"-") {
			m.no("library."+name, "call it "+m.Service+"-"+name, "a sheet's own placements begin with the service's name")
		}
	}
	m.connector()
	m.redirects()
}

func (m *meaning) ask(a *Ask) {
	where := "asks." + a.ID
	form, supplied := a.DigestForm(), a.Supplied()
	switch {
	case form != "":
		if m.known(where+".from", "form of a digest", form, DigestForms) && a.Per != "identity" {
			m.no(where+".per", "add per: identity", "a digest belongs to an identity")
		}
	case supplied != "":
		if !Match(`[a-z][a-z0-9-]*(\.[a-z][a-z0-9-]*)*`, supplied) {
			m.no(where+".from", "such as supplied.messaging.key", "%q cannot name a supplied value", supplied)
		}
	default:
		m.known(where+".from", "source", a.From, sources)
	}
	switch {
	case a.From == "choice" && len(a.Choices) == 0:
		m.no(where+".choices", "list them", "a choice needs choices")
	case a.From != "choice" && len(a.Choices) > 0:
		m.no(where+".choices", "from: choice", "choices belong to a choice")
	case a.From == "image" && a.Image == nil:
		m.no(where+".image", "image: {width: 1024, height: 1024, alpha: false}", "an image needs limits")
	case strings.HasPrefix(a.From, "identity.") && a.Per != "identity":
		m.no(where+".per", "add per: identity", "%s differs from identity to identity", a.From)
	}
	if a.Default != "" && (len(a.Choices) > 0 && !slices.Contains(a.Choices, a.Default) || !Match(a.Grammar, a.Default)) {
		m.no(where+".default", "", "the default %q is not an answer that is taken", a.Default)
	}
	if a.Example != "" && !Match(a.Grammar, a.Example) {
		m.no(where+".example", "", "the example %q does not match the grammar", a.Example)
	}
}

// cycle finds features that wait for each other.
func (m *meaning) cycle() {
	state := map[string]int{} // 1 under way, 2 done
	var visit func(id string) bool
	visit = func(id string) bool {
		f := m.Feature(id)
		if f == nil || state[id] == 2 {
			return true
		}
		if state[id] == 1 {
			return false
		}
		state[id] = 1
		for _, a := range f.After {
			if !visit(a) {
				if state[id] != 3 {
					m.no("features."+id+".after", "leave one of them out", "features wait for each other: %s and %s", id, a)
				}
				state[id] = 3
				return true
			}
		}
		state[id] = 2
		return true
	}
	for _, f := range m.Features {
		visit(f.ID)
	}
}

func (m *meaning) file(f File) {
	where := "issues.files." + f.ID
	if strings.ContainsAny(f.Name, `/\`) || f.Name == "." || f.Name == ".." {
		m.no(where+".name", "the folder belongs to the placement", "%q is not a file name", f.Name)
	}
	facts := append(ids(m.Issues.Values, func(v Value) string { return v.ID }), Facts...)
	for name, pointer := range f.Read {
		at := where + ".read." + name
		switch {
		case strings.HasPrefix(pointer, "config.") || f.Format == "zip" || f.Format == "text":
			m.no(at, "", "nothing can be read inside a file of the format %s", f.Format)
		case f.Format == "properties":
			if pointer == "" {
				m.no(at, "", "the key is missing")
			}
		case !strings.HasPrefix(pointer, "/"):
			m.no(at, "such as /app/key", "%q is not a pointer: it begins with /", pointer)
		}
		if v := m.Value(name); v == nil && !slices.Contains(facts, name) {
			continue // a fact of the service's own, for the proof
		} else if v != nil && v.Exposure == Server {
			m.no(at, "issue it apart, or make its exposure client if it may ship", "%q is a server value; the file goes into the app", name)
		}
	}
}

func (m *meaning) placement(p Placement, values, files, asks []string) {
	where := "placements." + p.ID
	switch {
	case p.Platform == "" && (len(p.In) == 0 || slices.Contains(p.In, "native")):
		m.no(where, "say android or ios, or name the frameworks in whose package list or source it stands", "platform is missing")
	case p.Platform != "" && !slices.Contains(m.Platforms, p.Platform):
		m.no(where+".platform", "add it to platforms", "the sheet does not serve %s", p.Platform)
	}
	if f := p.With["file"]; f != "" {
		m.known(where+".with.file", "file", f, files)
	}
	for k, text := range p.With {
		at := where + ".with." + k
		if strings.Count(text, "${") != len(References(text)) {
			m.no(at, "close it with }", "${ is not closed in %q", text)
		}
		for _, ref := range References(text) {
			kind, id, _ := strings.Cut(ref, ".")
			switch kind {
			case "value":
				if m.known(at, "value", id, values) && m.Value(id).Exposure == Server {
					hint := "leave it to the backend: ligare server-secrets"
					if m.Value(id).Instead != "" {
						hint = m.Value(id).Instead
					}
					m.no(at, hint, "%q is a server value and must not be placed in an app", id)
				}
			case "answer":
				if m.known(at, "ask", id, asks) && m.Ask(id).Secret() {
					m.no(at, "leave it to the backend", "the answer %q is a secret and must not be placed in an app", id)
				}
			case "berth":
				if m.Berths == nil || id != "name" {
					m.no(at, "", "${%s} needs berths in the sheet, and is called ${berth.name}", ref)
				}
			case "identity":
				m.known(at, "fact of an identity", id, []string{"id", "display_name", "launcher_activity"})
			default:
				if _, own := p.With[ref]; !own {
					m.no(at, "use value., answer., identity. or berth.", "${%s} is not known here", ref)
				}
			}
		}
	}
}

func (m *meaning) connector() {
	c := m.Connector
	switch {
	case c.Protocol == ByHand:
		if c.LostAnswer != "" {
			m.no("connector.lost-answer", "leave it out", "by hand, no answer is lost")
		}
	case c.LostAnswer == "":
		m.no("connector.lost-answer", "idempotency-key, look-up or none", "it has to be said how a lost answer is recovered")
	case c.LostAnswer == Never && c.LookFor == "":
		m.no("connector.look-for", "say what a person looks for at the service", "an outcome that cannot be recovered needs look-for")
	}
	for at, p := range map[string]string{"connector.refusal-code": c.Code, "connector.refusal-text": c.Text} {
		if p != "" && !strings.HasPrefix(p, "/") {
			m.no(at, "such as /error/code", "%q is not a JSON Pointer", p)
		}
	}
	for i, msg := range m.Messages {
		if msg.Code == "" && msg.Text == "" {
			m.no(fmt.Sprintf("messages.%d", i+1), "", "a message has a code or a text")
		}
	}
	for i, c := range m.Constrain {
		if c.Minimum == "" && c.Below == "" && len(c.Together) == 0 {
			m.no(fmt.Sprintf("constraints.%d", i+1), "", "a constraint has a minimum, below or together")
		}
	}
}

func (m *meaning) redirects() {
	if m.Redirects == nil {
		return
	}
	for i, p := range m.Redirects.Propose {
		for _, ref := range References(p.URI) {
			kind, id, _ := strings.Cut(ref, ".")
			if ref != "identity.id" && (kind != "answer" || m.Ask(id) == nil) {
				m.no(fmt.Sprintf("redirects.propose.%d.uri", i+1), "use ${identity.id} or ${answer.NAME}", "${%s} is not known here", ref)
			}
		}
	}
}
