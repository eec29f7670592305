package budget

import (
	"time"

	"bouncer/internal/core/budget"
)

// Share is what calls at one node of a cluster used of a budget, by whom it counts for.
type Share struct {
	Budget, Whose string // ids
	Began         time.Time
	Calls, Bytes  int64
	AtOnce        int
}

// share is what another node used, as it told last.
type share struct {
	Share
	heard time.Time
}

// Bounds of what is told, and how long calls at a node that says nothing are taken to be under way.
const (
	maxShares = 2000
	goneAfter = 10 * time.Second
)

// Shares are what calls here used: what was altered since they were asked for last, or all of it.
func (m *Meter) Shares(all bool) (out []Share) {
	m.mu.Lock()
	defer m.mu.Unlock()
	for k, c := range m.used {
		if len(out) == maxShares {
			break // the others come the next time
		}
		if (all || c.untold) && (c.calls > 0 || c.bytes > 0 || c.atOnce > 0 || c.untold) {
			out = append(out, Share{Budget: k.budget, Whose: k.whose, Began: c.began, Calls: c.calls, Bytes: c.bytes, AtOnce: c.atOnce})
			c.untold = false
		}
	}
	return out
}

// Elsewhere notes what calls at another node used.
func (m *Meter) Elsewhere(node string, list []Share) {
	now := m.now()
	m.mu.Lock()
	defer m.mu.Unlock()
	for _, s := range list[:min(len(list), maxShares)] {
		k := key{s.Budget, s.Whose}
		c := m.used[k]
		if c == nil {
			c = &count{began: s.Began}
			m.used[k] = c
		}
		if c.elsewhere == nil {
			c.elsewhere = map[string]share{}
		}
		c.elsewhere[node] = share{s, now}
	}
}

// total is what is used at all nodes in the window of a count; the caller holds the lock.
func (c *count) total(b *budget.Budget, now time.Time) (calls, bytes int64, atOnce int) {
	calls, bytes, atOnce = c.calls, c.bytes, c.atOnce
	for _, s := range c.elsewhere {
		if b.Window == "" || s.Began.Equal(c.began) {
			calls, bytes = calls+s.Calls, bytes+s.Bytes
		}
		if now.Sub(s.heard) < goneAfter {
			atOnce += s.AtOnce
		}
	}
	return calls, bytes, atOnce
}
