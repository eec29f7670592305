// Package gate hands out what there is only so much of: sessions, conversations of
// their own, processes, calls under way, bytes that are kept. A Gate has a limit for
// each agent, for each person and in all, so that nothing that is started or kept
// for somebody grows without a bound, and others keep working at the bound. A Queue
// lets some work go on at a time, and takes those who wait in turn.
package gate

import (
	"fmt"
	"slices"
	"strings"
	"sync"
)

// Holder is for whom something is handed out. An agent of the team's has no person.
type Holder struct{ Agent, Person string }

// Limits are how much is handed out at most; 0 for none at all in that respect.
type Limits struct{ Agent, Person, All int64 }

// FullError says that no more of something is handed out, and whose limit that is.
type FullError struct {
	What  string // in the plural
	Scope string // agent, person or all
	Limit int64
}

func (e *FullError) Error() string {
	whose := map[string]string{
		ScopeAgent: "one agent has", ScopePerson: "the agents of one person have", ScopeAll: "everybody together has",
	}[e.Scope]
	return fmt.Sprintf("too many %s: %s %d at most", e.What, whose, e.Limit)
}

// The scopes of limits.
const (
	ScopeAgent  = "agent"
	ScopePerson = "person"
	ScopeAll    = "all"
)

// Gate hands something out. It is safe for concurrent use; New makes one.
type Gate struct {
	what   string
	limits Limits

	mu      sync.Mutex // guards what follows
	all     int64
	most    int64 // there ever was in all
	refused int64
	agents  map[string]int64
	people  map[string]int64
}

// New returns a gate; what is what it hands out, in the plural.
func New(what string, l Limits) *Gate {
	return &Gate{what: what, limits: l, agents: map[string]int64{}, people: map[string]int64{}}
}

// Take hands out n. The error is a *FullError, and then nothing was handed out.
func (g *Gate) Take(h Holder, n int64) error {
	g.mu.Lock()
	defer g.mu.Unlock()
	if scope, limit, ok := g.fits(h, n); !ok {
		g.refused++
		return &FullError{g.what, scope, limit}
	}
	g.add(h, n)
	return nil
}

// fits reports whether n more are within every limit; the caller holds the lock.
func (g *Gate) fits(h Holder, n int64) (scope string, limit int64, ok bool) {
	switch {
	case g.limits.All > 0 && g.all+n > g.limits.All:
		return ScopeAll, g.limits.All, false
	case h.Agent != "" && g.limits.Agent > 0 && g.agents[h.Agent]+n > g.limits.Agent:
		return ScopeAgent, g.limits.Agent, false
	case h.Person != "" && g.limits.Person > 0 && g.people[h.Person]+n > g.limits.Person:
		return ScopePerson, g.limits.Person, false
	}
	return "", 0, true
}

func (g *Gate) add(h Holder, n int64) {
	g.all += n
	g.most = max(g.most, g.all)
	count(g.agents, h.Agent, n)
	count(g.people, h.Person, n)
}

func count(m map[string]int64, key string, n int64) {
	if key == "" {
		return
	}
	if m[key] += n; m[key] <= 0 {
		delete(m, key)
	}
}

// Give takes n back that were handed out.
func (g *Gate) Give(h Holder, n int64) {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.add(h, -n)
}

// Usage is how much of something is handed out.
type Usage struct {
	What    string `json:"what"`
	Now     int64  `json:"now" doc:"handed out at this moment"`
	Most    int64  `json:"most" doc:"the most there was since the start"`
	Limit   int64  `json:"limit" doc:"in all"`
	Agent   int64  `json:"perAgent" doc:"limit for one agent; 0 for none of its own"`
	Person  int64  `json:"perPerson" doc:"limit for the agents of one person; 0 for none of its own"`
	Refused int64  `json:"refused" doc:"how often there was no more since the start"`
}

// Usage tells how much is handed out.
func (g *Gate) Usage() Usage {
	g.mu.Lock()
	defer g.mu.Unlock()
	return Usage{g.what, g.all, g.most, g.limits.All, g.limits.Agent, g.limits.Person, g.refused}
}

// Holds is how much somebody holds: the agent, or without one the person.
func (g *Gate) Holds(h Holder) int64 {
	g.mu.Lock()
	defer g.mu.Unlock()
	if h.Agent != "" {
		return g.agents[h.Agent]
	}
	return g.people[h.Person]
}

// Book knows the gates of a service, to tell about all of them. The zero value is
// ready; it is safe for concurrent use.
type Book struct {
	mu    sync.Mutex // guards gates
	gates []*Gate
}

// Open makes a gate that the book knows.
func (b *Book) Open(what string, l Limits) *Gate {
	g := New(what, l)
	b.mu.Lock()
	defer b.mu.Unlock()
	b.gates = append(b.gates, g)
	return g
}

// Usage tells about every gate, by name.
func (b *Book) Usage() []Usage {
	b.mu.Lock()
	gates := slices.Clone(b.gates)
	b.mu.Unlock()
	out := make([]Usage, 0, len(gates))
	for _, g := range gates {
		out = append(out, g.Usage())
	}
	slices.SortFunc(out, func(a, b Usage) int { return strings.Compare(a.What, b.What) })
	return out
}
