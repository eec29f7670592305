// Package caller is who makes a request at the gateway: the agent behind the pass, what it
// reaches at the address, and how its answers have to look.
package caller

import (
	"encoding/json"

	"bouncer/internal/core/rules"
	"bouncer/internal/core/tools"
	"bouncer/internal/core/trace"
	"bouncer/internal/core/wire"
	"bouncer/internal/gate"
	"bouncer/internal/relay/session"
	"bouncer/internal/snapshot"
)

// Hears reports whether the agent wants a log message.
func (c *Caller) Hears(frame []byte, f wire.Frame) bool {
	return wire.Wanted(c.LogLevel(), frame, f)
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
	// Trace is what the request says of the trace that it belongs to.
	Trace trace.Parent
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

// Stateless reports whether the agent has no session.
func (c *Caller) Stateless() bool { return c.Session == nil }

// LogLevel is the least level of log messages that the agent wants; "" for none.
func (c *Caller) LogLevel() string {
	if c.Session != nil {
		return c.Session.LogLevel()
	}
	return c.Level
}

// GateHolder is for whom something is handed out to the caller.
func (c *Caller) GateHolder() gate.Holder {
	return gate.Holder{Agent: c.Agent.ID, Person: c.Agent.Owner}
}

// Holder is whose tasks and links are: the session's, or the agent's without one.
func (c *Caller) Holder() string {
	if c.Session != nil {
		return c.Session.Id
	}
	return "agent " + c.Agent.ID
}

// TaskNeed is what an agent lacks that does not declare the extension.
func (c *Caller) TaskNeed() string {
	return `{"extensions":{"` + wire.TasksExtension + `":{}}}`
}

// Still returns what an agent was given before as it has it by a newer snapshot, or why it
// may not have it any more.
func (v Principal) Still(now *snapshot.Snapshot, kind tools.Kind, before *snapshot.Target) (*snapshot.Target, string) {
	pass, agent := now.Passes[v.Key], now.Agents[v.Agent.ID]
	switch {
	case pass == nil || pass.Revoked || agent == nil:
		return nil, "the pass or the agent was revoked"
	case agent.Paused:
		return nil, "the agent was paused"
	}
	server := now.Servers[before.Server.Name]
	if server != nil {
		server = server.For(agent)
	}
	if server == nil || server.Paused || server.Missing != nil || server.ID != before.Server.ID {
		return nil, "the server was removed, paused or given another credential"
	}
	own := tools.Tool{}
	for _, t := range server.Offer.Lists[kind] {
		if t.Name == before.Tool.Name {
			own = t
		}
	}
	if own.Name == "" {
		if kind != tools.Resources {
			return nil, "the server no longer offers it"
		}
		own = before.Tool
	}
	t := now.Decide(agent, v.How, server, kind, own)
	t.Exposed = before.Exposed
	if !t.Admitted() {
		return nil, "it was taken away: " + t.Reason()
	}
	return t, ""
}

// TraceParent is what a request says of the trace that it belongs to: in its own metadata, as
// the protocol has it (MCP 2026-07-28, reserved keys of _meta), or else in the headers of HTTP.
func (c *Caller) TraceParent(body []byte, p wire.Params) trace.Parent {
	if p.Meta.At.Empty() {
		return c.Trace
	}
	var meta struct {
		Parent string `json:"traceparent"`
		State  string `json:"tracestate"`
	}
	if json.Unmarshal(p.Meta.At.Of(body), &meta) != nil {
		return c.Trace
	}
	if own, ok := trace.Read(meta.Parent, meta.State); ok {
		return own
	}
	return c.Trace
}
