package cli

import (
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/core/report"
	"bouncer/internal/testkit"
	"bouncer/standin/loopback"
)

// What a checkup finds is told with its exit code, as JSON, and by the state of the server
// and the error that an agent gets; what helps is applied when that was asked for.
func TestCheckup(t *testing.T) {
	t.Parallel()
	d := sit(t)
	echo := testkit.Echo("", nil)
	var refuse atomic.Bool
	upstream := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch {
		case refuse.Load():
			w.Header().Set("WWW-Authenticate", `Bearer error="invalid_token", error_description="The access token expired"`)
			w.WriteHeader(http.StatusUnauthorized)
		case r.URL.Path == "/v2/mcp":
			echo.ServeHTTP(w, r)
		default:
			http.NotFound(w, r)
		}
	}))
	t.Cleanup(func() { loopback.End(upstream) })
	d.w.Register("radio", upstream.URL+"/v2/mcp", "skf-canary-radio-token")

	assert.Contains(t, d.ok("", "checkup", "radio"), "radio is healthy")
	refuse.Store(true)
	code, out, errs := d.run(t.Context(), "", "checkup", "radio", "--json")
	assert.Equal(t, exitFindings, code, errs)
	assert.NotContains(t, out+errs, "canary")
	var r report.Report
	require.NoError(t, json.Unmarshal([]byte(out), &r))
	require.Len(t, r.Findings, 1)
	assert.Equal(t, "auth.token-expired credential owner", string(r.Findings[0].Cause)+" "+string(r.Findings[0].Who))
	assert.Contains(t, r.Findings[0].Remedy, "bouncer server update radio --token")
	assert.False(t, r.Healthy)

	// The state, and what an agent is told, are that finding.
	require.Eventually(t, func() bool {
		return strings.Contains(d.ok("", "server", "show", "radio"), "the credential has ended")
	}, 30*time.Second, 20*time.Millisecond)
	agent := d.w.Raw("/mcp", d.w.Agent("marit-quill"), "2025-11-25")
	d.w.Rule("admit", "marit-quill", "radio", "*")
	reply := agent.CallTool("radio__echo", "hi")
	require.NotNil(t, reply.Error)
	assert.Contains(t, reply.Error.Message, "the credential has ended")
	assert.Contains(t, reply.Error.Message, "bouncer server update radio --token")

	// A wrong path is corrected by --apply, and everything is well.
	refuse.Store(false)
	d.ok("", "server", "update", "radio", "--url", upstream.URL+"/v2/api", "--anyway")
	code, out, _ = d.run(t.Context(), "", "checkup", "radio")
	assert.Equal(t, exitFindings, code)
	assert.Contains(t, out, "http.wrong-path")
	assert.Contains(t, out, "bouncer checkup radio --apply")
	code, out, errs = d.run(t.Context(), "", "checkup", "radio", "--apply")
	assert.Equal(t, exitOK, code, out+errs)
	assert.Contains(t, errs, "radio: url is now "+upstream.URL+"/v2/mcp")
	assert.Contains(t, out, "radio is healthy")
	assert.Contains(t, d.ok("", "checkup", "--all"), "healthy")

	// What is not registered takes what a registration takes, and leaves nothing behind.
	assert.Contains(t, d.ok("skf-x", "checkup", "--url", upstream.URL+"/v2/mcp", "--token"), "is healthy")
	assert.Contains(t, d.ok("", "checkup", "--here", "--url", upstream.URL+"/v2/mcp"), "is healthy")
	assert.NotContains(t, d.ok("", "server", "list"), "target")
	code, out, _ = d.run(t.Context(), "", "checkup", "--command", "berths-that-is-not-there", "--", "--stdio")
	assert.Equal(t, exitFindings, code)
	assert.Contains(t, out, "launch.command-not-found")

	for _, wrong := range [][]string{
		{"checkup"},
		{"checkup", "radio", "--url", "http://127.0.0.1:1/mcp"},
		{"checkup", "no-such-server"},
		{"checkup", "--here", "radio"},
		{"checkup", "radio", "--call", "echo", "--arguments", "{"},
		{"checkup", "--url", "http://127.0.0.1:1/mcp", "--apply"},
		{"checkup", "radio", "--as", "nobody"},
	} {
		code, _, errs := d.run(t.Context(), "", wrong...)
		assert.Equal(t, exitCouldNot, code, "%v: %s", wrong, errs)
		assert.Contains(t, errs, "hint:", "%v", wrong)
	}
}
