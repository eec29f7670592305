package link

import (
	"bytes"
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"io"
	"mime"
	"net"
	"net/http"
	"net/http/httptrace"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"bouncer/internal/core/diagnosis"
	"bouncer/internal/core/tools"
	"bouncer/internal/core/wire"
	"bouncer/internal/locker"
	"bouncer/internal/team"
)

// Target is where a server is and what it is given.
type Target struct {
	Server string // name, for messages
	URL    string
	Bearer locker.Secret // empty for none
}

// farewell is how long the end of a session may take.
const farewell = 2 * time.Second

// HTTP is a conversation over streamable HTTP. It is safe for concurrent use.
type HTTP struct {
	*base
	target    Target
	transport *http.Transport
	session   atomic.Pointer[session]
	opening   sync.Mutex // held while a session is being opened
}

// session is an opened session; its header map is shared by all requests and
// never altered.
type session struct {
	id       string
	greeting Greeting
	header   http.Header
}

// NewHTTP prepares a conversation; nothing is sent yet.
func NewHTTP(t Target, o Options) *HTTP {
	o = o.withDefaults()
	dialer := &net.Dialer{Timeout: o.ConnectTimeout, KeepAlive: 30 * time.Second}
	return &HTTP{
		base:   newBase(t.Server, o, t.Bearer.Reveal()),
		target: t,
		transport: &http.Transport{
			Proxy:                  http.ProxyFromEnvironment,
			DialContext:            dialer.DialContext,
			TLSClientConfig:        &tls.Config{MinVersion: tls.VersionTLS12},
			TLSHandshakeTimeout:    o.ConnectTimeout,
			ForceAttemptHTTP2:      true,
			MaxIdleConns:           256,
			MaxIdleConnsPerHost:    256,
			IdleConnTimeout:        90 * time.Second,
			DisableCompression:     true,
			MaxResponseHeaderBytes: 64 << 10,
		},
	}
}

// Open opens the session, unless one is open. Concurrent calls share one
// attempt. The error is a *Failure, or that of the context.
func (l *HTTP) Open(ctx context.Context) (Greeting, error) {
	if s := l.session.Load(); s != nil {
		return s.greeting, nil
	}
	l.opening.Lock()
	defer l.opening.Unlock()
	if s := l.session.Load(); s != nil {
		return s.greeting, nil
	}
	ctx, cancel := context.WithTimeout(ctx, l.o.SetupTimeout)
	defer cancel()
	id := l.NextID()
	header := l.header("", "")
	res, err := l.post(ctx, header, wire.AppendRequest(nil, id, "initialize", l.hello()), "initialize")
	if err != nil {
		return Greeting{}, err
	}
	x := l.exchange(res, id, header, "initialize")
	frame, f, err := answer(x)
	if err != nil {
		x.Close()
		return Greeting{}, err
	}
	g, err := l.readGreeting(frame, f)
	sid := res.Header.Get("Mcp-Session-Id")
	x.Close()
	if err != nil {
		return Greeting{}, err
	}
	if len(sid) > 1024 {
		return Greeting{}, l.fail(diagnosis.Evidence{Stage: "initialize", What: diagnosis.Malformed, Note: "its session id is longer than 1024 bytes"}, nil)
	}
	s := &session{id: sid, greeting: g, header: l.header(sid, g.Revision)}
	if err := l.notify(ctx, s.header, "notifications/initialized", nil); err != nil {
		return Greeting{}, err
	}
	l.session.Store(s)
	return g, nil
}

// Tools lists the server's tools, all pages. left says what could not be taken.
func (l *HTTP) Tools(ctx context.Context) (list []tools.Tool, left []string, err error) {
	g, err := l.Open(ctx)
	if err != nil || !g.HasTools {
		return nil, nil, err
	}
	return l.listTools(ctx, l.ask)
}

// ask sends a request of Bouncer's own and returns the answer.
func (l *HTTP) ask(ctx context.Context, method string, params []byte) ([]byte, wire.Frame, error) {
	id := l.NextID()
	x, err := l.Begin(ctx, wire.AppendRequest(nil, id, method, params), id, "tools")
	if err != nil {
		return nil, wire.Frame{}, err
	}
	defer x.Close()
	frame, f, err := answer(x)
	return bytes.Clone(frame), f, err
}

// Begin sends a request with the given id and returns the exchange it opened.
// A lost session is opened anew and the request repeated once: a server that
// does not know the session has not executed it. The error is a *Failure, or
// that of the context.
func (l *HTTP) Begin(ctx context.Context, body []byte, id uint64, stage string) (Exchange, error) {
	for again := true; ; again = false {
		s := l.session.Load()
		if s == nil {
			if _, err := l.Open(ctx); err != nil {
				return nil, err
			}
			if s = l.session.Load(); s == nil {
				continue
			}
		}
		res, err := l.post(ctx, s.header, body, stage)
		if err == nil {
			return l.exchange(res, id, s.header, stage), nil
		}
		var f *Failure
		if again && errors.As(err, &f) && f.Lost {
			l.session.CompareAndSwap(s, nil)
			continue
		}
		return nil, err
	}
}

// Cancel tells the server that the answer to a request is no longer wanted.
func (l *HTTP) Cancel(ctx context.Context, id uint64, reason string) error {
	s := l.session.Load()
	if s == nil {
		return nil
	}
	params, err := json.Marshal(map[string]any{"requestId": id, "reason": reason})
	if err != nil {
		return err
	}
	return l.notify(ctx, s.header, "notifications/cancelled", params)
}

// Close ends the session and the connections. It does not wait long for a
// server that does not answer.
func (l *HTTP) Close(ctx context.Context) {
	ctx, cancel := context.WithTimeout(ctx, farewell)
	defer cancel()
	if s := l.session.Swap(nil); s != nil && s.id != "" {
		if req, err := http.NewRequestWithContext(ctx, http.MethodDelete, l.target.URL, nil); err == nil {
			req.Header = s.header
			// A farewell: servers may refuse it (405), and nothing follows from it.
			if res, err := l.transport.RoundTrip(req); err == nil {
				drain(res.Body)
			}
		}
	}
	l.transport.CloseIdleConnections()
}

func (l *HTTP) header(sid, revision string) http.Header {
	h := http.Header{
		"Content-Type": {"application/json"},
		"Accept":       {"application/json, text/event-stream"},
		"User-Agent":   {"bouncer/" + l.o.Version},
	}
	if !l.target.Bearer.Empty() {
		h["Authorization"] = []string{"Bearer " + l.target.Bearer.Reveal()}
	}
	if sid != "" {
		h["Mcp-Session-Id"] = []string{sid}
	}
	if revision >= wire.Rev20250618 {
		h["Mcp-Protocol-Version"] = []string{revision}
	}
	return h
}

// post sends one message. An answer that is no success is read, judged and
// returned as a *Failure.
func (l *HTTP) post(ctx context.Context, header http.Header, body []byte, stage string) (*http.Response, error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, l.target.URL, bytes.NewReader(body))
	if err != nil {
		return nil, err
	}
	req.Header = header
	res, err := l.transport.RoundTrip(req)
	if err != nil {
		return nil, l.netFail(ctx, err, stage)
	}
	if res.StatusCode >= 200 && res.StatusCode < 300 {
		return res, nil
	}
	return l.refused(res, header, stage)
}

// refused judges an answer that is no success. A JSON-RPC error in the body of
// a 4xx is the server's answer and not a failure of the transport (MCP 2026-07-28,
// transports; older servers do it too).
func (l *HTTP) refused(res *http.Response, header http.Header, stage string) (*http.Response, error) {
	raw, _ := io.ReadAll(io.LimitReader(res.Body, maxErrorBody))
	drain(res.Body)
	if s := res.StatusCode; (s == http.StatusBadRequest || s == http.StatusUnprocessableEntity) && mediaType(res.Header) == "application/json" {
		if f, err := wire.ReadFrame(raw); err == nil && !f.Error.Empty() {
			res.Body, res.ContentLength = io.NopCloser(bytes.NewReader(raw)), int64(len(raw))
			return res, nil
		}
	}
	return nil, l.statusFail(res, header, stage, raw)
}

func (l *HTTP) statusFail(res *http.Response, header http.Header, stage string, raw []byte) error {
	e := diagnosis.Evidence{
		Stage: stage, Status: res.StatusCode, ContentType: res.Header.Get("Content-Type"), Location: l.short(res.Header.Get("Location")),
		RetryAfter: l.short(res.Header.Get("Retry-After")), Challenge: l.short(res.Header.Get("WWW-Authenticate")),
		HadCredential: !l.target.Bearer.Empty(), Body: l.mask.Text(string(raw[:min(len(raw), 4<<10)])),
	}
	f := l.fail(e, nil)
	f.Refused = true
	f.Lost = res.StatusCode == http.StatusNotFound && len(header["Mcp-Session-Id"]) > 0
	return f
}

// notify sends a notification; servers answer it with a bare 202.
func (l *HTTP) notify(ctx context.Context, header http.Header, method string, params []byte) error {
	res, err := l.post(ctx, header, wire.AppendNotification(nil, method, params), "initialize")
	if err != nil {
		return err
	}
	drain(res.Body)
	return nil
}

func (l *HTTP) netFail(ctx context.Context, err error, stage string) error {
	if context.Cause(ctx) == context.Canceled {
		return context.Canceled
	}
	e := diagnosis.Evidence{Stage: stage, Err: err, Timeout: isTimeout(err) || ctx.Err() != nil}
	var op *net.OpError
	var dns *net.DNSError
	if errors.As(err, &dns) {
		e.Stage = "resolve"
	} else if errors.As(err, &op) && op.Op == "dial" {
		e.Stage = "connect"
	} else if strings.Contains(err.Error(), "TLS handshake timeout") {
		e.Stage, e.Timeout = "tls", true
	}
	f := l.fail(e, err)
	f.Refused = e.Stage != stage
	return f
}

func drain(body io.ReadCloser) {
	// Reading a little to the end lets the connection be used again; more is not
	// worth it.
	_, _ = io.CopyN(io.Discard, body, 4<<10)
	_ = body.Close()
}

// Probe opens the session on a fresh connection, lists the tools and times each
// step. The link is left open on success.
func (l *HTTP) Probe(ctx context.Context) (g Greeting, list []tools.Tool, left []string, stages []team.Stage, err error) {
	var mu sync.Mutex // the transport may report from its own goroutines
	var began time.Time
	stage := func(name string, from time.Time, err error) {
		mu.Lock()
		defer mu.Unlock()
		s := team.Stage{Name: name, Millis: float64(time.Since(from).Microseconds()) / 1000, OK: err == nil}
		if err != nil {
			s.Note = l.short(err.Error())
		}
		stages = append(stages, s)
	}
	mark := func() time.Time { mu.Lock(); defer mu.Unlock(); return began }
	set := func() { mu.Lock(); began = time.Now(); mu.Unlock() }
	first, fresh := true, l.session.Load() == nil
	trace := &httptrace.ClientTrace{
		DNSStart:          func(httptrace.DNSStartInfo) { set() },
		DNSDone:           func(i httptrace.DNSDoneInfo) { stage("resolve", mark(), i.Err) },
		ConnectStart:      func(string, string) { set() },
		ConnectDone:       func(_, _ string, err error) { stage("connect", mark(), err) },
		TLSHandshakeStart: set,
		TLSHandshakeDone:  func(_ tls.ConnectionState, err error) { stage("tls", mark(), err) },
		GotConn: func(httptrace.GotConnInfo) {
			if first {
				first = false
				set()
			}
		},
	}
	start := time.Now()
	g, err = l.Open(httptrace.WithClientTrace(ctx, trace))
	if m := mark(); !first && !m.IsZero() {
		start = m
	}
	if err != nil {
		if !first || len(stages) == 0 {
			stage("initialize", start, err)
		}
		return g, nil, nil, stages, err
	}
	if fresh {
		stage("initialize", start, nil)
	}
	start = time.Now()
	list, left, err = l.Tools(ctx)
	stage("tools", start, err)
	return g, list, left, stages, err
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
