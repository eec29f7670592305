package relay_test

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/core/team"
	"bouncer/internal/core/wire"
	"bouncer/internal/testkit"
	"bouncer/standin/toolserver"
)

const token = "skf-canary-0123456789"

const listTools = `{"jsonrpc":"2.0","id":1,"method":"tools/list"}`

func start(t *testing.T, flags map[string]string) (w *testkit.World, s *toolserver.Server, pass string, release chan struct{}) {
	w = testkit.Start(t, flags)
	release = make(chan struct{})
	s = testkit.Echo(token, release)
	w.Register("echo", testkit.Upstream(t, s), token)
	return w, s, w.Agent("marit-quill"), release
}

func TestReachIsExactlyWhatTheRulesAdmit(t *testing.T) {
	t.Parallel()
	w, s, pass, _ := start(t, nil)
	all, one := w.Raw("/mcp", pass, wire.Rev20251125), w.Raw("/mcp/echo", pass, wire.Rev20250618)
	assert.Empty(t, all.Names(), "without a rule nothing is in reach")
	r := all.CallTool("echo__echo", "x")
	require.NotNil(t, r.Error)
	assert.Equal(t, wire.CodeNotAdmitted, r.Error.Code)
	assert.Contains(t, r.Error.Message, "no rule admits it; ask Marit Aune")
	assert.Equal(t, "no-rule-admits", r.Error.Data["reason"])

	w.Rule("admit", "marit-*", "echo", "*")
	refusal := w.Rule("refuse", "*", "*", "slow")
	assert.Equal(t, []string{"echo__echo", "echo__fail"}, all.Names())
	assert.Equal(t, []string{"echo", "fail"}, one.Names(), "one server's address has its own names")
	assert.Equal(t, "hello", all.CallTool("echo__echo", "hello").Result.Content[0].Text)
	assert.Equal(t, "hello", one.CallTool("echo", "hello").Result.Content[0].Text)
	r = one.CallTool("slow", "x")
	require.NotNil(t, r.Error)
	assert.Contains(t, r.Error.Message, "refused by rule "+refusal)
	assert.Equal(t, refusal, r.Error.Data["rule"])
	r = one.CallTool("echo__echo", "x")
	require.NotNil(t, r.Error)
	assert.Equal(t, wire.CodeInvalidParams, r.Error.Code, "another address's name is unknown here")
	assert.True(t, all.CallTool("echo__fail", "").Result.IsError)
	assert.Equal(t, 3, s.Calls(), "what is refused never reaches the server")

	var seen []string
	for _, c := range w.Calls(6, "agent=marit-quill") {
		seen = append(seen, c.Tool+" "+c.Outcome)
		assert.Equal(t, "marit", c.Person)
	}
	assert.ElementsMatch(t, []string{"echo refused", "echo ok", "echo ok", "slow refused", "echo__echo refused", "fail tool-error"}, seen)
}

func TestChangesReachOpenSessionsAtOnce(t *testing.T) {
	t.Parallel()
	w, s, pass, _ := start(t, nil)
	agent := w.Raw("/mcp", pass, wire.Rev20251125)
	events := agent.Listen(t.Context())
	changed := func(why string) {
		t.Helper()
		assert.JSONEq(t, `{"jsonrpc":"2.0","method":"notifications/tools/list_changed"}`, testkit.Next(t, events), why)
	}
	rule := w.Rule("admit", "*", "*", "*")
	changed("a new rule")
	assert.Len(t, agent.Names(), 3)
	w.Rule("admit", "somebody-else", "*", "*")
	w.Must("PATCH", "/api/servers/echo", testkit.Obj{"paused": true}, nil)
	changed("a paused server")
	assert.Empty(t, agent.Names())
	assert.Contains(t, agent.CallTool("echo__echo", "x").Error.Message, "server echo is paused")
	w.Must("PATCH", "/api/servers/echo", testkit.Obj{"paused": false}, nil)
	changed("a resumed server")
	require.Eventually(t, func() bool { // its event stream opens a moment later
		s.SetTools(toolserver.Tool{Name: "fresh", Schema: `{"type":"object"}`})
		return len(events) > 0
	}, 30*time.Second, 50*time.Millisecond)
	changed("another tool list of the server")
	assert.Equal(t, []string{"echo__fresh"}, agent.Names())
	w.Must("DELETE", "/api/rules/"+rule, nil, nil)
	changed("a removed rule")
	assert.Empty(t, agent.Names())
	select {
	case ev := <-events:
		t.Fatalf("a change that does not concern the agent was told: %s", ev)
	default:
	}
}

func TestRevokedPassStopsTheNextCallAndItsSession(t *testing.T) {
	t.Parallel()
	w, _, pass, _ := start(t, nil)
	w.Rule("admit", "*", "*", "*")
	second := w.Pass("marit-quill")
	old, fresh := w.Raw("/mcp", pass, wire.Rev20251125), w.Raw("/mcp", second, wire.Rev20251125)
	events := old.Listen(t.Context())
	var passes []team.Pass
	w.Must("GET", "/api/agents/marit-quill/passes", nil, &passes)
	require.Len(t, passes, 2)
	w.Must("DELETE", "/api/agents/marit-quill/passes/"+passes[1].ID, nil, nil)
	res, body := old.Post(listTools)
	assert.Equal(t, 401, res.StatusCode, body)
	assert.Contains(t, body, "this pass was revoked")
	assert.NotContains(t, body, "marit", "whoever has it now learns nothing else")
	assert.Empty(t, testkit.Next(t, events), "its stream ends")
	assert.Len(t, fresh.Names(), 3, "the other pass goes on")

	w.Must("PATCH", "/api/agents/marit-quill", testkit.Obj{"paused": true}, nil)
	res, _ = fresh.Post(listTools)
	assert.Equal(t, 403, res.StatusCode)
	w.Must("PATCH", "/api/agents/marit-quill", testkit.Obj{"paused": false}, nil)
	assert.Len(t, fresh.Names(), 3)
}

func TestDoorRefusesWhatIsNotRight(t *testing.T) {
	t.Parallel()
	w, _, pass, _ := start(t, map[string]string{"body-limit": "4096"})
	w.Rule("admit", "*", "*", "*")
	other := w.Agent("joss-quill")
	init := `{"jsonrpc":"2.0","id":1,"method":"initialize","params":{"protocolVersion":"2025-11-25"}}`
	for name, row := range map[string]struct {
		alter  func(r *testkit.Raw) (method, body string)
		status int
		says   string
	}{
		"no pass":                 {func(r *testkit.Raw) (string, string) { r.Pass = ""; return "POST", listTools }, 401, "only stands for a pass"},
		"an unknown pass":         {func(r *testkit.Raw) (string, string) { r.Pass = "bnp_x"; return "POST", listTools }, 401, "show a valid pass"},
		"a person's token":        {func(r *testkit.Raw) (string, string) { r.Pass = w.Token; return "POST", listTools }, 401, "no pass of Bouncer"},
		"no session":              {func(r *testkit.Raw) (string, string) { r.Session = ""; return "POST", listTools }, 400, "Mcp-Session-Id header is missing"},
		"an unknown session":      {func(r *testkit.Raw) (string, string) { r.Session = "x"; return "POST", listTools }, 404, "no such session"},
		"somebody else's session": {func(r *testkit.Raw) (string, string) { r.Pass = other; return "POST", listTools }, 404, "no such session"},
		"another address":         {func(r *testkit.Raw) (string, string) { r.URL += "/echo"; return "POST", listTools }, 404, "no such session"},
		"an unknown server":       {func(r *testkit.Raw) (string, string) { r.URL += "/nowhere"; return "POST", init }, 404, "no server of that name"},
		"another content type": {func(r *testkit.Raw) (string, string) {
			r.Header.Set("Content-Type", "text/plain")
			return "POST", listTools
		}, 415, "application/json"},
		"an Accept of neither": {func(r *testkit.Raw) (string, string) { r.Header.Set("Accept", "text/html"); return "POST", listTools }, 406, "Accept header"},
		"a foreign origin": {func(r *testkit.Raw) (string, string) {
			r.Header.Set("Origin", "https://evil.example")
			return "POST", listTools
		}, 403, "Host or Origin"},
		"a foreign host": {func(r *testkit.Raw) (string, string) { r.Header.Set("Host", "evil.example"); return "POST", listTools }, 403, "Host or Origin"},
		"an unknown revision": {func(r *testkit.Raw) (string, string) {
			r.Header.Set("Mcp-Protocol-Version", "1999-01-01")
			return "POST", listTools
		}, 400, "MCP-Protocol-Version"},
		"no JSON":                     {func(*testkit.Raw) (string, string) { return "POST", `{"jsonrpc":` }, 400, `"code":-32700`},
		"a body above the limit":      {func(*testkit.Raw) (string, string) { return "POST", `{"x":"` + strings.Repeat("x", 5000) + `"}` }, 413, "larger than the limit"},
		"a batch in a later revision": {func(*testkit.Raw) (string, string) { return "POST", "[" + listTools + "]" }, 400, "has no batches"},
		"PUT":                         {func(*testkit.Raw) (string, string) { return "PUT", "" }, 405, "POST, GET and DELETE"},
		"initialize without revision": {func(*testkit.Raw) (string, string) { return "POST", `{"jsonrpc":"2.0","id":1,"method":"initialize"}` }, 400, "protocolVersion is missing"},
	} {
		t.Run(name, func(t *testing.T) {
			r := w.Raw("/mcp", pass, wire.Rev20251125)
			method, body := row.alter(r)
			res, err := http.DefaultClient.Do(r.Request(t.Context(), method, body))
			require.NoError(t, err)
			defer res.Body.Close()
			text, err := io.ReadAll(res.Body)
			require.NoError(t, err)
			assert.Equal(t, row.status, res.StatusCode, string(text))
			assert.Contains(t, string(text), row.says)
			if res.StatusCode == 401 {
				assert.Contains(t, res.Header.Get("WWW-Authenticate"), "Bearer")
			}
			if res.StatusCode == 405 {
				assert.Equal(t, "GET, POST, DELETE", res.Header.Get("Allow"))
			}
		})
	}
	agent := w.Raw("/mcp", pass, wire.Rev20251125)
	unknown := agent.Ask(`{"jsonrpc":"2.0","id":1,"method":"tasks/list"}`)
	assert.Equal(t, wire.CodeMethodNotFound, unknown.Error.Code)
	res, err := http.DefaultClient.Do(agent.Request(t.Context(), "DELETE", ""))
	require.NoError(t, err)
	require.NoError(t, res.Body.Close())
	assert.Equal(t, 204, res.StatusCode)
	res, _ = agent.Post(listTools)
	assert.Equal(t, 404, res.StatusCode, "an ended session is gone")
}

func TestRevisionsAreNegotiated(t *testing.T) {
	t.Parallel()
	w, _, pass, _ := start(t, nil)
	for asked, want := range map[string]string{"2025-03-26": "2025-03-26", "2025-06-18": "2025-06-18", "2025-11-25": "2025-11-25", "2099-01-01": "2025-11-25", "2026-07-28": "2025-11-25"} {
		r := w.Raw("/mcp", pass, asked)
		r.Session = ""
		_, body := r.Post(`{"jsonrpc":"2.0","id":1,"method":"initialize","params":{"protocolVersion":"` + asked + `"}}`)
		assert.Contains(t, body, `"protocolVersion":"`+want+`"`)
	}
}

func TestBatchesOfTheOldRevision(t *testing.T) {
	t.Parallel()
	w, _, pass, _ := start(t, nil)
	w.Rule("admit", "*", "*", "*")
	agent := w.Raw("/mcp", pass, wire.Rev20250326)
	call := func(id, text string) string {
		return `{"jsonrpc":"2.0","id":` + id + `,"method":"tools/call","params":{"name":"echo__echo","arguments":{"text":"` + text + `"}}}`
	}
	res, body := agent.Post(
		"[" + call(
			"1",
			"one",
		) + "," + `{"jsonrpc":"2.0","method":"notifications/x"},` + call(
			`"b"`,
			"two",
		) + `,{"jsonrpc":"2.0","id":9},{"jsonrpc":"2.0","id":3,"method":"ping"}]`,
	)
	require.Equal(t, 200, res.StatusCode, body)
	assert.JSONEq(t, `[
		{"jsonrpc":"2.0","id":1,"result":{"content":[{"type":"text","text":"one"}]}},
		{"jsonrpc":"2.0","id":"b","result":{"content":[{"type":"text","text":"two"}]}},
		{"jsonrpc":"2.0","id":null,"error":{"code":-32600,"message":"a message has a method, a result or an error, and one of them only"}},
		{"jsonrpc":"2.0","id":3,"result":{}}]`, body)
	res, body = agent.Post(`[{"jsonrpc":"2.0","method":"notifications/x"}]`)
	assert.Equal(t, 202, res.StatusCode)
	assert.Empty(t, body)
}

func TestProgressStreamsUnderTheAgentsOwnToken(t *testing.T) {
	t.Parallel()
	w, _, pass, release := start(t, nil)
	w.Rule("admit", "*", "*", "*")
	agent := w.Raw("/mcp", pass, wire.Rev20251125)
	req := agent.Request(
		t.Context(),
		"POST",
		`{"jsonrpc":"2.0","id":"my-id","method":"tools/call","params":{"_meta":{"progressToken":"mine"},"name":"echo__slow","arguments":{"text":"x"}}}`,
	)
	res, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	defer res.Body.Close()
	assert.Equal(t, "text/event-stream", res.Header.Get("Content-Type"))
	events := wire.NewEventReader(res.Body, 1<<20)
	ev, err := events.Next()
	require.NoError(t, err)
	assert.Empty(t, ev.Data, "first comes what primes the agent to take the stream up again")
	ev, err = events.Next()
	require.NoError(t, err)
	assert.JSONEq(
		t,
		`{"jsonrpc":"2.0","method":"notifications/progress","params":{"progressToken":"mine","progress":1,"total":2,"message":"half"}}`,
		string(ev.Data),
		"progress arrives before the answer",
	)
	close(release)
	ev, err = events.Next()
	require.NoError(t, err)
	assert.JSONEq(t, `{"jsonrpc":"2.0","id":"my-id","result":{"content":[{"type":"text","text":"released x"}]}}`, string(ev.Data))
	_, err = events.Next()
	assert.Error(t, err, "the stream ends after the answer")
}

func TestCancelledCallEndsUpstreamAndGetsNoAnswer(t *testing.T) {
	t.Parallel()
	w, s, pass, _ := start(t, nil)
	w.Rule("admit", "*", "*", "*")
	agent := w.Raw("/mcp", pass, wire.Rev20251125)
	answer := make(chan string, 1)
	go func() {
		_, body := agent.Post(`{"jsonrpc":"2.0","id":77,"method":"tools/call","params":{"name":"echo__slow","arguments":{}}}`)
		answer <- body
	}()
	require.Eventually(t, func() bool { return s.Calls() == 1 }, 30*time.Second, time.Millisecond)
	res, _ := agent.Post(`{"jsonrpc":"2.0","method":"notifications/cancelled","params":{"requestId":76}}`)
	assert.Equal(t, 202, res.StatusCode)
	select {
	case <-answer:
		t.Fatal("another call's cancellation ended this one")
	case <-time.After(50 * time.Millisecond):
	}
	agent.Post(`{"jsonrpc":"2.0","method":"notifications/cancelled","params":{"requestId":77}}`)
	assert.NotContains(t, <-answer, "jsonrpc")
	assert.Equal(t, "cancelled", w.Calls(1, "tool=slow")[0].Outcome)
}

// In this era an agent that goes away has not cancelled.
func TestDisconnectedAgentDoesNotCancel(t *testing.T) {
	t.Parallel()
	w, s, pass, release := start(t, nil)
	w.Rule("admit", "*", "*", "*")
	agent := w.Raw("/mcp", pass, wire.Rev20251125)
	ctx, leave := context.WithCancel(t.Context())
	go func() {
		if res, err := http.DefaultClient.Do(agent.Request(ctx, "POST", `{"jsonrpc":"2.0","id":1,"method":"tools/call","params":{"name":"echo__slow","arguments":{}}}`)); err == nil {
			_ = res.Body.Close()
		}
	}()
	require.Eventually(t, func() bool { return s.Calls() == 1 }, 30*time.Second, time.Millisecond)
	leave()
	time.AfterFunc(50*time.Millisecond, func() { close(release) })
	assert.Equal(t, "ok", w.Calls(1, "tool=slow")[0].Outcome)
}

func TestFailingServerIsExplainedToTheAgent(t *testing.T) {
	t.Parallel()
	w, s, pass, _ := start(t, map[string]string{"call-timeout": "1s"})
	w.Rule("admit", "*", "*", "*")
	agent := w.Raw("/mcp", pass, wire.Rev20251125)
	for _, row := range []struct{ fault, tool, outcome, says string }{
		{toolserver.Unauthorised, "echo", "unreachable", "the server rejected the registered token (401)"},
		{toolserver.Maintenance, "echo", "unreachable", "down or in maintenance"},
		{toolserver.Cut, "echo", "unreachable", "whether the tool ran is not known"},
		{toolserver.Healthy, "slow", "timeout", "did not answer within 1s"},
		{toolserver.Healthy, "echo", "ok", ""},
	} {
		s.Fail(row.fault)
		r := agent.CallTool("echo__"+row.tool, "x")
		if row.outcome != "ok" {
			require.NotNil(t, r.Error, row.fault)
			assert.Equal(t, wire.CodeInternal, r.Error.Code)
			assert.Contains(t, r.Error.Message, row.says)
			assert.NotContains(t, r.Error.Message, token)
		}
		require.Eventually(
			t,
			func() bool { return w.Calls(1, "")[0].Outcome == row.outcome },
			30*time.Second,
			20*time.Millisecond,
			row.fault,
		)
	}
}

// Many agents over one shared link: nobody gets anybody else's answer.
func TestAnswersNeverCross(t *testing.T) {
	t.Parallel()
	w, s, _, _ := start(t, nil)
	w.Rule("admit", "*", "*", "*")
	var wait sync.WaitGroup
	for i := range 8 {
		name := fmt.Sprintf("agent-%d", i)
		agent := w.Raw("/mcp", w.Agent(name), wire.Rev20251125)
		wait.Go(func() {
			for n := range 50 {
				text := fmt.Sprintf("%s says %d %s", name, n, strings.Repeat("x", n*40))
				r := agent.CallTool("echo__echo", text)
				if !assert.Len(t, r.Result.Content, 1) || !assert.Equal(t, text, r.Result.Content[0].Text) {
					return
				}
			}
		})
	}
	wait.Wait()
	assert.Equal(t, 400, s.Calls())
	w.Stop()
}

func TestStopFinishesCallsInFlight(t *testing.T) {
	t.Parallel()
	w, s, pass, release := start(t, nil)
	w.Rule("admit", "*", "*", "*")
	agent := w.Raw("/mcp", pass, wire.Rev20251125)
	agent.Listen(t.Context())
	answer := make(chan testkit.Reply, 1)
	go func() { answer <- agent.CallTool("echo__slow", "late") }()
	require.Eventually(t, func() bool { return s.Calls() == 1 }, 30*time.Second, time.Millisecond)
	stopped := make(chan struct{})
	go func() { w.Stop(); close(stopped) }()
	time.AfterFunc(100*time.Millisecond, func() { close(release) })
	r := <-answer
	require.Len(t, r.Result.Content, 1)
	assert.Equal(t, "released late", r.Result.Content[0].Text)
	select {
	case <-stopped:
	case <-time.After(30 * time.Second):
		t.Fatal("an open stream keeps the service from stopping")
	}
}
