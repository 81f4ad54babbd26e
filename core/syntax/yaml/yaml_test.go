package yaml

import (
	"strings"
	"testing"
)

func TestTaggedAssetsAndPackageLists(t *testing.T) {
	docs, err := Parse([]byte("\xEF\xBB\xBF%YAML 1.1\n%TAG !u! tag:example.engine,2011:\n--- !u!129 &1\nSettings:\n  productName: Beanstalk # a comment\n  ids:\n    Android: example.a\n    iPhone: example.b\n  list:\n  - one\n  - {two: 2}\n  empty:\n--- !u!1 &2 \nOther: x\n"))
	if err != nil || len(docs) != 2 {
		t.Fatalf("%d documents, %v", len(docs), err)
	}
	v := docs[0].Get("Settings", "ids", "iPhone")
	if v == nil || v.Text != "example.b" || v.Line != 8 || v.Column != 13 || !v.Scalar {
		t.Errorf("%+v", v)
	}
	list := docs[0].Get("Settings", "list")
	if len(list.Items) != 2 || list.Items[1].Get("two").Text != "2" || docs[0].Get("Settings", "nowhere", "deeper") != nil || docs[0].Get("Settings", "empty").Text != "" {
		t.Errorf("%+v", list)
	}
	if v := docs[0].Get("Settings", "productName"); v.Text != "Beanstalk" {
		t.Errorf("%+v", v)
	}
}

func TestOddYAML(t *testing.T) {
	for _, src := range []string{"a: [", "a: b: c", "\t- x", "a: *nowhere", strings.Repeat("[", 5000)} {
		if _, err := Parse([]byte(src)); err == nil {
			t.Errorf("%.20q was read", src)
		}
	}
	bomb := "a: &a [x]\nb: &b [*a, *a]\nc: &c [*b, *b]\n"
	if docs, err := Parse([]byte(bomb)); err != nil || len(docs[0].Get("c").Items[0].Items) != 0 {
		t.Errorf("aliases were followed: %v", err)
	}
	if docs, err := Parse(nil); err != nil || len(docs) != 0 {
		t.Errorf("nothing: %v %v", docs, err)
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte("a: {b: [c, d]}\n---\n- e\n"))
	f.Add([]byte("%YAML 1.1\n%TAG !u! tag:x,2011:\n--- !u!1 &1\na: b\n"))
	f.Fuzz(func(_ *testing.T, src []byte) {
		if docs, err := Parse(src); err == nil {
			for _, d := range docs {
				d.Get("a", "b")
			}
		}
	})
}
