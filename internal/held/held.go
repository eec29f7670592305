// Package held is what the hot path and the room where held calls wait know of each
// other: a call that waits, and what somebody decided about it.
package held

import (
	"context"
	"encoding/json"
	"time"

	"bouncer/internal/core/rules"
)

// Call is a call that a rule holds.
type Call struct {
	Rule rules.Rule
	// AgentID and Agent are who calls, and Owner the agent's person, "" for the team's.
	AgentID, Agent, Owner string
	// Session is where "for this session" ends; "" without one.
	Session string
	// Server and Tool are what is called, Tool by the name that rules know it by.
	Server, Tool string
	Title        string
	// Effects are what the tool does by its tags and hints, in words.
	Effects []string
	// Arguments are those that would be sent, with pinned ones filled in.
	Arguments json.RawMessage
	// Check says what is wrong with other arguments, so that somebody can change them, and
	// returns them as they would be sent.
	Check func(arguments json.RawMessage) (json.RawMessage, error)
}

// How a held call came to be decided.
const (
	Once      = "once"
	ForNow    = "session" // admitted, and so are the like in this session
	ForCalls  = "calls"   // admitted, and so are the next so many
	ForHour   = "hour"    // admitted, and so are the like for an hour
	Changed   = "changed" // admitted with other arguments
	Refused   = "refuse"
	Expired   = "expired"
	Cancelled = "cancelled"
	Restarted = "restarted"
)

// Verdict is what was decided about a held call.
type Verdict struct {
	Admitted bool
	By       string // name of the person
	ByName   string // full name of the person
	How      string
	Word     string // to the agent
	Asked    bool   // it was the agent's own user, asked through the assistant
	// Arguments are to be sent instead; nil for those of the call.
	Arguments json.RawMessage
	// Waited is how long it took; 0 for a call that an earlier decision covers.
	Waited time.Duration
}

// UndecidedError says why nobody decided about a call.
type UndecidedError struct{ How, Why string }

func (e *UndecidedError) Error() string { return e.Why }

// Room is where held calls wait.
type Room interface {
	// Wait returns what was decided. The error is an *UndecidedError when nobody did, and
	// that of the context when it ended first.
	Wait(ctx context.Context, c Call) (Verdict, error)
	// Covered reports whether an earlier decision covers the call, so that nobody need be
	// asked.
	Covered(c Call) bool
	// Settled notes what was decided elsewhere, begun so long ago, so that it is seen and
	// covers the like where it says so.
	Settled(c Call, v Verdict)
}
