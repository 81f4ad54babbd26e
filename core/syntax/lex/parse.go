package lex

import (
	"bytes"
	"fmt"
	"strings"
	"unicode/utf8"
)

// Tree is a file read: its bytes, its nodes, and what was wrong with it.
type Tree struct {
	Src      []byte
	Root     *Node
	Problems []Problem
}

// MaxDepth bounds how deep brackets and interpolations may nest; deeper ones are read flat, as stray bytes.
const MaxDepth = 400

// Parse reads src by the language's table. It never fails: what no rule accepts becomes Stray leaves and a Problem.
func Parse(l *Language, src []byte) *Tree {
	s := &scanner{l: l, src: src}
	for _, close := range l.Pairs {
		s.closer[close] = true
	}
	root := &Node{Kind: Root}
	if bytes.HasPrefix(src, []byte("\xEF\xBB\xBF")) {
		root.Kids = append(root.Kids, &Node{Kind: Space, Start: 0, End: 3})
		s.at = 3
	}
	for s.at < len(src) {
		before := s.at
		root.Kids = append(root.Kids, s.nodes("")...)
		if s.at < len(src) { // a closing bracket without its opener
			s.problem(s.at, "closing %q without an opening bracket", src[s.at])
			root.Kids = append(root.Kids, s.leaf(Stray, s.at+1))
		}
		if s.at == before {
			break
		}
	}
	root.End = len(src)
	return &Tree{Src: src, Root: root, Problems: s.problems}
}

type scanner struct {
	l        *Language
	src      []byte
	at       int
	depth    int
	last     *Node    // last node that is not trivia: decides whether a slash divides
	heredocs []string // bodies that begin at the next line end
	problems []Problem
	closer   [256]bool // closing brackets
}

// mostProblems bounds the problems that are told of one file.
const mostProblems = 1000

func (s *scanner) problem(at int, format string, args ...any) {
	if len(s.problems) >= mostProblems {
		return
	}
	s.problems = append(s.problems, Problem{Offset: at, Message: fmt.Sprintf(format, args...)})
}

func (s *scanner) leaf(k Kind, end int) *Node {
	n := &Node{Kind: k, Start: s.at, End: end}
	s.at = end
	if !n.Trivia() {
		s.last = n
	}
	return n
}

func (s *scanner) has(p string) bool {
	return p != "" && len(s.src)-s.at >= len(p) && string(s.src[s.at:s.at+len(p)]) == p
}

// nodes reads until the closer stands here (not consumed), or any closing bracket of the language, or the end.
func (s *scanner) nodes(closer string) []*Node {
	var out []*Node
	for s.at < len(s.src) {
		if closer != "" && s.has(closer) {
			return out
		}
		c := s.src[s.at]
		if s.closes(c) {
			return out
		}
		out = append(out, s.next()...)
	}
	return out
}

func (s *scanner) closes(c byte) bool { return s.closer[c] }

func (s *scanner) next() []*Node {
	c := s.src[s.at]
	switch {
	case c == '\n' || c == '\r':
		end := s.at + 1
		if c == '\r' && end < len(s.src) && s.src[end] == '\n' {
			end++
		}
		out := []*Node{s.leaf(Newline, end)}
		for len(s.heredocs) > 0 && s.at < len(s.src) {
			out = append(out, s.heredocBody())
		}
		return out
	case c == ' ' || c == '\t' || c == '\f' || c == '\v':
		end := s.at
		for end < len(s.src) && (s.src[end] == ' ' || s.src[end] == '\t' || s.src[end] == '\f' || s.src[end] == '\v') {
			end++
		}
		return []*Node{s.leaf(Space, end)}
	}
	if n := s.comment(); n != nil {
		return []*Node{n}
	}
	if s.l.Directives && c == '#' && s.firstOnLine() && s.at+1 < len(s.src) && s.src[s.at+1] >= 'a' && s.src[s.at+1] <= 'z' {
		return []*Node{s.leaf(Directive, s.lineEnd())}
	}
	if n := s.heredocOpener(); n != nil {
		return []*Node{n}
	}
	for i := range s.l.Strings {
		str := &s.l.Strings[i]
		if s.has(str.Open) && (!str.Value || s.startsValue(str)) {
			return []*Node{s.str(str)}
		}
	}
	if close, ok := s.l.Pairs[c]; ok {
		return []*Node{s.group(close)}
	}
	r, size := utf8.DecodeRune(s.src[s.at:])
	if r == utf8.RuneError && size <= 1 {
		s.problem(s.at, "byte 0x%02x is not UTF-8", c)
		return []*Node{s.leaf(Stray, s.at+1)}
	}
	if c >= '0' && c <= '9' && !strings.ContainsRune(s.l.Extra, '.') {
		return []*Node{s.number()}
	}
	if s.l.word(r, false) {
		return []*Node{s.leaf(Word, s.wordEnd())}
	}
	for _, op := range s.l.Operators {
		if s.has(op) {
			return []*Node{s.leaf(Punct, s.at+len(op))}
		}
	}
	if r == 0 || r == 0xA0 || r == 0x200B || r == 0xFEFF || (r > 0x7F && !isOperator(r)) {
		s.problem(s.at, "character U+%04X does not belong here", r)
		return []*Node{s.leaf(Stray, s.at+size)}
	}
	return []*Node{s.leaf(Punct, s.at+size)}
}

func isOperator(r rune) bool { return r >= 0xA1 && r <= 0x3030 && r != 0x200B && r != 0xAD }

func (s *scanner) wordEnd() int {
	end := s.at
	for end < len(s.src) {
		r, size := utf8.DecodeRune(s.src[end:])
		if !s.l.word(r, false) || (end > s.at && s.commentAt(end)) {
			break
		}
		end += size
	}
	return end
}

func (s *scanner) commentAt(at int) bool {
	rest := s.src[at:]
	for _, o := range s.l.LineComment {
		if bytes.HasPrefix(rest, []byte(o)) {
			return true
		}
	}
	for _, b := range s.l.BlockComment {
		if !b.LineStart && bytes.HasPrefix(rest, []byte(b.Open)) {
			return true
		}
	}
	return false
}

func (s *scanner) number() *Node {
	end := s.at
	for end < len(s.src) {
		c := s.src[end]
		digit := c >= '0' && c <= '9'
		letter := c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c == '_'
		dot := c == '.' && end+1 < len(s.src) && s.src[end+1] >= '0' && s.src[end+1] <= '9'
		if !digit && !letter && !dot {
			break
		}
		end++
	}
	return s.leaf(Number, end)
}

func (s *scanner) firstOnLine() bool {
	for i := s.at; i > 0 && s.src[i-1] != '\n' && s.src[i-1] != '\r'; i-- {
		if s.src[i-1] != ' ' && s.src[i-1] != '\t' {
			return false
		}
	}
	return true
}

func (s *scanner) lineEnd() int {
	end := s.at
	for end < len(s.src) && s.src[end] != '\n' && s.src[end] != '\r' {
		end++
	}
	return end
}

func (s *scanner) comment() *Node {
	if s.l.Trailer != "" && s.has(s.l.Trailer) && LineStart(s.src, s.at) == s.at {
		if end := s.lineEnd(); end == s.at+len(s.l.Trailer) {
			return s.leaf(Comment, len(s.src))
		}
	}
	for _, o := range s.l.LineComment {
		if s.has(o) {
			return s.leaf(Comment, s.lineEnd())
		}
	}
	for _, b := range s.l.BlockComment {
		if !s.has(b.Open) || b.LineStart && LineStart(s.src, s.at) != s.at {
			continue
		}
		depth, end := 1, s.at+len(b.Open)
		for end < len(s.src) && depth > 0 {
			switch {
			case bytes.HasPrefix(s.src[end:], []byte(b.Close)) && (!b.LineStart || LineStart(s.src, end) == end):
				depth--
				end += len(b.Close)
			case b.Nests && bytes.HasPrefix(s.src[end:], []byte(b.Open)):
				depth++
				end += len(b.Open)
			default:
				end++
			}
		}
		if depth > 0 {
			s.problem(s.at, "comment is not closed: %q is missing", b.Close)
		}
		return s.leaf(Comment, end)
	}
	return nil
}

// startsValue decides whether an operator-like opener begins a string here: not right after a value, and for a
// slash only when the line closes it.
func (s *scanner) startsValue(str *Str) bool {
	if s.last != nil {
		switch s.last.Kind {
		case Number, Close, Quote, String, Group:
			return false
		case Word:
			// A command call such as `name /text/` has a blank before and none after.
			blank := s.at > 0 && (s.src[s.at-1] == ' ' || s.src[s.at-1] == '\t')
			next := s.at + len(str.Open)
			if !blank || next < len(s.src) && (s.src[next] == ' ' || s.src[next] == '=') {
				return false
			}
		}
	}
	rest := s.src[s.at+len(str.Open):]
	if !str.Lines {
		if i := bytes.IndexAny(rest, "\r\n"); i >= 0 {
			rest = rest[:i]
		}
	}
	return bytes.Contains(rest, []byte(str.Close))
}

func (s *scanner) group(close byte) *Node {
	if s.depth >= MaxDepth {
		s.problem(s.at, "brackets nest deeper than %d", MaxDepth)
		return s.leaf(Stray, s.at+1)
	}
	s.depth++
	defer func() { s.depth-- }()
	g := &Node{Kind: Group, Start: s.at}
	open := s.src[s.at]
	g.Kids = append(g.Kids, s.leaf(Open, s.at+1))
	g.Kids = append(g.Kids, s.nodes("")...)
	if s.at < len(s.src) && s.src[s.at] == close {
		g.Kids = append(g.Kids, s.leaf(Close, s.at+1))
	} else {
		s.problem(g.Start, "%q is not closed: %q is missing", open, close)
	}
	g.End = s.at
	s.last = g
	return g
}

func (s *scanner) str(str *Str) *Node {
	n := &Node{Kind: String, Start: s.at}
	n.Kids = append(n.Kids, s.leaf(Quote, s.at+len(str.Open)))
	s.strBody(n, str)
	n.End = s.at
	s.last = n
	return n
}

func (s *scanner) strBody(n *Node, str *Str) {
	text, nest := s.at, 0
	flush := func() {
		if s.at > text {
			n.Kids = append(n.Kids, &Node{Kind: Text, Start: text, End: s.at})
		}
	}
	for s.at < len(s.src) {
		c := s.src[s.at]
		switch {
		case !str.Lines && (c == '\n' || c == '\r'):
			flush()
			s.problem(n.Start, "string is not closed on its line: %s is missing", str.Close)
			return
		case s.interp(n, str, flush):
			text = s.at
		case str.Escape != "" && s.has(str.Escape) && s.at+len(str.Escape) < len(s.src) &&
			(str.Lines || s.src[s.at+len(str.Escape)] != '\n' && s.src[s.at+len(str.Escape)] != '\r'):
			flush()
			_, size := utf8.DecodeRune(s.src[s.at+len(str.Escape):])
			n.Kids = append(n.Kids, s.leaf(Escape, s.at+len(str.Escape)+size))
			text = s.at
		case str.Nests != 0 && c == str.Nests:
			nest++
			s.at++
		case s.has(str.Close):
			if nest > 0 {
				nest--
				s.at++
				continue
			}
			end := s.at + len(str.Close)
			if str.Greedy {
				for end < len(s.src) && s.src[end] == str.Close[0] {
					end++
				}
				s.at = end - len(str.Close)
			}
			flush()
			n.Kids = append(n.Kids, s.leaf(Quote, end))
			return
		default:
			s.at++
		}
	}
	flush()
	s.problem(n.Start, "string is not closed: %s is missing", str.Close)
}

// interp reads an embedded expression that starts here, if one does.
func (s *scanner) interp(n *Node, str *Str, flush func()) bool {
	for _, in := range str.Interp {
		if !s.has(in.Open) || s.depth >= MaxDepth {
			continue
		}
		flush()
		s.depth++
		i := &Node{Kind: Interp, Start: s.at}
		i.Kids = append(i.Kids, s.leaf(Mark, s.at+len(in.Open)))
		i.Kids = append(i.Kids, s.nodes(in.Close)...)
		if s.has(in.Close) {
			i.Kids = append(i.Kids, s.leaf(Mark, s.at+len(in.Close)))
		} else {
			s.problem(i.Start, "%s is not closed: %s is missing", in.Open, in.Close)
		}
		i.End = s.at
		s.depth--
		n.Kids = append(n.Kids, i)
		return true
	}
	if str.Dollar && s.src[s.at] == '$' && s.at+1 < len(s.src) {
		r, _ := utf8.DecodeRune(s.src[s.at+1:])
		if r == '$' || !s.l.word(r, true) {
			return false
		}
		flush()
		i := &Node{Kind: Interp, Start: s.at}
		i.Kids = append(i.Kids, s.leaf(Mark, s.at+1))
		i.Kids = append(i.Kids, s.leaf(Word, s.dollarEnd()))
		for s.l == Groovy && s.at+1 < len(s.src) && s.src[s.at] == '.' { // $a.b.c is one path in Groovy
			r, _ := utf8.DecodeRune(s.src[s.at+1:])
			if !s.l.word(r, true) || r == '$' {
				break
			}
			i.Kids = append(i.Kids, s.leaf(Punct, s.at+1))
			i.Kids = append(i.Kids, s.leaf(Word, s.dollarEnd()))
		}
		i.End = s.at
		n.Kids = append(n.Kids, i)
		return true
	}
	return false
}

// dollarEnd ends a $name, in which a further $ begins the next name.
func (s *scanner) dollarEnd() int {
	end := s.at
	for end < len(s.src) {
		r, size := utf8.DecodeRune(s.src[end:])
		if r == '$' || !s.l.word(r, end == s.at) {
			break
		}
		end += size
	}
	return end
}

// heredocOpener recognises <<NAME in its three forms where a value may stand.
func (s *scanner) heredocOpener() *Node {
	if !s.l.Heredoc || !s.has("<<") {
		return nil
	}
	at := s.at + 2
	if at < len(s.src) && (s.src[at] == '~' || s.src[at] == '-') {
		at++
	}
	quote := byte(0)
	if at < len(s.src) && (s.src[at] == '\'' || s.src[at] == '"') {
		quote = s.src[at]
		at++
	}
	start := at
	for at < len(s.src) && (s.src[at] == '_' || s.src[at] >= 'A' && s.src[at] <= 'Z' || s.src[at] >= 'a' && s.src[at] <= 'z' || at > start && s.src[at] >= '0' && s.src[at] <= '9') {
		at++
	}
	if at == start || (quote == 0 && s.at+2 == start && !(s.src[start] >= 'A' && s.src[start] <= 'Z')) {
		return nil
	}
	s.heredocs = append(s.heredocs, string(s.src[start:at]))
	if quote != 0 && at < len(s.src) && s.src[at] == quote {
		at++
	}
	n := s.leaf(Quote, at)
	return n
}

// heredocBody reads one body as a single text leaf, its last line included.
func (s *scanner) heredocBody() *Node {
	name := s.heredocs[0]
	s.heredocs = s.heredocs[1:]
	end := s.at
	for end < len(s.src) {
		next := NextLine(s.src, end)
		line := strings.TrimSpace(string(s.src[end:next]))
		end = next
		if line == name {
			return s.leaf(Text, end)
		}
	}
	s.problem(s.at, "text <<%s is not closed", name)
	return s.leaf(Text, end)
}
