package link

import (
	"bytes"
	"context"
	"errors"
	"regexp"
	"strconv"
	"sync"

	"bouncer/internal/core/diagnosis"
	"bouncer/internal/core/wire"
)

// maxQueued is how many messages wait for one exchange; further progress is
// dropped.
const maxQueued = 64

// board distributes what comes in over one stream that all exchanges of a
// conversation share: a process's output, or an event stream of the oldest
// transport.
type board struct {
	*base
	ended chan struct{} // closed when nothing will come any more
	write func(ctx context.Context, body []byte) error
	// gone says why nothing comes any more. It is called after ended.
	gone func(stage string) error
	// late says what to tell when the time is up; nil for the usual.
	late func(stage string) *diagnosis.Evidence

	replies *replies

	mu      sync.Mutex // guards waiting
	waiting map[uint64]*boardExchange
}

// newBoard returns a board that writes with write. Whoever closes ended ends the
// replies too.
func newBoard(b *base, write func(ctx context.Context, body []byte) error) *board {
	return &board{
		base: b, ended: make(chan struct{}), waiting: map[uint64]*boardExchange{}, write: write,
		replies: newReplies(context.Background(), write),
	}
}

// end tells everybody that nothing will come any more. It is called once.
func (b *board) end() {
	b.replies.close()
	close(b.ended)
}

// delivery is a message for an exchange, or why there will be none.
type delivery struct {
	frame []byte
	f     wire.Frame
	what  diagnosis.Cause
}

func (b *board) over() bool {
	select {
	case <-b.ended:
		return true
	default:
		return false
	}
}

// begin sends a request; envelope are the members of _meta that the stateless
// era wants, nil in a session.
func (b *board) begin(ctx context.Context, a *Ask, envelope []byte) (Exchange, error) {
	id := b.id(a)
	x := &boardExchange{b: b, id: id, stage: a.Stage, ctx: ctx, frames: make(chan delivery, maxQueued+1)}
	b.mu.Lock()
	b.waiting[id] = x
	b.mu.Unlock()
	if err := b.write(ctx, a.Append(make([]byte, 0, len(a.Src)+96), id, envelope)); err != nil {
		x.Close()
		var f *Failure
		if errors.As(err, &f) || errors.Is(err, context.Canceled) {
			return nil, err
		}
		return nil, b.gone(a.Stage)
	}
	return x, nil
}

// take distributes one message.
func (b *board) take(frame []byte, f wire.Frame) {
	switch f.Kind {
	case wire.Response:
		if id, err := strconv.ParseUint(string(f.ID.Of(frame)), 10, 64); err == nil {
			b.deliver(id, delivery{frame: bytes.Clone(frame), f: f})
		}
	case wire.Notification:
		if f.Method == "notifications/progress" && !f.Params.Empty() {
			b.progress(frame, f)
			return
		}
		b.tell(frame, f, nil)
	case wire.Request:
		b.tell(frame, f, b.replies.add)
	}
}

func (b *board) progress(frame []byte, f wire.Frame) {
	id, err := strconv.ParseUint(string(wire.Member(frame, f.Params, "progressToken").Of(frame)), 10, 64)
	if err != nil {
		return
	}
	b.mu.Lock()
	x := b.waiting[id]
	b.mu.Unlock()
	if x != nil && len(x.frames) < maxQueued {
		b.deliver(id, delivery{frame: bytes.Clone(frame), f: f})
	}
}

func (b *board) deliver(id uint64, d delivery) {
	b.mu.Lock()
	x := b.waiting[id]
	b.mu.Unlock()
	if x == nil {
		return // given up, or an answer nobody asked for
	}
	select {
	case x.frames <- d:
	default:
		// One place is kept for the answer; a second answer is dropped.
	}
}

var idIn = regexp.MustCompile(`"id"\s*:\s*(\d+)`)

// tooLarge tells the call that a too long message was for, if its beginning
// says.
func (b *board) tooLarge(head []byte) {
	if m := idIn.FindSubmatch(head); m != nil {
		if id, err := strconv.ParseUint(string(m[1]), 10, 64); err == nil {
			b.deliver(id, delivery{what: diagnosis.TooLarge})
		}
	}
}

// boardExchange is one request on its way over a board.
type boardExchange struct {
	b      *board
	id     uint64
	stage  string
	ctx    context.Context
	frames chan delivery // written by the reader of the board; never closed
}

// ID implements Exchange.
func (x *boardExchange) ID() uint64 { return x.id }

// Next implements Exchange.
func (x *boardExchange) Next() ([]byte, wire.Frame, error) {
	select {
	case d := <-x.frames:
		return x.take(d)
	default:
	}
	select {
	case d := <-x.frames:
		return x.take(d)
	case <-x.b.ended:
		select {
		case d := <-x.frames: // it was written before the end
			return x.take(d)
		default:
			return nil, wire.Frame{}, x.b.gone(x.stage)
		}
	case <-x.ctx.Done():
		if errors.Is(context.Cause(x.ctx), context.Canceled) {
			return nil, wire.Frame{}, context.Canceled
		}
		e := diagnosis.Evidence{Stage: x.stage, Err: x.ctx.Err(), Timeout: true}
		if x.b.late != nil {
			if other := x.b.late(x.stage); other != nil {
				e = *other
			}
		}
		return nil, wire.Frame{}, x.b.fail(e, x.ctx.Err())
	}
}

func (x *boardExchange) take(d delivery) ([]byte, wire.Frame, error) {
	if d.what != "" {
		return nil, wire.Frame{}, x.b.fail(diagnosis.Evidence{Stage: x.stage, What: d.what}, nil)
	}
	return d.frame, d.f, nil
}

// Answer implements Exchange.
func (x *boardExchange) Answer(ctx context.Context, body []byte) error { return x.b.write(ctx, body) }

// Close implements Exchange.
func (x *boardExchange) Close() {
	x.b.mu.Lock()
	defer x.b.mu.Unlock()
	delete(x.b.waiting, x.id)
}
