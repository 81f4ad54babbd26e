package macho

import (
	"bytes"
	"encoding/binary"
	"reflect"
	"strings"
	"testing"

	"ligare/core/built/builttest"
)

func TestExecutables(t *testing.T) {
	for name, want := range map[string][]string{"Hivelog": {"x86_64", "arm64"}, "PlugIns/Share.appex/Share": {"arm64"}} {
		got, err := Read(bytes.NewReader(builttest.Entry(t, "app.ipa", "Payload/Hivelog.app/"+name)))
		if err != nil {
			t.Fatal(err)
		}
		var kinds []string
		for _, s := range got {
			kinds = append(kinds, s.Architecture)
			if !s.Signed || s.Identifier != "example.larkfield.hivelog" || s.Team != "TEAM123456" || s.Adhoc || !bytes.Contains(s.Entitlements, []byte("aps-environment")) || len(s.CMS) < 1000 {
				t.Errorf("%s: %+v", name, s)
			}
		}
		if !reflect.DeepEqual(kinds, want) || (name == "Hivelog") != (got[0].DER != nil) {
			t.Errorf("%s: %v", name, kinds)
		}
	}
}

// The signature's parts say what they say without the rest; one that is taken away is not there.
func TestAPartLess(t *testing.T) {
	b := builttest.Entry(t, "app.ipa", "Payload/Hivelog.app/Hivelog")
	for magic, check := range map[uint32]func(s Slice) bool{
		magicEntitlements: func(s Slice) bool { return s.Entitlements == nil && s.DER != nil },
		magicDER:          func(s Slice) bool { return s.DER == nil && s.Entitlements != nil },
		magicMessage:      func(s Slice) bool { return s.CMS == nil && s.Identifier != "" },
		magicDirectory:    func(s Slice) bool { return s.Identifier == "" && s.Team == "" && s.Signed },
	} {
		x := bytes.ReplaceAll(b, binary.BigEndian.AppendUint32(nil, magic), []byte{1, 2, 3, 4})
		got, err := Read(bytes.NewReader(x))
		if err != nil || len(got) != 2 || !check(got[0]) || !check(got[1]) {
			t.Errorf("without %x: %v %+v", magic, err, got)
		}
	}
}

func TestBinaryEntitlements(t *testing.T) {
	got, err := Read(bytes.NewReader(builttest.Entry(t, "app.ipa", "Payload/Hivelog.app/Hivelog")))
	if err != nil {
		t.Fatal(err)
	}
	v, err := Entitlements(got[0].DER)
	want := map[string]any{"application-identifier": "TEAM123456.example.larkfield.hivelog", "aps-environment": "production", "com.apple.developer.team-identifier": "TEAM123456",
		"com.apple.developer.associated-domains": []any{"applinks:hivelog.larkfield.example"}, "get-task-allow": false}
	if err != nil || !reflect.DeepEqual(v, want) {
		t.Errorf("%v %v", v, err)
	}
	// The first version has a SET; numbers and dictionaries inside.
	first := []byte{0x70, 28, 2, 1, 1, 0x31, 23, 0x30, 6, 0x0c, 1, 'n', 2, 1, 7, 0x30, 13, 0x0c, 1, 'd', 0xb0, 8, 0x30, 6, 0x0c, 1, 'x', 1, 1, 0xff}
	if v, err := Entitlements(first); err != nil || !reflect.DeepEqual(v, map[string]any{"n": "7", "d": map[string]any{"x": true}}) {
		t.Errorf("%v %v", v, err)
	}
	for name, b := range map[string][]byte{"nothing": nil, "something else": {0x30, 0}, "cut off": first[:20], "twice": {0x70, 21, 2, 1, 1, 0xb0, 16, 0x30, 6, 0x0c, 1, 'n', 2, 1, 7, 0x30, 6, 0x0c, 1, 'n', 2, 1, 7},
		"of an unknown kind": {0x70, 13, 2, 1, 1, 0xb0, 8, 0x30, 6, 0x0c, 1, 'n', 4, 1, 7}, "no dictionary": {0x70, 6, 2, 1, 1, 2, 1, 1}, "deep": deep()} {
		if _, err := Entitlements(b); err == nil {
			t.Errorf("%s: entitlements", name)
		}
	}
}

func deep() []byte {
	b := []byte{2, 1, 1}
	for range 40 {
		b = append([]byte{0x30, byte(len(b))}, b...)
	}
	b = append([]byte{0x0c, 1, 'n'}, b...)
	b = append([]byte{0x30, byte(len(b))}, b...)
	b = append([]byte{2, 1, 1, 0xb0, 0x81, byte(len(b))}, b...)
	return append([]byte{0x70, 0x81, byte(len(b))}, b...)
}

// Whatever is cut off or changed in the header and the signature, the answer is facts or an error.
func TestEveryByteOfAnExecutable(t *testing.T) {
	whole := builttest.Entry(t, "app.ipa", "Payload/Hivelog.app/PlugIns/Share.appex/Share")
	at := bytes.Index(whole, binary.BigEndian.AppendUint32(nil, magicSuper))
	ranges := [][2]int{{0, 1200}, {at, at + 4096}}
	for _, r := range ranges {
		for i := r[0]; i < min(r[1], len(whole)); i++ {
			b := bytes.Clone(whole)
			for _, x := range []byte{0, 0xFF, b[i] ^ 0x80} {
				b[i] = x
				if _, err := Read(bytes.NewReader(b)); err != nil && len(err.Error()) < 10 {
					t.Fatal(err)
				}
			}
		}
	}
	for _, n := range []int{0, 1, 4, 7, 8, 20, 31, 32, 100, 1000, at, at + 4, at + 11, at + 12, at + 30} {
		if _, err := Read(bytes.NewReader(whole[:n])); err == nil || !strings.Contains(err.Error(), "cut off") {
			t.Errorf("%d bytes: %v", n, err)
		}
	}
}

func FuzzRead(f *testing.F) {
	f.Add(builttest.Entry(f, "app.ipa", "Payload/Hivelog.app/PlugIns/Share.appex/Share"))
	f.Add(builttest.Entry(f, "app.ipa", "Payload/Hivelog.app/Hivelog"))
	f.Add([]byte{0xca, 0xfe, 0xba, 0xbe, 0, 0, 0, 1})
	f.Fuzz(func(t *testing.T, b []byte) {
		list, err := Read(bytes.NewReader(b))
		if err != nil {
			return
		}
		for _, s := range list {
			if v, err := Entitlements(s.DER); (v == nil) == (err == nil) {
				t.Fatal("neither entitlements nor an error")
			}
		}
	})
}
