package e2e

import (
	"context"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/modelcontextprotocol/go-sdk/mcp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/testkit"
)

// An assistant that can only start a command, on the Go SDK: it works through
// the bridge, is told of changes, and does not notice a restart of the service.
func TestBridgeSurvivesARestart(t *testing.T) {
	t.Parallel()
	bin, err := binary()
	require.NoError(t, err)
	flags := map[string]string{"data": t.TempDir(), "listen": testkit.Listen(t)}
	w := testkit.Start(t, flags)
	var cancelled atomic.Int32
	server := goServer(func() {}, &cancelled)
	up := testkit.Upstream(t, mcp.NewStreamableHTTPHandler(func(*http.Request) *mcp.Server { return server }, nil))
	w.Register("harbour", up, "")
	w.Rule("admit", "*", "*", "*")
	pass := filepath.Join(t.TempDir(), "pass")
	require.NoError(t, os.WriteFile(pass, []byte(w.Agent("marit-quill")+"\n"), 0o600))
	changed := make(chan struct{}, 10)
	progress := make(chan float64, 10)
	client := mcp.NewClient(&mcp.Implementation{Name: "old-assistant", Version: "1"}, &mcp.ClientOptions{
		ToolListChangedHandler:      func(context.Context, *mcp.ToolListChangedRequest) { changed <- struct{}{} },
		ProgressNotificationHandler: func(_ context.Context, r *mcp.ProgressNotificationClientRequest) { progress <- r.Params.Progress },
	})
	agent, err := client.Connect(
		t.Context(),
		&mcp.CommandTransport{Command: exec.Command(bin, "bridge", "--address", w.Base, "--pass-file", pass, "--patience", "3m")},
		nil,
	)
	require.NoError(t, err)
	defer agent.Close()
	call := func(tool, text string) (*mcp.CallToolResult, error) {
		p := &mcp.CallToolParams{Name: tool, Arguments: testkit.Obj{"text": text}}
		p.SetProgressToken(tool)
		return agent.CallTool(t.Context(), p)
	}
	assert.Len(t, names(t, agent), 4)
	res, err := call("harbour__measure", "twelve chars")
	require.NoError(t, err)
	assert.Equal(t, map[string]any{"length": 12.0}, res.StructuredContent)
	_, err = call("harbour__count", "")
	require.NoError(t, err)
	assert.Equal(t, 1.0, <-progress)

	w.Stop()
	back := make(chan struct{})
	go func() { // while the service is away, a request waits for it
		defer close(back)
		res, err := call("harbour__measure", "patience")
		if assert.NoError(t, err) {
			assert.Equal(t, map[string]any{"length": 8.0}, res.StructuredContent)
		}
	}()
	w = testkit.Start(t, flags)
	<-back
	rule := w.Rule("refuse", "*", "*", "measure")
	select {
	case <-changed:
	case <-time.After(3 * time.Minute):
		t.Fatal("the assistant was not told")
	}
	require.Eventually(t, func() bool { return len(names(t, agent)) == 3 }, 3*time.Minute, 20*time.Millisecond)
	_, err = call("harbour__measure", "x")
	assert.ErrorContains(t, err, rule)
	w.Must("PATCH", "/api/agents/marit-quill", testkit.Obj{"paused": true}, nil)
	_, err = call("harbour__measure", "x")
	assert.ErrorContains(t, err, "this agent is paused")
}

func TestBridgeTellsWhatIsWrong(t *testing.T) {
	t.Parallel()
	bin, err := binary()
	require.NoError(t, err)
	w := testkit.Start(t, nil)
	run := func(stdin string, env []string, args ...string) (string, string, int) {
		ctx, cancel := context.WithTimeout(t.Context(), 30*time.Second)
		defer cancel()
		cmd := exec.CommandContext(ctx, bin, append([]string{"bridge"}, args...)...)
		cmd.Env = append(append(os.Environ(), "XDG_CONFIG_HOME="+t.TempDir()), env...)
		cmd.Stdin = strings.NewReader(stdin)
		var errs strings.Builder
		cmd.Stderr = &errs
		out, _ := cmd.Output()
		return string(out), errs.String(), cmd.ProcessState.ExitCode()
	}
	hello := `{"jsonrpc":"2.0","id":"h","method":"initialize","params":{"protocolVersion":"2025-06-18","capabilities":{},"clientInfo":{"name":"x","version":"1"}}}` + "\n"
	out, _, code := run(
		hello+"no json\n"+`{"jsonrpc":"2.0","id":2,"method":"ping"}`+"\n",
		[]string{"BOUNCER_PASS=" + w.Agent("a"), "BOUNCER_ADDRESS=" + w.Base},
	)
	assert.Equal(t, 0, code)
	assert.Contains(t, out, `"protocolVersion":"2025-06-18"`)
	assert.Contains(t, out, `"id":null,"error":{"code":-32700`)
	assert.Contains(t, out, `{"jsonrpc":"2.0","id":2,"result":{}}`)
	assert.Zero(t, w.Svc.Gateway.Sessions(), "the session ends with the bridge")
	out, _, _ = run(hello, []string{"BOUNCER_PASS=bnp_wrong"}, "--address", w.Base)
	assert.Contains(t, out, `"id":"h","error"`)
	assert.Contains(t, out, "not known here")
	_, errs, code := run("", nil, "--address", w.Base)
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, "there is no pass")
	_, errs, code = run("", []string{"BOUNCER_PASS=bnp_x"})
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, "nobody has said where the service is", "it goes nowhere by itself")
	_, errs, code = run("", nil, "--address", w.Base, "--pass-file", "/nonexistent")
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, "/nonexistent cannot be used")

	// A reader at the other end decides what an answer looks like: one line each.
	r, wr := io.Pipe()
	cmd := exec.Command(bin, "bridge", "--address", w.Base)
	cmd.Env = append(os.Environ(), "BOUNCER_PASS="+w.Agent("b"))
	cmd.Stdin = r
	var lines strings.Builder
	cmd.Stdout = &lines
	require.NoError(t, cmd.Start())
	_, err = io.WriteString(wr, hello)
	require.NoError(t, err)
	require.NoError(t, wr.Close())
	require.NoError(t, cmd.Wait())
	assert.Equal(t, 1, strings.Count(lines.String(), "\n"))
}
