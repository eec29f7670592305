package e2e

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/modelcontextprotocol/go-sdk/mcp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/testkit"
)

// goServer is a tool server on the Go SDK.
func goServer(waits func(), cancelled *atomic.Int32) *mcp.Server {
	s := mcp.NewServer(&mcp.Implementation{Name: "harbour", Version: "2.0"}, nil)
	type in struct {
		Text string `json:"text"`
	}
	type out struct {
		Length int `json:"length"`
	}
	mcp.AddTool(
		s,
		&mcp.Tool{Name: "measure", Description: "Measures a text."},
		func(_ context.Context, _ *mcp.CallToolRequest, a in) (*mcp.CallToolResult, out, error) {
			return nil, out{len(a.Text)}, nil
		},
	)
	mcp.AddTool(
		s,
		&mcp.Tool{Name: "break", Description: "Always fails."},
		func(context.Context, *mcp.CallToolRequest, in) (*mcp.CallToolResult, any, error) {
			return nil, nil, fmt.Errorf("fog over the harbour")
		},
	)
	mcp.AddTool(
		s,
		&mcp.Tool{Name: "count", Description: "Counts, telling its progress."},
		func(ctx context.Context, r *mcp.CallToolRequest, _ in) (*mcp.CallToolResult, any, error) {
			for i := range 3 {
				if token := r.Params.GetProgressToken(); token != nil {
					_ = r.Session.NotifyProgress(
						ctx,
						&mcp.ProgressNotificationParams{ProgressToken: token, Progress: float64(i + 1), Total: 3},
					)
				}
			}
			return &mcp.CallToolResult{
				Content: []mcp.Content{&mcp.TextContent{Text: "three"}, &mcp.ImageContent{Data: []byte{1, 2, 3}, MIMEType: "image/png"}},
			}, nil, nil
		},
	)
	mcp.AddTool(
		s,
		&mcp.Tool{Name: "wait", Description: "Waits until it is cancelled."},
		func(ctx context.Context, _ *mcp.CallToolRequest, _ in) (*mcp.CallToolResult, any, error) {
			waits()
			select {
			case <-ctx.Done():
				cancelled.Add(1)
				return nil, nil, ctx.Err()
			case <-time.After(20 * time.Second):
				return nil, nil, fmt.Errorf("nobody cancelled")
			}
		},
	)
	return s
}

// bearer is an HTTP client that shows a pass.
type bearer string

func (b bearer) RoundTrip(r *http.Request) (*http.Response, error) {
	r = r.Clone(r.Context())
	r.Header.Set("Authorization", "Bearer "+string(b))
	return http.DefaultTransport.RoundTrip(r)
}

func goAgent(t *testing.T, url, pass string, o *mcp.ClientOptions) *mcp.ClientSession {
	c := mcp.NewClient(&mcp.Implementation{Name: "go-agent", Version: "1.0"}, o)
	s, err := c.Connect(t.Context(), &mcp.StreamableClientTransport{Endpoint: url, HTTPClient: &http.Client{Transport: bearer(pass)}}, nil)
	require.NoError(t, err)
	t.Cleanup(func() { _ = s.Close() })
	return s
}

func names(t *testing.T, s *mcp.ClientSession) []string {
	list, err := s.ListTools(t.Context(), nil)
	require.NoError(t, err)
	out := []string{}
	for _, tool := range list.Tools {
		out = append(out, tool.Name)
	}
	return out
}

// A server of sessions may ask for the roots without any params, also in the midst of a call; an
// agent of the stateless era is asked by a result, and answers.
func TestAQuestionWithoutParamsReachesAnAgentOfToday(t *testing.T) {
	t.Parallel()
	w := testkit.Start(t, nil)
	script := testkit.NewScript(t)
	script.Call = func(c *testkit.ScriptCall) { c.Text(c.Ask("r", "roots/list", "")) }
	w.Register("act", testkit.Upstream(t, script), "")
	w.Rule("admit", "*", "*", "*")
	agent := goAgent(t, w.Base+"/mcp/act", w.Agent("marit-quill"), nil)
	res, err := agent.CallTool(t.Context(), &mcp.CallToolParams{Name: "act", Arguments: testkit.Obj{"a": 1}})
	require.NoError(t, err)
	assert.JSONEq(t, `{"jsonrpc":"2.0","id":"r","result":{"roots":[]}}`, res.Content[0].(*mcp.TextContent).Text)
}

func TestGoClientAndGoServer(t *testing.T) {
	t.Parallel()
	w := testkit.Start(t, nil)
	var cancelled atomic.Int32
	waits := make(chan struct{}) // closed when the server is at it
	server := goServer(func() { close(waits) }, &cancelled)
	w.Register("harbour", testkit.Upstream(t, mcp.NewStreamableHTTPHandler(func(*http.Request) *mcp.Server { return server }, nil)), "")
	rule := w.Rule("admit", "*", "harbour", "*")
	changed := make(chan struct{}, 10)
	progress := make(chan float64, 10)
	agent := goAgent(t, w.Base+"/mcp", w.Agent("marit-quill"), &mcp.ClientOptions{
		ToolListChangedHandler:      func(context.Context, *mcp.ToolListChangedRequest) { changed <- struct{}{} },
		ProgressNotificationHandler: func(_ context.Context, r *mcp.ProgressNotificationClientRequest) { progress <- r.Params.Progress },
	})
	assert.Equal(t, "bouncer", agent.InitializeResult().ServerInfo.Name)
	assert.Equal(t, []string{"harbour__break", "harbour__count", "harbour__measure", "harbour__wait"}, names(t, agent))

	res, err := agent.CallTool(t.Context(), &mcp.CallToolParams{Name: "harbour__measure", Arguments: testkit.Obj{"text": "twelve chars"}})
	require.NoError(t, err)
	assert.Equal(t, map[string]any{"length": 12.0}, res.StructuredContent)
	res, err = agent.CallTool(t.Context(), &mcp.CallToolParams{Name: "harbour__break", Arguments: testkit.Obj{"text": ""}})
	require.NoError(t, err)
	assert.True(t, res.IsError)
	assert.Equal(t, "fog over the harbour", res.Content[0].(*mcp.TextContent).Text)
	params := &mcp.CallToolParams{Name: "harbour__count", Arguments: testkit.Obj{"text": ""}}
	params.SetProgressToken("my token")
	res, err = agent.CallTool(t.Context(), params)
	require.NoError(t, err)
	assert.Equal(t, []byte{1, 2, 3}, res.Content[1].(*mcp.ImageContent).Data)
	for i := range 3 {
		assert.Equal(t, float64(i+1), <-progress)
	}

	ctx, cancel := context.WithCancel(t.Context())
	go func() { <-waits; cancel() }()
	_, err = agent.CallTool(ctx, &mcp.CallToolParams{Name: "harbour__wait", Arguments: testkit.Obj{"text": ""}})
	require.ErrorIs(t, err, context.Canceled)
	require.Eventually(t, func() bool { return cancelled.Load() == 1 }, 30*time.Second, 10*time.Millisecond, "the server was told")

	_, err = agent.CallTool(t.Context(), &mcp.CallToolParams{Name: "harbour__sink"})
	require.ErrorContains(t, err, `no tool "harbour__sink"`)
	w.Must("DELETE", "/api/rules/"+rule, nil, nil)
	select {
	case <-changed:
	case <-time.After(30 * time.Second):
		t.Fatal("the agent was not told of its new tool list")
	}
	assert.Empty(t, names(t, agent))
	mcp.AddTool(server, &mcp.Tool{Name: "later"}, func(context.Context, *mcp.CallToolRequest, struct{}) (*mcp.CallToolResult, any, error) {
		return nil, nil, nil
	})
	w.Rule("admit", "*", "*", "later")
	require.Eventually(
		t,
		func() bool { n := names(t, agent); return len(n) == 1 && n[0] == "harbour__later" },
		30*time.Second,
		50*time.Millisecond,
		"a tool that the server adds arrives",
	)
}

// everything starts the npm reference server and returns its address.
func everything(t *testing.T) string {
	_, port, _ := net.SplitHostPort(testkit.Listen(t))
	cmd := exec.Command("node", "peers/node_modules/@modelcontextprotocol/server-everything/dist/index.js", "streamableHttp")
	cmd.Env = append(os.Environ(), "PORT="+port)
	out, err := cmd.StderrPipe()
	require.NoError(t, err)
	cmd.Stdout = cmd.Stderr
	require.NoError(t, cmd.Start(), "make peers installs what this test needs")
	t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
	go func() {
		for s := bufio.NewScanner(out); s.Scan(); {
		}
	}()
	require.Eventually(t, func() bool {
		c, err := net.Dial("tcp", "127.0.0.1:"+port)
		if err == nil {
			_ = c.Close()
		}
		return err == nil
	}, 3*time.Minute, 50*time.Millisecond, "the reference server did not start")
	return "http://127.0.0.1:" + port + "/mcp"
}

type npmResult struct {
	Server  struct{ Name string }
	Tools   []string
	Results []struct {
		Result struct {
			IsError bool
			Content []struct{ Type, Text string }
		}
		Progress []float64
		Error    string
		Code     int
	}
}

// npmAgent runs the agent on the npm SDK.
func npmAgent(t *testing.T, url, pass string, calls ...testkit.Obj) (out npmResult) {
	raw, err := json.Marshal(calls)
	require.NoError(t, err)
	ctx, cancel := context.WithTimeout(t.Context(), 60*time.Second)
	defer cancel()
	cmd := exec.CommandContext(ctx, "node", "peers/client.mjs", url, pass)
	cmd.Stdin = strings.NewReader(string(raw))
	var stderr strings.Builder
	cmd.Stderr = &stderr
	text, err := cmd.Output()
	require.NoError(t, err, "%s", stderr.String())
	require.NoError(t, json.Unmarshal(text, &out), "%s", text)
	return out
}

func TestNpmClientAndNpmReferenceServer(t *testing.T) {
	t.Parallel()
	w := testkit.Start(t, nil)
	w.Register("everything", everything(t), "")
	w.Rule("admit", "*", "everything", "*")
	w.Rule("refuse", "*", "everything", "get-env")
	pass := w.Agent("joss-quill")
	out := npmAgent(
		t,
		w.Base+"/mcp",
		pass,
		testkit.Obj{"name": "everything__echo", "arguments": testkit.Obj{"message": "ahoy"}},
		testkit.Obj{"name": "everything__get-sum", "arguments": testkit.Obj{"a": 2, "b": 40}},
		testkit.Obj{
			"name":      "everything__trigger-long-running-operation",
			"arguments": testkit.Obj{"duration": 0.3, "steps": 3},
			"progress":  true,
		},
		testkit.Obj{"name": "everything__get-env", "arguments": testkit.Obj{}},
		testkit.Obj{"name": "everything__get-tiny-image", "arguments": testkit.Obj{}},
	)
	assert.Equal(t, "bouncer", out.Server.Name)
	assert.Contains(t, out.Tools, "everything__echo")
	assert.NotContains(t, out.Tools, "everything__get-env")
	require.Len(t, out.Results, 5)
	assert.Equal(t, "Echo: ahoy", out.Results[0].Result.Content[0].Text)
	assert.Contains(t, out.Results[1].Result.Content[0].Text, "42")
	assert.Equal(t, []float64{1, 2, 3}, out.Results[2].Progress)
	assert.Equal(t, -32010, out.Results[3].Code)
	assert.Contains(t, out.Results[3].Error, "refused by rule")
	assert.Equal(t, "image", out.Results[4].Result.Content[1].Type)

	// The same server under its own names, for an agent on the Go SDK.
	agent := goAgent(t, w.Base+"/mcp/everything", pass, nil)
	res, err := agent.CallTool(t.Context(), &mcp.CallToolParams{Name: "echo", Arguments: testkit.Obj{"message": "again"}})
	require.NoError(t, err)
	assert.Equal(t, "Echo: again", res.Content[0].(*mcp.TextContent).Text)
}

func TestNpmClientAndGoServer(t *testing.T) {
	t.Parallel()
	w := testkit.Start(t, nil)
	var cancelled atomic.Int32
	server := goServer(func() {}, &cancelled)
	// Answers as plain JSON this time, and without sessions.
	w.Register(
		"harbour",
		testkit.Upstream(
			t,
			mcp.NewStreamableHTTPHandler(func(*http.Request) *mcp.Server { return server }, &mcp.StreamableHTTPOptions{JSONResponse: true}),
		),
		"",
	)
	w.Rule("admit", "*", "*", "*")
	out := npmAgent(
		t,
		w.Base+"/mcp/harbour",
		w.Agent("joss-quill"),
		testkit.Obj{"name": "measure", "arguments": testkit.Obj{"text": "ahoy"}},
		testkit.Obj{"name": "break", "arguments": testkit.Obj{"text": ""}},
	)
	assert.Equal(t, []string{"break", "count", "measure", "wait"}, out.Tools)
	assert.Equal(t, `{"length":4}`, out.Results[0].Result.Content[0].Text)
	assert.True(t, out.Results[1].Result.IsError)
}
