// Package recorder is the flight recorder: it always keeps the last messages, heads of
// answers, words of processes and changes of state of every server, and the last messages
// of every agent, in memory, within bounds. What is kept is masked when it is looked at,
// and not before, since most of it never is.
package recorder

import (
	"net/http"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"bouncer/internal/link"
)

// Bounds on what is kept: entries of one subject, bytes of one entry, subjects, and bytes
// in all, above which only the beginnings of entries are kept.
const (
	maxEntries  = 192
	maxText     = 2 << 10
	maxSubjects = 500
	maxBytes    = 48 << 20
	shortText   = 256
)

// Entry is one thing that was heard.
type Entry struct {
	N      uint64 // counts what was heard of a subject
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

// Recorder keeps what is heard of its subjects: servers by their names, or agents by their
// ids. It implements link.Tap, and is safe for concurrent use. The zero value is ready.
type Recorder struct {
	// Forgets has a subject too many take the place of the one that was silent longest. It
	// is for subjects whose ears are asked for anew each time.
	Forgets bool

	bytes atomic.Int64

	mu    sync.RWMutex // guards rings; never held while one is written
	rings map[string]*ring
}

// ring keeps the last entries of one subject. Each slot has a lock of its own, so that
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
func (r *Recorder) Of(subject string) link.Ear {
	if one := r.of(subject); one != nil {
		return one
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if one := r.rings[subject]; one != nil {
		return one
	}
	if len(r.rings) >= maxSubjects {
		if !r.Forgets {
			return nil
		}
		r.forget()
	}
	if r.rings == nil {
		r.rings = map[string]*ring{}
	}
	one := &ring{r: r}
	r.rings[subject] = one
	return one
}

func (r *Recorder) of(subject string) *ring {
	r.mu.RLock()
	defer r.mu.RUnlock()
	return r.rings[subject]
}

// forget drops the ring that was silent longest. The caller holds the lock.
func (r *Recorder) forget() {
	oldest, at := "", time.Time{}
	for subject, one := range r.rings {
		if last := one.last(); oldest == "" || last.Before(at) {
			oldest, at = subject, last
		}
	}
	r.bytes.Add(-r.rings[oldest].size())
	delete(r.rings, oldest)
}

// last is when something was heard last; zero for never.
func (r *ring) last() time.Time {
	next := r.next.Load()
	if next == 0 {
		return time.Time{}
	}
	s := &r.slots[(next-1)%maxEntries]
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.entry.At
}

// size is what the texts of a ring take, in bytes.
func (r *ring) size() (sum int64) {
	for i := range r.slots {
		s := &r.slots[i]
		s.mu.Lock()
		sum += int64(cap(s.entry.Text))
		s.mu.Unlock()
	}
	return sum
}

// take returns the slot of the next entry, locked.
func (r *ring) take() (*slot, uint64) {
	n := r.next.Add(1) - 1
	s := &r.slots[n%maxEntries]
	s.mu.Lock()
	return s, n
}

// Frame implements link.Ear.
func (r *ring) Frame(line uint64, what link.Heard, text []byte, size int) {
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
	e.N, e.At, e.Line, e.What, e.Size = n, now, line, what, size
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

// Since returns what was heard of a subject from a number on, the oldest first.
func (r *Recorder) Since(subject string, from uint64) []Entry {
	one := r.of(subject)
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
