package policy_test

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/apitype"
	"bouncer/internal/core/team"
	"bouncer/internal/testkit"
)

const pumps = `{"tools":[
	{"name":"order_fuel","title":"Order fuel","annotations":{"destructiveHint":true},
	 "inputSchema":{"type":"object","properties":{"litres":{"type":"integer"},"port":{"type":"string","enum":["Skerrow","Holm Voe","Kirkvoe"]},"by":{"type":"string"}},"required":["litres","port","by"]},
	 "outputSchema":{"type":"object","properties":{"order":{"type":"string"},"price":{"type":"number"}},"required":["order","price"]}},
	{"name":"levels","annotations":{"readOnlyHint":true},"inputSchema":{"type":"object","properties":{"vessel":{"type":"string"}}}}]}`

// station is a world with a server that orders fuel, and two agents.
type station struct {
	*testkit.World
	script *testkit.Script
	joss   string // login
}

func fuel(t *testing.T) *station {
	s := testkit.NewScript(t)
	s.Results["tools/list"] = pumps
	s.Call = func(c *testkit.ScriptCall) {
		c.Return(`{"content":[{"type":"text","text":"{\"order\":\"F-1\",\"price\":420}"}],"structuredContent":{"order":"F-1","price":420}}`)
	}
	w := &station{World: testkit.Start(t, nil), script: s}
	w.Register("fuel", testkit.Upstream(t, s), "")
	w.joss = w.Person("joss", "Joss Penhale", team.Maintainer)
	w.MustAs(w.joss, "POST", "/api/agents", obj{"name": "joss-quill", "owner": "joss"}, nil)
	w.Must("POST", "/api/agents", obj{"name": "night-watch"}, nil)
	return w
}

func (w *station) add(rule obj) {
	w.T.Helper()
	for _, field := range []string{"agent", "server", "tool"} {
		if rule[field] == nil {
			rule[field] = "*"
		}
	}
	w.Must("POST", "/api/rules", rule, nil)
}

func (w *station) sent() string {
	seen := w.script.Seen("tools/call")
	if len(seen) == 0 {
		return ""
	}
	var m struct {
		Params struct{ Arguments json.RawMessage }
	}
	require.NoError(w.T, json.Unmarshal([]byte(seen[len(seen)-1]), &m))
	return string(m.Params.Arguments)
}

func order(name, args string) string {
	return `{"jsonrpc":"2.0","id":1,"method":"tools/call","params":{"name":"` + name + `","arguments":` + args + `}}`
}

// What rules say of arguments and results is shown to the agent, enforced, filled in and
// recorded, in both eras; and explaining says the same.
func TestNarrowedCallsFromEndToEnd(t *testing.T) {
	t.Parallel()
	w := fuel(t)
	w.Must("PATCH", "/api/labels", obj{"kind": "agent", "name": "joss-quill", "add": []string{"laptop"}}, nil)
	w.add(obj{
		"name": "small", "effect": "admit", "server": "fuel", "label": "laptop", "title": "Order a little", "hide": []string{"price"},
		"narrow": obj{"properties": obj{"litres": obj{"maximum": 5000}, "port": obj{"enum": []string{"Skerrow", "Holm Voe"}}}},
		"pins":   obj{"by": "${fullName}"}, "tool": "order_fuel",
	})
	pass := w.PassAs(w.joss, "joss-quill")
	agent := w.Raw("/mcp", pass, "2025-11-25")
	_, list := agent.Post(`{"jsonrpc":"2.0","id":1,"method":"tools/list"}`)
	var shown struct {
		Result struct {
			Tools []struct {
				Name, Title               string
				InputSchema, OutputSchema json.RawMessage
			}
		}
	}
	require.NoError(t, json.Unmarshal([]byte(list), &shown))
	require.Len(t, shown.Result.Tools, 1)
	tool := shown.Result.Tools[0]
	assert.Equal(t, "fuel__order_fuel Order a little", tool.Name+" "+tool.Title)
	assert.JSONEq(t, `{"type":"object","additionalProperties":false,"required":["litres","port"],"properties":{
		"litres":{"type":"integer","maximum":5000},"port":{"type":"string","enum":["Skerrow","Holm Voe"]}}}`, string(tool.InputSchema))
	assert.JSONEq(t, `{"type":"object","properties":{"order":{"type":"string"}},"required":["order"]}`, string(tool.OutputSchema))

	for _, era := range []string{"session", "stateless"} {
		call := func(args string) string {
			if era == "session" {
				_, text := agent.Post(order("fuel__order_fuel", args))
				return text
			}
			none := &testkit.Raw{T: t, URL: w.Base + "/mcp", Pass: pass}
			_, text := none.Stateless("tools/call", `"name":"fuel__order_fuel","arguments":`+args, "{}")
			return text
		}
		text := call(`{"litres":200,"port":"Skerrow"}`)
		assert.Contains(t, text, `F-1`, era)
		assert.NotContains(t, text, "420", era)
		assert.JSONEq(t, `{"litres":200,"port":"Skerrow","by":"Joss Penhale"}`, w.sent(), era)
		before := len(w.script.Seen("tools/call"))
		for args, why := range map[string]string{
			`{"litres":9000,"port":"Skerrow"}`:                "rule small narrows what this agent may say",
			`{"litres":200,"port":"Kirkvoe"}`:                 "port",
			`{"litres":200,"port":"Skerrow","by":"Mallory"}`:  "by",
			`{"litres":200,"port":"Skerrow","BY":"Mallory"}`:  "its case only",
			`{"litres":200,"port":"Skerrow","litres":200000}`: "occurs twice",
			`{"litres":200,"port":"Skerrow","\u0062y":"x"}`:   "by",
			`{}`: "litres",
		} {
			text := call(args)
			assert.Contains(t, text, "arguments-not-admitted", args)
			assert.Contains(t, text, why, args)
			var e apitype.Explained
			w.Must("POST", "/api/explanations", obj{"agent": "joss-quill", "tool": "fuel__order_fuel", "arguments": json.RawMessage(args)}, &e)
			assert.Equal(t, "refuse", e.Effect, args)
		}
		assert.Len(t, w.script.Seen("tools/call"), before, "nothing of it reached the server")
	}
	var e apitype.Explained
	w.Must("POST", "/api/explanations", obj{"agent": "joss-quill", "tool": "fuel__order_fuel", "arguments": obj{"litres": 1, "port": "Skerrow"}}, &e)
	assert.Equal(t, []string{"admit", "small", "by"}, []string{e.Effect, e.RuleName, strings.Join(e.Pinned, ",")})
	w.Must("POST", "/api/explanations", obj{"agent": "night-watch", "tool": "fuel__order_fuel"}, &e)
	assert.Equal(t, "refuse", e.Effect)
	assert.Contains(t, strings.Join(e.Change, "\n"), "bouncer label add agent night-watch laptop")
	calls := w.Calls(2, "agent=joss-quill&outcome=ok")
	require.NotNil(t, calls[0].Control)
	assert.Equal(t, []string{"small"}, calls[0].Control.Narrowed)
	assert.Positive(t, calls[0].Control.Hidden)

	w.Must("PATCH", "/api/labels", obj{"kind": "agent", "name": "joss-quill", "remove": []string{"laptop"}}, nil)
	assert.Contains(t, agent.Ask(order("fuel__order_fuel", `{"litres":200,"port":"Skerrow"}`)).Error.Message, "no rule admits it")
}

// held returns the one call that waits, as somebody is shown it.
func (w *station) held(token string) apitype.HeldCall {
	w.T.Helper()
	var list []apitype.HeldCall
	require.Eventually(w.T, func() bool {
		w.MustAs(token, "GET", "/api/held?waiting=true", nil, &list)
		return len(list) == 1
	}, 20*time.Second, 10*time.Millisecond)
	return list[0]
}

func (w *station) decide(token, id string, how obj) {
	w.T.Helper()
	w.MustAs(token, "POST", "/api/held/"+id+"/decision", how, nil)
}

// A held call waits for a person, and goes on, or not, as that person says.
func TestHeldCallsWaitForAPerson(t *testing.T) {
	t.Parallel()
	w := fuel(t)
	w.add(obj{"name": "watch", "effect": "hold", "server": "fuel", "agent": "night-watch", "deciders": []string{"group:dispatch"}})
	teo := w.Person("teo", "Teo Castellane", team.Member)
	w.Must("PATCH", "/api/labels", obj{"kind": "person", "name": "teo", "add": []string{"dispatch"}}, nil)
	pass := w.Pass("night-watch")
	agent := w.Raw("/mcp", pass, "2025-11-25")
	agent.Header.Set("Accept", "application/json, text/event-stream")
	const args = `{"litres":200,"port":"Skerrow","by":"watch"}`
	start := func() <-chan testkit.Reply {
		out := make(chan testkit.Reply, 1)
		go func() { out <- agent.Ask(order("fuel__order_fuel", args)) }()
		return out
	}
	reply := start()
	c := w.held(teo)
	assert.True(t, c.Mine)
	assert.Equal(t, []string{"night-watch", "fuel", "order_fuel", "watch"}, []string{c.Agent, c.Server, c.Tool, c.Rule})
	assert.JSONEq(t, args, string(c.Arguments))
	assert.Equal(t, []string{"destructive", "open-world"}, c.Effects)
	assert.False(t, w.held(w.Token).Mine, "an admin is not of dispatch")
	p := w.Problem("POST", "/api/held/"+c.ID+"/decision", obj{"how": "once"})
	assert.Equal(t, 403, p.Status)
	assert.Contains(t, p.Title, "group:dispatch")
	outsider := w.Person("ottilie", "Ottilie Brandt", team.Member)
	assert.Equal(t, 404, w.ProblemAs(outsider, "GET", "/api/held/"+c.ID, nil).Status)
	assert.Equal(t, 404, w.ProblemAs(outsider, "POST", "/api/held/"+c.ID+"/decision", obj{"how": "once"}).Status)
	for field, in := range map[string]obj{"how": {"how": "maybe"}, "calls": {"how": "calls"}, "arguments": {"how": "changed"}, "word": {"how": "once", "word": strings.Repeat("x", 501)}} {
		assert.Equal(t, field, w.ProblemAs(teo, "POST", "/api/held/"+c.ID+"/decision", in).Field)
	}
	assert.Empty(t, w.sent())
	w.decide(teo, c.ID, obj{"how": "once", "word": "go"})
	assert.Nil(t, (<-reply).Error)
	assert.JSONEq(t, args, w.sent())
	assert.Equal(t, 409, w.ProblemAs(teo, "POST", "/api/held/"+c.ID+"/decision", obj{"how": "once"}).Status, "never twice")
	call := w.Calls(1, "agent=night-watch")[0]
	assert.Equal(t, []string{"admit", "watch", "watch", "teo", "once"}, []string{call.Decision, call.RuleName, call.Control.Held, call.Control.By, call.Control.How})

	reply = start()
	c = w.held(teo)
	var full apitype.HeldCall
	w.MustAs(teo, "GET", "/api/held/"+c.ID, nil, &full)
	require.Len(t, full.Before, 1)
	assert.Equal(t, "teo once go", full.Before[0].By+" "+full.Before[0].How+" "+full.Before[0].Word)
	w.decide(teo, c.ID, obj{"how": "refuse", "word": "the tank is full"})
	r := <-reply
	assert.Contains(t, r.Error.Message, "Teo Castellane refused it: the tank is full")
	assert.Equal(t, "held-refused", r.Error.Data["reason"])

	reply = start()
	c = w.held(teo)
	bad := w.ProblemAs(teo, "POST", "/api/held/"+c.ID+"/decision", obj{"how": "changed", "arguments": []int{1}})
	assert.Equal(t, "arguments", bad.Field)
	w.decide(teo, c.ID, obj{"how": "changed", "arguments": obj{"litres": 20, "port": "Skerrow", "by": "teo"}})
	assert.Nil(t, (<-reply).Error)
	assert.JSONEq(t, `{"litres":20,"port":"Skerrow","by":"teo"}`, w.sent())

	reply = start()
	w.decide(teo, w.held(teo).ID, obj{"how": "calls", "calls": 2})
	assert.Nil(t, (<-reply).Error)
	for range 2 {
		assert.Nil(t, (<-start()).Error, "covered by what was decided")
	}
	reply = start()
	w.decide(teo, w.held(teo).ID, obj{"how": "hour"})
	assert.Nil(t, (<-reply).Error)
	assert.Nil(t, (<-start()).Error)
	var standing []apitype.StandingDecision
	w.MustAs(teo, "GET", "/api/standing", nil, &standing)
	require.Len(t, standing, 1)
	w.MustAs(teo, "DELETE", "/api/standing/"+standing[0].ID, nil, nil)
	reply = start()
	c = w.held(teo)

	// What was taken away meanwhile is not carried out, though it is admitted.
	w.Rule("refuse", "*", "fuel", "order_*")
	before := w.sent()
	w.decide(teo, c.ID, obj{"how": "once"})
	r = <-reply
	assert.Equal(t, "no-longer-admitted", r.Error.Data["reason"])
	assert.Contains(t, r.Error.Message, "it was taken away")
	assert.Equal(t, before, w.sent())
}

// Held and running calls of a revoked agent end, in both eras; so do held ones when the
// service stops, with an honest answer.
func TestRevokedAgentsEndAtOnce(t *testing.T) {
	t.Parallel()
	w := fuel(t)
	w.add(obj{"name": "hold", "effect": "hold", "server": "fuel", "tool": "order_fuel"})
	w.add(obj{"name": "look", "effect": "admit", "server": "fuel", "tool": "levels"})
	running := make(chan struct{}, 2)
	release := make(chan struct{})
	t.Cleanup(func() { close(release) })
	w.script.Call = func(c *testkit.ScriptCall) {
		running <- struct{}{}
		<-release
		c.Text("late")
	}
	for _, era := range []string{"session", "stateless"} {
		for _, tool := range []string{"order_fuel", "levels"} {
			name := strings.ReplaceAll(era+"-"+tool, "_", "-")
			w.Must("POST", "/api/agents", obj{"name": name}, nil)
			pass := w.Pass(name)
			done := make(chan string, 1)
			if era == "session" {
				agent := w.Raw("/mcp", pass, "2025-11-25")
				go func() { _, text := agent.Post(order("fuel__"+tool, `{}`)); done <- text }()
			} else {
				agent := &testkit.Raw{T: t, URL: w.Base + "/mcp", Pass: pass}
				go func() {
					_, text := agent.Stateless("tools/call", `"name":"fuel__`+tool+`","arguments":{}`, "{}")
					done <- text
				}()
			}
			if tool == "levels" {
				<-running
			} else {
				w.held(w.Token)
			}
			w.Must("DELETE", "/api/agents/"+name, nil, nil)
			select {
			case text := <-done:
				assert.NotContains(t, text, "late", name)
			case <-time.After(20 * time.Second):
				t.Fatal(name + " went on")
			}
		}
	}
	agent := w.Raw("/mcp", w.Pass("night-watch"), "2025-11-25")
	done := make(chan testkit.Reply, 1)
	go func() { done <- agent.Ask(order("fuel__order_fuel", `{}`)) }()
	w.held(w.Token)
	w.Stop()
	assert.Contains(t, (<-done).Error.Message, "Bouncer was stopped while it was held")
}

// An agent whose call waits is told so, and one that cancels is not waited for.
func TestWaitingIsTold(t *testing.T) {
	t.Parallel()
	w := fuel(t)
	w.add(obj{"name": "hold", "effect": "hold", "server": "fuel", "tool": "order_fuel", "holdSeconds": 600})
	agent := w.Raw("/mcp", w.Pass("night-watch"), "2025-11-25")
	ctx, stop := context.WithCancel(context.Background())
	defer stop()
	events := agent.Open(ctx, `{"jsonrpc":"2.0","id":9,"method":"tools/call","params":{"name":"fuel__order_fuel","arguments":{},"_meta":{"progressToken":"p"}}}`)
	told := testkit.Next(t, events)
	for !strings.Contains(told, "progress") {
		told = testkit.Next(t, events)
	}
	assert.Contains(t, told, "held by rule hold until a person decides")
	agent.Post(`{"jsonrpc":"2.0","method":"notifications/cancelled","params":{"requestId":9}}`)
	var list []apitype.HeldCall
	require.Eventually(t, func() bool {
		w.Must("GET", "/api/held", nil, &list)
		return len(list) == 1 && list[0].State == "cancelled"
	}, 20*time.Second, 10*time.Millisecond)
	assert.Empty(t, w.sent())
}

// Rules that depend on the circumstances act on each request by itself, and those with an
// end by themselves.
func TestCircumstancesAndTimes(t *testing.T) {
	t.Parallel()
	w := fuel(t)
	w.add(obj{"name": "raw", "effect": "admit", "server": "fuel", "client": "raw", "network": "127.0.0.0/8", "tool": "levels"})
	w.add(obj{"name": "there", "effect": "admit", "server": "fuel", "presence": "present", "tool": "order_fuel"})
	pass := w.PassAs(w.joss, "joss-quill")
	agent := w.Raw("/mcp", pass, "2025-11-25")
	assert.ElementsMatch(t, []string{"fuel__levels", "fuel__order_fuel"}, agent.Names())
	none := &testkit.Raw{T: t, URL: w.Base + "/mcp", Pass: pass}
	_, text := none.Stateless("tools/list", "", "{}")
	assert.NotContains(t, text, "fuel__levels", "another program")
	assert.Contains(t, text, "fuel__order_fuel")
	watch := w.Raw("/mcp", w.Pass("night-watch"), "2025-11-25")
	assert.Equal(t, []string{"fuel__levels"}, watch.Names(), "nobody is behind an agent of the team's")
	w.Clock.Forward(time.Hour)
	assert.Equal(t, []string{"fuel__levels"}, agent.Names(), "joss has gone")

	w.add(obj{"name": "today", "effect": "admit", "server": "fuel", "tool": "order_fuel", "ends": w.Clock.Now().Add(time.Hour).Format(time.RFC3339)})
	assert.Len(t, watch.Names(), 2)
	w.Clock.Forward(2 * time.Hour)
	w.add(obj{"name": "other", "effect": "admit", "server": "fuel", "tool": "levels"}) // has the rules looked at again
	assert.Equal(t, []string{"fuel__levels"}, watch.Names())
	var r apitype.RuleInfo
	w.Must("GET", "/api/rules/today", nil, &r)
	assert.Contains(t, r.Matches.Off, "it ended at")
	assert.Contains(t, strings.Join(r.Warnings, " "), "ended already")
}

// Labels and bundles are given by who makes rules, are in force at once, and are undone.
func TestLabelsAndBundles(t *testing.T) {
	t.Parallel()
	w := fuel(t)
	for name, row := range map[string]struct {
		in     obj
		status int
		field  string
	}{
		"no such kind":   {obj{"kind": "cat", "name": "x", "add": []string{"a"}}, 422, "kind"},
		"no such agent":  {obj{"kind": "agent", "name": "x", "add": []string{"a"}}, 404, ""},
		"no label":       {obj{"kind": "agent", "name": "joss-quill", "add": []string{"Lap Top"}}, 422, "add"},
		"nothing":        {obj{"kind": "agent", "name": "joss-quill"}, 422, "add"},
		"no such tool":   {obj{"kind": "tool", "name": "fuel", "tool": "lift", "add": []string{"a"}}, 404, ""},
		"not there":      {obj{"kind": "agent", "name": "joss-quill", "remove": []string{"a"}}, 404, ""},
		"a tool too few": {obj{"kind": "tool", "name": "fuel", "add": []string{"a"}}, 422, "tool"},
	} {
		p := w.Problem("PATCH", "/api/labels", row.in)
		assert.Equal(t, fmt.Sprint(row.status, row.field), fmt.Sprint(p.Status, p.Field), name)
	}
	w.add(obj{"name": "calm", "effect": "admit", "server": "fuel", "hint": "read-only"})
	watch := w.Raw("/mcp", w.Pass("night-watch"), "2025-11-25")
	assert.Equal(t, []string{"fuel__levels"}, watch.Names())
	w.Must("PATCH", "/api/labels", obj{"kind": "tool", "name": "fuel", "tool": "order_fuel", "add": []string{"read-only"}}, nil)
	assert.Len(t, watch.Names(), 2, "a tag counts instead of what the tool says")
	var changes []team.Change
	w.Must("GET", "/api/changes", nil, &changes)
	require.Equal(t, "label.set", changes[0].What)
	w.Must("POST", "/api/changes/"+changes[0].ID+"/undo", obj{}, nil)
	assert.Equal(t, []string{"fuel__levels"}, watch.Names())

	assert.Equal(t, "entries", w.Problem("POST", "/api/bundles", obj{"name": "a", "entries": []obj{{"bundle": "a"}}}).Field)
	var b apitype.BundleInfo
	w.Must("POST", "/api/bundles", obj{"name": "orders", "entries": []obj{{"server": "fuel", "tool": "order_*"}}}, &b)
	assert.Equal(t, []string{"fuel/order_fuel"}, b.Tools)
	w.add(obj{"name": "bundled", "effect": "admit", "bundle": "orders"})
	assert.Len(t, watch.Names(), 2)
	assert.Equal(t, 409, w.Problem("DELETE", "/api/bundles/orders", nil).Status, "a rule names it")
	w.Must("PATCH", "/api/bundles/orders", obj{"entries": []obj{{"server": "fuel", "tool": "levels"}}}, &b)
	assert.Equal(t, []string{"fuel__levels"}, watch.Names())
	assert.Equal(t, "bundle", w.Problem("POST", "/api/rules", obj{"effect": "admit", "agent": "*", "server": "*", "tool": "*", "bundle": "none"}).Field)
	w.Must("DELETE", "/api/rules/bundled", nil, nil)
	w.Must("DELETE", "/api/bundles/orders", nil, nil)
}
