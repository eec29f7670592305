package carry

import (
	"encoding/json"

	"bouncer/internal/core/trace"
	"bouncer/internal/core/wire"
)

// traceParent is what a request says of the trace that it belongs to: in its own metadata, as
// the protocol has it (MCP 2026-07-28, reserved keys of _meta), or else in the headers of HTTP.
func traceParent(c *Caller, body []byte, p wire.Params) trace.Parent {
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
