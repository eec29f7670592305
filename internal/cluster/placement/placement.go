// Package placement has local processes run at the nodes where their servers say: at every node, at
// one of them, or at those with a label. At the other nodes the same conversation reaches the process
// where it runs, over passages between nodes; whoever carries calls over it need not know. A Conn
// is such a conversation, and finds out anew whenever it is asked.
package placement

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"hash/fnv"
	"log/slog"
	"maps"
	"slices"
	"sync"
	"time"

	"bouncer/internal/cluster"
	"bouncer/internal/cluster/passage"
	"bouncer/internal/core/team"
	"bouncer/internal/gate"
	"bouncer/internal/link"
)

// Places is what is asked of the cluster.
type Places interface {
	// Take takes or keeps the right to run something; it fails where another node has it.
	Take(ctx context.Context, name string) (*cluster.Lease, error)
	// Holder is the node that has it; "" for none.
	Holder(ctx context.Context, name string) (string, error)
}

// Options configure a Placement. All are required.
type Options struct {
	Places Places
	Node   string // this one
	Labels []string
	// Nodes are those that are there, as they were a moment ago.
	Nodes func() []team.Node
	// Moved is told of a server whose process is somewhere else from now on. It must not block.
	Moved func(serverID string)
	Log   *slog.Logger
	Now   func() time.Time // nil for the real time
	// Book is told of what is handed out to other nodes.
	Book *gate.Book
}

// How often it is looked where processes run, how long a node that cannot take its lease again goes
// on (its process has to be gone before another node can have the lease), how long the cluster may
// take to say, and how long calls and processes have to end when they are to be somewhere else.
const (
	lookEvery = 3 * time.Second
	leaseTime = cluster.LeaseTime - 12*time.Second
	askTime   = 3 * time.Second
	callsEnd  = 10 * time.Second
	closeTime = 7 * time.Second
)

// Placement is which processes run at this node, and the ways to those that do not. It is safe for
// concurrent use.
type Placement struct {
	o       Options
	passing *passage.Passages // set before anything is placed
	ctx     context.Context
	cancel  context.CancelFunc
	working sync.WaitGroup
	look    chan struct{} // capacity 1: there is something new to be looked at

	mu      sync.Mutex // guards what follows; nothing is asked or closed under it
	kept    map[string]*Conn
	leaving bool             // nothing is begun for other nodes
	forks   map[fork]*forked // of conversations that other nodes have for one agent each
	room    *gate.Gate       // for those
}

// New returns a Placement that runs nothing yet; Start has it begin.
func New(o Options) *Placement {
	if o.Now == nil {
		o.Now = time.Now
	}
	p := &Placement{
		room: o.Book.Open("conversations for agents of other nodes", gate.Limits{All: maxForks}),
		o:    o,
		kept: map[string]*Conn{}, forks: map[fork]*forked{}, look: make(chan struct{}, 1),
	}
	p.ctx, p.cancel = context.WithCancel(context.Background())
	return p
}

// Start begins to look where processes run, and to take what other nodes ask of those that run here.
func (p *Placement) Start(carrier passage.Carrier, key []byte) (err error) {
	p.passing, err = passage.Start(passage.Options{
		Carrier: carrier, Node: p.o.Node, Key: key, Serve: p.serve,
		Room: p.o.Book.Open("passages of other nodes", gate.Limits{All: maxPassages}),
	})
	if err != nil {
		return err
	}
	p.working.Go(p.run)
	return nil
}

// HandOver begins nothing any more here, and waits until what other nodes asked of the processes here
// has ended, or the context has.
func (p *Placement) HandOver(ctx context.Context) {
	p.mu.Lock()
	p.leaving = true
	all := slices.Collect(maps.Values(p.kept))
	p.mu.Unlock()
	for _, c := range all {
		c.calls.wait(ctx)
	}
}

// Close ends what goes on, and gives back the leases. Processes are ended by those who keep them.
func (p *Placement) Close(ctx context.Context) {
	p.cancel()
	p.working.Wait()
	if p.passing != nil {
		p.passing.Close()
	}
	p.mu.Lock()
	all := slices.Collect(maps.Values(p.kept))
	p.mu.Unlock()
	for _, c := range all {
		c.release(ctx)
	}
}

// Place returns the conversation with a server, wherever its process is to run. One that is no
// process, or runs at every node, is what local is.
func (p *Placement) Place(s team.Server, holder team.Holder, local link.Transport) link.Transport {
	if p == nil || s.Transport != team.Stdio || s.Placement == "" || s.Placement == team.PlacedEverywhere {
		return local
	}
	c := newConn(p, s, holder, local)
	p.mu.Lock()
	before := p.kept[c.name]
	p.kept[c.name] = c
	p.mu.Unlock()
	if before != nil {
		c.inherit(before)
	}
	p.lookNow()
	return c
}

// keep keeps a conversation that is used again.
func (p *Placement) keep(c *Conn) {
	p.mu.Lock()
	have := p.kept[c.name]
	if have == nil {
		p.kept[c.name] = c
	}
	p.mu.Unlock()
	if have == nil {
		p.lookNow()
	}
}

func (p *Placement) lookNow() {
	select {
	case p.look <- struct{}{}:
	default:
	}
}

// run looks again and again where processes run.
func (p *Placement) run() {
	ticker := time.NewTicker(lookEvery)
	defer ticker.Stop()
	for {
		select {
		case <-p.ctx.Done():
			return
		case <-p.look:
		case <-ticker.C:
		}
		p.mu.Lock()
		all := slices.Collect(maps.Values(p.kept))
		p.mu.Unlock()
		for _, c := range all {
			p.working.Go(func() { p.settle(c) }) // a lease that is over waits for no other one
		}
		p.sweep()
	}
}

// settle finds out where the process of a conversation runs, and has it end here when it is to run
// somewhere else.
func (p *Placement) settle(c *Conn) {
	if !c.settling.TryLock() {
		return // what was found out before is still being done
	}
	defer c.settling.Unlock()
	ctx, stop := context.WithTimeout(p.ctx, askTime)
	defer stop()
	if c.left() {
		p.mu.Lock()
		last := p.kept[c.name] == c
		if last {
			delete(p.kept, c.name)
		}
		p.mu.Unlock()
		if last {
			c.release(ctx)
		}
		return
	}
	at := p.whereIs(ctx, c)
	if p.ctx.Err() != nil {
		return
	}
	before, changed := c.put(at)
	// Also one that was started here to see whether it answers.
	if at.node != p.o.Node && (changed || c.local.Diagnostics().PID != 0) {
		end, stop := context.WithTimeout(context.WithoutCancel(p.ctx), closeTime)
		c.closeLocal(end)
		stop()
	}
	if !changed {
		return
	}
	p.o.Log.Info("where the process of a server runs", "server", c.local.Name(), "node", at.node, "before", before)
	p.o.Moved(c.server)
}

// whereIs finds the node at which the process of a conversation is to run; none where that is not
// known.
func (p *Placement) whereIs(ctx context.Context, c *Conn) place {
	if label, ok := team.PlacedAt(c.placement); ok {
		if slices.Contains(p.o.Labels, label) {
			return place{node: p.o.Node}
		}
		return place{node: p.labelled(c.name, label)}
	}
	asked := p.o.Now()
	if !p.draining() {
		lease, err := p.o.Places.Take(ctx, c.name)
		if err == nil {
			return place{p.o.Node, lease, asked.Add(leaseTime)}
		}
		if !errors.Is(err, cluster.ErrTaken) {
			p.o.Log.Debug("it is not known where a process runs", "server", c.local.Name(), "error", err)
			return c.lasting()
		}
	} else if c.lasting().node == p.o.Node {
		p.leave(c)
	}
	holder, err := p.o.Places.Holder(ctx, c.name)
	if err != nil || holder == p.o.Node { // the lease that is here is not this process's
		return c.lasting()
	}
	return place{node: holder}
}

// leave ends the process of a conversation here when the calls that are under way have ended, and
// gives the right to run it to others.
func (p *Placement) leave(c *Conn) {
	c.put(place{})
	calls, stop := context.WithTimeout(p.ctx, callsEnd)
	c.calls.wait(calls)
	stop()
	end, stop := context.WithTimeout(context.WithoutCancel(p.ctx), closeTime+askTime)
	defer stop()
	c.closeLocal(end)
	c.release(end)
}

// draining reports whether this node is to take no new work.
func (p *Placement) draining() bool {
	return slices.ContainsFunc(p.o.Nodes(), func(n team.Node) bool { return n.Here && n.Draining })
}

// labelled is the node with a label that this one asks for a conversation: the same one as long as it
// is there, and not the same for all conversations.
func (p *Placement) labelled(name, label string) (best string) {
	most := uint64(0)
	for _, n := range p.o.Nodes() {
		if n.Here || n.Gone || n.Trouble != "" || n.Draining || !slices.Contains(n.Labels, label) {
			continue
		}
		sum := fnv.New64a()
		_, _ = sum.Write([]byte(name + " " + n.Name)) // a hash takes everything
		if rank := sum.Sum64(); best == "" || rank > most {
			best, most = n.Name, rank
		}
	}
	return best
}

// nameOf is what a conversation is called at all nodes alike. It can be the name of a lease.
func nameOf(serverID string, holder team.Holder) string {
	sum := sha256.Sum256([]byte(holder.Key()))
	return fmt.Sprintf("process.%s.%s", serverID, hex.EncodeToString(sum[:8]))
}

// Runs is the node that the process of a server, by its name, is at; "" for this one, and for what is
// no process that is placed anywhere.
func (p *Placement) Runs(server string) string {
	p.mu.Lock()
	all := slices.Collect(maps.Values(p.kept))
	p.mu.Unlock()
	for _, c := range all {
		if node := c.at(); c.Name() == server && node != p.o.Node && !c.left() {
			return node
		}
	}
	return ""
}

// Fits is a node at which a process runs that is placed so; "" for this one.
func (p *Placement) Fits(placement string) string {
	label, ok := team.PlacedAt(placement)
	if !ok || slices.Contains(p.o.Labels, label) {
		return ""
	}
	return p.labelled("", label)
}
