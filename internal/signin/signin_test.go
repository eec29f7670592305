package signin_test

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/core/diagnosis"
	"bouncer/internal/core/report"
	"bouncer/internal/core/team"
	"bouncer/internal/testkit"
	"bouncer/standin/ferries"
	"bouncer/standin/loopback"
	"bouncer/standin/pilothouse"
)

// inside lets sign-ins lead to the stand-ins.
var inside = map[string]string{"private-ranges": "127.0.0.0/8"}

// harbour is an authorization server with the watch list behind it.
type harbour struct {
	*testkit.World
	as   *pilothouse.Authority
	crew string // address of the watch list
}

func moor(t *testing.T, flags map[string]string) *harbour {
	as := testkit.Authority(t)
	all := map[string]string{}
	for _, m := range []map[string]string{inside, flags} {
		for k, v := range m {
			all[k] = v
		}
	}
	h := &harbour{testkit.Start(t, all), as, ""}
	h.crew = testkit.Protect(t, as, "crew:read", ferries.Crew(), ferries.CrewScope)
	return h
}

// Each person signs in at a server; their agents see what that person may, and
// whoever has not signed in is told where.
func TestEachPersonSignsIn(t *testing.T) {
	t.Parallel()
	w := moor(t, nil)
	p := w.Problem("POST", "/api/servers", testkit.Obj{"name": "crew", "url": w.crew})
	assert.Equal(t, "auth.sign-in-needed", p.Code, "the server says that it wants one")
	w.Must("POST", "/api/servers", testkit.Obj{"name": "crew", "url": w.crew, "per": "person", "signIn": testkit.Obj{"grant": "code"}}, nil)
	w.Rule("admit", "*", "*", "*")
	ottilie := w.Person("ottilie", "Ottilie Brandt", team.Member)
	marit := w.Raw("/mcp", w.Agent("marit-quill"), "2025-11-25")
	w.MustAs(ottilie, "POST", "/api/agents", testkit.Obj{"name": "ottilie-parlour", "owner": "ottilie"}, nil)
	ottiliePass := w.PassAs(ottilie, "ottilie-parlour")
	other := w.Raw("/mcp", ottiliePass, "2025-11-25")

	var list []team.SignIn
	w.Must("GET", "/api/sign-ins", nil, &list)
	require.Len(t, list, 1)
	assert.Equal(t, "needed crew marit true", fmt.Sprint(list[0].State, " ", list[0].Server, " ", list[0].Person, " ", list[0].Mine))

	w.as.Auto = "marit"
	page := w.Browser("marit").SignInAt(t, testkit.Obj{"server": "crew", "back": "/sign-ins"})
	assert.Equal(t, w.Base+"/sign-ins", page.String(), "the browser is back where it was")
	require.Eventually(
		t,
		func() bool { return strings.Contains(fmt.Sprint(marit.Names()), "crew__who_is_on_watch") },
		30*time.Second,
		20*time.Millisecond,
	)
	assert.Contains(t, marit.CallTool("crew__who_is_on_watch", "").Result.Content[0].Text, "Sunniva Rae")

	r := other.CallTool("crew__who_is_on_watch", "")
	require.True(t, r.Result.IsError)
	assert.Contains(t, r.Result.Content[0].Text, "Ottilie Brandt has not signed in to it yet")
	assert.Contains(t, r.Result.Content[0].Text, "open "+w.Base+"/connect/crew in a browser")
	able := w.Able("/mcp", ottiliePass, "2025-11-25", `{"elicitation":{"url":{}}}`)
	_, text := able.Post(`{"jsonrpc":"2.0","id":1,"method":"tools/call","params":{"name":"crew__who_is_on_watch"}}`)
	assert.Contains(t, text, `"code":-32042`)
	assert.Contains(t, text, `"url":"`+w.Base+`/connect/crew"`)
	raw := &testkit.Raw{
		T:      t,
		URL:    w.Base + "/mcp",
		Pass:   ottiliePass,
		Header: http.Header{"Mcp-Protocol-Version": {"2026-07-28"}, "Mcp-Method": {"tools/call"}, "Mcp-Name": {"crew__who_is_on_watch"}},
	}
	ask := `{"jsonrpc":"2.0","id":1,"method":"tools/call","params":{"name":"crew__who_is_on_watch","arguments":{},%s"_meta":{"io.modelcontextprotocol/protocolVersion":"2026-07-28","io.modelcontextprotocol/clientCapabilities":{"elicitation":{"url":{}}}}}}`
	_, text = raw.Post(fmt.Sprintf(ask, ""))
	assert.Contains(t, text, `"resultType":"input_required"`)
	_, state, _ := strings.Cut(text, `"requestState":"`)
	state, _, _ = strings.Cut(state, `"`)

	w.as.Auto = "ottilie"
	page = w.Browser("ottilie").SignInAt(t, testkit.Obj{"server": "crew"})
	assert.Equal(t, "/connect/crew?done=1", page.RequestURI())
	r = other.CallTool("crew__who_is_on_watch", "")
	assert.Contains(t, r.Result.Content[0].Text, "Teo Castellane", "the call can simply be repeated")
	assert.NotContains(t, r.Result.Content[0].Text, "Sunniva Rae", "with her own rights")
	assert.Contains(t, marit.CallTool("crew__who_is_on_watch", "").Result.Content[0].Text, "Sunniva Rae", "nobody else's changed")
	_, text = raw.Post(fmt.Sprintf(ask, `"requestState":"`+state+`","inputResponses":{"address1":{"action":"accept"}},`))
	assert.Contains(t, text, "Teo Castellane", "also for an agent that was asked to open the address")

	// What needs another scope is explained; the next sign-in asks for it.
	r = other.CallTool("crew__swap_shift", "")
	assert.Contains(t, r.Result.Content[0].Text, "lacks a scope that this needs: crew:read crew:write")
	w.Browser("ottilie").SignInAt(t, testkit.Obj{"server": "crew"})
	assert.Contains(t, other.CallTool("crew__swap_shift", "").Result.Content[0].Text, "ottilie's next shift")

	// Members see their own; ending it ends the reach, here and there.
	w.MustAs(ottilie, "GET", "/api/sign-ins", nil, &list)
	require.Len(t, list, 1)
	assert.Equal(t, "crew:read crew:write", list[0].Scope)
	var all []team.SignIn
	w.Must("GET", "/api/sign-ins", nil, &all)
	require.Len(t, all, 2)
	for _, s := range all {
		if s.Person == "marit" {
			status, _ := w.Do(ottilie, "DELETE", "/api/sign-ins/"+s.ID, nil)
			assert.Equal(t, 404, status, "somebody else's cannot even be seen")
		}
	}
	w.MustAs(ottilie, "DELETE", "/api/sign-ins/"+list[0].ID, nil, nil)
	assert.Equal(t, 1, w.as.Count("revoke"))
	assert.Contains(t, other.CallTool("crew__who_is_on_watch", "").Result.Content[0].Text, "has not signed in")
	assert.Equal(t, 1, w.as.Count("register"), "Bouncer registers itself once")
}

// watch asks who is on watch, many times at once, and returns the answers that do not say so.
func watch(agents []*testkit.Raw, times int) (bad []string) {
	var wait sync.WaitGroup
	var mu sync.Mutex
	for i := range times {
		wait.Go(func() {
			const call = `{"jsonrpc":"2.0","id":%d,"method":"tools/call","params":{"name":"crew__who_is_on_watch"}}`
			if _, text := agents[i%len(agents)].Post(fmt.Sprintf(call, i)); !strings.Contains(text, "onWatch") {
				mu.Lock()
				defer mu.Unlock()
				bad = append(bad, text)
			}
		})
	}
	wait.Wait()
	return bad
}

// Tokens are renewed before anybody notices: once for all who wait, and a crash
// in between loses nothing that was stored.
func TestOneRenewalServesAll(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	listen := testkit.Listen(t)
	w := moor(t, map[string]string{"data": dir, "poll": "1h", "listen": listen})
	w.as.Life, w.as.Auto = 4*time.Second, "marit"
	w.Must("POST", "/api/servers", testkit.Obj{"name": "crew", "url": w.crew, "signIn": testkit.Obj{"grant": "code"}}, nil)
	w.Rule("admit", "*", "*", "*")
	pass := w.Agent("marit-quill")
	w.Browser("marit").SignInAt(t, testkit.Obj{"server": "crew", "team": true})
	agents := make([]*testkit.Raw, 20)
	for i := range agents {
		agents[i] = w.Raw("/mcp", pass, "2025-11-25")
	}
	require.Contains(t, agents[0].CallTool("crew__who_is_on_watch", "").Result.Content[0].Text, "Sunniva")
	w.as.Life = time.Hour
	w.as.Fail(pilothouse.Slow)
	before := w.as.Count("refresh_token")
	w.Clock.Forward(4100 * time.Millisecond) // the token has expired
	assert.Empty(t, watch(agents, 200))
	assert.Equal(t, 1, w.as.Count("refresh_token")-before, "200 calls at the moment of expiry")

	// A token that the server stops taking is renewed as well.
	w.as.Fail()
	w.Clock.Forward(10500 * time.Millisecond)
	w.as.Expire()
	assert.Contains(t, agents[0].CallTool("crew__who_is_on_watch", "").Result.Content[0].Text, "Sunniva")

	// The exchanged refresh token is on disk before it is used.
	w.Stop()
	again := testkit.Start(
		t,
		map[string]string{"data": dir, "private-ranges": "127.0.0.0/8", "listen": listen},
	)
	w.as.Expire()
	agent := again.Raw("/mcp", pass, "2025-11-25")
	require.Eventually(t, func() bool {
		again.Clock.Forward(11 * time.Second) // beyond the pauses between renewals
		r := agent.CallTool("crew__who_is_on_watch", "")
		return len(r.Result.Content) > 0 && strings.Contains(r.Result.Content[0].Text, "Sunniva")
	}, 30*time.Second, 200*time.Millisecond)

	// When the grant is gone, that is said, with the way out.
	w.as.Fail("token:invalid_grant")
	w.as.Expire()
	require.Eventually(t, func() bool {
		again.Clock.Forward(11 * time.Second) // beyond the pauses between renewals
		r := agent.CallTool("crew__who_is_on_watch", "")
		return len(r.Result.Content) > 0 && strings.Contains(r.Result.Content[0].Text, "the grant is no longer valid") &&
			strings.Contains(r.Result.Content[0].Text, "/connect/crew?for=team")
	}, 30*time.Second, 200*time.Millisecond)
	var list []team.SignIn
	again.Must("GET", "/api/sign-ins", nil, &list)
	assert.Equal(t, "ended", list[0].State)
	w.as.Fail()
	again.Browser("marit").SignInAt(t, testkit.Obj{"server": "crew", "team": true})
	assert.Contains(t, agent.CallTool("crew__who_is_on_watch", "").Result.Content[0].Text, "Sunniva")
	raw, err := os.ReadFile(filepath.Join(dir, "bouncer.db"))
	require.NoError(t, err)
	for _, canary := range []string{"skf-access-", "skf-refresh-", "skf-client-"} {
		assert.NotContains(t, string(raw), canary)
		assert.NotContains(t, again.Log.String()+w.Log.String(), canary)
	}
}

// Whatever an authorization server answers, and however hostile it is: nothing is
// granted, and the person is told what happened.
func TestSignInsThatFail(t *testing.T) {
	t.Parallel()
	w := moor(t, nil)
	w.as.Auto = "marit"
	w.Must("POST", "/api/servers", testkit.Obj{"name": "crew", "url": w.crew, "signIn": testkit.Obj{"grant": "code"}}, nil)
	b := w.Browser("marit")
	try := testkit.Obj{"server": "crew", "team": true}
	none := func(t *testing.T) {
		var list []team.SignIn
		w.Must("GET", "/api/sign-ins", nil, &list)
		require.Len(t, list, 1)
		assert.Equal(t, "needed", list[0].State, "nothing was granted")
	}
	for fault, want := range map[string]string{
		"authorize:access_denied": "was declined", "authorize:invalid_scope": "unknown or not allowed", "authorize:server_error": "server failed", "authorize:temporarily_unavailable": "busy or under maintenance",
		"authorize:unauthorized_client": "may not sign in that way", "authorize:invalid_request": "malformed", "authorize:unsupported_response_type": "does not give codes", "authorize:made_up": "error made_up",
		"authorize:login_required": "not signed in there", "authorize:interaction_required": "answer something there", "authorize:consent_required": "not agreed there", "authorize:invalid_target": "does not issue tokens for this server",
		"token:invalid_grant": "no longer valid", "token:invalid_client": "client id or secret is wrong", "token:unauthorized_client": "may not sign in", "token:unsupported_grant_type": "kind of grant", "token:invalid_scope": "unknown or not allowed",
		pilothouse.WrongIssuer: "comes from \"https://elsewhere.example\"", pilothouse.NoIssuer: "does not say which authorization server", pilothouse.WrongState: "is not known", pilothouse.Page: "instead of JSON",
	} {
		t.Run(fault, func(t *testing.T) {
			w.as.Fail(fault)
			assert.Contains(t, b.Problem(t, b.SignInAt(t, try)), want)
			none(t)
		})
	}
	for fault, want := range map[string]string{
		pilothouse.OtherMetadata: "says that it is", pilothouse.NoPKCE: "PKCE", pilothouse.Huge: "larger than", pilothouse.Loop: "redirects more than", pilothouse.Away: "another origin", pilothouse.Down: "503",
		pilothouse.NoRegister: "registers no clients by itself", "register:invalid_redirect_uri": "not accepted", "register:invalid_client_metadata": "not accepted",
	} {
		t.Run(fault, func(t *testing.T) {
			fresh := moor(t, nil)
			fresh.as.Fail(fault)
			fresh.Must(
				"POST",
				"/api/servers",
				testkit.Obj{"name": "crew", "url": fresh.crew, "anyway": true, "signIn": testkit.Obj{"grant": "code"}},
				nil,
			)
			p := fresh.Problem("POST", "/api/sign-ins", try)
			assert.Contains(t, p.Title, want)
			assert.NotEmpty(t, p.Hint)
		})
	}
	w.as.Fail(pilothouse.InsideToken)
	assert.Contains(t, b.Problem(t, b.SignInAt(t, try)), "in the private range 10.0.0.0/8")
	none(t)
	w.as.Fail()

	t.Run("callbacks", func(t *testing.T) {
		var start struct{ URL string }
		b.Must("POST", "/api/sign-ins", try, &start)
		other := w.Browser("marit")
		assert.Contains(t, other.Problem(t, other.Go(t, start.URL)), "another browser")
		none(t)
		assert.Contains(t, b.Problem(t, b.Go(t, start.URL)), "is not known", "it was looked at once")
		none(t)
		assert.Contains(t, b.Problem(t, b.Go(t, w.Base+"/sign-in/callback?code=x&state=y")), "is not known")
		// An authority that no longer knows who Bouncer is tells only the person so:
		// the browser never comes back, and the next try registers anew.
		b.Must("POST", "/api/sign-ins", try, &start)
		registered := w.as.Count("register")
		w.Clock.Forward(5500 * time.Millisecond)
		b.Must("POST", "/api/sign-ins", try, &start)
		assert.Equal(t, registered+1, w.as.Count("register"))
		b.Must("POST", "/api/sign-ins", testkit.Obj{"server": "crew", "team": true, "back": "https://elsewhere.example/"}, &start)
		assert.Equal(t, "/connect/crew?for=team&done=1", b.Go(t, start.URL).RequestURI(), "no page leads out of the console")
	})
	t.Run("a private address", func(t *testing.T) {
		closed := testkit.Start(t, nil)
		as := testkit.Authority(t)
		p := closed.Problem(
			"POST",
			"/api/servers",
			testkit.Obj{
				"name":   "crew",
				"url":    testkit.Protect(t, as, "crew:read", ferries.Crew(), nil),
				"signIn": testkit.Obj{"grant": "code"},
			},
		)
		assert.Contains(t, p.Title, "which no admin has allowed")
	})
	t.Run("who may", func(t *testing.T) {
		ottilie := w.Person("ottilie", "Ottilie Brandt", team.Member)
		status, _ := w.Do(ottilie, "POST", "/api/sign-ins", try)
		assert.Equal(t, 422, status, "a member does not sign in for the team")
		w.Must("POST", "/api/agents", testkit.Obj{"name": "night-watch"}, nil)
		status, _ = w.Do(ottilie, "POST", "/api/sign-ins", testkit.Obj{"server": "crew", "agent": "night-watch"})
		assert.Equal(t, 404, status)
	})
	assert.NotContains(t, w.Log.String(), "skf-access-")
}

// Bouncer's own access to a server, with a secret or a signed assertion; a value
// is tried before it takes the place of the one before.
func TestClientCredentials(t *testing.T) {
	t.Parallel()
	w := moor(t, nil)
	fuel := testkit.Protect(t, w.as, "fuel:read fuel:order", ferries.Fuel(), nil)
	w.as.Add(pilothouse.Client{ID: ferries.FuelClient, Secret: ferries.FuelSecret})
	w.Must(
		"POST",
		"/api/secrets",
		testkit.Obj{"name": "fuel-client", "kind": "client-secret", "value": "FUEL_SECRET=\"" + ferries.FuelSecret + "\""},
		nil,
	)
	in := testkit.Obj{
		"name":   "fuel",
		"url":    fuel,
		"signIn": testkit.Obj{"grant": "client", "clientId": ferries.FuelClient, "clientSecret": "fuel-client"},
	}
	var info struct{ Health team.Health }
	w.Must("POST", "/api/servers", in, &info)
	assert.Equal(t, 2, info.Health.Tools)
	w.Rule("admit", "*", "*", "*")
	agent := w.Raw("/mcp", w.Agent("marit-quill"), "2025-11-25")
	assert.Contains(t, agent.CallTool("fuel__bunker_levels", "").Result.Content[0].Text, "MV Petrel")
	p := w.Problem("PUT", "/api/secrets/fuel-client/value", testkit.Obj{"value": "skf-not-the-one"})
	assert.Equal(t, "auth.client-id-or-secret-wrong", p.Code)
	assert.Contains(t, agent.CallTool("fuel__bunker_levels", "").Result.Content[0].Text, "MV Petrel")
	assert.Equal(t, 409, w.Problem("DELETE", "/api/secrets/fuel-client", nil).Status)
	p = w.Problem(
		"POST",
		"/api/servers",
		testkit.Obj{
			"name":   "other",
			"url":    fuel,
			"signIn": testkit.Obj{"grant": "client", "clientId": "nobody", "clientSecret": "fuel-client"},
		},
	)
	assert.Equal(t, "auth.client-id-or-secret-wrong", p.Code)
	// The issuer that a client id is for is the only one it is shown to.
	p = w.Problem(
		"POST",
		"/api/servers",
		testkit.Obj{
			"name": "other",
			"url":  fuel,
			"signIn": testkit.Obj{
				"grant":        "client",
				"clientId":     ferries.FuelClient,
				"clientSecret": "fuel-client",
				"issuer":       "https://elsewhere.example",
			},
		},
	)
	assert.Contains(t, p.Title, "nothing was sent there")
}

// A tool server that names another authorization server than at first does not have
// Bouncer's credentials sent there; a maintainer may take it.
func TestTheAuthorizationServerIsKeptTo(t *testing.T) {
	t.Parallel()
	first := testkit.Authority(t)
	second := pilothouse.New("Elsewhere")
	var asked atomic.Int64
	trap := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method == http.MethodPost {
			asked.Add(1)
		}
		second.ServeHTTP(w, r)
	}))
	t.Cleanup(func() { loopback.End(trap) })
	second.Issuer = trap.URL
	var front atomic.Pointer[http.Handler]
	up := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { (*front.Load()).ServeHTTP(w, r) }))
	t.Cleanup(func() { loopback.End(up) })
	name := func(as *pilothouse.Authority) {
		h := as.Protect(up.URL+"/mcp", "fuel:read", ferries.Fuel(), nil)
		front.Store(&h)
	}
	for _, as := range []*pilothouse.Authority{first, second} {
		as.Add(pilothouse.Client{ID: ferries.FuelClient, Secret: ferries.FuelSecret})
	}
	name(first)
	flags := map[string]string{"private-ranges": "127.0.0.0/8", "data": t.TempDir()}
	w := testkit.Start(t, flags)
	w.Must("POST", "/api/secrets", testkit.Obj{"name": "fuel-client", "kind": "client-secret", "value": ferries.FuelSecret}, nil)
	w.Must("POST", "/api/servers", testkit.Obj{
		"name": "fuel", "url": up.URL + "/mcp", "signIn": testkit.Obj{"grant": "client", "clientId": ferries.FuelClient, "clientSecret": "fuel-client"},
	}, nil)
	w.Rule("admit", "*", "*", "*")
	w.Must("POST", "/api/agents", testkit.Obj{"name": "night-watch"}, nil)
	levels := func(w *testkit.World) testkit.Reply {
		return w.Raw("/mcp", w.Pass("night-watch"), "2025-11-25").CallTool("fuel__bunker_levels", "")
	}
	require.Contains(t, levels(w).Result.Content[0].Text, "MV Petrel")
	var info struct{ Issuer string }
	w.Must("GET", "/api/servers/fuel", nil, &info)
	assert.Equal(t, first.Issuer, info.Issuer)
	w.Stop()

	name(second)
	w = testkit.Start(t, flags)
	var found struct{ Health team.Health }
	require.Eventually(t, func() bool {
		w.Must("GET", "/api/servers/fuel", nil, &found)
		return found.Health.Finding != nil
	}, 30*time.Second, 20*time.Millisecond)
	assert.Equal(t, diagnosis.AuthorityChanged, found.Health.Finding.Cause)
	var looked report.Report
	w.Must("POST", "/api/checkups", testkit.Obj{"server": "fuel"}, &looked)
	require.NotEmpty(t, looked.Findings)
	assert.Equal(t, diagnosis.AuthorityChanged, looked.Findings[0].Cause, "a closer look says the same")
	told := w.Problem("POST", "/api/secrets", testkit.Obj{"name": "again", "kind": "client-secret", "value": ferries.FuelSecret, "server": "fuel"})
	assert.NotEmpty(t, told.Title)
	assert.Zero(t, asked.Load(), "nothing was sent there")
	w.Must("PATCH", "/api/servers/fuel", testkit.Obj{"takeIssuer": true}, nil)
	assert.Contains(t, levels(w).Result.Content[0].Text, "MV Petrel")
	assert.Positive(t, asked.Load())
	w.Must("GET", "/api/servers/fuel", nil, &info)
	assert.Equal(t, second.Issuer, info.Issuer)
}

// A sign-in that is taken up after things have changed grants nothing.
func TestASignInIsHeldAgainstWhatIsTrueWhenItEnds(t *testing.T) {
	t.Parallel()
	w := moor(t, nil)
	w.Must("POST", "/api/servers", testkit.Obj{
		"name": "crew", "url": testkit.Protect(t, w.as, "crew:read", ferries.Crew(), nil), "per": "agent", "signIn": testkit.Obj{"grant": "code"},
	}, nil)
	ottilie := w.Person("ottilie", "Ottilie Brandt", team.Member)
	w.MustAs(ottilie, "POST", "/api/agents", testkit.Obj{"name": "ottilie-quill", "owner": "ottilie"}, nil)
	w.as.Auto = "ottilie"
	b := w.Browser("ottilie")
	var start struct{ URL string }
	b.Must("POST", "/api/sign-ins", testkit.Obj{"server": "crew", "agent": "ottilie-quill"}, &start)
	w.Must("PATCH", "/api/agents/ottilie-quill", testkit.Obj{"owner": "marit"}, nil)
	assert.Contains(t, b.Problem(t, b.Go(t, start.URL)), "Things changed while you were signing in")
	var list []team.SignIn
	w.Must("GET", "/api/sign-ins", nil, &list)
	for _, s := range list {
		assert.NotEqual(t, "ottilie-quill", s.Agent)
	}
}

// Where sign-ins may lead on one's own network is said by an admin, for one server, and
// goes along with it nowhere.
func TestPrivateRangeOfOneServer(t *testing.T) {
	t.Parallel()
	w := testkit.Start(t, map[string]string{"private-ranges": ""})
	as := testkit.Authority(t)
	crew := testkit.Protect(t, as, "crew:read", ferries.Crew(), ferries.CrewScope)
	registration := testkit.Obj{"name": "crew", "url": crew, "signIn": testkit.Obj{"grant": "code"}}
	p := w.Problem("POST", "/api/servers", registration)
	assert.Contains(t, p.Title, "127.0.0.1 is in the private range 127.0.0.0/8")
	assert.Contains(t, p.Hint, "--private-range 127.0.0.0/8")

	maintainer := w.Person("isla", "Isla Faro", team.Maintainer)
	registration["privateRanges"] = []string{"127.0.0.0/8"}
	p = w.ProblemAs(maintainer, "POST", "/api/servers", registration)
	assert.Equal(t, "privateRanges", p.Field)
	registration["privateRanges"] = []string{"0.0.0.0/0"}
	assert.Equal(t, "privateRanges", w.Problem("POST", "/api/servers", registration).Field)
	registration["privateRanges"] = []string{"127.0.0.0/8"}
	w.Must("POST", "/api/servers", registration, nil)

	as.Auto = "marit"
	back := w.Browser("marit").SignInAt(t, testkit.Obj{"server": "crew", "team": true, "back": "/sign-ins"})
	assert.Equal(t, w.Base+"/sign-ins", back.String())

	p = w.ProblemAs(maintainer, "PATCH", "/api/servers/crew", testkit.Obj{"url": crew + "/elsewhere", "anyway": true})
	assert.Equal(t, "url", p.Field)
	p = w.Problem("POST", "/api/servers", testkit.Obj{"name": "other", "url": crew, "signIn": testkit.Obj{"grant": "code"}})
	assert.Contains(t, p.Title, "private range", "what one server may, no other may")
	w.MustAs(maintainer, "PATCH", "/api/servers/crew", testkit.Obj{"privateRanges": []string{}}, nil)
	p = w.Problem("POST", "/api/sign-ins", testkit.Obj{"server": "crew", "team": true})
	assert.Contains(t, p.Hint, "--private-range", "taken away at once")
}
