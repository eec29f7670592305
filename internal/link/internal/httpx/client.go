// Package httpx has the manners of HTTP that transports share: a client that does not
// follow redirects, times of the steps of a connection, and bodies that are read to
// their end or dropped.
package httpx

import (
	"bytes"
	"context"
	"io"
	"maps"
	"mime"
	"net/http"
	"slices"
	"sync"
	"time"

	"bouncer/internal/core/diagnosis"
	"bouncer/internal/core/wire"
	"bouncer/internal/link"
	"bouncer/internal/link/internal/base"
	"bouncer/internal/link/internal/direct"
)

// maxErrorBody is how much of an answer that is no success is read, in bytes.
const maxErrorBody = 64 << 10

// Client sends requests to one target over HTTP, with its credentials. It is
// safe for concurrent use.
type Client struct {
	*base.Base
	Target    Target
	Transport *http.Transport
	short     *direct.Transport // for short requests; nil when the target cannot be reached that way
	template  *http.Request     // what all that Post sends has in common; nil when the URL is none
}

func New(t Target, o link.Options) *Client {
	o = o.WithDefaults()
	c := &Client{Base: base.New(t.Server, o, t.Secret.Reveal()), Target: t, Transport: t.NewTransport(o)}
	c.short = t.direct(c.Transport)
	c.template, _ = http.NewRequest(http.MethodPost, t.URL, http.NoBody) // what is wrong with it is told by Post
	return c
}

// Sibling returns a client for another conversation with the same target, which
// declares other capabilities. They share the connections.
func (c *Client) Sibling(caps wire.Caps) *Client {
	return &Client{Base: c.Base.Sibling(caps), Target: c.Target, Transport: c.Transport, short: c.short, template: c.template}
}

// CloseIdleConnections closes what no request uses.
func (c *Client) CloseIdleConnections() {
	c.Transport.CloseIdleConnections()
	if c.short != nil {
		c.short.CloseIdleConnections()
	}
}

func (c *Client) Header(sid, revision string) http.Header {
	h := http.Header{
		"Content-Type": {"application/json"},
		"Accept":       {"application/json, text/event-stream"},
	}
	c.Target.SetHeaders(h, c.Options.Version)
	if sid != "" {
		h["Mcp-Session-Id"] = []string{sid}
	}
	if revision >= wire.Rev20250618 {
		h[wire.HeaderVersion] = []string{revision}
	}
	return h
}

// Post sends one message. An answer that is no success is read, judged and
// returned as a *Failure.
func (c *Client) Post(ctx context.Context, header http.Header, body []byte, stage string) (*http.Response, error) {
	req, err := c.request(ctx, body)
	if err != nil {
		return nil, err
	}
	req.Header = header
	c.Heard(link.Sent, body)
	res, err := c.Do(req)
	if err != nil {
		return nil, c.NetFailure(ctx, err, stage)
	}
	if res.StatusCode >= 200 && res.StatusCode < 300 {
		return res, nil
	}
	return c.Refused(res, header, stage)
}

// request is what http.NewRequest returns for a body, without reading the URL again.
func (c *Client) request(ctx context.Context, body []byte) (*http.Request, error) {
	if c.template == nil {
		return http.NewRequestWithContext(ctx, http.MethodPost, c.Target.URL, bytes.NewReader(body))
	}
	req := c.template.WithContext(ctx)
	req.ContentLength = int64(len(body))
	req.GetBody = func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(body)), nil }
	var err error
	req.Body, err = req.GetBody()
	return req, err
}

// outgoing are the bytes of requests.
var outgoing = sync.Pool{New: func() any { return new([]byte) }}

// Outgoing returns bytes of length 0 for a request that has so many.
func Outgoing(n int) *[]byte {
	b, _ := outgoing.Get().(*[]byte) // as it always is
	*b = slices.Grow((*b)[:0], n)
	return b
}

// Sent takes back the bytes of a request that Post has returned for. They are used again only when
// nothing can be reading them any more: http.Transport may go on writing after it has returned.
func (c *Client) Sent(b *[]byte) {
	if c.short != nil && len(*b) > 0 && len(*b) <= maxShort {
		outgoing.Put(b)
	}
}

// ReadBody is a body that was read already.
type ReadBody struct {
	bytes.Reader
	Raw []byte
}

func (*ReadBody) Close() error { return nil }

// Refused judges an answer that is no success. A JSON-RPC error in the body of
// a 4xx is the server's answer and not a failure of the transport (MCP 2026-07-28,
// transports; older servers do it too). A 404 in a session means that the
// session is lost, whatever the body says.
func (c *Client) Refused(res *http.Response, header http.Header, stage string) (*http.Response, error) {
	raw, _ := io.ReadAll(io.LimitReader(res.Body, maxErrorBody))
	Drain(res.Body)
	c.Heard(link.Received, raw)
	switch s := res.StatusCode; {
	case MediaType(res.Header) != "application/json":
	case s == http.StatusBadRequest, s == http.StatusUnprocessableEntity, s == http.StatusNotFound && len(header[wire.HeaderMethod]) > 0:
		if f, err := wire.ReadFrame(raw); err == nil && !f.Error.Empty() {
			b := &ReadBody{Raw: raw}
			b.Reset(raw)
			res.Body, res.ContentLength = b, int64(len(raw))
			return res, nil
		}
	}
	return nil, c.StatusFailure(res, header, stage, raw)
}

func (c *Client) StatusFailure(res *http.Response, header http.Header, stage string, raw []byte) error {
	e := diagnosis.Evidence{
		Stage: stage, Status: res.StatusCode, ContentType: res.Header.Get("Content-Type"), Location: c.Short(res.Header.Get("Location")),
		RetryAfter: c.Short(res.Header.Get("Retry-After")), Challenge: c.Short(res.Header.Get("WWW-Authenticate")),
		HadCredential: c.Target.HasCredential(), CredentialEnded: c.Target.EndedAt(), Body: c.Masker.Text(string(raw[:min(len(raw), 4<<10)])),
	}
	f := c.Fail(e, nil)
	f.Refused, f.Status = true, res.StatusCode
	if res.StatusCode == http.StatusUnauthorized || res.StatusCode == http.StatusForbidden {
		f.Challenge = http.Header{"Www-Authenticate": res.Header.Values("WWW-Authenticate")}
	}
	f.Lost = res.StatusCode == http.StatusNotFound && len(header["Mcp-Session-Id"]) > 0
	return f
}

// Drain reads what is left of a body, as far as that is worth it, and closes it.
func Drain(body io.ReadCloser) {
	if b, ok := body.(interface{ Ended() bool }); ok && b.Ended() {
		return
	}
	// Reading a little to the end lets the connection be used again; more, or
	// waiting for it, is not worth it.
	t := time.AfterFunc(lingerStream, func() { _ = body.Close() })
	_, _ = io.CopyN(io.Discard, body, 4<<10)
	t.Stop()
	_ = body.Close()
}

// MediaType returns the bare media type of a Content-Type header.
func MediaType(h http.Header) string {
	ct := h.Get("Content-Type")
	if ct == "application/json" || ct == "text/event-stream" {
		return ct
	}
	t, _, err := mime.ParseMediaType(ct)
	if err != nil {
		return ""
	}
	return t
}

// Get opens an event stream; last is the event to resume after, or "" for a
// stream that belongs to no request.
func (c *Client) Get(ctx context.Context, header http.Header, last string) (*http.Response, error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, c.Target.URL, nil)
	if err != nil {
		return nil, err
	}
	req.Header = header.Clone()
	req.Header.Set("Accept", "text/event-stream")
	req.Header.Del("Content-Type")
	if last != "" {
		req.Header.Set("Last-Event-ID", last)
	}
	return c.Do(req)
}

// lingerStream is how long the end of an answered stream is waited for.
const lingerStream = 100 * time.Millisecond

// maxTries is how often one request is sent with other credentials.
const maxTries = 3

// Do sends one request to the target, with its credentials. A request that was
// turned away for its credential was not executed, so it is sent again with
// another one.
func (c *Client) Do(req *http.Request) (*http.Response, error) {
	if c.Target.Used != nil {
		c.Target.Used.Store(time.Now().UnixMilli())
	}
	if t := link.TraceOf(req.Context()); t != nil {
		parent, state := t.Headers()
		req.Header.Set("traceparent", parent)
		if state != "" {
			req.Header.Set("tracestate", state)
		}
	}
	if c.Target.Credentials == nil {
		return c.trip(req)
	}
	ctx := req.Context()
	given, err := c.Target.Credentials.Now(ctx)
	if err != nil {
		return nil, err
	}
	for try := 1; ; try++ {
		out, err := attach(req, given)
		if err != nil {
			return nil, err
		}
		res, err := c.trip(out)
		if err != nil || (res.StatusCode != http.StatusUnauthorized && res.StatusCode != http.StatusForbidden) {
			return res, err
		}
		again, err := c.Target.Credentials.Refused(ctx, given, res.StatusCode, res.Header)
		if err == nil && (!again || try == maxTries || (req.Body != nil && req.GetBody == nil)) {
			return res, nil
		}
		Drain(res.Body)
		if err != nil {
			return nil, err
		}
		if given, err = c.Target.Credentials.Now(ctx); err != nil {
			return nil, err
		}
		if req.GetBody != nil {
			if req.Body, err = req.GetBody(); err != nil {
				return nil, err
			}
		}
	}
}

// maxShort is how long a request may be that is written before its answer is read, in bytes: what
// systems take in without anybody reading at the other side.
const maxShort = 64 << 10

// wayOf is how a request goes.
func (c *Client) wayOf(req *http.Request) http.RoundTripper {
	if c.short == nil || req.Method != http.MethodPost || req.ContentLength < 1 || req.ContentLength > maxShort {
		return c.Transport
	}
	if c.template != nil && req.URL.Host == c.template.URL.Host && req.URL.Scheme == c.template.URL.Scheme {
		return c.short
	}
	return c.Transport
}

// trip sends one request as it is, and tells how it went.
func (c *Client) trip(req *http.Request) (*http.Response, error) {
	if c.Options.Tap == nil {
		return c.wayOf(req).RoundTrip(req)
	}
	began := time.Now()
	res, err := c.wayOf(req).RoundTrip(req)
	if err != nil {
		c.Heard(link.Broke, []byte(err.Error()))
		return nil, err
	}
	c.Answered(req.Method, res.StatusCode, res.Header, time.Since(began))
	return res, nil
}

// attach returns the request with credentials.
func attach(req *http.Request, given []link.Attachment) (*http.Request, error) {
	out := req.WithContext(req.Context())
	out.Header = maps.Clone(req.Header) // of which values are replaced, and none altered
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
