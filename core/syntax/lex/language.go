package lex

import "unicode"

// Language is the table from which the engine reads a file. The zero rune class of Word is Go's letters, digits and underscore.
type Language struct {
	Name         string
	LineComment  []string      // openers that run to the end of the line
	BlockComment []Block       // delimited comments
	Strings      []Str         // tried in order: longer openers first
	Pairs        map[byte]byte // opening to closing bracket
	Extra        string        // characters that belong to words besides letters, digits and _
	Directives   bool          // a # first on a line makes the line a directive
	Operators    []string      // punctuation of more than one character, longer first
	Heredoc      bool          // <<NAME, <<-NAME and <<~NAME bodies (Ruby)
	Trailer      string        // a line equal to this ends the program; the rest is one comment (Ruby's __END__)
}

// Block is a delimited comment.
type Block struct {
	Open, Close string
	Nests       bool
	LineStart   bool // both delimiters stand first on their line (Ruby's =begin)
}

// Str is one way to write a string.
type Str struct {
	Open, Close string
	Escape      string  // what makes the next character literal; "" for none
	Lines       bool    // may span lines
	Interp      []Embed // embedded expressions
	Dollar      bool    // $name is an embedded name
	Greedy      bool    // a run of closers longer than Close belongs to the text (Kotlin's raw strings)
	Value       bool    // the opener is an operator after a value (Groovy's and Ruby's slash): a string only elsewhere
	Nests       byte    // the opener nests inside (Ruby's %w[ ]); 0 for no
}

// Embed is an embedded expression inside a string.
type Embed struct{ Open, Close string }

func (l *Language) word(r rune, first bool) bool {
	if r == '_' || unicode.IsLetter(r) {
		return true
	}
	for _, x := range l.Extra {
		if r == x {
			return true
		}
	}
	return !first && (unicode.IsDigit(r) || unicode.Is(unicode.Mn, r))
}

var braces = map[byte]byte{'{': '}', '(': ')', '[': ']'}

var slashes = []string{"//"}

var cBlock = []Block{{Open: "/*", Close: "*/"}}
var cNested = []Block{{Open: "/*", Close: "*/", Nests: true}}

// Groovy: strings in six forms, comments that do not nest (Apache Groovy documentation, Syntax).
var Groovy = &Language{Name: "groovy", LineComment: []string{"//"}, BlockComment: cBlock, Pairs: braces, Extra: "$",
	Operators: []string{"?:", "?.", "->", "+=", "==", "!=", "<=", ">=", "&&", "||", "*."},
	Strings: []Str{
		{Open: `"""`, Close: `"""`, Escape: `\`, Lines: true, Interp: []Embed{{"${", "}"}}, Dollar: true, Greedy: true},
		{Open: `'''`, Close: `'''`, Escape: `\`, Lines: true, Greedy: true},
		{Open: `$/`, Close: `/$`, Escape: `$`, Lines: true, Interp: []Embed{{"${", "}"}}, Value: true},
		{Open: `"`, Close: `"`, Escape: `\`, Interp: []Embed{{"${", "}"}}, Dollar: true},
		{Open: `'`, Close: `'`, Escape: `\`},
		{Open: `/`, Close: `/`, Escape: `\`, Interp: []Embed{{"${", "}"}}, Value: true},
	}}

// Kotlin: nested comments, raw strings that keep interpolation (Kotlin specification, Lexical grammar).
var Kotlin = &Language{Name: "kotlin", LineComment: slashes, BlockComment: cNested, Pairs: braces,
	Operators: []string{"?:", "?.", "->", "+=", "==", "!=", "<=", ">=", "&&", "||", "::", ".."},
	Strings: []Str{
		{Open: `"""`, Close: `"""`, Lines: true, Interp: []Embed{{"${", "}"}}, Dollar: true, Greedy: true},
		{Open: `"`, Close: `"`, Escape: `\`, Interp: []Embed{{"${", "}"}}, Dollar: true},
		{Open: `'`, Close: `'`, Escape: `\`},
		{Open: "`", Close: "`"},
	}}

// Java: text blocks, character literals (Java Language Specification, chapter 3).
var Java = &Language{Name: "java", LineComment: slashes, BlockComment: cBlock, Pairs: braces, Extra: "$",
	Operators: []string{"->", "+=", "==", "!=", "<=", ">=", "&&", "||", "::"},
	Strings: []Str{
		{Open: `"""`, Close: `"""`, Escape: `\`, Lines: true},
		{Open: `"`, Close: `"`, Escape: `\`},
		{Open: `'`, Close: `'`, Escape: `\`},
	}}

// Swift: nested comments, extended delimiters, interpolation by \( ) (The Swift Programming Language, Lexical Structure).
var Swift = &Language{Name: "swift", LineComment: slashes, BlockComment: cNested, Pairs: braces, Extra: "$", Directives: true,
	Operators: []string{"->", "+=", "==", "!=", "<=", ">=", "&&", "||", "??", "..."},
	Strings: []Str{
		{Open: `##"""`, Close: `"""##`, Escape: `\##`, Lines: true, Interp: []Embed{{`\##(`, ")"}}},
		{Open: `#"""`, Close: `"""#`, Escape: `\#`, Lines: true, Interp: []Embed{{`\#(`, ")"}}},
		{Open: `"""`, Close: `"""`, Escape: `\`, Lines: true, Interp: []Embed{{`\(`, ")"}}},
		{Open: `##"`, Close: `"##`, Escape: `\##`, Interp: []Embed{{`\##(`, ")"}}},
		{Open: `#"`, Close: `"#`, Escape: `\#`, Interp: []Embed{{`\#(`, ")"}}},
		{Open: `"`, Close: `"`, Escape: `\`, Interp: []Embed{{`\(`, ")"}}},
		{Open: "`", Close: "`"},
	}}

// ObjC: C's strings and comments, preprocessor lines, @ before literals and keywords (The Objective-C Programming Language).
var ObjC = &Language{Name: "objective-c", LineComment: slashes, BlockComment: cBlock, Pairs: braces, Extra: "$", Directives: true,
	Operators: []string{"->", "+=", "==", "!=", "<=", ">=", "&&", "||"},
	Strings:   []Str{{Open: `"`, Close: `"`, Escape: `\`}, {Open: `'`, Close: `'`, Escape: `\`}}}

// CSharp: verbatim, raw and interpolated strings, preprocessor lines (C# language specification, Lexical structure).
var CSharp = &Language{Name: "c#", LineComment: slashes, BlockComment: cBlock, Pairs: braces, Extra: "@", Directives: true,
	Operators: []string{"=>", "+=", "==", "!=", "<=", ">=", "&&", "||", "??", "?.", "::"},
	Strings: []Str{
		{Open: `$"""`, Close: `"""`, Lines: true, Interp: []Embed{{"{", "}"}}, Greedy: true},
		{Open: `"""`, Close: `"""`, Lines: true, Greedy: true},
		{Open: `$@"`, Close: `"`, Lines: true, Interp: []Embed{{"{", "}"}}},
		{Open: `@"`, Close: `"`, Lines: true},
		{Open: `$"`, Close: `"`, Escape: `\`, Interp: []Embed{{"{", "}"}}},
		{Open: `"`, Close: `"`, Escape: `\`},
		{Open: `'`, Close: `'`, Escape: `\`},
	}}

// Dart: nested comments, raw and multi-line strings, interpolation (Dart language specification, Lexical structure).
var Dart = &Language{Name: "dart", LineComment: slashes, BlockComment: cNested, Pairs: braces, Extra: "$",
	Operators: []string{"=>", "+=", "==", "!=", "<=", ">=", "&&", "||", "??", "?.", "..", "?"},
	Strings: []Str{
		{Open: `r"""`, Close: `"""`, Lines: true},
		{Open: `r'''`, Close: `'''`, Lines: true},
		{Open: `r"`, Close: `"`},
		{Open: `r'`, Close: `'`},
		{Open: `"""`, Close: `"""`, Escape: `\`, Lines: true, Interp: []Embed{{"${", "}"}}, Dollar: true},
		{Open: `'''`, Close: `'''`, Escape: `\`, Lines: true, Interp: []Embed{{"${", "}"}}, Dollar: true},
		{Open: `"`, Close: `"`, Escape: `\`, Interp: []Embed{{"${", "}"}}, Dollar: true},
		{Open: `'`, Close: `'`, Escape: `\`, Interp: []Embed{{"${", "}"}}, Dollar: true},
	}}

// JavaScript and TypeScript: template strings, regular expressions where a value may stand (ECMA-262, chapter 12). Text
// between JSX tags is read as words, so an apostrophe there opens a string that ends with its line.
var JavaScript = &Language{Name: "javascript", LineComment: slashes, BlockComment: cBlock, Pairs: braces, Extra: "$#",
	Operators: []string{"=>", "+=", "===", "!==", "==", "!=", "<=", ">=", "&&", "||", "??", "?.", "..."},
	Strings: []Str{
		{Open: "`", Close: "`", Escape: `\`, Lines: true, Interp: []Embed{{"${", "}"}}},
		{Open: `"`, Close: `"`, Escape: `\`},
		{Open: `'`, Close: `'`, Escape: `\`},
		{Open: `/`, Close: `/`, Escape: `\`, Value: true},
	}}

// Ruby, as far as a Podfile goes: heredocs, percent literals, =begin comments, #{ } (Ruby documentation, doc/syntax/literals).
var Ruby = &Language{Name: "ruby", LineComment: []string{"#"}, BlockComment: []Block{{Open: "=begin", Close: "=end", LineStart: true}},
	Pairs: braces, Extra: "@$", Heredoc: true, Trailer: "__END__",
	Operators: []string{"=>", "::", "&.", "+=", "||=", "==", "!=", "<=", ">=", "&&", "||", "<<", "->", "..."},
	Strings: append(percentLiterals(),
		Str{Open: `"`, Close: `"`, Escape: `\`, Lines: true, Interp: []Embed{{"#{", "}"}}},
		Str{Open: `'`, Close: `'`, Escape: `\`, Lines: true},
		Str{Open: "`", Close: "`", Escape: `\`, Lines: true, Interp: []Embed{{"#{", "}"}}},
		Str{Open: `/`, Close: `/`, Escape: `\`, Interp: []Embed{{"#{", "}"}}, Value: true},
	)}

func percentLiterals() []Str {
	var out []Str
	for _, p := range []string{"%w", "%W", "%i", "%I", "%q", "%Q", "%r"} {
		for open, close := range map[byte]byte{'[': ']', '(': ')', '{': '}', '<': '>'} {
			out = append(out, Str{Open: p + string(open), Close: string(close), Escape: `\`, Lines: true, Nests: open})
		}
		for _, same := range []string{"|", "!", "/"} {
			out = append(out, Str{Open: p + same, Close: same, Escape: `\`, Lines: true})
		}
	}
	return out
}

// JSON with the comments some tools allow.
var JSON = &Language{Name: "json", LineComment: slashes, BlockComment: cBlock, Pairs: map[byte]byte{'{': '}', '[': ']'}, Extra: "+-.",
	Strings: []Str{{Open: `"`, Close: `"`, Escape: `\`}}}

// TOML: four string forms, # comments (TOML v1.0.0).
var TOML = &Language{Name: "toml", LineComment: []string{"#"}, Pairs: map[byte]byte{'{': '}', '[': ']'}, Extra: "-",
	Strings: []Str{
		{Open: `"""`, Close: `"""`, Escape: `\`, Lines: true, Greedy: true},
		{Open: `'''`, Close: `'''`, Lines: true, Greedy: true},
		{Open: `"`, Close: `"`, Escape: `\`},
		{Open: `'`, Close: `'`},
	}}
