package secrets_test

import (
	"bytes"
	"io"
	"net/http"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/core/team"
	"bouncer/internal/testkit"
)

// shown notes what the last call of a tool was sent with.
type shown struct{ last atomic.Value }

func (s *shown) token() string { v, _ := s.last.Load().(string); return v }

// gate is a tool server that takes every token and notes it.
func gate(t *testing.T) (*shown, string) {
	s := &shown{}
	echo := testkit.Echo("", nil)
	return s, testkit.Upstream(t, http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, err := io.ReadAll(r.Body)
		if err != nil {
			return
		}
		r.Body = io.NopCloser(bytes.NewReader(body))
		if bytes.Contains(body, []byte(`"tools/call"`)) {
			s.last.Store(strings.TrimPrefix(r.Header.Get("Authorization"), "Bearer "))
		}
		echo.ServeHTTP(w, r)
	}))
}

// team of three: marit is the admin, joss a maintainer, ottilie and teo members.
func people(w *testkit.World) (joss, ottilie, teo string) {
	return w.Person("joss", "Joss Penhale", team.Maintainer), w.Person("ottilie", "Ottilie Brandt", team.Member),
		w.Person("teo", "Teo Castellane", team.Member)
}

// What somebody has of their own has an identity of its own: no name that anybody
// chooses reaches it, or is reached by it.
func TestOwnSecretsCannotBeTakenForOthers(t *testing.T) {
	t.Parallel()
	w := testkit.Start(t, nil)
	joss, ottilie, teo := people(w)
	seen, at := gate(t)
	w.Register("gate", at, "skf-team-token") // its secret is called gate-token
	w.Rule("admit", "*", "*", "*")
	voice := w.Raw("/mcp", w.Agent("quay-voice"), "2025-11-25")
	call := func(a *testkit.Raw) string {
		a.CallTool("gate__echo", "x")
		return seen.token()
	}
	require.Equal(t, "skf-team-token", call(voice))

	// Once the name of an agent's own secret was made of the server's and its own.
	w.MustAs(ottilie, "POST", "/api/agents", testkit.Obj{"name": "token", "owner": "ottilie"}, nil)
	give := testkit.Obj{"agent": "token", "value": "skf-mallory-token", "anyway": true}
	w.MustAs(ottilie, "PUT", "/api/servers/gate/own", give, nil)
	assert.Equal(t, "skf-team-token", call(voice), "the team's is the team's")
	hers := w.Raw("/mcp", w.PassAs(ottilie, "token"), "2025-11-25")
	assert.Equal(t, "skf-mallory-token", call(hers))

	var list []team.Secret
	w.Must("GET", "/api/secrets", nil, &list)
	names := map[string]string{}
	for _, s := range list {
		names[s.Name] = s.Owner + s.Agent
	}
	assert.Equal(t, map[string]string{"gate-token": "", "gate:agent:token": "token"}, names)
	w.MustAs(teo, "GET", "/api/secrets", nil, &list)
	assert.Empty(t, list)
	w.MustAs(ottilie, "GET", "/api/secrets", nil, &list)
	require.Len(t, list, 1, "her agents' are hers")

	// A server that names it would be sent it.
	_, trap := gate(t)
	for _, secret := range []string{"gate:agent:token", "own:" + list[0].ID, list[0].ID} {
		status, raw := w.Do(joss, "POST", "/api/servers", testkit.Obj{"name": "trap", "url": trap, "secret": secret, "anyway": true})
		assert.Contains(t, []int{404, 422}, status, "%s: %s", secret, raw)
		place := testkit.Obj{"how": "header", "name": "X-Key", "secret": secret}
		status, raw = w.Do(joss, "POST", "/api/servers", testkit.Obj{"name": "trap", "url": trap, "places": []testkit.Obj{place}, "anyway": true})
		assert.Contains(t, []int{404, 422}, status, "%s: %s", secret, raw)
		status, _ = w.Do(joss, "PATCH", "/api/servers/gate", testkit.Obj{"secret": secret, "anyway": true})
		assert.Contains(t, []int{404, 422}, status, secret)
	}
	// Nobody but its holder replaces it.
	for who, token := range map[string]string{"a maintainer": joss, "the admin": w.Token, "another member": teo} {
		for path, in := range map[string]testkit.Obj{
			"/api/secrets/gate:agent:token/value": {"value": "skf-other", "anyway": true},
			"/api/servers/gate/own":               {"agent": "token", "value": "skf-other", "anyway": true},
		} {
			status, raw := w.Do(token, "PUT", path, in)
			assert.Contains(t, []int{404, 422}, status, "%s: %s", who, raw)
		}
	}
	assert.Equal(t, "skf-mallory-token", call(hers))
	w.MustAs(ottilie, "PUT", "/api/secrets/gate:agent:token/value", testkit.Obj{"value": "skf-second", "anyway": true}, nil)
	assert.Equal(t, "skf-second", call(hers))
	status, _ := w.Do(teo, "DELETE", "/api/secrets/gate:agent:token", nil)
	assert.Equal(t, 404, status)
	status, _ = w.Do(joss, "DELETE", "/api/secrets/gate:agent:token", nil)
	assert.Equal(t, 422, status)
	w.MustAs(ottilie, "DELETE", "/api/secrets/gate:agent:token", nil, nil)
	assert.Equal(t, "skf-team-token", call(hers), "then it is the team's again")
}

// With another owner, an agent begins anew: what it was given was given by, or for,
// somebody else.
func TestAHandoverEndsWhatAnAgentHasOfItsOwn(t *testing.T) {
	t.Parallel()
	w := testkit.Start(t, nil)
	joss, ottilie, _ := people(w)
	seen, at := gate(t)
	w.Register("gate", at, "skf-team-token")
	w.Rule("admit", "*", "*", "*")
	w.MustAs(ottilie, "POST", "/api/agents", testkit.Obj{"name": "ottilie-quill", "owner": "ottilie"}, nil)
	w.MustAs(ottilie, "PUT", "/api/servers/gate/own", testkit.Obj{"agent": "ottilie-quill", "value": "skf-hers"}, nil)
	old := w.Raw("/mcp", w.PassAs(ottilie, "ottilie-quill"), "2025-11-25")
	old.CallTool("gate__echo", "x")
	require.Equal(t, "skf-hers", seen.token())

	w.MustAs(joss, "PATCH", "/api/agents/ottilie-quill", testkit.Obj{"owner": "joss"}, nil)
	res, _ := old.Post(`{"jsonrpc":"2.0","id":1,"method":"ping"}`)
	assert.Equal(t, 401, res.StatusCode)
	his := w.Raw("/mcp", w.PassAs(joss, "ottilie-quill"), "2025-11-25")
	his.CallTool("gate__echo", "x")
	assert.Equal(t, "skf-team-token", seen.token(), "what she gave is not his to use")
	var list []team.Secret
	w.Must("GET", "/api/secrets", nil, &list)
	require.Len(t, list, 1, "and is not kept")
	assert.Equal(t, "gate-token", list[0].Name)
}

// What is no longer used of one's own is not kept, and goes nowhere else.
func TestDisownedSecretsGo(t *testing.T) {
	t.Parallel()
	w := testkit.Start(t, nil)
	_, ottilie, _ := people(w)
	seen, at := gate(t)
	w.Register("gate", at, "skf-team-token")
	w.Rule("admit", "*", "*", "*")
	w.MustAs(ottilie, "POST", "/api/agents", testkit.Obj{"name": "ottilie-quill", "owner": "ottilie"}, nil)
	agent := w.Raw("/mcp", w.PassAs(ottilie, "ottilie-quill"), "2025-11-25")
	count := func() int {
		var list []team.Secret
		w.Must("GET", "/api/secrets", nil, &list)
		return len(list)
	}
	own := func(value string) {
		w.MustAs(ottilie, "PUT", "/api/servers/gate/own", testkit.Obj{"value": value}, nil)
		agent.CallTool("gate__echo", "x")
		require.Equal(t, value, seen.token())
	}
	own("skf-hers")
	own("skf-hers-again")
	assert.Equal(t, 2, count(), "the one before is gone")
	w.MustAs(ottilie, "DELETE", "/api/servers/gate/own", nil, nil)
	assert.Equal(t, 1, count())
	own("skf-hers")
	// Another path on the same host may be somebody else's.
	w.Must("PATCH", "/api/servers/gate", testkit.Obj{"url": at + "/", "anyway": true}, nil)
	assert.Equal(t, 1, count())
	w.Must("PATCH", "/api/servers/gate", testkit.Obj{"url": at}, nil)
	own("skf-hers")
	w.Must("DELETE", "/api/servers/gate", nil, nil)
	assert.Equal(t, 1, count(), "nor does one outlive its server")
}
