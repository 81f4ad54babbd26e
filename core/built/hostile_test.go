package built

import (
	"archive/zip"
	"bytes"
	"compress/flate"
	"encoding/binary"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"ligare/core/built/builttest"
)

// zipped writes an archive: names and contents in turn.
func zipped(t testing.TB, entries ...any) []byte {
	t.Helper()
	var out bytes.Buffer
	w := zip.NewWriter(&out)
	w.RegisterCompressor(zip.Deflate, func(o io.Writer) (io.WriteCloser, error) { // one for all: making one takes longer than using it
		deflate.Reset(o)
		return deflate, nil
	})
	for i := 0; i < len(entries); i += 2 {
		e, err := w.Create(entries[i].(string))
		if err != nil {
			t.Fatal(err)
		}
		switch b := entries[i+1].(type) {
		case []byte:
			_, err = e.Write(b)
		case string:
			_, err = io.WriteString(e, b)
		case int: // so many zeros
			for range b >> 20 {
				if _, err = e.Write(zeros); err != nil {
					break
				}
			}
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	return out.Bytes()
}

var zeros = make([]byte, 1<<20)

var deflate = func() *flate.Writer {
	w, err := flate.NewWriter(nil, flate.BestSpeed)
	if err != nil {
		panic(err) // the level is one there is
	}
	return w
}()

// document writes a binary document of many elements under <manifest>, each with the same attributes.
func document(element string, n int, name string) []byte {
	le := binary.LittleEndian
	texts := []string{"manifest", element, "name", "http://schemas.android.com/apk/res/android", name, "application"}
	var offsets, data []byte
	for _, s := range texts {
		offsets = le.AppendUint32(offsets, uint32(len(data)))
		data = le.AppendUint16(data, uint16(len(s)|0x8000*bool2int(len(s) > 0x7FFF)))
		if len(s) > 0x7FFF {
			data[len(data)-2], data[len(data)-1] = byte(len(s)>>16), 0x80
			data = le.AppendUint16(data, uint16(len(s)))
		}
		for _, c := range []byte(s) {
			data = append(data, c, 0)
		}
		data = append(data, 0, 0)
	}
	for len(data)%4 != 0 {
		data = append(data, 0)
	}
	head := func(kind, size uint16, total int) []byte {
		return le.AppendUint32(le.AppendUint16(le.AppendUint16(nil, kind), size), uint32(total))
	}
	pool := head(1, 28, 28+len(offsets)+len(data))
	for _, v := range []uint32{uint32(len(texts)), 0, 0, uint32(28 + len(offsets)), 0} {
		pool = le.AppendUint32(pool, v)
	}
	pool = append(append(pool, offsets...), data...)
	open := func(name, attrs int) []byte {
		b := head(0x102, 16, 36+attrs*20)
		b = le.AppendUint32(le.AppendUint32(b, 1), 0xFFFFFFFF)
		b = le.AppendUint32(le.AppendUint32(b, 0xFFFFFFFF), uint32(name))
		b = le.AppendUint16(le.AppendUint16(b, 20), 20)
		b = le.AppendUint16(b, uint16(attrs))
		b = append(b, 0, 0, 0, 0, 0, 0)
		for range attrs {
			b = le.AppendUint32(le.AppendUint32(b, 3), 2)
			b = le.AppendUint32(b, 4)
			b = le.AppendUint32(le.AppendUint32(b, 0x03000008), 4)
		}
		return b
	}
	end := func(name int) []byte {
		b := head(0x103, 16, 24)
		for _, v := range []uint32{1, 0xFFFFFFFF, 0xFFFFFFFF, uint32(name)} {
			b = le.AppendUint32(b, v)
		}
		return b
	}
	body := append(pool, open(0, 0)...)
	one := append(open(1, 1), end(1)...)
	for range n {
		body = append(body, one...)
	}
	body = append(body, end(0)...)
	return append(head(3, 8, 8+len(body)), body...)
}

func bool2int(b bool) int {
	if b {
		return 1
	}
	return 0
}

// hostile makes packages that somebody built to break their reader.
func hostile(t testing.TB) map[string][]byte {
	bomb := 64 << 20
	if os.Getenv("LIGARE_HOSTILE") != "" {
		bomb = 1 << 30
	}
	apk, ipa, aab := builttest.Load(t, "v123.apk"), builttest.Load(t, "app.ipa"), builttest.Load(t, "app.aab")
	manifest, tab := builttest.Entry(t, "plain.apk", "AndroidManifest.xml"), builttest.Entry(t, "plain.apk", "resources.arsc")
	info, code := builttest.Entry(t, "app.ipa", "Payload/Hivelog.app/Info.plist"), builttest.Entry(t, "app.ipa", "Payload/Hivelog.app/Hivelog")
	const app = "Payload/Hivelog.app/"
	of := func(b []byte, name string, to func([]byte) []byte) []byte {
		return repack(t, b, func(n string, b []byte) []byte {
			if n == name {
				return to(bytes.Clone(b))
			}
			return b
		})
	}
	deep := func(open, end string, n int) string { return strings.Repeat(open, n) + strings.Repeat(end, n) }
	out := map[string][]byte{
		"bomb.manifest":     zipped(t, "AndroidManifest.xml", bomb),
		"bomb.table":        zipped(t, "AndroidManifest.xml", manifest, "resources.arsc", bomb),
		"bomb.asset":        zipped(t, "AndroidManifest.xml", manifest, "assets/zeros", bomb),
		"bomb.config":       zipped(t, "AndroidManifest.xml", manifest, "assets/tollbarrow.yaml", bomb),
		"bomb.plist":        zipped(t, app+"Info.plist", bomb),
		"bomb.executable":   zipped(t, app+"Info.plist", info, app+"Hivelog", bomb),
		"bomb.profile":      zipped(t, app+"Info.plist", info, app+"embedded.mobileprovision", bomb),
		"bomb.signature":    zipped(t, "AndroidManifest.xml", manifest, "META-INF/A.SF", bomb, "META-INF/A.RSA", bomb, "META-INF/MANIFEST.MF", bomb),
		"bomb.bundle":       zipped(t, "base/manifest/AndroidManifest.xml", bomb, "base/resources.pb", bomb),
		"bomb.inside":       zipped(t, "base.apk", bomb),
		"path.up":           zipped(t, "AndroidManifest.xml", manifest, "../../etc/passwd", "x", "/etc/shadow", "x", `..\..\x`, "x", "res/../../y", "x"),
		"path.payload":      zipped(t, "Payload/../../x.app/Info.plist", info),
		"path.executable":   zipped(t, app+"Info.plist", []byte(`<plist><dict><key>CFBundleIdentifier</key><string>a.b</string><key>CFBundleExecutable</key><string>../../../../bin/sh</string></dict></plist>`)),
		"twice.manifest":    zipped(t, "AndroidManifest.xml", manifest, "AndroidManifest.xml", manifest),
		"twice.asset":       zipped(t, "AndroidManifest.xml", manifest, "assets/a", "1", "assets/a", "2"),
		"twice.plist":       zipped(t, app+"Info.plist", info, app+"Info.plist", info),
		"xml.permissions":   zipped(t, "AndroidManifest.xml", document("uses-permission", 60_000, "x")),
		"xml.long strings":  zipped(t, "AndroidManifest.xml", document("uses-permission", 60_000, strings.Repeat("x", 60_000))),
		"xml.metadata":      zipped(t, "AndroidManifest.xml", document("application", 60_000, "x")),
		"plist.deep":        zipped(t, app+"Info.plist", "<plist>"+deep("<dict><key>a</key>", "</dict>", 100_000)+"</plist>"),
		"plist.deep arrays": zipped(t, app+"Info.plist", "<plist>"+deep("<array>", "</array>", 200_000)+"</plist>"),
		"plist.old deep":    zipped(t, app+"Info.plist", deep("{a=", ";}", 100_000)),
		"plist.entities":    zipped(t, app+"Info.plist", `<!DOCTYPE plist [<!ENTITY a "aaaaaaaaaa"><!ENTITY b "&a;&a;&a;&a;&a;&a;&a;&a;"><!ENTITY c "&b;&b;&b;&b;&b;&b;&b;&b;">]><plist><dict><key>CFBundleIdentifier</key><string>&c;</string></dict></plist>`),
		"plist.outside":     zipped(t, app+"Info.plist", `<!DOCTYPE plist [<!ENTITY a SYSTEM "file:///etc/passwd">]><plist><dict><key>CFBundleIdentifier</key><string>&a;</string></dict></plist>`),
		"json.deep":         zipped(t, app+"Info.plist", info, app+"Thornmill.json", deep("[", "]", 500_000)),
		"yaml.deep":         zipped(t, "AndroidManifest.xml", manifest, "assets/tollbarrow.yaml", deep("[", "]", 100_000)),
		"yaml.anchors":      zipped(t, "AndroidManifest.xml", manifest, "assets/tollbarrow.yaml", "a: &a [x,x,x,x,x,x,x,x]\nb: &b [*a,*a,*a,*a,*a,*a,*a,*a]\nc: &c [*b,*b,*b,*b,*b,*b,*b,*b]\nd: &d [*c,*c,*c,*c,*c,*c,*c,*c]\ne: &e [*d,*d,*d,*d,*d,*d,*d,*d]\nf: &f [*e,*e,*e,*e,*e,*e,*e,*e]\npackage: &g [*f,*f,*f,*f,*f,*f,*f,*f]\n"),
		"profile.deep":      of(ipa, app+"embedded.mobileprovision", func([]byte) []byte { return bytes.Repeat([]byte{0x30, 0x80}, 100_000) }),
		"code.many slices": of(ipa, app+"Hivelog", func([]byte) []byte {
			return append([]byte{0xca, 0xfe, 0xba, 0xbe, 0, 0xFF, 0xFF, 0xFF}, make([]byte, 1000)...)
		}),
		"code.overlapping": of(ipa, app+"Hivelog", func(b []byte) []byte { copy(b[28:36], b[8:16]); copy(b[36:], b[16:20]); return b }),
		"code.commands":    of(ipa, app+"PlugIns/Share.appex/Share", func(b []byte) []byte { copy(b[16:24], "\xff\xff\xff\xff\xff\xff\xff\x7f"); return b }),
		"code.parts": of(ipa, app+"PlugIns/Share.appex/Share", func(b []byte) []byte {
			i := bytes.Index(b, []byte{0xfa, 0xde, 0x0c, 0xc0})
			copy(b[i+8:], "\x00\x10\x00\x00")
			return b
		}),
		"code.only zeros":      of(ipa, app+"Hivelog", func(b []byte) []byte { return make([]byte, len(b)) }),
		"code.no end":          of(ipa, app+"Hivelog", func(b []byte) []byte { return code[:len(code)/2] }),
		"many bundles":         zipped(t, many(info, 150)...),
		"many configs":         zipped(t, manyOf("assets/%d/tollbarrow.yaml", "package: x", 2000, "AndroidManifest.xml", manifest)...),
		"many signers":         zipped(t, manyOf("META-INF/S%d.SF", "Signature-Version: 1.0\r\n", 2000, "AndroidManifest.xml", manifest)...),
		"many entries":         zipped(t, manyOf("assets/%d", "", 60_000, "AndroidManifest.xml", manifest)...),
		"lines of a file list": zipped(t, "AndroidManifest.xml", manifest, "META-INF/MANIFEST.MF", strings.Repeat("a:b\n", 5<<20), "META-INF/A.SF", strings.Repeat("a:b\n", 5<<20), "META-INF/A.RSA", "x"),
		"archive in archive":   zipped(t, "base.apk", zipped(t, "base.apk", zipped(t, "base.apk", "x"))),
		"only a folder":        zipped(t, "Payload/", "", "Payload/X.app/", ""),
		"nothing":              zipped(t),
		"text as manifest":     zipped(t, "AndroidManifest.xml", `<?xml version="1.0"?><manifest package="a.b"/>`),
		"text as bundle":       zipped(t, "base/manifest/AndroidManifest.xml", `<manifest/>`),
		"deep message":         of(aab, "base/manifest/AndroidManifest.xml", func([]byte) []byte { return nested(3000) }),
	}
	for i, at := range []int{0, 4, 8, 12, 16, 20, 24, 28} { // sizes and counts at the beginning of a table and of a manifest
		b, m := bytes.Clone(tab), bytes.Clone(manifest)
		binary.LittleEndian.PutUint32(b[at:], 0x7FFFFFF0)
		binary.LittleEndian.PutUint32(m[at:], 0x7FFFFFF0)
		out[fmt.Sprintf("size %d of a table", i)] = zipped(t, "AndroidManifest.xml", manifest, "resources.arsc", b)
		out[fmt.Sprintf("size %d of a manifest", i)] = zipped(t, "AndroidManifest.xml", m, "resources.arsc", tab)
	}
	for i := 1; i < 20; i++ { // cut off, and a byte of the end changed
		out[fmt.Sprintf("cut off %d", i)] = apk[:len(apk)*i/20]
		b := bytes.Clone(apk)
		b[len(b)-i] ^= 0xFF
		out[fmt.Sprintf("end %d", i)] = b
		b = bytes.Clone(ipa)
		b[len(b)-i-22] ^= 0xFF
		out[fmt.Sprintf("directory %d", i)] = b
	}
	for i, m := range [][]byte{{0x1a, 0x87, 0x09, 0x71}, {0xc0, 0x68, 0x53, 0xf0}, []byte("APK Sig Block 42")} { // in the signing block
		at := bytes.LastIndex(apk, m)
		for j := range 12 {
			b := bytes.Clone(apk)
			b[at+len(m)+j-20*bool2int(i == 2)] ^= 0xF1
			out[fmt.Sprintf("signing block %d.%d", i, j)] = b
		}
	}
	return out
}

func many(info []byte, n int) (out []any) {
	for i := range n {
		dir := fmt.Sprintf("Payload/A.app/PlugIns/%d.appex/", i)
		out = append(out, dir+"Info.plist", info, dir+"Hivelog", 1<<20)
	}
	return append(out, "Payload/A.app/Info.plist", info)
}

func manyOf(name, text string, n int, more ...any) (out []any) {
	for i := range n {
		out = append(out, fmt.Sprintf(name, i), text)
	}
	return append(out, more...)
}

// nested writes a document of protocol buffers with elements in each other.
func nested(n int) []byte {
	var b []byte
	for range n {
		e := append([]byte{0x1a, 1, 'x'}, lengthed(0x2a, b)...)
		b = lengthed(0x0a, e)
	}
	return b
}

func lengthed(tag byte, b []byte) []byte {
	return append(binary.AppendUvarint([]byte{tag}, uint64(len(b))), b...)
}

// Each of them gives an error that says something, or facts; LIGARE_HOSTILE names a folder to write them to, for trying
// them on the program.
func TestHostilePackages(t *testing.T) {
	dir := os.Getenv("LIGARE_HOSTILE")
	facts := 0
	for name, b := range hostile(t) {
		if dir != "" {
			if err := os.WriteFile(filepath.Join(dir, name+".apk"), b, 0o644); err != nil {
				t.Fatal(err)
			}
			continue
		}
		a, err := Open(bytes.NewReader(b), int64(len(b)))
		if err == nil {
			var f *Facts
			if f, err = a.Read(t.Context(), Options{Verify: true, Strings: true, Sheets: known}); err == nil {
				facts++
				if _, _, err := a.Tree(f, known); err != nil {
					t.Errorf("%s: read, and is no tree: %v", name, err)
				}
				if s := f.Signing; strings.HasPrefix(name, "bomb") && s != nil && *s.Verified {
					t.Errorf("%s is said to be signed", name)
				}
			}
		}
		if err != nil && (len(err.Error()) < 10 || strings.Contains(err.Error(), "runtime error")) {
			t.Errorf("%s: %v", name, err)
		}
	}
	if dir == "" && facts < 20 {
		t.Errorf("only %d of them were read", facts)
	}
}

func TestWhatHostilePackagesAreTold(t *testing.T) {
	all := hostile(t)
	for name, say := range map[string]string{"bomb.manifest": "at most", "bomb.inside": "base.apk", "twice.manifest": "two entries have this name", "path.payload": "neither APK, AAB nor IPA", "only a folder": "neither APK",
		"deep message": "more than 256 deep", "text as manifest": "at byte 0", "archive in archive": "neither APK", "xml.long strings": "more than any app", "plist.entities": "", "plist.outside": ""} {
		b := all[name]
		a, err := Open(bytes.NewReader(b), int64(len(b)))
		if err == nil {
			_, err = a.Read(t.Context(), Options{})
		}
		if say != "" && (err == nil || !strings.Contains(err.Error(), say)) {
			t.Errorf("%s: %v", name, err)
		}
		if say == "" && err == nil { // an entity is not a value
			f, _ := a.Read(t.Context(), Options{})
			if strings.Contains(f.IOS[0].BundleID, "aaaa") || strings.Contains(f.IOS[0].BundleID, "root") {
				t.Errorf("%s: %s", name, f.IOS[0].BundleID)
			}
		}
	}
	b := all["path.up"]
	a, err := Open(bytes.NewReader(b), int64(len(b)))
	if err != nil {
		t.Fatal(err)
	}
	for _, n := range a.Names() {
		if strings.Contains(n, "..") || strings.HasPrefix(n, "/") {
			t.Errorf("an entry that leads out: %s", n)
		}
	}
}

func FuzzPackage(f *testing.F) {
	for _, name := range []string{"v123.apk", "app.aab", "app.ipa", "old.apk"} {
		f.Add(builttest.Load(f, name))
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		a, err := Open(bytes.NewReader(b), int64(len(b)))
		if err != nil {
			_, _ = Part(bytes.NewReader(b), int64(len(b)))
			return
		}
		facts, err := a.Read(t.Context(), Options{Verify: true, Strings: true, Sheets: known})
		if err != nil {
			return
		}
		if _, _, err := a.Tree(facts, known); err != nil {
			t.Skip()
		}
	})
}
