package main

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"time"
)

// serveTool is a local process whose one tool echoes.
func serveTool() {
	lines := bufio.NewScanner(os.Stdin)
	lines.Buffer(nil, 4<<20)
	for lines.Scan() {
		body := lines.Bytes()
		_, rest, ok := bytes.Cut(body, []byte(`"id":`))
		if !ok {
			continue
		}
		id := rest[:bytes.IndexAny(rest, ",}")]
		switch {
		case bytes.Contains(body, []byte(`"initialize"`)):
			fmt.Printf(`{"jsonrpc":"2.0","id":%s,"result":{"protocolVersion":"2025-11-25","capabilities":{"tools":{}},`+
				`"serverInfo":{"name":"tool","version":"1"}}}`+"\n", id)
		case bytes.Contains(body, []byte(`"tools/list"`)):
			fmt.Printf(`{"jsonrpc":"2.0","id":%s,"result":{"tools":[{"name":"echo","inputSchema":{"type":"object"}}]}}`+"\n", id)
		case bytes.Contains(body, []byte(`"tools/call"`)):
			_, text, _ := bytes.Cut(body, []byte(`"text":"`))
			text, _, _ = bytes.Cut(text, []byte(`"`))
			fmt.Printf(`{"jsonrpc":"2.0","id":%s,"result":{"content":[{"type":"text","text":"%s"}]}}`+"\n", id, text)
		default:
			fmt.Printf(`{"jsonrpc":"2.0","id":%s,"result":{}}`+"\n", id)
		}
	}
}

// placed compares calls to a process that runs at the node with those to the same process from another.
func (f *fleet) placed(ctx context.Context, o options) error {
	self, err := os.Executable()
	if err != nil {
		return err
	}
	in := map[string]any{"name": "tool", "command": self, "args": []string{"tool"}, "placement": "one"}
	if err := f.call(ctx, f.nodes[0].base, "POST", "/api/servers", in, nil); err != nil {
		return err
	}
	rule := map[string]any{"effect": "admit", "agent": "*", "server": "tool", "tool": "*", "anyway": true}
	if err := f.call(ctx, f.nodes[0].base, "POST", "/api/rules", rule, nil); err != nil {
		return err
	}
	at := ""
	ready := func(n *member) func() bool {
		return func() bool {
			var s struct{ Health struct{ State, Node string } }
			err := f.call(ctx, n.base, "GET", "/api/servers/tool", nil, &s)
			at = s.Health.Node
			return err == nil && s.Health.State == "ready" && at != ""
		}
	}
	for _, n := range f.nodes {
		if err := until(ctx, time.Minute, ready(n)); err != nil {
			return fmt.Errorf("have the process run: %w", err)
		}
	}
	here, there := f.nodes[0], f.nodes[1]
	for _, n := range f.nodes[1:] {
		if n.name == at {
			here, there = n, f.nodes[0]
		}
	}
	fmt.Printf("%8s  %-32s %10s %9s %9s\n", "callers", "a process that runs", "calls/s", "p50", "p99")
	for _, callers := range []int{1, 16} {
		for _, row := range []struct {
			name string
			at   *member
		}{{"at the node that is asked", here}, {"at another node", there}} {
			w, err := f.way(ctx, row.at, f.pass)
			if err != nil {
				return err
			}
			w.tool = "tool__echo"
			var s sample
			if err := load(ctx, w, 200, callers, time.Duration(o.rounds)*o.span, &s); err != nil {
				return err
			}
			if s.wrong+s.failed > 0 {
				return errors.New("answers were wrong or missing")
			}
			fmt.Printf("%8d  %-32s %10.0f %9v %9v\n", callers, row.name, float64(s.calls)/s.span.Seconds(),
				quantile(s.times, 0.5).Round(time.Microsecond), quantile(s.times, 0.99).Round(time.Microsecond))
		}
	}
	fmt.Printf("\n")
	return nil
}
