// Package recorder is the flight recorder: it always keeps the last messages, heads of
// answers, words of processes and changes of state of every server, in memory, within
// bounds. What is kept is masked when it is looked at, and not before, since most of it
// never is.
package recorder

import (
	"net/http"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"bouncer/internal/link"
)

// Bounds on what is kept: entries of one server, bytes of one entry, servers, and bytes in
// all, above which only the beginnings of entries are kept.
const (
	maxEntries = 192
	maxText    = 2 << 10
	maxServers = 500
	maxBytes   = 48 << 20
	shortText  = 256
)

// Entry is one thing that was heard.
type Entry struct {
	N      uint64 // counts what was heard of a server
	At     time.Time
	Line   uint64
	What   link.Heard
	Text   []byte
	Size   int // of the whole, in bytes
	Method string
	Status int // over HTTP; 0 for anything but an answer
	Took   time.Duration
	Header http.Header
}

// Recorder keeps what is heard. It implements link.Tap, and is safe for concurrent use.
// The zero value is ready.
type Recorder struct {
	bytes atomic.Int64

	mu    sync.RWMutex // guards rings; never held while one is written
	rings map[string]*ring
}

// ring keeps the last entries of one server. Each slot has a lock of its own, so that
// calls that go on at the same time do not wait for each other; the memory of an entry
// that is overwritten is used again.
type ring struct {
	r     *Recorder
	next  atomic.Uint64 // number of the next entry
	slots [maxEntries]slot
}

type slot struct {
	mu    sync.Mutex // guards entry
	entry Entry
}

// Of implements link.Tap.
func (r *Recorder) Of(server string) link.Ear {
	r.mu.Lock()
	defer r.mu.Unlock()
	one := r.rings[server]
	if one == nil {
		if len(r.rings) >= maxServers {
			return nil
		}
		if r.rings == nil {
			r.rings = map[string]*ring{}
		}
		one = &ring{r: r}
		r.rings[server] = one
	}
	return one
}

// take returns the slot of the next entry, locked.
func (r *ring) take() (*slot, uint64) {
	n := r.next.Add(1) - 1
	s := &r.slots[n%maxEntries]
	s.mu.Lock()
	return s, n
}

// Frame implements link.Ear.
func (r *ring) Frame(line uint64, what link.Heard, text []byte) {
	limit := maxText
	if r.r.bytes.Load() > maxBytes {
		limit = shortText
	}
	now := time.Now()
	s, n := r.take()
	e := &s.entry
	before := cap(e.Text)
	e.Text = append(e.Text[:0], text[:min(len(text), limit)]...)
	grown := cap(e.Text) - before
	e.N, e.At, e.Line, e.What, e.Size = n, now, line, what, len(text)
	e.Method, e.Status, e.Took, e.Header = "", 0, 0, nil
	s.mu.Unlock()
	if grown != 0 {
		r.r.bytes.Add(int64(grown))
	}
}

// shown are the headers of answers that tell something; the others are not kept.
var shown = []string{"Content-Type", "Location", "Retry-After", "Www-Authenticate", "Server", "Date"}

// Answer implements link.Ear.
func (r *ring) Answer(line uint64, method string, status int, header http.Header, took time.Duration) {
	var kept http.Header
	if status >= 300 { // what went well needs no headers to be understood
		kept = http.Header{}
		for _, name := range shown {
			if v := header[name]; v != nil {
				kept[name] = slices.Clone(v)
			}
		}
	}
	now := time.Now()
	s, n := r.take()
	defer s.mu.Unlock()
	s.entry = Entry{N: n, At: now, Line: line, Text: s.entry.Text[:0], Method: method, Status: status, Took: took, Header: kept}
}

// Since returns what was heard of a server from a number on, the oldest first.
func (r *Recorder) Since(server string, from uint64) []Entry {
	r.mu.RLock()
	one := r.rings[server]
	r.mu.RUnlock()
	if one == nil {
		return nil
	}
	next, first := one.next.Load(), from
	if next > maxEntries && first < next-maxEntries {
		first = next - maxEntries
	}
	var list []Entry
	for n := first; n < next; n++ {
		s := &one.slots[n%maxEntries]
		s.mu.Lock()
		e := s.entry
		e.Text = slices.Clone(e.Text)
		s.mu.Unlock()
		if e.N == n && !e.At.IsZero() { // else it is being written, or was overwritten meanwhile
			list = append(list, e)
		}
	}
	return list
}
