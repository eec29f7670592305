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

// ring keeps the last entries of one server. The memory of an entry that is overwritten is
// used again.
type ring struct {
	mu      sync.Mutex // guards what follows
	entries [maxEntries]Entry
	next    uint64 // number of the next entry
}

func (r *Recorder) of(server string) *ring {
	r.mu.RLock()
	one := r.rings[server]
	r.mu.RUnlock()
	if one != nil {
		return one
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if one = r.rings[server]; one != nil || len(r.rings) >= maxServers {
		return one
	}
	if r.rings == nil {
		r.rings = map[string]*ring{}
	}
	one = &ring{}
	r.rings[server] = one
	return one
}

// Frame implements link.Tap.
func (r *Recorder) Frame(server string, line uint64, what link.Heard, text []byte) {
	one := r.of(server)
	if one == nil {
		return
	}
	limit := maxText
	if r.bytes.Load() > maxBytes {
		limit = shortText
	}
	now := time.Now()
	one.mu.Lock()
	e := &one.entries[one.next%maxEntries]
	before := cap(e.Text)
	buf := append(e.Text[:0], text[:min(len(text), limit)]...)
	*e = Entry{N: one.next, At: now, Line: line, What: what, Text: buf, Size: len(text)}
	one.next++
	one.mu.Unlock()
	if grown := cap(buf) - before; grown != 0 {
		r.bytes.Add(int64(grown))
	}
}

// shown are the headers of answers that tell something; the others are not kept.
var shown = []string{"Content-Type", "Location", "Retry-After", "Www-Authenticate", "Server", "Date"}

// Answer implements link.Tap.
func (r *Recorder) Answer(server string, line uint64, method string, status int, header http.Header, took time.Duration) {
	one := r.of(server)
	if one == nil {
		return
	}
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
	one.mu.Lock()
	defer one.mu.Unlock()
	e := &one.entries[one.next%maxEntries]
	*e = Entry{N: one.next, At: now, Line: line, Text: e.Text[:0], Method: method, Status: status, Took: took, Header: kept}
	one.next++
}

// Since returns what was heard of a server from a number on, the oldest first.
func (r *Recorder) Since(server string, from uint64) []Entry {
	r.mu.RLock()
	one := r.rings[server]
	r.mu.RUnlock()
	if one == nil {
		return nil
	}
	one.mu.Lock()
	defer one.mu.Unlock()
	first := from
	if one.next > maxEntries && first < one.next-maxEntries {
		first = one.next - maxEntries
	}
	var list []Entry
	for n := first; n < one.next; n++ {
		e := one.entries[n%maxEntries]
		e.Text = slices.Clone(e.Text)
		list = append(list, e)
	}
	return list
}

// Forget drops what is kept of a server.
func (r *Recorder) Forget(server string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	delete(r.rings, server)
}
