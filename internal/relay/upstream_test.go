package relay_test

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/core/wire"
	"bouncer/internal/testkit"
	"bouncer/standin/toolserver"
)

// recorded is what a server was sent.
type recorded struct {
	mu      sync.Mutex
	headers []http.Header
	bodies  []string
}

func (r *recorded) wrap(h http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, req *http.Request) {
		raw, _ := io.ReadAll(req.Body)
		req.Body = io.NopCloser(strings.NewReader(string(raw)))
		r.mu.Lock()
		r.headers, r.bodies = append(r.headers, req.Header.Clone()), append(r.bodies, string(raw))
		r.mu.Unlock()
		h.ServeHTTP(w, req)
	})
}

// Neither the agent's pass nor any other header of the agent's goes up, and the
// server's token never comes down.
func TestHeadersAreComputedNotCopied(t *testing.T) {
	t.Parallel()
	w := testkit.Start(t, nil)
	seen := &recorded{}
	w.Register("echo", testkit.Upstream(t, seen.wrap(testkit.Echo(token, nil))), token)
	w.Rule("admit", "*", "*", "*")
	pass := w.Agent("marit-quill")
	agent := w.Raw("/mcp", pass, wire.Rev20250326)
	for name, value := range map[string]string{"Cookie": "session=agents-own", "X-Api-Key": "agents-own", "Traceparent": "00-x", "Mcp-Protocol-Version": wire.Rev20250326, "Proxy-Authorization": "Basic agents-own"} {
		agent.Header.Set(name, value)
	}
	res, body := agent.Post(`{"jsonrpc":"2.0","id":"mine","method":"tools/call","params":{"name":"echo__echo","arguments":{"text":"x"}}}`)
	require.Equal(t, 200, res.StatusCode)
	seen.mu.Lock()
	defer seen.mu.Unlock()
	last := -1
	for i, b := range seen.bodies {
		if strings.Contains(b, "tools/call") {
			last = i
		}
		raw, err := json.Marshal(seen.headers[i])
		require.NoError(t, err)
		assert.NotContains(t, string(raw), "agents-own")
		assert.NotContains(t, string(raw)+b, pass)
	}
	require.GreaterOrEqual(t, last, 0)
	h := seen.headers[last]
	assert.Equal(t, "Bearer "+token, h.Get("Authorization"))
	assert.Equal(t, "2025-11-25", h.Get("Mcp-Protocol-Version"), "each hop has its own revision")
	assert.NotEqual(t, agent.Session, h.Get("Mcp-Session-Id"), "and its own session")
	assert.NotContains(t, seen.bodies[last], `"mine"`, "and its own ids")
	for name, values := range res.Header {
		assert.NotContains(t, strings.Join(values, " "), token, name)
	}
	assert.Contains(t, body, `"id":"mine"`)
}

// Ids and progress tokens of any JSON type come back exactly as they were given.
func TestIdsComeBackAsTheyWere(t *testing.T) {
	t.Parallel()
	w := testkit.Start(t, nil)
	w.Register("echo", testkit.Upstream(t, testkit.Echo("", nil)), "")
	w.Rule("admit", "*", "*", "*")
	agent := w.Raw("/mcp", w.Agent("marit-quill"), wire.Rev20251125)
	for _, id := range []string{`0`, `-7`, `1.50`, `9007199254740993`, `"7"`, `""`, `"a\u0062\n"`, `"` + strings.Repeat("i", 200) + `"`} {
		for _, progress := range []string{"", `"tok\"en"`, `123456789012345678901234567890`} {
			meta := ""
			if progress != "" {
				meta = `"_meta":{"progressToken":` + progress + `},`
			}
			_, body := agent.Post(
				`{"jsonrpc":"2.0","id":` + id + `,"method":"tools/call","params":{` + meta + `"name":"echo__echo","arguments":{"text":"x"}}}`,
			)
			assert.Contains(t, body, `"id":`+id+`,`)
			assert.Contains(t, body, `"text":"x"`)
		}
	}
}

// What Bouncer has no opinion on goes through untouched, in both directions.
func TestUnknownMembersPass(t *testing.T) {
	t.Parallel()
	w := testkit.Start(t, nil)
	s := testkit.Echo("", nil)
	s.SetTools(
		toolserver.Tool{
			Name:   "any",
			Schema: `{"type":"object","$schema":"https://json-schema.org/draft/2020-12/schema","x-unknown":{"n":12345678901234567890}}`,
		},
	)
	seen := &recorded{}
	w.Register("echo", testkit.Upstream(t, seen.wrap(http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		raw, _ := io.ReadAll(r.Body)
		if !strings.Contains(string(raw), "tools/call") {
			r.Body = io.NopCloser(strings.NewReader(string(raw)))
			s.ServeHTTP(rw, r)
			return
		}
		f, _ := wire.ReadFrame(raw)
		rw.Header().Set("Content-Type", "application/json; charset=utf-8")
		fmt.Fprintf(
			rw,
			`{"future":{"a":[1,2.50]},"result":{"content":[{"type":"hologram","data":{"z":1e400}}],"_meta":{"x/y":9007199254740993}},"id":%s,"jsonrpc":"2.0"}`,
			f.ID.Of(raw),
		)
	}))), "")
	w.Rule("admit", "*", "*", "*")
	agent := w.Raw("/mcp", w.Agent("marit-quill"), wire.Rev20251125)
	_, list := agent.Post(listTools)
	assert.Contains(t, list, `"x-unknown":{"n":12345678901234567890}`)
	_, body := agent.Post(
		`{"jsonrpc":"2.0","id":5,"method":"tools/call","params":{"task":{"ttl":1.0},"name":"echo__any","arguments":{"big":12345678901234567890,"t":1.10},"_meta":{"traceparent":"00-abc"}}}`,
	)
	assert.Equal(
		t,
		`{"future":{"a":[1,2.50]},"result":{"content":[{"type":"hologram","data":{"z":1e400}}],"_meta":{"x/y":9007199254740993}},"id":5,"jsonrpc":"2.0"}`,
		body,
	)
	seen.mu.Lock()
	defer seen.mu.Unlock()
	assert.Contains(
		t,
		strings.Join(seen.bodies, "\n"), // among those of a stream that was opened beside it
		`"params":{"task":{"ttl":1.0},"name":"any","arguments":{"big":12345678901234567890,"t":1.10},"_meta":{"traceparent":"00-abc"}}`,
	)
}

// A message that is too large costs its call and nothing else.
func TestHugeAnswerCostsItsCallOnly(t *testing.T) {
	t.Parallel()
	w := testkit.Start(t, map[string]string{"message-limit": "65536"})
	s := testkit.Echo("", nil)
	w.Register("echo", testkit.Upstream(t, s), "")
	w.Rule("admit", "*", "*", "*")
	agent := w.Raw("/mcp", w.Agent("marit-quill"), wire.Rev20251125)
	r := agent.CallTool("echo__echo", strings.Repeat("x", 100_000))
	require.NotNil(t, r.Error)
	assert.Contains(t, r.Error.Message, "above the size limit")
	assert.Equal(t, "fine", agent.CallTool("echo__echo", "fine").Result.Content[0].Text)
	big := strings.Repeat("y", 50_000)
	assert.Equal(t, big, agent.CallTool("echo__echo", big).Result.Content[0].Text)
	calls := w.Calls(3, "")[:0]
	w.Must("GET", "/api/calls?text=xxxx", nil, &calls)
	require.Len(t, calls, 1)
	assert.True(t, calls[0].Cut, "what is kept of large arguments is bounded, and said to be")
	assert.Greater(t, calls[0].BytesIn, 100_000)
}
