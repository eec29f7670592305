package servers_test

import (
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/apitype"
	"bouncer/internal/testkit"
)

type obj = testkit.Obj

func info(w *testkit.World, method, path string) (s apitype.ServerInfo) {
	w.T.Helper()
	w.Must(method, path, nil, &s)
	return s
}

func toolsOf(w *testkit.World, server string) (names []string) {
	var list []apitype.ToolView
	w.Must("GET", "/api/servers/"+server+"/tools", nil, &list)
	for _, t := range list {
		names = append(names, t.Name)
	}
	return names
}

// A check asks the process that runs, says when its program changed, and a restart
// takes the new one up, if that answers.
func TestCheckLooksAtWhatRuns(t *testing.T) {
	t.Parallel()
	w := testkit.Start(t, nil)
	path := testkit.Program(t, "old")
	w.Must("POST", "/api/servers", obj{"name": "berths", "command": "sh", "args": []string{path}}, nil)
	w.Rule("admit", "*", "*", "*")
	agent := w.Raw("/mcp/berths", w.Agent("marit-quill"), "2025-11-25")
	running := agent.CallTool("old", "x").Result.Content[0].Text

	before := info(w, "POST", "/api/servers/berths/check")
	assert.Equal(t, running, strconv.Itoa(before.Health.PID), "no second process is looked at")
	assert.Empty(t, before.Health.Altered)

	testkit.Rewrite(t, path, "")
	require.Eventually(t, func() bool { return info(w, "GET", "/api/servers/berths").Health.Altered == path }, 30*time.Second, 20*time.Millisecond,
		"a changed script is noticed, though nobody asks")
	after := info(w, "POST", "/api/servers/berths/check")
	assert.Equal(t, "ready", after.Health.State)
	assert.Equal(t, path, after.Health.Altered)
	p := w.Problem("POST", "/api/servers/berths/restart", nil)
	assert.Equal(t, 502, p.Status)
	assert.Contains(t, p.Title, "what runs goes on")
	assert.Equal(t, running, agent.CallTool("old", "x").Result.Content[0].Text, "what does not answer replaces nothing")

	testkit.Rewrite(t, path, "new")
	restarted := info(w, "POST", "/api/servers/berths/restart")
	assert.NotEqual(t, before.Health.PID, restarted.Health.PID)
	assert.Empty(t, restarted.Health.Altered)
	assert.Equal(t, []string{"new"}, toolsOf(w, "berths"))
	assert.Equal(t, strconv.Itoa(restarted.Health.PID), agent.CallTool("new", "x").Result.Content[0].Text, "in the open session")
	assert.Equal(t, 404, w.Problem("POST", "/api/servers/nope/restart", nil).Status)
}

// With the setting for it, a changed program is taken up by itself.
func TestAChangedProgramIsTakenUp(t *testing.T) {
	t.Parallel()
	w := testkit.Start(t, map[string]string{"altered-programs": "restart"})
	path := testkit.Program(t, "old")
	w.Must("POST", "/api/servers", obj{"name": "berths", "command": path}, nil)
	testkit.Rewrite(t, path, "new")
	require.Eventually(t, func() bool { return toolsOf(w, "berths")[0] == "new" }, 30*time.Second, 20*time.Millisecond)
	assert.Empty(t, info(w, "POST", "/api/servers/berths/check").Health.Altered)
}
