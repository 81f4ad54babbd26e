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

// Comparison gives everything that a tree of an app is compared with.
func (c *Client) Comparison(ctx context.Context, app string) (*shape.Comparison, error) {
	out := &shape.Comparison{}
	return out, c.Do(ctx, "GET", "/v1/apps/"+url.PathEscape(app)+"/comparison", nil, out)
}

// Comb gives what is needed to recognise the team's secrets in a tree of an app.
func (c *Client) Comb(ctx context.Context, app string) (*shape.Handout, error) {
	out := &shape.Handout{}
	return out, c.Do(ctx, "POST", "/v1/apps/"+url.PathEscape(app)+"/comb", struct{}{}, out)
}

// Findings gives how an app's findings stand on a branch; "" for the one that was checked last.
func (c *Client) Findings(ctx context.Context, app, branch string) (*shape.Findings, error) {
	q := ""
	if branch != "" {
		q = "?branch=" + url.QueryEscape(branch)
	}
	out := &shape.Findings{}
	return out, c.Do(ctx, "GET", "/v1/apps/"+url.PathEscape(app)+"/findings"+q, nil, out)
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

// Overview gives apps and services, each with the worst thing known and how fresh that is.
func (c *Client) Overview(ctx context.Context) (*shape.Overview, error) {
	out := &shape.Overview{}
	return out, c.Do(ctx, "GET", "/v1/overview", nil, out)
}

func registration(id string, more ...string) string {
	p := "/v1/registrations/" + url.PathEscape(id)
	for _, m := range more {
		p += "/" + url.PathEscape(m)
	}
	return p
}

// SaveSheet adds the team's own sheet, or a new version of it.
func (c *Client) SaveSheet(ctx context.Context, service string, source []byte) (*shape.SheetVersion, error) {
	out := &shape.SheetVersion{}
	return out, c.Do(ctx, "PUT", "/v1/services/"+url.PathEscape(service)+"/sheet", shape.NewSheet{Source: string(source)}, out)
}

// DropSheet takes the team's own sheet away.
func (c *Client) DropSheet(ctx context.Context, service string) error {
	return c.Do(ctx, "DELETE", "/v1/services/"+url.PathEscape(service)+"/sheet", nil, nil)
}

// SheetVersion gives one version of a sheet.
func (c *Client) SheetVersion(ctx context.Context, service, digest string) (*shape.SheetVersion, error) {
	out := &shape.SheetVersion{}
	return out, c.Do(ctx, "GET", "/v1/services/"+url.PathEscape(service)+"/sheets/"+url.PathEscape(digest), nil, out)
}

// Plan says what would be sent, and sends nothing.
func (c *Client) Plan(ctx context.Context, in shape.Register) (*shape.Plan, error) {
	out := &shape.Plan{}
	return out, c.Do(ctx, "POST", "/v1/registrations/plan", in, out)
}

// Registration gives one registration.
func (c *Client) Registration(ctx context.Context, id string) (*shape.Registration, error) {
	out := &shape.Registration{}
	return out, c.Do(ctx, "GET", registration(id), nil, out)
}

// Deregister takes a registration away, at the service too.
func (c *Client) Deregister(ctx context.Context, id string) error {
	return c.Do(ctx, "DELETE", registration(id), nil, nil)
}

// Resolve says what was found at the service after an answer was lost.
func (c *Client) Resolve(ctx context.Context, id string, in shape.Resolve) (*shape.Registration, error) {
	out := &shape.Registration{}
	return out, c.Do(ctx, "POST", registration(id, "resolve"), in, out)
}

// Record enters values and files by hand.
func (c *Client) Record(ctx context.Context, id string, in shape.Recorded) (*shape.Registration, error) {
	out := &shape.Registration{}
	return out, c.Do(ctx, "POST", registration(id, "recorded"), in, out)
}

// NewKey exchanges a key, or makes one beside it.
func (c *Client) NewKey(ctx context.Context, id string, in shape.NewKey) (*shape.Registration, error) {
	out := &shape.Registration{}
	return out, c.Do(ctx, "POST", registration(id, "keys"), in, out)
}

// RevokeKey ends a key.
func (c *Client) RevokeKey(ctx context.Context, id, key string) (*shape.Registration, error) {
	out := &shape.Registration{}
	return out, c.Do(ctx, "POST", registration(id, "keys", key, "revoke"), struct{}{}, out)
}

// DeleteKey forgets a key.
func (c *Client) DeleteKey(ctx context.Context, id, key string) (*shape.Registration, error) {
	out := &shape.Registration{}
	return out, c.Do(ctx, "DELETE", registration(id, "keys", key), nil, out)
}

// Connections gives where an app's registrations feed each other.
func (c *Client) Connections(ctx context.Context, app string) ([]shape.Connection, error) {
	var p shape.Page[shape.Connection]
	err := c.Do(ctx, "GET", "/v1/apps/"+url.PathEscape(app)+"/connections", nil, &p)
	return p.Items, err
}

// Carry brings a supplied value to where it belongs.
func (c *Client) Carry(ctx context.Context, id string, in shape.Carry) (*shape.Registration, error) {
	out := &shape.Registration{}
	return out, c.Do(ctx, "POST", registration(id, "carry"), in, out)
}

// ServerSecrets gives server values for a backend's environment.
func (c *Client) ServerSecrets(ctx context.Context, id string, in shape.Reason) ([]shape.ServerSecret, error) {
	var p shape.Page[shape.ServerSecret]
	err := c.Do(ctx, "POST", registration(id, "server-secrets"), in, &p)
	return p.Items, err
}

// Duties gives an app's duties.
func (c *Client) Duties(ctx context.Context, app string) ([]shape.Duty, error) {
	var p shape.Page[shape.Duty]
	err := c.Do(ctx, "GET", "/v1/apps/"+url.PathEscape(app)+"/duties", nil, &p)
	return p.Items, err
}

// SetDuty confirms a duty.
func (c *Client) SetDuty(ctx context.Context, id, duty string, in shape.DutyDone) (*shape.Registration, error) {
	out := &shape.Registration{}
	return out, c.Do(ctx, "PUT", registration(id, "duties", duty), in, out)
}

// Catalogue gives what shall be sold beside what the service has.
func (c *Client) Catalogue(ctx context.Context, id string) (*shape.Catalogue, error) {
	out := &shape.Catalogue{}
	return out, c.Do(ctx, "GET", registration(id, "catalogue"), nil, out)
}

// SaveCatalogue keeps what shall be sold.
func (c *Client) SaveCatalogue(ctx context.Context, id string, in shape.NewCatalogue) (*shape.Catalogue, error) {
	out := &shape.Catalogue{}
	return out, c.Do(ctx, "PUT", registration(id, "catalogue"), in, out)
}

// Builder gives a hosted builder's fields and builds.
func (c *Client) Builder(ctx context.Context, id string) (*shape.Builder, error) {
	out := &shape.Builder{}
	return out, c.Do(ctx, "GET", registration(id, "builder"), nil, out)
}

// SetField types a field of a hosted builder's settings.
func (c *Client) SetField(ctx context.Context, id, field, value string) (*shape.Builder, error) {
	out := &shape.Builder{}
	return out, c.Do(ctx, "PUT", registration(id, "fields", field), shape.SetField{Value: value}, out)
}

// Publish marks an identity as published.
func (c *Client) Publish(ctx context.Context, app string, in shape.Published) (*shape.App, error) {
	out := &shape.App{}
	return out, c.Do(ctx, "POST", "/v1/apps/"+url.PathEscape(app)+"/published", in, out)
}

// DropIdentity takes an identity out of an app.
func (c *Client) DropIdentity(ctx context.Context, app, platform, identifier string) error {
	return c.Do(ctx, "DELETE", "/v1/apps/"+url.PathEscape(app)+"/identities/"+url.PathEscape(platform)+"/"+url.PathEscape(identifier), nil, nil)
}
