package link

import (
	"context"
	"time"
)

// Limits on the answers to a server's own requests.
const (
	maxReplies = 64               // that wait to be sent; further ones are dropped
	replyTime  = 10 * time.Second // for one of them
)

// replies sends answers to requests that came over a stream, so that whoever
// reads the stream never waits for the server to take them. What cannot be
// delivered is dropped: the server's own time limit ends its wait.
type replies struct {
	queue chan []byte
	stop  context.CancelFunc
	ended chan struct{}
}

// newReplies starts sending; close ends it.
func newReplies(ctx context.Context, send func(context.Context, []byte) error) *replies {
	ctx, stop := context.WithCancel(context.WithoutCancel(ctx))
	r := &replies{queue: make(chan []byte, maxReplies), stop: stop, ended: make(chan struct{})}
	go func() {
		defer close(r.ended)
		for {
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

// add queues an answer. It never waits.
func (r *replies) add(body []byte) {
	select {
	case r.queue <- body:
	default:
	}
}

// close ends the sending at once, with what is under way.
func (r *replies) close() {
	r.stop()
	<-r.ended
}
