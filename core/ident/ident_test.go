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
		{"example.hive1og", "example.hivelog", "look alike"}, {"example.larkfield.hivelog", "com.example.hivelog", "template"}, {"com.example.a", "com.example.b", "one character"},
		{"example.atta", "example.ata", "one character is missing: 't', at character 11"}, {"example.ata", "example.atta", "one character too many: 't', at character 11"}, {"example.larkfield.a", "example.larkfiled.a", `two characters are exchanged: "le" where "el"`},
		{"abcd", "abcde", "one character too many: 'e' at the end"}, {"abcd", "bacd", "exchanged"}, {"abcd", "abdd e", "another value"},
		{"abc", "xyz", "another value"}, {"abc", "", "nothing is here"},
	} {
		if got := Difference(c.want, c.got); c.say == "" && got != "" || !strings.Contains(got, c.say) {
			t.Errorf("%q against %q: %q", c.want, c.got, got)
		}
	}
}

func TestSchemesAndClasses(t *testing.T) {
	for in, want := range map[string]string{"hivelog": "", "example.larkfield.hivelog": "", "com.x+y-1": "", "": "empty", "Hivelog": "capital", "hive log": "a space", "1hive": "begin with a letter",
		"hivelog://": "without the colon", "hive_log": "not allowed", "hi\u200bve": "invisible"} {
		if err := CheckScheme(in); want == "" && err != nil || want != "" && (err == nil || !strings.Contains(err.Error(), want)) {
			t.Errorf("scheme %q: %v", in, err)
		}
	}
	for in, want := range map[string]string{"example.larkfield.Main": "", "a.B$C": "", "a.ß_1": "", ".Main": "relative", "Main": "no package", "a..B": "empty segment", "a.new.B": "word of the language", "a.1B": "not allowed", "a.B-C": "not allowed"} {
		if err := CheckClass(in); want == "" && err != nil || want != "" && (err == nil || !strings.Contains(err.Error(), want)) {
			t.Errorf("class %q: %v", in, err)
		}
	}
	for in, want := range map[string]bool{"com.example.app": true, "COM.Example.app": true, "com.examples.app": false, "example.larkfield.hivelog": false, "com.companyname.mauiapp": true} {
		if Template(in) != want {
			t.Errorf("template %q: %v", in, !want)
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

func TestNear(t *testing.T) {
	for _, c := range []struct {
		want, got string
		near      bool
	}{
		{"treadmark_app", "treadmark_ap", true}, {"treadmark_app", "tredamark_app", true}, {"treadmark_app", "Treadmark_App", true}, {"treadmark_app", "treadmark-app", true},
		{"treadmark_app", "treadmark_key", false}, {"treadmark_app", "treadmark_app", false}, {"app", "ape", true}, {"app", "key", false}, {"abcdef", "badcfe", false}, {"abcdefgh", "xbcdefgy", true},
		{"", "a", false}, {"GatepostClient", "GatepostClientt", true}, {"android.permission.CAMERA", "android.permissions.CAMERA", true},
	} {
		if got := Near(c.want, c.got); got != c.near {
			t.Errorf("%q and %q: %v", c.want, c.got, got)
		}
	}
}
