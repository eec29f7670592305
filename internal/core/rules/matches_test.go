package rules

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

func tools(names ...string) (out []Object) {
	for _, name := range names {
		out = append(out, *tool(name))
	}
	return out
}

func TestWhatARuleMatches(t *testing.T) {
	t.Parallel()
	world := World{
		Agents: []Subject{
			{ID: "1", Name: "marit-quill", Confirmed: true, Owner: "marit", OwnerID: "p1", Role: "admin", Groups: []string{"desk"}},
			{ID: "2", Name: "joss-quill", Confirmed: true, Labels: []string{"laptop"}}, {ID: "3", Name: "ops-new"},
		},
		Servers: []Offer{
			{
				Host: Host{Name: "flows", Labels: []string{"quayside"}}, Tools: tools("delete_workflow", "delete_run", "list_runs"),
				Others: []Object{{Name: "prompt:draft"}, {Name: "resource:file:///a"}},
			},
			{Host: Host{Name: "tides"}, Tools: tools("tide_table")},
			{Host: Host{Name: "fog"}, Unknown: true},
		},
		Bundles: Bundles{"tidy": {{Server: "flows", Tool: "delete_*"}}},
	}
	for _, row := range []struct {
		rule                     Rule
		text, nothing, suggested string
	}{
		{Rule{Agent: "*", Server: "flows", Tool: "delete_*"}, "2 of 3 tools of flows, for every agent", "", ""},
		{Rule{Agent: "*-quill", Server: "*", Tool: "*"}, "all 4 tools and 2 prompts and resources of all 3 servers (what 1 server offers is not known yet), for 2 agents", "", ""},
		{Rule{Agent: "ops-*", Server: "tides", Tool: "*"}, "the one tool of tides, for 0 agents and 1 more once confirmed", "", ""},
		{Rule{Agent: "joss-quill", AgentID: "2", Server: "flows", Tool: "prompt:*"}, "1 prompt or resource of flows, for 1 agent", "", ""},
		{Rule{Agent: "joss-qiull", Server: "flows", Tool: "*"}, "nothing: no agent is called joss-qiull", "agent", "joss-quill"},
		{Rule{Agent: "*", Server: "flow", Tool: "*"}, "nothing: no server is called flow", "server", "flows"},
		{Rule{Agent: "*", Server: "flows", Tool: "delete_wrokflow"}, "nothing: flows has no tool, prompt or resource called delete_wrokflow", "tool", "delete_workflow"},
		{Rule{Agent: "*", Server: "flows", Tool: "Delete*"}, "nothing: flows has no tool, prompt or resource like Delete*", "tool", "delete*"},
		{Rule{Agent: "*", Server: "?*s", Tool: "announce"}, "nothing: 2 servers have no tool, prompt or resource called announce", "tool", ""},
		{Rule{Agent: "*", Server: "fog", Tool: "lift"}, "fog, whose tools are not known yet, for every agent", "", ""},
		{Rule{Agent: "*", Server: "?i*,f*", Tool: "*"}, "nothing: no server has a name like ?i*,f*", "server", ""},
	} {
		row.rule.Effect = Admit
		m := row.rule.Matches(world)
		assert.Equal(t, []string{row.text, row.nothing, row.suggested}, []string{m.Text, m.Nothing, m.Suggested})
	}
	for _, row := range []struct {
		terms                    Terms
		text, nothing, suggested string
	}{
		{Terms{Label: "laptop", ServerLabel: "quayside"}, "all 3 tools and 2 prompts and resources of flows, for 1 agent", "", ""},
		{Terms{Person: "marit", PersonID: "p1", Role: "admin", Group: "desk", Hint: "destructive", ServerLabel: "quayside"}, "all 3 tools of flows, for 1 agent", "", ""},
		{Terms{Label: "labtop"}, "nothing: no agent is labelled labtop", "label", "laptop"},
		{Terms{Person: "mairt"}, "nothing: no agent is one of mairt's", "person", "marit"},
		{Terms{Group: "dsek"}, "nothing: no agent's person is in group dsek", "group", "desk"},
		{Terms{Role: "auditor"}, "nothing: no agent's person is auditor", "role", ""},
		{Terms{ServerLabel: "quaysid"}, "nothing: no server is labelled quaysid", "serverLabel", "quayside"},
		{Terms{ServerLabel: "quayside", Hint: "read-only"}, "nothing: flows has no tool that is read-only", "hint", ""},
		{Terms{ServerLabel: "quayside", Tag: "money"}, "nothing: flows has no tool tagged money", "tag", ""},
		{Terms{Bundle: "tidy"}, "2 of 4 tools of all 3 servers (what 1 server offers is not known yet), for every agent", "", ""},
	} {
		m := Rule{Effect: Admit, Agent: "*", Server: "*", Tool: "*", Terms: row.terms}.Matches(world)
		assert.Equal(t, []string{row.text, row.nothing, row.suggested}, []string{m.Text, m.Nothing, m.Suggested})
	}
	empty := Rule{Effect: Admit, Agent: "*", Server: "*", Tool: "*"}.Matches(World{})
	assert.Empty(t, empty.Nothing, "everything of nothing is meant for what comes")

	for _, row := range [][3]string{
		{"*", "flows__delete_run", "flows delete_run"},
		{"flows", "flows__delete_*", "flows delete_*"},
		{"tides", "flows__delete_run", "tides flows__delete_run"}, // another server is named
		{"*", "flows__nothing", "* flows__nothing"},
		{"*", "fog__lift", "fog lift"},
		{"*", "flows__", "* flows__"},
	} {
		plain := Rule{Agent: "*", Server: row[0], Tool: row[1]}.Plain(world)
		assert.Equal(t, row[2], plain.Server+" "+plain.Tool)
	}
}

func TestNamesOfRules(t *testing.T) {
	t.Parallel()
	taken := map[string]bool{}
	for _, row := range []struct {
		rule Rule
		want string
	}{
		{Rule{Effect: Refuse, Agent: "*", Server: "fuel", Tool: "order_*"}, "refuse-order-on-fuel"},
		{Rule{Effect: Admit, Agent: "*-quill", Server: "*", Tool: "*"}, "admit-all-for-quill"},
		{Rule{Effect: Admit, Agent: "*-quill", Server: "*", Tool: "*"}, "admit-all-for-quill-2"},
		{Rule{Effect: Admit, Agent: "*", Server: "*", Tool: "*"}, "admit-all"},
		{Rule{Effect: Admit, Agent: "*", Server: "docs", Tool: "resource:file:///a/*"}, "admit-resource-file-a-on-docs"},
	} {
		name := row.rule.Propose(func(name string) bool { return taken[name] })
		assert.Equal(t, row.want, name)
		assert.NoError(t, CheckName(name))
		taken[name] = true
	}
	long := Rule{Effect: Admit, Agent: strings.Repeat("a", 30), Server: strings.Repeat("b", 30), Tool: "x"}
	assert.NoError(t, CheckName(long.Propose(func(string) bool { return false })))
	for _, bad := range []string{"", "-a", "a-", "A", "a b", strings.Repeat("a", MaxName+1), "ä"} {
		assert.ErrorContains(t, CheckName(bad), "name is", bad)
	}
}

// Names and notes may be as long as is said, and no longer; a proposal never is.
func TestLengthsOfNames(t *testing.T) {
	t.Parallel()
	assert.NoError(t, CheckName(strings.Repeat("a", MaxName)))
	assert.Error(t, CheckName(strings.Repeat("a", MaxName+1)))
	r := Rule{Name: "x", Effect: Admit, Agent: "*", Server: "*", Tool: "*", Note: strings.Repeat("n", 500)}
	assert.NoError(t, r.Check())
	r.Note += "n"
	assert.Error(t, r.Check())
	r.Note, r.Tool = "", strings.Repeat("t", MaxGlob)
	assert.NoError(t, r.Check())
	r.Tool += "t"
	assert.Error(t, r.Check())

	never := func(string) bool { return false }
	most := MaxName - 4
	for tool, want := range map[string]string{
		strings.Repeat("t", most-len("admit-")):                     "admit-" + strings.Repeat("t", most-len("admit-")),
		strings.Repeat("t", most-len("admit-")+1):                   "admit",
		strings.Repeat("t", most-len("admit--u")) + "_u":            "admit-" + strings.Repeat("t", most-len("admit--u")) + "-u",
		strings.Repeat("t", most-len("admit-")) + "_u":              "admit-" + strings.Repeat("t", most-len("admit-")),
		strings.Repeat("t", most-len("admit--on-sailings")):         "admit-" + strings.Repeat("t", most-len("admit--on-sailings")) + "-on-sailings",
		strings.Repeat("t", most-len("admit--on-sailings")+1) + "*": "admit-" + strings.Repeat("t", most-len("admit--on-sailings")+1),
	} {
		got := Rule{Effect: Admit, Agent: "*", Server: "sailings", Tool: tool}.Propose(never)
		assert.Equal(t, want, got, tool)
		assert.LessOrEqual(t, len(got), MaxName)
	}
	taken := map[string]bool{"admit-all": true, "admit-all-2": true, "admit-all-3": true}
	assert.Equal(t, "admit-all-4", Rule{Effect: Admit, Agent: "*", Server: "*", Tool: "*"}.Propose(func(n string) bool { return taken[n] }))
}

// Of several rules that say the same, the first is the reason.
func TestTheFirstRuleIsTheReason(t *testing.T) {
	t.Parallel()
	list := []Rule{
		{ID: "first", Name: "first", Effect: Admit, Agent: "*", Server: "*", Tool: "*"}, {ID: "second", Name: "second", Effect: Admit, Agent: "*", Server: "*", Tool: "find"},
	}
	set := Compile(list, noon, nil).For(Subject{Name: "a", Confirmed: true}).On(Host{Name: "b"})
	assert.Equal(t, 2, set.Len())
	assert.Equal(t, "first first", set.Decide(tool("find")).RuleID()+" "+set.Decide(tool("find")).RuleName())
	assert.Equal(t, " ", Decision{}.RuleID()+" "+Decision{}.RuleName())
}
