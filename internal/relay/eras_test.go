package relay_test

import (
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/core/wire"
	"bouncer/internal/testkit"
	"bouncer/standin/ferries"
)

// acted is a world with a scripted server, act, that an agent reaches.
func acted(t *testing.T, call func(*testkit.ScriptCall)) (*testkit.World, *testkit.Script, string) {
	w := testkit.Start(t, nil)
	s := testkit.NewScript(t)
	s.Call = call
	w.Register("act", testkit.Upstream(t, s), "")
	w.Rule("admit", "*", "*", "*")
	return w, s, w.Agent("marit-quill")
}

const actCall = `{"jsonrpc":"2.0","id":"mine","method":"tools/call","params":{"name":"act","arguments":{"a":1}}}`

// result reads the result member of an answer.
func result(t *testing.T, text string) (out struct {
	ResultType    string
	RequestState  string
	IsError       bool
	Content       []struct{ Text string }
	InputRequests map[string]struct {
		Method string
		Params map[string]any
	}
}) {
	t.Helper()
	var m struct{ Result, Error json.RawMessage }
	require.NoError(t, json.Unmarshal([]byte(text), &m), text)
	require.NotEmpty(t, m.Result, text)
	require.NoError(t, json.Unmarshal(m.Result, &out), text)
	return out
}

func failure(t *testing.T, text string) (out struct {
	Code    int
	Message string
	Data    map[string]any
}) {
	t.Helper()
	var m struct{ Error json.RawMessage }
	require.NoError(t, json.Unmarshal([]byte(text), &m), text)
	require.NotEmpty(t, m.Error, text)
	require.NoError(t, json.Unmarshal(m.Error, &out), text)
	return out
}

func TestStatelessEnvelopeAndHeadersAreHeldAgainstTheBody(t *testing.T) {
	t.Parallel()
	w, _, pass, _ := start(t, nil)
	w.Rule("admit", "*", "*", "*")
	const version = "io.modelcontextprotocol/protocolVersion"
	meta := `"_meta":{"` + version + `":"2026-07-28","io.modelcontextprotocol/clientCapabilities":{}}`
	call := func(params string) string {
		return `{"jsonrpc":"2.0","id":3,"method":"tools/call","params":{"name":"echo","arguments":{},` + params + `}}`
	}
	plain := http.Header{"Mcp-Protocol-Version": {"2026-07-28"}, "Mcp-Method": {"tools/call"}, "Mcp-Name": {"echo"}}
	with := func(name string, values ...string) http.Header {
		h := plain.Clone()
		h[name] = values
		return h
	}
	for name, row := range map[string]struct {
		body   string
		header http.Header
		status int
		code   int
	}{
		"everything fits":                       {call(meta), plain, 200, 0},
		"a name in base64":                      {call(meta), with("Mcp-Name", "=?base64?ZWNobw==?="), 200, 0},
		"no header of the revision":             {call(meta), with("Mcp-Protocol-Version"), 400, wire.CodeHeaderMismatch},
		"another revision in the header":        {call(meta), with("Mcp-Protocol-Version", "2025-11-25"), 400, wire.CodeHeaderMismatch},
		"no method header":                      {call(meta), with("Mcp-Method"), 400, wire.CodeHeaderMismatch},
		"another method":                        {call(meta), with("Mcp-Method", "tools/list"), 400, wire.CodeHeaderMismatch},
		"a method in another case":              {call(meta), with("Mcp-Method", "Tools/Call"), 400, wire.CodeHeaderMismatch},
		"another name":                          {call(meta), with("Mcp-Name", "fail"), 400, wire.CodeHeaderMismatch},
		"a name twice":                          {call(meta), with("Mcp-Name", "echo", "echo"), 400, wire.CodeHeaderMismatch},
		"a name in broken base64":               {call(meta), with("Mcp-Name", "=?base64?*?="), 400, wire.CodeHeaderMismatch},
		"no capabilities":                       {call(`"_meta":{"` + version + `":"2026-07-28"}`), plain, 400, wire.CodeInvalidParams},
		"capabilities that are none":            {call(`"_meta":{"` + version + `":"2026-07-28","io.modelcontextprotocol/clientCapabilities":[]}`), plain, 400, wire.CodeInvalidParams},
		"a revision that is no text":            {call(`"_meta":{"` + version + `":1,"io.modelcontextprotocol/clientCapabilities":{}}`), plain, 400, wire.CodeInvalidParams},
		"a later revision":                      {strings.ReplaceAll(call(meta), "2026-07-28", "2027-01-01"), with("Mcp-Protocol-Version", "2027-01-01"), 400, wire.CodeNoRevision},
		"a revision that is none":               {strings.ReplaceAll(call(meta), "2026-07-28", "v999.0.0"), with("Mcp-Protocol-Version", "v999.0.0"), 400, wire.CodeNoRevision},
		"no envelope, but the header":           {call(`"_meta":{}`), plain, 400, wire.CodeInvalidParams},
		"initialize under a stateless header":   {`{"jsonrpc":"2.0","id":3,"method":"initialize","params":{"protocolVersion":"2025-11-25"}}`, with("Mcp-Method", "initialize"), 400, wire.CodeHeaderMismatch},
		"a method that the revision has not":    {strings.Replace(call(meta), "tools/call", "ping", 1), with("Mcp-Method", "ping"), 404, wire.CodeMethodNotFound},
		"a removed method without its params":   {`{"jsonrpc":"2.0","id":3,"method":"resources/subscribe","params":{` + meta + `}}`, with("Mcp-Method", "resources/subscribe"), 404, wire.CodeMethodNotFound},
		"a batch":                               {"[" + call(meta) + "]", plain, 400, wire.CodeInvalidRequest},
		"a name that is missing in the body":    {strings.Replace(call(meta), `"name":"echo",`, "", 1), plain, 400, wire.CodeHeaderMismatch},
		"a session id, which means nothing now": {call(meta), with("Mcp-Session-Id", "whatever"), 200, 0},
	} {
		t.Run(name, func(t *testing.T) {
			r := &testkit.Raw{T: t, URL: w.Base + "/mcp/echo", Pass: pass, Header: row.header}
			res, text := r.Post(row.body)
			assert.Equal(t, row.status, res.StatusCode, text)
			if row.code == 0 {
				assert.Contains(t, text, `"resultType":"complete"`)
				assert.Empty(t, res.Header.Get("Mcp-Session-Id"))
				return
			}
			got := failure(t, text)
			assert.Equal(t, row.code, got.Code, text)
			if row.code == wire.CodeNoRevision {
				assert.Equal(t, []any{"2026-07-28"}, got.Data["supported"])
				assert.NotEmpty(t, got.Data["requested"])
			}
		})
	}
	r := &testkit.Raw{T: t, URL: w.Base + "/mcp/echo", Pass: pass, Header: plain}
	res, _ := r.Post(`{"jsonrpc":"2.0","method":"notifications/cancelled","params":{"requestId":3}}`)
	assert.Equal(t, 202, res.StatusCode, "a notification is taken and means nothing")
	res, err := http.DefaultClient.Do(r.Request(t.Context(), "GET", ""))
	require.NoError(t, err)
	defer res.Body.Close()
	assert.Equal(t, 405, res.StatusCode)
	assert.Equal(t, "POST", res.Header.Get("Allow"))
}

func TestMirroredArgumentsAreCheckedBothWays(t *testing.T) {
	t.Parallel()
	w, s, pass := acted(t, func(c *testkit.ScriptCall) { c.Text("done") })
	s.Results["tools/list"] = `{"tools":[{"name":"act","inputSchema":{"type":"object","properties":{"region":{"type":"string","x-mcp-header":"Region"},"n":{"type":"integer","x-mcp-header":"Count"}}}}]}`
	w.Must("POST", "/api/servers/act/check", nil, nil)
	agent := &testkit.Raw{T: t, URL: w.Base + "/mcp/act", Pass: pass}
	require.Eventually(t, func() bool {
		_, text := agent.Stateless("tools/list", "", "{}")
		return strings.Contains(text, "x-mcp-header")
	}, 15*time.Second, 20*time.Millisecond)
	for name, row := range map[string]struct {
		args   string
		header http.Header
		status int
	}{
		"sent as they are":         {`{"region":"north","n":7}`, http.Header{"Mcp-Param-Region": {"north"}, "Mcp-Param-Count": {"7"}}, 200},
		"left out on both sides":   {`{}`, http.Header{}, 200},
		"null is left out":         {`{"region":null}`, http.Header{}, 200},
		"an integer, another way":  {`{"n":7.0}`, http.Header{"Mcp-Param-Count": {"7"}}, 200},
		"in base64":                {`{"region":"Zürich"}`, http.Header{"Mcp-Param-Region": {"=?base64?WsO8cmljaA==?="}}, 200},
		"an empty one":             {`{"region":""}`, http.Header{"Mcp-Param-Region": {"=?base64??="}}, 200},
		"another value":            {`{"region":"north"}`, http.Header{"Mcp-Param-Region": {"south"}}, 400},
		"a missing header":         {`{"region":"north"}`, http.Header{}, 400},
		"a header without its arg": {`{}`, http.Header{"Mcp-Param-Region": {"north"}}, 400},
		"broken base64":            {`{"region":"north"}`, http.Header{"Mcp-Param-Region": {"=?base64?!?="}}, 400},
	} {
		t.Run(name, func(t *testing.T) {
			agent := &testkit.Raw{T: t, URL: agent.URL, Pass: pass, Header: row.header}
			res, text := agent.Stateless("tools/call", `"name":"act","arguments":`+row.args, "{}")
			assert.Equal(t, row.status, res.StatusCode, text)
			if row.status == 400 {
				assert.Equal(t, wire.CodeHeaderMismatch, failure(t, text).Code)
			}
		})
	}
}

// A server with sessions asks an agent without one: the call is parked, and the
// answer comes with the next request.
func TestQuestionsOfAServerParkTheCallOfAStatelessAgent(t *testing.T) {
	t.Parallel()
	calls := 0
	w, s, pass := acted(t, func(c *testkit.ScriptCall) {
		calls++
		first := c.Ask("q", "elicitation/create", `{"message":"Sure?","requestedSchema":{"type":"object"},"elicitationId":"e1"}`)
		second := c.Ask("r", "roots/list", `{}`)
		c.Text(first + " and " + second)
	})
	agent := &testkit.Raw{T: t, URL: w.Base + "/mcp/act", Pass: pass}
	const able = `{"elicitation":{"form":{}},"roots":{}}`
	const call = `"name":"act","arguments":{"a":1}`
	_, text := agent.Stateless("tools/call", call, able)
	asked := result(t, text)
	require.Equal(t, "input_required", asked.ResultType)
	require.Len(t, asked.InputRequests, 1)
	q := asked.InputRequests["q1"]
	assert.Equal(t, "elicitation/create", q.Method)
	assert.Equal(t, "Sure?", q.Params["message"])
	assert.NotContains(t, q.Params, "elicitationId", "which this era does not have")

	again := func(state, answers, call string) (int, string) {
		res, text := agent.Stateless("tools/call", call+`,"requestState":`+string(wire.Quote(state))+`,"inputResponses":`+answers, able)
		return res.StatusCode, text
	}
	yes := `{"q1":{"action":"accept","content":{"sure":true}}}`
	for name, row := range map[string]struct{ state, call string }{
		"a forged state":      {strings.Replace(asked.RequestState, "parked.", "parked.0", 1), call},
		"a cut state":         {asked.RequestState[:20], call},
		"other arguments":     {asked.RequestState, `"name":"act","arguments":{"a":2}`},
		"a state of its own":  {"parked.x.y.z", call},
		"one that is a guess": {"anything", call},
	} {
		_, text := again(row.state, yes, row.call)
		assert.Equal(t, wire.CodeInvalidParams, failure(t, text).Code, name)
	}
	other := &testkit.Raw{T: t, URL: agent.URL, Pass: w.Agent("joss-quill")}
	_, text = other.Stateless("tools/call", call+`,"requestState":`+string(wire.Quote(asked.RequestState))+`,"inputResponses":`+yes, able)
	assert.Equal(t, wire.CodeInvalidParams, failure(t, text).Code, "another agent's state opens nothing")

	_, text = again(asked.RequestState, `{}`, call)
	repeated := result(t, text)
	assert.Equal(t, "input_required", repeated.ResultType, "without its answer it is asked again")
	_, text = again(asked.RequestState, yes, call)
	assert.Equal(t, wire.CodeInvalidParams, failure(t, text).Code, "a state is good for one round")
	_, text = again(repeated.RequestState, yes, call)
	next := result(t, text)
	require.Equal(t, "roots/list", next.InputRequests["q1"].Method)
	_, text = again(next.RequestState, `{"q1":{"roots":[]},"unasked":{}}`, call)
	done := result(t, text)
	require.Equal(t, "complete", done.ResultType, text)
	assert.Contains(t, done.Content[0].Text, `"sure":true`)
	assert.Contains(t, done.Content[0].Text, `{"roots":[]}`)
	assert.Equal(t, 1, calls, "the call was never started again")
	assert.Len(t, s.Seen("tools/call"), 1)
	c := w.Calls(1, "tool=act&outcome=ok")[0]
	assert.Equal(t, "joss-quill marit-quill"[11:], c.Agent)
}

// What an agent did not declare is not asked of it.
func TestUndeclaredQuestionsAreRefused(t *testing.T) {
	t.Parallel()
	w, _, pass := acted(t, func(c *testkit.ScriptCall) {
		c.Text(
			c.Ask("q", "sampling/createMessage", `{"messages":[],"maxTokens":1}`) + c.Ask("p", "ping", `{}`) + c.Ask("x", "tea/brew", `{}`),
		)
	})
	for name, caps := range map[string]string{"nothing": "{}", "something else": `{"elicitation":{}}`} {
		t.Run(name, func(t *testing.T) {
			agent := &testkit.Raw{T: t, URL: w.Base + "/mcp/act", Pass: pass}
			_, text := agent.Stateless("tools/call", `"name":"act","arguments":{}`, caps)
			got := result(t, text).Content[0].Text
			assert.Contains(t, got, `"id":"q","error":{"code":-32601`)
			assert.Contains(t, got, `"id":"p","result":{}`)
			assert.Contains(t, got, `"id":"x","error":{"code":-32601`)
			got = w.Able("/mcp/act", pass, wire.Rev20250618, caps).Ask(actCall).Result.Content[0].Text
			assert.Contains(t, got, `"id":"q","error":{"code":-32601`)
			assert.Contains(t, got, `"id":"p","result":{}`)
		})
	}
}

// An agent with a session is asked on the stream of its call, whichever stream
// the server uses, and under an id of Bouncer's own.
func TestQuestionsReachTheAgentThatIsMeant(t *testing.T) {
	t.Parallel()
	var script *testkit.Script
	w, s, pass := acted(t, func(c *testkit.ScriptCall) {
		reply := c.Expect("elsewhere")
		script.Say(
			`{"jsonrpc":"2.0","id":"elsewhere","method":"elicitation/create","params":{"message":"other stream","requestedSchema":{}}}`,
		)
		c.Text(
			c.Ask("same", "elicitation/create", `{"message":"same stream","requestedSchema":{},"_meta":{"progressToken":"p"}}`) + <-reply,
		)
	})
	script = s
	agents := []*testkit.Raw{
		w.Able("/mcp/act", pass, wire.Rev20251125, `{"elicitation":{}}`),
		w.Able("/mcp/act", w.Agent("joss-quill"), wire.Rev20250618, `{"elicitation":{}}`),
	}
	bystander := w.Able("/mcp/act", pass, wire.Rev20251125, `{"elicitation":{}}`)
	silent := bystander.Listen(t.Context())
	for i, agent := range agents {
		asked := 0
		for ev := range agent.Open(t.Context(), actCall) {
			var m struct {
				ID     string
				Method string
				Params struct{ Message string }
			}
			require.NoError(t, json.Unmarshal([]byte(ev), &m))
			if m.Method == "elicitation/create" {
				asked++
				require.NotContains(t, []string{"same", "elsewhere"}, m.ID)
				res, _ := agent.Post(
					`{"jsonrpc":"2.0","id":"` + m.ID + `","result":{"action":"accept","content":{"to":"` + m.Params.Message + fmt.Sprint(
						i,
					) + `"}}}`,
				)
				require.Equal(t, 202, res.StatusCode)
				continue
			}
			got := result(t, ev).Content[0].Text
			assert.Contains(t, got, fmt.Sprintf(`"id":"same","result":{"action":"accept","content":{"to":"same stream%d"}}`, i))
			assert.Contains(t, got, fmt.Sprintf(`"id":"elsewhere","result":{"action":"accept","content":{"to":"other stream%d"}}`, i))
		}
		assert.Equal(t, 2, asked)
	}
	assert.Empty(t, silent, "nobody else was asked")
	res, _ := bystander.Post(`{"jsonrpc":"2.0","id":"b1","result":{"action":"accept"}}`)
	assert.Equal(t, 202, res.StatusCode, "an answer that nobody waits for is dropped")
}

func TestAServerMayGiveItsQuestionUp(t *testing.T) {
	t.Parallel()
	w, _, pass := acted(t, func(c *testkit.ScriptCall) {
		c.Expect("q")
		c.Tell(`{"jsonrpc":"2.0","id":"q","method":"elicitation/create","params":{"message":"?","requestedSchema":{}}}`)
		c.Notify("notifications/cancelled", `{"requestId":"q"}`)
		c.Text("went on without")
	})
	agent := w.Able("/mcp/act", pass, wire.Rev20251125, `{"elicitation":{}}`)
	var events []string
	for ev := range agent.Open(t.Context(), actCall) {
		events = append(events, ev)
	}
	assert.Contains(t, events[len(events)-1], "went on without")
	assert.Contains(t, strings.Join(events, ""), `"notifications/cancelled","params":{"requestId":"b`)
}

// Log messages go to those who asked for that level, and to nobody else.
func TestLogMessagesAreFiltered(t *testing.T) {
	t.Parallel()
	w, s, pass := acted(t, func(c *testkit.ScriptCall) {
		c.Notify("notifications/message", `{"level":"debug","data":"small"}`)
		c.Notify("notifications/message", `{"level":"error","data":"large"}`)
		c.Text("done")
	})
	s.Capabilities = `{"tools":{},"logging":{}}`
	s.Results["logging/setLevel"] = `{}`
	w.Must("PATCH", "/api/servers/act", testkit.Obj{"paused": true}, nil)
	w.Must("PATCH", "/api/servers/act", testkit.Obj{"paused": false}, nil)
	require.Eventually(t, func() bool {
		_, raw := w.Do(w.Token, "GET", "/api/servers/act", nil)
		return strings.Contains(string(raw), `"state":"ready"`)
	}, 15*time.Second, 20*time.Millisecond)
	agent := w.Raw("/mcp/act", pass, wire.Rev20250618)
	res, text := agent.Post(actCall)
	assert.Equal(t, "application/json", res.Header.Get("Content-Type"), "without a level there are no messages: %s", text)
	assert.Equal(
		t,
		wire.CodeInvalidParams,
		agent.Ask(`{"jsonrpc":"2.0","id":1,"method":"logging/setLevel","params":{"level":"loud"}}`).Error.Code,
	)
	require.Nil(t, agent.Ask(`{"jsonrpc":"2.0","id":1,"method":"logging/setLevel","params":{"level":"warning"}}`).Error)
	_, text = agent.Post(actCall)
	assert.Contains(t, text, "large")
	assert.NotContains(t, text, "small")
	assert.NotEmpty(t, s.Seen(`"level":"warning"`), "the server was told")
	raw := &testkit.Raw{T: t, URL: agent.URL, Pass: pass}
	body := `{"jsonrpc":"2.0","id":7,"method":"tools/call","params":{"name":"act","arguments":{},"_meta":{"io.modelcontextprotocol/protocolVersion":"2026-07-28","io.modelcontextprotocol/clientCapabilities":{},"io.modelcontextprotocol/logLevel":"debug"}}}`
	raw.Header = http.Header{"Mcp-Protocol-Version": {"2026-07-28"}, "Mcp-Method": {"tools/call"}, "Mcp-Name": {"act"}}
	_, text = raw.Post(body)
	assert.Contains(t, text, "small")
	assert.Contains(t, text, "large")
}

// A lost stream can be taken up again where it ended, and the call is never
// repeated.
func TestStreamsAreResumed(t *testing.T) {
	t.Parallel()
	release := make(chan struct{})
	w, s, pass := acted(t, func(c *testkit.ScriptCall) {
		c.Notify("notifications/progress", `{"progressToken":`+c.Token+`,"progress":1}`)
		<-release
		c.Text("after all")
	})
	agent := w.Raw("/mcp/act", pass, wire.Rev20251125)
	req := agent.Request(
		t.Context(),
		"POST",
		`{"jsonrpc":"2.0","id":1,"method":"tools/call","params":{"_meta":{"progressToken":"t"},"name":"act"}}`,
	)
	res, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	events := wire.NewEventReader(res.Body, 1<<20)
	prime, err := events.Next()
	require.NoError(t, err)
	require.NotEmpty(t, prime.ID)
	progress, err := events.Next()
	require.NoError(t, err)
	assert.Contains(t, string(progress.Data), `"progressToken":"t"`)
	id := progress.ID
	require.NotEqual(t, prime.ID, id)
	_ = res.Body.Close() // the agent's network fails
	close(release)
	resume := func(after string) (*http.Response, string) {
		again := *agent
		again.Header = http.Header{"Last-Event-Id": {after}}
		res, err := http.DefaultClient.Do(again.Request(t.Context(), "GET", ""))
		require.NoError(t, err)
		defer res.Body.Close()
		out := ""
		if res.StatusCode != 200 {
			return res, out
		}
		for events := wire.NewEventReader(res.Body, 1<<20); ; {
			ev, err := events.Next()
			if err != nil {
				return res, out
			}
			out += string(ev.Data)
		}
	}
	_, text := resume(id)
	assert.Contains(t, text, "after all")
	assert.NotContains(t, text, "progress", "only what followed")
	_, text = resume(prime.ID)
	assert.Contains(t, text, "progress", "it can be taken up at any event that is kept")
	// A stream that was begun elsewhere, or before a start: the request gets the answer that is true.
	_, text = resume("7-3-" + base64.RawURLEncoding.EncodeToString([]byte("12")))
	assert.Contains(t, text, `"id":12,"error"`)
	assert.Contains(t, text, "whether the tool ran is not known")
	assert.Contains(t, text, `"reason":"outcome-unknown"`)
	forged := base64.RawURLEncoding.EncodeToString([]byte(`1,"x":{}`))
	number, _, _ := strings.Cut(id, "-")
	for _, bad := range []string{"999-0", "x", "1-99", "-1--1", "7-3-" + forged, "7-3-?", number + "-99-MQ"} {
		res, _ := resume(bad)
		assert.Equal(t, 400, res.StatusCode, bad)
	}
	assert.Len(t, s.Seen("tools/call"), 1)
	older := w.Raw("/mcp/act", pass, wire.Rev20250618)
	_, text = older.Post(`{"jsonrpc":"2.0","id":1,"method":"tools/call","params":{"_meta":{"progressToken":"t"},"name":"act"}}`)
	assert.NotContains(t, text, "id: ", "older agents stumble over ids and empty events")
}

// A server may break off its stream and have the client come back; the agent is
// told the same, if its revision has that, and waits with nothing open.
func TestAnInterruptionIsPassedOn(t *testing.T) {
	t.Parallel()
	w, s, pass := acted(t, func(c *testkit.ScriptCall) { c.Interrupt(20 * time.Millisecond) })
	s.Again = func(c *testkit.ScriptCall) {
		c.Notify("notifications/progress", `{"progressToken":`+c.Token+`,"progress":1}`)
		c.Text("the rest")
	}
	agent := w.Raw("/mcp/act", pass, wire.Rev20251125)
	const body = `{"jsonrpc":"2.0","id":1,"method":"tools/call","params":{"_meta":{"progressToken":"t"},"name":"act"}}`
	res, err := http.DefaultClient.Do(agent.Request(t.Context(), "POST", body))
	require.NoError(t, err)
	events := wire.NewEventReader(res.Body, 1<<20)
	prime, err := events.Next()
	require.NoError(t, err)
	retry, err := events.Next()
	require.NoError(t, err)
	assert.Equal(t, 20, retry.Retry)
	_, err = events.Next()
	require.ErrorIs(t, err, io.EOF, "the reply ends without an answer")
	_ = res.Body.Close()
	agent.Header = http.Header{"Last-Event-Id": {prime.ID}}
	res, err = http.DefaultClient.Do(agent.Request(t.Context(), "GET", ""))
	require.NoError(t, err)
	defer res.Body.Close()
	rest, err := io.ReadAll(res.Body)
	require.NoError(t, err)
	assert.Contains(t, string(rest), `"progressToken":"t"`)
	assert.Contains(t, string(rest), "the rest")
	agent.Header = nil
	require.Eventually(t, func() bool { // the id is free again, soon after the answer
		_, text := agent.Post(body)
		return !strings.Contains(text, "in use")
	}, 20*time.Second, 10*time.Millisecond)
	older := w.Raw("/mcp/act", pass, wire.Rev20250618)
	_, text := older.Post(body)
	assert.Contains(t, text, "the rest", "an older agent just waits")
	calls := w.Calls(3, "")
	assert.Equal(t, "ok", calls[2].Outcome)
}

func TestTheOldestTransport(t *testing.T) {
	t.Parallel()
	w, _, pass := acted(t, func(c *testkit.ScriptCall) {
		c.Return(
			`{"content":[{"type":"audio","data":"AAAA","mimeType":"audio/wav"},{"type":"resource_link","uri":"x://y","name":"chart"},{"type":"text","text":"plain"}]}`,
		)
	})
	open := func(pass string) (<-chan string, *testkit.Raw) {
		r := &testkit.Raw{T: t, URL: w.Base + "/sse/act", Pass: pass}
		events := r.Listen(t.Context())
		at := testkit.Next(t, events)
		require.True(t, strings.HasPrefix(at, "/sse/act?session="), at)
		return events, &testkit.Raw{T: t, URL: w.Base + at, Pass: pass}
	}
	events, agent := open(pass)
	post := func(body string) {
		res, text := agent.Post(body)
		require.Equal(t, 202, res.StatusCode, text)
	}
	post(
		`{"jsonrpc":"2.0","id":1,"method":"initialize","params":{"protocolVersion":"2024-11-05","capabilities":{},"clientInfo":{"name":"old","version":"1"}}}`,
	)
	hello := testkit.Next(t, events)
	assert.Contains(t, hello, `"protocolVersion":"2024-11-05"`)
	assert.NotContains(t, hello, "completions")
	post(`{"jsonrpc":"2.0","method":"notifications/initialized"}`)
	post(`{"jsonrpc":"2.0","id":2,"method":"tools/list"}`)
	assert.Contains(t, testkit.Next(t, events), `"name":"act"`)
	post(`{"jsonrpc":"2.0","id":3,"method":"tools/call","params":{"name":"act"}}`)
	got := result(t, testkit.Next(t, events))
	assert.Equal(t, "[audio, audio/wav, which this revision of the protocol cannot carry]", got.Content[0].Text)
	assert.Equal(t, "[resource chart: x://y]", got.Content[1].Text)
	assert.Equal(t, "plain", got.Content[2].Text)
	post(`[{"jsonrpc":"2.0","id":4,"method":"ping"},{"jsonrpc":"2.0","id":5,"method":"ping"}]`)
	both := testkit.Next(t, events) + testkit.Next(t, events)
	assert.Contains(t, both, `"id":4,"result":{}`)
	assert.Contains(t, both, `"id":5,"result":{}`)
	post(`{"jsonrpc":"2.0","id":6,"method":"initialize","params":{"protocolVersion":"2024-11-05"}}`)
	assert.Contains(t, testkit.Next(t, events), "opened already")
	w.Rule("refuse", "*", "*", "*")
	assert.Contains(t, testkit.Next(t, events), "notifications/tools/list_changed")

	joss := w.Agent("joss-quill")
	stranger := &testkit.Raw{T: t, URL: agent.URL, Pass: joss}
	res, _ := stranger.Post(`{"jsonrpc":"2.0","id":1,"method":"ping"}`)
	assert.Equal(t, 404, res.StatusCode, "a session id alone opens nothing")
	session := strings.TrimPrefix(agent.URL, w.Base+"/sse/act?session=")
	mixed := &testkit.Raw{T: t, URL: w.Base + "/mcp/act", Pass: pass, Session: session}
	res, _ = mixed.Post(`{"jsonrpc":"2.0","id":1,"method":"ping"}`)
	assert.Equal(t, 404, res.StatusCode, "nor is it one of the other transport")
	var passes []struct{ ID string }
	w.Must("GET", "/api/agents/marit-quill/passes", nil, &passes)
	for _, p := range passes {
		w.Must("DELETE", "/api/agents/marit-quill/passes/"+p.ID, nil, nil)
	}
	require.Eventually(
		t,
		func() bool { _, open := <-events; return !open },
		15*time.Second,
		time.Millisecond,
		"the stream ends with the pass",
	)
}

// Resources and prompts of several servers keep apart, and map back exactly.
func TestResourcesAndPromptsOfSeveralServers(t *testing.T) {
	t.Parallel()
	w, s, pass := acted(t, func(c *testkit.ScriptCall) {
		switch c.Method {
		case "resources/read":
			if c.Name == "file:///gone" {
				c.Fail(wire.CodeNoResource, "no such file", `{}`)
				return
			}
			c.Return(`{"contents":[{"uri":` + string(wire.Quote(c.Name)) + `,"text":"of act"}]}`)
		case "prompts/get":
			c.Return(`{"messages":[{"role":"user","content":{"type":"resource","resource":{"uri":"file:///log","text":"see"}}}]}`)
		case "completion/complete":
			c.Return(`{"completion":{"values":["completed"]}}`)
		default:
			c.Return(`{"content":[{"type":"resource_link","uri":"file:///log","name":"log"},{"type":"text","text":"resource"}]}`)
		}
	})
	s.Capabilities = `{"tools":{},"resources":{"subscribe":true,"listChanged":true},"prompts":{},"completions":{}}`
	s.Results["resources/list"] = `{"resources":[{"uri":"file:///log","name":"log"}]}`
	s.Results["resources/templates/list"] = `{"resourceTemplates":[{"uriTemplate":"file:///{name}","name":"any"}]}`
	s.Results["prompts/list"] = `{"prompts":[{"name":"plan"}]}`
	s.Results["resources/subscribe"], s.Results["resources/unsubscribe"] = "{}", "{}"
	w.Must("DELETE", "/api/servers/act", nil, nil)
	w.Register("act", testkit.Upstream(t, s), "")
	w.Register("tides", testkit.Upstream(t, ferries.Tides().Stateless()), "")
	all, one := w.Raw("/mcp", pass, wire.Rev20251125), w.Raw("/mcp/act", pass, wire.Rev20251125)
	ask := func(r *testkit.Raw, method, params string) string {
		_, text := r.Post(`{"jsonrpc":"2.0","id":1,"method":"` + method + `","params":` + params + `}`)
		return text
	}
	text := ask(all, "resources/list", `{}`)
	assert.Contains(t, text, `"uri":"bouncer:act/file:///log"`)
	assert.Contains(t, text, `"uri":"bouncer:tides/chart://skerrow/approach"`)
	assert.Contains(t, ask(one, "resources/list", `{}`), `"uri":"file:///log"`)
	assert.Contains(t, ask(all, "resources/templates/list", `{}`), `"uriTemplate":"bouncer:act/file:///{name}"`)
	assert.Contains(t, ask(all, "prompts/list", `{}`), `"name":"act__plan"`)

	text = ask(all, "resources/read", `{"uri":"bouncer:act/file:///log"}`)
	assert.Contains(t, text, `"uri":"bouncer:act/file:///log","text":"of act"`)
	assert.Contains(t, ask(one, "resources/read", `{"uri":"file:///log"}`), `"uri":"file:///log"`)
	text = ask(all, "resources/read", `{"uri":"bouncer:tides/chart://notes/tarn"}`)
	assert.Contains(t, text, "No dangers are noted for tarn")
	assert.Contains(t, text, `"uri":"bouncer:tides/chart://notes/tarn"`)
	assert.NotContains(t, text, "resultType", "which sessions do not have")
	assert.NotContains(t, text, "ttlMs")
	gone := failure(t, ask(all, "resources/read", `{"uri":"bouncer:act/file:///gone"}`))
	assert.Equal(t, wire.CodeInvalidParams, gone.Code)
	assert.Equal(t, "bouncer:act/file:///gone", gone.Data["uri"])
	for _, uri := range []string{"file:///log", "bouncer:nobody/x", "bouncer:act", "bouncer:"} {
		assert.Equal(t, wire.CodeInvalidParams, failure(t, ask(all, "resources/read", `{"uri":"`+uri+`"}`)).Code, uri)
	}
	assert.Contains(t, ask(all, "prompts/get", `{"name":"act__plan"}`), `"uri":"bouncer:act/file:///log"`)
	assert.Contains(t, ask(all, "prompts/get", `{"name":"tides__passage_plan","arguments":{"harbour":"Tarn Head"}}`), "to Tarn Head")
	assert.Contains(t, ask(all, "tools/call", `{"name":"act__act"}`), `"uri":"bouncer:act/file:///log"`)
	assert.Contains(
		t,
		ask(all, "completion/complete", `{"ref":{"type":"ref/prompt","name":"act__plan"},"argument":{"name":"a","value":"b"}}`),
		"completed",
	)
	assert.Contains(
		t,
		ask(
			all,
			"completion/complete",
			`{"ref":{"type":"ref/resource","uri":"bouncer:act/file:///{name}"},"argument":{"name":"name","value":"b"}}`,
		),
		"completed",
	)
	assert.NotEmpty(t, s.Seen(`"ref":{"type":"ref/resource","uri":"file:///{name}"}`))
	c := w.Calls(1, "tool=resource:file:///log&server=act")
	assert.Equal(t, "ok", c[0].Outcome, "reading is recorded like a call")

	// Subscriptions are counted: the server hears of the first and of the last.
	first, second := all.Listen(t.Context()), one.Listen(t.Context())
	assert.Contains(t, ask(all, "resources/subscribe", `{"uri":"bouncer:act/file:///log"}`), `"result":{}`)
	assert.Contains(t, ask(one, "resources/subscribe", `{"uri":"file:///log"}`), `"result":{}`)
	assert.Len(t, s.Seen("resources/subscribe"), 1)
	s.Say(`{"jsonrpc":"2.0","method":"notifications/resources/updated","params":{"uri":"file:///log"}}`)
	assert.Contains(t, testkit.Next(t, first), `"uri":"bouncer:act/file:///log"`)
	assert.Contains(t, testkit.Next(t, second), `"uri":"file:///log"`)
	// A server that is altered gets another connection, which knows of them.
	w.Must("PATCH", "/api/servers/act", testkit.Obj{"sharing": "shared"}, nil)
	require.Eventually(t, func() bool { return len(s.Seen("resources/subscribe")) >= 2 }, 15*time.Second, 10*time.Millisecond)
	told := ""
	require.Eventually(t, func() bool {
		// What is said before its stream is open is lost.
		s.Say(`{"jsonrpc":"2.0","method":"notifications/resources/updated","params":{"uri":"file:///log"}}`)
		select {
		case told = <-first:
			return true
		default:
			return false
		}
	}, 15*time.Second, 20*time.Millisecond, "the agents hear of changes as before")
	assert.Contains(t, told, `"uri":"bouncer:act/file:///log"`)
	assert.Contains(t, testkit.Next(t, second), `"uri":"file:///log"`)
	assert.Contains(t, ask(one, "resources/unsubscribe", `{"uri":"file:///log"}`), `"result":{}`)
	assert.Empty(t, s.Seen("resources/unsubscribe"))
	res, err := http.DefaultClient.Do(all.Request(t.Context(), "DELETE", ""))
	require.NoError(t, err)
	_ = res.Body.Close()
	require.Eventually(
		t,
		func() bool { return len(s.Seen("resources/unsubscribe")) == 1 },
		15*time.Second,
		10*time.Millisecond,
		"the end of a session ends its subscriptions",
	)

	// Rules speak of resources and prompts by their kind.
	w.Rule("refuse", "*", "act", "resource:file:*")
	w.Rule("refuse", "*", "*", "prompt:*")
	assert.NotContains(t, ask(one, "resources/list", `{}`), "file:///log")
	refused := failure(t, ask(one, "resources/read", `{"uri":"file:///log"}`))
	assert.Equal(t, wire.CodeNotAdmitted, refused.Code)
	assert.Contains(t, refused.Message, "refused by rule")
	assert.Equal(t, wire.CodeNotAdmitted, failure(t, ask(one, "prompts/get", `{"name":"plan"}`)).Code)
	assert.Equal(t, wire.CodeNotAdmitted, failure(t, ask(one, "resources/subscribe", `{"uri":"file:///log"}`)).Code)
}

func TestStatelessAgentsListen(t *testing.T) {
	t.Parallel()
	w, s, pass := acted(t, nil)
	s.Capabilities = `{"tools":{"listChanged":true},"resources":{"subscribe":true}}`
	s.Results["resources/list"], s.Results["resources/templates/list"] = `{"resources":[]}`, `{"resourceTemplates":[]}`
	s.Results["resources/subscribe"], s.Results["resources/unsubscribe"] = "{}", "{}"
	w.Must("DELETE", "/api/servers/act", nil, nil)
	w.Register("act", testkit.Upstream(t, s), "")
	listen := func(filter string) <-chan string {
		r := &testkit.Raw{
			T:      t,
			URL:    w.Base + "/mcp/act",
			Pass:   pass,
			Header: http.Header{"Mcp-Protocol-Version": {"2026-07-28"}, "Mcp-Method": {"subscriptions/listen"}},
		}
		return r.Open(
			t.Context(),
			`{"jsonrpc":"2.0","id":"L","method":"subscriptions/listen","params":{"notifications":`+filter+`,"_meta":{"io.modelcontextprotocol/protocolVersion":"2026-07-28","io.modelcontextprotocol/clientCapabilities":{}}}}`,
		)
	}
	tools := listen(`{"toolsListChanged":true,"promptsListChanged":true,"resourceSubscriptions":["file:///log"]}`)
	assert.JSONEq(
		t,
		`{"jsonrpc":"2.0","method":"notifications/subscriptions/acknowledged","params":{"notifications":{"toolsListChanged":true,"resourceSubscriptions":["file:///log"]},"_meta":{"io.modelcontextprotocol/subscriptionId":"L"}}}`,
		testkit.Next(t, tools),
		"what is asked for and there",
	)
	others := listen(`{"resourcesListChanged":true}`)
	testkit.Next(t, others)
	nothing := listen(`{}`)
	assert.Contains(t, testkit.Next(t, nothing), `"notifications":{}`)
	assert.Contains(t, testkit.Next(t, nothing), `"resultType":"complete"`, "what has nothing to tell ends at once")
	w.Rule("refuse", "*", "act", "act")
	assert.JSONEq(
		t,
		`{"jsonrpc":"2.0","method":"notifications/tools/list_changed","params":{"_meta":{"io.modelcontextprotocol/subscriptionId":"L"}}}`,
		testkit.Next(t, tools),
	)
	s.Say(`{"jsonrpc":"2.0","method":"notifications/resources/updated","params":{"uri":"file:///log"}}`)
	assert.JSONEq(
		t,
		`{"jsonrpc":"2.0","method":"notifications/resources/updated","params":{"uri":"file:///log","_meta":{"io.modelcontextprotocol/subscriptionId":"L"}}}`,
		testkit.Next(t, tools),
	)
	assert.Empty(t, others, "nothing is told that was not asked for")
	w.Must("PATCH", "/api/agents/marit-quill", testkit.Obj{"paused": false}, nil)
	go w.Stop()
	assert.JSONEq(
		t,
		`{"jsonrpc":"2.0","id":"L","result":{"resultType":"complete","_meta":{"io.modelcontextprotocol/subscriptionId":"L"}}}`,
		testkit.Next(t, tools),
		"the end is told",
	)
}

// In this era, going away is the cancel.
func TestAStatelessAgentThatGoesAwayCancels(t *testing.T) {
	t.Parallel()
	cancelled := make(chan bool, 1)
	w, _, pass := acted(t, func(c *testkit.ScriptCall) { cancelled <- c.Cancelled() })
	r := &testkit.Raw{
		T:      t,
		URL:    w.Base + "/mcp/act",
		Pass:   pass,
		Header: http.Header{"Mcp-Protocol-Version": {"2026-07-28"}, "Mcp-Method": {"tools/call"}, "Mcp-Name": {"act"}},
	}
	client := &http.Client{Timeout: 200 * time.Millisecond}
	_, err := client.Do(
		r.Request(
			t.Context(),
			"POST",
			`{"jsonrpc":"2.0","id":1,"method":"tools/call","params":{"name":"act","_meta":{"io.modelcontextprotocol/protocolVersion":"2026-07-28","io.modelcontextprotocol/clientCapabilities":{}}}}`,
		),
	)
	require.Error(t, err)
	assert.True(t, <-cancelled)
	assert.Equal(t, "cancelled", w.Calls(1, "outcome=cancelled")[0].Outcome)
}

func TestErrorsAreTranslatedBetweenTheEras(t *testing.T) {
	t.Parallel()
	var code int
	var data string
	w, _, pass := acted(t, func(c *testkit.ScriptCall) { c.Fail(code, "so it is", data) })
	urls := `{"elicitations":[{"mode":"url","elicitationId":"e1","url":"https://sign.example/in","message":"sign in"}]}`
	stateless := &testkit.Raw{T: t, URL: w.Base + "/mcp/act", Pass: pass}
	for name, row := range map[string]struct {
		code      int
		data      string
		session   string // what an agent with a session reads
		caps      string
		status    int
		stateless string // what one without reads
	}{
		"an ordinary one":                     {-32602, `{"a":1}`, `"code":-32602,"message":"so it is","data":{"a":1}`, "{}", 200, `"code":-32602,"message":"so it is","data":{"a":1}`},
		"a stray code":                        {-31001, `{}`, `"code":-32603,"message":"so it is","data":{"code":-31001}`, "{}", 200, `"code":-32603`},
		"zero":                                {0, `{}`, `"code":-32603`, "{}", 200, `"code":-32603`},
		"a missing capability":                {wire.CodeNoCapability, `{"requiredCapabilities":{"sampling":{}}}`, `"isError":true,"content":[{"type":"text","text":"act: so it is"}]`, "{}", 400, `"requiredCapabilities":{"sampling":{}}`},
		"addresses, for one who cannot open":  {wire.CodeURLElicitation, urls, `open https://sign.example/in first (sign in)`, "{}", 400, `"requiredCapabilities":{"elicitation":{"url":{}}}`},
		"addresses, for one who can open one": {wire.CodeURLElicitation, urls, `https://sign.example/in`, `{"elicitation":{"url":{}}}`, 200, `"resultType":"input_required"`},
	} {
		t.Run(name, func(t *testing.T) {
			code, data = row.code, row.data
			_, text := w.Raw("/mcp/act", pass, wire.Rev20250618).Post(actCall)
			assert.Contains(t, text, row.session)
			res, text := stateless.Stateless("tools/call", `"name":"act","arguments":{}`, row.caps)
			assert.Equal(t, row.status, res.StatusCode, text)
			assert.Contains(t, text, row.stateless)
			if row.code == wire.CodeURLElicitation && row.status == 200 {
				asked := result(t, text)
				q := asked.InputRequests["address1"]
				assert.Equal(t, "url", q.Params["mode"])
				assert.NotContains(t, q.Params, "elicitationId")
				_, text = stateless.Stateless(
					"tools/call",
					`"name":"act","arguments":{},"requestState":`+string(
						wire.Quote(asked.RequestState),
					)+`,"inputResponses":{"address1":{"action":"accept"}}`,
					row.caps,
				)
				assert.Equal(t, "input_required", result(t, text).ResultType, "the call is made again")
			}
		})
	}
}

func TestListsArePaged(t *testing.T) {
	t.Parallel()
	w, s, pass := acted(t, nil)
	var list []string
	for i := range 4100 {
		list = append(list, fmt.Sprintf(`{"name":"tool-%04d","inputSchema":{"type":"object"}}`, i))
	}
	s.Results["tools/list"] = `{"tools":[` + strings.Join(list, ",") + `]}`
	w.Must("DELETE", "/api/servers/act", nil, nil)
	w.Register("act", testkit.Upstream(t, s), "")
	agent := w.Raw("/mcp", pass, wire.Rev20251125)
	seen := map[string]bool{}
	pages := 0
	for cursor := ""; ; {
		params := "{}"
		if cursor != "" {
			params = `{"cursor":"` + cursor + `"}`
		}
		_, text := agent.Post(`{"jsonrpc":"2.0","id":1,"method":"tools/list","params":` + params + `}`)
		var r struct {
			Result struct {
				Tools      []struct{ Name string }
				NextCursor string
			}
		}
		require.NoError(t, json.Unmarshal([]byte(text), &r))
		for _, tool := range r.Result.Tools {
			require.False(t, seen[tool.Name])
			seen[tool.Name] = true
		}
		pages++
		if cursor = r.Result.NextCursor; cursor == "" {
			break
		}
	}
	assert.Len(t, seen, 4100)
	assert.Equal(t, 3, pages)
	for _, bad := range []string{`"x"`, `"1.other"`, `"9.` + strings.Repeat("0", 16) + `"`, `7`, `""`} {
		assert.Equal(
			t,
			wire.CodeInvalidParams,
			agent.Ask(`{"jsonrpc":"2.0","id":1,"method":"tools/list","params":{"cursor":`+bad+`}}`).Error.Code,
			bad,
		)
	}
}
