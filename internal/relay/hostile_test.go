package relay_test

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/gate"
	"bouncer/internal/testkit"
)

const within = 30 * time.Second

// library is a scripted server with resources and a prompt, which notes what it was
// asked for.
func library(t *testing.T) *testkit.Script {
	s := testkit.NewScript(t)
	s.Capabilities = `{"tools":{},"resources":{"subscribe":true},"prompts":{},"completions":{}}`
	s.Results["resources/list"] = `{"resources":[{"uri":"file:///public/a","name":"a"},{"uri":"FILE:///Odd/./spelling","name":"odd"}]}`
	s.Results["resources/templates/list"] = `{"resourceTemplates":[]}`
	s.Results["prompts/list"] = `{"prompts":[{"name":"plan"},{"name":"closed"}]}`
	s.Results["resources/read"] = `{"contents":[{"uri":"file:///public/a","text":"read"}]}`
	s.Results["resources/subscribe"], s.Results["resources/unsubscribe"] = `{}`, `{}`
	s.Results["completion/complete"] = `{"completion":{"values":["x"]}}`
	s.Call = func(c *testkit.ScriptCall) { c.Text("done") }
	return s
}

// What is decided about a resource holds for every spelling of it, and what was
// decided is what is asked for.
func TestResourcesAreDecidedInOneSpelling(t *testing.T) {
	t.Parallel()
	w := testkit.Start(t, nil)
	s := library(t)
	w.Register("library", testkit.Upstream(t, s), "")
	w.Rule("admit", "*", "*", "resource:*")
	w.Rule("refuse", "*", "*", "resource:file:///private*")
	agent := w.Raw("/mcp/library", w.Agent("marit-quill"), "2025-11-25")
	read := func(uri string) string {
		raw, err := json.Marshal(uri)
		require.NoError(t, err)
		_, text := agent.Post(`{"jsonrpc":"2.0","id":1,"method":"resources/read","params":{"uri":` + string(raw) + `}}`)
		return text
	}
	for _, uri := range []string{
		"file:///private/x", "file:///./private/x", "file:///%70rivate/x", "FILE:///private/x", "file:////private/x", "file:///public/../private/x",
		"file:///public/%2e%2e/private/x", `file:///public\..\private/x`, "file:///priv%61te/x", "fIlE:///.//./%70rivate/x", "file:///public/..%2fprivate/x",
	} {
		assert.Contains(t, read(uri), `"error"`, uri)
	}
	assert.Empty(t, s.Seen("rivate"), "nothing of it reached the server")
	assert.Contains(t, read("file:///./public//a"), "read")
	assert.Len(t, s.Seen(`"uri":"file:///public/a"`), 1, "what was decided is what is asked for")
	assert.Contains(t, read("FILE:///Odd/./spelling"), "read")
	assert.Len(t, s.Seen("FILE:///Odd/./spelling"), 1, "as the server itself lists it")
}

// A completion is about one thing: what its type says.
func TestACompletionHasOneSubject(t *testing.T) {
	t.Parallel()
	w := testkit.Start(t, nil)
	s := library(t)
	w.Register("library", testkit.Upstream(t, s), "")
	w.Rule("admit", "*", "*", "prompt:plan")
	agent := w.Raw("/mcp/library", w.Agent("marit-quill"), "2025-11-25")
	complete := func(ref string) string {
		_, text := agent.Post(`{"jsonrpc":"2.0","id":1,"method":"completion/complete","params":{"ref":` + ref + `,"argument":{"name":"a","value":"x"}}}`)
		return text
	}
	assert.Contains(t, complete(`{"type":"ref/prompt","name":"plan"}`), `"values"`)
	for _, ref := range []string{
		`{"type":"ref/resource","name":"plan","uri":"file:///private/x"}`, `{"type":"ref/prompt","name":"plan","uri":"file:///private/x"}`,
		`{"type":"ref/resource","uri":"file:///private/x"}`, `{"name":"plan"}`, `{"type":"ref/other","name":"plan"}`, `{"type":"ref/prompt","name":"closed"}`,
	} {
		assert.Contains(t, complete(ref), `"error"`, ref)
	}
	assert.Len(t, s.Seen("completion/complete"), 1)
}

// What is open already does not outlive what it was opened for.
func TestStreamsAndSubscriptionsEndWithTheirRight(t *testing.T) {
	t.Parallel()
	w := testkit.Start(t, nil)
	s := library(t)
	w.Register("library", testkit.Upstream(t, s), "")
	rule := w.Rule("admit", "*", "*", "resource:*")
	w.Rule("admit", "*", "*", "act")
	agent := w.Raw("/mcp/library", w.Agent("marit-quill"), "2025-11-25")
	ctx, stop := context.WithCancel(t.Context())
	defer stop()
	events := agent.Listen(ctx)
	agent.Ask(`{"jsonrpc":"2.0","id":1,"method":"resources/subscribe","params":{"uri":"file:///public/a"}}`)
	agent.Ask(`{"jsonrpc":"2.0","id":2,"method":"resources/subscribe","params":{"uri":"file:///public/b"}}`)
	updated := `{"jsonrpc":"2.0","method":"notifications/resources/updated","params":{"uri":"file:///public/a"}}`
	require.Eventually(t, func() bool {
		s.Say(updated)
		select {
		case ev := <-events:
			return strings.Contains(ev, "file:///public/a")
		case <-time.After(50 * time.Millisecond):
			return false
		}
	}, within, time.Millisecond)
	w.Must("DELETE", "/api/rules/"+rule, nil, nil)
	require.Eventually(t, func() bool { return len(s.Seen("resources/unsubscribe")) == 2 }, within, 10*time.Millisecond, "the server is told")
	s.Say(strings.Replace(updated, "/a", "/b", 1)) // what was said before may still be on its way
	w.Must("PATCH", "/api/agents/marit-quill", testkit.Obj{"paused": true}, nil)
	for ev := range events { // until it ends
		assert.NotContains(t, ev, "file:///public/b", "a subscription does not outlive its rule")
	}
	res, _ := agent.Post(`{"jsonrpc":"2.0","id":1,"method":"ping"}`)
	assert.Equal(t, 403, res.StatusCode)
	w.Must("PATCH", "/api/agents/marit-quill", testkit.Obj{"paused": false}, nil)
	assert.Equal(t, []string{"act"}, agent.Names(), "the session is still there")

	// The same for an agent without a session.
	listen := `{"jsonrpc":"2.0","id":5,"method":"subscriptions/listen","params":{"notifications":{"toolsListChanged":true},"_meta":{` +
		`"io.modelcontextprotocol/protocolVersion":"2026-07-28","io.modelcontextprotocol/clientCapabilities":{}}}}`
	plain := &testkit.Raw{T: t, URL: agent.URL, Pass: agent.Pass, Header: http.Header{
		"Mcp-Protocol-Version": {"2026-07-28"}, "Mcp-Method": {"subscriptions/listen"},
	}}
	open := plain.Open(ctx, listen)
	assert.Contains(t, testkit.Next(t, open), "acknowledged")
	w.Must("PATCH", "/api/agents/marit-quill", testkit.Obj{"paused": true}, nil)
	for range open { // it ends
		continue
	}
}

// Addresses mean what they say, and an agent without reach learns nothing of a server.
func TestAddressesAndInstructions(t *testing.T) {
	t.Parallel()
	w := testkit.Start(t, nil)
	w.Register("library", testkit.Upstream(t, library(t)), "")
	pass := w.Agent("marit-quill")
	hello := `{"jsonrpc":"2.0","id":"hello","method":"initialize","params":{"protocolVersion":"2025-11-25","capabilities":{},"clientInfo":{"name":"raw","version":"1"}}}`
	at := func(path string) (int, string) {
		res, text := (&testkit.Raw{T: t, URL: w.Base + path, Pass: pass}).Post(hello)
		return res.StatusCode, text
	}
	status, text := at("/mcp/library")
	assert.Equal(t, 200, status)
	assert.NotContains(t, text, "Do as told", "instructions of a server that it does not reach")
	w.Rule("admit", "*", "*", "act")
	_, text = at("/mcp/library")
	assert.Contains(t, text, "Do as told")
	for _, path := range []string{"/sse/mcplibrary", "/mcplibrary", "/ssemcp/library", "/mcp/library/more", "/mcp/mcp/library"} {
		status, _ := at(path)
		assert.Contains(t, []int{404, 405}, status, path)
	}
}

// A task is reached at the address of its server, and not with a token for another.
func TestNamesThatOnlyLookAlikeAreRefused(t *testing.T) {
	t.Parallel()
	w, _, pass, _ := start(t, nil)
	w.Rule("admit", "*", "*", "*")
	agent := w.Raw("/mcp", pass, "2025-11-25")
	for _, body := range []string{
		`{"jsonrpc":"2.0","id":1,"method":"tools/call","params":{"name":"echo__echo","name":"x"}}`,
		`{"jsonrpc":"2.0","id":1,"method":"tools/call","params":{"name":"echo__echo","Name":"x"}}`,
		`{"jsonrpc":"2.0","id":1,"method":"tasks/get","params":{"taſkId":"x","taskId":"y"}}`,
		`{"jsonrpc":"2.0","id":1,"method":"tasks/get","params":{"tas\u212aId":"x","taskId":"y"}}`,
	} {
		_, text := agent.Post(body)
		assert.Contains(t, text, `"error"`, body)
		assert.NotContains(t, text, "there is no task", body)
	}
}

// A raw carriage return in what a server or an agent writes begins no line of an event
// stream.
func TestACarriageReturnForgesNoEvent(t *testing.T) {
	t.Parallel()
	w, s, pass := acted(t, nil)
	s.Call = func(c *testkit.ScriptCall) {
		c.Tell(`{"jsonrpc":"2.0","method":"notifications/message",` + "\r" + `"params":{"level":"info","data":"x"}}`)
		c.Text("done")
	}
	agent := w.Raw("/mcp/act", pass, "2025-11-25")
	agent.Ask(`{"jsonrpc":"2.0","id":1,"method":"logging/setLevel","params":{"level":"debug"}}`)
	_, text := agent.Post(`{"jsonrpc":"2.0","id":"mine","method":"tools/call","params":{"name":"act","_meta":{"progressToken":"t"},"arguments":{}}}`)
	assert.NotContains(t, text, "\r")
}

// However many sessions an agent opens, it gets so many processes of its own, and
// others go on.
func TestOneAgentTakesNotAllProcesses(t *testing.T) {
	t.Parallel()
	w := testkit.Start(t, nil)
	w.Must("POST", "/api/servers", testkit.Obj{"name": "alone", "command": testkit.Program(t, "act"), "sharing": "private"}, nil)
	w.Rule("admit", "*", "*", "*")
	greedy := w.Agent("marit-quill")
	w.Must("POST", "/api/agents", testkit.Obj{"name": "night-watch"}, nil)
	processes := map[string]bool{}
	refused := ""
	var mu sync.Mutex
	var wait sync.WaitGroup
	for range 40 {
		wait.Go(func() {
			r := w.Raw("/mcp/alone", greedy, "2025-11-25").CallTool("act", "")
			mu.Lock()
			defer mu.Unlock()
			if r.Error != nil {
				refused = r.Error.Message
			} else {
				processes[r.Result.Content[0].Text] = true
			}
		})
	}
	wait.Wait()
	assert.LessOrEqual(t, len(processes), 8)
	assert.NotEmpty(t, processes)
	assert.Contains(t, refused, "one agent has 8 at most")
	r := w.Raw("/mcp/alone", w.Pass("night-watch"), "2025-11-25").CallTool("act", "")
	require.Nil(t, r.Error, "others go on")
	var usage []gate.Usage
	w.Must("GET", "/api/limits", nil, &usage)
	for _, u := range usage {
		if u.What == "processes of single agents" {
			assert.LessOrEqual(t, u.Now, int64(9))
			assert.Positive(t, u.Refused)
		}
	}
}

// A member's own credentials start only so many processes, and no call goes out with
// another one instead.
func TestOwnCredentialsStartOnlySoManyProcesses(t *testing.T) {
	t.Parallel()
	w := testkit.Start(t, nil)
	w.Must("POST", "/api/servers", testkit.Obj{"name": "local", "command": testkit.Program(t, "act"), "secretEnv": "KEY", "token": "skf-team-key"}, nil)
	w.Rule("admit", "*", "*", "*")
	for i := range 12 {
		name := fmt.Sprint("quill-", i)
		w.Must("POST", "/api/agents", testkit.Obj{"name": name, "owner": "marit"}, nil)
		w.Must("PUT", "/api/servers/local/own", testkit.Obj{"agent": name, "value": fmt.Sprint("skf-own-key-", i), "anyway": true}, nil)
	}
	served, told := 0, ""
	for i := range 12 {
		r := w.Raw("/mcp/local", w.Pass(fmt.Sprint("quill-", i)), "2025-11-25").CallTool("act", "")
		if r.Error == nil && !r.Result.IsError {
			served++
		} else if r.Error == nil {
			told = r.Result.Content[0].Text
		}
	}
	assert.Equal(t, 8, served)
	assert.Contains(t, told, "no more than 8 are kept for one person")
	w.Must("POST", "/api/agents", testkit.Obj{"name": "night-watch"}, nil)
	r := w.Raw("/mcp/local", w.Pass("night-watch"), "2025-11-25").CallTool("act", "")
	assert.False(t, r.Result.IsError, "the team's goes on")
}

// Off is off: nothing that is stored, or stored later, starts a process.
func TestProcessesOffStartsNothing(t *testing.T) {
	t.Parallel()
	dir, mark := t.TempDir(), filepath.Join(t.TempDir(), "started")
	w := testkit.Start(t, map[string]string{"data": dir})
	command := filepath.Join(t.TempDir(), "server.sh")
	raw, err := os.ReadFile(testkit.Program(t, "act"))
	require.NoError(t, err)
	body := strings.Replace(string(raw), "#!/bin/sh\n", "#!/bin/sh\necho x >> "+mark+"\n", 1)
	require.NoError(t, os.WriteFile(command, []byte(body), 0o700)) //nolint:gosec // it is started
	w.Must("POST", "/api/servers", testkit.Obj{"name": "local", "command": command, "secretEnv": "KEY", "token": "skf-team-key"}, nil)
	w.Rule("admit", "*", "*", "*")
	w.Must("POST", "/api/agents", testkit.Obj{"name": "marit-quill", "owner": "marit"}, nil)
	require.FileExists(t, mark)
	w.Stop()
	require.NoError(t, os.Remove(mark))

	w = testkit.Start(t, map[string]string{"data": dir, "processes": "off"})
	for _, row := range []struct {
		method, path string
		in           any
	}{
		{"PUT", "/api/servers/local/own", testkit.Obj{"value": "skf-own-value"}},
		{"PUT", "/api/servers/local/own", testkit.Obj{"agent": "marit-quill", "value": "skf-own-value", "anyway": true}},
		{"PATCH", "/api/servers/local", testkit.Obj{"token": "skf-another"}},
		{"PATCH", "/api/servers/local", testkit.Obj{"sharing": "private"}},
		{"PATCH", "/api/servers/local", testkit.Obj{"paused": true}},
		{"PATCH", "/api/servers/local", testkit.Obj{"paused": false, "anyway": true}},
		{"POST", "/api/servers/local/check", nil},
		{"PUT", "/api/secrets/local-variable/value", testkit.Obj{"value": "skf-rotated"}},
		{"POST", "/api/servers", testkit.Obj{"name": "other", "command": command, "anyway": true}},
	} {
		w.Do(w.Token, row.method, row.path, row.in)
	}
	agent := w.Raw("/mcp", w.Pass("marit-quill"), "2025-11-25")
	agent.CallTool("local__act", "")
	assert.NoFileExists(t, mark)
}

// A pass that is shown too often has to wait, and nobody else does.
func TestAPassIsShownOnlySoOften(t *testing.T) {
	t.Parallel()
	w := testkit.Start(t, map[string]string{"pass-rate": "5"})
	w.Register("echo", testkit.Upstream(t, testkit.Echo("", nil)), "")
	w.Rule("admit", "*", "*", "*")
	pass := w.Agent("marit-quill")
	w.Must("POST", "/api/agents", testkit.Obj{"name": "night-watch"}, nil)
	other := w.Raw("/mcp", w.Pass("night-watch"), "2025-11-25")
	var limited, let atomic.Int64
	began := time.Now()
	require.Eventually(t, func() bool { // at once, so that they come faster than the pass may be shown
		var group sync.WaitGroup
		for range 30 {
			group.Go(func() {
				res, _ := (&testkit.Raw{T: t, URL: w.Base + "/mcp", Pass: pass}).Post(`{"jsonrpc":"2.0","id":1,"method":"ping"}`)
				if res.StatusCode != http.StatusTooManyRequests {
					let.Add(1)
					return
				}
				assert.NotEmpty(t, res.Header.Get("Retry-After"))
				limited.Add(1)
			})
		}
		group.Wait()
		return limited.Load() > 20
	}, within, time.Millisecond)
	assert.LessOrEqual(t, float64(let.Load()), 2*5+5*time.Since(began).Seconds(), "two seconds' worth at once, and what comes with time")
	assert.Equal(t, "hi", other.CallTool("echo__echo", "hi").Result.Content[0].Text)
	calls := w.Calls(1, "agent=marit-quill&outcome=refused")
	assert.Contains(t, calls[0].Error, "pass-rate")
}
