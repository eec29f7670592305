package exam

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/santhosh-tekuri/jsonschema/v6"

	"bouncer/internal/core/evidence"
)

// callTool calls the tool that was asked for.
func (r *Run) callTool(ctx context.Context, c Speaker, list []json.RawMessage) {
	t := r.Target.Call
	call := &evidence.Call{Tool: t.Tool, Limit: r.Options.MessageLimit}
	r.Evidence.Call = call
	began := time.Now()
	tool, ok := find(list, t.Tool)
	if !ok {
		call.NoSuch = true
		r.Stage("call", Failed, 0, "there is no tool "+t.Tool)
		return
	}
	arguments := t.Arguments
	if len(arguments) == 0 {
		arguments = []byte("{}")
	}
	call.Unfit = unfit(tool.Input, arguments)
	params, err := json.Marshal(map[string]any{"name": t.Tool, "arguments": json.RawMessage(arguments)})
	if err != nil {
		call.Unfit = "they are no JSON"
		r.Stage("call", Failed, 0, "the arguments are no JSON")
		return
	}
	for range max(1, min(t.Times, MaxTimes)) {
		r.Tell("call", "calling "+t.Tool)
		a, frame := c.Ask(ctx, "tools/call", params)
		call.Times++
		call.Step, call.Status, call.Body, call.Bytes = a.Step, a.Status, a.Body, a.Bytes
		call.Error, call.Ended = a.Error, a.Ended
		if call.Status == http.StatusOK {
			call.Status = 0
		}
		if a.Header != nil {
			call.Retry = a.Header["Retry-After"]
		}
		if call.Cut = a.Bytes > r.Options.MessageLimit; call.Cut {
			break
		}
		r.result(call, frame, tool.Output)
		if call.Error != nil || call.Failed || call.Step.Failed() || call.Ended || call.Status >= 300 || call.Output != "" {
			break
		}
		call.Good++
	}
	outcome := OK
	if call.Good < call.Times {
		outcome = Failed
	}
	r.Stage("call", outcome, time.Since(began), fmt.Sprintf("%s was called %d times, %d well", t.Tool, call.Times, call.Good))
}

// maxText is how much of each text of a result is looked at, in bytes.
const maxText = 4 << 10

// listed is what matters of a tool for a call.
type listed struct {
	Name   string          `json:"name"`
	Input  json.RawMessage `json:"inputSchema"`
	Output json.RawMessage `json:"outputSchema"`
}

func find(list []json.RawMessage, name string) (listed, bool) {
	for _, raw := range list {
		var t listed
		if json.Unmarshal(raw, &t) == nil && t.Name == name {
			return t, true
		}
	}
	return listed{}, false
}

// result reads the result of a call.
func (r *Run) result(call *evidence.Call, frame []byte, output json.RawMessage) {
	var m struct {
		Result struct {
			IsError    bool                    `json:"isError"`
			Content    []struct{ Text string } `json:"content"`
			Structured json.RawMessage         `json:"structuredContent"`
		} `json:"result"`
	}
	if frame == nil || json.Unmarshal(frame, &m) != nil {
		return
	}
	call.Failed = m.Result.IsError
	var text []string
	for _, c := range m.Result.Content {
		text = append(text, c.Text[:min(len(c.Text), maxText)]) // no more is told
	}
	call.Text = r.Short(strings.Join(text, " "))
	if call.Failed || call.Error != nil || len(output) == 0 || string(output) == "null" {
		return
	}
	if len(m.Result.Structured) == 0 {
		call.Output = "there is no structured content"
		return
	}
	call.Output = unfit(output, m.Result.Structured)
}

// unfit says why a value does not fit a schema; "" when it does, or when the schema is
// none that can be used.
func unfit(schema, value []byte) string {
	if len(schema) == 0 {
		return ""
	}
	doc, err := jsonschema.UnmarshalJSON(strings.NewReader(string(schema)))
	if err != nil {
		return ""
	}
	compiler := jsonschema.NewCompiler()
	compiler.UseLoader(jsonschema.SchemeURLLoader{})
	if compiler.AddResource("tool:schema", doc) != nil {
		return ""
	}
	s, err := compiler.Compile("tool:schema")
	if err != nil {
		return ""
	}
	v, err := jsonschema.UnmarshalJSON(strings.NewReader(string(value)))
	if err != nil {
		return "it is no JSON"
	}
	if err := s.Validate(v); err != nil {
		lines := strings.Split(strings.TrimSpace(err.Error()), "\n")
		return evidence.Quoted([]byte(strings.TrimLeft(lines[len(lines)-1], "- ")))
	}
	return ""
}
