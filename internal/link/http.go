package link

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"io"
	"mime"
	"net"
	"net/http"
	"time"

	"bouncer/internal/core/diagnosis"
	"bouncer/internal/core/wire"
	"bouncer/internal/locker"
)

// httpClient sends requests to one target over HTTP, with its credentials. It is
// safe for concurrent use.
type httpClient struct {
	*base
	target    Target
	transport *http.Transport
}

func newHTTPClient(t Target, o Options) *httpClient {
	o = o.withDefaults()
	return &httpClient{base: newBase(t.Server, o, t.Secret.Reveal()), target: t, transport: t.transport(o)}
}

// fork returns a client for another conversation with the same target, which
// declares other capabilities. They share the connections.
func (c *httpClient) fork(caps wire.Caps) *httpClient {
	return &httpClient{base: c.base.fork(caps), target: c.target, transport: c.transport}
}

// Target is where a server is and what it is given.
type Target struct {
	Server string // name, for messages
	URL    string
	Secret locker.Secret // empty for none
	// SecretHeader carries the secret as it is; "" sends it as a bearer token.
	SecretHeader string
	Headers      [][2]string // sent with every request
	CA           []byte      // PEM of authorities to trust besides the system's
	Cert, Key    []byte      // PEM of a client certificate and its key
	// Credentials are attached to every request besides; nil for none.
	Credentials Credentials
	// Used is told when a request is sent; nil for nobody.
	Used Used
	// Ends is when the secret ends, where it says so itself.
	Ends time.Time
}

// ended is when the secret ended; zero while it has not, or does not say.
func (t Target) ended() time.Time {
	if t.Ends.IsZero() || time.Now().Before(t.Ends) {
		return time.Time{}
	}
	return t.Ends
}

// credited reports whether requests carry a credential.
func (t Target) credited() bool { return !t.Secret.Empty() || t.Credentials != nil }

// transport returns the way to the target. What is wrong with certificates was
// found when the target was described, so it is not repeated here.
func (t Target) transport(o Options) *http.Transport {
	dialer := &net.Dialer{Timeout: o.ConnectTimeout, KeepAlive: 30 * time.Second}
	conf := &tls.Config{MinVersion: tls.VersionTLS12}
	if len(t.CA) > 0 {
		pool, err := x509.SystemCertPool()
		if err != nil {
			pool = x509.NewCertPool()
		}
		pool.AppendCertsFromPEM(t.CA)
		conf.RootCAs = pool
	}
	if pair, err := tls.X509KeyPair(t.Cert, t.Key); err == nil {
		conf.Certificates = []tls.Certificate{pair}
	}
	return &http.Transport{
		Proxy:                  http.ProxyFromEnvironment,
		DialContext:            dialer.DialContext,
		TLSClientConfig:        conf,
		TLSHandshakeTimeout:    o.ConnectTimeout,
		ForceAttemptHTTP2:      true,
		MaxIdleConns:           256,
		MaxIdleConnsPerHost:    256,
		IdleConnTimeout:        90 * time.Second,
		DisableCompression:     true,
		MaxResponseHeaderBytes: 64 << 10,
		// Messages of some KiB go out and come in with one system call each.
		WriteBufferSize: 32 << 10,
		ReadBufferSize:  32 << 10,
	}
}

func (c *httpClient) header(sid, revision string) http.Header {
	h := http.Header{
		"Content-Type": {"application/json"},
		"Accept":       {"application/json, text/event-stream"},
	}
	c.target.fill(h, c.o.Version)
	if sid != "" {
		h["Mcp-Session-Id"] = []string{sid}
	}
	if revision >= wire.Rev20250618 {
		h[wire.HeaderVersion] = []string{revision}
	}
	return h
}

// fill adds what every request to the target carries.
func (t Target) fill(h http.Header, version string) {
	h["User-Agent"] = []string{"bouncer/" + version}
	for _, e := range t.Headers {
		h[http.CanonicalHeaderKey(e[0])] = append(h[http.CanonicalHeaderKey(e[0])], e[1])
	}
	switch {
	case t.Secret.Empty():
	case t.SecretHeader != "":
		h[http.CanonicalHeaderKey(t.SecretHeader)] = []string{t.Secret.Reveal()}
	default:
		h["Authorization"] = []string{"Bearer " + t.Secret.Reveal()}
	}
}

// post sends one message. An answer that is no success is read, judged and
// returned as a *Failure.
func (c *httpClient) post(ctx context.Context, header http.Header, body []byte, stage string) (*http.Response, error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, c.target.URL, bytes.NewReader(body))
	if err != nil {
		return nil, err
	}
	req.Header = header
	res, err := c.do(req)
	if err != nil {
		return nil, c.netFail(ctx, err, stage)
	}
	if res.StatusCode >= 200 && res.StatusCode < 300 {
		return res, nil
	}
	return c.refused(res, header, stage)
}

// readBody is a body that was read already.
type readBody struct {
	bytes.Reader
	raw []byte
}

func (*readBody) Close() error { return nil }

// refused judges an answer that is no success. A JSON-RPC error in the body of
// a 4xx is the server's answer and not a failure of the transport (MCP 2026-07-28,
// transports; older servers do it too). A 404 in a session means that the
// session is lost, whatever the body says.
func (c *httpClient) refused(res *http.Response, header http.Header, stage string) (*http.Response, error) {
	raw, _ := io.ReadAll(io.LimitReader(res.Body, maxErrorBody))
	drain(res.Body)
	switch s := res.StatusCode; {
	case mediaType(res.Header) != "application/json":
	case s == http.StatusBadRequest, s == http.StatusUnprocessableEntity, s == http.StatusNotFound && len(header[wire.HeaderMethod]) > 0:
		if f, err := wire.ReadFrame(raw); err == nil && !f.Error.Empty() {
			b := &readBody{raw: raw}
			b.Reset(raw)
			res.Body, res.ContentLength = b, int64(len(raw))
			return res, nil
		}
	}
	return nil, c.statusFail(res, header, stage, raw)
}

func (c *httpClient) statusFail(res *http.Response, header http.Header, stage string, raw []byte) error {
	e := diagnosis.Evidence{
		Stage: stage, Status: res.StatusCode, ContentType: res.Header.Get("Content-Type"), Location: c.short(res.Header.Get("Location")),
		RetryAfter: c.short(res.Header.Get("Retry-After")), Challenge: c.short(res.Header.Get("WWW-Authenticate")),
		HadCredential: c.target.credited(), CredentialEnded: c.target.ended(), Body: c.mask.Text(string(raw[:min(len(raw), 4<<10)])),
	}
	f := c.fail(e, nil)
	f.Refused, f.Status = true, res.StatusCode
	if res.StatusCode == http.StatusUnauthorized || res.StatusCode == http.StatusForbidden {
		f.Challenge = http.Header{"Www-Authenticate": res.Header.Values("WWW-Authenticate")}
	}
	f.Lost = res.StatusCode == http.StatusNotFound && len(header["Mcp-Session-Id"]) > 0
	return f
}

func drain(body io.ReadCloser) {
	// Reading a little to the end lets the connection be used again; more, or
	// waiting for it, is not worth it.
	t := time.AfterFunc(lingerStream, func() { _ = body.Close() })
	_, _ = io.CopyN(io.Discard, body, 4<<10)
	t.Stop()
	_ = body.Close()
}

// mediaType returns the bare media type of a Content-Type header.
func mediaType(h http.Header) string {
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

// get opens an event stream; last is the event to resume after, or "" for a
// stream that belongs to no request.
func (c *httpClient) get(ctx context.Context, header http.Header, last string) (*http.Response, error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, c.target.URL, nil)
	if err != nil {
		return nil, err
	}
	req.Header = header.Clone()
	req.Header.Set("Accept", "text/event-stream")
	req.Header.Del("Content-Type")
	if last != "" {
		req.Header.Set("Last-Event-ID", last)
	}
	return c.do(req)
}

// lingerStream is how long the end of an answered stream is waited for.
const lingerStream = 100 * time.Millisecond

// maxTries is how often one request is sent with other credentials.
const maxTries = 3

// do sends one request to the target, with its credentials. A request that was
// turned away for its credential was not executed, so it is sent again with
// another one.
func (c *httpClient) do(req *http.Request) (*http.Response, error) {
	if c.target.Used != nil {
		c.target.Used.Store(time.Now().UnixMilli())
	}
	if c.target.Credentials == nil {
		return c.transport.RoundTrip(req)
	}
	ctx := req.Context()
	given, err := c.target.Credentials.Now(ctx)
	if err != nil {
		return nil, err
	}
	for try := 1; ; try++ {
		out, err := attach(req, given)
		if err != nil {
			return nil, err
		}
		res, err := c.transport.RoundTrip(out)
		if err != nil || (res.StatusCode != http.StatusUnauthorized && res.StatusCode != http.StatusForbidden) {
			return res, err
		}
		again, err := c.target.Credentials.Refused(ctx, given, res.StatusCode, res.Header)
		if err == nil && (!again || try == maxTries || (req.Body != nil && req.GetBody == nil)) {
			return res, nil
		}
		drain(res.Body)
		if err != nil {
			return nil, err
		}
		if given, err = c.target.Credentials.Now(ctx); err != nil {
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
