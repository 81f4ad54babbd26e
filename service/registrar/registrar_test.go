package registrar

import (
	"context"
	"errors"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"

	"ligare/core/sheet"
)

var described = &sheet.Sheet{Title: "Service", Connector: sheet.Connector{LostAnswer: sheet.ByKey, Code: "/no/code", Text: "/no/words"},
	Messages: []sheet.Message{{Code: "taken", Cause: "The name is taken.", Remedy: "Use another."}}}

// answering makes a service that gives one answer after the other, the last one for good.
func answering(t *testing.T, answers ...func(w http.ResponseWriter)) (*Remote, *atomic.Int32) {
	t.Helper()
	var n atomic.Int32
	ts := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("Authorization") != "Bearer c" {
			t.Errorf("authorization %q", r.Header.Get("Authorization"))
		}
		answers[min(int(n.Add(1)), len(answers))-1](w)
	}))
	t.Cleanup(ts.Close)
	return &Remote{Sheet: described, Address: ts.URL + "/", Credential: "c"}, &n
}

func say(status int, body string) func(http.ResponseWriter) {
	return func(w http.ResponseWriter) {
		w.Header().Set("Retry-After", "0")
		w.WriteHeader(status)
		_, _ = w.Write([]byte(body))
	}
}

func cut(http.ResponseWriter) { panic(http.ErrAbortHandler) }

func TestWhatAnAnswerMeans(t *testing.T) {
	ok := say(201, `{"id": "1", "revision": 3, "values": {"k": "v"}}`)
	for _, c := range []struct {
		name    string
		key     string
		answers []func(http.ResponseWriter)
		calls   int32
		kind    string
		text    string
	}{
		{"done", "k", []func(http.ResponseWriter){ok}, 1, "", ""},
		{"busy, then done", "k", []func(http.ResponseWriter){say(429, ""), ok}, 2, "", ""},
		{"broken twice, then done", "k", []func(http.ResponseWriter){say(500, ""), say(503, "x"), ok}, 3, "", ""},
		{"cut, then done", "k", []func(http.ResponseWriter){cut, ok}, 2, "", ""},
		{"half an answer, then done", "k", []func(http.ResponseWriter){say(200, `{"id": `), ok}, 2, "", ""},
		{"busy for good", "k", []func(http.ResponseWriter){say(429, "")}, 3, "unreachable", "busy"},
		{"lost, then busy for good", "k", []func(http.ResponseWriter){cut, say(429, "")}, 3, "lost", ""},
		{"broken for good", "k", []func(http.ResponseWriter){say(502, "")}, 3, "lost", "502"},
		{"broken, and not repeatable", "", []func(http.ResponseWriter){say(502, ""), ok}, 1, "lost", ""},
		{"another protocol's answer", "k", []func(http.ResponseWriter){say(200, "<html>")}, 3, "lost", "not of its protocol"},
		{"an answer without an id", "k", []func(http.ResponseWriter){say(200, `{"revision": 1}`)}, 1, "lost", "has no id"},
		{"a control character", "k", []func(http.ResponseWriter){say(200, `{"id": "1", "values": {"k": "v\u0000"}}`)}, 1, "lost", "control character"},
		{"a key without a value", "k", []func(http.ResponseWriter){say(200, `{"id": "1", "keys": [{"id": "k"}]}`)}, 1, "lost", "a key has no"},
		{"100 MB", "k", []func(http.ResponseWriter){func(w http.ResponseWriter) {
			for range 100 {
				if _, err := w.Write(make([]byte, 1<<20)); err != nil {
					return // hung up in the middle, as hoped
				}
			}
		}}, 1, "lost", "larger than"},
		{"refused in words we know", "k", []func(http.ResponseWriter){say(409, `{"no": {"code": "taken", "words": "gone!"}}`)}, 1, "refused", "The name is taken. (in its words: gone!)"},
		{"refused in words we do not know", "k", []func(http.ResponseWriter){say(422, `{"no": {"code": "odd", "words": "hm"}}`)}, 1, "refused", "hm"},
		{"refused without words", "k", []func(http.ResponseWriter){say(403, `go away`)}, 1, "refused", "go away"},
	} {
		r, calls := answering(t, c.answers...)
		got, err := r.Create(context.Background(), c.key, New{})
		kind := ""
		var refused *Refused
		var lost *Lost
		var away *Unreachable
		switch {
		case errors.As(err, &refused):
			kind = "refused"
		case errors.As(err, &lost):
			kind = "lost"
		case errors.As(err, &away):
			kind = "unreachable"
		}
		if kind != c.kind || err != nil && !strings.Contains(err.Error(), c.text) || err == nil && got.Values["k"] != "v" || calls.Load() != c.calls {
			t.Errorf("%s: %s %v after %d calls", c.name, kind, err, calls.Load())
		}
	}
	r := &Remote{Sheet: described, Address: "http://127.0.0.1:9"}
	var away *Unreachable
	if _, err := r.Get(context.Background(), "x"); !errors.As(err, &away) {
		t.Errorf("nobody there: %v", err)
	}
}

func TestLookingUpAndFiles(t *testing.T) {
	r, _ := answering(t, say(200, `{"registrations": []}`), say(200, `{"registrations": [{"id": "9"}]}`), say(200, "raw\x00bytes"))
	if got, err := r.ByReference(context.Background(), "a b"); got != nil || err != nil {
		t.Errorf("%v %v", got, err)
	}
	if got, err := r.ByReference(context.Background(), "a b"); err != nil || got.ID != "9" {
		t.Errorf("%v %v", got, err)
	}
	if b, err := r.File(context.Background(), "1", "ios", "x", "f"); err != nil || string(b) != "raw\x00bytes" {
		t.Errorf("%q %v", b, err)
	}
}

// A create at a service that knows no keys is sent once, and never again by anybody below us.
func TestWhatCannotBeRepeatedIsSentOnce(t *testing.T) {
	for _, how := range []string{sheet.ByReference, sheet.Never} {
		r, calls := answering(t, say(200, `{"id": "1"}`), cut)
		r.Sheet = &sheet.Sheet{Title: "Service", Connector: sheet.Connector{LostAnswer: how}}
		if _, err := r.Get(context.Background(), "1"); err != nil { // opens a connection that is used again
			t.Fatal(err)
		}
		_, err := r.Create(context.Background(), "k", New{})
		var lost *Lost
		if !errors.As(err, &lost) || calls.Load() != 2 {
			t.Errorf("%s: %v after %d calls", how, err, calls.Load()-1)
		}
	}
}
