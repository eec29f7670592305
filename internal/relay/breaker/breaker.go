// Package breaker keeps calls from servers that let them wait in vain: after a few of them
// others are told at once, until one call that is let through as a probe is answered.
package breaker

import (
	"fmt"
	"sync"
	"time"
)

// Limits of the breaker. What fails at once needs none: only calls that kept somebody
// waiting count.
const (
	breakAfter = 5                      // calls in a row that were waited for in vain
	slowly     = 900 * time.Millisecond // how long that is at least
	firstBreak = 15 * time.Second
	lastBreak  = 2 * time.Minute
	maxBroken  = 10_000
)

// Set is what is known of all servers. It is safe for concurrent use; the zero value is
// ready.
type Set struct {
	mu sync.Mutex // guards by
	by map[string]*breaker
}

// breaker is what is known of one server, by its id as its agents have it.
type breaker struct {
	failed  int // in a row
	until   time.Time
	pause   time.Duration
	probing bool
	why     string
}

// Let reports whether a call may go to a server; if not, why says what is the matter. A
// call that is a probe has to be noted, or given back.
func (b *Set) Let(server string, now time.Time) (why string, probe bool) {
	b.mu.Lock()
	defer b.mu.Unlock()
	s := b.by[server]
	if s == nil || s.failed < breakAfter {
		return "", false
	}
	if !s.probing && !now.Before(s.until) {
		s.probing = true
		return "", true
	}
	again := "when the call that tries it now is answered"
	if now.Before(s.until) {
		again = fmt.Sprintf("in %s", s.until.Sub(now).Round(time.Second))
	}
	return fmt.Sprintf("the last %d calls got no answer (%s); calls are let through again %s", s.failed, s.why, again), false
}

// GiveBack ends a probe of which nothing was noted.
func (b *Set) GiveBack(server string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if s := b.by[server]; s != nil {
		s.probing = false
	}
}

// Note takes down what became of a call: answered is set when the server said anything.
func (b *Set) Note(server string, answered bool, took time.Duration, why string, now time.Time) {
	b.mu.Lock()
	defer b.mu.Unlock()
	s := b.by[server]
	switch {
	case answered:
		delete(b.by, server)
		return
	case took < slowly:
		if s != nil {
			s.probing = false
		}
		return
	case s == nil:
		if b.by == nil || len(b.by) >= maxBroken {
			b.by = map[string]*breaker{}
		}
		s = &breaker{pause: firstBreak}
		b.by[server] = s
	}
	s.failed++
	s.why = why
	if s.failed > breakAfter && s.probing {
		s.pause = min(2*s.pause, lastBreak)
	}
	s.probing = false
	s.until = now.Add(s.pause)
}
