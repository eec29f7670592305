package carry

import (
	"sync"

	"bouncer/internal/relay/session"
)

// running are the calls under way of agents without a session. Those with one end with it.
type running struct {
	mu  sync.Mutex // guards all
	all map[*Call]struct{}
}

func (r *running) add(j *Call) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.all == nil {
		r.all = map[*Call]struct{}{}
	}
	r.all[j] = struct{}{}
}

func (r *running) remove(j *Call) {
	r.mu.Lock()
	defer r.mu.Unlock()
	delete(r.all, j)
}

// EndAll ends the calls under way, of agents without a session, whose principal matches.
func (carrier *Carrier) EndAll(match func(*Principal) bool) {
	carrier.running.mu.Lock()
	var over []*Call
	for j := range carrier.running.all {
		if match(&j.principal) {
			over = append(over, j)
		}
	}
	carrier.running.mu.Unlock()
	for _, j := range over {
		j.cancel(session.ErrRevoked)
	}
}
