package carry

import (
	"bouncer/internal/core/rules"
	"bouncer/internal/core/wire"
	"bouncer/internal/gate"
	"bouncer/internal/relay/session"
	"bouncer/internal/snapshot"
)

// hears reports whether the agent wants a log message.
func (c *Caller) hears(frame []byte, f wire.Frame) bool {
	return wire.Wanted(c.logLevel(), frame, f)
}

// Principal is who makes a request, and at which address.
type Principal struct {
	Snapshot *snapshot.Snapshot
	Pass     *snapshot.Pass
	Agent    *snapshot.Agent
	Scope    string
	Catalog  *snapshot.Catalog
	// How is what is known of the request besides who makes it.
	How rules.Circumstances
	// Key is the hash of what was shown.
	Key [32]byte
	// Legacy is set at the addresses of the oldest transport.
	Legacy bool
}

// As is the principal once it is known which program asks, and which revision it speaks.
// info is what the program says of itself, raw.
func (v Principal) As(info []byte, revision string) Principal {
	v.How.Client, v.How.Revision = wire.NameOf(info), revision
	if v.Catalog != nil && v.Catalog.Varies {
		v.Catalog = v.Snapshot.ReachOf(v.Agent, v.How).Catalog(v.Scope)
	}
	return v
}

// Caller is who asks, and how the answer has to look.
type Caller struct {
	Principal
	Session  *session.Session // nil in the stateless era
	Revision string
	Caps     wire.Caps
	Info     []byte
	Level    string // of log messages, in the stateless era
}

func (c *Caller) Stateless() bool { return c.Session == nil }

func (c *Caller) logLevel() string {
	if c.Session != nil {
		return c.Session.LogLevel()
	}
	return c.Level
}

// gateHolder is for whom something is handed out to the caller.
func (c *Caller) gateHolder() gate.Holder {
	return gate.Holder{Agent: c.Agent.ID, Person: c.Agent.Owner}
}

// holder is whose tasks and links are: the session's, or the agent's without one.
func (c *Caller) holder() string {
	if c.Session != nil {
		return c.Session.Id
	}
	return "agent " + c.Agent.ID
}

// TaskNeed is what an agent lacks that does not declare the extension.
func (c *Caller) TaskNeed() string {
	return `{"extensions":{"` + wire.TasksExtension + `":{}}}`
}
