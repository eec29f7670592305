package link

import (
	"context"
	"net/http"
	"os"
	"path/filepath"
	"sync/atomic"
	"time"

	"bouncer/internal/locker"
)

// Given is one credential as it is attached to a request: a header or a query
// parameter.
type Given struct {
	Header, Query string
	Value         locker.Secret // with its scheme word, where it has one
	// Sign makes the value of the header for one request instead; nil for none.
	Sign func(method, address string) (string, error)
}

// Credentials gives what requests to a server are sent with, where that changes:
// tokens that are renewed, values that are read elsewhere, several at once.
// Implementations are safe for concurrent use.
type Credentials interface {
	// Now returns what to attach. The error is a *Failure, or that of the context.
	Now(ctx context.Context) ([]Given, error)
	// Refused is told that the server turned a request away (401 or 403) that was
	// sent with what Now had returned. It reports whether Now has something else
	// by now; a *Failure explains the refusal better than the status does.
	Refused(ctx context.Context, sent []Given, status int, h http.Header) (again bool, err error)
}

// maxTries is how often one request is sent with other credentials.
const maxTries = 3

// trip sends one request to the target, with its credentials. A request that was
// turned away for its credential was not executed, so it is sent again with
// another one.
func (t Target) trip(transport *http.Transport, req *http.Request) (*http.Response, error) {
	if t.Used != nil {
		t.Used.Store(time.Now().UnixMilli())
	}
	if t.Credentials == nil {
		return transport.RoundTrip(req)
	}
	ctx := req.Context()
	given, err := t.Credentials.Now(ctx)
	if err != nil {
		return nil, err
	}
	for try := 1; ; try++ {
		out, err := attach(req, given)
		if err != nil {
			return nil, err
		}
		res, err := transport.RoundTrip(out)
		if err != nil || (res.StatusCode != http.StatusUnauthorized && res.StatusCode != http.StatusForbidden) {
			return res, err
		}
		again, err := t.Credentials.Refused(ctx, given, res.StatusCode, res.Header)
		if err == nil && (!again || try == maxTries || (req.Body != nil && req.GetBody == nil)) {
			return res, nil
		}
		drain(res.Body)
		if err != nil {
			return nil, err
		}
		if given, err = t.Credentials.Now(ctx); err != nil {
			return nil, err
		}
		if req.GetBody != nil {
			if req.Body, err = req.GetBody(); err != nil {
				return nil, err
			}
		}
	}
}

// attach returns the request with credentials.
func attach(req *http.Request, given []Given) (*http.Request, error) {
	out := req.WithContext(req.Context())
	out.Header = req.Header.Clone()
	u := *req.URL
	for _, g := range given {
		if g.Sign != nil {
			v, err := g.Sign(req.Method, req.URL.String())
			if err != nil {
				return nil, err
			}
			out.Header[http.CanonicalHeaderKey(g.Header)] = []string{v}
			continue
		}
		if g.Header != "" {
			out.Header[http.CanonicalHeaderKey(g.Header)] = []string{g.Value.Reveal()}
			continue
		}
		q := u.Query()
		q.Set(g.Query, g.Value.Reveal())
		u.RawQuery = q.Encode()
	}
	out.URL = &u
	return out, nil
}

// Var is a variable of a process that carries a secret, or the path of a file
// that holds it.
type Var struct {
	Name  string
	Value locker.Secret
	File  bool
}

// secretVars returns the variables that carry secrets. Files lie in a directory
// of their own, which the caller removes when the process has ended.
func (p *Process) secretVars(ctx context.Context) (env []string, dir string, err error) {
	if p.c.Used != nil {
		p.c.Used.Store(time.Now().UnixMilli())
	}
	if p.c.SecretEnv != "" && p.c.Vars == nil {
		return []string{p.c.SecretEnv + "=" + p.c.Secret.Reveal()}, "", nil
	}
	if p.c.Vars == nil {
		return nil, "", nil
	}
	vars, err := p.c.Vars(ctx)
	if err != nil {
		return nil, "", err
	}
	for _, v := range vars {
		value := v.Value.Reveal()
		if v.File {
			if dir == "" {
				if dir, err = os.MkdirTemp("", "bouncer-*"); err != nil {
					return nil, "", err
				}
			}
			path := filepath.Join(dir, v.Name)
			if err := os.WriteFile(path, []byte(value), 0o600); err != nil {
				_ = os.RemoveAll(dir)
				return nil, "", err
			}
			value = path
		}
		env = append(env, v.Name+"="+value)
	}
	return env, dir, nil
}

// Used tells when something was last sent, in milliseconds since 1970.
type Used = *atomic.Int64
