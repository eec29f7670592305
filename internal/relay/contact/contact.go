// Package contact remembers how each agent was last seen: what the assistant calls
// itself, which revision it speaks, and how many tools it has fetched. It is what a
// person looks at who has just put Bouncer into an assistant.
package contact

import (
	"encoding/json"
	"sync"
	"time"

	"bouncer/internal/core/team"
)

const (
	maxKept = 10_000 // agents
	maxName = 80     // characters of what an assistant calls itself
)

// Log remembers the last contact of each agent. The zero value is ready; it is safe for
// concurrent use.
type Log struct {
	mu   sync.Mutex // guards kept
	kept map[string]*team.Contact
}

// Met remembers that an assistant introduced itself: with a session, or with a request
// of the stateless era. info is its clientInfo, raw, and may be missing.
func (l *Log) Met(now time.Time, agentID, passID, revision string, info []byte) {
	var who struct{ Name, Version string }
	// What cannot be read is a client without a name; it is only shown.
	_ = json.Unmarshal(info, &who)
	l.mu.Lock()
	defer l.mu.Unlock()
	c := l.of(agentID, now)
	if c == nil {
		return
	}
	c.Client, c.Version, c.Revision = cut(who.Name), cut(who.Version), revision
	c.Last, c.Pass, c.Times = now, passID, c.Times+1
}

// Fetched remembers that an agent has fetched a list of tools; server is the one whose
// address it asked, "" for all.
func (l *Log) Fetched(now time.Time, agentID, server string, tools int, list string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if c := l.of(agentID, now); c != nil {
		c.Tools, c.Server, c.List, c.Fetched, c.Last = tools, server, list, &now, now
	}
}

// of is the contact of an agent; nil when there are too many.
func (l *Log) of(agentID string, now time.Time) *team.Contact {
	if c := l.kept[agentID]; c != nil {
		return c
	}
	if len(l.kept) >= maxKept {
		return nil
	}
	if l.kept == nil {
		l.kept = map[string]*team.Contact{}
	}
	c := &team.Contact{First: now, Last: now}
	l.kept[agentID] = c
	return c
}

// Of returns the last contact of an agent; ok is false when it was not seen since the
// service started.
func (l *Log) Of(agentID string) (c team.Contact, ok bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if have := l.kept[agentID]; have != nil {
		return *have, true
	}
	return c, false
}

func cut(s string) string {
	if r := []rune(s); len(r) > maxName {
		return string(r[:maxName])
	}
	return s
}
