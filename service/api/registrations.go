package api

import (
	"context"
	"mime"
	"net/http"

	"github.com/go-chi/chi/v5"

	"ligare/client/shape"
	"ligare/service/records"
)

// reads serves what a method of the records gives.
func reads[T any](a *API, f func(ctx context.Context, c records.Caller, r *http.Request) (T, error)) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		v, err := f(r.Context(), caller(r), r)
		a.answer(w, r, v, err)
	}
}

// lists serves a list that has one page.
func lists[T any](a *API, f func(ctx context.Context, c records.Caller, r *http.Request) ([]T, error)) http.HandlerFunc {
	return reads(a, func(ctx context.Context, c records.Caller, r *http.Request) (shape.Page[T], error) {
		v, err := f(ctx, c, r)
		return shape.Page[T]{Items: v}, err
	})
}

// changes serves a change that says how things shall be: doing it again changes nothing.
func changes[In, Out any](a *API, f func(ctx context.Context, c records.Caller, r *http.Request, in In) (Out, error)) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		var in In
		_, err := take(w, r, &in)
		var v Out
		if err == nil {
			v, err = f(r.Context(), caller(r), r, in)
		}
		a.answer(w, r, v, err)
	}
}

// creates serves a create of several steps under its idempotency key.
func creates[In, Out any](a *API, f func(ctx context.Context, c records.Caller, r *http.Request, in In) (Out, error)) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		var in In
		body, err := take(w, r, &in)
		if err != nil {
			a.fail(w, r, err)
			return
		}
		status, answer, err := a.Records.Steps(r.Context(), caller(r), r.Method+" "+r.URL.Path, r.Header.Get("Idempotency-Key"), body, func() (int, any, error) {
			v, err := f(r.Context(), caller(r), r, in)
			return 201, v, err
		})
		if err != nil {
			a.fail(w, r, err)
			return
		}
		write(w, status, answer)
	}
}

// drops serves what takes something away.
func drops(a *API, f func(ctx context.Context, c records.Caller, r *http.Request) error) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		if err := f(r.Context(), caller(r), r); err != nil {
			a.fail(w, r, err)
			return
		}
		w.WriteHeader(http.StatusNoContent)
	}
}

func id(r *http.Request) string { return chi.URLParam(r, "id") }

// registrationRoutes serves sheets, registrations and all that belongs to one.
func (a *API) registrationRoutes(r chi.Router) {
	s := a.Records
	r.Put("/services/{service}/sheet", changes(a, func(ctx context.Context, c records.Caller, _ *http.Request, in shape.NewSheet) (*shape.SheetVersion, error) {
		return s.SaveSheet(ctx, c, in)
	}))
	r.Delete("/services/{service}/sheet", drops(a, func(ctx context.Context, c records.Caller, r *http.Request) error {
		return s.DropSheet(ctx, c, chi.URLParam(r, "service"))
	}))
	r.Get("/services/{service}/sheets", lists(a, func(ctx context.Context, c records.Caller, r *http.Request) ([]shape.SheetVersion, error) {
		return s.SheetVersions(ctx, c, chi.URLParam(r, "service"))
	}))
	r.Get("/services/{service}/sheets/{digest}", reads(a, func(ctx context.Context, c records.Caller, r *http.Request) (*shape.SheetVersion, error) {
		return s.SheetVersion(ctx, c, chi.URLParam(r, "service"), chi.URLParam(r, "digest"))
	}))
	r.Post("/registrations", creates(a, func(ctx context.Context, c records.Caller, _ *http.Request, in shape.Register) (*shape.Registration, error) {
		return s.Register(ctx, c, in)
	}))
	r.Post("/registrations/plan", changes(a, func(ctx context.Context, c records.Caller, _ *http.Request, in shape.Register) (*shape.Plan, error) {
		return s.Plan(ctx, c, in)
	}))
	r.Get("/registrations/{id}", reads(a, func(ctx context.Context, c records.Caller, r *http.Request) (*shape.Registration, error) {
		return s.Registration(ctx, c, id(r))
	}))
	r.Delete("/registrations/{id}", drops(a, func(ctx context.Context, c records.Caller, r *http.Request) error { return s.Deregister(ctx, c, id(r)) }))
	r.Post("/registrations/{id}/refresh", reads(a, func(ctx context.Context, c records.Caller, r *http.Request) (*shape.Registration, error) {
		return s.Refresh(ctx, c, id(r))
	}))
	r.Post("/registrations/{id}/look", reads(a, func(ctx context.Context, c records.Caller, r *http.Request) (map[string]int, error) {
		n, err := s.Look(ctx, c, id(r))
		return map[string]int{"new": n}, err
	}))
	r.Post("/registrations/{id}/resolve", changes(a, func(ctx context.Context, c records.Caller, r *http.Request, in shape.Resolve) (*shape.Registration, error) {
		return s.Resolve(ctx, c, id(r), in)
	}))
	r.Get("/registrations/{id}/placing", reads(a, func(ctx context.Context, c records.Caller, r *http.Request) (*shape.Placing, error) {
		return s.Placing(ctx, c, id(r))
	}))
	r.Get("/registrations/{id}/files/{platform}/{identifier}/{file}", a.file)
	r.Post("/registrations/{id}/recorded", changes(a, func(ctx context.Context, c records.Caller, r *http.Request, in shape.Recorded) (*shape.Registration, error) {
		return s.Record(ctx, c, id(r), in)
	}))
	r.Post("/registrations/{id}/keys", creates(a, func(ctx context.Context, c records.Caller, r *http.Request, in shape.NewKey) (*shape.Registration, error) {
		return s.NewKey(ctx, c, id(r), in)
	}))
	r.Post("/registrations/{id}/keys/{key}/revoke", reads(a, func(ctx context.Context, c records.Caller, r *http.Request) (*shape.Registration, error) {
		return s.RevokeKey(ctx, c, id(r), chi.URLParam(r, "key"))
	}))
	r.Delete("/registrations/{id}/keys/{key}", reads(a, func(ctx context.Context, c records.Caller, r *http.Request) (*shape.Registration, error) {
		return s.DeleteKey(ctx, c, id(r), chi.URLParam(r, "key"))
	}))
	r.Post("/registrations/{id}/carry", changes(a, func(ctx context.Context, c records.Caller, r *http.Request, in shape.Carry) (*shape.Registration, error) {
		return s.Carry(ctx, c, id(r), in)
	}))
	r.Post("/registrations/{id}/server-secrets", changes(a, func(ctx context.Context, c records.Caller, r *http.Request, in shape.Reason) (shape.Page[shape.ServerSecret], error) {
		v, err := s.ServerSecrets(ctx, c, id(r), in)
		return shape.Page[shape.ServerSecret]{Items: v}, err
	}))
	r.Put("/registrations/{id}/duties/{duty}", changes(a, func(ctx context.Context, c records.Caller, r *http.Request, in shape.DutyDone) (*shape.Registration, error) {
		return s.SetDuty(ctx, c, id(r), chi.URLParam(r, "duty"), in)
	}))
	r.Get("/registrations/{id}/catalogue", reads(a, func(ctx context.Context, c records.Caller, r *http.Request) (*shape.Catalogue, error) {
		return s.Catalogue(ctx, c, id(r))
	}))
	r.Put("/registrations/{id}/catalogue", changes(a, func(ctx context.Context, c records.Caller, r *http.Request, in shape.NewCatalogue) (*shape.Catalogue, error) {
		return s.SaveCatalogue(ctx, c, id(r), in)
	}))
	r.Get("/registrations/{id}/builder", reads(a, func(ctx context.Context, c records.Caller, r *http.Request) (*shape.Builder, error) {
		return s.Builder(ctx, c, id(r))
	}))
	r.Put("/registrations/{id}/fields/{field}", changes(a, func(ctx context.Context, c records.Caller, r *http.Request, in shape.SetField) (*shape.Builder, error) {
		return s.SetField(ctx, c, id(r), chi.URLParam(r, "field"), in)
	}))
	r.Get("/apps/{app}/comparison", reads(a, func(ctx context.Context, c records.Caller, r *http.Request) (*shape.Comparison, error) {
		return s.Comparison(ctx, c, chi.URLParam(r, "app"))
	}))
	r.Post("/apps/{app}/comb", reads(a, func(ctx context.Context, c records.Caller, r *http.Request) (*shape.Handout, error) {
		return s.Comb(ctx, c, chi.URLParam(r, "app"))
	}))
	r.Get("/apps/{app}/findings", reads(a, func(ctx context.Context, c records.Caller, r *http.Request) (*shape.Findings, error) {
		var branch *string
		if q := r.URL.Query(); q.Has("branch") {
			b := q.Get("branch")
			branch = &b
		}
		return s.Findings(ctx, c, chi.URLParam(r, "app"), branch)
	}))
	r.Get("/apps/{app}/registrations", lists(a, func(ctx context.Context, c records.Caller, r *http.Request) ([]shape.Registration, error) {
		return s.Registrations(ctx, c, chi.URLParam(r, "app"))
	}))
	r.Get("/apps/{app}/connections", lists(a, func(ctx context.Context, c records.Caller, r *http.Request) ([]shape.Connection, error) {
		return s.Connections(ctx, c, chi.URLParam(r, "app"))
	}))
	r.Get("/apps/{app}/duties", lists(a, func(ctx context.Context, c records.Caller, r *http.Request) ([]shape.Duty, error) {
		return s.Duties(ctx, c, chi.URLParam(r, "app"))
	}))
	r.Post("/apps/{app}/published", changes(a, func(ctx context.Context, c records.Caller, r *http.Request, in shape.Published) (*shape.App, error) {
		return s.Publish(ctx, c, chi.URLParam(r, "app"), in)
	}))
	r.Delete("/apps/{app}/identities/{platform}/{identifier}", drops(a, func(ctx context.Context, c records.Caller, r *http.Request) error {
		return s.DropIdentity(ctx, c, chi.URLParam(r, "app"), chi.URLParam(r, "platform"), chi.URLParam(r, "identifier"))
	}))
}

// file sends a config file as a download under the exact name it must have.
func (a *API) file(w http.ResponseWriter, r *http.Request) {
	name, content, err := a.Records.File(r.Context(), caller(r), id(r), chi.URLParam(r, "platform"), chi.URLParam(r, "identifier"), chi.URLParam(r, "file"))
	if err != nil {
		a.fail(w, r, err)
		return
	}
	w.Header().Set("Content-Type", "application/octet-stream")
	w.Header().Set("Content-Disposition", mime.FormatMediaType("attachment", map[string]string{"filename": name}))
	_, _ = w.Write(content) // the caller is gone when this fails
}
