package sheet

import (
	"reflect"
	"strings"
	"testing"

	"ligare/sheets"
)

func TestCleaningSaysWhatItTook(t *testing.T) {
	for raw, want := range map[string]Cleaned{
		"abc":                     {"abc", nil},
		"abc\n":                   {"abc", nil},
		" abc\t":                  {"abc", []string{"white space around it"}},
		"abc  ":                   {"abc", []string{"white space behind it"}},
		"\"abc\"":                 {"abc", []string{`quotes "…" around it`}},
		"“abc”":                   {"abc", []string{"quotes “…” around it"}},
		"abc”":                    {"abc", []string{"a curly quote ” behind it"}},
		"ab\u200bc":               {"abc", []string{"an invisible character (zero-width space, U+200B)"}},
		"\ufeffabc":               {"abc", []string{"an invisible character (byte-order mark, U+FEFF)"}},
		"'abc',":                  {"abc", []string{`a "," behind it`, "quotes '…' around it"}},
		"abc\u00a0":               {"abc", []string{"a blank that does not break (U+00A0)", "white space behind it"}},
		"ab\nc":                   {"abc", []string{"a line break inside"}},
		"a b":                     {"a b", nil},
		"-----BEGIN X-----\r\nYQ": {"-----BEGIN X-----\nYQ\n", nil},
	} {
		if got := Clean(raw); got.Value != want.Value || !reflect.DeepEqual(got.Took, want.Took) {
			t.Errorf("%q: %q %q", raw, got.Value, got.Took)
		}
	}
}

func FuzzClean(f *testing.F) {
	f.Add(" “a”\u200b ")
	f.Fuzz(func(t *testing.T, raw string) {
		once := Clean(raw)
		if again := Clean(once.Value); again.Value != once.Value || len(again.Took) > 0 {
			t.Fatalf("%q: %q, then %q %q", raw, once.Value, again.Value, again.Took)
		}
	})
}

func TestMisfits(t *testing.T) {
	all, err := Load(sheets.FS)
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct{ service, id, value, say string }{
		{"thornmill", "public-key", "tmk-" + strings.Repeat("a", 32), ""},
		{"thornmill", "public-key", "tmx-" + strings.Repeat("a", 48), "has the form of Messaging key, which must not ship"},
		{"thornmill", "messaging-key", "tmk-" + strings.Repeat("a", 32), "has the form of Public key"},
		{"thornmill", "public-key", "tmk-" + strings.Repeat("a", 30), "too short"},
		{"thornmill", "public-key", "tdc_" + strings.Repeat("a", 22), "of Treadmark"},
		{"thornmill", "public-key", "<YOUR KEY>", "placeholder"},
		{"thornmill", "public-key", "YOUR_KEY", "placeholder"},
		{"thornmill", "public-key", "", "empty"},
		{"thornmill", "public-key", "tmk-XYZ", "has not the form"},
		{"thornmill", "publik-key", "x", "issues no value"},
	} {
		say, remedy := all[c.service].Misfit(c.id, c.value, all)
		if c.say == "" && say != "" || !strings.Contains(say, c.say) || say != "" && remedy == "" {
			t.Errorf("%s %q: %q %q", c.id, c.value, say, remedy)
		}
	}
}

func TestWanting(t *testing.T) {
	s, err := Parse("whole.yaml", []byte(whole1(t)))
	if err != nil {
		t.Fatal(err)
	}
	had := map[string]bool{"counter-key": true, "office android example.a": true, "office android example.b": true, "file office-file android example.b": true}
	of := []Holder{{"android", "example.a"}, {"android", "example.b"}, {"ios", "example.a"}}
	for feature, want := range map[string][]string{
		"tracked": {"nettlepost.json (example.a)", "office (ios)", "postmaster"},
		"sealed":  {"nettlepost.json (example.a)", "nettlepost.permit (example.a)", "nettlepost.permit (example.b)", "nettlepost.permit (ios)", "office (ios)", "postmaster"},
	} {
		got := s.Wanting([]string{feature}, of, func(id string, h Holder) bool { return had[id+h.String()] })
		if !reflect.DeepEqual(got, want) {
			t.Errorf("%s: %q", feature, got)
		}
	}
}

func TestPlaceholders(t *testing.T) {
	for _, s := range []string{"YOUR_API_KEY", "your-app-id", "<app-id>", "[key]", "{{APP_KEY}}", "INSERT_KEY_HERE", "replace_me", "changeme", "TODO", "xxxxxxxx", "000000000", "%APP_KEY%", "__KEY__"} {
		if !Placeholder(s) {
			t.Errorf("%s is none", s)
		}
	}
	for _, s := range []string{"", "hivelog", "$(PRODUCT_NAME)", "${appId}", "@string/app_name", "My Hives", "bell-12345-67890", "<b>bold</b>", "your hives and mine", "[1, 2]", "https://your.example/", "0", "myapp", "my_queen_bee", "Put it down"} {
		if Placeholder(s) {
			t.Errorf("%s is one", s)
		}
	}
}
