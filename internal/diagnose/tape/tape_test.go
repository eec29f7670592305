package tape_test

import (
	"context"
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/apitype"
	"bouncer/internal/core/report"
	"bouncer/internal/diagnose/tape"
	"bouncer/internal/testkit"
	"bouncer/standin/toolserver"
)

// What went between Bouncer and a server is kept masked, gives the same picture on another
// machine, shows what a mended server answers otherwise, and plays the server to a client.
func TestATapeTravelsAndIsReplayed(t *testing.T) {
	t.Parallel()
	w := testkit.Start(t, nil)
	server := toolserver.New("radio", "1.0", "skf-canary-radio", toolserver.Tool{Name: "bulletin", Schema: `{"type":"object"}`,
		Run: say("gale")})
	w.Register("radio", testkit.Upstream(t, server), "skf-canary-radio")
	agent := w.Raw("/mcp", w.Agent("marit-quill"), "2025-11-25")
	w.Rule("admit", "marit-quill", "radio", "*")
	require.Nil(t,
		agent.Ask(`{"jsonrpc":"2.0","id":1,"method":"tools/call","params":{"name":"radio__bulletin","arguments":{"token":"skf-canary-radio"}}}`).Error)

	var info apitype.TapeInfo
	w.Must("POST", "/api/tapes", testkit.Obj{"server": "radio", "reason": "a look"}, &info)
	_, raw := w.Do(w.Token, "GET", "/api/tapes/"+info.ID+"/export", nil)
	assert.NotContains(t, string(raw), "canary", "what is kept is masked")
	var kept apitype.Tape
	w.Must("GET", "/api/tapes/"+info.ID, nil, &kept)
	kinds := map[string]int{}
	for _, e := range kept.List {
		kinds[e.Kind+" "+e.Method]++
	}
	assert.Equal(t, 1, kinds["sent tools/call"])
	assert.NotZero(t, kinds["sent initialize"])
	assert.NotZero(t, kinds["answer POST"])
	assert.NotZero(t, kinds["received "])

	var har struct {
		Log struct {
			Version string
			Entries []struct {
				Request  struct{ PostData struct{ Text string } }
				Response struct{ Status int }
			}
		}
	}
	_, raw2 := w.Do(w.Token, "GET", "/api/tapes/"+info.ID+"/export?form=har", nil)
	require.NoError(t, json.Unmarshal(raw2, &har))
	assert.Equal(t, "1.2", har.Log.Version)
	calls := 0
	for _, e := range har.Log.Entries {
		calls += strings.Count(e.Request.PostData.Text, "tools/call")
	}
	assert.Equal(t, 1, calls)

	// The server as it is: all alike; with the call, too. As it is then: the difference.
	var r apitype.Replayed
	w.Must("POST", "/api/tapes/"+info.ID+"/replay", testkit.Obj{"calls": true}, &r)
	assert.Empty(t, r.Differ)
	assert.GreaterOrEqual(t, r.Same, 3)
	server.SetTools(toolserver.Tool{Name: "bulletin", Schema: `{"type":"object"}`, Run: say("calm")})
	w.Must("POST", "/api/tapes/"+info.ID+"/replay", testkit.Obj{"calls": true}, &r)
	require.Len(t, r.Differ, 1)
	assert.Equal(t, "tools/call", r.Differ[0].Method)
	assert.Equal(t, []string{"/result/content/0/text"}, r.Differ[0].Where)
	assert.Contains(t, r.Differ[0].Now, "calm")

	// Another machine has the same picture, and a client is answered as then.
	other := testkit.Start(t, nil)
	var there apitype.TapeInfo
	other.Must("POST", "/api/tapes/imports", testkit.Obj{"text": string(raw)}, &there)
	assert.True(t, there.Imported)
	var again apitype.Tape
	other.Must("GET", "/api/tapes/"+there.ID, nil, &again)
	assert.Equal(t, kept.List, again.List)
	played, err := tape.Parse(raw)
	require.NoError(t, err)
	stand := httptest.NewServer(tape.NewPlayer(played))
	defer stand.Close()
	var report report.Report
	other.Must("POST", "/api/checkups", testkit.Obj{"target": testkit.Obj{"name": "x", "url": stand.URL + "/mcp"},
		"call": testkit.Obj{"tool": "bulletin"}}, &report)
	assert.True(t, report.Healthy, "%+v", report.Findings)
	assert.Equal(t, 1, report.Tools)

	for _, wrong := range []string{"", "{}", "hello", `{"tape":99,"id":"x"}`, `{"tape":1}` + "\n[]"} {
		assert.Equal(t, "text", other.Problem("POST", "/api/tapes/imports", testkit.Obj{"text": wrong}).Field, wrong)
	}
	assert.Equal(t, http.StatusNotFound, other.Problem("GET", "/api/tapes/..%2F..%2Fbouncer", nil).Status)
}

func say(words string) func(ctx context.Context, c *toolserver.Call) (any, error) {
	return func(context.Context, *toolserver.Call) (any, error) { return strings.Clone(words), nil }
}

// What goes between an agent and Bouncer is on a tape as well: the session and what was
// refused at the door. It shows what the agent would be answered otherwise now, and is kept
// by itself when the agent sends what is no request.
func TestAnAgentsTape(t *testing.T) {
	t.Parallel()
	w := testkit.Start(t, nil)
	server := toolserver.New("radio", "1.0", "skf-canary-radio", toolserver.Tool{Name: "bulletin", Schema: `{"type":"object"}`,
		Run: say("gale")})
	w.Register("radio", testkit.Upstream(t, server), "skf-canary-radio")
	pass := w.Agent("marit-quill")
	agent := w.Raw("/mcp", pass, "2025-11-25")
	w.Rule("admit", "marit-quill", "radio", "*")
	ask := func(id, method, params string) {
		agent.Ask(`{"jsonrpc":"2.0","id":` + id + `,"method":"` + method + `","params":` + params + `}`)
	}
	ask("1", "tools/list", "{}")
	ask("2", "tools/call", `{"name":"radio__bulletin","arguments":{"token":"skf-canary-radio"}}`)

	var info apitype.TapeInfo
	w.Must("POST", "/api/tapes", testkit.Obj{"agent": "marit-quill"}, &info)
	assert.Equal(t, "marit-quill", info.Agent)
	_, raw := w.Do(w.Token, "GET", "/api/tapes/"+info.ID+"/export", nil)
	assert.NotContains(t, string(raw), "canary")
	assert.NotContains(t, string(raw), pass)
	var kept apitype.Tape
	w.Must("GET", "/api/tapes/"+info.ID, nil, &kept)
	said := map[string]apitype.TapeEntry{}
	for _, e := range kept.List {
		said[e.Kind+" "+e.Method+e.ID] = e
		said[e.Kind+" "+e.Method] = e
	}
	assert.Contains(t, said["received 2"].Text, "gale")
	assert.Equal(t, said["sent initialize"].Line, said["sent tools/call2"].Line, "one session is one conversation")
	assert.Equal(t, 200, said["answer POST"].Status)

	var r apitype.Replayed
	w.Must("POST", "/api/tapes/"+info.ID+"/replay", testkit.Obj{"calls": true}, &r)
	assert.Empty(t, r.Differ)
	assert.GreaterOrEqual(t, r.Same, 3)
	w.Rule("refuse", "marit-quill", "radio", "*")
	w.Must("POST", "/api/tapes/"+info.ID+"/replay", testkit.Obj{"calls": true}, &r)
	require.Len(t, r.Differ, 2, "the list and the call")
	assert.Contains(t, r.Differ[1].Now, "refuse")

	var passes []struct{ ID string }
	w.Must("GET", "/api/agents/marit-quill/passes", nil, &passes)
	_, _ = w.Do(w.Token, "DELETE", "/api/agents/marit-quill/passes/"+passes[0].ID, nil)
	post(t, w.Base, pass, "{}")
	var heard []apitype.TapeEntry
	w.Must("GET", "/api/agents/marit-quill/heard", nil, &heard)
	last := heard[len(heard)-1]
	assert.Equal(t, "state", last.Kind)
	assert.Contains(t, last.Text, "turned away: this pass was revoked")

	post(t, w.Base, w.Agent("joss-quill"), "this is no message")
	var list []apitype.TapeInfo
	require.Eventually(t, func() bool {
		w.Must("GET", "/api/tapes?agent=joss-quill", nil, &list)
		return len(list) == 1
	}, 20*time.Second, 10*time.Millisecond)
	assert.Contains(t, list[0].Reason, "answered with 400")
	assert.Equal(t, "agent", w.Problem("POST", "/api/tapes", testkit.Obj{"server": "radio", "agent": "marit-quill"}).Field)
}

func post(t *testing.T, base, pass, body string) {
	t.Helper()
	r, err := http.NewRequestWithContext(t.Context(), http.MethodPost, base+"/mcp", strings.NewReader(body))
	require.NoError(t, err)
	r.Header.Set("Authorization", "Bearer "+pass)
	r.Header.Set("Content-Type", "application/json")
	r.Header.Set("Accept", "application/json, text/event-stream")
	resp, err := http.DefaultClient.Do(r)
	require.NoError(t, err)
	require.NoError(t, resp.Body.Close())
}
