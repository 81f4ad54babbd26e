// Package podfile reads and edits Podfiles: Ruby programs that declare which pods each target gets. It reads the
// structure (blocks by do…end and braces, methods, conditionals) on the Ruby table of package lex and never runs anything.
package podfile

import (
	"fmt"
	"strconv"
	"strings"

	"ligare/core/syntax/lex"
)

// Block is something that holds statements: the file, a target, a method, a hook, a conditional.
type Block struct {
	Word       string // target, abstract_target, post_install, def, if, ... ; "" for the file
	Name       string // of a target or method
	Start, End int
	Open       int // offset just after the opening line's tokens
	Close      int // offset of end or }
	Calls      []*Call
	Blocks     []*Block
	Parent     *Block
}

// Call is a statement that begins with a word.
type Call struct {
	Word       string
	Args       []Arg
	Start, End int
	Block      *Block
}

// Arg is one argument; Text is set when it is a plain string or symbol.
type Arg struct {
	Key        string // of a hash argument
	Text       string
	Literal    bool
	Raw        string
	Start, End int
}

// File is a Podfile read.
type File struct {
	Src  []byte
	Tree *lex.Tree
	Root *Block
}

// Error is a Podfile that cannot be read, with its place.
type Error struct {
	Line, Column int
	Message      string
}

func (e *Error) Error() string { return fmt.Sprintf("%d:%d: %s", e.Line, e.Column, e.Message) }

type parser struct {
	src   []byte
	block *Block
	cur   []*lex.Node
	err   error
}

// Parse reads a Podfile.
func Parse(src []byte) (*File, error) {
	t := lex.Parse(lex.Ruby, src)
	p := &parser{src: src, block: &Block{End: len(src), Close: len(src)}}
	root := p.block
	if len(t.Problems) > 0 {
		return nil, p.fail(t.Problems[0].Offset, "%s", t.Problems[0].Message)
	}
	p.run(t.Root.Kids)
	if p.err == nil && p.block != root {
		return nil, p.fail(p.block.Start, "%q is not closed: end is missing", p.block.Word)
	}
	return &File{Src: src, Tree: t, Root: root}, p.err
}

func (p *parser) fail(at int, format string, args ...any) error {
	l, c := lex.Position(p.src, at)
	return &Error{Line: l, Column: c, Message: fmt.Sprintf(format, args...)}
}

var openers = map[string]bool{"def": true, "if": true, "unless": true, "case": true, "while": true, "until": true,
	"for": true, "begin": true, "class": true, "module": true}

func (p *parser) run(nodes []*lex.Node) {
	for i := 0; i < len(nodes); i++ {
		n := nodes[i]
		switch {
		case n.Kind == lex.Space || n.Kind == lex.Comment || n.Kind == lex.Text: // a text is the body of a heredoc
		case n.Kind == lex.Newline || n.Is(p.src, lex.Punct, ";"):
			if n.Kind == lex.Newline && p.continues(nodes[i+1:]) {
				continue
			}
			p.flush()
		case n.Is(p.src, lex.Word, "do") && len(p.cur) > 0:
			p.cur = append(p.cur, n)
			i = p.params(nodes, i)
			p.open()
		case n.Is(p.src, lex.Word, "then") && len(p.cur) > 0 && openers[p.cur[0].Of(p.src)]:
			p.cur = append(p.cur, n)
			p.open()
		case n.Is(p.src, lex.Word, "end") && !p.afterDot() && !p.isKey(nodes, i):
			p.flush()
			if p.block.Parent == nil || p.block.Close != 0 {
				if p.err == nil {
					p.err = p.fail(n.Start, "end without a block")
				}
				return
			}
			p.block.Close, p.block.End = n.Start, n.End
			p.block = p.block.Parent
		default:
			p.cur = append(p.cur, n)
		}
	}
	p.flush()
}

func (p *parser) afterDot() bool {
	return len(p.cur) > 0 && p.cur[len(p.cur)-1].Is(p.src, lex.Punct, ".")
}

func (p *parser) isKey(nodes []*lex.Node, i int) bool {
	return i+1 < len(nodes) && nodes[i+1].Is(p.src, lex.Punct, ":")
}

// continues tells whether a statement goes on in the next line.
func (p *parser) continues(rest []*lex.Node) bool {
	if len(p.cur) == 0 {
		return false
	}
	last := p.cur[len(p.cur)-1]
	if last.Kind == lex.Punct && !last.Is(p.src, lex.Punct, "!") && !last.Is(p.src, lex.Punct, "?") {
		return true
	}
	for _, n := range rest {
		if !n.Trivia() {
			return n.Is(p.src, lex.Punct, ".") || n.Is(p.src, lex.Punct, "&.")
		}
	}
	return false
}

// params skips |a, b| after do.
func (p *parser) params(nodes []*lex.Node, i int) int {
	j := i + 1
	for j < len(nodes) && nodes[j].Kind == lex.Space {
		j++
	}
	if j >= len(nodes) || !nodes[j].Is(p.src, lex.Punct, "|") {
		return i
	}
	for k := j + 1; k < len(nodes); k++ {
		p.cur = append(p.cur, nodes[k])
		if nodes[k].Is(p.src, lex.Punct, "|") {
			return k
		}
	}
	return i
}

// opensAt gives the index of a word that opens a block closed by end, as first word or after an assignment.
func (p *parser) opensAt() int {
	for i, n := range p.cur {
		if n.Kind == lex.Word && openers[n.Of(p.src)] && (i == 0 || p.cur[i-1].Is(p.src, lex.Punct, "=")) {
			return i
		}
	}
	return -1
}

func (p *parser) open() {
	head := p.cur
	if at := p.opensAt(); at > 0 {
		head = head[at:]
	}
	b := &Block{Word: head[0].Of(p.src), Start: head[0].Start, Open: p.cur[len(p.cur)-1].End, Parent: p.block}
	if len(head) > 1 {
		b.Name = p.name(head[1])
	}
	p.block.Blocks = append(p.block.Blocks, b)
	p.block = b
	p.cur = nil
}

// name reads a block's name: 'App', ("App"), :App, or the word after def.
func (p *parser) name(n *lex.Node) string {
	if n.Kind == lex.Group {
		inner := lex.Solid(n.Inner())
		if len(inner) == 0 {
			return ""
		}
		n = inner[0]
	}
	if s, ok := lex.Literal(p.src, n); ok {
		return s
	}
	if n.Kind == lex.Word {
		return n.Of(p.src)
	}
	return ""
}

func (p *parser) flush() {
	if len(p.cur) == 0 {
		return
	}
	if p.opensAt() >= 0 {
		p.open()
		return
	}
	cur := p.cur
	p.cur = nil
	last := cur[len(cur)-1]
	if cur[0].Kind != lex.Word {
		return
	}
	if len(cur) > 1 && last.Bracket(p.src) == '{' && (cur[0].Is(p.src, lex.Word, "target") || cur[0].Is(p.src, lex.Word, "abstract_target") || strings.HasSuffix(cur[0].Of(p.src), "_install")) {
		b := &Block{Word: cur[0].Of(p.src), Start: cur[0].Start, End: last.End, Open: last.Kids[0].End, Close: last.End - 1, Parent: p.block}
		b.Name = p.name(cur[1])
		p.block.Blocks = append(p.block.Blocks, b)
		inner := &parser{src: p.src, block: b}
		inner.run(last.Inner())
		if p.err == nil {
			p.err = inner.err
		}
		return
	}
	c := &Call{Word: cur[0].Of(p.src), Start: cur[0].Start, End: last.End, Block: p.block}
	rest := cur[1:]
	if len(rest) > 0 && rest[0].Is(p.src, lex.Punct, "!") { // use_frameworks!
		c.Word += "!"
		rest = rest[1:]
	}
	if len(rest) == 1 && rest[0].Bracket(p.src) == '(' {
		rest = lex.Solid(rest[0].Inner())
	}
	c.Args = p.args(rest)
	p.block.Calls = append(p.block.Calls, c)
}

func (p *parser) args(nodes []*lex.Node) []Arg {
	var out []Arg
	var cur []*lex.Node
	flush := func() {
		if len(cur) == 0 {
			return
		}
		a := Arg{Start: cur[0].Start, End: cur[len(cur)-1].End}
		a.Raw = string(p.src[a.Start:a.End])
		val := cur
		for i, n := range cur { // :key => value, 'key' => value, key: value
			if n.Is(p.src, lex.Punct, "=>") && i > 0 {
				a.Key, val = p.symbol(cur[:i]), cur[i+1:]
				break
			}
			if i == 1 && n.Is(p.src, lex.Punct, ":") && cur[0].Kind == lex.Word {
				a.Key, val = cur[0].Of(p.src), cur[2:]
				break
			}
		}
		if len(val) == 1 {
			a.Text, a.Literal = lex.Literal(p.src, val[0])
		}
		if !a.Literal {
			if s := p.symbol(val); s != "" {
				a.Text, a.Literal = s, true
			}
		}
		out = append(out, a)
		cur = nil
	}
	for _, n := range nodes {
		if n.Is(p.src, lex.Punct, ",") {
			flush()
		} else if !n.Trivia() {
			cur = append(cur, n)
		}
	}
	flush()
	return out
}

func (p *parser) symbol(nodes []*lex.Node) string {
	if len(nodes) == 1 {
		s, _ := lex.Literal(p.src, nodes[0])
		return s
	}
	if len(nodes) == 2 && nodes[0].Is(p.src, lex.Punct, ":") && nodes[1].Kind == lex.Word {
		return nodes[1].Of(p.src)
	}
	return ""
}

// Each visits a block and all below it.
func (b *Block) Each(f func(*Block)) {
	f(b)
	for _, c := range b.Blocks {
		c.Each(f)
	}
}

// Target gives the block of a target by name, or nil.
func (f *File) Target(name string) *Block {
	var out *Block
	f.Root.Each(func(b *Block) {
		if out == nil && b.Word == "target" && b.Name == name {
			out = b
		}
	})
	return out
}

// Targets gives the names of all targets, in order.
func (f *File) Targets() []string {
	var out []string
	f.Root.Each(func(b *Block) {
		if b.Word == "target" {
			out = append(out, b.Name)
		}
	})
	return out
}

// Pods gives the pods a target gets: its own, those of the blocks around it, those under its conditionals, and those
// of the methods it calls.
func (f *File) Pods(target *Block) []*Call {
	var out []*Call
	seen := map[string]bool{}
	var calls func(b *Block)
	calls = func(b *Block) {
		for _, c := range b.Calls {
			if c.Word == "pod" {
				out = append(out, c)
			} else if !seen[c.Word] {
				seen[c.Word] = true
				f.Root.Each(func(d *Block) {
					if d.Word == "def" && d.Name == c.Word {
						calls(d)
					}
				})
			}
		}
		for _, in := range b.Blocks {
			if in.Word == "if" || in.Word == "unless" || in.Word == "case" {
				calls(in)
			}
		}
	}
	for b := target; b != nil; b = b.Parent {
		calls(b)
	}
	return out
}

// Platform gives the call that sets a platform for a target: the nearest `platform` around it.
func (f *File) Platform(target *Block) *Call {
	for b := target; b != nil; b = b.Parent {
		for _, c := range b.Calls {
			if c.Word == "platform" {
				return c
			}
		}
	}
	return nil
}

// AddPod inserts a pod into a target: after its last statement that stands before nested blocks.
func (f *File) AddPod(target *Block, name, requirement string) (lex.Insertion, string) {
	text := "pod " + lex.Quoted(name, '\'', false)
	if requirement != "" {
		text += ", " + lex.Quoted(requirement, '\'', false)
	}
	address := fmt.Sprintf("target(%s)/pod(%s)", target.Name, name)
	indent := lex.Indent(f.Src, target.Start)
	if len(target.Blocks) == 0 {
		return lex.IntoGroup(f.Src, target.Open, target.Close, indent, lex.Unit(f.Src), text), address
	}
	var last *Call
	for _, c := range target.Calls {
		if c.End < target.Blocks[0].Start {
			last = c
		}
	}
	if last != nil {
		return lex.OnLinesAfter(f.Src, last.End, lex.Indent(f.Src, last.Start), text), address
	}
	return lex.OnLinesAfter(f.Src, target.Open, indent+lex.Unit(f.Src), text), address
}

// Assigned gives the plain texts that are assigned under a key, as hooks do: settings['KEY'] = '13.0'.
func (f *File) Assigned(key string) []Arg {
	var out []Arg
	f.Tree.Root.Walk(func(at *lex.Node) bool {
		if at.Leaf() {
			return false
		}
		n := lex.Solid(at.Kids)
		for i := 0; i+2 < len(n); i++ {
			inner := lex.Solid(n[i].Inner())
			if n[i].Bracket(f.Src) != '[' || len(inner) != 1 || !n[i+1].Is(f.Src, lex.Punct, "=") {
				continue
			}
			name, ok := lex.Literal(f.Src, inner[0])
			if !ok || name != key {
				continue
			}
			text, ok := lex.Literal(f.Src, n[i+2])
			out = append(out, Arg{Key: key, Text: text, Literal: ok, Raw: n[i+2].Of(f.Src), Start: n[i+2].Start, End: n[i+2].End})
		}
		return true
	})
	return out
}

// Find resolves an address: one made by AddPod, platform() for the file's own platform, or assigned(KEY,N) for the text
// that is assigned under a key, counted from 0.
func (f *File) Find(address string) (start, end int, ok bool) {
	if rest, found := strings.CutPrefix(address, "assigned("); found {
		key, number, _ := strings.Cut(strings.TrimSuffix(rest, ")"), ",")
		list := f.Assigned(key)
		if n, err := strconv.Atoi(number); err == nil && n >= 0 && n < len(list) {
			return list[n].Start, list[n].End, true
		}
		return 0, 0, false
	}
	if address == "platform()" {
		for _, c := range f.Root.Calls {
			if c.Word == "platform" {
				return c.Start, c.End, true
			}
		}
		return 0, 0, false
	}
	head, rest, _ := strings.Cut(address, ")/pod(")
	t := f.Target(strings.TrimPrefix(head, "target("))
	if t == nil {
		return 0, 0, false
	}
	name := strings.TrimSuffix(rest, ")")
	for _, c := range t.Calls {
		if c.Word == "pod" && len(c.Args) > 0 && c.Args[0].Text == name {
			return c.Start, c.End, true
		}
	}
	return 0, 0, false
}
