// Package registrar talks to services in Ligare's open registration protocol (docs/reference/registration-protocol.md).
package registrar

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"syscall"
	"time"

	"ligare/core/sheet"
	jsonfile "ligare/core/syntax/json"
)

// Remote is a service at an address, spoken to in the name of an account.
type Remote struct {
	Sheet      *sheet.Sheet
	Address    string
	Credential string
	Client     *http.Client // nil for a default with a time-out of 15 seconds
}

// Refused is a service's no, with what its code means by the sheet.
type Refused struct {
	Status       int
	Code, Text   string
	Cause, Mends string
}

func (e *Refused) Error() string {
	say := e.Text
	if say == "" {
		say = fmt.Sprintf("status %d", e.Status)
	}
	if e.Cause != "" {
		return e.Cause + " (in its words: " + say + ")"
	}
	return say
}

// Lost is a request whose answer did not arrive: whether the work was done is not known.
type Lost struct{ Err error }

func (e *Lost) Error() string { return "the answer was lost: " + e.Err.Error() }
func (e *Lost) Unwrap() error { return e.Err }

// Unreachable is a request that certainly did not reach the service.
type Unreachable struct {
	Address string
	Err     error
}

func (e *Unreachable) Error() string {
	return fmt.Sprintf("%s cannot be reached: %v", e.Address, e.Err)
}
func (e *Unreachable) Unwrap() error { return e.Err }

// Registration is the service's view of a registration.
type Registration struct {
	ID         string            `json:"id"`
	Reference  string            `json:"reference"`
	Revision   int               `json:"revision"`
	Features   []string          `json:"features"`
	Values     map[string]string `json:"values"`
	Identities []Identity        `json:"identities"`
}

// Identity is one identity with what was issued for it.
type Identity struct {
	Platform   string            `json:"platform"`
	Identifier string            `json:"identifier"`
	Values     map[string]string `json:"values"`
	Digests    []string          `json:"digests"`
}

// New is a registration asked for.
type New struct {
	Reference  string            `json:"reference"`
	Answers    map[string]string `json:"answers"`
	Identities []NewIdentity     `json:"identities"`
	Features   []string          `json:"features"`
}

// NewIdentity is an identity asked for.
type NewIdentity struct {
	Platform    string            `json:"platform"`
	Identifier  string            `json:"identifier"`
	DisplayName string            `json:"display_name"`
	Answers     map[string]string `json:"answers,omitempty"`
}

// Sighting is what the service saw.
type Sighting struct {
	ID         string            `json:"id"`
	At         time.Time         `json:"at"`
	Platform   string            `json:"platform"`
	Identifier string            `json:"identifier"`
	Kind       string            `json:"kind"`
	Facts      map[string]string `json:"facts"`
}

// OpenAccount opens an account and gives its name and credential.
func (r *Remote) OpenAccount(ctx context.Context, name string) (account, credential string, err error) {
	var out struct{ Account, Credential string }
	err = r.call(ctx, "POST", "/accounts", "", map[string]string{"name": name}, &out)
	return out.Account, out.Credential, err
}

// Create registers. The key makes it repeatable.
func (r *Remote) Create(ctx context.Context, key string, n New) (*Registration, error) {
	out := &Registration{}
	return out, r.call(ctx, "POST", "/registrations", key, n, out)
}

// ByReference looks for a registration by our own reference; nil when there is none.
func (r *Remote) ByReference(ctx context.Context, reference string) (*Registration, error) {
	var out struct{ Registrations []*Registration }
	if err := r.call(ctx, "GET", "/registrations?reference="+url.QueryEscape(reference), "", nil, &out); err != nil || len(out.Registrations) == 0 {
		return nil, err
	}
	return out.Registrations[0], nil
}

// Get reads a registration.
func (r *Remote) Get(ctx context.Context, id string) (*Registration, error) {
	out := &Registration{}
	return out, r.call(ctx, "GET", "/registrations/"+url.PathEscape(id), "", nil, out)
}

// AddIdentity adds an identity.
func (r *Remote) AddIdentity(ctx context.Context, id, key string, n NewIdentity) (*Registration, error) {
	out := &Registration{}
	return out, r.call(ctx, "POST", "/registrations/"+url.PathEscape(id)+"/identities", key, n, out)
}

// AddDigest registers a signing certificate's digest for an identity.
func (r *Remote) AddDigest(ctx context.Context, id, key, platform, identifier, digest string) (*Registration, error) {
	out := &Registration{}
	body := map[string]string{"platform": platform, "identifier": identifier, "digest": digest}
	return out, r.call(ctx, "POST", "/registrations/"+url.PathEscape(id)+"/digests", key, body, out)
}

// SetFeature switches a feature.
func (r *Remote) SetFeature(ctx context.Context, id, feature string, on bool) (*Registration, error) {
	out := &Registration{}
	return out, r.call(ctx, "PUT", "/registrations/"+url.PathEscape(id)+"/features/"+url.PathEscape(feature), "", map[string]bool{"enabled": on}, out)
}

// File fetches a config file with its content.
func (r *Remote) File(ctx context.Context, id, platform, identifier string) ([]byte, error) {
	var out []byte
	err := r.call(ctx, "GET", "/registrations/"+url.PathEscape(id)+"/files/"+url.PathEscape(platform)+"/"+url.PathEscape(identifier), "", nil, &out)
	return out, err
}

// Sightings gives what was seen after a sighting ("" for all kept).
func (r *Remote) Sightings(ctx context.Context, id, after string) ([]Sighting, error) {
	var out struct{ Sightings []Sighting }
	err := r.call(ctx, "GET", "/registrations/"+url.PathEscape(id)+"/sightings?after="+url.QueryEscape(after), "", nil, &out)
	return out.Sightings, err
}

const tries = 3

// call sends a request. Busy and broken answers are tried again where that is safe: reads, and writes that carry a key.
func (r *Remote) call(ctx context.Context, method, path, key string, in, out any) error {
	var body []byte
	if in != nil {
		var err error
		if body, err = json.Marshal(in); err != nil {
			return err
		}
	}
	safe := method == "GET" || method == "PUT" || key != ""
	for try := 1; ; try++ {
		wait, err := r.once(ctx, method, path, key, body, out)
		if err == nil || !safe || try == tries || wait < 0 {
			return err
		}
		select {
		case <-ctx.Done():
			return &Lost{ctx.Err()}
		case <-time.After(wait):
		}
	}
}

// once sends one request; wait is how long to hold before trying again, negative for never.
func (r *Remote) once(ctx context.Context, method, path, key string, body []byte, out any) (wait time.Duration, err error) {
	req, err := http.NewRequestWithContext(ctx, method, strings.TrimSuffix(r.Address, "/")+path, bytes.NewReader(body))
	if err != nil {
		return -1, &Unreachable{r.Address, err}
	}
	if len(body) > 0 {
		req.Header.Set("Content-Type", "application/json")
	}
	if r.Credential != "" {
		req.Header.Set("Authorization", "Bearer "+r.Credential)
	}
	if key != "" {
		req.Header.Set("Idempotency-Key", key)
	}
	client := r.Client
	if client == nil {
		client = &http.Client{Timeout: 15 * time.Second}
	}
	res, err := client.Do(req)
	if err != nil {
		var op *net.OpError
		if errors.Is(err, syscall.ECONNREFUSED) || errors.As(err, &op) && op.Op == "dial" {
			return -1, &Unreachable{r.Address, errors.Unwrap(err)}
		}
		return 200 * time.Millisecond, &Lost{err}
	}
	defer res.Body.Close()
	b, err := io.ReadAll(io.LimitReader(res.Body, 4<<20))
	if err != nil {
		return 200 * time.Millisecond, &Lost{err}
	}
	switch {
	case res.StatusCode == http.StatusTooManyRequests || res.StatusCode >= 500:
		wait = 300 * time.Millisecond
		if s, err := strconv.Atoi(res.Header.Get("Retry-After")); err == nil && s >= 0 && s < 60 {
			wait = time.Duration(s) * time.Second
		}
		say := fmt.Errorf("%s answers %d", r.Address, res.StatusCode)
		if res.StatusCode == http.StatusTooManyRequests {
			return wait, &Unreachable{r.Address, errors.New("it is busy (429); try again later")}
		}
		return wait, &Lost{say}
	case res.StatusCode >= 400:
		return -1, r.refused(res.StatusCode, b)
	}
	if raw, ok := out.(*[]byte); ok {
		*raw = b
		return 0, nil
	}
	if err := json.Unmarshal(b, out); err != nil {
		return 200 * time.Millisecond, &Lost{fmt.Errorf("the answer is not readable: %w", err)}
	}
	return 0, nil
}

// refused reads a refusal by the sheet's pointers.
func (r *Remote) refused(status int, body []byte) error {
	e := &Refused{Status: status}
	f, err := jsonfile.Parse(body)
	if err != nil {
		e.Text = strings.TrimSpace(string(body[:min(len(body), 200)]))
		return e
	}
	first := func(pointer string) string {
		if pointer == "" {
			return ""
		}
		if v := f.At(pointer); len(v) > 0 {
			return v[0].Text
		}
		return ""
	}
	e.Code, e.Text = first(r.Sheet.Connector.Code), first(r.Sheet.Connector.Text)
	if m := r.Sheet.Message(e.Code); m != nil {
		e.Cause, e.Mends = m.Cause, m.Remedy
	}
	return e
}
