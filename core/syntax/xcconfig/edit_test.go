package xcconfig

import (
	"testing"

	"ligare/core/syntax/lex"
)

func TestIncludesAndSettingsAreFound(t *testing.T) {
	for src, want := range map[string]string{
		"// Debug\n// more\nA = 1 // why\n#include \"b.xcconfig\" // b\n": "// Debug\n// more\n#include \"x/y.xcconfig\"\nA = 1 // why\n#include \"b.xcconfig\" // b\n",
		"":                           "#include \"x/y.xcconfig\"\n",
		"\xEF\xBB\xBFA = 1\r\nB = 2": "\xEF\xBB\xBF#include \"x/y.xcconfig\"\r\nA = 1\r\nB = 2",
		"// only":                    "// only\n#include \"x/y.xcconfig\"",
	} {
		in := AddInclude([]byte(src), "x/y.xcconfig")
		out, err := lex.Apply([]byte(src), in.Change())
		if err != nil || string(out) != want {
			t.Errorf("%q became %q", src, out)
		}
		start, end, ok := Find(out, "include(x/y.xcconfig)")
		if at := in.Offset + len(in.Before); !ok || start != at || end != at+len(in.Text) {
			t.Errorf("%q: found at %d-%d", out, start, end)
		}
	}
	src := []byte("A = 1\n  IPHONEOS_DEPLOYMENT_TARGET = 12.0 // low\nURL = https://x\nA = 2")
	for address, want := range map[string]string{"setting(IPHONEOS_DEPLOYMENT_TARGET)": "IPHONEOS_DEPLOYMENT_TARGET = 12.0", "setting(A)": "A = 2"} {
		start, end, ok := Find(src, address)
		if !ok || string(src[start:end]) != want {
			t.Errorf("%s: %q", address, src[start:end])
		}
	}
	if _, _, ok := Find(src, "include(z)"); ok {
		t.Error("an include that is not there was found")
	}
}
