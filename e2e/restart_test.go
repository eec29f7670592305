package e2e

import (
	"bufio"
	"context"
	"net/http"
	"os/exec"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"github.com/modelcontextprotocol/go-sdk/mcp"

	"bouncer/internal/testkit"
)

// Clients on the official SDKs go on after the service was started anew, without
// knowing: most of them open no other session when theirs is gone.
func TestClientsGoOnAfterARestart(t *testing.T) {
	t.Parallel()
	flags := map[string]string{"data": t.TempDir(), "listen": testkit.Listen(t)}
	w := testkit.Start(t, flags)
	w.Register("echo", testkit.Upstream(t, testkit.Echo("", nil)), "")
	w.Rule("admit", "*", "*", "*")
	pass := w.Agent("marit-quill")
	ctx, cancel := context.WithTimeout(t.Context(), 2*time.Minute)
	defer cancel()
	type peer struct {
		stdin interface{ Write([]byte) (int, error) }
		lines *bufio.Scanner
	}
	peers := map[string]peer{}
	for _, generation := range []string{"1", "2"} {
		cmd := exec.CommandContext(ctx, "node", "peers/restart.mjs", generation, w.Base+"/mcp", pass, "echo__echo")
		in, err := cmd.StdinPipe()
		require.NoError(t, err)
		out, err := cmd.StdoutPipe()
		require.NoError(t, err)
		require.NoError(t, cmd.Start())
		t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
		p := peer{in, bufio.NewScanner(out)}
		require.True(t, p.lines.Scan(), "npm %s.x", generation)
		require.Equal(t, "here", p.lines.Text())
		peers[generation] = p
	}
	agent := goAgent(t, w.Base+"/mcp", pass, &mcp.ClientOptions{})
	raw := w.Raw("/mcp", pass, "2025-11-25")
	require.Equal(t, "x", raw.CallTool("echo__echo", "x").Result.Content[0].Text)

	w.Stop()
	w = testkit.Start(t, flags)
	for generation, p := range peers {
		_, err := p.stdin.Write([]byte("on\n"))
		require.NoError(t, err)
		require.True(t, p.lines.Scan())
		assert.Equal(t, "here", p.lines.Text(), "npm %s.x", generation)
	}
	res, err := agent.CallTool(ctx, &mcp.CallToolParams{Name: "echo__echo", Arguments: testkit.Obj{"text": "here"}})
	require.NoError(t, err)
	assert.Equal(t, "here", res.Content[0].(*mcp.TextContent).Text)
	assert.Equal(t, "x", raw.CallTool("echo__echo", "x").Result.Content[0].Text, "a session is the same before and after")

	// A session opens nothing for another pass, and none that was ended.
	other := w.Raw("/mcp", w.Agent("joss-quill"), "2025-11-25")
	other.Session = raw.Session
	const list = `{"jsonrpc":"2.0","id":1,"method":"tools/list"}`
	res404, _ := other.Post(list)
	assert.Equal(t, 404, res404.StatusCode)
	ended, err := http.DefaultClient.Do(raw.Request(ctx, "DELETE", ""))
	require.NoError(t, err)
	require.NoError(t, ended.Body.Close())
	assert.Equal(t, 204, ended.StatusCode)
	res404, _ = raw.Post(list)
	assert.Equal(t, 404, res404.StatusCode)
}
