// Package presence knows which people are there: who has been seen in the console or the
// command line a short while ago. Rules can ask for it.
package presence

import (
	"sync"
	"time"
)

// Lasts is for how long somebody counts as there who was seen once.
const Lasts = 15 * time.Minute

// most bounds the people that are remembered.
const most = 10_000

// Log remembers when people were seen. It is safe for concurrent use; the zero value is
// ready.
type Log struct {
	// Now is the present time; nil for time.Now.
	Now func() time.Time

	mu   sync.RWMutex // guards seen
	seen map[string]time.Time
}

func (l *Log) now() time.Time {
	if l.Now == nil {
		return time.Now()
	}
	return l.Now()
}

// Seen notes that a person is there.
func (l *Log) Seen(person string) {
	now := l.now()
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.seen == nil || len(l.seen) >= most {
		l.seen = map[string]time.Time{}
	}
	l.seen[person] = now
}

// Present reports whether a person is there.
func (l *Log) Present(person string) bool {
	l.mu.RLock()
	at, ok := l.seen[person]
	l.mu.RUnlock()
	return ok && l.now().Sub(at) < Lasts
}
