package relay

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"sync"
	"sync/atomic"
	"time"
)

// Session is one agent's conversation at the door (initialize era). It belongs
// to the pass that opened it and answers to no other.
type Session struct {
	id       string
	agentID  string
	passID   string
	scope    string // server name for /mcp/{server}, "" for /mcp
	revision string
	used     atomic.Int64 // last request, milliseconds since 1970

	mu      sync.Mutex
	calls   map[string]context.CancelCauseFunc // in flight, by raw request id
	shown   string                             // digest of the tool list last told of
	stream  chan struct{}                      // closed to end the open GET stream; nil when none
	changed chan struct{}                      // capacity 1: the tool list changed
	ended   bool
}

// Limits on sessions.
const (
	maxSessions      = 50_000
	maxAgentSessions = 10_000
	maxSessionCalls  = 256
	idleSession      = 12 * time.Hour
	sweepEvery       = 5 * time.Minute
)

// sessions is the set of open sessions.
type sessions struct {
	mu     sync.RWMutex
	byID   map[string]*Session
	counts map[string]int // by agent id
}

func newSessions() *sessions {
	return &sessions{byID: map[string]*Session{}, counts: map[string]int{}}
}

// open adds a session; nil when there are too many.
func (s *sessions) open(p *Pass, scope, revision, shown string, now time.Time) *Session {
	var b [16]byte
	// crypto/rand.Read never fails: it ends the program instead.
	_, _ = rand.Read(b[:])
	n := &Session{id: hex.EncodeToString(b[:]), agentID: p.AgentID, passID: p.ID, scope: scope, revision: revision, shown: shown, changed: make(chan struct{}, 1)}
	n.used.Store(now.UnixMilli())
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.byID) >= maxSessions || s.counts[p.AgentID] >= maxAgentSessions {
		return nil
	}
	s.byID[n.id] = n
	s.counts[p.AgentID]++
	return n
}

func (s *sessions) get(id string) *Session {
	s.mu.RLock()
	defer s.mu.RUnlock()
	return s.byID[id]
}

// end removes a session, ends its stream and cancels its calls.
func (s *sessions) end(n *Session, why error) {
	s.mu.Lock()
	if _, ok := s.byID[n.id]; ok {
		delete(s.byID, n.id)
		if s.counts[n.agentID]--; s.counts[n.agentID] <= 0 {
			delete(s.counts, n.agentID)
		}
	}
	s.mu.Unlock()
	n.mu.Lock()
	defer n.mu.Unlock()
	n.ended = true
	if n.stream != nil {
		close(n.stream)
		n.stream = nil
	}
	for _, cancel := range n.calls {
		cancel(why)
	}
}

func (s *sessions) each(fn func(*Session)) {
	s.mu.RLock()
	all := make([]*Session, 0, len(s.byID))
	for _, n := range s.byID {
		all = append(all, n)
	}
	s.mu.RUnlock()
	for _, n := range all {
		fn(n)
	}
}

func (s *sessions) len() int {
	s.mu.RLock()
	defer s.mu.RUnlock()
	return len(s.byID)
}

// begin notes a call in flight. It fails when the id is in use or there are too
// many calls.
func (n *Session) begin(id string, cancel context.CancelCauseFunc) bool {
	n.mu.Lock()
	defer n.mu.Unlock()
	if _, twice := n.calls[id]; twice || n.ended || len(n.calls) >= maxSessionCalls {
		return false
	}
	if n.calls == nil {
		n.calls = make(map[string]context.CancelCauseFunc, 4)
	}
	n.calls[id] = cancel
	return true
}

func (n *Session) finish(id string) {
	n.mu.Lock()
	defer n.mu.Unlock()
	delete(n.calls, id)
}

// cancel ends the call with the raw request id.
func (n *Session) cancel(id string, why error) {
	n.mu.Lock()
	cancel := n.calls[id]
	n.mu.Unlock()
	if cancel != nil {
		cancel(why)
	}
}

// attach opens the one GET stream of the session; false when there is one.
func (n *Session) attach() (ended <-chan struct{}, ok bool) {
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.stream != nil || n.ended {
		return nil, false
	}
	n.stream = make(chan struct{})
	return n.stream, true
}

func (n *Session) detach(ended <-chan struct{}) {
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.stream == ended {
		n.stream = nil
	}
}

// told notes the digest of the tool list; it reports whether it is a new one.
func (n *Session) told(digest string) bool {
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.shown == digest {
		return false
	}
	n.shown = digest
	return true
}

func (n *Session) busy() bool {
	n.mu.Lock()
	defer n.mu.Unlock()
	return n.stream != nil || len(n.calls) > 0
}
