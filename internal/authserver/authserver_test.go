package authserver_test

import (
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"io"
	"net/http"
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/core/team"
	"bouncer/internal/testkit"
)

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
	t.Parallel()
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
		q := url.Values{
			"response_type":         {"code"},
			"client_id":             {app.ID},
			"redirect_uri":          {back},
			"state":                 {"s"},
			"code_challenge":        {base64.RawURLEncoding.EncodeToString(sum[:])},
			"code_challenge_method": {"S256"},
			"resource":              {w.Base + "/mcp/echo"},
		}
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
		"without PKCE":             {func(q url.Values) { q.Del("code_challenge") }, "/consent/none?why=invalid_request"},
		"with plain PKCE":          {func(q url.Values) { q.Set("code_challenge_method", "plain") }, "/consent/none?why=invalid_request"},
		"another service":          {func(q url.Values) { q.Set("resource", "https://elsewhere.example/mcp") }, "/consent/none?why=invalid_target"},
		"a token without any code": {func(q url.Values) { q.Set("response_type", "token") }, "/consent/none?why=unsupported_response_type"},
		"a document inside":        {func(q url.Values) { q.Set("client_id", "https://127.0.0.1:1/client") }, "/consent/none"},
	} {
		assert.Contains(t, b.Go(t, w.Base+"/oauth/authorize?"+ask(row.change).Encode()).RequestURI(), row.page, name)
	}
	ottilie := w.Person("ottilie", "Ottilie Brandt", team.Member)
	code := func() string {
		page := b.Go(t, w.Base+"/oauth/authorize?"+ask(func(url.Values) {}).Encode())
		id := strings.TrimPrefix(page.Path, "/consent/")
		status, _ := w.Do(ottilie, "POST", "/api/consent-requests/"+id, testkit.Obj{"agent": "marit-parlour"})
		assert.Equal(t, 422, status, "nobody lends somebody else's agent")
		forged := id[:len(id)-1] + map[bool]string{true: "B", false: "A"}[id[len(id)-1] == 'A']
		status, _ = b.Do("GET", "/api/consent-requests/"+forged, nil)
		assert.Equal(t, 404, status, "what a browser carries cannot be altered")
		var to struct{ URL string }
		b.Must("POST", "/api/consent-requests/"+id, testkit.Obj{"agent": "marit-parlour"}, &to)
		status, _ = b.Do("POST", "/api/consent-requests/"+id, testkit.Obj{"agent": "marit-parlour"})
		assert.Equal(t, 404, status, "a request is decided once")
		u, err := url.Parse(to.URL)
		require.NoError(t, err)
		assert.Equal(t, w.Base+" s", u.Query().Get("iss")+" "+u.Query().Get("state"))
		return u.Query().Get("code")
	}
	exchange := func(code string, change func(url.Values)) (int, map[string]any) {
		q := url.Values{
			"grant_type":    {"authorization_code"},
			"code":          {code},
			"client_id":     {app.ID},
			"redirect_uri":  {back},
			"code_verifier": {verifier},
		}
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
	status, _ = post(
		t,
		w.Base+"/oauth/token",
		url.Values{"grant_type": {"refresh_token"}, "refresh_token": {refresh}, "client_id": {app.ID}},
	)
	assert.Equal(t, 400, status)

	_, out = exchange(code(), func(url.Values) {})
	first := out["refresh_token"].(string)
	lasting := w.Raw("/mcp/echo", out["access_token"].(string), "2025-11-25")
	renew := func(token string) (int, map[string]any) {
		return post(t, w.Base+"/oauth/token", url.Values{"grant_type": {"refresh_token"}, "refresh_token": {token}, "client_id": {app.ID}})
	}
	status, _ = post(
		t,
		w.Base+"/oauth/token",
		url.Values{"grant_type": {"refresh_token"}, "refresh_token": {first}, "client_id": {"app-other"}},
	)
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
	r, _ = (&testkit.Raw{T: t, URL: w.Base + "/mcp/echo", Pass: out["access_token"].(string)}).Post(
		`{"jsonrpc":"2.0","id":1,"method":"ping"}`,
	)
	assert.Equal(t, 401, r.StatusCode)

	// The token that is listed among the passes is the program's way in.
	_, out = exchange(code(), func(url.Values) {})
	var passes []team.Pass
	w.Must("GET", "/api/agents/marit-parlour/passes", nil, &passes)
	w.Must("DELETE", "/api/agents/marit-parlour/passes/"+passes[0].ID, nil, nil)
	status, _ = renew(out["refresh_token"].(string))
	assert.Equal(t, 400, status, "with its token ends what was agreed to")
	// A code is of no use once the agent is somebody else's.
	late := code()
	w.Must("PATCH", "/api/agents/marit-parlour", testkit.Obj{"owner": "ottilie"}, nil)
	status, _ = exchange(late, func(url.Values) {})
	assert.Equal(t, 400, status)
	w.Must("PATCH", "/api/agents/marit-parlour", testkit.Obj{"owner": "marit"}, nil)

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
