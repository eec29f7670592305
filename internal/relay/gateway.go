// Package relay is the hot path: the Gateway where agents come in. It reads a
// request's envelope, knows the agent by its pass, finds its session (package
// session) and hands the call to the Carrier (package carry), which decides by the
// snapshot in force. It keeps no state but sessions and who listens to what. Every
// call, admitted or refused, ends in the journal.
package relay

import (
	"context"
	"encoding/json"
	"log/slog"
	"net/netip"
	"sync"
	"sync/atomic"
	"time"

	"bouncer/internal/core/rules"
	"bouncer/internal/core/trace"
	"bouncer/internal/gate"
	"bouncer/internal/held"
	"bouncer/internal/link"
	"bouncer/internal/origin"
	"bouncer/internal/relay/carry"
	"bouncer/internal/relay/contact"
	"bouncer/internal/relay/door"
	"bouncer/internal/relay/session"
	"bouncer/internal/snapshot"
	"bouncer/internal/upstream"
)

// Options configure a Gateway; the zero value is the default.
type Options struct {
	Version     string
	Address     string         // base URL under which agents reach the service
	BodyLimit   int            // bytes of one request; 0 means 4 MiB
	CallTimeout time.Duration  // for one call; 0 means 5 min
	Guard       *origin.Guard  // required
	Log         *slog.Logger   // required
	Book        *gate.Book     // knows the gates; nil for none
	Proxies     []netip.Prefix // whose word counts for where a request comes from
	// SessionKey signs the ids of sessions, so that they outlive the service; 32 bytes, or
	// nil for sessions that do not.
	SessionKey []byte
	// Present reports whether a person is seen in the console or the command line; nil for
	// never.
	Present func(person string) bool
	// Held is where calls wait that rules hold; nil to refuse them.
	Held held.Room
	// Budgets counts calls against their budgets; nil for without any.
	Budgets carry.Meter
	// Tap is told what goes between agents and the service, by their ids; nil for nobody.
	Tap link.Tap
	// Trouble is told of an agent whose request was answered as wrong. It must not block; nil
	// for nobody.
	Trouble func(agentID, why string)
	// Trace gives calls their places in traces; nil for none.
	Trace func(trace.Parent) *trace.Call
	// Sure returns why it is not certain what is allowed by now, and no call is to be admitted;
	// nil for always certain.
	Sure func() error
	// Known waits until all is in force that other nodes have altered by now, and returns false
	// when that takes too long; nil for a service that is one node. It is asked before an agent is
	// turned away that may be known by then.
	Known func(context.Context) bool
	// Finder searches tools, for agents that have them found instead of listed; nil for none.
	Finder Finder
}

// Gateway serves /mcp and /mcp/{server}, and /sse and /sse/{server} for agents of
// the oldest revision.
type Gateway struct {
	Door     door.Log    // who came without a valid pass
	Contacts contact.Log // how agents were last seen

	o             Options
	info          []byte // Bouncer's name and version, raw
	carrier       *carry.Carrier
	recorder      carry.Recorder
	snapshot      atomic.Pointer[snapshot.Snapshot]
	sessions      *session.Set
	seal          *session.Seal
	subscribers   subscribers
	subscriptions subscriptions
	publishing    sync.Mutex // one snapshot after the other is put in force

	ended chan struct{} // closed when streams have to end
	once  sync.Once
	swept chan struct{}
}

// New returns a gateway with an empty snapshot, and starts its sweeper; Close
// ends it.
func New(ctx context.Context, j carry.Recorder, o Options) *Gateway {
	if o.BodyLimit == 0 {
		o.BodyLimit = 4 << 20
	}
	if o.Book == nil {
		o.Book = &gate.Book{}
	}
	d := &Gateway{o: o, ended: make(chan struct{}), swept: make(chan struct{})}
	// A map of strings cannot fail to be written.
	d.info, _ = json.Marshal(map[string]string{"name": "bouncer", "title": "Bouncer", "version": o.Version})
	d.sessions = session.NewSet(d.left, o.Book)
	d.seal = session.NewSeal(o.SessionKey)
	d.subscribers.gate = o.Book.Open("subscriptions without a session", subscriberLimits)
	d.recorder = j
	d.carrier = carry.New(ctx, j, carry.Options{
		Info: d.info, CallTimeout: o.CallTimeout, Log: o.Log, Book: o.Book, Held: o.Held, Budgets: o.Budgets, Current: d.Snapshot,
		Trace: o.Trace,
	})
	d.snapshot.Store(snapshot.New())
	go d.sweep()
	return d
}

// Publish puts a new snapshot in force. It tells every open session whose tool list
// is another one now, and ends those whose pass is no longer valid.
func (d *Gateway) Publish(w *snapshot.Snapshot) {
	d.publishing.Lock()
	defer d.publishing.Unlock()
	d.snapshot.Store(w)
	valid := map[string]bool{trialPass: true} // it ends with its request
	now := time.Now()
	for _, p := range w.Passes {
		// A program that renews its token goes on with its session, so that the token
		// alone may have expired; each request needs a fresh one.
		valid[p.ID] = valid[p.ID] || (!p.Revoked && (p.Renews || now.Before(p.Expires)))
	}
	d.sessions.Each(func(s *session.Session) {
		a := w.Agents[s.AgentID]
		if a == nil || !valid[s.PassID] {
			d.sessions.End(s, session.ErrRevoked)
			return
		}
		catalog := w.ReachOf(a, d.o.howOf(s.How.Load(), a)).Catalog(s.Scope)
		if catalog == nil {
			d.sessions.End(s, session.ErrLeft)
			return
		}
		if a.Paused {
			s.EndStream() // requests are refused; what is open already must not go on
		}
		s.Outbox.ListsChanged(s.NoteLists(catalog.Digests()))
	})
	kept := map[*upstream.Connection]bool{}
	connections := map[string]*upstream.Connection{} // by the id of the server as its agents have it
	note := func(s *snapshot.Server) {
		if s.Connection != nil {
			kept[s.Connection], connections[s.ID] = true, s.Connection
		}
	}
	for _, s := range w.Servers {
		note(s)
		for _, own := range s.ByAgent {
			note(own)
		}
	}
	d.carrier.EndAll(func(v *carry.Principal) bool {
		// With a session, its end is theirs.
		return w.Agents[v.Agent.ID] == nil || !valid[v.Pass.ID]
	})
	d.carrier.Retain(func(c *upstream.Connection) bool { return kept[c] })
	d.rewatch(w, connections)
	d.subscribers.each(func(e *subscriber) {
		a := w.Agents[e.agentID]
		if a == nil || a.Paused || !valid[e.passID] {
			e.stop()
			return
		}
		if catalog := w.ReachOf(a, d.o.howOf(&e.how, a)).Catalog(e.scope); catalog != nil {
			e.lists(catalog.Digests())
		} else {
			e.stop()
		}
	})
}

// howOf is what is known of the requests of something that is open.
func (o *Options) howOf(last *rules.Circumstances, a *snapshot.Agent) (how rules.Circumstances) {
	if last != nil {
		how = *last
	}
	how.Present = o.present(a)
	return how
}

// present reports whether an agent's person is seen elsewhere.
func (o *Options) present(a *snapshot.Agent) bool {
	return a.Owner != "" && o.Present != nil && o.Present(a.Owner)
}

// Snapshot returns the snapshot in force.
func (d *Gateway) Snapshot() *snapshot.Snapshot { return d.snapshot.Load() }

// Sessions is the number of open sessions.
func (d *Gateway) Sessions() int { return d.sessions.Len() }

// EndStreams ends the event streams, so that a server that is shutting down
// does not wait for them. Calls go on.
func (d *Gateway) EndStreams() { d.once.Do(func() { close(d.ended) }) }

// Close waits for the calls in flight until ctx ends, then cancels them.
func (d *Gateway) Close(ctx context.Context) {
	d.EndStreams()
	<-d.swept
	d.carrier.Close(ctx)
}

func (d *Gateway) sweep() {
	defer close(d.swept)
	t := time.NewTicker(session.SweepEvery)
	defer t.Stop()
	for {
		select {
		case <-t.C:
			limit := time.Now().Add(-session.IdleSession).UnixMilli()
			d.sessions.Each(func(s *session.Session) {
				if s.Used.Load() < limit && !s.Busy() {
					d.sessions.End(s, session.ErrIdle)
				}
			})
			d.carrier.Sweep(time.Now())
		case <-d.ended:
			return
		}
	}
}
