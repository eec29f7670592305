package relay

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"strconv"
	"sync"
	"sync/atomic"
	"time"

	"bouncer/internal/core/wire"
	"bouncer/internal/link"
)

// Session is one agent's conversation at the door (initialize era). It belongs
// to the pass that opened it and answers to no other.
type Session struct {
	id       string
	agentID  string
	passID   string
	scope    string // server name for /mcp/{server}, "" for /mcp
	revision string
	caps     wire.Caps
	info     []byte       // clientInfo, raw
	used     atomic.Int64 // last request, milliseconds since 1970
	legacy   *line        // set for the event-stream transport of 2024-11-05
	box      mailbox      // what concerns no single request

	mu     sync.Mutex
	calls  map[string]context.CancelCauseFunc // in flight, by raw request id
	shown  [3]string                          // digests of the lists last told of
	level  string                             // of log messages wanted; "" for none
	stream chan struct{}                      // closed to end the open GET stream; nil when none
	asked  map[string]*question               // requests of servers on their way to the agent, by id
	tapes  map[int]*tape                      // event streams that can be resumed, by number
	lastNo int                                // number of the last stream, and of the last question
	// Of the oldest transport: messages under way, and whether initialize was sent.
	underway int
	greeted  bool
	ended    bool
}

// question is a request of a server on its way to an agent.
type question struct {
	reply chan []byte // capacity 1: the agent's response, as it came
	token []byte      // the server's progress token, raw; nil for none
	link  link.Link
}

// Limits on sessions.
const (
	maxSessions      = 50_000
	maxAgentSessions = 10_000
	maxSessionCalls  = 256
	maxQuestions     = 64
	maxSubscriptions = 1_000
	idleSession      = 12 * time.Hour
	sweepEvery       = 5 * time.Minute
)

// sessions is the set of open sessions.
type sessions struct {
	mu     sync.RWMutex
	byID   map[string]*Session
	counts map[string]int // by agent id
	left   func(*Session) // called once for a session that was ended
}

func newSessions(left func(*Session)) *sessions {
	return &sessions{byID: map[string]*Session{}, counts: map[string]int{}, left: left}
}

// open adds a session; false when there are too many.
func (s *sessions) open(n *Session, p *Pass, now time.Time) bool {
	n.id, n.agentID, n.passID = randomID(), p.AgentID, p.ID
	n.used.Store(now.UnixMilli())
	n.box.wake = make(chan struct{}, 1)
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.byID) >= maxSessions || s.counts[p.AgentID] >= maxAgentSessions {
		return false
	}
	s.byID[n.id] = n
	s.counts[p.AgentID]++
	return true
}

func randomID() string {
	var b [16]byte
	// crypto/rand.Read never fails: it ends the program instead.
	_, _ = rand.Read(b[:])
	return hex.EncodeToString(b[:])
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
		s.left(n)
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

// ask notes a question to the agent and returns its id; false when there are too
// many, or the session has ended.
func (n *Session) ask(q *question) (id string, ok bool) {
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.ended || len(n.asked) >= maxQuestions {
		return "", false
	}
	if n.asked == nil {
		n.asked = map[string]*question{}
	}
	n.lastNo++
	id = "b" + strconv.Itoa(n.lastNo)
	n.asked[id] = q
	return id, true
}

// answered hands over the agent's response to a question. What nobody asked for
// is dropped.
func (n *Session) answered(body []byte, f wire.Frame) {
	id, _ := wire.StringAt(body, f.ID)
	n.mu.Lock()
	q := n.asked[id]
	delete(n.asked, id)
	n.mu.Unlock()
	if q != nil {
		q.reply <- append([]byte(nil), body...)
	}
}

func (n *Session) forget(id string) {
	n.mu.Lock()
	defer n.mu.Unlock()
	delete(n.asked, id)
}

// asker returns the link whose request carries a progress token.
func (n *Session) asker(token []byte) link.Link {
	n.mu.Lock()
	defer n.mu.Unlock()
	for _, q := range n.asked {
		if len(q.token) > 0 && string(q.token) == string(token) {
			return q.link
		}
	}
	return nil
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

// told notes the digests of the lists; it reports which are new ones.
func (n *Session) told(now [3]string) (changed [3]bool) {
	n.mu.Lock()
	defer n.mu.Unlock()
	for i := range now {
		changed[i] = n.shown[i] != now[i]
	}
	n.shown = now
	return changed
}

func (n *Session) busy() bool {
	n.mu.Lock()
	defer n.mu.Unlock()
	return n.stream != nil || len(n.calls) > 0
}

func (n *Session) setLevel(level string) {
	n.mu.Lock()
	defer n.mu.Unlock()
	n.level = level
}

func (n *Session) logLevel() string {
	n.mu.Lock()
	defer n.mu.Unlock()
	return n.level
}

// mailbox holds what an agent is to be told outside of its requests. What
// repeats itself is kept once.
type mailbox struct {
	wake chan struct{} // capacity 1: something is there

	mu      sync.Mutex
	changed [3]bool
	uris    map[string]bool // updated resources, by the agent's URI
	frames  [][]byte
}

// maxFrames bounds the messages kept for an agent that listens to no stream.
const maxFrames = 64

func (m *mailbox) ring() {
	select {
	case m.wake <- struct{}{}:
	default:
	}
}

func (m *mailbox) lists(changed [3]bool) {
	if changed == ([3]bool{}) {
		return
	}
	m.mu.Lock()
	for i, c := range changed {
		m.changed[i] = m.changed[i] || c
	}
	m.mu.Unlock()
	m.ring()
}

func (m *mailbox) updated(uri string) {
	m.mu.Lock()
	if m.uris == nil {
		m.uris = map[string]bool{}
	}
	if len(m.uris) < maxSubscriptions {
		m.uris[uri] = true
	}
	m.mu.Unlock()
	m.ring()
}

// put adds a message; false when there are too many.
func (m *mailbox) put(frame []byte) bool {
	m.mu.Lock()
	ok := len(m.frames) < maxFrames
	if ok {
		m.frames = append(m.frames, append([]byte(nil), frame...))
	}
	m.mu.Unlock()
	m.ring()
	return ok
}

var listChanged = [3]string{"notifications/tools/list_changed", "notifications/prompts/list_changed", "notifications/resources/list_changed"}

// take empties the mailbox and returns its content as notifications; meta is raw
// JSON for their params._meta, or nil.
func (m *mailbox) take(meta []byte) [][]byte {
	m.mu.Lock()
	changed, uris, out := m.changed, m.uris, m.frames
	m.changed, m.uris, m.frames = [3]bool{}, nil, nil
	m.mu.Unlock()
	for i, c := range changed {
		if c {
			out = append(out, wire.AppendNotification(nil, listChanged[i], params(nil, meta)))
		}
	}
	for uri := range uris {
		out = append(out, wire.AppendNotification(nil, "notifications/resources/updated", params(append([]byte(`"uri":`), wire.Quote(uri)...), meta)))
	}
	return out
}

// feed returns the events of the mailbox for an EventStream; head begins each of
// them, and meta is as in take.
func (m *mailbox) feed(head string, meta []byte) func() ([][]byte, bool, <-chan struct{}) {
	return func() ([][]byte, bool, <-chan struct{}) {
		events := m.take(meta)
		for i, frame := range events {
			events[i] = wire.AppendEvent([]byte(head), "", frame)
		}
		return events, false, m.wake
	}
}

// params joins raw members and a raw _meta to an object; nil when there is
// neither.
func params(members, meta []byte) []byte {
	if members == nil && meta == nil {
		return nil
	}
	out := append([]byte{'{'}, members...)
	if meta != nil {
		if members != nil {
			out = append(out, ',')
		}
		out = append(append(out, `"_meta":`...), meta...)
	}
	return append(out, '}')
}

// tape keeps the events of one stream, so that an agent that lost it can take it
// up again (MCP 2025-11-25, transports: resumability).
type tape struct {
	mu     sync.Mutex
	events [][]byte // rendered, with their ids
	first  int      // index of events[0]
	bytes  int
	done   bool // the response is the last event
	ended  time.Time
	wake   chan struct{} // closed and renewed when something is added
}

// Limits on tapes.
const (
	maxTapes  = 16
	maxEvents = 512
	maxTape   = 4 << 20 // bytes
	keepTape  = 5 * time.Minute
)

// newTape begins a tape and returns its number; the oldest finished ones make
// room.
func (n *Session) newTape() (int, *tape) {
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.tapes == nil {
		n.tapes = map[int]*tape{}
	}
	now := time.Now()
	oldest := -1
	for no, t := range n.tapes {
		t.mu.Lock()
		if t.done && now.Sub(t.ended) > keepTape {
			delete(n.tapes, no)
		} else if t.done && (oldest < 0 || no < oldest) {
			oldest = no
		}
		t.mu.Unlock()
	}
	if len(n.tapes) >= maxTapes && oldest >= 0 {
		delete(n.tapes, oldest)
	}
	n.lastNo++
	t := &tape{wake: make(chan struct{})}
	n.tapes[n.lastNo] = t
	return n.lastNo, t
}

func (n *Session) tape(no int) *tape {
	n.mu.Lock()
	defer n.mu.Unlock()
	return n.tapes[no]
}

// add keeps one event and returns it rendered.
func (t *tape) add(no int, frame []byte, last bool) []byte {
	t.mu.Lock()
	defer t.mu.Unlock()
	ev := wire.AppendEvent(nil, strconv.Itoa(no)+"-"+strconv.Itoa(t.first+len(t.events)), frame)
	t.events = append(t.events, ev)
	t.bytes += len(ev)
	for len(t.events) > 1 && (len(t.events) > maxEvents || t.bytes > maxTape) {
		t.bytes -= len(t.events[0])
		t.events, t.first = t.events[1:], t.first+1
	}
	if last {
		t.done, t.ended = true, time.Now()
	}
	close(t.wake)
	t.wake = make(chan struct{})
	return ev
}

// after returns the events that follow an index, whether they are all, and a
// channel that is closed when there are more. ok is false when some are gone.
func (t *tape) after(i int) (events [][]byte, done bool, more <-chan struct{}, ok bool) {
	t.mu.Lock()
	defer t.mu.Unlock()
	from := i + 1 - t.first
	if from < 0 || from > len(t.events) {
		return nil, false, nil, false
	}
	return t.events[from:], t.done, t.wake, true
}
