package client

import (
	"context"
	"errors"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"ligare/client/shape"
)

func TestFind(t *testing.T) {
	home := t.TempDir()
	t.Setenv("LIGARE_HOME", home)
	if _, err := Find("", "", ""); !errors.Is(err, ErrNoServer) {
		t.Errorf("nothing known: %v", err)
	}
	if _, err := Find("", "", "https://team.example"); err == nil || !strings.Contains(err.Error(), "LIGARE_TOKEN") {
		t.Errorf("the tree's server without a token: %v", err)
	}
	if err := SaveEndpoint(home, Endpoint{Address: "http://own", Token: "own-token"}); err != nil {
		t.Fatal(err)
	}
	if info, err := os.Stat(filepath.Join(home, "endpoint.json")); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("others may read the token: %v %v", info.Mode(), err)
	}
	for _, c := range []struct{ server, token, tree, address, want string }{
		{"", "", "", "http://own", "own-token"}, {"http://x", "t", "", "http://x", "t"}, {"", "t", "http://team", "http://team", "t"}, {"http://x", "t", "http://team", "http://x", "t"},
		{"", "t", "", "http://own", "t"}, {"http://own", "", "", "http://own", "own-token"},
	} {
		got, err := Find(c.server, c.token, c.tree)
		if err != nil || got.Address != c.address || got.Token != c.want {
			t.Errorf("%+v: %+v %v", c, got, err)
		}
	}
	if _, err := Find("http://x", "", ""); err == nil || !strings.Contains(err.Error(), "LIGARE_TOKEN") {
		t.Errorf("our own token must not go to another server: %v", err)
	}
}

func TestAnswers(t *testing.T) {
	keys := map[string]int{}
	calls := 0
	ts := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		calls++
		switch r.URL.Path {
		case "/v1/me":
			w.WriteHeader(403)
			_, _ = w.Write([]byte(`{"title":"Forbidden","status":403,"detail":"no","remedy":"ask"}`))
		case "/v1/services":
			w.WriteHeader(502)
			_, _ = w.Write([]byte("<html>proxy</html>"))
		case "/v1/apps":
			if r.Method == "POST" {
				keys[r.Header.Get("Idempotency-Key")]++
				if calls == 3 {
					panic(http.ErrAbortHandler)
				}
				_, _ = w.Write([]byte(`{"name":"a"}`))
				return
			}
			if r.URL.Query().Get("after") == "" {
				_, _ = w.Write([]byte(`{"items":[{"name":"a"}],"next":"a"}`))
			} else {
				_, _ = w.Write([]byte(`{"items":[{"name":"b"}]}`))
			}
		default:
			_, _ = w.Write([]byte("<html>"))
		}
	}))
	defer ts.Close()
	c := &Client{Address: ts.URL, Token: "t"}
	ctx := context.Background()
	var p *shape.Problem
	if _, err := c.Me(ctx); !errors.As(err, &p) || p.Remedy != "ask" {
		t.Errorf("a problem: %v", err)
	}
	if _, err := c.Services(ctx); err == nil || !strings.Contains(err.Error(), "not a Ligare server") {
		t.Errorf("something between: %v", err)
	}
	if a, err := c.SaveApp(ctx, shape.NewApp{Name: "a"}); err != nil || a.Name != "a" || len(keys) != 1 {
		t.Errorf("a lost answer is asked for again under the same key: %v %v", keys, err)
	}
	if list, err := c.Apps(ctx); err != nil || len(list) != 2 {
		t.Errorf("pages: %v %v", list, err)
	}
	if _, err := c.App(ctx, "x"); err == nil || !strings.Contains(err.Error(), "does not answer like") {
		t.Errorf("not JSON: %v", err)
	}
	var away *Unreachable
	if _, err := (&Client{Address: "http://127.0.0.1:9"}).Me(ctx); !errors.As(err, &away) {
		t.Errorf("nobody there: %v", err)
	}
}
