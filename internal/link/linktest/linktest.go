// Package linktest has what the tests of the transports share.
package linktest

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"bouncer/internal/core/wire"
	"bouncer/internal/link"
	"bouncer/internal/link/internal/base"
	"bouncer/internal/link/internal/httpx"
	"bouncer/internal/locker"
	"bouncer/standin/loopback"
	"bouncer/standin/toolserver"
)

// Quick are options with short times and a small limit on messages.
func Quick() link.Options {
	return link.Options{SetupTimeout: 2 * time.Second, ConnectTimeout: time.Second, MessageLimit: 64 << 10}
}

// Target is a server that takes a bearer token.
func Target(server, url, secret string) httpx.Target {
	return httpx.Target{Server: server, URL: url, Secret: locker.NewSecret(secret)}
}

// Serve serves h and returns its base address.
func Serve(t *testing.T, h http.Handler) string {
	return strings.TrimSuffix(ServeMCP(t, h), "/mcp")
}

// Token is what Echo wants to be shown.
const Token = "skf-canary-0123456789"

// Echo is a server whose tools give back their argument text.
func Echo(names ...string) *toolserver.Server {
	var list []toolserver.Tool
	for _, n := range names {
		list = append(
			list,
			toolserver.Tool{
				Name:   n,
				Schema: `{"type":"object"}`,
				Run:    func(_ context.Context, c *toolserver.Call) (any, error) { return c.Text("text"), nil },
			},
		)
	}
	return toolserver.New("echo", "1.0", Token, list...)
}

// ServeMCP serves h and returns the address of its MCP endpoint.
func ServeMCP(t *testing.T, h http.Handler) string {
	s := httptest.NewServer(h)
	t.Cleanup(func() { loopback.End(s) })
	return s.URL + "/mcp"
}

// ToolCall is an agent's call of a tool, ready to be sent.
func ToolCall(params string) *link.Ask {
	a := base.NewRequest("tools/call", []byte(params), "call")
	p, err := wire.ReadParams(a.Src, a.Params, a.Method)
	if err != nil {
		panic(err)
	}
	a.P, a.Subject = p, p.Subject
	return a
}

// Call calls the tool echo and returns the text of its result.
func Call(ctx context.Context, l link.Link, text string) (string, error) {
	x, err := l.Begin(ctx, ToolCall(fmt.Sprintf(`{"name":"echo","arguments":{"text":%q}}`, text)))
	if err != nil {
		return "", err
	}
	defer x.Close()
	frame, f, err := base.ReadAnswer(ctx, x)
	if err != nil {
		return "", err
	}
	var r struct{ Content []struct{ Text string } }
	if err := json.Unmarshal(f.Result.Of(frame), &r); err != nil || len(r.Content) != 1 {
		return "", fmt.Errorf("no text in %s", frame)
	}
	return r.Content[0].Text, nil
}

// Scripted answers initialize properly and everything else as told.
func Scripted(t *testing.T, answer func(w http.ResponseWriter, m map[string]any)) string {
	return ServeMCP(t, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		var m map[string]any
		if r.Method != http.MethodPost || json.NewDecoder(r.Body).Decode(&m) != nil {
			w.WriteHeader(http.StatusMethodNotAllowed)
			return
		}
		w.Header().Set("Content-Type", "application/json")
		switch m["method"] {
		case "server/discover":
			fmt.Fprintf(w, `{"jsonrpc":"2.0","id":%v,"error":{"code":-32601,"message":"unknown method"}}`, m["id"])
		case "initialize":
			fmt.Fprintf(
				w,
				`{"jsonrpc":"2.0","id":%v,"result":{"protocolVersion":"2025-06-18","capabilities":{"tools":{}},"serverInfo":{"name":"s","version":"1"}}}`,
				m["id"],
			)
		case "notifications/initialized":
			w.WriteHeader(http.StatusAccepted)
		default:
			answer(w, m)
		}
	}))
}
