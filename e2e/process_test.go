package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/modelcontextprotocol/go-sdk/mcp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/core/team"
	"bouncer/internal/testkit"
	"bouncer/standin/ferries"
)

func npmServer(t *testing.T, name string) string {
	path, err := filepath.Abs("peers/node_modules/@modelcontextprotocol/" + name + "/dist/index.js")
	require.NoError(t, err)
	_, err = os.Stat(path)
	require.NoError(t, err, "make peers installs what this test needs")
	return path
}

// The reference servers as local processes, for agents on both SDKs.
func TestNpmReferenceServersAsProcesses(t *testing.T) {
	t.Parallel()
	w := testkit.Start(t, nil)
	dir, err := filepath.EvalSymlinks(t.TempDir())
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "log.txt"), []byte("fog over the harbour"), 0o600))
	w.Must(
		"POST",
		"/api/servers",
		testkit.Obj{"name": "everything", "command": "node", "args": []string{npmServer(t, "server-everything"), "stdio"}},
		nil,
	)
	w.Must(
		"POST",
		"/api/servers",
		testkit.Obj{"name": "files", "command": "node", "args": []string{npmServer(t, "server-filesystem"), dir}, "dir": dir},
		nil,
	)
	w.Rule("admit", "*", "*", "*")
	pass := w.Agent("joss-quill")
	out := npmAgent(
		t,
		w.Base+"/mcp",
		pass,
		testkit.Obj{"name": "everything__echo", "arguments": testkit.Obj{"message": "ahoy"}},
		testkit.Obj{
			"name":      "everything__trigger-long-running-operation",
			"arguments": testkit.Obj{"duration": 0.3, "steps": 3},
			"progress":  true,
		},
		testkit.Obj{"name": "files__read_text_file", "arguments": testkit.Obj{"path": filepath.Join(dir, "log.txt")}},
		testkit.Obj{"name": "files__read_text_file", "arguments": testkit.Obj{"path": "/etc/passwd"}},
	)
	require.Len(t, out.Results, 4)
	assert.Equal(t, "Echo: ahoy", out.Results[0].Result.Content[0].Text)
	assert.Equal(t, []float64{1, 2, 3}, out.Results[1].Progress)
	assert.Equal(t, "fog over the harbour", out.Results[2].Result.Content[0].Text)
	assert.True(t, out.Results[3].Result.IsError)

	// The process is killed: the agent does not notice, since another one is there.
	agent := goAgent(t, w.Base+"/mcp/everything", pass, nil)
	call := func() (string, error) {
		r, err := agent.CallTool(t.Context(), &mcp.CallToolParams{Name: "echo", Arguments: testkit.Obj{"message": "again"}})
		if err != nil {
			return "", err
		}
		return r.Content[0].(*mcp.TextContent).Text, nil
	}
	raw, err := exec.Command("pgrep", "-f", npmServer(t, "server-everything")).Output()
	require.NoError(t, err)
	for _, pid := range strings.Fields(string(raw)) {
		_ = exec.Command("kill", "-KILL", pid).Run()
	}
	require.Eventually(
		t,
		func() bool { text, err := call(); return err == nil && text == "Echo: again" },
		15*time.Second,
		100*time.Millisecond,
	)
	w.Stop()
	assert.Error(t, exec.Command("pgrep", "-f", npmServer(t, "server-everything")).Run(), "no process outlives the service")
}

// The scenario's berths: a key in a variable, stderr to look at, and what a
// wrong key says.
func TestBerthsAsAProcess(t *testing.T) {
	t.Parallel()
	bin := filepath.Join(t.TempDir(), "berths")
	out, err := exec.Command("go", "build", "-o", bin, "bouncer/demo/berths").CombinedOutput()
	require.NoError(t, err, "%s", out)
	w := testkit.Start(t, nil)
	p := w.Problem(
		"POST",
		"/api/servers",
		testkit.Obj{"name": "berths", "command": bin, "secretEnv": "BERTHS_KEY", "token": "skf-wrong-key-1234567"},
	)
	assert.Equal(t, "launch.exits-at-once", p.Code)
	assert.Contains(t, p.Title, "the process ends with code 3 before it opens a session: berths: the variable BERTHS_KEY does not hold the harbour's key")
	w.Must(
		"POST",
		"/api/servers",
		testkit.Obj{"name": "berths", "command": bin, "args": []string{"--noisy"}, "secretEnv": "BERTHS_KEY", "token": ferries.BerthsToken},
		nil,
	)
	w.Rule("admit", "*", "*", "list_*")
	agent := w.Raw("/mcp", w.Agent("night-watch"), "2025-06-18")
	r := agent.Ask(
		`{"jsonrpc":"2.0","id":1,"method":"tools/call","params":{"name":"berths__list_berths","arguments":{"harbour":"Skerrow"}}}`,
	)
	assert.Contains(t, r.Result.Content[0].Text, "Skerrow 1")
	var s struct{ Health team.Health }
	w.Must("GET", "/api/servers/berths", nil, &s)
	assert.Contains(t, s.Health.Stderr, "six berths")
	assert.Positive(t, s.Health.Noise)
	_, raw := w.Do(w.Token, "GET", "/api/servers/berths", nil)
	assert.NotContains(t, string(raw), ferries.BerthsToken)
	w.Must("PATCH", "/api/servers/berths", testkit.Obj{"paused": true}, nil)
	require.Eventually(
		t,
		func() bool { return exec.Command("pgrep", "-f", bin).Run() != nil },
		30*time.Second,
		50*time.Millisecond,
		"a paused server has no process",
	)
	w.Must("PATCH", "/api/servers/berths", testkit.Obj{"paused": false}, nil)
	require.Eventually(t, func() bool { return exec.Command("pgrep", "-f", bin).Run() == nil }, 30*time.Second, 50*time.Millisecond)

	before, err := exec.Command("pgrep", "-f", bin).Output()
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		w.Must("POST", "/api/servers/berths/check", nil, &s)
		return s.Health.State == "ready" && len(s.Health.Stages) == 3
	}, 30*time.Second, 50*time.Millisecond)
	after, err := exec.Command("pgrep", "-f", bin).Output()
	require.NoError(t, err)
	assert.Equal(t, string(before), string(after), "a check leaves the process that works alone")
	p = w.Problem("PATCH", "/api/servers/berths", testkit.Obj{"url": "http://x"})
	assert.Equal(t, "url", p.Field)
	w.Stop()
	off := testkit.Start(t, map[string]string{"data": w.Dir, "processes": "off"})
	assert.Equal(t, "command", off.Problem("POST", "/api/servers", testkit.Obj{"name": "x", "command": "cat"}).Field)
	assert.Error(t, exec.Command("pgrep", "-f", bin).Run(), "and those that are registered are not started")
	agent = off.Raw("/mcp", off.Pass("night-watch"), "2025-11-25")
	assert.Empty(t, agent.Names())
	assert.NotNil(t, agent.CallTool("berths__list_berths", "x").Error)
}
