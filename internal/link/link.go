package link

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"errors"
	"io"
	"mime"
	"net"
	"net/http"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"bouncer/internal/core/diagnosis"
	"bouncer/internal/core/team"
	"bouncer/internal/core/wire"
	"bouncer/internal/locker"
)

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

// farewell is how long the end of a session may take.
const farewell = 2 * time.Second

// HTTP is a conversation over streamable HTTP, in either era. It is safe for
// concurrent use.
type HTTP struct {
	*base
	target    Target
	transport *http.Transport
	lent      bool          // the transport belongs to another link
	old       *atomic.Int64 // until when the server is taken to know sessions only, in ms
	session   atomic.Pointer[session]
	opening   sync.Mutex    // held while a session is being opened
	forced    bool          // it is to have a session, even of a server that needs none
	rewatch   chan struct{} // capacity 1: the subscriptions changed
	attached  chan struct{} // closed when the event stream was asked for once
	attaching sync.Once
	acks      acks
}

// acks holds which subscriptions the server acknowledged last.
type acks struct {
	mu             sync.Mutex
	asked, granted []string
	more           chan struct{} // closed when that changes; nil while nobody waits
}

func (a *acks) set(asked, granted []string) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.asked, a.granted = asked, granted
	if a.more != nil {
		close(a.more)
		a.more = nil
	}
}

// of reports whether a subscription was answered and granted, and when to look
// again.
func (a *acks) of(uri string) (answered, granted bool, more <-chan struct{}) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.more == nil {
		a.more = make(chan struct{})
	}
	return slices.Contains(a.asked, uri), slices.Contains(a.granted, uri), a.more
}

// session is an opened session, or what is known of a stateless server; its
// header map is shared by all requests and never altered.
type session struct {
	id        string
	greeting  Greeting
	header    http.Header
	stateless bool
}

// verdictFor is how long a server that did not know the stateless era is not
// asked for it again.
const verdictFor = 10 * time.Minute

// NewHTTP prepares a conversation; nothing is sent yet.
func NewHTTP(t Target, o Options) *HTTP {
	o = o.withDefaults()
	return &HTTP{
		base: newBase(t.Server, o, t.Secret.Reveal()), target: t, transport: t.transport(o),
		old: new(atomic.Int64), rewatch: make(chan struct{}, 1), attached: make(chan struct{}),
	}
}

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

// With returns another conversation with the same server, which declares other
// capabilities. It shares the connections.
func (l *HTTP) With(caps wire.Caps) *HTTP {
	b := newBase(l.server, l.o)
	b.mask, b.nextID, b.caps = l.mask, l.nextID, caps
	return &HTTP{base: b, target: l.target, transport: l.transport, lent: true, old: l.old, rewatch: make(chan struct{}, 1), attached: make(chan struct{})}
}

// Sessions returns another conversation with a server that needs no session: one
// that has a session nevertheless.
func (l *HTTP) Sessions(caps wire.Caps) *HTTP {
	n := l.With(caps)
	n.forced = true
	return n
}

// Revision implements Link.
func (l *HTTP) Revision() string {
	if s := l.session.Load(); s != nil {
		return s.greeting.Revision
	}
	return ""
}

// keepsSessions reports whether the server gave the session an id.
func (l *HTTP) keepsSessions() bool {
	s := l.session.Load()
	return s != nil && s.id != ""
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
	if !l.forced && time.Now().UnixMilli() >= l.old.Load() {
		s, err := l.discover(ctx)
		if err != nil {
			return Greeting{}, err
		}
		if s != nil {
			l.session.Store(s)
			return s.greeting, nil
		}
		l.old.Store(time.Now().Add(verdictFor).UnixMilli())
	}
	s, err := l.initialize(ctx)
	if err != nil {
		return Greeting{}, err
	}
	if l.forced && s.id == "" {
		return Greeting{}, l.fail(diagnosis.Evidence{Stage: "initialize", What: diagnosis.NotOffered, Note: "it keeps no sessions"}, nil)
	}
	l.settle(ctx, func(ctx context.Context, a *Ask) (Exchange, error) { return l.send(ctx, s, a) })
	l.session.Store(s)
	return s.greeting, nil
}

// discover asks whether the server speaks the stateless era; nil without an
// error means that it has to be asked with initialize (MCP 2026-07-28,
// versioning). Only what is an answer of the protocol, or a client error that is
// not about credentials, is a verdict.
func (l *HTTP) discover(ctx context.Context) (*session, error) {
	s := &session{stateless: true, header: l.header("", wire.NewestStateless)}
	x, err := l.send(ctx, s, own("server/discover", nil, "discover"))
	var f *Failure
	if errors.As(err, &f) && f.Status >= 400 && f.Status < 500 && !slices.Contains([]int{401, 403, 429}, f.Status) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	defer x.Close()
	frame, rf, err := answer(ctx, x)
	if err != nil {
		return nil, err
	}
	if rf.Error.Empty() {
		g, ok := l.readDiscovery(rf.Result.Of(frame))
		if !ok {
			return nil, nil
		}
		s.greeting = g
		return s, nil
	}
	e := wire.ReadError(frame, rf.Error)
	var data struct{ Supported []string }
	if e.Code == wire.CodeNoRevision && json.Unmarshal(e.Data, &data) == nil && len(data.Supported) > 0 && !slices.ContainsFunc(data.Supported, func(v string) bool { return !wire.Stateless(v) }) {
		return nil, l.fail(diagnosis.Evidence{Stage: "initialize", What: diagnosis.NoRevision, Note: "it offers " + l.short(strings.Join(data.Supported, ", "))}, nil)
	}
	return nil, nil
}

// initialize opens a session (MCP up to 2025-11-25, lifecycle).
func (l *HTTP) initialize(ctx context.Context) (*session, error) {
	s := &session{header: l.header("", "")}
	x, err := l.send(ctx, s, own("initialize", l.hello(), "initialize"))
	if err != nil {
		return nil, err
	}
	frame, f, err := answer(ctx, x)
	if err != nil {
		x.Close()
		return nil, err
	}
	g, err := l.readGreeting(frame, f)
	sid := x.res.Header.Get("Mcp-Session-Id")
	x.Close()
	if err != nil {
		return nil, err
	}
	if len(sid) > 1024 {
		return nil, l.fail(diagnosis.Evidence{Stage: "initialize", What: diagnosis.Malformed, Note: "its session id is longer than 1024 bytes"}, nil)
	}
	s = &session{id: sid, greeting: g, header: l.header(sid, g.Revision)}
	return s, l.notify(ctx, s.header, "notifications/initialized", nil)
}

// Offer implements Link.
func (l *HTTP) Offer(ctx context.Context) (Offer, error) {
	g, err := l.Open(ctx)
	if err != nil {
		return Offer{}, err
	}
	o, err := l.offer(ctx, g, asking(l.Begin))
	if wire.Stateless(g.Revision) {
		o.dropMisannotated()
	}
	return o, err
}

// Begin implements Link. A lost session is opened anew and the request repeated
// once: a server that does not know the session has not executed it.
func (l *HTTP) Begin(ctx context.Context, a *Ask) (Exchange, error) {
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
		x, err := l.send(ctx, s, a)
		if err == nil {
			return x, nil
		}
		var f *Failure
		if again && errors.As(err, &f) && f.Lost {
			l.session.CompareAndSwap(s, nil)
			continue
		}
		return nil, err
	}
}

// send sends one request in a session. A stateless server that rejects the
// headers has not executed the request, so it is repeated once with the subject
// as raw UTF-8, the form that some servers want.
func (l *HTTP) send(ctx context.Context, s *session, a *Ask) (*httpExchange, error) {
	id := l.id(a)
	if !s.stateless {
		res, err := l.post(ctx, s.header, a.Append(make([]byte, 0, len(a.Src)+96), id, nil), a.Stage)
		if err != nil {
			return nil, err
		}
		x := l.exchange(res, id, s, a.Stage)
		x.pauses = a.Pauses
		return x, nil
	}
	info := a.Client.Info
	if info == nil {
		info = l.info()
	}
	body := a.Append(make([]byte, 0, len(a.Src)+512), id, wire.Envelope(wire.NewestStateless, a.Client.Caps, info, a.Client.Level))
	header, encoded, err := s.headerFor(a)
	if err != nil {
		f := l.fail(diagnosis.Evidence{Stage: a.Stage, What: diagnosis.ArgumentsRefused, Note: err.Error()}, err)
		f.Refused = true
		return nil, f
	}
	res, err := l.post(ctx, header, body, a.Stage)
	if err != nil {
		return nil, err
	}
	code := rejection(res)
	if code == wire.CodeHeaderMismatch && encoded {
		drain(res.Body)
		header[wire.HeaderName] = []string{a.Subject}
		if res, err = l.post(ctx, header, body, a.Stage); err != nil {
			return nil, err
		}
		code = rejection(res)
	}
	if code == wire.CodeHeaderMismatch || (code == wire.CodeNoRevision && a.Method != "server/discover") {
		drain(res.Body)
		f := l.fail(diagnosis.Evidence{Stage: a.Stage, What: diagnosis.HeadersRefused}, nil)
		// The session is learned anew; the request was not executed.
		f.Lost, f.Refused = true, true
		return nil, f
	}
	return l.exchange(res, id, s, a.Stage), nil
}

// headerFor returns the headers of a stateless request, and whether the subject
// had to be encoded.
func (s *session) headerFor(a *Ask) (http.Header, bool, error) {
	h := make(http.Header, len(s.header)+4)
	for k, v := range s.header {
		h[k] = v
	}
	h[wire.HeaderMethod] = []string{a.Method}
	encoded := false
	switch a.Method {
	case "tools/call", "prompts/get", "resources/read", "tasks/get", "tasks/update", "tasks/cancel":
		v := wire.HeaderValue(a.Subject)
		encoded = v != a.Subject
		h[wire.HeaderName] = []string{v}
	}
	for _, m := range a.Mirrors {
		v, ok, err := m.Value(a.P.Arguments.Of(a.Src))
		if err != nil {
			return nil, false, err
		}
		if ok {
			h[http.CanonicalHeaderKey(wire.HeaderParam+m.Header)] = []string{wire.HeaderValue(v)}
		}
	}
	return h, encoded, nil
}

// rejection returns the code of an error that came with a status of its own; 0
// for any other answer.
func rejection(res *http.Response) int {
	b, ok := res.Body.(*readBody)
	if !ok {
		return 0
	}
	f, err := wire.ReadFrame(b.raw)
	if err != nil || f.Error.Empty() {
		return 0
	}
	return wire.ReadError(b.raw, f.Error).Code
}

// Cancel implements Link. Without a session, closing the exchange is the cancel.
func (l *HTTP) Cancel(ctx context.Context, id uint64, reason string) error {
	s := l.session.Load()
	if s == nil || s.stateless {
		return nil
	}
	params, err := json.Marshal(map[string]any{"requestId": id, "reason": reason})
	if err != nil {
		return err
	}
	return l.notify(ctx, s.header, "notifications/cancelled", params)
}

// Notify implements Link.
func (l *HTTP) Notify(ctx context.Context, method string, params []byte) error {
	s := l.session.Load()
	if s == nil || s.stateless {
		return nil
	}
	return l.notify(ctx, s.header, method, params)
}

// Log implements Link.
func (l *HTTP) Log(ctx context.Context, level string) error {
	g, err := l.Open(ctx)
	if err != nil {
		return err
	}
	return l.log(ctx, g, level, l.Begin)
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
			if res, err := l.target.trip(l.transport, req); err == nil {
				drain(res.Body)
			}
		}
	}
	if !l.lent {
		l.transport.CloseIdleConnections()
	}
}

func (l *HTTP) header(sid, revision string) http.Header {
	h := http.Header{
		"Content-Type": {"application/json"},
		"Accept":       {"application/json, text/event-stream"},
	}
	l.target.fill(h, l.o.Version)
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
func (l *HTTP) post(ctx context.Context, header http.Header, body []byte, stage string) (*http.Response, error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, l.target.URL, bytes.NewReader(body))
	if err != nil {
		return nil, err
	}
	req.Header = header
	res, err := l.target.trip(l.transport, req)
	if err != nil {
		return nil, l.netFail(ctx, err, stage)
	}
	if res.StatusCode >= 200 && res.StatusCode < 300 {
		return res, nil
	}
	return l.refused(res, header, stage)
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
func (l *HTTP) refused(res *http.Response, header http.Header, stage string) (*http.Response, error) {
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
	return nil, l.statusFail(res, header, stage, raw)
}

func (l *HTTP) statusFail(res *http.Response, header http.Header, stage string, raw []byte) error {
	e := diagnosis.Evidence{
		Stage: stage, Status: res.StatusCode, ContentType: res.Header.Get("Content-Type"), Location: l.short(res.Header.Get("Location")),
		RetryAfter: l.short(res.Header.Get("Retry-After")), Challenge: l.short(res.Header.Get("WWW-Authenticate")),
		HadCredential: l.target.credited(), CredentialEnded: l.target.ended(), Body: l.mask.Text(string(raw[:min(len(raw), 4<<10)])),
	}
	f := l.fail(e, nil)
	f.Refused, f.Status = true, res.StatusCode
	if res.StatusCode == http.StatusUnauthorized || res.StatusCode == http.StatusForbidden {
		f.Challenge = http.Header{"Www-Authenticate": res.Header.Values("WWW-Authenticate")}
	}
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

func (l *base) netFail(ctx context.Context, err error, stage string) error {
	if context.Cause(ctx) == context.Canceled {
		return context.Canceled
	}
	var known *Failure
	if errors.As(err, &known) {
		return known
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
	// Reading a little to the end lets the connection be used again; more, or
	// waiting for it, is not worth it.
	t := time.AfterFunc(lingerStream, func() { _ = body.Close() })
	_, _ = io.CopyN(io.Discard, body, 4<<10)
	t.Stop()
	_ = body.Close()
}

// Probe implements Link, on a fresh connection. The link is left open on
// success.
func (l *HTTP) Probe(ctx context.Context) (Offer, []team.Stage, error) {
	c := newClock(l.short)
	fresh := l.session.Load() == nil
	_, err := l.Open(c.trace(ctx))
	if err != nil || fresh {
		c.opened(err)
	}
	if err != nil {
		return Offer{}, c.stages(), err
	}
	began := time.Now()
	o, err := l.Offer(ctx)
	c.stage("tools", began, err)
	return o, c.stages(), err
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
