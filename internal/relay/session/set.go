package session

import (
	"crypto/rand"
	"encoding/hex"
	mrand "math/rand/v2"
	"sync"
	"time"

	"bouncer/internal/gate"
	"bouncer/internal/relay/tap"
	"bouncer/internal/snapshot"
)

// Set is the set of open sessions. NewSet makes one.
type Set struct {
	gate   *gate.Gate // hands out the sessions
	budget *Budget    // of what is kept of their streams
	onEnd  func(n *Session, why error)

	resuming sync.Mutex // held while a session is opened again, so that it is opened once

	mu   sync.RWMutex // guards byID
	byID map[string]*Session
}

// Bounds on sessions, and on what is kept of their streams.
var (
	sessionLimits = gate.Limits{Agent: 10_000, Person: 20_000, All: 50_000}
	replayLimits  = gate.Limits{Agent: 16 << 20, Person: 32 << 20, All: 256 << 20} // bytes
)

// NewSet returns an empty set; left is called once for each session that has ended.
func NewSet(left func(n *Session, why error), book *gate.Book) *Set {
	return &Set{
		gate: book.Open("sessions", sessionLimits), budget: NewBudget(book.Open("bytes of streams that can be resumed", replayLimits)),
		byID: map[string]*Session{}, onEnd: left,
	}
}

// Open adds a session of an agent. The error is a *gate.FullError.
func (s *Set) Open(n *Session, p *snapshot.Pass, a *snapshot.Agent, now time.Time) error {
	if n.Id == "" {
		n.Id = NewID()
	}
	if n.Line == 0 {
		n.Line = tap.Line()
	}
	// Whoever comes back with the number of a stream or a question of before, or of another node, is
	// not taken for one that is asked now.
	n.firstNo = mrand.IntN(1<<32) << 16
	n.lastNo = n.firstNo
	n.AgentID, n.PassID, n.budget = p.AgentID, p.ID, s.budget
	n.Holder = gate.Holder{Agent: a.ID, Person: a.Owner}
	n.Used.Store(now.UnixMilli())
	n.Outbox.Wake = make(chan struct{}, 1)
	if err := s.gate.Take(n.Holder, 1); err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.byID[n.Id] = n
	return nil
}

// Resume adds a session that was open before, unless it is open again already, and
// returns the one that is.
func (s *Set) Resume(n *Session, p *snapshot.Pass, a *snapshot.Agent, now time.Time) (*Session, error) {
	s.resuming.Lock()
	defer s.resuming.Unlock()
	if have := s.Get(n.Id); have != nil {
		return have, nil
	}
	return n, s.Open(n, p, a, now)
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
	_, open := s.byID[n.Id]
	delete(s.byID, n.Id)
	s.mu.Unlock()
	if open {
		s.gate.Give(n.Holder, 1)
	}
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
	replays := n.replays
	n.replays = nil
	n.mu.Unlock()
	for _, t := range replays {
		s.budget.forget(t)
	}
	if first {
		s.onEnd(n, why)
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
