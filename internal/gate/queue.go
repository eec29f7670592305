package gate

import (
	"context"
	"slices"
	"sync"
)

// Queue lets some work go on at a time. Those who wait are taken in turn by key, so
// that whoever comes in numbers waits for themselves. It is safe for concurrent use;
// NewQueue makes one.
type Queue struct {
	what         string
	slots        int
	ofKey, inAll int
	mu           sync.Mutex // guards what follows
	busy         int
	turns        []string // keys with somebody waiting, whose turn is next first
	waiting      map[string][]chan struct{}
	waitingTotal int
}

// NewQueue returns a queue with that many slots, in which so many of one key, and in
// all, may wait. what is the work, in the plural.
func NewQueue(what string, slots, ofKey, inAll int) *Queue {
	return &Queue{what: what, slots: slots, ofKey: ofKey, inAll: inAll, waiting: map[string][]chan struct{}{}}
}

// Enter waits for a slot; leave gives it back. Errors are *FullError and those of
// the context.
func (q *Queue) Enter(ctx context.Context, key string) (leave func(), err error) {
	q.mu.Lock()
	if q.busy < q.slots {
		q.busy++
		q.mu.Unlock()
		return sync.OnceFunc(q.next), nil
	}
	switch {
	case len(q.waiting[key]) >= q.ofKey:
		q.mu.Unlock()
		return nil, &FullError{q.what, ScopePerson, int64(q.ofKey)}
	case q.waitingTotal >= q.inAll:
		q.mu.Unlock()
		return nil, &FullError{q.what, ScopeAll, int64(q.inAll)}
	}
	mine := make(chan struct{})
	if len(q.waiting[key]) == 0 {
		q.turns = append(q.turns, key)
	}
	q.waiting[key] = append(q.waiting[key], mine)
	q.waitingTotal++
	q.mu.Unlock()
	select {
	case <-mine:
		return sync.OnceFunc(q.next), nil
	case <-ctx.Done():
		if !q.withdraw(key, mine) {
			q.next() // it was given the slot at the same moment
		}
		return nil, ctx.Err()
	}
}

// withdraw takes somebody out who waits; false when their turn has come.
func (q *Queue) withdraw(key string, mine chan struct{}) bool {
	q.mu.Lock()
	defer q.mu.Unlock()
	at := slices.Index(q.waiting[key], mine)
	if at < 0 {
		return false
	}
	q.remove(key, at)
	if len(q.waiting[key]) == 0 {
		q.turns = slices.DeleteFunc(q.turns, func(k string) bool { return k == key })
	}
	return true
}

// remove takes one who waits out of the list of a key; the caller holds the lock.
func (q *Queue) remove(key string, at int) {
	q.waitingTotal--
	if q.waiting[key] = slices.Delete(q.waiting[key], at, at+1); len(q.waiting[key]) == 0 {
		delete(q.waiting, key)
	}
}

// next gives the slot of somebody who leaves to whoever's turn it is.
func (q *Queue) next() {
	q.mu.Lock()
	defer q.mu.Unlock()
	if len(q.turns) == 0 {
		q.busy--
		return
	}
	key := q.turns[0]
	q.turns = q.turns[1:]
	first := q.waiting[key][0]
	q.remove(key, 0)
	if len(q.waiting[key]) > 0 {
		q.turns = append(q.turns, key)
	}
	close(first)
}
