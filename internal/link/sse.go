package link

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
)

// SSE is a conversation over the two-endpoint event-stream transport of revision
// 2024-11-05. All agents share its one stream.
type SSE struct {
	*httpClient
	opening opening[*line]
	line    atomic.Pointer[line] // nil while there is none
}

// line is one open event stream.
type line struct {
	*board
	greeting Greeting // set before the line is shared
	post     string   // where messages are sent to
	cancel   context.CancelFunc
	opened   time.Time
	err      error // why the stream ended; to be read after ended
}

// NewSSE prepares a conversation; nothing is sent yet.
func NewSSE(t Target, o Options) *SSE {
	return &SSE{httpClient: newHTTPClient(t, o)}
}

// open returns a line with an open session, and opens one if need be; c times
// the steps and may be nil.
func (l *SSE) open(ctx context.Context, c *clock) (*line, error) {
	if n := l.line.Load(); n != nil && !n.over() {
		return n, nil
	}
	if c != nil {
		ctx = c.trace(ctx)
	}
	n, err := l.opening.do(ctx, l.o.SetupTimeout, func(ctx context.Context) (*line, error) {
		if n := l.line.Load(); n != nil && !n.over() {
			return n, nil
		}
		n, err := l.connect(ctx)
		if err != nil {
			return nil, err
		}
		if n.greeting, err = l.shake(ctx, n); err != nil {
			n.cancel()
			<-n.ended
			return nil, err
		}
		l.settle(ctx, func(ctx context.Context, a *Ask) (Exchange, error) { return n.begin(ctx, a, nil) })
		l.line.Store(n)
		return n, nil
	})
	if err != nil {
		err = l.netFail(ctx, err, "initialize")
	}
	if c != nil {
		c.opened(err)
	}
	return n, err
}

// Open implements Transport.
func (l *SSE) Open(ctx context.Context) (Greeting, error) {
	n, err := l.open(ctx, nil)
	if err != nil {
		return Greeting{}, err
	}
	return n.greeting, nil
}

// connect opens the event stream and learns where messages are sent to.
func (l *SSE) connect(ctx context.Context) (*line, error) {
	// The stream outlives the request that needed it; only its opening is bound.
	sctx, cancel := context.WithCancel(context.WithoutCancel(ctx))
	stop := context.AfterFunc(ctx, cancel)
	n := &line{cancel: cancel, opened: time.Now()}
	n.board = newBoard(l.base, n.send(l))
	n.board.gone = n.why
	res, err := l.get(sctx, l.header("", ""), "")
	if err != nil {
		n.end()
		cancel()
		return nil, l.netFail(ctx, err, "initialize")
	}
	fail := func(err error) (*line, error) {
		drain(res.Body)
		n.end()
		cancel()
		return nil, err
	}
	if res.StatusCode != http.StatusOK {
		_, err := l.refused(res, nil, "initialize")
		return fail(err)
	}
	if mediaType(res.Header) != "text/event-stream" {
		what := diagnosis.NoLegacy
		if mediaType(res.Header) == "text/html" {
			what = diagnosis.HTMLPage
		}
		return fail(l.fail(diagnosis.Evidence{Stage: "initialize", What: what}, nil))
	}
	events := wire.NewEventReader(res.Body, l.o.MessageLimit)
	ev, err := events.Next()
	if err != nil {
		if ctx.Err() != nil {
			return fail(l.netFail(ctx, ctx.Err(), "initialize"))
		}
		return fail(l.fail(diagnosis.Evidence{Stage: "initialize", What: diagnosis.StreamCut}, err))
	}
	if ev.Name != "endpoint" {
		return fail(l.fail(diagnosis.Evidence{Stage: "initialize", What: diagnosis.NoLegacy}, nil))
	}
	base, err1 := url.Parse(l.target.URL)
	to, err2 := url.Parse(string(bytes.TrimSpace(ev.Data)))
	if err := errors.Join(err1, err2); err != nil {
		return fail(l.fail(diagnosis.Evidence{Stage: "initialize", What: diagnosis.Malformed, Note: "its message endpoint is no address"}, err))
	}
	to = base.ResolveReference(to)
	// Messages carry the credential, so they go nowhere else.
	if to.Scheme != base.Scheme || to.Host != base.Host {
		return fail(l.fail(diagnosis.Evidence{Stage: "initialize", What: diagnosis.EndpointElsewhere, Note: l.short(to.Scheme + "://" + to.Host)}, nil))
	}
	n.post = to.String()
	if !stop() {
		return fail(l.netFail(ctx, ctx.Err(), "initialize"))
	}
	go func() {
		defer n.end()
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
				n.take(ev.Data, f)
			}
		}
	}()
	return n, nil
}

func (l *SSE) shake(ctx context.Context, n *line) (Greeting, error) {
	x, err := n.begin(ctx, own("initialize", l.hello(), "initialize"), nil)
	if err != nil {
		return Greeting{}, err
	}
	defer x.Close()
	frame, f, err := answer(ctx, x)
	if err != nil {
		return Greeting{}, err
	}
	g, err := l.readGreeting(frame, f)
	if err != nil {
		return Greeting{}, err
	}
	return g, n.write(ctx, wire.AppendNotification(nil, "notifications/initialized", nil))
}

// send posts one message; the answer comes over the stream.
func (n *line) send(l *SSE) func(context.Context, []byte) error {
	return func(ctx context.Context, body []byte) error {
		req, err := http.NewRequestWithContext(ctx, http.MethodPost, n.post, bytes.NewReader(body))
		if err != nil {
			return err
		}
		req.Header = l.header("", n.greeting.Revision)
		res, err := l.do(req)
		if err != nil {
			return l.netFail(ctx, err, "call")
		}
		if res.StatusCode < 200 || res.StatusCode >= 300 {
			_, err := l.refused(res, nil, "call")
			return err
		}
		drain(res.Body)
		return nil
	}
}

// why says why the stream ended. With it the session has ended.
func (n *line) why(stage string) error {
	<-n.ended
	what := diagnosis.StreamCut
	if stage == "call" {
		what = diagnosis.OutcomeUnknown
	}
	if errors.Is(n.err, wire.ErrEventTooLarge) {
		what = diagnosis.TooLarge
	}
	return n.fail(diagnosis.Evidence{Stage: stage, What: what, Note: "the event stream ended"}, n.err)
}

// Probe implements Link.
func (l *SSE) Probe(ctx context.Context) (Offer, []team.Stage, error) {
	c := newClock(l.short)
	if _, err := l.open(ctx, c); err != nil {
		return Offer{}, c.stages(), err
	}
	began := time.Now()
	o, err := l.Offer(ctx)
	c.stage("tools", began, err)
	return o, c.stages(), err
}

// Offer implements Link.
func (l *SSE) Offer(ctx context.Context) (Offer, error) {
	n, err := l.open(ctx, nil)
	if err != nil {
		return Offer{}, err
	}
	return l.offer(ctx, n.greeting, asking(func(ctx context.Context, a *Ask) (Exchange, error) { return n.begin(ctx, a, nil) }))
}

// Begin implements Link.
func (l *SSE) Begin(ctx context.Context, a *Ask) (Exchange, error) {
	n, err := l.open(ctx, nil)
	if err != nil {
		return nil, err
	}
	return n.begin(ctx, a, nil)
}

// Cancel implements Link.
func (l *SSE) Cancel(ctx context.Context, id uint64, reason string) error {
	n := l.line.Load()
	if n == nil || n.over() {
		return nil
	}
	return n.write(ctx, cancelled(id, reason))
}

// Revision implements Link.
func (l *SSE) Revision() string {
	if n := l.line.Load(); n != nil {
		return n.greeting.Revision
	}
	return ""
}

// Notify implements Link.
func (l *SSE) Notify(ctx context.Context, method string, params []byte) error {
	n := l.line.Load()
	if n == nil || n.over() {
		return nil
	}
	return n.write(ctx, wire.AppendNotification(nil, method, params))
}

// Subscribe implements Link.
func (l *SSE) Subscribe(ctx context.Context, uri string, on bool) error {
	n, err := l.open(ctx, nil)
	if err != nil {
		return err
	}
	return l.subscribe(ctx, n.greeting, uri, on, l.Begin)
}

// Log implements Link.
func (l *SSE) Log(ctx context.Context, level string) error {
	n, err := l.open(ctx, nil)
	if err != nil {
		return err
	}
	return l.log(ctx, n.greeting, level, l.Begin)
}

// Fork implements Transport: the other conversation has a stream of its own.
func (l *SSE) Fork(caps wire.Caps, _ bool) Transport { return &SSE{httpClient: l.fork(caps)} }

// Traits implements Transport.
func (l *SSE) Traits() Traits { return Traits{} }

// Diagnostics implements Transport; there is nothing besides the answers.
func (l *SSE) Diagnostics() (stderr string, noise int) { return "", 0 }

// Close implements Link.
func (l *SSE) Close(context.Context) {
	l.opening.close()
	if n := l.line.Swap(nil); n != nil {
		n.cancel()
		<-n.ended
	}
	l.transport.CloseIdleConnections()
}

// Listen implements Transport: everything comes over the one stream.
func (l *SSE) Listen(ctx context.Context, ready func()) bool {
	ready()
	n := l.line.Load()
	if n == nil {
		return true
	}
	select {
	case <-n.ended:
		return pause(ctx, n.opened)
	case <-ctx.Done():
		return true
	}
}
