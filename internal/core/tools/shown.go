package tools

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"

	"bouncer/internal/core/wire"
)

// Shown is what an agent is shown of a tool instead of what its server says; empty
// fields leave that.
type Shown struct {
	Title, Description string
	Input, Output      json.RawMessage
	// NoOutput is set when no output schema is to be shown.
	NoOutput bool
}

// As returns the tool as it is shown, with a fingerprint of its own. A description that
// is no object is left as it is.
func (t Tool) As(s Shown) Tool {
	var d map[string]json.RawMessage
	if json.Unmarshal(t.Raw, &d) != nil || d == nil {
		return t
	}
	if s.Title != "" {
		d["title"] = wire.Quote(s.Title)
		var notes map[string]json.RawMessage
		if json.Unmarshal(d["annotations"], &notes) == nil && notes["title"] != nil {
			notes["title"] = d["title"]
			// What was read from JSON can be written.
			d["annotations"], _ = json.Marshal(notes)
		}
	}
	if s.Description != "" {
		d["description"] = wire.Quote(s.Description)
	}
	if s.Input != nil {
		d["inputSchema"] = s.Input
	}
	if s.Output != nil {
		d["outputSchema"] = s.Output
	}
	if s.NoOutput {
		delete(d, "outputSchema")
	}
	raw, err := json.Marshal(d)
	if err != nil {
		return t
	}
	sum := sha256.Sum256(raw)
	t.Raw, t.Fingerprint = raw, hex.EncodeToString(sum[:16])
	return t
}

// Member returns a member of the tool's description; nil for none.
func (t Tool) Member(name string) json.RawMessage {
	at := wire.Member(t.Raw, wire.Span{Start: 0, End: len(t.Raw)}, name)
	if at.Empty() {
		return nil
	}
	return at.Of(t.Raw)
}

// Hints are what the tool says of itself (MCP, ToolAnnotations); nil for what it does not
// say.
func (t Tool) Hints() (readOnly, destructive, idempotent, openWorld *bool) {
	at := wire.Member(t.Raw, wire.Span{Start: 0, End: len(t.Raw)}, "annotations")
	if at.Empty() {
		return nil, nil, nil, nil
	}
	read := func(name string) *bool {
		var said bool
		switch string(wire.Member(t.Raw, at, name).Of(t.Raw)) {
		case "true":
			said = true
		case "false":
		default:
			return nil
		}
		return &said
	}
	return read("readOnlyHint"), read("destructiveHint"), read("idempotentHint"), read("openWorldHint")
}
