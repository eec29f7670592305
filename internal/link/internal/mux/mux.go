// Package mux carries many exchanges over one stream of messages: ids out, replies
// and questions of the server in, each to the exchange that it belongs to.
package mux

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"regexp"
	"strconv"
	"sync"

	"bouncer/internal/core/diagnosis"
	"bouncer/internal/core/wire"
	"bouncer/internal/link"
	"bouncer/internal/link/internal/base"
)

// maxQueued is how many messages wait for one exchange; further progress is
// dropped.
const maxQueued = 64

// Mux distributes what comes in over one stream that all exchanges of a
// conversation share: a process's output, or an event stream of the oldest
// transport.
type Mux struct {
	*base.Base
	Ended chan struct{} // closed when nothing will come any more
	Write func(ctx context.Context, body []byte) error
	// Gone says why nothing comes any more. It is called after ended.
	Gone func(stage string) error
	// Late says what to tell when the time is up; nil for the usual.
	Late func(stage string) *diagnosis.Evidence

	replies *base.Replies

	mu      sync.Mutex // guards waiting
	waiting map[uint64]*exchange
}

// New returns a board that writes with write. Whoever closes ended ends the
// replies too.
func New(b *base.Base, write func(ctx context.Context, body []byte) error) *Mux {
	return &Mux{
		Base: b, Ended: make(chan struct{}), waiting: map[uint64]*exchange{}, Write: write,
		replies: base.NewReplies(context.Background(), write),
	}
}

// End tells everybody that nothing will come any more. It is called once.
func (b *Mux) End() {
	b.replies.Close()
	close(b.Ended)
}

// delivered is a message for an exchange, or why there will be none.
type delivered struct {
	frame []byte
	f     wire.Frame
	what  diagnosis.Cause
	note  string
}

// Waiting is how many requests wait for their answer.
func (b *Mux) Waiting() int {
	b.mu.Lock()
	defer b.mu.Unlock()
	return len(b.waiting)
}

func (b *Mux) Over() bool {
	select {
	case <-b.Ended:
		return true
	default:
		return false
	}
}

// Begin sends a request; envelope are the members of _meta that the stateless
// era wants, nil in a session.
func (b *Mux) Begin(ctx context.Context, a *link.Ask, envelope []byte) (link.Exchange, error) {
	id := b.RequestID(a)
	x := &exchange{mux: b, id: id, stage: a.Stage, ctx: ctx, frames: make(chan delivered, maxQueued+1)}
	b.mu.Lock()
	b.waiting[id] = x
	b.mu.Unlock()
	if err := b.Write(ctx, a.Append(make([]byte, 0, len(a.Src)+96), id, envelope)); err != nil {
		x.Close()
		var f *link.Failure
		if errors.As(err, &f) || errors.Is(err, context.Canceled) {
			return nil, err
		}
		return nil, b.Gone(a.Stage)
	}
	return x, nil
}

// Take distributes one message.
func (b *Mux) Take(frame []byte, f wire.Frame) {
	b.Heard(link.Received, frame)
	switch f.Kind {
	case wire.Response:
		if id, err := strconv.ParseUint(string(f.ID.Of(frame)), 10, 64); err == nil {
			b.deliver(id, delivered{frame: bytes.Clone(frame), f: f})
		}
	case wire.Notification:
		if f.Method == "notifications/progress" && !f.Params.Empty() {
			b.progress(frame, f)
			return
		}
		b.Tell(frame, f, nil)
	case wire.Request:
		b.Tell(frame, f, b.replies.Add)
	}
}

func (b *Mux) progress(frame []byte, f wire.Frame) {
	id, err := strconv.ParseUint(string(wire.Member(frame, f.Params, "progressToken").Of(frame)), 10, 64)
	if err != nil {
		return
	}
	b.mu.Lock()
	x := b.waiting[id]
	b.mu.Unlock()
	if x != nil && len(x.frames) < maxQueued {
		b.deliver(id, delivered{frame: bytes.Clone(frame), f: f})
	}
}

func (b *Mux) deliver(id uint64, d delivered) {
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

// Where the id stands in a message whose middle was passed over: before the result, or
// as one of the last members after it.
var (
	idBefore = regexp.MustCompile(`^\s*{\s*(?:"jsonrpc"\s*:\s*"[^"]*"\s*,\s*)?"id"\s*:\s*(\d+)`)
	idAfter  = regexp.MustCompile(`[,{]\s*"id"\s*:\s*(\d+)\s*(?:,\s*"jsonrpc"\s*:\s*"[^"]*"\s*)?}\s*$`)
)

// TooLarge tells the call that a too long message was for, by how the message begins
// and ends. Where neither tells, and only one call waits, it is that one.
func (b *Mux) TooLarge(head, tail []byte, limit int) {
	failed := delivered{what: diagnosis.TooLarge, note: fmt.Sprintf("the limit is %d bytes", limit)}
	for _, m := range [][][]byte{idBefore.FindSubmatch(head), idAfter.FindSubmatch(tail)} {
		if m == nil {
			continue
		}
		if id, err := strconv.ParseUint(string(m[1]), 10, 64); err == nil {
			b.deliver(id, failed)
			return
		}
	}
	b.mu.Lock()
	var only uint64
	for id := range b.waiting {
		only = id
	}
	alone := len(b.waiting) == 1
	b.mu.Unlock()
	if alone {
		b.deliver(only, failed)
	}
}

// exchange is one request on its way over a board.
type exchange struct {
	mux    *Mux
	id     uint64
	stage  string
	ctx    context.Context
	frames chan delivered // written by the reader of the board; never closed
}

// ID implements Exchange.
func (x *exchange) ID() uint64 { return x.id }

// Next implements Exchange.
func (x *exchange) Next() ([]byte, wire.Frame, error) {
	select {
	case d := <-x.frames:
		return x.take(d)
	default:
	}
	select {
	case d := <-x.frames:
		return x.take(d)
	case <-x.mux.Ended:
		select {
		case d := <-x.frames: // it was written before the end
			return x.take(d)
		default:
			return nil, wire.Frame{}, x.mux.Gone(x.stage)
		}
	case <-x.ctx.Done():
		if errors.Is(context.Cause(x.ctx), context.Canceled) {
			return nil, wire.Frame{}, context.Canceled
		}
		e := diagnosis.Evidence{Stage: x.stage, Err: x.ctx.Err(), Timeout: true}
		if x.mux.Late != nil {
			if other := x.mux.Late(x.stage); other != nil {
				e = *other
			}
		}
		return nil, wire.Frame{}, x.mux.Fail(e, x.ctx.Err())
	}
}

func (x *exchange) take(d delivered) ([]byte, wire.Frame, error) {
	if d.what != "" {
		return nil, wire.Frame{}, x.mux.Fail(diagnosis.Evidence{Stage: x.stage, What: d.what, Note: d.note}, nil)
	}
	return d.frame, d.f, nil
}

// Answer implements Exchange.
func (x *exchange) Answer(ctx context.Context, body []byte) error { return x.mux.Write(ctx, body) }

// Close implements Exchange.
func (x *exchange) Close() {
	x.mux.mu.Lock()
	defer x.mux.mu.Unlock()
	delete(x.mux.waiting, x.id)
}
