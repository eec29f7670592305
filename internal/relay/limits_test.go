package relay_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/core/wire"
	"bouncer/internal/testkit"
)

// How long calls may take and what they may bring is set for a server and for single
// tools, and holds from the next call on.
func TestLimitsOfServersAndTools(t *testing.T) {
	t.Parallel()
	w, _, pass, release := start(t, nil)
	defer close(release)
	w.Rule("admit", "*", "*", "*")
	agent := w.Raw("/mcp/echo", pass, wire.Rev20251125)
	long := strings.Repeat("å", 3000)
	call := func(text string) (string, bool) {
		r := agent.CallTool("echo", text)
		require.Nil(t, r.Error)
		last := r.Result.Content[len(r.Result.Content)-1].Text
		return last, r.Result.IsError
	}
	w.Must("PATCH", "/api/servers/echo", testkit.Obj{"resultKiB": 4}, nil)
	text, failed := call(long)
	assert.True(t, failed)
	assert.Contains(t, text, "the limit of the tool is 4096; ask for less")
	assert.Equal(t, "error", w.Calls(1, "tool=echo")[0].Outcome)

	w.Must("PATCH", "/api/servers/echo", testkit.Obj{"tooLarge": "cut"}, nil)
	text, failed = call(long)
	assert.False(t, failed)
	assert.Contains(t, text, "4096 are the most for this tool, so it was cut")
	c := w.Calls(2, "tool=echo")[0]
	assert.Equal(t, "ok", c.Outcome)
	assert.Contains(t, c.Error, "it was cut")
	assert.LessOrEqual(t, c.BytesOut, 4096)
	text, _ = call("short")
	assert.Equal(t, "short", text)

	w.Must("PATCH", "/api/servers/echo", testkit.Obj{"toolLimits": []testkit.Obj{{"tool": "ec*", "resultKiB": 0}, {"tool": "slow", "callSeconds": 1}}}, nil)
	text, _ = call(long)
	assert.Equal(t, long, text, "the tool's own limits count")
	r := agent.CallTool("slow", "x")
	require.NotNil(t, r.Error)
	assert.Contains(t, r.Error.Message, "did not answer within 1s")
	assert.Equal(t, "timeout", w.Calls(1, "tool=slow")[0].Outcome)
	for field, in := range map[string]testkit.Obj{
		"tooLarge": {"tooLarge": "drop"}, "resultKiB": {"resultKiB": -1}, "callSeconds": {"callSeconds": 1 << 20}, "messageMiB": {"messageMiB": 999},
		"toolLimits": {"toolLimits": []testkit.Obj{{"callSeconds": 1}}},
	} {
		assert.Equal(t, field, w.Problem("PATCH", "/api/servers/echo", in).Field)
	}
}
