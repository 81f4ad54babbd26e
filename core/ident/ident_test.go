package ident

import (
	"strings"
	"testing"
)

func TestGrammars(t *testing.T) {
	for _, c := range []struct {
		p        Platform
		id, want string
	}{
		{Android, "example.larkfield.hivelog", ""}, {Android, "example.a_b", ""}, {IOS, "example.a-b", ""}, {IOS, "single", ""},
		{Android, "example.a-b", "hyphen"}, {IOS, "example.a_b", "underscore"}, {Android, "single", "two segments"},
		{Android, "example.1a", "begin with a letter"}, {IOS, "a..b", "empty segment"}, {Android, "", "empty"},
		{IOS, "example.a b", "a space"}, {Android, "example.\u200bx", "invisible character (U+200B)"}, {IOS, "exаmple.x", "U+0430"},
	} {
		err := Check(c.p, c.id)
		if c.want == "" && err != nil || c.want != "" && (err == nil || !strings.Contains(err.Error(), c.want)) {
			t.Errorf("%s %q: got %v, want %q", c.p, c.id, err, c.want)
		}
	}
}

func TestDifference(t *testing.T) {
	for _, c := range []struct{ want, got, say string }{
		{"a", "a", ""}, {"example.Hive", "example.hive", "only letter case differs: 'h' where 'H' is expected, at character 9"},
		{"abc", "ab\u200bc", "U+200B"}, {"abc", " abc\n", "white space"}, {"abc", "“abc”", "quotation marks"},
		{"a.b-c", "a.b_c", "hyphen and underscore"}, {"a.b", "a.b.debug", `suffix ".debug" is added`}, {"a.b.debug", "a.b", "is missing"},
		{"example", "exаmple", "only looks like"}, {"abcdef", "abcd", "last 2 characters are missing"}, {"abcd", "abxd", "one character differs"},
		{"abc", "xyz", "another value"}, {"abc", "", "nothing is here"},
	} {
		if got := Difference(c.want, c.got); c.say == "" && got != "" || !strings.Contains(got, c.say) {
			t.Errorf("%q against %q: %q", c.want, c.got, got)
		}
	}
}

func TestMaskShowsTooLittleToUse(t *testing.T) {
	for _, v := range []string{"", "short", "abcdefghijklmnop"} {
		if m := Mask(v); len(v) > 5 && strings.Contains(m, v[3:len(v)-2]) {
			t.Errorf("%q -> %q", v, m)
		}
	}
}
