package ident

import "testing"

func TestSplitURI(t *testing.T) {
	for in, want := range map[string]URI{
		"https://a.example/x?y":        {"https", "a.example", false},
		"HTTPS://me@a.example:8443":    {"https", "a.example", false},
		"example.hive:/back":           {"example.hive", "", false},
		"example.hive://back/x#":       {"example.hive", "back", true},
		"http://[::1]:80/x":            {"http", "[::1]", false},
		"https://a.example#x":          {"https", "a.example", true},
		"https://b.example/@a.example": {"https", "b.example", false},
	} {
		if got, ok := SplitURI(in); !ok || got != want {
			t.Errorf("%s: %+v %v", in, got, ok)
		}
	}
	for _, in := range []string{"", "x", "/x", "1a:x", ":x", "a b:x", "-a:x"} {
		if _, ok := SplitURI(in); ok {
			t.Errorf("%q has no scheme", in)
		}
	}
}
