package chunk

import (
	"encoding/binary"
	"errors"
	"math"
	"reflect"
	"strings"
	"testing"

	"ligare/core/built/builttest"
)

var made = []string{"plain.apk", "old.apk", "sparse.apk"}

func TestDocuments(t *testing.T) {
	for _, pkg := range made {
		top, err := XML(builttest.Entry(t, pkg, "AndroidManifest.xml"))
		if err != nil {
			t.Fatal(err)
		}
		if top.Name != "manifest" || top.Plain("package").Value.String() != "example.larkfield.hivelog" || top.Attr("versionCode").Value.String() != "14" || top.Attr("absent") != nil {
			t.Errorf("%s: %+v", pkg, top)
		}
		app := top.Child("application")
		if app == nil || app.Attr("label").ID != 0x01010001 || !app.Attr("label").Value.IsReference() || app.Child("nothing") != nil {
			t.Errorf("%s: %+v", pkg, app)
		}
		if top.Line == 0 {
			t.Errorf("%s: no line", pkg)
		}
	}
}

func TestTables(t *testing.T) {
	for _, pkg := range made {
		tab, err := Read(builttest.Entry(t, pkg, "resources.arsc"))
		if err != nil {
			t.Fatal(err)
		}
		list, err := tab.List("string")
		if err != nil || len(list) == 0 || tab.Package() != "example.larkfield.hivelog" {
			t.Fatalf("%s: %v %v", pkg, list, err)
		}
		for _, r := range list {
			if tab.Name(r.ID) != "string/"+r.Name {
				t.Errorf("%s: %x is %s and %s", pkg, r.ID, tab.Name(r.ID), r.Name)
			}
			got, err := tab.Get(r.ID)
			if err != nil || len(got) == 0 {
				t.Errorf("%s: %s: %v", pkg, r.Name, err)
			}
			if r.Name == "app_name" && (len(got) != 3 || got[0].Config != "" || got[0].Text != "Hivelog") {
				t.Errorf("%s: %+v", pkg, got)
			}
		}
		if tab.Name(0x7fff0000) != "" || tab.Name(0x01010000) != "" {
			t.Errorf("%s names what it does not hold", pkg)
		}
	}
}

func TestValues(t *testing.T) {
	for _, c := range []struct {
		v    Value
		want string
	}{
		{Value{Type: Decimal, Data: 0xFFFFFFFB}, "-5"},
		{Value{Type: Hex, Data: 0x1F}, "0x1f"},
		{Value{Type: Boolean, Data: math.MaxUint32}, "true"},
		{Value{Type: Boolean}, "false"},
		{Value{Type: Float, Data: math.Float32bits(1.5)}, "1.5"},
		{Value{Type: Float, Data: math.Float32bits(987654321098765)}, "9.876543E14"},
		{Value{Type: Reference, Data: 0x7f010001}, "@0x7f010001"},
		{Value{Type: Reference}, "@null"},
		{Value{Type: Null, Data: 1}, "@empty"},
		{Value{Type: Attribute, Data: 0x01010001}, "?0x01010001"},
		{Value{Type: 0x1c, Data: 0xff00ff00}, "#ff00ff00"},
		{Value{Type: Dimension, Data: 12<<8 | 1}, "12dp"},
		{Value{Type: String, Text: "x"}, "x"},
		{Value{Type: 0x33, Data: 7}, "(type 0x33) 0x7"},
	} {
		if got := c.v.String(); got != c.want {
			t.Errorf("%s, and should be %s", got, c.want)
		}
	}
	if n, ok := (Value{Type: Decimal, Data: 7}).Int(); n != 7 || !ok {
		t.Error(n, ok)
	}
}

// loop is a table whose resources refer to each other.
type loop map[uint32]Value

func (l loop) Get(id uint32) ([]Configured, error) {
	if v, ok := l[id]; ok {
		return []Configured{{Value: v}}, nil
	}
	return nil, nil
}

func ref(id uint32) Value { return Value{Type: Reference, Data: id} }

func TestReferences(t *testing.T) {
	l := loop{0x7f010000: ref(0x7f010001), 0x7f010001: {Type: String, Text: "end"}, 0x7f010002: ref(0x7f010003), 0x7f010003: ref(0x7f010002), 0x7f010004: ref(0x7f010004), 0x7f010005: ref(0x7f990000), 0x7f010006: ref(0x01040000)}
	for id := range uint32(40) {
		l[0x7f020000+id] = ref(0x7f020001 + id)
	}
	for id, say := range map[uint32]string{0x7f010002: "back to itself", 0x7f010004: "back to itself", 0x7f010005: "leads nowhere", 0x7f020000: "back to itself"} {
		if _, err := Follow(l, ref(id)); err == nil || !strings.Contains(err.Error(), say) {
			t.Errorf("%x: %v", id, err)
		}
	}
	got, err := Follow(l, ref(0x7f010000))
	if err != nil || len(got) != 1 || got[0].Text != "end" {
		t.Errorf("%v %v", got, err)
	}
	if got, err = Follow(l, ref(0x7f010006)); err != nil || got[0].Data != 0x01040000 {
		t.Errorf("a resource of the platform stays a reference: %v %v", got, err)
	}
}

// fan is a table in which every resource has many outcomes, each a reference again.
type fan struct{}

func (fan) Get(id uint32) (out []Configured, err error) {
	for i := range 30 {
		out = append(out, Configured{Config: string(rune('a' + i)), Value: ref(id + 1)})
	}
	return out, nil
}

func TestManyOutcomesEnd(t *testing.T) {
	if _, err := Follow(fan{}, ref(0x7f010000)); err == nil {
		t.Error("a reference with a billion outcomes is followed")
	}
}

// Whatever single byte is changed or wherever the end is cut off, the answer is facts or an error with its place.
func TestEveryByteChanged(t *testing.T) {
	look := func(src []byte) {
		var e *Error
		if _, err := XML(src); err != nil && !errors.As(err, &e) {
			t.Fatalf("%v", err)
		}
		tab, err := Read(src)
		if err != nil {
			if !errors.As(err, &e) {
				t.Fatalf("%v", err)
			}
			return
		}
		for _, kind := range []string{"string", "xml"} {
			list, _ := tab.List(kind)
			for _, r := range list {
				_, _ = tab.Resolve(ref(r.ID))
			}
		}
	}
	for _, name := range []string{"AndroidManifest.xml", "resources.arsc"} {
		whole := builttest.Entry(t, "old.apk", name)
		for i := range whole {
			b := append([]byte(nil), whole...)
			for _, x := range []byte{0, 0xFF, b[i] ^ 0x80, b[i] + 1} {
				b[i] = x
				look(b)
			}
			look(whole[:i])
		}
		for i := 0; i+4 <= len(whole); i += 4 {
			b := append([]byte(nil), whole...)
			for _, x := range []uint32{0x7FFFFFFF, 0xFFFFFFF0, uint32(len(whole))} {
				binary.LittleEndian.PutUint32(b[i:], x)
				look(b)
			}
		}
	}
}

func TestQualifiers(t *testing.T) {
	config48 := func(set func(b []byte)) []byte {
		b := make([]byte, 64)
		binary.LittleEndian.PutUint32(b, 64)
		set(b)
		return b
	}
	for want, b := range map[string][]byte{
		"":          config48(func([]byte) {}),
		"de":        config48(func(b []byte) { copy(b[8:], "de") }),
		"en-rGB":    config48(func(b []byte) { copy(b[8:], "enGB") }),
		"b+sr+Latn": config48(func(b []byte) { copy(b[8:], "sr"); copy(b[36:], "Latn") }),
		"fil":       config48(func(b []byte) { b[8], b[9] = 0xAD, 0x05 }),
		"night-v31": config48(func(b []byte) { b[29], b[24] = 0x20, 31 }),
		"mcc310":    config48(func(b []byte) { b[4], b[5] = 0x36, 0x01 }),
		"sw600dp":   config48(func(b []byte) { b[30], b[31] = 0x58, 0x02 }),
		"xxhdpi":    config48(func(b []byte) { b[14], b[15] = 0xE0, 0x01 }),
		"x13.7":     config48(func(b []byte) { b[13] = 7 }),
	} {
		if got := config(b); got != want {
			t.Errorf("%q, and should be %q", got, want)
		}
	}
	if got := config(nil); got != "" {
		t.Errorf("%q", got)
	}
}

func FuzzTable(f *testing.F) {
	for _, pkg := range made {
		f.Add(builttest.Entry(f, pkg, "resources.arsc"))
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		tab, err := Read(b)
		if err != nil {
			return
		}
		a, err1 := tab.List("string")
		again, err2 := tab.List("string")
		if !reflect.DeepEqual(a, again) || (err1 == nil) != (err2 == nil) {
			t.Fatal("a table is not read the same twice")
		}
		for _, r := range a {
			if _, err := tab.Resolve(ref(r.ID)); err != nil {
				return
			}
		}
	})
}

func FuzzXML(f *testing.F) {
	for _, pkg := range made {
		f.Add(builttest.Entry(f, pkg, "AndroidManifest.xml"))
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		if top, err := XML(b); (top == nil) == (err == nil) {
			t.Fatal("neither a document nor an error, or both")
		}
	})
}
