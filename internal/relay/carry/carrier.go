// Package carry takes one request of an agent to its server and the answer back: the
// decision, the connection, the splicing of ids and names, what comes back while it
// runs, what the server asks meanwhile, and the record. A Carrier knows the snapshot in
// force and no session but the one that it is called with.
package carry

import (
	"context"
	"log/slog"
	"strings"
	"sync"
	"time"

	"bouncer/internal/core/budget"
	"bouncer/internal/core/rules"
	"bouncer/internal/core/trace"
	"bouncer/internal/gate"
	"bouncer/internal/held"
	"bouncer/internal/journal"
	"bouncer/internal/link"
	"bouncer/internal/relay/breaker"
	"bouncer/internal/relay/session"
	"bouncer/internal/relay/underway"
	"bouncer/internal/snapshot"
	"bouncer/internal/upstream"
)

// Options configure a Carrier.
type Options struct {
	Info        []byte        // Bouncer's name and version, raw JSON
	CallTimeout time.Duration // for one call; 0 means 5 min
	Log         *slog.Logger  // required
	Book        *gate.Book    // knows the gates; nil for none
	Held        held.Room     // where calls wait that rules hold; nil to refuse them
	Budgets     Meter         // nil for without any
	Current     func() *snapshot.Snapshot
	// Trace gives calls their places in traces; nil for none.
	Trace func(trace.Parent) *trace.Call
}

// Carrier carries requests of agents to servers and their answers back. It owns
// what outlives one request: calls that wait for their agent, links that belong
// to one agent alone, tasks that servers carry out behind their answer. It is
// safe for concurrent use.
type Carrier struct {
	o           Options
	journal     Recorder
	flights     *gate.Gate // calls under way
	suspensions *suspensions
	dedicated   dedicatedLinks
	tasks       tasks
	running     underway.Set[*Call]
	breakers    breaker.Set

	ctx    context.Context // of the calls in flight; ends last
	cancel context.CancelCauseFunc
	// unhurried is the context of what need not be finished when the service stops:
	// questions to agents that belong to no call. It ends first.
	unhurried    context.Context
	endUnhurried context.CancelFunc
	calls        sync.WaitGroup
}

// New returns a Carrier; Close ends it.
func New(ctx context.Context, j Recorder, o Options) *Carrier {
	if o.CallTimeout == 0 {
		o.CallTimeout = 5 * time.Minute
	}
	if o.Book == nil {
		o.Book = &gate.Book{}
	}
	carrier := &Carrier{
		o: o, journal: j, flights: o.Book.Open("calls under way", flightLimits), suspensions: newSuspensions(o.Book),
		tasks: tasks{gate: o.Book.Open("tasks", taskLimits)},
	}
	carrier.dedicated.open(o.Book)
	carrier.ctx, carrier.cancel = context.WithCancelCause(context.WithoutCancel(ctx))
	carrier.unhurried, carrier.endUnhurried = context.WithCancel(carrier.ctx)
	return carrier
}

// Context is that of the calls in flight. It ends when the carrier is closed.
func (carrier *Carrier) Context() context.Context { return carrier.ctx }

// Go runs fn beside the calls in flight; Close waits for it.
func (carrier *Carrier) Go(fn func()) { carrier.calls.Go(fn) }

// Retain closes the links of single agents whose connection is no longer kept.
func (carrier *Carrier) Retain(kept func(*upstream.Connection) bool) {
	carrier.drop(func(_ dedicatedKey, n *dedicated) bool { return !kept(n.connection) })
}

// Forget releases what a session that has ended held.
func (carrier *Carrier) Forget(s *session.Session) {
	carrier.tasks.drop(func(key taskKey, _ task) bool { return key.holder == s.Id })
	carrier.drop(func(key dedicatedKey, _ *dedicated) bool { return key.holder == s.Id })
}

// Sweep forgets tasks, and closes links of agents without a session, that nobody
// has asked for in a long time.
func (carrier *Carrier) Sweep(now time.Time) {
	stale := now.Add(-idleTask)
	carrier.tasks.drop(func(_ taskKey, t task) bool { return t.used.Before(stale) })
	idle := now.Add(-idleDedicated)
	carrier.drop(func(key dedicatedKey, n *dedicated) bool {
		return strings.HasPrefix(key.holder, "agent ") && n.used.Before(idle)
	})
}

func (carrier *Carrier) drop(match func(dedicatedKey, *dedicated) bool) {
	for _, n := range carrier.dedicated.drop(match) {
		carrier.Go(func() { n.close(carrier.ctx) })
	}
}

// Links returns the links that belong to a session alone.
func (carrier *Carrier) Links(s *session.Session) []link.Link { return carrier.dedicated.of(s.Id) }

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
	carrier.endUnhurried()
	carrier.suspensions.close()
	idle := make(chan struct{})
	go func() { carrier.calls.Wait(); close(idle) }()
	select {
	case <-idle:
	case <-ctx.Done():
	}
	carrier.cancel(session.ErrShutdown)
	<-idle
	for _, n := range carrier.dedicated.drop(func(dedicatedKey, *dedicated) bool { return true }) {
		n.close(ctx)
	}
}

// flightLimits bound the calls under way.
var flightLimits = gate.Limits{Agent: 1024, Person: 2048, All: 8192}

// Meter counts calls against their budgets. It is safe for concurrent use.
type Meter interface {
	// Take counts a call, and waits for its turn where a budget has calls wait. done
	// counts what it brought, in bytes. The error is a *budget.SpentError, a
	// *gate.FullError, or that of the context.
	Take(ctx context.Context, list []*budget.Budget, who rules.Subject) (done func(bytes int), err error)
}

// Recorder is the journal as the hot path needs it. Its methods are safe for
// concurrent use.
type Recorder interface {
	// Ready reports whether a call that runs now can be recorded, as far as it must be.
	Ready() error
	Record(ctx context.Context, e *journal.Entry) error
	Keep(b []byte) string
}

// EndAll ends the calls under way, of agents without a session, whose principal matches.
// Those with one end with it.
func (carrier *Carrier) EndAll(match func(*Principal) bool) {
	for _, j := range carrier.running.Matching(func(j *Call) bool { return match(&j.principal) }) {
		j.cancel(session.ErrRevoked)
	}
}
