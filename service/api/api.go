// Package api is the HTTP face of the records: each handler decodes, calls one method of package records, and encodes.
// The document at /openapi.json says the same to machines; a test holds the two against each other.
package api

import (
	"context"
	_ "embed"
	"encoding/json"
	"errors"
	"io"
	"log/slog"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"
	"github.com/jackc/pgx/v5"

	"ligare/client/shape"
	"ligare/service/records"
	"ligare/service/store"
)

//go:embed openapi.json
var document []byte

// API serves the records.
type API struct {
	Records *records.Records
	Log     *slog.Logger
	Console http.Handler // everything that is not the API
	Largest int64        // package that may be handed in, in bytes; LargestPackage when zero
	done    context.Context
	handing chan struct{}
}

const cookie = "ligare_session"

// Handler gives the routes. ctx ends long-lived answers when the server stops.
func (a *API) Handler(ctx context.Context) http.Handler {
	a.done, a.handing = ctx, make(chan struct{}, packagesAtOnce)
	r := chi.NewRouter()
	r.Use(middleware.RequestID, a.logged, middleware.Recoverer, secure)
	r.Get("/healthz", func(w http.ResponseWriter, _ *http.Request) { write(w, 200, map[string]string{"status": "alive"}) })
	r.Get("/readyz", a.ready)
	r.Get("/openapi.json", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		_, _ = w.Write(document) // the caller is gone when this fails
	})
	r.Route("/v1", func(r chi.Router) {
		r.NotFound(func(w http.ResponseWriter, r *http.Request) {
			problem(w, shape.Problem{Status: 404, Title: "Not found", Detail: "there is nothing at " + r.URL.Path, Remedy: "See /openapi.json."})
		})
		r.Post("/session", a.signIn)
		r.Delete("/session", a.signOut)
		r.Group(func(r chi.Router) {
			r.Use(a.signedIn)
			r.Get("/me", a.me)
			r.Get("/overview", a.overview)
			r.Get("/apps", a.apps)
			r.Post("/apps", a.saveApp)
			r.Get("/apps/{app}", a.app)
			r.Get("/apps/{app}/lineup", a.lineUp)
			r.Get("/apps/{app}/report", a.report)
			r.Put("/apps/{app}/report", a.saveReport)
			r.Get("/apps/{app}/survey", a.survey)
			r.Put("/apps/{app}/survey", a.saveSurvey)
			r.Get("/apps/{app}/sightings", a.sightings)
			r.Get("/signers", a.signers)
			r.Post("/signers", a.saveSigner)
			r.Get("/services", a.services)
			r.Get("/services/{service}", a.service)
			r.Put("/services/{service}/account", a.connect)
			a.registrationRoutes(r)
			a.packageRoutes(r)
			r.Post("/tokens", a.machineToken)
			r.Get("/events", a.events)
		})
	})
	if a.Console != nil {
		r.Handle("/*", a.Console)
	}
	return r
}

// secure sets the headers every answer carries.
func secure(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h := w.Header()
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("Referrer-Policy", "no-referrer")
		h.Set("Content-Security-Policy", "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; frame-ancestors 'none'")
		if strings.HasPrefix(r.URL.Path, "/v1/") {
			h.Set("Cache-Control", "no-store")
		}
		next.ServeHTTP(w, r)
	})
}

// logged writes one line a request: never a header, a query or a body, where secrets could stand.
func (a *API) logged(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		ww := middleware.NewWrapResponseWriter(w, r.ProtoMajor)
		begin := time.Now()
		next.ServeHTTP(ww, r)
		a.Log.Info("request", "id", middleware.GetReqID(r.Context()), "method", r.Method, "path", r.URL.Path, "status", ww.Status(), "bytes", ww.BytesWritten(), "took", time.Since(begin).Round(time.Microsecond))
	})
}

func write(w http.ResponseWriter, status int, v any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	e := json.NewEncoder(w)
	e.SetEscapeHTML(false)
	_ = e.Encode(v) // the caller is gone when this fails
}

// problem is the one writer of error answers (RFC 9457).
func problem(w http.ResponseWriter, p shape.Problem) {
	if p.Type == "" {
		p.Type = "about:blank"
	}
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(p.Status)
	_ = json.NewEncoder(w).Encode(p) // the caller is gone when this fails
}

// fail answers an error: ours with its remedy, an absent database with 503, anything else without its inside.
func (a *API) fail(w http.ResponseWriter, r *http.Request, err error) {
	if e, ok := records.As(err); ok {
		if e.Kind == records.NoToken {
			w.Header().Set("WWW-Authenticate", "Bearer")
		}
		problem(w, shape.Problem{Status: int(e.Kind), Title: http.StatusText(int(e.Kind)), Detail: e.What, Remedy: e.Remedy})
		return
	}
	var tooBig *http.MaxBytesError
	switch {
	case errors.As(err, &tooBig):
		problem(w, shape.Problem{Status: 413, Title: "Too large", Detail: err.Error(), Remedy: "Send less at once."})
	case store.Away(err):
		w.Header().Set("Retry-After", "2")
		problem(w, shape.Problem{Status: 503, Title: "The records cannot be reached", Detail: "the server's database does not answer", Remedy: "Try again in a moment; nothing was lost."})
	default:
		a.Log.Error("request failed", "id", middleware.GetReqID(r.Context()), "path", r.URL.Path, "error", err)
		problem(w, shape.Problem{Status: 500, Title: "Something broke here", Detail: "the server could not do this", Remedy: "Its log has the cause under request " + middleware.GetReqID(r.Context()) + "."})
	}
}

type callerKey struct{}

func caller(r *http.Request) records.Caller {
	c, _ := r.Context().Value(callerKey{}).(records.Caller)
	return c
}

// signedIn finds the caller by token, from the header or the console's cookie. A cookie only works for requests from
// the console's own pages.
func (a *API) signedIn(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		token, ok := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
		if !ok {
			if k, err := r.Cookie(cookie); err == nil {
				token = k.Value
				if r.Method != http.MethodGet && !sameOrigin(r) {
					problem(w, shape.Problem{Status: 403, Title: "Forbidden", Detail: "the request comes from another site", Remedy: "Use the console, or send the token in the Authorization header."})
					return
				}
			}
		}
		if token == "" {
			w.Header().Set("WWW-Authenticate", "Bearer")
			problem(w, shape.Problem{Status: 401, Title: "Unauthorized", Detail: "a token is needed", Remedy: "Sign in, or send the token in the Authorization header."})
			return
		}
		c, err := a.Records.Authenticate(r.Context(), token)
		if err != nil {
			a.fail(w, r, err)
			return
		}
		next.ServeHTTP(w, r.WithContext(context.WithValue(r.Context(), callerKey{}, c)))
	})
}

func sameOrigin(r *http.Request) bool {
	switch r.Header.Get("Sec-Fetch-Site") {
	case "same-origin", "none":
		return true
	case "":
		o := r.Header.Get("Origin")
		return o == "http://"+r.Host || o == "https://"+r.Host
	}
	return false
}

// maxBody bounds what a request may send.
const maxBody = 8 << 20

// take reads a JSON body, keeping its bytes for the idempotency key.
func take(w http.ResponseWriter, r *http.Request, v any) ([]byte, error) {
	b, err := io.ReadAll(http.MaxBytesReader(w, r.Body, maxBody))
	if err != nil {
		return nil, err
	}
	d := json.NewDecoder(strings.NewReader(string(b)))
	d.DisallowUnknownFields()
	if err := d.Decode(v); err != nil {
		return nil, &records.Error{Kind: records.BadInput, What: "the body is not what this route takes: " + err.Error(), Remedy: "See /openapi.json."}
	}
	return b, nil
}

// once runs a create inside one transaction, under its idempotency key.
func (a *API) once(w http.ResponseWriter, r *http.Request, body []byte, do func(tx pgx.Tx) (int, any, error)) {
	status, answer, err := a.Records.Once(r.Context(), caller(r), r.Method+" "+chi.RouteContext(r.Context()).RoutePattern(), r.Header.Get("Idempotency-Key"), body, do)
	if err != nil {
		a.fail(w, r, err)
		return
	}
	write(w, status, answer)
}

// answer writes a value or an error.
func (a *API) answer(w http.ResponseWriter, r *http.Request, v any, err error) {
	if err != nil {
		a.fail(w, r, err)
		return
	}
	write(w, 200, v)
}

func (a *API) ready(w http.ResponseWriter, r *http.Request) {
	ctx, cancel := context.WithTimeout(r.Context(), 2*time.Second)
	defer cancel()
	if err := a.Records.DB.Ping(ctx); err != nil {
		w.Header().Set("Retry-After", "2")
		problem(w, shape.Problem{Status: 503, Title: "Not ready", Detail: "the server's database does not answer", Remedy: "Try again in a moment."})
		return
	}
	write(w, 200, map[string]string{"status": "ready"})
}

// limit reads the size of a page.
func limit(r *http.Request) int {
	n, err := strconv.Atoi(r.URL.Query().Get("limit"))
	if err != nil || n < 1 || n > 200 {
		return 50
	}
	return n
}

// link names the next page (RFC 8288).
func link(w http.ResponseWriter, r *http.Request, next string) {
	if next == "" {
		return
	}
	q := r.URL.Query()
	q.Set("after", next)
	w.Header().Set("Link", "<"+r.URL.Path+"?"+q.Encode()+`>; rel="next"`)
}
