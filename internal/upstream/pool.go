package upstream

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"log/slog"
	"strings"
	"sync"
	"time"

	"bouncer/internal/core/team"
	"bouncer/internal/core/tools"
	"bouncer/internal/core/wire"
	"bouncer/internal/link"
	"bouncer/internal/link/dial"
)

// Key names a connection: a server, and whose credential it is reached with.
type Key struct {
	Server string // id
	Holder team.Holder
}

// String is the key in one word, as the snapshot and the relay know the server.
func (k Key) String() string {
	if h := k.Holder.Key(); h != "" {
		return k.Server + "/" + h
	}
	return k.Server
}

// Wanted is a connection that is to be kept.
type Wanted struct {
	Server     team.Server
	Holder     team.Holder
	Credential link.Credential
	// Recorded returns the tool list last recorded, which is in force until the
	// server has answered. It is asked only where the pool knows none.
	Recorded func() []tools.Tool
}

// PoolOptions configure a Pool.
type PoolOptions struct {
	Link link.Options
	Log  *slog.Logger // required
	// Notice is told what a server says outside of any request, with the connection's
	// key as a word. It must not block.
	Notice func(key string, frame []byte, f wire.Frame)
	// Poll is as in Options.
	Poll time.Duration
	// Place returns the way to a process, given one that runs here; nil for none but that.
	Place func(s team.Server, holder team.Holder, local link.Transport) link.Transport
	// TakeUp is set for starting a process anew when its files have changed.
	TakeUp bool
}

// Pool keeps the connections that are wanted. It is safe for concurrent use; Apply
// and Close are called by one goroutine at a time.
type Pool struct {
	o       PoolOptions
	ctx     context.Context // of the connections
	cancel  context.CancelFunc
	changed chan struct{} // capacity 1

	mu      sync.Mutex // guards the maps; never held while dialling, probing or closing
	entries map[Key]*entry
	offered map[Key]offer
	again   map[Key]bool // to be replaced though nothing about them was altered

	taking sync.WaitGroup // restarts by themselves
}

// entry is a kept connection with what it was started from.
type entry struct {
	connection  *Connection
	fingerprint string
	wanted      Wanted
}

// offer is a conversation that was probed already, for a connection that is about
// to be wanted.
type offer struct {
	transport   link.Transport
	status      link.Status
	fingerprint string
}

// NewPool returns an empty Pool; Close ends it.
func NewPool(o PoolOptions) *Pool {
	p := &Pool{o: o, changed: make(chan struct{}, 1), entries: map[Key]*entry{}, offered: map[Key]offer{}, again: map[Key]bool{}}
	p.ctx, p.cancel = context.WithCancel(context.Background())
	return p
}

// Changed is sent to when a connection's state or offer has changed.
func (p *Pool) Changed() <-chan struct{} { return p.changed }

// fingerprint tells what connections are started from apart. It holds no secret.
func fingerprint(s team.Server, c link.Credential) string {
	// How long calls may take, what they may bring, and where sign-ins may lead is no
	// matter of the connection.
	o := s.ServerOptions
	o.CallLimits, o.ToolLimits, o.PrivateRanges = team.CallLimits{}, nil, nil
	// Texts and numbers cannot fail to be written.
	options, _ := json.Marshal(o)
	from := []any{s.Transport, s.URL, s.Command, s.Args, s.Dir, s.Env, s.SecretEnv, s.Document, c.Fingerprint}
	sum := sha256.Sum256(fmt.Appendf(nil, "%q %s", from, options))
	return hex.EncodeToString(sum[:])
}

// Apply starts, replaces and forgets connections so that those wanted are kept. It
// returns those that are no longer needed, for the caller to close when nothing
// refers to them any more.
func (p *Pool) Apply(wanted []Wanted) (gone []*Connection) {
	keep := map[Key]bool{}
	for _, w := range wanted {
		key := Key{w.Server.ID, w.Holder}
		print := fingerprint(w.Server, w.Credential)
		old, probed, again := p.known(key)
		if old != nil && old.fingerprint == print && !again {
			keep[key] = true
			continue
		}
		next := p.start(w, key, print, old, probed)
		if next == nil {
			continue
		}
		keep[key] = true
		p.mu.Lock()
		p.entries[key] = &entry{next, print, w}
		p.mu.Unlock()
		if old != nil {
			gone = append(gone, old.connection)
		}
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	for key, e := range p.entries {
		if !keep[key] {
			gone = append(gone, e.connection)
			delete(p.entries, key)
		}
	}
	return gone
}

func (p *Pool) known(key Key) (old *entry, probed offer, again bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	again = p.again[key]
	delete(p.again, key)
	return p.entries[key], p.offered[key], again
}

// Restart reaches a server anew for each of its connections, and leaves what answers
// for the next Apply to put in the place of what runs. Until then, and when the new one
// does not answer, what runs goes on; the finding then says why. Conversations that were
// left and are not taken are closed by Discard.
func (p *Pool) Restart(ctx context.Context, serverID string) (link.Status, error) {
	var last link.Status
	for key := range p.all() {
		if key.Server != serverID {
			continue
		}
		p.mu.Lock()
		e := p.entries[key]
		p.mu.Unlock()
		if e == nil {
			continue
		}
		transport, err := dial.New(e.wanted.Server, e.wanted.Credential, p.o.Link)
		if err != nil {
			return last, fmt.Errorf("reach a server anew: %w", err)
		}
		last = link.Assess(transport.Probe(ctx))
		if last.State != team.StateReady {
			transport.Close(ctx)
			return last, nil
		}
		p.Discard(ctx, key)
		p.mu.Lock()
		p.offered[key], p.again[key] = offer{transport, last, e.fingerprint}, true
		p.mu.Unlock()
	}
	return last, nil
}

// takeUp replaces a process whose files have changed, once, without anybody asking.
func (p *Pool) takeUp(serverID string) {
	st, err := p.Restart(p.ctx, serverID)
	if err != nil || st.State != team.StateReady {
		p.o.Log.Warn("a changed program does not answer, and the one before goes on", "error", err, "cause", cause(st))
		return
	}
	select {
	case p.changed <- struct{}{}:
	default:
	}
}

// start begins a connection: over the conversation that was offered for it, else
// over a new one. What was offered by the server before stays in force until the
// new conversation has answered.
func (p *Pool) start(w Wanted, key Key, print string, old *entry, probed offer) *Connection {
	o := p.options(key, w.Server.Sharing)
	if old != nil {
		o.Subscriptions = old.connection.Subscriptions()
	}
	if probed.transport != nil && probed.fingerprint == print {
		p.mu.Lock()
		delete(p.offered, key)
		p.mu.Unlock()
		return Adopt(p.ctx, p.place(w, probed.transport), probed.status, o)
	}
	transport, err := dial.New(w.Server, w.Credential, p.o.Link)
	if err != nil {
		// It was checked when it was registered, so this is a newer Bouncer's work.
		p.o.Log.Error("a server cannot be reached as it is registered", "server", w.Server.Name, "error", err)
		return nil
	}
	transport = p.place(w, transport)
	if transport.Traits().Static {
		offer, err := transport.Offer(p.ctx)
		if err != nil {
			p.o.Log.Error("what a server offers cannot be told", "server", w.Server.Name, "error", err)
		}
		return Start(p.ctx, transport, offer.Lists[tools.Tools], o)
	}
	if old == nil {
		old = p.other(w.Server.ID) // somebody else's connection tells what to expect
	}
	if old != nil {
		st := old.connection.Status()
		st.State, st.Finding, st.Since = team.StateConnecting, nil, time.Now().UTC()
		return Adopt(p.ctx, transport, st, o)
	}
	return Start(p.ctx, transport, w.Recorded(), o)
}

// place is the way to where a connection's process runs.
func (p *Pool) place(w Wanted, local link.Transport) link.Transport {
	if p.o.Place == nil {
		return local
	}
	return p.o.Place(w.Server, w.Holder, local)
}

// Again has the connections to a server look at it soon, whatever they wait for.
func (p *Pool) Again(serverID string) {
	for key, c := range p.all() {
		if key.Server == serverID {
			c.wake()
		}
	}
}

func (p *Pool) other(serverID string) *entry {
	p.mu.Lock()
	defer p.mu.Unlock()
	for key, e := range p.entries {
		if key.Server == serverID {
			return e
		}
	}
	return nil
}

func (p *Pool) options(key Key, sharing string) Options {
	name := key.String()
	var altered func()
	if p.o.TakeUp {
		altered = func() { p.taking.Go(func() { p.takeUp(key.Server) }) }
	}
	return Options{
		Altered: altered,
		Log:     p.o.Log, Poll: p.o.Poll, Sharing: sharing, State: p.told,
		Notice: func(frame []byte, f wire.Frame) { p.o.Notice(name, frame, f) },
		Changed: func(link.Status) {
			select {
			case p.changed <- struct{}{}:
			default:
			}
		},
	}
}

// told has a change of state on the tap, between what went before and after it.
func (p *Pool) told(server string, s link.Status) {
	if p.o.Link.Tap == nil {
		return
	}
	text := s.State
	if s.Finding != nil {
		text += ": " + s.Finding.Message
	}
	if ear := p.o.Link.Tap.Of(server); ear != nil {
		ear.Frame(0, link.State, []byte(text), len(text))
	}
}

// Get returns the connection of a key; nil for none.
func (p *Pool) Get(key Key) *Connection {
	p.mu.Lock()
	defer p.mu.Unlock()
	if e := p.entries[key]; e != nil {
		return e.connection
	}
	return nil
}

// Best returns the team's connection to a server, else the best one of those that
// people and agents have, and whose it is; nil for none.
func (p *Pool) Best(serverID string) (best *Connection, whose team.Holder) {
	if c := p.Get(Key{Server: serverID}); c != nil {
		return c, team.Holder{}
	}
	rank := func(c *Connection, h team.Holder) string {
		if c.Status().State == team.StateReady {
			return "0 " + h.Key()
		}
		return "1 " + h.Key()
	}
	for key, c := range p.all() {
		if key.Server != serverID {
			continue
		}
		if best == nil || strings.Compare(rank(c, key.Holder), rank(best, whose)) < 0 {
			best, whose = c, key.Holder
		}
	}
	return best, whose
}

func (p *Pool) all() map[Key]*Connection {
	p.mu.Lock()
	defer p.mu.Unlock()
	out := make(map[Key]*Connection, len(p.entries))
	for key, e := range p.entries {
		out[key] = e.connection
	}
	return out
}

// Offers returns, for each server with a connection that is ready, the status of
// the one whose list is recorded.
func (p *Pool) Offers() map[string]link.Status {
	out := map[string]link.Status{}
	for key := range p.all() {
		if _, done := out[key.Server]; done {
			continue
		}
		c, _ := p.Best(key.Server)
		if c == nil {
			continue
		}
		if st := c.Status(); st.State == team.StateReady {
			out[key.Server] = st
		}
	}
	return out
}

// WaitTried waits a little until a connection has been tried, so that what is
// shown next is how it went.
func (p *Pool) WaitTried(ctx context.Context, key Key) {
	c := p.Get(key)
	if c == nil {
		return
	}
	ctx, stop := context.WithTimeout(ctx, triedTime)
	defer stop()
	select {
	case <-c.Tried():
	case <-ctx.Done():
	}
}

// triedTime is how long a first try is waited for.
const triedTime = 5 * time.Second

// Probe reaches a server as described. With detect the transport is found out, and
// told in the server. The caller closes the transport, or offers it.
func (p *Pool) Probe(ctx context.Context, s *team.Server, c link.Credential, detect bool) (link.Transport, link.Status, error) {
	if detect {
		transport, name, o, stages, err := dial.Detect(ctx, *s, c, p.o.Link)
		s.Transport = name
		return transport, link.Assess(o, stages, err), nil
	}
	transport, err := p.Dial(*s, c)
	if err != nil {
		return nil, link.Status{}, err
	}
	return transport, link.Assess(transport.Probe(ctx)), nil
}

// Dial prepares a conversation that the pool does not keep.
func (p *Pool) Dial(s team.Server, c link.Credential) (link.Transport, error) {
	return dial.New(s, c, p.o.Link)
}

// Try reaches a server with a credential without keeping the conversation. The
// error is a *team.ProbeError when it cannot be reached.
func (p *Pool) Try(ctx context.Context, s team.Server, c link.Credential) error {
	transport, st, err := p.Probe(ctx, &s, c, false)
	if err != nil {
		return err
	}
	transport.Close(ctx)
	if st.State != team.StateReady {
		return &team.ProbeError{Finding: *st.Finding, Stages: st.Stages}
	}
	return nil
}

// Offer leaves a probed conversation for the connection that Apply starts next for
// the same server and credential.
func (p *Pool) Offer(s team.Server, h team.Holder, c link.Credential, transport link.Transport, st link.Status) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.offered[Key{s.ID, h}] = offer{transport, st, fingerprint(s, c)}
}

// Discard closes an offered conversation that nobody wants after all.
func (p *Pool) Discard(ctx context.Context, key Key) {
	p.mu.Lock()
	left, ok := p.offered[key]
	delete(p.offered, key)
	p.mu.Unlock()
	if ok {
		left.transport.Close(ctx)
	}
}

// Close ends all connections, and waits for them until ctx ends.
func (p *Pool) Close(ctx context.Context) {
	p.cancel()
	p.taking.Wait()
	p.mu.Lock()
	left := make([]link.Transport, 0, len(p.offered))
	for key, o := range p.offered {
		left = append(left, o.transport)
		delete(p.offered, key)
	}
	p.mu.Unlock()
	var wait sync.WaitGroup
	for _, c := range p.all() {
		wait.Go(func() { c.Close(ctx) })
	}
	for _, transport := range left {
		wait.Go(func() { transport.Close(ctx) })
	}
	wait.Wait()
}
