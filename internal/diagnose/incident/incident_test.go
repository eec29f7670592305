package incident_test

import (
	"encoding/json"
	"encoding/xml"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
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
	told := make(chan apitype.HeldNotice, 16)
	pager := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		var n apitype.HeldNotice
		if assert.NoError(t, json.NewDecoder(r.Body).Decode(&n)) && assert.NotEmpty(t, r.Header.Get("Signature")) {
			told <- n
		}
	}))
	t.Cleanup(pager.Close)
	key := filepath.Join(t.TempDir(), "key")
	require.NoError(t, os.WriteFile(key, []byte("a key of the harbour, long enough"), 0o600))
	w := testkit.Start(t, map[string]string{"poll": "1s", "incident-notices": pager.URL, "held-notices-key": "file " + key})
	hears := func(what, id string) {
		t.Helper()
		select {
		case n := <-told:
			require.NotNil(t, n.Incident)
			assert.Equal(t, what+" "+id, n.Notice+" "+n.Incident.ID)
			assert.Contains(t, n.Console, "/incidents/"+id)
		case <-time.After(30 * time.Second):
			t.Fatal("nobody was told")
		}
	}
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
	hears("incident", first[0].ID)
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
	hears("incident-over", first[0].ID)
	revoked.Store(true)
	w.Must("POST", "/api/servers/radio/check", nil, nil)
	back := list(1)
	require.Len(t, back, 1, "it is the same incident")
	assert.Equal(t, first[0].ID, back[0].ID)
	hears("incident", first[0].ID)
	assert.Equal(t, 1, back[0].Reopened)
	assert.Equal(t, "asked for another key", back[0].Notes[0].Text)

	_, raw := w.Do(w.Token, "GET", "/api/incidents/feed", nil)
	var feed struct {
		Entries []struct {
			Title   string `xml:"title"`
			Summary string `xml:"summary"`
		} `xml:"entry"`
	}
	require.NoError(t, xml.Unmarshal(raw, &feed))
	require.Len(t, feed.Entries, 1)
	assert.Contains(t, feed.Entries[0].Title+feed.Entries[0].Summary, "revoked")

	member := w.Person("joss", "Joss Penhale", team.Member)
	var seen apitype.IncidentDetail
	w.MustAs(member, "GET", "/api/incidents/"+first[0].ID, nil, &seen)
	assert.Zero(t, seen.Calls, "whose calls these were is not everybody's business")
	assert.Empty(t, seen.Agents)
	assert.Empty(t, seen.Evidence, "nor how the server is set up")
	require.NotEmpty(t, back[0].Evidence)
}
