package policy_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/core/team"
	"bouncer/internal/testkit"
)

// dock offers one tool, one prompt and one resource that are admitted, and one of each that
// are not.
func dock(t *testing.T) (w *testkit.World, s *testkit.Script, pass string) {
	s = testkit.NewScript(t)
	s.Capabilities = `{"tools":{},"prompts":{},"resources":{},"completions":{},"tasks":{"requests":{"tools":{"call":{}}}}}`
	s.Results["tools/list"] = `{"tools":[{"name":"open","inputSchema":{"type":"object"}},{"name":"scuttle","inputSchema":{"type":"object"}},
		{"name":"draw","inputSchema":{"type":"object","properties":{"litres":{"type":"integer"}}},"execution":{"taskSupport":"optional"}}]}`
	s.Results["prompts/list"] = `{"prompts":[{"name":"hello"},{"name":"plot"}]}`
	s.Results["resources/list"] = `{"resources":[{"uri":"dock://log","name":"log"},{"uri":"dock://safe/key","name":"key"}]}`
	s.Results["resources/templates/list"] = `{"resourceTemplates":[{"uriTemplate":"dock://berth/{n}","name":"berth"}]}`
	s.Call = func(c *testkit.ScriptCall) {
		switch c.Method {
		case "prompts/get":
			c.Return(`{"messages":[{"role":"user","content":{"type":"text","text":"said"}}]}`)
		case "resources/read":
			c.Return(`{"contents":[{"uri":"dock://log","text":"read"}]}`)
		case "completion/complete":
			c.Return(`{"completion":{"values":["v"]}}`)
		default:
			c.Text("ran " + c.Name)
		}
	}
	w = testkit.Start(t, nil)
	w.Register("dock", testkit.Upstream(t, s), "")
	pass = w.Agent("hand")
	for n, tool := range []string{"open", "draw", "prompt:hello", "resource:dock://log", "resource:dock://berth/*"} {
		rule := obj{"name": fmt.Sprintf("ok%d", n), "effect": "admit", "agent": "hand", "server": "dock", "tool": tool, "anyway": true}
		if tool == "draw" {
			rule["narrow"] = obj{"properties": obj{"litres": obj{"maximum": 10}}}
		}
		w.Must("POST", "/api/rules", rule, nil)
	}
	return w, s, pass
}

// However something is spelled, wrapped or addressed: what is not admitted does not arrive.
func TestNothingGetsPast(t *testing.T) {
	t.Parallel()
	w, s, pass := dock(t)
	call := func(name, arguments string) string {
		return `{"jsonrpc":"2.0","id":1,"method":"tools/call","params":{"name":"` + name + `","arguments":` + arguments + `}}`
	}
	request := func(method, params string) string {
		return `{"jsonrpc":"2.0","id":1,"method":"` + method + `","params":` + params + `}`
	}
	tries := map[string]string{}
	for _, name := range []string{
		"dock__scuttle", "scuttle", "Dock__scuttle", "dock__Scuttle", "dock__scuttle ", " dock__scuttle", "dock_scuttle", "dock.scuttle",
		"dock/scuttle", `dock__scuttle\u0000`, `dock__\u0073cuttle`, "dock__scutt\u217ce", "dock__\u0455cuttle", "dock__open/../scuttle", "tool:scuttle", "*",
		"dock__*", "", strings.Repeat("x", 5000),
	} {
		tries["call "+name] = call(name, "{}")
	}
	for name, arguments := range map[string]string{
		"too much": `{"litres":11}`, "twice": `{"litres":5,"litres":500}`, "twice, escaped": `{"litres":5,"\u006citres":500}`,
		"by case": `{"litres":5,"Litres":500}`, "as a text": `{"litres":"500"}`, "a huge number": `{"litres":1e400}`, "a list": `[500]`,
		"a fraction": `{"litres":10.5}`, "an exponent": `{"litres":1e2}`,
	} {
		tries["arguments "+name] = call("dock__draw", arguments)
	}
	tries["the same member twice"] = `{"jsonrpc":"2.0","id":1,"method":"tools/call","params":{"name":"dock__open","name":"dock__scuttle","arguments":{}}}`
	tries["params twice"] = `{"jsonrpc":"2.0","id":1,"method":"tools/call","params":{"name":"dock__open"},"params":{"name":"dock__scuttle"}}`
	tries["two methods"] = `{"jsonrpc":"2.0","id":1,"method":"tools/list","method":"tools/call","params":{"name":"dock__scuttle"}}`
	tries["a task"] = request("tools/call", `{"name":"dock__scuttle","arguments":{},"task":{"ttl":1000}}`)
	tries["a task with too much"] = request("tools/call", `{"name":"dock__draw","arguments":{"litres":500},"task":{"ttl":1000}}`)
	tries["somebody's task"] = request("tasks/result", `{"taskId":"t-1"}`)
	tries["a prompt"] = request("prompts/get", `{"name":"dock__plot"}`)
	tries["its completion"] = request("completion/complete", `{"ref":{"type":"ref/prompt","name":"dock__plot"},"argument":{"name":"a","value":""}}`)
	for _, uri := range []string{
		"dock://safe/key", "DOCK://safe/key", "dock://log/../safe/key", "dock://log/%2e%2e/safe/key", "dock://berth/../safe/key",
		"dock://berth/..%2fsafe%2fkey", "dock://safe/%6bey", "dock://log#/safe/key", "dock:safe/key", "",
	} {
		tries["read "+uri] = request("resources/read", `{"uri":"bouncer://dock/`+uri+`"}`)
		tries["plainly read "+uri] = request("resources/read", `{"uri":"`+uri+`"}`)
		tries["subscribe "+uri] = request("resources/subscribe", `{"uri":"bouncer://dock/`+uri+`"}`)
	}
	arrived := func() int {
		n := 0
		for _, m := range []string{`"scuttle"`, `"plot"`, "safe", `"draw"`, "subscribe", "tasks/"} {
			n += len(s.Seen(m))
		}
		return n
	}
	agents := map[string]func(body string){}
	for _, path := range []string{"/mcp", "/mcp/dock"} {
		for _, revision := range []string{"2025-03-26", "2025-06-18", "2025-11-25"} {
			a := w.Raw(path, pass, revision)
			agents[path+" "+revision] = func(body string) {
				a.Post(body)
				if revision == "2025-03-26" {
					a.Post("[" + body + "," + `{"jsonrpc":"2.0","id":2,"method":"ping"}]`)
				}
			}
		}
	}
	for _, path := range []string{"/sse", "/sse/dock"} {
		r := &testkit.Raw{T: t, URL: w.Base + path, Pass: pass}
		events := r.Listen(t.Context())
		a := &testkit.Raw{T: t, URL: w.Base + testkit.Next(t, events), Pass: pass}
		a.Post(`{"jsonrpc":"2.0","id":0,"method":"initialize","params":{"protocolVersion":"2024-11-05","capabilities":{}}}`)
		testkit.Next(t, events)
		a.Post(`{"jsonrpc":"2.0","method":"notifications/initialized"}`)
		agents[path] = func(body string) {
			a.Post(body)
			a.Post(`{"jsonrpc":"2.0","id":9,"method":"ping"}`)
			for !strings.Contains(testkit.Next(t, events), `"id":9`) { // the messages before have been taken
				continue
			}
		}
	}
	before := arrived()
	for how, send := range agents {
		for what, body := range tries {
			if strings.HasSuffix(how, "dock") || strings.Contains(how, "/dock ") {
				body = strings.ReplaceAll(body, "dock__", "") // as that address names things
			}
			send(body)
			if !assert.Equal(t, before, arrived(), "%s, %s: %s", how, what, body) {
				before = arrived()
			}
		}
	}
	// A header that says otherwise than the body.
	stateless := &testkit.Raw{T: t, URL: w.Base + "/mcp", Pass: pass, Header: map[string][]string{"Mcp-Name": {"dock__open"}}}
	_, text := stateless.Stateless("tools/call", `"name":"dock__scuttle","arguments":{}`, "{}")
	assert.NotContains(t, text, "ran", text)
	assert.Equal(t, before, arrived())
	good := w.Raw("/mcp", pass, "2025-11-25")
	assert.Nil(t, good.Ask(call("dock__draw", `{"litres":10}`)).Error, "and what is admitted does")
}

// What was learned in one session is worth nothing in another, and nothing after a change.
func TestWhatIsStaleAdmitsNothing(t *testing.T) {
	t.Parallel()
	w, s, pass := dock(t)
	agent := w.Raw("/mcp", pass, "2025-11-25")
	require.Contains(t, agent.Names(), "dock__open")
	other := w.Agent("other")
	stolen := &testkit.Raw{T: t, URL: agent.URL, Pass: other, Session: agent.Session}
	res, _ := stolen.Post(`{"jsonrpc":"2.0","id":1,"method":"tools/call","params":{"name":"dock__open","arguments":{}}}`)
	assert.Equal(t, 404, res.StatusCode, "a session id alone opens nothing")
	w.Must("DELETE", "/api/rules/ok0", nil, nil)
	r := agent.Ask(order("dock__open", "{}"))
	require.NotNil(t, r.Error, "a list that is known from before")
	assert.Empty(t, s.Seen(`"open"`))
	// An agent of the same name is another one.
	w.Must("DELETE", "/api/agents/hand", nil, nil)
	again := w.Raw("/mcp", w.Agent("hand"), "2025-11-25")
	assert.NotContains(t, again.Names(), "dock__draw", "what was admitted to the one before")
	gone := &testkit.Raw{T: t, URL: agent.URL, Pass: pass, Session: agent.Session}
	res, _ = gone.Post(`{"jsonrpc":"2.0","id":1,"method":"tools/list"}`)
	assert.Equal(t, 401, res.StatusCode)
}

// Rights that somebody loses while a call of theirs waits are gone when it goes on.
func TestARoleThatChangesDuringACall(t *testing.T) {
	t.Parallel()
	w, s, _ := dock(t)
	ottilie := w.Person("ottilie", "Ottilie Brandt", team.Maintainer)
	w.MustAs(ottilie, "POST", "/api/agents", obj{"name": "parlour", "owner": "ottilie"}, nil)
	agent := w.Raw("/mcp", w.PassAs(ottilie, "parlour"), "2025-11-25")
	w.Must("POST", "/api/rules", obj{
		"name": "chiefs", "effect": "hold", "role": "maintainer", "agent": "*", "server": "dock", "tool": "scuttle", "holdSeconds": 600,
	}, nil)
	done := make(chan testkit.Reply, 1)
	go func() { done <- agent.Ask(order("dock__scuttle", "{}")) }()
	var list []obj
	require.Eventually(t, func() bool {
		w.Must("GET", "/api/held?waiting=true", nil, &list)
		return len(list) == 1
	}, 20*time.Second, 10*time.Millisecond)
	w.Must("PATCH", "/api/people/ottilie", obj{"role": "member"}, nil)
	w.Must("POST", "/api/held/"+list[0]["id"].(string)+"/decision", obj{"how": "once"}, nil)
	r := <-done
	require.NotNil(t, r.Error)
	assert.Equal(t, "no-longer-admitted", r.Error.Data["reason"])
	assert.Empty(t, s.Seen(`"scuttle"`))
}
