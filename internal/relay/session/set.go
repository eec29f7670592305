package session

import (
	"crypto/rand"
	"encoding/hex"
	"sync"
	"time"

	"bouncer/internal/snapshot"
)

// Set is the set of open sessions.
type Set struct {
	mu     sync.RWMutex // guards what follows
	byID   map[string]*Session
	counts map[string]int // by agent id
	onEnd  func(*Session) // called once for a session that was ended
}

func NewSet(left func(*Session)) *Set {
	return &Set{byID: map[string]*Session{}, counts: map[string]int{}, onEnd: left}
}

// Open adds a session; false when there are too many.
func (s *Set) Open(n *Session, p *snapshot.Pass, now time.Time) bool {
	n.Id, n.AgentID, n.PassID = NewID(), p.AgentID, p.ID
	n.Used.Store(now.UnixMilli())
	n.Outbox.Wake = make(chan struct{}, 1)
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.byID) >= maxSessions || s.counts[p.AgentID] >= maxAgentSessions {
		return false
	}
	s.byID[n.Id] = n
	s.counts[p.AgentID]++
	return true
}

func NewID() string {
	var b [16]byte
	// crypto/rand.Read never fails: it ends the program instead.
	_, _ = rand.Read(b[:])
	return hex.EncodeToString(b[:])
}

func (s *Set) Get(id string) *Session {
	s.mu.RLock()
	defer s.mu.RUnlock()
	return s.byID[id]
}

// End removes a session, ends its stream and cancels its calls.
func (s *Set) End(n *Session, why error) {
	s.mu.Lock()
	if _, ok := s.byID[n.Id]; ok {
		delete(s.byID, n.Id)
		if s.counts[n.AgentID]--; s.counts[n.AgentID] <= 0 {
			delete(s.counts, n.AgentID)
		}
	}
	s.mu.Unlock()
	n.mu.Lock()
	first := !n.ended
	n.ended = true
	if n.stream != nil {
		close(n.stream)
		n.stream = nil
	}
	for _, cancel := range n.calls {
		cancel(why)
	}
	n.mu.Unlock()
	if first {
		s.onEnd(n)
	}
}

func (s *Set) Each(fn func(*Session)) {
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

func (s *Set) Len() int {
	s.mu.RLock()
	defer s.mu.RUnlock()
	return len(s.byID)
}
