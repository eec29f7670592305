package carry

import "bouncer/internal/relay/session"

// EndAll ends the calls under way, of agents without a session, whose principal matches.
// Those with one end with it.
func (carrier *Carrier) EndAll(match func(*Principal) bool) {
	for _, j := range carrier.running.Matching(func(j *Call) bool { return match(&j.principal) }) {
		j.cancel(session.ErrRevoked)
	}
}
