package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	"bouncer/internal/core/diagnosis"
	"bouncer/internal/core/team"
)

const defaultAddress = "http://127.0.0.1:4680"

// login is what the login file holds.
type login struct {
	Address string `json:"address"`
	Person  string `json:"person"`
	Token   string `json:"token"`
}

func (e *Env) loginFile() string { return filepath.Join(e.ConfigDir, "login.json") }

func (e *Env) readLogin() (login, error) {
	var l login
	raw, err := os.ReadFile(e.loginFile())
	if errors.Is(err, os.ErrNotExist) {
		return l, nil
	}
	if err != nil {
		return l, err
	}
	if err := json.Unmarshal(raw, &l); err != nil {
		return l, &failure{exitFailure, fmt.Sprintf("the login file %s cannot be read", e.loginFile()), "sign in again with bouncer login"}
	}
	return l, nil
}

func (e *Env) writeLogin(l login) error {
	if err := os.MkdirAll(e.ConfigDir, 0o700); err != nil {
		return err
	}
	raw, err := json.MarshalIndent(l, "", "  ")
	if err != nil {
		return err
	}
	return os.WriteFile(e.loginFile(), append(raw, '\n'), 0o600)
}

// client calls the API.
type client struct {
	base, token string
	http        *http.Client
}

func newClient(e *Env, address string) (*client, error) {
	l, err := e.readLogin()
	if err != nil {
		return nil, err
	}
	c := &client{base: l.Address, token: l.Token, http: &http.Client{}}
	for _, a := range []string{e.Getenv("BOUNCER_ADDRESS"), address} {
		if a = strings.TrimRight(a, "/"); a != "" && a != c.base {
			// A token is for the service that gave it, and for no other.
			c.base, c.token = a, ""
		}
	}
	if v := e.Getenv("BOUNCER_TOKEN"); v != "" {
		c.token = v
	}
	if c.base == "" {
		c.base = defaultAddress
	}
	if u, err := url.Parse(c.base); err != nil || u.Host == "" || (u.Scheme != "http" && u.Scheme != "https") {
		return nil, &usageError{fmt.Sprintf("the address %q is no base URL", c.base), "it looks like " + defaultAddress}
	}
	return c, nil
}

// apiError is an error that the service told.
type apiError struct {
	Title   string
	Status  int
	Code    string
	Field   string
	Hint    string
	Finding *diagnosis.Finding
	Stages  []team.Stage
	// Document is set when operations have to be picked first.
	Document *documentInfo
}

// do sends a request and decodes the answer into out, unless out is nil.
func (c *client) do(ctx context.Context, method, path string, in, out any) error {
	_, err := c.try(ctx, method, path, in, out)
	return err
}

// try is do that also returns what the service told when it refused.
func (c *client) try(ctx context.Context, method, path string, in, out any) (*apiError, error) {
	ctx, cancel := context.WithTimeout(ctx, 2*time.Minute)
	defer cancel()
	var body io.Reader
	if in != nil {
		raw, err := json.Marshal(in)
		if err != nil {
			return nil, err
		}
		body = bytes.NewReader(raw)
	}
	res, err := c.send(ctx, method, path, body)
	if err != nil {
		return nil, err
	}
	defer res.Body.Close()
	raw, err := io.ReadAll(io.LimitReader(res.Body, 64<<20))
	if err != nil {
		return nil, &failure{exitNoService, "the service's answer broke off", "try again"}
	}
	if res.StatusCode >= 400 {
		return refused(res, raw)
	}
	if out == nil || len(raw) == 0 {
		return nil, nil
	}
	if err := json.Unmarshal(raw, out); err != nil {
		return nil, &failure{
			exitNoService,
			fmt.Sprintf("what answers at %s is no Bouncer service", c.base),
			"check --address or BOUNCER_ADDRESS",
		}
	}
	return nil, nil
}

func (c *client) send(ctx context.Context, method, path string, body io.Reader) (*http.Response, error) {
	req, err := http.NewRequestWithContext(ctx, method, c.base+path, body)
	if err != nil {
		return nil, err
	}
	if body != nil {
		req.Header.Set("Content-Type", "application/json")
	}
	if c.token != "" {
		req.Header.Set("Authorization", "Bearer "+c.token)
	}
	res, err := c.http.Do(req)
	if err != nil {
		if errors.Is(err, context.Canceled) {
			return nil, context.Canceled
		}
		return nil, &failure{
			exitNoService,
			fmt.Sprintf("the service at %s cannot be reached: %v", c.base, cause(err)),
			"start it with bouncer serve, or give its address with --address",
		}
	}
	return res, nil
}

func cause(err error) error {
	for {
		next := errors.Unwrap(err)
		if next == nil {
			return err
		}
		err = next
	}
}

func refused(res *http.Response, raw []byte) (*apiError, error) {
	var p apiError
	if json.Unmarshal(raw, &p) != nil || p.Title == "" {
		return nil, &failure{exitFailure, fmt.Sprintf("the service refused (%s)", res.Status), "check --address or BOUNCER_ADDRESS"}
	}
	f := &failure{exitFailure, p.Title, p.Hint}
	switch {
	case res.StatusCode == 401 || res.StatusCode == 403:
		f.code = exitNotAllowed
	case res.StatusCode == 404:
		f.code = exitNotFound
	case p.Finding != nil:
		f.code = exitNoServer
	}
	return &p, f
}

// seg escapes a name for a path.
func seg(s string) string { return url.PathEscape(s) }

// fetch gets a list or object, writes it as JSON when asked to, and otherwise
// hands it to show.
func fetch[T any](ctx context.Context, t *task, path string, show func(T) error) error {
	return submit(ctx, t, http.MethodGet, path, nil, show)
}

// submit is fetch with a method and a body.
func submit[T any](ctx context.Context, t *task, method, path string, in any, show func(T) error) error {
	var out T
	if err := t.client.do(ctx, method, path, in, &out); err != nil {
		return err
	}
	if t.json {
		return t.writeJSON(out)
	}
	return show(out)
}

func (t *task) writeJSON(v any) error {
	enc := json.NewEncoder(t.Out)
	enc.SetEscapeHTML(false)
	enc.SetIndent("", "  ")
	return enc.Encode(v)
}

// done tells a person what was done; programs asked for nothing.
func (t *task) done(format string, args ...any) error {
	if t.json {
		return nil
	}
	_, err := fmt.Fprintf(t.Out, format+"\n", args...)
	return err
}
