// Package passage has nodes of a cluster talk for longer than a question and its answer: a Passage
// carries messages of any size both ways, in order, until one side ends it. Who sends waits until the
// other side takes, so that a slow reader costs its writer time and nobody memory. What is lost on
// the way, or a node that says nothing any more, ends a passage: nothing is sent twice. Messages are
// sealed with a key that the nodes share.
package passage

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"sync"
	"time"

	"bouncer/internal/cluster/envelope"
	"bouncer/internal/gate"
)

// Bounds of passages.
const (
	maxPart  = 512 << 10 // bytes of a message that go at once
	window   = 8         // parts that were sent and not taken yet
	maxBytes = 64 << 20  // of one message
	apart    = 2 * time.Minute
)

// How often a node says to those it has passages with that it is there, and after which silence
// it is taken to be gone.
const (
	beat   = time.Second
	silent = 6 * time.Second
)

// Carrier carries sealed messages between nodes, each sender's in order; some may be lost.
type Carrier interface {
	Send(node string, raw []byte) error
	Receive(fn func(raw []byte)) (stop func(), err error)
	MaxMessage() int
}

// LostError says why a passage ended that neither side wanted to end.
type LostError struct{ Node, Why string }

func (e *LostError) Error() string { return fmt.Sprintf("the node %s %s", e.Node, e.Why) }

// EndedError is what the other side ended a passage with.
type EndedError struct{ Node, Why string }

func (e *EndedError) Error() string { return fmt.Sprintf("the node %s: %s", e.Node, e.Why) }

// ErrEnded is returned when the other side ended a passage, and had nothing to say of it.
var ErrEnded = errors.New("the passage has ended")

// part is what goes between nodes at once.
type part struct {
	From, To string
	Instance string // of the process that sends it
	At       time.Time
	ID       string `json:",omitempty"` // of the passage; empty for a sign of life
	Answer   bool   `json:",omitempty"` // it is from the node that the passage was opened to
	Open     bool   `json:",omitempty"` // it is the first
	Number   int    `json:",omitempty"` // of those with data, by side
	Data     []byte `json:",omitempty"`
	More     bool   `json:",omitempty"` // the message goes on in the next part
	Taken    int    `json:",omitempty"` // how many parts were taken so far
	End      bool   `json:",omitempty"`
	Why      string `json:",omitempty"`
}

// Options configure Passages. All are required.
type Options struct {
	Carrier Carrier
	Node    string // this one
	Key     []byte // 32 bytes, which all nodes have
	// Serve is told of passages that other nodes open, each in a goroutine of its own. The passage
	// ends when it returns.
	Serve func(ctx context.Context, p *Passage)
	// Room is how many passages other nodes may have open here.
	Room *gate.Gate
}

// Passages are those of a node. It is safe for concurrent use.
type Passages struct {
	o        Options
	sealer   *envelope.Sealer
	instance string
	stop     func()
	ctx      context.Context
	cancel   context.CancelFunc
	working  sync.WaitGroup

	mu     sync.Mutex // guards what follows; nothing is sent under it
	closed bool
	open   map[key]*Passage
	known  map[string]life // nodes that there are passages with, or were
	// seen are the ids of passages that were opened here, of late and before that: what is heard
	// again opens nothing.
	seen, before map[string]bool
	turned       time.Time // when seen was begun
}

// key tells passages apart; one that this node opened to itself has two sides.
type key struct {
	id     string
	answer bool // this is the side that it was opened to
}

// life is what was heard of a node last.
type life struct {
	instance string
	at       time.Time
}

// Start has this node open passages and take them.
func Start(o Options) (*Passages, error) {
	sealer, err := envelope.New(o.Key)
	if err != nil {
		return nil, err
	}
	p := &Passages{
		o: o, sealer: sealer, instance: rand.Text(), open: map[key]*Passage{}, known: map[string]life{}, seen: map[string]bool{},
		turned: time.Now(),
	}
	p.ctx, p.cancel = context.WithCancel(context.Background())
	if p.stop, err = o.Carrier.Receive(p.heard); err != nil {
		p.cancel()
		return nil, err
	}
	p.working.Go(p.live)
	return p, nil
}

// Close ends all passages, and waits for those that serve them.
func (p *Passages) Close() {
	p.mu.Lock()
	p.closed = true
	all := make([]*Passage, 0, len(p.open))
	for _, one := range p.open {
		all = append(all, one)
	}
	p.mu.Unlock()
	for _, one := range all {
		one.End("this node is being ended")
	}
	p.cancel()
	p.working.Wait()
	p.stop()
}

// Open opens a passage to a node with a first message. It does not wait for the node to answer.
func (p *Passages) Open(ctx context.Context, node string, first []byte) (*Passage, error) {
	one := newPassage(p, node, rand.Text(), false)
	p.mu.Lock()
	if p.closed {
		p.mu.Unlock()
		return nil, ErrEnded
	}
	p.open[key{one.id, false}] = one
	have := p.known[node]
	p.known[node] = life{have.instance, time.Now()} // it has as long as others to say something
	p.mu.Unlock()
	if err := one.Send(ctx, first); err != nil {
		one.End("")
		return nil, err
	}
	return one, nil
}

// live says to other nodes that this one is there, and ends the passages to those that say nothing.
func (p *Passages) live() {
	ticker := time.NewTicker(beat)
	defer ticker.Stop()
	for {
		select {
		case <-p.ctx.Done():
			return
		case now := <-ticker.C:
			p.look(now)
		}
	}
}

// look does so once.
func (p *Passages) look(now time.Time) {
	with := map[string]bool{}
	var lost []*Passage
	p.mu.Lock()
	for _, one := range p.open {
		with[one.Node] = true
		if now.Sub(p.known[one.Node].at) > silent {
			lost = append(lost, one)
		}
	}
	for node := range p.known {
		if !with[node] && now.Sub(p.known[node].at) > apart {
			delete(p.known, node)
		}
	}
	if now.Sub(p.turned) > apart {
		p.before, p.seen, p.turned = p.seen, map[string]bool{}, now
	}
	p.mu.Unlock()
	for _, one := range lost {
		one.lose("says nothing any more")
	}
	for node := range with {
		_ = p.send(node, part{}) // who cannot be reached says nothing either
	}
}

// send sends a part.
func (p *Passages) send(node string, m part) error {
	m.From, m.To, m.Instance, m.At = p.o.Node, node, p.instance, time.Now().UTC()
	sealed, err := p.sealer.Seal(m, purpose)
	if err != nil {
		return err
	}
	if err := p.o.Carrier.Send(node, sealed); err != nil {
		return fmt.Errorf("send to the node %s: %w", node, err)
	}
	return nil
}

// purpose is what parts are sealed for.
const purpose = "passage"

// partSize is how much of a message goes at once: less than the servers take, also when it cannot
// be packed.
func (p *Passages) partSize() int { return min(maxPart, p.o.Carrier.MaxMessage()/2) }

// heard takes what a node sent. It does not wait.
func (p *Passages) heard(raw []byte) {
	var m part
	now := time.Now()
	if p.sealer.Open(raw, purpose, &m) != nil || m.To != p.o.Node || now.Sub(m.At).Abs() > apart {
		return
	}
	lost := p.note(m, now)
	for _, one := range lost {
		one.lose("was started anew")
	}
	if m.ID == "" {
		return
	}
	side := key{m.ID, !m.Answer}
	p.mu.Lock()
	one := p.open[side]
	opens := one == nil && m.Open && !m.Answer && !p.closed && !p.seen[m.ID] && !p.before[m.ID]
	full := opens && p.o.Room.Take(gate.Holder{}, 1) != nil
	if opens {
		p.seen[m.ID] = true
	}
	if opens && !full {
		one = newPassage(p, m.From, m.ID, true)
		p.open[side] = one
	}
	p.mu.Unlock()
	switch {
	case full:
		_ = p.send(m.From, part{ID: m.ID, Answer: true, End: true, Why: "it works on as much for other nodes as it may"})
	case one == nil && !m.End && m.Taken == 0:
		// The other side does not know yet that there is no such passage.
		_ = p.send(m.From, part{ID: m.ID, Answer: !m.Answer, End: true, Why: "it knows nothing of this passage"})
	case one != nil && one.Node == m.From:
		one.take(m)
	}
	if opens && !full {
		p.working.Go(func() {
			defer one.End("")
			p.o.Serve(one.ctx, one)
		})
	}
}

// note notes that something was heard of a node, and returns the passages with the process that
// it was before.
func (p *Passages) note(m part, now time.Time) (lost []*Passage) {
	p.mu.Lock()
	defer p.mu.Unlock()
	have, ok := p.known[m.From]
	if ok && have.instance != "" && have.instance != m.Instance {
		for _, one := range p.open {
			if one.Node == m.From && (!m.Open || one.id != m.ID) {
				lost = append(lost, one)
			}
		}
	}
	p.known[m.From] = life{m.Instance, now}
	return lost
}

// forget takes a passage out.
func (p *Passages) forget(one *Passage) {
	p.mu.Lock()
	defer p.mu.Unlock()
	side := key{one.id, one.answer}
	if p.open[side] == one {
		delete(p.open, side)
		if one.answer {
			p.o.Room.Give(gate.Holder{}, 1)
		}
	}
}
