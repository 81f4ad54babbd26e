package plist

import (
	"strings"
	"testing"

	"ligare/core/syntax/lex"
)

const sample = `<?xml version="1.0" encoding="UTF-8"?>
<!DOCTYPE plist PUBLIC "-//Apple//DTD PLIST 1.0//EN" "http://www.apple.com/DTDs/PropertyList-1.0.dtd">
<plist version="1.0">
<dict>
	<key>Name</key>
	<string>a &amp; b</string>
	<!-- <key>Hidden</key><string>no</string> -->
	<key>Types</key>
	<array>
		<dict>
			<key>Schemes</key>
			<array><string>x</string></array>
		</dict>
	</array>
	<key>On</key>
	<true/>
</dict>
</plist>
`

func TestReading(t *testing.T) {
	f, err := Parse([]byte(sample))
	if err != nil {
		t.Fatal(err)
	}
	if got := f.Path("Name").Text; got != "a & b" {
		t.Errorf("Name: %q", got)
	}
	if f.Path("Hidden") != nil {
		t.Error("a commented-out key was read")
	}
	if f.Path("On").Kind != True || f.Path("Types").Items[0].Get("Schemes").Items[0].Text != "x" {
		t.Error("nested values")
	}
	s, e, ok := f.Find("/Types/0/Schemes/0")
	if !ok || sample[s:e] != "<string>x</string>" {
		t.Errorf("address: %q %v", sample[s:e], ok)
	}
}

func TestMistakesAreNamed(t *testing.T) {
	for src, want := range map[string]string{
		"<plist><dict><string>x</string></dict></plist>": "1:14: <string> stands where a <key>",
		"<plist><dict><key>a</key></dict></plist>":       "1:14: key \"a\" has no value",
		"<plist></plist>": "holds no value",
		"<html></html>":   "not <plist>",
		"<plist><dict><key>a</key><strnig/></dict></plist>": "<strnig> is not a property list type",
		"<plist><dict><key>a</key><string>x</dict></plist>": "<string> is not closed",
	} {
		if _, err := Parse([]byte(src)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: got %v, want %s", src, err, want)
		}
	}
	if _, err := Parse([]byte("bplist00")); err == nil {
		t.Errorf("binary: %v", err)
	}
	f, err := Parse([]byte("<plist><dict><key>a</key><true/><key>a</key><false/></dict><string>lost</string></plist>"))
	if err != nil || len(f.Notes) != 2 {
		t.Errorf("doubled key and trailing value: %v %v", f.Notes, err)
	}
}

func TestEditing(t *testing.T) {
	f, err := Parse([]byte(sample))
	if err != nil {
		t.Fatal(err)
	}
	in, err := f.Add(f.Root, "Key<", StringElement("v&"))
	if err != nil {
		t.Fatal(err)
	}
	set, err := f.SetText(f.Path("Name"), "c < d")
	if err != nil {
		t.Fatal(err)
	}
	out, err := lex.Apply(f.Doc.Src, set, in.Change())
	if err != nil {
		t.Fatal(err)
	}
	want := strings.Replace(strings.Replace(sample, "a &amp; b", "c &lt; d", 1), "\t<true/>\n", "\t<true/>\n\t<key>Key&lt;</key>\n\t<string>v&amp;</string>\n", 1)
	if string(out) != want {
		t.Errorf("got\n%s", out)
	}
	if _, err := f.SetText(f.Path("On"), "x"); err == nil {
		t.Error("text was set on <true/>")
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte(sample))
	f.Add([]byte("<plist><dict/></plist>"))
	f.Fuzz(func(t *testing.T, src []byte) {
		p, err := Parse(src)
		if err != nil || p.Root.Kind != Dict || p.Root.Element.Empty || p.Root.Get("ligare.x") != nil {
			return
		}
		in, err := p.Add(p.Root, "ligare.x", StringElement("1"))
		if err != nil {
			t.Fatal(err)
		}
		out, err := lex.Apply(src, in.Change())
		if err != nil {
			t.Fatal(err)
		}
		q, err := Parse(out)
		if err != nil || q.Path("ligare.x") == nil || len(q.Root.Entries) != len(p.Root.Entries)+1 {
			t.Fatalf("%q -> %q: %v", src, out, err)
		}
	})
}
