// Package upstream keeps connections to servers alive. A Connection is one server,
// reached with one holder's credential: it reads what is offered, listens for
// changes, shares the conversation among agents or gives them one of their own,
// and opens it again after failures. A Pool keeps the connections that are wanted.
package upstream

import (
	"context"
	"log/slog"
	"maps"
	"math/rand/v2"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"bouncer/internal/core/diagnosis"
	"bouncer/internal/core/team"
	"bouncer/internal/core/tools"
	"bouncer/internal/core/wire"
	"bouncer/internal/link"
)

// Options configure a Connection.
type Options struct {
	Log *slog.Logger
	// Changed is called after every change of state or of the offer. It may be
	// called by a goroutine that carries a call, so it must not block.
	Changed func(link.Status)
	// State is told of every change of state, with the server's name; nil for nobody. It
	// must not block.
	State func(server string, s link.Status)
	// Altered is called when a running process is no longer what lies on the disk; nil
	// for nobody. It must not block.
	Altered func()
	// Notice is told what the server says outside of any request, but for changes
	// of its lists. It must not block.
	Notice func(frame []byte, f wire.Frame)
	// Poll is how often the offer of a server without an event stream is read
	// again; 0 means one minute.
	Poll time.Duration
	// Sharing is Auto, Shared or Private; "" means Auto.
	Sharing string
	// Subscriptions are those of the connection that this one replaces, by URI, with
	// how many listeners each has. They are made when the server has answered.
	Subscriptions map[string]int
}

// Connection keeps the links to one server alive. Its main link reads the offer,
// listens for changes, and is opened again after failures, waiting longer each
// time.
type Connection struct {
	link   link.Transport
	o      Options
	cancel context.CancelFunc
	ended  chan struct{}
	tried  chan struct{} // closed when the server was reached, or could not be, once
	once   sync.Once     // closes tried
	kick   chan struct{} // capacity 1: look again now
	stale  chan struct{} // capacity 1: the server says that a list changed

	stateless atomic.Bool // the server needs no session, so one link serves all

	mu       sync.Mutex // guards what follows; never held while reaching the server
	status   link.Status
	forks    map[wire.Caps]link.Transport // for agents that can do something for the server
	sessions map[wire.Caps]link.Transport // with sessions, of a server that needs none
	single   time.Time                    // until then the server is taken to keep no sessions
	subs     map[string]*subscription     // by URI
	// inherited are subscriptions that are still to be made at the server.
	inherited []string
	closed    bool
	explained explanation

	probing sync.Mutex // one probe at a time
}

// explanation is what a closer look has made of a failure.
type explanation struct {
	of      diagnosis.Cause // as the conversation itself saw it
	finding diagnosis.Finding
}

// in returns the finding that stands for one of the conversation.
func (e explanation) in(f diagnosis.Finding) diagnosis.Finding {
	if e.of != "" && e.of == f.Cause {
		return e.finding
	}
	return f
}

// subscription is a resource that somebody wants to hear of.
type subscription struct {
	refs  int
	ready chan struct{} // closed when the server has answered
	err   error         // to be read after ready
}

// sessionlessFor is how long a server that did not open a session is not asked for
// one again.
const sessionlessFor = 10 * time.Minute

const (
	firstWait   = time.Second
	longestWait = time.Minute
	// maxStarts is how often a process that does not start is tried in a row.
	maxStarts = 12
	// settleFor is how long changes of a list are gathered before it is read again,
	// so that a server that tells of them without end costs no more.
	settleFor = 50 * time.Millisecond
	// lookEvery is how often the files of a running process are looked at.
	lookEvery = time.Second
)

// Start starts keeping a link. list is the tool list last recorded, which is in
// force until the server has answered.
func Start(ctx context.Context, l link.Transport, list []tools.Tool, o Options) *Connection {
	return Adopt(ctx, l, link.Status{
		Offer:  link.Offer{Lists: map[tools.Kind][]tools.Tool{tools.Tools: list}},
		Health: team.Health{State: team.StateConnecting, Since: time.Now().UTC(), Tools: len(list), Edition: tools.Digest(list)},
	}, o)
}

// Adopt is Keep for a link that was probed already.
func Adopt(ctx context.Context, l link.Transport, probed link.Status, o Options) *Connection {
	if o.Poll == 0 {
		o.Poll = time.Minute
	}
	if o.State == nil {
		o.State = func(string, link.Status) {}
	}
	if o.Notice == nil {
		o.Notice = func([]byte, wire.Frame) {}
	}
	ctx, cancel := context.WithCancel(ctx)
	k := &Connection{
		link:   l,
		o:      o,
		cancel: cancel,
		ended:  make(chan struct{}),
		tried:  make(chan struct{}),
		kick:   make(chan struct{}, 1),
		stale:  make(chan struct{}, 1),
		status: probed, forks: map[wire.Caps]link.Transport{}, sessions: map[wire.Caps]link.Transport{}, subs: map[string]*subscription{},
	}
	for uri, refs := range o.Subscriptions {
		made := make(chan struct{})
		close(made)
		k.subs[uri] = &subscription{refs: refs, ready: made}
		k.inherited = append(k.inherited, uri)
	}
	if probed.State != team.StateConnecting {
		k.once.Do(func() { close(k.tried) })
	}
	k.stateless.Store(wire.Stateless(probed.Revision))
	l.SetListener(k.deliver)
	go k.run(ctx)
	return k
}

// deliver takes what the server says outside of any request.
func (k *Connection) deliver(frame []byte, f wire.Frame, _ func([]byte)) bool {
	if f.Kind == wire.Request {
		return false // no agent is meant for certain
	}
	switch f.Method {
	case "notifications/tools/list_changed", "notifications/prompts/list_changed", "notifications/resources/list_changed":
		select {
		case k.stale <- struct{}{}:
		default:
		}
	default:
		k.o.Notice(frame, f)
	}
	return true
}

// Deliver takes what the server says in the stream of a request, but does not
// belong to it.
func (k *Connection) Deliver(frame []byte, f wire.Frame) { k.deliver(frame, f, nil) }

// NeedsDedicated reports whether agents with the given capabilities get links of their
// own; session tells whether the agent has a session.
func (k *Connection) NeedsDedicated(caps wire.Caps, session bool) bool {
	if k.stateless.Load() && !session {
		return false // there is nothing that could be shared
	}
	switch k.o.Sharing {
	case team.SharingPrivate:
		return true
	case team.SharingShared:
		return false
	}
	// A session costs little, a process much. A server that keeps no sessions has
	// nothing that could be of one agent alone.
	traits := k.link.Traits()
	return traits.CheapForks && caps != (wire.Caps{}) && (k.stateless.Load() || traits.KeepsSessions)
}

// MustBeDedicated reports whether agents may not share a conversation with it.
func (k *Connection) MustBeDedicated() bool { return k.o.Sharing == team.SharingPrivate }

// StartsProcess reports whether a conversation with it is a process.
func (k *Connection) StartsProcess() bool { return k.link.Traits().StartsProcess }

// Attend listens to what a link says outside of any request, until ctx ends. It
// is for links that no connection keeps. ready is called when listening has begun:
// what the server says before may be lost.
func Attend(ctx context.Context, l link.Transport, ready func()) {
	ready = sync.OnceFunc(ready)
	defer ready()
	// What is wrong will be found by the first request.
	_, _ = l.Open(ctx)
	for ctx.Err() == nil && l.Listen(ctx, ready) {
		// A link without a session is opened by the first request.
		ready()
		select {
		case <-time.After(time.Second):
		case <-ctx.Done():
		}
	}
}

// Link returns the link for agents with the given capabilities.
func (k *Connection) Link(caps wire.Caps) link.Link { return k.shared(caps) }

func (k *Connection) shared(caps wire.Caps) link.Transport {
	if !k.link.Traits().CheapForks || k.stateless.Load() {
		return k.link
	}
	k.mu.Lock()
	defer k.mu.Unlock()
	l := k.forks[caps]
	if l == nil && !k.closed {
		l = k.link.Fork(caps, false)
		k.forks[caps] = l
	}
	if l == nil {
		return k.link
	}
	return l
}

// Session returns a link with a session for agents that have one themselves, so
// that nothing has to be translated; nil when the server keeps no sessions, or
// is one of sessions anyway.
func (k *Connection) Session(ctx context.Context, caps wire.Caps) link.Link {
	if !k.link.Traits().CheapForks || !k.stateless.Load() {
		return nil
	}
	k.mu.Lock()
	l := k.sessions[caps]
	if l == nil && !k.closed && time.Now().After(k.single) {
		l = k.link.Fork(caps, true)
		k.sessions[caps] = l
	}
	k.mu.Unlock()
	if l == nil {
		return nil
	}
	if _, err := l.Open(ctx); err != nil {
		k.mu.Lock()
		defer k.mu.Unlock()
		if k.sessions[caps] == l {
			delete(k.sessions, caps)
			k.single = time.Now().Add(sessionlessFor)
		}
		return nil
	}
	return l
}

// OpenDedicated returns a link for one agent session alone, or nil where it is to share.
// The caller closes it.
func (k *Connection) OpenDedicated(caps wire.Caps, session bool, to link.Listener) link.Transport {
	if !k.NeedsDedicated(caps, session) {
		return nil
	}
	l := k.link.Fork(caps, k.stateless.Load())
	if l != nil {
		l.SetListener(to)
	}
	return l
}

// Subscribe begins or ends to hear of changes of a resource, for one listener
// more or less.
func (k *Connection) Subscribe(ctx context.Context, uri string, on bool) error {
	k.mu.Lock()
	if k.closed {
		k.mu.Unlock()
		return context.Canceled
	}
	s := k.subs[uri]
	first := on && s == nil
	switch {
	case first:
		s = &subscription{refs: 1, ready: make(chan struct{})}
		k.subs[uri] = s
	case on:
		s.refs++
	case s == nil:
		k.mu.Unlock()
		return nil
	default:
		s.refs--
	}
	last := !on && s.refs <= 0
	if last {
		delete(k.subs, uri)
	}
	k.mu.Unlock()
	switch {
	case first:
		if s.err = k.link.Subscribe(ctx, uri, true); s.err != nil {
			k.mu.Lock()
			if k.subs[uri] == s {
				delete(k.subs, uri)
			}
			k.mu.Unlock()
		}
		close(s.ready)
		return s.err
	case on:
		select {
		case <-s.ready:
			return s.err
		case <-ctx.Done():
			return ctx.Err()
		}
	case last:
		return k.link.Subscribe(ctx, uri, false)
	}
	return nil
}

// Tried is closed when the server has been reached, or could not be, for the first
// time.
func (k *Connection) Tried() <-chan struct{} { return k.tried }

// Subscriptions are the resources that somebody wants to hear of, by URI, with how
// many do.
func (k *Connection) Subscriptions() map[string]int {
	k.mu.Lock()
	defer k.mu.Unlock()
	out := make(map[string]int, len(k.subs))
	for uri, s := range k.subs {
		out[uri] = s.refs
	}
	return out
}

// inherit makes the subscriptions that were taken over from another connection. It
// is called by run alone.
func (k *Connection) inherit(ctx context.Context) {
	k.mu.Lock()
	todo := k.inherited
	k.inherited = nil
	k.mu.Unlock()
	for _, uri := range todo {
		k.mu.Lock()
		wanted := k.subs[uri] != nil
		k.mu.Unlock()
		if !wanted {
			continue
		}
		if err := k.link.Subscribe(ctx, uri, true); err != nil {
			k.o.Log.Warn("a subscription could not be made again at a server that was altered", "server", k.link.Name(), "error", err)
		}
	}
}

// Status returns what is known now.
func (k *Connection) Status() link.Status {
	k.mu.Lock()
	defer k.mu.Unlock()
	st := k.status
	d := k.link.Diagnostics()
	st.Stderr, st.Noise, st.PID, st.Node = d.Stderr, d.Noise, d.PID, d.Node
	if d.PID != 0 {
		st.Started = &d.Started
	}
	return st
}

// Check looks at the server and returns the outcome. A process that runs is asked
// itself, since another one may run other code. To an address a fresh link, given by
// the caller, goes the whole way, so that every step is seen; the kept one is left
// alone while it works, since calls may be under way on it.
func (k *Connection) Check(ctx context.Context, fresh link.Transport) link.Status {
	defer k.wake()
	if k.Status().State != team.StateReady {
		k.link.Close(ctx)
		k.probe(ctx)
		return k.Status()
	}
	if k.link.Traits().StartsProcess {
		k.probe(ctx)
		k.noteAltered()
		return k.Status()
	}
	st := link.Assess(fresh.Probe(ctx))
	fresh.Close(ctx)
	if st.State != team.StateReady {
		k.Report(*st.Finding)
		return k.Status()
	}
	k.mu.Lock()
	k.status.Stages, k.status.Checked = st.Stages, st.Checked
	k.mu.Unlock()
	return k.Status()
}

// Report tells the connection that a call failed for a reason that lies with the
// connection, so that the state is true before the next look.
func (k *Connection) Report(f diagnosis.Finding) {
	k.mu.Lock()
	changed := k.status.State == team.StateReady
	if changed {
		k.status.State, k.status.Since = team.StateFailing, time.Now().UTC()
		f = k.explained.in(f)
		k.status.Finding = &f
	}
	st := k.status
	k.mu.Unlock()
	if changed {
		k.o.Changed(st)
		k.wake()
	}
}

// Explained keeps what a closer look has made of the present failure, so that it is told
// everywhere instead of what the conversation saw, which was of. It holds as long as the
// conversation sees the same.
func (k *Connection) Explained(of diagnosis.Cause, f diagnosis.Finding) {
	k.mu.Lock()
	changed := k.status.State == team.StateFailing && k.status.Finding != nil && k.status.Finding.Cause == of
	if k.explained.of != "" && of == k.explained.finding.Cause {
		of = k.explained.of // what a look before has made of it was told
	}
	k.explained = explanation{of, f}
	if changed {
		k.status.Finding = &f
	}
	st := k.status
	k.mu.Unlock()
	if changed {
		k.o.Changed(st)
	}
}

// Explain returns what is known of a failure of a call: what a closer look has made of
// it, where there was one.
func (k *Connection) Explain(f diagnosis.Finding) diagnosis.Finding {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.explained.in(f)
}

// Close ends the link and waits for everything it started.
func (k *Connection) Close(ctx context.Context) {
	k.cancel()
	<-k.ended
	k.mu.Lock()
	k.closed = true
	others := slices.AppendSeq(slices.Collect(maps.Values(k.forks)), maps.Values(k.sessions))
	k.mu.Unlock()
	var wait sync.WaitGroup
	for _, l := range others {
		wait.Go(func() { l.Close(ctx) })
	}
	wait.Wait()
	k.link.Close(ctx)
}

func (k *Connection) wake() {
	select {
	case k.kick <- struct{}{}:
	default:
	}
}

func (k *Connection) run(ctx context.Context) {
	defer close(k.ended)
	failures := 0
	for ctx.Err() == nil {
		if k.Status().State == team.StateReady {
			failures = 0
			k.inherit(ctx)
			if k.link.Traits().CheapForks {
				// Most agents share this one, so it is there before they need it; what is
				// wrong with it will be told to the first of them.
				_, _ = k.shared(wire.Caps{}).Open(ctx)
			}
			k.watch(ctx)
			if ctx.Err() != nil {
				return
			}
		}
		k.probe(ctx)
		if k.Status().State == team.StateReady {
			continue
		}
		wait := min(longestWait, firstWait<<min(failures, 10))
		failures++
		if k.link.Traits().StartsProcess && failures >= maxStarts {
			// It is not going to start by itself. A call, a check or another
			// registration tries it again.
			wait = 365 * 24 * time.Hour
		}
		wait = wait/2 + rand.N(wait) // so that many links do not knock together
		select {
		case <-time.After(wait):
		case <-k.kick:
		case <-ctx.Done():
		}
	}
}

func (k *Connection) probe(ctx context.Context) {
	k.probing.Lock()
	defer k.probing.Unlock()
	st := link.Assess(k.link.Probe(ctx))
	if ctx.Err() != nil {
		return
	}
	k.mu.Lock()
	old := k.status
	if st.State == old.State {
		st.Since = old.Since
	}
	if st.State != team.StateReady {
		// What the server offered last stays in force until it answers again.
		st.Offer, st.Edition, st.LeftOut = old.Offer, old.Edition, old.LeftOut
		st.Tools, st.Prompts, st.Resources = old.Tools, old.Prompts, old.Resources
		st.Revision, st.ServerName, st.ServerVersion = old.Revision, old.ServerName, old.ServerVersion
	}
	if len(st.Stages) == 1 {
		st.Stages = old.Stages // the session was open: only the list was read again
	}
	st.Altered = old.Altered
	switch {
	case st.State == team.StateReady:
		k.explained = explanation{}
	case st.Finding != nil:
		f := k.explained.in(*st.Finding)
		st.Finding = &f
	}
	k.status = st
	k.mu.Unlock()
	k.once.Do(func() { close(k.tried) })
	k.stateless.Store(wire.Stateless(st.Revision))
	if st.State != old.State || st.Offer.Digest() != old.Offer.Digest() || cause(st) != cause(old) {
		if st.State != old.State {
			k.o.Log.Info("server changed its state", "server", k.link.Name(), "state", st.State, "cause", cause(st))
			k.o.State(k.link.Name(), st)
		}
		k.o.Changed(st)
	}
}

func cause(s link.Status) diagnosis.Cause {
	if s.Finding == nil {
		return ""
	}
	return s.Finding.Cause
}

// watch returns when the server should be looked at again: its stream ended, the
// time for polling has come, or somebody asked. While a stream is open, lists
// that changed are read again beside it.
func (k *Connection) watch(ctx context.Context) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	ended := make(chan bool, 1) // true: worth looking; false: the server has no stream
	go func() { ended <- k.link.Listen(ctx, func() {}) }()
	timer := time.NewTimer(k.o.Poll)
	defer timer.Stop()
	var look <-chan time.Time
	if k.link.Traits().StartsProcess {
		ticker := time.NewTicker(lookEvery)
		defer ticker.Stop()
		look = ticker.C
	}
	for streaming := true; ; {
		select {
		case <-look:
			k.noteAltered()
		case look := <-ended:
			if look {
				return
			}
			streaming = false
			ended = nil
		case <-k.stale:
			select {
			case <-time.After(settleFor):
			case <-ctx.Done():
			}
			k.probe(ctx)
			if k.Status().State != team.StateReady {
				cancel()
			}
		case <-k.kick:
			if streaming {
				cancel()
				<-ended
			}
			return
		case <-timer.C:
			if !streaming {
				return
			}
			// With a stream the lists are still read again now and then, ten times
			// less often: some servers forget to tell.
			timer.Reset(10 * k.o.Poll)
			if k.unchanged(ctx) {
				continue
			}
			cancel()
			<-ended
			return
		case <-ctx.Done():
			if streaming {
				<-ended
			}
			return
		}
	}
}

// noteAltered tells when the running process was started from files that are others
// since.
func (k *Connection) noteAltered() {
	path := k.link.Altered()
	k.mu.Lock()
	changed := k.status.Altered != path
	k.status.Altered = path
	st := k.status
	k.mu.Unlock()
	if !changed {
		return
	}
	if path != "" {
		k.o.Log.Info("the program of a server changed since it was started", "server", k.link.Name(), "file", path)
		if k.o.Altered != nil {
			k.o.Altered()
		}
	}
	k.o.Changed(st)
}

// unchanged reads the offer while the stream stays open and reports whether it is
// still the same.
func (k *Connection) unchanged(ctx context.Context) bool {
	o, err := k.link.Offer(ctx)
	return err == nil && o.Digest() == k.Status().Offer.Digest()
}

// Again has the connection look at its server soon, whatever it is waiting for.
func (k *Connection) Again(context.Context) { k.wake() }
