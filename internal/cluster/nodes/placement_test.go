package nodes_test

import (
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/apitype"
	"bouncer/internal/core/diagnosis"
	"bouncer/internal/core/team"
	"bouncer/internal/core/wire"
	"bouncer/internal/testkit"
)

// ran is the process that a tool ran in; "" while it cannot be had.
func ran(agent *testkit.Raw, tool string) string {
	r := agent.CallTool(tool, "")
	if r.Error != nil || len(r.Result.Content) == 0 || r.Result.IsError {
		return ""
	}
	return r.Result.Content[0].Text
}

// reaches waits until a server is ready at a node, and returns an agent there.
func (c *cluster) reaches(w *testkit.World, pass, tool string) *testkit.Raw {
	c.Helper()
	var agent *testkit.Raw
	require.Eventually(c, func() bool {
		agent = w.Raw("/mcp", pass, "2025-11-25")
		return slices.Contains(agent.Names(), tool)
	}, 30*time.Second, 50*time.Millisecond)
	return agent
}

func (c *cluster) at(w *testkit.World, server string) team.Health {
	c.Helper()
	var info apitype.ServerInfo
	w.Must("GET", "/api/servers/"+server, nil, &info)
	return info.Health
}

// A process that is placed at one node runs once, and all nodes reach it; when its node leaves, it
// runs at another one.
func TestAProcessRunsAtOneNode(t *testing.T) {
	t.Parallel()
	c := begin(t)
	north := c.node("north")
	south := c.node("south")
	c.level(north, south)
	north.Must("POST", "/api/servers", testkit.Obj{"name": "berths", "command": testkit.Program(t, "moor"), "placement": "one"}, nil)
	north.Rule("admit", "*", "berths", "*")
	pass := north.Agent("marit-quill")
	there, here := c.reaches(north, pass, "berths__moor"), c.reaches(south, pass, "berths__moor")
	process := ran(there, "berths__moor")
	require.NotEmpty(t, process)
	for range 5 {
		assert.Equal(t, process, ran(here, "berths__moor"), "also at the other node")
		assert.Equal(t, process, ran(there, "berths__moor"))
	}
	require.Eventually(t, func() bool { return c.at(south, "berths").State == team.StateReady }, 30*time.Second, 50*time.Millisecond)
	runs, follows := north, south
	if c.at(north, "berths").Node == "south" {
		runs, follows = south, north
	}
	host := c.at(runs, "berths").Node
	assert.Equal(t, host, c.at(follows, "berths").Node)
	assert.NotZero(t, c.at(runs, "berths").PID)
	assert.Zero(t, c.at(follows, "berths").PID)

	// What is done with the process is done where it runs, whichever node is asked.
	follows.Must("POST", "/api/servers/berths/restart", nil, nil)
	var anew string
	require.Eventually(t, func() bool { anew = ran(here, "berths__moor"); return anew != "" && anew != process },
		30*time.Second, 50*time.Millisecond)
	assert.Equal(t, anew, ran(there, "berths__moor"))

	runs.Stop()
	agent := c.reaches(follows, pass, "berths__moor")
	require.Eventually(t, func() bool { last := ran(agent, "berths__moor"); return last != "" && last != anew },
		60*time.Second, 100*time.Millisecond, "it runs at the node that is left")
	assert.NotEqual(t, host, c.at(follows, "berths").Node)
}

// A process that is placed at a label runs at the nodes that have it; the others say why when there is
// none.
func TestAProcessRunsAtNodesWithALabel(t *testing.T) {
	t.Parallel()
	c := begin(t)
	quay := c.node("quay", "cluster-labels", "cranes, deep-water")
	south := c.node("south")
	c.level(quay, south)
	var list apitype.Nodes
	require.Eventually(t, func() bool {
		south.Must("GET", "/api/nodes", nil, &list)
		return len(list.Nodes) == 2 && slices.Equal([]string{"cranes", "deep-water"}, list.Nodes[0].Labels)
	}, 30*time.Second, 50*time.Millisecond)

	// It is registered at the node that cannot run it, and tried at the one that can.
	berths := testkit.Obj{"name": "berths", "command": testkit.Program(t, "moor"), "placement": "label:cranes"}
	south.Must("POST", "/api/servers", berths, nil)
	south.Rule("admit", "*", "berths", "*")
	pass := south.Agent("marit-quill")
	agent := c.reaches(south, pass, "berths__moor")
	process := ran(agent, "berths__moor")
	assert.Equal(t, process, ran(c.reaches(quay, pass, "berths__moor"), "berths__moor"))
	assert.Equal(t, "quay", c.at(south, "berths").Node)
	assert.Zero(t, c.at(south, "berths").PID)

	status, raw := south.Do(south.Token, "PATCH", "/api/servers/berths", testkit.Obj{"placement": "label:Cranes"})
	assert.Equal(t, http.StatusUnprocessableEntity, status)
	assert.Contains(t, string(raw), `"field":"placement"`)
	quay.Stop()
	require.Eventually(t, func() bool {
		f := c.at(south, "berths").Finding
		return f != nil && f.Cause == diagnosis.NoNode
	}, 60*time.Second, 100*time.Millisecond)
	var text string
	require.Eventually(t, func() bool {
		r := agent.CallTool("berths__moor", "") // one that was on its way while the node left has an unknown outcome
		require.NotNil(t, r.Error)
		text = r.Error.Message
		return strings.Contains(text, "no node of the cluster can be had that runs the process")
	}, 60*time.Second, 100*time.Millisecond)
	assert.Contains(t, text, "no node with the label cranes is there")
	assert.Contains(t, text, "bouncer node list")
}

// An agent that comes back at another node for the answer to a call is told that what became of it is
// not known there; the call is not sent once more.
func TestACallIsNotSentAgainElsewhere(t *testing.T) {
	t.Parallel()
	c := begin(t)
	north, script := c.node("north"), testkit.NewScript(t)
	script.Call = func(call *testkit.ScriptCall) {
		call.Notify("notifications/progress", `{"progressToken":`+call.Token+`,"progress":1}`)
		<-t.Context().Done()
	}
	north.Register("act", testkit.Upstream(t, script), "")
	north.Rule("admit", "*", "*", "*")
	pass := north.Agent("marit-quill")
	south := c.node("south")
	c.level(north, south)
	agent := c.reaches(north, pass, "act__act")
	const call = `{"jsonrpc":"2.0","id":"mine","method":"tools/call","params":{"_meta":{"progressToken":"t"},"name":"act__act"}}`
	res, err := http.DefaultClient.Do(agent.Request(t.Context(), "POST", call))
	require.NoError(t, err)
	defer res.Body.Close()
	prime, err := wire.NewEventReader(res.Body, 1<<20).Next()
	require.NoError(t, err)
	again := *agent
	again.URL = strings.Replace(agent.URL, north.Base, south.Base, 1)
	again.Header = http.Header{"Last-Event-Id": {prime.ID}}
	back, err := http.DefaultClient.Do(again.Request(t.Context(), "GET", ""))
	require.NoError(t, err)
	defer back.Body.Close()
	require.Equal(t, http.StatusOK, back.StatusCode)
	answer, err := wire.NewEventReader(back.Body, 1<<20).Next()
	require.NoError(t, err)
	assert.Contains(t, string(answer.Data), `"id":"mine","error"`)
	assert.Contains(t, string(answer.Data), "outcome-unknown")
	assert.Len(t, script.Seen("tools/call"), 1)
}
