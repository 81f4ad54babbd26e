package source

import (
	"strings"

	"ligare/core/syntax/lex"
)

// objc reads implementations and their methods; a method's name is its selector: application:openURL:options:.
func (f *File) objc(n []*lex.Node) {
	var class *Class
	for i := 0; i < len(n); i++ {
		word := func(j int, text string) bool { return j < len(n) && n[j].Is(f.Src, lex.Word, text) }
		at := n[i].Is(f.Src, lex.Punct, "@")
		switch {
		case n[i].Kind == lex.Directive:
			f.included(n[i])
		case at && word(i+1, "import"):
			name := ""
			for j := i + 2; j < len(n) && !n[j].Is(f.Src, lex.Punct, ";"); j++ {
				name += n[j].Of(f.Src)
			}
			f.Imports = append(f.Imports, Import{Name: name, Start: n[i].Start, End: n[i+1].End})
		case at && (word(i+1, "implementation") || word(i+1, "interface")) && i+2 < len(n):
			class = &Class{Word: n[i+1].Of(f.Src), Name: n[i+2].Of(f.Src), Start: n[i].Start, End: n[i+2].End, Body: n[i+2]}
			for j := i + 3; j < len(n) && j < i+12; j++ { // : Parent <Protocol, ...>
				if n[j].Kind == lex.Word {
					class.Supers = append(class.Supers, n[j].Of(f.Src))
				} else if n[j].Bracket(f.Src) == '(' && j == i+3 { // a category, or the class's own extension
					continue
				} else if n[j].Kind != lex.Punct || n[j].Is(f.Src, lex.Punct, "@") || n[j].Is(f.Src, lex.Punct, "-") || n[j].Is(f.Src, lex.Punct, "+") {
					break
				}
			}
			f.Classes = append(f.Classes, class)
		case at && word(i+1, "end"):
			if class != nil {
				class.End = n[i+1].End
			}
			class = nil
		case class != nil && (n[i].Is(f.Src, lex.Punct, "-") || n[i].Is(f.Src, lex.Punct, "+")) && i+1 < len(n) && n[i+1].Bracket(f.Src) == '(':
			name, end := "", i+2
			for ; end < len(n) && n[end].Bracket(f.Src) != '{' && !n[end].Is(f.Src, lex.Punct, ";"); end++ {
				if n[end].Kind == lex.Word && end+1 < len(n) && n[end+1].Is(f.Src, lex.Punct, ":") {
					name += n[end].Of(f.Src) + ":"
				}
			}
			if end < len(n) && n[end].Bracket(f.Src) == '{' {
				if name == "" && n[i+2].Kind == lex.Word {
					name = n[i+2].Of(f.Src)
				}
				class.Funcs = append(class.Funcs, &Func{Name: name, Params: name, Body: n[end], Start: n[i].Start, End: n[end].End})
			}
			i = end
		}
	}
}

// included reads #import and #include lines.
func (f *File) included(n *lex.Node) {
	text := strings.TrimSpace(strings.TrimPrefix(strings.TrimSpace(n.Of(f.Src)), "#"))
	for _, w := range []string{"import", "include"} {
		if rest, ok := strings.CutPrefix(text, w); ok {
			f.Imports = append(f.Imports, Import{Name: strings.Trim(strings.TrimSpace(rest), `"<>`), Start: n.Start, End: n.End})
		}
	}
}

// Messages gives the messages sent inside a node, outer before inner: [Receiver name:...] is Receiver.name:.
func (f *File) Messages(in *lex.Node) []Call {
	var out []Call
	in.Walk(func(k *lex.Node) bool {
		if k.Bracket(f.Src) != '[' {
			return true
		}
		n := lex.Solid(k.Inner())
		if len(n) < 2 {
			return true
		}
		receiver := "[]"
		if n[0].Kind == lex.Word {
			receiver = n[0].Of(f.Src)
		}
		for len(n) > 3 && n[1].Is(f.Src, lex.Punct, ".") && n[2].Kind == lex.Word { // [self.window show]
			receiver += "." + n[2].Of(f.Src)
			n = n[2:]
		}
		name := ""
		for i := 1; i < len(n); i++ {
			if n[i].Kind == lex.Word && i+1 < len(n) && n[i+1].Is(f.Src, lex.Punct, ":") {
				name += n[i].Of(f.Src) + ":"
			}
		}
		if name == "" && n[1].Kind == lex.Word {
			name = n[1].Of(f.Src)
		}
		if name != "" {
			out = append(out, Call{Name: receiver + "." + name, Start: k.Start, End: k.End})
		}
		return true
	})
	return out
}
