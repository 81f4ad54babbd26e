package plist

import (
	"bytes"
	"encoding/hex"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"unicode/utf16"
)

// wide writes text as UTF-16 with a mark.
func wide(text string, little bool) []byte {
	var b []byte
	for _, u := range utf16.Encode([]rune("\uFEFF" + text)) {
		if little {
			b = append(b, byte(u), byte(u>>8))
		} else {
			b = append(b, byte(u>>8), byte(u))
		}
	}
	return b
}

const all = `<plist version="1.0"><dict><key>Name</key><string>Hiv€log 🐝</string><key>Number</key><integer>-42</integer><key>On</key><true/>
<key>List</key><array><string>a</string><real>1.5</real></array><key>Raw</key><data>AAEC</data></dict></plist>`

func scalars(v *Value, at string, out map[string]string) {
	for _, e := range v.Entries {
		scalars(e.Value, at+"/"+e.Key, out)
	}
	for i, x := range v.Items {
		scalars(x, at+"/"+string(rune('0'+i)), out)
	}
	if v.Kind != Dict && v.Kind != Array {
		out[at] = v.Text
	}
}

// One list in every form gives the same values; the binary one is written by a tool of another house.
func TestEveryForm(t *testing.T) {
	dir := t.TempDir()
	xml := filepath.Join(dir, "x.plist")
	if err := os.WriteFile(xml, []byte(all), 0o644); err != nil {
		t.Fatal(err)
	}
	if out, err := exec.Command("plistutil", "-i", xml, "-o", filepath.Join(dir, "b.plist"), "-f", "bin").CombinedOutput(); err != nil {
		t.Fatalf("plistutil (apt-get install libplist-utils): %v %s", err, out)
	}
	binary, err := os.ReadFile(filepath.Join(dir, "b.plist"))
	if err != nil || !bytes.HasPrefix(binary, []byte("bplist00")) {
		t.Fatal("not binary", err)
	}
	old := `// comment
{ Name = "Hiv€log 🐝"; Number = "-42"; On = true; List = (a, 1.5, ); Raw = AAEC; }`
	want := map[string]string{"/Name": "Hiv€log 🐝", "/Number": "-42", "/On": "true", "/List/0": "a", "/List/1": "1.5", "/Raw": "AAEC"}
	for name, src := range map[string][]byte{"UTF-8": []byte(all), "with a mark": []byte("\xEF\xBB\xBF" + all), "UTF-16BE": wide(all, false), "UTF-16LE": wide(all, true), "binary": binary, "old": []byte(old)} {
		f, err := Parse(src)
		if err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		got := map[string]string{}
		scalars(f.Root, "", got)
		for k, v := range want {
			if got[k] != v {
				t.Errorf("%s: %s = %q", name, k, got[k])
			}
		}
		if l, _ := f.Position(f.Root.Get("Number")); (l == 0) != (f.Form == Binary) {
			t.Errorf("%s: line %d", name, l)
		}
		if f.Form == XML {
			if back := f.Encode(f.Doc.Src); !bytes.Equal(back, src) {
				t.Errorf("%s: written back it differs", name)
			}
		}
		if f.Form != XML {
			if _, err := f.Add(f.Root, "k", StringElement("v")); err == nil {
				t.Errorf("%s was edited as text", name)
			}
		}
	}
}

func TestHostileBinaryLists(t *testing.T) {
	trailer := func(objects string, offsets []byte, top byte) []byte {
		b := append([]byte("bplist00"), objects...)
		table := len(b)
		b = append(b, offsets...)
		tail := make([]byte, 32)
		tail[6], tail[7], tail[15], tail[23], tail[31] = 1, 1, byte(len(offsets)), top, byte(table)
		return append(b, tail...)
	}
	bomb := "" // eight levels of arrays, each holding the next one 14 times
	var at []byte
	for i := range 9 {
		at = append(at, byte(8+len(bomb)))
		if i == 8 {
			bomb += "\x09"
			break
		}
		bomb += "\xae" + strings.Repeat(string(rune(i+1)), 14)
	}
	for name, src := range map[string][]byte{
		"a dictionary in itself": trailer("\xd1\x01\x00\x51a", []byte{8, 11}, 0),
		"an array in itself":     trailer("\xa1\x00", []byte{8}, 0),
		"values without end":     trailer(bomb, at, 0),
		"an offset past the end": trailer("\xa1\x01", []byte{8, 200}, 0),
		"a reference to nothing": trailer("\xa1\x07", []byte{8}, 0),
		"a length past the end":  trailer("\x5f\x13\x7f\xff\xff\xff\xff\xff\xff\xff", []byte{8}, 0),
		"a key that is none":     trailer("\xd1\x01\x01\x10\x05", []byte{8, 11}, 0),
		"no such top":            trailer("\x09", []byte{8}, 9),
	} {
		if _, err := Parse(src); err == nil {
			t.Errorf("%s was read: %s", name, hex.EncodeToString(src))
		}
	}
	if f, err := Parse(trailer("\x09", []byte{8}, 0)); err != nil || f.Root.Kind != True {
		t.Errorf("a sound one: %v", err)
	}
}

func FuzzForms(f *testing.F) {
	f.Add([]byte(all))
	f.Add(wide(all, true))
	f.Add([]byte("{ a = (b, { c = d; }); }"))
	f.Add([]byte("bplist00\xd1\x01\x02\x51a\x09\x08\x0b\x0d\x00\x00\x00\x00\x00\x00\x01\x01\x00\x00\x00\x00\x00\x00\x00\x03\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x00\x0e"))
	f.Fuzz(func(t *testing.T, src []byte) {
		p, err := Parse(src)
		if err != nil {
			return
		}
		got := map[string]string{}
		scalars(p.Root, "", got)
		p.Position(p.Root)
		if p.Form == XML && p.Encoding == "UTF-8" && !bytes.Equal(p.Encode(p.Doc.Src), src) {
			t.Error("written back it differs")
		}
	})
}
