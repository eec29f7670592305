package rules

import (
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var noon = time.Date(2026, 3, 4, 12, 0, 0, 0, time.UTC) // a Wednesday

func tool(name string) *Object { return &Object{Name: name, Tool: true} }

func TestDecide(t *testing.T) {
	list := []Rule{
		{ID: "all", Name: "all", Effect: Admit, Agent: "*-quill", Server: "*", Tool: "*"},
		{ID: "no-cancel", Name: "no-cancel", Effect: Refuse, Agent: "*", Server: "sailings", Tool: "cancel_*", Note: "not from a laptop"},
		{ID: "voice", Name: "voice", Effect: Admit, Agent: "quay-voice", Server: "sailings", Tool: "find_sailings"},
		{ID: "late", Name: "late", Effect: Admit, Agent: "night-watch", Server: "sailings", Tool: "cancel_sailing"},
	}
	for name, row := range map[string]struct {
		agent, server, tool string
		admitted            bool
		rule, why           string
	}{
		"a glob admits":                      {"marit-quill", "berths", "assign_berth", true, "all", "admitted by rule all"},
		"a refusal wins over an admission":   {"marit-quill", "sailings", "cancel_sailing", false, "no-cancel", "refused by rule no-cancel (refuse cancel_* on sailings for *): not from a laptop"},
		"a refusal wins over a narrower one": {"night-watch", "sailings", "cancel_sailing", false, "no-cancel", "refused by rule no-cancel"},
		"an exact name admits":               {"quay-voice", "sailings", "find_sailings", true, "voice", "admitted by rule voice"},
		"what no rule names is refused":      {"quay-voice", "sailings", "sailing_status", false, "", "no rule admits it"},
		"another server is refused":          {"quay-voice", "berths", "find_sailings", false, "", "no rule admits it"},
		"an unknown agent reaches nothing":   {"stranger", "sailings", "find_sailings", false, "", "no rule admits it"},
		"a name is not a part of a name":     {"marit-quill-2", "sailings", "find_sailings", false, "", "no rule admits it"},
	} {
		t.Run(name, func(t *testing.T) {
			d := Compile(list, noon, nil).For(Subject{ID: "id of " + row.agent, Name: row.agent, Confirmed: true}).On(Host{Name: row.server}).Decide(tool(row.tool))
			assert.Equal(t, row.admitted, d.Admitted())
			assert.Equal(t, row.rule, d.RuleID())
			assert.Contains(t, d.Reason(), row.why)
		})
	}
	assert.False(t, Compile(nil, noon, nil).For(Subject{Name: "a"}).On(Host{Name: "b"}).Decide(tool("c")).Admitted(), "without rules nothing is admitted")
}

// A name that somebody chose opens nothing by itself.
func TestNamesAloneAdmitNothing(t *testing.T) {
	list := []Rule{
		{ID: "ops", Name: "ops", Effect: Admit, Agent: "ops-*", Server: "*", Tool: "*"},
		{ID: "one", Name: "one", Effect: Admit, Agent: "night-watch", AgentID: "01A", Server: "*", Tool: "*"},
		{ID: "late", Name: "late", Effect: Admit, Agent: "quay-voice", Server: "*", Tool: "*"},
		{ID: "all", Name: "all", Effect: Admit, Agent: "*", Server: "tides", Tool: "*"},
		{ID: "no", Name: "no", Effect: Refuse, Agent: "ops-*", Server: "fuel", Tool: "order_*"},
		{ID: "not-this", Name: "not-this", Effect: Refuse, Agent: "teo-quill", AgentID: "01T", Server: "tides", Tool: "*"},
	}
	for name, row := range map[string]struct {
		who          Subject
		server, tool string
		admitted     bool
		rule, why    string
	}{
		"a pattern, confirmed":            {Subject{ID: "01M", Name: "ops-marit", Confirmed: true}, "sailings", "find", true, "ops", "admitted by rule ops"},
		"a pattern, not confirmed":        {Subject{ID: "01X", Name: "ops-mallory", Confirmed: false}, "sailings", "find", false, "", "bouncer agent confirm"},
		"a refusal needs no confirming":   {Subject{ID: "01X", Name: "ops-mallory", Confirmed: false}, "fuel", "order_fuel", false, "no", "refused by rule no"},
		"everybody is everybody":          {Subject{ID: "01X", Name: "ops-mallory", Confirmed: false}, "tides", "tide_table", true, "all", "admitted by rule all"},
		"one agent, though unconfirmed":   {Subject{ID: "01A", Name: "night-watch", Confirmed: false}, "sailings", "find", true, "one", "admitted by rule one"},
		"another agent of its name":       {Subject{ID: "01B", Name: "night-watch", Confirmed: true}, "sailings", "find", false, "", "made for another agent of this name"},
		"a name before there was one":     {Subject{ID: "01C", Name: "quay-voice", Confirmed: false}, "sailings", "find", false, "", "bouncer agent confirm"},
		"what is refused stays with it":   {Subject{ID: "01T", Name: "teo-quill", Confirmed: true}, "tides", "tide_table", false, "not-this", "refused"},
		"and with whoever takes its name": {Subject{ID: "01U", Name: "teo-quill", Confirmed: true}, "tides", "tide_table", false, "not-this", "refused"},
	} {
		t.Run(name, func(t *testing.T) {
			d := Compile(list, noon, nil).For(row.who).On(Host{Name: row.server}).Decide(tool(row.tool))
			assert.Equal(t, row.admitted, d.Admitted())
			assert.Equal(t, row.rule, d.RuleID())
			assert.Contains(t, d.Reason(), row.why)
		})
	}
}

// Whoever changes the list of rules afterwards must not change the set in force.
func TestSetIsACopy(t *testing.T) {
	list := []Rule{{ID: "r", Name: "r", Effect: Refuse, Agent: "*", Server: "*", Tool: "*"}}
	set := Compile(list, noon, nil)
	list[0].Effect = Admit
	assert.False(t, set.For(Subject{Name: "a"}).On(Host{Name: "b"}).Decide(tool("c")).Admitted())
}

func TestMatchAgreesWithARegularExpression(t *testing.T) {
	parts := []string{"", "a", "b", "ab", "*", "?", "**", "*a", "a*b", "?b", "a?*", "[", "."}
	names := []string{"", "a", "b", "ab", "ba", "aab", "abb", "abab", "a.b", "[a", "aXb", "ß", "aßb", "ßß"}
	n := 0
	for _, x := range parts {
		for _, y := range parts {
			glob := x + y
			re := regexp.MustCompile("^" + strings.NewReplacer(`\*`, ".*", `\?`, ".").Replace(regexp.QuoteMeta(glob)) + "$")
			for _, name := range names {
				require.Equal(t, re.MatchString(name), Match(glob, name), "glob %q, name %q", glob, name)
				n++
			}
		}
	}
	require.Greater(t, n, 1000)
	// A hostile glob must not take exponential time.
	assert.False(t, Match(strings.Repeat("a*", 90)+"b", strings.Repeat("a", 5000)))
}

func TestCheckNamesTheField(t *testing.T) {
	good := Rule{Name: "looking", Effect: Admit, Agent: "*", Server: "sailings", Tool: "find_*"}
	require.NoError(t, good.Check())
	for field, alter := range map[string]func(*Rule){
		"effect": func(r *Rule) { r.Effect = "allow" }, "agent": func(r *Rule) { r.Agent = "" }, "server": func(r *Rule) { r.Server = "a b" },
		"tool": func(r *Rule) { r.Tool = strings.Repeat("x", MaxGlob+1) }, "name": func(r *Rule) { r.Name = "Looking Up" }, "note": func(r *Rule) { r.Note = strings.Repeat("x", 501) },
	} {
		r := good
		alter(&r)
		var fe *FieldError
		require.ErrorAs(t, r.Check(), &fe, field)
		assert.Equal(t, field, fe.Field)
	}
}
