package macho

import (
	"encoding/asn1"
	"errors"
	"fmt"
	"unicode/utf8"
)

// Entitlements reads entitlements in their binary form, which phones believe since iOS 15: in an [APPLICATION 16] a version
// and a dictionary. A dictionary is a [CONTEXT 16], or a SET in the first version, of pairs of a UTF-8 string and a value;
// a value is a BOOLEAN, an INTEGER, a UTF8String, a SEQUENCE of values or a dictionary. No document of the platform's says
// so; observed on signed executables.
func Entitlements(der []byte) (map[string]any, error) {
	var top asn1.RawValue
	if rest, err := asn1.Unmarshal(der, &top); err != nil || len(rest) > 0 || top.Class != asn1.ClassApplication || top.Tag != 16 {
		return nil, errors.New("they are no entitlements in binary form")
	}
	var version int
	rest, err := asn1.Unmarshal(top.Bytes, &version)
	if err != nil {
		return nil, errors.New("their version is cut off")
	}
	var body asn1.RawValue
	if rest, err = asn1.Unmarshal(rest, &body); err != nil || len(rest) > 0 {
		return nil, errors.New("their dictionary is cut off")
	}
	v, err := entitlement(body, 0)
	if err != nil {
		return nil, err
	}
	out, ok := v.(map[string]any)
	if !ok {
		return nil, errors.New("they hold no dictionary")
	}
	return out, nil
}

// deepest is how deep values may stand in each other.
const deepest = 32

var errValue = errors.New("a value of them is cut off")

func entitlement(v asn1.RawValue, depth int) (any, error) {
	if depth > deepest {
		return nil, fmt.Errorf("their values stand in each other more than %d deep", deepest)
	}
	switch {
	case v.Class == asn1.ClassContextSpecific && v.Tag == 16 || v.Class == asn1.ClassUniversal && v.Tag == asn1.TagSet:
		return entitlementDict(v.Bytes, depth)
	case v.Class != asn1.ClassUniversal:
		return nil, fmt.Errorf("a value of them is of a kind that is not known here (class %d, tag %d)", v.Class, v.Tag)
	}
	switch v.Tag {
	case asn1.TagBoolean:
		if len(v.Bytes) != 1 {
			return nil, errValue
		}
		return v.Bytes[0] != 0, nil
	case asn1.TagInteger:
		var n int64
		if _, err := asn1.Unmarshal(v.FullBytes, &n); err != nil {
			return nil, errValue
		}
		return fmt.Sprint(n), nil
	case asn1.TagUTF8String:
		if !utf8.Valid(v.Bytes) {
			return nil, errors.New("a text of them is no UTF-8")
		}
		return string(v.Bytes), nil
	case asn1.TagSequence:
		out := []any{}
		for rest := v.Bytes; len(rest) > 0; {
			var item asn1.RawValue
			var err error
			if rest, err = asn1.Unmarshal(rest, &item); err != nil {
				return nil, errValue
			}
			x, err := entitlement(item, depth+1)
			if err != nil {
				return nil, err
			}
			out = append(out, x)
		}
		return out, nil
	}
	return nil, fmt.Errorf("a value of them is of a kind that is not known here (tag %d)", v.Tag)
}

func entitlementDict(b []byte, depth int) (map[string]any, error) {
	out := map[string]any{}
	for len(b) > 0 {
		var pair, value asn1.RawValue
		var key string
		var err error
		if b, err = asn1.Unmarshal(b, &pair); err != nil {
			return nil, errValue
		}
		rest, err := asn1.UnmarshalWithParams(pair.Bytes, &key, "utf8")
		if err != nil {
			return nil, errValue
		}
		if rest, err = asn1.Unmarshal(rest, &value); err != nil || len(rest) > 0 {
			return nil, errValue
		}
		if _, twice := out[key]; twice {
			return nil, fmt.Errorf("they hold %s twice", key)
		}
		if out[key], err = entitlement(value, depth+1); err != nil {
			return nil, fmt.Errorf("%s: %w", key, err)
		}
	}
	return out, nil
}
