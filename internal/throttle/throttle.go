// Package throttle slows guessing. A try is counted before it is made, under each of
// its keys (a name, an address), so that many at once are no way around the limit;
// what has to wait is told for how long. The package decides nothing else and knows
// nothing of passwords. Keys are kept as hashes, and only so many of them.
package throttle

import (
	"cmp"
	"crypto/sha256"
	"slices"
	"sync"
	"time"
)

// Key is what tries are counted under, with how many are free and how long the wait
// becomes at most.
type Key struct {
	Name    string
	Free    int
	Longest time.Duration
}

// The kinds of keys. A name from one address is held hardest; a name from anywhere
// softly, so that strangers cannot lock somebody out; an address has a whole team
// behind it, perhaps.
func pair(name, from string) Key {
	return Key{"pair\x00" + name + "\x00" + from, 5, 15 * time.Minute}
}

// SignIn are the keys that a try at a password counts under.
func SignIn(name, from string) []Key {
	return []Key{pair(name, from), {"name\x00" + name, 20, time.Minute}, From("sign-in", from)}
}

// From is the key of tries at something from an address.
func From(what, from string) Key { return Key{what + "\x00" + from, 30, 15 * time.Minute} }

// Often is the key of requests from an address that cost something, and of which a
// number is fine.
func Often(what, from string, free int) Key { return Key{what + "\x00" + from, free, 5 * time.Minute} }

// Outcome is what became of a try.
type Outcome int

// The outcomes.
const (
	Failed    Outcome = iota // it counts
	Passed                   // the failures of all its keys are forgotten
	Abandoned                // it was not made: nothing is known
)

// decay is the time in which half of the failures are forgotten.
const decay = time.Hour

// maxTracked bounds the keys that are kept.
const maxTracked = 10_000

// Limiter counts tries. It is safe for concurrent use; New makes one.
type Limiter struct {
	now func() time.Time

	mu   sync.Mutex // guards seen
	seen map[[16]byte]*record
}

type record struct {
	failures int
	under    int // tries under way
	last     time.Time
	until    time.Time
}

// New returns a Limiter; now may be nil for the wall clock.
func New(now func() time.Time) *Limiter {
	if now == nil {
		now = time.Now
	}
	return &Limiter{seen: map[[16]byte]*record{}, now: now}
}

func hash(name string) (key [16]byte) {
	sum := sha256.Sum256([]byte(name))
	copy(key[:], sum[:])
	return key
}

// Begin counts a try under every key. When it may not be made now, wait says for how
// long, and end is nil; else end has to be called once with what became of it.
func (l *Limiter) Begin(keys ...Key) (end func(Outcome), wait time.Duration) {
	l.mu.Lock()
	defer l.mu.Unlock()
	now := l.now()
	for _, key := range keys {
		if r := l.seen[hash(key.Name)]; r != nil {
			wait = max(wait, r.wait(now, key.Free))
		}
	}
	if wait > 0 {
		return nil, wait
	}
	hashes := make([][16]byte, len(keys))
	for i, key := range keys {
		hashes[i] = hash(key.Name)
		r := l.seen[hashes[i]]
		if r == nil {
			l.makeRoom(now)
			r = &record{}
			l.seen[hashes[i]] = r
		}
		r.under++
	}
	var once sync.Once
	return func(o Outcome) { once.Do(func() { l.end(keys, hashes, o) }) }, 0
}

// Spend counts something that always counts, such as a request that costs something.
// It returns how long the next has to wait; 0 when this one may go on.
func (l *Limiter) Spend(key Key) time.Duration {
	end, wait := l.Begin(key)
	if wait == 0 {
		end(Failed)
	}
	return wait
}

// wait is how long a further try has to wait.
func (r *record) wait(now time.Time, free int) time.Duration {
	r.forget(now)
	if left := r.until.Sub(now); left > 0 {
		return left
	}
	// Beyond what is free, one at a time: whatever is under way may fail.
	if r.under > 0 && r.failures+r.under >= free {
		return time.Second
	}
	return 0
}

// forget lets failures grow old.
func (r *record) forget(now time.Time) {
	for r.failures > 0 && now.Sub(r.last) >= decay {
		r.failures, r.last = r.failures/2, r.last.Add(decay)
	}
}

func (l *Limiter) end(keys []Key, hashes [][16]byte, o Outcome) {
	l.mu.Lock()
	defer l.mu.Unlock()
	now := l.now()
	for i, key := range keys {
		r := l.seen[hashes[i]]
		r.under--
		switch o {
		case Passed:
			r.failures, r.until = 0, time.Time{}
		case Failed:
			r.forget(now)
			r.failures, r.last = r.failures+1, now
			if over := r.failures - key.Free; over >= 0 {
				r.until = now.Add(min(key.Longest, time.Second<<min(over, 20)))
			}
		}
		if r.failures == 0 && r.under == 0 {
			delete(l.seen, hashes[i])
		}
	}
}

// makeRoom keeps the number of records bounded: those go that hold the least back.
// What is under way stays.
func (l *Limiter) makeRoom(now time.Time) {
	if len(l.seen) < maxTracked {
		return
	}
	type old struct {
		key [16]byte
		*record
	}
	var all []old
	for key, r := range l.seen {
		if r.forget(now); r.under == 0 {
			all = append(all, old{key, r})
		}
	}
	slices.SortFunc(all, func(a, b old) int {
		return cmp.Or(cmp.Compare(a.failures, b.failures), a.last.Compare(b.last))
	})
	for _, o := range all[:min(len(all), maxTracked/8)] {
		delete(l.seen, o.key)
	}
}

// Tracked is the number of keys that are kept.
func (l *Limiter) Tracked() int {
	l.mu.Lock()
	defer l.mu.Unlock()
	return len(l.seen)
}
