package json

import (
	"encoding/json"
	"strings"
	"testing"

	"ligare/core/syntax/lex"
)

func TestPointers(t *testing.T) {
	f, err := Parse([]byte(`{"a": [{"id": "x"}, {"id": "yA"}], "b/c": -1.5e3, "d~": {"e": null}}`))
	if err != nil {
		t.Fatal(err)
	}
	for p, want := range map[string]string{"/a/0/id": "x", "/a/*/id": "x yA", "/b~1c": "-1.5e3", "/d~0/e": "null", "/none": "", "/a/9": ""} {
		var got []string
		for _, v := range f.At(p) {
			got = append(got, v.Text)
		}
		if strings.Join(got, " ") != want {
			t.Errorf("%s: got %q, want %q", p, got, want)
		}
	}
}

func TestErrorsHavePlaces(t *testing.T) {
	for src, want := range map[string]string{
		"":                  "the file is empty",
		"{":                 "'}' is missing",
		"{\"a\" 1}":         "1:2: a colon",
		"{\"a\":1 \"b\":2}": "1:8: a comma is missing",
		"{\n a: 1}":         "2:2: a name in quotes",
		"[1,,2]":            "1:4: a value is expected before the comma",
		"<html>":            "stands where a value is expected",
		"{} x":              "1:4: \"x\" stands after the document",
		"[tru]":             "is not a JSON value",
		"[01]":              "is not a JSON value",
		"[\"a\\q\"]":        "string:",
	} {
		if _, err := Parse([]byte(src)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: got %v, want %s", src, err, want)
		}
	}
	f, err := Parse([]byte("{ // c\n\"a\":1,\n\"a\":2,}"))
	if err != nil || len(f.Problems) != 3 || f.Root.Get("a").Text != "2" {
		t.Errorf("lenient reading: %v %v", f, err)
	}
}

func FuzzParse(f *testing.F) {
	for _, s := range []string{`{"a":[1,2,{"b":null}],"c":"d\n\u00e9"}`, `[`, `"x"`, `{"a":1,}`, `[1 2]`} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, src []byte) {
		got, err := Parse(src)
		if json.Valid(src) && err != nil && !strings.Contains(err.Error(), "nest deeper") {
			t.Fatalf("%q is JSON and was refused: %v", src, err)
		}
		if err != nil {
			return
		}
		if e := lex.Verify(src, got.Tree.Root); e != nil {
			t.Fatal(e)
		}
		if len(got.Problems) == 0 && !json.Valid(src) && !strings.HasPrefix(string(src), "\ufeff") {
			t.Fatalf("%q is not JSON and was read without a word", src)
		}
		out, err := lex.Apply(src, got.Set(got.Root, `"n"`))
		if err != nil {
			t.Fatal(err)
		}
		if again, err := Parse(out); err != nil || again.Root.Text != "n" {
			t.Fatalf("%q -> %q: %v", src, out, err)
		}
	})
}
