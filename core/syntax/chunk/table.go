package chunk

import (
	"fmt"
	"sort"
	"strings"
	"unicode/utf16"
)

// Table is a resource table. Its entries are read when they are asked for.
type Table struct {
	src      []byte
	strings  *pool
	packages []*tablePackage
	chunks   int
	work     int // chunks that were looked into for single resources; see mostWork
}

// Bounds far above what any app has. Looking for one resource goes through the configurations of its type.
const (
	mostChunks    = 100_000
	mostWork      = 200_000_000
	mostResources = 250_000
)

var errWork = bad(0, "its resources lead to each other without end")

type tablePackage struct {
	id          byte
	name        string
	types, keys *pool
	chunks      map[byte][]typeChunk // by type
}

// typeChunk is the entries of one type in one configuration.
type typeChunk struct {
	at, head, size int
	id             byte
	flags          byte
	count, entries int // entries: where they begin, from the chunk's beginning
	config         string
}

// Configured is a value in one configuration: "" is the default one.
type Configured struct {
	Config string
	Value
	Bag []Item // of a resource made of several: a style, an array, plurals
}

// Item is one part of a resource made of several.
type Item struct {
	Name uint32
	Value
}

// Read reads a resource table.
func Read(src []byte) (*Table, error) {
	h, err := readHeader(src, 0, len(src))
	if err != nil {
		return nil, err
	}
	if h.kind != typeTable {
		return nil, bad(0, "this is no resource table: it begins with chunk type 0x%04x", h.kind)
	}
	t := &Table{src: src}
	for at := h.head; at < h.size; {
		c, err := readHeader(src, at, h.size)
		if err != nil {
			return nil, err
		}
		switch c.kind {
		case typePool:
			if t.strings == nil {
				if t.strings, err = readPool(src, c); err != nil {
					return nil, err
				}
				t.strings.left = mostTableText
			}
		case typePackage:
			if err := t.readPackage(c); err != nil {
				return nil, err
			}
		}
		at += c.size
	}
	return t, nil
}

func (t *Table) readPackage(h header) error {
	if h.head < 284 {
		return bad(h.at, "the header of a package of resources is cut off")
	}
	p := &tablePackage{id: byte(u32(t.src, h.at+8)), chunks: map[byte][]typeChunk{}}
	var name []uint16
	for i := range 128 {
		u := uint16(u16(t.src, h.at+12+i*2))
		if u == 0 {
			break
		}
		name = append(name, u)
	}
	p.name = string(utf16.Decode(name))
	types, keys := int64(u32(t.src, h.at+268)), int64(u32(t.src, h.at+276))
	for at := h.at + h.head; at < h.at+h.size; {
		c, err := readHeader(t.src, at, h.at+h.size)
		if err != nil {
			return err
		}
		switch c.kind {
		case typePool:
			x, err := readPool(t.src, c)
			if err != nil {
				return err
			}
			x.left = mostTableText
			switch int64(at - h.at) {
			case types:
				p.types = x
			case keys:
				p.keys = x
			}
		case typeType:
			x, err := t.readType(c)
			if err != nil {
				return err
			}
			if t.chunks++; t.chunks > mostChunks {
				return bad(at, "it has more than %d types and configurations", mostChunks)
			}
			p.chunks[x.id] = append(p.chunks[x.id], x)
		}
		at += c.size
	}
	t.packages = append(t.packages, p)
	return nil
}

func (t *Table) readType(h header) (typeChunk, error) {
	if h.head < 24 {
		return typeChunk{}, bad(h.at, "the header of a type of resources is cut off")
	}
	x := typeChunk{at: h.at, head: h.head, size: h.size, id: t.src[h.at+8], flags: t.src[h.at+9]}
	count, start := u32(t.src, h.at+12), u32(t.src, h.at+16)
	width := int64(4)
	if x.flags&2 != 0 {
		width = 2
	}
	if int64(count)*width > int64(h.size-h.head) || int64(start) > int64(h.size) {
		return x, bad(h.at, "a type of resources says that it has %d entries, and has no room for them", count)
	}
	x.count, x.entries = int(count), int(start)
	x.config = config(t.src[h.at+20 : h.at+h.head])
	return x, nil
}

// offset gives where an entry begins, -1 for one that this configuration lacks.
func (t *Table) offset(c typeChunk, entry int) int {
	at := c.at + c.head
	if c.flags&1 != 0 { // sparse: pairs of index and offset in fours, sorted
		i := sort.Search(c.count, func(i int) bool { return u16(t.src, at+i*4) >= entry })
		if i < c.count && u16(t.src, at+i*4) == entry {
			return c.at + c.entries + u16(t.src, at+i*4+2)*4
		}
		return -1
	}
	if entry >= c.count {
		return -1
	}
	if c.flags&2 != 0 {
		o := u16(t.src, at+entry*2)
		if o == 0xFFFF {
			return -1
		}
		return c.at + c.entries + o*4
	}
	o := u32(t.src, at+entry*4)
	if o == none || int64(o) > int64(c.size) {
		return -1
	}
	return c.at + c.entries + int(o)
}

// entry reads one entry: the index of its name, and its value or its parts.
func (t *Table) entry(c typeChunk, at int) (key uint32, out Configured, err error) {
	end := c.at + c.size
	out.Config = c.config
	if at < c.at || at+8 > end {
		return 0, out, bad(at, "an entry lies outside of its type")
	}
	size, flags := u16(t.src, at), u16(t.src, at+2)
	key = u32(t.src, at+4)
	if flags&8 != 0 { // compact: the type stands in the flags, the name where the size stood
		key = uint32(size)
		out.Value = Value{Type: Type(flags >> 8), Data: u32(t.src, at+4)}
		if out.Type == String {
			out.Text, err = t.strings.get(out.Data)
		}
		return key, out, err
	}
	if size < 8 || at+size > end {
		return key, out, bad(at, "an entry says that it has %d bytes", size)
	}
	if flags&1 == 0 {
		if at+size+8 > end {
			return key, out, bad(at, "the value of an entry is cut off")
		}
		out.Value, err = readValue(t.src, at+size, t.strings)
		return key, out, err
	}
	if size < 16 {
		return key, out, bad(at, "an entry of several parts is cut off")
	}
	n := u32(t.src, at+12)
	if int64(n)*12 > int64(end-at-size) {
		return key, out, bad(at, "an entry says that it has %d parts, and has no room for them", n)
	}
	out.Bag = []Item{}
	for i := range int(n) {
		k := at + size + i*12
		v, err := readValue(t.src, k+4, t.strings)
		if err != nil {
			return key, out, err
		}
		out.Bag = append(out.Bag, Item{u32(t.src, k), v})
	}
	return key, out, nil
}

// Get gives a resource in all its configurations, the default one first, in the table's order.
func (t *Table) Get(id uint32) ([]Configured, error) {
	var out []Configured
	for _, p := range t.packages {
		if p.id != byte(id>>24) {
			continue
		}
		for _, c := range p.chunks[byte(id>>16)] {
			if t.work++; t.work > mostWork {
				return out, errWork
			}
			at := t.offset(c, int(id&0xFFFF))
			if at < 0 {
				continue
			}
			_, x, err := t.entry(c, at)
			if err != nil {
				return out, err
			}
			out = append(out, x)
		}
	}
	sort.SliceStable(out, func(i, j int) bool { return out[i].Config == "" && out[j].Config != "" })
	return out, nil
}

// Name gives a resource's name as type/name, "" for one that is not there.
func (t *Table) Name(id uint32) string {
	for _, p := range t.packages {
		if p.id != byte(id>>24) {
			continue
		}
		for _, c := range p.chunks[byte(id>>16)] {
			if t.work++; t.work > mostWork {
				return ""
			}
			at := t.offset(c, int(id&0xFFFF))
			if at < 0 {
				continue
			}
			key, _, err := t.entry(c, at)
			if err != nil {
				continue
			}
			kind, err1 := p.types.get(uint32(c.id) - 1)
			name, err2 := p.keys.get(key)
			if err1 == nil && err2 == nil {
				return kind + "/" + name
			}
		}
	}
	return ""
}

// Resource is a resource's ID with its type and name.
type Resource struct {
	ID         uint32
	Kind, Name string
}

// List gives all resources of one kind, "string" for example, in the order of their IDs.
func (t *Table) List(kind string) ([]Resource, error) {
	var out []Resource
	for _, p := range t.packages {
		seen := map[int]bool{}
		for _, c := range p.of(kind) {
			for i := range c.count {
				if t.work++; t.work > mostWork {
					return out, errWork
				}
				n := i
				if c.flags&1 != 0 {
					n = u16(t.src, c.at+c.head+i*4)
				}
				at := t.offset(c, n)
				if at < 0 || seen[n] {
					continue
				}
				key, _, err := t.entry(c, at)
				if err != nil {
					return out, err
				}
				name, err := p.keys.get(key)
				if err != nil {
					return out, err
				}
				if seen[n] = true; len(out) >= mostResources {
					return out, bad(c.at, "it has more than %d resources of one type", mostResources)
				}
				out = append(out, Resource{uint32(p.id)<<24 | uint32(c.id)<<16 | uint32(n), kind, name})
			}
		}
	}
	sort.Slice(out, func(i, j int) bool { return out[i].ID < out[j].ID })
	return out, nil
}

// of gives the chunks of a type by its name, in the order of the file.
func (p *tablePackage) of(kind string) []typeChunk {
	var out []typeChunk
	for id, list := range p.chunks {
		if k, err := p.types.get(uint32(id) - 1); err == nil && k == kind {
			out = append(out, list...)
		}
	}
	sort.Slice(out, func(i, j int) bool { return out[i].at < out[j].at })
	return out
}

// Package gives the name of the table's first package of its own.
func (t *Table) Package() string {
	for _, p := range t.packages {
		if p.id == 0x7F {
			return p.name
		}
	}
	return ""
}

// longest is how many references are followed from one to the next.
const longest = 16

// Resolve follows a value's references to what they end in, in every configuration. A chain that comes back to itself, or
// is too long, is an error.
func (t *Table) Resolve(v Value) ([]Configured, error) { return Follow(t, v) }

// Getter gives resources by their ID.
type Getter interface {
	Get(id uint32) ([]Configured, error)
}

// Follow follows a value's references through a table.
func Follow(t Getter, v Value) ([]Configured, error) {
	if !v.IsReference() {
		return []Configured{{Value: v}}, nil
	}
	return follow(t, v, "", map[uint32]bool{})
}

func follow(t Getter, v Value, config string, on map[uint32]bool) ([]Configured, error) {
	if !v.IsReference() {
		return []Configured{{Config: config, Value: v}}, nil
	}
	if on[v.Data] || len(on) >= longest {
		return nil, fmt.Errorf("the reference @0x%08x leads back to itself", v.Data)
	}
	on[v.Data] = true
	defer delete(on, v.Data)
	list, err := t.Get(v.Data)
	if err != nil {
		return nil, err
	}
	if len(list) == 0 && v.Data>>24 == 0x01 {
		return []Configured{{Config: config, Value: v}}, nil // of the platform: not in the package
	}
	if len(list) == 0 {
		return nil, fmt.Errorf("the reference @0x%08x leads nowhere", v.Data)
	}
	var out []Configured
	for _, x := range list {
		at := x.Config
		if at == "" {
			at = config
		}
		if x.Bag != nil {
			x.Config = at
			out = append(out, x)
			continue
		}
		more, err := follow(t, x.Value, at, on)
		if err != nil {
			return nil, err
		}
		if out = append(out, more...); len(out) > 4096 {
			return nil, fmt.Errorf("the reference @0x%08x has too many outcomes", v.Data)
		}
	}
	return out, nil
}

// config writes a configuration as the qualifiers of a resource folder: "de", "night", "v21". What this package does not
// name is written in hexadecimal, so that two configurations are never taken for one.
func config(b []byte) string {
	if len(b) < 4 {
		return ""
	}
	size := min(int(u32(b, 0)), len(b))
	get := func(at, n int) uint32 {
		if at+n > size {
			return 0
		}
		switch n {
		case 1:
			return uint32(b[at])
		case 2:
			return uint32(u16(b, at))
		}
		return u32(b, at)
	}
	var parts []string
	add := func(format string, args ...any) { parts = append(parts, fmt.Sprintf(format, args...)) }
	if v := get(4, 2); v != 0 {
		add("mcc%d", v)
	}
	if v := get(6, 2); v != 0 {
		add("mnc%d", v)
	}
	if size >= 12 {
		if l := locale(b, size); l != "" {
			add("%s", l)
		}
	}
	if v := get(28, 1); v&0xC0 != 0 {
		add("%s", []string{"", "ldltr", "ldrtl", "ld3"}[v>>6])
	}
	if v := get(30, 2); v != 0 {
		add("sw%ddp", v)
	}
	if v := get(32, 2); v != 0 {
		add("w%ddp", v)
	}
	if v := get(34, 2); v != 0 {
		add("h%ddp", v)
	}
	if v := get(28, 1) & 0x0F; v != 0 {
		add("%s", pick([]string{"", "small", "normal", "large", "xlarge"}, v))
	}
	if v := get(28, 1) >> 4 & 3; v != 0 {
		add("%s", pick([]string{"", "notlong", "long"}, v))
	}
	if v := get(48, 1) & 3; v != 0 {
		add("%s", pick([]string{"", "notround", "round"}, v))
	}
	if v := get(12, 1); v != 0 {
		add("%s", pick([]string{"", "port", "land", "square"}, v))
	}
	if v := get(29, 1) & 0x0F; v != 0 {
		add("%s", pick([]string{"", "normalui", "desk", "car", "television", "appliance", "watch", "vrheadset"}, v))
	}
	if v := get(29, 1) >> 4 & 3; v != 0 {
		add("%s", pick([]string{"", "notnight", "night"}, v))
	}
	if v := get(14, 2); v != 0 {
		name := map[uint32]string{120: "ldpi", 160: "mdpi", 213: "tvdpi", 240: "hdpi", 320: "xhdpi", 480: "xxhdpi", 640: "xxxhdpi", 0xFFFE: "anydpi", 0xFFFF: "nodpi"}[v]
		if name == "" {
			name = fmt.Sprintf("%ddpi", v)
		}
		add("%s", name)
	}
	for _, rest := range []struct{ at, n int }{{13, 1}, {16, 4}, {20, 4}, {49, 1}} {
		if v := get(rest.at, rest.n); v != 0 {
			add("x%d.%x", rest.at, v)
		}
	}
	if v := get(24, 2); v != 0 {
		add("v%d", v)
	}
	return strings.Join(parts, "-")
}

func pick(names []string, i uint32) string {
	if int(i) < len(names) {
		return names[i]
	}
	return fmt.Sprintf("x%d", i)
}

// locale writes language, script, region and variant.
func locale(b []byte, size int) string {
	lang, region := letters(b[8], b[9], 'a'), letters(b[10], b[11], '0')
	script, variant := "", ""
	if size >= 40 && (size < 53 || b[52] == 0) { // otherwise it was worked out from language and region
		script = strings.TrimRight(string(b[36:40]), "\x00")
	}
	if size >= 48 {
		variant = strings.TrimRight(string(b[40:48]), "\x00")
	}
	switch {
	case lang == "":
		return ""
	case script+variant != "":
		out := "b+" + lang
		for _, p := range []string{script, region, variant} {
			if p != "" {
				out += "+" + p
			}
		}
		return out
	case region != "":
		return lang + "-r" + region
	}
	return lang
}

// letters unpacks two letters, or three in two bytes (ResTable_config::unpackLanguageOrRegion).
func letters(a, b, base byte) string {
	if a&0x80 != 0 {
		return string([]byte{b&0x1F + base, (b&0xE0)>>5 + (a&3)<<3 + base, (a&0x7C)>>2 + base})
	}
	return strings.TrimRight(string([]byte{a, b}), "\x00")
}
