package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"

	"bouncer/internal/client"
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

// connect returns a client of the service that is meant: by the flag, else by the
// environment, else by the last login.
func (e *Env) connect(address string) (*client.Client, error) {
	l, err := e.readLogin()
	if err != nil {
		return nil, err
	}
	base, token := l.Address, l.Token
	for _, a := range []string{e.Getenv("BOUNCER_ADDRESS"), address} {
		if a = strings.TrimRight(a, "/"); a != "" && a != base {
			// A token is for the service that gave it, and for no other.
			base, token = a, ""
		}
	}
	if v := e.Getenv("BOUNCER_TOKEN"); v != "" {
		token = v
	}
	if base == "" {
		base = defaultAddress
	}
	c, err := client.New(base, token)
	if err == nil {
		c.Silent = func(nodes string) {
			const text = "these nodes did not answer, and what they have is missing: %s\n  hint: bouncer node list shows how they are\n"
			fmt.Fprintf(e.Err, text, nodes)
		}
	}
	return c, err
}

// outcome is the exit code of an error, and what helps.
func outcome(err error) (code int, hint string) {
	var usage *usageError
	var own *failure
	var problem *client.ProblemError
	var address *client.AddressError
	var unreachable *client.UnreachableError
	var foreign *client.ForeignError
	var cut *client.CutError
	switch {
	case errors.As(err, &usage):
		return exitUsage, usage.hint
	case errors.As(err, &own):
		return own.code, own.hint
	case errors.As(err, &problem):
		return problemCode(problem), problem.Hint
	case errors.As(err, &address):
		return exitUsage, "it looks like " + defaultAddress
	case errors.As(err, &unreachable):
		return exitNoService, "start it with bouncer serve, or give its address with --address"
	case errors.As(err, &foreign) && foreign.Status != "":
		return exitFailure, "check --address or BOUNCER_ADDRESS"
	case errors.As(err, &foreign):
		return exitNoService, "check --address or BOUNCER_ADDRESS"
	case errors.As(err, &cut):
		return exitNoService, "try again"
	}
	return exitFailure, ""
}

func problemCode(p *client.ProblemError) int {
	switch {
	case p.Status == http.StatusUnauthorized || p.Status == http.StatusForbidden:
		return exitNotAllowed
	case p.Status == http.StatusNotFound:
		return exitNotFound
	case p.Finding != nil:
		return exitNoServer
	}
	return exitFailure
}

// told is what the service said when it refused, or nil.
func told(err error) *client.ProblemError {
	var p *client.ProblemError
	if errors.As(err, &p) {
		return p
	}
	return nil
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
	if err := t.client.Do(ctx, method, path, in, &out); err != nil {
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

// pathCause is why something could not be done to a file, without its name.
func pathCause(err error) string {
	var p *fs.PathError
	if errors.As(err, &p) {
		return p.Err.Error()
	}
	return err.Error()
}
