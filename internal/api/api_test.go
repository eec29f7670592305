package api_test

import (
	"bytes"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"encoding/json"
	"encoding/pem"
	"flag"
	"fmt"
	"net/http"
	"net/http/cookiejar"
	"net/http/httptest"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/core/team"
	"bouncer/internal/testkit"
	"bouncer/standin/loopback"
	"bouncer/standin/pilothouse"
	"bouncer/standin/toolserver"
)

const token = "skf-canary-0123456789"

type obj = testkit.Obj

// allowed is who may call what: A admin, M maintainer, O member, U auditor, and
// . for nobody signed in. Every route of the service must be here.
var allowed = map[string]string{
	"GET /api/openapi.json": "AMOU.", "GET /api/about": "AMOU.", "POST /api/session": "AMOU.", "POST /api/tokens": "AMOU.",
	"GET /api/session": "AMOU", "DELETE /api/session": "AMOU", "PUT /api/session/password": "AMOU",
	"GET /api/people": "AMOU", "POST /api/people": "A", "PATCH /api/people/{name}": "A",
	"GET /api/servers": "AMOU", "POST /api/servers": "AM", "GET /api/servers/{name}": "AMOU", "PATCH /api/servers/{name}": "AM", "DELETE /api/servers/{name}": "AM",
	"GET /api/servers/{name}/tools": "AMOU", "GET /api/servers/{name}/editions": "AMOU", "GET /api/servers/{name}/operations": "AMOU", "POST /api/documents": "AM", "POST /api/servers/{name}/check": "AM", "POST /api/servers/{name}/restart": "AM", "POST /api/imports": "AM",
	"GET /api/agents": "AMOU", "POST /api/agents": "AMO", "GET /api/agents/{name}": "AMOU", "PATCH /api/agents/{name}": "AMO", "DELETE /api/agents/{name}": "AMO",
	"GET /api/agents/{name}/reach": "AMOU", "GET /api/agents/{name}/passes": "AMOU", "POST /api/agents/{name}/passes": "AMO", "DELETE /api/agents/{name}/passes/{id}": "AMO",
	"GET /api/labels": "AMOU", "PATCH /api/labels": "AM", "GET /api/bundles": "AMOU", "POST /api/bundles": "AM",
	"GET /api/bundles/{name}": "AMOU", "PATCH /api/bundles/{name}": "AM", "DELETE /api/bundles/{name}": "AM",
	"GET /api/held": "AMOU", "GET /api/held/{id}": "AMOU", "POST /api/held/{id}/decision": "AMO", "POST /api/explanations": "AMOU",
	"GET /api/standing": "AMOU", "GET /api/agents/{name}/reach-changes": "AMOU", "GET /api/reviews": "AMOU", "PUT /api/servers/{name}/review": "AM", "POST /api/servers/{name}/review": "AM", "GET /api/journal/head": "AMU", "POST /api/journal/verification": "AMU", "POST /api/rehearsals": "AM", "GET /api/budgets": "AMOU", "POST /api/budgets": "AM", "GET /api/budgets/{name}": "AMOU",
	"PATCH /api/budgets/{name}": "AM", "POST /api/budgets/{name}/reset": "AM", "DELETE /api/budgets/{name}": "AM", "GET /api/reach": "AMOU", "GET /api/costs": "AMOU", "GET /api/notices": "AMU", "POST /api/notices/test": "AM", "GET /api/agents/{name}/cost": "AMOU", "DELETE /api/standing/{id}": "AMO", "GET /api/rules/{id}": "AMOU",
	"GET /api/rules": "AMOU", "POST /api/rules": "AM", "PATCH /api/rules/{id}": "AM", "GET /api/servers/{name}/dependents": "AM",
	"GET /api/agents/{name}/dependents": "AMO", "GET /api/people/{name}/dependents": "A", "DELETE /api/rules/{id}": "AM",
	"GET /api/secrets": "AMOU", "POST /api/secrets": "AM", "POST /api/secrets/inspect": "AMO", "PUT /api/secrets/{name}/value": "AMO", "DELETE /api/secrets/{name}": "AMO",
	"PUT /api/servers/{name}/own": "AMO", "DELETE /api/servers/{name}/own": "AMO", "GET /api/locker": "A", "POST /api/locker/rotate": "A", "GET /api/backup": "A",
	"GET /api/sign-ins": "AMOU", "POST /api/sign-ins": "AMO", "DELETE /api/sign-ins/{id}": "AMO", "GET /api/sign-in-problems/{id}": "AMOU.", "POST /api/session/elsewhere": "AMOU.",
	"GET /api/consents": "AMOU", "DELETE /api/consents/{id}": "AMO", "GET /api/consent-requests/{id}": "AMO", "POST /api/consent-requests/{id}": "AMO",
	"GET /api/logins": "AMOU", "DELETE /api/logins/{id}": "AMOU", "POST /api/people/{name}/password": "A", "DELETE /api/people/{name}": "A",
	"PUT /api/people/{name}/subject": "A", "POST /api/session/tie": "AMOU", "GET /api/session/may": "AMOU", "GET /api/journal": "AMOU", "GET /api/limits": "AMU", "GET /api/nodes": "AMU", "PATCH /api/nodes/{name}": "A", "DELETE /api/nodes/{name}": "A", "GET /api/turned-away": "AMU",
	"GET /api/invitations": "A", "POST /api/invitations": "A", "DELETE /api/invitations/{id}": "A", "POST /api/join": "AMOU.",
	"GET /api/calls": "AMOU", "GET /api/calls/{id}": "AMOU", "GET /api/call-counts": "AMOU", "GET /api/call-total": "AMOU", "GET /api/session/mail": "AMOU", "PUT /api/session/mail": "AMOU", "POST /api/session/mail/test": "AMOU", "GET /api/mail": "AMU", "GET /api/call-export": "AMOU", "GET /api/servers/{name}/progress": "AM", "POST /api/checkups": "AM", "GET /api/incidents": "AMOU", "GET /api/incidents/{id}": "AMOU", "POST /api/incidents/{id}/notes": "AM", "GET /api/health": "AMOU", "GET /api/incidents/feed": "AMOU", "GET /api/servers/{name}/lint": "AMOU", "GET /api/servers/{name}/heard": "AM", "GET /api/agents/{name}/heard": "AM", "GET /api/tapes": "AM", "POST /api/tapes": "AM", "POST /api/tapes/imports": "AM", "GET /api/tapes/{id}": "AM", "DELETE /api/tapes/{id}": "AM", "GET /api/tapes/{id}/export": "AM", "POST /api/tapes/{id}/replay": "AM", "GET /api/tapes/{id}/differences/{other}": "AM", "POST /api/tries": "AMO", "GET /api/copies": "AMU", "GET /api/stats": "AMOU", "POST /api/copies": "A", "GET /api/servers/{name}/examples": "AMOU", "PUT /api/servers/{name}/examples/{example}": "AM", "DELETE /api/servers/{name}/examples/{example}": "AM", "GET /api/agents/{name}/why": "AMOU", "GET /api/agents/{name}/why-not/{other}": "AMOU", "GET /api/people/{name}/why-not/{other}": "AMOU", "GET /api/checkups/{name}": "AM", "GET /api/servers/{name}/checkup": "AM", "GET /api/agents/{name}/contact": "AMOU", "GET /api/machine-codes": "AMOU", "POST /api/machine-codes": "AMO", "DELETE /api/machine-codes/{id}": "AMO", "POST /api/machine-codes/redeem": "AMOU.", "POST /api/machine-codes/return": "AMOU.", "GET /api/roster": "AM", "POST /api/roster/plan": "AM", "POST /api/roster/apply": "AM", "POST /api/adoptions": "AM", "GET /api/changes": "AMU", "POST /api/changes/{id}/undo": "AM", "GET /api/events": "AMOU",
}

func TestEveryRouteByRole(t *testing.T) {
	t.Parallel()
	w := testkit.Start(t, nil)
	logins := map[string]string{
		"A": w.Token, "M": w.Person("joss", "Joss Penhale", team.Maintainer), "O": w.Person("ottilie", "Ottilie Brandt", team.Member),
		"U": w.Person("wren", "Wren Adair", team.Auditor), ".": "",
	}
	doc := document(t, w)
	var routes []string
	for path, item := range doc.Paths.Map() {
		for method := range item.Operations() {
			routes = append(routes, method+" "+path)
		}
	}
	for route := range allowed {
		assert.Contains(t, routes, route, "the table lists a route that the service does not describe")
	}
	param := regexp.MustCompile(`\{[a-z]+\}`)
	for _, route := range routes {
		method, path, _ := strings.Cut(route, " ")
		may, known := allowed[route]
		require.True(t, known, "%s is in no row of the table", route)
		if route == "GET /api/events" || route == "DELETE /api/session" {
			continue // the first never ends, the second would end the login; both have tests of their own
		}
		for role, login := range logins {
			// An empty object is acceptable to no route that alters something, so
			// nothing happens to those who may.
			status, raw := w.Do(login, method, param.ReplaceAllString(path, "nobody"), obj{})
			switch {
			case route == "POST /api/session", route == "POST /api/tokens":
				assert.Contains(t, []int{401, 429}, status) // it is the empty password that is refused
				assert.NotContains(t, string(raw), "not signed in")
			case strings.Contains(may, role):
				assert.NotContains(t, []int{401, 403}, status, "%s as %s: %s", route, role, raw)
			case role == ".":
				assert.Equal(t, 401, status, "%s without a login: %s", route, raw)
			default:
				assert.Equal(t, 403, status, "%s as %s: %s", route, role, raw)
			}
		}
	}
}

// document reads the service's description with an independent validator.
func document(t *testing.T, w *testkit.World) *openapi3.T {
	status, raw := w.Do("", "GET", "/api/openapi.json", nil)
	require.Equal(t, 200, status)
	doc, err := openapi3.NewLoader().LoadFromData(raw)
	require.NoError(t, err)
	require.NoError(t, doc.Validate(t.Context()))
	assert.Equal(t, "3.1.0", doc.OpenAPI)
	return doc
}

// What the service answers is what its description promises.
func TestAnswersFitTheDescription(t *testing.T) {
	t.Parallel()
	w := testkit.Start(t, nil)
	w.Register("echo", testkit.Upstream(t, testkit.Echo(token, nil)), token)
	pass := w.Agent("marit-quill")
	rule := w.Rule("admit", "*", "*", "*")
	agent := w.Raw("/mcp", pass, "2025-11-25")
	agent.CallTool("echo__echo", "hello")
	agent.CallTool("echo__nothing", "hello")
	call := w.Calls(2, "")[0]
	doc := document(t, w)
	for _, path := range []string{
		"/api/about", "/api/session", "/api/people", "/api/servers", "/api/servers/echo", "/api/servers/echo/tools", "/api/agents", "/api/agents/marit-quill",
		"/api/agents/marit-quill/reach", "/api/agents/marit-quill/passes", "/api/rules", "/api/secrets", "/api/sign-ins", "/api/consents", "/api/logins", "/api/invitations", "/api/locker", "/api/calls", "/api/calls/" + call.ID, "/api/call-counts", "/api/changes", "/api/servers/nobody",
	} {
		status, raw := w.Do(w.Token, "GET", path, nil)
		template := strings.NewReplacer("/echo", "/{name}", "/marit-quill", "/{name}", "/nobody", "/{name}", "/"+call.ID, "/{id}").
			Replace(path)
		item := doc.Paths.Find(template)
		require.NotNil(t, item, template)
		answer := item.Get.Responses.Status(status)
		media := "application/json"
		if answer == nil {
			answer, media = item.Get.Responses.Default(), "application/problem+json"
		}
		var v any
		require.NoError(t, json.Unmarshal(raw, &v))
		assert.NoError(t, answer.Value.Content[media].Schema.Value.VisitJSON(v), "%s: %s", path, raw)
	}
	w.Must("DELETE", "/api/rules/"+strings.ToLower(rule), nil, nil)
}

func TestMembersKeepToTheirOwn(t *testing.T) {
	t.Parallel()
	w := testkit.Start(t, nil)
	w.Register("echo", testkit.Upstream(t, testkit.Echo(token, nil)), token)
	w.Rule("admit", "*", "*", "*")
	ottilie := w.Person("ottilie", "Ottilie Brandt", team.Member)
	theirs := w.Agent("marit-quill")
	w.MustAs(ottilie, "POST", "/api/agents", obj{"name": "ottilie-parlour", "owner": "ottilie"}, nil)
	var own struct{ Token string }
	w.MustAs(ottilie, "POST", "/api/agents/ottilie-parlour/passes", obj{"days": 1}, &own)
	w.Raw("/mcp", theirs, "2025-11-25").CallTool("echo__echo", "theirs")
	w.Raw("/mcp", own.Token, "2025-11-25").CallTool("echo__echo", "mine")
	all := w.Calls(2, "")
	var list []team.Agent
	w.MustAs(ottilie, "GET", "/api/agents", nil, &list)
	require.Len(t, list, 1)
	var calls []team.Call
	w.MustAs(ottilie, "GET", "/api/calls", nil, &calls)
	require.Len(t, calls, 1)
	assert.Equal(t, "ottilie-parlour", calls[0].Agent)
	foreign := all[slices.IndexFunc(all, func(c team.Call) bool { return c.Agent == "marit-quill" })]
	for _, route := range []string{"GET /api/agents/marit-quill", "GET /api/agents/marit-quill/reach", "GET /api/agents/marit-quill/passes", "POST /api/agents/marit-quill/passes", "PATCH /api/agents/marit-quill", "DELETE /api/agents/marit-quill", "GET /api/calls/" + foreign.ID} {
		method, path, _ := strings.Cut(route, " ")
		var in any
		switch method {
		case "POST":
			in = obj{"days": 1}
		case "PATCH":
			in = obj{"paused": true}
		}
		status, raw := w.Do(ottilie, method, path, in)
		assert.Equal(t, 404, status, "%s: %s", route, raw)
	}
	status, raw := w.Do(ottilie, "POST", "/api/agents", obj{"name": "sneaky", "owner": "marit"})
	assert.Equal(t, 422, status, string(raw))
	status, _ = w.Do(ottilie, "PATCH", "/api/agents/ottilie-parlour", obj{"owner": ""})
	assert.Equal(t, 422, status, "a member cannot give an agent away to escape being its owner")
}

func TestBadInputNamesTheField(t *testing.T) {
	t.Parallel()
	w := testkit.Start(t, nil)
	up := testkit.Upstream(t, testkit.Echo(token, nil))
	w.Register("echo", up, token)
	w.Agent("marit-quill")
	for name, row := range map[string]struct {
		route  string
		in     any
		status int
		field  string
		says   string
	}{
		"a name with capitals":       {"POST /api/servers", obj{"name": "Echo", "url": up}, 422, "name", "lower-case"},
		"a name that is taken":       {"POST /api/servers", obj{"name": "echo", "url": up, "token": token}, 409, "name", "already"},
		"no URL":                     {"POST /api/servers", obj{"name": "a"}, 422, "url", "missing"},
		"a URL without scheme":       {"POST /api/servers", obj{"name": "a", "url": "tools.example/mcp"}, 422, "url", "http://"},
		"a URL of another scheme":    {"POST /api/servers", obj{"name": "a", "url": "file:///etc/passwd"}, 422, "url", "scheme"},
		"a URL with a password":      {"POST /api/servers", obj{"name": "a", "url": "https://u:p@tools.example/mcp"}, 422, "url", "password"},
		"a placeholder as token":     {"POST /api/servers", obj{"name": "a", "url": up, "token": "<token>"}, 422, "token", "placeholder"},
		"a token and a secret":       {"POST /api/servers", obj{"name": "a", "url": up, "token": "x", "secret": "y"}, 422, "secret", "exclude"},
		"an unknown secret":          {"POST /api/servers", obj{"name": "a", "url": up, "secret": "nope"}, 404, "", "no secret"},
		"an address nobody is at":    {"POST /api/servers", obj{"name": "a", "url": "http://127.0.0.1:1/mcp"}, 502, "", "nothing accepts connections"},
		"a wrong token":              {"POST /api/servers", obj{"name": "a", "url": up, "token": "wrong-token"}, 502, "", "does not accept the credential (401)"},
		"an address and a command":   {"POST /api/servers", obj{"name": "a", "url": up, "command": "cat"}, 422, "url", "exclude"},
		"arguments without command":  {"POST /api/servers", obj{"name": "a", "url": up, "args": []string{"x"}}, 422, "command", "missing"},
		"a command that is not here": {"POST /api/servers", obj{"name": "a", "command": "no-such-command-here"}, 502, "", "is not on the machine where Bouncer runs"},
		"a line as command":          {"POST /api/servers", obj{"name": "a", "command": "node server.js"}, 502, "", "whole command line"},
		"a relative directory":       {"POST /api/servers", obj{"name": "a", "command": "cat", "dir": "here"}, 422, "dir", "absolute"},
		"a variable without a name":  {"POST /api/servers", obj{"name": "a", "command": "cat", "env": []string{"=x"}}, 422, "env", "NAME=value"},
		"a secret without variable":  {"POST /api/servers", obj{"name": "a", "command": "cat", "token": "x"}, 422, "secretEnv", "missing"},
		"a variable without secret":  {"POST /api/servers", obj{"name": "a", "command": "cat", "secretEnv": "KEY"}, 422, "token", "missing"},
		"a variable given twice":     {"POST /api/servers", obj{"name": "a", "command": "cat", "secretEnv": "KEY", "token": "x", "env": []string{"KEY=y"}}, 422, "env", "is to carry the secret"},
		"a member that is not there": {"POST /api/servers", obj{"name": "a", "adress": "x"}, 422, "adress", "no member"},
		"a number as name":           {"POST /api/servers", `{"name":7}`, 422, "name", "must be a string"},
		"a member of a group":        {"POST /api/servers", `{"name":"a","callSeconds":"x"}`, 422, "callSeconds", "must be a whole number"},
		"a list as a request":        {"POST /api/servers", `[]`, 422, "body", "must be an object"},
		"half a body":                {"POST /api/servers", `{"name":`, 422, "body", "JSON"},
		"two bodies":                 {"POST /api/servers", `{"name":"a"}{}`, 422, "body", "nothing after"},
		"a huge body":                {"POST /api/servers", `{"name":"` + strings.Repeat("x", 11<<20) + `"}`, 413, "", "larger than"},
		"an unknown effect":          {"POST /api/rules", obj{"effect": "permit", "agent": "*", "server": "*", "tool": "*"}, 422, "effect", "admit, hold or refuse"},
		"a rule without tools":       {"POST /api/rules", obj{"effect": "admit", "agent": "*", "server": "*"}, 422, "tool", "empty"},
		"an unknown rule":            {"DELETE /api/rules/01X", nil, 404, "", "no rule"},
		"an unknown server":          {"GET /api/servers/nope", nil, 404, "", `no server "nope"`},
		"a pass without end":         {"POST /api/agents/marit-quill/passes", obj{"days": 4000}, 422, "days", "366 days"},
		"an unknown pass":            {"DELETE /api/agents/marit-quill/passes/x", nil, 404, "", "no valid pass"},
		"an unknown owner":           {"POST /api/agents", obj{"name": "a", "owner": "nobody"}, 404, "", "no person"},
		"a taken agent":              {"POST /api/agents", obj{"name": "marit-quill", "owner": "marit"}, 409, "name", "already"},
		"a secret in use":            {"DELETE /api/secrets/echo-token", nil, 409, "name", "is given to"},
		"a value the server refuses": {"PUT /api/secrets/echo-token/value", obj{"value": "another-token"}, 502, "", "rejected"},
		"an unknown outcome":         {"GET /api/calls?outcome=great", nil, 422, "outcome", "one of"},
		"a time in words":            {"GET /api/calls?since=yesterday", nil, 422, "since", "RFC 3339"},
		"a limit of a million":       {"GET /api/calls?limit=1000000", nil, 422, "limit", "1 to 500"},
		"a cursor that is none":      {"GET /api/calls?before=x", nil, 422, "before", "id of a call"},
		"an unknown call":            {"GET /api/calls/01KAS3V4M0W5Z4T7Q2R8X9Y1AB", nil, 404, "", "no call"},
		"an unknown role":            {"POST /api/people", obj{"name": "a", "fullName": "A", "role": "owner"}, 422, "role", "must be"},
		"the last admin":             {"PATCH /api/people/marit", obj{"role": "member"}, 409, "role", "last admin"},
		"a short password":           {"PUT /api/session/password", obj{"old": testkit.Password, "new": "short"}, 422, "new", "shorter"},
		"an unknown route":           {"GET /api/nothing", nil, 404, "", "nothing at this address"},
	} {
		t.Run(name, func(t *testing.T) {
			method, path, _ := strings.Cut(row.route, " ")
			p := w.Problem(method, path, row.in)
			assert.Equal(t, row.status, p.Status, p.Title)
			assert.Equal(t, row.field, p.Field, p.Title)
			assert.Contains(t, p.Title, row.says)
			if p.Status == 404 && p.Hint != "" {
				assert.Regexp(
					t,
					`bouncer (server|secret|rule|person) list|bouncer journal|bouncer agent passes|openapi`,
					p.Hint,
					"the hint names a command that exists",
				)
			}
		})
	}
	var servers []team.Server
	w.Must("GET", "/api/servers", nil, &servers)
	assert.Len(t, servers, 1, "nothing was left half-done")
	var secrets []team.Secret
	w.Must("GET", "/api/secrets", nil, &secrets)
	assert.Len(t, secrets, 1)
	w.Must("POST", "/api/servers", obj{"name": "later", "url": "http://127.0.0.1:1/mcp", "anyway": true}, nil)
}

func TestConsoleSession(t *testing.T) {
	t.Parallel()
	w := testkit.Start(t, nil)
	jar, err := cookiejar.New(nil)
	require.NoError(t, err)
	client := &http.Client{Jar: jar}
	send := func(method, path, body, site string) *http.Response {
		req, err := http.NewRequest(method, w.Base+path, strings.NewReader(body))
		require.NoError(t, err)
		req.Header.Set("Content-Type", "application/json")
		if site != "" {
			req.Header.Set("Sec-Fetch-Site", site)
		}
		res, err := client.Do(req)
		require.NoError(t, err)
		t.Cleanup(func() { _ = res.Body.Close() })
		return res
	}
	in, _ := json.Marshal(obj{"name": "marit", "password": testkit.Password})
	res := send("POST", "/api/session", string(in), "same-origin")
	require.Equal(t, 200, res.StatusCode)
	cookie := res.Header.Get("Set-Cookie")
	for _, want := range []string{"HttpOnly", "SameSite=Strict", "Path=/"} {
		assert.Contains(t, cookie, want)
	}
	assert.Equal(t, 200, send("GET", "/api/servers", "", "same-origin").StatusCode)
	assert.Equal(t, 403, send("DELETE", "/api/session", "", "cross-site").StatusCode, "another site cannot act for the person")
	value := strings.TrimPrefix(strings.SplitN(cookie, ";", 2)[0], "bouncer_session=")
	status, _ := w.Do(value, "GET", "/api/servers", nil)
	assert.Equal(t, 401, status, "a cookie is no token")
	assert.Equal(t, 204, send("DELETE", "/api/session", "", "same-origin").StatusCode)
	req, err := http.NewRequest("GET", w.Base+"/api/session", nil)
	require.NoError(t, err)
	req.AddCookie(&http.Cookie{Name: "bouncer_session", Value: value})
	res, err = http.DefaultClient.Do(req)
	require.NoError(t, err)
	require.NoError(t, res.Body.Close())
	assert.Equal(t, 401, res.StatusCode, "the session has ended at the service too")

	for i := range 8 {
		status, raw := w.Do("", "POST", "/api/session", obj{"name": "marit", "password": fmt.Sprint("wrong", i)})
		if status == 429 {
			assert.Contains(t, string(raw), "wait")
			return
		}
		require.Equal(t, 401, status)
	}
	t.Fatal("guessing is not slowed")
}

func TestOneTimePasswordOpensNothingElse(t *testing.T) {
	t.Parallel()
	w := testkit.Start(t, nil)
	var added struct{ Password string }
	w.Must("POST", "/api/people", obj{"name": "teo", "fullName": "Teo Castellane", "role": "member"}, &added)
	login := w.SignIn("teo", added.Password)
	status, raw := w.Do(login, "GET", "/api/servers", nil)
	assert.Equal(t, 403, status)
	assert.Contains(t, string(raw), "password-change-needed")
	other := w.SignIn("teo", added.Password)
	w.MustAs(login, "PUT", "/api/session/password", obj{"old": added.Password, "new": testkit.Password}, nil)
	w.MustAs(login, "GET", "/api/servers", nil, nil)
	status, _ = w.Do(other, "GET", "/api/servers", nil)
	assert.Equal(t, 401, status, "the other logins end with the old password")
	status, _ = w.Do("", "POST", "/api/tokens", obj{"name": "teo", "password": added.Password})
	assert.Equal(t, 401, status)
}

// The tokens of servers and agents turn up nowhere that anybody can look.
func TestPlantedSecretsAppearNowhere(t *testing.T) {
	t.Parallel()
	w := testkit.Start(t, map[string]string{"journal": "strict"})
	s := testkit.Echo(token, nil)
	up := testkit.Upstream(t, s)
	w.Register("echo", up, token)
	w.Rule("admit", "*", "*", "*")
	pass := w.Agent("marit-quill")
	agent := w.Raw("/mcp", pass, "2025-11-25")
	agent.CallTool("echo__echo", "the token is "+token+" and the pass is "+pass) // an agent that leaks, a server that echoes
	agent.CallTool("echo__"+token, "x")
	w.Problem("PUT", "/api/secrets/echo-token/value", obj{"value": "wrong-canary-9876543210"})
	w.Problem("POST", "/api/servers", obj{"name": "x", "url": up, "token": "wrong-canary-9876543210"})
	const rotated = "skf-rotated-canary-55555"
	s.Token = rotated
	w.Must("PUT", "/api/secrets/echo-token/value", obj{"value": rotated}, nil)
	agent.CallTool("echo__echo", rotated)
	s.Fail("unauthorised")
	agent.CallTool("echo__echo", "x")
	var seen bytes.Buffer
	calls := w.Calls(4, "")
	for _, path := range []string{"/api/calls", "/api/servers", "/api/servers/echo", "/api/servers/echo/tools", "/api/secrets", "/api/changes", "/api/agents/marit-quill/reach", "/api/agents/marit-quill/passes", "/api/people", "/", "/servers", "/api/openapi.json"} {
		_, raw := w.Do(w.Token, "GET", path, nil)
		seen.Write(raw)
	}
	masked := 0
	for _, c := range calls {
		_, raw := w.Do(w.Token, "GET", "/api/calls/"+c.ID, nil)
		masked += strings.Count(string(raw), "[masked]")
		seen.Write(raw)
	}
	assert.GreaterOrEqual(t, masked, 4, "what was leaked is seen to be masked")
	w.Stop()
	seen.WriteString(w.Log.String())
	for _, name := range []string{"bouncer.db", "bouncer.db-wal"} {
		raw, err := os.ReadFile(w.Dir + "/" + name)
		if err == nil {
			seen.Write(raw)
		}
	}
	for _, canary := range []string{token, rotated, "wrong-canary-9876543210", pass, w.Token, testkit.Password} {
		assert.False(t, bytes.Contains(seen.Bytes(), []byte(canary)), "%s... turns up", canary[:12])
	}
	require.Greater(t, seen.Len(), 10_000)
}

type shown struct{}

// The same for what sign-ins bring: access and refresh tokens, codes, secrets of
// clients, private keys, invitations and the tokens of programs.
func TestWhatSignInsHoldAppearsNowhere(t *testing.T) {
	t.Parallel()
	as := pilothouse.New("Pilothouse")
	front := httptest.NewServer(as)
	t.Cleanup(front.Close)
	as.Issuer, as.Auto = front.URL, "marit"
	w := testkit.Start(t, map[string]string{"journal": "strict", "private-ranges": "127.0.0.0/8", "address-passes": "on"})
	leak := toolserver.New(
		"leak",
		"1",
		"",
		toolserver.Tool{
			Name:        "leak",
			Description: "Repeats what it was shown.",
			Schema:      `{"type":"object"}`,
			Run: func(ctx context.Context, _ *toolserver.Call) (any, error) {
				return ctx.Value(shown{}).(string), nil
			},
		},
	)
	back := httptest.NewUnstartedServer(nil)
	at := "http://" + back.Listener.Addr().String() + "/mcp"
	back.Config.Handler = as.Protect(at, "leak", http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		leak.ServeHTTP(rw, r.WithContext(context.WithValue(r.Context(), shown{}, r.Header.Get("Authorization"))))
	}), nil)
	back.Start()
	t.Cleanup(func() { loopback.End(back) })
	w.Must("POST", "/api/servers", obj{"name": "leak", "url": at, "signIn": obj{"grant": "code"}}, nil)
	b := w.Browser("marit")
	b.SignInAt(t, obj{"server": "leak", "team": true})
	w.Rule("admit", "*", "*", "*")
	pass := w.Agent("marit-quill")
	agent := w.Raw("/mcp", pass, "2025-11-25")
	said := agent.CallTool("leak__leak", "").Result.Content[0].Text
	require.Regexp(t, `Bearer skf-access-[0-9a-f]+`, said, "the server does leak it to the agent")
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	der, err := x509.MarshalPKCS8PrivateKey(key)
	require.NoError(t, err)
	lines := strings.Split(string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der})), "\n")
	w.Must("POST", "/api/secrets", obj{"name": "signing", "kind": "private-key", "value": strings.Join(lines, "\n")}, nil)
	assert.Equal(
		t,
		502,
		w.Problem(
			"POST",
			"/api/servers",
			obj{"name": "x", "url": at, "signIn": obj{"grant": "client", "clientId": "me", "signingKey": "signing"}},
		).Status,
	)
	as.Fail("token:invalid_grant")
	page := b.SignInAt(t, obj{"server": "leak", "team": true})
	var invited struct{ Link string }
	w.Must("POST", "/api/invitations", obj{"role": "member"}, &invited)
	var inAddress struct{ Token string }
	w.Must("POST", "/api/agents/marit-quill/passes", obj{"days": 1, "inAddress": true}, &inAddress)
	(&testkit.Raw{T: t, URL: w.Base + "/in/" + inAddress.Token + "/mcp"}).Post(`{"jsonrpc":"2.0","id":1,"method":"nonsense"}`)
	agent.CallTool("leak__"+lines[1], "x")

	var seen bytes.Buffer
	for _, path := range []string{"/api/calls", "/api/servers", "/api/servers/leak", "/api/secrets", "/api/sign-ins", "/api/consents", "/api/logins", "/api/invitations", "/api/locker", "/api/changes", "/api/sign-in-problems/" + page.Query().Get("problem"), "/api/backup"} {
		status, raw := w.Do(w.Token, "GET", path, nil)
		require.Equal(t, 200, status, path)
		seen.Write(raw)
	}
	masked := 0
	for _, c := range w.Calls(2, "") {
		_, raw := w.Do(w.Token, "GET", "/api/calls/"+c.ID, nil)
		masked += strings.Count(string(raw), "[masked]")
		seen.Write(raw)
	}
	assert.GreaterOrEqual(t, masked, 2)
	w.Stop()
	seen.WriteString(w.Log.String())
	for _, name := range []string{"bouncer.db", "bouncer.db-wal"} {
		if raw, err := os.ReadFile(w.Dir + "/" + name); err == nil {
			seen.Write(raw)
		}
	}
	assert.NotRegexp(t, `skf-(access|refresh|client)-[0-9a-f]{8}`, seen.String())
	for _, canary := range []string{lines[1], inAddress.Token, invited.Link[strings.LastIndex(invited.Link, "/")+1:]} {
		assert.False(t, bytes.Contains(seen.Bytes(), []byte(canary)), "%s... turns up", canary[:12])
	}
}

var update = flag.Bool("update", false, "write the description that the console is built from")

// The console is built from the description that stands in its folder.
func TestTheConsoleKnowsTheContract(t *testing.T) {
	t.Parallel()
	w := testkit.Start(t, nil)
	status, raw := w.Do("", "GET", "/api/openapi.json", nil)
	require.Equal(t, 200, status)
	var doc map[string]any
	require.NoError(t, json.Unmarshal(raw, &doc))
	delete(doc, "servers")
	doc["info"].(map[string]any)["version"] = ""
	made, err := json.MarshalIndent(doc, "", "  ")
	require.NoError(t, err)
	made = append(made, '\n')
	path := filepath.Join("..", "..", "console", "contract", "openapi.json")
	if *update {
		require.NoError(t, os.WriteFile(path, made, 0o644))
	}
	kept, err := os.ReadFile(path)
	require.NoError(t, err)
	assert.True(t, bytes.Equal(kept, made), "run: make contract")
}
