package session

import (
	"time"

	"bouncer/internal/core/wire"
)

// WriteLimit is how long one write to an agent may take.
const WriteLimit = 30 * time.Second

// LegacyStream is the event stream of a session of the oldest transport: everything
// that the agent is told goes over it (MCP 2024-11-05, HTTP with SSE).
type LegacyStream struct {
	Queue chan []byte   // never closed
	Ended chan struct{} // closed when the stream has ended
}

// MaxLine bounds the messages that wait for a slow agent.
const MaxLine = 256

// Send queues one message; false when the agent is gone. An agent that reads too
// slowly is waited for as long as a write may take.
func (l *LegacyStream) Send(frame []byte) bool {
	ev := wire.AppendEvent([]byte("event: message\n"), "", frame)
	select {
	case l.Queue <- ev:
		return true
	case <-l.Ended:
		return false
	case <-time.After(WriteLimit):
		return false
	}
}

// Reserve notes messages under way; false when there are too many.
func (n *Session) Reserve(count int) bool {
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.ended || n.underway+count > maxSessionCalls {
		return false
	}
	n.underway += count
	return true
}

func (n *Session) Release() {
	n.mu.Lock()
	defer n.mu.Unlock()
	n.underway--
}

// Introduce takes over what initialize said; false when that was said before.
func (n *Session) Introduce(from *Session) bool {
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.greeted {
		return false
	}
	n.greeted, n.Revision, n.Caps, n.Info = true, from.Revision, from.Caps, from.Info
	n.How.Store(from.How.Load())
	return true
}

func (n *Session) Introduced() (rev string, caps wire.Caps, info []byte) {
	n.mu.Lock()
	defer n.mu.Unlock()
	return n.Revision, n.Caps, n.Info
}
