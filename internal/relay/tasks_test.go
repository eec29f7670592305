package relay_test

import (
	"io"
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/core/wire"
	"bouncer/internal/testkit"
)

// A task belongs to the session whose call began it.
func TestTasksBelongToTheirSession(t *testing.T) {
	t.Parallel()
	w, s, pass := acted(t, func(c *testkit.ScriptCall) {
		switch c.Method {
		case "tools/call":
			if !strings.Contains(string(c.Params), `"task":{"ttl":60000}`) {
				c.Text("done at once")
				return
			}
			c.Notify("notifications/tasks/status", `{"taskId":"t-7","status":"working"}`)
			c.Return(`{"task":{"taskId":"t-7","status":"working","ttl":60000}}`)
		case "tasks/get":
			c.Return(`{"taskId":"t-7","status":"completed"}`)
		case "tasks/result":
			answer := c.Ask("q", "elicitation/create", `{"message":"?","requestedSchema":{}}`)
			c.Text("the result, after " + answer)
		case "tasks/cancel":
			c.Return(`{"taskId":"t-7","status":"cancelled"}`)
		}
	})
	s.Capabilities = `{"tools":{},"tasks":{"list":{},"cancel":{},"requests":{"tools":{"call":{}}}}}`
	s.Results["tools/list"] = `{"tools":[{"name":"act","inputSchema":{"type":"object"},"execution":{"taskSupport":"optional"}},{"name":"slow","inputSchema":{"type":"object"},"execution":{"taskSupport":"required"}}]}`
	w.Must("DELETE", "/api/servers/act", nil, nil)
	w.Register("act", testkit.Upstream(t, s), "")
	agent := w.Able("/mcp", pass, wire.Rev20251125, `{"elicitation":{}}`)
	_, hello := (&testkit.Raw{T: t, URL: agent.URL, Pass: pass}).Post(
		`{"jsonrpc":"2.0","id":1,"method":"initialize","params":{"protocolVersion":"2025-11-25","capabilities":{}}}`,
	)
	assert.Contains(t, hello, `"tasks":{"cancel":{},"requests":{"tools":{"call":{}}}}`)
	_, hello = (&testkit.Raw{T: t, URL: agent.URL, Pass: pass}).Post(
		`{"jsonrpc":"2.0","id":1,"method":"initialize","params":{"protocolVersion":"2025-06-18","capabilities":{}}}`,
	)
	assert.NotContains(t, hello, "tasks", "which older revisions do not have")
	ask := func(r *testkit.Raw, method, id string) string {
		_, text := r.Post(`{"jsonrpc":"2.0","id":2,"method":"` + method + `","params":{"taskId":"` + id + `"}}`)
		return text
	}
	assert.Equal(t, wire.CodeInvalidParams, failure(t, ask(agent, "tasks/get", "t-7")).Code, "before it is begun there is none")
	_, text := agent.Post(`{"jsonrpc":"2.0","id":1,"method":"tools/call","params":{"name":"act__act","task":{"ttl":60000}}}`)
	assert.Contains(t, text, `"task":{"taskId":"t-7","status":"working","ttl":60000}`)
	assert.Contains(t, text, "notifications/tasks/status")
	assert.Contains(t, ask(agent, "tasks/get", "t-7"), `"status":"completed"`)
	var last string
	for ev := range agent.Open(t.Context(), `{"jsonrpc":"2.0","id":3,"method":"tasks/result","params":{"taskId":"t-7"}}`) {
		if last = ev; strings.Contains(ev, "elicitation/create") {
			id := ev[strings.Index(ev, `"id":"`)+6:]
			agent.Post(`{"jsonrpc":"2.0","id":"` + id[:strings.Index(id, `"`)] + `","result":{"action":"decline"}}`)
		}
	}
	assert.Contains(t, result(t, last).Content[0].Text, `{"action":"decline"}`, "what the task asks reaches its agent")
	assert.Contains(t, ask(agent, "tasks/cancel", "t-7"), "cancelled")
	assert.Equal(t, wire.CodeMethodNotFound, failure(t, ask(agent, "tasks/list", "t-7")).Code)
	other := w.Able("/mcp", pass, wire.Rev20251125, `{"elicitation":{}}`)
	before := len(s.Seen("tasks/get"))
	assert.Equal(t, wire.CodeInvalidParams, failure(t, ask(other, "tasks/get", "t-7")).Code, "not another session's")
	assert.Len(t, s.Seen("tasks/get"), before)
	free := &testkit.Raw{T: t, URL: w.Base + "/mcp", Pass: pass, Header: http.Header{}}
	_, text = free.Stateless("tools/list", "", "{}")
	assert.Contains(t, text, "act__act")
	assert.NotContains(t, text, "act__slow", "what can only be a task is not offered where there are none")
	assert.NotContains(t, text, "execution")
	_, text = free.Stateless("tools/call", `"name":"act__act","arguments":{}`, "{}")
	require.Equal(t, "done at once", result(t, text).Content[0].Text)
}

// The extension of the stateless era passes as it is, for the agent that began
// the task.
func TestTasksOfTheExtension(t *testing.T) {
	t.Parallel()
	var seen []string
	w := testkit.Start(t, nil)
	url := testkit.Upstream(t, http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		raw, _ := io.ReadAll(r.Body)
		f, err := wire.ReadFrame(raw)
		if err != nil || f.Kind != wire.Request {
			rw.WriteHeader(http.StatusAccepted)
			return
		}
		seen = append(seen, r.Header.Get("Mcp-Method")+" "+r.Header.Get("Mcp-Name"))
		rw.Header().Set("Content-Type", "application/json")
		answer := map[string]string{
			"server/discover": `{"resultType":"complete","supportedVersions":["2026-07-28"],"capabilities":{"tools":{},"extensions":{"io.modelcontextprotocol/tasks":{}}}}`,
			"tools/list":      `{"resultType":"complete","tools":[{"name":"act","inputSchema":{"type":"object"}}]}`,
			"tools/call":      `{"resultType":"complete","content":[{"type":"text","text":"at once"}]}`,
			"tasks/get":       `{"resultType":"complete","taskId":"t-7","status":"input_required","inputRequests":{"q":{"method":"roots/list"}}}`,
			"tasks/update":    `{"resultType":"complete"}`,
		}[f.Method]
		if f.Method == "tools/call" && strings.Contains(string(raw), `"io.modelcontextprotocol/tasks":{}`) {
			answer = `{"resultType":"task","taskId":"t-7","status":"working","ttlMs":600000}`
		}
		_, _ = io.WriteString(rw, `{"jsonrpc":"2.0","id":`+string(f.ID.Of(raw))+`,"result":`+answer+`}`)
	}))
	w.Register("act", url, "")
	w.Rule("admit", "*", "*", "*")
	const able = `{"roots":{},"extensions":{"io.modelcontextprotocol/tasks":{}}}`
	agent := &testkit.Raw{T: t, URL: w.Base + "/mcp", Pass: w.Agent("marit-quill"), Header: http.Header{}}
	_, text := agent.Stateless("server/discover", "", able)
	assert.Contains(t, text, `"extensions":{"io.modelcontextprotocol/tasks":{}}`)
	_, text = agent.Stateless("tools/call", `"name":"act__act","arguments":{}`, able)
	assert.Contains(t, text, `"resultType":"task","taskId":"t-7"`)
	agent.Header.Set("Mcp-Name", "t-7")
	_, text = agent.Stateless("tasks/get", `"taskId":"t-7"`, able)
	assert.Contains(t, text, `"inputRequests":{"q":{"method":"roots/list"}}`)
	_, text = agent.Stateless("tasks/update", `"taskId":"t-7","inputResponses":{"q":{"roots":[]}}`, able)
	assert.Contains(t, text, `"result":{"resultType":"complete"`)
	assert.Contains(t, seen, "tasks/update t-7", "headers are made anew for this hop")
	res, text := agent.Stateless("tasks/get", `"taskId":"t-7"`, "{}")
	assert.Equal(t, 400, res.StatusCode)
	assert.Equal(t, wire.CodeNoCapability, failure(t, text).Code)
	res, _ = agent.Stateless("tasks/result", `"taskId":"t-7"`, able)
	assert.Equal(t, 404, res.StatusCode, "which the extension does not have")
	other := &testkit.Raw{T: t, URL: agent.URL, Pass: w.Agent("joss-quill"), Header: http.Header{"Mcp-Name": {"t-7"}}}
	_, text = other.Stateless("tasks/get", `"taskId":"t-7"`, able)
	assert.Equal(t, wire.CodeInvalidParams, failure(t, text).Code, "another agent's task is none")
	w.Register("elsewhere", testkit.Upstream(t, testkit.Echo("", nil)), "")
	agent.URL = w.Base + "/mcp/elsewhere"
	_, text = agent.Stateless("tasks/get", `"taskId":"t-7"`, able)
	assert.Equal(t, wire.CodeInvalidParams, failure(t, text).Code, "nor one of another address, for which a token may not be")
	agent.URL = w.Base + "/mcp/act"
	_, text = agent.Stateless("tasks/get", `"taskId":"t-7"`, able)
	assert.Contains(t, text, `"inputRequests"`)
	agent.URL = w.Base + "/mcp"
	w.Rule("refuse", "*", "*", "act")
	_, text = agent.Stateless("tasks/get", `"taskId":"t-7"`, able)
	assert.Equal(t, wire.CodeInvalidParams, failure(t, text).Code, "what is refused is refused from then on")
	session := w.Able("/mcp", agent.Pass, wire.Rev20251125, "{}")
	assert.NotNil(t, session)
}
