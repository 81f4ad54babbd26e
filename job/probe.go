package job

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"
	"time"

	"ligare/core/binding"
	"ligare/core/ident"
	"ligare/core/sheet"
	jsonfile "ligare/core/syntax/json"
	"ligare/core/wiring"
)

// Probed is what a probe did.
type Probed struct {
	Service     string       `json:"service"`
	Environment string       `json:"environment"`
	Title       string       `json:"title"`
	Works       bool         `json:"works"`
	Steps       []ProbedStep `json:"steps"`
}

// ProbedStep is one request of a probe.
type ProbedStep struct {
	As       ident.Platform `json:"as"`
	App      string         `json:"app"`
	Title    string         `json:"title"`
	Request  string         `json:"request"`
	ReadFrom string         `json:"readFrom"`
	Status   int            `json:"status"`
	Works    bool           `json:"works"`
	Say      string         `json:"say,omitempty"`
	Remedy   string         `json:"remedy,omitempty"`
	Took     string         `json:"took"`
}

// Probe sends test traffic as the app would. It uses only what stands in the tree: the config files in their places and
// the identifiers the variants build with; never the records.
func (w *Work) Probe(ctx context.Context, s *sheet.Sheet, environment string) (*Probed, error) {
	if err := w.NeedBinding(); err != nil {
		return nil, err
	}
	if len(s.Proof.Steps) == 0 {
		return nil, stop("Its sheet says how it is proved; see `ligare service show "+s.Service+"`.", "%s has no probe", s.Title)
	}
	if environment == "" {
		environment = w.probeEnvironment(s)
	}
	id := make([]byte, 6)
	if _, err := rand.Read(id); err != nil {
		return nil, err
	}
	out := &Probed{Service: s.Service, Environment: environment, Title: s.Proof.Title, Works: true}
	vars := map[string]string{"probe.id": "probe-" + hex.EncodeToString(id), "probe.text": "inspected " + time.Now().UTC().Format("2006-01-02 15:04:05")}
	for _, step := range s.Proof.Steps {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		got, err := w.probeStep(ctx, s, environment, step, vars)
		if err != nil {
			return nil, err
		}
		out.Steps = append(out.Steps, *got)
		if !got.Works {
			out.Works = false
			break
		}
	}
	return out, nil
}

// probeEnvironment picks the environment in which every platform of the proof has a variant.
func (w *Work) probeEnvironment(s *sheet.Sheet) string {
	envs := w.Binding.Environments()
	for i := len(envs) - 1; i >= 0; i-- {
		all := true
		for _, step := range s.Proof.Steps {
			has := false
			for _, id := range w.Binding.Identities(w.Survey) {
				has = has || id.Platform == step.As && id.Environment == envs[i]
			}
			all = all && has
		}
		if all {
			return envs[i]
		}
	}
	return envs[len(envs)-1]
}

// here gives what a step of a platform reads in the tree.
func (w *Work) here(s *sheet.Sheet, environment string, p ident.Platform) (map[string]string, string, error) {
	reg := &wiring.Registration{Service: s.Service, Environment: environment, Sheet: s}
	if s.Scope != "environment" {
		reg.Environment = ""
	}
	for _, id := range w.Binding.Identities(w.Survey) {
		reg.Identities = append(reg.Identities, wiring.Registered{Platform: id.Platform, ID: id.ID, Values: map[string]string{}})
	}
	in := w.Input([]*wiring.Registration{reg})
	files, err := wiring.ConfigFiles(in, reg)
	if err != nil {
		return nil, "", err
	}
	for _, f := range files {
		if f.Platform != p {
			continue
		}
		src, err := w.Tree.Read(f.Path)
		if err != nil {
			return nil, "", stop("`ligare check` says what is missing; place it with: ligare place "+s.Service, "the %s app cannot start: its config file %s is not there", p, f.Path)
		}
		got, err := f.File.Contents(src)
		if err != nil {
			return nil, "", &Problem{What: f.Path, Hint: "Exchange it: ligare place " + s.Service + " --replace", Err: err}
		}
		vars := map[string]string{"app.id": w.built(p, f.Variants)}
		for k, r := range got {
			if len(r) > 0 {
				vars["config."+k] = r[0].Value
			}
		}
		return vars, f.Path, nil
	}
	return nil, "", stop("Name another with --environment: "+join(w.Binding.Environments())+".", "no %s variant belongs to the environment %q", p, environment)
}

// built gives the identifier a variant really builds with.
func (w *Work) built(p ident.Platform, variants []string) string {
	if p == ident.Android {
		for _, m := range w.Survey.Android.Modules {
			for _, v := range m.Variants {
				if contains(variants, v.Name) {
					return v.ApplicationID.String()
				}
			}
		}
	}
	for _, pr := range w.Survey.IOS.Projects {
		for _, t := range pr.Targets {
			if w.Binding.IOS[binding.TargetKey(pr, t)] == nil {
				continue
			}
			for _, c := range t.Configurations {
				if contains(variants, c.Name) {
					return c.BundleID.String()
				}
			}
		}
	}
	return ""
}

func (w *Work) probeStep(ctx context.Context, s *sheet.Sheet, environment string, step sheet.Step, probe map[string]string) (*ProbedStep, error) {
	vars, file, err := w.here(s, environment, step.As)
	if err != nil {
		return nil, err
	}
	for k, v := range probe {
		vars[k] = v
	}
	fill := func(text string) (string, error) {
		return sheet.Fill(text, func(k string) (string, bool) { v, ok := vars[k]; return v, ok })
	}
	address, err := fill(step.Send.Address)
	if err != nil {
		return nil, &Problem{What: "the probe of " + s.Title, Hint: "The config file " + file + " lacks it; place it again.", Err: err}
	}
	body, err := fill(step.Send.Body)
	if err != nil {
		return nil, err
	}
	req, err := http.NewRequestWithContext(ctx, step.Send.Method, address, strings.NewReader(body))
	if err != nil {
		return nil, err
	}
	for k, v := range step.Send.Headers {
		if v, err = fill(v); err != nil {
			return nil, &Problem{What: "the probe of " + s.Title, Hint: "The config file " + file + " lacks it; place it again.", Err: err}
		}
		req.Header.Set(k, v)
	}
	if body != "" {
		req.Header.Set("Content-Type", "application/json")
	}
	out := &ProbedStep{As: step.As, App: vars["app.id"], Title: step.Title, Request: step.Send.Method + " " + address, ReadFrom: file}
	begin := time.Now()
	res, err := (&http.Client{Timeout: 20 * time.Second}).Do(req)
	out.Took = time.Since(begin).Round(time.Millisecond).String()
	if err != nil {
		if errors.Is(err, context.Canceled) {
			return nil, err
		}
		return nil, &Problem{What: fmt.Sprintf("%s cannot be reached at %s", s.Title, address), Hint: "Check that the service runs; the address comes from " + file + ".", Err: errors.Unwrap(err)}
	}
	defer res.Body.Close()
	answer, err := io.ReadAll(io.LimitReader(res.Body, 1<<20))
	if err != nil {
		return nil, err
	}
	out.Status = res.StatusCode
	holds, err := fill(step.Expect.Holds)
	if err != nil {
		return nil, err
	}
	out.Works = res.StatusCode == step.Expect.Status && strings.Contains(string(answer), holds)
	if out.Works {
		return out, nil
	}
	out.Say = fmt.Sprintf("answered %d; %d was expected", res.StatusCode, step.Expect.Status)
	if f, err := jsonfile.Parse(answer); err == nil {
		if v := f.At(s.Connector.Text); s.Connector.Text != "" && len(v) > 0 {
			out.Say = v[0].Text
		}
		if v := f.At(s.Connector.Code); s.Connector.Code != "" && len(v) > 0 {
			if m := s.Message(v[0].Text); m != nil {
				out.Say += " " + m.Cause
				out.Remedy = m.Remedy
			}
		}
	}
	return out, nil
}
