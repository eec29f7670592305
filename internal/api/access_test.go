package api_test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/core/access"
	"bouncer/internal/core/team"
	"bouncer/internal/testkit"
)

// crowd is a team with something of everybody's: an agent, a credential of its own, a
// call, a login.
type crowd struct {
	*testkit.World
	t      *testing.T
	people map[string]team.Person
	tokens map[string]string
	calls  map[string]string // id of a call, by owner
}

// agentOf is the agent of an owner; "" is the team.
func agentOf(owner string) string {
	if owner == "" {
		return "night-watch"
	}
	return owner + "-quill"
}

func gather(t *testing.T) *crowd {
	c := &crowd{World: testkit.Start(t, nil), t: t, people: map[string]team.Person{}, tokens: map[string]string{}, calls: map[string]string{}}
	c.tokens["marit"] = c.Token
	c.tokens["joss"] = c.Person("joss", "Joss Penhale", team.Maintainer)
	c.tokens["ottilie"] = c.Person("ottilie", "Ottilie Brandt", team.Member)
	c.tokens["teo"] = c.Person("teo", "Teo Castellane", team.Member)
	c.tokens["wren"] = c.Person("wren", "Wren Adair", team.Auditor)
	for name, token := range c.tokens {
		var p team.Person
		c.MustAs(token, "GET", "/api/session", nil, &p)
		c.people[name] = p
	}
	echo := testkit.Echo("", nil)
	in := testkit.Obj{"name": "gate", "url": testkit.Upstream(t, http.HandlerFunc(echo.ServeHTTP)), "headers": []string{"X-Team: skf-header-canary"}}
	c.Must("POST", "/api/servers", in, nil)
	c.Rule("admit", "*", "*", "*")
	for _, owner := range []string{"marit", "joss", "ottilie", "teo", ""} {
		token := c.tokens[owner]
		if owner == "" {
			token = c.Token
		}
		c.MustAs(token, "POST", "/api/agents", testkit.Obj{"name": agentOf(owner), "owner": owner}, nil)
		c.supply(token, owner)
		r := c.Raw("/mcp", c.PassAs(token, agentOf(owner)), "2025-11-25").CallTool("gate__echo", owner)
		require.Nil(t, r.Error)
		c.calls[owner] = c.Calls(1, "agent="+agentOf(owner))[0].ID
	}
	return c
}

func (c *crowd) supply(token, owner string) int {
	status, _ := c.Do(token, "PUT", "/api/servers/gate/own", testkit.Obj{"agent": agentOf(owner), "value": "skf-own-value", "anyway": true})
	return status
}

// again makes sure that the owner has the credential that a test may have removed.
func (c *crowd) again(owner string) {
	token := c.tokens[owner]
	if owner == "" {
		token = c.Token
	}
	require.Less(c.t, c.supply(token, owner), 400)
}

func (c *crowd) ok(token, method, path string, in any) bool {
	status, _ := c.Do(token, method, path, in)
	return status < 400
}

// lists reports whether a list holds something with that text.
func (c *crowd) lists(token, path, text string) bool {
	status, raw := c.Do(token, "GET", path, nil)
	var list []json.RawMessage
	return status == 200 && json.Unmarshal(raw, &list) == nil &&
		slices.ContainsFunc(list, func(r json.RawMessage) bool { return strings.Contains(string(r), text) })
}

// Whatever belongs to somebody is tried by every role: with the own, with somebody
// else's, and with the team's. What happens is what the table says.
func TestEveryObjectByRoleAndOwner(t *testing.T) {
	t.Parallel()
	c := gather(t)
	secret := func(owner string) string { return "gate:agent:" + agentOf(owner) }
	probes := map[access.Action]func(token, owner string) bool{
		access.SeeAgents: func(token, owner string) bool {
			one := c.ok(token, "GET", "/api/agents/"+agentOf(owner), nil)
			assert.Equal(t, one, c.lists(token, "/api/agents", `"name":"`+agentOf(owner)+`"`))
			assert.Equal(t, one, c.ok(token, "GET", "/api/agents/"+agentOf(owner)+"/reach", nil))
			assert.Equal(t, one, c.ok(token, "GET", "/api/agents/"+agentOf(owner)+"/passes", nil))
			return one
		},
		access.KeepAgents: func(token, owner string) bool {
			return c.ok(token, "PATCH", "/api/agents/"+agentOf(owner), testkit.Obj{"kind": "quill"})
		},
		access.ConfirmAgents: func(token, owner string) bool {
			return c.ok(token, "PATCH", "/api/agents/"+agentOf(owner), testkit.Obj{"confirmed": true})
		},
		access.SpeakForAgents: func(token, owner string) bool {
			return c.ok(token, "POST", "/api/agents/"+agentOf(owner)+"/passes", testkit.Obj{"days": 1})
		},
		access.SupplyAgents: func(token, owner string) bool { return c.supply(token, owner) < 400 },
		access.SeeSecrets:   func(token, owner string) bool { return c.lists(token, "/api/secrets", `"`+secret(owner)+`"`) },
		access.RotateSecrets: func(token, owner string) bool {
			return c.ok(token, "PUT", "/api/secrets/"+secret(owner)+"/value", testkit.Obj{"value": "skf-next-value", "anyway": true})
		},
		access.RemoveSecrets: func(token, owner string) bool {
			defer c.again(owner)
			return c.ok(token, "DELETE", "/api/secrets/"+secret(owner), nil)
		},
		access.SeeCalls: func(token, owner string) bool {
			one := c.ok(token, "GET", "/api/calls/"+c.calls[owner], nil)
			assert.Equal(t, one, c.lists(token, "/api/calls", c.calls[owner]))
			return one
		},
	}
	if len(probes) < 9 {
		t.Fatal("a probe is missing")
	}
	for action, probe := range probes {
		for name, token := range c.tokens {
			for _, owner := range []string{"marit", "joss", "ottilie", "teo", ""} {
				want := access.May(c.people[name], action, owner)
				if action == access.ConfirmAgents { // one must see it, too
					want = want && access.May(c.people[name], access.SeeAgents, owner)
				}
				assert.Equal(t, want, probe(token, owner), "%s by %s (%s) to what is %q's", action, name, c.people[name].Role, owner)
			}
		}
	}
	for name, token := range c.tokens {
		for whose := range c.tokens {
			by := c.people[name]
			assert.Equal(t, access.May(by, access.SeeLogins, whose), c.lists(token, "/api/logins", `"person":"`+whose+`"`), "%s sees logins of %s", name, whose)
			fresh := c.SignIn(whose, testkit.Password)
			var logins []team.Login
			c.MustAs(fresh, "GET", "/api/logins", nil, &logins)
			at := slices.IndexFunc(logins, func(l team.Login) bool { return l.Present })
			ended := c.ok(token, "DELETE", "/api/logins/"+logins[at].ID, nil)
			assert.Equal(t, access.May(by, access.EndLogins, whose), ended, "%s ends a login of %s", name, whose)
		}
		_, raw := c.Do(token, "GET", "/api/servers/gate", nil)
		_, list := c.Do(token, "GET", "/api/servers", nil)
		sees := access.May(c.people[name], access.SeeSetup, "")
		assert.Equal(t, sees, strings.Contains(string(raw), "header-canary"), "%s reads headers", name)
		assert.Equal(t, sees, strings.Contains(string(list), "header-canary"), name)
		var may map[access.Action]access.Scope
		c.MustAs(token, "GET", "/api/session/may", nil, &may)
		assert.Equal(t, fmt.Sprint(access.Of(c.people[name].Role)), fmt.Sprint(may), "the console is told the same")
	}
}

// What is open is held against the register at every change.
func TestAnOpenStreamFollowsTheRole(t *testing.T) {
	t.Parallel()
	w := testkit.Start(t, nil)
	w.Register("echo", testkit.Upstream(t, testkit.Echo("", nil)), "")
	w.Rule("admit", "*", "*", "*")
	joss := w.Person("joss", "Joss Penhale", team.Admin)
	quill := w.Raw("/mcp", w.Agent("marit-quill"), "2025-11-25")
	w.MustAs(joss, "POST", "/api/agents", testkit.Obj{"name": "joss-quill", "owner": "joss"}, nil)
	his := w.Raw("/mcp", w.PassAs(joss, "joss-quill"), "2025-11-25")
	stream := &testkit.Raw{T: t, URL: w.Base + "/api/events", Pass: joss}
	events := stream.Listen(t.Context())
	quill.CallTool("echo__echo", "as an admin he sees this")
	require.Eventually(t, func() bool { return strings.Contains(testkit.Next(t, events), "marit-quill") }, 30*time.Second, 10*time.Millisecond)
	w.Must("PATCH", "/api/people/joss", testkit.Obj{"role": "member"}, nil)
	require.Eventually(t, func() bool { return strings.Contains(testkit.Next(t, events), "people") }, 30*time.Second, 10*time.Millisecond)
	quill.CallTool("echo__echo", "not his any more")
	his.CallTool("echo__echo", "his own")
	for {
		ev := testkit.Next(t, events)
		require.NotContains(t, ev, "marit-quill")
		if strings.Contains(ev, "joss-quill") {
			break
		}
	}
	w.Must("POST", "/api/people/joss/password", nil, nil)
	require.Eventually(t, func() bool {
		select {
		case _, open := <-events:
			return !open
		default:
			return false
		}
	}, 30*time.Second, 10*time.Millisecond, "a login that was ended listens no more")
}

// The console offers what the table allows, and asks for nothing that is in no row of it.
func TestTheConsoleAsksTheTable(t *testing.T) {
	t.Parallel()
	known := map[string]bool{}
	for _, row := range access.Table {
		known[string(row.Action)] = true
	}
	asked := 0
	pages, err := filepath.Glob(filepath.Join("..", "..", "console", "src", "*", "*.vue"))
	require.NoError(t, err)
	for _, page := range pages {
		raw, err := os.ReadFile(page)
		require.NoError(t, err)
		assert.NotRegexp(t, `role\s*[!=]==`, string(raw), "%s decides by a role", page)
		for _, m := range regexp.MustCompile(`\bmay\('([^']+)'`).FindAllStringSubmatch(string(raw), -1) {
			assert.True(t, known[m[1]], "%s asks for %s", page, m[1])
			asked++
		}
	}
	assert.Greater(t, asked, 15)
}
