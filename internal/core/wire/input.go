package wire

import "encoding/json"

// InputRequired is a result that wants input before it is complete (MCP 2026-07-28,
// multi-round-trip requests). info is the name and version of whoever asks, raw.
func InputRequired(questions map[string]json.RawMessage, state string, info []byte) []byte {
	// Raw JSON that was read before, and texts, cannot fail to be written.
	raw, _ := json.Marshal(map[string]any{
		"resultType": "input_required", "inputRequests": questions, "requestState": state,
		"_meta": map[string]any{MetaServer: json.RawMessage(info)},
	})
	return raw
}

// EmbeddedRequest is a server's request as it is embedded in a result. The id of an
// elicitation does not exist in this era.
func EmbeddedRequest(frame []byte, f Frame) []byte {
	q := map[string]any{"method": f.Method}
	if !f.Params.Empty() {
		var p map[string]json.RawMessage
		// The frame was read before, so its params are an object.
		_ = json.Unmarshal(f.Params.Of(frame), &p)
		delete(p, "elicitationId")
		delete(p, "_meta")
		delete(p, "task")
		q["params"] = p
	}
	raw, _ := json.Marshal(q)
	return raw
}
