package main

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"github.com/modelcontextprotocol/go-sdk/mcp"
)

// serveSDK serves, on the official Go SDK, either a tool server with an echo
// tool ("sdk ADDRESS"), or a pass-through to one, built of the SDK's client and
// server as anybody would ("pass-through ADDRESS URL").
func serveSDK(kind string, args []string) error {
	s := mcp.NewServer(&mcp.Implementation{Name: kind, Version: "1"}, nil)
	echo := func(_ context.Context, r *mcp.CallToolRequest) (*mcp.CallToolResult, error) {
		var in struct {
			Text string `json:"text"`
		}
		if err := json.Unmarshal(r.Params.Arguments, &in); err != nil {
			return nil, err
		}
		return &mcp.CallToolResult{Content: []mcp.Content{&mcp.TextContent{Text: in.Text}}}, nil
	}
	if kind == "pass-through" {
		up, err := mcp.NewClient(&mcp.Implementation{Name: kind, Version: "1"}, nil).
			Connect(context.Background(), &mcp.StreamableClientTransport{
				Endpoint: args[1], HTTPClient: &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: 256}},
			}, nil)
		if err != nil {
			return err
		}
		defer up.Close()
		echo = func(ctx context.Context, r *mcp.CallToolRequest) (*mcp.CallToolResult, error) {
			return up.CallTool(ctx, &mcp.CallToolParams{Name: r.Params.Name, Arguments: r.Params.Arguments})
		}
	}
	s.AddTool(&mcp.Tool{Name: "echo", InputSchema: json.RawMessage(`{"type":"object"}`)}, echo)
	l, err := net.Listen("tcp", args[0])
	if err != nil {
		return err
	}
	fmt.Println("listening")
	return http.Serve(
		l,
		mcp.NewStreamableHTTPHandler(func(*http.Request) *mcp.Server { return s }, &mcp.StreamableHTTPOptions{JSONResponse: true}),
	)
}

// passThrough compares Bouncer with a pass-through built of the SDK, in front of
// the same server on the SDK.
func passThrough(ctx context.Context, o options, self string) error {
	at, between := freePort(), freePort()
	server, _, err := start(self, "sdk", at)
	if err != nil {
		return err
	}
	defer server.stop()
	pass, _, err := start(self, "pass-through", between, "http://"+at+"/mcp")
	if err != nil {
		return err
	}
	defer pass.stop()
	dir, err := os.MkdirTemp("", "bench")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	service, base, token, err := startBouncer(ctx, o.bouncer, dir, o.journal, at, nil)
	if err != nil {
		return err
	}
	defer service.stop()
	header := func(url, auth string) (http.Header, error) {
		h := http.Header{"Content-Type": {"application/json"}, "Accept": {"application/json, text/event-stream"}}
		if auth != "" {
			h.Set("Authorization", "Bearer "+auth)
		}
		return h, openSession(ctx, url, h)
	}
	one, err1 := header("http://"+at+"/mcp", "")
	two, err2 := header("http://"+between+"/mcp", "")
	three, err3 := header(base+"/mcp", token)
	if err := errors.Join(err1, err2, err3); err != nil {
		return err
	}
	fmt.Println("in front of a server on the Go SDK; the yardstick is a pass-through built of the SDK's client and server")
	return compare(ctx, o, []*way{
		{"direct", "http://" + at + "/mcp", "echo", one, nil, ""},
		{"SDK pass-through", "http://" + between + "/mcp", "echo", two, pass, ""},
		{"bouncer", base + "/mcp", "echo__echo", three, service, ""},
	}, 200, 16)
}

// warm compares a local process that Bouncer keeps with one that is started for
// the purpose, as an assistant does it that starts its servers itself.
// Both ways stand in one function so that they can be read against each other.
func warm(ctx context.Context, o options, up string) error {
	script, err := filepath.Abs("e2e/peers/node_modules/@modelcontextprotocol/server-everything/dist/index.js")
	if err != nil {
		return err
	}
	if _, err := os.Stat(script); err != nil {
		fmt.Println("a local process was not measured: make peers installs the one that is used")
		return nil
	}
	const hello = `{"jsonrpc":"2.0","id":1,"method":"initialize","params":{"protocolVersion":"2025-11-25","capabilities":{},"clientInfo":{"name":"bench","version":"1"}}}`
	const list, call = `{"jsonrpc":"2.0","id":2,"method":"tools/list"}`, `{"jsonrpc":"2.0","id":3,"method":"tools/call","params":{"name":"%secho","arguments":{"message":"ahoy"}}}`
	var cold [2]time.Duration
	cmd := exec.CommandContext(ctx, "node", script, "stdio")
	in, err1 := cmd.StdinPipe()
	out, err2 := cmd.StdoutPipe()
	if err := errors.Join(err1, err2); err != nil {
		return err
	}
	began := time.Now()
	if err := cmd.Start(); err != nil {
		return err
	}
	lines := bufio.NewScanner(out)
	lines.Buffer(nil, 1<<20)
	for i, id := range []string{`"id":2`, `"id":3`} {
		ask := hello + "\n" + `{"jsonrpc":"2.0","method":"notifications/initialized"}` + "\n" + list + "\n"
		if i == 1 {
			ask = fmt.Sprintf(call, "") + "\n"
		}
		if _, err := in.Write([]byte(ask)); err != nil {
			return err
		}
		for lines.Scan() && !strings.Contains(lines.Text(), id) {
		}
		cold[i] = time.Since(began)
	}
	_ = cmd.Process.Kill()
	_ = cmd.Wait()
	dir, err := os.MkdirTemp("", "bench")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	service, base, token, err := startBouncer(
		ctx,
		o.bouncer,
		dir,
		o.journal,
		up,
		map[string]map[string]any{"local": {"command": "node", "args": []string{script, "stdio"}}},
	)
	if err != nil {
		return err
	}
	defer service.stop()
	h := http.Header{
		"Content-Type":  {"application/json"},
		"Accept":        {"application/json, text/event-stream"},
		"Authorization": {"Bearer " + token},
	}
	began = time.Now()
	if err := openSession(ctx, base+"/mcp", h); err != nil {
		return err
	}
	if _, err := post(ctx, base+"/mcp", h, list); err != nil {
		return err
	}
	first := time.Since(began)
	reply, err := post(ctx, base+"/mcp", h, fmt.Sprintf(call, "local__"))
	if err != nil || !strings.Contains(string(reply), "Echo: ahoy") {
		return fmt.Errorf("the local process answered %s %w", reply, err)
	}
	fmt.Printf(
		"a local process (node), from nothing to the first tools/list and the first answer of a tool: started for it %v and %v, kept warm by Bouncer %v and %v\n\n",
		cold[0].Round(
			time.Millisecond,
		),
		cold[1].Round(time.Millisecond),
		first.Round(100*time.Microsecond),
		time.Since(began).Round(100*time.Microsecond),
	)
	return nil
}
