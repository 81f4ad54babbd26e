package job

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"io/fs"
	mrand "math/rand/v2"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"testing"
	"time"

	"ligare/core/comb"
)

// haystack writes a folder of so many bytes: source as this repository has it, lines of data, binaries and large files,
// with each needle planted in one form or another, also across the borders of what is read at once. It gives how often
// each was planted.
func haystack(b *testing.B, dir string, total int64, needles []string) map[string]int {
	b.Helper()
	var source []byte
	err := filepath.WalkDir("..", func(name string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() && (d.Name() == "node_modules" || d.Name() == ".git") {
			if d != nil && d.IsDir() && err == nil {
				return fs.SkipDir
			}
			return err
		}
		if ext := filepath.Ext(name); d.Type().IsRegular() && (ext == ".go" || ext == ".tsx" || ext == ".md" || ext == ".yaml" || ext == ".kt" || ext == ".swift" || ext == ".pbxproj") {
			text, err := os.ReadFile(name)
			source = append(source, text...)
			return err
		}
		return nil
	})
	if err != nil || len(source) < 1<<20 {
		b.Fatal(err)
	}
	r := mrand.New(mrand.NewPCG(5, 6))
	planted := map[string]int{}
	forms := []func(string) string{
		func(s string) string { return s },
		func(s string) string { return base64.StdEncoding.EncodeToString([]byte("id:" + s)) },
		func(s string) string { return base64.RawURLEncoding.EncodeToString([]byte("a" + s + "\n")) },
		func(s string) string { return "https://example.test/?key=" + url.QueryEscape("é"+s) },
		func(s string) string {
			var u []byte
			for i := range len(s) {
				u = append(u, s[i], 0)
			}
			return string(u)
		},
	}
	edges := []int{64<<10 + 1<<20, 1 << 20, 64 << 10, 64<<10 + 2<<20}
	next, file := 0, 0
	for done := int64(0); done < total; file++ {
		n := []int{80 << 10, 60 << 10, 900 << 10, 24 << 20}[file%4]
		text := make([]byte, n)
		switch {
		case file%7 == 3: // a binary
			for i := 0; i+8 <= n; i += 8 {
				v := r.Uint64()
				for j := range 8 {
					text[i+j] = byte(v >> (8 * j))
				}
			}
		default:
			for at := 0; at < n; {
				from := r.IntN(len(source) - 4096)
				at += copy(text[at:], source[from:min(len(source), from+64<<10)])
			}
		}
		for k := range 1 + n>>22 {
			s := needles[next%len(needles)]
			form := "\n" + forms[(next/len(needles)+next)%len(forms)](s) + "\n"
			at := n/8*(k%8) + r.IntN(n/8-2048)
			if k < len(edges) && edges[k]+len(form) < n {
				at = edges[k] - r.IntN(len(form))
			}
			copy(text[at:], form)
			planted[s]++
			next++
		}
		if err := os.WriteFile(filepath.Join(dir, fmt.Sprintf("%d.txt", file)), text, 0o644); err != nil {
			b.Fatal(err)
		}
		done += int64(n)
	}
	return planted
}

// BenchmarkCombAgainstASearch combs as many megabytes as LIGARE_MEGABYTES says (100 otherwise) for 100 secrets, and lets
// grep look for the same 100 texts in the same files, in turn. grep sees them plain only.
func BenchmarkCombAgainstASearch(b *testing.B) {
	megabytes := int64(100)
	if _, err := fmt.Sscan(os.Getenv("LIGARE_MEGABYTES"), &megabytes); err != nil && os.Getenv("LIGARE_MEGABYTES") != "" {
		b.Fatal(err)
	}
	var list []comb.Secret
	var texts []string
	for i := range 100 {
		raw := make([]byte, 24)
		if _, err := rand.Read(raw); err != nil {
			b.Fatal(err)
		}
		v := "tmx-" + hex.EncodeToString(raw)
		list, texts = append(list, comb.Secret{ID: fmt.Sprint(i), Kind: comb.ServerSecret, Say: "secret " + fmt.Sprint(i), Value: v, From: 4}), append(texts, v)
	}
	dir := b.TempDir()
	planted := haystack(b, dir, megabytes<<20, texts)
	words := filepath.Join(b.TempDir(), "words")
	if err := os.WriteFile(words, []byte(strings.Join(texts, "\n")+"\n"), 0o600); err != nil {
		b.Fatal(err)
	}
	b.Setenv("LIGARE_HOME", b.TempDir())
	w, err := Open(dir)
	if err != nil {
		b.Fatal(err)
	}
	table, key := sha256.Sum256([]byte("table")), sha256.Sum256([]byte("key"))
	handout := comb.Make(table[:], key[:], list)
	var ours, theirs time.Duration
	var peak uint64
	for b.Loop() {
		k := &comber{w: w, c: comb.New(handout), found: &findings{}}
		at := time.Now()
		if err := k.files(context.Background()); err != nil {
			b.Fatal(err)
		}
		ours += time.Since(at)
		var m runtime.MemStats
		runtime.ReadMemStats(&m)
		peak = max(peak, m.Sys)
		found := map[string]int{}
		for _, f := range k.found.list {
			for i := range list {
				if strings.Contains(f.Message, list[i].Say+" stands") {
					found[list[i].Value]++
				}
			}
		}
		for v, n := range planted {
			if found[v] < n {
				b.Fatalf("%s was planted %d times and found %d times", v, n, found[v])
			}
		}
		at = time.Now()
		cmd := exec.Command("grep", "-r", "-c", "-a", "-F", "-f", words, dir)
		cmd.Env = append(os.Environ(), "LC_ALL=C")
		var out bytes.Buffer
		cmd.Stdout = &out
		if err := cmd.Run(); err != nil {
			b.Fatal(err)
		}
		theirs += time.Since(at)
	}
	n := float64(b.N)
	b.ReportMetric(ours.Seconds()/n, "s/comb")
	b.ReportMetric(theirs.Seconds()/n, "s/grep")
	b.ReportMetric(ours.Seconds()/theirs.Seconds(), "ratio")
	b.ReportMetric(float64(len(planted)), "found")
	b.ReportMetric(float64(peak)/1e6, "MB")
}
