package policy_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/apitype"
	"bouncer/internal/core/team"
	"bouncer/internal/testkit"
	"bouncer/standin/ferries"
)

type obj = testkit.Obj

func sailings(t *testing.T) *testkit.World {
	w := testkit.Start(t, nil)
	w.Register("sailings", testkit.Upstream(t, ferries.Sailings(ferries.SailingsToken)), ferries.SailingsToken)
	w.Agent("marit-quill")
	return w
}

// A rule that matches nothing is not in force by mistake: it says which field is to
// blame, and what was probably meant.
func TestARuleSaysWhatItMatches(t *testing.T) {
	t.Parallel()
	w := sailings(t)
	rule := func(agent, server, tool string) obj {
		return obj{"effect": "refuse", "agent": agent, "server": server, "tool": tool}
	}
	for name, row := range map[string]struct {
		in          obj
		field, hint string
	}{
		"a mistyped agent":   {rule("marit-qiull", "*", "*"), "agent", "perhaps marit-quill was meant"},
		"a mistyped server":  {rule("*", "sailing", "*"), "server", "perhaps sailings was meant"},
		"a mistyped tool":    {rule("*", "sailings", "cancel_saling"), "tool", "perhaps cancel_sailing was meant"},
		"a capital":          {rule("*", "*", "Cancel*"), "tool", "perhaps cancel* was meant"},
		"two names in one":   {rule("*", "sailings", "cancel_sailing,find_sailings"), "tool", "add one for each name"},
		"another's prefix":   {rule("*", "sailings", "tides__cancel_sailing"), "tool", "--anyway"},
		"a tool not thereof": {rule("*", "sailings", "announce"), "tool", "look at its spelling"},
	} {
		p := w.Problem("POST", "/api/rules", row.in)
		assert.Equal(t, 409, p.Status, name)
		assert.Equal(t, row.field, p.Field, name)
		assert.Contains(t, p.Hint, row.hint, name)
	}
	var list []apitype.RuleInfo
	w.Must("GET", "/api/rules", nil, &list)
	assert.Empty(t, list)

	var r apitype.RuleInfo
	w.Must("POST", "/api/rules", rule("*", "*", "sailings__cancel_sailing"), &r)
	assert.Equal(t, []string{"sailings", "cancel_sailing", "refuse-cancel-sailing-on-sailings"}, []string{r.Server, r.Tool, r.Name})
	assert.Equal(t, "1 of 3 tools of sailings, for every agent", r.Matches.Text, "the name that agents see is understood")
	later := rule("*", "harbour", "*")
	later["anyway"] = true
	w.Must("POST", "/api/rules", later, &r)
	assert.Equal(t, "server", r.Matches.Nothing)
	w.Register("harbour", testkit.Upstream(t, ferries.Tides()), "")
	w.Must("GET", "/api/rules", nil, &list)
	require.Len(t, list, 2)
	assert.Equal(t, "the one tool of harbour, for every agent", list[1].Matches.Text, "what was meant for later has come")
}

// Rules have names, which are told wherever a rule decides, and are altered in place.
func TestRulesAreNamedAndAltered(t *testing.T) {
	t.Parallel()
	w := sailings(t)
	pass := w.Pass("marit-quill")
	w.Must("POST", "/api/rules", obj{"name": "desk", "effect": "admit", "agent": "marit-quill", "server": "*", "tool": "*"}, nil)
	var no apitype.RuleInfo
	w.Must("POST", "/api/rules", obj{"effect": "refuse", "agent": "*", "server": "sailings", "tool": "find_*"}, &no)
	agent := w.Raw("/mcp/sailings", pass, "2025-11-25")
	r := agent.CallTool("find_sailings", "x")
	assert.Contains(t, r.Error.Message, "refused by rule refuse-find-on-sailings (refuse find_* on sailings for *)")
	assert.Equal(t, "refuse-find-on-sailings", w.Calls(1, "rule=refuse-find-on-sailings")[0].RuleName)
	assert.Equal(t, no.ID, w.Calls(1, "rule="+no.ID)[0].Rule)

	w.Must("PATCH", "/api/rules/"+no.Name, obj{"tool": "cancel_*", "note": "by hand only", "version": 1, "name": "no-cancelling"}, &no)
	assert.Equal(t, "1 of 3 tools of sailings, for every agent", no.Matches.Text)
	assert.Nil(t, agent.CallTool("find_sailings", "x").Error, "at once, in the open session")
	assert.Contains(t, agent.CallTool("cancel_sailing", "x").Error.Message, "rule no-cancelling")
	var reach []apitype.ReachedTool
	w.Must("GET", "/api/agents/marit-quill/reach", nil, &reach)
	assert.Equal(t, []string{"no-cancelling", "desk", "desk"}, []string{reach[0].RuleName, reach[1].RuleName, reach[2].RuleName})

	assert.Equal(t, 409, w.Problem("PATCH", "/api/rules/no-cancelling", obj{"tool": "*", "version": 1}).Status, "somebody was quicker")
	for name, row := range map[string]struct {
		in     obj
		status int
		field  string
	}{
		"a taken name":    {obj{"name": "desk"}, 409, "name"},
		"a name not so":   {obj{"name": "No Cancelling"}, 422, "name"},
		"no name":         {obj{"name": ""}, 422, "name"},
		"a wrong effect":  {obj{"effect": "permit"}, 422, "effect"},
		"nothing matches": {obj{"server": "tides"}, 409, "server"},
		"the same twice":  {obj{"effect": "admit", "agent": "marit-quill", "server": "*", "tool": "*"}, 409, "effect"},
	} {
		p := w.Problem("PATCH", "/api/rules/no-cancelling", row.in)
		assert.Equal(t, row.status, p.Status, name)
		assert.Equal(t, row.field, p.Field, name)
	}
	w.Must("DELETE", "/api/rules/no-cancelling", nil, nil)
	assert.Equal(t, 404, w.Problem("DELETE", "/api/rules/no-cancelling", nil).Status)
}

// Names that come back inherit nothing, and a removal says beforehand what goes with it.
func TestNamesThatComeBackInheritNothing(t *testing.T) {
	t.Parallel()
	w := sailings(t)
	w.Register("tides", testkit.Upstream(t, ferries.Tides()), "")
	w.Rule("admit", "marit-quill", "sailings", "find_*")
	w.Rule("admit", "marit-quill", "tides", "*")
	w.Rule("refuse", "marit-quill", "sailings", "cancel_*")
	w.Rule("admit", "*", "*", "sailing_status")
	becomes := func(path string) map[string][]string {
		var list []team.Dependent
		w.Must("GET", path+"/dependents", nil, &list)
		out := map[string][]string{}
		for _, d := range list {
			out[d.Kind] = d.Names
			assert.NotEmpty(t, d.Becomes)
		}
		return out
	}
	assert.Equal(t, map[string][]string{
		"passes":                {"test"},
		"rules for it alone":    {"admit-all-on-tides-for-marit-quill", "admit-find-on-sailings-for-marit-quill"},
		"refusals for it alone": {"refuse-cancel-on-sailings-for-marit-quill"},
	}, becomes("/api/agents/marit-quill"))
	w.Must("DELETE", "/api/agents/marit-quill", nil, nil)
	w.Must("POST", "/api/agents", obj{"name": "marit-quill"}, nil)
	var reach []apitype.ReachedTool
	w.Must("GET", "/api/agents/marit-quill/reach", nil, &reach)
	admitted := []string{}
	for _, r := range reach {
		if r.Admitted {
			admitted = append(admitted, r.Tool)
		}
	}
	assert.Equal(t, []string{"sailing_status"}, admitted, "only what is for everybody")

	w.Rule("admit", "*", "tides", "*")
	assert.Equal(t, []string{"admit-all-on-tides"}, becomes("/api/servers/tides")["rules for it alone"])
	w.Must("DELETE", "/api/servers/tides", nil, nil)
	w.Register("tides", testkit.Upstream(t, ferries.Tides()), "")
	w.Must("GET", "/api/agents/marit-quill/reach", nil, &reach)
	assert.Equal(t, "tide_table", reach[3].Tool)
	assert.False(t, reach[3].Admitted)
	assert.Equal(t, []string{"sailings-token"}, becomes("/api/servers/sailings")["secrets that it is given"])

	joss := w.Person("joss", "Joss Penhale", team.Maintainer)
	w.MustAs(joss, "POST", "/api/agents", obj{"name": "joss-quill", "owner": "joss"}, nil)
	assert.Equal(t, []string{"joss-quill"}, becomes("/api/people/joss")["agents"])
	assert.Equal(t, 409, w.Problem("DELETE", "/api/people/joss", nil).Status)
	w.Must("PATCH", "/api/agents/joss-quill", obj{"owner": "marit"}, nil)
	assert.NotContains(t, becomes("/api/people/joss"), "agents")
	w.Must("DELETE", "/api/people/joss", nil, nil)
}

// What an agent's reach tells is what its next call meets, for every way in which it
// can fail.
func TestReachTellsWhatTheNextCallMeets(t *testing.T) {
	t.Parallel()
	w := testkit.Start(t, nil)
	tannoy := ferries.Tannoy("")
	w.Register("sailings", testkit.Upstream(t, ferries.Sailings(ferries.SailingsToken)), ferries.SailingsToken)
	w.Register("tannoy", testkit.Upstream(t, tannoy), "")
	w.Must("POST", "/api/servers", obj{
		"name": "customs", "url": testkit.Upstream(t, ferries.Sailings(ferries.SailingsToken)), "per": "person", "anyway": true,
	}, nil)
	w.Must("PUT", "/api/servers/customs/own", obj{"value": ferries.SailingsToken}, nil)
	w.Register("tides", testkit.Upstream(t, ferries.Tides()), "")
	for _, server := range []string{"sailings", "tannoy", "customs"} {
		w.Rule("admit", "*", server, "*")
	}
	w.Person("ottilie", "Ottilie Brandt", team.Member)
	w.Must("POST", "/api/agents", obj{"name": "marit-quill", "owner": "marit"}, nil)
	w.Must("POST", "/api/agents", obj{"name": "night-watch"}, nil)
	next := func(agent string) map[string]string {
		var list []apitype.ReachedTool
		w.Must("GET", "/api/agents/"+agent+"/reach", nil, &list)
		out := map[string]string{}
		for _, r := range list {
			out[r.Server] = r.Next
		}
		return out
	}
	w.Must("PATCH", "/api/servers/tannoy", obj{"paused": true}, nil)
	assert.Equal(t, map[string]string{"sailings": "answer", "tannoy": "paused", "customs": "answer", "tides": "refused"}, next("marit-quill"))
	assert.Equal(t, "no-credential", next("night-watch")["customs"], "what one holder's credential lists is another's to supply")

	agent := w.Raw("/mcp", w.Pass("night-watch"), "2025-11-25")
	agent.CallTool("customs__find_sailings", "x")
	agent.CallTool("tannoy__announce", "x")
	agent.CallTool("tides__tide_table", "x")
	calls := w.Calls(3, "agent=night-watch")
	outcomes := map[string]string{}
	for _, c := range calls {
		outcomes[c.Server] = c.Outcome + " " + c.RuleName
	}
	assert.Equal(t, map[string]string{
		"customs": "no-credential admit-all-on-customs", "tannoy": "refused ", "tides": "refused ",
	}, outcomes, "a paused server is no rule's refusal, and a missing credential no unreachable server")
	w.Must("PATCH", "/api/agents/marit-quill", obj{"paused": true}, nil)
	for server, n := range next("marit-quill") {
		assert.Equal(t, "paused", n, server)
	}
}

// Agents may call a tool by the server's own name where only one server has it.
func TestPlainNamesAreUnderstood(t *testing.T) {
	t.Parallel()
	w := sailings(t)
	w.Register("harbour", testkit.Upstream(t, ferries.Tides()), "")
	w.Rule("admit", "*", "*", "*")
	agent := w.Raw("/mcp", w.Pass("marit-quill"), "2025-11-25")
	assert.Nil(t, agent.CallTool("tide_table", "x").Error)
	assert.Equal(t, "harbour", w.Calls(1, "tool=tide_table")[0].Server)
	w.Register("tides", testkit.Upstream(t, ferries.Tides()), "")
	assert.Contains(t, agent.CallTool("tide_table", "x").Error.Message, `no tool "tide_table"`, "of two, one has to be named")
	w.Rule("refuse", "*", "tides", "*")
	assert.Nil(t, agent.CallTool("tide_table", "x").Error, "what is out of reach is not in the way")
	w.Rule("refuse", "*", "sailings", "cancel_*")
	assert.Contains(t, agent.CallTool("cancel_sailing", "x").Error.Message, "refused by rule refuse-cancel-on-sailings")
}
