package checkup

import (
	"context"
	"encoding/json"
	"io"
	"log"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"strings"
	"sync"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/core/report"
	"bouncer/internal/core/serverspec"
	"bouncer/internal/core/team"
	"bouncer/internal/link"
	"bouncer/internal/locker"
	"bouncer/standin/loopback"
)

// seen are the requests that a server got.
type seen struct {
	mu   sync.Mutex // guards list
	list []string   // method, path, and what was sent as a credential
}

func (s *seen) serve(t *testing.T, secure bool, answer http.HandlerFunc) *httptest.Server {
	t.Helper()
	server := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		s.mu.Lock()
		s.list = append(s.list, strings.TrimSpace(r.Method+" "+r.URL.Path+" "+r.Header.Get("Authorization")+r.Header.Get("X-Api-Key")))
		s.mu.Unlock()
		answer(w, r)
	}))
	server.Config.ErrorLog = log.New(io.Discard, "", 0)
	if secure {
		server.StartTLS()
	} else {
		server.Start()
	}
	t.Cleanup(func() { loopback.End(server) })
	return server
}

func (s *seen) all() []string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.list
}

func look(t *testing.T, r serverspec.Registration, o Options) report.Report {
	t.Helper()
	target, err := Describe(r)
	require.NoError(t, err)
	report, err := Run(t.Context(), target, o)
	require.NoError(t, err)
	return report
}

// A server that means harm does not lead a checkup into private networks, and gets the
// credential at its own address only.
func TestAServerLeadsNowhere(t *testing.T) {
	t.Parallel()
	var inside, own, away, tls seen
	tenants := make(chan string, 20)
	private := inside.serve(t, false, func(w http.ResponseWriter, r *http.Request) {
		tenants <- r.Header.Get("X-Tenant")
		_, _ = io.WriteString(w, `{"resource":"x"}`)
	})
	var configured atomic.Bool
	server := own.serve(t, false, func(w http.ResponseWriter, r *http.Request) {
		configured.Store(configured.Load() || r.Header.Get("X-Tenant") == "tnt-canary")
		w.Header().Set("WWW-Authenticate", `Bearer resource_metadata="`+private.URL+`/metadata"`)
		w.WriteHeader(http.StatusUnauthorized)
	})
	named := strings.Replace(server.URL, "127.0.0.1", "localhost", 1) + "/mcp"
	r := look(t, serverspec.Registration{URL: named}, Options{})
	assert.Equal(t, "auth.resource-metadata", string(r.Findings[0].Cause))
	assert.Contains(t, strings.Join(r.Findings[0].Evidence, " "), "private range")
	assert.Empty(t, inside.all(), "what a server names is not reached in private networks")
	r = look(
		t,
		serverspec.Registration{URL: named, ServerOptions: team.ServerOptions{Headers: []string{"X-Tenant: tnt-canary"}}},
		Options{Private: []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8")}},
	)
	assert.Equal(t, []string{"GET /metadata"}, inside.all(), "unless that was allowed")
	assert.True(t, configured.Load(), "a header that was configured goes to the server")
	assert.Empty(t, <-tenants, "and to nobody else")

	elsewhere := away.serve(t, false, func(http.ResponseWriter, *http.Request) {})
	moved := own.serve(t, false, func(w http.ResponseWriter, r *http.Request) {
		http.Redirect(w, r, elsewhere.URL+"/mcp", http.StatusTemporaryRedirect)
	})
	r = look(t, serverspec.Registration{URL: moved.URL + "/mcp", Token: "skf-canary"}, Options{})
	assert.Equal(t, "http.redirected", string(r.Findings[0].Cause))
	assert.Empty(t, away.all(), "a redirect to another origin is not followed, with a credential or without")

	secure := tls.serve(t, true, func(http.ResponseWriter, *http.Request) {})
	r = look(t, serverspec.Registration{URL: secure.URL + "/mcp", Token: "skf-canary"}, Options{})
	assert.Equal(t, "tls.certificate-not-trusted", string(r.Findings[0].Cause))
	assert.Empty(t, tls.all(), "nothing is sent to whom nobody trusts")
}

// A secret that a server sends back is masked, also where what it sends is cut in the
// middle of it, and on the error output of a process that is given one.
func TestSecretsDoNotComeBack(t *testing.T) {
	t.Parallel()
	const canary = "skf-canary-0123456789abcdef"
	for _, before := range []int{0, 135, 150, 158, 280, 290, 1015, 4080} {
		var s seen
		server := s.serve(t, false, func(w http.ResponseWriter, r *http.Request) {
			w.WriteHeader(http.StatusUnauthorized)
			_, _ = io.WriteString(w, strings.Repeat("x", before)+canary+" is none that we know")
		})
		r := look(t, serverspec.Registration{URL: server.URL + "/mcp", Token: canary}, Options{})
		told, err := json.Marshal(r)
		require.NoError(t, err)
		assert.NotContains(t, string(told), canary[:10], "after %d bytes", before)
		assert.NotEmpty(t, r.Findings)
	}

	target, err := Describe(serverspec.Registration{Command: "sh", Args: []string{"-c", `echo "cannot sign in with $DEPOT_KEY" >&2; exit 1`}})
	require.NoError(t, err)
	target.Credential.Vars = func(context.Context) ([]link.Var, error) {
		return []link.Var{{Name: "DEPOT_KEY", Value: locker.NewSecret(canary)}}, nil
	}
	r, err := Run(t.Context(), target, Options{})
	require.NoError(t, err)
	told, err := json.Marshal(r)
	require.NoError(t, err)
	assert.Contains(t, string(told), "cannot sign in with", "the process ran and wrote")
	assert.NotContains(t, string(told), canary[:10])
}

// A checkup opens conversations, lists, and calls nothing; what it opens it ends.
func TestACheckupDoesNoHarm(t *testing.T) {
	t.Parallel()
	var s seen
	var bodies []string
	var mu sync.Mutex
	server := s.serve(t, false, func(w http.ResponseWriter, r *http.Request) {
		raw, _ := io.ReadAll(r.Body)
		mu.Lock()
		bodies = append(bodies, string(raw))
		mu.Unlock()
		w.Header().Set("Content-Type", "application/json")
		switch {
		case r.Method == http.MethodDelete:
			w.WriteHeader(http.StatusNoContent)
		case r.Method == http.MethodGet:
			w.WriteHeader(http.StatusMethodNotAllowed)
		case strings.Contains(string(raw), `"initialize"`):
			w.Header().Set("Mcp-Session-Id", "s-1")
			_, _ = io.WriteString(w, `{"jsonrpc":"2.0","id":1,"result":{"protocolVersion":"2025-06-18","capabilities":{"tools":{}}}}`)
		case strings.Contains(string(raw), `"tools/list"`):
			_, _ = io.WriteString(w, `{"jsonrpc":"2.0","id":2,"result":{"tools":[{"name":"drop_all","inputSchema":{"type":"object"}}]}}`)
		default:
			w.WriteHeader(http.StatusAccepted)
		}
	})
	var told []string
	r := look(t, serverspec.Registration{URL: server.URL + "/mcp"}, Options{Progress: func(stage, _ string) { told = append(told, stage) }})
	assert.True(t, r.Healthy, "%+v", r.Findings)
	mu.Lock()
	defer mu.Unlock()
	assert.NotContains(t, strings.Join(bodies, " "), "tools/call")
	assert.Contains(t, s.all(), "DELETE /mcp", "the session is ended")
	assert.Subset(t, told, []string{"address", "http", "listing"})
	var names []string
	for _, stage := range r.Stages {
		names = append(names, stage.Name+" "+stage.Outcome)
	}
	assert.Equal(t, []string{
		"settings ok", "address ok", "tls skipped", "http ok", "transport ok", "authorization skipped", "protocol ok", "listing ok", "call skipped",
	}, names)
}
