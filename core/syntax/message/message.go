// Package message reads the manifest and the resource table of an app bundle, which stand there as protocol buffers. It
// gives them in the shapes of package chunk, so that what is asked of a built package can be asked of a bundle.
//
// Source: Android Open Source Project, aapt2, Resources.proto and Configuration.proto.
package message

import (
	"errors"
	"fmt"
	"math"
	"sort"
	"strconv"
	"strings"

	"google.golang.org/protobuf/encoding/protowire"

	"ligare/core/syntax/chunk"
)

// deepest is how deep elements may stand in each other.
const deepest = 256

var errCut = errors.New("the message is cut off or no message of its kind")

// fields visits the fields of a message: numbers come as n, everything with a length as b.
func fields(src []byte, visit func(num protowire.Number, n uint64, b []byte) error) error {
	for len(src) > 0 {
		num, kind, size := protowire.ConsumeTag(src)
		if size < 0 {
			return errCut
		}
		src = src[size:]
		var n uint64
		var b []byte
		switch kind {
		case protowire.VarintType:
			n, size = protowire.ConsumeVarint(src)
		case protowire.Fixed32Type:
			var x uint32
			x, size = protowire.ConsumeFixed32(src)
			n = uint64(x)
		case protowire.Fixed64Type:
			n, size = protowire.ConsumeFixed64(src)
		case protowire.BytesType:
			b, size = protowire.ConsumeBytes(src)
			if size >= 0 && b == nil {
				b = []byte{}
			}
		default:
			size = protowire.ConsumeFieldValue(num, kind, src)
		}
		if size < 0 {
			return errCut
		}
		src = src[size:]
		if err := visit(num, n, b); err != nil {
			return err
		}
	}
	return nil
}

// XML reads a document.
func XML(src []byte) (*chunk.Element, error) {
	e, err := node(src, 0)
	if err != nil {
		return nil, err
	}
	if e == nil || e.Name == "" {
		return nil, errors.New("the document has no element")
	}
	return e, nil
}

// node reads one node; a text gives an element without a name.
func node(src []byte, depth int) (*chunk.Element, error) {
	if depth > deepest {
		return nil, fmt.Errorf("elements stand in each other more than %d deep", deepest)
	}
	var out *chunk.Element
	line := 0
	err := fields(src, func(num protowire.Number, _ uint64, b []byte) (err error) {
		switch num {
		case 1:
			out, err = element(b, depth)
		case 2:
			out = &chunk.Element{Text: string(b)}
		case 3:
			err = fields(b, func(num protowire.Number, n uint64, _ []byte) error {
				if num == 1 {
					line = int(n)
				}
				return nil
			})
		}
		return err
	})
	if out != nil {
		out.Line = line
	}
	return out, err
}

func element(src []byte, depth int) (*chunk.Element, error) {
	e := &chunk.Element{}
	return e, fields(src, func(num protowire.Number, _ uint64, b []byte) error {
		switch num {
		case 2:
			e.NS = string(b)
		case 3:
			e.Name = string(b)
		case 4:
			a, err := attribute(b)
			e.Attrs = append(e.Attrs, a)
			return err
		case 5:
			k, err := node(b, depth+1)
			switch {
			case err != nil:
				return err
			case k == nil:
			case k.Name == "":
				e.Text += k.Text
			default:
				e.Children = append(e.Children, k)
			}
		}
		return nil
	})
}

func attribute(src []byte) (chunk.Attr, error) {
	var a chunk.Attr
	raw, compiled := "", false
	err := fields(src, func(num protowire.Number, n uint64, b []byte) (err error) {
		switch num {
		case 1:
			a.NS = string(b)
		case 2:
			a.Name = string(b)
		case 3:
			raw = string(b)
		case 5:
			a.ID = uint32(n)
		case 6:
			a.Value, err = item(b)
			compiled = true
		}
		return err
	})
	if !compiled { // as text, which the store's builder writes into the package with its escapes resolved
		a.Value = chunk.Value{Type: chunk.String, Text: unescape(raw)}
		return a, err
	}
	a.Value.Raw = raw
	return a, err
}

// unescape resolves the escapes of a text in a manifest or resource: \n, \t, \uXXXX, and a character that stands for
// itself.
func unescape(s string) string {
	if !strings.Contains(s, `\`) {
		return s
	}
	var b strings.Builder
	for i := 0; i < len(s); i++ {
		if s[i] != '\\' || i+1 == len(s) {
			b.WriteByte(s[i])
			continue
		}
		i++
		switch s[i] {
		case 'n':
			b.WriteByte('\n')
		case 't':
			b.WriteByte('\t')
		case 'u':
			if i+4 < len(s) {
				if n, err := strconv.ParseUint(s[i+1:i+5], 16, 16); err == nil {
					b.WriteRune(rune(n))
					i += 4
				}
			}
		default:
			b.WriteByte(s[i])
		}
	}
	return b.String()
}

// item reads a value.
func item(src []byte) (chunk.Value, error) {
	v := chunk.Value{Type: chunk.Null}
	text := func(b []byte) error {
		v.Type = chunk.String
		return fields(b, func(num protowire.Number, _ uint64, b []byte) error {
			if num == 1 {
				v.Text = string(b)
			}
			return nil
		})
	}
	err := fields(src, func(num protowire.Number, _ uint64, b []byte) error {
		switch num {
		case 1:
			v.Type = chunk.Reference
			return fields(b, func(num protowire.Number, n uint64, _ []byte) error {
				switch {
				case num == 1 && n == 1:
					v.Type = chunk.Attribute
				case num == 2:
					v.Data = uint32(n)
				}
				return nil
			})
		case 2, 3, 4, 5: // text, raw text, text with spans, a file
			return text(b)
		case 7:
			return primitive(b, &v)
		}
		return nil
	})
	return v, err
}

// primitives are the fields of a number with their types.
var primitives = map[protowire.Number]chunk.Type{3: chunk.Float, 6: chunk.Decimal, 7: chunk.Hex, 8: chunk.Boolean, 9: 0x1c, 10: 0x1d, 11: 0x1e, 12: 0x1f, 13: chunk.Dimension, 14: chunk.Fraction}

func primitive(src []byte, v *chunk.Value) error {
	return fields(src, func(num protowire.Number, n uint64, _ []byte) error {
		switch t, ok := primitives[num]; {
		case ok:
			v.Type, v.Data = t, uint32(n)
			if t == chunk.Boolean && n != 0 {
				v.Data = math.MaxUint32
			}
		case num == 2:
			v.Type, v.Data = chunk.Null, 1
		}
		return nil
	})
}

// Table is a resource table.
type Table struct {
	entries map[uint32]*resource
	ids     []uint32
}

type resource struct {
	kind, name string
	values     []chunk.Configured
}

// most bounds the resources that are read: more than any app has.
const most = 400_000

// Read reads a resource table.
func Read(src []byte) (*Table, error) {
	t := &Table{entries: map[uint32]*resource{}}
	err := fields(src, func(num protowire.Number, _ uint64, b []byte) error {
		if num != 2 {
			return nil
		}
		return t.readPackage(b)
	})
	for id := range t.entries {
		t.ids = append(t.ids, id)
	}
	sort.Slice(t.ids, func(i, j int) bool { return t.ids[i] < t.ids[j] })
	return t, err
}

// id reads a message that holds nothing but a number.
func id(b []byte) (out uint32, err error) {
	return out, fields(b, func(num protowire.Number, n uint64, _ []byte) error {
		if num == 1 {
			out = uint32(n)
		}
		return nil
	})
}

func (t *Table) readPackage(src []byte) error {
	var pkg uint32
	var types [][]byte
	err := fields(src, func(num protowire.Number, _ uint64, b []byte) (err error) {
		switch num {
		case 1:
			pkg, err = id(b)
		case 3:
			types = append(types, b)
		}
		return err
	})
	if err != nil {
		return err
	}
	for _, b := range types {
		if err := t.readType(pkg, b); err != nil {
			return err
		}
	}
	return nil
}

func (t *Table) readType(pkg uint32, src []byte) error {
	var number uint32
	name := ""
	var entries [][]byte
	err := fields(src, func(num protowire.Number, _ uint64, b []byte) (err error) {
		switch num {
		case 1:
			number, err = id(b)
		case 2:
			name = string(b)
		case 3:
			entries = append(entries, b)
		}
		return err
	})
	if err != nil {
		return err
	}
	for _, b := range entries {
		if len(t.entries) >= most {
			return fmt.Errorf("it has more than %d resources", most)
		}
		n, r, err := entry(b)
		if err != nil {
			return fmt.Errorf("a %s: %w", name, err)
		}
		r.kind = name
		t.entries[pkg<<24|number<<16|n] = r
	}
	return nil
}

func entry(src []byte) (n uint32, r *resource, err error) {
	r = &resource{}
	return n, r, fields(src, func(num protowire.Number, _ uint64, b []byte) (err error) {
		switch num {
		case 1:
			n, err = id(b)
		case 2:
			r.name = string(b)
		case 6:
			var c chunk.Configured
			if c, err = configured(b); err == nil {
				r.values = append(r.values, c)
			}
		}
		return err
	})
}

func configured(src []byte) (c chunk.Configured, err error) {
	return c, fields(src, func(num protowire.Number, _ uint64, b []byte) (err error) {
		switch num {
		case 1:
			c.Config, err = config(b)
		case 2:
			err = fields(b, func(num protowire.Number, _ uint64, b []byte) (err error) {
				switch num {
				case 4:
					c.Value, err = item(b)
				case 5:
					c.Bag = []chunk.Item{}
				}
				return err
			})
		}
		return err
	})
}

// config writes a configuration as the qualifiers of a resource folder, as package chunk does.
func config(src []byte) (string, error) {
	got := map[protowire.Number]uint64{}
	texts := map[protowire.Number]string{}
	err := fields(src, func(num protowire.Number, n uint64, b []byte) error {
		if b != nil {
			texts[num] = string(b)
		} else {
			got[num] = n
		}
		return nil
	})
	var parts []string
	add := func(num protowire.Number, format string) {
		if v := got[num]; v != 0 {
			parts = append(parts, fmt.Sprintf(format, v))
		}
	}
	named := func(num protowire.Number, names ...string) {
		if v := got[num]; v != 0 {
			if v < uint64(len(names)) {
				parts = append(parts, names[v])
			} else {
				parts = append(parts, fmt.Sprintf("x%d.%d", num, v))
			}
		}
	}
	add(1, "mcc%d")
	add(2, "mnc%d")
	if l := texts[3]; l != "" {
		parts = append(parts, folder(l))
	}
	named(4, "", "ldltr", "ldrtl")
	add(9, "sw%ddp")
	add(7, "w%ddp")
	add(8, "h%ddp")
	named(10, "", "small", "normal", "large", "xlarge")
	named(11, "", "long", "notlong")
	named(12, "", "round", "notround")
	named(15, "", "port", "land", "square")
	named(16, "", "normalui", "desk", "car", "television", "appliance", "watch", "vrheadset")
	named(17, "", "night", "notnight")
	if v := got[18]; v != 0 {
		name := map[uint64]string{120: "ldpi", 160: "mdpi", 213: "tvdpi", 240: "hdpi", 320: "xhdpi", 480: "xxhdpi", 640: "xxxhdpi", 0xFFFE: "anydpi", 0xFFFF: "nodpi"}[v]
		if name == "" {
			name = fmt.Sprintf("%ddpi", v)
		}
		parts = append(parts, name)
	}
	for _, num := range []protowire.Number{5, 6, 13, 14, 19, 20, 21, 22, 23, 26} {
		add(num, fmt.Sprintf("x%d.%%d", num))
	}
	add(24, "v%d")
	if p := texts[25]; p != "" {
		parts = append(parts, p)
	}
	return strings.Join(parts, "-"), err
}

// folder writes a language tag (BCP 47) as a folder's qualifier.
func folder(tag string) string {
	switch parts := strings.Split(tag, "-"); {
	case len(parts) == 1:
		return tag
	case len(parts) == 2 && (len(parts[1]) == 2 || len(parts[1]) == 3):
		return parts[0] + "-r" + parts[1]
	default:
		return "b+" + strings.Join(parts, "+")
	}
}

// Len gives how many resources the table holds.
func (t *Table) Len() int { return len(t.ids) }

// Get gives a resource in all its configurations, the default one first.
func (t *Table) Get(id uint32) ([]chunk.Configured, error) {
	r := t.entries[id]
	if r == nil {
		return nil, nil
	}
	out := append([]chunk.Configured(nil), r.values...)
	sort.SliceStable(out, func(i, j int) bool { return out[i].Config == "" && out[j].Config != "" })
	return out, nil
}

// Name gives a resource's name as type/name, "" for one that is not there.
func (t *Table) Name(id uint32) string {
	if r := t.entries[id]; r != nil {
		return r.kind + "/" + r.name
	}
	return ""
}

// List gives all resources of one kind in the order of their IDs.
func (t *Table) List(kind string) ([]chunk.Resource, error) {
	var out []chunk.Resource
	for _, id := range t.ids {
		if r := t.entries[id]; r.kind == kind {
			out = append(out, chunk.Resource{ID: id, Kind: kind, Name: r.name})
		}
	}
	return out, nil
}

// Resolve follows a value's references to what they end in, in every configuration.
func (t *Table) Resolve(v chunk.Value) ([]chunk.Configured, error) { return chunk.Follow(t, v) }
