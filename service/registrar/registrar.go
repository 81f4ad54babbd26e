// Package registrar talks to services: in Ligare's open registration protocol (docs/reference/registration-protocol.md),
// or in OAuth 2.0 dynamic client registration (RFC 7591 and 7592). Which of the two, and how a lost answer is recovered, is
// said by the service's sheet. Start with Service and To.
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
	"strconv"
	"strings"
	"syscall"
	"time"

	"ligare/core/sheet"
	jsonfile "ligare/core/syntax/json"
)

// Service is what can be done at a service in the name of an account, whatever protocol it speaks. A call that the
// protocol does not have gives a *Missing.
type Service interface {
	OpenAccount(ctx context.Context, name string) (account, credential string, err error)
	Create(ctx context.Context, key string, n New) (*Registration, error)
	ByReference(ctx context.Context, reference string) (*Registration, error)
	Get(ctx context.Context, id string) (*Registration, error)
	Remove(ctx context.Context, id string) error
	AddIdentity(ctx context.Context, id, key string, n NewIdentity) (*Registration, error)
	AddDigest(ctx context.Context, id, key, platform, identifier, digest string) (*Registration, error)
	SetFeature(ctx context.Context, id, feature string, on bool) (*Registration, error)
	SetAnswer(ctx context.Context, id, name, value, platform, identifier string) (*Registration, error)
	SetRedirects(ctx context.Context, id string, list []string) (*Registration, error)
	NewKey(ctx context.Context, id, key string, n NewKey) (*Registration, error)
	RevokeKey(ctx context.Context, id, key string) (*Registration, error)
	DeleteKey(ctx context.Context, id, key string) (*Registration, error)
	SetBerth(ctx context.Context, id, name string) (*Registration, error)
	File(ctx context.Context, id, platform, identifier, file string) ([]byte, error)
	Sightings(ctx context.Context, id, after string) ([]Sighting, error)
	Catalogue(ctx context.Context, id string) ([]Item, error)
	SaveItem(ctx context.Context, id string, i Item) error
	Activate(ctx context.Context, id, product string, on bool) error
	SetField(ctx context.Context, id, name, value string) (*Registration, error)
	Builds(ctx context.Context, id string) (builds []Build, changed time.Time, err error)
}

// Remote is a service at an address, spoken to in the name of an account.
type Remote struct {
	Sheet      *sheet.Sheet
	Address    string
	Credential string
	Access     string       // credential of one registration, where the protocol has one (RFC 7592 section 1.2)
	Attempt    string       // initial access token of this attempt to register (RFC 7591 section 1.2)
	Client     *http.Client // nil for a default with a time-out of 15 seconds
}

// To gives the connector that a service's sheet names.
func To(r *Remote) Service {
	if r.Sheet.Connector.Protocol == sheet.ByOAuth {
		return &OAuth{r}
	}
	return r
}

// Missing is a call that a service's protocol does not have.
type Missing struct{ What string }

func (e *Missing) Error() string { return e.What + " is not something its protocol has" }

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
	Redirects  []string          `json:"redirects"`
	Received   map[string]string `json:"received"` // answer -> sha256:HEX of what the service has
	Keys       []Key             `json:"keys"`
	Berths     []Berth           `json:"berths"`
	Fields     map[string]string `json:"fields"`
	Open       []Open            `json:"open"`
	Access     string            `json:"-"` // credential of the registration, where the protocol has one
}

// Open is something that anybody may do without leave, for as long as the app is only tried.
type Open struct {
	What  string     `json:"what"`
	Until *time.Time `json:"until,omitempty"` // nil for without end
}

// Identity is one identity with what was issued for it.
type Identity struct {
	Platform   string            `json:"platform"`
	Identifier string            `json:"identifier"`
	Values     map[string]string `json:"values"`
	Digests    []string          `json:"digests"`
	Received   map[string]string `json:"received"`
}

// Key is one key that can be exchanged: a value with a life of its own.
type Key struct {
	ID         string     `json:"id"`
	Name       string     `json:"name"` // of the value
	Platform   string     `json:"platform"`
	Identifier string     `json:"identifier"`
	Label      string     `json:"label"`
	Value      string     `json:"value"`
	Created    time.Time  `json:"created"`
	Ends       *time.Time `json:"ends"`
	Revoked    *time.Time `json:"revoked"`
}

// NewKey is a key asked for.
type NewKey struct {
	Name       string     `json:"name"`
	Platform   string     `json:"platform,omitempty"`
	Identifier string     `json:"identifier,omitempty"`
	Label      string     `json:"label,omitempty"`
	Ends       *time.Time `json:"ends,omitempty"`
}

// Berth is a free-named place for releases.
type Berth struct {
	Name    string `json:"name"`
	Release string `json:"release"`
}

// Item is something sold in the app.
type Item struct {
	Product string `json:"product"`
	Kind    string `json:"kind"`
	Title   string `json:"title"`
	Group   string `json:"group,omitempty"`
	Price   string `json:"price,omitempty"`
	Active  bool   `json:"active"`
}

// Build is one build of a hosted builder, with what its fields said when it was made.
type Build struct {
	ID         string            `json:"id"`
	At         time.Time         `json:"at"`
	Platform   string            `json:"platform"`
	Identifier string            `json:"identifier"`
	Fields     map[string]string `json:"fields"`
	Digest     string            `json:"digest"`
}

// New is a registration asked for.
type New struct {
	Reference  string            `json:"reference"`
	Answers    map[string]string `json:"answers"`
	Identities []NewIdentity     `json:"identities"`
	Features   []string          `json:"features"`
	Redirects  []string          `json:"redirects,omitempty"`
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
	if err == nil && out.Credential == "" {
		err = &Lost{errors.New("the answer holds no credential")}
	}
	return out.Account, out.Credential, err
}

const (
	tries = 3
	most  = 8 << 20 // bytes of an answer
)

// call sends a request. Busy answers are tried again: nothing was done. Broken ones are tried again where that is safe:
// reads, writes that say how things shall be, and creates whose key the service knows.
func (r *Remote) call(ctx context.Context, method, path, key string, in, out any) error {
	var body []byte
	if in != nil {
		var err error
		if body, err = json.Marshal(in); err != nil {
			return err
		}
	}
	safe := method != "POST" || key != "" && r.Sheet.Connector.LostAnswer == sheet.ByKey
	var before *Lost
	for try := 1; ; try++ {
		wait, err := r.once(ctx, method, path, key, body, out)
		var lost *Lost
		var away *Unreachable
		switch {
		case errors.As(err, &lost):
			before = lost
		case errors.As(err, &away) && before != nil: // this try certainly did nothing; an earlier one may have
			err = before
		}
		if err == nil || try == tries || wait < 0 || !safe && before != nil {
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
	if !strings.HasPrefix(path, "http") {
		path = strings.TrimSuffix(r.Address, "/") + path
	}
	req, err := http.NewRequestWithContext(ctx, method, path, bytes.NewReader(body))
	if err != nil {
		return -1, &Unreachable{r.Address, err}
	}
	if len(body) > 0 {
		req.Header.Set("Content-Type", "application/json")
	}
	if r.Credential != "" {
		req.Header.Set("Authorization", "Bearer "+r.Credential)
	}
	switch {
	case key != "" && r.Sheet.Connector.LostAnswer == sheet.ByKey:
		req.Header.Set("Idempotency-Key", key)
	case method == http.MethodPost: // the header, and a body that can be had again, let net/http repeat a request by itself
		req.GetBody = nil
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
	b, err := io.ReadAll(io.LimitReader(res.Body, most+1))
	if err != nil {
		return 200 * time.Millisecond, &Lost{err}
	}
	if len(b) > most {
		return -1, &Lost{fmt.Errorf("the answer is larger than %d bytes", most)}
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
	if out == nil {
		return 0, nil
	}
	if err := json.Unmarshal(b, out); err != nil {
		return 200 * time.Millisecond, &Lost{fmt.Errorf("the answer is not of its protocol: %w", err)}
	}
	if g, ok := out.(*Registration); ok {
		if err := g.whole(); err != nil {
			return -1, &Lost{fmt.Errorf("the answer is not of its protocol: %w", err)}
		}
	}
	return 0, nil
}

// whole checks that an answer is a registration: what is missing or cannot be is found here, before anything is kept.
func (g *Registration) whole() error {
	if g.ID == "" || len(g.ID) > 500 {
		return errors.New("the registration has no id")
	}
	if g.Revision < 0 {
		return fmt.Errorf("the revision is %d", g.Revision)
	}
	clean := func(name, v string) error {
		if i := strings.IndexFunc(v, func(c rune) bool { return c < ' ' && c != '\n' && c != '\t' && c != '\r' || c == 0x7f }); i >= 0 {
			return fmt.Errorf("a control character stands in %q", name)
		}
		if len(v) > 64<<10 {
			return fmt.Errorf("%q is longer than 64 KB", name)
		}
		return nil
	}
	if err := clean("id", g.ID); err != nil {
		return err
	}
	for k, v := range g.Values {
		if err := errors.Join(clean(k, k), clean(k, v)); err != nil {
			return err
		}
	}
	for _, i := range g.Identities {
		if i.Platform == "" || i.Identifier == "" {
			return errors.New("an identity has no platform or identifier")
		}
		for k, v := range i.Values {
			if err := errors.Join(clean(k, k), clean(k, v)); err != nil {
				return err
			}
		}
	}
	for _, k := range g.Keys {
		if k.ID == "" || k.Name == "" || k.Value == "" {
			return errors.New("a key has no id, name or value")
		}
		if err := errors.Join(clean(k.Name, k.Value), clean(k.Name, k.Label)); err != nil {
			return err
		}
	}
	return nil
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
