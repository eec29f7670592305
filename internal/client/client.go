// Package client speaks the service's API from Go: one request at a time, the
// types of apitype in and out, and errors that say what the service told. It knows
// nothing of terminals and exit codes; the command line is built on it.
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
	"time"

	"bouncer/internal/apitype"
)

const (
	// answerTime is how long one request may take; reaching a server that is
	// registered is the longest.
	answerTime = 2 * time.Minute
	maxAnswer  = 64 << 20 // bytes of an answer that is kept whole
)

// Client calls the API of one service. It is used by several goroutines at once.
type Client struct {
	base, token string
	http        *http.Client
	// Silent is told the names of nodes of the service that did not answer, so that what they
	// keep for themselves is missing; nil for nobody.
	Silent func(nodes string)
}

// New returns a client of the service at base, a URL with scheme and host and
// without a path. The token may be empty: some routes need none.
func New(base, token string) (*Client, error) {
	u, err := url.Parse(base)
	if err != nil || u.Host == "" || (u.Scheme != "http" && u.Scheme != "https") {
		return nil, &AddressError{Address: base}
	}
	return &Client{base: base, token: token, http: &http.Client{}}, nil
}

// Base is the address of the service.
func (c *Client) Base() string { return c.base }

// SignedIn reports whether there is a token to show.
func (c *Client) SignedIn() bool { return c.token != "" }

// With returns a client of the same service that shows another token.
func (c *Client) With(token string) *Client {
	return &Client{base: c.base, token: token, http: c.http, Silent: c.Silent}
}

// AddressError says that an address is no base URL of a service.
type AddressError struct{ Address string }

func (e *AddressError) Error() string { return fmt.Sprintf("the address %q is no base URL", e.Address) }

// UnreachableError says that the service could not be asked.
type UnreachableError struct {
	Address string
	Cause   error
}

func (e *UnreachableError) Error() string {
	return fmt.Sprintf("the service at %s cannot be reached: %v", e.Address, innermost(e.Cause))
}

func (e *UnreachableError) Unwrap() error { return e.Cause }

// ForeignError says that what answered is not a service of ours.
type ForeignError struct {
	Address string
	Status  string // of the answer, where it was a refusal
}

func (e *ForeignError) Error() string {
	if e.Status != "" {
		return fmt.Sprintf("the service refused (%s)", e.Status)
	}
	return fmt.Sprintf("what answers at %s is no Bouncer service", e.Address)
}

// CutError says that an answer broke off.
type CutError struct{ Cause error }

func (e *CutError) Error() string { return "the service's answer broke off" }

func (e *CutError) Unwrap() error { return e.Cause }

// ProblemError is a refusal as the service told it.
type ProblemError struct{ apitype.Problem }

func (e *ProblemError) Error() string { return e.Title }

// Do sends a request with in as its JSON body, unless in is nil, and decodes the
// answer into out, unless out is nil. Errors are those of this package, or
// context.Canceled.
func (c *Client) Do(ctx context.Context, method, path string, in, out any) error {
	ctx, cancel := context.WithTimeout(ctx, answerTime)
	defer cancel()
	var body io.Reader
	if in != nil {
		raw, err := json.Marshal(in)
		if err != nil {
			return fmt.Errorf("write the request for %s: %w", path, err)
		}
		body = bytes.NewReader(raw)
	}
	res, err := c.send(ctx, method, path, body)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	raw, err := io.ReadAll(io.LimitReader(res.Body, maxAnswer))
	if err != nil {
		return &CutError{err}
	}
	if out == nil || len(raw) == 0 {
		return nil
	}
	if err := json.Unmarshal(raw, out); err != nil {
		return &ForeignError{Address: c.base}
	}
	return nil
}

// Get is Do without a body.
func (c *Client) Get(ctx context.Context, path string, out any) error {
	return c.Do(ctx, http.MethodGet, path, nil, out)
}

// Delete removes what stands at path.
func (c *Client) Delete(ctx context.Context, path string) error {
	return c.Do(ctx, http.MethodDelete, path, nil, nil)
}

// Stream gets path and returns the body of its answer, which the caller closes.
// It may take as long as it takes.
func (c *Client) Stream(ctx context.Context, path string) (io.ReadCloser, error) {
	res, err := c.send(ctx, http.MethodGet, path, nil)
	if err != nil {
		return nil, err
	}
	return res.Body, nil
}

// send returns the answer to a request that was not refused.
func (c *Client) send(ctx context.Context, method, path string, body io.Reader) (*http.Response, error) {
	req, err := http.NewRequestWithContext(ctx, method, c.base+path, body)
	if err != nil {
		return nil, fmt.Errorf("make the request for %s: %w", path, err)
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
		return nil, &UnreachableError{c.base, err}
	}
	if nodes := res.Header.Get("Bouncer-Nodes-Silent"); nodes != "" && c.Silent != nil {
		c.Silent(nodes)
	}
	if res.StatusCode < http.StatusBadRequest {
		return res, nil
	}
	defer res.Body.Close()
	raw, err := io.ReadAll(io.LimitReader(res.Body, maxAnswer))
	if err != nil {
		return nil, &CutError{err}
	}
	problem := &ProblemError{}
	if json.Unmarshal(raw, &problem.Problem) != nil || problem.Title == "" {
		return nil, &ForeignError{Address: c.base, Status: res.Status}
	}
	problem.Status = res.StatusCode
	return nil, problem
}

func innermost(err error) error {
	for {
		next := errors.Unwrap(err)
		if next == nil {
			return err
		}
		err = next
	}
}
