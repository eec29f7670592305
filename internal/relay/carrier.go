package relay

import (
	"context"
	"log/slog"
	"strings"
	"sync"
	"time"

	"bouncer/internal/link"
	"bouncer/internal/upstream"
)

// CarrierOptions configure a Carrier.
type CarrierOptions struct {
	Info        []byte        // Bouncer's name and version, raw JSON
	CallTimeout time.Duration // for one call; 0 means 5 min
	Log         *slog.Logger  // required
}

// Carrier carries requests of agents to servers and their answers back. It owns
// what outlives one request: calls that wait for their agent, links that belong
// to one agent alone, tasks that servers carry out behind their answer. It is
// safe for concurrent use.
type Carrier struct {
	o        CarrierOptions
	journal  Recorder
	lots     *lots
	privates privates
	tasks    tasks

	ctx    context.Context // of the calls in flight; ends last
	cancel context.CancelCauseFunc
	calls  sync.WaitGroup
}

// NewCarrier returns a Carrier; Close ends it.
func NewCarrier(ctx context.Context, j Recorder, o CarrierOptions) *Carrier {
	if o.CallTimeout == 0 {
		o.CallTimeout = 5 * time.Minute
	}
	carrier := &Carrier{o: o, journal: j, lots: newLots()}
	carrier.ctx, carrier.cancel = context.WithCancelCause(context.WithoutCancel(ctx))
	return carrier
}

// Context is that of the calls in flight. It ends when the carrier is closed.
func (carrier *Carrier) Context() context.Context { return carrier.ctx }

// Go runs fn beside the calls in flight; Close waits for it.
func (carrier *Carrier) Go(fn func()) { carrier.calls.Go(fn) }

// Retain closes the links of single agents whose connection is no longer kept.
func (carrier *Carrier) Retain(kept func(*upstream.Connection) bool) {
	carrier.drop(func(_ privateKey, n *private) bool { return !kept(n.keeper) })
}

// Forget releases what a session that has ended held.
func (carrier *Carrier) Forget(s *Session) {
	carrier.tasks.drop(func(key taskKey, _ task) bool { return key.holder == s.id })
	carrier.drop(func(key privateKey, _ *private) bool { return key.holder == s.id })
}

// Sweep forgets tasks, and closes links of agents without a session, that nobody
// has asked for in a long time.
func (carrier *Carrier) Sweep(now time.Time) {
	stale := now.Add(-idleTask)
	carrier.tasks.drop(func(_ taskKey, t task) bool { return t.used.Before(stale) })
	idle := now.Add(-idlePrivate)
	carrier.drop(func(key privateKey, n *private) bool {
		return strings.HasPrefix(key.holder, "agent ") && n.used.Before(idle)
	})
}

func (carrier *Carrier) drop(match func(privateKey, *private) bool) {
	for _, n := range carrier.privates.drop(match) {
		carrier.Go(func() { n.close(carrier.ctx) })
	}
}

// Links returns the links that belong to a session alone.
func (carrier *Carrier) Links(s *Session) []link.Link { return carrier.privates.of(s.id) }

// Tell passes a notification of an agent on to a server.
func (carrier *Carrier) Tell(ctx context.Context, l link.Link, method string, params []byte) {
	ctx, stop := context.WithTimeout(ctx, 5*time.Second)
	defer stop()
	if err := l.Notify(ctx, method, params); err != nil {
		carrier.o.Log.DebugContext(ctx, "a notification could not be passed on", "method", method, "error", err)
	}
}

// Close ends the calls that wait for their agents, waits for those in flight
// until ctx ends, then cancels them.
func (carrier *Carrier) Close(ctx context.Context) {
	carrier.lots.close()
	idle := make(chan struct{})
	go func() { carrier.calls.Wait(); close(idle) }()
	select {
	case <-idle:
	case <-ctx.Done():
	}
	carrier.cancel(errShutdown)
	<-idle
	for _, n := range carrier.privates.drop(func(privateKey, *private) bool { return true }) {
		n.close(ctx)
	}
}
