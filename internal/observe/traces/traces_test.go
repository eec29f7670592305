package traces_test

import (
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/testkit"
	"bouncer/standin/collector"
)

// upstream is a server that remembers what it was told of traces.
type upstream struct {
	http.Handler
	mu      sync.Mutex
	parents []string
}

func (u *upstream) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	u.mu.Lock()
	if p := r.Header.Get("traceparent"); p != "" {
		u.parents = append(u.parents, p)
	}
	u.mu.Unlock()
	u.Handler.ServeHTTP(w, r)
}

func start(t *testing.T, c *collector.Collector, settings map[string]string) (*testkit.World, *testkit.Raw, *upstream) {
	s := httptest.NewServer(c)
	t.Cleanup(s.Close)
	settings["trace-to"] = s.URL
	w := testkit.Start(t, settings)
	up := &upstream{Handler: testkit.Echo("", nil)}
	w.Register("echo", testkit.Upstream(t, up), "skf-4hg2Lq9vPz7Wm1Tx")
	w.Rule("admit", "*", "*", "echo")
	return w, w.Raw("/mcp", w.Agent("marit-quill"), "2025-11-25"), up
}

// A call is one span, what its server did another within it; both belong to the agent's
// trace, of which the server is told too. Texts are in none of them.
func TestCallsAreTracesFromEndToEnd(t *testing.T) {
	t.Setenv("COLLECTOR_TOKEN", "skf-collector-5Hs8Qw2Zx")
	c := &collector.Collector{Token: "skf-collector-5Hs8Qw2Zx"}
	w, agent, up := start(t, c, map[string]string{"trace-token": "env COLLECTOR_TOKEN"})
	c.Fail(503) // it is tried again
	const trace, span = "0af7651916cd43dd8448eb211c80319c", "b7ad6b7169203331"
	req := agent.Request(t.Context(), http.MethodPost,
		`{"jsonrpc":"2.0","id":1,"method":"tools/call","params":{"name":"echo__echo","arguments":{"text":"canary text"}}}`)
	req.Header.Set("traceparent", "00-"+trace+"-"+span+"-01")
	res, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	require.NoError(t, res.Body.Close())
	res, _ = agent.Post(`{"jsonrpc":"2.0","id":2,"method":"tools/call","params":{"name":"echo__slow","arguments":{},"_meta":{"traceparent":"00-` +
		strings.Repeat("ab", 16) + `-` + span + `-01"}}}`)
	require.Equal(t, 200, res.StatusCode)
	agent.Post(`{"jsonrpc":"2.0","id":3,"method":"tools/call","params":{"name":"echo__echo","arguments":{},"_meta":{"traceparent":"00-` +
		strings.Repeat("cd", 16) + `-` + span + `-00"}}}`)
	agent.CallTool("echo__skf-4hg2Lq9vPz7Wm1Tx", "x") // whatever an agent makes up as a name
	w.Calls(4, "")
	require.Eventually(t, func() bool { return len(c.Spans()) >= 4 }, 30*time.Second, 20*time.Millisecond)
	byName := map[string]collector.Span{}
	for _, s := range c.Spans() {
		byName[s.Name] = s
		assert.NotContains(t, s.Name, "skf-4hg2")
		for _, text := range s.Attributes {
			assert.NotContains(t, text, "canary")
			assert.NotContains(t, text, "skf-4hg2")
		}
	}
	whole, server, refused := byName["echo of echo"], byName["echo"], byName["slow of echo"]
	assert.Equal(t, []string{trace, span, trace, whole.ID}, []string{whole.Trace, whole.Parent, server.Trace, server.Parent})
	assert.True(t, whole.Server)
	assert.False(t, server.Server)
	assert.LessOrEqual(t, server.Micros, whole.Micros)
	assert.Equal(t, []string{"marit-quill", "echo", "ok"},
		[]string{whole.Attributes["bouncer.agent"], whole.Attributes["bouncer.tool"], whole.Attributes["bouncer.outcome"]})
	assert.Equal(t, []any{strings.Repeat("ab", 16), span, true}, []any{refused.Trace, refused.Parent, refused.Failed})
	assert.Len(t, c.Spans(), 4, "what the agent does not keep is not told; a refused call has no server")
	up.mu.Lock()
	defer up.mu.Unlock()
	require.NotEmpty(t, up.parents)
	for _, told := range up.parents { // also by what had to be opened for the call
		assert.Equal(t, "00-"+trace+"-"+server.ID+"-01", told)
	}
}

// Of traces that begin here a share is told; and a collector that is away holds nothing up.
func TestWithoutACollectorCallsGoOn(t *testing.T) {
	t.Parallel()
	c := &collector.Collector{}
	w, agent, up := start(t, c, map[string]string{"trace-share": "0"})
	assert.Equal(t, "x", agent.CallTool("echo__echo", "x").Result.Content[0].Text)
	w.Calls(1, "")
	up.mu.Lock()
	assert.Empty(t, up.parents)
	up.mu.Unlock()
	w.Stop()
	assert.Empty(t, c.Spans())

	away := &collector.Collector{}
	c.Fail(500, 500, 500, 500)
	w, agent, _ = start(t, away, map[string]string{})
	away.Fail(500, 500, 500, 500, 500, 500)
	for range 20 {
		assert.Equal(t, "x", agent.CallTool("echo__echo", "x").Result.Content[0].Text)
	}
	w.Calls(20, "")
}
