// Package session keeps what agents have with Bouncer between requests: an id, what
// they can do, an outbox of what they have not taken yet, and what they subscribed to.
// Everything in it is bounded, per agent and in all.
package session

import (
	"context"
	"encoding/base64"
	"strconv"
	"sync"
	"sync/atomic"
	"time"

	"bouncer/internal/core/rules"
	"bouncer/internal/core/wire"
	"bouncer/internal/gate"
	"bouncer/internal/link"
)

// Noted keeps what is known of a request besides who makes it: a copy, as what it is part of
// holds the snapshot of then.
func (s *Session) Noted(how rules.Circumstances) { s.How.Store(&how) }

// Session is one agent's conversation with Bouncer (initialize era). It belongs
// to the pass that opened it and answers to no other.
type Session struct {
	Id       string
	AgentID  string
	PassID   string
	Scope    string // server name for /mcp/{server}, "" for /mcp
	Revision string
	Caps     wire.Caps
	Info     []byte       // clientInfo, raw
	Holder   gate.Holder  // for whom it is
	Used     atomic.Int64 // last request, milliseconds since 1970
	Line     uint64       // the number of the conversation in the flight recorder
	// How is what was known of the last request besides who made it.
	How    atomic.Pointer[rules.Circumstances]
	Legacy *LegacyStream // set for the event-stream transport of 2024-11-05
	Outbox Outbox        // what concerns no single request

	budget *Budget // of its replays

	mu       sync.Mutex                         // guards what follows
	calls    map[string]context.CancelCauseFunc // in flight, by raw request id
	Shown    [3]string                          // digests of the lists last told of
	level    string                             // of log messages wanted; "" for none
	stream   chan struct{}                      // closed to end the open GET stream; nil when none
	requests map[string]*Request                // requests of servers on their way to the agent, by id
	replays  map[int]*Replay                    // event streams that can be resumed, by number
	firstNo  int                                // what streams and questions are numbered from at this opening
	lastNo   int                                // number of the last stream, and of the last question
	// Of the oldest transport: messages under way, and whether initialize was sent.
	underway int
	greeted  bool
	ended    bool
}

// Request is a request of a server on its way to an agent.
type Request struct {
	Reply chan []byte // capacity 1: the agent's response, as it came
	Token []byte      // the server's progress token, raw; nil for none
	Link  link.Link
}

// Limits on sessions.
const (
	maxSessionCalls  = 256
	MaxRequests      = 64
	MaxSubscriptions = 1_000
	IdleSession      = 12 * time.Hour
	SweepEvery       = 5 * time.Minute
)

// Begin notes a call in flight. It fails when the id is in use or there are too
// many calls.
func (n *Session) Begin(id string, cancel context.CancelCauseFunc) bool {
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

func (n *Session) Finish(id string) {
	n.mu.Lock()
	defer n.mu.Unlock()
	delete(n.calls, id)
}

// Cancel ends the call with the raw request id.
func (n *Session) Cancel(id string, why error) {
	n.mu.Lock()
	cancel := n.calls[id]
	n.mu.Unlock()
	if cancel != nil {
		cancel(why)
	}
}

// AddRequest notes a question to the agent and returns its id; false when there are too
// many, or the session has ended.
func (n *Session) AddRequest(q *Request) (id string, ok bool) {
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.ended || len(n.requests) >= MaxRequests {
		return "", false
	}
	if n.requests == nil {
		n.requests = map[string]*Request{}
	}
	n.lastNo++
	id = "b" + strconv.Itoa(n.lastNo)
	n.requests[id] = q
	return id, true
}

// Answered hands over the agent's response to a question. What nobody asked for
// is dropped.
func (n *Session) Answered(body []byte, f wire.Frame) {
	id, _ := wire.StringAt(body, f.ID)
	n.mu.Lock()
	q := n.requests[id]
	delete(n.requests, id)
	n.mu.Unlock()
	if q != nil {
		q.Reply <- append([]byte(nil), body...)
	}
}

func (n *Session) ForgetRequest(id string) {
	n.mu.Lock()
	defer n.mu.Unlock()
	delete(n.requests, id)
}

// LinkOf returns the link whose request carries a progress token.
func (n *Session) LinkOf(token []byte) link.Link {
	n.mu.Lock()
	defer n.mu.Unlock()
	for _, q := range n.requests {
		if len(q.Token) > 0 && string(q.Token) == string(token) {
			return q.Link
		}
	}
	return nil
}

// Attach opens the one GET stream of the session; false when there is one.
func (n *Session) Attach() (ended <-chan struct{}, ok bool) {
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.stream != nil || n.ended {
		return nil, false
	}
	n.stream = make(chan struct{})
	return n.stream, true
}

func (n *Session) Detach(ended <-chan struct{}) {
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.stream == ended {
		n.stream = nil
	}
}

// NoteLists notes the digests of the lists; it reports which are new ones.
func (n *Session) NoteLists(now [3]string) (changed [3]bool) {
	n.mu.Lock()
	defer n.mu.Unlock()
	for i := range now {
		changed[i] = n.Shown[i] != now[i]
	}
	n.Shown = now
	return changed
}

func (n *Session) Busy() bool {
	n.mu.Lock()
	defer n.mu.Unlock()
	return n.stream != nil || len(n.calls) > 0
}

func (n *Session) SetLevel(level string) {
	n.mu.Lock()
	defer n.mu.Unlock()
	n.level = level
}

func (n *Session) LogLevel() string {
	n.mu.Lock()
	defer n.mu.Unlock()
	return n.level
}

// Numbered reports whether a stream of a number was begun since the session was opened here. One
// that was not may have been before the service was started anew, or at another node.
func (n *Session) Numbered(no int) bool {
	n.mu.Lock()
	defer n.mu.Unlock()
	return no > n.firstNo && no <= n.lastNo
}

// NewReplay begins a replay of the stream that answers a request, and returns its number; the oldest
// finished ones make room. The events carry the request's id, raw, as well.
func (n *Session) NewReplay(request []byte) (int, *Replay) {
	n.mu.Lock()
	gone := n.stale(time.Now())
	n.lastNo++
	no, t := n.lastNo, &Replay{budget: n.budget, holder: n.Holder, wake: make(chan struct{}), gone: n.ended}
	t.about = "-" + base64.RawURLEncoding.EncodeToString(request)
	if n.replays == nil {
		n.replays = map[int]*Replay{}
	}
	if !n.ended {
		n.replays[no] = t
	}
	n.mu.Unlock()
	for _, old := range gone {
		n.budget.forget(old)
	}
	return no, t
}

// stale takes out the replays that make room; the caller holds the lock.
func (n *Session) stale(now time.Time) (gone []*Replay) {
	oldest := -1
	for no, t := range n.replays {
		t.mu.Lock()
		done, ended := t.done, t.ended
		t.mu.Unlock()
		if done && now.Sub(ended) > keepReplay {
			gone = append(gone, t)
			delete(n.replays, no)
		} else if done && (oldest < 0 || no < oldest) {
			oldest = no
		}
	}
	if len(n.replays) >= maxReplays && oldest >= 0 {
		gone = append(gone, n.replays[oldest])
		delete(n.replays, oldest)
	}
	return gone
}

// EndStream ends the open stream of the session; the session goes on.
func (n *Session) EndStream() {
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.stream != nil {
		close(n.stream)
		n.stream = nil
	}
}

func (n *Session) Replay(no int) *Replay {
	n.mu.Lock()
	defer n.mu.Unlock()
	return n.replays[no]
}
