package desk_test

import (
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"io"
	"net/http"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/core/team"
	"bouncer/internal/testkit"
	"bouncer/standin/ferries"
	"bouncer/standin/pilothouse"
)

// house starts a service whose people sign in at Pilothouse.
func house(t *testing.T) (*testkit.World, *pilothouse.Authority) {
	as := authority(t, pilothouse.Person{Name: "marit", FullName: "Marit Aune", Groups: []string{"desk"}}, pilothouse.Person{Name: "ottilie", FullName: "Ottilie Brandt", Groups: []string{"crew", "choir"}},
		pilothouse.Person{Name: "Isla", FullName: "Isla Faro", Groups: []string{"choir"}})
	t.Setenv("PILOTHOUSE", "skf-pilothouse-canary")
	w := testkit.Start(t, map[string]string{"private-ranges": "127.0.0.0/8", "oidc-issuer": as.Issuer, "oidc-client-id": "bouncer", "oidc-secret": "env PILOTHOUSE", "oidc-groups": "desk=admin,crew=member"})
	as.Add(pilothouse.Client{ID: "bouncer", Secret: "skf-pilothouse-canary", Redirects: []string{w.Base + "/sign-in/callback"}})
	return w, as
}

func enter(t *testing.T, b *testkit.Browser, back string) *url.URL {
	var to struct{ URL string }
	b.Must("POST", "/api/session/elsewhere", testkit.Obj{"back": back}, &to)
	return b.Go(t, to.URL)
}

// People sign in at the identity provider; groups say what they may.
func TestPeopleSignInElsewhere(t *testing.T) {
	w, as := house(t)
	who := func(b *testkit.Browser) (p team.Person) {
		b.Must("GET", "/api/session", nil, &p)
		return p
	}
	as.Auto = "ottilie"
	b := w.Browser("")
	assert.Equal(t, "/agents", enter(t, b, "/agents").Path)
	assert.Equal(t, team.Person{Name: "ottilie", FullName: "Ottilie Brandt", Role: team.Member, Elsewhere: true}, func() team.Person {
		p := who(b)
		return team.Person{Name: p.Name, FullName: p.FullName, Role: p.Role, Elsewhere: p.Elsewhere}
	}())
	assert.Equal(t, 409, w.Problem("PATCH", "/api/people/ottilie", testkit.Obj{"role": "auditor"}).Status, "the groups say what she is")
	status, _ := w.Do("", "POST", "/api/session", testkit.Obj{"name": "ottilie", "password": ""})
	assert.Equal(t, 401, status, "without a password of her own there is none that fits")
	as.Auto = "marit"
	m := w.Browser("")
	enter(t, m, "")
	assert.Equal(t, "marit", who(m).Name, "who was here before is the same person")

	as.Auto = "Isla"
	out := w.Browser("")
	assert.Contains(t, out.Problem(t, enter(t, out, "")), "None of your groups there has a role")
	status, _ = out.Do("GET", "/api/session", nil)
	assert.Equal(t, 401, status)
	as.Auto = "ottilie"
	for fault, want := range map[string]string{
		pilothouse.WrongNonce: "belongs to another sign-in", pilothouse.WrongKey: "not signed with one of its keys", pilothouse.Late: "not valid now", pilothouse.WrongIssuer: "comes from",
		"token:invalid_client": "client id or secret is wrong", "authorize:access_denied": "declined",
	} {
		as.Fail(fault)
		b := w.Browser("")
		assert.Contains(t, b.Problem(t, enter(t, b, "")), want, fault)
		status, _ = b.Do("GET", "/api/session", nil)
		assert.Equal(t, 401, status, fault)
	}
	as.Fail()
	assert.NotContains(t, w.Log.String(), "canary")

	// The provider vouches for her at a server, with whom she never signs in.
	far := authority(t)
	far.Add(pilothouse.Client{ID: "bouncer-there", Secret: "skf-there", Trusts: as})
	w.Must("POST", "/api/secrets", testkit.Obj{"name": "there", "kind": "client-secret", "value": "skf-there"}, nil)
	crew := protected(t, far, "crew:read", ferries.Crew(), nil)
	w.Must("POST", "/api/servers", testkit.Obj{"name": "crew", "url": crew, "per": "person", "signIn": testkit.Obj{"grant": "assertion", "clientId": "bouncer-there", "clientSecret": "there"}}, nil)
	w.Rule("admit", "*", "*", "*")
	b.Must("POST", "/api/agents", testkit.Obj{"name": "ottilie-parlour", "owner": "ottilie"}, nil)
	p := w.Problem("POST", "/api/agents/ottilie-parlour/passes", testkit.Obj{"days": 1})
	assert.Contains(t, p.Title, "only ottilie can make one", "not even an admin acts with her sign-ins")
	var pass struct{ Token string }
	b.Must("POST", "/api/agents/ottilie-parlour/passes", testkit.Obj{"days": 1}, &pass)
	agent := w.Raw("/mcp", pass.Token, "2025-11-25")
	require.Eventually(t, func() bool {
		r := agent.CallTool("crew__who_is_on_watch", "")
		return len(r.Result.Content) > 0 && strings.Contains(r.Result.Content[0].Text, "Teo Castellane")
	}, 20*time.Second, 100*time.Millisecond)
	w.Must("PATCH", "/api/agents/ottilie-parlour", testkit.Obj{"owner": "marit"}, nil)
	res, _ := agent.Post(`{"jsonrpc":"2.0","id":1,"method":"ping"}`)
	assert.Equal(t, 401, res.StatusCode, "with another owner, passes made before are no longer valid")
}

// Invitations, one-time passwords, logins and the end of a membership.
func TestComingAndGoing(t *testing.T) {
	w := testkit.Start(t, nil)
	var made struct{ Link string }
	w.Must("POST", "/api/invitations", testkit.Obj{"role": "member", "note": "Isla, ropes"}, &made)
	token := made.Link[strings.LastIndex(made.Link, "/")+1:]
	b := w.Browser("")
	in := testkit.Obj{"token": token, "name": "isla", "fullName": "Isla Faro", "password": "short"}
	status, raw := b.Do("POST", "/api/join", in)
	assert.Equal(t, 422, status, "%s", raw)
	in["password"] = testkit.Password
	b.Must("POST", "/api/join", in, nil)
	var me team.Person
	b.Must("GET", "/api/session", nil, &me)
	assert.Equal(t, "isla member", me.Name+" "+string(me.Role))
	in["name"] = "other"
	status, _ = w.Browser("").Do("POST", "/api/join", in)
	assert.Equal(t, 409, status, "an invitation is for one")
	in["token"] = "bni_wrong"
	status, _ = w.Browser("").Do("POST", "/api/join", in)
	assert.Equal(t, 404, status)

	var logins []team.Login
	b.Must("GET", "/api/logins", nil, &logins)
	require.Len(t, logins, 1, "her own")
	assert.True(t, logins[0].Present)
	isla := w.SignIn("isla", testkit.Password)
	w.Must("GET", "/api/logins", nil, &logins)
	for _, l := range logins {
		if l.Person == "isla" && l.Kind == "console" {
			w.Must("DELETE", "/api/logins/"+l.ID, nil, nil)
		}
	}
	status, _ = b.Do("GET", "/api/session", nil)
	assert.Equal(t, 401, status, "an ended login is ended at once")
	var reset struct{ Password string }
	w.Must("POST", "/api/people/isla/password", nil, &reset)
	status, _ = w.Do(isla, "GET", "/api/session", nil)
	assert.Equal(t, 401, status)
	once := w.SignIn("isla", reset.Password)
	status, _ = w.Do(once, "GET", "/api/agents", nil)
	assert.Equal(t, 403, status, "a one-time password lets in for nothing but its replacement")
	w.Must("POST", "/api/agents", testkit.Obj{"name": "isla-quill", "owner": "isla"}, nil)
	assert.Contains(t, w.Problem("DELETE", "/api/people/isla", nil).Title, "still owns agents")
	w.Must("DELETE", "/api/agents/isla-quill", nil, nil)
	w.Must("DELETE", "/api/people/isla", nil, nil)
	assert.Equal(t, 409, w.Problem("DELETE", "/api/people/marit", nil).Status, "somebody has to stay")
}

// post sends a form as a program does.
func post(t *testing.T, at string, form url.Values) (int, map[string]any) {
	res, err := http.PostForm(at, form)
	require.NoError(t, err)
	defer res.Body.Close()
	raw, err := io.ReadAll(res.Body)
	require.NoError(t, err)
	out := map[string]any{}
	_ = json.Unmarshal(raw, &out)
	return res.StatusCode, out
}

// What programs may not do, and what happens to those who try.
func TestProgramsAreHeldToWhatWasAgreed(t *testing.T) {
	w := testkit.Start(t, map[string]string{"address-passes": "on"})
	w.Register("echo", testkit.Upstream(t, testkit.Echo("", nil)), "")
	w.Register("other", testkit.Upstream(t, testkit.Echo("", nil)), "")
	w.Rule("admit", "*", "*", "echo")
	w.Must("POST", "/api/agents", testkit.Obj{"name": "marit-parlour", "owner": "marit"}, nil)
	res, err := http.Get(w.Base + "/mcp/echo")
	require.NoError(t, err)
	assert.Contains(t, res.Header.Get("WWW-Authenticate"), `resource_metadata="`+w.Base+`/.well-known/oauth-protected-resource/mcp/echo"`)
	for _, bad := range []string{"javascript:alert(1)", "http://elsewhere.example/back", "https://a.example/*", "https://a.example/#x", "data:text/html,x", "back"} {
		status, raw := w.Do("", "POST", "/oauth/register", testkit.Obj{"client_name": "Parlour", "redirect_uris": []string{bad}})
		assert.Equal(t, 400, status, "%s %s", bad, raw)
	}
	const back = "http://127.0.0.1:1/back"
	_, raw := w.Do("", "POST", "/oauth/register", testkit.Obj{"client_name": "Parlour", "redirect_uris": []string{back}})
	var app struct {
		ID string `json:"client_id"`
	}
	require.NoError(t, json.Unmarshal(raw, &app))
	const verifier = "a-verifier-of-at-least-forty-three-characters-x"
	sum := sha256.Sum256([]byte(verifier))
	ask := func(change func(url.Values)) url.Values {
		q := url.Values{"response_type": {"code"}, "client_id": {app.ID}, "redirect_uri": {back}, "state": {"s"}, "code_challenge": {base64.RawURLEncoding.EncodeToString(sum[:])}, "code_challenge_method": {"S256"}, "resource": {w.Base + "/mcp/echo"}}
		change(q)
		return q
	}
	b := w.Browser("marit")
	for name, row := range map[string]struct {
		change func(url.Values)
		page   string // where the browser ends
	}{
		"an unknown program":       {func(q url.Values) { q.Set("client_id", "app-nobody") }, "/consent/none"},
		"another way back":         {func(q url.Values) { q.Set("redirect_uri", back+"/") }, "/consent/none"},
		"without PKCE":             {func(q url.Values) { q.Del("code_challenge") }, "/back?error=invalid_request"},
		"with plain PKCE":          {func(q url.Values) { q.Set("code_challenge_method", "plain") }, "/back?error=invalid_request"},
		"another service":          {func(q url.Values) { q.Set("resource", "https://elsewhere.example/mcp") }, "/back?error=invalid_target"},
		"a token without any code": {func(q url.Values) { q.Set("response_type", "token") }, "/back?error=unsupported_response_type"},
		"a document inside":        {func(q url.Values) { q.Set("client_id", "https://127.0.0.1:1/client") }, "/consent/none"},
	} {
		assert.Contains(t, b.Go(t, w.Base+"/oauth/authorize?"+ask(row.change).Encode()).RequestURI(), row.page, name)
	}
	code := func() string {
		page := b.Go(t, w.Base+"/oauth/authorize?"+ask(func(url.Values) {}).Encode())
		id := strings.TrimPrefix(page.Path, "/consent/")
		ottilie := w.Person("p"+strings.ToLower(id[20:26]), "Somebody Else", team.Member)
		status, _ := w.Do(ottilie, "POST", "/api/consent-requests/"+id, testkit.Obj{"agent": "marit-parlour"})
		assert.Equal(t, 422, status, "nobody lends somebody else's agent")
		var to struct{ URL string }
		b.Must("POST", "/api/consent-requests/"+id, testkit.Obj{"agent": "marit-parlour"}, &to)
		u, err := url.Parse(to.URL)
		require.NoError(t, err)
		assert.Equal(t, w.Base+" s", u.Query().Get("iss")+" "+u.Query().Get("state"))
		return u.Query().Get("code")
	}
	exchange := func(code string, change func(url.Values)) (int, map[string]any) {
		q := url.Values{"grant_type": {"authorization_code"}, "code": {code}, "client_id": {app.ID}, "redirect_uri": {back}, "code_verifier": {verifier}}
		change(q)
		return post(t, w.Base+"/oauth/token", q)
	}
	status, out := exchange(code(), func(q url.Values) { q.Set("code_verifier", strings.Repeat("x", 50)) })
	assert.Equal(t, 400, status)
	assert.Equal(t, "invalid_grant", out["error"])
	one := code()
	status, out = exchange(one, func(url.Values) {})
	require.Equal(t, 200, status, "%v", out)
	access, refresh := out["access_token"].(string), out["refresh_token"].(string)
	agent := w.Raw("/mcp/echo", access, "2025-11-25")
	assert.Equal(t, "hello", agent.CallTool("echo", "hello").Result.Content[0].Text)
	closed := &testkit.Raw{T: t, URL: w.Base + "/mcp/other", Pass: access}
	r, _ := closed.Post(`{"jsonrpc":"2.0","id":1,"method":"ping"}`)
	assert.Equal(t, 401, r.StatusCode, "a token opens the address that it is for")
	status, _ = exchange(one, func(url.Values) {})
	assert.Equal(t, 400, status)
	r, _ = agent.Post(`{"jsonrpc":"2.0","id":2,"method":"ping"}`)
	assert.Equal(t, 401, r.StatusCode, "a code that is used twice ends what came of it")
	status, _ = post(t, w.Base+"/oauth/token", url.Values{"grant_type": {"refresh_token"}, "refresh_token": {refresh}, "client_id": {app.ID}})
	assert.Equal(t, 400, status)

	_, out = exchange(code(), func(url.Values) {})
	first := out["refresh_token"].(string)
	lasting := w.Raw("/mcp/echo", out["access_token"].(string), "2025-11-25")
	renew := func(token string) (int, map[string]any) {
		return post(t, w.Base+"/oauth/token", url.Values{"grant_type": {"refresh_token"}, "refresh_token": {token}, "client_id": {app.ID}})
	}
	status, _ = post(t, w.Base+"/oauth/token", url.Values{"grant_type": {"refresh_token"}, "refresh_token": {first}, "client_id": {"app-other"}})
	assert.Equal(t, 400, status, "another program's is none")
	status, out = renew(first)
	require.Equal(t, 200, status)
	fresh := out["access_token"].(string)
	lasting.Pass = fresh
	assert.Equal(t, "still here", lasting.CallTool("echo", "still here").Result.Content[0].Text, "a session goes on with the renewed token")
	status, _ = renew(first)
	assert.Equal(t, 400, status)
	status, _ = renew(out["refresh_token"].(string))
	assert.Equal(t, 400, status, "a spent refresh token that turns up again ends them all")
	var list []team.Consent
	w.Must("GET", "/api/consents", nil, &list)
	assert.Equal(t, "a spent refresh token was used again", list[0].Why)
	_, out = exchange(code(), func(url.Values) {})
	status, _ = post(t, w.Base+"/oauth/revoke", url.Values{"token": {out["refresh_token"].(string)}, "client_id": {app.ID}})
	assert.Equal(t, 200, status)
	r, _ = (&testkit.Raw{T: t, URL: w.Base + "/mcp/echo", Pass: out["access_token"].(string)}).Post(`{"jsonrpc":"2.0","id":1,"method":"ping"}`)
	assert.Equal(t, 401, r.StatusCode)

	// An address with a pass in it opens that address, and the pass nothing else.
	var inAddress struct{ URL, Token string }
	w.Must("POST", "/api/agents/marit-parlour/passes", testkit.Obj{"days": 1, "inAddress": true}, &inAddress)
	path := strings.TrimPrefix(inAddress.URL, w.Base)
	assert.Contains(t, w.Raw(path, "", "2025-11-25").Names(), "echo__echo")
	for _, where := range [][2]string{{"/mcp", inAddress.Token}, {"/in/" + w.Pass("marit-parlour") + "/mcp", ""}, {"/in/" + inAddress.Token + "/api/people", ""}} {
		r, _ = (&testkit.Raw{T: t, URL: w.Base + where[0], Pass: where[1]}).Post(`{"jsonrpc":"2.0","id":1,"method":"ping"}`)
		assert.Contains(t, []int{401, 404}, r.StatusCode, where[0])
	}
	off := testkit.Start(t, nil)
	off.Must("POST", "/api/agents", testkit.Obj{"name": "marit-parlour", "owner": "marit"}, nil)
	assert.Equal(t, "inAddress", off.Problem("POST", "/api/agents/marit-parlour/passes", testkit.Obj{"days": 1, "inAddress": true}).Field)
	for _, canary := range []string{access, refresh, first, fresh, inAddress.Token, one} {
		assert.NotContains(t, w.Log.String(), canary)
	}
}
