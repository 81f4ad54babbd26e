package plist

import (
	"bytes"
	"encoding/base64"
	"encoding/binary"
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"
	"unicode/utf16"

	"ligare/core/syntax/lex"
	"ligare/core/syntax/xml"
)

// Text gives a property list as the text that edits are made on, its XML form in UTF-8, and the way back to the file's
// own form and encoding. Old-style files have none: they are read only.
func Text(src []byte) (text []byte, back func([]byte) ([]byte, error), err error) {
	f, err := Parse(src)
	switch {
	case err != nil:
		return nil, nil, err
	case f.Form == OldStyle:
		return nil, nil, errNotText
	case f.Form == XML:
		return f.Doc.Src, func(t []byte) ([]byte, error) { return f.Encode(t), nil }, nil
	}
	var b bytes.Buffer
	b.WriteString(Head)
	f.Root.write(&b, "")
	b.WriteString("\n</plist>\n")
	return b.Bytes(), func(t []byte) ([]byte, error) {
		x, err := Parse(t)
		if err != nil {
			return nil, err
		}
		return x.Binary()
	}, nil
}

// Head is what stands before the root value of an XML property list.
const Head = "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<!DOCTYPE plist PUBLIC \"-//Apple//DTD PLIST 1.0//EN\" \"http://www.apple.com/DTDs/PropertyList-1.0.dtd\">\n<plist version=\"1.0\">\n"

// Empty is a property list whose root is a dictionary without entries.
const Empty = Head + "<dict>\n</dict>\n</plist>\n"

// write gives a value as elements, one a line, indented by tabs as the IDE does.
func (v *Value) write(b *bytes.Buffer, indent string) {
	b.WriteString(indent)
	switch v.Kind {
	case Dict:
		b.WriteString("<dict>\n")
		for _, e := range v.Entries {
			fmt.Fprintf(b, "%s\t<key>%s</key>\n", indent, xml.Encode(e.Key))
			e.Value.write(b, indent+"\t")
			b.WriteByte('\n')
		}
		b.WriteString(indent + "</dict>")
	case Array:
		b.WriteString("<array>\n")
		for _, i := range v.Items {
			i.write(b, indent+"\t")
			b.WriteByte('\n')
		}
		b.WriteString(indent + "</array>")
	case True, False:
		fmt.Fprintf(b, "<%s/>", v.Kind)
	default:
		fmt.Fprintf(b, "<%s>%s</%s>", v.Kind, xml.Encode(v.Text), v.Kind)
	}
}

// Binary writes the values in the binary form (bplist00, as documented in Apple's CFBinaryPList.c): equal scalars once,
// a container before its keys and its keys before its values, lengths and references as short as they go.
func (f *File) Binary() ([]byte, error) {
	w := &binaryWriter{seen: map[string]int{}}
	if _, err := w.add(f.Root); err != nil {
		return nil, err
	}
	return w.bytes(), nil
}

type binaryObject struct {
	head []byte // marker, length and, of a scalar, its bytes
	refs []int
}

type binaryWriter struct {
	objects []binaryObject
	seen    map[string]int // scalar -> object
}

func (w *binaryWriter) scalar(raw []byte) int {
	if i, ok := w.seen[string(raw)]; ok {
		return i
	}
	w.seen[string(raw)] = len(w.objects)
	w.objects = append(w.objects, binaryObject{head: raw})
	return len(w.objects) - 1
}

func (w *binaryWriter) add(v *Value) (int, error) {
	if v.Kind != Dict && v.Kind != Array {
		raw, err := scalarBytes(v)
		if err != nil {
			return 0, err
		}
		return w.scalar(raw), nil
	}
	at := len(w.objects)
	w.objects = append(w.objects, binaryObject{})
	var refs []int
	for _, e := range v.Entries {
		refs = append(refs, w.scalar(stringBytes(e.Key)))
	}
	n, marker := len(v.Items), byte(0xA0)
	list := v.Items
	if v.Kind == Dict {
		n, marker, list = len(v.Entries), 0xD0, nil
		for _, e := range v.Entries {
			list = append(list, e.Value)
		}
	}
	for _, x := range list {
		i, err := w.add(x)
		if err != nil {
			return 0, err
		}
		refs = append(refs, i)
	}
	w.objects[at] = binaryObject{head: marked(marker, n), refs: refs}
	return at, nil
}

func marked(marker byte, n int) []byte {
	if n < 15 {
		return []byte{marker | byte(n)}
	}
	return append([]byte{marker | 15}, integerBytes(int64(n))...)
}

func integerBytes(n int64) []byte {
	switch {
	case n >= 0 && n <= math.MaxUint8:
		return []byte{0x10, byte(n)}
	case n >= 0 && n <= math.MaxUint16:
		return binary.BigEndian.AppendUint16([]byte{0x11}, uint16(n))
	case n >= 0 && n <= math.MaxUint32:
		return binary.BigEndian.AppendUint32([]byte{0x12}, uint32(n))
	}
	return binary.BigEndian.AppendUint64([]byte{0x13}, uint64(n))
}

func stringBytes(s string) []byte {
	if strings.IndexFunc(s, func(r rune) bool { return r > 0x7F }) < 0 {
		return append(marked(0x50, len(s)), s...)
	}
	units := utf16.Encode([]rune(s))
	out := marked(0x60, len(units))
	for _, u := range units {
		out = binary.BigEndian.AppendUint16(out, u)
	}
	return out
}

func scalarBytes(v *Value) ([]byte, error) {
	bad := func(err error) error { return fmt.Errorf("%s %q cannot be written: %w", v.Kind, v.Text, err) }
	switch v.Kind {
	case String:
		return stringBytes(v.Text), nil
	case True:
		return []byte{0x09}, nil
	case False:
		return []byte{0x08}, nil
	case Integer:
		n, err := strconv.ParseInt(strings.TrimSpace(v.Text), 0, 64)
		if err != nil {
			return nil, bad(err)
		}
		return integerBytes(n), nil
	case Real:
		x, err := strconv.ParseFloat(strings.TrimSpace(v.Text), 64)
		if err != nil {
			return nil, bad(err)
		}
		return binary.BigEndian.AppendUint64([]byte{0x23}, math.Float64bits(x)), nil
	case Date:
		t, err := time.Parse(time.RFC3339, strings.TrimSpace(v.Text))
		if err != nil {
			return nil, bad(err)
		}
		return binary.BigEndian.AppendUint64([]byte{0x33}, math.Float64bits(t.Sub(time.Date(2001, 1, 1, 0, 0, 0, 0, time.UTC)).Seconds())), nil
	}
	raw, err := base64.StdEncoding.DecodeString(strings.Join(strings.Fields(v.Text), ""))
	if err != nil {
		return nil, bad(err)
	}
	return append(marked(0x40, len(raw)), raw...), nil
}

// sized appends a number in so many bytes.
func sized(out []byte, n, size int) []byte {
	for i := size - 1; i >= 0; i-- {
		out = append(out, byte(n>>(8*i)))
	}
	return out
}

func width(n int) int {
	for _, size := range []int{1, 2, 4} {
		if n < 1<<(8*size) {
			return size
		}
	}
	return 8
}

func (w *binaryWriter) bytes() []byte {
	out := []byte("bplist00")
	refSize := width(len(w.objects))
	var offsets []int
	for _, o := range w.objects {
		offsets = append(offsets, len(out))
		out = append(out, o.head...)
		for _, r := range o.refs {
			out = sized(out, r, refSize)
		}
	}
	table := len(out)
	offsetSize := width(table)
	for _, o := range offsets {
		out = sized(out, o, offsetSize)
	}
	out = append(out, 0, 0, 0, 0, 0, 0, byte(offsetSize), byte(refSize))
	for _, n := range []int{len(w.objects), 0, table} {
		out = binary.BigEndian.AppendUint64(out, uint64(n))
	}
	return out
}

// Item gives the first item of a list that an address step [KEY=VALUE] means: a dictionary whose key holds the text, or
// a list with it; [=VALUE] means a text of its own.
func (v *Value) Item(key, text string) *Value {
	for _, i := range v.Items {
		at := i
		if key != "" {
			at = i.Get(key)
		}
		if at == nil {
			continue
		}
		if at.Kind != Dict && at.Kind != Array && at.Text == text {
			return i
		}
		for _, x := range at.Items {
			if x.Kind != Dict && x.Kind != Array && x.Text == text {
				return i
			}
		}
	}
	return nil
}

// Step writes one step of an address.
func Step(key string) string {
	return "/" + strings.ReplaceAll(strings.ReplaceAll(key, "~", "~0"), "/", "~1")
}

// ItemStep writes the step that means an item of a list by what it holds.
func ItemStep(key, text string) string { return Step("[" + key + "=" + text + "]") }

// Into inserts a value as the last item of a list. The value is given as elements, already encoded.
func (f *File) Into(list *Value, value string) (lex.Insertion, error) {
	if f.Form != XML {
		return lex.Insertion{}, errNotText
	}
	if list.Kind != Array {
		return lex.Insertion{}, f.at(list.Element, "<%s> is not a list", list.Kind)
	}
	return f.Doc.Into(list.Element, value)
}
