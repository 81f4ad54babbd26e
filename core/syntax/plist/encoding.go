package plist

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"strings"
	"unicode/utf16"

	"ligare/core/syntax/pbxproj"
)

// Form is the way a property list is written.
type Form string

// The forms a property list comes in.
const (
	XML      Form = "XML"
	Binary   Form = "binary"
	OldStyle Form = "old-style text"
)

// decode gives the text of a file: UTF-16 with a mark is made UTF-8.
func decode(src []byte) (text []byte, encoding string, err error) {
	var order binary.ByteOrder
	switch {
	case bytes.HasPrefix(src, []byte{0xFE, 0xFF}):
		order, encoding = binary.BigEndian, "UTF-16BE"
	case bytes.HasPrefix(src, []byte{0xFF, 0xFE}):
		order, encoding = binary.LittleEndian, "UTF-16LE"
	default:
		return src, "UTF-8", nil
	}
	if len(src)%2 != 0 {
		return nil, encoding, fmt.Errorf("a property list in %s with an odd number of bytes: it is cut short", encoding)
	}
	units := make([]uint16, 0, len(src)/2-1)
	for i := 2; i < len(src); i += 2 {
		units = append(units, order.Uint16(src[i:]))
	}
	return []byte(string(utf16.Decode(units))), encoding, nil
}

// Encode gives the bytes of a file for changed text, in the encoding the file was read in.
func (f *File) Encode(text []byte) []byte {
	var order binary.AppendByteOrder
	switch f.Encoding {
	case "UTF-16BE":
		order = binary.BigEndian
	case "UTF-16LE":
		order = binary.LittleEndian
	default:
		return text
	}
	out := order.AppendUint16(nil, 0xFEFF)
	for _, u := range utf16.Encode([]rune(string(text))) {
		out = order.AppendUint16(out, u)
	}
	return out
}

// oldStyle reads a file in the language of project files: { key = value; }.
func oldStyle(f *File, text []byte) error {
	v, err := pbxproj.OldStyle(text)
	if err != nil {
		return err
	}
	f.text = text
	f.Root = fromOldStyle(v)
	return nil
}

func fromOldStyle(v *pbxproj.Value) *Value {
	out := &Value{Kind: String, Text: v.Text, at: v.Start}
	switch {
	case v.Dict != nil:
		out.Kind = Dict
		for _, e := range v.Dict.Entries {
			out.Entries = append(out.Entries, Entry{Key: e.Key, Value: fromOldStyle(e.Value)})
		}
	case v.List != nil:
		out.Kind = Array
		for _, i := range v.List.Items {
			out.Items = append(out.Items, fromOldStyle(i.Value))
		}
	case strings.HasPrefix(v.Text, "<"):
		out.Kind = Data
	}
	return out
}

// Position gives the line and column of a value's text; 0, 0 in a binary file, which has no lines.
func (f *File) Position(v *Value) (line, column int) {
	switch {
	case v == nil || f.Form == Binary:
		return 0, 0
	case f.Form == OldStyle:
		return f.lines.Position(f.text, v.at)
	}
	at := v.Element.OpenEnd
	if v.Kind == Dict || v.Kind == Array || v.Element.Empty {
		at = v.Element.Node.Start
	}
	return f.Doc.At(at)
}

var errNotText = errors.New("only XML property lists in UTF-8 or UTF-16 are edited as text")
