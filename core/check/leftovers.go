package check

import (
	"bytes"
	"fmt"
	"path"
	"slices"
	"strings"

	"ligare/core/sheet"
	"ligare/core/survey"
	"ligare/core/syntax/lex"
	"ligare/core/syntax/source"
	"ligare/core/wiring"
)

// sourceFiles are the languages that are read for what was left behind in them.
var sourceFiles = map[string]bool{".kt": true, ".java": true, ".swift": true, ".m": true, ".mm": true, ".dart": true, ".js": true, ".jsx": true, ".ts": true, ".tsx": true, ".cs": true}

// largest is the size of a source file that is read, in bytes: what is larger was written by a machine.
const largest = 1 << 20

// leftovers looks through the app's own source for code of a trial, and for values that belong elsewhere.
func (r *runner) leftovers() {
	values := r.literals()
	r.in.Tree.Walk(func(name string) {
		if !sourceFiles[path.Ext(name)] || !r.in.Tree.Small(name, largest) {
			return
		}
		src, err := r.in.Tree.Read(name)
		if err != nil {
			return
		}
		lower := bytes.ToLower(src)
		digest := bytes.Contains(src, []byte("MessageDigest"))
		crash := bytes.Contains(lower, []byte("crash"))
		held := slices.DeleteFunc(slices.Clone(values), func(v literal) bool { return !bytes.Contains(src, []byte(v.text)) })
		if !digest && !crash && len(held) == 0 {
			return
		}
		f, ok := source.Parse(name, src)
		if !ok {
			return
		}
		x := leftover{r: r, name: name, f: f}
		x.walk(f.Tree.Root, held)
		if digest {
			x.digest()
		}
		if crash {
			x.crash()
		}
	})
}

// literal is a value that has a place of its own in the tree.
type literal struct {
	text, say string
	service   string
	reg       string
}

// literals lists the client values that sheets place outside of source.
func (r *runner) literals() []literal {
	var out []literal
	for _, reg := range r.in.Registrations {
		add := func(values map[string]string) {
			for id, v := range values {
				if len(v) < 8 || strings.HasPrefix(v, wiring.ByDigest) || !placedOutside(reg.Sheet, id) {
					continue
				}
				title := id
				if x := reg.Sheet.Value(id); x != nil {
					title = x.Title
				}
				out = append(out, literal{v, reg.Sheet.Title + "'s " + title, reg.Service, reg.Key()})
			}
		}
		add(reg.Values)
		for i := range reg.Identities {
			add(reg.Identities[i].Values)
		}
	}
	slices.SortFunc(out, func(a, b literal) int { return strings.Compare(a.text+a.reg, b.text+b.reg) })
	return out
}

// placedOutside reports whether a sheet places a value in a resource, manifest or property list, and never in source.
func placedOutside(s *sheet.Sheet, id string) bool {
	placed := false
	for _, p := range s.Placements {
		for k, v := range p.With {
			if !strings.Contains(v, "${value."+id+"}") {
				continue
			}
			if k == "arguments" || k == "objc" {
				return false
			}
			placed = true
		}
	}
	return placed
}

type leftover struct {
	r    *runner
	name string
	f    *source.File
}

func (x leftover) finding(rule string, offset int) Finding {
	line, column := lex.Position(x.f.Src, offset)
	return Finding{Rule: rule, File: x.name, Line: line, Column: column}
}

// walk visits the string literals of a file.
func (x leftover) walk(n *lex.Node, held []literal) {
	for _, k := range n.Kids {
		if k.Kind == lex.String {
			text := strings.Trim(k.Of(x.f.Src), "@\"'`")
			for _, v := range held {
				if text == v.text {
					f := x.finding("value-hard-coded", k.Start)
					f.Actual, f.cause = text, f.Place()
					f.Message = fmt.Sprintf("%s stands here as a literal; the library reads it from a place of its own", v.say)
					x.r.add(f, map[string]string{"service": v.service}, v.reg)
				}
			}
		}
		x.walk(k, held)
	}
}

// digest finds code that was put in to print the digest of the app's own certificate.
func (x leftover) digest() {
	var at *source.Call
	prints := false
	for _, c := range x.f.Calls(x.f.Tree.Root) {
		switch last := c.Name[strings.LastIndexByte(c.Name, '.')+1:]; {
		case strings.HasSuffix(c.Name, "MessageDigest.getInstance"):
			at = &c
		case strings.HasPrefix(c.Name, "Log.") || strings.HasPrefix(c.Name, "Timber.") || last == "println" || last == "print" || strings.HasSuffix(c.Name, "Toast.makeText"):
			prints = true
		}
	}
	own := false
	for _, w := range []string{"GET_SIGNATURES", "GET_SIGNING_CERTIFICATES", "signatures", "signingInfo", "apkContentsSigners"} {
		own = own || word(x.f.Tree.Root, x.f.Src, w)
	}
	if at == nil || !prints || !own {
		return
	}
	f := x.finding("digest-printed", at.Start)
	f.Message = "This computes the digest of the app's own certificate and prints it"
	x.r.add(f, nil, x.name)
}

// word reports whether an identifier stands anywhere in a file.
func word(n *lex.Node, src []byte, name string) bool {
	return slices.ContainsFunc(n.Kids, func(k *lex.Node) bool {
		return k.Kind == lex.Word && k.Of(src) == name || word(k, src, name)
	})
}

// crashers are names of calls that end an app on purpose.
var crashers = map[string]bool{"testcrash": true, "forcecrash": true, "crashnow": true, "crashapp": true, "nativecrash": true, "triggercrash": true, "simulatecrash": true}

// crash finds code that ends the app on purpose.
func (x leftover) crash() {
	for _, c := range x.f.Calls(x.f.Tree.Root) {
		first, last := c.Name, c.Name[strings.LastIndexByte(c.Name, '.')+1:]
		first, _, dotted := strings.Cut(first, ".")
		args := strings.ToLower(string(x.f.Src[c.Args.Start:c.Args.End]))
		named := crashers[strings.ToLower(last)] || dotted && strings.EqualFold(last, "crash") && first != "" && first[0] >= 'A' && first[0] <= 'Z'
		thrown := (strings.HasSuffix(last, "Exception") || strings.HasSuffix(last, "Error") || last == "fatalError" || last == "error" || last == "preconditionFailure") &&
			(strings.Contains(args, "test crash") || strings.Contains(args, "crash test") || strings.Contains(args, "testing crash"))
		if !named && !thrown || x.declares(last) && !thrown {
			continue
		}
		f := x.finding("test-code-left", c.Start)
		f.Actual, f.cause = c.Name, f.Place()
		f.Message = fmt.Sprintf("%s ends the app on purpose", c.Name)
		x.r.add(f, nil, c.Name)
	}
}

// declares reports whether the file declares a function of a name: then what it does is the app's own business.
func (x leftover) declares(name string) bool {
	found := false
	x.f.Each(func(c *source.Class) {
		found = found || slices.ContainsFunc(c.Funcs, func(f *source.Func) bool { return f.Name == name })
	})
	return found || slices.ContainsFunc(x.f.Funcs, func(f *source.Func) bool { return f.Name == name })
}

// redirects holds the redirect URIs that follow from the app's identities against those kept at the services.
func (r *runner) redirects() {
	for _, reg := range r.in.Registrations {
		known := r.in.Records.registration(reg.Key())
		if known == nil || reg.Sheet.Redirects == nil {
			continue
		}
		for _, i := range reg.Identities {
			for _, uri := range proposed(reg, Row{Platform: i.Platform, Identity: i.ID}) {
				if slices.Contains(known.Redirects, uri) {
					continue
				}
				f := Finding{Rule: "redirect-missing", File: "ligare.yaml", Expected: uri, Actual: strings.Join(known.Redirects, ", ")}
				f.Message = fmt.Sprintf("%s has no redirect %s, which the app on %s answers to", reg.Sheet.Title, uri, platformTitle(i.Platform))
				for _, has := range known.Redirects {
					if strings.EqualFold(has, uri) {
						f.Message += "; " + has + " differs in letter case"
					}
				}
				r.add(f, map[string]string{"service": reg.Service}, reg.Key(), uri)
			}
		}
	}
}

// copies looks for files that lie beside a config file, and have its name with something added: a second download. The
// resource compiler takes no such name, and in an Apple project's folder one of the two may be taken by chance.
func (r *runner) copies() {
	told := map[string]bool{}
	for _, a := range r.in.Answers {
		if !a.Good() {
			told[a.Here.File] = true
			for _, o := range a.Others {
				told[o.File] = true
			}
		}
	}
	for _, reg := range r.in.Registrations {
		files, err := wiring.ConfigFiles(r.in.Input, reg)
		if err != nil {
			r.blind("config-file-copy", reg.Key()+": "+err.Error(), false)
			continue
		}
		for _, c := range r.in.Survey.ConfigFiles {
			base, dir := path.Base(c.File), path.Dir(c.File)
			i := slices.IndexFunc(files, func(f wiring.ConfigFile) bool {
				return base != f.File.Name && survey.CopyOf(base, f.File.Name) && (dir == path.Dir(f.Path) || strings.HasPrefix(f.Path, dir+"/"))
			})
			if i < 0 || told[c.File] {
				continue
			}
			f := Finding{Rule: "config-file-copy", File: c.File, Line: 1, Column: 1, Expected: files[i].Path, Actual: base, Variant: strings.Join(files[i].Variants, ", "), cause: c.File}
			f.Message = fmt.Sprintf("%s lies here too; what counts is %s", base, files[i].Path)
			if parent := path.Base(path.Dir(dir)); parent == "res" {
				f.Severity = Error
				f.Message = fmt.Sprintf("%s lies in a folder of resources, and its name is none that the resource compiler takes; what counts is %s", base, files[i].Path)
			}
			r.add(f, map[string]string{"service": reg.Service}, base)
		}
	}
}
