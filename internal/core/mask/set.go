package mask

import (
	"strings"
	"sync"
	"sync/atomic"
)

// maxValues bounds how many values are masked by value.
const maxValues = 10_000

// Set is the values to be masked, which grow while the service runs: those in
// force, and those that were, which servers and agents may still repeat. It is
// safe for concurrent use.
type Set struct {
	masker atomic.Pointer[Masker]

	mu    sync.Mutex // guards what follows
	known map[string]bool
	older map[string]bool // those learnt before the last time there were too many
}

// NewSet returns a Set that knows nothing yet.
func NewSet() *Set {
	s := &Set{known: map[string]bool{}}
	s.masker.Store(New(nil))
	return s
}

// Masker returns the masker for everything learnt so far.
func (s *Set) Masker() *Masker { return s.masker.Load() }

// Learn has values masked from now on; the lines of a private key each for
// themselves too.
func (s *Set) Learn(values ...string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	fresh := false
	for _, v := range values {
		fresh = s.add(v) || fresh
		if !strings.Contains(v, "PRIVATE KEY-----") {
			continue
		}
		for line := range strings.Lines(v) {
			if line = strings.TrimSpace(line); len(line) > 20 && !strings.HasPrefix(line, "-----") {
				fresh = s.add(line) || fresh
			}
		}
	}
	if !fresh {
		return
	}
	all := make([]string, 0, len(s.known)+len(s.older))
	for _, list := range []map[string]bool{s.known, s.older} {
		for v := range list {
			all = append(all, v)
		}
	}
	s.masker.Store(New(all))
}

// add reports whether a value was not known; the caller holds the lock.
func (s *Set) add(v string) bool {
	if v == "" || s.known[v] {
		return false
	}
	fresh := !s.older[v]
	if len(s.known) >= maxValues/2 {
		// What is in force is learnt again and again, so it stays.
		s.known, s.older = map[string]bool{}, s.known
	}
	s.known[v] = true
	return fresh
}
