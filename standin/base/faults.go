package base

import (
	"math/rand/v2"
	"net/http"
	"strings"
	"sync"
	"time"
)

// Faults make a service misbehave on purpose.
type Faults struct {
	mu   sync.Mutex
	list []Fault
}

// Fault is one misbehaviour: for the next Times requests whose path contains Path and whose method is Method (any, if
// none is named).
//
//	slow     answered after Millis
//	hang     never answered; nothing is done
//	busy     429 with Retry-After: 1
//	broken   502
//	lost     the work is done, the answer never arrives
//	half     half of an answer arrives; nothing is done
//	torn     the work is done, half of the answer arrives
//	garbage  200 with a body that is not the protocol's
//	late     sightings are shown only after Millis (until it is set to 0)
//	random   any of hang, busy, broken, lost, half, torn, in Percent of the requests
//	clear    takes all faults away
type Fault struct {
	Kind    string `json:"kind"`
	Path    string `json:"path"`
	Method  string `json:"method"`
	Times   int    `json:"times"`
	Millis  int    `json:"millis"`
	Percent int    `json:"percent"`
}

// Add switches a fault on.
func (f *Faults) Add(x Fault) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if x.Kind == "clear" {
		f.list = nil
		return
	}
	f.list = append(f.list, x)
}

// Late gives how long sightings are held back.
func (f *Faults) Late() time.Duration {
	f.mu.Lock()
	defer f.mu.Unlock()
	for i := len(f.list) - 1; i >= 0; i-- {
		if f.list[i].Kind == "late" {
			return time.Duration(f.list[i].Millis) * time.Millisecond
		}
	}
	return 0
}

func (f *Faults) next(method, path string) (Fault, bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	for i := range f.list {
		x := &f.list[i]
		if x.Kind == "late" || x.Times <= 0 || !strings.Contains(path, x.Path) || x.Method != "" && x.Method != method {
			continue
		}
		if x.Percent > 0 && rand.IntN(100) >= x.Percent {
			continue
		}
		x.Times--
		out := *x
		if out.Kind == "random" {
			kinds := []string{"hang", "busy", "broken", "lost", "half", "torn"}
			out.Kind = kinds[rand.IntN(len(kinds))]
		}
		return out, true
	}
	return Fault{}, false
}

// Wrap applies faults in front of a handler.
func (f *Faults) Wrap(h http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		x, ok := f.next(r.Method, r.URL.Path)
		if !ok {
			h.ServeHTTP(w, r)
			return
		}
		wait := time.Duration(x.Millis) * time.Millisecond
		switch x.Kind {
		case "slow":
			time.Sleep(wait)
			h.ServeHTTP(w, r)
		case "hang":
			if wait == 0 {
				wait = 2 * time.Second
			}
			select {
			case <-r.Context().Done():
			case <-time.After(wait):
			}
			cut()
		case "busy":
			w.Header().Set("Retry-After", "1")
			w.WriteHeader(http.StatusTooManyRequests)
		case "broken":
			w.WriteHeader(http.StatusBadGateway)
		case "lost":
			h.ServeHTTP(&discard{header: http.Header{}}, r)
			cut()
		case "torn":
			h.ServeHTTP(&discard{header: http.Header{}}, r)
			half(w)
		case "half":
			half(w)
		case "garbage":
			w.Header().Set("Content-Type", "text/html")
			_, _ = w.Write([]byte("<!doctype html><title>Welcome</title><p>Please sign in to the network.")) // the caller may be gone
		default:
			h.ServeHTTP(w, r)
		}
	})
}

func half(w http.ResponseWriter) {
	w.Header().Set("Content-Length", "1000")
	w.WriteHeader(http.StatusOK)
	_, _ = w.Write([]byte(`{"id": "`)) // the connection is cut next
	if f, ok := w.(http.Flusher); ok {
		f.Flush()
	}
	cut()
}

// cut ends a connection without an answer, or in the middle of one.
func cut() { panic(http.ErrAbortHandler) }

type discard struct{ header http.Header }

func (d *discard) Header() http.Header         { return d.header }
func (d *discard) Write(b []byte) (int, error) { return len(b), nil }
func (d *discard) WriteHeader(int)             {}
