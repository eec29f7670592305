package passage

import (
	"context"
	"sync"
)

// Passage is one conversation with another node. Send may be called by several goroutines, Receive
// by one.
type Passage struct {
	Node string // the other one

	p      *Passages
	id     string
	answer bool // it was opened by the other side
	ctx    context.Context
	cancel context.CancelFunc
	room   chan struct{} // holds one for each part that was sent and not taken
	in     chan part     // room for as many as may be under way
	taken  int           // parts so far; of Receive
	told   int           // of those, how many the other side was told of
	got    int           // the number of the newest part that came; of the goroutine that hears
	freed  int           // how many parts the other side has taken; of the goroutine that hears

	sending chan struct{} // holds one while a message is sent, whose parts belong together
	sent    int           // the number of the newest part; of whoever sends

	mu    sync.Mutex // guards what follows
	ended bool
	why   error // for those who receive or send afterwards
}

func newPassage(p *Passages, node, id string, answer bool) *Passage {
	one := &Passage{Node: node, p: p, id: id, answer: answer, room: make(chan struct{}, window), in: make(chan part, window)}
	one.sending = make(chan struct{}, 1)
	one.ctx, one.cancel = context.WithCancel(p.ctx)
	return one
}

// Done is closed when the passage has ended, from whichever side.
func (c *Passage) Done() <-chan struct{} { return c.ctx.Done() }

// Send sends a message, and waits as long as the other side takes none. The error is ErrEnded, an
// *EndedError, a *LostError, or that of the context.
func (c *Passage) Send(ctx context.Context, raw []byte) error {
	select {
	case c.sending <- struct{}{}:
		defer func() { <-c.sending }()
	case <-c.ctx.Done():
		return c.reason()
	case <-ctx.Done():
		return ctx.Err()
	}
	if len(raw) > maxBytes {
		return &EndedError{c.Node, "a message is too large for other nodes"}
	}
	size := c.p.partSize()
	for first := true; first || len(raw) > 0; first = false {
		select {
		case c.room <- struct{}{}:
		case <-c.ctx.Done():
			return c.reason()
		case <-ctx.Done():
			return ctx.Err()
		}
		if c.ctx.Err() != nil { // also when there was room at the same time
			return c.reason()
		}
		n := min(size, len(raw))
		c.sent++
		m := part{
			ID: c.id, Answer: c.answer, Open: c.sent == 1 && !c.answer, Number: c.sent, Data: raw[:n], More: n < len(raw),
		}
		raw = raw[n:]
		if err := c.p.send(c.Node, m); err != nil {
			c.lose("cannot be reached: " + err.Error())
			return c.reason()
		}
	}
	return nil
}

// Receive returns the next message. What came before the end of the passage is still returned. The
// error is as that of Send.
func (c *Passage) Receive(ctx context.Context) ([]byte, error) {
	var whole []byte
	for {
		m, err := c.next(ctx)
		if err != nil {
			return nil, err
		}
		if c.taken++; c.taken-c.told >= window/2 || !m.More {
			c.told = c.taken
			_ = c.p.send(c.Node, part{ID: c.id, Answer: c.answer, Taken: c.taken}) // a loss shows by itself
		}
		if len(whole)+len(m.Data) > maxBytes {
			c.End("a message is too large")
			return nil, c.reason()
		}
		if whole == nil && !m.More {
			return m.Data, nil
		}
		if whole = append(whole, m.Data...); !m.More {
			return whole, nil
		}
	}
}

// next returns the next part.
func (c *Passage) next(ctx context.Context) (part, error) {
	select {
	case m := <-c.in: // also of a passage that has ended
		return m, nil
	default:
	}
	select {
	case m := <-c.in:
		return m, nil
	case <-c.ctx.Done():
	case <-ctx.Done():
		return part{}, ctx.Err()
	}
	select {
	case m := <-c.in: // it came just before the end
		return m, nil
	default:
		return part{}, c.reason()
	}
}

// End ends the passage, and tells the other side why; "" when there is nothing to be said.
func (c *Passage) End(why string) {
	if c.finish(ErrEnded) {
		_ = c.p.send(c.Node, part{ID: c.id, Answer: c.answer, End: true, Why: why}) // a loss shows by itself
	}
}

// lose ends the passage for a reason that neither side wanted.
func (c *Passage) lose(why string) {
	if c.finish(&LostError{c.Node, why}) {
		_ = c.p.send(c.Node, part{ID: c.id, Answer: c.answer, End: true, Why: "it lost this passage"}) // if it can still be told
	}
}

// finish ends the passage here; false when it had ended already.
func (c *Passage) finish(why error) bool {
	c.mu.Lock()
	already := c.ended
	if !already {
		c.ended, c.why = true, why
	}
	c.mu.Unlock()
	if !already {
		c.p.forget(c)
		c.cancel()
	}
	return !already
}

func (c *Passage) reason() error {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.why == nil {
		return ErrEnded
	}
	return c.why
}

// take takes what the other side sent. It does not wait.
func (c *Passage) take(m part) {
	for ; c.freed < m.Taken && len(c.room) > 0; c.freed++ {
		<-c.room // nobody else takes out of it
	}
	if m.Number > c.got {
		if m.Number > c.got+1 {
			c.lose("was not heard in between")
			return
		}
		c.got = m.Number
		select {
		case c.in <- m:
		default:
			c.lose("sent more than was asked for")
			return
		}
	}
	if !m.End {
		return
	}
	why := ErrEnded
	if m.Why != "" {
		why = &EndedError{c.Node, m.Why}
	}
	c.finish(why)
}
