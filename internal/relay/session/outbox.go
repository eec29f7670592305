package session

import (
	"sync"

	"bouncer/internal/core/wire"
)

// Outbox holds what an agent is to be told outside of its requests. What
// repeats itself is kept once.
type Outbox struct {
	Wake chan struct{} // capacity 1: something is there

	mu      sync.Mutex // guards what follows
	changed [3]bool
	uris    map[string]bool // updated resources, by the agent's URI
	frames  [][]byte
}

// maxFrames bounds the messages kept for an agent that listens to no stream.
const maxFrames = 64

func (m *Outbox) ring() {
	select {
	case m.Wake <- struct{}{}:
	default:
	}
}

func (m *Outbox) ListsChanged(changed [3]bool) {
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

func (m *Outbox) ResourceUpdated(uri string) {
	m.mu.Lock()
	if m.uris == nil {
		m.uris = map[string]bool{}
	}
	if len(m.uris) < MaxSubscriptions {
		m.uris[uri] = true
	}
	m.mu.Unlock()
	m.ring()
}

// Put adds a message; false when there are too many.
func (m *Outbox) Put(frame []byte) bool {
	m.mu.Lock()
	ok := len(m.frames) < maxFrames
	if ok {
		m.frames = append(m.frames, append([]byte(nil), frame...))
	}
	m.mu.Unlock()
	m.ring()
	return ok
}

var listChanged = [3]string{
	"notifications/tools/list_changed",
	"notifications/prompts/list_changed",
	"notifications/resources/list_changed",
}

// Take empties the mailbox and returns its content as notifications; meta is raw
// JSON for their params._meta, or nil.
func (m *Outbox) Take(meta []byte) [][]byte {
	m.mu.Lock()
	changed, uris, out := m.changed, m.uris, m.frames
	m.changed, m.uris, m.frames = [3]bool{}, nil, nil
	m.mu.Unlock()
	for i, c := range changed {
		if c {
			out = append(out, wire.AppendNotification(nil, listChanged[i], Params(nil, meta)))
		}
	}
	for uri := range uris {
		out = append(
			out,
			wire.AppendNotification(nil, "notifications/resources/updated", Params(append([]byte(`"uri":`), wire.Quote(uri)...), meta)),
		)
	}
	return out
}

// Feed returns the events of the mailbox for an EventStream; head begins each of
// them, and meta is as in take.
func (m *Outbox) Feed(head string, meta []byte) func() ([][]byte, bool, <-chan struct{}) {
	return func() ([][]byte, bool, <-chan struct{}) {
		events := m.Take(meta)
		for i, frame := range events {
			events[i] = wire.AppendEvent([]byte(head), "", frame)
		}
		return events, false, m.Wake
	}
}

// Params joins raw members and a raw _meta to an object; nil when there is
// neither.
func Params(members, meta []byte) []byte {
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
