package login_test

import (
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
	as := testkit.Authority(
		t,
		pilothouse.Person{Name: "marit", FullName: "Marit Aune", Groups: []string{"desk"}},
		pilothouse.Person{Name: "ottilie", FullName: "Ottilie Brandt", Groups: []string{"crew", "choir"}},
		pilothouse.Person{Name: "Isla", FullName: "Isla Faro", Groups: []string{"choir"}},
	)
	t.Setenv("PILOTHOUSE", "skf-pilothouse-canary")
	w := testkit.Start(
		t,
		map[string]string{
			"private-ranges": "127.0.0.0/8",
			"oidc-issuer":    as.Issuer,
			"oidc-client-id": "bouncer",
			"oidc-secret":    "env PILOTHOUSE",
			"oidc-groups":    "desk=admin,crew=member",
		},
	)
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
	problem := m.Problem(t, enter(t, m, ""))
	assert.Contains(t, problem, "taken here already", "a name is not taken over from somebody who is here")
	assert.Contains(t, problem, "bouncer person tie marit --subject")
	status, _ = m.Do("GET", "/api/session", nil)
	assert.Equal(t, 401, status)
	m = w.Browser("marit")
	var to struct{ URL string }
	m.Must("POST", "/api/session/tie", testkit.Obj{"back": "/people"}, &to)
	assert.Equal(t, "/people", m.Go(t, to.URL).Path)
	assert.True(t, who(m).Elsewhere, "she has tied herself")
	m = w.Browser("")
	enter(t, m, "")
	assert.Equal(t, "marit admin", who(m).Name+" "+string(who(m).Role))

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
	far := testkit.Authority(t)
	far.Add(pilothouse.Client{ID: "bouncer-there", Secret: "skf-there", Trusts: as})
	w.Must("POST", "/api/secrets", testkit.Obj{"name": "there", "kind": "client-secret", "value": "skf-there"}, nil)
	crew := testkit.Protect(t, far, "crew:read", ferries.Crew(), nil)
	w.Must(
		"POST",
		"/api/servers",
		testkit.Obj{
			"name":   "crew",
			"url":    crew,
			"per":    "person",
			"signIn": testkit.Obj{"grant": "assertion", "clientId": "bouncer-there", "clientSecret": "there"},
		},
		nil,
	)
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
	t.Parallel()
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
