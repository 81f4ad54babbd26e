package chunk

// Element is one element of a document.
type Element struct {
	NS, Name string
	Attrs    []Attr
	Children []*Element
	Text     string // between its tags, joined
	Line     int    // in the source it was built from
}

// Attr is one attribute.
type Attr struct {
	NS, Name string
	ID       uint32 // resource ID of the attribute, 0 for none
	Value    Value
}

// deepest is how deep elements may stand in each other.
const deepest = 256

// Namespace is that of Android's attributes.
const Namespace = "http://schemas.android.com/apk/res/android"

// XML reads a binary document.
func XML(src []byte) (*Element, error) {
	h, err := readHeader(src, 0, len(src))
	if err != nil {
		return nil, err
	}
	if h.kind != typeXML {
		return nil, bad(0, "this is no binary XML: it begins with chunk type 0x%04x", h.kind)
	}
	var strings *pool
	var ids []uint32
	var open []*Element
	var top *Element
	for at := h.head; at < h.size; {
		c, err := readHeader(src, at, h.size)
		if err != nil {
			return nil, err
		}
		switch c.kind {
		case typePool:
			if strings == nil {
				if strings, err = readPool(src, c); err != nil {
					return nil, err
				}
			}
		case typeMap:
			for i := c.at + c.head; i+4 <= c.at+c.size; i += 4 {
				ids = append(ids, u32(src, i))
			}
		case typeElement:
			e, err := readElement(src, c, strings, ids)
			if err != nil {
				return nil, err
			}
			if len(open) >= deepest {
				return nil, bad(at, "elements stand in each other more than %d deep", deepest)
			}
			switch {
			case len(open) > 0:
				last := open[len(open)-1]
				last.Children = append(last.Children, e)
			case top != nil:
				return nil, bad(at, "a second element <%s> stands at the top", e.Name)
			default:
				top = e
			}
			open = append(open, e)
		case typeClose:
			if len(open) == 0 {
				return nil, bad(at, "an element ends that did not begin")
			}
			open = open[:len(open)-1]
		case typeText:
			if c.size < c.head+4 {
				return nil, bad(at, "a text is cut off")
			}
			text, err := strings.get(u32(src, at+c.head))
			if err != nil {
				return nil, bad(at, "%v", err)
			}
			if len(open) > 0 {
				open[len(open)-1].Text += text
			}
		}
		at += c.size
	}
	if top == nil {
		return nil, bad(0, "the document has no element")
	}
	if len(open) > 0 {
		return nil, bad(h.size, "the element <%s> does not end", open[len(open)-1].Name)
	}
	return top, nil
}

func readElement(src []byte, c header, strings *pool, ids []uint32) (*Element, error) {
	ext := c.at + c.head
	if c.head < 16 || c.size < c.head+20 {
		return nil, bad(c.at, "an element is cut off")
	}
	e := &Element{Line: int(u32(src, c.at+8))}
	var err error
	if e.NS, err = strings.get(u32(src, ext)); err != nil {
		return nil, bad(c.at, "%v", err)
	}
	if e.Name, err = strings.get(u32(src, ext+4)); err != nil {
		return nil, bad(c.at, "%v", err)
	}
	start, size, count := u16(src, ext+8), u16(src, ext+10), u16(src, ext+12)
	if count > 0 && (size < 20 || c.head+start+count*size > c.size) {
		return nil, bad(c.at, "the element <%s> says that it has %d attributes of %d bytes, and has no room for them", e.Name, count, size)
	}
	for i := range count {
		at := ext + start + i*size
		a := Attr{}
		if a.NS, err = strings.get(u32(src, at)); err != nil {
			return nil, bad(at, "%v", err)
		}
		name := u32(src, at+4)
		if a.Name, err = strings.get(name); err != nil {
			return nil, bad(at, "%v", err)
		}
		if int64(name) < int64(len(ids)) {
			a.ID = ids[name]
			if known := attributes[a.ID]; known != "" {
				a.Name, a.NS = known, Namespace // what counts is the ID; shrinkers empty the name
			}
		}
		if a.Value, err = readValue(src, at+12, strings); err != nil {
			return nil, err
		}
		if a.Value.Raw, err = strings.get(u32(src, at+8)); err != nil {
			return nil, bad(at, "%v", err)
		}
		e.Attrs = append(e.Attrs, a)
	}
	return e, nil
}

// Attr gives an attribute of Android's namespace, or nil.
func (e *Element) Attr(name string) *Attr { return e.attr(Namespace, name) }

// Plain gives an attribute without a namespace, or nil.
func (e *Element) Plain(name string) *Attr { return e.attr("", name) }

func (e *Element) attr(ns, name string) *Attr {
	for i := range e.Attrs {
		if a := &e.Attrs[i]; a.Name == name && a.NS == ns {
			return a
		}
	}
	return nil
}

// Child gives the first child of a name, or nil.
func (e *Element) Child(name string) *Element {
	for _, c := range e.Children {
		if c.Name == name {
			return c
		}
	}
	return nil
}

// attributes are the IDs of the attributes that are read by meaning (android.R.attr).
var attributes = map[uint32]string{
	0x01010000: "theme", 0x01010001: "label", 0x01010002: "icon", 0x01010003: "name", 0x01010006: "permission", 0x0101000b: "sharedUserId", 0x0101000e: "enabled", 0x0101000f: "debuggable",
	0x01010010: "exported", 0x01010011: "process", 0x01010018: "authorities", 0x0101001b: "grantUriPermissions", 0x0101001c: "priority", 0x0101001d: "launchMode", 0x0101001e: "screenOrientation",
	0x0101001f: "configChanges", 0x01010024: "value", 0x01010025: "resource", 0x01010026: "mimeType", 0x01010027: "scheme", 0x01010028: "host", 0x01010029: "port", 0x0101002a: "path",
	0x0101002b: "pathPrefix", 0x0101002c: "pathPattern", 0x01010202: "targetActivity", 0x0101020c: "minSdkVersion", 0x0101021b: "versionCode", 0x0101021c: "versionName",
	0x01010270: "targetSdkVersion", 0x01010271: "maxSdkVersion", 0x01010272: "testOnly", 0x01010280: "allowBackup", 0x01010281: "glEsVersion", 0x0101028e: "required",
	0x010102b7: "installLocation", 0x010104ea: "extractNativeLibs", 0x010104ec: "usesCleartextTraffic", 0x010104ee: "autoVerify", 0x01010527: "networkSecurityConfig",
	0x0101052c: "roundIcon", 0x01010572: "compileSdkVersion", 0x01010573: "compileSdkVersionCodename", 0x01010576: "versionCodeMajor", 0x0101057a: "appComponentFactory",
}
