package plist

import (
	"bytes"
	"os"
	"strings"
	"testing"
	"unicode/utf16"
)

// A binary file that a tool that is not ours wrote comes back as it was, and with an edit in its own form.
func TestBinaryComesBack(t *testing.T) {
	src, err := os.ReadFile("testdata/mixed.plist")
	if err != nil {
		t.Fatal(err)
	}
	text, back, err := Text(src)
	if err != nil {
		t.Fatal(err)
	}
	same, err := back(text)
	if err != nil || !bytes.Equal(same, src) {
		t.Errorf("%v: %d bytes became %d", err, len(src), len(same))
	}
	edited := strings.Replace(string(text), "\t<key>neg</key>", "\t<key>added</key>\n\t<string>größer</string>\n\t<key>neg</key>", 1)
	out, err := back([]byte(edited))
	if err != nil {
		t.Fatal(err)
	}
	f, err := Parse(out)
	if err != nil || f.Form != Binary || f.Path("added").Text != "größer" || f.Path("neg").Text != "-3" || len(f.Path("many").Items) != 300 || f.Path("list").Items[4].Kind != False {
		t.Errorf("%v %+v", err, f)
	}
	if _, err := back([]byte("<plist><dict><key>a</key><date>tomorrow</date></dict></plist>")); err == nil {
		t.Error("a date that is none was written")
	}
}

func TestTextOfOtherEncodings(t *testing.T) {
	doc := Head + "<dict>\n\t<key>a</key>\n\t<string>ä</string>\n</dict>\n</plist>\n"
	wide := []byte{0xFF, 0xFE}
	for _, u := range utf16.Encode([]rune(doc)) {
		wide = append(wide, byte(u), byte(u>>8))
	}
	text, back, err := Text(wide)
	if err != nil || string(text) != doc {
		t.Fatalf("%v %q", err, text)
	}
	if out, err := back(text); err != nil || !bytes.Equal(out, wide) {
		t.Errorf("%v %x", err, out)
	}
	if _, _, err := Text([]byte("{ a = b; }")); err == nil {
		t.Error("an old-style file was taken for one that is edited")
	}
}

func TestItemsByWhatTheyHold(t *testing.T) {
	src := []byte(Head + "<dict><key>CFBundleURLTypes</key><array><dict><key>CFBundleURLSchemes</key><array><string>a</string></array></dict><dict><key>CFBundleURLName</key><string>n/m</string></dict></array><key>Q</key><array><string>x</string><string>y</string></array></dict></plist>")
	f, err := Parse(src)
	if err != nil {
		t.Fatal(err)
	}
	for address, want := range map[string]string{
		"/CFBundleURLTypes" + ItemStep("CFBundleURLSchemes", "a"):                                             "<dict><key>CFBundleURLSchemes</key><array><string>a</string></array></dict>",
		"/CFBundleURLTypes" + ItemStep("CFBundleURLSchemes", "a") + "/CFBundleURLSchemes" + ItemStep("", "a"): "<string>a</string>",
		"/CFBundleURLTypes" + ItemStep("CFBundleURLName", "n/m"):                                              "<dict><key>CFBundleURLName</key><string>n/m</string></dict>",
		"/Q" + ItemStep("", "y"): "<string>y</string>",
		"/Q/0":                   "<string>x</string>",
	} {
		start, end, ok := f.Find(address)
		if !ok || string(src[start:end]) != want {
			t.Errorf("%s is %q", address, src[start:end])
		}
	}
	if _, _, ok := f.Find("/Q" + ItemStep("", "z")); ok {
		t.Error("an item that is not there was found")
	}
}

func FuzzBinaryText(f *testing.F) {
	src, err := os.ReadFile("testdata/mixed.plist")
	if err != nil {
		f.Fatal(err)
	}
	f.Add(src)
	f.Add([]byte(Empty))
	f.Fuzz(func(t *testing.T, src []byte) {
		text, back, err := Text(src)
		if err != nil {
			return
		}
		out, err := back(text)
		if err != nil {
			return // a value that the other form cannot hold is said
		}
		a, errA := Parse(src)
		b, errB := Parse(out)
		if errA != nil || errB != nil || a.Form != b.Form {
			t.Fatalf("%v %v", errA, errB)
		}
	})
}
