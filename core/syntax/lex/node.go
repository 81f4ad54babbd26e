// Package lex is the lexical engine under every file language Ligare reads and edits.
//
// A language is a table (comments, strings, interpolation, brackets: see Language); Parse turns bytes into a tree in
// which every byte belongs to exactly one leaf, so that rendering any node gives back the bytes it was read from.
// Nothing here knows what a setting, an element or an app is: the packages beside this one put meaning on top and
// keep pointers to the nodes the meaning came from.
//
// Start reading at Node, then Language, then Parse. Changes are made with Change and Apply, over the original bytes.
package lex

import (
	"bytes"
	"fmt"
	"sort"
	"unicode/utf8"
)

// Kind says what a node is. Leaves hold bytes; branches hold other nodes.
type Kind uint8

// Leaves.
const (
	Space     Kind = iota // blanks that do not end a line
	Newline               // \n, \r\n or \r
	Comment               // a whole comment, delimiters included
	Word                  // identifier or keyword
	Number                // numeric literal, with its suffix
	Punct                 // operator or separator
	Open                  // opening bracket
	Close                 // closing bracket
	Quote                 // delimiter of a string
	Text                  // literal bytes: inside a string, or character data
	Escape                // escape sequence inside a string
	Mark                  // delimiter of an interpolation
	Stray                 // bytes no rule accepts
	Name                  // element or attribute name
	Directive             // document type, processing instruction, preprocessor line
	lastLeaf
)

// Branches.
const (
	Root    Kind = iota + lastLeaf + 1 // the whole file
	Group                              // bracketed nodes, brackets included
	String                             // a string with its delimiters
	Interp                             // an interpolation inside a string
	Element                            // a marked-up element
	Tag                                // a start, end or empty tag
	Attr                               // an attribute
	Entry                              // one key and its value, with its terminator
)

var kindNames = map[Kind]string{Space: "space", Newline: "newline", Comment: "comment", Word: "word", Number: "number",
	Punct: "punct", Open: "open", Close: "close", Quote: "quote", Text: "text", Escape: "escape", Mark: "mark",
	Stray: "stray", Name: "name", Directive: "directive", Root: "root", Group: "group", String: "string",
	Interp: "interpolation", Element: "element", Tag: "tag", Attr: "attribute", Entry: "entry"}

func (k Kind) String() string { return kindNames[k] }

// Node is one piece of a file: the bytes from Start up to, not including, End. A leaf has no Kids; a branch is tiled by them.
type Node struct {
	Kind       Kind
	Start, End int
	Kids       []*Node
}

// Leaf reports whether the node holds bytes itself.
func (n *Node) Leaf() bool { return n.Kind < lastLeaf }

// Trivia reports whether the node carries no meaning: blanks, line ends, comments.
func (n *Node) Trivia() bool { return n.Kind == Space || n.Kind == Newline || n.Kind == Comment }

// Of gives the node's bytes as text.
func (n *Node) Of(src []byte) string { return string(src[n.Start:n.End]) }

// Is reports whether the node is a leaf of this kind with exactly this text.
func (n *Node) Is(src []byte, k Kind, text string) bool {
	return n != nil && n.Kind == k && n.End-n.Start == len(text) && string(src[n.Start:n.End]) == text
}

// Render writes the node again from its leaves. For a tree made by this package it equals the bytes read.
func (n *Node) Render(src []byte) []byte {
	var out []byte
	n.Walk(func(m *Node) bool {
		if m.Leaf() {
			out = append(out, src[m.Start:m.End]...)
		}
		return true
	})
	return out
}

// Walk visits the node and everything below it in order; f returning false skips what lies below.
func (n *Node) Walk(f func(*Node) bool) {
	if !f(n) {
		return
	}
	for _, k := range n.Kids {
		k.Walk(f)
	}
}

// Solid gives the node's kids without trivia.
func (n *Node) Solid() []*Node { return Solid(n.Kids) }

// Solid filters trivia out of a list.
func Solid(list []*Node) []*Node {
	var out []*Node
	for _, k := range list {
		if !k.Trivia() {
			out = append(out, k)
		}
	}
	return out
}

// Inner gives what stands between the brackets of a Group, or the quotes of a String.
func (n *Node) Inner() []*Node {
	kids := n.Kids
	if len(kids) > 0 && (kids[0].Kind == Open || kids[0].Kind == Quote) {
		kids = kids[1:]
	}
	if len(kids) > 0 && (kids[len(kids)-1].Kind == Close || kids[len(kids)-1].Kind == Quote) {
		kids = kids[:len(kids)-1]
	}
	return kids
}

// Bracket gives the opening bracket of a Group, or 0.
func (n *Node) Bracket(src []byte) byte {
	if n != nil && n.Kind == Group && len(n.Kids) > 0 && n.Kids[0].Kind == Open {
		return src[n.Kids[0].Start]
	}
	return 0
}

// Closed reports whether a Group ends with its bracket, or a String with its quote.
func (n *Node) Closed() bool {
	if len(n.Kids) < 2 {
		return false
	}
	k := n.Kids[len(n.Kids)-1].Kind
	return k == Close || k == Quote
}

// Verify checks the promise of this package: leaves tile the bytes without gap or overlap, and every branch spans exactly its kids.
func Verify(src []byte, root *Node) error {
	at := 0
	var bad error
	root.Walk(func(n *Node) bool {
		if bad != nil {
			return false
		}
		if n.Leaf() {
			if n.Start != at || n.End <= n.Start {
				bad = fmt.Errorf("%s at %d-%d: expected a leaf at %d", n.Kind, n.Start, n.End, at)
			}
			at = n.End
			return true
		}
		if len(n.Kids) == 0 {
			if n.Start != n.End {
				bad = fmt.Errorf("%s at %d-%d has no kids", n.Kind, n.Start, n.End)
			}
			return true
		}
		if n.Start != n.Kids[0].Start || n.End != n.Kids[len(n.Kids)-1].End {
			bad = fmt.Errorf("%s at %d-%d does not span its kids %d-%d", n.Kind, n.Start, n.End, n.Kids[0].Start, n.Kids[len(n.Kids)-1].End)
		}
		return true
	})
	if bad == nil && at != len(src) {
		bad = fmt.Errorf("leaves end at %d of %d bytes", at, len(src))
	}
	return bad
}

// Problem is something a reader noticed at a place; the tree is whole all the same.
type Problem struct {
	Offset  int
	Message string
}

// Position turns an offset into a line and a column, both counted from 1, columns in characters.
func Position(src []byte, offset int) (line, column int) {
	line, column = 1, 1
	if offset > len(src) {
		offset = len(src)
	}
	for i := 0; i < offset; {
		switch {
		case src[i] == '\n', src[i] == '\r' && (i+1 >= len(src) || src[i+1] != '\n'):
			line++
			column = 1
			i++
		case src[i] == '\r':
			i++
		default:
			_, n := utf8.DecodeRune(src[i:])
			if !(i == 0 && n == 3 && src[0] == 0xEF && src[1] == 0xBB && src[2] == 0xBF) {
				column++
			}
			i += n
		}
	}
	return line, column
}

// Lines turns many offsets of one text into places: where each line begins is worked out once.
type Lines struct {
	src    []byte
	starts []int

	at, line, column int // the last answer: what follows it in its line is counted from there
}

// Position is Position, over the lines that are already known.
func (l *Lines) Position(src []byte, offset int) (line, column int) {
	if l.starts == nil || len(l.src) != len(src) {
		l.src, l.starts, l.line = src, []int{0}, 0
		for i := 0; i < len(src); i++ {
			if src[i] == '\n' || src[i] == '\r' && (i+1 >= len(src) || src[i+1] != '\n') {
				l.starts = append(l.starts, i+1)
			}
		}
	}
	offset = min(offset, len(src))
	line = sort.SearchInts(l.starts, offset+1)
	start := l.starts[line-1]
	if l.line == line && offset >= l.at && l.at > start && src[l.at-1] < utf8.RuneSelf && !bytes.HasPrefix(src[l.at:], []byte("\xEF\xBB\xBF")) {
		_, more := Position(src[l.at:], offset-l.at)
		column = l.column + more - 1
	} else if _, column = Position(src[start:], offset-start); line > 1 && bytes.HasPrefix(src[start:], []byte("\xEF\xBB\xBF")) && offset > start { // a mark counts only at the beginning of a file
		column++
	}
	l.at, l.line, l.column = offset, line, column
	return line, column
}
