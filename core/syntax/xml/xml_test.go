package xml

import (
	"bytes"
	"strings"
	"testing"

	"ligare/core/syntax/lex"
)

var samples = []string{
	"", "<a/>", "<?xml version='1.0'?>\n<!DOCTYPE plist [ <!ENTITY x \">\"> ]>\n<a b='c' d=\"e&amp;f\"><!-- <b> --><c>t &lt; u</c><![CDATA[<x>]]></a>\n",
	"<a", "<a b", "<a b=", "<a b='", "</a>", "<a><b></a>", "<a></b></a>", "text", "<", "<a b=c/>", "<!--", "<![CDATA[", "<?", "<!D [", "\xEF\xBB\xBF<a>\r\n</a>", "<a b='1' b='2'/>", "<a/><b/>", "<a>\xff</a>", "</", "<a><", "<a </a>",
}

func TestEveryByteBelongsToOneLeaf(t *testing.T) {
	for _, s := range samples {
		verify(t, []byte(s))
	}
}

func verify(t *testing.T, src []byte) *Doc {
	t.Helper()
	d := Parse(src)
	if err := lex.Verify(src, d.Root); err != nil {
		t.Fatalf("%q: %v", src, err)
	}
	d.Root.Walk(func(n *lex.Node) bool {
		if !bytes.Equal(n.Render(src), src[n.Start:n.End]) {
			t.Fatalf("%q: %s does not render as read", src, n.Kind)
		}
		return true
	})
	return d
}

func FuzzParse(f *testing.F) {
	for _, s := range samples {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, src []byte) {
		d := verify(t, src)
		if d.Top == nil || d.Err() != nil || d.Top.Empty {
			return
		}
		in, err := d.Into(d.Top, "<ligare-x/>")
		if err != nil {
			t.Fatal(err)
		}
		out, err := lex.Apply(src, in.Change())
		if err != nil {
			t.Fatal(err)
		}
		e := Parse(out)
		if e.Err() != nil || e.Top.Child("ligare-x") == nil {
			t.Fatalf("%q -> %q: %v", src, out, e.Err())
		}
	})
}

func TestReading(t *testing.T) {
	d := Parse([]byte("<m xmlns:x='urn:a'>\n  <k x:name='v&#x41;' y=\"&quot;\">a<!-- no -->b<![CDATA[<c>]]>&amp;</k>\n</m>"))
	if err := d.Err(); err != nil {
		t.Fatal(err)
	}
	k := d.Top.Child("k")
	if a := k.AttrNS("urn:a", "name"); a == nil || a.Value != "vA" {
		t.Errorf("attribute by namespace: %v", a)
	}
	if got := d.Text(k); got != "ab<c>&" {
		t.Errorf("text: %q", got)
	}
	if p, ok := k.Prefix("urn:a"); !ok || p != "x" {
		t.Errorf("prefix: %q %v", p, ok)
	}
	if e, ok := d.Find("/m/k[@y='\"']"); !ok || e != k {
		t.Error("address was not found")
	}
	if _, ok := d.Find("/m/k[2]"); ok {
		t.Error("an address of nothing was found")
	}
}

func TestProblemsHavePlaces(t *testing.T) {
	for src, want := range map[string]string{
		"<a>\n<b></a>":        "2:1: <b> is not closed",
		"<a>\n":               "1:1: <a> is not closed",
		"<a b='1' b='2'/>":    "1:10: attribute b stands twice",
		"<a></a>\n<c/>":       "2:1: second document element <c>",
		"<!DOCTYPE html><p>x": "1:16: <p> is not closed",
		"<a></a> trailing":    "1:8: text outside the document element",
		"":                    "1:1: no document element",
	} {
		if err := Parse([]byte(src)).Err(); err == nil || err.Error() != want {
			t.Errorf("%q: got %v, want %s", src, err, want)
		}
	}
}

func TestInto(t *testing.T) {
	for _, c := range []struct{ src, want string }{
		{"<r>\n    <s/>\n</r>\n", "<r>\n    <s/>\n    <n/>\n</r>\n"},
		{"<r>\n\t<s/>\n\t<!-- c -->\n</r>", "<r>\n\t<s/>\n\t<!-- c -->\n\t<n/>\n</r>"},
		{"<r></r>", "<r>\n    <n/>\n</r>"},
		{"<r><s/></r>", "<r><s/>\n    <n/>\n</r>"},
		{"<r>\r\n  <s/>\r\n</r>", "<r>\r\n  <s/>\r\n  <n/>\r\n</r>"},
	} {
		d := Parse([]byte(c.src))
		in, err := d.Into(d.Top, "<n/>")
		if err != nil {
			t.Fatal(err)
		}
		out, err := lex.Apply(d.Src, in.Change())
		if err != nil || string(out) != c.want {
			t.Errorf("%q: got %q %v", c.src, out, err)
		}
	}
	d := Parse([]byte("<r/>"))
	if _, err := d.Into(d.Top, "x"); err == nil || !strings.Contains(err.Error(), "empty") {
		t.Errorf("an empty element: %v", err)
	}
}

func TestSetAttrKeepsQuotes(t *testing.T) {
	d := Parse([]byte("<a b='x' c=\"y\"/>"))
	out, err := lex.Apply(d.Src, d.SetAttr(d.Top.Attr("b"), "it's"), d.SetAttr(d.Top.Attr("c"), "\"&"))
	if err != nil || string(out) != "<a b='it&apos;s' c=\"&quot;&amp;\"/>" {
		t.Errorf("got %s %v", out, err)
	}
}
