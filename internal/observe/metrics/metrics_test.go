package metrics_test

import (
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/prometheus/client_golang/prometheus/testutil/promlint"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/core/team"
	"bouncer/internal/observe/metrics"
	"bouncer/internal/testkit"
)

func scrape(t *testing.T, address, token string) (int, string) {
	t.Helper()
	r, err := http.NewRequestWithContext(t.Context(), http.MethodGet, address, nil)
	require.NoError(t, err)
	if token != "" {
		r.Header.Set("Authorization", "Bearer "+token)
	}
	resp, err := http.DefaultClient.Do(r)
	require.NoError(t, err)
	defer resp.Body.Close()
	raw, err := io.ReadAll(resp.Body)
	require.NoError(t, err)
	return resp.StatusCode, string(raw)
}

// Metrics are told in the format of Prometheus at an address of their own, and to whoever
// shows the token; they say what happened, hold no secret, and have what alerts and the
// dashboard ask for.
func TestMetricsAreTold(t *testing.T) {
	t.Parallel()
	const token = "skf-canary-metrics-token"
	file := filepath.Join(t.TempDir(), "token")
	require.NoError(t, os.WriteFile(file, []byte(token+"\n"), 0o600))
	w := testkit.Start(t, map[string]string{"metrics-listen": "127.0.0.1:0", "metrics-token": "file " + file})
	w.Register("radio", testkit.Upstream(t, testkit.Echo("skf-canary-radio", nil)), "skf-canary-radio")
	w.Must("POST", "/api/servers", testkit.Obj{"name": "gone", "url": "http://127.0.0.1:1/mcp", "anyway": true}, nil)
	agent := w.Raw("/mcp", w.Agent("marit-quill"), "2025-11-25")
	agent.CallTool("radio__echo", "x")
	w.Rule("admit", "marit-quill", "radio", "*")
	require.Nil(t, agent.CallTool("radio__echo", "x").Error)
	w.Calls(2, "agent=marit-quill")

	status, text := scrape(t, w.Svc.MetricsAddress, "")
	require.Equal(t, http.StatusOK, status)
	for _, line := range []string{
		`bouncer_calls_total{outcome="ok",server="radio"} 1`, `bouncer_calls_total{outcome="refused",server="radio"} 1`,
		`bouncer_calls_total{outcome="timeout",server="radio"} 0`, `bouncer_call_duration_seconds_count{server="radio"} 1`,
		`bouncer_server_state{server="radio",state="ready"} 1`, `bouncer_server_state{server="gone",state="ready"} 0`,
		"bouncer_sessions 1", "bouncer_held_calls 0", "bouncer_journal_recording 1", `bouncer_limit{what="sessions"} 50000`,
	} {
		assert.Contains(t, text, line+"\n")
	}
	assert.NotContains(t, text, "canary")
	assert.NotContains(t, text, "marit", "agents and people are no labels")
	problems, err := promlint.New(strings.NewReader(text)).Lint()
	require.NoError(t, err)
	assert.Empty(t, problems)
	// Of a node of a cluster, and of secrets that end, more is told.
	more := httptest.NewRecorder()
	metrics.New(metrics.Options{State: func() metrics.State {
		return metrics.State{
			Node: &metrics.Node{Ready: true, Alone: 2 * time.Second, Behind: 3, Aside: 4}, Secrets: map[string]time.Time{"token": time.Unix(5, 0)},
		}
	}}).Handler().ServeHTTP(more, httptest.NewRequest("GET", "/metrics", nil))
	for _, line := range []string{"node_ready 1", "node_alone_seconds 2", "node_behind_entries 3", "node_set_aside_entries 4"} {
		assert.Contains(t, more.Body.String(), "\nbouncer_"+line+"\n")
	}
	assert.NotContains(t, text, "bouncer_node_", "it is one node")
	text += more.Body.String()
	for _, name := range []string{"alerts.yaml", "dashboard.json"} {
		raw, err := os.ReadFile(filepath.Join("..", "..", "..", "docs", "monitoring", name))
		require.NoError(t, err)
		for _, metric := range regexp.MustCompile(`\b(?:bouncer|process)_[a-z_]+`).FindAllString(string(raw), -1) {
			assert.Contains(t, text, "\n"+metric, "%s asks for it", name)
		}
	}

	status, _ = scrape(t, w.Base+"/metrics", "")
	assert.Equal(t, http.StatusUnauthorized, status)
	status, _ = scrape(t, w.Base+"/metrics", token+"x")
	assert.Equal(t, http.StatusUnauthorized, status)
	status, text = scrape(t, w.Base+"/metrics", token)
	assert.Equal(t, http.StatusOK, status)
	assert.Contains(t, text, "bouncer_build_info")
	status, _ = scrape(t, w.Svc.MetricsAddress, token)
	assert.Equal(t, http.StatusOK, status)
	w.Stop()
	_, err = http.Get(w.Svc.MetricsAddress) //nolint:bodyclose,noctx // there is nobody
	assert.Error(t, err, "it ends with the service")

	without := testkit.Start(t, nil)
	status, _ = scrape(t, without.Base+"/metrics", token)
	assert.Equal(t, http.StatusNotFound, status)
}

// Labels are bounded, whatever servers are called.
func TestLabelsAreBounded(t *testing.T) {
	t.Parallel()
	m := metrics.New(metrics.Options{State: func() metrics.State {
		return metrics.State{Secrets: map[string]time.Time{"berths": time.Unix(1_800_000_000, 0)}}
	}})
	for i := range 3000 {
		m.Observe(&team.Call{Server: fmt.Sprint("s", i), Outcome: team.OutcomeOK})
	}
	m.Observe(&team.Call{Outcome: team.OutcomeRefused, Times: 7})
	rec := &recorded{header: http.Header{}}
	m.Handler().ServeHTTP(rec, mustRequest(t))
	assert.Equal(t, 1001, strings.Count(rec.text.String(), `bouncer_calls_total{outcome="ok"`))
	assert.Contains(t, rec.text.String(), `server="(other)"} 2000`)
	assert.Contains(t, rec.text.String(), `bouncer_secret_end_timestamp_seconds{secret="berths"} 1.8e+09`)
}

type recorded struct {
	header http.Header
	text   strings.Builder
}

func (r *recorded) Header() http.Header         { return r.header }
func (r *recorded) WriteHeader(int)             {}
func (r *recorded) Write(p []byte) (int, error) { return r.text.Write(p) }

func mustRequest(t *testing.T) *http.Request {
	t.Helper()
	r, err := http.NewRequestWithContext(t.Context(), http.MethodGet, "/metrics", nil)
	require.NoError(t, err)
	return r
}
