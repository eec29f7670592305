package streamable

import (
	"bytes"
	"context"
	"encoding/json"
	"net/http"
	"slices"
	"time"

	"bouncer/internal/core/diagnosis"
	"bouncer/internal/core/wire"
	"bouncer/internal/link/internal/base"
	"bouncer/internal/link/internal/httpx"
)

// Listen implements Transport: it holds the server's event stream, or its
// subscriptions in the stateless era.
func (l *Conn) Listen(ctx context.Context, ready func()) bool {
	s := l.session.Load()
	if s == nil {
		return true
	}
	opened := time.Now()
	if s.stateless {
		ready()
		return l.subscribed(ctx, s, opened)
	}
	last, retry := "", time.Duration(-1)
	for {
		res, err := l.Get(ctx, s.header, last)
		ready()
		if err != nil {
			return base.CoolDown(ctx, opened)
		}
		if res.StatusCode == http.StatusNotFound && s.id != "" {
			httpx.Drain(res.Body)
			l.session.CompareAndSwap(s, nil)
			return base.CoolDown(ctx, opened)
		}
		if res.StatusCode != http.StatusOK || httpx.MediaType(res.Header) != "text/event-stream" {
			httpx.Drain(res.Body)
			if last != "" {
				return base.CoolDown(ctx, opened)
			}
			return false
		}
		last = l.hold(ctx, res, s, &retry)
		if last == "" || ctx.Err() != nil {
			return base.CoolDown(ctx, opened)
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
func (l *Conn) hold(ctx context.Context, res *http.Response, s *session, retry *time.Duration) (last string) {
	defer res.Body.Close()
	replies := base.NewReplies(ctx, func(ctx context.Context, body []byte) error { return l.reply(ctx, s, body) })
	defer replies.Close()
	events := wire.NewEventReader(res.Body, l.Options.MessageLimit)
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
		l.Tell(ev.Data, f, func(body []byte) { replies.Add(body) })
	}
}

// subscribed holds subscriptions/listen (MCP 2026-07-28). Listening cannot be
// altered, so a change of the subscribed resources opens another one before the
// first is closed.
func (l *Conn) subscribed(ctx context.Context, s *session, opened time.Time) bool {
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
		uris := l.Watching()
		g := s.greeting
		filter := map[string]any{}
		told := map[string]bool{
			"toolsListChanged":     g.ToolsChanged,
			"promptsListChanged":   g.PromptsChanged,
			"resourcesListChanged": g.ResourcesChanged,
		}
		for name, on := range told {
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
			case <-time.After(idleListen):
				return false
			}
		}
		select {
		case <-l.rewatch:
		case <-ended:
			return base.CoolDown(ctx, opened)
		case <-ctx.Done():
			return true
		}
	}
}

// idleListen is how long nothing to listen to is waited for.
const idleListen = time.Minute

// attend carries one subscriptions/listen until it ends.
func (l *Conn) attend(ctx context.Context, params []byte, uris []string, acked chan<- struct{}) {
	x, err := l.Begin(ctx, base.NewRequest("subscriptions/listen", params, "listen"))
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
			l.Tell(bytes.Clone(frame), f, func([]byte) {})
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
		granted := slices.DeleteFunc(
			slices.Clone(uris),
			func(u string) bool { return !slices.Contains(p.Notifications.ResourceSubscriptions, u) },
		)
		l.acks.set(uris, granted)
		close(acked)
	}
}

// Subscribe implements link.Transport.
func (l *Conn) Subscribe(ctx context.Context, uri string, on bool) error {
	g, err := l.Open(ctx)
	if err != nil {
		return err
	}
	if !wire.Stateless(g.Revision) {
		return l.SubscribeBy(ctx, g, uri, on, l.Begin)
	}
	if err := l.ClaimWatch(g, uri, on); err != nil {
		return err
	}
	select {
	case l.rewatch <- struct{}{}:
	default:
	}
	if !on {
		return nil
	}
	ctx, cancel := context.WithTimeout(ctx, l.Options.SetupTimeout)
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
		l.Watch(uri, false)
		return l.Fail(
			diagnosis.Evidence{Stage: "subscribe", What: diagnosis.NotOffered, Note: "it does not acknowledge the subscription"},
			nil,
		)
	}
}
