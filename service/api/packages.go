package api

import (
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path"
	"strings"
	"time"

	"github.com/go-chi/chi/v5"
	"github.com/jackc/pgx/v5"

	"ligare/client/shape"
	"ligare/service/records"
)

// LargestPackage is how large a package may be that is handed in, in bytes, where the server's configuration says nothing.
const LargestPackage = 2 << 30

const (
	packagesAtOnce = 2                // handed in and looked through at the same time; more have to wait
	packageTime    = 30 * time.Minute // for sending one
)

func (a *API) packageRoutes(r chi.Router) {
	r.Get("/packages", a.packages)
	r.Post("/packages", a.handIn)
	r.Get("/packages/{id}", a.onePackage)
	r.Delete("/packages/{id}", a.forgetPackage)
}

// handIn takes a built package as the body, says what it holds and what is wrong with it, and keeps the facts, or what is
// asked for. The package lies on the disk while it is looked through, under no name, and is gone afterwards.
func (a *API) handIn(w http.ResponseWriter, r *http.Request) {
	q := r.URL.Query()
	in := records.Handed{Name: clean(q.Get("name")), App: q.Get("app"), Environment: q.Get("environment"), Keep: q.Get("keep")}
	switch in.Keep {
	case "":
		in.Keep = shape.KeepFacts
	case shape.KeepNothing, shape.KeepFacts, shape.KeepEverything:
	default:
		problem(w, shape.Problem{Status: 400, Title: "Bad Request", Detail: fmt.Sprintf("keep cannot be %q", in.Keep), Remedy: "Use nothing, facts or everything."})
		return
	}
	if c := caller(r); in.Keep != shape.KeepNothing && c.Need("developer") != nil {
		a.fail(w, r, c.Need("developer"))
		return
	}
	select {
	case a.handing <- struct{}{}:
		defer func() { <-a.handing }()
	case <-time.After(10 * time.Second):
		w.Header().Set("Retry-After", "10")
		problem(w, shape.Problem{Status: 503, Title: "Busy", Detail: "other packages are being looked through", Remedy: "Try again in a moment; nothing was kept."})
		return
	case <-r.Context().Done():
		return
	}
	f, err := a.receive(w, r, &in)
	if err != nil {
		a.fail(w, r, err)
		return
	}
	defer f.Close()
	p, err := a.Records.Inspect(r.Context(), caller(r), in)
	if err != nil {
		a.fail(w, r, err)
		return
	}
	if in.Keep == shape.KeepNothing {
		write(w, 200, p)
		return
	}
	body := []byte(p.SHA256 + " " + r.URL.RawQuery)
	a.once(w, r, body, func(tx pgx.Tx) (int, any, error) {
		v, err := a.Records.KeepPackage(r.Context(), tx, caller(r), p, in.Keep)
		return 201, v, err
	})
}

// clean takes what leads elsewhere off a file's name.
func clean(name string) string {
	name = path.Base(strings.ReplaceAll(name, `\`, "/"))
	if name == "." || name == "/" {
		return "the package"
	}
	if len(name) > 200 {
		name = name[len(name)-200:]
	}
	return strings.ToValidUTF8(name, "\uFFFD")
}

// receive streams the body into a file that has no name.
func (a *API) receive(w http.ResponseWriter, r *http.Request, in *records.Handed) (*os.File, error) {
	limit := a.Largest
	if limit == 0 {
		limit = LargestPackage
	}
	if r.ContentLength > limit {
		return nil, &http.MaxBytesError{Limit: limit}
	}
	if err := http.NewResponseController(w).SetReadDeadline(time.Now().Add(packageTime)); err != nil && !errors.Is(err, http.ErrNotSupported) {
		return nil, err
	}
	f, err := os.CreateTemp("", "ligare-package-")
	if err != nil {
		return nil, err
	}
	if err := os.Remove(f.Name()); err != nil {
		return nil, errors.Join(err, f.Close())
	}
	sum := sha256.New()
	n, err := io.Copy(io.MultiWriter(f, sum), http.MaxBytesReader(w, r.Body, limit))
	if err != nil {
		var tooBig *http.MaxBytesError
		if !errors.As(err, &tooBig) && r.Context().Err() == nil && errors.Is(err, io.ErrUnexpectedEOF) {
			err = &records.Error{Kind: records.BadInput, What: "the package broke off while it was sent", Remedy: "Send it again."}
		}
		return nil, errors.Join(err, f.Close())
	}
	in.File, in.Size, in.SHA256 = f, n, sum.Sum(nil)
	return f, nil
}

func (a *API) packages(w http.ResponseWriter, r *http.Request) {
	page, err := a.Records.Packages(r.Context(), caller(r), r.URL.Query().Get("app"), r.URL.Query().Get("after"), limit(r))
	link(w, r, page.Next)
	a.answer(w, r, page, err)
}

func (a *API) onePackage(w http.ResponseWriter, r *http.Request) {
	v, err := a.Records.Package(r.Context(), caller(r), chi.URLParam(r, "id"))
	a.answer(w, r, v, err)
}

func (a *API) forgetPackage(w http.ResponseWriter, r *http.Request) {
	if err := a.Records.ForgetPackage(r.Context(), caller(r), chi.URLParam(r, "id")); err != nil {
		a.fail(w, r, err)
		return
	}
	w.WriteHeader(http.StatusNoContent)
}
