package main

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"strings"
	"sync/atomic"
	"time"
)

// tally counts what came of calls.
type tally struct{ done, refused, failed, altered atomic.Int64 }

func (t *tally) String() string {
	return fmt.Sprintf("%d calls done, %d refused or failing at their server, %d not answered; %d things were altered",
		t.done.Load(), t.refused.Load(), t.failed.Load(), t.altered.Load())
}

// agent is an assistant with a session of its own, which it opens anew when it was lost.
type agent struct {
	svc     *service
	pass    string
	seed    uint64
	servers int
	tally   *tally
	session string
	calls   int
}

// work calls about twice a second, and begins a session anew now and then.
func (a *agent) work(ctx context.Context) {
	r := rand.New(rand.NewPCG(a.seed, 7)) //nolint:gosec // the same calls every time
	for ctx.Err() == nil {
		pause(ctx, time.Duration(200+r.IntN(600))*time.Millisecond)
		if a.session == "" || r.IntN(200) == 0 {
			a.open(ctx)
			continue
		}
		a.calls++
		tool := []string{"echo", "echo", "echo", "fail", "forbidden"}[r.IntN(5)]
		text := strings.Repeat("tide ", 1+r.IntN(400))
		body := fmt.Sprintf(`{"jsonrpc":"2.0","id":%d,"method":"tools/call","params":{"name":"server-%d__%s","arguments":{"text":%q}}}`,
			a.calls, r.IntN(a.servers), tool, text)
		status, raw := a.post(ctx, body)
		var m struct {
			Error  json.RawMessage
			Result struct{ IsError bool }
		}
		switch {
		case ctx.Err() != nil:
		case status == http.StatusNotFound:
			a.session = ""
		case status != http.StatusOK || json.Unmarshal(raw, &m) != nil:
			a.tally.failed.Add(1)
		case m.Error != nil || m.Result.IsError:
			a.tally.refused.Add(1)
		default:
			a.tally.done.Add(1)
		}
	}
}

func (a *agent) open(ctx context.Context) {
	a.session = ""
	a.post(ctx, `{"jsonrpc":"2.0","id":0,"method":"initialize","params":{"protocolVersion":"2025-11-25","capabilities":{},
		"clientInfo":{"name":"soak","version":"1"}}}`)
	a.post(ctx, `{"jsonrpc":"2.0","method":"notifications/initialized"}`)
}

// post sends a message and returns what it was answered with: the last event, of a stream.
func (a *agent) post(ctx context.Context, body string) (int, []byte) {
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, a.svc.base+"/mcp", strings.NewReader(body))
	if err != nil {
		return 0, nil
	}
	req.Header.Set("Authorization", "Bearer "+a.pass)
	req.Header.Set("Content-Type", "application/json")
	req.Header.Set("Accept", "application/json, text/event-stream")
	if a.session != "" {
		req.Header.Set("Mcp-Session-Id", a.session)
	}
	res, err := client.Do(req)
	if err != nil {
		return 0, nil
	}
	defer res.Body.Close()
	raw, err := io.ReadAll(res.Body)
	if err != nil {
		return 0, nil
	}
	if id := res.Header.Get("Mcp-Session-Id"); id != "" {
		a.session = id
	}
	if at := strings.LastIndex(string(raw), "data: "); at >= 0 && strings.HasPrefix(res.Header.Get("Content-Type"), "text/event-stream") {
		raw = raw[at+6:]
	}
	return res.StatusCode, raw
}

func pause(ctx context.Context, d time.Duration) {
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-t.C:
	case <-ctx.Done():
	}
}

// client is that of all agents. A moment in which the machine stands still has all of them call at
// once; the connections of that moment are not kept, or they would look like what grows.
var client = &http.Client{
	Timeout:   30 * time.Second,
	Transport: &http.Transport{MaxIdleConnsPerHost: 500, IdleConnTimeout: 20 * time.Second},
}
