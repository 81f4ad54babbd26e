package comb

import (
	"archive/zip"
	"bytes"
	"context"
	"io"
	"slices"
	"strings"
	"testing"
)

func zipped(t *testing.T, stored bool, entries ...string) string {
	t.Helper()
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	for i := 0; i < len(entries); i += 2 {
		h := &zip.FileHeader{Name: entries[i], Method: zip.Deflate}
		if stored {
			h.Method = zip.Store
		}
		e, err := w.CreateHeader(h)
		if err == nil {
			_, err = io.WriteString(e, entries[i+1])
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	return b.String()
}

// A secret is found in what is packed, and in what is packed in that; what stands there unpacked shows with the file.
func TestWhatIsPacked(t *testing.T) {
	const secret = "tms-9f8e7d6c5b4a39281706f5e4d3c2b1a0"
	c := New(Make(make([]byte, 32), make([]byte, 32), []Secret{{ID: "a", Kind: ServerSecret, Say: "the secret", Value: secret, From: 4}}))
	text := strings.Repeat("nothing ", 50) + secret + strings.Repeat(" nothing", 50)
	inner := zipped(t, false, "deep.txt", text)
	middle := zipped(t, false, "lib.jar", inner, "own.txt", text)
	for name, c2 := range map[string]struct {
		src  string
		want []string
	}{
		"packed":             {zipped(t, false, "a/b.txt", text, "c.txt", "nothing"), []string{"a/b.txt"}},
		"stored":             {zipped(t, true, "a/b.txt", text), nil},
		"packed in packed":   {zipped(t, false, "in.zip", middle), []string{"in.zip!lib.jar!deep.txt", "in.zip!own.txt"}},
		"a library, stored":  {zipped(t, true, "classes.jar", inner), []string{"classes.jar!deep.txt"}},
		"not an archive":     {"PK\x03\x04 and then a text", nil},
		"an archive cut off": {zipped(t, false, "a.txt", text)[:40], nil},
	} {
		var got []string
		skipped, err := c.Archive(context.Background(), strings.NewReader(c2.src), int64(len(c2.src)), &Buffers{}, func(entry string, h Hit) { got = append(got, entry) })
		slices.Sort(got)
		if err != nil || len(skipped) > 0 || !slices.Equal(got, c2.want) {
			t.Errorf("%s: %v %v %v", name, got, skipped, err)
		}
	}
	for name, c2 := range map[string]struct{ src, say string }{
		"archives deep in archives":     {zipped(t, false, "a.zip", zipped(t, false, "b.zip", zipped(t, false, "c.zip", inner))), "a.zip!b.zip!c.zip: archives in it are not followed so deep"},
		"a large archive in an archive": {zipped(t, false, "large.zip", strings.Repeat("x", mostInner+1)), "large.zip has more than 64 MB"},
		"a broken archive in an archive": {func() string {
			b := []byte(zipped(t, false, "in.zip", middle))
			b[40] ^= 0xFF
			return string(b)
		}(), "in.zip cannot be unpacked to its end"},
	} {
		skipped, err := c.Archive(context.Background(), strings.NewReader(c2.src), int64(len(c2.src)), &Buffers{}, func(string, Hit) {})
		if err != nil || len(skipped) == 0 || !strings.Contains(skipped[0], c2.say) {
			t.Errorf("%s: %v %v", name, skipped, err)
		}
	}
	broken := []byte(zipped(t, false, "a.txt", text, "b.txt", text))
	broken[45] ^= 0xFF
	var got []string
	skipped, err := c.Archive(context.Background(), bytes.NewReader(broken), int64(len(broken)), &Buffers{}, func(entry string, h Hit) { got = append(got, entry) })
	if err != nil || len(skipped) != 1 || !strings.Contains(skipped[0], "a.txt cannot be unpacked to its end") || !slices.Equal(got, []string{"b.txt"}) {
		t.Errorf("one that is broken in the middle: %v %v %v", got, skipped, err)
	}
	ctx, stop := context.WithCancel(context.Background())
	stop()
	if _, err := c.Archive(ctx, strings.NewReader(middle), int64(len(middle)), &Buffers{}, func(string, Hit) {}); err == nil {
		t.Error("it cannot be stopped")
	}
}
