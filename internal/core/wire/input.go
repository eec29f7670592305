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
// elicitation does not exist in this era. It has params also where the server sent none, as it may
// for the roots: there are agents that read them unasked.
func EmbeddedRequest(frame []byte, f Frame) []byte {
	params := map[string]json.RawMessage{}
	if !f.Params.Empty() {
		// The frame was read before, so its params are an object.
		_ = json.Unmarshal(f.Params.Of(frame), &params)
	}
	for _, name := range []string{"elicitationId", "_meta", "task"} {
		delete(params, name)
	}
	raw, _ := json.Marshal(map[string]any{"method": f.Method, "params": params})
	return raw
}
