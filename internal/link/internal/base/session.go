package base

import (
	"context"
	"fmt"
	"maps"
	"slices"

	"bouncer/internal/core/diagnosis"
	"bouncer/internal/core/wire"
	"bouncer/internal/link"
)

// maxWatched bounds the resources of one server that are subscribed to.
const maxWatched = 10_000

// Watch notes a subscription; false when there are too many.
func (l *Base) Watch(uri string, on bool) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	if !on {
		delete(l.watched, uri)
		return true
	}
	if len(l.watched) >= maxWatched {
		return false
	}
	l.watched[uri] = true
	return true
}

// ClaimWatch notes a subscription if the server has them and there is room for it.
func (l *Base) ClaimWatch(g link.Greeting, uri string, on bool) error {
	note := ""
	switch {
	case !g.Subscribe:
		note = "it has no subscriptions"
	case !l.Watch(uri, on):
		note = fmt.Sprintf("more than %d resources are subscribed to", maxWatched)
	default:
		return nil
	}
	return l.Fail(diagnosis.Evidence{Stage: "subscribe", What: diagnosis.NotOffered, Note: note}, nil)
}

// SubscribeBy makes or ends a subscription by a request of the initialize era. One
// that the server refuses is forgotten.
func (l *Base) SubscribeBy(
	ctx context.Context,
	g link.Greeting,
	uri string,
	on bool,
	begin func(context.Context, *link.Ask) (link.Exchange, error),
) error {
	if err := l.ClaimWatch(g, uri, on); err != nil {
		return err
	}
	err := l.Confirm(ctx, subscription(uri, on), begin)
	if err != nil && on {
		l.Watch(uri, false)
	}
	return err
}

func (l *Base) Watching() []string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return slices.Sorted(maps.Keys(l.watched))
}

// louder notes the level of log messages that somebody wants; false when those
// are sent already.
func (l *Base) louder(level string) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.level != "" && wire.Level(l.level) <= wire.Level(level) {
		return false
	}
	l.level = level
	return true
}

// Restore makes a fresh session as the last one was: subscriptions and log level.
// What is refused now was told as accepted before, and only stays silent.
func (l *Base) Restore(ctx context.Context, begin func(context.Context, *link.Ask) (link.Exchange, error)) {
	l.mu.Lock()
	level := l.level
	l.mu.Unlock()
	asks := []*link.Ask{}
	if level != "" {
		asks = append(asks, logLevel(level))
	}
	for _, uri := range l.Watching() {
		asks = append(asks, subscription(uri, true))
	}
	for _, a := range asks {
		if l.Confirm(ctx, a, begin) != nil && ctx.Err() != nil {
			return
		}
	}
}

// RaiseLevel raises the level of a session that has levels.
func (l *Base) RaiseLevel(
	ctx context.Context,
	g link.Greeting,
	level string,
	begin func(context.Context, *link.Ask) (link.Exchange, error),
) error {
	if wire.Stateless(g.Revision) || !g.Logging || !l.louder(level) {
		return nil
	}
	return l.Confirm(ctx, logLevel(level), begin)
}

func logLevel(level string) *link.Ask {
	return NewRequest("logging/setLevel", append(append([]byte(`{"level":`), wire.Quote(level)...), '}'), "log")
}

// NewRequest is a request of Bouncer's own.
func NewRequest(method string, params []byte, stage string) *link.Ask {
	return &link.Ask{Ask: wire.Ask{Method: method, Src: params, Params: wire.Span{Start: 0, End: len(params)}}, Stage: stage}
}

func subscription(uri string, on bool) *link.Ask {
	method := "resources/subscribe"
	if !on {
		method = "resources/unsubscribe"
	}
	a := NewRequest(method, append(append([]byte(`{"uri":`), wire.Quote(uri)...), '}'), "subscribe")
	a.Subject, a.P.Subject = uri, uri
	return a
}

// Confirm sends a request of Bouncer's own whose answer is only yes or no.
func (l *Base) Confirm(ctx context.Context, a *link.Ask, begin func(context.Context, *link.Ask) (link.Exchange, error)) error {
	ctx, cancel := context.WithTimeout(ctx, l.Options.SetupTimeout)
	defer cancel()
	x, err := begin(ctx, a)
	if err != nil {
		return err
	}
	defer x.Close()
	frame, f, err := ReadAnswer(ctx, x)
	if err != nil {
		return err
	}
	if !f.Error.Empty() {
		return &link.ServerError{RPCError: wire.ReadError(frame, f.Error)}
	}
	return nil
}
