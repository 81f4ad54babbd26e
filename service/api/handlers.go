package api

import (
	"fmt"
	"net/http"
	"strconv"
	"time"

	"github.com/go-chi/chi/v5"
	"github.com/jackc/pgx/v5"

	"ligare/client/shape"
	"ligare/service/records"
)

func (a *API) signIn(w http.ResponseWriter, r *http.Request) {
	var in shape.SignIn
	if _, err := take(w, r, &in); err != nil {
		a.fail(w, r, err)
		return
	}
	c, err := a.Records.Authenticate(r.Context(), in.Token)
	if err != nil {
		a.fail(w, r, err)
		return
	}
	http.SetCookie(w, &http.Cookie{Name: cookie, Value: in.Token, Path: "/", HttpOnly: true, SameSite: http.SameSiteStrictMode, Secure: r.TLS != nil})
	write(w, 200, me(c))
}

func (a *API) signOut(w http.ResponseWriter, r *http.Request) {
	http.SetCookie(w, &http.Cookie{Name: cookie, Path: "/", MaxAge: -1, HttpOnly: true, SameSite: http.SameSiteStrictMode})
	w.WriteHeader(http.StatusNoContent)
}

func me(c records.Caller) shape.Me {
	return shape.Me{Team: c.TeamName, Name: c.Name, Kind: c.Kind, Role: c.Role, Expires: c.Expires}
}

func (a *API) me(w http.ResponseWriter, r *http.Request) { write(w, 200, me(caller(r))) }

func (a *API) overview(w http.ResponseWriter, r *http.Request) {
	v, err := a.Records.Overview(r.Context(), caller(r))
	a.answer(w, r, v, err)
}

func (a *API) apps(w http.ResponseWriter, r *http.Request) {
	page, err := a.Records.Apps(r.Context(), caller(r), r.URL.Query().Get("after"), limit(r))
	link(w, r, page.Next)
	a.answer(w, r, page, err)
}

func (a *API) saveApp(w http.ResponseWriter, r *http.Request) {
	var in shape.NewApp
	body, err := take(w, r, &in)
	if err != nil {
		a.fail(w, r, err)
		return
	}
	a.once(w, r, body, func(tx pgx.Tx) (int, any, error) {
		v, err := a.Records.SaveApp(r.Context(), tx, caller(r), in)
		return 201, v, err
	})
}

func (a *API) app(w http.ResponseWriter, r *http.Request) {
	v, err := a.Records.App(r.Context(), caller(r), chi.URLParam(r, "app"))
	if err == nil {
		w.Header().Set("ETag", fmt.Sprintf(`"%d"`, v.Version))
	}
	a.answer(w, r, v, err)
}

func (a *API) lineUp(w http.ResponseWriter, r *http.Request) {
	v, err := a.Records.LineUp(r.Context(), caller(r), chi.URLParam(r, "app"))
	a.answer(w, r, v, err)
}

func (a *API) report(w http.ResponseWriter, r *http.Request) {
	v, err := a.Records.Report(r.Context(), caller(r), chi.URLParam(r, "app"))
	if err == nil && v == nil {
		err = &records.Error{Kind: records.Missing, What: "the tree of this app was never checked", Remedy: "Run ligare check in it."}
	}
	a.answer(w, r, v, err)
}

func (a *API) saveReport(w http.ResponseWriter, r *http.Request) {
	var in shape.Report
	_, err := take(w, r, &in)
	if err == nil {
		err = pgx.BeginFunc(r.Context(), a.Records.DB, func(tx pgx.Tx) error {
			return a.Records.SaveReport(r.Context(), tx, caller(r), chi.URLParam(r, "app"), in)
		})
	}
	if err != nil {
		a.fail(w, r, err)
		return
	}
	w.WriteHeader(http.StatusNoContent)
}

func (a *API) survey(w http.ResponseWriter, r *http.Request) {
	v, err := a.Records.Survey(r.Context(), caller(r), chi.URLParam(r, "app"))
	a.answer(w, r, v, err)
}

func (a *API) saveSurvey(w http.ResponseWriter, r *http.Request) {
	var in shape.Survey
	_, err := take(w, r, &in)
	if err == nil {
		err = pgx.BeginFunc(r.Context(), a.Records.DB, func(tx pgx.Tx) error {
			return a.Records.SaveSurvey(r.Context(), tx, caller(r), chi.URLParam(r, "app"), in)
		})
	}
	if err != nil {
		a.fail(w, r, err)
		return
	}
	w.WriteHeader(http.StatusNoContent)
}

func (a *API) sightings(w http.ResponseWriter, r *http.Request) {
	before := time.Now().Add(time.Hour)
	if at, err := time.Parse(time.RFC3339Nano, r.URL.Query().Get("after")); err == nil {
		before = at
	}
	page, err := a.Records.Sightings(r.Context(), caller(r), chi.URLParam(r, "app"), before, limit(r))
	link(w, r, page.Next)
	a.answer(w, r, page, err)
}

func (a *API) signers(w http.ResponseWriter, r *http.Request) {
	v, err := a.Records.Signers(r.Context(), caller(r), r.URL.Query().Get("app"))
	a.answer(w, r, shape.Page[shape.Signer]{Items: v}, err)
}

func (a *API) saveSigner(w http.ResponseWriter, r *http.Request) {
	var in shape.NewSigner
	body, err := take(w, r, &in)
	if err != nil {
		a.fail(w, r, err)
		return
	}
	a.once(w, r, body, func(tx pgx.Tx) (int, any, error) {
		v, err := a.Records.SaveSigner(r.Context(), tx, caller(r), in)
		return 201, v, err
	})
}

func (a *API) services(w http.ResponseWriter, r *http.Request) {
	v, err := a.Records.Services(r.Context(), caller(r), "", false)
	a.answer(w, r, shape.Page[shape.Service]{Items: v}, err)
}

func (a *API) service(w http.ResponseWriter, r *http.Request) {
	v, err := a.Records.Services(r.Context(), caller(r), chi.URLParam(r, "service"), true)
	if err != nil {
		a.fail(w, r, err)
		return
	}
	write(w, 200, v[0])
}

func (a *API) connect(w http.ResponseWriter, r *http.Request) {
	var in shape.Connect
	_, err := take(w, r, &in)
	if err == nil {
		err = a.Records.Connect(r.Context(), caller(r), chi.URLParam(r, "service"), in)
	}
	if err != nil {
		a.fail(w, r, err)
		return
	}
	w.WriteHeader(http.StatusNoContent)
}

func (a *API) machineToken(w http.ResponseWriter, r *http.Request) {
	var in struct {
		Name string `json:"name"`
		Role string `json:"role"`
		Days int    `json:"days"`
	}
	_, err := take(w, r, &in)
	if err != nil {
		a.fail(w, r, err)
		return
	}
	if in.Days <= 0 || in.Days > 366 {
		in.Days = 90
	}
	token, err := a.Records.MachineToken(r.Context(), caller(r), in.Name, in.Role, time.Duration(in.Days)*24*time.Hour)
	if err != nil {
		a.fail(w, r, err)
		return
	}
	write(w, 201, map[string]any{"token": token, "days": in.Days})
}

// events streams live events (server-sent events, HTML Living Standard section 9.2). The outbox is polled, so that an
// event arrives even when a notification is lost.
func (a *API) events(w http.ResponseWriter, r *http.Request) {
	flush, ok := w.(http.Flusher)
	if !ok {
		problem(w, shape.Problem{Status: 500, Title: "No streaming here"})
		return
	}
	c := caller(r)
	last, err := strconv.ParseInt(r.Header.Get("Last-Event-ID"), 10, 64)
	if err != nil {
		if last, err = a.Records.LastEvent(r.Context(), c); err != nil {
			a.fail(w, r, err)
			return
		}
	}
	w.Header().Set("Content-Type", "text/event-stream")
	w.WriteHeader(200)
	fmt.Fprint(w, "retry: 1000\n\n")
	flush.Flush()
	beat := time.NewTicker(15 * time.Second)
	defer beat.Stop()
	poll := time.NewTicker(400 * time.Millisecond)
	defer poll.Stop()
	for {
		select {
		case <-r.Context().Done():
			return
		case <-a.done.Done():
			return
		case <-beat.C:
			fmt.Fprint(w, ": still here\n\n")
			flush.Flush()
		case <-poll.C:
			list, err := a.Records.Events(r.Context(), c, last, 100)
			if err != nil {
				a.Log.Warn("events", "error", err)
				return // the browser connects again
			}
			for _, e := range list {
				fmt.Fprintf(w, "id: %d\nevent: %s\ndata: %s\n\n", e.ID, e.Topic, e.Body)
				last = e.ID
			}
			if len(list) > 0 {
				flush.Flush()
			}
		}
	}
}
