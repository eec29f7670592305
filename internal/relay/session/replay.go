package session

import (
	"strconv"
	"sync"
	"time"

	"bouncer/internal/core/wire"
)

// Replay keeps the events of one stream, so that an agent that lost it can take it
// up again (MCP 2025-11-25, transports: resumability).
type Replay struct {
	mu     sync.Mutex // guards what follows
	events [][]byte   // rendered, with their ids
	first  int        // index of events[0]
	bytes  int
	done   bool // the response is the last event
	ended  time.Time
	wake   chan struct{} // closed and renewed when something is added
}

// Limits on tapes.
const (
	maxReplays     = 16
	maxEvents      = 512
	maxReplayBytes = 4 << 20 // bytes
	keepReplay     = 5 * time.Minute
)

// Add keeps one event and returns it rendered.
func (t *Replay) Add(no int, frame []byte, last bool) []byte {
	t.mu.Lock()
	defer t.mu.Unlock()
	ev := wire.AppendEvent(nil, strconv.Itoa(no)+"-"+strconv.Itoa(t.first+len(t.events)), frame)
	t.events = append(t.events, ev)
	t.bytes += len(ev)
	for len(t.events) > 1 && (len(t.events) > maxEvents || t.bytes > maxReplayBytes) {
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

// After returns the events that follow an index, whether they are all, and a
// channel that is closed when there are more. ok is false when some are gone.
func (t *Replay) After(i int) (events [][]byte, done bool, more <-chan struct{}, ok bool) {
	t.mu.Lock()
	defer t.mu.Unlock()
	from := i + 1 - t.first
	if from < 0 || from > len(t.events) {
		return nil, false, nil, false
	}
	return t.events[from:], t.done, t.wake, true
}
