package e2e

import (
	"net/http/httptest"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/core/team"
	"bouncer/internal/testkit"
	"bouncer/standin/ferries"
	"bouncer/standin/loopback"
	"bouncer/standin/pilothouse"
)

// A kill between the question for fresh tokens and their arrival: where the old
// refresh token still counts, everything goes on; where it was spent, that is
// said with the way out, and a further sign-in mends it.
func TestKillDuringARenewal(t *testing.T) {
	t.Parallel()
	for name, keeps := range map[string]bool{"the old refresh token still counts": true, "it was spent": false} {
		t.Run(name, func(t *testing.T) {
			as := pilothouse.New("Pilothouse")
			front := httptest.NewServer(as)
			t.Cleanup(func() { loopback.End(front) })
			as.Issuer, as.Auto, as.Life = front.URL, "marit", 3*time.Second
			crew := guarded(t, as, "crew:read", ferries.Crew(), ferries.CrewScope)
			dir := t.TempDir()
			start := func() (*testkit.World, func()) {
				cmd, base, said := serve(t, "--data", dir, "--private-ranges", "127.0.0.0/8", "--poll", "1h")
				w := &testkit.World{T: t, Base: base}
				password := testkit.Password
				if once := regexp.MustCompile(`one-time password (\S+)`).FindStringSubmatch(said); once != nil {
					token := w.SignIn("marit", once[1])
					w.MustAs(token, "PUT", "/api/session/password", testkit.Obj{"old": once[1], "new": testkit.Password}, nil)
				}
				w.Token = w.SignIn("marit", password)
				return w, func() { _ = cmd.Process.Kill(); _ = cmd.Wait() }
			}
			w, kill := start()
			w.Must("POST", "/api/servers", testkit.Obj{"name": "crew", "url": crew, "signIn": testkit.Obj{"grant": "code"}}, nil)
			w.Rule("admit", "*", "*", "*")
			pass := w.Agent("marit-quill")
			w.Browser("marit").SignInAt(t, testkit.Obj{"server": "crew", "team": true})
			agent := w.Raw("/mcp", pass, "2025-11-25")
			require.Contains(t, agent.CallTool("crew__who_is_on_watch", "").Result.Content[0].Text, "Sunniva")
			as.Life = time.Hour
			if keeps {
				as.Fail(pilothouse.Slow, pilothouse.KeepRefresh)
			} else {
				as.Fail(pilothouse.Slow)
			}
			before := as.Count("refresh_token")
			time.Sleep(3 * time.Second)
			for i := 0; as.Count("refresh_token") == before && i < 200; i++ {
				go func() {
					_, _ = httpDo(
						agent.Request(
							t.Context(),
							"POST",
							`{"jsonrpc":"2.0","id":9,"method":"tools/call","params":{"name":"crew__who_is_on_watch"}}`,
						),
					)
				}()
				time.Sleep(10 * time.Millisecond)
			}
			require.Greater(t, as.Count("refresh_token"), before, "a renewal is under way")
			kill()
			time.Sleep(500 * time.Millisecond) // what was under way at the authority ends there

			as.Fail()
			w, _ = start()
			says := func() string {
				agent := w.Raw("/mcp", pass, "2025-11-25")
				r := agent.CallTool("crew__who_is_on_watch", "")
				if len(r.Result.Content) == 0 {
					return r.Error.Message
				}
				return r.Result.Content[0].Text
			}
			var list []team.SignIn
			if keeps {
				require.Eventually(t, func() bool { return strings.Contains(says(), "Sunniva") }, 20*time.Second, 200*time.Millisecond)
				return
			}
			require.Eventually(
				t,
				func() bool { return strings.Contains(says(), "/connect/crew?for=team") },
				20*time.Second,
				200*time.Millisecond,
			)
			w.Must("GET", "/api/sign-ins", nil, &list)
			assert.Equal(t, "ended", list[0].State)
			w.Browser("marit").SignInAt(t, testkit.Obj{"server": "crew", "team": true})
			assert.Contains(t, says(), "Sunniva")
		})
	}
}
