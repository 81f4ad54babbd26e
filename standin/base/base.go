// Package base is what the simulated services share: accounts, storage in a file of their own, JSON in and out, answers
// that repeat for a repeated key, and faults that can be switched on. It shares nothing with the product.
package base

import (
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"math/big"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"
)

// Store keeps a service's data in one JSON file; every change is written before it is answered.
type Store[T any] struct {
	mu   sync.Mutex
	file string
	Data T
}

// Open reads the file, or begins with empty data.
func Open[T any](file string, empty T) (*Store[T], error) {
	s := &Store[T]{file: file, Data: empty}
	b, err := os.ReadFile(file)
	if os.IsNotExist(err) {
		return s, os.MkdirAll(filepath.Dir(file), 0o700)
	}
	if err != nil {
		return nil, err
	}
	if err := json.Unmarshal(b, &s.Data); err != nil {
		return nil, fmt.Errorf("%s: %w", file, err)
	}
	return s, nil
}

// Do runs f alone on the data and writes it when f changed something.
func (s *Store[T]) Do(f func(d *T) (changed bool)) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if !f(&s.Data) {
		return nil
	}
	b, err := json.MarshalIndent(s.Data, "", " ")
	if err != nil {
		return err
	}
	tmp := s.file + ".new"
	if err := os.WriteFile(tmp, b, 0o600); err != nil {
		return err
	}
	return os.Rename(tmp, s.file)
}

// Hex gives n random bytes as hexadecimal.
func Hex(n int) string {
	b := make([]byte, n)
	if _, err := rand.Read(b); err != nil {
		panic(err) // the system has no randomness
	}
	return hex.EncodeToString(b)
}

// Digits gives n random digits, the first not 0.
func Digits(n int) string {
	var b strings.Builder
	for i := range n {
		limit, add := int64(10), int64(0)
		if i == 0 {
			limit, add = 9, 1
		}
		d, err := rand.Int(rand.Reader, big.NewInt(limit))
		if err != nil {
			panic(err)
		}
		fmt.Fprintf(&b, "%d", d.Int64()+add)
	}
	return b.String()
}

// Write answers with JSON.
func Write(w http.ResponseWriter, status int, v any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(v) // the caller is gone when this fails
}

// Read takes a JSON body of at most 1 MB.
func Read(r *http.Request, v any) error {
	d := json.NewDecoder(http.MaxBytesReader(nil, r.Body, 1<<20))
	return d.Decode(v)
}

// Bearer gives the credential of a request.
func Bearer(r *http.Request) string {
	return strings.TrimPrefix(r.Header.Get("Authorization"), "Bearer ")
}

// Faults make a service misbehave on purpose.
type Faults struct {
	mu   sync.Mutex
	list []Fault
}

// Fault is one misbehaviour: for the next Times requests whose path contains Path.
type Fault struct {
	Kind   string `json:"kind"` // slow, busy, broken, half, lost
	Path   string `json:"path"`
	Times  int    `json:"times"`
	Millis int    `json:"millis"`
}

// Add switches a fault on.
func (f *Faults) Add(x Fault) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.list = append(f.list, x)
}

func (f *Faults) next(path string) (Fault, bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	for i := range f.list {
		if f.list[i].Times > 0 && strings.Contains(path, f.list[i].Path) {
			f.list[i].Times--
			return f.list[i], true
		}
	}
	return Fault{}, false
}

// Wrap applies faults in front of a handler.
func (f *Faults) Wrap(h http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		x, ok := f.next(r.URL.Path)
		if !ok {
			h.ServeHTTP(w, r)
			return
		}
		switch x.Kind {
		case "slow":
			time.Sleep(time.Duration(x.Millis) * time.Millisecond)
			h.ServeHTTP(w, r)
		case "busy":
			w.Header().Set("Retry-After", "1")
			w.WriteHeader(http.StatusTooManyRequests)
		case "broken":
			w.WriteHeader(http.StatusBadGateway)
		case "lost": // the work is done, the answer never arrives
			h.ServeHTTP(&discard{header: http.Header{}}, r)
			cut(w)
		case "half":
			w.Header().Set("Content-Length", "1000")
			w.WriteHeader(http.StatusOK)
			_, _ = w.Write([]byte(`{"id": "`))
			cut(w)
		default:
			h.ServeHTTP(w, r)
		}
	})
}

// cut ends a connection without an answer.
func cut(w http.ResponseWriter) {
	if f, ok := w.(http.Flusher); ok {
		f.Flush()
	}
	panic(http.ErrAbortHandler)
}

type discard struct{ header http.Header }

func (d *discard) Header() http.Header         { return d.header }
func (d *discard) Write(b []byte) (int, error) { return len(b), nil }
func (d *discard) WriteHeader(int)             {}
