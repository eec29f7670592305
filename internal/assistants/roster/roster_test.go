package roster_test

import (
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/apitype"
	"bouncer/internal/core/team"
	"bouncer/internal/testkit"
)

func export(w *testkit.World) (r apitype.Roster) {
	w.Must("GET", "/api/roster", nil, &r)
	return r
}

func plan(w *testkit.World, text string, prune bool) (p apitype.RosterPlan) {
	w.Must("POST", "/api/roster/plan", testkit.Obj{"text": text, "prune": prune}, &p)
	return p
}

// furnished is a service with one of everything.
func furnished(t *testing.T) (w *testkit.World, upstream string) {
	w = testkit.Start(t, nil)
	upstream = testkit.Upstream(t, testkit.Echo("skf-4hg2Lq9vPz7Wm1Tx", nil))
	w.Register("echo", upstream, "skf-4hg2Lq9vPz7Wm1Tx")
	w.Must("PATCH", "/api/servers/echo", testkit.Obj{"callSeconds": 90, "headers": []string{"X-Team: quay"}, "toolLimits": []testkit.Obj{{"tool": "slow", "resultKiB": 8}}}, nil)
	w.Must("POST", "/api/servers", testkit.Obj{"name": "berths", "command": testkit.Program(t, "moor"), "env": []string{"LOG=info"}}, nil)
	w.Person("ottilie", "Ottilie Brandt", team.Member)
	w.Must("POST", "/api/agents", testkit.Obj{"name": "ottilie-parlour", "kind": "parlour", "owner": "ottilie"}, nil)
	w.Must("POST", "/api/agents", testkit.Obj{"name": "quay-voice", "kind": "voice"}, nil)
	w.Rule("admit", "ottilie-*", "echo", "*")
	w.Rule("refuse", "quay-voice", "*", "slow")
	for _, l := range []testkit.Obj{
		{"kind": "agent", "name": "quay-voice", "add": []string{"voice"}}, {"kind": "server", "name": "echo", "add": []string{"quayside"}},
		{"kind": "person", "name": "ottilie", "add": []string{"crew"}}, {"kind": "tool", "name": "echo", "tool": "echo", "add": []string{"calm"}},
	} {
		w.Must("PATCH", "/api/labels", l, nil)
	}
	w.Must("POST", "/api/bundles", testkit.Obj{"name": "calm-tools", "entries": []testkit.Obj{{"server": "echo", "tool": "e*"}}}, nil)
	w.Must("POST", "/api/rules", testkit.Obj{
		"name": "narrow", "effect": "hold", "agent": "*", "server": "*", "tool": "*", "bundle": "calm-tools", "person": "ottilie",
		"narrow": testkit.Obj{"properties": testkit.Obj{"text": testkit.Obj{"maxLength": 20}}}, "deciders": []string{"group:crew"},
	}, nil)
	w.Must("PATCH", "/api/agents/quay-voice", testkit.Obj{"finder": true, "contextTokens": 4000}, nil)
	w.Must("POST", "/api/budgets", testkit.Obj{
		"name": "voice", "label": "voice", "agent": "*", "server": "*", "tool": "*", "per": "agent", "window": "minute", "calls": 30,
	}, nil)
	return w, upstream
}

// What is exported is what there is: nothing would change, and applied elsewhere it makes
// the same.
func TestRosterRoundTrip(t *testing.T) {
	t.Parallel()
	w, _ := furnished(t)
	out := export(w)
	assert.NotContains(t, out.Text, "skf-4hg2", "secrets are named, and not in it")
	p := plan(w, out.Text, true)
	assert.Empty(t, p.Steps)
	assert.Equal(t, out.Version, p.Version)

	other := testkit.Start(t, nil)
	problem := other.Problem("POST", "/api/roster/apply", testkit.Obj{"text": out.Text})
	assert.Contains(t, problem.Title, `servers.echo names the secret "echo-token", which is not stored`)
	assert.Contains(t, problem.Hint, "bouncer secret add echo-token")
	assert.Len(t, plan(other, out.Text, false).Steps, 10, "nothing was done")
	other.Must("POST", "/api/secrets", testkit.Obj{"name": "echo-token", "kind": "bearer", "value": "skf-4hg2Lq9vPz7Wm1Tx"}, nil)
	var applied apitype.RosterApplied
	other.Must("POST", "/api/roster/apply", testkit.Obj{"text": out.Text}, &applied)
	require.NotEmpty(t, applied.Passwords["ottilie"])
	assert.Equal(t, out.Text, export(other).Text)
	var rule apitype.RuleInfo
	other.Must("GET", "/api/rules/narrow", nil, &rule)
	assert.Equal(t, 1, rule.Matches.Agents, "the person of here is meant")
	other.Must("POST", "/api/session", testkit.Obj{"name": "ottilie", "password": applied.Passwords["ottilie"]}, nil)
	other.Must("POST", "/api/servers/echo/check", nil, nil)
	assert.NotNil(t, other.Raw("/mcp", other.Pass("quay-voice"), "2025-11-25").CallTool("echo__slow", "").Error, "its rules are in force")
}

// A roster is put in force as a whole or not at all, by whoever may, and not over what
// somebody altered meanwhile.
func TestRosterIsAllOrNothing(t *testing.T) {
	t.Parallel()
	w, _ := furnished(t)
	before := export(w)
	edited := strings.Replace(before.Text, "callSeconds: 90", "callSeconds: 30", 1)
	edited = strings.Replace(edited, "roster: 1\n", "roster: 1\n", 1)
	for right, wrong := range map[string][3]string{
		"effect: refuse": {"effect: perhaps", "rules.", "effect"}, "per: agent": {"per: boat", "budgets.voice", "per"},
		"contextTokens: 4000": {"contextTokens: -4", "agents.quay-voice", "contextTokens"},
	} {
		p := w.Problem("POST", "/api/roster/apply", testkit.Obj{"text": strings.Replace(edited, right, wrong[0], 1)})
		assert.Contains(t, p.Field, wrong[1], right)
		assert.Contains(t, p.Field, wrong[2], right)
	}
	var p testkit.Problem
	assert.Equal(t, before, export(w), "the server was not altered either")

	seen := plan(w, edited, false)
	require.Len(t, seen.Steps, 1)
	assert.Equal(t, []string{"callSeconds: 90 → 30"}, seen.Steps[0].Fields)
	w.Must("PATCH", "/api/agents/quay-voice", testkit.Obj{"paused": true}, nil)
	p = w.Problem("POST", "/api/roster/apply", testkit.Obj{"text": edited, "version": seen.Version})
	assert.Equal(t, http.StatusConflict, p.Status)
	w.Must("PATCH", "/api/agents/quay-voice", testkit.Obj{"paused": false}, nil)
	w.Must("POST", "/api/roster/apply", testkit.Obj{"text": edited, "version": seen.Version}, nil)
	var s apitype.ServerInfo
	w.Must("GET", "/api/servers/echo", nil, &s)
	assert.Equal(t, 30, s.CallSeconds)
	assert.Equal(t, "echo-token", s.Secret)

	maintainer := w.Person("isla", "Isla Faro", team.Maintainer)
	less := "roster: 1\nservers: {}\nagents: {}\nrules: {}\n"
	assert.Empty(t, plan(w, less, false).Steps)
	assert.Len(t, plan(w, less, false).Extra, 7)
	p = w.ProblemAs(maintainer, "POST", "/api/roster/apply", testkit.Obj{"text": "roster: 1\npeople: {ottilie: {fullName: O, role: admin}}\n"})
	assert.Equal(t, http.StatusForbidden, p.Status)
	p = w.Problem("POST", "/api/roster/apply", testkit.Obj{"text": "roster: 1\npeople: {ottilie: {fullName: O, role: member}}\n", "prune": true})
	assert.Contains(t, p.Title, "nobody would be an admin")
	w.MustAs(maintainer, "POST", "/api/roster/apply", testkit.Obj{"text": less, "prune": true}, nil)
	assert.Equal(t, "roster: 1\npeople:\n", export(w).Text[:18])
	p = w.Problem("POST", "/api/roster/plan", testkit.Obj{"text": "roster: 1\nservers:\n  x: {adress: y}\n"})
	assert.Contains(t, p.Title, "line 3")
}
