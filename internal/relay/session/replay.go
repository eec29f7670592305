package session

import (
	"strconv"
	"sync"
	"time"

	"bouncer/internal/core/wire"
	"bouncer/internal/gate"
)

// Replay keeps the events of one stream, so that an agent that lost it can take it
// up again (MCP 2025-11-25, transports: resumability). What all of them keep is
// bounded by a Budget.
type Replay struct {
	budget *Budget
	holder gate.Holder
	about  string // the end of the ids of its events, which says what request it answers

	mu     sync.Mutex // guards what follows; held over no other lock
	events [][]byte   // rendered, with their ids
	first  int        // index of events[0]
	bytes  int64
	done   bool // the response is the last event
	gone   bool // its session has ended, or it had to make room
	ended  time.Time
	wake   chan struct{} // closed and renewed when something is added
}

// Limits on replays.
const (
	maxReplays     = 16
	maxEvents      = 512
	maxReplayBytes = 4 << 20
	keepReplay     = 5 * time.Minute
)

// overhead is what an event takes besides its frame, in bytes.
const overhead = 64

// Add keeps one event and returns it rendered. When there is no room for it, the
// stream goes on and cannot be taken up again from before it.
func (t *Replay) Add(no int, frame []byte, last bool) []byte {
	size := int64(len(frame) + overhead)
	room := t.budget.take(t, size)
	t.mu.Lock()
	ev := wire.AppendEvent(nil, strconv.Itoa(no)+"-"+strconv.Itoa(t.first+len(t.events))+t.about, frame)
	var free int64
	if room && !t.gone {
		t.events = append(t.events, ev)
		t.bytes += size
		for len(t.events) > 1 && (len(t.events) > maxEvents || t.bytes > maxReplayBytes) {
			free += t.dropFirst()
		}
	} else {
		if room {
			free = size
		}
		for len(t.events) > 0 {
			free += t.dropFirst()
		}
		t.first++
	}
	if last {
		t.done, t.ended = true, time.Now()
	}
	close(t.wake)
	t.wake = make(chan struct{})
	t.mu.Unlock()
	t.budget.give(t, free)
	if last {
		t.budget.finished(t)
	}
	return ev
}

// dropFirst forgets the oldest event and returns its size; the caller holds the lock.
func (t *Replay) dropFirst() int64 {
	// The size that was taken for it: the rendered event is a little larger than that
	// when it has many lines, so it is bounded by what is left.
	size := min(int64(len(t.events[0])), t.bytes)
	if len(t.events) == 1 {
		size = t.bytes
	}
	t.bytes -= size
	t.events, t.first = t.events[1:], t.first+1
	return size
}

// drop forgets everything, for good.
func (t *Replay) drop() {
	t.mu.Lock()
	free := t.bytes
	t.first += len(t.events)
	t.events, t.bytes, t.gone = nil, 0, true
	t.mu.Unlock()
	t.budget.give(t, free)
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

// Budget bounds what all replays keep together, for one agent, one person and in
// all. Those that are finished make room first, the oldest of them before the others.
// It is safe for concurrent use.
type Budget struct {
	gate *gate.Gate

	mu    sync.Mutex // guards order; held over no other lock
	order []*Replay  // finished, oldest first
}

// maxFinished bounds the finished replays that are known; those beyond make room.
const maxFinished = 10_000

// NewBudget returns a budget of a gate.
func NewBudget(g *gate.Gate) *Budget { return &Budget{gate: g} }

// take takes room for a replay, and makes some; false when there is none.
func (b *Budget) take(t *Replay, size int64) bool {
	for {
		err := b.gate.Take(t.holder, size)
		if err == nil {
			return true
		}
		scope := err.(*gate.FullError).Scope //nolint:errorlint // Take returns no other
		old := b.oldest(func(o *Replay) bool {
			switch scope {
			case gate.ScopeAgent:
				return o.holder.Agent == t.holder.Agent
			case gate.ScopePerson:
				return o.holder.Person == t.holder.Person
			}
			return true
		})
		if old == nil {
			return false
		}
		old.drop()
	}
}

func (b *Budget) give(t *Replay, size int64) {
	if size > 0 {
		b.gate.Give(t.holder, size)
	}
}

// finished notes that a replay can make room from now on.
func (b *Budget) finished(t *Replay) {
	b.mu.Lock()
	b.order = append(b.order, t)
	over := len(b.order) > maxFinished
	b.mu.Unlock()
	if over {
		if old := b.oldest(func(*Replay) bool { return true }); old != nil {
			old.drop()
		}
	}
}

// oldest takes out the oldest finished replay that matches; nil for none.
func (b *Budget) oldest(match func(*Replay) bool) *Replay {
	b.mu.Lock()
	defer b.mu.Unlock()
	for i, t := range b.order {
		if match(t) {
			b.order = append(b.order[:i], b.order[i+1:]...)
			return t
		}
	}
	return nil
}

// forget takes a replay out whose session has ended.
func (b *Budget) forget(t *Replay) {
	b.oldest(func(o *Replay) bool { return o == t })
	t.drop()
}
