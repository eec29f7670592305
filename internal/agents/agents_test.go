package agents_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"bouncer/internal/apitype"
	"bouncer/internal/core/team"
	"bouncer/internal/testkit"
)

// A member reads the rules and chooses a name that fits one: that alone opens
// nothing.
func TestAChosenNameOpensNothing(t *testing.T) {
	t.Parallel()
	w := testkit.Start(t, nil)
	ottilie, joss := w.Person("ottilie", "Ottilie Brandt", team.Member), w.Person("joss", "Joss Penhale", team.Maintainer)
	w.Register("echo", testkit.Upstream(t, testkit.Echo("skf-team-token", nil)), "skf-team-token")
	w.Rule("admit", "ops-*", "*", "*")
	w.Rule("admit", "*", "echo", "fail")
	w.MustAs(ottilie, "POST", "/api/agents", testkit.Obj{"name": "ops-mallory", "owner": "ottilie"}, nil)
	agent := w.Raw("/mcp", w.PassAs(ottilie, "ops-mallory"), "2025-11-25")
	assert.Equal(t, []string{"echo__fail"}, agent.Names(), "what everybody has")
	r := agent.CallTool("echo__echo", "x")
	assert.Contains(t, r.Error.Message, "bouncer agent confirm", "the refusal says what is missing")
	reach := func(tool string) apitype.ReachedTool {
		var list []apitype.ReachedTool
		w.MustAs(ottilie, "GET", "/api/agents/ops-mallory/reach", nil, &list)
		for _, r := range list {
			if r.Tool == tool {
				return r
			}
		}
		return apitype.ReachedTool{}
	}
	assert.Contains(t, reach("echo").Why, "bouncer agent confirm", "so does the list")
	status, raw := w.Do(ottilie, "PATCH", "/api/agents/ops-mallory", testkit.Obj{"confirmed": true})
	assert.Equal(t, 403, status, "%s", raw)
	var a team.Agent
	w.MustAs(joss, "PATCH", "/api/agents/ops-mallory", testkit.Obj{"confirmed": true}, &a)
	assert.True(t, a.Confirmed)
	assert.Equal(t, "x", agent.CallTool("echo__echo", "x").Result.Content[0].Text, "at once, in the open session")

	// A rule for one agent is for that one, and not for the next of its name.
	w.MustAs(ottilie, "POST", "/api/agents", testkit.Obj{"name": "ottilie-quill", "owner": "ottilie"}, nil)
	w.Rule("admit", "ottilie-quill", "echo", "echo")
	first := w.Raw("/mcp", w.PassAs(ottilie, "ottilie-quill"), "2025-11-25")
	assert.Equal(t, []string{"echo__echo", "echo__fail"}, first.Names(), "it was there when the rule was made")
	w.MustAs(ottilie, "DELETE", "/api/agents/ottilie-quill", nil, nil)
	w.MustAs(ottilie, "POST", "/api/agents", testkit.Obj{"name": "ottilie-quill", "owner": "ottilie"}, nil)
	second := w.Raw("/mcp", w.PassAs(ottilie, "ottilie-quill"), "2025-11-25")
	assert.Equal(t, []string{"echo__fail"}, second.Names())
	assert.Contains(t, second.CallTool("echo__echo", "x").Error.Message, "no rule admits it")
	// Whoever may make rules stands for the names they choose.
	assert.True(t, strings.Contains(strings.Join(w.Raw("/mcp", w.Agent("ops-marit"), "2025-11-25").Names(), " "), "echo__echo"))
}
