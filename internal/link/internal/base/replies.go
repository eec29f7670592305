package base

import (
	"context"
	"time"
)

// Limits on the answers to a server's own requests.
const (
	maxReplies = 64               // that wait to be sent; further ones are dropped
	replyTime  = 10 * time.Second // for one of them
)

// Replies sends answers to requests that came over a stream, so that whoever
// reads the stream never waits for the server to take them. What cannot be
// delivered is dropped: the server's own time limit ends its wait.
type Replies struct {
	queue chan []byte
	stop  context.CancelFunc
	ended chan struct{}
}

// NewReplies starts sending; close ends it.
func NewReplies(ctx context.Context, send func(context.Context, []byte) error) *Replies {
	ctx, stop := context.WithCancel(context.WithoutCancel(ctx))
	r := &Replies{queue: make(chan []byte, maxReplies), stop: stop, ended: make(chan struct{})}
	go func() {
		defer close(r.ended)
		for ctx.Err() == nil {
			select {
			case body := <-r.queue:
				sctx, done := context.WithTimeout(ctx, replyTime)
				_ = send(sctx, body)
				done()
			case <-ctx.Done():
				return
			}
		}
	}()
	return r
}

// Add queues an answer. It never waits.
func (r *Replies) Add(body []byte) {
	select {
	case r.queue <- body:
	default:
	}
}

// Close ends the sending at once, with what is under way.
func (r *Replies) Close() {
	r.stop()
	<-r.ended
}
