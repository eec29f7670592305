package rehearse_test

import (
	"encoding/json"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"bouncer/internal/apitype"
	"bouncer/internal/testkit"
)

type obj = testkit.Obj

// What a rehearsal says of recorded calls is what happens to the same calls once the change
// is made, for changes that take away, hold, narrow and give.
func TestARehearsalIsWhatHappens(t *testing.T) {
	t.Parallel()
	s := testkit.NewScript(t)
	s.Results["tools/list"] = `{"tools":[
		{"name":"order_fuel","annotations":{"destructiveHint":true},"inputSchema":{"type":"object","properties":{"litres":{"type":"integer"}}}},
		{"name":"levels","annotations":{"readOnlyHint":true},"inputSchema":{"type":"object"}}]}`
	s.Call = func(c *testkit.ScriptCall) { c.Text("done") }
	w := testkit.Start(t, nil)
	w.Register("fuel", testkit.Upstream(t, s), "")
	w.Must("POST", "/api/agents", obj{"name": "joss-quill"}, nil)
	w.Must("POST", "/api/rules", obj{"name": "all", "effect": "admit", "agent": "joss-quill", "server": "fuel", "tool": "order_*"}, nil)
	agent := w.Raw("/mcp", w.Pass("joss-quill"), "2025-11-25")
	n := 0
	call := func(tool, args string) testkit.Reply {
		n++
		return agent.Ask(fmt.Sprintf(`{"jsonrpc":"2.0","id":%d,"method":"tools/call","params":{"name":"fuel__%s","arguments":%s}}`, n, tool, args))
	}
	made := [][2]string{}
	for litres := range 10 {
		made = append(made, [2]string{"order_fuel", fmt.Sprintf(`{"litres":%d}`, litres*1000)})
	}
	made = append(made, [2]string{"levels", `{}`})
	for _, c := range made {
		call(c[0], c[1])
	}
	w.Calls(len(made), "agent=joss-quill")
	terms := func(in obj) json.RawMessage {
		raw, err := json.Marshal(in)
		require.NoError(t, err)
		return raw
	}
	for name, row := range map[string]struct {
		change                  obj
		refused, held, admitted int
		reach                   int
		takes                   bool
	}{
		"removed":  {obj{"remove": []string{"all"}}, 10, 0, 0, 1, true},
		"disabled": {obj{"update": []obj{{"rule": "all", "terms": obj{"disabled": true}}}}, 10, 0, 0, 1, true},
		"narrowed": {obj{"update": []obj{{"rule": "all", "terms": obj{"narrow": terms(obj{"properties": obj{"litres": obj{"maximum": 5000}}})}}}}, 4, 0, 0, 1, true},
		"held when large": {obj{"add": []obj{{
			"name": "large", "effect": "hold", "agent": "*", "server": "fuel", "tool": "order_fuel", "when": obj{"properties": obj{"litres": obj{"minimum": 8000}}},
		}}}, 0, 2, 0, 1, true},
		"given":   {obj{"update": []obj{{"rule": "all", "tool": "*"}}}, 0, 0, 1, 1, false},
		"nothing": {obj{"update": []obj{{"rule": "all", "note": "another note"}}}, 0, 0, 0, 0, false},
		"a roster": {obj{"prune": true, "roster": "roster: 1\nrules:\n  looks: {effect: admit, agent: joss-quill, server: fuel, tool: '*', hint: read-only}\n"},
			10, 0, 1, 2, true},
	} {
		var r apitype.Rehearsed
		w.Must("POST", "/api/rehearsals", row.change, &r)
		assert.Equal(t, []int{row.refused, row.held, row.admitted, row.reach}, []int{r.Refused, r.Held, r.Admitted, r.ReachChanged}, "%s: %s", name, r.Text)
		assert.Equal(t, row.takes, r.Takes, name)
		assert.Equal(t, len(made), r.Calls, name)
		for _, g := range r.Groups {
			assert.NotEmpty(t, g.Samples, name)
		}
	}
	var rules []apitype.RuleInfo
	w.Must("GET", "/api/rules", nil, &rules)
	assert.Len(t, rules, 1, "nothing was altered")

	// Made in earnest, the narrowing refuses just those calls.
	w.Must("PATCH", "/api/rules/all", obj{"terms": obj{"narrow": obj{"properties": obj{"litres": obj{"maximum": 5000}}}}}, nil)
	refused := 0
	for _, c := range made[:10] {
		if call(c[0], c[1]).Error != nil {
			refused++
		}
	}
	assert.Equal(t, 4, refused)
	for field, in := range map[string]obj{
		"days": {"days": 400}, "roster": {"roster": "rooster: 1"}, "window": {"add": []obj{{"effect": "admit", "agent": "*", "server": "*", "tool": "*", "window": "nights"}}},
	} {
		assert.Equal(t, field, w.Problem("POST", "/api/rehearsals", in).Field, field)
	}
	assert.Equal(t, 404, w.Problem("POST", "/api/rehearsals", obj{"remove": []string{"none"}}).Status)
}
