package tryout

import (
	"encoding/json"
)

// draft is an answer to each question of a server, to begin with: whoever tries alters it
// and gives it. It is nil for questions that cannot be read.
func draft(asks json.RawMessage) json.RawMessage {
	var questions map[string]struct {
		Method string `json:"method"`
		Params struct {
			Schema struct {
				Properties map[string]property `json:"properties"`
			} `json:"requestedSchema"`
		} `json:"params"`
	}
	if json.Unmarshal(asks, &questions) != nil {
		return nil
	}
	out := map[string]any{}
	for name, q := range questions {
		switch q.Method {
		case "sampling/createMessage":
			out[name] = map[string]any{
				"role": "assistant", "model": "by hand", "stopReason": "endTurn", "content": map[string]string{"type": "text", "text": ""},
			}
		case "roots/list":
			out[name] = map[string]any{"roots": []any{}}
		default: // an elicitation
			content := map[string]any{}
			for field, p := range q.Params.Schema.Properties {
				content[field] = p.first()
			}
			out[name] = map[string]any{"action": "accept", "content": content}
		}
	}
	raw, err := json.Marshal(out)
	if err != nil {
		return nil
	}
	return raw
}

// property is what an elicitation asks for in one field.
type property struct {
	Type    string `json:"type"`
	Default any    `json:"default"`
	Enum    []any  `json:"enum"`
	OneOf   []struct {
		Const any `json:"const"`
	} `json:"oneOf"`
}

// first is a value to begin with.
func (p property) first() any {
	switch {
	case p.Default != nil:
		return p.Default
	case len(p.Enum) > 0:
		return p.Enum[0]
	case len(p.OneOf) > 0:
		return p.OneOf[0].Const
	}
	switch p.Type {
	case "boolean":
		return false
	case "integer", "number":
		return 0
	case "array":
		return []any{}
	}
	return ""
}
