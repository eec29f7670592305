// Package latest has a node find out what the others have written by now, before it answers
// somebody by what it knows itself: who was given a pass at one node and shows it at another one
// is no stranger there. Those who come while it looks share the next look, so that strangers,
// however many, cost the cluster no more than one question at a time.
package latest

import (
	"context"
	"net/http"
	"strings"
	"sync"
	"sync/atomic"
	"time"
)

// How long a look may take, how long none is taken after one that failed, and how many wait for
// one at the same time.
const (
	lookTime = 500 * time.Millisecond
	restTime = time.Second
	maxWait  = 1000
)

// Latest looks what there is by now. It is safe for concurrent use.
type Latest struct {
	look    func(context.Context) error
	waiting atomic.Int64
	rest    atomic.Int64  // until when none is taken, in nanoseconds since 1970
	asked   chan struct{} // capacity 1

	mu   sync.Mutex // guards next
	next *round     // the look that has not begun
}

// round is one look. known is set before done is closed.
type round struct {
	done  chan struct{}
	known bool
}

// New returns a Latest. look puts in force here all that the cluster has when it is called; it is
// given half a second.
func New(look func(context.Context) error) *Latest {
	return &Latest{look: look, asked: make(chan struct{}, 1), next: &round{done: make(chan struct{})}}
}

// Run looks whenever somebody asks for it, until the context ends.
func (l *Latest) Run(ctx context.Context) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-l.asked:
		}
		l.mu.Lock()
		mine := l.next
		l.next = &round{done: make(chan struct{})}
		l.mu.Unlock()
		within, stop := context.WithTimeout(ctx, lookTime)
		err := l.look(within)
		stop()
		if mine.known = err == nil; !mine.known {
			l.rest.Store(time.Now().Add(restTime).UnixNano())
		}
		close(mine.done)
	}
}

// Known returns true when all is in force here that the cluster had when it was called, and false
// when that could not be found out soon, or too many wait for it.
func (l *Latest) Known(ctx context.Context) bool {
	defer l.waiting.Add(-1)
	if l.waiting.Add(1) > maxWait || time.Now().UnixNano() < l.rest.Load() {
		return false
	}
	l.mu.Lock()
	mine := l.next
	l.mu.Unlock()
	select {
	case l.asked <- struct{}{}:
	default:
	}
	late := time.NewTimer(2 * lookTime) // one look may be under way
	defer late.Stop()
	select {
	case <-mine.done:
		return mine.known
	case <-late.C:
		return false
	case <-ctx.Done():
		return false
	}
}

// For answers what people and programs ask with what the cluster has by then: they may have
// altered at another node what they ask for.
func (l *Latest) For(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if knows(r.URL.Path) {
			l.Known(r.Context()) // what is known here is better than no answer
		}
		next.ServeHTTP(w, r)
	})
}

// knows reports whether an answer at a path depends on what the nodes have in common.
func knows(path string) bool {
	for _, of := range [...]string{"/api/", "/oauth/", "/sign-in/"} {
		if strings.HasPrefix(path, of) {
			return true
		}
	}
	return false
}
