// Package throttle slows guessing. A Limiter counts failures under a key (a name,
// an address) and says how long the next try has to wait; it decides nothing
// else and knows nothing of passwords.
package throttle

import (
	"sync"
	"time"
)

// Limiter slows guessing: after a few failures under one key, further tries have
// to wait, longer each time.
type Limiter struct {
	mu   sync.Mutex // guards what follows
	seen map[string]*failures
	now  func() time.Time
}

type failures struct {
	count int
	until time.Time
}

// How many failures are free: for a name, and for an address, behind which a
// whole team may sit.
const (
	FreeByName    = 5
	FreeByAddress = 30
)

const (
	maxWait    = 15 * time.Minute
	maxTracked = 10_000
)

// New returns a Brake; now may be nil for the wall clock.
func New(now func() time.Time) *Limiter {
	if now == nil {
		now = time.Now
	}
	return &Limiter{seen: map[string]*failures{}, now: now}
}

// Wait returns how long the key has to wait before its next try, 0 for not at
// all.
func (b *Limiter) Wait(key string) time.Duration {
	b.mu.Lock()
	defer b.mu.Unlock()
	if f := b.seen[key]; f != nil {
		return max(0, f.until.Sub(b.now()))
	}
	return 0
}

// Fail notes a failure under the key, the first few of which are free.
func (b *Limiter) Fail(key string, free int) {
	b.mu.Lock()
	defer b.mu.Unlock()
	now := b.now()
	f := b.seen[key]
	if f == nil {
		if len(b.seen) >= maxTracked {
			for k, f := range b.seen {
				if now.After(f.until.Add(maxWait)) {
					delete(b.seen, k)
				}
			}
			if len(b.seen) >= maxTracked {
				clear(b.seen)
			}
		}
		f = &failures{}
		b.seen[key] = f
	}
	f.count++
	if over := f.count - free; over >= 0 {
		f.until = now.Add(min(maxWait, time.Second<<min(over, 20)))
	}
}

// Reset forgets the failures of a key.
func (b *Limiter) Reset(key string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	delete(b.seen, key)
}
