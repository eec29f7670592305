// Package sse is the transport of revision 2024-11-05: an event stream that stays open
// and names an address for messages, over which everything comes back.
package sse

import (
	"bytes"
	"context"
	"errors"
	"net/http"
	"net/url"
	"sync/atomic"
	"time"

	"bouncer/internal/core/diagnosis"
	"bouncer/internal/core/team"
	"bouncer/internal/core/wire"
	"bouncer/internal/link"
	"bouncer/internal/link/internal/base"
	"bouncer/internal/link/internal/httpx"
	"bouncer/internal/link/internal/mux"
)

// Conn is a conversation over the two-endpoint event-stream transport of revision
// 2024-11-05. All agents share its one stream.
type Conn struct {
	*httpx.Client
	opening base.Opening[*stream]
	current atomic.Pointer[stream] // nil while there is none
}

// stream is one open event stream.
type stream struct {
	*mux.Mux
	greeting link.Greeting // set before the line is shared
	post     string        // where messages are sent to
	cancel   context.CancelFunc
	opened   time.Time
	err      error // why the stream ended; to be read after ended
}

// New prepares a conversation; nothing is sent yet.
func New(t httpx.Target, o link.Options) *Conn {
	return &Conn{Client: httpx.New(t, o)}
}

// open returns a line with an open session, and opens one if need be; c times
// the steps and may be nil.
func (l *Conn) open(ctx context.Context, c *base.Stages) (*stream, error) {
	if n := l.current.Load(); n != nil && !n.Over() {
		return n, nil
	}
	if c != nil {
		ctx = c.Trace(ctx)
	}
	n, err := l.opening.Do(ctx, l.Options.SetupTimeout, func(ctx context.Context) (*stream, error) {
		if n := l.current.Load(); n != nil && !n.Over() {
			return n, nil
		}
		n, err := l.connect(ctx)
		if err != nil {
			return nil, err
		}
		if n.greeting, err = l.initialize(ctx, n); err != nil {
			n.cancel()
			<-n.Ended
			return nil, err
		}
		l.Restore(ctx, func(ctx context.Context, a *link.Ask) (link.Exchange, error) { return n.Begin(ctx, a, nil) })
		l.current.Store(n)
		return n, nil
	})
	if err != nil {
		err = l.NetFailure(ctx, err, "initialize")
	}
	if c != nil {
		c.Opened(err)
	}
	return n, err
}

// Open implements Transport.
func (l *Conn) Open(ctx context.Context) (link.Greeting, error) {
	n, err := l.open(ctx, nil)
	if err != nil {
		return link.Greeting{}, err
	}
	return n.greeting, nil
}

// connect opens the event stream and learns where messages are sent to.
// Its steps can each fail in their own way and close what the steps before opened.
func (l *Conn) connect(ctx context.Context) (*stream, error) {
	// The stream outlives the request that needed it; only its opening is bound.
	sctx, cancel := context.WithCancel(context.WithoutCancel(ctx))
	stop := context.AfterFunc(ctx, cancel)
	n := &stream{cancel: cancel, opened: time.Now()}
	n.Mux = mux.New(l.Base, n.send(l))
	n.Mux.Gone = n.reason
	res, err := l.Get(sctx, l.Header("", ""), "")
	if err != nil {
		n.End()
		cancel()
		return nil, l.NetFailure(ctx, err, "initialize")
	}
	fail := func(err error) (*stream, error) {
		httpx.Drain(res.Body)
		n.End()
		cancel()
		return nil, err
	}
	if res.StatusCode != http.StatusOK {
		_, err := l.Refused(res, nil, "initialize")
		return fail(err)
	}
	if httpx.MediaType(res.Header) != "text/event-stream" {
		what := diagnosis.NoLegacy
		if httpx.MediaType(res.Header) == "text/html" {
			what = diagnosis.HTMLPage
		}
		return fail(l.Fail(diagnosis.Evidence{Stage: "initialize", What: what}, nil))
	}
	events := wire.NewEventReader(res.Body, l.Options.MessageLimit)
	ev, err := events.Next()
	if err != nil {
		if ctx.Err() != nil {
			return fail(l.NetFailure(ctx, ctx.Err(), "initialize"))
		}
		return fail(l.Fail(diagnosis.Evidence{Stage: "initialize", What: diagnosis.StreamCut}, err))
	}
	if ev.Name != "endpoint" {
		return fail(l.Fail(diagnosis.Evidence{Stage: "initialize", What: diagnosis.NoLegacy}, nil))
	}
	base, err1 := url.Parse(l.Target.URL)
	to, err2 := url.Parse(string(bytes.TrimSpace(ev.Data)))
	if err := errors.Join(err1, err2); err != nil {
		return fail(
			l.Fail(diagnosis.Evidence{Stage: "initialize", What: diagnosis.Malformed, Note: "its message endpoint is no address"}, err),
		)
	}
	to = base.ResolveReference(to)
	// Messages carry the credential, so they go nowhere else.
	if to.Scheme != base.Scheme || to.Host != base.Host {
		return fail(
			l.Fail(
				diagnosis.Evidence{Stage: "initialize", What: diagnosis.EndpointElsewhere, Note: l.Short(to.Scheme + "://" + to.Host)},
				nil,
			),
		)
	}
	n.post = to.String()
	if !stop() {
		return fail(l.NetFailure(ctx, ctx.Err(), "initialize"))
	}
	go func() {
		defer n.End()
		defer cancel()
		defer res.Body.Close()
		for {
			ev, err := events.Next()
			if err != nil {
				n.err = err
				return
			}
			if ev.Name != "" && ev.Name != "message" {
				continue
			}
			if f, err := wire.ReadFrame(ev.Data); err == nil {
				n.Take(ev.Data, f)
			}
		}
	}()
	return n, nil
}

func (l *Conn) initialize(ctx context.Context, n *stream) (link.Greeting, error) {
	x, err := n.Begin(ctx, base.NewRequest("initialize", l.InitializeParams(), "initialize"), nil)
	if err != nil {
		return link.Greeting{}, err
	}
	defer x.Close()
	frame, f, err := base.ReadAnswer(ctx, x)
	if err != nil {
		return link.Greeting{}, err
	}
	g, err := l.ReadGreeting(frame, f)
	if err != nil {
		return link.Greeting{}, err
	}
	return g, n.Write(ctx, wire.AppendNotification(nil, "notifications/initialized", nil))
}

// send posts one message; the answer comes over the stream.
func (n *stream) send(l *Conn) func(context.Context, []byte) error {
	return func(ctx context.Context, body []byte) error {
		req, err := http.NewRequestWithContext(ctx, http.MethodPost, n.post, bytes.NewReader(body))
		if err != nil {
			return err
		}
		req.Header = l.Header("", n.greeting.Revision)
		res, err := l.Do(req)
		if err != nil {
			return l.NetFailure(ctx, err, "call")
		}
		if res.StatusCode < 200 || res.StatusCode >= 300 {
			_, err := l.Refused(res, nil, "call")
			return err
		}
		httpx.Drain(res.Body)
		return nil
	}
}

// reason says why the stream ended. With it the session has ended.
func (n *stream) reason(stage string) error {
	<-n.Ended
	what := diagnosis.StreamCut
	if stage == "call" {
		what = diagnosis.OutcomeUnknown
	}
	if errors.Is(n.err, wire.ErrEventTooLarge) {
		what = diagnosis.TooLarge
	}
	return n.Fail(diagnosis.Evidence{Stage: stage, What: what, Note: "the event stream ended"}, n.err)
}

// Probe implements link.Transport.
func (l *Conn) Probe(ctx context.Context) (link.Offer, []team.Stage, error) {
	c := l.Stages(nil)
	defer c.End()
	c.At("connect")
	if _, err := l.open(ctx, c); err != nil {
		return link.Offer{}, c.List(), err
	}
	began := time.Now()
	c.At("tools")
	o, err := l.Offer(ctx)
	c.Add("tools", began, err)
	return o, c.List(), err
}

// Offer implements link.Transport.
func (l *Conn) Offer(ctx context.Context) (link.Offer, error) {
	n, err := l.open(ctx, nil)
	if err != nil {
		return link.Offer{}, err
	}
	return l.ReadOffer(
		ctx,
		n.greeting,
		base.AskBy(func(ctx context.Context, a *link.Ask) (link.Exchange, error) { return n.Begin(ctx, a, nil) }),
	)
}

// Begin implements link.Transport.
func (l *Conn) Begin(ctx context.Context, a *link.Ask) (link.Exchange, error) {
	n, err := l.open(ctx, nil)
	if err != nil {
		return nil, err
	}
	return n.Begin(ctx, a, nil)
}

// Cancel implements link.Transport.
func (l *Conn) Cancel(ctx context.Context, id uint64, reason string) error {
	n := l.current.Load()
	if n == nil || n.Over() {
		return nil
	}
	return n.Write(ctx, base.Cancelled(id, reason))
}

// Revision implements link.Transport.
func (l *Conn) Revision() string {
	if n := l.current.Load(); n != nil {
		return n.greeting.Revision
	}
	return ""
}

// Notify implements link.Transport.
func (l *Conn) Notify(ctx context.Context, method string, params []byte) error {
	n := l.current.Load()
	if n == nil || n.Over() {
		return nil
	}
	return n.Write(ctx, wire.AppendNotification(nil, method, params))
}

// Subscribe implements link.Transport.
func (l *Conn) Subscribe(ctx context.Context, uri string, on bool) error {
	n, err := l.open(ctx, nil)
	if err != nil {
		return err
	}
	return l.SubscribeBy(ctx, n.greeting, uri, on, l.Begin)
}

// Log implements link.Transport.
func (l *Conn) Log(ctx context.Context, level string) error {
	n, err := l.open(ctx, nil)
	if err != nil {
		return err
	}
	return l.RaiseLevel(ctx, n.greeting, level, l.Begin)
}

// Fork implements Transport: the other conversation has a stream of its own.
func (l *Conn) Fork(caps wire.Caps, _ bool) link.Transport { return &Conn{Client: l.Sibling(caps)} }

// Traits implements Transport.
func (l *Conn) Traits() link.Traits { return link.Traits{} }

// Diagnostics implements Transport; there is nothing besides the answers.
func (l *Conn) Diagnostics() link.Diagnostics { return link.Diagnostics{} }

// Altered implements Transport.
func (l *Conn) Altered() string { return "" }

// Close implements link.Transport.
func (l *Conn) Close(context.Context) {
	l.opening.Close()
	if n := l.current.Swap(nil); n != nil {
		n.cancel()
		<-n.Ended
	}
	l.CloseIdleConnections()
}

// Listen implements Transport: everything comes over the one stream.
func (l *Conn) Listen(ctx context.Context, ready func()) bool {
	ready()
	n := l.current.Load()
	if n == nil {
		return true
	}
	select {
	case <-n.Ended:
		return base.CoolDown(ctx, n.opened)
	case <-ctx.Done():
		return true
	}
}
