package example_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/core/report"
	"bouncer/internal/core/team"
	"bouncer/internal/testkit"
)

// A call that means something to the server is kept as an example, and made by checkups.
func TestExamplesAreKept(t *testing.T) {
	t.Parallel()
	w := testkit.Start(t, nil)
	script := testkit.NewScript(t)
	script.Call = func(c *testkit.ScriptCall) { c.Text("free") }
	w.Register("radio", testkit.Upstream(t, script), "skf-canary-radio")
	const path = "/api/servers/radio/examples"
	w.Must("PUT", path+"/morning", testkit.Obj{"tool": "act", "arguments": testkit.Obj{"quay": "north"}}, nil)
	w.Must("PUT", path+"/morning", testkit.Obj{"tool": "act", "arguments": testkit.Obj{"quay": "south"}}, nil)
	var list []team.Example
	w.Must("GET", path, nil, &list)
	require.Len(t, list, 1)
	assert.JSONEq(t, `{"quay":"south"}`, string(list[0].Arguments))

	var report report.Report
	w.Must("POST", "/api/checkups", testkit.Obj{"server": "radio", "call": testkit.Obj{"example": "morning"}}, &report)
	assert.True(t, report.Healthy, "%+v", report.Findings)
	assert.NotEmpty(t, script.Seen(`"quay":"south"`))

	for field, body := range map[string]testkit.Obj{
		"tool":      {"arguments": testkit.Obj{}},
		"arguments": {"tool": "act", "arguments": testkit.Obj{"token": "skf-canary-radio"}},
	} {
		assert.Equal(t, field, w.Problem("PUT", path+"/noon", body).Field)
	}
	assert.Equal(t, "arguments", w.Problem("PUT", path+"/noon", testkit.Obj{"tool": "act", "arguments": []int{1}}).Field)
	assert.Equal(t, "name", w.Problem("PUT", path+"/At%20Noon", testkit.Obj{"tool": "act"}).Field)
	wrong := w.Problem("POST", "/api/checkups", testkit.Obj{"server": "radio", "call": testkit.Obj{"example": "mornin"}})
	assert.Contains(t, wrong.Title, "morning")
	w.Must("DELETE", path+"/morning", nil, nil)
	w.Must("GET", path, nil, &list)
	assert.Empty(t, list)
}
