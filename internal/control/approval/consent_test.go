package approval_test

import (
	"context"
	"encoding/json"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/core/team"
	"bouncer/internal/testkit"
)

type obj = testkit.Obj

// desk is a server that orders fuel, a rule that asks the agent's own user, and a pass.
func desk(t *testing.T, rule obj) (w *testkit.World, script *testkit.Script, pass string) {
	script = testkit.NewScript(t)
	script.Results["tools/list"] = `{"tools":[{"name":"order","inputSchema":{"type":"object","properties":{"litres":{"type":"integer"}}}}]}`
	script.Call = func(c *testkit.ScriptCall) { c.Text("ordered " + string(c.Params)) }
	w = testkit.Start(t, nil)
	w.Register("fuel", testkit.Upstream(t, script), "")
	pass = w.Agent("quay-voice")
	in := obj{"name": "ask", "effect": "hold", "agent": "*", "server": "*", "tool": "*", "asksUser": true, "note": "fuel costs money"}
	for k, v := range rule {
		in[k] = v
	}
	w.Must("POST", "/api/rules", in, nil)
	return w, script, pass
}

const call = `{"jsonrpc":"2.0","id":NUMBER,"method":"tools/call","params":{"name":"fuel__order","arguments":{"litres":200}}}`

// question is what the assistant is asked.
type question struct {
	ID     json.RawMessage
	Method string
	Params struct {
		Message         string
		RequestedSchema struct {
			Properties struct {
				Decision struct{ Enum []string }
			}
		}
	}
}

// Where the assistant can ask, its user decides: once, for the session, or not; what is not
// decided is not carried; and the journal says who was asked.
func TestTheAgentsUserIsAskedInItsSession(t *testing.T) {
	t.Parallel()
	w, script, pass := desk(t, nil)
	agent := w.Able("/mcp", pass, "2025-11-25", `{"elicitation":{}}`)
	number := 0
	next := func() string {
		number++
		return strings.Replace(call, "NUMBER", strconv.Itoa(number), 1)
	}
	ask := func(answer string) testkit.Reply {
		t.Helper()
		ctx, stop := context.WithCancel(t.Context())
		defer stop()
		events := agent.Open(ctx, next())
		first := testkit.Next(t, events)
		var q question
		require.NoError(t, json.Unmarshal([]byte(first), &q))
		require.Equal(t, "elicitation/create", q.Method)
		assert.Contains(t, q.Params.Message, "may quay-voice call order of server fuel?")
		assert.Contains(t, q.Params.Message, `"litres":200`)
		assert.Contains(t, q.Params.Message, "fuel costs money")
		assert.Equal(t, []string{"once", "session", "hour", "refuse"}, q.Params.RequestedSchema.Properties.Decision.Enum)
		agent.Post(`{"jsonrpc":"2.0","id":` + string(q.ID) + `,` + answer + `}`)
		var r testkit.Reply
		require.NoError(t, json.Unmarshal([]byte(testkit.Next(t, events)), &r))
		return r
	}
	for answer, want := range map[string]string{
		`"result":{"action":"decline"}`: "the agent's user refused it",
		`"result":{"action":"accept","content":{"decision":"refuse","word":"too much"}}`: "refused it: too much",
		`"result":{"action":"cancel"}`:                                 "was asked and did not decide",
		`"result":{"action":"accept"}`:                                 "chose nothing that was asked",
		`"result":{"action":"accept","content":{"decision":"always"}}`: "chose nothing that was asked",
		`"result":{"action":"yes"}`:                                    "unknown action",
		`"result":{"action":"accept","content":{"decision":["once"]}}`: "cannot be read",
		`"error":{"code":-32603,"message":"nobody there"}`:             "could not ask its user",
		`"result":{"action":"accept","content":{"decision":"refuse","word":"` + strings.Repeat("é", 400) + `"}}`: "refused it: é",
	} {
		r := ask(answer)
		require.NotNil(t, r.Error, answer)
		assert.Contains(t, r.Error.Message, want, answer)
	}
	assert.Empty(t, script.Seen("tools/call"), "nothing of it reached the server")
	assert.Nil(t, ask(`"result":{"action":"accept","content":{"decision":"once"}}`).Error)
	assert.Nil(t, ask(`"result":{"action":"accept","content":{"decision":"session"}}`).Error)
	assert.Nil(t, agent.Ask(next()).Error, "nobody is asked again in this session")
	assert.Len(t, script.Seen("tools/call"), 3)
	calls := w.Calls(3, "agent=quay-voice&outcome=ok")
	for _, c := range calls[:2] {
		got := *c.Control
		got.WaitedMS = 0
		assert.Equal(t, team.CallControl{Held: "ask", By: "marit", How: "session", Asked: true}, got)
	}
}

// Without a session, the question goes along with the answer, and the request comes back
// with what was decided: bound to the call that it was about, and for one time.
func TestTheAgentsUserIsAskedWithoutASession(t *testing.T) {
	t.Parallel()
	w, script, pass := desk(t, obj{"pins": obj{"by": "${agent}"}, "holdSeconds": 600, "ownDecides": true})
	agent := &testkit.Raw{T: t, URL: w.Base + "/mcp", Pass: pass}
	const about = `"name":"fuel__order","arguments":{"litres":200}`
	type asked struct {
		Result struct {
			ResultType    string
			RequestState  string
			InputRequests map[string]question
		}
	}
	begin := func(pass, about, more string) (a asked, text string) {
		r := &testkit.Raw{T: t, URL: w.Base + "/mcp", Pass: pass}
		_, text = r.Stateless("tools/call", about+more, `{"elicitation":{"form":{}}}`)
		require.NoError(t, json.Unmarshal([]byte(text), &a), text)
		return a, text
	}
	with := func(state, answer string) string {
		return `,"requestState":"` + state + `","inputResponses":{"decision":` + answer + `}`
	}
	const yes = `{"action":"accept","content":{"decision":"once"}}`
	first, text := begin(pass, about, "")
	require.Equal(t, "input_required", first.Result.ResultType, text)
	assert.Equal(t, []string{"once", "hour", "refuse"}, first.Result.InputRequests["decision"].Params.RequestedSchema.Properties.Decision.Enum)
	again, _ := begin(pass, about, `,"requestState":"`+first.Result.RequestState+`"`)
	require.Equal(t, "input_required", again.Result.ResultType, "without an answer it is asked again")
	state := again.Result.RequestState
	for name, try := range map[string][3]string{
		"other arguments":  {pass, `"name":"fuel__order","arguments":{"litres":20000}`, with(state, yes)},
		"another agent":    {w.Agent("other"), about, with(state, yes)},
		"a used state":     {pass, about, with(first.Result.RequestState, yes)},
		"no state of ours": {pass, about, with("parked.x.zzzzzz.AAAA", yes)},
	} {
		_, text := begin(try[0], try[1], try[2])
		assert.NotContains(t, text, "ordered", name)
	}
	assert.Empty(t, script.Seen("tools/call"))
	_, text = begin(pass, about, with(state, yes))
	assert.Contains(t, text, "ordered", "the right one is still good")
	assert.Contains(t, script.Seen("tools/call")[0], `"by":"quay-voice"`)
	assert.NotContains(t, script.Seen("tools/call")[0], "requestState")
	_, text = begin(pass, about, with(state, yes))
	assert.NotContains(t, text, "ordered", "never twice")

	refused, _ := begin(pass, about, "")
	_, text = begin(pass, about, with(refused.Result.RequestState, `{"action":"decline"}`))
	assert.Contains(t, text, "held-refused")
	// What was taken away meanwhile is not carried, whatever the user said.
	late, _ := begin(pass, about, "")
	stop := w.Rule("refuse", "quay-voice", "fuel", "order")
	_, text = begin(pass, about, with(late.Result.RequestState, yes))
	assert.Contains(t, text, "rule-refuses")
	assert.Len(t, script.Seen("tools/call"), 1)
	// An assistant that cannot ask has people decide.
	w.Must("DELETE", "/api/rules/"+stop, nil, nil)
	told := make(chan string, 1)
	go func() {
		_, text := agent.Stateless("tools/call", about, "{}")
		told <- text
	}()
	var list []obj
	require.Eventually(t, func() bool {
		w.Must("GET", "/api/held?waiting=true", nil, &list)
		return len(list) == 1
	}, 20*time.Second, 10*time.Millisecond)
	w.Must("POST", "/api/held/"+list[0]["id"].(string)+"/decision", obj{"how": "refuse"}, nil)
	assert.Contains(t, <-told, "held-refused")
}
