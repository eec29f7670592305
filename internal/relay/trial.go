package relay

import (
	"context"
	"crypto/sha256"
	"net/http"
	"time"

	"bouncer/internal/snapshot"
)

// trialPass is the id of the pass that is shown when a person tries a tool as an agent.
const trialPass = "trial"

type trialKey struct{}

// Trial returns a context whose requests are served as an agent without its pass, for what
// a person tries. Only the service itself can make one: nothing that comes over a
// connection carries it. Rules, budgets, holds and the journal are those of the agent, and
// it does not count as a contact of its assistant.
func Trial(ctx context.Context, agentID string) context.Context {
	return context.WithValue(ctx, trialKey{}, agentID)
}

// trialOf returns the pass of a trial, and its key; nil for a request from outside.
func trialOf(r *http.Request) (*snapshot.Pass, [sha256.Size]byte) {
	id, ok := r.Context().Value(trialKey{}).(string)
	if !ok {
		return nil, [sha256.Size]byte{}
	}
	p := &snapshot.Pass{ID: trialPass, AgentID: id, Expires: time.Now().Add(time.Hour), Meter: &snapshot.Meter{}}
	return p, sha256.Sum256([]byte(trialPass + id))
}
