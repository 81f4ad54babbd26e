package podfile

import (
	"strings"
	"testing"

	"ligare/core/syntax/lex"
)

const sample = `require_relative '../x'
platform :ios, '15.1'
use_frameworks! :linkage => :static

linkage = ENV['USE']
if linkage != nil
  puts "with #{linkage}ally 'quoted'".green
end

def shared
  pod 'Shared', :path => '../s' # trailing
end

abstract_target 'Base' do
  pod 'Common'
  target 'App' do
    shared
    # pod 'Hidden'
    pod("Own", '~> 1.0',
      :subspecs => ['A'])
    text = <<~END_TEXT
      target 'Fake' do
    END_TEXT
    target 'AppTests' do
      inherit! :search_paths
    end
    post_install do |installer|
      installer.targets.each { |t| t.end }
    end
  end
end
target('Braces') { pod 'B' }
`

func TestStructure(t *testing.T) {
	f, err := Parse([]byte(sample))
	if err != nil {
		t.Fatal(err)
	}
	if got := strings.Join(f.Targets(), " "); got != "App AppTests Braces" {
		t.Errorf("targets: %s", got)
	}
	var pods []string
	for _, c := range f.Pods(f.Target("App")) {
		pods = append(pods, c.Args[0].Text)
	}
	if got := strings.Join(pods, " "); got != "Shared Own Common" {
		t.Errorf("pods of App: %s", got)
	}
	if p := f.Platform(f.Target("App")); p == nil || p.Args[1].Text != "15.1" || p.Args[0].Text != "ios" {
		t.Errorf("platform: %v", p)
	}
	own := f.Target("App").Calls[1]
	if own.Args[2].Key != "subspecs" {
		t.Errorf("arguments: %+v", own.Args)
	}
}

func TestAddPod(t *testing.T) {
	for _, c := range []struct{ src, target, want string }{
		{"target 'A' do\nend\n", "A", "target 'A' do\n    pod 'N', '~> 1'\nend\n"},
		{"target 'A' do\n  x!\n\n  post_install do |i|\n    y\n  end\nend\n", "A", "target 'A' do\n  x!\n  pod 'N', '~> 1'\n\n  post_install do |i|\n    y\n  end\nend\n"},
		{"target 'A' do\n  post_install do |i|\n  end\nend", "A", "target 'A' do\n  pod 'N', '~> 1'\n  post_install do |i|\n  end\nend"},
		{"target 'A' do pod 'X' end", "A", "target 'A' do pod 'X'\n    pod 'N', '~> 1'\nend"},
		{"target('A') { pod 'X' }\n", "A", "target('A') { pod 'X'\n    pod 'N', '~> 1'\n}\n"},
	} {
		f, err := Parse([]byte(c.src))
		if err != nil {
			t.Fatalf("%q: %v", c.src, err)
		}
		in, address := f.AddPod(f.Target(c.target), "N", "~> 1")
		out, err := lex.Apply(f.Src, in.Change())
		if err != nil {
			t.Fatal(err)
		}
		// Blanks before a closing `end` on the opening line stay where they were.
		if got := strings.ReplaceAll(string(out), "\n end", "\nend"); strings.ReplaceAll(got, "\n }", "\n}") != c.want {
			t.Errorf("%q: got %q, want %q", c.src, out, c.want)
		}
		g, err := Parse(out)
		if err != nil {
			t.Fatal(err)
		}
		if s, e, ok := g.Find(address); !ok || string(out[s:e]) != "pod 'N', '~> 1'" {
			t.Errorf("%q: address not found", out)
		}
	}
}

func TestErrors(t *testing.T) {
	for src, want := range map[string]string{
		"target 'A' do\n": "1:1: \"target\" is not closed",
		"end\n":           "1:1: end without a block",
		"pod 'x\n":        "is missing",
	} {
		if _, err := Parse([]byte(src)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v", src, err)
		}
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte(sample))
	f.Add([]byte("target 'A' do\nend"))
	f.Fuzz(func(t *testing.T, src []byte) {
		p, err := Parse(src)
		if err != nil {
			return
		}
		if err := lex.Verify(src, p.Tree.Root); err != nil {
			t.Fatal(err)
		}
		for _, name := range p.Targets() {
			if b := p.Target(name); b.Open > b.Close || b.Close > b.End {
				t.Fatalf("%q: block %q %d %d %d", src, name, b.Open, b.Close, b.End)
			}
		}
	})
}
