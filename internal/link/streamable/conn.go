// Package streamable is the streamable HTTP transport, in both eras: with a session of
// the server (2025-03-26 to 2025-11-25), and stateless with the members in each
// request (2026-07-28).
package streamable

import (
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"bouncer/internal/core/diagnosis"
	"bouncer/internal/core/team"
	"bouncer/internal/core/wire"
	"bouncer/internal/link"
	"bouncer/internal/link/internal/base"
	"bouncer/internal/link/internal/httpx"
)

// closeTimeout is how long the end of a session may take.
const closeTimeout = 2 * time.Second

// Conn is a conversation over streamable HTTP, in either era. It is safe for
// concurrent use.
type Conn struct {
	*httpx.Client
	lent    bool          // the connections belong to another conversation
	old     *atomic.Int64 // until when the server is taken to know sessions only, in ms
	session atomic.Pointer[session]
	opening base.Opening[*session]
	forced  bool          // it is to have a session, even of a server that needs none
	rewatch chan struct{} // capacity 1: the subscriptions changed
	acks    acks
}

// acks holds which subscriptions the server acknowledged last.
type acks struct {
	mu             sync.Mutex // guards what follows
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
	greeting  link.Greeting
	header    http.Header
	stateless bool
}

// verdictFor is how long a server that did not know the stateless era is not
// asked for it again.
const verdictFor = 10 * time.Minute

// New prepares a conversation; nothing is sent yet.
func New(t httpx.Target, o link.Options) *Conn {
	return &Conn{Client: httpx.New(t, o), old: new(atomic.Int64), rewatch: make(chan struct{}, 1)}
}

// Fork implements Transport. The conversations share their connections.
func (l *Conn) Fork(caps wire.Caps, session bool) link.Transport {
	return &Conn{Client: l.Sibling(caps), lent: true, forced: session, old: l.old, rewatch: make(chan struct{}, 1)}
}

// Traits implements Transport.
func (l *Conn) Traits() link.Traits {
	s := l.session.Load()
	return link.Traits{CheapForks: true, KeepsSessions: s != nil && s.id != ""}
}

// Diagnostics implements Transport; there is nothing besides the answers.
func (l *Conn) Diagnostics() link.Diagnostics { return link.Diagnostics{} }

// Altered implements Transport.
func (l *Conn) Altered() string { return "" }

// Revision implements link.Transport.
func (l *Conn) Revision() string {
	if s := l.session.Load(); s != nil {
		return s.greeting.Revision
	}
	return ""
}

// Open implements Transport. Concurrent calls share one attempt, and its outcome.
func (l *Conn) Open(ctx context.Context) (link.Greeting, error) {
	if s := l.session.Load(); s != nil {
		return s.greeting, nil
	}
	s, err := l.opening.Do(ctx, l.Options.SetupTimeout, func(ctx context.Context) (*session, error) {
		if s := l.session.Load(); s != nil {
			return s, nil
		}
		s, err := l.open(ctx)
		if err == nil {
			l.session.Store(s)
		}
		return s, err
	})
	if err != nil {
		return link.Greeting{}, l.NetFailure(ctx, err, "initialize")
	}
	return s.greeting, nil
}

// open opens a session, or learns that the server needs none.
func (l *Conn) open(ctx context.Context) (*session, error) {
	if !l.forced && time.Now().UnixMilli() >= l.old.Load() {
		s, err := l.discover(ctx)
		if s != nil || err != nil {
			return s, err
		}
		l.old.Store(time.Now().Add(verdictFor).UnixMilli())
	}
	s, err := l.initialize(ctx)
	if err != nil {
		return nil, err
	}
	if l.forced && s.id == "" {
		return nil, l.Fail(diagnosis.Evidence{Stage: "initialize", What: diagnosis.NotOffered, Note: "it keeps no sessions"}, nil)
	}
	l.Restore(ctx, func(ctx context.Context, a *link.Ask) (link.Exchange, error) { return l.send(ctx, s, a) })
	return s, nil
}

// discover asks whether the server speaks the stateless era; nil without an
// error means that it has to be asked with initialize (MCP 2026-07-28,
// versioning). Only what is an answer of the protocol, or a client error that is
// not about credentials, is a verdict.
func (l *Conn) discover(ctx context.Context) (*session, error) {
	s := &session{stateless: true, header: l.Header("", wire.NewestStateless)}
	x, err := l.send(ctx, s, base.NewRequest("server/discover", nil, "discover"))
	var f *link.Failure
	if errors.As(err, &f) && f.Status >= 400 && f.Status < 500 && !slices.Contains([]int{401, 403, 429}, f.Status) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	defer x.Close()
	frame, rf, err := base.ReadAnswer(ctx, x)
	if err != nil {
		return nil, err
	}
	if rf.Error.Empty() {
		g, ok := l.ReadDiscovery(rf.Result.Of(frame))
		if !ok {
			return nil, nil
		}
		s.greeting = g
		return s, nil
	}
	e := wire.ReadError(frame, rf.Error)
	var data struct{ Supported []string }
	if e.Code == wire.CodeNoRevision && json.Unmarshal(e.Data, &data) == nil && len(data.Supported) > 0 &&
		!slices.ContainsFunc(data.Supported, func(v string) bool { return !wire.Stateless(v) }) {
		return nil, l.Fail(
			diagnosis.Evidence{
				Stage: "initialize",
				What:  diagnosis.NoRevision,
				Note:  "it offers " + l.Short(strings.Join(data.Supported, ", ")),
			},
			nil,
		)
	}
	return nil, nil
}

// initialize opens a session (MCP up to 2025-11-25, lifecycle).
func (l *Conn) initialize(ctx context.Context) (*session, error) {
	s := &session{header: l.Header("", "")}
	x, err := l.send(ctx, s, base.NewRequest("initialize", l.InitializeParams(), "initialize"))
	if err != nil {
		return nil, err
	}
	frame, f, err := base.ReadAnswer(ctx, x)
	if err != nil {
		x.Close()
		return nil, err
	}
	g, err := l.ReadGreeting(frame, f)
	sid := x.res.Header.Get("Mcp-Session-Id")
	x.Close()
	if err != nil {
		return nil, err
	}
	if len(sid) > 1024 {
		return nil, l.Fail(
			diagnosis.Evidence{Stage: "initialize", What: diagnosis.Malformed, Note: "its session id is longer than 1024 bytes"},
			nil,
		)
	}
	s = &session{id: sid, greeting: g, header: l.Header(sid, g.Revision)}
	return s, l.notify(ctx, s.header, "notifications/initialized", nil)
}

// Offer implements link.Transport.
func (l *Conn) Offer(ctx context.Context) (link.Offer, error) {
	g, err := l.Open(ctx)
	if err != nil {
		return link.Offer{}, err
	}
	o, err := l.ReadOffer(ctx, g, base.AskBy(l.Begin))
	if wire.Stateless(g.Revision) {
		o.DropMisannotated()
	}
	return o, err
}

// Begin implements link.Transport. A lost session is opened anew and the request repeated
// once: a server that does not know the session has not executed it.
func (l *Conn) Begin(ctx context.Context, a *link.Ask) (link.Exchange, error) {
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
		var f *link.Failure
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
func (l *Conn) send(ctx context.Context, s *session, a *link.Ask) (*exchange, error) {
	id := l.RequestID(a)
	if !s.stateless {
		body := httpx.Outgoing(len(a.Src) + 96)
		defer l.Sent(body)
		*body = a.Append(*body, id, nil)
		res, err := l.Post(ctx, s.header, *body, a.Stage)
		if err != nil {
			return nil, err
		}
		x := l.exchange(res, id, s, a.Stage)
		x.pauses = a.Pauses
		return x, nil
	}
	info := a.Client.Info
	if info == nil {
		info = l.ClientInfo()
	}
	body := httpx.Outgoing(len(a.Src) + 512)
	defer l.Sent(body)
	*body = a.Append(*body, id, wire.Envelope(wire.NewestStateless, a.Client.Caps, info, a.Client.Level))
	header, encoded, err := s.headerFor(a)
	if err != nil {
		f := l.Fail(diagnosis.Evidence{Stage: a.Stage, What: diagnosis.ArgumentsRefused, Note: err.Error()}, err)
		f.Refused = true
		return nil, f
	}
	res, err := l.Post(ctx, header, *body, a.Stage)
	if err != nil {
		return nil, err
	}
	code := rejection(res)
	if code == wire.CodeHeaderMismatch && encoded {
		httpx.Drain(res.Body)
		header[wire.HeaderName] = []string{a.Subject}
		if res, err = l.Post(ctx, header, *body, a.Stage); err != nil {
			return nil, err
		}
		code = rejection(res)
	}
	if code == wire.CodeHeaderMismatch || (code == wire.CodeNoRevision && a.Method != "server/discover") {
		httpx.Drain(res.Body)
		f := l.Fail(diagnosis.Evidence{Stage: a.Stage, What: diagnosis.HeadersRefused}, nil)
		// The session is learned anew; the request was not executed.
		f.Lost, f.Refused = true, true
		return nil, f
	}
	return l.exchange(res, id, s, a.Stage), nil
}

// headerFor returns the headers of a stateless request, and whether the subject
// had to be encoded.
func (s *session) headerFor(a *link.Ask) (http.Header, bool, error) {
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
	b, ok := res.Body.(*httpx.ReadBody)
	if !ok {
		return 0
	}
	f, err := wire.ReadFrame(b.Raw)
	if err != nil || f.Error.Empty() {
		return 0
	}
	return wire.ReadError(b.Raw, f.Error).Code
}

// Cancel implements link.Transport. Without a session, closing the exchange is the cancel.
func (l *Conn) Cancel(ctx context.Context, id uint64, reason string) error {
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

// Notify implements link.Transport.
func (l *Conn) Notify(ctx context.Context, method string, params []byte) error {
	s := l.session.Load()
	if s == nil || s.stateless {
		return nil
	}
	return l.notify(ctx, s.header, method, params)
}

// Log implements link.Transport.
func (l *Conn) Log(ctx context.Context, level string) error {
	g, err := l.Open(ctx)
	if err != nil {
		return err
	}
	return l.RaiseLevel(ctx, g, level, l.Begin)
}

// Close ends the session and the connections. It does not wait long for a
// server that does not answer.
func (l *Conn) Close(ctx context.Context) {
	l.opening.Close()
	ctx, cancel := context.WithTimeout(ctx, closeTimeout)
	defer cancel()
	if s := l.session.Swap(nil); s != nil && s.id != "" {
		if req, err := http.NewRequestWithContext(ctx, http.MethodDelete, l.Target.URL, nil); err == nil {
			req.Header = s.header
			// A farewell: servers may refuse it (405), and nothing follows from it.
			if res, err := l.Do(req); err == nil {
				httpx.Drain(res.Body)
			}
		}
	}
	if !l.lent {
		l.CloseIdleConnections()
	}
}

// notify sends a notification; servers answer it with a bare 202.
func (l *Conn) notify(ctx context.Context, header http.Header, method string, params []byte) error {
	res, err := l.Post(ctx, header, wire.AppendNotification(nil, method, params), "initialize")
	if err != nil {
		return err
	}
	httpx.Drain(res.Body)
	return nil
}

// Probe implements Link, on a fresh connection. The link is left open on
// success.
func (l *Conn) Probe(ctx context.Context) (link.Offer, []team.Stage, error) {
	c := l.Stages(nil)
	defer c.End()
	c.At("connect")
	fresh := l.session.Load() == nil
	_, err := l.Open(c.Trace(ctx))
	if err != nil || fresh {
		c.Opened(err)
	}
	if err != nil {
		return link.Offer{}, c.List(), err
	}
	began := time.Now()
	c.At("tools")
	o, err := l.Offer(ctx)
	c.Add("tools", began, err)
	return o, c.List(), err
}
