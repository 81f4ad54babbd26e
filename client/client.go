// Package client is the typed client of the API, and how a command finds its server.
package client

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/google/uuid"

	"ligare/client/shape"
)

// Client speaks to one server with one token.
type Client struct {
	Address string
	Token   string
	HTTP    *http.Client // nil for a default with a time-out of 60 seconds
}

// Unreachable is a server that does not answer.
type Unreachable struct {
	Address string
	Err     error
}

func (e *Unreachable) Error() string {
	return fmt.Sprintf("the server %s cannot be reached: %v", e.Address, e.Err)
}
func (e *Unreachable) Unwrap() error { return e.Err }

// Do sends a request and decodes the answer into out (nil for none). A create carries a key, so that it is safe to
// send it again after a lost answer; that is done once.
func (c *Client) Do(ctx context.Context, method, path string, in, out any) error {
	var body []byte
	var err error
	if in != nil {
		if body, err = json.Marshal(in); err != nil {
			return err
		}
	}
	key := ""
	if method == http.MethodPost {
		key = uuid.NewString()
	}
	for try := 0; ; try++ {
		err = c.once(ctx, method, path, key, body, out)
		var away *Unreachable
		if try == 0 && errors.As(err, &away) && ctx.Err() == nil {
			time.Sleep(150 * time.Millisecond)
			continue
		}
		return err
	}
}

func (c *Client) once(ctx context.Context, method, path, key string, body []byte, out any) error {
	req, err := http.NewRequestWithContext(ctx, method, strings.TrimSuffix(c.Address, "/")+path, bytes.NewReader(body))
	if err != nil {
		return err
	}
	req.Header.Set("Authorization", "Bearer "+c.Token)
	if body != nil {
		req.Header.Set("Content-Type", "application/json")
	}
	if key != "" {
		req.Header.Set("Idempotency-Key", key)
	}
	h := c.HTTP
	if h == nil {
		h = &http.Client{Timeout: 60 * time.Second}
	}
	res, err := h.Do(req)
	if err != nil {
		var u *url.Error
		if errors.As(err, &u) {
			err = u.Err
		}
		return &Unreachable{c.Address, err}
	}
	defer res.Body.Close()
	b, err := io.ReadAll(io.LimitReader(res.Body, 32<<20))
	if err != nil {
		return &Unreachable{c.Address, err}
	}
	if res.StatusCode >= 400 {
		p := &shape.Problem{}
		if json.Unmarshal(b, p) != nil || p.Title == "" {
			return fmt.Errorf("%s answers %d and is not a Ligare server, or something stands between: check the address", c.Address, res.StatusCode)
		}
		return p
	}
	if out == nil || len(b) == 0 {
		return nil
	}
	if err := json.Unmarshal(b, out); err != nil {
		return fmt.Errorf("%s does not answer like a Ligare server: %w", c.Address, err)
	}
	return nil
}

// Me says who the token belongs to.
func (c *Client) Me(ctx context.Context) (*shape.Me, error) {
	out := &shape.Me{}
	return out, c.Do(ctx, "GET", "/v1/me", nil, out)
}

// SaveApp makes or extends an app.
func (c *Client) SaveApp(ctx context.Context, n shape.NewApp) (*shape.App, error) {
	out := &shape.App{}
	return out, c.Do(ctx, "POST", "/v1/apps", n, out)
}

// Apps gives all apps, page after page.
func (c *Client) Apps(ctx context.Context) ([]shape.App, error) {
	var all []shape.App
	for after := ""; ; {
		var p shape.Page[shape.App]
		if err := c.Do(ctx, "GET", "/v1/apps?after="+url.QueryEscape(after), nil, &p); err != nil {
			return nil, err
		}
		all = append(all, p.Items...)
		if after = p.Next; after == "" {
			return all, nil
		}
	}
}

// App gives one app.
func (c *Client) App(ctx context.Context, name string) (*shape.App, error) {
	out := &shape.App{}
	return out, c.Do(ctx, "GET", "/v1/apps/"+url.PathEscape(name), nil, out)
}

// Services lists services.
func (c *Client) Services(ctx context.Context) ([]shape.Service, error) {
	var p shape.Page[shape.Service]
	err := c.Do(ctx, "GET", "/v1/services", nil, &p)
	return p.Items, err
}

// Service gives a service with its sheet.
func (c *Client) Service(ctx context.Context, name string) (*shape.Service, error) {
	out := &shape.Service{}
	return out, c.Do(ctx, "GET", "/v1/services/"+url.PathEscape(name), nil, out)
}

// Connect opens the team's account with a service.
func (c *Client) Connect(ctx context.Context, service string, in shape.Connect) error {
	return c.Do(ctx, "PUT", "/v1/services/"+url.PathEscape(service)+"/account", in, nil)
}

// Register registers, or brings a registration to what is asked.
func (c *Client) Register(ctx context.Context, in shape.Register) (*shape.Registration, error) {
	out := &shape.Registration{}
	return out, c.Do(ctx, "POST", "/v1/registrations", in, out)
}

// Registrations gives an app's registrations.
func (c *Client) Registrations(ctx context.Context, app string) ([]shape.Registration, error) {
	var p shape.Page[shape.Registration]
	err := c.Do(ctx, "GET", "/v1/apps/"+url.PathEscape(app)+"/registrations", nil, &p)
	return p.Items, err
}

// Refresh fetches values and files again.
func (c *Client) Refresh(ctx context.Context, id string) (*shape.Registration, error) {
	out := &shape.Registration{}
	return out, c.Do(ctx, "POST", "/v1/registrations/"+url.PathEscape(id)+"/refresh", struct{}{}, out)
}

// Placing gives what placing needs.
func (c *Client) Placing(ctx context.Context, id string) (*shape.Placing, error) {
	out := &shape.Placing{}
	return out, c.Do(ctx, "GET", "/v1/registrations/"+url.PathEscape(id)+"/placing", nil, out)
}

// Look asks the server to look at the service now.
func (c *Client) Look(ctx context.Context, id string) error {
	return c.Do(ctx, "POST", "/v1/registrations/"+url.PathEscape(id)+"/look", struct{}{}, nil)
}

// Signers gives the team's signers, or those of one app.
func (c *Client) Signers(ctx context.Context, app string) ([]shape.Signer, error) {
	var out shape.Page[shape.Signer]
	err := c.Do(ctx, "GET", "/v1/signers?app="+url.QueryEscape(app), nil, &out)
	return out.Items, err
}

// SendSurvey keeps what a survey said of an app's variants.
func (c *Client) SendSurvey(ctx context.Context, app string, s shape.Survey) error {
	return c.Do(ctx, "PUT", "/v1/apps/"+url.PathEscape(app)+"/survey", s, nil)
}

// SaveSigner adds a signing certificate.
func (c *Client) SaveSigner(ctx context.Context, n shape.NewSigner) (*shape.Signer, error) {
	out := &shape.Signer{}
	return out, c.Do(ctx, "POST", "/v1/signers", n, out)
}

// SendReport sends a check's report.
func (c *Client) SendReport(ctx context.Context, app string, rep shape.Report) error {
	return c.Do(ctx, "PUT", "/v1/apps/"+url.PathEscape(app)+"/report", rep, nil)
}

// LineUp gives the line-up of an app.
func (c *Client) LineUp(ctx context.Context, app string) (*shape.LineUp, error) {
	out := &shape.LineUp{}
	return out, c.Do(ctx, "GET", "/v1/apps/"+url.PathEscape(app)+"/lineup", nil, out)
}

// Sightings gives the newest sightings of an app.
func (c *Client) Sightings(ctx context.Context, app string) ([]shape.Sighting, error) {
	var p shape.Page[shape.Sighting]
	err := c.Do(ctx, "GET", "/v1/apps/"+url.PathEscape(app)+"/sightings", nil, &p)
	return p.Items, err
}
