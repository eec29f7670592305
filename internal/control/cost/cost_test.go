package cost_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/apitype"
	"bouncer/internal/core/cost"
	"bouncer/internal/core/team"
	"bouncer/internal/testkit"
)

type obj = testkit.Obj

// What a list costs is what the agent is sent: narrowed, in other words, or found; and only
// whoever may see the agent is told.
func TestTheCostIsThatOfTheListThatIsSent(t *testing.T) {
	t.Parallel()
	w := testkit.Start(t, nil)
	w.Register("echo", testkit.Upstream(t, testkit.Echo("", nil)), "")
	agent := w.Raw("/mcp", w.Agent("quill"), "2025-11-25")
	get := func() (c apitype.CostDetail) {
		t.Helper()
		w.Must("GET", "/api/agents/quill/cost", nil, &c)
		return c
	}
	sent := func() int {
		_, text := agent.Post(`{"jsonrpc":"2.0","id":1,"method":"tools/list"}`)
		return len(text)
	}
	assert.Zero(t, get().Tokens)
	w.Rule("admit", "quill", "echo", "*")
	// What surrounds the entries is some ten tokens.
	assert.InDelta(t, sent()/4, get().Tokens, 12)
	w.Must("PATCH", "/api/agents/quill", obj{"contextTokens": 1000}, nil)
	c := get()
	assert.InDelta(t, float64(c.Tokens)/1000, c.Share, 1e-9)
	require.NotEmpty(t, c.Suggestions)
	assert.Equal(t, cost.Search, c.Suggestions[0].Kind)
	agent.CallTool("echo__echo", "hello")
	w.Calls(1, "agent=quill&tool=echo")
	calls := map[string]int{}
	for _, tool := range get().List {
		calls[tool.Tool] = tool.Calls
	}
	assert.Equal(t, map[string]int{"echo": 1, "fail": 0, "slow": 0}, calls)
	w.Rule("refuse", "quill", "echo", "slow")
	assert.Less(t, get().Tokens, c.Tokens)
	w.Must("PATCH", "/api/agents/quill", obj{"finder": true}, nil)
	found := get()
	assert.InDelta(t, sent()/4, found.Tokens, 12)
	assert.Equal(t, 2, found.Tools)
	assert.Less(t, found.All, c.All)
	assert.Empty(t, found.Suggestions)

	joss := w.Person("joss", "Joss Penhale", team.Member)
	assert.Equal(t, 404, w.ProblemAs(joss, "GET", "/api/agents/quill/cost", nil).Status)
	var list []apitype.AgentCost
	w.MustAs(joss, "GET", "/api/costs", nil, &list)
	assert.Empty(t, list)
	w.Must("GET", "/api/costs", nil, &list)
	assert.Equal(t, found.AgentCost, list[0])
	assert.Equal(t, 422, w.Problem("PATCH", "/api/agents/quill", obj{"contextTokens": -1}).Status)
}
