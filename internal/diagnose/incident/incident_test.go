package incident_test

import (
	"net/http"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/apitype"
	"bouncer/internal/core/team"
	"bouncer/internal/testkit"
)

// The same cause at the same server is one incident: with whom it affects and what changed
// before it, over by itself when the server is well, and reopened when the cause returns.
func TestAnIncidentLivesAndReturns(t *testing.T) {
	t.Parallel()
	w := testkit.Start(t, map[string]string{"poll": "1s"})
	var revoked atomic.Bool
	echo := testkit.Echo("", nil)
	url := testkit.Upstream(t, http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		if revoked.Load() {
			rw.Header().Set("Content-Type", "application/json")
			rw.WriteHeader(http.StatusUnauthorized)
			_, _ = rw.Write([]byte(`{"error":"this key has been revoked"}`))
			return
		}
		echo.ServeHTTP(rw, r)
	}))
	w.Register("radio", url, "skf-first-token")
	agent := w.Raw("/mcp", w.Agent("marit-quill"), "2025-11-25")
	w.Rule("admit", "marit-quill", "radio", "*")
	require.Nil(t, agent.CallTool("radio__echo", "hi").Error)
	ready := func() bool {
		var board []apitype.ServerHistory
		w.Must("GET", "/api/health?since=1h", nil, &board)
		return len(board) == 1 && len(board[0].States) > 0 && board[0].States[len(board[0].States)-1].State == team.StateReady
	}
	require.Eventually(t, ready, 20*time.Second, 10*time.Millisecond)

	w.Must("PATCH", "/api/servers/radio", testkit.Obj{"callSeconds": 30}, nil) // a change shortly before
	revoked.Store(true)
	require.NotNil(t, agent.CallTool("radio__echo", "hi").Error)
	list := func(open int) (out []team.Incident) {
		t.Helper()
		require.Eventually(t, func() bool {
			out = nil // what is not told this time must not stay from the last
			w.Must("GET", "/api/incidents", nil, &out)
			n := 0
			for _, i := range out {
				if i.Until == nil {
					n++
				}
			}
			return n == open && len(out) > 0
		}, 30*time.Second, 10*time.Millisecond)
		return out
	}
	first := list(1)
	require.Len(t, first, 1)
	assert.Equal(t, "auth.token-revoked", first[0].Cause)
	assert.Equal(t, "credential owner", first[0].Who)
	require.NotNil(t, first[0].LastGood)
	require.NotNil(t, agent.CallTool("radio__echo", "again").Error)
	var d apitype.IncidentDetail
	require.Eventually(t, func() bool {
		w.Must("GET", "/api/incidents/"+first[0].ID, nil, &d)
		return d.Calls >= 1
	}, 20*time.Second, 10*time.Millisecond)
	assert.Equal(t, []string{"marit-quill"}, d.Agents)
	require.NotEmpty(t, d.Changed)
	assert.Equal(t, "server.update radio", d.Changed[0].What, "what is about the server itself, the last first")
	w.Must("POST", "/api/incidents/"+first[0].ID+"/notes", testkit.Obj{"text": "asked for another key"}, nil)
	assert.Equal(t, "text", w.Problem("POST", "/api/incidents/"+first[0].ID+"/notes", testkit.Obj{"text": " "}).Field)
	var tapes []apitype.TapeInfo
	w.Must("GET", "/api/tapes?server=radio", nil, &tapes)
	assert.NotEmpty(t, tapes, "what went before the failure is kept")

	revoked.Store(false)
	w.Must("POST", "/api/servers/radio/check", nil, nil)
	over := list(0)
	require.NotNil(t, over[0].Until)
	revoked.Store(true)
	w.Must("POST", "/api/servers/radio/check", nil, nil)
	back := list(1)
	require.Len(t, back, 1, "it is the same incident")
	assert.Equal(t, first[0].ID, back[0].ID)
	assert.Equal(t, 1, back[0].Reopened)
	assert.Equal(t, "asked for another key", back[0].Notes[0].Text)

	member := w.Person("joss", "Joss Penhale", team.Member)
	var seen apitype.IncidentDetail
	w.MustAs(member, "GET", "/api/incidents/"+first[0].ID, nil, &seen)
	assert.Zero(t, seen.Calls, "whose calls these were is not everybody's business")
	assert.Empty(t, seen.Agents)
}
