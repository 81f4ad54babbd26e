package signature

import (
	"archive/zip"
	"bytes"
	"context"
	"encoding/binary"
	"os"
	"slices"
	"strings"
	"testing"
)

func load(t testing.TB, name string) []byte {
	t.Helper()
	b, err := os.ReadFile("../built/builttest/testdata/" + name)
	if err != nil {
		t.Fatal(err)
	}
	return b
}

// verdicts verifies a package: scheme to what is wrong, "" for a signature that holds.
func verdicts(t testing.TB, b []byte) map[Scheme]string {
	t.Helper()
	r := bytes.NewReader(b)
	blk, err := Find(r, int64(len(b)))
	if err != nil {
		t.Fatal(err)
	}
	out := map[Scheme]string{}
	say := func(s Scheme, err error) {
		if err != nil {
			out[s] = err.Error()
		} else if _, had := out[s]; !had {
			out[s] = ""
		}
	}
	list, err := blk.Verify(context.Background(), r)
	if err != nil {
		t.Fatal(err)
	}
	for _, v := range list {
		say(v.Scheme, v.Err)
	}
	z, err := zip.NewReader(r, int64(len(b)))
	if err != nil {
		t.Fatal(err)
	}
	a := ReadArchive(z)
	if err := a.Verify(context.Background(), z); err != nil {
		t.Fatal(err)
	}
	for _, s := range a.Signers {
		say(V1, s.Err)
	}
	return out
}

func TestSignaturesOfTheBuildTools(t *testing.T) {
	for name, want := range map[string][]Scheme{"v1.apk": {V1}, "v12.apk": {V1, V2}, "v123.apk": {V1, V2, V3}, "tree.apk": {V1, V2, V3}, "rotated.apk": {V1, V2, V3}, "two.apk": {V1, V2}, "app.aab": {V1}, "plain.apk": nil} {
		got := verdicts(t, load(t, name))
		if len(got) != len(want) {
			t.Errorf("%s: %v", name, got)
		}
		for _, s := range want {
			if wrong, ok := got[s]; !ok || wrong != "" {
				t.Errorf("%s, scheme %s: %q", name, s, wrong)
			}
		}
	}
}

// repacked copies a package's entries, changed; its signing block is not copied.
func repacked(t *testing.T, src []byte, change func(name string, b []byte) []byte) []byte {
	t.Helper()
	z, err := zip.NewReader(bytes.NewReader(src), int64(len(src)))
	if err != nil {
		t.Fatal(err)
	}
	var out bytes.Buffer
	w := zip.NewWriter(&out)
	for _, f := range z.File {
		b, err := entry(map[string]*zip.File{f.Name: f}, f.Name, 1<<20)
		if err != nil {
			t.Fatal(err)
		}
		if b = change(f.Name, b); b == nil {
			continue
		}
		e, err := w.Create(f.Name)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := e.Write(b); err != nil {
			t.Fatal(err)
		}
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	return out.Bytes()
}

// Whatever is changed of a signed package breaks its signature, and what is said fits.
func TestChangedPackages(t *testing.T) {
	whole := load(t, "v123.apk")
	flipped := func(at int) []byte {
		b := bytes.Clone(whole)
		b[at] ^= 1
		return b
	}
	blk, err := Find(bytes.NewReader(whole), int64(len(whole)))
	if err != nil {
		t.Fatal(err)
	}
	content := verdicts(t, flipped(60)) // in the first entry
	if !strings.Contains(content[V2], "changed after it was signed") || !strings.Contains(content[V3], "changed after it was signed") || content[V1] == "" {
		t.Errorf("a byte of the content: %v", content)
	}
	if got := verdicts(t, flipped(int(blk.directory)+12)); got[V2] == "" || got[V3] == "" { // a time in the directory, which scheme 1 does not cover
		t.Errorf("a byte of the directory: %v", got)
	}
	for i, s := range blk.Signers {
		at := bytes.Index(whole, s.data) + 20 // in the digests that are signed
		if got := verdicts(t, flipped(at)); got[s.Scheme] == "" {
			t.Errorf("a byte of what signer %d signed: %v", i, got)
		}
		for _, sig := range s.signatures {
			if got := verdicts(t, flipped(bytes.Index(whole, sig)+10)); !strings.Contains(got[s.Scheme], "not that of this key") {
				t.Errorf("a byte of signature %d: %v", i, got)
			}
		}
	}
	jar := load(t, "v1.apk")
	for name, c := range map[string]struct {
		change func(name string, b []byte) []byte
		say    string
	}{
		"changed": {func(n string, b []byte) []byte {
			if n == "assets/tollbarrow.yaml" {
				return []byte("package: example.other\n")
			}
			return b
		}, "assets/tollbarrow.yaml was changed"},
		"taken out": {func(n string, b []byte) []byte {
			if n == "assets/tollbarrow.yaml" {
				return nil
			}
			return b
		}, "was taken out"},
		"list changed": {func(n string, b []byte) []byte {
			if n == manifest {
				return bytes.Replace(b, []byte("Name: assets/tollbarrow.yaml"), []byte("Name: assets/tollbarrow.yamm"), 1)
			}
			return b
		}, "was changed after it was signed"},
		"list gone": {func(n string, b []byte) []byte {
			if n == manifest {
				return nil
			}
			return b
		}, "MANIFEST.MF is missing"},
		"signature file changed": {func(n string, b []byte) []byte {
			if n == "META-INF/ONE.SF" {
				return append(b, "X: y\r\n"...)
			}
			return b
		}, "not that of this key over this content"},
		"signature gone": {func(n string, b []byte) []byte {
			if n == "META-INF/ONE.RSA" {
				return nil
			}
			return b
		}, "no signature beside it"},
		"signature cut off": {func(n string, b []byte) []byte {
			if n == "META-INF/ONE.RSA" {
				return b[:100]
			}
			return b
		}, "cut short"},
	} {
		if got := verdicts(t, repacked(t, jar, c.change)); !strings.Contains(got[V1], c.say) {
			t.Errorf("%s: %v", name, got)
		}
	}
	added := repacked(t, jar, func(_ string, b []byte) []byte { return b })
	z := bytes.NewBuffer(nil)
	w := zip.NewWriter(z)
	r, err := zip.NewReader(bytes.NewReader(added), int64(len(added)))
	if err != nil {
		t.Fatal(err)
	}
	for _, f := range r.File {
		if err := w.Copy(f); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := w.Create("assets/more"); err != nil {
		t.Fatal(err)
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	if got := verdicts(t, z.Bytes()); !strings.Contains(got[V1], "assets/more was added") {
		t.Errorf("added: %v", got)
	}
}

// A scheme that was there when the package was signed cannot be taken away unseen.
func TestATakenScheme(t *testing.T) {
	b := bytes.Clone(load(t, "v123.apk"))
	at := bytes.LastIndex(b, []byte{0xc0, 0x68, 0x53, 0xf0}) // scheme 3 becomes something nobody knows
	binary.LittleEndian.PutUint32(b[at:], 0x12345678)
	got := verdicts(t, b)
	if _, there := got[V3]; there || !strings.Contains(got[V2], "scheme 3 was there") {
		t.Errorf("%v", got)
	}
}

func TestABrokenLineage(t *testing.T) {
	whole := load(t, "rotated.apk")
	blk, err := Find(bytes.NewReader(whole), int64(len(whole)))
	if err != nil {
		t.Fatal(err)
	}
	s := blk.Signers[1]
	s.Lineage[1].signature = bytes.Clone(s.Lineage[1].signature)
	s.Lineage[1].signature[20] ^= 1
	if err := s.descended(); err == nil || !strings.Contains(err.Error(), "breaks between certificate 1 and 2") {
		t.Errorf("%v", err)
	}
	s.Lineage = s.Lineage[:1]
	if err := s.descended(); err == nil || !strings.Contains(err.Error(), "another certificate") {
		t.Errorf("%v", err)
	}
}

func TestHostileBlocks(t *testing.T) {
	whole := load(t, "v123.apk")
	blk, err := Find(bytes.NewReader(whole), int64(len(whole)))
	if err != nil {
		t.Fatal(err)
	}
	for name, c := range map[string]struct {
		at    int64
		value uint64
		say   string
	}{
		"a block larger than the file":    {blk.directory - 24, 1 << 40, "says that it has"},
		"a block of nothing":              {blk.directory - 24, 1, "says that it has"},
		"two sizes":                       {blk.start, 17, "two sizes"},
		"a part larger than the block":    {blk.start + 8, 1 << 50, "says that it has"},
		"a part too small for its number": {blk.start + 8, 2, "says that it has"},
	} {
		b := bytes.Clone(whole)
		binary.LittleEndian.PutUint64(b[c.at:], c.value)
		if _, err := Find(bytes.NewReader(b), int64(len(b))); err == nil || !strings.Contains(err.Error(), c.say) {
			t.Errorf("%s: %v", name, err)
		}
	}
	for _, b := range [][]byte{nil, []byte("PK"), make([]byte, 100), whole[:len(whole)-30]} {
		if _, err := Find(bytes.NewReader(b), int64(len(b))); err == nil {
			t.Errorf("%d bytes are taken for an archive", len(b))
		}
	}
}

func FuzzFind(f *testing.F) {
	for _, name := range []string{"v123.apk", "rotated.apk", "two.apk"} {
		b := load(f, name)
		f.Add(b)
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		r := bytes.NewReader(b)
		blk, err := Find(r, int64(len(b)))
		if err != nil {
			return
		}
		if _, err := blk.Verify(context.Background(), r); err != nil {
			return
		}
	})
}

// verified says how fast a whole file is verified: LIGARE_MEGABYTES=320 go test ./core/signature -bench Verify
func BenchmarkVerify(b *testing.B) {
	whole := load(b, "v123.apk")
	r := bytes.NewReader(whole)
	blk, err := Find(r, int64(len(whole)))
	if err != nil {
		b.Fatal(err)
	}
	b.SetBytes(int64(len(whole)))
	for b.Loop() {
		if _, err := blk.Verify(context.Background(), r); err != nil {
			b.Fatal(err)
		}
	}
}

// Scheme 3.1 is scheme 3 under another number, for phones from Android 13 on: its signers say from which version.
func TestScheme31(t *testing.T) {
	b := bytes.Clone(load(t, "rotated.apk"))
	at := bytes.LastIndex(b, []byte{0xc0, 0x68, 0x53, 0xf0})
	binary.LittleEndian.PutUint32(b[at:], 0x1b93ad61)
	blk, err := Find(bytes.NewReader(b), int64(len(b)))
	if err != nil {
		t.Fatal(err)
	}
	s := blk.Signers[1]
	if s.Scheme != V31 || s.MinSDK == 0 || len(s.Lineage) != 2 {
		t.Errorf("%s from SDK %d, %d ancestors", s.Scheme, s.MinSDK, len(s.Lineage))
	}
	list, err := blk.Verify(context.Background(), bytes.NewReader(b))
	if err != nil || list[1].Err != nil {
		t.Errorf("%v %v", list, err)
	}
	// A signer of scheme 3 that says that one of 3.1 is there does not hold without it.
	whole := load(t, "v123.apk")
	if blk, err = Find(bytes.NewReader(whole), int64(len(whole))); err != nil {
		t.Fatal(err)
	}
	blk.Signers[1].Stripped = []Scheme{V31}
	if list, err = blk.Verify(context.Background(), bytes.NewReader(whole)); err != nil || list[1].Err == nil || !strings.Contains(list[1].Err.Error(), "scheme 3.1 was there") {
		t.Errorf("%v %v", list, err)
	}
}

// An archive whose directory is told in the record for large ones is read like any other.
func TestALargeArchive(t *testing.T) {
	whole := load(t, "plain.apk")
	blk, err := Find(bytes.NewReader(whole), int64(len(whole)))
	if err != nil {
		t.Fatal(err)
	}
	le := binary.LittleEndian
	end := bytes.Clone(whole[blk.end:])
	count := uint64(le.Uint16(end[10:]))
	record := make([]byte, 56)
	le.PutUint32(record, 0x06064b50)
	le.PutUint64(record[4:], 44)
	le.PutUint64(record[24:], count)
	le.PutUint64(record[32:], count)
	le.PutUint64(record[40:], uint64(blk.end-blk.directory))
	le.PutUint64(record[48:], uint64(blk.directory))
	locator := make([]byte, 20)
	le.PutUint32(locator, 0x07064b50)
	le.PutUint64(locator[8:], uint64(blk.end))
	le.PutUint32(locator[16:], 1)
	le.PutUint32(end[16:], 0xFFFFFFFF)
	large := slices.Concat(whole[:blk.end], record, locator, end)
	got, err := Find(bytes.NewReader(large), int64(len(large)))
	if err != nil || got.directory != blk.directory {
		t.Fatalf("%+v %v", got, err)
	}
	if n, _, err := got.Count(bytes.NewReader(large), 1000); err != nil || uint64(n) != count {
		t.Errorf("%d entries, and there are %d: %v", n, count, err)
	}
	for name, change := range map[string]func(b []byte){
		"no locator":          func(b []byte) { b[len(b)-len(end)-20] ^= 1 },
		"a locator that errs": func(b []byte) { le.PutUint64(b[len(b)-len(end)-12:], 1<<60) },
		"no record":           func(b []byte) { b[blk.end] ^= 1 },
		"behind its end":      func(b []byte) { le.PutUint64(b[blk.end+48:], 1<<50) },
	} {
		b := bytes.Clone(large)
		change(b)
		if _, err := Find(bytes.NewReader(b), int64(len(b))); err == nil {
			t.Errorf("%s: no error", name)
		}
	}
}
