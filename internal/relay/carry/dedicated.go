package carry

import (
	"bytes"
	"context"
	"slices"
	"sync"
	"time"

	"bouncer/internal/core/diagnosis"
	"bouncer/internal/core/wire"
	"bouncer/internal/gate"
	"bouncer/internal/link"
	"bouncer/internal/relay/session"
	"bouncer/internal/snapshot"
	"bouncer/internal/upstream"
)

// linkFor chooses the link that carries the job.
func (carrier *Carrier) linkFor(ctx context.Context, j *Call) (link.Link, error) {
	c, k := j.caller, j.target.Server.Connection
	var paired link.Link
	if c.Session != nil && wire.Stateless(j.target.Server.Offer.Revision) {
		if paired = k.Session(ctx, c.Caps); paired == nil {
			return k.Link(c.Caps), nil
		}
	}
	if k.NeedsDedicated(c.Caps, c.Session != nil) {
		n, err := carrier.dedicated.get(ctx, carrier, c, j.target.Server)
		if err != nil {
			return nil, err
		}
		if n != nil {
			j.dedicated, j.injected = n, make(chan message, 16)
			n.add(j)
			select {
			case <-n.ready:
			case <-ctx.Done():
			}
			return n.link, nil
		}
	}
	if paired != nil {
		return paired, nil
	}
	return k.Link(c.Caps), nil
}

// dedicatedLinks are the links that belong to one agent session, or to one agent that
// has none.
type dedicatedLinks struct {
	gate      *gate.Gate
	processes *gate.Gate // of those that are processes

	mu  sync.Mutex // guards the map; never held while a link is opened
	all map[dedicatedKey]*dedicated
}

// Bounds on links of single agents: each may be a session at a server, some are
// processes.
var (
	dedicatedLimits = gate.Limits{Agent: 128, Person: 256, All: 2_000}
	processLimits   = gate.Limits{Agent: 8, Person: 16, All: 128}
)

func (p *dedicatedLinks) open(book *gate.Book) {
	p.gate = book.Open("conversations of single agents", dedicatedLimits)
	p.processes = book.Open("processes of single agents", processLimits)
}

type dedicatedKey struct {
	holder, server string
	caps           wire.Caps
}

type dedicated struct {
	link       link.Transport
	connection *upstream.Connection
	used       time.Time
	give       func()             // gives back what was handed out for it
	stop       context.CancelFunc // ends the listening
	ended      chan struct{}
	ready      chan struct{} // closed when it hears what is said outside of requests

	mu   sync.Mutex // guards what follows
	jobs []*Call    // under way on it, oldest first
}

func (n *dedicated) add(j *Call) {
	n.mu.Lock()
	defer n.mu.Unlock()
	n.jobs = append(n.jobs, j)
}

func (n *dedicated) remove(j *Call) {
	n.mu.Lock()
	defer n.mu.Unlock()
	n.jobs = slices.DeleteFunc(n.jobs, func(x *Call) bool { return x == j })
}

// inject hands a message that names no request to the newest job: all are one
// agent's. It returns false when there is none.
func (n *dedicated) inject(frame []byte, f wire.Frame) bool {
	n.mu.Lock()
	defer n.mu.Unlock()
	if len(n.jobs) == 0 {
		return false
	}
	select {
	case n.jobs[len(n.jobs)-1].injected <- message{frame: bytes.Clone(frame), f: f}:
		return true
	default:
		return false
	}
}

// idleDedicated is how long a link without a session is kept unused.
const idleDedicated = 30 * time.Minute

// tooMany says that an agent gets no conversation of its own any more.
func tooMany(full error) error {
	return &link.Failure{
		Finding: diagnosis.Finding{Cause: diagnosis.TooManyProcesses, Message: full.Error(), Remedy: "end some sessions first"}, Err: full,
	}
}

// hand takes what a link of one agent needs. The error is a *gate.FullError.
func (p *dedicatedLinks) hand(h gate.Holder, process bool) (give func(), err error) {
	if err := p.gate.Take(h, 1); err != nil {
		return nil, err
	}
	if !process {
		return func() { p.gate.Give(h, 1) }, nil
	}
	if err := p.processes.Take(h, 1); err != nil {
		p.gate.Give(h, 1)
		return nil, err
	}
	return func() { p.gate.Give(h, 1); p.processes.Give(h, 1) }, nil
}

// get returns the link of the caller alone; nil where there can be none, and
// the agent shares one.
func (p *dedicatedLinks) get(ctx context.Context, carrier *Carrier, c *Caller, s *snapshot.Server) (*dedicated, error) {
	key := dedicatedKey{"agent " + c.Agent.ID, s.ID, c.Caps}
	if c.Session != nil {
		key.holder = c.Session.Id
	}
	p.mu.Lock()
	n := p.all[key]
	if n != nil && n.connection == s.Connection {
		n.used = time.Now()
		p.mu.Unlock()
		return n, nil
	}
	defer p.mu.Unlock()
	if n != nil {
		delete(p.all, key)
		carrier.Go(func() { n.close(carrier.ctx) })
	}
	give, err := p.hand(c.GateHolder(), s.Connection.StartsProcess())
	if err != nil {
		if s.Connection.MustBeDedicated() {
			return nil, tooMany(err)
		}
		return nil, nil // it goes on with the conversation that others share
	}
	n = &dedicated{give: give, connection: s.Connection, used: time.Now(), ended: make(chan struct{}), ready: make(chan struct{})}
	// Not the caller, with whom a snapshot would be kept for as long as the link is.
	whose := c.Session
	n.link = s.Connection.OpenDedicated(c.Caps, whose != nil, func(frame []byte, f wire.Frame, answer func([]byte)) bool {
		return carrier.onUnsolicited(whose, n, frame, f, answer)
	})
	if n.link == nil {
		give()
		return nil, nil
	}
	lctx, stop := context.WithCancel(carrier.ctx)
	n.stop = stop
	go func() { defer close(n.ended); upstream.Attend(lctx, n.link, sync.OnceFunc(func() { close(n.ready) })) }()
	if p.all == nil {
		p.all = map[dedicatedKey]*dedicated{}
	}
	p.all[key] = n
	return n, nil
}

func (n *dedicated) close(ctx context.Context) {
	ctx, stop := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
	defer stop()
	n.stop()
	n.link.Close(ctx)
	<-n.ended
	n.give()
}

// drop takes the links out that match, for the caller to close.
func (p *dedicatedLinks) drop(match func(dedicatedKey, *dedicated) bool) (out []*dedicated) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for key, n := range p.all {
		if match(key, n) {
			out = append(out, n)
			delete(p.all, key)
		}
	}
	return out
}

// of returns the links of one holder.
func (p *dedicatedLinks) of(holder string) (out []link.Link) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for key, n := range p.all {
		if key.holder == holder {
			out = append(out, n.link)
		}
	}
	return out
}

// overheard takes what a server says on a private link outside of any request.
func (carrier *Carrier) onUnsolicited(s *session.Session, n *dedicated, frame []byte, f wire.Frame, answer func([]byte)) bool {
	if (f.Kind == wire.Request || f.Method == "notifications/message") && n.inject(frame, f) {
		return true
	}
	if f.Kind == wire.Request {
		if s == nil {
			return false
		}
		if need, known := s.Caps.Missing(f.Method, f.Params.Of(frame)); !known || need != nil {
			return false
		}
		frame = bytes.Clone(frame)
		carrier.calls.Go(func() {
			ctx, stop := context.WithTimeout(carrier.unhurried, carrier.o.CallTimeout)
			defer stop()
			reply, err := carrier.ask(ctx, s, n.link, frame, f, s.Outbox.Put)
			if err != nil {
				reply = wire.AppendError(nil, f.ID.Of(frame), wire.CodeInternal, "the client did not answer", nil)
			}
			answer(reply)
		})
		return true
	}
	switch f.Method {
	case "notifications/message":
		if s != nil && wire.Wanted(s.LogLevel(), frame, f) {
			s.Outbox.Put(frame)
		}
	case "notifications/elicitation/complete", "notifications/tasks/status":
		if s != nil {
			s.Outbox.Put(frame)
		}
	default:
		n.connection.Deliver(frame, f)
	}
	return true
}
