package relay

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"bouncer/internal/core/team"
	"bouncer/internal/core/tools"
	"bouncer/internal/core/wire"
	"bouncer/internal/journal"
	"bouncer/internal/relay/carry"
	"bouncer/internal/relay/stream"
	"bouncer/internal/snapshot"
)

// searches serves agents that have tools found instead of listed.
type searches struct{ *Gateway }

// Finder searches tools in words. It is safe for concurrent use.
type Finder interface {
	// Find gives keep the tools that fit words, the best first, until it has said yes to so
	// many.
	Find(ctx context.Context, words string, most int, keep func(server, tool string) bool) error
}

// Limits on what is found at a time.
const (
	usualFound = 5
	mostFound  = 20
)

// finding answers an agent that searches its tools. done is false for requests that are
// carried on: with the name and the arguments of the tool that was found, where the agent
// called one through call_tool.
func (d searches) finding(
	ctx context.Context, c *carry.Caller, body []byte, f wire.Frame, p wire.Params, out *stream.Reply,
) (_ []byte, _ wire.Frame, _ wire.Params, done bool) {
	id := f.ID.Of(body)
	switch p.Subject {
	case snapshot.FindTools:
		d.find(ctx, c, id, p.Arguments.Of(body), out)
		return body, f, p, true
	case snapshot.CallTool:
		var in struct {
			Name      string
			Arguments json.RawMessage
		}
		if err := json.Unmarshal(p.Arguments.Of(body), &in); err != nil || in.Name == "" {
			out.Refuse(id, wire.CodeInvalidParams, "call_tool needs name, a tool that find_tools returned, and its arguments", nil)
			return body, f, p, true
		}
		if in.Arguments == nil {
			in.Arguments = json.RawMessage("{}")
		}
		altered, frame, params, err := wire.WithArguments(body, f, p, in.Arguments)
		if err == nil {
			altered, frame, params, err = wire.WithSubject(altered, frame, params, in.Name)
		}
		if err != nil {
			out.Refuse(id, wire.CodeInvalidParams, "the call could not be read: "+err.Error(), nil)
			return body, f, p, true
		}
		return altered, frame, params, false
	}
	return body, f, p, false
}

// find searches what is within the agent's reach.
func (d searches) find(ctx context.Context, c *carry.Caller, id, raw []byte, out *stream.Reply) {
	var in struct {
		Query string
		Limit int
	}
	if err := json.Unmarshal(raw, &in); err != nil || in.Query == "" {
		out.Refuse(id, wire.CodeInvalidParams, "find_tools needs query, what the tool should do, in words", nil)
		return
	}
	if in.Limit < 1 || in.Limit > mostFound {
		in.Limit = usualFound
	}
	begun := time.Now()
	found := []*snapshot.Target{}
	seen := map[string]bool{}
	err := d.o.Finder.Find(ctx, in.Query, in.Limit, func(server, tool string) bool {
		t := c.Catalog.Of(server, tool)
		if t == nil || seen[t.Exposed] {
			return false
		}
		seen[t.Exposed] = true
		found = append(found, t)
		return true
	})
	if err != nil {
		out.Refuse(id, wire.CodeInternal, "the tools could not be searched", nil)
		d.o.Log.ErrorContext(ctx, "the tools could not be searched", "error", err)
		return
	}
	list := []json.RawMessage{}
	for _, t := range found {
		list = append(list, wire.ItemFor(t.Tool.Renamed(tools.Tools, t.Exposed), c.Stateless()))
	}
	n, _ := c.Catalog.All(tools.Tools)
	d.noteSearch(ctx, c, raw, begun)
	note := fmt.Sprintf("%d of %d tools fit best; call one with call_tool", len(list), n)
	if len(list) == 0 {
		note = fmt.Sprintf("none of %d tools fits; use other words", n)
	}
	text, err := json.Marshal(map[string]any{"note": note, "tools": list})
	if err != nil {
		out.Refuse(id, wire.CodeInternal, "what was found could not be written", nil)
		return
	}
	kind := ""
	if c.Stateless() {
		kind = `"resultType":"complete",`
	}
	result := append([]byte(`{`+kind+`"content":[{"type":"text","text":`), wire.Quote(string(text))...)
	out.Result(wire.AppendResult(nil, id, append(append(append(result, `}],"structuredContent":`...), text...), '}')))
}

// noteSearch records a search: of no server, and by no rule.
func (d searches) noteSearch(ctx context.Context, c *carry.Caller, asked []byte, begun time.Time) {
	e := &journal.Entry{Call: team.Call{
		At: begun, Agent: c.Agent.Name, Person: c.Agent.Owner, Tool: snapshot.FindTools, Decision: team.DecisionAdmit,
		Outcome: team.OutcomeOK, Micros: time.Since(begun).Microseconds(), BytesIn: len(asked),
	}}
	e.Args = d.recorder.Keep(asked)
	if c.Session != nil {
		e.Session = c.Session.Id[:8]
	}
	if err := d.recorder.Record(context.WithoutCancel(ctx), e); err != nil {
		d.o.Log.ErrorContext(ctx, "a search could not be recorded", "error", err)
	}
}
