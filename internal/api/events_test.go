package api_test

import (
	"bufio"
	"context"
	"encoding/json"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/core/team"
	"bouncer/internal/testkit"
)

// event is one event of the API's stream.
type event struct{ name, data string }

func listen(t *testing.T, w *testkit.World, login string) <-chan event {
	ctx, cancel := context.WithCancel(t.Context())
	t.Cleanup(cancel)
	req, err := http.NewRequestWithContext(ctx, "GET", w.Base+"/api/events", nil)
	require.NoError(t, err)
	req.Header.Set("Authorization", "Bearer "+login)
	res, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	require.Equal(t, 200, res.StatusCode)
	assert.Equal(t, "text/event-stream", res.Header.Get("Content-Type"))
	out := make(chan event, 100)
	go func() {
		defer close(out)
		defer res.Body.Close()
		var ev event
		for lines := bufio.NewScanner(res.Body); lines.Scan(); {
			if name, ok := strings.CutPrefix(lines.Text(), "event: "); ok {
				ev.name = name
			} else if data, ok := strings.CutPrefix(lines.Text(), "data: "); ok {
				out <- event{ev.name, data}
			}
		}
	}()
	return out
}

func await(t *testing.T, events <-chan event, name, data string) event {
	t.Helper()
	deadline := time.After(5 * time.Second)
	for {
		select {
		case ev, open := <-events:
			require.True(t, open, "the stream ended before %s %s", name, data)
			if ev.name == name && strings.Contains(ev.data, data) {
				return ev
			}
		case <-deadline:
			require.Fail(t, "no such event", "%s %s", name, data)
		}
	}
}

func TestEventsTellWhatHappensToThoseWhoMaySeeIt(t *testing.T) {
	t.Parallel()
	w := testkit.Start(t, nil)
	ottilie := w.Person("ottilie", "Ottilie Brandt", team.Member)
	marits, ottilies := listen(t, w, w.Token), listen(t, w, ottilie)
	w.Register("echo", testkit.Upstream(t, testkit.Echo(token, nil)), token)
	await(t, marits, "changed", "servers")
	w.Rule("admit", "*", "*", "*")
	await(t, marits, "changed", "rules")
	await(t, ottilies, "changed", "rules")
	agent := w.Raw("/mcp", w.Agent("marit-quill"), "2025-11-25")
	await(t, marits, "changed", "agents")
	agent.CallTool("echo__echo", "for marit only, and "+token)
	ev := await(t, marits, "calls", "marit-quill")
	var calls []team.Call
	require.NoError(t, json.Unmarshal([]byte(ev.data), &calls))
	require.Len(t, calls, 1)
	assert.Equal(t, "echo ok", calls[0].Tool+" "+calls[0].Outcome)
	assert.Empty(t, calls[0].Arguments, "bodies are fetched one by one")
	var own struct{ Token string }
	w.MustAs(ottilie, "POST", "/api/agents", obj{"name": "ottilie-parlour", "owner": "ottilie"}, nil)
	w.MustAs(ottilie, "POST", "/api/agents/ottilie-parlour/passes", obj{"days": 1}, &own)
	w.Raw("/mcp", own.Token, "2025-11-25").CallTool("echo__echo", "mine")
	for {
		ev := await(t, ottilies, "calls", "")
		assert.NotContains(t, ev.data, "marit-quill", "a member hears of the own agents only")
		if strings.Contains(ev.data, "ottilie-parlour") {
			break
		}
	}
	w.Stop()
	for range marits { // ends with the service
	}
}

func TestWhereNobodyIsSignedInNothingIsTold(t *testing.T) {
	t.Parallel()
	w := testkit.Start(t, nil)
	for _, login := range []string{"", "bnt_wrong", "bnp_" + strings.Repeat("x", 43)} {
		status, raw := w.Do(login, "GET", "/api/events", nil)
		assert.Equal(t, 401, status)
		assert.Contains(t, string(raw), "you are not signed in")
	}
	for _, header := range []string{"Host", "Origin"} {
		req, err := http.NewRequest("GET", w.Base+"/api/about", nil)
		require.NoError(t, err)
		if header == "Host" {
			req.Host = "rebound.example"
		} else {
			req.Header.Set("Origin", "https://elsewhere.example")
		}
		res, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		require.NoError(t, res.Body.Close())
		assert.Equal(t, 403, res.StatusCode, header)
	}
}
