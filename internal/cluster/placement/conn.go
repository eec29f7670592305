package placement

import (
	"context"
	"errors"
	"sync"
	"time"

	"bouncer/internal/cluster"
	"bouncer/internal/core/team"
	"bouncer/internal/core/wire"
	"bouncer/internal/link"
)

// place is a node at which a process runs. For the node that has a lease for it, until is when it may
// not be sure of that any more.
type place struct {
	node  string // "" for none that is known
	lease *cluster.Lease
	until time.Time // zero for as long as it is placed so
}

// knownAfter is how long who asks waits for it to be known where a process runs.
const knownAfter = 10 * time.Second

// Conn is the conversation with a process that runs where its server says. It implements
// link.Transport.
type Conn struct {
	p         *Placement
	name      string // at all nodes alike
	server    string // its id
	placement string
	local     link.Transport
	far       *far
	calls     counter
	settling  sync.Mutex // held while it is found out where the process runs; guards no data

	earsMu sync.Mutex // guards what follows, up to the next lock
	ears   map[*ear]bool
	own    link.Listener

	subscribing sync.Mutex                 // held over one alteration of watched, and telling the process
	watched     map[string]map[string]bool // by URI: the nodes that want to hear of it

	mu        sync.Mutex // guards what follows
	here      place
	placed    chan struct{} // closed when here has become another one
	closed    bool
	forksHere map[*own]bool // conversations of one agent each, that run here
}

func newConn(p *Placement, s team.Server, holder team.Holder, local link.Transport) *Conn {
	c := &Conn{
		p: p, name: nameOf(s.ID, holder), server: s.ID, placement: s.Placement, local: local, ears: map[*ear]bool{},
		watched: map[string]map[string]bool{}, placed: make(chan struct{}), forksHere: map[*own]bool{},
	}
	c.far = newFar(c, "", wire.Caps{}, false)
	local.SetListener(c.heard)
	return c
}

// put notes where the process runs; changed tells whether it was somewhere else before.
func (c *Conn) put(at place) (before string, changed bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	before, changed = c.here.node, c.here.node != at.node
	c.here = at
	if changed {
		close(c.placed)
		c.placed = make(chan struct{})
	}
	return before, changed
}

// inherit takes over where the process ran of the conversation that this one replaces.
func (c *Conn) inherit(before *Conn) {
	if before.placement != c.placement {
		return
	}
	c.put(before.lasting())
}

// lasting is where the process runs as far as that is still sure.
func (c *Conn) lasting() place {
	c.mu.Lock()
	defer c.mu.Unlock()
	if !c.here.until.IsZero() && !c.p.o.Now().Before(c.here.until) {
		return place{}
	}
	return c.here
}

// at is the node where the process runs; "" for none that is known.
func (c *Conn) at() string { return c.lasting().node }

// isHere reports whether the process runs at this node.
func (c *Conn) isHere() bool { return c.at() == c.p.o.Node }

// known waits until it is known where the process runs. The error is a *link.Failure, or that of
// the context.
func (c *Conn) known(ctx context.Context) (node string, err error) {
	ctx, stop := context.WithTimeout(ctx, knownAfter)
	defer stop()
	for {
		c.mu.Lock()
		placed := c.placed
		c.mu.Unlock()
		if node := c.at(); node != "" {
			return node, nil
		}
		select {
		case <-placed:
		case <-ctx.Done():
			if errors.Is(context.Cause(ctx), context.Canceled) {
				return "", context.Canceled
			}
			return "", c.far.nowhere("", nil)
		}
	}
}

// moved is closed when the process is somewhere else.
func (c *Conn) moved() <-chan struct{} {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.placed
}

// transport is the way to where the process runs.
func (c *Conn) transport(ctx context.Context) (link.Transport, error) {
	c.mu.Lock()
	again := c.closed
	c.closed = false
	c.mu.Unlock()
	if again {
		c.p.keep(c)
	}
	node, err := c.known(ctx)
	if err != nil {
		return nil, err
	}
	if node == c.p.o.Node {
		return c.local, nil
	}
	return c.far, nil
}

// now is the way to where the process runs, without waiting to know it.
func (c *Conn) now() link.Transport {
	if c.isHere() {
		return c.local
	}
	return c.far
}

// left reports whether nobody keeps the conversation.
func (c *Conn) left() bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.closed
}

// release gives the right to run the process to others.
func (c *Conn) release(ctx context.Context) {
	c.mu.Lock()
	lease := c.here.lease
	c.here.lease = nil
	c.mu.Unlock()
	if lease != nil {
		lease.Release(ctx)
	}
}

// closeLocal ends the process here, and those of single agents.
func (c *Conn) closeLocal(ctx context.Context) {
	c.mu.Lock()
	all := []link.Transport{c.local}
	for one := range c.forksHere {
		all = append(all, one.Transport)
	}
	clear(c.forksHere)
	c.mu.Unlock()
	var closing sync.WaitGroup
	for _, one := range all {
		closing.Go(func() { one.Close(ctx) })
	}
	closing.Wait()
}

// Begin implements link.Link.
func (c *Conn) Begin(ctx context.Context, a *link.Ask) (link.Exchange, error) {
	t, err := c.transport(ctx)
	if err != nil {
		return nil, err
	}
	if t != c.local {
		return t.Begin(ctx, a)
	}
	c.calls.add(1)
	x, err := t.Begin(ctx, a)
	if err != nil {
		c.calls.add(-1)
		return nil, err
	}
	return &counted{x, sync.OnceFunc(func() { c.calls.add(-1) })}, nil
}

// counted is an exchange that is waited for before its process is ended.
type counted struct {
	link.Exchange
	ended func()
}

// Close implements link.Exchange.
func (x *counted) Close() {
	x.Exchange.Close()
	x.ended()
}

// Revision implements link.Link.
func (c *Conn) Revision() string { return c.now().Revision() }

// NextID implements link.Link.
func (c *Conn) NextID() uint64 { return c.local.NextID() }

// Cancel implements link.Link.
func (c *Conn) Cancel(ctx context.Context, id uint64, reason string) error {
	if c.far.cancel(ctx, id, reason) {
		return nil
	}
	return c.local.Cancel(ctx, id, reason)
}

// Notify implements link.Link.
func (c *Conn) Notify(ctx context.Context, method string, params []byte) error {
	return c.now().Notify(ctx, method, params)
}

// Log implements link.Link.
func (c *Conn) Log(ctx context.Context, level string) error {
	t, err := c.transport(ctx)
	if err != nil {
		return err
	}
	return t.Log(ctx, level)
}

// Close implements link.Link: it ends the process where it runs at this node.
func (c *Conn) Close(ctx context.Context) {
	c.mu.Lock()
	c.closed = true
	c.mu.Unlock()
	c.local.Close(ctx)
	c.p.lookNow()
}

// Name implements link.Transport.
func (c *Conn) Name() string { return c.local.Name() }

// Traits implements link.Transport.
func (c *Conn) Traits() link.Traits { return c.now().Traits() }

// Open implements link.Transport.
func (c *Conn) Open(ctx context.Context) (link.Greeting, error) {
	t, err := c.transport(ctx)
	if err != nil {
		return link.Greeting{}, err
	}
	return t.Open(ctx)
}

// Probe implements link.Transport.
func (c *Conn) Probe(ctx context.Context) (link.Offer, []team.Stage, error) {
	t, err := c.transport(ctx)
	if err != nil {
		return link.Offer{}, nil, err
	}
	return t.Probe(ctx)
}

// Offer implements link.Transport.
func (c *Conn) Offer(ctx context.Context) (link.Offer, error) {
	t, err := c.transport(ctx)
	if err != nil {
		return link.Offer{}, err
	}
	return t.Offer(ctx)
}

// Subscribe implements link.Transport.
func (c *Conn) Subscribe(ctx context.Context, uri string, on bool) error {
	t, err := c.transport(ctx)
	if err != nil {
		return err
	}
	if t == c.local {
		return c.subscribe(ctx, c.p.o.Node, uri, on)
	}
	return t.Subscribe(ctx, uri, on)
}

// subscribe has the process tell of a resource as long as a node wants to hear of it.
func (c *Conn) subscribe(ctx context.Context, node, uri string, on bool) error {
	c.subscribing.Lock()
	defer c.subscribing.Unlock()
	nodes := c.watched[uri]
	switch {
	case on && len(nodes) == 0:
		if err := c.local.Subscribe(ctx, uri, true); err != nil {
			return err
		}
		c.watched[uri] = map[string]bool{node: true}
	case on:
		nodes[node] = true
	case nodes[node]:
		if delete(nodes, node); len(nodes) > 0 {
			return nil
		}
		delete(c.watched, uri)
		return c.local.Subscribe(ctx, uri, false)
	}
	return nil
}

// unsubscribe ends all that a node wanted to hear.
func (c *Conn) unsubscribe(ctx context.Context, node string) {
	c.subscribing.Lock()
	var uris []string
	for uri, nodes := range c.watched {
		if nodes[node] {
			uris = append(uris, uri)
		}
	}
	c.subscribing.Unlock()
	for _, uri := range uris {
		_ = c.subscribe(ctx, node, uri, false) // a process that does not take it tells nobody of it
	}
}

// SetListener implements link.Transport.
func (c *Conn) SetListener(to link.Listener) {
	c.earsMu.Lock()
	c.own = to
	c.earsMu.Unlock()
	c.far.setListener(to)
}

// heard passes on what the process says by itself: to whoever listens here, and to other nodes.
func (c *Conn) heard(frame []byte, f wire.Frame, answer func([]byte)) bool {
	c.earsMu.Lock()
	own := c.own
	if f.Kind == wire.Notification {
		for one := range c.ears {
			one.hear(frame, 0)
		}
	}
	c.earsMu.Unlock()
	return own != nil && own(frame, f, answer)
}

// Listen implements link.Transport. It ends when the process is somewhere else.
func (c *Conn) Listen(ctx context.Context, ready func()) bool {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	moved := c.moved()
	ended := make(chan bool, 1)
	t := c.now()
	go func() { ended <- t.Listen(ctx, ready) }()
	select {
	case again := <-ended:
		return again
	case <-moved:
		stop()
		<-ended
		return true
	}
}

// Fork implements link.Transport.
func (c *Conn) Fork(caps wire.Caps, session bool) link.Transport {
	if !c.isHere() {
		return newFar(c, newTalk(), caps, session)
	}
	return c.fork(caps, session)
}

// fork is another conversation with a process of its own, that runs here.
func (c *Conn) fork(caps wire.Caps, session bool) link.Transport {
	inner := c.local.Fork(caps, session)
	if inner == nil {
		return nil
	}
	one := &own{inner, c}
	c.mu.Lock()
	c.forksHere[one] = true
	c.mu.Unlock()
	return one
}

// own is the conversation of one agent.
type own struct {
	link.Transport
	c *Conn
}

// Close implements link.Link.
func (o *own) Close(ctx context.Context) {
	o.c.mu.Lock()
	delete(o.c.forksHere, o)
	o.c.mu.Unlock()
	o.Transport.Close(ctx)
}

// Diagnostics implements link.Transport.
func (c *Conn) Diagnostics() link.Diagnostics {
	node := c.at()
	if node != c.p.o.Node {
		return link.Diagnostics{Node: node}
	}
	d := c.local.Diagnostics()
	d.Node = node
	return d
}

// Altered implements link.Transport.
func (c *Conn) Altered() string {
	if !c.isHere() {
		return ""
	}
	return c.local.Altered()
}

// counter counts what is under way.
type counter struct {
	mu   sync.Mutex // guards what follows
	n    int
	idle chan struct{} // closed when there is nothing; nil while nobody waits
}

func (c *counter) add(n int) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.n += n; c.n == 0 && c.idle != nil {
		close(c.idle)
		c.idle = nil
	}
}

// wait waits until nothing is under way, or the context ends.
func (c *counter) wait(ctx context.Context) {
	c.mu.Lock()
	if c.n == 0 {
		c.mu.Unlock()
		return
	}
	if c.idle == nil {
		c.idle = make(chan struct{})
	}
	idle := c.idle
	c.mu.Unlock()
	select {
	case <-idle:
	case <-ctx.Done():
	}
}
