package link

import (
	"bytes"
	"context"
	"encoding/json"
	"net/http"
	"slices"
	"time"

	"bouncer/internal/core/diagnosis"
	"bouncer/internal/core/wire"
)

// listen holds the server's event stream, or its subscriptions in the stateless
// era. It returns true when the server should be looked at, false when it has no
// way to tell of changes.
func (l *HTTP) listen(ctx context.Context) bool {
	s := l.session.Load()
	if s == nil {
		return true
	}
	opened := time.Now()
	if s.stateless {
		return l.subscribed(ctx, s, opened)
	}
	last, retry := "", time.Duration(-1)
	for {
		res, err := l.get(ctx, s, last)
		l.attaching.Do(func() { close(l.attached) })
		if err != nil {
			return pause(ctx, opened)
		}
		if res.StatusCode == http.StatusNotFound && s.id != "" {
			drain(res.Body)
			l.session.CompareAndSwap(s, nil)
			return pause(ctx, opened)
		}
		if res.StatusCode != http.StatusOK || mediaType(res.Header) != "text/event-stream" {
			drain(res.Body)
			if last != "" {
				return pause(ctx, opened)
			}
			return false
		}
		last = l.hold(ctx, res, s, &retry)
		if last == "" || ctx.Err() != nil {
			return pause(ctx, opened)
		}
		// The stream can be taken up where it ended.
		select {
		case <-time.After(max(retry, time.Second)):
		case <-ctx.Done():
			return true
		}
	}
}

// hold reads one event stream to its end and returns the id of its last event.
func (l *HTTP) hold(ctx context.Context, res *http.Response, s *session, retry *time.Duration) (last string) {
	defer res.Body.Close()
	events := wire.NewEventReader(res.Body, l.o.MessageLimit)
	for {
		ev, err := events.Next()
		if err != nil {
			return last
		}
		last = ev.ID
		if ev.Retry >= 0 {
			*retry = min(time.Duration(ev.Retry)*time.Millisecond, longestRetry)
		}
		f, err := wire.ReadFrame(ev.Data)
		if err != nil || f.Kind == wire.Response {
			continue
		}
		l.tell(ev.Data, f, func(body []byte) {
			// If the answer cannot be delivered, the server's own time limit ends its
			// wait.
			_ = l.reply(context.WithoutCancel(ctx), s, body)
		})
	}
}

// subscribed holds subscriptions/listen (MCP 2026-07-28). Listening cannot be
// altered, so a change of the subscribed resources opens another one before the
// first is closed.
func (l *HTTP) subscribed(ctx context.Context, s *session, opened time.Time) bool {
	type run struct {
		cancel context.CancelFunc
		ended  chan struct{}
	}
	var now run
	defer func() {
		if now.cancel != nil {
			now.cancel()
			<-now.ended
		}
	}()
	for {
		uris := l.watching()
		g := s.greeting
		filter := map[string]any{}
		for name, on := range map[string]bool{"toolsListChanged": g.ToolsChanged, "promptsListChanged": g.PromptsChanged, "resourcesListChanged": g.ResourcesChanged} {
			if on {
				filter[name] = true
			}
		}
		if len(uris) > 0 {
			filter["resourceSubscriptions"] = uris
		}
		var ended chan struct{}
		if len(filter) > 0 {
			params, _ := json.Marshal(map[string]any{"notifications": filter}) // maps of texts
			lctx, cancel := context.WithCancel(ctx)
			next := run{cancel, make(chan struct{})}
			acked := make(chan struct{})
			go func() { defer close(next.ended); l.attend(lctx, params, uris, acked) }()
			select {
			case <-acked:
			case <-next.ended:
			case <-ctx.Done():
			}
			if now.cancel != nil {
				now.cancel()
				<-now.ended
			}
			now, ended = next, next.ended
		} else if now.cancel == nil {
			// Nothing to listen to yet; a first subscription wakes this up.
			select {
			case <-l.rewatch:
				continue
			case <-ctx.Done():
				return true
			case <-time.After(l.o.idleListen()):
				return false
			}
		}
		select {
		case <-l.rewatch:
		case <-ended:
			return pause(ctx, opened)
		case <-ctx.Done():
			return true
		}
	}
}

func (o Options) idleListen() time.Duration { return time.Minute }

// attend carries one subscriptions/listen until it ends.
func (l *HTTP) attend(ctx context.Context, params []byte, uris []string, acked chan<- struct{}) {
	x, err := l.Begin(ctx, own("subscriptions/listen", params, "listen"))
	if err != nil {
		return
	}
	defer x.Close()
	for first := true; ; {
		frame, f, err := x.Next()
		if err != nil || f.Kind == wire.Response {
			return
		}
		if f.Method != "notifications/subscriptions/acknowledged" {
			l.tell(bytes.Clone(frame), f, func([]byte) {})
			continue
		}
		if !first {
			continue
		}
		first = false
		var p struct {
			Notifications struct{ ResourceSubscriptions []string }
		}
		// An acknowledgement that cannot be read honours nothing.
		_ = json.Unmarshal(f.Params.Of(frame), &p)
		granted := slices.DeleteFunc(slices.Clone(uris), func(u string) bool { return !slices.Contains(p.Notifications.ResourceSubscriptions, u) })
		l.acks.set(uris, granted)
		close(acked)
	}
}

// Subscribe implements Link.
func (l *HTTP) Subscribe(ctx context.Context, uri string, on bool) error {
	g, err := l.Open(ctx)
	if err != nil {
		return err
	}
	if !wire.Stateless(g.Revision) {
		return l.subscribe(ctx, g, uri, on, l.Begin)
	}
	if err := l.claim(g, uri, on); err != nil {
		return err
	}
	select {
	case l.rewatch <- struct{}{}:
	default:
	}
	if !on {
		return nil
	}
	ctx, cancel := context.WithTimeout(ctx, l.o.SetupTimeout)
	defer cancel()
	for {
		answered, granted, more := l.acks.of(uri)
		if granted {
			return nil
		}
		if !answered {
			select {
			case <-more:
				continue
			case <-ctx.Done():
			}
		}
		l.watch(uri, false)
		return l.fail(diagnosis.Evidence{Stage: "subscribe", What: diagnosis.NotOffered, Note: "it does not acknowledge the subscription"}, nil)
	}
}

// asked sends a request of Bouncer's own whose answer is only yes or no.
func (l *base) asked(ctx context.Context, a *Ask, begin func(context.Context, *Ask) (Exchange, error)) error {
	ctx, cancel := context.WithTimeout(ctx, l.o.SetupTimeout)
	defer cancel()
	x, err := begin(ctx, a)
	if err != nil {
		return err
	}
	defer x.Close()
	frame, f, err := answer(ctx, x)
	if err != nil {
		return err
	}
	if !f.Error.Empty() {
		return &Refusal{wire.ReadError(frame, f.Error)}
	}
	return nil
}

// Refusal is a server's own error as the answer to a request.
type Refusal struct{ wire.RPCError }

func (r *Refusal) Error() string { return r.Message }

// pause keeps a stream that closes at once from being opened again and again.
func pause(ctx context.Context, opened time.Time) bool {
	if left := 5*time.Second - time.Since(opened); left > 0 {
		select {
		case <-time.After(left):
		case <-ctx.Done():
		}
	}
	return true
}
