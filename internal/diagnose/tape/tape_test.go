package tape_test

import (
	"context"
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/apitype"
	"bouncer/internal/core/verdict"
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
	assert.Contains(t, har.Log.Entries[len(har.Log.Entries)-1].Request.PostData.Text, "tools/call")

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
	var report verdict.Report
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
