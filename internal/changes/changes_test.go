package changes_test

import (
	"net/http"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/apitype"
	"bouncer/internal/core/team"
	"bouncer/internal/testkit"
)

// newest is the newest change of a kind.
func newest(t *testing.T, w *testkit.World, what string) team.Change {
	t.Helper()
	var list []team.Change
	w.Must("GET", "/api/changes", nil, &list)
	for _, c := range list {
		if c.What == what {
			return c
		}
	}
	t.Fatalf("no change %s", what)
	return team.Change{}
}

func undo(w *testkit.World, c team.Change) {
	w.Must("POST", "/api/changes/"+c.ID+"/undo", testkit.Obj{}, nil)
}

// What is undone is as it was, and the undoing can be undone.
func TestUndoPutsBack(t *testing.T) {
	t.Parallel()
	w := testkit.Start(t, nil)
	w.Register("echo", testkit.Upstream(t, testkit.Echo("", nil)), "")
	w.Agent("marit-quill")
	rule := w.Rule("admit", "marit-quill", "echo", "echo")
	call := func() bool {
		return w.Raw("/mcp", w.Pass("marit-quill"), "2025-11-25").CallTool("echo__echo", `{"text":"x"}`).Error == nil
	}
	require.True(t, call())

	w.Must("PATCH", "/api/rules/"+rule, testkit.Obj{"effect": "refuse", "note": "not now"}, nil)
	require.False(t, call())
	altered := newest(t, w, "rule.update")
	undo(w, altered)
	require.True(t, call(), "the rule admits again")
	undo(w, newest(t, w, "rule.update"))
	require.False(t, call(), "the undoing was undone")
	p := w.Problem("POST", "/api/changes/"+altered.ID+"/undo", testkit.Obj{})
	assert.Contains(t, p.Title, "undone already")

	w.Must("DELETE", "/api/rules/"+rule, nil, nil)
	undo(w, newest(t, w, "rule.remove"))
	var rules []apitype.RuleInfo
	w.Must("GET", "/api/rules", nil, &rules)
	require.Len(t, rules, 1)
	assert.Equal(t, "refuse not now "+rule, rules[0].Effect+" "+rules[0].Note+" "+rules[0].Name)
	undo(w, newest(t, w, "rule.add"))
	w.Must("GET", "/api/rules", nil, &rules)
	assert.Empty(t, rules)

	w.Must("PATCH", "/api/agents/marit-quill", testkit.Obj{"paused": true}, nil)
	undo(w, newest(t, w, "agent.update"))
	var agent team.Agent
	w.Must("GET", "/api/agents/marit-quill", nil, &agent)
	assert.False(t, agent.Paused)

	other := testkit.Upstream(t, testkit.Echo("", nil))
	var was, now apitype.ServerInfo
	w.Must("GET", "/api/servers/echo", nil, &was)
	open := []string{"X-Team: canary-of-the-quay"}
	limits := []testkit.Obj{{"tool": "slow", "callSeconds": 5}}
	w.Must("PATCH", "/api/servers/echo", testkit.Obj{"url": other, "callSeconds": 7, "toolLimits": limits, "headers": open}, nil)
	told := newest(t, w, "server.update")
	assert.Contains(t, told.After, `callSeconds 7, headers X-Team, toolLimits [`)
	assert.Contains(t, told.Before, `callSeconds 0, headers , toolLimits []`)
	assert.NotContains(t, told.After, "canary", "auditors see changes, and not the values of headers")
	undo(w, told)
	w.Must("GET", "/api/servers/echo", nil, &now)
	was.Version, now.Version = 0, 0
	assert.Equal(t, was.Server, now.Server)
}

// What somebody altered meanwhile is not lost by an undoing, and nobody undoes what they
// could not have done.
func TestUndoKeepsWhatCameAfter(t *testing.T) {
	t.Parallel()
	w := testkit.Start(t, nil)
	upstream := testkit.Upstream(t, testkit.Echo("", nil))
	w.Register("echo", upstream, "")
	maintainer := w.Person("isla", "Isla Faro", team.Maintainer)
	w.Person("ottilie", "Ottilie Brandt", team.Member)

	w.Must("PATCH", "/api/servers/echo", testkit.Obj{"callSeconds": 7}, nil)
	first := newest(t, w, "server.update")
	w.MustAs(maintainer, "PATCH", "/api/servers/echo", testkit.Obj{"resultKiB": 9}, nil)
	p := w.Problem("POST", "/api/changes/"+first.ID+"/undo", testkit.Obj{})
	assert.Equal(t, http.StatusConflict, p.Status)
	assert.Contains(t, p.Title, "altered or removed since")

	w.Must("DELETE", "/api/servers/echo", nil, nil)
	w.Register("echo", upstream, "")
	p = w.Problem("POST", "/api/changes/"+first.ID+"/undo", testkit.Obj{})
	assert.Equal(t, http.StatusConflict, p.Status, "another server of that name is not touched")

	w.Must("PATCH", "/api/people/ottilie", testkit.Obj{"role": "auditor"}, nil)
	role := newest(t, w, "person.update")
	var seen []team.Change
	w.MustAs(maintainer, "GET", "/api/changes", nil, &seen)
	assert.Equal(t, "person.update false", seen[0].What+map[bool]string{true: " true", false: " false"}[seen[0].Undoable])
	assert.Equal(t, http.StatusForbidden, w.ProblemAs(maintainer, "POST", "/api/changes/"+role.ID+"/undo", testkit.Obj{}).Status)
	undo(w, role)

	// What was in the open and is a secret is not kept to be put back.
	w.Must("PATCH", "/api/servers/echo", testkit.Obj{"headers": []string{"X-Api-Key: skf-4hg2Lq9vPz7Wm1Tx"}, "plain": true}, nil)
	w.Must("PATCH", "/api/servers/echo", testkit.Obj{"headers": []string{}}, nil)
	assert.False(t, newest(t, w, "server.update").Undoable)
}
