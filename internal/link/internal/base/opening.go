package base

import (
	"context"
	"sync"
	"time"
)

// Opening shares one attempt at something slow among all who need it at the same
// time, with its outcome: whoever waits for a failing attempt gets its failure
// and does not repeat it. The attempt belongs to nobody in particular, so that a
// caller who leaves does not end it for the others. The zero value is ready.
type Opening[T any] struct {
	mu      sync.Mutex // guards the two below; never held while waiting
	current *attempt[T]
	cancel  context.CancelFunc
}

type attempt[T any] struct {
	done  chan struct{}
	value T
	err   error
}

// Do returns the outcome of the attempt under way, or of a new one that may take
// as long as limit.
func (o *Opening[T]) Do(ctx context.Context, limit time.Duration, open func(context.Context) (T, error)) (T, error) {
	o.mu.Lock()
	a := o.current
	if a == nil {
		a = &attempt[T]{done: make(chan struct{})}
		// What the caller is measured by comes along, its end does not.
		octx, cancel := context.WithTimeout(context.WithoutCancel(ctx), limit)
		o.current, o.cancel = a, cancel
		go func() {
			defer cancel()
			a.value, a.err = open(octx)
			o.mu.Lock()
			o.current, o.cancel = nil, nil
			o.mu.Unlock()
			close(a.done)
		}()
	}
	o.mu.Unlock()
	select {
	case <-a.done:
		return a.value, a.err
	case <-ctx.Done():
		var none T
		return none, ctx.Err()
	}
}

// Close ends the attempt under way and waits for it.
func (o *Opening[T]) Close() {
	o.mu.Lock()
	a := o.current
	if o.cancel != nil {
		o.cancel()
	}
	o.mu.Unlock()
	if a != nil {
		<-a.done
	}
}
